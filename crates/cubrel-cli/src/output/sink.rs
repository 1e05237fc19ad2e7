//! Where results go.

use std::fs::File;
use std::io::{self, BufWriter, IsTerminal, Write};

use anstyle::{AnsiColor, Style};

use super::{closed, pager, text};
use crate::args::Global;
use crate::failure::Failure;
use crate::format::{ColorChoice, Format};

/// A terminal that says it is narrower is taken to be this wide.
const NARROWEST: usize = 20;

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
    /// New in a text.
    Added,
    /// Gone from a text.
    Gone,
}

impl Tone {
    fn style(self) -> Style {
        match self {
            Tone::Plain => Style::new(),
            Tone::Head => Style::new().bold().fg_color(Some(AnsiColor::Cyan.into())),
            Tone::Total => Style::new().bold(),
            Tone::Faint => Style::new().dimmed(),
            Tone::Alert => Style::new().fg_color(Some(AnsiColor::Yellow.into())),
            Tone::Added => Style::new().fg_color(Some(AnsiColor::Green.into())),
            Tone::Gone => Style::new().fg_color(Some(AnsiColor::Red.into())),
        }
    }
}

/// Where results go. They are kept until the command has succeeded, so that a failed one leaves no half result.
pub struct Output {
    format: Format,
    colored: bool,
    /// Columns and lines of the terminal, if results go to one.
    terminal: Option<(usize, usize)>,
    file: Option<std::path::PathBuf>,
    buffer: Vec<u8>,
    /// Whether it takes the place of what was shown before.
    is_again: bool,
}

impl Output {
    /// From the global options.
    pub fn new(global: &Global) -> Output {
        let to_terminal = global.output.is_none() && io::stdout().is_terminal();
        let size = terminal_size::terminal_size_of(io::stdout()).filter(|_| to_terminal);
        Output {
            format: global.format,
            colored: global.color.colors(&io::stdout())
                && (global.output.is_none() || global.color == ColorChoice::Always),
            terminal: size.map(|(columns, lines)| (usize::from(columns.0).max(NARROWEST), usize::from(lines.0))),
            file: global.output.clone(),
            buffer: Vec::new(),
            is_again: false,
        }
    }

    /// From the global options, for results that take the place of earlier ones.
    pub fn again(global: &Global) -> Output {
        Output { is_again: true, ..Output::new(global) }
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
        self.terminal.map(|(columns, _)| columns)
    }

    /// A sentence, in lines that a person can read.
    pub fn sentence(&mut self, tone: Tone, text: &str) -> Result<(), Failure> {
        let width = self.width().map_or(usize::MAX, |width| width.min(text::READABLE));
        for line in text::wrapped(&text::visible(text), width) {
            let line = self.paint(tone, &line);
            self.text(&format!("{line}\n"))?;
        }
        Ok(())
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
        match self.terminal {
            Some(_) => self.buffer.extend_from_slice(text::harmless(text).as_bytes()),
            None => self.buffer.extend_from_slice(text.as_bytes()),
        }
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

    /// Long results leave piece by piece, when they go to a pipe.
    fn spill(&mut self) -> Result<(), Failure> {
        const PIECE: usize = 1 << 20;
        if self.file.is_none() && self.terminal.is_none() && self.buffer.len() > PIECE {
            io::stdout().lock().write_all(&self.buffer)?;
            self.buffer.clear();
        }
        Ok(())
    }

    /// Cuts what is wider than the terminal all the same.
    fn narrow(&mut self, columns: usize) {
        let text = String::from_utf8_lossy(&self.buffer);
        let lines: Vec<String> = text.split('\n').map(|line| text::cut_painted(line, columns)).collect();
        self.buffer = lines.join("\n").into_bytes();
    }

    /// Writes what is left; what is longer than the terminal goes through a pager.
    pub fn finish(mut self) -> Result<(), Failure> {
        if let Some((columns, lines)) = self.terminal {
            if self.format == Format::Table {
                self.narrow(columns);
            }
            let longer = self.buffer.iter().filter(|b| **b == b'\n').count() >= lines;
            if longer && !self.is_again && pager::show(&self.buffer)? {
                return Ok(());
            }
            if self.is_again {
                // To the upper left corner, with nothing below it.
                self.buffer.splice(..0, *b"\x1b[H\x1b[2J");
            }
        }
        match &self.file {
            None if closed::no_stdout() && !self.buffer.is_empty() => {
                let help = "let it go somewhere, write results with `--output FILE`, or send them to /dev/null";
                return Err(Failure::Other("the standard output is closed".into(), help.into()));
            }
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
