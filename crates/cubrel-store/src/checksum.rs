//! What a store file holds, read when a column is used for the first time, and held against the hashes of what was written:
//! opening a store reads next to nothing.

use std::fs::File;
use std::sync::{Arc, OnceLock};

use super::buffer::Unread;

/// What was found to be damaged in a store file, if anything was.
#[derive(Debug, Default)]
pub struct Damage(OnceLock<String>);

impl Damage {
    /// What is damaged.
    pub fn found(&self) -> Option<&str> {
        self.0.get().map(String::as_str)
    }
}

/// Everything that one column or lookup keeps in a file.
#[derive(Debug)]
pub struct Checksum<T> {
    file: Arc<File>,
    blocks: Vec<Arc<dyn Unread>>,
    /// What is told when it is not what was written.
    what: String,
    damage: Arc<Damage>,
    /// Nothing when all hashes agree; else what stands in, so that nothing is computed from damaged codes.
    state: OnceLock<Option<Arc<T>>>,
}

impl<T> Checksum<T> {
    /// To be read and proven on first use.
    pub fn new(file: Arc<File>, blocks: Vec<Arc<dyn Unread>>, what: String, damage: Arc<Damage>) -> Checksum<T> {
        Checksum { file, blocks, what, damage, state: OnceLock::new() }
    }

    /// What has to be used instead, when the file is damaged: its bytes have changed, or what they say cannot be.
    pub fn instead(&self, is_sound: impl FnOnce() -> bool, substitute: impl FnOnce() -> T) -> Option<&Arc<T>> {
        let state = self.state.get_or_init(|| {
            if self.blocks.iter().all(|block| block.read(&self.file)) && is_sound() {
                return None;
            }
            // Of several the first one is told.
            let _ = self.damage.0.set(self.what.clone());
            Some(Arc::new(substitute()))
        });
        state.as_ref()
    }
}
