//! Problems, in the form that compilers share: what is wrong, the place in the file, the line with a mark under it, and what
//! to write instead.

use annotate_snippets::{AnnotationKind, Level, Renderer, Snippet};
use cubrel::{Diagnostic, Severity};

use super::text::{READABLE, visible, wrapped};
use crate::args::Global;
use crate::failure::Failure;

/// Writes a failure to the error stream.
pub fn report(failure: &Failure, global: &Global) {
    let pen = Pen::errors(global);
    match failure {
        Failure::Model(cubrel::Error::Problems(list)) => {
            list.iter().for_each(|problem| eprint!("{}", pen.draw(problem)));
            let errors = list.iter().filter(|p| p.severity == Severity::Error).count();
            if errors > 1 {
                eprintln!("{errors} problems");
            }
        }
        Failure::Model(other) => eprint!("{}", pen.plain("error", &other.to_string(), None)),
        Failure::Write(e) => eprint!("{}", pen.plain("error", &format!("the result cannot be written: {e}"), None)),
        Failure::Other(message, help) => eprint!("{}", pen.plain("error", message, Some(help))),
    }
}

/// Writes what is legal and probably not meant to the error stream.
pub fn warn(list: &[Diagnostic], global: &Global) {
    if !global.quiet {
        let pen = Pen::errors(global);
        list.iter().for_each(|problem| eprint!("{}", pen.draw(problem)));
    }
}

/// Tells a person what was done, on the error stream.
pub fn note(text: &str, global: &Global) {
    if !global.quiet {
        eprintln!("{}", Pen::errors(global).lines(text, 0));
    }
}

/// What the library says in its own words, and how that is done here.
const HERE: &[(&str, &str)] = &[
    ("a value with the query", "`--set NAME=VALUE`"),
    ("name the folder of a model", "with `--model`; `cubrel demo ferries` makes one to try"),
    ("the language reference lists all of them", "so does `cubrel functions`"),
    ("say which row", "with `--at`"),
    ("choose one", "with `--at`"),
];

/// A help with how that is done here.
fn done_here(help: &str) -> String {
    let here = HERE.iter().find(|(said, _)| help.contains(said)).map(|(_, here)| *here);
    here.map_or_else(|| help.to_string(), |here| format!("{help} ({here})"))
}

/// How problems are drawn.
pub struct Pen {
    colored: bool,
    width: usize,
}

impl Pen {
    /// For results: in colour or not, for a terminal of so many columns.
    pub fn new(colored: bool, width: Option<usize>) -> Pen {
        Pen { colored, width: width.unwrap_or(READABLE).min(READABLE) }
    }

    /// For the error stream.
    fn errors(global: &Global) -> Pen {
        let stream = std::io::stderr();
        let width = terminal_size::terminal_size_of(&stream).map(|(w, _)| usize::from(w.0));
        Pen::new(global.color.colors(&stream), width)
    }

    /// One problem as text.
    pub fn draw(&self, problem: &Diagnostic) -> String {
        let (level, word) = match problem.severity {
            Severity::Hint => (Level::NOTE.with_name("hint"), "hint"),
            Severity::Warning => (Level::WARNING, "warning"),
            Severity::Error => (Level::ERROR, "error"),
        };
        let Some((file, span)) =
            problem.source.as_ref().map(|s| s.place(problem.span)).filter(|(f, _)| !f.text.is_empty())
        else {
            return self.plain(word, &problem.message, problem.help.as_deref().map(done_here).as_deref());
        };
        // A mark under nothing, at the end of a text, stands under the next character.
        let mark = AnnotationKind::Primary.span(span.range());
        let mark = match problem.formula() {
            Some(formula) => mark.label(format!("in {formula}")),
            None => mark,
        };
        let snippet = Snippet::source(file.text.as_str()).path(file.name.as_str()).annotation(mark);
        let title = level.primary_title(self.lines(&problem.message, word.len() + 2));
        let title = match problem.hint {
            Some(hint) => title.id(hint),
            None => title,
        };
        let mut group = title.element(snippet);
        if let Some(help) = &problem.help {
            group = group.element(Level::HELP.message(self.lines(&done_here(help), 14)));
        }
        let renderer = if self.colored { Renderer::styled() } else { Renderer::plain() };
        format!("{}\n\n", renderer.term_width(self.width).render(&[group]))
    }

    /// A message that has no place in a text.
    fn plain(&self, word: &str, message: &str, help: Option<&str>) -> String {
        let indented =
            |indent: usize, text: &str| self.lines(text, indent).replace('\n', &format!("\n{}", " ".repeat(indent)));
        let mut text = format!("{word}: {}\n", indented(word.len() + 2, message));
        if let Some(help) = help {
            text += &format!("  help: {}\n", indented(8, help));
        }
        text
    }

    /// A text in lines that leave room for what stands before them.
    fn lines(&self, text: &str, before: usize) -> String {
        text.lines()
            .flat_map(|line| wrapped(&visible(line), self.width.saturating_sub(before).max(20)))
            .collect::<Vec<_>>()
            .join("\n")
    }
}
