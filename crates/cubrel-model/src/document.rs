//! Reads `model.toml`: every key checked against the types, with the place of each in the text.

use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use serde_json::Value as Json;
use toml::de::{DeTable, DeValue};

use super::file::{ModelFile, former_key};
use super::keys::{element, expects, resolved, schema};
use super::literal;
use cubrel_formula::source::{Diagnostic, Problem, Source, Span, closest, did_you_mean};
use cubrel_value::files;

/// A `model.toml` that has been read.
#[derive(Clone, Debug)]
pub struct Document {
    /// What it says.
    pub file: ModelFile,
    /// Its text.
    pub source: Arc<Source>,
    /// The folder that its paths are relative to.
    pub folder: PathBuf,
    pub(super) places: HashMap<String, (Arc<Source>, Span)>,
}

impl Document {
    /// Reads a model file, or the `model.toml` of a folder.
    ///
    /// # Errors
    /// Everything that is wrong with it, all at once.
    pub fn read(path: &Path) -> Result<Document, Vec<Diagnostic>> {
        let file = if path.is_dir() { path.join("model.toml") } else { path.to_path_buf() };
        let text = files::open(&file).and_then(files::text).map_err(|e| {
            let help = if e.kind() == std::io::ErrorKind::NotFound {
                "name the folder of a model, or its `model.toml`"
            } else {
                "the file has to be UTF-8 text that can be read"
            };
            vec![Diagnostic::general(Problem::Model, format!("no model at {}: {e}", file.display())).help(help)]
        })?;
        let folder = files::folder_of(&file).to_path_buf();
        let name = file.strip_prefix(".").unwrap_or(&file).display().to_string();
        Document::parse(&name, &text, folder)
    }

    /// Reads the text of a model file.
    ///
    /// # Errors
    /// Everything that is wrong with it.
    pub fn parse(name: &str, text: &str, folder: PathBuf) -> Result<Document, Vec<Diagnostic>> {
        let source = Source::new(name, text);
        let tree = DeTable::parse(text).map_err(|e| vec![toml_problem(&source, &e)])?;
        let schema = schema();
        let mut walk = TomlWalk { source: &source, root: schema, places: HashMap::new(), problems: Vec::new() };
        walk.table(tree.get_ref(), schema, "");
        let TomlWalk { places, problems, .. } = walk;
        if !problems.is_empty() {
            return Err(problems);
        }
        let file: ModelFile = toml::from_str(text).map_err(|e| vec![toml_problem(&source, &e)])?;
        let places = places.into_iter().map(|(path, span)| (path, (source.clone(), span))).collect();
        Ok(Document { file, source, folder, places })
    }

    /// A model without a file.
    pub fn in_memory(file: ModelFile) -> Document {
        let source = Source::new("model", "");
        Document { file, source, folder: PathBuf::new(), places: HashMap::new() }
    }

    /// Whether something stands at a path of keys, such as `table.booking.key`.
    pub fn says(&self, path: &str) -> bool {
        self.places.contains_key(path)
    }

    /// A formula or query that stands at a path of keys, with its place in the file.
    pub fn formula(&self, name: impl Into<String>, path: &str, text: &str) -> Arc<Source> {
        let place = self.places.get(path);
        match place.and_then(|(source, span)| Some((source, literal::starts(&source.text, *span, text)?))) {
            Some((source, starts)) => Source::within(name, text, source, starts),
            None => Source::new(name, text),
        }
    }

    /// A problem with the value at a path of keys; where that stands in no text, at the nearest that does.
    pub fn problem(&self, problem: Problem, path: &str, message: impl Into<String>) -> Diagnostic {
        let mut paths = std::iter::successors(Some(path), |path| Some(path.rsplit_once('.')?.0));
        match paths.find_map(|path| self.places.get(path)) {
            Some((source, span)) => Diagnostic::error(problem, source, *span, message),
            None => Diagnostic::general(problem, message),
        }
    }
}

fn toml_problem(source: &Arc<Source>, error: &toml::de::Error) -> Diagnostic {
    let span = error.span().map_or(Span::default(), |s| Span::new(s.start, s.end));
    let message = error.message().trim().lines().next().unwrap_or("this is not TOML");
    if message.starts_with("duplicate key") {
        return stands_twice(source, span);
    }
    let help = "the file is TOML: `key = value` lines under `[section]` heads";
    Diagnostic::error(Problem::Model, source, span, message).help(help)
}

/// A key or section that stands twice: where the first one is.
fn stands_twice(source: &Arc<Source>, span: Span) -> Diagnostic {
    let line_of = |offset: usize| {
        let start = source.text[..offset].rfind('\n').map_or(0, |i| i + 1);
        source.text[start..].lines().next().unwrap_or("").split('=').next().unwrap_or("").trim()
    };
    let second = line_of(span.start as usize);
    let name = source.slice(span).trim_matches(['[', ']']).to_string();
    let (second_line, _) = source.line_column(span.start);
    let lines = source.text.lines().take(second_line - 1).enumerate();
    let first = lines.filter(|(_, l)| l.split('=').next().unwrap_or("").trim() == second).map(|(i, _)| i + 1).last();
    let help = match first {
        Some(line) => format!("the first one is in line {line}; give one of them another name"),
        None => "give one of them another name".into(),
    };
    Diagnostic::error(Problem::Duplicate, source, span, format!("`{name}` stands twice")).help(help)
}

struct TomlWalk<'a> {
    source: &'a Arc<Source>,
    root: &'a Json,
    places: HashMap<String, Span>,
    problems: Vec<Diagnostic>,
}

impl TomlWalk<'_> {
    fn table(&mut self, table: &DeTable<'_>, schema: &Json, path: &str) {
        let schema = resolved(self.root, schema).clone();
        let properties = schema.get("properties").and_then(Json::as_object).cloned().unwrap_or_default();
        for (key, value) in table {
            let name = key.get_ref();
            let place = if path.is_empty() { name.to_string() } else { format!("{path}.{name}") };
            let span = key.span();
            self.places.insert(place.clone(), Span::new(value.span().start, value.span().end));
            let inner =
                properties.get(name.as_ref()).or_else(|| schema.get("additionalProperties").filter(|s| s.is_object()));
            match inner {
                Some(inner) => {
                    self.value(value.get_ref(), Span::new(value.span().start, value.span().end), inner, &place)
                }
                None => self.unknown(name, Span::new(span.start, span.end), &properties),
            }
        }
    }

    fn unknown(&mut self, name: &str, span: Span, known: &serde_json::Map<String, Json>) {
        let names: Vec<&str> = known.keys().map(String::as_str).collect();
        let former = former_key(name).filter(|now| names.contains(now));
        let help = match former.or_else(|| closest(name, names.iter().copied())) {
            Some(near) => did_you_mean(near),
            None => format!("what can stand here: {}", names.join(", ")),
        };
        self.problems
            .push(Diagnostic::error(Problem::Model, self.source, span, format!("unknown key `{name}`")).help(help));
    }

    fn value(&mut self, value: &DeValue<'_>, span: Span, schema: &Json, path: &str) {
        let schema = resolved(self.root, schema).clone();
        match value {
            DeValue::Table(table) if expects(&schema, "object") => self.table(table, &schema, path),
            DeValue::Array(items) if expects(&schema, "array") => {
                if let Some(inner) = element(&schema) {
                    for (i, item) in items.iter().enumerate() {
                        let place = format!("{path}.{i}");
                        let span = Span::new(item.span().start, item.span().end);
                        self.places.insert(place.clone(), span);
                        self.value(item.get_ref(), span, inner, &place);
                    }
                }
            }
            _ => {
                let found = match value {
                    DeValue::String(_) => "string",
                    DeValue::Integer(_) => "integer",
                    DeValue::Float(_) => "number",
                    DeValue::Boolean(_) => "boolean",
                    DeValue::Array(_) => "array",
                    DeValue::Table(_) => "object",
                    DeValue::Datetime(_) => "date",
                };
                if !expects(&schema, found) {
                    let key = path.rsplit('.').next().unwrap_or(path);
                    let message = format!("`{key}` is {}, not {}", describe(&schema), article(found));
                    self.problems.push(Diagnostic::error(Problem::Model, self.source, span, message));
                }
            }
        }
    }
}

fn describe(schema: &Json) -> String {
    let kinds: Vec<&str> = match schema.get("type") {
        Some(Json::String(one)) => vec![one],
        Some(Json::Array(several)) => several.iter().filter_map(Json::as_str).filter(|s| *s != "null").collect(),
        _ => Vec::new(),
    };
    kinds.into_iter().map(article).collect::<Vec<_>>().join(" or ")
}

fn article(kind: &str) -> String {
    match kind {
        "string" => "a text in quotes".into(),
        "boolean" => "true or false".into(),
        "integer" => "a whole number".into(),
        "array" => "a list".into(),
        "object" => "a section".into(),
        other => format!("a {other}"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn problems(text: &str) -> Vec<String> {
        match Document::parse("model.toml", text, PathBuf::new()) {
            Ok(_) => Vec::new(),
            Err(list) => list.iter().map(ToString::to_string).collect(),
        }
    }

    #[test]
    fn all_unknown_keys_are_reported_with_what_was_meant() {
        let text = "[model]\nnmae = 'x'\n[table.a]\nsource = 'a.csv'\nkee = 'id'\n[table.a.column.c]\nhiden = true\n[[relationship]]\nmany = 'a.b'\none = 'b.c'\nspair = true\n";
        assert_eq!(
            problems(text),
            [
                "model.toml:2:1: unknown key `nmae` (did you mean `name`?)",
                "model.toml:5:1: unknown key `kee` (did you mean `key`?)",
                "model.toml:7:1: unknown key `hiden` (did you mean `hidden`?)",
                "model.toml:11:1: unknown key `spair` (did you mean `spare`?)",
            ]
        );
    }

    #[test]
    fn a_key_that_was_renamed_is_told_by_its_new_name() {
        for (text, now) in [
            ("[model]\nmemory = '1 GiB'\n", "memory_limit"),
            ("[table.a]\nsource = 'a.csv'\nbad_rows = 1\n", "max_bad_rows"),
            ("[table.a.column.c]\ncyclic = true\n", "day_kind"),
            ("[outline.front]\nlist = []\n", "shortlist"),
        ] {
            let found = problems(text);
            assert!(found.iter().any(|p| p.contains(&format!("did you mean `{now}`?"))), "{found:?}");
        }
    }

    #[test]
    fn a_section_that_stands_twice_is_shown_with_the_first_one() {
        let text = "[measure.m]\nformula = '1'\n[measure.n]\nformula = '1'\n[measure.m]\nformula = '2'\n";
        let expected = "model.toml:5:10: `m` stands twice (the first one is in line 1; give one of them another name)";
        assert_eq!(problems(text), [expected]);
    }

    #[test]
    fn values_of_the_wrong_kind_are_reported() {
        assert_eq!(
            problems("[table.a]\nkey = 3\nmax_bad_rows = 'none'\n[measure.m]\nformula = ['x']\n"),
            [
                "model.toml:2:7: `key` is a text in quotes, not a whole number",
                "model.toml:3:16: `max_bad_rows` is a whole number, not a text in quotes",
                "model.toml:5:11: `formula` is a text in quotes, not a list",
            ]
        );
        assert_eq!(problems("[measure.m]\nlabel = 'x'\n").len(), 1, "a missing formula");
        assert!(problems("[table.a\n")[0].starts_with("model.toml:1:"));
    }
}
