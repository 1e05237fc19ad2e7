//! What a model says: tables, relationships, measures; `model.toml`; checks.
//!
//! * [`file`]: the model file as types
//! * [`document`]: reading it, with the place of every key
//! * [`define`]: the schema that formulas are checked against, and everything that is wrong
//! * [`dependencies`]: which formulas need which
//! * [`calendar`]: generated calendars
//! * [`roles`]: who sees which rows
//! * [`parts`], [`mentions`]: what it is made of, and which part names which; [`toml_places`]: where keys and values stand

pub mod calendar;
pub mod define;
pub mod dependencies;
pub mod document;
pub mod file;
mod literal;
pub mod mentions;
mod merge;
pub mod ordering;
pub mod parts;
pub mod paths;
pub mod roles;
pub mod toml_places;

pub use document::{Document, model_schema};
