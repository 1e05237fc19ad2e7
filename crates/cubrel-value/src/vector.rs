use std::sync::Arc;

use super::threads::map_many;
use super::{Type, Value, wide};

/// A batch of values of one type, some of them null.
///
/// Exact numbers are their digits at the scale of the type that goes with the vector; dates are days, timestamps
/// microseconds. Slots that are not valid hold an unspecified value of the right kind.
#[derive(Clone, Debug)]
pub struct Vector {
    /// The values.
    pub data: Data,
    /// Which are not null; `None` when all are valid.
    pub valid: Option<Vec<bool>>,
}

/// The values of a [`Vector`], by how they are held.
#[derive(Clone, Debug)]
pub enum Data {
    /// Exact numbers, dates and timestamps that fit 64 bits.
    I64(Vec<i64>),
    /// Exact numbers that need more.
    I128(Vec<i128>),
    /// Doubles.
    F64(Vec<f64>),
    /// Truth values.
    Bool(Vec<bool>),
    /// Text.
    Text(Vec<Arc<str>>),
}

/// Runs `$body` with `$v` bound to the inner `Vec`, whatever its type.
macro_rules! each_data {
    ($data:expr, $v:ident => $body:expr) => {
        match $data {
            Data::I64($v) => $body,
            Data::I128($v) => $body,
            Data::F64($v) => $body,
            Data::Bool($v) => $body,
            Data::Text($v) => $body,
        }
    };
}

impl Vector {
    /// A vector without nulls.
    pub fn new(data: Data) -> Vector {
        Vector { data, valid: None }
    }

    /// A vector with nulls where `valid` is false.
    pub fn with_validity(data: Data, valid: Vec<bool>) -> Vector {
        let all = valid.iter().all(|v| *v);
        Vector { data, valid: if all { None } else { Some(valid) } }
    }

    /// `n` nulls of type `ty`.
    pub fn nulls(ty: Type, n: usize) -> Vector {
        let data = match ty {
            Type::Float => Data::F64(vec![0.0; n]),
            Type::Bool => Data::Bool(vec![false; n]),
            Type::Text => Data::Text(vec![Arc::from(""); n]),
            _ => Data::I64(vec![0; n]),
        };
        Vector { data, valid: Some(vec![false; n]) }
    }

    /// `n` times the same value, as type `ty`.
    pub fn constant(value: &Value, ty: Type, n: usize) -> Vector {
        match value {
            Value::Null => Vector::nulls(ty, n),
            Value::Float(v) => Vector::new(Data::F64(vec![*v; n])),
            Value::Bool(v) => Vector::new(Data::Bool(vec![*v; n])),
            Value::Text(v) => Vector::new(Data::Text(vec![v.clone(); n])),
            Value::Int(v) => Vector::new(Data::I64(vec![*v; n])),
            Value::Date(v) => Vector::new(Data::I64(vec![i64::from(*v); n])),
            Value::Timestamp(v) => Vector::new(Data::I64(vec![*v; n])),
            Value::Decimal { unscaled, .. } => match i64::try_from(*unscaled) {
                Ok(v) => Vector::new(Data::I64(vec![v; n])),
                Err(_) => Vector::new(Data::I128(vec![*unscaled; n])),
            },
        }
    }

    /// How many values.
    pub fn len(&self) -> usize {
        each_data!(&self.data, v => v.len())
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// Whether the value at `i` is not null.
    pub fn is_valid(&self, i: usize) -> bool {
        self.valid.as_ref().is_none_or(|v| v[i])
    }

    /// The value at `i`, as type `ty`. Exact numbers beyond 64 bits are decimals, whatever `ty` says.
    pub fn get(&self, i: usize, ty: Type) -> Value {
        if !self.is_valid(i) {
            return Value::Null;
        }
        match &self.data {
            Data::I64(v) => match ty {
                Type::Decimal { scale, .. } => Value::Decimal { unscaled: i128::from(v[i]), scale },
                Type::Date => Value::Date(v[i] as i32),
                Type::Timestamp => Value::Timestamp(v[i]),
                _ => Value::Int(v[i]),
            },
            Data::I128(v) => match (ty, i64::try_from(v[i])) {
                (Type::Int, Ok(small)) => Value::Int(small),
                _ => Value::Decimal { unscaled: v[i], scale: ty.scale() },
            },
            Data::F64(v) => Value::Float(v[i]),
            Data::Bool(v) => Value::Bool(v[i]),
            Data::Text(v) => Value::Text(v[i].clone()),
        }
    }

    /// The values at `positions`, in that order.
    ///
    /// # Panics
    /// When there are fewer values.
    pub fn gather<P: Copy + Into<u64> + Sync>(&self, positions: &[P]) -> Vector {
        let data = match &self.data {
            Data::I64(v) => Data::I64(taken(v, positions)),
            Data::I128(v) => Data::I128(taken(v, positions)),
            Data::F64(v) => Data::F64(taken(v, positions)),
            Data::Bool(v) => Data::Bool(taken(v, positions)),
            Data::Text(v) => Data::Text(positions.iter().map(|i| v[(*i).into() as usize].clone()).collect()),
        };
        let valid = self.valid.as_ref().map(|valid| taken(valid, positions));
        Vector { data, valid }
    }

    /// Which values are `true` (neither false nor null).
    pub fn truths(&self) -> Vec<bool> {
        match &self.data {
            Data::Bool(v) => match &self.valid {
                None => v.clone(),
                Some(valid) => v.iter().zip(valid).map(|(v, ok)| *v && *ok).collect(),
            },
            _ => vec![false; self.len()],
        }
    }

    /// For each truth value whether it is true, and whether it is not null.
    pub fn truths_and_validity(self) -> (Vec<bool>, Vec<bool>) {
        let n = self.len();
        let valid = self.valid.unwrap_or_else(|| vec![true; n]);
        match self.data {
            Data::Bool(values) => (values, valid),
            _ => (vec![false; n], valid),
        }
    }

    /// Values of several vectors of type `ty`: for each the vector and the place in it, or null.
    ///
    /// # Panics
    /// When a vector or a place is not there.
    pub fn interleaved(parts: &[Vector], from: &[Option<(u32, u32)>], ty: Type) -> Vector {
        macro_rules! of_kind {
            ($kind:ident, $null:expr) => {{
                let slices = parts.iter().map(|p| if let Data::$kind(v) = &p.data { Some(v.as_slice()) } else { None });
                let slices: Option<Vec<_>> = slices.collect();
                slices.map(|slices| {
                    let value = |at: &Option<(u32, u32)>| match at {
                        Some((part, i)) => slices[*part as usize][*i as usize].clone(),
                        None => $null,
                    };
                    Data::$kind(from.iter().map(value).collect())
                })
            }};
        }
        let data = match parts.first().map(|p| &p.data) {
            Some(Data::I64(_)) => of_kind!(I64, 0),
            Some(Data::F64(_)) => of_kind!(F64, 0.0),
            Some(Data::Bool(_)) => of_kind!(Bool, false),
            Some(Data::Text(_)) => of_kind!(Text, Arc::from("")),
            _ => None,
        };
        let Some(data) = data else {
            let mut builder = VectorBuilder::new(ty, from.len());
            for at in from {
                builder.push(at.map_or(Value::Null, |(part, i)| parts[part as usize].get(i as usize, ty)));
            }
            return builder.finish();
        };
        let valid = |at: &Option<(u32, u32)>| at.is_some_and(|(part, i)| parts[part as usize].is_valid(i as usize));
        Vector::with_validity(data, from.iter().map(valid).collect())
    }

    /// Takes another vector's numbers wherever `taken` says so; false, and nothing done, where the two are no numbers of one kind.
    ///
    /// # Panics
    /// When the lengths differ.
    pub fn replace_where(&mut self, taken: &[bool], by: &Vector) -> bool {
        fn replace<T: Copy>(values: &mut [T], taken: &[bool], by: &[T]) {
            assert!(values.len() == taken.len() && taken.len() == by.len(), "vectors of one length");
            wide(|| {
                for ((value, taken), by) in values.iter_mut().zip(taken).zip(by) {
                    *value = if *taken { *by } else { *value };
                }
            });
        }
        match (&mut self.data, &by.data) {
            (Data::I64(values), Data::I64(by)) => replace(values, taken, by),
            (Data::F64(values), Data::F64(by)) => replace(values, taken, by),
            _ => return false,
        }
        if self.valid.is_some() || by.valid.is_some() {
            let mut valid = self.valid.take().unwrap_or_else(|| vec![true; taken.len()]);
            match &by.valid {
                Some(by) => replace(&mut valid, taken, by),
                None => valid.iter_mut().zip(taken).for_each(|(valid, taken)| *valid |= taken),
            }
            self.valid = Some(valid);
        }
        true
    }

    /// Exact numbers as 128 bits.
    pub fn to_i128(&self) -> Vec<i128> {
        match &self.data {
            Data::I64(v) => v.iter().map(|v| i128::from(*v)).collect(),
            Data::I128(v) => v.clone(),
            _ => vec![0; self.len()],
        }
    }

    /// Numbers of type `ty` as doubles.
    pub fn to_f64(&self, ty: Type) -> Vec<f64> {
        let divisor = 10f64.powi(i32::from(ty.scale()));
        match &self.data {
            Data::F64(v) => v.clone(),
            Data::I64(v) if ty.scale() == 0 => wide(|| v.iter().map(|v| *v as f64).collect()),
            Data::I64(v) => wide(|| v.iter().map(|v| *v as f64 / divisor).collect()),
            Data::I128(v) => v.iter().map(|v| *v as f64 / divisor).collect(),
            _ => vec![0.0; self.len()],
        }
    }
}

/// Collects values one by one into a [`Vector`].
#[derive(Debug)]
pub struct VectorBuilder {
    data: Data,
    valid: Vec<bool>,
    wide: Option<Vec<i128>>,
}

impl VectorBuilder {
    /// A builder for values of type `ty`.
    pub fn new(ty: Type, capacity: usize) -> VectorBuilder {
        let data = match ty {
            Type::Float => Data::F64(Vec::with_capacity(capacity)),
            Type::Bool => Data::Bool(Vec::with_capacity(capacity)),
            Type::Text => Data::Text(Vec::with_capacity(capacity)),
            _ => Data::I64(Vec::with_capacity(capacity)),
        };
        VectorBuilder { data, valid: Vec::with_capacity(capacity), wide: None }
    }

    /// Adds a value of the builder's type, or null.
    pub fn push(&mut self, value: Value) {
        self.valid.push(!value.is_null());
        if let Some(wide) = &mut self.wide {
            wide.push(
                value
                    .as_exact(match value {
                        Value::Decimal { scale, .. } => scale,
                        _ => 0,
                    })
                    .unwrap_or(0),
            );
            return;
        }
        match (&mut self.data, value) {
            (Data::I64(v), Value::Int(x) | Value::Timestamp(x)) => v.push(x),
            (Data::I64(v), Value::Date(x)) => v.push(i64::from(x)),
            (Data::I64(v), Value::Decimal { unscaled, .. }) => match i64::try_from(unscaled) {
                Ok(x) => v.push(x),
                Err(_) => {
                    let mut wide: Vec<i128> = v.iter().map(|v| i128::from(*v)).collect();
                    wide.push(unscaled);
                    self.wide = Some(wide);
                }
            },
            (Data::F64(v), value) => v.push(value.as_f64().unwrap_or(0.0)),
            (Data::Bool(v), value) => v.push(matches!(value, Value::Bool(true))),
            (Data::Text(v), Value::Text(x)) => v.push(x),
            (Data::Text(v), _) => v.push(Arc::from("")),
            (Data::I64(v), _) => v.push(0),
            (Data::I128(v), _) => v.push(0),
        }
    }

    /// Adds the values of a batch of the builder's type.
    pub fn append(&mut self, batch: &Vector, ty: Type) {
        match (&mut self.data, &batch.data) {
            (Data::I64(all), Data::I64(more)) if self.wide.is_none() => all.extend_from_slice(more),
            (Data::F64(all), Data::F64(more)) => all.extend_from_slice(more),
            (Data::Bool(all), Data::Bool(more)) => all.extend_from_slice(more),
            (Data::Text(all), Data::Text(more)) => all.extend_from_slice(more),
            _ => return (0..batch.len()).for_each(|i| self.push(batch.get(i, ty))),
        }
        match &batch.valid {
            Some(valid) => self.valid.extend_from_slice(valid),
            None => self.valid.resize(self.valid.len() + batch.len(), true),
        }
    }

    /// The vector of all values pushed.
    pub fn finish(self) -> Vector {
        let data = self.wide.map_or(self.data, Data::I128);
        Vector::with_validity(data, self.valid)
    }
}

/// The values at some places, on all threads where they are many.
fn taken<T: Copy + Default + Send + Sync, P: Copy + Into<u64> + Sync>(values: &[T], places: &[P]) -> Vec<T> {
    map_many(places, |place| values[(*place).into() as usize])
}
