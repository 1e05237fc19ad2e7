//! What several reads of one plan find out alike: which codes of a key a filter on a far table lets through.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};

use super::RunError;
use cubrel_formula::schema::RelationshipId;
use cubrel_plan::{FilterTest, RowLeaf};

/// A filter, and the path to what it is about.
type FarFilter = (FilterTest, Vec<RelationshipId>);

/// What is worked out once while a plan runs.
#[derive(Debug, Default)]
pub(super) struct Remembered {
    filters: Mutex<HashMap<FarFilter, Arc<Vec<bool>>>>,
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
        if !is_the_same_for_all(test) {
            return work_out().map(Arc::new);
        }
        let known = || self.filters.lock().unwrap_or_else(PoisonError::into_inner);
        let filter = (test.clone(), path.to_vec());
        if let Some(pass) = known().get(&filter) {
            return Ok(pass.clone());
        }
        let pass = Arc::new(work_out()?);
        known().insert(filter, pass.clone());
        Ok(pass)
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
