//! A gallery of wrong and surprising formulas with everything that is said about them, as one text to be read through.
//! `UPDATE_GALLERY=1` writes it anew.
use std::fmt::Write;

use cubrel::{Builder, Diagnostic, Model, Type, Value};

const DEFINITIONS: &str = "
[table.calendar]
calendar = 'date'
generate = { from = '2025-01-01', to = '2025-12-31' }
[table.booked_calendar]
same_as = 'calendar'
[table.route.hierarchy.place]
levels = ['region', 'name']
[lens.period.reading.now]
formula = 'shown'
[lens.period.reading.ytd]
formula = 'shown given (so_far(year) on calendar)'
[role.north]
rows.route = \"region = 'North'\"
deny = ['margin', 'booking.gross']
[measure.net]
formula = 'sum(booking.net)'
[measure.margin]
formula = 'net / sum(booking.gross)'
[measure.seats]
formula = 'sum(sailing.capacity)'
";

fn builder() -> Builder {
    let text = Value::text;
    let date = Value::Date(20_000);
    Model::builder()
        .definitions(DEFINITIONS)
        .rows(
            "port",
            &[("id", Type::Int), ("name", Type::Text)],
            &[vec![Value::Int(1), text("Ness")], vec![Value::Int(2), text("Holm")]],
        )
        .rows(
            "route",
            &[
                ("id", Type::Text),
                ("name", Type::Text),
                ("region", Type::Text),
                ("departure_port", Type::Int),
                ("arrival_port", Type::Int),
            ],
            &[vec![text("r1"), text("Ness–Holm"), text("North"), Value::Int(1), Value::Int(2)]],
        )
        .rows(
            "booking",
            &[
                ("route", Type::Text),
                ("sailed_on", Type::Date),
                ("booked_on", Type::Date),
                ("net", Type::Int),
                ("gross", Type::Int),
                ("note", Type::Text),
            ],
            &[vec![text("r1"), date.clone(), date.clone(), Value::Int(10), Value::Int(12), text("7")]],
        )
        .rows(
            "sailing",
            &[("route", Type::Text), ("sailed_on", Type::Date), ("capacity", Type::Int)],
            &[vec![text("r1"), date, Value::Int(100)]],
        )
        .relationship("booking.route", "route.id")
        .relationship("booking.sailed_on", "calendar.date")
        .spare_relationship("booking.booked_on", "calendar.date")
        .relationship("booking.booked_on", "booked_calendar.date")
        .relationship("sailing.route", "route.id")
        .relationship("sailing.sailed_on", "calendar.date")
        .relationship("route.departure_port", "port.id")
        .spare_relationship("route.arrival_port", "port.id")
}

const QUERIES: &[&str] = &[
    // Names
    "grid nett",
    "grid netto_revenue",
    "grid booking",
    "grid route.nam",
    "grid rows(bookings)",
    "grid net by name",
    "grid net by perod",
    "grid net by route.place, route.region split by route.region",
    "grid net where calendar.yaer = 2025",
    "grid net where calendar.year = $year",
    "grid suum(booking.net)",
    "measure net = 1; grid net",
    // Where columns and aggregates stand
    "grid booking.net",
    "grid route.name || 'x'",
    "grid sum(net)",
    "grid sum(sum(booking.net))",
    "grid sum(2)",
    "grid sum(booking.net * sailing.capacity)",
    "grid net by route.region having route.name = 'x'",
    "grid sum(booking.net per sailing)",
    "grid max(net per calendar.date of route)",
    "grid avg(net per route of booking)",
    // Aggregates
    "grid rows(booking.net)",
    "grid count()",
    "grid sum(booking.note)",
    "grid sum(booking.sailed_on)",
    "grid first(booking.note)",
    "grid sum(booking.net order by booking.sailed_on)",
    "grid percentile_cont(booking.net, 90)",
    "grid string_agg(booking.net, ', ')",
    "grid sum(distinct booking.net)",
    // Sets and ranks
    "grid top(5, net per route.name)",
    "grid net where route.name in top(net per route.name)",
    "grid net where route.name in top(5, net)",
    "grid net where route.name in top(1.5, net per route.name)",
    "grid net where route.name in top(5, net per route)",
    "grid net where booking.net in top(5, net per route.name)",
    "grid rank(net)",
    "grid rank(net per route)",
    "grid rank(net per route.name where net > 1)",
    "grid narrowed(net)",
    "grid sum(if(narrowed(route.name), booking.net, 0))",
    // Types
    "grid net + 'x'",
    "grid net where calendar.date > '2025-03-01'",
    "grid net where calendar.date = 2025",
    "grid net where booking.note = 7",
    "grid if(net, 1, 2)",
    "grid case when net > 1 then 'a' else 2 end",
    "grid net = null",
    "grid upper(net)",
    "grid substring('abc')",
    "grid year('2025-03-01')",
    "grid cast(net as date)",
    "grid not net",
    "grid net where net",
    "grid net where 1 = 1",
    "grid net where route.region in ()",
    // Edits
    "grid net given (without region)",
    "grid net given (without route.nam)",
    "grid net given (raise route)",
    "grid net given (lift route)",
    "grid net given (leave calendar)",
    "grid net given (preceding(month) on calendar)",
    "grid net given (whole(month, x) on calendar)",
    "grid net given (without all but)",
    "grid net via (booking.route, booking.net)",
    "grid net where sailing where (route.name = 'x' or calendar.year = 2025)",
    "grid seats where booking.net > 1",
    "grid seats by booking.note",
    "grid net format 'yyyy'",
    "grid min(booking.sailed_on) as x format 'bb'",
    "grid net given (booking.net > sailing.capacity)",
    "grid net given (route where sailing.capacity > 1)",
    "grid net given (so_far(year))",
    "grid net given (so_far(fortnight) on calendar)",
    "grid net given (trailing(0 months) on calendar)",
    "grid net given (trailing(month) on calendar)",
    "grid net given (shift(1.5 years) on calendar)",
    "grid net given (so_far(year) on route)",
    "grid net given (at_end(route) on calendar)",
    "grid net given (x given (without all))",
    "grid net via booking.net",
    "grid net both_ways booking.route both_ways sailing.route",
    // Lenses and roles
    "grid net by period where period = 'mtd'",
    "grid net where period <> 'x'",
    "grid net where period = 'now' or route.region = 'North'",
    "grid shown",
    // Queries
    "net by route.name",
    "grid",
    "grid net by",
    "grid net limit x",
    "grid net by route.name limit 5 within route.region",
    "grid net by route.region split by route.region",
    "grid net where route.region = 'North",
    "grid net by route.region where net > 1 by route.name",
    "grid net having 5",
    "grid net as sum",
    "records booking.net by route.name",
    "records port.name, sailing.capacity",
    // Legal, and probably not meant
    "grid net given (without route.region) by route.region, route.name",
    "grid net given (instead route.region = 'North') by route.name",
    "grid avg(booking.net / booking.gross)",
    "grid sum(net given (without route.name) per route)",
];

/// Columns of `booking` or `route`, each in a model of its own.
const COLUMNS: &[(&str, &str)] = &[
    ("booking", "sum(net)"),
    ("booking", "sum(booking.net) / 2"),
    ("booking", "sum(booking.net) given (without row)"),
    ("booking", "net / gross"),
    ("booking", "rows(route)"),
    ("booking", "sailing.capacity"),
    ("booking", "port.name via route.arrival_port"),
    ("booking", "port.name via route.arival_port"),
    ("route", "booking.net"),
    ("route", "sum(booking.net) given (without route.name)"),
    ("route", "x + 1"),
    ("route", "cast(name as int)"),
];

fn told(text: &mut String, subject: &str, problems: &[Diagnostic]) {
    let _ = writeln!(text, "{subject}");
    if problems.is_empty() {
        let _ = writeln!(text, "    nothing is wrong with it");
    }
    for p in problems {
        let place = p.source.as_ref().map_or_else(String::new, |s| format!(" at `{}`", s.slice(p.span)));
        let word = format!("{:?}", p.severity).to_lowercase();
        let _ = writeln!(text, "    {word}: {}{place}", p.message);
        if let Some(help) = &p.help {
            let _ = writeln!(text, "    help: {help}");
        }
    }
    let _ = writeln!(text);
}

#[test]
fn the_gallery_is_as_it_was_read_through() {
    let model = builder().build().unwrap();
    let mut text = String::new();
    for query in QUERIES {
        match model.query(query) {
            Ok(query_plan) => told(&mut text, query, query_plan.warnings()),
            Err(e) => told(&mut text, query, e.problems()),
        }
    }
    for (table, formula) in COLUMNS {
        let subject = format!("column of {table}: {formula}");
        match builder().column(table, "made", formula).build() {
            Ok(model) => told(&mut text, &subject, model.warnings()),
            Err(e) => told(&mut text, &subject, e.problems()),
        }
    }
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/suite/snapshots/gallery.txt");
    if std::env::var_os("UPDATE_GALLERY").is_some() {
        std::fs::write(path, &text).unwrap();
    }
    let known = std::fs::read_to_string(path).unwrap();
    for (found, expected) in text.split("\n\n").zip(known.split("\n\n")) {
        assert_eq!(found, expected);
    }
    assert_eq!(text.len(), known.len(), "entries were added: run with UPDATE_GALLERY=1 and read them");
}
