//! What kernels share.

use crate::functions::allowed_length;
use cubrel_value::{Value, units};

/// Both valid, slot by slot.
pub(super) fn both_valid(a: Option<&[bool]>, b: Option<&[bool]>) -> Option<Vec<bool>> {
    match (a, b) {
        (None, None) => None,
        (Some(v), None) | (None, Some(v)) => Some(v.to_vec()),
        // Both are looked at, for where one is null says nothing of the next.
        (Some(x), Some(y)) => Some(x.iter().zip(y).map(|(x, y)| x & y).collect()),
    }
}

/// Bytes of texts that one operator may make in one batch: it comes to an end before memory does.
pub(super) const MOST_OF_BATCH: usize = 256 << 20;

/// Counts the texts that an operator makes.
#[derive(Default)]
pub(super) struct TextRoom {
    bytes: usize,
}

impl TextRoom {
    /// Whether there is room for a value.
    pub(super) fn take(&mut self, value: &Value) -> Result<(), String> {
        let Value::Text(text) = value else { return Ok(()) };
        allowed_length(text.len())?;
        self.bytes += text.len();
        if self.bytes > MOST_OF_BATCH {
            return Err(format!("the texts of this part take more than {}", units::bytes(MOST_OF_BATCH as u64)));
        }
        Ok(())
    }
}
