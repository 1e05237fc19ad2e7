//! How results are written: for a person on a terminal, for a script on a pipe.

mod closed;
pub mod formula_comparison;
pub mod grid;
pub mod grid_layout;
pub mod listing;
pub mod model_comparison;
pub mod network;
mod pager;
pub mod problems;
pub mod profile;
pub mod progress;
mod sink;
pub mod sizes;
pub mod table;
pub mod tested;
pub mod text;
pub mod uses;
pub mod why;

pub use sink::{Output, Tone};
