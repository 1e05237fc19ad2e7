//! From an expression to steps.

use super::bounds::Bounds;
use super::expression::Fused;
use super::source::LeafSource;
use super::steps::{Divide, NumberComparison, VectorStep};
use crate::formula::scalar::{Scalar, ScalarKind};
use crate::formula::typed::{LetId, Op};
use crate::value::date::DAY_MICROS;
use crate::value::{Type, Value, exact};

/// Longer expressions are not put together.
const MOST_STEPS: usize = 64;
/// So many vectors stay in the nearest cache.
const MOST_DEPTH: usize = 8;
/// A `let` that is used again and again makes an expression longer than this.
const MOST_PARTS: usize = 96;

impl Fused {
    /// An expression whose leaves deliver what `source` says; `None` where it is of other kinds, is long, or has no bounds.
    pub fn of(scalar: &Scalar, source: &dyn Fn(usize) -> Option<LeafSource>) -> Option<Fused> {
        if matches!(scalar.kind, ScalarKind::Leaf(_) | ScalarKind::Constant(_)) {
            return None;
        }
        let scalar = without_lets(scalar, &mut Vec::new(), &mut 0)?;
        let mut compiler = Compiler { source, loads: Vec::new(), steps: Vec::new(), height: 0, depth: 0 };
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

/// An expression with the value of each `let` where it is used.
fn without_lets(scalar: &Scalar, known: &mut Vec<(LetId, Scalar)>, parts: &mut usize) -> Option<Scalar> {
    *parts += 1;
    if *parts > MOST_PARTS {
        return None;
    }
    match &scalar.kind {
        ScalarKind::Let(id, value, body) => {
            let value = without_lets(value, known, parts)?;
            known.push((*id, value));
            let body = without_lets(body, known, parts);
            known.pop();
            body
        }
        ScalarKind::LetRef(id) => {
            let (_, value) = known.iter().rev().find(|(other, _)| other == id)?;
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

struct Compiler<'a> {
    source: &'a dyn Fn(usize) -> Option<LeafSource>,
    loads: Vec<usize>,
    steps: Vec<VectorStep>,
    height: usize,
    depth: usize,
}

impl Compiler<'_> {
    /// Adds a step after which there are so many vectors more, or fewer.
    fn add(&mut self, step: VectorStep, more: isize) {
        self.steps.push(step);
        self.height = self.height.saturating_add_signed(more);
        self.depth = self.depth.max(self.height);
    }

    fn taken(&mut self) -> Vec<VectorStep> {
        self.height = 0;
        std::mem::take(&mut self.steps)
    }

    fn load(&mut self, leaf: usize) -> usize {
        let known = self.loads.iter().position(|known| *known == leaf);
        known.unwrap_or_else(|| {
            self.loads.push(leaf);
            self.loads.len() - 1
        })
    }

    /// The value of a part that is the same everywhere.
    fn constant(&self, part: &Scalar) -> Option<Value> {
        match &part.kind {
            ScalarKind::Constant(value) => Some(value.clone()),
            ScalarKind::Leaf(leaf) => match (self.source)(*leaf)? {
                LeafSource::Constant(value) => Some(value),
                _ => None,
            },
            ScalarKind::Call(Op::Rescale { .. } | Op::Negate | Op::ToTimestamp, args) => {
                let args = args
                    .iter()
                    .map(|arg| Some(Scalar { kind: ScalarKind::Constant(self.constant(arg)?), ..arg.clone() }));
                let kind = match &part.kind {
                    ScalarKind::Call(op, _) => ScalarKind::Call(*op, args.collect::<Option<_>>()?),
                    _ => return None,
                };
                Scalar { kind, ..part.clone() }.of_constants().ok()
            }
            _ => None,
        }
    }

    /// The same as a whole number.
    fn whole(&self, part: &Scalar) -> Option<i64> {
        self.constant(part)?.as_stored(part.ty).filter(|_| is_whole(part.ty))
    }

    /// Numbers, whatever they are where they are null.
    fn number(&mut self, scalar: &Scalar) -> Option<Bounds> {
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
                let LeafSource::Numbers { bounds, .. } = (self.source)(*leaf).filter(|_| is_whole(scalar.ty))? else {
                    return None;
                };
                let load = self.load(*leaf);
                self.add(VectorStep::Load(load), 1);
                Some(bounds)
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

    /// Where a condition is what is wanted; nowhere where it is null.
    fn truth(&mut self, scalar: &Scalar, wanted: bool) -> Option<()> {
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
                self.there(args.first()?)?;
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

    fn compare(&mut self, how: NumberComparison, [a, b]: [&Scalar; 2]) -> Option<()> {
        if a.ty != b.ty || !is_whole(a.ty) {
            return None;
        }
        self.number(a)?;
        match self.whole(b) {
            Some(with) => self.add(VectorStep::CompareWith(how, with), 0),
            None => {
                self.number(b)?;
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
    fn where_there(&mut self, scalar: &Scalar) -> Option<()> {
        if self.nullable(scalar)? {
            self.there(scalar)?;
            self.add(VectorStep::And, -1);
        }
        Some(())
    }

    /// Where something is not null.
    fn there(&mut self, scalar: &Scalar) -> Option<()> {
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
    fn nullable(&self, scalar: &Scalar) -> Option<bool> {
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

/// Whether values of a type are whole numbers, as vectors hold them.
fn is_whole(ty: Type) -> bool {
    ty.is_exact() || matches!(ty, Type::Date | Type::Timestamp)
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
