//! The binary: on the demo model, and on bad input.
use std::fs;
use std::path::{Path, PathBuf};
use std::process::Output;
use std::sync::LazyLock;

use assert_cmd::Command;
use serde_json::Value as Json;
use tempfile::TempDir;

/// One demo model for all tests that only read it.
static DEMO: LazyLock<(TempDir, String)> = LazyLock::new(|| {
    let folder = tempfile::tempdir().unwrap();
    let output = cubrel(folder.path(), &["demo", "ferries", "--rows", "30000"]);
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    (folder, String::from_utf8(output.stdout).unwrap())
});

fn cubrel(folder: &Path, args: &[&str]) -> Output {
    Command::cargo_bin("cubrel").unwrap().current_dir(folder).args(args).output().unwrap()
}

fn demo(args: &[&str]) -> Output {
    let mut all = vec!["-m", "ferries"];
    all.extend(args);
    cubrel(DEMO.0.path(), &all)
}

fn stdout(output: &Output) -> String {
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8(output.stdout.clone()).unwrap()
}

fn json(args: &[&str]) -> Json {
    serde_json::from_str(&stdout(&demo(args))).unwrap()
}

/// A copy of the demo that a test may spoil.
fn own_copy() -> TempDir {
    let folder = tempfile::tempdir().unwrap();
    let from = DEMO.0.path().join("ferries");
    fs::create_dir_all(folder.path().join("data")).unwrap();
    fs::copy(from.join("model.toml"), folder.path().join("model.toml")).unwrap();
    for file in fs::read_dir(from.join("data")).unwrap() {
        let file = file.unwrap();
        fs::copy(file.path(), folder.path().join("data").join(file.file_name())).unwrap();
    }
    folder
}

fn replace(folder: &TempDir, file: &str, from: &str, to: &str) {
    let path = folder.path().join(file);
    let text = fs::read_to_string(&path).unwrap();
    assert!(text.contains(from), "{file} has no {from}");
    fs::write(path, text.replacen(from, to, 1)).unwrap();
}

fn append(folder: &TempDir, file: &str, more: &str) {
    let path = folder.path().join(file);
    let text = fs::read_to_string(&path).unwrap();
    fs::write(path, text + more).unwrap();
}

#[test]
fn the_tour_ends_with_a_grid_its_time_and_its_bytes() {
    let tour = &DEMO.1;
    for part in [
        "Net revenue by year",
        "North Sound",
        "(none)",
        "total",
        "the median of 5 runs",
        "read sum(booking.net)",
        "booking.booking_ref",
        "R99",
    ] {
        assert!(tour.contains(part), "no {part} in\n{tour}");
    }
    assert!(!tour.contains('\u{1b}'), "no colours on a pipe");
}

#[test]
fn the_demo_is_the_same_every_time() {
    let again = tempfile::tempdir().unwrap();
    let output = cubrel(again.path(), &["demo", "other", "--rows", "30000", "-q", "--format", "json"]);
    let tour: Json = serde_json::from_str(&stdout(&output)).unwrap();
    assert_eq!(tour["refresh"]["unmatched"][0]["rows"], tour["odd_rows"]["orphan_routes"], "what was hidden is found");
    let customers =
        tour["odd_rows"]["orphan_customers"].as_u64().unwrap() + tour["odd_rows"]["no_customer"].as_u64().unwrap();
    let unmatched = tour["refresh"]["unmatched"].as_array().unwrap();
    let found = unmatched.iter().find(|u| u["one"] == "customer.id").unwrap();
    assert_eq!(found["rows"].as_u64(), Some(customers));
    for file in ["booking-2024.csv", "booking-2026.csv", "sailing.csv", "customer.csv"] {
        let read = |folder: &Path, model: &str| fs::read(folder.join(model).join("data").join(file)).unwrap();
        assert!(read(DEMO.0.path(), "ferries") == read(again.path(), "other"), "{file} differs");
    }
}

#[test]
fn a_query_answers_in_every_format() {
    let query = "grid bookings, load_factor by port.region split by calendar.year totals";
    let table = stdout(&demo(&["query", query]));
    assert!(table.contains("2024") && table.contains("Load factor") && table.contains('%'), "{table}");
    let csv = stdout(&demo(&["query", query, "--format", "csv"]));
    assert!(csv.starts_with("port.region,calendar.year,bookings,load_factor,total\n"), "{csv}");
    let markdown = stdout(&demo(&["query", query, "--format", "markdown"]));
    assert!(markdown.contains("|---|---:|"), "{markdown}");
    let grid = json(&["query", query, "--format", "json"]);
    let kinds: Vec<&str> = grid["columns"].as_array().unwrap().iter().map(|c| c["kind"].as_str().unwrap()).collect();
    assert_eq!(kinds, ["row", "column", "measure", "measure", "total"]);
    let rows = grid["rows"].as_array().unwrap();
    let grand = rows.last().unwrap();
    assert_eq!(grand[2], 30_000);
    assert_eq!(grand[4], serde_json::json!(["port.region", "calendar.year"]));
    let plain: u64 = rows.iter().filter(|r| r[4] == serde_json::json!([])).map(|r| r[2].as_u64().unwrap_or(0)).sum();
    assert_eq!(plain, 30_000, "every booking is in one cell");
}

#[test]
fn figures_of_the_demo_hold_together() {
    let one = |query: &str| json(&["query", query, "--format", "json"])["rows"][0][0].clone();
    assert_eq!(one("grid rows(booking) where route.name is null").as_u64(), Some(3), "orphan routes");
    let csv = fs::read_to_string(DEMO.0.path().join("ferries/data/booking-2025.csv")).unwrap();
    let lines = csv.lines().count() as u64 - 1;
    assert_eq!(one("grid bookings where calendar.year = 2025").as_u64(), Some(lines));
    let (sailed, booked) =
        (one("grid net_revenue where calendar.year = 2025"), one("grid booked_revenue where calendar.year = 2025"));
    assert_ne!(sailed, booked, "the two dates differ");
    assert_eq!(
        booked,
        one("grid net_revenue where booked_calendar.year = 2025"),
        "a spare relationship and a second calendar agree"
    );
    let shares = json(&["query", "grid share_of_revenue by route.name", "--format", "json"]);
    let sum: f64 = shares["rows"].as_array().unwrap().iter().map(|r| r[1].as_f64().unwrap()).sum();
    assert!((sum - 1.0).abs() < 1e-9, "{sum}");
    assert_eq!(
        one("grid rows(sailing) where route.id = 'R12' and calendar.month_of_year in (1, 2)").as_u64(),
        Some(0),
        "no winter sailings"
    );
}

#[test]
fn the_business_order_is_kept() {
    let rows = json(&["query", "grid net_revenue by region.name", "--format", "json"]);
    let names: Vec<&Json> = rows["rows"].as_array().unwrap().iter().map(|r| &r[0]).collect();
    assert_eq!(
        names,
        ["North Sound", "Middle Reach", "South Skerries", "Outer Banks"]
            .map(Json::from)
            .iter()
            .chain([&Json::Null])
            .collect::<Vec<_>>()
    );
    let months = stdout(&demo(&["query", "grid bookings by calendar.month_name", "--format", "csv"]));
    assert!(months.lines().nth(1).unwrap().starts_with("January"), "{months}");
}

#[test]
fn saved_queries_parameters_and_standard_input() {
    assert!(stdout(&demo(&["query", "routes"])).contains("Ness–Holm"));
    let set = stdout(&demo(&[
        "query",
        "grid bookings where calendar.year in ($years)",
        "--set",
        "years=2024,2025",
        "--format",
        "csv",
    ]));
    let both = stdout(&demo(&["query", "grid bookings where calendar.year <= 2025", "--format", "csv"]));
    assert_eq!(set, both);
    let piped = Command::cargo_bin("cubrel")
        .unwrap()
        .current_dir(DEMO.0.path())
        .args(["-m", "ferries", "query", "-", "--format", "csv"])
        .write_stdin("grid bookings")
        .output()
        .unwrap();
    assert_eq!(stdout(&piped), "bookings\n30000\n");
    let today = stdout(&demo(&["query", "grid year(today()) as y", "--today", "1999-12-31", "--format", "csv"]));
    assert_eq!(today, "y\n1999\n");
}

#[test]
fn sizes_add_up_to_what_the_model_holds() {
    let size = json(&["size", "--format", "json"]);
    let tables = size["tables"].as_array().unwrap();
    let bytes = |v: &Json| v["bytes"].as_u64().unwrap();
    assert_eq!(tables.iter().map(bytes).sum::<u64>(), bytes(&size["model"]));
    for table in tables {
        let columns = table["columns"].as_array().unwrap();
        assert_eq!(columns.iter().map(bytes).sum::<u64>(), bytes(table));
        for column in columns {
            let parts: u64 = column["parts"].as_object().unwrap().values().map(|p| p.as_u64().unwrap()).sum();
            assert_eq!(parts, bytes(column), "{column}");
        }
    }
    let keys: u64 = size["relationships"].as_array().unwrap().iter().map(|r| r["link_bytes"].as_u64().unwrap()).sum();
    let in_columns: u64 = tables
        .iter()
        .flat_map(|t| t["columns"].as_array().unwrap())
        .map(|c| c["parts"]["links"].as_u64().unwrap())
        .sum();
    assert_eq!(keys, in_columns);
    assert!(stdout(&demo(&["size"])).contains("times smaller than its"));
    assert!(stdout(&demo(&["size", "--flat", "--sort", "name"])).contains("booking.booked_at"));
    let tree = stdout(&demo(&["size", "--sort", "distinct"]));
    assert!(tree.contains("→ customer.id") && tree.contains("generated") && tree.contains("shared with calendar"));
}

#[test]
fn what_is_supposed_is_measured_and_changes_nothing() {
    let before = json(&["size", "--format", "json"]);
    let suppose = |changes: &[&str]| {
        let mut args = vec!["size", "--format", "json"];
        changes.iter().for_each(|c| args.extend(["--suppose", *c]));
        json(&args)
    };
    let column = |size: &Json, name: &str| {
        let of = |v: &Json, n: &str| v.as_array().unwrap().iter().find(|x| x["name"] == n).cloned();
        let (table, column) = name.split_once('.').unwrap();
        of(&of(&size["tables"], table).unwrap()["columns"], column)
    };
    let bytes = |size: &Json, name: &str| column(size, name).unwrap()["bytes"].as_u64().unwrap();
    let both = suppose(&["drop booking.booking_ref", "round booking.booked_at to day"]);
    assert_eq!(both["before"], before);
    assert_eq!(column(&both["after"], "booking.booking_ref"), None);
    assert!(bytes(&both["after"], "booking.booked_at") * 2 < bytes(&before, "booking.booked_at"));
    let model = |size: &Json| size["model"]["bytes"].as_u64().unwrap();
    assert!(model(&both["after"]) * 10 < model(&before) * 9);
    let split = suppose(&["split booking.booked_at"]);
    let part = |name: &str| column(&split["after"], name).unwrap();
    assert_eq!(part("booking.booked_at_date")["type"], "date");
    assert_eq!(part("booking.booked_at_time")["type"], "int");
    assert_eq!(column(&split["after"], "booking.booked_at"), None);
    let ordered = suppose(&["order booking by status, sailed_on"]);
    assert!(bytes(&ordered["after"], "booking.sailed_on") < bytes(&before, "booking.sailed_on"));
    let rounded = suppose(&["round booking.net to 0", "load booking.list_value", "round booking.booked_at to month"]);
    assert!(
        column(&rounded["after"], "booking.net").unwrap()["distinct"].as_u64()
            < column(&before, "booking.net").unwrap()["distinct"].as_u64()
    );
    assert_eq!(column(&rounded["after"], "booking.list_value").unwrap()["origin"], "load");
    assert_eq!(json(&["size", "--format", "json"]), before, "nothing has happened");
    let shown = stdout(&demo(&["size", "--suppose", "drop booking.booking_ref"]));
    assert!(shown.contains("−100.0%") && shown.contains("supposed"), "{shown}");
    for (change, expected) in [
        ("drop booking.nothing", "has no column `nothing`"),
        ("drop nothing.net", "there is no table `nothing`"),
        ("drop booking.route_id", "is the key of a relationship"),
        ("drop booked_calendar.year", "has the columns of calendar"),
        ("melt booking.net", "`melt` is not a change"),
        ("round booking.net by 2", "`to` is missing here"),
        ("round booking.net to much", "a number of digits, or a unit of time"),
        ("round booking.net to hour", "only dates and timestamps have units"),
        ("split booking.net", "only timestamps can be split"),
        ("drop booking.net now", "`now` does not belong here"),
        ("order booking by", "a name is missing here"),
    ] {
        let output = demo(&["size", "--suppose", change]);
        let said = String::from_utf8_lossy(&output.stderr).into_owned();
        assert_eq!(output.status.code(), Some(2), "{change}");
        assert!(said.contains(expected), "{change}: {said}");
    }
}

#[test]
fn two_models_are_compared_by_size() {
    let folder = own_copy();
    replace(
        &folder,
        "model.toml",
        "[table.booking.column.booking_ref]\nhidden = true",
        "[table.booking.column.booking_ref]\nkeep = false",
    );
    let other = folder.path().to_str().unwrap();
    let compared = cubrel(DEMO.0.path(), &["compare", "ferries", other, "--sizes", "--format", "csv"]);
    let lines: Vec<String> = stdout(&compared).lines().map(str::to_string).collect();
    assert!(lines.iter().any(|l| l.starts_with("booking.booking_ref,") && l.contains(",-1.000000,")), "{lines:?}");
    let last: Vec<&str> = lines.last().unwrap().split(',').collect();
    let number = |i: usize| last[i].parse::<i64>().unwrap();
    assert_eq!((last[0], number(2) - number(1)), ("model", number(3)));
    let same = cubrel(DEMO.0.path(), &["compare", "ferries", "ferries", "--sizes"]);
    assert_eq!(stdout(&same).lines().count(), 2, "what is the same is not listed");
}

#[test]
fn time_shows_each_read_once_and_counts_the_same_every_run() {
    let query = "grid net_revenue, share_of_revenue, fare_per_passenger by port.region";
    fn reads<'a>(node: &'a Json, into: &mut Vec<&'a Json>) {
        if node.get("rows_read").is_some() {
            into.push(node);
        }
        node["parts"].as_array().into_iter().flatten().for_each(|p| reads(p, into));
    }
    let counters = || -> Vec<(String, u64, u64, u64)> {
        let timed = json(&["time", query, "--runs", "2", "--format", "json"]);
        assert!(timed["warm"]["median_ms"].as_f64().unwrap() > 0.0 && timed["cold"]["ms"].as_f64().unwrap() > 0.0);
        let mut list = Vec::new();
        timed["tree"].as_array().unwrap().iter().for_each(|n| reads(n, &mut list));
        let number = |n: &Json, key: &str| n[key].as_u64().unwrap();
        list.iter()
            .map(|n| (n["part"].to_string(), number(n, "rows_read"), number(n, "bytes_read"), number(n, "groups")))
            .collect()
    };
    let first = counters();
    assert_eq!(first, counters());
    let of_bookings: Vec<_> = first.iter().filter(|(part, ..)| part.starts_with("\"booking")).collect();
    assert_eq!(of_bookings.len(), 2, "three measures, two reads of bookings: {first:?}");
    // Of the two one goes through the rows; what all regions brought is put together from its groups.
    let rows: Vec<(u64, u64)> = of_bookings.iter().map(|(_, rows, _, groups)| (*rows, *groups)).collect();
    assert_eq!(rows, [(30_000, 5), (0, 1)]);
    let shown = stdout(&demo(&["time", query, "--runs", "1"]));
    assert_eq!(shown.matches("rolled up: sum(booking.net) of booking\n").count(), 1, "{shown}");
    let each = stdout(&demo(&["time", query, "--runs", "1", "--each"]));
    assert_eq!(each.lines().count(), 4, "{each}");
}

#[test]
fn functions_are_listed_and_found() {
    assert!(stdout(&demo(&["functions"])).contains("percentile_cont"));
    assert!(stdout(&demo(&["functions", "round", "--format", "json"])).contains("half away from zero"));
    let wrong = demo(&["functions", "ruond"]);
    assert_eq!(wrong.status.code(), Some(2));
    assert!(String::from_utf8_lossy(&wrong.stderr).contains("did you mean `round`?"));
}

#[test]
fn results_go_to_a_file_and_leave_no_half_of_one() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("out.csv");
    let name = file.to_str().unwrap();
    assert!(demo(&["query", "grid bookings", "--format", "csv", "-o", name]).status.success());
    assert_eq!(fs::read_to_string(&file).unwrap(), "bookings\n30000\n");
    assert_eq!(demo(&["query", "grid bookings +", "-o", name]).status.code(), Some(2));
    assert_eq!(fs::read_to_string(&file).unwrap(), "bookings\n30000\n", "a failed query leaves the file");
    let nowhere = demo(&["query", "grid bookings", "-o", "/nonexistent/out.csv"]);
    assert_eq!(nowhere.status.code(), Some(2));
    assert!(String::from_utf8_lossy(&nowhere.stderr).contains("/nonexistent/out.csv cannot be written"));
}

#[test]
fn only_what_has_changed_is_read_again() {
    let folder = own_copy();
    let refresh =
        || -> Json { serde_json::from_str(&stdout(&cubrel(folder.path(), &["refresh", "--format", "json"]))).unwrap() };
    let read = |report: &Json| -> Vec<String> {
        let tables = report["tables"].as_array().unwrap().iter();
        tables
            .filter(|t| t["read"] == true && t["source_bytes"] != 0)
            .map(|t| t["table"].as_str().unwrap().to_string())
            .collect()
    };
    assert_eq!(read(&refresh()).len(), 11);
    assert_eq!(read(&refresh()), Vec::<String>::new());
    append(&folder, "data/channel.csv", "C6,Kiosk,desk\n");
    let query = cubrel(folder.path(), &["query", "grid rows(channel) as n", "--format", "csv"]);
    assert!(String::from_utf8_lossy(&query.stderr).contains("read channel"), "it says that it refreshed first");
    assert_eq!(stdout(&query), "n\n6\n");
    assert_eq!(read(&refresh()), Vec::<String>::new(), "the query has refreshed already");
    // A formula is changed: nothing is read, but columns computed after loading are computed again.
    replace(&folder, "model.toml", "formula = \"net_revenue\"", "formula = \"net_revenue * 2\"");
    let doubled = "grid sum(customer.spent) / net_revenue given (customer.id is not null) as x";
    let twice = cubrel(folder.path(), &["query", doubled, "--format", "csv"]);
    assert_eq!(stdout(&twice), "x\n2.0\n".replace("2.0", "2"));
}

/// Each is a change of a good model, and what the answer has to say.
#[test]
fn bad_input_is_answered_and_loses_nothing() {
    type Change = fn(&TempDir);
    let cases: &[(&str, Change, &str)] = &[
        ("a typo in a key", |f| replace(f, "model.toml", "locale =", "locle ="), "unknown key `locle`"),
        ("no TOML", |f| replace(f, "model.toml", "[model]", "[model"), "model.toml:"),
        (
            "an unknown column",
            |f| replace(f, "model.toml", "sum(booking.net)", "sum(booking.nett)"),
            "did you mean `booking.net`?",
        ),
        (
            "a cycle",
            |f| {
                let columns =
                    "\n[table.channel.column.a]\nformula = \"b\"\n[table.channel.column.b]\nformula = \"a\"\n";
                append(f, "model.toml", columns);
            },
            "these formulas need each other: channel.a → channel.b → channel.a",
        ),
        (
            "two measures of one name",
            |f| append(f, "model.toml", "\n[measure.bookings]\nformula = \"1\"\n"),
            "`bookings` stands twice",
        ),
        ("a key that is not unique", |f| append(f, "data/route.csv", "R01,Again,P01,P02,1\n"), "`R01` in 2 rows"),
        (
            "text in a number column",
            |f| {
                replace(
                    f,
                    "model.toml",
                    "[table.booking.column.gross]",
                    "[table.booking.column.passengers]\ntype = \"int\"\n[table.booking.column.gross]",
                );
                append(
                    f,
                    "data/booking-2024.csv",
                    "X,1,R01,C1,STD,2024-01-01 10:00:00,2024-01-01,2024-01-01,two,12.00,0,travelled\n",
                );
            },
            "`two` in column `passengers` is not a whole number",
        ),
        ("a short row", |f| append(f, "data/booking-2024.csv", "X,1\n"), "2 fields, the header has 12"),
        (
            "an empty file",
            |f| fs::write(f.path().join("data/channel.csv"), "").unwrap(),
            "is empty: it has no header line",
        ),
        ("a missing file", |f| fs::remove_file(f.path().join("data/vessel.csv")).unwrap(), "vessel.csv"),
        ("no file for a pattern", |f| replace(f, "model.toml", "booking-*.csv", "bookings-*.csv"), "no file matches"),
        ("an unknown type", |f| replace(f, "model.toml", "decimal(10,2)", "number"), "`number` is not a type"),
        (
            "a column that is not there",
            |f| replace(f, "model.toml", "[table.booking.column.unit_fare]", "[table.booking.column.unit_far]"),
            "did you mean `unit_fare`?",
        ),
        (
            "an aggregate missing",
            |f| replace(f, "model.toml", "sum(booking.net)", "booking.net"),
            "stands outside an aggregate",
        ),
        ("too little memory", |f| replace(f, "model.toml", "8 GiB", "10 KiB"), "the memory limit has room for"),
        (
            "two ways",
            |f| append(f, "model.toml", "\n[[relationship]]\nmany = \"booking.route_id\"\none = \"port.id\"\n"),
            "two ways lead from `booking` to `port`",
        ),
    ];
    for (what, change, expected) in cases {
        let folder = own_copy();
        let quiet = cubrel(folder.path(), &["refresh", "-q"]);
        assert!(quiet.status.success() && quiet.stdout.is_empty() && quiet.stderr.is_empty(), "{quiet:?}");
        let store = store_in(folder.path());
        change(&folder);
        let output = cubrel(folder.path(), &["refresh"]);
        let text = String::from_utf8_lossy(&output.stderr).into_owned();
        assert_eq!(output.status.code(), Some(2), "{what}\n{text}");
        assert!(text.contains(expected), "{what}: no `{expected}` in\n{text}");
        assert!(store_in(folder.path()) == store, "{what}: the old data is still there");
        let files = fs::read_dir(folder.path().join(".cubrel")).unwrap().count();
        assert_eq!(files, 2, "{what}: the lock and the store; nothing half written is left");
    }
}

/// The store of a model, and its bytes.
fn store_in(folder: &Path) -> (PathBuf, Vec<u8>) {
    let path = cubrel::store::disk::generations::newest(&folder.join(".cubrel")).expect("it has one");
    let bytes = fs::read(&path).unwrap();
    (path, bytes)
}

#[test]
fn the_last_refresh_answers_while_a_source_is_away() {
    let folder = own_copy();
    let query = ["query", "grid bookings by channel.name", "--format", "csv"];
    let before = stdout(&cubrel(folder.path(), &query));
    fs::rename(folder.path().join("data/channel.csv"), folder.path().join("data/elsewhere.csv")).unwrap();
    let output = cubrel(folder.path(), &query);
    let said = String::from_utf8_lossy(&output.stderr).into_owned();
    assert_eq!((output.status.code(), stdout(&output)), (Some(0), before));
    assert!(said.contains("the data of the last refresh") && said.contains("channel.csv"), "{said}");
    assert_eq!(cubrel(folder.path(), &["refresh"]).status.code(), Some(2));
    let check = cubrel(folder.path(), &["check"]);
    assert_eq!(check.status.code(), Some(1));
    assert!(String::from_utf8_lossy(&check.stdout).contains("channel.csv"));
}

#[test]
fn a_wrong_measure_keeps_only_what_uses_it_from_being_answered() {
    let folder = own_copy();
    append(&folder, "model.toml", "\n[measure.off]\nformula = \"sum(booking.nett)\"\n");
    let refresh = cubrel(folder.path(), &["refresh"]);
    assert_eq!(refresh.status.code(), Some(0));
    assert!(String::from_utf8_lossy(&refresh.stderr).contains("1 formula of a measure is wrong"));
    assert_eq!(cubrel(folder.path(), &["query", "routes"]).status.code(), Some(0));
    let off = cubrel(folder.path(), &["query", "grid bookings, off"]);
    let said = String::from_utf8_lossy(&off.stderr).into_owned();
    assert_eq!(off.status.code(), Some(2));
    assert!(said.contains("model.toml") && said.contains("did you mean `booking.net`?"), "{said}");
    assert_eq!(cubrel(folder.path(), &["check"]).status.code(), Some(1));
}

#[test]
fn check_lists_problems_with_exit_code_1() {
    let folder = own_copy();
    let tidy = stdout(&cubrel(folder.path(), &["check"]));
    assert!(
        tidy.ends_with("nothing is wrong with this model; 1 hint\n") && tidy.starts_with("hint[orphans]"),
        "{tidy}"
    );
    append(
        &folder,
        "model.toml",
        "\n[measure.a]\nformula = \"b +\"\n[measure.c]\nformula = \"sum(booking.nett)\"\n[query.q]\ntext = \"grid nothing\"\n",
    );
    let output = cubrel(folder.path(), &["check", "--format", "json"]);
    assert_eq!(output.status.code(), Some(1));
    let list: Json = serde_json::from_slice(&output.stdout).unwrap();
    let messages: Vec<&str> = list.as_array().unwrap().iter().map(|p| p["message"].as_str().unwrap()).collect();
    assert!(
        messages.iter().any(|m| m.contains("expected a value")) && messages.iter().any(|m| m.contains("`nett`")),
        "{messages:?}"
    );
    let none = tempfile::tempdir().unwrap();
    assert_eq!(cubrel(none.path(), &["check"]).status.code(), Some(2));
}

#[test]
fn files_with_a_header_only_and_damaged_stores_are_no_obstacle() {
    let folder = own_copy();
    fs::write(folder.path().join("data/channel.csv"), "id,name,kind\n").unwrap();
    let query = ["query", "grid bookings by channel.name", "--format", "csv"];
    assert_eq!(stdout(&cubrel(folder.path(), &query)), "channel.name,bookings\n,30000\n");
    let (store, _) = store_in(folder.path());
    let mut bytes = fs::read(&store).unwrap();
    let header = u64::from_le_bytes(bytes[16..24].try_into().unwrap()) as usize;
    bytes[40..header].iter_mut().step_by(50).for_each(|b| *b ^= 1);
    fs::write(&store, &bytes).unwrap();
    let output = cubrel(folder.path(), &query);
    assert_eq!(stdout(&output), "channel.name,bookings\n,30000\n");
    assert!(String::from_utf8_lossy(&output.stderr).contains("is damaged"), "it says what it did");
}

/// Queries that stand between backticks in a text of the docs.
fn queries_of(file: &str) -> Vec<String> {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs").join(file);
    let text = fs::read_to_string(path).unwrap();
    let spans = text.split('`').skip(1).step_by(2);
    spans.filter(|s| s.starts_with("grid ") || s.starts_with("records ")).map(str::to_string).collect()
}

#[test]
fn every_query_of_the_how_to_has_lines() {
    let queries = queries_of("how-to.md");
    assert!(queries.len() > 20, "they are there");
    for query in queries {
        let answer = json(&["query", &query, "--format", "json"]);
        assert!(!answer["rows"].as_array().unwrap().is_empty(), "{query}");
    }
}

#[test]
fn why_explains_a_cell_and_a_column() {
    let place = "port.region = 'North Sound', route.name = 'Ness–Holm'";
    let query = "grid share_of_region by port.region, route.name";
    let text = stdout(&demo(&["why", query, "--at", place, "--rows", "2"]));
    for part in
        ["Filters on this cell", "row axis", "without route.name = 'Ness–Holm'", "rows of booking", "the first 2"]
    {
        assert!(text.contains(part), "no {part} in\n{text}");
    }
    let why = json(&["why", query, "--at", place, "--rows", "1", "--format", "json"]);
    let narrowed = format!("{query} where port.region = 'North Sound' and route.name = 'Ness–Holm'");
    let cell = json(&["query", &narrowed, "--format", "json"]);
    assert!((why["value"].as_f64().unwrap() - 1.0).abs() > 0.1, "not a share of one route alone");
    assert_eq!(cell["rows"].as_array().unwrap().len(), 1);
    assert_eq!(why["rows"][0]["rows"].as_array().unwrap().len(), 1);
    let column = json(&["why", "customer.spent", "--at", "customer.id = 17", "--format", "json"]);
    assert_eq!(column["filters"][0]["origin"], "bound row");
    let wrong = demo(&["why", query, "--at", "route.name = 'Ness-Holm'"]);
    assert_eq!(wrong.status.code(), Some(2));
    assert!(String::from_utf8_lossy(&wrong.stderr).contains("did you mean `route.name = 'Ness–Holm'`?"));
}

#[test]
fn roles_bars_others_and_lenses_on_the_command_line() {
    let north = json(&["query", "grid net_revenue by port.region", "--as", "north_desk", "--format", "json"]);
    assert_eq!(north["rows"].as_array().unwrap().len(), 1);
    let denied = demo(&["query", "grid of_target", "--as", "north_desk"]);
    assert_eq!(denied.status.code(), Some(2));
    assert!(String::from_utf8_lossy(&denied.stderr).contains("nothing is called `of_target`"));
    let bars = stdout(&demo(&["query", "grid bookings by route.name order by bookings desc limit 2 others", "--bars"]));
    assert!(bars.contains('█') && bars.contains("others"), "{bars}");
    let flat = json(&["query", "grid bookings by route.name limit 2 others", "--format", "json"]);
    assert_eq!(flat["rows"][2].as_array().unwrap().last().unwrap()[0], "route.name");
    let seen = stdout(&demo(&["query", "grid bookings split by period where calendar.month = date '2025-03-01'"]));
    assert!(seen.contains("Month to date") && seen.contains("A year ago"), "{seen}");
    let warned = demo(&["query", "grid net_revenue given (without route.id) as n by route.name limit 1"]);
    assert!(warned.status.success());
    assert!(String::from_utf8_lossy(&warned.stderr).contains("route.name on an axis still filters the same table"));
}

#[test]
fn a_draft_of_the_demos_files_is_its_model_in_outline() {
    let folder = own_copy();
    fs::remove_file(folder.path().join("model.toml")).unwrap();
    let text = stdout(&cubrel(folder.path(), &["draft", "data"]));
    for part in [
        "booking.customer_id points at customer.id",
        "booking.fare_code points at fare_class.code",
        "route.departure_port_id points at port.id",
        "route.arrival_port_id points at port.id, spare",
        "sailing.vessel_id points at vessel.id",
        "port.region points at region.name",
    ] {
        assert!(text.contains(part), "no {part} in\n{text}");
    }
    let toml = fs::read_to_string(folder.path().join("model.toml")).unwrap();
    for part in [
        "source = \"data/booking*.csv\"",
        "missing = [\"\", \"NA\"]",
        "formula = \"sum(booking.concession)\"",
        "many = \"booking.booked_on\"\none = \"calendar.date\"",
        "many = \"booking.sailed_on\"\none = \"calendar.date\"\nspare = true",
        "[table.fare_class.column.name]\ndisplay_order = \"boarding_order\"",
        "formula = \"sum(booking.passengers)\"",
        "formula = \"avg(booking.unit_fare)\"",
    ] {
        assert!(toml.contains(part), "no {part} in\n{toml}");
    }
    let grid = stdout(&cubrel(folder.path(), &["query", "grid booking_rows by port.region totals", "--format", "csv"]));
    assert!(grid.contains("North Sound") && grid.ends_with("30000,port.region\n"), "{grid}");
    let again = cubrel(folder.path(), &["draft", "data"]);
    assert_eq!(again.status.code(), Some(2), "what is there is not written over");
}

#[test]
fn a_draft_of_messy_files_loads() {
    let folder = tempfile::tempdir().unwrap();
    let write = |name: &str, text: &str| fs::write(folder.path().join(name), text).unwrap();
    write(
        "Shops.csv",
        "\u{feff}Shop No;Name;Opened\n001;North Quay;01/02/2019\n002;South Quay;28/11/2020\n003;Old Harbour;15/06/2021\n",
    );
    write(
        "sales 2024.csv",
        "id,when,shop_no,amount,qty\n1,2024-01-05 09:30,001,\"12,50\",1\n2,2024-02-30 10:00,002,\"1.003,00\",2\n3,2024-03-01 11:15,003,\"7,00\",3\n",
    );
    write(
        "sales 2025.csv",
        "id,when,shop_no,amount,qty\n4,2025-01-05 09:30,001,\"12,00\",1\n5,2025-02-03 10:00,009,\"3,10\",2\n",
    );
    fs::write(folder.path().join("catch.csv"), b"boat;harbour\r\n1;Gr\xf6n\xf6\r\n2;\"Tr\xe5vik\r\nOst\"\r\n").unwrap();
    write("notes.txt", "not a table");
    let text = stdout(&cubrel(folder.path(), &["draft", "."]));
    assert!(text.contains("sales: 5 rows"), "{text}");
    let toml = fs::read_to_string(folder.path().join("model.toml")).unwrap();
    for part in [
        "date_pattern = \"dd/MM/yyyy\"",
        "decimal = \",\"",
        "key = \"Shop No\"",
        "sales*.csv",
        "encoding = \"windows-1252\"",
        "`when` would be timestamp but for `2024-02-30 10:00`",
    ] {
        assert!(toml.contains(part), "no {part} in\n{toml}");
    }
    let grid = stdout(&cubrel(folder.path(), &["query", "grid total_amount", "--format", "csv"]));
    assert_eq!(grid, "total_amount\n1037.60\n");
    let harbours = stdout(&cubrel(folder.path(), &["query", "records catch.harbour", "--format", "csv"]));
    assert_eq!(harbours, "catch.harbour\nGrönö\n\"Tråvik\r\nOst\"\n");
    let none = cubrel(folder.path(), &["draft", "nothing.csv", "--into", "other"]);
    assert_eq!(none.status.code(), Some(2));
    let told = String::from_utf8_lossy(&none.stderr);
    assert!(told.contains("there is no file or folder `nothing.csv`") && !told.contains("os error"), "{told}");
    assert!(!folder.path().join("other").exists(), "what was made for nothing goes again");
    fs::create_dir(folder.path().join("kept")).unwrap();
    assert_eq!(cubrel(folder.path(), &["draft", "nothing.csv", "--into", "kept"]).status.code(), Some(2));
    assert!(folder.path().join("kept").exists(), "what was there stays");
}

#[test]
fn results_leave_as_lines_of_json_arrow_and_parquet() {
    let query = "grid net_revenue, bookings by port.region";
    let lines = stdout(&demo(&["query", query, "--format", "jsonl"]));
    let first: Json = serde_json::from_str(lines.lines().next().unwrap()).unwrap();
    assert!(first["port.region"].is_string() && first["bookings"].is_number(), "{first}");
    let folder = tempfile::tempdir().unwrap();
    // What is written as Parquet or Arrow is a source again, with the same values.
    for format in ["parquet", "arrow"] {
        let file = folder.path().join(format!("grid.{format}"));
        let output = demo(&["query", query, "--format", format, "--output", file.to_str().unwrap()]);
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
        let toml =
            format!("[table.t]\nsource = \"grid.{format}\"\n[table.t.column.revenue]\nsource_name = \"net_revenue\"\n");
        fs::write(folder.path().join("model.toml"), toml).unwrap();
        let again = cubrel(folder.path(), &["query", "grid sum(t.bookings) as n", "--format", "json"]);
        let n: Json = serde_json::from_str(&stdout(&again)).unwrap();
        assert_eq!(n["rows"][0][0], 30_000, "{format}");
        fs::remove_dir_all(folder.path().join(".cubrel")).unwrap();
    }
    let refused = demo(&["size", "--format", "arrow"]);
    assert_eq!(refused.status.code(), Some(2));
}

#[test]
fn two_formulas_are_held_against_each_other_cell_by_cell() {
    let guarded = "if(passengers_carried = 0, null, net_revenue / passengers_carried)";
    let same = ["compare", "--measure", "fare_per_passenger", "--with", guarded, "--by", "route.name", "--runs", "2"];
    let text = stdout(&demo(&same));
    assert!(text.starts_with("the same numbers in all 18 cells, totals included"), "{text}");
    let mut machine = same.to_vec();
    machine.extend(["--format", "json"]);
    let found = json(&machine);
    assert_eq!((&found["cells"], &found["differing"]), (&Json::from(18), &Json::from(0)));
    assert_eq!((&found["measure"]["runs"], &found["measure"]["rows_read"]), (&Json::from(2), &Json::from(30016)));

    // Right on the lines, wrong on the total: what a sum of rounded figures is.
    let other =
        demo(&["compare", "--measure", "bookings", "--with", "max(bookings per route.name)", "--by", "route.name"]);
    assert_eq!(other.status.code(), Some(1));
    let text = String::from_utf8(other.stdout).unwrap();
    assert!(text.starts_with("numbers differ in 1 of 18 cells, totals included"), "{text}");
    assert!(text.contains("\ntotal "), "{text}");

    let wrong = demo(&["compare", "--measure", "net_revenu", "--with", "bookings"]);
    assert_eq!(wrong.status.code(), Some(2));
    assert!(String::from_utf8_lossy(&wrong.stderr).contains("net_revenue"));
}

#[test]
fn a_query_gives_up_at_its_limits() {
    let grid = "grid net_revenue by customer.id split by calendar.month";
    for (option, value, message) in [
        ("--cell-limit", "1000", "more than the limit of 1000"),
        ("--memory-limit", "10 KiB", "more than the memory limit of 10.0 KiB"),
        ("--time-limit", "0", "the time limit was reached"),
        ("--time-limit", "-1", "`-1` is not a time"),
        ("--memory-limit", "much", "`much` is not an amount of memory"),
    ] {
        let refused = demo(&["query", grid, &format!("{option}={value}")]);
        assert_eq!(refused.status.code(), Some(2), "{option} {value}");
        let said = String::from_utf8_lossy(&refused.stderr).to_string();
        assert!(said.contains(message) && refused.stdout.is_empty(), "{option} {value}: {said}");
    }
    let within = ["query", "grid bookings", "--cell-limit=10", "--memory-limit", "1 MiB", "--time-limit", "3600"];
    assert!(demo(&within).status.success());
}

#[test]
fn two_models_are_asked_the_same_questions() {
    let here = DEMO.0.path();
    let folder = own_copy();
    let other = folder.path().to_str().unwrap();
    let same = cubrel(here, &["compare", "ferries", other, "--runs", "1"]);
    assert_eq!(same.status.code(), Some(0), "{}", String::from_utf8_lossy(&same.stderr));
    assert!(stdout(&same).starts_with("the same numbers in all"), "{}", stdout(&same));

    // A measure that says something else, and one that only the other model has.
    let more = "formula = \"rows(booking) + 1\"\n\n[measure.more]\nformula = \"rows(sailing)\"";
    replace(&folder, "model.toml", "formula = \"rows(booking)\"", more);
    let found = cubrel(here, &["compare", "ferries", other, "--runs", "1", "--format", "json"]);
    assert_eq!(found.status.code(), Some(1));
    let found: Json = serde_json::from_slice(&found.stdout).unwrap();
    let all = found["answers"].as_array().unwrap();
    let question = |name: &str| all.iter().find(|q| q["name"] == name).unwrap();
    let bookings = question("bookings");
    assert_eq!((bookings["cells"].as_u64(), bookings["differing"].as_u64()), (Some(1), Some(1)));
    let number = |side: &str| bookings["example"][side].as_str().unwrap().parse::<u64>().unwrap();
    assert_eq!(number("a") + 1, number("b"));
    assert_eq!(question("net_revenue")["differing"], 0);
    assert_eq!((&found["only_a"], &found["only_b"]), (&serde_json::json!([]), &serde_json::json!(["more"])));
    assert_eq!(found["bytes_a"], found["bytes_b"]);

    let only = |name: &str| cubrel(here, &["compare", "ferries", other, "--only", name, "--format", "csv"]);
    let one = only("net_revenue");
    let lines: Vec<String> = stdout(&one).lines().map(str::to_string).collect();
    assert_eq!((one.status.code(), lines.len()), (Some(0), 2), "{lines:?}");
    assert!(lines[1].starts_with("net_revenue,1,0,"), "{lines:?}");
    let former = cubrel(here, &["compare", "ferries", other, "--question", "bookings"]);
    assert!(String::from_utf8_lossy(&former.stderr).contains("write `--only bookings`"));
    let unknown = only("nobody");
    assert_eq!(unknown.status.code(), Some(2));
    assert!(String::from_utf8_lossy(&unknown.stderr).contains("is called `nobody`"));
}

#[test]
fn what_is_no_file_is_refused_and_not_waited_for() {
    let folder = own_copy();
    let pipe = |name: &str| {
        let path = folder.path().join(name);
        assert!(std::process::Command::new("mkfifo").arg(&path).status().unwrap().success());
    };
    fs::create_dir(folder.path().join("stored")).unwrap();
    fs::write(folder.path().join("stored/model.toml"), "[table.a]\nsource = '../data/route.csv'\n").unwrap();
    ["pipe", "pipe.csv", "stored/.cubrel"].into_iter().for_each(pipe);
    fs::create_dir(folder.path().join("inside")).unwrap();
    pipe("inside/model.toml");
    fs::create_dir(folder.path().join("endless")).unwrap();
    fs::write(folder.path().join("endless/model.toml"), "[table.a]\nsource = '/dev/zero'\n").unwrap();
    fs::write(folder.path().join("long"), vec![b' '; (64 << 20) + 1]).unwrap();
    let cases: &[(&[&str], &str)] = &[
        (&["-m", "pipe", "check"], "no regular file"),
        (&["-m", "inside", "check"], "no regular file"),
        (&["-m", "/dev/zero", "check"], "no regular file"),
        (&["-m", "long", "check"], "longer than 64.0 MiB"),
        (&["-m", "endless", "refresh"], "no regular file"),
        (&["draft", "pipe.csv", "--into", "drafted"], "no regular file"),
        (&["draft", "/dev/zero", "--into", "drafted"], ""),
        (&["compare", ".", "inside"], "no regular file"),
        (&["query", "-"], "longer than 64.0 MiB"),
        (&["-m", "stored", "refresh"], "File exists"),
    ];
    for (args, expected) in cases {
        // Standard input goes on and on, and is handed over as it is.
        let mut command = std::process::Command::new("timeout");
        command.arg("60").arg(assert_cmd::cargo::cargo_bin("cubrel")).current_dir(folder.path()).args(*args);
        let output = command.stdin(fs::File::open("/dev/zero").unwrap()).output().unwrap();
        let told = String::from_utf8_lossy(&[output.stderr, output.stdout].concat()).into_owned();
        assert!(told.contains(expected) && told.contains("error"), "{args:?}: {told}");
        // `check` lists it as a problem of a model that is there; 124 would be that it was waited for.
        let code = output.status.code();
        assert!(matches!(code, Some(1 | 2)), "{args:?}: {code:?} {told}");
    }
}
