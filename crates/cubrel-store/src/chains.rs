//! What chains of relationships lead to, for each code of the key that they begin with: worked out when it is first asked for, and kept
//! while it is used.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};

use super::{CodedColumn, Lookup};
use cubrel_formula::schema::{ColumnId, RelationshipId, TableId};
use cubrel_value::threads::{WORTH_A_THREAD, map_many, map_ranges};

/// So much is kept together.
const MOST_BYTES: usize = 64 << 20;
/// Nothing is kept that takes more than one part in so many of it.
const PARTS: usize = 2;

/// What stands at the end of a chain.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum ChainEnd {
    /// The codes of a column.
    Column(ColumnId),
    /// The rows of a table, and one more than it has for none.
    Row(TableId),
}

/// For each code of a key what its rows find at the end of a chain, in as few bytes as that takes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ChainCodes {
    /// Each of so many codes finds the number that it is itself.
    Same(usize),
    /// In a byte each.
    Bytes(Vec<u8>),
    /// In two.
    Halves(Vec<u16>),
    /// In four.
    Words(Vec<u32>),
    /// In eight.
    Longs(Vec<u64>),
}

/// Does the same with codes of each width; where each code finds itself, they are written out on the way.
#[macro_export]
macro_rules! with_chain_codes {
    ($codes:expr, |$each:ident| $body:expr) => {
        match $codes {
            $crate::ChainCodes::Same(len) => {
                let all: Vec<u32> = (0..*len as u32).collect();
                let $each = all.as_slice();
                $body
            }
            $crate::ChainCodes::Bytes(all) => {
                let $each = all.as_slice();
                $body
            }
            $crate::ChainCodes::Halves(all) => {
                let $each = all.as_slice();
                $body
            }
            $crate::ChainCodes::Words(all) => {
                let $each = all.as_slice();
                $body
            }
            $crate::ChainCodes::Longs(all) => {
                let $each = all.as_slice();
                $body
            }
        }
    };
}

impl ChainCodes {
    /// As narrow as they fit.
    pub fn of(codes: Vec<u64>) -> ChainCodes {
        let most = map_ranges(codes.len(), WORTH_A_THREAD, |some| codes[some].iter().copied().max())
            .into_iter()
            .flatten()
            .max();
        let most = most.unwrap_or(0);
        let is_same = u32::try_from(codes.len()).is_ok() && codes.iter().enumerate().all(|(i, code)| i as u64 == *code);
        match most {
            _ if is_same => ChainCodes::Same(codes.len()),
            0..=0xFF => ChainCodes::Bytes(map_many(&codes, |code| *code as u8)),
            0x100..=0xFFFF => ChainCodes::Halves(map_many(&codes, |code| *code as u16)),
            0x1_0000..=0xFFFF_FFFF => ChainCodes::Words(map_many(&codes, |code| *code as u32)),
            _ => ChainCodes::Longs(codes),
        }
    }

    /// How many codes the key has.
    pub fn count(&self) -> usize {
        match self {
            ChainCodes::Same(len) => *len,
            ChainCodes::Bytes(all) => all.len(),
            ChainCodes::Halves(all) => all.len(),
            ChainCodes::Words(all) => all.len(),
            ChainCodes::Longs(all) => all.len(),
        }
    }

    /// What a code of the key finds.
    #[inline]
    pub fn get(&self, code: u64) -> u64 {
        match self {
            ChainCodes::Same(_) => code,
            ChainCodes::Bytes(all) => u64::from(all[code as usize]),
            ChainCodes::Halves(all) => u64::from(all[code as usize]),
            ChainCodes::Words(all) => u64::from(all[code as usize]),
            ChainCodes::Longs(all) => all[code as usize],
        }
    }

    /// All of them.
    pub fn to_vec(&self) -> Vec<u64> {
        self.map(|code| code)
    }

    /// What `map` makes of each, on all threads where they are many.
    pub fn map<T: Copy + Default + Send>(&self, map: impl Fn(u64) -> T + Sync + Send) -> Vec<T> {
        with_chain_codes!(self, |codes| mapped(codes, map))
    }

    /// Bytes on the heap.
    pub fn heap_bytes(&self) -> usize {
        match self {
            ChainCodes::Same(_) => 0,
            ChainCodes::Bytes(all) => all.len(),
            ChainCodes::Halves(all) => 2 * all.len(),
            ChainCodes::Words(all) => 4 * all.len(),
            ChainCodes::Longs(all) => 8 * all.len(),
        }
    }
}

fn mapped<C: Copy + Into<u64> + Sync, T: Copy + Default + Send>(
    codes: &[C],
    map: impl Fn(u64) -> T + Sync + Send,
) -> Vec<T> {
    map_many(codes, |code| map((*code).into()))
}

/// What codes of a chain are made from. Where another column or relationship stands in its place, they are others.
#[derive(Clone, Debug)]
pub struct ChainSource {
    /// The column at the end.
    pub column: Option<Arc<CodedColumn>>,
    /// The relationships on the way.
    pub lookups: Vec<Arc<Lookup>>,
}

impl ChainSource {
    fn is(&self, other: &ChainSource) -> bool {
        let same_column = match (&self.column, &other.column) {
            (Some(a), Some(b)) => Arc::ptr_eq(a, b),
            (None, None) => true,
            _ => false,
        };
        let same_lookups = || self.lookups.iter().zip(&other.lookups).all(|(a, b)| Arc::ptr_eq(a, b));
        same_column && self.lookups.len() == other.lookups.len() && same_lookups()
    }
}

/// The key of what is kept.
type Chain = (ChainEnd, Vec<RelationshipId>);

#[derive(Debug)]
struct KeptChain {
    codes: Arc<ChainCodes>,
    source: ChainSource,
    /// When it was last asked for: how many had been asked for by then.
    used: u64,
}

#[derive(Debug, Default)]
struct KeptChains {
    chains: HashMap<Chain, KeptChain>,
    askings: u64,
}

impl KeptChains {
    fn bytes(&self) -> usize {
        self.chains.values().map(|chain| chain.codes.heap_bytes()).sum()
    }

    /// Lets go of what has not been used for longest, until there is room for so much more.
    fn make_room(&mut self, bytes: usize) {
        while self.bytes() + bytes > MOST_BYTES {
            let oldest = self.chains.iter().min_by_key(|(_, chain)| chain.used).map(|(key, _)| key.clone());
            let Some(oldest) = oldest else { return };
            self.chains.remove(&oldest);
        }
    }
}

/// Codes of chains, kept while they are used, up to 64 MiB of them.
#[derive(Debug, Default)]
pub struct Chains(Mutex<KeptChains>);

impl Clone for Chains {
    /// A copy of a store begins with none: it is there to be changed.
    fn clone(&self) -> Chains {
        Chains::default()
    }
}

impl Chains {
    /// The codes of a chain, worked out unless they are known.
    pub fn get(
        &self,
        end: ChainEnd,
        path: &[RelationshipId],
        source: ChainSource,
        work_out: impl FnOnce() -> ChainCodes,
    ) -> Arc<ChainCodes> {
        let kept = || self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let key = (end, path.to_vec());
        {
            let mut kept = kept();
            kept.askings += 1;
            let now = kept.askings;
            if let Some(chain) = kept.chains.get_mut(&key).filter(|chain| chain.source.is(&source)) {
                chain.used = now;
                return chain.codes.clone();
            }
        }
        let codes = Arc::new(work_out());
        if codes.heap_bytes() <= MOST_BYTES / PARTS {
            let mut kept = kept();
            kept.chains.remove(&key);
            kept.make_room(codes.heap_bytes());
            let used = kept.askings;
            kept.chains.insert(key, KeptChain { codes: codes.clone(), source, used });
        }
        codes
    }

    /// Bytes on the heap.
    #[cfg(any(test, feature = "internals"))]
    pub fn heap_bytes(&self) -> usize {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).bytes()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use cubrel_value::Type;

    fn end(index: u32) -> ChainEnd {
        ChainEnd::Column(ColumnId { table: TableId(0), index })
    }

    fn source(column: &Arc<CodedColumn>) -> ChainSource {
        ChainSource { column: Some(column.clone()), lookups: Vec::new() }
    }

    #[test]
    fn codes_take_as_few_bytes_as_they_need_and_come_back() {
        let most = |most: u64| -> Vec<u64> { vec![most, 0, most / 2, 3] };
        let cases: [(Vec<u64>, usize); 7] = [
            (most(200), 4),
            (most(256), 8),
            (most(65_535), 8),
            (most(65_536), 16),
            (most(1 << 32), 32),
            ((0..5).collect(), 0),
            (Vec::new(), 0),
        ];
        for (codes, bytes) in cases {
            let chain = ChainCodes::of(codes.clone());
            assert_eq!(chain.heap_bytes(), bytes, "{codes:?}");
            assert_eq!((chain.count(), chain.to_vec()), (codes.len(), codes.clone()));
            assert!((0..codes.len()).all(|i| chain.get(i as u64) == codes[i]), "{codes:?}");
        }
        let many: Vec<u64> = (0..200_000).map(|i| i % 70_000).collect();
        assert_eq!(ChainCodes::of(many.clone()).map(|code| code + 1), many.iter().map(|c| c + 1).collect::<Vec<_>>());
    }

    #[test]
    fn what_is_known_is_not_worked_out_again_unless_the_column_is_another() {
        let (chains, column) = (Chains::default(), Arc::new(CodedColumn::empty(Type::Int)));
        let first = chains.get(end(1), &[], source(&column), || ChainCodes::Bytes(vec![1]));
        let again = chains.get(end(1), &[], source(&column), || unreachable!());
        assert!(Arc::ptr_eq(&first, &again));
        let another = Arc::new(CodedColumn::empty(Type::Int));
        let anew = chains.get(end(1), &[], source(&another), || ChainCodes::Bytes(vec![2]));
        assert_eq!(*anew, ChainCodes::Bytes(vec![2]));
        assert_eq!(chains.heap_bytes(), 1);
        assert_eq!(chains.clone().heap_bytes(), 0);
    }

    #[test]
    fn what_was_not_used_for_longest_goes() {
        let (chains, column) = (Chains::default(), Arc::new(CodedColumn::empty(Type::Int)));
        let quarter = || ChainCodes::Bytes(vec![0; MOST_BYTES / 4]);
        (0..4).for_each(|i| drop(chains.get(end(i), &[], source(&column), quarter)));
        chains.get(end(0), &[], source(&column), || unreachable!());
        chains.get(end(4), &[], source(&column), quarter);
        assert_eq!(chains.heap_bytes(), MOST_BYTES);
        chains.get(end(0), &[], source(&column), || unreachable!());
        let mut is_gone = false;
        chains.get(end(1), &[], source(&column), || {
            is_gone = true;
            ChainCodes::Same(1)
        });
        assert!(is_gone);
        chains.get(end(9), &[], source(&column), || ChainCodes::Bytes(vec![0; MOST_BYTES]));
        assert!(chains.heap_bytes() <= MOST_BYTES, "what is too large is not kept");
    }
}
