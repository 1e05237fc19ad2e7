//! Several reads done in one pass: they group the rows of one table by the same keys, and differ in some filters and in what they
//! compute. What all of them let through is found once; each looks at the rows of that which it lets through itself.

use super::super::compiled::{CompiledRow, RowCompiler};
use super::super::tables::Tables;
use super::super::{Options, RunError, Runs};
use super::anchors::AnchorPlan;
use super::builder::ReadBuilder;
use super::inputs::feed_columns;
use super::parts::ROWS_PER_RUN;
use super::prepare::{Narrowed, Prepared, base_columns, prepare};
use super::result::{ReadResult, ReadStats};
use super::shared::feeds;
use super::wanted::WantedGroups;
use cubrel_plan::{Filter, Read};

/// A filter that looks at rows one by one is taken to let through so many of them.
const SHARE_OF_ROW_FILTER: f64 = 0.5;
/// Where filters of its own let through less of the rows, in all reads together, each read finds them faster by itself, unless
/// what is common to all leaves no more than this.
const WORTH_A_PASS: f64 = 0.5;

impl Prepared<'_> {
    /// Whether rows that are alike stand together so that one read by itself goes through runs of them.
    fn stands_in_runs(&self) -> bool {
        let Some(bounds) = self.tables.segment_bounds(self.table) else { return false };
        self.runs != Runs::Never
            && self.needs.base_complete
            && bounds.ranges().enumerate().any(|(segment, rows)| {
                let runs = self.needs.base.iter().map(|c| self.runs_of(*c, segment)).fold(0, usize::saturating_add);
                runs.saturating_mul(ROWS_PER_RUN) <= rows.len()
            })
    }

    /// The share of rows that pass, taken that filters know nothing of each other.
    fn share(&self) -> f64 {
        share(self, &self.anchors, &self.row_filters)
    }
}

/// Does reads in one pass, and gives the results in their order, and what the pass went through; `None` where each is better done by
/// itself.
///
/// # Errors
/// As for [`run`](super::run), of any of them.
pub fn run_together(
    tables: Tables<'_>,
    reads: &[&Read],
    wanted: Option<&WantedGroups>,
    options: &Options,
) -> Result<Option<(Vec<ReadResult>, ReadStats)>, RunError> {
    let Some(first) = reads.first() else { return Ok(None) };
    let in_all = |filter: &&Filter| reads.iter().all(|read| has(read, filter));
    let common: Vec<Filter> = first.filters.iter().filter(in_all).cloned().collect();
    let whole = reads.iter().position(|read| read.filters.iter().all(|f| common.iter().any(|c| c.test == f.test)));
    let base = Read {
        filters: common.clone(),
        aggregates: whole.map_or_else(Vec::new, |place| reads[place].aggregates.clone()),
        ..(*first).clone()
    };
    let mut prepared = prepare(tables, &base, &[], &[], wanted, options)?;
    prepared.wanted = whole.is_some();
    if prepared.stands_in_runs() {
        return Ok(None);
    }
    let others: Vec<usize> = (0..reads.len()).filter(|place| Some(*place) != whole).collect();
    let mut shares = 0.0;
    for place in &others {
        let own: Vec<Filter> = reads[*place].filters.iter().filter(|f| !has(&base, f)).cloned().collect();
        shares += narrow(&mut prepared, reads[*place], &own, options)?;
    }
    if whole.is_none() && shares < WORTH_A_PASS && prepared.share() > WORTH_A_PASS {
        return Ok(None);
    }
    let in_pass: Vec<&Read> = std::iter::once(&base).chain(others.iter().map(|place| reads[*place])).collect();
    let parts = super::pass(&mut prepared, options)?;
    let mut results = prepared.results(parts, &in_pass)?;
    let mut base = results.remove(0);
    let cost = base.stats.take_cost();
    if let Some(place) = whole {
        results.insert(place, base);
    }
    Ok(Some((results, cost)))
}

/// The share of rows that filters let through.
fn share(prepared: &Prepared<'_>, anchors: &[AnchorPlan], row_filters: &[CompiledRow]) -> f64 {
    let of_anchors: f64 = anchors.iter().map(|plan| plan.share(prepared.tables, prepared.table)).product();
    of_anchors * SHARE_OF_ROW_FILTER.powi(row_filters.len() as i32)
}

fn has(read: &Read, filter: &Filter) -> bool {
    read.filters.iter().any(|own| own.test == filter.test)
}

/// Adds a read to a pass, with the filters that not all have; the share of rows that these let through.
fn narrow(prepared: &mut Prepared<'_>, read: &Read, own: &[Filter], options: &Options) -> Result<f64, RunError> {
    let (tables, table) = (prepared.tables, prepared.table);
    let mut builder = ReadBuilder::new(tables, table, &[], options);
    builder.filters(own, read)?;
    builder.anchors.iter_mut().for_each(|anchor| anchor.in_ranges());
    let share_of = |plan: &AnchorPlan| plan.share(tables, table);
    builder.anchors.sort_by(|a, b| share_of(a).total_cmp(&share_of(b)));
    let share = share(prepared, &builder.anchors, &builder.row_filters);
    prepared.needs.narrowed.extend(base_columns(&builder, true).0);
    let compiler = RowCompiler::new(tables, table, &[], options.hoist);
    let first = prepared.aggregates.len();
    for (spec, feed) in feeds(tables, read, &compiler, options) {
        prepared.needs.feeds.push(feed_columns(&feed));
        prepared.aggregates.push((spec, feed));
    }
    let aggregates = first..prepared.aggregates.len();
    prepared.narrowed.push(Narrowed { anchors: builder.anchors, row_filters: builder.row_filters, aggregates });
    Ok(share)
}
