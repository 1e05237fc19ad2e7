//! Passes that make a plan cheaper. The plan that they are given is valid, and so is what they leave: leaving any of them
//! out changes no number.
//!
//! * `row_wise`: an aggregate over `per table` whose body only looks at the row itself becomes one over the rows
//! * `roll_up`: a read that can be put together from the groups of another one says so
//! * `correlated`: a read that compares a column with many values from outside says which read grouped by it has the answers

mod correlated;
mod roll_up;
mod row_wise;

use super::ids::ReadId;
use std::collections::HashMap;

use super::query::QueryPlan;
use super::tree::{Assembly, Read, ReadRef};
use super::validate;
use super::walk::{self, Each, Visit};
use crate::formula::schema::Schema;

/// A pass over the leaves and the reads of a plan.
type Pass = fn(&Schema, &mut Each<'_>, &mut Vec<Read>);

/// The passes, in their order.
const PASSES: &[(&str, Pass)] = &[
    ("row_wise", |_, each, reads| row_wise::apply(each, reads)),
    ("drop_unused", |_, each, reads| drop_unused(each, reads)),
    ("correlated", |schema, _, reads| correlated::apply(schema, reads)),
    ("roll_up", |_, _, reads| roll_up::apply(reads)),
];

/// The same plan, cheaper.
pub fn optimize(schema: &Schema, plan: &QueryPlan) -> QueryPlan {
    let mut plan = plan.clone();
    for (name, pass) in PASSES {
        let mut reads = std::mem::take(plan.reads_mut());
        pass(schema, &mut |visit| walk::each(&mut plan, visit), &mut reads);
        *plan.reads_mut() = reads;
        debug_assert_eq!(validate::query(schema, &plan), Ok(()), "after {name}");
    }
    plan
}

/// Makes an assembly with reads of its own cheaper.
pub fn optimize_assembly(schema: &Schema, assembly: &mut Assembly, reads: &mut Vec<Read>) {
    for (name, pass) in PASSES {
        pass(schema, &mut |visit| walk::assembly(assembly, visit), reads);
        debug_assert_eq!(validate::assembly(schema, assembly, reads), Ok(()), "after {name}");
    }
}

/// Reads that nothing refers to any more go.
fn drop_unused(each: &mut Each<'_>, reads: &mut Vec<Read>) {
    struct Renumber {
        /// The new place of each read that is used.
        places: HashMap<ReadId, ReadId>,
    }
    impl Visit for Renumber {
        fn read(&mut self, read: &mut ReadRef) {
            let next = ReadId::new(self.places.len());
            read.read = *self.places.entry(read.read).or_insert(next);
        }
    }
    let mut renumber = Renumber { places: HashMap::new() };
    each(&mut renumber);
    let mut kept: Vec<(ReadId, Read)> = std::mem::take(reads)
        .into_iter()
        .enumerate()
        .filter_map(|(old, read)| Some((*renumber.places.get(&ReadId::new(old))?, read)))
        .collect();
    kept.sort_by_key(|(place, _)| *place);
    reads.extend(kept.into_iter().map(|(_, read)| read));
}
