//! Reads beside hand-written loops over plain arrays, at five million bookings. `cargo bench -p cubrel`
//!
//! | question | plain loop |
//! |---|---|
//! | total of a column | add up an array |
//! | grouped by one attribute of a dimension table | gather the attribute's number, add to its slot |
//! | grouped by two attributes of two tables | gather both, add to a slot of the product |
//! | an expression, by day, average of customers, distinct customers | multiply and add; add to a slot; mark a slot |
//! | filtered by an attribute | gather a truth value, add where it is true |
//!
//! The loops run on one thread and again on as many as there are cores, in equal parts, as reads do.
#![allow(clippy::unwrap_used, reason = "a bench that cannot go on has failed")]

#[macro_use]
mod loops;

use std::sync::LazyLock;

use cubrel::{Model, Query, Type, Value};
use divan::Bencher;
use loops::{cores, in_parts, mix};

const BOOKINGS: usize = 5_000_000;
const ROUTES: u64 = 40;
const DAYS: u64 = 1096;
const REGIONS: u64 = 5;
const CUSTOMERS: u64 = 400_000;
const MONTHS: u64 = 36;

fn main() {
    divan::main();
}

/// The same data as a model and as arrays.
struct Data {
    model: Model,
    route: Vec<u32>,
    day: Vec<u32>,
    customer: Vec<u32>,
    seats: Vec<i64>,
    net: Vec<i64>,
    region_of: Vec<u32>,
    month_of: Vec<u32>,
}

static DATA: LazyLock<Data> = LazyLock::new(|| {
    let n = BOOKINGS as u64;
    let route: Vec<u32> = (0..n).map(|i| (mix(i) % ROUTES) as u32).collect();
    let day: Vec<u32> = (0..n).map(|i| (i * DAYS / n) as u32).collect();
    let net: Vec<i64> = (0..n).map(|i| 500 + (mix(i ^ 77) % 9000) as i64 * 5).collect();
    let customer: Vec<u32> = (0..n).map(|i| (mix(i ^ 5) % CUSTOMERS) as u32).collect();
    let seats: Vec<i64> = (0..n).map(|i| 1 + (mix(i ^ 9) % 6) as i64).collect();
    let region_of: Vec<u32> = (0..ROUTES).map(|r| (r % REGIONS) as u32).collect();
    let month_of: Vec<u32> = (0..DAYS).map(|d| (d * MONTHS / DAYS) as u32).collect();
    let ints =
        |values: &mut dyn Iterator<Item = i64>| -> Vec<Vec<Value>> { values.map(|v| vec![Value::Int(v)]).collect() };
    let bookings: Vec<Vec<Value>> = (0..BOOKINGS)
        .map(|i| {
            let net = Value::Decimal { unscaled: i128::from(net[i]), scale: 2 };
            let keys = [route[i], day[i], customer[i]].map(|code| Value::Int(i64::from(code)));
            keys.into_iter().chain([Value::Int(seats[i]), net]).collect()
        })
        .collect();
    let describe = |list: &[u32]| -> Vec<Vec<Value>> {
        let mut ids = ints(&mut (0..list.len() as i64));
        ids.iter_mut().zip(list).for_each(|(row, v)| row.push(Value::text(format!("{v:02}"))));
        ids
    };
    let model = Model::builder()
        .rows(
            "booking",
            &[
                ("route", Type::Int),
                ("day", Type::Int),
                ("customer", Type::Int),
                ("seats", Type::Int),
                ("net", Type::Decimal { precision: 18, scale: 2 }),
            ],
            &bookings,
        )
        .rows("route", &[("id", Type::Int), ("region", Type::Text)], &describe(&region_of))
        .rows("day", &[("id", Type::Int), ("month", Type::Text)], &describe(&month_of))
        .relationship("booking.route", "route.id")
        .relationship("booking.day", "day.id")
        .measure("net", "sum(booking.net)")
        .build()
        .unwrap();
    Data { model, route, day, customer, seats, net, region_of, month_of }
});

fn query(text: &str) -> Query {
    DATA.model.query(text).unwrap()
}

question!(total, "grid net", 1, |d: &Data, range: std::ops::Range<usize>, sums: &mut [i64]| {
    sums[0] = d.net[range].iter().sum();
});

question!(
    by_one_attribute,
    "grid net by route.region",
    REGIONS as usize,
    |d: &Data, range: std::ops::Range<usize>, sums: &mut [i64]| {
        for i in range {
            sums[d.region_of[d.route[i] as usize] as usize] += d.net[i];
        }
    }
);

question!(
    by_two_attributes,
    "grid net by route.region, day.month",
    (REGIONS * MONTHS) as usize,
    |d: &Data, range: std::ops::Range<usize>, sums: &mut [i64]| {
        for i in range {
            let (region, month) = (d.region_of[d.route[i] as usize], d.month_of[d.day[i] as usize]);
            sums[region as usize * MONTHS as usize + month as usize] += d.net[i];
        }
    }
);

question!(
    filtered,
    "grid net where route.region = '03'",
    1,
    |d: &Data, range: std::ops::Range<usize>, sums: &mut [i64]| {
        for i in range {
            if d.region_of[d.route[i] as usize] == 3 {
                sums[0] += d.net[i];
            }
        }
    }
);

question!(
    an_expression,
    "grid sum(booking.net * booking.seats) as x",
    1,
    |d: &Data, range: std::ops::Range<usize>, sums: &mut [i64]| {
        sums[0] = range.map(|i| d.net[i] * d.seats[i]).sum();
    }
);

question!(
    by_day,
    "grid net by booking.day",
    DAYS as usize,
    |d: &Data, range: std::ops::Range<usize>, sums: &mut [i64]| {
        range.for_each(|i| sums[d.day[i] as usize] += d.net[i]);
    }
);

question!(
    average_of_customers,
    "grid avg(net per booking.customer) as x",
    CUSTOMERS as usize,
    |d: &Data, range: std::ops::Range<usize>, sums: &mut [i64]| {
        range.for_each(|i| sums[d.customer[i] as usize] += d.net[i]);
    }
);

question!(
    distinct_customers,
    "grid count(distinct booking.customer) as x",
    CUSTOMERS as usize,
    |d: &Data, range: std::ops::Range<usize>, sums: &mut [i64]| {
        range.for_each(|i| sums[d.customer[i] as usize] = 1);
    }
);

/// What measuring costs: every run reads the clock twice for each read and each named part of a formula, `time` or not.
#[divan::bench]
fn reading_the_clock_twice() -> std::time::Duration {
    std::time::Instant::now().elapsed()
}
