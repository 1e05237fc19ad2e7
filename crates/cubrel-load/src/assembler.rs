//! Pieces of a source to the coded columns of a table: read and computed in parallel, coded a segment at a time, so that
//! no more than a segment or two are ever held as plain values.

use std::collections::{BTreeMap, VecDeque};
use std::sync::Arc;

use super::failure::{Failure, LoadError};
use super::pipeline::{self, Assembler};
use super::report::Observer;
use super::row_transform::{Finished, RowTransform};
use super::staging::BadRows;
use super::stored::eval_problem;
use cubrel_formula::schema::Computed;
use cubrel_formula::source::{Diagnostic, Problem};
use cubrel_store::dictionary::Interim;
use cubrel_store::encode::{NumberUse, encode_segment};
use cubrel_store::order::SortColumns;
use cubrel_store::waiting::WaitingColumn;
use cubrel_store::{CodedColumn, RawColumn};
use cubrel_value::cancel::Cancel;
use cubrel_value::threads::AtWork;
use cubrel_value::units;

/// The rows of one piece.
pub(super) struct PieceColumns {
    pub(super) columns: Vec<(String, RawColumn)>,
    pub(super) bad: BadRows,
}

/// The rows of a table, coded segment by segment.
#[derive(Default)]
pub(super) struct EncodedTable {
    /// Names of the columns, and when they were computed.
    pub(super) names: Vec<(String, Computed)>,
    /// By partition.
    pub(super) partitions: Vec<EncodedPartition>,
    /// What people are told of the source.
    pub(super) notes: Vec<String>,
}

/// The rows of one partition.
#[derive(Default)]
pub(super) struct EncodedPartition {
    /// The columns of each segment.
    pub(super) segments: Vec<Vec<CodedColumn>>,
    pub(super) bad: BadRows,
    /// Rows that the filter left out.
    pub(super) filtered: u64,
}

/// The memory that a table may take, and who is told how it goes.
pub(super) struct MemoryBudget<'a> {
    pub(super) table: &'a str,
    pub(super) bytes: Option<u64>,
    /// How many rows are coded together.
    pub(super) segment_rows: usize,
    pub(super) observer: &'a dyn Observer,
    pub(super) cancel: &'a Cancel,
    /// Whether other tables are loaded meanwhile.
    pub(super) at_work: Option<&'a AtWork>,
}

impl MemoryBudget<'_> {
    fn refused(message: String) -> Result<(), LoadError> {
        let help = "raise `memory_limit` in [model], or load less; the old data is still there";
        Err(Diagnostic::general(Problem::Data, message).help(help).into())
    }

    /// Whether so many bytes may be held.
    fn check(&self, bytes: u64) -> Result<(), LoadError> {
        match self.bytes {
            Some(room) if bytes > room => MemoryBudget::refused(format!(
                "table `{}` takes {} so far; the memory limit has room for {}",
                self.table,
                units::bytes(bytes),
                units::bytes(room)
            )),
            _ => Ok(()),
        }
    }

    /// Whether what a sample foretells can be held. A whole table takes less for each row than its first rows do, so
    /// that only what is far too much is refused before it is read.
    fn foretell(&self, bytes: u64) -> Result<(), LoadError> {
        match self.bytes {
            Some(room) if bytes / FORECAST_EXCESS > room => MemoryBudget::refused(format!(
                "table `{}` would take about {}; the memory limit has room for {}, so it was not read",
                self.table,
                units::bytes(bytes),
                units::bytes(room)
            )),
            _ => Ok(()),
        }
    }
}

/// Texts of the segments that have been coded are packed where all of them together take more bytes: until then nothing is packed
/// twice.
const PLAIN_TEXTS: u64 = 256 << 20;

/// Threads that one segment keeps busy: its columns are coded side by side.
const THREADS_OF_A_SEGMENT: usize = 2;

/// How many times too much a forecast may be.
const FORECAST_EXCESS: u64 = 2;

/// A piece with everything computed.
pub(super) struct ReadPiece {
    partition: usize,
    rows: usize,
    bad: BadRows,
    /// Rows that the filter left out.
    filtered: u64,
    /// Their names, and when they were computed.
    names: Vec<(String, Computed)>,
    columns: Vec<WaitingColumn>,
}

/// Columns that are given whole.
pub(super) fn of_columns(
    own: &RowTransform<'_>,
    room: &MemoryBudget<'_>,
    columns: Vec<(String, RawColumn)>,
) -> Result<EncodedTable, LoadError> {
    let mut assembler = TableAssembler::new(own, room);
    let rows = columns.first().map_or(0, |(_, raw)| raw.len());
    // A table without rows has its columns all the same.
    let starts: Vec<usize> = (0..rows.max(1)).step_by(room.segment_rows.max(1)).collect();
    let piece = |start: usize| {
        let range = start..rows.min(start + room.segment_rows.max(1));
        let columns = columns.iter().map(|(name, raw)| (name.clone(), raw.part(range.clone()))).collect();
        (0, columns)
    };
    let mut left = starts.into_iter();
    let mut next = || Ok(left.next().map(piece));
    let taken = assembler
        .take(&mut next, &|columns: Vec<(String, RawColumn)>| Ok(PieceColumns { columns, bad: BadRows::default() }));
    match taken.and_then(|()| assembler.finish()) {
        Ok(encoded) => Ok(encoded),
        Err(Failure::Load(e)) => Err(e),
        Err(Failure::Row(..) | Failure::TypeMismatch) => {
            unreachable!("problems of rows are told, and no type is guessed")
        }
    }
}

/// The rows of a segment that waits to be coded.
pub(super) struct FullSegment {
    number: usize,
    partition: usize,
    /// Each column, in parts.
    columns: Vec<Vec<WaitingColumn>>,
    /// Which of them are keys.
    keys: Vec<bool>,
    sort_by: Arc<SortColumns>,
    /// The columns by which rows are sorted, if somebody says so.
    by: Option<Vec<usize>>,
    /// How its texts stand until it is joined with the others.
    interim: Interim,
}

/// A segment that has been coded.
pub(super) struct CodedSegment {
    number: usize,
    partition: usize,
    columns: Vec<CodedColumn>,
}

/// Takes the pieces of a table, each with the partition that it belongs to.
pub(super) struct TableAssembler<'a> {
    own: &'a RowTransform<'a>,
    room: &'a MemoryBudget<'a>,
    encoded: EncodedTable,
    /// The rows of the segment that is being filled, and its partition.
    pending: Vec<Vec<WaitingColumn>>,
    pending_rows: usize,
    partition: usize,
    /// Segments that wait to be coded.
    full: VecDeque<FullSegment>,
    /// Segments that were cut, those that are being coded, and those that are.
    cut: usize,
    coding: usize,
    kept: usize,
    /// Segments that were coded before an earlier one was.
    early: BTreeMap<usize, CodedSegment>,
    sort_by: Arc<SortColumns>,
    /// Rows of the source so far, those left out included.
    rows_seen: usize,
    /// Bytes of what is coded, and those of dictionaries among them.
    bytes: u64,
    dictionary_bytes: u64,
}

impl<'a> TableAssembler<'a> {
    pub(super) fn new(own: &'a RowTransform<'a>, room: &'a MemoryBudget<'a>) -> TableAssembler<'a> {
        TableAssembler {
            own,
            room,
            encoded: EncodedTable::default(),
            pending: Vec::new(),
            pending_rows: 0,
            partition: 0,
            full: VecDeque::new(),
            cut: 0,
            coding: 0,
            kept: 0,
            early: BTreeMap::new(),
            sort_by: Arc::default(),
            rows_seen: 0,
            bytes: 0,
            dictionary_bytes: 0,
        }
    }

    /// Whether there is need of a forecast for a source of so many bytes.
    pub(super) fn may_not_fit(&self, source_bytes: u64) -> bool {
        self.room.bytes.is_some_and(|room| source_bytes > room)
    }

    /// Refuses a source of so many bytes when the ones taken so far, which are a sample of it, say that it has no room.
    pub(super) fn foretell(mut self, sample: u64, source_bytes: u64) -> Result<(), Failure> {
        self.code_rest()?;
        let times = source_bytes as f64 / sample.max(1) as f64;
        Ok(self.room.foretell((self.bytes as f64 * times) as u64)?)
    }

    /// Takes all pieces that `next` gives, in order; `read` turns them to columns, on all threads.
    pub(super) fn take<P: Send>(
        &mut self,
        next: &mut (impl FnMut() -> Result<Option<(usize, P)>, LoadError> + Send),
        read: &(impl Fn(P) -> Result<PieceColumns, Failure> + Sync),
    ) -> Result<(), Failure> {
        let own = self.own;
        let read = |(partition, piece)| {
            let PieceColumns { columns, bad } = read(piece)?;
            let rows = columns.first().map_or(0, |(_, raw)| raw.len());
            let Finished { columns, filtered } = own.finish(columns)?;
            let named = columns.into_iter().map(|(name, raw, computed)| ((name, computed), WaitingColumn::of(raw)));
            let (names, columns) = named.unzip();
            Ok(ReadPiece { partition, rows, bad, filtered, names, columns })
        };
        pipeline::run(self, next, &read)
    }

    fn cut(&mut self) {
        if self.pending.iter().any(|parts| !parts.is_empty()) {
            let columns = self.pending.iter_mut().map(std::mem::take).collect();
            let sort_by = self.sort_by.clone();
            let (number, partition, by) = (self.cut, self.partition, self.said_order());
            let keys = self.encoded.names.iter().map(|(name, _)| self.own.keys.contains(name)).collect();
            let interim = self.interim();
            self.full.push_back(FullSegment { number, partition, columns, keys, sort_by, by, interim });
            self.cut += 1;
        }
        self.pending_rows = 0;
    }

    /// How texts stand until segments are joined: where memory is limited they take as little as they can.
    fn interim(&self) -> Interim {
        let has_room = self.room.bytes.is_none() && self.dictionary_bytes < PLAIN_TEXTS;
        if has_room { Interim::Plain } else { Interim::Packed }
    }

    /// The places of the columns that the model sorts rows by.
    fn said_order(&self) -> Option<Vec<usize>> {
        let place = |name: &String| self.encoded.names.iter().position(|(n, _)| n == name);
        (!self.own.order.is_empty()).then(|| self.own.order.iter().filter_map(place).collect())
    }

    fn of(&mut self, partition: usize) -> &mut EncodedPartition {
        let all = &mut self.encoded.partitions;
        if all.len() <= partition {
            all.resize_with(partition + 1, EncodedPartition::default);
        }
        &mut all[partition]
    }

    fn code_rest(&mut self) -> Result<(), LoadError> {
        self.cut();
        while let Some(full) = self.next_full() {
            self.keep(Self::code(full))?;
        }
        Ok(())
    }

    /// All rows taken.
    pub(super) fn finish(mut self) -> Result<EncodedTable, Failure> {
        self.code_rest()?;
        Ok(self.encoded)
    }
}

impl Assembler for TableAssembler<'_> {
    type Piece = ReadPiece;
    type Full = FullSegment;
    type Coded = CodedSegment;

    /// Takes the rows of a piece; a segment that has enough of them waits to be coded.
    fn add(&mut self, read: Result<ReadPiece, Failure>) -> Result<(), Failure> {
        let ReadPiece { partition, rows, bad, filtered, names, columns } = match read {
            Err(Failure::Row(e, start)) => {
                let problem = eval_problem(&e, self.rows_seen + start, self.own.table);
                return Err(LoadError::from(problem).into());
            }
            read => read?,
        };
        self.rows_seen += rows;
        let own = self.of(partition);
        own.bad.join(bad);
        own.filtered += filtered;
        let here = columns.first().map_or(0, WaitingColumn::rows);
        if partition != self.partition || self.pending_rows > 0 && self.pending_rows + here > self.room.segment_rows {
            self.cut();
        }
        self.partition = partition;
        self.pending_rows += here;
        self.room.observer.rows(self.own.table, here as u64);
        if self.encoded.names.is_empty() {
            self.pending = names.iter().map(|_| Vec::new()).collect();
            self.encoded.names = names;
        }
        self.pending.iter_mut().zip(columns).for_each(|(all, waiting)| all.push(waiting));
        Ok(())
    }

    /// A segment that can be coded now. The first one tells how all are sorted; and of those that are coded at once the plain values are
    /// there, so that they are few.
    fn next_full(&mut self) -> Option<FullSegment> {
        let waits_for_order = !self.sort_by.is_known() && self.own.order.is_empty();
        let most = if waits_for_order { 1 } else { rayon::current_num_threads().div_ceil(THREADS_OF_A_SEGMENT) };
        if self.coding >= most {
            return None;
        }
        self.coding += usize::from(!self.full.is_empty());
        self.full.pop_front()
    }

    /// Whether segments wait to be coded.
    fn has_full(&self) -> bool {
        !self.full.is_empty()
    }

    /// Whether the plain values of a segment are there beside those that are read.
    fn is_coding(&self) -> bool {
        self.coding > 0
    }

    /// Whether another table is loaded meanwhile.
    fn is_shared(&self) -> bool {
        self.room.at_work.is_some_and(AtWork::is_shared)
    }

    fn code(full: FullSegment) -> CodedSegment {
        let FullSegment { number, partition, columns, keys, sort_by, by, interim } = full;
        let used = |parts: &[WaitingColumn], key: bool| {
            parts.first().map_or(NumberUse::Compared, |waiting| NumberUse::of(waiting.ty(), key))
        };
        let columns = columns.into_iter().zip(keys).map(|(parts, key)| {
            let used = used(&parts, key);
            (parts, used)
        });
        let columns = encode_segment(columns.collect(), by.as_deref(), &sort_by, interim);
        CodedSegment { number, partition, columns }
    }

    /// Takes a segment that was given to be coded.
    fn keep(&mut self, coded: CodedSegment) -> Result<(), LoadError> {
        for (codes, dictionary) in coded.columns.iter().map(CodedColumn::heap_bytes) {
            self.bytes += (codes + dictionary) as u64;
            self.dictionary_bytes += dictionary as u64;
        }
        self.room.check(self.bytes)?;
        self.coding -= 1;
        self.early.insert(coded.number, coded);
        while let Some(CodedSegment { partition, columns, .. }) = self.early.remove(&self.kept) {
            self.kept += 1;
            self.of(partition).segments.push(columns);
        }
        Ok(())
    }

    /// Whether it is to end.
    fn is_cancelled(&self) -> bool {
        self.room.cancel.is_cancelled() || self.room.observer.wants_to_stop()
    }
}
