//! A `case` over ranges of one column, as steps over its codes: which number goes with a code is told by comparing the code with a few
//! others, so that nothing is decoded and no condition is evaluated.

use super::super::coded_numbers::{MOST_STEPS, Steps};
use super::super::compiled::CompiledRow;
use super::ranges::{CodeRanges, Conditions, without_lets};
use cubrel_formula::scalar::{Scalar, ScalarKind};
use cubrel_store::CodedColumn;

/// The same expression in steps, where it is a `case` of whole numbers whose conditions compare one column with constants, of which
/// more than so many codes there are.
pub(super) fn in_steps(row: &CompiledRow, many_codes: usize) -> Option<CompiledRow> {
    let (column, index) = row.only_column()?;
    let ScalarKind::Case(arms, Some(otherwise)) = &row.scalar().kind else { return None };
    let scale = Some(row.scalar().ty).filter(|ty| ty.is_exact())?.scale();
    let line = column.line().is_some() || column.line_or_null().is_some() || column.float_line().is_some();
    // Codes are compared as signed numbers.
    if !line || column.domain() as usize <= many_codes || i64::try_from(column.domain()).is_err() {
        return None;
    }
    let conditions = Conditions { row, column };
    let arm = |(condition, value): &(Scalar, Scalar)| {
        let truth = conditions.of(&without_lets(condition, &mut Vec::new())?)?;
        Some((truth.yes, number(row, value, scale)?))
    };
    let arms: Vec<(CodeRanges, i64)> = arms.iter().map(arm).collect::<Option<_>>()?;
    let steps = steps(column, &arms, number(row, otherwise, scale)?)?;
    Some(row.stepped(index, steps))
}

/// The number that a part is in every row, in units of so many digits.
fn number(row: &CompiledRow, part: &Scalar, scale: u8) -> Option<i64> {
    row.constant(part)?.as_exact(scale)?.try_into().ok()
}

/// Where the number changes, from the first code to null's, which comes last.
fn steps(column: &CodedColumn, arms: &[(CodeRanges, i64)], otherwise: i64) -> Option<Steps> {
    let mut starts: Vec<u64> = arms.iter().flat_map(|(ranges, _)| ranges.bounds()).filter(|at| *at > 0).collect();
    starts.sort_unstable();
    starts.dedup();
    let value =
        |code: u64| arms.iter().find(|(ranges, _)| ranges.contains(code)).map_or(otherwise, |(_, value)| *value);
    let first = value(0);
    let mut ends: Vec<(i64, i64)> = Vec::new();
    let mut before = first;
    for start in starts.into_iter().filter(|start| *start <= column.null_code()) {
        let now = value(start);
        if now != before {
            ends.push((start as i64, now.checked_sub(before)?));
            before = now;
        }
    }
    (ends.len() <= MOST_STEPS).then(|| Steps::new(first, &ends))
}
