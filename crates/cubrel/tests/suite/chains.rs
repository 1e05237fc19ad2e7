//! What stands at the end of a chain of relationships is put together for every code of a key, or found by each row, where keys hardly
//! repeat: which of them must not show.

use crate::common::{Random, run};
use cubrel::{Model, Type, Value};

const BOOKINGS: usize = 9_000;
const CUSTOMERS: usize = 7_000;

/// Bookings of customers who hardly come again, who live in homes, which are on islands; with nulls and keys that point at nothing on
/// each of the ways. Scattered, or in the order of their customers.
fn model(in_order: bool) -> Model {
    let r = &mut Random(28);
    let mut maybe = |below: usize, of: usize| match r.below(12) {
        0 => Value::Null,
        1 => Value::Int((below + of) as i64),
        _ => Value::Int(r.below(below as u64) as i64),
    };
    let mut bookings: Vec<Vec<Value>> = (0..BOOKINGS)
        .map(|i| vec![maybe(CUSTOMERS, i), maybe(9, 3), Value::Int((i % 10) as i64), Value::Int((i * i % 977) as i64)])
        .collect();
    if in_order {
        bookings.sort_by(|a, b| a[0].total_cmp(&b[0]));
    }
    let customers = (0..CUSTOMERS).map(|i| {
        let level = ["guest", "member", "crew"][i * 7 % 3];
        let level = if i % 41 == 0 { Value::Null } else { Value::text(level) };
        vec![
            Value::Int(i as i64),
            maybe(300, i),
            level,
            Value::Date(19_000 + (i % 700) as i32),
            Value::Bool(i % 5 == 0),
        ]
    });
    let customers: Vec<Vec<Value>> = customers.collect();
    let homes: Vec<Vec<Value>> = (0..300).map(|i| vec![Value::Int(i), maybe(8, 2), Value::Int(i % 9)]).collect();
    let islands: Vec<Vec<Value>> =
        (0..8).map(|i| vec![Value::Int(i), Value::text(["North", "South", "West"][i as usize % 3])]).collect();
    let routes: Vec<Vec<Value>> =
        (0..9).map(|i| vec![Value::Int(i), Value::text(["short", "long"][i as usize % 2])]).collect();
    let number = |name: &'static str| (name, Type::Int);
    Model::builder()
        .rows("booking", &[number("customer"), number("route"), number("class"), number("fare")], &bookings)
        .rows(
            "customer",
            &[number("id"), number("home"), ("level", Type::Text), ("since", Type::Date), ("news", Type::Bool)],
            &customers,
        )
        .rows("home", &[number("id"), number("island"), number("pier")], &homes)
        .rows("island", &[number("id"), ("region", Type::Text)], &islands)
        .rows("route", &[number("id"), ("kind", Type::Text)], &routes)
        .relationship("booking.customer", "customer.id")
        .relationship("booking.route", "route.id")
        .relationship("customer.home", "home.id")
        .relationship("home.island", "island.id")
        .build()
        .unwrap()
}

/// Conditions at the ends of chains, alone and beside others that let through more or less.
const CONDITIONS: &[&str] = &[
    "customer.level = 'crew'",
    "customer.level is null",
    "island.region = 'North'",
    "island.region is null and booking.class = 4",
    "island.region = 'South' and customer.level <> 'guest' and customer.since >= date '2022-06-01'",
    "customer.news and booking.class in (2, 3)",
    "route.kind = 'long' and island.region in ('North', 'West') and booking.class = 7",
    "booking where (home.pier = booking.route) and booking.class < 3",
    "booking where (home.pier <> booking.class and not customer.news) and customer.since < date '2022-03-01'",
    "booking where ((island.region = 'North' and route.kind = 'short') or (island.region = 'South' and route.kind = 'long')) and booking.class = 1",
    "booking where (coalesce(home.pier, 4) + booking.class > 12) and customer.level in ('crew', 'member') and booking.class > 7",
    "booking where (case when customer.news then home.pier else booking.route end = 3) and booking.class = 5",
];

/// What is asked under each of them.
const GRIDS: &[&str] = &[
    "grid sum(booking.fare) as fare, rows(booking) as n",
    "grid sum(booking.fare) as fare by customer.level",
    "grid rows(booking) as n by island.region, customer.level split by route.kind",
    "grid count(distinct booking.customer) as n, avg(booking.fare) as fare by home.pier",
    "grid sum(case when island.region = 'West' then booking.fare when customer.news then 1 else 0 end) as x by booking.class",
    "grid rows(booking) given (customer.level = 'crew') as a, rows(booking) given (island.region = 'West', customer.news) as b by route.kind",
    "measure fare = sum(booking.fare); grid fare by customer.id, customer.since",
];

#[test]
fn what_stands_at_the_end_of_a_chain_of_keys_that_hardly_repeat_is_found_in_every_way() {
    for in_order in [false, true] {
        let model = model(in_order);
        let mut some = 0;
        for condition in CONDITIONS {
            for grid in GRIDS {
                let order = if grid.ends_with("since") { " order by fare desc, customer.id limit 20" } else { "" };
                some += usize::from(!run(&model, &format!("{grid} where {condition}{order}")).lines.is_empty());
            }
        }
        assert_eq!(some, CONDITIONS.len() * GRIDS.len(), "every condition lets something through");
    }
}
