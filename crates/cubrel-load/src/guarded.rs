//! Work of other libraries on files that may be broken: where it panics, that is an error like others.

use std::any::Any;
use std::cell::Cell;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::path::Path;

use super::LoadError;
use cubrel_formula::source::{Diagnostic, Problem};

thread_local! {
    static GUARDED: Cell<bool> = const { Cell::new(false) };
}

/// Whether a panic on this thread would become an error, so that nobody needs to hear of it.
pub fn is_guarded() -> bool {
    GUARDED.get()
}

/// Does some work on a part of a file. What it leaves half done is not used any more.
pub(super) fn guarded<T, E: From<LoadError>>(
    path: &Path,
    part: impl FnOnce() -> String,
    work: impl FnOnce() -> Result<T, E>,
) -> Result<T, E> {
    caught(work).unwrap_or_else(|why| {
        let message = format!("{}: {} cannot be decoded: {why}", path.display(), part());
        let problem = Diagnostic::general(Problem::Data, message);
        Err(LoadError::from(problem.help("the file is damaged: write it again")).into())
    })
}

/// Does some work; where it panics, that is what the panic said.
pub(super) fn caught<T>(work: impl FnOnce() -> T) -> Result<T, String> {
    let before = GUARDED.replace(true);
    let done = catch_unwind(AssertUnwindSafe(work));
    GUARDED.set(before);
    done.map_err(|panic| said(&*panic).to_string())
}

fn said(panic: &(dyn Any + Send)) -> &str {
    let text = panic.downcast_ref::<String>().map(String::as_str);
    text.or_else(|| panic.downcast_ref::<&str>().copied()).unwrap_or("no reason is known")
}
