//! Two columns of a row compared: from their codes to the rows that pass, with no value of its own for each on the way.

use super::super::compiled::{BatchCodes, ColumnComparison, Compared};
use super::batch::Batch;
use crate::formula::typed::Op;

/// Whether a comparison is true at some positions of a batch; it is not where a side is null.
pub(super) fn compared(comparison: &ColumnComparison<'_>, batch: &Batch<'_>, positions: &[u32]) -> Vec<bool> {
    // One loop for each operator, so that none asks row by row which it is.
    macro_rules! truths {
        ($rows:expr, $row:pat, $x:ident, $y:ident, $there:expr, $differ:expr) => {
            match comparison.op {
                Op::Lt => $rows.map(|$row| $x < $y && $there).collect(),
                Op::Le => $rows.map(|$row| $x <= $y && $there).collect(),
                Op::Gt => $rows.map(|$row| $x > $y && $there).collect(),
                Op::Ge => $rows.map(|$row| $x >= $y && $there).collect(),
                Op::Ne => $rows.map(|$row| $differ && $there).collect(),
                _ => $rows.map(|$row| $x == $y && $there).collect(),
            }
        };
    }
    match comparison.sides {
        Compared::Ints([(a, x), (b, y)]) => {
            let (x, y) = (batch.ints(a, x, positions), batch.ints(b, y, positions));
            truths!(x.into_iter().zip(y), (x, y), x, y, true, x != y)
        }
        Compared::SomeInts([(a, x), (b, y)]) => {
            let ((x, x_there), (y, y_there)) = (batch.some_ints(a, x, positions), batch.some_ints(b, y, positions));
            let there: Vec<bool> = x_there.into_iter().zip(y_there).map(|(x, y)| x & y).collect();
            truths!(x.into_iter().zip(y).zip(there), ((x, y), there), x, y, there, x != y)
        }
        // What is no number is neither less nor more than another, nor the same.
        Compared::Floats([(a, x), (b, y)]) => {
            let (x, y) = (batch.floats(a, x, positions), batch.floats(b, y, positions));
            truths!(x.into_iter().zip(y), (x, y), x, y, true, x != y && !x.is_nan() && !y.is_nan())
        }
    }
}
