//! Where the keys, entries and headers of a TOML text stand: what an edit of it needs that changes nothing else.

use std::borrow::Cow;
use std::collections::HashMap;

use toml_parser::parser::{Event, EventKind, parse_document};

use cubrel_formula::source::Span;

/// A key where it is written: in a header, or in front of a value.
#[derive(Clone, Debug, PartialEq)]
pub struct KeyPlace {
    /// All keys that lead to it, itself included; elements of lists have their number.
    pub path: Vec<String>,
    /// The key, with its quotes.
    pub span: Span,
}

/// A key with its value.
#[derive(Clone, Debug, PartialEq)]
pub struct Entry {
    /// All keys that lead to it.
    pub path: Vec<String>,
    /// From the first character of the key to the last one of the value.
    pub span: Span,
    /// The value.
    pub value: Span,
    /// Whether it stands in an inline table.
    pub is_inline: bool,
}

/// A text, a number or another value that has no parts.
#[derive(Clone, Debug, PartialEq)]
pub struct ScalarPlace {
    /// All keys that lead to it; elements of lists have their number.
    pub path: Vec<String>,
    /// With its quotes.
    pub span: Span,
}

/// `[a.b]` or `[[a]]`
#[derive(Clone, Debug, PartialEq)]
pub struct TomlHeader {
    /// The keys; elements of lists have their number.
    pub path: Vec<String>,
    /// With its brackets.
    pub span: Span,
}

/// All of a text, in its order.
#[derive(Debug, Default)]
pub struct TomlPlaces {
    /// Keys.
    pub keys: Vec<KeyPlace>,
    /// Entries.
    pub entries: Vec<Entry>,
    /// Headers.
    pub headers: Vec<TomlHeader>,
    /// Values that stand by themselves: texts, numbers, dates.
    pub scalars: Vec<ScalarPlace>,
}

impl TomlPlaces {
    /// Those of a text. What is no TOML is left out, so that a text may still be being written.
    pub fn of(text: &str) -> TomlPlaces {
        let source = toml_parser::Source::new(text);
        let tokens = source.lex().into_vec();
        let mut events: Vec<Event> = Vec::with_capacity(tokens.len());
        // Whoever asks has read the text before.
        let mut unheard = |_: toml_parser::ParseError| {};
        parse_document(&tokens, &mut |event: Event| events.push(event), &mut unheard);
        let mut reader = TomlReader {
            source,
            found: TomlPlaces::default(),
            frames: vec![TomlFrame::default()],
            counts: HashMap::new(),
        };
        events.iter().for_each(|event| reader.event(event));
        reader.found
    }
}

/// What values stand in.
#[derive(Default)]
struct TomlFrame {
    path: Vec<String>,
    /// In a list, the number of the next element.
    element: Option<usize>,
    is_inline: bool,
    is_header: bool,
    /// The keys read so far, and where the first one begins.
    keys: Vec<String>,
    start: u32,
    /// Where the inline table or list itself begins.
    opened: u32,
}

struct TomlReader<'t> {
    source: toml_parser::Source<'t>,
    found: TomlPlaces,
    frames: Vec<TomlFrame>,
    /// By path, how many elements a list of tables has so far.
    counts: HashMap<Vec<String>, usize>,
}

impl TomlReader<'_> {
    fn event(&mut self, event: &Event) {
        let span = Span::new(event.span().start(), event.span().end());
        match event.kind() {
            EventKind::StdTableOpen | EventKind::ArrayTableOpen => {
                self.frames = vec![TomlFrame { start: span.start, is_header: true, ..TomlFrame::default() }];
            }
            EventKind::StdTableClose => self.header(span, false),
            EventKind::ArrayTableClose => self.header(span, true),
            EventKind::SimpleKey => self.key(event, span),
            EventKind::Scalar => {
                let path = self.inner_path();
                self.found.scalars.push(ScalarPlace { path, span });
                self.value(span);
            }
            EventKind::ArrayOpen => self.open(span, Some(0)),
            EventKind::InlineTableOpen => self.open(span, None),
            EventKind::ArrayClose | EventKind::InlineTableClose => {
                if let Some(frame) = self.frames.pop() {
                    self.value(Span { start: frame.opened, end: span.end });
                }
            }
            // A key that nothing follows in its line is none yet, and leads nowhere.
            EventKind::Newline if self.frames.len() == 1 => self.top().keys.clear(),
            _ => {}
        }
    }

    fn top(&mut self) -> &mut TomlFrame {
        if self.frames.is_empty() {
            self.frames.push(TomlFrame::default());
        }
        let last = self.frames.len() - 1;
        &mut self.frames[last]
    }

    fn key(&mut self, event: &Event, span: Span) {
        let mut name = Cow::Borrowed("");
        if let Some(raw) = self.source.get(event) {
            raw.decode_key(&mut name, &mut |_: toml_parser::ParseError| {});
        }
        let frame = self.top();
        if frame.keys.is_empty() && !frame.is_header {
            frame.start = span.start;
        }
        frame.keys.push(name.into_owned());
        let path: Vec<String> = frame.path.iter().chain(&frame.keys).cloned().collect();
        let path = self.numbered(&path);
        self.found.keys.push(KeyPlace { path, span });
    }

    /// A path in which the last element of each list of tables has its number.
    fn numbered(&self, path: &[String]) -> Vec<String> {
        let mut numbered: Vec<String> = Vec::new();
        for key in path {
            if let Some(n) = self.counts.get(&numbered)
                && !numbered.is_empty()
                && key.parse::<usize>().is_err()
            {
                numbered.push((n - 1).to_string());
            }
            numbered.push(key.clone());
        }
        numbered
    }

    fn header(&mut self, close: Span, is_list: bool) {
        let frame = self.frames.pop().unwrap_or_default();
        let mut path = self.numbered(&frame.keys);
        if is_list {
            let count = self.counts.entry(path.clone()).or_insert(0);
            path.push(count.to_string());
            *count += 1;
        }
        self.found.headers.push(TomlHeader { path: path.clone(), span: Span { start: frame.start, end: close.end } });
        // Entries come after a header.
        self.frames = vec![TomlFrame { path, ..TomlFrame::default() }];
    }

    fn open(&mut self, span: Span, element: Option<usize>) {
        let path = self.inner_path();
        let frame =
            TomlFrame { path, element, is_inline: element.is_none(), opened: span.start, ..TomlFrame::default() };
        self.frames.push(frame);
    }

    /// Where the value stands that comes next.
    fn inner_path(&mut self) -> Vec<String> {
        let frame = self.top();
        let mut path = frame.path.clone();
        path.extend(frame.keys.iter().cloned());
        path.extend(frame.element.map(|n| n.to_string()));
        self.numbered(&path)
    }

    /// A value is complete.
    fn value(&mut self, value: Span) {
        let path = self.inner_path();
        let frame = self.top();
        match &mut frame.element {
            Some(n) => *n += 1,
            None => {
                let (span, is_inline) = (Span { start: frame.start, end: value.end }, frame.is_inline);
                frame.keys.clear();
                self.found.entries.push(Entry { path, span, value, is_inline });
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const TEXT: &str = "top = 1 # one\n[a.\"b c\"]\nx.y = 'v'\nlist = [\"p\", { q = 2 }]\n[[r]]\nmany = 'm'\n[[r]]\nmany = \"\"\"n\n\"\"\"\n[r.sub]\nk = { in.ner = true, other = 2026-01-01 }\n";

    #[test]
    fn keys_entries_and_headers_are_found_with_their_paths() {
        let places = TomlPlaces::of(TEXT);
        let cut = |span: Span| &TEXT[span.range()];
        let headers: Vec<(String, &str)> = places.headers.iter().map(|h| (h.path.join("/"), cut(h.span))).collect();
        let expected = [("a/b c", "[a.\"b c\"]"), ("r/0", "[[r]]"), ("r/1", "[[r]]"), ("r/1/sub", "[r.sub]")];
        assert_eq!(headers, expected.map(|(path, text)| (path.to_string(), text)));
        let entries: Vec<(String, &str)> = places.entries.iter().map(|e| (e.path.join("/"), cut(e.span))).collect();
        let expected = [
            ("top", "top = 1"),
            ("a/b c/x/y", "x.y = 'v'"),
            ("a/b c/list/1/q", "q = 2"),
            ("a/b c/list", "list = [\"p\", { q = 2 }]"),
            ("r/0/many", "many = 'm'"),
            ("r/1/many", "many = \"\"\"n\n\"\"\""),
            ("r/1/sub/k/in/ner", "in.ner = true"),
            ("r/1/sub/k/other", "other = 2026-01-01"),
            ("r/1/sub/k", "k = { in.ner = true, other = 2026-01-01 }"),
        ];
        assert_eq!(entries, expected.map(|(path, text)| (path.to_string(), text)));
        let keys: Vec<(String, &str)> = places.keys.iter().map(|k| (k.path.join("/"), cut(k.span))).collect();
        assert!(keys.contains(&("a/b c".to_string(), "\"b c\"")), "{keys:?}");
        assert!(keys.contains(&("r/1/sub".to_string(), "sub")), "{keys:?}");
        let scalars: Vec<String> = places.scalars.iter().map(|s| s.path.join("/")).collect();
        assert_eq!(scalars[1..5], ["a/b c/x/y", "a/b c/list/0", "a/b c/list/1/q", "r/0/many"]);
        assert_eq!(places.entries[2].value, places.scalars[3].span);
        assert!(places.entries[2].is_inline && !places.entries[3].is_inline);
    }

    #[test]
    fn what_stands_around_something_unfinished_is_found() {
        for unfinished in
            ["labe", "label", "label =", "label = \"a", "label = 'a", "label = [\"a\", ", "x.", "label = \"\"\"a"]
        {
            let text = format!("[a]\nk = 1\n{unfinished}\nnext = 2\n[b]\nm = 'x'\n");
            let places = TomlPlaces::of(&text);
            let has = |path: &[&str]| places.entries.iter().any(|e| e.path == path);
            assert!(has(&["a", "k"]), "{text}");
            let swallows_all = unfinished.contains('[') || unfinished.contains("\"\"\"");
            assert!(swallows_all || has(&["a", "next"]) && has(&["b", "m"]), "{text}: {:?}", places.entries);
        }
        let unclosed = TomlPlaces::of("[a]\nk = \"sum(");
        assert_eq!(unclosed.scalars[0].path, ["a", "k"]);
    }

    #[test]
    fn what_is_no_toml_is_put_up_with() {
        for text in ["", "[", "a = ", "= 1", "]]", "{", "a = [1,", "[[x\ny", "\u{feff}a = 1", "a = { b = 'x'"] {
            TomlPlaces::of(text);
        }
    }
}
