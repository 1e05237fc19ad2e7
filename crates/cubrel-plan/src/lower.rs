//! Typed expressions to assemblies and reads.

use crate::rows::intern_leaf;
use std::collections::{BTreeSet, HashMap};
use std::sync::Arc;

use super::identity::Reads;
use super::ids::{AggregateId, DimId, KeyId};
use super::rows::{ParameterId, Predicate, RowExpr, RowLeaf};
use super::scope::{Dim, Filter, FilterOrigin, FilterTest, Key, Scope};
use super::tree::{
    Assembly, Bound, Domain, DomainGroup, Fold, Leaf, OverDays, PeriodLeaf, RankLeaf, Read, ReadAggregate, ReadRef,
    SetLeaf,
};
use super::uses::{aggregated_tables, is_captured, is_null_without_rows, references};
use cubrel_formula::scalar::{self, Place, Scalar, ScalarKind};
use cubrel_formula::schema::{ColumnId, MeasureId, RelationshipId, Schema, TableId};
use cubrel_formula::source::{Diagnostic, Problem, Source, Span};
use cubrel_formula::typed::{
    AggregateKind, Kind, LetId, Narrow, Over, PerDomain, ProviderId, Rank, SetOf, TypedAggregate, TypedEdit, TypedExpr,
    TypedPer, TypedPeriod,
};
use cubrel_value::cancel::Ending;
use cubrel_value::{Type, Value};

/// Makes plans; all that it plans share their reads.
#[derive(Debug)]
pub struct Planner<'a> {
    schema: &'a Schema,
    reads: Reads,
    next_slot: u32,
    /// How many assemblies there are so far.
    assemblies: usize,
    /// When to end.
    ending: Ending,
    /// Whether it has ended so.
    ended: bool,
}

/// Assemblies of one plan.
const MAX_ASSEMBLIES: usize = 20_000;
/// After so many of them it is looked whether to go on.
const LOOKED: usize = 16;

/// The leaves of an assembly; a measure that is named several times is one of them.
#[derive(Default)]
struct LeafList {
    list: Vec<Leaf>,
    measures: HashMap<MeasureId, usize>,
}

impl LeafList {
    /// Takes one more, and tells how to get at it.
    fn push(&mut self, leaf: Leaf) -> ScalarKind {
        self.list.push(leaf);
        ScalarKind::Leaf(self.list.len() - 1)
    }
}

/// What an expression becomes in an assembly: a part of its formula, or a leaf, which others compute.
enum Lowered {
    Scalar(ScalarKind),
    Leaf(Leaf),
}

impl Lowered {
    fn constant(value: Value) -> Lowered {
        Lowered::Scalar(ScalarKind::Constant(value))
    }

    /// What the checker lets nobody write.
    fn fault(what: &'static str) -> Lowered {
        Lowered::Scalar(ScalarKind::Fault(what))
    }
}

/// What names mean where an expression is planned.
#[derive(Clone, Debug)]
pub struct Environment {
    source: Arc<Source>,
    constants: HashMap<LetId, Value>,
    lets: HashMap<LetId, DimId>,
    providers: HashMap<ProviderId, ProviderAt>,
}

#[derive(Clone, Debug)]
enum ProviderAt {
    Row(DimId, TableId),
    Columns(Vec<(ColumnId, DimId)>),
    /// The one value that a column has, read from the data.
    Single(Box<Leaf>),
}

impl Environment {
    /// For a formula in which nothing is bound.
    pub fn new(source: &Arc<Source>) -> Environment {
        Environment {
            source: source.clone(),
            constants: HashMap::new(),
            lets: HashMap::new(),
            providers: HashMap::new(),
        }
    }

    /// What a name stands for: a constant, a dimension, or what the formula itself binds.
    fn value_of(&self, id: LetId) -> Lowered {
        match (self.constants.get(&id), self.lets.get(&id)) {
            (Some(value), _) => Lowered::constant(value.clone()),
            (None, Some(dim)) => Lowered::Leaf(Leaf::Dim(*dim)),
            (None, None) => Lowered::Scalar(ScalarKind::LetRef(id)),
        }
    }

    /// With a current row of `table`, held by dimension `dim`.
    #[must_use]
    pub fn with_row(mut self, provider: ProviderId, table: TableId, dim: DimId) -> Environment {
        self.providers.insert(provider, ProviderAt::Row(dim, table));
        self
    }

    /// With values of columns, each held by a dimension.
    #[must_use]
    pub fn with_columns(mut self, provider: ProviderId, columns: Vec<(ColumnId, DimId)>) -> Environment {
        self.providers.insert(provider, ProviderAt::Columns(columns));
        self
    }

    /// With a `let` whose value a dimension holds.
    pub(super) fn bind(&mut self, id: LetId, dim: DimId) {
        self.lets.insert(id, dim);
    }

    fn place(&self, span: Span) -> Place {
        Place { source: self.source.clone(), span }
    }

    /// The dimensions that an expression refers to as values.
    fn dims_used_by(&self, expr: &TypedExpr) -> BTreeSet<DimId> {
        let (mut lets, mut providers) = (BTreeSet::new(), BTreeSet::new());
        references(expr, &mut lets, &mut providers);
        let mut dims: BTreeSet<DimId> = lets.iter().filter_map(|id| self.lets.get(id)).copied().collect();
        for provider in providers {
            match self.providers.get(&provider) {
                Some(ProviderAt::Row(dim, _)) => {
                    dims.insert(*dim);
                }
                Some(ProviderAt::Columns(columns)) => dims.extend(columns.iter().map(|(_, d)| *d)),
                Some(ProviderAt::Single(leaf)) => dims.extend(leaf_dims(leaf)),
                None => {}
            }
        }
        dims
    }

    /// For an inner scope that keeps only some dimensions, in this order.
    fn projected(&self, keep: &[DimId]) -> Environment {
        let place_of = |dim: DimId| keep.iter().position(|k| *k == dim).map(DimId::new);
        let mut inner = self.clone();
        inner.lets = self.lets.iter().filter_map(|(id, d)| Some((*id, place_of(*d)?))).collect();
        inner.providers = self
            .providers
            .iter()
            .filter_map(|(id, at)| {
                let at = match at {
                    ProviderAt::Row(dim, table) => ProviderAt::Row(place_of(*dim)?, *table),
                    ProviderAt::Columns(columns) => ProviderAt::Columns(
                        columns.iter().map(|(c, d)| Some((*c, place_of(*d)?))).collect::<Option<Vec<_>>>()?,
                    ),
                    ProviderAt::Single(leaf) => ProviderAt::Single(Box::new(project_leaf(leaf, &place_of)?)),
                };
                Some((*id, at))
            })
            .collect();
        inner
    }
}

/// The dimensions of a leaf that reads.
fn leaf_dims(leaf: &Leaf) -> Vec<DimId> {
    match leaf {
        Leaf::Read(r, _) => r.dims.iter().chain(&r.outer).copied().collect(),
        _ => Vec::new(),
    }
}

fn project_leaf(leaf: &Leaf, place_of: &impl Fn(DimId) -> Option<DimId>) -> Option<Leaf> {
    let Leaf::Read(r, aggregate) = leaf else {
        return None;
    };
    let moved = |dims: &[DimId]| dims.iter().map(|d| place_of(*d)).collect::<Option<Vec<_>>>();
    Some(Leaf::Read(ReadRef { read: r.read, dims: moved(&r.dims)?, outer: moved(&r.outer)? }, *aggregate))
}

impl<'a> Planner<'a> {
    /// A planner for formulas over a schema.
    pub fn new(schema: &'a Schema) -> Planner<'a> {
        Planner {
            schema,
            reads: Reads::default(),
            next_slot: 0,
            assemblies: 0,
            ending: Ending::default(),
            ended: false,
        }
    }

    /// The same, which ends where whoever asked wants it to; the plan is not whole then, and refused.
    pub fn until(mut self, ending: &Ending) -> Planner<'a> {
        self.ending = ending.clone();
        self
    }

    pub(super) fn schema(&self) -> &'a Schema {
        self.schema
    }

    /// Whether formulas that use each other under many different filters have made the plan too large to go on, or it
    /// has taken too long.
    fn is_too_large(&self) -> bool {
        self.ended || self.assemblies > MAX_ASSEMBLIES
    }

    /// What is told of such a plan.
    fn too_large(source: &Arc<Source>) -> Diagnostic {
        let message = format!("planning this takes more than {MAX_ASSEMBLIES} parts");
        let whole = Span::new(0, source.text.len());
        Diagnostic::error(Problem::Model, source, whole, message).help(
            "measures that use others several times, each time under other filters, multiply: use each of them once",
        )
    }

    /// All reads that were planned, where no formula was.
    pub fn into_list(self) -> Vec<Read> {
        self.reads.into_list()
    }

    /// All reads that were planned.
    ///
    /// # Errors
    /// When there is far too much to be planned; what was planned is not whole then.
    pub fn into_reads(self, source: &Arc<Source>) -> Result<Vec<Read>, Vec<Diagnostic>> {
        if self.is_too_large() { Err(vec![Planner::too_large(source)]) } else { Ok(self.into_list()) }
    }

    /// Plans an expression for all cells of a scope.
    pub fn assembly(&mut self, label: &str, expr: &TypedExpr, scope: &Scope, env: &Environment) -> Assembly {
        self.assemblies += 1;
        self.ended = self.ended || (self.assemblies.is_multiple_of(LOOKED) && self.ending.has_come());
        if self.is_too_large() {
            // The plan is refused then, however many parts are still to come.
            let nothing = Scalar::constant(Value::Null, expr.ty, env.place(expr.span));
            return Assembly {
                label: label.to_string(),
                scalar: nothing,
                leaves: Vec::new(),
                scope: Arc::new(scope.clone()),
            };
        }
        let mut leaves = LeafList::default();
        let scalar = self.lower(expr, scope, env, &mut leaves);
        Assembly { label: label.to_string(), scalar, leaves: leaves.list, scope: Arc::new(scope.clone()) }
    }

    /// A slot that nothing else uses.
    pub(super) fn fresh_slot(&mut self) -> ParameterId {
        self.next_slot += 1;
        ParameterId(self.next_slot)
    }

    fn lower(&mut self, expr: &TypedExpr, scope: &Scope, env: &Environment, leaves: &mut LeafList) -> Scalar {
        if let Kind::Let(id, value, body) = &expr.kind
            && let Kind::Literal(constant) = &value.kind
        {
            let mut inner = env.clone();
            inner.constants.insert(*id, constant.clone());
            return self.lower(body, scope, &inner, leaves);
        }
        let kind = match self.lowered(expr, scope, env, leaves) {
            Lowered::Scalar(kind) => kind,
            Lowered::Leaf(leaf) => leaves.push(leaf),
        };
        Scalar { kind, ty: expr.ty, place: env.place(expr.span) }
    }

    /// What an expression becomes, kind by kind.
    fn lowered(&mut self, expr: &TypedExpr, scope: &Scope, env: &Environment, leaves: &mut LeafList) -> Lowered {
        match &expr.kind {
            Kind::Literal(value) => Lowered::constant(value.clone()),
            // The checker gives columns only inside aggregates and predicates, which `row` lowers.
            Kind::Column { .. } => Lowered::fault("a column outside of rows"),
            // A set is the value of a `let` around what tests against it, and `bind` makes it.
            Kind::Set(_) => Lowered::fault("a set that nothing tests against"),
            Kind::Narrowed(column) => Lowered::constant(Value::Bool(scope.narrows(*column))),
            Kind::Grouping(column) => Lowered::constant(Value::Int(i64::from(!scope.axes.contains(column)))),
            Kind::Call(op, args) => Lowered::Scalar(ScalarKind::Call(*op, self.lower_all(args, scope, env, leaves))),
            Kind::Coalesce(parts) => Lowered::Scalar(ScalarKind::Coalesce(self.lower_all(parts, scope, env, leaves))),
            Kind::And(a, b) => {
                let [a, b] = [a, b].map(|e| Box::new(self.lower(e, scope, env, leaves)));
                Lowered::Scalar(ScalarKind::And(a, b))
            }
            Kind::Or(a, b) => {
                let [a, b] = [a, b].map(|e| Box::new(self.lower(e, scope, env, leaves)));
                Lowered::Scalar(ScalarKind::Or(a, b))
            }
            Kind::Case(arms, otherwise) => {
                let mut lower = |e: &TypedExpr| self.lower(e, scope, env, leaves);
                let arms = arms.iter().map(|(condition, result)| (lower(condition), lower(result))).collect();
                let otherwise = otherwise.as_ref().map(|e| Box::new(lower(e)));
                Lowered::Scalar(ScalarKind::Case(arms, otherwise))
            }
            Kind::Let(id, value, body) => self.lower_let(*id, value, body, (scope, env), leaves),
            Kind::LetRef(id) => env.value_of(*id),
            Kind::Current { provider, column, detours, around } => {
                let leaf = self.current(*provider, *column, (detours, *around), scope, env);
                leaf.map_or_else(|| Lowered::fault("a column of no current row"), Lowered::Leaf)
            }
            Kind::Measure(id) => self.measure(*id, scope, leaves),
            Kind::Via(body, relationship) => {
                let mut inner = scope.clone();
                inner.detours.push(*relationship);
                Lowered::Leaf(Leaf::Part(Box::new(self.assembly("", body, &inner, env))))
            }
            Kind::BothWays(body, relationship) => {
                let mut inner = scope.clone();
                inner.both_ways.push(*relationship);
                Lowered::Leaf(Leaf::Part(Box::new(self.assembly("", body, &inner, env))))
            }
            Kind::Member(of, id) => match env.lets.get(id) {
                Some(set) => Lowered::Leaf(Leaf::Member(Box::new(self.assembly("", of, scope, env)), *set)),
                None => Lowered::fault("a test against no set"),
            },
            Kind::Aggregate(aggregate) => Lowered::Leaf(match &aggregate.over {
                Over::Rows(table) => self.row_aggregate(*table, aggregate, expr.ty, scope, env),
                Over::Per(per) => self.fold(per, aggregate, expr.ty, scope, env),
            }),
            Kind::Rank(rank) => Lowered::Leaf(self.rank(rank, scope, env)),
            Kind::Given(body, edits) => Lowered::Leaf(self.given(body, edits, scope, env)),
        }
    }

    fn lower_all(&mut self, all: &[TypedExpr], scope: &Scope, env: &Environment, leaves: &mut LeafList) -> Vec<Scalar> {
        all.iter().map(|e| self.lower(e, scope, env, leaves)).collect()
    }

    /// A value with a name: where it is needed under other filters than its own, it is evaluated once, around them.
    fn lower_let(
        &mut self,
        id: LetId,
        value: &TypedExpr,
        body: &TypedExpr,
        (scope, env): (&Scope, &Environment),
        leaves: &mut LeafList,
    ) -> Lowered {
        if !matches!(value.kind, Kind::Set(_)) && !is_captured(body, id) {
            let [value, body] = [value, body].map(|e| Box::new(self.lower(e, scope, env, leaves)));
            return Lowered::Scalar(ScalarKind::Let(id, value, body));
        }
        Lowered::Leaf(
            self.bind(&[(id, value.clone())], scope, env, |planner, scope, env| planner.assembly("", body, scope, env)),
        )
    }

    /// A measure, once for each assembly.
    fn measure(&mut self, id: MeasureId, scope: &Scope, leaves: &mut LeafList) -> Lowered {
        let measure = self.schema.measure(id);
        if let Some(place) = leaves.measures.get(&id) {
            return Lowered::Scalar(ScalarKind::Leaf(*place));
        }
        if self.is_too_large() {
            // The plan is refused then.
            return Lowered::fault("a plan that is too large");
        }
        let Some(body) = &measure.expr else { return Lowered::fault("a measure without a formula") };
        leaves.measures.insert(id, leaves.list.len());
        let inner = Environment::new(&measure.source);
        Lowered::Leaf(Leaf::Part(Box::new(self.assembly(&measure.name, body, scope, &inner))))
    }

    fn current(
        &mut self,
        provider: ProviderId,
        column: ColumnId,
        detours: (&[RelationshipId], usize),
        scope: &Scope,
        env: &Environment,
    ) -> Option<Leaf> {
        match env.providers.get(&provider)? {
            ProviderAt::Row(dim, table) => {
                let path = self.path(*table, column.table, scope, detours)?;
                Some(Leaf::Current { dim: *dim, table: *table, column, path })
            }
            ProviderAt::Columns(columns) => columns.iter().find(|(c, _)| *c == column).map(|(_, dim)| Leaf::Dim(*dim)),
            ProviderAt::Single(leaf) => Some((**leaf).clone()),
        }
    }

    /// The way from the rows of a table to another one; `around` of the detours stand around whatever goes through the
    /// rows. Those from the table to itself move the rows' filters: for the rows' own columns only those count that
    /// stand at the columns.
    fn path(
        &self,
        from: TableId,
        to: TableId,
        scope: &Scope,
        (detours, around): (&[RelationshipId], usize),
    ) -> Option<Vec<RelationshipId>> {
        let to_itself = |id: &RelationshipId| {
            let r = self.schema.relationship(*id);
            r.many == from && r.one == from
        };
        let outside = scope.detours.iter().chain(&detours[..around]).filter(|id| !to_itself(id));
        let all: Vec<RelationshipId> = outside.chain(&detours[around..]).copied().collect();
        self.schema.reach(from, &all).remove(&to)
    }

    /// Values evaluated once here, as dimensions of what `body` plans.
    pub(super) fn bind(
        &mut self,
        values: &[(LetId, TypedExpr)],
        scope: &Scope,
        env: &Environment,
        body: impl FnOnce(&mut Self, &Scope, &Environment) -> Assembly,
    ) -> Leaf {
        let (mut inner, mut inner_env) = (scope.clone(), env.clone());
        let mut assemblies = Vec::new();
        for (id, value) in values {
            assemblies.push(self.bound(value, scope, env));
            let slot = self.fresh_slot();
            let dim = inner.push_dim(Dim { key: Key::Value(slot), origin: FilterOrigin::Let, filters: false });
            inner_env.lets.insert(*id, dim);
        }
        let body = Box::new(body(self, &inner, &inner_env));
        Leaf::Bind { values: assemblies, body }
    }

    /// A value, or a set.
    pub(super) fn bound(&mut self, value: &TypedExpr, scope: &Scope, env: &Environment) -> Bound {
        match &value.kind {
            Kind::Set(set) => Bound::Set(Box::new(self.set(set, scope, env))),
            _ => Bound::Value(self.assembly("", value, scope, env)),
        }
    }

    // ---- given

    fn given(&mut self, body: &TypedExpr, edits: &[TypedEdit], scope: &Scope, env: &Environment) -> Leaf {
        let outer: Vec<(LetId, TypedExpr)> = edits
            .iter()
            .flat_map(|e| match e {
                TypedEdit::Narrow(narrow) => narrow.outer.clone(),
                _ => Vec::new(),
            })
            .collect();
        if outer.is_empty() {
            return self.edited(body, edits, scope, env);
        }
        self.bind(&outer, scope, env, |planner, scope, env| {
            let leaf = planner.edited(body, edits, scope, env);
            let scalar = Scalar { kind: ScalarKind::Leaf(0), ty: body.ty, place: env.place(body.span) };
            Assembly { label: String::new(), scalar, leaves: vec![leaf], scope: Arc::new(scope.clone()) }
        })
    }

    /// Dropping acts on the filters that were there before; narrowing and period edits then apply left to right.
    fn edited(&mut self, body: &TypedExpr, edits: &[TypedEdit], scope: &Scope, env: &Environment) -> Leaf {
        let mut inner = scope.clone();
        edits.iter().for_each(|e| inner.drop_filters(e));
        self.narrowed(body, edits, inner, env)
    }

    fn narrowed(&mut self, body: &TypedExpr, edits: &[TypedEdit], mut scope: Scope, env: &Environment) -> Leaf {
        for (i, edit) in edits.iter().enumerate() {
            match edit {
                TypedEdit::Narrow(narrow) => {
                    let filter = self.filter(narrow, &scope, env, FilterOrigin::Edit);
                    scope.filters.push(filter);
                }
                TypedEdit::Period(period) => return self.period(period, body, &edits[i + 1..], &scope, env),
                TypedEdit::Without(_)
                | TypedEdit::WithoutAll
                | TypedEdit::WithoutAxes
                | TypedEdit::WithoutRow
                | TypedEdit::WithoutAllBut(_) => {}
            }
        }
        self.projected(body, "", &scope, env)
    }

    /// A period edit, and the edits after it: the days that it leaves are one more dimension.
    fn period(
        &mut self,
        period: &TypedPeriod,
        body: &TypedExpr,
        rest: &[TypedEdit],
        scope: &Scope,
        env: &Environment,
    ) -> Leaf {
        let (calendar, date) = (period.calendar, period.date);
        let mut seen = scope.clone();
        seen.drop_day_kinds(self.schema, calendar);
        seen.dims.push(Dim { key: Key::Column(date), origin: FilterOrigin::Per, filters: true });
        let visible = self.read(calendar, &seen, None).0;
        let with_rows = period.rows_of.map(|table| {
            let mut seen = scope.clone();
            seen.dims.push(Dim { key: Key::Column(date), origin: FilterOrigin::Per, filters: true });
            self.read(table, &seen, None).0
        });
        let mut inner = scope.clone();
        inner.drop_days(self.schema, calendar);
        let slot = self.fresh_slot();
        inner.dims.push(Dim { key: Key::Value(slot), origin: FilterOrigin::Let, filters: false });
        inner.filters.push(days_filter(self.schema, date, slot, &env.place(body.span)));
        let leaf = self.narrowed(body, rest, inner.clone(), env);
        let scalar = Scalar { kind: ScalarKind::Leaf(0), ty: body.ty, place: env.place(body.span) };
        let body = Assembly { label: String::new(), scalar, leaves: vec![leaf], scope: Arc::new(inner) };
        Leaf::Period(Box::new(PeriodLeaf { period: *period, visible, with_rows, body }))
    }

    /// Plans `body` over only those dimensions that still filter or whose value is used.
    fn projected(&mut self, body: &TypedExpr, label: &str, scope: &Scope, env: &Environment) -> Leaf {
        let keep = needed_dims(scope, &env.dims_used_by(body));
        let mut inner = scope.clone();
        inner.dims = keep.iter().map(|d| *scope.dim(*d)).collect();
        let body = self.assembly(label, body, &inner, &env.projected(&keep));
        Leaf::Project { keep, body: Box::new(body) }
    }

    /// A predicate as a filter, its outside values being dimensions of `scope`.
    pub(super) fn filter(&mut self, narrow: &Narrow, scope: &Scope, env: &Environment, origin: FilterOrigin) -> Filter {
        let test = self.row(&narrow.predicate, narrow.table, scope, env);
        let predicate = Predicate {
            table: narrow.table,
            columns: narrow.columns.clone(),
            outer: outer_slots(&test),
            test,
            days: None,
        };
        Filter { test: FilterTest::Predicate(Arc::new(predicate)), origin }
    }

    // ---- reads

    /// An expression over the rows of a table.
    pub(super) fn row(&mut self, expr: &TypedExpr, table: TableId, scope: &Scope, env: &Environment) -> RowExpr {
        let mut leaves = Vec::new();
        let scalar = scalar::from_expr(expr, &env.source, &mut |e| match &e.kind {
            Kind::Column { column, detours, around } => {
                Some(match self.path(table, column.table, scope, (detours, *around)) {
                    Some(path) => ScalarKind::Leaf(intern_leaf(&mut leaves, RowLeaf::Column { column: *column, path })),
                    None => ScalarKind::Fault("a column that cannot be looked up from here"),
                })
            }
            Kind::LetRef(id) => match (env.constants.get(id), env.lets.get(id)) {
                (Some(value), _) => Some(ScalarKind::Constant(value.clone())),
                (None, Some(dim)) => match scope.dim(*dim).key {
                    Key::Value(slot) => Some(ScalarKind::Leaf(intern_leaf(&mut leaves, RowLeaf::Parameter(slot)))),
                    Key::Column(_) | Key::Row(_) => None,
                },
                (None, None) => None,
            },
            Kind::Member(of, id) => match env.lets.get(id).map(|dim| scope.dim(*dim).key) {
                Some(Key::Value(slot)) => {
                    let of = Box::new(self.row(of, table, scope, env));
                    leaves.push(RowLeaf::Member { slot, of });
                    Some(ScalarKind::Leaf(leaves.len() - 1))
                }
                _ => None,
            },
            _ => None,
        });
        RowExpr { scalar, leaves }
    }

    fn row_aggregate(
        &mut self,
        table: TableId,
        a: &TypedAggregate,
        ty: Type,
        scope: &Scope,
        env: &Environment,
    ) -> Leaf {
        let args = a.args.iter().map(|e| self.row(e, table, scope, env)).collect();
        let order = a.order.iter().map(|(e, d)| (self.row(e, table, scope, env), *d)).collect();
        let aggregate = ReadAggregate { kind: a.kind, args, constant: a.constant.clone(), order, ty };
        if let Some(leaf) = self.over_days(table, &aggregate, scope) {
            return leaf;
        }
        let (read, index) = self.read(table, scope, Some(aggregate));
        Leaf::Read(read, index)
    }

    /// An aggregate under a period edit that can be put together from its values by day.
    fn over_days(&mut self, table: TableId, aggregate: &ReadAggregate, scope: &Scope) -> Option<Leaf> {
        use AggregateKind::*;
        let reach = self.schema.reach(table, &scope.detours);
        let at = scope
            .filters
            .iter()
            .rposition(|f| f.days().is_some() && f.reaching(|t| reach.contains_key(&t)).is_some())?;
        let days = &scope.filters[at];
        let slot = days.days()?;
        let column = *days.columns().first()?;
        let parts: Vec<ReadAggregate> = match aggregate.kind {
            Sum | Count | Rows | Min | Max => vec![aggregate.clone()],
            Avg => {
                let input = aggregate.args.first()?.scalar.ty;
                let sum = if input.is_exact() && input.scale() > 0 { Type::decimal(input.scale()) } else { input };
                let part = |kind, ty| ReadAggregate { kind, ty, ..aggregate.clone() };
                vec![part(Sum, sum), part(Count, Type::Int)]
            }
            _ => return None,
        };
        let mut by_day = scope.clone();
        by_day.filters.remove(at);
        by_day.dims.push(Dim { key: Key::Column(column), origin: FilterOrigin::Per, filters: true });
        let mut places = Vec::new();
        let mut read = None;
        for part in parts {
            let (reference, place) = self.read(table, &by_day, Some(part));
            places.push(place);
            read = Some(reference);
        }
        let (by_set, place) = self.read(table, scope, Some(aggregate.clone()));
        Some(Leaf::OverDays(Box::new(OverDays {
            by_day: read?,
            parts: places,
            by_set,
            aggregate: place,
            days: DimId::new(scope.dims.iter().rposition(|d| d.key == Key::Value(slot))?),
            outer_dims: scope.dims.len(),
            kind: aggregate.kind,
            ty: aggregate.ty,
        })))
    }

    /// The read of a table in a scope, shared with equal ones; an aggregate is added to it unless it is there.
    pub fn read(&mut self, table: TableId, scope: &Scope, aggregate: Option<ReadAggregate>) -> (ReadRef, AggregateId) {
        let reached = self.reached(table, scope, None, 0);
        let mut dims: Vec<DimId> = reached.all_dims();
        dims.sort_unstable();
        dims.dedup();
        let mut outer: Vec<ParameterId> = reached.all_outer();
        if let Some(a) = &aggregate {
            outer.extend(a.args.iter().chain(a.order.iter().map(|(e, _)| e)).flat_map(outer_slots));
        }
        outer.sort_unstable();
        outer.dedup();
        let dim_of = |slot: &ParameterId| {
            let dim = scope.dims.iter().rposition(|d| d.key == Key::Value(*slot));
            debug_assert!(dim.is_some(), "values from outside are dimensions of the scope");
            DimId::new(dim.unwrap_or(0))
        };
        let value_dims = outer.iter().map(dim_of).collect();
        let read = reached.into_read(table, scope, &dims, outer);
        let index = self.reads.place_of(read);
        let place = aggregate.map_or(AggregateId::new(0), |a| self.reads.place_of_aggregate(index, a));
        (ReadRef { read: index, dims, outer: value_dims }, place)
    }

    // ---- per

    fn fold(&mut self, per: &TypedPer, a: &TypedAggregate, ty: Type, scope: &Scope, env: &Environment) -> Leaf {
        let (keys, origin) = match &per.domain {
            PerDomain::Table(table) => (vec![Key::Row(*table)], FilterOrigin::BoundRow),
            PerDomain::Columns { columns, .. } => {
                (columns.iter().map(|c| Key::Column(*c)).collect(), FilterOrigin::Per)
            }
        };
        let inner = extended(scope, &keys, origin);
        let first = scope.dims.len();
        let mut inner_env = env.clone();
        let at = match &per.domain {
            PerDomain::Table(table) => ProviderAt::Row(DimId::new(first), *table),
            PerDomain::Columns { columns, .. } => {
                ProviderAt::Columns(columns.iter().enumerate().map(|(i, c)| (*c, DimId::new(first + i))).collect())
            }
        };
        inner_env.providers.insert(per.provider, at);
        let mut tables = BTreeSet::new();
        a.args.iter().chain(&per.filter).for_each(|e| aggregated_tables(self.schema, e, &mut tables));
        let domain = self.domain(&per.domain, &keys, &tables, scope);
        let sparse = a.kind != AggregateKind::Single && a.args.iter().any(|e| is_null_without_rows(self.schema, e));
        let fold = Fold {
            domain,
            filter: per.filter.as_ref().map(|f| self.assembly("", f, &inner, &inner_env)),
            args: a.args.iter().map(|e| self.assembly("", e, &inner, &inner_env)).collect(),
            order: a.order.iter().map(|(e, d)| (self.assembly("", e, &inner, &inner_env), *d)).collect(),
            kind: a.kind,
            constant: a.constant.clone(),
            ty,
            sparse,
        };
        Leaf::Fold(Box::new(fold))
    }

    fn domain(&mut self, per: &PerDomain, keys: &[Key], tables: &BTreeSet<TableId>, scope: &Scope) -> Domain {
        let groups = match per {
            PerDomain::Table(table) => {
                vec![self.domain_group(*table, vec![KeyId::new(0)], keys, &BTreeSet::new(), scope)]
            }
            PerDomain::Columns { of: Some(table), .. } => {
                vec![self.domain_group(
                    *table,
                    (0..keys.len()).map(KeyId::new).collect(),
                    keys,
                    &BTreeSet::new(),
                    scope,
                )]
            }
            PerDomain::Columns { columns, of: None } => chains(self.schema, columns)
                .into_iter()
                .map(|(table, members)| self.domain_group(table, members, keys, tables, scope))
                .collect(),
        };
        Domain { outer_dims: scope.dims.len(), keys: keys.to_vec(), groups }
    }

    /// The combinations of some keys that a table's visible rows have.
    pub(super) fn domain_group(
        &mut self,
        table: TableId,
        members: Vec<KeyId>,
        keys: &[Key],
        aggregated: &BTreeSet<TableId>,
        scope: &Scope,
    ) -> DomainGroup {
        let mut inner = scope.clone();
        for (i, key) in keys.iter().enumerate() {
            let filters = members.contains(&KeyId::new(i));
            inner.dims.push(Dim { key: *key, origin: FilterOrigin::Per, filters });
        }
        // What is gone through are the table's own rows and values. A relationship from the table to itself moves the
        // filters of what is evaluated for each of them, and not once more these.
        let mut own = inner.clone();
        own.detours
            .retain(|id| (self.schema.relationship(*id).many, self.schema.relationship(*id).one) != (table, table));
        let (read, _) = self.read(table, &own, None);
        let mut null_reads = Vec::new();
        for other in aggregated {
            let path = self.schema.reach(*other, &scope.detours).remove(&table).unwrap_or_default();
            if !path.is_empty() {
                null_reads.push((self.read(*other, &inner, None).0, path));
            } else if *other != table && self.reached(*other, &inner, None, 0).comes_back_from(table) {
                null_reads.push((self.read(*other, &inner, None).0, Vec::new()));
            }
        }
        DomainGroup { keys: members, read, null_reads }
    }

    // ---- rank

    fn rank(&mut self, rank: &Rank, scope: &Scope, env: &Environment) -> Leaf {
        let column = rank.column;
        let at = scope.dim_of_column(column);
        let single = at.is_none().then(|| self.single(column, scope, env));
        let mut mine_env = env.clone();
        let provider = match (&at, &single) {
            (Some(dim), _) => ProviderAt::Columns(vec![(column, *dim)]),
            (None, Some(leaf)) => ProviderAt::Single(Box::new(leaf.clone())),
            (None, None) => ProviderAt::Columns(Vec::new()),
        };
        mine_env.providers.insert(rank.provider, provider);
        let mine = self.assembly("", &rank.figure, scope, &mine_env);
        let mut dropped = scope.clone();
        dropped.drop_for_rank(column);
        let keep = needed_dims(&dropped, &env.dims_used_by(&rank.figure));
        dropped.dims = keep.iter().map(|d| *dropped.dim(*d)).collect();
        let keys = [Key::Column(column)];
        let inner = extended(&dropped, &keys, FilterOrigin::Per);
        let mut figure_env = env.projected(&keep);
        figure_env.providers.insert(rank.provider, ProviderAt::Columns(vec![(column, DimId::new(dropped.dims.len()))]));
        let figure = self.assembly("", &rank.figure, &inner, &figure_env);
        let mut tables = BTreeSet::new();
        aggregated_tables(self.schema, &rank.figure, &mut tables);
        let per = PerDomain::Columns { columns: vec![column], of: None };
        let domain = self.domain(&per, &keys, &tables, &dropped);
        Leaf::Rank(Box::new(RankLeaf { mine, single, keep, domain, figure, ascending: rank.ascending }))
    }

    /// `top(…)`: like `rank`, but every filter stays.
    fn set(&mut self, set: &SetOf, scope: &Scope, env: &Environment) -> SetLeaf {
        let keep = needed_dims(scope, &env.dims_used_by(&set.figure));
        let mut outer = scope.clone();
        outer.dims = keep.iter().map(|d| *scope.dim(*d)).collect();
        let keys = [Key::Column(set.column)];
        let inner = extended(&outer, &keys, FilterOrigin::Per);
        let mut figure_env = env.projected(&keep);
        let place = ProviderAt::Columns(vec![(set.column, DimId::new(outer.dims.len()))]);
        figure_env.providers.insert(set.provider, place);
        let figure = self.assembly("", &set.figure, &inner, &figure_env);
        let mut tables = BTreeSet::new();
        aggregated_tables(self.schema, &set.figure, &mut tables);
        let per = PerDomain::Columns { columns: vec![set.column], of: None };
        let domain = self.domain(&per, &keys, &tables, &outer);
        SetLeaf { keep, domain, column: set.column, figure, count: set.count, bottom: set.bottom }
    }

    /// `single(column)`, as a leaf.
    fn single(&mut self, column: ColumnId, scope: &Scope, env: &Environment) -> Leaf {
        let ty = self.schema.column(column).ty;
        let span = Span::default();
        let kind = Kind::Column { column, detours: Vec::new(), around: 0 };
        let aggregate = TypedAggregate {
            kind: AggregateKind::Single,
            args: vec![TypedExpr { kind, ty, span }],
            constant: None,
            order: Vec::new(),
            over: Over::Rows(column.table),
        };
        self.row_aggregate(column.table, &aggregate, ty, scope, env)
    }
}

fn outer_slots(row: &RowExpr) -> Vec<ParameterId> {
    row.leaves
        .iter()
        .flat_map(|l| match l {
            RowLeaf::Parameter(slot) => vec![*slot],
            RowLeaf::Column { .. } => Vec::new(),
            RowLeaf::Member { slot, of } => outer_slots(of).into_iter().chain([*slot]).collect(),
        })
        .collect()
}

/// The filter that lets the days through that a dimension holds.
fn days_filter(schema: &Schema, date: ColumnId, slot: ParameterId, place: &Place) -> Filter {
    let leaf = |leaf, ty| (Scalar { kind: ScalarKind::Leaf(0), ty, place: place.clone() }, vec![leaf]);
    let (scalar, leaves) = leaf(RowLeaf::Column { column: date, path: Vec::new() }, schema.column(date).ty);
    let (test, leaves) = leaf(RowLeaf::Member { slot, of: Box::new(RowExpr { scalar, leaves }) }, Type::Bool);
    let predicate = Predicate {
        table: date.table,
        columns: vec![date],
        test: RowExpr { scalar: test, leaves },
        outer: vec![slot],
        days: Some(slot),
    };
    Filter { test: FilterTest::Predicate(Arc::new(predicate)), origin: FilterOrigin::Edit }
}

/// A scope with further dimensions. An older one of the same column is implied by the new one; an older bound row stays,
/// because `without row` drops the innermost only.
fn extended(scope: &Scope, keys: &[Key], origin: FilterOrigin) -> Scope {
    let mut inner = scope.clone();
    for dim in &mut inner.dims {
        dim.filters &= matches!(dim.key, Key::Row(_)) || !keys.contains(&dim.key);
    }
    inner.dims.extend(keys.iter().map(|key| Dim { key: *key, origin, filters: true }));
    inner
}

/// Dimensions that filter, are used as values, or are taken by a filter in force.
fn needed_dims(scope: &Scope, used: &BTreeSet<DimId>) -> Vec<DimId> {
    let slots: BTreeSet<ParameterId> = scope.filters.iter().flat_map(|f| f.outer().to_vec()).collect();
    scope
        .dim_ids()
        .filter(|d| {
            let dim = scope.dim(*d);
            used.contains(d)
                || match dim.key {
                    Key::Value(slot) => slots.contains(&slot),
                    _ => dim.filters,
                }
        })
        .collect()
}

/// Columns by the table from whose rows their combinations come: of one chain of lookups, the finest.
pub(super) fn chains(schema: &Schema, columns: &[ColumnId]) -> Vec<(TableId, Vec<KeyId>)> {
    let tables: BTreeSet<TableId> = columns.iter().map(|c| c.table).collect();
    let reach: HashMap<TableId, BTreeSet<TableId>> =
        tables.iter().map(|t| (*t, schema.reach(*t, &[]).into_keys().collect())).collect();
    let finest: Vec<TableId> =
        tables.iter().copied().filter(|t| tables.iter().all(|o| o == t || !reach[o].contains(t))).collect();
    let mut groups: Vec<(TableId, Vec<KeyId>)> = finest.into_iter().map(|t| (t, Vec::new())).collect();
    for (i, column) in columns.iter().enumerate() {
        if let Some((_, members)) = groups.iter_mut().find(|(t, _)| reach[t].contains(&column.table)) {
            members.push(KeyId::new(i));
        }
    }
    groups
}
