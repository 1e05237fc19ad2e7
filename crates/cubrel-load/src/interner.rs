//! Texts of a piece, each once while they repeat.

use std::hash::BuildHasher;

use foldhash::fast::RandomState;
use hashbrown::HashTable;

use cubrel_store::TextList;

/// Texts of which fewer than this have been seen may still turn out to repeat.
const REPEATS_UNKNOWN: usize = 4096;

/// Texts, each once while they repeat.
#[derive(Default)]
pub(super) struct Interner {
    pub(super) values: TextList,
    /// For each row, which one it has.
    pub(super) indices: Vec<u32>,
    /// Where a text stands in `values`; not kept any more once texts have turned out to be nearly all different.
    places: HashTable<u32>,
    given_up: bool,
    hasher: RandomState,
    /// Short texts seen of late, with their places.
    recent: Vec<(u128, u32)>,
}

/// Short texts that are remembered; a power of two.
const RECENT: usize = 256;

/// A text of up to 15 bytes as a number that no other one has.
#[inline]
fn short(text: &[u8]) -> Option<u128> {
    let len = text.len();
    // Bytes in the middle may be taken twice: of texts of one length all are taken at the same places.
    let (low, high) = match (text.first_chunk::<8>(), text.last_chunk::<8>()) {
        (Some(first), Some(last)) if len < 16 => {
            let beyond = u64::from_le_bytes(*last).checked_shr(8 * (16 - len as u32)).unwrap_or(0);
            (u64::from_le_bytes(*first), beyond)
        }
        (Some(_), _) => return None,
        _ => match (text.first_chunk::<4>(), text.last_chunk::<4>()) {
            (Some(first), Some(last)) => {
                (u64::from(u32::from_le_bytes(*first)) | u64::from(u32::from_le_bytes(*last)) << 32, 0)
            }
            _ => match text {
                [] => (0, 0),
                [first, .., last] => (u64::from(*first) | u64::from(text[len / 2]) << 8 | u64::from(*last) << 16, 0),
                [only] => (u64::from(*only), 0),
            },
        },
    };
    Some(u128::from(low) | u128::from(high | (len as u64 + 1) << 56) << 64)
}

/// Where a short text is remembered.
#[inline]
fn recent_place(short: u128) -> usize {
    let folded = (short as u64 ^ (short >> 64) as u64).wrapping_mul(0x9E37_79B9_7F4A_7C15);
    (folded >> 56) as usize % RECENT
}

impl Interner {
    /// Takes a text, in UTF-8.
    pub(super) fn push(&mut self, text: &[u8]) {
        let next = self.values.len() as u32;
        if self.given_up {
            self.values.push_bytes(text);
            self.indices.push(next);
            return;
        }
        let short = short(text);
        if let Some(key) = short
            && let Some((known, place)) = self.recent.get(recent_place(key))
            && *known == key
        {
            self.indices.push(*place);
            return;
        }
        let hash = self.hasher.hash_one(text);
        let (values, hasher) = (&mut self.values, &self.hasher);
        let found = self.places.entry(
            hash,
            |place| values.get_bytes(*place as usize) == text,
            |place| hasher.hash_one(values.get_bytes(*place as usize)),
        );
        let place = match found {
            hashbrown::hash_table::Entry::Occupied(entry) => *entry.get(),
            hashbrown::hash_table::Entry::Vacant(entry) => {
                entry.insert(next);
                values.push_bytes(text);
                next
            }
        };
        self.indices.push(place);
        if let Some(key) = short {
            self.recent.resize(RECENT, (0, 0));
            self.recent[recent_place(key)] = (key, place);
        }
        if self.values.len() > REPEATS_UNKNOWN && self.values.len() > self.indices.len() / 2 {
            self.given_up = true;
            self.places = HashTable::new();
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn short_texts_are_told_apart() {
        let mut keys = std::collections::HashMap::new();
        let letters = [b'a', b'b', 0];
        for len in 0..18usize {
            // All texts that differ from others in up to two places.
            for (i, k) in (0..len.max(1)).flat_map(|i| (0..len.max(1)).map(move |k| (i, k))) {
                for (x, y) in letters.iter().flat_map(|x| letters.iter().map(move |y| (x, y))) {
                    let mut text = vec![b'a'; len];
                    text.get_mut(i).into_iter().for_each(|b| *b = *x);
                    text.get_mut(k).into_iter().for_each(|b| *b = *y);
                    match short(&text) {
                        Some(key) => assert_eq!(*keys.entry(key).or_insert(text.clone()), text),
                        None => assert!(len > 15, "{len}"),
                    }
                }
            }
        }
    }

    #[test]
    fn texts_that_repeat_stand_once() {
        let mut texts = Interner::default();
        (0..20_000).for_each(|i| texts.push(format!("t{}", i % 7).as_bytes()));
        (0..3).for_each(|_| texts.push(b"one that is too long to be remembered"));
        assert_eq!((texts.values.len(), texts.indices.len()), (8, 20_003));
        let said = |i: usize| texts.values.get(texts.indices[i] as usize);
        assert!((0..20_000).all(|i| said(i) == format!("t{}", i % 7)));
        assert!((20_000..20_003).all(|i| said(i).starts_with("one that")));
    }

    #[test]
    fn texts_that_do_not_repeat_are_not_looked_for() {
        let mut texts = Interner::default();
        (0..20_000).for_each(|i| texts.push(format!("text {i}").as_bytes()));
        texts.push(b"text 19000");
        assert!(texts.given_up && texts.places.is_empty());
        assert_eq!(texts.values.len(), 20_001, "it stands there twice");
        assert_eq!(texts.values.get(texts.indices[20_000] as usize), "text 19000");
    }
}
