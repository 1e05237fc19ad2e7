//! `cubrel test`

use std::path::PathBuf;
use std::time::Duration;

use cubrel::expectations::{Expectation, Tested};
use quick_junit::{NonSuccessKind, Report, TestCase, TestCaseStatus, TestSuite};
use serde_json::json;

use super::asked::Asked;
use crate::args::Global;
use crate::failure::{Done, Failure};
use crate::format::Format;
use crate::output::{Output, tested};

/// Arguments of `test`.
#[derive(clap::Args, Debug)]
#[command(after_help = "Examples:
  cubrel test
  cubrel test --as north_desk
  cubrel test --junit report.xml

What is expected stands in `model.toml`:
  [[expect]]
  query = 'grid net_revenue by port.region'
  rows = [['North Sound', 120345.50], ['Middle Reach', 98211.00]]
  tolerance = 0.005
  [[expect]]
  same = ['net_revenue', 'sum(booking.gross) - sum(booking.concession)']
  by = ['route.name', 'calendar.month']
  [[expect]]
  unique = 'booking.booking_ref'
  [[expect]]
  no_orphans = 'booking.route_id'
  [[expect]]
  fresh = 'booking.sailed_on'
  within = '3 days'

Exit code 1: one of them does not hold.")]
pub struct Args {
    /// Also write the results to this file, as JUnit XML
    #[arg(long, value_name = "FILE")]
    junit: Option<PathBuf>,
    #[command(flatten)]
    asked: Asked,
}

/// Holds the model against its expectations.
pub fn run(args: &Args, global: &Global, out: &mut Output) -> Done {
    let model = args.asked.asker.seen(super::open(global)?)?;
    let found = model.test(&args.asked.options(global)?)?;
    match out.format() {
        Format::Json => out.json(&json!(found))?,
        Format::Csv => tested::flat(&found).write_csv(out)?,
        _ => tested::show(&found, out)?,
    }
    if let Some(path) = &args.junit {
        let name = model.catalog().name.unwrap_or_else(|| "model".into());
        let written = report(&name, &found).to_string().map_err(|e| e.to_string());
        let written = written.and_then(|text| std::fs::write(path, text).map_err(|e| e.to_string()));
        written.map_err(|e| {
            let help = "name a file in a folder that exists and can be written".into();
            Failure::Other(format!("{} cannot be written: {e}", path.display()), help)
        })?;
    }
    Ok(u8::from(found.failed > 0))
}

/// The results as servers that build and test read them.
fn report(name: &str, found: &Tested) -> Report {
    let mut suite = TestSuite::new(name);
    for expectation in &found.expectations {
        let mut case = TestCase::new(expectation.name.as_str(), status(expectation));
        case.set_classname(format!("{name}.{}", expectation.kind));
        case.set_time(Duration::try_from_secs_f64(expectation.seconds).unwrap_or_default());
        suite.add_test_case(case);
    }
    let mut report = Report::new("cubrel test");
    report.add_test_suite(suite);
    report
}

fn status(expectation: &Expectation) -> TestCaseStatus {
    let failed = |kind, message: &str, text: String| {
        let mut status = TestCaseStatus::non_success(kind);
        status.set_message(message).set_description(text);
        status
    };
    match &expectation.error {
        _ if expectation.passed => TestCaseStatus::success(),
        Some(error) => failed(NonSuccessKind::Error, error.lines().next().unwrap_or_default(), error.clone()),
        None => {
            let lines: Vec<String> = expectation.differences.iter().map(tested::in_words).collect();
            failed(NonSuccessKind::Failure, lines.first().map_or("", String::as_str), lines.join("\n"))
        }
    }
}
