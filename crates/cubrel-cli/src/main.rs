//! The program `cubrel`.

use std::process::ExitCode;

fn main() -> ExitCode {
    cubrel_cli::run()
}
