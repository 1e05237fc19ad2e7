//! The schemas of grids, and values that come as Arrow.

use arrow_array::Array;
use arrow_schema::Schema;

use super::error::Error;
use super::query::Query;
use cubrel_value::{Value, arrow};

impl Query {
    /// The schema of [`Grid::to_record_batch`] of its grid, known before it is run: a whole number that will not fit 64 bits is
    /// the one thing that can make it another.
    ///
    /// ```
    /// # fn main() -> Result<(), cubrel::Error> {
    /// use cubrel::{Model, Type, Value};
    ///
    /// let rows = ["North", "South"].map(|region| vec![Value::text(region)]);
    /// let model = Model::builder().rows("port", &[("region", Type::Text)], &rows).build()?;
    /// let query = model.query("grid rows(port) as ports by port.region totals")?;
    /// assert_eq!(query.arrow_schema(), *query.run()?.to_record_batch()?.schema());
    /// # Ok(())
    /// # }
    /// ```
    pub fn arrow_schema(&self) -> Schema {
        cubrel_run::arrow_schema(&self.columns(), self.marks())
    }
}

/// The values of an array, as parameters of a query take them.
///
/// ```
/// use cubrel::Value;
/// use cubrel::arrow::array::Int32Array;
///
/// # fn main() -> Result<(), cubrel::Error> {
/// assert_eq!(cubrel::arrow::values(&Int32Array::from(vec![Some(2031), None]))?, [Value::Int(2031), Value::Null]);
/// # Ok(())
/// # }
/// ```
///
/// # Errors
/// When its type is none that values can have, or one of them is too large.
pub fn values(array: &dyn Array) -> Result<Vec<Value>, Error> {
    arrow::values(array).map(|(_, values)| values).map_err(Error::Form)
}
