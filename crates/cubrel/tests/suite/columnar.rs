//! Random columns of every type that Arrow and Parquet files may have, written in every way, value by value.
use std::fs::File;
use std::path::Path;
use std::sync::Arc;

use crate::common::Random;
use arrow_array::types::{ArrowDictionaryKeyType, Int8Type, Int16Type, Int32Type, UInt16Type};
use arrow_array::{
    Array, ArrayRef, BooleanArray, Date32Array, Decimal128Array, DictionaryArray, Float32Array, Float64Array,
    Int8Array, Int16Array, Int32Array, Int64Array, LargeStringArray, NullArray, RecordBatch, StringArray,
    StringViewArray, TimestampMicrosecondArray, TimestampMillisecondArray, TimestampNanosecondArray,
    TimestampSecondArray, UInt8Array, UInt16Array, UInt32Array, UInt64Array,
};
use cubrel::internals::InModel as _;
use cubrel::{Model, Type, Value};
use parquet::basic::{Compression, Encoding};
use parquet::file::properties::{EnabledStatistics, WriterProperties};
use tempfile::TempDir;

/// Numbers that look random, and are the same every time.
struct Chance(u64);

impl Chance {
    fn next(&mut self) -> i64 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 ^ self.0 >> 29) as i64
    }

    fn below(&mut self, n: usize) -> usize {
        (self.next() as u64 >> 20) as usize % n.max(1)
    }
}

/// An array and what it says, value by value.
type Column = (ArrayRef, Vec<Value>);

/// Makes an array from numbers; the second function tells what each of them means.
fn column<T, A: Array + From<Vec<Option<T>>> + 'static>(
    numbers: &[Option<i64>],
    element: impl Fn(i64) -> T,
    meaning: impl Fn(i64) -> Value,
) -> Column {
    let array: A = numbers.iter().map(|n| n.map(&element)).collect::<Vec<_>>().into();
    (Arc::new(array), numbers.iter().map(|n| n.map_or(Value::Null, &meaning)).collect())
}

const WORDS: [&str; 7] =
    ["", "Ness", "Holm", "Café Nord", "a \"quoted\" one", "two\nlines", "a rather long text of no use"];

fn word(n: i64) -> String {
    let word = WORDS[n.rem_euclid(7) as usize];
    if n % 3 == 0 { format!("{word}{}", n.rem_euclid(5000)) } else { word.to_string() }
}

/// Texts as places in a dictionary, which has texts that nobody uses, and some twice.
fn listed<K: ArrowDictionaryKeyType>(numbers: &[Option<i64>]) -> Column
where
    K::Native: TryFrom<i64>,
{
    let texts: Vec<String> = (0..100).map(|i| format!("{} {}", WORDS[i % 7], i % 40)).collect();
    let key = |n: i64| K::Native::try_from(n.rem_euclid(90)).ok();
    let keys: arrow_array::PrimitiveArray<K> = numbers.iter().map(|n| n.and_then(key)).collect();
    let array = DictionaryArray::new(keys, Arc::new(StringArray::from(texts.clone())));
    let meaning = |n: i64| Value::text(&texts[n.rem_euclid(90) as usize]);
    (Arc::new(array), numbers.iter().map(|n| n.map_or(Value::Null, meaning)).collect())
}

/// One column of each type.
fn columns(numbers: &[Option<i64>]) -> Vec<(&'static str, Column)> {
    let text = |n: i64| Value::text(word(n));
    let day = |n: i64| n.rem_euclid(40_000) as i32 - 10_000;
    let moment = |n: i64| n.rem_euclid(1 << 40) - (1 << 39);
    let double = |n: i64| match n.rem_euclid(11) {
        0 => f64::NAN,
        1 => f64::NEG_INFINITY,
        2 => n as f64 / 1000.0,
        3 => f64::from_bits(n as u64 & !(0x7FF << 52) | 0x3FD << 52),
        _ => (n % 100_000) as f64 / 100.0,
    };
    let finite = |x: f64| if x.is_finite() { Value::Float(x) } else { Value::Null };
    let (decimal, meanings) = column::<i128, Decimal128Array>(
        numbers,
        |n| i128::from(n / 1000),
        |n| Value::Decimal { unscaled: i128::from(n / 1000), scale: 3 },
    );
    let decimal = decimal.as_any().downcast_ref::<Decimal128Array>().unwrap().clone();
    let decimal: ArrayRef = Arc::new(decimal.with_precision_and_scale(30, 3).unwrap());
    let nulls = vec![Value::Null; numbers.len()];
    vec![
        ("int8", column::<_, Int8Array>(numbers, |n| n as i8, |n| Value::Int(i64::from(n as i8)))),
        ("int16", column::<_, Int16Array>(numbers, |n| n as i16, |n| Value::Int(i64::from(n as i16)))),
        ("int32", column::<_, Int32Array>(numbers, |n| n as i32, |n| Value::Int(i64::from(n as i32)))),
        ("int64", column::<_, Int64Array>(numbers, |n| n, Value::Int)),
        ("uint8", column::<_, UInt8Array>(numbers, |n| n as u8, |n| Value::Int(i64::from(n as u8)))),
        ("uint16", column::<_, UInt16Array>(numbers, |n| n as u16, |n| Value::Int(i64::from(n as u16)))),
        ("uint32", column::<_, UInt32Array>(numbers, |n| n as u32, |n| Value::Int(i64::from(n as u32)))),
        ("uint64", column::<_, UInt64Array>(numbers, |n| n as u64 / 2, |n| Value::Int((n as u64 / 2) as i64))),
        ("float32", column::<_, Float32Array>(numbers, |n| double(n) as f32, |n| finite(f64::from(double(n) as f32)))),
        ("float64", column::<_, Float64Array>(numbers, double, |n| finite(double(n)))),
        ("bool", column::<_, BooleanArray>(numbers, |n| n % 2 == 0, |n| Value::Bool(n % 2 == 0))),
        ("text", column::<_, StringArray>(numbers, word, text)),
        ("large_text", column::<_, LargeStringArray>(numbers, word, text)),
        ("text_view", column::<_, StringViewArray>(numbers, word, text)),
        ("listed8", listed::<Int8Type>(numbers)),
        ("listed16", listed::<Int16Type>(numbers)),
        ("listed32", listed::<Int32Type>(numbers)),
        ("listed_unsigned", listed::<UInt16Type>(numbers)),
        ("day", column::<_, Date32Array>(numbers, day, |n| Value::Date(day(n)))),
        ("second", column::<_, TimestampSecondArray>(numbers, moment, |n| Value::Timestamp(moment(n) * 1_000_000))),
        ("milli", column::<_, TimestampMillisecondArray>(numbers, moment, |n| Value::Timestamp(moment(n) * 1000))),
        ("micro", column::<_, TimestampMicrosecondArray>(numbers, moment, |n| Value::Timestamp(moment(n)))),
        (
            "nano",
            column::<_, TimestampNanosecondArray>(
                numbers,
                |n| moment(n) * 1000 + n.rem_euclid(1000),
                |n| Value::Timestamp(moment(n)),
            ),
        ),
        ("decimal", (decimal, meanings)),
        ("nothing", (Arc::new(NullArray::new(numbers.len())), nulls)),
    ]
}

/// Batches and, by column, what they say.
fn batches(chance: &mut Chance, rows: usize) -> (Vec<RecordBatch>, Vec<(&'static str, Vec<Value>)>) {
    let nulls = [usize::MAX, 7, 2, 1][chance.below(4)];
    let runs = [1, 1, 50][chance.below(3)];
    let mut last = 0;
    let mut number = |i: usize| {
        if i.is_multiple_of(runs) {
            last = chance.next() >> chance.below(50);
        }
        (nulls == usize::MAX || chance.below(nulls) != 0).then_some(last)
    };
    let numbers: Vec<Option<i64>> = (0..rows).map(&mut number).collect();
    let all = columns(&numbers);
    let whole = RecordBatch::try_from_iter_with_nullable(all.iter().map(|(n, (array, _))| (*n, array.clone(), true)));
    let whole = whole.unwrap();
    // Batches of any length are slices, and some of them are empty.
    let mut parts = Vec::new();
    let mut start = 0;
    while start < rows || parts.is_empty() {
        let most = chance.below(rows) + 1;
        let len = chance.below(most).min(rows - start).max(usize::from(chance.below(5) > 0 && start < rows));
        parts.push(whole.slice(start, len));
        start += len;
    }
    (parts, all.into_iter().map(|(name, (_, values))| (name, values)).collect())
}

fn parquet_way(chance: &mut Chance) -> WriterProperties {
    let compression = [Compression::UNCOMPRESSED, Compression::SNAPPY, Compression::ZSTD(Default::default())];
    let dictionary = chance.below(3);
    let mut way = WriterProperties::builder()
        .set_compression(compression[chance.below(3)])
        .set_max_row_group_row_count(Some([50, 1000, 1 << 20][chance.below(3)]))
        .set_data_page_row_count_limit([20, 1 << 20][chance.below(2)])
        .set_write_batch_size(16)
        .set_dictionary_enabled(dictionary > 0)
        .set_statistics_enabled(EnabledStatistics::None);
    if dictionary == 1 {
        // Dictionaries that are given up after some pages.
        way = way.set_dictionary_page_size_limit(200);
    } else if dictionary == 0 && chance.below(2) == 0 {
        way = way.set_encoding(Encoding::PLAIN);
    }
    way.build()
}

/// Writes batches as one kind of file.
fn write(kind: usize, path: &Path, batches: &[RecordBatch], chance: &mut Chance) {
    let (file, schema) = (File::create(path).unwrap(), batches[0].schema());
    match kind {
        0 => {
            let mut writer = parquet::arrow::ArrowWriter::try_new(file, schema, Some(parquet_way(chance))).unwrap();
            batches.iter().for_each(|b| writer.write(b).unwrap());
            writer.close().unwrap();
        }
        1 => {
            let mut writer = arrow_ipc::writer::FileWriter::try_new(file, &schema).unwrap();
            batches.iter().for_each(|b| writer.write(b).unwrap());
            writer.finish().unwrap();
        }
        _ => {
            let mut writer = arrow_ipc::writer::StreamWriter::try_new(file, &schema).unwrap();
            batches.iter().for_each(|b| writer.write(b).unwrap());
            writer.finish().unwrap();
        }
    }
}

#[test]
fn every_type_of_column_comes_from_every_kind_of_file() {
    for seed in 0..60u64 {
        let mut chance = Chance(seed.wrapping_mul(0x9E37_79B9_7F4A_7C15));
        let kind = seed as usize % 3;
        let rows = [0, 1, 64, 300, 2500][chance.below(5)];
        let (batches, columns) = batches(&mut chance, rows);
        let folder = TempDir::new().unwrap();
        let name = ["t.parquet", "t.arrow", "t.arrows"][kind];
        write(kind, &folder.path().join(name), &batches, &mut chance);
        let model = format!("[model]\nname = 'm'\n[table.t]\nsource = '{name}'\n");
        std::fs::write(folder.path().join("model.toml"), model).unwrap();
        let what = || format!("seed {seed}: {name}, {rows} rows");
        let model = Model::open(folder.path()).unwrap_or_else(|e| panic!("{}: {e}", what()));
        let table = &model.store().tables[0];
        assert_eq!((table.rows, table.columns.len()), (rows, columns.len()), "{}", what());
        for (column, (name, values)) in table.columns.iter().zip(&columns) {
            for (row, expected) in values.iter().enumerate() {
                let found = column.value_of(column.code(row));
                assert_eq!(found, *expected, "{}: {name} in row {row}", what());
            }
        }
    }
}

#[test]
fn numbers_that_do_not_fit_are_refused() {
    let long = Decimal128Array::from(vec![Some(1), Some(i128::MAX / 2)]).with_precision_and_scale(38, 2).unwrap();
    let cases: [(&str, ArrayRef); 3] = [
        ("unsigned", Arc::new(UInt64Array::from(vec![1, u64::MAX]))),
        ("decimal", Arc::new(long)),
        ("second", Arc::new(TimestampSecondArray::from(vec![Some(5), Some(i64::MAX / 2)]))),
    ];
    for (name, array) in cases {
        let folder = TempDir::new().unwrap();
        let batch = RecordBatch::try_from_iter_with_nullable([(name, array, true)]).unwrap();
        write(0, &folder.path().join("t.parquet"), &[batch], &mut Chance(1));
        std::fs::write(folder.path().join("model.toml"), "[model]\nname = 'm'\n[table.t]\nsource = 't.parquet'\n")
            .unwrap();
        let error = Model::open(folder.path()).unwrap_err().to_string();
        assert!(error.contains(&format!("column `{name}`")) && error.contains("does not fit 64 bits"), "{error}");
    }
}

/// Bytes changed here and there, and files that end early: an error that names the file, or an answer, and no panic.
#[test]
fn damaged_files_are_errors() {
    let rows: Vec<Vec<Value>> = (0..3000i64)
        .map(|i| {
            let null = |v: Value| if i % 7 == 0 { Value::Null } else { v };
            vec![
                Value::Int(i),
                null(Value::text(format!("t{}", i % 11))),
                null(Value::float(i as f64 / 3.0)),
                null(Value::Int(i % 5)),
            ]
        })
        .collect();
    let columns = [("id", Type::Int), ("t", Type::Text), ("f", Type::Float), ("n", Type::Int)];
    let model = Model::builder().rows("t", &columns, &rows).build().unwrap();
    let grid = model.query("records t.id, t.t, t.f, t.n").unwrap().run().unwrap();
    let whole = [("parquet", grid.to_parquet().unwrap()), ("arrow", grid.to_arrow_stream().unwrap())];
    let told = std::panic::take_hook();
    std::panic::set_hook(Box::new(move |panic| {
        if !cubrel::is_guarded() {
            told(panic);
        }
    }));
    let mut refused = 0;
    for seed in 0..300 {
        let random = &mut Random(seed);
        let (kind, bytes) = &whole[seed as usize % 2];
        let mut bytes = bytes.clone();
        for _ in 0..1 + random.below(4) {
            let at = random.below(bytes.len() as u64) as usize;
            bytes[at] = random.below(256) as u8;
        }
        if random.chance(20) {
            bytes.truncate(random.below(bytes.len() as u64) as usize);
        }
        let folder = tempfile::tempdir().unwrap();
        std::fs::write(folder.path().join(format!("t.{kind}")), bytes).unwrap();
        std::fs::write(folder.path().join("model.toml"), format!("[table.t]\nsource = 't.{kind}'\n")).unwrap();
        if let Err(e) = Model::open(folder.path()) {
            refused += 1;
            assert!(e.to_string().contains(&format!("t.{kind}")) || !e.problems().is_empty(), "seed {seed}: {e}");
        }
    }
    assert!(refused > 50, "{refused} of 300");
}

#[test]
fn dictionaries_of_any_values_are_read() {
    let keys = || Int32Array::from(vec![Some(1), None, Some(0), Some(1), Some(2)]);
    let numbers = DictionaryArray::new(keys(), Arc::new(Int64Array::from(vec![Some(10), Some(-7), None])));
    let doubles = DictionaryArray::new(keys(), Arc::new(Float64Array::from(vec![1.5, 2.5, 0.0])));
    let days = DictionaryArray::new(keys(), Arc::new(Date32Array::from(vec![19_000, 20_000, 21_000])));
    let columns: Vec<(&str, ArrayRef)> =
        vec![("n", Arc::new(numbers)), ("x", Arc::new(doubles)), ("d", Arc::new(days))];
    let batch = RecordBatch::try_from_iter_with_nullable(columns.into_iter().map(|(n, a)| (n, a, true))).unwrap();
    let expected = vec![
        vec![Value::Int(-7), Value::float(2.5), Value::Date(20_000)],
        vec![Value::Null, Value::Null, Value::Null],
        vec![Value::Int(10), Value::float(1.5), Value::Date(19_000)],
        vec![Value::Int(-7), Value::float(2.5), Value::Date(20_000)],
        vec![Value::Null, Value::float(0.0), Value::Date(21_000)],
    ];
    let folder = TempDir::new().unwrap();
    let file = File::create(folder.path().join("t.arrow")).unwrap();
    let mut writer = arrow_ipc::writer::FileWriter::try_new(file, &batch.schema()).unwrap();
    writer.write(&batch).unwrap();
    writer.finish().unwrap();
    std::fs::write(folder.path().join("model.toml"), "[table.t]\nsource = 't.arrow'\n").unwrap();
    let given = Model::builder().table("t", &[batch]).build().unwrap();
    for model in [Model::open(folder.path()).unwrap(), given] {
        let grid = model.query("records t.n, t.x, t.d").unwrap().run().unwrap();
        assert_eq!(grid.lines.iter().map(|l| l.values.clone()).collect::<Vec<_>>(), expected);
    }
}
