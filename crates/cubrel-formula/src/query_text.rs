//! Queries as parts that can be put together, read and printed without knowing a model.

use std::fmt;
use std::str::FromStr;

use serde::Serialize;

use super::ast;
use super::lexer::{self, TokenKind};
use super::parser;
use super::source::{Diagnostic, Source, Span};
use super::words::quote_name;

/// A query by its parts: each is a text in the language, so that a program can add, replace and reorder them without
/// pasting strings together. It says nothing about whether a model has what the parts name.
///
/// ```
/// # fn main() -> Result<(), Vec<cubrel::Diagnostic>> {
/// use cubrel::QueryText;
///
/// let query = QueryText::grid(["net_revenue"]).by("port.region").filter("calendar.year = 2031").totals();
/// assert_eq!(query.to_string(), "grid net_revenue by port.region where calendar.year = 2031 totals");
/// let mut again: QueryText = query.to_string().parse()?;
/// assert_eq!(again, query);
/// again.by.push("route.name".into());
/// assert!(again.to_string().contains("by port.region, route.name where"));
/// # Ok(())
/// # }
/// ```
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct QueryText {
    /// Measures that only this query knows: their names and formulas.
    pub measures: Vec<(String, String)>,
    /// Whether it asks for rows of a table, and not for a grid.
    pub records: bool,
    /// What is shown.
    pub items: Vec<QueryItem>,
    /// The row axes, outer first: columns, hierarchies, lenses.
    pub by: Vec<String>,
    /// The column axes.
    pub split: Vec<String>,
    /// What holds of all that is counted.
    pub filter: Option<String>,
    /// Which lines show.
    pub having: Option<String>,
    /// What lines are ordered by, with true for descending.
    pub order: Vec<(String, bool)>,
    /// How many lines.
    pub limit: Option<QueryLimit>,
    /// Whether there are totals.
    pub totals: bool,
    /// Whether combinations show that have nothing in them.
    pub with_empty: bool,
}

/// One thing that a query shows.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct QueryItem {
    /// Its formula, or a measure's name.
    pub formula: String,
    /// What it is called.
    pub heading: Option<String>,
    /// A pattern for its values.
    pub format: Option<String>,
}

/// How many lines a query shows.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct QueryLimit {
    /// So many.
    pub count: usize,
    /// For each combination of these row axes.
    pub within: Vec<String>,
    /// Whether the rest is shown as one line.
    pub others: bool,
}

impl<T: Into<String>> From<T> for QueryItem {
    fn from(formula: T) -> QueryItem {
        QueryItem { formula: formula.into(), ..QueryItem::default() }
    }
}

impl QueryItem {
    /// By another name.
    #[must_use]
    pub fn called(mut self, heading: impl Into<String>) -> QueryItem {
        self.heading = Some(heading.into());
        self
    }

    /// With a pattern for its values.
    #[must_use]
    pub fn format(mut self, pattern: impl Into<String>) -> QueryItem {
        self.format = Some(pattern.into());
        self
    }
}

impl QueryText {
    /// A grid of some items.
    pub fn grid<I: Into<QueryItem>>(items: impl IntoIterator<Item = I>) -> QueryText {
        QueryText { items: items.into_iter().map(Into::into).collect(), ..QueryText::default() }
    }

    /// Rows of a table: these columns and formulas of each.
    pub fn records<I: Into<QueryItem>>(items: impl IntoIterator<Item = I>) -> QueryText {
        QueryText { records: true, ..QueryText::grid(items) }
    }

    /// With one more row axis.
    #[must_use]
    pub fn by(mut self, axis: impl Into<String>) -> QueryText {
        self.by.push(axis.into());
        self
    }

    /// With one more column axis.
    #[must_use]
    pub fn split(mut self, axis: impl Into<String>) -> QueryText {
        self.split.push(axis.into());
        self
    }

    /// With one more condition on all that is counted.
    #[must_use]
    pub fn filter(mut self, condition: impl Into<String>) -> QueryText {
        let more = condition.into();
        self.filter = Some(match self.filter.take() {
            Some(before) => format!("({before}) and ({more})"),
            None => more,
        });
        self
    }

    /// Ordered by one more formula; the first counts most.
    #[must_use]
    pub fn order(mut self, formula: impl Into<String>, descending: bool) -> QueryText {
        self.order.push((formula.into(), descending));
        self
    }

    /// Only so many lines.
    #[must_use]
    pub fn limit(mut self, count: usize) -> QueryText {
        self.limit = Some(QueryLimit { count, ..QueryLimit::default() });
        self
    }

    /// With totals.
    #[must_use]
    pub fn totals(mut self) -> QueryText {
        self.totals = true;
        self
    }
}

/// Reads a query.
impl FromStr for QueryText {
    type Err = Vec<Diagnostic>;

    fn from_str(text: &str) -> Result<QueryText, Vec<Diagnostic>> {
        let source = Source::new("query", text);
        let (query, problems) = parser::query(&source);
        match query.filter(|_| problems.is_empty()) {
            Some(query) => Ok(parts(&source, &query)),
            None => Err(problems),
        }
    }
}

fn parts(source: &Source, query: &ast::QueryTree) -> QueryText {
    let text = |span: Span| source.slice(span).trim().to_string();
    let targets = |list: &[ast::Target]| list.iter().map(|t| text(t.span())).collect();
    QueryText {
        measures: query.measures.iter().map(|(name, e)| (name.text.clone(), text(e.span))).collect(),
        records: query.records,
        items: query
            .items
            .iter()
            .map(|item| QueryItem {
                formula: text(item.expr.span),
                heading: item.heading.as_ref().map(|name| name.text.clone()),
                format: item.format.clone(),
            })
            .collect(),
        by: targets(&query.by),
        split: targets(&query.split),
        filter: query.filter.as_ref().map(|e| text(e.span)),
        having: query.having.as_ref().map(|e| text(e.span)),
        order: query.order.iter().map(|(e, descending)| (text(e.span), *descending)).collect(),
        limit: query.limit.as_ref().map(|limit| QueryLimit {
            count: limit.count,
            within: targets(&limit.within),
            others: limit.others.is_some(),
        }),
        totals: query.totals,
        with_empty: query.with_empty,
    }
}

/// As one writes it, in one line where no part has several.
impl fmt::Display for QueryText {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (name, formula) in &self.measures {
            write!(f, "measure {} = {formula}; ", quote_name(name))?;
        }
        f.write_str(if self.records { "records " } else { "grid " })?;
        for (i, item) in self.items.iter().enumerate() {
            write!(f, "{}{}", if i > 0 { ", " } else { "" }, item.formula)?;
            if let Some(heading) = &item.heading {
                write!(f, " as {}", quote_name(heading))?;
            }
            if let Some(pattern) = &item.format {
                write!(f, " format '{}'", pattern.replace('\'', "''"))?;
            }
        }
        let mut clause = |word: &str, parts: &[String]| match parts {
            [] => Ok(()),
            parts => write!(f, " {word} {}", parts.join(", ")),
        };
        clause("by", &self.by)?;
        clause("split by", &self.split)?;
        clause("where", self.filter.as_slice())?;
        clause("having", self.having.as_slice())?;
        let order = self.order.iter().map(|(e, descending)| if *descending { format!("{e} desc") } else { e.clone() });
        clause("order by", &order.collect::<Vec<_>>())?;
        if let Some(limit) = &self.limit {
            write!(f, " limit {}", limit.count)?;
            if !limit.within.is_empty() {
                write!(f, " within {}", limit.within.join(", "))?;
            }
            f.write_str(if limit.others { " others" } else { "" })?;
        }
        f.write_str(if self.totals { " totals" } else { "" })?;
        f.write_str(if self.with_empty { " with empty" } else { "" })
    }
}

/// The parameters that a text names, without their `$`, each once, in the order in which they first stand there.
///
/// ```
/// let text = "grid net where calendar.year in ($years) and port.region = $region -- not $this";
/// assert_eq!(cubrel::parameters(text), ["years", "region"]);
/// ```
pub fn parameters(text: &str) -> Vec<String> {
    let (tokens, _) = lexer::tokens(&Source::new("query", text));
    let mut names: Vec<String> = Vec::new();
    for token in tokens {
        if let TokenKind::Parameter(name) = token.kind
            && !names.contains(&name)
        {
            names.push(name);
        }
    }
    names
}

#[cfg(test)]
mod tests {
    use super::*;

    const TEXTS: &[&str] = &[
        "grid net",
        "grid net, sum(booking.net) as \"a heading\" format '0.0''x' by port.region, route",
        "measure x = net * 2; measure \"a b\" = x + 1; grid x, \"a b\" by t.c split by calendar.year totals",
        "grid (net + 1) * 2 as twice where t.a = 'it''s' and (t.b > 1 or t.c is null) having net > 0",
        "grid net given (without all, trailing(3 months)) by t.a order by net desc, t.a limit 5 within t.a others with empty",
        "records t.a, t.b as \"select\" where t.a in (1, 2) order by t.b desc limit 3",
        "grid (let x = net; x * x) by \"odd name\".\"select\"",
    ];

    #[test]
    fn what_is_printed_is_what_was_read() {
        for text in TEXTS {
            let read: QueryText = text.parse().unwrap_or_else(|e| panic!("{text}: {e:?}"));
            let printed = read.to_string();
            let again: QueryText = printed.parse().unwrap_or_else(|e| panic!("{text} as {printed}: {e:?}"));
            assert_eq!(again, read, "{text} as {printed}");
            assert_eq!(again.to_string(), printed, "{text}");
        }
        assert!("grid".parse::<QueryText>().is_err() && "bookings".parse::<QueryText>().is_err());
    }

    #[test]
    fn parts_are_put_together() {
        let query = QueryText::grid([QueryItem::from("a").called("order"), "b".into()])
            .filter("x or y")
            .filter("z")
            .order("b", true)
            .limit(3);
        assert_eq!(query.to_string(), "grid a as \"order\", b where (x or y) and (z) order by b desc limit 3");
    }
}
