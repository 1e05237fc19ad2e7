//! Sums of two numbers that are put together in every row: exact, however large they are and wherever they come from.

use crate::common::Random;
use cubrel::{Model, Type, Value};

const ROWS: usize = 6000;
const RATES: usize = 7;

/// Numbers of a size, some of them negative.
fn numbers(r: &mut Random, count: usize, most: i64) -> Vec<i64> {
    (0..count).map(|_| (r.below(2 * most as u64 + 1) as i128 - i128::from(most)) as i64).collect()
}

struct Data {
    a: Vec<i64>,
    b: Vec<i64>,
    rate: Vec<i64>,
    key: Vec<usize>,
    group: Vec<i64>,
}

impl Data {
    fn new(seed: u64, (of_a, of_b, of_rate): (i64, i64, i64)) -> Data {
        let r = &mut Random(seed);
        let (a, b, rate) = (numbers(r, ROWS, of_a), numbers(r, ROWS, of_b), numbers(r, RATES, of_rate));
        let key = (0..ROWS).map(|_| r.below(RATES as u64) as usize).collect();
        // Groups that stand in runs, and such that do not.
        let scattered = seed.is_multiple_of(2);
        let group = (0..ROWS).map(|i| if scattered { r.below(5) as i64 } else { i as i64 / 700 }).collect();
        Data { a, b, rate, key, group }
    }

    fn model(&self) -> Model {
        let int = |v: i64| Value::Int(v);
        let row = |i: usize| vec![int(self.a[i]), int(self.b[i]), int(self.key[i] as i64), int(self.group[i])];
        let rows: Vec<Vec<Value>> = (0..ROWS).map(row).collect();
        let rates: Vec<Vec<Value>> = self.rate.iter().zip(0..).map(|(rate, key)| vec![int(key), int(*rate)]).collect();
        let columns = [("a", Type::Int), ("b", Type::Int), ("key", Type::Int), ("group", Type::Int)];
        Model::builder()
            .rows("t", &columns, &rows)
            .rows("rate", &[("key", Type::Int), ("rate", Type::Int)], &rates)
            .relationship("t.key", "rate.key")
            .build()
            .unwrap()
    }
}

#[test]
fn sums_of_pairs_are_exact_in_every_configuration() {
    let large = 100_000_000_000_000_000;
    let sizes = [(100, 9, 30), (1 << 31, 1 << 30, 1 << 30), (1 << 40, 1 << 40, 5), (large, 3, large), (0, 0, 1)];
    for (seed, size) in
        sizes.into_iter().enumerate().flat_map(|(i, size)| [(2 * i as u64, size), (2 * i as u64 + 1, size)])
    {
        let data = Data::new(seed, size);
        let model = data.model();
        type Pair = (&'static str, fn(&Data, usize) -> i128);
        let pairs: [Pair; 6] = [
            ("t.a * t.b", |d, i| i128::from(d.a[i]) * i128::from(d.b[i])),
            ("t.a + t.b", |d, i| i128::from(d.a[i]) + i128::from(d.b[i])),
            ("t.b - t.a", |d, i| i128::from(d.b[i]) - i128::from(d.a[i])),
            ("t.b * rate.rate", |d, i| i128::from(d.b[i]) * i128::from(d.rate[d.key[i]])),
            ("rate.rate - t.a", |d, i| i128::from(d.rate[d.key[i]]) - i128::from(d.a[i])),
            ("t.a * t.a", |d, i| i128::from(d.a[i]) * i128::from(d.a[i])),
        ];
        for (text, value) in pairs {
            let sum = |wanted: &dyn Fn(usize) -> bool| -> i128 {
                (0..ROWS).filter(|i| wanted(*i)).map(|i| value(&data, i)).sum()
            };
            let total = crate::common::run(&model, &format!("grid sum({text}) as s"));
            assert_eq!(total.lines[0].values[0].as_exact(0), Some(sum(&|_| true)), "{text}, {size:?}");
            let grid = crate::common::run(
                &model,
                &format!("grid sum({text}) as s, avg({text}) as m by t.group where t.key < 4"),
            );
            for line in &grid.lines {
                let group = line.values[0].as_exact(0).unwrap() as i64;
                let passes = |i: usize| data.group[i] == group && data.key[i] < 4;
                assert_eq!(line.values[1].as_exact(0), Some(sum(&passes)), "{text} in {group}, {size:?}");
                let mean = sum(&passes) as f64 / (0..ROWS).filter(|i| passes(*i)).count() as f64;
                let found = line.values[2].as_f64().unwrap();
                assert!((found - mean).abs() <= 1e-9 * mean.abs().max(1.0), "{text} in {group}: {found} and {mean}");
            }
        }
    }
}
