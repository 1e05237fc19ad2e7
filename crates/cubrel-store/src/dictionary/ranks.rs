//! The numbers of a dictionary's texts, in order: the first ones by their distances, the second ones packed.

use super::super::bits::{PackedInts, bits_for};
use super::super::codes::Unpacked;
use super::super::sorted::SortedInts;
use super::template::TemplateRank;

/// Different numbers of texts in order.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RankList {
    first: SortedInts,
    /// No bits where one number says all.
    second: PackedInts,
}

impl RankList {
    /// From numbers in order, none of which is greater than `most`.
    pub fn new(ranks: impl ExactSizeIterator<Item = TemplateRank> + Clone, most: TemplateRank) -> RankList {
        let first = SortedInts::new(ranks.clone().map(|rank| rank.0), most.0);
        RankList { first, second: PackedInts::pack(ranks.map(|rank| rank.1), bits_for(most.1)) }
    }

    /// How many bytes [`RankList::new`] will take.
    pub fn bytes_for(len: usize, most: TemplateRank) -> usize {
        SortedInts::bytes_for(len, most.0) + len.div_ceil(64) * usize::from(bits_for(most.1)) * 8
    }

    /// From what [`RankList::parts`] gave; `None` if they do not fit each other.
    pub fn from_parts(first: SortedInts, second: PackedInts) -> Option<RankList> {
        (first.len() == second.len()).then_some(RankList { first, second })
    }

    /// What a store file keeps.
    pub fn parts(&self) -> (&SortedInts, &PackedInts) {
        (&self.first, &self.second)
    }

    /// How many numbers.
    pub fn len(&self) -> usize {
        self.first.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.first.is_empty()
    }

    /// Bytes on the heap.
    pub fn heap_bytes(&self) -> usize {
        self.first.heap_bytes() + self.second.heap_bytes()
    }

    /// The number at `i`.
    ///
    /// # Panics
    /// When there are not so many.
    pub fn get(&self, i: usize) -> TemplateRank {
        (self.first.get(i), self.second.get(i))
    }

    /// The numbers from `i` on.
    pub fn iter_from(&self, i: usize) -> impl Iterator<Item = TemplateRank> + '_ {
        self.first.iter_from(i).zip(Unpacked::new(&self.second, i))
    }

    /// How many numbers are smaller than `rank`.
    pub fn smaller(&self, rank: TemplateRank) -> usize {
        let (mut low, mut high) = (0, self.len());
        while low < high {
            let middle = low.midpoint(high);
            if self.get(middle) < rank { low = middle + 1 } else { high = middle }
        }
        low
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_come_back_and_are_found() {
        let noise = |i: u64| i.wrapping_mul(0x9E37_79B9_7F4A_7C15);
        let narrow: Vec<TemplateRank> = (0..700).map(|i| (i * 1_000_003, 0)).collect();
        let mut wide: Vec<TemplateRank> = (0..700).map(|i| (noise(i / 3), noise(i + 9000))).collect();
        wide.extend([(0, 0), (u64::MAX, u64::MAX), (u64::MAX, 0)]);
        wide.sort_unstable();
        for ranks in [Vec::new(), vec![(7, 9)], narrow, wide] {
            let most = ranks.iter().fold((0, 0), |most, r| (r.0.max(most.0), r.1.max(most.1)));
            let list = RankList::new(ranks.iter().copied(), most);
            assert_eq!(list.heap_bytes(), RankList::bytes_for(ranks.len(), most));
            assert_eq!((list.len(), list.is_empty()), (ranks.len(), ranks.is_empty()));
            for (i, rank) in ranks.iter().enumerate() {
                assert_eq!((list.get(i), list.smaller(*rank)), (*rank, i));
                assert_eq!(list.smaller((rank.0, rank.1.saturating_add(1))), i + usize::from(rank.1 < u64::MAX));
            }
            for start in [0, 1, 63, 64, 65, ranks.len()] {
                let start = start.min(ranks.len());
                assert_eq!(list.iter_from(start).collect::<Vec<_>>(), ranks[start..], "from {start}");
            }
            let (first, second) = (list.first.clone(), list.second.clone());
            assert_eq!(RankList::from_parts(first.clone(), second), Some(list));
            let other = PackedInts::pack(std::iter::repeat_n(0, ranks.len() + 1), 0);
            assert_eq!(RankList::from_parts(first, other), None);
        }
    }
}
