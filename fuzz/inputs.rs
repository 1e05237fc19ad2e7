//! What is done with bytes from outside, by the kind of thing that they are taken for. Errors are fine; panics, processes that
//! end and answers that take for ever are not. The fuzz targets call these, and so does the test suite with everything that
//! the corpus keeps.

use std::fs;
use std::path::{Path, PathBuf};
use std::sync::OnceLock;
use std::time::Duration;

use cubrel::Silent;
use cubrel::internals::InModel as _;
use cubrel::{Limits, Model, QueryOptions, RefreshOptions, Type, Value};

/// A kind of input: its name, as the folder of the corpus has it, and what is done with its bytes.
pub type Kind = (&'static str, fn(&[u8]));

/// All kinds.
pub const KINDS: [Kind; 9] = [
    ("query_text", query_text),
    ("model_file", model_file),
    ("store_file", store_file),
    ("csv", csv),
    ("json_lines", json_lines),
    ("parquet", parquet),
    ("arrow", arrow),
    ("sqlite", sqlite),
    ("packed", packed),
];

/// Has a panic end the process, but for those of other libraries that become errors.
pub fn panics_end_it() {
    static ONCE: std::sync::Once = std::sync::Once::new();
    ONCE.call_once(|| {
        std::panic::set_hook(Box::new(|panic| {
            if !cubrel::is_guarded() {
                eprintln!("{panic}\n{}", std::backtrace::Backtrace::force_capture());
                std::process::abort();
            }
        }));
    });
}

/// A folder of this process alone, emptied.
fn folder() -> PathBuf {
    let memory = Path::new("/dev/shm");
    let base = if memory.is_dir() { memory.to_path_buf() } else { std::env::temp_dir() };
    let thread = format!("{:?}", std::thread::current().id());
    let number: String = thread.chars().filter(char::is_ascii_digit).collect();
    let folder = base.join(format!("cubrel-inputs-{}-{number}", std::process::id()));
    let _ = fs::remove_dir_all(&folder);
    fs::create_dir_all(&folder).expect("there is room");
    folder
}

fn limited() -> QueryOptions {
    let (time, memory) = (Some(Duration::from_secs(1)), Some(64 << 20));
    QueryOptions { limits: Limits { time, memory, cells: Some(100_000) }, ..QueryOptions::default() }
}

/// Asks whatever a model has.
fn ask(model: &Model) {
    let names: Vec<(String, String)> =
        model.schema().tables.iter().filter_map(|t| Some((t.name.clone(), t.columns.first()?.name.clone()))).collect();
    for (table, column) in names.iter().take(3) {
        let text = format!("records \"{table}\".\"{column}\" limit 5");
        if let Ok(query) = model.query_with(&text, &limited()) {
            let _ = query.run();
        }
    }
    let _ = model.sizes();
}

/// A table of one file.
fn source(name: &str, more: &str, bytes: &[u8]) {
    let folder = folder();
    fs::write(folder.join(name.split(['?', ':']).nth(usize::from(name.contains(':'))).unwrap_or(name)), bytes)
        .expect("there is room");
    let model = format!("[model]\nmemory_limit = '256 MiB'\n[table.t]\nsource = '{name}'\n{more}\n");
    fs::write(folder.join("model.toml"), model).expect("there is room");
    if let Ok((model, _)) = Model::refresh(&folder, &RefreshOptions::default(), &Silent) {
        ask(&model);
    }
    let _ = fs::remove_dir_all(&folder);
}

/// Delimited text: drafted, and loaded in one of some dialects, which the first byte chooses.
pub fn csv(bytes: &[u8]) {
    let Some((dialect, text)) = bytes.split_first() else { return };
    let more = match dialect % 8 {
        0 => "csv = { delimiter = ';', decimal = ',', thousands = '.' }",
        1 => "csv = { encoding = 'utf-16le' }",
        2 => "csv = { encoding = 'windows-1252', delimiter = '\\t' }",
        3 => "csv = { quote = \"'\" }\nmax_bad_rows = 10",
        4 => "missing = ['-', 'NA']\n[table.t.column.a]\ntype = 'date'\ndate_pattern = 'dd.mm.yyyy'",
        _ => "",
    };
    if dialect % 8 == 7 {
        let folder = folder();
        fs::write(folder.join("t.csv"), text).expect("there is room");
        let into = folder.join("model");
        let _ = cubrel::draft::draft(&into, &[folder.join("t.csv")], &Silent);
        let _ = fs::remove_dir_all(&folder);
        return;
    }
    source("t.csv", more, text);
}

/// JSON Lines.
pub fn json_lines(bytes: &[u8]) {
    source("t.jsonl", "max_bad_rows = 10", bytes);
}

/// Parquet.
pub fn parquet(bytes: &[u8]) {
    source("t.parquet", "", bytes);
}

/// Arrow, as a stream or a file.
pub fn arrow(bytes: &[u8]) {
    source("t.arrow", "", bytes);
}

/// A SQLite database with a table `t`.
pub fn sqlite(bytes: &[u8]) {
    source("sqlite:t.db?table=t", "", bytes);
}

/// Text that is packed: by gzip, or by Zstandard where the first byte is odd.
pub fn packed(bytes: &[u8]) {
    let Some((how, packed)) = bytes.split_first() else { return };
    source(if how % 2 == 0 { "t.csv.gz" } else { "t.csv.zst" }, "", packed);
}

/// `model.toml`, beside some data.
pub fn model_file(bytes: &[u8]) {
    let Ok(text) = std::str::from_utf8(bytes) else { return };
    // Nothing that a model names is read but what stands beside it.
    if text.contains("..") || text.contains("\"/") || text.contains("'/") || text.contains("postgres") {
        return;
    }
    let folder = folder();
    fs::write(folder.join("booking.csv"), "id,port,net,day\n1,A,10.50,2026-01-02\n2,B,3,2026-02-03\n3,,7,\n")
        .and_then(|()| fs::write(folder.join("port.csv"), "id,name\nA,Skaw\nB,Ness\n"))
        .and_then(|()| fs::write(folder.join("model.toml"), text))
        .expect("there is room");
    if let Ok((model, _)) = Model::refresh(&folder, &RefreshOptions::default(), &Silent) {
        ask(&model);
        let _ = model.check();
        let saved: Vec<String> = model.document().file.query.values().map(|q| q.text.clone()).collect();
        for text in saved {
            if let Ok(query) = model.query_with(&text, &limited()) {
                let _ = query.run();
            }
        }
    }
    let _ = fs::remove_dir_all(&folder);
}

/// The text of a query, or of a formula.
pub fn query_text(bytes: &[u8]) {
    static MODEL: OnceLock<Model> = OnceLock::new();
    let Ok(text) = std::str::from_utf8(bytes) else { return };
    let model = MODEL.get_or_init(|| {
        let text = |s: &str| Value::text(s);
        let date = |day| Value::Date(20_000 + day);
        let rows = (0..40).map(|i| {
            vec![Value::Int(i), text(["A", "B", "C"][i as usize % 3]), Value::Float(i as f64 / 4.0), date(i as i32 * 9)]
        });
        Model::builder()
            .rows(
                "booking",
                &[("id", Type::Int), ("port", Type::Text), ("net", Type::Float), ("day", Type::Date)],
                &rows.collect::<Vec<_>>(),
            )
            .rows(
                "port",
                &[("id", Type::Text), ("name", Type::Text)],
                &[vec![text("A"), text("Skaw")], vec![text("B"), text("Ness")]],
            )
            .calendar("calendar", "2024-01-01", "2026-12-31")
            .relationship("booking.port", "port.id")
            .relationship("booking.day", "calendar.date")
            .measure("total", "sum(booking.net)")
            .measure("bookings", "count(booking.id)")
            .build()
            .expect("this is a model")
    });
    for text in [text.to_string(), format!("grid {text} by port.name")] {
        if let Ok(query) = model.query_with(&text, &limited()) {
            let _ = query.run();
        }
    }
}

/// A store. What its header says is taken for what was written, so that more than its hash is looked at.
pub fn store_file(bytes: &[u8]) {
    let mut bytes = bytes.to_vec();
    let word = |bytes: &[u8], i: usize| Some(u64::from_le_bytes(bytes.get(i * 8..i * 8 + 8)?.try_into().ok()?));
    if let Some(at) =
        word(&bytes, 2).and_then(|at| usize::try_from(at).ok()).filter(|at| (40..bytes.len()).contains(at))
    {
        let (length, hash) = ((bytes.len() - at) as u64, xxhash_rust::xxh3::xxh3_64(&bytes[at..]));
        bytes[24..32].copy_from_slice(&length.to_le_bytes());
        bytes[32..40].copy_from_slice(&hash.to_le_bytes());
    }
    let folder = folder();
    let path = folder.join("store-1");
    fs::write(&path, &bytes).expect("there is room");
    if let Ok(stored) = cubrel::store::disk::read(&path)
        && stored.verify().is_ok()
    {
        for (_, column) in stored.tables.iter().flat_map(|t| &t.columns).filter(|(_, c)| c.rows() < 100_000) {
            let column = column.verified();
            let codes = column.codes();
            codes.iter().take(100).for_each(|code| drop(column.value_of(*code)));
        }
    }
    let _ = fs::remove_dir_all(&folder);
}
