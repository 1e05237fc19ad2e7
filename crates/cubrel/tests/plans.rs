//! Which reads a query becomes: as few as its filters and groups allow.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use cubrel::plan::print;
use cubrel::{Model, Type};

fn model() -> Model {
    let text = Type::Text;
    Model::builder()
        .rows("port", &[("id", text), ("region", text)], &[])
        .rows("route", &[("id", text), ("name", text), ("from", text), ("to", text)], &[])
        .rows("vessel", &[("id", text), ("seats", Type::Int)], &[])
        .rows(
            "booking",
            &[("route", text), ("kind", text), ("day", Type::Date), ("net", Type::Int), ("taken", Type::Int)],
            &[],
        )
        .rows("sailing", &[("route", text), ("vessel", text), ("day", Type::Date), ("seats", Type::Int)], &[])
        .calendar("calendar", "2026-01-01", "2026-12-31")
        .relationship("booking.route", "route.id")
        .relationship("booking.day", "calendar.date")
        .relationship("sailing.route", "route.id")
        .relationship("sailing.vessel", "vessel.id")
        .relationship("sailing.day", "calendar.date")
        .relationship("route.from", "port.id")
        .spare_relationship("route.to", "port.id")
        .measure("net", "sum(booking.net)")
        .measure("taken", "sum(booking.taken)")
        .measure("seats", "sum(sailing.seats)")
        .measure("load", "taken / seats")
        .build()
        .unwrap()
}

/// The reads that have aggregates: those of domains only list combinations.
fn reads(query: &str) -> Vec<String> {
    let model = model();
    let query = model.query(query).unwrap();
    let with_aggregates = query.query_plan().reads().iter().filter(|r| !r.aggregates.is_empty());
    with_aggregates
        .map(|r| {
            let aggregates: Vec<String> = r.aggregates.iter().map(|a| print::aggregate(model.schema(), a)).collect();
            format!("{} of {}", aggregates.join(", "), print::read(model.schema(), r))
        })
        .collect()
}

#[test]
fn equal_filters_and_groups_share_a_read() {
    let cases: &[(&str, &[&str])] = &[
        (
            "grid net, taken, net / taken by route.name",
            &["sum(booking.net), sum(booking.taken) of booking by route.name"],
        ),
        ("grid net, net as again, sum(booking.net) + 1 as more", &["sum(booking.net) of booking"]),
        (
            "grid load by port.region",
            &["sum(booking.taken) of booking by port.region", "sum(sailing.seats) of sailing by port.region"],
        ),
        // a lifted column is one key fewer; two measures that lift the same share again
        (
            "grid net / net given (lift route) as a, taken / taken given (lift route) as b by route.name, calendar.month",
            &[
                "sum(booking.net), sum(booking.taken) of booking by route.name, calendar.month",
                "sum(booking.net), sum(booking.taken) of booking by calendar.month",
            ],
        ),
        // filters written in another order or twice are the same
        (
            "grid net given (booking.kind = 'a', route.name = 'x') as p, net given (route.name = 'x', booking.kind = 'a') as q",
            &["sum(booking.net) of booking where (booking.kind = 'a') and (route.name = 'x')"],
        ),
        // what cannot be reached does not group and does not filter
        ("grid seats by booking.kind where booking.net > 1", &["sum(sailing.seats) of sailing"]),
        // a total is a read with fewer groups
        (
            "grid net by route.name totals",
            &["sum(booking.net) of booking by route.name", "sum(booking.net) of booking"],
        ),
        // per adds a group, whatever stands around it
        (
            "grid max(net per calendar.month), avg(net per calendar.month) by route.name",
            &["sum(booking.net) of booking by route.name, calendar.month"],
        ),
        // a spare relationship takes the place of the default path
        ("grid net via route.to as n by port.region", &["sum(booking.net) of booking by port.region via route.to"]),
        // a part of a filter over two columns stays when the other is lifted
        (
            "grid net given (lift route.name) as n where route.name = 'x' or port.region = 'y'",
            &[
                "sum(booking.net) of booking where (port.region) of rows with ((route.name = 'x') or (port.region = 'y'))",
            ],
        ),
        // a value from outside makes a read of its own, done for each value
        (
            "grid net given (booking.net > avg(booking.net)) as n by route.name",
            &[
                "avg(booking.net) of booking by route.name",
                "sum(booking.net) of booking by route.name where (booking.net > outer 1) for each outer 1",
            ],
        ),
    ];
    for (query, expected) in cases {
        assert_eq!(reads(query), *expected, "{query}");
    }
}
