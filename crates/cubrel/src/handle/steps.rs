//! The order in which columns and tables are worked out after loading.
//!
//! What a formula names comes before it; so do the keys of the relationships that its plan follows, which its text does
//! not show.

use std::collections::BTreeSet;
use std::sync::Arc;

use super::calculated::ColumnPlan;
use super::error::Error;
use crate::formula::check::Settings;
use crate::formula::schema::{ColumnId, Computed, RelationshipDef, RelationshipId, Schema, TableId};
use crate::formula::source::{Diagnostic, Problem, Source, Span};
use crate::model::define::Step;
use crate::plan::inputs::Inputs;
use crate::plan::query::plan;

/// The steps, each after those that it needs; else in the order in which they stand.
///
/// # Errors
/// Steps that need each other.
pub fn in_order(schema: &Schema, settings: &Settings, steps: Vec<Step>) -> Result<Vec<Step>, Error> {
    let needs: Vec<BTreeSet<Need>> =
        steps.iter().map(|step| needs(schema, settings, &steps, step)).collect::<Result<_, _>>()?;
    let mut search = Search { needs: &needs, state: vec![Mark::New; steps.len()], path: Vec::new(), order: Vec::new() };
    for step in 0..steps.len() {
        search.visit(step, None).map_err(|cycle| Error::Problems(vec![problem(schema, &steps, &cycle)]))?;
    }
    let order = search.order;
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

/// A step that is needed, and the relationship whose key it makes, if that is why.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
struct Need {
    step: usize,
    over: Option<RelationshipId>,
}

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
fn needs(schema: &Schema, settings: &Settings, steps: &[Step], step: &Step) -> Result<BTreeSet<Need>, Error> {
    let maker = |column: ColumnId| {
        let is_made = schema.column(column).computed == Computed::After;
        let of_table = || steps.iter().position(|s| matches!(s, Step::Table(table, _) if *table == column.table));
        let own = steps.iter().position(|s| s.column() == Some(column));
        own.or_else(of_table).filter(|_| is_made)
    };
    let Inputs { columns, relationships, mut tables } = inputs(schema, settings, step)?;
    let mut found: BTreeSet<Need> = BTreeSet::new();
    found.extend(columns.into_iter().filter_map(maker).map(|step| Need { step, over: None }));
    for id in relationships {
        let r = schema.relationship(id);
        tables.extend([r.many, r.one]);
        found.extend(keys(r).filter_map(maker).map(|step| Need { step, over: Some(id) }));
    }
    if let Some(own) = step.column() {
        tables.insert(own.table);
    }
    let made = steps.iter().enumerate().filter(|(_, s)| matches!(s, Step::Table(table, _) if tables.contains(table)));
    found.extend(made.map(|(step, _)| Need { step, over: None }));
    Ok(found)
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum Mark {
    New,
    Open,
    Done,
}

/// Depth first.
struct Search<'a> {
    needs: &'a [BTreeSet<Need>],
    state: Vec<Mark>,
    path: Vec<Need>,
    order: Vec<usize>,
}

impl Search<'_> {
    /// The steps of a cycle, if there is one.
    fn visit(&mut self, step: usize, over: Option<RelationshipId>) -> Result<(), Vec<Need>> {
        let need = Need { step, over };
        match self.state[step] {
            Mark::Done => return Ok(()),
            Mark::Open => {
                let start = self.path.iter().position(|n| n.step == step).unwrap_or_default();
                let mut cycle = self.path[start..].to_vec();
                cycle.push(need);
                return Err(cycle);
            }
            Mark::New => self.state[step] = Mark::Open,
        }
        self.path.push(need);
        for need in &self.needs[step] {
            self.visit(need.step, need.over)?;
        }
        self.path.pop();
        self.state[step] = Mark::Done;
        self.order.push(step);
        Ok(())
    }
}

/// What is wrong with steps that need each other; the first is the last again.
fn problem(schema: &Schema, steps: &[Step], cycle: &[Need]) -> Diagnostic {
    let mut text = String::new();
    for (i, need) in cycle.iter().enumerate() {
        if i > 0 {
            let over = need.over.map(|id| format!(" (a key of {})", schema.show_relationship(id)));
            text += &format!(" → {}{}", steps[need.step].show(schema), over.unwrap_or_default());
        } else {
            text += &steps[need.step].show(schema);
        }
    }
    let message = format!("these formulas need each other: {text}");
    let over_key = cycle.iter().skip(1).any(|need| need.over.is_some());
    let help = if over_key {
        "a key is computed before what is looked up with it: write its formula without that relationship"
    } else {
        "write one of them without the others"
    };
    let source = cycle.iter().find_map(|need| steps[need.step].source());
    let problem = match source {
        Some(source) => at(source, message),
        None => Diagnostic::general(Problem::Cycle, message),
    };
    problem.help(help)
}

fn at(source: &Arc<Source>, message: String) -> Diagnostic {
    Diagnostic::error(Problem::Cycle, source, Span::new(0, source.text.len()), message)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn search(needs: &[BTreeSet<Need>]) -> Result<Vec<usize>, Vec<Need>> {
        let state = vec![Mark::New; needs.len()];
        let mut search = Search { needs, state, path: Vec::new(), order: Vec::new() };
        (0..needs.len()).try_for_each(|step| search.visit(step, None))?;
        Ok(search.order)
    }

    /// Graphs of seven steps, with those needs that the bits of a number say.
    fn graphs() -> impl Iterator<Item = Vec<BTreeSet<Need>>> {
        let mixed =
            |seed: u64| seed.wrapping_mul(0x9E37_79B9_7F4A_7C15).rotate_left(23).wrapping_mul(0xD6E8_FEB8_6659_FD93);
        (0..2000u64).map(move |seed| {
            let bits = mixed(seed) & mixed(seed + 7777) & mixed(seed + 99);
            let needed = |step: usize| (0..7).filter(move |other| bits >> (step * 7 + other) & 1 == 1);
            (0..7).map(|step| needed(step).map(|step| Need { step, over: None }).collect()).collect()
        })
    }

    #[test]
    fn steps_stand_behind_what_they_need_or_a_cycle_is_told() {
        let (mut ordered, mut cycles) = (0, 0);
        for needs in graphs() {
            match search(&needs) {
                Ok(order) => {
                    let place = |step: usize| order.iter().position(|s| *s == step).unwrap();
                    let behind =
                        |(step, all): (usize, &BTreeSet<Need>)| all.iter().all(|n| place(n.step) < place(step));
                    assert!(order.len() == 7 && needs.iter().enumerate().all(behind), "{order:?}");
                    ordered += 1;
                }
                Err(cycle) => {
                    let steps: Vec<usize> = cycle.iter().map(|n| n.step).collect();
                    let follows = |pair: &[usize]| needs[pair[0]].contains(&Need { step: pair[1], over: None });
                    assert!(steps.len() > 1 && steps.first() == steps.last(), "{steps:?}");
                    assert!(steps.windows(2).all(follows), "{steps:?}");
                    cycles += 1;
                }
            }
        }
        assert!(ordered > 100 && cycles > 100, "{ordered} {cycles}");
    }

    #[test]
    fn where_nothing_is_needed_steps_stay_in_their_order() {
        assert_eq!(search(&vec![BTreeSet::new(); 4]).ok(), Some(vec![0, 1, 2, 3]));
    }
}
