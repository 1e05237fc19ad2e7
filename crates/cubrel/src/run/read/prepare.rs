//! A read made ready: filters and keys as arrays over codes, aggregates with the source of their values.

use super::keys::{DROPPED, key_sizes};
use crate::plan::KeyId;
use crate::run::read::ReadResult;
use crate::run::read::keys::UnindexedKey;
use std::collections::BTreeSet;

use super::super::accumulate::Spec;
use super::super::compiled::{CompiledRow, Outer, RowCompiler, pair_bits};
use super::super::frame::Members;
use super::super::tables::{Anchor, SMALL_DOMAIN, Tables};
use super::super::{Options, RunError, Runs};
use super::anchors::AnchorPlan;
use super::bridges::PairsOf;
use super::dependent::{Counting, counting};
use super::filters::{far_rows, rows_of_lines};
use super::implied::implied;
use super::ranges::{CodeRanges, ranges_of, without_lets};
use super::result::strides;
use super::together::Narrowed;
use super::wanted::Wanted;
use crate::formula::scalar::ScalarKind;
use crate::formula::schema::{ColumnId, RelationshipId, TableId};
use crate::formula::typed::AggregateKind;
use crate::plan::{Filter, FilterTest, Key, Predicate, Read, ReadAggregate, RowExpr, RowLeaf};
use crate::store::NO_ROW;
use crate::value::Type;

/// Groups are numbered by place in an array up to this many,
const DENSE_GROUPS: u128 = 1 << 20;
/// or so many for each row; beyond it, by a hash table.
const DENSE_PER_ROW: u128 = 2;
pub(super) struct Prepared<'a> {
    pub(super) tables: Tables<'a>,
    pub(super) table: TableId,
    pub(super) anchors: Vec<AnchorPlan>,
    pub(super) loose: Vec<UnindexedKey>,
    /// What comes back from tables that point at this one.
    pub(super) bridges: Vec<PairsOf>,
    /// Filters that need several anchors, row by row.
    pub(super) row_filters: Vec<CompiledRow>,
    pub(super) aggregates: Vec<(Spec, Feed)>,
    pub(super) grouping: Grouping,
    /// How many groups there is room for from the beginning.
    pub(super) groups: usize,
    /// By key, what a code adds to the number of the group.
    pub(super) strides: Vec<u128>,
    /// By key, how it counts, and how many different ones of it count.
    pub(super) counting: Vec<Counting>,
    pub(super) sizes: Vec<u64>,
    pub(super) needs: Needs,
    /// When rows are taken together.
    pub(super) runs: Runs,
    /// What other reads, done in the same pass, let through of the rows that pass; their aggregates come after the read's own.
    pub(super) narrowed: Vec<Narrowed>,
    /// How many aggregates are the read's own.
    pub(super) own: usize,
    /// Whether the read itself is wanted.
    pub(super) wanted: bool,
}

/// How the groups of rows are told apart.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Grouping {
    /// By their places among all that there could be.
    Dense,
    /// By their places, of which so few are taken that only those are kept.
    Thin,
    /// By hash of their keys.
    Hashed,
}

/// A part of a condition is looked at first where at most so many of 100 codes pass.
const MOST_PASSING: usize = 75;

/// To keep one group for each that there could be costs about what it takes to look this many rows' groups up.
const GROUPS_PER_LOOKUP: f64 = 2.0;

/// The table's columns that a read needs, and for what.
pub(super) struct Needs {
    /// To tell which rows pass and in which groups they are.
    pub(super) base: BTreeSet<u32>,
    /// Whether nothing else is needed for that.
    pub(super) base_complete: bool,
    /// For each aggregate its columns, and whether nothing else is needed for it.
    pub(super) feeds: Vec<(BTreeSet<u32>, bool)>,
    /// To tell which rows other reads of the pass let through.
    pub(super) narrowed: BTreeSet<u32>,
}

impl Needs {
    fn new(builder: &Builder<'_, '_>, aggregates: &[(Spec, Feed)], alone: bool) -> Needs {
        let (base, base_complete) = base_columns(builder, alone);
        let feeds = aggregates.iter().map(|(_, feed)| feed_columns(feed)).collect();
        Needs { base, base_complete, feeds, narrowed: BTreeSet::new() }
    }

    /// All of them.
    pub(super) fn all(&self) -> BTreeSet<u32> {
        self.feeds.iter().flat_map(|(columns, _)| columns).chain(&self.base).chain(&self.narrowed).copied().collect()
    }
}

/// Where an aggregate's input comes from.
pub(super) enum Feed {
    Rows,
    /// Exact numbers without nulls, by the codes of an anchor; with the bits of the largest.
    Ints(Vec<CompiledRow>, u32),
    /// The sum, difference or product of two such numbers.
    Pair(Vec<CompiledRow>, u32),
    Codes {
        anchor: Option<Anchor>,
        map: Vec<u64>,
        column: ColumnId,
    },
    /// Exact numbers by the codes of an anchor, some of them null.
    SomeInts(Vec<CompiledRow>),
    /// Doubles by the codes of an anchor.
    Floats(Vec<CompiledRow>),
    Values(Vec<CompiledRow>),
}

/// Makes a read ready, for all groups or for those that are wanted; `pairs` are the results of the reads whose rows send keys and filters back to it.
pub(super) fn prepare<'a>(
    tables: Tables<'a>,
    read: &Read,
    pairs: &[ReadResult],
    outer: Outer<'_>,
    wanted: Option<&Wanted>,
    options: &Options,
) -> Result<Prepared<'a>, RunError> {
    let table = read.table;
    let mut sizes = key_sizes(tables, read);
    let counting = counting(tables, read, &sizes);
    for ((size, key), counts) in sizes.iter_mut().zip(&read.keys).zip(&counting) {
        *size = match (counts, key) {
            (Counting::Follows(_), _) => 1,
            (Counting::ByRow, Key::Column(column)) => tables.rows(column.table) as u64 + 1,
            _ => *size,
        };
    }
    let product = sizes.iter().try_fold(1u128, |p, s| p.checked_mul(u128::from(*s)));
    let Some(product) = product else {
        return Err(RunError::Limit(
            "the group-by columns together have more than 2^128 combinations: group by fewer columns".into(),
        ));
    };
    let rows = tables.rows(table) as u128;
    let room = DENSE_GROUPS.min(4 * rows + 4096).max(DENSE_PER_ROW * rows).min(u128::from(DROPPED));
    let strides = strides(&sizes);
    let few_groups = product <= room;
    let mut builder = Builder::new(tables, table, outer, options, few_groups);
    builder.filters(&read.filters, read)?;
    wanted.inspect(|wanted| wanted.narrow(&mut builder, read));
    let comes_back = |i: usize| read.bridges.iter().any(|b| b.keys.contains(&KeyId::new(i))) || counting[i].follows();
    for (i, (key, stride)) in read.keys.iter().zip(&strides).enumerate() {
        if !comes_back(i) {
            let key = match (&counting[i], *key) {
                (Counting::ByRow, Key::Column(column)) => Key::Row(column.table),
                (_, key) => key,
            };
            builder.key(key, *stride, read);
        }
    }
    let bridges = read.bridges.iter().zip(pairs).map(|of| PairsOf::new(tables, of, &strides, outer, options));
    let bridges = bridges.collect::<Result<Vec<_>, _>>()?;
    let dense = few_groups && builder.loose.is_empty() && bridges.is_empty() && !options.hash_groups;
    for anchor in &mut builder.anchors {
        anchor.seal(dense, options.many_codes);
    }
    // What lets the fewest through comes first: nothing else is looked at where it drops all.
    builder.anchors.sort_by_cached_key(|plan| plan.rank(tables, table));
    let grouping = match dense {
        true if builder.is_thin(product) => Grouping::Thin,
        true => Grouping::Dense,
        false => Grouping::Hashed,
    };
    let compiler = RowCompiler::new(tables, table, outer, options.hoist);
    let aggregates: Vec<(Spec, Feed)> =
        read.aggregates.iter().map(|a| feed(tables, table, a, &compiler, options)).collect();
    let needs = Needs::new(&builder, &aggregates, bridges.is_empty());
    Ok(Prepared {
        tables,
        table,
        anchors: builder.anchors,
        loose: builder.loose,
        bridges,
        row_filters: builder.row_filters,
        aggregates,
        grouping,
        groups: if grouping == Grouping::Dense { product as usize } else { 0 },
        strides,
        counting,
        sizes,
        needs,
        runs: options.runs,
        narrowed: Vec::new(),
        own: read.aggregates.len(),
        wanted: true,
    })
}

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

pub(super) struct Builder<'a, 'o> {
    pub(super) tables: Tables<'a>,
    table: TableId,
    outer: Outer<'o>,
    options: &'o Options,
    /// Whether 32 bits number all groups.
    few_groups: bool,
    pub(super) anchors: Vec<AnchorPlan>,
    loose: Vec<UnindexedKey>,
    pub(super) row_filters: Vec<CompiledRow>,
}

impl<'a, 'o> Builder<'a, 'o> {
    pub(super) fn new(
        tables: Tables<'a>,
        table: TableId,
        outer: Outer<'o>,
        options: &'o Options,
        few_groups: bool,
    ) -> Builder<'a, 'o> {
        let (anchors, loose, row_filters) = (Vec::new(), Vec::new(), Vec::new());
        Builder { tables, table, outer, options, few_groups, anchors, loose, row_filters }
    }

    /// Filters of a read. Those on texts that hardly repeat come last: what they cost depends on how many rows are left.
    pub(super) fn filters(&mut self, filters: &[Filter], read: &Read) -> Result<(), RunError> {
        let (texts, others): (Vec<&Filter>, Vec<&Filter>) =
            filters.iter().partition(|f| looks_at_many_texts(self.tables, f));
        others.into_iter().chain(texts).try_for_each(|filter| self.filter(filter, read))
    }

    /// Whether so few rows pass that most groups will have none, taken that filters know nothing of each other.
    fn is_thin(&self, groups: u128) -> bool {
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
        if anchor == Anchor::Row || small && path.is_empty() {
            self.anchor(anchor).own += stride;
            return;
        }
        if !small {
            self.loose.push(UnindexedKey { key, stride, path });
            return;
        }
        let few_groups = self.few_groups;
        if let (Some(column), true, false) = (column, few_groups, path.is_empty()) {
            let codes = self.tables.narrow_codes_by_code(column, &path);
            self.anchor(anchor).add_few(&codes, stride as u32);
            return;
        }
        if (column, few_groups) == (None, true) {
            let none = self.tables.rows(table) as u32;
            let mut rows = self.tables.rows_by_code(&path);
            rows.iter_mut().filter(|row| **row == NO_ROW).for_each(|row| *row = none);
            self.anchor(anchor).add_few(&rows, stride as u32);
            return;
        }
        let codes: Vec<u64> = match column {
            Some(column) => self.tables.codes_by_code(column, &path),
            None => {
                let none = self.tables.rows(table) as u64;
                self.tables
                    .rows_by_code(&path)
                    .into_iter()
                    .map(|r| if r == NO_ROW { none } else { u64::from(r) })
                    .collect()
            }
        };
        self.anchor(anchor).add(&codes, stride, few_groups);
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
        let pass = self.tables.far_filter(&filter.test, &path, || {
            let (passes, null_passes) = far()?;
            Ok(self.tables.along(&path, &passes, null_passes))
        })?;
        self.anchor(anchor).narrow(&pass);
        Ok(())
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
            let pass = values.truths();
            self.anchor(anchor).narrow(&pass);
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
                self.anchor(anchor).narrow(&pass);
            }
        }
    }
}

pub(super) fn feed(
    tables: Tables<'_>,
    table: TableId,
    a: &ReadAggregate,
    compiler: &RowCompiler<'_>,
    options: &Options,
) -> (Spec, Feed) {
    use AggregateKind::*;
    let mut spec = Spec {
        kind: a.kind,
        input: a.args.first().map_or(a.ty, |e| e.scalar.ty),
        inputs: a.args.iter().map(|e| e.scalar.ty).collect(),
        order: a.order.iter().map(|(e, d)| (e.scalar.ty, *d)).collect(),
        constant: a.constant.clone(),
        ty: a.ty,
        coded: None,
        nullable: true,
    };
    if a.kind == Rows {
        return (spec, Feed::Rows);
    }
    if options.hoist
        && matches!(a.kind, Min | Max | CountDistinct | Single | Count | Median | PercentileCont | PercentileDisc)
        && let [only] = a.args.as_slice()
        && let Some((column, path)) = bare_column(only)
    {
        let anchor = tables.anchor(column, path);
        if path.is_empty() {
            spec.coded = Some(tables.column(column).clone());
            return (spec, Feed::Codes { anchor: None, map: Vec::new(), column });
        }
        if tables.is_small(table, anchor) {
            spec.coded = Some(tables.column(column).clone());
            return (spec, Feed::Codes { anchor: Some(anchor), map: tables.codes_by_code(column, path), column });
        }
    }
    let rows: Vec<CompiledRow> =
        a.args.iter().chain(a.order.iter().map(|(e, _)| e)).map(|e| compiler.compile(e)).collect();
    spec.nullable = rows.iter().any(CompiledRow::nullable);
    if options.hoist
        && matches!(a.kind, Sum | Avg)
        && spec.input.is_exact()
        && let Some(bits) = rows.first().and_then(|row| Some(row.as_ints()?.1.bits()))
    {
        return (spec, Feed::Ints(rows, bits));
    }
    if options.hoist
        && matches!(a.kind, Sum | Avg)
        && let Some((op, [a, b])) = rows.first().and_then(CompiledRow::as_pair)
        && let Some(bits) = pair_bits(op, [a.1, b.1])
    {
        return (spec, Feed::Pair(rows, bits));
    }
    if options.hoist
        && matches!(a.kind, Sum | Avg)
        && spec.input.is_exact()
        && rows.first().is_some_and(|row| row.as_some_ints().is_some())
    {
        return (spec, Feed::SomeInts(rows));
    }
    if options.hoist
        && matches!(a.kind, Sum | Avg)
        && spec.input == Type::Float
        && let Some((.., nullable)) = rows.first().and_then(CompiledRow::as_floats)
    {
        spec.nullable = nullable;
        return (spec, Feed::Floats(rows));
    }
    (spec, Feed::Values(rows))
}

/// A row expression that is just a column.
pub(super) fn bare_column(row: &RowExpr) -> Option<(ColumnId, &[RelationshipId])> {
    match (&row.scalar.kind, row.leaves.as_slice()) {
        (ScalarKind::Leaf(0), [RowLeaf::Column { column, path }]) => Some((*column, path)),
        _ => None,
    }
}

/// The table's columns that decide which rows pass and where they belong, and whether they alone do.
pub(super) fn base_columns(builder: &Builder<'_, '_>, alike: bool) -> (BTreeSet<u32>, bool) {
    let mut columns = BTreeSet::new();
    let mut complete = alike && builder.loose.is_empty();
    for plan in &builder.anchors {
        complete &= add_anchor(&mut columns, plan.anchor);
    }
    for filter in &builder.row_filters {
        complete &= add_row(&mut columns, filter);
    }
    for loose in &builder.loose {
        if let Key::Column(column) = loose.key {
            add_anchor(&mut columns, builder.tables.anchor(column, &loose.path));
        }
    }
    (columns, complete)
}

/// Adds the column that an anchor is; false where it is none.
fn add_anchor(columns: &mut BTreeSet<u32>, anchor: Anchor) -> bool {
    match anchor {
        Anchor::Column(index) => {
            columns.insert(index);
            true
        }
        Anchor::Reference(_) | Anchor::Row => false,
    }
}

/// Adds the columns that a row expression takes; false where they are not all that it takes.
fn add_row(columns: &mut BTreeSet<u32>, row: &CompiledRow) -> bool {
    columns.extend(row.own_columns());
    let anchors = row.anchors().into_iter().map(|anchor| add_anchor(columns, anchor));
    anchors.fold(true, |all, complete| all & complete) && !row.needs_rows()
}

pub(super) fn feed_columns(feed: &Feed) -> (BTreeSet<u32>, bool) {
    let mut columns = BTreeSet::new();
    let complete = match feed {
        Feed::Rows => true,
        Feed::Codes { anchor: Some(anchor), .. } => add_anchor(&mut columns, *anchor),
        Feed::Codes { column, .. } => add_anchor(&mut columns, Anchor::Column(column.index)),
        Feed::Ints(rows, _) | Feed::Pair(rows, _) | Feed::SomeInts(rows) | Feed::Floats(rows) | Feed::Values(rows) => {
            rows.iter().fold(true, |complete, row| add_row(&mut columns, row) & complete)
        }
    };
    (columns, complete)
}
