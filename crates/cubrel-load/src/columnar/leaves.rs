//! What of the fields of a file can be columns.

use arrow_array::cast::AsArray;
use arrow_array::{Array, ArrayRef, make_array};
use arrow_buffer::NullBuffer;
use arrow_schema::{DataType, Field, Schema};

use crate::LoadError;
use crate::csv::Request;
use crate::header::named;
use crate::nested::NESTED;
use cubrel_formula::source::{Diagnostic, Problem};
use cubrel_value::{Type, exact};

/// A value of a file that can be a column: a field, or one inside of a field of several values.
pub(super) struct FileLeaf {
    /// The names that lead to it, as one.
    pub(super) name: String,
    /// The place of the field, and of what is in it.
    pub(super) path: Vec<usize>,
    /// As what it is read.
    pub(super) ty: Type,
    /// What it is where no column can be that, so that it is read as text for who asks for it.
    odd: Option<DataType>,
}

/// How deep fields of several values are looked into.
const MOST_NESTED: usize = 16;

/// The fields of a file that are columns; what cannot be one, and nobody has asked for as text, is told.
///
/// # Errors
/// When there is none.
pub(super) fn leaves(
    file: &str,
    schema: &Schema,
    request: &Request<'_>,
    notes: &mut Vec<String>,
) -> Result<Vec<FileLeaf>, LoadError> {
    let mut found = Vec::new();
    for (i, field) in schema.fields().iter().enumerate() {
        find(field, ("", vec![i]), &mut found);
    }
    let header: Vec<String> = found.iter().map(|leaf| leaf.name.clone()).collect();
    let (names, _) = named(file, &header, &request.naming());
    let mut names = names.iter();
    let mut left_out = Vec::new();
    found.retain(|leaf| {
        let declared = names.next().and_then(|name| request.types.get(request.said_of(name)));
        let Some(odd) = leaf.odd.as_ref().filter(|_| declared != Some(&Type::Text)) else { return true };
        left_out.push(format!(
            "column `{}` is {odd}, which no column can hold: it is left out, unless it has `type = \"text\"`",
            leaf.name
        ));
        false
    });
    if found.is_empty() {
        let message = format!("{file} has no column that can be read");
        return Err(Diagnostic::general(Problem::Data, message).help(left_out.join("; ")).into());
    }
    left_out.retain(|note| !notes.contains(note));
    notes.extend(left_out);
    Ok(found)
}

fn find(field: &Field, (names, path): (&str, Vec<usize>), found: &mut Vec<FileLeaf>) {
    let name = if names.is_empty() { field.name().clone() } else { format!("{names}{NESTED}{}", field.name()) };
    match field.data_type() {
        DataType::Struct(inner) if path.len() < MOST_NESTED => {
            for (i, field) in inner.iter().enumerate() {
                find(field, (&name, [path.as_slice(), &[i]].concat()), found);
            }
        }
        ty => {
            let known = column_type(ty);
            let odd = known.is_none().then(|| ty.clone());
            found.push(FileLeaf { name, path, ty: known.unwrap_or(Type::Text), odd });
        }
    }
}

/// The values at a path; where what they are in is null, they are.
pub(super) fn at_path(array: &ArrayRef, path: &[usize]) -> Result<ArrayRef, String> {
    let Some((i, rest)) = path.split_first() else { return Ok(array.clone()) };
    let Some(outer) = array.as_struct_opt() else { return Err("this is no field of several values".into()) };
    let inner = outer.columns().get(*i).ok_or("the file gives other columns than it lists")?;
    let nulls = NullBuffer::union(outer.nulls(), inner.nulls());
    let data = inner.to_data().into_builder().nulls(nulls).build().map_err(|e| e.to_string())?;
    at_path(&make_array(data), rest)
}

/// The type that a column of an Arrow type gets.
pub(super) fn column_type(ty: &DataType) -> Option<Type> {
    Some(match ty {
        DataType::Int8 | DataType::Int16 | DataType::Int32 | DataType::Int64 => Type::Int,
        DataType::UInt8 | DataType::UInt16 | DataType::UInt32 | DataType::UInt64 => Type::Int,
        // Lists are written as JSON.
        DataType::List(_) | DataType::LargeList(_) | DataType::FixedSizeList(..) | DataType::Map(..) => Type::Text,
        DataType::Float16 | DataType::Float32 | DataType::Float64 => Type::Float,
        DataType::Boolean => Type::Bool,
        DataType::Utf8 | DataType::LargeUtf8 | DataType::Utf8View => Type::Text,
        DataType::Date32 | DataType::Date64 => Type::Date,
        DataType::Timestamp(..) => Type::Timestamp,
        DataType::Decimal32(_, scale) | DataType::Decimal64(_, scale) | DataType::Decimal128(_, scale) => {
            Type::Decimal { precision: exact::STORED_DIGITS, scale: u8::try_from(*scale).ok()? }
        }
        DataType::Dictionary(_, value) => column_type(value)?,
        DataType::Null => Type::Text,
        _ => return None,
    })
}
