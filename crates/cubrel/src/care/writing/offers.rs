//! What can be written at a place of a text.

use serde_json::Value as Json;

use super::literals::Begun;
use super::text::ModelText;
use crate::care::hints::HINTS;
use crate::insight::complete::{
    Completion, CompletionKind, NamedThing, call_at, complete, complete_among, fitting, of_table,
};
use crate::{FunctionEntry, Model};
use cubrel_formula::words::quote_name;
use cubrel_model::keys::{element, expects, resolved, said_of, schema};
use cubrel_model::paths::{quote_part, separated};
use cubrel_model::texts::{TextKind, text_kind};
use cubrel_model::toml_places::ScalarPlace;
use cubrel_value::units;

impl ModelText {
    /// What can be written at a place; the likeliest first. What a completion replaces is of this text, and its text has the
    /// escapes that the quotes around it ask for.
    pub fn completions(&self, at: usize) -> Vec<Completion> {
        let Some(before) = self.text().get(..at) else { return Vec::new() };
        if let Some((scalar, begun)) = self.begun(at) {
            return self.in_quotes(&scalar.path, &begun);
        }
        let line = &before[before.rfind('\n').map_or(0, |end| end + 1)..];
        if line.contains('#') {
            return Vec::new();
        }
        if let Some(header) = line.trim_start().strip_prefix('[') {
            return self.in_header(header, at);
        }
        let Some((inner, line)) = inline(line) else { return Vec::new() };
        // What is between the lines of a list is no key.
        if inner.is_empty() && !line.contains('=') && self.is_in_entry(at) {
            return Vec::new();
        }
        let section = [self.section(at), inner].concat();
        match line.split_once('=') {
            Some((key, value)) => self.in_value(section, key, value.trim_start(), at),
            None => self.in_key(section, line.trim_start(), at),
        }
    }

    /// The text in quotes that a place is in.
    pub(super) fn begun(&self, at: usize) -> Option<(&ScalarPlace, Begun)> {
        let scalars = self.places.scalars.iter();
        scalars.filter_map(|scalar| Some((scalar, Begun::at(self.text(), scalar, at)?))).next()
    }

    /// The function or aggregate whose arguments a place is in, and which of them, from 0.
    pub fn call_at(&self, at: usize) -> Option<(FunctionEntry, usize)> {
        let (_, begun) = self.begun(at).filter(|(scalar, _)| text_kind(&scalar.path).is_formula())?;
        call_at(&begun.text, begun.text.len())
    }

    fn is_in_entry(&self, at: usize) -> bool {
        self.places.entries.iter().any(|e| (e.value.start as usize..e.value.end as usize).contains(&at))
    }

    fn in_quotes(&self, path: &[String], begun: &Begun) -> Vec<Completion> {
        let typed = begun.text.as_str();
        let all = 0..typed.len();
        let formula = |further| complete_among(&self.catalog, typed, typed.len(), further);
        let found = match text_kind(path) {
            TextKind::Formula(own) => formula(own.map_or_else(Vec::new, |table| self.columns(table, quote_name))),
            TextKind::Reading => {
                formula(vec![("shown".to_string(), CompletionKind::Word, "the figure it is shown with".to_string())])
            }
            TextKind::Query | TextKind::Axis => complete(&self.catalog, typed, typed.len()),
            TextKind::QueryOrName => formula(self.queries()),
            TextKind::ColumnOf(table) => fitting(self.columns(table, str::to_string), typed, &all),
            TextKind::ColumnPath => fitting(self.paths(), typed, &all),
            TextKind::Table => fitting(self.tables(), typed, &all),
            TextKind::Lens => fitting(self.lenses(), typed, &all),
            TextKind::Listed => fitting(self.listed(), typed, &all),
            TextKind::Hint => {
                let names = HINTS.iter().map(|name| (name.to_string(), CompletionKind::Value, String::new()));
                fitting(names.collect(), typed, &all)
            }
            TextKind::Plain => {
                let schema = schema();
                fitting(said_of(schema, path).map_or_else(Vec::new, |said| choices(schema, said)), typed, &all)
            }
        };
        let in_file = |found: Completion| Completion {
            replaces: begun.place(&found.replaces),
            text: begun.written(&found.text),
            ..found
        };
        found.into_iter().map(in_file).collect()
    }

    /// The keys of the section that a place is in.
    fn section(&self, at: usize) -> Vec<String> {
        let mut before = self.places.headers.iter().filter(|h| h.span.end as usize <= at);
        before.next_back().map(|h| h.path.clone()).unwrap_or_default()
    }

    fn in_key(&self, section: Vec<String>, typed: &str, at: usize) -> Vec<Completion> {
        let (keys, last) = dotted(typed);
        let path = [section, keys].concat();
        let schema = schema();
        let is_there = |name: &str| {
            let taken = |key: &cubrel_model::toml_places::KeyPlace| {
                key.path.len() == path.len() + 1
                    && key.path.starts_with(&path)
                    && key.path[path.len()] == name
                    && !(key.span.start as usize..=key.span.end as usize).contains(&at)
            };
            self.places.keys.iter().any(taken)
        };
        let all = self.keys(schema, &path).into_iter().filter(|(name, ..)| !is_there(name)).collect();
        fitting(written(all), last.trim_start_matches(['"', '\'']), &(at - last.len()..at))
    }

    fn in_header(&self, typed: &str, at: usize) -> Vec<Completion> {
        let (is_list, typed) = typed.strip_prefix('[').map_or((false, typed), |rest| (true, rest));
        if typed.contains(']') {
            return Vec::new();
        }
        let (path, last) = dotted(typed);
        let schema = schema();
        let fits = |name: &str| {
            let path: Vec<String> = path.iter().cloned().chain([name.to_string()]).collect();
            let Some(said) = said_of(schema, &path).map(|said| resolved(schema, said)) else { return false };
            let holds_tables = |said: &Json| expects(resolved(schema, said), "object");
            match element(said) {
                Some(inner) => is_list && holds_tables(inner),
                None => !is_list && said.get("type").is_some() && holds_tables(said),
            }
        };
        let all = self.keys(schema, &path).into_iter().filter(|(name, ..)| fits(name)).collect();
        fitting(written(all), last.trim_start_matches(['"', '\'']), &(at - last.len()..at))
    }

    /// What can stand behind an equals sign without quotes before it.
    fn in_value(&self, section: Vec<String>, key: &str, typed: &str, at: usize) -> Vec<Completion> {
        if typed.contains(|c: char| !c.is_alphanumeric()) {
            return Vec::new();
        }
        let (keys, last) = dotted(key.trim());
        let path = [section, keys, vec![last.to_string()]].concat();
        let schema = schema();
        let Some(said) = said_of(schema, &path) else { return Vec::new() };
        let all = if expects(resolved(schema, said), "boolean") && !expects(resolved(schema, said), "object") {
            let value = |name: &str| (name.to_string(), CompletionKind::Value, String::new());
            vec![value("true"), value("false")]
        } else {
            let quoted = |(name, kind, about)| (format!("\"{name}\""), kind, about);
            choices(schema, said).into_iter().map(quoted).collect()
        };
        fitting(all, typed, &(at - typed.len()..at))
    }

    /// The keys that can stand under others, and the names that the model has for them.
    fn keys(&self, schema: &Json, path: &[String]) -> Vec<NamedThing> {
        let Some(said) = said_of(schema, path).map(|said| resolved(schema, said)) else { return Vec::new() };
        let meaning = |key: &Json| {
            let own = key.get("description").or_else(|| resolved(schema, key).get("description"));
            own.and_then(Json::as_str).unwrap_or_default().to_string()
        };
        let named = said.get("properties").and_then(Json::as_object).into_iter().flatten();
        let known = named.map(|(name, key)| (name.clone(), CompletionKind::Key, meaning(key)));
        let path: Vec<&str> = path.iter().map(String::as_str).collect();
        let of_model = match path.as_slice() {
            ["table"] | ["role", _, "rows"] => self.tables(),
            ["table", table, "column"] => self.columns(table, str::to_string),
            _ => Vec::new(),
        };
        known.chain(of_model).collect()
    }

    fn tables(&self) -> Vec<NamedThing> {
        let about = |t: &crate::catalog::CatalogTable| units::counted(t.rows, "row");
        self.catalog.tables.iter().map(|t| (t.name.clone(), CompletionKind::Table, about(t))).collect()
    }

    fn columns(&self, table: &str, written: impl Fn(&str) -> String) -> Vec<NamedThing> {
        let known = self.catalog.tables.iter().find(|t| t.name == table);
        let all = known.map(of_table).unwrap_or_default();
        let columns = all.into_iter().filter(|(_, kind, _)| *kind == CompletionKind::Column);
        let columns = columns.chain(self.dropped_columns(table));
        columns.map(|(name, kind, about)| (written(&name), kind, about)).collect()
    }

    /// Columns that can be named while a table is loaded, and are not there afterwards.
    fn dropped_columns(&self, table: &str) -> Vec<NamedThing> {
        let document = self.document.as_ref().or_else(|| self.model.as_ref().map(Model::document));
        let section = document.and_then(|document| document.file.table.get(table));
        let columns = section.into_iter().flat_map(|section| &section.column);
        let dropped = columns.filter(|(_, said)| said.keep == Some(false));
        dropped.map(|(name, _)| (name.clone(), CompletionKind::Column, "read, then dropped".to_string())).collect()
    }

    fn paths(&self) -> Vec<NamedThing> {
        let of = |t: &crate::catalog::CatalogTable| {
            let table = quote_part(&t.name, true);
            let written = move |name: &str| format!("{table}.{}", quote_part(name, false));
            self.columns(&t.name, written)
        };
        self.catalog.tables.iter().flat_map(of).collect()
    }

    fn lenses(&self) -> Vec<NamedThing> {
        let lenses = self.catalog.lenses.iter();
        lenses.map(|l| (l.name.clone(), CompletionKind::Lens, l.readings.join(", "))).collect()
    }

    fn queries(&self) -> Vec<NamedThing> {
        let queries = self.catalog.queries.iter();
        queries.map(|q| (q.name.clone(), CompletionKind::Query, q.note.clone().unwrap_or_default())).collect()
    }

    fn listed(&self) -> Vec<NamedThing> {
        let about = |ty: &Option<String>| ty.clone().unwrap_or_default();
        let measures = self.catalog.measures.iter().map(|m| (m.name.clone(), CompletionKind::Measure, about(&m.ty)));
        let hierarchies = self.catalog.tables.iter().flat_map(|t| &t.hierarchies);
        let hierarchies = hierarchies.map(|h| (h.name.clone(), CompletionKind::Hierarchy, h.levels.join(" → ")));
        let named = self.paths().into_iter().chain(measures).chain(self.tables()).chain(hierarchies);
        named.chain(self.lenses()).collect()
    }
}

/// The texts that a key can have, where there are few.
fn choices(root: &Json, said: &Json) -> Vec<NamedThing> {
    let of = |form: &Json| {
        let meaning = form.get("description").and_then(Json::as_str).unwrap_or_default();
        Some((form.get("const")?.as_str()?.to_string(), CompletionKind::Value, meaning.to_string()))
    };
    let forms = resolved(root, said).get("oneOf").and_then(Json::as_array);
    forms.into_iter().flatten().filter_map(of).collect()
}

/// Names as TOML has them for keys.
fn written(all: Vec<NamedThing>) -> Vec<NamedThing> {
    let key = |(name, kind, about): NamedThing| (crate::care::toml_edits::key(&name), kind, about);
    all.into_iter().map(key).collect()
}

/// The keys before the last point, without their quotes, and what comes after it as it is.
fn dotted(typed: &str) -> (Vec<String>, &str) {
    let parts = separated(typed, '.');
    let (last, first) = parts.split_last().map_or(("", &[][..]), |(last, first)| (*last, first));
    (first.iter().map(|key| key.trim_matches(['"', '\'']).to_string()).collect(), last)
}

/// The keys of the inline tables that are still open at the end of a line, and what comes after the last brace or comma;
/// nothing where a list of such tables is open, or quotes.
fn inline(line: &str) -> Option<(Vec<String>, &str)> {
    let mut open: Vec<Option<Vec<String>>> = Vec::new();
    let (mut start, mut quote) = (0, None);
    for (i, c) in line.char_indices() {
        match (quote, c) {
            (Some(begun), _) if c == begun => quote = None,
            (Some(_), _) => {}
            (None, '\'' | '"') => quote = Some(c),
            (None, '{') => {
                let key = line[start..i].trim().strip_suffix('=').map(|key| dotted(key.trim()));
                open.push(key.map(|(keys, last)| [keys, vec![last.to_string()]].concat()));
                start = i + 1;
            }
            (None, '}') => drop(open.pop()),
            (None, ',') if !open.is_empty() => start = i + 1,
            (None, _) => {}
        }
    }
    let rest = if open.is_empty() { line } else { &line[start..] };
    let keys: Vec<Vec<String>> = open.into_iter().collect::<Option<_>>()?;
    quote.is_none().then(|| (keys.concat(), rest))
}
