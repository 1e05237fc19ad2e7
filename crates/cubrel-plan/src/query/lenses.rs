//! Which readings of lenses a query shows, and what an item is in each (language reference, section 10).

use super::planner::QueryPlanner;
use super::plans::{Axis, PlannedItem};
use super::resolved::{Chosen, ItemsByReading};
use cubrel_formula::ast;
use cubrel_formula::check;
use cubrel_formula::scalar;
use cubrel_formula::schema::MeasureId;
use cubrel_formula::source::{Diagnostic, Problem, Span};
use cubrel_formula::typed::{Kind, TypedExpr};
use cubrel_value::{Type, Value};

/// The lenses of a query, the one that is applied first in front.
pub(super) struct Lenses {
    /// Each with the readings that show.
    list: Vec<(usize, Vec<u64>)>,
}

impl Lenses {
    /// The lenses on axes and in conditions.
    pub(super) fn of_query(planner: &mut QueryPlanner<'_>, axes: &[Axis], conditions: &[&ast::Expr]) -> Option<Lenses> {
        let mut list: Vec<(usize, Vec<u64>)> = Vec::new();
        let mut add = |lens: usize, count: usize| {
            if !list.iter().any(|(l, _)| *l == lens) {
                list.push((lens, (0..count as u64).collect()));
            }
        };
        for axis in axes {
            if let Axis::Lens(lens) = axis {
                add(*lens, planner.schema.lenses[*lens].readings.len());
            }
        }
        for condition in conditions {
            condition.walk(&mut |e| {
                if let ast::ExprKind::Name(name) = &e.kind
                    && let Some(lens) = planner.schema.lenses.iter().position(|l| l.name == name.text)
                {
                    add(lens, planner.schema.lenses[lens].readings.len());
                }
            });
        }
        let mut lenses = Lenses { list };
        for condition in conditions {
            lenses.narrow(planner, condition)?;
        }
        for (lens, readings) in &lenses.list {
            let name = planner.schema.lenses[*lens].name.clone();
            let span = conditions.first().map_or_else(Span::default, |c| c.span);
            if readings.is_empty() {
                planner.report(
                    Problem::Type,
                    span,
                    format!("no reading of `{name}` is left"),
                    planner_names(planner, *lens),
                );
                return None;
            }
            if readings.len() > 1 && !axes.contains(&Axis::Lens(*lens)) {
                let message = format!("{} readings of `{name}` are left, and it is on no axis", readings.len());
                let help = format!("choose one: `{name} = '…'`; or put it on an axis: `split by {name}`");
                planner.report(Problem::Type, span, message, help);
                return None;
            }
        }
        lenses.sort(planner)?;
        Some(lenses)
    }

    /// Keeps the readings for which a condition is true.
    fn narrow(&mut self, planner: &mut QueryPlanner<'_>, condition: &ast::Expr) -> Option<()> {
        let mut named: Vec<ast::Name> = Vec::new();
        let mut mixed = false;
        condition.walk(&mut |e| match &e.kind {
            ast::ExprKind::Name(name)
                if planner.schema.lenses.iter().any(|l| l.name == name.text)
                    && !named.iter().any(|n| n.text == name.text) =>
            {
                named.push(name.clone());
            }
            ast::ExprKind::Column(..) | ast::ExprKind::Aggregate(_) | ast::ExprKind::Given(..) => mixed = true,
            _ => {}
        });
        let [name] = named.as_slice() else {
            let help = "join the conditions with `and`";
            planner.report(Problem::Type, condition.span, "a condition filters one lens at a time", help);
            return None;
        };
        if mixed {
            let help = "write it as a condition of its own, joined with `and`";
            planner.report(
                Problem::Type,
                condition.span,
                "a lens is filtered by itself, not together with columns",
                help,
            );
            return None;
        }
        let lens = planner.schema.lenses.iter().position(|l| l.name == name.text)?;
        let place = self.list.iter().position(|(l, _)| *l == lens)?;
        let known: Vec<String> = planner.schema.lenses[lens].readings.iter().map(|r| r.name.clone()).collect();
        for text in texts_of(condition) {
            if !known.contains(&text.0) {
                let help = planner_names(planner, lens);
                planner.report(
                    Problem::UnknownName,
                    text.1,
                    format!("`{}` has no reading `{}`", name.text, text.0),
                    help,
                );
                return None;
            }
        }
        let mut left = Vec::new();
        for reading in &self.list[place].1 {
            if holds(planner, name, &known[*reading as usize], condition)? {
                left.push(*reading);
            }
        }
        self.list[place].1 = left;
        Some(())
    }

    /// The one that is applied to another's result comes after it.
    fn sort(&mut self, planner: &mut QueryPlanner<'_>) -> Option<()> {
        let wraps = |a: usize, b: usize| {
            let inner = &planner.schema.lenses[b].name;
            planner.schema.lenses[a].wraps.contains(inner)
        };
        let ids: Vec<usize> = self.list.iter().map(|(l, _)| *l).collect();
        let above = |a: usize, b: usize| {
            // Directly, or over lenses between them.
            let mut reached = vec![a];
            let mut i = 0;
            while i < reached.len() {
                let more: Vec<usize> = (0..planner.schema.lenses.len())
                    .filter(|l| wraps(reached[i], *l) && !reached.contains(l))
                    .collect();
                reached.extend(more);
                i += 1;
            }
            a != b && reached.contains(&b)
        };
        for (i, a) in ids.iter().enumerate() {
            for b in &ids[i + 1..] {
                if !above(*a, *b) && !above(*b, *a) {
                    let (x, y) = (planner.schema.lenses[*a].name.clone(), planner.schema.lenses[*b].name.clone());
                    let message = format!("`{x}` and `{y}` meet here, and neither says which is applied first");
                    let help =
                        format!("in model.toml, [lens.{x}] `wraps = [\"{y}\"]` applies it to the result of `{y}`");
                    planner.report(Problem::Ambiguous, Span::default(), message, help);
                    return None;
                }
            }
        }
        let depth: Vec<usize> = ids.iter().map(|a| ids.iter().filter(|b| above(*a, **b)).count()).collect();
        let mut order: Vec<usize> = (0..ids.len()).collect();
        order.sort_by_key(|i| depth[*i]);
        self.list = order.into_iter().map(|i| self.list[i].clone()).collect();
        Some(())
    }

    /// All combinations of readings, the lens applied last varying slowest.
    fn combinations(&self) -> Vec<Chosen> {
        self.list.iter().fold(vec![Vec::new()], |before, (lens, readings)| {
            before
                .iter()
                .flat_map(|chosen| {
                    readings.iter().map(move |r| chosen.iter().copied().chain([(*lens, *r)]).collect::<Chosen>())
                })
                .collect()
        })
    }
}

fn planner_names(planner: &QueryPlanner<'_>, lens: usize) -> String {
    let names: Vec<String> = planner.schema.lenses[lens].readings.iter().map(|r| format!("'{}'", r.name)).collect();
    format!("its readings are {}", names.join(", "))
}

/// The text literals of a condition; patterns of `like` are no names.
fn texts_of(condition: &ast::Expr) -> Vec<(String, Span)> {
    let (mut found, mut patterns) = (Vec::new(), false);
    condition.walk(&mut |e| match &e.kind {
        ast::ExprKind::Literal(Value::Text(text)) => found.push((text.to_string(), e.span)),
        ast::ExprKind::Like(..) => patterns = true,
        _ => {}
    });
    if patterns { Vec::new() } else { found }
}

/// Whether a condition is true of one reading: the lens's name stands for the reading's.
fn holds(planner: &mut QueryPlanner<'_>, name: &ast::Name, reading: &str, condition: &ast::Expr) -> Option<bool> {
    let value = ast::Expr { kind: ast::ExprKind::Literal(Value::text(reading)), span: name.span };
    let bound = ast::ExprKind::Let(vec![(name.clone(), value)], Box::new(condition.clone()));
    let tree = ast::Expr { kind: bound, span: condition.span };
    let (expr, problems) = check::measure_formula(&planner.schema, planner.settings, planner.source, &tree);
    planner.add(problems);
    let scalar = scalar::from_expr(&expr?, planner.source, &mut |_| None);
    scalar.of_constants().ok().map(|value| value == Value::Bool(true))
}

impl QueryPlanner<'_> {
    /// The items in each combination of readings.
    pub(super) fn seen_through(
        &mut self,
        lenses: &Lenses,
        items: Vec<(PlannedItem, TypedExpr)>,
    ) -> Option<(Vec<PlannedItem>, ItemsByReading)> {
        let combinations = lenses.combinations();
        let mut shown = Vec::new();
        let mut types: Vec<Vec<Type>> = vec![Vec::new(); items.len()];
        let bases: Vec<MeasureId> = if lenses.list.is_empty() {
            Vec::new()
        } else {
            items.iter().map(|(item, expr)| self.shown_item(item, expr)).collect()
        };
        for chosen in combinations {
            let mut exprs = Vec::new();
            for (i, (item, expr)) in items.iter().enumerate() {
                let mut seen = expr.clone();
                for (n, (lens, reading)) in chosen.iter().enumerate() {
                    let inner = if n == 0 {
                        bases[i]
                    } else {
                        self.add_measure(item.name.clone(), self.source.clone(), Some(seen))
                    };
                    seen = self.reading(*lens, *reading, inner, &item.name)?;
                }
                types[i].push(seen.ty);
                exprs.push(seen);
            }
            shown.push((chosen, exprs));
        }
        let mut planned = Vec::new();
        for ((mut item, _), types) in items.into_iter().zip(types) {
            let Some(ty) = types.iter().try_fold(Type::Null, |ty, t| ty.common(*t)) else {
                let message = format!("the readings give `{}` values of different types", item.name);
                self.report(Problem::Type, Span::default(), message, "make them one type, with `cast(… as …)`");
                return None;
            };
            item.ty = ty;
            // A lens on no axis has one reading, whose format counts for all.
            for (lens, readings) in &lenses.list {
                let def = &self.schema.lenses[*lens];
                if let ([only], true) = (readings.as_slice(), def.readings.len() > 1) {
                    item.format = def.readings[*only as usize].format.clone().or(item.format);
                }
            }
            planned.push(item);
        }
        Some((planned, shown))
    }

    /// The measure that `shown` stands for.
    fn shown_item(&mut self, item: &PlannedItem, expr: &TypedExpr) -> MeasureId {
        match expr.kind {
            Kind::Measure(id) => id,
            _ => self.add_measure(item.name.clone(), self.source.clone(), Some(expr.clone())),
        }
    }

    /// A reading of one item, typed.
    fn reading(&mut self, lens: usize, reading: u64, shown: MeasureId, item: &str) -> Option<TypedExpr> {
        let def = self.schema.lenses[lens].readings[reading as usize].clone();
        let settings = check::Settings { shown: Some(shown), ..self.settings.clone() };
        let (expr, problems) = check::measure_formula(&self.schema, &settings, &def.source, &def.expr);
        let errors = problems.into_iter().map(|p| {
            let message = format!(
                "reading `{}` of `{}` cannot show `{item}`: {}",
                def.name, self.schema.lenses[lens].name, p.message
            );
            Diagnostic { message, ..p }
        });
        let errors: Vec<Diagnostic> = errors.collect();
        self.add(errors);
        let expr = expr?;
        let ty = expr.ty;
        let span = expr.span;
        // The formula belongs to the lens's text, so it runs as a measure of its own.
        let id = self.add_measure(format!("{item}: {}", def.name), def.source.clone(), Some(expr));
        Some(TypedExpr { kind: Kind::Measure(id), ty, span })
    }
}
