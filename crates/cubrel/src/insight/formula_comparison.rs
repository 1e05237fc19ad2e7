//! Two formulas for one figure: the same numbers in every cell, and what each costs.

use std::time::{Duration, Instant};

use serde::Serialize;

use super::profile::{Node, Warm, tree};
use crate::{Error, Grid, Model, Query, QueryOptions};
use cubrel_run::RunProfile;
use cubrel_value::Value;

/// Doubles are the same that agree to so many digits: sums come in another order.
const DIGITS: i32 = 9;
/// Cells that are shown where they differ.
const SHOWN: usize = 10;

/// What is compared.
#[derive(Clone, Debug, Default)]
pub struct FormulaPair {
    /// A measure, or any formula.
    pub measure: String,
    /// The formula to hold against it.
    pub with: String,
    /// The axes, as after `by`; none for the total alone.
    pub by: String,
    /// A filter, as after `where`; none for all.
    pub filter: String,
}

/// How two formulas compare.
#[derive(Clone, Debug, Serialize)]
pub struct FormulaComparison {
    /// Cells that were compare_formulas, totals included.
    pub cells: usize,
    /// In how many of them the numbers differ.
    pub differing: usize,
    /// The first of these.
    pub differences: Vec<DifferingCell>,
    /// The times of the measure.
    pub measure: Cost,
    /// The times of the other formula.
    pub with: Cost,
    /// How many times as fast the other formula is.
    pub speedup: f64,
}

/// A cell in which two formulas differ.
#[derive(Clone, Debug, Serialize)]
pub struct DifferingCell {
    /// The axes with their values; nothing for axes that are totalled.
    pub at: Vec<(String, String)>,
    /// What the measure gives; nothing for null.
    pub measure: Option<String>,
    /// What the other formula gives.
    pub with: Option<String>,
}

/// What a formula costs.
#[derive(Clone, Debug, Serialize)]
pub struct Cost {
    /// Its times.
    #[serde(flatten)]
    pub warm: Warm,
    /// How many reads it makes.
    pub reads: usize,
    /// Rows looked at in all of them.
    pub rows_read: u64,
    /// Bytes of packed codes.
    pub bytes_read: u64,
}

impl FormulaPair {
    fn query(&self, items: &str, totals: bool) -> String {
        let part = |word: &str, text: &str| {
            if text.trim().is_empty() { String::new() } else { format!("\n{word} {text}\n") }
        };
        let totals = if totals && !self.by.trim().is_empty() { "totals" } else { "" };
        format!("grid {items}{}{}{totals}", part("by", &self.by), part("where", &self.filter))
    }
}

impl Model {
    /// Holds two formulas against each other: every cell and every total, and `runs` runs of each in turn.
    ///
    /// # Errors
    /// When one of them cannot be planned or run.
    ///
    /// ```
    /// use cubrel::formula_comparison::FormulaPair;
    /// use cubrel::{Model, QueryOptions, Type, Value};
    ///
    /// let rows: Vec<Vec<Value>> = (0..100).map(|i| vec![Value::Int(i % 4), Value::Int(i)]).collect();
    /// let model = Model::builder()
    ///     .rows("sailing", &[("route", Type::Int), ("fuel", Type::Int)], &rows)
    ///     .measure("fuel", "sum(sailing.fuel)")
    ///     .build()?;
    /// let pair = FormulaPair {
    ///     measure: "fuel".into(),
    ///     with: "sum(fuel per sailing)".into(),
    ///     by: "sailing.route".into(),
    ///     ..FormulaPair::default()
    /// };
    /// let found = model.compare_formulas(&pair, &QueryOptions::default(), 3)?;
    /// assert_eq!((found.cells, found.differing), (5, 0));
    /// # Ok::<(), cubrel::Error>(())
    /// ```
    pub fn compare_formulas(
        &self,
        pair: &FormulaPair,
        options: &QueryOptions,
        runs: usize,
    ) -> Result<FormulaComparison, Error> {
        compare_formulas(self, pair, options, runs)
    }
}

/// As [`Model::compare_formulas`].
pub fn compare_formulas(
    model: &Model,
    pair: &FormulaPair,
    options: &QueryOptions,
    runs: usize,
) -> Result<FormulaComparison, Error> {
    let alone = |formula: &str| model.query_with(&pair.query(&format!("({formula}\n) as \"figure\""), false), options);
    let (measure, with) = (alone(&pair.measure)?, alone(&pair.with)?);
    let both = format!("({}\n) as \"measure\", ({}\n) as \"with\"", pair.measure, pair.with);
    let grid = model.query_with(&pair.query(&both, true), options)?.run()?;
    let (differing, differences) = differences(&grid);
    let (a, b) = in_turn(&measure, &with, options, runs)?;
    let speedup = a.warm.median_ms / b.warm.median_ms.max(1e-3);
    Ok(FormulaComparison { cells: grid.lines.len(), differing, differences, measure: a, with: b, speedup })
}

fn differences(grid: &Grid) -> (usize, Vec<DifferingCell>) {
    let axes = grid.columns.len() - 2;
    let text = |value: &Value| if value.is_null() { None } else { Some(value.to_string()) };
    let differing = grid.lines.iter().filter(|line| !same(&line.values[axes], &line.values[axes + 1]));
    let mut found = Vec::new();
    let mut count = 0;
    for line in differing {
        count += 1;
        if found.len() < SHOWN {
            let shown = (0..axes).filter(|axis| !line.totalled.contains(axis));
            let at = shown.map(|a| (grid.columns[a].name.clone(), text(&line.values[a]).unwrap_or("(none)".into())));
            let (measure, with) = (text(&line.values[axes]), text(&line.values[axes + 1]));
            found.push(DifferingCell { at: at.collect(), measure, with });
        }
    }
    (count, found)
}

/// Exact values have to be equal; where a double is among them, they have to agree to nine digits.
pub(crate) fn same(a: &Value, b: &Value) -> bool {
    match (a, b) {
        (Value::Float(_), _) | (_, Value::Float(_)) => match (a.as_f64(), b.as_f64()) {
            (Some(x), Some(y)) => x == y || (x - y).abs() <= 10f64.powi(-DIGITS) * x.abs().max(y.abs()),
            _ => a.is_null() && b.is_null(),
        },
        _ => a == b,
    }
}

/// Runs both, one after the other, so that what else the machine does meets them alike.
fn in_turn(a: &Query, b: &Query, options: &QueryOptions, runs: usize) -> Result<(Cost, Cost), Error> {
    let run = |query: &Query| -> Result<(Duration, RunProfile), Error> {
        let start = Instant::now();
        let (_, profile) = query.run_with(&options.run_options())?;
        Ok((start.elapsed(), profile))
    };
    let mut done = (Vec::new(), Vec::new());
    run(a)?;
    run(b)?;
    for _ in 0..runs.max(1) {
        done.0.push(run(a)?);
        done.1.push(run(b)?);
    }
    Ok((cost(a, done.0), cost(b, done.1)))
}

fn cost(query: &Query, mut done: Vec<(Duration, RunProfile)>) -> Cost {
    done.sort_by_key(|(time, _)| *time);
    let warm = Warm::of(&done.iter().map(|(time, _)| *time).collect::<Vec<_>>());
    let mut cost = Cost { warm, reads: 0, rows_read: 0, bytes_read: 0 };
    fn add(node: &Node, cost: &mut Cost) {
        if let Some(read) = &node.read {
            cost.reads += 1;
            cost.rows_read += read.rows_read;
            cost.bytes_read += read.bytes_read;
        }
        node.parts.iter().for_each(|part| add(part, cost));
    }
    let nodes = tree(query.model().schema(), query, &done[done.len() / 2].1);
    nodes.iter().for_each(|node| add(node, &mut cost));
    cost
}
