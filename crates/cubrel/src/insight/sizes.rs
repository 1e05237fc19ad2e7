//! How many bytes each table, column and structure takes: exact, because every structure counts its own.

use serde::Serialize;

use crate::Model;
use crate::formula::schema::{ColumnId, Computed, TableId};
use crate::store::{Coding, Column, Target};

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
    /// Rows of all tables; second roles are not counted again.
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
    /// Bytes of its columns and of the relationships that start at it; nothing for a second role.
    pub bytes: u64,
    /// Its share of the model.
    pub share: f64,
    /// The table whose columns it shares.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub same_as: Option<String>,
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
    /// How codes become values.
    pub encoding: &'static str,
    /// Bits of a code, in the widest segment.
    pub bits: u8,
    /// When its values came to be.
    pub computed: &'static str,
    /// Bytes in memory.
    pub bytes: u64,
    /// Its share of the table.
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
    /// Distinct values.
    pub dictionary: u64,
    /// Relationships that start here.
    pub keys: u64,
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
    pub key_bytes: u64,
    /// Whether it is followed only where a formula names it.
    pub spare: bool,
}

/// Counts the bytes of a model.
pub fn sizes(model: &Model) -> Sizes {
    let (schema, store) = (model.schema(), model.store());
    let relationships: Vec<RelationshipSize> = (0..schema.relationships.len())
        .map(|i| {
            let (def, lookup) = (&schema.relationships[i], &store.lookups[i]);
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
                key_bytes: lookup.heap_bytes() as u64,
                spare: def.spare,
            }
        })
        .collect();
    let mut tables: Vec<TableSize> = (0..schema.tables.len() as u32).map(|t| table_size(model, TableId(t))).collect();
    let bytes: u64 = tables.iter().map(|t| t.bytes).sum();
    for table in &mut tables {
        table.share = share(table.bytes, bytes);
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

fn table_size(model: &Model, id: TableId) -> TableSize {
    let (schema, store) = (model.schema(), model.store());
    let def = schema.table(id);
    let data = &store.tables[id.0 as usize];
    let same_as = model.document().file.table.get(&def.name).and_then(|s| s.same_as.clone());
    let columns: Vec<ColumnSize> = (0..def.columns.len() as u32)
        .map(|index| {
            let id = ColumnId { table: id, index };
            // A relationship of several columns is counted under the first.
            let keys: u64 = (0..schema.relationships.len())
                .filter(|i| {
                    schema.relationships[*i].many == id.table && schema.relationships[*i].many_columns[0] == index
                })
                .map(|i| match &store.lookups[i].target {
                    Target::ByCode(_) | Target::ByRow(_) => store.lookups[i].heap_bytes() as u64,
                })
                .sum();
            column_size(model, id, &data.columns[index as usize], keys, same_as.is_some())
        })
        .collect();
    let bytes: u64 = columns.iter().map(|c| c.bytes).sum();
    let mut table = TableSize { name: def.name.clone(), rows: data.rows as u64, bytes, share: 0.0, same_as, columns };
    for column in &mut table.columns {
        column.share = share(column.bytes, bytes);
    }
    table
}

fn column_size(model: &Model, id: ColumnId, data: &Column, keys: u64, shared: bool) -> ColumnSize {
    let def = model.schema().column(id);
    let (codes, dictionary) = data.heap_bytes();
    let parts = if shared {
        ColumnParts { codes: 0, dictionary: 0, keys }
    } else {
        ColumnParts { codes: codes as u64, dictionary: dictionary as u64, keys }
    };
    let bytes = parts.codes + parts.dictionary + parts.keys;
    let per = |n: u64| if n == 0 { 0.0 } else { bytes as f64 / n as f64 };
    ColumnSize {
        name: def.name.clone(),
        ty: def.ty.to_string(),
        distinct: data.distinct(),
        nulls: data.nulls(),
        encoding: match data.coding() {
            Coding::Offset { .. } if data.bits() == 0 => "constant",
            Coding::Offset { .. } => "offset",
            Coding::Numbers(_) | Coding::Texts(_) => "dictionary",
        },
        bits: data.bits(),
        computed: match def.computed {
            Computed::Source => "source",
            Computed::Loading => "loading",
            Computed::After => "after",
        },
        bytes,
        share: 0.0,
        cumulative_share: 0.0,
        bytes_per_row: per(data.rows() as u64),
        bytes_per_distinct: per(data.distinct()),
        parts,
    }
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
