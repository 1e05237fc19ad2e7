//! Models made in code.

use arrow_array::RecordBatch;

use super::assembled::{Known, assemble};
use super::{Error, Model};
use crate::formula::check::Settings;
use crate::formula::source::{Diagnostic, Problem, Severity};
use crate::load::Silent;
use crate::load::tables::{LoadedTable, Loader};
use crate::model::Document;
use crate::model::dependencies::formulas;
use crate::model::file::{ColumnSection, MeasureSection, ModelFile, OneOrMany, RelationshipSection, TableSection};
use crate::store::RawColumn;
use crate::value::{Type, Value, VectorBuilder, arrow};

/// Puts a model together from tables in memory.
///
/// ```
/// use std::sync::Arc;
/// use arrow_array::{ArrayRef, Int64Array, RecordBatch, StringArray};
///
/// # fn main() -> Result<(), Box<dyn std::error::Error>> {
/// let route = RecordBatch::try_from_iter([
///     ("id", Arc::new(Int64Array::from(vec![1, 2])) as ArrayRef),
///     ("region", Arc::new(StringArray::from(vec!["North", "South"])) as ArrayRef),
/// ])?;
/// let booking = RecordBatch::try_from_iter([
///     ("route_id", Arc::new(Int64Array::from(vec![1, 1, 2])) as ArrayRef),
///     ("net", Arc::new(Int64Array::from(vec![10, 20, 5])) as ArrayRef),
/// ])?;
/// let model = cubrel::Model::builder()
///     .table("route", &[route])
///     .table("booking", &[booking])
///     .relationship("booking.route_id", "route.id")
///     .measure("net_revenue", "sum(booking.net)")
///     .build()?;
/// let grid = model.query("grid net_revenue by route.region")?.run()?;
/// assert_eq!(grid.lines[0].values[1], cubrel::Value::Int(30));
/// # Ok(())
/// # }
/// ```
#[derive(Debug, Default)]
pub struct Builder {
    file: ModelFile,
    document: Option<Document>,
    tables: Vec<(String, Vec<(String, RawColumn)>)>,
    problems: Vec<Diagnostic>,
    settings: Settings,
}

impl Builder {
    /// A table from record batches of one schema.
    #[must_use]
    pub fn table(mut self, name: &str, batches: &[RecordBatch]) -> Builder {
        match columns(batches) {
            Ok(columns) => self = self.raw_table(name, columns),
            Err(message) => {
                self.problems.push(Diagnostic::general(Problem::Data, format!("table `{name}`: {message}")))
            }
        }
        self
    }

    /// A table from named columns of values.
    #[must_use]
    pub fn rows(self, name: &str, columns: &[(&str, Type)], rows: &[Vec<Value>]) -> Builder {
        let columns = columns.iter().enumerate().map(|(i, (column, ty))| {
            let mut builder = VectorBuilder::new(*ty, rows.len());
            rows.iter().for_each(|row| builder.push(row.get(i).cloned().unwrap_or(Value::Null)));
            let raw = RawColumn::from_vector(builder.finish(), *ty);
            (column.to_string(), raw)
        });
        let mut taken = Vec::new();
        for (column, raw) in columns {
            match raw {
                Ok(raw) => taken.push((column, raw)),
                Err((row, _)) => {
                    let message = format!("table `{name}`: `{column}` in row {} does not fit 64 bits", row + 1);
                    return self.with_problem(Diagnostic::general(Problem::Data, message));
                }
            }
        }
        self.raw_table(name, taken)
    }

    /// What a `model.toml` would say: measures, lenses, roles, relationships, sections of tables. Tables that it names need
    /// rows from [`Builder::table`], unless they are generated calendars or copies.
    #[must_use]
    pub fn definitions(mut self, toml: &str) -> Builder {
        match Document::parse("definitions", toml, std::path::PathBuf::new()) {
            Ok(document) => {
                let file = document.file.clone();
                self.file.model = file.model;
                self.file.table.extend(file.table);
                self.file.relationship.extend(file.relationship);
                self.file.measure.extend(file.measure);
                self.file.query.extend(file.query);
                self.file.lens.extend(file.lens);
                self.file.role.extend(file.role);
                self.document = Some(document);
            }
            Err(problems) => self.problems.extend(problems),
        }
        self
    }

    fn with_problem(mut self, problem: Diagnostic) -> Builder {
        self.problems.push(problem);
        self
    }

    fn raw_table(mut self, name: &str, columns: Vec<(String, RawColumn)>) -> Builder {
        self.file.table.entry(name.to_string()).or_default();
        self.tables.push((name.to_string(), columns));
        self
    }

    /// A generated calendar.
    #[must_use]
    pub fn calendar(mut self, name: &str, from: &str, to: &str) -> Builder {
        let section = self.file.table.entry(name.to_string()).or_default();
        section.calendar = Some("date".into());
        section.generate = Some(crate::model::file::GenerateSection {
            from: Some(from.into()),
            to: Some(to.into()),
            ..Default::default()
        });
        self
    }

    /// A calculated column.
    #[must_use]
    pub fn column(mut self, table: &str, name: &str, formula: &str) -> Builder {
        let column = ColumnSection { formula: Some(formula.into()), ..ColumnSection::default() };
        self.file.table.entry(table.to_string()).or_default().column.insert(name.into(), column);
        self
    }

    /// The column that orders another.
    #[must_use]
    pub fn display_order(mut self, table: &str, column: &str, by: &str) -> Builder {
        let section = self.file.table.entry(table.to_string()).or_default();
        section.column.entry(column.to_string()).or_default().display_order = Some(by.into());
        self
    }

    /// A relationship between two columns, written `table.column`; several are joined with `+`.
    #[must_use]
    pub fn relationship(self, many: &str, one: &str) -> Builder {
        self.related(many, one, false)
    }

    /// A relationship that is followed only where a formula names it.
    #[must_use]
    pub fn spare_relationship(self, many: &str, one: &str) -> Builder {
        self.related(many, one, true)
    }

    fn related(mut self, many: &str, one: &str, spare: bool) -> Builder {
        let side = |text: &str| OneOrMany::Many(text.split('+').map(|s| s.trim().to_string()).collect());
        self.file.relationship.push(RelationshipSection { many: side(many), one: side(one), spare, both_ways: false });
        self
    }

    /// A measure.
    #[must_use]
    pub fn measure(mut self, name: &str, formula: &str) -> Builder {
        let measure = MeasureSection {
            formula: formula.into(),
            label: None,
            format: None,
            group: None,
            note: None,
            hidden: false,
        };
        self.file.measure.insert(name.into(), measure);
        self
    }

    /// A hierarchy.
    #[must_use]
    pub fn hierarchy(mut self, table: &str, name: &str, levels: &[&str]) -> Builder {
        let levels = levels.iter().map(|l| l.to_string()).collect();
        let section = self.file.table.entry(table.to_string()).or_default();
        section.hierarchy.insert(name.into(), crate::model::file::HierarchySection { levels });
        self
    }

    /// The day that `today()` is, as a day number.
    #[must_use]
    pub fn today(mut self, day: i32) -> Builder {
        self.settings.today = day;
        self
    }

    /// Checks and computes everything.
    ///
    /// # Errors
    /// Everything that is wrong.
    pub fn build(self) -> Result<Model, Error> {
        if !self.problems.is_empty() {
            return Err(Error::Problems(self.problems));
        }
        let document = match self.document {
            Some(document) => document.with_file(self.file),
            None => Document::in_memory(self.file),
        };
        let formulas = formulas(&document);
        if formulas.problems.iter().any(|p| p.severity == Severity::Error) {
            return Err(Error::Problems(formulas.problems));
        }
        let loader = Loader {
            document: &document,
            formulas: &formulas,
            observer: &Silent,
            settings: &self.settings,
            memory: None,
            since: None,
            piece: None,
        };
        let mut given = self.tables;
        let settings = Settings { locale: document.file.model.locale_with_currency(), ..self.settings.clone() };
        let mut tables: Vec<LoadedTable> = Vec::new();
        for (name, section) in &document.file.table {
            if let Some(first) = &section.same_as {
                match tables.iter().find(|t| t.name == *first) {
                    Some(first) => tables.push(first.in_role(name, section, &formulas)),
                    None => {
                        let message = format!("define `{first}` before its copy `{name}`");
                        return Err(Error::Problems(vec![Diagnostic::general(Problem::Model, message)]));
                    }
                }
                continue;
            }
            if section.query.is_some() {
                tables.push(LoadedTable::worked_out(name, section, &formulas));
                continue;
            }
            let place = given.iter().position(|(n, _)| n == name);
            tables.push(match place {
                Some(place) => loader.given(name, section, given.swap_remove(place).1)?,
                None => build_calendar(&loader, name, section)?,
            });
        }
        assemble(document.clone(), &formulas, &tables, settings, Known::default())
    }
}

fn build_calendar(loader: &Loader<'_>, name: &str, section: &TableSection) -> Result<LoadedTable, Error> {
    if section.generate.is_none() {
        let problem = Diagnostic::general(Problem::Model, format!("table `{name}` has no rows"));
        return Err(Error::Problems(vec![problem.help("give it record batches")]));
    }
    Ok(loader.generated(name, section, None)?)
}

/// The columns of record batches, one after the other.
fn columns(batches: &[RecordBatch]) -> Result<Vec<(String, RawColumn)>, String> {
    let Some(first) = batches.first() else {
        return Err("there is no record batch".into());
    };
    let schema = first.schema();
    let mut columns = Vec::new();
    for (i, field) in schema.fields().iter().enumerate() {
        let mut values = Vec::new();
        let mut ty = Type::Null;
        for batch in batches {
            if batch.schema() != schema {
                return Err("its record batches have different schemas".into());
            }
            let (part_ty, part) =
                arrow::values(batch.column(i).as_ref()).map_err(|e| format!("column `{}`: {e}", field.name()))?;
            ty = part_ty;
            values.extend(part);
        }
        let mut builder = VectorBuilder::new(ty, values.len());
        values.into_iter().for_each(|v| builder.push(v));
        let raw = RawColumn::from_vector(builder.finish(), ty);
        columns.push((field.name().clone(), raw.map_err(|(row, _)| format!("row {} does not fit 64 bits", row + 1))?));
    }
    Ok(columns)
}
