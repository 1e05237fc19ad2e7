//! x
pub mod value;
pub mod formula;
pub mod store;
pub mod plan;
pub mod run;
