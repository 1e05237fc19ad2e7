//! Which combinations cells and `per` go through.
//!
//! Two ways lead to them. *Densely*: for every outer cell all combinations that the tables have. *Sparsely*: only those
//! for which some read brought a group, cut to the former; right wherever a combination without rows cannot matter,
//! and the only way where combinations are many and data is thin.

use std::collections::{HashMap, HashSet};

use super::RunError;
use super::assemble::Executor;
use super::frame::{Frame, KeyColumn, distinct};
use super::read;
use crate::formula::schema::{RelationshipId, TableId};
use crate::plan::{Domain, DomainGroup, Key, ReadRef};

/// Groups that a read brought: codes by dimension of the inner scope.
pub struct Support {
    /// Which dimensions.
    pub dims: Vec<usize>,
    /// Their codes, dimension by dimension.
    pub keys: Vec<Vec<u64>>,
}

/// The combinations of one group of a domain, for each class of outer cells.
struct GroupCells {
    /// For each outer cell its class.
    class_of: Vec<u32>,
    /// For each class its combinations.
    lists: Vec<Vec<u32>>,
    /// The combinations, each by code of the group's keys.
    combinations: Vec<Vec<u64>>,
    numbers: HashMap<Vec<u64>, u32>,
}

/// Outer cells multiplied with the combinations of a domain: the inner cells, and the outer cell of each.
pub struct Expanded {
    /// The inner cells.
    pub frame: Frame,
    /// For each, its outer cell.
    pub parents: Vec<u32>,
}

/// Multiplies outer cells with a domain. `support` is asked only when it is worth it; `None` from it means that nothing
/// can be said and all combinations are needed. `null_group` tells for each group whether the null combination belongs
/// to it for all cells, where that does not depend on reads.
pub fn expand(
    executor: &Executor<'_>,
    domain: &Domain,
    outer: &Frame,
    null_group: &[bool],
    support: impl FnOnce() -> Result<Option<Vec<Support>>, RunError>,
) -> Result<Expanded, RunError> {
    let mut groups = Vec::new();
    for (i, group) in domain.groups.iter().enumerate() {
        let with_null = null_group.get(i).copied().unwrap_or(false);
        groups.push(GroupCells::new(executor, domain, group, outer, with_null)?);
    }
    let dense: usize = (0..outer.cells)
        .map(|cell| groups.iter().map(|g| g.list(cell).len()).fold(1usize, usize::saturating_mul))
        .fold(0, usize::saturating_add);
    let support = if dense > executor.options().sparse_above { support()? } else { None };
    let (parents, keys) = match support {
        Some(support) => sparse(executor, domain, outer, &groups, &support)?,
        None => {
            executor.check_cells(dense)?;
            densely(domain, outer, &groups)
        }
    };
    executor.check_cells(parents.len())?;
    let new_dims = keys.into_iter().zip(&domain.keys).map(|(codes, key)| KeyColumn::of_codes(codes, *key));
    let frame = outer.select(&parents).with(new_dims);
    Ok(Expanded { frame, parents })
}

impl GroupCells {
    fn new(
        executor: &Executor<'_>,
        domain: &Domain,
        group: &DomainGroup,
        outer: &Frame,
        with_null: bool,
    ) -> Result<GroupCells, RunError> {
        let (class_of, first) = classes(outer, domain, group);
        let mut cells = GroupCells {
            class_of,
            lists: vec![Vec::new(); first.len()],
            combinations: Vec::new(),
            numbers: HashMap::new(),
        };
        cells.take(executor, domain, group, &group.read, outer, &first, false)?;
        let nulls: Vec<u64> = group.keys.iter().map(|k| null_code(executor, domain.keys[*k])).collect();
        for (read, path) in &group.null_reads {
            if path.is_empty() || may_miss(executor, path) {
                cells.take(executor, domain, group, read, outer, &first, true)?;
            }
        }
        if with_null {
            let number = cells.number(nulls);
            for list in &mut cells.lists {
                if !list.contains(&number) {
                    list.push(number);
                }
            }
        }
        Ok(cells)
    }

    fn list(&self, cell: usize) -> &[u32] {
        &self.lists[self.class_of[cell] as usize]
    }

    fn number(&mut self, combination: Vec<u64>) -> u32 {
        let next = self.combinations.len() as u32;
        *self.numbers.entry(combination).or_insert_with_key(|c| {
            self.combinations.push(c.clone());
            next
        })
    }

    /// Adds the combinations that a read brings to the classes of outer cells that it brings them for; of reads over
    /// other tables only the combination of nulls.
    #[allow(clippy::too_many_arguments, reason = "all of it is one step of building the lists")]
    fn take(
        &mut self,
        executor: &Executor<'_>,
        domain: &Domain,
        group: &DomainGroup,
        read: &ReadRef,
        outer: &Frame,
        first: &[u32],
        only_null: bool,
    ) -> Result<(), RunError> {
        let nulls: Vec<u64> = group.keys.iter().map(|k| null_code(executor, domain.keys[*k])).collect();
        let outer_places: Vec<usize> = (0..read.dims.len()).filter(|k| read.dims[*k] < domain.outer_dims).collect();
        let key_place = |key: usize| read.dims.iter().position(|d| *d == domain.outer_dims + key);
        let key_places: Vec<Option<usize>> = group.keys.iter().map(|k| key_place(*k)).collect();
        // Outer cells of one class agree in everything that the read depends on.
        let representatives = outer.select(first);
        for (classes, result) in executor.results(read, &representatives)? {
            let mut classes_of: HashMap<Vec<u64>, Vec<u32>> = HashMap::new();
            for class in classes {
                let key =
                    outer_places.iter().map(|p| representatives.dims[read.dims[*p]].codes[class as usize]).collect();
                classes_of.entry(key).or_default().push(class);
            }
            let columns = result.present();
            let count = result.seen.iter().filter(|s| **s).count();
            #[allow(clippy::needless_range_loop, reason = "the row is a place in every column")]
            for row in 0..count {
                let combination: Vec<u64> =
                    key_places.iter().zip(&nulls).map(|(p, null)| p.map_or(*null, |p| columns[p][row])).collect();
                if only_null && combination != nulls {
                    continue;
                }
                let key: Vec<u64> = outer_places.iter().map(|p| columns[*p][row]).collect();
                let Some(classes) = classes_of.get(&key) else {
                    continue;
                };
                let number = self.number(combination);
                for class in classes {
                    let list = &mut self.lists[*class as usize];
                    if !only_null || !list.contains(&number) {
                        list.push(number);
                    }
                }
            }
        }
        Ok(())
    }
}

/// Outer cells that differ only in what a group's reads do not look at are one class.
fn classes(outer: &Frame, domain: &Domain, group: &DomainGroup) -> (Vec<u32>, Vec<u32>) {
    let mut dims: Vec<usize> = std::iter::once(&group.read)
        .chain(group.null_reads.iter().map(|(r, _)| r))
        .flat_map(|r| r.dims.iter().chain(&r.outer))
        .copied()
        .filter(|d| *d < domain.outer_dims)
        .collect();
    dims.sort_unstable();
    dims.dedup();
    let columns: Vec<&[u64]> = dims.iter().map(|d| outer.dims[*d].codes.as_slice()).collect();
    distinct(&columns, outer.cells)
}

fn null_code(executor: &Executor<'_>, key: Key) -> u64 {
    let tables = executor.tables();
    match key {
        Key::Column(column) => tables.column(column).null_code(),
        Key::Row(table) => tables.rows(table) as u64,
        Key::Value(_) => 0,
    }
}

/// Whether some row at the start of a path finds nothing at its end.
fn may_miss(executor: &Executor<'_>, path: &[RelationshipId]) -> bool {
    path.iter().any(|r| executor.tables().lookup(*r).unmatched_rows > 0)
}

/// Whether some row of some table finds nothing in `table`, by any path, spare ones included.
/// or stands under null because nothing points at it and a relationship filters both ways.
pub fn is_missed(executor: &Executor<'_>, table: TableId, both_ways: &[RelationshipId]) -> bool {
    let tables = executor.tables();
    (0..tables.schema.relationships.len() as u32).map(RelationshipId).any(|id| {
        let r = tables.schema.relationship(id);
        let misses = tables.lookup(id).unmatched_rows > 0 && leads_to(executor, r.one, table, 0);
        let comes_back = (r.both_ways || both_ways.contains(&id)) && leads_to(executor, r.many, table, 0);
        let all = match &tables.store.tables[r.one.0 as usize].allowed {
            None => tables.rows(r.one),
            Some(allowed) => allowed.iter().filter(|a| **a).count(),
        };
        misses || comes_back && read::pointed_at(tables, id, r.one).len() < all
    })
}

fn leads_to(executor: &Executor<'_>, from: TableId, to: TableId, depth: usize) -> bool {
    let schema = executor.tables().schema;
    from == to
        || depth <= schema.tables.len()
            && schema.relationships.iter().any(|r| r.many == from && leads_to(executor, r.one, to, depth + 1))
}

type Cells = (Vec<u32>, Vec<Vec<u64>>);

fn densely(domain: &Domain, outer: &Frame, groups: &[GroupCells]) -> Cells {
    let mut cells: Cells = (Vec::new(), vec![Vec::new(); domain.keys.len()]);
    for cell in 0..outer.cells {
        let lists: Vec<&[u32]> = groups.iter().map(|g| g.list(cell)).collect();
        each_product(&lists, &mut |chosen| push(&mut cells, domain, groups, cell as u32, chosen));
    }
    cells
}

fn push(cells: &mut Cells, domain: &Domain, groups: &[GroupCells], cell: u32, chosen: &[u32]) {
    cells.0.push(cell);
    for ((group, plan), number) in groups.iter().zip(&domain.groups).zip(chosen) {
        for (key, code) in plan.keys.iter().zip(&group.combinations[*number as usize]) {
            cells.1[*key].push(*code);
        }
    }
}

/// Calls `visit` with every choice of one member from each list.
fn each_product(lists: &[&[u32]], visit: &mut dyn FnMut(&[u32])) {
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

fn sparse(
    executor: &Executor<'_>,
    domain: &Domain,
    outer: &Frame,
    groups: &[GroupCells],
    supports: &[Support],
) -> Result<Cells, RunError> {
    let mut cells: Cells = (Vec::new(), vec![Vec::new(); domain.keys.len()]);
    let members: Vec<HashSet<(u32, u32)>> = groups
        .iter()
        .map(|g| {
            g.lists.iter().enumerate().flat_map(|(class, list)| list.iter().map(move |n| (class as u32, *n))).collect()
        })
        .collect();
    for support in supports {
        sparse_from(executor, domain, outer, groups, &members, support, &mut cells)?;
    }
    // A combination may have been brought by several reads.
    let columns: Vec<Vec<u64>> =
        std::iter::once(cells.0.iter().map(|p| u64::from(*p)).collect()).chain(cells.1.iter().cloned()).collect();
    let slices: Vec<&[u64]> = columns.iter().map(Vec::as_slice).collect();
    let (_, mut first) = distinct(&slices, cells.0.len());
    first.sort_by_key(|i| cells.0[*i as usize]);
    let parents = first.iter().map(|i| cells.0[*i as usize]).collect();
    let keys = cells.1.iter().map(|c| first.iter().map(|i| c[*i as usize]).collect()).collect();
    Ok((parents, keys))
}

#[allow(clippy::too_many_arguments, reason = "one step of a loop, with the loop's state")]
fn sparse_from(
    executor: &Executor<'_>,
    domain: &Domain,
    outer: &Frame,
    groups: &[GroupCells],
    members: &[HashSet<(u32, u32)>],
    support: &Support,
    cells: &mut Cells,
) -> Result<(), RunError> {
    let outer_places: Vec<usize> = (0..support.dims.len()).filter(|i| support.dims[*i] < domain.outer_dims).collect();
    let mut cells_of: HashMap<Vec<u64>, Vec<u32>> = HashMap::new();
    for cell in 0..outer.cells {
        let key = outer_places.iter().map(|p| outer.dims[support.dims[*p]].codes[cell]).collect();
        cells_of.entry(key).or_default().push(cell as u32);
    }
    let place_of = |key: usize| support.dims.iter().position(|d| *d == domain.outer_dims + key);
    let fixed: Vec<Vec<Option<usize>>> =
        domain.groups.iter().map(|g| g.keys.iter().map(|k| place_of(*k)).collect()).collect();
    let rows = support.keys.first().map_or(1, Vec::len);
    let mut lists: Vec<Vec<u32>> = vec![Vec::new(); groups.len()];
    for row in 0..rows {
        let key: Vec<u64> = outer_places.iter().map(|p| support.keys[*p][row]).collect();
        let Some(outer_cells) = cells_of.get(&key) else {
            continue;
        };
        for cell in outer_cells {
            for (i, group) in groups.iter().enumerate() {
                lists[i] = group.matching(&fixed[i], support, row, *cell, &members[i]);
            }
            if lists.iter().all(|l| !l.is_empty()) {
                let slices: Vec<&[u32]> = lists.iter().map(Vec::as_slice).collect();
                each_product(&slices, &mut |chosen| push(cells, domain, groups, *cell, chosen));
            }
        }
        if row % 4096 == 0 {
            executor.check_cells(cells.0.len())?;
        }
    }
    Ok(())
}

impl GroupCells {
    /// The combinations of an outer cell that agree with what a support says of the group's keys.
    fn matching(
        &self,
        fixed: &[Option<usize>],
        support: &Support,
        row: usize,
        cell: u32,
        members: &HashSet<(u32, u32)>,
    ) -> Vec<u32> {
        let class = self.class_of[cell as usize];
        if let Some(places) = fixed.iter().copied().collect::<Option<Vec<usize>>>() {
            let combination: Vec<u64> = places.iter().map(|p| support.keys[*p][row]).collect();
            let number = self.numbers.get(&combination).filter(|n| members.contains(&(class, **n)));
            return number.into_iter().copied().collect();
        }
        let agrees = |number: &&u32| {
            let combination = &self.combinations[**number as usize];
            fixed.iter().zip(combination).all(|(place, code)| place.is_none_or(|p| support.keys[p][row] == *code))
        };
        self.lists[class as usize].iter().filter(agrees).copied().collect()
    }
}
