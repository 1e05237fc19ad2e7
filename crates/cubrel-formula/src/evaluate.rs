//! Evaluating trees of operators, a batch at a time.

use super::kernels;
use super::scalar::{EvalError, Leaves, Scalar, ScalarKind};
use super::typed::{LetId, Op};
use cubrel_value::{Data, Type, Value, Vector, VectorBuilder};

impl Scalar {
    /// The value in each of `n` slots.
    pub fn eval<L: Leaves>(&self, leaves: &L, n: usize) -> Result<Vector, L::Error> {
        let slots: Vec<u32> = (0..n as u32).collect();
        Evaluation { leaves, n }.eval(self, &slots, &mut Vec::new())
    }

    /// The value of a tree of constants.
    ///
    /// # Errors
    /// As its operators say, and where it has leaves.
    pub fn of_constants(&self) -> Result<Value, EvalError> {
        Ok(self.eval(&NoLeaves(self), 1)?.get(0, self.ty))
    }

    /// The value that operators over constants, and over leaves for which `leaf` has a value, give in every slot; `None` where it is
    /// not the same, or fails.
    pub fn constant_with(&self, leaf: &dyn Fn(usize) -> Option<Value>) -> Option<Value> {
        match with_constants(self, leaf)? {
            Scalar { kind: ScalarKind::Constant(value), .. } => Some(value),
            tree => tree.of_constants().ok(),
        }
    }
}

/// An operator tree with the values of those leaves that are the same in every slot; `None` where it is no such tree.
fn with_constants(part: &Scalar, leaf: &dyn Fn(usize) -> Option<Value>) -> Option<Scalar> {
    let kind = match &part.kind {
        ScalarKind::Constant(value) => ScalarKind::Constant(value.clone()),
        ScalarKind::Leaf(place) => ScalarKind::Constant(leaf(*place)?),
        ScalarKind::Call(op, args) => {
            ScalarKind::Call(*op, args.iter().map(|arg| with_constants(arg, leaf)).collect::<Option<_>>()?)
        }
        _ => return None,
    };
    Some(Scalar { kind, ty: part.ty, place: part.place.clone() })
}

struct NoLeaves<'a>(&'a Scalar);

impl Leaves for NoLeaves<'_> {
    type Error = EvalError;

    fn leaf(&self, _: usize, _: &[u32]) -> Result<Vector, EvalError> {
        let place = self.0.place.clone();
        Err(EvalError { message: "this is no constant".into(), place, slot: 0, at: None })
    }
}

/// Values of the `let`s around an expression, one for every slot of the batch.
type Bindings = Vec<(LetId, Vector)>;

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
                let fixed = kernels::takes_fixed_texts(*op, args);
                let vector = |arg: &Scalar, bindings: &mut Bindings| match &arg.kind {
                    ScalarKind::Constant(text @ Value::Text(_)) if fixed => Ok(Vector::constant(text, arg.ty, 1)),
                    _ => self.eval(arg, slots, bindings),
                };
                let vectors = args.iter().map(|a| vector(a, bindings)).collect::<Result<Vec<_>, _>>()?;
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
                let case = WholeCase { ty: scalar.ty, arms, otherwise: otherwise.as_deref() };
                if let Some(values) = self.at_once(&case, slots, bindings)? {
                    return Ok(values);
                }
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

    /// A `case` whose conditions cannot go wrong, and whose arms are so simple that no slot is followed through them by itself;
    /// nothing where they are not.
    fn at_once(
        &self,
        case: &WholeCase<'_>,
        slots: &[u32],
        bindings: &mut Bindings,
    ) -> Result<Option<Vector>, L::Error> {
        let safe = |(condition, _): &(Scalar, Scalar)| is_safe(condition, self.leaves);
        if case.arms.len() >= MOST_ARMS || !case.arms.iter().all(safe) {
            return Ok(None);
        }
        match case.constants() {
            Some(values) => self.chosen(case, values, slots, bindings).map(Some),
            None => self.blended(case, slots, bindings),
        }
    }

    /// A `case` whose arms are constants: all conditions are told for all slots.
    fn chosen(
        &self,
        case: &WholeCase<'_>,
        values: Vec<Value>,
        slots: &[u32],
        bindings: &mut Bindings,
    ) -> Result<Vector, L::Error> {
        let mut table = VectorBuilder::new(case.ty, values.len());
        values.into_iter().for_each(|value| table.push(value));
        let mut choice = vec![case.arms.len() as u32; slots.len()];
        // From the last one on, so that the first that is true stays.
        for (arm, (condition, _)) in case.arms.iter().enumerate().rev() {
            let taken = self.eval(condition, slots, bindings)?.truths();
            choice.iter_mut().zip(taken).for_each(|(choice, taken)| {
                *choice = if taken { arm as u32 } else { *choice };
            });
        }
        Ok(table.finish().gather(&choice))
    }

    /// A `case` whose arms are sums and products of what is at hand: all arms are worked out for all slots, which takes less than to
    /// follow each slot to its arm. Nothing where an arm fails somewhere: only arm by arm is it known whether anybody asks for
    /// that.
    fn blended(
        &self,
        case: &WholeCase<'_>,
        slots: &[u32],
        bindings: &mut Bindings,
    ) -> Result<Option<Vector>, L::Error> {
        let mut values = case.arms.iter().map(|(_, value)| value).chain(case.otherwise);
        let is_simple = values.all(|value| is_arithmetic(value, self.leaves));
        if slots.is_empty() || case.arms.len() > MOST_BLENDED || !is_simple {
            return Ok(None);
        }
        let mut result = match case.otherwise.map(|value| self.eval(value, slots, bindings)) {
            Some(Ok(values)) => values,
            Some(Err(_)) => return Ok(None),
            None => Vector::nulls(case.ty, slots.len()),
        };
        // From the last one on, so that the first that is true stays.
        for (condition, value) in case.arms.iter().rev() {
            let taken = self.eval(condition, slots, bindings)?.truths();
            let Ok(values) = self.eval(value, slots, bindings) else { return Ok(None) };
            if !result.replace_where(&taken, &values) {
                return Ok(None);
            }
        }
        Ok(Some(result))
    }

    /// What cannot be is no value; where nothing is asked for, it does no harm.
    fn fault(&self, scalar: &Scalar, what: &str, slots: &[u32]) -> Result<Vector, L::Error> {
        let Some(slot) = slots.first() else { return Ok(Vector::nulls(scalar.ty, 0)) };
        let message = format!("this cannot be computed: {what} (a fault of the program, not of the formula)");
        Err(EvalError { message, place: scalar.place.clone(), slot: *slot as usize, at: None }.into())
    }

    /// Two comparisons of one thing with constants, as in `between`: what has to be worked out is worked out once.
    fn asked_twice(
        &self,
        (a, b): (&Scalar, &Scalar),
        decisive: bool,
        slots: &[u32],
        bindings: &mut Bindings,
    ) -> Result<Option<Vector>, L::Error> {
        let (Some((first, of, low)), Some((second, same, high))) = (compared(a), compared(b)) else { return Ok(None) };
        if matches!(of.kind, ScalarKind::Leaf(_) | ScalarKind::Constant(_)) || !are_alike(of, same, self.leaves) {
            return Ok(None);
        }
        let values = self.eval(of, slots, bindings)?;
        let mut truths = |op, constant: &Scalar| {
            let vectors = [values.clone(), self.eval(constant, slots, bindings)?];
            let found = kernels::call(op, &vectors, &[of.clone(), constant.clone()], Type::Bool, slots.len());
            found.map(Vector::truths_and_validity).map_err(|(slot, message)| {
                let slot = slots.get(slot).map_or(slot, |s| *s as usize);
                L::Error::from(EvalError { message, place: a.place.clone(), slot, at: None })
            })
        };
        let ((mut values, mut known), (others, others_known)) = (truths(first, low)?, truths(second, high)?);
        let right = others.into_iter().zip(others_known);
        for ((value, known), (other, other_known)) in values.iter_mut().zip(&mut known).zip(right) {
            // Which of them is true is hard to guess: no branches.
            let decided = *known & (*value == decisive) | other_known & (other == decisive);
            (*value, *known) = (decided == decisive, decided | *known & other_known);
        }
        Ok(Some(Vector::with_validity(Data::Bool(values), known)))
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
        if let Some(truths) = self.asked_twice((a, b), decisive, slots, bindings)? {
            return Ok(truths);
        }
        let (mut values, mut known) = self.eval(a, slots, bindings)?.truths_and_validity();
        let open = |i: &usize| !known[*i] || values[*i] != decisive;
        let positions: Vec<usize> = (0..slots.len()).filter(open).collect();
        if !positions.is_empty() {
            let open: Vec<u32> = positions.iter().map(|i| slots[*i]).collect();
            let (right, right_known) = self.eval(b, &open, bindings)?.truths_and_validity();
            for (k, i) in positions.into_iter().enumerate() {
                let decided = right_known[k] & (right[k] == decisive);
                (values[i], known[i]) = (decided == decisive, decided | known[i] & right_known[k]);
            }
        }
        Ok(Vector::with_validity(Data::Bool(values), known))
    }
}

/// Whether two calls are the same of the same leaves.
fn are_alike<L: Leaves>(a: &Scalar, b: &Scalar, leaves: &L) -> bool {
    match (&a.kind, &b.kind) {
        (ScalarKind::Leaf(a), ScalarKind::Leaf(b)) => leaves.are_same(*a, *b),
        (ScalarKind::Call(op, args), ScalarKind::Call(other, others)) => {
            op == other && args.len() == others.len() && args.iter().zip(others).all(|(a, b)| are_alike(a, b, leaves))
        }
        _ => a == b,
    }
}

/// A comparison with a constant: the operator, what is compared, the constant.
fn compared(scalar: &Scalar) -> Option<(Op, &Scalar, &Scalar)> {
    match (&scalar.kind, literal_argument(scalar)) {
        (ScalarKind::Call(op @ (Op::Eq | Op::Ne | Op::Lt | Op::Le | Op::Gt | Op::Ge), args), Some(constant)) => {
            Some((*op, &args[0], constant))
        }
        _ => None,
    }
}

/// The second of two arguments, where it is a constant.
fn literal_argument(scalar: &Scalar) -> Option<&Scalar> {
    match &scalar.kind {
        ScalarKind::Call(_, args) => args.get(1).filter(|arg| args.len() == 2 && literal(arg).is_some()),
        _ => None,
    }
}

/// A `case` as it stands in a formula.
struct WholeCase<'s> {
    ty: Type,
    arms: &'s [(Scalar, Scalar)],
    otherwise: Option<&'s Scalar>,
}

impl WholeCase<'_> {
    /// The values of the arms, then of what else there is, where all of them are constants.
    fn constants(&self) -> Option<Vec<Value>> {
        let values = self.arms.iter().map(|(_, value)| Some(value)).chain([self.otherwise]);
        values.map(|value| value.map_or(Some(Value::Null), literal)).collect()
    }
}

/// A constant, perhaps as a number of another kind. What goes deeper is not looked into: who evaluates it would do so again at
/// each level.
fn literal(part: &Scalar) -> Option<Value> {
    match &part.kind {
        ScalarKind::Constant(value) => Some(value.clone()),
        ScalarKind::Call(Op::Rescale { .. } | Op::ToFloat | Op::Negate, args)
            if args.iter().all(|arg| matches!(arg.kind, ScalarKind::Constant(_))) =>
        {
            part.of_constants().ok()
        }
        _ => None,
    }
}

/// A `case` with more arms than this is followed arm by arm.
const MOST_ARMS: usize = 64;
/// The same where all arms would be worked out for all slots.
const MOST_BLENDED: usize = 4;

/// Whether a value is a sum, difference or product of constants and of leaves that are at hand, so that it costs little.
fn is_arithmetic<L: Leaves>(value: &Scalar, leaves: &L) -> bool {
    match &value.kind {
        ScalarKind::Constant(_) => true,
        ScalarKind::Leaf(leaf) => leaves.is_at_hand(*leaf),
        ScalarKind::Call(Op::Add | Op::Sub | Op::Mul | Op::Negate | Op::ToFloat | Op::Rescale { .. }, args) => {
            args.iter().all(|arg| is_arithmetic(arg, leaves))
        }
        _ => false,
    }
}

/// Whether a condition can be told for all slots, whatever comes before it: it cannot go wrong, and nobody minds.
fn is_safe<L: Leaves>(condition: &Scalar, leaves: &L) -> bool {
    let safe = |part: &Scalar| is_safe(part, leaves);
    match &condition.kind {
        ScalarKind::Constant(_) | ScalarKind::LetRef(_) => true,
        ScalarKind::Leaf(leaf) => leaves.is_at_hand(*leaf),
        ScalarKind::And(a, b) | ScalarKind::Or(a, b) | ScalarKind::Let(_, a, b) => safe(a) && safe(b),
        ScalarKind::Call(op, args) => {
            let is_known = matches!(
                op,
                Op::Eq | Op::Ne | Op::Lt | Op::Le | Op::Gt | Op::Ge | Op::Not | Op::IsNull | Op::In | Op::ToFloat
            );
            is_known && args.iter().all(safe)
        }
        _ => false,
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
    use crate::scalar::Place;
    use crate::source::{Source, Span};
    use cubrel_value::Value;

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

    /// Numbers that are at hand, or are said not to be, so that each slot is followed to its arm.
    struct Numbers {
        at_hand: bool,
        leaves: Vec<Vector>,
    }

    impl Leaves for Numbers {
        type Error = EvalError;

        fn is_at_hand(&self, _: usize) -> bool {
            self.at_hand
        }

        fn leaf(&self, leaf: usize, slots: &[u32]) -> Result<Vector, EvalError> {
            Ok(self.leaves[leaf].gather(slots))
        }
    }

    #[test]
    fn arms_worked_out_for_all_slots_give_what_they_give_one_by_one() {
        const N: usize = 300;
        let place = Place { source: Source::new("query", "x"), span: Span::new(0, 1) };
        let of = |kind, ty| Scalar { kind, ty, place: place.clone() };
        let noise = |i: usize, by: usize| (i * by * 7919 + i / 3) % 13;
        for ty in [Type::Int, Type::Float] {
            let number = |leaf: usize| {
                let mut vector = VectorBuilder::new(ty, N);
                for i in 0..N {
                    let n = noise(i, leaf + 1) as i64;
                    vector.push(match (n == 5 && leaf > 0, ty) {
                        (true, _) => Value::Null,
                        // Near the end of 64 bits, so that products leave it.
                        (false, Type::Int) if leaf == 3 => Value::Int(i64::MAX - n),
                        (false, Type::Int) => Value::Int(n - 6),
                        (false, _) => Value::float(n as f64 / 3.0),
                    });
                }
                vector.finish()
            };
            let leaves: Vec<Vector> = (0..4).map(number).collect();
            let leaf = |leaf: usize| of(ScalarKind::Leaf(leaf), ty);
            let call = |op, a: &Scalar, b: &Scalar, ty| of(ScalarKind::Call(op, vec![a.clone(), b.clone()]), ty);
            let one = of(ScalarKind::Constant(if ty == Type::Int { Value::Int(1) } else { Value::float(1.0) }), ty);
            let less = |a: usize, b: usize| call(Op::Lt, &leaf(a), &leaf(b), Type::Bool);
            let values = [
                leaf(0),
                leaf(1),
                one.clone(),
                call(Op::Mul, &leaf(2), &leaf(3), ty),
                call(Op::Add, &leaf(0), &one, ty),
            ];
            let mut different = 0;
            for first in &values {
                for second in &values {
                    for otherwise in values.iter().map(Some).chain([None]) {
                        let arms = vec![(less(0, 1), first.clone()), (less(1, 2), second.clone())];
                        let case = of(ScalarKind::Case(arms, otherwise.map(|value| Box::new(value.clone()))), ty);
                        let given = |at_hand| {
                            let vector = case.eval(&Numbers { at_hand, leaves: leaves.clone() }, N);
                            vector.map(|vector| (0..N).map(|i| vector.get(i, ty)).collect::<Vec<_>>())
                        };
                        match (given(true), given(false)) {
                            (Ok(all), Ok(one_by_one)) => {
                                assert_eq!(all, one_by_one, "{case:?}");
                                different += usize::from(all.iter().any(|v| *v != all[0]));
                            }
                            (Err(all), Err(one_by_one)) => assert_eq!(all.message, one_by_one.message),
                            (all, one_by_one) => panic!("{all:?} and {one_by_one:?}"),
                        }
                    }
                }
            }
            assert!(different > 100, "{different}");
        }
    }
}
