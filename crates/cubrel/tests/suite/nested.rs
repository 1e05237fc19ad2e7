//! Lists in nested data as rows, and columns side by side as rows: random ones, from every kind of file, against what was put in.

use std::fs;
use std::path::Path;
use std::sync::Arc;

use arrow_array::builder::{Int64Builder, ListBuilder, StringBuilder, StructBuilder};
use arrow_array::{ArrayRef, Int64Array, RecordBatch, StringArray};
use arrow_schema::{DataType, Field, Fields};

use crate::common::{Random, run, shown};
use cubrel::Model;

/// One row: its key, the guest's name, and entries of a list, some of them null.
type Row = (i64, Option<String>, Option<Vec<Option<(i64, Option<String>)>>>);

fn rows(r: &mut Random) -> Vec<Row> {
    let word = |r: &mut Random| (!r.chance(20)).then(|| r.pick(&["van", "car", "a \"b\"", "", "007"]).to_string());
    let list = |r: &mut Random| {
        let entry = |r: &mut Random| (!r.chance(10)).then(|| (r.below(90) as i64, word(r)));
        (!r.chance(15)).then(|| (0..r.below(5)).map(|_| entry(r)).collect())
    };
    (0..1 + r.below(60) as i64).map(|id| (id, word(r), list(r))).collect()
}

fn json_lines(rows: &[Row]) -> String {
    let lines = rows.iter().map(|(id, name, list)| {
        let entry =
            |e: &Option<(i64, Option<String>)>| e.as_ref().map(|(n, kind)| serde_json::json!({"id": n, "kind": kind}));
        let list = list.as_ref().map(|list| list.iter().map(entry).collect::<Vec<_>>());
        serde_json::json!({"id": id, "guest": {"name": name}, "trip": {"cars": list}}).to_string()
    });
    lines.collect::<Vec<_>>().join("\n")
}

fn batch(rows: &[Row]) -> RecordBatch {
    let fields = Fields::from(vec![Field::new("id", DataType::Int64, true), Field::new("kind", DataType::Utf8, true)]);
    let entries = StructBuilder::new(
        fields,
        vec![
            Box::new(Int64Builder::new()) as Box<dyn arrow_array::builder::ArrayBuilder>,
            Box::new(StringBuilder::new()),
        ],
    );
    let mut lists = ListBuilder::new(entries);
    for (_, _, list) in rows {
        for entry in list.iter().flatten() {
            let of = lists.values();
            let (n, kind) = entry.as_ref().map_or((None, None), |(n, kind)| (Some(*n), kind.as_deref()));
            of.field_builder::<Int64Builder>(0).unwrap().append_option(n);
            of.field_builder::<StringBuilder>(1).unwrap().append_option(kind);
            of.append(entry.is_some());
        }
        lists.append(list.is_some());
    }
    let inside = |name: &str, array: ArrayRef| -> ArrayRef {
        let field = Field::new(name, array.data_type().clone(), true);
        Arc::new(arrow_array::StructArray::new(Fields::from(vec![field]), vec![array], None))
    };
    let ids: ArrayRef = Arc::new(rows.iter().map(|(id, ..)| Some(*id)).collect::<Int64Array>());
    let names: ArrayRef = Arc::new(rows.iter().map(|(_, name, _)| name.as_deref()).collect::<StringArray>());
    let trips = inside("cars", Arc::new(lists.finish()));
    RecordBatch::try_from_iter([("id", ids), ("guest", inside("name", names)), ("trip", trips)]).unwrap()
}

fn write(path: &Path, rows: &[Row]) {
    match path.extension().unwrap().to_str().unwrap() {
        "jsonl" => fs::write(path, json_lines(rows)).unwrap(),
        "parquet" => {
            let properties =
                parquet::file::properties::WriterProperties::builder().set_max_row_group_row_count(Some(7)).build();
            let batch = batch(rows);
            let file = fs::File::create(path).unwrap();
            let mut writer = parquet::arrow::ArrowWriter::try_new(file, batch.schema(), Some(properties)).unwrap();
            writer.write(&batch).unwrap();
            writer.close().unwrap();
        }
        _ => {
            let batch = batch(rows);
            let mut writer =
                arrow_ipc::writer::FileWriter::try_new(fs::File::create(path).unwrap(), &batch.schema()).unwrap();
            // A part of a batch has lists that do not begin at the first value.
            writer.write(&batch.slice(0, rows.len() / 2)).unwrap();
            writer.write(&batch.slice(rows.len() / 2, rows.len() - rows.len() / 2)).unwrap();
            writer.finish().unwrap();
        }
    }
}

#[test]
fn entries_of_lists_are_rows_that_point_at_theirs() {
    for seed in 0..40 {
        let r = &mut Random(seed);
        let rows = rows(r);
        let mut expected: Vec<String> = Vec::new();
        for (id, name, list) in &rows {
            for (n, kind) in list.iter().flatten().flatten() {
                let (kind, name) = (kind.clone().unwrap_or_default(), name.clone().unwrap_or_default());
                expected.push(format!("{id}|{n}|{kind}|{name}"));
            }
        }
        expected.sort();
        for file in ["t.jsonl", "t.parquet", "t.arrow"] {
            let folder = tempfile::tempdir().unwrap();
            write(&folder.path().join(file), &rows);
            fs::write(folder.path().join("more.jsonl"), "").unwrap();
            // By the names that lead there, or as columns are called.
            let (list, n) = [("trip.cars", "cars_id"), ("trip_cars", "trip_cars_id")][seed as usize % 2];
            let sources = [format!("'{file}'"), format!("['{file}', 'more.jsonl']")];
            // Nothing but nulls says no type, and an empty file no columns.
            for source in &sources[..1 + usize::from(file != "t.jsonl" && !expected.is_empty() && seed % 2 == 0)] {
                let types = format!("[table.car.column.kind]\ntype = 'text'\n[table.car.column.{n}]\ntype = 'int'\n");
                let toml = format!(
                    "[table.booking]\nsource = {source}\nkey = 'id'\n[table.booking.column.guest_name]\ntype = 'text'\n\
                     [table.car]\nsource = {source}\nrows_of = '{list}'\n{types}\
                     [[relationship]]\nmany = 'car.id'\none = 'booking.id'\n"
                );
                if source.contains("more") {
                    fs::write(
                        folder.path().join("more.jsonl"),
                        "{\"id\": -5, \"trip\": {\"cars\": {\"id\": 1, \"kind\": \"bus\"}}}",
                    )
                    .unwrap();
                }
                fs::write(folder.path().join("model.toml"), toml).unwrap();
                let model = match Model::open(folder.path()) {
                    Ok(model) => model,
                    // Without any entry nothing says what columns there are.
                    Err(e) if file == "t.jsonl" && expected.is_empty() => {
                        assert!(e.to_string().contains(&format!("no line of t.jsonl has `{list}`")), "{e}");
                        continue;
                    }
                    Err(e) => panic!("{seed} {source}: {e}"),
                };
                let text = format!("records car.id, car.{n}, car.kind, booking.guest_name where car.id >= 0");
                let mut found = shown(&run(&model, &text));
                found.sort();
                assert_eq!(found, expected, "{seed}: {source}");
                if source.contains("more") {
                    let bus = shown(&run(&model, &format!("records car.{n}, car.kind where car.id < 0")));
                    assert_eq!(bus, ["1|bus"], "a value alone is a list of it");
                }
            }
        }
    }
}

#[test]
fn what_is_said_of_lists_and_cannot_be_is_told() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path();
    write(&path.join("t.parquet"), &[(1, None, None)]);
    write(&path.join("t.jsonl"), &[(1, None, Some(vec![Some((1, None))]))]);
    fs::write(path.join("t.csv"), "id\n1\n").unwrap();
    fs::write(path.join("cut.jsonl"), "{\"trip\": {\"cars\": [1,").unwrap();
    for (toml, expected) in [
        ("source = 't.csv'\nrows_of = 'a'\ncarry = []", "`a` cannot be a list in t.csv"),
        ("source = 't.jsonl'\nrows_of = 'a'", "nothing says which row an entry of `a` belongs to"),
        ("source = 't.jsonl'\nrows_of = 'a'\ncarry = ['id']", "no line of t.jsonl has `a`"),
        ("source = 'cut.jsonl'\nrows_of = 'trip.cars'\ncarry = []", "cut.jsonl line 1: EOF while parsing"),
        ("source = 'cut.jsonl'", "cut.jsonl line 1: EOF while parsing"),
        ("source = 't.jsonl'\nrows_of = 'trip.cars'\ncarry = ['key']", "no line of t.jsonl has `key` around a list"),
        ("source = 't.parquet'\nrows_of = 'trip.carz'\ncarry = ['id']", "there is no `carz`"),
        ("source = 't.parquet'\nrows_of = 'trip.cars'\ncarry = ['key']", "there is no `key`"),
        ("source = 't.parquet'\nrows_of = 'id.cars'\ncarry = ['id']", "there is no `cars`: nothing is in it"),
        ("source = 't.parquet'\nrows_of = 'trip..cars'\ncarry = ['id']", "`trip..cars` leads nowhere"),
        ("source = 't.parquet'\ncarry = ['id']", "`carry` is for tables of the entries of lists"),
        ("source = 't.csv'\nunpivot = { columns = ['q*'], name = 'a', value = 'b' }", "no column becomes rows"),
        ("source = 't.csv'\nunpivot = { columns = ['i*'], name = 'a', value = 'a' }", "cannot both be called `a`"),
        ("source = 't.csv'\nunpivot = { columns = ['['], name = 'a', value = 'b' }", "`[` is not a pattern"),
    ] {
        fs::write(path.join("model.toml"), format!("[table.t]\n{toml}\n")).unwrap();
        let said = Model::open(path).map(|_| ()).unwrap_err().to_string();
        assert!(said.contains(expected), "{toml}: {said}");
    }
}

#[test]
fn columns_side_by_side_are_rows() {
    for seed in 0..40 {
        let r = &mut Random(seed);
        let (width, height) = (1 + r.below(6), 1 + r.below(80));
        let kind = r.below(3);
        let value = |r: &mut Random| match kind {
            _ if r.chance(20) => None,
            0 => Some(r.below(9).to_string()),
            1 => Some(format!("{}.5", r.below(9))),
            _ => Some(r.pick(&["yes", "no", "12", "rather \"not\""]).to_string()),
        };
        let rows: Vec<Vec<Option<String>>> = (0..height).map(|_| (0..width).map(|_| value(r)).collect()).collect();
        let mut expected: Vec<String> = Vec::new();
        for (id, row) in rows.iter().enumerate() {
            let cells = row.iter().enumerate();
            expected.extend(cells.map(|(q, v)| format!("{id}|q_{q}|{}", v.as_deref().unwrap_or(""))));
        }
        let header: Vec<String> = (0..width).map(|q| format!("q_{q}")).collect();
        let quoted =
            |v: &Option<String>| v.as_ref().map_or(String::new(), |v| format!("\"{}\"", v.replace('"', "\"\"")));
        let mut csv = format!("{},id\n", header.join(","));
        for (id, row) in rows.iter().enumerate() {
            csv += &format!("{},{id}\n", row.iter().map(quoted).collect::<Vec<_>>().join(","));
        }
        let mut columns: Vec<(String, ArrayRef)> =
            vec![("id".into(), Arc::new((0..height as i64).map(Some).collect::<Int64Array>()))];
        for (q, name) in header.iter().enumerate() {
            let texts = rows.iter().map(|row| row[q].as_deref());
            let array: ArrayRef = match kind {
                0 => Arc::new(texts.map(|v| v.and_then(|v| v.parse().ok())).collect::<Int64Array>()),
                1 => Arc::new(texts.map(|v| v.and_then(|v| v.parse().ok())).collect::<arrow_array::Float64Array>()),
                _ => Arc::new(texts.collect::<StringArray>()),
            };
            columns.push((name.clone(), array));
        }
        let batch = RecordBatch::try_from_iter(columns).unwrap();
        let folder = tempfile::tempdir().unwrap();
        fs::write(folder.path().join("t.csv"), csv).unwrap();
        let mut writer = arrow_ipc::writer::FileWriter::try_new(
            fs::File::create(folder.path().join("t.arrow")).unwrap(),
            &batch.schema(),
        )
        .unwrap();
        writer.write(&batch).unwrap();
        writer.finish().unwrap();
        for file in ["t.csv", "t.arrow"] {
            let toml = format!(
                "[table.t]\nsource = '{file}'\nunpivot = {{ columns = ['q_*'], name = 'question', value = 'answer' }}\n\
                 [table.t.column.mark]\nformula = \"t.question || '!'\"\n"
            );
            fs::write(folder.path().join("model.toml"), toml).unwrap();
            let model = Model::open(folder.path()).unwrap_or_else(|e| panic!("{seed} {file}: {e}"));
            let found = shown(&run(&model, "records t.id, t.question, t.answer order by t.id, t.question"));
            // A blank column of text is no number, so that it may stand among numbers.
            assert_eq!(found, expected, "{seed}: {file}");
            let marks = shown(&run(&model, "grid rows(t) as n by t.mark"));
            assert_eq!(marks, header.iter().map(|q| format!("{q}!|{height}")).collect::<Vec<_>>(), "{seed}: {file}");
        }
    }
}

#[test]
fn what_becomes_of_columns_has_names_like_others() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path();
    fs::write(path.join("t.csv"), "id,q_1,q_2\n1,5,\n2,,7.5\n").unwrap();
    let unpivot = "unpivot = { columns = ['q_*'], name = 'question', value = 'answer' }";
    let opened = |more: &str| {
        fs::write(path.join("model.toml"), format!("[table.t]\nsource = 't.csv'\n{unpivot}\n{more}")).unwrap();
        Model::open(path).unwrap_or_else(|e| panic!("{more}: {e}"))
    };
    let renamed =
        opened("[table.t.column.mark]\nsource_name = 'answer'\n[table.t.column.asked]\nsource_name = 'question'");
    let found = shown(&run(&renamed, "records t.id, t.asked, t.mark order by t.id, t.asked"));
    assert_eq!(found, ["1|q_1|5.0", "1|q_2|", "2|q_1|", "2|q_2|7.5"]);
    let typed = opened("[table.t.column.answer]\ntype = 'text'\n[table.t.column.id]\nkeep = false");
    let found = shown(&run(&typed, "grid rows(t) as n by t.answer"));
    assert_eq!(found, ["5|1", "7.5|1", "|2"]);
    assert!(typed.query("grid rows(t) as n by t.id").is_err());
    let shorter = opened("where = \"question = 'q_1' and answer is not null\"\n");
    assert_eq!(shown(&run(&shorter, "grid rows(t) as n, sum(t.answer) as s")), ["1|5.0"]);
}
