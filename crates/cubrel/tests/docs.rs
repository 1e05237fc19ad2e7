//! The docs say what the program does.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

mod common;

use std::fs;
use std::path::PathBuf;

fn docs(file: &str) -> PathBuf {
    PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../docs").join(file)
}

#[test]
fn the_worked_example_of_the_docs_holds() {
    let model = common::worked_example().build().unwrap();
    let text = fs::read_to_string(docs("language.md")).unwrap();
    let rows: Vec<(&str, &str)> = text
        .lines()
        .filter_map(|l| l.strip_prefix("| `")?.strip_suffix(" |")?.split_once("` | "))
        .filter(|(query, _)| query.contains("grid "))
        .collect();
    assert!(rows.len() >= 15, "the table is there");
    for (query, expected) in rows {
        let grid = common::run(&model, query);
        let lines: Vec<String> = grid
            .lines
            .iter()
            .map(|line| {
                let axes = grid.columns.iter().filter(|c| c.kind != cubrel::GridColumnKind::Measure).count();
                let value = |(i, v): (usize, &cubrel::Value)| match v {
                    _ if line.totalled.contains(&i) => "total".to_string(),
                    cubrel::Value::Null if i < axes => "(none)".to_string(),
                    v => v.to_string(),
                };
                line.values.iter().enumerate().map(value).collect::<Vec<_>>().join(" ")
            })
            .collect();
        assert_eq!(lines.join("; "), expected, "{query}");
    }
}

/// `UPDATE_DOCS=1 cargo test` writes it anew.
#[test]
fn the_schema_of_the_model_file_is_the_one_of_the_types() {
    let schema = schemars::schema_for!(cubrel::model::ModelFile);
    let text = serde_json::to_string_pretty(&schema).unwrap() + "\n";
    let path = docs("model.schema.json");
    if std::env::var_os("UPDATE_DOCS").is_some() {
        fs::write(&path, &text).unwrap();
    }
    assert!(fs::read_to_string(&path).unwrap() == text, "run UPDATE_DOCS=1 cargo test");
}

#[test]
fn every_aggregate_and_edit_stands_in_the_reference() {
    let text = fs::read_to_string(docs("language.md")).unwrap();
    for entry in cubrel::formula::functions::AGGREGATES {
        assert!(text.contains(entry.name), "{}", entry.name);
    }
}
