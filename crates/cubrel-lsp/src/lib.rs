//! A language server for the file of a model and for files with queries: problems while they are written, completion, what a
//! name is and weighs, where it is defined and used, and another name for it everywhere.
//!
//! * `protocol`: what editors send, as far as it is used here; `lines` and `paths`: places and files as they name them
//! * `open`: the texts that are open, and the models they belong to
//! * `loading`: tables are loaded beside the conversation
//! * `answers`: one function a question
//! * `server`: who gets which message
//!
//! All knowledge of models and their language is the library's ([`cubrel::ModelText`]); here is the protocol alone.

#![cfg_attr(test, allow(clippy::unwrap_used))]

mod answers;
mod lines;
mod loading;
mod open;
mod paths;
mod protocol;
mod server;

use std::fmt;
use std::path::PathBuf;

pub use server::serve;

/// How to serve.
#[derive(Clone, Debug, Default)]
pub struct ServerOptions {
    /// The model that queries are asked of: a folder, or its `model.toml`. Without one it is the nearest above the query's file.
    pub model: Option<PathBuf>,
    /// The day that `today()` is, as a day number; by default the one on the clock.
    pub today: Option<i32>,
}

/// Why a conversation ended early.
#[derive(Debug)]
pub struct ServerError(String);

impl fmt::Display for ServerError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "the editor and the language server do not understand each other: {}", self.0)
    }
}

impl std::error::Error for ServerError {}

impl From<lsp_server::ProtocolError> for ServerError {
    fn from(error: lsp_server::ProtocolError) -> ServerError {
        ServerError(error.to_string())
    }
}

/// Serves one editor on standard input and output, until it says goodbye.
///
/// # Errors
/// When what comes in is not the protocol.
pub fn run(options: &ServerOptions) -> Result<(), ServerError> {
    let (connection, threads) = lsp_server::Connection::stdio();
    let served = serve(&connection, options);
    // The thread that writes ends when nobody can send to it any more.
    drop(connection);
    served?;
    threads.join().map_err(|e| ServerError(e.to_string()))
}
