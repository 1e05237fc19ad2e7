//! Names to things and types to parts: from the tree as written to the tree that plans are made from.
//!
//! * [`names`]: what a name means where it stands
//! * [`operators`]: operators, `case`, functions, and the conversions between types
//! * [`aggregates`]: what an aggregate goes through
//! * [`edits`]: `given (…)`
//! * [`sets`]: `top`, `bottom`, and what asks the filter context
//! * [`surprises`]: what is legal and probably not meant; [`arrivals`]: axes and filters that reach nothing

mod aggregates;
pub mod arrivals;
mod edits;
mod names;
mod operators;
mod other_names;
mod sets;
pub mod surprises;

use std::collections::{BTreeSet, HashMap};
use std::sync::Arc;

pub use edits::conjuncts;

use super::ast;
use super::schema::{ColumnId, MeasureId, RelationshipId, Schema, TableId};
use super::source::{Diagnostic, Problem, Source, Span};
use super::typed::{Kind, LetId, Narrow, ProviderId, TypedExpr};
use cubrel_value::cancel::Ending;
use cubrel_value::{Type, Value};

/// What a formula is checked against besides the schema.
#[derive(Clone, Debug, Default)]
pub struct Settings {
    /// The day that `today()` is, as a day number.
    pub today: i32,
    /// The values of `$name`; a list has several.
    pub parameters: HashMap<String, Vec<Value>>,
    /// The locale of `to_text`, with the model's currency as its `cu` keyword.
    pub locale: String,
    /// What `user()` gives.
    pub user: Option<String>,
    /// What `shown` stands for, in the formula of a reading.
    pub shown: Option<MeasureId>,
    /// When planning has to end.
    pub ending: Ending,
}

/// A problem has been reported; there is no tree to go on with.
#[derive(Debug)]
pub(crate) struct Reported;
type CheckedExpr<T> = Result<T, Reported>;

/// Where an expression stands, which decides what its columns mean.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Standing {
    /// Evaluated once for each cell or current row: columns come from the current row, if there is one.
    Cell,
    /// Inside an aggregate: columns are those of the rows that it goes through.
    Aggregated,
    /// Inside a predicate: columns are those of the tested row.
    Tested,
}

/// What gives a current row or combination.
#[derive(Clone, Debug)]
enum Provider {
    /// A row of a table.
    Row(TableId),
    /// Values of columns.
    Columns(Vec<ColumnId>),
}

struct Binding {
    name: String,
    id: LetId,
    ty: Type,
}

/// The row of a calculated column, in the tree that [`column_formula`] gives.
pub const ROW: ProviderId = ProviderId(0);

struct Checker<'a> {
    schema: &'a Schema,
    settings: &'a Settings,
    source: Arc<Source>,
    own: Option<TableId>,
    place: Standing,
    lets: Vec<Binding>,
    /// What gives rows, and how many spare relationships are named around each.
    providers: Vec<(ProviderId, Provider, usize)>,
    /// Spare relationships named around the current place.
    detours: Vec<RelationshipId>,
    /// How many of them stand around the aggregate, the predicate or the `per` that the current place is in.
    around_rows: usize,
    /// Values that a predicate takes from outside.
    hoisted: Vec<(LetId, TypedExpr)>,
    /// Sets that belong around the aggregate that is being checked.
    sets: Vec<(LetId, TypedExpr)>,
    /// For each aggregate around the current place, the providers and `let`s that stand around it.
    around: Vec<(usize, usize)>,
    next: u32,
    problems: Vec<Diagnostic>,
}

/// A typed tree, if there is one, and everything that is wrong or surprising.
pub type Outcome = (Option<TypedExpr>, Vec<Diagnostic>);

/// Checks the formula of a measure, or an item of a query.
pub fn measure_formula(schema: &Schema, settings: &Settings, source: &Arc<Source>, formula: &ast::Expr) -> Outcome {
    let mut checker = Checker::new(schema, settings, source, None);
    let expr = checker.expr(formula).ok();
    (expr, checker.problems)
}

/// Checks the formula of a calculated column of `table`: there is a current row ([`ROW`]), and bare names are its columns.
pub fn column_formula(
    schema: &Schema,
    settings: &Settings,
    source: &Arc<Source>,
    table: TableId,
    formula: &ast::Expr,
) -> Outcome {
    let mut checker = Checker::new(schema, settings, source, Some(table));
    checker.providers.push((ROW, Provider::Row(table), 0));
    let expr = checker.expr(formula).ok();
    (expr, checker.problems)
}

/// Checks a `where`: a predicate whose top-level `and`s are taken apart into separate filters.
pub fn filter(
    schema: &Schema,
    settings: &Settings,
    source: &Arc<Source>,
    predicate: &ast::Expr,
) -> (Vec<Narrow>, Vec<Diagnostic>) {
    let mut checker = Checker::new(schema, settings, source, None);
    let narrows = checker.narrow(false, None, predicate).unwrap_or_default();
    (narrows, checker.problems)
}

/// Checks a `having` or `order by`: bare context, with the values of the row axes' columns ([`ROW`]).
pub fn line_formula(
    schema: &Schema,
    settings: &Settings,
    source: &Arc<Source>,
    columns: &[ColumnId],
    formula: &ast::Expr,
) -> Outcome {
    let mut checker = Checker::new(schema, settings, source, None);
    if !columns.is_empty() {
        checker.providers.push((ROW, Provider::Columns(columns.to_vec()), 0));
    }
    let expr = checker.expr(formula).ok();
    (expr, checker.problems)
}

/// Checks what a role sees of a table: a predicate in which bare names are the table's columns, as filters.
pub fn role_rule(
    schema: &Schema,
    settings: &Settings,
    source: &Arc<Source>,
    table: TableId,
    predicate: &ast::Expr,
) -> (Vec<Narrow>, Vec<Diagnostic>) {
    let mut checker = Checker::new(schema, settings, source, Some(table));
    let narrows = checker.narrow_rows(table, predicate).unwrap_or_default();
    (narrows, checker.problems)
}

/// Checks an expression over the current row of a table ([`ROW`]), whose columns are written with their table.
pub fn row_formula(
    schema: &Schema,
    settings: &Settings,
    source: &Arc<Source>,
    table: TableId,
    formula: &ast::Expr,
) -> Outcome {
    let mut checker = Checker::new(schema, settings, source, None);
    checker.providers.push((ROW, Provider::Row(table), 0));
    let expr = checker.expr(formula).ok();
    (expr, checker.problems)
}

/// Resolves `table.column`.
pub fn column_name(
    schema: &Schema,
    settings: &Settings,
    source: &Arc<Source>,
    name: &ast::Expr,
) -> (Option<ColumnId>, Vec<Diagnostic>) {
    let mut checker = Checker::new(schema, settings, source, None);
    let found = match &name.kind {
        ast::ExprKind::Column(table, column) => checker.find_column(table, column).ok(),
        _ => None,
    };
    (found, checker.problems)
}

/// Checks the load filter or the role rule of a table: a truth value of its own row.
pub fn row_filter(
    schema: &Schema,
    settings: &Settings,
    source: &Arc<Source>,
    table: TableId,
    predicate: &ast::Expr,
) -> Outcome {
    let (expr, mut problems) = column_formula(schema, settings, source, table, predicate);
    if let Some(expr) = &expr
        && !matches!(expr.ty, Type::Bool | Type::Null)
    {
        problems.push(
            Diagnostic::error(
                Problem::Type,
                source,
                expr.span,
                format!("a filter is true or false, this is {}", expr.ty),
            )
            .help("compare it with something"),
        );
        return (None, problems);
    }
    (expr, problems)
}

impl<'a> Checker<'a> {
    fn new(schema: &'a Schema, settings: &'a Settings, source: &Arc<Source>, own: Option<TableId>) -> Checker<'a> {
        Checker {
            schema,
            settings,
            source: source.clone(),
            own,
            place: Standing::Cell,
            lets: Vec::new(),
            providers: Vec::new(),
            detours: Vec::new(),
            around_rows: 0,
            hoisted: Vec::new(),
            sets: Vec::new(),
            around: Vec::new(),
            next: 1,
            problems: Vec::new(),
        }
    }

    fn report(&mut self, problem: Problem, span: Span, message: impl Into<String>, help: impl Into<String>) {
        self.problems.push(Diagnostic::error(problem, &self.source, span, message).help(help));
    }

    fn fail<T>(
        &mut self,
        problem: Problem,
        span: Span,
        message: impl Into<String>,
        help: impl Into<String>,
    ) -> CheckedExpr<T> {
        self.report(problem, span, message, help);
        Err(Reported)
    }

    fn fresh(&mut self) -> u32 {
        self.next += 1;
        self.next
    }

    /// Runs `body` at another place, and comes back.
    fn at<T>(&mut self, place: Standing, body: impl FnOnce(&mut Self) -> T) -> T {
        let before = std::mem::replace(&mut self.place, place);
        // Whatever stands around rows that are gone through or tested moves their filters, not their own columns.
        let around = if place == Standing::Cell { self.around_rows } else { self.detours.len() };
        let around = std::mem::replace(&mut self.around_rows, around);
        let result = body(self);
        self.place = before;
        self.around_rows = around;
        result
    }

    /// With what gives a row or a combination.
    fn provided<T>(&mut self, (id, provider): (ProviderId, Provider), body: impl FnOnce(&mut Self) -> T) -> T {
        self.providers.push((id, provider, self.detours.len()));
        let result = body(self);
        self.providers.pop();
        result
    }

    fn expr(&mut self, e: &ast::Expr) -> CheckedExpr<TypedExpr> {
        use ast::ExprKind as A;
        let span = e.span;
        match &e.kind {
            A::Broken => Err(Reported),
            A::Literal(value) => Ok(literal(value.clone(), span)),
            A::Parameter(name) => self.parameter(name, span),
            A::Name(name) => self.bare_name(name),
            A::Column(table, column) => self.column(table, column, span),
            A::Negate(inner) => self.negate(inner, span),
            A::Not(inner) => self.not(inner, span),
            A::Binary(op, a, b) => self.binary(*op, a, b, span),
            A::IsNull(inner, negated) => self.is_null(inner, *negated, span),
            A::Like(a, b, negated) => self.like(a, b, *negated, span),
            A::Between(x, low, high, negated) => self.between(x, low, high, *negated, span),
            A::In(x, list, negated) => self.member(x, list, *negated, span),
            A::Case(operand, arms, otherwise) => self.case(operand.as_deref(), arms, otherwise.as_deref(), span),
            A::Cast(inner, ty, lenient) => self.cast(inner, *ty, *lenient, span),
            A::Call(name, args) => self.call(name, args, span),
            A::Let(bindings, body) => self.lets(bindings, body, span),
            A::Aggregate(aggregate) => self.aggregate(aggregate, span),
            A::RowsWhere(table, _) => self.fail(
                Problem::Syntax,
                table.span,
                "a condition names its table at its beginning",
                "write `table where (a or b)`, and join it to other conditions with `and`",
            ),
            A::Given(body, list) => self.given(body, list, span),
            A::Via(body, columns) => self.via(body, columns, span),
            A::BothWays(body, columns) => self.both_ways(body, columns, span),
        }
    }

    /// Checks all, so that every problem is reported, then gives all or none.
    fn all<T, U>(&mut self, list: &[T], mut check: impl FnMut(&mut Self, &T) -> CheckedExpr<U>) -> CheckedExpr<Vec<U>> {
        let results: Vec<CheckedExpr<U>> = list.iter().map(|item| check(self, item)).collect();
        results.into_iter().collect()
    }

    fn lets(&mut self, bindings: &[(ast::Name, ast::Expr)], body: &ast::Expr, span: Span) -> CheckedExpr<TypedExpr> {
        let depth = self.lets.len();
        let mut values = Vec::new();
        let mut failed = false;
        for (name, value) in bindings {
            let id = LetId(self.fresh());
            let value = self.expr(value);
            failed |= value.is_err();
            let ty = value.as_ref().map_or(Type::Null, |v| v.ty);
            self.lets.push(Binding { name: name.text.clone(), id, ty });
            if let Ok(value) = value {
                values.push((id, value));
            }
        }
        let body = self.expr(body);
        self.lets.truncate(depth);
        let result = body?;
        if failed {
            return Err(Reported);
        }
        Ok(with_lets(result, values, span))
    }

    /// The relationship that starts at some columns. A column may stand for all of a relationship's when only one
    /// relationship has it; of one that counts by default and a spare one, the spare one is meant.
    fn relationship_at(&mut self, columns: &[(ast::Name, ast::Name)], word: &str) -> CheckedExpr<RelationshipId> {
        let named = self.all(columns, |c, (table, column)| c.find_column(table, column))?;
        let (Some((first, _)), Some((_, last))) = (columns.first(), columns.last()) else { return Err(Reported) };
        let span = first.span.to(last.span);
        let shown = named.iter().map(|c| self.schema.column_name(*c)).collect::<Vec<_>>().join(" and ");
        let all = self.schema.relationships_of(&named);
        let whole: Vec<RelationshipId> =
            all.iter().copied().filter(|r| self.schema.relationship(*r).many_columns.len() == named.len()).collect();
        let candidates = if whole.is_empty() { all } else { whole };
        let spare: Vec<RelationshipId> =
            candidates.iter().copied().filter(|r| self.schema.relationship(*r).spare).collect();
        match (candidates.as_slice(), spare.as_slice()) {
            ([one], _) | (_, [one]) => Ok(*one),
            ([], _) => self.fail(
                Problem::Path,
                span,
                format!("no relationship starts at {shown}"),
                format!("`{word}` names the many-side columns of a relationship in the model"),
            ),
            (candidates, _) => {
                let list: Vec<String> = candidates.iter().map(|r| self.schema.show_relationship(*r)).collect();
                let ways: Vec<String> = candidates.iter().map(|r| self.schema.many_side(*r)).collect();
                let help = if ways.iter().all(|way| *way == ways[0]) {
                    "the columns are the same: give one of the tables a copy (`same_as`) and relate that".to_string()
                } else {
                    let ways: Vec<String> = ways.iter().map(|way| format!("`{word} {way}`")).collect();
                    format!("name all columns of the one that is meant: {}", ways.join(" or "))
                };
                let message = format!("{shown} belongs to several relationships: {}", list.join("; "));
                self.fail(Problem::Ambiguous, span, message, help)
            }
        }
    }

    fn both_ways(
        &mut self,
        body: &ast::Expr,
        columns: &[(ast::Name, ast::Name)],
        span: Span,
    ) -> CheckedExpr<TypedExpr> {
        let relationship = self.relationship_at(columns, "both_ways")?;
        let body = self.expr(body)?;
        if let Some((a, b)) = self.schema.second_way(&[relationship]) {
            let (a, b) = (self.schema.table(a).name.clone(), self.schema.table(b).name.clone());
            return self.fail(
                Problem::Path,
                span,
                format!("with this relationship both ways, filters on `{a}` would reach `{b}` in two ways"),
                "take one of the other relationships out with `via`, or count distinct keys in the many-side table",
            );
        }
        let ty = body.ty;
        Ok(TypedExpr { kind: Kind::BothWays(Box::new(body), relationship), ty, span })
    }

    fn via(&mut self, body: &ast::Expr, columns: &[(ast::Name, ast::Name)], span: Span) -> CheckedExpr<TypedExpr> {
        let relationship = self.relationship_at(columns, "via")?;
        self.detours.push(relationship);
        let body = self.expr(body);
        self.detours.pop();
        let body = body?;
        // A looked-up column carries its detours itself.
        if matches!(body.kind, Kind::Column { .. } | Kind::Current { .. }) {
            return Ok(TypedExpr { span, ..body });
        }
        let ty = body.ty;
        Ok(TypedExpr { kind: Kind::Via(Box::new(body), relationship), ty, span })
    }
}

/// The tables whose rows an expression's columns may belong to.
#[derive(Debug, Default)]
struct NamedTables {
    /// Those of the columns, and those at which a `via` inside of the expression begins.
    tables: BTreeSet<TableId>,
    columns: Vec<(TableId, Vec<RelationshipId>)>,
}

impl NamedTables {
    fn add(&mut self, schema: &Schema, expr: &TypedExpr) {
        expr.walk(&mut |e| {
            if let Kind::Column { column, detours, around } = &e.kind {
                self.tables.insert(column.table);
                self.tables.extend(detours[*around..].iter().map(|r| schema.relationship(*r).many));
                self.columns.push((column.table, detours.clone()));
            }
        });
    }

    fn can_be_looked_up_from(&self, schema: &Schema, from: TableId) -> bool {
        let reaches = |table: TableId, detours: &[RelationshipId]| schema.reach(from, detours).contains_key(&table);
        self.tables
            .iter()
            .all(|table| reaches(*table, &[]) || self.columns.iter().any(|(t, d)| t == table && reaches(*t, d)))
            && self.columns.iter().all(|(table, detours)| reaches(*table, detours))
    }
}

/// An expression with `let`s around it, the first outermost.
fn with_lets(body: TypedExpr, values: Vec<(LetId, TypedExpr)>, span: Span) -> TypedExpr {
    values.into_iter().rev().fold(body, |result, (id, value)| {
        let ty = result.ty;
        TypedExpr { kind: Kind::Let(id, Box::new(value), Box::new(result)), ty, span }
    })
}

fn literal(value: Value, span: Span) -> TypedExpr {
    let ty = value.natural_type();
    TypedExpr { kind: Kind::Literal(value), ty, span }
}
