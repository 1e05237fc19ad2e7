//! Several dictionaries to one, with the new code of each old one.

use std::borrow::Cow;
use std::cmp::Reverse;
use std::collections::BinaryHeap;
use std::ops::Range;

use rayon::prelude::*;

use super::super::sorted::SortedInts;
use super::super::texts::TextList;
use super::template::Template;
use super::{PLAIN_BYTES, TextDictionary};

/// Numbers of a list that are worth a thread of their own.
const FEWEST_MERGED: usize = 1 << 12;

/// One dictionary of all texts, and for each given one by code the new code.
pub fn merge(parts: &[&TextDictionary]) -> (TextDictionary, Vec<Vec<u32>>) {
    if let [only] = parts {
        return ((*only).clone(), vec![(0..only.len() as u32).collect()]);
    }
    match by_rank(parts) {
        Some(merged) => merged,
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
            None => std::collections::binary_heap::PeekMut::pop(top).0.0,
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
    let count = template.count()?;
    let ranks: Vec<Cow<'_, SortedInts>> = parts.par_iter().map(|part| ranks_in(part, &template, count - 1)).collect();
    let (merged, to) = merged_ranks(&ranks);
    let ranks = SortedInts::new(merged.iter().copied(), count - 1);
    Some((TextDictionary::Ranked { template, ranks }, to))
}

/// The numbers of all lists in order, each once, and for each list by place where its number is among them.
fn merged_ranks(lists: &[Cow<'_, SortedInts>]) -> (Vec<u64>, Vec<Vec<u32>>) {
    // Ranges of numbers that are merged by themselves; the longest list tells where others may be cut, too.
    let longest = lists.iter().max_by_key(|list| list.len());
    let ranges = rayon::current_num_threads().min(longest.map_or(0, |list| list.len() / FEWEST_MERGED)).max(1);
    let cut = |i: usize| longest.filter(|_| 0 < i && i < ranges).map(|list| list.get(list.len() * i / ranges));
    let merged_range = |i: usize| {
        let bound = |list: &SortedInts, at: Option<u64>, end: usize| at.map_or(end, |at| list.rank(at));
        let within = |list: &Cow<'_, SortedInts>| bound(list, cut(i), 0)..bound(list, cut(i + 1), list.len());
        let parts: Vec<Range<usize>> = lists.iter().map(within).collect();
        let mut to: Vec<Vec<u32>> = parts.iter().map(|p| Vec::with_capacity(p.len())).collect();
        let mut merged: Vec<u64> = Vec::with_capacity(parts.iter().map(Range::len).sum());
        let mut numbers: Vec<_> =
            lists.iter().zip(parts).map(|(list, part)| list.iter_from(part.start).take(part.len())).collect();
        in_order(&mut numbers, |list, rank| {
            if merged.last() != Some(&rank) {
                merged.push(rank);
            }
            to[list].push(merged.len() as u32 - 1);
        });
        (merged, to)
    };
    let each: Vec<(Vec<u64>, Vec<Vec<u32>>)> = (0..ranges).into_par_iter().map(merged_range).collect();
    let mut each = each.into_iter();
    let (mut merged, mut to) = each.next().unwrap_or_default();
    for (numbers, places) in each {
        let before = merged.len() as u32;
        merged.extend(numbers);
        to.iter_mut().zip(places).for_each(|(all, part)| all.extend(part.into_iter().map(|place| before + place)));
    }
    (merged, to)
}

/// The numbers that a dictionary's texts have in a wider template.
fn ranks_in<'p>(part: &'p TextDictionary, wider: &Template, most: u64) -> Cow<'p, SortedInts> {
    match part {
        TextDictionary::Ranked { template, ranks } if template == wider => Cow::Borrowed(ranks),
        _ => {
            let mut ranks = Vec::with_capacity(part.len());
            // Every text of a part fits the template that was made of all parts.
            part.each(|text| ranks.push(wider.rank(text.as_bytes()).unwrap_or(0)));
            Cow::Owned(SortedInts::new(ranks.iter().copied(), most))
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn codes_of_all_parts_find_their_texts_again() {
        let id = |i: u64| format!("K{:06}", i.wrapping_mul(0x9E37_79B9_7F4A_7C15) >> 45);
        let long = |i: u64| format!("line {} of a text that is the same for most", i % 3000);
        let makers: [&dyn Fn(u64) -> String; 3] = [&id, &long, &|i| format!("R{}", i % 40)];
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
                lists.iter().map(|l| TextDictionary::new(&l.iter().map(String::as_str).collect())).collect();
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
