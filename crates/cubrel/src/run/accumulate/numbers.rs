//! Numbers of groups by their keys.

use std::collections::HashMap;

/// For each distinct key its group number.
pub type GroupNumbers = HashMap<u128, u32, foldhash::fast::RandomState>;
