//! Tables are loaded beside the conversation: as a text says, into memory alone.

use std::path::{Path, PathBuf};

use crossbeam_channel::Sender;
use cubrel::sizes::Sizes;
use cubrel::{Cancel, Error, Model, Observer, RefreshOptions};
use lsp_server::{Message, Notification, Request, RequestId};
use serde_json::{Value as Json, json};

/// What came of loading.
pub(crate) struct Loaded {
    /// The file of the model.
    pub(crate) file: PathBuf,
    /// The text that said what to load.
    pub(crate) text: String,
    /// The model, and what it weighs.
    pub(crate) result: Result<(Model, Sizes), Error>,
}

/// Who is told how far it is.
pub(crate) struct Listener {
    /// The editor.
    pub(crate) editor: Sender<Message>,
    /// The name of this work between the two.
    pub(crate) token: Option<String>,
}

impl Listener {
    fn tell(&self, value: Json) {
        if let Some(token) = &self.token {
            let params = json!({ "token": token, "value": value });
            // Nobody listens any more: then nobody needs to be told.
            let _ = self.editor.send(Notification::new("$/progress".into(), params).into());
        }
    }

    fn begin(&self) {
        if let Some(token) = &self.token {
            let id = RequestId::from(format!("create {token}"));
            let create = Request::new(id, "window/workDoneProgress/create".into(), json!({ "token": token }));
            let _ = self.editor.send(create.into());
        }
        self.tell(json!({ "kind": "begin", "title": "cubrel: loading" }));
    }
}

impl Observer for Listener {
    fn table(&self, name: &str, _bytes: u64) {
        self.tell(json!({ "kind": "report", "message": name }));
    }
}

/// Starts to load what a text says; what comes of it is sent. The returned switch ends it.
pub(crate) fn start(file: &Path, text: &str, today: Option<i32>, listener: Listener, done: Sender<Loaded>) -> Cancel {
    let options = RefreshOptions { today, ..RefreshOptions::default() };
    let cancel = options.cancel.clone();
    let (file, text) = (file.to_path_buf(), text.to_string());
    std::thread::spawn(move || {
        listener.begin();
        let folder = file.parent().unwrap_or(Path::new("."));
        let model = Model::open_text(folder, &file_name(&file), &text, &options, &listener);
        listener.tell(json!({ "kind": "end" }));
        let result = model.map(|model| {
            let sizes = model.sizes();
            (model, sizes)
        });
        // The server is gone.
        let _ = done.send(Loaded { file, text, result });
    });
    cancel
}

/// What messages call a file.
pub(crate) fn file_name(file: &Path) -> String {
    file.file_name().unwrap_or_default().to_string_lossy().into_owned()
}
