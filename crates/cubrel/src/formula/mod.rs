//! The formula and query language: text → tokens → tree → typed expression → something that runs on batches.
//!
//! * [`source`]: texts, spans, diagnostics
//! * [`lexer`], [`parser`], [`ast`]: the tree as written
//! * [`schema`]: what formulas can name
//! * [`functions`]: the catalogue
//! * [`check`], [`typed`]: names resolved, types known
//! * [`scalar`]: batch evaluation

pub mod ast;
pub mod check;
mod evaluate;
pub mod functions;
mod ids;
mod kernels;
pub mod lexer;
pub mod parser;
pub mod scalar;
pub mod schema;
pub mod source;
pub mod typed;
pub mod words;

pub use kernels::cast_value;
