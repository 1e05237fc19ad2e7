//! What a refresh reads again, and that nobody can tell from the numbers.
use std::fs;
use std::path::Path;
use std::sync::atomic::Ordering;

use cubrel::Silent;
use cubrel::internals::InModel as _;
use cubrel::{Model, RefreshOptions, RefreshReport, Value};
use tempfile::TempDir;

const MODEL: &str = "[table.booking]
source = 'data/*.csv'
max_bad_rows = 100
[table.booking.column.double]
formula = 'booking.net * 2'
[measure.net]
formula = 'sum(booking.net)'
[measure.double]
formula = 'sum(booking.double)'
[measure.bookings]
formula = 'count(booking.id)'
";

/// Bytes of a file that is a group of its own.
const LARGE: usize = 33 << 20;

fn folder(model: &str) -> TempDir {
    let folder = tempfile::tempdir().unwrap();
    fs::create_dir(folder.path().join("data")).unwrap();
    fs::write(folder.path().join("model.toml"), model).unwrap();
    folder
}

/// Bookings whose comment makes the file as large as wanted.
fn write(folder: &Path, name: &str, from: u64, rows: u64, bytes: usize) {
    let comment = "-".repeat(bytes / rows.max(1) as usize);
    let mut text = String::from("id,route,net,comment\n");
    for i in from..from + rows {
        text += &format!("B{i:05},R{},{},{comment}\n", i * i % 7, i % 13);
    }
    fs::write(folder.join("data").join(name), text).unwrap();
}

fn refresh(folder: &Path, options: &RefreshOptions) -> (Model, RefreshReport) {
    Model::refresh(folder, options, &Silent).unwrap_or_else(|e| panic!("{e}"))
}

fn all() -> RefreshOptions {
    RefreshOptions { all: true, ..RefreshOptions::default() }
}

fn grid(model: &Model) -> Vec<Vec<Value>> {
    let grid = model.query("grid net, double, bookings by booking.route, booking.id").unwrap().run().unwrap();
    grid.lines.into_iter().map(|l| l.values).collect()
}

#[test]
fn only_parts_that_have_changed_are_read_and_nobody_can_tell() {
    let folder = folder(MODEL);
    let path = folder.path();
    write(path, "1.csv", 0, 300, LARGE);
    write(path, "2.csv", 300, 200, LARGE);
    write(path, "3.csv", 500, 10, 0);
    write(path, "4.csv", 510, 10, 0);
    let parts = |report: &RefreshReport| (report.tables[0].parts_read, report.tables[0].parts);
    assert_eq!(parts(&refresh(path, &RefreshOptions::default()).1), (3, 3), "small files are read together");
    type Edit<'e> = (&'e str, &'e dyn Fn(), (u64, u64));
    let edits: [Edit<'_>; 6] = [
        ("a small file more", &|| write(path, "5.csv", 520, 5, 0), (1, 3)),
        ("a large file is another one", &|| write(path, "1.csv", 2000, 100, LARGE), (1, 3)),
        ("a large file is gone", &|| fs::remove_file(path.join("data/2.csv")).unwrap(), (0, 2)),
        ("a large file more in between", &|| write(path, "2b.csv", 9000, 50, LARGE), (1, 3)),
        ("a small file is gone", &|| fs::remove_file(path.join("data/4.csv")).unwrap(), (1, 3)),
        ("bad rows", &|| fs::write(path.join("data/6.csv"), "id,route,net,comment\n1,2\nB,R1,4,\n").unwrap(), (1, 3)),
    ];
    for (what, edit, expected) in edits {
        edit();
        let (model, report) = refresh(path, &RefreshOptions::default());
        assert_eq!(parts(&report), expected, "{what}");
        let (whole, of_all) = refresh(path, &all());
        assert_eq!(grid(&model), grid(&whole), "{what}");
        assert_eq!(report.tables[0].rows, of_all.tables[0].rows, "{what}");
        assert_eq!(report.tables[0].bad_rows, of_all.tables[0].bad_rows, "{what}");
        let columns = |m: &Model| m.sizes().tables[0].columns.iter().map(|c| (c.distinct, c.nulls)).collect::<Vec<_>>();
        assert_eq!(columns(&model), columns(&whole), "{what}");
    }
}

#[test]
fn bad_lines_belong_to_the_part_that_they_stand_in() {
    let folder = folder(&MODEL.replace("*.csv", "*.jsonl"));
    let line = |id: u32| format!("{{\"id\": \"B{id}\", \"route\": \"R1\", \"net\": {id}}}\n");
    // Blank lines make a file as large as wanted.
    let write = |name: &str, text: String| {
        fs::write(folder.path().join("data").join(name), text + &" ".repeat(LARGE)).unwrap();
    };
    write("1.jsonl", line(1) + "[1]\n");
    write("2.jsonl", line(2));
    let bad = |report: &RefreshReport| (report.tables[0].parts_read, report.tables[0].bad_rows, report.tables[0].rows);
    assert_eq!(bad(&refresh(folder.path(), &RefreshOptions::default()).1), (2, 1, 2));
    write("2.jsonl", line(2) + &line(3) + "{\n7\n");
    assert_eq!(bad(&refresh(folder.path(), &RefreshOptions::default()).1), (1, 3, 3));
    write("1.jsonl", line(1));
    assert_eq!(bad(&refresh(folder.path(), &RefreshOptions::default()).1), (1, 2, 3));
}

#[test]
fn a_file_written_again_with_the_same_content_is_not_read() {
    let folder = folder(MODEL);
    write(folder.path(), "1.csv", 0, 30, 0);
    refresh(folder.path(), &RefreshOptions::default());
    write(folder.path(), "1.csv", 0, 30, 0);
    let (_, report) = refresh(folder.path(), &RefreshOptions::default());
    assert!(!report.tables[0].read);
    let since = RefreshOptions { since: Some(40_000), ..RefreshOptions::default() };
    write(folder.path(), "1.csv", 0, 31, 0);
    let (model, report) = refresh(folder.path(), &since);
    assert!(!report.tables[0].read && grid(&model).len() == 30, "older than the day, so not looked at");
    assert_eq!(grid(&refresh(folder.path(), &RefreshOptions::default()).0).len(), 31);
}

#[test]
fn types_are_those_of_all_values_wherever_they_stand() {
    let late = |value: &str| {
        let folder = folder("[table.t]\nsource = 'data/t.csv'\n");
        let mut text = String::from("a,b\n");
        (0..400_000).for_each(|i| text += &format!("{i},{}\n", "x".repeat(10)));
        text += &format!("{value},\n");
        fs::write(folder.path().join("data/t.csv"), text).unwrap();
        let (model, report) = refresh(folder.path(), &RefreshOptions::default());
        assert_eq!(report.tables[0].rows, 400_001);
        model.schema().tables[0].columns[0].ty.to_string()
    };
    for (value, expected) in [
        ("7", "int"),
        ("2.50", "decimal(18,2)"),
        ("1e5", "float"),
        ("007", "text"),
        ("B7", "text"),
        ("", "int"),
        ("9223372036854775808", "text"),
    ] {
        assert_eq!(late(value), expected, "{value:?} at the end");
    }
}

#[test]
fn changed_types_are_told() {
    let folder = folder(MODEL);
    write(folder.path(), "1.csv", 0, 30, 0);
    refresh(folder.path(), &RefreshOptions::default());
    fs::write(folder.path().join("data/2.csv"), "id,route,net,comment\nB9,R1,1.25,x\n").unwrap();
    let (_, report) = refresh(folder.path(), &RefreshOptions::default());
    let expected = ["booking.net was int and is decimal(18,2) now", "booking.double was int and is decimal(18,2) now"];
    assert_eq!(report.tables[0].changed_types, expected);
    assert_eq!((report.tables[0].parts_read, report.tables[0].parts), (1, 1), "all of it had to be read again");
}

#[test]
fn what_has_no_room_is_refused_early_and_the_old_data_stays() {
    let folder = folder(&format!("[model]\nmemory_limit = '200 KiB'\n{MODEL}"));
    write(folder.path(), "1.csv", 0, 50, 0);
    let before = grid(&refresh(folder.path(), &RefreshOptions::default()).0);
    let mut text = String::from("id,route,net,comment\n");
    (0..200_000u64).for_each(|i| {
        let noise = i.wrapping_mul(0x9E37_79B9_7F4A_7C15);
        text += &format!("{noise:x},R{},{},{:x}\n", i % 7, i % 13, noise.rotate_left(20));
    });
    fs::write(folder.path().join("data/2.csv"), text).unwrap();
    let error = Model::refresh(folder.path(), &RefreshOptions::default(), &Silent).unwrap_err().to_string();
    assert!(error.contains("would take about") && error.contains("was not read"), "{error}");
    fs::remove_file(folder.path().join("data/2.csv")).unwrap();
    assert_eq!(grid(&Model::open(folder.path()).unwrap()), before);
}

#[test]
fn periods_of_a_database_are_read_by_themselves() {
    let folder = folder(
        "[table.sailing]
source = 'sqlite:data/s.db?table=sailing'
partition = { column = 'day', by = 'month' }
[table.sailing.column.day]
source_name = 'sailed on'
[measure.fuel]
formula = 'sum(sailing.fuel)'
",
    );
    let db = rusqlite::Connection::open(folder.path().join("data/s.db")).unwrap();
    db.execute_batch(
        "create table sailing (id integer, \"sailed on\" text, fuel real, note text);
         insert into sailing values (1, '2026-01-05', 10.5, 'x'), (2, '2026-02-28', 1, null), (3, '2026-03-01', 2, 'y'),
         (4, null, 100, 'z');",
    )
    .unwrap();
    let fuel = |model: &Model| {
        let grid = model.query("grid fuel by sailing.day").unwrap().run().unwrap();
        grid.lines.iter().map(|l| format!("{} {}", l.values[0], l.values[1])).collect::<Vec<_>>().join(", ")
    };
    let (model, report) = refresh(folder.path(), &RefreshOptions::default());
    assert_eq!((report.tables[0].parts_read, report.tables[0].parts), (4, 4), "three months and rows without a day");
    assert_eq!(fuel(&model), "2026-01-05 10.5, 2026-02-28 1, 2026-03-01 2,  100");
    db.execute_batch("update sailing set fuel = 20 where id < 4; insert into sailing values (5, '2026-04-02', 7, '')")
        .unwrap();
    let day = |text: &str| cubrel::value::date::parse_date(text.as_bytes());
    let since = RefreshOptions { since: day("2026-03-01"), ..RefreshOptions::default() };
    let (model, report) = refresh(folder.path(), &since);
    assert_eq!((report.tables[0].parts_read, report.tables[0].parts), (3, 5));
    assert_eq!(fuel(&model), "2026-01-05 10.5, 2026-02-28 1, 2026-03-01 20, 2026-04-02 7,  100", "older months stay");
    let (model, _) = refresh(folder.path(), &all());
    assert_eq!(fuel(&model), "2026-01-05 20, 2026-02-28 20, 2026-03-01 20, 2026-04-02 7,  100");
    let wrong = |from: &str, to: &str| {
        let path = folder.path().join("model.toml");
        let text = fs::read_to_string(&path).unwrap();
        fs::write(&path, text.replace(from, to)).unwrap();
        let error = Model::refresh(folder.path(), &RefreshOptions::default(), &Silent).unwrap_err().to_string();
        fs::write(&path, text).unwrap();
        error
    };
    assert!(wrong("'month'", "'fortnight'").contains("`fortnight` is not a unit of the calendar"));
    assert!(wrong("column = 'day'", "column = 'note'").contains("is not a date, so it cannot partition the table"));
}

#[test]
fn what_is_computed_after_loading_needs_no_loading() {
    let folder = folder(MODEL);
    let path = folder.path();
    write(path, "1.csv", 0, 100, 0);
    refresh(path, &RefreshOptions::default());
    let with = |column: &str, formula: &str| {
        let text = format!("{MODEL}[table.booking.column.{column}]\nformula = '{formula}'\n");
        fs::write(path.join("model.toml"), text).unwrap();
        let (model, report) = refresh(path, &RefreshOptions::default());
        let grid = model.query(&format!("grid sum(booking.{column}) as x")).unwrap().run().unwrap();
        (report.tables[0].read, grid.lines[0].values[0].clone())
    };
    let nets: i64 = (0..100).map(|i| i % 13).sum();
    assert_eq!(with("all_of_it", "sum(booking.net) given (without row)"), (false, Value::Int(nets * 100)));
    // Another formula gives other numbers, though nothing is read.
    assert_eq!(with("all_of_it", "1 + sum(booking.net) given (without row)"), (false, Value::Int(nets * 100 + 100)));
    // What needs only its own row is computed while loading.
    assert_eq!(with("all_of_it", "booking.net + 1"), (true, Value::Int(nets + 100)));
}

/// Writes something else into the source while it is read, so many times.
struct Meddling<'a> {
    left: std::sync::atomic::AtomicUsize,
    write: &'a (dyn Fn(usize) + Sync),
}

impl cubrel::Observer for Meddling<'_> {
    fn rows(&self, _: &str, _: u64) {
        let left = &self.left;
        let counted = left.fetch_update(Ordering::SeqCst, Ordering::SeqCst, |left| left.checked_sub(1));
        if let Ok(left) = counted {
            (self.write)(left - 1);
        }
    }
}

/// Text of always the same length.
fn same_length(version: usize) -> String {
    format!("id,route,net,comment\nB1,R1,{},-\nB2,R2,{},-\n", 100 + version, 700 - 2 * version)
}

fn packed(version: usize) -> Vec<u8> {
    let mut gz = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::none());
    std::io::Write::write_all(&mut gz, same_length(version).as_bytes()).unwrap();
    gz.finish().unwrap()
}

fn lines(version: usize) -> Vec<u8> {
    let line = |id, net| format!("{{\"id\":\"B{id}\",\"route\":\"R{id}\",\"net\":{net},\"comment\":\"-\"}}\n");
    (line(1, 100 + version) + &line(2, 700 - 2 * version)).into_bytes()
}

fn database(path: &Path, version: usize) {
    let file = rusqlite::Connection::open(path).unwrap();
    let text = format!(
        "create table if not exists b (id text, route text, net int, comment text); delete from b;
         insert into b values ('B1', 'R1', {}, '-'), ('B2', 'R2', {}, '-')",
        100 + version,
        700 - 2 * version
    );
    file.execute_batch(&text).unwrap();
}

#[test]
fn a_source_that_is_written_while_it_is_read_is_read_again() {
    type Write = Box<dyn Fn(&Path, usize) + Sync>;
    // Length and time stay the same.
    let over = |path: &Path, bytes: &[u8]| {
        let time = fs::metadata(path).and_then(|d| d.modified()).ok();
        fs::write(path, bytes).unwrap();
        time.into_iter().for_each(|t| fs::File::options().append(true).open(path).unwrap().set_modified(t).unwrap());
    };
    let instead = move |path: &Path, bytes: &[u8]| {
        let new = path.with_extension("other");
        let time = fs::metadata(path).and_then(|d| d.modified()).ok();
        fs::write(&new, bytes).unwrap();
        time.into_iter().for_each(|t| fs::File::options().append(true).open(&new).unwrap().set_modified(t).unwrap());
        fs::rename(new, path).unwrap();
    };
    let ways: [(&str, &str, Write); 6] = [
        ("in place", "b.csv", Box::new(move |path, v| over(path, same_length(v).as_bytes()))),
        ("another file", "b.csv", Box::new(move |path, v| instead(path, same_length(v).as_bytes()))),
        ("packed, in place", "b.csv.gz", Box::new(move |path, v| over(path, &packed(v)))),
        ("packed, another file", "b.csv.gz", Box::new(move |path, v| instead(path, &packed(v)))),
        ("lines", "b.jsonl", Box::new(move |path, v| instead(path, &lines(v)))),
        ("a database", "b.db", Box::new(database)),
    ];
    for (what, file, write) in &ways {
        let source = if *file == "b.db" { "sqlite:data/b.db?table=b".to_string() } else { format!("data/{file}") };
        let folder = folder(&MODEL.replace("data/*.csv", &source));
        let path = folder.path().join("data").join(file);
        write(&path, 9);
        // Files that were written long ago, and just now.
        for pause in [0, 60] {
            std::thread::sleep(std::time::Duration::from_millis(pause));
            for (times, last) in [(1, Some(0)), (2, Some(0)), (100, None)] {
                let meddling = Meddling { left: times.into(), write: &|left| write(&path, left) };
                match (Model::refresh(folder.path(), &all(), &meddling), last) {
                    (Ok((model, _)), Some(version)) => {
                        assert_eq!(net(&model), 800 - version, "{what}, {times} times");
                        assert_eq!(net(&Model::open(folder.path()).unwrap()), 800 - version, "{what}, {times} times");
                    }
                    (Err(e), None) => assert!(e.to_string().contains("while it was read"), "{what}: {e}"),
                    (done, _) => panic!("{what}, {times} times: {:?}", done.map(|(model, _)| net(&model))),
                }
            }
        }
    }
}

fn net(model: &Model) -> usize {
    assert!(model.outdated().is_none(), "{:?}", model.outdated());
    let grid = model.query("grid net").unwrap().run().unwrap();
    grid.lines[0].values[0].to_string().parse().unwrap()
}

#[test]
fn what_a_database_has_not_taken_into_its_file_yet_is_seen() {
    let folder = folder(&MODEL.replace("data/*.csv", "sqlite:data/b.db?table=b"));
    let path = folder.path().join("data/b.db");
    database(&path, 0);
    let file = rusqlite::Connection::open(&path).unwrap();
    file.pragma_update(None, "journal_mode", "wal").unwrap();
    assert_eq!(net(&Model::open(folder.path()).unwrap()), 800);
    for net_of_next in [1, 2, 3] {
        let before = net(&Model::open(folder.path()).unwrap());
        file.execute("insert into b values ('B', 'R', ?1, '-')", [net_of_next]).unwrap();
        assert!(fs::metadata(path.with_extension("db-wal")).unwrap().len() > 0);
        assert_eq!(net(&Model::open(folder.path()).unwrap()), before + net_of_next as usize);
    }
    file.query_row("pragma wal_checkpoint(truncate)", [], |_| Ok(())).unwrap();
    assert_eq!(net(&Model::open(folder.path()).unwrap()), 806);
}

#[test]
fn files_that_follow_each_other_within_a_blink_are_told_apart() {
    let folder = folder(MODEL);
    let path = folder.path().join("data/b.csv");
    for version in 0..200 {
        fs::write(&path, same_length(version)).unwrap();
        assert_eq!(net(&Model::open(folder.path()).unwrap()), 800 - version, "version {version}");
    }
}

#[test]
fn what_is_said_for_people_only_makes_nothing_be_read_again() {
    let folder = folder(MODEL);
    write(folder.path(), "1.csv", 0, 30, 0);
    refresh(folder.path(), &RefreshOptions::default());
    let cases: &[(&str, Result<u64, &str>)] = &[
        ("route]\nhidden = true", Ok(0)),
        ("route]\nlabel = 'Route'\nnote = 'where it goes'", Ok(0)),
        ("net]\nformat = '0.0'", Ok(0)),
        ("route]\nmissing = ['R1']", Ok(1)),
        ("net]\ntype = 'float'", Ok(1)),
        ("comment]\nkeep = false", Ok(1)),
        ("comment]\nhidden = true", Ok(1)),
        ("fare]\nhidden = true", Err("no column `fare`")),
        ("double]\nhidden = true", Err("stands twice")),
    ];
    for (said, expected) in cases {
        fs::write(folder.path().join("model.toml"), format!("{MODEL}[table.booking.column.{said}\n")).unwrap();
        let found = Model::refresh(folder.path(), &RefreshOptions::default(), &Silent);
        match (found, expected) {
            (Ok((_, report)), Ok(read)) => assert_eq!(report.tables[0].parts_read, *read, "{said}"),
            (Err(e), Err(wanted)) => assert!(e.to_string().contains(wanted), "{said}: {e}"),
            (found, _) => panic!("{said}: {:?}", found.map(|(_, report)| report)),
        }
    }
}

/// A folder with several tables of different sizes, of which some may have a value that is none of their key's.
fn several(limit: &str, broken: &[&str]) -> TempDir {
    let folder = folder("");
    let mut model = format!("[model]\nname = 'several'\n{limit}\n");
    for (name, rows) in [("tide", 40u64), ("mooring", 30_000), ("crew", 2), ("crossing", 9_000)] {
        model += &format!("[table.{name}]\nsource = 'data/{name}.csv'\nkey = 'id'\n");
        let line = |i: u64| format!("{i},{},{name} {}\n", i * i % 13, i % 70);
        let mut text = format!("id,net,note\n{}", (0..rows).map(line).collect::<String>());
        if broken.contains(&name) {
            text += "1,5,again\n";
        }
        fs::write(folder.path().join("data").join(format!("{name}.csv")), text).unwrap();
    }
    fs::write(folder.path().join("model.toml"), model).unwrap();
    folder
}

fn in_pool<T: Send>(threads: usize, work: impl FnOnce() -> T + Send) -> T {
    rayon::ThreadPoolBuilder::new().num_threads(threads).build().unwrap().install(work)
}

#[test]
fn tables_that_are_read_side_by_side_are_what_each_is_alone() {
    let asked = "grid sum(tide.net) as a, sum(mooring.net) as b, sum(crew.net) as c, sum(crossing.net) as d";
    let mut told = Vec::new();
    for (threads, limit) in [(1, ""), (2, ""), (4, ""), (4, "memory_limit = '1 GiB'")] {
        let folder = several(limit, &[]);
        let (model, report) = in_pool(threads, || refresh(folder.path(), &all()));
        let tables: Vec<(String, u64)> = report.tables.iter().map(|t| (t.table.clone(), t.rows)).collect();
        let values = model.query(asked).unwrap().run().unwrap().lines[0].values.clone();
        told.push((tables, values, serde_json::to_value(model.sizes()).unwrap()));
    }
    assert!(told.windows(2).all(|two| two[0] == two[1]), "{told:#?}");
    assert_eq!(
        told[0].0.iter().map(|(name, _)| name.as_str()).collect::<Vec<_>>(),
        ["tide", "mooring", "crew", "crossing"]
    );
}

#[test]
fn what_is_wrong_with_tables_is_told_in_the_order_of_the_model_and_replaces_nothing() {
    for threads in [1, 4] {
        let folder = several("", &[]);
        let (good, _) = refresh(folder.path(), &all());
        let before = serde_json::to_value(good.sizes()).unwrap();
        let broken = several("", &["tide", "crew", "crossing"]);
        for file in fs::read_dir(broken.path().join("data")).unwrap().map(Result::unwrap) {
            fs::copy(file.path(), folder.path().join("data").join(file.file_name())).unwrap();
        }
        let wrong = in_pool(threads, || Model::refresh(folder.path(), &all(), &Silent)).unwrap_err();
        let of: Vec<&str> = wrong.problems().iter().map(|p| p.message.split('.').next().unwrap()).collect();
        assert_eq!(of, ["tide", "crew", "crossing"], "{wrong}");
        let (served, again) = Model::open_with(folder.path(), &RefreshOptions::default(), &Silent).unwrap();
        assert!(again.is_none() && served.outdated().is_some());
        assert_eq!(serde_json::to_value(served.sizes()).unwrap(), before);
    }
}
