//! Two formulas side by side: where their numbers differ, and what each costs.

use cubrel::formula_comparison::{Cost, DifferingCell, FormulaComparison, FormulaPair};

use super::profile::ms;
use super::sink::{Output, Tone};
use super::table::TextTable;
use super::text::{Align, bytes, count};
use crate::failure::Failure;

/// Below this the two are said to be equally fast.
const ALIKE: f64 = 1.1;

/// Shows what was found to a person.
pub fn show(pair: &FormulaPair, comparison: &FormulaComparison, out: &mut Output) -> Result<(), Failure> {
    let (tone, verdict) = verdict(comparison);
    let verdict = out.paint(tone, &verdict);
    out.text(&format!("{verdict}\n\n"))?;
    if !comparison.differences.is_empty() {
        differences(comparison).write(out)?;
        let more = comparison.differing - comparison.differences.len();
        out.text(&if more > 0 { format!("and {more} more\n\n") } else { "\n".to_string() })?;
    }
    costs(pair, comparison).write(out)
}

fn verdict(comparison: &FormulaComparison) -> (Tone, String) {
    let cells = match comparison.cells {
        1 => "the only cell".to_string(),
        n => format!("all {} cells, totals included", count(n as u64)),
    };
    if comparison.differing > 0 {
        let (differing, all) = (count(comparison.differing as u64), count(comparison.cells as u64));
        return (Tone::Alert, format!("numbers differ in {differing} of {all} cells, totals included"));
    }
    let times = match comparison.speedup {
        x if x >= ALIKE => format!("{x:.1} times as fast"),
        x if x <= 1.0 / ALIKE => format!("{:.1} times as slow", 1.0 / x),
        _ => "equally fast".to_string(),
    };
    (Tone::Total, format!("the same numbers in {cells}; {times}"))
}

fn differences(comparison: &FormulaComparison) -> TextTable {
    let mut table = TextTable::new(&[("cell", Align::Left), ("measure", Align::Right), ("with", Align::Right)]);
    let value = |v: &Option<String>| v.clone().unwrap_or_else(|| "(none)".into());
    for difference in &comparison.differences {
        table.row(vec![cell(difference), value(&difference.measure), value(&difference.with)]);
    }
    table
}

fn cell(difference: &DifferingCell) -> String {
    let at: Vec<String> = difference.at.iter().map(|(axis, value)| format!("{axis} = {value}")).collect();
    if at.is_empty() { "total".to_string() } else { at.join(", ") }
}

/// What each of them costs.
fn costs(pair: &FormulaPair, comparison: &FormulaComparison) -> TextTable {
    let mut table = TextTable::new(&[
        ("", Align::Left),
        ("warm ms", Align::Right),
        ("fastest", Align::Right),
        ("slowest", Align::Right),
        ("reads", Align::Right),
        ("rows read", Align::Right),
        ("bytes", Align::Right),
        ("formula", Align::Left),
    ]);
    for (name, formula, cost) in both(pair, comparison) {
        table.row(vec![
            name.to_string(),
            ms(cost.warm.median_ms),
            ms(cost.warm.min_ms),
            ms(cost.warm.max_ms),
            cost.reads.to_string(),
            count(cost.rows_read),
            bytes(cost.bytes_read),
            formula,
        ]);
    }
    table
}

/// What each of them costs, for scripts.
pub fn flat(pair: &FormulaPair, comparison: &FormulaComparison) -> TextTable {
    let heads =
        ["name", "formula", "median_ms", "min_ms", "max_ms", "reads", "rows_read", "bytes_read", "cells", "differing"];
    let align = |head| if matches!(head, "name" | "formula") { Align::Left } else { Align::Right };
    let mut table = TextTable::new(&heads.map(|head| (head, align(head))));
    for (name, formula, cost) in both(pair, comparison) {
        let mut row = vec![name.to_string(), formula];
        row.extend([cost.warm.median_ms, cost.warm.min_ms, cost.warm.max_ms].map(|x| x.to_string()));
        row.extend([cost.reads.to_string(), cost.rows_read.to_string(), cost.bytes_read.to_string()]);
        row.extend([comparison.cells.to_string(), comparison.differing.to_string()]);
        table.row(row);
    }
    table
}

fn both<'a>(pair: &'a FormulaPair, comparison: &'a FormulaComparison) -> [(&'static str, String, &'a Cost); 2] {
    let line = |formula: &str| formula.split_whitespace().collect::<Vec<_>>().join(" ");
    [("measure", line(&pair.measure), &comparison.measure), ("with", line(&pair.with), &comparison.with)]
}
