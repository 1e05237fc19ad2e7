//! Problems: the text with a mark under the place, why, and what to write instead.

use ariadne::{CharSet, Color, Config, IndexType, Label, Report, ReportKind, Source};
use cubrel::{Diagnostic, Severity};

use crate::Global;
use crate::commands::Failure;

/// Writes a failure to the error stream.
pub fn report(failure: &Failure, global: &Global) {
    let colored = global.color.colors(&std::io::stderr());
    match failure {
        Failure::Model(cubrel::Error::Problems(list)) => {
            for problem in list {
                eprint!("{}", draw(problem, colored));
            }
            let errors = list.iter().filter(|p| p.severity == Severity::Error).count();
            if errors > 1 {
                eprintln!("{errors} problems");
            }
        }
        Failure::Model(cubrel::Error::Run(cubrel::run::RunError::Eval(e))) => {
            let problem = Diagnostic::error(
                cubrel::formula::source::Problem::Data,
                &e.place.source,
                e.place.span,
                e.message.clone(),
            );
            eprint!("{}", draw(&problem, colored));
        }
        Failure::Model(other) => plain(&other.to_string(), None),
        Failure::Write(e) => plain(&format!("the result cannot be written: {e}"), None),
        Failure::Other(message, help) => plain(message, Some(help)),
    }
}

/// Writes what is legal and probably not meant to the error stream.
pub fn warn(list: &[Diagnostic], global: &Global) {
    if !global.quiet {
        let colored = global.color.colors(&std::io::stderr());
        list.iter().for_each(|problem| eprint!("{}", draw(problem, colored)));
    }
}

fn plain(message: &str, help: Option<&str>) {
    eprintln!("error: {message}");
    if let Some(help) = help {
        eprintln!("  help: {help}");
    }
}

/// One problem as text.
pub fn draw(problem: &Diagnostic, colored: bool) -> String {
    let word = match problem.severity {
        Severity::Warning => "warning",
        Severity::Error => "error",
    };
    let Some(source) = problem.source.as_ref().filter(|s| !s.text.is_empty()) else {
        let place = problem.source.as_ref().map(|s| format!("{}: ", s.name)).unwrap_or_default();
        let help = problem.help.as_ref().map(|h| format!("  help: {h}\n")).unwrap_or_default();
        return format!("{word}: {place}{}\n{help}", problem.message);
    };
    let (kind, color) = match problem.severity {
        Severity::Warning => (ReportKind::Custom("warning", Color::Yellow), Color::Yellow),
        Severity::Error => (ReportKind::Custom("error", Color::Red), Color::Red),
    };
    let name = source.name.as_str();
    let config = Config::default()
        .with_color(colored)
        .with_char_set(CharSet::Unicode)
        .with_index_type(IndexType::Byte)
        .with_compact(false);
    let mut report =
        Report::build(kind, (name, problem.span.range())).with_config(config).with_message(&problem.message);
    report = report.with_label(Label::new((name, problem.span.range())).with_color(color).with_message("here"));
    if let Some(help) = &problem.help {
        report = report.with_help(help);
    }
    let mut bytes = Vec::new();
    match report.finish().write((name, Source::from(source.text.as_str())), &mut bytes) {
        Ok(()) if colored => String::from_utf8_lossy(&bytes).into_owned(),
        // The word at the front comes in its colour whatever the configuration says.
        Ok(()) => anstream::adapter::strip_str(&String::from_utf8_lossy(&bytes)).to_string(),
        Err(_) => format!("{word}: {problem}\n"),
    }
}
