//! Whether a plan is one that can be run: every number refers to something, every path leads where it says, what comes
//! from outside is bound.
//!
//! A plan that breaks a rule is a mistake of the planner, and its answer would be a wrong number. So each plan is checked
//! before it is run, and in debug builds after each pass as well.

use super::identity::is_told_by;
use super::ids::{DimId, Index, KeyId, ReadId};
use super::query::{CellPlan, GridPart, QueryPlan};
use super::rows::{ParameterId, Predicate, RowExpr, RowLeaf};
use super::scope::{FilterTest, Key, Scope};
use super::tree::{
    Assembly, Bound, Bridge, ByValue, Domain, Fold, Leaf, OverDays, PeriodLeaf, RankLeaf, Read, ReadAggregate, ReadRef,
    RollUp, SetLeaf,
};
use cubrel_formula::scalar::Scalar;
use cubrel_formula::schema::{ColumnId, RelationshipId, Schema, TableId};
use cubrel_formula::typed::AggregateKind;

/// The first rule that a plan breaks.
type Checked = Result<(), String>;

/// Checks the plan of a query.
///
/// # Errors
/// The first rule that it breaks, in words for who mends the planner.
pub fn query(schema: &Schema, plan: &QueryPlan) -> Checked {
    let check = Check { schema, reads: plan.reads() };
    check.reads()?;
    match plan {
        QueryPlan::Grid(plan) => {
            plan.outer.iter().try_for_each(|(_, value)| check.bound(value))?;
            plan.parts.iter().try_for_each(|part| check.part(part))?;
            for judge in &plan.judges {
                judge.having.iter().try_for_each(|a| check.assembly(a))?;
                judge.order.iter().flatten().try_for_each(|(a, _)| check.assembly(a))?;
            }
            plan.others.iter().flat_map(|o| &o.parts).try_for_each(|part| check.part(part))
        }
        QueryPlan::Records(plan) => {
            plan.outer.iter().try_for_each(|(_, value)| check.bound(value))?;
            let bound: Vec<ParameterId> = plan.outer.iter().map(|(slot, _)| *slot).collect();
            check.read(&plan.rows)?;
            holds(plan.rows.outer.iter().all(|slot| bound.contains(slot)), || "rows take an unbound value".into())?;
            plan.items.iter().try_for_each(|(_, a)| check.assembly(a))?;
            plan.order.iter().try_for_each(|(a, ..)| check.assembly(a))
        }
    }
}

/// Checks the plan of one cell.
///
/// # Errors
/// The first rule that it breaks.
pub fn cell(schema: &Schema, plan: &CellPlan) -> Checked {
    let check = Check { schema, reads: &plan.reads };
    check.reads()?;
    plan.outer.iter().try_for_each(|(_, value)| check.bound(value))?;
    check.assembly(&plan.assembly)
}

/// Checks an assembly with the reads that it refers to.
///
/// # Errors
/// The first rule that it breaks.
pub fn assembly(schema: &Schema, assembly: &Assembly, reads: &[Read]) -> Checked {
    let check = Check { schema, reads };
    check.reads()?;
    check.assembly(assembly)
}

fn holds(rule: bool, broken: impl FnOnce() -> String) -> Checked {
    if rule { Ok(()) } else { Err(broken()) }
}

fn each_below<P: Index>(places: &[P], count: usize, what: &str) -> Checked {
    let numbers = || places.iter().map(|place| place.at());
    holds(numbers().all(|n| n < count), || format!("{what} {:?} of {count}", numbers().collect::<Vec<_>>()))
}

struct Check<'a> {
    schema: &'a Schema,
    reads: &'a [Read],
}

impl Check<'_> {
    // ---- reads

    fn reads(&self) -> Checked {
        self.reads.iter().enumerate().try_for_each(|(i, read)| self.read(read).map_err(|e| format!("read {i}: {e}")))
    }

    fn read(&self, read: &Read) -> Checked {
        let Read { table, filters, keys, detours: _, bridges, outer, aggregates, roll_ups, by_value, together } = read;
        self.table(*table)?;
        let reach = self.schema.reach(*table, &read.detours);
        for (i, key) in keys.iter().enumerate() {
            let comes =
                |of: TableId| reach.contains_key(&of) || bridges.iter().any(|b| b.keys.contains(&KeyId::new(i)));
            match key {
                Key::Column(column) => {
                    self.column(*column)?;
                    holds(comes(column.table), || format!("key {i} does not reach the table"))?;
                }
                Key::Row(of) => holds(comes(*of), || format!("key {i} does not reach the table"))?,
                Key::Value(_) => return Err(format!("key {i} is a value")),
            }
        }
        for filter in filters {
            let reached = |of: TableId| reach.contains_key(&of);
            match &filter.test {
                FilterTest::Predicate(predicate) => {
                    holds(reached(predicate.table), || "a filter does not reach the table".into())?;
                    self.predicate(predicate, outer)?;
                }
                FilterTest::Projected(predicate, kept) => {
                    holds(reached(predicate.table), || "a filter does not reach the table".into())?;
                    self.predicate(predicate, outer)?;
                    let is_there = |c: &ColumnId| predicate.columns.contains(c) && has_leaf(&predicate.test, *c);
                    holds(kept.iter().all(is_there), || "a filter keeps a column that it does not test".into())?;
                }
                FilterTest::Lines { columns, kept, slot } => {
                    let is_there = |c: &ColumnId| columns.contains(c) && reached(c.table);
                    holds(kept.iter().all(is_there), || "lines keep a column that is not theirs".into())?;
                    holds(outer.contains(slot), || "lines take an unbound value".into())?;
                }
            }
        }
        bridges.iter().try_for_each(|bridge| self.bridge(bridge, read))?;
        aggregates.iter().try_for_each(|aggregate| self.aggregate(aggregate, *table, outer))?;
        roll_ups.iter().try_for_each(|roll_up| self.roll_up(roll_up, read))?;
        by_value.iter().try_for_each(|by_value| self.by_value(by_value, read))?;
        together.iter().try_for_each(|other| self.together(*other, read))
    }

    fn table(&self, table: TableId) -> Checked {
        holds((table.0 as usize) < self.schema.tables.len(), || format!("there is no table {}", table.0))
    }

    fn column(&self, column: ColumnId) -> Checked {
        self.table(column.table)?;
        let count = self.schema.table(column.table).columns.len();
        holds((column.index as usize) < count, || format!("there is no column {} of {count}", column.index))
    }

    /// A path from a table leads to another.
    fn path(&self, from: TableId, path: &[RelationshipId], to: TableId) -> Checked {
        let mut at = from;
        for id in path {
            let r = self.schema.relationships.get(id.0 as usize).ok_or_else(|| format!("no relationship {}", id.0))?;
            holds(r.many == at, || format!("a path leaves {} where it is at {}", r.many.0, at.0))?;
            at = r.one;
        }
        holds(at == to, || format!("a path ends at table {} and not at {}", at.0, to.0))
    }

    fn predicate(&self, predicate: &Predicate, outer: &[ParameterId]) -> Checked {
        predicate.columns.iter().try_for_each(|c| self.column(*c))?;
        let bound = |slot: &ParameterId| outer.contains(slot);
        holds(predicate.outer.iter().all(bound), || "a filter takes an unbound value".into())?;
        holds(predicate.days.iter().all(bound), || "a filter takes unbound days".into())?;
        self.row_expr(&predicate.test, predicate.table, &predicate.outer)
    }

    fn row_expr(&self, expr: &RowExpr, table: TableId, outer: &[ParameterId]) -> Checked {
        self.leaves(&expr.scalar, expr.leaves.len())?;
        for leaf in &expr.leaves {
            match leaf {
                RowLeaf::Column { column, path } => {
                    self.column(*column)?;
                    self.path(table, path, column.table)?;
                }
                RowLeaf::Parameter(slot) => holds(outer.contains(slot), || format!("value {} is unbound", slot.0))?,
                RowLeaf::Member { slot, of } => {
                    holds(outer.contains(slot), || format!("set {} is unbound", slot.0))?;
                    self.row_expr(of, table, outer)?;
                }
            }
        }
        Ok(())
    }

    fn leaves(&self, scalar: &Scalar, count: usize) -> Checked {
        let mut found = Vec::new();
        scalar.each_leaf(&mut |leaf| found.push(leaf));
        each_below(&found, count, "leaves")
    }

    fn aggregate(&self, aggregate: &ReadAggregate, table: TableId, outer: &[ParameterId]) -> Checked {
        use AggregateKind::{PercentileCont, PercentileDisc, Rows};
        let ReadAggregate { kind, args, constant, order, ty: _ } = aggregate;
        holds(args.is_empty() == (*kind == Rows), || format!("{kind:?} has {} arguments", args.len()))?;
        if matches!(kind, PercentileCont | PercentileDisc) {
            let share = constant.as_ref().and_then(|c| c.as_f64());
            holds(share.is_some(), || format!("{kind:?} has no share"))?;
        }
        let all = args.iter().chain(order.iter().map(|(e, _)| e));
        all.into_iter().try_for_each(|e| self.row_expr(e, table, outer))
    }

    fn bridge(&self, bridge: &Bridge, read: &Read) -> Checked {
        let Bridge { relationship, path, pairs, keys } = bridge;
        let r = self.schema.relationships.get(relationship.0 as usize).ok_or("a bridge over nothing")?;
        self.path(read.table, path, r.one)?;
        each_below(keys, read.keys.len(), "keys of a bridge")?;
        holds(pairs.table == r.many, || "pairs of another table".into())?;
        holds(pairs.keys.first() == Some(&Key::Row(r.one)), || "pairs that do not tell the row".into())?;
        let same = keys.iter().map(|k| &read.keys[*k]).eq(pairs.keys.iter().skip(1));
        holds(same, || "pairs with other keys".into())?;
        holds(pairs.outer.iter().all(|slot| read.outer.contains(slot)), || "pairs take an unbound value".into())?;
        self.read(pairs)
    }

    fn roll_up(&self, roll_up: &RollUp, read: &Read) -> Checked {
        let other =
            self.reads.get(roll_up.read.index()).ok_or_else(|| format!("rolled up from read {}", roll_up.read))?;
        holds(roll_up.width == other.keys.len(), || "a roll-up of another width".into())?;
        each_below(&roll_up.keys, other.keys.len(), "keys of a roll-up")?;
        each_below(&roll_up.aggregates, other.aggregates.len(), "aggregates of a roll-up")?;
        let told = |(key, k): (&Key, &KeyId)| is_told_by(self.schema, *key, other.keys[*k]);
        let keys = roll_up.keys.len() == read.keys.len() && read.keys.iter().zip(&roll_up.keys).all(told);
        let aggregates = roll_up.aggregates.iter().map(|a| &other.aggregates[*a]).eq(&read.aggregates);
        holds(keys && aggregates && other.rows() == read.rows(), || "rolled up from another read".into())
    }

    fn by_value(&self, by_value: &ByValue, read: &Read) -> Checked {
        let other =
            self.reads.get(by_value.read.index()).ok_or_else(|| format!("answers of read {}", by_value.read))?;
        holds(by_value.outer.index() < read.outer.len(), || "answers for a value that is not there".into())?;
        holds(other.keys.last() == Some(&Key::Column(by_value.column)), || "answers by another column".into())?;
        holds(other.aggregates == read.aggregates, || "answers of other aggregates".into())
    }

    /// What one pass does goes through the same table in the same groups, and needs nothing from elsewhere.
    fn together(&self, other: ReadId, read: &Read) -> Checked {
        let other = self.reads.get(other.index()).ok_or_else(|| format!("together with read {other}"))?;
        holds(other.together == read.together, || "together with a read that is not".into())?;
        let same = (other.table, &other.keys, &other.detours) == (read.table, &read.keys, &read.detours);
        holds(same, || "together with a read of other groups".into())?;
        let plain = |r: &Read| r.bridges.is_empty() && r.outer.is_empty();
        holds(plain(other) && plain(read), || "together with what comes from elsewhere".into())
    }

    // ---- assemblies

    fn part(&self, part: &GridPart) -> Checked {
        self.domain(&part.domain, None)?;
        part.items.iter().try_for_each(|item| self.assembly(item))
    }

    fn assembly(&self, assembly: &Assembly) -> Checked {
        self.leaves(&assembly.scalar, assembly.leaves.len())?;
        assembly.leaves.iter().try_for_each(|leaf| self.leaf(leaf, &assembly.scope))
    }

    /// An assembly over a scope with so many dimensions.
    fn over(&self, assembly: &Assembly, dims: usize, what: &str) -> Checked {
        let own = assembly.scope.dims.len();
        holds(own == dims, || format!("{what} over {own} dimensions instead of {dims}"))?;
        self.assembly(assembly)
    }

    fn leaf(&self, leaf: &Leaf, scope: &Scope) -> Checked {
        let dims = scope.dims.len();
        let dim = |d: DimId| each_below(&[d], dims, "dimension");
        match leaf {
            Leaf::Read(read, aggregate) => {
                self.read_ref(read, scope)?;
                each_below(&[*aggregate], self.reads[read.read].aggregates.len(), "aggregate")
            }
            Leaf::Part(body) => self.over(body, dims, "a part"),
            Leaf::Dim(d) => dim(*d),
            Leaf::Current { dim: d, table, column, path } => {
                dim(*d)?;
                holds(scope.dims[*d].key == Key::Row(*table), || format!("dimension {d} is no row"))?;
                self.column(*column)?;
                self.path(*table, path, column.table)
            }
            Leaf::Bind { values, body } => {
                values.iter().try_for_each(|value| self.bound(value))?;
                self.over(body, dims + values.len(), "what values are bound for")
            }
            Leaf::Project { keep, body } => {
                each_below(keep, dims, "dimensions kept")?;
                self.over(body, keep.len(), "a projection")
            }
            Leaf::Fold(fold) => self.fold(fold, scope),
            Leaf::Rank(rank) => self.rank(rank, scope),
            Leaf::Period(period) => self.period(period, scope),
            Leaf::OverDays(over) => self.over_days(over, scope),
            Leaf::Member(value, d) => {
                dim(*d)?;
                self.over(value, dims, "a value asked for in a set")
            }
        }
    }

    /// A reference to a read: each of its keys and values is what it says of the scope.
    fn read_ref(&self, of: &ReadRef, scope: &Scope) -> Checked {
        let read = self.reads.get(of.read.index()).ok_or_else(|| format!("there is no read {}", of.read))?;
        each_below(&of.dims, scope.dims.len(), "dimensions")?;
        each_below(&of.outer, scope.dims.len(), "values")?;
        let keys = of.dims.iter().map(|d| scope.dims[*d].key);
        holds(keys.eq(read.keys.iter().copied()), || format!("read {} has other keys than its dimensions", of.read))?;
        let values = of.outer.iter().map(|d| scope.dims[*d].key);
        let same = values.eq(read.outer.iter().map(|slot| Key::Value(*slot)));
        holds(same, || format!("read {} takes other values than it gets", of.read))
    }

    /// The same over the dimensions of a scope and those that a domain adds.
    fn domain_ref(&self, of: &ReadRef, domain: &Domain, group: &[KeyId], outer: Option<&Scope>) -> Checked {
        let read = self.reads.get(of.read.index()).ok_or_else(|| format!("there is no read {}", of.read))?;
        let dims = domain.outer_dims + domain.keys.len();
        each_below(&of.dims, dims, "dimensions of a domain")?;
        each_below(&of.outer, dims, "values of a domain")?;
        each_below(group, domain.keys.len(), "keys of a domain's group")?;
        holds(of.dims.len() == read.keys.len(), || format!("read {} has other keys than its dimensions", of.read))?;
        for (d, key) in of.dims.iter().zip(&read.keys) {
            let expected = match d.index().checked_sub(domain.outer_dims) {
                Some(own) => Some(domain.keys[own]),
                None => outer.map(|scope| scope.dims[*d].key),
            };
            holds(expected.is_none_or(|e| e == *key), || format!("read {} by another key", of.read))?;
        }
        holds(of.outer.len() == read.outer.len(), || format!("read {} takes other values than it gets", of.read))
    }

    fn domain(&self, domain: &Domain, outer: Option<&Scope>) -> Checked {
        holds(outer.is_none_or(|s| s.dims.len() == domain.outer_dims), || "a domain of another scope".into())?;
        let mut keys: Vec<usize> = domain.groups.iter().flat_map(|g| &g.keys).map(|key| key.index()).collect();
        keys.sort_unstable();
        holds(keys.into_iter().eq(0..domain.keys.len()), || "keys of a domain in no group, or in two".into())?;
        for group in &domain.groups {
            self.domain_ref(&group.read, domain, &group.keys, outer)?;
            for (read, path) in &group.null_reads {
                self.domain_ref(read, domain, &group.keys, outer)?;
                let (of, to) = (self.reads[read.read].table, self.reads[group.read.read].table);
                holds(path.is_empty() || self.path(of, path, to).is_ok(), || "null under another table".into())?;
            }
        }
        Ok(())
    }

    fn bound(&self, value: &Bound) -> Checked {
        match value {
            Bound::Value(value) => self.assembly(value),
            Bound::Set(set) => self.set(set),
        }
    }

    fn set(&self, set: &SetLeaf) -> Checked {
        self.column(set.column)?;
        holds(set.domain.outer_dims == set.keep.len(), || "a set of another scope".into())?;
        self.domain(&set.domain, None)?;
        self.over(&set.figure, set.keep.len() + set.domain.keys.len(), "the figure of a set")
    }

    fn fold(&self, fold: &Fold, scope: &Scope) -> Checked {
        self.domain(&fold.domain, Some(scope))?;
        let dims = scope.dims.len() + fold.domain.keys.len();
        let all = fold.filter.iter().chain(&fold.args).chain(fold.order.iter().map(|(a, _)| a));
        all.into_iter().try_for_each(|a| self.over(a, dims, "what is folded"))
    }

    fn rank(&self, rank: &RankLeaf, scope: &Scope) -> Checked {
        let dims = scope.dims.len();
        self.over(&rank.mine, dims, "a figure")?;
        rank.single.iter().try_for_each(|leaf| self.leaf(leaf, scope))?;
        each_below(&rank.keep, dims, "dimensions kept")?;
        holds(rank.domain.outer_dims == rank.keep.len(), || "ranks of another scope".into())?;
        self.domain(&rank.domain, None)?;
        self.over(&rank.figure, rank.keep.len() + rank.domain.keys.len(), "the figure of each value")
    }

    fn period(&self, period: &PeriodLeaf, scope: &Scope) -> Checked {
        let dims = scope.dims.len();
        for read in std::iter::once(&period.visible).chain(&period.with_rows) {
            self.by_day(read, scope)?;
        }
        self.over(&period.body, dims + 1, "what a period edit is for")
    }

    /// A read by outer dimensions, and by date as one more.
    fn by_day(&self, of: &ReadRef, scope: &Scope) -> Checked {
        let read = self.reads.get(of.read.index()).ok_or_else(|| format!("there is no read {}", of.read))?;
        holds(of.dims.len() == read.keys.len(), || format!("read {} has other keys than its dimensions", of.read))?;
        each_below(&of.dims, scope.dims.len() + 1, "dimensions by day")?;
        each_below(&of.outer, scope.dims.len(), "values by day")?;
        let last = read.keys.last().is_some_and(|key| matches!(key, Key::Column(_)));
        holds(last, || format!("read {} is not by day", of.read))
    }

    fn over_days(&self, over: &OverDays, scope: &Scope) -> Checked {
        let dims = scope.dims.len();
        holds(over.outer_dims == dims, || "days of another scope".into())?;
        each_below(&[over.days], dims, "dimension of days")?;
        self.by_day(&over.by_day, scope)?;
        each_below(&over.parts, self.reads[over.by_day.read].aggregates.len(), "aggregates by day")?;
        holds(!over.parts.is_empty(), || "nothing is read by day".into())?;
        self.read_ref(&over.by_set, scope)?;
        each_below(&[over.aggregate], self.reads[over.by_set.read].aggregates.len(), "aggregate by set")
    }
}

/// Whether an expression looks at a column.
fn has_leaf(expr: &RowExpr, wanted: ColumnId) -> bool {
    expr.leaves.iter().any(|leaf| match leaf {
        RowLeaf::Column { column, .. } => *column == wanted,
        RowLeaf::Parameter(_) => false,
        RowLeaf::Member { of, .. } => has_leaf(of, wanted),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::query::GridPlan;
    use crate::testing::{InModel as _, grid, model};
    use crate::{AggregateId, ReadId};

    fn first_leaf(plan: &mut GridPlan) -> &mut Leaf {
        &mut plan.parts[0].items[0].leaves[0]
    }

    fn summed(plan: &mut GridPlan) -> &mut Read {
        plan.reads.iter_mut().find(|read| !read.aggregates.is_empty()).unwrap()
    }

    #[test]
    fn plans_of_queries_are_valid_and_broken_ones_are_told() {
        let model = model();
        let far = "grid sum(booking.net * route.miles) by route.miles where route.id = 'r1'";
        let held = "grid (let most = max(booking.net); rows(booking) given (booking.net = most)) by route.id totals";
        let folded = "grid max(sum(booking.net) per route.miles) by route.id";
        type Break = fn(&mut GridPlan);
        let far_away = |plan: &mut GridPlan| {
            let RowLeaf::Column { column, .. } = &mut summed(plan).aggregates[0].args[0].leaves[0] else { return };
            column.table = TableId(2);
        };
        let cases: &[(&str, &str, Break)] = &[
            (far, "there is no table 9", |p| summed(p).table = TableId(9)),
            (far, "key 0 does not reach", |p| summed(p).table = TableId(2)),
            (far, "key 1 is a value", |p| summed(p).keys.push(Key::Value(ParameterId(3)))),
            (far, "there is no column 7 of 2", |p| {
                summed(p).keys[0] = Key::Column(ColumnId { table: TableId(1), index: 7 })
            }),
            (far, "a path ends at table", far_away),
            (far, "leaves [0, 1] of 1", |p| drop(summed(p).aggregates[0].args[0].leaves.pop())),
            (far, "other keys than its dimensions", |p| summed(p).keys.truncate(0)),
            (far, "no read 4", |p| {
                if let Leaf::Read(read, _) = first_leaf(p) {
                    read.read = ReadId::new(4);
                }
            }),
            (far, "aggregate [5] of 1", |p| {
                if let Leaf::Read(_, aggregate) = first_leaf(p) {
                    *aggregate = AggregateId::new(5);
                }
            }),
            (far, "dimension [3] of 1", |p| *first_leaf(p) = Leaf::Dim(DimId::new(3))),
            (far, "Rows has 1 arguments", |p| summed(p).aggregates[0].kind = AggregateKind::Rows),
            (far, "has no share", |p| summed(p).aggregates[0].kind = AggregateKind::PercentileCont),
            (held, "unbound", |p| {
                let with_value = p.reads.iter_mut().find(|r| !r.outer.is_empty());
                with_value.unwrap().outer.clear();
            }),
            (held, "takes other values than it gets", |p| {
                let with_value = p.reads.iter_mut().find(|r| !r.outer.is_empty());
                with_value.unwrap().outer.push(ParameterId(77));
            }),
            (folded, "what is folded over 1 dimensions instead of 2", |p| {
                let Leaf::Fold(fold) = first_leaf(p) else { panic!("a fold") };
                let mut scope = (*fold.args[0].scope).clone();
                scope.dims.pop();
                fold.args[0].scope = scope.into();
            }),
            (folded, "in no group, or in two", |p| {
                let Leaf::Fold(fold) = first_leaf(p) else { panic!("a fold") };
                fold.domain.groups[0].keys.push(KeyId::new(0));
            }),
        ];
        for (text, expected, change) in cases {
            let mut broken = grid(&model, text);
            assert_eq!(query(model.schema(), &QueryPlan::Grid(Box::new(broken.clone()))), Ok(()), "{text}");
            change(&mut broken);
            let told = query(model.schema(), &QueryPlan::Grid(Box::new(broken))).unwrap_err();
            assert!(told.contains(expected), "{text}\nexpected {expected}\ntold {told}");
        }
    }
}
