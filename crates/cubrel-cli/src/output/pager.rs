//! Shows what is longer than the terminal a screen at a time.

use std::io::{self, Write};
use std::process::{Child, Command, Stdio};

use crate::failure::Failure;

/// What a shell says when there is no such program.
const NOT_FOUND: i32 = 127;

/// Gives a text to `$PAGER`, or to `less` where nothing is said; false when there is none that can be started.
pub fn show(text: &[u8]) -> Result<bool, Failure> {
    let wanted = std::env::var("PAGER").ok();
    let started = match wanted.as_deref().map(str::trim) {
        Some("" | "cat") => return Ok(false),
        Some(command) => start(Command::new("sh").args(["-c", command])),
        None => start(Command::new("less").env("LESS", std::env::var("LESS").unwrap_or("FRX".into()))),
    };
    let Ok(mut child) = started else { return Ok(false) };
    if let Some(mut pipe) = child.stdin.take() {
        match pipe.write_all(text) {
            // Whoever reads may stop when it has seen enough.
            Err(e) if e.kind() != io::ErrorKind::BrokenPipe => return Err(e.into()),
            _ => {}
        }
    }
    Ok(child.wait()?.code() != Some(NOT_FOUND))
}

fn start(command: &mut Command) -> io::Result<Child> {
    command.stdin(Stdio::piped()).spawn()
}
