//! The tree of a formula or query as it was written: every node has its span, no name is resolved.

use super::source::Span;
use cubrel_value::date::Unit;
use cubrel_value::{Type, Value};

/// A name and where it stands.
#[derive(Clone, Debug, PartialEq)]
pub struct Name {
    /// Without quotes.
    pub text: String,
    /// Where it stands.
    pub span: Span,
}

/// An expression.
#[derive(Clone, Debug)]
pub struct Expr {
    /// What it is.
    pub kind: ExprKind,
    /// Where it stands.
    pub span: Span,
}

/// The kinds of expression.
#[derive(Clone, Debug)]
pub enum ExprKind {
    /// A literal.
    Literal(Value),
    /// `$name`
    Parameter(String),
    /// A bare name: a let, a column of the own table, a measure; after `rows(` and `per` a table.
    Name(Name),
    /// `table.column`
    Column(Name, Name),
    /// `-x`
    Negate(Box<Expr>),
    /// `not x`
    Not(Box<Expr>),
    /// Two operands and what stands between them.
    Binary(BinaryOp, Box<Expr>, Box<Expr>),
    /// `x is [not] null`
    IsNull(Box<Expr>, bool),
    /// `x [not] like pattern`
    Like(Box<Expr>, Box<Expr>, bool),
    /// `x [not] between a and b`
    Between(Box<Expr>, Box<Expr>, Box<Expr>, bool),
    /// `x [not] in (…)`
    In(Box<Expr>, Vec<Expr>, bool),
    /// `case [x] when … then … else … end`, and `if(a, b, c)`
    Case(Option<Box<Expr>>, Vec<(Expr, Expr)>, Option<Box<Expr>>),
    /// `cast(x as type)`; true for `try_cast`
    Cast(Box<Expr>, Type, bool),
    /// `f(a, b)`
    Call(Name, Vec<Expr>),
    /// `let x = …; let y = …; result`
    Let(Vec<(Name, Expr)>, Box<Expr>),
    /// An aggregate, a set or a rank.
    Aggregate(Box<Aggregate>),
    /// `x given (…)`
    Given(Box<Expr>, Vec<Edit>),
    /// `x via t.c`, `x via (t.a, t.b)`
    Via(Box<Expr>, Vec<(Name, Name)>),
    /// `x both_ways t.c`
    BothWays(Box<Expr>, Vec<(Name, Name)>),
    /// `table where predicate`, in the `where` of a query: the predicate tests rows of that table.
    RowsWhere(Name, Box<Expr>),
    /// Something that could not be read; it was reported.
    Broken,
}

/// Operators between two operands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[allow(missing_docs, reason = "the names say it")]
pub enum BinaryOp {
    Or,
    And,
    Eq,
    Ne,
    Lt,
    Le,
    Gt,
    Ge,
    Concat,
    Add,
    Sub,
    Mul,
    Div,
    Rem,
}

impl BinaryOp {
    /// As it is written.
    pub fn symbol(self) -> &'static str {
        use BinaryOp::*;
        match self {
            Or => "or",
            And => "and",
            Eq => "=",
            Ne => "<>",
            Lt => "<",
            Le => "<=",
            Gt => ">",
            Ge => ">=",
            Concat => "||",
            Add => "+",
            Sub => "-",
            Mul => "*",
            Div => "/",
            Rem => "%",
        }
    }
}

/// `sum(x per … of … where …)` and its kin.
#[derive(Clone, Debug)]
pub struct Aggregate {
    /// Which one.
    pub name: Name,
    /// `count(distinct …)`
    pub distinct: bool,
    /// What it aggregates, and its other arguments.
    pub args: Vec<Expr>,
    /// `order by`, with true for descending.
    pub order: Vec<(Expr, bool)>,
    /// What it goes through.
    pub per: Option<Per>,
}

/// What an aggregate iterates.
#[derive(Clone, Debug)]
pub struct Per {
    /// A table, or columns.
    pub targets: Vec<Target>,
    /// Only combinations that this table's rows have.
    pub of: Option<Name>,
    /// Only those where this is true.
    pub filter: Option<Box<Expr>>,
    /// The whole clause.
    pub span: Span,
}

/// A table or a column, wherever either can stand.
#[derive(Clone, Debug)]
pub enum Target {
    /// A bare name: a table, a hierarchy, a lens.
    Name(Name),
    /// `table.column`
    Column(Name, Name),
}

impl Target {
    /// Where it stands.
    pub fn span(&self) -> Span {
        match self {
            Target::Name(n) => n.span,
            Target::Column(t, c) => t.span.to(c.span),
        }
    }
}

/// One edit of a `given (…)`.
#[derive(Clone, Debug)]
pub struct Edit {
    /// What it does.
    pub kind: EditKind,
    /// Where it stands.
    pub span: Span,
}

/// The edits of the filter context (language reference, sections 6 and 8).
#[derive(Clone, Debug)]
pub enum EditKind {
    /// `[instead] [table where] predicate`
    Narrow {
        /// Drops the columns that the predicate names first.
        instead: bool,
        /// The table whose rows are tested, when it is named.
        table: Option<Name>,
        /// What must hold.
        predicate: Expr,
    },
    /// `without a, b`
    Without(Vec<Target>),
    /// `without all`
    WithoutAll,
    /// `without axes`
    WithoutAxes,
    /// `without row`
    WithoutRow,
    /// `without all but a, b`
    WithoutAllBut(Vec<Target>),
    /// `so_far(year)` and its kin, with the calendar after `on`.
    Period(Period, Option<Name>),
}

/// The period edits (language reference, section 8).
#[derive(Clone, Debug, PartialEq)]
pub enum Period {
    /// From the start of the unit that holds the last day, to the last day.
    SoFar(Unit),
    /// So many units up to the last day.
    Trailing(i64, Unit),
    /// Moved by so many units.
    Shift(i64, Unit),
    /// All days of the units touched, moved by so many units.
    Whole(Unit, i64),
    /// The first day.
    AtStart,
    /// The last day, or the last one with a row of this table.
    AtEnd(Option<Name>),
}

/// A query.
#[derive(Clone, Debug)]
pub struct QueryTree {
    /// `measure x = …;`
    pub measures: Vec<(Name, Expr)>,
    /// The items of a `grid`, or the columns of `records`.
    pub items: Vec<Item>,
    /// Whether this is `records`.
    pub records: bool,
    /// Row axes, outer first.
    pub by: Vec<Target>,
    /// Column axes.
    pub split: Vec<Target>,
    /// `where`
    pub filter: Option<Expr>,
    /// `having`
    pub having: Option<Expr>,
    /// `order by`, with true for descending.
    pub order: Vec<(Expr, bool)>,
    /// `limit`
    pub limit: Option<Limit>,
    /// `totals`
    pub totals: bool,
    /// `with empty`
    pub with_empty: bool,
}

/// `limit 5 within a, b others`
#[derive(Clone, Debug)]
pub struct Limit {
    /// How many lines.
    pub count: usize,
    /// For each combination of these row axes.
    pub within: Vec<Target>,
    /// One more line for the rest.
    pub others: Option<Span>,
}

/// One item of a query.
#[derive(Clone, Debug)]
pub struct Item {
    /// What it shows.
    pub expr: Expr,
    /// The heading after `as`.
    pub heading: Option<Name>,
    /// The pattern after `format`.
    pub format: Option<String>,
    /// All of it.
    pub span: Span,
}

impl QueryTree {
    /// Calls `visit` on every expression of the query, not on their parts.
    pub fn each_expr<'q>(&'q self, visit: &mut dyn FnMut(&'q Expr)) {
        self.measures.iter().for_each(|(_, e)| visit(e));
        self.items.iter().for_each(|i| visit(&i.expr));
        self.filter.iter().chain(&self.having).for_each(&mut *visit);
        self.order.iter().for_each(|(e, _)| visit(e));
    }

    /// Its axes, and those that a limit counts within.
    pub fn targets(&self) -> impl Iterator<Item = &Target> {
        self.by.iter().chain(&self.split).chain(self.limit.iter().flat_map(|l| &l.within))
    }
}

impl Expr {
    /// Calls `visit` on every name that can be a table's.
    pub fn walk_tables<'e>(&'e self, visit: &mut dyn FnMut(&'e Name)) {
        self.walk(&mut |e| match &e.kind {
            ExprKind::Name(name) | ExprKind::Column(name, _) | ExprKind::RowsWhere(name, _) => visit(name),
            ExprKind::Via(_, columns) | ExprKind::BothWays(_, columns) => columns.iter().for_each(|(t, _)| visit(t)),
            ExprKind::Aggregate(a) => a.per.iter().flat_map(|p| &p.of).for_each(&mut *visit),
            ExprKind::Given(_, edits) => {
                for edit in edits {
                    match &edit.kind {
                        EditKind::Narrow { table, .. } => table.iter().for_each(&mut *visit),
                        EditKind::Period(Period::AtEnd(Some(table)), _) => visit(table),
                        _ => {}
                    }
                }
            }
            _ => {}
        });
        self.walk_targets(&mut |target| match target {
            Target::Name(name) | Target::Column(name, _) => visit(name),
        });
    }

    /// Calls `visit` on every table and column that stands where either can: after `per` and `without`.
    pub fn walk_targets<'e>(&'e self, visit: &mut dyn FnMut(&'e Target)) {
        self.walk(&mut |e| match &e.kind {
            ExprKind::Aggregate(a) => a.per.iter().flat_map(|p| &p.targets).for_each(&mut *visit),
            ExprKind::Given(_, edits) => {
                for edit in edits {
                    if let EditKind::Without(targets) | EditKind::WithoutAllBut(targets) = &edit.kind {
                        targets.iter().for_each(&mut *visit);
                    }
                }
            }
            _ => {}
        });
    }

    /// Calls `visit` on this expression and everything in it.
    pub fn walk<'e>(&'e self, visit: &mut dyn FnMut(&'e Expr)) {
        self.walk_where(&mut |e| {
            visit(e);
            true
        });
    }

    /// Calls `visit` on this expression, and on everything in those for which it says so.
    pub fn walk_where<'e>(&'e self, visit: &mut dyn FnMut(&'e Expr) -> bool) {
        if visit(self) {
            self.each_part(&mut |part| part.walk_where(visit));
        }
    }

    /// Calls `visit` on the expressions that this one is made of, not on their parts.
    pub fn each_part<'e>(&'e self, visit: &mut dyn FnMut(&'e Expr)) {
        match &self.kind {
            ExprKind::Literal(_)
            | ExprKind::Parameter(_)
            | ExprKind::Name(_)
            | ExprKind::Column(..)
            | ExprKind::Broken => {}
            ExprKind::Negate(e)
            | ExprKind::Not(e)
            | ExprKind::IsNull(e, _)
            | ExprKind::Cast(e, ..)
            | ExprKind::Via(e, ..)
            | ExprKind::RowsWhere(_, e)
            | ExprKind::BothWays(e, ..) => visit(e),
            ExprKind::Binary(_, a, b) | ExprKind::Like(a, b, _) => [a, b].into_iter().for_each(|e| visit(e)),
            ExprKind::Between(a, b, c, _) => [a, b, c].into_iter().for_each(|e| visit(e)),
            ExprKind::In(e, list, _) => {
                visit(e);
                list.iter().for_each(visit);
            }
            ExprKind::Case(operand, arms, otherwise) => {
                operand.iter().chain(otherwise).for_each(|e| visit(e));
                arms.iter().flat_map(|(c, r)| [c, r]).for_each(visit);
            }
            ExprKind::Call(_, args) => args.iter().for_each(visit),
            ExprKind::Let(bindings, body) => {
                bindings.iter().for_each(|(_, e)| visit(e));
                visit(body);
            }
            ExprKind::Aggregate(a) => {
                a.args.iter().chain(a.order.iter().map(|(e, _)| e)).for_each(&mut *visit);
                a.per.iter().flat_map(|p| &p.filter).for_each(|e| visit(e));
            }
            ExprKind::Given(body, edits) => {
                visit(body);
                let predicate = |edit: &'e Edit| match &edit.kind {
                    EditKind::Narrow { predicate, .. } => Some(predicate),
                    _ => None,
                };
                edits.iter().filter_map(predicate).for_each(visit);
            }
        }
    }
}
