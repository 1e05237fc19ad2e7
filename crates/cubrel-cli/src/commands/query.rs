//! `cubrel query`

use std::io::Read;
use std::time::Instant;

use cubrel::Formats;
use cubrel::Model;

use super::asked::Asked;
use crate::args::Global;
use crate::failure::{Done, Failure};
use crate::format::Format;
use crate::output::{Output, grid, listing, problems};

/// Arguments of `query`.
#[derive(clap::Args, Debug)]
#[command(
    after_help = "Examples:\n  cubrel query 'grid net_revenue by port.region split by calendar.year totals'\n  cubrel query revenue_by_region\n  cubrel query 'grid bookings by route.name where calendar.year in ($years)' --set years=2025,2026\n  echo 'grid bookings' | cubrel query - --format json\n  cubrel query routes --format xlsx --output routes.xlsx\n  cubrel query routes --watch\n  cubrel query                                  lists what can be asked\n  cubrel query --shortlist front_desk           the same, but for what is on a shorter list"
)]
pub struct Args {
    /// A query, the name of a saved one, or `-` for standard input; without one, what can be asked is listed
    query: Option<String>,
    /// List only what is on a shortlist of the model, and say what a query names besides
    #[arg(long, value_name = "NAME")]
    shortlist: Option<String>,
    #[command(flatten)]
    asked: Asked,
    /// In CSV: values as people read them
    #[arg(long)]
    formatted: bool,
    /// Draw bars beside the numbers
    #[arg(long)]
    bars: bool,
    /// Ask again whenever the model or its data changes
    #[arg(long)]
    watch: bool,
}

/// Runs a query.
pub fn run(args: &Args, global: &Global, out: &mut Output) -> Done {
    if args.watch {
        return super::watch::again(global, |out| once(args, global, out));
    }
    once(args, global, out)
}

fn once(args: &Args, global: &Global, out: &mut Output) -> Done {
    let model = args.asked.asker.seen(super::open(global)?)?;
    let short = args.shortlist.as_deref().map(|name| model.catalog().shortlist(name)).transpose()?;
    let Some(query) = &args.query else {
        return listing::write(&short.unwrap_or_else(|| model.catalog()), out);
    };
    let text = text_of(&model, query)?;
    let options = args.asked.options(global)?;
    let start = Instant::now();
    let query = model.query_with(&text, &options)?;
    let result = query.run()?;
    let elapsed = start.elapsed();
    problems::warn(query.warnings(), global);
    if let (Some(short), Some(name)) = (&short, &args.shortlist) {
        for item in model.catalog().not_on(short, &text) {
            problems::note(&format!("{item} is not on the shortlist {name}"), global);
        }
    }
    let formats = formats(&model)?;
    match out.format() {
        Format::Json => out.json(&result.to_json(elapsed))?,
        Format::Csv => grid::write_csv(&result, args.formatted.then_some(&formats), out)?,
        Format::Markdown => grid::write_markdown(&result, &formats, out)?,
        Format::Table => grid::show(&result, &formats, args.bars, out)?,
        Format::Jsonl => (0..result.lines.len()).try_for_each(|line| out.json(&result.line_to_json(line)))?,
        Format::Arrow => out.binary(&result.to_arrow_stream().map_err(cubrel::Error::from)?)?,
        Format::Parquet => out.binary(&result.to_parquet().map_err(cubrel::Error::from)?)?,
        Format::Xlsx => out.binary(&cubrel_workbook::workbook(&result, &formats, args.bars)?)?,
        Format::Dot | Format::Svg => {
            let help = "ask for one of the others: `cubrel query --help` lists them".into();
            return Err(Failure::Other("a grid is no graph".into(), help));
        }
    }
    Ok(0)
}

/// The text of a query, of a saved one, or of standard input.
pub fn text_of(model: &Model, query: &str) -> Result<String, Failure> {
    if query == "-" {
        return asked_for();
    }
    let catalog = model.catalog();
    let saved = &catalog.queries;
    if let Some(saved) = saved.iter().find(|saved| saved.name == query) {
        return Ok(saved.text.clone());
    }
    if !query.trim().is_empty() && query.chars().all(|c| c.is_alphanumeric() || c == '_') {
        let names: Vec<&str> = saved.iter().map(|saved| saved.name.as_str()).collect();
        let help = if catalog.measures.iter().any(|measure| measure.name == query) {
            format!("the measure is asked for with `grid {query}`")
        } else {
            cubrel::suggest(query, names.iter().copied()).unwrap_or_else(|| match names.as_slice() {
                [] => "a query begins with `grid`; the model has none that are saved".into(),
                names => format!("a query begins with `grid`; the saved ones are: {}", names.join(", ")),
            })
        };
        return Err(Failure::Other(format!("there is no saved query `{query}`"), help));
    }
    Ok(query.to_string())
}

/// The text that is given on standard input.
fn asked_for() -> Result<String, Failure> {
    const MOST: u64 = 64 << 20;
    let mut text = String::new();
    let read = std::io::stdin().take(MOST + 1).read_to_string(&mut text);
    let wrong = match read {
        Ok(_) if text.len() as u64 <= MOST => return Ok(text),
        Ok(_) => format!("it is longer than {}", cubrel::units::bytes(MOST)),
        Err(e) => e.to_string(),
    };
    Err(Failure::Other(format!("standard input cannot be read: {wrong}"), "give it UTF-8 text".into()))
}

/// How the model writes values.
pub fn formats(model: &Model) -> Result<Formats, Failure> {
    let catalog = model.catalog();
    Formats::new(catalog.locale.as_deref(), catalog.currency.as_deref())
        .map_err(|e| Failure::Other(e, "set `locale` in [model] to one such as `en-GB`".into()))
}
