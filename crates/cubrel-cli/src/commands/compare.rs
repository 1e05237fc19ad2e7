//! `cubrel compare`

use crate::output::formula_comparison;
use std::path::{Path, PathBuf};

use cubrel::Model;
use cubrel::formula_comparison::FormulaPair;
use serde_json::json;

use super::asked::Asked;
use super::{refresh_options, revision};
use crate::args::Global;
use crate::failure::{Done, Failure};
use crate::format::Format;
use crate::output::progress::Progress;
use crate::output::{self, Output, sizes};

/// Arguments of `compare`.
#[derive(clap::Args, Debug)]
#[command(
    after_help = "Examples:\n  cubrel compare --measure customers --with 'count(distinct booking.customer_id)' --by port.region\n  cubrel compare ferries ferries-small\n  cubrel compare ferries ferries-small --only routes --runs 20\n  cubrel compare ferries ferries-small --sizes\n  cubrel compare a b --sizes --format json\n\n  cubrel compare . --revision HEAD~1          the model as it was, on today's data\n\nTwo models are asked their saved queries and the totals of their measures.\n\nExit code 1: the numbers differ."
)]
pub struct Args {
    /// One model
    #[arg(value_name = "A", required_unless_present = "measure", conflicts_with = "measure")]
    a: Option<PathBuf>,
    /// Another model
    #[arg(value_name = "B")]
    b: Option<PathBuf>,
    /// Compare with the model as it was in this revision of git, on today's data
    #[arg(long, value_name = "REV", requires = "a", conflicts_with_all = ["b", "measure"])]
    revision: Option<String>,
    /// Compare what the columns of two models weigh, not what they answer
    #[arg(long, requires = "a")]
    sizes: bool,
    /// Ask two models only this saved query or measure; may be repeated
    #[arg(long, value_name = "NAME", requires = "a", conflicts_with = "sizes")]
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
    match (&args.measure, &args.with, &args.a, &args.b, &args.revision) {
        (Some(measure), Some(with), ..) => formulas(args, measure, with, global, out),
        (_, _, Some(a), Some(b), _) => {
            let names = [a, b].map(|path| path.display().to_string());
            two(args, names, [opened(a, global)?, opened(b, global)?], global, out)
        }
        (_, _, Some(a), _, Some(revision)) => {
            let names = [revision.clone(), a.display().to_string()];
            let now = opened(a, global)?;
            two(args, names, [as_it_was(a, revision, global)?, now], global, out)
        }
        (_, _, Some(_), None, None) => {
            let help = "name a second model, or `--revision HEAD` for this one as it was committed";
            Err(Failure::Other("there is one model and nothing to compare it with".into(), help.into()))
        }
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

/// The model of a folder as it was in a revision, on what its sources have today.
fn as_it_was(path: &Path, revision: &str, global: &Global) -> Result<Model, Failure> {
    let was = revision::read(path, revision)?;
    let progress = Progress::new(global);
    let model = Model::open_text(&was.folder, &was.name, &was.text, &refresh_options(global), &progress)?;
    progress.finish();
    Ok(model)
}

fn two(args: &Args, names: [String; 2], [a, b]: [Model; 2], global: &Global, out: &mut Output) -> Done {
    let names = [names[0].as_str(), names[1].as_str()];
    if args.sizes {
        return weights(names, [&a, &b], out);
    }
    let changes = a.changes(&b);
    let (a, b) = (args.asked.asker.seen(a)?, args.asked.asker.seen(b)?);
    let comparison = a.compare(&b, &args.only, &args.asked.options(global)?, args.runs as usize)?;
    match out.format() {
        Format::Json if args.revision.is_some() => {
            let mut json = json!(comparison);
            json["changes"] = json!(changes);
            out.json(&json)?;
        }
        Format::Json => out.json(&json!(comparison))?,
        Format::Csv => output::model_comparison::flat(&comparison).write_csv(out)?,
        _ => {
            if args.revision.is_some() {
                output::model_comparison::show_changes(&changes, out)?;
            }
            output::model_comparison::show(names, &comparison, out)?;
        }
    }
    Ok(u8::from(!comparison.agree()))
}

fn weights(names: [&str; 2], [a, b]: [&Model; 2], out: &mut Output) -> Done {
    let (a, b) = (a.sizes(), b.sizes());
    match out.format() {
        Format::Json => out.json(&json!({"a": a, "b": b}))?,
        Format::Csv => sizes::differences(["a", "b"], &a, &b, false).write_csv(out)?,
        _ => sizes::differences(names, &a, &b, true).write(out)?,
    }
    Ok(0)
}
