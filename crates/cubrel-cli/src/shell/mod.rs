//! An interactive shell: queries with completion and hints, and what is asked of the last grid.
//!
//! * `session`: what a line does
//! * `editor`: the line itself: completion, colours, hints

mod editor;
mod session;

use std::io::{BufRead, IsTerminal};

use reedline::Signal;

use crate::args::Global;
use crate::commands;
use crate::commands::shell::Args;
use crate::failure::{Done, Failure};
use crate::output::problems;
use session::{Next, Session};

/// Asks and answers until the end of the input.
pub fn run(args: &Args, global: &Global) -> Done {
    let asked = &args.asked;
    let model = asked.asker.seen(commands::open(global)?)?;
    let mut session = Session::new(model, args, global)?;
    if !std::io::stdin().is_terminal() {
        return from_pipe(&mut session);
    }
    session.greet()?;
    let mut editor = editor::editor(&session);
    loop {
        match editor.read_line(&editor::Mark) {
            Ok(Signal::Success(line)) => match session.line(&line) {
                Ok(Next::End) => return Ok(0),
                Ok(Next::Model) => editor = editor::editor(&session),
                Ok(Next::Line) => {}
                Err(Failure::Write(e)) if e.kind() == std::io::ErrorKind::BrokenPipe => return Ok(0),
                Err(failure) => problems::report(&failure, global),
            },
            Ok(Signal::CtrlC) => {}
            Ok(_) => return Ok(0),
            Err(e) => {
                let help = "ask with `cubrel query` where there is no terminal".into();
                return Err(Failure::Other(format!("this terminal cannot be read: {e}"), help));
            }
        }
    }
}

/// Lines of a script: a query may go on until a line ends it.
fn from_pipe(session: &mut Session<'_>) -> Done {
    let mut text = String::new();
    let mut code = 0;
    for line in std::io::stdin().lock().lines() {
        text += &line?;
        text.push('\n');
        if editor::is_unfinished(&text) {
            continue;
        }
        match session.line(&std::mem::take(&mut text)) {
            Ok(Next::End) => return Ok(code),
            Ok(_) => {}
            Err(Failure::Write(e)) if e.kind() == std::io::ErrorKind::BrokenPipe => return Ok(0),
            Err(failure) => {
                problems::report(&failure, session.global());
                code = 2;
            }
        }
    }
    Ok(code)
}
