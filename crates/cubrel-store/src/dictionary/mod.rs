//! Distinct texts in order, so that comparing codes compares texts.
//!
//! * here: the three forms, and the choice between them
//! * [`template`]: short texts of one shape as numbers; [`ranks`]: these numbers in order
//! * [`blocks`]: long texts by what they share with the one before, packed; `packing`: how they come to be
//! * [`sorting`]: texts in any order to one; [`merge`]: several dictionaries to one

pub mod blocks;
pub mod merge;
mod packing;
pub mod ranks;
pub mod sorting;
pub mod template;

use std::ops::Range;
use std::sync::Arc;

use super::buffer::Buffer;
use super::texts::TextList;
use blocks::Blocks;
use cubrel_value::threads::map_ranges;
use packing::SortedTexts;
use ranks::RankList;
use template::{Template, TemplateRank};

/// Dictionaries of up to so many bytes stand as they are: there is little to save.
const PLAIN_BYTES: usize = 1 << 14;

/// Whether texts of so many bytes in all can stand one after the other.
fn has_plain_form(bytes: usize) -> bool {
    u32::try_from(bytes).is_ok()
}

/// What texts take as they are.
fn plain_bytes(texts: usize, bytes: usize) -> usize {
    bytes + (texts + 1) * 4
}

/// Sorted distinct texts.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum TextDictionary {
    /// One after the other.
    Plain {
        /// All texts.
        bytes: Buffer<u8>,
        /// Where each text begins, and the end.
        starts: Buffer<u32>,
    },
    /// The number of each text among all that fit a template.
    Ranked {
        /// Which letters can stand at each place.
        template: Template,
        /// The numbers.
        ranks: RankList,
    },
    /// Blocks of texts, each text without what it shares with the one before.
    Blocks(Blocks),
}

/// How texts stand that will be merged with others.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Interim {
    /// One after the other: nothing is packed twice.
    Plain,
    /// Packed with little effort where they are many, which takes less memory.
    Packed,
}

/// The texts of a dictionary in which they stand one after the other.
struct PlainTexts<'d> {
    bytes: &'d [u8],
    starts: &'d [u32],
}

impl SortedTexts for PlainTexts<'_> {
    fn count(&self) -> usize {
        self.starts.len().saturating_sub(1)
    }

    fn start(&self, text: usize) -> usize {
        self.starts.get(text).map_or(0, |start| *start as usize)
    }

    fn text(&self, text: usize) -> &[u8] {
        &self.bytes[self.start(text)..self.start(text + 1)]
    }
}

/// So many texts are worth a thread.
const TEXTS_OF_A_THREAD: usize = 1 << 14;

impl TextDictionary {
    /// From sorted distinct texts, in the form that takes the least.
    pub fn new(sorted: &TextList) -> TextDictionary {
        TextDictionary::with(sorted, |sorted| TextDictionary::Blocks(Blocks::new(sorted)))
    }

    /// As [`TextDictionary::new`], for as long as it is not merged with others.
    pub fn for_now(sorted: &TextList, interim: Interim) -> TextDictionary {
        TextDictionary::with(sorted, |sorted| TextDictionary::long_for_now(sorted, interim))
    }

    fn with(sorted: &TextList, long: impl Fn(&TextList) -> TextDictionary) -> TextDictionary {
        let texts = || (0..sorted.len()).map(|i| sorted.get_bytes(i));
        let Some(template) = Template::of(texts()) else { return TextDictionary::without_template(sorted, long) };
        let ranks: Vec<TemplateRank> = texts().filter_map(|t| template.rank(t)).collect();
        TextDictionary::of_ranks(template, ranks.iter().copied(), sorted.bytes(), || sorted.clone())
    }

    /// Of texts that do not have one shape; `long` makes that of many.
    fn without_template(sorted: &TextList, long: impl Fn(&TextList) -> TextDictionary) -> TextDictionary {
        let is_short = plain_bytes(sorted.len(), sorted.bytes()) <= PLAIN_BYTES;
        if is_short { TextDictionary::plain(sorted) } else { long(sorted) }
    }

    fn long_for_now(sorted: &TextList, interim: Interim) -> TextDictionary {
        match interim {
            Interim::Plain if has_plain_form(sorted.bytes()) => TextDictionary::plain(sorted),
            _ => TextDictionary::Blocks(Blocks::for_now(sorted)),
        }
    }

    /// From the numbers of texts that fit a template, so many bytes in all; `list` gives the texts where another form
    /// has to be tried.
    pub(super) fn of_ranks(
        template: Template,
        ranks: impl ExactSizeIterator<Item = TemplateRank> + Clone,
        bytes: usize,
        list: impl FnOnce() -> TextList,
    ) -> TextDictionary {
        let plain = plain_bytes(ranks.len(), bytes);
        if plain <= PLAIN_BYTES {
            return TextDictionary::plain(&list());
        }
        let most = template.most();
        let size = RankList::bytes_for(ranks.len(), most);
        // Where a number says nearly everything, nothing that knows only of repeats will take less; long texts may have
        // parts that repeat.
        if size * 3 > plain || !template.is_narrow() {
            let blocks = Blocks::for_now(&list());
            if blocks.heap_bytes() < size {
                return TextDictionary::Blocks(blocks);
            }
        }
        TextDictionary::Ranked { template, ranks: RankList::new(ranks, most) }
    }

    /// The same texts in the form that takes the least, where they stand in another for now.
    #[must_use]
    pub fn finalized(self) -> TextDictionary {
        match &self {
            TextDictionary::Blocks(blocks) if blocks.has_common() => self,
            TextDictionary::Blocks(blocks) => TextDictionary::Blocks(packing::repacked(blocks)),
            _ => match self.plain_texts().filter(|_| self.is_long()) {
                Some(texts) => TextDictionary::Blocks(Blocks::new(&texts)),
                None => self,
            },
        }
    }

    /// Whether the texts are so many bytes that they do not stand one after the other for good.
    fn is_long(&self) -> bool {
        self.heap_bytes() > PLAIN_BYTES
    }

    /// The texts, where they stand one after the other.
    fn plain_texts(&self) -> Option<PlainTexts<'_>> {
        match self {
            TextDictionary::Plain { bytes, starts } => Some(PlainTexts { bytes, starts }),
            _ => None,
        }
    }

    /// In the form in which each text is reached at once.
    ///
    /// # Panics
    /// When the texts take more than 4 GiB.
    pub fn plain(sorted: &TextList) -> TextDictionary {
        let mut bytes = Vec::with_capacity(sorted.bytes());
        let mut starts = vec![0];
        for text in sorted.iter() {
            bytes.extend_from_slice(text.as_bytes());
            starts.push(u32::try_from(bytes.len()).expect("plain dictionaries are small"));
        }
        TextDictionary::Plain { bytes: bytes.into(), starts: starts.into() }
    }

    /// Whether stored parts that have been read are those of a dictionary.
    pub fn is_sound(&self) -> bool {
        match self {
            TextDictionary::Plain { bytes, starts } => {
                let Ok(text) = std::str::from_utf8(bytes) else { return false };
                let ordered = starts.windows(2).all(|w| w[0] <= w[1]);
                let whole = starts.first() == Some(&0) && starts.last().copied() == u32::try_from(bytes.len()).ok();
                ordered && whole && starts.iter().all(|s| text.is_char_boundary(*s as usize))
            }
            TextDictionary::Ranked { .. } => true,
            TextDictionary::Blocks(blocks) => blocks.is_sound(),
        }
    }

    /// How many texts.
    pub fn len(&self) -> usize {
        match self {
            TextDictionary::Plain { starts, .. } => starts.len().saturating_sub(1),
            TextDictionary::Ranked { ranks, .. } => ranks.len(),
            TextDictionary::Blocks(blocks) => blocks.len(),
        }
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// Gives the text of a code to `take`.
    fn with_text<R>(&self, code: usize, take: impl FnOnce(&str) -> R) -> R {
        match self {
            TextDictionary::Plain { bytes, starts } => {
                let text = &bytes[starts[code] as usize..starts[code + 1] as usize];
                take(std::str::from_utf8(text).unwrap_or_default())
            }
            TextDictionary::Ranked { template, ranks } => {
                let mut text = Vec::with_capacity(template.places());
                template.write(ranks.get(code), &mut text);
                take(&String::from_utf8_lossy(&text))
            }
            TextDictionary::Blocks(blocks) => take(blocks.get(code).as_str()),
        }
    }

    /// The text of a code.
    pub fn get(&self, code: usize) -> Arc<str> {
        self.with_text(code, |text| Arc::from(text))
    }

    /// Gives every text to `visit`, in order.
    pub fn each(&self, mut visit: impl FnMut(&str)) {
        match self {
            TextDictionary::Plain { .. } => (0..self.len()).for_each(|code| self.with_text(code, &mut visit)),
            TextDictionary::Ranked { template, ranks } => {
                let mut text = Vec::with_capacity(template.places());
                for rank in ranks.iter_from(0) {
                    text.clear();
                    template.write(rank, &mut text);
                    visit(&String::from_utf8_lossy(&text));
                }
            }
            TextDictionary::Blocks(blocks) => {
                let mut unpacker = blocks.unpacker();
                (0..blocks.count()).for_each(|block| unpacker.block(block).iter().for_each(&mut visit));
            }
        }
    }

    /// What `map` makes of every text's bytes, in order and on all threads: no text is kept longer than that takes.
    pub fn map<T: Clone + Send>(&self, map: impl Fn(&[u8]) -> T + Sync) -> Vec<T> {
        let each = |codes: Range<usize>| match self {
            TextDictionary::Ranked { template, ranks } => {
                let mut text = Vec::with_capacity(template.places());
                let of_rank = |rank| {
                    text.clear();
                    template.write(rank, &mut text);
                    map(&text)
                };
                ranks.iter_from(codes.start).take(codes.len()).map(of_rank).collect::<Vec<T>>()
            }
            _ => codes.map(|code| self.with_text(code, |text| map(text.as_bytes()))).collect(),
        };
        if let TextDictionary::Blocks(blocks) = self {
            return blocks.map(map);
        }
        if self.len() <= TEXTS_OF_A_THREAD {
            return each(0..self.len());
        }
        map_ranges(self.len(), TEXTS_OF_A_THREAD, each).concat()
    }

    /// Which texts are found: all of a block at once by `find_all`, which is given them one after the other, and where each ends, or each
    /// by itself by `find`, where none are packed in blocks.
    pub fn search(
        &self,
        find_all: impl Fn(&[u8], &[usize]) -> Vec<bool> + Sync,
        find: impl Fn(&[u8]) -> bool + Sync,
    ) -> Vec<bool> {
        match self {
            TextDictionary::Blocks(blocks) => blocks.map_lists(|list| find_all(list.joined(), list.ends())),
            _ => self.map(find),
        }
    }

    /// How many texts come before some bytes.
    fn before(&self, bytes: &[u8]) -> usize {
        if let TextDictionary::Blocks(blocks) = self {
            return blocks.before(bytes);
        }
        let (mut low, mut high) = (0, self.len());
        while low < high {
            let middle = low.midpoint(high);
            let is_before = self.with_text(middle, |text| text.as_bytes() < bytes);
            if is_before { low = middle + 1 } else { high = middle }
        }
        low
    }

    /// The codes of the texts that begin with another one, which stand side by side.
    pub fn beginning_with(&self, start: &str) -> Range<usize> {
        let mut behind = start.as_bytes().to_vec();
        // No byte of a text is the largest that there is.
        let Some(last) = behind.last_mut() else { return 0..self.len() };
        *last += 1;
        self.before(start.as_bytes())..self.before(&behind)
    }

    /// All texts.
    pub fn list(&self) -> TextList {
        let mut list = TextList::with_capacity(self.len(), 0);
        self.each(|text| list.push(text));
        list
    }

    /// The texts of some codes; those that are none are empty.
    pub fn texts(&self, codes: &[u64]) -> Vec<Arc<str>> {
        let empty: Arc<str> = Arc::from("");
        if let TextDictionary::Blocks(blocks) = self {
            return blocks.texts(codes, &empty);
        }
        codes.iter().map(|c| if *c < self.len() as u64 { self.get(*c as usize) } else { empty.clone() }).collect()
    }

    /// The code of a text.
    pub fn find(&self, text: &str) -> Option<usize> {
        match self {
            TextDictionary::Ranked { template, ranks } => {
                let rank = template.rank(text.as_bytes())?;
                let code = ranks.smaller(rank);
                (code < ranks.len() && ranks.get(code) == rank).then_some(code)
            }
            TextDictionary::Blocks(blocks) => blocks.find(text),
            TextDictionary::Plain { .. } => {
                let (mut low, mut high) = (0, self.len());
                while low < high {
                    let middle = low.midpoint(high);
                    match self.with_text(middle, |t| t.cmp(text)) {
                        std::cmp::Ordering::Less => low = middle + 1,
                        std::cmp::Ordering::Greater => high = middle,
                        std::cmp::Ordering::Equal => return Some(middle),
                    }
                }
                None
            }
        }
    }

    /// What the form is called.
    #[cfg(any(test, feature = "internals"))]
    pub fn form(&self) -> &'static str {
        match self {
            TextDictionary::Plain { .. } => "plain",
            TextDictionary::Ranked { .. } => "template",
            TextDictionary::Blocks(_) => "blocks",
        }
    }

    /// Bytes on the heap.
    pub fn heap_bytes(&self) -> usize {
        match self {
            TextDictionary::Plain { bytes, starts } => bytes.len() + starts.len() * 4,
            TextDictionary::Ranked { template, ranks } => template.heap_bytes() + ranks.heap_bytes(),
            TextDictionary::Blocks(blocks) => blocks.heap_bytes(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// What is there is found, in every form, and what is not is not.
    fn check(texts: impl IntoIterator<Item = String>, form: &str) -> TextDictionary {
        let mut sorted: Vec<String> = texts.into_iter().collect();
        sorted.sort();
        sorted.dedup();
        let list: TextList = sorted.iter().map(String::as_str).collect();
        let best = TextDictionary::new(&list);
        assert_eq!(best.form(), form);
        let [packed, plain] = [Interim::Packed, Interim::Plain].map(|interim| TextDictionary::for_now(&list, interim));
        let [repacked, later] = [&packed, &plain].map(|interim| interim.clone().finalized());
        assert_eq!([repacked.form(), later.form()], [form; 2]);
        let blocks = TextDictionary::Blocks(Blocks::new(&list));
        for dictionary in [&best, &packed, &plain, &repacked, &later, &TextDictionary::plain(&list), &blocks] {
            assert_eq!(dictionary.list(), list);
            assert_eq!(dictionary.map(<[u8]>::len), sorted.iter().map(String::len).collect::<Vec<_>>());
            for (code, text) in sorted.iter().enumerate().step_by(11) {
                assert_eq!(&*dictionary.get(code), text);
                assert_eq!(dictionary.find(text), Some(code), "{text}");
                assert_eq!(dictionary.find(&format!("{text}~")), None);
                assert_eq!(dictionary.find(text.get(1..).unwrap_or("~~")), None);
                for end in (0..=text.len()).filter(|end| text.is_char_boundary(*end)) {
                    let begins = |t: &&String| t.starts_with(&text[..end]);
                    let first = sorted.partition_point(|t| t.as_str() < &text[..end]);
                    let all = first..first + sorted[first..].iter().take_while(begins).count();
                    assert_eq!(dictionary.beginning_with(&text[..end]), all, "{:?}", &text[..end]);
                }
                assert!(dictionary.beginning_with(&format!("{text}~")).is_empty());
            }
            let codes = [sorted.len() as u64, 0, sorted.len() as u64 - 1, 0];
            let found = dictionary.texts(&codes);
            let expected = ["", &sorted[0], &sorted[sorted.len() - 1], &sorted[0]];
            assert_eq!(found.iter().map(|t| &**t).collect::<Vec<_>>(), expected);
        }
        best
    }

    #[test]
    fn each_kind_of_text_takes_the_form_that_suits_it() {
        check(["", "Ness", "Ärö", "Holm"].map(String::from), "plain");
        let mixed = |i: u64| i.wrapping_mul(0x9E37_79B9_7F4A_7C15);
        let ids = check((0..20_000).map(|i| format!("TI-{:07}", mixed(i) >> 44)), "template");
        assert!(ids.heap_bytes() < 30_000, "{} bytes for 20,000 numbers of which most are there", ids.heap_bytes());
        check((0..20_000).map(|i| format!("{:x}", mixed(i) >> 8)), "template");
        let long = check((0..20_000).map(|i| format!("{:016x}-{:016x}", mixed(i), mixed(i * i + 5))), "template");
        assert!(long.heap_bytes() < 310_000, "{} bytes for 20,000 numbers of 128 bits", long.heap_bytes());
        let note = |i: u64| format!("Dear {:05}, the boat to {} is late because of fog", i % 9000, mixed(i) >> 52);
        let notes = check((0..20_000).map(note), "blocks");
        let plain: usize = (0..20_000).map(|i| note(i).len()).sum();
        assert!(notes.heap_bytes() * 5 < plain, "{} of {plain}", notes.heap_bytes());
        check((0..3000).map(|i| "é".repeat(1 + i % 50) + &mixed(i as u64).to_string()), "blocks");
    }
}
