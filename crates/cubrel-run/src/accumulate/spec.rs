//! What an aggregate is, and vectors of its results.

use std::sync::Arc;

use cubrel_formula::typed::AggregateKind;
use cubrel_store::CodedColumn;
use cubrel_value::{Data, Type, Value, Vector};

/// What an aggregate is, apart from where its values come from.
#[derive(Clone, Debug)]
pub struct Spec {
    /// Which one.
    pub kind: AggregateKind,
    /// The type of its first argument.
    pub input: Type,
    /// The types of all arguments.
    pub inputs: Vec<Type>,
    /// For each part of the order its type, and whether it descends.
    pub order: Vec<(Type, bool)>,
    /// A constant argument.
    pub constant: Option<Value>,
    /// The type of the result.
    pub ty: Type,
    /// The column whose codes are fed in place of values.
    pub coded: Option<Arc<CodedColumn>>,
    /// How many combinations of codes of several columns there are, where the numbers of these are fed; that of null comes after them.
    pub combined: Option<u64>,
    /// Whether an argument can be null; if not, a sum has a value wherever a row was seen.
    pub nullable: bool,
    /// Which of the aggregates that are fed the same rows counts them, where this one need not.
    pub counted_by: Option<usize>,
}

impl Spec {
    /// How many codes there are without null's, where codes are fed.
    pub fn codes(&self) -> Option<u64> {
        self.combined.or_else(|| self.coded.as_ref().map(|column| column.domain()))
    }

    /// What one group takes at least.
    pub fn bytes_per_group(&self) -> u64 {
        use AggregateKind::*;
        match self.kind {
            Rows | Count => 8,
            Sum | Avg => 16,
            CountDistinct => self.codes().map_or(16, |codes| (codes / 8).min(16)),
            Min | Max | Single if self.coded.is_some() => 8,
            Median | PercentileCont | PercentileDisc => 48,
            _ => 32,
        }
    }
}

/// Zeros, and room for one more at the end: the result over no rows.
pub(crate) fn zeros<T: Clone + Default>(count: usize) -> Vec<T> {
    let mut zeros = vec![T::default(); count + 1];
    zeros.truncate(count);
    zeros
}

/// Doubles with null for what is not a number, then null.
pub(super) fn floats(values: impl Iterator<Item = f64>) -> Vector {
    let values: Vec<f64> = values.chain(std::iter::once(f64::NAN)).collect();
    let valid = values.iter().map(|v| v.is_finite()).collect();
    Vector::with_validity(Data::F64(values), valid)
}
