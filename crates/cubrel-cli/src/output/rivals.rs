//! Two formulas side by side: where their numbers differ, and what each costs.

use cubrel::insight::rival::{Contest, Difference, Rival};

use super::text::{Align, TextTable, bytes, count};
use super::times::ms;
use super::{Output, Tone};
use crate::commands::Failure;

/// A formula is shown up to so many characters.
const FORMULA: usize = 60;
/// Below this the two are said to be equally fast.
const ALIKE: f64 = 1.1;

/// Shows what was found to a person.
pub fn show(contest: &Contest, rival: &Rival, out: &mut Output) -> Result<(), Failure> {
    let (tone, verdict) = verdict(rival);
    let verdict = out.paint(tone, &verdict);
    out.text(&format!("{verdict}\n\n"))?;
    if !rival.differences.is_empty() {
        differences(rival).write(out)?;
        let more = rival.differing - rival.differences.len();
        out.text(&if more > 0 { format!("and {more} more\n\n") } else { "\n".to_string() })?;
    }
    costs(contest, rival, true).write(out)
}

fn verdict(rival: &Rival) -> (Tone, String) {
    let cells = match rival.cells {
        1 => "the only cell".to_string(),
        n => format!("all {} cells, totals included", count(n as u64)),
    };
    if rival.differing > 0 {
        let (differing, all) = (count(rival.differing as u64), count(rival.cells as u64));
        return (Tone::Alert, format!("other numbers in {differing} of {all} cells, totals included"));
    }
    let times = match rival.speedup {
        x if x >= ALIKE => format!("{x:.1} times as fast"),
        x if x <= 1.0 / ALIKE => format!("{:.1} times as slow", 1.0 / x),
        _ => "equally fast".to_string(),
    };
    (Tone::Total, format!("the same numbers in {cells}; {times}"))
}

fn differences(rival: &Rival) -> TextTable {
    let mut table = TextTable::new(&[("cell", Align::Left), ("measure", Align::Right), ("with", Align::Right)]);
    let value = |v: &Option<String>| v.clone().unwrap_or_else(|| "(none)".into());
    for difference in &rival.differences {
        table.row(vec![cell(difference), value(&difference.measure), value(&difference.with)]);
    }
    table
}

fn cell(difference: &Difference) -> String {
    let at: Vec<String> = difference.at.iter().map(|(axis, value)| format!("{axis} = {value}")).collect();
    if at.is_empty() { "total".to_string() } else { at.join(", ") }
}

/// What each of them costs.
pub fn costs(contest: &Contest, rival: &Rival, human: bool) -> TextTable {
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
    for (name, formula, cost) in [("measure", &contest.measure, &rival.measure), ("with", &contest.with, &rival.with)] {
        let integer = |n: u64| if human { count(n) } else { n.to_string() };
        let time = |x: f64| if human { ms(x) } else { x.to_string() };
        let line = formula.split_whitespace().collect::<Vec<_>>().join(" ");
        table.row(vec![
            name.to_string(),
            time(cost.warm.median_ms),
            time(cost.warm.min_ms),
            time(cost.warm.max_ms),
            cost.reads.to_string(),
            integer(cost.rows_read),
            if human { bytes(cost.bytes_read) } else { cost.bytes_read.to_string() },
            if human { super::text::cut(&line, FORMULA) } else { line },
        ]);
    }
    table
}
