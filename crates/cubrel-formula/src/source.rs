//! Where a text came from, places in it, and what is wrong with it.

use std::fmt;
use std::sync::Arc;

use serde::ser::{Serialize, SerializeMap, Serializer};

/// A stretch of bytes in a text.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Default)]
pub struct Span {
    /// First byte.
    pub start: u32,
    /// One after the last byte.
    pub end: u32,
}

impl Span {
    /// From `start` up to `end`.
    pub fn new(start: usize, end: usize) -> Span {
        Span { start: start as u32, end: end as u32 }
    }

    /// The smallest span that covers both.
    pub fn to(self, other: Span) -> Span {
        Span { start: self.start.min(other.start), end: self.end.max(other.end) }
    }

    /// As a range of byte offsets.
    pub fn range(self) -> std::ops::Range<usize> {
        self.start as usize..self.end as usize
    }
}

/// A formula, query or file, with the name that messages call it by.
#[derive(Debug, PartialEq, Eq)]
pub struct Source {
    /// For example ``measure `net_revenue` `` or a path.
    pub name: String,
    /// The text.
    pub text: String,
    /// Where it stands, when it is part of a file.
    pub origin: Option<Origin>,
}

/// Where a text stands in a file.
#[derive(Debug, PartialEq, Eq)]
pub struct Origin {
    /// The file.
    file: Arc<Source>,
    /// Where in it: the text's offset and the file's, wherever the distance between the two changes.
    starts: Vec<(u32, u32)>,
}

impl Origin {
    /// The place in the file of a byte of the text.
    fn offset(&self, at: u32) -> u32 {
        let after = self.starts.partition_point(|(text, _)| *text <= at);
        self.starts.get(after.saturating_sub(1)).map_or(0, |(text, file)| file + at.saturating_sub(*text))
    }
}

impl Source {
    /// A shared source.
    pub fn new(name: impl Into<String>, text: impl Into<String>) -> Arc<Source> {
        Arc::new(Source { name: name.into(), text: text.into(), origin: None })
    }

    /// A text that stands in a file; `starts` are the text's and the file's offsets wherever their distance changes.
    pub fn within(
        name: impl Into<String>,
        text: impl Into<String>,
        file: &Arc<Source>,
        starts: Vec<(u32, u32)>,
    ) -> Arc<Source> {
        let origin = Origin { file: file.clone(), starts };
        Arc::new(Source { name: name.into(), text: text.into(), origin: Some(origin) })
    }

    /// The file that this stands in, or this, and where a span of it is there.
    pub fn place(&self, span: Span) -> (&Source, Span) {
        match &self.origin {
            // The end is one after the last byte, which may stand before an escape.
            Some(origin) if span.end > span.start => {
                (&origin.file, Span { start: origin.offset(span.start), end: origin.offset(span.end - 1) + 1 })
            }
            Some(origin) => {
                let at = origin.offset(span.start);
                (&origin.file, Span { start: at, end: at })
            }
            None => (self, span),
        }
    }

    /// The text under a span.
    pub fn slice(&self, span: Span) -> &str {
        self.text.get(span.range()).unwrap_or("")
    }

    /// Line and column (in characters) of a byte offset, both from 1.
    pub fn line_column(&self, offset: u32) -> (usize, usize) {
        let mut end = (offset as usize).min(self.text.len());
        while !self.text.is_char_boundary(end) {
            end -= 1;
        }
        let before = &self.text[..end];
        let line = before.matches('\n').count() + 1;
        let column = before.rsplit('\n').next().map_or(0, |l| l.chars().count()) + 1;
        (line, column)
    }
}

/// How bad a [`Diagnostic`] is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Severity {
    /// Right, and not tidy.
    Hint,
    /// Legal, and likely not what was meant.
    Warning,
    /// Nothing can be computed from this.
    Error,
}

impl Severity {
    /// Its name in JSON.
    pub fn name(self) -> &'static str {
        match self {
            Severity::Hint => "hint",
            Severity::Warning => "warning",
            Severity::Error => "error",
        }
    }
}

/// What a [`Diagnostic`] is about, for callers that want to act on it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Problem {
    /// The text does not follow the grammar.
    Syntax,
    /// A name that nothing has.
    UnknownName,
    /// A name that several things have.
    Ambiguous,
    /// An operand or argument of the wrong type.
    Type,
    /// A column where there is no row to take it from.
    NoRow,
    /// An aggregate where none can stand.
    Aggregate,
    /// Tables that do not reach each other, or reach each other in two ways.
    Path,
    /// Formulas that need each other.
    Cycle,
    /// Two things of one name.
    Duplicate,
    /// A model file that says something impossible.
    Model,
    /// Data that does not fit what the model says of it.
    Data,
    /// Something that a role does not answer.
    Denied,
    /// Legal but surprising.
    Surprise,
    /// Right, and not tidy.
    Untidy,
    /// Part of the language that this version cannot run.
    Unsupported,
}

impl Problem {
    /// Its name in JSON.
    pub fn name(self) -> &'static str {
        match self {
            Problem::Syntax => "syntax",
            Problem::UnknownName => "unknown_name",
            Problem::Ambiguous => "ambiguous",
            Problem::Type => "type",
            Problem::NoRow => "no_row",
            Problem::Aggregate => "aggregate",
            Problem::Path => "path",
            Problem::Cycle => "cycle",
            Problem::Duplicate => "duplicate",
            Problem::Model => "model",
            Problem::Data => "data",
            Problem::Denied => "denied",
            Problem::Surprise => "surprise",
            Problem::Untidy => "untidy",
            Problem::Unsupported => "unsupported",
        }
    }
}

/// One thing that is wrong, where, and what to write instead.
#[derive(Clone, Debug)]
pub struct Diagnostic {
    /// How bad it is.
    pub severity: Severity,
    /// What it is about.
    pub problem: Problem,
    /// What is wrong: one line, lower case, no full stop.
    pub message: String,
    /// The text in which it is wrong.
    pub source: Option<Arc<Source>>,
    /// Where in that text.
    pub span: Span,
    /// Why, and what to write instead.
    pub help: Option<String>,
    /// Of a hint, the name by which `allow` in the model's file silences it.
    pub hint: Option<&'static str>,
}

impl Diagnostic {
    /// An error at a place.
    pub fn error(problem: Problem, source: &Arc<Source>, span: Span, message: impl Into<String>) -> Diagnostic {
        Diagnostic {
            severity: Severity::Error,
            problem,
            message: message.into(),
            source: Some(source.clone()),
            span,
            help: None,
            hint: None,
        }
    }

    /// An error that has no place in a text.
    pub fn general(problem: Problem, message: impl Into<String>) -> Diagnostic {
        Diagnostic {
            severity: Severity::Error,
            problem,
            message: message.into(),
            source: None,
            span: Span::default(),
            help: None,
            hint: None,
        }
    }

    /// The file or query in which it is wrong, the line and the column, both from 1.
    pub fn place(&self) -> Option<(&str, usize, usize)> {
        let (file, span) = self.source.as_ref()?.place(self.span);
        let (line, column) = file.line_column(span.start);
        Some((&file.name, line, column))
    }

    /// The formula of a file in which it is wrong, such as `measure net_revenue`.
    pub fn formula(&self) -> Option<&str> {
        self.source.as_ref().filter(|s| s.origin.is_some()).map(|s| s.name.as_str())
    }

    /// Whether it says the same of the same place.
    pub fn is_same(&self, other: &Diagnostic) -> bool {
        let key = |p: &Diagnostic| p.source.as_ref().map(|s| (s.name.clone(), s.origin.is_some()));
        self.message == other.message && self.span == other.span && key(self) == key(other)
    }

    /// What was probably meant by what is wrong, as it is written there.
    pub fn meant(&self) -> Option<&str> {
        self.help.as_deref()?.strip_prefix(MEANT)?.strip_suffix(ASKED)
    }

    /// Adds what to write instead.
    #[must_use]
    pub fn help(mut self, help: impl Into<String>) -> Diagnostic {
        self.help = Some(help.into());
        self
    }

    /// Turns an error into a hint of this name.
    #[must_use]
    pub fn as_hint(mut self, name: &'static str) -> Diagnostic {
        (self.severity, self.hint) = (Severity::Hint, Some(name));
        self
    }

    /// Turns an error into a warning.
    #[must_use]
    pub fn warning(mut self) -> Diagnostic {
        self.severity = Severity::Warning;
        self
    }
}

/// What it is about, where, and what to write instead: `{"severity", "problem", "message"}`, and where they are known
/// `"file"`, `"line"`, `"column"`, `"formula"` and `"help"`.
impl Serialize for Diagnostic {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let mut map = serializer.serialize_map(None)?;
        map.serialize_entry("severity", self.severity.name())?;
        map.serialize_entry("problem", self.problem.name())?;
        if let Some(hint) = self.hint {
            map.serialize_entry("hint", hint)?;
        }
        map.serialize_entry("message", &self.message)?;
        if let Some((file, line, column)) = self.place() {
            map.serialize_entry("file", file)?;
            map.serialize_entry("line", &line)?;
            map.serialize_entry("column", &column)?;
        }
        if let Some(formula) = self.formula() {
            map.serialize_entry("formula", formula)?;
        }
        if let Some(help) = &self.help {
            map.serialize_entry("help", help)?;
        }
        map.end()
    }
}

/// The message with its place and its help, without drawing the text.
impl fmt::Display for Diagnostic {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if let Some((file, line, column)) = self.place() {
            write!(f, "{file}:{line}:{column}: ")?;
        }
        f.write_str(&self.message)?;
        if let Some(help) = &self.help {
            write!(f, " ({help})")?;
        }
        Ok(())
    }
}

/// The candidate that was probably meant by a misspelt name.
pub fn closest<'a>(wanted: &str, candidates: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let lower = wanted.to_lowercase();
    candidates
        .into_iter()
        // What who asks may not see has no name.
        .filter(|c| !c.is_empty())
        .map(|c| (strsim::damerau_levenshtein(&lower, &c.to_lowercase()), c))
        .filter(|(distance, c)| *distance <= 1 + wanted.chars().count().min(c.chars().count()) / 4)
        .min_by_key(|(distance, _)| *distance)
        .map(|(_, c)| c)
}

/// How the question begins.
const MEANT: &str = "did you mean `";
/// And how it ends.
const ASKED: &str = "`?";

/// What is asked of someone who misspelt a name.
pub fn did_you_mean(near: impl fmt::Display) -> String {
    format!("{MEANT}{near}{ASKED}")
}

/// What was meant, or what there is.
pub fn suggestion(wanted: &str, names: &[&str]) -> String {
    let names: Vec<&str> = names.iter().copied().filter(|name| !name.is_empty()).collect();
    match closest(wanted, names.iter().copied()) {
        Some(near) => did_you_mean(near),
        None if names.is_empty() => "there are none".into(),
        None => format!("there are {}", names.join(", ")),
    }
}

/// What was probably meant, in words: the name among others that is closest to a wrong one.
///
/// ```
/// assert_eq!(cubrel::suggest("bookins", ["bookings", "net"]).as_deref(), Some("did you mean `bookings`?"));
/// assert_eq!(cubrel::suggest("x", ["bookings", "net"]), None);
/// ```
pub fn suggest<'n>(wanted: &str, names: impl IntoIterator<Item = &'n str>) -> Option<String> {
    closest(wanted, names).map(did_you_mean)
}
