//! Many cells at once: for each dimension of a scope, one code a cell.

use cubrel_plan::{DimId, ListedBy};
use std::collections::HashMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use cubrel_formula::schema::ColumnId;
use cubrel_plan::Key;
use cubrel_store::Ranks;
use cubrel_value::days::DaySet;
use cubrel_value::{Data, Type, Value, Vector};

/// Keys are numbered by an array over all that there could be, up to this many of them,
const SMALL_ROOM: u64 = 1 << 12;
/// or so many for each row,
const ROOM_PER_ROW: u64 = 4;
/// or up to so many, where it is no more than this for each row; else by a hash table.
const NEAR_ROOM: u64 = 1 << 22;
const NEAR_ROOM_PER_ROW: u64 = 16;
/// From so many rows on, keys are sorted by their digits: that takes less than looking them up all over a hash table.
const SORTED_FROM: usize = 1 << 12;
/// A hash table begins with room for a key in so many rows.
const ROWS_PER_KEY: usize = 4;

/// The cells of a scope.
#[derive(Clone, Debug, Default)]
pub struct Frame {
    /// How many cells.
    pub cells: usize,
    /// By dimension.
    pub dims: Vec<KeyColumn>,
    /// Which groups they are, where they were made of these.
    groups: Option<KnownGroups>,
}

/// Tells passes over rows apart.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct PassId(u64);

impl PassId {
    /// Another one than all others.
    pub fn fresh() -> PassId {
        static NEXT: AtomicU64 = AtomicU64::new(0);
        PassId(NEXT.fetch_add(1, Ordering::Relaxed))
    }
}

/// For each cell its group among those of a pass.
#[derive(Clone, Debug)]
pub struct KnownGroups {
    /// The pass.
    pub pass: PassId,
    /// The dimensions that tell groups apart, in the order of their keys.
    pub dims: Vec<DimId>,
    /// The numbers of the groups.
    pub groups: Arc<Vec<u32>>,
}

/// Codes that several may hold without a copy.
pub type SharedCodes = Arc<Vec<u64>>;

/// The codes at some places.
pub fn gathered(codes: &[u64], places: &[u32]) -> SharedCodes {
    SharedCodes::new(places.iter().map(|place| codes[*place as usize]).collect())
}

/// The codes of one dimension.
#[derive(Clone, Debug)]
pub struct KeyColumn {
    /// For each cell: the code of a column's value, the number of a row, or the place of a value.
    pub codes: SharedCodes,
    /// What the codes are.
    pub kind: KeyKind,
}

/// What the codes of a dimension are.
#[derive(Clone, Debug)]
pub enum KeyKind {
    /// Codes of a column.
    Column(ColumnId),
    /// Rows of a table.
    Row,
    /// Places in a list of what is held.
    Values(Arc<Pool>),
}

/// What the cells of a dimension hold, each different thing once.
#[derive(Debug)]
pub struct Pool {
    /// The things held.
    pub values: Vec<BoundValue>,
    /// The type of values.
    pub ty: Type,
}

/// A value from outside, or a set of values.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum BoundValue {
    /// A value.
    Value(Value),
    /// Several.
    Members(Arc<Members>),
}

/// A set of values.
#[derive(Debug, PartialEq, Eq, Hash)]
pub enum Members {
    /// Days.
    Days(DaySet),
    /// Values, in order.
    Values(Vec<Value>),
    /// Combinations of codes, in order: of lines of a grid.
    Lines(Vec<Vec<u64>>),
}

impl Members {
    /// Whether a value is one of them; null never is.
    pub fn contains(&self, value: &Value) -> bool {
        match (self, value) {
            (Members::Days(days), Value::Date(day)) => days.contains(*day),
            (Members::Days(_) | Members::Lines(_), _) => false,
            (Members::Values(values), value) => values.binary_search_by(|v| v.total_cmp(value)).is_ok(),
        }
    }

    /// The days, where that is what it holds.
    pub fn days(&self) -> Option<&DaySet> {
        match self {
            Members::Days(days) => Some(days),
            Members::Values(_) | Members::Lines(_) => None,
        }
    }
}

impl BoundValue {
    /// The value; a set is none.
    pub fn value(&self) -> Value {
        match self {
            BoundValue::Value(value) => value.clone(),
            BoundValue::Members(_) => Value::Null,
        }
    }

    /// The set; a value is none.
    pub fn members(&self) -> Option<&Members> {
        match self {
            BoundValue::Value(_) => None,
            BoundValue::Members(members) => Some(members),
        }
    }
}

impl KeyColumn {
    /// Codes of a column or rows of a table.
    pub fn of_codes(codes: impl Into<SharedCodes>, key: Key) -> KeyColumn {
        let kind = match key {
            Key::Column(column) => KeyKind::Column(column),
            Key::Row(_) | Key::Value(_) => KeyKind::Row,
        };
        KeyColumn { codes: codes.into(), kind }
    }

    /// Values, each distinct one once.
    pub fn of_values(vector: &Vector, ty: Type) -> KeyColumn {
        if let Vector { data: Data::I64(numbers), valid: None } = vector {
            // Numbers are told apart without making values of them all.
            let least = numbers.iter().copied().min().unwrap_or(0);
            let distances: Vec<u64> = numbers.iter().map(|n| n.wrapping_sub(least) as u64).collect();
            let (places, first) = distinct(&[&distances], distances.len());
            let values = first.iter().map(|i| BoundValue::Value(vector.get(*i as usize, ty))).collect();
            let codes = Arc::new(places.into_iter().map(u64::from).collect());
            return KeyColumn { codes, kind: KeyKind::Values(Arc::new(Pool { values, ty })) };
        }
        KeyColumn::of_held((0..vector.len()).map(|i| BoundValue::Value(vector.get(i, ty))), ty)
    }

    /// What each cell holds, each different thing once.
    pub fn of_held(cells: impl Iterator<Item = BoundValue>, ty: Type) -> KeyColumn {
        let mut places: HashMap<BoundValue, u64, foldhash::fast::RandomState> = HashMap::default();
        let mut values: Vec<BoundValue> = Vec::new();
        let mut last = 0;
        let codes = cells
            .map(|held| {
                // Neighbours are often alike.
                if values.get(last as usize) != Some(&held) {
                    last = *places.entry(held.clone()).or_insert_with(|| {
                        values.push(held);
                        values.len() as u64 - 1
                    });
                }
                last
            })
            .collect();
        KeyColumn { codes: Arc::new(codes), kind: KeyKind::Values(Arc::new(Pool { values, ty })) }
    }

    /// What a cell holds, in a dimension that holds values.
    pub fn held(&self, cell: usize) -> Option<&BoundValue> {
        match &self.kind {
            KeyKind::Values(pool) => pool.values.get(self.codes[cell] as usize),
            KeyKind::Column(_) | KeyKind::Row => None,
        }
    }

    fn gather(&self, cells: &[u32]) -> KeyColumn {
        KeyColumn { codes: gathered(&self.codes, cells), kind: self.kind.clone() }
    }
}

impl Frame {
    /// So many cells.
    pub fn new(cells: usize, dims: Vec<KeyColumn>) -> Frame {
        Frame { cells, dims, groups: None }
    }

    /// One cell without dimensions.
    pub fn one() -> Frame {
        Frame::new(1, Vec::new())
    }

    /// The same cells, of which groups are known.
    #[must_use]
    pub fn knowing(self, groups: Option<KnownGroups>) -> Frame {
        Frame { groups: groups.or(self.groups), ..self }
    }

    /// The groups of the cells by some dimensions in a pass, where they are known.
    pub fn groups_in(&self, pass: PassId, dims: &[DimId]) -> Option<&Arc<Vec<u32>>> {
        let known = self.groups.as_ref().filter(|known| known.pass == pass && known.dims == dims)?;
        Some(&known.groups)
    }

    /// The given cells, in that order.
    pub fn select(&self, cells: &[u32]) -> Frame {
        let dims = self.dims.iter().map(|d| d.gather(cells)).collect();
        let group = |known: &KnownGroups| cells.iter().map(|cell| known.groups[*cell as usize]).collect();
        let known = self.groups.as_ref().map(|known| KnownGroups { groups: Arc::new(group(known)), ..known.clone() });
        Frame::new(cells.len(), dims).knowing(known)
    }

    /// The distinct cells of some dimensions, and for each cell of this frame which one it is.
    pub fn project(&self, keep: &[DimId]) -> (Frame, Vec<u32>) {
        let columns: Vec<&[u64]> = keep.iter().map(|d| self.dims[*d].codes.as_slice()).collect();
        // Many cells come in the order of their codes, in which groups stand as well.
        let (places, first) = told_apart(&columns, self.cells, Numbered::AnyOrder);
        let dims = keep.iter().map(|d| self.dims[*d].gather(&first)).collect();
        (Frame::new(first.len(), dims), places)
    }

    /// This frame with more dimensions.
    pub fn with(&self, more: impl IntoIterator<Item = KeyColumn>) -> Frame {
        let mut dims = self.dims.clone();
        dims.extend(more);
        Frame::new(self.cells, dims).knowing(self.groups.clone())
    }
}

/// Numbers the distinct rows of some code columns in order of appearance: for each row its number, and for each
/// number its first row.
pub fn distinct(columns: &[&[u64]], rows: usize) -> (Vec<u32>, Vec<u32>) {
    told_apart(columns, rows, Numbered::ByAppearance)
}

/// How distinct rows are numbered.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Numbered {
    ByAppearance,
    AnyOrder,
}

fn told_apart(columns: &[&[u64]], rows: usize, numbered: Numbered) -> (Vec<u32>, Vec<u32>) {
    let Some((first, rest)) = columns.split_first() else {
        return (vec![0; rows], if rows > 0 { vec![0] } else { Vec::new() });
    };
    let (mut places, mut found) = number(rows, |row| code(first[row]), size_of(first), numbered);
    for column in rest {
        // Columns are folded in one after the other, so that a key is always two numbers.
        let size = size_of(column);
        let folded = |row: usize| (u128::from(places[row]) * u128::from(size)) + u128::from(code(column[row]));
        let room = u128::from(size) * found.len() as u128;
        (places, found) = match u64::try_from(room) {
            Ok(room) => number(rows, |row| folded(row) as u64, room, numbered),
            Err(_) => number_by_hash(rows, folded),
        };
    }
    (places, found)
}

/// The last two codes stand for no code of a column; they become the first two, so that the largest code bounds all.
fn code(code: u64) -> u64 {
    code.wrapping_add(2)
}

fn size_of(column: &[u64]) -> u64 {
    column.iter().map(|c| code(*c)).max().map_or(0, |c| c.saturating_add(1))
}

/// How many places an array may have in which so many rows are looked up in place of a hash table, if it is to stay near.
pub fn near_room(rows: usize) -> u64 {
    NEAR_ROOM.min(NEAR_ROOM_PER_ROW * rows as u64)
}

/// Numbers keys that are all less than `room`.
fn number(rows: usize, key: impl Fn(usize) -> u64, room: u64, numbered: Numbered) -> (Vec<u32>, Vec<u32>) {
    if room > SMALL_ROOM.max(ROOM_PER_ROW * rows as u64).max(near_room(rows)) {
        return if rows < SORTED_FROM { number_by_hash(rows, key) } else { number_by_digits(rows, key, numbered) };
    }
    const NONE: u32 = u32::MAX;
    let mut numbers = vec![NONE; room as usize];
    let mut first = Vec::new();
    let number = |row: usize| {
        let slot = &mut numbers[key(row) as usize];
        if *slot == NONE {
            *slot = first.len() as u32;
            first.push(row as u32);
        }
        *slot
    };
    ((0..rows).map(number).collect(), first)
}

fn number_by_digits(rows: usize, key: impl Fn(usize) -> u64, numbered: Numbered) -> (Vec<u32>, Vec<u32>) {
    let Ranks { firsts, mut places, .. } = Ranks::of(rows, (0..rows).map(key));
    if numbered == Numbered::AnyOrder {
        return (places, firsts);
    }
    let mut appeared: Vec<u32> = firsts.clone();
    appeared.sort_unstable();
    let mut number_of_row = vec![0; rows];
    appeared.iter().zip(0..).for_each(|(row, number)| number_of_row[*row as usize] = number);
    places.iter_mut().for_each(|place| *place = number_of_row[firsts[*place as usize] as usize]);
    (places, appeared)
}

fn number_by_hash<K: std::hash::Hash + Eq>(rows: usize, key: impl Fn(usize) -> K) -> (Vec<u32>, Vec<u32>) {
    // Room that is made in steps is gone through again at each.
    let mut known: HashMap<K, u32, foldhash::fast::RandomState> =
        HashMap::with_capacity_and_hasher(rows / ROWS_PER_KEY, Default::default());
    let mut first = Vec::new();
    let number = |row: usize| {
        *known.entry(key(row)).or_insert_with(|| {
            first.push(row as u32);
            first.len() as u32 - 1
        })
    };
    ((0..rows).map(number).collect(), first)
}

impl ListedBy<DimId> for KeyColumn {}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rows_are_numbered_in_order_of_appearance_whatever_their_codes() {
        for far in [3, 70_000, u64::MAX - 3, u64::MAX - 1, u64::MAX] {
            let (places, first) = distinct(&[&[far, 0, far, 0, far], &[1, far, 1, 2, far]], 5);
            assert_eq!((places, first), (vec![0, 1, 0, 2, 3], vec![0, 1, 3, 4]), "{far}");
        }
    }

    #[test]
    fn many_rows_that_are_far_apart_are_numbered_as_few_are() {
        let rows = 3 * SORTED_FROM;
        for far in [1, 1 << 40, u64::MAX >> 2] {
            let scattered =
                |row: usize, of: u64| (row as u64).wrapping_mul(0x9E37_79B9_7F4A_7C15) % of * (far / of).max(1);
            let columns = [701, 5].map(|of| (0..rows).map(|row| scattered(row, of)).collect::<Vec<u64>>());
            let columns: Vec<&[u64]> = columns.iter().map(Vec::as_slice).collect();
            let (by_hash, firsts) = number_by_hash(rows, |row| (columns[0][row], columns[1][row]));
            assert!(firsts.len() > 701);
            assert_eq!(distinct(&columns, rows), (by_hash.clone(), firsts.clone()), "{far}");
            let key = |row: u32| (columns[0][row as usize], columns[1][row as usize]);
            let (places, any) = told_apart(&columns, rows, Numbered::AnyOrder);
            assert_eq!(any.len(), firsts.len());
            assert!(places.iter().zip(0..).all(|(place, row)| key(any[*place as usize]) == key(row)), "{far}");
        }
    }

    #[test]
    fn projecting_keeps_each_combination_once() {
        let column = |codes| KeyColumn::of_codes(codes, Key::Row(cubrel_formula::schema::TableId(0)));
        let frame = Frame::new(4, [vec![1, 1, 2, 1], vec![5, 6, 5, 5]].map(column).to_vec());
        let (inner, places) = frame.project(&[DimId::new(1), DimId::new(0)]);
        assert_eq!((inner.cells, places), (3, vec![0, 1, 2, 0]));
        let pass = PassId::fresh();
        let dims = vec![DimId::new(0)];
        let known = KnownGroups { pass, dims: dims.clone(), groups: Arc::new(vec![7, 7, 9, 7]) };
        let some = frame.clone().knowing(Some(known)).select(&[2, 0]).with([]);
        assert_eq!(some.groups_in(pass, &dims).map(|groups| groups.to_vec()), Some(vec![9, 7]));
        assert!(some.groups_in(PassId::fresh(), &dims).is_none());
        assert!(some.groups_in(pass, &[DimId::new(1)]).is_none());
        assert!(some.project(&dims).0.groups_in(pass, &dims).is_none(), "other cells");
        let (none, places) = frame.project(&[]);
        assert_eq!((none.cells, places), (1, vec![0, 0, 0, 0]));
    }
}
