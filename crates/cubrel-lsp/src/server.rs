//! Who gets which message.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

use crossbeam_channel::{Receiver, Sender, select, unbounded};
use lsp_server::{Connection, ErrorCode, Message, Notification, Request, RequestId, Response};
use serde::de::DeserializeOwned;
use serde_json::{Value as Json, json};

use crate::lines::{Lines, Units};
use crate::loading::{self, Listener, Loaded};
use crate::open::{OpenText, Workspace};
use crate::paths::path_of;
use crate::protocol::{About, At, Changed, Opened, Stretch};
use crate::{ServerError, ServerOptions, answers};

/// Serves one editor until it says goodbye.
///
/// # Errors
/// When what comes in is not the protocol.
pub fn serve(connection: &Connection, options: &ServerOptions) -> Result<(), ServerError> {
    let (id, wanted) = connection.initialize_start()?;
    let units = units_of(&wanted);
    connection.initialize_finish(id, offered(units))?;
    let (done, loads) = unbounded();
    let mut server = Server {
        connection,
        units,
        today: options.today,
        tells_progress: wanted["capabilities"]["window"]["workDoneProgress"] == Json::Bool(true),
        workspace: Workspace { named: options.model.as_deref().map(model_file), ..Workspace::default() },
        unsaid: BTreeSet::new(),
        done,
        loadings: 0,
    };
    server.talk(&loads)
}

/// The file of a model that is named by its folder or its file.
fn model_file(path: &Path) -> PathBuf {
    let path = std::path::absolute(path).unwrap_or_else(|_| path.to_path_buf());
    if path.is_dir() { path.join("model.toml") } else { path }
}

/// UTF-8 where the editor can have it: then nothing has to be counted again.
fn units_of(wanted: &Json) -> Units {
    let known = wanted["capabilities"]["general"]["positionEncodings"].as_array();
    let has_bytes = known.is_some_and(|known| known.iter().any(|one| one == "utf-8"));
    if has_bytes { Units::Bytes } else { Units::Utf16 }
}

/// What this server can do.
fn offered(units: Units) -> Json {
    json!({
        "capabilities": {
            "positionEncoding": if units == Units::Bytes { "utf-8" } else { "utf-16" },
            "textDocumentSync": { "openClose": true, "change": 2, "save": {} },
            "completionProvider": { "triggerCharacters": [".", "\"", "'", "["] },
            "signatureHelpProvider": { "triggerCharacters": ["(", ","] },
            "codeActionProvider": { "codeActionKinds": ["quickfix"] },
            "hoverProvider": true,
            "definitionProvider": true,
            "referencesProvider": true,
            "documentHighlightProvider": true,
            "documentSymbolProvider": true,
            "semanticTokensProvider": {
                "legend": { "tokenTypes": answers::PIECES, "tokenModifiers": [] }, "full": true,
            },
            "renameProvider": { "prepareProvider": true },
        },
        "serverInfo": { "name": "cubrel", "version": env!("CARGO_PKG_VERSION") },
    })
}

struct Server<'c> {
    connection: &'c Connection,
    units: Units,
    today: Option<i32>,
    tells_progress: bool,
    workspace: Workspace,
    /// Texts whose problems may be others than were told.
    unsaid: BTreeSet<String>,
    done: Sender<Loaded>,
    loadings: u32,
}

impl Server<'_> {
    fn talk(&mut self, loads: &Receiver<Loaded>) -> Result<(), ServerError> {
        loop {
            select! {
                recv(self.connection.receiver) -> message => match message {
                    Ok(Message::Request(request)) => {
                        if self.connection.handle_shutdown(&request)? {
                            return Ok(());
                        }
                        self.request(request);
                    }
                    Ok(Message::Notification(notification)) => self.notification(notification),
                    Ok(Message::Response(_)) => {}
                    // The editor is gone without a word.
                    Err(_) => return Ok(()),
                },
                recv(loads) -> loaded => {
                    if let Ok(loaded) = loaded {
                        self.loaded(loaded);
                    }
                }
            }
            // Whoever types fast is told once.
            if self.connection.receiver.is_empty() {
                self.say_problems();
            }
        }
    }

    fn send(&self, message: impl Into<Message>) {
        // An editor that is gone is noticed where its messages are read.
        let _ = self.connection.sender.send(message.into());
    }

    fn request(&self, request: Request) {
        let (workspace, units) = (&self.workspace, self.units);
        let asked = |answer: fn(&Workspace, Units, &At) -> Option<Json>| {
            let (id, params) = (request.id.clone(), request.params.clone());
            answered(id, params, |at: At| Ok(answer(workspace, units, &at).unwrap_or(Json::Null)))
        };
        let response = match request.method.as_str() {
            "textDocument/completion" => asked(answers::completion),
            "textDocument/hover" => asked(answers::hover),
            "textDocument/definition" => asked(answers::definition),
            "textDocument/references" => asked(answers::references),
            "textDocument/documentHighlight" => asked(answers::highlights),
            "textDocument/signatureHelp" => asked(answers::signature),
            "textDocument/prepareRename" => asked(answers::prepare_rename),
            "textDocument/rename" => {
                answered(request.id, request.params, |at: At| answers::rename(workspace, units, &at))
            }
            "textDocument/codeAction" => answered(request.id, request.params, |asked: Stretch| {
                Ok(answers::actions(workspace, units, &asked).unwrap_or(Json::Null))
            }),
            "textDocument/semanticTokens/full" => answered(request.id, request.params, |of: About| {
                Ok(answers::pieces(workspace, units, &of.document.uri).unwrap_or(Json::Null))
            }),
            "textDocument/documentSymbol" => answered(request.id, request.params, |of: About| {
                Ok(answers::symbols(workspace, units, &of.document.uri).unwrap_or(Json::Null))
            }),
            other => {
                let message = format!("`{other}` is not known here");
                Response::new_err(request.id, ErrorCode::MethodNotFound as i32, message)
            }
        };
        self.send(response);
    }

    fn notification(&mut self, notification: Notification) {
        let method = notification.method;
        let params = notification.params;
        let understood = match method.as_str() {
            "textDocument/didOpen" => serde_json::from_value(params).map(|opened| self.opened(opened)),
            "textDocument/didChange" => serde_json::from_value(params).map(|changed| self.changed(changed)),
            "textDocument/didSave" => serde_json::from_value(params).map(|about| self.saved(&about)),
            "textDocument/didClose" => serde_json::from_value(params).map(|about| self.closed(&about)),
            // The protocol lets servers leave out what they do not know.
            _ => Ok(()),
        };
        if let Err(error) = understood {
            let message = format!("cubrel: `{method}` could not be understood: {error}");
            let params = json!({ "type": 1, "message": message });
            self.send(Notification::new("window/logMessage".into(), params));
        }
    }

    fn opened(&mut self, opened: Opened) {
        let opened = opened.document;
        let file = path_of(&opened.uri);
        let (model, is_model) = file.map_or((None, false), |file| self.workspace.model_of(&file));
        if let Some(file) = &model {
            let text = is_model.then(|| opened.text.clone());
            if self.workspace.open_model(file, text) {
                self.load(&file.clone());
            }
            self.unsaid_of(file);
        }
        let text = OpenText { text: opened.text, version: opened.version, model, is_model };
        self.workspace.texts.insert(opened.uri.clone(), text);
        self.unsaid.insert(opened.uri);
    }

    fn changed(&mut self, changed: Changed) {
        let Some(open) = self.workspace.texts.get_mut(&changed.document.uri) else { return };
        for change in changed.changes {
            match change.range {
                None => open.text = change.text,
                Some(range) => {
                    let lines = Lines::of(&open.text, self.units);
                    let (start, end) = (lines.offset(range.start), lines.offset(range.end));
                    open.text.replace_range(start.min(end)..end.max(start), &change.text);
                }
            }
        }
        open.version = changed.document.version;
        if let (true, Some(file)) = (open.is_model, open.model.clone()) {
            let text = open.text.clone();
            self.workspace.open_model(&file, Some(text));
            self.unsaid_of(&file);
        }
        self.unsaid.insert(changed.document.uri);
    }

    /// What a model loads may be another now.
    fn saved(&mut self, about: &About) {
        let open = self.workspace.texts.get(&about.document.uri).filter(|open| open.is_model);
        if let Some(file) = open.and_then(|open| open.model.clone()) {
            self.load(&file);
        }
    }

    fn closed(&mut self, about: &About) {
        let Some(closed) = self.workspace.texts.remove(&about.document.uri) else { return };
        self.unsaid.remove(&about.document.uri);
        let nothing = json!({ "uri": about.document.uri, "diagnostics": [] });
        self.send(Notification::new("textDocument/publishDiagnostics".into(), nothing));
        let Some(file) = closed.model else { return };
        let is_used = self.workspace.texts.values().any(|open| open.model.as_ref() == Some(&file));
        if !is_used {
            if let Some(model) = self.workspace.models.remove(&file) {
                model.loading.iter().for_each(cubrel::Cancel::cancel);
            }
        } else if closed.is_model {
            // What was not saved is gone.
            let text = std::fs::read_to_string(&file).unwrap_or_default();
            self.workspace.open_model(&file, Some(text));
            self.unsaid_of(&file);
        }
    }

    /// Loads what the text of a model says; what was being loaded before is given up.
    fn load(&mut self, file: &Path) {
        let Some(model) = self.workspace.models.get_mut(file) else { return };
        model.loading.iter().for_each(cubrel::Cancel::cancel);
        // Whoever looks at a text has not asked for anybody to be called, with a password of theirs.
        if model.read.asks_servers() {
            let message =
                "cubrel: tables of servers are read by `cubrel refresh` alone; what it has read is known here";
            self.send(Notification::new("window/logMessage".into(), json!({ "type": 3, "message": message })));
            return;
        }
        self.loadings += 1;
        let token = self.tells_progress.then(|| format!("cubrel {}", self.loadings));
        let listener = Listener { editor: self.connection.sender.clone(), token };
        model.loading = Some(loading::start(file, &model.text, self.today, listener, self.done.clone()));
    }

    fn loaded(&mut self, loaded: Loaded) {
        if let Some(model) = self.workspace.models.get_mut(&loaded.file) {
            model.take(&loaded.file, loaded.text, loaded.result);
            self.unsaid_of(&loaded.file);
        }
    }

    /// The problems of all texts of a model may be others.
    fn unsaid_of(&mut self, file: &Path) {
        let own = self.workspace.texts.iter().filter(|(_, open)| open.model.as_deref() == Some(file));
        self.unsaid.extend(own.map(|(uri, _)| uri.clone()));
    }

    fn say_problems(&mut self) {
        for uri in std::mem::take(&mut self.unsaid) {
            let Some((open, model)) = self.workspace.at(&uri) else { continue };
            let list = answers::all_problems(open, model);
            let diagnostics = answers::problems(&list, &open.text, self.units);
            let params = json!({ "uri": uri, "version": open.version, "diagnostics": diagnostics });
            self.send(Notification::new("textDocument/publishDiagnostics".into(), params));
        }
    }
}

/// The answer to a question, or why there is none.
fn answered<P: DeserializeOwned>(
    id: RequestId,
    params: Json,
    answer: impl FnOnce(P) -> Result<Json, String>,
) -> Response {
    match serde_json::from_value(params) {
        Ok(params) => match answer(params) {
            Ok(result) => Response::new_ok(id, result),
            Err(why) => Response::new_err(id, ErrorCode::RequestFailed as i32, why),
        },
        Err(error) => Response::new_err(id, ErrorCode::InvalidParams as i32, error.to_string()),
    }
}
