//! Types of the values of a query.

/// Columns whose type the values tell.
pub struct Types {
    /// Columns with a text that is neither date nor timestamp.
    pub texts: Vec<String>,
    /// Columns with a floating number.
    pub floats: Vec<String>,
}
