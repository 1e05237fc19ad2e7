//! Grids as people and scripts read them.

use std::time::Duration;

use serde::{Serialize, Serializer};
use serde_json::{Value as Json, json};

use super::result::{Grid, GridColumn, GridColumnKind, GridLine, LineKind};
use cubrel_formula::words::{quote_name, quote_text};
use cubrel_value::format::Formats;
use cubrel_value::{Type, Value};

/// What stands for null on an axis.
const NONE: &str = "(none)";
/// What a totalled axis is called.
pub(super) const TOTAL: &str = "total";
/// What the rest of a limit is called.
pub(super) const OTHERS: &str = "others";

impl GridLine {
    /// What stands on one of the grid's columns: of an axis a value, none, the total or the rest of a limit.
    pub fn kind(&self, column: usize) -> LineKind {
        if self.totalled.contains(&column) {
            LineKind::Total
        } else if self.others.contains(&column) {
            LineKind::Others
        } else if self.values.get(column).is_none_or(Value::is_null) {
            LineKind::None
        } else {
            LineKind::Value
        }
    }
}

impl GridColumnKind {
    /// Its name in JSON.
    pub fn name(self) -> &'static str {
        match self {
            GridColumnKind::Row | GridColumnKind::Field => "row",
            GridColumnKind::Column => "column",
            GridColumnKind::Measure => "measure",
        }
    }
}

impl GridColumn {
    /// What people read over it.
    pub fn heading(&self) -> String {
        let own = self.label.clone().unwrap_or_else(|| match self.kind {
            GridColumnKind::Measure => self.name.clone(),
            // `route.name` is about routes, and `calendar.month` about months.
            _ => match self.name.split_once('.') {
                Some((table, "name")) => spaced(table),
                Some((_, column)) => spaced(column),
                None => spaced(&self.name),
            },
        });
        self.prefix.clone().unwrap_or_default() + &own
    }

    /// A value of it as people read it, by a pattern or by what is usual for its type.
    pub fn text(&self, value: &Value, format: Option<&str>, formats: &Formats) -> String {
        let axis = matches!(self.kind, GridColumnKind::Row | GridColumnKind::Column);
        if axis && value.is_null() {
            return NONE.to_string();
        }
        if let Some(reading) = self.readings.iter().find(|r| value.as_text() == Some(&r.name)) {
            return reading.label.clone().unwrap_or_else(|| spaced(&reading.name));
        }
        let prefix = if axis { self.prefix.clone().unwrap_or_default() } else { String::new() };
        // Years and other whole numbers that name something have no commas.
        if axis && format.is_none() && self.ty == Type::Int {
            return prefix + &value.to_string();
        }
        prefix + &formats.show(value, self.ty, format)
    }
}

fn spaced(name: &str) -> String {
    let text = name.replace('_', " ");
    let mut chars = text.chars();
    chars.next().map_or(String::new(), |c| c.to_uppercase().chain(chars).collect())
}

/// A record of CSV; fields that hold what parts fields or records are quoted.
fn push_record(csv: &mut String, fields: impl Iterator<Item = String>) {
    for (i, field) in fields.enumerate() {
        if i > 0 {
            csv.push(',');
        }
        if field.contains([',', '"', '\n', '\r']) {
            csv.push('"');
            csv.push_str(&field.replace('"', "\"\""));
            csv.push('"');
        } else {
            csv.push_str(&field);
        }
    }
    csv.push('\n');
}

impl Grid {
    /// What stands in a line and a column, as people read it; nothing where there is no such line or column.
    ///
    /// ```
    /// # fn main() -> Result<(), cubrel::Error> {
    /// use cubrel::{Formats, Model, Type, Value};
    ///
    /// let rows = [("Ness", 1200), ("Holm", 30)].map(|(route, net)| vec![Value::text(route), Value::Int(net)]);
    /// let model = Model::builder().rows("booking", &[("route", Type::Text), ("net", Type::Int)], &rows).build()?;
    /// let grid = model.query("grid sum(booking.net) as net by booking.route totals")?.run()?;
    /// let texts = |line| [0, 1].map(|column| grid.text(line, column, &Formats::default()));
    /// assert_eq!(texts(1), ["Ness", "1,200"]);
    /// assert_eq!(texts(2), ["total", "1,230"]);
    /// # Ok(())
    /// # }
    /// ```
    pub fn text(&self, line: usize, column: usize, formats: &Formats) -> String {
        let (Some(of), Some(line)) = (self.columns.get(column), self.lines.get(line)) else { return String::new() };
        match line.kind(column) {
            LineKind::Total => TOTAL.to_string(),
            LineKind::Others => OTHERS.to_string(),
            LineKind::Value | LineKind::None => {
                let Some(value) = line.values.get(column) else { return String::new() };
                of.text(value, self.format_of(line, column), formats)
            }
        }
    }

    /// Where a line stands, as `Model::why` is told: `route.name = 'Ness', calendar.year = 2025`. Axes that
    /// are totalled are not named; of the rest of a limit there is no such place.
    pub fn place(&self, line: usize) -> Option<String> {
        let line = self.lines.get(line).filter(|line| line.others.is_empty())?;
        let is_axis = |c: &GridColumn| matches!(c.kind, GridColumnKind::Row | GridColumnKind::Column);
        let axes = self.columns.iter().enumerate().filter(|(i, c)| is_axis(c) && !line.totalled.contains(i));
        let conditions = axes.map(|(i, column)| {
            let name = match column.name.split_once('.') {
                Some((table, own)) => format!("{}.{}", quote_name(table), quote_name(own)),
                None => quote_name(&column.name),
            };
            match &line.values[i] {
                Value::Null => format!("{name} is null"),
                Value::Text(text) => format!("{name} = {}", quote_text(text)),
                Value::Date(_) => format!("{name} = date '{}'", line.values[i]),
                Value::Timestamp(_) => format!("{name} = timestamp '{}'", line.values[i]),
                other => format!("{name} = {other}"),
            }
        });
        Some(conditions.collect::<Vec<_>>().join(", "))
    }

    /// The grid as CSV (RFC 4180, lines end with a line feed): a header, then one record a line. With formats, as people read
    /// it; without, values as formulas write them, and columns that tell which axes are totalled or are the rest of a limit.
    ///
    /// ```
    /// # fn main() -> Result<(), cubrel::Error> {
    /// use cubrel::{Formats, Model, Type, Value};
    ///
    /// let rows = [("Ness", 1200), ("Holm", 30)].map(|(route, net)| vec![Value::text(route), Value::Int(net)]);
    /// let model = Model::builder().rows("booking", &[("route", Type::Text), ("net", Type::Int)], &rows).build()?;
    /// let grid = model.query("grid sum(booking.net) as net by booking.route")?.run()?;
    /// assert_eq!(grid.to_csv(None), "booking.route,net\nHolm,30\nNess,1200\n");
    /// assert_eq!(grid.to_csv(Some(&Formats::default())), "Route,net\nHolm,30\nNess,\"1,200\"\n");
    /// # Ok(())
    /// # }
    /// ```
    pub fn to_csv(&self, formats: Option<&Formats>) -> String {
        let mut csv = String::new();
        let heads = self.columns.iter().map(|c| if formats.is_some() { c.heading() } else { c.name.clone() });
        let marks = [self.totals.then_some(TOTAL), self.others.then_some(OTHERS)];
        let marks: Vec<String> = marks.into_iter().flatten().map(str::to_string).collect();
        push_record(&mut csv, heads.chain(marks));
        let named = |axes: &[usize]| axes.iter().map(|i| self.columns[*i].name.as_str()).collect::<Vec<_>>().join(" ");
        for (at, line) in self.lines.iter().enumerate() {
            let values = line.values.iter().enumerate().map(|(column, value)| match formats {
                Some(formats) => self.text(at, column, formats),
                None => value.to_string(),
            });
            let marks = [self.totals.then(|| named(&line.totalled)), self.others.then(|| named(&line.others))];
            push_record(&mut csv, values.chain(marks.into_iter().flatten()));
        }
        csv
    }

    /// The grid as one JSON value, flat: `{"columns", "rows", "elapsed_ms"}`.
    pub fn to_json(&self, elapsed: Duration) -> Json {
        let columns = self
            .columns
            .iter()
            .map(|c| json!({"name": c.name, "label": c.heading(), "type": c.ty.to_string(), "kind": c.kind.name()}));
        let mut columns: Vec<Json> = columns.collect();
        columns.extend(self.totals.then(|| json!({"name": TOTAL, "kind": TOTAL})));
        columns.extend(self.others.then(|| json!({"name": OTHERS, "kind": OTHERS})));
        let rows = self.lines.iter().map(|line| {
            let mut values: Vec<Json> = line.values.iter().map(|value| json!(value)).collect();
            values.extend(self.totals.then(|| self.names(&line.totalled)));
            values.extend(self.others.then(|| self.names(&line.others)));
            Json::Array(values)
        });
        let rows: Vec<Json> = rows.collect();
        let elapsed_ms = (elapsed.as_secs_f64() * 1e6).round() / 1e3;
        json!({"columns": columns, "rows": rows, "elapsed_ms": elapsed_ms})
    }

    /// One of its lines as a JSON object by the names of the columns; null where there is no such line.
    pub fn line_to_json(&self, line: usize) -> Json {
        let Some(line) = self.lines.get(line) else { return Json::Null };
        let values = self.columns.iter().zip(&line.values).map(|(c, v)| (c.name.clone(), json!(v)));
        let mut object: serde_json::Map<String, Json> = values.collect();
        object.extend(self.totals.then(|| (TOTAL.to_string(), self.names(&line.totalled))));
        object.extend(self.others.then(|| (OTHERS.to_string(), self.names(&line.others))));
        Json::Object(object)
    }

    fn names(&self, axes: &[usize]) -> Json {
        json!(axes.iter().map(|i| &self.columns[*i].name).collect::<Vec<_>>())
    }
}

/// As [`Grid::to_json`], without a time.
impl Serialize for Grid {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let mut json = self.to_json(Duration::ZERO);
        if let Json::Object(entries) = &mut json {
            entries.remove("elapsed_ms");
        }
        json.serialize(serializer)
    }
}
