//! Uses, changes of the model's file, expectations and revisions, through the binary.

use std::fs;
use std::path::Path;
use std::process::Output;

use assert_cmd::Command;
use serde_json::{Value as Json, json};
use tempfile::TempDir;

const MODEL: &str = "# ferries
[table.booking]
source = 'booking.csv'
[table.booking.column.net]
formula = 'fare - concession'
[table.route]
source = 'route.csv'
[[relationship]]
many = 'booking.route'
one = 'route.id'
[measure.revenue]
formula = 'sum(booking.net)'
[measure.idle]
formula = 'revenue * 2'
[query.by_region]
text = 'grid revenue by route.region'
[[expect]]
query = 'by_region'
rows = [['N', 16], ['S', 4]]
[[expect]]
name = 'references are unique'
unique = 'booking.ref'
";

fn folder() -> TempDir {
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("model.toml"), MODEL).unwrap();
    fs::write(folder.path().join("booking.csv"), "ref,route,fare,concession\n1,r1,10,1\n2,r2,4,0\n3,r1,8,1\n").unwrap();
    fs::write(folder.path().join("route.csv"), "id,region\nr1,N\nr2,S\n").unwrap();
    folder
}

fn cubrel(folder: &Path, args: &[&str]) -> Output {
    Command::cargo_bin("cubrel").unwrap().current_dir(folder).args(args).output().unwrap()
}

fn stdout(output: &Output) -> String {
    String::from_utf8(output.stdout.clone()).unwrap()
}

fn json(folder: &Path, args: &[&str], code: i32) -> Json {
    let output = cubrel(folder, &[args, &["--format", "json"]].concat());
    assert_eq!(output.status.code(), Some(code), "{args:?}: {}", String::from_utf8_lossy(&output.stderr));
    serde_json::from_str(&stdout(&output)).unwrap()
}

#[test]
fn uses_have_the_json_that_is_promised() {
    let folder = folder();
    let found = json(folder.path(), &["uses", "booking.net"], 0);
    assert_eq!(
        found["used_by"][0],
        json!({
            "name": "revenue", "kind": "measure", "direct": true, "through": [],
            "text": "sum(booking.net)", "line": 12, "column": 16
        })
    );
    assert_eq!(found["used_by"][1]["through"], json!(["revenue"]));
    assert_eq!((&found["name"], &found["kind"]), (&json!("booking.net"), &json!("column")));
    let unused = json(folder.path(), &["uses", "--none"], 0);
    let names: Vec<&str> = unused["unused"].as_array().unwrap().iter().map(|p| p["name"].as_str().unwrap()).collect();
    assert_eq!(names, ["idle"]);
    assert_eq!((&unused["unused"][0]["kind"], &unused["bytes"]), (&json!("measure"), &json!(0)));
    let dot = stdout(&cubrel(folder.path(), &["uses", "booking.net", "--format", "dot"]));
    assert!(dot.starts_with("digraph") && dot.contains("measure: revenue") && dot.contains("n1 -> n0;"), "{dot}");
    let svg = stdout(&cubrel(folder.path(), &["uses", "--none", "--format", "svg"]));
    assert!(svg.starts_with("<svg") && svg.trim_end().ends_with("</svg>"), "{svg}");
    let refused = cubrel(folder.path(), &["size", "--format", "dot"]);
    assert_eq!(refused.status.code(), Some(2));
    let refused = cubrel(folder.path(), &["--format", "dot", "query", "by_region"]);
    assert!(
        String::from_utf8_lossy(&refused.stderr).contains("it has table, csv, json, markdown, jsonl"),
        "{refused:?}"
    );
}

#[test]
fn a_rename_shows_what_it_changes_and_can_be_taken_back() {
    let folder = folder();
    let model = || fs::read_to_string(folder.path().join("model.toml")).unwrap();
    let dry = json(folder.path(), &["rename", "booking.net", "net fare", "--dry-run"], 0);
    assert_eq!(
        dry,
        json!({
            "changed": [
                {"line": 4, "before": "[table.booking.column.net]", "after": "[table.booking.column.\"net fare\"]"},
                {"line": 12, "before": "formula = 'sum(booking.net)'", "after": "formula = 'sum(booking.\"net fare\")'"}
            ],
            "written": false, "refused": []
        })
    );
    assert_eq!(model(), MODEL);
    let done = cubrel(folder.path(), &["rename", "booking.net", "net fare"]);
    assert!(done.status.success() && stdout(&done).contains("+formula = 'sum(booking.\"net fare\")'"), "{done:?}");
    assert!(String::from_utf8_lossy(&done.stderr).contains("give what they gave"), "{done:?}");
    assert_ne!(model(), MODEL);
    assert_eq!(json(folder.path(), &["rename", "--undo"], 0)["written"], json!(true));
    assert_eq!(model(), MODEL);
    let refused = json(folder.path(), &["remove", "revenue"], 2);
    assert_eq!(refused["refused"][0], json!({"name": "idle", "line": 14, "why": "this measure uses measure revenue"}));
    assert_eq!(refused["written"], json!(false));
    assert_eq!(json(folder.path(), &["remove", "idle"], 0)["written"], json!(true));
    assert_eq!(model(), MODEL.replace("[measure.idle]\nformula = 'revenue * 2'\n", ""));
    let unknown = cubrel(folder.path(), &["rename", "booking.nett", "x"]);
    assert!(String::from_utf8_lossy(&unknown.stderr).contains("did you mean `booking.net`?"), "{unknown:?}");
    for wrong in
        [&["rename"][..], &["rename", "a"], &["rename", "a", "b", "--undo"], &["remove"], &["remove", "a", "--undo"]]
    {
        assert_eq!(cubrel(folder.path(), wrong).status.code(), Some(2), "{wrong:?}");
    }
}

#[test]
fn expectations_end_with_one_where_they_do_not_hold() {
    let folder = folder();
    let found = json(folder.path(), &["test"], 0);
    assert_eq!((&found["passed"], &found["failed"]), (&json!(2), &json!(0)));
    let text = fs::read_to_string(folder.path().join("model.toml")).unwrap().replace("['N', 16]", "['N', 17]");
    fs::write(folder.path().join("model.toml"), text + "[[expect]]\nquery = 'grid nothing'\n").unwrap();
    let found = json(folder.path(), &["test", "--junit", "report.xml"], 1);
    assert_eq!(
        found["expectations"][0]["differences"],
        json!([{"at": {"route.region": "N"}, "expected": 17, "got": 16}])
    );
    let shown = stdout(&cubrel(folder.path(), &["test"]));
    for part in ["fails  by_region", "holds  references are unique", "2 of 3 expectations do not hold"] {
        assert!(shown.contains(part), "{part}: {shown}");
    }
    let xml = fs::read_to_string(folder.path().join("report.xml")).unwrap();
    for part in [
        "tests=\"3\"",
        "failures=\"1\"",
        "errors=\"1\"",
        "route.region = N: expected 17, got 16",
        "references are unique",
    ] {
        assert!(xml.contains(part), "{part}: {xml}");
    }
    let nowhere = cubrel(folder.path(), &["test", "--junit", "no/such/folder.xml"]);
    assert!(String::from_utf8_lossy(&nowhere.stderr).contains("cannot be written"), "{nowhere:?}");
}

#[test]
fn check_ends_with_hints_and_strict_counts_them() {
    let folder = folder();
    let run = |args: &[&str]| cubrel(folder.path(), args);
    let plain = run(&["check"]);
    let text = stdout(&plain);
    assert_eq!(plain.status.code(), Some(0), "{text}");
    assert!(
        text.contains("hint[unused]: nothing uses measure idle") && text.contains("nothing is wrong with this model;"),
        "{text}"
    );
    assert_eq!(run(&["check", "--strict"]).status.code(), Some(1));
    assert_eq!(stdout(&run(&["check", "--no-hints"])), "nothing is wrong with this model\n");
    let all = json(folder.path(), &["check"], 0);
    let hint = all.as_array().unwrap().iter().find(|p| p["hint"] == "unused").unwrap();
    assert_eq!((&hint["severity"], &hint["problem"], &hint["line"]), (&json!("hint"), &json!("untidy"), &json!(13)));
    fs::write(folder.path().join("model.toml"), format!("{MODEL}[model]\nallow = ['unused', 'shown_key']\n")).unwrap();
    assert_eq!(run(&["check", "--strict"]).status.code(), Some(0));
}

fn git(folder: &Path, args: &[&str]) {
    let names = ["-c", "user.name=Ann", "-c", "user.email=ann@example.org", "-c", "commit.gpgsign=false"];
    let done = std::process::Command::new("git").current_dir(folder).args(names).args(args).output().unwrap();
    assert!(done.status.success(), "{args:?}: {}", String::from_utf8_lossy(&done.stderr));
}

#[test]
fn a_model_is_held_against_what_it_was_on_todays_data() {
    if std::process::Command::new("git").arg("--version").output().is_err() {
        eprintln!("there is no git program here");
        return;
    }
    let folder = folder();
    let outside = cubrel(folder.path(), &["compare", ".", "--revision", "HEAD"]);
    assert_eq!(outside.status.code(), Some(2));
    assert!(String::from_utf8_lossy(&outside.stderr).contains("is not in a git repository"), "{outside:?}");
    git(folder.path(), &["init", "-q"]);
    git(folder.path(), &["add", "model.toml"]);
    git(folder.path(), &["commit", "-qm", "first"]);
    let same = json(folder.path(), &["compare", ".", "--revision", "HEAD", "--runs", "1"], 0);
    assert_eq!(same["changes"], json!([]));
    // Another formula, and rows that came since.
    fs::write(folder.path().join("model.toml"), MODEL.replace("fare - concession", "fare")).unwrap();
    fs::write(
        folder.path().join("booking.csv"),
        "ref,route,fare,concession\n1,r1,10,1\n2,r2,4,0\n3,r1,8,1\n4,r2,6,0\n",
    )
    .unwrap();
    let changed = json(folder.path(), &["compare", ".", "--revision", "HEAD", "--runs", "1"], 1);
    assert_eq!(
        changed["changes"],
        json!([{
            "name": "booking.net", "kind": "column", "what": "changed",
            "said": [{"key": "formula", "before": "fare - concession", "after": "fare"}]
        }])
    );
    let by_region = &changed["answers"][0];
    assert_eq!((&by_region["cells"], &by_region["differing"]), (&json!(2), &json!(1)), "{by_region}");
    assert_eq!((&by_region["example"]["a"], &by_region["example"]["b"]), (&json!("16"), &json!("18")), "{by_region}");
    let shown = stdout(&cubrel(folder.path(), &["compare", ".", "--revision", "HEAD", "--runs", "1"]));
    assert!(shown.contains("~ column booking.net") && shown.contains("numbers differ"), "{shown}");
    // The store is that of the model as it is.
    let now = stdout(&cubrel(folder.path(), &["query", "grid revenue", "--format", "csv"]));
    assert_eq!(now, "revenue\n28\n");
    for (revision, message) in
        [("nowhere", "there is no revision `nowhere`"), ("--all", "there is no revision `--all`")]
    {
        let failed = cubrel(folder.path(), &["compare", ".", &format!("--revision={revision}")]);
        assert!(String::from_utf8_lossy(&failed.stderr).contains(message), "{revision}: {failed:?}");
    }
    git(folder.path(), &["rm", "-q", "--cached", "model.toml"]);
    git(folder.path(), &["commit", "-qm", "second"]);
    let gone = cubrel(folder.path(), &["compare", ".", "--revision", "HEAD"]);
    assert!(String::from_utf8_lossy(&gone.stderr).contains("revision `HEAD` has no model.toml here"), "{gone:?}");
    fs::write(folder.path().join("model.toml"), MODEL.replace("sum(booking.net)", "sum(booking.nett)")).unwrap();
    git(folder.path(), &["add", "model.toml"]);
    git(folder.path(), &["commit", "-qm", "third"]);
    fs::write(folder.path().join("model.toml"), MODEL).unwrap();
    let wrong = json(folder.path(), &["compare", ".", "--revision", "HEAD", "--runs", "1"], 1);
    assert!(wrong["answers"][0]["error_a"].as_str().is_some_and(|e| e.contains("has no column `nett`")), "{wrong}");
}

#[test]
fn advice_is_measured_and_what_is_taken_is_proved_and_can_be_taken_back() {
    let folder = folder();
    let mut rows = String::from("ref,route,fare,concession,note,day,zone\n");
    for i in 0..40_000u64 {
        let mixed = i.wrapping_mul(0x9E37_79B9_7F4A_7C15) >> 40;
        rows += &format!(
            "{i},r{},{},0,note {mixed},2026-01-{:02},{}\n",
            mixed % 2 + 1,
            mixed % 90 + 1,
            mixed % 28 + 1,
            mixed % 4
        );
    }
    fs::write(folder.path().join("booking.csv"), rows).unwrap();
    let text = MODEL.replace("rows = [['N', 16], ['S', 4]]\n", "");
    let text = text.replace("[query.by_region]", "[measure.slow]\nformula = 'sum(booking.net per booking)'\n[query.slow]\ntext = 'grid slow by route.region, booking.day, booking.zone'\n[query.by_region]");
    fs::write(folder.path().join("model.toml"), &text).unwrap();
    let advice = json(folder.path(), &["advise"], 0);
    let all = advice["advice"].as_array().unwrap();
    let note = all.iter().find(|a| a["kind"] == "drop" && a["name"] == "booking.note").unwrap();
    assert_eq!(note["same_numbers"], json!(true));
    assert!(note["bytes_before"].as_u64() > note["bytes_after"].as_u64(), "{note}");
    assert!(note["change"].as_str().unwrap().contains("+keep = false"), "{note}");
    let numbers: Vec<u64> = all.iter().map(|a| a["number"].as_u64().unwrap()).collect();
    assert_eq!(numbers, (1..=all.len() as u64).collect::<Vec<_>>());
    let number = note["number"].to_string();
    let dry = json(folder.path(), &["advise", "--take", &number, "--dry-run"], 0);
    assert_eq!(dry["written"], json!(false));
    assert_eq!(json(folder.path(), &["advise", "--take", &number], 0)["written"], json!(true));
    assert!(
        fs::read_to_string(folder.path().join("model.toml"))
            .unwrap()
            .contains("[table.booking.column.note]\nkeep = false")
    );
    assert_eq!(json(folder.path(), &["advise", "--undo"], 0)["written"], json!(true));
    assert_eq!(fs::read_to_string(folder.path().join("model.toml")).unwrap(), text);
    let none = cubrel(folder.path(), &["advise", "--take", "99"]);
    assert!(String::from_utf8_lossy(&none.stderr).contains("there is no advice 99"), "{none:?}");
}

/// Bookings as an export has them: floats of many digits, a vessel's number with its name in every row, keys that are
/// long texts; and two calendars of the same days.
fn export() -> TempDir {
    let folder = tempfile::tempdir().unwrap();
    let mut booking = String::from("ticket,day,berth,berth_name,vessel,vessel_name,price,weight,note\n");
    let mut ticket = String::from("id,seat\n");
    for i in 0..40_000u64 {
        let mixed = i.wrapping_mul(0x9E37_79B9_7F4A_7C15) >> 24;
        let (berth, vessel) = (mixed % 3499, (mixed >> 13) % 3011);
        booking += &format!(
            "{mixed:024x},2026-01-{:02},b{berth},Berth number {berth},v{vessel},Vessel number {vessel},{},{}e-9,free text {mixed} and more\n",
            mixed % 28 + 1,
            (mixed % 9_000) as f64 / 4.0,
            mixed % 900_000_007,
        );
        if i % 3 > 0 {
            ticket += &format!("{mixed:024x},{}\n", mixed % 40);
        }
    }
    fs::write(folder.path().join("booking.csv"), booking).unwrap();
    fs::write(folder.path().join("ticket.csv"), ticket).unwrap();
    fs::write(folder.path().join("model.toml"), EXPORT).unwrap();
    folder
}

const EXPORT: &str = "[table.booking]
source = 'booking.csv'
[table.ticket]
source = 'ticket.csv'
key = 'id'
[table.calendar]
calendar = 'date'
generate = { from = '1926-01-01', to = '2026-12-31' }
[table.booked]
calendar = 'date'
generate = { from = '1926-01-01', to = '2026-12-31' }
[[relationship]]
many = 'booking.day'
one = 'calendar.date'
[[relationship]]
many = 'booking.ticket'
one = 'ticket.id'
[measure.price]
formula = 'sum(booking.price)'
[query.by_channel]
text = 'grid price, sum(booking.weight) by booking.berth, booking.berth_name, booking.vessel_name, booking.vessel'
[query.notes]
text = \"\"\"records booking.note, ticket.seat, calendar.year, booked.year where booking.price > 2249\"\"\"
";

#[test]
fn what_the_data_looks_like_is_advised_on_and_tried() {
    let folder = export();
    fs::write(folder.path().join("model.toml"), EXPORT.replace(", booked.year", "")).unwrap();
    let advice = json(folder.path(), &["advise"], 0)["advice"].as_array().unwrap().clone();
    let find = |kind: &str, name: &str| {
        let found = advice.iter().find(|a| a["kind"] == kind && a["name"] == name);
        let found = found.unwrap_or_else(|| panic!("no {kind} of {name} in {advice:#?}"));
        let bytes = |key: &str| found[key].as_u64().unwrap();
        assert!(bytes("bytes_after") < bytes("bytes_before"), "{found}");
        found.clone()
    };
    let coarse = find("precision", "booking.weight");
    assert_eq!((&coarse["change"], &coarse["same_numbers"]), (&Json::Null, &json!(false)));
    // Rows can stand in the order of one of the two only: the other one's name weighs something in every row.
    let table = find("table", "booking.berth");
    assert!(table["says"].as_str().unwrap().contains("berth says what berth_name is"), "{table}");
    let heavy = find("heavy", "booking.note");
    assert!(heavy["says"].as_str().unwrap().contains("used by query notes"), "{heavy}");
    find("keys", "booking.ticket");
    let copy = find("copy", "booked");
    assert_eq!(copy["same_numbers"], json!(true), "{copy}");
    // What is taken weighs what was said, and the numbers stay.
    let size = |_: ()| json(folder.path(), &["size"], 0)["model"]["bytes"].as_u64().unwrap();
    let asked = |_: ()| json(folder.path(), &["query", "by_channel"], 0)["rows"].clone();
    let before = asked(());
    let taken = json(folder.path(), &["advise", "--take", &copy["number"].to_string()], 0);
    assert_eq!(taken["written"], json!(true), "{taken}");
    assert_eq!(size(()), copy["bytes_after"].as_u64().unwrap(), "{copy}");
    assert_eq!(asked(()), before);
}

#[test]
fn a_shortlist_shortens_what_is_listed_and_protects_nothing() {
    let folder = folder();
    let more = "[role.desk]\ndeny = ['booking.concession']\n[shortlist.front]\nlist = ['booking.fare', 'route', 'concessions', 'booking.concession']\n[measure.concessions]\nformula = 'sum(booking.concession)'\n";
    fs::write(folder.path().join("model.toml"), format!("{MODEL}{more}")).unwrap();
    let list = |args: &[&str]| stdout(&cubrel(folder.path(), &[&["query"], args].concat()));
    let (all, short) = (list(&[]), list(&["--shortlist", "front"]));
    assert!(all.contains("booking.fare") && all.contains("by_region") && all.contains("booking.ref"), "{all}");
    assert!(
        short.contains("booking.fare") && short.contains("route.region") && short.contains("concessions"),
        "{short}"
    );
    assert!(!short.contains("booking.ref") && !short.contains("by_region"), "{short}");
    let denied = list(&["--shortlist", "front", "--as", "desk"]);
    assert!(denied.contains("booking.fare") && !denied.contains("concession"), "{denied}");
    // It answers all the same, and says what is not on it.
    let asked = cubrel(
        folder.path(),
        &["query", "grid sum(booking.fare), rows(booking) by booking.ref", "--shortlist", "front", "--format", "csv"],
    );
    assert!(asked.status.success());
    assert!(String::from_utf8_lossy(&asked.stderr).contains("booking.ref is not on the shortlist front"), "{asked:?}");
    let none = cubrel(folder.path(), &["query", "--shortlist", "frunt"]);
    assert!(String::from_utf8_lossy(&none.stderr).contains("there is no shortlist `frunt`"), "{none:?}");
    let mut shell = Command::cargo_bin("cubrel").unwrap();
    let shell = shell
        .current_dir(folder.path())
        .args(["shell", "--shortlist", "front"])
        .write_stdin("\\measures\n")
        .output()
        .unwrap();
    assert_eq!(stdout(&shell).lines().map(str::trim).collect::<Vec<_>>(), ["concessions"]);
}
