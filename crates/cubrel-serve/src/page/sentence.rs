//! A question as a sentence of parts, and what becomes of it when a part is changed.

use cubrel::catalog::Catalog;
use cubrel::{QueryItem, QueryText, quote_name, quote_text};

/// A part of a question that is a list.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Part {
    /// What is shown.
    Items,
    /// The row axes.
    By,
    /// The column axes.
    Split,
}

impl Part {
    /// All of them, as they stand in the sentence.
    pub const ALL: [Part; 3] = [Part::Items, Part::By, Part::Split];

    /// Its name in addresses.
    pub fn name(self) -> &'static str {
        match self {
            Part::Items => "items",
            Part::By => "by",
            Part::Split => "split",
        }
    }

    /// What stands before it in the sentence.
    pub fn word(self) -> &'static str {
        match self {
            Part::Items => "show",
            Part::By => "by",
            Part::Split => "split by",
        }
    }

    /// The part of a name.
    pub fn named(name: &str) -> Option<Part> {
        Part::ALL.into_iter().find(|part| part.name() == name)
    }

    /// What a question has in it, as the language writes it.
    pub fn of(self, query: &QueryText) -> Vec<String> {
        match self {
            Part::Items => query.items.iter().map(|item| item.formula.clone()).collect(),
            Part::By => query.by.clone(),
            Part::Split => query.split.clone(),
        }
    }
}

/// One condition of a question, as far as the page can show it by itself.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Condition {
    /// As the language writes it.
    pub text: String,
    /// The column and its values, where it is a list of them.
    pub list: Option<(String, Vec<String>)>,
}

/// What holds, taken apart where `and` stands outside of everything.
pub fn conditions(filter: &str) -> Vec<Condition> {
    let (mut parts, mut start, mut depth, mut quote) = (Vec::new(), 0, 0i32, None);
    let bytes = filter.as_bytes();
    let mut at = 0;
    let is_edge = |at: Option<&u8>| at.is_none_or(|b| !b.is_ascii_alphanumeric() && *b != b'_' && *b < 0x80);
    let mut between = false;
    while at < bytes.len() {
        let here = bytes[at];
        match (quote, here) {
            (Some(q), _) if here == q => quote = None,
            (Some(_), _) => {}
            (None, b'\'' | b'"') => quote = Some(here),
            (None, b'(') => depth += 1,
            (None, b')') => depth -= 1,
            _ => {}
        }
        let word = |w: &str| {
            let before = at.checked_sub(1).and_then(|i| bytes.get(i));
            let there = bytes[at..].get(..w.len()).is_some_and(|b| b.eq_ignore_ascii_case(w.as_bytes()));
            there && is_edge(before) && is_edge(bytes.get(at + w.len()))
        };
        if quote.is_none() && depth == 0 {
            if word("or") || word("not") || word("let") || word("case") {
                // Whoever writes these means the whole.
                return vec![condition(filter.trim())];
            }
            between |= word("between");
            if word("and") {
                if !std::mem::take(&mut between) {
                    parts.push(filter[start..at].trim());
                    start = at + 3;
                }
                at += 2;
            }
        }
        at += 1;
    }
    parts.push(filter[start..].trim());
    parts.into_iter().filter(|part| !part.is_empty()).map(condition).collect()
}

/// A condition, and the list that it is, where it is one.
fn condition(text: &str) -> Condition {
    let list = || {
        let (column, rest) = column_at_front(text)?;
        let rest = rest.trim();
        if let Some(value) = rest.strip_prefix('=') {
            return Some((column, vec![literal(value.trim())?]));
        }
        let inner = rest.strip_prefix("in")?.trim().strip_prefix('(')?.strip_suffix(')')?;
        let values = literals(inner)?;
        Some((column, values))
    };
    Condition { text: text.to_string(), list: list() }
}

/// `table.column` at the front of a text, and what follows it.
fn column_at_front(text: &str) -> Option<(String, &str)> {
    let name = |text: &str| -> Option<usize> {
        match text.as_bytes().first()? {
            b'"' => text[1..].find('"').map(|end| end + 2),
            _ => {
                let end = text.find(|c: char| !c.is_alphanumeric() && c != '_').unwrap_or(text.len());
                (end > 0).then_some(end)
            }
        }
    };
    let table = name(text)?;
    let rest = text[table..].strip_prefix('.')?;
    let end = table + 1 + name(rest)?;
    Some((text[..end].to_string(), &text[end..]))
}

/// A literal as the language writes it, if a text is just one.
fn literal(text: &str) -> Option<String> {
    let is_text = text.len() >= 2
        && text.starts_with('\'')
        && text.ends_with('\'')
        && text[1..text.len() - 1].replace("''", "").find('\'').is_none();
    let is_plain = !text.is_empty() && text.bytes().all(|b| b.is_ascii_digit() || matches!(b, b'.' | b'-'))
        || matches!(text, "true" | "false");
    (is_text || is_plain).then(|| text.to_string())
}

/// Literals with commas between.
fn literals(text: &str) -> Option<Vec<String>> {
    let (mut values, mut start, mut quoted) = (Vec::new(), 0, false);
    for (at, byte) in text.bytes().enumerate() {
        quoted ^= byte == b'\'';
        if byte == b',' && !quoted {
            values.push(literal(text[start..at].trim())?);
            start = at + 1;
        }
    }
    values.push(literal(text[start..].trim())?);
    Some(values)
}

/// A literal without its quotes, for people.
pub fn shown(literal: &str) -> String {
    match literal.strip_prefix('\'').and_then(|t| t.strip_suffix('\'')) {
        Some(inner) => inner.replace("''", "'"),
        None => literal.to_string(),
    }
}

/// What is changed about a question.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Change {
    /// A part has just these, in this order.
    Set(Part, Vec<String>),
    /// One more, at the end.
    Add(Part, String),
    /// One less.
    Drop(Part, String),
    /// One place further to the front.
    Earlier(Part, String),
    /// A column has one of these values; of none, whatever value.
    Among(String, Vec<String>),
    /// A condition less.
    Without(String),
    /// With totals or without.
    Totals(bool),
    /// Ordered by an item, the largest first or last; or as axes are.
    Order(Option<(String, bool)>),
    /// So many lines, and whether the rest is one more; or all.
    Limit(Option<(usize, bool)>),
}

impl Change {
    /// The question after it.
    pub fn made(self, mut query: QueryText) -> QueryText {
        match self {
            Change::Set(part, list) => set(&mut query, part, list),
            Change::Add(part, one) => {
                let mut list = part.of(&query);
                if !list.contains(&one) {
                    list.push(one);
                }
                set(&mut query, part, list);
            }
            Change::Drop(part, one) => {
                let list = part.of(&query).into_iter().filter(|other| *other != one).collect();
                set(&mut query, part, list);
            }
            Change::Earlier(part, one) => {
                let mut list = part.of(&query);
                if let Some(at) = list.iter().position(|other| *other == one).filter(|at| *at > 0) {
                    list.swap(at - 1, at);
                }
                set(&mut query, part, list);
            }
            Change::Among(column, values) => {
                let own = |c: &Condition| c.list.as_ref().is_some_and(|(of, _)| *of == column);
                let mut kept: Vec<String> = conditions(query.filter.as_deref().unwrap_or_default())
                    .into_iter()
                    .filter(|c| !own(c))
                    .map(|c| c.text)
                    .collect();
                match values.as_slice() {
                    [] => {}
                    [one] => kept.push(format!("{column} = {one}")),
                    several => kept.push(format!("{column} in ({})", several.join(", "))),
                }
                query.filter = joined(kept);
            }
            Change::Without(text) => {
                let kept = conditions(query.filter.as_deref().unwrap_or_default());
                query.filter = joined(kept.into_iter().map(|c| c.text).filter(|t| *t != text).collect());
            }
            Change::Totals(totals) => query.totals = totals,
            Change::Order(by) => query.order = by.into_iter().collect(),
            Change::Limit(limit) => {
                query.limit = None;
                if let Some((count, others)) = limit {
                    query = query.limit(count);
                    query.limit.iter_mut().for_each(|limit| limit.others = others);
                }
            }
        }
        query
    }
}

fn joined(conditions: Vec<String>) -> Option<String> {
    (!conditions.is_empty()).then(|| conditions.join(" and "))
}

fn set(query: &mut QueryText, part: Part, list: Vec<String>) {
    match part {
        // An item keeps its heading and format.
        Part::Items => {
            let known = std::mem::take(&mut query.items);
            let item = |formula: String| {
                known.iter().find(|item| item.formula == formula).cloned().unwrap_or_else(|| QueryItem::from(formula))
            };
            query.items = list.into_iter().map(item).collect();
            // What is no longer shown orders nothing.
            let items = Part::Items.of(query);
            query.order.retain(|(formula, _)| items.contains(formula) || query.by.contains(formula));
        }
        Part::By => {
            query.by = list;
            let axes = query.by.clone();
            query.split.retain(|axis| !axes.contains(axis));
        }
        Part::Split => {
            query.split = list;
            let axes = query.split.clone();
            query.by.retain(|axis| !axes.contains(axis));
        }
    }
}

/// A name as people read it: `booked_on` is `Booked on`.
pub fn spaced(name: &str) -> String {
    let text = name.replace('_', " ");
    let mut chars = text.chars();
    chars.next().map_or(String::new(), |c| c.to_uppercase().chain(chars).collect())
}

/// What can be chosen.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Choice {
    /// As the language writes it.
    pub text: String,
    /// As people read it.
    pub label: String,
    /// Where it belongs.
    pub group: String,
    /// What it means.
    pub note: Option<String>,
}

/// The measures that a question can show.
pub fn measures(catalog: &Catalog) -> Vec<Choice> {
    let shown = catalog.measures.iter().filter(|m| !m.hidden && m.wrong.is_none());
    let choice = |m: &cubrel::catalog::CatalogMeasure| Choice {
        text: quote_name(&m.name),
        label: m.label.clone().unwrap_or_else(|| spaced(&m.name)),
        group: m.group.clone().unwrap_or_default(),
        note: m.note.clone(),
    };
    shown.map(choice).collect()
}

/// What a question can be split by: columns, hierarchies, lenses.
pub fn axes(catalog: &Catalog) -> Vec<Choice> {
    let mut all = Vec::new();
    for table in catalog.tables.iter().filter(|t| !t.hidden) {
        let group = table.label.clone().unwrap_or_else(|| spaced(&table.name));
        for h in &table.hierarchies {
            let levels = h.levels.iter().map(|l| spaced(l)).collect::<Vec<_>>().join(" › ");
            let label = format!("{} ({levels})", spaced(&h.name));
            all.push(Choice { text: quote_name(&h.name), label, group: group.clone(), note: None });
        }
        for c in table.columns.iter().filter(|c| !c.hidden) {
            let text = format!("{}.{}", quote_name(&table.name), quote_name(&c.name));
            let own = c.label.clone().unwrap_or_else(|| if c.name == "name" { group.clone() } else { spaced(&c.name) });
            all.push(Choice { text, label: own, group: group.clone(), note: c.note.clone() });
        }
    }
    for lens in &catalog.lenses {
        let label = lens.label.clone().unwrap_or_else(|| spaced(&lens.name));
        all.push(Choice { text: quote_name(&lens.name), label, group: "Lenses".into(), note: None });
    }
    all
}

/// What people read for a part of a question.
pub fn label(choices: &[Choice], text: &str) -> String {
    choices.iter().find(|choice| choice.text == text).map_or_else(|| text.to_string(), |choice| choice.label.clone())
}

/// A value as the language writes it.
pub fn literal_of(value: &cubrel::Value) -> Option<String> {
    match value {
        cubrel::Value::Null => None,
        cubrel::Value::Text(text) => Some(quote_text(text)),
        other => Some(other.to_string()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn texts(filter: &str) -> Vec<String> {
        conditions(filter).into_iter().map(|c| c.text).collect()
    }

    #[test]
    fn conditions_are_taken_apart_only_where_that_means_the_same() {
        for (filter, expected) in [
            ("a.b = 1", &["a.b = 1"][..]),
            ("a.b = 1 and c.d = 'x and y'", &["a.b = 1", "c.d = 'x and y'"]),
            ("a.b between 1 and 2 and c.d = 3", &["a.b between 1 and 2", "c.d = 3"]),
            ("(a.b = 1 and c.d = 2) and e.f = 3", &["(a.b = 1 and c.d = 2)", "e.f = 3"]),
            ("a.b = 1 or c.d = 2 and e.f = 3", &["a.b = 1 or c.d = 2 and e.f = 3"]),
            ("not a.b = 1 and c.d = 2", &["not a.b = 1 and c.d = 2"]),
            ("a.band = 1 and \"x and\".y = 2", &["a.band = 1", "\"x and\".y = 2"]),
            ("", &[]),
        ] {
            assert_eq!(texts(filter), expected, "{filter}");
        }
        let lists = |filter: &str| conditions(filter).into_iter().map(|c| c.list).collect::<Vec<_>>();
        let list =
            |column: &str, values: &[&str]| Some((column.to_string(), values.iter().map(|v| v.to_string()).collect()));
        assert_eq!(
            lists("a.b in ('x', 'it''s, so') and c.d = 2025"),
            [list("a.b", &["'x'", "'it''s, so'"]), list("c.d", &["2025"])]
        );
        assert_eq!(lists("a.b > 3 and a.b = c.d and f(a.b) = 1 and a.b = 'x' || 'y'"), [None, None, None, None]);
        assert_eq!(lists("\"my table\".\"a b\" = true"), [list("\"my table\".\"a b\"", &["true"])]);
    }

    #[test]
    fn every_change_leaves_a_question_that_can_be_read() {
        let start = "grid net as \"Net\", n by port.region, port.name split by c.year where c.year = 2025 and a.b > 1 order by net desc limit 3 others totals";
        let by = |list: &[&str]| list.iter().map(|s| s.to_string()).collect::<Vec<_>>();
        let cases = [
            (Change::Add(Part::Items, "m".into()), "grid net as Net, n, m by"),
            (
                Change::Drop(Part::Items, "net".into()),
                "grid n by port.region, port.name split by c.year where c.year = 2025 and a.b > 1 limit 3 others totals",
            ),
            (Change::Earlier(Part::By, "port.name".into()), "by port.name, port.region split"),
            (Change::Set(Part::Split, by(&["port.region"])), "by port.name split by port.region where"),
            (Change::Among("c.year".into(), by(&["2024", "2025"])), "where a.b > 1 and c.year in (2024, 2025) "),
            (Change::Among("c.year".into(), vec![]), "where a.b > 1 "),
            (Change::Without("a.b > 1".into()), "where c.year = 2025 "),
            (Change::Totals(false), "limit 3 others"),
            (Change::Order(None), "a.b > 1 limit 3"),
            (Change::Order(Some(("n".into(), false))), "order by n"),
            (Change::Limit(None), "net desc totals"),
            (Change::Limit(Some((10, false))), "limit 10 totals"),
        ];
        for (change, part) in cases {
            let text = change.clone().made(start.parse().unwrap()).to_string();
            assert!(text.contains(part), "{change:?}: {text}");
            let again: QueryText = text.parse().unwrap_or_else(|e| panic!("{text}: {e:?}"));
            assert_eq!(again.to_string(), text);
        }
    }
}
