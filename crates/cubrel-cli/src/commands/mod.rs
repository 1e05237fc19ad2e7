//! One module a command.

pub mod about;
pub mod advise;
pub mod asked;
pub mod check;
pub mod compare;
pub mod demo;
pub mod draft;
pub mod edited;
pub mod functions;
pub mod lsp;
pub mod other;
pub mod query;
pub mod refresh;
pub mod remove;
pub mod rename;
pub mod report;
pub mod revision;
pub mod shell;
pub mod size;
pub mod test;
pub mod time;
pub mod uses;
pub mod watch;
pub mod why;

use crate::failure::{Done, Failure};
use cubrel::{Model, RefreshOptions, RefreshReport};

use crate::args::Global;
use crate::output::problems;
use crate::output::progress::Progress;

/// How to refresh, from the global options.
pub fn refresh_options(global: &Global) -> RefreshOptions {
    RefreshOptions { today: global.today, ..RefreshOptions::default() }
}

/// Opens the model; says so when the sources had to be read first.
pub fn open(global: &Global) -> Result<Model, Failure> {
    let progress = Progress::new(global);
    let (model, report) = Model::open_with(&global.model, &refresh_options(global), &progress)?;
    progress.finish();
    if let Some(report) = report {
        say_refreshed(&report, global);
    }
    say_outdated(&model, global);
    say_unkept(&model, global);
    Ok(model)
}

/// Whether there is a model where one is named.
pub fn has_model(global: &Global) -> bool {
    global.model.join("model.toml").exists() || global.model.is_file()
}

/// That the data is older than the sources, which could not be read.
pub fn say_outdated(model: &Model, global: &Global) {
    let Some(why) = model.outdated() else { return };
    let why = match why.problems() {
        [] => why.to_string(),
        [first, ..] => first.message.clone(),
    };
    let why = why.lines().next().unwrap_or_default().trim_end_matches(':');
    problems::note(
        &format!("cubrel: the sources cannot be read, so this is the data of the last refresh: {why}"),
        global,
    );
}

/// That the sources are read each time, because there is no store.
fn say_unkept(model: &Model, global: &Global) {
    if let Some(why) = model.unkept() {
        problems::note(
            &format!("cubrel: the store cannot be written, so the sources are read each time: {why}"),
            global,
        );
    }
}

/// How many measures cannot be used.
pub fn say_wrong_measures(model: &Model, global: &Global) {
    let text = match model.wrong_measures() {
        [] => return,
        [_] => "cubrel: 1 formula of a measure is wrong: `cubrel check` shows it".to_string(),
        many => format!("cubrel: {} formulas of measures are wrong: `cubrel check` shows them", many.len()),
    };
    problems::note(&text, global);
}

/// Runs a command; once more, with a store that is made anew, where the old one is found to be damaged on the way.
pub fn recovering(global: &Global, mut command: impl FnMut() -> Done) -> Done {
    match command() {
        Err(Failure::Model(cubrel::Error::Damaged(what))) => {
            tracing::warn!("the store is made again, it is damaged: {what}");
            make_again(global)?;
            command()
        }
        done => done,
    }
}

/// Reads the sources again where the store is not what was written.
fn make_again(global: &Global) -> Result<(), Failure> {
    let progress = Progress::new(global);
    Model::refresh(&global.model, &refresh_options(global), &progress)?;
    progress.finish();
    Ok(())
}

fn say_refreshed(report: &RefreshReport, global: &Global) {
    let read: Vec<&str> =
        report.tables.iter().filter(|t| t.read && t.origin == "source").map(|t| t.table.as_str()).collect();
    let what = match read.as_slice() {
        [] => "calculated columns again".to_string(),
        tables => format!("read {}", tables.join(", ")),
    };
    let seconds = report.elapsed.as_secs_f64();
    let text = format!("cubrel: the store was older than the model or its sources; {what} in {seconds:.1} s");
    problems::note(&text, global);
}
