//! How results are written.

use std::io::IsTerminal;

/// How results are written.
#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
pub enum Format {
    /// For people
    Table,
    /// Comma-separated values
    Csv,
    /// One JSON value
    Json,
    /// A Markdown table
    Markdown,
    /// One JSON object a line
    Jsonl,
    /// An Arrow IPC stream
    Arrow,
    /// A Parquet file
    Parquet,
    /// A workbook
    Xlsx,
    /// A graph, for Graphviz
    Dot,
    /// A picture
    Svg,
}

impl Format {
    /// Those that every command has.
    pub const OF_TABLES: &[Format] = &[Format::Table, Format::Csv, Format::Json, Format::Markdown];

    /// Those of a command.
    pub fn of(command: &str) -> Vec<Format> {
        let more: &[Format] = match command {
            "query" => &[Format::Jsonl, Format::Arrow, Format::Parquet, Format::Xlsx],
            "uses" => &[Format::Dot, Format::Svg],
            _ => &[],
        };
        [Format::OF_TABLES, more].concat()
    }
}

/// When colours are used.
#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
pub enum ColorChoice {
    /// On a terminal
    Auto,
    /// Always
    Always,
    /// Never
    Never,
}

impl ColorChoice {
    /// Whether a stream gets colours.
    pub fn colors(self, stream: &impl IsTerminal) -> bool {
        match self {
            ColorChoice::Always => true,
            ColorChoice::Never => false,
            ColorChoice::Auto => stream.is_terminal() && std::env::var_os("NO_COLOR").is_none(),
        }
    }
}
