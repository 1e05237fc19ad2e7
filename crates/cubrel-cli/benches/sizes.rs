//! Bytes of each column beside what it takes in Parquet with zstd. `cargo bench -p cubrel-cli --bench sizes`
//!
//! `ROWS=5000000` for a demo of that size, `MODEL=folder` for a model of your own. The rows stand in the same order in
//! both, and Parquet's writer keeps its defaults: dictionaries, a million rows in a row group.
#![allow(clippy::unwrap_used, reason = "a bench that cannot go on has failed")]

use std::path::PathBuf;
use std::process::Command;
use std::sync::Arc;

use arrow_array::{ArrayRef, RecordBatch};
use cubrel::internals::InModel as _;
use cubrel::store::CodedColumn;
use cubrel::value::arrow;
use cubrel::{Model, Value};
use parquet::arrow::ArrowWriter;
use parquet::basic::{Compression, ZstdLevel};
use parquet::file::properties::WriterProperties;
use parquet::file::reader::{FileReader, SerializedFileReader};

/// Rows that become Arrow at a time.
const BATCH: usize = 1 << 16;

fn main() {
    let folder = tempfile::tempdir().unwrap();
    let path = match std::env::var("MODEL") {
        Ok(model) => PathBuf::from(model),
        Err(_) => {
            let rows = std::env::var("ROWS").unwrap_or_else(|_| "500000".into());
            let demo = folder.path().join("ferries");
            let made =
                Command::new(env!("CARGO_BIN_EXE_cubrel")).arg("demo").arg(&demo).args(["--rows", &rows]).output();
            assert!(made.unwrap().status.success(), "the demo model can be made");
            demo
        }
    };
    let model = Model::open(&path).unwrap();
    println!("{:<34} {:>13} {:>13} {:>7}  how", "column", "bytes", "Parquet", "ratio");
    let (mut all, mut all_parquet) = (0, 0);
    let sizes = model.sizes();
    for (table, (data, size)) in model.schema().tables.iter().zip(model.store().tables.iter().zip(&sizes.tables)) {
        if size.same_as.is_some() || data.rows == 0 {
            continue;
        }
        let names: Vec<&str> = table.columns.iter().map(|c| c.name.as_str()).collect();
        for ((name, parquet), column) in names.iter().zip(in_parquet(&names, &data.columns)).zip(&size.columns) {
            row(&format!("{}.{name}", table.name), column.bytes, parquet, &column.encoding);
            all += column.bytes;
            all_parquet += parquet;
        }
    }
    row("all", all, all_parquet, "");
}

fn row(name: &str, bytes: u64, parquet: u64, how: &str) {
    println!("{name:<34} {bytes:>13} {parquet:>13} {:>7.2}  {how}", bytes as f64 / parquet.max(1) as f64);
}

/// The bytes that each column takes in a Parquet file of all of them.
fn in_parquet(names: &[&str], columns: &[Arc<CodedColumn>]) -> Vec<u64> {
    let rows = columns[0].rows();
    let properties = WriterProperties::builder().set_compression(Compression::ZSTD(ZstdLevel::default())).build();
    let mut writer: Option<ArrowWriter<Vec<u8>>> = None;
    for start in (0..rows).step_by(BATCH) {
        let arrays = names.iter().zip(columns).map(|(name, column)| {
            let mut codes = vec![0; BATCH.min(rows - start)];
            column.unpack(start, &mut codes);
            let batch = column.vector_of(&codes);
            let values: Vec<Value> = (0..codes.len()).map(|i| batch.get(i, column.ty())).collect();
            let array: ArrayRef = arrow::array(column.ty(), &values.iter().collect::<Vec<_>>()).unwrap();
            (*name, array, true)
        });
        let batch = RecordBatch::try_from_iter_with_nullable(arrays).unwrap();
        let writer = writer
            .get_or_insert_with(|| ArrowWriter::try_new(Vec::new(), batch.schema(), Some(properties.clone())).unwrap());
        writer.write(&batch).unwrap();
    }
    let file = writer.unwrap().into_inner().unwrap();
    let reader = SerializedFileReader::new(bytes::Bytes::from(file)).unwrap();
    let mut sizes = vec![0; names.len()];
    for group in reader.metadata().row_groups() {
        for (size, column) in sizes.iter_mut().zip(group.columns()) {
            *size += u64::try_from(column.compressed_size()).unwrap();
        }
    }
    sizes
}
