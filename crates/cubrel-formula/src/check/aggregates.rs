//! What an aggregate goes through (language reference, section 4).

use super::operators::convert;
use super::{CheckedExpr, Checker, Kind, NamedTables, Provider, Standing, TypedExpr, ast, with_lets};
use crate::schema::{ColumnId, TableId};
use crate::source::{Problem, Span, closest, did_you_mean};
use crate::typed::{AggregateKind, Over, PerDomain, ProviderId, Rank, TypedAggregate, TypedPer};
use crate::words;
use cubrel_value::{Type, Value};

fn counted(arguments: usize) -> String {
    if arguments == 1 { "1 argument".into() } else { format!("{arguments} arguments") }
}

impl Checker<'_> {
    pub(super) fn aggregate(&mut self, a: &ast::Aggregate, span: Span) -> CheckedExpr<TypedExpr> {
        let name = a.name.text.as_str();
        if name == "rank" {
            return self.rank(a, span);
        }
        let Some(kind) = AggregateKind::named(name, a.distinct) else {
            if matches!(name, "narrowed" | "grouping") {
                return self.context_question(a, span);
            }
            return self.fail(
                Problem::Syntax,
                span,
                format!("`{name}` is a set: it stands after `in`"),
                "write `table.column in top(5, measure per table.column)`",
            );
        };
        if a.distinct && kind != AggregateKind::CountDistinct {
            return self.fail(
                Problem::Syntax,
                span,
                format!("`distinct` goes with `count`, not with `{name}`"),
                "write `count(distinct x)`",
            );
        }
        // Inside another aggregate there is no place for this one, whatever it goes through.
        let sets_around = std::mem::take(&mut self.sets);
        self.around.push((self.providers.len(), self.lets.len()));
        let typed = self.at(Standing::Cell, |c| match kind {
            AggregateKind::Rows => c.rows(a, span),
            _ => c.over_values(kind, a, span),
        });
        self.around.pop();
        let sets = std::mem::replace(&mut self.sets, sets_around);
        self.context_value(with_lets(typed?, sets, span), "an aggregate")
    }

    /// `rows(t)`
    fn rows(&mut self, a: &ast::Aggregate, span: Span) -> CheckedExpr<TypedExpr> {
        let [ast::Expr { kind: ast::ExprKind::Name(table), .. }] = a.args.as_slice() else {
            return self.fail(
                Problem::Type,
                span,
                "`rows` counts the rows of a table",
                "write `rows(booking)`; values that are not null are counted with `count(x)`",
            );
        };
        if a.per.is_some() || !a.order.is_empty() {
            return self.fail(Problem::Syntax, span, "`rows` takes a table and nothing else", "write `rows(booking)`");
        }
        let table = self.find_table(table)?;
        let aggregate = TypedAggregate {
            kind: AggregateKind::Rows,
            args: Vec::new(),
            constant: None,
            order: Vec::new(),
            over: Over::Rows(table),
        };
        Ok(TypedExpr { kind: Kind::Aggregate(Box::new(aggregate)), ty: Type::Int, span })
    }

    fn over_values(&mut self, kind: AggregateKind, a: &ast::Aggregate, span: Span) -> CheckedExpr<TypedExpr> {
        let name = &a.name.text;
        let wanted = self.argument_count(kind, a, span)?;
        let (values, constants) = a.args.split_at(wanted);
        let constant = self.constant(kind, constants)?;
        self.check_order(kind, a, span)?;
        let (args, order, over) = match &a.per {
            None => {
                let (args, order) = self.at(Standing::Aggregated, |c| c.values(values, &a.order));
                let (args, order) = (args?, order?);
                let over = Over::Rows(self.iterated_table(name, &args, &order, span)?);
                (args, order, over)
            }
            Some(per) => {
                let provider = self.provider(per)?;
                let (parts, filter) = self.provided(provider.clone(), |c| {
                    let parts = c.values(values, &a.order);
                    let filter = per.filter.as_deref().map(|f| {
                        let filter = c.expr(f)?;
                        c.condition(filter)
                    });
                    (parts, filter)
                });
                let over = Over::Per(self.per(per, provider, filter.transpose()?)?);
                (parts.0?, parts.1?, over)
            }
        };
        let (args, ty) = self.result_type(kind, args)?;
        let aggregate = TypedAggregate { kind, args, constant, order, over };
        Ok(TypedExpr { kind: Kind::Aggregate(Box::new(aggregate)), ty, span })
    }

    #[allow(clippy::type_complexity, reason = "two lists, checked apart so that both are reported")]
    fn values(
        &mut self,
        values: &[ast::Expr],
        order: &[(ast::Expr, bool)],
    ) -> (CheckedExpr<Vec<TypedExpr>>, CheckedExpr<Vec<(TypedExpr, bool)>>) {
        let args = self.all(values, |c, e| c.expr(e));
        let order = self.all(order, |c, (e, descending)| Ok((c.expr(e)?, *descending)));
        (args, order)
    }

    fn argument_count(&mut self, kind: AggregateKind, a: &ast::Aggregate, span: Span) -> CheckedExpr<usize> {
        use AggregateKind::*;
        let (given, name) = (a.args.len(), &a.name.text);
        let (values, constants) = match kind {
            CountDistinct => (given.max(1), 0),
            PercentileCont | PercentileDisc | StringAgg => (1, 1),
            _ => (1, 0),
        };
        if given != values + constants {
            let help = match kind {
                PercentileCont | PercentileDisc => format!("write `{name}(x, 0.9)`"),
                StringAgg => "write `string_agg(x, ', ')`".into(),
                Count if given == 0 => "rows are counted with `rows(table)`".into(),
                Count => "combinations are counted with `count(distinct a, b)`".into(),
                _ => format!("write `{name}(x)`"),
            };
            return self.fail(
                Problem::Type,
                span,
                format!("`{name}` takes {}, not {given}", counted(values + constants)),
                help,
            );
        }
        Ok(values)
    }

    fn constant(&mut self, kind: AggregateKind, constants: &[ast::Expr]) -> CheckedExpr<Option<Value>> {
        let Some(e) = constants.first() else {
            return Ok(None);
        };
        let value = match self.expr(e)?.kind {
            Kind::Literal(v) => v,
            _ => Value::Null,
        };
        let fits = match kind {
            AggregateKind::StringAgg => value.as_text().is_some(),
            _ => value.as_f64().is_some_and(|share| (0.0..=1.0).contains(&share)),
        };
        if !fits {
            let help = if kind == AggregateKind::StringAgg {
                "a text literal such as `', '`"
            } else {
                "a number from 0 to 1 such as `0.9`"
            };
            return self.fail(Problem::Type, e.span, "the second argument has to be a literal", help);
        }
        Ok(Some(value))
    }

    fn check_order(&mut self, kind: AggregateKind, a: &ast::Aggregate, span: Span) -> CheckedExpr<()> {
        let needs = kind.needs_order();
        let name = &a.name.text;
        if needs && a.order.is_empty() {
            return self.fail(
                Problem::Syntax,
                span,
                format!("`{name}` needs an order"),
                format!("write `{name}(x order by y)`"),
            );
        }
        if !a.order.is_empty() && !needs && kind != AggregateKind::StringAgg {
            return self.fail(
                Problem::Syntax,
                span,
                format!("the order of rows does not matter to `{name}`"),
                "leave the `order by` out",
            );
        }
        Ok(())
    }

    fn result_type(&mut self, kind: AggregateKind, args: Vec<TypedExpr>) -> CheckedExpr<(Vec<TypedExpr>, Type)> {
        let Some(first) = args.first() else {
            return Ok((args, Type::Int));
        };
        let (ty, span) = (first.ty, first.span);
        let numeric = kind.takes_numbers();
        if numeric && !ty.is_number() && ty != Type::Null {
            let help = match ty {
                Type::Bool => "count conditions with `sum(if(condition, 1, 0))`",
                Type::Text => "count texts with `count(x)`, or turn them into numbers with `cast`",
                _ => "the first and last of dates are `min` and `max`",
            };
            return self.fail(Problem::Type, span, format!("numbers are needed here, this is {ty}"), help);
        }
        if kind == AggregateKind::StringAgg && !matches!(ty, Type::Text | Type::Null) {
            return self.fail(
                Problem::Type,
                span,
                format!("`string_agg` joins texts, this is {ty}"),
                "turn it into text with `cast(x as text)`",
            );
        }
        let args =
            if numeric && ty == Type::Null { args.into_iter().map(|e| convert(e, Type::Int)).collect() } else { args };
        Ok((args, kind.result(ty)))
    }

    /// The one table from which all columns can be looked up.
    fn iterated_table(
        &mut self,
        name: &str,
        args: &[TypedExpr],
        order: &[(TypedExpr, bool)],
        span: Span,
    ) -> CheckedExpr<TableId> {
        let mut named = NamedTables::default();
        args.iter().chain(order.iter().map(|(e, _)| e)).for_each(|e| named.add(self.schema, e));
        let tables = named.tables.clone();
        let candidates: Vec<TableId> =
            tables.iter().copied().filter(|t| named.can_be_looked_up_from(self.schema, *t)).collect();
        match (candidates.as_slice(), tables.len()) {
            ([table], _) => Ok(*table),
            (_, 0) => self.fail(
                Problem::Aggregate,
                span,
                format!("this `{name}` names no column, so there are no rows to go through"),
                "count rows with `rows(table)`, or say what to go through with `per`",
            ),
            _ => {
                let names: Vec<&str> = tables.iter().map(|t| self.schema.table(*t).name.as_str()).collect();
                self.fail(
                    Problem::Path,
                    span,
                    format!("none of the tables {} can look up all the others", names.join(", ")),
                    "aggregate each table by itself, or say what to go through with `per`",
                )
            }
        }
    }

    pub(super) fn provider(&mut self, per: &ast::Per) -> CheckedExpr<(ProviderId, Provider)> {
        let id = ProviderId(self.fresh());
        if let [ast::Target::Name(name)] = per.targets.as_slice()
            && self.schema.find_table(&name.text).is_some()
        {
            return Ok((id, Provider::Row(self.find_table(name)?)));
        }
        let columns = self.all(&per.targets, |c, target| match target {
            ast::Target::Column(table, column) => Ok(vec![c.find_column(table, column)?]),
            ast::Target::Name(name) => c.hierarchy(name),
        })?;
        let mut distinct = Vec::new();
        for column in columns.concat() {
            if !distinct.contains(&column) {
                distinct.push(column);
            }
        }
        Ok((id, Provider::Columns(distinct)))
    }

    /// The levels of a hierarchy.
    fn hierarchy(&mut self, name: &ast::Name) -> CheckedExpr<Vec<ColumnId>> {
        for (t, table) in self.schema.tables.iter().enumerate() {
            if let Some((_, levels)) = table.hierarchies.iter().find(|(n, _)| *n == name.text) {
                return Ok(levels.iter().map(|l| ColumnId { table: TableId(t as u32), index: *l }).collect());
            }
        }
        let tables = self.schema.table_names();
        let help = match closest(&name.text, tables.iter().copied()) {
            Some(near) => did_you_mean(words::quote_name(near)),
            None => "`per` is followed by a table or by columns, written `table.column`".into(),
        };
        self.fail(Problem::UnknownName, name.span, format!("`{}` is neither a table nor a hierarchy", name.text), help)
    }

    fn per(
        &mut self,
        per: &ast::Per,
        provider: (ProviderId, Provider),
        filter: Option<TypedExpr>,
    ) -> CheckedExpr<TypedPer> {
        let of = per.of.as_ref().map(|t| self.find_table(t)).transpose()?;
        let domain = match provider.1 {
            Provider::Row(table) => {
                if of.is_some() {
                    return self.fail(
                        Problem::Syntax,
                        per.span,
                        "`of` follows columns, not a table",
                        "write `per customer.id of booking`",
                    );
                }
                PerDomain::Table(table)
            }
            Provider::Columns(columns) => {
                if let Some(of) = of {
                    let reach = self.schema.reach(of, &self.detours);
                    if let Some(column) = columns.iter().find(|c| !reach.contains_key(&c.table)) {
                        let (column, table) = (self.schema.column_name(*column), &self.schema.table(of).name);
                        return self.fail(
                            Problem::Path,
                            per.span,
                            format!("{column} cannot be looked up from {table}"),
                            "`of` names a table that points at the columns' tables",
                        );
                    }
                }
                PerDomain::Columns { columns, of }
            }
        };
        Ok(TypedPer { provider: provider.0, domain, filter })
    }

    fn rank(&mut self, a: &ast::Aggregate, span: Span) -> CheckedExpr<TypedExpr> {
        let help = "write `rank(measure per table.column)`, with `asc` to begin at the smallest";
        let (Some(per), [figure]) = (&a.per, a.args.as_slice()) else {
            return self.fail(Problem::Syntax, span, "`rank` needs a figure and the column to rank", help);
        };
        let typed = self.at(Standing::Cell, |c| {
            let provider = c.provider(per)?;
            let (id, Provider::Columns(columns)) = provider.clone() else {
                return c.fail(Problem::Type, per.span, "`rank` ranks the values of a column, not rows", help);
            };
            let [column] = columns.as_slice() else {
                return c.fail(Problem::Type, per.span, "`rank` ranks the values of one column", help);
            };
            if per.of.is_some() || per.filter.is_some() {
                return c.fail(
                    Problem::Syntax,
                    per.span,
                    "`rank` takes neither `of` nor `where`",
                    "put a condition into the figure with `if`",
                );
            }
            let figure = c.provided(provider, |c| c.expr(figure));
            let ascending = a.order.first().is_some_and(|(_, descending)| !descending);
            let rank = Rank { figure: figure?, column: *column, provider: id, ascending };
            Ok(TypedExpr { kind: Kind::Rank(Box::new(rank)), ty: Type::Int, span })
        })?;
        self.context_value(typed, "a rank")
    }
}
