//! What is counted, in the text format of OpenMetrics.

use prometheus_client::encoding::EncodeLabelSet;
use prometheus_client::encoding::text::encode;
use prometheus_client::metrics::counter::Counter;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::gauge::Gauge;
use prometheus_client::registry::Registry;

use crate::server::Server;

#[derive(Clone, Debug, Hash, PartialEq, Eq, EncodeLabelSet)]
struct OfModel {
    model: String,
}

#[derive(Clone, Debug, Hash, PartialEq, Eq, EncodeLabelSet)]
struct Refreshes {
    model: String,
    outcome: &'static str,
}

/// Everything, as OpenMetrics has it.
pub fn text(server: &Server) -> String {
    let watch = &server.watch;
    let mut all = Registry::with_prefix("cubrel");
    all.register("request_seconds", "How long requests took", watch.latency.clone());
    all.register("questions", "Questions that were worked out", watch.questions.clone());
    all.register("lines", "Lines that were answered", watch.lines.clone());
    all.register("cells", "Cells that were answered", watch.cells.clone());
    all.register("answers_again", "Answers that had been given before", watch.again.clone());
    all.register("questions_left", "Questions that nobody waited for to the end", watch.left.clone());
    all.register("requests_sent_away", "Requests sent away because too many waited", watch.sent_away.clone());
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
