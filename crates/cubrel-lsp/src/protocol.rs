//! What of the Language Server Protocol 3.17 is used here, by the names that it has there.

use serde::{Deserialize, Serialize};

/// A place in a text: line and character, both from 0. What a character is, is agreed on when the conversation begins.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub(crate) struct Position {
    /// The line.
    pub(crate) line: u32,
    /// How many units of the encoding stand before it.
    pub(crate) character: u32,
}

/// From one place up to another.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Range {
    /// The first.
    pub(crate) start: Position,
    /// The one after the last.
    pub(crate) end: Position,
}

/// Which text.
#[derive(Debug, Deserialize)]
pub(crate) struct Identifier {
    pub(crate) uri: String,
}

/// A text that is opened.
#[derive(Debug, Deserialize)]
pub(crate) struct Opened {
    #[serde(rename = "textDocument")]
    pub(crate) document: OpenedDocument,
}

#[derive(Debug, Deserialize)]
pub(crate) struct OpenedDocument {
    pub(crate) uri: String,
    pub(crate) version: i32,
    pub(crate) text: String,
}

/// A text that is another now.
#[derive(Debug, Deserialize)]
pub(crate) struct Changed {
    #[serde(rename = "textDocument")]
    pub(crate) document: Versioned,
    #[serde(rename = "contentChanges")]
    pub(crate) changes: Vec<Change>,
}

#[derive(Debug, Deserialize)]
pub(crate) struct Versioned {
    pub(crate) uri: String,
    pub(crate) version: i32,
}

/// New text for a range, or for all of it.
#[derive(Debug, Deserialize)]
pub(crate) struct Change {
    pub(crate) range: Option<Range>,
    pub(crate) text: String,
}

/// A text that is saved or closed.
#[derive(Debug, Deserialize)]
pub(crate) struct About {
    #[serde(rename = "textDocument")]
    pub(crate) document: Identifier,
}

/// What is asked of a place.
#[derive(Debug, Deserialize)]
pub(crate) struct At {
    #[serde(rename = "textDocument")]
    pub(crate) document: Identifier,
    pub(crate) position: Position,
    /// Of `references`.
    #[serde(default)]
    pub(crate) context: Context,
    /// Of `rename`.
    #[serde(default, rename = "newName")]
    pub(crate) new_name: String,
}

/// What is asked of a stretch of text.
#[derive(Debug, Deserialize)]
pub(crate) struct Stretch {
    #[serde(rename = "textDocument")]
    pub(crate) document: Identifier,
    pub(crate) range: Range,
}

#[derive(Debug, Default, Deserialize)]
pub(crate) struct Context {
    #[serde(default, rename = "includeDeclaration")]
    pub(crate) with_definition: bool,
}

/// Kinds of completion items, by the numbers of the protocol.
pub(crate) mod item_kind {
    pub(crate) const FUNCTION: u8 = 3;
    pub(crate) const FIELD: u8 = 5;
    pub(crate) const VARIABLE: u8 = 6;
    pub(crate) const INTERFACE: u8 = 8;
    pub(crate) const PROPERTY: u8 = 10;
    pub(crate) const VALUE: u8 = 12;
    pub(crate) const ENUM: u8 = 13;
    pub(crate) const KEYWORD: u8 = 14;
    pub(crate) const REFERENCE: u8 = 18;
    pub(crate) const STRUCT: u8 = 22;
}

/// Kinds of symbols, by the numbers of the protocol.
pub(crate) mod symbol_kind {
    pub(crate) const METHOD: u8 = 6;
    pub(crate) const FIELD: u8 = 8;
    pub(crate) const ENUM: u8 = 10;
    pub(crate) const INTERFACE: u8 = 11;
    pub(crate) const VARIABLE: u8 = 13;
    pub(crate) const ARRAY: u8 = 18;
    pub(crate) const KEY: u8 = 20;
    pub(crate) const STRUCT: u8 = 23;
    pub(crate) const EVENT: u8 = 24;
    pub(crate) const OPERATOR: u8 = 25;
}
