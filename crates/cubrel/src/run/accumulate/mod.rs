//! Aggregates group by group: what a read keeps while it goes through rows, and what a fold does with combinations.

use std::cmp::Ordering;
use std::collections::{HashMap, HashSet};

mod entries;
mod exact;
mod quantiles;
mod spec;

use crate::formula::functions::allowed_length;
use crate::formula::typed::AggregateKind;
use crate::value::{Data, Type, Value, Vector, VectorBuilder, units};
use quantiles::{place_of, quantiles_of_codes, quantiles_of_numbers, quantiles_of_tallies};

pub use entries::{Entries, Groups, RunGroups};
use exact::ExactSums;
pub use spec::Spec;
use spec::floats;
pub(super) use spec::zeros;

/// One batch for an aggregate.
pub enum Input<'a> {
    /// Rows are only counted.
    Rows(usize),
    /// Codes of the column of [`Spec::coded`].
    Codes(&'a [u64]),
    /// Values of the arguments, then of the order.
    Values(&'a [Vector]),
    /// Exact numbers without nulls, none of which takes more than so many bits.
    Exact(&'a [i64], u32),
}

/// No code yet.
const NONE: u64 = u64::MAX;
/// Several codes where one was wanted. No column has this many codes.
const SEVERAL: u64 = u64::MAX - 1;

/// What is kept for all groups.
#[derive(Debug)]
enum State {
    Count(Vec<u64>),
    SumExact(ExactSums),
    SumFloat {
        sums: Vec<f64>,
        counts: Vec<u64>,
    },
    /// The smallest codes, or for the largest their complements.
    ExtremeCode(Vec<u64>),
    ExtremeValue(Vec<Value>),
    Moments(Vec<Moments>),
    DistinctBits(DistinctBits),
    DistinctCodes(HashSet<(u32, u64), foldhash::fast::RandomState>, usize),
    DistinctValues(HashSet<(u32, Vec<Value>)>, usize),
    SingleCode(Vec<u64>),
    SingleValue(Vec<Single>),
    Best(Vec<Option<(Vec<Value>, Value)>>),
    Collected(Vec<Vec<(Value, Vec<Value>)>>),
    /// How often each code occurs, group by group.
    Tallies {
        counts: Vec<u32>,
        per_group: usize,
    },
    /// Codes, or numbers, of each group with how often each came.
    Codes(Vec<Vec<(u64, u32)>>),
    Numbers(Vec<Vec<(f64, u32)>>),
}

/// Codes of all groups together are tallied up to this many counts; beyond it, they are collected.
const MOST_TALLIES: u64 = 1 << 21;

#[derive(Clone, Debug, PartialEq)]
enum Single {
    Nothing,
    One(Value),
    Several,
}

/// One bit for each group and code.
#[derive(Debug)]
struct DistinctBits {
    words: Vec<u64>,
    per_group: usize,
}

/// Codes of all groups together are counted with one bit each up to this many bytes; beyond it, by a hash set.
const DISTINCT_BYTES: u64 = 1 << 23;

impl DistinctBits {
    /// Room for all groups, if they and the codes are few enough.
    fn new(groups: usize, spec: &Spec) -> Option<DistinctBits> {
        let per_group = spec.coded.as_ref()?.domain().div_ceil(64).max(1);
        let bytes = per_group.saturating_mul(8).saturating_mul(groups as u64);
        // Groups that are numbered as they come are not known yet.
        (groups > 0 && bytes <= DISTINCT_BYTES)
            .then(|| DistinctBits { words: vec![0; groups * per_group as usize], per_group: per_group as usize })
    }

    fn set(&mut self, group: usize, code: u64) {
        self.words[group * self.per_group + (code / 64) as usize] |= 1 << (code % 64);
    }

    fn counts(&self) -> Vec<u64> {
        let ones = |words: &[u64]| words.iter().map(|w| u64::from(w.count_ones())).sum();
        self.words.chunks(self.per_group).map(ones).collect()
    }

    fn merge(&mut self, other: &DistinctBits, at: impl Fn(usize) -> usize) {
        for (group, words) in other.words.chunks(self.per_group).enumerate() {
            let start = at(group) * self.per_group;
            self.words[start..start + self.per_group].iter_mut().zip(words).for_each(|(a, b)| *a |= b);
        }
    }
}

/// Count, mean and squared distance from it: Welford's method, merged as by Chan, Golub and LeVeque, "Updating
/// Formulae and a Pairwise Algorithm for Computing Sample Variances" (1979).
#[derive(Clone, Copy, Debug, Default)]
struct Moments {
    count: f64,
    mean: f64,
    squares: f64,
}

impl Moments {
    /// Takes the same number several times.
    fn add(&mut self, x: f64, times: f64) {
        self.count += times;
        let distance = x - self.mean;
        self.mean += distance * times / self.count;
        self.squares += times * distance * (x - self.mean);
    }

    fn merge(&mut self, other: Moments) {
        if other.count == 0.0 {
            return;
        }
        let count = self.count + other.count;
        let distance = other.mean - self.mean;
        self.squares += other.squares + distance * distance * self.count * other.count / count;
        self.mean += distance * other.count / count;
        self.count = count;
    }
}

/// An aggregate over all groups of a read or fold.
#[derive(Debug)]
pub struct Accumulator {
    spec: Spec,
    state: State,
    /// Bytes of texts that were kept, or were to be.
    texts: u64,
}

impl Accumulator {
    /// An aggregate over `groups` groups that have seen nothing.
    pub fn new(spec: &Spec, groups: usize) -> Accumulator {
        use AggregateKind::*;
        let state = match spec.kind {
            Rows | Count => State::Count(zeros(groups)),
            Sum | Avg if spec.input == Type::Float => {
                State::SumFloat { sums: vec![0.0; groups], counts: vec![0; groups] }
            }
            Sum | Avg => State::SumExact(ExactSums::new(groups, spec.nullable || spec.kind == Avg)),
            Min | Max if spec.coded.is_some() => State::ExtremeCode(vec![NONE; groups]),
            Min | Max => State::ExtremeValue(vec![Value::Null; groups]),
            StddevSamp | StddevPop | VarSamp | VarPop => State::Moments(vec![Moments::default(); groups]),
            CountDistinct if spec.coded.is_some() => match DistinctBits::new(groups, spec) {
                Some(bits) => State::DistinctBits(bits),
                None => State::DistinctCodes(HashSet::default(), groups),
            },
            CountDistinct => State::DistinctValues(HashSet::new(), groups),
            Single if spec.coded.is_some() => State::SingleCode(vec![NONE; groups]),
            Single => State::SingleValue(vec![self::Single::Nothing; groups]),
            First | Last => State::Best(vec![None; groups]),
            Median | PercentileCont | PercentileDisc if spec.coded.is_some() => {
                let codes = spec.coded.as_ref().map_or(1, |c| c.domain().max(1));
                if groups > 0 && codes.saturating_mul(groups as u64) <= MOST_TALLIES {
                    State::Tallies { counts: vec![0; groups * codes as usize], per_group: codes as usize }
                } else {
                    State::Codes(vec![Vec::new(); groups])
                }
            }
            Median | PercentileCont => State::Numbers(vec![Vec::new(); groups]),
            PercentileDisc | StringAgg => State::Collected(vec![Vec::new(); groups]),
        };
        Accumulator { spec: spec.clone(), state, texts: 0 }
    }

    /// Makes room for groups that were not known before.
    pub fn grow(&mut self, groups: usize) {
        match &mut self.state {
            State::Count(v) => v.resize(groups, 0),
            State::SumExact(sums) => {
                sums.small.resize(groups, 0);
                if self.spec.nullable || self.spec.kind == AggregateKind::Avg {
                    sums.counts.resize(groups, 0);
                }
                if !sums.wide.is_empty() {
                    sums.wide.resize(groups, 0);
                }
            }
            State::SumFloat { sums, counts } => {
                sums.resize(groups, 0.0);
                counts.resize(groups, 0);
            }
            State::ExtremeCode(v) | State::SingleCode(v) => v.resize(groups, NONE),
            State::ExtremeValue(v) => v.resize(groups, Value::Null),
            State::Moments(v) => v.resize(groups, Moments::default()),
            State::DistinctBits(bits) => bits.words.resize(groups * bits.per_group, 0),
            State::DistinctCodes(_, n) | State::DistinctValues(_, n) => *n = groups,
            State::SingleValue(v) => v.resize(groups, Single::Nothing),
            State::Best(v) => v.resize(groups, None),
            State::Collected(v) => v.resize(groups, Vec::new()),
            State::Tallies { counts, per_group } => counts.resize(groups * *per_group, 0),
            State::Codes(v) => v.resize(groups, Vec::new()),
            State::Numbers(v) => v.resize(groups, Vec::new()),
        }
    }

    /// Takes a batch.
    pub fn add<'a>(&mut self, entries: impl Into<Entries<'a>>, input: &Input<'_>) {
        let entries = entries.into();
        match input {
            Input::Rows(n) => {
                if let State::Count(counts) = &mut self.state {
                    entries.count(*n, counts);
                }
            }
            Input::Codes(codes) => self.add_codes(entries.one_by_one(), codes),
            Input::Values(vectors) => self.add_values(entries, vectors),
            Input::Exact(values, bits) => {
                if let State::SumExact(sums) = &mut self.state {
                    sums.add_small(entries, values, None, *bits);
                }
            }
        }
    }

    /// Takes exact numbers of at most so many bits, and marks their groups as seen on the way.
    pub fn add_and_mark(&mut self, entries: Entries<'_>, values: &[i64], bits: u32, seen: &mut [bool]) {
        if let (State::SumExact(sums), Groups::Many(groups), None) = (&mut self.state, entries.groups, entries.weights)
            && sums.add_and_mark(groups, values, bits, seen)
        {
            return;
        }
        entries.groups.mark(seen);
        self.add(entries, &Input::Exact(values, bits));
    }

    fn add_codes(&mut self, entries: Entries<'_>, codes: &[u64]) {
        let null = self.spec.coded.as_ref().map_or(NONE, |c| c.null_code());
        let valid = codes.iter().copied().enumerate().filter(|(_, c)| *c != null);
        match &mut self.state {
            State::Count(counts) => valid.for_each(|(i, _)| counts[entries.group(i)] += entries.weight(i)),
            State::ExtremeCode(best) => {
                let max = self.spec.kind == AggregateKind::Max;
                for (i, code) in codes.iter().enumerate() {
                    let slot = &mut best[entries.group(i)];
                    // Null has the largest code: never the smallest, and no candidate for the largest.
                    let candidate = if max && *code == null { NONE } else { turned(*code, max) };
                    *slot = candidate.min(*slot);
                }
            }
            State::DistinctBits(bits) => valid.for_each(|(i, code)| bits.set(entries.group(i), code)),
            State::DistinctCodes(set, _) => {
                set.extend(valid.map(|(i, code)| (entries.group(i) as u32, code)));
            }
            State::Tallies { counts, per_group } => {
                // At most 2^32 rows have a table, so no count is larger.
                valid.for_each(|(i, code)| {
                    counts[entries.group(i) * *per_group + code as usize] += entries.weight(i) as u32
                });
            }
            State::Codes(lists) => {
                valid.for_each(|(i, code)| lists[entries.group(i)].push((code, entries.weight(i) as u32)));
            }
            State::SingleCode(only) => {
                for (i, code) in codes.iter().enumerate() {
                    let slot = &mut only[entries.group(i)];
                    *slot = if *slot == NONE || *slot == *code { *code } else { SEVERAL };
                }
            }
            _ => debug_assert!(false, "an aggregate is given codes that it does not take"),
        }
    }

    fn add_values(&mut self, entries: Entries<'_>, vectors: &[Vector]) {
        let Some(first) = vectors.first() else { return };
        let n = first.len();
        let spec = &self.spec;
        let valid = (0..n).filter(|i| first.is_valid(*i));
        if let State::SumExact(sums) = &mut self.state {
            return sums.add(entries, first);
        }
        let entries = entries.one_by_one();
        match &mut self.state {
            State::Count(counts) => valid.for_each(|i| counts[entries.group(i)] += entries.weight(i)),
            State::SumFloat { sums, counts } => {
                if let Data::F64(values) = &first.data {
                    for i in valid {
                        sums[entries.group(i)] += values[i] * entries.weight(i) as f64;
                        counts[entries.group(i)] += entries.weight(i);
                    }
                }
            }
            State::ExtremeValue(best) => {
                let max = spec.kind == AggregateKind::Max;
                for i in valid {
                    keep_extreme(&mut best[entries.group(i)], first.get(i, spec.input), max);
                }
            }
            State::Moments(moments) => {
                let values = first.to_f64(spec.input);
                valid.for_each(|i| moments[entries.group(i)].add(values[i], entries.weight(i) as f64));
            }
            State::Numbers(lists) => {
                let values = first.to_f64(spec.input);
                valid.for_each(|i| lists[entries.group(i)].push((values[i], entries.weight(i) as u32)));
            }
            State::DistinctValues(set, _) => {
                for i in 0..n {
                    let row: Vec<Value> = vectors.iter().zip(&spec.inputs).map(|(v, ty)| v.get(i, *ty)).collect();
                    let bytes: u64 = row.iter().map(text_bytes).sum();
                    if row.iter().all(|v| !v.is_null())
                        && self.texts <= MOST_TEXTS
                        && set.insert((entries.group(i) as u32, row))
                    {
                        self.texts += bytes;
                    }
                }
            }
            State::SingleValue(only) => {
                for i in 0..n {
                    merge_single(&mut only[entries.group(i)], Single::One(first.get(i, spec.input)));
                }
            }
            State::Best(best) => {
                for i in valid {
                    let candidate = (order_values(&vectors[1..], &spec.order, i), first.get(i, spec.input));
                    keep_best(&mut best[entries.group(i)], candidate, spec);
                }
            }
            State::Collected(lists) => {
                for i in valid {
                    let entry = (first.get(i, spec.input), order_values(&vectors[1..], &spec.order, i));
                    let times = entries.weight(i);
                    self.texts = self.texts.saturating_add(text_bytes(&entry.0).saturating_mul(times));
                    if self.texts <= MOST_TEXTS {
                        lists[entries.group(i)].extend(std::iter::repeat_n(entry, times as usize));
                    }
                }
            }
            _ => debug_assert!(false, "an aggregate is given values that it does not take"),
        }
    }

    /// Takes over what another accumulator of the same aggregate has seen; `to` gives this one's group for each of its,
    /// where they are not the same.
    pub fn merge(&mut self, other: Accumulator, to: Option<&[u32]>) {
        let at = |i: usize| to.map_or(i, |to| to[i] as usize);
        let spec = &self.spec;
        // Of values that both have seen one is kept; what was too much for one of them is lost.
        let is_set = matches!(self.state, State::DistinctValues(..)) && other.texts <= MOST_TEXTS;
        self.texts = if is_set { self.texts } else { self.texts.saturating_add(other.texts) };
        match (&mut self.state, other.state) {
            (State::Count(a), State::Count(b)) => b.into_iter().enumerate().for_each(|(i, n)| a[at(i)] += n),
            (State::SumExact(a), State::SumExact(b)) => match to {
                None => a.merge(&b, |i| i),
                Some(_) => a.merge(&b, at),
            },
            (State::SumFloat { sums, counts }, State::SumFloat { sums: s, counts: c }) => {
                for i in 0..s.len() {
                    sums[at(i)] += s[i];
                    counts[at(i)] += c[i];
                }
            }
            (State::ExtremeCode(a), State::ExtremeCode(b)) => {
                b.into_iter().enumerate().for_each(|(i, code)| a[at(i)] = code.min(a[at(i)]));
            }
            (State::ExtremeValue(a), State::ExtremeValue(b)) => {
                let max = spec.kind == AggregateKind::Max;
                b.into_iter().enumerate().for_each(|(i, v)| keep_extreme(&mut a[at(i)], v, max));
            }
            (State::Moments(a), State::Moments(b)) => b.into_iter().enumerate().for_each(|(i, m)| a[at(i)].merge(m)),
            (State::DistinctBits(a), State::DistinctBits(b)) => a.merge(&b, at),
            (State::DistinctCodes(a, _), State::DistinctCodes(b, _)) => {
                a.extend(b.into_iter().map(|(g, c)| (at(g as usize) as u32, c)));
            }
            (State::DistinctValues(a, _), State::DistinctValues(b, _)) => {
                for (group, row) in b {
                    let bytes: u64 = row.iter().map(text_bytes).sum();
                    if a.insert((at(group as usize) as u32, row)) {
                        self.texts += bytes;
                    }
                }
            }
            (State::SingleCode(a), State::SingleCode(b)) => {
                for (i, code) in b.into_iter().enumerate().filter(|(_, c)| *c != NONE) {
                    let slot = &mut a[at(i)];
                    *slot = if *slot == NONE || *slot == code { code } else { SEVERAL };
                }
            }
            (State::SingleValue(a), State::SingleValue(b)) => {
                b.into_iter().enumerate().for_each(|(i, s)| merge_single(&mut a[at(i)], s));
            }
            (State::Best(a), State::Best(b)) => {
                for (i, candidate) in b.into_iter().enumerate().filter_map(|(i, c)| Some((i, c?))) {
                    keep_best(&mut a[at(i)], candidate, spec);
                }
            }
            (State::Tallies { counts, per_group }, State::Tallies { counts: more, .. }) => {
                for (i, group) in more.chunks(*per_group).enumerate() {
                    let own = &mut counts[at(i) * *per_group..][..*per_group];
                    own.iter_mut().zip(group).for_each(|(a, b)| *a += b);
                }
            }
            (State::Codes(a), State::Codes(b)) => {
                b.into_iter().enumerate().for_each(|(i, list)| a[at(i)].extend(list));
            }
            (State::Numbers(a), State::Numbers(b)) => {
                b.into_iter().enumerate().for_each(|(i, list)| a[at(i)].extend(list));
            }
            (State::Collected(a), State::Collected(b)) => {
                b.into_iter().enumerate().for_each(|(i, list)| a[at(i)].extend(list));
            }
            _ => debug_assert!(false, "parts of two different aggregates"),
        }
    }

    /// The result of every group, and after them the result over no rows; `seen` tells which groups have rows.
    ///
    /// # Errors
    /// When a sum has more than 38 digits.
    pub fn finish(self, seen: &[bool]) -> Result<Vector, String> {
        let spec = self.spec;
        if self.texts > MOST_TEXTS {
            let most = units::bytes(MOST_TEXTS);
            return Err(format!("the texts that this has to keep take more than {most}: filter, or take shorter ones"));
        }
        let counted = |values: Vec<u64>| {
            let mut values: Vec<i64> = values.into_iter().map(|n| n as i64).collect();
            values.push(0);
            Ok(Vector::new(Data::I64(values)))
        };
        match self.state {
            State::Count(counts) => counted(counts),
            State::DistinctBits(bits) => counted(bits.counts()),
            State::DistinctCodes(set, groups) => counted(tally(set.into_iter().map(|(g, _)| g), groups)),
            State::DistinctValues(set, groups) => counted(tally(set.into_iter().map(|(g, _)| g), groups)),
            State::SumExact(sums) => exact::finish(sums, &spec, seen),
            State::SumFloat { sums, counts } => {
                let avg = spec.kind == AggregateKind::Avg;
                let values = sums.iter().zip(&counts).map(|(s, n)| {
                    if *n == 0 {
                        f64::NAN
                    } else if avg {
                        s / *n as f64
                    } else {
                        *s
                    }
                });
                Ok(floats(values))
            }
            State::Moments(moments) => Ok(floats(moments.into_iter().map(|m| spread(spec.kind, m)))),
            State::ExtremeCode(codes) => {
                let max = spec.kind == AggregateKind::Max;
                let code = |code: u64| if code == NONE { NONE } else { turned(code, max) };
                Ok(decode(&spec, codes.into_iter().map(code).collect()))
            }
            State::SingleCode(codes) => Ok(decode(&spec, codes)),
            State::ExtremeValue(values) => Ok(collect(values.into_iter(), spec.ty)),
            State::SingleValue(values) => {
                let value = |s| {
                    if let Single::One(v) = s { v } else { Value::Null }
                };
                Ok(collect(values.into_iter().map(value), spec.ty))
            }
            State::Best(best) => Ok(collect(best.into_iter().map(|b| b.map_or(Value::Null, |(_, v)| v)), spec.ty)),
            State::Collected(lists) => {
                let values = lists.into_iter().map(|l| summarize(&spec, l)).collect::<Result<Vec<_>, _>>()?;
                Ok(collect(values.into_iter(), spec.ty))
            }
            State::Tallies { counts, per_group } => Ok(quantiles_of_tallies(&spec, &counts, per_group, seen.len() - 1)),
            State::Codes(lists) => Ok(quantiles_of_codes(&spec, lists)),
            State::Numbers(lists) => Ok(quantiles_of_numbers(&spec, lists)),
        }
    }
}

/// The largest of some codes is what the smallest of their complements is. No complement is [`NONE`].
fn turned(code: u64, max: bool) -> u64 {
    if max { NONE - 1 - code } else { code }
}

fn keep_extreme(best: &mut Value, value: Value, max: bool) {
    if value.is_null() {
        return;
    }
    let order = value.total_cmp(best);
    if best.is_null() || (if max { order == Ordering::Greater } else { order == Ordering::Less }) {
        *best = value;
    }
}

fn merge_single(slot: &mut Single, other: Single) {
    *slot = match (std::mem::replace(slot, Single::Nothing), other) {
        (Single::Nothing, s) | (s, Single::Nothing) => s,
        (Single::One(a), Single::One(b)) if a == b => Single::One(a),
        _ => Single::Several,
    };
}

fn order_values(vectors: &[Vector], order: &[(Type, bool)], i: usize) -> Vec<Value> {
    vectors.iter().zip(order).map(|(v, (ty, _))| v.get(i, *ty)).collect()
}

/// By each part of the order, null last whichever way it goes.
fn compare_order(a: &[Value], b: &[Value], order: &[(Type, bool)]) -> Ordering {
    for ((x, y), (_, descending)) in a.iter().zip(b).zip(order) {
        let compared = x.total_cmp(y);
        let compared = if *descending && !x.is_null() && !y.is_null() { compared.reverse() } else { compared };
        if compared.is_ne() {
            return compared;
        }
    }
    Ordering::Equal
}

/// `first` keeps the smallest, `last` the greatest; of equal ones the smallest or greatest value. A row whose order is
/// null comes after all others.
fn keep_best(best: &mut Option<(Vec<Value>, Value)>, candidate: (Vec<Value>, Value), spec: &Spec) {
    let better = match best {
        None => true,
        Some((order, value)) => {
            let compared = compare_order(&candidate.0, order, &spec.order).then_with(|| candidate.1.total_cmp(value));
            if spec.kind == AggregateKind::Last { compared.is_gt() } else { compared.is_lt() }
        }
    };
    if better {
        *best = Some(candidate);
    }
}

fn tally(groups: impl Iterator<Item = u32>, count: usize) -> Vec<u64> {
    let mut counts = vec![0; count];
    groups.for_each(|g| counts[g as usize] += 1);
    counts
}

fn collect(values: impl Iterator<Item = Value>, ty: Type) -> Vector {
    let mut builder = VectorBuilder::new(ty, values.size_hint().0 + 1);
    values.for_each(|v| builder.push(v));
    builder.push(Value::Null);
    builder.finish()
}

fn spread(kind: AggregateKind, m: Moments) -> f64 {
    let of_sample = matches!(kind, AggregateKind::StddevSamp | AggregateKind::VarSamp);
    let divisor = if of_sample { m.count - 1.0 } else { m.count };
    if divisor <= 0.0 {
        return f64::NAN;
    }
    let variance = m.squares / divisor;
    if matches!(kind, AggregateKind::StddevSamp | AggregateKind::StddevPop) { variance.sqrt() } else { variance }
}

fn decode(spec: &Spec, mut codes: Vec<u64>) -> Vector {
    codes.push(NONE);
    match &spec.coded {
        Some(column) => {
            let null = column.null_code();
            let codes: Vec<u64> = codes.into_iter().map(|c| if c >= SEVERAL { null } else { c }).collect();
            column.vector_of(&codes)
        }
        None => Vector::nulls(spec.ty, codes.len()),
    }
}

/// Joined texts, or one of the values of a group in their order.
fn summarize(spec: &Spec, mut list: Vec<(Value, Vec<Value>)>) -> Result<Value, String> {
    if list.is_empty() {
        return Ok(Value::Null);
    }
    if spec.kind == AggregateKind::StringAgg {
        // Without an order the texts are sorted, so that the result is the same every time.
        list.sort_by(|a, b| compare_order(&a.1, &b.1, &spec.order).then_with(|| a.0.total_cmp(&b.0)));
        let separator = spec.constant.as_ref().and_then(Value::as_text).unwrap_or("");
        let texts: Vec<&str> = list.iter().filter_map(|(v, _)| v.as_text()).collect();
        let bytes = texts.iter().map(|t| t.len() + separator.len()).sum::<usize>();
        allowed_length(bytes.saturating_sub(separator.len()))?;
        return Ok(Value::text(texts.join(separator)));
    }
    list.sort_by(|a, b| a.0.total_cmp(&b.0));
    let place = place_of(spec, list.len() as u64).0;
    Ok(list[place as usize].0.clone())
}

/// Bytes of texts that one aggregate keeps; there is no telling how long they are.
const MOST_TEXTS: u64 = 512 << 20;

fn text_bytes(value: &Value) -> u64 {
    if let Value::Text(text) = value { text.len() as u64 } else { 0 }
}

/// For each distinct key its group number; used to bring groups of several parts together.
pub type GroupNumbers = HashMap<u128, u32, foldhash::fast::RandomState>;
