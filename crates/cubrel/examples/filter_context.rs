//! The same figure under different filters: its own, a replaced one, a dropped one.
//!
//! `cargo run -p cubrel --example filter_context`

use cubrel::{Model, Type, Value};

fn main() -> Result<(), cubrel::Error> {
    let row = |route: &str, region: &str, net: i64| vec![Value::text(route), Value::text(region), Value::Int(net)];
    let model = Model::builder()
        .rows(
            "booking",
            &[("route", Type::Text), ("region", Type::Text), ("net", Type::Int)],
            &[row("Ness–Holm", "North", 10), row("Ness–Holm", "North", 20), row("Holm–Skaw", "South", 5)],
        )
        .measure("net", "sum(booking.net)")
        .measure("share", "net / net given (without booking)")
        .measure("north", "net given (instead booking.region = 'North')")
        .measure("only_north", "net given (booking.region = 'North')")
        .measure("best_route", "max(net per booking.route)")
        .build()?;

    let grid = model.query("grid net, share, north, only_north, best_route by booking.region totals")?.run()?;
    println!("{}", grid.columns.iter().map(|c| format!("{:>14}", c.name)).collect::<String>());
    for line in &grid.lines {
        println!("{}", line.values.iter().map(|v| format!("{:>14}", v.to_string())).collect::<String>());
    }
    Ok(())
}
