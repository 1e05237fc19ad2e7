//! Columns side by side that become rows: one for each row and column, with the column's name and its value.

use std::collections::HashMap;

use cubrel_store::texts::TextList;
use cubrel_store::{RawColumn, RawData};
use cubrel_value::Type;

/// Which columns become rows, and what the new columns are called.
#[derive(Clone, Debug)]
pub struct Unpivot {
    patterns: Vec<glob::Pattern>,
    name: String,
    value: String,
}

impl Unpivot {
    /// Of patterns such as `q_*`, of names in the model.
    ///
    /// # Errors
    /// The first pattern that is none, and why.
    pub fn new(columns: &[String], name: &str, value: &str) -> Result<Unpivot, (String, String)> {
        let pattern = |text: &String| glob::Pattern::new(text).map_err(|e| (text.clone(), e.msg.to_string()));
        let patterns = columns.iter().map(pattern).collect::<Result<_, _>>()?;
        Ok(Unpivot { patterns, name: name.into(), value: value.into() })
    }

    /// The same where columns have other names in the model.
    #[must_use]
    pub fn renamed(self, names: &HashMap<String, String>) -> Unpivot {
        let named = |name: String| names.get(&name).cloned().unwrap_or(name);
        Unpivot { name: named(self.name), value: named(self.value), ..self }
    }

    /// Whether a column becomes rows.
    pub fn takes(&self, column: &str) -> bool {
        self.patterns.iter().any(|pattern| pattern.matches(column))
    }

    /// The column of the values.
    pub fn value(&self) -> &str {
        &self.value
    }

    /// The rows of columns that have one type where they become rows; `None` where no column does. A row's own come one after
    /// the other, in the order of the columns.
    pub(super) fn rows(&self, columns: Vec<(String, RawColumn)>) -> Option<Vec<(String, RawColumn)>> {
        let (taken, kept): (Vec<_>, Vec<_>) = columns.into_iter().partition(|(name, _)| self.takes(name));
        let (width, height) = (taken.len(), taken.first()?.1.len());
        let repeated: Vec<u32> = (0..height as u32).flat_map(|row| std::iter::repeat_n(row, width)).collect();
        let mut all: Vec<(String, RawColumn)> =
            kept.into_iter().map(|(name, raw)| (name, raw.select(&repeated))).collect();
        let (names, values): (Vec<String>, Vec<RawColumn>) = taken.into_iter().unzip();
        let values_of_names = names.iter().map(String::as_str).collect::<TextList>();
        let indices = (0..height).flat_map(|_| 0..width as u32).collect();
        let data = RawData::Texts { values: values_of_names, indices };
        all.push((self.name.clone(), RawColumn { ty: Type::Text, data, valid: None }));
        all.push((self.value.clone(), side_by_side(&values, height)));
        Some(all)
    }
}

/// The values of columns of one type, row by row.
fn side_by_side(columns: &[RawColumn], height: usize) -> RawColumn {
    fn each<T: Copy>(columns: &[&[T]], height: usize) -> Vec<T> {
        (0..height).flat_map(|row| columns.iter().map(move |column| column[row])).collect()
    }
    let ty = columns.first().map_or(Type::Text, |c| c.ty);
    let ints = || columns.iter().map(|c| if let RawData::Ints(v) = &c.data { Some(v.as_slice()) } else { None });
    let floats = || columns.iter().map(|c| if let RawData::Floats(v) = &c.data { Some(v.as_slice()) } else { None });
    let data = if let Some(ints) = ints().collect::<Option<Vec<_>>>() {
        RawData::Ints(each(&ints, height))
    } else if let Some(floats) = floats().collect::<Option<Vec<_>>>() {
        RawData::Floats(each(&floats, height))
    } else {
        texts(columns, height)
    };
    let valid = columns.iter().any(|c| c.valid.is_some()).then(|| {
        let is_there = move |row: usize| columns.iter().map(move |c| c.valid.as_ref().is_none_or(|valid| valid[row]));
        (0..height).flat_map(is_there).collect()
    });
    RawColumn { ty, data, valid }
}

fn texts(columns: &[RawColumn], height: usize) -> RawData {
    let (mut all, mut places) = (TextList::default(), Vec::new());
    for column in columns {
        let start = all.len() as u32;
        if let RawData::Texts { values, indices } = &column.data {
            all.extend(values);
            places.push((start, indices.as_slice()));
        }
    }
    // What stands under a null of a column without any text may be the text of another one: nobody looks at it.
    let most = all.len().saturating_sub(1) as u32;
    let place = |row: usize| places.iter().map(move |(start, indices)| (start + indices[row]).min(most));
    RawData::Texts { indices: (0..height).flat_map(place).collect(), values: all }
}

#[cfg(test)]
mod tests {
    use super::*;
    use cubrel_value::Value;

    fn texts_of(values: &[Option<&str>]) -> RawColumn {
        let list = values.iter().flatten().copied().collect::<TextList>();
        let mut next = 0;
        let indices = values
            .iter()
            .map(|v| {
                next += u32::from(v.is_some());
                next.saturating_sub(1)
            })
            .collect();
        let valid = values.contains(&None).then(|| values.iter().map(Option::is_some).collect());
        RawColumn { ty: Type::Text, data: RawData::Texts { values: list, indices }, valid }
    }

    fn shown(raw: &RawColumn) -> Vec<String> {
        let all: Vec<u32> = (0..raw.len() as u32).collect();
        let vector = raw.vector(&all);
        (0..raw.len())
            .map(|i| match vector.get(i, raw.ty) {
                Value::Null => "-".into(),
                v => v.to_string(),
            })
            .collect()
    }

    #[test]
    fn each_row_has_its_values_one_after_the_other() {
        let unpivot = Unpivot::new(&["q_*".into(), "last".into()], "question", "answer").unwrap();
        let ints =
            |v: &[i64], valid: Option<Vec<bool>>| RawColumn { ty: Type::Int, data: RawData::Ints(v.to_vec()), valid };
        let id = ints(&[7, 8], None);
        let columns = vec![
            ("q_1".to_string(), texts_of(&[Some("a"), None])),
            ("id".into(), id.clone()),
            ("q_2".into(), texts_of(&[None, None])),
            ("last".into(), texts_of(&[Some("b"), Some("c")])),
        ];
        let rows = unpivot.rows(columns).unwrap();
        let names: Vec<&str> = rows.iter().map(|(name, _)| name.as_str()).collect();
        assert_eq!(names, ["id", "question", "answer"]);
        assert_eq!(shown(&rows[0].1), ["7", "7", "7", "8", "8", "8"]);
        assert_eq!(shown(&rows[1].1), ["q_1", "q_2", "last", "q_1", "q_2", "last"]);
        assert_eq!(shown(&rows[2].1), ["a", "-", "b", "-", "-", "c"]);
        let numbers = vec![("q_1".into(), ints(&[1, 2], None)), ("q_2".into(), ints(&[3, 0], Some(vec![true, false])))];
        assert_eq!(shown(&unpivot.rows(numbers).unwrap()[1].1), ["1", "3", "2", "-"]);
        assert!(unpivot.rows(vec![("id".into(), id)]).is_none());
        assert!(Unpivot::new(&["[".into()], "a", "b").is_err());
    }
}
