//! Where the time of a query and the bytes of a model go.
//!
//! `cargo run --release -p cubrel --example time_and_size`

use cubrel::profile::{Node, profile};
use cubrel::{Model, QueryOptions, Type, Value};

fn print(node: &Node, depth: usize) {
    println!("{}{} {} ms", "  ".repeat(depth), node.part, node.total_ms.unwrap_or_default());
    node.parts.iter().for_each(|n| print(n, depth + 1));
}

fn main() -> Result<(), cubrel::Error> {
    let rows: Vec<Vec<Value>> =
        (0..300_000).map(|i| vec![Value::Int(i % 40), Value::Int(i * 7919 % 100_003), Value::Int(i % 7)]).collect();
    let model = Model::builder()
        .rows("booking", &[("route", Type::Int), ("reference", Type::Int), ("passengers", Type::Int)], &rows)
        .measure("passengers", "sum(booking.passengers)")
        .measure("share", "passengers / passengers given (without axes)")
        .build()?;

    let (times, _) = profile(&model, "grid passengers, share by booking.route", &QueryOptions::default(), 5)?;
    println!("warm {} ms", times.warm.median_ms);
    times.tree.iter().for_each(|n| print(n, 1));
    for column in &model.sizes().tables[0].columns {
        println!("{:>12} {:>8} bytes, {} distinct, {} bits", column.name, column.bytes, column.distinct, column.bits);
    }
    Ok(())
}
