//! An expression once for each code of an anchor; what looks at one column alone, once for each value that the column has.

use std::ops::Range;
use std::sync::Arc;

use super::compiled::{RowCompiler, WholeLeaves, membership};
use super::frame::BoundValue;
use super::located::Far;
use super::tables::{Anchor, Tables};
use cubrel_formula::kernels::{Asked, TextQuestion};
use cubrel_formula::scalar::{Scalar, ScalarKind};
use cubrel_formula::schema::{ColumnId, RelationshipId};
use cubrel_plan::{RowExpr, RowLeaf};
use cubrel_store::{ChainCodes, CodedColumn, Encoding, with_chain_codes};
use cubrel_value::threads::map_ranges;
use cubrel_value::{Data, Type, Value, Vector, VectorBuilder};

/// Codes for which something is computed at a time.
const CODES_OF_PART: usize = 1 << 15;
/// Something is computed for each value of a column where there are at least so many codes for each.
const CODES_PER_VALUE: usize = 2;

/// What a leaf has for each code of an anchor.
enum LeafCodes {
    Unused,
    /// Values of a column, by their codes in it.
    Column(ColumnId, Vec<u64>),
    Constant(Value, Type),
    Values(Vector),
}

impl LeafCodes {
    fn values(&self, tables: Tables<'_>, range: Range<usize>) -> Option<Vector> {
        match self {
            LeafCodes::Unused => None,
            LeafCodes::Column(column, codes) => Some(tables.column(*column).vector_of(&codes[range])),
            LeafCodes::Constant(value, ty) => Some(Vector::constant(value, *ty, range.len())),
            LeafCodes::Values(values) => {
                Some(values.gather(&(range.start as u32..range.end as u32).collect::<Vec<_>>()))
            }
        }
    }
}

impl RowCompiler<'_> {
    /// The expression for each code of an anchor, off which all of its leaves hang; `None` when that fails for some code,
    /// which need not occur.
    pub(super) fn by_code(&self, scalar: &Scalar, row: &RowExpr, anchor: Anchor, codes: usize) -> Option<Vector> {
        if let Some(found) = self.by_column_value(scalar, row, codes) {
            return Some(found);
        }
        let mut parts = Vec::new();
        let scalar = self.with_known_parts(scalar, row, codes, &mut parts);
        let used = |leaf: usize| {
            let mut used = false;
            scalar.each_leaf(&mut |l| used |= l == leaf);
            used
        };
        let leaf = |(i, leaf)| if used(i) { self.leaf_codes(leaf, anchor, codes) } else { Some(LeafCodes::Unused) };
        let mut by_leaf = row.leaves.iter().enumerate().map(leaf).collect::<Option<Vec<LeafCodes>>>()?;
        by_leaf.extend(parts.into_iter().map(LeafCodes::Values));
        let part = |range: Range<usize>| {
            let len = range.len();
            let values = by_leaf.iter().map(|leaf| leaf.values(self.tables, range.clone())).collect();
            scalar.eval(&WholeLeaves { values, tables: self.tables }, len).ok()
        };
        in_parts(codes, scalar.ty, &part)
    }

    /// The expression with the largest parts that look at one column each, where that has few values, in the place of leaves
    /// behind those of the row.
    fn with_known_parts(&self, scalar: &Scalar, row: &RowExpr, codes: usize, parts: &mut Vec<Vector>) -> Scalar {
        if matches!(scalar.kind, ScalarKind::Leaf(_) | ScalarKind::Constant(_)) {
            return scalar.clone();
        }
        if !scalar.has_free_let()
            && let Some(values) = self.by_column_value(scalar, row, codes)
        {
            parts.push(values);
            let leaf = row.leaves.len() + parts.len() - 1;
            return Scalar { kind: ScalarKind::Leaf(leaf), ..scalar.clone() };
        }
        scalar.with_parts(&mut |part| self.with_known_parts(part, row, codes, parts))
    }

    /// An expression of one column for each of so many codes of an anchor, computed once for each value that the column has;
    /// `None` where these are not few.
    fn by_column_value(&self, scalar: &Scalar, row: &RowExpr, codes: usize) -> Option<Vector> {
        let ((column, path), values) = self.of_column_values(scalar, row, codes)?;
        if path.is_empty() {
            return (values.len() == codes).then_some(values);
        }
        Some(far_values(&values, &self.tables.codes_by_code(column, &path)))
    }

    /// Which of so many codes of an anchor a condition on one far column lets through; `None` where it is of several columns, where
    /// the column has not few values, or the condition fails for one of them, which need not occur.
    pub(super) fn far_truths(&self, row: &RowExpr, codes: usize) -> Option<Vec<bool>> {
        let ((column, path), values) = self.of_column_values(&row.scalar, row, codes)?;
        let truths = values.truths();
        (!path.is_empty()).then(|| self.tables.codes_by_code(column, &path).map(|code| truths[code as usize]))
    }

    /// An expression of one column for each value that the column has, and null, where these are few beside so many codes of an
    /// anchor. Questions about texts are answered for each of them in any case.
    fn of_column_values(&self, scalar: &Scalar, row: &RowExpr, codes: usize) -> Option<(Far, Vector)> {
        let (column, path) = only_column(scalar, row)?;
        let data = self.tables.column(column);
        let values = match self.asked_of_texts(scalar, row, data, codes) {
            Some(found) => found,
            None => {
                let count = usize::try_from(data.domain()).ok()?.checked_add(1)?;
                (count.checked_mul(CODES_PER_VALUE)? <= codes).then_some(())?;
                let part = |range: Range<usize>| {
                    let codes: Vec<u64> = (range.start as u64..range.end as u64).collect();
                    let leaf = |leaf: &RowLeaf| match leaf {
                        RowLeaf::Column { .. } => Some(data.vector_of(&codes)),
                        RowLeaf::Parameter(slot) => {
                            self.held(*slot).map(|(_, held, ty)| Vector::constant(&held.value(), *ty, codes.len()))
                        }
                        RowLeaf::Member { .. } => None,
                    };
                    let values = row.leaves.iter().map(leaf).collect();
                    scalar.eval(&WholeLeaves { values, tables: self.tables }, codes.len()).ok()
                };
                in_parts(count, scalar.ty, &part)?
            }
        };
        Some(((column, path), values))
    }

    /// The values of a far column for each of so many codes of an anchor, where it has few of them.
    pub(super) fn values_by_code(&self, column: ColumnId, path: &[RelationshipId], codes: u64) -> Option<Vector> {
        let data = self.tables.column(column);
        let is_worth_it = !path.is_empty() && data.domain().saturating_mul(CODES_PER_VALUE as u64) < codes;
        is_worth_it.then(|| {
            let values = data.vector_of(&(0..=data.domain()).collect::<Vec<u64>>());
            far_values(&values, &self.tables.codes_by_code(column, path))
        })
    }

    /// What is asked of the texts of a column, for each of its codes; texts are made for no more codes than an anchor has.
    fn asked_of_texts(&self, scalar: &Scalar, row: &RowExpr, data: &CodedColumn, codes: usize) -> Option<Vector> {
        let constant = |part: &Scalar| match &part.kind {
            ScalarKind::Constant(value) => Some(value.clone()),
            ScalarKind::Leaf(leaf) => match &row.leaves[*leaf] {
                RowLeaf::Parameter(slot) => Some(self.held(*slot)?.1.value()),
                _ => None,
            },
            _ => None,
        };
        let (question, leaf) = TextQuestion::of(scalar, &constant)?;
        let RowLeaf::Column { .. } = &row.leaves[leaf] else { return None };
        let Encoding::Texts(dictionary) = data.encoding() else { return None };
        // Null's code is the last.
        let mut valid = vec![true; dictionary.len()];
        valid.push(false);
        fn with<T>(mut answers: Vec<T>, of_null: T) -> Vec<T> {
            answers.push(of_null);
            answers
        }
        let answers = match &question.asked {
            Asked::Itself if dictionary.len() > codes => return None,
            Asked::Itself => Data::Text(with(dictionary.map(|text| Arc::from(question.part(text))), Arc::from(""))),
            Asked::Length if question.is_of_whole_texts() => Data::I64(with(dictionary.map(characters), 0)),
            Asked::Length => Data::I64(with(dictionary.map(|text| question.part(text).chars().count() as i64), 0)),
            Asked::Listed(listed, wanted) => {
                let is_listed = |text: &str| listed.binary_search_by(|one| one.as_ref().cmp(text)).is_ok();
                Data::Bool(with(dictionary.map(|text| is_listed(question.part(text)) == *wanted), false))
            }
            Asked::Search(search) => Data::Bool(with(
                match question.beginning() {
                    Some(start) => {
                        let codes = dictionary.beginning_with(start);
                        (0..dictionary.len()).map(|code| codes.contains(&code)).collect()
                    }
                    None if question.is_of_whole_texts() => {
                        dictionary.search(|texts, ends| search.find_all(texts, ends), |text| search.finds(text))
                    }
                    None => dictionary.map(|text| search.finds(question.part(text).as_bytes())),
                },
                false,
            )),
        };
        Some(Vector::with_validity(answers, valid))
    }

    fn leaf_codes(&self, leaf: &RowLeaf, anchor: Anchor, codes: usize) -> Option<LeafCodes> {
        match leaf {
            RowLeaf::Column { column, path } => {
                Some(LeafCodes::Column(*column, self.tables.own_or_far_codes(*column, path)))
            }
            RowLeaf::Parameter(slot) => {
                let (_, held, ty) = self.held(*slot)?;
                Some(LeafCodes::Constant(held.value(), *ty))
            }
            RowLeaf::Member { slot, of } => {
                let (_, BoundValue::Members(members), _) = self.held(*slot)? else { return None };
                let values = self.by_code(&of.scalar, of, anchor, codes)?;
                Some(LeafCodes::Values(membership(&values, of.scalar.ty, members)))
            }
        }
    }
}

/// The values of far codes, for each code of the key that leads to them.
fn far_values(values: &Vector, codes: &ChainCodes) -> Vector {
    with_chain_codes!(codes, |codes| values.gather(codes))
}

/// The only column that an expression looks at, and the way there.
fn only_column(scalar: &Scalar, row: &RowExpr) -> Option<Far> {
    let (mut found, mut is_only): (Option<Far>, bool) = (None, true);
    scalar.each_leaf(&mut |leaf| match (&row.leaves[leaf], &found) {
        (RowLeaf::Column { column, path }, None) => found = Some((*column, path.clone())),
        (RowLeaf::Column { column, path }, Some((known, way))) => is_only &= column == known && path == way,
        // Whether something is in a set from outside is told by code as it is.
        (RowLeaf::Member { .. }, _) => is_only = false,
        (RowLeaf::Parameter(_), _) => {}
    });
    found.filter(|_| is_only)
}

/// What `part` gives for ranges of so many codes, put together. Values of texts take much more room than their codes: they
/// are there for some codes at a time.
fn in_parts(codes: usize, ty: Type, part: &(impl Fn(Range<usize>) -> Option<Vector> + Sync)) -> Option<Vector> {
    if codes <= CODES_OF_PART {
        return part(0..codes);
    }
    let parts: Option<Vec<Vector>> = map_ranges(codes, CODES_OF_PART, part).into_iter().collect();
    let mut all = VectorBuilder::new(ty, codes);
    parts?.iter().for_each(|part| all.append(part, ty));
    Some(all.finish())
}

/// How many characters UTF-8 has: as many as bytes that do not go on with one. Eight are looked at at once.
fn characters(text: &[u8]) -> i64 {
    if text.is_ascii() {
        return text.len() as i64;
    }
    const ONES: u64 = 0x0101_0101_0101_0101;
    let goes_on = |word: u64| ((word >> 7 & !(word >> 6) & ONES).wrapping_mul(ONES) >> 56) as i64;
    let (words, rest) = text.as_chunks::<8>();
    let mut last = [0; 8];
    last[..rest.len()].copy_from_slice(rest);
    let words = words.iter().chain([&last]).map(|word| goes_on(u64::from_le_bytes(*word)));
    text.len() as i64 - words.sum::<i64>()
}

#[cfg(test)]
mod tests {
    use super::characters;

    #[test]
    fn characters_are_counted_in_any_text() {
        for text in ["", "a", "Fähre", "islands!", "Skåw – ⛴🦭", "ééééééééé", "12345678é"] {
            for more in 0..9 {
                let text = text.to_string() + &"x".repeat(more);
                assert_eq!(characters(text.as_bytes()), text.chars().count() as i64, "{text}");
            }
        }
    }
}
