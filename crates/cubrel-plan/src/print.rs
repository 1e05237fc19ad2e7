//! Plans as text, for people and for tests.

use std::collections::HashMap;
use std::fmt::Write;

use super::rows::{ParameterId, RowExpr, RowLeaf};
use super::scope::{Filter, FilterTest, Key};
use super::tree::{Read, ReadAggregate};
use cubrel_formula::scalar::{Scalar, ScalarKind};
use cubrel_formula::schema::{ColumnId, RelationshipId, Schema};
use cubrel_formula::typed::{AggregateKind, Op};
use cubrel_formula::words::{quote_name, quote_text};
use cubrel_value::Value;

/// A read without its aggregates.
pub fn read_text(schema: &Schema, read: &Read) -> String {
    let printer = Printer::new(schema);
    let mut text = printer.read(read);
    let days: Vec<ParameterId> = read.filters.iter().filter_map(Filter::days).collect();
    let slots: Vec<String> = read.outer.iter().filter(|s| !days.contains(s)).map(|s| s.0.to_string()).collect();
    if !slots.is_empty() {
        let _ = write!(text, " for each outer {}", slots.join(", "));
    }
    if !days.is_empty() {
        text.push_str(" for each set of days");
    }
    printer.detours(read, &mut text);
    text
}

/// Prints parts of a plan, with names for the values that come from outside.
pub struct Printer<'a> {
    schema: &'a Schema,
    names: HashMap<ParameterId, String>,
}

impl<'a> Printer<'a> {
    /// Values from outside are numbered.
    pub fn new(schema: &'a Schema) -> Printer<'a> {
        Printer { schema, names: HashMap::new() }
    }

    /// Values from outside are called by what they were computed from.
    pub fn with_names(schema: &'a Schema, names: HashMap<ParameterId, String>) -> Printer<'a> {
        Printer { schema, names }
    }

    /// What a value from outside is called.
    pub fn slot(&self, slot: ParameterId) -> String {
        self.names.get(&slot).cloned().unwrap_or_else(|| format!("outer {}", slot.0))
    }

    /// A read, apart from its aggregates, its other ways, and for what it is repeated.
    pub fn read(&self, read: &Read) -> String {
        let mut text = quote_name(&self.schema.table(read.table).name);
        if !read.keys.is_empty() {
            let keys: Vec<String> = read.keys.iter().map(|k| self.key(*k)).collect();
            let _ = write!(text, " by {}", keys.join(", "));
        }
        if !read.filters.is_empty() {
            let mut filters: Vec<String> = read.filters.iter().map(|f| self.filter(f)).collect();
            filters.sort();
            filters.dedup();
            let _ = write!(text, " where {}", filters.join(" and "));
        }
        text
    }

    /// The spare relationships that a read takes, and those that filter it back.
    pub fn detours(&self, read: &Read, text: &mut String) {
        for relationship in &read.detours {
            let _ = write!(text, " via {}", relationship_name(self.schema, *relationship));
        }
        for bridge in &read.bridges {
            let through = relationship_name(self.schema, bridge.relationship);
            let _ = write!(text, " both ways over {through} with ({})", read_text(self.schema, &bridge.pairs));
        }
    }

    /// What a read groups by.
    pub fn key(&self, key: Key) -> String {
        match key {
            Key::Column(column) => self.schema.column_name(column),
            Key::Row(table) => format!("row of {}", quote_name(&self.schema.table(table).name)),
            Key::Value(slot) => self.names.get(&slot).cloned().unwrap_or_else(|| format!("value {}", slot.0)),
        }
    }

    /// A filter.
    pub fn filter(&self, filter: &Filter) -> String {
        let list =
            |columns: &[ColumnId]| columns.iter().map(|c| self.schema.column_name(*c)).collect::<Vec<_>>().join(", ");
        match &filter.test {
            FilterTest::Predicate(predicate) if predicate.days.is_some() => {
                format!("{} in the days of the cell", list(&predicate.columns))
            }
            FilterTest::Predicate(predicate) => {
                let text = self.row(&predicate.test);
                if predicate.columns.iter().any(|c| c.table == predicate.table) {
                    text
                } else {
                    format!("{} where {text}", quote_name(&self.schema.table(predicate.table).name))
                }
            }
            FilterTest::Lines { kept, slot, .. } => {
                format!("({}) of the lines in {}", list(kept), self.slot(*slot))
            }
            FilterTest::Projected(predicate, kept) => {
                format!("({}) of rows with {}", list(kept), self.row(&predicate.test))
            }
        }
    }

    /// An aggregate of a read.
    pub fn aggregate(&self, aggregate: &ReadAggregate) -> String {
        let name = aggregate.kind.name();
        if aggregate.kind == AggregateKind::Rows {
            return "rows".into();
        }
        let mut args: Vec<String> = aggregate.args.iter().map(|a| self.row(a)).collect();
        args.extend(aggregate.constant.iter().map(literal));
        let distinct = if aggregate.kind == AggregateKind::CountDistinct { "distinct " } else { "" };
        let mut text = format!("{name}({distinct}{}", args.join(", "));
        if !aggregate.order.is_empty() {
            let by = |(e, descending): &(RowExpr, bool)| {
                format!("{}{}", self.row(e), if *descending { " desc" } else { "" })
            };
            let order: Vec<String> = aggregate.order.iter().map(by).collect();
            let _ = write!(text, " order by {}", order.join(", "));
        }
        text.push(')');
        text
    }

    /// A row expression.
    pub fn row(&self, row: &RowExpr) -> String {
        scalar(&row.scalar, &|leaf| match &row.leaves[leaf] {
            RowLeaf::Column { column, path } => {
                let mut text = self.schema.column_name(*column);
                // The default path is the one that a reader expects.
                for relationship in path.iter().filter(|r| self.schema.relationship(**r).spare) {
                    let _ = write!(text, " via {}", relationship_name(self.schema, *relationship));
                }
                text
            }
            RowLeaf::Parameter(slot) => self.slot(*slot),
            RowLeaf::Member { slot, of } => format!("{} in {}", self.row(of), self.slot(*slot)),
        })
    }
}

/// A relationship, by its many side.
pub fn relationship_name(schema: &Schema, id: RelationshipId) -> String {
    let r = schema.relationship(id);
    let columns: Vec<&str> =
        r.many_columns.iter().map(|c| schema.table(r.many).columns[*c as usize].name.as_str()).collect();
    format!("{}.{}", schema.table(r.many).name, columns.join("+"))
}

fn literal(value: &Value) -> String {
    match value {
        Value::Null => "null".into(),
        Value::Text(t) => quote_text(t),
        Value::Date(_) => format!("date '{value}'"),
        Value::Timestamp(_) => format!("timestamp '{value}'"),
        Value::Float(v) => format!("{v:e}"),
        _ => value.to_string(),
    }
}

/// An expression whose leaves are named by `leaf`.
pub fn scalar(s: &Scalar, leaf: &dyn Fn(usize) -> String) -> String {
    let part = |s: &Scalar| scalar(s, leaf);
    let list = |args: &[Scalar]| args.iter().map(part).collect::<Vec<_>>().join(", ");
    match &s.kind {
        ScalarKind::Constant(value) => literal(value),
        ScalarKind::Leaf(i) => leaf(*i),
        ScalarKind::Let(id, value, body) => {
            format!("(let x{} = {}; {})", id.0, part(value), part(body))
        }
        ScalarKind::LetRef(id) => format!("x{}", id.0),
        ScalarKind::Fault(what) => format!("fault({what})"),
        ScalarKind::And(a, b) => format!("({} and {})", part(a), part(b)),
        ScalarKind::Or(a, b) => format!("({} or {})", part(a), part(b)),
        ScalarKind::Coalesce(args) => format!("coalesce({})", list(args)),
        ScalarKind::Case(arms, otherwise) => {
            let mut text = String::from("case");
            for (condition, result) in arms {
                let _ = write!(text, " when {} then {}", part(condition), part(result));
            }
            if let Some(e) = otherwise {
                let _ = write!(text, " else {}", part(e));
            }
            text + " end"
        }
        ScalarKind::Call(op, args) => call(*op, args, &part, &list),
    }
}

fn call(op: Op, args: &[Scalar], part: &dyn Fn(&Scalar) -> String, list: &dyn Fn(&[Scalar]) -> String) -> String {
    let infix = |symbol: &str| format!("({} {symbol} {})", part(&args[0]), part(&args[1]));
    match op {
        Op::Add => infix("+"),
        Op::Sub => infix("-"),
        Op::Mul => infix("*"),
        Op::Div => infix("/"),
        Op::Rem => infix("%"),
        Op::Eq => infix("="),
        Op::Ne => infix("<>"),
        Op::Lt => infix("<"),
        Op::Le => infix("<="),
        Op::Gt => infix(">"),
        Op::Ge => infix(">="),
        Op::Concat => infix("||"),
        Op::Like => infix("like"),
        Op::Negate => format!("-{}", part(&args[0])),
        Op::Not => format!("not {}", part(&args[0])),
        Op::IsNull => format!("{} is null", part(&args[0])),
        Op::In => format!("{} in ({})", part(&args[0]), list(&args[1..])),
        // Conversions that the language makes by itself are not shown.
        Op::ToFloat | Op::Rescale { .. } | Op::ToTimestamp => part(&args[0]),
        Op::Cast { to, lenient, .. } => {
            format!("{}({} as {to})", if lenient { "try_cast" } else { "cast" }, part(&args[0]))
        }
        Op::Function(f) => format!("{}({})", f.name, list(args)),
    }
}
