//! Two models held against each other: what their saved queries and measures give, how long that takes, and what they
//! weigh.

use std::collections::{BTreeSet, HashMap, VecDeque};
use std::time::{Duration, Instant};

use serde::Serialize;

use super::formula_comparison::same;
use super::profile::Warm;
use crate::{Error, Grid, Model, Query, QueryOptions};
use cubrel_run::GridColumnKind;
use cubrel_value::Value;

/// How two models compare.
#[derive(Clone, Debug, Serialize)]
pub struct ModelComparison {
    /// What both were asked, and what they answered: their saved queries, then each measure over everything.
    pub answers: Vec<Answer>,
    /// Saved queries and measures that only the first one has.
    pub only_a: Vec<String>,
    /// Those that only the second one has.
    pub only_b: Vec<String>,
    /// Bytes of the first one's store.
    pub bytes_a: u64,
    /// Bytes of the second one's.
    pub bytes_b: u64,
}

/// Something that both models were asked, and what came of it.
#[derive(Clone, Debug, Serialize)]
pub struct Answer {
    /// The name of a saved query or of a measure.
    pub name: String,
    /// Whether it is a measure, asked for its total.
    pub is_measure: bool,
    /// What came of it.
    #[serde(flatten)]
    pub outcome: QueryOutcome,
}

/// What came of asking.
#[derive(Clone, Debug, Serialize)]
#[serde(untagged)]
pub enum QueryOutcome {
    /// Both answered.
    Answered(Pair),
    /// One did not, or neither.
    Failed {
        /// Why the first one did not.
        error_a: Option<String>,
        /// Why the second one did not.
        error_b: Option<String>,
    },
}

/// What the two models answered.
#[derive(Clone, Debug, Serialize)]
pub struct Pair {
    /// Cells that were compared; a line that only one has counts with all its cells.
    pub cells: usize,
    /// How many of them differ.
    pub differing: usize,
    /// The first line that differs, or that only one has.
    pub example: Option<Example>,
    /// The first one's times.
    pub a: Warm,
    /// The second one's times.
    pub b: Warm,
}

/// A line in which two answers differ.
#[derive(Clone, Debug, Serialize)]
pub struct Example {
    /// Its axes with their values; nothing for axes that are totalled.
    pub at: Vec<(String, String)>,
    /// The heading of the item.
    pub item: String,
    /// What the first model gives; nothing for null, or where it has no such line.
    pub a: Option<String>,
    /// What the second one gives.
    pub b: Option<String>,
}

impl ModelComparison {
    /// Whether all that both were asked has the same answer in both.
    pub fn agree(&self) -> bool {
        self.answers.iter().all(|a| matches!(&a.outcome, QueryOutcome::Answered(pair) if pair.differing == 0))
    }
}

impl Model {
    /// Asks both models the saved queries that both have, and the totals of the measures that both have; each `runs` times
    /// warm, in turn. `only` names what is asked; none for all.
    ///
    /// # Errors
    /// When a name in `only` is not one of them. What cannot be answered is part of the result.
    ///
    /// ```
    /// use cubrel::{Model, QueryOptions, Type, Value};
    ///
    /// let model = |fuel: i64| {
    ///     Model::builder()
    ///         .rows("sailing", &[("fuel", Type::Int)], &[vec![Value::Int(fuel)], vec![Value::Int(2)]])
    ///         .measure("fuel", "sum(sailing.fuel)")
    ///         .measure("sailings", "rows(sailing)")
    ///         .build()
    /// };
    /// let found = model(5)?.compare(&model(6)?, &[], &QueryOptions::default(), 1)?;
    /// assert!(!found.agree());
    /// assert_eq!(found.answers.len(), 2);
    /// # Ok::<(), cubrel::Error>(())
    /// ```
    pub fn compare(
        &self,
        other: &Model,
        only: &[String],
        options: &QueryOptions,
        runs: usize,
    ) -> Result<ModelComparison, Error> {
        compare_models(self, other, only, options, runs)
    }
}

/// As [`Model::compare`].
pub fn compare_models(
    a: &Model,
    b: &Model,
    only: &[String],
    options: &QueryOptions,
    runs: usize,
) -> Result<ModelComparison, Error> {
    let (of_a, of_b) = (asked_of(a), asked_of(b));
    let names = |own: &[(String, Option<String>)], other: &[(String, Option<String>)]| -> Vec<String> {
        own.iter().filter(|(name, _)| !other.iter().any(|(n, _)| n == name)).map(|(name, _)| name.clone()).collect()
    };
    let wanted = |name: &String| only.is_empty() || only.contains(name);
    let shared: Vec<_> = of_a.iter().filter(|(name, _)| of_b.iter().any(|(n, _)| n == name)).collect();
    if let Some(unknown) = only.iter().find(|name| !shared.iter().any(|(n, _)| n == *name)) {
        return Err(Error::Unknown(format!("no saved query and no measure of both models is called `{unknown}`")));
    }
    let ask = |(name, text): &&(String, Option<String>)| {
        let other = of_b.iter().find(|(n, _)| n == name).and_then(|(_, text)| text.clone());
        let outcome = match (text, &other) {
            (Some(a_text), Some(b_text)) => asked((a, a_text), (b, b_text), options, runs),
            _ => {
                let total = format!("grid {}", cubrel_formula::words::quote_name(name));
                asked((a, &total), (b, &total), options, runs)
            }
        };
        if options.cancel.is_cancelled() {
            return Err(Error::Cancelled);
        }
        Ok(Answer { name: name.clone(), is_measure: text.is_none() || other.is_none(), outcome })
    };
    Ok(ModelComparison {
        answers: shared.iter().filter(|(name, _)| wanted(name)).map(ask).collect::<Result<_, Error>>()?,
        only_a: names(&of_a, &of_b),
        only_b: names(&of_b, &of_a),
        bytes_a: a.sizes().model.bytes,
        bytes_b: b.sizes().model.bytes,
    })
}

/// The saved queries of a model with their texts, and its measures.
fn asked_of(model: &Model) -> Vec<(String, Option<String>)> {
    let saved = model.document().file.query.iter().map(|(name, saved)| (name.clone(), Some(saved.text.clone())));
    let mut all: Vec<(String, Option<String>)> = saved.collect();
    let known: BTreeSet<String> = all.iter().map(|(name, _)| name.clone()).collect();
    let measures = model.schema().measures.iter().map(|m| m.name.clone());
    let measures = measures.filter(|name| !name.is_empty() && !known.contains(name));
    all.extend(measures.map(|name| (name, None)));
    all
}

fn asked(a: (&Model, &str), b: (&Model, &str), options: &QueryOptions, runs: usize) -> QueryOutcome {
    let first = |(model, text): (&Model, &str)| -> Result<(Query, Grid), Error> {
        let query = model.query_with(text, options)?;
        let grid = query.run_with(&options.run_options())?.0;
        Ok((query, grid))
    };
    let ((a, grid_a), (b, grid_b)) = match (first(a), first(b)) {
        (Ok(a), Ok(b)) => (a, b),
        (a, b) => {
            let error = |result: Result<_, Error>| result.err().map(|e| e.to_string());
            return QueryOutcome::Failed { error_a: error(a), error_b: error(b) };
        }
    };
    let mut times = (Vec::new(), Vec::new());
    for _ in 0..runs.max(1) {
        for (is_a, query, times) in [(true, &a, &mut times.0), (false, &b, &mut times.1)] {
            let start = Instant::now();
            if let Err(error) = query.run_with(&options.run_options()) {
                let error = |of_this: bool| of_this.then(|| error.to_string());
                return QueryOutcome::Failed { error_a: error(is_a), error_b: error(!is_a) };
            }
            times.push(start.elapsed());
        }
    }
    let warm = |mut times: Vec<Duration>| {
        times.sort_unstable();
        Warm::of(&times)
    };
    let (cells, differing, example) = differences(&grid_a, &grid_b);
    QueryOutcome::Answered(Pair { cells, differing, example, a: warm(times.0), b: warm(times.1) })
}

/// A line of a grid, to be found again in another one.
struct GridKey {
    /// What stands on its axes, and which of them are totalled or stand for the rest.
    key: String,
    at: Vec<(String, String)>,
    /// By heading. A line without items has one cell: that it is there.
    cells: Vec<(String, Value)>,
}

fn entries(grid: &Grid) -> impl Iterator<Item = GridKey> {
    let is_item = |i: &usize| grid.columns[*i].kind == GridColumnKind::Measure;
    let (items, axes): (Vec<usize>, Vec<usize>) = (0..grid.columns.len()).partition(is_item);
    grid.lines.iter().map(move |line| {
        let values: Vec<&Value> = axes.iter().map(|i| &line.values[*i]).collect();
        let shown = axes.iter().filter(|i| !line.totalled.contains(i));
        let at = shown.map(|i| (grid.columns[*i].name.clone(), text(&line.values[*i]).unwrap_or("(none)".into())));
        let there = items.is_empty().then(|| ("line".to_string(), Value::Bool(true)));
        let own = items.iter().map(|i| (grid.columns[*i].name.clone(), line.values[*i].clone()));
        GridKey {
            key: format!("{values:?} {:?} {:?}", line.totalled, line.others),
            at: at.collect(),
            cells: own.chain(there).collect(),
        }
    })
}

/// How many cells there are, how many differ, and the first that does. Of several lines with the same axes, the first
/// is held against the first.
fn differences(a: &Grid, b: &Grid) -> (usize, usize, Option<Example>) {
    let mut waiting: HashMap<String, VecDeque<GridKey>> = HashMap::new();
    entries(b).for_each(|entry| waiting.entry(entry.key.clone()).or_default().push_back(entry));
    let pairs = entries(a).map(|entry| {
        let other = waiting.get_mut(&entry.key).and_then(VecDeque::pop_front);
        (Some(entry), other)
    });
    let pairs: Vec<(Option<GridKey>, Option<GridKey>)> = pairs.collect();
    let mut left: Vec<GridKey> = waiting.into_values().flatten().collect();
    left.sort_by(|a, b| a.key.cmp(&b.key));
    let (mut cells, mut differing, mut example) = (0, 0, None);
    for (a, b) in pairs.into_iter().chain(left.into_iter().map(|entry| (None, Some(entry)))) {
        let width = |entry: &Option<GridKey>| entry.as_ref().map_or(0, |e| e.cells.len());
        for place in 0..width(&a).max(width(&b)) {
            let cell = |entry: &Option<GridKey>| entry.as_ref().and_then(|e| e.cells.get(place)).cloned();
            let (own, other) = (cell(&a), cell(&b));
            cells += 1;
            if matches!((&own, &other), (Some((_, x)), Some((_, y))) if same(x, y)) {
                continue;
            }
            differing += 1;
            example.get_or_insert_with(|| Example {
                at: a.as_ref().or(b.as_ref()).map(|entry| entry.at.clone()).unwrap_or_default(),
                item: own.as_ref().or(other.as_ref()).map(|(name, _)| name.clone()).unwrap_or_default(),
                a: own.as_ref().and_then(|(_, value)| text(value)),
                b: other.as_ref().and_then(|(_, value)| text(value)),
            });
        }
    }
    (cells, differing, example)
}

fn text(value: &Value) -> Option<String> {
    if value.is_null() { None } else { Some(value.to_string()) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Type;

    fn grid(rows: &[(&str, i64)]) -> Grid {
        let rows: Vec<Vec<Value>> =
            rows.iter().map(|(route, net)| vec![Value::text(route), Value::Int(*net)]).collect();
        let model =
            Model::builder().rows("booking", &[("route", Type::Text), ("net", Type::Int)], &rows).build().unwrap();
        model.query("grid sum(booking.net) as net, rows(booking) as n by booking.route totals").unwrap().run().unwrap()
    }

    #[test]
    fn lines_are_found_again_by_their_axes() {
        let (one, two, three) = (("r1", 1), ("r2", 2), ("r3", 3));
        // The rows of both, how many cells are looked at, how many differ, and the first of them.
        type Case<'a> = (&'a [(&'a str, i64)], &'a [(&'a str, i64)], usize, usize, Option<(&'a str, &'a str)>);
        let cases: &[Case<'_>] = &[
            (&[one, two], &[two, one], 6, 0, None),
            (&[one, two], &[one, ("r2", 5)], 6, 2, Some(("r2", "net"))),
            (&[one, two], &[one], 6, 4, Some(("r2", "net"))),
            (&[one], &[one, two, three], 8, 6, Some(("total", "net"))),
        ];
        for (a, b, cells, differing, first) in cases {
            let (found, differ, example) = differences(&grid(a), &grid(b));
            assert_eq!((found, differ), (*cells, *differing), "{a:?} {b:?}");
            let place = |e: &Example| (e.at.first().map_or("total".to_string(), |(_, v)| v.clone()), e.item.clone());
            let first = first.map(|(at, item)| (at.to_string(), item.to_string()));
            assert_eq!(example.as_ref().map(place), first, "{a:?} {b:?}");
        }
    }
}
