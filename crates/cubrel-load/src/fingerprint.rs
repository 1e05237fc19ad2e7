//! What stored data depends on besides the bytes of its source: all that the model says of how it comes to be.

use serde::Serialize;

use super::settings::keys_around;
use cubrel_formula::ast::{Expr, ExprKind};
use cubrel_formula::check::Settings;
use cubrel_model::Document;
use cubrel_model::dependencies::{FormulaNode, Formulas};
use cubrel_model::file::{ColumnSection, MeasureSection, ModelFile, ModelSection, RelationshipSection, TableSection};

/// What of a table's section its data depends on. Sections are taken apart, so that a new key has to be put on one side
/// or the other; what only people read is on the other side.
#[derive(Serialize)]
struct Recipe<'a> {
    keys: serde_json::Value,
    columns: Vec<(&'a String, serde_json::Value)>,
}

fn json<T: Serialize>(value: &T) -> serde_json::Value {
    serde_json::to_value(value).unwrap_or_default()
}

fn recipe<'a>(section: &'a TableSection, wanted: impl Fn(&String) -> bool) -> Recipe<'a> {
    let TableSection {
        source,
        query,
        csv,
        workbook,
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
        column,
        calendar,
        year_starts,
        week_starts,
        generate,
        same_as,
        label: _,
        note: _,
        hidden: _,
        hierarchy: _,
        prefix: _,
        all_rows: _,
        allow: _,
    } = section;
    let of_source = json(&(
        (source, query, csv, workbook, partition, rows_of, carry, unpivot),
        (key, missing, (trim, time_zone), filter, distinct, latest_by, order, max_bad_rows),
    ));
    let of_days = json(&(calendar, year_starts, week_starts, generate, same_as));
    // Of a column that is only named or hidden nothing is said of how it comes to be.
    let nothing = of_column(&ColumnSection::default());
    let said = column.iter().filter(|(name, _)| wanted(name)).map(|(name, c)| (name, of_column(c)));
    let mut columns: Vec<_> = said.filter(|(_, said)| *said != nothing).collect();
    // Calculated columns stand in the order of the file; what is said of others may stand in any.
    columns.sort_by_key(|(name, _)| column.get(*name).filter(|c| c.formula.is_none()).map(|_| *name));
    Recipe { keys: json(&(of_source, of_days)), columns }
}

fn of_column(section: &ColumnSection) -> serde_json::Value {
    let ColumnSection {
        source_name,
        path,
        source_position,
        ty,
        date_pattern,
        missing,
        keep,
        formula,
        display_order,
        day_kind,
        label: _,
        note: _,
        format: _,
        hidden: _,
        allow: _,
    } = section;
    json(&((source_name, path, source_position, ty, date_pattern, missing), (keep, formula, display_order, day_kind)))
}

/// What the functions of a formula ask of the outside.
#[derive(Default, Serialize)]
struct Surroundings {
    day: Option<i32>,
    locale: Option<String>,
    user: Option<String>,
}

impl Surroundings {
    fn add(&mut self, formula: &Expr, settings: &Settings) {
        formula.walk(&mut |e| {
            let ExprKind::Call(name, _) = &e.kind else { return };
            match name.text.as_str() {
                "today" => self.day = Some(settings.today),
                "to_text" => self.locale = Some(settings.locale.clone()),
                "user" => self.user = settings.user.clone(),
                _ => {}
            }
        });
    }
}

fn hashed(value: &impl Serialize) -> u64 {
    xxhash_rust::xxh3::xxh3_64(serde_json::to_string(value).unwrap_or_default().as_bytes())
}

/// Changes when a table would be loaded otherwise: another section, another formula of a column that is calculated while
/// loading, another day or locale where such a formula or the load filter asks for it. What is calculated when all tables
/// are there says nothing of that.
pub fn fingerprint(
    document: &Document,
    name: &str,
    section: &TableSection,
    formulas: &Formulas,
    settings: &Settings,
) -> u64 {
    let node = |column: &String| FormulaNode::Column(name.to_string(), column.clone());
    let is_loaded =
        |column: &String| !formulas.parsed.contains_key(&node(column)) || formulas.own_row.contains(&node(column));
    let mut surroundings = Surroundings::default();
    for (_, formula) in formulas.while_loading(name) {
        surroundings.add(&formula.expr, settings);
    }
    if let Some(filter) = &section.filter {
        let source = cubrel_formula::source::Source::new("where", filter);
        surroundings.add(&cubrel_formula::parser::formula(&source).0, settings);
    }
    // Where nothing is said, the key of another table goes with the entries of a list.
    let around = section.rows_of.as_ref().map(|_| keys_around(document, section));
    hashed(&(recipe(section, is_loaded), surroundings, around))
}

/// Changes when something would be calculated otherwise once all tables are there.
pub fn derived(document: &Document, formulas: &Formulas, settings: &Settings) -> u64 {
    let ModelFile { model, table, relationship, measure, lens: _, role: _, shortlist: _, query: _, expect: _ } =
        &document.file;
    let ModelSection { locale, currency, name: _, memory_limit: _, allow: _ } = model;
    let tables: Vec<_> = table.iter().map(|(name, section)| (name, recipe(section, |_| true))).collect();
    let relationships: Vec<_> = relationship
        .iter()
        .map(|RelationshipSection { many, one, spare, both_ways, matching, allow: _ }| {
            json(&(many, one, spare, both_ways, matching))
        })
        .collect();
    let measures: Vec<_> = measure
        .iter()
        .map(|(name, section)| {
            let MeasureSection { formula, label: _, format: _, group: _, note: _, hidden: _, allow: _ } = section;
            (name, formula)
        })
        .collect();
    let mut surroundings = Surroundings::default();
    formulas.parsed.values().for_each(|formula| surroundings.add(&formula.expr, settings));
    for query in formulas.queries.values() {
        query.query.each_expr(&mut |e| surroundings.add(e, settings));
    }
    hashed(&((tables, relationships, measures), (locale, currency), surroundings))
}
