//! What would make a model smaller or its saved queries faster: each tried and measured, and made on request.
//!
//! * what nothing uses is left out, and what then is of no use
//! * rows in another order, which is measured by coding them again
//! * measures in another form that gives the same faster
//! * tables that stand there twice
//! * timestamps as a date and a time, floats of fewer digits, columns that could come with the source or weigh much, texts
//!   that belong into a table of their own, keys of very many values: measured, not made

mod shapes;

use std::collections::BTreeMap;
use std::path::Path;

use serde::Serialize;

use super::edit::{EditOptions, Editor, ModelEdit, Refusal, Renames};
use super::graph::Graph;
use super::remove::Removal;
use super::toml_edits::TomlEdits;
use super::unused;
use crate::insight::advice::faster_formulas;
use crate::{Error, Model, Observer, QueryOptions, Type};
use cubrel_formula::schema::{ColumnId, Computed, TableId};
use cubrel_formula::words::quote_name;
use cubrel_model::parts::{Part, PartKind};

/// Less than so much of a model is not worth a word: parts in a hundred, and bytes.
const WORTH_PERCENT: u64 = 1;
const WORTH_BYTES: u64 = 4096;
/// An order of rows has to save so much of a table, in parts of a hundred.
const ORDER_PERCENT: u64 = 10;
/// How many tables are tried in another order, and how many columns of each come first.
const ORDERED_TABLES: usize = 3;
const FIRST_COLUMNS: usize = 6;

/// What could be done, with what came of trying it.
#[derive(Clone, Debug, Default, Serialize)]
#[non_exhaustive]
pub struct Advice {
    /// One by one: first what can be taken, then what is for who makes the data; each by the bytes that it saves, then by
    /// the time.
    pub advice: Vec<Advised>,
}

/// Something that could be done.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Advised {
    /// By which it is taken.
    pub number: usize,
    /// `drop`, `order`, `formula` and `copy` change the file; `heavy`, `split`, `load`, `precision`, `table` and `keys` are for
    /// who makes the data.
    pub kind: &'static str,
    /// What it is about.
    pub name: String,
    /// In a sentence.
    pub says: String,
    /// Bytes of the model before, where it is about bytes.
    pub bytes_before: Option<u64>,
    /// Bytes of the model after.
    pub bytes_after: Option<u64>,
    /// Milliseconds of the saved query before, where it is about time.
    pub ms_before: Option<f64>,
    /// Milliseconds after.
    pub ms_after: Option<f64>,
    /// Whether every saved query and measure gave the same; nothing where that was not tried.
    pub same_numbers: Option<bool>,
    /// The change of the model's file; nothing where it is none.
    pub change: Option<String>,
    /// The text of the file with the change.
    #[serde(skip)]
    text: Option<String>,
    /// Whether the change is one of loading, so that only reading the sources again proves it.
    #[serde(skip)]
    by_reload: bool,
}

impl Advised {
    fn of_bytes(kind: &'static str, name: String, says: String, (before, after): (u64, u64)) -> Advised {
        Advised {
            number: 0,
            kind,
            name,
            says,
            bytes_before: Some(before),
            bytes_after: Some(after),
            ms_before: None,
            ms_after: None,
            same_numbers: None,
            change: None,
            text: None,
            by_reload: false,
        }
    }

    fn saved_bytes(&self) -> u64 {
        self.bytes_before.unwrap_or(0).saturating_sub(self.bytes_after.unwrap_or(0))
    }

    fn saved_ms(&self) -> f64 {
        self.ms_before.unwrap_or(0.0) - self.ms_after.unwrap_or(0.0)
    }
}

impl Model {
    /// What would make the model in a folder smaller or its saved queries faster, each tried: columns and tables that nothing
    /// uses, rows in another order, measures in another form, timestamps in two parts. What changes the file says how, and
    /// whether every saved query and measure gave the same; [`Model::take_advice`] makes the change.
    ///
    /// # Errors
    /// When the model does not open, or it is cancelled.
    ///
    /// ```no_run
    /// # fn main() -> Result<(), cubrel::Error> {
    /// use cubrel::{EditOptions, Model, Silent};
    ///
    /// for advised in Model::advise("ferries", &EditOptions::default(), &Silent)?.advice {
    ///     println!("{}. {}", advised.number, advised.says);
    /// }
    /// # Ok(())
    /// # }
    /// ```
    pub fn advise(path: impl AsRef<Path>, options: &EditOptions, observer: &dyn Observer) -> Result<Advice, Error> {
        let editor = Editor::open(path.as_ref(), options, observer)?;
        Adviser { editor: &editor, options }.advice()
    }

    /// Makes a change that [`Model::advise`] has listed, by its number. It is tried and proved again before it is written.
    ///
    /// # Errors
    /// When nothing has the number or it changes no file, the model does not open, or the file cannot be written.
    pub fn take_advice(
        path: impl AsRef<Path>,
        number: usize,
        options: &EditOptions,
        observer: &dyn Observer,
    ) -> Result<ModelEdit, Error> {
        let editor = Editor::open(path.as_ref(), options, observer)?;
        let advice = Adviser { editor: &editor, options }.advice()?;
        let Some(advised) = advice.advice.iter().find(|a| a.number == number) else {
            return Err(Error::Unknown(format!("there is no advice {number}: there are {}", advice.advice.len())));
        };
        let what = format!("take advice {number}: {}", advised.says);
        let Some(text) = &advised.text else {
            let why = "this has to be done where the data is made, or by hand: it is measured, not made";
            let refusal = Refusal { name: advised.name.clone(), line: None, why: why.into() };
            return Ok(ModelEdit::refused(what, &editor.text, vec![refusal]));
        };
        let renames = Renames::default();
        let edit = ModelEdit::of(what, &editor.text, text);
        let tried = match advised.by_reload {
            true => Ok(editor.reloaded(text, options)?),
            false => editor.tried(text, &renames),
        };
        match tried {
            Ok(after) => editor.finish(edit, &after, &renames, options),
            Err(refused) => Ok(ModelEdit { refused, ..edit }),
        }
    }
}

struct Adviser<'e> {
    editor: &'e Editor,
    options: &'e EditOptions,
}

impl Adviser<'_> {
    fn model(&self) -> &Model {
        &self.editor.model
    }

    fn advice(&self) -> Result<Advice, Error> {
        let mut all = self.unused()?;
        all.extend(self.orders()?);
        all.extend(self.timestamps()?);
        all.extend(self.late_columns()?);
        all.extend(self.precision()?);
        all.extend(self.copies()?);
        all.extend(self.dimensions()?);
        all.extend(self.keys()?);
        all.extend(self.heavy()?);
        all.extend(self.formulas()?);
        // What can be had at once comes first.
        all.sort_by(|a, b| {
            let (taken, bytes) = (a.text.is_some(), a.saved_bytes());
            (b.text.is_some(), b.saved_bytes()).cmp(&(taken, bytes)).then(b.saved_ms().total_cmp(&a.saved_ms()))
        });
        all.iter_mut().enumerate().for_each(|(i, advised)| advised.number = i + 1);
        Ok(Advice { advice: all })
    }

    fn is_worth(&self, saved: u64, of: u64) -> bool {
        saved >= WORTH_BYTES && saved * 100 >= of * WORTH_PERCENT
    }

    fn ended(&self) -> Result<(), Error> {
        if self.options.refresh.cancel.is_cancelled() { Err(Error::Cancelled) } else { Ok(()) }
    }

    /// With the change of the file, and whether it keeps the numbers.
    fn with_change(&self, advised: Advised, text: String) -> Result<Advised, Error> {
        self.ended()?;
        match self.editor.tried(&text, &Renames::default()) {
            Err(_) => Ok(advised),
            Ok(after) => self.proved(advised, text, &after),
        }
    }

    /// The same for a change of what is loaded: the sources are read with it, and what came of that is weighed.
    fn with_reload(&self, advised: Advised, text: String) -> Result<Advised, Error> {
        self.ended()?;
        match self.editor.reloaded(&text, self.options) {
            Err(Error::Cancelled) => Err(Error::Cancelled),
            Err(_) => Ok(advised),
            Ok(after) => {
                let bytes_after = Some(after.sizes().model.bytes);
                let proved = self.proved(advised, text, &after)?;
                Ok(Advised { by_reload: true, bytes_after, ..proved })
            }
        }
    }

    fn proved(&self, advised: Advised, text: String, after: &Model) -> Result<Advised, Error> {
        let edit = ModelEdit::of(advised.says.clone(), &self.editor.text, &text);
        let dry = EditOptions { dry_run: true, ..self.options.clone() };
        let proved = self.editor.finish(edit.clone(), after, &Renames::default(), &dry)?;
        let same = proved.refused.is_empty();
        let change = Some(edit.diff("model.toml"));
        Ok(Advised { same_numbers: Some(same), change, text: Some(text).filter(|_| same), ..advised })
    }

    fn suppose(&self, change: String) -> Result<Option<(u64, u64)>, Error> {
        self.suppose_all(&[change])
    }

    fn suppose_all(&self, changes: &[String]) -> Result<Option<(u64, u64)>, Error> {
        self.ended()?;
        match self.model().suppose(changes) {
            Ok(supposed) => Ok(Some((supposed.before.model.bytes, supposed.after.model.bytes))),
            Err(Error::Problems(_)) => Ok(None),
            Err(other) => Err(other),
        }
    }

    /// Tables and columns that nothing uses.
    fn unused(&self) -> Result<Vec<Advised>, Error> {
        let graph = Graph::new(self.model());
        let bytes = self.model().sizes().model.bytes;
        let mut found = Vec::new();
        let wanted = |kind| matches!(kind, PartKind::Table | PartKind::Column);
        for (part, weight) in unused::parts(&graph).into_iter().filter(|(part, _)| wanted(part.kind())) {
            if !self.is_worth(weight, bytes) {
                continue;
            }
            let name = graph.show(&part);
            let removal = Removal::of(&graph, &part);
            let after = match part.kind() {
                PartKind::Column => self.suppose(format!("drop {name}"))?.map(|(_, after)| after),
                _ => None,
            };
            let weights = (bytes, after.unwrap_or(bytes - weight));
            let says = format!("nothing uses {} {name}: leave it out", part.kind().name());
            let advised = Advised::of_bytes("drop", name, says, weights);
            let text = removal.against().is_empty().then(|| removal.text(&self.editor.text)).flatten();
            found.push(match text {
                Some(text) => self.with_change(advised, text)?,
                None => advised,
            });
        }
        Ok(found)
    }

    /// Rows in another order: by one column, then by one more.
    fn orders(&self) -> Result<Vec<Advised>, Error> {
        let schema = self.model().schema();
        let file = &self.model().document().file;
        let mut heavy: Vec<(u64, TableId)> = self
            .model()
            .sizes()
            .tables
            .iter()
            .filter(|t| t.origin == "source" && file.table.get(&t.name).is_some_and(|s| s.order.is_empty()))
            .filter_map(|t| Some((t.bytes, schema.find_table(&t.name)?)))
            .collect();
        heavy.sort_by_key(|(bytes, _)| std::cmp::Reverse(*bytes));
        let mut found = Vec::new();
        for (own, table) in heavy.into_iter().take(ORDERED_TABLES).filter(|(own, _)| *own >= 4 * WORTH_BYTES) {
            if let Some(advised) = self.order(table, own)? {
                found.push(advised);
            }
        }
        Ok(found)
    }

    fn order(&self, table: TableId, own: u64) -> Result<Option<Advised>, Error> {
        let schema = self.model().schema();
        let name = schema.table(table).name.clone();
        let mut best: Option<(Vec<String>, (u64, u64))> = None;
        for _ in 0..2 {
            let before: Vec<String> = best.as_ref().map(|(by, _)| by.clone()).unwrap_or_default();
            for column in self.promising(table).into_iter().filter(|c| !before.contains(c)) {
                let by: Vec<String> = before.iter().cloned().chain([column]).collect();
                let quoted: Vec<String> = by.iter().map(|c| quote_name(c)).collect();
                let weights = self.suppose(format!("order {} by {}", quote_name(&name), quoted.join(", ")))?;
                let Some(weights) = weights else { continue };
                if best.as_ref().is_none_or(|(_, (_, least))| weights.1 < *least) {
                    best = Some((by, weights));
                }
            }
        }
        let Some((by, (before, after))) = best else { return Ok(None) };
        let saved = before.saturating_sub(after);
        if saved * 100 < own * ORDER_PERCENT || saved < WORTH_BYTES {
            return Ok(None);
        }
        let says = format!("rows of {} in the order of {} take less", quote_name(&name), by.join(", "));
        let advised = Advised::of_bytes("order", name.clone(), says, (before, after));
        let list: Vec<String> = by.iter().map(|c| toml::Value::String(c.clone()).to_string()).collect();
        let line = format!("order = [{}]", list.join(", "));
        let mut edits = TomlEdits::new(&self.editor.text);
        match edits.add_to_table(&Part::Table(name).keys(), &line) {
            true => self.with_change(advised, edits.done()).map(Some),
            false => Ok(Some(advised)),
        }
    }

    /// Columns that may come first in an order: those with few values, and not so few that nothing is gained.
    fn promising(&self, table: TableId) -> Vec<String> {
        let (schema, store) = (self.model().schema(), self.model().store());
        let rows = store.tables[table.0 as usize].rows as u64;
        let all = schema.table(table).columns.iter().zip(&store.tables[table.0 as usize].columns);
        let mut found: Vec<(u64, String)> = all
            .filter(|(def, _)| def.computed != Computed::After)
            .map(|(def, data)| (data.verified().distinct(), def.name.clone()))
            .filter(|(distinct, _)| *distinct > 1 && *distinct * 4 < rows)
            .collect();
        found.sort_by_key(|(distinct, _)| std::cmp::Reverse(*distinct));
        let middle = found.len().saturating_sub(FIRST_COLUMNS) / 2;
        found.into_iter().skip(middle).take(FIRST_COLUMNS).map(|(_, name)| name).collect()
    }

    /// Timestamps that weigh much would weigh less in two parts.
    fn timestamps(&self) -> Result<Vec<Advised>, Error> {
        self.measured(&|_, ty| ty == Type::Timestamp, "split", &|name| {
            format!("{name} as a date and a time of day takes less: make two columns of it where the data is made")
        })
    }

    /// Columns that are calculated when all tables are there could come with the rows.
    fn late_columns(&self) -> Result<Vec<Advised>, Error> {
        self.measured(&|computed, _| computed == Computed::After, "load", &|name| {
            format!("{name} is calculated after loading: in the source, or by a formula of its own row, it takes less")
        })
    }

    fn measured(
        &self,
        wanted: &dyn Fn(Computed, Type) -> bool,
        kind: &'static str,
        says: &dyn Fn(&str) -> String,
    ) -> Result<Vec<Advised>, Error> {
        let schema = self.model().schema();
        let mut found = Vec::new();
        for (t, table) in schema.tables.iter().enumerate() {
            for (index, column) in table.columns.iter().enumerate().filter(|(_, c)| wanted(c.computed, c.ty)) {
                let name = schema.column_name(ColumnId { table: TableId(t as u32), index: index as u32 });
                let Some((before, after)) = self.suppose(format!("{kind} {name}"))? else { continue };
                if column.name.is_empty() || !self.is_worth(before.saturating_sub(after), before) {
                    continue;
                }
                found.push(Advised::of_bytes(kind, name.clone(), says(&name), (before, after)));
            }
        }
        Ok(found)
    }

    /// Measures of saved queries in another form that gives the same faster.
    fn formulas(&self) -> Result<Vec<Advised>, Error> {
        let file = &self.model().document().file;
        let query = QueryOptions { cancel: self.options.refresh.cancel.clone(), ..QueryOptions::default() };
        let mut best: BTreeMap<String, Advised> = BTreeMap::new();
        for (name, saved) in &file.query {
            self.ended()?;
            // What cannot be asked has no faster form.
            let Ok(found) = faster_formulas(self.model(), &saved.text, &query) else { continue };
            for faster in found {
                let advised = Advised {
                    ms_before: Some(faster.before_ms),
                    ms_after: Some(faster.after_ms),
                    bytes_before: None,
                    bytes_after: None,
                    same_numbers: Some(true),
                    ..Advised::of_bytes(
                        "formula",
                        faster.formula.clone(),
                        format!("in {name}: {}", faster.text()),
                        (0, 0),
                    )
                };
                let is_better = best.get(&faster.formula).is_none_or(|other| advised.saved_ms() > other.saved_ms());
                if !is_better {
                    continue;
                }
                let path = Part::Measure(faster.formula.clone()).keys();
                let mut edits = TomlEdits::new(&self.editor.text);
                let value = [path, vec!["formula".to_string()]].concat();
                let there = edits.places.entries.iter().find(|e| e.path == value).map(|e| e.value);
                let advised = match there.filter(|_| file.measure.contains_key(&faster.formula)) {
                    Some(span) => {
                        edits.replace(span, toml::Value::String(faster.instead.clone()).to_string());
                        self.with_change(advised, edits.done())?
                    }
                    None => advised,
                };
                best.insert(faster.formula.clone(), advised);
            }
        }
        Ok(best.into_values().collect())
    }
}
