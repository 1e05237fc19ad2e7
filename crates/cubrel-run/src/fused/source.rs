//! What expressions take from the leaves of a formula.

use cubrel_value::Value;

/// What a leaf of an expression delivers.
pub enum LeafSource<'a> {
    /// Whole numbers, perhaps null in some rows.
    Numbers {
        /// The smallest and the largest of them, and of 0 where some can be null: to find them out can take long.
        ends: Box<dyn Fn() -> (i64, i64) + 'a>,
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

/// Writes the numbers of rows from one on.
pub type UnpackFrom<'a> = dyn Fn(usize, &mut [i64]) + 'a;

/// The values of a leaf for some rows.
pub enum Loaded<'a> {
    /// Whole numbers, and which of them are there.
    Numbers(Vec<i64>, Option<Vec<bool>>),
    /// Whole numbers, all there, from some row on.
    InParts(Box<UnpackFrom<'a>>),
    /// Truth values, and which of them are there.
    Truths(Vec<bool>, Option<Vec<bool>>),
}
