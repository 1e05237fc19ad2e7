//! Rows that are passed over because nothing between their smallest and largest values passes a filter: where rows stand in an order
//! that goes with their values. What is answered is the same, and what is looked at does not depend on threads or parts.

use std::sync::LazyLock;

use crate::common::{run, shown};
use cubrel::internals::InQuery as _;
use cubrel::run::Options;
use cubrel::{Model, Type, Value};

const ROWS: i64 = 60_000;

/// A booking: its day, the day it was paid, its vessel, a number in no order, and an amount.
struct Booking {
    day: i64,
    paid: Option<i64>,
    vessel: i64,
    scattered: i64,
    amount: i64,
}

fn noise(i: i64) -> i64 {
    i.wrapping_mul(0x9E37_79B9_7F4A_7C15_u64 as i64) >> 33 & 0xFFFF
}

/// As they come: a day after the other, but for some disorder within a week; some are not paid yet, most of them late ones.
static BOOKINGS: LazyLock<Vec<Booking>> = LazyLock::new(|| {
    let booking = |i: i64| {
        let day = i / 40 + noise(i) % 7;
        let is_paid = noise(i + 1) % 50 > 0 && (i < 50_000 || noise(i + 1) % 3 == 0);
        let paid = is_paid.then_some(day + noise(i + 2) % 20);
        Booking { day, paid, vessel: i / 30, scattered: noise(i + 3) % 1000, amount: noise(i + 4) }
    };
    (0..ROWS).map(booking).collect()
});

static MODEL: LazyLock<Model> = LazyLock::new(|| {
    let int = Value::Int;
    let row =
        |b: &Booking| vec![int(b.day), b.paid.map_or(Value::Null, int), int(b.vessel), int(b.scattered), int(b.amount)];
    let columns = ["day", "paid", "vessel", "scattered", "amount"].map(|name| (name, Type::Int));
    let vessels: Vec<Vec<Value>> = (0..ROWS / 30).map(|i| vec![int(i), int(i / 100)]).collect();
    Model::builder()
        .rows("booking", &columns, &BOOKINGS.iter().map(row).collect::<Vec<_>>())
        .rows("vessel", &[("id", Type::Int), ("class", Type::Int)], &vessels)
        .relationship("booking.vessel", "vessel.id")
        .build()
        .unwrap()
});

type Passes = fn(&Booking) -> bool;

/// Conditions, which bookings they let through, and how many parts of a hundred of the rows are looked at for that.
const CONDITIONS: [(&str, Passes, u64); 15] = [
    ("booking.day between 300 and 310", |b| (300..=310).contains(&b.day), 15),
    ("booking.day < 20", |b| b.day < 20, 8),
    ("booking.day >= 1490", |b| b.day >= 1490, 8),
    ("booking.day = 777", |b| b.day == 777, 15),
    ("booking.day in (5, 1400)", |b| b.day == 5 || b.day == 1400, 22),
    ("booking.day > 5000", |b| b.day > 5000, 0),
    ("booking.day <> 700", |b| b.day != 700, 100),
    ("booking.paid between 400 and 405", |b| b.paid.is_some_and(|p| (400..=405).contains(&p)), 15),
    ("booking.paid is null", |b| b.paid.is_none(), 100),
    ("booking.paid is null or booking.paid < 30", |b| b.paid.is_none_or(|p| p < 30), 100),
    ("not booking.paid > 100", |b| b.paid.is_some_and(|p| p <= 100), 15),
    ("vessel.class = 7", |b| b.vessel / 100 == 7, 15),
    ("vessel.class in (0, 19)", |b| [0, 19].contains(&(b.vessel / 100)), 22),
    ("booking.scattered < 10", |b| b.scattered < 10, 100),
    (
        "booking.day < 100 and booking.scattered < 10 and vessel.class = 0",
        |b| b.day < 100 && b.scattered < 10 && b.vessel < 100,
        15,
    ),
];

#[test]
fn what_is_passed_over_changes_no_answer() {
    for (condition, passes, _) in CONDITIONS {
        let passing: Vec<&Booking> = BOOKINGS.iter().filter(|b| passes(b)).collect();
        let amount = |of: &[&Booking]| {
            if of.is_empty() { String::new() } else { of.iter().map(|b| b.amount).sum::<i64>().to_string() }
        };
        let grid = run(&MODEL, &format!("grid rows(booking) as n, sum(booking.amount) as amount where {condition}"));
        assert_eq!(shown(&grid), [format!("{}|{}", passing.len(), amount(&passing))], "{condition}");
        // With groups, by an own column and a far one, and several figures of which each has a condition of its own.
        let by = format!(
            "grid rows(booking) as n, rows(booking) given (booking.scattered >= 500) as high by vessel.class where {condition}"
        );
        let expected: Vec<String> = (0..ROWS / 3000)
            .filter_map(|class| {
                let of_class = || passing.iter().filter(|b| b.vessel / 100 == class);
                let high = of_class().filter(|b| b.scattered >= 500).count();
                (of_class().count() > 0).then(|| format!("{class}|{}|{high}", of_class().count()))
            })
            .collect();
        assert_eq!(shown(&run(&MODEL, &by)), expected, "{by}");
        // Which rows there are, and which of them come first.
        run(&MODEL, &format!("records booking.day, booking.amount where {condition} limit 7"));
        run(
            &MODEL,
            &format!("records booking.day, booking.amount where {condition} order by booking.day desc limit 5"),
        );
    }
}

#[test]
fn rows_that_cannot_pass_are_not_looked_at_on_any_number_of_threads() {
    let looked_at = |condition: &str, options: &Options| {
        let text = format!("grid sum(booking.amount) as amount where {condition}");
        let (_, profile) = MODEL.query(&text).unwrap().run_with(options).unwrap();
        let of_bookings = profile.reads.iter().filter(|r| r.stats.rows == ROWS as u64);
        of_bookings.map(|r| (r.stats.rows_read, r.stats.rows_passed, r.stats.bytes_read)).next().unwrap_or_default()
    };
    for (condition, passes, share) in CONDITIONS {
        let (read, passed, bytes) = looked_at(condition, &Options::default());
        assert_eq!(passed, BOOKINGS.iter().filter(|b| passes(b)).count() as u64, "{condition}");
        assert!(read >= passed && read * 100 <= share * ROWS as u64, "{condition}: {read} rows");
        let whole = looked_at(condition, &Options { spans: false, ..Options::default() });
        assert!(whole.0 == ROWS as u64 || share == 0, "{condition}: {whole:?}");
        assert!(bytes * 100 <= whole.2 * share, "{condition}: {bytes} bytes of {whole:?}");
        for options in [
            Options { one_thread: true, ..Options::default() },
            Options { part_rows: Some(1), ..Options::default() },
            Options { part_rows: Some(5000), one_thread: true, ..Options::default() },
            Options { hash_groups: true, ..Options::default() },
            Options { many_codes: 0, ..Options::default() },
        ] {
            assert_eq!(looked_at(condition, &options), (read, passed, bytes), "{condition} {options:?}");
        }
    }
}
