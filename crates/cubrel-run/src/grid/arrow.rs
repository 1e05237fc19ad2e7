//! Grids as Arrow has them, and as Parquet.

use std::collections::HashMap;
use std::sync::Arc;

use arrow_array::builder::{ListBuilder, StringBuilder};
use arrow_array::{ArrayRef, ListArray, RecordBatch};
use arrow_schema::{DataType, Field, Schema};

use super::result::{Grid, GridColumn, GridLine};
use crate::RunError;
use cubrel_value::{Type, Value, arrow};

/// The schema of [`Grid::to_record_batch`] of a grid with these columns, and with columns that mark totals and others, if it has them: a
/// whole number that will not fit 64 bits is the one thing that can make it another.
pub fn schema_of(columns: &[GridColumn], marks: (bool, bool)) -> Schema {
    Schema::new(with_marks(columns.iter().map(|column| field(column, column.ty)).collect(), marks))
}

impl Grid {
    /// The lines as an Arrow IPC stream.
    ///
    /// # Errors
    /// When a whole number does not fit 64 bits.
    pub fn to_arrow_stream(&self) -> Result<Vec<u8>, RunError> {
        let batch = self.to_record_batch()?;
        let form = |e: arrow_schema::ArrowError| RunError::Form(e.to_string());
        let mut writer = arrow_ipc::writer::StreamWriter::try_new(Vec::new(), &batch.schema()).map_err(form)?;
        writer.write(&batch).map_err(form)?;
        writer.into_inner().map_err(form)
    }

    /// The lines as a Parquet file, compressed with Zstandard.
    ///
    /// # Errors
    /// When a whole number does not fit 64 bits.
    #[cfg(feature = "parquet")]
    pub fn to_parquet(&self) -> Result<Vec<u8>, RunError> {
        let batch = self.to_record_batch()?;
        let form = |e: parquet::errors::ParquetError| RunError::Form(e.to_string());
        let properties = parquet::file::properties::WriterProperties::builder()
            .set_compression(parquet::basic::Compression::ZSTD(parquet::basic::ZstdLevel::default()))
            .build();
        let mut writer =
            parquet::arrow::ArrowWriter::try_new(Vec::new(), batch.schema(), Some(properties)).map_err(form)?;
        writer.write(&batch).map_err(form)?;
        writer.into_inner().map_err(form)
    }

    /// The lines as an Arrow record batch: a column for each of the grid's, with its label and its format in the field's
    /// metadata; and, where totals or the rest of a limit were asked for, a column `total` or `others` that lists for each
    /// line the axes that are totalled or stand for the rest. An axis without a value that is in neither list is `(none)`.
    ///
    /// Whole numbers of which one does not fit 64 bits are decimals without digits after the point.
    ///
    /// # Errors
    /// When a value is not of its column's type.
    pub fn to_record_batch(&self) -> Result<RecordBatch, RunError> {
        let (mut fields, mut arrays): (Vec<Field>, Vec<ArrayRef>) = (Vec::new(), Vec::new());
        for (i, column) in self.columns.iter().enumerate() {
            let values: Vec<&Value> = self.lines.iter().map(|l| &l.values[i]).collect();
            let is_wide = column.ty == Type::Int && values.iter().any(|v| matches!(v, Value::Decimal { .. }));
            let ty = if is_wide { Type::decimal(0) } else { column.ty };
            fields.push(field(column, ty));
            arrays.push(arrow::array(ty, &values).map_err(|e| RunError::Form(format!("{}: {e}", column.name)))?);
        }
        let totals = self.totals.then(|| self.marked(|l| &l.totalled));
        let others = self.others.then(|| self.marked(|l| &l.others));
        arrays.extend(totals.into_iter().chain(others).map(|list| Arc::new(list) as ArrayRef));
        let schema = Schema::new(with_marks(fields, (self.totals, self.others)));
        let options = arrow_array::RecordBatchOptions::new().with_row_count(Some(self.lines.len()));
        RecordBatch::try_new_with_options(Arc::new(schema), arrays, &options).map_err(|e| RunError::Form(e.to_string()))
    }

    /// For each line the names of some of its axes.
    fn marked(&self, axes: impl Fn(&GridLine) -> &[usize]) -> ListArray {
        let mut list = ListBuilder::new(StringBuilder::new());
        for line in &self.lines {
            axes(line).iter().for_each(|axis| list.values().append_value(&self.columns[*axis].name));
            list.append(true);
        }
        list.finish()
    }
}

/// A column with what people call it and how its values are written.
fn field(column: &GridColumn, ty: Type) -> Field {
    let said = [("label", &column.label), ("format", &column.format)];
    let metadata: HashMap<String, String> =
        said.into_iter().filter_map(|(key, text)| Some((key.to_string(), text.clone()?))).collect();
    Field::new(&column.name, arrow::data_type(ty), true).with_metadata(metadata)
}

/// Fields, and those of the columns that mark totals and others.
fn with_marks(mut fields: Vec<Field>, (totals, others): (bool, bool)) -> Vec<Field> {
    let axes = DataType::List(Arc::new(Field::new_list_field(DataType::Utf8, true)));
    for name in [totals.then_some("total"), others.then_some("others")].into_iter().flatten() {
        // A heading can be any word.
        let mut name = name.to_string();
        while fields.iter().any(|f| *f.name() == name) {
            name.push('_');
        }
        fields.push(Field::new(name, axes.clone(), true));
    }
    fields
}
