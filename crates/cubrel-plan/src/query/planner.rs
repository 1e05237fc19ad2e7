//! What resolving a query goes by, and what it has found wrong.

use std::sync::Arc;

use crate::lower::Planner;
use cubrel_formula::ast;
use cubrel_formula::check::{self, Settings};
use cubrel_formula::schema::{MeasureDef, MeasureId, Schema};
use cubrel_formula::source::{Diagnostic, Problem, Severity, Source, Span};
use cubrel_formula::typed::TypedExpr;

/// Resolves one query.
pub(super) struct QueryPlanner<'a> {
    pub(super) schema: Schema,
    pub(super) settings: &'a Settings,
    pub(super) source: &'a Arc<Source>,
    pub(super) problems: Vec<Diagnostic>,
}

impl<'a> QueryPlanner<'a> {
    pub(super) fn new(schema: &Schema, settings: &'a Settings, source: &'a Arc<Source>) -> QueryPlanner<'a> {
        QueryPlanner { schema: schema.clone(), settings, source, problems: Vec::new() }
    }

    pub(super) fn report(&mut self, problem: Problem, span: Span, message: impl Into<String>, help: impl Into<String>) {
        self.problems.push(Diagnostic::error(problem, self.source, span, message).help(help));
    }

    pub(super) fn add(&mut self, problems: Vec<Diagnostic>) {
        self.problems.extend(problems);
    }

    /// Plans what is checked, until whoever asked wants no more.
    pub(super) fn planner(&self) -> Planner<'_> {
        Planner::new(&self.schema).until(&self.settings.ending)
    }

    pub(super) fn failed(&self) -> bool {
        self.problems.iter().any(|p| p.severity == Severity::Error)
    }

    pub(super) fn local_measures(&mut self, measures: &[(ast::Name, ast::Expr)]) {
        for (name, body) in measures {
            if self.schema.find_measure(&name.text).is_some() {
                self.report(
                    Problem::Duplicate,
                    name.span,
                    format!("there is already a measure `{}`", name.text),
                    "give the measure of this query another name",
                );
                continue;
            }
            let (expr, problems) = check::measure_formula(&self.schema, self.settings, self.source, body);
            self.problems.extend(problems);
            let source = self.source.clone();
            self.add_measure(name.text.clone(), source, expr);
        }
    }

    /// A measure that only this query knows.
    pub(super) fn add_measure(&mut self, name: String, source: Arc<Source>, expr: Option<TypedExpr>) -> MeasureId {
        self.schema.measures.push(MeasureDef {
            name,
            label: None,
            format: None,
            hidden: false,
            group: None,
            note: None,
            source,
            expr: expr.map(Arc::new),
            wrong: None,
        });
        MeasureId(self.schema.measures.len() as u32 - 1)
    }
}
