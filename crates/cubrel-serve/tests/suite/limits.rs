//! Nobody takes more than they may, and who goes away is not worked for.

use std::io::Write;
use std::net::TcpStream;
use std::time::{Duration, Instant};

use serde_json::json;

use crate::common::{Running, serving};

fn until(what: &str, mut is_so: impl FnMut() -> bool) {
    let start = Instant::now();
    while !is_so() {
        assert!(start.elapsed() < Duration::from_secs(30), "{what}");
        std::thread::sleep(Duration::from_millis(10));
    }
}

#[test]
fn what_takes_too_much_is_refused_with_the_limit() {
    let server = serving("limits = { cells = 100, time = '20 s' }");
    let reply = server.ask("grid net by booking.day, booking.net", None);
    assert_eq!((reply.status, &reply.json()["type"]), (422, &json!("urn:cubrel:problem:limit")), "{}", reply.text());
    let server = serving("limits = { memory = '1 KiB' }");
    let reply = server.ask("grid net by booking.day, booking.net", None);
    assert_eq!((reply.status, &reply.json()["type"]), (422, &json!("urn:cubrel:problem:limit")), "{}", reply.text());
    let server = serving("limits = { time = '1 ms' }");
    let text = format!("grid {}", (0..4000).map(|n| format!("net * {n} as x{n}")).collect::<Vec<_>>().join(", "));
    let reply = server.ask(&text, None);
    assert_eq!((reply.status, &reply.json()["type"]), (422, &json!("urn:cubrel:problem:limit")), "{}", reply.text());
}

/// Sends a question and does not wait for the answer.
fn started(server: &Running, text: &str) -> TcpStream {
    let body = json!({"text": text}).to_string();
    let mut stream = TcpStream::connect(server.address).unwrap();
    let head = format!(
        "POST /api/models/ferries/query HTTP/1.1\r\nHost: localhost\r\nContent-Type: application/json\r\nContent-Length: {}\r\n\r\n{body}",
        body.len()
    );
    stream.write_all(head.as_bytes()).unwrap();
    stream
}

/// A question with so many parts that it takes seconds.
fn long_question() -> String {
    let part = |n: usize| format!("median(booking.net + {n}) as x{n}");
    format!("grid {} by booking.day, booking.net, port.port", (0..12_000).map(part).collect::<Vec<_>>().join(", "))
}

#[test]
fn too_many_at_once_are_sent_away_and_the_rest_is_served() {
    let server = serving("limits = { at_once = 1, queue = 1, time = '60 s' }");
    let text = long_question();
    let _first = started(&server, &text);
    std::thread::sleep(Duration::from_millis(200));
    let second = started(&server, "grid net");
    until("the second waits", || server.counted("cubrel_questions_waiting") == 1.0);
    let third = server.ask("grid net", None);
    assert_eq!((third.status, third.header("retry-after")), (429, Some("2")), "{}", third.text());
    assert!(server.counted("cubrel_requests_sent_away_total") >= 1.0);
    drop(second);
    until("who waited is gone", || server.counted("cubrel_questions_waiting") == 0.0);
}

#[test]
fn a_question_that_nobody_waits_for_ends() {
    let server = serving("limits = { at_once = 1, queue = 4, time = '60 s' }");
    let stream = started(&server, &long_question());
    std::thread::sleep(Duration::from_millis(300));
    drop(stream);
    until("it is told that it was left", || server.counted("cubrel_questions_left_total") == 1.0);
    let start = Instant::now();
    assert_eq!(server.ask("grid net", None).status, 200);
    assert!(start.elapsed() < Duration::from_secs(20), "its turn is free again: {:?}", start.elapsed());
    assert_eq!(server.counted("cubrel_questions_waiting"), 0.0);
}

#[test]
fn connections_that_say_nothing_are_closed_and_do_not_keep_others_out() {
    let server = serving("limits = { connections = 3 }");
    let silent: Vec<TcpStream> = (0..2).map(|_| TcpStream::connect(server.address).unwrap()).collect();
    silent.iter().for_each(|mut s| s.write_all(b"GET /health HT").unwrap());
    assert_eq!(server.get("/health").status, 200);
    let last = TcpStream::connect(server.address).unwrap();
    // Now there is no room, until they have been silent for long enough.
    let start = Instant::now();
    assert_eq!(server.get("/health").status, 200);
    assert!(start.elapsed() < Duration::from_secs(30));
    drop((silent, last));
}

#[test]
fn who_says_nothing_to_flight_does_not_keep_others_out_either() {
    let server = serving("limits = { connections = 2 }");
    let address = server.flight.strip_prefix("grpc://").unwrap();
    let silent: Vec<TcpStream> = (0..2).map(|_| TcpStream::connect(address).unwrap()).collect();
    let start = Instant::now();
    let url = format!("http://{address}");
    let connects = async { tonic::transport::Endpoint::from_shared(url).unwrap().connect().await };
    let channel = server.runtime.block_on(connects).unwrap();
    let mut client = arrow_flight::sql::client::FlightSqlServiceClient::new(channel);
    assert!(server.runtime.block_on(client.get_catalogs()).is_ok());
    assert!(start.elapsed() < Duration::from_secs(30), "{:?}", start.elapsed());
    drop(silent);
}
