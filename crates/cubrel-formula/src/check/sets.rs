//! `top` and `bottom` after `in`, and what asks the filter context: `narrowed`, `grouping` (language reference, sections
//! 4 and 9).

use super::operators::convert;
use super::{CheckedExpr, Checker, Kind, Provider, Standing, TypedExpr, ast, with_lets};
use crate::schema::ColumnId;
use crate::source::{Problem, Span};
use crate::typed::{LetId, SetOf};
use cubrel_value::{Type, Value};

const SET_HELP: &str = "write `table.column in top(5, measure per table.column)`";

impl Checker<'_> {
    /// `x in top(…)`. A set is found once: in a condition of a `given` or `where`, where that stands; in an
    /// aggregate, around it; else in the cell.
    pub(super) fn in_set(
        &mut self,
        x: &ast::Expr,
        a: &ast::Aggregate,
        set_span: Span,
        span: Span,
    ) -> CheckedExpr<TypedExpr> {
        let tested = self.expr(x);
        let outside = if self.place == Standing::Tested { None } else { self.around.last().copied() };
        let set = match outside {
            None => self.at(Standing::Cell, |c| c.set(a, set_span)),
            Some((providers, lets)) => {
                let inner = (self.providers.split_off(providers), self.lets.split_off(lets));
                let set = self.at(Standing::Cell, |c| c.set(a, set_span));
                self.providers.extend(inner.0);
                self.lets.extend(inner.1);
                set
            }
        };
        let (tested, set) = (tested?, set?);
        let ty = self.schema.column(set.column).ty;
        let Some(common) = tested.ty.common(ty) else {
            let (message, name) = (tested.ty, self.schema.column_name(set.column));
            return self.fail(
                Problem::Type,
                span,
                format!("this is {message}, the set holds values of {name}, which are {ty}"),
                SET_HELP,
            );
        };
        let id = LetId(self.fresh());
        let set = TypedExpr { kind: Kind::Set(Box::new(set)), ty, span: set_span };
        let test = TypedExpr { kind: Kind::Member(Box::new(convert(tested, common)), id), ty: Type::Bool, span };
        if self.place == Standing::Tested {
            self.hoisted.push((id, set));
        } else if outside.is_some() {
            self.sets.push((id, set));
        } else {
            return Ok(with_lets(test, vec![(id, set)], span));
        }
        Ok(test)
    }

    fn set(&mut self, a: &ast::Aggregate, span: Span) -> CheckedExpr<SetOf> {
        let name = &a.name.text;
        let (Some(per), [count, figure]) = (&a.per, a.args.as_slice()) else {
            return self.fail(
                Problem::Syntax,
                span,
                format!("`{name}` needs a number, a figure and the column to choose from"),
                SET_HELP,
            );
        };
        let count = match self.expr(count)?.kind {
            Kind::Literal(Value::Int(n)) if n >= 0 => n as u64,
            _ => {
                let message = format!("`{name}` begins with a whole number, or a parameter");
                return self.fail(Problem::Type, count.span, message, SET_HELP);
            }
        };
        let provider = self.provider(per)?;
        let one = match &provider.1 {
            Provider::Columns(columns) if columns.len() == 1 => Some(columns[0]),
            _ => None,
        };
        let Some(column) = one else {
            return self.fail(Problem::Type, per.span, format!("`{name}` chooses values of one column"), SET_HELP);
        };
        if per.of.is_some() || per.filter.is_some() || !a.order.is_empty() {
            let help = "put a condition into the figure with `if`: what is null is never chosen";
            return self.fail(
                Problem::Syntax,
                per.span,
                format!("`{name}` takes a number, a figure and `per column`"),
                help,
            );
        }
        let id = provider.0;
        let around = std::mem::take(&mut self.around);
        let figure = self.provided(provider, |c| c.expr(figure));
        self.around = around;
        Ok(SetOf { figure: figure?, column, provider: id, count, bottom: name == "bottom" })
    }

    /// `narrowed(t.c)` and `grouping(t.c)`.
    pub(super) fn context_question(&mut self, a: &ast::Aggregate, span: Span) -> CheckedExpr<TypedExpr> {
        let name = &a.name.text;
        let column = match a.args.as_slice() {
            [ast::Expr { kind: ast::ExprKind::Column(table, column), .. }] if a.per.is_none() && a.order.is_empty() => {
                self.find_column(table, column)?
            }
            _ => {
                return self.fail(
                    Problem::Syntax,
                    span,
                    format!("`{name}` asks about a column"),
                    format!("write `{name}(route.name)`"),
                );
            }
        };
        self.question(name, column, span)
    }

    fn question(&mut self, name: &str, column: ColumnId, span: Span) -> CheckedExpr<TypedExpr> {
        let (kind, ty) = match name {
            "narrowed" => (Kind::Narrowed(column), Type::Bool),
            _ => (Kind::Grouping(column), Type::Int),
        };
        let typed = TypedExpr { kind, ty, span };
        if self.place == Standing::Aggregated {
            return self.fail(
                Problem::Aggregate,
                span,
                format!("`{name}` asks about the cell, not about a row"),
                format!("name the answer first: `(let asked = {name}(…); …)` around the aggregate"),
            );
        }
        self.context_value(typed, "a question about the filter context")
    }
}
