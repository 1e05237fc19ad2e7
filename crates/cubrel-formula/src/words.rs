//! Reserved words: a name that is one of these stands in double quotes, except after a dot.

use super::aggregate::AggregateKind;

/// Words of expressions.
const EXPRESSION: &[&str] = &[
    "and",
    "between",
    "case",
    "distinct",
    "else",
    "end",
    "false",
    "given",
    "in",
    "is",
    "let",
    "like",
    "not",
    "null",
    "of",
    "or",
    "per",
    "then",
    "true",
    "via",
    "when",
    "both_ways",
    "where",
];
/// Words of queries.
const QUERY: &[&str] = &[
    "as", "asc", "by", "desc", "empty", "format", "grid", "having", "limit", "measure", "order", "others", "records",
    "split", "totals", "with", "within",
];
/// Words of edits.
const EDIT: &[&str] = &[
    "all", "at_end", "at_start", "axes", "but", "instead", "on", "row", "shift", "so_far", "trailing", "whole",
    "without",
];
/// Sets and what asks the context, which are written as aggregates are.
const LIKE_AGGREGATES: &[&str] = &["bottom", "grouping", "narrowed", "rank", "top"];

/// The names of aggregates, and of what is written as they are.
pub fn aggregates() -> impl Iterator<Item = &'static str> {
    AggregateKind::ALL.iter().map(|kind| kind.name()).chain(LIKE_AGGREGATES.iter().copied())
}

/// All words of the language but the names of aggregates.
pub fn all() -> impl Iterator<Item = &'static str> {
    EXPRESSION.iter().chain(QUERY).chain(EDIT).copied()
}

/// Whether a bare word cannot be a name.
pub fn is_reserved(word: &str) -> bool {
    all().chain(aggregates()).any(|other| other == word)
}

/// What is written now where earlier drafts of the language had another word for an edit.
pub fn former_edit(word: &str) -> Option<&'static str> {
    match word {
        "lift" => Some("without …"),
        "leave" => Some("without all but …"),
        "preceding" => Some("whole(month, -1)"),
        "following" => Some("whole(month, 1)"),
        _ => None,
    }
}

/// A name as it is written in a formula: quoted where it must be.
pub fn quote_name(name: &str) -> String {
    let plain = name.starts_with(|c: char| c.is_alphabetic() || c == '_')
        && name.chars().all(|c| c.is_alphanumeric() || c == '_')
        && !is_reserved(name);
    if plain { name.to_string() } else { format!("\"{}\"", name.replace('"', "\"\"")) }
}

/// A text literal.
pub fn quote_text(text: &str) -> String {
    format!("'{}'", text.replace('\'', "''"))
}

/// How a figure is asked under other filters, for a word that stands behind it as if it did that by itself.
pub fn edit_behind(word: &str) -> Option<String> {
    let edit = match word {
        "so_far" | "whole" => format!("{word}(year)"),
        "trailing" => "trailing(12 months)".to_string(),
        "shift" | "over" => "shift(-1 year)".to_string(),
        "at_start" | "at_end" => word.to_string(),
        "instead" => "instead table.column = 'value'".to_string(),
        "without" => "without all".to_string(),
        "filter" | "where" => "table.column = 'value'".to_string(),
        _ => return None,
    };
    Some(format!("other filters stand in brackets behind `given`: `… given ({edit})`"))
}
