//! Passes that make a plan cheaper. The plan that they are given is valid, and so is what they leave: leaving any of them
//! out changes no number.
//!
//! * `row_wise`: an aggregate over `per table` whose body only looks at the row itself becomes one over the rows
//! * `roll_up`: a read that can be put together from the groups of another one says so
//! * `correlated`: a read that compares a column with many values from outside says which read grouped by it has the answers
//! * `together`: reads that differ in some filters only say which they are, so that one pass can do them

mod correlated;
mod roll_up;
mod row_wise;
mod together;

use super::ids::ReadId;
use std::collections::HashMap;

use super::query::QueryPlan;
use super::tree::{Assembly, Read, ReadRef};
use super::validate;
use super::walk::{self, Each, Visit};
use cubrel_formula::schema::Schema;

/// A pass over the leaves and the reads of a plan.
type Pass = fn(&Schema, &mut Each<'_>, &mut Vec<Read>);

/// The passes, in their order.
const PASSES: &[(&str, Pass)] = &[
    ("row_wise", |_, each, reads| row_wise::apply(each, reads)),
    ("drop_unused", |_, each, reads| drop_unused(each, reads)),
    ("correlated", |schema, _, reads| correlated::apply(schema, reads)),
    ("roll_up", |schema, _, reads| roll_up::apply(schema, reads)),
    ("together", |_, _, reads| together::apply(reads)),
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

#[cfg(test)]
mod tests {
    use super::super::query::GridPlan;
    use super::super::testing::{InModel as _, grid, model};
    use super::super::tree::Leaf;
    use super::*;
    use cubrel_formula::typed::Op;

    fn optimized(text: &str) -> GridPlan {
        let model = model();
        match optimize(model.schema(), &QueryPlan::Grid(Box::new(grid(&model, text)))) {
            QueryPlan::Grid(grid) => *grid,
            QueryPlan::Records(_) => panic!("a grid"),
        }
    }

    #[test]
    fn totals_are_put_together_from_their_lines_where_that_loses_nothing() {
        let cases = [
            ("sum(booking.net)", true),
            ("rows(booking)", true),
            ("max(booking.net)", true),
            ("sum(booking.net), min(booking.net)", true),
            ("avg(booking.net)", false),
            ("sum(booking.net), avg(booking.net)", false),
            ("count(distinct booking.net)", false),
            ("median(booking.net)", false),
            ("sum(cast(booking.net as float))", false),
        ];
        for (items, expected) in cases {
            let plan = optimized(&format!("grid {items} by route.id totals"));
            let width =
                |wanted: usize| plan.reads.iter().position(|r| r.keys.len() == wanted && !r.aggregates.is_empty());
            let (line, total) = (width(1).unwrap(), width(0).unwrap());
            let from: Vec<usize> = plan.reads[total].roll_ups.iter().map(|r| r.read.index()).collect();
            assert_eq!(from, if expected { vec![line] } else { Vec::new() }, "{items}");
            assert!(plan.reads[line].roll_ups.is_empty(), "{items}");
        }
    }

    #[test]
    fn totals_of_other_rows_are_for_themselves() {
        let plan = optimized("grid sum(booking.net), sum(booking.net) given (booking.net > 5) by route.id totals");
        let mut rolled_up = 0;
        for read in &plan.reads {
            for roll_up in &read.roll_ups {
                assert_eq!(plan.reads[roll_up.read].rows(), read.rows());
                rolled_up += 1;
            }
        }
        assert_eq!(rolled_up, 2);
    }

    #[test]
    fn folds_over_rows_that_look_at_nothing_else_become_reads() {
        let cases = [
            ("sum(sum(booking.net) * 2 per booking)", true),
            ("max(single(booking.net) per booking)", true),
            ("sum(sum(booking.net) per route)", false),
            ("max(sum(booking.net) per route.miles)", false),
            ("single(sum(booking.net) per booking)", false),
        ];
        for (item, expected) in cases {
            let plan = optimized(&format!("grid {item} by route.id"));
            let is_read = matches!(plan.parts[0].items[0].leaves[0], Leaf::Read(..));
            assert_eq!(is_read, expected, "{item}");
            assert_eq!(plan.reads.iter().filter(|r| !r.aggregates.is_empty()).count(), 1, "{item}: unused reads stay");
        }
    }

    #[test]
    fn comparisons_with_values_from_outside_are_answered_by_groups() {
        let cases = [
            ("rows(booking) given (booking.net = most)", Some(Op::Eq)),
            ("rows(booking) given (booking.net < most)", Some(Op::Lt)),
            ("rows(booking) given (most <= booking.net)", Some(Op::Ge)),
            ("avg(booking.net) given (booking.net = most)", Some(Op::Eq)),
            ("avg(booking.net) given (booking.net < most)", None),
            ("rows(booking) given (booking.net <> most)", None),
            ("rows(booking) given (booking.net + 1 = most)", None),
            ("sum(booking.net * most) given (booking.net = most)", None),
        ];
        for (item, expected) in cases {
            let plan = optimized(&format!("grid (let most = max(booking.net); {item}) by route.id"));
            let by_value = plan.reads.iter().find_map(|r| r.by_value.as_ref());
            assert_eq!(by_value.map(|b| b.op), expected, "{item}");
            if let Some(by_value) = by_value {
                assert!(plan.reads[by_value.read].outer.is_empty(), "{item}");
            }
        }
    }
}
