//! What there is, as the standard lists it: each model that who asks sees anything of is a catalogue, its tables are tables, its
//! saved queries are views.

use std::collections::HashMap;
use std::sync::Arc;

use arrow_array::{ArrayRef, Int32Array, RecordBatch, StringArray, UInt8Array};
use arrow_flight::error::Result;
use arrow_flight::sql::CommandGetTableTypes;
use arrow_flight::sql::metadata::{GetCatalogsBuilder, GetDbSchemasBuilder, GetTablesBuilder};
use arrow_schema::{DataType, Field, Schema};
use cubrel::catalog::{Catalog, CatalogTable};
use cubrel::{Error, Model, quote_name};

use crate::people::Person;
use crate::questions::AskedModel;
use crate::server::Server;

/// The schema that all tables of a catalogue are in: clients expect one.
const DB_SCHEMA: &str = "model";

const TABLE: &str = "TABLE";
const VIEW: &str = "VIEW";
/// Nothing happens by itself to rows that point at one that goes: there is nothing that could make one go.
const NO_ACTION: u8 = 3;

/// A model as who asks sees it.
pub struct Seen {
    name: String,
    model: Model,
    catalog: Catalog,
}

/// The models that somebody sees anything of.
///
/// # Errors
/// When a rule of a role cannot be evaluated.
pub fn seen(server: &Server, person: &Person) -> std::result::Result<Vec<Seen>, Error> {
    let all = server.models.iter().filter_map(|served| AskedModel::find(server, person, &served.name).ok());
    let of = |asked: AskedModel| {
        let model = asked.version.seen_as(&asked.who)?;
        Ok(Seen { name: asked.served.name.clone(), catalog: model.catalog(), model })
    };
    all.map(of).collect()
}

/// The models.
pub fn catalogs(seen: &[Seen], mut builder: GetCatalogsBuilder) -> Result<RecordBatch> {
    seen.iter().for_each(|model| builder.append(&model.name));
    builder.build()
}

/// The one schema of each.
pub fn schemas(seen: &[Seen], mut builder: GetDbSchemasBuilder) -> Result<RecordBatch> {
    seen.iter().for_each(|model| builder.append(&model.name, DB_SCHEMA));
    builder.build()
}

/// What kinds of tables there are.
pub fn table_types(query: CommandGetTableTypes) -> Result<RecordBatch> {
    let mut builder = query.into_builder();
    [TABLE, VIEW].iter().for_each(|kind| builder.append(kind));
    builder.build()
}

/// Tables and saved queries.
pub fn tables(seen: &[Seen], mut builder: GetTablesBuilder) -> Result<RecordBatch> {
    let with_columns = builder.include_schema();
    for Seen { name, model, catalog } in seen {
        for table in catalog.tables.iter().filter(|table| !table.hidden) {
            let columns = if with_columns { columns(model, table) } else { Schema::empty() };
            builder.append(name, DB_SCHEMA, &table.name, TABLE, &columns)?;
        }
        for query in &catalog.queries {
            // One with parameters tells its columns only when these have values.
            let planned = with_columns.then(|| model.query(&query.text).ok()).flatten();
            let columns = planned.map_or_else(Schema::empty, |query| query.arrow_schema());
            builder.append(name, DB_SCHEMA, &query.name, VIEW, &columns)?;
        }
    }
    builder.build()
}

/// The columns of a table that are listed for people.
fn columns(model: &Model, table: &CatalogTable) -> Schema {
    let names: Vec<&String> = table.columns.iter().filter(|column| !column.hidden).map(|column| &column.name).collect();
    let paths = names.iter().map(|name| path(&table.name, name));
    let text = cubrel::QueryText::records(paths).to_string();
    let Ok(query) = model.query(&text) else { return Schema::empty() };
    let of_query = query.arrow_schema();
    let fields = of_query.fields().iter().zip(names).map(|(field, name)| field.as_ref().clone().with_name(name));
    Schema::new(fields.collect::<Vec<Field>>())
}

/// A column as formulas write it.
fn path(table: &str, column: &str) -> String {
    format!("{}.{}", quote_name(table), quote_name(column))
}

/// Which tables are asked for; what is not said asks for all.
#[derive(Clone, Debug, Default)]
pub struct Wanted {
    pub catalog: Option<String>,
    pub db_schema: Option<String>,
    pub table: Option<String>,
}

impl Wanted {
    fn is(&self, catalog: &str, table: &str) -> bool {
        let fits = |wanted: &Option<String>, is: &str| wanted.as_ref().is_none_or(|wanted| wanted == is);
        fits(&self.catalog, catalog) && fits(&self.db_schema, DB_SCHEMA) && fits(&self.table, table)
    }
}

fn text(name: &str, nullable: bool) -> Field {
    Field::new(name, DataType::Utf8, nullable)
}

/// What a list of keys looks like.
pub fn primary_schema() -> Schema {
    Schema::new(vec![
        text("catalog_name", true),
        text("db_schema_name", true),
        text("table_name", false),
        text("column_name", false),
        Field::new("key_sequence", DataType::Int32, false),
        text("key_name", true),
    ])
}

/// The keys of tables.
pub fn primary_keys(seen: &[Seen], wanted: &Wanted) -> Result<RecordBatch> {
    let mut rows: Vec<[String; 3]> = Vec::new();
    for Seen { name, catalog, .. } in seen {
        for table in catalog.tables.iter().filter(|table| wanted.is(name, &table.name)) {
            rows.extend(table.key.iter().map(|key| [name.clone(), table.name.clone(), key.clone()]));
        }
    }
    let of = |i: usize| -> ArrayRef { Arc::new(StringArray::from_iter_values(rows.iter().map(|row| &row[i]))) };
    let db_schema: ArrayRef = Arc::new(StringArray::from_iter_values(rows.iter().map(|_| DB_SCHEMA)));
    let sequence: ArrayRef = Arc::new(Int32Array::from_iter_values(rows.iter().map(|_| 1)));
    let names: ArrayRef = Arc::new(StringArray::from_iter_values(rows.iter().map(|row| format!("key of {}", row[1]))));
    let arrays = vec![of(0), db_schema, of(1), of(2), sequence, names];
    Ok(RecordBatch::try_new(Arc::new(primary_schema()), arrays)?)
}

/// What a list of relationships looks like.
pub fn foreign_schema() -> Schema {
    Schema::new(vec![
        text("pk_catalog_name", true),
        text("pk_db_schema_name", true),
        text("pk_table_name", false),
        text("pk_column_name", false),
        text("fk_catalog_name", true),
        text("fk_db_schema_name", true),
        text("fk_table_name", false),
        text("fk_column_name", false),
        Field::new("key_sequence", DataType::Int32, false),
        text("fk_key_name", true),
        text("pk_key_name", true),
        Field::new("update_rule", DataType::UInt8, false),
        Field::new("delete_rule", DataType::UInt8, false),
    ])
}

/// A pair of columns of a relationship.
struct Pair {
    catalog: String,
    one: (String, String),
    many: (String, String),
    sequence: i32,
    name: String,
}

/// The relationships between tables, a line for each pair of columns.
pub fn foreign_keys(seen: &[Seen], one: &Wanted, many: &Wanted) -> Result<RecordBatch> {
    let mut pairs: Vec<Pair> = Vec::new();
    for Seen { name, catalog, .. } in seen {
        let columns: HashMap<String, (String, String)> = catalog
            .tables
            .iter()
            .flat_map(|table| table.columns.iter().map(move |column| (table, column)))
            .map(|(table, column)| (path(&table.name, &column.name), (table.name.clone(), column.name.clone())))
            .collect();
        for relationship in &catalog.relationships {
            let of = relationship.many.iter().zip(&relationship.one).zip(1..);
            let named = format!("{} to {}", relationship.many.join(", "), relationship.one.join(", "));
            for ((from, to), sequence) in of {
                // What somebody may not see is not listed, either end of it.
                let (Some(from), Some(to)) = (columns.get(from), columns.get(to)) else { continue };
                if one.is(name, &to.0) && many.is(name, &from.0) {
                    let (one, many) = (to.clone(), from.clone());
                    pairs.push(Pair { catalog: name.clone(), one, many, sequence, name: named.clone() });
                }
            }
        }
    }
    let texts =
        |of: &dyn Fn(&Pair) -> String| -> ArrayRef { Arc::new(StringArray::from_iter_values(pairs.iter().map(of))) };
    let rule = || -> ArrayRef { Arc::new(UInt8Array::from_iter_values(pairs.iter().map(|_| NO_ACTION))) };
    let (catalog, db_schema) = (texts(&|pair| pair.catalog.clone()), texts(&|_| DB_SCHEMA.to_string()));
    let arrays = vec![
        catalog.clone(),
        db_schema.clone(),
        texts(&|pair| pair.one.0.clone()),
        texts(&|pair| pair.one.1.clone()),
        catalog,
        db_schema,
        texts(&|pair| pair.many.0.clone()),
        texts(&|pair| pair.many.1.clone()),
        Arc::new(Int32Array::from_iter_values(pairs.iter().map(|pair| pair.sequence))),
        texts(&|pair| pair.name.clone()),
        texts(&|pair| format!("key of {}", pair.one.0)),
        rule(),
        rule(),
    ];
    Ok(RecordBatch::try_new(Arc::new(foreign_schema()), arrays)?)
}
