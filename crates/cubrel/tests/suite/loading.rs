//! Files as people write them: what is read, what is refused, what is kept.

use std::fs;
use std::path::Path;
use std::sync::Mutex;

use cubrel::internals::InModel as _;
use cubrel::{Error, Model, RefreshOptions};
use cubrel::{Observer, Silent, TableReport};
use tempfile::TempDir;

/// A model of one table `t` from one file, with more TOML for the table.
fn folder(csv: &[u8], toml: &str) -> TempDir {
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("t.csv"), csv).unwrap();
    fs::write(folder.path().join("model.toml"), format!("[table.t]\nsource = \"t*.csv\"\n{toml}")).unwrap();
    folder
}

fn open(csv: &str, toml: &str) -> Result<Model, Error> {
    Model::open(folder(csv.as_bytes(), toml).path())
}

/// Types and values of all columns, a line each.
fn shown(model: &Model) -> Vec<String> {
    let table = &model.schema().tables[0];
    let data = &model.store().tables[0];
    table
        .columns
        .iter()
        .zip(&data.columns)
        .map(|(def, column)| {
            let values: Vec<String> = column.codes().into_iter().map(|c| column.value_of(c).to_string()).collect();
            format!("{} {}: {}", def.name, def.ty, values.join("; "))
        })
        .collect()
}

fn problem(result: Result<Model, Error>) -> String {
    result.map(|_| ()).unwrap_err().to_string()
}

#[test]
fn types_and_values_are_found() {
    let cases: &[(&str, &str, &[&str])] = &[
        ("a,b\n1,x\n-2,y\n", "", &["a int: 1; -2", "b text: x; y"]),
        ("a;b\n1,5;x\n", "", &["a text: 1,5", "b text: x"]),
        ("a\tb\n1.5\t\n2\tq\n", "", &["a decimal(18,1): 1.5; 2.0", "b text: ; q"]),
        ("a|b\n1|2\n", "", &["a int: 1", "b int: 2"]),
        ("\u{feff}a,b\r\n1,2\r\n", "", &["a int: 1", "b int: 2"]),
        ("a,b\n\"x, \"\"y\"\"\nz\",1\n", "", &["a text: x, \"y\"\nz", "b int: 1"]),
        ("a\n2026-01-05\n\n2026-02-01\n", "", &["a date: 2026-01-05; 2026-02-01"]),
        ("a\n2026-01-05T10:00:00+02:00\n2026-01-05\n", "", &["a timestamp: 2026-01-05 08:00:00; 2026-01-05 00:00:00"]),
        ("a\ntrue\nFALSE\n", "", &["a bool: true; false"]),
        ("a\n1e3\n2.5\n", "", &["a float: 1000; 2.5"]),
        ("a\n007\n8\n", "", &["a text: 007; 8"]),
        ("a,b\n,\n,\n", "", &["a text: ; ", "b text: ; "]),
        ("a,b\n1,NA\n-,3\n", "missing = [\"NA\", \"-\"]\n", &["a int: 1; ", "b int: ; 3"]),
        ("a\n1\n2\n", "[table.t.column.a]\ntype = \"decimal(10,2)\"\n", &["a decimal(10,2): 1.00; 2.00"]),
        ("Odd Name,b\n1,2\n", "[table.t.column.fine]\nsource_name = \"Odd Name\"\n", &["fine int: 1", "b int: 2"]),
        (
            "a,b\n1,2\n",
            "[table.t.column.a]\nkeep = false\n[table.t.column.c]\nformula = \"a + b\"\n",
            &["b int: 2", "c int: 3"],
        ),
        ("a,b\n1,2\n5,6\n", "where = \"a > 1 and b is not null\"\n", &["a int: 5", "b int: 6"]),
        (
            "a\n1\n",
            "[table.t.column.b]\nformula = \"a / 4\"\n[table.t.column.c]\nformula = \"round(b, 1)\"\n",
            &["a int: 1", "b float: 0.25", "c float: 0.3"],
        ),
        (
            "a\n1\n",
            "[table.t.column.b]\nformula = \"a * 2.345\"\ntype = \"decimal(8,1)\"\n",
            &["a int: 1", "b decimal(8,1): 2.3"],
        ),
        ("a\n", "", &["a text: "]),
        (
            "a;b\n1.234,50;-7\n0,25;1.000.000\n",
            "csv = { decimal = \",\" }\n",
            &["a decimal(18,2): 1234.50; 0.25", "b int: -7; 1000000"],
        ),
        (
            "a,b,c\n\"1,234.5\",\"12,000\",x\n-7,3,\"1,23\"\n",
            "csv = { thousands = \",\" }\n",
            &["a decimal(18,1): 1234.5; -7.0", "b int: 12000; 3", "c text: x; 1,23"],
        ),
        // Parted in the wrong places, it is no number.
        ("a\n\"1,23\"\n\"1,234\"\n", "csv = { thousands = \",\" }\n", &["a text: 1,23; 1,234"]),
        ("a\n\"1234,567\"\n5\n", "csv = { thousands = \",\" }\n", &["a text: 1234,567; 5"]),
        ("a;b\n1'234;7\n12'000'000;8\n", "csv = { thousands = \"'\" }\n", &["a int: 1234; 12000000", "b int: 7; 8"]),
        (
            "a;b\n1 234,5;1\u{a0}000\n-12 000;7\n",
            "csv = { decimal = \",\", thousands = \" \" }\n",
            &["a decimal(18,1): 1234.5; -12000.0", "b text: 1\u{a0}000; 7"],
        ),
        (
            "a\n1\u{202f}234\n-1\u{202f}000\n",
            "csv = { thousands = \"\u{202f}\" }\n[table.t.column.a]\ntype = \"decimal(9,1)\"\n",
            &["a decimal(9,1): 1234.0; -1000.0"],
        ),
    ];
    for (csv, toml, expected) in cases {
        let model = open(csv, toml).unwrap_or_else(|e| panic!("{csv:?} {toml}\n{e}"));
        assert_eq!(shown(&model), *expected, "{csv:?} {toml}");
    }
}

#[test]
fn what_cannot_be_read_says_where_and_why() {
    let cases: &[(&str, &str, &str)] = &[
        ("", "", "is empty: it has no header line"),
        ("\n\n", "", "is empty: it has no header line"),
        (",,\n1,2,3\n", "", "t.csv is empty: it has no header line"),
        ("a,b\n1,2\n", "[table.t.column.c]\nsource_position = 3\n", "the source of table `t` has no column 3"),
        ("a,b\n1,2\n", "[table.t.column.c]\nsource_position = 0\n", "there is no column 0"),
        (
            "a,b\n1,2\n",
            "[table.t.column.c]\nsource_position = 2\n[table.t.column.d]\nsource_position = 2\n",
            "`c` is column 2, too",
        ),
        (
            "a,b\n1,2\n",
            "[table.t.column.c]\nsource_position = 2\nsource_name = 'b'\n",
            "`c` has a place in the source and a name there",
        ),
        ("a\n1\n", "csv = { skip = 5 }\n", "t.csv is empty: it has no header line"),
        ("a\n1\n", "csv = { header = 'b' }\n", "t.csv: no line begins with `b`"),
        ("", "csv = { header = 'b' }\n", "t.csv: no line begins with `b`"),
        ("a\n1\n", "csv = { header = ' ' }\n", "every line begins with nothing"),
        ("a\n1\n", "csv = { header = 'a', skip = 1 }\n", "`skip` says already where the header stands"),
        ("a\n12 pieces\n", "[table.t.column.a]\ntype = 'int'\n", "`12 pieces` in column `a` is not a whole number"),
        ("a\n5%\n", "[table.t.column.a]\ntype = 'int'\n", "`5%` in column `a` is not a whole number"),
        ("a,b\n1\n", "", "t.csv line 2: 1 field, the header has 2"),
        ("a,b\r\n1\r\n", "", "t.csv line 2: 1 field, the header has 2"),
        ("a,b\r\n\"x\r\n\ny\",1\r\n2\r\n", "", "t.csv line 5: 1 field, the header has 2"),
        ("\"a\",b\n1,2\n\n3\n", "", "t.csv line 4: 1 field, the header has 2"),
        ("a\n1\n", "csv = { thousands = \".\" }\n", "`.` parts decimals"),
        ("a\n1\n", "csv = { decimal = \",\", thousands = \",\" }\n", "`,` parts decimals"),
        ("a\n1\n", "csv = { thousands = \"dot\" }\n", "`dot` does not part thousands"),
        ("a\nx\n", "[table.t.column.a]\ntype = \"int\"\n", "t.csv line 2: `x` in column `a` is not a whole number"),
        (
            "a\n1.234\n99999999999\n",
            "[table.t.column.a]\ntype = \"decimal(5,2)\"\n",
            "`99999999999` in column `a` is not a decimal(5,2)",
        ),
        (
            "a\n2026-02-30\n",
            "[table.t.column.a]\ntype = \"date\"\n",
            "`2026-02-30` in column `a` is not a date such as 2026-03-01",
        ),
        ("a\n1\n", "[table.t.column.a]\ntype = \"decimal(30,2)\"\n", "a column stores at most 18 digits"),
        ("a\n1\n", "[table.t.column.b]\nhidden = true\n", "the source of table `t` has no column `b`"),
        ("a\n1\n", "[table.t.column.a]\nformula = \"1\"\n", "`a` stands in the source and has a formula"),
        ("a\n1\n1\n2\n", "key = \"a\"\n", "t.a is not unique, 1 duplicate key: `1` in 2 rows"),
        (
            "a,o\nx,1\ny,2\nx,3\n",
            "[table.t.column.a]\ndisplay_order = \"o\"\n",
            "t.a is ordered by o, but `x` has both 1 and 3",
        ),
        ("a\n1\n", "where = \"a\"\n", "a filter is true or false, this is int"),
        ("a\n1\n", "where = \"b > 1\"\n", "nothing is called `b`"),
        ("a\nx\n", "[table.t.column.b]\nformula = \"cast(a as int)\"\n", "row 1 of t: `x` cannot be turned into int"),
        (
            "a\n9223372036854775807\n",
            "[table.t.column.b]\nformula = \"a + 1\"\n",
            "t.b in row 1: 9223372036854775808 does not fit a column",
        ),
        ("a\n1\n", "csv = { delimiter = \"ab\" }\n", "`ab` is not one character"),
        ("a\n1\n", "calendar = \"a\"\nsame_as = \"u\"\n[table.u]\nsame_as = \"t\"\n", "`u` is a copy itself"),
    ];
    for (csv, toml, expected) in cases {
        let found = problem(open(csv, toml));
        assert!(found.contains(expected), "{csv:?} {toml}\nexpected {expected}\nfound {found}");
    }
}

#[test]
fn bad_rows_are_counted_and_left_out_up_to_the_limit() {
    let csv = "a,b\n1,2\n3\n4,5\nx,6\n";
    let toml = "max_bad_rows = 2\n[table.t.column.a]\ntype = \"int\"\n";
    let model = open(csv, toml).unwrap();
    assert_eq!(shown(&model), ["a int: 1; 4", "b int: 2; 5"]);
    let report = &model.reports()[0];
    assert_eq!((report.rows, report.bad_rows, report.bad_examples.len()), (2, 2, 2));
    assert!(problem(open(csv, &toml.replace('2', "1"))).contains("2 rows cannot be read"));
}

#[test]
fn text_that_is_not_utf8_is_a_bad_row() {
    let folder = folder(b"a,b\n\xff\xfe,1\nx,2\n", "max_bad_rows = 1\n");
    assert_eq!(shown(&Model::open(folder.path()).unwrap()), ["a text: x", "b int: 2"]);
}

#[test]
fn several_files_are_one_table_by_the_names_of_their_columns() {
    let folder = folder(b"a,b\n1,x\n", "");
    fs::write(folder.path().join("t2.csv"), "a,b\n2.5,y\n").unwrap();
    assert_eq!(shown(&Model::open(folder.path()).unwrap()), ["a decimal(18,1): 1.0; 2.5", "b text: x; y"]);
    // A younger file with a column more, one less, and another order.
    fs::write(folder.path().join("t3.csv"), "c,a\nz,2\n").unwrap();
    let (model, report) = Model::refresh(folder.path(), &RefreshOptions::default(), &Silent).unwrap();
    assert_eq!(shown(&model), ["a decimal(18,1): 1.0; 2.5; 2.0", "b text: x; y; ", "c text: ; ; z"]);
    let told = ["t.csv has no `c`: null there", "t2.csv has no `c`: null there", "t3.csv has no `b`: null there"];
    assert_eq!(report.tables[0].notes, told);
    // The next file is read by itself, or with all others, and nobody can tell.
    fs::write(folder.path().join("t4.csv"), "a,b\n7,w\n").unwrap();
    let (model, _) = Model::refresh(folder.path(), &RefreshOptions::default(), &Silent).unwrap();
    assert_eq!(shown(&model), ["a decimal(18,1): 1.0; 2.5; 2.0; 7.0", "b text: x; y; ; w", "c text: ; ; z; "]);
    fs::write(folder.path().join("t5.csv"), "x,y\n7,w\n").unwrap();
    let again = Model::refresh(folder.path(), &RefreshOptions::default(), &Silent).map(|(model, _)| model);
    assert!(problem(again).contains("t5.csv has no column in common with t.csv"));
}

#[test]
fn exports_are_read_as_people_write_them() {
    let typed = |column: &str, ty: &str| format!("[table.t.column.{column}]\ntype = '{ty}'\n");
    let cases: &[(&str, String, &[&str])] = &[
        ("a,a,\n1,2,3\n", String::new(), &["a int: 1", "a_2 int: 2", "column_3 int: 3"]),
        (
            "a,a,\n1,2,3\n",
            "[table.t.column.second]\nsource_position = 2\n[table.t.column.third]\nsource_position = 3\n".into(),
            &["a int: 1", "second int: 2", "third int: 3"],
        ),
        ("Report of March\n\n\"page\n1\"\na,b\n1,x\n", "csv = { skip = 4 }\n".into(), &["a int: 1", "b text: x"]),
        ("made,by,someone\na;b\n1;x\n", "csv = { skip = 1 }\n".into(), &["a int: 1", "b text: x"]),
        ("a report\n\nby,b\n\"a\",b\n1,x\na,y\n", "csv = { header = 'a\"' }\n".into(), &["a text: 1; a", "b text: x; y"]),
        ("a;b\n1;x\n", "csv = { header = ' a;' }\n".into(), &["a int: 1", "b text: x"]),
        ("a , b\n 1 , x \n2,\u{a0}y\u{a0}\n   ,\n", "trim = true\n".into(), &["a int: 1; 2; ", "b text: x; y; "]),
        ("a , b\n 1 , x \n", String::new(), &["a text:  1 ", "b text:  x "]),
        (
            "a,b\nNA,NA\n1,x\n",
            "[table.t.column.a]\nmissing = ['NA']\n".into(),
            &["a int: ; 1", "b text: NA; x"],
        ),
        (
            "a\n31/12/2025\n2026-01-02\n",
            "[table.t.column.a]\ndate_pattern = ['dd/MM/yyyy', 'yyyy-MM-dd']\n".into(),
            &["a date: 2025-12-31; 2026-01-02"],
        ),
        (
            "a\n31/12/2025 10:30\n2026-01-02\n",
            "[table.t.column.a]\ndate_pattern = ['dd/MM/yyyy HH:mm', 'yyyy-MM-dd']\n".into(),
            &["a timestamp: 2025-12-31 10:30:00; 2026-01-02 00:00:00"],
        ),
        (
            "a\n$12.50\n(3.25)\n7-\nEUR 1\n−2\n4\n",
            typed("a", "decimal(10,2)"),
            &["a decimal(10,2): 12.50; -3.25; -7.00; 1.00; -2.00; 4.00"],
        ),
        ("a\n12.5%\n5 %\n-1%\n", typed("a", "decimal(6,4)"), &["a decimal(6,4): 0.1250; 0.0500; -0.0100"]),
        ("a\n12.5%\n", typed("a", "float"), &["a float: 0.125"]),
        (
            "a;b\n1.234,50-;€ 2\n(5,5);3,25 €\n",
            "csv = { decimal = ',' }\n[table.t.column.a]\ntype = 'decimal(10,2)'\n[table.t.column.b]\ntype = 'decimal(10,2)'\n".into(),
            &["a decimal(10,2): -1234.50; -5.50", "b decimal(10,2): 2.00; 3.25"],
        ),
        ("a\n$1\n$2\n", String::new(), &["a text: $1; $2"]),
    ];
    for (csv, toml, expected) in cases {
        let model = open(csv, toml).unwrap_or_else(|e| panic!("{csv:?} {toml}: {e}"));
        assert_eq!(shown(&model), *expected, "{csv:?} {toml}");
    }
}

#[test]
fn text_of_two_bytes_a_character_needs_no_mark() {
    for little in [true, false] {
        let text = "a,b\n1,é\n";
        let bytes: Vec<u8> =
            text.encode_utf16().flat_map(|c| if little { c.to_le_bytes() } else { c.to_be_bytes() }).collect();
        let folder = folder(&bytes, "");
        assert_eq!(shown(&Model::open(folder.path()).unwrap()), ["a int: 1", "b text: é"]);
    }
}

#[test]
fn lines_are_counted_from_the_first_of_the_file() {
    let text = "A report\nof March\na,b\n1,2\nx,3\n";
    let toml = "csv = { skip = 2 }\n[table.t.column.a]\ntype = 'int'\n";
    assert!(problem(open(text, toml)).contains("t.csv line 5: `x` in column `a` is not a whole number"));
}

#[test]
fn a_store_answers_like_the_sources_it_was_made_from() {
    let folder = tempfile::tempdir().unwrap();
    let write = |file: &str, text: &str| fs::write(folder.path().join(file), text).unwrap();
    write("fact.csv", "k,d,x,s\n1,2026-01-01,1.50,a\n2,2026-02-01,,b\n9,2026-03-01,-3.25,\n1,,1e2,a\n");
    write("dim.csv", "id,name\n1,Ness\n2,Holm\n");
    write(
        "model.toml",
        "[table.fact]\nsource='fact.csv'\n[table.fact.column.name]\nformula='dim.name'\n[table.fact.column.twice]\nformula='x * 2'\n\
         [table.dim]\nsource='dim.csv'\nkey='id'\n[table.dim.column.all]\nformula='total'\n[table.calendar]\ncalendar='date'\n\
         [table.later]\nsame_as='calendar'\nprefix='Later '\n[[relationship]]\nmany='fact.k'\none='dim.id'\n\
         [[relationship]]\nmany='fact.d'\none='calendar.date'\n[[relationship]]\nmany='fact.d'\none='later.date'\n\
         [measure.total]\nformula='sum(fact.twice)'\n",
    );
    let queries = [
        "grid total, rows(fact) as n by dim.name totals",
        "grid total by fact.name, later.month",
        "grid single(dim.\"all\") by dim.id",
        "grid total by calendar.year split by dim.name with empty",
    ];
    let answers = |model: &Model| -> Vec<Vec<String>> {
        queries.iter().map(|q| crate::common::shown(&crate::common::run(model, q))).collect()
    };
    let (fresh, report) = Model::open_with(folder.path(), &RefreshOptions::default(), &Silent).unwrap();
    assert!(report.is_some(), "the sources were read");
    let (stored, report) = Model::open_with(folder.path(), &RefreshOptions::default(), &Silent).unwrap();
    assert!(report.is_none(), "the store was used");
    assert_eq!(answers(&fresh), answers(&stored));
    assert_eq!(fresh.sizes().model.bytes, stored.sizes().model.bytes);
    // A model that is open is not disturbed by a refresh, nor by one that fails.
    let before = answers(&stored);
    write("fact.csv", "k,d,x,s\n1,2026-01-01,7,a\n");
    let changed = Model::open(folder.path()).unwrap();
    assert_ne!(answers(&changed), before);
    write("dim.csv", "id,name\n1,Ness\n1,Holm\n");
    assert!(Model::refresh(folder.path(), &RefreshOptions::default(), &Silent).is_err());
    assert_eq!(answers(&stored), before);
    let last_good = Model::open(folder.path()).unwrap();
    assert!(last_good.outdated().is_some_and(|why| why.to_string().contains("not unique")));
    assert_eq!(answers(&last_good), answers(&changed));
}

/// Writes down what an observer is told.
#[derive(Default)]
struct Told(Mutex<Vec<String>>);

impl Observer for Told {
    fn table(&self, name: &str, bytes: u64) {
        self.0.lock().unwrap().push(format!("{name} begins, {bytes}"));
    }

    fn progress(&self, name: &str, bytes: u64) {
        self.0.lock().unwrap().push(format!("{name} {bytes}"));
    }

    fn done(&self, report: &TableReport) {
        self.0.lock().unwrap().push(format!("{} done, {} rows", report.table, report.rows));
    }
}

#[test]
fn an_observer_is_told_of_every_byte() {
    let folder = folder(b"a\n1\n2\n", "");
    let told = Told::default();
    Model::refresh(folder.path(), &RefreshOptions::default(), &told).unwrap();
    assert_eq!(*told.0.lock().unwrap(), ["t begins, 6", "t 6", "t done, 2 rows"]);
}

#[test]
fn only_named_tables_are_read_when_tables_are_named() {
    let folder = folder(b"a\n1\n", "[table.u]\nsource = \"u.csv\"\n");
    fs::write(folder.path().join("u.csv"), "b\n1\n").unwrap();
    let refresh = |tables: &[&str]| {
        let options =
            RefreshOptions { tables: tables.iter().map(|t| t.to_string()).collect(), ..RefreshOptions::default() };
        Model::refresh(folder.path(), &options, &Silent).map(|(_, report)| report.tables)
    };
    refresh(&[]).unwrap();
    let read = |path: &Path, text: &str| fs::write(path, text).unwrap();
    read(&folder.path().join("t.csv"), "a\n1\n2\n");
    read(&folder.path().join("u.csv"), "b\n1\n2\n");
    let rows: Vec<(u64, bool)> = refresh(&["u"]).unwrap().iter().map(|t| (t.rows, t.read)).collect();
    assert_eq!(rows, [(1, false), (2, true)]);
    assert!(refresh(&["w"]).unwrap_err().to_string().contains("there is no table `w`"));
}

/// Holds up loading, so that somebody else can come.
struct Slow {
    begun: std::sync::Barrier,
    go_on: std::sync::Barrier,
}

impl Observer for Slow {
    fn table(&self, _: &str, _: u64) {
        self.begun.wait();
        self.go_on.wait();
    }
}

#[test]
fn two_writers_do_not_meet() {
    let folder = folder(b"a\n1\n2\n", "");
    let slow = Slow { begun: std::sync::Barrier::new(2), go_on: std::sync::Barrier::new(2) };
    std::thread::scope(|scope| {
        let first = scope.spawn(|| Model::refresh(folder.path(), &RefreshOptions::default(), &slow).map(|_| ()));
        slow.begun.wait();
        let second = Model::refresh(folder.path(), &RefreshOptions::default(), &cubrel::Silent);
        let error = second.map(|_| ()).unwrap_err().to_string();
        assert!(error.contains("another refresh of this model is running"), "{error}");
        // Who only wants to ask waits, and takes what the first one has written.
        let reader = scope.spawn(|| Model::open_with(folder.path(), &RefreshOptions::default(), &cubrel::Silent));
        slow.go_on.wait();
        first.join().unwrap().unwrap();
        let (model, report) = reader.join().unwrap().unwrap();
        assert!(report.is_none(), "the store was fresh when its turn came");
        assert_eq!(model.store().tables[0].rows, 2);
    });
}

#[test]
fn rows_stand_in_the_order_that_the_model_says() {
    let csv = "a,b\n2,x\n1,y\n2,w\n1,z\n";
    let model = open(csv, "order = ['a', 'b']\n").unwrap();
    assert_eq!(shown(&model), ["a int: 1; 1; 2; 2", "b text: y; z; w; x"]);
    let model = open(csv, "order = ['first']\n[table.t.column.\"first\"]\nformula = \"b || 'q'\"\n").unwrap();
    assert_eq!(shown(&model)[1], "b text: w; x; y; z", "by what is calculated while loading");
    for (order, column, expected) in [
        ("c", "", "rows of `t` cannot be sorted by `c` while they are loaded"),
        ("b", "[table.t.column.b]\nkeep = false\n", "rows of `t` cannot be sorted by `b` while they are loaded"),
        ("d", "[table.t.column.d]\nformula = 'rows(t)'\n", "rows of `t` cannot be sorted by `d` while they are loaded"),
    ] {
        let found = problem(open(csv, &format!("order = ['{order}']\n{column}")));
        assert!(found.contains(expected), "{order}: {found}");
    }
    // Who says otherwise has the rows read again.
    let folder = folder(csv.as_bytes(), "order = ['b']\n");
    assert_eq!(shown(&Model::open(folder.path()).unwrap())[1], "b text: w; x; y; z");
    fs::write(folder.path().join("model.toml"), "[table.t]\nsource = 't*.csv'\norder = ['a']\n").unwrap();
    assert_eq!(shown(&Model::open(folder.path()).unwrap())[0], "a int: 1; 1; 2; 2");
}

#[test]
fn rows_that_stand_twice_are_left_out_where_the_model_says_so() {
    let csv = "id,v,at\n1,a,2026-01-01\n2,b,2026-01-01\n1,c,2026-03-01\n2,b,2026-01-01\n,x,\n1,d,2026-02-01\n";
    let model = open(csv, "distinct = true\n").unwrap();
    assert_eq!(shown(&model)[1], "v text: a; b; c; x; d");
    assert_eq!(model.reports()[0].notes, ["1 row is left out: the same stands in another row"]);
    let model = open(csv, "key = 'id'\nlatest_by = 'at'\n").unwrap();
    assert_eq!(shown(&model), ["id int: 1; 2; ", "v text: c; b; x", "at date: 2026-03-01; 2026-01-01; "]);
    assert_eq!(model.reports()[0].rows, 3);
    for (toml, expected) in [
        ("latest_by = 'at'\n", "nothing says of what the latest row of `t` is kept"),
        ("key = 'id'\nlatest_by = 'att'\n", "table `t` has no column `att`"),
        ("key = 'id'\ndistinct = true\n", "t.id is not unique"),
    ] {
        let found = problem(open(csv, toml));
        assert!(found.contains(expected), "{toml}: {found}");
    }
    // A newer state in a file that comes later, and an older one.
    let folder = folder(csv.as_bytes(), "key = 'id'\nlatest_by = 'at'\n");
    Model::open(folder.path()).unwrap();
    fs::write(folder.path().join("t2.csv"), "id,v,at\n2,new,2026-05-01\n1,old,2020-01-01\n").unwrap();
    let model = Model::open(folder.path()).unwrap();
    let mut values =
        shown(&model)[1].trim_start_matches("v text: ").split("; ").map(str::to_string).collect::<Vec<_>>();
    values.sort();
    assert_eq!(values, ["c", "new", "x"]);
}

#[test]
fn queries_are_answered_where_no_store_can_be_written() {
    let folder = folder(b"a\n1\n2\n", "");
    // Something that is no folder stands where the store would be.
    fs::write(folder.path().join(".cubrel"), "").unwrap();
    let model = Model::open(folder.path()).unwrap();
    assert_eq!(shown(&model), ["a int: 1; 2"]);
    assert!(model.unkept().is_some() && model.outdated().is_none());
    let refused = Model::refresh(folder.path(), &RefreshOptions::default(), &Silent).map(|_| ());
    assert!(refused.is_err(), "who asks for a store is told that there is none");
}
