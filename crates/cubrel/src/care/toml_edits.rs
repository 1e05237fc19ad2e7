//! Edits of a model's text that leave everything else as it is: comments, layout, quotes.

use std::collections::BTreeMap;
use std::sync::Arc;

use cubrel_formula::source::{Source, Span};
use cubrel_formula::words::{is_reserved, quote_name};
use cubrel_model::mentions::{NameForm, Spot};
use cubrel_model::paths::quote_part;
use cubrel_model::toml_places::TomlPlaces;

/// By first byte, up to which one, what takes the place.
type Changes = BTreeMap<(u32, u32), String>;

/// A text with the changes that are to be made in it.
pub(super) struct TomlEdits<'t> {
    text: &'t str,
    pub(super) places: TomlPlaces,
    changes: Changes,
    /// Changes inside values whose quotes cannot hold what is new: by the value, its text and the changes in that.
    rewritten: BTreeMap<(u32, u32), (Arc<Source>, Changes)>,
}

impl<'t> TomlEdits<'t> {
    pub(super) fn new(text: &'t str) -> TomlEdits<'t> {
        TomlEdits { text, places: TomlPlaces::of(text), changes: BTreeMap::new(), rewritten: BTreeMap::new() }
    }

    /// Puts a text in the place of a stretch.
    pub(super) fn replace(&mut self, span: Span, text: impl Into<String>) {
        self.changes.insert((span.start, span.end), text.into());
    }

    /// Puts a text before a byte.
    pub(super) fn insert(&mut self, at: u32, text: impl Into<String>) {
        self.replace(Span { start: at, end: at }, text);
    }

    /// Writes another name at a spot of a text of the file; whether that text can be edited.
    pub(super) fn rename(&mut self, source: &Arc<Source>, spot: &Spot, old: &str, new: &str) -> bool {
        if spot.form == NameForm::Key {
            let written = written(NameForm::Key, old, new, self.slice(spot.span));
            self.replace(spot.span, written);
            return true;
        }
        let name = written(spot.form, old, new, source.slice(spot.span));
        let (file, span) = source.place(spot.span);
        if source.origin.is_none() || file.text != self.text {
            return false;
        }
        let span = self.whole_escape(span, source, spot.span.end);
        let around = self.places.scalars.iter().map(|s| s.span).find(|s| s.start <= span.start && span.end <= s.end);
        let Some(around) = around else { return false };
        match encoded(&name, self.slice(around)) {
            Some(text) => self.replace(span, text),
            None => {
                let key = (around.start, around.end);
                let inner = &mut self.rewritten.entry(key).or_insert_with(|| (source.clone(), BTreeMap::new())).1;
                inner.insert((spot.span.start, spot.span.end), name);
            }
        }
        true
    }

    /// A stretch whose last character may be written as an escape, with all of that.
    fn whole_escape(&self, span: Span, source: &Arc<Source>, end: u32) -> Span {
        if !self.slice(span).ends_with('\\') {
            return span;
        }
        Span { end: source.place(Span { start: end, end }).1.start, ..span }
    }

    fn slice(&self, span: Span) -> &'t str {
        self.text.get(span.range()).unwrap_or_default()
    }

    /// Takes away the headers, entries and lists of a part, with the comments right above them.
    pub(super) fn remove(&mut self, path: &[String]) {
        let headers: Vec<(usize, Span)> = self
            .places
            .headers
            .iter()
            .enumerate()
            .filter(|(_, h)| h.path.starts_with(path))
            .map(|(i, h)| (i, h.span))
            .collect();
        let mut gone: Vec<Span> = Vec::new();
        for (i, header) in headers {
            let next = self.places.headers.get(i + 1).map_or(self.text.len(), |h| self.above(h.span.start as usize));
            let start = self.above(header.start as usize);
            gone.push(Span::new(start, next.max(start)));
        }
        gone.iter().for_each(|span| self.replace(*span, ""));
        let entries: Vec<_> = self.places.entries.iter().filter(|e| e.path.starts_with(path)).cloned().collect();
        // What is in an entry goes with it.
        for entry in &entries {
            let covers = |outer: Span| outer.start <= entry.span.start && entry.span.end <= outer.end;
            let is_inner = entries.iter().any(|e| e.span != entry.span && covers(e.span));
            if is_inner || gone.iter().any(|span| covers(*span)) {
                continue;
            }
            if entry.is_inline { self.remove_inline(entry.span) } else { self.remove_lines(entry.span) }
        }
    }

    /// Takes away the lines of an entry.
    pub(super) fn remove_lines(&mut self, span: Span) {
        let start = self.line_start(span.start as usize);
        let end = self.text[span.end as usize..].find('\n').map_or(self.text.len(), |at| span.end as usize + at + 1);
        self.replace(Span::new(start, end), "");
    }

    /// Takes away an entry of an inline table, or an element of a list, with the comma after it or before it.
    pub(super) fn remove_inline(&mut self, span: Span) {
        let (before, after) = (&self.text[..span.start as usize], &self.text[span.end as usize..]);
        let gap = after.len() - after.trim_start().len();
        if after[gap..].starts_with(',') {
            let rest = &after[gap + 1..];
            let space = rest.len() - rest.trim_start_matches([' ', '\t']).len();
            self.replace(Span::new(span.start as usize, span.end as usize + gap + 1 + space), "");
            return;
        }
        let kept = before.trim_end();
        let start = if kept.ends_with(',') { kept.len() - 1 } else { span.start as usize };
        self.replace(Span::new(start, span.end as usize), "");
    }

    /// Where the comments begin that stand right above a line.
    fn above(&self, at: usize) -> usize {
        let mut start = self.line_start(at);
        while start > 0 {
            let before = self.line_start(start - 1);
            if !self.text[before..start].trim_start().starts_with('#') {
                break;
            }
            start = before;
        }
        start
    }

    fn line_start(&self, at: usize) -> usize {
        self.text[..at].rfind('\n').map_or(0, |end| end + 1)
    }

    /// What the text's lines end with.
    pub(super) fn line_end(&self) -> &'static str {
        if self.text.contains("\r\n") { "\r\n" } else { "\n" }
    }

    /// Where a section's own entries end: behind the last one, or behind its header.
    pub(super) fn end_of_section(&self, header: usize) -> usize {
        let next = self.places.headers.get(header + 1).map_or(self.text.len(), |h| h.span.start as usize);
        let start = self.places.headers[header].span.end as usize;
        let inside = self.places.entries.iter().map(|e| e.span.end as usize).filter(|end| (start..next).contains(end));
        let last = inside.max().unwrap_or(start);
        self.text[last..].find('\n').map_or(self.text.len(), |at| last + at + 1)
    }

    /// Adds a line to a table's own section; whether it has one.
    pub(super) fn add_to_table(&mut self, path: &[String], line: &str) -> bool {
        let Some(header) = self.places.headers.iter().position(|h| h.path == path) else { return false };
        let (at, end) = (self.end_of_section(header), self.line_end());
        let gap = if self.ends_line(at) { "" } else { end };
        self.insert(at as u32, format!("{gap}{line}{end}"));
        true
    }

    /// Takes away a section with the empty line before it; comments in it stay, and then the whole stays but its entries.
    pub(super) fn remove_section(&mut self, header: usize) {
        let start = self.line_start(self.places.headers[header].span.start as usize);
        let end = self.end_of_section(header);
        if self.text[start..end].contains('#') {
            let span = self.places.headers[header].span;
            let inside: Vec<Span> = self
                .places
                .entries
                .iter()
                .map(|e| e.span)
                .filter(|s| span.end <= s.start && (s.end as usize) <= end)
                .collect();
            inside.into_iter().for_each(|span| self.remove_lines(span));
            return;
        }
        let before = &self.text[..start];
        let without_empty = before.strip_suffix("\r\n").or_else(|| before.strip_suffix('\n')).unwrap_or(before);
        let has_gap = without_empty.ends_with('\n');
        self.replace(Span::new(if has_gap { without_empty.len() } else { start }, end), "");
    }

    pub(super) fn text_between(&self, start: u32, end: u32) -> &str {
        self.slice(Span { start, end })
    }

    /// Whether a line begins at a place.
    pub(super) fn ends_line(&self, at: usize) -> bool {
        at == 0 || self.text[..at].ends_with('\n')
    }

    /// The text with all changes.
    pub(super) fn done(self) -> String {
        let mut changes = self.changes;
        for (value, (source, inner)) in self.rewritten {
            // The others of the same value were put down as they stand in the file: they are made in its text as well.
            changes.retain(|span, _| !(value.0 <= span.0 && span.1 <= value.1));
            let text = applied(&source.text, &inner);
            changes.insert(value, toml::Value::String(text).to_string());
        }
        applied(self.text, &changes)
    }
}

/// A text with some stretches of it changed. What lies in a stretch that is changed already is left out.
fn applied(text: &str, changes: &Changes) -> String {
    let mut changed = String::with_capacity(text.len());
    let mut at = 0;
    for ((start, end), new) in changes {
        let (start, end) = (*start as usize, *end as usize);
        if start < at {
            // Removed stretches may touch and lie in each other.
            at = at.max(end);
            continue;
        }
        changed.push_str(&text[at..start]);
        changed.push_str(new);
        at = end;
    }
    changed.push_str(text.get(at..).unwrap_or_default());
    changed
}

/// A new name as it is written where an old one stood. Quotes stay where somebody has set them without need.
fn written(form: NameForm, old: &str, new: &str, there: &str) -> String {
    let quoted = |name: &str| match form {
        NameForm::Formula => quote_name(name),
        NameForm::BehindPoint if is_reserved(name) => name.to_string(),
        NameForm::BehindPoint => quote_name(name),
        NameForm::PathTable => quote_part(name, true),
        NameForm::PathColumn => quote_part(name, false),
        NameForm::Bare => name.to_string(),
        NameForm::Key => key(name),
    };
    let new_text = quoted(new);
    let mark = there.chars().next().filter(|c| matches!(c, '"' | '\'')).filter(|_| form != NameForm::Bare);
    match mark {
        Some('\'') if !new.contains(['\'', '\n']) => format!("'{new}'"),
        Some(_) if quoted(old) == old && new_text == new => format!("\"{}\"", new.replace('"', "\"\"")),
        _ => new_text,
    }
}

/// A key as TOML has it.
pub(super) fn key(name: &str) -> String {
    let is_bare = !name.is_empty() && name.chars().all(|c| c.is_ascii_alphanumeric() || c == '_' || c == '-');
    if is_bare { name.to_string() } else { basic(name) }
}

/// A text in double quotes.
fn basic(text: &str) -> String {
    format!("\"{}\"", escaped(text))
}

fn escaped(text: &str) -> String {
    let mut safe = String::with_capacity(text.len());
    for c in text.chars() {
        match c {
            '"' | '\\' => safe.extend(['\\', c]),
            c if c.is_control() => safe += &format!("\\u{:04X}", u32::from(c)),
            c => safe.push(c),
        }
    }
    safe
}

/// A part of a text as the quotes around it need it; nothing where they cannot hold it.
fn encoded(text: &str, literal: &str) -> Option<String> {
    if literal.starts_with('"') {
        return Some(escaped(text));
    }
    let holds = |c: char| c != '\'' && (!c.is_control() || c == '\t');
    text.chars().all(holds).then(|| text.to_string())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_keep_their_quotes_where_somebody_has_set_them() {
        use NameForm::{Bare, BehindPoint, Formula, Key, PathColumn, PathTable};
        for (form, old, new, there, expected) in [
            (Formula, "net", "gross", "net", "gross"),
            (Formula, "net", "gross pay", "net", "\"gross pay\""),
            (Formula, "net", "gross", "\"net\"", "\"gross\""),
            (Formula, "gross pay", "net", "\"gross pay\"", "net"),
            (Formula, "net", "a \"b\"", "net", "\"a \"\"b\"\"\""),
            (Formula, "net", "order", "net", "\"order\""),
            (BehindPoint, "net", "order", "net", "order"),
            (BehindPoint, "net", "1st", "net", "\"1st\""),
            (PathTable, "t", "my.t", "t", "\"my.t\""),
            (PathColumn, "c", "my.c", "c", "my.c"),
            (Bare, "c", "my c", "c", "my c"),
            (Key, "c", "my c", "c", "\"my c\""),
            (Key, "c", "d", "\"c\"", "\"d\""),
            (Key, "c", "d", "'c'", "'d'"),
            (Key, "my c", "d", "\"my c\"", "d"),
            (Key, "c", "Zür", "c", "\"Zür\""),
        ] {
            assert_eq!(written(form, old, new, there), expected, "{form:?} {old} {new} {there}");
        }
    }

    #[test]
    fn parts_are_removed_with_their_comments_and_nothing_else() {
        let text = "# top\n[a]\nx = 1\n\n# about b\n[b.c]\ny = 2 # two\n[b.d]\n\n# about e\n[e]\nl = { m = 1, n = 2, o = 3 }\np.q = 1\n";
        let without = |path: &str| {
            let path: Vec<String> = path.split('/').map(str::to_string).collect();
            let mut edits = TomlEdits::new(text);
            edits.remove(&path);
            edits.done()
        };
        assert_eq!(without("b"), text.replace("# about b\n[b.c]\ny = 2 # two\n[b.d]\n\n", ""));
        assert_eq!(without("b/c/y"), text.replace("y = 2 # two\n", ""));
        assert_eq!(without("e/l/n"), text.replace("n = 2, ", ""));
        assert_eq!(without("e/l/o"), text.replace(", o = 3", ""));
        assert_eq!(without("e/p"), text.replace("p.q = 1\n", ""));
        assert_eq!(without("e"), &text[..text.find("# about e").unwrap()]);
        assert_eq!(without("z"), text);
    }
}
