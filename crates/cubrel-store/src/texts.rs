//! Texts one after the other.

/// Texts in one piece of memory.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct TextList {
    bytes: Vec<u8>,
    /// Where each text ends.
    ends: Vec<usize>,
}

impl TextList {
    /// Room for so many texts of so many bytes in all.
    pub fn with_capacity(texts: usize, bytes: usize) -> TextList {
        TextList { bytes: Vec::with_capacity(bytes), ends: Vec::with_capacity(texts) }
    }

    /// Appends a text.
    pub fn push(&mut self, text: &str) {
        self.bytes.extend_from_slice(text.as_bytes());
        self.ends.push(self.bytes.len());
    }

    /// Appends a text given as its bytes.
    pub fn push_bytes(&mut self, text: &[u8]) {
        debug_assert!(std::str::from_utf8(text).is_ok(), "{text:?} is no text");
        self.bytes.extend_from_slice(text);
        self.ends.push(self.bytes.len());
    }

    /// Appends a text that begins with so many bytes of the last one.
    pub(super) fn push_after(&mut self, shared: usize, rest: &[u8]) {
        let start = self.bytes_before(self.len().saturating_sub(1));
        self.bytes.extend_from_within(start..start.saturating_add(shared).min(self.bytes.len()));
        self.bytes.extend_from_slice(rest);
        self.ends.push(self.bytes.len());
    }

    /// Where each text ends among [`TextList::joined`].
    pub(crate) fn ends(&self) -> &[usize] {
        &self.ends
    }

    /// Appends all texts of another list.
    pub fn extend(&mut self, other: &TextList) {
        let start = self.bytes.len();
        self.bytes.extend_from_slice(&other.bytes);
        self.ends.extend(other.ends.iter().map(|end| start + end));
    }

    /// How many texts.
    pub fn len(&self) -> usize {
        self.ends.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.ends.is_empty()
    }

    /// The bytes of all texts together.
    pub fn bytes(&self) -> usize {
        self.bytes.len()
    }

    /// All texts, one after the other.
    pub(crate) fn joined(&self) -> &[u8] {
        &self.bytes
    }

    /// The bytes of all texts before the one at `i`.
    ///
    /// # Panics
    /// When there are fewer texts.
    pub(crate) fn bytes_before(&self, i: usize) -> usize {
        i.checked_sub(1).map_or(0, |last| self.ends[last])
    }

    /// All texts, one after the other, and how many bytes each of them has.
    pub(super) fn into_lengths(mut self) -> (Vec<u8>, Vec<usize>) {
        let mut start = 0;
        self.ends.iter_mut().for_each(|end| *end -= std::mem::replace(&mut start, *end));
        (self.bytes, self.ends)
    }

    /// From what [`TextList::into_lengths`] gave.
    pub(super) fn from_lengths(bytes: Vec<u8>, lengths: Vec<usize>) -> TextList {
        let (mut ends, mut start) = (lengths, 0);
        for end in &mut ends {
            *end += start;
            start = *end;
        }
        TextList { bytes, ends }
    }

    /// Takes all texts away, and keeps the room that they took.
    pub(crate) fn clear(&mut self) {
        self.bytes.clear();
        self.ends.clear();
    }

    /// The text at `i`.
    ///
    /// # Panics
    /// When there are not so many.
    pub fn get(&self, i: usize) -> &str {
        // Only whole texts are ever appended, so this is one.
        std::str::from_utf8(self.get_bytes(i)).unwrap_or_default()
    }

    /// The bytes of the text at `i`.
    ///
    /// # Panics
    /// When there are not so many.
    pub fn get_bytes(&self, i: usize) -> &[u8] {
        &self.bytes[self.bytes_before(i)..self.ends[i]]
    }

    /// All texts.
    pub fn iter(&self) -> impl ExactSizeIterator<Item = &str> + Clone {
        // Told of all bytes at once, which is faster than text by text.
        let all = std::str::from_utf8(&self.bytes).unwrap_or_default();
        (0..self.len()).map(move |i| all.get(self.bytes_before(i)..self.ends[i]).unwrap_or_default())
    }
}

impl<'a> FromIterator<&'a str> for TextList {
    fn from_iter<I: IntoIterator<Item = &'a str>>(texts: I) -> TextList {
        let mut list = TextList::default();
        texts.into_iter().for_each(|t| list.push(t));
        list
    }
}
