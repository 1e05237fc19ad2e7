//! Tables of a certain shape: bridges between two others, and trees of rows.

use std::cell::LazyCell;
use std::collections::{HashMap, HashSet};

use super::keys::{CONTAINED, FEWEST_KEYS, is_unique};
use super::links::Link;
use super::names::words;
use super::table::Table;
use cubrel_load::loaded::LoadedColumn;
use cubrel_value::{Type, Value};

/// The relationships of a table that does nothing but put rows of two others together: each of those has several there, on
/// both sides.
pub(super) fn bridge<'l>(tables: &[Table], links: &'l [Link], at: usize) -> Option<[&'l Link; 2]> {
    let own: Vec<&Link> = links.iter().filter(|l| l.many.0 == at && l.refused.is_none()).collect();
    let [a, b] = own.as_slice() else { return None };
    let table = &tables[at].loaded;
    let (first, second) = (tables[at].column(&a.many.1)?, tables[at].column(&b.many.1)?);
    let is_key = |name: &str| name == a.many.1 || name == b.many.1 || tables[at].key.as_deref() == Some(name);
    let counts = |c: &LoadedColumn| c.data.ty().is_number() && !is_key(&c.name);
    if a.one.0 == b.one.0 || table.columns.iter().any(counts) {
        return None;
    }
    let (codes, others) = (first.data.codes(), second.data.codes());
    let mut seen = HashSet::new();
    if !codes.iter().zip(&others).all(|pair| seen.insert(pair)) {
        return None;
    }
    let repeats = |c: &LoadedColumn| (c.data.distinct() as usize) < table.rows;
    (repeats(first) && repeats(second)).then_some([a, b])
}

/// A column that points at the key of its own table.
pub(super) struct Tree {
    pub(super) column: String,
    pub(super) key: String,
    /// How many rows there are from one without a row above to the deepest.
    pub(super) levels: usize,
}

/// Names of columns that hold the row above.
const ABOVE: &[&str] = &["parent", "above", "manager", "boss", "leader", "head", "superior", "owner", "upper", "under"];

/// A column whose values are keys of its own table, so that rows stand below others; never in a circle.
pub(super) fn tree(table: &Table) -> Option<Tree> {
    let key = table.column(table.key.as_ref()?)?;
    let rows_of: LazyCell<HashMap<Value, usize>, _> = LazyCell::new(|| {
        key.data.codes().into_iter().enumerate().map(|(row, code)| (key.data.value_of(code), row)).collect()
    });
    let find = |c: &LoadedColumn| {
        let is_above = words(&c.name).iter().any(|w| ABOVE.contains(&w.as_str()));
        let may = c.name != key.name && c.data.ty() == key.data.ty() && c.data.distinct() > 0;
        // In a tree rows share what is above them.
        if !may || is_unique(table, c) || c.data.ty() != Type::Text && !is_above {
            return None;
        }
        let above: Vec<Option<Value>> =
            c.data.codes().into_iter().map(|code| Some(c.data.value_of(code)).filter(|v| !v.is_null())).collect();
        let there = above.iter().flatten().filter(|v| rows_of.contains_key(*v)).count();
        let named = above.iter().flatten().count();
        if (there as f64) < CONTAINED * named as f64 || there < if is_above { 1 } else { FEWEST_KEYS } {
            return None;
        }
        let above: Vec<Option<usize>> = above.into_iter().map(|v| rows_of.get(&v?).copied()).collect();
        Some(Tree { column: c.name.clone(), key: key.name.clone(), levels: levels(&above)? })
    };
    table.loaded.columns.iter().find_map(find)
}

/// How many rows stand above each other at most, given the row above each; none where that leads in a circle. A row that is
/// its own is at the top.
fn levels(above: &[Option<usize>]) -> Option<usize> {
    let mut known: Vec<usize> = vec![0; above.len()];
    for start in 0..above.len() {
        let mut way = Vec::new();
        let mut at = Some(start);
        while let Some(row) = at.filter(|row| known[*row] == 0) {
            if way.len() > above.len() {
                return None;
            }
            way.push(row);
            at = above[row].filter(|up| *up != row);
        }
        let mut level = at.map_or(0, |row| known[row]);
        for row in way.into_iter().rev() {
            level += 1;
            known[row] = level;
        }
    }
    known.into_iter().max().filter(|most| *most > 1)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rows_above_rows_end_somewhere() {
        let cases: &[(&[Option<usize>], Option<usize>)] = &[
            (&[None, Some(0), Some(1), Some(0)], Some(3)),
            (&[Some(1), Some(2), None], Some(3)),
            (&[Some(0), Some(0)], Some(2)),
            (&[Some(1), Some(0)], None),
            (&[None, Some(2), Some(3), Some(1)], None),
            (&[None, None], None),
            (&[], None),
        ];
        for (above, expected) in cases {
            assert_eq!(levels(above), *expected, "{above:?}");
        }
    }
}
