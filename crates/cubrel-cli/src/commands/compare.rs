//! `cubrel compare`

use std::path::{Path, PathBuf};

use cubrel::Model;
use cubrel::insight::rival::{Contest, compared};
use cubrel::insight::twins::twins;
use serde_json::json;

use super::asked::Asked;
use super::{Done, Failure, refresh_options};
use crate::Global;
use crate::output::progress::Progress;
use crate::output::{self, Format, Output, rivals, sizes};

/// Arguments of `compare`.
#[derive(clap::Args, Debug)]
#[command(
    after_help = "Examples:\n  cubrel compare --measure best_month --with 'max(net_revenue per (calendar.year, calendar.month))' --by route.name\n  cubrel compare ferries ferries-small\n  cubrel compare ferries ferries-small --question revenue --runs 20\n  cubrel compare ferries ferries-small --sizes\n  cubrel compare a b --sizes --format json\n\nTwo models are asked their saved queries and the totals of their measures.\n\nExit code 1: the numbers differ."
)]
pub struct Args {
    /// One model
    #[arg(value_name = "A", requires = "b", required_unless_present = "measure", conflicts_with = "measure")]
    a: Option<PathBuf>,
    /// Another model
    #[arg(value_name = "B")]
    b: Option<PathBuf>,
    /// What the columns of two models weigh, in place of what they answer
    #[arg(long, requires = "b")]
    sizes: bool,
    /// Ask two models this only: a saved query or a measure; can be given several times
    #[arg(long, value_name = "NAME", requires = "b", conflicts_with = "sizes")]
    question: Vec<String>,
    /// A measure, or any formula
    #[arg(long, value_name = "MEASURE", requires = "with")]
    measure: Option<String>,
    /// The formula to hold against it
    #[arg(long, value_name = "FORMULA", requires = "measure")]
    with: Option<String>,
    /// The axes on whose cells and totals the numbers have to be the same
    #[arg(long, value_name = "COLUMNS", requires = "measure")]
    by: Option<String>,
    /// A filter on both
    #[arg(long = "where", value_name = "FILTER", requires = "measure")]
    filter: Option<String>,
    /// How many warm runs of each
    #[arg(long, default_value_t = 7, value_name = "N", value_parser = clap::value_parser!(u64).range(1..=10_000))]
    runs: u64,
    #[command(flatten)]
    asked: Asked,
}

/// Shows two formulas or two models side by side.
pub fn run(args: &Args, global: &Global, out: &mut Output) -> Done {
    match (&args.measure, &args.with, &args.a, &args.b) {
        (Some(measure), Some(with), ..) => formulas(args, measure, with, global, out),
        (_, _, Some(a), Some(b)) if args.sizes => weights(a, b, global, out),
        (_, _, Some(a), Some(b)) => models(args, a, b, global, out),
        _ => Err(Failure::Other("there is nothing to compare".into(), "see `cubrel compare --help`".into())),
    }
}

fn formulas(args: &Args, measure: &str, with: &str, global: &Global, out: &mut Output) -> Done {
    let model = super::open(global)?;
    let contest = Contest {
        measure: measure.into(),
        with: with.into(),
        by: args.by.clone().unwrap_or_default(),
        filter: args.filter.clone().unwrap_or_default(),
    };
    let rival = compared(&model, &contest, &args.asked.options(global)?, args.runs as usize)?;
    match out.format() {
        Format::Json => out.json(&json!(rival))?,
        Format::Csv => rivals::costs(&contest, &rival, false).write_csv(out)?,
        _ => rivals::show(&contest, &rival, out)?,
    }
    Ok(u8::from(rival.differing > 0))
}

fn opened(path: &Path, global: &Global) -> Result<Model, Failure> {
    let progress = Progress::new(global);
    let (model, _) = Model::open_with(path, &refresh_options(global), &progress)?;
    progress.finish();
    Ok(model)
}

fn models(args: &Args, a: &Path, b: &Path, global: &Global, out: &mut Output) -> Done {
    let names = [a.display().to_string(), b.display().to_string()];
    let names = [names[0].as_str(), names[1].as_str()];
    let (a, b) = (opened(a, global)?, opened(b, global)?);
    let twins = twins(&a, &b, &args.question, &args.asked.options(global)?, args.runs as usize)?;
    match out.format() {
        Format::Json => out.json(&json!(twins))?,
        Format::Csv => output::twins::table(names, &twins, false).write_csv(out)?,
        _ => output::twins::show(names, &twins, out)?,
    }
    Ok(u8::from(!twins.agree()))
}

fn weights(a: &Path, b: &Path, global: &Global, out: &mut Output) -> Done {
    let names = [a.display().to_string(), b.display().to_string()];
    let (a, b) = (opened(a, global)?.sizes(), opened(b, global)?.sizes());
    let table = |human| sizes::differences([names[0].as_str(), names[1].as_str()], &a, &b, human);
    match out.format() {
        Format::Json => out.json(&json!({"a": a, "b": b}))?,
        Format::Csv => table(false).write_csv(out)?,
        _ => table(true).write(out)?,
    }
    Ok(0)
}
