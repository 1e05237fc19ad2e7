//! Why a cell has its value, as callers get it.

use serde::{Serialize, Serializer};

use crate::QueryOptions;
use cubrel_value::{Type, Value};

/// What is asked about a cell.
#[derive(Clone, Debug, Default)]
pub struct WhyOptions {
    /// Which item; the first when there is nothing.
    pub item: Option<String>,
    /// How many of the rows behind each aggregate to give.
    pub rows: usize,
    /// Parameters, the day, who asks.
    pub query: QueryOptions,
}

/// Why a cell has its value.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Why {
    /// The item, or the column.
    pub name: String,
    /// What people read instead.
    #[serde(skip)]
    pub label: Option<String>,
    /// A pattern for the value.
    #[serde(skip)]
    pub format: Option<String>,
    /// The type of the value.
    #[serde(rename = "type")]
    pub ty: Type,
    /// The value.
    pub value: Value,
    /// What is worth knowing before the rest.
    pub notes: Vec<String>,
    /// The filters that act on the cell.
    pub filters: Vec<WhyFilter>,
    /// The rows that they leave, from the dimension tables to those that are aggregated.
    pub tables: Vec<WhyTable>,
    /// The formula.
    pub tree: WhyPart,
    /// The rows behind the aggregates.
    pub rows: Vec<WhyRows>,
}

/// One filter.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct WhyFilter {
    /// What it lets through.
    #[serde(rename = "filter")]
    pub text: String,
    /// Who put it there.
    pub origin: &'static str,
}

/// The rows left in one table.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct WhyTable {
    /// The table.
    pub table: String,
    /// All its rows.
    pub rows: u64,
    /// Those that pass.
    pub left: u64,
    /// How it is reached from the table that is aggregated, by the columns that point.
    pub by: String,
}

/// One part of a formula.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct WhyPart {
    /// As it is written, or the name of a measure.
    #[serde(rename = "part")]
    pub text: String,
    /// What it is.
    pub kind: WhyKind,
    /// Its value in its context; nothing for what has none, such as a set.
    pub value: Option<Value>,
    /// The type of the value.
    #[serde(skip)]
    pub ty: Type,
    /// Filters that an edit dropped.
    pub removed: Vec<WhyFilter>,
    /// Filters that an edit added.
    pub added: Vec<WhyFilter>,
    /// For an aggregate: the table whose rows it saw, how many, and of how many.
    #[serde(serialize_with = "read")]
    pub read: Option<(String, u64, u64)>,
    /// What else is to be said.
    pub note: Option<String>,
    /// What it is made of.
    pub parts: Vec<WhyPart>,
}

/// What a part of a formula is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum WhyKind {
    /// Operators and functions.
    Operator,
    /// A measure.
    Measure,
    /// An aggregate over rows.
    Aggregate,
    /// An aggregate over combinations.
    Per,
    /// One of the combinations.
    Combination,
    /// A part under an edited context.
    Given,
    /// A value that was bound before.
    Let,
    /// A value of the current row or combination.
    Current,
}

impl WhyKind {
    /// For scripts.
    pub fn name(self) -> &'static str {
        match self {
            WhyKind::Operator => "operator",
            WhyKind::Measure => "measure",
            WhyKind::Aggregate => "aggregate",
            WhyKind::Per => "per",
            WhyKind::Combination => "combination",
            WhyKind::Given => "given",
            WhyKind::Let => "let",
            WhyKind::Current => "current",
        }
    }
}

/// Some of the rows behind an aggregate.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct WhyRows {
    /// The aggregate, as it is written.
    pub of: String,
    /// The table.
    pub table: String,
    /// How many rows there are behind it.
    pub count: u64,
    /// The columns that are given.
    pub columns: Vec<String>,
    /// Their types.
    #[serde(skip)]
    pub types: Vec<Type>,
    /// The first rows.
    pub rows: Vec<Vec<Value>>,
    /// What the plain aggregate over all these rows gives, row by row.
    pub again: Option<Value>,
}

impl Serialize for WhyKind {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(self.name())
    }
}

fn read<S: Serializer>(read: &Option<(String, u64, u64)>, serializer: S) -> Result<S::Ok, S::Error> {
    #[derive(Serialize)]
    struct Read<'a> {
        table: &'a str,
        left: u64,
        rows: u64,
    }
    read.as_ref().map(|(table, left, rows)| Read { table, left: *left, rows: *rows }).serialize(serializer)
}
