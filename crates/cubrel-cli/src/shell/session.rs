//! What a line of the shell does.

use cubrel::catalog::Catalog;
use cubrel::units::counted;
use cubrel::why::WhyOptions;
use cubrel::{Formats, Grid, Model, QueryOptions, Value};

use crate::args::Global;
use crate::commands::asked::{Asked, parameters};
use crate::commands::query::formats;
use crate::commands::refresh_options;
use crate::commands::shell::Args;
use crate::failure::Failure;
use crate::output::grid_layout::layout;
use crate::output::{Output, Tone, grid, problems, profile, why};

const HELP: &[(&str, &str)] = &[
    ("grid …, records …", "a query; it may go on over several lines"),
    ("NAME", "a saved query"),
    ("\\why LINE COLUMN", "explain a cell of the last grid, by its line and column from 1"),
    ("\\time", "how long the last query takes, and why"),
    ("\\set NAME=VALUE", "give `$name` a value; `\\set` lists them, `\\set NAME=` takes one away"),
    ("\\bars", "draw bars beside numbers, or no more"),
    ("\\measures, \\tables, \\queries", "what there is"),
    ("\\about NAME", "what a name is"),
    ("\\reload", "read the model again"),
    ("\\help, \\quit", "this list, and the end"),
];

/// Rows that an explanation shows of each aggregate.
const ROWS: usize = 5;

/// What comes after a line.
pub(super) enum Next {
    Line,
    /// The model is another one.
    Model,
    End,
}

/// A model, and what was asked last.
pub(super) struct Session<'a> {
    pub(super) model: Model,
    asked: &'a Asked,
    shortlist: Option<&'a str>,
    global: &'a Global,
    pub(super) options: QueryOptions,
    formats: Formats,
    bars: bool,
    last: Option<(String, Grid)>,
}

impl<'a> Session<'a> {
    pub(super) fn new(model: Model, args: &'a Args, global: &'a Global) -> Result<Session<'a>, Failure> {
        let (asked, shortlist) = (&args.asked, args.shortlist.as_deref());
        let (options, formats) = (asked.options(global)?, formats(&model)?);
        shortlist.map(|name| model.catalog().shortlist(name)).transpose()?;
        Ok(Session { model, asked, shortlist, global, options, formats, bars: false, last: None })
    }

    /// What there is to look at.
    pub(super) fn catalog(&self) -> Catalog {
        let catalog = self.model.catalog();
        // A shortlist that is gone since shortens nothing.
        self.shortlist.and_then(|name| catalog.shortlist(name).ok()).unwrap_or(catalog)
    }

    pub(super) fn global(&self) -> &'a Global {
        self.global
    }

    pub(super) fn greet(&self) -> Result<(), Failure> {
        let catalog = self.catalog();
        let name = catalog.name.unwrap_or_else(|| "this model".into());
        let tables = counted(catalog.tables.len() as u64, "table");
        let measures = counted(catalog.measures.len() as u64, "measure");
        let text = format!("{name}: {tables}, {measures}. \\help lists what there is; Tab completes; Ctrl-D ends.");
        self.show(|out| out.sentence(Tone::Faint, &text))
    }

    /// Writes to the output at once.
    fn show(&self, write: impl FnOnce(&mut Output) -> Result<(), Failure>) -> Result<(), Failure> {
        let mut out = Output::new(self.global);
        write(&mut out)?;
        out.finish()
    }

    /// Does what a line says.
    pub(super) fn line(&mut self, line: &str) -> Result<Next, Failure> {
        let text = line.trim().trim_end_matches(';').trim();
        if text.is_empty() {
            return Ok(Next::Line);
        }
        let Some(command) = text.strip_prefix('\\') else {
            let saved = self.model.catalog().queries.into_iter().find(|q| q.name == text).map(|q| q.text);
            return self.query(&saved.unwrap_or_else(|| text.to_string())).map(|()| Next::Line);
        };
        let (word, rest) = command.split_once(char::is_whitespace).unwrap_or((command, ""));
        match word {
            "q" | "quit" | "exit" => return Ok(Next::End),
            "reload" => {
                let (model, _) = Model::open_with(&self.global.model, &refresh_options(self.global), &cubrel::Silent)?;
                self.model = self.asked.asker.seen(model)?;
                self.formats = formats(&self.model)?;
                return Ok(Next::Model);
            }
            "h" | "help" | "?" => self.help()?,
            "set" => self.set(rest)?,
            "bars" => self.bars = !self.bars,
            "why" => self.why(rest)?,
            "time" => self.time()?,
            "about" => self.about(rest.trim())?,
            "measures" | "tables" | "queries" => self.list(word)?,
            other => {
                let known =
                    ["quit", "reload", "help", "set", "bars", "why", "time", "about", "measures", "tables", "queries"];
                let help = cubrel::suggest(other, known).unwrap_or_else(|| "`\\help` lists them".into());
                return Err(Failure::Other(format!("there is no command `\\{other}`"), help));
            }
        }
        Ok(Next::Line)
    }

    fn query(&mut self, text: &str) -> Result<(), Failure> {
        let query = self.model.query_with(text, &self.options)?;
        let result = query.run()?;
        problems::warn(query.warnings(), self.global);
        self.show(|out| grid::show(&result, &self.formats, self.bars, out))?;
        self.last = Some((text.to_string(), result));
        Ok(())
    }

    fn last(&self) -> Result<&(String, Grid), Failure> {
        let help = || "ask a query first".to_string();
        self.last.as_ref().ok_or_else(|| Failure::Other("there is no last grid".into(), help()))
    }

    fn help(&self) -> Result<(), Failure> {
        let widest = HELP.iter().map(|(what, _)| what.chars().count()).max().unwrap_or(0);
        self.show(|out| {
            HELP.iter().try_for_each(|(what, does)| {
                let fill = " ".repeat(widest - what.chars().count());
                let what = out.paint(Tone::Total, what);
                out.text(&format!("{what}{fill}  {does}\n"))
            })
        })
    }

    fn set(&mut self, pair: &str) -> Result<(), Failure> {
        let pair = pair.trim();
        if pair.is_empty() {
            let mut names: Vec<(&String, &Vec<Value>)> = self.options.parameters.iter().collect();
            names.sort_by_key(|(name, _)| *name);
            return self.show(|out| {
                names.iter().try_for_each(|(name, values)| {
                    let values: Vec<String> = values.iter().map(ToString::to_string).collect();
                    out.text(&format!("${name} = {}\n", values.join(", ")))
                })
            });
        }
        match pair.strip_suffix('=') {
            Some(name) => drop(self.options.parameters.remove(name.trim().trim_start_matches('$'))),
            None => self.options.parameters.extend(parameters(&[pair.to_string()])?),
        }
        Ok(())
    }

    /// Explains the cell of the last grid that stands in a line and a column, both from 1.
    fn why(&self, place: &str) -> Result<(), Failure> {
        let (text, grid) = self.last()?;
        let numbers: Vec<usize> = place.split_whitespace().filter_map(|n| n.parse().ok()).collect();
        let wrong = |message: &str| {
            let help = "`\\why 3 2` is the third line, and the second column of figures".to_string();
            Failure::Other(message.to_string(), help)
        };
        let (row, column) = match numbers.as_slice() {
            [row, column] => (*row, *column),
            [row] => (*row, 1),
            _ => return Err(wrong("a cell has a line and a column")),
        };
        let layout = layout(grid, &self.formats);
        let block = column.checked_sub(1).and_then(|i| layout.columns.get(i));
        let block = block.ok_or_else(|| wrong("the last grid has no such column"))?;
        let line = row.checked_sub(1).and_then(|i| block.lines.get(i)).copied().flatten();
        let line = line.ok_or_else(|| wrong("the last grid has no such line, or nothing stands there"))?;
        let item = grid.columns.get(block.item).map(|c| c.name.clone());
        let options = WhyOptions { query: self.options.clone(), item, rows: ROWS };
        let place = grid.place(line).ok_or_else(|| wrong("the rest of a limit is no cell by itself"))?;
        let explained = self.model.why(text, &place, &options)?;
        self.show(|out| why::show(&explained, &self.formats, out))
    }

    fn time(&self) -> Result<(), Failure> {
        let (text, _) = self.last()?;
        let (found, _) = self.model.profile(text, &self.options, 7)?;
        self.show(|out| profile::show(&found, out))
    }

    fn about(&self, name: &str) -> Result<(), Failure> {
        let told = cubrel::describe(&self.model.catalog(), name);
        let told = told.ok_or_else(|| {
            Failure::Other(format!("nothing is called `{name}`"), "name a measure, `table.column` or a function".into())
        })?;
        self.show(|out| out.text(&format!("{told}\n")))
    }

    fn list(&self, what: &str) -> Result<(), Failure> {
        let catalog = self.catalog();
        let with = |name: &str, about: &Option<String>| match about {
            Some(about) => format!("{name}  ({about})"),
            None => name.to_string(),
        };
        let lines: Vec<String> = match what {
            "measures" => catalog.measures.iter().filter(|m| !m.hidden).map(|m| with(&m.name, &m.label)).collect(),
            "tables" => catalog.tables.iter().map(|t| with(&t.name, &t.note)).collect(),
            _ => catalog.queries.iter().map(|q| with(&q.name, &q.note)).collect(),
        };
        self.show(|out| lines.iter().try_for_each(|line| out.text(&format!("{line}\n"))))
    }
}
