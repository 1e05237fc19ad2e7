//! `cubrel compare`

use crate::output::formula_comparison;
use std::path::{Path, PathBuf};

use cubrel::Model;
use cubrel::formula_comparison::FormulaPair;
use serde_json::json;

use super::asked::Asked;
use super::refresh_options;
use crate::args::Global;
use crate::failure::{Done, Failure};
use crate::format::Format;
use crate::output::progress::Progress;
use crate::output::{self, Output, sizes};

/// Arguments of `compare`.
#[derive(clap::Args, Debug)]
#[command(
    after_help = "Examples:\n  cubrel compare --measure customers --with 'count(distinct booking.customer_id)' --by port.region\n  cubrel compare ferries ferries-small\n  cubrel compare ferries ferries-small --only routes --runs 20\n  cubrel compare ferries ferries-small --sizes\n  cubrel compare a b --sizes --format json\n\nTwo models are asked their saved queries and the totals of their measures.\n\nExit code 1: the numbers differ."
)]
pub struct Args {
    /// One model
    #[arg(value_name = "A", requires = "b", required_unless_present = "measure", conflicts_with = "measure")]
    a: Option<PathBuf>,
    /// Another model
    #[arg(value_name = "B")]
    b: Option<PathBuf>,
    /// Compare what the columns of two models weigh, not what they answer
    #[arg(long, requires = "b")]
    sizes: bool,
    /// Ask two models only this saved query or measure; may be repeated
    #[arg(long, value_name = "NAME", requires = "b", conflicts_with = "sizes")]
    only: Vec<String>,
    /// What `--only` was called
    #[arg(long, value_name = "NAME", hide = true)]
    question: Option<String>,
    /// A measure, or any formula
    #[arg(long, value_name = "MEASURE", requires = "with")]
    measure: Option<String>,
    /// The formula to hold against it
    #[arg(long, value_name = "FORMULA", requires = "measure")]
    with: Option<String>,
    /// Compare by these columns: in every cell and total
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
    if let Some(name) = &args.question {
        return Err(Failure::Other("there is no `--question`".into(), format!("write `--only {name}`")));
    }
    match (&args.measure, &args.with, &args.a, &args.b) {
        (Some(measure), Some(with), ..) => formulas(args, measure, with, global, out),
        (_, _, Some(a), Some(b)) if args.sizes => weights(a, b, global, out),
        (_, _, Some(a), Some(b)) => models(args, a, b, global, out),
        _ => Err(Failure::Other("there is nothing to compare".into(), "see `cubrel compare --help`".into())),
    }
}

fn formulas(args: &Args, measure: &str, with: &str, global: &Global, out: &mut Output) -> Done {
    let model = args.asked.asker.seen(super::open(global)?)?;
    let pair = FormulaPair {
        measure: measure.into(),
        with: with.into(),
        by: args.by.clone().unwrap_or_default(),
        filter: args.filter.clone().unwrap_or_default(),
    };
    let comparison = model.compare_formulas(&pair, &args.asked.options(global)?, args.runs as usize)?;
    match out.format() {
        Format::Json => out.json(&json!(comparison))?,
        Format::Csv => formula_comparison::flat(&pair, &comparison).write_csv(out)?,
        _ => formula_comparison::show(&pair, &comparison, out)?,
    }
    Ok(u8::from(comparison.differing > 0))
}

fn opened(path: &Path, global: &Global) -> Result<Model, Failure> {
    let progress = Progress::new(global);
    let (model, _) = Model::open_with(path, &refresh_options(global), &progress)?;
    progress.finish();
    super::say_outdated(&model, global);
    Ok(model)
}

fn models(args: &Args, a: &Path, b: &Path, global: &Global, out: &mut Output) -> Done {
    let names = [a.display().to_string(), b.display().to_string()];
    let names = [names[0].as_str(), names[1].as_str()];
    let (a, b) = (args.asked.asker.seen(opened(a, global)?)?, args.asked.asker.seen(opened(b, global)?)?);
    let comparison = a.compare(&b, &args.only, &args.asked.options(global)?, args.runs as usize)?;
    match out.format() {
        Format::Json => out.json(&json!(comparison))?,
        Format::Csv => output::model_comparison::flat(&comparison).write_csv(out)?,
        _ => output::model_comparison::show(names, &comparison, out)?,
    }
    Ok(u8::from(!comparison.agree()))
}

fn weights(a: &Path, b: &Path, global: &Global, out: &mut Output) -> Done {
    let names = [a.display().to_string(), b.display().to_string()];
    let (a, b) = (opened(a, global)?.sizes(), opened(b, global)?.sizes());
    match out.format() {
        Format::Json => out.json(&json!({"a": a, "b": b}))?,
        Format::Csv => sizes::differences(["a", "b"], &a, &b, false).write_csv(out)?,
        _ => sizes::differences([&names[0], &names[1]], &a, &b, true).write(out)?,
    }
    Ok(0)
}
