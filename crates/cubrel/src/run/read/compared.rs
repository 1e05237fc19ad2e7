//! Two columns of a row compared: from their codes to the rows that pass, with no value of its own for each on the way.

use super::super::compiled::{BatchCodes, ColumnComparison, Compared};
use super::batch::Batch;
use super::kept::keep;
use crate::formula::typed::Op;

/// Leaves those positions of a batch at which a comparison is true; it is not where a side is null.
pub(super) fn keep_compared(comparison: &ColumnComparison<'_>, batch: &Batch<'_>, positions: &mut Vec<u32>) {
    // One loop for each operator, so that none asks row by row which it is.
    macro_rules! keep_where {
        ($rows:expr, $row:pat, $x:ident, $y:ident, $there:expr, $differ:expr) => {
            match comparison.op {
                Op::Lt => keep(positions, $rows.map(|$row| $x < $y && $there)),
                Op::Le => keep(positions, $rows.map(|$row| $x <= $y && $there)),
                Op::Gt => keep(positions, $rows.map(|$row| $x > $y && $there)),
                Op::Ge => keep(positions, $rows.map(|$row| $x >= $y && $there)),
                Op::Ne => keep(positions, $rows.map(|$row| $differ && $there)),
                _ => keep(positions, $rows.map(|$row| $x == $y && $there)),
            }
        };
    }
    match comparison.sides {
        Compared::Ints([(a, x), (b, y)]) => {
            let (x, y) = (batch.ints(a, x, positions), batch.ints(b, y, positions));
            keep_where!(x.into_iter().zip(y), (x, y), x, y, true, x != y);
        }
        Compared::SomeInts([(a, x), (b, y)]) => {
            let ((x, x_there), (y, y_there)) = (batch.some_ints(a, x, positions), batch.some_ints(b, y, positions));
            let there: Vec<bool> = x_there.into_iter().zip(y_there).map(|(x, y)| x & y).collect();
            keep_where!(x.into_iter().zip(y).zip(there), ((x, y), there), x, y, there, x != y);
        }
        // What is no number is neither less nor more than another, nor the same.
        Compared::Floats([(a, x), (b, y)]) => {
            let (x, y) = (batch.floats(a, x, positions), batch.floats(b, y, positions));
            keep_where!(x.into_iter().zip(y), (x, y), x, y, true, x != y && !x.is_nan() && !y.is_nan());
        }
    }
}
