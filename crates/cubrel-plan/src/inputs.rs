//! What the answer to a plan is made from: the columns, relationships and tables that it reads.

use std::collections::BTreeSet;

use super::query::{Axis, QueryPlan};
use super::rows::{Predicate, RowExpr, RowLeaf};
use super::scope::{FilterTest, Key};
use super::tree::{Assembly, Bound, Bridge, Domain, Leaf, Read, ReadRef};
use super::walk::{self, Visit};
use cubrel_formula::schema::{ColumnId, RelationshipId, Schema, TableId};

/// Columns, relationships and tables of a schema.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Inputs {
    /// Columns whose values are looked at.
    pub columns: BTreeSet<ColumnId>,
    /// Relationships that are followed, in whichever direction.
    pub relationships: BTreeSet<RelationshipId>,
    /// Tables whose rows are looked at.
    pub tables: BTreeSet<TableId>,
}

impl Inputs {
    /// Those of an assembly, with the reads that it refers to.
    pub fn of_assembly(schema: &Schema, assembly: &Assembly, reads: &[Read]) -> Inputs {
        let mut finder = InputFinder { schema, found: Inputs::default() };
        walk::assembly(&mut assembly.clone(), &mut finder);
        reads.iter().for_each(|read| finder.of_read(read));
        finder.found
    }

    /// Those of a query; its axes are in the order of other columns.
    pub fn of_query(schema: &Schema, plan: &QueryPlan) -> Inputs {
        let mut finder = InputFinder { schema, found: Inputs::default() };
        walk::each(&mut plan.clone(), &mut finder);
        plan.reads().iter().for_each(|read| finder.of_read(read));
        match plan {
            QueryPlan::Grid(grid) => {
                for column in grid.axes.iter().copied().filter_map(Axis::column) {
                    finder.column(column);
                    let order = schema.column(column).display_order;
                    finder.found.columns.extend(order.map(|index| ColumnId { index, ..column }));
                }
                grid.parts.iter().for_each(|part| finder.domain(&part.domain));
            }
            QueryPlan::Records(records) => finder.of_read(&records.rows),
        }
        finder.found
    }
}

struct InputFinder<'a> {
    schema: &'a Schema,
    found: Inputs,
}

impl InputFinder<'_> {
    fn column(&mut self, column: ColumnId) {
        self.found.columns.insert(column);
        self.found.tables.insert(column.table);
    }

    fn key(&mut self, key: &Key) {
        match key {
            Key::Column(column) => self.column(*column),
            Key::Row(table) => {
                self.found.tables.insert(*table);
            }
            Key::Value(_) => {}
        }
    }

    fn domain(&mut self, domain: &Domain) {
        domain.keys.iter().for_each(|key| self.key(key));
        let misses = domain.groups.iter().flat_map(|g| &g.null_reads).flat_map(|(_, misses)| misses);
        self.found.relationships.extend(misses);
    }

    fn of_read(&mut self, read: &Read) {
        self.found.tables.insert(read.table);
        let reach = self.schema.reach(read.table, &read.detours);
        let mut ends: BTreeSet<TableId> = BTreeSet::new();
        for key in &read.keys {
            self.key(key);
            ends.extend(match key {
                Key::Column(column) => Some(column.table),
                Key::Row(table) => Some(*table),
                Key::Value(_) => None,
            });
        }
        for filter in &read.filters {
            ends.extend(filter.columns().iter().map(|c| c.table));
            match &filter.test {
                FilterTest::Predicate(predicate) | FilterTest::Projected(predicate, _) => {
                    ends.insert(predicate.table);
                    self.predicate(predicate);
                }
                FilterTest::Lines { columns, .. } => columns.iter().for_each(|c| self.column(*c)),
            }
        }
        // What comes back over a bridge has no path from here.
        self.found.relationships.extend(ends.iter().filter_map(|end| reach.get(end)).flatten());
        read.bridges.iter().for_each(|bridge| self.bridge(bridge));
        for aggregate in &read.aggregates {
            aggregate.args.iter().chain(aggregate.order.iter().map(|(e, _)| e)).for_each(|e| self.row_expr(e));
        }
        self.found.columns.extend(read.by_value.map(|by| by.column));
    }

    fn bridge(&mut self, bridge: &Bridge) {
        self.found.relationships.insert(bridge.relationship);
        self.found.relationships.extend(&bridge.path);
        self.of_read(&bridge.pairs);
    }

    fn predicate(&mut self, predicate: &Predicate) {
        self.found.tables.insert(predicate.table);
        predicate.columns.iter().for_each(|c| self.column(*c));
        self.row_expr(&predicate.test);
    }

    fn row_expr(&mut self, expr: &RowExpr) {
        for leaf in &expr.leaves {
            match leaf {
                RowLeaf::Column { column, path } => {
                    self.column(*column);
                    self.found.relationships.extend(path);
                }
                RowLeaf::Parameter(_) => {}
                RowLeaf::Member { of, .. } => self.row_expr(of),
            }
        }
    }
}

impl Visit for InputFinder<'_> {
    fn leaf(&mut self, leaf: &mut Leaf) {
        match leaf {
            Leaf::Current { table, column, path, .. } => {
                self.found.tables.insert(*table);
                self.column(*column);
                self.found.relationships.extend(path.iter());
            }
            Leaf::Bind { values, .. } => {
                for value in values {
                    if let Bound::Set(set) = value {
                        self.column(set.column);
                        self.domain(&set.domain);
                    }
                }
            }
            Leaf::Fold(fold) => self.domain(&fold.domain),
            Leaf::Rank(rank) => self.domain(&rank.domain),
            Leaf::Read(..)
            | Leaf::Part(_)
            | Leaf::Dim(_)
            | Leaf::Project { .. }
            | Leaf::Period(_)
            | Leaf::OverDays(_)
            | Leaf::Member(..) => {}
        }
    }

    fn read(&mut self, _read: &mut ReadRef) {}
}
