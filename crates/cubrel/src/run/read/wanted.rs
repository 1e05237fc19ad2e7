//! The groups of a read that cells ask for, where these are few of all that there are: rows of other groups are not looked at.

use super::super::frame::Frame;
use super::super::tables::{Anchor, Tables};
use super::keys::key_sizes;
use super::prepare::Builder;
use crate::plan::{Key, KeyId, Read, ReadRef};

/// A read does without the others where at most one in so many codes of a key is asked for.
const FEW_OF: usize = 4;

/// The codes of one key that cells ask for.
#[derive(Debug)]
pub struct Wanted {
    key: KeyId,
    codes: Vec<bool>,
}

impl Wanted {
    /// What cells ask for of a read, where a key has more codes than `above` and few of them are asked for.
    pub fn of_cells(tables: Tables<'_>, read: &Read, of: &ReadRef, frame: &Frame, above: usize) -> Option<Wanted> {
        if !read.bridges.is_empty() || tables.rows(read.table) <= above {
            return None;
        }
        let sizes = key_sizes(tables, read);
        let large = (0..sizes.len()).filter(|key| sizes[*key] > above as u64);
        // The key with the most codes tells most rows apart.
        let key = large.max_by_key(|key| sizes[*key])?;
        let mut codes = vec![false; sizes[key] as usize];
        let mut count = 0;
        for code in frame.dims[of.dims[key]].codes.iter() {
            let wanted = codes.get_mut(*code as usize)?;
            count += usize::from(!*wanted);
            *wanted = true;
        }
        (count * FEW_OF <= codes.len()).then_some(Wanted { key: KeyId::new(key), codes })
    }

    /// Whether it is all that other cells ask for.
    pub fn covers(&self, of: &ReadRef, frame: &Frame) -> bool {
        frame.dims[of.dims[self.key.index()]].codes.iter().all(|code| self.codes.get(*code as usize) == Some(&true))
    }

    /// Drops rows of all other groups, where that is told by what they look up.
    pub(super) fn narrow(&self, builder: &mut Builder<'_, '_>, read: &Read) {
        let tables = builder.tables;
        let (table, column) = match read.keys[self.key] {
            Key::Column(column) => (column.table, Some(column)),
            Key::Row(table) => (table, None),
            Key::Value(_) => return,
        };
        let path = builder.path(read, table);
        let anchor = match (path.first(), column) {
            (Some(relationship), _) => tables.anchor_of_path(*relationship),
            (None, Some(column)) => return builder.anchor(Anchor::Column(column.index)).narrow(&self.codes),
            (None, None) => return,
        };
        if tables.is_small(read.table, anchor) {
            let of_rows: Vec<bool> = match column {
                Some(column) => tables.column(column).codes().iter().map(|code| self.codes[*code as usize]).collect(),
                None => self.codes[..tables.rows(table)].to_vec(),
            };
            // Null comes after all others, and rows that point at nothing have it.
            let none = self.codes.last().copied().unwrap_or_default();
            builder.anchor(anchor).narrow(&tables.along(&path, &of_rows, none));
        }
    }
}
