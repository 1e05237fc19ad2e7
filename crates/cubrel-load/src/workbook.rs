//! Workbooks: the cells of one sheet become delimited text while they are read, whose types are then found as everywhere.
//! How wide the sheet is and which of its columns are text is known when all cells have been seen, so they are gone through
//! twice. Numbers and dates are what the cells hold, not how they are shown.

use std::fs::File;
use std::io::{self, BufReader, Write};
use std::path::Path;

use calamine::{Data, DataRef, Ods, Reader, Xls, Xlsx, open_workbook};

use super::LoadError;
use super::guarded::guarded;
use super::jsonl::{NULL, is_plain};
use cubrel_formula::source::{Diagnostic, Problem, suggestion};
use cubrel_model::file::WorkbookSection;

/// Which cells of a workbook are read.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct SheetRange {
    sheet: Option<String>,
    range: CellRange,
}

/// The cells from one corner to another, from 0; without an end, as far as there are any.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
struct CellRange {
    first: (u32, u32),
    last: (Option<u32>, Option<u32>),
}

impl CellRange {
    /// Reads `B3:F200`, `B3:F`, `B:F` or `B3`.
    fn parse(text: &str) -> Option<CellRange> {
        let (from, to) = text.split_once(':').unwrap_or((text, ""));
        let (first_column, first_row) = corner(from)?;
        let (last_column, last_row) = if to.is_empty() { (None, None) } else { corner(to)? };
        let first = (first_row.unwrap_or(0), first_column.unwrap_or(0));
        let is_empty = last_row.is_some_and(|row| row < first.0) || last_column.is_some_and(|c| c < first.1);
        (!is_empty).then_some(CellRange { first, last: (last_row, last_column) })
    }

    fn has_row(&self, row: u32) -> bool {
        row >= self.first.0 && self.last.0.is_none_or(|last| row <= last)
    }

    fn has_column(&self, column: u32) -> bool {
        column >= self.first.1 && self.last.1.is_none_or(|last| column <= last)
    }
}

/// A column's letters and a row's number, of which either may be missing.
fn corner(text: &str) -> Option<(Option<u32>, Option<u32>)> {
    let letters = text.len() - text.trim_start_matches(|c: char| c.is_ascii_alphabetic()).len();
    let (letters, digits) = text.split_at(letters);
    let number = |so_far: u32, c: u8| so_far * 26 + u32::from(c.to_ascii_uppercase() - b'A') + 1;
    let column = (1..=3).contains(&letters.len()).then(|| letters.bytes().fold(0, number) - 1);
    let row = if digits.is_empty() { None } else { Some(digits.parse::<u32>().ok()?.checked_sub(1)?) };
    let is_some = column.is_some() || row.is_some();
    (is_some && (column.is_some() || letters.is_empty())).then_some((column, row))
}

impl SheetRange {
    /// What a model says of it.
    ///
    /// # Errors
    /// When the range is none.
    pub fn of(section: Option<&WorkbookSection>) -> Result<SheetRange, String> {
        let Some(section) = section else { return Ok(SheetRange::default()) };
        let range = match &section.range {
            None => CellRange::default(),
            Some(text) => CellRange::parse(text).ok_or_else(|| format!("`{text}` is not a range of cells"))?,
        };
        Ok(SheetRange { sheet: section.sheet.clone(), range })
    }
}

/// One column of a sheet, as its cells tell it.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct SheetColumn {
    /// What its first cell says; may be empty.
    pub name: String,
    /// Whether it has a text that is neither date nor timestamp, so that digits in it stay text.
    pub is_text: bool,
    /// Whether a time of day stands beside some date.
    has_times: bool,
}

/// What a sheet has: its columns, and where they begin.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct SheetColumns {
    /// From the first one that has anything to the last.
    pub columns: Vec<SheetColumn>,
    first: u32,
}

/// An open workbook of one of the kinds.
enum Book {
    Xlsx(Box<Xlsx<BufReader<File>>>),
    Ods(Ods<BufReader<File>>),
    Xls(Box<Xls<BufReader<File>>>),
}

impl Book {
    fn open(path: &Path) -> Result<Book, LoadError> {
        // What is missing or may not be read is said as of any other file.
        File::open(path).map_err(|e| LoadError::io(path, e))?;
        let ending = path.extension().map(|e| e.to_string_lossy().to_lowercase()).unwrap_or_default();
        let opened = match ending.as_str() {
            "ods" => open_workbook(path).map(Book::Ods).map_err(|e: calamine::OdsError| e.to_string()),
            "xls" => open_workbook(path).map(|b| Book::Xls(Box::new(b))).map_err(|e: calamine::XlsError| e.to_string()),
            _ => open_workbook(path).map(|b| Book::Xlsx(Box::new(b))).map_err(|e: calamine::XlsxError| e.to_string()),
        };
        opened.map_err(|why| unreadable(path, &why))
    }

    fn sheets(&self) -> Vec<String> {
        match self {
            Book::Xlsx(book) => book.sheet_names(),
            Book::Ods(book) => book.sheet_names(),
            Book::Xls(book) => book.sheet_names(),
        }
    }

    /// Visits the rows of a sheet that have anything in the cells that are wanted, from top to bottom.
    fn each_row(&mut self, sheet: &str, range: CellRange, visit: &mut VisitRow<'_>) -> Result<(), Stopped> {
        let wrong = |why: String| Stopped::Unreadable(why);
        let table = match self {
            Book::Xlsx(book) => {
                let mut cells = book.worksheet_cells_reader(sheet).map_err(|e| wrong(e.to_string()))?;
                let mut row = SheetRow::new(range);
                while let Some(cell) = cells.next_cell().map_err(|e| wrong(e.to_string()))? {
                    let (line, column) = cell.get_position();
                    row.add(line, column, owned(cell.get_value()), visit)?;
                }
                return Ok(row.end(visit)?);
            }
            Book::Ods(book) => book.worksheet_range(sheet).map_err(|e| wrong(e.to_string()))?,
            Book::Xls(book) => book.worksheet_range(sheet).map_err(|e| wrong(e.to_string()))?,
        };
        let (top, left) = table.start().unwrap_or_default();
        let mut row = SheetRow::new(range);
        for (line, column, value) in table.used_cells() {
            row.add(top + line as u32, left + column as u32, value.clone(), visit)?;
        }
        Ok(row.end(visit)?)
    }
}

/// What is done with a row: its number, and its cells by column.
type VisitRow<'v> = dyn FnMut(u32, &[(u32, Data)]) -> io::Result<()> + 'v;

/// Why rows were not visited to the end.
enum Stopped {
    Unreadable(String),
    Io(io::Error),
}

impl From<io::Error> for Stopped {
    fn from(e: io::Error) -> Stopped {
        Stopped::Io(e)
    }
}

/// The cells of a row, as they come.
struct SheetRow {
    range: CellRange,
    line: u32,
    cells: Vec<(u32, Data)>,
}

impl SheetRow {
    fn new(range: CellRange) -> SheetRow {
        SheetRow { range, line: 0, cells: Vec::new() }
    }

    fn add(&mut self, line: u32, column: u32, value: Data, visit: &mut VisitRow<'_>) -> io::Result<()> {
        if line != self.line {
            self.end(visit)?;
            self.line = line;
        }
        let is_empty = matches!(&value, Data::Empty) || matches!(&value, Data::String(text) if text.is_empty());
        if !is_empty && self.range.has_row(line) && self.range.has_column(column) {
            self.cells.push((column, value));
        }
        Ok(())
    }

    fn end(&mut self, visit: &mut VisitRow<'_>) -> io::Result<()> {
        if !self.cells.is_empty() {
            self.cells.sort_by_key(|(column, _)| *column);
            visit(self.line, &self.cells)?;
            self.cells.clear();
        }
        Ok(())
    }
}

fn owned(value: &DataRef<'_>) -> Data {
    match value {
        DataRef::Int(v) => Data::Int(*v),
        DataRef::Float(v) => Data::Float(*v),
        DataRef::String(v) => Data::String(v.clone()),
        DataRef::SharedString(v) => Data::String((*v).to_string()),
        DataRef::Bool(v) => Data::Bool(*v),
        DataRef::DateTime(v) => Data::DateTime(*v),
        DataRef::DateTimeIso(v) => Data::DateTimeIso(v.clone()),
        DataRef::DurationIso(v) => Data::DurationIso(v.clone()),
        DataRef::Error(v) => Data::Error(v.clone()),
        DataRef::Empty => Data::Empty,
    }
}

fn unreadable(path: &Path, why: &str) -> LoadError {
    let message = format!("{} cannot be read as a workbook: {why}", path.display());
    Diagnostic::general(Problem::Data, message).help("save it again, without a password").into()
}

/// The sheet that is wanted, of those that there are.
fn sheet_of(path: &Path, sheets: &[String], wanted: Option<&str>) -> Result<String, LoadError> {
    match wanted {
        Some(name) if sheets.iter().any(|s| s == name) => Ok(name.to_string()),
        Some(name) => {
            let names: Vec<&str> = sheets.iter().map(String::as_str).collect();
            let message = format!("{} has no sheet `{name}`", path.display());
            Err(Diagnostic::general(Problem::Data, message).help(suggestion(name, &names)).into())
        }
        None => sheets.first().cloned().ok_or_else(|| unreadable(path, "it has no sheets")),
    }
}

/// The sheets of a workbook.
///
/// # Errors
/// When it cannot be read.
pub fn sheets(path: &Path) -> Result<Vec<String>, LoadError> {
    guarded(path, || "the list of sheets".into(), || Ok(Book::open(path)?.sheets()))
}

fn visited(path: &Path, wanted: &SheetRange, visit: &mut VisitRow<'_>) -> Result<(), LoadError> {
    let part = || wanted.sheet.as_ref().map_or("the first sheet".to_string(), |s| format!("sheet `{s}`"));
    let work = || {
        let mut book = Book::open(path)?;
        let sheet = sheet_of(path, &book.sheets(), wanted.sheet.as_deref())?;
        book.each_row(&sheet, wanted.range, visit).map_err(|stopped| match stopped {
            Stopped::Unreadable(why) => unreadable(path, &why),
            Stopped::Io(e) => LoadError::io(path, e),
        })
    };
    guarded(path, part, work)
}

/// Goes through the cells of a workbook: the first row of those that are wanted names the columns. Texts that stand for
/// null make no column one of text.
///
/// # Errors
/// When it cannot be read, has no such sheet, or nothing stands there.
pub fn look(path: &Path, wanted: &SheetRange, is_missing: impl Fn(&str) -> bool) -> Result<SheetColumns, LoadError> {
    let mut by_place: std::collections::BTreeMap<u32, SheetColumn> = Default::default();
    let mut header = None;
    visited(path, wanted, &mut |line, cells| {
        let is_header = *header.get_or_insert(line) == line;
        for (place, value) in cells {
            let column = by_place.entry(*place).or_default();
            if is_header {
                column.name = text_of(value, false).trim().to_string();
                continue;
            }
            column.is_text |= is_text(value, &is_missing);
            column.has_times |= has_time(value);
        }
        Ok(())
    })?;
    let (Some(first), Some(last)) = (by_place.keys().next().copied(), by_place.keys().last().copied()) else {
        let message = format!("{}: nothing stands in the cells that are to be read", path.display());
        return Err(Diagnostic::general(Problem::Data, message).help("name another `sheet` or `range`").into());
    };
    let columns = (first..=last).map(|place| by_place.remove(&place).unwrap_or_default()).collect();
    Ok(SheetColumns { columns, first })
}

/// Writes the cells as delimited text.
///
/// # Errors
/// When they cannot be read or written.
pub fn write(path: &Path, wanted: &SheetRange, sheet: &SheetColumns, to: impl Write) -> io::Result<()> {
    let mut writer = csv::Writer::from_writer(to);
    writer.write_record(sheet.columns.iter().map(|c| &c.name))?;
    let mut header = None;
    let mut fields: Vec<String> = Vec::new();
    let written = visited(path, wanted, &mut |line, cells| {
        if *header.get_or_insert(line) == line {
            return Ok(());
        }
        fields.clear();
        fields.resize(sheet.columns.len(), NULL.to_string());
        for (place, value) in cells {
            let place = (place.saturating_sub(sheet.first)) as usize;
            let (Some(field), Some(column)) = (fields.get_mut(place), sheet.columns.get(place)) else {
                return Err(io::Error::other(format!("row {}: it was changed while it was read", line + 1)));
            };
            *field = text_of(value, column.has_times);
        }
        Ok(writer.write_record(&fields)?)
    });
    written.map_err(|e| io::Error::other(e.to_string()))?;
    writer.flush()
}

/// Title lines that stand above the header, of a sheet as people make them: the header is the first row that is nearly as
/// wide as any; its number, from 1, where it is not the first row with anything.
///
/// # Errors
/// When it cannot be read.
pub fn header_row(path: &Path, wanted: &SheetRange) -> Result<Option<u32>, LoadError> {
    const LOOKED_AT: usize = 24;
    let mut widths: Vec<(u32, usize)> = Vec::new();
    visited(path, wanted, &mut |line, cells| {
        if widths.len() < LOOKED_AT {
            widths.push((line, cells.len()));
        }
        Ok(())
    })?;
    let widest = widths.iter().map(|(_, width)| *width).max().unwrap_or(0);
    let header = widths.iter().position(|(_, width)| *width * 4 >= widest * 3);
    Ok(header.filter(|at| *at > 0).map(|at| widths[at].0 + 1))
}

fn is_text(value: &Data, is_missing: &impl Fn(&str) -> bool) -> bool {
    match value {
        Data::String(text) => is_plain(text.as_bytes()) && !text.trim().is_empty() && !is_missing(text),
        Data::DurationIso(_) => true,
        Data::DateTime(at) => at.is_duration() || at.as_f64() < 1.0,
        _ => false,
    }
}

fn has_time(value: &Data) -> bool {
    match value {
        Data::DateTime(at) => at.as_f64().fract() != 0.0,
        Data::DateTimeIso(text) => text.contains('T'),
        _ => false,
    }
}

/// What a cell holds, as delimited text has it; dates with a time of day where the column has some.
fn text_of(value: &Data, with_time: bool) -> String {
    match value {
        Data::Int(v) => v.to_string(),
        Data::Float(v) => number(*v),
        Data::String(text) => text.clone(),
        Data::Bool(v) => v.to_string(),
        Data::DateTime(at) if at.is_duration() || at.as_f64() < 1.0 => clock(at.as_f64()),
        Data::DateTime(at) => {
            let (year, month, day, hour, minute, second, milli) = at.to_ymd_hms_milli();
            let date = format!("{year:04}-{month:02}-{day:02}");
            if !with_time {
                return date;
            }
            let fraction = if milli == 0 { String::new() } else { format!(".{milli:03}") };
            format!("{date} {hour:02}:{minute:02}:{second:02}{fraction}")
        }
        Data::DateTimeIso(text) if with_time && !text.contains('T') => format!("{text}T00:00:00"),
        Data::DateTimeIso(text) | Data::DurationIso(text) => text.clone(),
        Data::Error(e) => e.to_string(),
        Data::Empty => NULL.to_string(),
    }
}

/// A number with the digits that it has.
fn number(v: f64) -> String {
    let size = v.abs();
    if v == v.trunc() && size < 1e15 {
        return format!("{}", v as i64);
    }
    if (1e-7..1e15).contains(&size) { format!("{v}") } else { format!("{v:e}") }
}

/// Days as hours, minutes and seconds.
fn clock(days: f64) -> String {
    let sign = if days < 0.0 { "-" } else { "" };
    let seconds = (days.abs() * 86_400.0).round() as u64;
    format!("{sign}{:02}:{:02}:{:02}", seconds / 3600, seconds / 60 % 60, seconds % 60)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ranges_are_read_with_and_without_an_end() {
        let range = |first, last| Some(CellRange { first, last });
        let cases = [
            ("B3:F200", range((2, 1), (Some(199), Some(5)))),
            ("b3:f", range((2, 1), (None, Some(5)))),
            ("B:F", range((0, 1), (None, Some(5)))),
            ("A4", range((3, 0), (None, None))),
            ("4", range((3, 0), (None, None))),
            ("AA1:AB2", range((0, 26), (Some(1), Some(27)))),
            ("", None),
            ("A0", None),
            ("ABCD1", None),
            ("B3:A3", None),
            ("B9:C3", None),
            ("1B", None),
            ("A1:B2:C3", None),
        ];
        for (text, expected) in cases {
            assert_eq!(CellRange::parse(text), expected, "{text}");
        }
    }

    #[test]
    fn numbers_keep_their_digits() {
        let cases = [
            (0.0, "0"),
            (-3.0, "-3"),
            (0.1, "0.1"),
            (1234.5, "1234.5"),
            (20_261_231_000_012.0, "20261231000012"),
            (1e300, "1e300"),
            (-2.5e-9, "-2.5e-9"),
        ];
        cases.iter().for_each(|(v, text)| assert_eq!(number(*v), *text));
        assert_eq!([clock(0.5), clock(1.5), clock(-0.25)], ["12:00:00", "36:00:00", "-06:00:00"]);
    }
}
