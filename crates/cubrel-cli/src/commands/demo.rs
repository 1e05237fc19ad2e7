//! `cubrel demo`

use std::path::PathBuf;

use cubrel::profile::Profile;
use cubrel::{Grid, Model, RefreshReport};
use serde_json::json;

use super::refresh_options;
use crate::args::Global;
use crate::demo;
use crate::failure::{Done, Failure};
use crate::format::Format;
use crate::output::progress::Progress;
use crate::output::{Output, grid, profile, sizes};

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
        return Err(Failure::Other(
            format!("{} already holds a model", args.dir.display()),
            "name a folder that does not exist yet".into(),
        ));
    }
    let odd =
        demo::write(&args.dir, args.rows).map_err(|error| cubrel::Error::io(args.dir.display().to_string(), error))?;
    let progress = Progress::new(global);
    let (model, report) = Model::refresh(&args.dir, &refresh_options(global), &progress)?;
    progress.finish();
    let (profile, result) = model.profile(TOUR, &Default::default(), 5)?;
    let tour = Tour { args, odd: &odd, report: &report, profile: &profile, grid: &result, model: &model };
    match out.format() {
        Format::Json => out.json(&tour.as_json())?,
        Format::Csv => grid::write_csv(&result, None, out)?,
        _ => tour.show(out)?,
    }
    Ok(0)
}

/// What the tour shows.
struct Tour<'a> {
    args: &'a Args,
    odd: &'a demo::Oddities,
    report: &'a RefreshReport,
    profile: &'a Profile,
    grid: &'a Grid,
    model: &'a Model,
}

impl Tour<'_> {
    fn as_json(&self) -> serde_json::Value {
        let elapsed = std::time::Duration::from_secs_f64(self.profile.warm.median_ms / 1e3);
        json!({
            "folder": self.args.dir,
            "bookings": self.args.rows,
            "odd_rows": self.odd,
            "refresh": super::refresh::as_json(self.report),
            "query": self.grid.to_json(elapsed),
            "time": self.profile,
            "size": self.model.sizes(),
        })
    }

    fn show(&self, out: &mut Output) -> Result<(), Failure> {
        let (dir, odd) = (self.args.dir.display(), self.odd);
        out.heading(&format!("1. The demo model in {dir}"))?;
        out.text(&format!(
            "{} bookings in one CSV file a year, sailings, and nine dimension tables.\n\
             Hidden among the bookings, as in real data: {} with a route that does not exist, {} with a customer that\n\
             does not exist, {} without a customer, {} without a concession, {} lines that stand twice.\n",
            self.args.rows, odd.orphan_routes, odd.orphan_customers, odd.no_customer, odd.no_concession, odd.repeated
        ))?;
        out.heading("2. Loaded: cubrel refresh")?;
        super::refresh::show(self.report, out)?;
        out.heading(&format!("3. A grid: cubrel query '{TOUR}'"))?;
        grid::show(self.grid, &super::query::formats(self.model)?, false, out)?;
        out.heading(&format!("4. Its time: cubrel time '{TOUR}'"))?;
        profile::show(self.profile, out)?;
        out.heading("5. Its bytes: cubrel size --flat")?;
        sizes::show_flat(&self.model.sizes(), sizes::Sort::Bytes, Some(8), out)?;
        out.heading("Next")?;
        out.text(&format!(
            "cubrel -m {dir} query routes\n\
             cubrel -m {dir} query 'grid bookings, load_factor by calendar.month_name split by calendar.year'\n\
             cubrel -m {dir} size\n\
             cubrel functions\n"
        ))
    }
}
