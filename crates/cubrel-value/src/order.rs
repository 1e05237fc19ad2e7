//! Values as whole numbers of the same order, so that sorting compares numbers.

use std::cmp::Ordering;

use super::vector::{Data, Vector};

/// The key of null, which comes last whichever way the order goes.
const NULL: u64 = u64::MAX;
const SIGN: u64 = 1 << 63;

impl Vector {
    /// For each value a number, in the order of [`super::Value::total_cmp`], or against it where `descending` says so.
    /// Null is last either way.
    pub fn order_keys(&self, descending: bool) -> Vec<u64> {
        let turned = |key: u64| if descending { !key } else { key };
        let keys: Vec<u64> = match &self.data {
            Data::I64(values) => values.iter().map(|v| turned(*v as u64 ^ SIGN)).collect(),
            // The order of IEEE 754's totalOrder on the bits: negative numbers turned around.
            Data::F64(values) => {
                let key = |v: &f64| match v.to_bits() {
                    bits if bits & SIGN == 0 => bits | SIGN,
                    bits => !bits,
                };
                values.iter().map(|v| turned(key(v))).collect()
            }
            Data::Bool(values) => values.iter().map(|v| turned(u64::from(*v))).collect(),
            Data::I128(values) => return self.ranks(descending, |a, b| values[a].cmp(&values[b])),
            Data::Text(values) => return self.ranks(descending, |a, b| values[a].cmp(&values[b])),
        };
        let Some(valid) = &self.valid else { return keys };
        if keys.iter().zip(valid).any(|(key, valid)| *valid && *key == NULL) {
            let compare = |a: usize, b: usize| if descending { keys[b].cmp(&keys[a]) } else { keys[a].cmp(&keys[b]) };
            return self.ranks(descending, compare);
        }
        keys.into_iter().zip(valid).map(|(key, valid)| if *valid { key } else { NULL }).collect()
    }

    /// The place of each value among the distinct ones.
    fn ranks(&self, descending: bool, compare: impl Fn(usize, usize) -> Ordering) -> Vec<u64> {
        let mut order: Vec<usize> = (0..self.len()).filter(|i| self.is_valid(*i)).collect();
        order.sort_by(|a, b| if descending { compare(*b, *a) } else { compare(*a, *b) });
        let mut keys = vec![NULL; self.len()];
        let mut rank = 0;
        for (place, i) in order.iter().enumerate() {
            rank += u64::from(place > 0 && compare(order[place - 1], *i).is_ne());
            keys[*i] = rank;
        }
        keys
    }
}

#[cfg(test)]
mod tests {
    use super::super::{Type, Value, VectorBuilder};

    #[test]
    fn keys_order_as_values_do() {
        let decimal = |unscaled: i128| Value::Decimal { unscaled, scale: 2 };
        let lists = [
            (Type::Int, [3, -1, 0, i64::MAX, i64::MIN, 3].map(Value::Int).to_vec()),
            (Type::Float, [2.5, -0.0, 0.0, -7.0, 1e300, 2.5].map(Value::float).to_vec()),
            (Type::Bool, [true, false, true].map(Value::Bool).to_vec()),
            (Type::Text, ["b", "", "ä", "a", "b"].map(Value::text).to_vec()),
            (Type::Decimal { precision: 38, scale: 2 }, [5, -5, 1 << 100, i128::MIN / 4].map(decimal).to_vec()),
        ];
        for (ty, mut values) in lists {
            for nulls in [false, true] {
                if nulls {
                    values.insert(1, Value::Null);
                }
                let mut builder = VectorBuilder::new(ty, values.len());
                values.iter().for_each(|v| builder.push(v.clone()));
                let vector = builder.finish();
                for descending in [false, true] {
                    let keys = vector.order_keys(descending);
                    for (a, x) in values.iter().enumerate() {
                        for (b, y) in values.iter().enumerate() {
                            let order = x.total_cmp(y);
                            let turn = descending && !x.is_null() && !y.is_null();
                            let wanted = if turn { order.reverse() } else { order };
                            assert_eq!(keys[a].cmp(&keys[b]), wanted, "{x:?} {y:?} {descending}");
                        }
                    }
                }
            }
        }
    }
}
