//! Questions about typed expressions that decide how they are planned.

use std::cell::RefCell;
use std::collections::{BTreeSet, HashMap};

use cubrel_formula::schema::{MeasureId, RelationshipId, Schema, TableId};
use cubrel_formula::typed::{AggregateKind, Kind, LetId, Op, Over, PerDomain, ProviderId, TypedExpr};

/// The `let`s and providers that an expression refers to, wherever in it.
pub(super) fn references(expr: &TypedExpr, lets: &mut BTreeSet<LetId>, providers: &mut BTreeSet<ProviderId>) {
    expr.walk(&mut |e| match &e.kind {
        Kind::LetRef(id) | Kind::Member(_, id) => {
            lets.insert(*id);
        }
        Kind::Current { provider, .. } => {
            providers.insert(*provider);
        }
        _ => {}
    });
}

/// Whether a `let` is used where another filter context or a row of a table is in force.
pub(super) fn is_captured(expr: &TypedExpr, id: LetId) -> bool {
    match &expr.kind {
        Kind::LetRef(_) | Kind::Literal(_) | Kind::Column { .. } | Kind::Current { .. } | Kind::Measure(_) => false,
        Kind::Member(_, held) if *held == id => true,
        Kind::Aggregate(_) | Kind::Rank(_) | Kind::Set(_) | Kind::Given(..) | Kind::Via(..) | Kind::BothWays(..) => {
            let (mut lets, mut providers) = (BTreeSet::new(), BTreeSet::new());
            references(expr, &mut lets, &mut providers);
            lets.contains(&id)
        }
        _ => {
            let mut found = false;
            expr.each_part(&mut |part| found |= is_captured(part, id));
            found
        }
    }
}

/// Calls `visit` on an expression, on its parts, and on the measures that it uses, each measure once.
fn walk_with_measures(schema: &Schema, expr: &TypedExpr, visit: &mut dyn FnMut(&TypedExpr)) {
    let mut open = vec![expr];
    let mut known = BTreeSet::new();
    while let Some(expr) = open.pop() {
        expr.walk(&mut |e| {
            visit(e);
            if let Kind::Measure(id) = &e.kind
                && known.insert(*id)
            {
                open.extend(schema.measure(*id).expr.as_deref());
            }
        });
    }
}

/// The tables whose rows an expression aggregates, measures and inner `per`s included.
pub(super) fn aggregated_tables(schema: &Schema, expr: &TypedExpr, tables: &mut BTreeSet<TableId>) {
    walk_with_measures(schema, expr, &mut |e| {
        let Kind::Aggregate(a) = &e.kind else { return };
        match &a.over {
            Over::Rows(table) => {
                tables.insert(*table);
            }
            Over::Per(per) => match &per.domain {
                PerDomain::Table(table) | PerDomain::Columns { of: Some(table), .. } => {
                    tables.insert(*table);
                }
                PerDomain::Columns { of: None, .. } => {}
            },
        }
    });
}

/// The relationships that an expression lets filter both ways, measures included.
pub(super) fn both_ways_of(schema: &Schema, expr: &TypedExpr, found: &mut Vec<RelationshipId>) {
    walk_with_measures(schema, expr, &mut |e| match &e.kind {
        Kind::BothWays(_, id) if !found.contains(id) => found.push(*id),
        _ => {}
    });
}

/// Whether an expression is surely null in a cell for which its aggregates read no row. Such cells need not be looked at.
pub fn is_null_without_rows(schema: &Schema, expr: &TypedExpr) -> bool {
    NullWithoutRows { schema, known: RefCell::default() }.of(expr)
}

struct NullWithoutRows<'a> {
    schema: &'a Schema,
    /// What is known of measures.
    known: RefCell<HashMap<MeasureId, bool>>,
}

impl NullWithoutRows<'_> {
    fn of_measure(&self, id: MeasureId) -> bool {
        let known = self.known.borrow().get(&id).copied();
        known.unwrap_or_else(|| {
            let found = self.schema.measure(id).expr.as_ref().is_some_and(|e| self.of(e));
            self.known.borrow_mut().insert(id, found);
            found
        })
    }

    fn of(&self, expr: &TypedExpr) -> bool {
        let all = |e: &TypedExpr| self.of(e);
        match &expr.kind {
            Kind::Literal(value) => value.is_null(),
            Kind::Column { .. }
            | Kind::Current { .. }
            | Kind::LetRef(_)
            | Kind::Rank(_)
            | Kind::Set(_)
            | Kind::Narrowed(_)
            | Kind::Grouping(_) => false,
            Kind::Let(_, _, body) => all(body),
            Kind::Call(op, args) => match op {
                Op::IsNull => false,
                Op::Function(f) if f.sees_nulls => false,
                Op::In => args.first().is_some_and(all),
                _ => args.iter().any(all),
            },
            // `false and null` is false: both sides have to be null.
            Kind::And(a, b) | Kind::Or(a, b) => all(a) && all(b),
            Kind::Case(arms, otherwise) => {
                arms.iter().all(|(_, r)| all(r)) && otherwise.as_ref().is_none_or(|e| all(e))
            }
            Kind::Coalesce(parts) => parts.iter().all(all),
            Kind::Aggregate(a) => {
                let counts =
                    matches!(a.kind, AggregateKind::Count | AggregateKind::Rows | AggregateKind::CountDistinct);
                let null_body = match &a.over {
                    Over::Rows(_) => true,
                    Over::Per(_) => a.args.iter().any(all),
                };
                !counts && null_body
            }
            Kind::Measure(id) => self.of_measure(*id),
            // An edited body may read rows in cells where the unedited would not; it is null where *it* reads none.
            Kind::Given(body, _) | Kind::Via(body, _) | Kind::BothWays(body, _) | Kind::Member(body, _) => all(body),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::super::testing::{InModel as _, builder};
    use super::*;

    #[test]
    fn what_is_null_where_no_row_is_read_is_known() {
        let cases = [
            ("sum(booking.net)", true),
            ("sum(booking.net) + 1", true),
            ("-max(booking.net) / rows(booking)", true),
            ("if(sum(booking.net) > 5, sum(booking.net))", true),
            ("sum(booking.net) given (route.id = 'r1')", true),
            ("sum(sum(booking.net) per route)", true),
            ("rows(booking)", false),
            ("count(distinct booking.net)", false),
            ("coalesce(sum(booking.net), 0)", false),
            ("coalesce(sum(booking.net), max(route.miles))", true),
            ("if(sum(booking.net) is null, 1)", false),
            ("sum(1 per route)", false),
            ("1", false),
            ("null", true),
            ("base_measure * 2", true),
            ("let net = sum(booking.net); net is null", false),
            ("let net = sum(booking.net); 1 + sum(booking.net) - net", true),
        ];
        for (formula, expected) in cases {
            let builder = builder().measure("base_measure", "sum(booking.net)").measure("asked", formula);
            let model = builder.build().unwrap_or_else(|e| panic!("{formula}: {e}"));
            let schema = model.schema();
            let asked = schema.find_measure("asked").map(|id| schema.measure(id)).and_then(|m| m.expr.as_ref());
            assert_eq!(is_null_without_rows(schema, asked.unwrap()), expected, "{formula}");
        }
    }
}
