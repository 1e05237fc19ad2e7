use std::fs::File;
use std::io::{self, Cursor, Seek, SeekFrom, Write};
use std::path::Path;
use std::sync::Arc;

use super::*;
use crate::places::Places;
use crate::raw::{RawColumn, RawData};
use crate::{Codes, Encoding, LookupRows};
use cubrel_value::{Data, Matching, Type, Value, Vector};

/// A table with a column of every encoding and segments of every form.
fn sample() -> Stored {
    const ROWS: u64 = 6000;
    let noise = |i: u64| i.wrapping_mul(0x9E37_79B9_7F4A_7C15) >> 24;
    let ints = |ty: Type, f: &dyn Fn(u64) -> i64| {
        let values = (0..ROWS).map(f).collect();
        RawColumn { ty, data: RawData::Ints(values), valid: None }
    };
    let texts = |f: &dyn Fn(u64) -> String| {
        let values = Vector::new(Data::Text((0..ROWS).map(|i| Arc::from(f(i).as_str())).collect()));
        RawColumn::from_vector(values, Type::Text).expect("fits")
    };
    let mut sparse = ints(Type::Int, &|i| noise(i) as i64);
    sparse.valid = Some((0..ROWS).map(|i| i % 50 == 7).collect());
    let mut marked = ints(Type::Int, &|i| noise(i) as i64);
    marked.valid = Some((0..ROWS).map(|i| noise(i) % 5 < 2).collect());
    let columns = [
        ("offset", ints(Type::decimal(2), &|i| 25 * (noise(i) % 400) as i64 - 700)),
        ("sequence", ints(Type::Int, &|i| 5 + i as i64)),
        ("runs", ints(Type::Date, &|i| 20_000 + (i / 300) as i64)),
        ("listed", ints(Type::Int, &|i| [-7_000_000_000, 12, 9_000_000_001][i as usize % 3])),
        ("distances", ints(Type::Timestamp, &|i| (noise(i % 2000) as i64) << 20 | 1)),
        ("sparse", sparse),
        ("marked", marked),
        (
            "float",
            RawColumn {
                ty: Type::Float,
                data: RawData::Floats((0..ROWS).map(|i| (i as f64).sqrt()).collect()),
                valid: None,
            },
        ),
        (
            "units",
            RawColumn {
                ty: Type::Float,
                data: RawData::Floats((0..ROWS).map(|i| i as f64 / 100.0).collect()),
                valid: None,
            },
        ),
        ("plain", texts(&|i| ["Ness", "Holm", "", "Ärö"][i as usize % 4].into())),
        ("template", texts(&|i| format!("TI-{:05}", noise(i) % 100_000))),
        ("blocks", texts(&|i| format!("The boat of {} to the island of {}", noise(i), i % 90))),
    ];
    let columns = columns.map(|(name, raw)| (name.to_string(), Arc::new(CodedColumn::encode(&raw, 2500))));
    let first = StoredTable { name: "a".into(), shares: None, rows: ROWS as usize, columns: columns.to_vec() };
    let second = StoredTable { name: "b".into(), shares: Some(0), ..first.clone() };
    let key = first.columns[1].1.clone();
    let by_code = Lookup::build(&[&key], &[&key], Matching::Exact).expect("unique");
    let by_row = Lookup::build(&[&key, &key], &[&key, &key], Matching::Exact).expect("unique");
    let notes = serde_json::json!({"x": 1});
    Stored { tables: vec![first, second], lookups: vec![by_code.into(), by_row.into()], notes, ..Stored::default() }
}

fn write(path: &Path, stored: &Stored) -> io::Result<()> {
    write_to(&mut File::create(path)?, stored)
}

fn values(stored: &Stored) -> Vec<Vec<Value>> {
    let columns = stored.tables.iter().flat_map(|t| &t.columns).map(|(_, c)| c.verified());
    columns.map(|c| c.codes().into_iter().map(|code| c.value_of(code)).collect()).collect()
}

fn targets(stored: &Stored) -> Vec<Vec<u64>> {
    let rows = |lookup: &Arc<Lookup>| match &lookup.verified().target {
        LookupRows::ByCode(rows) => rows.iter().map(|r| u64::from(*r)).collect(),
        LookupRows::ByRow(packed) => (0..packed.len()).map(|i| packed.get(i)).collect(),
    };
    stored.lookups.iter().map(rows).collect()
}

#[test]
fn what_was_written_is_read() {
    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path().join("store");
    let stored = sample();
    let encodings: Vec<&str> = stored.tables[0]
        .columns
        .iter()
        .map(|(_, c)| match (c.encoding(), &c.segments()[0].codes) {
            (Encoding::Offset { .. }, Codes::Packed(_)) => "packed",
            (Encoding::Offset { .. }, Codes::Runs { .. }) => "runs",
            (_, Codes::Sparse { rows: Places::Listed(_), .. }) => "sparse",
            (_, Codes::Sparse { rows: Places::Marked(_), .. }) => "marked",
            (_, Codes::Sequence(_)) => "sequence",
            (Encoding::Numbers(_), _) => "numbers",
            (Encoding::Texts(d), _) => d.form(),
        })
        .collect();
    for form in ["packed", "runs", "sparse", "marked", "sequence", "numbers", "plain", "template", "blocks"] {
        assert!(encodings.contains(&form), "no column is {form}: {encodings:?}");
    }
    write(&path, &stored).expect("writes");
    let back = read(&path).expect("reads");
    back.verify().expect("nothing is damaged");
    assert_eq!(values(&back), values(&stored));
    assert_eq!(targets(&back), targets(&stored));
    assert_eq!(back.notes, stored.notes);
    assert!(Arc::ptr_eq(&back.tables[0].columns[0].1, &back.tables[1].columns[0].1), "roles share their columns");
    assert_eq!(back.lookups[0].unmatched_rows, stored.lookups[0].unmatched_rows);
    for ((_, a), (_, b)) in back.tables[0].columns.iter().zip(&stored.tables[0].columns) {
        assert_eq!(a.heap_bytes(), b.heap_bytes(), "read or not, as many bytes");
        assert_eq!(a.totals(), b.totals());
    }
}

#[test]
fn a_change_of_any_byte_is_noticed() {
    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path().join("store");
    write(&path, &sample()).expect("writes");
    let good = std::fs::read(&path).expect("reads");
    let expected = values(&sample());
    // All bytes of preamble and header, and some of everything else.
    let header = u64::from_le_bytes(good[16..24].try_into().expect("8 bytes")) as usize;
    let some = (0..good.len()).filter(|at| *at < PREAMBLE || at % 211 == 5 || *at > header && at % 37 == 0);
    let mut noticed = 0;
    for at in some {
        let mut bad = good.clone();
        bad[at] ^= 0x10;
        std::fs::write(&path, &bad).expect("writes");
        let stored = read(&path).and_then(|s| s.verify().map(|()| s));
        match stored {
            // Padding between blocks is the only part that may change unseen, and then nothing read differs.
            Ok(stored) => assert_eq!(values(&stored), expected, "byte {at}"),
            Err(_) => noticed += 1,
        }
    }
    assert!(noticed > 500, "{noticed} changes noticed");
    for cut in [0, 7, 31, 40, good.len() / 2, good.len() - 9] {
        std::fs::write(&path, &good[..cut]).expect("writes");
        assert!(read(&path).is_err(), "cut at {cut}");
    }
}

#[test]
fn a_damaged_column_has_no_values_and_says_so() {
    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path().join("store");
    write(&path, &sample()).expect("writes");
    let mut bytes = std::fs::read(&path).expect("reads");
    bytes[PREAMBLE + 3] ^= 1;
    std::fs::write(&path, &bytes).expect("writes");
    let stored = read(&path).expect("the header is whole");
    assert_eq!(stored.damage.found(), None, "nothing has been looked at yet");
    let column = |i: usize| stored.tables[0].columns[i].1.verified();
    assert_eq!((column(1).value_of(column(1).code(7)), stored.damage.found()), (Value::Int(12), None));
    assert_eq!(column(0).value_of(column(0).code(7)), Value::Null);
    assert_eq!((column(0).rows(), stored.damage.found()), (6000, Some("column a.offset")));
    assert!(stored.verify().is_err());
}

/// A disk that is full after so many bytes.
struct Full {
    file: Cursor<Vec<u8>>,
    room: u64,
}

impl Write for Full {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        if self.file.position() + bytes.len() as u64 > self.room {
            return Err(io::Error::from(io::ErrorKind::StorageFull));
        }
        self.file.write(bytes)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.file.flush()
    }
}

impl Seek for Full {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        self.file.seek(to)
    }
}

#[test]
fn what_was_not_written_to_its_end_is_no_store() {
    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path().join("store");
    let stored = sample();
    let mut whole = Full { file: Cursor::default(), room: u64::MAX };
    write_to(&mut whole, &stored).expect("there is room");
    let size = whole.file.into_inner().len() as u64;
    for room in (0..size).step_by(997).chain([size - 1]) {
        let mut disk = Full { file: Cursor::default(), room };
        let error = write_to(&mut disk, &stored).expect_err("there is no room");
        assert_eq!(error.kind(), io::ErrorKind::StorageFull, "{room} of {size} bytes");
        std::fs::write(&path, disk.file.into_inner()).expect("writes");
        assert!(read(&path).is_err(), "{room} of {size} bytes");
    }
}
