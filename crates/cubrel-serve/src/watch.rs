//! What is counted for whoever watches the server, in the text format of OpenMetrics.

use prometheus_client::encoding::EncodeLabelSet;
use prometheus_client::encoding::text::encode;
use prometheus_client::metrics::counter::Counter;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::gauge::Gauge;
use prometheus_client::metrics::histogram::{Histogram, exponential_buckets};
use prometheus_client::registry::Registry;

use crate::server::Server;

/// What a request was about, and how it ended.
#[derive(Clone, Debug, Hash, PartialEq, Eq, EncodeLabelSet)]
pub struct Kind {
    /// The route, with names in place of what is asked for.
    pub route: String,
    /// The class of the status: `2xx`, `4xx`, `5xx`.
    pub status: &'static str,
}

#[derive(Clone, Debug, Hash, PartialEq, Eq, EncodeLabelSet)]
struct OfModel {
    model: String,
}

#[derive(Clone, Debug, Hash, PartialEq, Eq, EncodeLabelSet)]
struct Refreshes {
    model: String,
    outcome: &'static str,
}

/// Counters that grow while requests are answered.
#[derive(Debug)]
pub struct Watch {
    latency: Family<Kind, Histogram>,
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

    /// Everything, as OpenMetrics has it.
    pub fn text(&self, server: &Server) -> String {
        let mut all = Registry::with_prefix("cubrel");
        all.register("request_seconds", "How long requests took", self.latency.clone());
        all.register("questions", "Questions that were worked out", self.questions.clone());
        all.register("lines", "Lines that were answered", self.lines.clone());
        all.register("cells", "Cells that were answered", self.cells.clone());
        all.register("answers_again", "Answers that had been given before", self.again.clone());
        all.register("questions_left", "Questions that nobody waited for to the end", self.left.clone());
        all.register("requests_sent_away", "Requests sent away because too many waited", self.sent_away.clone());
        let gauge = |value: u64| {
            let gauge: Gauge = Gauge::default();
            gauge.set(i64::try_from(value).unwrap_or(i64::MAX));
            gauge
        };
        all.register("answers_bytes", "Bytes of answers that are kept", gauge(server.answers.bytes()));
        all.register("questions_waiting", "Questions that wait for their turn", gauge(server.gate.waiting() as u64));
        let (bytes, versions) = (Family::<OfModel, Gauge>::default(), Family::<OfModel, Gauge>::default());
        let refreshes = Family::<Refreshes, Counter>::default();
        for served in &server.models {
            let of = OfModel { model: served.name.clone() };
            bytes.get_or_create(&of).set(i64::try_from(served.current().bytes()).unwrap_or(i64::MAX));
            versions.get_or_create(&of).set(served.in_memory() as i64);
            let (well, failed) = served.counts();
            for (outcome, count) in [("done", well), ("failed", failed)] {
                refreshes.get_or_create(&Refreshes { model: served.name.clone(), outcome }).inc_by(count);
            }
        }
        all.register("model_bytes", "Bytes of the newest version of a model", bytes);
        all.register("model_versions", "Versions of a model in memory", versions);
        all.register("refreshes", "Refreshes by how they ended", refreshes);
        let mut text = String::new();
        // Writing to a string does not fail.
        let _ = encode(&mut text, &all);
        text
    }
}
