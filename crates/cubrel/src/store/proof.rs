//! Whether what a mapped file holds is what was written: told by hashes when a column is used for the first time, so that
//! opening a store does not read it.

use std::sync::{Arc, OnceLock};

use xxhash_rust::xxh3::xxh3_64;

use super::buffer::Source;

/// A stretch of bytes of a file, with the hash that they had when they were written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Stretch {
    /// The first byte.
    pub at: usize,
    /// How many bytes.
    pub len: usize,
    /// Their XXH3 hash.
    pub hash: u64,
}

/// What was found to be damaged in a store file, if anything was.
#[derive(Debug, Default)]
pub struct Damage(OnceLock<String>);

impl Damage {
    /// What is damaged.
    pub fn found(&self) -> Option<&str> {
        self.0.get().map(String::as_str)
    }
}

/// The hashes of everything that one column or lookup keeps in a file.
#[derive(Debug)]
pub struct Proof<T> {
    source: Source,
    stretches: Vec<Stretch>,
    /// What is told when a hash differs.
    what: String,
    damage: Arc<Damage>,
    /// Nothing when all hashes agree; else what stands in, so that nothing is computed from damaged codes.
    state: OnceLock<Option<Arc<T>>>,
}

impl<T> Proof<T> {
    /// To be proven on first use.
    pub fn new(source: Source, stretches: Vec<Stretch>, what: String, damage: Arc<Damage>) -> Proof<T> {
        Proof { source, stretches, what, damage, state: OnceLock::new() }
    }

    /// Where damage is noted.
    pub fn damage(&self) -> &Arc<Damage> {
        &self.damage
    }

    /// What has to be used instead, when the file is damaged.
    pub fn instead(&self, substitute: impl FnOnce() -> T) -> Option<&Arc<T>> {
        let state = self.state.get_or_init(|| {
            let bytes = self.source.bytes();
            let whole = |s: &Stretch| bytes.get(s.at..s.at + s.len).is_some_and(|b| xxh3_64(b) == s.hash);
            if self.stretches.iter().all(whole) {
                return None;
            }
            // Of several the first one is told.
            let _ = self.damage.0.set(self.what.clone());
            Some(Arc::new(substitute()))
        });
        state.as_ref()
    }
}
