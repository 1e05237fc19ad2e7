//! The lists of all functions and aggregates.

use super::entry::Function;
use super::{dates, numbers, patterns, text};

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
            assert!(crate::words::is_reserved(entry.name), "{}", entry.name);
        }
    }
}
