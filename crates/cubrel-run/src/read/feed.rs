//! What aggregates are fed with: codes, values by code, values computed row by row or once a run.

use super::super::RunError;
use super::super::Runs;
use super::super::accumulate::{Accumulator, Entries, Input};
use super::super::compiled::{BatchCodes, CompiledRow};
use super::ROWS_PER_RUN;
use super::batch::Batch;
use super::inputs::{CodeSource, Feed};
use super::parts::{Scratch, To, sized};
use super::prepare::Prepared;
use cubrel_value::{Data, Vector};

impl Prepared<'_> {
    /// Gives one aggregate what it takes from the rows of a batch that pass.
    pub(super) fn feed(
        &self,
        place: usize,
        batch: &Batch<'_>,
        positions: &[u32],
        entries: Entries<'_>,
        to: To<'_>,
        scratch: &mut Scratch,
    ) -> Result<(), RunError> {
        let To { accumulator: to, mut seen } = to;
        match &self.aggregates[place].1 {
            Feed::Rows => to.add(entries, &Input::Rows(positions.len())),
            Feed::As(_) => {}
            Feed::Ints(rows, bits) => {
                let Some((anchor, ints)) = rows.first().and_then(CompiledRow::as_ints) else { return Ok(()) };
                if let Some(few) = batch.few_ints(anchor, ints, positions) {
                    add_passed(entries, (&few, *bits), to, seen);
                    return Ok(());
                }
                let all = sized(&mut scratch.values, batch.entries());
                batch.ints_of(anchor, ints, all);
                add_exact(batch, positions, entries, (all, *bits), to, seen.take());
            }
            Feed::Pair(rows, bits) => {
                let Some((op, [a, b])) = rows.first().and_then(CompiledRow::as_pair) else { return Ok(()) };
                let few = batch.few_ints(a.0, a.1, positions).zip(batch.few_ints(b.0, b.1, positions));
                if let Some((mut few, with)) = few {
                    op.apply(&mut few, &with, *bits);
                    add_passed(entries, (&few, bits.most), to, seen);
                    return Ok(());
                }
                let all = sized(&mut scratch.values, batch.entries());
                let with = sized(&mut scratch.factors, batch.entries());
                batch.ints_of(a.0, a.1, all);
                batch.ints_of(b.0, b.1, with);
                op.apply(all, with, *bits);
                add_exact(batch, positions, entries, (all, bits.most), to, seen.take());
            }
            Feed::SomeInts(rows) => {
                let Some((anchor, ints)) = rows.first().and_then(CompiledRow::as_some_ints) else { return Ok(()) };
                let (values, valid) = batch.some_ints(anchor, ints, positions);
                to.add(entries, &Input::ExactOrNull(&values, &valid));
            }
            Feed::Floats(rows) => {
                let Some((anchor, floats, _)) = rows.first().and_then(CompiledRow::as_floats) else { return Ok(()) };
                if let Some(few) = batch.few_floats(anchor, floats, positions) {
                    to.add(entries, &Input::Floats(&few));
                } else {
                    let all = sized(&mut scratch.floats, batch.entries());
                    batch.floats_of(anchor, floats, all);
                    add_floats(batch, positions, entries, all, to);
                }
            }
            Feed::Codes(source) => to.add(entries, &Input::Codes(&self.codes(source, batch, positions))),
            Feed::Combined(sources) => to.add(entries, &Input::Codes(&self.combined(sources, batch, positions))),
            Feed::CodesBy(source, order) => {
                let null = self.tables.column(source.column).null_code();
                let codes = self.codes(source, batch, positions);
                let valid = codes.iter().map(|code| *code != null).collect();
                let numbers = Data::I64(codes.into_iter().map(|code| code as i64).collect());
                let mut vectors = vec![Vector::with_validity(numbers, valid)];
                vectors.extend(self.values(order, batch, positions)?);
                to.add(entries, &Input::Values(&vectors));
            }
            Feed::Fused(rows, bits) => {
                let vectors = self.values(rows, batch, positions)?;
                match vectors.first() {
                    Some(Vector { data: Data::I64(values), valid: None }) => {
                        add_passed(entries, (values, *bits), to, seen);
                        return Ok(());
                    }
                    Some(Vector { data: Data::I64(values), valid: Some(valid) }) => {
                        to.add(entries, &Input::ExactOrNull(values, valid));
                    }
                    _ => {}
                }
            }
            Feed::Values(rows) => {
                let vectors = match self.values_by_run(place, rows, batch, positions) {
                    Some(vectors) => vectors,
                    None => self.values(rows, batch, positions)?,
                };
                to.add(entries, &Input::Values(&vectors));
            }
        }
        if let Some(seen) = seen {
            entries.groups.mark(seen);
        }
        Ok(())
    }

    /// The codes of a column in the rows that pass.
    fn codes(&self, source: &CodeSource, batch: &Batch<'_>, positions: &[u32]) -> Vec<u64> {
        let column = source.column;
        match &source.far {
            None => batch.column(self.tables.column(column), column.index, positions),
            Some((anchor, far)) => {
                batch.anchor(*anchor, positions).iter().map(|code| far.get(u64::from(*code))).collect()
            }
        }
    }

    /// The numbers of the combinations of codes in the rows that pass; null where one of them is.
    fn combined(&self, sources: &[(CodeSource, u64)], batch: &Batch<'_>, positions: &[u32]) -> Vec<u64> {
        let null = sources.iter().map(|(_, codes)| codes).product();
        let mut combined = vec![0; positions.len()];
        for (source, codes) in sources {
            // Below null as long as none of the codes is null's.
            let with =
                |number: u64, code: u64| if number == null || code >= *codes { null } else { number * codes + code };
            let own = self.codes(source, batch, positions);
            combined.iter_mut().zip(own).for_each(|(number, code)| *number = with(*number, code));
        }
        combined
    }

    /// The values of expressions in the rows that pass.
    pub(super) fn values(
        &self,
        rows: &[CompiledRow],
        batch: &Batch<'_>,
        positions: &[u32],
    ) -> Result<Vec<Vector>, RunError> {
        rows.iter().map(|row| row.eval(self.tables, batch, positions)).collect()
    }

    /// Where rows stand apart only because of their groups: values computed once for each run of rows that are alike
    /// in what the values need. `None` where there are too many runs, or where that fails in a row, which need not pass.
    pub(super) fn values_by_run(
        &self,
        place: usize,
        rows: &[CompiledRow],
        batch: &Batch<'_>,
        positions: &[u32],
    ) -> Option<Vec<Vector>> {
        let (columns, complete) = &self.needs.feeds[place];
        if !complete || self.runs == Runs::Never || batch.is_in_runs() {
            return None;
        }
        let runs = columns.iter().map(|c| self.runs_of(*c, batch.segment_number())).fold(0, usize::saturating_add);
        if runs.saturating_mul(ROWS_PER_RUN) > batch.segment_rows() {
            return None;
        }
        let alike = batch.again_in_runs(columns.iter().copied());
        let all: Vec<u32> = (0..alike.entries() as u32).collect();
        let values = self.values(rows, &alike, &all).ok()?;
        let of_row = alike.entry_of_rows();
        if batch.is_whole(positions) {
            return Some(values.iter().map(|v| v.gather(&of_row)).collect());
        }
        let entries: Vec<u32> = positions.iter().map(|i| of_row[*i as usize]).collect();
        Some(values.iter().map(|v| v.gather(&entries)).collect())
    }
}

/// Adds the doubles of those entries that pass, out of those of all.
fn add_floats(batch: &Batch<'_>, positions: &[u32], entries: Entries<'_>, all: &[f64], to: &mut Accumulator) {
    if batch.is_whole(positions) {
        to.add(entries, &Input::Floats(all));
    } else {
        let passed: Vec<f64> = positions.iter().map(|i| all[*i as usize]).collect();
        to.add(entries, &Input::Floats(&passed));
    }
}

/// Adds the numbers of those entries that pass, out of those of all.
fn add_exact(
    batch: &Batch<'_>,
    positions: &[u32],
    entries: Entries<'_>,
    (all, bits): (&[i64], u32),
    to: &mut Accumulator,
    seen: Option<&mut [bool]>,
) {
    let passed: Vec<i64>;
    let values = if batch.is_whole(positions) {
        all
    } else {
        passed = positions.iter().map(|i| all[*i as usize]).collect();
        &passed
    };
    add_passed(entries, (values, bits), to, seen);
}

/// Adds the numbers of the entries that pass.
fn add_passed(entries: Entries<'_>, (values, bits): (&[i64], u32), to: &mut Accumulator, seen: Option<&mut [bool]>) {
    match seen {
        Some(seen) => to.add_and_mark(entries, values, bits, seen),
        None => to.add(entries, &Input::Exact(values, bits)),
    }
}
