//! Columns that point at keys of other tables: by their names, and by how many of their values are keys there; and which of
//! several ways between two tables is taken.

use std::collections::HashMap;

use super::keys::{Contained, Refused, TableKey, found_there, likeness, may_be_there};
use super::table::Table;
use cubrel_load::loaded::LoadedColumn;
use cubrel_store::CodedColumn;
use cubrel_value::Value;
use cubrel_value::units::{self, counted};

/// A relationship with the evidence for it.
pub(super) struct Link {
    pub(super) many: (usize, String),
    pub(super) one: (usize, String),
    pub(super) evidence: String,
    /// Why it is none yet.
    pub(super) refused: Option<Refused>,
    pub(super) spare: bool,
    /// How much the names say so.
    alike: f64,
    score: f64,
}

/// Columns that point at keys of other tables; of several to one table the likeliest is the default.
pub(super) fn links(tables: &[Table]) -> Vec<Link> {
    // By table, its key or what is nearly one.
    let keys: Vec<Option<TableKey<'_>>> = tables.iter().map(TableKey::of).collect();
    let mut found: Vec<Link> = Vec::new();
    for (m, many) in tables.iter().enumerate() {
        let may_point = |c: &&LoadedColumn| many.key.as_deref() != Some(&c.name) && c.data.distinct() > 0;
        for c in many.loaded.columns.iter().filter(may_point) {
            let others = keys.iter().enumerate().filter(|(o, _)| *o != m);
            let candidates = others.filter_map(|(o, key)| link(tables, (m, c), (o, key.as_ref()?)));
            found.extend(candidates.max_by(|a, b| a.score.total_cmp(&b.score).then(b.one.0.cmp(&a.one.0))));
        }
    }
    make_unique(tables, &mut found);
    found
}

/// That a column of a table points at the key of another, where names and values say so.
fn link(tables: &[Table], (m, c): (usize, &LoadedColumn), (o, key): (usize, &TableKey<'_>)) -> Option<Link> {
    let alike = likeness(&tables[m], c, &tables[o], key.column)?;
    if key.column.data.distinct() < 2 || !may_be_there(c, alike > 0.0, &key.column.data) {
        return None;
    }
    let names = if alike > 0.0 { ", and the names are alike" } else { "" };
    let Contained { values, share, is_enough, but_for_capitals } = found_there(c, alike > 0.0, key.values())?;
    let folded =
        but_for_capitals.map(|values| format!(", {} but for capitals and blanks", units::count(values as u64)));
    // What is certain comes before what may be.
    let certain = if is_enough { 1.0 } else { 0.0 };
    Some(Link {
        many: (m, c.name.clone()),
        one: (o, key.column.name.clone()),
        evidence: format!(
            "{} of its {} are keys there{}{names}",
            units::count(values as u64),
            counted(c.data.distinct(), "value"),
            folded.unwrap_or_default(),
        ),
        refused: key.refused.clone().or((!is_enough).then_some(Refused::InDoubt)),
        spare: false,
        alike,
        score: certain + alike + share,
    })
}

/// Between two tables there is one way that is taken by default: others become spare. What leads on for the most rows comes first, and of
/// that what rows say of themselves (the day of a booking before the day its port was opened), unless both say the same.
fn make_unique(tables: &[Table], links: &mut [Link]) {
    let mut order: Vec<usize> = (0..links.len()).filter(|i| links[*i].refused.is_none()).collect();
    let rows = |table: usize| tables[table].loaded.rows;
    let led: Vec<usize> =
        links.iter().map(|link| reaching(links, link.many.0).into_iter().map(rows).max().unwrap_or(0)).collect();
    order.sort_by(|a, b| {
        let key = |i: usize| (links[i].alike > 0.0, led[i], rows(links[i].many.0));
        key(*b).cmp(&key(*a)).then(links[*b].score.total_cmp(&links[*a].score)).then(a.cmp(b))
    });
    let mut taken: Vec<usize> = Vec::new();
    for i in order {
        if !has_two_ways(&edges(links, &taken, Some(i))) {
            taken.push(i);
            continue;
        }
        links[i].spare = true;
        let same = said_again(tables, links, &taken, i);
        let without: Vec<usize> = taken.iter().copied().filter(|t| !same.contains(t)).collect();
        if !same.is_empty() && !has_two_ways(&edges(links, &without, Some(i))) {
            same.iter().for_each(|direct| links[*direct].spare = true);
            links[i].spare = false;
            taken = without;
            taken.push(i);
        }
    }
}

/// The tables whose rows lead to those of one, itself among them.
fn reaching(links: &[Link], table: usize) -> Vec<usize> {
    let mut found = vec![table];
    let mut at = 0;
    while let Some(one) = found.get(at).copied() {
        for link in links.iter().filter(|link| link.refused.is_none() && link.one.0 == one) {
            if !found.contains(&link.many.0) {
                found.push(link.many.0);
            }
        }
        at += 1;
    }
    found
}

fn edges(links: &[Link], taken: &[usize], more: Option<usize>) -> Vec<(usize, usize)> {
    taken.iter().copied().chain(more).map(|i| (links[i].many.0, links[i].one.0)).collect()
}

/// The relationships among those that are taken whose rows point, nearly all, where they lead over others and then by this one; none
/// where rows of any of them point elsewhere.
fn said_again(tables: &[Table], links: &[Link], taken: &[usize], last: usize) -> Vec<usize> {
    let (middle, end) = (links[last].many.0, links[last].one.0);
    let direct = taken.iter().copied().filter(|direct| links[*direct].one.0 == end);
    let ways = direct.filter_map(|direct| Some((direct, way(links, taken, links[direct].many.0, middle)?)));
    let is_same = |(direct, way): (usize, Vec<usize>)| {
        let over: Vec<&Link> = way.iter().chain([&last]).map(|i| &links[*i]).collect();
        is_the_same_way(tables, &links[direct], &over).then_some(direct)
    };
    ways.map(is_same).collect::<Option<Vec<usize>>>().unwrap_or_default()
}

/// The relationships that lead from one table to another; they do so in one way at most.
fn way(links: &[Link], taken: &[usize], from: usize, to: usize) -> Option<Vec<usize>> {
    let next = |i: &usize| {
        let table = links[*i].one.0;
        let rest = if table == to { Vec::new() } else { way(links, taken, table, to)? };
        Some([*i].into_iter().chain(rest).collect())
    };
    taken.iter().filter(|i| links[**i].many.0 == from).find_map(next)
}

fn is_the_same_way(tables: &[Table], direct: &Link, over: &[&Link]) -> bool {
    const LOOKED_AT: usize = 10_000;
    const SAME_PERCENT: usize = 99;
    let column = |(table, name): &(usize, String)| tables[*table].column(name).map(|c| &c.data);
    let values = |of: &CodedColumn, rows: &[u32]| -> Vec<Value> {
        of.codes_at(rows).into_iter().map(|code| of.value_of(code)).collect()
    };
    let (Some(own), Some(first)) = (column(&direct.many), over.first().and_then(|first| column(&first.many))) else {
        return false;
    };
    let rows: Vec<u32> = (0..own.rows() as u32).step_by(own.rows().div_ceil(LOOKED_AT).max(1)).collect();
    let mut reached = values(first, &rows);
    for step in over.windows(2) {
        let (Some(key), Some(next)) = (column(&step[0].one), column(&step[1].many)) else { return false };
        let all: Vec<u32> = (0..key.rows() as u32).collect();
        let leads: HashMap<Value, Value> = values(key, &all).into_iter().zip(values(next, &all)).collect();
        reached.iter_mut().for_each(|value| *value = leads.get(value).cloned().unwrap_or(Value::Null));
    }
    let own = values(own, &rows);
    let known = own.iter().zip(&reached).filter(|(own, reached)| !own.is_null() && !reached.is_null());
    let same: Vec<bool> = known.map(|(own, reached)| own == reached).collect();
    !same.is_empty() && same.iter().filter(|same| **same).count() * 100 >= same.len() * SAME_PERCENT
}

pub(super) fn has_two_ways(edges: &[(usize, usize)]) -> bool {
    fn ways(edges: &[(usize, usize)], from: usize, depth: usize, seen: &mut HashMap<usize, usize>) {
        if depth > edges.len() {
            return;
        }
        for (_, to) in edges.iter().filter(|(f, _)| *f == from) {
            *seen.entry(*to).or_default() += 1;
            ways(edges, *to, depth + 1, seen);
        }
    }
    edges.iter().any(|(from, _)| {
        let mut seen = HashMap::new();
        ways(edges, *from, 0, &mut seen);
        seen.iter().any(|(to, n)| *n > 1 || to == from)
    })
}

pub(super) fn place(tables: &[Table], at: &(usize, String)) -> String {
    format!("{}.{}", tables[at.0].name, at.1)
}

pub(super) fn is_one(links: &[Link], tables: &[Table], name: &str) -> bool {
    let is_meant = |l: &&Link| !matches!(l.refused, Some(Refused::InDoubt));
    links.iter().filter(is_meant).any(|l| tables[l.one.0].name == name)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn between_two_tables_there_is_one_way() {
        let cases: &[(&[(usize, usize)], bool)] = &[
            (&[], false),
            (&[(0, 1), (0, 2), (1, 3)], false),
            (&[(0, 1), (0, 1)], true),
            (&[(0, 1), (1, 2), (0, 2)], true),
            (&[(0, 1), (1, 0)], true),
            (&[(0, 0)], true),
            (&[(0, 1), (0, 2), (1, 3), (2, 3)], true),
        ];
        for (edges, expected) in cases {
            assert_eq!(has_two_ways(edges), *expected, "{edges:?}");
        }
    }
}
