//! Operators on batches: a whole vector at a time, without looking at what a single value is.

mod arithmetic;
mod cast;
mod compare;
mod functions;
mod search;
mod shared;

pub use search::{Asked, TextQuestion};

use std::sync::Arc;

use super::functions::LikePattern;
use super::scalar::{Scalar, ScalarKind, SlotError};
use super::typed::Op;
use crate::kernels::shared::TextRoom;
use crate::kernels::shared::both_valid;
use cubrel_value::{Data, Type, Value, Vector, VectorBuilder, date};

/// Whether texts that are the same in all rows come as vectors of one: a function that knows what to do with whole vectors looks at the
/// first, and to write it once for each row takes longer than what it does with them.
pub(super) fn takes_fixed_texts(op: Op, args: &[Scalar]) -> bool {
    let is_batch = matches!(op, Op::Function(function) if function.batch.is_some());
    is_batch && !args.iter().all(|arg| matches!(arg.kind, ScalarKind::Constant(_)))
}

/// Runs one operator over whole vectors; `args` tells the types, and which arguments are constants.
pub(super) fn call(op: Op, vectors: &[Vector], args: &[Scalar], ty: Type, n: usize) -> Result<Vector, SlotError> {
    match op {
        Op::Add => arithmetic::add(vectors),
        Op::Sub => arithmetic::subtract(vectors),
        Op::Mul => arithmetic::multiply(vectors),
        Op::Div => Ok(arithmetic::divide(&vectors[0], &vectors[1])),
        Op::Rem => Ok(arithmetic::remainder(&vectors[0], &vectors[1])),
        Op::Negate => Ok(arithmetic::negate(&vectors[0])),
        Op::Eq | Op::Ne | Op::Lt | Op::Le | Op::Gt | Op::Ge => Ok(compare::compare(op, &vectors[0], &vectors[1])),
        Op::Not => Ok(not(&vectors[0])),
        Op::IsNull => Ok(Vector::new(Data::Bool((0..n).map(|i| !vectors[0].is_valid(i)).collect()))),
        Op::ToFloat => Ok(arithmetic::to_float(&vectors[0], args[0].ty)),
        Op::Rescale { from, to } => arithmetic::rescale(&vectors[0], from, to),
        Op::ToTimestamp => Ok(to_timestamp(&vectors[0])),
        Op::Concat => concat(vectors, args, n),
        Op::Like => Ok(like(vectors)),
        Op::In => Ok(compare::member(vectors, args, n)),
        Op::Cast { from, to, lenient } => cast::cast(&vectors[0], from, to, lenient),
        Op::Function(function) => functions::call(function, vectors, args, ty, n),
    }
}

fn not(a: &Vector) -> Vector {
    let Data::Bool(values) = &a.data else {
        return a.clone();
    };
    Vector { data: Data::Bool(values.iter().map(|v| !v).collect()), valid: a.valid.clone() }
}

fn to_timestamp(a: &Vector) -> Vector {
    let values = match &a.data {
        Data::I64(v) => v.iter().map(|d| d.saturating_mul(date::DAY_MICROS)).collect(),
        _ => vec![0; a.len()],
    };
    Vector { data: Data::I64(values), valid: a.valid.clone() }
}

fn concat(vectors: &[Vector], args: &[Scalar], n: usize) -> Result<Vector, SlotError> {
    let (mut builder, mut room) = (VectorBuilder::new(Type::Text, n), TextRoom::default());
    for i in 0..n {
        let (a, b) = (vectors[0].get(i, args[0].ty), vectors[1].get(i, args[1].ty));
        let value = if a.is_null() || b.is_null() { Value::Null } else { Value::text(format!("{a}{b}")) };
        room.take(&value).map_err(|message| (i, message))?;
        builder.push(value);
    }
    Ok(builder.finish())
}

fn like(vectors: &[Vector]) -> Vector {
    let (Data::Text(texts), Data::Text(patterns)) = (&vectors[0].data, &vectors[1].data) else {
        return Vector::nulls(Type::Bool, vectors[0].len());
    };
    // Mostly it is one pattern for all.
    let mut known: Option<(Arc<str>, LikePattern)> = None;
    let is_like = |(text, pattern): (&Arc<str>, &Arc<str>)| {
        let (_, read) = match known.take().filter(|(same, _)| same == pattern) {
            Some(same) => known.insert(same),
            None => known.insert((pattern.clone(), LikePattern::new(pattern))),
        };
        read.matches(text.as_bytes())
    };
    let values = texts.iter().zip(patterns).map(is_like).collect();
    Vector { data: Data::Bool(values), valid: both_valid(vectors[0].valid.as_deref(), vectors[1].valid.as_deref()) }
}
