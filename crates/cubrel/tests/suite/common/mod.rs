//! Small models, and every way of running a query that has to give the same result.
#![allow(dead_code, reason = "each test file uses a part")]
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use cubrel::internals::InQuery as _;
use cubrel::run::{Options, Runs};
use cubrel::{Grid, Model, Type, Value};

/// The worked example of the language reference.
pub fn worked_example() -> cubrel::Builder {
    let text = Value::text;
    Model::builder()
        .rows(
            "route",
            &[("id", Type::Text), ("name", Type::Text), ("region", Type::Text)],
            &[vec![text("r1"), text("Ness–Holm"), text("North")], vec![text("r2"), text("Holm–Skaw"), text("South")]],
        )
        .rows(
            "booking",
            &[("route", Type::Text), ("net", Type::Int)],
            &[
                vec![text("r1"), Value::Int(10)],
                vec![text("r1"), Value::Int(20)],
                vec![text("r2"), Value::Int(5)],
                vec![text("r9"), Value::Int(1)],
            ],
        )
        .relationship("booking.route", "route.id")
        .measure("net", "sum(booking.net)")
}

/// Every configuration that may differ in speed only.
pub fn configurations() -> Vec<(&'static str, Options)> {
    let plain = Options {
        optimize: false,
        hoist: false,
        keep_chains: false,
        totals: false,
        spans: false,
        sparse_above: usize::MAX,
        one_thread: true,
        ..Options::default()
    };
    vec![
        ("default", Options::default()),
        ("again", Options::default()),
        ("plain", plain.clone()),
        ("chains anew", Options { keep_chains: false, ..Options::default() }),
        ("sparse", Options { sparse_above: 0, ..Options::default() }),
        ("hashed", Options { hash_groups: true, ..Options::default() }),
        (
            "by sorted keys",
            Options { hash_groups: true, sorted_above: 0, part_rows: Some(1), wanted_above: 0, ..Options::default() },
        ),
        ("keys together", Options { rows_per_combined: 0, ..Options::default() }),
        ("those wanted", Options { wanted_above: 0, ..Options::default() }),
        ("those wanted, hashed", Options { wanted_above: 0, hash_groups: true, ..Options::default() }),
        ("thin", Options { thin_above: 0, ..Options::default() }),
        ("thin, in runs", Options { thin_above: 0, runs: Runs::Always, part_rows: Some(1), ..Options::default() }),
        ("by ranges", Options { many_codes: 0, ..Options::default() }),
        (
            "by ranges, hashed, in runs",
            Options { many_codes: 0, hash_groups: true, runs: Runs::Always, ..Options::default() },
        ),
        ("hashed, plain rows", Options { hash_groups: true, sparse_above: 0, ..plain.clone() }),
        ("days by set", Options { days_by_set: true, ..Options::default() }),
        ("in runs", Options { runs: Runs::Always, ..Options::default() }),
        ("in runs, hashed", Options { runs: Runs::Always, hash_groups: true, ..Options::default() }),
        ("small parts", Options { part_rows: Some(1), ..Options::default() }),
        ("small parts, one thread", Options { part_rows: Some(1), one_thread: true, ..Options::default() }),
    ]
}

/// Runs a query in every configuration; they have to agree.
pub fn run(model: &Model, text: &str) -> Grid {
    let query = model.query(text).unwrap_or_else(|e| panic!("{text}\n{e}"));
    let mut first: Option<Grid> = None;
    for (name, options) in configurations() {
        let (grid, _) = query.run_with(&options).unwrap_or_else(|e| panic!("{name}: {text}\n{e}"));
        match &first {
            None => first = Some(grid),
            Some(expected) => {
                assert_eq!(shown(&grid), shown(expected), "{name} differs: {text}");
            }
        }
    }
    first.unwrap()
}

/// A grid as text: a line for each, values separated by `|`, null as nothing, floats to ten digits.
pub fn shown(grid: &Grid) -> Vec<String> {
    let value = |v: &Value| match v {
        Value::Float(x) => format!("{:.10}", x).trim_end_matches('0').trim_end_matches('.').to_string(),
        v => v.to_string(),
    };
    grid.lines
        .iter()
        .map(|line| {
            let mut text = line.values.iter().map(value).collect::<Vec<_>>().join("|");
            if grid.totals && !line.totalled.is_empty() {
                text += " total";
            }
            text
        })
        .collect()
}

/// Holds a query's result against lines of text.
pub fn expect(model: &Model, text: &str, lines: &[&str]) {
    assert_eq!(shown(&run(model, text)), lines, "{text}");
}

/// SplitMix64, so that a failing case can be run again by its number.
pub struct Random(pub u64);

impl Random {
    /// A number below `n`.
    pub fn below(&mut self, n: u64) -> u64 {
        self.0 = self.0.wrapping_add(0x9E37_79B9_7F4A_7C15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
        (z ^ (z >> 31)) % n
    }

    /// One of a list.
    pub fn pick<'a>(&mut self, list: &[&'a str]) -> &'a str {
        list[self.below(list.len() as u64) as usize]
    }

    /// True so often in a hundred.
    pub fn chance(&mut self, percent: u64) -> bool {
        self.below(100) < percent
    }
}

/// How many rows of a table are coded together: all of them, or so few that segments of odd lengths end everywhere.
pub fn segments(seed: u64) -> usize {
    [1 << 20, 293, 7, 3][seed as usize % 4]
}
