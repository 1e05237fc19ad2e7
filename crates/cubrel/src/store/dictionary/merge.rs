//! Several dictionaries to one, with the new code of each old one.

use std::borrow::Cow;
use std::cmp::Reverse;
use std::collections::BinaryHeap;
use std::collections::binary_heap::PeekMut;

use rayon::prelude::*;

use super::super::texts::TextList;
use super::blocks::{Blocks, Unpacker};
use super::packing::learnt_from;
use super::ranks::RankList;
use super::template::{Template, TemplateRank};
use super::{PLAIN_BYTES, TextDictionary};

/// Numbers of a list that are worth a thread of their own.
const FEWEST_MERGED: usize = 1 << 12;

/// One dictionary of all texts, and for each given one by code the new code.
pub fn merge(parts: &[&TextDictionary]) -> (TextDictionary, Vec<Vec<u32>>) {
    if let [only] = parts {
        return ((*only).clone().finalized(), vec![(0..only.len() as u32).collect()]);
    }
    match by_rank(parts) {
        Some(merged) => merged,
        None if parts.iter().any(|part| matches!(part, TextDictionary::Blocks(_))) => in_blocks(parts),
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

/// Where all texts fit one template, only their numbers are compared.
fn by_rank(parts: &[&TextDictionary]) -> Option<(TextDictionary, Vec<Vec<u32>>)> {
    let bytes: usize = parts.iter().map(|p| p.heap_bytes()).sum();
    if bytes < PLAIN_BYTES || !parts.iter().all(|p| matches!(p, TextDictionary::Ranked { .. })) {
        return None;
    }
    let templates = parts
        .iter()
        .filter_map(|p| if let TextDictionary::Ranked { template, .. } = p { Some(template) } else { None });
    let template: Template = templates.cloned().reduce(|a, b| a.joined(&b))?;
    let most = template.most()?;
    let ranks: Vec<Cow<'_, RankList>> = parts.par_iter().map(|part| ranks_in(part, &template, most)).collect();
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
    // Ranges of numbers are merged by themselves; the longest list tells where they may be cut.
    let longest = lists.iter().max_by_key(|list| list.len());
    let ranges = rayon::current_num_threads().min(longest.map_or(0, |list| list.len() / FEWEST_MERGED)).max(1);
    let cut = |i: usize| longest.filter(|_| i < ranges).map(|list| list.get(list.len() * i / ranges));
    let mut to: Vec<Vec<u32>> = lists.iter().map(|list| vec![0; list.len()]).collect();
    let mut rest: Vec<(usize, &mut [u32])> = to.iter_mut().map(|to| (0, &mut to[..])).collect();
    // For each range the part of each list: where it begins, and the places to be found.
    let mut parts: Vec<Vec<(usize, &mut [u32])>> = Vec::new();
    for i in 0..ranges {
        let mut part = Vec::with_capacity(lists.len());
        for (list, (start, left)) in lists.iter().zip(&mut rest) {
            let from = *start;
            *start = cut(i + 1).map_or(list.len(), |number| list.smaller(number));
            let (own, others) = std::mem::take(left).split_at_mut(*start - from);
            *left = others;
            part.push((from, own));
        }
        parts.push(part);
    }
    let merged: Vec<Vec<TemplateRank>> = parts.par_iter_mut().map(|part| merged_part(lists, part)).collect();
    let starts = merged.iter().scan(0, |at, part| Some(std::mem::replace(at, *at + part.len() as u32)));
    for (part, start) in parts.into_iter().zip(starts) {
        part.into_iter().flat_map(|(_, to)| to).for_each(|place| *place += start);
    }
    (merged, to)
}

/// The numbers of parts of all lists, and where in them each is.
fn merged_part(lists: &[Cow<'_, RankList>], parts: &mut [(usize, &mut [u32])]) -> Vec<TemplateRank> {
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
    let plain: Vec<TextList> = parts.par_iter().map(|p| p.list()).collect();
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
    /// All of them are, because they are few.
    List(TextList, usize),
    /// Those of a block, which is the one before the given number, are.
    Blocks(&'a Blocks, Unpacker<'a>, usize, TextList, usize),
}

impl<'a> Cursor<'a> {
    fn new(of: &'a TextDictionary) -> Cursor<'a> {
        match of {
            TextDictionary::Blocks(blocks) => Cursor::Blocks(blocks, blocks.unpacker(), 0, TextList::default(), 0),
            other => Cursor::List(other.list(), 0),
        }
    }

    /// The next text.
    fn next(&mut self) -> Option<&[u8]> {
        let (texts, at) = match self {
            Cursor::List(texts, at) => (texts, at),
            Cursor::Blocks(blocks, unpacker, block, texts, at) => {
                if *at == texts.len() && *block < blocks.count() {
                    (*texts, *at) = (unpacker.block(*block), 0);
                    *block += 1;
                }
                (texts, at)
            }
        };
        *at += 1;
        (*at <= texts.len()).then(|| texts.get_bytes(*at - 1))
    }
}

/// Calls `take` with the texts of all dictionaries in order, each with the dictionary that it comes from.
fn texts_in_order(parts: &[&TextDictionary], mut take: impl FnMut(usize, &[u8])) {
    let mut cursors: Vec<Cursor<'_>> = parts.iter().map(|part| Cursor::new(part)).collect();
    let mut heap = BinaryHeap::with_capacity(parts.len());
    for (part, cursor) in cursors.iter_mut().enumerate() {
        heap.extend(cursor.next().map(|text| Reverse((text.to_vec(), part))));
    }
    while let Some(mut top) = heap.peek_mut() {
        let (text, part) = &mut top.0;
        take(*part, text);
        match cursors[*part].next() {
            Some(next) => {
                text.clear();
                text.extend_from_slice(next);
            }
            None => {
                PeekMut::pop(top);
            }
        }
    }
}

/// Where some texts are packed in blocks, so are all, and not all of them are unpacked at once.
fn in_blocks(parts: &[&TextDictionary]) -> (TextDictionary, Vec<Vec<u32>>) {
    let blocks =
        parts.iter().filter_map(|part| if let TextDictionary::Blocks(blocks) = part { Some(blocks) } else { None });
    let mut packing = learnt_from(&blocks.collect::<Vec<_>>());
    let mut to: Vec<Vec<u32>> = parts.iter().map(|part| Vec::with_capacity(part.len())).collect();
    let mut last: Option<Vec<u8>> = None;
    let mut count = 0;
    texts_in_order(parts, |part, text| {
        if last.as_deref() != Some(text) {
            packing.push(text);
            count += 1;
            let last = last.get_or_insert_default();
            last.clear();
            last.extend_from_slice(text);
        }
        to[part].push(count - 1);
    });
    (TextDictionary::Blocks(packing.finish()), to)
}

#[cfg(test)]
mod tests {
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
            let parts: Vec<TextDictionary> =
                lists.iter().map(|l| TextDictionary::for_now(&l.iter().map(String::as_str).collect())).collect();
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
        }
    }
}
