//! What functions are called elsewhere: in the SQL standard and in dialects of it.

/// A name, and what does the same here.
const OTHER_NAMES: &[(&str, &str)] = &[
    ("average", "avg"),
    ("mean", "avg"),
    ("std", "stddev_samp"),
    ("stdev", "stddev_samp"),
    ("variance", "var_samp"),
    ("quantile", "percentile_cont"),
    ("quantile_cont", "percentile_cont"),
    ("listagg", "string_agg"),
    ("group_concat", "string_agg"),
    ("first_value", "first"),
    ("last_value", "last"),
    ("any_value", "single"),
    ("len", "length"),
    ("char_length", "length"),
    ("character_length", "length"),
    ("substr", "substring"),
    ("ucase", "upper"),
    ("lcase", "lower"),
    ("strpos", "contains"),
    ("format", "to_text"),
    ("to_char", "to_text"),
    ("strftime", "to_text"),
    ("ifnull", "coalesce"),
    ("nvl", "coalesce"),
    ("ceiling", "ceil"),
    ("truncate", "trunc"),
    ("pow", "power"),
    ("log", "ln"),
    ("now", "today"),
    ("current_date", "today"),
    ("date_add", "add_days"),
    ("dateadd", "add_days"),
    ("datediff", "days_between"),
    ("date_diff", "days_between"),
    ("date_part", "extract"),
    ("last_day", "month_end"),
    ("dayofweek", "weekday"),
    ("dayofyear", "day_of_year"),
    ("weekofyear", "week"),
];

/// Letters of a beginning that says what is meant.
const BEGINNING: usize = 3;

/// What is called so elsewhere, or is called so here with more behind it.
pub(super) fn elsewhere<'k>(name: &str, known: &[&'k str]) -> Option<&'k str> {
    let lower = name.to_lowercase();
    let other = OTHER_NAMES.iter().find(|(other, _)| *other == lower).map(|(_, here)| *here);
    let longer = |known: &&&str| lower.len() >= BEGINNING && known.starts_with(&lower);
    match other {
        Some(other) => known.iter().find(|known| **known == other).copied(),
        None => known.iter().filter(longer).min().copied(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{functions, words};

    #[test]
    fn what_names_lead_to_is_there() {
        for (other, here) in OTHER_NAMES {
            let is_here = functions::find(here).is_some()
                || words::aggregates().any(|a| a == *here)
                || ["coalesce", "extract"].contains(here);
            assert!(is_here && functions::find(other).is_none(), "{other}: {here}");
        }
    }

    #[test]
    fn names_from_elsewhere_lead_here() {
        let known = ["avg", "percentile_disc", "percentile_cont", "length"];
        let cases = [
            ("MEAN", Some("avg")),
            ("percentile", Some("percentile_cont")),
            ("len", Some("length")),
            ("pe", None),
            ("pow", None),
            ("", None),
        ];
        cases.iter().for_each(|(name, here)| assert_eq!(elsewhere(name, &known), *here, "{name}"));
    }
}
