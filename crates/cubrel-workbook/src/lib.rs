//! A grid of cubrel as a workbook (`.xlsx`): numbers as numbers with their formats, dates as dates, headings that stay, totals in
//! bold, groups that fold, bars.

#![cfg_attr(test, allow(clippy::unwrap_used))]

use std::fmt;

use cubrel::{Formats, Grid, GridLayout, LaidOutColumn, Type, Value, units};
use rust_xlsxwriter::{ConditionalFormatDataBar, ExcelDateTime, Format, FormatAlign, Workbook, Worksheet, XlsxError};

/// Digits that a cell keeps of a number.
const DIGITS: usize = 15;
/// The most lines and columns that a sheet has.
const MOST_ROWS: usize = 1_048_576;
const MOST_COLUMNS: usize = 16_384;
/// How deep groups can be nested.
const MOST_LEVELS: usize = 7;

/// Why there is no workbook.
#[derive(Debug)]
#[non_exhaustive]
pub enum WorkbookError {
    /// A sheet has no room for so many lines or columns.
    TooLarge,
    /// It cannot be written.
    Write(XlsxError),
}

impl WorkbookError {
    /// What to do about it.
    pub fn help(&self) -> &'static str {
        match self {
            WorkbookError::TooLarge => "ask for fewer lines with `limit`, or take CSV or Parquet",
            WorkbookError::Write(_) => "try CSV",
        }
    }
}

impl fmt::Display for WorkbookError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            WorkbookError::TooLarge => f.write_str("the grid is larger than a sheet of a workbook"),
            WorkbookError::Write(e) => write!(f, "the workbook cannot be written: {e}"),
        }
    }
}

impl std::error::Error for WorkbookError {
    fn source(&self) -> Option<&(dyn std::error::Error + 'static)> {
        match self {
            WorkbookError::TooLarge => None,
            WorkbookError::Write(e) => Some(e),
        }
    }
}

impl From<XlsxError> for WorkbookError {
    fn from(e: XlsxError) -> WorkbookError {
        WorkbookError::Write(e)
    }
}

/// The bytes of a workbook with the grid in it; with bars, each number also has one that shows its share of the largest of its
/// column.
///
/// # Errors
/// When the grid is larger than a sheet can be, or the workbook cannot be written.
///
/// ```
/// use cubrel::{Formats, Model, Type, Value};
///
/// # fn main() -> Result<(), Box<dyn std::error::Error>> {
/// let rows = [("Ness", 5), ("Holm", 9)].map(|(route, net)| vec![Value::text(route), Value::Int(net)]);
/// let model = Model::builder().rows("booking", &[("route", Type::Text), ("net", Type::Int)], &rows).build()?;
/// let grid = model.query("grid sum(booking.net) as net by booking.route")?.run()?;
/// let bytes = cubrel_workbook::workbook(&grid, &Formats::default(), true)?;
/// assert!(bytes.starts_with(b"PK"));
/// # Ok(())
/// # }
/// ```
pub fn workbook(grid: &Grid, formats: &Formats, bars: bool) -> Result<Vec<u8>, WorkbookError> {
    let layout = grid.layout(formats);
    let heads = layout.rows.iter().chain(&layout.columns).map(|b| b.heads.len()).max().unwrap_or(1);
    if layout.totals.len() + heads > MOST_ROWS || layout.rows.len() + layout.columns.len() > MOST_COLUMNS {
        return Err(WorkbookError::TooLarge);
    }
    Ok(Sheet { layout: &layout, formats, heads }.workbook(bars)?)
}

struct Sheet<'g> {
    layout: &'g GridLayout,
    formats: &'g Formats,
    heads: usize,
}

impl Sheet<'_> {
    fn workbook(&self, bars: bool) -> Result<Vec<u8>, XlsxError> {
        let mut workbook = Workbook::new();
        let sheet = workbook.add_worksheet();
        let blocks: Vec<&LaidOutColumn> = self.layout.rows.iter().chain(&self.layout.columns).collect();
        for (column, block) in blocks.iter().enumerate() {
            self.column(sheet, column as u16, block, column < self.layout.rows.len())?;
            if bars && column >= self.layout.rows.len() && block.is_number && !block.total {
                self.bars(sheet, column as u16)?;
            }
        }
        sheet.set_freeze_panes(self.heads as u32, self.layout.rows.len() as u16)?;
        self.groups(sheet)?;
        workbook.save_to_buffer()
    }

    fn line(&self, row: usize) -> u32 {
        (self.heads + row) as u32
    }

    fn column(
        &self,
        sheet: &mut Worksheet,
        column: u16,
        block: &LaidOutColumn,
        is_axis: bool,
    ) -> Result<(), XlsxError> {
        let align = if block.is_number { FormatAlign::Right } else { FormatAlign::Left };
        let head = Format::new().set_bold().set_align(align);
        for (level, text) in block.heads.iter().enumerate() {
            sheet.write_with_format(level as u32, column, text.as_str(), &head)?;
        }
        let widest = block.heads.iter().chain(&block.cells).map(|text| text.chars().count()).max().unwrap_or(0);
        sheet.set_column_width(column, (widest as f64 + 2.0).min(60.0))?;
        for (row, text) in block.cells.iter().enumerate() {
            let bold = self.layout.totals[row] || block.total;
            let format = || if bold { Format::new().set_bold() } else { Format::new() };
            match &block.values[row] {
                // What stands on an axis once for several lines stands in each, so that lines can be sorted and filtered.
                Some((value, pattern)) if !value.is_null() || !is_axis => {
                    self.cell(sheet, (self.line(row), column), value, pattern.as_deref(), format())?;
                }
                _ => drop(sheet.write_with_format(self.line(row), column, text.as_str(), &format())?),
            }
        }
        Ok(())
    }

    fn cell(
        &self,
        sheet: &mut Worksheet,
        (row, column): (u32, u16),
        value: &Value,
        pattern: Option<&str>,
        format: Format,
    ) -> Result<(), XlsxError> {
        let shown = || self.formats.show(value, value.natural_type(), pattern);
        let day = |n: i32| {
            let (year, month, day) = units::day_of(n)?;
            ExcelDateTime::from_ymd(u16::try_from(year).ok()?, month, day).ok()
        };
        match value {
            Value::Null => {}
            Value::Bool(b) => drop(sheet.write_with_format(row, column, *b, &format)?),
            Value::Text(_) => drop(sheet.write_with_format(row, column, shown(), &format)?),
            Value::Date(n) => match (day(*n), date_format(pattern, "yyyy-mm-dd")) {
                (Some(date), Some(form)) => {
                    sheet.write_with_format(row, column, &date, &format.set_num_format(form))?;
                }
                _ => drop(sheet.write_with_format(row, column, shown(), &format)?),
            },
            Value::Timestamp(micros) => {
                let days = i32::try_from(micros.div_euclid(units::DAY_MICROS)).ok().and_then(day);
                let share = micros.rem_euclid(units::DAY_MICROS) as f64 / units::DAY_MICROS as f64;
                match (days, date_format(pattern, "yyyy-mm-dd hh:mm:ss")) {
                    (Some(date), Some(form)) => {
                        let number = date.to_excel() + share;
                        sheet.write_number_with_format(row, column, number, &format.set_num_format(form))?;
                    }
                    _ => drop(sheet.write_with_format(row, column, shown(), &format)?),
                }
            }
            number => match (number.as_f64().filter(|_| keeps_its_digits(number)), self.number_format(pattern)) {
                (Some(x), Some(form)) => {
                    let format = if form.is_empty() { format } else { format.set_num_format(form) };
                    sheet.write_number_with_format(row, column, x, &format)?;
                }
                _ => {
                    // Without a pattern, the digits as somebody would search for them.
                    let text = if pattern.is_none() { number.to_string() } else { shown() };
                    sheet.write_with_format(row, column, text, &format.set_align(FormatAlign::Right))?;
                }
            },
        }
        Ok(())
    }

    /// A pattern of numbers as a workbook has it; nothing where it has no such one.
    fn number_format(&self, pattern: Option<&str>) -> Option<String> {
        let Some(pattern) = pattern else { return Some(String::new()) };
        let currency = self.formats.show(&Value::Int(0), Type::Int, Some("¤0")).trim_end_matches('0').to_string();
        let mut form = String::new();
        let mut quoted = false;
        for c in pattern.chars() {
            match c {
                // Both kinds of quotes keep what is in them.
                '\'' => {
                    quoted = !quoted;
                    form.push('"');
                }
                _ if quoted => form.push(c),
                '¤' => form += &format!("\"{}\"", currency.replace('"', "")),
                '#' | '0' | ',' | '.' | '%' | ';' | '(' | ')' | '+' | '-' | ' ' => form.push(c),
                _ => return None,
            }
        }
        (!quoted).then_some(form)
    }

    /// Lines of one group fold under its total.
    fn groups(&self, sheet: &mut Worksheet) -> Result<(), XlsxError> {
        let axes = self.layout.rows.len();
        if !self.layout.totals.contains(&true) || axes < 2 {
            return Ok(());
        }
        let lines = self.layout.alike.len();
        // By how many of the outer axes a group is told.
        for outer in 1..axes.min(MOST_LEVELS + 1) {
            let is_inner = |row: usize| self.layout.totalled[row] + outer < axes;
            let mut row = 0;
            while row < lines {
                let start = row;
                row += 1;
                while row < lines && self.layout.alike[row] >= outer {
                    row += 1;
                }
                let inner: Vec<usize> = (start..row).filter(|r| is_inner(*r)).collect();
                if let (Some(first), Some(last)) = (inner.first(), inner.last())
                    && inner.len() < row - start
                    && last - first + 1 == inner.len()
                {
                    sheet.group_rows(self.line(*first), self.line(*last))?;
                }
            }
        }
        Ok(())
    }

    /// Bars in the cells of a column, totals apart.
    fn bars(&self, sheet: &mut Worksheet, column: u16) -> Result<(), XlsxError> {
        let plain: Vec<usize> = (0..self.layout.totals.len()).filter(|row| !self.layout.totals[*row]).collect();
        let mut ranges: Vec<(usize, usize)> = Vec::new();
        for row in plain {
            match ranges.last_mut() {
                Some((_, end)) if *end + 1 == row => *end = row,
                _ => ranges.push((row, row)),
            }
        }
        let (Some((first, _)), Some((_, last))) = (ranges.first().copied(), ranges.last().copied()) else {
            return Ok(());
        };
        let name = |row: usize| rust_xlsxwriter::utility::row_col_to_cell(self.line(row), column);
        let several: Vec<String> = ranges.iter().map(|(a, b)| format!("{}:{}", name(*a), name(*b))).collect();
        let bar = ConditionalFormatDataBar::new().set_fill_color("5B8FA8").set_multi_range(several.join(" "));
        sheet.add_conditional_format(self.line(first), column, self.line(last), column, &bar)?;
        Ok(())
    }
}

/// Whether a number is the same in a cell of a workbook, which has fewer digits than some.
fn keeps_its_digits(value: &Value) -> bool {
    let digits = |text: &str| text.bytes().filter(u8::is_ascii_digit).skip_while(|b| *b == b'0').count();
    matches!(value, Value::Float(_)) || digits(&value.to_string()) <= DIGITS
}

/// A pattern of dates as a workbook has it; nothing where it has no such one.
fn date_format(pattern: Option<&str>, otherwise: &str) -> Option<String> {
    let Some(pattern) = pattern else { return Some(otherwise.to_string()) };
    let mut form = String::new();
    let mut chars = pattern.chars().peekable();
    while let Some(c) = chars.next() {
        let mut count = 1;
        while c.is_ascii_alphabetic() && chars.peek() == Some(&c) {
            chars.next();
            count += 1;
        }
        match (c, count) {
            ('y', 2) => form += "yy",
            ('y', _) => form += "yyyy",
            ('M', n @ 1..=4) => form += &"m".repeat(n),
            ('d', n @ 1..=2) => form += &"d".repeat(n),
            ('E', 1..=3) => form += "ddd",
            ('E', 4) => form += "dddd",
            ('H', n @ 1..=2) => form += &"h".repeat(n),
            ('m', n @ 1..=2) => form += &"m".repeat(n),
            ('s', n @ 1..=2) => form += &"s".repeat(n),
            ('/' | '-' | '.' | ' ' | ':' | ',', _) => form.push(c),
            _ => return None,
        }
    }
    Some(form)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn patterns_are_turned_or_the_text_is_written() {
        for (pattern, expected) in [
            ("dd/MM/yyyy", Some("dd/mm/yyyy")),
            ("MMM yyyy", Some("mmm yyyy")),
            ("EEEE d MMMM", Some("dddd d mmmm")),
            ("yyyy-MM-dd HH:mm", Some("yyyy-mm-dd hh:mm")),
            ("QQQ yyyy", None),
            ("'week' d", None),
        ] {
            assert_eq!(date_format(Some(pattern), "").as_deref(), expected, "{pattern}");
        }
        let formats = Formats::new(Some("en-GB"), None).unwrap_or_default();
        let model = cubrel::Model::builder().rows("t", &[("n", Type::Int)], &[vec![Value::Int(1)]]).build().unwrap();
        let layout = model.query("grid sum(t.n)").unwrap().run().unwrap().layout(&formats);
        let sheet = Sheet { layout: &layout, formats: &formats, heads: 1 };
        for (pattern, expected) in [
            ("¤#,##0.00", Some("\"£\"#,##0.00")),
            ("0.0%", Some("0.0%")),
            ("#,##0;(#,##0)", Some("#,##0;(#,##0)")),
            ("+0.0%;-0.0%", Some("+0.0%;-0.0%")),
            ("0 'pax'", Some("0 \"pax\"")),
            ("0.00E0", None),
        ] {
            assert_eq!(sheet.number_format(Some(pattern)).as_deref(), expected, "{pattern}");
        }
        assert!(
            keeps_its_digits(&Value::Int(999_999_999_999_999)) && !keeps_its_digits(&Value::Int(1_234_567_890_123_456))
        );
    }
}
