//! One cell of a grid by itself, for explaining it.

use std::sync::Arc;

use super::layout;
use super::planner::QueryPlanner;
use super::plans::{Axis, PlannedItem};
use crate::rows::ParameterId;
use crate::tree::{Assembly, Bound, Read};
use cubrel_formula::ast::{self, BinaryOp, ExprKind};
use cubrel_formula::check::{self, Settings};
use cubrel_formula::parser;
use cubrel_formula::schema::{ColumnId, Schema};
use cubrel_formula::source::{Diagnostic, Problem, Severity, Source, closest, did_you_mean};
use cubrel_value::{Type, Value, exact, parse};

/// One item of one cell.
#[derive(Clone, Debug)]
pub struct CellPlan {
    /// All reads.
    pub reads: Vec<Read>,
    /// Values that the `where` takes from outside.
    pub outer: Vec<(ParameterId, Bound)>,
    /// The item.
    pub item: PlannedItem,
    /// Its value: over the values from outside, then the columns of `at`.
    pub assembly: Assembly,
    /// Where the cell stands on the axes; an axis that is not named is totalled.
    pub at: Vec<(ColumnId, Value)>,
    /// The readings of lenses.
    pub readings: Vec<(String, String)>,
}

/// What a condition of `--at` names.
enum NamedPlace {
    Axis(ColumnId, Value),
    Reading(usize, u64),
}

/// Plans one item of the cell of a grid that stands at the given values; of several items the one of that name, else the
/// first.
///
/// # Errors
/// What is wrong with the query or with the place.
pub fn cell(
    schema: &Schema,
    settings: &Settings,
    source: &Arc<Source>,
    at: &Arc<Source>,
    item: Option<&str>,
) -> Result<CellPlan, Vec<Diagnostic>> {
    let (query, problems) = parser::query(source);
    let Some(query) = query.filter(|_| problems.is_empty()) else {
        return Err(problems);
    };
    if query.records {
        let problem = Diagnostic::general(Problem::Syntax, "records have no cells");
        return Err(vec![problem.help("ask about a cell of a `grid`")]);
    }
    let mut planner = QueryPlanner::new(schema, settings, source);
    let checked = planner.checked_grid(&query)?;
    let axes: Vec<Axis> = checked.rows.iter().chain(&checked.columns).copied().collect();
    let places = places(&planner.schema, settings, at, &axes)?;
    let index = match item {
        None => 0,
        Some(name) => checked.items.iter().position(|i| i.name == name).ok_or_else(|| {
            let names: Vec<&str> = checked.items.iter().map(|i| i.name.as_str()).collect();
            let help = cubrel_formula::source::suggestion(name, &names);
            vec![Diagnostic::general(Problem::UnknownName, format!("the grid has no item `{name}`")).help(help)]
        })?,
    };
    let wanted = |lens: usize| {
        places.iter().find_map(|p| if let NamedPlace::Reading(l, r) = p { (*l == lens).then_some(*r) } else { None })
    };
    let shown: Vec<_> = checked
        .shown
        .iter()
        .filter(|(chosen, _)| chosen.iter().all(|(lens, reading)| wanted(*lens).is_none_or(|w| w == *reading)))
        .collect();
    let [(chosen, exprs)] = shown.as_slice() else {
        let problem = Diagnostic::general(Problem::Ambiguous, "the cell stands at several readings of a lens");
        return Err(vec![problem.help("choose one: `period = '…'`")]);
    };
    let names = &planner.schema.lenses;
    let readings =
        chosen.iter().map(|(l, r)| (names[*l].name.clone(), names[*l].readings[*r as usize].name.clone())).collect();
    let at: Vec<(usize, ColumnId, Value)> = places
        .iter()
        .filter_map(|p| match p {
            NamedPlace::Axis(column, value) => {
                let axis = axes.iter().position(|a| *a == Axis::Column(*column))?;
                Some((axis, *column, value.clone()))
            }
            NamedPlace::Reading(..) => None,
        })
        .collect();
    let expr = exprs[index].clone();
    let columns: Vec<(usize, ColumnId)> = at.iter().map(|(axis, column, _)| (*axis, *column)).collect();
    let planned = layout::cell(planner.planner(), source, &checked, &columns, &expr, index)?;
    Ok(CellPlan {
        reads: planned.reads,
        outer: planned.outer,
        item: checked.items[index].clone(),
        assembly: planned.assembly,
        at: at.into_iter().map(|(_, column, value)| (column, value)).collect(),
        readings,
    })
}

fn places(
    schema: &Schema,
    settings: &Settings,
    at: &Arc<Source>,
    axes: &[Axis],
) -> Result<Vec<NamedPlace>, Vec<Diagnostic>> {
    let (conditions, problems) = parser::conditions(at);
    if !problems.is_empty() {
        return Err(problems);
    }
    let (mut places, mut problems) = (Vec::new(), Vec::new());
    for condition in &conditions {
        match place(schema, settings, at, axes, condition) {
            Ok(place) => places.push(place),
            Err(list) => problems.extend(list),
        }
    }
    if problems.is_empty() { Ok(places) } else { Err(problems) }
}

fn place(
    schema: &Schema,
    settings: &Settings,
    at: &Arc<Source>,
    axes: &[Axis],
    condition: &ast::Expr,
) -> Result<NamedPlace, Vec<Diagnostic>> {
    let fail = |problem: Problem, message: String, help: String| {
        vec![Diagnostic::error(problem, at, condition.span, message).help(help)]
    };
    let usage = "write `route.name = 'Ness–Holm', calendar.year = 2025`";
    let (left, value) = equality(settings, at, condition)
        .ok_or_else(|| fail(Problem::Syntax, "this says not where a cell stands".into(), usage.into()))?;
    if let ExprKind::Name(name) = &left.kind
        && let Some(lens) = schema.lenses.iter().position(|l| l.name == name.text)
    {
        let readings: Vec<&str> = schema.lenses[lens].readings.iter().map(|r| r.name.as_str()).collect();
        let found = readings.iter().position(|r| value.as_text() == Some(r));
        return match found {
            Some(reading) => Ok(NamedPlace::Reading(lens, reading as u64)),
            None => {
                let message = format!("`{}` has no reading {value}", name.text);
                Err(fail(Problem::UnknownName, message, format!("its readings are {}", readings.join(", "))))
            }
        };
    }
    let (column, problems) = check::column_name(schema, settings, at, left);
    let Some(column) = column else {
        return Err(if problems.is_empty() {
            fail(Problem::Syntax, "this is not a column".into(), usage.into())
        } else {
            problems
        });
    };
    if !axes.contains(&Axis::Column(column)) {
        let names: Vec<String> = axes.iter().filter_map(|a| a.column()).map(|c| schema.column_name(c)).collect();
        let message = format!("{} is not an axis of the grid", schema.column_name(column));
        let help = match closest(&schema.column_name(column), names.iter().map(String::as_str)) {
            Some(near) => did_you_mean(near),
            None => format!("its axes are {}; other conditions belong into `where`", names.join(", ")),
        };
        return Err(fail(Problem::UnknownName, message, help));
    }
    let ty = schema.column(column).ty;
    match coerced(&value, ty) {
        Some(value) => Ok(NamedPlace::Axis(column, value)),
        None => {
            Err(fail(Problem::Type, format!("{} is {ty}, this is {value}", schema.column_name(column)), usage.into()))
        }
    }
}

/// `column = value` and `column is null`, as column and value.
pub fn equality<'e>(settings: &Settings, at: &Arc<Source>, condition: &'e ast::Expr) -> Option<(&'e ast::Expr, Value)> {
    match &condition.kind {
        ExprKind::IsNull(left, false) => Some((left, Value::Null)),
        ExprKind::Binary(BinaryOp::Eq, left, right) => match &right.kind {
            ExprKind::Literal(value) => Some((left, value.clone())),
            _ => {
                let (expr, problems) = check::measure_formula(&Schema::default(), settings, at, right);
                let failed = problems.iter().any(|p| p.severity == Severity::Error);
                match expr?.kind {
                    cubrel_formula::typed::Kind::Literal(value) if !failed => Some((left, value)),
                    _ => None,
                }
            }
        },
        _ => None,
    }
}

/// A value in the type of a column.
pub fn coerced(value: &Value, ty: Type) -> Option<Value> {
    Some(match (value, ty) {
        (Value::Null, _) => Value::Null,
        (Value::Text(text), Type::Date | Type::Timestamp) => parse::value(text, ty)?,
        (Value::Text(_), Type::Text)
        | (Value::Bool(_), Type::Bool)
        | (Value::Date(_), Type::Date)
        | (Value::Timestamp(_), Type::Timestamp) => value.clone(),
        (_, Type::Float) => Value::Float(value.as_f64()?),
        (_, Type::Int | Type::Decimal { .. }) => {
            let scale = match value {
                Value::Decimal { scale, .. } => *scale,
                _ => 0,
            };
            let unscaled = value.as_exact(scale)?;
            let moved = exact::rescale(unscaled, scale, ty.scale())?;
            match ty {
                Type::Int => Value::Int(i64::try_from(moved).ok()?),
                _ => Value::Decimal { unscaled: moved, scale: ty.scale() },
            }
        }
        _ => return None,
    })
}
