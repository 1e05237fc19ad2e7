//! What a model says: tables, relationships, measures; `model.toml`; checks.
//!
//! * [`file`]: the model file as types
//! * [`document`]: reading it, with the place of every key
//! * [`keys`]: what can stand under which
//! * [`define`]: the schema that formulas are checked against, and everything that is wrong
//! * [`dependencies`]: which formulas need which
//! * [`calendar`]: generated calendars
//! * [`roles`]: who sees which rows
//! * [`parts`], [`mentions`]: what it is made of, and which part names which; [`toml_places`]: where keys and values stand, [`texts`]:
//!   what those say

#![cfg_attr(test, allow(clippy::unwrap_used))]

pub mod calendar;
pub mod define;
pub mod dependencies;
pub mod document;
pub mod file;
pub mod keys;
mod literal;
pub mod mentions;
mod merge;
pub mod ordering;
pub mod parts;
pub mod paths;
pub mod roles;
pub mod texts;
pub mod toml_places;

pub use document::Document;
pub use keys::model_schema;
