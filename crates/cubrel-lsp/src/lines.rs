//! Byte offsets as lines and characters, the way an editor counts them.

use std::ops;

use crate::protocol::{Position, Range};

/// What an editor counts as one character.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) enum Units {
    /// Bytes of UTF-8.
    Bytes,
    /// Units of UTF-16: what holds where nothing else is agreed on.
    #[default]
    Utf16,
}

impl Units {
    fn of(self, c: char) -> usize {
        match self {
            Units::Bytes => c.len_utf8(),
            Units::Utf16 => c.len_utf16(),
        }
    }
}

/// The lines of a text.
pub(crate) struct Lines<'t> {
    text: &'t str,
    units: Units,
    /// Where each begins.
    starts: Vec<usize>,
}

impl<'t> Lines<'t> {
    pub(crate) fn of(text: &'t str, units: Units) -> Lines<'t> {
        let bytes = text.as_bytes();
        let ends = |i: &usize| bytes[*i] == b'\n' || bytes[*i] == b'\r' && bytes.get(i + 1) != Some(&b'\n');
        let starts = std::iter::once(0).chain((0..bytes.len()).filter(ends).map(|i| i + 1)).collect();
        Lines { text, units, starts }
    }

    /// Where a byte stands; what is beyond the end stands at the end.
    pub(crate) fn position(&self, offset: usize) -> Position {
        let offset = offset.min(self.text.len());
        let line = self.starts.partition_point(|start| *start <= offset) - 1;
        let before = self.text[self.starts[line]..].char_indices();
        let before = before.take_while(|(i, _)| self.starts[line] + i < offset);
        let character = before.map(|(_, c)| self.units.of(c)).sum::<usize>();
        Position { line: line as u32, character: character as u32 }
    }

    /// Where a stretch of bytes stands.
    pub(crate) fn range(&self, span: &ops::Range<usize>) -> Range {
        Range { start: self.position(span.start), end: self.position(span.end) }
    }

    /// The lines of a stretch of bytes, each by itself and without what ends it.
    pub(crate) fn parts(&self, span: &ops::Range<usize>) -> Vec<ops::Range<usize>> {
        let first = self.starts.partition_point(|start| *start <= span.start) - 1;
        let starts = self.starts[first..].iter().take_while(|start| **start < span.end);
        let line = |(i, start): (usize, &usize)| {
            let end = self.starts.get(first + i + 1).copied().unwrap_or(self.text.len());
            let (start, end) = (span.start.max(*start), span.end.min(end));
            start..start + self.text[start..end].trim_end_matches(['\r', '\n']).len()
        };
        starts.enumerate().map(line).filter(|part| !part.is_empty()).collect()
    }

    /// The byte at a place; that of the line's end where the line is shorter.
    pub(crate) fn offset(&self, position: Position) -> usize {
        let Some(start) = self.starts.get(position.line as usize).copied() else { return self.text.len() };
        let end = self.starts.get(position.line as usize + 1).copied().unwrap_or(self.text.len());
        let line = self.text[start..end].trim_end_matches(['\r', '\n']);
        let mut units = 0;
        for (i, c) in line.char_indices() {
            if units >= position.character as usize {
                return start + i;
            }
            units += self.units.of(c);
        }
        start + line.len()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_byte_is_found_again_in_both_units() {
        let text = "a\r\nö𝄞b\n\n\rlast";
        for units in [Units::Bytes, Units::Utf16] {
            let lines = Lines::of(text, units);
            for (offset, c) in text.char_indices() {
                // What ends a line is not a place of its own in it.
                let expected = if c == '\n' && text[..offset].ends_with('\r') { offset - 1 } else { offset };
                assert_eq!(lines.offset(lines.position(offset)), expected, "{units:?} {offset}");
            }
        }
        let position = |units, offset| Lines::of(text, units).position(offset);
        assert_eq!(position(Units::Utf16, 9), Position { line: 1, character: 3 });
        assert_eq!(position(Units::Bytes, 9), Position { line: 1, character: 6 });
    }

    #[test]
    fn a_stretch_is_parted_at_its_lines() {
        let text = "ab\r\n\ncd\ne";
        let parts = |span| Lines::of(text, Units::Utf16).parts(&span);
        assert_eq!(parts(1..10), [1..2, 5..7, 8..9]);
        assert!(parts(5..7) == [5..7; 1] && parts(3..4).is_empty());
    }

    #[test]
    fn a_place_beyond_the_text_is_its_end() {
        let lines = Lines::of("ab\nc", Units::Utf16);
        assert_eq!(lines.offset(Position { line: 0, character: 9 }), 2);
        assert_eq!(lines.offset(Position { line: 7, character: 0 }), 4);
        assert_eq!(lines.position(99), Position { line: 1, character: 1 });
    }
}
