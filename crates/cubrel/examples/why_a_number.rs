//! Why a number is what it is: `cargo run --example why_a_number`

use cubrel::why::{WhyOptions, WhyPart};
use cubrel::{Model, Type, Value};

fn print(part: &WhyPart, depth: usize) {
    let value = part.value.as_ref().map_or_else(String::new, ToString::to_string);
    println!("{:indent$}{:40} {value}", "", part.text, indent = 2 * depth);
    part.removed.iter().for_each(|f| println!("{:indent$}without {}", "", f.text, indent = 2 * depth + 2));
    part.added.iter().for_each(|f| println!("{:indent$}with {}", "", f.text, indent = 2 * depth + 2));
    part.parts.iter().for_each(|p| print(p, depth + 1));
}

fn main() -> Result<(), cubrel::Error> {
    let rows = [("Ness", "North", 10), ("Holm", "North", 30), ("Skaw", "South", 60)]
        .map(|(route, region, net)| vec![Value::text(route), Value::text(region), Value::Int(net)]);
    let model = Model::builder()
        .rows("booking", &[("route", Type::Text), ("region", Type::Text), ("net", Type::Int)], &rows)
        .measure("net", "sum(booking.net)")
        .measure("share", "net / net given (without booking.route)")
        .build()?;
    let options = WhyOptions { rows: 5, ..WhyOptions::default() };
    let why = model.why("grid share by booking.region, booking.route", "booking.route = 'Ness'", &options)?;
    for filter in &why.filters {
        println!("{} ({})", filter.text, filter.origin);
    }
    print(&why.tree, 0);
    for rows in &why.rows {
        println!("{}: {} rows of {}", rows.of, rows.count, rows.table);
    }
    Ok(())
}
