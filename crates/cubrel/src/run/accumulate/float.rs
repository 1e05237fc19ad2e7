//! Sums and means of doubles, in the order in which rows come.

use std::any::Any;

use super::entries::Entries;
use super::spec::floats;
use super::state::{At, State, same};
use crate::value::{Data, Vector};

#[derive(Debug)]
pub(super) struct FloatSums {
    sums: Vec<f64>,
    counts: Vec<u64>,
    is_mean: bool,
}

impl FloatSums {
    pub(super) fn new(groups: usize, is_mean: bool) -> FloatSums {
        FloatSums { sums: vec![0.0; groups], counts: vec![0; groups], is_mean }
    }
}

impl State for FloatSums {
    fn grow(&mut self, groups: usize) {
        self.sums.resize(groups, 0.0);
        self.counts.resize(groups, 0);
    }

    fn add_values(&mut self, entries: Entries<'_>, vectors: &[Vector]) {
        let Some(first) = vectors.first() else { return };
        let Data::F64(values) = &first.data else { return };
        let entries = entries.one_by_one();
        for i in (0..first.len()).filter(|i| first.is_valid(*i)) {
            self.sums[entries.group(i)] += values[i] * entries.weight(i) as f64;
            self.counts[entries.group(i)] += entries.weight(i);
        }
    }

    fn merge(&mut self, other: Box<dyn State>, at: At<'_>) {
        let Some(FloatSums { sums, counts, .. }) = same(other) else { return };
        at.each(sums.into_iter().zip(counts), |group, (sum, count)| {
            self.sums[group] += sum;
            self.counts[group] += count;
        });
    }

    fn finish(self: Box<Self>, _: &[bool]) -> Result<Vector, String> {
        let values = self.sums.iter().zip(&self.counts).map(|(sum, count)| match count {
            0 => f64::NAN,
            _ if self.is_mean => sum / *count as f64,
            _ => *sum,
        });
        Ok(floats(values))
    }

    fn into_any(self: Box<Self>) -> Box<dyn Any> {
        self
    }
}
