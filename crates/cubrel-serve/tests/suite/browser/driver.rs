//! A browser that is told what to do as WebDriver has it (W3C), by ChromeDriver.

use std::io::{BufRead, BufReader};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use serde_json::{Value as Json, json};
use tempfile::TempDir;

/// The name under which WebDriver hands out elements.
const ELEMENT: &str = "element-6066-11e4-a52e-4f735466cecf";
/// Set where the tests have to find a browser.
const NEEDED: &str = "CUBREL_NEEDS_BROWSER";

/// A program that starts browsers.
pub struct Driver {
    child: Child,
    url: String,
}

impl Drop for Driver {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

impl Driver {
    /// Starts it. Where there is none, this says so, and the test has nothing to look at.
    pub fn start() -> Option<Driver> {
        let started = Command::new("chromedriver").arg("--port=0").stdout(Stdio::piped()).stderr(Stdio::null()).spawn();
        let mut child = match started {
            Ok(child) => child,
            Err(e) => {
                assert!(std::env::var_os(NEEDED).is_none(), "chromedriver: {e}");
                eprintln!("skipped: there is no chromedriver: {e}");
                return None;
            }
        };
        let mut lines = BufReader::new(child.stdout.take().unwrap()).lines();
        let told = lines.by_ref().map_while(Result::ok).find(|line| line.contains("started successfully on port"));
        let told = told.unwrap_or_else(|| panic!("chromedriver says nothing of a port"));
        let port: String =
            told.chars().rev().skip_while(|c| !c.is_ascii_digit()).take_while(char::is_ascii_digit).collect();
        let port: String = port.chars().rev().collect();
        std::thread::spawn(move || lines.for_each(drop));
        Some(Driver { child, url: format!("http://127.0.0.1:{port}") })
    }

    /// A new browser, in which nobody has been anywhere.
    pub fn browser(&self, (width, height): (u32, u32)) -> Browser {
        let folder = TempDir::new().unwrap();
        let args = [
            "--headless=new".to_string(),
            "--no-sandbox".into(),
            "--disable-gpu".into(),
            "--disable-quic".into(),
            "--disable-dev-shm-usage".into(),
            "--no-first-run".into(),
            "--disable-background-networking".into(),
            "--disable-component-update".into(),
            "--disable-sync".into(),
            format!("--window-size={width},{height}"),
            format!("--user-data-dir={}", folder.path().display()),
        ];
        let wanted = json!({"capabilities": {"alwaysMatch": {"goog:chromeOptions": {"args": args}}}});
        let begun = asked(ureq::post(format!("{}/session", self.url)).send_json(wanted));
        let session = begun["sessionId"].as_str().unwrap_or_else(|| panic!("no browser: {begun}")).to_string();
        Browser { url: format!("{}/session/{session}", self.url), _folder: folder }
    }
}

fn asked(reply: Result<ureq::http::Response<ureq::Body>, ureq::Error>) -> Json {
    let mut reply = reply.unwrap_or_else(|e| panic!("{e}"));
    let reply: Json = reply.body_mut().read_json().unwrap();
    reply["value"].clone()
}

/// A browser.
pub struct Browser {
    url: String,
    _folder: TempDir,
}

impl Drop for Browser {
    fn drop(&mut self) {
        let _ = ureq::delete(&self.url).call();
    }
}

impl Browser {
    fn post(&self, path: &str, body: Json) -> Json {
        let config = ureq::Agent::config_builder().http_status_as_error(false).build();
        asked(config.new_agent().post(format!("{}/{path}", self.url)).send_json(body))
    }

    fn get(&self, path: &str) -> Json {
        asked(ureq::get(format!("{}/{path}", self.url)).call())
    }

    pub fn open(&self, url: &str) {
        self.post("url", json!({"url": url}));
    }

    pub fn address(&self) -> String {
        self.get("url").as_str().unwrap().to_string()
    }

    /// What a script gives.
    pub fn script(&self, script: &str, args: Json) -> Json {
        let value = self.post("execute/sync", json!({"script": script, "args": args}));
        assert!(value.get("error").is_none(), "{script}: {value}");
        value
    }

    /// Waits until something is so, and says what else there is when it does not become so.
    pub fn until(&self, what: &str, is_so: impl Fn() -> bool) {
        let start = Instant::now();
        while !is_so() {
            assert!(start.elapsed() < Duration::from_secs(20), "{what}: {} at {}", self.text("body"), self.address());
            std::thread::sleep(Duration::from_millis(30));
        }
    }

    fn found(&self, selector: &str) -> Option<String> {
        let found = self.post("element", json!({"using": "css selector", "value": selector}));
        found[ELEMENT].as_str().map(str::to_string)
    }

    /// The element of a selector, as soon as it is there.
    fn element(&self, selector: &str) -> String {
        self.until(selector, || self.found(selector).is_some());
        self.found(selector).unwrap()
    }

    pub fn click(&self, selector: &str) {
        let element = self.element(selector);
        let done = self.post(&format!("element/{element}/click"), json!({}));
        assert!(done.is_null(), "{selector}: {done}");
    }

    /// Clicks what has just this text.
    pub fn click_text(&self, selector: &str, text: &str) {
        let script = "document.querySelectorAll('[data-asked]').forEach(e => e.removeAttribute('data-asked')); const at = [...document.querySelectorAll(arguments[0])].find(e => e.textContent.trim().startsWith(arguments[1])); if (at) at.setAttribute('data-asked', '1'); return !!at;";
        self.until(text, || self.script(script, json!([selector, text])) == json!(true));
        self.click("[data-asked]");
    }

    pub fn write(&self, selector: &str, text: &str) {
        let element = self.element(selector);
        let done = self.post(&format!("element/{element}/value"), json!({"text": text}));
        assert!(done.is_null(), "{selector}: {done}");
    }

    /// Presses keys wherever the browser is, as somebody without a mouse does.
    pub fn press(&self, keys: &[char]) {
        let of = |key: &char| {
            [json!({"type": "keyDown", "value": key.to_string()}), json!({"type": "keyUp", "value": key.to_string()})]
        };
        let all: Vec<Json> = keys.iter().flat_map(of).collect();
        self.post("actions", json!({"actions": [{"type": "key", "id": "keys", "actions": all}]}));
    }

    /// The text that people see of the first element of a selector.
    pub fn text(&self, selector: &str) -> String {
        let script = "const at = document.querySelector(arguments[0]); return at ? at.innerText : '';";
        self.script(script, json!([selector])).as_str().unwrap_or_default().to_string()
    }

    /// The texts of all elements of a selector that people see.
    pub fn texts(&self, selector: &str) -> Vec<String> {
        let script = "return [...document.querySelectorAll(arguments[0])].filter(e => e.checkVisibility()).map(e => e.innerText.trim());";
        serde_json::from_value(self.script(script, json!([selector]))).unwrap()
    }
}
