//! Refreshes that nobody asks for: by the clock, when a folder changes, and when a new day has begun.

use std::str::FromStr;
use std::sync::Arc;
use std::time::Duration;

use chrono::Local;
use croner::Cron;
use cubrel::Silent;
use notify::{RecommendedWatcher, RecursiveMode, Watcher};
use tokio::sync::mpsc;

use crate::Failure;
use crate::served::{NoRefresh, Served};
use crate::server::Server;
use crate::settings::ModelSettings;

/// How often it is asked whether a new day has begun.
const DAY_CHECK: Duration = Duration::from_secs(30);
/// A folder has to be quiet for so long before it is read: files are written in many steps.
const QUIET: Duration = Duration::from_millis(500);

/// The times of a text in a crontab's form.
///
/// # Errors
/// When it is none.
pub fn times(text: &str) -> Result<Cron, Failure> {
    let fields = text.split_whitespace().count();
    let wrong = |e: String| {
        let help = "write five fields, minute, hour, day, month and weekday: `0 6 * * 1-5`";
        Failure::new(format!("`{text}` tells no times: {e}"), help)
    };
    if fields != 5 {
        return Err(wrong(format!("it has {fields} fields")));
    }
    Cron::from_str(text).map_err(|e| wrong(e.to_string()))
}

/// Reads a model again, and forgets what was answered from the old one.
async fn refresh(server: Arc<Server>, served: Arc<Served>) {
    let of = served.clone();
    match tokio::task::spawn_blocking(move || of.refresh(&Silent)).await {
        Ok(Ok(_)) => server.answers.only_of(&served.name, served.current().number()),
        Ok(Err(NoRefresh::TooManyVersions(count))) => {
            tracing::warn!(model = served.name, count, "not refreshed: so many versions are still being read");
        }
        // What failed was told when it did, and another one that runs does the same.
        Ok(Err(_)) | Err(_) => {}
    }
}

async fn by_clock(server: Arc<Server>, served: Arc<Served>, times: Cron) {
    while let Ok(next) = times.find_next_occurrence(&Local::now(), false) {
        // The clock may be set meanwhile: it is asked again at least every minute.
        while let Ok(left) = (next - Local::now()).to_std() {
            tokio::time::sleep(left.min(Duration::from_secs(60))).await;
        }
        refresh(server.clone(), served.clone()).await;
    }
}

/// What `today()` says of rules and columns is worked out when a model is read.
async fn by_day(server: Arc<Server>, served: Arc<Served>) {
    loop {
        tokio::time::sleep(DAY_CHECK).await;
        let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).map_or(0, |d| d.as_secs());
        if served.current().today() != (now / 86_400) as i32 {
            refresh(server.clone(), served.clone()).await;
        }
    }
}

/// Tells whenever something in a model's folder changes, its own store excepted.
fn watcher(served: &Served, changed: mpsc::Sender<()>) -> notify::Result<RecommendedWatcher> {
    let folder = if served.path.is_dir() { Some(served.path.as_path()) } else { served.path.parent() };
    let folder = folder.unwrap_or(std::path::Path::new(".")).to_path_buf();
    let mut watcher = notify::recommended_watcher(move |event: notify::Result<notify::Event>| {
        let Ok(event) = event else { return };
        let own = |path: &std::path::PathBuf| path.components().any(|c| c.as_os_str() == ".cubrel");
        if !event.kind.is_access() && !event.paths.iter().all(own) {
            // One that waits already says as much.
            let _ = changed.try_send(());
        }
    })?;
    watcher.watch(&folder, RecursiveMode::Recursive)?;
    Ok(watcher)
}

async fn by_folder(server: Arc<Server>, served: Arc<Served>) {
    let (sender, mut changes) = mpsc::channel(1);
    let _watcher = match watcher(&served, sender) {
        Ok(watcher) => watcher,
        Err(e) => {
            tracing::error!(model = served.name, "its folder cannot be watched: {e}");
            return;
        }
    };
    while changes.recv().await.is_some() {
        while tokio::time::timeout(QUIET, changes.recv()).await.is_ok_and(|more| more.is_some()) {}
        refresh(server.clone(), served.clone()).await;
    }
}

/// Starts what the settings ask for.
///
/// # Errors
/// When times cannot be read.
pub fn start(server: &Arc<Server>, settings: &[ModelSettings]) -> Result<(), Failure> {
    for (served, model) in server.models.iter().zip(settings) {
        let both = || (server.clone(), served.clone());
        if let Some(text) = &model.refresh {
            let (server, served) = both();
            tokio::spawn(by_clock(server, served, times(text)?));
        }
        if model.watch {
            let (server, served) = both();
            tokio::spawn(by_folder(server, served));
        }
        let (server, served) = both();
        tokio::spawn(by_day(server, served));
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn times_are_those_of_a_crontab() {
        assert!(times("0 6 * * 1-5").is_ok() && times("*/15 * * * *").is_ok());
        for wrong in ["", "0 6 * *", "0 6 * * 1-5 7", "61 * * * *", "at six"] {
            assert!(times(wrong).is_err(), "{wrong}");
        }
    }
}
