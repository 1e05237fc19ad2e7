//! What a role leaves of the data (language reference, section 11): it is fixed first, and no edit moves or widens it.
//!
//! The data of a role is a store of its own that shares all columns: rows that may not be seen are marked, and
//! relationships that point at them point at nothing.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};

use super::{Error, Model};
use crate::formula::check::Settings;
use crate::formula::schema::{Schema, TableId};
use crate::formula::source::{Diagnostic, Problem};
use crate::model::define::suggestion;
use crate::model::roles::{RoleDef, Rule, rule_filters};
use crate::plan::Planner;
use crate::plan::query::base;
use crate::run::Options;
use crate::run::anchors::Tables;
use crate::run::assemble::Executor;
use crate::run::grid::{base_frame, outer_values};
use crate::run::read;
use crate::store::{Lookup, NO_ROW, Store, Target};

/// Restricted stores by roles, user and day.
pub(super) type Cache = Mutex<HashMap<(Vec<String>, Option<String>, i32), Arc<Store>>>;
/// Stores that are kept; each holds its own relationships.
const KEPT: usize = 16;

/// The data that some roles see, and in the settings what they deny; nothing when there are no roles.
///
/// # Errors
/// When there is no such role, or a rule cannot be evaluated.
pub(super) fn restrict(model: &Model, names: &[String], settings: &mut Settings) -> Result<Option<Arc<Store>>, Error> {
    if names.is_empty() {
        return Ok(None);
    }
    let roles = names.iter().map(|name| find(model, name)).collect::<Result<Vec<&RoleDef>, Error>>()?;
    settings.denied = roles.iter().map(|r| Arc::new(r.denied.clone())).collect();
    let key = (names.to_vec(), settings.user.clone(), settings.today);
    let mut cache = model.inner.restricted.lock().unwrap_or_else(PoisonError::into_inner);
    if let Some(store) = cache.get(&key) {
        return Ok(Some(store.clone()));
    }
    // Rules are evaluated over everything, also over what they deny.
    let plain = Settings { denied: Vec::new(), ..settings.clone() };
    let masks = roles.iter().map(|role| allowed(model, role, &plain)).collect::<Result<Vec<_>, _>>()?;
    let store = Arc::new(restricted(model.schema(), model.store(), united(masks)));
    if cache.len() >= KEPT {
        cache.clear();
    }
    cache.insert(key, store.clone());
    Ok(Some(store))
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
type Masks = Vec<Option<Vec<bool>>>;

/// Rows that one of several roles lets through are let through.
fn united(masks: Vec<Masks>) -> Masks {
    let unite = |a: Option<Vec<bool>>, b: Option<Vec<bool>>| match (a, b) {
        (Some(a), Some(b)) => Some(a.into_iter().zip(b).map(|(x, y)| x || y).collect()),
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

fn allowed(model: &Model, role: &RoleDef, settings: &Settings) -> Result<Masks, Error> {
    let rules = role.rows.iter().map(|r| rule_mask(model, r, settings)).collect::<Result<Vec<_>, _>>()?;
    let (schema, tables) = (model.schema(), Tables { schema: model.schema(), store: model.store() });
    let of_table = |table: TableId| {
        let reach = schema.reach(table, &[]);
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
        Some(passes)
    };
    Ok((0..schema.tables.len() as u32).map(TableId).map(of_table).collect())
}

fn rule_mask(model: &Model, rule: &Rule, settings: &Settings) -> Result<RuleMask, Error> {
    let (schema, tables) = (model.schema(), Tables { schema: model.schema(), store: model.store() });
    // A copy of a table has the same rows, so the rule is asked of the first.
    let first = model.document().file.table.get(&schema.table(rule.table).name).and_then(|s| s.same_as.as_ref());
    let asked = match first.and_then(|f| schema.find_table(f)) {
        Some(first) if rule.inherited => first,
        _ => rule.table,
    };
    let narrows = rule_filters(schema, settings, rule, asked).map_err(Error::Problems)?;
    let mut planner = Planner::new(schema);
    let base = base(&mut planner, &rule.source, &narrows);
    let reads = planner.into_reads();
    let options = Options::default();
    let executor = Executor::new(tables, &reads, &options);
    let frame = base_frame(&executor, &base.outer)?;
    let outer = outer_values(&frame, &base.outer);
    let mut mask = RuleMask { table: rule.table, rows: vec![true; tables.rows(asked)], null: true };
    for filter in &base.scope.filters {
        let (rows, null) = read::filter_rows(tables, filter, &outer, &options)?;
        mask.rows.iter_mut().zip(rows).for_each(|(a, b)| *a &= b);
        mask.null &= null;
    }
    Ok(mask)
}

fn restricted(schema: &Schema, store: &Store, masks: Masks) -> Store {
    let mut result = store.clone();
    let masks: Vec<Option<Arc<Vec<bool>>>> = masks.into_iter().map(|m| m.map(Arc::new)).collect();
    for (table, mask) in result.tables.iter_mut().zip(&masks) {
        table.allowed = mask.clone();
    }
    for (lookup, def) in result.lookups.iter_mut().zip(&schema.relationships) {
        let (many, one) = (def.many.0 as usize, def.one.0 as usize);
        if masks[many].is_none() && masks[one].is_none() {
            continue;
        }
        let rows = (0..store.tables[many].rows).filter(|row| masks[many].as_ref().is_none_or(|m| m[*row]));
        let codes = match &lookup.target {
            Target::ByCode(_) => Some(store.tables[many].columns[def.many_columns[0] as usize].proven().codes()),
            Target::ByRow(_) => None,
        };
        let points = rows.map(|row| codes.as_ref().map_or(row, |c| c[row] as usize));
        let allowed = masks[one].as_ref().map(|m| m.as_slice());
        *lookup = Arc::new(Lookup::restricted(lookup, allowed, store.tables[one].rows, points));
    }
    result
}
