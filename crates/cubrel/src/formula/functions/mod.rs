//! The catalogue of scalar functions: the checker, the docs, completion and the tests all read it.
//!
//! One entry a function, by area: [`numbers`], [`text`], [`dates`]. Adding one means an entry in one of these lists.

mod batches;
mod dates;
mod numbers;
mod patterns;
mod text;

pub(crate) use text::{allowed_length, like};

use crate::value::{Type, Value, Vector};

/// What went wrong in a function, in words that follow "cannot compute this: ".
pub type FunctionError = String;

/// A scalar function.
pub struct Function {
    /// As it is written.
    pub name: &'static str,
    /// Its arguments and result, for people.
    pub signature: &'static str,
    /// What it gives, in one line.
    pub meaning: &'static str,
    /// A formula that uses it and the result as text.
    pub example: (&'static str, &'static str),
    /// The arguments it takes.
    pub parameters: &'static [Parameter],
    /// How many of the last parameters may be left out.
    pub optional: usize,
    /// Whether the last parameter may be repeated.
    pub repeated: bool,
    /// The type of the result, from the types of the arguments (after conversion).
    pub result: fn(&[Argument<'_>]) -> Type,
    /// Whether it wants to see nulls; else any null gives null.
    pub sees_nulls: bool,
    /// The result for one row.
    pub run: fn(&[Value], Type) -> Result<Value, FunctionError>,
    /// The results of many rows at once, where that is quicker.
    pub batch: Option<Batch>,
}

/// From the vectors of the arguments, their types and the type of the result to the results, whatever they are in rows
/// where an argument is null. `None` where these arguments are not for it, and the rows are run one by one.
pub type Batch = fn(&[Vector], &[Type], Type) -> Option<Vector>;

impl std::fmt::Debug for Function {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(self.name)
    }
}

impl PartialEq for Function {
    fn eq(&self, other: &Function) -> bool {
        self.name == other.name
    }
}

impl Eq for Function {}

impl std::hash::Hash for Function {
    fn hash<H: std::hash::Hasher>(&self, state: &mut H) {
        self.name.hash(state);
    }
}

/// What a function asks of an argument.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Parameter {
    /// Any number, as it is.
    Number,
    /// A number, as a double.
    Float,
    /// A whole number.
    Int,
    /// Text.
    Text,
    /// A date, or the date of a timestamp.
    Day,
    /// A date or a timestamp, as it is.
    Moment,
    /// Anything; arguments of one function are brought to one type.
    Any,
}

/// What is known of an argument before anything runs.
#[derive(Clone, Copy, Debug)]
pub struct Argument<'a> {
    /// Its type.
    pub ty: Type,
    /// Its value, where it is a literal.
    pub literal: Option<&'a Value>,
}

impl Parameter {
    /// How messages name it.
    pub fn describe(self) -> &'static str {
        match self {
            Parameter::Number | Parameter::Float => "a number",
            Parameter::Int => "a whole number",
            Parameter::Text => "text",
            Parameter::Day | Parameter::Moment => "a date or timestamp",
            Parameter::Any => "a value",
        }
    }

    /// Whether a type can be used for it.
    pub fn accepts(self, ty: Type) -> bool {
        ty == Type::Null
            || match self {
                Parameter::Number | Parameter::Float => ty.is_number(),
                Parameter::Int => ty == Type::Int,
                Parameter::Text => ty == Type::Text,
                Parameter::Day | Parameter::Moment => matches!(ty, Type::Date | Type::Timestamp),
                Parameter::Any => true,
            }
    }
}

/// All functions, by area, in the order in which they are listed.
pub fn all() -> impl Iterator<Item = (&'static str, &'static Function)> {
    [
        ("numbers", numbers::FUNCTIONS),
        ("text", text::FUNCTIONS),
        ("dates", dates::FUNCTIONS),
        ("patterns", patterns::FUNCTIONS),
    ]
    .into_iter()
    .flat_map(|(area, list)| list.iter().map(move |f| (area, f)))
}

/// The function of a name.
pub fn find(name: &str) -> Option<&'static Function> {
    all().map(|(_, f)| f).find(|f| f.name == name)
}

/// An aggregate, for lists and docs.
#[derive(Clone, Copy, Debug)]
pub struct AggregateEntry {
    /// As it is written.
    pub name: &'static str,
    /// Its arguments.
    pub signature: &'static str,
    /// What it gives, in one line.
    pub meaning: &'static str,
}

/// The aggregates, for lists and docs.
pub const AGGREGATES: &[AggregateEntry] = &[
    AggregateEntry { name: "sum", signature: "sum(x [per …])", meaning: "the sum; exact numbers stay exact" },
    AggregateEntry { name: "avg", signature: "avg(x [per …])", meaning: "the mean, as float" },
    AggregateEntry { name: "min", signature: "min(x [per …])", meaning: "the smallest" },
    AggregateEntry { name: "max", signature: "max(x [per …])", meaning: "the largest" },
    AggregateEntry {
        name: "median",
        signature: "median(x [per …])",
        meaning: "the middle value, between the two middle ones if there are two",
    },
    AggregateEntry {
        name: "percentile_cont",
        signature: "percentile_cont(x, share [per …])",
        meaning: "the value below which this share lies, between two values if need be",
    },
    AggregateEntry {
        name: "percentile_disc",
        signature: "percentile_disc(x, share [per …])",
        meaning: "the first value at or above this share",
    },
    AggregateEntry {
        name: "stddev_samp",
        signature: "stddev_samp(x [per …])",
        meaning: "standard deviation of a sample",
    },
    AggregateEntry { name: "stddev_pop", signature: "stddev_pop(x [per …])", meaning: "standard deviation of all" },
    AggregateEntry { name: "var_samp", signature: "var_samp(x [per …])", meaning: "variance of a sample" },
    AggregateEntry { name: "var_pop", signature: "var_pop(x [per …])", meaning: "variance of all" },
    AggregateEntry {
        name: "count",
        signature: "count(x [per …]), count(distinct a, b)",
        meaning: "how many values are not null; how many different ones",
    },
    AggregateEntry { name: "rows", signature: "rows(table)", meaning: "how many rows of a table are visible" },
    AggregateEntry {
        name: "single",
        signature: "single(x [per …])",
        meaning: "the value, when there is exactly one distinct value (null counts as one); else null",
    },
    AggregateEntry {
        name: "first",
        signature: "first(x order by y [per …])",
        meaning: "x where y is smallest; of several the smallest x",
    },
    AggregateEntry {
        name: "last",
        signature: "last(x order by y [per …])",
        meaning: "x where y is greatest; of several the greatest x",
    },
    AggregateEntry {
        name: "rank",
        signature: "rank(x per t.c [asc])",
        meaning: "1 + how many values of the column have a greater figure (with `asc`: a smaller one)",
    },
    AggregateEntry {
        name: "top",
        signature: "… in top(n, x per t.c)",
        meaning: "the values of a column with the greatest figures, ties at the cut included",
    },
    AggregateEntry {
        name: "bottom",
        signature: "… in bottom(n, x per t.c)",
        meaning: "the values of a column with the smallest figures, ties at the cut included",
    },
    AggregateEntry {
        name: "narrowed",
        signature: "narrowed(t.c)",
        meaning: "whether a filter other than a role's acts on the column",
    },
    AggregateEntry {
        name: "grouping",
        signature: "grouping(t.c)",
        meaning: "0 on a grid line of the column, 1 where it is totalled or on no axis",
    },
    AggregateEntry { name: "string_agg", signature: "string_agg(x, ', ' [order by y])", meaning: "the texts, joined" },
];

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_entry_is_complete_and_unique() {
        let mut names: Vec<&str> = all().map(|(_, f)| f.name).collect();
        let count = names.len();
        names.sort_unstable();
        names.dedup();
        assert_eq!(names.len(), count);
        for (_, f) in all() {
            assert!(f.signature.starts_with(f.name), "{}", f.name);
            assert!(f.example.0.contains(f.name) && !f.meaning.is_empty(), "{}", f.name);
            assert!(f.optional < f.parameters.len().max(1), "{}", f.name);
        }
    }

    #[test]
    fn every_aggregate_is_a_reserved_word() {
        for entry in AGGREGATES {
            assert!(super::super::words::is_reserved(entry.name), "{}", entry.name);
        }
    }
}
