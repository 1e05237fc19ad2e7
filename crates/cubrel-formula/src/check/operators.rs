//! Operators, `case`, functions, and the conversions between types (language reference, sections 2 and 3).

use super::other_names::elsewhere;
use super::{CheckedExpr, Checker, Kind, Reported, TypedExpr, ast, literal};
use crate::ast::BinaryOp;
use crate::functions::{self, Argument, Function, Parameter};
use crate::source::{Problem, Span, closest, did_you_mean};
use crate::typed::{LetId, Op};
use crate::words;
use cubrel_value::{Type, Value, parse};

/// More decimals than this leave too few of the 38 digits before the point.
const MAX_SCALE: u8 = 30;

/// Turns an expression into another type, where [`Type::common`] says that it can be.
pub(super) fn convert(expr: TypedExpr, to: Type) -> TypedExpr {
    let span = expr.span;
    if expr.ty == to || to == Type::Null {
        return expr;
    }
    if expr.ty == Type::Null {
        return TypedExpr { kind: Kind::Literal(Value::Null), ty: to, span };
    }
    if let Kind::Literal(value) = &expr.kind
        && let Some(value) = converted_literal(value, to)
    {
        return TypedExpr { kind: Kind::Literal(value), ty: to, span };
    }
    let op = match (expr.ty, to) {
        (from, Type::Float) if from.is_exact() => Op::ToFloat,
        (from, to) if from.is_exact() && to.is_exact() => {
            if from.scale() == to.scale() {
                return TypedExpr { ty: to, ..expr };
            }
            Op::Rescale { from: from.scale(), to: to.scale() }
        }
        (Type::Date, Type::Timestamp) => Op::ToTimestamp,
        _ => return expr,
    };
    TypedExpr { kind: Kind::Call(op, vec![expr]), ty: to, span }
}

fn converted_literal(value: &Value, to: Type) -> Option<Value> {
    match to {
        Type::Float => value.as_f64().map(Value::Float),
        Type::Decimal { scale, .. } => Some(Value::Decimal { unscaled: value.as_exact(scale)?, scale }),
        _ => None,
    }
}

fn call(op: Op, args: Vec<TypedExpr>, ty: Type, span: Span) -> TypedExpr {
    TypedExpr { kind: Kind::Call(op, args), ty, span }
}

fn negated(expr: TypedExpr, negated: bool) -> TypedExpr {
    let span = expr.span;
    if negated { call(Op::Not, vec![expr], Type::Bool, span) } else { expr }
}

impl Checker<'_> {
    pub(super) fn negate(&mut self, inner: &ast::Expr, span: Span) -> CheckedExpr<TypedExpr> {
        let inner = self.expr(inner)?;
        match inner.ty {
            ty if ty.is_number() || ty == Type::Null => Ok(match &inner.kind {
                Kind::Literal(Value::Int(v)) => literal(v.checked_neg().map_or(Value::Null, Value::Int), span),
                Kind::Literal(Value::Decimal { unscaled, scale }) => {
                    // The smallest 64-bit number is written as the negative of one that does not fit.
                    let v = -*unscaled;
                    match i64::try_from(v) {
                        Ok(v) if *scale == 0 => literal(Value::Int(v), span),
                        _ => literal(Value::Decimal { unscaled: v, scale: *scale }, span),
                    }
                }
                Kind::Literal(Value::Float(v)) => literal(Value::Float(-v), span),
                _ => call(Op::Negate, vec![inner], ty, span),
            }),
            ty => self.fail(Problem::Type, span, format!("{ty} has no negative"), "`-` stands before numbers"),
        }
    }

    pub(super) fn not(&mut self, inner: &ast::Expr, span: Span) -> CheckedExpr<TypedExpr> {
        let inner = self.expr(inner)?;
        let inner = self.condition(inner)?;
        Ok(call(Op::Not, vec![inner], Type::Bool, span))
    }

    pub(super) fn is_null(&mut self, inner: &ast::Expr, negate: bool, span: Span) -> CheckedExpr<TypedExpr> {
        let inner = self.expr(inner)?;
        Ok(negated(call(Op::IsNull, vec![inner], Type::Bool, span), negate))
    }

    pub(super) fn binary(&mut self, op: BinaryOp, a: &ast::Expr, b: &ast::Expr, span: Span) -> CheckedExpr<TypedExpr> {
        let (a, b) = (self.expr(a), self.expr(b));
        let (a, b) = (a?, b?);
        match op {
            BinaryOp::And | BinaryOp::Or => {
                let (a, b) = (self.condition(a), self.condition(b));
                let (a, b) = (Box::new(a?), Box::new(b?));
                let kind = if op == BinaryOp::And { Kind::And(a, b) } else { Kind::Or(a, b) };
                Ok(TypedExpr { kind, ty: Type::Bool, span })
            }
            BinaryOp::Concat => Ok(call(Op::Concat, vec![a, b], Type::Text, span)),
            BinaryOp::Add | BinaryOp::Sub | BinaryOp::Mul | BinaryOp::Div | BinaryOp::Rem => {
                self.arithmetic(op, a, b, span)
            }
            _ => self.comparison(op, a, b, span),
        }
    }

    fn arithmetic(&mut self, op: BinaryOp, a: TypedExpr, b: TypedExpr, span: Span) -> CheckedExpr<TypedExpr> {
        for side in [&a, &b] {
            if !side.ty.is_number() && side.ty != Type::Null {
                let help = match (side.ty, op) {
                    (Type::Timestamp, BinaryOp::Sub) if a.ty == b.ty => {
                        "the time between two timestamps is `minutes_between(a, b)`, or `hours_between`, `seconds_between`"
                    }
                    (Type::Date, BinaryOp::Sub) if a.ty == b.ty => {
                        "the days between two dates are `days_between(a, b)`"
                    }
                    (Type::Date | Type::Timestamp, _) => "dates are moved with `add_days`, `add_months`, `add_years`",
                    (Type::Text, BinaryOp::Add) => "texts are joined with `||`",
                    (Type::Text, _) => "turn text into a number with `cast(x as decimal(12,2))`",
                    _ => "count conditions with `sum(if(condition, 1, 0))`",
                };
                return self.fail(
                    Problem::Type,
                    side.span,
                    format!("`{}` needs numbers, this is {}", op.symbol(), side.ty),
                    help,
                );
            }
        }
        let common = a.ty.common(b.ty).unwrap_or(Type::Float);
        let (kind, ty) = match op {
            BinaryOp::Div => (Op::Div, Type::Float),
            BinaryOp::Mul if common.is_exact() => {
                let scale = a.ty.scale() + b.ty.scale();
                if scale > MAX_SCALE {
                    return self.fail(
                        Problem::Type,
                        span,
                        format!(
                            "this product has {scale} decimals, more than the {MAX_SCALE} that can be kept exactly"
                        ),
                        "round one side, or turn it into a float with `cast(x as float)`",
                    );
                }
                (Op::Mul, if scale == 0 { Type::Int } else { Type::decimal(scale) })
            }
            BinaryOp::Mul => (Op::Mul, common),
            BinaryOp::Add => (Op::Add, common),
            BinaryOp::Sub => (Op::Sub, common),
            _ => (Op::Rem, common),
        };
        let args = if kind == Op::Mul && ty.is_exact() {
            let own = |e: TypedExpr| {
                if e.ty == Type::Null { convert(e, ty) } else { e }
            };
            vec![own(a), own(b)]
        } else {
            let operand = if kind == Op::Div { Type::Float } else { common };
            vec![convert(a, operand), convert(b, operand)]
        };
        Ok(call(kind, args, ty, span))
    }

    fn comparison(&mut self, op: BinaryOp, a: TypedExpr, b: TypedExpr, span: Span) -> CheckedExpr<TypedExpr> {
        let op = match op {
            BinaryOp::Eq => Op::Eq,
            BinaryOp::Ne => Op::Ne,
            BinaryOp::Lt => Op::Lt,
            BinaryOp::Le => Op::Le,
            BinaryOp::Gt => Op::Gt,
            _ => Op::Ge,
        };
        let is_null = |e: &TypedExpr| e.ty == Type::Null && matches!(e.kind, Kind::Literal(Value::Null));
        if is_null(&a) || is_null(&b) {
            return self.fail(
                Problem::Type,
                span,
                "a comparison with null is never true",
                "write `x is null` or `x is not null`",
            );
        }
        let (a, b) = self.brought_together(a, b, span)?;
        Ok(call(op, vec![a, b], Type::Bool, span))
    }

    /// Both sides in one type, or an error that says how to get there.
    fn brought_together(&mut self, a: TypedExpr, b: TypedExpr, span: Span) -> CheckedExpr<(TypedExpr, TypedExpr)> {
        if let Some(common) = a.ty.common(b.ty) {
            return Ok((convert(a, common), convert(b, common)));
        }
        let help = match (a.ty, b.ty, &a.kind, &b.kind) {
            (ty @ (Type::Date | Type::Timestamp), Type::Text, _, Kind::Literal(Value::Text(t)))
            | (Type::Text, ty @ (Type::Date | Type::Timestamp), Kind::Literal(Value::Text(t)), _) => {
                if parse::value(t, ty).is_some() {
                    format!("write `{ty} '{t}'`")
                } else {
                    format!("write it as `{ty} '2026-03-01'`")
                }
            }
            (x, Type::Text, _, Kind::Literal(_)) | (Type::Text, x, Kind::Literal(_), _) if x.is_number() => {
                "numbers stand without quotes".into()
            }
            (Type::Text, x, ..) | (x, Type::Text, ..) => {
                format!("turn the text into {x} with `cast(x as {x})`")
            }
            (Type::Date | Type::Timestamp, x, ..) | (x, Type::Date | Type::Timestamp, ..) if x.is_number() => {
                "the parts of a date are `year(d)`, `month(d)`, `day(d)`; a day is written `date '2026-03-01'`".into()
            }
            _ => "turn one of them with `cast(x as …)`".into(),
        };
        self.fail(Problem::Type, span, format!("{} and {} cannot be compared", a.ty, b.ty), help)
    }

    pub(super) fn like(&mut self, a: &ast::Expr, b: &ast::Expr, negate: bool, span: Span) -> CheckedExpr<TypedExpr> {
        let (a, b) = (self.expr(a), self.expr(b));
        let (a, b) = (a?, b?);
        for side in [&a, &b] {
            if !matches!(side.ty, Type::Text | Type::Null) {
                return self.fail(
                    Problem::Type,
                    side.span,
                    format!("`like` compares texts, this is {}", side.ty),
                    "turn it into text with `cast(x as text)`",
                );
            }
        }
        let args = vec![convert(a, Type::Text), convert(b, Type::Text)];
        Ok(negated(call(Op::Like, args, Type::Bool, span), negate))
    }

    pub(super) fn between(
        &mut self,
        x: &ast::Expr,
        low: &ast::Expr,
        high: &ast::Expr,
        negate: bool,
        span: Span,
    ) -> CheckedExpr<TypedExpr> {
        let (x, low, high) = (self.expr(x), self.expr(low), self.expr(high));
        let (x, low, high) = (x?, low?, high?);
        let id = LetId(self.fresh());
        let reference = TypedExpr { kind: Kind::LetRef(id), ty: x.ty, span: x.span };
        let at_least = self.comparison(BinaryOp::Ge, reference.clone(), low, span)?;
        let at_most = self.comparison(BinaryOp::Le, reference, high, span)?;
        let both = TypedExpr { kind: Kind::And(Box::new(at_least), Box::new(at_most)), ty: Type::Bool, span };
        let body = negated(both, negate);
        Ok(TypedExpr { kind: Kind::Let(id, Box::new(x), Box::new(body)), ty: Type::Bool, span })
    }

    pub(super) fn member(
        &mut self,
        x: &ast::Expr,
        list: &[ast::Expr],
        negate: bool,
        span: Span,
    ) -> CheckedExpr<TypedExpr> {
        if let [ast::Expr { kind: ast::ExprKind::Aggregate(a), span: set_span }] = list
            && matches!(a.name.text.as_str(), "top" | "bottom")
        {
            let test = self.in_set(x, a, *set_span, span)?;
            return Ok(negated(test, negate));
        }
        let x = self.expr(x);
        let parts = self.all(list, |c, e| c.list_part(e));
        let (x, parts) = (x?, parts?.concat());
        if parts.is_empty() {
            return self.fail(
                Problem::Syntax,
                span,
                "`in` with an empty list is never true",
                "name at least one value",
            );
        }
        let common = parts.iter().try_fold(x.ty, |ty, part| ty.common(part.ty));
        let Some(common) = common else {
            let other = parts.into_iter().find(|p| x.ty.common(p.ty).is_none());
            let other = other.unwrap_or_else(|| x.clone());
            return self.brought_together(x, other, span).and(Err(Reported));
        };
        let args = std::iter::once(x).chain(parts).map(|e| convert(e, common)).collect();
        Ok(negated(call(Op::In, args, Type::Bool, span), negate))
    }

    /// One part of an `in` list; a parameter may stand for several values.
    fn list_part(&mut self, e: &ast::Expr) -> CheckedExpr<Vec<TypedExpr>> {
        if let ast::ExprKind::Parameter(name) = &e.kind
            && let Some(values) = self.settings.parameters.get(name)
        {
            return Ok(values.iter().map(|v| literal(v.clone(), e.span)).collect());
        }
        Ok(vec![self.expr(e)?])
    }

    pub(super) fn case(
        &mut self,
        operand: Option<&ast::Expr>,
        arms: &[(ast::Expr, ast::Expr)],
        otherwise: Option<&ast::Expr>,
        span: Span,
    ) -> CheckedExpr<TypedExpr> {
        let operand = operand.map(|o| self.expr(o)).transpose();
        let operand = operand?.map(|o| (LetId(self.fresh()), o));
        let arms = self.all(arms, |c, (condition, result)| {
            let condition_expr = c.expr(condition);
            let result = c.expr(result);
            let condition_expr = condition_expr?;
            let condition = match &operand {
                None => c.condition(condition_expr)?,
                Some((id, o)) => {
                    let reference = TypedExpr { kind: Kind::LetRef(*id), ty: o.ty, span: o.span };
                    c.comparison(BinaryOp::Eq, reference, condition_expr, condition.span)?
                }
            };
            Ok((condition, result?))
        });
        let otherwise = otherwise.map(|e| self.expr(e)).transpose();
        let (arms, otherwise) = (arms?, otherwise?);
        let results: Vec<&TypedExpr> = arms.iter().map(|(_, r)| r).chain(&otherwise).collect();
        let ty = self.common_type(&results, "the results of a `case`")?;
        let arms = arms.into_iter().map(|(c, r)| (c, convert(r, ty))).collect();
        let case = TypedExpr { kind: Kind::Case(arms, otherwise.map(|e| Box::new(convert(e, ty)))), ty, span };
        Ok(match operand {
            None => case,
            Some((id, o)) => TypedExpr { kind: Kind::Let(id, Box::new(o), Box::new(case)), ty, span },
        })
    }

    fn common_type(&mut self, parts: &[&TypedExpr], what: &str) -> CheckedExpr<Type> {
        let mut ty = Type::Null;
        for part in parts {
            match ty.common(part.ty) {
                Some(common) => ty = common,
                None => {
                    return self.fail(
                        Problem::Type,
                        part.span,
                        format!("{what} have one type: this is {}, before it {ty}", part.ty),
                        "turn one of them with `cast(x as …)`",
                    );
                }
            }
        }
        Ok(ty)
    }

    pub(super) fn cast(&mut self, inner: &ast::Expr, ty: Type, lenient: bool, span: Span) -> CheckedExpr<TypedExpr> {
        let inner = self.expr(inner)?;
        let possible = match (inner.ty, ty) {
            (Type::Null | Type::Text, _) | (_, Type::Text) => true,
            (Type::Bool, Type::Int | Type::Float | Type::Bool) => true,
            (a, b) if a.is_number() && b.is_number() => true,
            (Type::Date | Type::Timestamp, Type::Date | Type::Timestamp) => true,
            _ => false,
        };
        if !possible {
            return self.fail(
                Problem::Type,
                span,
                format!("{} cannot be turned into {ty}", inner.ty),
                "turn it into text first, or take a part of it",
            );
        }
        let from = inner.ty;
        Ok(call(Op::Cast { from, to: ty, lenient }, vec![inner], ty, span))
    }

    pub(super) fn call(&mut self, name: &ast::Name, args: &[ast::Expr], span: Span) -> CheckedExpr<TypedExpr> {
        match name.text.as_str() {
            "coalesce" => return self.coalesce(args, span),
            "nullif" => return self.null_if(args, span),
            "today" if args.is_empty() => {
                return Ok(literal(Value::Date(self.settings.today), span));
            }
            "user" if args.is_empty() => {
                let user = self.settings.user.as_ref().map_or(Value::Null, Value::text);
                return Ok(TypedExpr { kind: Kind::Literal(user), ty: Type::Text, span });
            }
            _ => {}
        }
        let Some(function) = functions::find(&name.text) else {
            return self.unknown_function(name);
        };
        let mut args = self.all(args, |c, e| c.expr(e))?;
        if function.name == "to_text" && args.len() == 2 {
            args.push(literal(Value::text(&self.settings.locale), span));
        }
        let args = self.fit_arguments(function, args, span)?;
        let arguments: Vec<Argument<'_>> = args
            .iter()
            .map(|e| Argument { ty: e.ty, literal: if let Kind::Literal(v) = &e.kind { Some(v) } else { None } })
            .collect();
        let ty = (function.result)(&arguments);
        Ok(call(Op::Function(function), args, ty, span))
    }

    fn fit_arguments(
        &mut self,
        function: &'static Function,
        args: Vec<TypedExpr>,
        span: Span,
    ) -> CheckedExpr<Vec<TypedExpr>> {
        let (most, least) = (function.parameters.len(), function.parameters.len() - function.optional);
        if args.len() < least || (args.len() > most && !function.repeated) {
            let wanted = if least == most { most.to_string() } else { format!("{least} to {most}") };
            return self.fail(
                Problem::Type,
                span,
                format!("`{}` takes {wanted} arguments, not {}", function.name, args.len()),
                function.signature,
            );
        }
        let parameter = |i: usize| function.parameters[i.min(most - 1)];
        for (i, arg) in args.iter().enumerate() {
            if !parameter(i).accepts(arg.ty) {
                let message = format!("`{}` needs {} here, this is {}", function.name, parameter(i).describe(), arg.ty);
                return self.fail(Problem::Type, arg.span, message, function.signature);
            }
        }
        let any: Vec<&TypedExpr> =
            args.iter().enumerate().filter(|(i, _)| parameter(*i) == Parameter::Any).map(|(_, e)| e).collect();
        let common =
            if function.sees_nulls || any.is_empty() { None } else { Some(self.common_type(&any, "the arguments")?) };
        Ok(args
            .into_iter()
            .enumerate()
            .map(|(i, e)| match (parameter(i), common) {
                (Parameter::Float, _) => convert(e, Type::Float),
                (Parameter::Int, _) => convert(e, Type::Int),
                (Parameter::Text, _) => convert(e, Type::Text),
                (Parameter::Day | Parameter::Moment, _) if e.ty == Type::Null => convert(e, Type::Date),
                (Parameter::Any, Some(ty)) => convert(e, ty),
                _ => e,
            })
            .collect())
    }

    fn unknown_function(&mut self, name: &ast::Name) -> CheckedExpr<TypedExpr> {
        let known: Vec<&str> = functions::all()
            .map(|(_, f)| f.name)
            .chain(words::aggregates())
            .chain(["if", "coalesce", "nullif", "cast", "try_cast", "user"])
            .collect();
        let near = closest(&name.text, known.iter().copied());
        let help = match elsewhere(&name.text, &known).or(near) {
            Some(near) => did_you_mean(near),
            None => "the language reference lists all of them".into(),
        };
        self.fail(Problem::UnknownName, name.span, format!("there is no function `{}`", name.text), help)
    }

    fn coalesce(&mut self, args: &[ast::Expr], span: Span) -> CheckedExpr<TypedExpr> {
        if args.is_empty() {
            return self.fail(Problem::Type, span, "`coalesce` takes at least one argument", "write `coalesce(x, 0)`");
        }
        let args = self.all(args, |c, e| c.expr(e))?;
        let ty = self.common_type(&args.iter().collect::<Vec<_>>(), "the arguments of `coalesce`")?;
        Ok(TypedExpr { kind: Kind::Coalesce(args.into_iter().map(|e| convert(e, ty)).collect()), ty, span })
    }

    /// `nullif(a, b)`: null where both are equal, else a.
    fn null_if(&mut self, args: &[ast::Expr], span: Span) -> CheckedExpr<TypedExpr> {
        let [a, b] = args else {
            return self.fail(
                Problem::Type,
                span,
                format!("`nullif` takes 2 arguments, not {}", args.len()),
                "write `nullif(x, 0)`",
            );
        };
        let (a, b) = (self.expr(a), self.expr(b));
        let (a, b) = (a?, b?);
        let (id, ty) = (LetId(self.fresh()), a.ty);
        let reference = TypedExpr { kind: Kind::LetRef(id), ty, span: a.span };
        let equal = self.comparison(BinaryOp::Eq, reference.clone(), b, span)?;
        let null = TypedExpr { kind: Kind::Literal(Value::Null), ty, span };
        let case = TypedExpr { kind: Kind::Case(vec![(equal, null)], Some(Box::new(reference))), ty, span };
        Ok(TypedExpr { kind: Kind::Let(id, Box::new(a), Box::new(case)), ty, span })
    }
}
