//! Numbers, and between which bounds they lie.

use super::bounds::Bounds;
use super::compiler::{Compiler, MOST_STEPS, is_whole};
use super::source::LeafSource;
use super::steps::{Divide, VectorStep};
use cubrel_formula::scalar::{Scalar, ScalarKind};
use cubrel_formula::typed::Op;
use cubrel_value::date::DAY_MICROS;
use cubrel_value::{Type, exact};

impl<'s> Compiler<'_, 's> {
    /// Numbers, whatever they are where they are null.
    pub(super) fn number(&mut self, scalar: &Scalar) -> Option<Bounds> {
        if self.steps.len() > MOST_STEPS {
            return None;
        }
        if let Some(value) = self.constant(scalar) {
            let v = if value.is_null() { 0 } else { self.whole(scalar)? };
            self.add(VectorStep::Constant(v), 1);
            return Bounds::one(v);
        }
        match &scalar.kind {
            ScalarKind::Leaf(leaf) => {
                let (least, most) = self.leaf(*leaf, scalar.ty)?();
                Bounds::of(least.into(), most.into())
            }
            ScalarKind::Call(op, args) => self.call(*op, args, scalar.ty),
            ScalarKind::Case(arms, otherwise) => {
                let mut bounds = match otherwise {
                    Some(otherwise) => self.number(otherwise)?,
                    None => self.zero()?,
                };
                // From the last one on, so that the first that is true stays.
                for (condition, value) in arms.iter().rev() {
                    self.truth(condition, true)?;
                    bounds = bounds.or(self.selected(value)?);
                }
                Some(bounds)
            }
            ScalarKind::Coalesce(parts) => {
                let (last, before) = parts.split_last()?;
                let mut bounds = self.number(last)?;
                for part in before.iter().rev() {
                    self.there(part)?;
                    bounds = bounds.or(self.selected(part)?);
                }
                Some(bounds)
            }
            _ => None,
        }
    }

    /// The numbers of a leaf; gives what tells their ends.
    fn leaf(&mut self, leaf: usize, ty: Type) -> Option<Box<dyn Fn() -> (i64, i64) + 's>> {
        let LeafSource::Numbers { ends, .. } = (self.source)(leaf).filter(|_| is_whole(ty))? else { return None };
        let load = self.load(leaf);
        self.add(VectorStep::Load(load), 1);
        Some(ends)
    }

    /// Numbers that are compared, so that nobody asks how large they are.
    pub(super) fn compared(&mut self, scalar: &Scalar) -> Option<()> {
        match scalar.kind {
            ScalarKind::Leaf(leaf) if self.constant(scalar).is_none() => self.leaf(leaf, scalar.ty).map(|_| ()),
            _ => self.number(scalar).map(|_| ()),
        }
    }

    fn zero(&mut self) -> Option<Bounds> {
        self.add(VectorStep::Constant(0), 1);
        Bounds::one(0)
    }

    /// A number in the place of what stands below a truth value, where that is true.
    fn selected(&mut self, value: &Scalar) -> Option<Bounds> {
        if let Some(v) = self.whole(value) {
            self.add(VectorStep::SelectConstant(v), -1);
            return Bounds::one(v);
        }
        let bounds = self.number(value)?;
        self.add(VectorStep::Select, -2);
        Some(bounds)
    }

    fn call(&mut self, op: Op, args: &[Scalar], ty: Type) -> Option<Bounds> {
        let exact = ty.is_exact() && args.iter().all(|arg| arg.ty.is_exact());
        match (op, args) {
            (Op::Add, [a, b]) if exact => self.sum(a, b, 1),
            (Op::Sub, [a, b]) if exact => self.sum(a, b, -1),
            (Op::Mul, [a, b]) if exact => match (self.whole(a), self.whole(b)) {
                (_, Some(by)) => self.times(a, by),
                (Some(by), _) => self.times(b, by),
                _ => {
                    let (x, y) = (self.number(a)?, self.number(b)?);
                    self.add(VectorStep::Multiply { narrow: x.is_narrow() && y.is_narrow() }, -1);
                    x.of_ends(y, |a, b| a * b)
                }
            },
            (Op::Negate, [a]) if exact => self.times(a, -1),
            (Op::Rescale { from, to }, [a]) if exact && to >= from => {
                self.times(a, exact::pow10(to - from).try_into().ok()?)
            }
            (Op::Rescale { from, to }, [a]) if exact => {
                let bounds = self.number(a)?;
                let by = exact::pow10(from - to).try_into().ok()?;
                self.divided(bounds, by, [by / 2, by / 2])
            }
            (Op::Rem, [a, b]) if exact => self.remainder(a, self.whole(b)?),
            (Op::ToTimestamp, [a]) => self.times(a, DAY_MICROS),
            (Op::Function(function), _) => self.function(function.name, args, ty),
            _ => None,
        }
    }

    /// `a` and `b`, or `a` less `b`.
    fn sum(&mut self, a: &Scalar, b: &Scalar, sign: i64) -> Option<Bounds> {
        let with = |bounds: Bounds, more: Bounds| bounds.of_ends(more, |a, b| a + b * i128::from(sign));
        if let Some(more) = self.whole(b) {
            let bounds = self.number(a)?;
            let summed = with(bounds, Bounds::one(more)?)?;
            self.add(VectorStep::AddConstant(more * sign), 0);
            return Some(summed);
        }
        let x = self.number(a)?;
        let y = self.number(b)?;
        self.add(if sign > 0 { VectorStep::Add } else { VectorStep::Subtract }, -1);
        with(x, y)
    }

    fn times(&mut self, a: &Scalar, by: i64) -> Option<Bounds> {
        let bounds = self.number(a)?;
        self.multiplied(bounds, by)
    }

    fn multiplied(&mut self, bounds: Bounds, by: i64) -> Option<Bounds> {
        if by != 1 {
            let narrow = bounds.is_narrow() && i32::try_from(by).is_ok();
            self.add(VectorStep::MultiplyBy { by, narrow }, 0);
        }
        bounds.map(|v| v * i128::from(by))
    }

    /// What is on top, divided by a positive number, after something was added to the magnitudes of numbers from 0 on, and of others.
    fn divided(&mut self, bounds: Bounds, by: i64, add: [i64; 2]) -> Option<Bounds> {
        if by == 1 {
            return Some(bounds);
        }
        self.add(VectorStep::Divide(Divide::of(by, add, bounds.magnitude(), bounds.least < 0)?), 0);
        let [above, below] = add.map(i128::from);
        let add = |v: i128| if v < 0 { v - below } else { v + above };
        bounds.map(|v| add(v) / i128::from(by))
    }

    /// What is left over when numbers are divided by one that is not 0, with the sign of the numbers.
    fn remainder(&mut self, a: &Scalar, by: i64) -> Option<Bounds> {
        let by = by.checked_abs().filter(|by| *by > 0)?;
        let bounds = self.number(a)?;
        self.number(a)?;
        let quotients = self.divided(bounds, by, [0, 0])?;
        self.multiplied(quotients, by)?;
        self.add(VectorStep::Subtract, -1);
        let rest = i128::from(by) - 1;
        let least = if bounds.least < 0 { -rest } else { 0 };
        Bounds::of(least, if bounds.most > 0 { rest } else { 0 })
    }

    fn function(&mut self, name: &str, args: &[Scalar], ty: Type) -> Option<Bounds> {
        match (name, args) {
            ("round" | "trunc", [a]) | ("floor" | "ceil", [a]) => self.cut(name, a, 0, ty),
            ("round" | "trunc", [a, digits]) => self.cut(name, a, self.whole(digits)?, ty),
            ("abs", [a]) if a.ty.is_exact() => {
                let bounds = self.number(a)?;
                self.add(VectorStep::Magnitude, 0);
                let smallest =
                    if bounds.least > 0 || bounds.most < 0 { bounds.least.abs().min(bounds.most.abs()) } else { 0 };
                Bounds::of(smallest.into(), bounds.magnitude().into())
            }
            ("least" | "greatest", [first, rest @ ..]) if args.iter().all(|arg| arg.ty == ty && is_whole(ty)) => {
                let mut bounds = self.number(first)?;
                for arg in rest {
                    let more = self.number(arg)?;
                    let pick = if name == "least" { Ord::min } else { Ord::max };
                    self.add(if name == "least" { VectorStep::Least } else { VectorStep::Greatest }, -1);
                    bounds = bounds.of_ends(more, pick)?;
                }
                Some(bounds)
            }
            ("days_between", [from, to]) => {
                let y = self.day(to)?;
                let x = self.day(from)?;
                self.add(VectorStep::Subtract, -1);
                y.of_ends(x, |to, from| to - from)
            }
            _ => None,
        }
    }

    /// Numbers with so many digits after the point.
    fn cut(&mut self, name: &str, a: &Scalar, digits: i64, ty: Type) -> Option<Bounds> {
        if !a.ty.is_exact() || !ty.is_exact() {
            return None;
        }
        let (from, to) = (i64::from(a.ty.scale()), i64::from(ty.scale()));
        if digits >= from {
            return if from == to { self.number(a) } else { None };
        }
        let power = |n: i64| i64::try_from(exact::pow10(u8::try_from(n).ok().filter(|n| *n <= 18)?)).ok();
        let (by, back) = (power(from - digits)?, power(to - digits)?);
        let bounds = self.number(a)?;
        let add = match name {
            "round" => [by / 2, by / 2],
            "floor" => [0, by - 1],
            "ceil" => [by - 1, 0],
            _ => [0, 0],
        };
        let bounds = self.divided(bounds, by, add)?;
        self.multiplied(bounds, back)
    }

    /// The day of a date or a point in time.
    fn day(&mut self, a: &Scalar) -> Option<Bounds> {
        let bounds = self.number(a)?;
        match a.ty {
            Type::Date => Some(bounds),
            Type::Timestamp => self.divided(bounds, DAY_MICROS, [0, DAY_MICROS - 1]),
            _ => None,
        }
    }
}
