//! Everything that the library promises, driven through its public face: one program, so that it is linked once.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

mod common;
#[path = "../../../../fuzz/inputs.rs"]
#[allow(dead_code, reason = "the fuzz targets need more of it")]
mod inputs;
mod naive;

mod alike;
mod at_or_before;
mod broken_stores;
mod building;
mod by_text;
mod care;
mod chains;
mod columnar;
mod computed;
mod contexts;
mod corpus;
mod differential;
mod docs;
mod drafted_keys;
mod drafts;
mod errors;
mod evolving;
mod expressions;
mod face;
mod figures;
mod formula_comparison;
mod gallery;
mod language;
mod late;
mod layers;
mod limits;
mod loading;
mod messy;
mod model_comparison;
mod nested;
mod operators;
mod outer;
mod pairs;
mod passes;
mod periods;
mod plans;
mod postgres;
mod queries;
mod refreshing;
mod renaming;
mod roles;
mod serving;
mod soup;
mod sources;
mod stale;
mod storage;
mod stretches;
mod supposing;
mod texts;
mod uses;
mod ways;
mod why;
mod writing;
