//! Where values are not null.

use super::compiler::{Compiler, MOST_STEPS};
use super::source::LeafSource;
use super::steps::VectorStep;
use cubrel_formula::scalar::{Scalar, ScalarKind};
use cubrel_formula::typed::Op;
use cubrel_value::Type;

impl Compiler<'_, '_> {
    /// Where something is not null.
    pub(super) fn there(&mut self, scalar: &Scalar) -> Option<()> {
        if self.steps.len() > MOST_STEPS {
            return None;
        }
        if !self.nullable(scalar)? {
            self.add(VectorStep::Constant(-1), 1);
            return Some(());
        }
        match &scalar.kind {
            ScalarKind::Constant(_) => self.add(VectorStep::Constant(0), 1),
            ScalarKind::Leaf(leaf) => match (self.source)(*leaf)? {
                LeafSource::Constant(_) => self.add(VectorStep::Constant(0), 1),
                _ => {
                    let load = self.load(*leaf);
                    self.add(VectorStep::There(load), 1);
                }
            },
            _ if scalar.ty == Type::Bool => {
                self.truth(scalar, true)?;
                self.truth(scalar, false)?;
                self.add(VectorStep::Or, -1);
            }
            ScalarKind::Call(_, args) => {
                self.add(VectorStep::Constant(-1), 1);
                for arg in args {
                    self.where_there(arg)?;
                }
            }
            ScalarKind::Case(arms, otherwise) => {
                match otherwise {
                    Some(otherwise) => self.there(otherwise)?,
                    None => self.add(VectorStep::Constant(0), 1),
                }
                for (condition, value) in arms.iter().rev() {
                    self.truth(condition, true)?;
                    self.there(value)?;
                    self.add(VectorStep::Select, -2);
                }
            }
            ScalarKind::Coalesce(parts) => {
                self.add(VectorStep::Constant(0), 1);
                for part in parts {
                    self.there(part)?;
                    self.add(VectorStep::Or, -1);
                }
            }
            _ => return None,
        }
        Some(())
    }

    /// Whether something can be null.
    pub(super) fn nullable(&self, scalar: &Scalar) -> Option<bool> {
        let any = |parts: &mut dyn Iterator<Item = &Scalar>| {
            parts.map(|part| self.nullable(part)).try_fold(false, |any, one| Some(any | one?))
        };
        match &scalar.kind {
            ScalarKind::Constant(value) => Some(value.is_null()),
            ScalarKind::Leaf(leaf) => Some(match (self.source)(*leaf)? {
                LeafSource::Numbers { nullable, .. } | LeafSource::Truths { nullable } => nullable,
                LeafSource::Constant(value) => value.is_null(),
            }),
            ScalarKind::Call(Op::IsNull, _) => Some(false),
            ScalarKind::Call(_, args) => any(&mut args.iter()),
            ScalarKind::And(a, b) | ScalarKind::Or(a, b) => any(&mut [&**a, &**b].into_iter()),
            ScalarKind::Case(arms, Some(otherwise)) => {
                any(&mut arms.iter().map(|(_, value)| value).chain([&**otherwise]))
            }
            ScalarKind::Case(_, None) => Some(true),
            ScalarKind::Coalesce(parts) => {
                parts.iter().map(|part| self.nullable(part)).try_fold(true, |all, one| Some(all & one?))
            }
            ScalarKind::Let(..) | ScalarKind::LetRef(_) | ScalarKind::Fault(_) => None,
        }
    }
}
