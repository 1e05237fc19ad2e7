//! What must stay true of a model: its expectations, held against what it answers.

use std::time::Instant;

use serde::Serialize;
use serde_json::{Map, Value as Json};

use crate::insight::same_value;
use crate::{Diagnostic, Error, Grid, GridColumnKind, Model, Problem, QueryOptions, Value};
use cubrel_formula::schema::{RelationshipId, TableId};
use cubrel_formula::words::quote_name;
use cubrel_model::file::{ExpectSection, ExpectedValue};
use cubrel_model::paths::column_path;
use cubrel_value::date;

/// Differences that are told of each expectation.
const SHOWN: usize = 20;

/// How the expectations of a model were met.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Tested {
    /// How many hold.
    pub passed: usize,
    /// How many do not.
    pub failed: usize,
    /// One by one, in the order of the file.
    pub expectations: Vec<Expectation>,
}

/// An expectation, and whether it holds.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Expectation {
    /// What people call it.
    pub name: String,
    /// What it is about: `rows`, `min_rows`, `query`, `same`, `unique`, `no_orphans` or `fresh`.
    pub kind: &'static str,
    /// Whether it holds.
    pub passed: bool,
    /// How long it took.
    pub seconds: f64,
    /// Where it does not hold, the first of these.
    pub differences: Vec<Difference>,
    /// Why it could not be looked at.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub error: Option<String>,
}

/// Something that is not as expected.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct Difference {
    /// Where: axes or columns with their values.
    pub at: Map<String, Json>,
    /// What was expected.
    pub expected: Json,
    /// What there is.
    pub got: Json,
}

impl Model {
    /// Holds the model against its expectations, the `[[expect]]` sections of its file.
    ///
    /// # Errors
    /// When it was cancelled. An expectation that cannot be looked at does not hold.
    ///
    /// ```
    /// # fn main() -> Result<(), cubrel::Error> {
    /// use cubrel::{Model, QueryOptions, Type, Value};
    ///
    /// let model = Model::builder()
    ///     .rows("booking", &[("net", Type::Int)], &[vec![Value::Int(10)], vec![Value::Int(10)]])
    ///     .definitions("[[expect]]\nquery = 'grid sum(booking.net)'\nrows = [[20]]\n[[expect]]\nunique = 'booking.net'")
    ///     .build()?;
    /// let tested = model.test(&QueryOptions::default())?;
    /// assert_eq!((tested.passed, tested.failed), (1, 1));
    /// assert_eq!(tested.expectations[1].differences[0].got, 2);
    /// # Ok(())
    /// # }
    /// ```
    pub fn test(&self, options: &QueryOptions) -> Result<Tested, Error> {
        let mut expectations = Vec::new();
        for (i, section) in self.document().file.expect.iter().enumerate() {
            let start = Instant::now();
            let test = Test { model: self, section, options };
            let (differences, error) = match test.differences() {
                Ok(differences) => (differences, None),
                Err(Error::Cancelled) => return Err(Error::Cancelled),
                Err(e) => (Vec::new(), Some(e.to_string())),
            };
            expectations.push(Expectation {
                name: section.title(i),
                kind: kind(section),
                passed: differences.is_empty() && error.is_none(),
                seconds: start.elapsed().as_secs_f64(),
                differences,
                error,
            });
        }
        let passed = expectations.iter().filter(|e| e.passed).count();
        Ok(Tested { passed, failed: expectations.len() - passed, expectations })
    }
}

fn kind(section: &ExpectSection) -> &'static str {
    match section {
        ExpectSection { same: Some(_), .. } => "same",
        ExpectSection { unique: Some(_), .. } => "unique",
        ExpectSection { no_orphans: Some(_), .. } => "no_orphans",
        ExpectSection { fresh: Some(_), .. } => "fresh",
        ExpectSection { rows: Some(_), .. } => "rows",
        ExpectSection { min_rows: Some(_), .. } => "min_rows",
        _ => "query",
    }
}

/// Expectations that say nothing, or two things at once.
pub(super) fn problems(model: &Model) -> Vec<Diagnostic> {
    let sections = model.document().file.expect.iter().enumerate();
    sections.flat_map(|(i, section)| problems_of(model, i, section)).collect()
}

fn problems_of(model: &Model, i: usize, section: &ExpectSection) -> Vec<Diagnostic> {
    let document = model.document();
    let mut problems = Vec::new();
    let mut wrong = |key: &str, message: String, help: &str| {
        let path = if key.is_empty() { format!("expect.{i}") } else { format!("expect.{i}.{key}") };
        problems.push(document.problem(Problem::Model, &path, message).help(help));
    };
    let subject = match subjects(section).as_slice() {
        [subject] => *subject,
        [] => {
            wrong("", "this expectation says nothing".into(), SUBJECTS);
            return problems;
        }
        several @ [_, second, ..] => {
            wrong(second, format!("this expectation says several things: {}", several.join(", ")), SUBJECTS);
            return problems;
        }
    };
    for (key, with) in keys_beside(section).filter(|(_, with)| !with.contains(&subject)) {
        let message = format!("`{key}` says nothing about `{subject}`");
        wrong(key, message, &format!("it goes with `{}`", with.join("` or `")));
    }
    if section.same.as_ref().is_some_and(|same| same.len() < 2) {
        let message = "there is nothing that this could be the same as".into();
        wrong("same", message, "name two measures or formulas, or more");
    }
    let test = Test { model, section, options: &QueryOptions::default() };
    if let Err(e) = test.checked(i) {
        let placed = |p: Diagnostic| match p.source.as_ref().is_some_and(|s| s.origin.is_some()) {
            true => p,
            false => {
                Diagnostic { help: p.help, ..document.problem(p.problem, &format!("expect.{i}.{subject}"), p.message) }
            }
        };
        problems.extend(match e {
            Error::Problems(list) => list.into_iter().map(placed).collect(),
            other => vec![document.problem(Problem::Model, &format!("expect.{i}"), other.to_string())],
        });
    }
    problems
}

const SUBJECTS: &str = "an expectation has one of `query`, `same`, `unique`, `no_orphans` and `fresh`";

/// What an expectation is about; it should be one thing.
fn subjects(section: &ExpectSection) -> Vec<&'static str> {
    let all = [
        ("query", section.query.is_some()),
        ("same", section.same.is_some()),
        ("unique", section.unique.is_some()),
        ("no_orphans", section.no_orphans.is_some()),
        ("fresh", section.fresh.is_some()),
    ];
    all.into_iter().filter(|(_, said)| *said).map(|(key, _)| key).collect()
}

/// The other keys that it has, and what each of them can stand beside.
fn keys_beside(section: &ExpectSection) -> impl Iterator<Item = (&'static str, &'static [&'static str])> {
    let all: [(_, _, &[_]); 6] = [
        ("rows", section.rows.is_some(), &["query"]),
        ("min_rows", section.min_rows.is_some(), &["query"]),
        ("tolerance", section.tolerance.is_some(), &["query", "same"]),
        ("by", !section.by.is_empty(), &["same"]),
        ("where", section.filter.is_some(), &["same"]),
        ("within", section.within.is_some(), &["fresh"]),
    ];
    all.into_iter().filter(|(_, said, _)| *said).map(|(key, _, with)| (key, with))
}

struct Test<'m> {
    model: &'m Model,
    section: &'m ExpectSection,
    options: &'m QueryOptions,
}

type Differences = Result<Vec<Difference>, Error>;

impl Test<'_> {
    fn differences(&self) -> Differences {
        let section = self.section;
        if section.same.is_some() {
            return self.same();
        }
        if let Some(columns) = &section.unique {
            return self.unique(columns.list());
        }
        if let Some(columns) = &section.no_orphans {
            return self.no_orphans(columns.list());
        }
        if let Some(column) = &section.fresh {
            return self.fresh(column);
        }
        let Some(text) = self.query_text() else {
            return Err(wrong(
                "this expectation says nothing",
                "it has one of `query`, `same`, `unique`, `no_orphans` and `fresh`",
            ));
        };
        let grid = self.asked(&text)?;
        let mut found = section.rows.as_ref().map_or_else(|| Ok(Vec::new()), |rows| self.rows(&grid, rows))?;
        if let Some(least) = section.min_rows.filter(|least| (grid.lines.len() as u64) < *least) {
            let expected = Json::from(format!("{least} lines or more"));
            found.push(Difference { at: Map::new(), expected, got: Json::from(grid.lines.len()) });
        }
        Ok(found)
    }

    /// Whether all that it names is there.
    fn checked(&self, number: usize) -> Result<(), Error> {
        let section = self.section;
        for columns in [&section.unique, &section.no_orphans].into_iter().flatten() {
            let (table, names) = self.columns(columns.list())?;
            if section.no_orphans.is_some() {
                self.relationship(table, &names)?;
            }
        }
        if let Some(column) = &section.fresh {
            self.columns(std::slice::from_ref(column))?;
            self.least_day()?;
        }
        if let Some(text) = self.query_text() {
            let document = self.model.document();
            // A query has its own place; what `same` asks is put together.
            let source = document.formula(section.title(number), &format!("expect.{number}.query"), &text);
            self.model.query_of(&source, self.options).map(drop)?;
        }
        Ok(())
    }

    /// The query, where one is named by its name its text.
    fn query_text(&self) -> Option<String> {
        let text = self.section.query_text()?;
        Some(self.model.document().file.query.get(&text).map_or(text, |saved| saved.text.clone()))
    }

    fn asked(&self, text: &str) -> Result<Grid, Error> {
        self.model.query_with(text, self.options)?.run()
    }

    /// The lines of a grid against those that are expected, by what stands on their axes; their order does not count.
    fn rows(&self, grid: &Grid, expected: &[Vec<ExpectedValue>]) -> Differences {
        if let Some(wrong_one) = expected.iter().find(|row| row.len() != grid.columns.len()) {
            let message =
                format!("a line of `rows` has {} values, the query gives {}", wrong_one.len(), grid.columns.len());
            return Err(wrong(&message, "write the axes of each line, then its figures"));
        }
        let (items, axes): (Vec<usize>, Vec<usize>) =
            (0..grid.columns.len()).partition(|i| grid.columns[*i].kind == GridColumnKind::Measure);
        // Where nothing is on an axis, a line is known by its place.
        let place = |row: usize| Json::from(row + 1);
        let mut open: Vec<usize> = (0..grid.lines.len()).collect();
        let mut found = Vec::new();
        for (n, row) in expected.iter().enumerate() {
            let is_it = |line: &usize| match axes.is_empty() {
                true => *line == n,
                false => axes.iter().all(|i| self.is(&grid.lines[*line].values[*i], &row[*i])),
            };
            let mut at = Map::new();
            match axes.is_empty() {
                true if expected.len() > 1 => drop(at.insert("line".into(), place(n))),
                true => {}
                false => at.extend(axes.iter().map(|i| (grid.columns[*i].name.clone(), expected_json(&row[*i])))),
            }
            let Some(i) = open.iter().position(is_it) else {
                found.push(Difference { at, expected: Json::from("a line"), got: Json::from("none") });
                continue;
            };
            let line = &grid.lines[open.remove(i)];
            for item in items.iter().filter(|i| !self.is(&line.values[**i], &row[**i])) {
                let mut at = at.clone();
                if items.len() > 1 {
                    at.insert("item".into(), Json::from(grid.columns[*item].name.clone()));
                }
                found.push(Difference { at, expected: expected_json(&row[*item]), got: json(&line.values[*item]) });
            }
        }
        for line in open {
            let mut at = Map::new();
            match axes.is_empty() {
                true => drop(at.insert("line".into(), place(line))),
                false => {
                    at.extend(axes.iter().map(|i| (grid.columns[*i].name.clone(), json(&grid.lines[line].values[*i]))))
                }
            }
            found.push(Difference { at, expected: Json::from("no line"), got: Json::from("one") });
        }
        found.truncate(SHOWN);
        Ok(found)
    }

    /// Whether a value is the one that was written.
    fn is(&self, value: &Value, expected: &ExpectedValue) -> bool {
        match expected {
            ExpectedValue::Bool(b) => *value == Value::Bool(*b),
            ExpectedValue::Int(n) => self.is_near(value, &Value::Int(*n)),
            ExpectedValue::Number(x) => self.is_near(value, &Value::Float(*x)),
            ExpectedValue::Text(text) if text.is_empty() => value.is_null() || value.as_text() == Some(""),
            ExpectedValue::Text(text) => !value.is_null() && value.to_string() == *text,
        }
    }

    /// Whether two values are the same, or so near as is put up with.
    fn is_near(&self, a: &Value, b: &Value) -> bool {
        match (a.as_f64(), b.as_f64(), self.section.tolerance) {
            (Some(x), Some(y), Some(tolerance)) => (x - y).abs() <= tolerance || same_value(a, b),
            _ => same_value(a, b),
        }
    }

    fn same(&self) -> Differences {
        let Some(text) = self.query_text() else { return Ok(Vec::new()) };
        let grid = self.asked(&text)?;
        let formulas = self.section.same.iter().flatten().collect::<Vec<_>>();
        let axes = grid.columns.len() - formulas.len();
        let mut found = Vec::new();
        for line in &grid.lines {
            let (at, figures) = line.values.split_at(axes);
            let Some((first, others)) = figures.split_first() else { continue };
            for (figure, formula) in others.iter().zip(&formulas[1..]).filter(|(f, _)| !self.is_near(first, f)) {
                let names = grid.columns.iter().enumerate().zip(at).filter(|((i, _), _)| !line.totalled.contains(i));
                let mut at: Map<String, Json> = names.map(|((_, c), v)| (c.name.clone(), json(v))).collect();
                if others.len() > 1 {
                    at.insert("formula".into(), Json::from(formula.as_str()));
                }
                found.push(Difference { at, expected: json(first), got: json(figure) });
                if found.len() == SHOWN {
                    return Ok(found);
                }
            }
        }
        Ok(found)
    }

    /// The table of some columns, and their names as formulas write them.
    fn columns(&self, list: &[String]) -> Result<(TableId, Vec<String>), Error> {
        let schema = self.model.schema();
        let mut found: Option<(TableId, Vec<String>)> = None;
        for text in list {
            let id =
                column_path(text).and_then(|(table, column)| schema.find_column(schema.find_table(&table)?, &column));
            let Some(id) = id else {
                return Err(wrong(&format!("`{text}` is not a column"), "columns are written `table.column`"));
            };
            let (table, names) = found.get_or_insert_with(|| (id.table, Vec::new()));
            if *table != id.table {
                return Err(wrong("these columns are of several tables", "name columns of one table"));
            }
            names.push(schema.column_name(id));
        }
        found.ok_or_else(|| wrong("no column is named", "columns are written `table.column`"))
    }

    fn unique(&self, list: &[String]) -> Differences {
        let (table, names) = self.columns(list)?;
        let table = quote_name(&self.model.schema().table(table).name);
        // A key of which a part is missing is none.
        let whole: Vec<String> = names.iter().map(|name| format!("{name} is not null")).collect();
        let (columns, whole) = (names.join(", "), whole.join(" and "));
        let text = format!(
            "grid rows({table}) as n by {columns} where {whole} having rows({table}) > 1 order by rows({table}) desc limit {SHOWN}"
        );
        let grid = self.asked(&text)?;
        let difference = |line: &crate::GridLine| {
            let (at, n) = line.values.split_at(names.len());
            let at = names.iter().cloned().zip(at.iter().map(json)).collect();
            Difference { at, expected: Json::from(1), got: n.first().map_or(Json::Null, json) }
        };
        Ok(grid.lines.iter().map(difference).collect())
    }

    /// The relationship that starts at some columns.
    fn relationship(&self, table: TableId, names: &[String]) -> Result<RelationshipId, Error> {
        let schema = self.model.schema();
        let is_it = |id: &RelationshipId| {
            let r = schema.relationship(*id);
            let own = r
                .many_columns
                .iter()
                .map(|index| schema.column_name(cubrel_formula::schema::ColumnId { table, index: *index }));
            r.many == table && own.eq(names.iter().cloned())
        };
        let mut all = (0..schema.relationships.len() as u32).map(RelationshipId).filter(is_it);
        // A column may be the key of several; the one that counts by default is meant.
        let found: Vec<RelationshipId> = all.by_ref().collect();
        let default = found.iter().find(|id| !schema.relationship(**id).spare).or(found.first());
        default.copied().ok_or_else(|| {
            let message = format!("no relationship starts at {}", names.join(" and "));
            wrong(&message, "name the columns of the many side of one")
        })
    }

    fn no_orphans(&self, list: &[String]) -> Differences {
        let (table, names) = self.columns(list)?;
        let id = self.relationship(table, &names)?;
        let name = quote_name(&self.model.schema().table(table).name);
        let null: Vec<String> = names.iter().map(|name| format!("{name} is null")).collect();
        let without_key = self.asked(&format!("grid rows({name}) as n where {}", null.join(" or ")))?;
        let without_key =
            without_key.lines.first().and_then(|l| l.values.first()).and_then(Value::as_f64).unwrap_or(0.0);
        let lookup = self.model.store().lookups[id.0 as usize].verified();
        self.model.check_store()?;
        let orphans = lookup.unmatched_rows.saturating_sub(without_key as u64);
        if orphans == 0 {
            return Ok(Vec::new());
        }
        let at = Map::from_iter([(names.join(", "), Json::from(lookup.examples.clone()))]);
        Ok(vec![Difference { at, expected: Json::from(0), got: Json::from(orphans) }])
    }

    /// The day that the newest one has to reach.
    fn least_day(&self) -> Result<i32, Error> {
        let help = "write it as `3 days`, `2 weeks`, `1 month` or `1 year`";
        let Some(text) = &self.section.within else {
            return Err(wrong("nothing says how near the newest day has to be", "set `within = \"3 days\"`"));
        };
        let today = self.model.settings_for(self.options).today;
        let mut words = text.split_whitespace();
        let count = words.next().and_then(|n| n.parse::<u16>().ok()).map(i32::from);
        let unit = words.next().map(|unit| unit.trim_end_matches('s'));
        let day = match (count, unit, words.next()) {
            (Some(n), Some("day"), None) => today.checked_sub(n),
            (Some(n), Some("week"), None) => today.checked_sub(7 * n),
            (Some(n), Some("month"), None) => date::add_months(today, -i64::from(n)),
            (Some(n), Some("year"), None) => date::add_months(today, -12 * i64::from(n)),
            _ => None,
        };
        day.ok_or_else(|| wrong(&format!("`{text}` is no span of days"), help))
    }

    fn fresh(&self, column: &str) -> Differences {
        let (_, names) = self.columns(std::slice::from_ref(&column.to_string()))?;
        let (least, name) = (self.least_day()?, names.concat());
        let grid = self.asked(&format!("grid max({name}) as newest"))?;
        let newest = grid.lines.first().and_then(|l| l.values.first()).cloned().unwrap_or(Value::Null);
        let day = match &newest {
            Value::Date(day) => Some(i64::from(*day)),
            Value::Timestamp(micros) => Some(micros.div_euclid(86_400_000_000)),
            Value::Null => None,
            _ => return Err(wrong(&format!("{name} is no date"), "`fresh` names a column of dates or timestamps")),
        };
        if day.is_some_and(|day| day >= i64::from(least)) {
            return Ok(Vec::new());
        }
        let at = Map::from_iter([("newest of".to_string(), Json::from(name))]);
        let expected = Json::from(format!("{} or later", date::date_to_string(least)));
        Ok(vec![Difference { at, expected, got: json(&newest) }])
    }
}

fn wrong(message: &str, help: &str) -> Error {
    Error::Problems(vec![Diagnostic::general(Problem::Model, message).help(help)])
}

fn json(value: &Value) -> Json {
    serde_json::to_value(value).unwrap_or_default()
}

fn expected_json(value: &ExpectedValue) -> Json {
    match value {
        ExpectedValue::Bool(b) => Json::from(*b),
        ExpectedValue::Int(n) => Json::from(*n),
        ExpectedValue::Number(x) => Json::from(*x),
        ExpectedValue::Text(text) if text.is_empty() => Json::Null,
        ExpectedValue::Text(text) => Json::from(text.as_str()),
    }
}
