//! What runs: a small tree of operators over batches of values.
//!
//! The same tree serves rows of a table (leaves are columns) and cells of a grid (leaves are results of reads), so
//! every operator and function exists once. Evaluation is a batch at a time; an arm of a `case`, the right side of
//! `and`, `or` and later parts of `coalesce` are evaluated only for the slots that need them, so an error counts only
//! in the branch taken.

use std::hash::{Hash, Hasher};
use std::sync::Arc;

use super::source::{Source, Span};
use super::typed::{Kind, LetId, Op, TypedExpr};
use cubrel_value::{Type, Value, Vector};

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

    /// Whether a leaf is there for every slot, cannot fail, and nothing follows from its having been asked for. Only then
    /// can it be asked for where another branch is taken.
    fn is_at_hand(&self, _leaf: usize) -> bool {
        false
    }

    /// Whether two leaves are the same in all slots.
    fn are_same(&self, a: usize, b: usize) -> bool {
        a == b
    }

    /// Whether there is time to go on; what is broken off is an error of whoever says no.
    fn may_go_on(&self) -> bool {
        true
    }
}

impl Scalar {
    /// A constant.
    pub fn constant(value: Value, ty: Type, place: Place) -> Scalar {
        Scalar { kind: ScalarKind::Constant(value), ty, place }
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

impl Scalar {
    /// The same with other parts: what `part` makes of each that stands directly below.
    #[must_use]
    pub fn with_parts(&self, part: &mut dyn FnMut(&Scalar) -> Scalar) -> Scalar {
        let kind = match &self.kind {
            ScalarKind::Constant(_) | ScalarKind::Leaf(_) | ScalarKind::LetRef(_) | ScalarKind::Fault(_) => {
                self.kind.clone()
            }
            ScalarKind::Let(id, a, b) => ScalarKind::Let(*id, Box::new(part(a)), Box::new(part(b))),
            ScalarKind::And(a, b) => ScalarKind::And(Box::new(part(a)), Box::new(part(b))),
            ScalarKind::Or(a, b) => ScalarKind::Or(Box::new(part(a)), Box::new(part(b))),
            ScalarKind::Call(op, args) => ScalarKind::Call(*op, args.iter().map(part).collect()),
            ScalarKind::Coalesce(args) => ScalarKind::Coalesce(args.iter().map(part).collect()),
            ScalarKind::Case(arms, otherwise) => {
                let arms = arms.iter().map(|(c, r)| (part(c), part(r))).collect();
                ScalarKind::Case(arms, otherwise.as_ref().map(|e| Box::new(part(e))))
            }
        };
        Scalar { kind, ..self.clone() }
    }

    /// Whether a `let` is used that is bound outside of the tree.
    pub fn has_free_let(&self) -> bool {
        has_free_let(self, &mut Vec::new())
    }
}

/// Whether a `let` is used that is bound outside of the tree.
fn has_free_let(scalar: &Scalar, bound: &mut Vec<LetId>) -> bool {
    match &scalar.kind {
        ScalarKind::Constant(_) | ScalarKind::Leaf(_) | ScalarKind::Fault(_) => false,
        ScalarKind::LetRef(id) => !bound.contains(id),
        ScalarKind::Let(id, a, b) => {
            if has_free_let(a, bound) {
                return true;
            }
            bound.push(*id);
            let free = has_free_let(b, bound);
            bound.pop();
            free
        }
        ScalarKind::And(a, b) | ScalarKind::Or(a, b) => has_free_let(a, bound) || has_free_let(b, bound),
        ScalarKind::Call(_, args) | ScalarKind::Coalesce(args) => args.iter().any(|a| has_free_let(a, bound)),
        ScalarKind::Case(arms, otherwise) => {
            arms.iter().any(|(c, r)| has_free_let(c, bound) || has_free_let(r, bound))
                || otherwise.as_ref().is_some_and(|e| has_free_let(e, bound))
        }
    }
}

/// Makes the part of a typed tree that is the same everywhere; `resolve` gives columns, references and whatever else it
/// knows better, and has to do so for everything that is not an operator.
pub fn from_expr(
    expr: &TypedExpr,
    source: &Arc<Source>,
    resolve: &mut dyn FnMut(&TypedExpr) -> Option<ScalarKind>,
) -> Scalar {
    let place = Place { source: source.clone(), span: expr.span };
    if let Some(kind) = resolve(expr) {
        return Scalar { kind, ty: expr.ty, place };
    }
    let mut part = |e: &TypedExpr| from_expr(e, source, resolve);
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
