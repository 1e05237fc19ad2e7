//! First models from files as people have them: what is found is what was put there, and what is drafted loads.
use std::fmt::Write as _;
use std::fs;
use std::path::Path;
use std::sync::atomic::{AtomicU64, Ordering};

use cubrel::draft::{Draft, draft};
use cubrel::internals::InModel as _;
use cubrel::{Model, RefreshOptions, RefreshReport, Value};
use cubrel::{Observer, Silent};
use tempfile::TempDir;

/// Numbers that look random, and are the same every time.
struct Chance(u64);

impl Chance {
    fn below(&mut self, n: u64) -> u64 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) % n.max(1)
    }

    fn of<'a, T>(&mut self, list: &'a [T]) -> &'a T {
        &list[self.below(list.len() as u64) as usize]
    }
}

fn folder(files: &[(&str, &str)]) -> TempDir {
    let folder = TempDir::new().unwrap();
    files.iter().for_each(|(name, text)| fs::write(folder.path().join(name), text).unwrap());
    folder
}

fn drafted(folder: &Path) -> Draft {
    draft(folder, &[folder.to_path_buf()], &Silent).unwrap_or_else(|e| panic!("{e}"))
}

/// The draft's model, loaded.
fn loaded(folder: &Path, draft: &Draft) -> Model {
    fs::write(folder.join("model.toml"), &draft.toml).unwrap();
    let loaded = Model::refresh(folder, &RefreshOptions::default(), &Silent);
    loaded.unwrap_or_else(|e| panic!("{e}\n{}", draft.toml)).0
}

fn total(model: &Model, item: &str) -> Value {
    let text = format!("grid {item} as x");
    model.query(&text).unwrap_or_else(|e| panic!("{text}: {e}")).run().unwrap().lines[0].values[0].clone()
}

const PORTS: &str = "Port Code,Name,Region\nNES,Ness,North\nHOL,Holm,North\nSKA,Skaw,South\nVAA,Vaar,South\n";

#[test]
fn what_points_where_is_told_with_its_evidence() {
    let line = |n: usize, from: &str, to: &str| format!("{n},{from},{to},{}\n", n % 7);
    let mut trips = String::from("trip,from,to,deck\n");
    (0..200).for_each(|n| trips += &line(n, ["NES", "HOL", "SKA"][n % 3], if n == 5 { "ZZZ" } else { "VAA" }));
    (200..400).for_each(|n| trips += &line(n, "HOL", ["NES", "SKA", "HOL"][n % 3]));
    // What it is about, files with their text, what has to be found, and what must not be.
    type Case<'c> = (&'c str, &'c [(&'c str, &'c str)], &'c [&'c str], &'c [&'c str]);
    let cases: &[Case<'_>] = &[
        (
            "texts whose names say nothing",
            &[("ports.csv", PORTS), ("trips.csv", &trips)],
            &[
                "trips.from points at ports.Port Code: 3 of its 3 values are keys there",
                "trips.to points at ports.Port Code, spare: 4 of its 5 values are keys there",
            ],
            // Numbers are among those of every key.
            &["trips.deck points", "trips.deck would"],
        ),
        (
            "a key that stands in two rows",
            &[
                ("port.csv", &(PORTS.replace("Port Code", "port_id") + &many_ports() + "NES,Again,North\n")),
                ("trip.csv", &trips.replace("from", "port_id")),
            ],
            &[
                "trip.port_id could point at port.port_id: 3 of its 3 values are keys there, and the names are alike; not possible yet: 1 duplicate key: `NES`",
            ],
            &["trip.port_id points at"],
        ),
        (
            "numbers need a name that is alike",
            &[
                ("deck.csv", "id,name\n0,Car\n1,Main\n2,Sun\n3,Top\n4,Bow\n5,Aft\n6,Low\n"),
                ("trip.csv", "trip,deck_id,crew\n1,2,3\n2,0,1\n3,6,6\n4,6,6\n"),
            ],
            &["trip.deck_id points at deck.id: 3 of its 3 values are keys there, and the names are alike"],
            &["trip.crew"],
        ),
        (
            "the key is what others point at, whatever else is unique and whatever is called a key",
            &[
                ("lines.csv", "line,name,mail\nN1,North,n@x\nH2,Holm,h@x\nS3,South,s@x\n"),
                ("trip.csv", "trip,line\n1,N1\n2,S3\n3,H2\n4,N1\n"),
                // A name stands twice: nearly a key, and more of one than the first column.
                ("pier.csv", &(PORTS.replace("Port Code", "mark") + &many_ports() + "QQQ,Vaar,South\n")),
                ("call.csv", "call,pier\n1,NES\n2,HOL\n3,SKA\n4,NES\n"),
            ],
            &["trip.line points at lines.line: 3 of its 3 values", "call.pier points at pier.mark: 3 of its 3 values"],
            &["lines.name", "pier.name"],
        ),
        (
            "few texts say nothing without a name",
            &[("grade.csv", "code,label\nA,Good\nB,Fair\nC,Poor\n"), ("trip.csv", "trip,letter\n1,A\n2,B\n3,A\n")],
            &["grade: 3 rows, 2 columns; no table refers to it"],
            &["points at"],
        ),
    ];
    for (what, files, there, not_there) in cases {
        let folder = folder(files);
        let draft = drafted(folder.path());
        let found = draft.findings.join("\n");
        there.iter().for_each(|part| assert!(found.contains(part), "{what}: no {part} in\n{found}"));
        not_there.iter().for_each(|part| assert!(!found.contains(part), "{what}: {part} in\n{found}"));
        loaded(folder.path(), &draft);
    }
}

/// More ports, so that one that is there twice is one in many.
fn many_ports() -> String {
    (0..80).fold(String::new(), |mut text, n| {
        writeln!(text, "P{n:02},Pier {n},South").unwrap();
        text
    })
}

#[test]
fn a_relationship_that_cannot_be_yet_stands_in_a_comment() {
    let ports = PORTS.replace("Port Code", "port_id") + &many_ports() + "NES,Again,North\n";
    let folder = folder(&[("port.csv", &ports), ("trip.csv", "trip,port_id\n1,NES\n2,HOL\n3,VAA\n4,VAA\n")]);
    let draft = drafted(folder.path());
    let block = "# [[relationship]]\n# many = \"trip.port_id\"\n# one = \"port.port_id\"\n";
    assert!(draft.toml.contains(block), "{}", draft.toml);
    loaded(folder.path(), &draft);
    // Mended, it can be.
    fs::remove_file(folder.path().join("model.toml")).unwrap();
    fs::write(folder.path().join("port.csv"), ports.replace("NES,Again,North\n", "")).unwrap();
    let mended = draft_again(folder.path());
    assert!(mended.toml.contains(&block.replace("# ", "")), "{}", mended.toml);
    assert!(mended.toml.contains("key = \"port_id\""), "{}", mended.toml);
}

fn draft_again(folder: &Path) -> Draft {
    fs::remove_dir_all(folder.join(".cubrel")).unwrap();
    drafted(folder)
}

#[test]
fn commas_in_numbers_are_told_by_what_stands_behind_them() {
    let cases: &[(&str, &str, &str)] = &[
        ("\"1,250\"\n\"12,000\"\n\"7\"\n", "thousands = \",\"", "13257"),
        ("\"1,250.75\"\n\"12.5\"\n\"7\"\n", "thousands = \",\"", "1270.25"),
        ("\"1,25\"\n\"12,000\"\n\"7\"\n", "decimal = \",\"", "20.250"),
        ("\"1.250,5\"\n\"12,0\"\n\"7\"\n", "decimal = \",\"", "1269.5"),
    ];
    for (rows, said, sum) in cases {
        let folder = folder(&[("t.csv", &format!("name,amount\n{}", numbered(rows)))]);
        let draft = drafted(folder.path());
        assert!(draft.toml.contains(&format!("csv = {{ {said} }}")), "{rows}{}", draft.toml);
        assert_eq!(total(&loaded(folder.path(), &draft), "total_amount").to_string(), *sum, "{rows}");
    }
    // One column that only decimals can have speaks for all.
    let folder = folder(&[("t.csv", "name;a;b\nx;1,250;0,5\ny;2,500;1,75\n")]);
    assert!(drafted(folder.path()).toml.contains("csv = { decimal = \",\" }"));
}

fn numbered(rows: &str) -> String {
    rows.lines().enumerate().map(|(i, line)| format!("n{i},{line}\n")).collect()
}

/// How an export writes its files.
#[derive(Debug)]
struct Habit {
    delimiter: char,
    decimal_comma: bool,
    dates: usize,
    ending: &'static str,
    mark: bool,
    blank: &'static str,
}

fn date_text(style: usize, (y, m, d): (u64, u64, u64)) -> String {
    match style {
        0 => format!("{y}-{m:02}-{d:02}"),
        1 => format!("{d:02}/{m:02}/{y}"),
        2 => format!("{d:02}.{m:02}.{y}"),
        _ => format!("{y}/{m:02}/{d:02}"),
    }
}

/// A field, quoted where it has to be.
fn field(text: &str, habit: &Habit) -> String {
    if text.contains([habit.delimiter, '"', '\n']) {
        format!("\"{}\"", text.replace('"', "\"\""))
    } else {
        text.to_string()
    }
}

/// Two tables as some program exports them, and what they say.
fn export(chance: &mut Chance, habit: &Habit) -> ([String; 2], u64, i64) {
    let line = |fields: &[String]| {
        let fields: Vec<String> = fields.iter().map(|f| field(f, habit)).collect();
        fields.join(&habit.delimiter.to_string()) + habit.ending
    };
    let names = |list: &[&str]| list.iter().map(|n| n.to_string()).collect::<Vec<_>>();
    let mark = if habit.mark { "\u{feff}" } else { "" };
    let islands = 5 + chance.below(20);
    let mut one = mark.to_string() + &line(&names(&["Island Code", "Island name", "Size"]));
    for i in 0..islands {
        let name = format!("{} \"{}\"; {i}, far", chance.of(&["Øst", "Ness", "Dún"]), chance.of(&["the old", "new"]));
        one += &line(&[format!("I{i:03}"), name, chance.of(&["S", "M", "L"]).to_string()]);
    }
    let mut many = mark.to_string() + &line(&names(&["landing", "island_code", "day", "paid", "people"]));
    let (rows, mut cents, mut people) = (200 + chance.below(400), 0i64, 0);
    for i in 0..rows {
        let paid = chance.below(500_000) as i64;
        let amount = format!("{}{}{:02}", paid / 100, if habit.decimal_comma { ',' } else { '.' }, paid % 100);
        let some = chance.below(9);
        // The first days are not all before the thirteenth, so that day and month can be told apart.
        let day = (2025, 1 + chance.below(12), if i < 40 { 13 + i % 15 } else { 1 + chance.below(28) });
        let is_blank = chance.below(15) == 0;
        cents += if is_blank { 0 } else { paid };
        people += some;
        many += &line(&[
            (i + 1).to_string(),
            format!("I{:03}", chance.below(islands)),
            date_text(habit.dates, day),
            if is_blank { habit.blank.to_string() } else { amount },
            some.to_string(),
        ]);
    }
    ([one, many], people, cents)
}

#[test]
fn exports_of_all_habits_are_read_as_they_were_meant() {
    for seed in 0..60u64 {
        let mut chance = Chance(seed.wrapping_mul(0x9E37_79B9_7F4A_7C15));
        let decimal_comma = chance.below(2) == 0;
        let habit = Habit {
            delimiter: if decimal_comma { *chance.of(&[';', '\t', '|']) } else { *chance.of(&[',', ';', '\t', '|']) },
            decimal_comma,
            dates: chance.below(4) as usize,
            ending: ["\n", "\r\n"][chance.below(2) as usize],
            mark: chance.below(2) == 0,
            blank: ["", "n/a", "-"][chance.below(3) as usize],
        };
        let ([one, many], people, cents) = export(&mut chance, &habit);
        let folder = folder(&[("Islands.csv", &one), ("landings.csv", &many)]);
        let draft = drafted(folder.path());
        let found = draft.findings.join("\n");
        assert!(found.contains("landings.island_code points at islands.Island Code"), "{seed} {habit:?}\n{found}");
        let model = loaded(folder.path(), &draft);
        let what = || format!("{seed} {habit:?}\n{}", draft.toml);
        assert_eq!(total(&model, "total_people"), Value::Int(people as i64), "{}", what());
        let paid = total(&model, "total_paid");
        assert_eq!(paid.to_string(), format!("{}.{:02}", cents / 100, cents % 100), "{}", what());
        // Every day is one, and stands in the calendar.
        assert_eq!(
            total(&model, "rows(landings) given (calendar.year = 2025)"),
            total(&model, "landings_rows"),
            "{}",
            what()
        );
    }
}

#[test]
fn numbers_that_nobody_counts_with_are_text_and_not_summed() {
    let row = |i: u64| {
        let (phone, parcel, cents) =
            (441_500_000 + i * 7919 % 400_000, 70_000_000_000_000_000_001 + u128::from(i) * 13, 100 + i * i);
        format!("{i},{phone},{parcel},0{},{cents},{}\n", 1000 + i, 2000 + i % 3)
    };
    let parcels: String = (1..200).map(row).collect();
    let folder = folder(&[("parcel.csv", &format!("id,phone,parcel,depot,cents,opened\n{parcels}"))]);
    let draft = drafted(folder.path());
    let model = loaded(folder.path(), &draft);
    let types: Vec<(String, String)> =
        model.schema().tables[0].columns.iter().map(|c| (c.name.clone(), c.ty.to_string())).collect();
    let text = |name: &str| (name.to_string(), "text".to_string());
    let int = |name: &str| (name.to_string(), "int".to_string());
    assert_eq!(types, [int("id"), text("phone"), text("parcel"), text("depot"), int("cents"), int("opened")]);
    let measures: Vec<&str> = model.schema().measures.iter().map(|m| m.name.as_str()).collect();
    assert_eq!(measures, ["parcel_rows", "total_cents", "average_opened"], "{}", draft.toml);
    let distinct = "grid count(distinct parcel.phone) as phones, count(distinct parcel.parcel) as parcels";
    assert_eq!(model.query(distinct).unwrap().run().unwrap().lines[0].values, [Value::Int(199), Value::Int(199)]);
}

#[test]
fn nothing_of_the_data_becomes_part_of_the_model() {
    let evil = "z\n[table.evil]\nsource = \"\"other.csv\"\"\n#";
    // A key that stands twice is quoted in a comment, and so is a header.
    let again = format!("\"{evil}\",Again,North\n");
    let ports = PORTS.replace("Port Code", "port_id") + &many_ports() + &again + &again;
    let folder = folder(&[
        ("port.csv", &ports),
        ("trip.csv", &format!("trip,port_id,\"x{evil}\"\n1,NES,1\n2,HOL,n\n3,VAA,3\n4,\"{evil}\",4\n")),
        ("other.csv", "a\n1\n"),
    ]);
    let draft = drafted(folder.path());
    let table = |line: &str| line.trim_start().starts_with("[table.evil");
    assert!(!draft.toml.lines().any(table), "{}", draft.toml);
    let quoted = |line: &str| line.starts_with('#') && line.contains("[table.evil");
    assert!(draft.toml.lines().any(quoted), "{}", draft.toml);
    let model = loaded(folder.path(), &draft);
    assert!(!model.schema().tables.iter().any(|t| t.name == "evil"));
}

#[test]
fn text_that_is_not_utf_8_is_read_wherever_that_shows() {
    let cases: &[(&str, &[u8])] = &[
        ("in the header", b"nr;k\xe4ufer\n1;Ness\n2;Holm\n"),
        ("in the values", b"nr;buyer\n1;N\xe4ss\n2;Holm\n"),
        ("in both", b"nr;k\xe4ufer\n1;N\xe4ss\n2;Holm\n"),
    ];
    for (what, bytes) in cases {
        let folder = TempDir::new().unwrap();
        fs::write(folder.path().join("sale.csv"), bytes).unwrap();
        let draft = drafted(folder.path());
        assert!(draft.toml.contains("windows-1252"), "{what}: {}", draft.toml);
        let model = loaded(folder.path(), &draft);
        assert_eq!(total(&model, "rows(sale)"), Value::Int(2), "{what}");
        // Without a word on how it is written it is refused, and the help says what to write.
        fs::write(folder.path().join("model.toml"), "[table.sale]\nsource = 'sale.csv'\n").unwrap();
        let error = Model::refresh(folder.path(), &RefreshOptions::default(), &Silent).unwrap_err().to_string();
        assert!(error.contains("is not UTF-8") && error.contains("windows-1252"), "{what}: {error}");
    }
}

#[test]
fn names_with_anything_in_them_are_drafted_as_names() {
    let folder = TempDir::new().unwrap();
    fs::write(folder.path().join("sale.csv"), "\0id\u{7},\"a \"\"b\"\" \\\",\"z\n[table.evil]\"\n1,2,3\n2,3,4\n")
        .unwrap();
    let draft = drafted(folder.path());
    let model = loaded(folder.path(), &draft);
    let catalog = model.catalog();
    assert!(catalog.tables.iter().all(|t| t.name != "evil"), "{}", draft.toml);
    assert_eq!(total(&model, "rows(sale)"), Value::Int(2));
}

/// Names and texts that are something else to somebody.
const ODD: &[&str] = &[
    "id",
    "Port Code",
    "a.b",
    "a \"b\"",
    "it's",
    "größe",
    "名前",
    "grid",
    "sum",
    "date",
    "1st",
    "-",
    "x\ny",
    "#no",
    "[t]",
    "total",
    "calendar",
    "parent_id",
    "price",
    "",
    "%",
    "a\\b",
    "$x",
    "rows",
    "Ünï Cödé",
    "true",
    "2026",
    "a,b;c",
];

/// A file of anything, as its name and its bytes.
fn anything(chance: &mut Chance, i: u64) -> (String, Vec<u8>) {
    let stems =
        ["port", "my file", "data [2026]", "größe", "a'b", "grid", "port-1", "port-2", "x.y", "total", "ports*"];
    let stem = format!("{}{}", chance.of(&stems), ["", "_a", "b"][(i % 3) as usize]);
    let width = 1 + chance.below(6);
    let header: Vec<&str> = (0..width).map(|_| *chance.of(ODD)).collect();
    let kinds: Vec<u64> = (0..width).map(|_| chance.below(9)).collect();
    let rows = *chance.of(&[0, 1, 4, 30]);
    let cell = |chance: &mut Chance, kind: u64, row: u64| match kind {
        _ if chance.below(12) == 0 => (*chance.of(&["", "NA", "-", "?"])).to_string(),
        0 => row.to_string(),
        1 => (row / 3).to_string(),
        2 => format!("P{}", row % 5),
        3 => format!("{}.{:02}", chance.below(900), chance.below(100)),
        4 => format!("{:02}/{:02}/2026", 1 + chance.below(28), 1 + chance.below(12)),
        5 => format!("2026-{:02}-{:02} 08:30", 1 + chance.below(12), 1 + chance.below(28)),
        6 => format!("1.234,{:02} €", chance.below(100)),
        7 => format!("00{row}"),
        _ => (*chance.of(ODD)).to_string(),
    };
    let table: Vec<Vec<String>> =
        (0..rows).map(|row| kinds.iter().map(|kind| cell(chance, *kind, row)).collect()).collect();
    match chance.below(10) {
        0 => (format!("{stem}.parquet"), b"PAR1 this is none".to_vec()),
        1 => (format!("{stem}.csv"), Vec::new()),
        2 => (format!("{stem}.xlsx"), b"PK nothing".to_vec()),
        3 | 4 => {
            let object = |row: &Vec<String>| {
                let entries = header.iter().zip(row).map(|(name, value)| (name.to_string(), value.clone().into()));
                serde_json::Value::Object(entries.collect()).to_string()
            };
            (format!("{stem}.jsonl"), table.iter().map(object).collect::<Vec<_>>().join("\n").into_bytes())
        }
        kind => {
            let delimiter = *chance.of(&[",", ";", "\t"]);
            let quoted = |field: &str| format!("\"{}\"", field.replace('"', "\"\""));
            let line = |row: &[String]| row.iter().map(|f| quoted(f)).collect::<Vec<_>>().join(delimiter) + "\n";
            let mut text = if kind == 5 { "Made on 3 March\n\n".to_string() } else { String::new() };
            text += &line(&header.iter().map(|h| h.to_string()).collect::<Vec<_>>());
            table.iter().for_each(|row| text += &line(row));
            if kind == 6 {
                text += "one field too few\n";
            }
            (format!("{stem}.csv"), text.into_bytes())
        }
    }
}

#[test]
fn whatever_the_files_are_what_is_drafted_loads() {
    let mut drafts = 0;
    for seed in 0..150 {
        let mut chance = Chance(seed);
        let folder = TempDir::new().unwrap();
        let files: Vec<(String, Vec<u8>)> = (0..1 + chance.below(4)).map(|i| anything(&mut chance, i)).collect();
        files.iter().for_each(|(name, bytes)| fs::write(folder.path().join(name), bytes).unwrap());
        let draft = match draft(folder.path(), &[folder.path().to_path_buf()], &Silent) {
            Ok(draft) => draft,
            Err(e) => {
                assert!(e.to_string().contains("none of the files can be read"), "{seed}: {e}");
                continue;
            }
        };
        loaded(folder.path(), &draft);
        drafts += 1;
        // What is only proposed can be had, too.
        let proposed: String = draft.toml.lines().map(|line| uncommented(line).to_string() + "\n").collect();
        if proposed != draft.toml && !proposed.contains("# not possible yet") {
            fs::write(folder.path().join("model.toml"), &proposed).unwrap();
            let both = Model::refresh(folder.path(), &RefreshOptions::default(), &Silent).map(|_| ());
            // Two ways between two tables are refused with what to do about it.
            let refused = both.err().map(|e| e.to_string()).filter(|e| !e.contains("ways lead from"));
            assert!(refused.is_none(), "{seed}: {}\n{proposed}", refused.unwrap_or_default());
        }
    }
    assert!(drafts > 100, "{drafts} drafts");
}

/// A line of a proposed table or relationship without its mark.
fn uncommented(line: &str) -> &str {
    let inside = line.strip_prefix("# ").unwrap_or(line);
    let is_toml = ["[[relationship]]", "many = ", "one = ", "[table.", "same_as = ", "rows_of = ", "source = "]
        .iter()
        .any(|s| inside.starts_with(s));
    if is_toml { inside } else { line }
}

#[test]
fn trees_bridges_totals_and_doubts_are_told() {
    let mut ports = String::from("port,parent,name,boats\n");
    for n in 0..12 {
        let parent = if n == 0 { String::new() } else { format!("P{}", (n - 1) / 3) };
        writeln!(ports, "P{n},{parent},Port {n},{}", n % 4).unwrap();
    }
    writeln!(ports, ",,Total,{}", (0..12).map(|n| n % 4).sum::<i32>()).unwrap();
    let mut people = String::from("person,name\n");
    (0..20).for_each(|n| writeln!(people, "g{n},Guest {n}").unwrap());
    let mut seen = String::from("person,port,first_seen\n");
    for n in 0..20 {
        (0..3).for_each(|k| writeln!(seen, "g{n},P{},2026-01-0{}", (n + k * 5) % 12, 1 + k).unwrap());
    }
    let mut trips = String::from("trip,port,fare,latitude\n");
    for n in 0..60 {
        // One port in six is not known.
        let port = if n % 6 == 5 { format!("X{}", n % 12) } else { format!("P{}", n % 4) };
        writeln!(trips, "{n},{port},{}.50,5{}.2", n % 30, n % 9).unwrap();
    }
    writeln!(trips, "Total,,{:.2},", (0..60).map(|n| f64::from(n % 30) + 0.5).sum::<f64>()).unwrap();
    let folder = folder(&[("port.csv", &ports), ("person.csv", &people), ("seen.csv", &seen), ("trip.csv", &trips)]);
    let draft = drafted(folder.path());
    for part in [
        "# one row has `Total` in `name` and the sum of a column: it is left out",
        "where = \"name <> 'Total'\"",
        "where = \"trip <> 'Total'\"",
        "# port.parent holds keys of its own table: a tree of 3 levels",
        "# seen is a bridge between person and port",
        "# many = \"trip.port\"",
        "formula = \"avg(trip.latitude)\"",
    ] {
        assert!(draft.toml.contains(part), "no {part} in\n{}", draft.toml);
    }
    let found = draft.findings.join("\n");
    assert!(found.contains("seen: 60 rows, 3 columns; a bridge between person and port"), "{found}");
    assert!(found.contains("trip.port may point at port.port: 4 of its 6 values are keys there"), "{found}");
    let model = loaded(folder.path(), &draft);
    assert_eq!(total(&model, "rows(port)"), Value::Int(12));
    assert_eq!(total(&model, "rows(trip)"), Value::Int(60));
    let proposed: String = draft.toml.lines().map(|line| uncommented(line).to_string() + "\n").collect();
    fs::write(folder.path().join("model.toml"), proposed).unwrap();
    let model = Model::refresh(folder.path(), &RefreshOptions::default(), &Silent).unwrap().0;
    crate::common::expect(&model, "grid rows(port) as n by port_above.name limit 2", &["Port 0|3", "Port 1|3"]);
    crate::common::expect(&model, "grid rows(trip) as n where port.port is null", &["10"]);
}

#[test]
fn rows_that_are_no_totals_stay() {
    let cases: &[(&str, &str)] = &[
        ("a sum without a word for it", "port,boats\nNess,1\nHolm,2\nSkaw,3\nVaar,6\n"),
        ("a word without a sum", "port,boats\nNess,1\nHolm,2\nSkaw,3\nTotal,7\n"),
        ("too few rows", "port,boats\nNess,1\nHolm,2\nTotal,3\n"),
        ("the word in several rows", "port,boats\nTotal,1\nHolm,2\nSkaw,3\nVaar,4\nTotal,10\n"),
        ("nothing but zeros", "port,boats\nNess,0\nHolm,0\nSkaw,0\nVaar,0\nTotal,0\n"),
    ];
    for (what, text) in cases {
        let folder = folder(&[("port.csv", text)]);
        let draft = drafted(folder.path());
        assert!(!draft.toml.contains("where = "), "{what}: {}", draft.toml);
    }
    let total = "port,region,boats,cars\nNess,N,1,4\nHolm,N,2,4\nSkaw,,3,1\nVaar,S,4,1\n,S,10,10\n";
    let folder = folder(&[("port.csv", total)]);
    let draft = drafted(folder.path());
    assert!(draft.toml.contains("where = \"port is not null\""), "{}", draft.toml);
}

#[test]
fn what_stands_in_few_of_very_many_values_is_found() {
    let mut text = String::from("seen;fare;left;note;deck\n");
    for n in 0..9000 {
        let (hour, minute) = (n / 3600, n / 60 % 60);
        let (month, day) = (1 + n % 12, 1 + n % 28);
        let fare = if n % 1000 == 7 { "NA".to_string() } else { format!("{},{:02}", n, n % 100) };
        let left =
            if n == 5000 { "n/a".to_string() } else { format!("{month:02}/{day:02}/2025 {hour:02}:{minute:02}") };
        let note = if n == 8000 { "free".to_string() } else { format!("{},5", 3 * n) };
        writeln!(text, "{n};{fare};{left};{note};{}", if n == 4000 { "upper " } else { "lower" }).unwrap();
    }
    let folder = folder(&[("trip.csv", &text)]);
    let draft = drafted(folder.path());
    let model = loaded(folder.path(), &draft);
    let fares: i64 = (0..9000).filter(|n| n % 1000 != 7).map(|n| 100 * n + n % 100).sum();
    let expected = format!("{}.{:02}", fares / 100, fares % 100);
    assert_eq!(total(&model, "sum(trip.fare)").to_string(), expected, "{}", draft.toml);
    assert_eq!(total(&model, "count(trip.left)"), Value::Int(8999), "{}", draft.toml);
    assert_eq!(total(&model, "max(trip.left)").to_string().replace('T', " "), "2025-12-28 02:29:00", "{}", draft.toml);
    assert!(draft.toml.contains("`note` would be decimal(18,1) but for `free`"), "{}", draft.toml);
}

#[test]
fn headers_are_found_in_each_file_however_many_lines_stand_before() {
    let rows = |from: u32| (from..from + 40).map(|n| format!("{n};MV {};{n},5\n", n % 3)).collect::<String>();
    for (title, said) in [("", "header = \"Trip No\""), ("Tern Isles\n\nprinted;today\n", "skip = 3")] {
        let first = format!("Tern Isles\n\nprinted;today\nTrip No;Vessel;Hours\n{}", rows(1));
        let second = format!("{title}\"Trip No\";Vessel;Hours\n{}", rows(41));
        let folder = folder(&[("trip_2025.csv", &first), ("trip_2026.csv", &second)]);
        let draft = drafted(folder.path());
        assert!(draft.toml.contains(said), "{}", draft.toml);
        let model = loaded(folder.path(), &draft);
        assert_eq!(total(&model, "rows(trip)"), Value::Int(80), "{}", draft.toml);
        assert_eq!(total(&model, "sum(trip.Hours)").to_string(), "3280.0", "{}", draft.toml);
    }
    // A month in which nothing happened.
    let title = "Tern Isles\n\nprinted;today\nTrip No;Vessel;Hours\n";
    for months in [[title.to_string(), title.to_string() + &rows(1)], [title.to_string() + &rows(1), title.to_string()]]
    {
        let folder = folder(&[("trip_2025.csv", &months[0]), ("trip_2026.csv", &months[1])]);
        let draft = drafted(folder.path());
        let model = loaded(folder.path(), &draft);
        assert_eq!(total(&model, "sum(trip.Hours)").to_string(), "840.0", "{}", draft.toml);
    }
}

#[test]
fn what_most_values_of_a_text_are_is_told_with_its_places() {
    type Pay = fn(u32) -> String;
    let rows = |pay: Pay| (1..200).map(|n| format!("{n};{};x\n", pay(n))).collect::<String>();
    let cases = [
        ((|n| format!("{n}")) as Pay, "int"),
        (|n| format!("1.{n:03},25"), "decimal(18,2)"),
        (|n| if n % 9 == 0 { format!("({n},5)") } else { format!("{n},5") }, "decimal(18,1)"),
        (|n| format!("{n}e3"), "float"),
    ];
    for (pay, ty) in cases {
        let text = format!("No;Pay;Note\n{};Total: 199;\n", rows(pay));
        let folder = folder(&[("shift.csv", &text)]);
        let draft = drafted(folder.path());
        assert!(draft.toml.contains(&format!("`Pay` would be {ty} but for `Total: 199`")), "{}", draft.toml);
    }
}

#[test]
fn numbers_with_signs_are_numbers_even_among_words_for_nothing() {
    let mut text = String::from("ref;fare;share;left\n");
    for n in 0..40 {
        let share = ["5,0%", "12,5%", "NA", ""][n % 4];
        writeln!(text, "{n};1.0{:02},{:02} €;{share};{:02}.03.2026", n, n * 2, 1 + n % 28).unwrap();
    }
    let folder = folder(&[("trip.csv", &text)]);
    let draft = drafted(folder.path());
    let model = loaded(folder.path(), &draft);
    assert_eq!(total(&model, "sum(trip.share)").to_string(), "1.750", "{}", draft.toml);
    let fares: f64 = (0..40).map(|n| 1000.0 + f64::from(n) + f64::from(n * 2) / 100.0).sum();
    assert_eq!(total(&model, "sum(trip.fare)").to_string(), format!("{fares:.2}"), "{}", draft.toml);
    assert!(draft.toml.contains("missing = [\"\", \"NA\"]"), "{}", draft.toml);
    // One value that is none takes its own column back to text, and no other.
    fs::remove_dir_all(folder.path().join(".cubrel")).unwrap();
    let odd = (0..3000).fold(text.clone(), |text, n| text + &format!("{};2,00 €;1%;0{}.04.2026\n", 100 + n, 1 + n % 9));
    fs::write(folder.path().join("trip.csv"), odd + "9999;free of charge;1%;01.04.2026\n").unwrap();
    let draft = drafted(folder.path());
    let model = loaded(folder.path(), &draft);
    assert!(total(&model, "sum(trip.share)").to_string().starts_with("31.7"), "{}", draft.toml);
    assert_eq!(total(&model, "max(trip.left)").to_string(), "2026-04-09", "{}", draft.toml);
}

/// What is large is first looked at by its beginning, and nobody can tell.
#[test]
fn a_large_file_is_drafted_like_a_small_one() {
    let row =
        |n: u32| format!("{n};{:02}.03.2026;1.2{:02},50 €;K{:03} ;remark on trip {n}\n", 1 + n % 28, n % 100, n % 40);
    let header = "ref;left;fare;guest;remark\n";
    let small = (0..3000).fold(header.to_string(), |text, n| text + &row(n));
    let large = (0..220_000).fold(header.to_string(), |text, n| text + &row(n));
    assert!(large.len() > 9 << 20);
    let draft_of = |bytes: Vec<u8>| {
        let folder = TempDir::new().unwrap();
        fs::write(folder.path().join("trip.csv"), bytes).unwrap();
        let draft = drafted(folder.path());
        loaded(folder.path(), &draft);
        let is_said = |line: &&str| !line.contains(" rows") && !line.contains("name = ") && !line.contains("order");
        let said: Vec<String> = draft.toml.lines().filter(is_said).map(str::to_string).collect();
        said.join("\n")
    };
    // What stands at the end, where nobody has looked at first.
    let ends: [&[u8]; 5] = [
        b"",
        b"9;01.04.2026;free of charge;K001;x\n",
        b"9;2026/04/01;7,00 \xe2\x82\xac;K001;x\n",
        b"9;01.04.2026;7,00 EUR;K\xe4ufer;x\n",
        b"9;01.04.2026;NA;K001;x\n",
    ];
    for end in ends {
        let of = |text: &str| draft_of([text.as_bytes(), end].concat());
        assert_eq!(of(&large), of(&small), "{}", String::from_utf8_lossy(end));
    }
}

#[test]
fn lists_are_proposed_as_tables() {
    let mut lines = String::new();
    for n in 0..30 {
        let cars = ["[]", "[{\"kind\": \"van\"}]", "[{\"kind\": \"van\"}, {\"kind\": \"car\"}]"][n % 3];
        writeln!(lines, "{{\"trip\": {{\"id\": \"T{n}\", \"cars\": {cars}}}, \"note\": \"[{n}\"}}").unwrap();
    }
    let folder = folder(&[("trip.jsonl", &lines)]);
    let draft = drafted(folder.path());
    assert!(draft.toml.contains("# rows_of = \"trip_cars\""), "{}", draft.toml);
    assert_eq!(draft.toml.matches("rows_of").count(), 1, "{}", draft.toml);
    let proposed: String = draft.toml.lines().map(|line| uncommented(line).to_string() + "\n").collect();
    fs::write(folder.path().join("model.toml"), &proposed).unwrap();
    let model = Model::refresh(folder.path(), &RefreshOptions::default(), &Silent);
    let model = model.unwrap_or_else(|e| panic!("{e}\n{proposed}")).0;
    crate::common::expect(&model, "grid rows(trip_trip_cars) as n by trip_trip_cars.kind", &["car|10", "van|20"]);
    crate::common::expect(&model, "grid rows(trip_trip_cars) as n where trip.note = '[4'", &["1"]);
}

/// Counts the bytes that are read.
#[derive(Default)]
struct Read(AtomicU64);

impl Observer for Read {
    fn table(&self, _: &str, bytes: u64) {
        self.0.fetch_add(bytes, Ordering::Relaxed);
    }
}

#[test]
fn what_was_read_for_a_draft_is_read_again_only_where_that_is_needed() {
    let mut trips = String::from("trip,seen,port,sold,share\n");
    (0..500).for_each(|n| {
        let port = ["NES", "HOL", "SKA", "VAA"][n * n % 4];
        writeln!(trips, "{n},{:02}.03.2026,{port},\"{},5\",{}%", 1 + n % 28, n % 90, n % 50).unwrap();
    });
    let size = |text: &str| text.len() as u64;
    type Change<'c> = (&'c str, &'c dyn Fn(&Path, &Draft), u64);
    let write = |folder: &Path, toml: &str| fs::write(folder.join("model.toml"), toml).unwrap();
    let changes: &[Change<'_>] = &[
        ("nothing", &|folder, draft| write(folder, &draft.toml), 0),
        (
            "a column for people",
            &|folder, draft| write(folder, &(draft.toml.clone() + "[table.ports.column.Region]\nlabel = 'Where'\n")),
            0,
        ),
        (
            "a file",
            &|folder, draft| {
                write(folder, &draft.toml);
                fs::write(folder.join("ports.csv"), PORTS.to_string() + "ORK,Orkness,South\n").unwrap();
            },
            size(PORTS) + 18,
        ),
        (
            "how a table is read",
            &|folder, draft| write(folder, &draft.toml.replace("[table.trips]", "[table.trips]\nwhere = 'trip < 400'")),
            size(&trips),
        ),
    ];
    for (what, change, bytes) in changes {
        let folder = folder(&[("ports.csv", PORTS), ("trips.csv", &trips)]);
        let draft = drafted(folder.path());
        change(folder.path(), &draft);
        let read = Read::default();
        let (model, report) = draft.refresh(folder.path(), &RefreshOptions::default(), &read).unwrap();
        assert_eq!(read.0.into_inner(), *bytes, "{what}");
        let (anew, of_all) =
            Model::refresh(folder.path(), &RefreshOptions { all: true, ..RefreshOptions::default() }, &Silent).unwrap();
        let told = |report: &RefreshReport| -> Vec<_> {
            report
                .tables
                .iter()
                .map(|t| (t.table.clone(), t.rows, t.bad_rows, t.filtered_rows, t.source_bytes))
                .collect()
        };
        assert_eq!(told(&report), told(&of_all), "{what}");
        let sizes = |model: &Model| serde_json::to_value(model.sizes()).unwrap();
        assert_eq!(sizes(&model), sizes(&anew), "{what}");
        let query = "grid sum(trips.sold) as sold, rows(trips) as trips by ports.Region, trips.seen";
        let lines = |model: &Model| model.query(query).unwrap().run().unwrap().lines.len();
        assert_eq!(lines(&model), lines(&anew), "{what}");
        // The store that it leaves is found good.
        let (_, report) = Model::open_with(folder.path(), &RefreshOptions::default(), &Silent).unwrap();
        assert!(report.is_none(), "{what}");
    }
}

#[test]
fn a_key_that_somebody_writes_into_a_draft_has_to_be_one() {
    let trips: String = (0..40).map(|n| format!("{n},{}\n", ["NES", "HOL", "SKA"][n % 3])).collect();
    let folder = folder(&[("ports.csv", PORTS), ("trips.csv", &format!("trip,port\n{trips}"))]);
    let draft = drafted(folder.path());
    let refresh = |toml: &str| {
        fs::write(folder.path().join("model.toml"), toml).unwrap();
        draft.refresh(folder.path(), &RefreshOptions::default(), &Silent).map(|_| ()).map_err(|e| e.to_string())
    };
    let drafted_key = "key = \"Port Code\"";
    assert!(draft.toml.contains(drafted_key), "{}", draft.toml);
    assert_eq!(refresh(&draft.toml), Ok(()));
    let wrong = refresh(&draft.toml.replace(drafted_key, "key = \"Region\"")).unwrap_err();
    assert!(wrong.contains("ports.Region is not unique"), "{wrong}");
}

#[test]
fn totals_at_the_end_of_each_file_are_left_out() {
    let january = "Ness,2026-01-03,1\nHolm,2026-01-04,2\nSkaw,2026-01-05,3\nVaar,2026-01-06,4\n";
    let february = "Ness,2026-02-03,5\nHolm,2026-02-04,6\nSkaw,2026-02-05,7\nVaar,2026-02-06,8\n";
    let note = "# 2 rows have `";
    let cases: &[(&str, [&str; 2], &str, &str)] = &[
        ("the same word", ["Total,,10", "Total,,26"], "where = \"port <> 'Total'\"", note),
        (
            "words with more behind them",
            ["Total January,,10", "Total February: ,,26"],
            "where = \"port not in ('Total February:', 'Total January')\"",
            note,
        ),
        (
            "no word",
            [",,10", ",,26"],
            "where = \"port is not null\"",
            "# 2 rows have nothing in `port` and together the sum",
        ),
        (
            "two words",
            ["All Saints,2026-01-07,0", "Grand Total,,36"],
            "where = \"port <> 'Grand Total'\"",
            "# one row has `Grand",
        ),
        ("in one of them for both", ["", "sum,,36"], "where = \"port <> 'sum'\"", "# one row has `sum` in `port`"),
    ];
    for (what, lines, filter, note) in cases {
        let text = |rows: &str, line: &str| format!("port,day,boats\n{rows}{line}\n");
        let files = [("trip-1.csv", text(january, lines[0])), ("trip-2.csv", text(february, lines[1]))];
        let folder = folder(&files.each_ref().map(|(name, text)| (*name, text.as_str())));
        let draft = drafted(folder.path());
        assert!(draft.toml.contains(filter) && draft.toml.contains(note), "{what}: {}", draft.toml);
        assert_eq!(total(&loaded(folder.path(), &draft), "total_boats"), Value::Int(36), "{what}");
    }
    // What each of them says has to be the sum of all others together.
    let files =
        [("trip-1.csv", january), ("trip-2.csv", february)].map(|(n, t)| (n, format!("port,day,boats\n{t}Total,,9\n")));
    let folder = folder(&files.each_ref().map(|(name, text)| (*name, text.as_str())));
    assert!(!drafted(folder.path()).toml.contains("where = "));
}

#[test]
fn texts_that_are_keys_but_for_capitals_are_told() {
    let ports = "code,name\nNES,Ness\nHOL,Holm\nVAA,Vaar\nSKA,Skaw\n";
    let cases: &[(&str, &str)] = &[
        ("NES,hol,VAA,ska", "2 of its 4 values are keys there, 4 but for capitals and blanks, and the names are alike"),
        ("nes,hol,vaa,ska", "0 of its 4 values are keys there, 4 but for capitals and blanks, and the names are alike"),
        ("NES,HOL,VAA,SKA", "4 of its 4 values are keys there, and the names are alike"),
    ];
    for (codes, evidence) in cases {
        let line = |(n, code): (usize, &str)| format!("{n},{code}\n{},{code}\n", n + 10);
        let trips: String = codes.split(',').enumerate().map(line).collect();
        let folder = folder(&[("port.csv", ports), ("trip.csv", &format!("trip,port_code\n{trips}"))]);
        let draft = drafted(folder.path());
        assert!(draft.toml.contains(&format!("# {evidence}\n")), "{codes}: {}", draft.toml);
        let is_doubtful = draft.toml.contains("# many = \"trip.port_code\"");
        assert_eq!(is_doubtful, evidence.contains("but for"), "{codes}: {}", draft.toml);
        loaded(folder.path(), &draft);
    }
    // What is not meant is not proposed.
    let folder = folder(&[("port.csv", ports), ("trip.csv", "trip,port_code\n1,xne\n2,xho\n3,xva\n4,xne\n")]);
    assert!(!drafted(folder.path()).toml.contains("trip.port_code"));
}
