//! Values of whole vectors.

use super::super::frame::Members;
use super::super::tables::Tables;
use cubrel_formula::scalar::{EvalError, Leaves};
use cubrel_value::{Type, Value, Vector, VectorBuilder};

/// For each value whether it is among the members; null for null.
pub fn membership(values: &Vector, ty: Type, members: &Members) -> Vector {
    let mut builder = VectorBuilder::new(Type::Bool, values.len());
    for i in 0..values.len() {
        let value = values.get(i, ty);
        builder.push(if value.is_null() { Value::Null } else { Value::Bool(members.contains(&value)) });
    }
    builder.finish()
}

/// Leaves that are whole vectors.
pub struct WholeLeaves<'a> {
    /// By leaf; none where it is not used.
    pub values: Vec<Option<Vector>>,
    /// Where they come from.
    pub tables: Tables<'a>,
}

impl Leaves for WholeLeaves<'_> {
    type Error = EvalError;

    fn is_at_hand(&self, _: usize) -> bool {
        true
    }

    fn may_go_on(&self) -> bool {
        self.tables.check().is_ok()
    }

    fn leaf(&self, leaf: usize, slots: &[u32]) -> Result<Vector, EvalError> {
        let Some(Some(vector)) = self.values.get(leaf) else {
            return Ok(Vector::nulls(Type::Null, slots.len()));
        };
        if slots.len() == vector.len() { Ok(vector.clone()) } else { Ok(vector.gather(slots)) }
    }
}
