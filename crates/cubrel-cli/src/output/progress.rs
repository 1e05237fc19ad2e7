//! Progress bars on a terminal; nothing on a pipe.

use std::collections::HashMap;
use std::io::IsTerminal;
use std::sync::{Mutex, PoisonError};
use std::time::Duration;

use cubrel::{Observer, TableReport};
use indicatif::{MultiProgress, ProgressBar, ProgressStyle};

use crate::args::Global;

/// How often a bar without counts moves.
const TICK: Duration = Duration::from_millis(120);

/// One byte in so many, at most, is around the rows of a file that has a directory of them.
const AROUND_ROWS: u64 = 200;

/// A bar for each table that is being read.
pub struct Progress {
    bars: Option<MultiProgress>,
    by_table: Mutex<HashMap<String, ProgressBar>>,
    rows: Mutex<HashMap<String, u64>>,
}

impl Progress {
    /// Bars, if a person is looking.
    pub fn new(global: &Global) -> Progress {
        let shown = !global.quiet && std::io::stderr().is_terminal();
        Progress { bars: shown.then(MultiProgress::new), by_table: Mutex::default(), rows: Mutex::default() }
    }

    /// Takes the bars away.
    pub fn finish(&self) {
        if let Some(bars) = &self.bars {
            // A terminal that is gone needs no cleaning.
            let _ = bars.clear();
        }
    }
}

impl Observer for Progress {
    fn table(&self, name: &str, bytes: u64) {
        let Some(bars) = &self.bars else { return };
        let style = ProgressStyle::with_template("{prefix:>16} {bar:30} {bytes}/{total_bytes}, {msg}{eta} left");
        let bar = bars.add(ProgressBar::new(bytes).with_prefix(name.to_string()));
        bar.set_style(style.unwrap_or_else(|_| ProgressStyle::default_bar()));
        self.by_table.lock().unwrap_or_else(PoisonError::into_inner).insert(name.to_string(), bar);
    }

    fn progress(&self, name: &str, bytes: u64) {
        if let Some(bar) = self.by_table.lock().unwrap_or_else(PoisonError::into_inner).get(name) {
            bar.inc(bytes);
            // All bytes are read, but for those around the rows, which nobody counts; what is left is computing and coding, which has none.
            if bar.length().is_some_and(|all| bar.position() >= all - all / AROUND_ROWS) {
                let style =
                    ProgressStyle::with_template("{prefix:>16} {total_bytes} read, {msg}coding {spinner} {elapsed}");
                bar.set_style(style.unwrap_or_else(|_| ProgressStyle::default_spinner()));
                bar.enable_steady_tick(TICK);
            }
        }
    }

    fn rows(&self, name: &str, rows: u64) {
        let mut counts = self.rows.lock().unwrap_or_else(PoisonError::into_inner);
        let count = counts.entry(name.to_string()).or_default();
        *count += rows;
        if let Some(bar) = self.by_table.lock().unwrap_or_else(PoisonError::into_inner).get(name) {
            bar.set_message(format!("{}, ", super::text::counted(*count, "row")));
        }
    }

    fn done(&self, report: &TableReport) {
        if let Some(bar) = self.by_table.lock().unwrap_or_else(PoisonError::into_inner).remove(&report.table) {
            bar.finish_and_clear();
        }
    }
}
