//! What is worked out when all tables are loaded: columns that need other tables, tables by query, and the lookups of
//! relationships, each as soon as its keys are there.

use std::sync::Arc;
use std::time::Instant;

use super::calculated::calculated;
use super::error::Error;
use super::steps;
use cubrel_formula::check::Settings;
use cubrel_formula::schema::{ColumnId, Computed, RelationshipDef, Schema, TableId};
use cubrel_formula::source::{Diagnostic, Source};
use cubrel_load::ComputedColumn;
use cubrel_load::stored::to_raw;
use cubrel_load::tables::duplicate_keys;
use cubrel_model::define::Step;
use cubrel_plan::query::plan;
use cubrel_run::Options;
use cubrel_store::checksum::Damage;
use cubrel_store::{CodedColumn, Lookup, LookupRows, NO_ROW, SEGMENT_ROWS, Store};
use cubrel_value::VectorBuilder;
use cubrel_value::cancel::Cancel;
use cubrel_value::threads::map_owned;

/// Columns that were computed by an earlier run from the same data, and lookups of it.
#[derive(Default)]
pub struct Known {
    /// By table and name.
    pub columns: Vec<(String, String, Arc<CodedColumn>)>,
    /// By relationship, as far as they are known.
    pub lookups: Vec<Option<Arc<Lookup>>>,
    /// What is found to be damaged in the store that all this comes from.
    pub damage: Arc<Damage>,
}

/// A store whose tables are loaded, on its way to one in which everything is there.
pub struct Late<'a> {
    schema: &'a Schema,
    settings: &'a Settings,
    cancel: &'a Cancel,
    /// What is there.
    pub store: Store,
    /// What was taken over.
    pub known: Known,
    /// How long each column took that was not.
    pub computed: Vec<(TableId, ComputedColumn)>,
    /// By table, which of its columns have their values.
    there: Vec<Vec<bool>>,
    /// By relationship, whether its lookup is made.
    looked_up: Vec<bool>,
}

impl<'a> Late<'a> {
    /// Starts with the relationships whose keys are loaded.
    ///
    /// # Errors
    /// Keys that stand twice on the one side.
    pub fn new(
        schema: &'a Schema,
        settings: &'a Settings,
        store: Store,
        known: Known,
        cancel: &'a Cancel,
    ) -> Result<Late<'a>, Error> {
        let loaded = |t: &cubrel_formula::schema::TableDef| {
            t.columns.iter().map(|c| c.computed != Computed::After).collect::<Vec<bool>>()
        };
        let there = schema.tables.iter().map(loaded).collect();
        let count = schema.relationships.len();
        let mut late =
            Late { schema, settings, cancel, store, known, computed: Vec::new(), there, looked_up: vec![false; count] };
        let known = late.known.lookups.get(..count).map_or_else(|| vec![None; count], <[_]>::to_vec);
        let all = schema.relationships.iter().zip(&known);
        late.looked_up = known.iter().map(Option::is_some).collect();
        late.store.lookups =
            all.map(|(r, known)| known.clone().unwrap_or_else(|| Arc::new(unmade(&late.store, r)))).collect();
        late.look_up()?;
        Ok(late)
    }

    /// Does the steps.
    ///
    /// # Errors
    /// What cannot be computed, steps that need each other, keys that stand twice.
    pub fn work_out(&mut self, steps: Vec<Step>) -> Result<(), Error> {
        let is_known = steps.iter().all(|step| self.is_known(step));
        // Where everything is known, each step is as good as any to begin with.
        let steps = if is_known { steps } else { steps::in_order(self.schema, self.settings, steps)? };
        for step in steps {
            match step {
                Step::Column(id, expr, source) => {
                    let data = match self.found(id) {
                        Some(data) => data,
                        None => {
                            let start = Instant::now();
                            let data =
                                Arc::new(calculated(self.schema, &self.store, id, (&expr, &source), self.cancel)?);
                            self.note(id, start);
                            data
                        }
                    };
                    self.place(id, data);
                }
                Step::Table(table, source) => {
                    let columns = match self.columns(table).map(|id| self.found(id)).collect() {
                        Some(columns) => columns,
                        None => result_columns(self.schema, &self.store, self.settings, (table, &source), self.cancel)?,
                    };
                    let ids: Vec<ColumnId> = self.columns(table).collect();
                    ids.into_iter().zip(columns).for_each(|(id, column)| self.place(id, column));
                }
                Step::Shared(id, first) => {
                    let data = self.store.tables[first.table.0 as usize].columns[first.index as usize].clone();
                    self.place(id, data);
                }
            }
            self.look_up()?;
        }
        Ok(())
    }

    /// The columns that a table's query gives come before those that are calculated on it.
    fn columns(&self, table: TableId) -> impl Iterator<Item = ColumnId> + use<> {
        let given = self.schema.table(table).given_by_query as u32;
        (0..given).map(move |index| ColumnId { table, index })
    }

    fn is_known(&self, step: &Step) -> bool {
        match step {
            Step::Column(id, ..) => self.found(*id).is_some(),
            Step::Table(table, _) => self.columns(*table).all(|id| self.found(id).is_some()),
            Step::Shared(..) => true,
        }
    }

    fn found(&self, id: ColumnId) -> Option<Arc<CodedColumn>> {
        let (table, column) = (&self.schema.table(id.table).name, &self.schema.column(id).name);
        self.known.columns.iter().find(|(t, c, _)| t == table && c == column).map(|(_, _, data)| data.clone())
    }

    fn note(&mut self, id: ColumnId, start: Instant) {
        // Microseconds are as fine as the clock is worth.
        let milliseconds = start.elapsed().as_micros() as f64 / 1e3;
        let column = self.schema.column(id).name.clone();
        self.computed.push((id.table, ComputedColumn { column, milliseconds }));
    }

    fn place(&mut self, id: ColumnId, data: Arc<CodedColumn>) {
        let table = &mut self.store.tables[id.table.0 as usize];
        // A table by query has no rows before it has a column.
        table.rows = data.rows();
        table.columns[id.index as usize] = data;
        self.there[id.table.0 as usize][id.index as usize] = true;
    }

    /// Makes the lookups whose keys are there by now.
    fn look_up(&mut self) -> Result<(), Error> {
        let is_there = |id: ColumnId| self.there[id.table.0 as usize][id.index as usize];
        let ready = |(i, r): &(usize, &RelationshipDef)| !self.looked_up[*i] && steps::keys(r).all(is_there);
        let ready: Vec<(usize, &RelationshipDef)> =
            self.schema.relationships.iter().enumerate().filter(ready).collect();
        let built: Vec<(usize, Result<Lookup, Diagnostic>)> =
            map_owned(ready, |(i, r)| (i, lookup(self.schema, &self.store, r)));
        let mut problems = Vec::new();
        for (i, result) in built {
            match result {
                Ok(lookup) => self.store.lookups[i] = Arc::new(lookup),
                Err(problem) => problems.push(problem),
            }
            self.looked_up[i] = true;
        }
        if problems.is_empty() { Ok(()) } else { Err(Error::Problems(problems)) }
    }
}

fn lookup(schema: &Schema, store: &Store, r: &RelationshipDef) -> Result<Lookup, Diagnostic> {
    let side = |table: TableId, columns: &[u32]| -> Vec<&CodedColumn> {
        columns.iter().map(|c| &**store.tables[table.0 as usize].columns[*c as usize].verified()).collect()
    };
    let (many, one) = (side(r.many, &r.many_columns), side(r.one, &r.one_columns));
    Lookup::build(&many, &one, r.matching).map_err(|duplicates| {
        let names: Vec<String> =
            r.one_columns.iter().map(|c| schema.column_name(ColumnId { table: r.one, index: *c })).collect();
        duplicate_keys(&names.join(", "), &duplicates)
    })
}

/// A relationship whose keys are not there yet: nothing follows it.
fn unmade(store: &Store, r: &RelationshipDef) -> Lookup {
    let key = &store.tables[r.many.0 as usize].columns[r.many_columns[0] as usize];
    let target = LookupRows::ByCode(vec![NO_ROW; key.domain() as usize + 1].into());
    let one_rows = store.tables[r.one.0 as usize].rows;
    Lookup { target, one_rows, ..Lookup::nothing() }
}

/// The columns of a table that its query gives.
fn result_columns(
    schema: &Schema,
    store: &Store,
    settings: &Settings,
    (table, source): (TableId, &Arc<Source>),
    cancel: &Cancel,
) -> Result<Vec<Arc<CodedColumn>>, Error> {
    let plan = plan(schema, settings, source)?;
    let options = Options { cancel: cancel.clone(), ..Options::default() };
    let (grid, _) = cubrel_run::run(schema, store, &plan, &options)?;
    let column = |i: usize| {
        let (id, found) = (ColumnId { table, index: i as u32 }, &grid.columns[i]);
        let ty = schema.column(id).ty;
        let mut builder = VectorBuilder::new(ty, grid.lines.len());
        grid.lines.iter().for_each(|line| builder.push(line.values[i].clone()));
        let raw =
            to_raw(builder.finish(), ty, (&found.name, &|row| row), source).map_err(|p| Error::Problems(vec![p]))?;
        Ok(Arc::new(CodedColumn::encode(&raw, SEGMENT_ROWS)))
    };
    (0..grid.columns.len()).map(column).collect()
}
