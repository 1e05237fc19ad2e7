//! A model, a server, and somebody who asks.

use std::fs;
use std::io::{Read, Write};
use std::net::{SocketAddr, TcpStream};
use std::path::{Path, PathBuf};
use std::time::Duration;

use cubrel_serve::Ready;
use cubrel_serve::people::tokens::Tokens;
use cubrel_serve::settings::{Anybody, At, ServerFile, Settings, TOKENS};
use serde_json::{Value as Json, json};
use tempfile::TempDir;

const MODEL: &str = r##"
[model]
name = "Ferries"
[table.port]
source = "port.csv"
key = "port"
[table.booking]
source = "booking-*.csv"
[[relationship]]
many = "booking.port"
one = "port.port"
[measure.net]
formula = "sum(booking.net)"
format = "#,##0.0"
[measure.secret_cost]
formula = "sum(booking.cost)"
[query.by_region]
text = "grid net by port.region"
[query.by_cost]
text = "grid secret_cost by port.region"
[role.north]
rows.port = "region = 'North'"
deny = ["secret_cost", "booking.cost"]
people = ["ann", "both"]
[role.own]
rows.port = "keeper = user()"
people = ["ben", "both"]
"##;

/// A model of two tables with roles, in a folder of its own.
pub fn folder() -> TempDir {
    let folder = TempDir::new().unwrap();
    let model = folder.path().join("ferries");
    fs::create_dir(&model).unwrap();
    fs::write(model.join("model.toml"), MODEL).unwrap();
    let ports = "port,region,keeper\nNes,North,ann\nHol,North,ben\nSka,South,ben\nVaa,South,cid\n";
    fs::write(model.join("port.csv"), ports).unwrap();
    bookings(&model, "booking-1.csv", 0..400);
    folder
}

/// Writes a file of bookings.
pub fn bookings(model: &Path, name: &str, days: std::ops::Range<u32>) {
    let line = |n: u32| {
        format!(
            "2026-{:02}-{:02},{},{}.5,{}\n",
            1 + n % 12,
            1 + n % 28,
            ["Nes", "Hol", "Ska", "Vaa"][n as usize * 7 % 4],
            n % 50,
            n % 9
        )
    };
    fs::write(model.join(name), days.fold("day,port,net,cost\n".to_string(), |text, n| text + &line(n))).unwrap();
}

/// A server that runs as long as this is kept.
pub struct Running {
    pub address: SocketAddr,
    /// Where Flight SQL is answered, such as `grpc://127.0.0.1:4711`.
    pub flight: String,
    pub model: PathBuf,
    pub folder: TempDir,
    pub runtime: tokio::runtime::Runtime,
}

/// A server for a model of its own.
pub fn serving(settings: &str) -> Running {
    serving_as(settings, Anybody::default())
}

pub fn serving_as(settings: &str, asker: Anybody) -> Running {
    serving_in(folder(), settings, asker)
}

/// A server for a model that is there already, with what its settings name beside it.
pub fn serving_in(folder: TempDir, settings: &str, asker: Anybody) -> Running {
    let model = folder.path().join("ferries");
    let own = settings.contains("[[model]]");
    let text = if own { settings.to_string() } else { format!("{settings}\n[[model]]\npath = 'ferries'\n") };
    let file: ServerFile = toml::from_str(&text).unwrap();
    let any = Some("127.0.0.1:0".to_string());
    let at = At { http: any.clone(), flight: any };
    let settings = Settings::new(file, folder.path(), &at, &[], asker).unwrap();
    let runtime = tokio::runtime::Runtime::new().unwrap();
    let ready = runtime.block_on(Ready::new(&settings)).unwrap_or_else(|e| panic!("{e}"));
    let (address, flight) = (ready.address().unwrap(), ready.flight().unwrap());
    runtime.spawn(ready.serve(std::future::pending()));
    Running { address, flight, model, folder, runtime }
}

/// What came back.
#[derive(Debug)]
pub struct Reply {
    pub status: u16,
    pub headers: Vec<(String, String)>,
    pub body: Vec<u8>,
}

impl Reply {
    pub fn header(&self, name: &str) -> Option<&str> {
        self.headers.iter().find(|(n, _)| n == name).map(|(_, value)| value.as_str())
    }

    pub fn text(&self) -> String {
        String::from_utf8_lossy(&self.body).to_string()
    }

    pub fn json(&self) -> Json {
        serde_json::from_slice(&self.body).unwrap_or_else(|e| panic!("{e}: {}", self.text()))
    }

    /// The rows of a grid.
    pub fn rows(&self) -> Json {
        assert_eq!(self.status, 200, "{}", self.text());
        self.json()["rows"].clone()
    }
}

impl Running {
    /// Sends bytes as they are, and reads to the end.
    pub fn raw(&self, bytes: &[u8]) -> Reply {
        let mut stream = TcpStream::connect(self.address).unwrap();
        stream.set_read_timeout(Some(Duration::from_secs(60))).unwrap();
        // Who is refused early need not have taken everything.
        let _ = stream.write_all(bytes);
        let mut all = Vec::new();
        let _ = stream.read_to_end(&mut all);
        reply(&all)
    }

    pub fn request(&self, method: &str, path: &str, headers: &[(&str, &str)], body: &[u8]) -> Reply {
        let mut text = format!("{method} {path} HTTP/1.1\r\nConnection: close\r\nContent-Length: {}\r\n", body.len());
        if !headers.iter().any(|(name, _)| *name == "Host") {
            text += "Host: localhost\r\n";
        }
        headers.iter().for_each(|(name, value)| text += &format!("{name}: {value}\r\n"));
        let mut bytes = (text + "\r\n").into_bytes();
        bytes.extend_from_slice(body);
        self.raw(&bytes)
    }

    pub fn get(&self, path: &str) -> Reply {
        self.request("GET", path, &[], b"")
    }

    pub fn post(&self, path: &str, body: &Json) -> Reply {
        self.request("POST", path, &[("Content-Type", "application/json")], body.to_string().as_bytes())
    }

    /// Asks a query, perhaps with a token.
    pub fn ask(&self, text: &str, token: Option<&str>) -> Reply {
        self.ask_in("application/json", text, token)
    }

    pub fn ask_in(&self, accept: &str, text: &str, token: Option<&str>) -> Reply {
        let bearer = token.map(|token| format!("Bearer {token}"));
        let mut headers = vec![("Content-Type", "application/json"), ("Accept", accept)];
        headers.extend(bearer.as_deref().map(|bearer| ("Authorization", bearer)));
        let body = json!({"text": text}).to_string();
        self.request("POST", "/api/models/ferries/query", &headers, body.as_bytes())
    }

    /// A token for somebody.
    pub fn token(&self, name: &str, days: u32) -> String {
        self.tokens().add(name, days).unwrap().0
    }

    pub fn tokens(&self) -> Tokens {
        Tokens::in_file(&self.folder.path().join(TOKENS))
    }

    /// A figure of those that are counted.
    pub fn counted(&self, name: &str) -> f64 {
        let text = self.get("/metrics").text();
        let line = text.lines().find(|line| line.starts_with(name)).unwrap_or_else(|| panic!("{name} in {text}"));
        line.rsplit(' ').next().unwrap().parse().unwrap()
    }
}

fn reply(all: &[u8]) -> Reply {
    let end = all.windows(4).position(|w| w == b"\r\n\r\n").unwrap_or(all.len());
    let head = String::from_utf8_lossy(&all[..end]).to_string();
    let mut lines = head.lines();
    let status = lines.next().and_then(|l| l.split(' ').nth(1)).and_then(|s| s.parse().ok()).unwrap_or(0);
    let headers: Vec<(String, String)> =
        lines.filter_map(|l| l.split_once(": ")).map(|(n, v)| (n.to_lowercase(), v.to_string())).collect();
    let mut body = all.get(end + 4..).unwrap_or_default().to_vec();
    if headers.iter().any(|(n, v)| n == "transfer-encoding" && v == "chunked") {
        body = unchunked(&body);
    }
    Reply { status, headers, body }
}

fn unchunked(mut body: &[u8]) -> Vec<u8> {
    let mut all = Vec::new();
    while let Some(end) = body.windows(2).position(|w| w == b"\r\n") {
        let length = usize::from_str_radix(&String::from_utf8_lossy(&body[..end]), 16).unwrap_or(0);
        if length == 0 {
            break;
        }
        all.extend_from_slice(&body[end + 2..end + 2 + length]);
        body = &body[end + 4 + length..];
    }
    all
}
