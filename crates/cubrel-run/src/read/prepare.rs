//! A read made ready: filters and keys as arrays over codes, aggregates with the source of their values.

use std::collections::BTreeSet;
use std::ops::Range;
use std::sync::Arc;

use super::super::accumulate::Spec;
use super::super::compiled::{CompiledRow, Outer, RowCompiler};
use super::super::tables::Tables;
use super::super::{Options, RunError, Runs};
use super::anchors::AnchorPlan;
use super::bridges::PairsOf;
use super::builder::ReadBuilder;
use super::counted::{combine, counted_sizes};
use super::dependent::Counting;
use super::group_keys::GroupKeys;
use super::inputs::{Feed, add_anchor, add_row, feed_columns, own_column};
use super::keys::{DROPPED, UnindexedKey};
use super::result::{ReadResult, strides};
use super::shared::feeds;
use super::wanted::WantedGroups;
use cubrel_formula::schema::TableId;
use cubrel_plan::{Key, KeyId, Read};

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
    /// The keys of groups, where their places are those among these keys.
    pub(super) ranked: Option<Arc<GroupKeys>>,
    /// The group of each row, where it has been found ahead.
    pub(super) numbers: Vec<u32>,
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
    /// Whether segments are told by what is known of them.
    pub(super) totals: bool,
    /// Whether stretches of rows are told by the codes between which they lie.
    pub(super) spans: bool,
    /// For each of the read's own aggregates the column of the table that it is of, and nothing else is.
    pub(super) of_columns: Vec<Option<u32>>,
}

/// What one of several reads, done in one pass, lets through of the rows that all of them let through.
pub(super) struct Narrowed {
    pub(super) anchors: Vec<AnchorPlan>,
    pub(super) row_filters: Vec<CompiledRow>,
    /// Its aggregates among those of the pass.
    pub(super) aggregates: Range<usize>,
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
    /// By numbers that each row has been given, [`DROPPED`] where it does not pass.
    Numbered,
}

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
    fn new(builder: &ReadBuilder<'_, '_>, aggregates: &[(Spec, Feed)], alone: bool) -> Needs {
        let (base, base_complete) = base_columns(builder, alone);
        let feeds = aggregates.iter().map(|(_, feed)| feed_columns(feed)).collect();
        Needs { base, base_complete, feeds, narrowed: BTreeSet::new() }
    }

    /// All of them.
    pub(super) fn all(&self) -> BTreeSet<u32> {
        self.feeds.iter().flat_map(|(columns, _)| columns).chain(&self.base).chain(&self.narrowed).copied().collect()
    }
}

/// How many groups there could be; `None` beyond 2^128.
fn product(sizes: &[u64]) -> Option<u128> {
    sizes.iter().try_fold(1u128, |product, size| product.checked_mul(u128::from(*size)))
}

fn too_many() -> RunError {
    let message = "the group-by columns together have more than 2^128 combinations: group by fewer columns";
    RunError::Limit(message.into())
}

/// Adds what rows are grouped by, but for keys that come back from a many side, and those that follow from others.
fn add_keys(builder: &mut ReadBuilder<'_, '_>, read: &Read, counting: &[Counting], strides: &[u128]) {
    let comes_back = |i: usize| read.bridges.iter().any(|b| b.keys.contains(&KeyId::new(i))) || counting[i].follows();
    for (i, (key, stride)) in read.keys.iter().zip(strides).enumerate().filter(|(i, _)| !comes_back(*i)) {
        if let Counting::Together(combined) = &counting[i] {
            builder.combined(combined, *stride);
            continue;
        }
        let key = match (&counting[i], *key) {
            (Counting::ByRow, Key::Column(column)) => Key::Row(column.table),
            (_, key) => key,
        };
        builder.key(key, *stride, read);
    }
}

/// Makes a read ready, for all groups or for those that are wanted; `pairs` are the results of the reads whose rows send keys and filters back to it.
pub(super) fn prepare<'a>(
    tables: Tables<'a>,
    read: &Read,
    pairs: &[ReadResult],
    outer: Outer<'_>,
    wanted: Option<&WantedGroups>,
    options: &Options,
) -> Result<Prepared<'a>, RunError> {
    let table = read.table;
    let (mut counting, mut sizes) = counted_sizes(tables, read, wanted);
    let rows = tables.rows(table) as u128;
    let room = DENSE_GROUPS.min(4 * rows + 4096).max(DENSE_PER_ROW * rows).min(u128::from(DROPPED));
    let mut builder = ReadBuilder::new(tables, table, outer, options);
    builder.filters(&read.filters, read)?;
    if let Some(wanted) = wanted {
        builder.wanted(wanted, read);
    }
    let rows_per_row = options.rows_per_combined;
    let is_large = product(&sizes).is_none_or(|product| product > room) || rows_per_row == 0;
    if is_large && read.bridges.is_empty() {
        combine(tables, read, (&mut counting, &mut sizes), (builder.passing_rows(), rows_per_row));
    }
    let product = product(&sizes).ok_or_else(too_many)?;
    let strides = strides(&sizes);
    let few_groups = product <= room;
    add_keys(&mut builder, read, &counting, &strides);
    let bridges = read.bridges.iter().zip(pairs).map(|of| PairsOf::new(tables, of, &strides, outer, options));
    let bridges = bridges.collect::<Result<Vec<_>, _>>()?;
    let dense = few_groups && builder.loose.is_empty() && bridges.is_empty() && !options.hash_groups;
    let one_tells = counting.iter().filter(|counts| !counts.follows()).count() == 1;
    let by_rank = by_rank(&mut builder, dense && one_tells, options);
    builder.seal_anchors(dense, options.many_codes);
    let renumbered = || wanted.filter(|_| dense).and_then(|wanted| ranked(&mut builder, wanted, &counting));
    let ranked = by_rank.or_else(renumbered).map(Arc::new);
    let groups = ranked.as_ref().map_or(product, |keys| keys.len() as u128);
    let grouping = match dense {
        true if ranked.is_none() && builder.is_thin(product) => Grouping::Thin,
        true => Grouping::Dense,
        false => Grouping::Hashed,
    };
    let compiler = RowCompiler::new(tables, table, outer, options.hoist);
    let aggregates = feeds(tables, read, &compiler, options);
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
        ranked,
        numbers: Vec::new(),
        groups: if grouping == Grouping::Dense { groups as usize } else { 0 },
        strides,
        counting,
        sizes,
        needs,
        runs: options.runs,
        narrowed: Vec::new(),
        own: read.aggregates.len(),
        wanted: true,
        totals: options.totals,
        spans: options.spans,
        of_columns: read.aggregates.iter().map(own_column).collect(),
    })
}

/// What adds to the numbers of groups, where that is one thing alone.
fn adding<'b>(builder: &'b mut ReadBuilder<'_, '_>) -> Option<&'b mut AnchorPlan> {
    let mut adding = builder.anchors.iter_mut().filter(|plan| plan.adds());
    match (adding.next(), adding.next()) {
        (Some(plan), None) => Some(plan),
        _ => None,
    }
}

/// Where one key tells groups apart, and few of the codes that decide it pass, groups are numbered by the places of these: in a bit for each
/// code there is all that tells them.
fn by_rank(builder: &mut ReadBuilder<'_, '_>, one_tells: bool, options: &Options) -> Option<GroupKeys> {
    let numbers = adding(builder).filter(|_| one_tells)?.rank_codes(options.many_codes)?;
    Some(GroupKeys::of_codes(numbers))
}

/// Where one key tells groups apart, and which of its codes are wanted is known, groups are numbered by their places among these, so
/// that all of them have a place in an array and nothing is looked up.
fn ranked(builder: &mut ReadBuilder<'_, '_>, wanted: &WantedGroups, counting: &[Counting]) -> Option<GroupKeys> {
    let [Counting::ByCode] = counting else { return None };
    let plan = adding(builder)?;
    let mut next = 0..;
    let rank = |wanted: &bool| if *wanted { next.next().unwrap_or(DROPPED) } else { DROPPED };
    let ranks: Vec<u32> = wanted.codes.iter().map(rank).collect();
    let codes = (0u64..).zip(&wanted.codes).filter(|(_, wanted)| **wanted).map(|(code, _)| code);
    plan.renumber(&ranks).then(|| GroupKeys::of_codes(codes.collect()))
}

/// The table's columns that decide which rows pass and where they belong, and whether they alone do.
pub(super) fn base_columns(builder: &ReadBuilder<'_, '_>, alike: bool) -> (BTreeSet<u32>, bool) {
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
