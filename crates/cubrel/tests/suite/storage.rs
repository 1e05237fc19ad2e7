//! One table of columns, through every encoding, form of segment, order of rows and way to the disk: what comes out is
//! what went in.
use std::collections::HashMap;
use std::sync::Arc;

use cubrel::store::dictionary::Interim;
use cubrel::store::disk::{Stored, StoredTable, generations};
use cubrel::store::encode::{NumberUse, encode_segment, recoded};
use cubrel::store::order::{RowOrder, SortColumns};
use cubrel::store::waiting::WaitingColumn;
use cubrel::store::{CodedColumn, Codes, Encoding, RawColumn, RawData, SegmentBounds, TextList};
use cubrel::{Type, Value};

const ROWS: u64 = 9000;

fn noise(i: u64) -> u64 {
    let mixed = (i + 1).wrapping_mul(0x9E37_79B9_7F4A_7C15);
    (mixed ^ mixed >> 29).wrapping_mul(0xBF58_476D_1CE4_E5B9) >> 11
}

fn ints(ty: Type, each: impl Fn(u64) -> i64) -> RawColumn {
    RawColumn { ty, data: RawData::Ints((0..ROWS).map(each).collect()), valid: None }
}

fn floats(each: impl Fn(u64) -> f64) -> RawColumn {
    RawColumn { ty: Type::Float, data: RawData::Floats((0..ROWS).map(each).collect()), valid: None }
}

fn texts(each: impl Fn(u64) -> String) -> RawColumn {
    let all: Vec<String> = (0..ROWS).map(each).collect();
    let values: TextList = all.iter().map(String::as_str).collect();
    RawColumn { ty: Type::Text, data: RawData::Texts { values, indices: (0..ROWS as u32).collect() }, valid: None }
}

/// Columns of every type, spread and shape.
fn columns() -> Vec<(&'static str, RawColumn)> {
    vec![
        ("constant", ints(Type::Int, |_| -7)),
        ("sequence", ints(Type::Int, |i| 100 + 3 * i as i64)),
        ("few", ints(Type::Int, |i| (noise(i) % 5) as i64)),
        ("steps", ints(Type::decimal(2), |i| 250 * (noise(i) % 900) as i64 - 40_000)),
        ("ends of the range", ints(Type::Int, |i| [i64::MIN, i64::MAX, 0, -1][i as usize % 4])),
        ("far apart", ints(Type::Timestamp, |i| (noise(i % 3000) as i64) << 9)),
        ("all over", ints(Type::Int, |i| noise(i) as i64 - (1 << 52))),
        ("in runs", ints(Type::Date, |i| 20_000 + (i / 700) as i64)),
        (
            "mostly one",
            ints(Type::decimal(1), |i| if noise(i).is_multiple_of(40) { noise(i * 3) as i64 % 500 } else { 12 }),
        ),
        ("truth", ints(Type::Bool, |i| noise(i).is_multiple_of(3).into())),
        ("whole doubles", floats(|i| (noise(i) % 70) as f64)),
        ("decimals", floats(|i| ((noise(i) % 100_000) as f64 - 3e4) / 100.0)),
        ("roots", floats(|i| ((noise(i) % 5000) as f64).sqrt() - 20.0)),
        ("extremes", floats(|i| [f64::MAX, f64::MIN, f64::MIN_POSITIVE, -0.0, 1e-300, 0.1][i as usize % 6])),
        ("few texts", texts(|i| ["Ness", "Holm", "", "Ärö", "日本"][noise(i) as usize % 5].into())),
        ("references", texts(|i| format!("TI-{:07}", noise(i) % 10_000_000))),
        (
            "identifiers",
            texts(|i| format!("{:08x}-{:04x}-4{:012x}", noise(i) as u32, noise(i) >> 37, noise(i + 7) >> 5)),
        ),
        ("of any length", texts(|i| "x".repeat(noise(i) as usize % 9) + &(noise(i) % 1000).to_string())),
        ("sentences", texts(|i| format!("The {} boat to island {} was late", noise(i), i % 70))),
        ("long", texts(|i| format!("{}{}", "é".repeat((i % 90) as usize), noise(i)))),
    ]
}

/// The same with nulls: few, most, and nothing else.
fn with_nulls(raw: &RawColumn) -> Vec<RawColumn> {
    let nulls = |is_null: &dyn Fn(u64) -> bool| {
        let valid = (0..ROWS).map(|i| !is_null(i)).collect();
        RawColumn { valid: Some(valid), ..raw.clone() }
    };
    vec![
        raw.clone(),
        nulls(&|i| noise(i).is_multiple_of(17)),
        nulls(&|i| !noise(i).is_multiple_of(200)),
        nulls(&|_| true),
    ]
}

fn values(raw: &RawColumn) -> Vec<Value> {
    let batch = raw.vector(&(0..raw.len() as u32).collect::<Vec<_>>());
    (0..raw.len())
        .map(|i| batch.get(i, raw.ty))
        .map(|v| if v == Value::Float(-0.0) { Value::Float(0.0) } else { v })
        .collect()
}

/// Everything that can be asked of a column agrees with the values.
fn check(column: &CodedColumn, expected: &[Value], what: &str) {
    assert_eq!(column.rows(), expected.len(), "{what}");
    let codes = column.codes();
    let got: Vec<Value> = codes.iter().map(|c| column.value_of(*c)).collect();
    let odd = got.iter().zip(expected).position(|(a, b)| a != b);
    assert_eq!(odd.map(|i| (i, &got[i], &expected[i])), None, "{what}");
    assert_eq!(column.nulls(), expected.iter().filter(|v| v.is_null()).count() as u64, "{what}");
    let mut distinct: Vec<&Value> = expected.iter().filter(|v| !v.is_null()).collect();
    distinct.sort_by(|a, b| a.total_cmp(b));
    distinct.dedup();
    assert_eq!(column.distinct(), distinct.len() as u64, "{what}");
    let mut ordered: Vec<(u64, &Value)> = codes.iter().copied().zip(expected).collect();
    ordered.sort_by_key(|(code, _)| *code);
    assert!(ordered.windows(2).all(|w| w[0].1.total_cmp(w[1].1).is_le()), "{what}: codes keep the order");
    let batch = column.vector_of(&codes);
    let rows: Vec<u32> = (0..expected.len() as u32).rev().step_by(613).collect();
    for (row, code) in rows.iter().zip(column.codes_at(&rows)) {
        let row = *row as usize;
        assert_eq!((code, column.code(row)), (codes[row], codes[row]), "{what} row {row}");
        assert_eq!(batch.get(row, column.ty()), expected[row], "{what} row {row}");
        assert_eq!(column.code_of(&expected[row]), Some(codes[row]), "{what} row {row}");
    }
}

#[test]
fn every_coding_gives_back_what_went_in() {
    let mut forms = std::collections::BTreeSet::new();
    for (name, raw) in columns() {
        for (nulls, raw) in with_nulls(&raw).iter().enumerate() {
            let expected = values(raw);
            let what = |how: &str| format!("{name}, nulls {nulls}, {how}");
            for segment_rows in [1, 777, 1 << 20] {
                let rows = if segment_rows == 1 { 60 } else { ROWS as usize };
                let column = CodedColumn::encode(&raw.part(0..rows), segment_rows);
                check(&column, &expected[..rows], &what(&format!("segments of {segment_rows}")));
                for segment in column.segments() {
                    forms.insert(format!("{:?}", std::mem::discriminant(&segment.codes)));
                }
                check(
                    &CodedColumn::encode_in(&column.raw(), column.segment_bounds()),
                    &expected[..rows],
                    &what("coded again"),
                );
            }
            // Parts that were coded by themselves, one without rows, become one column.
            let ends = [0, 1, 500, 500, 4000, ROWS as usize];
            let parts = |ends: &[usize]| -> Vec<CodedColumn> {
                ends.windows(2).map(|w| CodedColumn::encode(&raw.part(w[0]..w[1]), 1 << 20)).collect()
            };
            let joined = CodedColumn::join(parts(&ends), NumberUse::of(raw.ty, false));
            check(&joined, &expected, &what("joined"));
            check(&joined.only(1..3), &expected[1..4000], &what("only some segments"));
            let again = CodedColumn::join(vec![joined.only(3..4), joined.only(0..1)], NumberUse::of(raw.ty, false));
            let swapped = [&expected[4000..], &expected[..1]].concat();
            check(&again, &swapped, &what("joined in another order"));
        }
    }
    assert_eq!(forms.len(), 4, "every form of segment occurs");
}

#[test]
fn rows_in_another_order_stay_whole() {
    // The first column tells which row each one was; of columns that gain nothing there are few enough.
    let key = ints(Type::Int, |i| (i * 7919 % 9001) as i64);
    let gain = |name: &str| !matches!(name, "sequence" | "all over" | "far apart" | "sentences" | "long" | "roots");
    let some = columns();
    let some = some.iter().filter(|(name, _)| gain(name)).flat_map(|(_, raw)| with_nulls(raw));
    let all: Vec<RawColumn> = std::iter::once(key).chain(some).collect();
    let expected: Vec<Vec<Value>> = all.iter().map(values).collect();
    let place: HashMap<String, usize> = expected[0].iter().enumerate().map(|(row, v)| (v.to_string(), row)).collect();
    let used = |raw: &RawColumn| (vec![WaitingColumn::of(raw.clone())], NumberUse::of(raw.ty, false));
    let all_coded = |interim| encode_segment(all.iter().map(used).collect(), None, &SortColumns::default(), interim);
    let [coded, packed] = [Interim::Plain, Interim::Packed].map(all_coded);
    let plain: Vec<CodedColumn> = all.iter().map(|raw| CodedColumn::encode(raw, 4500)).collect();
    let refs: Vec<&CodedColumn> = plain.iter().collect();
    let by_texts = recoded(&refs, RowOrder::By(&[5, 7]));
    for (how, columns) in [("least bytes", &coded), ("texts packed", &packed), ("sorted", &by_texts)] {
        let row_of: Vec<usize> =
            (0..ROWS as usize).map(|row| place[&columns[0].value_of(columns[0].code(row)).to_string()]).collect();
        assert!(row_of.windows(2).any(|w| w[0] > w[1]), "{how}: rows were moved");
        for (i, column) in columns.iter().enumerate() {
            let moved: Vec<Value> = row_of.iter().map(|row| expected[i][*row].clone()).collect();
            check(column, &moved, &format!("{how}, column {i}"));
        }
    }
    let bytes = |columns: &[CodedColumn]| columns.iter().map(|c| c.heap_bytes().0).sum::<usize>();
    let unordered: Vec<CodedColumn> = all.iter().map(|raw| CodedColumn::encode(raw, 1 << 20)).collect();
    assert!(bytes(&coded) < bytes(&unordered), "{} of {}", bytes(&coded), bytes(&unordered));
}

#[test]
fn the_disk_gives_back_every_column() {
    let folder = tempfile::tempdir().unwrap();
    let all: Vec<RawColumn> = columns().iter().flat_map(|(_, raw)| with_nulls(raw)).collect();
    let coded = all.iter().enumerate().map(|(i, raw)| (i.to_string(), Arc::new(CodedColumn::encode(raw, 2000))));
    let table = StoredTable { name: "t".into(), shares: None, rows: ROWS as usize, columns: coded.collect() };
    generations::write_next(folder.path(), &Stored { tables: vec![table.clone()], ..Stored::default() }, true).unwrap();
    let back = generations::read_newest(folder.path()).unwrap().unwrap();
    back.verify().unwrap();
    for ((raw, (name, column)), (_, written)) in all.iter().zip(&back.tables[0].columns).zip(&table.columns) {
        check(column.verified(), &values(raw), &format!("column {name} from the disk"));
        assert_eq!(column.heap_bytes(), written.heap_bytes(), "column {name}");
    }
    let header = std::fs::metadata(generations::newest(folder.path()).unwrap()).unwrap().len() as usize;
    let bytes: usize = table.columns.iter().map(|(_, c)| c.heap_bytes().0 + c.heap_bytes().1).sum();
    assert!(header < 2 * bytes, "the file is about as large as the columns");
}

#[test]
fn codings_are_what_suits_the_values() {
    let kinds: Vec<String> = columns()
        .iter()
        .map(|(name, raw)| {
            let column = CodedColumn::encode_in(raw, &SegmentBounds::even(raw.len(), 1 << 20));
            let encoding = match column.encoding() {
                Encoding::Offset { .. } => {
                    format!("offset{}", column.digits().map_or(String::new(), |d| format!(" {d}")))
                }
                Encoding::Numbers(_) => "numbers".into(),
                Encoding::Texts(dictionary) => dictionary.form().into(),
            };
            let form = match column.segments()[0].codes {
                Codes::Packed(_) => "packed",
                Codes::Runs { .. } => "runs",
                Codes::Sparse { .. } => "sparse",
                Codes::Sequence(_) => "sequence",
            };
            let bits = (column.heap_bytes().0 + column.heap_bytes().1) as f64 * 8.0 / ROWS as f64;
            format!("{name}: {encoding} {form} {}", bits.ceil())
        })
        .collect();
    let expected = [
        "constant: offset packed 1",
        "sequence: offset sequence 1",
        "few: offset packed 4",
        "steps: offset packed 11",
        "ends of the range: numbers packed 3",
        "far apart: numbers packed 30",
        "all over: offset packed 54",
        "in runs: offset runs 1",
        "mostly one: offset sparse 1",
        "truth: offset packed 2",
        "whole doubles: offset 0 packed 8",
        "decimals: offset 2 packed 18",
        "roots: numbers packed 39",
        "extremes: numbers packed 4",
        "few texts: plain packed 4",
        "references: template packed 32",
        "identifiers: template packed 114",
        "of any length: blocks packed 0",
        "sentences: blocks packed 0",
        "long: blocks packed 0",
    ];
    // What zstd makes of texts may change with its version.
    let rounded = |line: &str| match line.split_once(": blocks packed") {
        Some((name, _)) => format!("{name}: blocks packed 0"),
        None => line.to_string(),
    };
    assert_eq!(kinds.iter().map(|k| rounded(k)).collect::<Vec<_>>(), expected);
}
