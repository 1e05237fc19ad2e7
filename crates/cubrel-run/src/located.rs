//! Where something cannot be computed, in words: by the values of the row, or by the place of the cell.

use super::frame::{Frame, KeyColumn};
use super::tables::Tables;
use cubrel_formula::schema::{ColumnId, RelationshipId};
use cubrel_formula::words::quote_name;
use cubrel_plan::{Dim, Key, RowExpr, RowLeaf, Scope};
use cubrel_value::Value;

/// Values that are shown of a row or a cell.
const MOST_SHOWN: usize = 4;
/// Characters of a text that are shown.
const LONGEST_SHOWN: usize = 40;

/// A column, with the way there.
pub(super) type Far = (ColumnId, Vec<RelationshipId>);

/// The columns that an expression looks at, each once.
pub(super) fn columns_of(row: &RowExpr, found: &mut Vec<Far>) {
    for leaf in &row.leaves {
        match leaf {
            RowLeaf::Column { column, path } => {
                let own = (*column, path.clone());
                if !found.contains(&own) {
                    found.push(own);
                }
            }
            RowLeaf::Member { of, .. } => columns_of(of, found),
            RowLeaf::Parameter(_) => {}
        }
    }
}

/// The values of some columns in a row.
pub(super) fn in_row(tables: Tables<'_>, columns: &[Far], row: u32) -> String {
    let value = |(column, path): &Far| {
        let data = tables.column(*column);
        let codes = tables.far_codes(data, path, vec![row]);
        equals(tables, *column, codes.first().map_or(Value::Null, |code| data.value_of(*code)))
    };
    let values: Vec<String> = columns.iter().take(MOST_SHOWN).map(value).collect();
    if values.is_empty() { String::new() } else { format!("where {}", values.join(" and ")) }
}

/// The columns and rows that a cell stands at.
pub(super) fn in_cell(tables: Tables<'_>, scope: &Scope, frame: &Frame, cell: usize) -> String {
    let value = |(dim, codes): (&Dim, &KeyColumn)| {
        let code = *codes.codes.get(cell)?;
        match dim.key {
            Key::Column(column) => Some(equals(tables, column, tables.column(column).value_of(code))),
            Key::Row(table) => Some(format!("row {} of {}", code + 1, quote_name(&tables.schema.table(table).name))),
            Key::Value(_) => None,
        }
    };
    let values: Vec<String> = scope.dims.iter().zip(&frame.dims).filter_map(value).take(MOST_SHOWN).collect();
    let text = values.join(" and ");
    if text.is_empty() || text.starts_with("row ") { text } else { format!("at {text}") }
}

/// A value as a formula says it, cut where it is long.
fn equals(tables: Tables<'_>, column: ColumnId, value: Value) -> String {
    let text = match &value {
        Value::Null => return format!("{} is null", tables.schema.column_name(column)),
        Value::Text(text) if text.chars().count() > LONGEST_SHOWN => {
            format!("'{}…'", text.chars().take(LONGEST_SHOWN).collect::<String>())
        }
        Value::Text(text) => format!("'{}'", text.replace('\'', "''")),
        other => other.to_string(),
    };
    format!("{} = {text}", tables.schema.column_name(column))
}
