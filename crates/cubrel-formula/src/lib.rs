//! The formula and query language: text → tokens → tree → typed expression → something that runs on batches.
//!
//! * [`source`]: texts, spans, diagnostics
//! * [`lexer`], [`parser`], [`ast`]: the tree as written
//! * [`query_text`]: queries by their parts
//! * [`schema`]: what formulas can name
//! * `aggregate`, [`functions`]: the catalogue
//! * [`check`], [`typed`]: names resolved, types known
//! * [`scalar`]: batch evaluation

#![cfg_attr(test, allow(clippy::unwrap_used))]

mod aggregate;
pub mod ast;
pub mod check;
mod evaluate;
pub mod functions;
mod ids;
pub mod kernels;
pub mod lexer;
pub mod parser;
pub mod query_text;
pub mod scalar;
pub mod schema;
pub mod source;
pub mod typed;
pub mod words;
