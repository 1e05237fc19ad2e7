//! What is worked out after loading comes in the order in which it is needed: keys that are looked up, columns that go
//! over them, tables by query on the way, and what copies share.

use crate::common::run;
use cubrel::{Builder, Model, Type, Value};

/// Ports in regions, bookings, weather by region and month, and tariffs by kind of weather.
fn ferries() -> Builder {
    let text = |s: &'static str| Value::text(s);
    let port = [("P1", "North"), ("P2", "South"), ("P3", "North")];
    let booking = [("P1", 1, 10), ("P1", 2, 20), ("P2", 1, 40), ("P3", 2, 80), ("P9", 1, 160), ("P2", 3, 320)];
    let weather = [("North", 1, "wet"), ("North", 2, "dry"), ("South", 1, "dry")];
    let tariff = [("wet", 5), ("dry", 7)];
    let rows = |list: &[(&'static str, i64, i64)]| -> Vec<Vec<Value>> {
        list.iter().map(|(a, b, c)| vec![text(a), Value::Int(*b), Value::Int(*c)]).collect()
    };
    Model::builder()
        .rows(
            "port",
            &[("code", Type::Text), ("region", Type::Text)],
            &port.map(|(code, region)| vec![text(code), text(region)]),
        )
        .rows("booking", &[("port", Type::Text), ("month", Type::Int), ("net", Type::Int)], &rows(&booking))
        .rows(
            "weather",
            &[("region", Type::Text), ("month", Type::Int), ("kind", Type::Text)],
            &weather.map(|(region, month, kind)| vec![text(region), Value::Int(month), text(kind)]),
        )
        .rows(
            "tariff",
            &[("kind", Type::Text), ("rate", Type::Int)],
            &tariff.map(|(kind, rate)| vec![text(kind), Value::Int(rate)]),
        )
        .relationship("booking.port", "port.code")
        .relationship("weather.kind", "tariff.kind")
}

const BY_WEATHER: &str =
    "[[relationship]]\nmany = ['booking.region', 'booking.month']\none = ['weather.region', 'weather.month']";

fn lines(model: &Model, query: &str) -> Vec<String> {
    let show = |line: &cubrel::GridLine| line.values.iter().map(ToString::to_string).collect::<Vec<_>>().join("|");
    run(model, query).lines.iter().map(show).collect()
}

fn problems(builder: Builder) -> String {
    builder.build().expect_err("something is wrong").to_string()
}

#[test]
fn keys_are_looked_up_whatever_comes_first_in_the_model() {
    for rows in [1, 2, 3, 1 << 20] {
        let model = ferries()
            // Each needs what stands below it, and says so by no name.
            .column("tariff", "bookings", "rows(booking)")
            .column("booking", "cost", "net * tariff.rate")
            .column("weather", "total", "sum(booking.net)")
            .column("booking", "kind", "weather.kind")
            .column("booking", "region", "port.region")
            .definitions(BY_WEATHER)
            .measure("costs", "sum(booking.cost)")
            .segment_rows(rows)
            .build()
            .unwrap();
        let records = "records booking.net, booking.region, booking.kind, booking.cost order by booking.net";
        assert_eq!(
            lines(&model, records),
            ["10|North|wet|50", "20|North|dry|140", "40|South|dry|280", "80|North|dry|560", "160|||", "320|South||"]
        );
        let costs = lines(&model, "grid costs, sum(booking.net) as net by tariff.kind");
        assert_eq!(costs, ["dry|980|140", "wet|50|10", "||480"]);
        let far = "records weather.region, weather.month, weather.total order by weather.region, weather.month";
        assert_eq!(lines(&model, far), ["North|1|10", "North|2|100", "South|1|40"]);
        assert_eq!(lines(&model, "records tariff.kind, tariff.bookings order by tariff.kind"), ["dry|3", "wet|1"]);
    }
}

#[test]
fn a_key_on_the_one_side_can_be_computed_too() {
    let model = ferries()
        .column("port", "all_net", "sum(booking.net)")
        .column("tariff", "net", "if(kind = 'wet', 30, 360)")
        .column("tariff", "port", "port.code")
        .definitions("[[relationship]]\nmany = 'tariff.net'\none = 'port.all_net'")
        .build()
        .unwrap();
    assert_eq!(lines(&model, "records tariff.kind, tariff.port order by tariff.kind"), ["dry|P2", "wet|P1"]);
    let twice = ferries()
        .column("port", "months", "count(booking.net)")
        .column("tariff", "n", "2")
        .definitions("[[relationship]]\nmany = 'tariff.n'\none = 'port.months'");
    let text = problems(twice);
    assert!(text.contains("port.months is not unique") && text.contains("`2` in 2 rows"), "{text}");
}

#[test]
fn a_key_that_needs_its_own_relationship_is_an_error() {
    let itself = ferries().column("booking", "region", "weather.region").definitions(BY_WEATHER);
    let text = problems(itself);
    let expected = "these formulas need each other: booking.region → booking.region (a key of (booking.region, \
                    booking.month) → (weather.region, weather.month))";
    assert!(text.contains(expected), "{text}");
    // Over other columns, one of which sums what comes over the relationship and names no key.
    let round = ferries()
        .column("booking", "region", "if(port.total > 100, 'North', 'South')")
        .column("port", "total", "sum(booking.kind_net)")
        .column("booking", "kind_net", "if(weather.kind = 'wet', net, 0)")
        .definitions(BY_WEATHER);
    let text = problems(round);
    assert!(text.contains("need each other") && text.contains("port.total") && text.contains("a key of"), "{text}");
    // The same names are no cycle where another way is taken.
    let other_way = ferries().column("booking", "region", "port.region").definitions(BY_WEATHER);
    assert!(other_way.build().is_ok());
}

#[test]
fn keys_of_two_types_are_told_by_their_names() {
    let other_type = ferries()
        .column("booking", "region", "coalesce(sum(weather.month), 1)")
        .definitions("[[relationship]]\nmany = 'booking.region'\none = 'port.region'");
    let text = problems(other_type);
    assert!(text.contains("booking.region is int and port.region is text"), "{text}");
    assert!(text.contains("`cast` in its formula"), "{text}");
}

#[test]
fn a_table_by_query_on_the_way_is_worked_out_first() {
    // `booking.rate` names `tariff` alone; the way there goes over a table that a query makes.
    let model = ferries()
        .column("booking", "rate", "tariff.rate")
        .definitions(
            "[table.habit]\nquery = \"grid min(weather.kind) as kind by weather.month\"
             [[relationship]]\nmany = 'booking.month'\none = 'habit.month'
             [[relationship]]\nmany = 'habit.kind'\none = 'tariff.kind'",
        )
        .build()
        .unwrap();
    let records = "records booking.net, booking.rate order by booking.net";
    assert_eq!(lines(&model, records), ["10|7", "20|7", "40|7", "80|7", "160|7", "320|"]);
}

#[test]
fn copies_share_what_is_computed_after_loading() {
    let model = ferries()
        .column("harbour", "twice", "total * 2")
        .column("port", "total", "sum(booking.net)")
        .column("booking", "other", "if(month = 1, 'P2', 'P3')")
        .definitions(
            "[table.harbour]\nsame_as = 'port'\n[[relationship]]\nmany = 'booking.other'\none = 'harbour.code'",
        )
        .measure("there", "max(harbour.total)")
        .build()
        .unwrap();
    let port = "records port.code, port.total order by port.code";
    assert_eq!(lines(&model, port), ["P1|30", "P2|360", "P3|80"]);
    let harbour = "records harbour.code, harbour.total, harbour.twice order by harbour.code";
    assert_eq!(lines(&model, harbour), ["P1|30|60", "P2|360|720", "P3|80|160"]);
    assert_eq!(lines(&model, "grid rows(booking) as n, there by harbour.total"), ["30|0|30", "80|3|80", "360|3|360"]);
    let copies = |name: &str| model.sizes().tables.into_iter().find(|t| t.name == name).map(|t| t.bytes);
    assert!(copies("harbour") < copies("port"), "what is shared costs nothing");
}

#[test]
fn tables_by_query_can_be_copied() {
    let model = ferries()
        .definitions(
            "[table.best]\nquery = 'grid sum(booking.net) as net by port.region'
             [table.again]\nsame_as = 'best'
             [[relationship]]\nmany = 'port.region'\none = 'again.region'",
        )
        .column("again", "half", "net / 2")
        .column("port", "of_region", "again.half")
        .build()
        .unwrap();
    assert_eq!(lines(&model, "grid max(again.net) as a, rows(again) as n"), ["360|3"]);
    assert_eq!(lines(&model, "records port.code, port.of_region order by port.code"), ["P1|55", "P2|180", "P3|55"]);
}

#[test]
fn copies_are_of_tables_and_add_columns_of_new_names() {
    let refused = |toml: &str| problems(ferries().column("port", "total", "sum(booking.net)").definitions(toml));
    let of_copy = refused("[table.a]\nsame_as = 'port'\n[table.b]\nsame_as = 'a'");
    assert!(of_copy.contains("`a` is a copy itself") && of_copy.contains("`port`"), "{of_copy}");
    let of_itself = refused("[table.a]\nsame_as = 'a'");
    assert!(of_itself.contains("`a` is a copy of itself"), "{of_itself}");
    let of_nothing = refused("[table.a]\nsame_as = 'prot'");
    assert!(of_nothing.contains("no table `prot`") && of_nothing.contains("did you mean `port`"), "{of_nothing}");
    for column in ["region", "total"] {
        let again = refused(&format!("[table.a]\nsame_as = 'port'\n[table.a.column.{column}]\nformula = \"'x'\""));
        assert!(again.contains(&format!("`{column}` is a column that table `a` shares with `port`")), "{again}");
    }
}
