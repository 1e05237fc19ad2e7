//! Pieces of delimited text to fields, some rows at a time.

use ::csv::{ByteRecord, ReaderBuilder};

use super::dialect::Dialect;
use super::lines::Piece;
use super::quotes;
use cubrel_value::units::counted;

/// Rows of a batch: so few that their text stays in the fastest cache while one column after the other is read.
const BATCH: usize = 256;

/// Some rows of a piece, told apart to fields.
pub(super) struct FieldBatch<'t> {
    text: &'t [u8],
    rows: &'t RowBounds,
}

/// Where rows and their fields stand.
struct RowBounds {
    /// Where the fields of each column begin and end.
    columns: Vec<[(usize, usize); BATCH]>,
    /// Fields of the row that is being read.
    found: usize,
    /// Where each row begins in the piece.
    starts: Vec<usize>,
    /// Rows that have another number of fields, or cannot be told apart: where they begin, and what is odd.
    odd: Vec<(usize, String)>,
}

impl RowBounds {
    fn new(columns: usize) -> RowBounds {
        RowBounds {
            columns: vec![[(0, 0); BATCH]; columns],
            found: 0,
            starts: Vec::with_capacity(BATCH),
            odd: Vec::new(),
        }
    }

    fn clear(&mut self) {
        self.found = 0;
        self.starts.clear();
        self.odd.clear();
    }

    fn is_full(&self) -> bool {
        self.starts.len() + self.odd.len() == BATCH
    }

    /// The next field of the row.
    #[inline]
    fn field(&mut self, start: usize, end: usize) {
        if let Some(column) = self.columns.get_mut(self.found) {
            column[self.starts.len()] = (start, end);
        }
        self.found += 1;
    }

    /// The row ends that began at `start`.
    fn end(&mut self, start: usize) {
        let (found, columns) = (std::mem::take(&mut self.found), self.columns.len());
        if found == columns {
            self.starts.push(start);
        } else {
            self.odd.push((start, format!("{}, the header has {columns}", counted(found as u64, "field"))));
        }
    }
}

impl<'t> FieldBatch<'t> {
    /// The fields of a column, of all rows that have as many fields as there are columns.
    pub(super) fn column(&self, column: usize) -> impl ExactSizeIterator<Item = &'t [u8]> + use<'t> {
        let text = self.text;
        self.rows.columns[column][..self.rows.starts.len()].iter().map(move |(start, end)| &text[*start..*end])
    }

    /// How many rows have as many fields as there are columns.
    pub(super) fn len(&self) -> usize {
        self.rows.starts.len()
    }

    /// Where a row begins in the piece.
    pub(super) fn start(&self, row: usize) -> usize {
        self.rows.starts[row]
    }

    /// Rows that cannot be told apart to as many fields as there are columns: where they begin, and why.
    pub(super) fn odd(&self) -> &'t [(usize, String)] {
        &self.rows.odd
    }
}

/// Calls `take` with all rows of a piece but the header, some at a time.
///
/// # Errors
/// The first that `take` gives.
pub(super) fn each_batch<E>(
    piece: &Piece,
    dialect: &Dialect,
    columns: usize,
    take: impl FnMut(&FieldBatch<'_>) -> Result<(), E>,
) -> Result<(), E> {
    if is_plain(&piece.body, dialect.quote) {
        plain(piece, dialect.delimiter.unwrap_or(b','), columns, take)
    } else {
        quoted(piece, dialect, columns, take)
    }
}

/// Whether lines and fields are told apart by line feeds and delimiters alone.
fn is_plain(body: &[u8], quote: u8) -> bool {
    memchr::memchr(quote, body).is_none()
        && memchr::memchr_iter(b'\r', body).all(|at| body.get(at + 1).is_none_or(|b| *b == b'\n'))
}

fn plain<E>(
    piece: &Piece,
    delimiter: u8,
    columns: usize,
    mut take: impl FnMut(&FieldBatch<'_>) -> Result<(), E>,
) -> Result<(), E> {
    let text = piece.body.as_slice();
    let mut rows = RowBounds::new(columns);
    let mut is_header = piece.has_header;
    // Where the row and the field begin.
    let (mut row, mut field) = (0, 0);
    for at in DelimiterMarks::new(text, delimiter).chain([text.len()]) {
        if text.get(at) == Some(&delimiter) {
            rows.field(field, at);
            field = at + 1;
            continue;
        }
        let end = if text[field..at].ends_with(b"\r") { at - 1 } else { at };
        let is_blank = row == end;
        if !is_blank && std::mem::take(&mut is_header) {
            rows.clear();
        } else if !is_blank {
            rows.field(field, end);
            rows.end(row);
        }
        (row, field) = (at + 1, at + 1);
        if rows.is_full() {
            take(&FieldBatch { text, rows: &rows })?;
            rows.clear();
        }
    }
    take(&FieldBatch { text, rows: &rows })
}

/// Where delimiters and line feeds stand, found eight bytes at a time.
struct DelimiterMarks<'t> {
    text: &'t [u8],
    delimiters: u64,
    /// Where the next eight bytes are.
    next: usize,
    /// The highest bit of each byte of the last eight that is one, and still to be told.
    found: u64,
}

/// A byte in each of eight.
const fn repeated(byte: u8) -> u64 {
    u64::from_ne_bytes([byte; 8])
}

/// The highest bit of each byte that is zero: H. Warren, "Hacker's Delight" (2nd edition, 2012), section 6-1.
fn zeros(word: u64) -> u64 {
    const LOW: u64 = repeated(0x7F);
    !(((word & LOW) + LOW) | word | LOW)
}

impl<'t> DelimiterMarks<'t> {
    fn new(text: &'t [u8], delimiter: u8) -> DelimiterMarks<'t> {
        DelimiterMarks { text, delimiters: repeated(delimiter), next: 0, found: 0 }
    }

    fn marks(&self, word: u64) -> u64 {
        zeros(word ^ self.delimiters) | zeros(word ^ repeated(b'\n'))
    }
}

impl Iterator for DelimiterMarks<'_> {
    type Item = usize;

    #[inline]
    fn next(&mut self) -> Option<usize> {
        while self.found == 0 {
            let rest = self.text.get(self.next..).filter(|rest| !rest.is_empty())?;
            let (bytes, known) = match rest.first_chunk::<8>() {
                Some(bytes) => (*bytes, u64::MAX),
                None => {
                    let mut bytes = [0; 8];
                    bytes[..rest.len()].copy_from_slice(rest);
                    (bytes, !(u64::MAX << (8 * rest.len())))
                }
            };
            self.found = self.marks(u64::from_le_bytes(bytes)) & known;
            self.next += 8;
        }
        let at = self.next - 8 + self.found.trailing_zeros() as usize / 8;
        self.found &= self.found - 1;
        Some(at)
    }
}

fn quoted<E>(
    piece: &Piece,
    dialect: &Dialect,
    columns: usize,
    mut take: impl FnMut(&FieldBatch<'_>) -> Result<(), E>,
) -> Result<(), E> {
    let body = piece.body.as_slice();
    // The fields without their quotes.
    let mut text = Vec::new();
    let mut rows = RowBounds::new(columns);
    let mut from = 0;
    let unclosed = quotes::scan(body, dialect, true).unclosed;
    for gap in unclosed.into_iter().map(Some).chain([None]) {
        let to = gap.as_ref().map_or(body.len(), |gap| gap.start);
        let mut reader = ReaderBuilder::new()
            .delimiter(dialect.delimiter.unwrap_or(b','))
            .quote(dialect.quote)
            .flexible(true)
            .has_headers(piece.has_header && from == 0)
            .from_reader(&body[from..to]);
        let mut record = ByteRecord::new();
        loop {
            let result = reader.read_byte_record(&mut record);
            let start = (from + record.position().map_or(0, |p| p.byte() as usize)).min(body.len());
            match result {
                Ok(false) => break,
                Ok(true) => {
                    for field in &record {
                        rows.field(text.len(), text.len() + field.len());
                        text.extend_from_slice(field);
                    }
                    rows.end(start);
                }
                Err(e) => rows.odd.push((start, e.to_string())),
            }
            if rows.is_full() {
                take(&FieldBatch { text: &text, rows: &rows })?;
                rows.clear();
                text.clear();
            }
        }
        if let Some(gap) = gap {
            rows.odd.push((gap.start, "a quote opens a field and is not closed".to_string()));
            from = gap.end;
        }
        if rows.is_full() {
            take(&FieldBatch { text: &text, rows: &rows })?;
            rows.clear();
            text.clear();
        }
    }
    take(&FieldBatch { text: &text, rows: &rows })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn marks_are_found_wherever_they_stand() {
        let noise = |i: u64| (i.wrapping_mul(0x9E37_79B9_7F4A_7C15) >> 40) as u8;
        for delimiter in [b',', b'\t', 0, 0xFF, 0x80, b'\n' + 1] {
            for len in 0..70 {
                let one = |i| [delimiter, b'\n', delimiter ^ 0x80, delimiter.wrapping_add(1), 0, noise(i)];
                let text: Vec<u8> = (0..len).map(|i| one(i)[noise(i + 99 * len) as usize % 6]).collect();
                let marks: Vec<usize> = DelimiterMarks::new(&text, delimiter).collect();
                let expected: Vec<usize> =
                    (0..text.len()).filter(|i| text[*i] == delimiter || text[*i] == b'\n').collect();
                assert_eq!(marks, expected, "{delimiter} in {text:?}");
            }
        }
    }
}
