//! The files of a table in groups, each with segments of its own, so that a refresh reads again only the groups that have
//! changed.

use crate::database::PeriodOfRows;
use std::sync::Arc;

use super::TableReport;
use super::assembler::EncodedTable;
use super::loaded::{LoadedColumn, LoadedTable, Partition};
use super::sources::FileStamp;
use super::staging::{BadRows, EXAMPLES};
use cubrel_formula::schema::Computed;
use cubrel_store::CodedColumn;
use cubrel_store::encode::NumberUse;
use cubrel_value::Type;
use cubrel_value::threads::map_costliest_first;

/// Small files are put together until they have so many bytes: segments of few rows cost more than they help.
const GROUP_BYTES: u64 = 32 << 20;

/// Files that are to be loaded together.
#[derive(Clone, Debug, Default)]
pub struct Group {
    /// Which of the table's sources they belong to.
    pub source: usize,
    /// The files.
    pub files: Vec<FileStamp>,
    /// Which rows of a database.
    pub period: Option<PeriodOfRows>,
    /// The number of the partition that they were loaded to before, when nothing about them has changed.
    pub kept: Option<usize>,
}

impl Group {
    /// Bytes of the files.
    pub fn bytes(&self) -> u64 {
        self.files.iter().map(|f| f.bytes).sum()
    }
}

/// The files of one of the sources in groups: partitions that are still the same, and what is between them.
pub fn groups(source: usize, files: &[FileStamp], before: &[Partition]) -> Vec<Group> {
    let same = |from: usize| -> Option<(usize, usize)> {
        let is_it = |p: &Partition| p.source == source && !p.files.is_empty() && files[from..].starts_with(&p.files);
        let place = before.iter().position(is_it)?;
        Some((place, before[place].files.len()))
    };
    let mut groups: Vec<Group> = Vec::new();
    let mut at = 0;
    while at < files.len() {
        if let Some((place, count)) = same(at) {
            let group = Group { source, files: files[at..at + count].to_vec(), kept: Some(place), period: None };
            at += count;
            // A small partition is read again with the new files that follow it, so that groups grow.
            let grows = at < files.len() && group.bytes() < GROUP_BYTES && same(at).is_none();
            if !grows {
                groups.push(group);
                continue;
            }
            groups.push(Group { kept: None, ..group });
        }
        match groups.last_mut() {
            Some(last) if last.kept.is_none() && last.bytes() + files[at].bytes <= GROUP_BYTES => {
                last.files.push(files[at].clone());
            }
            _ => groups.push(Group { source, files: vec![files[at].clone()], ..Group::default() }),
        }
        at += 1;
    }
    groups
}

/// The parts of a database's table: those that were over before the day `since` are kept.
pub fn periods(
    (source, files): (usize, &[FileStamp]),
    periods: Vec<PeriodOfRows>,
    before: &[Partition],
    since: Option<i32>,
) -> Vec<Group> {
    let group = |period: PeriodOfRows| {
        let place = before.iter().position(|p| p.source == source && p.period == Some(period));
        let kept = place.filter(|_| since.is_some_and(|day| period.is_before(day)));
        Group { source, files: files.to_vec(), period: Some(period), kept }
    };
    periods.into_iter().map(group).collect()
}

/// Whether what was read has the columns and types of what is kept.
pub(super) fn fit(encoded: &EncodedTable, groups: &[Group], before: Option<&LoadedTable>) -> bool {
    let Some(before) = before.filter(|_| groups.iter().any(|g| g.kept.is_some())) else {
        return true;
    };
    let Some(segment) = encoded.partitions.iter().find_map(|p| p.segments.first()) else {
        return true;
    };
    let old: Vec<(&str, Type)> = before.columns.iter().map(|c| (c.name.as_str(), c.data.ty())).collect();
    let new: Vec<(&str, Type)> =
        encoded.names.iter().zip(segment).map(|((name, _), data)| (name.as_str(), data.ty())).collect();
    old == new
}

/// The table of what was read and what was kept.
pub(super) fn joined(
    name: &str,
    groups: Vec<Group>,
    mut encoded: EncodedTable,
    before: Option<&LoadedTable>,
    keys: &[String],
) -> LoadedTable {
    let mut names = std::mem::take(&mut encoded.names);
    if let (Some(before), true) = (before, groups.iter().all(|g| g.kept.is_some())) {
        names = before.columns.iter().map(|c| (c.name.clone(), c.computed)).collect();
    }
    let notes = std::mem::take(&mut encoded.notes);
    let mut report = TableReport { table: name.to_string(), notes, ..TableReport::default() };
    let mut parts: Vec<Vec<CodedColumn>> = names.iter().map(|_| Vec::new()).collect();
    let mut partitions = Vec::new();
    let mut read = encoded.partitions.into_iter().chain(std::iter::repeat_with(Default::default));
    for group in groups {
        let own = read.next().unwrap_or_default();
        let partition = match (group.kept, before) {
            (Some(place), Some(before)) => {
                let first: usize = before.partitions[..place].iter().map(|p| p.segments).sum();
                // Periods that are kept belong to the file as it is now, whatever has changed in others.
                let kept = Partition { files: group.files, ..before.partitions[place].clone() };
                let range = first..first + kept.segments;
                parts
                    .iter_mut()
                    .zip(&before.columns)
                    .for_each(|(all, c)| all.push(c.data.verified().only(range.clone())));
                kept
            }
            _ => {
                report.read = true;
                report.parts_read += 1;
                let BadRows { count: bad_rows, examples: bad_examples } = own.bad;
                // Segments without rows are none in the end.
                let segments = own.segments.iter().filter(|s| s.first().is_some_and(|c| c.rows() > 0)).count();
                for segment in own.segments {
                    parts.iter_mut().zip(segment).for_each(|(all, part)| all.push(part));
                }
                Partition {
                    source: group.source,
                    files: group.files,
                    period: group.period,
                    segments,
                    bad_rows,
                    bad_examples,
                    filtered_rows: own.filtered,
                }
            }
        };
        count(&mut report, &partition);
        partitions.push(partition);
    }
    let join = |(parts, (name, _)): (Vec<CodedColumn>, &(String, Computed))| {
        let used = NumberUse::of(parts.first()?.ty(), keys.contains(name));
        Some(CodedColumn::join(parts, used))
    };
    let bytes = |part: &CodedColumn| {
        let (codes, dictionary) = part.heap_bytes();
        codes + dictionary
    };
    let columns = map_costliest_first(parts.into_iter().zip(&names), |(parts, _)| parts.iter().map(bytes).sum(), join);
    let columns: Vec<CodedColumn> = columns.into_iter().flatten().collect();
    let rows = columns.first().map_or(0, CodedColumn::rows);
    report.rows = rows as u64;
    let columns = names.into_iter().zip(columns).map(|((name, computed), data): ((String, Computed), CodedColumn)| {
        LoadedColumn { name, data: Arc::new(data), computed }
    });
    LoadedTable { name: name.to_string(), rows, columns: columns.collect(), report, partitions, fingerprint: 0 }
}

/// Counts what came of a partition.
fn count(report: &mut TableReport, partition: &Partition) {
    report.parts += 1;
    report.bad_rows += partition.bad_rows;
    report.bad_examples.extend(partition.bad_examples.iter().cloned());
    report.bad_examples.truncate(EXAMPLES);
    report.filtered_rows += partition.filtered_rows;
}

#[cfg(test)]
mod tests {
    use super::*;

    fn file(name: &str, mib: u64) -> FileStamp {
        FileStamp { path: name.into(), bytes: mib << 20, modified: 1, hash: 0 }
    }

    fn partition(files: &[FileStamp]) -> Partition {
        Partition {
            source: 0,
            files: files.to_vec(),
            period: None,
            segments: 1,
            bad_rows: 0,
            bad_examples: Vec::new(),
            filtered_rows: 0,
        }
    }

    fn shown(groups: &[Group]) -> String {
        let group = |g: &Group| {
            let names: Vec<String> = g.files.iter().map(|f| f.path.display().to_string()).collect();
            format!("{}{}", names.join("+"), g.kept.map_or(String::new(), |k| format!("={k}")))
        };
        groups.iter().map(group).collect::<Vec<_>>().join(" ")
    }

    #[test]
    fn only_groups_with_changed_files_are_read_again() {
        let [a, b, c, d] = [file("a", 40), file("b", 40), file("c", 1), file("d", 1)];
        let all = [a.clone(), b.clone(), c.clone(), d.clone()];
        assert_eq!(shown(&groups(0, &all, &[])), "a b c+d");
        let before = [partition(&all[..1]), partition(&all[1..2]), partition(&all[2..])];
        assert_eq!(shown(&groups(0, &all, &before)), "a=0 b=1 c+d=2");
        let changed = FileStamp { modified: 2, ..b.clone() };
        assert_eq!(shown(&groups(0, &[a.clone(), changed, c.clone(), d.clone()], &before)), "a=0 b c+d=2");
        assert_eq!(shown(&groups(0, &[b.clone(), c.clone(), d.clone()], &before)), "b=1 c+d=2", "the first is gone");
        let more = [a.clone(), b.clone(), c.clone(), d.clone(), file("e", 1)];
        assert_eq!(shown(&groups(0, &more, &before)), "a=0 b=1 c+d+e", "small ones grow");
        let large = [a, b, c, d, file("e", 40)];
        assert_eq!(shown(&groups(0, &large, &before)), "a=0 b=1 c+d e");
    }
}
