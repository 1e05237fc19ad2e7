//! What formulas give, as columns; and what is said where they give nothing.

use std::sync::Arc;

use cubrel_formula::scalar::EvalError;
use cubrel_formula::source::{Diagnostic, Problem, Source, Span};
use cubrel_formula::typed::{Kind, Op, TypedExpr};
use cubrel_store::RawColumn;
use cubrel_value::{Type, Vector, exact};

/// An expression as the values of a column: of the declared type, if there is one.
pub fn stored(expr: TypedExpr, ty: Option<Type>) -> TypedExpr {
    let Some(ty) = ty.filter(|ty| *ty != expr.ty) else {
        return expr;
    };
    let (from, span) = (expr.ty, expr.span);
    TypedExpr { kind: Kind::Call(Op::Cast { from, to: ty, lenient: false }, vec![expr]), ty, span }
}

/// Values as a column, or the first that does not fit 64 bits; `row_of` gives the number of the row that a value is of.
pub fn to_raw(
    vector: Vector,
    ty: Type,
    (column, row_of): (&str, &dyn Fn(usize) -> usize),
    source: &Arc<Source>,
) -> Result<RawColumn, Diagnostic> {
    let whole = Span::new(0, source.text.len());
    RawColumn::from_vector(vector, ty).map_err(|(row, v)| {
        let (row, value) = (row_of(row) + 1, exact::to_string(v, ty.scale()));
        let message = format!("{column} in row {row}: {value} does not fit a column");
        Diagnostic::error(Problem::Data, source, whole, message).help("round it, or set `type = \"float\"`")
    })
}

/// A failed computation as a problem that names formula and row.
pub fn eval_problem(e: &EvalError, first_row: usize, table: &str) -> Diagnostic {
    let message = format!("row {} of {table}: {}", first_row + e.slot + 1, e.message);
    Diagnostic::error(Problem::Data, &e.place.source, e.place.span, message)
}
