//! Where time and bytes go.

pub mod sizes;
pub mod timed;
