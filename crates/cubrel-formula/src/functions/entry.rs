//! What an entry of the catalogue says.

use cubrel_value::{Type, Value, Vector};

/// What went wrong in a function, in words that follow "cannot compute this: ".
pub type FunctionError = String;

/// A scalar function.
pub struct Function {
    /// As it is written.
    pub name: &'static str,
    /// Its arguments and result, for people.
    pub signature: &'static str,
    /// What it gives, in one line.
    pub meaning: &'static str,
    /// A formula that uses it and the result as text.
    pub example: (&'static str, &'static str),
    /// The arguments it takes.
    pub parameters: &'static [Parameter],
    /// How many of the last parameters may be left out.
    pub optional: usize,
    /// Whether the last parameter may be repeated.
    pub repeated: bool,
    /// The type of the result, from the types of the arguments (after conversion).
    pub result: fn(&[Argument<'_>]) -> Type,
    /// Whether it wants to see nulls; else any null gives null.
    pub sees_nulls: bool,
    /// The result for one row.
    pub run: fn(&[Value], Type) -> Result<Value, FunctionError>,
    /// The results of many rows at once, where that is quicker.
    pub batch: Option<BatchFunction>,
}

/// From the vectors of the arguments, their types and the type of the result to the results, whatever they are in rows
/// where an argument is null. `None` where these arguments are not for it, and the rows are run one by one.
pub type BatchFunction = fn(&[Vector], &[Type], Type) -> Option<Vector>;

impl std::fmt::Debug for Function {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(self.name)
    }
}

impl PartialEq for Function {
    fn eq(&self, other: &Function) -> bool {
        self.name == other.name
    }
}

impl Eq for Function {}

impl std::hash::Hash for Function {
    fn hash<H: std::hash::Hasher>(&self, state: &mut H) {
        self.name.hash(state);
    }
}

/// What a function asks of an argument.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Parameter {
    /// Any number, as it is.
    Number,
    /// A number, as a double.
    Float,
    /// A whole number.
    Int,
    /// Text.
    Text,
    /// A date, or the date of a timestamp.
    Day,
    /// A date or a timestamp, as it is.
    Moment,
    /// Anything; arguments of one function are brought to one type.
    Any,
}

/// What is known of an argument before anything runs.
#[derive(Clone, Copy, Debug)]
pub struct Argument<'a> {
    /// Its type.
    pub ty: Type,
    /// Its value, where it is a literal.
    pub literal: Option<&'a Value>,
}

impl Parameter {
    /// How messages name it.
    pub fn describe(self) -> &'static str {
        match self {
            Parameter::Number | Parameter::Float => "a number",
            Parameter::Int => "a whole number",
            Parameter::Text => "text",
            Parameter::Day | Parameter::Moment => "a date or timestamp",
            Parameter::Any => "a value",
        }
    }

    /// Whether a type can be used for it.
    pub fn accepts(self, ty: Type) -> bool {
        ty == Type::Null
            || match self {
                Parameter::Number | Parameter::Float => ty.is_number(),
                Parameter::Int => ty == Type::Int,
                Parameter::Text => ty == Type::Text,
                Parameter::Day | Parameter::Moment => matches!(ty, Type::Date | Type::Timestamp),
                Parameter::Any => true,
            }
    }
}
