//! Where aggregates take their values from, and which columns that needs.

use std::collections::BTreeSet;
use std::sync::Arc;

use super::super::Options;
use super::super::accumulate::Spec;
use super::super::compiled::{CompiledRow, RowCompiler};
use super::super::pairs::PairBits;
use super::super::tables::{Anchor, Tables};
use super::steps::in_steps;
use cubrel_formula::scalar::ScalarKind;
use cubrel_formula::schema::{ColumnId, RelationshipId, TableId};
use cubrel_formula::typed::AggregateKind;
use cubrel_plan::{ReadAggregate, RowExpr, RowLeaf};
use cubrel_store::ChainCodes;
use cubrel_value::Type;

/// Where an aggregate's input comes from.
pub(super) enum Feed {
    Rows,
    /// It is not fed, but takes over what the aggregate at this place of the read has.
    As(usize),
    /// Exact numbers without nulls, by the codes of an anchor; with the bits of the largest.
    Ints(Vec<CompiledRow>, u32),
    /// The sum, difference or product of two such numbers.
    Pair(Vec<CompiledRow>, PairBits),
    /// The codes of a column.
    Codes(CodeSource),
    /// The codes of several columns as one number: of each how many codes there are, too.
    Combined(Vec<(CodeSource, u64)>),
    /// The codes of a column as numbers, in whose order its values stand, and what they are ordered by.
    CodesBy(CodeSource, Vec<CompiledRow>),
    /// Exact numbers by the codes of an anchor, some of them null.
    SomeInts(Vec<CompiledRow>),
    /// Doubles by the codes of an anchor.
    Floats(Vec<CompiledRow>),
    /// Exact numbers that are worked out in steps over vectors; with the bits of the largest.
    Fused(Vec<CompiledRow>, u32),
    Values(Vec<CompiledRow>),
}

/// Where the codes of a column come from: of one that is far, by the codes of an anchor.
pub(super) struct CodeSource {
    pub(super) far: Option<(Anchor, Arc<ChainCodes>)>,
    pub(super) column: ColumnId,
}

impl CodeSource {
    /// `None` where codes are not found in an array.
    fn of(tables: Tables<'_>, table: TableId, (column, path): (ColumnId, &[RelationshipId])) -> Option<CodeSource> {
        if path.is_empty() {
            return Some(CodeSource { far: None, column });
        }
        let anchor = tables.anchor(column, path);
        let far = || Some((anchor, tables.codes_by_code(column, path)));
        tables.is_small(table, anchor).then(|| CodeSource { far: far(), column })
    }
}

/// Where one aggregate takes its values from.
pub(super) fn feed(
    tables: Tables<'_>,
    table: TableId,
    a: &ReadAggregate,
    compiler: &RowCompiler<'_>,
    options: &Options,
) -> (Spec, Feed) {
    let mut spec = Spec {
        kind: a.kind,
        input: a.args.first().map_or(a.ty, |e| e.scalar.ty),
        inputs: a.args.iter().map(|e| e.scalar.ty).collect(),
        order: a.order.iter().map(|(e, d)| (e.scalar.ty, *d)).collect(),
        constant: a.constant.clone(),
        ty: a.ty,
        coded: None,
        combined: None,
        nullable: true,
        counted_by: None,
    };
    if a.kind == AggregateKind::Rows {
        return (spec, Feed::Rows);
    }
    if let Some((column, feed)) = options.hoist.then(|| coded(tables, table, a)).flatten() {
        spec.coded = Some(tables.column(column).clone());
        return (spec, feed);
    }
    if let Some((combinations, feed)) = options.hoist.then(|| combined(tables, table, a)).flatten() {
        spec.combined = Some(combinations);
        return (spec, feed);
    }
    if let Some((column, feed)) = options.hoist.then(|| coded_by_order(tables, table, a, compiler)).flatten() {
        spec.coded = Some(tables.column(column).clone());
        spec.input = Type::Int;
        return (spec, feed);
    }
    let mut rows: Vec<CompiledRow> =
        a.args.iter().chain(a.order.iter().map(|(e, _)| e)).map(|e| compiler.compile(e)).collect();
    let is_summed = options.hoist && matches!(a.kind, AggregateKind::Sum | AggregateKind::Avg);
    if let (true, [only]) = (is_summed, rows.as_slice())
        && let Some(stepped) = in_steps(only, options.many_codes)
    {
        rows = vec![stepped];
    }
    if options.hoist && a.kind == AggregateKind::CountDistinct {
        for (row, input) in rows.iter_mut().zip(&mut spec.inputs) {
            if let Some(numbered) = row.as_numbered_texts() {
                (*row, *input) = (numbered, Type::Int);
            }
        }
        spec.input = spec.inputs.first().copied().unwrap_or(spec.input);
    }
    spec.nullable = rows.iter().any(CompiledRow::nullable);
    let feed = match is_summed {
        true => summed(&mut spec, rows),
        false => Feed::Values(rows),
    };
    (spec, feed)
}

/// The codes of a column, where an aggregate needs no more than these.
fn coded(tables: Tables<'_>, table: TableId, a: &ReadAggregate) -> Option<(ColumnId, Feed)> {
    use AggregateKind::{Count, CountDistinct, Max, Median, Min, PercentileCont, PercentileDisc, Single};
    if !matches!(a.kind, Min | Max | CountDistinct | Single | Count | Median | PercentileCont | PercentileDisc) {
        return None;
    }
    let [only] = a.args.as_slice() else { return None };
    let (column, path) = bare_column(only)?;
    if path.is_empty() && a.kind == Count && tables.column(column).nulls() == 0 {
        return Some((column, Feed::Rows));
    }
    Some((column, Feed::Codes(CodeSource::of(tables, table, (column, path))?)))
}

/// The codes of several columns of which the different combinations are counted, where these have numbers; with how many there could be.
fn combined(tables: Tables<'_>, table: TableId, a: &ReadAggregate) -> Option<(u64, Feed)> {
    if a.kind != AggregateKind::CountDistinct || a.args.len() < 2 {
        return None;
    }
    let source = |arg| {
        let (column, path) = bare_column(arg)?;
        Some((CodeSource::of(tables, table, (column, path))?, tables.column(column).domain()))
    };
    let sources: Vec<(CodeSource, u64)> = a.args.iter().map(source).collect::<Option<_>>()?;
    let combinations = sources.iter().try_fold(1u64, |all, (_, codes)| all.checked_mul(*codes))?;
    // One more is that of null.
    (combinations < u64::MAX).then_some((combinations, Feed::Combined(sources)))
}

/// The codes of a column of which the first or last one is wanted, where its values are no numbers: these would have to be looked up, and
/// compared letter by letter.
fn coded_by_order(
    tables: Tables<'_>,
    table: TableId,
    a: &ReadAggregate,
    compiler: &RowCompiler<'_>,
) -> Option<(ColumnId, Feed)> {
    let ([only], AggregateKind::First | AggregateKind::Last) = (a.args.as_slice(), a.kind) else { return None };
    let (column, path) = bare_column(only).filter(|_| only.scalar.ty == Type::Text)?;
    let order = a.order.iter().map(|(e, _)| compiler.compile(e)).collect();
    Some((column, Feed::CodesBy(CodeSource::of(tables, table, (column, path))?, order)))
}

/// How numbers come that are added up.
fn summed(spec: &mut Spec, rows: Vec<CompiledRow>) -> Feed {
    let Some(first) = rows.first() else { return Feed::Values(rows) };
    if spec.input.is_exact()
        && let Some((_, ints)) = first.as_ints()
    {
        let bits = ints.bits();
        return Feed::Ints(rows, bits);
    }
    if let Some((op, [a, b])) = first.as_pair()
        && let Some(bits) = PairBits::of(op, [a.1.bits(), b.1.bits()])
    {
        return Feed::Pair(rows, bits);
    }
    if spec.input.is_exact() && first.as_some_ints().is_some() {
        return Feed::SomeInts(rows);
    }
    if spec.input == Type::Float
        && let Some((.., nullable)) = first.as_floats()
    {
        spec.nullable = nullable;
        return Feed::Floats(rows);
    }
    match first.fused_bits().filter(|_| spec.input.is_exact()) {
        Some(bits) => Feed::Fused(rows, bits),
        None => Feed::Values(rows),
    }
}

/// The column of the table that an aggregate is of, and of nothing else.
pub(super) fn own_column(a: &ReadAggregate) -> Option<u32> {
    let [only] = a.args.as_slice() else { return None };
    bare_column(only).filter(|(_, path)| path.is_empty()).map(|(column, _)| column.index)
}

/// A row expression that is just a column.
pub(super) fn bare_column(row: &RowExpr) -> Option<(ColumnId, &[RelationshipId])> {
    match (&row.scalar.kind, row.leaves.as_slice()) {
        (ScalarKind::Leaf(0), [RowLeaf::Column { column, path }]) => Some((*column, path)),
        _ => None,
    }
}

/// Adds the column that an anchor is; false where it is none.
pub(super) fn add_anchor(columns: &mut BTreeSet<u32>, anchor: Anchor) -> bool {
    match anchor {
        Anchor::Column(index) => {
            columns.insert(index);
            true
        }
        Anchor::Reference(_) | Anchor::Row => false,
    }
}

/// The same of the column that codes come from.
fn add_source(columns: &mut BTreeSet<u32>, source: &CodeSource) -> bool {
    let anchor = source.far.as_ref().map_or(Anchor::Column(source.column.index), |(anchor, _)| *anchor);
    add_anchor(columns, anchor)
}

/// Adds the columns that a row expression takes; false where they are not all that it takes.
pub(super) fn add_row(columns: &mut BTreeSet<u32>, row: &CompiledRow) -> bool {
    columns.extend(row.own_columns());
    let anchors = row.anchors().into_iter().map(|anchor| add_anchor(columns, anchor));
    anchors.fold(true, |all, complete| all & complete) && !row.needs_rows()
}

/// The table's columns that are needed for an aggregate, and whether nothing else is.
pub(super) fn feed_columns(feed: &Feed) -> (BTreeSet<u32>, bool) {
    let mut columns = BTreeSet::new();
    let complete = match feed {
        Feed::Rows | Feed::As(_) => true,
        Feed::Codes(source) => add_source(&mut columns, source),
        Feed::Combined(sources) => {
            sources.iter().fold(true, |complete, (source, _)| add_source(&mut columns, source) & complete)
        }
        Feed::CodesBy(source, rows) => {
            let complete = add_source(&mut columns, source);
            rows.iter().fold(complete, |complete, row| add_row(&mut columns, row) & complete)
        }
        Feed::Ints(rows, _)
        | Feed::Pair(rows, _)
        | Feed::SomeInts(rows)
        | Feed::Floats(rows)
        | Feed::Fused(rows, _)
        | Feed::Values(rows) => rows.iter().fold(true, |complete, row| add_row(&mut columns, row) & complete),
    };
    (columns, complete)
}
