//! Filters in words, and the rows that they leave in each table.

use std::collections::BTreeMap;

use super::answer::{WhyFilter, WhyTable};
use super::explained::{Explained, literal, written};
use crate::Error;
use cubrel_formula::schema::{ColumnId, RelationshipId, TableId};
use cubrel_plan::{Assembly, DimId, Filter, FilterOrigin, FilterTest, Key, Leaf, Planner, Scope, relationship_name};
use cubrel_run::{Members, OneCell};
use cubrel_value::days::DaySet;
use cubrel_value::{Value, date};

fn origin(origin: FilterOrigin) -> &'static str {
    match origin {
        FilterOrigin::RowAxis => "row axis",
        FilterOrigin::ColumnAxis => "column axis",
        FilterOrigin::Where => "where",
        FilterOrigin::Edit => "edit",
        FilterOrigin::BoundRow => "bound row",
        FilterOrigin::Per => "per",
        FilterOrigin::Let => "let",
    }
}

/// Days in words.
pub(super) fn days_text(days: &DaySet) -> String {
    let run = |(a, b): &(i32, i32)| {
        if a == b {
            date::date_to_string(*a)
        } else {
            format!("{} to {}", date::date_to_string(*a), date::date_to_string(*b))
        }
    };
    match days.runs() {
        [] => "no day".into(),
        [one] => run(one),
        runs if runs.len() <= 3 => runs.iter().map(run).collect::<Vec<_>>().join(", "),
        runs => {
            let count: i64 = runs.iter().map(|(a, b)| i64::from(b - a) + 1).sum();
            let (first, last) = (runs[0].0, runs[runs.len() - 1].1);
            format!("{count} days from {} to {}", date::date_to_string(first), date::date_to_string(last))
        }
    }
}

impl Explained<'_> {
    /// The filters of a scope, in its one cell.
    pub(super) fn filters(&self, scope: &Scope, cell: &OneCell<'_, '_>) -> Vec<WhyFilter> {
        let dims = scope.dims.iter().zip(cell.codes()).filter(|(dim, _)| dim.filters).filter_map(|(dim, code)| {
            let text = match dim.key {
                Key::Column(column) => self.equals(column, code),
                Key::Row(table) => self.row_name(table, code),
                Key::Value(_) => return None,
            };
            Some(WhyFilter { text, origin: origin(dim.origin) })
        });
        let shared = scope.filters.iter().map(|f| self.filter(f, scope, cell));
        dims.chain(shared).collect()
    }

    pub(super) fn equals(&self, column: ColumnId, code: u64) -> String {
        let name = self.schema.column_name(column);
        match self.tables.column(column).value_of(code) {
            Value::Null => format!("{name} is null"),
            value => format!("{name} = {}", literal(&value)),
        }
    }

    /// A row, by the first column that tells rows apart well.
    pub(super) fn row_name(&self, table: TableId, row: u64) -> String {
        let (name, tables) = (&self.schema.table(table).name, self.tables);
        let key = (0..self.schema.table(table).columns.len() as u32)
            .map(|index| ColumnId { table, index })
            // What who asks may not see has no name.
            .filter(|c| !self.schema.column(*c).name.is_empty())
            .find(|c| tables.column(*c).distinct() as usize == tables.rows(table));
        match key {
            Some(key) if (row as usize) < tables.rows(table) => {
                let data = tables.column(key);
                format!("the row of {name} with {}", self.equals(key, data.code(row as usize)))
            }
            _ => format!("row {} of {name}", row + 1),
        }
    }

    fn filter(&self, filter: &Filter, scope: &Scope, cell: &OneCell<'_, '_>) -> WhyFilter {
        let held = |slot| {
            let dim = scope.dims.iter().rposition(|d| d.key == Key::Value(slot))?;
            cell.held(DimId::new(dim))?.members()
        };
        let text = match &filter.test {
            FilterTest::Predicate(p) => match p.days.and_then(held) {
                Some(Members::Days(days)) => {
                    format!("{} in {}", self.schema.column_name(p.columns[0]), days_text(days))
                }
                _ => written(&p.test.scalar.place),
            },
            FilterTest::Projected(p, kept) => {
                let kept: Vec<String> = kept.iter().map(|c| self.schema.column_name(*c)).collect();
                format!("what `{}` leaves in {}", written(&p.test.scalar.place), kept.join(", "))
            }
            FilterTest::Lines { kept, .. } => {
                let kept: Vec<String> = kept.iter().map(|c| self.schema.column_name(*c)).collect();
                format!("{} of the lines that the limit drops", kept.join(", "))
            }
        };
        WhyFilter { text, origin: origin(filter.origin) }
    }

    /// The tables that an assembly aggregates, where the context is that of the whole.
    fn fact_tables(&self, assembly: &Assembly, cell: &OneCell<'_, '_>, found: &mut Vec<TableId>) {
        for leaf in &assembly.leaves {
            let table = match leaf {
                Leaf::Read(read, _) => Some(cell.read(read).table),
                Leaf::OverDays(over) => Some(cell.read(&over.by_set).table),
                Leaf::Part(body) | Leaf::Project { body, .. } | Leaf::Bind { body, .. } => {
                    self.fact_tables(body, cell, found);
                    None
                }
                Leaf::Period(period) => {
                    self.fact_tables(&period.body, cell, found);
                    None
                }
                Leaf::Fold(fold) => {
                    fold.args.iter().for_each(|a| self.fact_tables(a, cell, found));
                    None
                }
                Leaf::Rank(rank) => {
                    self.fact_tables(&rank.mine, cell, found);
                    None
                }
                Leaf::Dim(_) | Leaf::Current { .. } | Leaf::Member(..) => None,
            };
            found.extend(table.filter(|t| !found.contains(t)));
        }
    }

    /// The rows left in each table that a filter reaches, far ones first, and in the tables that are aggregated.
    pub(super) fn tables_left(&self, assembly: &Assembly, cell: &OneCell<'_, '_>) -> Result<Vec<WhyTable>, Error> {
        let mut facts = Vec::new();
        self.fact_tables(assembly, cell, &mut facts);
        let scope = &assembly.scope;
        let mut list: Vec<(usize, TableId, String)> = Vec::new();
        for fact in &facts {
            let reach: BTreeMap<TableId, Vec<RelationshipId>> =
                self.schema.reach(*fact, &scope.detours).into_iter().collect();
            for (table, path) in reach {
                let known = list.iter().any(|(_, t, _)| *t == table);
                if known || !(path.is_empty() || self.has_filter(table, scope)) {
                    continue;
                }
                let steps = path.iter().map(|r| relationship_name(self.schema, *r));
                list.push((path.len(), table, steps.collect::<Vec<_>>().join(" → ")));
            }
        }
        list.sort_by(|a, b| b.0.cmp(&a.0).then(a.1.cmp(&b.1)));
        let mut tables = Vec::new();
        for (_, table, by) in list {
            let rows = self.tables.rows(table) as u64;
            tables.push(WhyTable {
                table: self.schema.table(table).name.clone(),
                rows,
                left: cell.rows_left(table, scope)?,
                by,
            });
        }
        Ok(tables)
    }

    /// Whether some filter reaches a table.
    fn has_filter(&self, table: TableId, scope: &Scope) -> bool {
        let mut planner = Planner::new(self.schema);
        let (read, _) = planner.read(table, scope, None);
        let reads = planner.into_list();
        let read = &reads[read.read];
        !read.keys.is_empty() || !read.filters.is_empty() || !read.bridges.is_empty()
    }
}
