//! What a formula or a query names, and where.

use super::names::Names;
use crate::parts::Part;
use cubrel_formula::ast::{Aggregate, Edit, EditKind, Expr, ExprKind, Name, Per, Period, QueryTree, Target};
use cubrel_formula::source::Span;

/// The figure that a lens shows, in the formulas of its readings.
const SHOWN: &str = "shown";

/// Something that a text names.
#[derive(Clone, Debug, PartialEq)]
pub struct Named {
    /// What.
    pub part: Part,
    /// Where, all of it.
    pub span: Span,
    /// The names in it that have to change with what they stand for.
    pub spots: Vec<Spot>,
}

/// A name in a text.
#[derive(Clone, Debug, PartialEq)]
pub struct Spot {
    /// What it stands for.
    pub part: Part,
    /// Where, quotes included.
    pub span: Span,
    /// How it is written.
    pub form: NameForm,
}

/// How a name is written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum NameForm {
    /// In a formula, quoted where it is no plain word or a word of the language.
    Formula,
    /// In a formula, behind a point: quoted where it is no plain word.
    BehindPoint,
    /// The table of a column's path in the file: quoted where it holds points.
    PathTable,
    /// The column of such a path.
    PathColumn,
    /// By itself, as a whole text.
    Bare,
    /// As a key.
    Key,
}

/// What a formula names; `own` is the table whose columns need no table in front.
pub fn of_formula(names: &Names<'_>, own: Option<&str>, formula: &Expr) -> Vec<Named> {
    let mut reader = FormulaReader::new(names, own);
    reader.expr(formula);
    reader.done()
}

/// What a query names.
pub fn of_query(names: &Names<'_>, query: &QueryTree) -> Vec<Named> {
    let mut reader = FormulaReader::new(names, None);
    for (name, body) in &query.measures {
        reader.expr(body);
        // From here on the name is the query's own.
        reader.bound.push(name.text.clone());
    }
    query.items.iter().for_each(|item| reader.expr(&item.expr));
    query.by.iter().chain(&query.split).for_each(|target| reader.axis(target));
    query.filter.iter().chain(&query.having).for_each(|e| reader.expr(e));
    query.order.iter().for_each(|(e, _)| reader.expr(e));
    query.limit.iter().flat_map(|l| &l.within).for_each(|target| reader.axis(target));
    reader.done()
}

/// What an axis names.
pub fn of_axis(names: &Names<'_>, target: &Target) -> Vec<Named> {
    let mut reader = FormulaReader::new(names, None);
    reader.axis(target);
    reader.done()
}

struct FormulaReader<'n> {
    names: &'n Names<'n>,
    own: Option<&'n str>,
    /// Names of `let`s, and of measures that only a query knows.
    bound: Vec<String>,
    found: Vec<Named>,
    /// Whether it names something that is not there.
    names_unknown: bool,
}

impl<'n> FormulaReader<'n> {
    fn new(names: &'n Names<'n>, own: Option<&'n str>) -> FormulaReader<'n> {
        FormulaReader { names, own, bound: Vec::new(), found: Vec::new(), names_unknown: false }
    }

    /// What was found; nothing of a text that names what who asks may not see.
    fn done(self) -> Vec<Named> {
        if self.names_unknown && self.names.is_restricted { Vec::new() } else { self.found }
    }

    fn add(&mut self, part: Part, name: &Name) {
        let spot = Spot { part: part.clone(), span: name.span, form: NameForm::Formula };
        self.found.push(Named { part, span: name.span, spots: vec![spot] });
    }

    /// What a name stands for, if it stands for anything.
    fn add_found(&mut self, part: Option<Part>, name: &Name) {
        match part {
            Some(part) => self.add(part, name),
            None => self.names_unknown = true,
        }
    }

    fn table(&mut self, name: &Name) {
        self.add_found(self.names.table(&name.text), name);
    }

    /// A column, or something else that stands behind its table and a point.
    fn behind_table(&mut self, part: Option<Part>, table: &Name, name: &Name) {
        let Some(part) = part else {
            self.names_unknown = true;
            return;
        };
        let of_table = Spot { part: Part::Table(table.text.clone()), span: table.span, form: NameForm::Formula };
        let own = Spot { part: part.clone(), span: name.span, form: NameForm::BehindPoint };
        self.found.push(Named { part, span: table.span.to(name.span), spots: vec![of_table, own] });
    }

    fn column(&mut self, table: &Name, column: &Name) {
        self.behind_table(self.names.column(&table.text, &column.text), table, column);
    }

    /// A `let`, a column of the own table, a measure, or a lens in the condition of a query.
    fn bare(&mut self, name: &Name) {
        if self.bound.contains(&name.text) || name.text == SHOWN {
            return;
        }
        let own = self.own.and_then(|table| self.names.column(table, &name.text));
        let found = own.or_else(|| self.names.measure(&name.text)).or_else(|| self.names.lens(&name.text));
        self.add_found(found, name);
    }

    /// On an axis: a lens, a hierarchy, a column.
    fn axis(&mut self, target: &Target) {
        match target {
            Target::Name(name) => {
                let part = self.names.lens(&name.text).or_else(|| self.names.hierarchy(None, &name.text));
                self.add_found(part, name);
            }
            Target::Column(table, name) => {
                let hierarchy = self.names.hierarchy(Some(&table.text), &name.text);
                let part = hierarchy.or_else(|| self.names.column(&table.text, &name.text));
                self.behind_table(part, table, name);
            }
        }
    }

    /// After `without`: a table or a column.
    fn edit_target(&mut self, target: &Target) {
        match target {
            Target::Name(name) => self.table(name),
            Target::Column(table, column) => self.column(table, column),
        }
    }

    fn per(&mut self, per: &Per) {
        for target in &per.targets {
            match target {
                Target::Name(name) => {
                    let found = self.names.table(&name.text).or_else(|| self.names.hierarchy(None, &name.text));
                    self.add_found(found, name);
                }
                Target::Column(table, column) => self.column(table, column),
            }
        }
        per.of.iter().for_each(|table| self.table(table));
        per.filter.iter().for_each(|e| self.expr(e));
    }

    fn aggregate(&mut self, a: &Aggregate) {
        match a.args.as_slice() {
            [Expr { kind: ExprKind::Name(table), .. }] if a.name.text == "rows" => self.table(table),
            args => args.iter().for_each(|e| self.expr(e)),
        }
        a.order.iter().for_each(|(e, _)| self.expr(e));
        a.per.iter().for_each(|per| self.per(per));
    }

    fn edit(&mut self, edit: &Edit) {
        match &edit.kind {
            EditKind::Narrow { table, predicate, .. } => {
                table.iter().for_each(|table| self.table(table));
                self.expr(predicate);
            }
            EditKind::Without(targets) | EditKind::WithoutAllBut(targets) => {
                targets.iter().for_each(|target| self.edit_target(target));
            }
            EditKind::WithoutAll | EditKind::WithoutAxes | EditKind::WithoutRow => {}
            EditKind::Period(period, calendar) => {
                if let Period::AtEnd(Some(table)) = period {
                    self.table(table);
                }
                match calendar {
                    Some(calendar) => self.table(calendar),
                    // It changes the days of the only calendar, which is not named.
                    None => self.found.extend(self.names.calendar().map(|part| Named {
                        part,
                        span: edit.span,
                        spots: Vec::new(),
                    })),
                }
            }
        }
    }

    /// The many side of a relationship.
    fn side(&mut self, columns: &[(Name, Name)]) {
        columns.iter().for_each(|(table, column)| self.column(table, column));
        let texts: Vec<(String, String)> = columns.iter().map(|(t, c)| (t.text.clone(), c.text.clone())).collect();
        if let (Some(part), Some((first, _)), Some((_, last))) =
            (self.names.relationship(&texts), columns.first(), columns.last())
        {
            self.found.push(Named { part, span: first.span.to(last.span), spots: Vec::new() });
        }
    }

    fn expr(&mut self, e: &Expr) {
        match &e.kind {
            ExprKind::Name(name) => self.bare(name),
            ExprKind::Column(table, column) => self.column(table, column),
            ExprKind::RowsWhere(table, predicate) => {
                self.table(table);
                self.expr(predicate);
            }
            ExprKind::Via(body, columns) | ExprKind::BothWays(body, columns) => {
                self.expr(body);
                self.side(columns);
            }
            ExprKind::Aggregate(a) => self.aggregate(a),
            ExprKind::Given(body, edits) => {
                self.expr(body);
                edits.iter().for_each(|edit| self.edit(edit));
            }
            ExprKind::Let(bindings, body) => {
                let before = self.bound.len();
                for (name, value) in bindings {
                    self.expr(value);
                    self.bound.push(name.text.clone());
                }
                self.expr(body);
                self.bound.truncate(before);
            }
            _ => e.each_part(&mut |part| self.expr(part)),
        }
    }
}
