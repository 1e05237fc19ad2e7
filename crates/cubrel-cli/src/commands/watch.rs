//! Asks again whenever the model or its data has changed.

use std::path::Path;
use std::sync::mpsc::{Receiver, channel};
use std::time::Duration;

use notify::{Event, RecursiveMode, Watcher};

use crate::args::Global;
use crate::failure::{Done, Failure};
use crate::output::{Output, problems};

/// What is written in one go comes in several events.
const TOGETHER: Duration = Duration::from_millis(200);

/// Runs a command now, and again after each change. What fails is told, and the last result stays.
pub fn again(global: &Global, once: impl Fn(&mut Output) -> Done) -> Done {
    let folder = if global.model.is_dir() { global.model.clone() } else { parent(&global.model) };
    let (sender, changes) = channel();
    let failed = |e: notify::Error| {
        let help = "run it without `--watch`".into();
        Failure::Other(format!("{} cannot be watched: {e}", folder.display()), help)
    };
    let mut watcher = notify::recommended_watcher(move |event: notify::Result<Event>| {
        // Whoever listened is gone when the program ends.
        let _ = sender.send(event);
    })
    .map_err(failed)?;
    watcher.watch(&folder, RecursiveMode::Recursive).map_err(failed)?;
    loop {
        let mut out = Output::again(global);
        match once(&mut out).and_then(|_| out.finish()) {
            Ok(()) => problems::note("cubrel: asked again when something changes; Ctrl-C ends this", global),
            Err(Failure::Write(e)) if e.kind() == std::io::ErrorKind::BrokenPipe => return Ok(0),
            Err(failure) => problems::report(&failure, global),
        }
        if !wait(&changes) {
            return Ok(0);
        }
    }
}

fn parent(file: &Path) -> std::path::PathBuf {
    let parent = file.parent().filter(|p| !p.as_os_str().is_empty());
    parent.unwrap_or(Path::new(".")).to_path_buf()
}

/// Waits until something has changed that is not the store's; false when nothing will any more.
fn wait(changes: &Receiver<notify::Result<Event>>) -> bool {
    loop {
        let Ok(event) = changes.recv() else { return false };
        let counts = |event: &notify::Result<Event>| {
            let Ok(event) = event else { return true };
            let own = |path: &Path| path.components().any(|part| part.as_os_str() == ".cubrel");
            !event.kind.is_access() && !event.paths.iter().all(|path| own(path))
        };
        if !counts(&event) {
            continue;
        }
        while changes.recv_timeout(TOGETHER).is_ok() {}
        return true;
    }
}
