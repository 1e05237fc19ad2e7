//! What a model needs over the years: who uses what, what can go, names changed everywhere at once.
//!
//! * [`graph`]: which part uses which; [`uses`]: told for one part; [`unused`]: what nothing uses
//! * [`edit`]: a change of the file, checked and proved (`proof`) and written (`history`); [`rename`], [`remove`]; `toml_edits`:
//!   the text

pub mod edit;
pub(crate) mod graph;
mod history;
mod proof;
mod remove;
mod rename;
mod toml_edits;
pub mod unused;
pub mod uses;
