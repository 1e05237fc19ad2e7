//! One page that tells what a model is: what it answers, what its figures mean, what it weighs, what could go.

mod charts;
mod page;

use cubrel::advise::Advice;
use cubrel::catalog::Catalog;
use cubrel::sizes::Sizes;
use cubrel::unused::Unused;
use cubrel::{Diagnostic, Formats, Grid, Model, QueryOptions, Type};

pub use page::page;

/// Names that are shown of those who use something.
const USERS: usize = 8;
/// Warm runs of each saved query.
const RUNS: usize = 5;

/// A saved query with its answer.
pub struct Answer {
    pub name: String,
    pub note: Option<String>,
    pub text: String,
    pub outcome: Result<Grid, String>,
    /// The median of some warm runs, in milliseconds.
    pub ms: Option<f64>,
}

/// All that a page tells.
pub struct Facts {
    pub catalog: Catalog,
    pub sizes: Sizes,
    pub formats: Formats,
    pub answers: Vec<Answer>,
    /// By measure, who uses it.
    pub users: Vec<(String, Vec<String>)>,
    /// By table, its newest day.
    pub newest: Vec<(String, String)>,
    pub unused: Unused,
    pub problems: Vec<Diagnostic>,
    pub advice: Option<Advice>,
    /// The day on which the page is made.
    pub day: String,
    /// The roles as which the model is seen.
    pub roles: Option<String>,
}

impl Facts {
    /// Those of a model.
    pub fn of(
        model: &Model,
        options: &QueryOptions,
        day: String,
        advice: Option<Advice>,
    ) -> Result<Facts, cubrel::Error> {
        let catalog = model.catalog();
        let formats = Formats::new(catalog.locale.as_deref(), catalog.currency.as_deref()).unwrap_or_default();
        let answers = catalog.queries.iter().map(|q| {
            let (outcome, ms) = match model.profile(&q.text, options, RUNS) {
                Ok((profile, grid)) => (Ok(grid), Some(profile.warm.median_ms)),
                Err(cubrel::Error::Cancelled) => return Err(cubrel::Error::Cancelled),
                Err(e) => (Err(e.to_string()), None),
            };
            Ok(Answer { name: q.name.clone(), note: q.note.clone(), text: q.text.clone(), outcome, ms })
        });
        let answers = answers.collect::<Result<Vec<_>, _>>()?;
        let users = catalog.measures.iter().map(|m| (m.name.clone(), users_of(model, &m.name))).collect();
        let newest =
            catalog.tables.iter().filter_map(|t| Some((t.name.clone(), newest_day(model, t, options)?))).collect();
        Ok(Facts {
            sizes: model.sizes(),
            formats,
            answers,
            users,
            newest,
            unused: model.unused(),
            problems: [model.check(), model.hints()].concat(),
            advice,
            day,
            roles: model.seen_as().map(|roles| roles.join(", ")),
            catalog,
        })
    }

    /// Who uses a measure, in a few words.
    fn users(&self, name: &str) -> String {
        let users =
            self.users.iter().find(|(own, _)| own == name).map(|(_, users)| users.as_slice()).unwrap_or_default();
        let shown = users.iter().take(USERS).cloned().collect::<Vec<_>>().join(", ");
        match users.len().saturating_sub(USERS) {
            0 => shown,
            more => format!("{shown}, and {more} more"),
        }
    }
}

fn users_of(model: &Model, name: &str) -> Vec<String> {
    let mut users: Vec<String> = Vec::new();
    let uses = model.uses(&format!("measure.{}", quoted(name)));
    for used in uses.into_iter().flat_map(|u| u.used_by).filter(|u| u.direct) {
        if !users.contains(&used.name) {
            users.push(used.name);
        }
    }
    users
}

/// A name as formulas write it.
fn quoted(name: &str) -> String {
    cubrel::quote_name(name)
}

/// The newest day of a table's dates, as far as they are not in the future of all others.
fn newest_day(model: &Model, table: &cubrel::catalog::CatalogTable, options: &QueryOptions) -> Option<String> {
    if table.calendar.is_some() || table.same_as.is_some() {
        return None;
    }
    let dates = table.columns.iter().filter(|c| c.ty == Type::Date.to_string() || c.ty == Type::Timestamp.to_string());
    let newest = dates.filter_map(|c| {
        let text = format!("grid max({}.{}) as newest", quoted(&table.name), quoted(&c.name));
        let grid = model.query_with(&text, options).and_then(|query| query.run()).ok()?;
        let value = grid.lines.first()?.values.first()?.clone();
        (!value.is_null()).then(|| value.to_string().chars().take(10).collect::<String>())
    });
    newest.max()
}
