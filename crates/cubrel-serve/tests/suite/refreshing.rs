//! Data that changes while it is asked for.

use std::fs;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use serde_json::json;

use crate::common::{bookings, serving};

const REFRESH: &str = "/api/models/ferries/refresh";

#[test]
fn a_refresh_brings_new_data_and_a_failed_one_leaves_the_old() {
    let server = serving("");
    let path = "/api/models/ferries/query?text=grid+rows(booking)+as+n";
    let first = server.get(path);
    assert_eq!(first.rows(), json!([[400]]));
    bookings(&server.model, "booking-2.csv", 400..500);
    assert_eq!(server.get(path).rows(), json!([[400]]), "nobody has asked for a refresh");
    let report = server.post(REFRESH, &json!({}));
    assert_eq!(report.status, 200, "{}", report.text());
    assert!(report.json()["tables"].as_array().unwrap().iter().any(|t| t["rows"] == 500), "{}", report.text());
    let second = server.get(path);
    assert_eq!(second.rows(), json!([[500]]));
    assert_ne!(first.header("etag"), second.header("etag"));
    fs::write(server.model.join("booking-2.csv"), "day,port,net,cost\n2026-01-01,Nes\n").unwrap();
    let failed = server.post(REFRESH, &json!({}));
    assert_eq!(failed.status, 422, "{}", failed.text());
    assert!(failed.text().contains("booking-2.csv line 2"), "{}", failed.text());
    assert_eq!(server.get(path).rows(), json!([[500]]), "the old data is still there");
    assert_eq!(server.counted("cubrel_refreshes_total{model=\"ferries\",outcome=\"failed\"}"), 1.0);
    assert_eq!(server.counted("cubrel_model_versions{model=\"ferries\"}"), 1.0, "versions that nobody reads are gone");
}

#[test]
fn who_asks_while_data_is_replaced_sees_one_version_or_the_other() {
    let server = serving("limits = { at_once = 4, queue = 100 }");
    let done = AtomicBool::new(false);
    std::thread::scope(|scope| {
        let askers: Vec<_> = (0..3)
            .map(|_| {
                scope.spawn(|| {
                    let mut seen = 0;
                    while !done.load(Ordering::Relaxed) {
                        let reply =
                            server.ask("grid rows(booking) as n, sum(booking.net) as s by port.port totals", None);
                        let rows = reply.rows();
                        let rows = rows.as_array().unwrap();
                        let count = |i: usize| rows[i][1].as_u64().unwrap();
                        assert_eq!((0..4).map(count).sum::<u64>(), count(4), "{}", reply.text());
                        assert_eq!(count(4) % 100, 0, "no mixed versions: {}", reply.text());
                        seen += 1;
                    }
                    seen
                })
            })
            .collect();
        for n in 5..11 {
            bookings(&server.model, "booking-1.csv", 0..n * 100);
            assert_eq!(server.post(REFRESH, &json!({})).status, 200);
        }
        done.store(true, Ordering::Relaxed);
        assert!(askers.into_iter().map(|a| a.join().unwrap()).sum::<usize>() > 6);
    });
    assert_eq!(server.ask("grid rows(booking) as n", None).rows(), json!([[1000]]));
}

#[test]
fn a_folder_that_changes_is_read_again_where_that_is_asked_for() {
    let server = serving("[[model]]\npath = 'ferries'\nwatch = true");
    bookings(&server.model, "booking-2.csv", 400..450);
    let start = Instant::now();
    while server.ask("grid rows(booking) as n", None).rows() != json!([[450]]) {
        assert!(start.elapsed() < Duration::from_secs(30), "it was not seen");
        std::thread::sleep(Duration::from_millis(50));
    }
}
