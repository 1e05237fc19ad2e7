//! Keys that are reached over one relationship, and could have far more combinations than there are rows at its end: those that
//! these rows have are numbered, and count together as one key does. Four texts of 18,000 items have some 18,000 combinations, not
//! the product of how many of each there are; a row then finds the number of its group in an array, by the code of its item.

use super::super::combinations::packed;
use super::super::tables::Tables;
use super::keys::{codes_of, key_sizes};
use cubrel_formula::schema::RelationshipId;
use cubrel_plan::Read;
use cubrel_store::{ChainCodes, Ranks};

/// The combinations that several keys have in the rows of a table.
#[derive(Clone, Debug)]
pub(super) struct Combined {
    /// How one gets to the table.
    pub(super) relationship: RelationshipId,
    /// The keys, in their order.
    pub(super) keys: Vec<usize>,
    /// The number of the combination of each row, and of no row after them.
    of_rows: Vec<u32>,
    /// Key by key, the codes of each combination.
    pub(super) codes: Vec<Vec<u64>>,
}

impl Combined {
    /// Of the keys of a read that stand in some places, each with the rest of its way from the table at the end of a relationship.
    pub(super) fn of(
        tables: Tables<'_>,
        read: &Read,
        relationship: RelationshipId,
        keys: Vec<(usize, &[RelationshipId])>,
    ) -> Combined {
        let table = tables.schema.relationship(relationship).one;
        let rows: Vec<u32> = (0..tables.rows(table) as u32).collect();
        let of_key = |(key, path): &(usize, &[RelationshipId])| {
            let (mut codes, null) = codes_of(tables, read.keys[*key], path, rows.clone());
            codes.push(null);
            codes
        };
        let columns: Vec<Vec<u64>> = keys.iter().map(of_key).collect();
        let slices: Vec<&[u64]> = columns.iter().map(Vec::as_slice).collect();
        let all = key_sizes(tables, read);
        let sizes: Vec<u64> = keys.iter().map(|(key, _)| all[*key]).collect();
        let packed = (0..=rows.len()).map(packed(&slices, &sizes));
        let (firsts, of_rows) = match sizes.iter().try_fold(1u64, |all, size| all.checked_mul(*size)) {
            Some(_) => {
                let Ranks { firsts, places, .. } = Ranks::of(rows.len() + 1, packed.map(|key| key as u64));
                (firsts, places)
            }
            None => {
                let Ranks { firsts, places, .. } = Ranks::of_any(packed);
                (firsts, places)
            }
        };
        let of_combinations = |codes: &Vec<u64>| firsts.iter().map(|row| codes[*row as usize]).collect::<Vec<u64>>();
        let codes = columns.iter().map(of_combinations).collect();
        Combined { relationship, keys: keys.into_iter().map(|(key, _)| key).collect(), of_rows, codes }
    }

    /// How many combinations there are.
    pub(super) fn count(&self) -> u64 {
        self.codes.first().map_or(0, |codes| codes.len() as u64)
    }

    /// The codes of the first key in some combinations.
    pub(super) fn first_codes(&self, combinations: &[u64]) -> Vec<u64> {
        combinations.iter().map(|combination| self.codes[0][*combination as usize]).collect()
    }

    /// The combination in which keys have certain codes, given for all keys of a read, if there is one.
    pub(super) fn number_of(&self, codes: &[u64]) -> Option<u64> {
        let is_it = |at: &usize| self.keys.iter().zip(&self.codes).all(|(key, own)| own[*at] == codes[*key]);
        (0..self.count() as usize).find(is_it).map(|at| at as u64)
    }

    /// The combination of each code of the column that the relationship starts from.
    pub(super) fn by_code(&self, tables: Tables<'_>) -> ChainCodes {
        let table = tables.schema.relationship(self.relationship).one;
        let rows = tables.far_rows_by_code(table, &[self.relationship]);
        ChainCodes::of(rows.map(|row| u64::from(self.of_rows[row as usize])))
    }
}
