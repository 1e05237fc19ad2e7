//! A model made in code from Arrow record batches, and a result as a record batch again.
//!
//! `cargo run -p cubrel --example model_in_code`

use std::sync::Arc;

use arrow_array::{ArrayRef, Float64Array, Int64Array, RecordBatch, StringArray};
use cubrel::Model;

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let vessel = RecordBatch::try_from_iter([
        ("id", Arc::new(Int64Array::from(vec![1, 2, 3])) as ArrayRef),
        ("name", Arc::new(StringArray::from(vec!["MV Tern", "MV Skua", "MV Puffin"]))),
        ("seats", Arc::new(Int64Array::from(vec![620, 340, 140]))),
    ])?;
    let sailing = RecordBatch::try_from_iter([
        ("vessel_id", Arc::new(Int64Array::from(vec![1, 1, 2, 3, 3])) as ArrayRef),
        ("passengers", Arc::new(Int64Array::from(vec![410, 388, 301, 92, 140]))),
        ("fuel", Arc::new(Float64Array::from(vec![812.5, 790.0, 455.0, 120.25, 131.0]))),
    ])?;

    let model = Model::builder()
        .table("vessel", &[vessel])
        .table("sailing", &[sailing])
        .relationship("sailing.vessel_id", "vessel.id")
        .measure("load_factor", "sum(sailing.passengers) / sum(sailing.seats)")
        .column("sailing", "seats", "vessel.seats")
        .build()?;

    let grid =
        model.query("grid load_factor, sum(sailing.fuel) as fuel by vessel.name order by load_factor desc")?.run()?;
    let batch = grid.to_record_batch()?;
    println!(
        "{} columns, {} rows: {:?}",
        batch.num_columns(),
        batch.num_rows(),
        batch.schema().fields().iter().map(|f| f.name()).collect::<Vec<_>>()
    );
    for line in &grid.lines {
        println!("{:>10} {:.3} {}", line.values[0].to_string(), line.values[1].as_f64().unwrap_or(0.0), line.values[2]);
    }
    Ok(())
}
