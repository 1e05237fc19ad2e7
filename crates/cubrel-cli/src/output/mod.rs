//! How results are written: for a person on a terminal, for a script on a pipe.

pub mod grid;
pub mod problems;
pub mod progress;
pub mod rivals;
pub mod sizes;
pub mod text;
pub mod times;
pub mod twins;
pub mod why;

use std::fs::File;
use std::io::{self, BufWriter, IsTerminal, Write};

use anstyle::{AnsiColor, Style};

use crate::Global;
use crate::commands::Failure;

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
    /// One JSON object a line; queries only
    Jsonl,
    /// An Arrow IPC stream; queries only
    Arrow,
    /// A Parquet file; queries only
    Parquet,
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

/// What a piece of text is, which decides its colour.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Tone {
    /// Text as it is.
    Plain,
    /// Column heads.
    Head,
    /// Totals.
    Total,
    /// Less important.
    Faint,
    /// To be looked at.
    Alert,
}

impl Tone {
    fn style(self) -> Style {
        match self {
            Tone::Plain => Style::new(),
            Tone::Head => Style::new().bold().fg_color(Some(AnsiColor::Cyan.into())),
            Tone::Total => Style::new().bold(),
            Tone::Faint => Style::new().dimmed(),
            Tone::Alert => Style::new().fg_color(Some(AnsiColor::Yellow.into())),
        }
    }
}

/// Where results go. They are kept until the command has succeeded, so that a failed one leaves no half result.
pub struct Output {
    format: Format,
    colored: bool,
    width: Option<usize>,
    file: Option<std::path::PathBuf>,
    buffer: Vec<u8>,
}

impl Output {
    /// From the global options.
    pub fn new(global: &Global) -> Output {
        let to_terminal = global.output.is_none() && io::stdout().is_terminal();
        let width = terminal_size::terminal_size().map(|(w, _)| usize::from(w.0)).filter(|_| to_terminal);
        Output {
            format: global.format,
            colored: global.color.colors(&io::stdout())
                && (global.output.is_none() || global.color == ColorChoice::Always),
            width,
            file: global.output.clone(),
            buffer: Vec::new(),
        }
    }

    /// How results are written.
    pub fn format(&self) -> Format {
        self.format
    }

    /// Whether colours are used.
    pub fn colored(&self) -> bool {
        self.colored
    }

    /// The columns of the terminal, if there is one.
    pub fn width(&self) -> Option<usize> {
        self.width
    }

    /// A piece of text in its tone.
    pub fn paint(&self, tone: Tone, text: &str) -> String {
        if !self.colored || tone == Tone::Plain || text.trim().is_empty() {
            return text.to_string();
        }
        let style = tone.style();
        format!("{style}{text}{style:#}")
    }

    /// Text as it is.
    pub fn text(&mut self, text: &str) -> Result<(), Failure> {
        self.buffer.extend_from_slice(text.as_bytes());
        self.spill()
    }

    /// Bytes that are no text; a terminal does not get them.
    pub fn binary(&mut self, bytes: &[u8]) -> Result<(), Failure> {
        if self.file.is_none() && io::stdout().is_terminal() {
            let help = "write them to a file with `--output FILE`, or to another program";
            return Err(Failure::Other("these bytes are not for a terminal".into(), help.into()));
        }
        self.buffer.extend_from_slice(bytes);
        self.spill()
    }

    /// A heading with an empty line before it.
    pub fn heading(&mut self, text: &str) -> Result<(), Failure> {
        let gap = if self.buffer.is_empty() && self.file.is_none() { "" } else { "\n" };
        let painted = self.paint(Tone::Head, text);
        self.text(&format!("{gap}{painted}\n"))
    }

    /// A JSON value.
    pub fn json(&mut self, value: &serde_json::Value) -> Result<(), Failure> {
        serde_json::to_writer(&mut self.buffer, value).map_err(io::Error::from)?;
        self.text("\n")
    }

    /// Long results leave piece by piece, when they go to a stream.
    fn spill(&mut self) -> Result<(), Failure> {
        const PIECE: usize = 1 << 20;
        if self.file.is_none() && self.buffer.len() > PIECE {
            io::stdout().lock().write_all(&self.buffer)?;
            self.buffer.clear();
        }
        Ok(())
    }

    /// Writes what is left.
    pub fn finish(self) -> Result<(), Failure> {
        match &self.file {
            None => {
                let mut stdout = io::stdout().lock();
                stdout.write_all(&self.buffer)?;
                stdout.flush()?;
            }
            Some(path) => {
                let write = || -> io::Result<()> {
                    let mut file = BufWriter::new(File::create(path)?);
                    file.write_all(&self.buffer)?;
                    file.flush()
                };
                write().map_err(|e| {
                    Failure::Other(
                        format!("{} cannot be written: {e}", path.display()),
                        "name a file in a folder that exists and can be written".into(),
                    )
                })?;
            }
        }
        Ok(())
    }
}
