//! The library as its callers see it: only what stands in `lib.rs`.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use cubrel::arrow::array::{ArrayRef, Int64Array, RecordBatch, StringArray};
use cubrel::{
    Calendar, Column, Diagnostic, Error, ErrorKind, Formats, Grid, Lens, LineKind, Measure, Model, Observer, Query,
    QueryItem, QueryOptions, QueryText, RefreshOptions, Relation, Role, Silent, Type, Value, View, complete, describe,
};

fn batch(routes: &[i64], nets: &[i64]) -> RecordBatch {
    let column = |values: &[i64]| Arc::new(Int64Array::from(values.to_vec())) as ArrayRef;
    RecordBatch::try_from_iter([("route_id", column(routes)), ("net", column(nets))]).unwrap()
}

fn model() -> Model {
    let names = Arc::new(StringArray::from(vec!["Ness", "Holm"])) as ArrayRef;
    let ids = Arc::new(Int64Array::from(vec![1, 2])) as ArrayRef;
    let route = RecordBatch::try_from_iter([("id", ids), ("name", names)]).unwrap();
    Model::builder()
        .table("route", &[route])
        .table("booking", &[batch(&[1, 1, 2, 9], &[10, 20, 5, 1])])
        .define(Relation::new("booking.route_id", "route.id"))
        .define(Column::new("booking", "dear").formula("booking.net > 9").label("Dear").note("more than nine"))
        .define(Column::new("route", "name").label("Route"))
        .define(Measure::new("net", "sum(booking.net)").label("Net").format("#,##0.0").group("Money").note("no tax"))
        .define(Measure::new("hidden_net", "net * 2").hidden())
        .define(Lens::new("seen").reading("plain", "shown").reading("twice", "shown * 2").label("Seen"))
        .define(Calendar::new("calendar", "2031-01-01", "2031-12-31").week_starts("sunday"))
        .define(Role::new("ness").rows("route", "name = 'Ness'").deny("hidden_net").person("ann"))
        .definitions("[query.all]\ntext = 'grid net by route.name'\n[query.twice]\ntext = 'grid hidden_net'\n")
        .build()
        .unwrap()
}

fn lines(grid: &Grid) -> Vec<Vec<String>> {
    (0..grid.lines.len())
        .map(|l| (0..grid.columns.len()).map(|c| grid.text(l, c, &Formats::default())).collect())
        .collect()
}

fn ask(model: &Model, text: &str) -> Vec<Vec<String>> {
    lines(&model.query(text).unwrap_or_else(|e| panic!("{text}: {e}")).run().unwrap())
}

#[test]
fn models_are_shared_between_threads() {
    fn shared<T: Send + Sync + Clone + 'static>() {}
    shared::<Model>();
    shared::<View>();
    shared::<Query>();
    shared::<Error>();
    shared::<Diagnostic>();
    shared::<cubrel::Cancel>();
    shared::<cubrel::catalog::Catalog>();
}

#[test]
fn the_catalogue_says_what_the_definitions_said() {
    let model = model();
    let catalog = model.catalog();
    let names: Vec<&str> = catalog.tables.iter().map(|t| t.name.as_str()).collect();
    assert_eq!(names, ["route", "booking", "calendar"]);
    let dear = catalog.tables[1].columns.iter().find(|c| c.name == "dear").unwrap();
    assert_eq!((dear.label.as_deref(), dear.note.as_deref()), (Some("Dear"), Some("more than nine")));
    assert_eq!((dear.ty.as_str(), dear.origin, dear.formula.as_deref()), ("bool", "load", Some("booking.net > 9")));
    assert_eq!(catalog.tables[2].calendar.as_deref(), Some("date"));
    let net = &catalog.measures[0];
    assert_eq!((net.group.as_deref(), net.note.as_deref(), net.hidden), (Some("Money"), Some("no tax"), false));
    assert!(catalog.measures[1].hidden && catalog.measures[1].ty.as_deref() == Some("int"));
    assert_eq!(catalog.lenses[0].readings, ["plain", "twice"]);
    assert_eq!(
        (catalog.roles[0].name.as_str(), catalog.roles[0].people.as_slice()),
        ("ness", &["ann".to_string()][..])
    );
    let json = serde_json::to_value(&catalog).unwrap();
    assert_eq!(json["measures"][0]["type"], "int");
    assert_eq!(json["relationships"][0]["many"][0], "booking.route_id");
}

#[test]
fn a_view_has_the_methods_of_a_model_and_nothing_of_the_rest() {
    let model = model();
    let view = model.as_user(&["ness"], Some("ann")).unwrap();
    assert_eq!(ask(&view, "grid net by route.name totals"), [["Ness", "30.0"], ["total", "30.0"]]);
    let catalog = view.catalog();
    assert!(catalog.roles.is_empty() && catalog.measures.iter().all(|m| m.name != "hidden_net"));
    let saved: Vec<&str> = catalog.queries.iter().map(|q| q.name.as_str()).collect();
    assert_eq!(saved, ["all"], "a query of what is denied is not told");
    assert!(describe(&catalog, "hidden_net").is_none());
    assert!(complete(&catalog, "grid hidden", 11).iter().all(|c| !c.text.contains("hidden")));
    let error = view.query("grid hidden_net").unwrap_err();
    assert_eq!((error.kind(), error.place()), (ErrorKind::Problems, Some(("query", 1, 6))));
    assert!(model.as_user(&["nobody"], None).is_err());
    let nothing = model.as_user::<&str>(&[], None).unwrap();
    assert!(nothing.query("grid net").is_err() && nothing.catalog().tables.is_empty());
    assert!(Model::from(view).as_user(&["ness"], None).is_err(), "there is no way back");
}

#[test]
fn one_table_gets_other_rows_and_whoever_holds_the_old_model_keeps_it() {
    let old = model();
    let new = old.with_table("booking", &[batch(&[2, 2], &[100, 1])]).unwrap();
    assert_eq!(ask(&new, "grid net, rows(booking) as n by route.name"), [["Holm", "101.0", "2"]]);
    assert_eq!(ask(&new, "grid rows(booking) as n where booking.dear"), [["1"]], "columns are computed again");
    assert_eq!(ask(&old, "grid rows(booking) as n"), [["4"]]);
    let seen = new.as_user(&["ness"], None).unwrap();
    assert_eq!(ask(&seen, "grid rows(booking) as n"), [["0"]], "roles hold on the new rows");
    for (table, rows) in [
        ("bookin", batch(&[1], &[1])),
        ("booking", RecordBatch::new_empty(Arc::new(cubrel::arrow::schema::Schema::empty()))),
    ] {
        assert_eq!(old.with_table(table, &[rows]).unwrap_err().kind(), ErrorKind::Problems, "{table}");
    }
}

#[test]
fn lines_and_their_kinds() {
    let model = model();
    let text = "grid net by route.name order by net desc limit 1 others totals";
    let grid = model.query(text).unwrap().run().unwrap();
    let kinds: Vec<LineKind> = grid.lines.iter().map(|line| line.kind(0)).collect();
    assert_eq!(kinds, [LineKind::Value, LineKind::Others, LineKind::Total]);
    let grid = model.query("grid net by route.name order by net").unwrap().run().unwrap();
    assert_eq!((grid.lines[0].kind(0), grid.text(0, 0, &Formats::default())), (LineKind::None, "(none)".into()));
    assert_eq!(grid.text(9, 9, &Formats::default()), "", "there is no such cell");
    let headings: Vec<String> = grid.columns.iter().map(|c| c.heading()).collect();
    assert_eq!(headings, ["Route", "Net"]);
    let columns = model.query(text).unwrap().columns();
    assert_eq!(columns.iter().map(|c| c.heading()).collect::<Vec<_>>(), headings, "known before it is run");
    let json = serde_json::to_value(&grid).unwrap();
    assert_eq!(json["columns"][1]["kind"], "measure");
    assert_eq!(json["rows"][0], serde_json::json!([null, 1]));
    assert_eq!(grid.line_to_json(1), serde_json::json!({"route.name": "Holm", "net": 5}));
}

#[test]
fn queries_by_their_parts_ask_the_same() {
    let model = model();
    for text in [
        "grid net, net / rows(booking) as \"per row\" format '0.00' by route.name where booking.dear or net > 3 totals",
        "grid net by route.name split by seen having net > 1 order by net desc limit 5 within route.name others",
        "measure x = net * 2; grid x by route.name with empty",
        "records booking.net, route.name as \"route\" where booking.net > 1 order by booking.net desc limit 2",
    ] {
        let parts: QueryText = text.parse().unwrap();
        assert_eq!(ask(&model, text), ask(&model, &parts.to_string()), "{parts}");
    }
    let made = QueryText::grid([QueryItem::from("net").called("money")]).by("route.name").limit(1);
    assert_eq!(ask(&model, &made.to_string()), [["Holm", "5.0"]]);
    let wrong = "grid net by by".parse::<QueryText>().unwrap_err();
    assert!(!wrong.is_empty());
}

#[test]
fn errors_say_what_they_are_about_and_can_be_kept() {
    let model = model();
    let broken = model.query("grid nett").unwrap_err().clone();
    assert_eq!(broken.problems()[0].help.as_deref(), Some("did you mean `net`?"));
    let json = serde_json::to_value(broken.problems()).unwrap();
    assert_eq!((json[0]["problem"].as_str(), json[0]["column"].as_u64()), (Some("unknown_name"), Some(6)));
    let missing = Model::open("/nowhere/at/all").unwrap_err();
    assert!(matches!(missing.kind(), ErrorKind::Io | ErrorKind::Problems), "{missing}");
    let limits = cubrel::Limits { cells: Some(1), ..Default::default() };
    let options = QueryOptions { limits, ..QueryOptions::default() };
    let many = model.query_with("grid net by route.name", &options).and_then(|query| query.run()).unwrap_err();
    assert_eq!(many.kind(), ErrorKind::Limit);
    let options = QueryOptions::default();
    options.cancel.cancel();
    let ended = model.query_with("grid net", &options).and_then(|query| query.run()).unwrap_err();
    assert_eq!(ended.kind(), ErrorKind::Cancelled);
}

/// Stops at the first rows that it is told of.
#[derive(Default)]
struct Impatient(AtomicBool);

impl Observer for Impatient {
    fn rows(&self, _: &str, _: u64) {
        self.0.store(true, Ordering::Relaxed);
    }

    fn wants_to_stop(&self) -> bool {
        self.0.load(Ordering::Relaxed)
    }
}

#[test]
fn whoever_watches_can_stop() {
    let folder = tempfile::tempdir().unwrap();
    let rows = (0..200_000).map(|i| format!("{i},{}\n", i * 7)).collect::<String>();
    std::fs::write(folder.path().join("t.csv"), format!("a,b\n{rows}")).unwrap();
    std::fs::write(folder.path().join("model.toml"), "[table.t]\nsource = 't.csv'\n").unwrap();
    let stopped = Model::refresh(folder.path(), &RefreshOptions::default(), &Impatient::default());
    assert_eq!(stopped.unwrap_err().kind(), ErrorKind::Cancelled);
    let (model, report) = Model::refresh(folder.path(), &RefreshOptions::default(), &Silent).unwrap();
    assert_eq!(ask(&model, "grid rows(t) as n"), [["200,000"]]);
    assert_eq!(serde_json::to_value(&report).unwrap()["tables"][0]["rows"], 200_000);
}

#[test]
fn what_is_listed_can_be_called() {
    let model = model();
    let mut asked = 0;
    for entry in cubrel::functions() {
        if let Some((formula, result)) = entry.example {
            let grid = model.query(&format!("grid {formula} as x")).unwrap_or_else(|e| panic!("{formula}: {e}")).run();
            let value = grid.unwrap().lines[0].values[0].clone();
            let found = if value.is_null() { String::new() } else { value.to_string() };
            assert_eq!(found, result, "{formula}");
            asked += 1;
        }
    }
    assert!(asked >= 50, "{asked}");
    assert_eq!(cubrel::guessed("2031-02-28").natural_type(), Type::Date);
    assert_eq!(cubrel::guessed("x'"), Value::text("x'"));
}

/// What stands in `lib.rs` without the layers: so much is promised, and no more.
#[test]
fn the_face_is_small() {
    let lib = std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/src/lib.rs")).unwrap();
    let face = lib.split("// Models.").nth(1).unwrap();
    let words = face.split(|c: char| !c.is_alphanumeric() && c != '_');
    let types =
        words.filter(|w| w.chars().next().is_some_and(char::is_uppercase)).collect::<std::collections::BTreeSet<_>>();
    assert!(types.len() <= 60, "{} types: {types:?}", types.len());
    let open = lib.matches("\npub mod ").count();
    assert_eq!(open, 1 + 1 + 3, "arrow, and behind the feature the layers that are modules and what looks into them");
}
