//! Everything that the binary promises, as people and scripts use it: one program, so that it is linked once.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

mod care;
mod cli;
mod crashes;
mod formats;
mod questions;
mod roles;
mod terminal;
mod tool;
mod tour;
mod workbooks;
