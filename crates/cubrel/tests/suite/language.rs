//! The rules of the language, by examples whose results can be worked out by hand.

use crate::common::{expect, worked_example};

#[test]
fn the_worked_example_of_the_reference() {
    let model = worked_example()
        .column("route", "booked", "sum(booking.net)")
        .column("route", "all_booked", "sum(booking.net) given (without row)")
        .column("booking", "routes", "rows(route)")
        .build()
        .unwrap();
    let cases: &[(&str, &[&str])] = &[
        ("grid net", &["36"]),
        ("grid net by route.region totals", &["North|30", "South|5", "|1", "|36 total"]),
        ("grid net given (route.region = 'North') as n by route.region", &["North|30"]),
        ("grid net given (instead route.region = 'North') as n by route.region", &["North|30", "South|30", "|30"]),
        (
            "grid net / net given (without route) as share by route.region",
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

/// Which lines show is told by what the branch taken has read: what other branches would read does not count.
#[test]
fn a_line_shows_by_the_branch_taken() {
    let text = Value::text;
    let routes = ["r1", "r2", "r3"].map(|id| vec![text(id)]);
    let bookings = [("r1", 10), ("r2", 5)].map(|(route, net)| vec![text(route), Value::Int(net)]);
    let model = Model::builder()
        .rows("route", &[("id", Type::Text)], &routes)
        .rows("booking", &[("route", Type::Text), ("net", Type::Int)], &bookings)
        .rows("crew", &[("route", Type::Text)], &[vec![text("r3")]])
        .relationship("booking.route", "route.id")
        .relationship("crew.route", "route.id")
        .build()
        .unwrap();
    let cases: &[(&str, &[&str])] = &[
        // Route r3 has a crew and no bookings: its first branch reads nothing.
        (
            "grid case when rows(booking) = 0 then 0 when rows(crew) > 0 then 1 else 2 end as x by route.id",
            &["r1|2", "r2|2"],
        ),
        (
            "grid case when rows(crew) > 0 then 1 when rows(booking) = 0 then 0 else 2 end as x by route.id",
            &["r1|2", "r2|2", "r3|1"],
        ),
    ];
    for (query, lines) in cases {
        expect(&model, query, lines);
    }
}

use cubrel::formula::functions;
use cubrel::{Model, Type, Value};

/// Ports, routes with two ports each, and sailings; a chain, a spare relationship, nulls, equal rows.
fn harbour() -> cubrel::Builder {
    let text = Value::text;
    let day = |d: i32| Value::Date(20_454 + d);
    Model::builder()
        .rows(
            "port",
            &[("id", Type::Text), ("name", Type::Text), ("region", Type::Text), ("place", Type::Int)],
            &[
                vec![text("a"), text("Ness"), text("North"), Value::Int(2)],
                vec![text("b"), text("Holm"), text("North"), Value::Int(1)],
                vec![text("c"), text("Skaw"), text("South"), Value::Int(3)],
            ],
        )
        .rows(
            "route",
            &[("id", Type::Text), ("from", Type::Text), ("to", Type::Text)],
            &[
                vec![text("r1"), text("a"), text("c")],
                vec![text("r2"), text("b"), text("a")],
                vec![text("r3"), text("c"), Value::Null],
            ],
        )
        .rows(
            "sailing",
            &[
                ("route", Type::Text),
                ("day", Type::Date),
                ("seats", Type::Int),
                ("taken", Type::Int),
                ("price", Type::decimal(2)),
            ],
            &[
                vec![text("r1"), day(0), Value::Int(10), Value::Int(5), price(150)],
                vec![text("r1"), day(0), Value::Int(10), Value::Int(5), price(150)],
                vec![text("r1"), day(31), Value::Int(20), Value::Int(20), price(-50)],
                vec![text("r2"), day(1), Value::Int(8), Value::Null, price(999)],
                vec![text("r3"), day(400), Value::Int(4), Value::Int(1), price(1)],
            ],
        )
        .calendar("calendar", "2026-01-01", "2027-12-31")
        .display_order("port", "name", "place")
        .hierarchy("port", "place_of", &["region", "name"])
        .relationship("sailing.route", "route.id")
        .relationship("route.from", "port.id")
        .spare_relationship("route.to", "port.id")
        .relationship("sailing.day", "calendar.date")
        .measure("seats", "sum(sailing.seats)")
        .measure("taken", "sum(sailing.taken)")
        .measure("load", "taken / seats")
}

fn price(cents: i128) -> Value {
    Value::Decimal { unscaled: cents, scale: 2 }
}

#[test]
fn queries_by_example() {
    let model = harbour()
        .column("sailing", "free", "seats_of_row - coalesce(sailing.taken, 0)")
        .column("sailing", "seats_of_row", "sailing.seats")
        .column("sailing", "port_name", "port.name")
        .column("sailing", "goes_to", "port.name via route.to")
        .column("route", "share", "sum(sailing.seats) / sum(sailing.seats) given (without row)")
        .column(
            "route",
            "busier",
            "let mine = sum(sailing.seats); rows(route) given (without row, route.seats_ > mine)",
        )
        .column("route", "seats_", "sum(sailing.seats)")
        .build()
        .unwrap();
    let cases: &[(&str, &[&str])] = &[
        // ratios are ratios of sums, on totals too
        ("grid load by port.region totals", &["North|0.625", "South|0.25", "|0.5961538462 total"]),
        // a chain of lookups, display order, hierarchy
        ("grid seats by port.name", &["Holm|8", "Ness|40", "Skaw|4"]),
        ("grid seats by place_of", &["North|Holm|8", "North|Ness|40", "South|Skaw|4"]),
        ("grid seats by port.name order by seats desc limit 2", &["Ness|40", "Holm|8"]),
        (
            "grid seats by port.region, port.name order by seats desc limit 1 within port.region",
            &["North|Ness|40", "South|Skaw|4"],
        ),
        ("grid seats by port.name having load > 0.3", &["Ness|40"]),
        // spare relationships: as a measure, as a column
        ("grid seats via route.to as s by port.name", &["Ness|8", "Skaw|40", "|4"]),
        ("grid count(sailing.goes_to) by sailing.goes_to", &["Ness|1", "Skaw|3", "|0"]),
        // equal rows are two rows; nulls are skipped; counts give 0
        (
            "grid rows(sailing), count(sailing.taken), sum(sailing.free) by route.id",
            &["r1|3|3|10", "r2|1|0|8", "r3|1|1|3"],
        ),
        ("grid rows(sailing), seats where route.id = 'nowhere'", &["0|"]),
        ("grid seats by route.id where route.id = 'nowhere'", &[]),
        // (r3 goes nowhere: a row that finds no port, so the line without a port is tried, too)
        ("grid seats by port.name where route.id = 'r1' with empty", &["Holm|", "Ness|40", "Skaw|", "|"]),
        // both axes, totals
        (
            "grid seats by port.region split by calendar.year totals",
            &[
                "North|2026|48",
                "North||48 total",
                "South|2027|4",
                "South||4 total",
                "|2026|48 total",
                "|2027|4 total",
                "||52 total",
            ],
        ),
        // filters: replace, keep and add, without a table, without axes, without all but
        ("grid seats given (instead port.region = 'South') as s by port.region", &["North|4", "South|4", "|4"]),
        ("grid seats given (port.region = 'South') as s by port.region", &["South|4"]),
        (
            "grid seats / seats given (without port) as s by port.name",
            &["Holm|0.1538461538", "Ness|0.7692307692", "Skaw|0.0769230769"],
        ),
        ("grid seats given (without axes) as s by port.name where port.region = 'North'", &["Holm|48", "Ness|48"]),
        ("grid seats given (without all) as s by port.name where port.region = 'North'", &["Holm|52", "Ness|52"]),
        (
            "grid seats given (without all but port.region) as s by port.region, port.name",
            &["North|Holm|48", "North|Ness|48", "South|Skaw|4"],
        ),
        // a filter over several columns of which one is dropped keeps its projection
        (
            "grid seats given (without port.name) as s by port.name where port.region = 'South' or port.name = 'Ness'",
            &["Ness|52", "Skaw|52"],
        ),
        // values from outside
        ("grid seats given (sailing.seats > avg(sailing.seats)) as s", &["20"]),
        ("grid seats where sailing.seats >= max(sailing.seats)", &["20"]),
        (
            "measure big = let m = avg(sailing.seats); sum(if(sailing.seats > m, sailing.seats, 0)); grid big by port.region",
            &["North|20", "South|0"],
        ),
        // per: rows, columns, of, where, nested
        ("grid avg(seats per route) as a", &["17.3333333333"]),
        ("grid sum(seats per (port.region, calendar.year)) as a, max(seats per calendar.month) as b", &["52|28"]),
        ("grid count(seats per calendar.month) as months, sum(1 per calendar.month of sailing) as m", &["3|3"]),
        ("grid sum(seats per route where seats > 5) as a", &["48"]),
        ("grid max(sum(seats per route.id) per port.region) as a", &["48"]),
        ("grid sum(if(route.id = 'r1', seats, 0) per route.id) as a", &["40"]),
        // row binding in calculated columns
        (
            "grid single(route.share), single(route.busier) by route.id",
            &["r1|0.7692307692|0", "r2|0.1538461538|1", "r3|0.0769230769|2"],
        ),
        // aggregates
        (
            "grid median(sailing.seats), percentile_disc(sailing.seats, 0.9), stddev_pop(sailing.seats)",
            &["10|20|5.2763623833"],
        ),
        ("grid first(sailing.seats order by sailing.day), last(sailing.seats order by sailing.day)", &["10|4"]),
        (
            "grid string_agg(port.name, '+' order by port.place), single(port.region), count(distinct port.region)",
            &["Holm+Ness+Skaw||2"],
        ),
        // exact decimals
        ("grid sum(sailing.price), sum(sailing.price * 3), round(avg(sailing.price), 2)", &["12.50|37.50|2.5"]),
        ("grid 0.1 + 0.2 = 0.3 as exact, 7 / 0 as nothing, 7 % 0 as also_nothing, 1 / 4 as quarter", &["true|||0.25"]),
        // dates
        (
            "grid max(sailing.day), min(year(sailing.day)), days_between(min(sailing.day), max(sailing.day))",
            &["2027-02-05|2026|400"],
        ),
    ];
    let different: Vec<String> = cases
        .iter()
        .map(|(query, lines)| (query, lines, crate::common::shown(&crate::common::run(&model, query))))
        .filter(|(_, lines, found)| found != *lines)
        .map(|(query, lines, found)| format!("{query}\n  expected {lines:?}\n  found    {found:?}"))
        .collect();
    assert!(different.is_empty(), "{}", different.join("\n"));
}

#[test]
fn every_function_gives_what_its_example_says() {
    let model = harbour().build().unwrap();
    for (_, function) in functions::all().filter(|(_, f)| !f.example.1.is_empty()) {
        let (formula, result) = function.example;
        expect(&model, &format!("grid {formula} as x"), &[result]);
    }
}

#[test]
fn a_measure_can_always_be_replaced_by_its_formula() {
    let model = harbour().build().unwrap();
    for axes in ["", " by port.region", " by route.id split by calendar.year totals"] {
        for (name, formula) in [("load", "(taken / seats)"), ("seats", "sum(sailing.seats)")] {
            for shape in ["{}", "{} given (without port)", "max({} per route.id)", "{} + 1"] {
                let with_name = format!("grid {} as x{axes}", shape.replace("{}", name));
                let with_formula = format!("grid {} as x{axes}", shape.replace("{}", formula));
                assert_eq!(
                    crate::common::shown(&crate::common::run(&model, &with_name)),
                    crate::common::shown(&crate::common::run(&model, &with_formula)),
                    "{with_name}"
                );
            }
        }
    }
}

#[test]
fn parameters_stand_for_one_value_or_a_list() {
    let model = harbour().build().unwrap();
    let mut options = cubrel::QueryOptions::default();
    options.parameters.insert("years".into(), vec![Value::Int(2026), Value::Int(2030)]);
    options.parameters.insert("region".into(), vec![Value::text("North")]);
    let query = "grid seats where calendar.year in ($years) and port.region = $region";
    let grid = model.query_with(query, &options).unwrap().run().unwrap();
    assert_eq!(crate::common::shown(&grid), ["48"]);
}
