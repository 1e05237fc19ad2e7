//! The same rows from every kind of source give the same table.
use std::fs;
use std::io::Write;
use std::path::Path;
use std::sync::Arc;

use arrow_array::{
    ArrayRef, BooleanArray, Date32Array, Decimal128Array, Float64Array, Int32Array, RecordBatch, StringArray,
    TimestampMillisecondArray,
};
use cubrel::internals::InModel as _;
use cubrel::{Model, Value};
use tempfile::TempDir;

const CSV: &str = "id,name,when,day,price,share,paid
1,Ness,2026-03-01 08:30:00,2026-03-01,12.50,0.125,true
2,,2026-03-02 09:00:00,,3.00,1e3,false
3,Café \"Nord\",2026-03-03 10:15:30,2026-03-03,-4.25,,
";
const TYPES: &str = "[table.sale.column.price]\ntype = 'decimal(10,2)'\n[table.sale.column.share]\ntype = 'float'\n";

/// Writes a source.
type Make = Box<dyn Fn(&Path)>;

fn batch() -> RecordBatch {
    let moment = |t: &str| cubrel::value::date::parse_timestamp(t.as_bytes()).unwrap() / 1000;
    let day = |t: &str| cubrel::value::date::parse_date(t.as_bytes()).unwrap();
    let price = Decimal128Array::from(vec![1250, 300, -425]).with_precision_and_scale(10, 2).unwrap();
    RecordBatch::try_from_iter([
        ("id", Arc::new(Int32Array::from(vec![1, 2, 3])) as ArrayRef),
        ("name", Arc::new(StringArray::from(vec![Some("Ness"), None, Some("Café \"Nord\"")]))),
        (
            "when",
            Arc::new(TimestampMillisecondArray::from(vec![
                moment("2026-03-01 08:30:00"),
                moment("2026-03-02 09:00:00"),
                moment("2026-03-03 10:15:30"),
            ])),
        ),
        ("day", Arc::new(Date32Array::from(vec![Some(day("2026-03-01")), None, Some(day("2026-03-03"))]))),
        ("price", Arc::new(price)),
        ("share", Arc::new(Float64Array::from(vec![Some(0.125), Some(1000.0), None]))),
        ("paid", Arc::new(BooleanArray::from(vec![Some(true), Some(false), None]))),
    ])
    .unwrap()
}

fn parquet(path: &Path) {
    let file = fs::File::create(path).unwrap();
    let properties = parquet::file::properties::WriterProperties::builder()
        .set_compression(parquet::basic::Compression::ZSTD(Default::default()))
        .set_max_row_group_row_count(Some(2))
        .build();
    let mut writer = parquet::arrow::ArrowWriter::try_new(file, batch().schema(), Some(properties)).unwrap();
    writer.write(&batch()).unwrap();
    writer.close().unwrap();
}

fn arrow_file(path: &Path) {
    let mut writer =
        arrow_ipc::writer::FileWriter::try_new(fs::File::create(path).unwrap(), &batch().schema()).unwrap();
    writer.write(&batch()).unwrap();
    writer.finish().unwrap();
}

fn arrow_stream(path: &Path) {
    let mut writer =
        arrow_ipc::writer::StreamWriter::try_new(fs::File::create(path).unwrap(), &batch().schema()).unwrap();
    writer.write(&batch()).unwrap();
    writer.finish().unwrap();
}

fn gzip(bytes: &[u8]) -> Vec<u8> {
    let mut writer = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::default());
    writer.write_all(bytes).unwrap();
    writer.finish().unwrap()
}

fn sqlite(path: &Path) {
    let connection = rusqlite::Connection::open(path).unwrap();
    connection
        .execute_batch(
            "create table \"sale\" (id integer, name text, \"when\" text, day text, price text, share real, paid text);
             insert into sale values (1, 'Ness', '2026-03-01 08:30:00', '2026-03-01', '12.50', 0.125, 'true');
             insert into sale values (2, null, '2026-03-02 09:00:00', null, '3.00', 1000, 'false');
             insert into sale values (3, 'Café \"Nord\"', '2026-03-03 10:15:30', '2026-03-03', '-4.25', null, null);",
        )
        .unwrap();
}

const LINES: &str = r#"{"id": 1, "name": "Ness", "when": "2026-03-01T08:30:00Z", "day": "2026-03-01", "price": 12.50, "share": 0.125, "paid": true}
{"id": 2, "name": null, "when": "2026-03-02 09:00:00", "price": 3.00, "share": 1e3, "paid": false}

{"when": "2026-03-03 10:15:30", "name": "Café \"Nord\"", "day": "2026-03-03", "id": 3, "price": -4.25}
"#;

/// Values of all rows as text.
fn shown(model: &Model) -> Vec<String> {
    let table = model.schema().find_table("sale").unwrap();
    let names = model.schema().table(table).columns.iter();
    let names: Vec<String> = names.map(|c| format!("sale.{}", cubrel::formula::words::quote_name(&c.name))).collect();
    let mut names = names;
    names.sort();
    let grid = model.query(&format!("records {} order by sale.id", names.join(", "))).unwrap().run().unwrap();
    grid.lines
        .iter()
        .map(|l| {
            l.values.iter().map(|v| if v.is_null() { "-".into() } else { v.to_string() }).collect::<Vec<_>>().join("|")
        })
        .collect()
}

fn load(file: &str, make: impl Fn(&Path), more: &str) -> Result<Model, cubrel::Error> {
    let folder: TempDir = tempfile::tempdir().unwrap();
    make(&folder.path().join(file.trim_start_matches("sqlite:").split('?').next().unwrap()));
    fs::write(folder.path().join("model.toml"), format!("[table.sale]\nsource = \"{file}\"\n{more}\n{TYPES}")).unwrap();
    Model::open(folder.path())
}

fn text(content: impl AsRef<[u8]>) -> impl Fn(&Path) {
    move |path| fs::write(path, content.as_ref()).unwrap()
}

#[test]
fn every_kind_of_source_gives_the_same_rows() {
    let expected = shown(&load("a.csv", text(CSV), "").unwrap());
    assert_eq!(expected[0], "2026-03-01 08:30:00|2026-03-01|1|Ness|true|12.50|0.125");
    assert_eq!(expected[1], "2026-03-02 09:00:00|-|2|-|false|3.00|1000");
    let semicolons = CSV.replace(',', ";").replace("12.50", "12,50").replace("3.00", "3,00").replace("-4.25", "-4,25");
    let semicolons = semicolons.replace("0.125", "0,125");
    let marked = [b"\xef\xbb\xbf", CSV.as_bytes()].concat();
    let wide: Vec<u8> = CSV.encode_utf16().flat_map(u16::to_le_bytes).collect();
    let latin: Vec<u8> = CSV.chars().map(|c| c as u32 as u8).collect();
    let odd_dates = CSV.replace(",2026-03-01,", ",01/03/2026,").replace(",2026-03-03,", ",03/03/2026,");
    let pattern = "[table.sale.column.day]\ndate_pattern = 'dd/MM/yyyy'";
    let cases: Vec<(&str, Make, &str)> = vec![
        ("a.tsv", Box::new(text(CSV.replace(',', "\t"))), ""),
        ("a.csv", Box::new(text(semicolons)), "csv = { decimal = ',' }"),
        ("a.csv", Box::new(text(CSV.replace('"', "'"))), "csv = { quote = \"'\" }"),
        ("a.csv", Box::new(text(marked)), ""),
        ("a.csv", Box::new(text([b"\xff\xfe".to_vec(), wide].concat())), ""),
        ("a.csv", Box::new(text(latin)), "csv = { encoding = 'windows-1252' }"),
        ("a.csv", Box::new(text(odd_dates)), pattern),
        ("a.csv.gz", Box::new(text(gzip(CSV.as_bytes()))), ""),
        ("a.csv.zst", Box::new(text(zstd::encode_all(CSV.as_bytes(), 3).unwrap())), ""),
        ("a.jsonl", Box::new(text(LINES)), ""),
        ("a.jsonl.gz", Box::new(text(gzip(LINES.as_bytes()))), ""),
        ("a.parquet", Box::new(parquet), ""),
        ("a.arrow", Box::new(arrow_file), ""),
        ("a.arrows", Box::new(arrow_stream), ""),
        ("sqlite:a.db?table=sale", Box::new(sqlite), ""),
        ("sqlite:a.db?query=select * from sale order by id desc", Box::new(sqlite), ""),
    ];
    for (file, make, more) in cases {
        let model = load(file, make, more).unwrap_or_else(|e| panic!("{file} {more}: {e}"));
        let found = shown(&model);
        // In the CSV with other quotes the name has them, too.
        let found: Vec<String> = found.iter().map(|l| l.replace("'Nord'", "\"Nord\"")).collect();
        assert_eq!(found, expected, "{file} {more}");
    }
}

#[test]
fn a_large_file_is_read_in_pieces_and_tells_the_right_line() {
    let mut content = String::from("id,name\n");
    for i in 0..1_200_000 {
        content += &format!("{i},name {}\n", i % 1000);
    }
    content += "oops\n";
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("a.csv"), content).unwrap();
    let toml =
        |bad: u64| format!("[table.t]\nsource = 'a.csv'\nmax_bad_rows = {bad}\n[measure.n]\nformula = 'sum(t.id)'");
    fs::write(folder.path().join("model.toml"), toml(0)).unwrap();
    let error = Model::open(folder.path()).unwrap_err().to_string();
    assert!(error.contains("a.csv line 1200002: 1 field, the header has 2"), "{error}");
    fs::write(folder.path().join("model.toml"), toml(1)).unwrap();
    let model = Model::open(folder.path()).unwrap();
    let grid = model.query("grid n, rows(t) as r, count(distinct t.name) as d").unwrap().run().unwrap();
    let sum = (0..1_200_000i64).sum::<i64>();
    assert_eq!(grid.lines[0].values, [Value::Int(sum), Value::Int(1_200_000), Value::Int(1000)]);
}

/// Sources that become text while they are read: more rows than one piece holds, a column that only the last one has,
/// texts of digits only.
#[test]
fn a_large_source_of_any_kind_is_whole() {
    const ROWS: i64 = 150_000;
    let lines = |path: &Path| {
        let mut text = String::new();
        for i in 0..ROWS {
            text += &format!("{{\"id\": {i}, \"name\": \"{:04}\"}}\n", i % 1000);
        }
        text += "{\"id\": -1, \"name\": \"x\", \"late\": 2.5}\n[]\n";
        fs::write(path, text).unwrap();
    };
    let database = |path: &Path| {
        let mut db = rusqlite::Connection::open(path).unwrap();
        db.execute_batch("create table sale (id integer, name text, late real)").unwrap();
        let transaction = db.transaction().unwrap();
        for i in 0..ROWS {
            let values = (i, format!("{:04}", i % 1000));
            transaction.execute("insert into sale values (?, ?, null)", values).unwrap();
        }
        transaction.execute("insert into sale values (-1, 'x', 2.5)", []).unwrap();
        transaction.commit().unwrap();
    };
    let sources: Vec<(&str, Make)> = vec![("a.jsonl", Box::new(lines)), ("sqlite:a.db?table=sale", Box::new(database))];
    for (source, make) in sources {
        let folder = tempfile::tempdir().unwrap();
        make(&folder.path().join(source.trim_start_matches("sqlite:").split('?').next().unwrap()));
        let model = format!("[table.sale]\nsource = \"{source}\"\nmax_bad_rows = 1");
        fs::write(folder.path().join("model.toml"), model).unwrap();
        let model = Model::open(folder.path()).unwrap_or_else(|e| panic!("{source}: {e}"));
        let text = "grid rows(sale) as n, sum(sale.id) as ids, min(sale.name) as low, count(distinct sale.name) as names, sum(sale.late) as late";
        let grid = model.query(text).unwrap().run().unwrap();
        let ids = Value::Int((0..ROWS).sum::<i64>() - 1);
        let late = if source.starts_with("sqlite") { Value::Float(2.5) } else { grid.lines[0].values[4].clone() };
        assert_eq!(late.to_string(), "2.5");
        let expected = [Value::Int(ROWS + 1), ids, Value::text("0000"), Value::Int(1001), late];
        assert_eq!(grid.lines[0].values, expected, "{source}");
    }
}

#[test]
fn what_cannot_be_read_is_named() {
    let cases: Vec<(&str, Make, &str, &str)> = vec![
        ("a.parquet", Box::new(text("no parquet")), "", "a.parquet cannot be read"),
        ("a.arrow", Box::new(text("no arrow")), "", "a.arrow cannot be read"),
        ("a.csv.gz", Box::new(text(CSV)), "", "cannot be unpacked"),
        ("a.csv.zst", Box::new(text(CSV)), "", "cannot be unpacked"),
        (
            "a.jsonl",
            Box::new(text("[1]\n{\"id\": 1, \"price\": 1, \"share\": 1}\n{\"id\"")),
            "",
            "a.jsonl line 1: this is not an object",
        ),
        ("a.jsonl", Box::new(text("\n")), "", "has no objects"),
        ("sqlite:a.db?table=nothing", Box::new(sqlite), "", "no such table: nothing"),
        ("sqlite:a.db", Box::new(sqlite), "", "does not say what to read of the database"),
        ("a.csv", Box::new(text(CSV)), "csv = { quote = 'ab' }", "`ab` is not one character"),
        ("a.csv", Box::new(text(CSV)), "csv = { decimal = ';' }", "`;` does not part decimals"),
        ("a.csv", Box::new(text(CSV)), "csv = { encoding = 'utf-99' }", "`utf-99` is not an encoding"),
        (
            "a.csv",
            Box::new(text(CSV)),
            "[table.sale.column.day]\ndate_pattern = 'dd/MM'",
            "`dd/MM` needs a year, a month and a day",
        ),
        (
            "a.csv",
            Box::new(text(CSV.replace(",2026-03-01,", ",31/02/2026,"))),
            "[table.sale.column.day]\ndate_pattern = 'dd/MM/yyyy'",
            "`31/02/2026` in column `day` is not a date",
        ),
    ];
    for (file, make, more, expected) in cases {
        let error = load(file, make, more).map(|m| shown(&m)).unwrap_err().to_string();
        assert!(error.contains(expected), "{file} {more}: {error}");
    }
}

/// One column of so many files of every kind.
#[test]
fn names_that_stand_twice_are_told_whatever_the_source_is() {
    use arrow_array::{ArrayRef, Int64Array, RecordBatch};
    use arrow_schema::{DataType, Field, Schema};

    let field = || Field::new("a", DataType::Int64, true);
    let column = || Arc::new(Int64Array::from(vec![1, 2])) as ArrayRef;
    let schema = Arc::new(Schema::new(vec![field(), field()]));
    let batch = RecordBatch::try_new(schema.clone(), vec![column(), column()]).unwrap();
    let parquet = {
        let mut bytes = Vec::new();
        let mut writer = parquet::arrow::ArrowWriter::try_new(&mut bytes, schema.clone(), None).unwrap();
        writer.write(&batch).unwrap();
        writer.close().unwrap();
        bytes
    };
    let arrow = {
        let mut writer = arrow_ipc::writer::StreamWriter::try_new(Vec::new(), &schema).unwrap();
        writer.write(&batch).unwrap();
        writer.into_inner().unwrap()
    };
    // Each column has a name in the end; of a JSON object nobody can say which one was meant.
    type Case = (&'static str, Vec<u8>, Result<[&'static str; 2], &'static str>);
    let cases: [Case; 5] = [
        ("t.csv", b"a,a\n1,2\n".to_vec(), Ok(["a", "a_2"])),
        ("t.jsonl", b"{\"a\":1,\"a\":2}\n{\"a\":3}\n".to_vec(), Err("`a` stands twice in the object")),
        ("t.parquet", parquet, Ok(["a", "a_2"])),
        ("t.arrow", arrow, Ok(["a", "a_2"])),
        ("sqlite:t.db?query=select 1 as a, 2 as a", Vec::new(), Ok(["a", "a_2"])),
    ];
    for (source, bytes, expected) in cases {
        let folder = tempfile::tempdir().unwrap();
        if source.starts_with("sqlite") {
            drop(rusqlite::Connection::open(folder.path().join("t.db")).unwrap());
            fs::write(folder.path().join("t.db"), "").unwrap();
        } else {
            fs::write(folder.path().join(source), bytes).unwrap();
        }
        fs::write(folder.path().join("model.toml"), format!("[table.t]\nsource = \"{source}\"\n")).unwrap();
        match (Model::open(folder.path()), expected) {
            (Ok(model), Ok(expected)) => {
                let catalog = model.catalog();
                let names: Vec<&str> = catalog.tables[0].columns.iter().map(|c| c.name.as_str()).collect();
                assert_eq!(names, expected, "{source}");
                let notes = model.reports()[0].notes.concat();
                assert!(
                    notes.contains("column 2 has the name of another one and is called `a_2`"),
                    "{source}: {notes}"
                );
            }
            (Err(e), Err(expected)) => assert!(e.to_string().contains(expected), "{source}: {e}"),
            (found, _) => panic!("{source}: {:?}", found.map(|_| ())),
        }
    }
    // Names that the model gives come before those of the source.
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("t.csv"), "a,b\n1,2\n").unwrap();
    fs::write(folder.path().join("model.toml"), "[table.t]\nsource = 't.csv'\n[table.t.column.b]\nsource_name = 'a'\n")
        .unwrap();
    let model = Model::open(folder.path()).unwrap();
    let grid = model.query("grid min(t.b) as b, min(t.b_2) as other").unwrap().run().unwrap();
    assert_eq!(grid.lines[0].values, [Value::Int(1), Value::Int(2)]);
}

#[test]
fn what_is_no_text_in_its_encoding_makes_a_bad_row() {
    let utf16 = |text: &[u16]| -> Vec<u8> { [0xFEFF].iter().chain(text).flat_map(|unit| unit.to_le_bytes()).collect() };
    let with = |middle: &[u16]| {
        let units = |text: &str| text.encode_utf16().collect::<Vec<_>>();
        utf16(&[units("a,b\nx"), middle.to_vec(), units("y,1\nz,2\n")].concat())
    };
    let cases: [(&str, Vec<u8>, &str); 6] = [
        ("utf-8", b"a,b\nx\xEDy,1\nz,2\n".to_vec(), ""),
        ("utf-16, a high half alone", with(&[0xD800]), ""),
        ("utf-16, a low half alone", with(&[0xDC00]), ""),
        ("shift_jis", b"a,b\nx\xFFy,1\nz,2\n".to_vec(), "csv = { encoding = 'shift_jis' }"),
        ("euc-jp", b"a,b\nx\xFFy,1\nz,2\n".to_vec(), "csv = { encoding = 'euc-jp' }"),
        ("gb18030", b"a,b\nx\xFFy,1\nz,2\n".to_vec(), "csv = { encoding = 'gb18030' }"),
    ];
    for (what, bytes, said) in cases {
        let folder = tempfile::tempdir().unwrap();
        fs::write(folder.path().join("t.csv"), bytes).unwrap();
        let model = |more: &str| format!("[table.t]\nsource = 't.csv'\n{said}\n{more}\n");
        fs::write(folder.path().join("model.toml"), model("")).unwrap();
        let refused = Model::open(folder.path()).map(|_| ()).unwrap_err().to_string();
        assert!(refused.contains("1 row cannot be read") && refused.contains("line 2"), "{what}: {refused}");
        fs::write(folder.path().join("model.toml"), model("max_bad_rows = 1")).unwrap();
        let model = Model::open(folder.path()).unwrap();
        let grid = model.query("grid sum(t.b) as b by t.a").unwrap().run().unwrap();
        let lines: Vec<Vec<String>> =
            grid.lines.iter().map(|l| l.values.iter().map(ToString::to_string).collect()).collect();
        assert_eq!(lines, [["z", "2"]], "{what}");
    }
}

/// Zeros, or whatever else, without end.
#[test]
fn lines_without_end_end_at_a_limit() {
    let long = |byte: u8, count: usize| vec![byte; count];
    let packed = |bytes: &[u8]| {
        let mut gz = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
        std::io::Write::write_all(&mut gz, bytes).unwrap();
        gz.finish().unwrap()
    };
    let header = |rest: Vec<u8>| [b"a,b\n1,2\n".to_vec(), rest].concat();
    let cases: [(&str, Vec<u8>); 6] = [
        ("t.csv", long(0, 80 << 20)),
        ("t.csv", header(long(b'x', 80 << 20))),
        ("t.csv.gz", packed(&header(long(0, 200 << 20)))),
        ("t.jsonl", [b"{\"a\":\"".to_vec(), long(b'x', 60 << 20), b"\"}\n".to_vec()].concat()),
        ("t.jsonl.gz", packed(&long(b'[', 100 << 20))),
        ("t.csv", header([b"\"".to_vec(), long(b'y', 80 << 20)].concat())),
    ];
    for (source, bytes) in cases {
        let folder = tempfile::tempdir().unwrap();
        fs::write(folder.path().join(source), &bytes).unwrap();
        fs::write(folder.path().join("model.toml"), format!("[table.t]\nsource = '{source}'\n")).unwrap();
        let start = std::time::Instant::now();
        let said = Model::open(folder.path()).map(|_| ()).unwrap_err().to_string();
        assert!(said.contains("is longer than"), "{source}, {:?}: {said}", &bytes[..9]);
        assert!(start.elapsed() < std::time::Duration::from_secs(20), "{source}: {:?}", start.elapsed());
    }
    // Long, but not too long: one field of 10 MB.
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("t.csv"), header([long(b'x', 10 << 20), b",3\n".to_vec()].concat())).unwrap();
    fs::write(folder.path().join("model.toml"), "[table.t]\nsource = 't.csv'\n").unwrap();
    let grid = Model::open(folder.path()).unwrap().query("grid max(length(t.a)) as n, sum(t.b) as b").unwrap().run();
    let values = grid.unwrap().lines[0].values.clone();
    assert_eq!(values, [cubrel::Value::Int(10 << 20), cubrel::Value::Int(5)]);
}

#[test]
fn numbers_with_very_many_decimals_are_doubles() {
    for zeros in [10, 17, 30, 39, 45, 127, 130, 300] {
        let folder = tempfile::tempdir().unwrap();
        let text = format!("a,b\n1,0.{0}5\n2,-1.{0}\n3,2\n", "0".repeat(zeros));
        fs::write(folder.path().join("t.csv"), &text).unwrap();
        for ty in ["", "type = 'decimal(10,2)'", "type = 'float'", "type = 'text'"] {
            let model = format!("[table.t]\nsource = 't.csv'\n[table.t.column.b]\n{ty}\n");
            fs::write(folder.path().join("model.toml"), model).unwrap();
            let model = Model::open(folder.path()).unwrap_or_else(|e| panic!("{zeros} {ty}: {e}"));
            let sum = if ty.contains("text") { "sum(cast(t.b as float))" } else { "sum(t.b)" };
            let grid = model.query(&format!("grid {sum} as s")).unwrap().run().unwrap();
            let sum: f64 = grid.lines[0].values[0].to_string().parse().unwrap();
            assert!((sum - 1.0).abs() < 1e-9, "{zeros} {ty}: {sum}");
        }
    }
}

/// A folder with one row in each of three files, one below the other, and links that lead in circles.
#[cfg(unix)]
fn linked() -> TempDir {
    let folder = TempDir::new().unwrap();
    let place = folder.path();
    fs::create_dir_all(place.join("data/north/ness")).unwrap();
    for (row, file) in ["data/a.csv", "data/north/b.csv", "data/north/ness/c.csv"].iter().enumerate() {
        fs::write(place.join(file), format!("id\n{row}\n")).unwrap();
    }
    for (link, to) in [("data/again", "."), ("data/north/up", ".."), ("data/north/ness/top", "../../..")] {
        std::os::unix::fs::symlink(to, place.join(link)).unwrap();
    }
    folder
}

#[cfg(unix)]
#[test]
fn patterns_over_folders_read_each_file_once_and_end() {
    let folder = linked();
    let cases = [
        ("data/**/*.csv", vec![0, 1, 2]),
        ("**/*.csv", vec![0, 1, 2]),
        ("data/north/**/*.csv", vec![1, 2]),
        ("**/north/**/*.csv", vec![1, 2]),
        ("data/**/ness/*.csv", vec![2]),
        ("./data/**/[ab].csv", vec![0, 1]),
        ("data/*.csv", vec![0]),
    ];
    for (source, expected) in cases {
        fs::write(folder.path().join("model.toml"), format!("[table.t]\nsource = '{source}'\n")).unwrap();
        let model = Model::open(folder.path()).unwrap_or_else(|e| panic!("{source}: {e}"));
        let grid = model.query("records t.id order by t.id").unwrap().run().unwrap();
        let ids: Vec<Value> = grid.lines.iter().map(|line| line.values[0].clone()).collect();
        assert_eq!(ids, expected.into_iter().map(Value::Int).collect::<Vec<_>>(), "{source}");
    }
    for (source, expected) in [("data/**x/*.csv", "is not a pattern"), ("data/**/*.tsv", "no file matches")] {
        fs::write(folder.path().join("model.toml"), format!("[table.t]\nsource = '{source}'\n")).unwrap();
        let error = Model::open(folder.path()).unwrap_err().to_string();
        assert!(error.contains(expected), "{source}: {error}");
    }
}

#[cfg(unix)]
#[test]
fn drafts_of_folders_that_lead_in_circles_end() {
    let folder = linked();
    let draft = cubrel::draft::draft(folder.path(), &[folder.path().join("data")], &cubrel::Silent).unwrap();
    assert_eq!(draft.toml.matches("source = ").count(), 3, "{}", draft.toml);
}

#[test]
fn what_is_nested_gives_columns_whatever_the_source_is() {
    use arrow_array::{ArrayRef, Int64Array, ListArray, RecordBatch, StringArray, StructArray, Time64MicrosecondArray};
    use arrow_schema::{DataType, Field, Fields, Schema};

    let jsonl = "{\"id\":1,\"address\":{\"city\":\"Ness\",\"geo\":{\"x\":1.5}},\"tags\":[1,2],\"address_city\":\"own\"}\n\
                 {\"id\":2,\"address\":null}\n{\"id\":3,\"address\":{\"city\":\"Holm\",\"geo\":{}}}\n";
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("t.jsonl"), jsonl).unwrap();
    let toml = "[table.t]\nsource = 't.jsonl'\n[table.t.column.x]\npath = 'address.geo.x'\n";
    fs::write(folder.path().join("model.toml"), toml).unwrap();
    let model = Model::open(folder.path()).unwrap();
    let grid = |text: &str| {
        let grid = model.query(text).unwrap_or_else(|e| panic!("{e}")).run().unwrap();
        grid.lines.into_iter().map(|l| l.values).collect::<Vec<_>>()
    };
    let text = Value::text;
    let rows = grid("records t.id, t.address_city, t.x, t.tags order by t.id");
    assert_eq!(rows[0], [Value::Int(1), text("own"), Value::Decimal { unscaled: 15, scale: 1 }, text("[1,2]")]);
    assert_eq!(rows[1], [Value::Int(2), Value::Null, Value::Null, Value::Null]);
    // Where somebody has the name, the parts keep their point, in every row.
    let cities = grid("records t.id, t.\"address.city\" order by t.id");
    assert_eq!([&cities[0][1], &cities[1][1], &cities[2][1]], [&text("Ness"), &Value::Null, &text("Holm")]);
    assert_eq!(rows[2][1], Value::Null);

    let city: ArrayRef = Arc::new(StringArray::from(vec![Some("Ness"), Some("hidden"), None]));
    let geo_x: ArrayRef = Arc::new(Int64Array::from(vec![Some(1), Some(2), Some(3)]));
    let geo_fields = Fields::from(vec![Field::new("x", DataType::Int64, true)]);
    let geo: ArrayRef = Arc::new(StructArray::new(geo_fields.clone(), vec![geo_x], None));
    let fields = Fields::from(vec![
        Field::new("city", DataType::Utf8, true),
        Field::new("geo", DataType::Struct(geo_fields), true),
    ]);
    // The address of the second row is null, whatever stands below it.
    let nulls = Some(vec![true, false, true].into());
    let address: ArrayRef = Arc::new(StructArray::new(fields.clone(), vec![city, geo], nulls));
    let at: ArrayRef = Arc::new(Time64MicrosecondArray::from(vec![1, 2, 3]));
    let lists: ArrayRef =
        Arc::new(ListArray::from_iter_primitive::<arrow_array::types::Int32Type, _, _>(vec![Some(vec![Some(1)]); 3]));
    let id: ArrayRef = Arc::new(Int64Array::from(vec![1, 2, 3]));
    let schema = Arc::new(Schema::new(vec![
        Field::new("id", DataType::Int64, false),
        Field::new("address", DataType::Struct(fields), true),
        Field::new("at", at.data_type().clone(), true),
        Field::new("lists", lists.data_type().clone(), true),
    ]));
    let batch = RecordBatch::try_new(schema.clone(), vec![id, address, at, lists]).unwrap();
    let parquet = {
        let mut bytes = Vec::new();
        let mut writer = parquet::arrow::ArrowWriter::try_new(&mut bytes, schema.clone(), None).unwrap();
        writer.write(&batch).unwrap();
        writer.close().unwrap();
        bytes
    };
    let arrow = {
        let mut writer = arrow_ipc::writer::FileWriter::try_new(Vec::new(), &schema).unwrap();
        writer.write(&batch).unwrap();
        writer.into_inner().unwrap()
    };
    for (file, bytes) in [("t.parquet", parquet), ("t.arrow", arrow)] {
        let folder = tempfile::tempdir().unwrap();
        fs::write(folder.path().join(file), bytes).unwrap();
        fs::write(folder.path().join("model.toml"), format!("[table.t]\nsource = '{file}'\n")).unwrap();
        let model = Model::open(folder.path()).unwrap_or_else(|e| panic!("{file}: {e}"));
        let grid = model.query("records t.id, t.address_city, t.address_geo_x order by t.id").unwrap().run().unwrap();
        let rows: Vec<Vec<Value>> = grid.lines.into_iter().map(|l| l.values).collect();
        assert_eq!(rows[0], [Value::Int(1), text("Ness"), Value::Int(1)], "{file}");
        assert_eq!(rows[1], [Value::Int(2), Value::Null, Value::Null], "{file}");
        assert_eq!(rows[2], [Value::Int(3), Value::Null, Value::Int(3)], "{file}");
        let notes = &model.reports()[0].notes;
        assert_eq!(notes.len(), 1, "{file}: {notes:?}");
        assert!(notes[0].contains("column `at` is Time64"), "{file}: {notes:?}");
        let asked = format!("[table.t]\nsource = '{file}'\n[table.t.column.at]\ntype = 'text'\n");
        fs::write(folder.path().join("model.toml"), asked).unwrap();
        let model = Model::open(folder.path()).unwrap_or_else(|e| panic!("{file}: {e}"));
        let grid = model.query("records t.at, t.lists order by t.at limit 1").unwrap().run().unwrap();
        assert_eq!(grid.lines[0].values, [text("00:00:00.000001"), text("[1]")], "{file}");
        assert!(model.reports()[0].notes.is_empty());
    }
}

#[test]
fn sources_of_any_kinds_go_together() {
    type Kind = (&'static str, fn(&Path));
    let kinds: [Kind; 6] = [
        ("a.csv", |path| fs::write(path, CSV).unwrap()),
        ("b.csv", |path| fs::write(path, CSV.replace(',', ";")).unwrap()),
        ("a.jsonl", |path| fs::write(path, LINES).unwrap()),
        ("a.parquet", parquet),
        ("a.arrow", arrow_file),
        ("sqlite:a.db?table=sale", sqlite),
    ];
    let twice = |lines: Vec<String>| lines.into_iter().flat_map(|line| [line.clone(), line]).collect::<Vec<_>>();
    let expected = twice(shown(&load("a.csv", text(CSV), "").unwrap()));
    for (first, make_first) in kinds {
        for (second, make_second) in kinds.iter().filter(|(second, _)| *second != first) {
            let folder = tempfile::tempdir().unwrap();
            for (source, make) in [(first, &make_first), (*second, make_second)] {
                make(&folder.path().join(source.trim_start_matches("sqlite:").split('?').next().unwrap()));
            }
            for types in [TYPES, ""] {
                let toml = format!("[table.sale]\nsource = [\"{first}\", \"{second}\"]\n{types}");
                fs::write(folder.path().join("model.toml"), toml).unwrap();
                let model = Model::open(folder.path()).unwrap_or_else(|e| panic!("{first} {second}: {e}"));
                assert_eq!(shown(&model), expected, "{first} and {second} {types}");
            }
        }
    }
}

#[test]
fn what_only_one_source_has_is_null_in_the_other_and_types_hold_both() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path();
    fs::write(path.join("a.csv"), "id,net,note\n1,2.5,x\n").unwrap();
    let batch = |ids: ArrayRef| RecordBatch::try_from_iter([("id", ids)]).unwrap();
    let write = |name: &str, batch: RecordBatch| {
        let file = fs::File::create(path.join(name)).unwrap();
        let mut writer = parquet::arrow::ArrowWriter::try_new(file, batch.schema(), None).unwrap();
        writer.write(&batch).unwrap();
        writer.close().unwrap();
    };
    write("b.parquet", batch(Arc::new(Int32Array::from(vec![2, 3]))));
    // Whole numbers with a null are doubles to some who write Parquet.
    write("c.parquet", batch(Arc::new(Float64Array::from(vec![Some(4.0), None]))));
    let opened = |source: &str, more: &str| {
        fs::write(path.join("model.toml"), format!("[table.t]\nsource = {source}\n{more}")).unwrap();
        Model::open(path)
    };
    let records = |model: &Model, text: &str| crate::common::shown(&crate::common::run(model, text));
    let model = opened("['b.parquet', 'a.csv']", "").unwrap();
    assert_eq!(records(&model, "records t.id, t.net, t.note order by t.id"), ["1|2.5|x", "2||", "3||"]);
    let notes = &model.reports()[0].notes;
    assert_eq!(notes.len(), 1, "{notes:?}");
    assert!(notes[0].contains("b.parquet has no `net`, `note`"), "{notes:?}");
    let model = opened("['b.parquet', 'c.parquet']", "").unwrap();
    assert_eq!(records(&model, "grid sum(t.id) as s, rows(t) as n"), ["9|4"]);
    assert_eq!(model.schema().tables[0].columns[0].ty.to_string(), "float");
    let model = opened("['b.parquet', 'c.parquet']", "[table.t.column.id]\ntype = 'int'").unwrap();
    assert_eq!(records(&model, "grid sum(t.id) as s, rows(t) as n"), ["9|4"]);
    assert_eq!(model.schema().tables[0].columns[0].ty.to_string(), "int");
    let said = opened("[]", "").map(|_| ()).unwrap_err().to_string();
    assert!(said.contains("there is no source in this list"), "{said}");
    write("d.parquet", batch(Arc::new(StringArray::from(vec!["x"]))));
    let said = opened("['b.parquet', 'd.parquet']", "").map(|_| ()).unwrap_err().to_string();
    assert!(said.contains("`id` is text in d.parquet and int in another file"), "{said}");
}

#[test]
fn only_the_source_that_has_changed_is_read_again() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path();
    let database = |a: i64, b: i64| {
        let db = rusqlite::Connection::open(path.join("a.db")).unwrap();
        db.execute_batch(&format!(
            "drop table if exists one; drop table if exists two;
             create table one (id integer); insert into one values ({a});
             create table two (id integer); insert into two values ({b});"
        ))
        .unwrap();
    };
    database(1, 10);
    fs::write(path.join("a.csv"), "id\n100\n").unwrap();
    fs::write(path.join("b.csv"), "id\n1000\n").unwrap();
    let toml = "[table.t]\nsource = ['sqlite:a.db?table=one', 'a.csv', 'b.csv', 'sqlite:a.db?table=two']\n";
    fs::write(path.join("model.toml"), toml).unwrap();
    let refreshed = || {
        let (model, report) = Model::refresh(path, &cubrel::RefreshOptions::default(), &cubrel::Silent).unwrap();
        let sum = crate::common::shown(&crate::common::run(&model, "grid sum(t.id) as s")).concat();
        (sum, report.tables[0].parts_read, report.tables[0].parts)
    };
    assert_eq!(refreshed(), ("1111".into(), 4, 4));
    assert_eq!(refreshed().0, "1111");
    fs::write(path.join("b.csv"), "id\n2000\n").unwrap();
    assert_eq!(refreshed(), ("2111".into(), 1, 4));
    database(2, 20);
    assert_eq!(refreshed(), ("2122".into(), 2, 4));
    let toml = "[table.t]\nsource = ['a.csv', 'sqlite:a.db?table=two', 'b.csv']\n";
    fs::write(path.join("model.toml"), toml).unwrap();
    assert_eq!(refreshed(), ("2120".into(), 3, 3), "another list is read anew");
}

#[test]
fn times_with_a_zone_are_told_where_one_wants() {
    use arrow_array::{TimestampMicrosecondArray, TimestampSecondArray};
    let utc = cubrel::value::date::parse_timestamp(b"2026-07-01 09:30:00").unwrap();
    let csv = "left\n2026-07-01T11:30:00+02:00\n2026-07-01 09:30:00\n";
    let lines = "{\"left\": \"2026-07-01T09:30:00Z\"}\n{\"left\": \"2026-07-01 09:30:00\"}\n";
    let arrow = |path: &Path, array: ArrayRef| {
        let batch = RecordBatch::try_from_iter([("left", array)]).unwrap();
        let file = fs::File::create(path).unwrap();
        let mut writer = arrow_ipc::writer::FileWriter::try_new(file, &batch.schema()).unwrap();
        writer.write(&batch).unwrap();
        writer.finish().unwrap();
    };
    let zoned = move |path: &Path| {
        arrow(path, Arc::new(TimestampMicrosecondArray::from(vec![utc]).with_timezone("America/New_York")));
    };
    let plain = move |path: &Path| arrow(path, Arc::new(TimestampSecondArray::from(vec![utc / 1_000_000])));
    let cases: Vec<(&str, Make, &[&str])> = vec![
        ("a.csv", Box::new(text(csv)), &["2026-07-01 11:30:00", "2026-07-01 09:30:00"]),
        ("a.jsonl", Box::new(text(lines)), &["2026-07-01 11:30:00", "2026-07-01 09:30:00"]),
        ("a.arrow", Box::new(zoned), &["2026-07-01 11:30:00"]),
        ("a.arrow", Box::new(plain), &["2026-07-01 09:30:00"]),
    ];
    for (file, make, expected) in cases {
        let folder = tempfile::tempdir().unwrap();
        make(&folder.path().join(file));
        fs::write(folder.path().join("other.csv"), "left\n").unwrap();
        // Beside text what knows its type becomes text, too.
        for source in [format!("'{file}'"), format!("['{file}', 'other.csv']")] {
            let model = |zone: &str| format!("[table.t]\nsource = {source}\n{zone}");
            fs::write(folder.path().join("model.toml"), model("time_zone = 'Europe/Oslo'")).unwrap();
            let there = Model::open(folder.path()).unwrap_or_else(|e| panic!("{source}: {e}"));
            let found = crate::common::shown(&crate::common::run(&there, "records t.left order by t.left desc"));
            assert_eq!(found, expected, "{source}");
            fs::write(folder.path().join("model.toml"), model("")).unwrap();
            let found = Model::open(folder.path()).unwrap();
            let found = crate::common::shown(&crate::common::run(&found, "records t.left"));
            assert!(found.iter().all(|time| time == "2026-07-01 09:30:00"), "{source}: {found:?}");
        }
        fs::write(folder.path().join("model.toml"), format!("[table.t]\nsource = '{file}'\ntime_zone = 'Oslo'"))
            .unwrap();
        let said = Model::open(folder.path()).map(|_| ()).unwrap_err().to_string();
        assert!(said.contains("`Oslo` is not a time zone"), "{said}");
    }
}
