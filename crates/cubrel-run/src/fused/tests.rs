//! Steps beside the evaluation of expressions one by one.

use super::expression::Fused;
use super::source::{LeafSource, Loaded};
use cubrel_formula::functions::find;
use cubrel_formula::scalar::{EvalError, Leaves, Place, Scalar, ScalarKind};
use cubrel_formula::source::{Source as Text, Span};
use cubrel_formula::typed::{LetId, Op};
use cubrel_value::{Data, Type, Value, Vector, VectorBuilder};

const ROWS: usize = 1300;
const MONEY: Type = Type::decimal(2);
const LEAVES: [(Type, bool); 8] = [
    (Type::Int, false),
    (Type::Int, true),
    (MONEY, false),
    (MONEY, true),
    (Type::Bool, false),
    (Type::Bool, true),
    (Type::Date, true),
    (Type::Timestamp, false),
];

/// Numbers that look like chance.
struct Chance(u64);

impl Chance {
    fn below(&mut self, most: usize) -> usize {
        self.0 = self.0.wrapping_mul(0x5851_F42D_4C95_7F2D).wrapping_add(0x1405_7B7E_F767_814F);
        ((self.0 >> 33) % most as u64) as usize
    }

    fn value(&mut self, ty: Type) -> Value {
        let v = self.below(4001) as i64 - 2000;
        match ty {
            Type::Bool => Value::Bool(v > 0),
            Type::Date => Value::Date(19_000 + (v / 100) as i32),
            Type::Timestamp => Value::Timestamp((19_000 * 24 + v) * 3_600_000_000),
            Type::Int => Value::Int(v / 10),
            _ => Value::Decimal { unscaled: v.into(), scale: ty.scale() },
        }
    }

    /// A number of a type that stands for nothing else.
    fn number(&mut self, ty: Type, depth: usize) -> Scalar {
        if depth == 0 || self.below(7) == 0 {
            let leaves: Vec<usize> = (0..LEAVES.len()).filter(|leaf| LEAVES[*leaf].0 == ty).collect();
            return match self.below(4) {
                0 => of(ScalarKind::Constant(self.value(ty)), ty),
                _ => of(ScalarKind::Leaf(leaves[self.below(leaves.len())]), ty),
            };
        }
        let next = depth - 1;
        let two = |chance: &mut Chance, op| {
            let args = vec![chance.number(ty, next), chance.number(ty, next)];
            of(ScalarKind::Call(op, args), ty)
        };
        let function = |name: &str, args| of(ScalarKind::Call(Op::Function(find(name).expect("is there")), args), ty);
        match (self.below(8), ty) {
            (0, _) => {
                let arms = (0..1 + self.below(3)).map(|_| (self.truth(next), self.number(ty, next))).collect();
                let otherwise = (self.below(3) > 0).then(|| Box::new(self.number(ty, next)));
                of(ScalarKind::Case(arms, otherwise), ty)
            }
            (1, _) => of(ScalarKind::Coalesce(vec![self.number(ty, next), self.number(ty, next)]), ty),
            (2, _) => {
                let name = ["least", "greatest"][self.below(2)];
                function(name, vec![self.number(ty, next), self.number(ty, next)])
            }
            (3, Type::Int) => {
                let name = ["round", "trunc", "floor", "ceil"][self.below(4)];
                function(name, vec![self.number(MONEY, next)])
            }
            (4, Type::Int) => {
                let days = [Type::Date, Type::Timestamp];
                let args = (0..2).map(|_| self.below(2)).collect::<Vec<_>>();
                function("days_between", args.into_iter().map(|day| self.number(days[day], next)).collect())
            }
            (3, _) if ty == MONEY => {
                let op = Op::Rescale { from: 0, to: 2 };
                of(ScalarKind::Call(op, vec![self.number(Type::Int, next)]), ty)
            }
            (4, _) if ty == MONEY => {
                let product = vec![self.number(MONEY, next), self.number(MONEY, next)];
                let product = of(ScalarKind::Call(Op::Mul, product), Type::decimal(4));
                match self.below(2) {
                    0 => of(ScalarKind::Call(Op::Rescale { from: 4, to: 2 }, vec![product]), ty),
                    _ => function("round", vec![product, of(ScalarKind::Constant(Value::Int(2)), Type::Int)]),
                }
            }
            (5, _) if ty.is_exact() => {
                let by = of(ScalarKind::Constant(Value::Int(1 + self.below(9) as i64)), Type::Int);
                let by = of(ScalarKind::Call(Op::Rescale { from: 0, to: ty.scale() }, vec![by]), ty);
                of(ScalarKind::Call(Op::Rem, vec![self.number(ty, next), by]), ty)
            }
            (6, _) if ty.is_exact() => match self.below(3) {
                0 => function("abs", vec![self.number(ty, next)]),
                1 => of(ScalarKind::Call(Op::Negate, vec![self.number(ty, next)]), ty),
                _ => two(self, Op::Sub),
            },
            (6, Type::Timestamp) => of(ScalarKind::Call(Op::ToTimestamp, vec![self.number(Type::Date, next)]), ty),
            _ if ty == Type::Int && self.below(2) == 0 => two(self, Op::Mul),
            _ if ty.is_exact() => two(self, Op::Add),
            _ => self.number(ty, next),
        }
    }

    fn truth(&mut self, depth: usize) -> Scalar {
        let next = depth.saturating_sub(1);
        let numbers = [Type::Int, MONEY, Type::Date, Type::Timestamp][self.below(4)];
        let kind = match self.below(if depth == 0 { 2 } else { 7 }) {
            0 => ScalarKind::Leaf(4 + self.below(2)),
            1 => {
                let op = [Op::Eq, Op::Ne, Op::Lt, Op::Le, Op::Gt, Op::Ge][self.below(6)];
                ScalarKind::Call(op, vec![self.number(numbers, next), self.number(numbers, next)])
            }
            2 => ScalarKind::And(Box::new(self.truth(next)), Box::new(self.truth(next))),
            3 => ScalarKind::Or(Box::new(self.truth(next)), Box::new(self.truth(next))),
            4 => ScalarKind::Call(Op::Not, vec![self.truth(next)]),
            5 => {
                let asked = if self.below(2) == 0 { self.truth(next) } else { self.number(numbers, next) };
                ScalarKind::Call(Op::IsNull, vec![asked])
            }
            _ => {
                let mut args = vec![self.number(numbers, next)];
                for _ in 0..3 {
                    args.push(of(ScalarKind::Constant(self.value(numbers)), numbers));
                }
                ScalarKind::Call(Op::In, args)
            }
        };
        of(kind, Type::Bool)
    }
}

fn of(kind: ScalarKind, ty: Type) -> Scalar {
    let place = Place { source: Text::new("query", "x"), span: Span::new(0, 1) };
    Scalar { kind, ty, place }
}

struct Columns(Vec<Vector>);

impl Columns {
    fn new() -> Columns {
        let mut chance = Chance(7);
        let column = |(ty, nullable): &(Type, bool)| {
            let mut vector = VectorBuilder::new(*ty, ROWS);
            (0..ROWS).for_each(|_| {
                let is_null = *nullable && chance.below(5) == 0;
                vector.push(if is_null { Value::Null } else { chance.value(*ty) });
            });
            vector.finish()
        };
        Columns(LEAVES.iter().map(column).collect())
    }

    fn source(&self, leaf: usize) -> Option<LeafSource<'_>> {
        let nullable = LEAVES[leaf].1;
        Some(match &self.0[leaf].data {
            Data::I64(values) => {
                let ends = || (values.iter().min().map_or(0, |v| *v), values.iter().max().map_or(0, |v| *v));
                LeafSource::Numbers { ends: Box::new(ends), nullable }
            }
            _ => LeafSource::Truths { nullable },
        })
    }

    fn load(&self, leaf: usize) -> Loaded<'static> {
        let Vector { data, valid } = self.0[leaf].clone();
        match data {
            Data::I64(values) => Loaded::Numbers(values, valid),
            Data::Bool(truths) => Loaded::Truths(truths, valid),
            _ => panic!("there are no others"),
        }
    }
}

impl Leaves for Columns {
    type Error = EvalError;

    fn leaf(&self, leaf: usize, slots: &[u32]) -> Result<Vector, EvalError> {
        Ok(self.0[leaf].gather(slots))
    }
}

#[test]
fn steps_give_what_is_evaluated_one_by_one() {
    let (columns, mut chance) = (Columns::new(), Chance(1));
    let mut fused = 0;
    for _ in 0..6000 {
        let ty = [Type::Int, MONEY, Type::Date, Type::Timestamp, Type::Bool][chance.below(5)];
        let depth = 1 + chance.below(3);
        let scalar = if ty == Type::Bool { chance.truth(depth) } else { chance.number(ty, depth) };
        let Some(steps) = Fused::of(&scalar, &|leaf| columns.source(leaf)) else { continue };
        fused += 1;
        let expected = scalar.eval(&columns, ROWS).expect("numbers are small");
        let found = steps.eval(ROWS, |leaf, _| columns.load(leaf));
        for row in 0..ROWS {
            assert_eq!(found.get(row, ty), expected.get(row, ty), "row {row} of {:?}", scalar.kind);
        }
        if ty == Type::Bool {
            assert_eq!(steps.truths(ROWS, |leaf, _| columns.load(leaf)), expected.truths(), "{:?}", scalar.kind);
        } else if let Data::I64(values) = &found.data {
            assert!(cubrel_value::exact::bits_of(values) <= steps.bits(), "{:?}", scalar.kind);
        }
        assert!(steps.nullable() || (0..ROWS).all(|row| expected.is_valid(row)), "{:?}", scalar.kind);
    }
    assert!(fused > 3000, "{fused}");
}

#[test]
fn a_let_stands_for_its_value_and_is_not_repeated_without_end() {
    let (columns, leaf) = (Columns::new(), || of(ScalarKind::Leaf(0), Type::Int));
    let twice = |id| {
        of(
            ScalarKind::Call(
                Op::Add,
                vec![of(ScalarKind::LetRef(LetId(id)), Type::Int), of(ScalarKind::LetRef(LetId(id)), Type::Int)],
            ),
            Type::Int,
        )
    };
    let nested = |levels: u32| {
        (0..levels).rev().fold(twice(levels), |body, id| {
            let value = if id == 0 { leaf() } else { twice(id) };
            of(ScalarKind::Let(LetId(id + 1), Box::new(value), Box::new(body)), Type::Int)
        })
    };
    let few = Fused::of(&nested(3), &|leaf| columns.source(leaf)).expect("it is short");
    let expected = nested(3).eval(&columns, ROWS).expect("numbers are small");
    let found = few.eval(ROWS, |leaf, _| columns.load(leaf));
    assert!((0..ROWS).all(|row| found.get(row, Type::Int) == expected.get(row, Type::Int)));
    assert!(Fused::of(&nested(40), &|leaf| columns.source(leaf)).is_none());
    let body = of(ScalarKind::Call(Op::Add, vec![leaf(), leaf()]), Type::Int);
    let unused = of(ScalarKind::Let(LetId(1), Box::new(leaf()), Box::new(body)), Type::Int);
    assert!(Fused::of(&unused, &|leaf| columns.source(leaf)).is_none());
}

#[test]
fn what_could_leave_64_bits_is_no_steps() {
    let wide = |_: usize| Some(LeafSource::Numbers { ends: Box::new(|| (0, 1 << 40)), nullable: false });
    let two = |op| {
        of(
            ScalarKind::Call(op, vec![of(ScalarKind::Leaf(0), Type::Int), of(ScalarKind::Leaf(1), Type::Int)]),
            Type::Int,
        )
    };
    assert!(Fused::of(&two(Op::Add), &wide).is_some());
    assert!(Fused::of(&two(Op::Mul), &wide).is_none());
    let is_null = |op| of(ScalarKind::Call(Op::IsNull, vec![two(op)]), Type::Bool);
    let nullable = |_: usize| Some(LeafSource::Numbers { ends: Box::new(|| (0, 1 << 40)), nullable: true });
    assert!(Fused::of(&is_null(Op::Add), &nullable).is_some());
    assert!(Fused::of(&is_null(Op::Mul), &nullable).is_none());
    // A condition is asked for its numbers, also where it is never null.
    let leaf = |i| of(ScalarKind::Leaf(i), Type::Int);
    let chosen = |op| {
        let condition = of(ScalarKind::Call(Op::Gt, vec![two(op), leaf(0)]), Type::Bool);
        let is_null = of(ScalarKind::Call(Op::IsNull, vec![condition]), Type::Bool);
        of(ScalarKind::Case(vec![(is_null, leaf(0))], Some(Box::new(leaf(1)))), Type::Int)
    };
    assert!(Fused::of(&chosen(Op::Add), &wide).is_some());
    assert!(Fused::of(&chosen(Op::Mul), &wide).is_none());
}

#[test]
fn functions_that_are_told_in_steps_are_functions() {
    for name in ["round", "trunc", "floor", "ceil", "abs", "least", "greatest", "days_between"] {
        assert!(find(name).is_some(), "{name}");
    }
}
