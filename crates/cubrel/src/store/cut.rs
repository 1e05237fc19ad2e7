//! A column without some of its rows.

use std::ops::Range;
use std::sync::Arc;

use rayon::prelude::*;

use super::column::{Column, Cuts, SEGMENT_ROWS};

impl Column {
    /// The same as [`Column::with_rows`], made when it is used for the first time.
    #[must_use]
    pub fn with_rows_later(self: &Arc<Column>, keep: &Arc<Vec<bool>>) -> Column {
        let left = |range: Range<usize>| keep[range].iter().filter(|kept| **kept).count();
        let rows = |group: Range<usize>| group.map(|i| left(self.cuts().range(i))).sum();
        let cuts = Cuts::of(self.groups(keep).into_iter().map(rows));
        let (whole, keep) = (self.clone(), keep.clone());
        Column::deferred(self.ty(), cuts, move || whole.proven().with_rows(&keep))
    }

    /// The rows of which `keep` is true, coded as if there had never been others: no dictionary, bound or count tells of
    /// them.
    ///
    /// # Panics
    /// When `keep` is shorter than the column.
    #[must_use]
    pub fn with_rows(&self, keep: &[bool]) -> Column {
        let segment = |group: Range<usize>| {
            let part = |i: usize| {
                let kept = &keep[self.cuts().range(i)];
                let rows: Vec<u32> = (0..kept.len() as u32).filter(|row| kept[*row as usize]).collect();
                let own = self.only(i..i + 1);
                if rows.len() == kept.len() { own.raw() } else { own.raw().select(&rows) }
            };
            if group.len() == 1 && keep[self.cuts().range(group.start)].iter().all(|kept| *kept) {
                return self.only(group);
            }
            Column::of_parts(&group.map(part).collect::<Vec<_>>(), None)
        };
        let parts: Vec<Column> = self.groups(keep).into_par_iter().map(segment).collect();
        if parts.is_empty() { Column::empty(self.ty()) } else { Column::join(parts) }
    }

    /// Segments of which so little is left that they become one.
    fn groups(&self, keep: &[bool]) -> Vec<Range<usize>> {
        let mut groups: Vec<Range<usize>> = Vec::new();
        let mut room = 0;
        for (i, range) in self.cuts().ranges().enumerate() {
            let left = keep[range].iter().filter(|kept| **kept).count();
            if left == 0 && groups.is_empty() {
                continue;
            }
            match groups.last_mut() {
                Some(last) if left <= room => {
                    last.end = i + 1;
                    room -= left;
                }
                _ => {
                    groups.push(i..i + 1);
                    room = SEGMENT_ROWS.saturating_sub(left);
                }
            }
        }
        groups
    }
}
