//! What `top(…)` and `bottom(…)` choose (language reference, section 4).

use std::sync::Arc;

use super::cells::Cells;
use super::domain::Expanded;
use super::frame::{BoundValue, Frame, KeyColumn, Members};
use super::tables::Tables;
use cubrel_plan::SetLeaf;
use cubrel_value::{Type, Value};

/// The candidates of a set: the cells outside that tell them apart, with the place of each cell among them; what each of
/// them goes through, and its figure there.
pub(super) struct Candidates {
    pub(super) outer: Frame,
    pub(super) places: Vec<u32>,
    pub(super) expanded: Expanded,
    pub(super) figures: Cells,
}

/// The set that holds in each cell.
pub(super) fn chosen(tables: Tables<'_>, set: &SetLeaf, of: &Candidates) -> KeyColumn {
    let Candidates { outer, places, expanded, figures } = of;
    let codes = &expanded.frame.dims[outer.dims.len()].codes;
    let column = tables.column(set.column);
    let mut candidates: Vec<Vec<(Value, u64)>> = vec![Vec::new(); outer.cells];
    for (i, parent) in expanded.parents.iter().enumerate() {
        let figure = figures.values.get(i, set.figure.scalar.ty);
        // Null is in no set, and takes no place in one.
        if !figure.is_null() && codes[i] != column.null_code() {
            candidates[*parent as usize].push((figure, codes[i]));
        }
    }
    let sets: Vec<BoundValue> = candidates
        .into_iter()
        .map(|list| {
            let mut values: Vec<Value> = cut(list, set).into_iter().map(|code| column.value_of(code)).collect();
            values.sort_by(Value::total_cmp);
            BoundValue::Members(Arc::new(Members::Values(values)))
        })
        .collect();
    KeyColumn::of_held(places.iter().map(|p| sets[*p as usize].clone()), Type::Null)
}

/// The codes of the best figures; those equal to the last one that fits are kept, too.
fn cut(mut list: Vec<(Value, u64)>, set: &SetLeaf) -> Vec<u64> {
    list.sort_by(|(a, _), (b, _)| if set.bottom { a.total_cmp(b) } else { b.total_cmp(a) });
    let count = usize::try_from(set.count).unwrap_or(usize::MAX).min(list.len());
    let Some((last, _)) = count.checked_sub(1).and_then(|i| list.get(i)).cloned() else {
        return Vec::new();
    };
    let ties = list[count..].iter().take_while(|(figure, _)| *figure == last).count();
    list.truncate(count + ties);
    list.into_iter().map(|(_, code)| code).collect()
}
