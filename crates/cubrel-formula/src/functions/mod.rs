//! The catalogue of scalar functions: the checker, the docs, completion and the tests all read it.
//!
//! One entry a function, by area: [`numbers`], [`text`], [`dates`]. Adding one means an entry in one of these lists.

mod batches;
mod catalogue;
mod dates;
mod entry;
mod listed;
mod numbers;
mod patterns;
mod text;
mod truncation;

pub use catalogue::{AGGREGATES, all, find};
pub use entry::{Argument, Function, Parameter};
pub use listed::{FunctionEntry, functions};
pub use text::{LikePattern, TextPart, allowed_length};
