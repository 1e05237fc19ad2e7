//! What is untidy in a model: nothing is wrong with it, and whoever comes next would thank for it.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

use super::graph::Graph;
use super::unused;
use crate::{Diagnostic, Formats, Model, Problem, Type, Value};
use cubrel_formula::lexer::{TokenKind, tokens};
use cubrel_formula::schema::{ColumnDef, ColumnId, MeasureId, RelationshipId, TableId};
use cubrel_formula::source::{Source, Span, suggestion};
use cubrel_formula::typed::{AggregateKind, Kind, Op, Over, TypedExpr};
use cubrel_formula::words::quote_name;
use cubrel_model::mentions::Mention;
use cubrel_model::parts::{Part, PartKind};
use cubrel_value::{date, units};

/// The names of all hints, as `allow` takes them.
pub const HINTS: &[&str] = &[
    "shown_key",
    "no_format",
    "no_display_order",
    "alike_values",
    "summed_ratio",
    "zero_division",
    "repeated_formula",
    "orphans",
    "unused",
];

/// Texts of columns with more different ones are not held against each other.
const MOST_COMPARED: u64 = 5000;
/// Examples that are shown.
const EXAMPLES: usize = 3;
/// A relationship has many orphans where so many in a hundred rows find nothing.
const MANY_ORPHANS: u64 = 1;

impl Model {
    /// What is untidy: keys that are shown, figures without a format, names of months without an order, texts that are nearly
    /// the same, sums of ratios,
    /// divisions by zero that drop rows, formulas that stand twice, relationships with many orphans, parts that nothing uses.
    ///
    /// Each has a name ([`Diagnostic::hint`]), by which `allow = ["…"]` in the file silences it: in `[model]` for all, in the
    /// section of a table, column, measure or relationship for that.
    ///
    /// ```
    /// # fn main() -> Result<(), cubrel::Error> {
    /// use cubrel::{Model, Type, Value};
    ///
    /// let text = "[measure.share]\nformula = 'sum(booking.net) / 2'\n";
    /// let builder = || Model::builder().rows("booking", &[("net", Type::Int)], &[vec![Value::Int(10)]]);
    /// let names = |model: &Model| model.hints().iter().filter_map(|h| h.hint).collect::<Vec<_>>();
    /// assert_eq!(names(&builder().definitions(text).build()?), ["no_format", "unused"]);
    /// let allowed = format!("{text}allow = ['no_format', 'unused']");
    /// assert!(names(&builder().definitions(&allowed).build()?).is_empty());
    /// # Ok(())
    /// # }
    /// ```
    pub fn hints(&self) -> Vec<Diagnostic> {
        // Whoever sees a part of a model is not who tidies it up.
        if self.seen_as().is_some() {
            return Vec::new();
        }
        let mut hints = Hints { model: self, graph: Graph::new(self), found: Vec::new() };
        hints.shown_keys();
        hints.formats();
        hints.display_orders();
        hints.alike_values();
        hints.figures();
        hints.repeated();
        hints.orphans();
        // What a wrong formula uses is not known.
        if self.wrong_measures().is_empty() {
            hints.unused();
        }
        hints.found
    }
}

/// Names in `allow` that no hint has.
pub(super) fn unknown_names(model: &Model) -> Vec<Diagnostic> {
    let document = model.document();
    let file = &document.file;
    let mut all: Vec<(String, &Vec<String>)> = vec![("model".into(), &file.model.allow)];
    for (table, section) in &file.table {
        all.push((format!("table.{table}"), &section.allow));
        all.extend(section.column.iter().map(|(c, said)| (format!("table.{table}.column.{c}"), &said.allow)));
    }
    all.extend(file.relationship.iter().enumerate().map(|(i, r)| (format!("relationship.{i}"), &r.allow)));
    all.extend(file.measure.iter().map(|(name, m)| (format!("measure.{name}"), &m.allow)));
    let mut problems = Vec::new();
    for (path, names) in all {
        for (i, name) in names.iter().enumerate().filter(|(_, name)| !HINTS.contains(&name.as_str())) {
            let problem = document.problem(
                Problem::UnknownName,
                &format!("{path}.allow.{i}"),
                format!("no hint is called `{name}`"),
            );
            problems.push(problem.help(suggestion(name, HINTS)));
        }
    }
    problems
}

struct Hints<'m> {
    model: &'m Model,
    graph: Graph<'m>,
    found: Vec<Diagnostic>,
}

impl Hints<'_> {
    fn is_allowed(&self, hint: &str, part: &Part) -> bool {
        let file = &self.model.document().file;
        let holds = |list: &Vec<String>| list.iter().any(|name| name == hint);
        let table = |name: &str| file.table.get(name).is_some_and(|s| holds(&s.allow));
        holds(&file.model.allow)
            || match part {
                Part::Table(name) | Part::Hierarchy(name, _) => table(name),
                Part::Column(name, column) => {
                    let said = file.table.get(name).and_then(|s| s.column.get(column));
                    table(name) || said.is_some_and(|c| holds(&c.allow))
                }
                Part::Measure(name) => file.measure.get(name).is_some_and(|m| holds(&m.allow)),
                Part::Relationship(i) => file.relationship.get(*i).is_some_and(|r| holds(&r.allow)),
                _ => false,
            }
    }

    fn add(&mut self, hint: &'static str, problem: Diagnostic, help: impl Into<String>) {
        self.found.push(problem.help(help).as_hint(hint));
    }

    /// A hint about a part, at its own place or else at another one.
    fn about(&mut self, hint: &'static str, part: &Part, other: &str, message: String, help: String) {
        if self.is_allowed(hint, part) {
            return;
        }
        let document = self.model.document();
        let own = part.keys().join(".");
        let path = if document.says(&own) { own } else { other.to_string() };
        self.add(hint, document.problem(Problem::Untidy, &path, message), help);
    }

    fn columns(&self) -> Vec<(ColumnId, ColumnDef)> {
        let tables = self.model.schema().tables.iter().enumerate();
        let of_table = |(t, table): (usize, &cubrel_formula::schema::TableDef)| {
            let id = move |index: usize| ColumnId { table: TableId(t as u32), index: index as u32 };
            table.columns.iter().enumerate().map(|(i, c)| (id(i), c.clone())).collect::<Vec<_>>()
        };
        tables.flat_map(of_table).filter(|(_, c)| !c.name.is_empty()).collect()
    }

    fn part(&self, id: ColumnId) -> Part {
        let schema = self.model.schema();
        Part::column(&schema.table(id.table).name, &schema.column(id).name)
    }

    /// Columns that point at other tables and are listed for people, table by table.
    fn shown_keys(&mut self) {
        let schema = self.model.schema();
        let mut found: BTreeMap<TableId, Vec<ColumnId>> = BTreeMap::new();
        for r in &schema.relationships {
            let table = self.model.document().file.table.get(&schema.table(r.many).name);
            for index in &r.many_columns {
                let id = ColumnId { table: r.many, index: *index };
                let is_hidden = schema.column(id).hidden || table.is_some_and(|t| t.hidden);
                // What people may well ask by: it stands on an axis somewhere, or has levels.
                let asks = |m: &Mention| matches!(m.by.kind(), PartKind::Query | PartKind::Hierarchy);
                let part = self.part(id);
                let is_asked = self.graph.users(&part).any(asks);
                if !is_hidden && !is_asked && !self.is_allowed("shown_key", &part) {
                    let of_table = found.entry(r.many).or_default();
                    if !of_table.contains(&id) {
                        of_table.push(id);
                    }
                }
            }
        }
        for (table, columns) in found {
            let names: Vec<String> = columns.iter().map(|c| schema.column_name(*c)).collect();
            let message = match names.as_slice() {
                [one] => format!("{one} is a key, and people see it beside what it points at"),
                several => {
                    format!("these are keys, and people see them beside what they point at: {}", several.join(", "))
                }
            };
            let help = "`hidden = true` leaves a column out of lists; formulas and relationships use it as before";
            let path = format!("table.{}", schema.table(table).name);
            self.add("shown_key", self.model.document().problem(Problem::Untidy, &path, message), help);
        }
    }

    /// Figures that show with whatever digits they have.
    fn formats(&mut self) {
        let measures = &self.model.schema().measures;
        for m in measures.iter().filter(|m| !m.name.is_empty() && !m.hidden && m.format.is_none()) {
            let ty = m.expr.as_ref().map_or(Type::Null, |e| e.ty);
            if matches!(ty, Type::Float | Type::Decimal { .. }) {
                let message = format!("{} has no format: it shows with all its digits", quote_name(&m.name));
                let part = Part::Measure(m.name.clone());
                self.about(
                    "no_format",
                    &part,
                    "measure",
                    message,
                    "set `format = \"#,##0.00\"` or another pattern".into(),
                );
            }
        }
    }

    /// Names of months and weekdays, which stand in alphabetical order if nothing else is said.
    fn display_orders(&mut self) {
        let section = &self.model.document().file.model;
        let formats = Formats::new(section.locale.as_deref(), None).unwrap_or_default();
        let known = [
            ("months", "month", names_of_dates(&formats, "MMMM", "MMM")),
            ("weekdays", "weekday", names_of_dates(&formats, "EEEE", "EEE")),
        ];
        for (id, column) in self.columns() {
            let data = &self.model.store().tables[id.table.0 as usize].columns[id.index as usize];
            let data = data.verified();
            let is_candidate = column.ty == Type::Text && column.display_order.is_none() && !column.hidden;
            if !is_candidate || data.distinct() < 2 || data.domain() > 31 {
                continue;
            }
            let values: Vec<String> =
                (0..data.domain()).map(|code| data.value_of(code).to_string().to_lowercase()).collect();
            let found = known.iter().find(|(.., names)| values.iter().all(|v| names.contains(v)));
            if let Some((what, function, _)) = found {
                let name = self.model.schema().column_name(id);
                let message = format!("{name} holds names of {what}, which show in the order of the alphabet");
                let of_table = self.model.schema().table(id.table);
                let day = of_table.columns.iter().find(|c| matches!(c.ty, Type::Date | Type::Timestamp) && !c.hidden);
                let computed = day.map(|day| {
                    let formula = format!("{function}({})", quote_name(&day.name));
                    format!("; where there is none, compute one: `formula = '{formula}'`")
                });
                let help = format!(
                    "name the column that orders them: `display_order = \"{function}_number\"`{}",
                    computed.unwrap_or_default()
                );
                let table = format!("table.{}", of_table.name);
                self.about("no_display_order", &self.part(id), &table, message, help);
            }
        }
    }

    /// Texts that people take for one value, and that stand on two lines.
    fn alike_values(&mut self) {
        for (id, column) in self.columns() {
            let data = &self.model.store().tables[id.table.0 as usize].columns[id.index as usize];
            let table = self.model.schema().table(id.table).name.clone();
            // A copy has the values of the table that it is one of.
            let is_copy = self.model.document().file.table.get(&table).is_some_and(|s| s.same_as.is_some());
            if column.ty != Type::Text || column.hidden || is_copy || data.domain() > MOST_COMPARED {
                continue;
            }
            let data = data.verified();
            let mut known: HashMap<String, Value> = HashMap::new();
            let mut alike = Vec::new();
            // Packed texts are unpacked once for all of them.
            let codes: Vec<u64> = (0..data.domain()).collect();
            let values = data.vector_of(&codes);
            for value in (0..codes.len()).map(|place| values.get(place, Type::Text)) {
                let words = value.to_string().to_lowercase();
                let folded = words.split_whitespace().collect::<Vec<_>>().join(" ");
                match known.get(&folded) {
                    Some(first) => alike.push(format!("`{first}` and `{value}`")),
                    None => drop(known.insert(folded, value)),
                }
            }
            if alike.is_empty() {
                continue;
            }
            let name = self.model.schema().column_name(id);
            let more = if alike.len() > EXAMPLES { ", among others" } else { "" };
            let examples = alike.iter().take(EXAMPLES).cloned().collect::<Vec<_>>().join(", ");
            let message = format!("{name} has values that differ in capitals or blanks alone: {examples}{more}");
            let help = "they are values of their own; mend the source, or say `trim = true` for its table, or compute a column with \
                        `upper(…)`";
            self.about("alike_values", &self.part(id), &format!("table.{table}"), message, help.into());
        }
    }

    /// Formulas that add up ratios, and those whose divisions drop rows.
    fn figures(&mut self) {
        let measures: Vec<(String, Arc<Source>, Arc<TypedExpr>)> = self
            .model
            .schema()
            .measures
            .iter()
            .filter_map(|m| Some((m.name.clone(), m.source.clone(), m.expr.clone()?)))
            .collect();
        for (name, source, expr) in measures {
            let part = Part::Measure(name);
            let mut ratios: Vec<Span> = Vec::new();
            let mut zeros: Vec<(Span, ColumnId)> = Vec::new();
            expr.walk(&mut |e| {
                let Kind::Aggregate(a) = &e.kind else { return };
                if a.kind == AggregateKind::Sum && a.args.iter().any(|arg| self.is_figure_that_adds_to_nothing(arg)) {
                    ratios.push(e.span);
                }
                if matches!(a.over, Over::Rows(_)) {
                    a.args.iter().for_each(|arg| arg.walk(&mut |part| zeros.extend(divisor(part))));
                }
            });
            if !self.is_allowed("summed_ratio", &part) {
                for span in ratios {
                    let message = "ratios and averages are added up here: the sum is neither";
                    let help = "put together what they are made of: `sum(a) / sum(b)`";
                    self.add("summed_ratio", Diagnostic::error(Problem::Untidy, &source, span, message), help);
                }
            }
            if !self.is_allowed("zero_division", &part) {
                for (span, column) in zeros {
                    let zeros = self.rows_of_zero(column);
                    if zeros > 0 {
                        let column = self.model.schema().column_name(column);
                        let message = format!(
                            "{column} is 0 in {} of the rows, which this division leaves out",
                            units::count(zeros)
                        );
                        let help = "a division by zero is null, and null counts for nothing: say what such a row is with `coalesce`";
                        self.add("zero_division", Diagnostic::error(Problem::Untidy, &source, span, message), help);
                    }
                }
            }
        }
    }

    /// A measure that is a quotient or an average: it stands for a part, and the sum of parts is not that of the whole.
    fn is_figure_that_adds_to_nothing(&self, expr: &TypedExpr) -> bool {
        match &expr.kind {
            Kind::Measure(id) => {
                let inner = |id: &MeasureId| self.model.schema().measure(*id).expr.clone();
                inner(id).is_some_and(|e| self.is_figure_that_adds_to_nothing(&e))
            }
            Kind::Call(Op::Div, args) => args.iter().all(has_figure),
            Kind::Call(Op::ToFloat | Op::Rescale { .. }, args) => {
                args.iter().any(|arg| self.is_figure_that_adds_to_nothing(arg))
            }
            Kind::Aggregate(a) => a.kind == AggregateKind::Avg,
            Kind::Let(_, _, body) => self.is_figure_that_adds_to_nothing(body),
            _ => false,
        }
    }

    fn rows_of_zero(&self, column: ColumnId) -> u64 {
        let schema = self.model.schema();
        let (table, name) = (quote_name(&schema.table(column.table).name), schema.column_name(column));
        let asked = self.model.query(&format!("grid rows({table}) where {name} = 0")).and_then(|query| query.run());
        let first = asked.ok().and_then(|grid| grid.lines.first()?.values.first().cloned());
        match first {
            Some(Value::Int(n)) => n.unsigned_abs(),
            _ => 0,
        }
    }

    /// Measures that say what another one says.
    fn repeated(&mut self) {
        let mut known: HashMap<String, String> = HashMap::new();
        let measures: Vec<(String, Arc<Source>)> = self
            .model
            .schema()
            .measures
            .iter()
            .filter(|m| !m.name.is_empty())
            .map(|m| (m.name.clone(), m.source.clone()))
            .collect();
        for (name, source) in measures {
            let (list, _) = tokens(&source);
            let kinds: Vec<&TokenKind> = list.iter().map(|token| &token.kind).collect();
            let Some(first) = known.insert(format!("{kinds:?}"), name.clone()) else { continue };
            // A name by itself gives a measure another one.
            if kinds.len() <= 2 || self.is_allowed("repeated_formula", &Part::Measure(name)) {
                continue;
            }
            let message = format!("this is the formula of {} once more", quote_name(&first));
            let whole = Span::new(0, source.text.len());
            let help = format!("write `{}` here, so that a change of the one is a change of both", quote_name(&first));
            self.add("repeated_formula", Diagnostic::error(Problem::Untidy, &source, whole, message), help);
        }
    }

    /// Relationships in which many rows point at nothing.
    fn orphans(&mut self) {
        let schema = self.model.schema();
        for i in 0..schema.relationships.len() {
            let id = RelationshipId(i as u32);
            let r = schema.relationship(id);
            let lookup = self.model.store().lookups[i].verified();
            let rows = self.model.store().tables[r.many.0 as usize].rows as u64;
            if lookup.examples.is_empty() || lookup.unmatched_rows * 100 < rows * MANY_ORPHANS {
                continue;
            }
            let message = format!(
                "{} of {} rows point at nothing over {}, with keys such as {}",
                units::count(lookup.unmatched_rows),
                units::count(rows),
                schema.show_relationship(id),
                lookup.examples.iter().take(3).cloned().collect::<Vec<_>>().join(", ")
            );
            let help = "they show under `(none)`; the one side may be missing rows, or the keys be written otherwise";
            self.about("orphans", &Part::Relationship(i), &format!("relationship.{i}"), message, help.into());
        }
    }

    /// What nothing uses, kind by kind, columns table by table.
    fn unused(&mut self) {
        let unused = unused::parts(&self.graph);
        let mut groups: BTreeMap<(PartKind, Option<String>), Vec<WeighedPart>> = BTreeMap::new();
        for (part, bytes) in unused.into_iter().filter(|(part, _)| !self.is_allowed("unused", part)) {
            let table = if part.kind() == PartKind::Column { part.table().map(str::to_string) } else { None };
            groups.entry((part.kind(), table)).or_default().push((part, bytes));
        }
        for ((kind, _), parts) in groups {
            let names: Vec<String> = parts.iter().map(|(part, _)| self.graph.show(part)).collect();
            let bytes: u64 = parts.iter().map(|(_, bytes)| bytes).sum();
            let weight = if bytes > 0 { format!(" ({})", units::bytes(bytes)) } else { String::new() };
            let what = match names.len() {
                1 => format!("nothing uses {} {}{weight}", kind.name(), names.concat()),
                n => format!("nothing uses these {n} {}{weight}: {}", plural(kind), names.join(", ")),
            };
            let first = &parts[0].0;
            let other = first.table().map_or_else(|| first.keys().join("."), |table| format!("table.{table}"));
            let document = self.model.document();
            let own = first.keys().join(".");
            let path = if document.says(&own) { own } else { other };
            let help = "take out what nobody needs, or say that it stays: `allow = [\"unused\"]`";
            self.add("unused", document.problem(Problem::Untidy, &path, what), help);
        }
    }
}

/// A part, and the bytes that it takes.
type WeighedPart = (Part, u64);

fn plural(kind: PartKind) -> String {
    match kind {
        PartKind::Hierarchy => "hierarchies".into(),
        PartKind::Lens => "lenses".into(),
        other => format!("{}s", other.name()),
    }
}

fn has_figure(expr: &TypedExpr) -> bool {
    let mut found = false;
    expr.walk(&mut |e| found |= matches!(e.kind, Kind::Aggregate(_) | Kind::Measure(_)));
    found
}

/// The column of the row that a division divides by.
fn divisor(expr: &TypedExpr) -> Option<(Span, ColumnId)> {
    let Kind::Call(Op::Div, args) = &expr.kind else { return None };
    let mut divisor = args.get(1)?;
    while let Kind::Call(Op::ToFloat | Op::Rescale { .. }, inner) = &divisor.kind {
        divisor = inner.first()?;
    }
    match &divisor.kind {
        Kind::Column { column, .. } => Some((expr.span, *column)),
        _ => None,
    }
}

/// The names of months or weekdays, long and short, in a locale and in English.
fn names_of_dates(formats: &Formats, long: &str, short: &str) -> Vec<String> {
    let days = (0..366).filter_map(|n| date::make_date(2024, 1, 1).map(|first| first + n));
    let mut names: Vec<String> = Vec::new();
    for day in days {
        for formats in [formats, &Formats::default()] {
            for pattern in [long, short] {
                let name = formats.show(&Value::Date(day), Type::Date, Some(pattern)).to_lowercase();
                if !names.contains(&name) {
                    names.push(name);
                }
            }
        }
    }
    names
}
