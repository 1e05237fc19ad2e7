//! Which reads a query becomes: as few as its filters and groups allow.
use cubrel::internals::InModel as _;
use cubrel::internals::InQuery as _;
use cubrel::plan::{Printer, read_text};
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
    let all = query.query_plan().reads();
    let with_aggregates = all.iter().filter(|r| !r.aggregates.is_empty());
    with_aggregates
        .map(|r| {
            let aggregates: Vec<String> =
                r.aggregates.iter().map(|a| Printer::new(model.schema()).aggregate(a)).collect();
            let finer: Vec<String> =
                r.roll_ups.iter().map(|f| format!(", or from {}", read_text(model.schema(), &all[f.read]))).collect();
            let by_value =
                r.by_value.map(|b| format!(", or for all values from {}", read_text(model.schema(), &all[b.read])));
            let text = read_text(model.schema(), r);
            format!("{} of {text}{}{}", aggregates.join(", "), finer.concat(), by_value.unwrap_or_default())
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
        // a dropped column is one key fewer; two measures that without the same share again
        (
            "grid net / net given (without route) as a, taken / taken given (without route) as b by route.name, calendar.month",
            &[
                "sum(booking.net), sum(booking.taken) of booking by route.name, calendar.month",
                "sum(booking.net), sum(booking.taken) of booking by calendar.month, or from booking by route.name, calendar.month",
            ],
        ),
        // filters written in another order or twice are the same
        (
            "grid net given (booking.kind = 'a', route.name = 'x') as p, net given (route.name = 'x', booking.kind = 'a') as q",
            &["sum(booking.net) of booking where (booking.kind = 'a') and (route.name = 'x')"],
        ),
        // what cannot be reached does not group and does not filter
        ("grid seats by booking.kind where booking.net > 1", &["sum(sailing.seats) of sailing"]),
        // a total is a read with fewer groups, which the lines can be put together to
        (
            "grid net by route.name totals",
            &[
                "sum(booking.net) of booking by route.name",
                "sum(booking.net) of booking, or from booking by route.name",
            ],
        ),
        // per adds a group, whatever stands around it
        (
            "grid max(net per calendar.month), avg(net per calendar.month) by route.name",
            &["sum(booking.net) of booking by route.name, calendar.month"],
        ),
        // a spare relationship takes the place of the default path
        ("grid net via route.to as n by port.region", &["sum(booking.net) of booking by port.region via route.to"]),
        // a part of a filter over two columns stays when the other is dropped
        (
            "grid net given (without route.name) as n where route.name = 'x' or port.region = 'y'",
            &[
                "sum(booking.net) of booking where (port.region) of rows with ((route.name = 'x') or (port.region = 'y'))",
            ],
        ),
        // a value from outside makes a read of its own, done for each value
        (
            "grid net given (booking.net > avg(booking.net)) as n by route.name",
            &[
                "avg(booking.net) of booking by route.name",
                "sum(booking.net) of booking by route.name where (booking.net > outer 1) for each outer 1, or for all values from booking by route.name, booking.net",
                "sum(booking.net) of booking by route.name, booking.net",
            ],
        ),
    ];
    for (query, expected) in cases {
        assert_eq!(reads(query), *expected, "{query}");
    }
}

#[test]
fn an_aggregate_over_rows_one_by_one_is_one_over_the_rows() {
    let cases: &[(&str, &[&str])] = &[
        (
            "grid sum(sum(booking.net) * single(booking.taken) per booking) as x by route.name",
            &["sum((booking.net * booking.taken)) of booking by route.name"],
        ),
        // a measure in it, a column of the row, and one that it looks up
        (
            "grid avg(if(booking.kind = route.name, net, 0) + rows(booking) per booking) as x",
            &["avg((case when (booking.kind = route.name) then booking.net else 0 end + 1)) of booking"],
        ),
        // shared with what is there already
        ("grid net, sum(net per booking) as again by route.name", &["sum(booking.net) of booking by route.name"]),
        // what looks beyond the row stays
        (
            "grid sum(sum(booking.net) - sum(sailing.seats) per booking) as x",
            &["sum(booking.net) of booking by row of booking", "sum(sailing.seats) of sailing"],
        ),
        ("grid sum(net given (without row) per booking) as x", &["sum(booking.net) of booking"]),
        // a `where` is a filter of the rows
        ("grid sum(net per booking where taken > 1) as x", &["sum(booking.net) of booking where (booking.taken > 1)"]),
        // a table that others point at has combinations that are no row of it
        ("grid avg(net per route) as x", &["sum(booking.net) of booking by row of route"]),
    ];
    for (query, expected) in cases {
        assert_eq!(reads(query), *expected, "{query}");
    }
}

#[test]
fn many_values_from_outside_are_answered_by_one_read() {
    let one_read = |filter: &str, what: &str| {
        let query = format!("grid (let v = max(booking.net); {what} given ({filter})) as x by route.name");
        let read = reads(&query).into_iter().find(|r| r.contains("for each")).unwrap();
        read.split_once(", or for all values from ").map(|(_, other)| other.to_string())
    };
    let by_net = "booking by route.name, booking.net";
    for op in ["=", "<", "<=", ">", ">="] {
        assert_eq!(one_read(&format!("booking.net {op} v"), "net").as_deref(), Some(by_net), "{op}");
        assert_eq!(one_read(&format!("v {op} booking.net"), "net").as_deref(), Some(by_net), "{op}");
    }
    // What is equal is one group, whatever is asked of it; what is less is several, and not all figures add up.
    assert_eq!(one_read("booking.net = v", "avg(booking.net)").as_deref(), Some(by_net));
    for what in ["avg(booking.net)", "count(distinct booking.kind)", "median(booking.net)", "single(booking.kind)"] {
        assert_eq!(one_read("booking.net < v", what), None, "{what}");
    }
    // A column of a table that is looked up, and values that take part in more than one comparison.
    assert_eq!(one_read("vessel.seats = v", "seats").as_deref(), Some("sailing by route.name, vessel.seats"));
    assert_eq!(one_read("booking.net <> v", "net"), None);
    assert_eq!(one_read("booking.net + 1 > v", "net"), None);
    assert_eq!(one_read("booking.net > v or booking.taken > 3", "net"), None);
    assert_eq!(one_read("booking.net > v, booking.taken < v", "net"), None);
}

#[test]
fn coarser_reads_come_from_finer_ones_where_they_add_up() {
    let kinds = [("sum", true), ("min", true), ("max", true), ("count", true), ("avg", false), ("median", false)];
    for (kind, adds_up) in kinds {
        let found = reads(&format!("grid {kind}(booking.net) as x by route.name totals"));
        let total = format!("{kind}(booking.net) of booking");
        let finer = if adds_up { ", or from booking by route.name" } else { "" };
        assert_eq!(found, [format!("{total} by route.name"), format!("{total}{finer}")]);
    }
    // other rows, or a figure that the lines do not have
    let apart = [
        "grid net, net given (booking.kind = 'a') as a, net / net given (without route.name, booking.kind = 'a') as b by route.name",
        "grid taken, max(booking.net) given (without route.name) as m by route.name",
    ];
    for query in apart {
        let found = reads(query);
        assert!(found[0].contains("by route.name") && !found[1].contains("or from"), "{found:?}");
    }
}
