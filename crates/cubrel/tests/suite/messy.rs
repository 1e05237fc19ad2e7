//! Random delimited text, written in every way there is, against a reader that takes one field after the other.
use std::fmt::Write;
use std::fs;
use std::path::Path;

use cubrel::formula::check::Settings;
use cubrel::load::infer::Guess;
use cubrel::load::loaded::LoadedTable;
use cubrel::load::tables::Loader;
use cubrel::load::{LoadError, Silent};
use cubrel::model::Document;
use cubrel::model::dependencies::formulas;
use cubrel::value::{date, parse};
use cubrel::{Type, Value};
use tempfile::TempDir;

/// Numbers that look random, and are the same every time.
struct Chance(u64);

impl Chance {
    fn below(&mut self, n: usize) -> usize {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        ((self.0 >> 33) % n.max(1) as u64) as usize
    }

    fn one_in(&mut self, n: usize) -> bool {
        self.below(n) == 0
    }

    fn of<'a, T>(&mut self, all: &'a [T]) -> &'a T {
        &all[self.below(all.len())]
    }
}

/// Makes a field that reads well.
type Make = fn(&mut Chance) -> String;

/// What columns hold, and the type that may be declared for them.
const KINDS: [(&str, Option<&str>, Make); 12] = [
    ("number", Some("int"), |c| format!("{}", c.below(2_000_000) as i64 - 1_000_000)),
    ("huge", None, |c| format!("{}{:018}", c.of(&["", "-", "8", "9"]), c.below(1 << 31))),
    ("price", Some("decimal(10,2)"), |c| format!("{}.{:02}", c.below(90_000), c.below(100))),
    ("rate", None, |c| format!("{}.{}", c.below(90), c.below(100_000))),
    ("share", Some("float"), |c| c.of(&["0.25", "1e3", "-7", ".5", "1E-2", "12345.678"]).to_string()),
    ("day", Some("date"), |c| date::date_to_string(c.below(20_000) as i32)),
    ("moment", None, |c| format!("2026-0{}-1{} 0{}:30", 1 + c.below(9), c.below(9), c.below(10))),
    ("paid", None, |c| c.of(&["true", "false", "TRUE", "False"]).to_string()),
    ("code", None, |c| format!("{:04}", c.below(300))),
    ("word", None, |c| c.of(&["ness", "Holm", "Skaw", "5\" pipe", "Ü", "x y", "nothing", "n"]).to_string()),
    ("line", None, |c| {
        let said = c.of(&["", " ", "a, b; c|d\te", "two\nlines", "say \"no\"", "\"", "end\r\n", "'"]);
        format!("{said}{}", c.below(9))
    }),
    ("mixed", None, |c| if c.one_in(400) { "x".into() } else { format!("{}", c.below(50)) }),
];

/// Fields that stand for nothing.
const MISSING: [&str; 3] = ["", "NA", "none"];

struct Column {
    name: String,
    declared: Option<&'static str>,
    fields: Make,
}

/// A table before it is written.
struct Table {
    columns: Vec<Column>,
    /// Rows, some of which have fields too many, too few, or of another type than declared.
    rows: Vec<Vec<String>>,
}

fn table(chance: &mut Chance, rows: usize) -> Table {
    let column = |i: usize, chance: &mut Chance| {
        let (name, declared, fields) = *chance.of(&KINDS);
        Column { name: format!("{name}_{i}"), declared: declared.filter(|_| chance.one_in(2)), fields }
    };
    let columns: Vec<Column> = (0..1 + chance.below(6)).map(|i| column(i, chance)).collect();
    let (missing, bad) = (3 + chance.below(40), 20 + chance.below(400));
    let field = |column: &Column, chance: &mut Chance| match &column.declared {
        _ if chance.one_in(missing) => chance.of(&MISSING).to_string(),
        Some(_) if chance.one_in(bad) => chance.of(&["?", "12x", "2026-02-30", "1.234.5", "--1"]).to_string(),
        _ => (column.fields)(chance),
    };
    let row = |chance: &mut Chance| {
        let mut row: Vec<String> = columns.iter().map(|column| field(column, chance)).collect();
        if chance.one_in(bad) {
            row.push("more".into());
        } else if columns.len() > 2 && chance.one_in(bad) {
            row.pop();
        }
        row
    };
    let rows = (0..rows).map(|_| row(chance)).collect();
    Table { columns, rows }
}

/// How a table is written.
#[derive(Debug)]
struct Way {
    delimiter: char,
    end: &'static str,
    /// Of so many fields one is quoted that need not be.
    quotes: usize,
    /// Of so many rows one is followed by an empty line.
    blank: usize,
    ends: bool,
    mark: bool,
}

fn way(chance: &mut Chance) -> Way {
    Way {
        delimiter: *chance.of(&[',', ';', '\t', '|']),
        end: if chance.one_in(2) { "\n" } else { "\r\n" },
        quotes: *chance.of(&[1, 3, usize::MAX]),
        blank: *chance.of(&[2, 50, usize::MAX]),
        ends: chance.one_in(2),
        mark: chance.one_in(4),
    }
}

fn written(table: &Table, way: &Way, chance: &mut Chance) -> String {
    let mut text = String::from(if way.mark { "\u{feff}" } else { "" });
    let header: Vec<String> = table.columns.iter().map(|c| c.name.clone()).collect();
    let lines = std::iter::once(&header).chain(&table.rows);
    for (i, row) in lines.enumerate() {
        for (k, field) in row.iter().enumerate() {
            let between = if k == 0 { String::new() } else { way.delimiter.to_string() };
            let needs = field.starts_with('"') || field.contains([way.delimiter, '\n', '\r']);
            // An empty field alone on its line would be no line.
            let empty = row.len() == 1 && field.is_empty();
            if needs || empty || way.quotes < usize::MAX && chance.one_in(way.quotes) {
                write!(text, "{between}\"{}\"", field.replace('"', "\"\"")).unwrap();
            } else {
                write!(text, "{between}{field}").unwrap();
            }
        }
        if i < table.rows.len() || way.ends {
            text += way.end;
        }
        if i > 0 && i < table.rows.len() && way.blank < usize::MAX && chance.one_in(way.blank) {
            text += way.end;
        }
    }
    text
}

fn is_missing(field: &str) -> bool {
    MISSING.contains(&field)
}

fn value(field: &str, ty: Type) -> Option<Value> {
    match ty {
        Type::Text => Some(Value::text(field)),
        _ => parse::value(field, ty),
    }
}

/// Types and values, field by field; and how many rows are bad.
fn expected(table: &Table) -> (Vec<Type>, Vec<Vec<Value>>, u64) {
    let declared: Vec<Option<Type>> =
        table.columns.iter().map(|c| c.declared.map(|text| Type::parse(text).unwrap())).collect();
    let fits = |row: &&Vec<String>| {
        let each = row.iter().zip(&declared);
        let fits = |(field, ty): (&String, &Option<Type>)| ty.is_none_or(|ty| value(field, ty).is_some());
        row.len() == declared.len() && each.clone().all(|(f, t)| is_missing(f) || fits((f, t)))
    };
    let rows: Vec<&Vec<String>> = table.rows.iter().filter(fits).collect();
    let guessed = |i: usize| {
        let mut guess = Guess::default();
        rows.iter().filter(|row| !is_missing(&row[i])).for_each(|row| guess.see(row[i].as_bytes()));
        guess.ty()
    };
    let types: Vec<Type> = declared.iter().enumerate().map(|(i, ty)| ty.unwrap_or_else(|| guessed(i))).collect();
    let of_field = |(field, ty): (&String, &Type)| match is_missing(field) {
        true => Value::Null,
        false => value(field, *ty).unwrap_or_else(|| panic!("{field} as {ty}")),
    };
    let values = rows.iter().map(|row| row.iter().zip(&types).map(of_field).collect()).collect();
    (types, values, (table.rows.len() - rows.len()) as u64)
}

fn loaded(folder: &Path, piece: Option<usize>) -> Result<LoadedTable, LoadError> {
    let document = Document::read(folder).unwrap();
    let (formulas, settings) = (formulas(&document), Settings::default());
    let loader = Loader {
        document: &document,
        formulas: &formulas,
        observer: &Silent,
        settings: &settings,
        memory: None,
        since: None,
        only_first: false,
        piece,
        segment_rows: 1 << 20,
        cancel: &cubrel::Cancel::default(),
        at_work: None,
    };
    loader.sourced("t", &document.file.table["t"], None)
}

fn model(folder: &Path, table: &Table, way: &Way, bad_rows: u64) {
    let mut text = format!(
        "[model]\nname = 'messy'\n[table.t]\nsource = 'data/*.csv'\nmissing = {MISSING:?}\nmax_bad_rows = {bad_rows}\n"
    );
    // What is guessed need not be said.
    if table.columns.len() == 1 || way.quotes != 3 {
        writeln!(text, "csv = {{ delimiter = {:?} }}", way.delimiter.to_string()).unwrap();
    }
    for column in &table.columns {
        if let Some(ty) = column.declared {
            writeln!(text, "[table.t.column.{}]\ntype = '{ty}'", column.name).unwrap();
        }
    }
    std::fs::write(folder.join("model.toml"), text).unwrap();
}

#[test]
fn messy_text_is_read_as_field_by_field_in_pieces_of_any_size() {
    for seed in 0..160u64 {
        let mut chance = Chance(seed.wrapping_mul(0x9E37_79B9_7F4A_7C15));
        let most = *chance.of(&[3, 40, 700, 2500]);
        let rows = chance.below(most);
        let table = table(&mut chance, rows);
        let way = way(&mut chance);
        let (types, values, bad) = expected(&table);
        let folder = TempDir::new().unwrap();
        std::fs::create_dir(folder.path().join("data")).unwrap();
        model(folder.path(), &table, &way, bad);
        // One file, or two with the same header.
        let cut = if chance.one_in(2) { 0 } else { chance.below(table.rows.len()) };
        let (first, second) = table.rows.split_at(cut);
        let mut whole = Vec::new();
        for (i, rows) in [first, second].into_iter().enumerate().filter(|(i, rows)| *i == 1 || !rows.is_empty()) {
            let columns = table.columns.iter().map(|c| Column { name: c.name.clone(), ..*c }).collect();
            let text = written(&Table { columns, rows: rows.to_vec() }, &way, &mut chance);
            std::fs::write(folder.path().join(format!("data/{i}.csv")), &text).unwrap();
            whole.push(text);
        }
        for piece in [None, Some(1), Some(7 + chance.below(60)), Some(1 + chance.below(20_000))] {
            let what = || format!("seed {seed}, pieces of {piece:?}, {way:?}");
            let found = loaded(folder.path(), piece).unwrap_or_else(|e| panic!("{}: {e}\n{whole:?}", what()));
            let found_types: Vec<Type> = found.columns.iter().map(|c| c.data.ty()).collect();
            assert_eq!(found_types, types, "{}", what());
            assert_eq!((found.rows, found.report.bad_rows), (values.len(), bad), "{}", what());
            for (i, column) in found.columns.iter().enumerate() {
                for (row, expected) in values.iter().enumerate() {
                    assert_eq!(
                        column.data.value_of(column.data.code(row)),
                        expected[i],
                        "{} row {row} of {}",
                        what(),
                        column.name
                    );
                }
            }
        }
    }
}

#[test]
fn every_bad_row_is_named_by_its_line() {
    let mut text = String::from("id,day,note\n");
    let mut bad = Vec::new();
    for i in 0..3000 {
        let line = text.lines().count() + 1;
        match i % 700 {
            600 => bad.push((i, line, format!("`x{i}` in column `id` is not a whole number"))),
            650 => bad.push((i, line, "2 fields, the header has 3".to_string())),
            690 => bad.push((i, line, "`2026-02-31` in column `day` is not a date".to_string())),
            _ => {}
        }
        match i % 700 {
            600 => writeln!(text, "x{i},2026-02-28,bad").unwrap(),
            650 => writeln!(text, "{i},2026-02-28").unwrap(),
            690 => writeln!(text, "{i},2026-02-31,\"bad\"").unwrap(),
            _ if i % 13 == 0 => writeln!(text, "{i},2026-02-28,\"two\nlines\"").unwrap(),
            _ => writeln!(text, "{i},2026-02-28,good").unwrap(),
        }
    }
    let model = format!(
        "[model]\nname = 'm'\n[table.t]\nsource = 't.csv'\nmax_bad_rows = {}\n[table.t.column.id]\ntype = 'int'\n\
         [table.t.column.day]\ntype = 'date'\n",
        bad.len()
    );
    for plain in [false, true] {
        let folder = TempDir::new().unwrap();
        // Without quotes the lines are other ones, and are told apart another way.
        let text = if plain { text.replace("\"two\nlines\"", "one").replace('"', "") } else { text.clone() };
        std::fs::write(folder.path().join("t.csv"), &text).unwrap();
        std::fs::write(folder.path().join("model.toml"), &model).unwrap();
        for piece in [None, Some(100), Some(9000)] {
            let report = loaded(folder.path(), piece).unwrap().report;
            assert_eq!(report.bad_rows, bad.len() as u64);
            for (example, (row, line, message)) in report.bad_examples.iter().zip(&bad) {
                // The header is the first line.
                let line = if plain { row + 2 } else { *line };
                assert!(
                    example.starts_with(&format!("t.csv line {line}: {message}")),
                    "{example} at {line}: {message}"
                );
            }
        }
    }
}

/// An open quote takes its own row and no other, wherever it stands and however the text is cut to pieces.
#[test]
fn an_open_quote_swallows_nothing() {
    for open in [2, 700, 1499] {
        for piece in [64, 5000, 1 << 20] {
            let folder = tempfile::tempdir().unwrap();
            let mut text = "id,note\n".to_string();
            for i in 0..1500 {
                match i {
                    _ if i == open => writeln!(text, "{i},\"open").unwrap(),
                    _ => writeln!(text, "{i},fine").unwrap(),
                }
            }
            fs::write(folder.path().join("t.csv"), text).unwrap();
            fs::write(folder.path().join("model.toml"), "[table.t]\nsource = 't.csv'\nmax_bad_rows = 1").unwrap();
            let table = loaded(folder.path(), Some(piece)).unwrap();
            assert_eq!((table.rows, table.report.bad_rows), (1499, 1), "row {open} in pieces of {piece}");
            let expected = format!("t.csv line {}: a quote opens a field and is not closed", open + 2);
            assert!(table.report.bad_examples[0].contains(&expected), "{:?}", table.report.bad_examples);
            fs::write(folder.path().join("model.toml"), "[table.t]\nsource = 't.csv'").unwrap();
            let refused = loaded(folder.path(), Some(piece)).map(|_| ()).unwrap_err();
            assert!(format!("{refused:?}").contains("is not closed"), "{refused:?}");
        }
    }
}

#[test]
fn long_numbers_stay_what_they_are() {
    let folder = tempfile::tempdir().unwrap();
    fs::write(
        folder.path().join("t.csv"),
        "parcel,x\n12345678901234567890,1\n12345678901234567891,2\n12345678901234567892,3\n",
    )
    .unwrap();
    fs::write(folder.path().join("model.toml"), "[table.t]\nsource = 't.csv'").unwrap();
    let model = cubrel::Model::open(folder.path()).unwrap();
    crate::common::expect(
        &model,
        "grid count(distinct t.parcel) as n, max(t.parcel) as m",
        &["3|12345678901234567892"],
    );
    crate::common::expect(&model, "grid sum(cast(t.parcel as decimal(38,0))) as s", &["37037036703703703673"]);
}

#[test]
fn a_load_filter_tests_rows_by_themselves() {
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("t.csv"), "v,k\n1,a\n2,b\n").unwrap();
    for (filter, expected) in [
        ("v = max(t.v)", "`max` goes through several rows"),
        ("v > 1 and rows(t) > 0", "`rows` goes through several rows"),
        ("other.x = v", "`other` is another table"),
        ("v = $least", "`$least` is given with a query"),
        ("v = total", "nothing is called `total`"),
    ] {
        let model =
            format!("[table.t]\nsource = 't.csv'\nwhere = \"{filter}\"\n[measure.total]\nformula = 'sum(t.v)'\n");
        fs::write(folder.path().join("model.toml"), model).unwrap();
        let error = cubrel::Model::open(folder.path()).unwrap_err().to_string();
        assert!(error.contains(expected) && error.contains("model.toml:3:"), "{filter}: {error}");
    }
}
