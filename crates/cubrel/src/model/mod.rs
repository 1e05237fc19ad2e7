//! What a model says: tables, relationships, measures; `model.toml`; checks.
//!
//! * [`file`]: the model file as types
//! * [`document`]: reading it, with the place of every key
//! * [`define`]: the schema that formulas are checked against, and everything that is wrong
//! * [`dependencies`]: which formulas need which
//! * [`calendar`]: generated calendars
//! * [`roles`]: who sees which rows

pub mod calendar;
pub mod define;
pub mod dependencies;
pub mod document;
pub mod file;
mod literal;
mod merge;
pub mod paths;
pub mod roles;

/// An amount of memory such as `2 GiB` or `500 MB`, in bytes.
///
/// ```
/// assert_eq!(cubrel::model::memory_bytes("2 KiB"), Some(2048));
/// assert_eq!(cubrel::model::memory_bytes("two"), None);
/// ```
pub fn memory_bytes(text: &str) -> Option<u64> {
    let text = text.trim();
    let (number, unit) = text.split_at(text.find(|c: char| !c.is_ascii_digit()).unwrap_or(text.len()));
    let factor = match unit.trim().to_ascii_lowercase().as_str() {
        "" | "b" => 1u64,
        "kib" => 1 << 10,
        "mib" => 1 << 20,
        "gib" => 1 << 30,
        "kb" => 1000,
        "mb" => 1_000_000,
        "gb" => 1_000_000_000,
        _ => return None,
    };
    Some(number.parse::<u64>().ok()?.saturating_mul(factor))
}

pub use document::Document;

pub use file::ModelFile;
