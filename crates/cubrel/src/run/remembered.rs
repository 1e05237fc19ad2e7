//! What several reads of one plan find out alike: which codes of a key a filter on a far table lets through.

use std::collections::HashMap;
use std::hash::Hash;
use std::sync::{Arc, Mutex, PoisonError};

use super::RunError;
use crate::formula::schema::RelationshipId;
use crate::plan::{FilterTest, RowLeaf};

/// What is known, each thing worked out once.
#[derive(Debug)]
struct WorkedOut<K, V>(Mutex<HashMap<K, Arc<V>>>);

impl<K, V> Default for WorkedOut<K, V> {
    fn default() -> WorkedOut<K, V> {
        WorkedOut(Mutex::default())
    }
}

impl<K: Eq + Hash, V> WorkedOut<K, V> {
    fn get<E>(&self, key: K, work_out: impl FnOnce() -> Result<V, E>) -> Result<Arc<V>, E> {
        let known = || self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(value) = known().get(&key) {
            return Ok(value.clone());
        }
        let value = Arc::new(work_out()?);
        known().insert(key, value.clone());
        Ok(value)
    }
}

/// What is worked out once while a plan runs, by what is far and the path there.
#[derive(Debug, Default)]
pub(super) struct Remembered {
    filters: WorkedOut<(FilterTest, Vec<RelationshipId>), Vec<bool>>,
}

impl Remembered {
    /// What a filter at the end of a path lets through, by code at its start. What takes values from outside is worked out anew
    /// for each of them.
    pub(super) fn filter(
        &self,
        test: &FilterTest,
        path: &[RelationshipId],
        work_out: impl FnOnce() -> Result<Vec<bool>, RunError>,
    ) -> Result<Arc<Vec<bool>>, RunError> {
        match is_the_same_for_all(test) {
            true => self.filters.get((test.clone(), path.to_vec()), work_out),
            false => work_out().map(Arc::new),
        }
    }
}

fn is_the_same_for_all(test: &FilterTest) -> bool {
    match test {
        FilterTest::Predicate(predicate) | FilterTest::Projected(predicate, _) => {
            predicate.test.leaves.iter().all(|leaf| matches!(leaf, RowLeaf::Column { .. }))
        }
        FilterTest::Lines { .. } => false,
    }
}
