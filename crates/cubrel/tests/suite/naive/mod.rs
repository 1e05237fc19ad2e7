//! An evaluator that does everything the slow way: one cell after the other, one row after the other, from the rules of
//! the language and nothing else. Operators on values are the library's (held against SQLite elsewhere); filters,
//! aggregates, `per`, `given`, `via`, rows and lines are written here a second time.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

mod aggregates;
mod days;
mod edits;
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
    AggregateKind, EditTarget, Kind, LetId, Narrow, Over, PerDomain, ProviderId, Rank, SetOf, TypedAggregate,
    TypedEdit, TypedExpr, TypedPer, TypedPeriod,
};
use cubrel::internals::InModel as _;
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

    fn eval(&self, e: &TypedExpr, context: &Context, names: &Names) -> Value {
        let truth = |e: &TypedExpr| self.eval(e, context, names);
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
    fn row_value(&self, e: &TypedExpr, table: TableId, row: Option<usize>, context: &Context, names: &Names) -> Value {
        if let Kind::Column { column, detours, around } = &e.kind {
            let all = self.around_row(table, context, detours, *around);
            return self.data.look_up(table, row, *column, &all);
        }
        let part = |e: &TypedExpr| self.row_value(e, table, row, context, names);
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
    fn bind(&self, id: LetId, value: &TypedExpr, context: &Context, names: &Names, to: &mut Names) {
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
        figure: &TypedExpr,
        context: &Context,
        names: &Names,
    ) -> Vec<(Value, Value)> {
        let before = self.read.get();
        let per = TypedPer { provider, domain: PerDomain::Columns { columns: vec![column], of: None }, filter: None };
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
        let exprs: Vec<TypedExpr> = items
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
    fn both_ways_in(&self, e: &TypedExpr, found: &mut Vec<RelationshipId>) {
        e.walk(&mut |part| match &part.kind {
            Kind::BothWays(_, id) => found.push(*id),
            Kind::Measure(id) => self.both_ways_in(&self.data.schema.measure(*id).expr.clone().unwrap(), found),
            _ => {}
        });
    }
}

fn has_aggregate(e: &TypedExpr) -> bool {
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
