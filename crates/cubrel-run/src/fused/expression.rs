//! An expression as steps, and its values.

use super::bounds::Bounds;
use super::source::Loaded;
use super::steps::{CHUNK, Machine, VectorStep};
use cubrel_value::{Data, Vector};

/// An expression as steps.
#[derive(Clone, Debug)]
pub struct Fused {
    /// The leaves that are loaded.
    pub(super) loads: Vec<usize>,
    /// What gives its numbers, or where it is true.
    pub(super) value: Vec<VectorStep>,
    /// What gives where it is not null; nothing where that is everywhere.
    pub(super) valid: Option<Vec<VectorStep>>,
    pub(super) is_condition: bool,
    pub(super) depth: usize,
    /// Between which its numbers lie.
    pub(super) bounds: Bounds,
}

impl Fused {
    /// Its values in so many rows; numbers are 0 where they are null. `load` is told of which leaf, and whether each row is asked
    /// for only once.
    pub fn eval<'l>(&self, rows: usize, load: impl Fn(usize, bool) -> Loaded<'l>) -> Vector {
        let loaded = self.loaded(load);
        let valid = self.valid.as_deref().map(|steps| self.truths_of(steps, &loaded, rows));
        if self.is_condition {
            return vector(Data::Bool(self.truths_of(&self.value, &loaded, rows)), valid);
        }
        let mut values = Vec::with_capacity(rows);
        let mut machine = Machine::new(self.depth);
        for start in (0..rows).step_by(CHUNK) {
            values.extend_from_slice(machine.run(&self.value, &loaded, start, CHUNK.min(rows - start)));
        }
        if let Some(valid) = &valid {
            values.iter_mut().zip(valid).for_each(|(value, valid)| *value &= -i64::from(*valid));
        }
        vector(Data::I64(values), valid)
    }

    /// In which of so many rows a condition is true.
    pub fn truths<'l>(&self, rows: usize, load: impl Fn(usize, bool) -> Loaded<'l>) -> Vec<bool> {
        self.truths_of(&self.value, &self.loaded(load), rows)
    }

    fn loaded<'l>(&self, load: impl Fn(usize, bool) -> Loaded<'l>) -> Vec<Loaded<'l>> {
        let steps = || self.value.iter().chain(self.valid.iter().flatten());
        let is_once = |place: usize| steps().filter(|step| step.load() == Some(place)).count() == 1;
        self.loads.iter().enumerate().map(|(place, leaf)| load(*leaf, is_once(place))).collect()
    }

    fn truths_of(&self, steps: &[VectorStep], loaded: &[Loaded<'_>], rows: usize) -> Vec<bool> {
        let mut truths = vec![false; rows];
        let mut machine = Machine::new(self.depth);
        for (chunk, truths) in truths.chunks_mut(CHUNK).enumerate() {
            let mask = machine.run(steps, loaded, chunk * CHUNK, truths.len());
            truths.iter_mut().zip(mask).for_each(|(truth, mask)| *truth = *mask != 0);
        }
        truths
    }

    /// Whether it is a condition.
    pub fn is_condition(&self) -> bool {
        self.is_condition
    }

    /// Whether a value can be null.
    pub fn nullable(&self) -> bool {
        self.valid.is_some()
    }

    /// The bits that the largest of its numbers takes.
    pub fn bits(&self) -> u32 {
        self.bounds.bits()
    }
}

fn vector(data: Data, valid: Option<Vec<bool>>) -> Vector {
    match valid {
        Some(valid) => Vector::with_validity(data, valid),
        None => Vector::new(data),
    }
}
