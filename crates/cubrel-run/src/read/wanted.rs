//! The groups of a read that cells ask for, where these are few of all that there are: rows of other groups are not looked at.

use super::super::frame::Frame;
use super::super::tables::Tables;
use super::keys::key_sizes;
use cubrel_plan::{KeyId, Read, ReadRef};

/// A read does without the others where at most one in so many codes of a key is asked for.
const FEW_OF: usize = 4;
/// Keys with more codes than so many for each row of the table are not looked at.
const CODES_PER_ROW: u64 = 2;

/// The codes of one key that cells ask for.
#[derive(Debug)]
pub struct WantedGroups {
    pub(super) key: KeyId,
    /// By code, whether it is asked for.
    pub(super) codes: Vec<bool>,
}

impl WantedGroups {
    /// What cells ask for of a read, where a key has more codes than `above` and few of them are asked for.
    pub fn of_cells(
        tables: Tables<'_>,
        read: &Read,
        of: &ReadRef,
        frame: &Frame,
        above: usize,
    ) -> Option<WantedGroups> {
        if !read.bridges.is_empty() || tables.rows(read.table) <= above {
            return None;
        }
        let sizes = key_sizes(tables, read);
        // Codes can be far more than there are values.
        let most = CODES_PER_ROW.saturating_mul(tables.rows(read.table) as u64);
        let large = (0..sizes.len()).filter(|key| (above as u64 + 1..=most).contains(&sizes[*key]));
        // The key with the most codes tells most rows apart.
        let key = large.max_by_key(|key| sizes[*key])?;
        let mut codes = vec![false; sizes[key] as usize];
        let mut count = 0;
        for code in frame.dims[of.dims[key]].codes.iter() {
            let wanted = codes.get_mut(*code as usize)?;
            count += usize::from(!*wanted);
            *wanted = true;
        }
        (count * FEW_OF <= codes.len()).then_some(WantedGroups { key: KeyId::new(key), codes })
    }

    /// Whether it is all that other cells ask for.
    pub fn covers(&self, of: &ReadRef, frame: &Frame) -> bool {
        frame.dims[of.dims[self.key.index()]].codes.iter().all(|code| self.codes.get(*code as usize) == Some(&true))
    }
}
