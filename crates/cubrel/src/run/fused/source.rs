//! What expressions take from the leaves of a formula.

use super::bounds::Bounds;
use crate::value::Value;

/// What a leaf of an expression delivers.
#[derive(Clone, Debug)]
pub enum LeafSource {
    /// Whole numbers within bounds, perhaps null in some rows, and within them then, too.
    Numbers {
        /// Between which all of them lie.
        bounds: Bounds,
        /// Whether some can be null.
        nullable: bool,
    },
    /// Truth values, perhaps null in some rows.
    Truths {
        /// Whether some can be null.
        nullable: bool,
    },
    /// The same in all rows.
    Constant(Value),
}

/// The values of a leaf for some rows.
pub enum Loaded<'a> {
    /// Whole numbers, and which of them are there.
    Numbers(Vec<i64>, Option<Vec<bool>>),
    /// Whole numbers, all there, from some row on.
    InParts(Box<dyn Fn(usize, &mut [i64]) + 'a>),
    /// Truth values, and which of them are there.
    Truths(Vec<bool>, Option<Vec<bool>>),
}
