//! What runs: a small tree of operators over batches of values.
//!
//! The same tree serves rows of a table (leaves are columns) and cells of a grid (leaves are results of reads), so
//! every operator and function exists once. Evaluation is a batch at a time; an arm of a `case`, the right side of
//! `and`, `or` and later parts of `coalesce` are evaluated only for the slots that need them, so an error counts only
//! in the branch taken.

use std::hash::{Hash, Hasher};
use std::sync::Arc;

use super::kernels;
use super::source::{Source, Span};
use super::typed::{Expr, Kind, LetId, Op};
use crate::value::{Data, Type, Value, Vector};

/// An expression that is ready to run.
#[derive(Clone, Debug)]
pub struct Scalar {
    /// What it is.
    pub kind: ScalarKind,
    /// The type of its values.
    pub ty: Type,
    /// Where it stands, for errors.
    pub place: Place,
}

/// A span in a formula.
#[derive(Clone, Debug)]
pub struct Place {
    /// The formula.
    pub source: Arc<Source>,
    /// Where in it.
    pub span: Span,
}

/// Two expressions are equal when they compute the same in the same way, wherever they stand.
impl PartialEq for Scalar {
    fn eq(&self, other: &Scalar) -> bool {
        let Scalar { kind, ty, place: _ } = self;
        *ty == other.ty && *kind == other.kind
    }
}

impl Eq for Scalar {}

impl Hash for Scalar {
    fn hash<H: Hasher>(&self, state: &mut H) {
        let Scalar { kind, ty, place: _ } = self;
        (kind, ty).hash(state);
    }
}

/// The kinds of runnable expression.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum ScalarKind {
    /// A constant.
    Constant(Value),
    /// Something that the surroundings deliver, by number.
    Leaf(usize),
    /// `let`
    Let(LetId, Box<Scalar>, Box<Scalar>),
    /// The value of a `let` that stands around it in this tree.
    LetRef(LetId),
    /// An operator or function.
    Call(Op, Vec<Scalar>),
    /// The first arm whose condition is true.
    Case(Vec<(Scalar, Scalar)>, Option<Box<Scalar>>),
    /// Three-valued `and`.
    And(Box<Scalar>, Box<Scalar>),
    /// Three-valued `or`.
    Or(Box<Scalar>, Box<Scalar>),
    /// The first that is not null.
    Coalesce(Vec<Scalar>),
    /// Something that the checker should not have let pass: evaluated, it is an error that says what. Never a value, for
    /// a wrong number is worse than none.
    Fault(&'static str),
}

/// Something went wrong while computing.
#[derive(Clone, Debug)]
pub struct EvalError {
    /// What, in words.
    pub message: String,
    /// In which part of which formula.
    pub place: Place,
    /// In which slot of the batch.
    pub slot: usize,
    /// In which row or cell, in words, by who knows what the slots are; empty where nobody can tell.
    pub at: Option<String>,
}

impl EvalError {
    /// What went wrong, and where, as far as that is known.
    pub fn text(&self) -> String {
        match self.at.as_deref() {
            None | Some("") => self.message.clone(),
            Some(at) => format!("{at}: {}", self.message),
        }
    }
}

/// An error without its place: the slot, and what.
pub(crate) type SlotError = (usize, String);

/// Delivers the leaves of a tree.
pub trait Leaves {
    /// Why a leaf could not be delivered.
    type Error: From<EvalError>;

    /// The values of a leaf in the given slots.
    fn leaf(&self, leaf: usize, slots: &[u32]) -> Result<Vector, Self::Error>;

    /// Whether there is time to go on; what is broken off is an error of whoever says no.
    fn may_go_on(&self) -> bool {
        true
    }
}

/// Values of the `let`s around an expression, one for every slot of the batch.
type Bindings = Vec<(LetId, Vector)>;

impl Scalar {
    /// A constant.
    pub fn constant(value: Value, ty: Type, place: Place) -> Scalar {
        Scalar { kind: ScalarKind::Constant(value), ty, place }
    }

    /// The value in each of `n` slots.
    pub fn eval<L: Leaves>(&self, leaves: &L, n: usize) -> Result<Vector, L::Error> {
        let slots: Vec<u32> = (0..n as u32).collect();
        Evaluation { leaves, n }.eval(self, &slots, &mut Vec::new())
    }

    /// Calls `visit` with every leaf of the tree.
    pub fn each_leaf(&self, visit: &mut dyn FnMut(usize)) {
        match &self.kind {
            ScalarKind::Leaf(leaf) => visit(*leaf),
            ScalarKind::Constant(_) | ScalarKind::LetRef(_) | ScalarKind::Fault(_) => {}
            ScalarKind::Let(_, a, b) | ScalarKind::And(a, b) | ScalarKind::Or(a, b) => {
                a.each_leaf(visit);
                b.each_leaf(visit);
            }
            ScalarKind::Call(_, args) | ScalarKind::Coalesce(args) => args.iter().for_each(|a| a.each_leaf(visit)),
            ScalarKind::Case(arms, otherwise) => {
                for (condition, result) in arms {
                    condition.each_leaf(visit);
                    result.each_leaf(visit);
                }
                otherwise.iter().for_each(|e| e.each_leaf(visit));
            }
        }
    }
}

/// Makes the part of a typed tree that is the same everywhere; `resolve` gives columns, references and whatever else it
/// knows better, and has to do so for everything that is not an operator.
pub fn from_expr(expr: &Expr, source: &Arc<Source>, resolve: &mut dyn FnMut(&Expr) -> Option<ScalarKind>) -> Scalar {
    let place = Place { source: source.clone(), span: expr.span };
    if let Some(kind) = resolve(expr) {
        return Scalar { kind, ty: expr.ty, place };
    }
    let mut part = |e: &Expr| from_expr(e, source, resolve);
    let kind = match &expr.kind {
        Kind::Literal(value) => ScalarKind::Constant(value.clone()),
        Kind::LetRef(id) => ScalarKind::LetRef(*id),
        Kind::Let(id, value, body) => ScalarKind::Let(*id, Box::new(part(value)), Box::new(part(body))),
        Kind::Call(op, args) => ScalarKind::Call(*op, args.iter().map(part).collect()),
        Kind::Coalesce(parts) => ScalarKind::Coalesce(parts.iter().map(part).collect()),
        Kind::And(a, b) => ScalarKind::And(Box::new(part(a)), Box::new(part(b))),
        Kind::Or(a, b) => ScalarKind::Or(Box::new(part(a)), Box::new(part(b))),
        Kind::Case(arms, otherwise) => {
            let arms = arms.iter().map(|(c, r)| (part(c), part(r))).collect();
            ScalarKind::Case(arms, otherwise.as_ref().map(|e| Box::new(part(e))))
        }
        Kind::Via(body, _) | Kind::BothWays(body, _) => return part(body),
        // The checker has put values of cells that stand inside a row into `let`s, and `resolve` has given the rest.
        Kind::Column { .. }
        | Kind::Current { .. }
        | Kind::Aggregate(_)
        | Kind::Rank(_)
        | Kind::Measure(_)
        | Kind::Set(_)
        | Kind::Member(..)
        | Kind::Narrowed(_)
        | Kind::Grouping(_)
        | Kind::Given(..) => ScalarKind::Fault("a value of a cell among those of rows"),
    };
    Scalar { kind, ty: expr.ty, place }
}

struct Evaluation<'a, L: Leaves> {
    leaves: &'a L,
    n: usize,
}

impl<L: Leaves> Evaluation<'_, L> {
    fn eval(&self, scalar: &Scalar, slots: &[u32], bindings: &mut Bindings) -> Result<Vector, L::Error> {
        match &scalar.kind {
            ScalarKind::Constant(value) => Ok(Vector::constant(value, scalar.ty, slots.len())),
            ScalarKind::Leaf(leaf) => self.leaves.leaf(*leaf, slots),
            ScalarKind::Let(id, value, body) => {
                let value_vector = self.eval(value, slots, bindings)?;
                bindings.push((*id, spread(&value_vector, value.ty, slots, self.n)));
                let result = self.eval(body, slots, bindings);
                bindings.pop();
                result
            }
            ScalarKind::LetRef(id) => match bindings.iter().rev().find(|(other, _)| other == id) {
                Some((_, vector)) => Ok(vector.gather(slots)),
                None => self.fault(scalar, "a `let` without a value", slots),
            },
            ScalarKind::Fault(what) => self.fault(scalar, what, slots),
            ScalarKind::Call(op, args) => {
                let vectors = args.iter().map(|a| self.eval(a, slots, bindings)).collect::<Result<Vec<_>, _>>()?;
                if !self.leaves.may_go_on() {
                    let (place, slot) = (scalar.place.clone(), slots.first().map_or(0, |s| *s as usize));
                    return Err(EvalError { message: "it was broken off".into(), place, slot, at: None }.into());
                }
                kernels::call(*op, &vectors, args, scalar.ty, slots.len()).map_err(|(slot, message)| {
                    let slot = slots.get(slot).map_or(slot, |s| *s as usize);
                    EvalError { message, place: scalar.place.clone(), slot, at: None }.into()
                })
            }
            ScalarKind::And(a, b) => self.connective(a, b, false, slots, bindings),
            ScalarKind::Or(a, b) => self.connective(a, b, true, slots, bindings),
            ScalarKind::Case(arms, otherwise) => {
                let mut result = Merger::new(scalar.ty, slots);
                for (condition, value) in arms {
                    let open = result.open_slots();
                    let taken = self.eval(condition, &open, bindings)?.truths();
                    let chosen: Vec<u32> = open.iter().zip(taken).filter(|(_, t)| *t).map(|(s, _)| *s).collect();
                    if !chosen.is_empty() {
                        let values = self.eval(value, &chosen, bindings)?;
                        result.fill(&chosen, &values, |_| true);
                    }
                }
                if let Some(value) = otherwise {
                    let open = result.open_slots();
                    if !open.is_empty() {
                        let values = self.eval(value, &open, bindings)?;
                        result.fill(&open, &values, |_| true);
                    }
                }
                Ok(result.finish())
            }
            ScalarKind::Coalesce(parts) => {
                let mut result = Merger::new(scalar.ty, slots);
                for part in parts {
                    let open = result.open_slots();
                    if open.is_empty() {
                        break;
                    }
                    let values = self.eval(part, &open, bindings)?;
                    result.fill(&open, &values, |valid| valid);
                }
                Ok(result.finish())
            }
        }
    }

    /// What cannot be is no value; where nothing is asked for, it does no harm.
    fn fault(&self, scalar: &Scalar, what: &str, slots: &[u32]) -> Result<Vector, L::Error> {
        let Some(slot) = slots.first() else { return Ok(Vector::nulls(scalar.ty, 0)) };
        let message = format!("this cannot be computed: {what} (a fault of the program, not of the formula)");
        Err(EvalError { message, place: scalar.place.clone(), slot: *slot as usize, at: None }.into())
    }

    /// `and` and `or`: where the left side is `decisive`, the right side is not evaluated.
    fn connective(
        &self,
        a: &Scalar,
        b: &Scalar,
        decisive: bool,
        slots: &[u32],
        bindings: &mut Bindings,
    ) -> Result<Vector, L::Error> {
        let (mut values, mut known) = self.eval(a, slots, bindings)?.truths_and_validity();
        let open = |i: &usize| !known[*i] || values[*i] != decisive;
        let positions: Vec<usize> = (0..slots.len()).filter(open).collect();
        if !positions.is_empty() {
            let open: Vec<u32> = positions.iter().map(|i| slots[*i]).collect();
            let (right, right_known) = self.eval(b, &open, bindings)?.truths_and_validity();
            for (k, i) in positions.into_iter().enumerate() {
                let decided = right_known[k] && right[k] == decisive;
                (values[i], known[i]) = (decided == decisive, decided || known[i] && right_known[k]);
            }
        }
        Ok(Vector::with_validity(Data::Bool(values), known))
    }
}

/// Lays the values of some slots out over all `n`, so that a narrower selection can find them.
fn spread(vector: &Vector, ty: Type, slots: &[u32], n: usize) -> Vector {
    if slots.len() == n {
        return vector.clone();
    }
    let mut from = vec![None; n];
    slots.iter().enumerate().for_each(|(i, slot)| from[*slot as usize] = Some((0, i as u32)));
    Vector::interleaved(std::slice::from_ref(vector), &from, ty)
}

/// Puts the results of different arms together.
struct Merger<'a> {
    ty: Type,
    slots: &'a [u32],
    /// For each slot, which part and where in it; none yet while open.
    from: Vec<Option<(u32, u32)>>,
    parts: Vec<Vector>,
}

impl<'a> Merger<'a> {
    fn new(ty: Type, slots: &'a [u32]) -> Merger<'a> {
        Merger { ty, slots, from: vec![None; slots.len()], parts: Vec::new() }
    }

    fn open_slots(&self) -> Vec<u32> {
        self.slots.iter().zip(&self.from).filter(|(_, f)| f.is_none()).map(|(s, _)| *s).collect()
    }

    /// Takes `values` for the slots in `chosen` (a subsequence of the open ones) where `keep` agrees to their validity.
    fn fill(&mut self, chosen: &[u32], values: &Vector, keep: impl Fn(bool) -> bool) {
        let part = self.parts.len() as u32;
        let mut next = 0;
        for (i, slot) in self.slots.iter().enumerate() {
            if next < chosen.len() && *slot == chosen[next] && self.from[i].is_none() {
                if keep(values.is_valid(next)) {
                    self.from[i] = Some((part, next as u32));
                }
                next += 1;
            }
        }
        self.parts.push(values.clone());
    }

    fn finish(self) -> Vector {
        // One arm took all: no need to look at single values.
        if self.parts.len() == 1 && self.from.iter().enumerate().all(|(i, f)| *f == Some((0, i as u32))) {
            return self.parts.into_iter().next().unwrap_or_else(|| Vector::nulls(self.ty, 0));
        }
        Vector::interleaved(&self.parts, &self.from, self.ty)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::formula::source::{Source, Span};

    struct Nothing;

    impl Leaves for Nothing {
        type Error = EvalError;

        fn leaf(&self, _: usize, slots: &[u32]) -> Result<Vector, EvalError> {
            Ok(Vector::nulls(Type::Int, slots.len()))
        }
    }

    /// What cannot be is never a number, unless nobody looks at it.
    #[test]
    fn a_fault_is_an_error_where_it_is_evaluated() {
        let place = Place { source: Source::new("query", "x"), span: Span::new(0, 1) };
        let scalar = |kind| Scalar { kind, ty: Type::Int, place: place.clone() };
        let truth = |t| Scalar { kind: ScalarKind::Constant(Value::Bool(t)), ty: Type::Bool, place: place.clone() };
        for fault in [ScalarKind::Fault("this"), ScalarKind::LetRef(LetId(7))] {
            let fault = || Box::new(scalar(fault.clone()));
            let one = || scalar(ScalarKind::Constant(Value::Int(1)));
            for (tree, is_error) in [
                (*fault(), true),
                (scalar(ScalarKind::Coalesce(vec![*fault(), one()])), true),
                (scalar(ScalarKind::Coalesce(vec![one(), *fault()])), false),
                (scalar(ScalarKind::Case(vec![(truth(true), one())], Some(fault()))), false),
                (scalar(ScalarKind::Case(vec![(truth(false), one())], Some(fault()))), true),
                (scalar(ScalarKind::Let(LetId(1), fault(), Box::new(one()))), true),
            ] {
                assert_eq!(tree.eval(&Nothing, 3).is_err(), is_error, "{tree:?}");
                assert!(tree.eval(&Nothing, 0).is_ok(), "{tree:?}");
            }
        }
    }
}
