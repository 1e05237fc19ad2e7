//! Why a command could not do what it was asked.

/// Why a command could not do what it was asked.
#[derive(Debug)]
pub enum Failure {
    /// The library says so.
    Model(cubrel::Error),
    /// A result could not be written.
    Write(std::io::Error),
    /// Something else, in words: what, and what to do.
    Other(String, String),
}

impl From<cubrel::Error> for Failure {
    fn from(e: cubrel::Error) -> Failure {
        Failure::Model(e)
    }
}

impl From<cubrel_workbook::WorkbookError> for Failure {
    fn from(e: cubrel_workbook::WorkbookError) -> Failure {
        Failure::Other(e.to_string(), e.help().into())
    }
}

impl From<std::io::Error> for Failure {
    fn from(e: std::io::Error) -> Failure {
        Failure::Write(e)
    }
}

/// What a command gives: the exit code.
pub type Done = Result<u8, Failure>;
