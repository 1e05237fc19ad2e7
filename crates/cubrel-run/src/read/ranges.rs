//! Filters on one column as ranges of its codes. Codes are in the order of the values, so that what is compared with a
//! constant is decided by where it stands among them: nothing is decoded.

use super::super::compiled::CompiledRow;
use cubrel_formula::scalar::{Scalar, ScalarKind};
use cubrel_formula::typed::{LetId, Op};
use cubrel_store::CodedColumn;
use cubrel_value::Value;

/// Ranges of codes, in order and apart from each other, their ends included.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct CodeRanges(Vec<(u64, u64)>);

/// More ranges than this are no shorter way to decide.
const MOST: usize = 64;

impl CodeRanges {
    fn one(first: u64, end: u64) -> CodeRanges {
        if first < end { CodeRanges(vec![(first, end - 1)]) } else { CodeRanges::default() }
    }

    /// The codes that an array lets through, where they stand in so few ranges.
    pub(super) fn of_array(pass: &[bool], most: usize) -> Option<CodeRanges> {
        let mut ranges: Vec<(u64, u64)> = Vec::new();
        for (code, _) in pass.iter().enumerate().filter(|(_, pass)| **pass) {
            let code = code as u64;
            let count = ranges.len();
            match ranges.last_mut() {
                Some((_, last)) if *last + 1 == code => *last = code,
                _ if count == most => return None,
                _ => ranges.push((code, code)),
            }
        }
        Some(CodeRanges(ranges))
    }

    /// The only range, as its first code and how many codes follow it.
    pub(super) fn single(&self) -> Option<(u64, u64)> {
        if let [(first, last)] = self.0.as_slice() { Some((*first, last - first)) } else { None }
    }

    /// How many codes are in it.
    pub(super) fn len(&self) -> u64 {
        self.0.iter().map(|(first, last)| (last - first).saturating_add(1)).fold(0, u64::saturating_add)
    }

    pub(super) fn contains(&self, code: u64) -> bool {
        let at = self.0.partition_point(|(_, last)| *last < code);
        self.0.get(at).is_some_and(|(first, _)| *first <= code)
    }

    /// Whether any code from one to another is in it.
    pub(super) fn meets(&self, from: u64, to: u64) -> bool {
        let at = self.0.partition_point(|(_, last)| *last < from);
        self.0.get(at).is_some_and(|(first, _)| *first <= to)
    }

    /// Whether all codes from one to another are in it.
    pub(super) fn holds(&self, from: u64, to: u64) -> bool {
        let at = self.0.partition_point(|(_, last)| *last < from);
        self.0.get(at).is_some_and(|(first, last)| *first <= from && to <= *last)
    }

    /// The first code of each range, and the first one behind it.
    pub(super) fn bounds(&self) -> impl Iterator<Item = u64> + '_ {
        self.0.iter().flat_map(|(first, last)| [*first, last.saturating_add(1)])
    }

    /// What is in both.
    pub(super) fn and(&self, other: &CodeRanges) -> CodeRanges {
        let (mut a, mut b) = (self.0.iter().peekable(), other.0.iter().peekable());
        let mut both = Vec::new();
        while let (Some((a_first, a_last)), Some((b_first, b_last))) = (a.peek(), b.peek()) {
            let (first, last) = (a_first.max(b_first), a_last.min(b_last));
            if first <= last {
                both.push((*first, *last));
            }
            if a_last < b_last {
                a.next()
            } else {
                b.next()
            };
        }
        CodeRanges(both)
    }

    /// What is in either.
    fn or(&self, other: &CodeRanges) -> CodeRanges {
        let mut all: Vec<(u64, u64)> = self.0.iter().chain(&other.0).copied().collect();
        all.sort_unstable();
        let mut either: Vec<(u64, u64)> = Vec::new();
        for (first, last) in all {
            match either.last_mut() {
                Some((_, known)) if *known >= first || *known + 1 == first => *known = last.max(*known),
                _ => either.push((first, last)),
            }
        }
        CodeRanges(either)
    }

    /// What is not in it, of the codes before `end`.
    fn not(&self, end: u64) -> CodeRanges {
        let (mut rest, mut at) = (CodeRanges::default(), 0);
        for (first, last) in &self.0 {
            rest.0.extend(CodeRanges::one(at, (*first).min(end)).0);
            at = last + 1;
        }
        rest.0.extend(CodeRanges::one(at, end).0);
        rest
    }
}

/// For which codes a condition is true, and for which it is false; for the others it is null.
pub(super) struct Truth {
    pub(super) yes: CodeRanges,
    no: CodeRanges,
}

/// The codes of the column that a condition looks at for which it is true; the column's number with it. `None` where it is no
/// comparison of one column with constants.
pub(super) fn ranges_of(row: &CompiledRow) -> Option<(u32, CodeRanges)> {
    let (column, index) = row.only_column()?;
    // A test for null costs nothing; the order of few codes is told by the array over them as well.
    let truth = Conditions { row, column }.of(&without_lets(row.scalar(), &mut Vec::new())?)?;
    (truth.yes.0.len() <= MOST).then_some((index, truth.yes))
}

/// A condition with the column itself in the place of every `let` that is one, as `between` has it; `None` where a `let` is
/// more than that.
pub(super) fn without_lets(part: &Scalar, known: &mut Vec<(LetId, Scalar)>) -> Option<Scalar> {
    let kind = match &part.kind {
        ScalarKind::Let(id, value, body) if matches!(value.kind, ScalarKind::Leaf(_)) => {
            known.push((*id, (**value).clone()));
            let body = without_lets(body, known);
            known.pop();
            return body;
        }
        ScalarKind::LetRef(id) => return known.iter().rev().find(|(k, _)| k == id).map(|(_, value)| value.clone()),
        ScalarKind::Constant(_) | ScalarKind::Leaf(_) => part.kind.clone(),
        ScalarKind::And(a, b) => ScalarKind::And(Box::new(without_lets(a, known)?), Box::new(without_lets(b, known)?)),
        ScalarKind::Or(a, b) => ScalarKind::Or(Box::new(without_lets(a, known)?), Box::new(without_lets(b, known)?)),
        ScalarKind::Call(op, args) => {
            ScalarKind::Call(*op, args.iter().map(|arg| without_lets(arg, known)).collect::<Option<_>>()?)
        }
        _ => return None,
    };
    Some(Scalar { kind, ..part.clone() })
}

/// Conditions on one column.
pub(super) struct Conditions<'a> {
    pub(super) row: &'a CompiledRow,
    pub(super) column: &'a CodedColumn,
}

impl Conditions<'_> {
    /// For which codes a condition is true and false; nothing where it is none that ranges tell.
    pub(super) fn of(&self, condition: &Scalar) -> Option<Truth> {
        match &condition.kind {
            ScalarKind::And(a, b) => {
                let (a, b) = (self.of(a)?, self.of(b)?);
                Some(Truth { yes: a.yes.and(&b.yes), no: a.no.or(&b.no) })
            }
            ScalarKind::Or(a, b) => {
                let (a, b) = (self.of(a)?, self.of(b)?);
                Some(Truth { yes: a.yes.or(&b.yes), no: a.no.and(&b.no) })
            }
            ScalarKind::Call(Op::Not, args) => {
                let inner = self.of(args.first()?)?;
                Some(Truth { yes: inner.no, no: inner.yes })
            }
            ScalarKind::Call(Op::IsNull, args) if self.is_column(args.first()?) => {
                let null = self.column.null_code();
                Some(Truth { yes: CodeRanges::one(null, null + 1), no: CodeRanges::one(0, null) })
            }
            ScalarKind::Call(op @ (Op::Eq | Op::Ne | Op::Lt | Op::Le | Op::Gt | Op::Ge), args) => {
                let [a, b] = args.as_slice() else { return None };
                match (self.is_column(a), self.is_column(b)) {
                    (true, false) => self.compared(*op, a, b, condition),
                    (false, true) => self.compared(op.mirrored(), b, a, condition),
                    _ => None,
                }
            }
            ScalarKind::Call(Op::In, args) => {
                let (column, members) = args.split_first()?;
                let mut all = Truth { yes: CodeRanges::default(), no: self.values() };
                for member in members.iter().take(MOST + 1) {
                    let one = self.compared(Op::Eq, column, member, condition)?;
                    all = Truth { yes: all.yes.or(&one.yes), no: all.no.and(&one.no) };
                }
                (members.len() <= MOST && self.is_column(column)).then_some(all)
            }
            _ => None,
        }
    }

    /// The codes of all values.
    fn values(&self) -> CodeRanges {
        CodeRanges::one(0, self.column.null_code())
    }

    /// Whether a part is the column, perhaps as a number of another kind, which changes no order and makes nothing null.
    fn is_column(&self, part: &Scalar) -> bool {
        match &part.kind {
            ScalarKind::Leaf(leaf) => self.row.is_own(*leaf),
            ScalarKind::Call(Op::ToFloat | Op::Rescale { .. } | Op::ToTimestamp, args) => {
                args.first().is_some_and(|inner| self.is_column(inner))
            }
            _ => false,
        }
    }

    fn compared(&self, op: Op, column: &Scalar, with: &Scalar, condition: &Scalar) -> Option<Truth> {
        let with = self.row.constant(with)?;
        if with.is_null() {
            return Some(Truth { yes: CodeRanges::default(), no: CodeRanges::default() });
        }
        let end = self.column.null_code();
        let not_below = self.first(Op::Ge, column, &with, condition)?;
        let above = self.first(Op::Gt, column, &with, condition)?;
        let yes = match op {
            Op::Lt => CodeRanges::one(0, not_below),
            Op::Le => CodeRanges::one(0, above),
            Op::Gt => CodeRanges::one(above, end),
            Op::Ge => CodeRanges::one(not_below, end),
            Op::Eq => CodeRanges::one(not_below, above),
            _ => CodeRanges::one(not_below, above).not(end),
        };
        let no = yes.not(end);
        Some(Truth { yes, no })
    }

    /// The first code whose value is as `op` says, told by comparing as the formula does.
    fn first(&self, op: Op, column: &Scalar, with: &Value, condition: &Scalar) -> Option<u64> {
        let with = Scalar::constant(with.clone(), column.ty, condition.place.clone());
        let (mut low, mut high) = (0, self.column.null_code());
        while low < high {
            let middle = low + (high - low) / 2;
            let value = self.with_value(column, self.column.value_of(middle));
            let kind = ScalarKind::Call(op, vec![value, with.clone()]);
            let is_so = Scalar { kind, ..condition.clone() }.of_constants().ok()?;
            match is_so {
                Value::Bool(true) => high = middle,
                Value::Bool(false) => low = middle + 1,
                // A value that compares with nothing has no place in the order.
                _ => return None,
            }
        }
        Some(low)
    }

    /// A part in which a value stands for the column.
    fn with_value(&self, part: &Scalar, value: Value) -> Scalar {
        let kind = match &part.kind {
            ScalarKind::Call(op, args) => {
                ScalarKind::Call(*op, args.iter().map(|arg| self.with_value(arg, value.clone())).collect())
            }
            _ => ScalarKind::Constant(value),
        };
        Scalar { kind, ..part.clone() }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn codes(ranges: &CodeRanges, end: u64) -> Vec<u64> {
        (0..end).filter(|code| ranges.contains(*code)).collect()
    }

    #[test]
    fn ranges_are_the_sets_that_they_stand_for() {
        const END: u64 = 12;
        let sets = |bits: u32| (0..END).map(|code| bits >> code & 1 == 1).collect::<Vec<bool>>();
        let samples =
            [0u32, 1, 0b1000_0000_0000, 0b0110_0110_0011, 0b1111_1111_1111, 0b0101_0101_0101, 0b0011_1100_0000];
        for a in samples {
            let of_a = CodeRanges::of_array(&sets(a), 64).expect("few");
            assert_eq!(codes(&of_a, END), codes(&of_a.not(END).not(END), END), "{a:b}");
            for b in samples {
                let of_b = CodeRanges::of_array(&sets(b), 64).expect("few");
                let expected = |bits: u32| (0..END).filter(|c| bits >> c & 1 == 1).collect::<Vec<_>>();
                assert_eq!(codes(&of_a.and(&of_b), END), expected(a & b), "{a:b} and {b:b}");
                assert_eq!(codes(&of_a.or(&of_b), END), expected(a | b), "{a:b} or {b:b}");
                for from in 0..END {
                    let meets = (from..END).any(|c| a >> c & 1 == 1);
                    assert_eq!(of_a.meets(from, END), meets, "{a:b} from {from}");
                }
            }
        }
        assert_eq!(CodeRanges::of_array(&sets(0b0101_0101_0101), 3), None);
        assert_eq!(CodeRanges::of_array(&sets(0b0110), 3).and_then(|r| r.single()), Some((1, 1)));
    }
}
