//! The one value that there is.

use std::any::Any;

use super::entries::Entries;
use super::results::{NONE, SEVERAL, collected, decoded};
use super::spec::Spec;
use super::state::{At, State, same};
use cubrel_value::{Value, Vector};

/// The code, [`NONE`] or [`SEVERAL`]. Null's counts as one.
#[derive(Debug)]
pub(super) struct SingleCodes {
    only: Vec<u64>,
    spec: Spec,
}

impl SingleCodes {
    pub(super) fn new(spec: &Spec, groups: usize) -> SingleCodes {
        SingleCodes { only: vec![NONE; groups], spec: spec.clone() }
    }

    fn take(&mut self, group: usize, code: u64) {
        let slot = &mut self.only[group];
        *slot = if *slot == NONE || *slot == code { code } else { SEVERAL };
    }
}

impl State for SingleCodes {
    fn resize(&mut self, groups: usize) {
        self.only.resize(groups, NONE);
    }

    fn add_codes(&mut self, entries: Entries<'_>, codes: &[u64], _: u64) {
        codes.iter().enumerate().for_each(|(i, code)| self.take(entries.group(i), *code));
    }

    fn merge(&mut self, other: Box<dyn State>, at: At<'_>) {
        let Some(SingleCodes { only, .. }) = same(other) else { return };
        at.each(only, |group, code| {
            if code != NONE {
                self.take(group, code);
            }
        });
    }

    fn finish(self: Box<Self>, _: &[bool]) -> Result<Vector, String> {
        Ok(decoded(&self.spec, self.only))
    }

    fn into_any(self: Box<Self>) -> Box<dyn Any> {
        self
    }
}

#[derive(Clone, Debug, PartialEq)]
enum Single {
    Nothing,
    One(Value),
    Several,
}

impl Single {
    fn merge(&mut self, other: Single) {
        *self = match (std::mem::replace(self, Single::Nothing), other) {
            (Single::Nothing, s) | (s, Single::Nothing) => s,
            (Single::One(a), Single::One(b)) if a == b => Single::One(a),
            _ => Single::Several,
        };
    }
}

/// Values that have no codes.
#[derive(Debug)]
pub(super) struct SingleValues {
    only: Vec<Single>,
    spec: Spec,
}

impl SingleValues {
    pub(super) fn new(spec: &Spec, groups: usize) -> SingleValues {
        SingleValues { only: vec![Single::Nothing; groups], spec: spec.clone() }
    }
}

impl State for SingleValues {
    fn resize(&mut self, groups: usize) {
        self.only.resize(groups, Single::Nothing);
    }

    fn add_values(&mut self, entries: Entries<'_>, vectors: &[Vector]) {
        let Some(first) = vectors.first() else { return };
        let entries = entries.one_by_one();
        for i in 0..first.len() {
            self.only[entries.group(i)].merge(Single::One(first.get(i, self.spec.input)));
        }
    }

    fn merge(&mut self, other: Box<dyn State>, at: At<'_>) {
        let Some(SingleValues { only, .. }) = same(other) else { return };
        at.each(only, |group, single| self.only[group].merge(single));
    }

    fn finish(self: Box<Self>, _: &[bool]) -> Result<Vector, String> {
        let value = |single| if let Single::One(value) = single { value } else { Value::Null };
        Ok(collected(self.only.into_iter().map(value), self.spec.ty))
    }

    fn into_any(self: Box<Self>) -> Box<dyn Any> {
        self
    }
}
