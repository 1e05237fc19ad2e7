//! Texts in any order to a dictionary, with the code of each.

use rayon::prelude::*;

use super::super::bits::bits_for;
use super::super::rank::Ranks;
use super::super::texts::TextList;
use super::template::Template;
use super::{Interim, TEXTS_OF_A_THREAD, TextDictionary, has_plain_form};
use cubrel_value::threads::{map_many, map_owned, map_ranges};

/// The dictionary of the texts that are used, and by place in the list the code of each.
pub fn sorted_texts(values: &TextList, used: &[bool], interim: Interim) -> (TextDictionary, Vec<u32>) {
    let places: Vec<u32> = (0..values.len() as u32).filter(|i| used[*i as usize]).collect();
    match Template::of(places.iter().map(|place| values.get_bytes(*place as usize))) {
        Some(template) => by_number(values, &places, template),
        None => by_letters(values, places, interim),
    }
}

/// By the numbers that texts of one shape have: they are put in order faster than texts.
fn by_number(values: &TextList, places: &[u32], template: Template) -> (TextDictionary, Vec<u32>) {
    let rank = |place: &u32| template.rank(values.get_bytes(*place as usize)).unwrap_or_default();
    let ranks = if template.is_narrow() {
        let Ranks { numbers, firsts, places: codes } = Ranks::of(places.len(), places.iter().map(|p| rank(p).0));
        Ranks { numbers: numbers.into_iter().map(|n| (n, 0)).collect(), firsts, places: codes }
    } else {
        Ranks::of_any(places.iter().map(rank))
    };
    let mut code_of = vec![0u32; values.len()];
    places.iter().zip(ranks.places).for_each(|(place, code)| code_of[*place as usize] = code);
    let firsts: Vec<u32> = ranks.firsts.into_iter().map(|i| places[i as usize]).collect();
    let each_once = if firsts.len() == places.len() { places } else { &firsts };
    let bytes = each_once.iter().map(|place| values.get_bytes(*place as usize).len()).sum();
    let list = || firsts.iter().map(|place| values.get(*place as usize)).collect();
    (TextDictionary::of_ranks(template, ranks.numbers.iter().copied(), bytes, list), code_of)
}

/// By their letters: by the first ones, and where these are the same by the next, some at a time.
fn by_letters(values: &TextList, places: Vec<u32>, interim: Interim) -> (TextDictionary, Vec<u32>) {
    let letters = Letters::of(values, &places);
    let lettered = |place: &u32| {
        let word = letters.word(values.get_bytes(*place as usize), 0);
        Lettered { word, place: *place, is_repeat: false }
    };
    let mut sorted: Vec<Lettered> = map_many(&places, lettered);
    drop(places);
    letters.sort(values, &mut sorted, 0);
    let mut code_of = vec![0u32; values.len()];
    let mut firsts: Vec<u32> = Vec::with_capacity(sorted.iter().filter(|text| !text.is_repeat).count());
    for Lettered { place, is_repeat, .. } in sorted {
        if !is_repeat {
            firsts.push(place);
        }
        code_of[place as usize] = firsts.len() as u32 - 1;
    }
    (gathered(values, &firsts, interim), code_of)
}

/// A text that is being sorted.
#[derive(Clone, Copy, Default)]
struct Lettered {
    /// Some of its letters, as a number that has the order of the texts.
    word: u64,
    /// Where it is in the list.
    place: u32,
    /// Whether it is the same as the one before it.
    is_repeat: bool,
}

/// So many texts are sorted by several threads.
const TEXTS_FOR_THREADS: usize = 1 << 12;
/// What agrees in so many words is compared by letters.
const MOST_WORDS: usize = 8;

/// So many bytes of texts are looked at by a thread at a time.
const BYTES_OF_A_THREAD: usize = 1 << 20;

/// The letters that texts are made of.
struct Letters {
    /// By byte, its place among those that occur, from 1 on; 0 is the end of a text.
    digits: [u8; 256],
    bits: u32,
    /// What all texts begin with tells nothing.
    skipped: usize,
    /// So many letters are a word.
    per_word: usize,
}

impl Letters {
    fn of(values: &TextList, places: &[u32]) -> Letters {
        let skipped = common_start(places.iter().map(|place| values.get_bytes(*place as usize)));
        let seen = |bytes: &[u8]| {
            let mut seen = [false; 256];
            bytes.iter().for_each(|byte| seen[usize::from(*byte)] = true);
            seen
        };
        let either = |a: [bool; 256], b: [bool; 256]| std::array::from_fn(|i| a[i] | b[i]);
        // Those of texts that are not used are no harm.
        let joined = values.joined();
        let seen = map_ranges(joined.len(), BYTES_OF_A_THREAD, |some| seen(&joined[some]))
            .into_iter()
            .fold([false; 256], either);
        let mut count = 0;
        let digits = seen.map(|seen| {
            count += u8::from(seen);
            count
        });
        // No byte of a text in UTF-8 is 255, so that the count stays below.
        let bits = u32::from(bits_for(count.into())).max(1);
        Letters { digits, bits, skipped, per_word: (u64::BITS / bits) as usize }
    }

    /// The letters of a text from one of its words on.
    fn letters_from<'t>(&self, text: &'t [u8], word: usize) -> &'t [u8] {
        text.get(self.skipped + word * self.per_word..).unwrap_or_default()
    }

    /// One of the words of a text, 0 behind its end.
    fn word(&self, text: &[u8], word: usize) -> u64 {
        let letters = self.letters_from(text, word);
        let letters = &letters[..letters.len().min(self.per_word)];
        let digit = |byte: &u8| u64::from(self.digits[usize::from(*byte)]);
        let number = letters.iter().fold(0, |n: u64, byte| n << self.bits | digit(byte));
        // The end comes before every letter.
        number.checked_shl(self.bits * (self.per_word - letters.len()) as u32).unwrap_or(0)
    }

    /// Whether a text ends within a word.
    fn ends(&self, word: u64) -> bool {
        word & ((1 << self.bits) - 1) == 0
    }

    /// Sorts texts by the given one of their words, which they have at hand, then by those after it, and marks the ones that are there
    /// again. So each letter is fetched about once, wherever texts lie. Source: J. Bentley, R. Sedgewick, "Fast algorithms for sorting
    /// and searching strings" (SODA 1997), with a word in place of a letter.
    fn sort(&self, values: &TextList, texts: &mut [Lettered], word: usize) {
        let same = |a: &Lettered, b: &Lettered| a.word == b.word;
        if texts.len() < TEXTS_FOR_THREADS {
            texts.sort_unstable_by_key(|text| text.word);
            texts.chunk_by_mut(same).for_each(|same| self.sort_same(values, same, word));
        } else {
            texts.par_sort_unstable_by_key(|text| text.word);
            texts.par_chunk_by_mut(same).for_each(|same| self.sort_same(values, same, word));
        }
    }

    /// Sorts texts that agree up to the end of a word.
    fn sort_same(&self, values: &TextList, texts: &mut [Lettered], word: usize) {
        let [first, more @ ..] = texts else { return };
        if more.is_empty() {
            return;
        }
        if self.ends(first.word) {
            more.iter_mut().for_each(|text| text.is_repeat = true);
        } else if word + 1 < MOST_WORDS {
            texts.iter_mut().for_each(|text| text.word = self.word(values.get_bytes(text.place as usize), word + 1));
            self.sort(values, texts, word + 1);
        } else {
            let rest = |text: &Lettered| self.letters_from(values.get_bytes(text.place as usize), word + 1);
            texts.par_sort_unstable_by(|a, b| rest(a).cmp(rest(b)));
            for i in 1..texts.len() {
                texts[i].is_repeat = rest(&texts[i - 1]) == rest(&texts[i]);
            }
        }
    }
}

/// How many bytes all texts begin with in common.
fn common_start<'t>(mut texts: impl Iterator<Item = &'t [u8]>) -> usize {
    let Some(first) = texts.next() else { return 0 };
    let mut len = first.len();
    for text in texts {
        len = first[..len].iter().zip(text).take_while(|(a, b)| a == b).count();
        if len == 0 {
            break;
        }
    }
    len
}

/// The dictionary of the texts at some places, which are sorted and different.
fn gathered<'p>(values: &TextList, places: &'p [u32], interim: Interim) -> TextDictionary {
    let bytes_of =
        |places: &[u32]| -> usize { places.iter().map(|place| values.get_bytes(*place as usize).len()).sum() };
    let bytes = map_ranges(places.len(), TEXTS_OF_A_THREAD, |some| bytes_of(&places[some])).into_iter().sum();
    if interim == Interim::Packed || !has_plain_form(bytes) {
        let mut sorted = TextList::with_capacity(places.len(), bytes);
        places.iter().for_each(|place| sorted.push_bytes(values.get_bytes(*place as usize)));
        return TextDictionary::without_template(&sorted, |sorted| TextDictionary::long_for_now(sorted, interim));
    }
    let mut starts: Vec<u32> = Vec::with_capacity(places.len() + 1);
    starts.push(0);
    let mut end = 0;
    starts.extend(places.iter().map(|place| {
        end += values.get_bytes(*place as usize).len() as u32;
        end
    }));
    let mut all = vec![0u8; bytes];
    let mut left = all.as_mut_slice();
    let cut = |(i, places): (usize, &'p [u32])| {
        let from = i * TEXTS_OF_A_THREAD;
        let size = starts[from + places.len()] - starts[from];
        (places, left.split_off_mut(..size as usize).unwrap_or_default())
    };
    let parts: Vec<(&[u32], &mut [u8])> = places.chunks(TEXTS_OF_A_THREAD).enumerate().map(cut).collect();
    map_owned(parts, |(places, mut to)| {
        for place in places {
            let text = values.get_bytes(*place as usize);
            to.split_off_mut(..text.len()).unwrap_or_default().copy_from_slice(text);
        }
    });
    TextDictionary::Plain { bytes: all.into(), starts: starts.into() }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Texts in any order, some of which are not used.
    fn check(texts: &[String]) {
        let values: TextList = texts.iter().map(String::as_str).collect();
        let used: Vec<bool> = (0..texts.len()).map(|i| i % 7 != 3).collect();
        let mut sorted: Vec<&str> =
            texts.iter().zip(&used).filter(|(_, used)| **used).map(|(t, _)| t.as_str()).collect();
        sorted.sort_unstable();
        sorted.dedup();
        for interim in [Interim::Plain, Interim::Packed] {
            let (dictionary, code_of) = sorted_texts(&values, &used, interim);
            assert!(dictionary.list().iter().eq(sorted.iter().copied()), "{:?}", texts.first());
            for (i, text) in texts.iter().enumerate().filter(|(i, _)| used[*i]) {
                assert_eq!(sorted.binary_search(&text.as_str()), Ok(code_of[i] as usize), "{text:?}");
            }
        }
    }

    #[test]
    fn every_text_gets_the_code_of_its_place_in_order() {
        let noise = |i: usize| (i as u64 + 1).wrapping_mul(0x9E37_79B9_7F4A_7C15).rotate_left(29) >> 20;
        let words = ["fog", "tide", "", "\0", "crew", "Ärö", "\u{10ffff}", "a"];
        let said =
            |i: usize, count: usize| (0..count).map(|k| words[noise(i * 17 + k) as usize % 8]).collect::<String>();
        let makers: [&dyn Fn(usize) -> String; 7] = [
            &|i| said(i, i % 30),
            &|i| format!("all begin so long that nothing of it says anything: {}", said(i, 9)),
            &|i| "ab".repeat(40) + &"x".repeat(i % 90),
            &|i| "z".repeat(noise(i) as usize % 200),
            &|i| format!("{:090}", noise(i) % 500),
            &|i| format!("T{}", noise(i) % 900),
            &|_| String::new(),
        ];
        for make in makers {
            for count in [0, 1, 2, 40_000] {
                check(&(0..count).map(make).collect::<Vec<_>>());
            }
        }
    }
}
