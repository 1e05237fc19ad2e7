//! What a read gives: groups, their aggregates, and what was gone through.

use super::super::combinations::packed;
use super::super::frame::{Frame, PassId, SharedCodes, gathered};
use super::super::tables::Tables;
use super::dependent::{Counting, codes_of_rows};
use super::group_keys::GroupKeys;
use super::keys::key_sizes;
use cubrel_plan::{DimId, Read};
use cubrel_store::order_of;
use cubrel_value::Vector;
use cubrel_value::threads::{map_each, map_parts};
use std::sync::{Arc, OnceLock};

/// What a read gives.
#[derive(Debug)]
pub struct ReadResult {
    pub(super) of_pass: Arc<PassGroups>,
    /// Made when it is asked for.
    pub(super) present: OnceLock<Present>,
    /// How many groups have rows, and stay.
    pub(super) left: usize,
    /// Whether a group has rows, and stays; one more for "no group".
    pub seen: Vec<bool>,
    /// The aggregates of each group, and after them the result over no rows.
    pub columns: Vec<Vector>,
    /// What the read went through.
    pub stats: ReadStats,
}

/// How groups are numbered, and the codes that they have: the same for all reads that are done in one pass.
#[derive(Debug)]
pub(super) struct PassGroups {
    id: PassId,
    /// How many codes each key has, null's included.
    sizes: Vec<u64>,
    /// By key, what a code adds to the number of the group.
    strides: Vec<u128>,
    /// By key, how many different ones of it count.
    counted: Vec<u64>,
    /// By key, whether it follows from another one: it adds nothing to the number.
    follows: Vec<bool>,
    /// Whether a key counts by the rows that it tells apart, or by combinations with others.
    by_other: bool,
    numbering: Numbering,
    /// The groups that have rows in some read, where their numbers do not tell their codes.
    told: Option<Present>,
    /// The same groups in the order of their codes; made when it is asked for.
    by_codes: OnceLock<ByCodes>,
}

/// Says which of some groups stay, by their aggregates; `None` for all.
pub type Stays<'s> = dyn Fn(&[Vector], &[u32]) -> Option<Vec<u32>> + 's;

/// The groups that have rows.
#[derive(Clone, Debug)]
pub struct Present {
    /// Their numbers.
    pub groups: Arc<Vec<u32>>,
    /// Key by key, their codes.
    pub codes: Vec<SharedCodes>,
}

/// Groups in the order of their codes.
#[derive(Debug)]
pub(super) struct ByCodes {
    keys: GroupKeys,
    groups: Vec<u32>,
}

impl ByCodes {
    fn of(present: &Present, sizes: &[u64]) -> ByCodes {
        let codes: Vec<&[u64]> = present.codes.iter().map(|codes| codes.as_slice()).collect();
        let own: Vec<u128> = (0..present.groups.len()).map(packed(&codes, sizes)).collect();
        let (keys, mut places) = GroupKeys::of_parts(&[&own]);
        let mut groups = vec![0; keys.len()];
        let places = places.pop().unwrap_or_default();
        places.into_iter().zip(present.groups.iter()).for_each(|(place, group)| groups[place as usize] = *group);
        ByCodes { keys, groups }
    }
}

/// What a read went through: exact, and the same in every run.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct ReadStats {
    /// Rows of the table.
    pub rows: u64,
    /// Rows looked at.
    pub rows_read: u64,
    /// Rows that passed.
    pub rows_passed: u64,
    /// Segments in which no row could pass.
    pub segments_skipped: u64,
    /// Bytes of packed codes that were unpacked.
    pub bytes_read: u64,
    /// Groups that have rows.
    pub groups: u64,
}

impl ReadStats {
    /// Adds what another part of the rows, or another read, went through; not the table's rows.
    pub fn add(&mut self, more: ReadStats) {
        self.rows_read += more.rows_read;
        self.rows_passed += more.rows_passed;
        self.segments_skipped += more.segments_skipped;
        self.bytes_read += more.bytes_read;
        self.groups += more.groups;
    }

    /// What a pass costs, whatever it is for; nothing of that is left.
    pub(super) fn take_cost(&mut self) -> ReadStats {
        let found =
            ReadStats { rows_passed: self.rows_passed, groups: self.groups, rows: self.rows, ..ReadStats::default() };
        ReadStats { rows_passed: 0, groups: 0, rows: 0, ..std::mem::replace(self, found) }
    }
}

#[derive(Clone, Debug)]
pub(super) enum Numbering {
    /// By place: the sum of code × stride.
    Dense,
    /// By the place of that sum among those of all groups.
    Ranked(Arc<GroupKeys>),
}

impl ReadResult {
    /// How many groups there is room for.
    pub fn groups(&self) -> usize {
        self.seen.len() - 1
    }

    /// For each cell its group, or the number of groups for none.
    pub fn find(&self, frame: &Frame, dims: &[DimId]) -> Arc<Vec<u32>> {
        if dims.is_empty() {
            return Arc::new(vec![0; frame.cells]);
        }
        // Cells that were made of these very groups.
        if let Some(known) = frame.groups_in(self.of_pass.id, dims) {
            return known.clone();
        }
        if let Some(present) = self.present.get()
            && dims.iter().zip(&present.codes).all(|(dim, codes)| Arc::ptr_eq(&frame.dims[*dim].codes, codes))
        {
            return present.groups.clone();
        }
        let cells: Vec<&[u64]> = dims.iter().map(|dim| frame.dims[*dim].codes.as_slice()).collect();
        Arc::new(self.of_pass.numbers_of(&cells, frame.cells, self.groups() as u32))
    }

    /// The pass that it was done in: reads of one pass have the same numbers for groups.
    pub fn pass(&self) -> PassId {
        self.of_pass.id
    }

    /// How many codes a key has, null's included.
    pub fn size(&self, key: usize) -> u64 {
        self.of_pass.sizes[key]
    }

    /// How many groups have rows, and stay.
    pub fn present_count(&self) -> usize {
        self.left
    }

    /// The groups that have rows.
    pub fn present(&self) -> &Present {
        self.present.get_or_init(|| match &self.of_pass.told {
            Some(told) if told.groups.len() == self.left => told.clone(),
            Some(told) => told.of_seen(&self.seen),
            None => {
                let groups = seen_groups(&self.seen);
                let codes = self.of_pass.counted_codes(&groups).into_iter().map(Arc::new).collect();
                Present { groups: Arc::new(groups), codes }
            }
        })
    }
}

impl Present {
    fn of_seen(&self, seen: &[bool]) -> Present {
        let places: Vec<u32> =
            (0..self.groups.len() as u32).filter(|at| seen[self.groups[*at as usize] as usize]).collect();
        Present {
            groups: Arc::new(places.iter().map(|place| self.groups[*place as usize]).collect()),
            codes: map_each(&self.codes, |codes| gathered(codes, &places)),
        }
    }
}

pub(super) fn seen_groups(seen: &[bool]) -> Vec<u32> {
    (0..seen.len() as u32).filter(|g| seen[*g as usize]).collect()
}

impl PassGroups {
    /// Of groups by keys that all count by their codes.
    pub(super) fn by_code(sizes: Vec<u64>, numbering: Numbering) -> PassGroups {
        PassGroups {
            id: PassId::fresh(),
            strides: strides(&sizes),
            counted: sizes.clone(),
            follows: vec![false; sizes.len()],
            by_other: false,
            sizes,
            numbering,
            told: None,
            by_codes: OnceLock::new(),
        }
    }

    /// Of the keys of a read, which count in these ways; `seen` says which groups have rows in some read of the pass.
    pub(super) fn of_read(
        tables: Tables<'_>,
        read: &Read,
        (counting, counted, strides): (&[Counting], Vec<u64>, Vec<u128>),
        numbering: Numbering,
        seen: impl FnOnce() -> Vec<bool>,
    ) -> PassGroups {
        let mut groups = PassGroups {
            id: PassId::fresh(),
            sizes: key_sizes(tables, read),
            strides,
            counted,
            follows: counting.iter().map(Counting::follows).collect(),
            by_other: counting.iter().any(|c| matches!(c, Counting::ByRow | Counting::Together(_))),
            numbering,
            told: None,
            by_codes: OnceLock::new(),
        };
        if groups.by_other || groups.follows.contains(&true) {
            groups.told = Some(groups.tell(tables, read, counting, seen_groups(&seen())));
        }
        groups
    }

    /// Groups with the codes that they have in all keys, those too that do not count by them.
    fn tell(&self, tables: Tables<'_>, read: &Read, counting: &[Counting], mut groups: Vec<u32>) -> Present {
        let mut codes = self.counted_codes(&groups);
        let by_row = |key: usize| matches!(counting[key], Counting::ByRow);
        let real = |key: usize, codes: &[u64]| codes_of_rows(tables, read.keys[key], codes);
        if let (Some(key), 1) = ((0..codes.len()).find(|key| by_row(*key)), self.counting_keys().count()) {
            // In the order of the values, as all others stand.
            let order = order_of(&real(key, &codes[key]));
            groups = order.iter().map(|place| groups[*place as usize]).collect();
            codes[key] = order.iter().map(|place| codes[key][*place as usize]).collect();
        }
        let of_key = |key: usize| match &counting[key] {
            Counting::ByCode => codes[key].clone(),
            Counting::ByRow => real(key, &codes[key]),
            Counting::Together(combined) => combined.first_codes(&codes[key]),
            Counting::Follows(dependence) => dependence.codes(tables, read.keys[key], &codes[dependence.on]),
        };
        let codes = map_parts(codes.len(), |key| Arc::new(of_key(key)));
        Present { groups: Arc::new(groups), codes }
    }

    /// For each cell, by its codes key by key, its group, or `none`.
    fn numbers_of(&self, cells: &[&[u64]], count: usize, none: u32) -> Vec<u32> {
        if let (true, Some(told)) = (self.by_other, &self.told) {
            return self.numbers_by_codes(told, cells, count, none);
        }
        let mut found = match &self.numbering {
            Numbering::Dense => {
                let mut groups = vec![0u32; count];
                for (key, stride) in self.counting_keys() {
                    groups.iter_mut().zip(cells[key]).for_each(|(group, code)| *group += *code as u32 * stride as u32);
                }
                groups
            }
            Numbering::Ranked(ranked) => {
                let mut keys = vec![0u128; count];
                for (key, stride) in self.counting_keys() {
                    keys.iter_mut().zip(cells[key]).for_each(|(key, code)| *key += u128::from(*code) * stride);
                }
                ranked.find(&keys, none)
            }
        };
        if let Some(told) = &self.told {
            self.drop_others(told, &mut found, none, cells);
        }
        found
    }

    /// The same where the codes of cells do not tell the numbers.
    fn numbers_by_codes(&self, told: &Present, cells: &[&[u64]], count: usize, none: u32) -> Vec<u32> {
        let by_codes = self.by_codes.get_or_init(|| ByCodes::of(told, &self.sizes));
        let wanted: Vec<u128> = (0..count).map(packed(cells, &self.sizes)).collect();
        let group = |place: u32| by_codes.groups.get(place as usize).copied().unwrap_or(none);
        by_codes.keys.find(&wanted, u32::MAX).into_iter().map(group).collect()
    }

    /// Takes from cells the groups that have other codes in the keys which follow from others.
    fn drop_others(&self, told: &Present, found: &mut [u32], none: u32, cells: &[&[u64]]) {
        let mut places = vec![u32::MAX; none as usize + 1];
        told.groups.iter().zip(0..).for_each(|(group, place)| places[*group as usize] = place);
        for key in (0..self.sizes.len()).filter(|key| self.follows[*key]) {
            let own = &told.codes[key];
            for (group, code) in found.iter_mut().zip(cells[key]) {
                // A group without rows has no codes.
                if own.get(places[*group as usize] as usize) != Some(code) {
                    *group = none;
                }
            }
        }
    }

    /// The keys that groups are numbered by, and what their codes add to the number.
    fn counting_keys(&self) -> impl Iterator<Item = (usize, u128)> {
        (0..self.sizes.len()).filter(|key| !self.follows[*key]).map(|key| (key, self.strides[key]))
    }

    /// The codes that groups have in the keys that they are numbered by.
    fn counted_codes(&self, groups: &[u32]) -> Vec<Vec<u64>> {
        let one_key = self.counting_keys().count() == 1;
        let mut columns = vec![Vec::new(); self.sizes.len()];
        for (key, stride) in self.counting_keys() {
            let size = self.counted[key];
            columns[key] = match &self.numbering {
                Numbering::Dense if one_key => groups.iter().map(|g| u64::from(*g)).collect(),
                Numbering::Dense => groups.iter().map(|g| u64::from(*g) / stride as u64 % size).collect(),
                Numbering::Ranked(ranked) => ranked.codes(groups, stride, size),
            };
        }
        columns
    }
}

pub(super) fn strides(sizes: &[u64]) -> Vec<u128> {
    let mut strides = vec![1u128; sizes.len()];
    for i in (0..sizes.len().saturating_sub(1)).rev() {
        strides[i] = strides[i + 1].saturating_mul(u128::from(sizes[i + 1]));
    }
    strides
}
