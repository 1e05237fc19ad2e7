//! Numbers in place of texts of which no more is wanted than whether they differ.

use std::collections::HashMap;
use std::sync::Arc;

type NumbersOfTexts<'t> = HashMap<&'t str, i64, foldhash::fast::RandomState>;

/// For each text a number, the same for the same text, and any for null. As long as the texts stand in order, as what a dictionary's
/// texts begin with does, none has to be looked up.
pub(super) fn numbered(texts: &[Arc<str>], valid: Option<&[bool]>) -> Vec<i64> {
    let mut numbers = vec![0; texts.len()];
    let (mut known, mut ordered): (Option<NumbersOfTexts<'_>>, Vec<(&str, i64)>) = (None, Vec::new());
    let mut next = 0;
    let is_valid = |i: &usize| valid.is_none_or(|valid| valid[*i]);
    for i in (0..texts.len()).filter(is_valid) {
        let text = &*texts[i];
        let mut new = || {
            next += 1;
            next
        };
        numbers[i] = match (&mut known, ordered.last()) {
            (None, Some((last, number))) if *last == text => *number,
            (None, last) if last.is_none_or(|(last, _)| *last < text) => {
                ordered.push((text, new()));
                next
            }
            (known, _) => {
                *known.get_or_insert_with(|| ordered.iter().copied().collect()).entry(text).or_insert_with(new)
            }
        };
    }
    numbers
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_same_texts_have_the_same_numbers_in_order_and_out_of_it() {
        let cases: [&[&str]; 5] = [
            &[],
            &["a", "a", "b", "c", "c"],
            &["b", "a", "b", "a", "c"],
            &["a", "b", "a", "d", "d", "b"],
            &["", "", "x"],
        ];
        for texts in cases {
            let texts: Vec<Arc<str>> = texts.iter().map(|text| Arc::from(*text)).collect();
            let numbers = numbered(&texts, None);
            for (a, x) in texts.iter().zip(&numbers) {
                assert!(texts.iter().zip(&numbers).all(|(b, y)| (a == b) == (x == y)), "{texts:?}: {numbers:?}");
            }
        }
        let texts = ["b", "", "c", "b"].map(Arc::from);
        let numbers = numbered(&texts, Some(&[true, false, true, true]));
        assert!(numbers[0] == numbers[3] && numbers[0] != numbers[2]);
    }
}
