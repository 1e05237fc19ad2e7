//! Expressions of whole numbers, worked out for some hundred rows at a time by steps over vectors: what is in between stays in
//! the nearest cache, and no row is looked at by itself.
//!
//! Numbers have bounds that are known when an expression is made ready, so that no step can leave 64 bits and nothing can fail:
//! an arm of a `case` can be worked out for rows that do not take it. What has no such bounds is evaluated as any other
//! expression.

mod arithmetic;
mod bounds;
mod compile;
mod compiler;
mod conditions;
mod expression;
mod presence;
mod source;
mod steps;
#[cfg(test)]
mod tests;

pub use expression::Fused;
pub use source::{LeafSource, Loaded};
