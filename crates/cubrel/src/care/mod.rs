//! What a model needs over the years: who uses what, what can go, names changed everywhere at once.
//!
//! * [`graph`]: which part uses which; [`uses`]: told for one part; [`unused`]: what nothing uses
//! * [`edit`]: a change of the file, checked and proved (`proof`) and written (`history`); [`rename`], [`remove`]; `toml_edits`:
//!   the text
//! * [`expectations`]: what must stay true; `check`: what is wrong, [`hints`]: what is untidy; [`changes`]: what another text of
//!   the file says otherwise
//! * [`writing`]: the text of the file while somebody writes it
//! * [`advise`]: what would make it smaller or faster, tried

pub mod advise;
pub mod changes;
mod check;
pub mod edit;
pub mod expectations;
pub(crate) mod graph;
pub mod hints;
mod history;
mod proof;
mod remove;
mod rename;
mod toml_edits;
pub mod unused;
pub mod uses;
pub mod writing;
