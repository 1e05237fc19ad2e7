//! Aggregates group by group: what a read keeps while it goes through rows, and what a fold does with combinations.
//!
//! * here: which state an aggregate keeps, by its kind and by what it is fed
//! * `state`: what all states can be asked; one file for each of them: `count`, `exact`, `float`, `extremes`, `moments`,
//!   `distinct`, `single`, `best`, `quantiles`, `collect`
//! * `ranked`: which values stand at a rank
//! * `entries`, `numbers`: which rows belong to which groups; `spec`, `results`: what goes in and what comes out

mod best;
mod collect;
mod count;
mod distinct;
mod distinct_pairs;
mod entries;
mod exact;
mod extremes;
mod few;
mod float;
mod keyed;
mod moments;
mod nothing;
mod numbers;
mod quantiles;
mod ranked;
mod results;
mod single;
mod spec;
mod state;

use best::{Best, BestKeys};
use collect::Collected;
use count::Count;
use cubrel_formula::typed::AggregateKind;
use cubrel_store::SegmentTotal;
use cubrel_value::{Type, Vector};
use distinct::{DistinctBits, DistinctRows, DistinctValues};
use distinct_pairs::distinct_pairs;
use exact::ExactSums;
use extremes::{ExtremeCodes, ExtremeValues};
use float::FloatSums;
use moments::Moments;
use quantiles::{NumberLists, Tallies, code_lists};
use single::{SingleCodes, SingleValues};
use state::{At, State};

pub use entries::{Entries, Groups, RunGroups};
pub use numbers::GroupNumbers;
pub use spec::Spec;
pub(super) use spec::zeros;

/// One batch for an aggregate.
pub enum Input<'a> {
    /// Rows are only counted.
    Rows(usize),
    /// Codes of the column of [`Spec::coded`].
    Codes(&'a [u64]),
    /// Values of the arguments, then of the order.
    Values(&'a [Vector]),
    /// Exact numbers, 0 for null, and which of them are there.
    ExactOrNull(&'a [i64], &'a [bool]),
    /// Doubles, not a number for null.
    Floats(&'a [f64]),
    /// Exact numbers without nulls, none of which takes more than so many bits.
    Exact(&'a [i64], u32),
    /// What many rows come to together, all of them of the first group.
    Total(&'a SegmentTotal),
}

/// An aggregate over all groups of a read or fold.
#[derive(Debug)]
pub struct Accumulator {
    state: Box<dyn State>,
    /// The code of null, where codes are fed.
    null: u64,
}

/// What an aggregate keeps for so many groups.
fn state(spec: &Spec, groups: usize) -> Box<dyn State> {
    use AggregateKind::*;
    let (coded, max) = (spec.coded.is_some(), spec.kind == Max);
    match spec.kind {
        Rows | Count => Box::new(self::Count::new(groups)),
        Sum | Avg if spec.input == Type::Float => Box::new(FloatSums::new(groups, spec)),
        Sum | Avg => Box::new(ExactSums::new(spec, groups)),
        Min | Max if coded => Box::new(ExtremeCodes::new(spec, groups, max)),
        Min | Max => Box::new(ExtremeValues::new(spec, groups, max)),
        StddevSamp | StddevPop | VarSamp | VarPop => Box::new(Moments::new(spec, groups)),
        CountDistinct if spec.codes().is_some() => match DistinctBits::new(groups, spec) {
            Some(bits) => Box::new(bits),
            None => distinct_pairs(groups, spec),
        },
        CountDistinct => match spec.inputs.len() {
            1 => Box::new(DistinctRows::<1>::new(spec, groups)),
            2 => Box::new(DistinctRows::<2>::new(spec, groups)),
            3 => Box::new(DistinctRows::<3>::new(spec, groups)),
            _ => Box::new(DistinctValues::new(spec, groups)),
        },
        Single if coded => Box::new(SingleCodes::new(spec, groups)),
        Single => Box::new(SingleValues::new(spec, groups)),
        First | Last => match BestKeys::new(spec, groups) {
            Some(keys) => Box::new(keys),
            None => Box::new(Best::new(spec, groups)),
        },
        Median | PercentileCont | PercentileDisc if coded => match Tallies::new(spec, groups) {
            Some(tallies) => Box::new(tallies),
            None => code_lists(spec, groups),
        },
        Median | PercentileCont => Box::new(NumberLists::new(spec, groups)),
        PercentileDisc | StringAgg => Box::new(Collected::new(spec, groups)),
    }
}

impl Accumulator {
    /// An aggregate over `groups` groups that have seen nothing.
    pub fn new(spec: &Spec, groups: usize) -> Accumulator {
        let null = spec.codes().unwrap_or(results::NONE);
        Accumulator { state: state(spec, groups), null }
    }

    /// In place of an aggregate that is never fed.
    pub fn nothing() -> Accumulator {
        Accumulator { state: Box::new(nothing::Nothing), null: results::NONE }
    }

    /// Makes room for so many groups. Sums, counts and extremes forget those behind them.
    pub fn resize(&mut self, groups: usize) {
        self.state.resize(groups);
    }

    /// Takes a batch.
    pub fn add<'a>(&mut self, entries: impl Into<Entries<'a>>, input: &Input<'_>) {
        let entries = entries.into();
        match input {
            Input::Rows(rows) => self.state.add_rows(entries, *rows),
            Input::Codes(codes) => {
                if let (Groups::InRuns(runs), None) = (entries.groups, entries.weights)
                    && self.state.add_codes_in_runs(runs, codes, self.null)
                {
                    return;
                }
                self.state.add_codes(entries.one_by_one(), codes, self.null);
            }
            Input::Values(vectors) => self.state.add_values(entries, vectors),
            Input::ExactOrNull(values, valid) => self.state.add_exact_or_null(entries, values, valid),
            Input::Floats(values) => self.state.add_floats(entries, values),
            Input::Exact(values, bits) => self.state.add_exact(entries, values, *bits),
            Input::Total(total) => self.state.add_total(total),
        }
    }

    /// Takes exact numbers of at most so many bits, and marks their groups as seen on the way.
    pub fn add_and_mark(&mut self, entries: Entries<'_>, values: &[i64], bits: u32, seen: &mut [bool]) {
        if let (Groups::Many(groups), None) = (entries.groups, entries.weights)
            && self.state.add_and_mark(groups, values, bits, seen)
        {
            return;
        }
        entries.groups.mark(seen);
        self.state.add_exact(entries, values, bits);
    }

    /// Takes over what another accumulator of the same aggregate has seen; `to` gives this one's group for each of its,
    /// where they are not the same.
    pub fn merge(&mut self, other: Accumulator, to: Option<&[u32]>) {
        self.state.merge(other.state, At(to));
    }

    /// How many values each group has, where that is known.
    pub fn counts(&self) -> Option<&[u64]> {
        self.state.counts()
    }

    /// Takes over how many values each group has, where [`Spec::counted_by`] says that another one counts them.
    pub fn take_counts(&mut self, counts: Vec<u64>) {
        self.state.take_counts(counts);
    }

    /// As much for another aggregate that would have been fed the same; `None` where this one does not have all that it needs.
    pub fn copied(&self, spec: &Spec) -> Option<Accumulator> {
        self.state.copied(spec).map(|state| Accumulator { state, null: self.null })
    }

    /// The result of every group, and after them the result over no rows; `seen` tells which groups have rows.
    ///
    /// # Errors
    /// When a sum has more than 38 digits, or texts that have to be kept are too many or too long.
    pub fn finish(self, seen: &[bool]) -> Result<Vector, String> {
        self.state.finish(seen)
    }
}
