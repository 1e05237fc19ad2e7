//! The server as those see it who ask it: over real connections, with models on disk.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

mod asking;
mod browser;
mod clients;
mod common;
mod encrypted;
mod flight;
mod issuer;
mod limits;
mod oidc;
mod pages;
mod people;
mod program;
mod refreshing;
