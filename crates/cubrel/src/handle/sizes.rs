//! How many bytes each table, column and structure takes: exact, because every structure counts its own.

use std::sync::Arc;

use serde::Serialize;

use super::model::Model;
use cubrel_formula::schema::{ColumnDef, ColumnId, Computed, RelationshipDef, TableId};
use cubrel_store::dictionary::TextDictionary;
use cubrel_store::{CodedColumn, Codes, Encoding};

/// The sizes of a model, as `cubrel size` gives them.
#[derive(Clone, Debug, Serialize)]
pub struct Sizes {
    /// The whole.
    pub model: ModelSize,
    /// Table by table.
    pub tables: Vec<TableSize>,
    /// Relationship by relationship.
    pub relationships: Vec<RelationshipSize>,
}

/// The whole model.
#[derive(Clone, Debug, Serialize)]
pub struct ModelSize {
    /// Bytes in memory.
    pub bytes: u64,
    /// Rows of all tables; copies are not counted again.
    pub rows: u64,
    /// Tables.
    pub tables: usize,
    /// Columns of all tables.
    pub columns: usize,
    /// Bytes of the files that it was loaded from.
    pub source_bytes: u64,
}

/// One table.
#[derive(Clone, Debug, Serialize)]
pub struct TableSize {
    /// Its name.
    pub name: String,
    /// How many rows.
    pub rows: u64,
    /// Bytes of its columns and of the relationships that start at it; nothing for a copy.
    pub bytes: u64,
    /// Its share of the model.
    pub share: f64,
    /// The table whose columns it shares.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub same_as: Option<String>,
    /// Where its rows come from: `source`, `generated`, `query`, or `same_as`.
    pub origin: &'static str,
    /// Bytes of the files that it was loaded from.
    pub source_bytes: u64,
    /// Column by column.
    pub columns: Vec<ColumnSize>,
}

/// One column.
#[derive(Clone, Debug, Serialize)]
pub struct ColumnSize {
    /// Its name.
    pub name: String,
    /// The type of its values.
    #[serde(rename = "type")]
    pub ty: String,
    /// Different values.
    pub distinct: u64,
    /// Rows without a value.
    pub nulls: u64,
    /// How codes become values, and in which form most of them are kept.
    pub encoding: String,
    /// Bits of a code, in the widest segment; in run-length and sparse segments not every row has one of its own.
    pub bits: u8,
    /// Where its values come from: `source`, `load` when calculated while loading, `after_load` when calculated then.
    pub origin: &'static str,
    /// Bytes in memory.
    pub bytes: u64,
    /// Its share of the model.
    pub share: f64,
    /// Its share of the model with all larger columns.
    pub cumulative_share: f64,
    /// Bytes for each row.
    pub bytes_per_row: f64,
    /// Bytes for each different value.
    pub bytes_per_distinct: f64,
    /// What the bytes are for.
    pub parts: ColumnParts,
}

/// What a column's bytes are for.
#[derive(Clone, Copy, Debug, Serialize)]
pub struct ColumnParts {
    /// Packed codes.
    pub codes: u64,
    /// Distinct values, where they are kept in a dictionary.
    pub values: u64,
    /// The relationships that start here: for each, the array from key code, or row, to row.
    pub links: u64,
}

/// One relationship.
#[derive(Clone, Debug, Serialize)]
pub struct RelationshipSize {
    /// The column that points.
    pub many: String,
    /// The key that it points at.
    pub one: String,
    /// Distinct keys.
    pub key_count: u64,
    /// Rows that point at nothing.
    pub unmatched_rows: u64,
    /// Bytes of the array from key code, or row, to row.
    pub link_bytes: u64,
    /// Whether it is followed only where a formula names it.
    pub spare: bool,
}

impl Model {
    /// Where the bytes are.
    pub fn sizes(&self) -> Sizes {
        sizes(self)
    }
}

/// Counts the bytes of a model.
pub(crate) fn sizes(model: &Model) -> Sizes {
    let all = (0..model.schema().tables.len() as u32).map(TableId);
    let ids = all.filter(|id| !model.schema().table(*id).name.is_empty());
    sizes_of(model, ids.map(|id| table_size(model, id, &described(model, id))).collect())
}

/// The sizes of a model's tables and what follows from them.
pub(crate) fn sizes_of(model: &Model, mut tables: Vec<TableSize>) -> Sizes {
    let (schema, store) = (model.schema(), model.store());
    let relationships: Vec<RelationshipSize> = (0..schema.relationships.len())
        .map(|i| {
            let (def, lookup) = (&schema.relationships[i], store.lookups[i].made());
            let names = |table: TableId, columns: &[u32]| {
                let names: Vec<String> =
                    columns.iter().map(|c| schema.column_name(ColumnId { table, index: *c })).collect();
                names.join(" + ")
            };
            RelationshipSize {
                many: names(def.many, &def.many_columns),
                one: names(def.one, &def.one_columns),
                key_count: lookup.key_count,
                unmatched_rows: lookup.unmatched_rows,
                link_bytes: lookup.heap_bytes() as u64,
                spare: def.spare,
            }
        })
        .collect();
    let bytes: u64 = tables.iter().map(|t| t.bytes).sum();
    for table in &mut tables {
        table.share = share(table.bytes, bytes);
        table.columns.iter_mut().for_each(|column| column.share = share(column.bytes, bytes));
    }
    cumulate(&mut tables, bytes);
    let model_size = ModelSize {
        bytes,
        rows: tables.iter().filter(|t| t.same_as.is_none()).map(|t| t.rows).sum(),
        tables: tables.len(),
        columns: tables.iter().map(|t| t.columns.len()).sum(),
        source_bytes: model.reports().iter().map(|r| r.source_bytes).sum(),
    };
    Sizes { model: model_size, tables, relationships }
}

fn share(part: u64, whole: u64) -> f64 {
    if whole == 0 { 0.0 } else { part as f64 / whole as f64 }
}

/// A column with what is said of it.
pub(crate) struct Described {
    pub(crate) name: String,
    pub(crate) computed: Computed,
    pub(crate) data: Arc<CodedColumn>,
    /// Bytes of the relationships that start at it.
    pub(crate) links: u64,
}

/// The columns of a table.
pub(crate) fn described(model: &Model, table: TableId) -> Vec<Described> {
    let (schema, store) = (model.schema(), model.store());
    let of = |(index, (def, data)): (usize, (&ColumnDef, &Arc<CodedColumn>))| {
        // A relationship of several columns is counted under the first.
        let starts = |r: &RelationshipDef| r.many == table && r.many_columns[0] == index as u32;
        let here = schema.relationships.iter().zip(&store.lookups).filter(|(r, _)| starts(r));
        let links = here.map(|(_, lookup)| lookup.made().heap_bytes() as u64).sum();
        Described { name: def.name.clone(), computed: def.computed, data: data.made().clone(), links }
    };
    let columns = schema.table(table).columns.iter().zip(&store.tables[table.0 as usize].columns);
    // What who asks may not see has no name.
    columns.enumerate().map(of).filter(|described| !described.name.is_empty()).collect()
}

pub(crate) fn table_size(model: &Model, id: TableId, columns: &[Described]) -> TableSize {
    let name = &model.schema().table(id).name;
    let section = model.document().file.table.get(name);
    let same_as = section.and_then(|s| s.same_as.clone());
    let origin = match section {
        Some(s) if s.same_as.is_some() => "same_as",
        Some(s) if s.query.is_some() => "query",
        Some(s) if s.generate.is_some() && s.source.is_none() => "generated",
        _ => "source",
    };
    let source_bytes = model.reports().iter().find(|r| r.table == *name).map_or(0, |r| r.source_bytes);
    let columns: Vec<ColumnSize> = columns.iter().map(|c| column_size(c, same_as.is_some())).collect();
    let bytes: u64 = columns.iter().map(|c| c.bytes).sum();
    let rows = model.store().tables[id.0 as usize].rows as u64;
    TableSize { name: name.clone(), rows, bytes, share: 0.0, same_as, origin, source_bytes, columns }
}

fn column_size(column: &Described, shared: bool) -> ColumnSize {
    let Described { name, computed, data, links } = column;
    let (codes, values) = if shared { (0, 0) } else { data.heap_bytes() };
    let parts = ColumnParts { codes: codes as u64, values: values as u64, links: *links };
    let bytes = parts.codes + parts.values + parts.links;
    let per = |n: u64| if n == 0 { 0.0 } else { bytes as f64 / n as f64 };
    ColumnSize {
        name: name.clone(),
        ty: data.ty().to_string(),
        distinct: data.distinct(),
        nulls: data.nulls(),
        encoding: encoding(data),
        bits: data.bits(),
        origin: match computed {
            Computed::Source => "source",
            Computed::Loading => "load",
            Computed::After => "after_load",
        },
        bytes,
        share: 0.0,
        cumulative_share: 0.0,
        bytes_per_row: per(data.rows() as u64),
        bytes_per_distinct: per(data.distinct()),
        parts,
    }
}

/// How codes become values, and in which form those of most rows are kept.
fn encoding(data: &CodedColumn) -> String {
    if data.bits() == 0 && !data.segments().iter().any(|s| matches!(s.codes, Codes::Sequence(_))) {
        return "constant".into();
    }
    let values = match data.encoding() {
        Encoding::Offset { .. } if data.digits().is_some() => "decimals",
        Encoding::Offset { .. } => "offset",
        Encoding::Numbers(_) => "dictionary",
        Encoding::Texts(TextDictionary::Plain { .. }) => "dictionary",
        Encoding::Texts(TextDictionary::Ranked { .. }) => "template dictionary",
        Encoding::Texts(TextDictionary::Blocks(_)) => "packed dictionary",
    };
    let mut rows = [(0, ""), (0, ", run-length"), (0, ", sparse"), (0, ", sequence")];
    for segment in data.segments() {
        let form = match segment.codes {
            Codes::Packed(_) => 0,
            Codes::Runs { .. } => 1,
            Codes::Sparse { .. } => 2,
            Codes::Sequence(_) => 3,
        };
        rows[form].0 += segment.len();
    }
    let (_, form) = rows.into_iter().rev().max_by_key(|(n, _)| *n).unwrap_or_default();
    format!("{values}{form}")
}

fn cumulate(tables: &mut [TableSize], model_bytes: u64) {
    let mut all: Vec<&mut ColumnSize> = tables.iter_mut().flat_map(|t| &mut t.columns).collect();
    all.sort_by_key(|c| std::cmp::Reverse(c.bytes));
    let mut sum = 0;
    for column in all {
        sum += column.bytes;
        column.cumulative_share = share(sum, model_bytes);
    }
}
