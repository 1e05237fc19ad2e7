//! Reads of one table by the same keys that differ in their filters and aggregates: a figure, and the same figure of some of its rows.

use std::collections::HashMap;

use super::super::ids::ReadId;
use super::super::scope::Key;
use super::super::tree::Read;
use cubrel_formula::schema::{Detours, TableId};

/// One pass does no more reads than this: each of them has figures for all groups.
const MOST: usize = 16;

/// Tells each read which others one pass could do with it. Whether it does is decided when it is known what the data is like.
pub(super) fn apply(reads: &mut [Read]) {
    let mut alike: HashMap<(TableId, Vec<Key>, Detours), Vec<ReadId>> = HashMap::new();
    for (place, read) in reads.iter().enumerate() {
        if read.bridges.is_empty() && read.outer.is_empty() {
            let key = (read.table, read.keys.clone(), read.detours.clone());
            alike.entry(key).or_default().push(ReadId::new(place));
        }
    }
    for together in alike.values().flat_map(|list| list.chunks(MOST)).filter(|list| list.len() > 1) {
        together.iter().for_each(|read| reads[read.index()].together = together.to_vec());
    }
}
