//! Tables as they are in their files, with what their columns need to be read well.

use std::collections::HashSet;
use std::path::Path;
use std::sync::LazyLock;

use super::names::ColumnNaming;
use super::preamble::{HeaderPlace, header_place};
use super::table::{DraftSource, Table};
use super::totals::total_rows;
use crate::Error;
use cubrel_formula::check::Settings;
use cubrel_load::dialect::{DatePattern, Shape};
use cubrel_load::infer::is_code;
use cubrel_load::loaded::{LoadedColumn, LoadedTable};
use cubrel_load::tables::Loader;
use cubrel_load::{NO_UTF8, Observer};
#[cfg(feature = "workbook")]
use cubrel_load::{bytes, sources};
use cubrel_model::Document;
use cubrel_model::dependencies::Formulas;
use cubrel_model::file::{CsvSection, ModelFile, OneOrMany, TableSection, WorkbookSection};
use cubrel_store::{CodedColumn, SEGMENT_ROWS};
use cubrel_value::cancel::Cancel;
use cubrel_value::threads::AtWork;
use cubrel_value::units::counted;
use cubrel_value::{Type, Value, exact, parse};

/// How dates are written, the likelier ways first.
const DATES: &[&str] = &[
    "dd/MM/yyyy",
    "MM/dd/yyyy",
    "dd.MM.yyyy",
    "dd-MM-yyyy",
    "yyyy/MM/dd",
    "d MMM yyyy",
    "d-MMM-yyyy",
    "MMM d, yyyy",
    "MM-dd-yyyy",
    "yyyy.MM.dd",
    "yyyy-MM-dd",
];
/// Those with the last two digits of the year.
const SHORT_DATES: &[&str] = &["dd.MM.yy", "dd/MM/yy", "MM/dd/yy", "d-MMM-yy"];
/// What comes behind a date.
const TIMES: &[&str] = &["", " HH:mm", " HH:mm:ss", " h:mm a", " h:mm:ss a"];
/// Patterns of dates that are tried.
static DATE_PATTERNS: LazyLock<Vec<TriedPattern>> = LazyLock::new(|| {
    let of =
        |dates: &'static [&str]| TIMES.iter().flat_map(|time| dates.iter().map(move |date| format!("{date}{time}")));
    let tried = |text: String| Some(TriedPattern { pattern: DatePattern::parse(&text).ok()?, text });
    of(DATES).chain(of(SHORT_DATES)).filter_map(tried).collect()
});

/// A pattern of dates, and how it is written.
struct TriedPattern {
    text: String,
    pattern: DatePattern,
}

impl TriedPattern {
    fn reads(&self, text: &str) -> bool {
        self.pattern.read(text.as_bytes()).is_some()
    }

    fn has_whole_years(&self) -> bool {
        self.text.contains("yyyy")
    }

    /// Whether a text can be no number of a chapter or an account, such as 01.02.03: years or months are told by more than two digits, or
    /// a day comes that no month is.
    fn is_sure_of(&self, text: &str) -> bool {
        let day = || self.pattern.read(text.as_bytes()).and_then(|iso| iso.get(8..10)?.parse::<u8>().ok());
        self.has_whole_years() || self.text.contains("MMM") || day().is_some_and(|day| day > 12)
    }
}
/// Words for nothing.
const NOTHING: &[&str] = &["na", "n/a", "#n/a", "null", "nil", "none", "nan", "-", "--", "?", ".", "unknown"];
/// What text is mostly written in that is not UTF-8.
const ENCODING: &str = "windows-1252";
/// Values that a column is asked for when its dates are looked at.
const SAMPLE: usize = 2000;
/// They stand in so many places, where there are more.
const STRETCHES: u64 = 50;

/// Sources of so many bytes are first looked at by their first piece.
const LARGE: u64 = 1 << 20;

/// Bytes of that piece: some thousands of rows.
const FIRST_PIECE: usize = 1 << 19;

/// A table whose source is looked at.
#[derive(Clone, Copy)]
struct Reading<'a> {
    into: &'a Path,
    name: &'a str,
    observer: &'a dyn Observer,
    /// Whether other tables are read meanwhile.
    at_work: &'a AtWork,
    /// Whether only the first piece of it is.
    only_first: bool,
}

impl Reading<'_> {
    fn read(self, section: &TableSection) -> Result<LoadedTable, Error> {
        let mut file = ModelFile::default();
        file.table.insert(self.name.to_string(), section.clone());
        let mut document = Document::in_memory(file);
        document.folder = self.into.to_path_buf();
        let (formulas, settings) = (Formulas::default(), Settings::default());
        let loader = Loader {
            document: &document,
            formulas: &formulas,
            observer: self.observer,
            settings: &settings,
            memory: None,
            since: None,
            only_first: self.only_first,
            piece: self.only_first.then_some(FIRST_PIECE),
            segment_rows: SEGMENT_ROWS,
            cancel: &Cancel::default(),
            at_work: Some(self.at_work),
        };
        Ok(loader.sourced(self.name, section, None)?)
    }
}

/// Loads a table, with what its columns need to be read well.
pub(super) fn load(
    into: &Path,
    found: &DraftSource,
    observer: &dyn Observer,
    at_work: &AtWork,
) -> Result<Table, Error> {
    let (name, source) = (found.name.as_str(), found.source.as_str());
    let mut section = TableSection { source: Some(OneOrMany::One(source.to_string())), ..TableSection::default() };
    let mut notes = Vec::new();
    section.workbook = cells(into, found);
    if let Some(range) = section.workbook.as_ref().and_then(|w| w.range.as_ref()) {
        notes.push(format!("the header stands further down: read from {range} on"));
    }
    match header_place(into, source) {
        None => {}
        Some(HeaderPlace::After(skip)) => {
            section.csv = Some(CsvSection { skip: Some(skip), ..CsvSection::default() });
            let lines = if skip == 1 { "a line stands".to_string() } else { format!("{skip} lines stand") };
            notes.push(format!("{lines} before the header"));
        }
        Some(HeaderPlace::Begins(name)) => {
            notes.push(format!("lines stand before the header, not in each file as many: it is found by `{name}`"));
            section.csv = Some(CsvSection { header: Some(name), ..CsvSection::default() });
        }
    }
    let reading = Reading { into, name, observer, at_work, only_first: false };
    let is_delimited = matches!(source.rsplit('.').next(), Some("csv" | "tsv" | "txt")) || source.contains(".csv.");
    let by_sample = (is_delimited && found.bytes(into) > LARGE).then(|| by_sample(reading, &section, &notes)).flatten();
    let mut loaded = match by_sample {
        Some((loaded, so_said, so_noted)) => {
            (section, notes) = (so_said, so_noted);
            loaded
        }
        None => habits(reading, is_delimited, &mut section, &mut notes)?,
    };
    notes.extend(loaded.report.notes.iter().cloned());
    if let Some((filter, note)) = total_rows(&loaded) {
        section.filter = Some(filter);
        match reading.read(&section) {
            Ok(better) => {
                loaded = better;
                notes.push(note);
            }
            Err(_) => section.filter = None,
        }
    }
    let shape = if is_delimited { commas(&loaded).with_signs() } else { Shape::Plain };
    for column in texts(&loaded) {
        if let Some((ty, odd)) = nearly(&column.data, &shape) {
            let ty = nearest_type(&column.data, ty, &shape, &odd);
            notes.push(format!(
                "`{}` would be {ty} but for `{}`: mend it, or set its `type` and how many `max_bad_rows` there may be",
                column.name, odd[0]
            ));
        }
    }
    Ok(Table { name: name.to_string(), section, loaded, notes, key: None, naming: ColumnNaming::default() })
}

/// A large table read as its first piece says; none where all of it says something else.
fn by_sample(
    reading: Reading<'_>,
    section: &TableSection,
    notes: &[String],
) -> Option<(LoadedTable, TableSection, Vec<String>)> {
    let (mut section, mut notes) = (section.clone(), notes.to_vec());
    habits(Reading { only_first: true, ..reading }, true, &mut section, &mut notes).ok()?;
    let loaded = reading.read(&section).ok()?;
    let has_blanks = !section.trim && texts(&loaded).any(|c| has_blanks_around(&c.data));
    let (mut more, mut told) = (section.clone(), Vec::new());
    let says_more = has_blanks || said_of_columns(&loaded, true, &mut more, &mut told);
    (!says_more).then_some((loaded, section, notes))
}

/// Reads a table, and notes how its text and the values of its columns are written.
fn habits(
    reading: Reading<'_>,
    is_delimited: bool,
    section: &mut TableSection,
    notes: &mut Vec<String>,
) -> Result<LoadedTable, Error> {
    let mut loaded = readable(reading, section, notes)?;
    if texts(&loaded).any(|c| has_blanks_around(&c.data)) {
        section.trim = true;
        match reading.read(section) {
            Ok(better) => loaded = better,
            Err(_) => section.trim = false,
        }
    }
    if said_of_columns(&loaded, is_delimited, section, notes) {
        loaded = read_as_said(reading, section, notes).unwrap_or(loaded);
    }
    Ok(loaded)
}

/// Notes how the values of columns are written; whether anything had to be noted.
fn said_of_columns(
    loaded: &LoadedTable,
    is_delimited: bool,
    section: &mut TableSection,
    notes: &mut Vec<String>,
) -> bool {
    let commas = if is_delimited { commas(loaded) } else { Commas::None };
    let found = [
        words_for_nothing(loaded, &commas, section),
        numbers_with_commas(&commas, section, notes),
        numbers_with_signs(loaded, &commas, section, notes),
        dates(loaded, section, notes),
    ];
    found.contains(&true)
}

/// Reads a table as its columns seem to be written. What only looked like more than text stays text; when nothing of it can be
/// read, nothing is said of the columns.
fn read_as_said(reading: Reading<'_>, section: &mut TableSection, notes: &mut Vec<String>) -> Option<LoadedTable> {
    loop {
        let error = match reading.read(section) {
            Ok(better) => return Some(better),
            Err(e) => e.to_string(),
        };
        let is_wrong = |column: &String| error.contains(&format!("in column `{column}` "));
        let Some(wrong) = section.column.keys().find(|column| is_wrong(column)).cloned() else {
            notes.push(format!("left as text: {error}"));
            section.csv = section.csv.take().map(|csv| CsvSection { decimal: None, thousands: None, ..csv });
            section.missing = None;
            section.column.clear();
            return None;
        };
        notes.push(format!("`{wrong}` is left as text: not all of its values can be read"));
        section.column.shift_remove(&wrong);
    }
}

/// What can be read at all: in the encoding that the text has, and without the rows that cannot be.
fn readable(reading: Reading<'_>, section: &mut TableSection, notes: &mut Vec<String>) -> Result<LoadedTable, Error> {
    if let Ok(loaded) = reading.read(section) {
        return Ok(loaded);
    }
    section.max_bad_rows = Some(u64::MAX);
    let mut loaded = reading.read(section);
    let is_no_utf8 = match &loaded {
        Ok(loaded) => loaded.report.bad_examples.iter().any(|e| e.contains(NO_UTF8)),
        Err(e) => e.to_string().contains(NO_UTF8),
    };
    if is_no_utf8 {
        let csv = section.csv.take().unwrap_or_default();
        section.csv = Some(CsvSection { encoding: Some(ENCODING.into()), ..csv });
        notes.push(format!("the text is not UTF-8; read as {ENCODING}"));
        loaded = reading.read(section);
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
        if let Some((_, odd)) = nearly(&column.data, &commas.with_signs())
            && odd.iter().all(|v| is_word_for_nothing(v))
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

/// Notes the types of columns whose numbers have currencies, percent signs and the like; whether there are any.
fn numbers_with_signs(
    loaded: &LoadedTable,
    commas: &Commas,
    section: &mut TableSection,
    notes: &mut Vec<String>,
) -> bool {
    let (plain, signed) = (commas.shape(), commas.with_signs());
    let mut any = false;
    for column in texts(loaded) {
        // Few tell whether it is worth a look at all of them.
        let Some(_) = scale_of(&sample(&column.data), &signed) else { continue };
        let values: Vec<Value> = values(&column.data).collect();
        let Some(scale) = scale_of(&values, &signed) else { continue };
        let is_signed = |t: &&str| plain.normal(t.as_bytes()) != signed.normal(t.as_bytes());
        let mut known = values.iter().filter_map(Value::as_text).filter(|t| !is_word_for_nothing(t));
        let Some(example) = known.find(is_signed) else { continue };
        let ty = if scale == 0 { "int".to_string() } else { format!("decimal(18,{scale})") };
        notes.push(format!("`{}` holds numbers such as `{example}`", column.name));
        let said = section.column.entry(column.name.clone()).or_default();
        said.ty = Some(ty);
        said.missing = missing_words(&column.data);
        any = true;
    }
    any
}

/// All different values of a column, some at a time: packed texts are then unpacked once for all of them.
fn values(column: &CodedColumn) -> impl Iterator<Item = Value> + '_ {
    (0..column.domain()).step_by(SAMPLE).flat_map(move |first| {
        let codes: Vec<u64> = (first..column.domain().min(first + SAMPLE as u64)).collect();
        let some = column.vector_of(&codes);
        (0..codes.len()).map(move |place| some.get(place, column.ty()))
    })
}

/// What stands for null in a column, where words for nothing are among its values.
fn missing_words(column: &CodedColumn) -> Option<Vec<String>> {
    let words = values(column).filter(|v| v.as_text().is_some_and(is_word_for_nothing)).map(|v| v.to_string());
    let missing: Vec<String> = std::iter::once(String::new()).chain(words).collect();
    (missing.len() > 1).then_some(missing)
}

/// The most digits after the point of numbers with signs; none where a value is no number, or where there is no value.
fn scale_of(values: &[Value], signed: &Shape) -> Option<u8> {
    let scale = |text: &str| {
        let read = signed.normal(text.as_bytes());
        (!is_code(&read)).then(|| exact::parse(&read)).flatten().map(|(_, scale)| scale)
    };
    let known = values.iter().filter_map(Value::as_text).filter(|t| !is_word_for_nothing(t));
    known.map(scale).collect::<Option<Vec<u8>>>()?.into_iter().max()
}

fn is_word_for_nothing(text: &str) -> bool {
    NOTHING.contains(&text.to_lowercase().as_str())
}

/// Whether some texts begin or end with a blank.
fn has_blanks_around(column: &CodedColumn) -> bool {
    sample(column).iter().filter_map(Value::as_text).any(|t| t.trim() != t)
}

/// Which cells of a workbook are the table, where it is not all of the first sheet.
#[cfg(feature = "workbook")]
fn cells(into: &Path, found: &DraftSource) -> Option<WorkbookSection> {
    use cubrel_load::workbook::{SheetRange, header_row};
    let file = sources::files(into, &found.source).ok()?.into_iter().next()?;
    let path = into.join(&file.path);
    if !bytes::WORKBOOKS.contains(&bytes::kind(&path).as_str()) {
        return None;
    }
    let section = WorkbookSection { sheet: found.sheet.clone(), range: None };
    let row = header_row(&path, &SheetRange::of(Some(&section)).ok()?).ok()?;
    let section = WorkbookSection { range: row.map(|row| format!("A{row}")), ..section };
    (section != WorkbookSection::default()).then_some(section)
}

#[cfg(not(feature = "workbook"))]
fn cells(_: &Path, _: &DraftSource) -> Option<WorkbookSection> {
    None
}

/// Notes how the dates of texts are written; whether there are any.
fn dates(loaded: &LoadedTable, section: &mut TableSection, notes: &mut Vec<String>) -> bool {
    let mut any = false;
    for column in texts(loaded) {
        let entry = |patterns| {
            let mut said = section.column.get(&column.name).cloned().unwrap_or_default();
            said.date_pattern = Some(patterns);
            said.missing = said.missing.or(missing_words(&column.data));
            said
        };
        let said = if let Some((pattern, others)) = date_pattern(&column.data) {
            if !others.is_empty() {
                notes.push(format!("the dates of `{}` could also be {}", column.name, others.join(" or ")));
            }
            entry(OneOrMany::One(pattern.to_string()))
        } else if let Some([first, second]) = two_patterns(&column.data) {
            notes.push(format!("the dates of `{}` are written in two ways", column.name));
            entry(OneOrMany::Many(vec![first.to_string(), second.to_string()]))
        } else {
            continue;
        };
        section.column.insert(column.name.clone(), said);
        any = true;
    }
    any
}

/// Whole numbers that nobody counts with are read as text, unless they relate to another table, whose column is of their
/// type.
pub(super) fn identifiers(table: &mut Table, relates: &dyn Fn(&str) -> bool) {
    // What has types of its own means them.
    if table.is_typed() {
        return;
    }
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
pub(super) fn is_identifier(column: &CodedColumn, rows: usize) -> bool {
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
fn sample(column: &CodedColumn) -> Vec<Value> {
    let (domain, most) = (column.domain(), SAMPLE as u64);
    // Texts are in their order: the first ones would all begin alike, and have nothing of what comes behind the numbers.
    let stretches = if domain > most { STRETCHES } else { 1 };
    let len = domain.min(most) / stretches;
    let start = |stretch: u64| stretch * (domain - len) / (stretches - 1).max(1);
    let values = (0..stretches).flat_map(|stretch| start(stretch)..start(stretch) + len);
    values.map(|code| column.value_of(code)).filter(|v| !v.is_null()).collect()
}

/// The same without words for nothing.
fn sample_of_known(column: &CodedColumn) -> Vec<Value> {
    sample(column).into_iter().filter(|v| v.as_text().is_none_or(|t| !is_word_for_nothing(t))).collect()
}

/// The type that most values of a text column have, and those that have it not.
fn nearly(column: &CodedColumn, shape: &Shape) -> Option<(Type, Vec<String>)> {
    const ODD: f64 = 0.25;
    let few = sample(column);
    let types = [Type::Date, Type::Timestamp, Type::Float];
    types.into_iter().find_map(|ty| {
        let reads = |t: &str| {
            let plain = shape.normal(t.as_bytes());
            std::str::from_utf8(&plain).is_ok_and(|plain| parse::value(plain, ty).is_some())
        };
        let is_odd = |v: &Value| !v.as_text().is_some_and(|t| !is_code(t.as_bytes()) && reads(t));
        let are_few = |odd: usize, of: usize| odd as f64 <= ODD * of as f64;
        if !are_few(few.iter().filter(|v| is_odd(v)).count(), few.len()) {
            return None;
        }
        // What stands there once in thousands is in no sample.
        let odd: Vec<String> = values(column).filter(is_odd).map(|v| v.to_string()).collect();
        // Digits with zeros before them are codes, and so are those beside them.
        let are_codes = odd.iter().any(|text| is_code(text.as_bytes()));
        (!odd.is_empty() && !are_codes && are_few(odd.len(), column.domain() as usize)).then_some((ty, odd))
    })
}

/// The type that those values have which are not odd: of numbers, the one with which they stay what they are.
fn nearest_type(column: &CodedColumn, ty: Type, shape: &Shape, odd: &[String]) -> Type {
    let odd: HashSet<&str> = odd.iter().map(String::as_str).collect();
    let is_plain = |v: &Value| v.as_text().is_some_and(|t| !odd.contains(t) && !is_word_for_nothing(t));
    match ty {
        Type::Float => match scale_of(&values(column).filter(is_plain).collect::<Vec<_>>(), shape) {
            None => Type::Float,
            Some(0) => Type::Int,
            Some(scale) => Type::Decimal { precision: exact::STORED_DIGITS, scale },
        },
        other => other,
    }
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
            Commas::Decimal => Shape::Numbers { point: ',', thousands: Some('.'), signs: false },
            Commas::Thousands(_) => Shape::Numbers { point: '.', thousands: Some(','), signs: false },
        }
    }

    /// The same, with currencies, percent signs and the like.
    fn with_signs(&self) -> Shape {
        match self.shape() {
            Shape::Numbers { point, thousands, .. } => Shape::Numbers { point, thousands, signs: true },
            _ => Shape::Numbers { point: '.', thousands: None, signs: true },
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
        let (decimal, thousands) = (all(&Commas::Decimal.with_signs()), all(&Commas::Thousands(true).with_signs()));
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
fn date_pattern(column: &CodedColumn) -> Option<(&'static str, Vec<&'static str>)> {
    let values = sample_of_known(column);
    if values.is_empty() {
        return None;
    }
    let reads = |tried: &&TriedPattern| values.iter().all(|v| v.as_text().is_some_and(|text| tried.reads(text)));
    let mut found = DATE_PATTERNS.iter().filter(reads);
    let first = found.next()?;
    if !values.iter().filter_map(Value::as_text).any(|text| first.is_sure_of(text)) {
        return None;
    }
    // Two digits of a year say no more of four.
    let others = found.filter(|other| other.has_whole_years() == first.has_whole_years());
    Some((&first.text, others.map(|other| other.text.as_str()).collect()))
}

/// Two patterns that read all values together, each some that the other does not read.
fn two_patterns(column: &CodedColumn) -> Option<[&'static str; 2]> {
    let values = sample_of_known(column);
    let texts: Vec<&str> = values.iter().filter_map(Value::as_text).collect();
    let first = texts.first()?;
    let some = |tried: &&TriedPattern| texts.iter().any(|text| tried.reads(text));
    if !DATE_PATTERNS.iter().any(|tried| tried.reads(first)) {
        return None;
    }
    let reads = |tried: &'static TriedPattern| (tried, texts.iter().map(|text| tried.reads(text)).collect());
    let all: Vec<(&TriedPattern, Vec<bool>)> = DATE_PATTERNS.iter().filter(some).map(reads).collect();
    for (i, (a, by_a)) in all.iter().enumerate() {
        for (b, by_b) in &all[i + 1..] {
            // What both read could be either.
            let covers = by_a.iter().zip(by_b).all(|(x, y)| x != y);
            let are_sure = [a, b].iter().all(|tried| texts.iter().any(|text| tried.is_sure_of(text)));
            if covers && are_sure && a.pattern.ty() == b.pattern.ty() {
                return Some([&a.text, &b.text]);
            }
        }
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Model;

    fn column(values: &[Value], ty: Type) -> CodedColumn {
        let rows: Vec<Vec<Value>> = values.iter().map(|v| vec![v.clone()]).collect();
        let model = Model::builder().rows("t", &[("c", ty)], &rows).build().unwrap();
        model.store().tables[0].columns[0].verified().as_ref().clone()
    }

    fn of_texts(values: &[&str]) -> CodedColumn {
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
            (&["481.219,21 €", "7,10 €"], "decimal"),
            (&["12,5%", "5%", "0,25%"], "decimal"),
            (&["$1,234.50", "($7.10)"], "thousands"),
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
                computed: cubrel_formula::schema::Computed::Source,
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
            (&["31.12.2024 23:59:01", "01.02.2024 00:00:00"], Some(("dd.MM.yyyy HH:mm:ss", 0))),
            (&["12/31/2024 11:59:01 PM", "1/2/2024 1:05:00 am"], Some(("MM/dd/yyyy h:mm:ss a", 0))),
            (&["31.12.24", "01.02.23"], Some(("dd.MM.yy", 0))),
            (&["01/02/23"], None),
            (&["01/22/23"], Some(("MM/dd/yy", 0))),
            (&["01.02.03", "12.11.10"], None),
            (&["31-DEC-24 23:59"], Some(("d-MMM-yy HH:mm", 0))),
            (&["Dec 31, 2024"], Some(("MMM d, yyyy", 0))),
            (&["31.12.2024 24:59"], None),
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
    fn dates_in_two_ways_need_two_patterns_that_cannot_be_taken_for_each_other() {
        type Case<'a> = (&'a [&'a str], Option<[&'a str; 2]>);
        let cases: &[Case<'_>] = &[
            (&["31/12/2024", "2024-12-30"], Some(["dd/MM/yyyy", "yyyy-MM-dd"])),
            (&["31.12.2024", "12/31/2024"], Some(["MM/dd/yyyy", "dd.MM.yyyy"])),
            (&["31/12/2024", "12/31/2024"], Some(["dd/MM/yyyy", "MM/dd/yyyy"])),
            (&["01/02/2024", "31/12/2024", "12/31/2024"], None),
            (&["31/12/2024", "soon"], None),
        ];
        for (values, expected) in cases {
            assert_eq!(two_patterns(&of_texts(values)), *expected, "{values:?}");
        }
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
