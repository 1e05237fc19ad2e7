//! The server as those see it who ask it: over real connections, with models on disk.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

mod asking;
mod common;
mod encrypted;
mod limits;
mod pages;
mod people;
mod program;
mod refreshing;
