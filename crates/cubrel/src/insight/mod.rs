//! Why a number is what it is, and where time and bytes go.

pub mod sizes;
pub mod timed;
pub mod why;
