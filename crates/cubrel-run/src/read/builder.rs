//! What decides which rows of a read pass, and in which groups they are, put together filter by filter and key by key: arrays over the
//! codes of anchors as far as possible.

use std::sync::Arc;

use super::super::compiled::{CompiledRow, Outer, RowCompiler};
use super::super::frame::Members;
use super::super::tables::{Anchor, SMALL_DOMAIN, Tables};
use super::super::{Options, RunError};
use super::anchors::AnchorPlan;
use super::batch::FEW;
use super::combined::Combined;
use super::filters::{far_rows, rows_of_lines};
use super::implied::implied;
use super::keys::UnindexedKey;
use super::ranges::{CodeRanges, ranges_of, without_lets};
use super::wanted::WantedGroups;
use cubrel_formula::schema::{RelationshipId, TableId};
use cubrel_plan::{Filter, FilterTest, Key, Predicate, Read, RowExpr, RowLeaf};
use cubrel_value::Type;

/// A part of a condition is looked at first where at most so many of 100 codes pass.
const MOST_PASSING: usize = 75;

/// To keep one group for each that there could be costs about what it takes to look this many rows' groups up.
const GROUPS_PER_LOOKUP: f64 = 2.0;

fn looks_at_many_texts(tables: Tables<'_>, filter: &Filter) -> bool {
    let FilterTest::Predicate(predicate) = &filter.test else { return false };
    predicate.test.leaves.iter().any(|leaf| match leaf {
        RowLeaf::Column { column, .. } => {
            let data = tables.column(*column);
            data.ty() == Type::Text && data.domain() > SMALL_DOMAIN
        }
        RowLeaf::Parameter(_) | RowLeaf::Member { .. } => false,
    })
}

/// Puts together what decides which rows of a read pass, and where they belong.
pub(super) struct ReadBuilder<'a, 'o> {
    pub(super) tables: Tables<'a>,
    table: TableId,
    outer: Outer<'o>,
    options: &'o Options,
    pub(super) anchors: Vec<AnchorPlan>,
    pub(super) loose: Vec<UnindexedKey>,
    pub(super) row_filters: Vec<CompiledRow>,
}

impl<'a, 'o> ReadBuilder<'a, 'o> {
    pub(super) fn new(
        tables: Tables<'a>,
        table: TableId,
        outer: Outer<'o>,
        options: &'o Options,
    ) -> ReadBuilder<'a, 'o> {
        let (anchors, loose, row_filters) = (Vec::new(), Vec::new(), Vec::new());
        ReadBuilder { tables, table, outer, options, anchors, loose, row_filters }
    }

    /// Filters of a read. Those on texts that hardly repeat come last: what they cost depends on how many rows are left.
    pub(super) fn filters(&mut self, filters: &[Filter], read: &Read) -> Result<(), RunError> {
        let (texts, others): (Vec<&Filter>, Vec<&Filter>) =
            filters.iter().partition(|f| looks_at_many_texts(self.tables, f));
        others.into_iter().chain(texts).try_for_each(|filter| self.filter(filter, read))
    }

    /// Whether so few rows pass that most groups will have none, taken that filters know nothing of each other.
    pub(super) fn is_thin(&self, groups: u128) -> bool {
        // One group is there whether rows pass or not.
        let most = self.options.thin_above.max(1);
        groups > most as u128
            && (self.options.thin_above == 0 || self.passing_rows() as f64 * GROUPS_PER_LOOKUP < groups as f64)
    }

    pub(super) fn anchor(&mut self, anchor: Anchor) -> &mut AnchorPlan {
        let place = self.anchors.iter().position(|a| a.anchor == anchor).unwrap_or_else(|| {
            self.anchors.push(AnchorPlan::new(anchor));
            self.anchors.len() - 1
        });
        &mut self.anchors[place]
    }

    pub(super) fn path(&self, read: &Read, to: TableId) -> Vec<RelationshipId> {
        let path = self.tables.schema.reach(self.table, &read.detours).remove(&to);
        debug_assert!(path.is_some(), "a read has keys and filters only where it reaches");
        path.unwrap_or_default()
    }

    pub(super) fn key(&mut self, key: Key, stride: u128, read: &Read) {
        let (table, column) = match key {
            Key::Column(column) => (column.table, Some(column)),
            Key::Row(table) => (table, None),
            Key::Value(_) => return,
        };
        let path = self.path(read, table);
        let anchor = match (column, path.first()) {
            (Some(column), _) => self.tables.anchor(column, &path),
            (None, Some(relationship)) => self.tables.anchor_of_path(*relationship),
            (None, None) => Anchor::Row,
        };
        let small = self.tables.is_small(self.table, anchor);
        let codes = self.tables.codes_of(self.table, anchor);
        if anchor == Anchor::Row || small && path.is_empty() {
            self.anchor(anchor).add_own(codes, stride);
            return;
        }
        if !small {
            self.loose.push(UnindexedKey { key, stride, path });
            return;
        }
        let (codes, ends) = match column {
            Some(column) => (self.tables.codes_by_code(column, &path), self.tables.column(column).domain() + 1),
            None => (self.tables.far_rows_by_code(table, &path), self.tables.rows(table) as u64 + 1),
        };
        self.anchor(anchor).add(codes, ends, stride);
    }

    /// Keys that count together, by their combination.
    pub(super) fn combined(&mut self, combined: &Combined, stride: u128) {
        let codes = Arc::new(combined.by_code(self.tables));
        self.anchor(self.tables.anchor_of_path(combined.relationship)).add(codes, combined.count(), stride);
    }

    /// A filter becomes a truth value for each code of one anchor where that is possible.
    pub(super) fn filter(&mut self, filter: &Filter, read: &Read) -> Result<(), RunError> {
        let predicate = match &filter.test {
            FilterTest::Predicate(predicate) | FilterTest::Projected(predicate, _) => predicate,
            FilterTest::Lines { columns, kept, slot } => {
                let held = self.outer.iter().find(|(s, ..)| s == slot).and_then(|(_, held, _)| held.members());
                if let Some(Members::Lines(lines)) = held {
                    let passes = rows_of_lines(self.tables, read, columns, kept, lines);
                    self.row_filters.push(CompiledRow::of_rows(passes));
                }
                return Ok(());
            }
        };
        let path = self.path(read, predicate.table);
        if let FilterTest::Predicate(predicate) = &filter.test
            && path.is_empty()
        {
            return self.own_filter(predicate);
        }
        let far = || far_rows(self.tables, filter, self.outer, self.options);
        let Some(first) = path.first() else {
            // What a projection leaves of a filter of the table itself.
            self.row_filters.push(CompiledRow::of_rows(far()?.0));
            return Ok(());
        };
        let anchor = self.tables.anchor_of_path(*first);
        let pass = self.tables.far_filter(&filter.test, &path, || match self.far_truths(filter, &path, anchor) {
            Some(truths) => Ok(truths),
            None => {
                let (passes, null_passes) = far()?;
                Ok(self.tables.along(&path, &passes, null_passes))
            }
        })?;
        self.anchor(anchor).narrow(pass);
        Ok(())
    }

    /// What a condition on one far column with few values lets through, by code of the anchor that leads there.
    fn far_truths(&self, filter: &Filter, path: &[RelationshipId], anchor: Anchor) -> Option<Vec<bool>> {
        let FilterTest::Predicate(predicate) = &filter.test else { return None };
        if !self.options.hoist {
            return None;
        }
        let from_here = |leaf: &RowLeaf| match leaf {
            RowLeaf::Column { column, path: on } => {
                Some(RowLeaf::Column { column: *column, path: [path, on.as_slice()].concat() })
            }
            RowLeaf::Parameter(slot) => Some(RowLeaf::Parameter(*slot)),
            RowLeaf::Member { .. } => None,
        };
        let leaves = predicate.test.leaves.iter().map(from_here).collect::<Option<Vec<RowLeaf>>>()?;
        let row = RowExpr { scalar: predicate.test.scalar.clone(), leaves };
        let codes = usize::try_from(self.tables.codes_of(self.table, anchor)).ok()?;
        RowCompiler::new(self.tables, self.table, self.outer, true).far_truths(&row, codes)
    }

    /// A condition on one column with many codes as ranges of them.
    fn ranges(&self, predicate: &Predicate) -> Option<(u32, CodeRanges)> {
        if !self.options.hoist {
            return None;
        }
        let row = RowCompiler::new(self.tables, self.table, self.outer, false).compile(&predicate.test);
        let (column, _) = row.only_column()?;
        if column.domain() as usize <= self.options.many_codes { None } else { ranges_of(&row) }
    }

    pub(super) fn own_filter(&mut self, predicate: &Predicate) -> Result<(), RunError> {
        if let Some((index, ranges)) = self.ranges(predicate) {
            self.anchor(Anchor::Column(index)).narrow_to(ranges);
            return Ok(());
        }
        let compiler = RowCompiler::new(self.tables, self.table, self.outer, self.options.hoist);
        let compiled = compiler.for_rows(self.passing_rows()).compile(&predicate.test);
        if let Some((anchor, values)) = compiled.as_mapped() {
            self.anchor(anchor).narrow(values.truths());
        } else {
            self.narrow_by_parts(predicate);
            self.row_filters.push(compiled);
        }
        Ok(())
    }

    /// How many rows pass what is known so far, taken that filters know nothing of each other.
    pub(super) fn passing_rows(&self) -> u64 {
        let share: f64 = self.anchors.iter().map(|plan| plan.share(self.tables, self.table)).product();
        (self.tables.rows(self.table) as f64 * share) as u64
    }

    /// What a condition on several anchors says of each of them by itself, so that fewer rows are looked at one by one.
    fn narrow_by_parts(&mut self, predicate: &Predicate) {
        let row = &predicate.test;
        if !self.options.hoist {
            return;
        }
        let Some(condition) = without_lets(&row.scalar, &mut Vec::new()) else { return };
        let anchor_of = |leaf: &RowLeaf| match leaf {
            RowLeaf::Column { column, path } => Some(self.tables.anchor(*column, path)),
            RowLeaf::Parameter(_) | RowLeaf::Member { .. } => None,
        };
        let anchors: Vec<Option<Anchor>> = row.leaves.iter().map(anchor_of).collect();
        let mut tried: Vec<Anchor> = Vec::new();
        for anchor in anchors.iter().flatten() {
            if tried.contains(anchor) {
                continue;
            }
            tried.push(*anchor);
            let counts = |leaf: usize| match &row.leaves[leaf] {
                RowLeaf::Parameter(_) => None,
                _ => Some(anchors[leaf] == Some(*anchor)),
            };
            let Some(scalar) = implied(&condition, &counts) else { continue };
            let compiler = RowCompiler::new(self.tables, self.table, self.outer, true);
            let compiled = compiler.compile(&RowExpr { scalar, leaves: row.leaves.clone() });
            let Some((anchor, values)) = compiled.as_mapped() else { continue };
            let pass = values.truths();
            let passing = pass.iter().filter(|pass| **pass).count();
            if passing * 100 < pass.len() * MOST_PASSING {
                self.anchor(anchor).narrow(pass);
            }
        }
    }

    /// Brings what anchors decide into the form that rows are looked up in. What lets the fewest through comes first: nothing else is
    /// looked at where it drops all.
    pub(super) fn seal_anchors(&mut self, dense: bool, many_codes: usize) {
        let (tables, table) = (self.tables, self.table);
        self.anchors.iter_mut().for_each(AnchorPlan::in_ranges);
        self.anchors.sort_by_cached_key(|plan| plan.rank(tables, table));
        let mut of_few = false;
        for plan in &mut self.anchors {
            let leaves_few = plan.filters() && plan.share(tables, table) * (FEW as f64) < 1.0;
            plan.seal(dense, many_codes, of_few);
            of_few |= leaves_few;
        }
    }

    /// Drops rows of all groups that are not wanted, where that is told by what they look up.
    pub(super) fn wanted(&mut self, wanted: &WantedGroups, read: &Read) {
        let tables = self.tables;
        let (table, column) = match read.keys[wanted.key] {
            Key::Column(column) => (column.table, Some(column)),
            Key::Row(table) => (table, None),
            Key::Value(_) => return,
        };
        let path = self.path(read, table);
        let anchor = match (path.first(), column) {
            (Some(relationship), _) => tables.anchor_of_path(*relationship),
            (None, Some(column)) => return self.anchor(Anchor::Column(column.index)).narrow(wanted.codes.clone()),
            (None, None) => return,
        };
        if tables.is_small(read.table, anchor) {
            let codes = match column {
                Some(column) => tables.codes_by_code(column, &path),
                None => tables.far_rows_by_code(table, &path),
            };
            self.anchor(anchor).narrow(codes.map(|code| wanted.codes[code as usize]));
        }
    }
}
