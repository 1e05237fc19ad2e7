//! All that formulas can call, for people.

use serde::Serialize;

use super::catalogue::{AGGREGATES, all};

/// Something that formulas can call.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct FunctionEntry {
    /// As it is written.
    pub name: &'static str,
    /// Where it is listed.
    pub area: &'static str,
    /// Its arguments.
    pub signature: &'static str,
    /// What it gives, in one line.
    pub meaning: &'static str,
    /// A formula with it, and what that gives as text: nothing for null.
    pub example: Option<(&'static str, &'static str)>,
}

/// What has a syntax of its own.
const CHOICES: &[(&str, &str, &str, (&str, &str))] = &[
    (
        "if",
        "if(condition, a [, b])",
        "`a` if the condition is true, otherwise `b` (or null)",
        ("if(2 > 1, 'yes', 'no')", "yes"),
    ),
    ("coalesce", "coalesce(a, b, …)", "the first that is not null", ("coalesce(null, 3)", "3")),
    ("nullif", "nullif(a, b)", "null if `a` equals `b`, otherwise `a`", ("nullif(0, 0)", "")),
    (
        "cast",
        "cast(x as type)",
        "`x` as another type; an error if that is not possible",
        ("cast('12.5' as decimal(4,1))", "12.5"),
    ),
    (
        "try_cast",
        "try_cast(x as type)",
        "`x` as another type; null if that is not possible",
        ("try_cast('x' as int)", ""),
    ),
    (
        "extract",
        "extract(unit from d)",
        "a part of a date, such as year(d)",
        ("extract(year from date '2026-03-01')", "2026"),
    ),
];

/// All that formulas can call: what has a syntax of its own, functions by area, aggregates.
///
/// ```
/// let round = cubrel::functions().find(|entry| entry.name == "round").unwrap();
/// assert_eq!(round.area, "numbers");
/// ```
pub fn functions() -> impl Iterator<Item = FunctionEntry> {
    let choices = CHOICES.iter().map(|(name, signature, meaning, example)| FunctionEntry {
        name,
        area: "choices",
        signature,
        meaning,
        example: Some(*example),
    });
    let scalar = all().map(|(area, f)| FunctionEntry {
        name: f.name,
        area,
        signature: f.signature,
        meaning: f.meaning,
        example: Some(f.example).filter(|(_, result)| !result.is_empty()),
    });
    let aggregates = AGGREGATES.iter().map(|a| FunctionEntry {
        name: a.name,
        area: "aggregates",
        signature: a.signature,
        meaning: a.meaning,
        example: None,
    });
    choices.chain(scalar).chain(aggregates)
}
