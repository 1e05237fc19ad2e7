//! Conditions: where they are true, and where they are false.

use super::compiler::{Compiler, MOST_STEPS, is_whole};
use super::source::LeafSource;
use super::steps::{NumberComparison, VectorStep};
use cubrel_formula::scalar::{Scalar, ScalarKind};
use cubrel_formula::typed::Op;
use cubrel_value::{Type, Value};

impl Compiler<'_, '_> {
    /// Where a condition is what is wanted; nowhere where it is null.
    pub(super) fn truth(&mut self, scalar: &Scalar, wanted: bool) -> Option<()> {
        if self.steps.len() > MOST_STEPS || scalar.ty != Type::Bool && self.constant(scalar) != Some(Value::Null) {
            return None;
        }
        if let Some(value) = self.constant(scalar) {
            self.add(VectorStep::Constant(-i64::from(value == Value::Bool(wanted))), 1);
            return Some(());
        }
        match &scalar.kind {
            ScalarKind::Leaf(leaf) => {
                let LeafSource::Truths { .. } = (self.source)(*leaf)? else { return None };
                let load = self.load(*leaf);
                self.add(VectorStep::Is(load, wanted), 1);
            }
            ScalarKind::And(a, b) | ScalarKind::Or(a, b) => {
                self.truth(a, wanted)?;
                self.truth(b, wanted)?;
                let both = matches!(scalar.kind, ScalarKind::And(..)) == wanted;
                self.add(if both { VectorStep::And } else { VectorStep::Or }, -1);
            }
            ScalarKind::Call(Op::Not, args) => self.truth(args.first()?, !wanted)?,
            ScalarKind::Call(Op::IsNull, args) => {
                let asked = args.first()?;
                self.cannot_fail(asked)?;
                self.there(asked)?;
                if wanted {
                    self.add(VectorStep::Not, 0);
                }
            }
            ScalarKind::Call(Op::In, args) => self.listed(args, wanted)?,
            ScalarKind::Call(op, args) => {
                let [a, b] = args.as_slice() else { return None };
                let how = comparison(*op)?;
                self.compare(if wanted { how } else { how.opposite() }, [a, b])?;
                for side in [a, b] {
                    self.where_there(side)?;
                }
            }
            _ => return None,
        }
        Some(())
    }

    /// Nothing where a value could fail, which counts also where it is only asked whether there is one.
    fn cannot_fail(&mut self, scalar: &Scalar) -> Option<()> {
        if matches!(scalar.kind, ScalarKind::Leaf(_) | ScalarKind::Constant(_)) {
            return Some(());
        }
        let (steps, loads, height) = (self.steps.len(), self.loads.len(), self.height);
        match scalar.ty {
            Type::Bool => self.truth(scalar, true)?,
            _ => drop(self.number(scalar)?),
        }
        self.steps.truncate(steps);
        self.loads.truncate(loads);
        self.height = height;
        Some(())
    }

    fn compare(&mut self, how: NumberComparison, [a, b]: [&Scalar; 2]) -> Option<()> {
        if a.ty != b.ty || !is_whole(a.ty) {
            return None;
        }
        self.compared(a)?;
        match self.whole(b) {
            Some(with) => self.add(VectorStep::CompareWith(how, with), 0),
            None => {
                self.compared(b)?;
                self.add(VectorStep::Compare(how), -1);
            }
        }
        Some(())
    }

    /// Whether something is one of several numbers, none of them null.
    fn listed(&mut self, args: &[Scalar], wanted: bool) -> Option<()> {
        let (first, list) = args.split_first()?;
        let [one, more @ ..] = list else { return None };
        let how = if wanted { NumberComparison::Equal } else { NumberComparison::Differ };
        let with = |compiler: &mut Self, number: &Scalar| {
            compiler.whole(number)?;
            compiler.compare(how, [first, number])
        };
        with(self, one)?;
        for number in more {
            with(self, number)?;
            self.add(if wanted { VectorStep::Or } else { VectorStep::And }, -1);
        }
        self.where_there(first)
    }

    /// Takes back what is true where something is null.
    pub(super) fn where_there(&mut self, scalar: &Scalar) -> Option<()> {
        if self.nullable(scalar)? {
            self.there(scalar)?;
            self.add(VectorStep::And, -1);
        }
        Some(())
    }
}

fn comparison(op: Op) -> Option<NumberComparison> {
    Some(match op {
        Op::Eq => NumberComparison::Equal,
        Op::Ne => NumberComparison::Differ,
        Op::Lt => NumberComparison::Less,
        Op::Le => NumberComparison::AtMost,
        Op::Gt => NumberComparison::More,
        Op::Ge => NumberComparison::AtLeast,
        _ => return None,
    })
}
