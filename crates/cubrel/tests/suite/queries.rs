//! Lenses, roles, records, the rest of a limit, sets, questions about the context: examples with their results.

use crate::common::{expect, shown};
use cubrel::{Model, QueryOptions, Type, Value};

const DEFINITIONS: &str = "
[table.calendar]
calendar = 'date'
generate = { from = '2024-01-01', to = '2025-12-31' }

[table.booked_calendar]
same_as = 'calendar'
prefix = 'Booked '

[lens.period]
[lens.period.reading.plain]
formula = 'shown'
[lens.period.reading.ytd]
label = 'Year to date'
formula = 'shown given (so_far(year) on calendar)'
[lens.period.reading.before]
formula = 'shown given (shift(-1 year) on calendar)'

[lens.change]
wraps = ['period']
[lens.change.reading.figure]
formula = 'shown'
[lens.change.reading.of_all]
label = 'Share'
formula = 'shown / shown given (without route)'
format = '0%'

[role.north]
rows.route = \"region = 'North'\"
deny = ['secret']
people = ['ann@example.org']

[role.south]
rows.route = \"region = 'South'\"

[role.own]
rows.booking = 'agent = user()'

[measure.net]
formula = 'sum(booking.net)'
format = '#,##0'
[measure.secret]
formula = 'max(booking.net)'
[measure.twice]
formula = '2 * secret'
";

fn model() -> Model {
    let text = Value::text;
    let day = |t: &str| Value::Date(cubrel::value::date::parse_date(t.as_bytes()).unwrap());
    let route = [("r1", "Ness", "North"), ("r2", "Holm", "North"), ("r3", "Skaw", "South"), ("r4", "Wick", "South")]
        .map(|(id, name, region)| vec![text(id), text(name), text(region)]);
    let booking = [
        ("r1", "2024-02-10", "2024-01-05", 10, "ann"),
        ("r1", "2025-02-11", "2024-12-30", 20, "bo"),
        ("r2", "2025-03-01", "2025-02-28", 7, "ann"),
        ("r3", "2024-02-29", "2024-02-01", 5, "bo"),
        ("r3", "2025-02-28", "2025-01-31", 6, "cy"),
        ("r4", "2025-02-01", "2025-01-01", 1, "cy"),
        ("r9", "2025-02-01", "2025-01-01", 3, "ann"),
    ]
    .map(|(route, sailed, booked, net, agent)| {
        vec![text(route), day(sailed), day(booked), Value::Int(net), text(agent)]
    });
    Model::builder()
        .definitions(DEFINITIONS)
        .rows("route", &[("id", Type::Text), ("name", Type::Text), ("region", Type::Text)], &route)
        .rows(
            "booking",
            &[
                ("route", Type::Text),
                ("sailed_on", Type::Date),
                ("booked_on", Type::Date),
                ("net", Type::Int),
                ("agent", Type::Text),
            ],
            &booking,
        )
        .relationship("booking.route", "route.id")
        .relationship("booking.sailed_on", "calendar.date")
        .relationship("booking.booked_on", "booked_calendar.date")
        .build()
        .unwrap()
}

fn ask(model: &Model, roles: &[&str], user: Option<&str>, text: &str) -> Result<Vec<String>, String> {
    let options = QueryOptions {
        roles: roles.iter().map(ToString::to_string).collect(),
        user: user.map(str::to_string),
        ..QueryOptions::default()
    };
    let query = model.query_with(text, &options).map_err(|e| e.to_string())?;
    query.run().map(|g| shown(&g)).map_err(|e| e.to_string())
}

#[test]
fn a_lens_on_an_axis_and_as_a_filter() {
    let m = model();
    expect(
        &m,
        "grid net by period where calendar.year = 2025 and calendar.month_of_year = 2",
        &["plain|30", "ytd|30", "before|15"],
    );
    expect(
        &m,
        "grid net by calendar.year, period where route.region = 'North' and period in ('plain', 'before') totals",
        &["2024|plain|10", "2025|plain|27", "2025|before|10", "|plain|37 total", "|before|10 total"],
    );
    expect(&m, "grid net where period = 'before' and calendar.year = 2025", &["15"]);
    // Any item: an aggregate, a ratio.
    expect(
        &m,
        "grid count(booking.net) as n, net / rows(booking) as mean split by period where calendar.year = 2025 and period <> 'ytd'",
        &["plain|5|7.4", "before|2|7.5"],
    );
}

#[test]
fn two_lenses_meet() {
    let m = model();
    expect(
        &m,
        "grid net by route.region, change where calendar.year = 2025 and period = 'before'",
        &["North|figure|10", "North|of_all|0.6666666667", "South|figure|5", "South|of_all|0.3333333333"],
    );
    let grid = crate::common::run(&m, "grid net by change where calendar.year = 2025");
    assert_eq!(grid.format_of(&grid.lines[1], 1), Some("0%"));
    assert_eq!(grid.format_of(&grid.lines[0], 1), Some("#,##0"));
    let apart = Model::builder()
        .definitions(&DEFINITIONS.replace("wraps = ['period']", ""))
        .rows("route", &[("id", Type::Text), ("region", Type::Text)], &[])
        .rows(
            "booking",
            &[("net", Type::Int), ("route", Type::Text), ("sailed_on", Type::Date), ("agent", Type::Text)],
            &[],
        )
        .relationship("booking.route", "route.id")
        .build()
        .unwrap();
    let error = apart.query("grid net by period, change").unwrap_err().to_string();
    assert!(error.contains("neither says which is applied first"), "{error}");
}

#[test]
fn what_is_wrong_with_a_lens_is_said() {
    let m = model();
    let cases = [
        ("grid net where period <> 'ytd'", "2 readings of `period` are left, and it is on no axis"),
        ("grid net where period = 'mtd'", "`period` has no reading `mtd`"),
        ("grid net by period where period = 'ytd' or route.region = 'North'", "a lens is filtered by itself"),
        ("grid min(route.name) as a_name by change", "reading `of_all` of `change` cannot show `a_name`"),
        ("grid net by perod", "`perod` cannot be an axis"),
    ];
    for (text, expected) in cases {
        let error = m.query(text).unwrap_err().to_string();
        assert!(error.contains(expected), "{text}: {error}");
    }
}

#[test]
fn roles_fix_the_rows_first() {
    let m = model();
    let by_region = "grid net by route.region totals";
    assert_eq!(ask(&m, &["north"], None, by_region).unwrap(), ["North|37", "|37 total"]);
    // No edit widens what a role lets through.
    for edit in ["without all", "without route", "instead route.region = 'South'", "without axes"] {
        let text = format!("grid coalesce(net given ({edit}), 0) as n");
        let expected = if edit.starts_with("instead") { "0" } else { "37" };
        assert_eq!(ask(&m, &["north"], None, &text).unwrap(), [expected], "{edit}");
    }
    assert_eq!(ask(&m, &["north"], None, "grid rows(route) as n by route.name").unwrap(), ["Holm|1", "Ness|1"]);
    // Several roles unite their rows; the booking whose route is not known is in neither.
    assert_eq!(ask(&m, &["north", "south"], None, by_region).unwrap(), ["North|37", "South|12", "|49 total"]);
    assert_eq!(ask(&m, &["own"], Some("ann"), "grid net").unwrap(), ["20"]);
    assert_eq!(ask(&m, &["own"], Some("zoe"), "grid net").unwrap(), [""]);
    assert_eq!(ask(&m, &["own"], None, "grid rows(booking) as n").unwrap(), ["0"]);
}

#[test]
fn what_a_role_denies_is_not_answered_directly_or_through_others() {
    let m = model();
    for text in ["grid secret", "grid twice", "grid net having secret > 1", "grid net order by twice"] {
        let error = ask(&m, &["north"], None, text).unwrap_err();
        assert!(error.contains("is not answered to role `north`"), "{text}: {error}");
        assert!(ask(&m, &["south"], None, text).is_ok());
    }
    let error = ask(&m, &["west"], None, "grid net").unwrap_err();
    assert!(error.contains("there is no role `west`"), "{error}");
}

#[test]
fn records_are_rows_of_the_finest_table() {
    let m = model();
    expect(
        &m,
        "records booking.sailed_on, route.name, booking.net * 2 as double where booking.net > 5 order by booking.net desc limit 3",
        &["2025-02-11|Ness|40", "2024-02-10|Ness|20", "2025-03-01|Holm|14"],
    );
    expect(&m, "records route.name where route.region = 'South'", &["Skaw", "Wick"]);
    // A row whose key finds nothing, and a measure of the row.
    expect(&m, "records booking.net, route.name where route.name is null", &["3|"]);
    expect(&m, "records route.name, net order by net", &["Wick|1", "Holm|7", "Skaw|11", "Ness|30"]);
    assert_eq!(ask(&m, &["south"], None, "records booking.net, booking.agent").unwrap(), ["5|bo", "6|cy", "1|cy"]);
    for (text, expected) in [
        ("records booking.net by route.name", "`records` have no `by`"),
        ("records 1 + 1", "these records name no column"),
        ("records booking.net, booked_calendar.year having net > 1", "`records` have no `having`"),
    ] {
        let error = m.query(text).unwrap_err().to_string();
        assert!(error.contains(expected), "{text}: {error}");
    }
}

#[test]
fn others_is_one_more_line_for_what_a_limit_drops() {
    let m = model();
    expect(&m, "grid net by route.name order by net desc limit 2 others", &["Ness|30", "Skaw|11", "|11"]);
    let grid = crate::common::run(&m, "grid net by route.name order by net desc limit 2 others");
    assert_eq!((grid.lines[2].others.as_slice(), grid.others), (&[0][..], true));
    // Not a sum of what was dropped: a distinct count, an average, under the filter on those lines.
    expect(
        &m,
        "grid count(distinct booking.agent) as agents, avg(booking.net) as mean by route.region, route.name order by net desc limit 1 within route.region others",
        &["North|Ness|2|15", "South|Skaw|2|5.5", "||1|3", "North||1|7", "South||1|1"],
    );
    expect(
        &m,
        "grid net by route.region, route.name split by calendar.year order by net desc limit 1 within route.region others totals",
        &[
            "North|Ness|2024|10",
            "North|Ness|2025|20",
            "North|Ness||30 total",
            "North||2025|7",
            "North|||7 total",
            "North||2024|10 total",
            "North||2025|27 total",
            "North|||37 total",
            "South|Skaw|2024|5",
            "South|Skaw|2025|6",
            "South|Skaw||11 total",
            "South||2025|1",
            "South|||1 total",
            "South||2024|5 total",
            "South||2025|7 total",
            "South|||12 total",
            "||2025|3",
            "|||3 total",
            "||2025|3 total",
            "|||3 total",
            "||2024|15 total",
            "||2025|37 total",
            "|||52 total",
        ],
    );
    // Groups stay together, whatever their order is.
    expect(
        &m,
        "grid net by route.region, route.name order by net limit 1 within route.region others totals",
        &[
            "||3",
            "||3 total",
            "South|Wick|1",
            "South||11",
            "South||12 total",
            "North|Holm|7",
            "North||30",
            "North||37 total",
            "||52 total",
        ],
    );
    // An edit that drops the axes drops what the line stands for.
    expect(
        &m,
        "grid net given (without axes) as n by route.name order by net desc limit 3 others",
        &["Ness|52", "Skaw|52", "Holm|52", "|52"],
    );
}

#[test]
fn sets_and_questions() {
    let m = model();
    expect(&m, "grid net by route.name where route.name in top(2, net per route.name)", &["Ness|30", "Skaw|11"]);
    // Both have two bookings: ties at the cut are kept.
    expect(
        &m,
        "grid net by route.name where route.name in top(1, rows(booking) per route.name)",
        &["Ness|30", "Skaw|11"],
    );
    expect(
        &m,
        "grid net given (route.name in bottom(1, net per route.name)) as least by route.region",
        &["North|7", "South|1"],
    );
    expect(&m, "grid avg(net per route.name where route.name in top(2, net per route.name)) as mean", &["20.5"]);
    expect(
        &m,
        "grid narrowed(route.region) as n, grouping(route.region) as g, net by route.region where calendar.year = 2025 totals",
        &["North|true|0|27", "South|true|0|7", "|true|0|3", "|false|1|37 total"],
    );
    let options = QueryOptions { user: Some("ann".into()), ..QueryOptions::default() };
    let grid =
        m.query_with("grid sum(if(booking.agent = user(), booking.net, 0)) as mine", &options).unwrap().run().unwrap();
    assert_eq!(shown(&grid), ["20"]);
}

#[test]
fn two_dates_cross_on_one_grid() {
    let m = model();
    expect(
        &m,
        "grid net by booked_calendar.year split by calendar.year",
        &["2024|2024|15", "2024|2025|20", "2025|2025|17"],
    );
}

/// Routes with their revenue as a table of its own, classes on it, and bookings that point at it.
const WORKED_OUT: &str = "
[table.route_size]
query = 'grid net as revenue, rows(booking) as n by route.id having net > 2'
[table.route_size.column.class]
formula = \"if(revenue > 10, 'large', 'small')\"
[[relationship]]
many = 'booking.route'
one = 'route_size.id'
";

#[test]
fn a_table_is_worked_out_by_a_query() {
    let build = |more: &str| {
        let text = Value::text;
        let rows = [("r1", 10), ("r1", 20), ("r2", 7), ("r3", 2), ("r9", 3)]
            .map(|(route, net)| vec![text(route), Value::Int(net)]);
        let route = ["r1", "r2", "r3"].map(|id| vec![text(id)]);
        Model::builder()
            .definitions(&format!("{WORKED_OUT}\n[measure.net]\nformula = 'sum(booking.net)'\n{more}"))
            .rows("route", &[("id", Type::Text)], &route)
            .rows("booking", &[("route", Type::Text), ("net", Type::Int)], &rows)
            .relationship("booking.route", "route.id")
            .build()
    };
    let m = build("").unwrap();
    expect(
        &m,
        "records route_size.id, route_size.revenue, route_size.n, route_size.class",
        &["r1|30|2|large", "r2|7|1|small", "|3|1|small"],
    );
    expect(&m, "grid net by route_size.class", &["large|30", "small|7", "|5"]);
    expect(&m, "grid sum(route_size.revenue) as r where route_size.class = 'large'", &["30"]);
    let wrong = [
        ("[table.a]\nquery = 'grid rows(a) as n'", "these formulas need each other: a → a"),
        ("[table.a]\nquery = 'grid net + 1'", "this column of the table has no name"),
        ("[table.a]\nquery = 'grid net totals'", "a table has no lines for totals"),
        ("[table.a]\nquery = 'grid net as x by route.nam'", "table `route` has no column `nam`"),
        (
            "[table.a]\nquery = 'grid m as x'\n[measure.m]\nformula = 'sum(a.x)'",
            "these formulas need each other: m → a → m",
        ),
        ("[table.a]\nquery = 'grid net'\nsource = 'a.csv'", "`a` has a source and a query"),
    ];
    for (more, expected) in wrong {
        let error = build(more).unwrap_err().to_string();
        assert!(error.contains(expected), "{more}: {error}");
    }
}
