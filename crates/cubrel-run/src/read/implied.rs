//! What a condition on several columns says of some of them by itself. Rows that fail that much need not be looked at
//! further: (a = 1 and b = 2) or (a = 3 and b = 4) implies that a is 1 or 3.

use cubrel_formula::scalar::{Scalar, ScalarKind};

/// A condition that is true wherever another one is, and looks at nothing but the leaves that count, of which `counts` says
/// whether a leaf is one, or is the same in every row (`None`).
pub(super) fn implied(condition: &Scalar, counts: &dyn Fn(usize) -> Option<bool>) -> Option<Scalar> {
    let (mut any, mut all) = (false, true);
    condition.each_leaf(&mut |leaf| {
        let counts = counts(leaf);
        any |= counts == Some(true);
        all &= counts != Some(false);
    });
    if !any {
        return None;
    }
    if all && !condition.has_free_let() {
        return Some(condition.clone());
    }
    match &condition.kind {
        ScalarKind::And(a, b) => match (implied(a, counts), implied(b, counts)) {
            (Some(a), Some(b)) => Some(Scalar { kind: ScalarKind::And(Box::new(a), Box::new(b)), ..condition.clone() }),
            (one, other) => one.or(other),
        },
        ScalarKind::Or(a, b) => {
            let (a, b) = (implied(a, counts)?, implied(b, counts)?);
            Some(Scalar { kind: ScalarKind::Or(Box::new(a), Box::new(b)), ..condition.clone() })
        }
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use cubrel_formula::scalar::Place;
    use cubrel_formula::source::Source;
    use cubrel_formula::typed::Op;
    use cubrel_value::Type;

    fn scalar(kind: ScalarKind) -> Scalar {
        Scalar { kind, ty: Type::Bool, place: Place { source: Source::new("", ""), span: Default::default() } }
    }

    fn leaf(i: usize) -> Scalar {
        scalar(ScalarKind::Leaf(i))
    }

    fn and(a: Scalar, b: Scalar) -> Scalar {
        scalar(ScalarKind::And(Box::new(a), Box::new(b)))
    }

    fn or(a: Scalar, b: Scalar) -> Scalar {
        scalar(ScalarKind::Or(Box::new(a), Box::new(b)))
    }

    #[test]
    fn what_is_implied_looks_at_what_counts_alone() {
        let not = |a: Scalar| scalar(ScalarKind::Call(Op::Not, vec![a]));
        // Leaves 0 and 1 count, 9 is the same in every row.
        let counts = |leaf: usize| (leaf != 9).then_some(leaf < 2);
        let cases = [
            (leaf(0), Some(leaf(0))),
            (leaf(2), None),
            (leaf(9), None),
            (and(leaf(0), leaf(2)), Some(leaf(0))),
            (and(leaf(2), leaf(3)), None),
            (or(leaf(0), leaf(2)), None),
            (or(leaf(0), leaf(1)), Some(or(leaf(0), leaf(1)))),
            (or(and(leaf(0), leaf(2)), and(leaf(3), leaf(1))), Some(or(leaf(0), leaf(1)))),
            (or(and(leaf(0), leaf(2)), leaf(3)), None),
            (and(and(leaf(0), leaf(9)), leaf(2)), Some(and(leaf(0), leaf(9)))),
            (and(not(or(leaf(0), leaf(2))), leaf(1)), Some(leaf(1))),
            (not(and(leaf(0), leaf(2))), None),
        ];
        for (condition, expected) in cases {
            assert_eq!(implied(&condition, &counts), expected, "{condition:?}");
        }
    }
}
