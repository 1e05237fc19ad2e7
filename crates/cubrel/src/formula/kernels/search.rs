//! Searches in texts that can be told text by text, without making a vector of them.

use super::super::functions::{Function, LikePattern};
use super::super::typed::Op;

/// A question about texts that takes one other text, read once for many.
pub(crate) enum TextSearch {
    /// `like`
    Like(LikePattern),
    /// `starts_with`
    Starts(String),
    /// `ends_with`
    Ends(String),
    /// `contains`
    Contains(Box<memchr::memmem::Finder<'static>>),
}

impl TextSearch {
    /// What an operator asks; `None` where it is another one.
    pub(crate) fn of(op: Op, wanted: &str) -> Option<TextSearch> {
        Some(match op {
            Op::Like => TextSearch::Like(LikePattern::new(wanted)),
            Op::Function(Function { name: "starts_with", .. }) => TextSearch::Starts(wanted.to_string()),
            Op::Function(Function { name: "ends_with", .. }) => TextSearch::Ends(wanted.to_string()),
            Op::Function(Function { name: "contains", .. }) => {
                TextSearch::Contains(Box::new(memchr::memmem::Finder::new(wanted.as_bytes()).into_owned()))
            }
            _ => return None,
        })
    }

    /// The answer for a text, by its bytes.
    pub(crate) fn finds(&self, text: &[u8]) -> bool {
        match self {
            TextSearch::Like(pattern) => pattern.matches(text),
            TextSearch::Starts(wanted) => text.starts_with(wanted.as_bytes()),
            TextSearch::Ends(wanted) => text.ends_with(wanted.as_bytes()),
            TextSearch::Contains(wanted) => wanted.find(text).is_some(),
        }
    }

    /// What texts have to begin with, where nothing else is asked of them.
    pub(crate) fn beginning(&self) -> Option<&str> {
        match self {
            TextSearch::Like(pattern) => pattern.beginning(),
            TextSearch::Starts(wanted) => Some(wanted),
            TextSearch::Ends(_) | TextSearch::Contains(_) => None,
        }
    }
}
