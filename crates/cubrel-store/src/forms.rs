//! The codes of rows to a segment, in the form that takes the least.

use super::bits::{PackedInts, bits_for};
use super::codes::{CodeWord, Codes, Segment};
use super::places::Places;
use super::sorted::SortedInts;

/// Another form than packed codes has to save at least one byte in so many.
const WORTH: usize = 8;
/// To find a run takes as long as to unpack so many codes: runs that are shorter in the mean have to save
const SHORT_RUN: f64 = 8.0;
/// one byte in two.
const SHORT_WORTH: f64 = 2.0;
/// Rows that are asked for the most common code.
const MAJORITY_SAMPLE: usize = 1 << 12;
/// Null is told apart where it is one code in so many, or more.
const FREQUENT: usize = 8;

/// The codes of rows on their way to a segment: narrow where all fit, since most of the work is to move them.
pub enum RowCodes {
    /// Codes of which none needs more than 32 bits.
    Narrow(Vec<u32>),
    /// Any codes.
    Wide(Vec<u64>),
}

/// The smallest and the largest of some codes; of none it is 0.
#[derive(Clone, Copy, Debug)]
pub struct Extent {
    /// The smallest.
    pub low: u64,
    /// The largest.
    pub high: u64,
}

impl Extent {
    fn of<T: CodeWord>(codes: &[T]) -> Extent {
        let wide = |c: T| c.wide();
        let Some(first) = codes.first() else { return Extent { low: 0, high: 0 } };
        let (low, high) = codes.iter().fold((*first, *first), |(low, high), c| (low.min(*c), high.max(*c)));
        Extent { low: wide(low), high: wide(high) }
    }

    /// How many bits a code takes when the smallest one is taken off.
    pub fn bits(self) -> u8 {
        bits_for(self.high - self.low)
    }
}

/// Calls the same for codes of both widths.
macro_rules! for_either {
    ($row_codes:expr, $codes:ident => $what:expr) => {
        match $row_codes {
            RowCodes::Narrow($codes) => $what,
            RowCodes::Wide($codes) => $what,
        }
    };
}

impl RowCodes {
    /// Room for codes of so many rows, none greater than `most`.
    pub fn with_capacity(rows: usize, most: u64) -> RowCodes {
        match u32::try_from(most) {
            Ok(_) => RowCodes::Narrow(Vec::with_capacity(rows)),
            Err(_) => RowCodes::Wide(Vec::with_capacity(rows)),
        }
    }

    /// One code for all rows.
    pub fn constant(rows: usize, code: u32) -> RowCodes {
        RowCodes::Narrow(vec![code; rows])
    }

    /// Appends what `code` gives for each value.
    pub fn extend<V: Copy>(&mut self, values: &[V], code: impl Fn(V) -> u64) {
        match self {
            RowCodes::Narrow(codes) => codes.extend(values.iter().map(|v| code(*v) as u32)),
            RowCodes::Wide(codes) => codes.extend(values.iter().map(|v| code(*v))),
        }
    }

    /// Puts `code` where nothing is valid.
    pub fn fill_invalid(&mut self, valid: &[bool], code: u64) {
        for_either!(self, codes => {
            let slots = codes.iter_mut().zip(valid).filter(|(_, valid)| !**valid);
            slots.for_each(|(slot, _)| *slot = CodeWord::of(code));
        });
    }

    /// How many rows.
    pub fn len(&self) -> usize {
        for_either!(self, codes => codes.len())
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The code of a row.
    pub fn get(&self, row: usize) -> u64 {
        for_either!(self, codes => codes[row].wide())
    }

    /// All codes.
    pub fn iter(&self) -> Box<dyn Iterator<Item = u64> + '_> {
        for_either!(self, codes => Box::new(codes.iter().map(|c| c.wide())))
    }

    /// The smallest and the largest code.
    pub fn extent(&self) -> Extent {
        for_either!(self, codes => Extent::of(codes))
    }

    /// The same rows in another order.
    #[must_use]
    pub fn in_order(&self, order: &[u32]) -> RowCodes {
        fn gathered<T: CodeWord>(codes: &[T], order: &[u32]) -> Vec<T> {
            order.iter().map(|row| codes[*row as usize]).collect()
        }
        match self {
            RowCodes::Narrow(codes) => RowCodes::Narrow(gathered(codes, order)),
            RowCodes::Wide(codes) => RowCodes::Wide(gathered(codes, order)),
        }
    }

    /// Each code for a run of rows that ends there.
    #[must_use]
    pub fn repeated(&self, ends: &[u32]) -> RowCodes {
        fn filled<T: CodeWord>(codes: &[T], ends: &[u32]) -> Vec<T> {
            let mut rows = Vec::with_capacity(ends.last().map_or(0, |end| *end as usize));
            codes.iter().zip(ends).for_each(|(code, end)| rows.resize(*end as usize, *code));
            rows
        }
        match self {
            RowCodes::Narrow(codes) => RowCodes::Narrow(filled(codes, ends)),
            RowCodes::Wide(codes) => RowCodes::Wide(filled(codes, ends)),
        }
    }

    /// Appends the codes, less `base` and of so many bits, to the low end of each key.
    pub fn append_to(&self, keys: &mut [u64], base: u64, bits: u8) {
        for_either!(self, codes => {
            for (key, code) in keys.iter_mut().zip(codes) {
                *key = key.checked_shl(bits.into()).unwrap_or(0) | (code.wide() - base);
            }
        });
    }

    /// The segment of all rows, whose codes are known to extend so far.
    pub fn segment(&self, extent: Extent) -> Segment {
        for_either!(self, codes => within(codes, extent))
    }

    /// The segment of some rows.
    ///
    /// # Panics
    /// When there are not so many.
    pub fn segment_of(&self, rows: std::ops::Range<usize>) -> Segment {
        for_either!(self, codes => within(&codes[rows.clone()], Extent::of(&codes[rows])))
    }

    /// How many bytes [`RowCodes::segment`] takes.
    pub fn bytes(&self, extent: Extent) -> usize {
        fn bytes<T: CodeWord>(codes: &[T], extent: Extent) -> usize {
            if is_sequence(codes, extent) { 0 } else { Forms::of(codes, extent).least().1 }
        }
        for_either!(self, codes => bytes(codes, extent))
    }
}

impl Segment {
    /// Codes in the form that takes the least.
    pub fn new(codes: &[u64]) -> Segment {
        within(codes, Extent::of(codes))
    }
}

fn is_sequence<T: CodeWord>(codes: &[T], extent: Extent) -> bool {
    let all = codes.len() as u64;
    // Only in order do they extend just so far.
    all > 1 && extent.high - extent.low == all - 1 && codes.iter().zip(extent.low..).all(|(c, i)| c.wide() == i)
}

fn within<T: CodeWord>(codes: &[T], extent: Extent) -> Segment {
    let Extent { low: base, high: max } = extent;
    let kept = if is_sequence(codes, extent) { Codes::Sequence(codes.len()) } else { smallest(codes, extent) };
    Segment { base, max, codes: kept }
}

fn smallest<T: CodeWord>(codes: &[T], extent: Extent) -> Codes {
    let (base, bits) = (extent.low, extent.bits());
    let forms = Forms::of(codes, extent);
    match forms.least().0 {
        Form::Packed => Codes::Packed(PackedInts::pack(codes.iter().map(|c| c.wide() - base), bits)),
        Form::Runs => as_runs(codes, base, bits, forms.run_count),
        Form::Sparse => as_sparse(codes, base, bits, forms.common),
    }
}

/// Whether runs of so many rows take so much less than packed codes do that they pay.
pub(super) fn runs_pay(rows: f64, taken: f64, packed: f64) -> bool {
    let worth = if rows < SHORT_RUN { packed / SHORT_WORTH } else { packed - packed / WORTH as f64 };
    taken < worth
}

/// How many bytes codes take in each form.
struct Forms {
    packed: usize,
    runs: usize,
    run_count: usize,
    sparse: usize,
    common: u64,
}

enum Form {
    Packed,
    Runs,
    Sparse,
}

impl Forms {
    fn of<T: CodeWord>(codes: &[T], extent: Extent) -> Forms {
        let (len, bits) = (codes.len(), extent.bits());
        let run_count = 1 + codes.iter().zip(codes.iter().skip(1)).filter(|(a, b)| a != b).count();
        let common = majority(codes).or_else(|| frequent(codes, T::of(extent.high)));
        let others = common.map(|c| codes.iter().filter(|x| **x != c).count());
        let packed = |n: usize| n.div_ceil(64) * usize::from(bits) * 8;
        let in_runs = SortedInts::bytes_for(run_count, len as u64) + packed(run_count);
        let pays = runs_pay(len as f64 / run_count as f64, in_runs as f64, packed(len) as f64);
        Forms {
            packed: packed(len),
            runs: if pays { in_runs } else { usize::MAX },
            run_count,
            sparse: others.map_or(usize::MAX, |n| Places::bytes_for(n, len) + packed(n)),
            common: common.map_or(0, CodeWord::wide),
        }
    }

    fn least(&self) -> (Form, usize) {
        let most = self.packed - self.packed / WORTH;
        match (self.runs, self.sparse) {
            (usize::MAX, sparse) if sparse >= most => (Form::Packed, self.packed),
            (runs, sparse) if runs <= sparse => (Form::Runs, runs),
            (_, sparse) => (Form::Sparse, sparse),
        }
    }
}

/// The value that more than half of all are, if there is one, told by a sample: R. Boyer and J. Moore, "MJRTY — a fast
/// majority vote algorithm" (1981).
fn majority<T: CodeWord>(codes: &[T]) -> Option<T> {
    let sample = || codes.iter().step_by((codes.len() / MAJORITY_SAMPLE).max(1));
    let (mut candidate, mut lead) = (None, 0usize);
    // Where one code is in most rows, it is in most of some of them.
    for code in sample() {
        if lead == 0 {
            (candidate, lead) = (Some(*code), 1);
        } else if candidate == Some(*code) {
            lead += 1;
        } else {
            lead -= 1;
        }
    }
    let votes = sample().filter(|code| Some(**code) == candidate).count();
    candidate.filter(|_| 3 * votes > sample().count())
}

/// A value if it is one in so many of a sample, or more.
fn frequent<T: CodeWord>(codes: &[T], value: T) -> Option<T> {
    let sample = || codes.iter().step_by((codes.len() / MAJORITY_SAMPLE).max(1));
    let count = sample().filter(|code| **code == value).count();
    (count * FREQUENT > sample().count()).then_some(value)
}

fn as_runs<T: CodeWord>(codes: &[T], base: u64, bits: u8, runs: usize) -> Codes {
    let mut ends = Vec::with_capacity(runs);
    let mut kept = Vec::with_capacity(runs);
    for (i, code) in codes.iter().enumerate() {
        if codes.get(i + 1) != Some(code) {
            ends.push(i as u64 + 1);
            kept.push(code.wide() - base);
        }
    }
    let len = codes.len();
    Codes::Runs {
        len,
        ends: SortedInts::new(ends.into_iter(), len as u64),
        codes: PackedInts::pack(kept.into_iter(), bits),
    }
}

fn as_sparse<T: CodeWord>(codes: &[T], base: u64, bits: u8, common: u64) -> Codes {
    let others = codes.iter().enumerate().filter(|(_, c)| c.wide() != common);
    let others: Vec<(u64, u64)> = others.map(|(i, c)| (i as u64, c.wide() - base)).collect();
    let rows = Places::new(others.iter().map(|(i, _)| *i), codes.len());
    let codes_of = PackedInts::pack(others.iter().map(|(_, c)| *c), bits);
    Codes::Sparse { len: codes.len(), common: common - base, rows, codes: codes_of }
}
