//! What is counted for whoever watches the server.

use prometheus_client::encoding::EncodeLabelSet;
use prometheus_client::metrics::counter::Counter;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::histogram::{Histogram, exponential_buckets};

/// What a request was about, and how it ended.
#[derive(Clone, Debug, Hash, PartialEq, Eq, EncodeLabelSet)]
pub struct Kind {
    /// The route, with names in place of what is asked for.
    pub route: String,
    /// The class of the status: `2xx`, `4xx`, `5xx`.
    pub status: &'static str,
}

/// Counters that grow while requests are answered.
#[derive(Debug)]
pub struct Watch {
    /// How long requests took.
    pub latency: Family<Kind, Histogram>,
    /// Questions that were worked out.
    pub questions: Counter,
    /// Lines that were answered.
    pub lines: Counter,
    /// Cells that were answered.
    pub cells: Counter,
    /// Answers that had been given before.
    pub again: Counter,
    /// Questions that were cancelled because nobody waited any more.
    pub left: Counter,
    /// Requests that were sent away because too many waited.
    pub sent_away: Counter,
}

fn buckets() -> Histogram {
    // From half a millisecond to half a minute.
    Histogram::new(exponential_buckets(0.0005, 2.0, 17))
}

impl Default for Watch {
    fn default() -> Watch {
        Watch {
            latency: Family::new_with_constructor(buckets),
            questions: Counter::default(),
            lines: Counter::default(),
            cells: Counter::default(),
            again: Counter::default(),
            left: Counter::default(),
            sent_away: Counter::default(),
        }
    }
}

impl Watch {
    /// A request has been answered.
    pub fn answered(&self, kind: &Kind, seconds: f64) {
        self.latency.get_or_create(kind).observe(seconds);
    }
}
