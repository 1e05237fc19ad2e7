//! The server as those see it who ask it: over real connections, with models on disk.

mod asking;
mod common;
mod limits;
mod pages;
mod people;
mod program;
mod refreshing;
