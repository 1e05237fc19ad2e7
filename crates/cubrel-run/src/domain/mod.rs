//! Which combinations cells and `per` go through.
//!
//! Two ways lead to them. *Densely*: for every outer cell all combinations that the tables have. *Sparsely*: only those
//! for which some read brought a group, cut to the former; right wherever a combination without rows cannot matter,
//! and the only way where combinations are many and data is thin.
//!
//! * `groups`: those of each part of a domain, by classes of outer cells
//! * `sparse`: the ones that reads brought; `brought`: where these are all among the ones that the tables have
//! * `sides`: outer cells beside the rows of one read that says all

mod brought;
mod groups;
mod sides;
mod sparse;

use super::RunError;
use super::cells::Support;
use super::frame::{Frame, KeyColumn};
use super::read;
use super::reads::PlanReads;
use cubrel_formula::schema::{RelationshipId, TableId};
use cubrel_plan::Domain;
use groups::{GroupCells, InnerCells, Outside, ParentCells, add_codes, each_product, push, shared};

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
    reads: &PlanReads<'_>,
    domain: &Domain,
    outer: &Frame,
    null_group: &[bool],
    support: impl FnOnce() -> Result<Option<Vec<Support>>, RunError>,
) -> Result<Expanded, RunError> {
    let mut ask = Some(support);
    let mut support = || ask.take().map_or(Ok(None), |ask| ask());
    let mut known = None;
    if brought::is_worth_it(reads, domain) {
        let supports = support()?;
        if let Some(supports) = &supports
            && let Some(cells) = brought::cells(reads, domain, outer, supports)?
        {
            return multiplied(reads, domain, outer, cells);
        }
        known = Some(supports);
    }
    if let Some((own, keys)) = sides::of_domain(reads, domain, null_group)? {
        let outside = Outside::of_support(outer, domain, &own);
        let are_few = outside.pairs() <= reads.options().sparse_above;
        if !are_few && known.is_none() {
            known = Some(support()?);
        }
        if are_few || matches!(known, Some(None)) {
            return multiplied(reads, domain, outer, sides::of_rows(reads, &outside, (&own, &keys))?);
        }
    }
    let mut groups: Vec<GroupCells> = Vec::new();
    for (i, group) in domain.groups.iter().enumerate() {
        let with_null = null_group.get(i).copied().unwrap_or(false);
        groups.push(GroupCells::new(reads, domain, group, outer, with_null)?);
    }
    let dense: usize = (0..outer.cells)
        .map(|cell| groups.iter().map(|g| g.list(cell).len()).fold(1usize, usize::saturating_mul))
        .fold(0, usize::saturating_add);
    let support = match known {
        _ if dense <= reads.options().sparse_above => None,
        Some(known) => known,
        None => support()?,
    };
    let cells = match support {
        Some(support) => sparse::cells(reads, domain, outer, &mut groups, &support)?,
        None => {
            reads.check_cells(dense)?;
            shared(densely(domain, outer, &groups))
        }
    };
    multiplied(reads, domain, outer, cells)
}

fn multiplied(
    reads: &PlanReads<'_>,
    domain: &Domain,
    outer: &Frame,
    InnerCells { parents, keys, groups }: InnerCells,
) -> Result<Expanded, RunError> {
    reads.check_cells(parents.len())?;
    let new_dims = keys.into_iter().zip(&domain.keys).map(|(codes, key)| KeyColumn::of_codes(codes, *key));
    let frame = outer.select(&parents).with(new_dims).knowing(groups);
    Ok(Expanded { frame, parents })
}

/// Whether some row of some table finds nothing in `table`, by any path, spare ones included, or stands under null because nothing points at it and a relationship filters both ways.
pub fn is_missed(reads: &PlanReads<'_>, table: TableId, both_ways: &[RelationshipId]) -> bool {
    let tables = reads.tables();
    (0..tables.schema.relationships.len() as u32).map(RelationshipId).any(|id| {
        let r = tables.schema.relationship(id);
        let misses = tables.lookup(id).unmatched_rows > 0 && leads_to(reads, r.one, table, 0);
        let comes_back = (r.both_ways || both_ways.contains(&id)) && leads_to(reads, r.many, table, 0);
        misses || comes_back && read::pointed_at(tables, id, r.one).len() < tables.rows(r.one)
    })
}

fn leads_to(reads: &PlanReads<'_>, from: TableId, to: TableId, depth: usize) -> bool {
    let schema = reads.tables().schema;
    from == to
        || depth <= schema.tables.len()
            && schema.relationships.iter().any(|r| r.many == from && leads_to(reads, r.one, to, depth + 1))
}

fn densely(domain: &Domain, outer: &Frame, groups: &[GroupCells]) -> ParentCells {
    let mut cells: ParentCells = (Vec::new(), vec![Vec::new(); domain.keys.len()]);
    if let ([group], [plan]) = (groups, domain.groups.as_slice()) {
        // Cells first, then their codes key by key.
        let mut taken = Vec::new();
        for cell in 0..outer.cells {
            let list = group.list(cell);
            cells.0.resize(cells.0.len() + list.len(), cell as u32);
            taken.extend_from_slice(list);
        }
        add_codes(&mut cells, &plan.keys, group, &taken);
        return cells;
    }
    for cell in 0..outer.cells {
        let lists: Vec<&[u32]> = groups.iter().map(|g| g.list(cell)).collect();
        each_product(&lists, &mut |chosen| push(&mut cells, domain, groups, cell as u32, chosen));
    }
    cells
}
