//! What every command takes.

use std::path::PathBuf;

use crate::format::{ColorChoice, Format};

/// What every command takes.
#[derive(clap::Args, Debug)]
#[command(next_help_heading = GENERAL)]
pub struct Global {
    /// The model: a folder, or its `model.toml`
    #[arg(display_order = 101, short, long, global = true, default_value = ".", value_name = "PATH")]
    pub model: PathBuf,
    /// How results are written: table, csv, json, markdown; some have more
    #[arg(display_order = 102, long, global = true, value_enum, default_value_t = Format::Table, value_name = "FORM", hide_default_value = true, hide_possible_values = true)]
    pub format: Format,
    /// Write results to this file
    #[arg(display_order = 103, short, long, global = true, value_name = "FILE")]
    pub output: Option<PathBuf>,
    /// Use colours: auto, always, never
    #[arg(display_order = 104, long, global = true, value_enum, default_value_t = ColorChoice::Auto, value_name = "WHEN", hide_default_value = true, hide_possible_values = true)]
    pub color: ColorChoice,
    /// No progress and no messages
    #[arg(display_order = 105, short, long, global = true)]
    pub quiet: bool,
    /// What to log: error, warn, info, debug, trace
    #[arg(
        display_order = 106,
        long,
        global = true,
        default_value = "warn",
        value_name = "LEVEL",
        hide_default_value = true
    )]
    pub log: tracing::level_filters::LevelFilter,
    /// The day that `today()` is, such as 2026-03-01
    #[arg(display_order = 107, long, global = true, value_name = "DATE", value_parser = parse_day)]
    pub today: Option<i32>,
}

/// Over the options that every command has.
pub const GENERAL: &str = "General options";

/// A day as its number.
pub fn parse_day(text: &str) -> Result<i32, String> {
    cubrel::units::parse_day(text).ok_or_else(|| format!("`{text}` is not a date such as 2026-03-01"))
}
