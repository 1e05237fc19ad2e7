//! Sets of days, and what period edits make of them (language reference, section 8).

use super::date::{self, Unit};

/// Days, as runs of consecutive ones.
#[derive(Clone, Debug, Default, PartialEq, Eq, Hash)]
pub struct DaySet {
    /// First and last day of each run, in order; between two runs at least one day is missing.
    runs: Vec<(i32, i32)>,
}

impl DaySet {
    /// The days of some runs, in whatever order and however they overlap.
    pub fn of_runs(mut runs: Vec<(i32, i32)>) -> DaySet {
        runs.retain(|(a, b)| a <= b);
        runs.sort_unstable();
        let mut joined: Vec<(i32, i32)> = Vec::with_capacity(runs.len());
        for (a, b) in runs {
            match joined.last_mut() {
                Some((_, end)) if a <= end.saturating_add(1) => *end = b.max(*end),
                _ => joined.push((a, b)),
            }
        }
        DaySet { runs: joined }
    }

    /// Some days, in whatever order.
    pub fn of_days(days: impl IntoIterator<Item = i32>) -> DaySet {
        DaySet::of_runs(days.into_iter().map(|d| (d, d)).collect())
    }

    /// First and last day of each run.
    pub fn runs(&self) -> &[(i32, i32)] {
        &self.runs
    }

    /// The first day.
    pub fn first(&self) -> Option<i32> {
        self.runs.first().map(|r| r.0)
    }

    /// The last day.
    pub fn last(&self) -> Option<i32> {
        self.runs.last().map(|r| r.1)
    }

    /// Whether a day is among them.
    pub fn contains(&self, day: i32) -> bool {
        let after = self.runs.partition_point(|r| r.0 <= day);
        after > 0 && self.runs[after - 1].1 >= day
    }

    /// Those from one day to another.
    #[must_use]
    pub fn within(&self, first: i32, last: i32) -> DaySet {
        DaySet::of_runs(self.runs.iter().map(|(a, b)| (*a.max(&first), *b.min(&last))).collect())
    }
}

/// Where years and weeks begin.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct CalendarRules {
    /// Month and day of a year's first day.
    pub year_starts: (i8, i8),
    /// A week's first day, Monday being 1.
    pub week_starts: i8,
}

impl Default for CalendarRules {
    fn default() -> CalendarRules {
        CalendarRules { year_starts: (1, 1), week_starts: 1 }
    }
}

impl CalendarRules {
    /// Reads the day on which years start, such as `04-01`; it has to exist in every year.
    pub fn parse_year_start(text: &str) -> Option<(i8, i8)> {
        let (month, day) = text.split_once('-')?;
        let two = |t: &str| (t.len() == 2).then(|| t.parse::<i8>().ok()).flatten();
        let (month, day) = (two(month)?, two(day)?);
        date::make_date(2023, month.into(), day.into()).map(|_| (month, day))
    }

    /// Reads a weekday's English name.
    pub fn parse_week_start(text: &str) -> Option<i8> {
        let names = ["monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday"];
        names.iter().position(|n| *n == text.to_ascii_lowercase()).map(|i| i as i8 + 1)
    }

    /// The first day of the unit that holds a day.
    pub fn start(&self, unit: Unit, day: i32) -> Option<i32> {
        match unit {
            Unit::Day | Unit::Month => unit.start(day),
            Unit::Week => {
                let weekday = date::civil(day)?.weekday().to_monday_one_offset();
                Some(day - i32::from((weekday - self.week_starts).rem_euclid(7)))
            }
            Unit::Year => {
                let (month, first) = self.year_starts;
                let year = i64::from(date::civil(day)?.year());
                let this = date::make_date(year, month.into(), first.into())?;
                if this <= day { Some(this) } else { date::make_date(year - 1, month.into(), first.into()) }
            }
            Unit::Quarter => {
                let year = self.start(Unit::Year, day)?;
                let starts = (0..4).map(|q| date::add_months(year, q * 3)).collect::<Option<Vec<_>>>()?;
                starts.into_iter().rfind(|s| *s <= day)
            }
        }
    }

    /// The last day of the unit that holds a day.
    pub fn end(&self, unit: Unit, day: i32) -> Option<i32> {
        Some(self.moved_start(unit, day, 1)? - 1)
    }

    /// The first day of the unit so many units after the one that holds a day.
    ///
    /// Quarters are counted from their year's first day: where that is the 31st, the quarters' first days are clamped to
    /// the months that they come to, and counting from a clamped one would stay at its day.
    pub fn moved_start(&self, unit: Unit, day: i32, count: i64) -> Option<i32> {
        let start = self.start(unit, day)?;
        if unit != Unit::Quarter {
            return add_units(start, count, unit);
        }
        let quarters = (self.quarter_of_year(day)? - 1).checked_add(count)?;
        let year = add_units(self.start(Unit::Year, day)?, quarters.div_euclid(4), Unit::Year)?;
        add_units(year, quarters.rem_euclid(4), Unit::Quarter)
    }

    /// The year that a day belongs to: the one in which it ends.
    pub fn year(&self, day: i32) -> Option<i64> {
        Some(i64::from(date::civil(self.end(Unit::Year, day)?)?.year()))
    }

    /// The quarter of its year that a day is in.
    pub fn quarter_of_year(&self, day: i32) -> Option<i64> {
        let year = self.start(Unit::Year, day)?;
        (1..=4).rfind(|q| add_units(year, q - 1, Unit::Quarter).is_some_and(|start| start <= day))
    }
}

/// A day so many units later; the day of the month is clamped to the month's length.
pub fn add_units(day: i32, count: i64, unit: Unit) -> Option<i32> {
    let days = |n: i64| i32::try_from(i64::from(day).checked_add(n)?).ok();
    match unit {
        Unit::Day => days(count),
        Unit::Week => days(count.checked_mul(7)?),
        Unit::Month => date::add_months(day, count),
        Unit::Quarter => date::add_months(day, count.checked_mul(3)?),
        Unit::Year => date::add_months(day, count.checked_mul(12)?),
    }
}

/// What a period edit makes of the days that are visible.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum PeriodEdit {
    /// From the start of the unit that holds the last day, to the last day.
    SoFar(Unit),
    /// So many units that end with the last day.
    Trailing(i64, Unit),
    /// Each run moved by so many units.
    Shift(i64, Unit),
    /// All days of the units touched, each unit moved by so many.
    Whole(Unit, i64),
    /// The first day.
    AtStart,
    /// The last day.
    AtEnd,
}

impl PeriodEdit {
    /// The days that the edit puts in place of others. No days stay no days; days beyond the years −9999 to 9999 drop
    /// out.
    pub fn apply(self, days: &DaySet, rules: &CalendarRules) -> DaySet {
        let (Some(first), Some(last)) = (days.first(), days.last()) else {
            return DaySet::default();
        };
        let run = |a: Option<i32>, b: Option<i32>| DaySet::of_runs(a.zip(b).into_iter().collect());
        match self {
            PeriodEdit::SoFar(unit) => run(rules.start(unit, last), Some(last)),
            PeriodEdit::Trailing(count, unit) => run(add_units(last + 1, -count, unit), Some(last)),
            PeriodEdit::Shift(count, unit) => {
                let moved = |(a, b): &(i32, i32)| Some((shifted(*a, count, unit)?, shifted(*b, count, unit)?));
                DaySet::of_runs(days.runs.iter().filter_map(moved).collect())
            }
            PeriodEdit::Whole(unit, moved) => {
                let whole = |(a, b): &(i32, i32)| {
                    Some((rules.moved_start(unit, *a, moved)?, rules.moved_start(unit, *b, moved.checked_add(1)?)? - 1))
                };
                DaySet::of_runs(days.runs.iter().filter_map(whole).collect())
            }
            PeriodEdit::AtStart => run(Some(first), Some(first)),
            PeriodEdit::AtEnd => run(Some(last), Some(last)),
        }
    }
}

/// One end of a run, moved. For months and longer, an end that closes its month closes the month that it comes to.
fn shifted(day: i32, count: i64, unit: Unit) -> Option<i32> {
    let moved = add_units(day, count, unit)?;
    let closes = || Some(CalendarRules::default().end(Unit::Month, day)? == day);
    if matches!(unit, Unit::Day | Unit::Week) || !closes()? {
        return Some(moved);
    }
    CalendarRules::default().end(Unit::Month, moved)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn day(text: &str) -> i32 {
        date::parse_date(text.as_bytes()).expect(text)
    }

    fn set(text: &str) -> DaySet {
        let run = |r: &str| {
            let (a, b) = r.split_once("..").unwrap_or((r, r));
            (day(a), day(b))
        };
        DaySet::of_runs(text.split(' ').filter(|t| !t.is_empty()).map(run).collect())
    }

    #[test]
    fn runs_are_joined_and_cut() {
        assert_eq!(set("2026-01-03 2026-01-01..2026-01-02 2026-02-01").runs().len(), 2);
        let january = set("2026-01-01..2026-01-31");
        assert!(january.contains(day("2026-01-31")) && !january.contains(day("2026-02-01")));
        assert_eq!(january.within(day("2026-01-30"), day("2026-05-01")), set("2026-01-30..2026-01-31"));
    }

    #[test]
    fn every_edit_by_a_table_of_cases() {
        use PeriodEdit::*;
        use Unit::*;
        let fiscal = CalendarRules { year_starts: (4, 1), week_starts: 7 };
        let late = CalendarRules { year_starts: (8, 31), week_starts: 1 };
        let plain = CalendarRules::default();
        let cases = [
            (SoFar(Year), plain, "2026-03-01..2026-03-31", "2026-01-01..2026-03-31"),
            (SoFar(Year), fiscal, "2026-03-01..2026-03-31", "2025-04-01..2026-03-31"),
            (SoFar(Quarter), fiscal, "2026-05-10", "2026-04-01..2026-05-10"),
            (SoFar(Week), plain, "2026-11-22", "2026-11-16..2026-11-22"),
            (SoFar(Week), fiscal, "2026-11-22", "2026-11-22"),
            (Trailing(12, Month), plain, "2026-02-01..2026-02-28", "2025-03-01..2026-02-28"),
            (Trailing(1, Month), plain, "2026-03-30", "2026-02-28..2026-03-30"),
            (Trailing(7, Day), plain, "2026-03-01 2026-03-10", "2026-03-04..2026-03-10"),
            (Shift(-1, Year), plain, "2024-02-29", "2023-02-28"),
            (Shift(-1, Year), plain, "2025-02-01..2025-02-28", "2024-02-01..2024-02-29"),
            (Shift(1, Month), plain, "2026-01-31..2026-02-15", "2026-02-28..2026-03-15"),
            (Shift(-1, Month), plain, "2026-02-28", "2026-01-31"),
            (Shift(-1, Day), plain, "2026-03-01 2026-03-05", "2026-02-28 2026-03-04"),
            (Shift(-1, Quarter), plain, "2026-04-01..2026-06-30", "2026-01-01..2026-03-31"),
            (Whole(Month, 0), plain, "2026-01-31..2026-02-01", "2026-01-01..2026-02-28"),
            (Whole(Year, 0), fiscal, "2026-03-31 2026-04-01", "2025-04-01..2027-03-31"),
            (Whole(Month, -1), plain, "2026-03-10", "2026-02-01..2026-02-28"),
            (Whole(Month, -1), plain, "2026-03-10..2026-04-02", "2026-02-01..2026-03-31"),
            (Whole(Month, -2), plain, "2026-03-10 2026-05-31", "2026-01-01..2026-01-31 2026-03-01..2026-03-31"),
            (Whole(Day, -1), plain, "2026-03-10", "2026-03-09"),
            (Whole(Week, 1), fiscal, "2026-11-22", "2026-11-29..2026-12-05"),
            (Whole(Quarter, 1), plain, "2026-03-10", "2026-04-01..2026-06-30"),
            (Whole(Quarter, -5), fiscal, "2026-04-01", "2025-01-01..2025-03-31"),
            (Whole(Year, 1), fiscal, "2026-03-31", "2026-04-01..2027-03-31"),
            (Whole(Quarter, 0), late, "2026-03-10", "2026-02-28..2026-05-30"),
            (Whole(Quarter, -1), late, "2026-03-10", "2025-11-30..2026-02-27"),
            (Whole(Quarter, 2), late, "2025-12-01", "2026-05-31..2026-08-30"),
            (AtStart, plain, "2026-03-10 2026-04-01", "2026-03-10"),
            (AtEnd, plain, "2026-03-10 2026-04-01", "2026-04-01"),
            (Whole(Year, 3), plain, "", ""),
        ];
        for (edit, rules, given, expected) in cases {
            assert_eq!(edit.apply(&set(given), &rules), set(expected), "{edit:?} of {given}");
        }
    }

    #[test]
    fn fiscal_years_are_named_by_the_year_that_they_end_in() {
        let fiscal = CalendarRules { year_starts: (4, 1), week_starts: 1 };
        assert_eq!((fiscal.year(day("2026-03-31")), fiscal.year(day("2026-04-01"))), (Some(2026), Some(2027)));
        assert_eq!(fiscal.quarter_of_year(day("2026-03-31")), Some(4));
        assert_eq!(CalendarRules::parse_year_start("02-29"), None);
        assert_eq!(CalendarRules::parse_year_start("04-06"), Some((4, 6)));
    }
}
