//! Refreshes that nobody asks for: by the clock, when a folder changes, and when a new day has begun.

use std::path::{Path, PathBuf};
use std::str::FromStr;
use std::sync::Arc;
use std::time::Duration;

use chrono::Local;
use croner::Cron;
use cubrel::Silent;
use notify::{RecommendedWatcher, RecursiveMode, Watcher};
use tokio::sync::mpsc;

use crate::Failure;
use crate::questions::today;
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
        if served.current().today() != today() {
            refresh(server.clone(), served.clone()).await;
        }
    }
}

/// A folder that is watched, and the changes of it that nobody has looked at.
pub struct WatchedFolder {
    changes: mpsc::Receiver<()>,
    _watcher: RecommendedWatcher,
}

/// Watches the folders of models that are to be read again when these change. From then on nothing is missed: it comes before
/// they are opened.
///
/// # Errors
/// When one cannot be watched.
pub fn watch(settings: &[ModelSettings]) -> Result<Vec<Option<WatchedFolder>>, Failure> {
    let folder = |model: &ModelSettings| {
        let wrong = |e: notify::Error| {
            let message = format!("the folder of model `{}` cannot be watched: {e}", model.name);
            Failure::new(message, "leave `watch` out, and set `refresh`")
        };
        model.watch.then(|| watched(&model.path).map_err(wrong)).transpose()
    };
    settings.iter().map(folder).collect()
}

/// Tells whenever something in a model's folder changes, its own store excepted.
fn watched(path: &Path) -> notify::Result<WatchedFolder> {
    let folder = if path.is_dir() { Some(path) } else { path.parent() };
    let folder = folder.filter(|f| !f.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let (changed, changes) = mpsc::channel(1);
    let mut watcher = notify::recommended_watcher(move |event: notify::Result<notify::Event>| {
        let Ok(event) = event else { return };
        let own = |path: &PathBuf| path.components().any(|c| c.as_os_str() == ".cubrel");
        if !event.kind.is_access() && !event.paths.iter().all(own) {
            // One that waits already says as much.
            let _ = changed.try_send(());
        }
    })?;
    watcher.watch(folder, RecursiveMode::Recursive)?;
    Ok(WatchedFolder { changes, _watcher: watcher })
}

async fn by_folder(server: Arc<Server>, served: Arc<Served>, mut folder: WatchedFolder) {
    while folder.changes.recv().await.is_some() {
        while tokio::time::timeout(QUIET, folder.changes.recv()).await.is_ok_and(|more| more.is_some()) {}
        refresh(server.clone(), served.clone()).await;
    }
}

/// Starts what the settings ask for.
///
/// # Errors
/// When times cannot be read.
pub fn start(
    server: &Arc<Server>,
    settings: &[ModelSettings],
    watched: Vec<Option<WatchedFolder>>,
) -> Result<(), Failure> {
    for ((served, model), folder) in server.models.iter().zip(settings).zip(watched) {
        let both = || (server.clone(), served.clone());
        if let Some(text) = &model.refresh {
            let (server, served) = both();
            tokio::spawn(by_clock(server, served, times(text)?));
        }
        if let Some(folder) = folder {
            let (server, served) = both();
            tokio::spawn(by_folder(server, served, folder));
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
