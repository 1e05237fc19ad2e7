//! The program itself.

use std::fs;
use std::io::{BufRead, BufReader, Read, Write};
use std::net::TcpStream;
use std::path::Path;
use std::process::{Child, Command, Stdio};

use serde_json::Value as Json;

use crate::common::folder;

fn program(folder: &Path) -> Command {
    let mut command = Command::new(env!("CARGO_BIN_EXE_cubrel-serve"));
    command.current_dir(folder);
    command
}

struct Ended(Child);

impl Drop for Ended {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

fn output(folder: &Path, args: &[&str]) -> (Option<i32>, String, String) {
    let out = program(folder).args(args).output().unwrap();
    let text = |bytes: Vec<u8>| String::from_utf8(bytes).unwrap();
    (out.status.code(), text(out.stdout), text(out.stderr))
}

#[test]
fn it_says_in_one_line_where_it_is_and_stops_when_it_is_told() {
    let folder = folder();
    let mut child = Ended(
        program(folder.path())
            .args(["ferries", "--http", "127.0.0.1:0", "--flight", "127.0.0.1:0", "--format", "json"])
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap(),
    );
    let mut line = String::new();
    BufReader::new(child.0.stdout.take().unwrap()).read_line(&mut line).unwrap();
    let ready: Json = serde_json::from_str(&line).unwrap();
    assert_eq!(ready["models"], serde_json::json!(["ferries"]));
    assert!(ready["flight"].as_str().unwrap().starts_with("grpc://127.0.0.1:"), "{ready}");
    let address = ready["http"].as_str().unwrap().strip_prefix("http://").unwrap();
    let mut stream = TcpStream::connect(address).unwrap();
    stream.write_all(b"GET /health HTTP/1.1\r\nHost: localhost\r\nConnection: close\r\n\r\n").unwrap();
    let mut reply = String::new();
    stream.read_to_string(&mut reply).unwrap();
    assert!(reply.starts_with("HTTP/1.1 200"), "{reply}");
    if cfg!(unix) {
        Command::new("kill").args(["-TERM", &child.0.id().to_string()]).status().unwrap();
        assert_eq!(child.0.wait().unwrap().code(), Some(0));
        let mut log = String::new();
        child.0.stderr.take().unwrap().read_to_string(&mut log).unwrap();
        let of_access = log.lines().map(|l| serde_json::from_str::<Json>(l).unwrap()).find(|l| l["path"] == "/health");
        assert_eq!(of_access.unwrap()["status"], 200, "{log}");
    }
}

#[test]
fn tokens_are_made_listed_and_taken_back() {
    let folder = folder();
    let run = |args: &[&str]| output(folder.path(), args);
    let (code, token, _) = run(&["token", "add", "ann@example.org", "--days", "3"]);
    let token = token.trim();
    assert_eq!((code, token.len()), (Some(0), 8 + 1 + 64));
    let (_, list, _) = run(&["token", "list"]);
    assert!(list.contains("ann@example.org") && list.contains(&token[..8]) && !list.contains(&token[9..]), "{list}");
    let file = fs::read_to_string(folder.path().join("tokens.toml")).unwrap();
    assert!(!file.contains(&token[9..]), "the secret is kept nowhere");
    assert_eq!(run(&["token", "revoke", "bob"]).0, Some(2));
    assert_eq!(run(&["token", "revoke", "ann@example.org"]).0, Some(0));
    assert_eq!(run(&["token", "list"]).1, "");
}

#[test]
fn what_cannot_be_served_is_told_before_anything_is() {
    let folder = folder();
    fs::write(
        folder.path().join("odd.toml"),
        "sign_in = 'token'\ntls = { certificate = 'no.pem', key = 'no.pem' }\n[[model]]\npath = 'ferries'",
    )
    .unwrap();
    fs::write(folder.path().join("typo.toml"), "htp = '127.0.0.1:1'").unwrap();
    fs::write(folder.path().join("clock.toml"), "[[model]]\npath = 'ferries'\nrefresh = 'at six'").unwrap();
    for (args, part) in [
        (&["ferries", "--http", "0.0.0.0:0"][..], "sign in"),
        (&["harbours"], "harbours"),
        (&["ferries", "--as", "south"], "south"),
        (&["ferries", "ferries"], "two models"),
        (&["ferries", "--http", "nowhere"], "not an address"),
        (&["--config", "odd.toml", "--http", "127.0.0.1:0"], "no.pem"),
        (&["--config", "typo.toml"], "htp"),
        (&["--config", "clock.toml", "--http", "127.0.0.1:0"], "at six"),
        (&["--config", "none.toml"], "none.toml"),
    ] {
        let (code, out, err) = output(folder.path(), args);
        assert_eq!((code, out.as_str()), (Some(2), ""), "{args:?}: {err}");
        assert!(err.starts_with("error: ") && err.contains(part) && err.contains("help: "), "{args:?}: {err}");
    }
    let (_, schema, _) = output(folder.path(), &["schema"]);
    let schema: Json = serde_json::from_str(&schema).unwrap();
    assert!(schema["properties"]["sign_in"].is_object(), "{schema}");
}
