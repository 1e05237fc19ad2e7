//! Passes over columns that hardly repeat and stand in no order, beside hand-written loops over plain arrays, at five million
//! bookings. `cargo bench -p cubrel --bench scans`
//!
//! The loops know the types when they are compiled and unpack nothing: what they take is what a pass over so many plain values
//! costs. They run on one thread and again on as many as there are cores.
#![allow(clippy::unwrap_used, reason = "a bench that cannot go on has failed")]

#[macro_use]
mod loops;

use std::ops::Range;
use std::sync::{Arc, LazyLock};

use arrow_array::{ArrayRef, Date32Array, Decimal128Array, Float64Array, Int64Array, RecordBatch};
use cubrel::{Model, Query};
use divan::Bencher;
use loops::{cores, each_part, in_parts, mix};

const BOOKINGS: usize = 5_000_000;
const STATES: usize = 8;
const CHANNELS: usize = 3;
const CUSTOMERS: usize = 10_000;
/// The day before all of the bookings, since 1970.
const START: i32 = 19_000;
const DAYS: u64 = 2500;

fn main() {
    divan::main();
}

/// The same data as a model and as arrays.
struct Data {
    model: Model,
    state: Vec<i64>,
    channel: Vec<i64>,
    customer: Vec<i64>,
    seats: Vec<i64>,
    /// In hundredths.
    net: Vec<i64>,
    discount: Vec<i64>,
    /// Since 1970.
    booked: Vec<i32>,
    paid: Vec<i32>,
    travels: Vec<i32>,
    /// Not a number where it is null.
    refund: Vec<f64>,
    delay: Vec<f64>,
}

static DATA: LazyLock<Data> = LazyLock::new(|| {
    let n = BOOKINGS as u64;
    let below = |salt: u64, most: u64| -> Vec<i64> { (0..n).map(|i| (mix(i ^ salt << 32) % most) as i64).collect() };
    let share = |i: u64, salt: u64| mix(i ^ salt << 32) as f64 / u64::MAX as f64;
    let booked: Vec<i32> = below(1, DAYS).into_iter().map(|day| START + day as i32).collect();
    let later =
        |salt: u64| -> Vec<i32> { booked.iter().zip(below(salt, 90)).map(|(day, more)| day + more as i32).collect() };
    let (paid, travels) = (later(2), later(3));
    let net: Vec<i64> = below(4, 900_000).into_iter().map(|net| 500 + 10 * net).collect();
    let refund: Vec<f64> =
        (0..n).map(|i| if share(i, 5) < 0.6 { f64::NAN } else { -(1.0 - share(i, 6)).ln() * 80.0 }).collect();
    let delay: Vec<f64> = (0..n).map(|i| -(1.0 - share(i, 7)).ln() * 20.0).collect();
    let (seats, discount) = (below(8, 50), below(9, 11));
    let (state, channel, customer) =
        (below(10, STATES as u64), below(11, CHANNELS as u64), below(12, CUSTOMERS as u64));
    let ints = |values: &[i64]| -> ArrayRef { Arc::new(Int64Array::from(values.to_vec())) };
    let days = |values: &[i32]| -> ArrayRef { Arc::new(Date32Array::from(values.to_vec())) };
    let decimals = |values: &[i64]| -> ArrayRef {
        let values = Decimal128Array::from_iter_values(values.iter().map(|v| i128::from(*v)));
        Arc::new(values.with_precision_and_scale(18, 2).unwrap())
    };
    let floats = |values: &[f64]| -> ArrayRef {
        Arc::new(values.iter().map(|v| (!v.is_nan()).then_some(*v)).collect::<Float64Array>())
    };
    let columns = [
        ("state", ints(&state)),
        ("channel", ints(&channel)),
        ("customer", ints(&customer)),
        ("seats", ints(&seats)),
        ("net", decimals(&net)),
        ("discount", decimals(&discount)),
        ("booked", days(&booked)),
        ("paid", days(&paid)),
        ("travels", days(&travels)),
        ("refund", floats(&refund)),
        ("delay", floats(&delay)),
    ];
    let batch = RecordBatch::try_from_iter(columns).unwrap();
    let model = Model::builder().table("booking", &[batch]).build().unwrap();
    Data { model, state, channel, customer, seats, net, discount, booked, paid, travels, refund, delay }
});

fn query(text: &str) -> Query {
    DATA.model.query(text).unwrap()
}

question!(
    product,
    "grid sum(booking.net * (1 - booking.discount)) as x",
    1,
    |d: &Data, range: Range<usize>, sums: &mut [i64]| {
        sums[0] = range.map(|i| d.net[i] * (100 - d.discount[i])).sum();
    }
);

question!(rounding, "grid sum(round(booking.net, 0)) as x", 1, |d: &Data, range: Range<usize>, sums: &mut [i64]| {
    sums[0] = d.net[range].iter().map(|net| (net + 50) / 100).sum();
});

question!(
    one_month,
    "grid sum(booking.net) as x where booking.travels >= date '2024-03-01' and booking.travels < date '2024-04-01'",
    1,
    |d: &Data, range: Range<usize>, sums: &mut [i64]| {
        sums[0] = range.map(|i| if (19_783..19_814).contains(&d.travels[i]) { d.net[i] } else { 0 }).sum();
    }
);

question!(
    three_filters,
    "grid sum(booking.net * booking.discount) as x where booking.travels >= date '2024-01-01' and booking.travels < date '2025-01-01'
     and booking.discount >= 0.05 and booking.discount <= 0.07 and booking.seats < 24",
    1,
    |d: &Data, range: Range<usize>, sums: &mut [i64]| {
        let passes = |i: &usize| {
            (19_723..20_089).contains(&d.travels[*i]) && (5..=7).contains(&d.discount[*i]) && d.seats[*i] < 24
        };
        sums[0] = range.filter(passes).map(|i| d.net[i] * d.discount[i]).sum();
    }
);

question!(
    a_threshold,
    "grid rows(booking) as n, sum(booking.seats) as s where booking.net > 80000",
    2,
    |d: &Data, range: Range<usize>, sums: &mut [i64]| {
        for i in range {
            let passes = i64::from(d.net[i] > 8_000_000);
            sums[0] += passes;
            sums[1] += passes * d.seats[i];
        }
    }
);

question!(
    dates_compared,
    "grid rows(booking) as n by booking.channel where booking.paid < booking.travels and booking.booked < booking.paid",
    CHANNELS,
    |d: &Data, range: Range<usize>, sums: &mut [i64]| {
        for i in range {
            sums[d.channel[i] as usize] += i64::from(d.paid[i] < d.travels[i] && d.booked[i] < d.paid[i]);
        }
    }
);

question!(
    a_choice,
    "grid sum(case when booking.net < 1000 then 1 when booking.net < 20000 then 2 when booking.net < 70000 then 3 else 4 end) as x",
    1,
    |d: &Data, range: Range<usize>, sums: &mut [i64]| {
        let step =
            |net: &i64| 1 + i64::from(*net >= 100_000) + i64::from(*net >= 2_000_000) + i64::from(*net >= 7_000_000);
        sums[0] = d.net[range].iter().map(step).sum();
    }
);

question!(
    floats_filtered,
    "grid sum(booking.refund) as r, avg(booking.delay) as d where booking.delay > 30",
    3,
    |d: &Data, range: Range<usize>, sums: &mut [f64]| {
        for i in range.filter(|i| d.delay[*i] > 30.0) {
            sums[0] += if d.refund[i].is_nan() { 0.0 } else { d.refund[i] };
            sums[1] += d.delay[i];
            sums[2] += 1.0;
        }
    }
);

question!(
    floats_compared,
    "grid rows(booking) as n where booking.refund > booking.delay",
    1,
    |d: &Data, range: Range<usize>, sums: &mut [i64]| {
        sums[0] = range.map(|i| i64::from(d.refund[i] > d.delay[i])).sum();
    }
);

question!(
    six_by_two_columns,
    "grid sum(booking.seats) as a, sum(booking.net) as b, sum(booking.net * (1 - booking.discount)) as c, avg(booking.seats) as d,
     avg(booking.discount) as e, rows(booking) as f by booking.state, booking.channel",
    STATES * CHANNELS * 5,
    |d: &Data, range: Range<usize>, sums: &mut [i64]| {
        for i in range {
            let group = (d.state[i] as usize * CHANNELS + d.channel[i] as usize) * 5;
            let group = &mut sums[group..group + 5];
            group[0] += d.seats[i];
            group[1] += d.net[i];
            group[2] += d.net[i] * (100 - d.discount[i]);
            group[3] += d.discount[i];
            group[4] += 1;
        }
    }
);

question!(
    by_customer,
    "grid sum(booking.net) as x, rows(booking) as n by booking.customer order by sum(booking.net) desc limit 20",
    CUSTOMERS * 2,
    |d: &Data, range: Range<usize>, sums: &mut [i64]| {
        for i in range {
            sums[d.customer[i] as usize * 2] += d.net[i];
            sums[d.customer[i] as usize * 2 + 1] += 1;
        }
    }
);

mod median {
    use super::*;

    #[divan::bench]
    fn cubrel(bencher: Bencher<'_, '_>) {
        let query = query("grid median(booking.delay) as m by booking.state");
        bencher.bench(|| query.run().unwrap());
    }

    /// The values of each state together, and of each the one in the middle.
    fn medians(threads: usize) -> Vec<f64> {
        let data = &*DATA;
        let parts = each_part(threads, BOOKINGS, |range| {
            let mut of_states = vec![Vec::new(); STATES];
            range.for_each(|i| of_states[data.state[i] as usize].push(data.delay[i]));
            of_states
        });
        let medians = |states: Range<usize>| -> Vec<f64> {
            let median = |state: usize| {
                let mut all: Vec<f64> = parts.iter().flat_map(|part| &part[state]).copied().collect();
                let middle = all.len() / 2;
                *all.select_nth_unstable_by(middle, f64::total_cmp).1
            };
            states.map(median).collect()
        };
        each_part(threads, STATES, medians).concat()
    }

    #[divan::bench]
    fn plain_loop() -> Vec<f64> {
        medians(1)
    }

    #[divan::bench]
    fn plain_loop_on_all_cores() -> Vec<f64> {
        medians(cores())
    }
}
