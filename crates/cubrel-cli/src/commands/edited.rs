//! What the commands that change `model.toml` share: whether they do, and what they show.

use cubrel::{EditOptions, ModelEdit};
use serde_json::json;

use super::refresh_options;
use crate::args::Global;
use crate::failure::{Done, Failure};
use crate::format::Format;
use crate::output::table::TextTable;
use crate::output::text::Align;
use crate::output::{Output, Tone, problems};

/// How the file is changed.
#[derive(clap::Args, Debug)]
pub struct How {
    /// Show what would change, and write nothing
    #[arg(long)]
    pub dry_run: bool,
    /// Take back the last change that `rename`, `remove` or `advise` has written; again, the one before it
    #[arg(long)]
    pub undo: bool,
}

impl How {
    /// As the library takes it.
    pub fn options(&self, global: &Global) -> EditOptions {
        EditOptions { dry_run: self.dry_run, refresh: refresh_options(global) }
    }
}

/// Shows a change; exit code 2 where it was refused.
pub fn show(edit: &ModelEdit, global: &Global, out: &mut Output) -> Done {
    match out.format() {
        Format::Json => out.json(&json!(edit))?,
        Format::Csv => table(edit).write_csv(out)?,
        _ if edit.refused.is_empty() => made(edit, global, out)?,
        _ => refused(edit, out)?,
    }
    Ok(if edit.refused.is_empty() { 0 } else { 2 })
}

fn made(edit: &ModelEdit, global: &Global, out: &mut Output) -> Result<(), Failure> {
    for line in edit.diff("model.toml").lines() {
        let tone = match line.chars().next() {
            Some('+') => Tone::Added,
            Some('-') => Tone::Gone,
            Some('@') => Tone::Head,
            _ => Tone::Plain,
        };
        let line = out.paint(tone, line.trim_end());
        out.text(&format!("{line}\n"))?;
    }
    let proof = match edit.proved {
        0 => String::new(),
        1 => "; the one saved query or measure gives what it gave".into(),
        n => format!("; all {n} saved queries and measures give what they gave"),
    };
    let done = if edit.written { "done" } else { "not written" };
    problems::note(&format!("cubrel: {}: {done}{proof}", edit.what), global);
    Ok(())
}

fn refused(edit: &ModelEdit, out: &mut Output) -> Result<(), Failure> {
    out.sentence(Tone::Alert, &format!("refused: {}", edit.what))?;
    out.text("\n")?;
    let mut table =
        TextTable::new(&[("against it", Align::Left), ("line", Align::Right), ("why", Align::Left)]).wrapped_in(2);
    for refusal in &edit.refused {
        let line = refusal.line.map(|line| line.to_string()).unwrap_or_default();
        table.row(vec![refusal.name.clone(), line, refusal.why.clone()]);
    }
    table.write(out)
}

fn table(edit: &ModelEdit) -> TextTable {
    let heads = ["line", "before", "after", "name", "refused"];
    let mut table = TextTable::new(&heads.map(|h| (h, if h == "line" { Align::Right } else { Align::Left })));
    let text = |text: &Option<String>| text.clone().unwrap_or_default();
    for line in &edit.changed {
        let cells = [line.line.to_string(), text(&line.before), text(&line.after), String::new(), String::new()];
        table.row(cells.to_vec());
    }
    for refusal in &edit.refused {
        let line = refusal.line.map(|line| line.to_string()).unwrap_or_default();
        table.row(vec![line, String::new(), String::new(), refusal.name.clone(), refusal.why.clone()]);
    }
    table
}
