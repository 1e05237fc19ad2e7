//! Tables as they are in their files, with what their columns need to be read well.

use std::path::Path;

use super::table::{Table, counted};
use crate::Error;
use crate::cancel::Cancel;
use crate::formula::check::Settings;
use crate::load::dialect::{DatePattern, Shape};
use crate::load::infer::is_code;
use crate::load::loaded::{LoadedColumn, LoadedTable};
use crate::load::tables::Loader;
use crate::load::{NO_UTF8, Observer};
use crate::model::Document;
use crate::model::dependencies::Formulas;
use crate::model::file::{CsvSection, ModelFile, TableSection};
use crate::store::{Column, SEGMENT_ROWS};
use crate::value::{Type, Value, parse};

/// Patterns of dates that are tried, the likelier ones first.
const DATE_PATTERNS: &[&str] = &[
    "dd/MM/yyyy",
    "MM/dd/yyyy",
    "dd.MM.yyyy",
    "dd-MM-yyyy",
    "yyyy/MM/dd",
    "dd/MM/yyyy HH:mm",
    "dd.MM.yyyy HH:mm",
    "d MMM yyyy",
];
/// Words for nothing.
const NOTHING: &[&str] = &["na", "n/a", "#n/a", "null", "nil", "none", "nan", "-", "--", "?", ".", "unknown"];
/// What text is mostly written in that is not UTF-8.
const ENCODING: &str = "windows-1252";
/// Values that a column is asked for when its dates are looked at.
const SAMPLE: usize = 2000;

fn read(into: &Path, name: &str, section: &TableSection, observer: &dyn Observer) -> Result<LoadedTable, Error> {
    let mut file = ModelFile::default();
    file.table.insert(name.to_string(), section.clone());
    let mut document = Document::in_memory(file);
    document.folder = into.to_path_buf();
    let (formulas, settings) = (Formulas::default(), Settings::default());
    let loader = Loader {
        document: &document,
        formulas: &formulas,
        observer,
        settings: &settings,
        memory: None,
        since: None,
        piece: None,
        segment_rows: SEGMENT_ROWS,
        cancel: &Cancel::default(),
    };
    Ok(loader.sourced(name, section, None)?)
}

/// Loads a table, with what its columns need to be read well.
pub(super) fn load(into: &Path, name: &str, source: &str, observer: &dyn Observer) -> Result<Table, Error> {
    let mut section = TableSection { source: Some(source.to_string()), ..TableSection::default() };
    let mut notes = Vec::new();
    let mut loaded = readable(into, name, &mut section, &mut notes, observer)?;
    let is_delimited = matches!(source.rsplit('.').next(), Some("csv" | "tsv" | "txt")) || source.contains(".csv.");
    let commas = if is_delimited { commas(&loaded) } else { Commas::None };
    let found = [
        words_for_nothing(&loaded, &commas, &mut section),
        numbers_with_commas(&commas, &mut section, &mut notes),
        dates(&loaded, &mut section, &mut notes),
    ];
    if found.contains(&true) {
        // What looked like more may be no more than that.
        match read(into, name, &section, observer) {
            Ok(better) => loaded = better,
            Err(e) => {
                notes.push(format!("left as text: {e}"));
                section.csv = section.csv.map(|csv| CsvSection { decimal: None, thousands: None, ..csv });
                section.missing = None;
                section.column.clear();
            }
        }
    }
    for column in texts(&loaded) {
        if let Some((ty, odd)) = nearly(&column.data, &commas.shape()) {
            notes.push(format!(
                "`{}` would be {ty} but for `{}`: mend it, or set its `type` and how many `max_bad_rows` there may be",
                column.name, odd[0]
            ));
        }
    }
    Ok(Table { name: name.to_string(), section, loaded, notes, key: None })
}

/// What can be read at all: in the encoding that the text has, and without the rows that cannot be.
fn readable(
    into: &Path,
    name: &str,
    section: &mut TableSection,
    notes: &mut Vec<String>,
    observer: &dyn Observer,
) -> Result<LoadedTable, Error> {
    if let Ok(loaded) = read(into, name, section, observer) {
        return Ok(loaded);
    }
    section.max_bad_rows = Some(u64::MAX);
    let mut loaded = read(into, name, section, observer);
    let is_no_utf8 = match &loaded {
        Ok(loaded) => loaded.report.bad_examples.iter().any(|e| e.contains(NO_UTF8)),
        Err(e) => e.to_string().contains(NO_UTF8),
    };
    if is_no_utf8 {
        section.csv = Some(CsvSection { encoding: Some(ENCODING.into()), ..CsvSection::default() });
        notes.push(format!("the text is not UTF-8; read as {ENCODING}"));
        loaded = read(into, name, section, observer);
    }
    let loaded = loaded?;
    let bad = loaded.report.bad_rows;
    section.max_bad_rows = Some(bad).filter(|n| *n > 0);
    if bad > 0 {
        let first = loaded.report.bad_examples.first().map_or("", String::as_str);
        notes.push(format!("{} cannot be read, for example: {first}", counted(bad, "row")));
    }
    Ok(loaded)
}

fn texts(loaded: &LoadedTable) -> impl Iterator<Item = &LoadedColumn> {
    loaded.columns.iter().filter(|c| c.data.ty() == Type::Text)
}

/// What stands for nothing in a column of numbers or dates stands for nothing everywhere; whether there is any.
fn words_for_nothing(loaded: &LoadedTable, commas: &Commas, section: &mut TableSection) -> bool {
    let mut words: Vec<String> = Vec::new();
    for column in texts(loaded) {
        if let Some((_, odd)) = nearly(&column.data, &commas.shape())
            && odd.iter().all(|v| NOTHING.contains(&v.to_lowercase().as_str()))
        {
            words.extend(odd.into_iter().filter(|v| !words.contains(v)).collect::<Vec<_>>());
        }
    }
    if words.is_empty() {
        return false;
    }
    words.insert(0, String::new());
    section.missing = Some(words);
    true
}

/// Notes how numbers are written; whether they have commas.
fn numbers_with_commas(commas: &Commas, section: &mut TableSection, notes: &mut Vec<String>) -> bool {
    let csv = section.csv.clone().unwrap_or_default();
    match commas {
        Commas::None => return false,
        Commas::Decimal => {
            section.csv = Some(CsvSection { decimal: Some(",".into()), ..csv });
            notes.push("numbers are written with a decimal comma".into());
        }
        Commas::Thousands(sure) => {
            section.csv = Some(CsvSection { thousands: Some(",".into()), ..csv });
            let but = if *sure { "" } else { "; were they decimal commas, it would be `csv = { decimal = \",\" }`" };
            notes.push(format!("thousands of numbers are parted by commas{but}"));
        }
    }
    true
}

/// Notes how the dates of texts are written; whether there are any.
fn dates(loaded: &LoadedTable, section: &mut TableSection, notes: &mut Vec<String>) -> bool {
    let mut any = false;
    for column in texts(loaded) {
        let Some((pattern, others)) = date_pattern(&column.data) else { continue };
        let entry = section.column.entry(column.name.clone()).or_default();
        entry.date_pattern = Some(pattern.to_string());
        if !others.is_empty() {
            notes.push(format!("the dates of `{}` could also be {}", column.name, others.join(" or ")));
        }
        any = true;
    }
    any
}

/// Whole numbers that nobody counts with are read as text, unless they relate to another table, whose column is of their
/// type.
pub(super) fn identifiers(table: &mut Table, relates: &dyn Fn(&str) -> bool) {
    let is_wanted = |c: &&LoadedColumn| {
        !relates(&c.name) && table.key.as_deref() != Some(&c.name) && is_identifier(&c.data, table.loaded.rows)
    };
    let names: Vec<String> = table.loaded.columns.iter().filter(is_wanted).map(|c| c.name.clone()).collect();
    for name in names {
        table.notes.push(format!("`{name}` looks like an identifier: it is read as text"));
        table.section.column.entry(name).or_default().ty = Some("text".into());
    }
}

/// Whether whole numbers name things: all have one length, and hardly any comes twice.
fn is_identifier(column: &Column, rows: usize) -> bool {
    const FEWEST_ROWS: usize = 10;
    const SHORTEST: u32 = 7;
    if column.ty() != Type::Int || rows < FEWEST_ROWS || (column.distinct() as usize) * 10 < rows * 9 {
        return false;
    }
    let mut lengths = column.codes().into_iter().map(|code| match column.value_of(code) {
        Value::Int(n) if n > 0 => n.ilog10() + 1,
        _ => 0,
    });
    let first = lengths.next().unwrap_or(0);
    first >= SHORTEST && lengths.all(|length| length == first)
}

/// Some of the values that occur.
fn sample(column: &Column) -> Vec<Value> {
    let values = (0..column.domain().min(SAMPLE as u64)).map(|code| column.value_of(code));
    values.filter(|v| !v.is_null()).collect()
}

/// The type that most values of a text column have, and those that have it not.
fn nearly(column: &Column, shape: &Shape) -> Option<(Type, Vec<String>)> {
    const MOST: f64 = 0.75;
    let values = sample(column);
    let types = [Type::Date, Type::Timestamp, Type::Float];
    types.into_iter().find_map(|ty| {
        let reads = |t: &str| {
            let plain = shape.normal(t.as_bytes());
            std::str::from_utf8(&plain).is_ok_and(|plain| parse::value(plain, ty).is_some())
        };
        let fits = |v: &Value| v.as_text().is_some_and(|t| !is_code(t.as_bytes()) && reads(t));
        let odd: Vec<&Value> = values.iter().filter(|v| !fits(v)).collect();
        let share = 1.0 - odd.len() as f64 / values.len().max(1) as f64;
        (share >= MOST && !odd.is_empty()).then(|| (ty, odd.iter().map(ToString::to_string).collect()))
    })
}

/// What commas in the numbers of a text are.
enum Commas {
    None,
    /// They part decimals.
    Decimal,
    /// They part thousands; certainly, or because nothing speaks for decimals.
    Thousands(bool),
}

impl Commas {
    fn shape(&self) -> Shape {
        match self {
            Commas::None => Shape::Plain,
            Commas::Decimal => Shape::Numbers { point: ',', thousands: '.' },
            Commas::Thousands(_) => Shape::Numbers { point: '.', thousands: ',' },
        }
    }
}

/// Columns of numbers with commas tell what these are: of one that only decimals can have, all are; of threes of digits
/// after each, they part thousands.
fn commas(loaded: &LoadedTable) -> Commas {
    let mut found = Commas::None;
    for column in loaded.columns.iter().filter(|c| c.data.ty() == Type::Text) {
        let values = sample(&column.data);
        let texts = || values.iter().filter_map(Value::as_text);
        let all = |shape: &Shape| {
            let number = |t: &str| {
                let plain = shape.normal(t.as_bytes());
                !is_code(&plain) && parse::float(&plain).is_some()
            };
            texts().any(|t| t.contains(','))
                && texts().filter(|t| number(t)).count() as f64 >= NUMBERS * texts().count() as f64
        };
        let (decimal, thousands) = (all(&Commas::Decimal.shape()), all(&Commas::Thousands(true).shape()));
        if decimal && !thousands {
            return Commas::Decimal;
        }
        if thousands {
            let sure = !decimal || matches!(found, Commas::Thousands(true));
            found = Commas::Thousands(sure);
        }
    }
    found
}

/// So many of the values of a column have to be numbers for its commas to say anything.
const NUMBERS: f64 = 0.75;

/// The first pattern that reads all values, and others that do so, too.
fn date_pattern(column: &Column) -> Option<(&'static str, Vec<&'static str>)> {
    let values = sample(column);
    if values.is_empty() {
        return None;
    }
    let reads = |pattern: &&&str| {
        let Ok(parsed) = DatePattern::parse(pattern) else { return false };
        values.iter().all(|v| v.as_text().is_some_and(|t| parsed.read(t.as_bytes()).is_some()))
    };
    let mut found = DATE_PATTERNS.iter().filter(reads).copied();
    Some((found.next()?, found.collect()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Model;

    fn column(values: &[Value], ty: Type) -> Column {
        let rows: Vec<Vec<Value>> = values.iter().map(|v| vec![v.clone()]).collect();
        let model = Model::builder().rows("t", &[("c", ty)], &rows).build().unwrap();
        model.store().tables[0].columns[0].verified().as_ref().clone()
    }

    fn of_texts(values: &[&str]) -> Column {
        column(&values.iter().map(Value::text).collect::<Vec<_>>(), Type::Text)
    }

    #[test]
    fn commas_are_told_apart_by_what_only_one_of_them_can_be() {
        let cases: &[(&[&str], &str)] = &[
            (&["1,5", "2,25", "3,125"], "decimal"),
            (&["1.234,50", "7,1"], "decimal"),
            (&["1,234", "2,500,000"], "thousands"),
            (&["1,234.50", "7.1", "12,000"], "thousands"),
            (&["1,234", "5,678"], "thousands, perhaps"),
            (&["Eddy, North", "Kelda"], "none"),
            (&["12.5", "7"], "none"),
            (&["0012,5", "x,y", "a,b"], "none"),
        ];
        for (values, expected) in cases {
            let mut loaded = LoadedTable::by_query("t");
            let data = std::sync::Arc::new(of_texts(values));
            loaded.columns.push(LoadedColumn {
                name: "c".into(),
                data,
                computed: crate::formula::schema::Computed::Source,
            });
            let found = match commas(&loaded) {
                Commas::None => "none",
                Commas::Decimal => "decimal",
                Commas::Thousands(true) => "thousands",
                Commas::Thousands(false) => "thousands, perhaps",
            };
            assert_eq!(found, *expected, "{values:?}");
        }
    }

    #[test]
    fn patterns_of_dates_have_to_read_every_value() {
        type Case<'a> = (&'a [&'a str], Option<(&'a str, usize)>);
        let cases: &[Case<'_>] = &[
            (&["31/12/2024", "01/02/2024"], Some(("dd/MM/yyyy", 0))),
            (&["12/31/2024", "01/02/2024"], Some(("MM/dd/yyyy", 0))),
            (&["01/02/2024", "03/04/2024"], Some(("dd/MM/yyyy", 1))),
            (&["31.12.2024"], Some(("dd.MM.yyyy", 0))),
            (&["31.12.2024 23:59"], Some(("dd.MM.yyyy HH:mm", 0))),
            (&["31/12/2024", "12/31/2024"], None),
            (&["31/12/2024", "soon"], None),
            (&["30/02/2024"], None),
        ];
        for (values, expected) in cases {
            let found = date_pattern(&of_texts(values));
            assert_eq!(found.map(|(pattern, others)| (pattern, others.len())), *expected, "{values:?}");
        }
    }

    #[test]
    fn a_column_that_is_nearly_something_names_what_is_not() {
        let mut values: Vec<String> = (0..20).map(|i| format!("{i}.5")).collect();
        values.push("n/a".into());
        let texts: Vec<&str> = values.iter().map(String::as_str).collect();
        let (ty, odd) = nearly(&of_texts(&texts), &Shape::Plain).unwrap();
        assert_eq!((ty, odd), (Type::Float, vec!["n/a".to_string()]));
        assert!(nearly(&of_texts(&texts[..20]), &Shape::Plain).is_none(), "all of them are numbers");
        assert!(nearly(&of_texts(&["a", "b", "1.5"]), &Shape::Plain).is_none());
    }

    #[test]
    fn long_numbers_of_one_length_that_hardly_repeat_name_things() {
        let ints = |of: &dyn Fn(i64) -> i64| column(&(0..20).map(|i| Value::Int(of(i))).collect::<Vec<_>>(), Type::Int);
        assert!(is_identifier(&ints(&|i| 1_000_000 + i), 20));
        assert!(!is_identifier(&ints(&|i| 100 + i), 20), "too short");
        assert!(!is_identifier(&ints(&|i| 999_990 + i), 20), "of two lengths");
        assert!(!is_identifier(&ints(&|i| 1_000_000 + i / 2), 20), "each twice");
    }
}
