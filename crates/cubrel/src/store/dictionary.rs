//! Distinct texts in order, so that comparing codes compares texts.

use std::sync::Arc;

/// Sorted distinct texts, one after the other in one buffer.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct TextDictionary {
    bytes: Box<[u8]>,
    /// Where each text begins, and the end.
    starts: Box<[u32]>,
}

impl TextDictionary {
    /// From sorted distinct texts; `None` when they take more than 4 GiB.
    pub fn new<'a>(sorted: impl ExactSizeIterator<Item = &'a str>) -> Option<TextDictionary> {
        let mut bytes = Vec::new();
        let mut starts = Vec::with_capacity(sorted.len() + 1);
        starts.push(0);
        for text in sorted {
            bytes.extend_from_slice(text.as_bytes());
            starts.push(u32::try_from(bytes.len()).ok()?);
        }
        Some(TextDictionary { bytes: bytes.into_boxed_slice(), starts: starts.into_boxed_slice() })
    }

    /// From stored parts; `None` if they are not a dictionary.
    pub fn from_parts(bytes: Box<[u8]>, starts: Box<[u32]>) -> Option<TextDictionary> {
        let text = std::str::from_utf8(&bytes).ok()?;
        let ordered = starts.windows(2).all(|w| w[0] <= w[1]);
        let whole = starts.first() == Some(&0) && starts.last().copied() == u32::try_from(bytes.len()).ok();
        let cut = starts.iter().all(|s| text.is_char_boundary(*s as usize));
        (ordered && whole && cut).then_some(TextDictionary { bytes, starts })
    }

    /// The buffer and where each text begins.
    pub fn parts(&self) -> (&[u8], &[u32]) {
        (&self.bytes, &self.starts)
    }

    /// How many texts.
    pub fn len(&self) -> usize {
        self.starts.len().saturating_sub(1)
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The text of a code.
    pub fn get(&self, code: usize) -> &str {
        let (start, end) = (self.starts[code] as usize, self.starts[code + 1] as usize);
        std::str::from_utf8(&self.bytes[start..end]).unwrap_or_default()
    }

    /// All texts, in order.
    pub fn iter(&self) -> impl ExactSizeIterator<Item = &str> {
        (0..self.len()).map(|i| self.get(i))
    }

    /// The code of a text.
    pub fn find(&self, text: &str) -> Option<usize> {
        let (mut low, mut high) = (0, self.len());
        while low < high {
            let middle = low.midpoint(high);
            match self.get(middle).cmp(text) {
                std::cmp::Ordering::Less => low = middle + 1,
                std::cmp::Ordering::Greater => high = middle,
                std::cmp::Ordering::Equal => return Some(middle),
            }
        }
        None
    }

    /// All texts as shared values, for batches.
    pub fn shared(&self) -> Vec<Arc<str>> {
        self.iter().map(Arc::from).collect()
    }

    /// Bytes on the heap.
    pub fn heap_bytes(&self) -> usize {
        self.bytes.len() + self.starts.len() * 4
    }
}
