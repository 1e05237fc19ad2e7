//! The steps of an expression, as they come.

use super::source::LeafSource;
use super::steps::VectorStep;
use cubrel_formula::scalar::Scalar;
use cubrel_value::{Type, Value};

/// Longer expressions are not put together.
pub(super) const MOST_STEPS: usize = 64;

/// Puts steps together: numbers in `arithmetic`, conditions in `conditions`, what is null in `presence`.
pub(super) struct Compiler<'a, 's> {
    pub(super) source: &'a dyn Fn(usize) -> Option<LeafSource<'s>>,
    pub(super) loads: Vec<usize>,
    pub(super) steps: Vec<VectorStep>,
    pub(super) height: usize,
    pub(super) depth: usize,
}

impl<'a, 's> Compiler<'a, 's> {
    pub(super) fn new(source: &'a dyn Fn(usize) -> Option<LeafSource<'s>>) -> Compiler<'a, 's> {
        Compiler { source, loads: Vec::new(), steps: Vec::new(), height: 0, depth: 0 }
    }

    /// Adds a step after which there are so many vectors more, or fewer.
    pub(super) fn add(&mut self, step: VectorStep, more: isize) {
        self.steps.push(step);
        self.height = self.height.saturating_add_signed(more);
        self.depth = self.depth.max(self.height);
    }

    pub(super) fn taken(&mut self) -> Vec<VectorStep> {
        self.height = 0;
        std::mem::take(&mut self.steps)
    }

    pub(super) fn load(&mut self, leaf: usize) -> usize {
        let known = self.loads.iter().position(|known| *known == leaf);
        known.unwrap_or_else(|| {
            self.loads.push(leaf);
            self.loads.len() - 1
        })
    }

    /// The value of a part that is the same everywhere.
    pub(super) fn constant(&self, part: &Scalar) -> Option<Value> {
        part.constant_with(&|leaf| match (self.source)(leaf)? {
            LeafSource::Constant(value) => Some(value),
            _ => None,
        })
    }

    /// The same as a whole number.
    pub(super) fn whole(&self, part: &Scalar) -> Option<i64> {
        self.constant(part)?.as_stored(part.ty).filter(|_| is_whole(part.ty))
    }
}

/// Whether values of a type are whole numbers, as vectors hold them.
pub(super) fn is_whole(ty: Type) -> bool {
    ty.is_exact() || matches!(ty, Type::Date | Type::Timestamp)
}
