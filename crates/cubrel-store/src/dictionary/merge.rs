//! Several dictionaries to one, with the new code of each old one.

use std::borrow::Cow;
use std::cmp::Reverse;
use std::collections::BinaryHeap;
use std::collections::binary_heap::PeekMut;
use std::ops::Range;

use super::super::texts::TextList;
use super::blocks::{BLOCK_BYTES, Blocks, PackedTexts, Unpacker};
use super::packing::{BlockPacker, SortedTexts, sample_of, sample_of_blocks, sample_step};
use super::ranks::RankList;
use super::template::{Template, TemplateRank};
use super::{PLAIN_BYTES, PlainTexts, TextDictionary};
use cubrel_value::threads::{map_each, map_owned, map_parts};

/// Numbers or texts of a list that are worth a thread of their own.
const FEWEST_MERGED: usize = 1 << 12;
/// Ranges of texts for each thread: they do not take the same time.
const RANGES_OF_A_THREAD: usize = 4;

/// One dictionary of all texts, and for each given one by code the new code.
pub fn merge(parts: &[&TextDictionary]) -> (TextDictionary, Vec<Vec<u32>>) {
    if let [only] = parts {
        return ((*only).clone().finalized(), vec![(0..only.len() as u32).collect()]);
    }
    let is_long = |part: &TextDictionary| match part {
        TextDictionary::Blocks(_) => true,
        TextDictionary::Plain { .. } => part.is_long(),
        TextDictionary::Ranked { .. } => false,
    };
    match by_rank(parts) {
        Some(merged) => merged,
        None if parts.iter().any(|part| is_long(part)) => in_blocks(parts),
        None => by_text(parts),
    }
}

/// Numbers in order, from several ascending lists; `take` gets each with the list that it comes from.
fn in_order<T: Ord>(lists: &mut [impl Iterator<Item = T>], mut take: impl FnMut(usize, T)) {
    let mut heap: BinaryHeap<Reverse<(T, usize)>> = BinaryHeap::with_capacity(lists.len());
    for (i, list) in lists.iter_mut().enumerate() {
        heap.extend(list.next().map(|v| Reverse((v, i))));
    }
    while let Some(mut top) = heap.peek_mut() {
        let list = top.0.1;
        let value = match lists[list].next() {
            Some(next) => std::mem::replace(&mut top.0.0, next),
            None => PeekMut::pop(top).0.0,
        };
        take(list, value);
    }
}

/// Part of a list: where it begins, and room for the places that its entries get.
type ListPart<'t> = (usize, &'t mut [u32]);

/// Merges ranges of sorted lists on all threads. `starts` tells for each range, the first of which begins with the lists, where it
/// begins in each of them; `merge` fills in the places of a range, counted from its own start, and tells what it made and of how many.
fn by_ranges<T: Send>(
    lens: &[usize],
    starts: &[Vec<usize>],
    merge: impl Fn(&mut [ListPart<'_>]) -> (T, usize) + Sync,
) -> (Vec<T>, Vec<Vec<u32>>) {
    let mut to: Vec<Vec<u32>> = lens.iter().map(|len| vec![0; *len]).collect();
    let mut rest: Vec<&mut [u32]> = to.iter_mut().map(Vec::as_mut_slice).collect();
    let mut ranges: Vec<Vec<ListPart<'_>>> = Vec::with_capacity(starts.len());
    for (i, from) in starts.iter().enumerate() {
        let ends = starts.get(i + 1).map_or(lens, Vec::as_slice);
        let own = rest.iter_mut().zip(from.iter().zip(ends));
        ranges.push(
            own.map(|(left, (from, end))| (*from, left.split_off_mut(..end - from).unwrap_or_default())).collect(),
        );
    }
    let (made, counts): (Vec<T>, Vec<usize>) =
        map_owned(ranges.iter_mut().collect(), |range: &mut Vec<ListPart<'_>>| merge(range)).into_iter().unzip();
    let first = counts.iter().scan(0, |at, count| Some(std::mem::replace(at, *at + *count as u32)));
    for (range, first) in ranges.into_iter().zip(first) {
        range.into_iter().flat_map(|(_, to)| to).for_each(|place| *place += first);
    }
    (made, to)
}

/// Where all texts fit one template, only their numbers are compared.
fn by_rank(parts: &[&TextDictionary]) -> Option<(TextDictionary, Vec<Vec<u32>>)> {
    let bytes: usize = parts.iter().map(|p| p.heap_bytes()).sum();
    if bytes < PLAIN_BYTES {
        return None;
    }
    let of = |part: &&TextDictionary| match part {
        TextDictionary::Ranked { template, .. } => Some(template.clone()),
        _ => None,
    };
    let templates: Vec<Template> = parts.iter().map(of).collect::<Option<_>>()?;
    let (first, more) = templates.split_first()?;
    let template = more.iter().try_fold(first.clone(), |all, template| all.joined(template))?;
    let most = template.most();
    let ranks: Vec<Cow<'_, RankList>> = map_each(parts, |part| ranks_in(part, &template, most));
    let (merged, to) = merged_ranks(&ranks);
    let left = merged.iter().map(Vec::len).sum();
    let ranks = RankList::new(Counted { numbers: merged.iter().flatten().copied(), left }, most);
    Some((TextDictionary::Ranked { template, ranks }, to))
}

/// Numbers of which it is known how many they are.
#[derive(Clone)]
struct Counted<I> {
    numbers: I,
    left: usize,
}

impl<I: Iterator> Iterator for Counted<I> {
    type Item = I::Item;

    fn next(&mut self) -> Option<I::Item> {
        self.left = self.left.saturating_sub(1);
        self.numbers.next()
    }

    fn size_hint(&self) -> (usize, Option<usize>) {
        (self.left, Some(self.left))
    }

    fn fold<B, F: FnMut(B, I::Item) -> B>(self, first: B, add: F) -> B {
        self.numbers.fold(first, add)
    }
}

impl<I: Iterator> ExactSizeIterator for Counted<I> {}

/// The numbers of all lists in order, each once, in parts; and for each list by place where its number is among them.
fn merged_ranks(lists: &[Cow<'_, RankList>]) -> (Vec<Vec<TemplateRank>>, Vec<Vec<u32>>) {
    // The longest list tells where ranges of numbers may be cut.
    let longest = lists.iter().max_by_key(|list| list.len());
    let ranges = rayon::current_num_threads().min(longest.map_or(0, |list| list.len() / FEWEST_MERGED)).max(1);
    let start = |range: usize| match longest {
        Some(longest) if range > 0 => {
            let cut = longest.get(longest.len() * range / ranges);
            lists.iter().map(|list| list.smaller(cut)).collect()
        }
        _ => vec![0; lists.len()],
    };
    let lens: Vec<usize> = lists.iter().map(|list| list.len()).collect();
    by_ranges(&lens, &(0..ranges).map(start).collect::<Vec<_>>(), |range| {
        let merged = merged_range(lists, range);
        let count = merged.len();
        (merged, count)
    })
}

/// The numbers of parts of all lists, and where in them each is.
fn merged_range(lists: &[Cow<'_, RankList>], parts: &mut [ListPart<'_>]) -> Vec<TemplateRank> {
    let mut merged: Vec<TemplateRank> = Vec::with_capacity(parts.iter().map(|(_, to)| to.len()).sum());
    let mut numbers: Vec<_> =
        lists.iter().zip(&*parts).map(|(list, (start, to))| list.iter_from(*start).take(to.len())).collect();
    let mut slots: Vec<_> = parts.iter_mut().map(|(_, to)| to.iter_mut()).collect();
    in_order(&mut numbers, |list, rank| {
        if merged.last() != Some(&rank) {
            merged.push(rank);
        }
        if let Some(slot) = slots[list].next() {
            *slot = merged.len() as u32 - 1;
        }
    });
    merged
}

/// The numbers that a dictionary's texts have in a wider template.
fn ranks_in<'p>(part: &'p TextDictionary, wider: &Template, most: TemplateRank) -> Cow<'p, RankList> {
    match part {
        TextDictionary::Ranked { template, ranks } if template == wider => Cow::Borrowed(ranks),
        _ => {
            let mut ranks = Vec::with_capacity(part.len());
            // Every text of a part fits the template that was made of all parts.
            part.each(|text| ranks.push(wider.rank(text.as_bytes()).unwrap_or_default()));
            Cow::Owned(RankList::new(ranks.iter().copied(), most))
        }
    }
}

fn by_text(parts: &[&TextDictionary]) -> (TextDictionary, Vec<Vec<u32>>) {
    let plain: Vec<TextList> = map_each(parts, |p| p.list());
    let mut to: Vec<Vec<u32>> = plain.iter().map(|p| Vec::with_capacity(p.len())).collect();
    let mut merged = TextList::default();
    let mut lists: Vec<_> = plain.iter().map(TextList::iter).collect();
    in_order(&mut lists, |list, text| {
        if merged.is_empty() || merged.get(merged.len() - 1) != text {
            merged.push(text);
        }
        to[list].push(merged.len() as u32 - 1);
    });
    (TextDictionary::new(&merged), to)
}

/// The texts of a dictionary one after the other, of which few are there at once.
enum Cursor<'a> {
    /// Those of a range are.
    List(TextList, usize),
    /// They stand in the dictionary.
    Plain(PlainTexts<'a>, usize),
    /// Those of a block, which is the one before the given number, are.
    Blocks(&'a Blocks, Unpacker<'a>, usize, TextList, usize),
}

impl<'a> Cursor<'a> {
    /// The texts of some codes, and perhaps more of them.
    fn new(of: &'a TextDictionary, codes: Range<usize>) -> Cursor<'a> {
        match of {
            TextDictionary::Blocks(blocks) if codes.is_empty() => {
                Cursor::Blocks(blocks, blocks.unpacker(), blocks.count(), TextList::default(), 0)
            }
            TextDictionary::Blocks(blocks) => {
                let block = blocks.block_of(codes.start);
                let mut unpacker = blocks.unpacker();
                let texts = unpacker.block(block);
                Cursor::Blocks(blocks, unpacker, block + 1, texts, codes.start - blocks.first_of(block))
            }
            TextDictionary::Plain { bytes, starts } => Cursor::Plain(PlainTexts { bytes, starts }, codes.start),
            TextDictionary::Ranked { template, ranks } => {
                let (mut texts, mut text) = (TextList::default(), Vec::with_capacity(template.places()));
                for rank in ranks.iter_from(codes.start).take(codes.len()) {
                    text.clear();
                    template.write(rank, &mut text);
                    texts.push_bytes(&text);
                }
                Cursor::List(texts, 0)
            }
        }
    }

    /// The text where it stands.
    fn text(&self) -> &[u8] {
        match self {
            Cursor::List(texts, at) | Cursor::Blocks(_, _, _, texts, at) => texts.get_bytes(*at),
            Cursor::Plain(texts, at) => texts.text(*at),
        }
    }

    /// Goes to the next text, if there is one.
    fn step(&mut self) {
        match self {
            Cursor::List(_, at) | Cursor::Plain(_, at) => *at += 1,
            Cursor::Blocks(blocks, unpacker, block, texts, at) => {
                *at += 1;
                if *at == texts.len() && *block < blocks.count() {
                    (*texts, *at) = (unpacker.block(*block), 0);
                    *block += 1;
                }
            }
        }
    }
}

/// Calls `take` with the texts of ranges of codes in order, each with the dictionary that it comes from.
fn texts_in_order(parts: &[&TextDictionary], ranges: &[Range<usize>], mut take: impl FnMut(usize, &[u8])) {
    let mut cursors: Vec<Cursor<'_>> =
        parts.iter().zip(ranges).map(|(part, range)| Cursor::new(part, range.clone())).collect();
    let mut left: Vec<usize> = ranges.iter().map(Range::len).collect();
    // The dictionaries by their texts, so far as they have some left: the first one has the next.
    let mut order: Vec<usize> = (0..parts.len()).filter(|part| left[*part] > 0).collect();
    order.sort_by(|a, b| cursors[*a].text().cmp(cursors[*b].text()));
    while let Some(part) = order.first().copied() {
        take(part, cursors[part].text());
        left[part] -= 1;
        if left[part] == 0 {
            order.remove(0);
            continue;
        }
        cursors[part].step();
        let text = cursors[part].text();
        let place = order[1..].partition_point(|other| cursors[*other].text() < text);
        order[..=place].rotate_left(1);
    }
}

/// Where each range of texts begins in each dictionary; the longest one tells where they may be cut.
fn text_ranges(parts: &[&TextDictionary]) -> Vec<Vec<usize>> {
    let longest = parts.iter().max_by_key(|part| part.len());
    let most = rayon::current_num_threads() * RANGES_OF_A_THREAD;
    let ranges = most.min(longest.map_or(0, |part| part.len() / FEWEST_MERGED)).max(1);
    let start = |range: usize| match longest {
        Some(longest) if range > 0 => {
            let cut = longest.get(longest.len() * range / ranges);
            parts.iter().map(|part| part.before(cut.as_bytes())).collect()
        }
        _ => vec![0; parts.len()],
    };
    map_parts(ranges, start)
}

/// Having learnt from a sample of all texts.
fn learnt_from(parts: &[&TextDictionary]) -> BlockPacker {
    let bytes = |part: &&TextDictionary| match part {
        TextDictionary::Blocks(blocks) => blocks.count() * BLOCK_BYTES,
        other => other.plain_texts().map_or(0, |texts| texts.all_bytes()),
    };
    let bytes = parts.iter().map(bytes).sum();
    let step = sample_step(bytes);
    let sample = |part: &&TextDictionary| match part {
        TextDictionary::Blocks(blocks) => sample_of_blocks(blocks, step),
        other => other.plain_texts().map_or_else(Vec::new, |texts| sample_of(&texts, step)),
    };
    let samples: Vec<Vec<TextList>> = map_each(parts, sample);
    BlockPacker::learnt_from(&samples.concat(), bytes)
}

/// All texts, packed in blocks: where some of them stand so, or are many. Not all are unpacked at once.
fn in_blocks(parts: &[&TextDictionary]) -> (TextDictionary, Vec<Vec<u32>>) {
    let packer = learnt_from(parts);
    let lens: Vec<usize> = parts.iter().map(|part| part.len()).collect();
    let merged = |range: &mut [ListPart<'_>]| {
        let codes: Vec<Range<usize>> = range.iter().map(|(from, to)| *from..*from + to.len()).collect();
        let mut slots: Vec<_> = range.iter_mut().map(|(_, to)| to.iter_mut()).collect();
        let mut packing = packer.start();
        let mut last: Option<Vec<u8>> = None;
        let mut count = 0;
        texts_in_order(parts, &codes, |part, text| {
            if last.as_deref() != Some(text) {
                packing.push(text);
                count += 1;
                let last = last.get_or_insert_default();
                last.clear();
                last.extend_from_slice(text);
            }
            if let Some(slot) = slots[part].next() {
                *slot = count - 1;
            }
        });
        (packing.finish(), count as usize)
    };
    let (ranges, to): (Vec<PackedTexts>, _) = by_ranges(&lens, &text_ranges(parts), merged);
    (TextDictionary::Blocks(packer.blocks(ranges)), to)
}

#[cfg(test)]
mod tests {
    use super::super::Interim;
    use super::*;

    #[test]
    fn codes_of_all_parts_find_their_texts_again() {
        let id = |i: u64| format!("K{:06}", i.wrapping_mul(0x9E37_79B9_7F4A_7C15) >> 45);
        let long = |i: u64| format!("line {} of a text that is the same for most", i % 3000);
        let wide = |i: u64| format!("{:016x}-{:016x}", i.wrapping_mul(0x9E37_79B9_7F4A_7C15), i * i);
        let one_long = |i: u64| if i == 35_000 { "é".repeat(90) } else { id(i) };
        let makers: [&dyn Fn(u64) -> String; 5] = [&id, &long, &|i| format!("R{}", i % 40), &wide, &one_long];
        for make in makers {
            let lists: Vec<Vec<String>> = [(0, 30_000), (10_000, 40_000), (0, 0), (100_000, 104_000)]
                .iter()
                .map(|(a, b)| {
                    let mut texts: Vec<String> = (*a..*b).map(make).collect();
                    texts.sort();
                    texts.dedup();
                    texts
                })
                .collect();
            for interims in [[Interim::Plain; 2], [Interim::Packed; 2], [Interim::Plain, Interim::Packed]] {
                let part = |(i, texts): (usize, &Vec<String>)| {
                    TextDictionary::for_now(&texts.iter().map(String::as_str).collect(), interims[i % 2])
                };
                check(&lists, &lists.iter().enumerate().map(part).collect::<Vec<_>>());
            }
        }
    }

    fn check(lists: &[Vec<String>], parts: &[TextDictionary]) {
        let (merged, to) = merge(&parts.iter().collect::<Vec<_>>());
        let texts = merged.list();
        assert!(texts.iter().zip(texts.iter().skip(1)).all(|(a, b)| a < b), "in order, each once");
        let mut used = vec![false; merged.len()];
        for (list, to) in lists.iter().zip(&to) {
            assert_eq!(list.len(), to.len());
            for (text, code) in list.iter().zip(to) {
                assert_eq!(texts.get(*code as usize), text);
                used[*code as usize] = true;
            }
        }
        assert!(!used.contains(&false), "nothing that no part has");
        for (list, part) in lists.iter().zip(parts) {
            let (alone, to) = merge(&[part]);
            assert!(alone.list().iter().eq(list.iter().map(String::as_str)));
            assert!(to[0].iter().copied().eq(0..list.len() as u32));
        }
    }
}
