//! Text of files in pieces that end with a line, however long the files are.

use cubrel_value::files;
use std::collections::VecDeque;
use std::io::{self, Read};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use super::dialect::Dialect;
use super::{LoadError, bytes, quotes};
use cubrel_formula::source::{Diagnostic, Problem};

/// Bytes of a piece that one thread works on.
pub const PIECE: usize = 4 << 20;

/// A line is no longer: what has none that ends, such as zeros without end, is not text.
const MOST_LINE: usize = 64 << 20;

/// So many lines stand before a header at most.
const MOST_BEFORE: u64 = 1 << 12;

/// Bytes that are read at a time of lines that are passed over.
const SKIPPED: u64 = 1 << 12;

/// What is said of a line that is longer.
pub fn endless(line: u64, most: usize) -> io::Error {
    io::Error::other(format!("line {line} is longer than {}", cubrel_value::units::bytes(most as u64)))
}

/// A text, and how it is laid out.
#[derive(Clone)]
pub struct TextInput {
    origin: TextOrigin,
    name: String,
    /// How it is laid out.
    pub dialect: Dialect,
    /// How its header begins, where that tells which lines stand before it.
    header: Option<Arc<str>>,
}

/// Where a text comes from.
#[derive(Clone)]
enum TextOrigin {
    File(PathBuf),
    /// It is made while it is read, in UTF-8.
    Made(Arc<Making>),
}

/// Begins a text that is made while it is read; it tells how many bytes of the source it has taken.
pub type Making = dyn Fn(&Arc<AtomicU64>) -> io::Result<Box<dyn Read + Send>> + Send + Sync;

impl TextInput {
    /// A file, with its name for messages.
    pub fn file(path: PathBuf, name: String, dialect: Dialect) -> TextInput {
        TextInput { origin: TextOrigin::File(path), name, dialect, header: None }
    }

    /// The same text, whose header begins so.
    #[must_use]
    pub fn with_header(self, header: Option<Arc<str>>) -> TextInput {
        TextInput { header, ..self }
    }

    /// Text that is made while it is read.
    pub fn made(
        make: impl Fn(&Arc<AtomicU64>) -> io::Result<Box<dyn Read + Send>> + Send + Sync + 'static,
        name: String,
    ) -> TextInput {
        TextInput { origin: TextOrigin::Made(Arc::new(make)), name, dialect: Dialect::MADE, header: None }
    }

    /// Whether it is made here, so that values are written as the language writes them.
    pub fn is_made(&self) -> bool {
        matches!(self.origin, TextOrigin::Made(_))
    }

    /// Its name, for messages.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// What was read from the header on, and how many lines before it were passed over.
    fn at_header(&self, reader: &mut dyn Read) -> Result<(Vec<u8>, u64), LoadError> {
        let mut rest = Vec::new();
        let Some(header) = &self.header else {
            for _ in 0..self.dialect.skip {
                let end = self.line_end(reader, &mut rest)?;
                rest.drain(..end);
            }
            return Ok((rest, u64::from(self.dialect.skip)));
        };
        for line in 0..MOST_BEFORE {
            let end = self.line_end(reader, &mut rest)?;
            if self.begins(&rest[..end], header) {
                return Ok((rest, line));
            }
            if end == 0 {
                break;
            }
            rest.drain(..end);
        }
        let problem = Diagnostic::general(Problem::Data, format!("{}: no line begins with `{header}`", self.name()));
        Err(problem.help("`csv.header` is how the line with the names begins: the name of the first column").into())
    }

    /// Where the first line of what was read ends, once there is all of it.
    fn line_end(&self, reader: &mut dyn Read, read: &mut Vec<u8>) -> Result<usize, LoadError> {
        let mut known = 0;
        loop {
            if let Some(end) = memchr::memchr(b'\n', &read[known..]) {
                return Ok(known + end + 1);
            }
            known = read.len();
            let more = reader.take(SKIPPED).read_to_end(read);
            more.map_err(|e| bytes::problem(Path::new(self.name()), &e))?;
            if read.len() == known || known > MOST_LINE {
                return Ok(read.len());
            }
        }
    }

    /// Whether a line begins so, with or without quotes.
    fn begins(&self, line: &[u8], header: &str) -> bool {
        let line = line.trim_ascii_start();
        let bare = line.strip_prefix(&[self.dialect.quote]).unwrap_or(line);
        line.starts_with(header.as_bytes()) || bare.starts_with(header.as_bytes())
    }

    fn open(&self, taken: &Arc<AtomicU64>) -> Result<Box<dyn Read + Send>, LoadError> {
        match &self.origin {
            TextOrigin::Made(make) => make(taken).map_err(|e| LoadError::io(Path::new(&self.name), e)),
            TextOrigin::File(path) => opened(path, &self.dialect, taken),
        }
    }

    fn problem(&self, error: io::Error) -> LoadError {
        match &self.origin {
            TextOrigin::File(path) => bytes::problem(path, &error),
            TextOrigin::Made(_) => LoadError::io(Path::new(&self.name), error),
        }
    }
}

/// The text of a file, whatever it is packed and written in; `taken` counts its bytes.
///
/// # Errors
/// When it cannot be opened, or is not packed as its name says.
pub fn opened(path: &Path, dialect: &Dialect, taken: &Arc<AtomicU64>) -> Result<Box<dyn Read + Send>, LoadError> {
    let file = files::open(path).map_err(|e| LoadError::io(path, e))?;
    let counted = CountedReader { inner: file, taken: taken.clone() };
    dialect.decoded(bytes::unpacked(path, Box::new(counted))).map_err(|e| bytes::problem(path, &e))
}

/// Tells how many bytes were taken.
pub struct CountedReader<R> {
    /// What is read.
    pub inner: R,
    /// How many bytes of it.
    pub taken: Arc<AtomicU64>,
}

impl<R: Read> Read for CountedReader<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let count = self.inner.read(buffer)?;
        self.taken.fetch_add(count as u64, Ordering::Relaxed);
        Ok(count)
    }
}

/// Whole lines of one text.
pub struct Piece {
    /// The number of the input.
    pub input: usize,
    /// The lines.
    pub body: Vec<u8>,
    /// Where the memory of `body` goes when it is done with.
    pool: BufferPool,
    /// Lines of the input in front of them.
    pub lines_before: u64,
    /// Whether the first of them names the columns.
    pub has_header: bool,
}

/// Memory of pieces that are done with: to clear new memory costs as much as to read into it.
type BufferPool = Arc<Mutex<Vec<Vec<u8>>>>;

impl Drop for Piece {
    fn drop(&mut self) {
        let mut body = std::mem::take(&mut self.body);
        body.clear();
        self.pool.lock().unwrap_or_else(PoisonError::into_inner).push(body);
    }
}

/// Cuts texts into pieces.
pub struct PieceCutter {
    pool: BufferPool,
    inputs: Vec<TextInput>,
    left: VecDeque<usize>,
    piece: usize,
    /// Whether only the first piece is given.
    only_first: bool,
    current: Option<Current>,
    taken: Arc<AtomicU64>,
}

struct Current {
    input: usize,
    reader: Box<dyn Read + Send>,
    /// What follows the last line that was given.
    rest: Vec<u8>,
    lines: u64,
    is_first: bool,
    at_end: bool,
}

impl PieceCutter {
    /// The lines of some texts, in pieces of about so many bytes.
    pub fn new(inputs: Vec<TextInput>, piece: usize) -> PieceCutter {
        let left = (0..inputs.len()).collect();
        let (pool, piece, taken) = (BufferPool::default(), piece.max(1), Arc::default());
        PieceCutter { pool, inputs, left, piece, only_first: false, current: None, taken }
    }

    /// Only the first piece of the first text.
    #[must_use]
    pub fn only_first(mut self, only_first: bool) -> PieceCutter {
        self.only_first = only_first;
        self.left.truncate(if only_first { 1 } else { usize::MAX });
        self
    }

    /// Bytes of files taken since the last call.
    pub fn taken(&self) -> u64 {
        self.taken.swap(0, Ordering::Relaxed)
    }

    /// The next piece. Each text has at least one.
    ///
    /// # Errors
    /// When a file cannot be read, or is not packed as its name says.
    pub fn next(&mut self) -> Result<Option<Piece>, LoadError> {
        loop {
            if self.current.as_ref().is_none_or(|c| c.at_end) {
                let Some(input) = self.left.pop_front() else { return Ok(None) };
                let text = &self.inputs[input];
                let mut reader = text.open(&self.taken)?;
                let (rest, lines) = text.at_header(&mut reader)?;
                self.current = Some(Current { input, reader, rest, lines, is_first: true, at_end: false });
            }
            let Some(current) = &mut self.current else { return Ok(None) };
            let text = &self.inputs[current.input];
            if let Some(piece) = current.next(self.piece, &text.dialect, &self.pool).map_err(|e| text.problem(e))? {
                current.at_end |= self.only_first;
                return Ok(Some(piece));
            }
        }
    }
}

impl Current {
    fn next(&mut self, wanted: usize, dialect: &Dialect, pool: &BufferPool) -> io::Result<Option<Piece>> {
        let mut body = pool.lock().unwrap_or_else(PoisonError::into_inner).pop().unwrap_or_default();
        body.append(&mut self.rest);
        // Where the last line ends that is known to end.
        let mut end: Option<usize> = None;
        loop {
            let before = body.len();
            // A line that does not end is looked through from its beginning, so that each step is as long as all before.
            let wanted = wanted.max(before).min((MOST_LINE + 1).saturating_sub(before)).max(1);
            body.reserve(wanted);
            let count = (&mut self.reader).take(wanted as u64).read_to_end(&mut body)?;
            self.at_end = count < wanted;
            if self.at_end {
                break;
            }
            let from = end.unwrap_or(0);
            end = quotes::scan(&body[from..], dialect, false).end.map(|more| from + more).or(end);
            if end.is_some() || body.len() == before {
                break;
            }
            if body.len() > MOST_LINE {
                return Err(endless(self.lines + 1, MOST_LINE));
            }
        }
        if !self.at_end
            && let Some(end) = end
        {
            self.rest.extend_from_slice(&body[end..]);
            body.truncate(end);
        }
        let (lines_before, has_header, pool) = (self.lines, self.is_first, pool.clone());
        let piece = Piece { input: self.input, lines_before, has_header, body, pool };
        self.lines += memchr::memchr_iter(b'\n', &piece.body).count() as u64;
        let is_empty = piece.body.is_empty() && !self.is_first;
        self.is_first = false;
        Ok((!is_empty).then_some(piece))
    }
}

#[cfg(test)]
mod tests {
    use std::io::Cursor;

    use super::*;

    fn pieces(text: &str, size: usize) -> Vec<String> {
        let bytes = text.as_bytes().to_vec();
        let input = TextInput::made(move |_| Ok(Box::new(Cursor::new(bytes.clone()))), "text".into());
        let mut lines = PieceCutter::new(vec![input], size);
        let mut found = Vec::new();
        while let Some(piece) = lines.next().expect("text can be read") {
            let before = found.iter().flat_map(|p: &String| p.bytes()).filter(|b| *b == b'\n').count() as u64;
            assert_eq!((piece.has_header, piece.lines_before), (found.is_empty(), before));
            found.push(String::from_utf8(piece.body.clone()).expect("whole lines"));
        }
        found
    }

    #[test]
    fn pieces_end_with_lines_outside_quotes() {
        let texts = [
            "",
            "a,b",
            "a,b\n1,2\n3,4\n",
            "a,b\r\n1,\"x\ny\"\r\n3,4\r\n",
            "a,b\n1,\"say \"\"no\"\"\n\"\n3,5\" pipe\n4,\"\"\n5,6",
            "\"a\nb\",c\n\"1\n\n\n\n2\",3\n",
        ];
        for text in texts {
            for size in 1..text.len() + 2 {
                let found = pieces(text, size);
                assert_eq!(found.concat(), text, "in pieces of {size}");
                for piece in &found[..found.len() - 1] {
                    assert!(piece.ends_with('\n'), "{piece:?}");
                    // Quotes that open and close fields come in pairs; the one inside a field does not count.
                    let quotes = piece.replace("5\" pipe", "").matches('"').count();
                    assert_eq!(quotes % 2, 0, "{piece:?} of {text:?} in {size}");
                }
            }
        }
    }
}
