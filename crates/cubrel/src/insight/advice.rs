//! Formulas that give the same and cost less: written in another way, tried on the same cells, and measured. What does not
//! hold in every cell and total, or is hardly faster, is not shown.

use crate::Grid;
use std::collections::BTreeSet;
use std::sync::Arc;

use serde::Serialize;

use super::formula_comparison::{FormulaPair, compare_formulas};
use super::profile::{Profile, items, profile};
use crate::{Error, Model, QueryOptions};
use cubrel_formula::ast::{Aggregate, BinaryOp, EditKind, Expr, ExprKind, Name, QueryTree, Target};
use cubrel_formula::parser;
use cubrel_formula::source::{Source, Span};
use cubrel_formula::words::quote_name;
use cubrel_model::file::RelationshipSection;
use cubrel_value::{Matching, Value};

/// So much is shown, and so much is tried for it.
const MOST: usize = 6;
const MOST_TRIED: usize = 16;
/// Runs of each.
const RUNS: usize = 3;
/// Less is not worth the trouble: so many times as fast,
const GAIN: f64 = 1.2;
/// and so many milliseconds less.
const SAVED_MS: f64 = 0.2;

/// Runs a query once cold and `runs` times warm.
///
/// # Errors
/// When it cannot be planned or run.
pub fn profile_with_advice(
    model: &Model,
    text: &str,
    query_options: &QueryOptions,
    runs: usize,
) -> Result<(Profile, Grid), Error> {
    let (mut profile, grid) = profile(model, text, query_options, runs)?;
    profile.advice.extend(faster_formulas(model, text, query_options)?.iter().map(|faster| faster.text()));
    Ok((profile, grid))
}

impl Model {
    /// How long a query takes, and why: once cold and so many times warm, with what could be done about it. Formulas of
    /// other forms are tried, and shown where they give the same faster.
    ///
    /// # Errors
    /// When it cannot be planned or run.
    ///
    /// ```
    /// # fn main() -> Result<(), cubrel::Error> {
    /// use cubrel::{Model, QueryOptions, Type, Value};
    ///
    /// let model = Model::builder().rows("booking", &[("net", Type::Int)], &[vec![Value::Int(10)]]).build()?;
    /// let (profile, grid) = model.profile("grid sum(booking.net)", &QueryOptions::default(), 3)?;
    /// assert_eq!((profile.warm.runs, grid.lines.len()), (3, 1));
    /// # Ok(())
    /// # }
    /// ```
    pub fn profile(&self, text: &str, options: &QueryOptions, runs: usize) -> Result<(Profile, Grid), Error> {
        profile_with_advice(self, text, options, runs)
    }

    /// The items of a query, each by itself: what it is called and what it costs, in the order of the query.
    ///
    /// # Errors
    /// When it cannot be planned or run.
    pub fn profile_each(
        &self,
        text: &str,
        options: &QueryOptions,
        runs: usize,
    ) -> Result<Vec<(String, Profile)>, Error> {
        let each = |(name, single): (String, String)| Ok((name, profile(self, &single, options, runs)?.0));
        items(text)?.into_iter().map(each).collect()
    }
}

/// A formula that can be written so that it costs less.
#[derive(Clone, Debug, Serialize)]
pub struct FasterFormula {
    /// The measure, or the item as it is written.
    pub formula: String,
    /// What to write instead.
    pub instead: String,
    /// Why that is the same.
    pub why: String,
    /// The cells and totals in which it was.
    pub cells: usize,
    /// What it took.
    pub before_ms: f64,
    /// What the other way takes.
    pub after_ms: f64,
}

impl FasterFormula {
    /// In a sentence.
    pub fn text(&self) -> String {
        let cells = match self.cells {
            1 => "the only cell".to_string(),
            n => format!("all {n} cells and totals"),
        };
        format!(
            "`{}`: write `{}` instead; {}. Tried: the same in {cells} of this grid, {:.2} ms in place of {:.2}.",
            self.formula,
            self.instead.split_whitespace().collect::<Vec<_>>().join(" "),
            self.why,
            self.after_ms,
            self.before_ms
        )
    }
}

/// What could be written otherwise in the items of a grid and the measures that they use, each tried on the grid's cells.
///
/// # Errors
/// When the query cannot be planned or run.
pub fn faster_formulas(model: &Model, text: &str, options: &QueryOptions) -> Result<Vec<FasterFormula>, Error> {
    let source = Source::new("query", text);
    let (query, problems) = parser::query(&source);
    let Some(query) = query.filter(|q| problems.is_empty() && !q.records && q.measures.is_empty()) else {
        return Ok(Vec::new());
    };
    let targets: Vec<&str> = query.by.iter().chain(&query.split).map(|t| source.slice(t.span())).collect();
    let filter = query.filter.as_ref().map_or("", |f| source.slice(f.span));
    let mut found = Vec::new();
    let mut tried = 0;
    for (name, formula) in formulas(model, &source, &query) {
        for (instead, why) in rewritings(model, &formula) {
            if found.len() == MOST || tried == MOST_TRIED {
                return Ok(found);
            }
            tried += 1;
            let pair = FormulaPair {
                measure: formula.clone(),
                with: instead.clone(),
                by: targets.join(", "),
                filter: filter.to_string(),
            };
            let tried = match compare_formulas(model, &pair, options, RUNS) {
                Err(Error::Cancelled) => return Err(Error::Cancelled),
                // What cannot be computed is no advice.
                Err(_) => continue,
                Ok(tried) => tried,
            };
            let (before_ms, after_ms) = (tried.measure.warm.median_ms, tried.with.warm.median_ms);
            if tried.differing == 0 && tried.speedup >= GAIN && before_ms - after_ms >= SAVED_MS {
                let (formula, cells) = (name.clone(), tried.cells);
                found.push(FasterFormula { formula, instead, why: why.to_string(), cells, before_ms, after_ms });
            }
        }
    }
    Ok(found)
}

/// The formulas of a query: its items, and all measures that they use.
fn formulas(model: &Model, source: &Source, query: &QueryTree) -> Vec<(String, String)> {
    let measures = &model.document().file.measure;
    let mut found: Vec<(String, String)> = Vec::new();
    let mut known = BTreeSet::new();
    let mut open: Vec<Expr> = Vec::new();
    for item in &query.items {
        if !matches!(item.expr.kind, ExprKind::Name(_)) {
            let text = source.slice(item.expr.span).to_string();
            found.push((text.clone(), text));
        }
        open.push(item.expr.clone());
    }
    while let Some(expr) = open.pop() {
        expr.walk(&mut |e| {
            let ExprKind::Name(name) = &e.kind else { return };
            let Some(measure) = measures.get(&name.text).filter(|_| known.insert(name.text.clone())) else { return };
            found.push((name.text.clone(), measure.formula.clone()));
            open.push(parser::formula(&Source::new("measure", &measure.formula)).0);
        });
    }
    found
}

/// A formula with one part of it written otherwise, and why that should be the same.
fn rewritings(model: &Model, formula: &str) -> Vec<(String, &'static str)> {
    let source: Arc<Source> = Source::new("formula", formula);
    let (expr, problems) = parser::formula(&source);
    let mut found = Vec::new();
    if !problems.is_empty() {
        return found;
    }
    expr.walk(&mut |e| {
        let parts = [
            unguarded(e).map(|inner| (format!("({})", source.slice(inner.span)), "division is safe by itself")),
            row_wise(&source, e).map(|text| (text, "an aggregate goes through the rows of its table by itself")),
            unfolded(e).map(|inner| (format!("({})", source.slice(inner.span)), "a sum of sums is one sum")),
            counted(model, e).map(|table| (format!("rows({table})"), "a key has as many values as there are rows")),
        ];
        found.extend(parts.into_iter().flatten().map(|(part, why)| (replaced(formula, e.span, &part), why)));
        let targets = [
            by_key(model, e).map(|target| (target, "one column says which row it is")),
            by_values(e).map(|target| (target, "rows with the same values give the same")),
        ];
        found.extend(targets.into_iter().flatten().map(|((span, part), why)| (replaced(formula, span, &part), why)));
        for (span, key) in described(model, e) {
            found.push((replaced(formula, span, &key), "the filter reaches the rows from the table that it points at"));
        }
    });
    found
}

fn replaced(text: &str, span: Span, part: &str) -> String {
    if span.range() == (0..text.trim_end().len()) {
        // The whole formula needs no parentheses.
        let inner = part.strip_prefix('(').and_then(|p| p.strip_suffix(')'));
        return inner.unwrap_or(part).to_string();
    }
    format!("{}{part}{}", &text[..span.range().start], &text[span.range().end..])
}

/// `if(b = 0, null, a / b)` and the like: the quotient.
fn unguarded(e: &Expr) -> Option<&Expr> {
    let (a, b) = match &e.kind {
        ExprKind::Call(name, args) if name.text == "if" => match args.as_slice() {
            [_, a, b] => (a, Some(b)),
            _ => return None,
        },
        ExprKind::Case(None, arms, otherwise) if arms.len() == 1 => (&arms[0].1, otherwise.as_deref()),
        _ => return None,
    };
    let is_null = |e: &Expr| matches!(e.kind, ExprKind::Literal(Value::Null));
    let kept = match b {
        None => a,
        Some(b) if is_null(a) => b,
        Some(b) if is_null(b) => a,
        Some(_) => return None,
    };
    matches!(kept.kind, ExprKind::Binary(BinaryOp::Div, ..)).then_some(kept)
}

/// The aggregate of an `agg(x per table)` without a `where`, and the table.
fn per_table(e: &Expr) -> Option<(&Aggregate, &str)> {
    let ExprKind::Aggregate(aggregate) = &e.kind else { return None };
    let per = aggregate.per.as_ref().filter(|per| per.filter.is_none() && per.of.is_none())?;
    match per.targets.as_slice() {
        [Target::Name(table)] if aggregate.args.len() == 1 && !aggregate.distinct => Some((aggregate, &table.text)),
        _ => None,
    }
}

/// `sum(sum(t.a) * single(t.b) per t)` as `sum(t.a * t.b)`.
fn row_wise(source: &Source, e: &Expr) -> Option<String> {
    let (aggregate, table) = per_table(e)?;
    let body = &aggregate.args[0];
    let mut inner: Vec<(Span, Span)> = Vec::new();
    let mut plain = true;
    body.walk_where(&mut |e| match &e.kind {
        ExprKind::Aggregate(a) => {
            let known = ["sum", "avg", "min", "max", "single"].contains(&a.name.text.as_str());
            let column = |e: &Expr| matches!(&e.kind, ExprKind::Column(t, _) if t.text == table);
            match a.args.as_slice() {
                [only] if known && a.per.is_none() && !a.distinct && column(only) => inner.push((e.span, only.span)),
                _ => plain = false,
            }
            false
        }
        ExprKind::Name(_) | ExprKind::Given(..) | ExprKind::Via(..) | ExprKind::BothWays(..) | ExprKind::Let(..) => {
            plain = false;
            false
        }
        _ => true,
    });
    if !plain || inner.is_empty() {
        return None;
    }
    // Branches are not visited in the order in which they are written.
    inner.sort_by_key(|(whole, _)| whole.range().start);
    let (mut text, mut at) = (String::new(), body.span.range().start);
    for (whole, column) in inner {
        text += source.slice(Span::new(at, whole.range().start));
        text += source.slice(column);
        at = whole.range().end;
    }
    text += source.slice(Span::new(at, body.span.range().end));
    Some(format!("{}({text})", aggregate.name.text))
}

/// `sum(x per table)`: x.
fn unfolded(e: &Expr) -> Option<&Expr> {
    let (aggregate, _) = per_table(e)?;
    (aggregate.name.text == "sum").then(|| &aggregate.args[0])
}

/// `avg(x per t)`: the key of `t` in place of the whole row.
fn by_key(model: &Model, e: &Expr) -> Option<(Span, String)> {
    let target = table_iterated(e)?;
    let key = model.document().file.table.get(&target.text)?.key.as_ref()?;
    Some((target.span, format!("{}.{}", quote_name(&target.text), quote_name(key))))
}

/// `max(x per t)` whose `x` looks only at some columns of the row: these in place of the whole row. Of a smallest or
/// largest value it does not matter how often it comes.
fn by_values(e: &Expr) -> Option<(Span, String)> {
    let target = table_iterated(e)?;
    let ExprKind::Aggregate(aggregate) = &e.kind else { return None };
    let (mut columns, mut aggregated) = (Vec::new(), false);
    let mut look = |e: &Expr| match &e.kind {
        ExprKind::Column(table, column) if table.text == target.text => {
            let name = format!("{}.{}", quote_name(&table.text), quote_name(&column.text));
            if !columns.contains(&name) {
                columns.push(name);
            }
            false
        }
        // What is aggregated depends on which rows there are.
        ExprKind::Name(_) | ExprKind::Aggregate(_) => {
            aggregated = true;
            false
        }
        _ => true,
    };
    let filter = aggregate.per.as_ref().and_then(|per| per.filter.as_deref());
    aggregate.args.iter().chain(filter).for_each(|e| e.walk_where(&mut look));
    let extreme = ["min", "max"].contains(&aggregate.name.text.as_str());
    (extreme && !aggregated && !columns.is_empty()).then(|| (target.span, columns.join(", ")))
}

/// The table whose rows an aggregate goes through one by one.
fn table_iterated(e: &Expr) -> Option<&Name> {
    let ExprKind::Aggregate(aggregate) = &e.kind else { return None };
    match aggregate.per.as_ref()?.targets.as_slice() {
        [Target::Name(table)] if aggregate.args.len() == 1 => Some(table),
        _ => None,
    }
}

/// In the predicates of a `given`, columns that point at another table, and the key that they point at.
fn described(model: &Model, e: &Expr) -> Vec<(Span, String)> {
    let ExprKind::Given(_, edits) = &e.kind else { return Vec::new() };
    let mut found = Vec::new();
    for edit in edits {
        let EditKind::Narrow { predicate, .. } = &edit.kind else { continue };
        predicate.walk(&mut |e| {
            let ExprKind::Column(table, column) = &e.kind else { return };
            let many = format!("{}.{}", table.text, column.text);
            let points =
                |r: &&RelationshipSection| !r.spare && r.matching == Matching::Exact && r.many.list() == [many.clone()];
            if let Some(relationship) = model.document().file.relationship.iter().find(points)
                && let [one] = relationship.one.list()
            {
                found.push((e.span, one.clone()));
            }
        });
    }
    found
}

/// `count(distinct t.key)`: the table.
fn counted<'e>(model: &Model, e: &'e Expr) -> Option<&'e str> {
    let ExprKind::Aggregate(a) = &e.kind else { return None };
    let (true, "count", [Expr { kind: ExprKind::Column(table, column), .. }]) =
        (a.distinct && a.per.is_none(), a.name.text.as_str(), a.args.as_slice())
    else {
        return None;
    };
    let section = model.document().file.table.get(&table.text)?;
    (section.key.as_deref() == Some(column.text.as_str())).then_some(table.text.as_str())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn parts_are_written_otherwise_where_they_stand() {
        let model = Model::builder().build().unwrap_or_else(|e| panic!("{e}"));
        let cases = [
            ("if(b = 0, null, a / b)", vec!["a / b"]),
            ("1 - case when b <> 0 then a / b end", vec!["1 - (a / b)"]),
            ("if(b = 0, 0, a / b)", vec![]),
            ("sum(net per route) * 2", vec!["(net) * 2"]),
            ("sum(sum(t.a) * single(t.b) per t)", vec!["sum(t.a * t.b)", "sum(t.a) * single(t.b)"]),
            (
                "sum(if(single(t.a) = 0, null, sum(t.b)) per t)",
                vec!["sum(if(t.a = 0, null, t.b))", "if(single(t.a) = 0, null, sum(t.b))"],
            ),
            ("max(min(t.a) - 1 per t)", vec!["max(t.a - 1)"]),
            ("max(t.a - t.b per t where t.c > 1)", vec!["max(t.a - t.b per t.a, t.b, t.c where t.c > 1)"]),
            ("sum(sum(u.a) per t where t.b > 1)", vec![]),
            ("avg(net per route)", vec![]),
        ];
        for (formula, expected) in cases {
            let found: Vec<String> = rewritings(&model, formula).into_iter().map(|(text, _)| text).collect();
            assert_eq!(found, expected, "{formula}");
        }
    }
}
