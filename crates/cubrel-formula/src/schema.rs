//! What formulas can name: tables, columns, relationships, measures; and the paths between tables.

use std::collections::HashMap;
use std::sync::Arc;

use super::ast;
pub use super::ids::{ColumnId, MeasureId, RelationshipId, TableId};
use super::source::{Diagnostic, Source};
use super::typed::TypedExpr;
use cubrel_value::days::CalendarRules;
use cubrel_value::{Matching, Type};

/// When a column's values come to be.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Computed {
    /// They stand in the source.
    Source,
    /// By a formula that needs only its own row, before rows are coded.
    Loading,
    /// By a formula that needs other tables or other rows, after all tables are loaded.
    After,
}

/// What the schema knows of a column.
#[derive(Clone, Debug)]
pub struct ColumnDef {
    /// Its name in formulas.
    pub name: String,
    /// What people read instead.
    pub label: Option<String>,
    /// The type of its values.
    pub ty: Type,
    /// Not listed for people.
    pub hidden: bool,
    /// A pattern for its values.
    pub format: Option<String>,
    /// The column of the same table that orders it.
    pub display_order: Option<u32>,
    /// When its values come to be.
    pub computed: Computed,
    /// Kept by period edits.
    pub day_kind: bool,
}

/// What the schema knows of a table.
#[derive(Clone, Debug, Default)]
pub struct TableDef {
    /// Its name in formulas.
    pub name: String,
    /// What people read instead.
    pub label: Option<String>,
    /// Shown before labels, to tell a table and its copy apart.
    pub prefix: Option<String>,
    /// Its columns.
    pub columns: Vec<ColumnDef>,
    /// Named levels, outer first.
    pub hierarchies: Vec<(String, Vec<u32>)>,
    /// The date column, where the table is a calendar.
    pub calendar: Option<u32>,
    /// Where the calendar's years and weeks begin.
    pub rules: CalendarRules,
    /// How many of its columns, the first, come from its query.
    pub given_by_query: usize,
}

/// Many rows point at one row.
#[derive(Clone, Debug)]
pub struct RelationshipDef {
    /// The table that points.
    pub many: TableId,
    /// Its columns, in the order of `one_columns`.
    pub many_columns: Vec<u32>,
    /// The table pointed at.
    pub one: TableId,
    /// Its key.
    pub one_columns: Vec<u32>,
    /// Followed only where a formula names it.
    pub spare: bool,
    /// Filters travel back, too.
    pub both_ways: bool,
    /// Which row of the one side a row points at.
    pub matching: Matching,
}

/// What the schema knows of a measure.
#[derive(Clone, Debug)]
pub struct MeasureDef {
    /// Its name in formulas.
    pub name: String,
    /// What people read instead.
    pub label: Option<String>,
    /// A pattern for its values.
    pub format: Option<String>,
    /// Not listed for people.
    pub hidden: bool,
    /// Where it is listed.
    pub group: Option<String>,
    /// What it means.
    pub note: Option<String>,
    /// Its formula, as written.
    pub source: Arc<Source>,
    /// Its formula, typed; none while it is being checked, or when it is wrong.
    pub expr: Option<Arc<TypedExpr>>,
    /// What is wrong with it, or with a measure that it uses.
    pub wrong: Option<Arc<Diagnostic>>,
}

/// Another way to see any figure (language reference, section 10).
#[derive(Clone, Debug)]
pub struct LensDef {
    /// Its name in queries.
    pub name: String,
    /// What people read instead.
    pub label: Option<String>,
    /// The lenses whose result this one is applied to, where both are in one query.
    pub wraps: Vec<String>,
    /// In display order.
    pub readings: Vec<ReadingDef>,
}

/// One way in which a lens shows a figure.
#[derive(Clone, Debug)]
pub struct ReadingDef {
    /// Its name in queries.
    pub name: String,
    /// What people read instead.
    pub label: Option<String>,
    /// A pattern for its values, in place of the figure's own.
    pub format: Option<String>,
    /// Its formula, as written.
    pub source: Arc<Source>,
    /// Its formula, in which `shown` stands for the figure.
    pub expr: Arc<ast::Expr>,
}

/// Spare relationships that stand in for the default paths between two tables, innermost last.
pub type Detours = Vec<RelationshipId>;

/// Everything that formulas can name.
#[derive(Clone, Debug, Default)]
pub struct Schema {
    /// By [`TableId`].
    pub tables: Vec<TableDef>,
    /// By [`RelationshipId`].
    pub relationships: Vec<RelationshipDef>,
    /// By [`MeasureId`].
    pub measures: Vec<MeasureDef>,
    /// Lenses.
    pub lenses: Vec<LensDef>,
}

impl Schema {
    /// A table's definition.
    pub fn table(&self, id: TableId) -> &TableDef {
        &self.tables[id.0 as usize]
    }

    /// A column's definition.
    pub fn column(&self, id: ColumnId) -> &ColumnDef {
        &self.table(id.table).columns[id.index as usize]
    }

    /// A relationship's definition.
    pub fn relationship(&self, id: RelationshipId) -> &RelationshipDef {
        &self.relationships[id.0 as usize]
    }

    /// A measure's definition.
    pub fn measure(&self, id: MeasureId) -> &MeasureDef {
        &self.measures[id.0 as usize]
    }

    /// `table.column`, quoted where it must be.
    pub fn column_name(&self, id: ColumnId) -> String {
        let quote = super::words::quote_name;
        format!("{}.{}", quote(&self.table(id.table).name), quote(&self.column(id).name))
    }

    /// The names of all tables; what who asks may not see has none.
    pub fn table_names(&self) -> Vec<&str> {
        self.tables.iter().map(|t| t.name.as_str()).filter(|name| !name.is_empty()).collect()
    }

    /// The names of a table's columns.
    pub fn column_names(&self, table: TableId) -> Vec<&str> {
        self.table(table).columns.iter().map(|c| c.name.as_str()).filter(|name| !name.is_empty()).collect()
    }

    /// The table of a name.
    pub fn find_table(&self, name: &str) -> Option<TableId> {
        self.tables.iter().position(|t| is_called(&t.name, name)).map(|i| TableId(i as u32))
    }

    /// The column of a name in a table.
    pub fn find_column(&self, table: TableId, name: &str) -> Option<ColumnId> {
        let index = self.table(table).columns.iter().position(|c| is_called(&c.name, name))?;
        Some(ColumnId { table, index: index as u32 })
    }

    /// The measure of a name.
    pub fn find_measure(&self, name: &str) -> Option<MeasureId> {
        self.measures.iter().position(|m| is_called(&m.name, name)).map(|i| MeasureId(i as u32))
    }

    /// The relationships that start at a table and have all of these columns of it.
    pub fn relationships_of(&self, columns: &[ColumnId]) -> Vec<RelationshipId> {
        let has_all = |id: &RelationshipId| {
            let r = self.relationship(*id);
            columns.iter().all(|c| r.many == c.table && r.many_columns.contains(&c.index))
        };
        (0..self.relationships.len() as u32).map(RelationshipId).filter(has_all).collect()
    }

    /// The many side of a relationship, as `via` names it.
    pub fn many_side(&self, id: RelationshipId) -> String {
        let r = self.relationship(id);
        self.side(r.many, &r.many_columns)
    }

    /// A relationship, from the many side to the one side.
    pub fn show_relationship(&self, id: RelationshipId) -> String {
        let r = self.relationship(id);
        format!("{} → {}", self.side(r.many, &r.many_columns), self.side(r.one, &r.one_columns))
    }

    fn side(&self, table: TableId, columns: &[u32]) -> String {
        let names: Vec<String> = columns.iter().map(|c| self.column_name(ColumnId { table, index: *c })).collect();
        if names.len() == 1 { names.concat() } else { format!("({})", names.join(", ")) }
    }

    /// The tables that `from` can look values up in, each with the relationships that lead there, `from` itself with
    /// none. A detour takes the place of every default path from its many side to its one side, also where that is the
    /// same table; the last one wins.
    pub fn reach(&self, from: TableId, detours: &[RelationshipId]) -> HashMap<TableId, Vec<RelationshipId>> {
        self.reach_within(from, detours, 0)
    }

    fn reach_within(
        &self,
        from: TableId,
        detours: &[RelationshipId],
        depth: usize,
    ) -> HashMap<TableId, Vec<RelationshipId>> {
        let leads = |id: &RelationshipId| (self.relationship(*id).many, self.relationship(*id).one);
        // Cycles are refused when a model is checked; while it is being checked, they must not hang.
        if depth > self.tables.len() {
            return HashMap::from([(from, Vec::new())]);
        }
        if let Some(to_itself) = detours.iter().rfind(|id| leads(id) == (from, from)) {
            let others: Vec<RelationshipId> = detours.iter().copied().filter(|id| leads(id) != (from, from)).collect();
            let mut found = self.reach_within(from, &others, depth);
            found.values_mut().for_each(|path| path.insert(0, *to_itself));
            return found;
        }
        let mut active: HashMap<TableId, RelationshipId> = HashMap::new();
        for id in detours.iter().filter(|id| leads(id).0 == from) {
            active.insert(leads(id).1, *id);
        }
        let mut found = HashMap::from([(from, Vec::new())]);
        for id in active.values() {
            for (table, path) in self.beyond(*id, detours, depth) {
                if table != from {
                    found.insert(table, path);
                }
            }
        }
        for id in self.steps(from).filter(|id| !active.contains_key(&leads(id).1)) {
            for (table, path) in self.beyond(id, detours, depth) {
                if !path.iter().any(|r| active.contains_key(&leads(r).1)) {
                    found.entry(table).or_insert(path);
                }
            }
        }
        found
    }

    /// What is reached through one relationship.
    fn beyond(
        &self,
        id: RelationshipId,
        detours: &[RelationshipId],
        depth: usize,
    ) -> Vec<(TableId, Vec<RelationshipId>)> {
        let inner = self.reach_within(self.relationship(id).one, detours, depth + 1);
        inner
            .into_iter()
            .map(|(table, mut path)| {
                path.insert(0, id);
                (table, path)
            })
            .collect()
    }

    /// The default relationships that leave a table.
    fn steps(&self, from: TableId) -> impl Iterator<Item = RelationshipId> + '_ {
        (0..self.relationships.len() as u32).map(RelationshipId).filter(move |id| {
            let r = self.relationship(*id);
            r.many == from && !r.spare
        })
    }

    /// Two tables between which filters would travel in two ways, if there are any; with some more relationships that
    /// filter both ways.
    pub fn second_way(&self, both_ways: &[RelationshipId]) -> Option<(TableId, TableId)> {
        let back = |id: RelationshipId| self.relationship(id).both_ways || both_ways.contains(&id);
        let all: Vec<RelationshipId> = (0..self.relationships.len() as u32).map(RelationshipId).collect();
        // Filters travel from the one side to the many side, and back where a relationship says so.
        let edges: Vec<(TableId, TableId, RelationshipId)> = all
            .into_iter()
            .filter(|id| !self.relationship(*id).spare)
            .flat_map(|id| {
                let r = self.relationship(id);
                let backward = back(id).then_some((r.many, r.one, id));
                [(r.one, r.many, id)].into_iter().chain(backward)
            })
            .collect();
        if !edges.iter().any(|(from, _, id)| self.relationship(*id).many == *from) {
            return None;
        }
        (0..self.tables.len() as u32).map(TableId).find_map(|from| {
            let mut times = vec![0usize; self.tables.len()];
            times[from.0 as usize] = 1;
            travel(&edges, from, &mut Vec::new(), &mut times);
            let second = times.iter().position(|n| *n > 1)?;
            Some((from, TableId(second as u32)))
        })
    }

    /// Every default path between two tables, for checking that there is at most one.
    pub fn all_paths(&self, from: TableId, to: TableId) -> Vec<Vec<RelationshipId>> {
        let mut paths = Vec::new();
        self.walk(from, to, &mut Vec::new(), &mut paths);
        paths
    }

    fn walk(&self, at: TableId, to: TableId, path: &mut Vec<RelationshipId>, paths: &mut Vec<Vec<RelationshipId>>) {
        if at == to && !path.is_empty() {
            paths.push(path.clone());
            return;
        }
        if path.len() > self.tables.len() || paths.len() > 8 {
            return;
        }
        for id in self.steps(at).collect::<Vec<_>>() {
            path.push(id);
            self.walk(self.relationship(id).one, to, path, paths);
            path.pop();
        }
    }
}

/// Whether something has a name; what who asks may not see has none.
fn is_called(own: &str, name: &str) -> bool {
    !own.is_empty() && own == name
}

/// Counts in how many ways each table is come to, no relationship being taken twice on one way.
fn travel(
    edges: &[(TableId, TableId, RelationshipId)],
    at: TableId,
    taken: &mut Vec<RelationshipId>,
    times: &mut [usize],
) {
    for (from, to, id) in edges {
        if *from == at && !taken.contains(id) {
            times[to.0 as usize] += 1;
            if times[to.0 as usize] > 1 {
                return;
            }
            taken.push(*id);
            travel(edges, *to, taken, times);
            taken.pop();
        }
    }
}
