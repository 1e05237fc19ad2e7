//! Several texts that together say what a model is.

use indexmap::IndexMap;

use super::document::Document;
use super::file::{ColumnSection, ModelFile, ModelSection, TableSection};
use cubrel_formula::source::{Diagnostic, Problem};

impl Document {
    /// Says what another one says, too. What both say is a problem: nothing of it is lost in silence.
    pub fn merge(&mut self, other: Document) -> Vec<Diagnostic> {
        let mut merge = Merge { other: &other, problems: Vec::new() };
        let before = [("relationship", self.file.relationship.len()), ("expect", self.file.expect.len())];
        // Taken apart, so that a new section cannot be forgotten.
        let ModelFile { model, table, relationship, measure, lens, role, shortlist, query, expect } =
            other.file.clone();
        merge.model(&mut self.file.model, model);
        for (name, section) in table {
            let own = self.file.table.entry(name.clone()).or_default();
            merge.table(own, section, &format!("table.{name}"));
        }
        self.file.relationship.extend(relationship);
        merge.sections(&mut self.file.measure, measure, "measure");
        merge.sections(&mut self.file.lens, lens, "lens");
        merge.sections(&mut self.file.role, role, "role");
        merge.sections(&mut self.file.shortlist, shortlist, "shortlist");
        merge.sections(&mut self.file.query, query, "query");
        self.file.expect.extend(expect);
        let problems = merge.problems;
        // The places in lists are by number.
        let moved = |path: String| before.iter().find_map(|(list, n)| renumbered(&path, list, *n)).unwrap_or(path);
        let moved = other.places.into_iter().map(|(path, place)| (moved(path), place));
        self.places.extend(moved);
        self.source = other.source;
        problems
    }
}

/// The path of an element of a list, or of something in it, behind some others.
fn renumbered(path: &str, list: &str, shift: usize) -> Option<String> {
    let rest = path.strip_prefix(list)?.strip_prefix('.')?;
    let (number, inner) = rest.split_once('.').map_or((rest, None), |(number, inner)| (number, Some(inner)));
    let number = number.parse::<usize>().ok()? + shift;
    Some(inner.map_or_else(|| format!("{list}.{number}"), |inner| format!("{list}.{number}.{inner}")))
}

struct Merge<'a> {
    other: &'a Document,
    problems: Vec<Diagnostic>,
}

impl Merge<'_> {
    fn twice(&mut self, path: &str) {
        let message = format!("`{path}` stands twice");
        self.problems.push(self.other.problem(Problem::Duplicate, path, message).help("say it once"));
    }

    fn option<T>(&mut self, own: &mut Option<T>, other: Option<T>, path: &str) {
        if other.is_some() {
            if own.is_some() {
                self.twice(path);
            }
            *own = other;
        }
    }

    fn sections<T>(&mut self, own: &mut IndexMap<String, T>, other: IndexMap<String, T>, path: &str) {
        for (name, section) in other {
            if own.contains_key(&name) {
                self.twice(&format!("{path}.{name}"));
            }
            own.insert(name, section);
        }
    }

    fn model(&mut self, own: &mut ModelSection, other: ModelSection) {
        let ModelSection { name, locale, currency, memory_limit, allow } = other;
        self.option(&mut own.name, name, "model.name");
        self.option(&mut own.locale, locale, "model.locale");
        self.option(&mut own.currency, currency, "model.currency");
        self.option(&mut own.memory_limit, memory_limit, "model.memory_limit");
        own.allow.extend(allow);
    }

    fn table(&mut self, own: &mut TableSection, other: TableSection, path: &str) {
        let TableSection {
            source,
            query,
            csv,
            workbook,
            all_rows,
            rows_of,
            carry,
            unpivot,
            partition,
            key,
            missing,
            trim,
            time_zone,
            filter,
            distinct,
            latest_by,
            order,
            max_bad_rows,
            label,
            note,
            hidden,
            column,
            hierarchy,
            calendar,
            year_starts,
            week_starts,
            generate,
            same_as,
            prefix,
            allow,
        } = other;
        let at = |key: &str| format!("{path}.{key}");
        self.option(&mut own.source, source, &at("source"));
        self.option(&mut own.query, query, &at("query"));
        self.option(&mut own.csv, csv, &at("csv"));
        self.option(&mut own.workbook, workbook, &at("workbook"));
        self.option(&mut own.rows_of, rows_of, &at("rows_of"));
        self.option(&mut own.carry, carry, &at("carry"));
        self.option(&mut own.unpivot, unpivot, &at("unpivot"));
        self.option(&mut own.partition, partition, &at("partition"));
        self.option(&mut own.key, key, &at("key"));
        self.option(&mut own.missing, missing, &at("missing"));
        self.option(&mut own.filter, filter, &at("where"));
        self.option(&mut own.max_bad_rows, max_bad_rows, &at("max_bad_rows"));
        self.option(&mut own.label, label, &at("label"));
        self.option(&mut own.note, note, &at("note"));
        own.hidden |= hidden;
        own.trim |= trim;
        self.option(&mut own.time_zone, time_zone, &at("time_zone"));
        own.distinct |= distinct;
        self.option(&mut own.latest_by, latest_by, &at("latest_by"));
        own.all_rows |= all_rows;
        own.allow.extend(allow);
        own.order.extend(order);
        for (name, section) in column {
            let column = own.column.entry(name.clone()).or_default();
            self.column(column, section, &at(&format!("column.{name}")));
        }
        self.sections(&mut own.hierarchy, hierarchy, &at("hierarchy"));
        self.option(&mut own.calendar, calendar, &at("calendar"));
        self.option(&mut own.year_starts, year_starts, &at("year_starts"));
        self.option(&mut own.week_starts, week_starts, &at("week_starts"));
        self.option(&mut own.generate, generate, &at("generate"));
        self.option(&mut own.same_as, same_as, &at("same_as"));
        self.option(&mut own.prefix, prefix, &at("prefix"));
    }

    fn column(&mut self, own: &mut ColumnSection, other: ColumnSection, place: &str) {
        let ColumnSection {
            source_name,
            path,
            source_position,
            ty,
            date_pattern,
            missing,
            keep,
            formula,
            label,
            note,
            format,
            hidden,
            display_order,
            day_kind,
            allow,
        } = other;
        let at = |key: &str| format!("{place}.{key}");
        self.option(&mut own.source_name, source_name, &at("source_name"));
        self.option(&mut own.path, path, &at("path"));
        self.option(&mut own.source_position, source_position, &at("source_position"));
        self.option(&mut own.ty, ty, &at("type"));
        self.option(&mut own.date_pattern, date_pattern, &at("date_pattern"));
        self.option(&mut own.missing, missing, &at("missing"));
        self.option(&mut own.keep, keep, &at("keep"));
        self.option(&mut own.formula, formula, &at("formula"));
        self.option(&mut own.label, label, &at("label"));
        self.option(&mut own.note, note, &at("note"));
        self.option(&mut own.format, format, &at("format"));
        own.hidden |= hidden;
        own.allow.extend(allow);
        self.option(&mut own.display_order, display_order, &at("display_order"));
        self.option(&mut own.day_kind, day_kind, &at("day_kind"));
    }
}
