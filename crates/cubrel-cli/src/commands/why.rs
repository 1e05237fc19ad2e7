//! `cubrel why`

use cubrel::why::WhyOptions;

use super::asked::Asked;
use super::query::{formats, text_of};
use crate::args::Global;
use crate::failure::Done;
use crate::format::Format;
use crate::output::{Output, why};

/// Arguments of `why`.
#[derive(clap::Args, Debug)]
#[command(
    after_help = "Examples:\n  cubrel why 'grid share_of_revenue by port.region' --at \"port.region = 'North Sound'\"\n  cubrel why routes --at \"route.name = 'Ness–Holm'\" --measure load_factor --rows 5\n  cubrel why customer.size --at 'customer.id = 17'"
)]
pub struct Args {
    /// A query, the name of a saved one, or a calculated column
    query: String,
    /// Where the cell stands; axes that are not named are totalled
    #[arg(long, value_name = "PLACE", default_value = "", hide_default_value = true)]
    at: String,
    /// Which item of the grid; by default the first
    #[arg(long, value_name = "NAME")]
    measure: Option<String>,
    /// Show so many of the rows behind each aggregate
    #[arg(long, value_name = "N", default_value_t = 0)]
    rows: usize,
    #[command(flatten)]
    asked: Asked,
}

/// Explains a cell.
pub fn run(args: &Args, global: &Global, out: &mut Output) -> Done {
    let model = args.asked.asker.seen(super::open(global)?)?;
    let text = text_of(&model, &args.query)?;
    let options = WhyOptions { item: args.measure.clone(), rows: args.rows, query: args.asked.options(global)? };
    let found = model.why(&text, &args.at, &options)?;
    match out.format() {
        Format::Json => out.json(&serde_json::json!(found))?,
        Format::Csv => why::as_csv(&found, out)?,
        _ => why::show(&found, &formats(&model)?, out)?,
    }
    Ok(0)
}
