//! A model from two CSV files: types and the store are found and made by themselves.
//!
//! `cargo run -p cubrel --example model_from_csv`

use std::fs;

use cubrel::Model;

const MODEL: &str = r#"
[table.booking]
source = "booking.csv"

[table.booking.column.net]
formula = "passengers * fare"

[table.route]
source = "route.csv"
key = "id"

[[relationship]]
many = "booking.route_id"
one = "route.id"

[measure.net_revenue]
formula = "sum(booking.net)"
"#;

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let folder = std::env::temp_dir().join("cubrel-example-csv");
    fs::create_dir_all(&folder)?;
    fs::write(folder.join("booking.csv"), "route_id,passengers,fare\nR1,2,24.00\nR1,1,12.50\nR2,4,9.50\nR9,1,1.00\n")?;
    fs::write(folder.join("route.csv"), "id,name,region\nR1,Ness–Holm,North\nR2,Holm–Skaw,South\n")?;
    fs::write(folder.join("model.toml"), MODEL)?;

    let model = Model::open(&folder)?;
    let grid = model.query("grid net_revenue by route.region totals")?.run()?;
    for line in &grid.lines {
        let region = if line.totalled.is_empty() { &line.values[0].to_string() } else { "total" };
        println!("{region:>8} {:>8}", line.values[1].to_string());
    }
    Ok(())
}
