//! The rules of the language, by examples whose results can be worked out by hand.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

mod common;

use common::{expect, worked_example};

#[test]
fn the_worked_example_of_the_reference() {
    let model = worked_example()
        .column("route", "booked", "sum(booking.net)")
        .column("route", "all_booked", "sum(booking.net) given (lift row)")
        .column("booking", "routes", "rows(route)")
        .build()
        .unwrap();
    let cases: &[(&str, &[&str])] = &[
        ("grid net", &["36"]),
        ("grid net by route.region totals", &["North|30", "South|5", "|1", "|36 total"]),
        ("grid net given (route.region = 'North') as n by route.region", &["North|30"]),
        ("grid net given (instead route.region = 'North') as n by route.region", &["North|30", "South|30", "|30"]),
        (
            "grid net / net given (lift route) as share by route.region",
            &["North|0.8333333333", "South|0.1388888889", "|0.0277777778"],
        ),
        ("grid net given (route.region <> 'South') as n by route.region", &["North|30"]),
        ("grid net given (instead route.region <> 'South') as n by route.region", &["North|30", "South|30", "|30"]),
        ("grid single(route.booked) by route.id", &["r1|30", "r2|5"]),
        ("grid single(route.all_booked) by route.id", &["r1|36", "r2|36"]),
        ("grid min(booking.routes), max(booking.routes)", &["2|2"]),
        ("grid max(net per route.name) as best", &["30"]),
        ("grid min(net per route.name) as least", &["1"]),
        ("grid rows(booking) as n by route.name", &["Holm–Skaw|1", "Ness–Holm|2", "|1"]),
        ("grid rank(net per route.name) as place by route.name", &["Holm–Skaw|2", "Ness–Holm|1", "|3"]),
    ];
    for (query, lines) in cases {
        expect(&model, query, lines);
    }
}
