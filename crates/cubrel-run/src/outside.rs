//! Values that the `where` of a query takes from outside: found once, held by all cells.

use super::RunError;
use super::assemble::Executor;
use super::frame::{BoundValue, Frame, KeyColumn, KeyKind};
use cubrel_plan::{Bound, ParameterId};
use cubrel_value::Type;

/// What the first cell holds in a dimension, with its slot.
pub(super) fn held_by(slot: ParameterId, dim: &KeyColumn) -> Option<(ParameterId, BoundValue, Type)> {
    match &dim.kind {
        KeyKind::Values(pool) => Some((slot, dim.held(0)?.clone(), pool.ty)),
        _ => None,
    }
}

/// The one cell without axes, with the values that the `where` takes from outside.
pub fn base_frame(executor: &Executor<'_>, outer: &[(ParameterId, Bound)]) -> Result<Frame, RunError> {
    let one = Frame::one();
    let mut dims = Vec::new();
    for (_, value) in outer {
        dims.push(executor.bound(value, &one)?.0);
    }
    Ok(one.with(dims))
}

/// The values from outside, by slot.
pub fn outer_values(base: &Frame, outer: &[(ParameterId, Bound)]) -> Vec<(ParameterId, BoundValue, Type)> {
    outer.iter().zip(&base.dims).filter_map(|((slot, _), dim)| held_by(*slot, dim)).collect()
}
