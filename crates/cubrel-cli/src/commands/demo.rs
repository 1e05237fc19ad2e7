//! `cubrel demo`

use std::path::PathBuf;

use cubrel::Model;

use super::{Done, refresh_options};
use crate::output::progress::Progress;
use crate::output::{Output, grid, sizes, times};
use crate::{Global, demo};

/// Arguments of `demo`.
#[derive(clap::Args, Debug)]
#[command(after_help = "Examples:\n  cubrel demo ferries\n  cubrel demo /tmp/large --rows 5000000")]
pub struct Args {
    /// The folder to write; it must not hold another model
    dir: PathBuf,
    /// How many bookings
    #[arg(long, default_value_t = 200_000, value_name = "N", value_parser = clap::value_parser!(u64).range(1..=50_000_000))]
    rows: u64,
}

/// The grid that the tour ends with.
const TOUR: &str = "grid net_revenue by port.region split by calendar.year totals";

/// Writes the demo, loads it, and shows a grid, its time and its bytes.
pub fn run(args: &Args, global: &Global, out: &mut Output) -> Done {
    let ours = args.dir.join("data").join("booking-2024.csv");
    if args.dir.join("model.toml").exists() && !ours.exists() {
        return Err(super::Failure::Other(
            format!("{} already holds a model", args.dir.display()),
            "name a folder that does not exist yet".into(),
        ));
    }
    out.heading(&format!("1. The demo model in {}", args.dir.display()))?;
    let odd = demo::write(&args.dir, args.rows)
        .map_err(|error| cubrel::Error::Io { path: args.dir.display().to_string(), error })?;
    out.text(&format!(
        "{} bookings in one CSV file a year, sailings, and eight describing tables.\n\
         Hidden among the bookings, as in real data: {} with a route that does not exist, {} with a customer that\n\
         does not exist, {} without a customer, {} without a concession, {} lines that stand twice.\n",
        args.rows, odd.orphan_routes, odd.orphan_customers, odd.no_customer, odd.no_concession, odd.repeated
    ))?;
    let progress = Progress::new(global);
    let (model, report) = Model::refresh(&args.dir, &refresh_options(global), &progress)?;
    progress.finish();
    out.heading("2. Loaded: cubrel refresh")?;
    super::refresh::show(&report, out)?;
    out.heading(&format!("3. A grid: cubrel query '{TOUR}'"))?;
    let (timed, result) = cubrel::insight::timed::timed(&model, TOUR, &Default::default(), 5)?;
    grid::show(&result, &super::query::formats(&model)?, out)?;
    out.heading(&format!("4. Its time: cubrel time '{TOUR}'"))?;
    times::show(&timed, out)?;
    out.heading("5. Its bytes: cubrel size --flat")?;
    sizes::show_flat(&model.sizes(), sizes::Sort::Bytes, Some(8), out)?;
    let dir = args.dir.display();
    out.heading("Next")?;
    out.text(&format!(
        "cubrel -m {dir} query routes\n\
         cubrel -m {dir} query 'grid bookings, load_factor by calendar.month_name split by calendar.year'\n\
         cubrel -m {dir} size\n\
         cubrel functions\n"
    ))?;
    Ok(0)
}
