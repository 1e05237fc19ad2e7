//! An evaluator that does everything the slow way: one cell after the other, one row after the other, from the rules of
//! the language and nothing else. Operators on values are the library's (held against SQLite elsewhere); filters,
//! aggregates, `per`, `given`, `via`, rows and lines are written here a second time.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

mod days;
mod ways;

use std::cell::{Cell, RefCell};
use std::collections::{BTreeSet, HashMap};
use std::rc::Rc;
use std::sync::Arc;

use cubrel::formula::check::{self, Settings};
use cubrel::formula::parser;
use cubrel::formula::scalar::{self, EvalError, Leaves, ScalarKind};
use cubrel::formula::schema::{ColumnId, RelationshipId, Schema, TableId};
use cubrel::formula::source::Source;
use cubrel::formula::typed::{
    Aggregate, AggregateKind, Edit, EditTarget, Expr, Kind, LetId, Narrow, Over, Per, PerDomain, Period, ProviderId,
    Rank, SetOf,
};
use cubrel::value::Vector;
use cubrel::{Model, Value};

/// A table, and the relationships that are named in place of default ones.
type Start = (TableId, Vec<RelationshipId>);

/// The rows of a model, decoded.
pub struct Data<'a> {
    schema: &'a Schema,
    /// By table, row, column.
    tables: Vec<Vec<Vec<Value>>>,
    /// Ways that were looked for already.
    ways: RefCell<HashMap<Start, Rc<Ways>>>,
}

type Ways = HashMap<TableId, Vec<RelationshipId>>;

/// Who put a filter there.
#[derive(Clone, Copy, PartialEq)]
enum Origin {
    Axis,
    Where,
    Edit,
    Row,
    Per,
}

/// One filter of one cell.
#[derive(Clone)]
struct Filter {
    /// The table whose rows it tests.
    table: TableId,
    /// The columns that it restricts; none for a bound row.
    columns: Vec<ColumnId>,
    /// By row: whether it passes.
    rows: Vec<bool>,
    /// Whether a row of nulls passes.
    null: bool,
    origin: Origin,
}

/// The filter context of one cell.
#[derive(Clone, Default)]
struct Context {
    filters: Vec<Filter>,
    detours: Vec<RelationshipId>,
    both_ways: Vec<RelationshipId>,
    axes: Vec<ColumnId>,
}

/// What names stand for where an expression is evaluated.
#[derive(Clone, Default)]
struct Names {
    lets: Vec<(LetId, Value)>,
    sets: Vec<(LetId, Vec<Value>)>,
    rows: Vec<(ProviderId, TableId, usize)>,
    values: Vec<(ProviderId, Vec<(ColumnId, Value)>)>,
}

/// Whether a filter keeps what it says of a column.
type Keep<'a> = dyn Fn(&Filter, ColumnId) -> bool + 'a;

struct NoLeaves;

impl Leaves for NoLeaves {
    type Error = EvalError;

    fn leaf(&self, _: usize, _: &[u32]) -> Result<Vector, EvalError> {
        unreachable!("every leaf has been given as a constant")
    }
}

impl<'a> Data<'a> {
    /// The rows of a model.
    pub fn new(model: &'a Model) -> Data<'a> {
        let tables = model
            .store()
            .tables
            .iter()
            .map(|t| (0..t.rows).map(|r| t.columns.iter().map(|c| c.value_of(c.code(r))).collect()).collect())
            .collect();
        Data { schema: model.schema(), tables, ways: RefCell::default() }
    }

    /// The tables that a table looks values up in, each with the way there.
    fn ways(&self, from: TableId, detours: &[RelationshipId]) -> Rc<Ways> {
        let key = (from, detours.to_vec());
        let found = self.ways.borrow().get(&key).cloned();
        found.unwrap_or_else(|| {
            let ways = Rc::new(ways::from(self.schema, from, detours));
            self.ways.borrow_mut().insert(key, ways.clone());
            ways
        })
    }

    fn value(&self, column: ColumnId, row: Option<usize>) -> Value {
        row.map_or(Value::Null, |r| self.tables[column.table.0 as usize][r][column.index as usize].clone())
    }

    /// The row that a row points at: the one whose key is equal.
    fn follow(&self, relationship: RelationshipId, row: Option<usize>) -> Option<usize> {
        let def = self.schema.relationship(relationship);
        let key: Vec<Value> =
            def.many_columns.iter().map(|c| self.value(ColumnId { table: def.many, index: *c }, row)).collect();
        if key.iter().any(Value::is_null) {
            return None;
        }
        let target = &self.tables[def.one.0 as usize];
        target.iter().position(|r| def.one_columns.iter().zip(&key).all(|(c, k)| r[*c as usize] == *k))
    }

    /// The row at the end of a path; a row that points at nothing leads nowhere.
    fn follow_all(&self, path: &[RelationshipId], row: Option<usize>) -> Option<usize> {
        let mut at = row;
        for relationship in path {
            at = self.follow(*relationship, at);
        }
        at
    }

    fn look_up(&self, from: TableId, row: Option<usize>, column: ColumnId, detours: &[RelationshipId]) -> Value {
        let ways = self.ways(from, detours);
        self.value(column, self.follow_all(&ways[&column.table], row))
    }

    /// The rows of a table that all filters let through.
    fn visible(&self, table: TableId, context: &Context) -> Vec<usize> {
        (0..self.tables[table.0 as usize].len()).filter(|row| self.passes(table, Some(*row), context, None)).collect()
    }

    /// Whether a row (or a row of nulls) meets all filters that reach its table, apart from those that come `by` a
    /// relationship.
    fn passes(&self, table: TableId, row: Option<usize>, context: &Context, by: Option<RelationshipId>) -> bool {
        let mut reach = (*self.ways(table, &context.detours)).clone();
        reach.retain(|_, path| by.is_none() || path.first() != by.as_ref());
        let forward = context.filters.iter().all(|f| match reach.get(&f.table) {
            None => true,
            Some(path) => match self.follow_all(path, row) {
                None => f.null,
                Some(far) => f.rows[far],
            },
        });
        forward
            && reach.iter().all(|(one, path)| {
                self.bridges(*one, path, context, by).into_iter().all(|id| {
                    let many = self.schema.relationship(id).many;
                    let pointing = match self.follow_all(path, row) {
                        None => Vec::new(),
                        Some(far) => self.pointing_at(id, far),
                    };
                    if pointing.is_empty() {
                        return self.passes(many, None, context, Some(id));
                    }
                    pointing.into_iter().any(|r| self.passes(many, Some(r), context, Some(id)))
                })
            })
    }

    /// The relationships that filter both ways and end at a table.
    fn bridges(
        &self,
        one: TableId,
        path: &[RelationshipId],
        context: &Context,
        by: Option<RelationshipId>,
    ) -> Vec<RelationshipId> {
        let comes_back = |id: &RelationshipId| {
            let r = self.schema.relationship(*id);
            let followed = self.ways(r.many, &context.detours).get(&one) == Some(&vec![*id]);
            let both = r.both_ways || context.both_ways.contains(id);
            r.one == one && both && followed && by != Some(*id) && !path.contains(id)
        };
        (0..self.schema.relationships.len() as u32).map(RelationshipId).filter(comes_back).collect()
    }

    fn pointing_at(&self, id: RelationshipId, row: usize) -> Vec<usize> {
        let many = self.schema.relationship(id).many;
        (0..self.tables[many.0 as usize].len()).filter(|r| self.follow(id, Some(*r)) == Some(row)).collect()
    }

    fn equals(&self, column: ColumnId, value: &Value, origin: Origin) -> Filter {
        let rows = self.tables[column.table.0 as usize].iter().map(|r| r[column.index as usize] == *value).collect();
        Filter { table: column.table, columns: vec![column], rows, null: value.is_null(), origin }
    }

    fn one_row(&self, table: TableId, row: usize) -> Filter {
        let rows = (0..self.tables[table.0 as usize].len()).map(|r| r == row).collect();
        Filter { table, columns: Vec::new(), rows, null: false, origin: Origin::Row }
    }
}

/// Evaluates formulas of one model.
pub struct Naive<'a> {
    data: Data<'a>,
    source: Arc<Source>,
    /// Whether an aggregate has read a row since this was last cleared.
    read: Cell<bool>,
}

impl<'a> Naive<'a> {
    /// An evaluator for a model.
    pub fn new(model: &'a Model) -> Naive<'a> {
        Naive { data: Data::new(model), source: Source::new("naive", ""), read: Cell::new(false) }
    }

    fn eval(&self, e: &Expr, context: &Context, names: &Names) -> Value {
        let truth = |e: &Expr| self.eval(e, context, names);
        match &e.kind {
            Kind::Literal(value) => value.clone(),
            Kind::Let(id, value, body) => {
                let mut inner = names.clone();
                self.bind(*id, value, context, names, &mut inner);
                self.eval(body, context, &inner)
            }
            Kind::LetRef(id) => names.lets.iter().rev().find(|(other, _)| other == id).unwrap().1.clone(),
            Kind::Current { provider, column, detours, around } => {
                if let Some((_, table, row)) = names.rows.iter().rev().find(|(p, ..)| p == provider) {
                    let all = self.around_row(*table, context, detours, *around);
                    return self.data.look_up(*table, Some(*row), *column, &all);
                }
                let (_, values) = names.values.iter().rev().find(|(p, _)| p == provider).unwrap();
                values.iter().find(|(c, _)| c == column).unwrap().1.clone()
            }
            Kind::Case(arms, otherwise) => {
                for (condition, result) in arms {
                    if truth(condition) == Value::Bool(true) {
                        return truth(result);
                    }
                }
                otherwise.as_ref().map_or(Value::Null, |e| truth(e))
            }
            Kind::Coalesce(parts) => parts.iter().map(truth).find(|v| !v.is_null()).unwrap_or(Value::Null),
            Kind::And(a, b) => connect(false, truth(a), || truth(b)),
            Kind::Or(a, b) => connect(true, truth(a), || truth(b)),
            Kind::Call(..) => {
                let scalar = scalar::from_expr(e, &self.source, &mut |part| {
                    if std::ptr::eq(part, e) {
                        return None;
                    }
                    Some(ScalarKind::Constant(self.eval(part, context, names)))
                });
                scalar.eval(&NoLeaves, 1).unwrap().get(0, e.ty)
            }
            Kind::Measure(id) => {
                let body = self.data.schema.measure(*id).expr.clone().unwrap();
                self.eval(&body, context, &Names::default())
            }
            Kind::Via(body, relationship) => {
                let mut inner = context.clone();
                inner.detours.push(*relationship);
                self.eval(body, &inner, names)
            }
            Kind::BothWays(body, relationship) => {
                let mut inner = context.clone();
                inner.both_ways.push(*relationship);
                self.eval(body, &inner, names)
            }
            Kind::Narrowed(column) => Value::Bool(
                context
                    .filters
                    .iter()
                    .any(|f| f.columns.contains(column) || f.origin == Origin::Row && f.table == column.table),
            ),
            Kind::Grouping(column) => Value::Int(i64::from(!context.axes.contains(column))),
            Kind::Member(of, id) => {
                let value = self.eval(of, context, names);
                member(value, &names.sets.iter().rev().find(|(other, _)| other == id).unwrap().1)
            }
            Kind::Rank(rank) => self.rank(rank, context, names),
            Kind::Given(body, edits) => {
                let (inner, names) = self.edited(edits, context, names);
                self.eval(body, &inner, &names)
            }
            Kind::Aggregate(a) => self.aggregate(a, context, names),
            Kind::Column { .. } | Kind::Set(_) => unreachable!("not made by the generator here"),
        }
    }

    /// The spare relationships that count for columns of a row. Those from its table to itself that stand around
    /// whatever goes through the rows are about filters.
    fn around_row(
        &self,
        table: TableId,
        context: &Context,
        detours: &[RelationshipId],
        around: usize,
    ) -> Vec<RelationshipId> {
        let outside = context.detours.iter().chain(&detours[..around]);
        let elsewhere = outside.filter(|id| {
            let r = self.data.schema.relationship(**id);
            (r.many, r.one) != (table, table)
        });
        elsewhere.chain(&detours[around..]).copied().collect()
    }

    /// An expression over a row and what it looks up.
    fn row_value(&self, e: &Expr, table: TableId, row: Option<usize>, context: &Context, names: &Names) -> Value {
        if let Kind::Column { column, detours, around } = &e.kind {
            let all = self.around_row(table, context, detours, *around);
            return self.data.look_up(table, row, *column, &all);
        }
        let part = |e: &Expr| self.row_value(e, table, row, context, names);
        match &e.kind {
            Kind::Member(of, id) => {
                member(part(of), &names.sets.iter().rev().find(|(other, _)| other == id).unwrap().1)
            }
            Kind::LetRef(_) | Kind::Literal(_) => self.eval(e, context, names),
            Kind::Let(id, value, body) => {
                let mut inner = names.clone();
                inner.lets.push((*id, part(value)));
                self.row_value(body, table, row, context, &inner)
            }
            Kind::Case(arms, otherwise) => {
                let taken = arms.iter().find(|(c, _)| part(c) == Value::Bool(true)).map(|(_, r)| r);
                taken.or(otherwise.as_deref()).map_or(Value::Null, part)
            }
            Kind::Coalesce(parts) => parts.iter().map(part).find(|v| !v.is_null()).unwrap_or(Value::Null),
            Kind::And(a, b) => connect(false, part(a), || part(b)),
            Kind::Or(a, b) => connect(true, part(a), || part(b)),
            _ => {
                let scalar = scalar::from_expr(e, &self.source, &mut |inner| {
                    (!std::ptr::eq(inner, e)).then(|| ScalarKind::Constant(part(inner)))
                });
                scalar.eval(&NoLeaves, 1).unwrap().get(0, e.ty)
            }
        }
    }

    /// A `let`: a value, or a set.
    fn bind(&self, id: LetId, value: &Expr, context: &Context, names: &Names, to: &mut Names) {
        match &value.kind {
            Kind::Set(set) => to.sets.push((id, self.set(set, context, names))),
            _ => to.lets.push((id, self.eval(value, context, names))),
        }
    }

    /// The figures of a column's values, in a context in which each is the only one.
    fn figures(
        &self,
        column: ColumnId,
        provider: ProviderId,
        figure: &Expr,
        context: &Context,
        names: &Names,
    ) -> Vec<(Value, Value)> {
        let before = self.read.get();
        let per = Per { provider, domain: PerDomain::Columns { columns: vec![column], of: None }, filter: None };
        let list = self.combinations(&per, std::slice::from_ref(figure), context, names);
        let figures = list.iter().map(|(inner, names)| {
            let (_, values) = names.values.last().unwrap();
            (values[0].1.clone(), self.eval(figure, inner, names))
        });
        let figures = figures.filter(|(_, f)| !f.is_null()).collect();
        self.read.set(before);
        figures
    }

    fn set(&self, set: &SetOf, context: &Context, names: &Names) -> Vec<Value> {
        let mut figures = self.figures(set.column, set.provider, &set.figure, context, names);
        figures.retain(|(value, _)| !value.is_null());
        let ahead = |a: &Value, b: &Value| if set.bottom { a.total_cmp(b).is_lt() } else { a.total_cmp(b).is_gt() };
        let chosen = figures
            .iter()
            .filter(|(_, f)| (figures.iter().filter(|(_, other)| ahead(other, f)).count() as u64) < set.count);
        chosen.map(|(v, _)| v.clone()).collect()
    }

    fn rank(&self, rank: &Rank, context: &Context, names: &Names) -> Value {
        let column = rank.column;
        let rows = self.data.visible(column.table, context);
        let values: BTreeSet<String> =
            rows.iter().map(|r| format!("{:?}", self.data.value(column, Some(*r)))).collect();
        let fixed = context
            .filters
            .iter()
            .rev()
            .find(|f| f.columns == [column] && matches!(f.origin, Origin::Axis | Origin::Per));
        let own = match fixed {
            Some(f) => {
                let row = f.rows.iter().position(|p| *p);
                self.data.value(column, row)
            }
            None if values.len() == 1 => self.data.value(column, Some(rows[0])),
            None => Value::Null,
        };
        let mut mine = names.clone();
        mine.values.push((rank.provider, vec![(column, own.clone())]));
        let figure = self.eval(&rank.figure, context, &mine);
        if figure.is_null() || fixed.is_none() && own.is_null() {
            return Value::Null;
        }
        let mut dropped = context.clone();
        dropped.filters.retain(|f| match f.origin {
            Origin::Axis | Origin::Per => f.columns != [column],
            Origin::Row => f.table != column.table,
            _ => true,
        });
        let figures = self.figures(column, rank.provider, &rank.figure, &dropped, names);
        let ahead = figures
            .iter()
            .filter(|(_, f)| if rank.ascending { f.total_cmp(&figure).is_lt() } else { f.total_cmp(&figure).is_gt() });
        Value::Int(ahead.count() as i64 + 1)
    }

    // ---- given

    fn edited(&self, edits: &[Edit], context: &Context, names: &Names) -> (Context, Names) {
        let mut names = names.clone();
        for edit in edits {
            if let Edit::Narrow(narrow) = edit {
                for (id, value) in &narrow.outer {
                    let around = names.clone();
                    self.bind(*id, value, context, &around, &mut names);
                }
            }
        }
        let mut inner = context.clone();
        edits.iter().for_each(|e| self.drop_filters(e, &mut inner));
        for edit in edits {
            match edit {
                Edit::Narrow(narrow) => inner.filters.push(self.predicate(narrow, context, &names, Origin::Edit)),
                Edit::Period(period) => self.period(period, &mut inner),
                _ => {}
            }
        }
        (inner, names)
    }

    fn period(&self, period: &Period, context: &mut Context) {
        let schema = self.data.schema;
        let calendar = period.calendar;
        let day_kind = |c: ColumnId| schema.column(c).day_kind;
        let seen = Context {
            filters: context
                .filters
                .iter()
                .filter_map(|f| self.kept(f, &|_, c| c.table != calendar || !day_kind(c)))
                .collect(),
            ..context.clone()
        };
        let date = |row: usize| match self.data.value(period.date, Some(row)) {
            Value::Date(day) => day,
            other => unreachable!("{other:?} in a calendar"),
        };
        let mut visible: BTreeSet<i32> = self.data.visible(calendar, &seen).into_iter().map(date).collect();
        if let Some(table) = period.rows_of {
            let path = self.data.ways(table, &context.detours)[&calendar].clone();
            let rows = self.data.visible(table, context).into_iter();
            let days: BTreeSet<i32> = rows.filter_map(|r| self.data.follow_all(&path, Some(r))).map(date).collect();
            visible.retain(|day| days.contains(day));
        }
        context.filters.retain(|f| f.origin != Origin::Row || f.table != calendar);
        context.filters =
            context.filters.iter().filter_map(|f| self.kept(f, &|_, c| c.table != calendar || day_kind(c))).collect();
        let days = days::edited(&visible, period.edit);
        let rows = (0..self.data.tables[calendar.0 as usize].len()).map(|r| days.contains(&date(r))).collect();
        context.filters.push(Filter {
            table: calendar,
            columns: vec![period.date],
            rows,
            null: false,
            origin: Origin::Edit,
        });
    }

    fn predicate(&self, narrow: &Narrow, context: &Context, names: &Names, origin: Origin) -> Filter {
        let passes = |row| self.row_value(&narrow.predicate, narrow.table, row, context, names) == Value::Bool(true);
        Filter {
            table: narrow.table,
            columns: narrow.columns.clone(),
            rows: (0..self.data.tables[narrow.table.0 as usize].len()).map(|r| passes(Some(r))).collect(),
            null: passes(None),
            origin,
        }
    }

    fn drop_filters(&self, edit: &Edit, context: &mut Context) {
        let named = |targets: &[EditTarget], c: ColumnId| {
            targets.contains(&EditTarget::Column(c)) || targets.contains(&EditTarget::Table(c.table))
        };
        let row_of = |targets: &[EditTarget], f: &Filter| targets.contains(&EditTarget::Table(f.table));
        let keep: Box<Keep<'_>> = match edit {
            Edit::Period(_) => return,
            Edit::Narrow(n) if !n.instead => return,
            Edit::Narrow(n) => {
                let targets: Vec<EditTarget> = n.columns.iter().map(|c| EditTarget::Column(*c)).collect();
                Box::new(move |_, c| !named(&targets, c))
            }
            Edit::Without(targets) => {
                context.filters.retain(|f| f.origin != Origin::Row || !row_of(targets, f));
                Box::new(move |_, c| !named(targets, c))
            }
            Edit::WithoutAllBut(targets) => {
                context.filters.retain(|f| f.origin != Origin::Row || row_of(targets, f));
                Box::new(move |_, c| named(targets, c))
            }
            Edit::WithoutAll => {
                context.filters.clear();
                return;
            }
            Edit::WithoutAxes => {
                context.filters.retain(|f| f.origin != Origin::Axis);
                return;
            }
            Edit::WithoutRow => {
                if let Some(place) = context.filters.iter().rposition(|f| f.origin == Origin::Row) {
                    context.filters.remove(place);
                }
                return;
            }
        };
        context.filters = context.filters.iter().filter_map(|f| self.kept(f, &*keep)).collect();
    }

    /// What is left of a filter when some of its columns are dropped: rows whose other values occur in a row that passes.
    fn kept(&self, f: &Filter, keep: &Keep<'_>) -> Option<Filter> {
        if f.origin == Origin::Row {
            return Some(f.clone());
        }
        let columns: Vec<ColumnId> = f.columns.iter().copied().filter(|c| keep(f, *c)).collect();
        if columns.len() == f.columns.len() {
            return Some(f.clone());
        }
        if columns.is_empty() {
            return None;
        }
        let combination = |row| columns.iter().map(|c| self.data.look_up(f.table, row, *c, &[])).collect::<Vec<_>>();
        let count = f.rows.len();
        let mut allowed: Vec<Vec<Value>> = (0..count).filter(|r| f.rows[*r]).map(|r| combination(Some(r))).collect();
        if f.null {
            allowed.push(combination(None));
        }
        let rows = (0..count).map(|r| allowed.contains(&combination(Some(r)))).collect();
        let null = allowed.contains(&combination(None));
        Some(Filter { columns, rows, null, ..f.clone() })
    }

    // ---- aggregates

    fn aggregate(&self, a: &Aggregate, context: &Context, names: &Names) -> Value {
        match &a.over {
            Over::Rows(table) => {
                let rows = self.data.visible(*table, context);
                if !rows.is_empty() {
                    self.read.set(true);
                }
                let value = |e: &Expr, r: &usize| self.row_value(e, *table, Some(*r), context, names);
                let values = rows.iter().map(|r| a.args.iter().map(|e| value(e, r)).collect());
                let order = rows.iter().map(|r| a.order.iter().map(|(e, _)| value(e, r)).collect());
                fold(a, values.collect(), order.collect())
            }
            Over::Per(per) => {
                let mut values = Vec::new();
                let before = self.read.get();
                for (inner, names) in self.combinations(per, &a.args, context, names) {
                    if let Some(filter) = &per.filter {
                        self.read.set(before);
                        if self.eval(filter, &inner, &names) != Value::Bool(true) {
                            continue;
                        }
                    }
                    values.push((inner, names));
                }
                self.read.set(before);
                let with_reads = a.args.iter().any(has_aggregate);
                let list = values
                    .iter()
                    .map(|(inner, names)| {
                        let row = a.args.iter().map(|e| self.eval(e, inner, names)).collect();
                        if !with_reads {
                            self.read.set(true);
                        }
                        row
                    })
                    .collect();
                fold(a, list, Vec::new())
            }
        }
    }

    /// The contexts that a `per` goes through.
    fn combinations(&self, per: &Per, args: &[Expr], context: &Context, names: &Names) -> Vec<(Context, Names)> {
        match &per.domain {
            PerDomain::Table(table) => self
                .data
                .visible(*table, &self.directly(*table, context))
                .into_iter()
                .map(|row| {
                    let (mut context, mut names) = (context.clone(), names.clone());
                    context.filters.push(self.data.one_row(*table, row));
                    names.rows.push((per.provider, *table, row));
                    (context, names)
                })
                .collect(),
            PerDomain::Columns { columns, of } => {
                let mut tables = BTreeSet::new();
                args.iter().chain(&per.filter).for_each(|e| self.aggregated(e, &mut tables));
                let groups = match of {
                    Some(table) => vec![(*table, columns.clone())],
                    None => self.chains(columns),
                };
                let mut combinations: Vec<Vec<(ColumnId, Value)>> = vec![Vec::new()];
                for (table, members) in groups {
                    let mut list = self.visible_values(table, &members, context);
                    let nulls: Vec<Value> = members.iter().map(|_| Value::Null).collect();
                    let is_direct = self.directly(table, context).detours == context.detours;
                    let under_null = |other: &TableId| {
                        (*other != table || !is_direct) && self.stands_under(*other, table, &members, context)
                    };
                    if of.is_none() && !list.contains(&nulls) && tables.iter().any(under_null) {
                        list.push(nulls);
                    }
                    combinations = combinations
                        .iter()
                        .flat_map(|before| {
                            list.iter().map(|values| {
                                before.iter().cloned().chain(members.iter().copied().zip(values.clone())).collect()
                            })
                        })
                        .collect();
                }
                combinations
                    .into_iter()
                    .map(|values| {
                        let (mut context, mut names) = (context.clone(), names.clone());
                        for (column, value) in &values {
                            context.filters.push(self.data.equals(*column, value, Origin::Per));
                        }
                        names.values.push((per.provider, values));
                        (context, names)
                    })
                    .collect()
            }
        }
    }

    /// Whether a visible row of `other` stands under null in columns of `table` (or its lookups): it finds nothing there,
    /// or nothing that comes back to it is there.
    fn stands_under(&self, other: TableId, table: TableId, members: &[ColumnId], context: &Context) -> bool {
        let mut under_null = context.clone();
        for column in members {
            under_null.filters.push(self.data.equals(*column, &Value::Null, Origin::Per));
        }
        let reaches = self.reaches(other, table, context, None);
        reaches && !self.data.visible(other, &under_null).is_empty()
    }

    fn reaches(&self, from: TableId, to: TableId, context: &Context, by: Option<RelationshipId>) -> bool {
        let mut reach = (*self.data.ways(from, &context.detours)).clone();
        reach.retain(|_, path| by.is_none() || path.first() != by.as_ref());
        reach.contains_key(&to)
            || reach.iter().any(|(one, path)| {
                self.data
                    .bridges(*one, path, context, by)
                    .into_iter()
                    .any(|id| self.reaches(self.data.schema.relationship(id).many, to, context, Some(id)))
            })
    }

    /// The context in which a table's own rows are gone through: what leads from the table to itself moves the filters of
    /// what is evaluated for them.
    fn directly(&self, table: TableId, context: &Context) -> Context {
        let mut direct = context.clone();
        direct.detours.retain(|id| {
            let r = self.data.schema.relationship(*id);
            (r.many, r.one) != (table, table)
        });
        direct
    }

    fn visible_values(&self, table: TableId, columns: &[ColumnId], context: &Context) -> Vec<Vec<Value>> {
        let mut list: Vec<Vec<Value>> = Vec::new();
        let context = self.directly(table, context);
        for row in self.data.visible(table, &context) {
            let values: Vec<Value> =
                columns.iter().map(|c| self.data.look_up(table, Some(row), *c, &context.detours)).collect();
            if !list.contains(&values) {
                list.push(values);
            }
        }
        list
    }

    /// Columns by the finest table of their chain of lookups.
    fn chains(&self, columns: &[ColumnId]) -> Vec<(TableId, Vec<ColumnId>)> {
        let reaches = |a: TableId, b: TableId| self.data.ways(a, &[]).contains_key(&b);
        let tables: BTreeSet<TableId> = columns.iter().map(|c| c.table).collect();
        let finest = tables.iter().copied().filter(|t| !tables.iter().any(|o| o != t && reaches(*o, *t)));
        let mut groups: Vec<(TableId, Vec<ColumnId>)> = finest.map(|t| (t, Vec::new())).collect();
        for column in columns {
            groups.iter_mut().find(|(t, _)| reaches(*t, column.table)).unwrap().1.push(*column);
        }
        groups
    }

    fn aggregated(&self, e: &Expr, tables: &mut BTreeSet<TableId>) {
        e.walk(&mut |part| match &part.kind {
            Kind::Aggregate(a) => match &a.over {
                Over::Rows(table) => {
                    tables.insert(*table);
                }
                Over::Per(Per { domain: PerDomain::Table(t) | PerDomain::Columns { of: Some(t), .. }, .. }) => {
                    tables.insert(*t);
                }
                Over::Per(_) => {}
            },
            Kind::Measure(id) => self.aggregated(&self.data.schema.measure(*id).expr.clone().unwrap(), tables),
            _ => {}
        });
    }

    /// The values of a calculated column, row by row.
    pub fn column(&self, table: &str, formula: &str) -> Vec<Value> {
        let schema = self.data.schema;
        let id = schema.find_table(table).unwrap();
        let source = Source::new("column", formula);
        let (tree, problems) = parser::formula(&source);
        assert!(problems.is_empty(), "{formula}: {problems:?}");
        let (expr, problems) = check::column_formula(schema, &Settings::default(), &source, id, &tree);
        let expr = expr.unwrap_or_else(|| panic!("{formula}: {problems:?}"));
        (0..self.data.tables[id.0 as usize].len())
            .map(|row| {
                let context = Context { filters: vec![self.data.one_row(id, row)], ..Context::default() };
                let names = Names { rows: vec![(check::ROW, id, row)], ..Names::default() };
                self.eval(&expr, &context, &names)
            })
            .collect()
    }

    // ---- grids

    /// `grid items by axes where filter`: lines of axis values and items, in any order.
    pub fn grid(&self, items: &[&str], axes: &[&str], filter: Option<&str>) -> Vec<Vec<Value>> {
        let schema = self.data.schema;
        let settings = Settings::default();
        let axes: Vec<ColumnId> = axes
            .iter()
            .map(|a| {
                let (t, c) = a.split_once('.').unwrap();
                schema.find_column(schema.find_table(t).unwrap(), c).unwrap()
            })
            .collect();
        let mut base = Context::default();
        if let Some(text) = filter {
            let source = Source::new("where", text);
            let (tree, _) = parser::formula(&source);
            let (narrows, problems) = check::filter(schema, &settings, &source, &tree);
            assert!(problems.is_empty(), "{text}: {problems:?}");
            for narrow in &narrows {
                let mut names = Names::default();
                for (id, value) in &narrow.outer {
                    let around = names.clone();
                    self.bind(*id, value, &Context::default(), &around, &mut names);
                }
                base.filters.push(self.predicate(narrow, &Context::default(), &names, Origin::Where));
            }
        }
        let exprs: Vec<Expr> = items
            .iter()
            .map(|text| {
                let source = Source::new("item", *text);
                let (tree, problems) = parser::formula(&source);
                assert!(problems.is_empty(), "{text}: {problems:?}");
                let (expr, problems) = check::measure_formula(schema, &settings, &source, &tree);
                expr.unwrap_or_else(|| panic!("{text}: {problems:?}"))
            })
            .collect();
        let mut both_ways = Vec::new();
        exprs.iter().for_each(|e| self.both_ways_in(e, &mut both_ways));
        let mut tried: Vec<Vec<(ColumnId, Value)>> = vec![Vec::new()];
        for (table, members) in self.chains(&axes) {
            let mut list = self.visible_values(table, &members, &base);
            let nulls: Vec<Value> = members.iter().map(|_| Value::Null).collect();
            let let_through = self.data.passes(table, None, &base, None);
            if let_through && self.is_missed(table, &both_ways) && !list.contains(&nulls) {
                list.push(nulls);
            }
            tried = tried
                .iter()
                .flat_map(|before| {
                    list.iter().map(|v| before.iter().cloned().chain(members.iter().copied().zip(v.clone())).collect())
                })
                .collect();
        }
        let mut lines = Vec::new();
        for combination in tried {
            let mut context = Context { axes: axes.clone(), ..base.clone() };
            for (column, value) in &combination {
                context.filters.push(self.data.equals(*column, value, Origin::Axis));
            }
            let (mut shows, mut figures) = (axes.is_empty(), Vec::new());
            for e in &exprs {
                self.read.set(false);
                let value = self.eval(e, &context, &Names::default());
                shows |= self.read.get() && !value.is_null();
                figures.push(value);
            }
            if shows {
                let axis = |a: &ColumnId| combination.iter().find(|(c, _)| c == a).unwrap().1.clone();
                lines.push(axes.iter().map(axis).chain(figures).collect());
            }
        }
        lines
    }

    /// Whether some row of some table finds nothing in this one, by any path.
    fn is_missed(&self, table: TableId, both_ways: &[RelationshipId]) -> bool {
        let schema = self.data.schema;
        let mut leading = vec![table];
        let mut i = 0;
        while i < leading.len() {
            let more: Vec<TableId> =
                schema.relationships.iter().filter(|r| r.one == leading[i]).map(|r| r.many).collect();
            leading.extend(more.into_iter().filter(|t| !leading.contains(t)).collect::<Vec<_>>());
            i += 1;
        }
        (0..schema.relationships.len() as u32).map(RelationshipId).any(|id| {
            let def = schema.relationship(id);
            let rows = self.data.tables[def.many.0 as usize].len();
            let misses = leading.contains(&def.one) && (0..rows).any(|r| self.data.follow(id, Some(r)).is_none());
            let alone = |row| self.data.pointing_at(id, row).is_empty();
            let comes_back = (def.both_ways || both_ways.contains(&id)) && leading.contains(&def.many);
            misses || comes_back && (0..self.data.tables[def.one.0 as usize].len()).any(alone)
        })
    }
}

impl Naive<'_> {
    fn both_ways_in(&self, e: &Expr, found: &mut Vec<RelationshipId>) {
        e.walk(&mut |part| match &part.kind {
            Kind::BothWays(_, id) => found.push(*id),
            Kind::Measure(id) => self.both_ways_in(&self.data.schema.measure(*id).expr.clone().unwrap(), found),
            _ => {}
        });
    }
}

fn has_aggregate(e: &Expr) -> bool {
    let mut found = false;
    e.walk(&mut |part| found |= matches!(part.kind, Kind::Aggregate(_) | Kind::Measure(_)));
    found
}

fn member(value: Value, set: &[Value]) -> Value {
    if value.is_null() { Value::Null } else { Value::Bool(set.contains(&value)) }
}

/// `and` and `or` by three-valued logic.
fn connect(decisive: bool, left: Value, right: impl FnOnce() -> Value) -> Value {
    if left == Value::Bool(decisive) {
        return left;
    }
    let right = right();
    if right == Value::Bool(decisive) {
        right
    } else if left.is_null() || right.is_null() {
        Value::Null
    } else {
        Value::Bool(!decisive)
    }
}

/// The values of the rows of one group to one value.
fn fold(a: &Aggregate, rows: Vec<Vec<Value>>, order: Vec<Vec<Value>>) -> Value {
    use AggregateKind::*;
    let kind = a.kind;
    let values: Vec<&Value> = rows.iter().filter_map(|r| r.first()).filter(|v| !v.is_null()).collect();
    let sum = || {
        let scale =
            values.iter().map(|v| if let Value::Decimal { scale, .. } = v { *scale } else { 0 }).max().unwrap_or(0);
        if values.iter().any(|v| matches!(v, Value::Float(_))) {
            return Value::Float(values.iter().map(|v| v.as_f64().unwrap()).sum());
        }
        let unscaled: i128 = values.iter().map(|v| v.as_exact(scale).unwrap()).sum();
        if scale == 0 { Value::Int(unscaled as i64) } else { Value::Decimal { unscaled, scale } }
    };
    match kind {
        Rows => Value::Int(rows.len() as i64),
        Count => Value::Int(values.len() as i64),
        CountDistinct => {
            let complete = rows.iter().filter(|r| r.iter().all(|v| !v.is_null()));
            let distinct: std::collections::HashSet<&Vec<Value>> = complete.collect();
            Value::Int(distinct.len() as i64)
        }
        Single => match rows.first() {
            Some(first) if rows.iter().all(|r| r[0] == first[0]) => first[0].clone(),
            _ => Value::Null,
        },
        _ if values.is_empty() => Value::Null,
        Sum => sum(),
        Avg => Value::Float(sum().as_f64().unwrap() / values.len() as f64),
        Min => (*values.iter().min_by(|a, b| a.total_cmp(b)).unwrap()).clone(),
        Max => (*values.iter().max_by(|a, b| a.total_cmp(b)).unwrap()).clone(),
        Median => {
            let mut sorted: Vec<f64> = values.iter().map(|v| v.as_f64().unwrap()).collect();
            sorted.sort_by(f64::total_cmp);
            let n = sorted.len();
            Value::float((sorted[(n - 1) / 2] + sorted[n / 2]) / 2.0)
        }
        PercentileDisc => {
            let share = a.constant.as_ref().and_then(Value::as_f64).unwrap();
            let mut sorted: Vec<&Value> = values.clone();
            sorted.sort_by(|x, y| x.total_cmp(y));
            let at_least = |i: &usize| (*i as f64 + 1.0) / sorted.len() as f64 >= share;
            sorted[(0..sorted.len()).find(at_least).unwrap()].clone()
        }
        VarPop => {
            let all: Vec<f64> = values.iter().map(|v| v.as_f64().unwrap()).collect();
            let mean = all.iter().sum::<f64>() / all.len() as f64;
            Value::float(all.iter().map(|v| (v - mean) * (v - mean)).sum::<f64>() / all.len() as f64)
        }
        First | Last => {
            // Rows whose value is null are skipped; of equal places the smallest (greatest) value.
            let mut all: Vec<(&Value, &Value)> =
                rows.iter().zip(&order).map(|(r, o)| (&o[0], &r[0])).filter(|(_, v)| !v.is_null()).collect();
            all.sort_by(|(o, v), (p, w)| o.total_cmp(p).then(v.total_cmp(w)));
            let found = if kind == First { all.first() } else { all.last() };
            found.map_or(Value::Null, |(_, v)| (*v).clone())
        }
        other => unreachable!("{other:?} is not made by the generator"),
    }
}
