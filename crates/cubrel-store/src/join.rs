//! Columns of consecutive rows to one: one encoding for all of them, and segments with its codes.

use super::codes::Segment;
use super::column::{CodedColumn, Encoding, SegmentBounds};
use super::dictionary::merge::merge;
use super::dictionary::{Interim, TextDictionary};
use super::encode::{NumberUse, Range, choose, divisor, packed_rows};
use super::floats::{float_key, scaled};
use cubrel_value::threads::{map_each, map_owned, map_parts};

impl CodedColumn {
    /// The rows of all parts, one after the other, in their segments. All parts have the same type.
    ///
    /// # Panics
    /// When there is no part.
    pub fn join(parts: Vec<CodedColumn>, used: NumberUse) -> CodedColumn {
        let Some(first) = parts.first() else { panic!("there is nothing to join") };
        let ty = first.ty;
        if parts.len() == 1 {
            return parts.into_iter().next().unwrap_or_else(|| unreachable!("there is one")).finalized();
        }
        let nulls = parts.iter().map(|p| p.nulls).sum();
        let cuts = SegmentBounds::joined(parts.iter().map(|p| &p.cuts));
        let joined = if parts.iter().any(|p| matches!(p.encoding, Encoding::Texts(_))) {
            texts(parts)
        } else {
            all_numbers(parts, used)
        };
        CodedColumn { ty, nulls, cuts, ..joined }
    }

    /// The same values, coded for what they are used for.
    #[must_use]
    pub fn used_as(&self, used: NumberUse) -> CodedColumn {
        match &self.encoding {
            Encoding::Texts(_) => self.clone(),
            _ => numbers(vec![self.clone()], vec![UsedCodes::of_column(self)], used).with_rows_of(self),
        }
    }

    /// Only some of the segments, without codes that no row of them has.
    #[must_use]
    pub fn only(&self, segments: std::ops::Range<usize>) -> CodedColumn {
        let kept = &self.segments[segments.clone()];
        let cuts = SegmentBounds::of(kept.iter().map(Segment::len));
        let nulls = if self.nulls == 0 {
            0
        } else {
            kept.iter().map(|s| s.all().iter().filter(|c| **c == self.domain).count() as u64).sum()
        };
        let part = CodedColumn { cuts, nulls, segments: kept.to_vec(), checksum: None, ..self.clone() };
        match &self.encoding {
            Encoding::Texts(dictionary) => {
                let used = UsedCodes::of(kept, self.domain);
                if used.count() == self.domain {
                    return part;
                }
                let mut new_code = vec![0u64; dictionary.len()];
                let mut list = super::texts::TextList::default();
                let mut code = 0;
                dictionary.each(|text| {
                    if used.has(code) {
                        new_code[code as usize] = list.len() as u64;
                        list.push(text);
                    }
                    code += 1;
                });
                let domain = list.len() as u64;
                let segments =
                    part.segments.iter().map(|s| s.recoded((self.domain, domain), |c| new_code[c as usize])).collect();
                let encoding = Encoding::Texts(TextDictionary::for_now(&list, Interim::Packed));
                CodedColumn { encoding, domain, distinct: domain, segments, ..part }
            }
            _ => numbers(vec![part.clone()], vec![UsedCodes::of(kept, self.domain)], NumberUse::as_in(self))
                .with_rows_of(&part),
        }
    }

    /// The same column with what was coded with little effort coded with all.
    pub(super) fn finalized(self) -> CodedColumn {
        match self.encoding {
            Encoding::Texts(dictionary) => CodedColumn { encoding: Encoding::Texts(dictionary.finalized()), ..self },
            _ => self,
        }
    }

    fn with_rows_of(self, other: &CodedColumn) -> CodedColumn {
        CodedColumn { ty: other.ty, nulls: other.nulls, cuts: other.cuts.clone(), ..self }
    }
}

/// Which codes occur, as one bit each where that takes less than a list.
enum UsedCodes {
    /// All of so many.
    All(u64),
    Bits(Vec<u64>),
    List(Vec<u64>),
}

impl UsedCodes {
    /// Those of a whole column.
    fn of_column(column: &CodedColumn) -> UsedCodes {
        if column.distinct == column.domain {
            return UsedCodes::All(column.domain);
        }
        UsedCodes::of(&column.segments, column.domain)
    }

    fn of(segments: &[Segment], domain: u64) -> UsedCodes {
        let rows: usize = segments.iter().map(Segment::len).sum();
        if domain < 64 * rows as u64 + 4096 {
            // The last bit is null's.
            let mut bits = vec![0u64; domain as usize / 64 + 1];
            segments.iter().for_each(|s| s.each_code(|c| bits[c as usize / 64] |= 1 << (c % 64)));
            bits[domain as usize / 64] &= !(1 << (domain % 64));
            return UsedCodes::Bits(bits);
        }
        let mut list = Vec::with_capacity(rows);
        segments.iter().for_each(|s| s.each_code(|c| list.push(c)));
        list.sort_unstable();
        list.dedup();
        list.retain(|c| *c < domain);
        UsedCodes::List(list)
    }

    fn count(&self) -> u64 {
        match self {
            UsedCodes::All(count) => *count,
            UsedCodes::Bits(bits) => bits.iter().map(|w| u64::from(w.count_ones())).sum(),
            UsedCodes::List(list) => list.len() as u64,
        }
    }

    fn has(&self, code: u64) -> bool {
        match self {
            UsedCodes::All(count) => code < *count,
            UsedCodes::Bits(bits) => bits[code as usize / 64] >> (code % 64) & 1 == 1,
            UsedCodes::List(list) => list.binary_search(&code).is_ok(),
        }
    }

    /// All codes that occur, in order.
    fn iter(&self) -> Box<dyn Iterator<Item = u64> + '_> {
        match self {
            UsedCodes::All(count) => Box::new(0..*count),
            UsedCodes::List(list) => Box::new(list.iter().copied()),
            UsedCodes::Bits(bits) => Box::new(bits.iter().enumerate().flat_map(|(i, word)| {
                let mut word = *word;
                std::iter::from_fn(move || {
                    let bit = u64::from(word.trailing_zeros());
                    (word != 0).then(|| {
                        word &= word - 1;
                        i as u64 * 64 + bit
                    })
                })
            })),
        }
    }
}

/// What the parts become; rows and nulls are the caller's.
fn assembled(
    of: CodedColumn,
    encoding: Encoding,
    digits: Option<u8>,
    domain: u64,
    distinct: u64,
    segments: Vec<Segment>,
) -> CodedColumn {
    CodedColumn { encoding, digits, domain, distinct, segments, checksum: None, ..of }
}

fn texts(parts: Vec<CodedColumn>) -> CodedColumn {
    let empty = TextDictionary::new(&super::texts::TextList::default());
    let dictionaries: Vec<&TextDictionary> =
        parts.iter().map(|p| if let Encoding::Texts(d) = &p.encoding { d } else { &empty }).collect();
    let (merged, to) = merge(&dictionaries);
    let domain = merged.len() as u64;
    // Each part goes when it has been coded anew, so that not all of them are there twice.
    let turned = |(CodedColumn { segments, domain: before, .. }, to): (CodedColumn, Vec<u32>)| -> Vec<Segment> {
        let turned = |s: Segment| s.recoded((before, domain), |c| u64::from(to[c as usize]));
        segments.into_iter().map(turned).collect()
    };
    let segments: Vec<Vec<Segment>> = map_owned(parts.into_iter().zip(to).collect(), turned);
    let segments = segments.into_iter().flatten().collect();
    assembled(CodedColumn::empty(cubrel_value::Type::Text), Encoding::Texts(merged), None, domain, domain, segments)
}

/// Numbers of parts as whole numbers that can be compared between parts.
struct Common {
    digits: Option<u8>,
}

impl Common {
    fn of(parts: &[CodedColumn]) -> Common {
        let some: Vec<&CodedColumn> = parts.iter().filter(|p| p.distinct > 0).collect();
        let digits = some.iter().map(|p| p.digits).try_fold(0, |most, d| Some(most.max(d?)));
        // Decimals with more digits have room for smaller numbers only.
        let fits = |digits: u8| {
            some.iter().all(|p| {
                p.digits == Some(digits)
                    || [0, p.domain - 1].iter().all(|c| scaled(p.float_of(p.int_of(*c)), digits).is_some())
            })
        };
        Common { digits: digits.filter(|d| !some.is_empty() && fits(*d)) }
    }

    /// A part's number as one that all parts share.
    fn shared(&self, part: &CodedColumn, v: i64) -> i64 {
        if part.ty != cubrel_value::Type::Float || part.digits == self.digits {
            return v;
        }
        match self.digits {
            Some(digits) => scaled(part.float_of(v), digits).unwrap_or(0),
            None => float_key(part.float_of(v)),
        }
    }
}

fn all_numbers(parts: Vec<CodedColumn>, to_be: NumberUse) -> CodedColumn {
    let used = map_each(&parts, UsedCodes::of_column);
    numbers(parts, used, to_be)
}

/// Of each part only the codes that occur count; a list of what they stand for would take more than all the codes.
fn numbers(parts: Vec<CodedColumn>, used: Vec<UsedCodes>, to_be: NumberUse) -> CodedColumn {
    let common = Common::of(&parts);
    let of_part = |(part, used): (&CodedColumn, &UsedCodes)| -> std::vec::IntoIter<i64> {
        let listed = part.listed();
        let number = |code: u64| listed.as_ref().map_or_else(|| part.int_of(code), |list| list[code as usize]);
        used.iter().map(|code| common.shared(part, number(code))).collect::<Vec<i64>>().into_iter()
    };
    let values = || parts.iter().zip(&used).flat_map(of_part);
    let nulls = parts.iter().map(|p| p.nulls as usize).sum();
    let rows = packed_rows(parts.iter().map(CodedColumn::rows).sum(), nulls);
    let has_nulls = parts.iter().any(|p| p.nulls > 0);
    let Some(range) = joined_range(map_parts(parts.len(), |i| Range::of(of_part((&parts[i], &used[i]))))) else {
        let encoding = Encoding::Offset { base: 0, step: 1 };
        let segments = parts.iter().flat_map(|p| &p.segments).map(|s| s.recoded((0, 0), |_| 0)).collect();
        return assembled(CodedColumn::empty(parts[0].ty), encoding, None, 0, 0, segments);
    };
    let (encoding, domain, distinct) = choose(range, values, rows, has_nulls, to_be);
    let empty = CodedColumn::empty(parts[0].ty);
    // Each part goes when it has been coded anew, so that not all of them are there twice.
    let recoded = |(part, used): (CodedColumn, UsedCodes)| recode(part, &used, &encoding, &common, domain);
    let segments: Vec<Vec<Segment>> = map_owned(parts.into_iter().zip(used).collect(), recoded);
    assembled(empty, encoding, common.digits, domain, distinct, segments.into_iter().flatten().collect())
}

fn joined_range(ranges: Vec<Option<Range>>) -> Option<Range> {
    let ranges: Vec<Range> = ranges.into_iter().flatten().collect();
    let min = ranges.iter().map(|r| r.min).min()?;
    let max = ranges.iter().map(|r| r.max).max()?;
    let mut step = 0;
    for range in &ranges {
        step = divisor(step, range.min.wrapping_sub(min) as u64);
        if range.max > range.min {
            step = divisor(step, range.step);
        }
    }
    Some(Range { min, max, step: step.max(1) })
}

/// A part's segments in the common encoding.
fn recode(part: CodedColumn, used: &UsedCodes, encoding: &Encoding, common: &Common, domain: u64) -> Vec<Segment> {
    let null = (part.domain, domain);
    let same_numbers = part.digits == common.digits || part.ty != cubrel_value::Type::Float;
    match (&part.encoding, encoding) {
        (Encoding::Offset { base, step }, Encoding::Offset { base: to, step: by }) if same_numbers => {
            let (shift, factor) = (base.wrapping_sub(*to) as u64, *step);
            if step == by {
                // Only a part that has lost its smallest numbers begins before all that there are.
                let up = if base >= to { shift / by } else { (shift.wrapping_neg() / by).wrapping_neg() };
                let moved = |s: Segment| match s.max < part.domain {
                    true => s.shifted(up),
                    false => s.recoded(null, |c| c.wrapping_add(up)),
                };
                return part.segments.into_iter().map(moved).collect();
            }
            // Codes that do not occur may lie between steps.
            let code = |c: u64| shift.wrapping_add(c.wrapping_mul(factor)) / by;
            part.segments.iter().map(|s| s.recoded(null, code)).collect()
        }
        _ => {
            let codes: Vec<u64> = used.iter().collect();
            let numbers: Vec<i64> = part.ints_of(&codes).into_iter().map(|v| common.shared(&part, v)).collect();
            let mut new: Vec<u64> = Vec::with_capacity(codes.len());
            encoding.each_code_of(domain, &numbers, |code| new.push(code.unwrap_or(0)));
            let code = |c: u64| codes.binary_search(&c).map_or(0, |place| new[place]);
            if part.domain < 4 * codes.len() as u64 + 4096 {
                let mut table = vec![0u64; part.domain as usize];
                codes.iter().zip(&new).for_each(|(c, n)| table[*c as usize] = *n);
                return part.segments.iter().map(|s| s.recoded(null, |c| table[c as usize])).collect();
            }
            part.segments.iter().map(|s| s.recoded(null, code)).collect()
        }
    }
}
