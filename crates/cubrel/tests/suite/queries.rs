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
    let query = match roles {
        [] => model.query_with(text, &QueryOptions { user: user.map(str::to_string), ..QueryOptions::default() }),
        roles => model.as_user(roles, user).and_then(|seen| seen.query(text)),
    };
    let query = query.map_err(|e| e.to_string())?;
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
        // Nothing tells it from what never was.
        assert!(error.contains("nothing is called") && !error.contains("north"), "{text}: {error}");
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
fn a_table_is_the_result_of_a_query() {
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

/// Statuses and places with nothing in some of their combinations, a value that is nowhere, a row without a day.
fn sparse() -> Model {
    let (text, int) = (Value::text, Value::Int);
    let day = |d: Option<i32>| d.map_or(Value::Null, Value::Date);
    Model::builder()
        .rows(
            "place",
            &[("id", Type::Int), ("name", Type::Text), ("area", Type::Text)],
            &[
                vec![int(1), text("Ness"), text("North")],
                vec![int(2), text("Holm"), text("North")],
                vec![int(3), text("Skaw"), text("South")],
            ],
        )
        .rows(
            "trip",
            &[("place", Type::Int), ("status", Type::Text), ("n", Type::Int), ("day", Type::Date), ("x", Type::Float)],
            &[
                vec![int(1), text("done"), int(10), day(Some(20_000)), Value::Float(2.5)],
                vec![int(2), text("open"), int(5), day(None), Value::Float(0.125)],
                vec![int(9), text("done"), int(50), day(Some(20_001)), Value::Float(1.005)],
                vec![Value::Null, Value::Null, int(99), day(None), Value::Float(-2.5)],
            ],
        )
        .relationship("trip.place", "place.id")
        .measure("total", "sum(trip.n)")
        .build()
        .unwrap()
}

#[test]
fn a_condition_can_name_the_table_whose_rows_it_tests() {
    for (query, lines) in [
        ("grid total where trip where (place.name = 'Ness' or trip.status = 'open')", &["15"][..]),
        ("grid total where trip where (place.name = 'Ness' or trip.status = 'open') and place.area = 'North'", &["15"]),
        (
            "grid total where place.area = 'North' and trip where (trip.n > 7 or trip.status = 'x') and trip.n < 40",
            &["10"],
        ),
        ("grid total where trip where trip.n > 7 and trip.n < 40", &["10"]),
        ("grid total where trip where not (place.name = 'Ness' or trip.n > 40)", &["5"]),
        ("records trip.n where trip where (place.name = 'Ness' or trip.status = 'open') order by trip.n", &["5", "10"]),
        ("grid sum(n_ per trip where trip.n > 7) as x where trip where trip.n < 60", &["60"]),
    ] {
        let text = if query.contains("n_") { format!("measure n_ = total; {query}") } else { query.to_string() };
        expect(&sparse(), &text, lines);
    }
    for (query, message) in [
        (
            "grid total where trip where (place.name = 'Ness') or trip.n > 7",
            "a condition names its table at its beginning",
        ),
        ("grid total where trap where trip.n > 7", "there is no table `trap`"),
        ("grid total where place where trip.n > 7", "cannot be looked up from place"),
        ("grid total where trip where trip.n > 7 where trip.n < 9", "`where` stands too late"),
    ] {
        let error = sparse().query(query).unwrap_err().to_string();
        assert!(error.contains(message), "{query}: {error}");
    }
}

#[test]
fn null_takes_no_place_in_a_set() {
    for (query, lines) in [
        ("grid total by trip.status where trip.status in top(1, total per trip.status)", &["done|60"][..]),
        ("grid total by place.name where place.name in top(1, total per place.name)", &["Ness|10"]),
        ("grid total by trip.status where trip.status in bottom(1, total per trip.status)", &["open|5"]),
        ("grid sum(total per trip.status where trip.status in top(1, total per trip.status)) as x", &["60"]),
        ("grid sum(total per trip.status where trip.status in top(2, total per trip.status)) as x", &["65"]),
    ] {
        expect(&sparse(), query, lines);
    }
}

#[test]
fn a_row_whose_order_is_null_comes_last_and_counts() {
    for (query, lines) in [
        ("grid first(trip.n order by trip.day) as f, last(trip.n order by trip.day) as l", &["10|99"][..]),
        (
            "grid first(trip.n order by trip.day) as f, last(trip.n order by trip.day) as l by place.name",
            &["Holm|5|5", "Ness|10|10", "|50|99"],
        ),
        ("grid first(trip.n order by trip.day desc) as f", &["50"]),
        ("grid first(total per trip order by single(trip.day)) as f", &["10"]),
    ] {
        expect(&sparse(), query, lines);
    }
}

#[test]
fn with_empty_combines_columns_of_what_is_aggregated_with_everything() {
    expect(
        &sparse(),
        "grid total by trip.status, place.name where trip.status is not null and place.name is not null with empty",
        &["done|Holm|", "done|Ness|10", "done|Skaw|", "open|Holm|5", "open|Ness|", "open|Skaw|"],
    );
    // What is looked up keeps its combinations: no place is in two areas.
    expect(
        &sparse(),
        "grid total by place.area, place.name where place.name is not null with empty",
        &["North|Holm|5", "North|Ness|10", "South|Skaw|"],
    );
    expect(
        &sparse(),
        "grid total by place.name split by trip.status where place.name is not null and trip.status is not null with empty",
        &["Holm|done|", "Holm|open|5", "Ness|done|10", "Ness|open|", "Skaw|done|", "Skaw|open|"],
    );
}

#[test]
fn what_is_shown_is_rounded_half_away_from_zero() {
    let formats = cubrel::value::format::Formats::new(Some("en-GB"), None).unwrap();
    let shown = |query: &str| {
        let grid = sparse().query(query).unwrap().run().unwrap();
        let (line, column) = (&grid.lines[0], &grid.columns[0]);
        formats.show(&line.values[0], column.ty, column.format.as_deref())
    };
    for (query, expected) in [
        ("grid 5 / 2 format '0'", "3"),
        ("grid 2.5 format '0'", "3"),
        ("grid -5 / 2 format '0'", "-3"),
        ("grid 1 / 8 format '0.00'", "0.13"),
        ("grid 1.005e0 format '0.00'", "1.01"),
        ("grid 29 / 200 format '0%'", "15%"),
        ("grid 0.145 format '0%'", "15%"),
        ("grid 999.5e0 format '0'", "1000"),
        ("grid 0.4e0 format '0'", "0"),
        ("grid -0.4e0 format '0'", "0"),
        ("grid 1e300 format '0'", &format!("1{}", "0".repeat(300))),
    ] {
        assert_eq!(shown(query), expected, "{query}");
    }
    for (query, expected) in [
        ("grid to_text(5 / 2, '0') as x", "3"),
        ("grid to_text(date '2026-01-01', 'YYYY-''W''ww') as x", "2026-W01"),
        ("grid to_text(date '2027-01-01', 'YYYY-''W''ww') as x", "2026-W53"),
        ("grid to_text(date '2026-03-01', '''o''''clock'' D') as x", "o'clock 60"),
        ("grid to_text(date '2026-03-01', 'd '''' M') as x", "1 ' 3"),
    ] {
        expect(&sparse(), query, &[expected]);
    }
    for (query, message) in [
        ("grid to_text(date '2026-01-01', 'yyyy-bb') as x", "`b` in `yyyy-bb` is not a field of dates"),
        ("grid to_text(date '2026-01-01', 'yyyy ''x') as x", "is not closed"),
        ("grid min(trip.day) format 'yyyy-bb' as x", "expected"),
    ] {
        let error = sparse().query(query).and_then(|q| q.run()).unwrap_err().to_string();
        assert!(error.contains(message) || message == "expected", "{query}: {error}");
    }
    let error = sparse().query("grid min(trip.day) as x format 'yyyy-bb'").unwrap_err().to_string();
    assert!(error.contains("is not a field of dates"), "{error}");
}

#[test]
fn what_cannot_be_computed_is_told_with_its_formula() {
    let query = "grid sum(trip.n * 99999999999999999999999999999999999) * 1000 as x";
    let error = sparse().query(query).and_then(|q| q.run()).unwrap_err();
    let problem = &error.problems()[0];
    assert_eq!(problem.place().map(|(file, line, _)| (file, line)), Some(("query", 1)), "{problem}");
    assert!(problem.message.contains("38 digits"), "{problem}");
}

#[test]
fn arrow_tells_totals_and_the_rest_from_none() {
    use arrow_array::cast::AsArray;
    let query = "grid total as \"others\" by trip.status order by total desc limit 1 others totals";
    let batch = sparse().query(query).unwrap().run().unwrap().to_record_batch().unwrap();
    let marked = |name: &str| -> Vec<usize> {
        let list = batch.column_by_name(name).unwrap().as_list::<i32>();
        (0..batch.num_rows()).map(|row| list.value(row).len()).collect()
    };
    assert_eq!((marked("total"), marked("others_")), (vec![0, 0, 1], vec![0, 1, 0]));
    // Sums beyond 64 bits are decimals.
    let rows: Vec<Vec<Value>> = (0..3).map(|i| vec![Value::Int(i), Value::Int(i64::MAX)]).collect();
    let model = Model::builder().rows("t", &[("id", Type::Int), ("x", Type::Int)], &rows).build().unwrap();
    let batch = model.query("grid sum(t.x) as x by t.id totals").unwrap().run().unwrap().to_record_batch().unwrap();
    let sums = batch.column_by_name("x").unwrap();
    assert_eq!(sums.data_type(), &arrow_schema::DataType::Decimal128(38, 0));
}

#[test]
fn what_does_not_arrive_is_told() {
    let model = Model::builder()
        .rows("order_", &[("id", Type::Int), ("urgent", Type::Bool)], &[vec![Value::Int(1), Value::Bool(true)]])
        .rows(
            "line",
            &[("order_", Type::Int), ("mode", Type::Text), ("n", Type::Int)],
            &[vec![Value::Int(1), Value::text("air"), Value::Int(5)]],
        )
        .rows("port", &[("name", Type::Text)], &[vec![Value::text("Ness")]])
        .relationship("line.order_", "order_.id")
        .measure("urgent", "sum(if(order_.urgent, 1, 0))")
        .build()
        .unwrap();
    let told = |query: &str| -> Vec<String> {
        model.query(query).unwrap().warnings().iter().map(ToString::to_string).collect()
    };
    for (query, expected) in [
        ("grid urgent by line.mode", "this goes through `order_`, and line.mode on an axis does not reach it"),
        (
            "grid sum(if(order_.urgent, 1, 0)) as u where line.mode = 'air'",
            "and the filter on line.mode does not reach it",
        ),
        ("grid sum(line.n) as n by port.name", "no table has both"),
        ("grid urgent by line.mode", "`… per line`"),
    ] {
        assert!(told(query).iter().any(|w| w.contains(expected)), "{query}: {:?}", told(query));
    }
    for query in [
        "grid sum(if(order_.urgent, 1, 0) per line) as u by line.mode",
        "grid sum(line.n) as n by order_.urgent",
        "grid (urgent both_ways line.order_) as u by line.mode",
        "grid urgent given (without axes) as u by line.mode",
        "grid sum(line.n) as n, urgent / sum(line.n) as r by line.mode",
        "grid 1 as one by line.mode",
    ] {
        assert_eq!(told(query), [""; 0], "{query}");
    }
}
