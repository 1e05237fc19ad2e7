//! The order in which columns and tables are worked out after loading.
//!
//! What a formula names comes before it; so do the keys of the relationships that its plan follows, which its text does
//! not show.

use std::collections::BTreeSet;
use std::sync::Arc;

use super::calculated::ColumnPlan;
use super::error::Error;
use cubrel_formula::check::Settings;
use cubrel_formula::schema::{ColumnId, Computed, RelationshipDef, RelationshipId, Schema, TableId};
use cubrel_formula::source::{Diagnostic, Problem, Source, Span};
use cubrel_model::define::Step;
use cubrel_model::ordering::{self, Ordered, ordered};
use cubrel_plan::Inputs;
use cubrel_plan::query::plan;

/// The steps, each after those that it needs; else in the order in which they stand.
///
/// # Errors
/// Steps that need each other.
pub fn in_order(schema: &Schema, settings: &Settings, steps: Vec<Step>) -> Result<Vec<Step>, Error> {
    let needs: Vec<Vec<StepNeed>> =
        steps.iter().map(|step| needs(schema, settings, &steps, step)).collect::<Result<_, _>>()?;
    let Ordered { order, cycles } = ordered(&needs);
    if let Some((first, cycle)) = cycles.first() {
        return Err(Error::Problems(vec![problem(schema, &steps, *first, cycle)]));
    }
    let mut steps: Vec<Option<Step>> = steps.into_iter().map(Some).collect();
    Ok(order.into_iter().filter_map(|i| steps[i].take()).collect())
}

/// The key columns of a relationship.
pub fn keys(r: &RelationshipDef) -> impl Iterator<Item = ColumnId> + '_ {
    let side = |table: TableId, columns: &'_ [u32]| {
        columns.iter().map(|index| ColumnId { table, index: *index }).collect::<Vec<_>>()
    };
    side(r.many, &r.many_columns).into_iter().chain(side(r.one, &r.one_columns))
}

/// A step that is needed; and the relationship whose key it makes, if that is why.
type StepNeed = ordering::Need<Option<RelationshipId>>;

/// What the values of a step are made from.
pub fn inputs(schema: &Schema, settings: &Settings, step: &Step) -> Result<Inputs, Error> {
    match step {
        Step::Column(id, expr, source) => Ok(ColumnPlan::new(schema, *id, expr, source)?.inputs(schema)),
        Step::Table(_, source) => {
            Ok(Inputs::of_query(schema, &plan(schema, settings, source).map_err(Error::Problems)?))
        }
        Step::Shared(_, first) => Ok(Inputs { columns: BTreeSet::from([*first]), ..Inputs::default() }),
    }
}

/// Which steps have to be done before one.
fn needs(schema: &Schema, settings: &Settings, steps: &[Step], step: &Step) -> Result<Vec<StepNeed>, Error> {
    let maker = |column: ColumnId| {
        let is_made = schema.column(column).computed == Computed::After;
        let of_table = || steps.iter().position(|s| matches!(s, Step::Table(table, _) if *table == column.table));
        let own = steps.iter().position(|s| s.column() == Some(column));
        own.or_else(of_table).filter(|_| is_made)
    };
    let Inputs { columns, relationships, mut tables } = inputs(schema, settings, step)?;
    let mut found: BTreeSet<StepNeed> = BTreeSet::new();
    found.extend(columns.into_iter().filter_map(maker).map(|of| StepNeed { of, why: None }));
    for id in relationships {
        let r = schema.relationship(id);
        tables.extend([r.many, r.one]);
        found.extend(keys(r).filter_map(maker).map(|of| StepNeed { of, why: Some(id) }));
    }
    if let Some(own) = step.column() {
        tables.insert(own.table);
    }
    let made = steps.iter().enumerate().filter(|(_, s)| matches!(s, Step::Table(table, _) if tables.contains(table)));
    found.extend(made.map(|(of, _)| StepNeed { of, why: None }));
    Ok(found.into_iter().collect())
}

/// What is wrong with steps that need each other.
fn problem(schema: &Schema, steps: &[Step], first: usize, cycle: &[StepNeed]) -> Diagnostic {
    let mut text = steps[first].show(schema);
    for need in cycle {
        let over = need.why.map(|id| format!(" (a key of {})", schema.show_relationship(id)));
        text += &format!(" → {}{}", steps[need.of].show(schema), over.unwrap_or_default());
    }
    let message = format!("these formulas need each other: {text}");
    let over_key = cycle.iter().any(|need| need.why.is_some());
    let help = if over_key {
        "a key is computed before what is looked up with it: write its formula without that relationship"
    } else {
        "write one of them without the others"
    };
    let source = std::iter::once(first).chain(cycle.iter().map(|need| need.of)).find_map(|step| steps[step].source());
    let problem = match source {
        Some(source) => at(source, message),
        None => Diagnostic::general(Problem::Cycle, message),
    };
    problem.help(help)
}

fn at(source: &Arc<Source>, message: String) -> Diagnostic {
    Diagnostic::error(Problem::Cycle, source, Span::new(0, source.text.len()), message)
}
