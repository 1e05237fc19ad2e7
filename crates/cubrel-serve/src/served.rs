//! The models that are served: whoever asks gets the version that is there, and keeps it to the end of the question.

use std::path::PathBuf;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError, RwLock, Weak};
use std::time::{Duration, Instant, SystemTime};

use cubrel::catalog::Catalog;
use cubrel::{Cancel, Error, Model, Observer, RefreshOptions, RefreshReport, Silent};

use crate::people::SeenAs;
use crate::settings::ModelSettings;

/// A model as it was after one refresh.
#[derive(Debug)]
pub struct Version {
    /// The whole model.
    model: Model,
    /// What it has.
    catalog: Catalog,
    /// Tells it from all others that this server has had.
    number: u64,
    /// When it came.
    since: SystemTime,
}

impl Version {
    fn new(model: Model, number: u64) -> Version {
        Version { catalog: model.catalog(), model, number, since: SystemTime::now() }
    }

    /// Tells it from all others that this server has had.
    pub fn number(&self) -> u64 {
        self.number
    }

    /// When it came.
    pub fn since(&self) -> SystemTime {
        self.since
    }

    /// What the whole model has: nobody is shown it who may not see it.
    pub fn catalog(&self) -> &Catalog {
        &self.catalog
    }

    /// Why its data is old, where sources could not be read.
    pub fn outdated(&self) -> Option<String> {
        self.model.outdated().map(ToString::to_string)
    }

    /// The day that `today()` is in it, as a day number.
    pub fn today(&self) -> i32 {
        self.model.today()
    }

    /// Bytes that it takes, whoever looks at it.
    pub fn bytes(&self) -> u64 {
        self.model.sizes().model.bytes
    }

    /// What somebody sees of it.
    ///
    /// # Errors
    /// When a rule of a role cannot be evaluated.
    pub fn seen_as(&self, who: &SeenAs) -> Result<Model, Error> {
        match &who.roles {
            None => Ok(self.model.clone()),
            Some(roles) => Ok(self.model.as_user(roles, who.user.as_deref())?.into()),
        }
    }
}

/// How the last refresh went.
#[derive(Clone, Debug)]
pub struct LastRefresh {
    /// When it ended.
    pub at: SystemTime,
    /// How long it took.
    pub took: Duration,
    /// Why it failed.
    pub failed: Option<String>,
}

/// Why a refresh did not come to be.
#[derive(Debug)]
pub enum NoRefresh {
    /// Another one is running.
    Running,
    /// Too many old versions are still being read.
    TooManyVersions(usize),
    /// It went wrong; the old data is still served.
    Failed(Error),
}

/// A model that is served.
#[derive(Debug)]
pub struct Served {
    /// What it is called in addresses.
    pub name: String,
    /// Where it is.
    pub path: PathBuf,
    current: RwLock<Arc<Version>>,
    /// All versions that there were; those that nobody reads any more are gone.
    versions: Mutex<Vec<Weak<Version>>>,
    /// How many there may be at once.
    most: usize,
    next: AtomicU64,
    running: Mutex<()>,
    last: Mutex<Option<LastRefresh>>,
    /// How many refreshes went well, and how many did not.
    counts: [AtomicU64; 2],
    stop: Cancel,
}

impl Served {
    /// Opens a model; where its store is older than its sources, they are read.
    ///
    /// # Errors
    /// When neither sources nor store can be used.
    pub fn open(settings: &ModelSettings, versions: usize, stop: Cancel) -> Result<Served, Error> {
        let options = RefreshOptions { cancel: stop.clone(), ..RefreshOptions::default() };
        let (model, _) = Model::open_with(&settings.path, &options, &Silent)?;
        // A number of one run of the server is never one of another.
        let first = SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).map_or(1, |d| d.as_millis() as u64);
        let version = Arc::new(Version::new(model, first));
        Ok(Served {
            name: settings.name.clone(),
            path: settings.path.clone(),
            versions: Mutex::new(vec![Arc::downgrade(&version)]),
            current: RwLock::new(version),
            most: versions,
            next: AtomicU64::new(first + 1),
            running: Mutex::default(),
            last: Mutex::default(),
            counts: Default::default(),
            stop,
        })
    }

    /// The newest version.
    pub fn current(&self) -> Arc<Version> {
        self.current.read().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// How many versions are in memory.
    pub fn in_memory(&self) -> usize {
        let mut versions = self.versions.lock().unwrap_or_else(PoisonError::into_inner);
        versions.retain(|version| version.strong_count() > 0);
        versions.len()
    }

    /// How the last refresh went.
    pub fn last(&self) -> Option<LastRefresh> {
        self.last.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// How many refreshes went well, and how many did not.
    pub fn counts(&self) -> (u64, u64) {
        (self.counts[0].load(Ordering::Relaxed), self.counts[1].load(Ordering::Relaxed))
    }

    /// Reads what has changed, and serves it from then on. It takes as long as it takes: not for a thread that answers.
    ///
    /// # Errors
    /// When it cannot be done now, or went wrong; the old data is still served.
    pub fn refresh(&self, observer: &dyn Observer) -> Result<RefreshReport, NoRefresh> {
        let Ok(_running) = self.running.try_lock() else { return Err(NoRefresh::Running) };
        let there = self.in_memory();
        if there >= self.most.max(2) {
            return Err(NoRefresh::TooManyVersions(there));
        }
        let start = Instant::now();
        let options = RefreshOptions { cancel: self.stop.clone(), ..RefreshOptions::default() };
        let done = Model::refresh(&self.path, &options, observer);
        let failed = done.as_ref().err().map(ToString::to_string);
        self.counts[usize::from(failed.is_some())].fetch_add(1, Ordering::Relaxed);
        match &failed {
            None => tracing::info!(model = self.name, milliseconds = start.elapsed().as_millis() as u64, "refreshed"),
            Some(why) => tracing::error!(model = self.name, why, "refresh failed; the old data is still served"),
        }
        *self.last.lock().unwrap_or_else(PoisonError::into_inner) =
            Some(LastRefresh { at: SystemTime::now(), took: start.elapsed(), failed });
        let (model, report) = done.map_err(NoRefresh::Failed)?;
        let version = Arc::new(Version::new(model, self.next.fetch_add(1, Ordering::Relaxed)));
        self.versions.lock().unwrap_or_else(PoisonError::into_inner).push(Arc::downgrade(&version));
        *self.current.write().unwrap_or_else(PoisonError::into_inner) = version;
        Ok(report)
    }
}
