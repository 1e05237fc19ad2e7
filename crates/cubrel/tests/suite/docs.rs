//! The docs say what the program does.

use std::fs;
use std::path::PathBuf;

use cubrel::{GridColumnKind, Type, Value};

fn docs(file: &str) -> PathBuf {
    PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../docs").join(file)
}

/// The model that the reference describes.
fn model() -> cubrel::Model {
    let text = Value::text;
    let day = |t: &str| Value::Date(cubrel::value::date::parse_date(t.as_bytes()).unwrap());
    let booking = [
        ("r1", 10, "2024-02-10", "2024-01-05", "Ann"),
        ("r1", 20, "2025-02-11", "2024-12-30", "Bo"),
        ("r2", 5, "2025-02-28", "2025-02-01", "Ann"),
        ("r9", 1, "2025-03-01", "2025-03-01", ""),
    ]
    .map(|(route, net, sailed, booked, agent)| {
        let agent = if agent.is_empty() { Value::Null } else { text(agent) };
        vec![text(route), Value::Int(net), day(sailed), day(booked), agent]
    });
    let route = [["r1", "Ness–Holm", "North"], ["r2", "Holm–Skaw", "South"]].map(|r| r.map(text).to_vec());
    let agent = [["Ann", "Quay"], ["Bo", "Quay"], ["Cy", "Office"]].map(|r| r.map(text).to_vec());
    cubrel::Model::builder()
        .definitions(
            "[table.calendar]\ncalendar = 'date'\ngenerate = { from = '2024-01-01', to = '2025-12-31' }\n
             [lens.period.reading.now]\nformula = 'shown'\n
             [lens.period.reading.ytd]\nformula = 'shown given (so_far(year))'\n
             [lens.period.reading.year_ago]\nformula = 'shown given (shift(-1 year))'\n",
        )
        .rows("route", &[("id", Type::Text), ("name", Type::Text), ("region", Type::Text)], &route)
        .rows("agent", &[("name", Type::Text), ("team", Type::Text)], &agent)
        .rows(
            "booking",
            &[
                ("route", Type::Text),
                ("net", Type::Int),
                ("sailed_on", Type::Date),
                ("booked_on", Type::Date),
                ("agent", Type::Text),
            ],
            &booking,
        )
        .relationship("booking.route", "route.id")
        .relationship("booking.agent", "agent.name")
        .relationship("booking.sailed_on", "calendar.date")
        .spare_relationship("booking.booked_on", "calendar.date")
        .measure("net", "sum(booking.net)")
        .build()
        .unwrap()
}

/// A line as the tables of the reference have it.
fn shown(grid: &cubrel::Grid, line: &cubrel::GridLine) -> String {
    let value = |(i, v): (usize, &Value)| match v {
        _ if line.totalled.contains(&i) => "total".to_string(),
        _ if line.others.contains(&i) => "others".to_string(),
        Value::Null => match grid.columns[i].kind {
            GridColumnKind::Row | GridColumnKind::Column => "(none)".to_string(),
            GridColumnKind::Measure | GridColumnKind::Field => "(null)".to_string(),
        },
        v => v.to_string(),
    };
    line.values.iter().enumerate().map(value).collect::<Vec<_>>().join(" ")
}

/// `UPDATE_DOCS=1` writes the lines anew: read them before they stay.
#[test]
fn the_examples_of_the_reference_hold() {
    let model = model();
    let text = fs::read_to_string(docs("language.md")).unwrap();
    let mut examples = 0;
    let lines: Vec<String> = text
        .lines()
        .map(|line| {
            let parts = line.strip_prefix("| `").and_then(|l| l.strip_suffix(" |")?.split_once("` | "));
            let Some((query, expected)) = parts.filter(|(q, _)| q.contains("grid ") || q.contains("records ")) else {
                return line.to_string();
            };
            examples += 1;
            let grid = crate::common::run(&model, query);
            let found = grid.lines.iter().map(|l| shown(&grid, l)).collect::<Vec<_>>().join("; ");
            if std::env::var_os("UPDATE_DOCS").is_none() {
                assert_eq!(found, expected, "{query}");
            }
            format!("| `{query}` | {found} |")
        })
        .collect();
    assert!(examples >= 45, "the tables are there");
    if std::env::var_os("UPDATE_DOCS").is_some() {
        fs::write(docs("language.md"), lines.join("\n") + "\n").unwrap();
    }
}

/// `UPDATE_DOCS=1 cargo test` writes it anew.
#[test]
fn the_schema_of_the_model_file_is_the_one_of_the_types() {
    let schema = schemars::schema_for!(cubrel::model::file::ModelFile);
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
    for edit in ["so_far", "trailing", "shift", "whole", "at_start", "at_end", "without all but", "instead"] {
        assert!(text.contains(edit), "{edit}");
    }
}

/// The blocks of a recipe: what stands behind the fence, and the text.
fn blocks(text: &str) -> Vec<(String, String)> {
    let mut blocks: Vec<(String, String)> = Vec::new();
    let mut inside = false;
    for line in text.lines() {
        match line.strip_prefix("```") {
            Some(_) if inside => inside = false,
            Some(kind) => {
                inside = true;
                blocks.push((kind.to_string(), String::new()));
            }
            None if inside => {
                let last = blocks.last_mut().unwrap();
                last.1 += line;
                last.1.push('\n');
            }
            None => {}
        }
    }
    blocks
}

#[test]
fn every_recipe_for_messy_files_gives_what_it_says() {
    let text = fs::read_to_string(docs("messy-files.md")).unwrap();
    let mut tried = 0;
    for recipe in text.split("\n## ").skip(1) {
        let title = recipe.lines().next().unwrap();
        let blocks = blocks(recipe);
        let of = |kind: &str| blocks.iter().find(|(k, _)| k == kind).map(|(_, text)| text.clone());
        let (Some(toml), Some(expected)) = (of("toml"), of("text")) else { continue };
        let folder = tempfile::tempdir().unwrap();
        // The first file is called `t`, a second one `u`.
        let files = blocks.iter().filter(|(kind, _)| ["csv", "jsonl"].contains(&kind.as_str()));
        let names: Vec<String> = files
            .zip(["t", "u"])
            .map(|((kind, text), name)| {
                let name = format!("{name}.{kind}");
                fs::write(folder.path().join(&name), text).unwrap();
                name
            })
            .collect();
        let source = if toml.contains("source = ") { String::new() } else { format!("source = '{}'\n", names[0]) };
        fs::write(folder.path().join("model.toml"), format!("[table.t]\n{source}{toml}")).unwrap();
        let model = cubrel::Model::open(folder.path()).unwrap_or_else(|e| panic!("{title}: {e}"));
        let (schema, store) = (cubrel::internals::InModel::schema(&model), cubrel::internals::InModel::store(&model));
        let columns = schema.tables[0].columns.iter().zip(&store.tables[0].columns);
        let found: String = columns
            .map(|(def, data)| {
                let values: Vec<String> = data.codes().into_iter().map(|c| data.value_of(c).to_string()).collect();
                format!("{} {}: {}\n", def.name, def.ty, values.join("; "))
            })
            .collect();
        assert_eq!(found, expected, "{title}");
        tried += 1;
    }
    assert!(tried >= 15, "{tried} recipes");
}

#[test]
fn programs_are_built_without_what_is_for_debugging() {
    let manifest = fs::read_to_string(docs("../Cargo.toml")).unwrap();
    let manifest: toml::Table = manifest.parse().unwrap();
    let release = &manifest["profile"]["release"];
    assert_eq!(release["strip"].as_str(), Some("symbols"));
    // Of a package of which something is said by itself, cargo strips less where that does not say it, too.
    let said = release["package"].as_table().unwrap();
    for program in ["cubrel-cli", "cubrel-serve"] {
        let own = said.get(program).map(|own| own.get("strip").and_then(toml::Value::as_str));
        assert!(matches!(own, None | Some(Some("symbols"))), "{program}");
    }
}

#[test]
fn what_the_architecture_points_at_is_there() {
    let text = fs::read_to_string(docs("../ARCHITECTURE.md")).unwrap();
    let mut found = 0;
    for path in text.split('`').skip(1).step_by(2).filter(|code| !code.contains([' ', '{', '*'])) {
        let Some((layer, inside)) = path.split_once('/') else { continue };
        let of_crate = docs(&format!("../crates/cubrel-{layer}/src"));
        let place = match layer {
            "handle" | "insight" | "care" => docs(&format!("../crates/cubrel/src/{path}")),
            "crates" => docs(&format!("../{path}")),
            "suite" => docs(&format!("../crates/cubrel/tests/{path}")),
            _ if of_crate.is_dir() && (inside.ends_with(".rs") || inside.ends_with('/')) => of_crate.join(inside),
            _ => continue,
        };
        assert!(place.exists(), "{path}");
        found += 1;
    }
    assert!(found > 100, "{found} places");
}
