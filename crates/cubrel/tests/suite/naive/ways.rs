//! Which table looks values up in which: every way is tried, and those are kept that the rules allow.

use std::collections::HashMap;

use cubrel::formula::schema::{RelationshipId, Schema, TableId};

/// From a table to each one that it looks values up in: the relationships that lead there.
///
/// A way goes over default relationships and over those named by `via`. Wherever it comes from the many side of a named
/// one to its one side, it has taken that one and nothing else; also where the two sides are one table, so that coming to
/// the table is going on over it. A way over a named one is preferred to one that goes round it.
pub fn from(schema: &Schema, table: TableId, detours: &[RelationshipId]) -> HashMap<TableId, Vec<RelationshipId>> {
    let ends = |id: RelationshipId| (schema.relationship(id).many, schema.relationship(id).one);
    let mut named: HashMap<(TableId, TableId), RelationshipId> = HashMap::new();
    for id in detours {
        named.insert(ends(*id), *id);
    }
    let count = schema.relationships.len() as u32;
    let allowed: Vec<RelationshipId> = (0..count)
        .map(RelationshipId)
        .filter(|id| !schema.relationship(*id).spare || named.get(&ends(*id)) == Some(id))
        .collect();
    let mut all: Vec<Vec<RelationshipId>> = vec![Vec::new()];
    let mut found: HashMap<TableId, Vec<RelationshipId>> = HashMap::new();
    let names = |way: &[RelationshipId]| way.iter().filter(|id| named.values().any(|n| n == *id)).count();
    while let Some(way) = all.pop() {
        let at = way.last().map_or(table, |id| ends(*id).1);
        if is_allowed(table, &way, &named, &ends) {
            let better = found.get(&at).is_none_or(|old| names(&way) > names(old));
            if better {
                found.insert(at, way.clone());
            }
        }
        if way.len() <= schema.tables.len() {
            let next = allowed.iter().filter(|id| ends(**id).0 == at);
            all.extend(next.map(|id| way.iter().copied().chain([*id]).collect::<Vec<_>>()));
        }
    }
    found
}

fn is_allowed(
    table: TableId,
    way: &[RelationshipId],
    named: &HashMap<(TableId, TableId), RelationshipId>,
    ends: &impl Fn(RelationshipId) -> (TableId, TableId),
) -> bool {
    let stops: Vec<TableId> = std::iter::once(table).chain(way.iter().map(|id| ends(*id).1)).collect();
    named.iter().all(|((many, one), id)| {
        let is_taken_once = |from: usize| {
            let came_by_it = from > 0 && way[from - 1] == *id;
            if came_by_it { way[from..].iter().all(|w| w != id) } else { way.get(from) == Some(id) }
        };
        if many == one {
            return (0..stops.len()).filter(|i| stops[*i] == *many).all(is_taken_once);
        }
        let pairs = (0..stops.len()).flat_map(|i| (i + 1..stops.len()).map(move |j| (i, j)));
        pairs.filter(|(i, j)| stops[*i] == *many && stops[*j] == *one).all(|(i, j)| way[i..j] == [*id])
    })
}
