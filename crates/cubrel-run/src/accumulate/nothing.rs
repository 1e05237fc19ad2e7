//! What stands for an aggregate until it takes over what another one has.

use std::any::Any;

use super::state::{At, State};
use cubrel_value::{Type, Vector};

#[derive(Debug)]
pub(super) struct Nothing;

impl State for Nothing {
    fn resize(&mut self, _: usize) {}

    fn merge(&mut self, _: Box<dyn State>, _: At<'_>) {}

    fn finish(self: Box<Self>, seen: &[bool]) -> Result<Vector, String> {
        debug_assert!(false, "nothing was taken over");
        Ok(Vector::nulls(Type::Int, seen.len()))
    }

    fn into_any(self: Box<Self>) -> Box<dyn Any> {
        self
    }
}
