//! Which row of the one side of a relationship a key finds.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// Which row a key finds.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Matching {
    /// The one with the same key.
    #[default]
    Exact,
    /// Of those that have the same key but for its last column, a date or timestamp, the newest that is not younger.
    AtOrBefore,
}
