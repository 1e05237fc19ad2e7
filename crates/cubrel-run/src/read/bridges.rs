//! Relationships that filter both ways: a row counts under every combination that the rows pointing at it have (language
//! reference, section 6).

use std::collections::HashSet;

use super::super::compiled::Outer;
use super::super::tables::Tables;
use super::super::{Options, RunError};
use super::batch::Batch;
use super::filters::null_passes;
use super::result::ReadResult;
use cubrel_formula::schema::{RelationshipId, TableId};
use cubrel_plan::{Bridge, Key, Read};
use cubrel_store::NO_ROW;

/// For each row of the one side, what the rows that point at it add to a group's key.
pub(super) struct PairsOf {
    /// From the read's table to the one side.
    path: Vec<RelationshipId>,
    /// Where a row's entries begin in `adds`; one more at the end.
    starts: Vec<usize>,
    adds: Vec<u128>,
    /// What a row that points at nothing gets: nulls, or nothing at all.
    none: Option<u128>,
}

impl PairsOf {
    /// From the read of the many side.
    pub(super) fn new(
        tables: Tables<'_>,
        (bridge, result): (&Bridge, &ReadResult),
        strides: &[u128],
        outer: Outer<'_>,
        options: &Options,
    ) -> Result<PairsOf, RunError> {
        let one = tables.schema.relationship(bridge.relationship).one;
        let rows = tables.rows(one);
        let columns = &result.present().codes;
        let strides: Vec<u128> = bridge.keys.iter().map(|k| strides[k.index()]).collect();
        let count = columns.first().map_or(0, |c| c.len());
        let mut adds: Vec<(usize, u128)> = (0..count)
            .map(|i| {
                let key = columns[1..].iter().zip(&strides).map(|(c, s)| u128::from(c[i]) * s).sum();
                (columns[0][i] as usize, key)
            })
            // Rows of the many side that point at nothing give nothing back.
            .filter(|(row, _)| *row < rows)
            .collect();
        let nulls = nulls_pass(tables, &bridge.pairs, outer, options)?.then(|| {
            let codes = bridge.pairs.keys[1..].iter().map(|k| null_code(tables, *k));
            codes.zip(&strides).map(|(code, s)| u128::from(code) * s).sum::<u128>()
        });
        if let Some(nulls) = nulls {
            let pointed = pointed_at(tables, bridge.relationship, one);
            adds.extend((0..rows).filter(|row| !pointed.contains(row)).map(|row| (row, nulls)));
        }
        adds.sort_unstable();
        let starts = (0..=rows).map(|row| adds.partition_point(|(r, _)| *r < row)).collect();
        Ok(PairsOf {
            path: bridge.path.clone(),
            starts,
            adds: adds.into_iter().map(|(_, key)| key).collect(),
            none: nulls,
        })
    }

    /// Puts each row into the groups that it stands in; none drops it.
    pub(super) fn spread(&self, tables: Tables<'_>, batch: &Batch<'_>, positions: &mut Vec<u32>, keys: &mut Vec<u128>) {
        batch.repeat();
        let (mut all, mut all_keys) = (Vec::with_capacity(positions.len()), Vec::with_capacity(keys.len()));
        let rows = positions.iter().map(|p| batch.row(*p)).collect();
        let targets = tables.follow_path(&self.path, rows);
        for ((position, key), target) in positions.iter().zip(keys.iter()).zip(targets) {
            let mut put = |add: &u128| {
                all.push(*position);
                all_keys.push(key + add);
            };
            match target {
                NO_ROW => self.none.iter().for_each(&mut put),
                row => {
                    let row = row as usize;
                    self.adds[self.starts[row]..self.starts[row + 1]].iter().for_each(&mut put);
                }
            }
        }
        (*positions, *keys) = (all, all_keys);
    }
}

/// Whether a row of nulls passes every filter on the many side, and those that come back to it.
fn nulls_pass(tables: Tables<'_>, pairs: &Read, outer: Outer<'_>, options: &Options) -> Result<bool, RunError> {
    for filter in &pairs.filters {
        if !null_passes(tables, filter, outer, options)? {
            return Ok(false);
        }
    }
    for bridge in &pairs.bridges {
        if !nulls_pass(tables, &bridge.pairs, outer, options)? {
            return Ok(false);
        }
    }
    Ok(true)
}

fn null_code(tables: Tables<'_>, key: Key) -> u64 {
    match key {
        Key::Column(column) => tables.column(column).null_code(),
        Key::Row(table) => tables.rows(table) as u64,
        Key::Value(_) => 0,
    }
}

/// The rows of the one side that some row points at.
pub(crate) fn pointed_at(tables: Tables<'_>, relationship: RelationshipId, one: TableId) -> HashSet<usize> {
    let many = tables.schema.relationship(relationship).many;
    let rows = tables.rows(one);
    tables
        .follow_path(&[relationship], (0..tables.rows(many) as u32).collect())
        .into_iter()
        .filter(|row| *row != NO_ROW && (*row as usize) < rows)
        .map(|row| row as usize)
        .collect()
}
