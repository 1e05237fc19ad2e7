//! Period edits day by day: which days of a calendar belong, asked of each day by itself.

use std::collections::BTreeSet;

use cubrel::value::date::{Unit, civil, days};
use cubrel::value::days::PeriodEdit;
use jiff::civil::Date;
use jiff::{Span, ToSpan};

fn date(day: i32) -> Date {
    civil(day).unwrap()
}

/// Days of one unit have one name.
fn unit_name(unit: Unit, day: i32) -> (i64, i64) {
    let d = date(day);
    let year = i64::from(d.year());
    match unit {
        Unit::Day => (i64::from(day), 0),
        Unit::Week => {
            let week = d.iso_week_date();
            (i64::from(week.year()), i64::from(week.week()))
        }
        Unit::Month => (year, i64::from(d.month())),
        Unit::Quarter => (year, (i64::from(d.month()) - 1) / 3),
        Unit::Year => (year, 0),
    }
}

fn span(count: i64, unit: Unit) -> Span {
    match unit {
        Unit::Day => count.days(),
        Unit::Week => count.weeks(),
        Unit::Month => count.months(),
        Unit::Quarter => (count * 3).months(),
        Unit::Year => count.years(),
    }
}

/// Every day that could matter to the small calendars of these tests.
fn around(visible: &BTreeSet<i32>) -> std::ops::Range<i32> {
    visible.first().unwrap() - 1600..visible.last().unwrap() + 1600
}

fn moved(day: i32, count: i64, unit: Unit) -> i32 {
    let d = date(day);
    let to = d + span(count, unit);
    let keeps_end = !matches!(unit, Unit::Day | Unit::Week) && d == d.last_of_month();
    days(if keeps_end { to.last_of_month() } else { to })
}

/// The days that an edit puts in place of the visible ones, the calendar's bounds apart.
pub fn edited(visible: &BTreeSet<i32>, edit: PeriodEdit) -> BTreeSet<i32> {
    let (Some(first), Some(last)) = (visible.first().copied(), visible.last().copied()) else {
        return BTreeSet::new();
    };
    let all = || around(visible);
    let where_ = |test: &dyn Fn(i32) -> bool| all().filter(|d| test(*d)).collect();
    match edit {
        PeriodEdit::SoFar(unit) => where_(&|d| d <= last && unit_name(unit, d) == unit_name(unit, last)),
        PeriodEdit::Trailing(count, unit) => {
            let from = days(date(last + 1) - span(count, unit));
            where_(&|d| d >= from && d <= last)
        }
        PeriodEdit::Shift(count, unit) => {
            let starts = visible.iter().filter(|d| !visible.contains(&(*d - 1)));
            let mut result = BTreeSet::new();
            for start in starts {
                let end = (*start..).take_while(|d| visible.contains(d)).last().unwrap();
                result.extend(moved(*start, count, unit)..=moved(end, count, unit));
            }
            result
        }
        PeriodEdit::Whole(unit, moved) => {
            let mut units: Vec<(i64, i64)> = all().map(|d| unit_name(unit, d)).collect();
            units.dedup();
            let place = |d: &i32| units.iter().position(|u| *u == unit_name(unit, *d)).unwrap() as i64;
            let names: BTreeSet<_> = visible.iter().map(|d| units[(place(d) + moved) as usize]).collect();
            where_(&|d| names.contains(&unit_name(unit, d)))
        }
        PeriodEdit::AtStart => BTreeSet::from([first]),
        PeriodEdit::AtEnd => BTreeSet::from([last]),
    }
}
