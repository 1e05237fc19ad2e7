//! What a model has, for people who choose from it: everything that has a name, with what is said of it.

use serde::Serialize;

use super::model::Model;
use crate::Error;
use cubrel_formula::lexer::{TokenKind, tokens};
use cubrel_formula::schema::{ColumnDef, Computed, MeasureDef, Schema, TableId};
use cubrel_formula::source::{Source, suggestion};
use cubrel_formula::words::quote_name;
use cubrel_model::Document;
use cubrel_model::file::TableSection;
use cubrel_model::paths::column_path;
use cubrel_value::Matching;

/// Everything that a model has; what somebody may not see is not in it.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
#[non_exhaustive]
pub struct Catalog {
    /// What people call the model.
    pub name: Option<String>,
    /// The locale that values are written in, such as `en-GB`.
    pub locale: Option<String>,
    /// The currency that `¤` stands for, such as `GBP`.
    pub currency: Option<String>,
    /// Tables, in the order of the model's file.
    pub tables: Vec<CatalogTable>,
    /// Measures.
    pub measures: Vec<CatalogMeasure>,
    /// Relationships.
    pub relationships: Vec<CatalogRelationship>,
    /// Lenses.
    pub lenses: Vec<CatalogLens>,
    /// Saved queries.
    pub queries: Vec<CatalogQuery>,
    /// Roles; none of them where this is what somebody sees in one.
    pub roles: Vec<CatalogRole>,
    /// Shorter lists of what there is to look at.
    pub shortlists: Vec<CatalogShortlist>,
}

/// A shorter list of what there is to look at.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct CatalogShortlist {
    /// Its name.
    pub name: String,
    /// What is on it: columns, written `table.column`, tables, measures, hierarchies, lenses.
    pub list: Vec<String>,
}

/// A table.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct CatalogTable {
    /// Its name in formulas.
    pub name: String,
    /// What people read instead.
    pub label: Option<String>,
    /// What it holds.
    pub note: Option<String>,
    /// Not listed for people.
    pub hidden: bool,
    /// How many rows.
    pub rows: u64,
    /// The column whose values are unique.
    pub key: Option<String>,
    /// The date column, where the table is a calendar.
    pub calendar: Option<String>,
    /// The table that it is a copy of.
    pub same_as: Option<String>,
    /// Its columns.
    pub columns: Vec<CatalogColumn>,
    /// Named levels of its columns.
    pub hierarchies: Vec<CatalogHierarchy>,
}

/// A column.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct CatalogColumn {
    /// Its name, without the table's.
    pub name: String,
    /// What people read instead.
    pub label: Option<String>,
    /// What it holds.
    pub note: Option<String>,
    /// The type of its values, as formulas write it.
    #[serde(rename = "type")]
    pub ty: String,
    /// A pattern for its values.
    pub format: Option<String>,
    /// Not listed for people.
    pub hidden: bool,
    /// Its formula, where it has one.
    pub formula: Option<String>,
    /// When its values come to be: `source`, `load` or `after_load`.
    pub origin: &'static str,
    /// The column of the same table that orders it.
    pub display_order: Option<String>,
}

/// Levels of a table's columns, outer first.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct CatalogHierarchy {
    /// Its name.
    pub name: String,
    /// The names of the columns.
    pub levels: Vec<String>,
}

/// A measure.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct CatalogMeasure {
    /// Its name in formulas.
    pub name: String,
    /// What people read instead.
    pub label: Option<String>,
    /// What it means.
    pub note: Option<String>,
    /// Where it is listed.
    pub group: Option<String>,
    /// The type of its values, as formulas write it; nothing where its formula is wrong.
    #[serde(rename = "type")]
    pub ty: Option<String>,
    /// A pattern for its values.
    pub format: Option<String>,
    /// Not listed for people.
    pub hidden: bool,
    /// Its formula.
    pub formula: String,
    /// What is wrong with the formula.
    pub wrong: Option<String>,
}

/// A relationship: many rows point at one.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct CatalogRelationship {
    /// The columns that point, written `table.column`.
    pub many: Vec<String>,
    /// The key that they point at.
    pub one: Vec<String>,
    /// Followed only where a formula names it.
    pub spare: bool,
    /// Filters travel back, too.
    pub both_ways: bool,
    /// Which row of the one side a row points at.
    #[serde(rename = "match")]
    pub matching: Matching,
}

/// A lens: other ways to see any figure.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct CatalogLens {
    /// Its name in queries.
    pub name: String,
    /// What people read instead.
    pub label: Option<String>,
    /// Its readings, in display order: their names.
    pub readings: Vec<String>,
}

/// A saved query.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct CatalogQuery {
    /// Its name.
    pub name: String,
    /// What it answers.
    pub note: Option<String>,
    /// Its text.
    pub text: String,
}

/// A role.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct CatalogRole {
    /// Its name.
    pub name: String,
    /// What it is for.
    pub note: Option<String>,
    /// Who has it.
    pub people: Vec<String>,
}

impl Model {
    /// What the model has.
    ///
    /// ```
    /// # fn main() -> Result<(), cubrel::Error> {
    /// use cubrel::{Model, Type, Value};
    ///
    /// let model = Model::builder()
    ///     .rows("booking", &[("net", Type::Int)], &[vec![Value::Int(10)]])
    ///     .definitions("[measure.net]\nformula = 'sum(booking.net)'\nnote = 'without tax'")
    ///     .build()?;
    /// let catalog = model.catalog();
    /// assert_eq!(catalog.tables[0].columns[0].name, "net");
    /// assert_eq!(catalog.measures[0].note.as_deref(), Some("without tax"));
    /// # Ok(())
    /// # }
    /// ```
    pub fn catalog(&self) -> Catalog {
        let (schema, document) = (self.schema(), self.document());
        let section = &document.file.model;
        let tables = (0..schema.tables.len() as u32).map(TableId);
        // What who asks may not see has no name.
        let tables = tables.filter(|id| !schema.table(*id).name.is_empty()).map(|id| table(self, id));
        let measures = schema.measures.iter().filter(|m| !m.name.is_empty());
        let lenses = schema.lenses.iter().filter(|lens| !lens.readings.is_empty()).map(|lens| CatalogLens {
            name: lens.name.clone(),
            label: lens.label.clone(),
            readings: lens.readings.iter().map(|r| r.name.clone()).collect(),
        });
        // Somebody who does not see all is not told what is asked of the rest.
        let is_seen = |text: &str| self.seen_as().is_none() || self.query(text).is_ok();
        let queries = document.file.query.iter().filter(|(_, query)| is_seen(&query.text)).map(|(name, query)| {
            CatalogQuery { name: name.clone(), note: query.note.clone(), text: query.text.clone() }
        });
        let roles = self.roles().iter().map(|role| CatalogRole {
            name: role.name.clone(),
            note: document.file.role.get(&role.name).and_then(|section| section.note.clone()),
            people: role.people.clone(),
        });
        let mut catalog = Catalog {
            name: section.name.clone(),
            locale: section.locale.clone(),
            currency: section.currency.clone(),
            tables: tables.collect(),
            measures: measures.map(measure).collect(),
            relationships: relationships(schema),
            lenses: lenses.collect(),
            queries: queries.collect(),
            roles: roles.collect(),
            shortlists: Vec::new(),
        };
        // What somebody may not see is not named here either.
        catalog.shortlists = document
            .file
            .shortlist
            .iter()
            .map(|(name, section)| CatalogShortlist {
                name: name.clone(),
                list: section.list.iter().filter(|item| catalog.has(item)).cloned().collect(),
            })
            .collect();
        catalog
    }
}

impl Catalog {
    /// Whether something that can be listed is called so.
    fn has(&self, item: &str) -> bool {
        let column = column_path(item).is_some_and(|(table, column)| {
            self.tables.iter().any(|t| t.name == table && t.columns.iter().any(|c| c.name == column))
        });
        column
            || self.tables.iter().any(|t| t.name == item || t.hierarchies.iter().any(|h| h.name == item))
            || self.measures.iter().any(|m| m.name == item)
            || self.lenses.iter().any(|l| l.name == item)
    }

    /// What of this is on a shortlist: a table stands for its columns, a hierarchy for its levels. Saved queries stay where
    /// they name nothing else.
    ///
    /// # Errors
    /// When there is none of that name.
    ///
    /// ```
    /// # fn main() -> Result<(), cubrel::Error> {
    /// use cubrel::{Model, Type, Value};
    ///
    /// let model = Model::builder()
    ///     .rows("booking", &[("net", Type::Int), ("cost", Type::Int)], &[vec![Value::Int(10), Value::Int(8)]])
    ///     .definitions("[measure.net]\nformula = 'sum(booking.net)'\n[shortlist.desk]\nlist = ['net', 'booking.net']")
    ///     .build()?;
    /// let short = model.catalog().shortlist("desk")?;
    /// assert_eq!(short.tables[0].columns.len(), 1);
    /// assert_eq!(short.measures[0].name, "net");
    /// # Ok(())
    /// # }
    /// ```
    pub fn shortlist(&self, name: &str) -> Result<Catalog, Error> {
        let Some(found) = self.shortlists.iter().find(|s| s.name == name) else {
            let names: Vec<&str> = self.shortlists.iter().map(|s| s.name.as_str()).collect();
            return Err(Error::Unknown(format!("there is no shortlist `{name}`: {}", suggestion(name, &names))));
        };
        let on = |item: &str| found.list.iter().any(|listed| listed == item);
        let columns: Vec<(String, String)> = found.list.iter().filter_map(|item| column_path(item)).collect();
        let tables = self.tables.iter().filter_map(|table| {
            let hierarchies: Vec<_> =
                table.hierarchies.iter().filter(|h| on(&h.name) || on(&table.name)).cloned().collect();
            let is_on = |column: &str| {
                on(&table.name)
                    || columns.iter().any(|(t, c)| *t == table.name && c == column)
                    || hierarchies.iter().any(|h| h.levels.iter().any(|level| level == column))
            };
            let columns: Vec<_> = table.columns.iter().filter(|c| is_on(&c.name)).cloned().collect();
            let is_there = on(&table.name) || !columns.is_empty();
            is_there.then(|| CatalogTable { columns, hierarchies, ..table.clone() })
        });
        let mut short = Catalog {
            tables: tables.collect(),
            measures: self.measures.iter().filter(|m| on(&m.name)).cloned().collect(),
            lenses: self.lenses.iter().filter(|l| on(&l.name)).cloned().collect(),
            queries: Vec::new(),
            ..self.clone()
        };
        let queries = self.queries.iter().filter(|q| self.not_on(&short, &q.text).is_empty());
        short.queries = queries.cloned().collect();
        Ok(short)
    }

    /// What a query names and a shorter catalogue of the same model does not have, as formulas write it.
    pub fn not_on(&self, short: &Catalog, text: &str) -> Vec<String> {
        let known = short.named_in(text);
        self.named_in(text).into_iter().filter(|name| !known.contains(name)).collect()
    }

    /// The columns, measures and lenses that a text names.
    fn named_in(&self, text: &str) -> Vec<String> {
        let (tokens, _) = tokens(&Source::new("query", text));
        let word = |kind: Option<&TokenKind>| match kind {
            Some(TokenKind::Word(name) | TokenKind::Quoted(name)) => Some(name.clone()),
            _ => None,
        };
        let slice = |at: usize| tokens.get(at).and_then(|t| text.get(t.span.start as usize..t.span.end as usize));
        let (mut found, mut at) = (Vec::new(), 0);
        while at < tokens.len() {
            let first = word(tokens.get(at).map(|t| &t.kind));
            let is_path = slice(at + 1) == Some(".");
            let second = word(tokens.get(at + 2).map(|t| &t.kind)).filter(|_| is_path);
            let name = match (&first, &second) {
                (Some(table), Some(column)) => {
                    let of = self.tables.iter().find(|t| t.name == *table);
                    let has = of.is_some_and(|t| t.columns.iter().any(|c| c.name == *column));
                    has.then(|| format!("{}.{}", quote_name(table), quote_name(column)))
                }
                (Some(name), None) => {
                    let has =
                        self.measures.iter().any(|m| m.name == *name) || self.lenses.iter().any(|l| l.name == *name);
                    has.then(|| quote_name(name).to_string())
                }
                _ => None,
            };
            found.extend(name.filter(|name| !found.contains(name)).into_iter().collect::<Vec<_>>());
            at += if second.is_some() { 3 } else { 1 };
        }
        found
    }
}

fn table(model: &Model, id: TableId) -> CatalogTable {
    let (schema, document) = (model.schema(), model.document());
    let def = schema.table(id);
    let section = document.file.table.get(&def.name);
    let of = |pick: fn(&TableSection) -> &Option<String>| section.and_then(|s| pick(s).clone());
    let seen = |index: u32| def.columns.get(index as usize).map(|c| c.name.clone()).filter(|name| !name.is_empty());
    let key = of(|s| &s.key).filter(|key| def.columns.iter().any(|c| c.name == *key));
    let hierarchies = def.hierarchies.iter().map(|(name, levels)| CatalogHierarchy {
        name: name.clone(),
        levels: levels.iter().filter_map(|level| seen(*level)).collect(),
    });
    let columns = def.columns.iter().filter(|c| !c.name.is_empty());
    CatalogTable {
        name: def.name.clone(),
        label: def.label.clone(),
        note: of(|s| &s.note),
        hidden: section.is_some_and(|s| s.hidden),
        rows: model.store().tables[id.0 as usize].rows as u64,
        key,
        calendar: def.calendar.and_then(seen),
        same_as: of(|s| &s.same_as).filter(|first| schema.find_table(first).is_some()),
        columns: columns.map(|c| column(document, &def.name, c, c.display_order.and_then(seen))).collect(),
        hierarchies: hierarchies.collect(),
    }
}

fn column(document: &Document, table: &str, def: &ColumnDef, display_order: Option<String>) -> CatalogColumn {
    let section = document.file.table.get(table).and_then(|s| s.column.get(&def.name));
    CatalogColumn {
        name: def.name.clone(),
        label: def.label.clone(),
        note: section.and_then(|s| s.note.clone()),
        ty: def.ty.to_string(),
        format: def.format.clone(),
        hidden: def.hidden,
        formula: section.and_then(|s| s.formula.clone()),
        origin: match def.computed {
            Computed::Source => "source",
            Computed::Loading => "load",
            Computed::After => "after_load",
        },
        display_order,
    }
}

fn measure(def: &MeasureDef) -> CatalogMeasure {
    CatalogMeasure {
        name: def.name.clone(),
        label: def.label.clone(),
        note: def.note.clone(),
        group: def.group.clone(),
        ty: def.expr.as_ref().map(|expr| expr.ty.to_string()),
        format: def.format.clone(),
        hidden: def.hidden,
        formula: def.source.text.clone(),
        wrong: def.wrong.as_ref().map(|problem| problem.message.clone()),
    }
}

fn relationships(schema: &Schema) -> Vec<CatalogRelationship> {
    let side = |table: TableId, columns: &[u32]| -> Option<Vec<String>> {
        let of = schema.table(table);
        let name = |index: &u32| {
            let column = &of.columns[*index as usize].name;
            (!of.name.is_empty() && !column.is_empty()).then(|| format!("{}.{column}", of.name))
        };
        columns.iter().map(name).collect()
    };
    let seen = schema.relationships.iter().filter_map(|r| {
        let (many, one) = (side(r.many, &r.many_columns)?, side(r.one, &r.one_columns)?);
        Some(CatalogRelationship { many, one, spare: r.spare, both_ways: r.both_ways, matching: r.matching })
    });
    seen.collect()
}
