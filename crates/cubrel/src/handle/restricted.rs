//! What a role leaves of a model (language reference, section 11): a model of its own, in which the rows and columns that
//! the role may not see do not exist.
//!
//! Rows are cut from the columns before anything is asked, so that nothing can be evaluated on them, count them or tell of
//! them in an error. What is denied has no name. Tables that a query works out are worked out anew, from the rows that are
//! left. Calculated columns keep their values, which were computed over all rows; the checker says so.

use std::collections::BTreeSet;
use std::sync::{Arc, PoisonError};

use super::error::Error;
use super::late::{Known, Late};
use super::model::{Inner, Model, Restricted};
use cubrel_formula::check::Settings;
use cubrel_formula::schema::{Computed, RelationshipDef, Schema, TableId};
use cubrel_formula::source::suggestion;
use cubrel_formula::source::{Diagnostic, Problem, Span};
use cubrel_load::TableReport;
use cubrel_model::Document;
use cubrel_model::roles::{Denied, RoleDef, Rule, rule_filters};
use cubrel_plan::Planner;
use cubrel_plan::query::base;
use cubrel_run::{Executor, Options, Tables, base_frame, filter_rows, outer_values};
use cubrel_store::{CodedColumn, KeptRows, Lookup, NO_ROW, SegmentBounds, Store, TableData};
use cubrel_value::Type;
use cubrel_value::cancel::Cancel;

/// Models that are kept; each holds the rows that it sees.
const KEPT: usize = 16;

/// What somebody may see of a model: a model of its own, in which there is nothing else, and no way back to the rest.
///
/// It has all methods of a [`Model`].
#[derive(Clone, Debug)]
pub struct View(Model);

impl std::ops::Deref for View {
    type Target = Model;

    fn deref(&self) -> &Model {
        &self.0
    }
}

/// What is seen, as a model by itself.
impl From<View> for Model {
    fn from(view: View) -> Model {
        view.0
    }
}

impl Model {
    /// The model as somebody sees it who has some roles: what these let through is united, what one of them denies is
    /// denied. Without any role, nothing is there. `user` is what `user()` gives.
    ///
    /// ```
    /// # fn main() -> Result<(), cubrel::Error> {
    /// use cubrel::{Model, Type, Value};
    ///
    /// let rows = [("North", 10), ("South", 20)].map(|(region, net)| vec![Value::text(region), Value::Int(net)]);
    /// let model = Model::builder()
    ///     .rows("booking", &[("region", Type::Text), ("net", Type::Int)], &rows)
    ///     .definitions("[role.north]\nrows.booking = \"region = 'North'\"")
    ///     .build()?;
    /// let north = model.as_user(&["north"], None)?;
    /// assert_eq!(north.query("grid sum(booking.net)")?.run()?.lines[0].values, [Value::Int(10)]);
    /// assert!(model.as_user::<&str>(&[], None)?.query("grid rows(booking)").is_err());
    /// # Ok(())
    /// # }
    /// ```
    ///
    /// # Errors
    /// When there is no such role, or a rule cannot be evaluated.
    pub fn as_user<S: AsRef<str>>(&self, roles: &[S], user: Option<&str>) -> Result<View, Error> {
        let names: Vec<String> = roles.iter().map(|name| name.as_ref().to_string()).collect();
        seen_by(self, &names, user, self.inner.settings.today).map(View)
    }
}

fn seen_by(model: &Model, names: &[String], user: Option<&str>, today: i32) -> Result<Model, Error> {
    let roles = names.iter().map(|name| find(model, name)).collect::<Result<Vec<&RoleDef>, Error>>()?;
    let user = user.map(str::to_string);
    let key = (names.to_vec(), user.clone(), today);
    // Nobody holds the lock while a model is made: whoever makes it may do other work meanwhile that asks here, too.
    let cache = || model.inner.restricted.lock().unwrap_or_else(PoisonError::into_inner);
    if let Some(seen) = cache().get(&key) {
        return Ok(seen.clone());
    }
    let settings = Settings { user, today, ..model.inner.settings.clone() };
    let seen = Restriction { model, roles, settings }.model()?;
    let mut cache = cache();
    if cache.len() >= KEPT {
        cache.clear();
    }
    cache.insert(key, seen.clone());
    Ok(seen)
}

fn find<'m>(model: &'m Model, name: &str) -> Result<&'m RoleDef, Error> {
    model.roles().iter().find(|r| r.name == name).ok_or_else(|| {
        let names: Vec<&str> = model.roles().iter().map(|r| r.name.as_str()).collect();
        let problem = Diagnostic::general(Problem::UnknownName, format!("there is no role `{name}`"));
        let help =
            if names.is_empty() { "the model has no [role.…] sections".into() } else { suggestion(name, &names) };
        Error::Problems(vec![problem.help(help)])
    })
}

/// By table, which rows may be seen; nothing where all may.
type Masks = Vec<Option<Arc<Vec<bool>>>>;

/// Rows that one of several roles lets through are let through.
fn united(masks: Vec<Masks>) -> Masks {
    let unite = |a: Option<Arc<Vec<bool>>>, b: Option<Arc<Vec<bool>>>| match (a, b) {
        (Some(a), Some(b)) => Some(Arc::new(a.iter().zip(b.iter()).map(|(x, y)| *x || *y).collect())),
        _ => None,
    };
    masks.into_iter().reduce(|a, b| a.into_iter().zip(b).map(|(x, y)| unite(x, y)).collect()).unwrap_or_default()
}

/// What a rule says of the rows of its own table, and of a row of nulls.
struct RuleMask {
    table: TableId,
    rows: Vec<bool>,
    null: bool,
}

/// A model and the roles that somebody has.
struct Restriction<'m> {
    model: &'m Model,
    roles: Vec<&'m RoleDef>,
    settings: Settings,
}

impl Restriction<'_> {
    fn model(self) -> Result<Model, Error> {
        let inner = &self.model.inner;
        let anew = self.worked_out_anew();
        let masks = self.masks(&inner.schema, &inner.store, &|rule| !anew.contains(&rule))?;
        let mut store = self.cut(&masks, &anew)?;
        if self.roles.iter().any(|r| r.rows.iter().any(|rule| anew.contains(&rule.table))) {
            // Rules of such a table are asked of the rows that it has now.
            let own = self.masks(&inner.schema, &store, &|rule| anew.contains(&rule))?;
            let left = cut_tables(&store, &own);
            let lookups = cut_lookups(&inner.schema, (&store, &left), &own, &BTreeSet::new());
            store = Store { lookups: lookups.into_iter().flatten().collect(), ..left };
        }
        let mut schema = inner.schema.clone();
        let mut document = inner.document.clone();
        self.denied().iter().for_each(|denied| deny(&mut schema, &mut document, denied));
        document.file.role.clear();
        let reports = inner.reports.iter().zip(&store.tables).zip(&schema.tables);
        let reports = reports.map(|((report, data), table)| TableReport {
            table: table.name.clone(),
            rows: data.rows as u64,
            origin: report.origin.clone(),
            ..TableReport::default()
        });
        let inner = Inner {
            document,
            reports: reports.collect(),
            store,
            settings: self.settings,
            warnings: Vec::new(),
            of_measures: Vec::new(),
            roles: Vec::new(),
            damage: inner.damage.clone(),
            restricted: Restricted::default(),
            outdated: None,
            unkept: None,
            after: inner.after.clone(),
            seen_as: Some(self.roles.iter().map(|role| role.name.clone()).collect()),
            schema,
        };
        Ok(Model { inner: Arc::new(inner) })
    }

    /// What is denied; where there is no role, everything.
    fn denied(&self) -> Vec<Denied> {
        if !self.roles.is_empty() {
            return self.roles.iter().map(|role| role.denied.clone()).collect();
        }
        let schema = &self.model.inner.schema;
        vec![Denied::all(schema)]
    }

    /// Tables of queries whose results depend on rows that are hidden, with the copies of them.
    fn worked_out_anew(&self) -> BTreeSet<TableId> {
        let (schema, document) = (&self.model.inner.schema, &self.model.inner.document);
        if self.roles.iter().all(|r| r.rows.is_empty()) && !self.roles.is_empty() {
            return BTreeSet::new();
        }
        let section = |name: &str| document.file.table.get(name);
        let is_anew = |name: &str| section(name).is_some_and(|s| s.query.is_some() && !s.all_rows);
        let all = (0..schema.tables.len() as u32).map(TableId);
        all.filter(|table| {
            let name = &schema.table(*table).name;
            let first = section(name).and_then(|s| s.same_as.as_deref());
            is_anew(name) || first.is_some_and(is_anew)
        })
        .collect()
    }

    /// What the roles leave, by those of their rules that are `wanted`, of which it is asked of their table.
    fn masks(&self, schema: &Schema, store: &Store, wanted: &dyn Fn(TableId) -> bool) -> Result<Masks, Error> {
        if self.roles.is_empty() {
            return Ok(store.tables.iter().map(|t| Some(Arc::new(vec![false; t.rows]))).collect());
        }
        let of_role = |role: &&RoleDef| {
            let rules = role.rows.iter().filter(|rule| wanted(rule.table));
            let rules = rules.map(|rule| self.rule_mask(schema, store, role, rule)).collect::<Result<Vec<_>, _>>()?;
            Ok(allowed(Tables::new(schema, store), &rules))
        };
        Ok(united(self.roles.iter().map(of_role).collect::<Result<Vec<_>, Error>>()?))
    }

    fn rule_mask(&self, schema: &Schema, store: &Store, role: &RoleDef, rule: &Rule) -> Result<RuleMask, Error> {
        // A copy of a table has the same rows, so the rule is asked of the first.
        let section = self.model.document().file.table.get(&schema.table(rule.table).name);
        let first = section.and_then(|s| s.same_as.as_ref()).and_then(|first| schema.find_table(first));
        let asked = first.filter(|_| rule.inherited).unwrap_or(rule.table);
        let tables = Tables::new(schema, store);
        match mask_of(tables, &self.settings, rule, asked) {
            // What is wrong could quote rows that the role does not see.
            Err(Error::Problems(_)) => {
                let message = format!(
                    "the rule of role `{}` for `{}` cannot be computed for every row",
                    role.name,
                    schema.table(rule.table).name
                );
                let span = Span::new(0, rule.source.text.len());
                let problem = Diagnostic::error(Problem::Data, &rule.source, span, message);
                Err(Error::Problems(vec![problem.help("a rule has to be true or false for each row of its table")]))
            }
            other => other,
        }
    }

    /// The store without the rows that are hidden.
    fn cut(&self, masks: &Masks, anew: &BTreeSet<TableId>) -> Result<Store, Error> {
        let Inner { schema, store, after, .. } = &*self.model.inner;
        let mut left = cut_tables(store, masks);
        let lookups = cut_lookups(schema, (store, &left), masks, anew);
        let mut known = Known { lookups, damage: self.model.inner.damage.clone(), ..Known::default() };
        for (i, table) in left.tables.iter_mut().enumerate() {
            let (id, def) = (TableId(i as u32), &schema.tables[i]);
            let late = table.columns.iter_mut().zip(&def.columns).filter(|(_, c)| c.computed == Computed::After);
            for (column, c) in late {
                let there = std::mem::replace(column, Arc::new(CodedColumn::empty(Type::Int)));
                if !anew.contains(&id) {
                    known.columns.push((def.name.clone(), c.name.clone(), there));
                }
            }
            if anew.contains(&id) {
                table.rows = 0;
            }
        }
        let cancel = Cancel::default();
        let mut late = Late::new(schema, &self.settings, left, known, &cancel)?;
        late.work_out(after.clone())?;
        Ok(late.store)
    }
}

fn mask_of(tables: Tables<'_>, settings: &Settings, rule: &Rule, asked: TableId) -> Result<RuleMask, Error> {
    let schema = tables.schema;
    let narrows = rule_filters(schema, settings, rule, asked).map_err(Error::Problems)?;
    let mut planner = Planner::new(schema);
    let base = base(&mut planner, &rule.source, &narrows);
    let reads = planner.into_reads(&rule.source)?;
    let options = Options::default();
    let executor = Executor::new(tables, &reads, &options);
    let frame = base_frame(&executor, &base.outer)?;
    let outer = outer_values(&frame, &base.outer);
    let mut mask = RuleMask { table: rule.table, rows: vec![true; tables.rows(asked)], null: true };
    for filter in &base.scope.filters {
        let (rows, null) = filter_rows(tables, filter, &outer, &options)?;
        mask.rows.iter_mut().zip(rows).for_each(|(a, b)| *a &= b);
        mask.null &= null;
    }
    Ok(mask)
}

/// What rules leave of each table: a row goes with the row that it points at, over the default relationships.
fn allowed(tables: Tables<'_>, rules: &[RuleMask]) -> Masks {
    let of_table = |table: TableId| {
        let reach = tables.schema.reach(table, &[]);
        let reaching: Vec<(&RuleMask, &[_])> =
            rules.iter().filter_map(|rule| Some((rule, reach.get(&rule.table)?.as_slice()))).collect();
        if reaching.is_empty() {
            return None;
        }
        let mut passes = vec![true; tables.rows(table)];
        for (rule, path) in reaching {
            let far = tables.follow_path(path, (0..passes.len() as u32).collect());
            for (pass, row) in passes.iter_mut().zip(far) {
                *pass &= if row == NO_ROW { rule.null } else { rule.rows[row as usize] };
            }
        }
        Some(Arc::new(passes))
    };
    (0..tables.schema.tables.len() as u32).map(TableId).map(of_table).collect()
}

/// The tables without the rows that are hidden; their columns are cut when they are used.
fn cut_tables(store: &Store, masks: &Masks) -> Store {
    let cut = |(table, mask): (&TableData, &Option<Arc<Vec<bool>>>)| match mask {
        None => table.clone(),
        Some(mask) => {
            // All columns of a table have the same segments; a table without columns has none.
            let cuts = table.columns.first().map_or_else(|| SegmentBounds::even(0, 1), |c| c.segment_bounds().clone());
            let kept = Arc::new(KeptRows::new(&cuts, mask));
            let columns = table.columns.iter().map(|c| Arc::new(c.with_rows_later(&kept))).collect();
            TableData { rows: kept.count(), columns }
        }
    };
    Store { tables: store.tables.iter().zip(masks).map(cut).collect(), ..Store::default() }
}

/// The lookups of a store of which some tables are cut; those that touch what is worked out anew are left open.
fn cut_lookups(
    schema: &Schema,
    (before, after): (&Store, &Store),
    masks: &Masks,
    anew: &BTreeSet<TableId>,
) -> Vec<Option<Arc<Lookup>>> {
    let of = |(r, lookup): (&RelationshipDef, &Arc<Lookup>)| {
        if anew.contains(&r.many) || anew.contains(&r.one) {
            return None;
        }
        if masks[r.many.0 as usize].is_none() && masks[r.one.0 as usize].is_none() {
            return Some(lookup.clone());
        }
        let side = |table: TableId, columns: &[u32]| -> Vec<Arc<CodedColumn>> {
            columns.iter().map(|c| after.tables[table.0 as usize].columns[*c as usize].clone()).collect()
        };
        let (many, one) = (side(r.many, &r.many_columns), side(r.one, &r.one_columns));
        let matching = r.matching;
        let make = move || {
            let (many, one): (Vec<&CodedColumn>, Vec<&CodedColumn>) =
                (many.iter().map(|c| &**c.verified()).collect(), one.iter().map(|c| &**c.verified()).collect());
            // Keys that were unique are unique among fewer rows.
            Lookup::build(&many, &one, matching).unwrap_or_else(|_| Lookup::nothing())
        };
        Some(Arc::new(Lookup::deferred(make)))
    };
    schema.relationships.iter().zip(&before.lookups).map(of).collect()
}

/// Takes the names from what is denied: nothing finds it any more.
fn deny(schema: &mut Schema, document: &mut Document, denied: &Denied) {
    let file = &mut document.file;
    for id in &denied.columns {
        let table = &mut schema.tables[id.table.0 as usize];
        if let Some(section) = file.table.get_mut(&table.name) {
            section.column.shift_remove(&table.columns[id.index as usize].name);
        }
        let column = &mut table.columns[id.index as usize];
        (column.name, column.label, column.format, column.hidden) = (String::new(), None, None, true);
        table.columns.iter_mut().for_each(|c| c.display_order = c.display_order.filter(|o| *o != id.index));
        table.hierarchies.iter_mut().for_each(|(_, levels)| levels.retain(|level| *level != id.index));
        table.hierarchies.retain(|(_, levels)| !levels.is_empty());
        table.calendar = table.calendar.filter(|c| *c != id.index);
    }
    for id in &denied.measures {
        let measure = &mut schema.measures[id.0 as usize];
        file.measure.shift_remove(&measure.name);
        (measure.name, measure.label, measure.note, measure.group) = (String::new(), None, None, None);
        (measure.expr, measure.wrong, measure.hidden) = (None, None, true);
    }
    for (lens, reading) in &denied.readings {
        let lens = &mut schema.lenses[*lens];
        lens.readings.retain(|r| r.name != *reading);
    }
    for id in &denied.tables {
        let table = &mut schema.tables[id.0 as usize];
        file.table.shift_remove(&table.name);
        (table.name, table.label, table.prefix) = (String::new(), None, None);
    }
}
