//! Values of 64 bits by keys in the same order.

use cubrel_value::{Data, Type, Value, Vector, wide};

/// No value: larger than all keys.
pub(super) const NO_KEY: u64 = u64::MAX;

/// A whole number's key.
#[inline(always)]
fn of_int(v: i64) -> u64 {
    (v as u64) ^ 1 << 63
}

/// The key of a double that is a number: its bits, turned where it is negative so that larger is larger.
#[inline(always)]
fn of_float(v: f64) -> u64 {
    let bits = (v + 0.0).to_bits() as i64;
    of_int(bits ^ ((bits >> 63) as u64 >> 1) as i64)
}

/// The keys of values, or for `turned` their complements, so that the largest has the smallest; [`NO_KEY`] for null. `None` where not all of
/// them have one that is less than that.
pub(super) fn keys_of(vector: &Vector, turned: bool) -> Option<Vec<u64>> {
    let turn = if turned { u64::MAX } else { 0 };
    let valid = vector.valid.as_deref();
    match &vector.data {
        Data::I64(values) => {
            let last = if turned { i64::MIN } else { i64::MAX };
            (!values.contains(&last)).then(|| each_key(values, valid, |v| of_int(v) ^ turn))
        }
        Data::F64(values) => Some(each_key(values, valid, |v| of_float(v) ^ turn)),
        _ => None,
    }
}

#[inline(always)]
fn each_key<T: Copy>(values: &[T], valid: Option<&[bool]>, key: impl Fn(T) -> u64) -> Vec<u64> {
    wide(
        #[inline(always)]
        || match valid {
            None => values.iter().map(|v| key(*v)).collect(),
            Some(valid) => values.iter().zip(valid).map(|(v, valid)| if *valid { key(*v) } else { NO_KEY }).collect(),
        },
    )
}

/// The value of a key, or of its complement.
pub(super) fn value_of(key: u64, turned: bool, ty: Type) -> Value {
    if key == NO_KEY {
        return Value::Null;
    }
    let int = ((if turned { !key } else { key }) ^ 1 << 63) as i64;
    let data = match ty {
        Type::Float => Data::F64(vec![f64::from_bits((int ^ ((int >> 63) as u64 >> 1) as i64) as u64)]),
        _ => Data::I64(vec![int]),
    };
    Vector::new(data).get(0, ty)
}

#[cfg(test)]
mod tests {
    use super::*;
    use cubrel_value::VectorBuilder;

    #[test]
    fn keys_stand_in_the_order_of_their_values_and_lead_back_to_them() {
        let ints = [i64::MIN + 1, -5, -1, 0, 1, 7, i64::MAX - 1].map(Value::Int);
        let floats = [f64::MIN, -1.5, -f64::MIN_POSITIVE, 0.0, 1e-300, 2.0, f64::MAX].map(Value::Float);
        let days = [i32::MIN, -1, 0, 1, 2, 20_000, i32::MAX].map(Value::Date);
        for (values, ty) in [(ints, Type::Int), (floats, Type::Float), (days, Type::Date)] {
            let mut builder = VectorBuilder::new(ty, values.len() + 1);
            values.iter().for_each(|v| builder.push(v.clone()));
            builder.push(Value::Null);
            let vector = builder.finish();
            for turned in [false, true] {
                let keys = keys_of(&vector, turned).expect("none is at the end");
                let (null, some) = keys.split_last().expect("there are some");
                assert_eq!(*null, NO_KEY);
                assert!(some.is_sorted_by(|a, b| if turned { a > b } else { a < b }), "{some:?}");
                assert!(some.iter().zip(&values).all(|(key, value)| value_of(*key, turned, ty) == *value));
            }
        }
        let last = |v| Vector::new(Data::I64(vec![v]));
        assert!(keys_of(&last(i64::MAX), false).is_none() && keys_of(&last(i64::MIN), true).is_none());
        assert!(keys_of(&last(i64::MIN), false).is_some() && keys_of(&last(i64::MAX), true).is_some());
    }
}
