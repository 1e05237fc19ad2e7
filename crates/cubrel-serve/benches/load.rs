//! How much the server bears: many clients ask mixed questions of a demo model, of which every other one is new, while the model
//! is read again and again because one of its files grows. No request may fail, no answer may be of two versions, and memory has
//! to come back.
//!
//! ```sh
//! cubrel demo /tmp/ferries --rows 5000000
//! cargo bench -p cubrel-serve --bench load -- --model /tmp/ferries --clients 64 --seconds 30
//! ```

use std::collections::{BTreeMap, HashMap};
use std::error::Error;
use std::fs::{self, File};
use std::io::{BufRead, BufReader, Write};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use serde_json::{Value as Json, json};

type Done<T> = Result<T, Box<dyn Error + Send + Sync>>;

/// What is asked: the first tells of all rows at once, the second of the same in parts.
const QUESTIONS: [&str; 6] = [
    "grid rows(booking) as n",
    "grid rows(booking) as n by channel.kind",
    "grid net_revenue, bookings by port.region split by calendar.year totals",
    "grid net_revenue by route.name order by net_revenue desc limit 10 others",
    "grid bookings by calendar.year, calendar.month",
    "grid avg(booking.unit_fare) as fare by fare_class.name",
];

struct Settings {
    model: PathBuf,
    clients: usize,
    seconds: u64,
}

impl Settings {
    fn read() -> Done<Option<Settings>> {
        let mut settings = Settings { model: PathBuf::new(), clients: 64, seconds: 30 };
        let mut args = std::env::args().skip(1);
        while let Some(arg) = args.next() {
            let mut value = || args.next().ok_or(format!("`{arg}` needs a value"));
            match arg.as_str() {
                "--model" => settings.model = value()?.into(),
                "--clients" => settings.clients = value()?.parse()?,
                "--seconds" => settings.seconds = value()?.parse()?,
                // Cargo says this to every bench.
                "--bench" => {}
                other => return Err(format!("nothing is known of `{other}`").into()),
            }
        }
        if settings.model.as_os_str().is_empty() {
            println!("no model is named: `cubrel demo DIR`, then `-- --model DIR`");
            return Ok(None);
        }
        Ok(Some(settings))
    }
}

/// A server that runs as long as this is kept.
struct Running {
    child: Child,
    url: String,
    name: String,
}

impl Drop for Running {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

impl Running {
    fn start(model: &Path) -> Done<(Running, Duration)> {
        let start = Instant::now();
        let mut child = Command::new(env!("CARGO_BIN_EXE_cubrel-serve"))
            .arg(model)
            .args(["--http", "127.0.0.1:0", "--flight", "none", "--format", "json", "--log", "error"])
            .stdout(Stdio::piped())
            .spawn()?;
        let mut line = String::new();
        BufReader::new(child.stdout.take().ok_or("no output")?).read_line(&mut line)?;
        let ready: Json = serde_json::from_str(&line)?;
        let text = |value: &Json| value.as_str().unwrap_or_default().to_string();
        let running = Running { child, url: text(&ready["http"]), name: text(&ready["models"][0]) };
        Ok((running, start.elapsed()))
    }

    /// Bytes of memory that it has.
    fn memory(&self) -> Done<f64> {
        let status = fs::read_to_string(format!("/proc/{}/status", self.child.id()))?;
        let line = status.lines().find(|line| line.starts_with("VmRSS")).ok_or("no VmRSS")?;
        let kib: f64 = line.split_whitespace().nth(1).ok_or("no VmRSS")?.parse()?;
        Ok(kib / 1024.0)
    }

    fn at(&self, what: &str) -> String {
        format!("{}/api/models/{}/{what}", self.url, self.name)
    }
}

/// What one client saw.
#[derive(Default)]
struct Seen {
    milliseconds: Vec<f64>,
    failed: Vec<String>,
    sent_away: usize,
    /// By version and question, what the answer was.
    answers: HashMap<(String, usize), String>,
    mixed: usize,
}

/// Asks until it is over. Every other question is one that nobody has asked before.
fn asks(running: &Running, number: usize, over: &AtomicBool) -> Seen {
    let agent = ureq::Agent::config_builder().http_status_as_error(false).build().new_agent();
    let mut seen = Seen::default();
    let mut turn = number;
    while !over.load(Ordering::Relaxed) {
        turn += 1;
        let question = turn % QUESTIONS.len();
        let is_new = (turn / QUESTIONS.len()).is_multiple_of(2);
        let more = if is_new { format!(" -- {number}.{turn}") } else { String::new() };
        let text = format!("{}{more}", QUESTIONS[question]);
        let start = Instant::now();
        let reply = agent.post(running.at("query")).send_json(json!({"text": text}));
        let took = start.elapsed().as_secs_f64() * 1e3;
        match reply {
            Ok(mut reply) if reply.status() == 200 => {
                let tag = reply.headers().get("etag").and_then(|t| t.to_str().ok()).unwrap_or_default();
                let version = tag.trim_matches('"').split('-').next().unwrap_or_default().to_string();
                match reply.body_mut().read_json::<Json>() {
                    Ok(body) => {
                        seen.milliseconds.push(took);
                        let rows = body["rows"].to_string();
                        let before = seen.answers.entry((version, question)).or_insert_with(|| rows.clone());
                        seen.mixed += usize::from(*before != rows);
                    }
                    Err(e) => seen.failed.push(e.to_string()),
                }
            }
            Ok(reply) if reply.status() == 429 => {
                seen.sent_away += 1;
                std::thread::sleep(Duration::from_millis(200));
            }
            Ok(reply) => seen.failed.push(format!("{}: {text}", reply.status())),
            Err(e) => seen.failed.push(e.to_string()),
        }
    }
    seen
}

/// A file of the model that grows, and is gone at the end.
struct Growing {
    path: PathBuf,
    lines: Vec<String>,
    next: usize,
}

impl Drop for Growing {
    fn drop(&mut self) {
        let _ = fs::remove_file(&self.path);
    }
}

impl Growing {
    fn new(model: &Path) -> Done<Growing> {
        let data = model.join("data");
        let is_part = |name: &str| name.starts_with("booking-") && name.ends_with(".csv") && name != "booking-load.csv";
        let mut parts: Vec<PathBuf> = fs::read_dir(&data)?
            .filter_map(Result::ok)
            .map(|entry| entry.path())
            .filter(|path| path.file_name().is_some_and(|name| is_part(&name.to_string_lossy())))
            .collect();
        parts.sort();
        let first = parts.first().ok_or("the model has no `data/booking-*.csv`: make one with `cubrel demo`")?;
        let lines = BufReader::new(File::open(first)?).lines().take(2000).collect::<Result<Vec<_>, _>>()?;
        Ok(Growing { path: data.join("booking-load.csv"), lines, next: 2 })
    }

    /// One line more than before.
    fn grow(&mut self) -> Done<()> {
        let mut file = File::create(&self.path)?;
        let count = self.next.min(self.lines.len());
        self.next += 1;
        self.lines[..count].iter().try_for_each(|line| writeln!(file, "{line}"))?;
        Ok(())
    }
}

/// Whether an answer in parts adds up to the whole.
fn adds_up(whole: &str, parts: &str) -> bool {
    let sum = |text: &str| -> Option<f64> {
        let rows: Vec<Vec<Json>> = serde_json::from_str(text).ok()?;
        Some(rows.iter().filter_map(|row| row.last()?.as_f64()).sum())
    };
    sum(whole) == sum(parts)
}

fn main() -> Done<()> {
    let Some(settings) = Settings::read()? else { return Ok(()) };
    let mut growing = Growing::new(&settings.model)?;
    let (running, ready) = Running::start(&settings.model)?;
    println!("ready in {:.2} s, {:.0} MiB", ready.as_secs_f64(), running.memory()?);
    let (running, over, refreshes) = (Arc::new(running), Arc::new(AtomicBool::new(false)), AtomicUsize::new(0));
    let all = Mutex::new(Vec::new());
    let mut largest: f64 = 0.0;
    std::thread::scope(|scope| -> Done<()> {
        for number in 0..settings.clients {
            let (running, over, all) = (running.clone(), over.clone(), &all);
            scope.spawn(move || {
                let seen = asks(&running, number * 1_000_003, &over);
                all.lock().unwrap_or_else(std::sync::PoisonError::into_inner).push(seen);
            });
        }
        let refreshed = scope.spawn(|| -> Done<()> {
            let agent = ureq::Agent::config_builder().http_status_as_error(false).build().new_agent();
            while !over.load(Ordering::Relaxed) {
                growing.grow()?;
                let reply = agent.post(running.at("refresh")).send_empty()?;
                match reply.status().as_u16() {
                    200 => drop(refreshes.fetch_add(1, Ordering::Relaxed)),
                    // Old versions are still being read.
                    503 => std::thread::sleep(Duration::from_millis(100)),
                    status => return Err(format!("refresh: {status}").into()),
                }
            }
            Ok(())
        });
        let start = Instant::now();
        while start.elapsed().as_secs() < settings.seconds && !refreshed.is_finished() {
            largest = largest.max(running.memory()?);
            std::thread::sleep(Duration::from_millis(50));
        }
        over.store(true, Ordering::Relaxed);
        refreshed.join().map_err(|_| "the refreshes ended before their time")?
    })?;
    let all = all.into_inner().unwrap_or_else(std::sync::PoisonError::into_inner);
    report(&settings, &all, refreshes.into_inner());
    std::thread::sleep(Duration::from_secs(10));
    println!("memory: {largest:.0} MiB at most, {:.0} MiB ten seconds after", running.memory()?);
    Ok(())
}

fn report(settings: &Settings, all: &[Seen], refreshes: usize) {
    let mut times: Vec<f64> = all.iter().flat_map(|seen| seen.milliseconds.iter().copied()).collect();
    times.sort_by(f64::total_cmp);
    let at = |share: f64| times.get((times.len() as f64 * share) as usize).copied().unwrap_or_default();
    let per_second = times.len() as f64 / settings.seconds as f64;
    println!("{} clients, {} s: {} answers, {per_second:.0} a second", settings.clients, settings.seconds, times.len());
    println!(
        "half within {:.0} ms, 95 % {:.0} ms, 99 % {:.0} ms, the last {:.0} ms",
        at(0.5),
        at(0.95),
        at(0.99),
        at(0.9999)
    );
    let mut answers: BTreeMap<(&str, usize), &str> = BTreeMap::new();
    let mut mixed: usize = all.iter().map(|seen| seen.mixed).sum();
    for ((version, question), rows) in all.iter().flat_map(|seen| &seen.answers) {
        let before = answers.entry((version, *question)).or_insert(rows);
        mixed += usize::from(before != rows);
    }
    let versions: Vec<&str> =
        answers.keys().filter(|(_, question)| *question == 0).map(|(version, _)| *version).collect();
    let apart = versions.iter().filter(|version| {
        let of = |question| answers.get(&(**version, question));
        matches!((of(0), of(1)), (Some(whole), Some(parts)) if !adds_up(whole, parts))
    });
    mixed += apart.count();
    let failed: Vec<&String> = all.iter().flat_map(|seen| &seen.failed).collect();
    let sent_away: usize = all.iter().map(|seen| seen.sent_away).sum();
    println!("{refreshes} refreshes, {} versions seen, {mixed} answers of two versions", versions.len());
    println!("{} failed, {sent_away} sent away because too many waited", failed.len());
    failed.iter().take(5).for_each(|why| println!("  {why}"));
}
