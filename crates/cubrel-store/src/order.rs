//! The order of rows in a segment: the one in which equal codes stand together and take the least.
//!
//! Rows are sorted by some columns, one after the other. Which ones is found greedily on a sample: next comes the column
//! that saves most for each bit by which it splits the groups further, so that columns which follow from earlier ones
//! come at once. Sources: D. Lemire and O. Kaser, "Reordering columns for smaller indexes" (Information Sciences 181,
//! 2011) for sorting by few-valued columns first; M. Charikar and others, "Towards estimation error guarantees for
//! distinct values" (PODS 2000) for the number of groups in all rows.

use std::collections::HashMap;
use std::sync::OnceLock;

use super::codes::Segment;
use super::forms::{Extent, RowCodes, runs_pay};
use super::places::Places;
use super::rank::{by_digits, digit};
use cubrel_value::threads::{map_each, map_parts};

/// Segments with fewer rows are left in the order of their source.
const FEWEST_ROWS: usize = 4096;
/// Rows of the sample, at most,
const SAMPLE: usize = 1 << 15;
/// and values in it, so that the sample of a table with thousands of columns has fewer rows, but not fewer than
const SAMPLED_VALUES: usize = 1 << 22;
const FEWEST_SAMPLED: usize = 1 << 8;
/// Bits of a row that it is sorted by; what follows them decides nothing.
const MOST_BITS: u32 = 128;
/// The order has to save at least one byte in so many.
const WORTH: usize = 32;

/// The columns that the rows of a table are sorted by, found out with the first of its segments.
#[derive(Debug, Default)]
pub struct SortColumns(OnceLock<Vec<usize>>);

impl SortColumns {
    /// Whether they have been found out.
    pub fn is_known(&self) -> bool {
        self.0.get().is_some()
    }
}

/// The codes of a column and how far they extend.
type ColumnCodes<'a> = (&'a RowCodes, &'a Extent);

/// In which order the rows of a segment stand.
#[derive(Clone, Copy, Debug)]
pub enum RowOrder<'a> {
    /// The one in which the columns that `count` take the least.
    Best {
        /// For each column whether it counts; the others only follow.
        count: &'a [bool],
        /// The columns to sort by, as far as they are known.
        sort_by: &'a SortColumns,
    },
    /// Sorted by some columns, the first to be compared first.
    By(&'a [usize]),
}

/// The codes of one segment's columns, with the rows in order.
pub fn arranged(columns: &[RowCodes], order: RowOrder<'_>) -> Vec<Segment> {
    let extents: Vec<Extent> = map_each(columns, RowCodes::extent);
    let all: Vec<ColumnCodes<'_>> = columns.iter().zip(&extents).collect();
    match order {
        RowOrder::By(by) => {
            let order = sorted(&all, by, columns.first().map_or(0, RowCodes::len));
            map_each(&all, |(codes, extent)| codes.in_order(&order).segment(**extent))
        }
        RowOrder::Best { count, sort_by } => best(&all, count, sort_by),
    }
}

fn best(columns: &[ColumnCodes<'_>], count: &[bool], sort_by: &SortColumns) -> Vec<Segment> {
    let counting: Vec<ColumnCodes<'_>> =
        columns.iter().zip(count).filter(|(_, c)| **c).map(|(codes, _)| *codes).collect();
    if let Some(order) = promising_order(&counting, sort_by) {
        let each = |place: usize| {
            let ((column, extent), counts) = (&columns[place], &count[place]);
            let segment = column.in_order(&order).segment(**extent);
            let before = if *counts { column.bytes(**extent) } else { 0 };
            let after = if *counts { segment.codes.heap_bytes() } else { 0 };
            (segment, before, after)
        };
        let moved: Vec<(Segment, usize, usize)> = map_parts(columns.len(), each);
        let before: usize = moved.iter().map(|(_, before, _)| before).sum();
        let after: usize = moved.iter().map(|(.., after)| after).sum();
        if after + before / WORTH < before {
            return moved.into_iter().map(|(segment, ..)| segment).collect();
        }
    }
    map_each(columns, |(column, extent)| column.segment(**extent))
}

/// The order of rows that a sample promises most of, where it promises anything.
fn promising_order(columns: &[ColumnCodes<'_>], sort_by: &SortColumns) -> Option<Vec<u32>> {
    let rows = columns.first().map_or(0, |(codes, _)| codes.len());
    if rows < FEWEST_ROWS || u32::try_from(rows).is_err() {
        return None;
    }
    let chosen = sort_by.0.get_or_init(|| sort_columns(columns));
    (!chosen.is_empty()).then(|| sorted(columns, chosen, rows))
}

/// The columns to sort by, the first to be compared first.
fn sort_columns(columns: &[ColumnCodes<'_>]) -> Vec<usize> {
    let rows = columns[0].0.len();
    let places = sample(rows, (SAMPLED_VALUES / columns.len()).clamp(FEWEST_SAMPLED, SAMPLE));
    let taken = places.len();
    let sample = |codes: &RowCodes| -> Vec<u64> { places.iter().map(|row| codes.get(*row as usize)).collect() };
    let samples: Vec<Vec<u64>> = columns.iter().map(|(codes, _)| sample(codes)).collect();
    let mut left: Vec<usize> = (0..columns.len()).filter(|c| columns[*c].1.bits() > 0).collect();
    let unsorted: Vec<f64> =
        columns.iter().zip(&samples).map(|((_, extent), sample)| bits_unsorted(sample, extent.bits(), rows)).collect();
    let mut chosen = Vec::new();
    let mut groups = vec![0u32; taken];
    // However rows are split before, a column has no fewer runs than values.
    let values: Vec<f64> = samples.iter().map(|sample| split(&groups, sample, rows).1).collect();
    let (mut count, mut bits) = (1.0f64, 0);
    loop {
        let mut best: Option<(f64, usize, f64, Vec<u32>)> = None;
        for column in &left {
            let (split, estimate) = split(&groups, &samples[*column], rows);
            let estimate = estimate.max(count).max(values[*column]);
            let bits = f64::from(columns[*column].1.bits());
            let rows = rows as f64;
            let in_runs = estimate * (bits + 2.0 + (rows / estimate).log2());
            let saved = unsorted[*column] - in_runs;
            let rate = saved / ((estimate / count).log2() + 0.01);
            let pays = runs_pay(rows / estimate, in_runs, rows * bits) && saved > rows * bits / WORTH as f64;
            if pays && best.as_ref().is_none_or(|(r, ..)| rate > *r) {
                best = Some((rate, *column, estimate, split));
            }
        }
        let Some((_, column, estimate, split)) = best else {
            return chosen;
        };
        chosen.push(column);
        bits += u32::from(columns[column].1.bits());
        if bits >= MOST_BITS {
            return chosen;
        }
        left.retain(|c| *c != column);
        (groups, count) = (split, estimate);
    }
}

/// The bits that codes take in no order, as far as a sample tells: of one that is very common, as null often is, only where the others
/// stand and what they are. That is not saved by sorting.
fn bits_unsorted(sample: &[u64], bits: u8, rows: usize) -> f64 {
    let mut counts: HashMap<u64, usize, foldhash::fast::RandomState> = HashMap::default();
    sample.iter().for_each(|code| *counts.entry(*code).or_default() += 1);
    let most = counts.into_values().max().unwrap_or(0);
    let others = (sample.len() - most) as f64 / sample.len().max(1) as f64 * rows as f64;
    let packed = |rows: f64| rows * f64::from(bits);
    packed(rows as f64).min(8.0 * Places::bytes_for(others as usize, rows) as f64 + packed(others))
}

/// Rows of a sample, chosen at random, so that it says the same in whatever order the rows stand; any part of it is a
/// sample, too. The method is the first steps of Durstenfeld's shuffle (Communications of the ACM 7, 1964).
fn sample(rows: usize, most: usize) -> Vec<u32> {
    let mut places: Vec<u32> = (0..rows as u32).collect();
    let taken = rows.min(most);
    let mut state = 0x2545_F491_4F6C_DD1Du64;
    for i in 0..taken {
        // Marsaglia's xorshift (Journal of Statistical Software 8, 2003).
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        places.swap(i, i + (state % (rows - i) as u64) as usize);
    }
    places.truncate(taken);
    places
}

/// Groups split by a column, and how many there will be in all rows.
fn split(groups: &[u32], codes: &[u64], rows: usize) -> (Vec<u32>, f64) {
    let mut places: HashMap<(u32, u64), u32, foldhash::fast::RandomState> = HashMap::default();
    let (mut found, mut split_half) = (0u32, 0u32);
    let mut split: Vec<u32> = Vec::with_capacity(groups.len());
    for (i, (group, code)) in groups.iter().zip(codes).enumerate() {
        if i == groups.len() / 2 {
            split_half = found;
        }
        let place = *places.entry((*group, *code)).or_insert_with(|| {
            found += 1;
            found - 1
        });
        split.push(place);
    }
    // How many groups there were after half of the sample tells how fast they become more.
    let half = split_half.max(1) as f64;
    let all = found as f64;
    let growth = (all / half).log2().clamp(0.0, 1.0);
    let estimate = all * (rows as f64 / groups.len().max(1) as f64).powf(growth);
    (split, estimate.clamp(1.0, rows as f64))
}

/// Rows sorted by columns; what is equal keeps its order.
fn sorted(columns: &[ColumnCodes<'_>], chosen: &[usize], rows: usize) -> Vec<u32> {
    let mut order: Vec<u32> = (0..rows as u32).collect();
    let mut bits = 0;
    let fits = |column: &&usize| {
        bits += u32::from(columns[**column].1.bits());
        bits <= MOST_BITS
    };
    let chosen = &chosen[..chosen.iter().take_while(fits).count()];
    // The last columns are sorted by first, some at a time: as many as one word has room for.
    let mut rest = chosen;
    while !rest.is_empty() {
        let mut bits = 0;
        let fits = |column: &&usize| {
            bits += u32::from(columns[**column].1.bits());
            bits <= u64::BITS
        };
        let (first, last) = rest.split_at(rest.len() - rest.iter().rev().take_while(fits).count());
        order = sorted_by_some(columns, last, order);
        rest = first;
    }
    order
}

/// Rows sorted by columns whose codes fit one word together; what is equal keeps its order.
fn sorted_by_some(columns: &[ColumnCodes<'_>], chosen: &[usize], order: Vec<u32>) -> Vec<u32> {
    let mut keys: Vec<u64> = vec![0; order.len()];
    let mut bits = 0;
    for (codes, extent) in chosen.iter().map(|column| columns[*column]) {
        bits += u32::from(extent.bits());
        codes.append_to(&mut keys, extent.low, extent.bits());
    }
    let pairs: Vec<(u64, u32)> = order.into_iter().map(|row| (keys[row as usize], row)).collect();
    by_digits(pairs, (0, bits), |(key, _), shift| digit(key, shift)).into_iter().map(|(_, row)| row).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn noise(i: u64) -> u64 {
        i.wrapping_mul(0x9E37_79B9_7F4A_7C15) >> 33
    }

    fn arrange(columns: &[Vec<u64>]) -> Vec<Vec<u64>> {
        let narrow = |codes: &Vec<u64>| RowCodes::Narrow(codes.iter().map(|c| *c as u32).collect());
        let wide = |codes: &Vec<u64>| RowCodes::Wide(codes.clone());
        let arranged = |codes: Vec<RowCodes>| {
            let (count, sort_by) = (vec![true; columns.len()], SortColumns::default());
            let segments = arranged(&codes, RowOrder::Best { count: &count, sort_by: &sort_by });
            segments.iter().map(Segment::all).collect::<Vec<_>>()
        };
        let found = arranged(columns.iter().map(wide).collect());
        assert_eq!(arranged(columns.iter().map(narrow).collect()), found, "narrow codes");
        found
    }

    #[test]
    fn rows_that_gain_are_sorted_and_keep_together() {
        let rows = 20_000u64;
        let fare: Vec<u64> = (0..rows).map(|i| noise(i) % 6).collect();
        let price: Vec<u64> = fare.iter().map(|f| f * 31 + 7).collect();
        let name: Vec<u64> = (0..rows).map(|i| noise(i + rows)).collect();
        let moved = arrange(&[fare.clone(), price.clone(), name.clone()]);
        let runs = |codes: &[u64]| 1 + codes.windows(2).filter(|w| w[0] != w[1]).count();
        assert_eq!((runs(&moved[0]), runs(&moved[1])), (6, 6));
        // What is equal keeps its order.
        let mut expected: Vec<usize> = (0..rows as usize).collect();
        expected.sort_by_key(|row| moved[0].iter().position(|f| *f == fare[*row]));
        let whole = |columns: &[&Vec<u64>; 3], row: usize| columns.map(|c| c[row]);
        for (row, from) in expected.into_iter().enumerate() {
            assert_eq!(
                whole(&[&moved[0], &moved[1], &moved[2]], row),
                whole(&[&fare, &price, &name], from),
                "row {row}"
            );
        }
    }

    #[test]
    fn what_is_mostly_nothing_and_else_hardly_repeats_is_not_sorted_by() {
        let rows = 40_000u64;
        for (nothing, of) in [(1, 2), (3, 5), (9, 10)] {
            let refund: Vec<u64> =
                (0..rows).map(|i| if noise(i) % of < nothing { 0 } else { 1 + noise(i + rows) }).collect();
            let below = |salt: u64, most: u64| (0..rows).map(|i| noise(i + salt * rows) % most).collect::<Vec<u64>>();
            // Many rows in each group, or few.
            for most in [[2, 25], [12, 40]] {
                let moved = arrange(&[refund.clone(), below(2, most[0]), below(3, most[1])]);
                let runs = |codes: &[u64]| 1 + codes.windows(2).filter(|w| w[0] != w[1]).count() as u64;
                let (first, second) = (runs(&moved[1]), runs(&moved[2]));
                assert!(first.max(second) <= most[0] * most[1], "{nothing} of {of} are nothing: {first}, {second}");
            }
        }
    }

    #[test]
    fn rows_that_gain_nothing_stay() {
        let rows = 20_000u64;
        let id: Vec<u64> = (0..rows).collect();
        let price: Vec<u64> = (0..rows).map(noise).collect();
        let sorted: Vec<u64> = (0..rows).map(|i| i / 100).collect();
        let few: Vec<u64> = (0..100).map(|i| i % 3).collect();
        for (what, columns) in [
            ("nothing repeats", vec![id, price.clone()]),
            ("it is in order", vec![sorted, price]),
            ("too few to matter", vec![few]),
            ("nothing", vec![]),
        ] {
            assert_eq!(arrange(&columns), columns, "{what}");
        }
    }
}
