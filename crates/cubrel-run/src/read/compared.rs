//! Two columns of doubles compared: from their codes to the rows that pass, with no value of its own for each on the way.

use super::super::coded_numbers::Floats;
use super::super::compiled::{BatchCodes, FloatComparison};
use super::super::tables::Anchor;
use super::batch::Batch;
use cubrel_formula::typed::Op;

/// Whether a comparison is true at some positions of a batch; it is not where a side is null.
pub(super) fn compared(comparison: &FloatComparison<'_>, batch: &Batch<'_>, positions: &[u32]) -> Vec<bool> {
    let FloatComparison { op, sides } = comparison;
    if batch.is_all_rows(positions) {
        return all_compared(*op, sides, batch, positions.len());
    }
    let [x, y] = sides.map(|(anchor, floats)| batch.floats(anchor, floats, positions));
    let mut truths = vec![false; positions.len()];
    compare_floats(*op, &x, &y, &mut truths);
    truths
}

/// So many doubles of two columns stay in the nearest cache.
const CHUNK: usize = 1024;

/// The same in all of so many rows, some at a time.
fn all_compared(op: Op, [(a, x), (b, y)]: &[(Anchor, Floats<'_>); 2], batch: &Batch<'_>, rows: usize) -> Vec<bool> {
    let mut truths = vec![false; rows];
    let (mut left, mut right) = ([0.0; CHUNK], [0.0; CHUNK]);
    for (chunk, truths) in truths.chunks_mut(CHUNK).enumerate() {
        let (left, right) = (&mut left[..truths.len()], &mut right[..truths.len()]);
        batch.floats_from(*a, *x, chunk * CHUNK, left);
        batch.floats_from(*b, *y, chunk * CHUNK, right);
        compare_floats(op, left, right, truths);
    }
    truths
}

/// Whether doubles compare as said.
fn compare_floats(op: Op, x: &[f64], y: &[f64], truths: &mut [bool]) {
    #[cfg(target_arch = "x86_64")]
    if std::arch::is_x86_feature_detected!("avx2") {
        // SAFETY: the processor has AVX2.
        return unsafe { compare_floats_in_vectors(op, x, y, truths) };
    }
    compare_each_float(op, x, y, truths);
}

/// The same where the compiler may take it that there are vectors of 256 bits.
#[cfg(target_arch = "x86_64")]
#[target_feature(enable = "avx2")]
fn compare_floats_in_vectors(op: Op, x: &[f64], y: &[f64], truths: &mut [bool]) {
    compare_each_float(op, x, y, truths);
}

/// What is no number is neither less nor more than another, nor the same, nor different.
#[inline(always)]
fn compare_each_float(op: Op, x: &[f64], y: &[f64], truths: &mut [bool]) {
    let all = truths.iter_mut().zip(x.iter().zip(y));
    match op {
        Op::Lt => all.for_each(|(truth, (x, y))| *truth = x < y),
        Op::Le => all.for_each(|(truth, (x, y))| *truth = x <= y),
        Op::Gt => all.for_each(|(truth, (x, y))| *truth = x > y),
        Op::Ge => all.for_each(|(truth, (x, y))| *truth = x >= y),
        Op::Ne => all.for_each(|(truth, (x, y))| *truth = (x != y) & !x.is_nan() & !y.is_nan()),
        _ => all.for_each(|(truth, (x, y))| *truth = x == y),
    }
}
