//! The schema of a model, and everything that is wrong with it.

use crate::file::HierarchySection;
use cubrel_formula::source::suggestion;
use std::collections::HashMap;
use std::sync::Arc;

use super::calendar;
use super::dependencies::{FormulaNode, Formulas};
use super::document::Document;
use super::file::TableSection;
use super::paths::column_path;
use super::roles::RoleDef;
use cubrel_formula::ast;
use cubrel_formula::check::{self, Settings, surprises};
use cubrel_formula::parser;
use cubrel_formula::schema::{
    ColumnDef, ColumnId, Computed, LensDef, MeasureDef, MeasureId, ReadingDef, RelationshipDef, RelationshipId, Schema,
    TableDef, TableId,
};
use cubrel_formula::source::{Diagnostic, Problem, Severity, Source};
use cubrel_formula::typed::TypedExpr;
use cubrel_value::days::CalendarRules;
use cubrel_value::{Matching, Type, exact, format, units};

/// The columns that a table has, as loading found them.
#[derive(Clone, Debug)]
pub struct TableShape {
    /// Its name.
    pub name: String,
    /// Its columns, those computed after loading included.
    pub columns: Vec<ShapeColumn>,
    /// How many of them, the first, its query gives.
    pub given_by_query: usize,
    /// Those that it shares with the table that it is a copy of, and that are computed after loading.
    pub shared: Vec<String>,
}

impl TableShape {
    /// The place of a column.
    fn place(&self, name: &str) -> Option<u32> {
        self.columns.iter().position(|c| c.name == name).map(|i| i as u32)
    }
}

/// A column that loading found or that a formula makes.
#[derive(Clone, Debug)]
pub struct ShapeColumn {
    /// Its name.
    pub name: String,
    /// Its type; `Null` while its formula is not checked.
    pub ty: Type,
    /// When its values come to be.
    pub computed: Computed,
}

/// A checked model.
#[derive(Debug)]
pub struct Defined {
    /// What formulas can name.
    pub schema: Schema,
    /// What to compute after loading, in order.
    pub after: Vec<Step>,
    /// Who sees what.
    pub roles: Vec<RoleDef>,
    /// What keeps the model from being used, and what is surprising.
    pub problems: Vec<Diagnostic>,
    /// What keeps measures from being used, and nothing else.
    pub of_measures: Vec<Diagnostic>,
}

impl Defined {
    /// Whether something is wrong with the whole of the model.
    pub fn has_errors(&self) -> bool {
        self.problems.iter().any(|p| p.severity == Severity::Error)
    }

    /// All that is wrong or surprising, once each.
    pub fn all_problems(self) -> Vec<Diagnostic> {
        let mut all = self.of_measures;
        for problem in self.problems {
            if !all.iter().any(|p| p.is_same(&problem)) {
                all.push(problem);
            }
        }
        all
    }
}

/// The columns that a query gives, found by the layer that knows queries.
pub type QueryColumns<'a> = &'a dyn Fn(&Schema, &Settings, &Arc<Source>) -> Result<Vec<QueryColumn>, Vec<Diagnostic>>;

/// A column that a query gives.
#[derive(Clone, Debug)]
pub struct QueryColumn {
    /// The type of its values.
    pub ty: Type,
    /// What people read over it.
    pub label: Option<String>,
    /// A pattern for its values.
    pub format: Option<String>,
}

/// Makes the schema and checks everything.
pub fn define(
    document: &Document,
    formulas: &Formulas,
    shapes: &[TableShape],
    settings: &Settings,
    queries: QueryColumns<'_>,
) -> Defined {
    let mut definer = Definer {
        document,
        schema: Schema::default(),
        places: Vec::new(),
        copies: Vec::new(),
        after: Vec::new(),
        problems: formulas.problems.clone(),
        of_measures: formulas.of_measures.clone(),
    };
    for shape in shapes {
        definer.table(shape);
        definer.own_columns_of_copy(shape);
    }
    definer.find_copies(formulas, shapes);
    definer.names_of_scope();
    for i in 0..document.file.relationship.len() {
        definer.relationship(i);
    }
    definer.paths();
    definer.ways_back();
    definer.measures(formulas);
    definer.formulas(formulas, settings, queries);
    definer.types_of_keys();
    definer.lenses(settings);
    definer.formats();
    let (roles, problems) = super::roles::roles(document, &definer.schema, formulas, settings);
    definer.problems.extend(problems);
    let Definer { schema, after, problems, of_measures, .. } = definer;
    Defined { schema, after, roles, problems, of_measures }
}

/// One thing that is computed after loading.
#[derive(Clone, Debug)]
pub enum Step {
    /// A calculated column.
    Column(ColumnId, Arc<TypedExpr>, Arc<Source>),
    /// A table, by its query.
    Table(TableId, Arc<Source>),
    /// The column of a copy, which is that of the first table.
    Shared(ColumnId, ColumnId),
}

impl Step {
    /// The column that it makes, if it is one.
    pub fn column(&self) -> Option<ColumnId> {
        match self {
            Step::Column(id, ..) | Step::Shared(id, _) => Some(*id),
            Step::Table(..) => None,
        }
    }

    /// Its formula or query.
    pub fn source(&self) -> Option<&Arc<Source>> {
        match self {
            Step::Column(.., source) | Step::Table(_, source) => Some(source),
            Step::Shared(..) => None,
        }
    }

    /// What people call it.
    pub fn show(&self, schema: &Schema) -> String {
        match self {
            Step::Column(id, ..) | Step::Shared(id, _) => schema.column_name(*id),
            Step::Table(table, _) => schema.table(*table).name.clone(),
        }
    }
}

struct Definer<'a> {
    document: &'a Document,
    schema: Schema,
    /// By relationship of the schema, its place in the file.
    places: Vec<usize>,
    /// Columns of copies, with those of the first tables that they share.
    copies: Vec<(ColumnId, ColumnId)>,
    after: Vec<Step>,
    problems: Vec<Diagnostic>,
    of_measures: Vec<Diagnostic>,
}

impl Definer<'_> {
    fn problem(&mut self, problem: Problem, path: &str, message: String, help: String) {
        self.problems.push(self.document.problem(problem, path, message).help(help));
    }

    /// The section of a table; for a copy, that of the first.
    fn section(&self, name: &str) -> TableSection {
        let own = self.document.file.table.get(name).cloned().unwrap_or_default();
        match own.same_as.as_ref().and_then(|of| self.document.file.table.get(of)) {
            None => own,
            Some(first) => {
                let mut merged = first.clone();
                merged.prefix = own.prefix;
                merged.label = own.label;
                merged.note = own.note;
                merged.hidden = own.hidden;
                for (column, section) in own.column {
                    merged.column.insert(column, section);
                }
                merged
            }
        }
    }

    fn table(&mut self, shape: &TableShape) {
        let section = self.section(&shape.name);
        let path = format!("table.{}", shape.name);
        let columns = self.columns(&path, shape, &section);
        for (name, said) in &section.column {
            if said.keep != Some(false) {
                self.place(shape, name, || format!("{path}.column.{name}"));
            }
        }
        let hierarchies = self.hierarchies(&path, shape, &section);
        for (key, column) in [("key", &section.key), ("calendar", &section.calendar)] {
            if let Some(name) = column {
                self.place(shape, name, || format!("{path}.{key}"));
            }
        }
        if section.query.is_some() && (section.source.is_some() || section.same_as.is_some()) {
            let message = format!("table `{}` has a source and a query", shape.name);
            let help = "leave one of them out: a query makes the table from the others".to_string();
            self.problem(Problem::Model, &format!("{path}.query"), message, help);
        }
        let rules = calendar::rules(self.document, &shape.name, &section).unwrap_or_else(|problem| {
            self.problems.push(problem);
            CalendarRules::default()
        });
        self.schema.tables.push(TableDef {
            name: shape.name.clone(),
            label: section.label.clone(),
            prefix: section.prefix.clone(),
            columns,
            hierarchies,
            calendar: section.calendar.as_ref().and_then(|c| shape.place(c)),
            rules,
            given_by_query: shape.given_by_query,
        });
    }

    /// The place of a column in its table; a problem, at the key that names it, where there is none.
    fn place(&mut self, shape: &TableShape, name: &str, key: impl FnOnce() -> String) -> Option<u32> {
        let place = shape.place(name);
        if place.is_none() {
            let names: Vec<&str> = shape.columns.iter().map(|c| c.name.as_str()).collect();
            let message = format!("table `{}` has no column `{name}`", shape.name);
            self.problem(Problem::UnknownName, &key(), message, suggestion(name, &names));
        }
        place
    }

    fn columns(&mut self, path: &str, shape: &TableShape, section: &TableSection) -> Vec<ColumnDef> {
        let generated = section.generate.is_some()
            || (section.calendar.is_some() && section.source.is_none() && section.query.is_none());
        let mut columns = Vec::new();
        for column in &shape.columns {
            let said = section.column.get(&column.name).cloned().unwrap_or_default();
            let (day_kind, order) = if generated { calendar::traits_of(&column.name) } else { (false, None) };
            let order = said.display_order.clone().or(order.map(str::to_string));
            let key = || format!("{path}.column.{}.display_order", column.name);
            columns.push(ColumnDef {
                name: column.name.clone(),
                label: said.label,
                ty: column.ty,
                hidden: said.hidden,
                format: said.format,
                display_order: order.and_then(|by| self.place(shape, &by, key)),
                computed: column.computed,
                day_kind: said.day_kind.unwrap_or(day_kind),
            });
        }
        columns
    }

    fn hierarchies(&mut self, path: &str, shape: &TableShape, section: &TableSection) -> Vec<(String, Vec<u32>)> {
        let of_levels = |(name, hierarchy): (&String, &HierarchySection)| {
            let levels = hierarchy.levels.iter().enumerate();
            let key = |i| format!("{path}.hierarchy.{name}.levels.{i}");
            let levels = levels.filter_map(|(i, level)| self.place(shape, level, || key(i))).collect();
            (name.clone(), levels)
        };
        section.hierarchy.iter().map(of_levels).collect()
    }

    /// A copy cannot compute anew what it shares.
    fn own_columns_of_copy(&mut self, shape: &TableShape) {
        let Some(section) = self.document.file.table.get(&shape.name) else { return };
        let Some(first) = &section.same_as else { return };
        let is_taken = |name: &String| {
            let loaded = shape.columns.iter().any(|c| c.name == *name && c.computed != Computed::After);
            loaded || shape.shared.contains(name)
        };
        for (name, _) in section.column.iter().filter(|(name, said)| said.formula.is_some() && is_taken(name)) {
            let key = format!("table.{}.column.{name}.formula", shape.name);
            let message = format!("`{name}` is a column that table `{}` shares with `{first}`", shape.name);
            self.problem(Problem::Duplicate, &key, message, "give the calculated column another name".into());
        }
    }

    /// Which columns are shared and computed after loading.
    fn find_copies(&mut self, formulas: &Formulas, shapes: &[TableShape]) {
        for shape in shapes {
            let first = formulas.copies.get(&shape.name).and_then(|first| self.schema.find_table(first));
            let (Some(copy), Some(first)) = (self.schema.find_table(&shape.name), first) else { continue };
            let pair =
                |name: &String| Some((self.schema.find_column(copy, name)?, self.schema.find_column(first, name)?));
            let pairs: Vec<(ColumnId, ColumnId)> = shape.shared.iter().filter_map(pair).collect();
            self.copies.extend(pairs);
        }
    }

    /// What is known of a column now holds for those that share it.
    fn share(&mut self, first: ColumnId) {
        let copies: Vec<ColumnId> = self.copies.iter().filter(|(_, f)| *f == first).map(|(copy, _)| *copy).collect();
        let def = self.schema.column(first).clone();
        for copy in copies {
            let own = &mut self.schema.tables[copy.table.0 as usize].columns[copy.index as usize];
            own.ty = def.ty;
            own.label = own.label.take().or(def.label.clone());
            own.format = own.format.take().or(def.format.clone());
            self.after.push(Step::Shared(copy, first));
        }
    }

    /// Tables, measures and hierarchies share one scope.
    fn names_of_scope(&mut self) {
        let file = &self.document.file;
        let mut owners: HashMap<&str, String> = HashMap::new();
        let tables = file.table.keys().map(|t| (t.as_str(), format!("table.{t}"), "table"));
        let measures = file.measure.keys().map(|m| (m.as_str(), format!("measure.{m}"), "measure"));
        let hierarchies = file.table.iter().flat_map(|(t, section)| {
            section.hierarchy.keys().map(move |h| (h.as_str(), format!("table.{t}.hierarchy.{h}"), "hierarchy"))
        });
        let mut clashes = Vec::new();
        let lenses = file.lens.keys().map(|l| (l.as_str(), format!("lens.{l}"), "lens"));
        for (name, path, what) in tables.chain(measures).chain(hierarchies).chain(lenses) {
            if let Some(other) = owners.insert(name, format!("the {what} at {path}")) {
                clashes.push((path, format!("`{name}` is also {other}"), what));
            }
        }
        for (path, message, what) in clashes {
            self.problem(Problem::Duplicate, &path, message, format!("give the {what} another name"));
        }
    }

    fn relationship(&mut self, i: usize) {
        let section = &self.document.file.relationship[i];
        let path = format!("relationship.{i}");
        let many = self.side(section.many.list(), &format!("{path}.many"));
        let one = self.side(section.one.list(), &format!("{path}.one"));
        let (Some((many, many_columns)), Some((one, one_columns))) = (many, one) else {
            return;
        };
        if many_columns.len() != one_columns.len() {
            let message = format!(
                "{} cannot point at {}",
                units::counted(many_columns.len() as u64, "column"),
                one_columns.len()
            );
            self.problem(Problem::Model, &path, message, "name the columns of both sides in the same order".into());
            return;
        }
        self.places.push(i);
        self.schema.relationships.push(RelationshipDef {
            many,
            many_columns,
            one,
            one_columns,
            spare: section.spare,
            both_ways: section.both_ways,
            matching: section.matching,
        });
    }

    /// The table and columns of one side.
    fn side(&mut self, names: &[String], path: &str) -> Option<(TableId, Vec<u32>)> {
        let mut found: Option<(TableId, Vec<u32>)> = None;
        for name in names {
            let Some((table, column)) = column_path(name) else {
                let help = "write `table.column`, with double quotes around names that hold points".into();
                self.problem(Problem::Model, path, format!("`{name}` is not a column"), help);
                return None;
            };
            let (table, column) = (table.as_str(), column.as_str());
            let Some(id) = self.schema.find_table(table) else {
                let tables: Vec<&str> = self.schema.tables.iter().map(|t| t.name.as_str()).collect();
                let help = suggestion(table, &tables);
                self.problem(Problem::UnknownName, path, format!("there is no table `{table}`"), help);
                return None;
            };
            let Some(column_id) = self.schema.find_column(id, column) else {
                let columns: Vec<&str> = self.schema.table(id).columns.iter().map(|c| c.name.as_str()).collect();
                let help = suggestion(column, &columns);
                self.problem(Problem::UnknownName, path, format!("table `{table}` has no column `{column}`"), help);
                return None;
            };
            match &mut found {
                None => found = Some((id, vec![column_id.index])),
                Some((first, columns)) if *first == id => columns.push(column_id.index),
                Some(_) => {
                    self.problem(
                        Problem::Model,
                        path,
                        "the columns of one side belong to one table".into(),
                        "a relationship has two sides, each one table".into(),
                    );
                    return None;
                }
            }
        }
        found
    }

    /// Between two tables there is at most one way without naming a relationship, and none leads back.
    fn paths(&mut self) {
        let count = self.schema.tables.len() as u32;
        for from in (0..count).map(TableId) {
            for to in (0..count).map(TableId) {
                let ways = self.schema.all_paths(from, to);
                let (a, b) = (self.schema.table(from).name.clone(), self.schema.table(to).name.clone());
                if from == to && !ways.is_empty() {
                    let message = format!("the relationships from `{a}` lead back to it");
                    self.problem(Problem::Path, &self.path_of(&ways[0]), message, "make one of them spare".into());
                } else if ways.len() > 1 {
                    let shown: Vec<String> = ways.iter().take(3).map(|w| self.show_path(w)).collect();
                    let message = format!("two ways lead from `{a}` to `{b}`: {}", shown.join("; "));
                    let help = "make one of them `spare = true` and name it where it is wanted, or add a table that is `same_as` the other".into();
                    self.problem(Problem::Path, &self.path_of(&ways[1]), message, help);
                }
            }
        }
    }

    /// Filters reach a table in one way, also where relationships filter both ways.
    fn ways_back(&mut self) {
        let Some((a, b)) = self.schema.second_way(&[]) else { return };
        let (a, b) = (self.schema.table(a).name.clone(), self.schema.table(b).name.clone());
        let at = self.document.file.relationship.iter().position(|r| r.both_ways).unwrap_or(0);
        let message = if a == b {
            format!("filters on `{a}` come back to it, because relationships filter both ways")
        } else {
            format!("filters on `{a}` reach `{b}` in two ways, because relationships filter both ways")
        };
        let help = "leave `both_ways` out here and say it in the formulas that need it: `x both_ways t.c`";
        self.problem(Problem::Path, &format!("relationship.{at}.both_ways"), message, help.into());
    }

    fn path_of(&self, way: &[RelationshipId]) -> String {
        self.path_of_relationship(way.last().map_or(0, |r| r.0 as usize))
    }

    /// Where a relationship of the schema stands in the file; those that are wrong are not in the schema.
    fn path_of_relationship(&self, i: usize) -> String {
        format!("relationship.{}", self.places.get(i).copied().unwrap_or(i))
    }

    fn show_path(&self, way: &[RelationshipId]) -> String {
        let steps = way.iter().map(|r| {
            let def = self.schema.relationship(*r);
            self.schema.column_name(ColumnId { table: def.many, index: def.many_columns[0] })
        });
        steps.collect::<Vec<_>>().join(" → ")
    }

    fn measures(&mut self, formulas: &Formulas) {
        for (name, section) in &self.document.file.measure {
            self.schema.measures.push(MeasureDef {
                name: name.clone(),
                label: section.label.clone(),
                format: section.format.clone(),
                hidden: section.hidden,
                group: section.group.clone(),
                note: section.note.clone(),
                source: self.document.formula(
                    format!("measure {name}"),
                    &format!("measure.{name}.formula"),
                    &section.formula,
                ),
                expr: None,
                wrong: formulas.wrong.get(name).cloned(),
            });
        }
    }

    /// Checks all formulas in the order in which they need each other.
    fn formulas(&mut self, formulas: &Formulas, settings: &Settings, queries: QueryColumns<'_>) {
        for node in &formulas.order {
            if let (FormulaNode::Table(name), Some(query)) = (node, formulas.queries.get(node)) {
                self.query_table(name, &query.source, settings, queries, formulas);
                continue;
            }
            let parsed = &formulas.parsed[node];
            match node {
                FormulaNode::Measure(name) => {
                    let Some(id) = self.schema.find_measure(name) else {
                        continue;
                    };
                    if self.schema.measure(id).wrong.is_some() {
                        continue;
                    }
                    let (expr, problems) = check::measure_formula(&self.schema, settings, &parsed.source, &parsed.expr);
                    if let Some(expr) = &expr {
                        self.problems.extend(surprises::of_formula(&self.schema, &parsed.source, expr));
                    }
                    let measure = &mut self.schema.measures[id.0 as usize];
                    measure.expr = expr.map(Arc::new);
                    measure.wrong =
                        problems.iter().find(|p| p.severity == Severity::Error).map(|p| Arc::new(p.clone()));
                    self.take_problems_of_measure(problems);
                }
                FormulaNode::Table(_) => {}
                FormulaNode::Column(table, column) => {
                    let table_id = self.schema.find_table(table);
                    let Some(id) = table_id.and_then(|t| self.schema.find_column(t, column)) else {
                        continue;
                    };
                    if self.needs_dropped(table, &parsed.expr) {
                        // It was checked while the column was there.
                        continue;
                    }
                    let (expr, problems) =
                        check::column_formula(&self.schema, settings, &parsed.source, id.table, &parsed.expr);
                    self.take_problems(problems, formulas);
                    let Some(expr) = expr else { continue };
                    self.problems.extend(surprises::of_column(&self.schema, &parsed.source, id, &expr));
                    if self.schema.column(id).computed != Computed::After {
                        continue;
                    }
                    let ty = self.stored_type(table, column, expr.ty);
                    self.schema.tables[id.table.0 as usize].columns[id.index as usize].ty = ty;
                    self.after.push(Step::Column(id, Arc::new(expr), parsed.source.clone()));
                    self.share(id);
                }
            }
        }
    }

    /// Readings are checked with a figure of the model, so that what is wrong with them is found before they are used.
    fn lenses(&mut self, settings: &Settings) {
        let figure = self.schema.measures.iter().position(|m| m.expr.as_ref().is_some_and(|e| e.ty.is_number()));
        let settings = Settings { shown: figure.map(|i| MeasureId(i as u32)), ..settings.clone() };
        for (name, section) in &self.document.file.lens {
            for (i, other) in section.wraps.iter().enumerate() {
                if !self.document.file.lens.contains_key(other) || other == name {
                    let names: Vec<&str> =
                        self.document.file.lens.keys().filter(|l| *l != name).map(String::as_str).collect();
                    let help = suggestion(other, &names);
                    let message = format!("there is no other lens `{other}`");
                    self.problem(Problem::UnknownName, &format!("lens.{name}.wraps.{i}"), message, help);
                }
            }
            let mut readings = Vec::new();
            for (reading, said) in &section.reading {
                let source = self.document.formula(
                    format!("lens {name}, reading {reading}"),
                    &format!("lens.{name}.reading.{reading}.formula"),
                    &said.formula,
                );
                let (expr, mut problems) = parser::formula(&source);
                if problems.is_empty() && figure.is_some() {
                    problems = check::measure_formula(&self.schema, &settings, &source, &expr).1;
                }
                self.problems.extend(problems);
                readings.push(ReadingDef {
                    name: reading.clone(),
                    label: said.label.clone(),
                    format: said.format.clone(),
                    source,
                    expr: Arc::new(expr),
                });
            }
            if readings.is_empty() {
                let message = format!("lens `{name}` has no reading");
                let help =
                    format!("add one: `[lens.{name}.reading.mtd]` with `formula = \"shown given (so_far(month))\"`");
                self.problem(Problem::Model, &format!("lens.{name}"), message, help);
            }
            self.schema.lenses.push(LensDef {
                name: name.clone(),
                label: section.label.clone(),
                wraps: section.wraps.clone(),
                readings,
            });
        }
        self.cycle_of_lenses();
    }

    /// No lens is applied to its own result.
    fn cycle_of_lenses(&mut self) {
        let count = self.schema.lenses.len();
        let place = |name: &String| self.schema.lenses.iter().position(|l| l.name == *name);
        for start in 0..count {
            let mut reached: Vec<usize> = Vec::new();
            let mut open = vec![start];
            while let Some(at) = open.pop() {
                for next in self.schema.lenses[at].wraps.iter().filter_map(place) {
                    if !reached.contains(&next) {
                        reached.push(next);
                        open.push(next);
                    }
                }
            }
            if reached.contains(&start) {
                let name = self.schema.lenses[start].name.clone();
                let message = format!("lens `{name}` would be applied to its own result");
                let path = format!("lens.{name}.wraps");
                self.problem(Problem::Cycle, &path, message, "let only one of two lenses wrap the other".into());
                return;
            }
        }
    }

    /// The columns of a table that a query works out.
    fn query_table(
        &mut self,
        name: &str,
        source: &Arc<Source>,
        settings: &Settings,
        queries: QueryColumns<'_>,
        formulas: &Formulas,
    ) {
        let Some(table) = self.schema.find_table(name) else { return };
        match queries(&self.schema, settings, source) {
            Err(problems) => self.take_problems(problems, formulas),
            Ok(columns) => {
                for (def, column) in self.schema.tables[table.0 as usize].columns.iter_mut().zip(columns) {
                    def.ty = stored_type(column.ty);
                    def.label = def.label.take().or(column.label);
                    def.format = def.format.take().or(column.format);
                }
                self.after.push(Step::Table(table, source.clone()));
                let given = self.schema.table(table).given_by_query as u32;
                (0..given).for_each(|index| self.share(ColumnId { table, index }));
            }
        }
    }

    /// Both sides of a relationship have one type, which is known of all columns once the formulas are checked.
    fn types_of_keys(&mut self) {
        let mut wrong = Vec::new();
        for (i, r) in self.schema.relationships.iter().enumerate() {
            for (m, o) in r.many_columns.iter().zip(&r.one_columns) {
                let (m, o) = (ColumnId { table: r.many, index: *m }, ColumnId { table: r.one, index: *o });
                let (a, b) = (self.schema.column(m).ty, self.schema.column(o).ty);
                // What has no type yet has a formula that is wrong.
                if a != b && !(a.is_exact() && b.is_exact()) && a != Type::Null && b != Type::Null {
                    let message =
                        format!("{} is {a} and {} is {b}", self.schema.column_name(m), self.schema.column_name(o));
                    wrong.push((self.path_of_relationship(i), message, self.help_for_keys(m, o)));
                }
            }
            wrong.extend(self.without_time(i, r));
        }
        for (path, message, help) in wrong {
            self.problem(Problem::Type, &path, message, help);
        }
    }

    /// What is newer can only be told by days and times.
    fn without_time(&self, i: usize, r: &RelationshipDef) -> Option<(String, String, String)> {
        let last = ColumnId { table: r.many, index: *r.many_columns.last()? };
        let ty = self.schema.column(last).ty;
        if r.matching == Matching::Exact || matches!(ty, Type::Date | Type::Timestamp | Type::Null) {
            return None;
        }
        let path = format!("{}.match", self.path_of_relationship(i));
        let message = format!("{} is {ty}: what is at or before it cannot be told", self.schema.column_name(last));
        Some((path, message, "the last column of the key has to be a date or timestamp".into()))
    }

    fn help_for_keys(&self, m: ColumnId, o: ColumnId) -> String {
        let how = if self.is_query(m.table) || self.is_query(o.table) {
            "turn one of them with `cast` in the query"
        } else if [m, o].iter().any(|c| self.schema.column(*c).computed != Computed::Source) {
            "turn one of them with `cast` in its formula"
        } else {
            "set `type` on one of the columns"
        };
        format!("both sides of a relationship have one type: {how}")
    }

    fn is_query(&self, table: TableId) -> bool {
        self.document.file.table.get(&self.schema.table(table).name).is_some_and(|s| s.query.is_some())
    }

    /// Whether a formula names a column that is there only while loading.
    fn needs_dropped(&self, table: &str, expr: &ast::Expr) -> bool {
        let Some(section) = self.document.file.table.get(table) else { return false };
        let dropped = |name: &str| section.column.get(name).is_some_and(|c| c.keep == Some(false));
        let mut found = false;
        expr.walk(&mut |e| {
            found |= match &e.kind {
                ast::ExprKind::Name(name) => dropped(&name.text),
                ast::ExprKind::Column(t, column) => t.text == table && dropped(&column.text),
                _ => false,
            };
        });
        found
    }

    /// Patterns have to be some for their type, and the locale has to be one.
    fn formats(&mut self) {
        let mut wrong = Vec::new();
        let mut look = |ty: Type, pattern: &Option<String>, path: String| {
            if let Some(pattern) = pattern
                && let Err(message) = format::check_pattern(ty, pattern)
            {
                wrong.push((path, message));
            }
        };
        for table in &self.schema.tables {
            for column in &table.columns {
                look(column.ty, &column.format, format!("table.{}.column.{}.format", table.name, column.name));
            }
        }
        for measure in &self.schema.measures {
            let ty = measure.expr.as_ref().map_or(Type::Null, |e| e.ty);
            look(ty, &measure.format, format!("measure.{}.format", measure.name));
        }
        let section = &self.document.file.model;
        if let Err(message) = format::Formats::new(section.locale.as_deref(), section.currency.as_deref()) {
            wrong.push(("model.locale".into(), message));
        }
        for (path, message) in wrong {
            self.problem(
                Problem::Model,
                &path,
                message,
                "patterns of numbers are like `#,##0.00`, locales like `en-GB`".into(),
            );
        }
    }

    /// A formula that could not be read has been reported already.
    fn take_problems(&mut self, problems: Vec<Diagnostic>, formulas: &Formulas) {
        let known = |p: &Diagnostic| formulas.problems.iter().any(|q| q.message == p.message && q.span == p.span);
        self.problems.extend(problems.into_iter().filter(|p| !known(p)));
    }

    /// Those of a measure that it uses are told already.
    fn take_problems_of_measure(&mut self, problems: Vec<Diagnostic>) {
        for problem in problems {
            if problem.severity != Severity::Error {
                self.problems.push(problem);
            } else if !self.of_measures.iter().any(|p| p.is_same(&problem)) {
                self.of_measures.push(problem);
            }
        }
    }

    fn stored_type(&mut self, table: &str, column: &str, natural: Type) -> Type {
        let section = self.document.file.table.get(table).and_then(|t| t.column.get(column));
        match section.and_then(|c| c.ty.as_deref()).and_then(Type::parse) {
            Some(ty) => ty,
            None => stored_type(natural),
        }
    }
}

/// The type of a column that holds values of a formula.
pub fn stored_type(natural: Type) -> Type {
    match natural {
        Type::Null => Type::Int,
        Type::Decimal { scale, .. } => Type::Decimal { precision: exact::STORED_DIGITS.max(scale), scale },
        other => other,
    }
}
