//! From an expression to steps.

use super::bounds::Bounds;
use super::compiler::{Compiler, MOST_STEPS};
use super::expression::Fused;
use super::source::LeafSource;
use cubrel_formula::scalar::{Scalar, ScalarKind};
use cubrel_formula::typed::LetId;
use cubrel_value::Type;

/// So many vectors stay in the nearest cache.
const MOST_DEPTH: usize = 8;
/// A `let` that is used again and again makes an expression longer than this.
const MOST_PARTS: usize = 96;

impl Fused {
    /// An expression whose leaves deliver what `source` says; `None` where it is of other kinds, is long, or has no bounds.
    pub fn of<'s>(scalar: &Scalar, source: &dyn Fn(usize) -> Option<LeafSource<'s>>) -> Option<Fused> {
        if matches!(scalar.kind, ScalarKind::Leaf(_) | ScalarKind::Constant(_)) {
            return None;
        }
        let scalar = without_lets(scalar, &mut Vec::new(), &mut 0)?;
        let mut compiler = Compiler::new(source);
        let is_condition = scalar.ty == Type::Bool;
        let bounds = match is_condition {
            true => compiler.truth(&scalar, true).and_then(|()| Bounds::one(0)),
            false => compiler.number(&scalar),
        }?;
        let value = compiler.taken();
        let valid = match compiler.nullable(&scalar)? {
            true => {
                compiler.there(&scalar)?;
                Some(compiler.taken())
            }
            false => None,
        };
        let Compiler { loads, depth, .. } = compiler;
        let is_short = value.len() <= MOST_STEPS && valid.as_ref().is_none_or(|valid| valid.len() <= MOST_STEPS);
        (is_short && depth <= MOST_DEPTH && !loads.is_empty()).then_some(Fused {
            loads,
            value,
            valid,
            is_condition,
            depth,
            bounds,
        })
    }
}

/// An expression with the value of each `let` where it is used; of those around it, known are the values, and whether they are used.
fn without_lets(scalar: &Scalar, known: &mut Vec<(LetId, Scalar, bool)>, parts: &mut usize) -> Option<Scalar> {
    *parts += 1;
    if *parts > MOST_PARTS {
        return None;
    }
    match &scalar.kind {
        ScalarKind::Let(id, value, body) => {
            let value = without_lets(value, known, parts)?;
            known.push((*id, value, false));
            let body = without_lets(body, known, parts);
            // It counts where its value fails, also if nobody asks for that.
            let (.., is_used) = known.pop()?;
            body.filter(|_| is_used)
        }
        ScalarKind::LetRef(id) => {
            let (_, value, is_used) = known.iter_mut().rev().find(|(other, ..)| other == id)?;
            *is_used = true;
            // What stands in it is counted wherever it is used.
            without_lets(&value.clone(), &mut Vec::new(), parts)
        }
        _ => {
            let mut all = true;
            let with = scalar.with_parts(&mut |part| {
                let found = if all { without_lets(part, known, parts) } else { None };
                all &= found.is_some();
                found.unwrap_or_else(|| part.clone())
            });
            all.then_some(with)
        }
    }
}
