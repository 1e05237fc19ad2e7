//! What a change of the model would weigh: the change is made to a copy of the columns, which are coded again, and
//! nothing else happens.

use std::sync::Arc;

use crate::handle::sizes::{Described, Sizes, described, sizes, sizes_of, table_size};
use crate::{Error, Model};
use cubrel_formula::lexer::{TokenKind, tokens};
use cubrel_formula::schema::{ColumnId, Computed, TableId};
use cubrel_formula::source::suggestion;
use cubrel_formula::source::{Diagnostic, Problem, Source, Span};
use cubrel_store::encode::recoded;
use cubrel_store::order::{RowOrder, SortColumns};
use cubrel_store::{CodedColumn, RawColumn, RawData};
use cubrel_value::date::{DAY_MICROS, Unit};
use cubrel_value::{Type, exact};

/// A change that is tried.
#[derive(Clone, Debug, PartialEq)]
pub enum Alteration {
    /// `drop booking.note`: the column is left out.
    Drop(ColumnId),
    /// `round booking.net to 0`: numbers with fewer digits after the point.
    Round(ColumnId, u8),
    /// `round booking.booked_at to hour`: timestamps or dates to the beginning of a unit.
    Coarsen(ColumnId, Coarse),
    /// `split booking.booked_at`: a timestamp as a date and the time of day.
    Split(ColumnId),
    /// `load booking.list_value`: a calculated column is computed while loading, so that the order of rows heeds it.
    Load(ColumnId),
    /// `order booking by sailed_on, route_id`: the rows of each segment in this order.
    Order(TableId, Vec<ColumnId>),
}

/// What timestamps are rounded down to.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Coarse {
    /// So many microseconds.
    Micros(i64),
    /// A unit of the calendar.
    Calendar(Unit),
}

/// The model as it is and as it would be.
#[derive(Clone, Debug, serde::Serialize)]
pub struct Supposed {
    /// As it is.
    pub before: Sizes,
    /// As it would be.
    pub after: Sizes,
}

impl Model {
    /// Measures what some changes would save, or cost; see [`Alteration`] for how they are written.
    ///
    /// # Errors
    /// When a change is not understood, or cannot be made.
    pub fn suppose(&self, changes: &[String]) -> Result<Supposed, Error> {
        let mut tables: Vec<Trial> = (0..self.schema().tables.len() as u32)
            .map(|t| Trial { columns: described(self, TableId(t)), by: None, changed: false })
            .collect();
        for text in changes {
            let source = Source::new("suppose", text.as_str());
            let change = parse(self, &source)?;
            self.apply(&change, &mut tables, &source)?;
        }
        let after = tables.into_iter().enumerate().map(|(t, trial)| {
            let id = TableId(t as u32);
            let columns = if trial.changed { trial.coded() } else { trial.columns };
            table_size(self, id, &columns)
        });
        let after = after.collect();
        // What was read for all that may have been damaged.
        self.check_store()?;
        Ok(Supposed { before: sizes(self), after: sizes_of(self, after) })
    }

    fn apply(&self, change: &Alteration, tables: &mut [Trial], source: &Arc<Source>) -> Result<(), Error> {
        let refused = |(message, help): (String, String)| {
            let span = Span::new(0, source.text.len());
            Error::Problems(vec![Diagnostic::error(Problem::Model, source, span, message).help(help)])
        };
        match change {
            Alteration::Order(table, by) => {
                let trial = &mut tables[table.0 as usize];
                trial.by = Some(by.iter().map(|c| self.schema().column(*c).name.clone()).collect());
                trial.changed = true;
                Ok(())
            }
            Alteration::Drop(c)
            | Alteration::Round(c, _)
            | Alteration::Coarsen(c, _)
            | Alteration::Split(c)
            | Alteration::Load(c) => {
                let trial = &mut tables[c.table.0 as usize];
                let place = self.on_trial(*c, change, trial).map_err(refused)?;
                trial.apply(change, place, &self.schema().column_name(*c)).map_err(refused)
            }
        }
    }

    /// The place of a column that may change.
    fn on_trial(&self, column: ColumnId, change: &Alteration, trial: &Trial) -> Result<usize, (String, String)> {
        let schema = self.schema();
        let (table, name) = (&schema.table(column.table).name, &schema.column(column).name);
        if let Some(first) = self.document().file.table.get(table).and_then(|s| s.same_as.as_ref()) {
            return Err((format!("{table} has the columns of {first}"), format!("suppose it of {first}")));
        }
        let full = format!("{table}.{name}");
        let Some(place) = trial.columns.iter().position(|c| c.name == *name) else {
            return Err((format!("{full} is gone by an earlier change"), "name each column once".into()));
        };
        let is_key = schema.relationships.iter().any(|r| {
            let ends = [(r.many, &r.many_columns), (r.one, &r.one_columns)];
            ends.iter().any(|(table, columns)| *table == column.table && columns.contains(&column.index))
        });
        if is_key && !matches!(change, Alteration::Load(_)) {
            let help = "a relationship needs its keys as they are: suppose something of another column";
            return Err((format!("{full} is the key of a relationship"), help.into()));
        }
        Ok(place)
    }
}

/// The columns of a table on trial.
struct Trial {
    columns: Vec<Described>,
    by: Option<Vec<String>>,
    changed: bool,
}

impl Trial {
    /// Changes the column at a place, whose full name is for those who read why it cannot be.
    fn apply(&mut self, change: &Alteration, place: usize, full: &str) -> Result<(), (String, String)> {
        let column = &mut self.columns[place];
        let data = column.data.verified().clone();
        let refused = |help: &str| Err((format!("{full} is {}", data.ty()), help.to_string()));
        // The order of rows heeds what is there while loading.
        let counts = column.computed != Computed::After;
        match change {
            Alteration::Order(..) => {}
            Alteration::Drop(_) => {
                self.columns.remove(place);
                self.changed |= counts;
            }
            Alteration::Load(_) => {
                (column.data, column.computed) = (data, Computed::Loading);
                self.changed = true;
            }
            Alteration::Round(_, digits) => self.coarsen(place, rounded(&data, *digits)),
            Alteration::Coarsen(_, coarse) => match coarsened(&data, *coarse) {
                Some(coarse) => self.coarsen(place, coarse),
                None => return refused("only dates and timestamps have units"),
            },
            Alteration::Split(_) if data.ty() != Type::Timestamp => return refused("only timestamps can be split"),
            Alteration::Split(_) => {
                let ((day, time), name, computed) = (split(&data), column.name.clone(), column.computed);
                let part = |suffix: &str, data: CodedColumn| Described {
                    name: format!("{name}_{suffix}"),
                    computed,
                    data: Arc::new(data),
                    links: 0,
                };
                self.columns.splice(place..=place, [part("date", day), part("time", time)]);
                self.changed |= counts;
            }
        }
        Ok(())
    }

    /// Gives a column values that are not as fine; where no two become one, rows compare as before.
    fn coarsen(&mut self, place: usize, coarse: CodedColumn) {
        let column = &mut self.columns[place];
        self.changed |= column.computed != Computed::After && coarse.distinct() < column.data.distinct();
        column.data = Arc::new(coarse);
    }

    /// The columns with their rows in the order that is best for them, or that is wanted.
    fn coded(self) -> Vec<Described> {
        let data: Vec<&CodedColumn> = self.columns.iter().map(|c| &**c.data.verified()).collect();
        let count: Vec<bool> = self.columns.iter().map(|c| c.computed != Computed::After).collect();
        let by: Option<Vec<usize>> = self
            .by
            .as_ref()
            .map(|names| names.iter().filter_map(|n| self.columns.iter().position(|c| c.name == *n)).collect());
        let sort_by = SortColumns::default();
        let order = match &by {
            Some(by) => RowOrder::By(by),
            None => RowOrder::Best { count: &count, sort_by: &sort_by },
        };
        let coded = recoded(&data, order);
        self.columns.into_iter().zip(coded).map(|(c, data)| Described { data: Arc::new(data), ..c }).collect()
    }
}

/// The values of a column, each changed.
fn mapped(column: &CodedColumn, ty: Type, each: impl Fn(i64) -> i64) -> CodedColumn {
    let mut raw = RawColumn { ty, ..column.raw() };
    if let RawData::Ints(values) = &mut raw.data {
        values.iter_mut().for_each(|v| *v = each(*v));
    }
    CodedColumn::encode_in(&raw, column.segment_bounds())
}

fn rounded(column: &CodedColumn, digits: u8) -> CodedColumn {
    match column.ty() {
        Type::Decimal { precision, scale } if digits < scale => {
            let by = exact::pow10(scale - digits);
            let ty = Type::Decimal { precision, scale: digits };
            mapped(column, ty, |v| i64::try_from(exact::divide_rounded(i128::from(v), by)).unwrap_or(v))
        }
        Type::Float => {
            let unit = 10f64.powi(i32::from(digits));
            let mut raw = column.raw();
            if let RawData::Floats(values) = &mut raw.data {
                values.iter_mut().for_each(|v| *v = (*v * unit).round() / unit);
            }
            CodedColumn::encode_in(&raw, column.segment_bounds())
        }
        _ => column.clone(),
    }
}

fn coarsened(column: &CodedColumn, coarse: Coarse) -> Option<CodedColumn> {
    let day = |unit: Unit, day: i64| i32::try_from(day).ok().and_then(|d| unit.start(d)).map_or(day, i64::from);
    Some(match (column.ty(), coarse) {
        (Type::Timestamp, Coarse::Micros(micros)) => mapped(column, Type::Timestamp, |v| v.div_euclid(micros) * micros),
        (Type::Timestamp, Coarse::Calendar(unit)) => {
            mapped(column, Type::Timestamp, |v| day(unit, v.div_euclid(DAY_MICROS)) * DAY_MICROS)
        }
        (Type::Date, Coarse::Calendar(unit)) => mapped(column, Type::Date, |v| day(unit, v)),
        (Type::Date, Coarse::Micros(_)) => column.clone(),
        _ => return None,
    })
}

/// A timestamp as its date and the microseconds since midnight.
fn split(column: &CodedColumn) -> (CodedColumn, CodedColumn) {
    let day = mapped(column, Type::Date, |v| v.div_euclid(DAY_MICROS));
    (day, mapped(column, Type::Int, |v| v.rem_euclid(DAY_MICROS)))
}

/// How changes are written.
const FORMS: &str = "write `drop table.column`, `round table.column to 2`, `round table.column to hour`, \
                     `split table.column`, `load table.column` or `order table by column, column`";

/// The words of a change.
struct Words<'a> {
    model: &'a Model,
    source: &'a Arc<Source>,
    tokens: Vec<(TokenKind, Span)>,
    at: usize,
}

fn parse(model: &Model, source: &Arc<Source>) -> Result<Alteration, Error> {
    let (tokens, problems) = tokens(source);
    if !problems.is_empty() {
        return Err(Error::Problems(problems));
    }
    let mut words = Words { model, source, tokens: tokens.into_iter().map(|t| (t.kind, t.span)).collect(), at: 0 };
    let change = match words.word()?.as_str() {
        "drop" => Alteration::Drop(words.column()?),
        "split" => Alteration::Split(words.column()?),
        "load" => Alteration::Load(words.column()?),
        "round" => {
            let column = words.column()?;
            words.expect("to")?;
            words.precision(column)?
        }
        "order" => {
            let table = words.table()?;
            words.expect("by")?;
            let mut columns = vec![words.column_of(table)?];
            while words.comma() {
                columns.push(words.column_of(table)?);
            }
            Alteration::Order(table, columns)
        }
        other => {
            words.at = 0;
            return Err(words.wrong(format!("`{other}` is not a change")));
        }
    };
    words.end()?;
    Ok(change)
}

impl Words<'_> {
    fn here(&self) -> Span {
        self.tokens.get(self.at).map_or(Span::new(self.source.text.len(), self.source.text.len()), |(_, span)| *span)
    }

    fn wrong(&self, message: String) -> Error {
        Error::Problems(vec![Diagnostic::error(Problem::Syntax, self.source, self.here(), message).help(FORMS)])
    }

    fn text(&self) -> &str {
        let span = self.here();
        self.source.text.get(span.start as usize..span.end as usize).unwrap_or_default()
    }

    /// A name or a word.
    fn word(&mut self) -> Result<String, Error> {
        let word = match self.tokens.get(self.at) {
            Some((TokenKind::Word(name) | TokenKind::Quoted(name), _)) => name.clone(),
            _ => return Err(self.wrong("a name is missing here".into())),
        };
        self.at += 1;
        Ok(word)
    }

    fn expect(&mut self, word: &str) -> Result<(), Error> {
        if self.text() != word {
            return Err(self.wrong(format!("`{word}` is missing here")));
        }
        self.at += 1;
        Ok(())
    }

    fn comma(&mut self) -> bool {
        let found = self.text() == ",";
        self.at += usize::from(found);
        found
    }

    fn end(&self) -> Result<(), Error> {
        match self.text() {
            "" => Ok(()),
            more => Err(self.wrong(format!("`{more}` does not belong here"))),
        }
    }

    fn table(&mut self) -> Result<TableId, Error> {
        let name = self.word()?;
        let tables = &self.model.schema().tables;
        tables.iter().position(|t| t.name == name).map(|i| TableId(i as u32)).ok_or_else(|| {
            self.at -= 1;
            let names = self.model.schema().table_names();
            let message = format!("there is no table `{name}`");
            let problem = Diagnostic::error(Problem::UnknownName, self.source, self.here(), message);
            Error::Problems(vec![problem.help(suggestion(&name, &names))])
        })
    }

    fn column_of(&mut self, table: TableId) -> Result<ColumnId, Error> {
        let name = self.word()?;
        let def = self.model.schema().table(table);
        let place = def.columns.iter().position(|c| c.name == name);
        place.map(|i| ColumnId { table, index: i as u32 }).ok_or_else(|| {
            self.at -= 1;
            let names = self.model.schema().column_names(table);
            let message = format!("{} has no column `{name}`", def.name);
            let problem = Diagnostic::error(Problem::UnknownName, self.source, self.here(), message);
            Error::Problems(vec![problem.help(suggestion(&name, &names))])
        })
    }

    fn column(&mut self) -> Result<ColumnId, Error> {
        let table = self.table()?;
        self.expect(".")?;
        self.column_of(table)
    }

    /// What a column is rounded to: digits, or a unit.
    fn precision(&mut self, column: ColumnId) -> Result<Alteration, Error> {
        let text = self.text().to_string();
        let change = match text.as_str() {
            "second" => Alteration::Coarsen(column, Coarse::Micros(1_000_000)),
            "minute" => Alteration::Coarsen(column, Coarse::Micros(60_000_000)),
            "hour" => Alteration::Coarsen(column, Coarse::Micros(3_600_000_000)),
            _ => match (Unit::parse(&text), text.parse::<u8>()) {
                (Some(unit), _) => Alteration::Coarsen(column, Coarse::Calendar(unit)),
                (None, Ok(digits)) => Alteration::Round(column, digits),
                (None, Err(_)) => return Err(self.wrong("here stands a number of digits, or a unit of time".into())),
            },
        };
        self.at += 1;
        Ok(change)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Value;

    fn model() -> Model {
        let at = Value::Timestamp(0);
        let row = |n: i64| vec![Value::text("r1"), Value::Int(n), at.clone()];
        let columns = [("route id", Type::Text), ("net", Type::Int), ("booked_at", Type::Timestamp)];
        Model::builder().rows("booking", &columns, &[row(1), row(2)]).build().unwrap()
    }

    #[test]
    fn changes_are_read_and_what_is_wrong_is_pointed_at() {
        let model = model();
        let read = |text: &str| parse(&model, &Source::new("suppose", text));
        let column = |index| ColumnId { table: TableId(0), index };
        let cases = [
            ("drop booking.net", Alteration::Drop(column(1))),
            ("drop booking.\"route id\"", Alteration::Drop(column(0))),
            ("round booking.net to 2", Alteration::Round(column(1), 2)),
            ("round booking.booked_at to hour", Alteration::Coarsen(column(2), Coarse::Micros(3_600_000_000))),
            ("round booking.booked_at to month", Alteration::Coarsen(column(2), Coarse::Calendar(Unit::Month))),
            ("split booking.booked_at", Alteration::Split(column(2))),
            ("load booking.net", Alteration::Load(column(1))),
            ("order booking by net, booked_at", Alteration::Order(TableId(0), vec![column(1), column(2)])),
        ];
        for (text, change) in cases {
            assert_eq!(read(text).unwrap_or_else(|e| panic!("{text}: {e}")), change, "{text}");
        }
        let wrong = [
            ("", 1),
            ("forget booking.net", 1),
            ("drop bookings.net", 6),
            ("drop booking", 13),
            ("drop booking.nett", 14),
            ("round booking.net to", 21),
            ("round booking.net to week2", 22),
            ("round booking.net to 2 3", 24),
            ("order booking by net,", 22),
        ];
        for (text, at) in wrong {
            let error = read(text).unwrap_err();
            assert_eq!(error.place().map(|(_, line, column)| (line, column)), Some((1, at)), "{text}: {error}");
        }
    }

    #[test]
    fn what_a_change_does_to_a_column_is_what_a_query_would_say() {
        let model = model();
        let fine = [-1_500_000i64, -1, 0, 3_599_999_999, 3_600_000_000, DAY_MICROS + 7];
        let rows: Vec<Vec<Value>> = fine.iter().map(|v| vec![Value::Timestamp(*v)]).collect();
        let of = Model::builder().rows("t", &[("at", Type::Timestamp)], &rows).build().unwrap();
        let column = of.store().tables[0].columns[0].verified().clone();
        let values = |column: &CodedColumn| column.codes().into_iter().map(|c| column.value_of(c)).collect::<Vec<_>>();
        let hours = coarsened(&column, Coarse::Micros(3_600_000_000)).unwrap();
        let expected = [-3_600_000_000, -3_600_000_000, 0, 0, 3_600_000_000, DAY_MICROS].map(Value::Timestamp);
        let sorted = |mut all: Vec<Value>| {
            all.sort_by(Value::total_cmp);
            all
        };
        assert_eq!(sorted(values(&hours)), expected);
        let (day, time) = split(&column);
        let days: Vec<Value> = [-1, -1, 0, 0, 0, 1].map(Value::Date).to_vec();
        assert_eq!(sorted(values(&day)), days);
        assert_eq!(values(&time).len(), fine.len());
        assert!(coarsened(model.store().tables[0].columns[1].verified(), Coarse::Calendar(Unit::Day)).is_none());
    }
}
