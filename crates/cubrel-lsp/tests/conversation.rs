//! What an editor says and hears, over the protocol itself.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::path::{Path, PathBuf};
use std::thread::JoinHandle;
use std::time::Duration;

use cubrel_lsp::{ServerOptions, serve};
use lsp_server::{Connection, Message, Notification, Request, RequestId};
use serde_json::{Value as Json, json};
use tempfile::TempDir;

const MODEL: &str = r#"[table.booking]
source = "booking.csv"
[table.route]
source = "route.csv"
[[relationship]]
many = "booking.route"
one = "route.id"
[measure.net_revenue]
formula = "sum(booking.net)"
label = "Ertrag 𝄞"
[measure.doubled]
formula = "net_revenue * 2"
[query.routes]
text = "grid net_revenue by route.\"home port\""
"#;

/// A model's folder, with nothing loaded.
fn ferries() -> TempDir {
    let folder = tempfile::tempdir().unwrap();
    std::fs::write(folder.path().join("model.toml"), MODEL).unwrap();
    std::fs::write(folder.path().join("booking.csv"), "ref,route,net\n1,r1,2.50\n2,r2,4\n3,r1,1\n").unwrap();
    std::fs::write(folder.path().join("route.csv"), "id,home port\nr1,Ness\nr2,Öre\n").unwrap();
    folder
}

/// An editor, and the server that it talks to.
struct Editor {
    connection: Connection,
    server: Option<JoinHandle<Result<(), String>>>,
    asked: i32,
    /// All notifications so far.
    heard: Vec<Notification>,
    folder: TempDir,
    offered: Json,
}

impl Editor {
    fn new(folder: TempDir, capabilities: Json, options: ServerOptions) -> Editor {
        let (here, there) = Connection::memory();
        let server = std::thread::spawn(move || serve(&there, &options).map_err(|e| e.to_string()));
        let mut editor =
            Editor { connection: here, server: Some(server), asked: 0, heard: Vec::new(), folder, offered: Json::Null };
        editor.offered = editor.ask("initialize", json!({ "capabilities": capabilities })).unwrap();
        editor.say("initialized", json!({}));
        editor
    }

    fn plain() -> Editor {
        Editor::new(ferries(), json!({}), ServerOptions::default())
    }

    fn file(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    fn uri(&self, name: &str) -> String {
        format!("file://{}", self.file(name).display())
    }

    fn say(&self, method: &str, params: Json) {
        self.connection.sender.send(Notification::new(method.into(), params).into()).unwrap();
    }

    /// The next message that is no question of the server's.
    fn hear(&mut self) -> Message {
        loop {
            let message = self.connection.receiver.recv_timeout(Duration::from_secs(60)).expect("an answer");
            match message {
                Message::Notification(notification) => {
                    self.heard.push(notification.clone());
                    return notification.into();
                }
                Message::Request(_) => {}
                response => return response,
            }
        }
    }

    fn ask(&mut self, method: &str, params: Json) -> Result<Json, (i32, String)> {
        self.asked += 1;
        let id = RequestId::from(self.asked);
        self.connection.sender.send(Request::new(id.clone(), method.into(), params).into()).unwrap();
        loop {
            if let Message::Response(response) = self.hear() {
                assert_eq!(response.id, id);
                return response.response_result.map_err(|e| (e.code, e.message));
            }
        }
    }

    fn open(&self, name: &str, text: &str) {
        let document = json!({ "uri": self.uri(name), "languageId": "toml", "version": 1, "text": text });
        self.say("textDocument/didOpen", json!({ "textDocument": document }));
    }

    fn change(&self, name: &str, changes: Json) {
        let document = json!({ "uri": self.uri(name), "version": 2 });
        self.say("textDocument/didChange", json!({ "textDocument": document, "contentChanges": changes }));
    }

    fn save(&self, name: &str) {
        self.say("textDocument/didSave", json!({ "textDocument": { "uri": self.uri(name) } }));
    }

    /// What is asked of the first place of a text, and so many units further.
    fn at(
        &mut self,
        what: &str,
        name: &str,
        text: &str,
        place: &str,
        further: u32,
        more: Json,
    ) -> Result<Json, String> {
        let offset = text.find(place).unwrap();
        let line = text[..offset].matches('\n').count();
        let start = text[..offset].rfind('\n').map_or(0, |at| at + 1);
        let character = text[start..offset].encode_utf16().count() as u32 + further;
        let mut params = json!({
            "textDocument": { "uri": self.uri(name) }, "position": { "line": line, "character": character },
        });
        params.as_object_mut().unwrap().extend(more.as_object().cloned().unwrap_or_default());
        self.ask(&format!("textDocument/{what}"), params).map_err(|(_, message)| message)
    }

    /// Waits until the problems of a text are such.
    fn problems(&mut self, name: &str, until: impl Fn(&[Json]) -> bool) -> Vec<Json> {
        let uri = self.uri(name);
        let told = |n: &Notification| {
            let is_it = n.method == "textDocument/publishDiagnostics" && n.params["uri"] == uri.as_str();
            is_it.then(|| n.params["diagnostics"].as_array().unwrap().clone())
        };
        loop {
            if let Some(last) = self.heard.iter().rev().find_map(told).filter(|last| until(last)) {
                return last;
            }
            self.hear();
        }
    }

    /// Waits until the tables are there: then hints are told.
    fn loaded(&mut self, name: &str) -> Vec<Json> {
        self.problems(name, |all| all.iter().any(|p| p["code"] == "unused"))
    }
}

impl Drop for Editor {
    fn drop(&mut self) {
        if std::thread::panicking() {
            return;
        }
        self.ask("shutdown", Json::Null).unwrap();
        self.say("exit", Json::Null);
        let server = self.server.take().unwrap();
        assert_eq!(server.join().unwrap(), Ok(()), "the server ends when it is told to");
        assert!(!self.folder.path().join(".cubrel").exists(), "an editor writes no store");
    }
}

fn errors(all: &[Json]) -> Vec<&str> {
    all.iter().filter(|p| p["severity"] == 1).map(|p| p["message"].as_str().unwrap()).collect()
}

#[test]
fn problems_are_told_while_they_are_written_and_gone_when_they_are() {
    let mut editor = Editor::plain();
    editor.open("model.toml", MODEL);
    assert!(errors(&editor.loaded("model.toml")).is_empty());
    // One place of one line, as editors send what is typed.
    let line = MODEL.lines().position(|l| l.contains("sum(booking.net)")).unwrap();
    let range = |from: u32, to: u32| json!({ "start": { "line": line, "character": from }, "end": { "line": line, "character": to } });
    editor.change("model.toml", json!([{ "range": range(23, 26), "text": "nett" }]));
    let found = editor.problems("model.toml", |all| !errors(all).is_empty());
    let wrong = found.iter().find(|p| p["severity"] == 1).unwrap();
    assert_eq!(wrong["message"], "table `booking` has no column `nett`\ndid you mean `booking.net`?");
    assert_eq!((&wrong["range"], &wrong["code"]), (&range(15, 27), &json!("unknown_name")));
    let asked = json!({ "textDocument": { "uri": editor.uri("model.toml") }, "range": range(20, 20), "context": { "diagnostics": [] } });
    let actions = editor.ask("textDocument/codeAction", asked).unwrap();
    assert_eq!(actions[0]["title"], "Write `booking.net`");
    let edit = &actions[0]["edit"]["changes"][editor.uri("model.toml")][0];
    assert_eq!((&edit["range"], &edit["newText"]), (&range(15, 27), &json!("booking.net")));
    editor.change("model.toml", json!([{ "range": range(15, 27), "text": "booking.net" }]));
    editor.problems("model.toml", |all| errors(all).is_empty());
}

#[test]
fn what_a_text_loads_is_read_when_it_is_saved() {
    let mut editor = Editor::plain();
    editor.open("model.toml", MODEL);
    editor.loaded("model.toml");
    let missing = MODEL.replace("route.csv", "routes.csv");
    editor.change("model.toml", json!([{ "text": missing }]));
    editor.problems("model.toml", |all| errors(all).is_empty());
    editor.save("model.toml");
    let found = editor.problems("model.toml", |all| !errors(all).is_empty());
    assert!(errors(&found)[0].contains("routes.csv"), "{found:?}");
    // A table that nobody has read yet, and then it is there.
    std::fs::write(editor.file("port.csv"), "id,berths\np1,3\n").unwrap();
    let more =
        format!("{MODEL}[table.port]\nsource = \"port.csv\"\n[measure.berths]\nformula = \"sum(port.berths)\"\n");
    editor.change("model.toml", json!([{ "text": more }]));
    editor.problems("model.toml", |all| !errors(all).is_empty());
    editor.save("model.toml");
    editor.problems("model.toml", |all| errors(all).is_empty() && !all.is_empty());
    let hover = editor.at("hover", "model.toml", &more, "port.berths", 6, json!({})).unwrap();
    let said = hover["contents"]["value"].as_str().unwrap();
    assert!(said.contains("column port.berths: int") && said.contains("1 different value"), "{said}");
}

#[test]
fn names_are_completed_told_found_and_changed_in_the_model_and_beside_it() {
    let mut editor = Editor::plain();
    let query = "grid net_revenue by route.\"home port\" where booking.net > 1\n";
    std::fs::create_dir(editor.file("queries")).unwrap();
    editor.open("model.toml", MODEL);
    editor.open("queries/routes.grid", query);
    editor.loaded("model.toml");
    assert!(editor.problems("queries/routes.grid", |_| true).is_empty());

    let model = editor.uri("model.toml");
    let position = |line: u32, character: u32| json!({ "line": line, "character": character });
    let defined = json!({ "uri": model, "range": { "start": position(7, 9), "end": position(7, 20) } });
    for (name, text) in [("model.toml", MODEL), ("queries/routes.grid", query)] {
        assert_eq!(editor.at("definition", name, text, "net_revenue", 3, json!({})).unwrap(), defined);
        let hover = editor.at("hover", name, text, "net_revenue", 3, json!({})).unwrap();
        assert!(hover["contents"]["value"].as_str().unwrap().contains("measure net_revenue (Ertrag 𝄞)"), "{hover}");
        let with = json!({ "context": { "includeDeclaration": true } });
        let places = editor.at("references", name, text, "net_revenue", 3, with).unwrap();
        assert_eq!(places.as_array().unwrap().len(), 3);
        let without = json!({ "context": { "includeDeclaration": false } });
        assert_eq!(
            editor.at("references", name, text, "net_revenue", 3, without).unwrap().as_array().unwrap().len(),
            2
        );
        let items = editor.at("completion", name, text, "net_revenue by", 3, json!({})).unwrap();
        let first = &items["items"][0];
        assert_eq!((&first["label"], &first["textEdit"]["newText"]), (&json!("net_revenue"), &json!("net_revenue")));
    }
    let call = editor.at("signatureHelp", "model.toml", MODEL, "sum(", 4, json!({})).unwrap();
    assert!(call["signatures"][0]["label"].as_str().unwrap().starts_with("sum("));
    let marks = editor.at("documentHighlight", "model.toml", MODEL, "net_revenue", 1, json!({})).unwrap();
    assert_eq!(marks.as_array().unwrap().len(), 3);
    let symbols = editor.ask("textDocument/documentSymbol", json!({ "textDocument": { "uri": model } })).unwrap();
    let names: Vec<&str> = symbols.as_array().unwrap().iter().map(|s| s["name"].as_str().unwrap()).collect();
    assert_eq!(names, ["booking", "route", "booking.route → route.id", "net_revenue", "doubled", "routes"]);

    for (name, text) in [("model.toml", MODEL), ("queries/routes.grid", query)] {
        let asked = json!({ "textDocument": { "uri": editor.uri(name) } });
        let told = editor.ask("textDocument/semanticTokens/full", asked).unwrap();
        let pieces = pieces(text, &editor.offered, &told);
        assert!(pieces.contains(&("variable".into(), "net_revenue".into())), "{pieces:?}");
        let port = pieces.iter().find(|(_, piece)| piece.contains("home port")).unwrap();
        assert_eq!(port.0, "property");
        assert!(
            pieces.contains(&("keyword".into(), "grid".into())) && pieces.contains(&("class".into(), "route".into()))
        );
    }

    let can = editor.at("prepareRename", "model.toml", MODEL, "home port", 2, json!({})).unwrap();
    assert_eq!(can["range"]["start"]["line"], 13);
    let edit = editor.at("rename", "model.toml", MODEL, "net_revenue", 2, json!({ "newName": "revenue" })).unwrap();
    assert_eq!(applied(MODEL, &edit), MODEL.replace("net_revenue", "revenue"));
    let edit = editor.at("rename", "model.toml", MODEL, "home port", 2, json!({ "newName": "port" })).unwrap();
    let renamed = applied(MODEL, &edit);
    assert!(renamed.contains("by route.port\"") && renamed.contains("source_name = \"home port\""), "{renamed}");
    let refused = editor.at("rename", "model.toml", MODEL, "net_revenue", 2, json!({ "newName": "doubled" }));
    assert!(refused.unwrap_err().contains("has the name already"));
    let elsewhere = editor.at("rename", "queries/routes.grid", query, "net_revenue", 2, json!({ "newName": "x" }));
    assert!(elsewhere.unwrap_err().contains("in the model's file"));
}

/// What is told of the pieces of a text: kinds, and what stands there.
fn pieces(text: &str, offered: &Json, told: &Json) -> Vec<(String, String)> {
    let kinds = &offered["capabilities"]["semanticTokensProvider"]["legend"]["tokenTypes"];
    let numbers: Vec<usize> = told["data"].as_array().unwrap().iter().map(|n| n.as_u64().unwrap() as usize).collect();
    let lines: Vec<Vec<u16>> = text.lines().map(|line| line.encode_utf16().collect()).collect();
    let (mut line, mut character) = (0, 0);
    let piece = |n: &[usize]| {
        character = if n[0] == 0 { character + n[1] } else { n[1] };
        line += n[0];
        let there = String::from_utf16(&lines[line][character..character + n[2]]).unwrap();
        (kinds[n[3]].as_str().unwrap().to_string(), there)
    };
    numbers.chunks(5).map(piece).collect()
}

/// A text with the edits of an answer, whose places count UTF-16.
fn applied(text: &str, answer: &Json) -> String {
    let offset = |place: &Json| {
        let line: usize = text.split_inclusive('\n').take(place["line"].as_u64().unwrap() as usize).map(str::len).sum();
        let mut units = place["character"].as_u64().unwrap();
        let within = text[line..].char_indices().find(|(_, c)| {
            let is_here = units == 0;
            units = units.saturating_sub(c.len_utf16() as u64);
            is_here
        });
        line + within.map_or(text.len() - line, |(i, _)| i)
    };
    let mut made = text.to_string();
    let edits = answer["documentChanges"][0]["edits"].as_array().unwrap();
    for edit in edits.iter().rev() {
        let (start, end) = (offset(&edit["range"]["start"]), offset(&edit["range"]["end"]));
        made.replace_range(start..end, edit["newText"].as_str().unwrap());
    }
    made
}

#[test]
fn places_are_counted_as_the_editor_wants_them() {
    for (wanted, unit, character) in [(json!(["utf-8", "utf-16"]), "utf-8", 30), (json!(["utf-32"]), "utf-16", 28)] {
        let capabilities = json!({ "general": { "positionEncodings": wanted } });
        let mut editor = Editor::new(ferries(), capabilities, ServerOptions::default());
        assert_eq!(editor.offered["capabilities"]["positionEncoding"], unit);
        let text = MODEL.replace("net_revenue * 2", "if('𝄞' = '', 1, nothing)");
        editor.open("model.toml", &text);
        let found = editor.problems("model.toml", |all| !errors(all).is_empty());
        let wrong = found.iter().find(|p| p["severity"] == 1).unwrap();
        assert_eq!(wrong["range"]["start"], json!({ "line": 11, "character": character }), "{unit}");
    }
}

#[test]
fn a_query_belongs_to_the_nearest_model_or_to_the_one_that_was_named() {
    let other = ferries();
    std::fs::write(other.path().join("model.toml"), MODEL.replace("net_revenue", "income")).unwrap();
    let named = ServerOptions { model: Some(other.path().to_path_buf()), ..ServerOptions::default() };
    for (options, name) in [(ServerOptions::default(), "net_revenue"), (named, "income")] {
        let mut editor = Editor::new(ferries(), json!({}), options);
        let query = format!("grid {name}");
        editor.open("q.grid", &query);
        editor.problems("q.grid", |all| all.is_empty());
        // Names are known as soon as the tables are.
        while editor.at("hover", "q.grid", &query, name, 1, json!({})).unwrap().is_null() {
            editor.hear();
        }
    }
    // What belongs to no model has no problems, and nothing to say.
    let mut editor = Editor::new(tempfile::tempdir().unwrap(), json!({}), ServerOptions::default());
    for name in ["settings.toml", "q.grid"] {
        editor.open(name, "grid net_revenue");
        assert_eq!(editor.at("hover", name, "grid net_revenue", "net", 1, json!({})), Ok(Json::Null));
    }
    assert!(editor.heard.iter().all(|n| n.method != "textDocument/publishDiagnostics"), "{:?}", editor.heard);
}

#[test]
fn what_was_not_saved_is_gone_when_the_text_is_closed() {
    let mut editor = Editor::plain();
    editor.open("model.toml", MODEL);
    editor.loaded("model.toml");
    editor.open("q.grid", "grid income");
    editor.problems("q.grid", |all| !all.is_empty());
    editor.change("model.toml", json!([{ "text": MODEL.replace("net_revenue", "income") }]));
    editor.problems("q.grid", |all| all.is_empty());
    editor.say("textDocument/didClose", json!({ "textDocument": { "uri": editor.uri("model.toml") } }));
    editor.problems("q.grid", |all| !all.is_empty());
    assert!(editor.problems("model.toml", |_| true).is_empty(), "nothing is said of a closed text");
}

#[test]
fn progress_is_told_to_who_can_show_it() {
    let capabilities = json!({ "window": { "workDoneProgress": true } });
    let mut editor = Editor::new(ferries(), capabilities, ServerOptions::default());
    editor.open("model.toml", MODEL);
    editor.loaded("model.toml");
    let kinds: Vec<&str> = editor
        .heard
        .iter()
        .filter(|n| n.method == "$/progress")
        .map(|n| n.params["value"]["kind"].as_str().unwrap())
        .collect();
    assert_eq!((kinds.first(), kinds.last()), (Some(&"begin"), Some(&"end")));
    assert!(kinds.contains(&"report"), "{kinds:?}");
}

#[test]
fn nobody_is_called_because_a_text_says_so() {
    let server = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    server.set_nonblocking(true).unwrap();
    let port = server.local_addr().unwrap().port();
    let mut editor = Editor::plain();
    let model = format!("{MODEL}[table.port]\nsource = \"postgres://ann@127.0.0.1:{port}/ferries?table=port\"\n");
    for _ in 0..2 {
        editor.open("model.toml", &model);
        editor.save("model.toml");
        editor.problems("model.toml", |_| true);
    }
    let uri = editor.uri("model.toml");
    editor.ask("textDocument/documentSymbol", json!({ "textDocument": { "uri": uri } })).unwrap();
    let logged = editor.heard.iter().filter(|n| n.params["message"].to_string().contains("cubrel refresh")).count();
    assert_eq!(logged, 3, "it is said when the text is opened, and each time that it is saved");
    std::thread::sleep(Duration::from_millis(200));
    assert_eq!(server.accept().map(|_| ()).unwrap_err().kind(), std::io::ErrorKind::WouldBlock);
}

#[test]
fn what_is_not_the_protocol_is_answered_and_survived() {
    let mut editor = Editor::plain();
    editor.open("model.toml", MODEL);
    let code = |answer: Result<Json, (i32, String)>| answer.unwrap_err().0;
    assert_eq!(code(editor.ask("textDocument/hover", json!({ "position": 3 }))), -32602);
    assert_eq!(code(editor.ask("textDocument/foldingRange", json!({}))), -32601);
    for method in ["textDocument/didOpen", "textDocument/didChange", "textDocument/didSave", "textDocument/didClose"] {
        editor.say(method, json!({ "textDocument": 7 }));
    }
    let unknown = json!({ "textDocument": { "uri": "file:///nothing/model.toml", "version": 1 }, "contentChanges": [{ "text": "" }] });
    editor.say("textDocument/didChange", unknown.clone());
    editor.say("textDocument/didSave", unknown.clone());
    editor.say("textDocument/didClose", unknown);
    editor.say("$/unheardOf", json!(1));
    let beyond = json!({ "line": 9999, "character": 9999 });
    let range = json!({ "start": beyond, "end": { "line": 0, "character": 0 } });
    editor.change("model.toml", json!([{ "range": range, "text": "" }, { "text": MODEL }]));
    let asked = json!({ "textDocument": { "uri": editor.uri("model.toml") }, "position": beyond });
    assert!(editor.ask("textDocument/completion", asked).is_ok());
    editor.loaded("model.toml");
    let logged = editor.heard.iter().filter(|n| n.method == "window/logMessage").count();
    assert_eq!(logged, 4);
}

#[test]
fn an_editor_that_is_gone_ends_the_server() {
    let (here, there) = Connection::memory();
    let server = std::thread::spawn(move || serve(&there, &ServerOptions::default()).is_ok());
    let hello = Request::new(RequestId::from(1), "initialize".into(), json!({ "capabilities": {} }));
    here.sender.send(hello.into()).unwrap();
    here.receiver.recv().unwrap();
    here.sender.send(Notification::new("initialized".into(), json!({})).into()).unwrap();
    drop(here);
    assert!(server.join().unwrap());
}

#[test]
fn a_path_is_a_path_whatever_it_is_called() {
    let folder = tempfile::Builder::new().prefix("my models ö#").tempdir().unwrap();
    for file in ["model.toml", "booking.csv", "route.csv"] {
        std::fs::copy(ferries().path().join(file), folder.path().join(file)).unwrap();
    }
    let mut editor = Editor::new(folder, json!({}), ServerOptions::default());
    let path: &Path = &editor.file("model.toml");
    let escaped = path.display().to_string().replace(' ', "%20").replace('ö', "%C3%B6").replace('#', "%23");
    let uri = format!("file://{escaped}");
    let document = json!({ "uri": uri, "languageId": "toml", "version": 1, "text": MODEL });
    editor.say("textDocument/didOpen", json!({ "textDocument": document }));
    while !editor.heard.iter().any(|n| n.params["diagnostics"].to_string().contains("unused")) {
        editor.hear();
    }
    let asked = json!({ "textDocument": { "uri": uri }, "position": { "line": 11, "character": 14 } });
    assert_eq!(editor.ask("textDocument/definition", asked).unwrap()["uri"], uri.as_str());
}
