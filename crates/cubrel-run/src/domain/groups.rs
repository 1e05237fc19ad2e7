//! The combinations of a domain's groups, for each class of outer cells.

use crate::RunError;
use crate::cells::Support;
use crate::combinations::Combinations;
use crate::frame::{Frame, KnownGroups, SharedCodes, distinct, gathered};
use crate::reads::PlanReads;
use cubrel_formula::schema::RelationshipId;
use cubrel_plan::{DimId, KeyId};
use cubrel_plan::{Domain, DomainGroup, Key, ReadRef};

/// The combinations of one group of a domain, for each class of outer cells.
pub(super) struct GroupCells {
    /// For each outer cell its class.
    pub(super) class_of: Vec<u32>,
    /// For each class its combinations.
    pub(super) lists: Vec<Vec<u32>>,
    /// The combinations, each by code of the group's keys.
    pub(super) combinations: Combinations,
    /// For each key the code of null.
    pub(super) nulls: Vec<u64>,
}

impl GroupCells {
    pub(super) fn new(
        reads: &PlanReads<'_>,
        domain: &Domain,
        group: &DomainGroup,
        outer: &Frame,
        with_null: bool,
    ) -> Result<GroupCells, RunError> {
        let (class_of, first) = classes(outer, domain, group);
        let key = |k: &KeyId| domain.keys[*k];
        let nulls: Vec<u64> = group.keys.iter().map(|k| null_code(reads, key(k))).collect();
        let mut cells = GroupCells {
            class_of,
            lists: vec![Vec::new(); first.len()],
            // Null has the last code of every key.
            combinations: Combinations::new(nulls.iter().map(|n| n + 1).collect()),
            nulls,
        };
        // Outer cells of one class agree in everything that the reads depend on.
        let representatives = outer.select(&first);
        cells.take(reads, domain, group, &group.read, &representatives, false)?;
        for (read, path) in &group.null_reads {
            if path.is_empty() || may_miss(reads, path) {
                cells.take(reads, domain, group, read, &representatives, true)?;
            }
        }
        if with_null {
            let number = cells.null_number();
            for list in &mut cells.lists {
                if !list.contains(&number) {
                    list.push(number);
                }
            }
        }
        Ok(cells)
    }

    pub(super) fn list(&self, cell: usize) -> &[u32] {
        &self.lists[self.class_of[cell] as usize]
    }

    pub(super) fn null_number(&mut self) -> u32 {
        let nulls = self.nulls.iter().map(|n| SharedCodes::new(vec![*n])).collect();
        self.combinations.numbers(nulls, 1, false)[0]
    }

    /// Adds the combinations that a read brings to the classes of outer cells that it brings them for; of reads over
    /// other tables only the combination of nulls.
    fn take(
        &mut self,
        reads: &PlanReads<'_>,
        domain: &Domain,
        group: &DomainGroup,
        read: &ReadRef,
        representatives: &Frame,
        only_null: bool,
    ) -> Result<(), RunError> {
        let outer_places: Vec<usize> =
            (0..read.dims.len()).filter(|k| read.dims[*k].is_below(domain.outer_dims)).collect();
        let key_place = |key: &KeyId| read.dims.iter().position(|d| *d == DimId::of_key(domain.outer_dims, *key));
        let key_places: Vec<Option<usize>> = group.keys.iter().map(key_place).collect();
        for (classes, result) in reads.results(read, representatives)? {
            let mut columns = result.present().codes.clone();
            let mut rows = result.present_count();
            if only_null {
                let is_null = |row: &u32| {
                    let null = |(place, null): (&Option<usize>, &u64)| {
                        place.is_none_or(|p| columns[p][*row as usize] == *null)
                    };
                    key_places.iter().zip(&self.nulls).all(null)
                };
                let kept: Vec<u32> = (0..rows as u32).filter(is_null).collect();
                columns.iter_mut().for_each(|c| *c = gathered(c, &kept));
                rows = kept.len();
            }
            let outer: Vec<SharedCodes> = outer_places.iter().map(|p| std::mem::take(&mut columns[*p])).collect();
            let codes = key_places.iter().zip(&self.nulls).map(|(place, null)| match place {
                Some(place) => std::mem::take(&mut columns[*place]),
                None => SharedCodes::new(vec![*null; rows]),
            });
            let numbers = self.combinations.numbers(codes.collect(), rows, outer.is_empty() && !only_null);
            if outer.is_empty() && !only_null {
                match classes.as_slice() {
                    [class] if self.lists[*class as usize].is_empty() => self.lists[*class as usize] = numbers,
                    several => several.iter().for_each(|c| self.lists[*c as usize].extend_from_slice(&numbers)),
                }
                continue;
            }
            let dims: Vec<DimId> = outer_places.iter().map(|p| read.dims[*p]).collect();
            let classes = Outside::new(representatives, &dims, classes, &outer, rows);
            self.give(&classes, &numbers, only_null);
        }
        Ok(())
    }

    fn give(&mut self, classes: &Outside, numbers: &[u32], once: bool) {
        for (row, number) in numbers.iter().enumerate() {
            for class in classes.of(row) {
                let list = &mut self.lists[*class as usize];
                if !once || !list.contains(number) {
                    list.push(*number);
                }
            }
        }
    }
}

/// Outer cells that differ only in what a group's reads do not look at are one class.
pub(super) fn classes(outer: &Frame, domain: &Domain, group: &DomainGroup) -> (Vec<u32>, Vec<u32>) {
    let mut dims: Vec<DimId> = std::iter::once(&group.read)
        .chain(group.null_reads.iter().map(|(r, _)| r))
        .flat_map(|r| r.dims.iter().chain(&r.outer))
        .copied()
        .filter(|d| d.is_below(domain.outer_dims))
        .collect();
    dims.sort_unstable();
    dims.dedup();
    let columns: Vec<&[u64]> = dims.iter().map(|d| outer.dims[*d].codes.as_slice()).collect();
    distinct(&columns, outer.cells)
}

pub(super) fn null_code(reads: &PlanReads<'_>, key: Key) -> u64 {
    let tables = reads.tables();
    match key {
        Key::Column(column) => tables.column(column).null_code(),
        Key::Row(table) => tables.rows(table) as u64,
        Key::Value(_) => 0,
    }
}

/// Whether some row at the start of a path finds nothing at its end.
pub(super) fn may_miss(reads: &PlanReads<'_>, path: &[RelationshipId]) -> bool {
    path.iter().any(|r| reads.tables().lookup(*r).unmatched_rows > 0)
}

/// Inner cells: for each its outer cell, the codes of the keys that it has in addition, and which groups they are, where they were made
/// of these.
pub(super) struct InnerCells {
    pub(super) parents: Vec<u32>,
    pub(super) keys: Vec<SharedCodes>,
    pub(super) groups: Option<KnownGroups>,
}

/// Parents, and the codes of each key.
pub(super) type ParentCells = (Vec<u32>, Vec<Vec<u64>>);

/// Cells whose codes can be shared.
pub(super) fn shared((parents, keys): ParentCells) -> InnerCells {
    InnerCells { parents, keys: keys.into_iter().map(SharedCodes::new).collect(), groups: None }
}

/// Adds the codes of some combinations of a group, key by key.
pub(super) fn add_codes(cells: &mut ParentCells, keys: &[KeyId], group: &GroupCells, taken: &[u32]) {
    for (key, codes) in keys.iter().zip(&group.combinations.columns) {
        cells.1[key.index()].extend(taken.iter().map(|number| codes[*number as usize]));
    }
}

pub(super) fn push(cells: &mut ParentCells, domain: &Domain, groups: &[GroupCells], cell: u32, chosen: &[u32]) {
    cells.0.push(cell);
    for ((group, plan), number) in groups.iter().zip(&domain.groups).zip(chosen) {
        for (key, codes) in plan.keys.iter().zip(&group.combinations.columns) {
            cells.1[key.index()].push(codes[*number as usize]);
        }
    }
}

/// Calls `visit` with every choice of one member from each list.
pub(super) fn each_product(lists: &[&[u32]], visit: &mut dyn FnMut(&[u32])) {
    fn go(lists: &[&[u32]], chosen: &mut Vec<u32>, visit: &mut dyn FnMut(&[u32])) {
        let Some((list, rest)) = lists.split_first() else {
            return visit(chosen);
        };
        for member in *list {
            chosen.push(*member);
            go(rest, chosen, visit);
            chosen.pop();
        }
    }
    go(lists, &mut Vec::with_capacity(lists.len()), visit);
}

/// For each row of a read's result the outer cells that it is for: those that agree with it in the dimensions that both have.
pub(super) struct Outside {
    /// The outer cells, those that agree with each other side by side.
    cells: Vec<u32>,
    /// For each row, which of them.
    of_row: Vec<(u32, u32)>,
}

impl Outside {
    /// `dims` are the dimensions of `frame` that both have, `columns` the codes of the rows in them.
    pub(super) fn new(
        frame: &Frame,
        dims: &[DimId],
        mut cells: Vec<u32>,
        columns: &[SharedCodes],
        rows: usize,
    ) -> Outside {
        if dims.is_empty() {
            let all = (0, cells.len() as u32);
            return Outside { cells, of_row: vec![all; rows] };
        }
        let of_cells = dims.iter().map(|d| gathered(&frame.dims[*d].codes, &cells));
        let of_cells: Vec<SharedCodes> = of_cells.collect();
        let largest = |(a, b): (&SharedCodes, &SharedCodes)| a.iter().chain(b.iter()).max().copied().unwrap_or(0) + 1;
        let mut known = Combinations::new(of_cells.iter().zip(columns).map(largest).collect());
        let numbers = known.numbers(of_cells, cells.len(), false);
        let mut order: Vec<u32> = (0..cells.len() as u32).collect();
        order.sort_by_key(|i| numbers[*i as usize]);
        let mut ranges: Vec<(u32, u32)> = vec![(0, 0); known.len()];
        for (place, i) in order.iter().enumerate().rev() {
            let range = &mut ranges[numbers[*i as usize] as usize];
            *range = (place as u32, range.1.max(place as u32 + 1));
        }
        cells = order.iter().map(|i| cells[*i as usize]).collect();
        let slices: Vec<&[u64]> = columns.iter().map(|codes| codes.as_slice()).collect();
        let range = |number: u32| ranges.get(number as usize).copied().unwrap_or_default();
        let of_row = known.find(&slices, rows).into_iter().map(range).collect();
        Outside { cells, of_row }
    }

    /// The outer cells that each row of a support is for.
    pub(super) fn of_support(outer: &Frame, domain: &Domain, support: &Support) -> Outside {
        let below = |place: &usize| support.dims[*place].is_below(domain.outer_dims);
        let places: Vec<usize> = (0..support.dims.len()).filter(below).collect();
        let dims: Vec<DimId> = places.iter().map(|p| support.dims[*p]).collect();
        let columns: Vec<SharedCodes> = places.iter().map(|p| support.keys[*p].clone()).collect();
        Outside::new(outer, &dims, (0..outer.cells as u32).collect(), &columns, support.rows())
    }

    /// How many outer cells all rows have together.
    pub(super) fn pairs(&self) -> usize {
        self.of_row.iter().map(|(start, end)| (end - start) as usize).fold(0, usize::saturating_add)
    }

    pub(super) fn of(&self, row: usize) -> &[u32] {
        let (start, end) = self.of_row[row];
        &self.cells[start as usize..end as usize]
    }
}
