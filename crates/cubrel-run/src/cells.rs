//! What is computed for many cells at once.

use super::frame::{SharedCodes, distinct, gathered};
use cubrel_plan::{DimId, ReadId};
use cubrel_value::Vector;

/// Values of cells, and whether an aggregate read a row for them.
pub struct Cells {
    /// The values.
    pub values: Vector,
    /// For each cell, whether a row was read.
    pub read: Vec<bool>,
}

/// Groups that a read brought: codes by dimension of the inner scope.
pub struct Support {
    /// The read, where they are its groups as they stand.
    pub read: Option<ReadId>,
    /// Which dimensions.
    pub dims: Vec<DimId>,
    /// Their codes, dimension by dimension.
    pub keys: Vec<SharedCodes>,
}

impl PartialEq for Support {
    /// Whichever read brought them.
    fn eq(&self, other: &Support) -> bool {
        self.dims == other.dims && self.keys == other.keys
    }
}

impl Support {
    /// Drops dimensions that the outer scope does not have.
    pub(super) fn keep_below(&mut self, dims: usize) {
        let places: Vec<usize> = (0..self.dims.len()).filter(|i| self.dims[*i].is_below(dims)).collect();
        if places.len() == self.dims.len() {
            return;
        }
        let rows = self.keys.first().map_or(1, |codes| codes.len());
        let slices: Vec<&[u64]> = places.iter().map(|p| self.keys[*p].as_slice()).collect();
        let (_, first) = distinct(&slices, rows);
        let keys = slices.iter().map(|codes| gathered(codes, &first)).collect();
        self.dims = places.iter().map(|p| self.dims[*p]).collect();
        self.keys = keys;
    }

    /// How many groups they are.
    pub(super) fn rows(&self) -> usize {
        self.keys.first().map_or(1, |codes| codes.len())
    }

    /// Whether it says nothing of the first so many dimensions.
    pub(super) fn has_no(&self, dims: usize) -> bool {
        self.dims.iter().all(|d| !d.is_below(dims))
    }
}
