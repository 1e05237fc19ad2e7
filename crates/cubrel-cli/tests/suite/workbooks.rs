//! Workbooks as sources: sheets as people keep them, with titles above, gaps, texts of digits, dates and times of day.

use std::fs;
use std::io::Write as _;
use std::path::Path;
use std::process::Output;

use assert_cmd::Command;
use rust_xlsxwriter::{Format, Workbook};
use serde_json::{Value as Json, json};
use tempfile::TempDir;

fn cubrel(folder: &Path, args: &[&str]) -> Output {
    Command::cargo_bin("cubrel").unwrap().current_dir(folder).args(args).output().unwrap()
}

fn error(output: &Output) -> String {
    String::from_utf8_lossy(&output.stderr).into_owned()
}

fn rows(folder: &Path, query: &str) -> Json {
    let output = cubrel(folder, &["query", query, "--format", "json"]);
    assert!(output.status.success(), "{query}: {}", error(&output));
    serde_json::from_slice::<Json>(&output.stdout).unwrap()["rows"].clone()
}

fn with_model(model: &str) -> TempDir {
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("model.toml"), model).unwrap();
    folder
}

/// A price list as an office keeps it: a title, an empty row, the header on row 4 from column B on, a gap, a remark at the
/// end; and a second sheet with the ports.
fn price_list(path: &Path) {
    let mut book = Workbook::new();
    let (day, clock) = (Format::new().set_num_format("dd.mm.yyyy"), Format::new().set_num_format("dd.mm.yyyy hh:mm"));
    let hours = Format::new().set_num_format("hh:mm");
    let sheet = book.add_worksheet().set_name("Price list").unwrap();
    sheet.write(0, 1, "Tern Isles Ferries: prices").unwrap();
    for (i, head) in ["code", "Price", "from", "changed", "boards", "sold", "Price", ""].iter().enumerate() {
        sheet.write(3, i as u16 + 1, *head).unwrap();
    }
    for (row, (code, price, from, changed, boards, sold)) in [
        ("007", 12.5, "2026-01-01", "2026-01-01T00:00:00", 0.25, true),
        ("010", 4.0, "2026-02-01", "2026-01-31T13:45:10", 0.5, false),
        ("A1", -3.25, "2026-03-01", "2026-02-01T00:00:00", 0.75, true),
    ]
    .into_iter()
    .enumerate()
    {
        // A gap between the second and the third.
        let row = row as u32 + if row == 2 { 5 } else { 4 };
        sheet.write(row, 1, code).unwrap();
        sheet.write(row, 2, price).unwrap();
        let date = |text: &str| rust_xlsxwriter::ExcelDateTime::parse_from_str(text).unwrap();
        sheet.write_with_format(row, 3, date(from), &day).unwrap();
        sheet.write_with_format(row, 4, date(changed), &clock).unwrap();
        sheet.write_with_format(row, 5, boards, &hours).unwrap();
        sheet.write(row, 6, sold).unwrap();
        sheet.write(row, 7, price * 2.0).unwrap();
        sheet.write(row, 8, "n").unwrap();
    }
    let ports = book.add_worksheet().set_name("Ports").unwrap();
    for (i, (code, name)) in [("code", "name"), ("007", "Ness"), ("010", "Holm"), ("A1", "Skaw")].iter().enumerate() {
        ports.write(i as u32, 0, *code).unwrap();
        ports.write(i as u32, 1, *name).unwrap();
    }
    book.save(path).unwrap();
}

const MODEL: &str = "[table.price]\nsource = 'prices.xlsx'\nworkbook = { sheet = 'Price list', range = 'B4' }\n\
                     [table.port]\nsource = 'prices.xlsx'\nworkbook = { sheet = 'Ports' }\nkey = 'code'\n\
                     [[relationship]]\nmany = 'price.code'\none = 'port.code'\n";

#[test]
fn cells_are_loaded_as_what_they_hold() {
    let folder = with_model(MODEL);
    price_list(&folder.path().join("prices.xlsx"));
    let found = rows(
        folder.path(),
        "records price.code, price.\"Price\", price.\"from\", price.changed, price.boards, price.sold, price.\"Price_2\", \
         price.column_8, port.name order by price.code",
    );
    let expected = json!([
        ["007", 12.50, "2026-01-01", "2026-01-01 00:00:00", "06:00:00", true, 25.0, "n", "Ness"],
        ["010", 4.00, "2026-02-01", "2026-01-31 13:45:10", "12:00:00", false, 8.0, "n", "Holm"],
        ["A1", -3.25, "2026-03-01", "2026-02-01 00:00:00", "18:00:00", true, -6.5, "n", "Skaw"]
    ]);
    let plain = |cell: &Json| match cell {
        Json::Number(n) => n.to_string().parse::<f64>().unwrap().to_string(),
        other => other.to_string().replace('T', " "),
    };
    let plain = |rows: &Json| -> Vec<Vec<String>> {
        rows.as_array().unwrap().iter().map(|row| row.as_array().unwrap().iter().map(plain).collect()).collect()
    };
    assert_eq!(plain(&found), plain(&expected));
}

#[test]
fn a_range_ends_where_it_says() {
    for (range, count) in [("B4:C6", 2), ("B4:C", 3), ("b4", 3), ("B4:C5", 1)] {
        let folder = with_model(&MODEL.replace("'B4'", &format!("'{range}'")));
        price_list(&folder.path().join("prices.xlsx"));
        assert_eq!(rows(folder.path(), "grid rows(price)"), json!([[count]]), "{range}");
    }
}

#[test]
fn a_workbook_is_drafted_sheet_by_sheet_and_loads() {
    let folder = tempfile::tempdir().unwrap();
    price_list(&folder.path().join("prices.xlsx"));
    let drafted = cubrel(folder.path(), &["draft", "prices.xlsx", "--into", "model"]);
    assert!(drafted.status.success(), "{}", error(&drafted));
    let text = fs::read_to_string(folder.path().join("model/model.toml")).unwrap();
    assert!(text.contains("sheet = \"Price list\"") && text.contains("range = \"A4\""), "{text}");
    let model = folder.path().join("model");
    assert_eq!(rows(&model, "grid rows(price_list), rows(ports)"), json!([[3, 3]]), "{text}");
    assert_eq!(rows(&model, "grid rows(price_list) by price_list.code")[0], json!(["007", 1]), "{text}");
}

#[test]
fn what_cannot_be_read_of_a_workbook_is_said_with_what_there_is() {
    let cases = [
        (MODEL.replace("'Ports'", "'Port'"), "has no sheet `Port`", "Ports"),
        (MODEL.replace("'B4'", "'4B'"), "`4B` is not a range of cells", "B3:F200"),
        (MODEL.replace("'B4'", "'B40'"), "nothing stands in the cells that are to be read", "range"),
        (MODEL.replace("sheet = 'Ports'", "shet = 'Ports'"), "shet", "sheet"),
    ];
    for (model, said, help) in cases {
        let folder = with_model(&model);
        price_list(&folder.path().join("prices.xlsx"));
        let output = cubrel(folder.path(), &["refresh"]);
        assert_eq!(output.status.code(), Some(2));
        assert!(error(&output).contains(said) && error(&output).contains(help), "{}", error(&output));
    }
    // Cut or overwritten anywhere, it is an error or still the same rows, never a panic; and the old data stays.
    let folder = with_model(MODEL);
    let path = folder.path().join("prices.xlsx");
    price_list(&path);
    assert!(cubrel(folder.path(), &["refresh"]).status.success());
    let whole = fs::read(&path).unwrap();
    for i in 0..24 {
        let at = whole.len() * i / 24;
        let mut broken = whole.clone();
        if i % 2 == 0 {
            broken.truncate(at)
        } else {
            broken[at..(at + 40).min(whole.len())].fill(0x5a)
        }
        fs::write(&path, broken).unwrap();
        let output = cubrel(folder.path(), &["query", "grid rows(price)", "--format", "csv"]);
        assert!(!error(&output).contains("panicked"), "{i}: {}", error(&output));
        assert!(matches!(output.status.code(), Some(0 | 2)), "{i}: {output:?}");
    }
}

/// A table of the open document format with merged and repeated cells, a date, a time and a number of digits.
fn open_document(path: &Path) {
    let content = r#"<?xml version="1.0" encoding="UTF-8"?>
<office:document-content xmlns:office="urn:oasis:names:tc:opendocument:xmlns:office:1.0" xmlns:table="urn:oasis:names:tc:opendocument:xmlns:table:1.0" xmlns:text="urn:oasis:names:tc:opendocument:xmlns:text:1.0" office:version="1.2"><office:body><office:spreadsheet>
<table:table table:name="Sailings">
<table:table-row><table:table-cell office:value-type="string"><text:p>vessel</text:p></table:table-cell><table:table-cell office:value-type="string"><text:p>day</text:p></table:table-cell><table:table-cell office:value-type="string"><text:p>fuel</text:p></table:table-cell></table:table-row>
<table:table-row table:number-rows-repeated="2"><table:table-cell office:value-type="string"><text:p>Gannet</text:p></table:table-cell><table:table-cell office:value-type="date" office:date-value="2026-04-05"><text:p>05.04.26</text:p></table:table-cell><table:table-cell office:value-type="float" office:value="7.25"><text:p>7,25</text:p></table:table-cell></table:table-row>
<table:table-row><table:table-cell office:value-type="string"><text:p>Tern</text:p></table:table-cell><table:table-cell/><table:table-cell office:value-type="float" office:value="3"><text:p>3</text:p></table:table-cell></table:table-row>
</table:table></office:spreadsheet></office:body></office:document-content>"#;
    let manifest = r#"<manifest:manifest xmlns:manifest="urn:oasis:names:tc:opendocument:xmlns:manifest:1.0"><manifest:file-entry manifest:full-path="/" manifest:media-type="application/vnd.oasis.opendocument.spreadsheet"/></manifest:manifest>"#;
    let mut zip = zip::ZipWriter::new(fs::File::create(path).unwrap());
    let plain = zip::write::SimpleFileOptions::default().compression_method(zip::CompressionMethod::Stored);
    for (name, text) in [
        ("mimetype", "application/vnd.oasis.opendocument.spreadsheet"),
        ("META-INF/manifest.xml", manifest),
        ("content.xml", content),
    ] {
        zip.start_file(name, plain).unwrap();
        zip.write_all(text.as_bytes()).unwrap();
    }
    zip.finish().unwrap();
}

#[test]
fn open_documents_are_read_as_well() {
    let folder = with_model("[table.sailing]\nsource = 'sailings.ods'\n");
    open_document(&folder.path().join("sailings.ods"));
    assert_eq!(
        rows(folder.path(), "grid rows(sailing) as n, sum(sailing.fuel) as fuel by sailing.vessel, sailing.day"),
        serde_json::from_str::<Json>(r#"[["Gannet", "2026-04-05", 2, 14.50], ["Tern", null, 1, 3.00]]"#).unwrap()
    );
}
