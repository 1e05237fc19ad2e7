//! A first model from files, why a number is what it is, and where time and bytes go.

pub mod advice;
pub mod draft;
pub mod rival;
pub mod sizes;
pub mod suppose;
pub mod timed;
pub mod twins;
pub mod why;
