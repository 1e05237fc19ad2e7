//! A first model from files, why a number is what it is, and where time and bytes go.

pub mod advice;
pub mod complete;
pub mod draft;
pub mod formula_comparison;
pub mod lexemes;
pub mod model_comparison;
pub mod profile;
pub mod what_if;
pub mod why;

pub(crate) use formula_comparison::same as same_value;
