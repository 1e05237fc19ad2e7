//! What a model says of how the source of a table is read.

use std::collections::HashMap;
use std::sync::Arc;

use super::LoadError;
use super::dialect::{DatePattern, Dialect, Shape};
use super::nested::RowsOf;
use super::time_zone::TimeZone;
use super::unpivot::Unpivot;
use cubrel_formula::source::{Problem, suggestion};
use cubrel_model::document::Document;
use cubrel_model::file::TableSection;
use cubrel_value::{Type, exact};

/// How a source is read. Columns go by their names in the model.
#[derive(Default)]
pub(super) struct ReadSettings {
    /// How delimited text is laid out.
    pub(super) dialect: Dialect,
    /// How the header of a text begins.
    pub(super) header: Option<Arc<str>>,
    /// Where times that say how far they are from UTC are told.
    pub(super) zone: Option<TimeZone>,
    /// The list whose entries are the rows.
    pub(super) rows_of: Option<RowsOf>,
    /// Columns whose values become rows.
    pub(super) unpivot: Option<Unpivot>,
    /// From names in the source.
    pub(super) renamed: HashMap<String, String>,
    /// From places in the source, from 1.
    pub(super) positions: HashMap<usize, String>,
    /// From paths in it.
    pub(super) paths: HashMap<String, String>,
    /// Types that are declared.
    pub(super) types: HashMap<String, Type>,
    /// How fields are written, where it is said of their column.
    pub(super) shapes: HashMap<String, Shape>,
    /// What stands for null in some columns.
    pub(super) missing: HashMap<String, Vec<String>>,
}

impl ReadSettings {
    /// What the model says of a table.
    ///
    /// # Errors
    /// When it says what cannot be.
    pub(super) fn of(document: &Document, name: &str, section: &TableSection) -> Result<ReadSettings, LoadError> {
        let mut all = ReadSettings {
            dialect: dialect(document, name, section)?,
            header: header(document, name, section)?,
            zone: section.time_zone.as_deref().map(|zone| time_zone(document, name, zone)).transpose()?,
            rows_of: rows_of(document, name, section)?,
            unpivot: unpivot(document, name, section)?,
            ..ReadSettings::default()
        };
        all.of_columns(document, name, section)?;
        // What becomes of columns is, to the model, as if it stood in the source.
        all.unpivot = all.unpivot.map(|unpivot| unpivot.renamed(&all.renamed));
        Ok(all)
    }

    /// What the model says of the columns of a source.
    fn of_columns(&mut self, document: &Document, name: &str, section: &TableSection) -> Result<(), LoadError> {
        for (column, said) in section.column.iter().filter(|(_, c)| c.formula.is_none()) {
            let path = |key: &str| format!("table.{name}.column.{column}.{key}");
            if let Some(source) = &said.source_name {
                self.renamed.insert(source.clone(), column.clone());
            }
            if let Some(path) = &said.path {
                self.paths.insert(path.clone(), column.clone());
            }
            if said.path.is_some() && (said.source_name.is_some() || said.source_position.is_some()) {
                let message =
                    format!("`{column}` has a path in the source and something else that says which column it is");
                let problem = document.problem(Problem::Model, &path("path"), message);
                return Err(problem.help("one of them says it").into());
            }
            if let Some(place) = said.source_position {
                let wrong = |message: String, help: &str| {
                    LoadError::from(document.problem(Problem::Model, &path("source_position"), message).help(help))
                };
                if said.source_name.is_some() {
                    let message = format!("`{column}` has a place in the source and a name there");
                    return Err(wrong(message, "one of them says which column it is"));
                }
                if let Some(other) = self.positions.insert(place as usize, column.clone()) {
                    return Err(wrong(
                        format!("`{other}` is column {place}, too"),
                        "give each column a place of its own",
                    ));
                }
                if place == 0 {
                    return Err(wrong("there is no column 0".into(), "the first column is 1"));
                }
            }
            if let Some(text) = &said.ty {
                self.types.insert(column.clone(), declared_type(document, name, column, text)?);
            }
            if let Some(patterns) = &said.date_pattern {
                let parsed = patterns.list().iter().map(|pattern| DatePattern::parse(pattern));
                let parsed = parsed.collect::<Result<Vec<_>, String>>();
                let parsed = parsed.map_err(|e| document.problem(Problem::Model, &path("date_pattern"), e))?;
                self.shapes.insert(column.clone(), Shape::Dated(parsed));
            }
            if let Some(missing) = &said.missing {
                self.missing.insert(column.clone(), missing.clone());
            }
        }
        Ok(())
    }
}

/// How the header of a table's text begins, where that is said.
fn header(document: &Document, name: &str, section: &TableSection) -> Result<Option<Arc<str>>, LoadError> {
    let csv = section.csv.as_ref();
    let wrong = |message: &str, help: &str| {
        let path = format!("table.{name}.csv.header");
        Err(document.problem(Problem::Model, &path, message).help(help).into())
    };
    match (csv.and_then(|csv| csv.header.as_deref()), csv.and_then(|csv| csv.skip)) {
        (Some(text), _) if text.trim().is_empty() => {
            wrong("every line begins with nothing", "write how the line with the names begins")
        }
        (Some(_), Some(_)) => wrong("`skip` says already where the header stands", "leave one of the two"),
        (Some(text), None) => Ok(Some(text.trim_start().into())),
        (None, _) => Ok(None),
    }
}

/// How the model says that a table's text is laid out.
fn dialect(document: &Document, name: &str, section: &TableSection) -> Result<Dialect, LoadError> {
    let said = section.csv.clone().unwrap_or_default();
    let wrong = |key: &str, message: String, help: &str| {
        let path = format!("table.{name}.csv.{key}");
        LoadError::from(document.problem(Problem::Model, &path, message).help(help))
    };
    let one = |key: &str, text: Option<&str>| match text {
        None => Ok(None),
        Some("\\t") => Ok(Some(b'\t')),
        Some(text) if text.len() == 1 => Ok(text.bytes().next()),
        Some(text) => Err(wrong(key, format!("`{text}` is not one character"), "write one character, such as `;`")),
    };
    let delimiter = one("delimiter", said.delimiter.as_deref())?;
    let quote = one("quote", said.quote.as_deref())?.unwrap_or(b'"');
    let decimal_comma = match said.decimal.as_deref() {
        None | Some(".") => false,
        Some(",") => true,
        Some(other) => {
            return Err(wrong("decimal", format!("`{other}` does not part decimals"), "write `.` or `,`"));
        }
    };
    let point = if decimal_comma { "," } else { "." };
    let thousands = match said.thousands.as_deref() {
        None => None,
        Some(text) if text == point => {
            let help = "say what parts decimals, too: `decimal = \",\"`";
            return Err(wrong("thousands", format!("`{text}` parts decimals"), help));
        }
        Some(text @ ("," | "." | "'" | "’" | " " | "_" | "\u{a0}" | "\u{202f}")) => text.chars().next(),
        Some(other) => {
            let help = "write `,`, `.`, `'` or a space";
            return Err(wrong("thousands", format!("`{other}` does not part thousands"), help));
        }
    };
    let encoding = match said.encoding.as_deref() {
        None => encoding_rs::UTF_8,
        Some(label) => encoding_rs::Encoding::for_label(label.as_bytes()).ok_or_else(|| {
            wrong("encoding", format!("`{label}` is not an encoding"), "write one such as `windows-1252` or `utf-16le`")
        })?,
    };
    let skip = said.skip.unwrap_or(0);
    Ok(Dialect { delimiter, quote, decimal_comma, thousands, encoding, skip })
}

fn time_zone(document: &Document, table: &str, zone: &str) -> Result<TimeZone, LoadError> {
    TimeZone::named(zone).map_err(|known| {
        let path = format!("table.{table}.time_zone");
        let problem = document.problem(Problem::Model, &path, format!("`{zone}` is not a time zone"));
        let known: Vec<&str> = known.iter().map(String::as_str).collect();
        problem.help(suggestion(zone, &known)).into()
    })
}

/// The type that a text means, where a column can have it.
///
/// # Errors
/// When it is none, or no column can have it.
pub(super) fn declared_type(document: &Document, table: &str, column: &str, text: &str) -> Result<Type, LoadError> {
    let path = format!("table.{table}.column.{column}.type");
    let ty = Type::parse(text).ok_or_else(|| {
        document
            .problem(Problem::Type, &path, format!("`{text}` is not a type"))
            .help("the types are int, decimal(p,s), float, text, bool, date, timestamp")
    })?;
    if let Type::Decimal { precision, .. } = ty
        && precision > exact::STORED_DIGITS
    {
        let message = format!("a column stores at most {} digits", exact::STORED_DIGITS);
        return Err(document.problem(Problem::Type, &path, message).into());
    }
    Ok(ty)
}

/// The list whose entries are the rows. When nothing is said of it, the key of the table that has the rows around goes with
/// them.
fn rows_of(document: &Document, name: &str, section: &TableSection) -> Result<Option<RowsOf>, LoadError> {
    let Some(list) = &section.rows_of else {
        if section.carry.is_some() {
            let path = format!("table.{name}.carry");
            let problem =
                document.problem(Problem::Model, &path, "`carry` is for tables of the entries of lists".to_string());
            return Err(problem.help("say which list: `rows_of = \"items\"`").into());
        }
        return Ok(None);
    };
    if list.split('.').any(str::is_empty) {
        let problem =
            document.problem(Problem::Model, &format!("table.{name}.rows_of"), format!("`{list}` leads nowhere"));
        return Err(problem.help("write the names that lead to the list, such as `order.items`").into());
    }
    if let Some(carried) = &section.carry {
        return Ok(Some(RowsOf::new(list, carried)));
    }
    let keys = keys_around(document, section);
    let [key] = keys.as_slice() else {
        let path = format!("table.{name}.rows_of");
        let problem =
            document.problem(Problem::Model, &path, format!("nothing says which row an entry of `{list}` belongs to"));
        return Err(problem.help("say what of the rows around goes with them: `carry = [\"order_id\"]`").into());
    };
    Ok(Some(RowsOf::new(list, std::slice::from_ref(key))))
}

/// The keys of the tables that have the rows around the entries of a list, as paths in the source.
pub(super) fn keys_around(document: &Document, section: &TableSection) -> Vec<String> {
    let is_around = |other: &&TableSection| other.rows_of.is_none() && other.sources() == section.sources();
    let key = |other: &TableSection| {
        let key = other.key.as_deref()?;
        let path = other.column.get(key).and_then(|column| column.path.clone());
        Some(path.unwrap_or_else(|| source_name(other, key).to_string()))
    };
    document.file.table.values().filter(is_around).filter_map(key).collect()
}

/// Columns whose values become rows.
fn unpivot(document: &Document, name: &str, section: &TableSection) -> Result<Option<Unpivot>, LoadError> {
    let Some(said) = &section.unpivot else { return Ok(None) };
    let wrong = |key: &str, message: String, help: &str| {
        LoadError::from(document.problem(Problem::Model, &format!("table.{name}.unpivot{key}"), message).help(help))
    };
    if said.name == said.value {
        return Err(wrong(
            ".value",
            format!("names and values cannot both be called `{}`", said.name),
            "give them two names",
        ));
    }
    let unpivot = Unpivot::new(&said.columns, &said.name, &said.value);
    unpivot.map(Some).map_err(|(pattern, why)| {
        wrong(".columns", format!("`{pattern}` is not a pattern: {why}"), "write names, or such as `q_*`")
    })
}

/// What a column is called in the source.
pub(super) fn source_name<'s>(section: &'s TableSection, column: &'s str) -> &'s str {
    section.column.get(column).and_then(|c| c.source_name.as_deref()).unwrap_or(column)
}
