//! Why a cell has its value: every part in its own context, and the rows that give the number again.

use std::fmt::Write;

use crate::common::Random;
use cubrel::why::{Why, WhyOptions, WhyPart};
use cubrel::{Model, Type, Value};

fn why(model: &Model, text: &str, at: &str) -> Why {
    let options = WhyOptions { rows: 3, ..WhyOptions::default() };
    model.why(text, at, &options).unwrap_or_else(|e| panic!("{text} at {at}: {e}"))
}

fn drawn(part: &WhyPart, depth: usize, text: &mut String) {
    let value = part.value.as_ref().map_or_else(String::new, |v| format!(" = {v}"));
    let read = part.read.as_ref().map_or_else(String::new, |(t, left, rows)| format!(" [{left}/{rows} {t}]"));
    let note = part.note.as_ref().map_or_else(String::new, |n| format!(" ({n})"));
    let _ = writeln!(text, "{}{}{value}{read}{note}", "  ".repeat(depth), part.text);
    for (sign, list) in [("-", &part.removed), ("+", &part.added)] {
        for f in list {
            let _ = writeln!(text, "{}{sign} {}", "  ".repeat(depth + 1), f.text);
        }
    }
    part.parts.iter().for_each(|p| drawn(p, depth + 1, text));
}

fn tree(model: &Model, text: &str, at: &str) -> String {
    let mut drawing = String::new();
    drawn(&why(model, text, at).tree, 0, &mut drawing);
    drawing
}

fn model() -> Model {
    let text = Value::text;
    let rows = [("r1", 10), ("r1", 20), ("r2", 5), ("r9", 1)].map(|(r, n)| vec![text(r), Value::Int(n)]);
    Model::builder()
        .definitions("[role.north]\nrows.route = \"region = 'North'\"")
        .rows(
            "route",
            &[("id", Type::Text), ("name", Type::Text), ("region", Type::Text)],
            &[vec![text("r1"), text("Ness–Holm"), text("North")], vec![text("r2"), text("Holm–Skaw"), text("South")]],
        )
        .rows("booking", &[("route", Type::Text), ("amount", Type::Int)], &rows)
        .relationship("booking.route", "route.id")
        .measure("net", "sum(booking.amount)")
        .measure("share", "net / net given (without route.region)")
        .column("route", "total", "sum(booking.amount)")
        .column("booking", "large", "if(amount > 5 and coalesce(route.name, 'x') <> 'x', 'yes', 'no')")
        .build()
        .unwrap()
}

#[test]
fn a_share_shows_what_was_dropped_and_what_was_not() {
    let m = model();
    assert_eq!(
        tree(&m, "grid share by route.region", "route.region = 'South'"),
        "share = 0.1388888888888889
  net / net given (without route.region) = 0.1388888888888889
    net = 5
      sum(booking.amount) = 5 [1/4 booking]
    net given (without route.region) = 36
      - route.region = 'South'
      net = 36
        sum(booking.amount) = 36 [4/4 booking]
"
    );
    // Stuck at 100 %: the column on the axis is another one of the same table, so nothing is dropped.
    let stuck = tree(&m, "grid share by route.name", "route.name = 'Holm–Skaw'");
    assert!(!stuck.contains("- route") && stuck.contains("net given (without route.region) = 5"), "{stuck}");
}

#[test]
fn filters_have_their_origin_and_tables_the_rows_left() {
    let found = why(
        &model(),
        "grid net given (booking.amount > 5) as n by route.region where route.name <> 'x'",
        "route.region = 'North'",
    );
    let filters: Vec<(String, &str)> = found.filters.iter().map(|f| (f.text.clone(), f.origin)).collect();
    assert_eq!(filters, [("route.region = 'North'".to_string(), "row axis"), ("route.name <> 'x'".into(), "where")]);
    let tables: Vec<(&str, u64, u64)> = found.tables.iter().map(|t| (t.table.as_str(), t.left, t.rows)).collect();
    assert_eq!(tables, [("route", 1, 2), ("booking", 2, 4)]);
    assert_eq!(found.tree.parts[0].added[0].text, "booking.amount > 5");
    assert_eq!(found.rows[0].again, Some(Value::Int(30)));
    assert_eq!((found.rows[0].count, found.rows[0].columns.join(" ")), (2, "route amount large".to_string()));
}

#[test]
fn only_the_branch_taken_is_shown() {
    let m = model();
    let shown = tree(&m, "grid if(rows(booking) > 2, net, 0 - net) as n by route.region", "route.region = 'South'");
    assert!(shown.contains("0 - net = -5") && shown.contains("rows(booking) > 2 = false"), "{shown}");
    assert_eq!(shown.matches("  net = ").count(), 1, "{shown}");
}

#[test]
fn per_sets_ranks_and_lets() {
    let m = model();
    let shown = tree(&m, "grid max(net per route.name where net > 1) as best", "");
    assert!(shown.contains("= 30 (over 2 combinations; 1 more do not meet the `where`)"), "{shown}");
    assert!(shown.contains("    route.name = 'Ness–Holm' = 30\n    route.name = 'Holm–Skaw' = 5\n"), "{shown}");
    let shown = tree(&m, "grid net given (route.name in top(1, net per route.name)) as n", "");
    assert!(shown.contains("top(1, net per route.name) (chosen: Ness–Holm)"), "{shown}");
    let shown = tree(&m, "grid rank(net per route.name) as place by route.name", "route.name = 'Holm–Skaw'");
    assert!(shown.starts_with("place = 2\n  rank(net per route.name) = 2 (of 3 values that have a figure)"), "{shown}");
    let shown = tree(
        &m,
        "grid (let all_of_it = net given (without all); net / all_of_it) as n by route.region",
        "route.region is null",
    );
    assert!(shown.contains("net given (without all) = 36") && shown.contains("all_of_it = 36"), "{shown}");
}

#[test]
fn a_row_of_a_calculated_column() {
    let m = model();
    let found = why(&m, "route.total", "route.id = 'r1'");
    assert_eq!((found.value.clone(), found.filters[0].origin), (Value::Int(30), "bound row"));
    assert_eq!(found.filters[0].text, "the row of route with route.id = 'r1'");
    assert_eq!(found.rows[0].again, Some(Value::Int(30)));
    let found = why(&m, "booking.large", "booking.amount = 1");
    assert_eq!(found.value, Value::text("no"));
    let e = m.why("route.total", "route.id = 'r7'", &WhyOptions::default()).unwrap_err().to_string();
    assert!(e.contains("route.id has no value 'r7'") && e.contains("did you mean `route.id = 'r"), "{e}");
    let e = m.why("route.name", "route.id = 'r1'", &WhyOptions::default()).unwrap_err().to_string();
    assert!(e.contains("route.name is not calculated"), "{e}");
}

#[test]
fn places_that_are_none_are_refused() {
    let m = model();
    for (text, at, expected) in [
        ("grid net by route.region", "route.name = 'x'", "route.name is not an axis of the grid"),
        ("grid net by route.region", "route.region = 'Nort'", "did you mean `route.region = 'North'`?"),
        ("grid net by route.region", "route.region > 'N'", "this says not where a cell stands"),
        ("grid net by route.region", "route.region = 5", "route.region is text, this is 5"),
        ("records booking.amount", "", "records have no cells"),
    ] {
        let e = m.why(text, at, &WhyOptions::default()).unwrap_err().to_string();
        assert!(e.contains(expected), "{text} at {at}: {e}");
    }
    let options = WhyOptions { item: Some("profit".into()), ..WhyOptions::default() };
    let e = m.why("grid net", "", &options).unwrap_err().to_string();
    assert!(e.contains("the grid has no item `profit`"), "{e}");
}

#[test]
fn a_role_leaves_its_rows() {
    let seen = model().as_user(&["north"], None).unwrap();
    let found = seen.why("grid net", "", &WhyOptions::default()).unwrap();
    assert_eq!((found.value, found.tables[0].left, found.tables[0].rows), (Value::Int(30), 2, 2));
    assert!(found.notes[0].contains("asked as north"));
}

/// For every cell of random grids the explanation has the grid's value, and the rows give the plain aggregate again.
#[test]
fn the_explanation_has_the_value_of_the_cell() {
    let m = model();
    let r = &mut Random(11);
    let items = [
        "net",
        "share",
        "avg(booking.amount)",
        "rows(booking)",
        "count(distinct booking.route)",
        "min(booking.amount) given (without route)",
        "net given (instead route.region = 'North')",
        "max(net per route.name)",
        "coalesce(net, 0) - 1",
        "case when net > 5 then net end",
        "rank(net per route.region)",
    ];
    for _ in 0..60 {
        let item = r.pick(&items);
        let axis = r.pick(&["route.region", "route.name", "booking.route"]);
        let text = format!("grid {item} as x by {axis}");
        for line in m.query(&text).unwrap().run().unwrap().lines {
            let at = match &line.values[0] {
                Value::Null => format!("{axis} is null"),
                value => format!("{axis} = '{value}'"),
            };
            let found = why(&m, &text, &at);
            assert_eq!(found.value, line.values[1], "{text} at {at}");
            for rows in &found.rows {
                let part = search(&found.tree, &rows.of).unwrap_or_else(|| panic!("{} in {text}", rows.of));
                if let Some(again) = &rows.again {
                    assert_eq!(Some(again), part.value.as_ref(), "{text} at {at}");
                }
            }
        }
    }
}

fn search<'p>(part: &'p WhyPart, text: &str) -> Option<&'p WhyPart> {
    if part.text == text && part.read.is_some() {
        return Some(part);
    }
    part.parts.iter().find_map(|p| search(p, text))
}
