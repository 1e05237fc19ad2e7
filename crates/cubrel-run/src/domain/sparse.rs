//! The combinations that reads brought, cut to those that the tables have.

use cubrel_plan::{DimId, KeyId};
use std::collections::{HashMap, HashSet};

use super::groups::{GroupCells, InnerCells, Outside, ParentCells, add_codes, each_product, push, shared};
use crate::RunError;
use crate::cells::Support;
use crate::combinations::{NO_COMBINATION, packed};
use crate::frame::{Frame, SharedCodes, distinct};
use crate::reads::PlanReads;
use cubrel_plan::Domain;
use cubrel_store::order_of;

/// Rows of a support between two looks at the limit of cells.
pub(super) const ROWS_BETWEEN_CHECKS: usize = 4096;

/// The cells that some support has a row for.
pub(super) fn cells(
    reads: &PlanReads<'_>,
    domain: &Domain,
    outer: &Frame,
    groups: &mut [GroupCells],
    supports: &[Support],
) -> Result<InnerCells, RunError> {
    let members: Vec<ClassMembers> = groups.iter().map(ClassMembers::of).collect();
    let all_for_one = outer.cells == 1 && members.iter().all(|m| matches!(m, ClassMembers::All));
    if let ([support], true) = (supports, all_for_one)
        && let Some(keys) = whole(domain, groups, support)
    {
        return Ok(InnerCells { parents: vec![0; support.rows()], keys, groups: None });
    }
    let mut cells: ParentCells = (Vec::new(), vec![Vec::new(); domain.keys.len()]);
    for support in supports {
        let matching = groups.iter_mut().zip(&domain.groups).map(|(group, plan)| {
            let place = |key: &KeyId| support.dims.iter().position(|d| *d == DimId::of_key(domain.outer_dims, *key));
            SupportMatch::new(group, support, plan.keys.iter().map(place).collect())
        });
        let matching: Vec<SupportMatch> = matching.collect();
        if all_for_one && support.has_no(domain.outer_dims) {
            reads.check_cells(cells.0.len())?;
            if take_all(domain, groups, support, &matching, &mut cells) {
                continue;
            }
        }
        take(reads, domain, outer, groups, &members, support, &matching, &mut cells)?;
    }
    Ok(shared(in_order(cells, supports.len() > 1)))
}

/// Cells in the order of the outer ones. Rows of one support bring every combination once; of several, one may have been brought
/// before.
pub(super) fn in_order(mut cells: ParentCells, of_several: bool) -> ParentCells {
    if of_several {
        keep_distinct(&mut cells);
    }
    if !cells.0.is_sorted() {
        let parents: Vec<u64> = cells.0.iter().map(|parent| u64::from(*parent)).collect();
        pick(&mut cells, &order_of(&parents));
    }
    cells
}

/// The codes of a support, where it says all: it has a code for every key, and each of its rows is a combination that
/// the tables have.
fn whole(domain: &Domain, groups: &mut [GroupCells], support: &Support) -> Option<Vec<SharedCodes>> {
    let place = |key: usize| {
        let dim = DimId::of_key(domain.outer_dims, KeyId::new(key));
        support.dims.iter().position(|d| *d == dim)
    };
    let keys = (0..domain.keys.len()).map(|key| Some(support.keys[place(key)?].clone()));
    let keys: Vec<SharedCodes> = keys.collect::<Option<_>>()?;
    let fits = groups.iter_mut().zip(&domain.groups).all(|(group, plan)| {
        let columns: Vec<&[u64]> = plan.keys.iter().map(|key| keys[*key].as_slice()).collect();
        let rows = support.rows();
        group.combinations.are(&columns, rows) || !group.combinations.find(&columns, rows).contains(&NO_COMBINATION)
    });
    (fits && !keys.is_empty() && support.has_no(domain.outer_dims)).then_some(keys)
}

fn keep_distinct(cells: &mut ParentCells) {
    let parents: Vec<u64> = cells.0.iter().map(|p| u64::from(*p)).collect();
    let columns: Vec<&[u64]> = std::iter::once(&parents).chain(&cells.1).map(Vec::as_slice).collect();
    let (_, first) = distinct(&columns, cells.0.len());
    pick(cells, &first);
}

fn pick(cells: &mut ParentCells, places: &[u32]) {
    cells.0 = places.iter().map(|i| cells.0[*i as usize]).collect();
    for codes in &mut cells.1 {
        *codes = places.iter().map(|i| codes[*i as usize]).collect();
    }
}

/// Which classes have which combinations.
enum ClassMembers {
    /// Every class has all.
    All,
    /// Each combination is of one class.
    One(Vec<u32>),
    Some(HashSet<(u32, u32), foldhash::fast::RandomState>),
}

impl ClassMembers {
    fn of(group: &GroupCells) -> ClassMembers {
        if group.lists.iter().all(|list| list.len() == group.combinations.len()) {
            return ClassMembers::All;
        }
        if let Some(classes) = class_of_each(&group.lists, group.combinations.len()) {
            return ClassMembers::One(classes);
        }
        let of_class =
            |(class, list): (usize, &Vec<u32>)| list.iter().map(|number| (class as u32, *number)).collect::<Vec<_>>();
        ClassMembers::Some(group.lists.iter().enumerate().flat_map(of_class).collect())
    }

    fn has(&self, class: u32, number: u32) -> bool {
        match self {
            ClassMembers::All => true,
            ClassMembers::One(classes) => classes[number as usize] == class,
            ClassMembers::Some(members) => members.contains(&(class, number)),
        }
    }
}

/// No class has the combination.
const NO_CLASS: u32 = u32::MAX;

/// The class that has each combination; `None` where several have one.
fn class_of_each(lists: &[Vec<u32>], combinations: usize) -> Option<Vec<u32>> {
    let mut classes = vec![NO_CLASS; combinations];
    for (class, list) in lists.iter().enumerate() {
        for number in list {
            let slot = &mut classes[*number as usize];
            if *slot != NO_CLASS {
                return None;
            }
            *slot = class as u32;
        }
    }
    Some(classes)
}

/// What a row of a support says of the combinations of one group.
enum SupportMatch {
    /// For each row the only one, or none.
    One(Vec<u32>),
    /// Nothing.
    Any,
    /// For each row the codes of some keys, and the combinations by these.
    Part(Vec<u128>, HashMap<u128, Vec<u32>, foldhash::fast::RandomState>),
}

impl SupportMatch {
    /// `places` says for each key of the group which key of the support it is.
    fn new(group: &mut GroupCells, support: &Support, places: Vec<Option<usize>>) -> SupportMatch {
        let fixed: Vec<usize> = (0..places.len()).filter(|k| places[*k].is_some()).collect();
        let columns: Vec<&[u64]> = places.iter().flatten().map(|p| support.keys[*p].as_slice()).collect();
        let rows = support.rows();
        if fixed.len() == places.len() && !places.is_empty() {
            SupportMatch::One(group.combinations.find(&columns, rows))
        } else if fixed.is_empty() {
            SupportMatch::Any
        } else {
            let sizes = group.combinations.sizes_of(&fixed);
            let keys = (0..rows).map(packed(&columns, &sizes)).collect();
            SupportMatch::Part(keys, group.combinations.by_part(&fixed))
        }
    }

    /// Puts the combinations of an outer cell that agree with a row into `list`.
    fn fill(&self, list: &mut Vec<u32>, group: &GroupCells, members: &ClassMembers, cell: u32, row: usize) {
        list.clear();
        let class = group.class_of[cell as usize];
        match self {
            SupportMatch::One(numbers) => {
                let number = numbers[row];
                if number != NO_COMBINATION && members.has(class, number) {
                    list.push(number);
                }
            }
            SupportMatch::Any => list.extend_from_slice(&group.lists[class as usize]),
            SupportMatch::Part(keys, numbers) => {
                let numbers = numbers.get(&keys[row]).map_or(&[][..], Vec::as_slice);
                list.extend(numbers.iter().filter(|n| members.has(class, **n)));
            }
        }
    }
}

/// For one outer cell and a support that has a code for every key: column by column. False where it has not.
fn take_all(
    domain: &Domain,
    groups: &[GroupCells],
    support: &Support,
    matching: &[SupportMatch],
    cells: &mut ParentCells,
) -> bool {
    let numbers = matching.iter().map(|matching| match matching {
        SupportMatch::One(numbers) => Some(numbers.as_slice()),
        _ => None,
    });
    let Some(numbers) = numbers.collect::<Option<Vec<_>>>() else { return false };
    let there = |row: &u32| numbers.iter().all(|numbers| numbers[*row as usize] != NO_COMBINATION);
    let rows: Vec<u32> = (0..support.rows() as u32).filter(there).collect();
    cells.0.resize(cells.0.len() + rows.len(), 0);
    for ((group, plan), numbers) in groups.iter().zip(&domain.groups).zip(numbers) {
        for (key, codes) in plan.keys.iter().zip(&group.combinations.columns) {
            cells.1[key.index()].extend(rows.iter().map(|row| codes[numbers[*row as usize] as usize]));
        }
    }
    true
}

#[allow(clippy::too_many_arguments, reason = "one step of a loop, with the loop's state")]
fn take(
    reads: &PlanReads<'_>,
    domain: &Domain,
    outer: &Frame,
    groups: &[GroupCells],
    members: &[ClassMembers],
    support: &Support,
    matching: &[SupportMatch],
    cells: &mut ParentCells,
) -> Result<(), RunError> {
    let outside = Outside::of_support(outer, domain, support);
    if let ([SupportMatch::One(numbers)], [group], [members]) = (matching, groups, members) {
        return take_one(reads, &domain.groups[0].keys, (group, members), &outside, numbers, cells);
    }
    let mut lists: Vec<Vec<u32>> = vec![Vec::new(); groups.len()];
    for row in 0..support.rows() {
        for cell in outside.of(row) {
            for (i, group) in groups.iter().enumerate() {
                matching[i].fill(&mut lists[i], group, &members[i], *cell, row);
            }
            if lists.iter().all(|list| list.len() == 1) {
                add_one(cells, domain, groups, *cell, &lists);
            } else if lists.iter().all(|list| !list.is_empty()) {
                let slices: Vec<&[u32]> = lists.iter().map(Vec::as_slice).collect();
                each_product(&slices, &mut |chosen| push(cells, domain, groups, *cell, chosen));
            }
        }
        if row % ROWS_BETWEEN_CHECKS == 0 {
            reads.check_cells(cells.0.len())?;
        }
    }
    Ok(())
}

/// One group, of which each row of the support says the combination: cells first, then their codes key by key.
fn take_one(
    reads: &PlanReads<'_>,
    keys: &[KeyId],
    (group, members): (&GroupCells, &ClassMembers),
    outside: &Outside,
    numbers: &[u32],
    cells: &mut ParentCells,
) -> Result<(), RunError> {
    let mut taken = Vec::with_capacity(numbers.len());
    for (row, number) in numbers.iter().enumerate().filter(|(_, number)| **number != NO_COMBINATION) {
        let fits = |cell: &&u32| members.has(group.class_of[**cell as usize], *number);
        for cell in outside.of(row).iter().filter(fits) {
            cells.0.push(*cell);
            taken.push(*number);
        }
        if row % ROWS_BETWEEN_CHECKS == 0 {
            reads.check_cells(cells.0.len())?;
        }
    }
    add_codes(cells, keys, group, &taken);
    Ok(())
}

/// The usual case: each group has one combination.
fn add_one(cells: &mut ParentCells, domain: &Domain, groups: &[GroupCells], cell: u32, lists: &[Vec<u32>]) {
    cells.0.push(cell);
    for ((group, plan), list) in groups.iter().zip(&domain.groups).zip(lists) {
        for (key, codes) in plan.keys.iter().zip(&group.combinations.columns) {
            cells.1[key.index()].push(codes[list[0] as usize]);
        }
    }
}
