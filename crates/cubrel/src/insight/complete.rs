//! What can be written next, and what a name is: what a shell, an editor and a server share.
//!
//! Only the catalogue is asked, so that nobody is offered what they may not see; the text need not be a query yet.

use std::ops::Range;

use serde::Serialize;

use crate::handle::catalog::{Catalog, CatalogTable};
use cubrel_formula::functions::{self, FunctionEntry};
use cubrel_formula::words::{self, quote_name};
use cubrel_value::units;

/// What a [`Completion`] is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum CompletionKind {
    /// A measure.
    Measure,
    /// A column.
    Column,
    /// A hierarchy.
    Hierarchy,
    /// A table.
    Table,
    /// A lens.
    Lens,
    /// A function.
    Function,
    /// An aggregate.
    Aggregate,
    /// A word of the language.
    Word,
    /// A saved query.
    Query,
    /// A key of a model's file.
    Key,
    /// A value of such a key.
    Value,
}

/// Something that can be written at a place.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct Completion {
    /// What to write, quoted where that is needed.
    pub text: String,
    /// What it is.
    pub kind: CompletionKind,
    /// A word or two about it: a type, a signature, what people call it.
    pub about: String,
    /// The bytes of the text that it takes the place of.
    pub replaces: Range<usize>,
}

/// What can be written in a query or a formula at a place, a byte offset; the likeliest first.
///
/// ```
/// # fn main() -> Result<(), cubrel::Error> {
/// use cubrel::{Model, Type, Value, complete};
///
/// let model = Model::builder()
///     .rows("booking", &[("net", Type::Int), ("nights", Type::Int)], &[vec![Value::Int(10), Value::Int(2)]])
///     .measure("net_revenue", "sum(booking.net)")
///     .build()?;
/// let texts = |text: &str| -> Vec<String> {
///     complete(&model.catalog(), text, text.len()).into_iter().map(|found| found.text).collect()
/// };
/// assert_eq!(texts("grid net_rev"), ["net_revenue"]);
/// assert_eq!(texts("grid sum(booking.n"), ["net", "nights"]);
/// # Ok(())
/// # }
/// ```
pub fn complete(catalog: &Catalog, text: &str, cursor: usize) -> Vec<Completion> {
    complete_among(catalog, text, cursor, Vec::new())
}

/// The same where further names can stand, written as they have to be: they come first.
pub(crate) fn complete_among(
    catalog: &Catalog,
    text: &str,
    cursor: usize,
    further: Vec<NamedThing>,
) -> Vec<Completion> {
    let place = TextBefore::at(text, cursor);
    if place.in_literal {
        return Vec::new();
    }
    let quoted = |(name, kind, about): NamedThing| {
        let written = match kind {
            CompletionKind::Word | CompletionKind::Function | CompletionKind::Aggregate => name,
            // Whole names of columns are quoted part by part already; after a point no name needs it for being a word.
            CompletionKind::Column if place.table.is_none() => name,
            _ => quote_name(&name),
        };
        (written, kind, about)
    };
    let all: Vec<NamedThing> = match &place.table {
        Some(table) => catalog.tables.iter().find(|t| t.name == *table).map_or_else(Vec::new, of_table),
        None => names(catalog, place.on_axis),
    };
    let all = further.into_iter().chain(all.into_iter().map(quoted)).collect();
    fitting(all, &place.typed, &place.replaces)
}

/// What fits something that is typed already: what begins with it before what only holds it.
pub(crate) fn fitting(all: Vec<NamedThing>, typed: &str, replaces: &Range<usize>) -> Vec<Completion> {
    let wanted = typed.to_lowercase();
    let begins = |name: &str| name.to_lowercase().trim_start_matches('"').starts_with(&wanted);
    let holds = |name: &str| !wanted.is_empty() && name.to_lowercase().contains(&wanted);
    let (first, rest): (Vec<NamedThing>, Vec<NamedThing>) = all.into_iter().partition(|(name, ..)| begins(name));
    let then = rest.into_iter().filter(|(name, ..)| holds(name));
    let made = |(text, kind, about)| Completion { text, kind, about, replaces: replaces.clone() };
    first.into_iter().chain(then).map(made).collect()
}

/// The function or aggregate whose arguments a place is in, a byte offset, and which of them, from 0.
///
/// ```
/// let (entry, argument) = cubrel::call_at("grid round(sum(booking.net), ", 29).unwrap();
/// assert_eq!((entry.name, argument), ("round", 1));
/// ```
pub fn call_at(text: &str, cursor: usize) -> Option<(FunctionEntry, usize)> {
    let before = text.get(..cursor)?;
    // Of each parenthesis that is still open: where it stands, and how many commas came after it.
    let mut open: Vec<(usize, usize)> = Vec::new();
    let mut quote = None;
    for (i, c) in before.char_indices() {
        match (quote, c) {
            (Some(begun), _) if c == begun => quote = None,
            (Some(_), _) => {}
            (None, '\'' | '"') => quote = Some(c),
            (None, '(') => open.push((i, 0)),
            (None, ')') => drop(open.pop()),
            (None, ',') => open.last_mut().into_iter().for_each(|(_, commas)| *commas += 1),
            (None, _) => {}
        }
    }
    // Parentheses that no name stands before put something together.
    open.iter().rev().find_map(|(at, commas)| {
        let name = before[..*at].trim_end();
        let name = name[name_start(name)..].to_lowercase();
        functions::functions().find(|entry| entry.name == name).map(|entry| (entry, *commas))
    })
}

/// What a name is, in a few lines: a measure with its formula and note, a column, a table, a function with its
/// signature; nothing where nothing has the name.
pub fn describe(catalog: &Catalog, name: &str) -> Option<String> {
    let with = |label: &Option<String>| label.as_ref().map_or_else(String::new, |label| format!(" ({label})"));
    let note = |note: &Option<String>| note.as_ref().map_or_else(String::new, |note| format!("\n{note}"));
    if let Some(m) = catalog.measures.iter().find(|m| m.name == name) {
        let ty = m.ty.as_deref().unwrap_or("wrong");
        return Some(format!("measure {}{}: {ty}\n{}{}", m.name, with(&m.label), m.formula, note(&m.note)));
    }
    if let Some((table, column)) = name.split_once('.') {
        let column = catalog.tables.iter().find(|t| t.name == table)?.columns.iter().find(|c| c.name == column)?;
        let formula = column.formula.as_ref().map_or_else(String::new, |formula| format!("\n{formula}"));
        let label = with(&column.label);
        return Some(format!("column {name}{label}: {}{formula}{}", column.ty, note(&column.note)));
    }
    if let Some(t) = catalog.tables.iter().find(|t| t.name == name) {
        let (rows, columns) = (units::counted(t.rows, "row"), units::counted(t.columns.len() as u64, "column"));
        return Some(format!("table {}{}: {rows}, {columns}{}", t.name, with(&t.label), note(&t.note)));
    }
    if let Some(lens) = catalog.lenses.iter().find(|l| l.name == name) {
        return Some(format!("lens {}{}: {}", lens.name, with(&lens.label), lens.readings.join(", ")));
    }
    if let Some(f) = functions::find(name) {
        return Some(format!("{}\n{}", f.signature, f.meaning));
    }
    functions::AGGREGATES.iter().find(|a| a.name == name).map(|a| format!("{}\n{}", a.signature, a.meaning))
}

/// A name, what has it, and a word or two about that.
pub(crate) type NamedThing = (String, CompletionKind, String);

/// The columns and hierarchies of a table, by their names alone.
pub(crate) fn of_table(table: &CatalogTable) -> Vec<NamedThing> {
    let columns = table.columns.iter().map(|c| {
        let about = c.label.as_ref().map_or_else(|| c.ty.clone(), |label| format!("{}, {label}", c.ty));
        (c.name.clone(), CompletionKind::Column, about)
    });
    let hierarchies =
        table.hierarchies.iter().map(|h| (h.name.clone(), CompletionKind::Hierarchy, h.levels.join(" → ")));
    columns.chain(hierarchies).collect()
}

/// Everything that can stand where no table is named; columns first where an axis is wanted.
fn names(catalog: &Catalog, on_axis: bool) -> Vec<NamedThing> {
    let about = |label: &Option<String>, otherwise: String| label.clone().unwrap_or(otherwise);
    let shown = catalog.tables.iter().filter(|t| !t.hidden);
    let columns = shown.clone().flat_map(|t| {
        let columns = t.columns.iter().filter(|c| !c.hidden);
        columns.map(|c| {
            let name = format!("{}.{}", quote_name(&t.name), quote_name(&c.name));
            (name, CompletionKind::Column, about(&c.label, c.ty.clone()))
        })
    });
    let hierarchies = shown.clone().flat_map(|t| &t.hierarchies);
    let hierarchies = hierarchies.map(|h| (h.name.clone(), CompletionKind::Hierarchy, h.levels.join(" → ")));
    let tables = shown.map(|t| (t.name.clone(), CompletionKind::Table, about(&t.label, units::counted(t.rows, "row"))));
    let lenses = catalog.lenses.iter().map(|l| (l.name.clone(), CompletionKind::Lens, about(&l.label, String::new())));
    let measures = catalog
        .measures
        .iter()
        .filter(|m| !m.hidden)
        .map(|m| (m.name.clone(), CompletionKind::Measure, about(&m.label, m.ty.clone().unwrap_or_default())));
    let functions =
        functions::all().map(|(_, f)| (f.name.to_string(), CompletionKind::Function, f.signature.to_string()));
    let aggregates =
        functions::AGGREGATES.iter().map(|a| (a.name.to_string(), CompletionKind::Aggregate, a.signature.to_string()));
    let words = words::all().map(|word| (word.to_string(), CompletionKind::Word, String::new()));
    if on_axis {
        return columns.chain(hierarchies).chain(lenses).chain(tables).chain(words).collect();
    }
    measures
        .chain(columns)
        .chain(hierarchies)
        .chain(tables)
        .chain(lenses)
        .chain(aggregates)
        .chain(functions)
        .chain(words)
        .collect()
}

/// What stands before a place.
struct TextBefore {
    /// The part of a name that is there already.
    typed: String,
    replaces: Range<usize>,
    /// The table whose name and a point stand before it.
    table: Option<String>,
    /// Whether it is inside a text or a comment.
    in_literal: bool,
    /// Whether an axis is wanted.
    on_axis: bool,
}

impl TextBefore {
    fn at(text: &str, cursor: usize) -> TextBefore {
        let mut end = cursor.min(text.len());
        while !text.is_char_boundary(end) {
            end -= 1;
        }
        let before = &text[..end];
        let start = name_start(before);
        let typed = before[start..].trim_matches('"').to_string();
        let table =
            before[..start].strip_suffix('.').map(|rest| rest[name_start(rest)..].trim_matches('"').to_string());
        TextBefore {
            typed,
            replaces: start..end,
            table,
            in_literal: in_literal(before),
            on_axis: on_axis(&before[..start]),
        }
    }
}

/// Where the name begins that a text ends with, in quotes or not.
fn name_start(text: &str) -> usize {
    let quotes = text.matches('"').count();
    let quoted = match text.ends_with('"') {
        true if quotes >= 2 => text[..text.len() - 1].rfind('"'),
        _ if quotes % 2 == 1 => text.rfind('"'),
        _ => None,
    };
    let plain = text.rfind(|c: char| !c.is_alphanumeric() && c != '_');
    let after = |at: usize| at + text[at..].chars().next().map_or(0, char::len_utf8);
    quoted.unwrap_or_else(|| plain.map_or(0, after))
}

fn in_literal(text: &str) -> bool {
    let line = text.rsplit('\n').next().unwrap_or_default();
    text.matches('\'').count() % 2 == 1 || line.contains("--")
}

/// Whether the last clause that begins before a place lists axes.
fn on_axis(text: &str) -> bool {
    let lower = text.to_lowercase();
    let words = lower.split(|c: char| !c.is_alphanumeric() && c != '_').filter(|word| !word.is_empty());
    let clauses = ["grid", "records", "by", "split", "where", "having", "order", "limit", "within", "given", "totals"];
    let mut last = [""; 2];
    words.filter(|word| clauses.contains(word)).for_each(|word| last = [last[1], word]);
    match last {
        ["order", "by"] => false,
        [_, clause] => matches!(clause, "by" | "within"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Model, Type, Value};

    fn found(text: &str) -> Vec<String> {
        let model = Model::builder()
            .rows(
                "route",
                &[("name", Type::Text), ("miles at sea", Type::Int), ("order", Type::Int)],
                &[vec![Value::text("Ness"), Value::Int(9), Value::Int(1)]],
            )
            .measure("miles", "sum(route.\"miles at sea\")")
            .build()
            .unwrap();
        let (text, cursor) = text.split_once('|').map_or((text, text.len()), |(before, _)| (text, before.len()));
        let text = text.replace('|', "");
        let all = complete(&model.catalog(), &text, cursor);
        assert!(all.iter().all(|c| c.replaces.end == cursor && text.is_char_boundary(c.replaces.start)), "{text}");
        all.into_iter().map(|c| c.text).collect()
    }

    #[test]
    fn names_are_offered_where_they_can_stand() {
        for (text, expected) in [
            ("grid mil", &["miles", "route.\"miles at sea\""][..]),
            ("grid sum(route.", &["name", "\"miles at sea\"", "\"order\""]),
            ("grid sum(route.\"mil", &["\"miles at sea\""]),
            ("grid miles by na", &["route.name"]),
            ("grid mi|les by x", &["miles", "min", "route.\"miles at sea\""]),
            ("grid miles where route.name = 'mi", &[]),
            ("grid nothing.x", &[]),
            ("-- mil", &[]),
        ] {
            let all = found(text);
            let shown: Vec<&str> =
                all.iter().map(String::as_str).filter(|t| expected.is_empty() || expected.contains(t)).collect();
            assert!(expected.iter().all(|e| shown.contains(e)), "{text}: {all:?}");
            assert!(!expected.is_empty() || all.is_empty(), "{text}: {all:?}");
        }
        assert!(found("grid miles by ")[0].starts_with("route."), "columns come first where an axis is wanted");
        assert_eq!(found("grid ")[0], "miles", "and measures where a figure is");
        for cursor in 0..40 {
            let text = "grid \"ö.ä\" 'é' by route.\"näme\" -- ü";
            complete(&Model::builder().build().unwrap().catalog(), text, cursor);
        }
    }
}
