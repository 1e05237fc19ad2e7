//! Passes that make a plan cheaper. The plan that they are given is valid, and so is what they leave: leaving any of them
//! out changes no number.
//!
//! * `row_wise`: an aggregate over `per table` whose body only looks at the row itself becomes one over the rows
//! * `finer`: a read that can be put together from the groups of another one says so
//! * `walk`: the leaves of a plan, wherever they stand

mod finer;
mod row_wise;
mod walk;

use std::collections::HashMap;

use super::query::QueryPlan;
use super::{Read, ReadRef};
use crate::formula::schema::Schema;
use walk::{Visit, each};

/// The same plan, cheaper.
pub fn cheaper(schema: &Schema, plan: &QueryPlan) -> QueryPlan {
    let mut plan = plan.clone();
    let mut reads = std::mem::take(plan.reads_mut());
    row_wise::apply(schema, &mut plan, &mut reads);
    drop_unused(&mut plan, &mut reads);
    finer::apply(schema, &mut reads);
    *plan.reads_mut() = reads;
    plan
}

/// Reads that nothing refers to any more go.
fn drop_unused(plan: &mut QueryPlan, reads: &mut Vec<Read>) {
    struct Renumber {
        /// The new place of each read that is used.
        places: HashMap<usize, usize>,
    }
    impl Visit for Renumber {
        fn read(&mut self, read: &mut ReadRef) {
            let next = self.places.len();
            read.read = *self.places.entry(read.read).or_insert(next);
        }
    }
    let mut renumber = Renumber { places: HashMap::new() };
    each(plan, &mut renumber);
    let mut kept: Vec<(usize, Read)> = std::mem::take(reads)
        .into_iter()
        .enumerate()
        .filter_map(|(old, read)| Some((*renumber.places.get(&old)?, read)))
        .collect();
    kept.sort_by_key(|(place, _)| *place);
    reads.extend(kept.into_iter().map(|(_, read)| read));
}
