//! What stops the server, or one of its commands.

use std::fmt;

/// What is wrong, and what to do about it.
#[derive(Clone, Debug)]
pub struct Failure {
    message: String,
    help: String,
}

impl Failure {
    /// A failure.
    pub fn new(message: impl Into<String>, help: impl Into<String>) -> Failure {
        Failure { message: message.into(), help: help.into() }
    }

    /// What to do about it.
    pub fn help(&self) -> &str {
        &self.help
    }
}

impl fmt::Display for Failure {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.message)
    }
}

impl std::error::Error for Failure {}
