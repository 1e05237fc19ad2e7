//! The tree that plans are made from: names resolved, types known, conversions explicit.

pub use super::aggregate::AggregateKind;
use std::sync::Arc;

use super::functions::Function;
use super::ids::{ColumnId, MeasureId, RelationshipId, TableId};
use super::source::Span;
use cubrel_value::days::PeriodEdit;
use cubrel_value::{Type, Value};

/// A typed expression.
#[derive(Clone, Debug)]
pub struct TypedExpr {
    /// What it is.
    pub kind: Kind,
    /// The type of its value.
    pub ty: Type,
    /// Where it stands in its formula.
    pub span: Span,
}

/// One `let`, by a number that is unique within its formula.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct LetId(pub u32);

/// One thing that gives the current row or combination: a calculated column's row, or a `per`.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct ProviderId(pub u32);

/// The kinds of typed expression.
#[derive(Clone, Debug)]
pub enum Kind {
    /// A constant.
    Literal(Value),
    /// A column of the row that is iterated or tested, inside an aggregate or a predicate.
    Column {
        /// Which column.
        column: ColumnId,
        /// Spare relationships named around it.
        detours: Vec<RelationshipId>,
        /// How many of them stand around the aggregate or the predicate, too.
        around: usize,
    },
    /// A column of the current row or combination.
    Current {
        /// What gives the row.
        provider: ProviderId,
        /// Which column.
        column: ColumnId,
        /// Spare relationships named around it.
        detours: Vec<RelationshipId>,
        /// How many of them stand around what gives the row, too.
        around: usize,
    },
    /// `let x = value; body`
    Let(LetId, Box<TypedExpr>, Box<TypedExpr>),
    /// The value of a `let`.
    LetRef(LetId),
    /// An operator or a function.
    Call(Op, Vec<TypedExpr>),
    /// The first arm whose condition is true, else the last part (or null).
    Case(Vec<(TypedExpr, TypedExpr)>, Option<Box<TypedExpr>>),
    /// Both, by three-valued logic; the right side only where the left is not false.
    And(Box<TypedExpr>, Box<TypedExpr>),
    /// Either; the right side only where the left is not true.
    Or(Box<TypedExpr>, Box<TypedExpr>),
    /// The first that is not null.
    Coalesce(Vec<TypedExpr>),
    /// Rows or combinations to one value.
    Aggregate(Box<TypedAggregate>),
    /// `rank(x per t.c)`
    Rank(Box<Rank>),
    /// A measure, by name.
    Measure(MeasureId),
    /// The body under an edited filter context.
    Given(Box<TypedExpr>, Vec<TypedEdit>),
    /// The body with a spare relationship in place of default paths.
    Via(Box<TypedExpr>, RelationshipId),
    /// The body with a relationship that filters both ways.
    BothWays(Box<TypedExpr>, RelationshipId),
    /// The best or worst values of a column: only as the value of a `let`.
    Set(Box<SetOf>),
    /// Whether a value is in the set that a `let` holds.
    Member(Box<TypedExpr>, LetId),
    /// `narrowed(t.c)`: whether a filter acts on a column.
    Narrowed(ColumnId),
    /// `grouping(t.c)`: 0 on a grid line of that column, else 1.
    Grouping(ColumnId),
}

/// Operators and functions on values.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[allow(missing_docs, reason = "the names say it")]
pub enum Op {
    Add,
    Sub,
    Mul,
    Div,
    Rem,
    Negate,
    Eq,
    Ne,
    Lt,
    Le,
    Gt,
    Ge,
    Not,
    IsNull,
    Concat,
    Like,
    /// The first argument is one of the others.
    In,
    /// An exact number to a double.
    ToFloat,
    /// An exact number to another scale.
    Rescale {
        from: u8,
        to: u8,
    },
    /// A date to its midnight.
    ToTimestamp,
    /// `cast` and `try_cast`.
    Cast {
        from: Type,
        to: Type,
        lenient: bool,
    },
    /// A function of the catalogue.
    Function(&'static Function),
}

impl Op {
    /// The comparison that says the same with its sides exchanged.
    #[must_use]
    pub fn mirrored(self) -> Op {
        match self {
            Op::Lt => Op::Gt,
            Op::Le => Op::Ge,
            Op::Gt => Op::Lt,
            Op::Ge => Op::Le,
            other => other,
        }
    }
}

/// An aggregate with what it goes through.
#[derive(Clone, Debug)]
pub struct TypedAggregate {
    /// Which one.
    pub kind: AggregateKind,
    /// What it aggregates: one expression, several for `count(distinct a, b)`, none for `rows`.
    pub args: Vec<TypedExpr>,
    /// A constant argument: the share of a percentile, the separator of `string_agg`.
    pub constant: Option<Value>,
    /// `order by`, with true for descending.
    pub order: Vec<(TypedExpr, bool)>,
    /// Rows of a table, or combinations.
    pub over: Over,
}

/// 1 + how many values of a column have a greater figure.
#[derive(Clone, Debug)]
pub struct Rank {
    /// The figure, twice: for the current cell, and for each value of the column.
    pub figure: TypedExpr,
    /// The column.
    pub column: ColumnId,
    /// Names the value in the figure.
    pub provider: ProviderId,
    /// Counts smaller figures instead.
    pub ascending: bool,
}

/// `top(5, x per t.c)`: the values of a column whose figure is among the greatest, ties at the cut included.
#[derive(Clone, Debug)]
pub struct SetOf {
    /// The figure of each value.
    pub figure: TypedExpr,
    /// The column.
    pub column: ColumnId,
    /// Names the value in the figure.
    pub provider: ProviderId,
    /// How many.
    pub count: u64,
    /// Takes the smallest figures.
    pub bottom: bool,
}

/// What an aggregate goes through.
#[derive(Clone, Debug)]
pub enum Over {
    /// The visible rows of a table.
    Rows(TableId),
    /// What `per` says.
    Per(TypedPer),
}

/// A typed `per`.
#[derive(Clone, Debug)]
pub struct TypedPer {
    /// Names the current row or combination in the body.
    pub provider: ProviderId,
    /// Rows or combinations.
    pub domain: PerDomain,
    /// Only where this is true.
    pub filter: Option<TypedExpr>,
}

/// What a `per` goes through.
#[derive(Clone, Debug)]
pub enum PerDomain {
    /// The visible rows of a table.
    Table(TableId),
    /// Distinct visible combinations.
    Columns {
        /// Of these columns.
        columns: Vec<ColumnId>,
        /// Only those that this table's visible rows have.
        of: Option<TableId>,
    },
}

/// One typed edit.
#[derive(Clone, Debug)]
pub enum TypedEdit {
    /// Rows must also satisfy this.
    Narrow(Narrow),
    /// Drops filters on columns and on tables' own columns.
    Without(Vec<EditTarget>),
    /// Drops everything.
    WithoutAll,
    /// Drops what rows and columns of the grid put there.
    WithoutAxes,
    /// Drops the innermost bound row.
    WithoutRow,
    /// Drops everything but filters on these.
    WithoutAllBut(Vec<EditTarget>),
    /// Puts other days in place of those that are visible.
    Period(TypedPeriod),
}

/// A typed period edit (language reference, section 8).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct TypedPeriod {
    /// The calendar.
    pub calendar: TableId,
    /// Its date column.
    pub date: ColumnId,
    /// What it does.
    pub edit: PeriodEdit,
    /// The table whose last visible day counts, for `at_end(t)`.
    pub rows_of: Option<TableId>,
}

/// A table or a column that an edit names.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum EditTarget {
    /// All own columns of a table.
    Table(TableId),
    /// One column.
    Column(ColumnId),
}

/// A predicate as a filter: its top-level `and` is already taken apart.
#[derive(Clone, Debug)]
pub struct Narrow {
    /// Drops the columns that it names first.
    pub instead: bool,
    /// The table whose rows are tested.
    pub table: TableId,
    /// The columns that it tests.
    pub columns: Vec<ColumnId>,
    /// Values from outside, evaluated once where the `given` stands.
    pub outer: Vec<(LetId, TypedExpr)>,
    /// What must be true of a row.
    pub predicate: Arc<TypedExpr>,
}

impl TypedExpr {
    /// Calls `visit` on every direct part that is evaluated in the same place as this expression. Bodies of
    /// aggregates, edits and predicates are other places and are left out.
    pub fn each_part(&self, visit: &mut dyn FnMut(&TypedExpr)) {
        match &self.kind {
            Kind::Literal(_)
            | Kind::Column { .. }
            | Kind::Current { .. }
            | Kind::LetRef(_)
            | Kind::Measure(_)
            | Kind::Rank(_)
            | Kind::Set(_)
            | Kind::Narrowed(_)
            | Kind::Grouping(_)
            | Kind::Aggregate(_) => {}
            Kind::Let(_, a, b) | Kind::And(a, b) | Kind::Or(a, b) => {
                visit(a);
                visit(b);
            }
            Kind::Call(_, args) | Kind::Coalesce(args) => args.iter().for_each(visit),
            Kind::Case(arms, otherwise) => {
                for (condition, result) in arms {
                    visit(condition);
                    visit(result);
                }
                otherwise.iter().for_each(|e| visit(e));
            }
            Kind::Given(body, _) | Kind::Via(body, _) | Kind::BothWays(body, _) | Kind::Member(body, _) => visit(body),
        }
    }

    /// Calls `visit` on every part, whatever place it is evaluated in, this expression first.
    pub fn walk(&self, visit: &mut dyn FnMut(&TypedExpr)) {
        visit(self);
        self.each_part(&mut |part| part.walk(visit));
        match &self.kind {
            Kind::Aggregate(a) => {
                a.args.iter().for_each(|e| e.walk(visit));
                a.order.iter().for_each(|(e, _)| e.walk(visit));
                if let Over::Per(TypedPer { filter: Some(filter), .. }) = &a.over {
                    filter.walk(visit);
                }
            }
            Kind::Rank(rank) => rank.figure.walk(visit),
            Kind::Set(set) => set.figure.walk(visit),
            Kind::Given(_, edits) => {
                for edit in edits {
                    if let TypedEdit::Narrow(narrow) = edit {
                        narrow.outer.iter().for_each(|(_, e)| e.walk(visit));
                        narrow.predicate.walk(visit);
                    }
                }
            }
            _ => {}
        }
    }

    /// The columns of tested or iterated rows that this names, each once.
    pub fn columns(&self) -> Vec<ColumnId> {
        let mut found = Vec::new();
        self.walk(&mut |e| {
            if let Kind::Column { column, .. } = &e.kind
                && !found.contains(column)
            {
                found.push(*column);
            }
        });
        found
    }
}
