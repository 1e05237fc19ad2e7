//! Aggregates over rows and over combinations, ranks and sets: one row after the other.

use super::*;

impl Naive<'_> {
    pub(super) fn aggregate(&self, a: &TypedAggregate, context: &Context, names: &Names) -> Value {
        match &a.over {
            Over::Rows(table) => {
                let rows = self.data.visible(*table, context);
                if !rows.is_empty() {
                    self.read.set(true);
                }
                let value = |e: &TypedExpr, r: &usize| self.row_value(e, *table, Some(*r), context, names);
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
    pub(super) fn combinations(
        &self,
        per: &TypedPer,
        args: &[TypedExpr],
        context: &Context,
        names: &Names,
    ) -> Vec<(Context, Names)> {
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
    pub(super) fn stands_under(&self, other: TableId, table: TableId, members: &[ColumnId], context: &Context) -> bool {
        let mut under_null = context.clone();
        for column in members {
            under_null.filters.push(self.data.equals(*column, &Value::Null, Origin::Per));
        }
        let reaches = self.reaches(other, table, context, None);
        reaches && !self.data.visible(other, &under_null).is_empty()
    }

    pub(super) fn reaches(&self, from: TableId, to: TableId, context: &Context, by: Option<RelationshipId>) -> bool {
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
    pub(super) fn directly(&self, table: TableId, context: &Context) -> Context {
        let mut direct = context.clone();
        direct.detours.retain(|id| {
            let r = self.data.schema.relationship(*id);
            (r.many, r.one) != (table, table)
        });
        direct
    }

    pub(super) fn visible_values(&self, table: TableId, columns: &[ColumnId], context: &Context) -> Vec<Vec<Value>> {
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
    pub(super) fn chains(&self, columns: &[ColumnId]) -> Vec<(TableId, Vec<ColumnId>)> {
        let reaches = |a: TableId, b: TableId| self.data.ways(a, &[]).contains_key(&b);
        let tables: BTreeSet<TableId> = columns.iter().map(|c| c.table).collect();
        let finest = tables.iter().copied().filter(|t| !tables.iter().any(|o| o != t && reaches(*o, *t)));
        let mut groups: Vec<(TableId, Vec<ColumnId>)> = finest.map(|t| (t, Vec::new())).collect();
        for column in columns {
            groups.iter_mut().find(|(t, _)| reaches(*t, column.table)).unwrap().1.push(*column);
        }
        groups
    }

    pub(super) fn aggregated(&self, e: &TypedExpr, tables: &mut BTreeSet<TableId>) {
        e.walk(&mut |part| match &part.kind {
            Kind::Aggregate(a) => match &a.over {
                Over::Rows(table) => {
                    tables.insert(*table);
                }
                Over::Per(TypedPer {
                    domain: PerDomain::Table(t) | PerDomain::Columns { of: Some(t), .. }, ..
                }) => {
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
}

/// The values of the rows of one group to one value.
fn fold(a: &TypedAggregate, rows: Vec<Vec<Value>>, order: Vec<Vec<Value>>) -> Value {
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
