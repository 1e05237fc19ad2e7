//! Relationships to the newest row that is not younger, held against SQL.

use crate::common::{Random, run, segments, shown};
use cubrel::{Model, Relation, Role, Type, Value};
use rusqlite::{Connection, params};

/// Rates of currencies from days on, and payments on days; some of a currency without rates, without a day, before the
/// first rate.
struct Data {
    rates: Vec<(i64, Option<&'static str>, Option<i32>)>,
    payments: Vec<(Option<&'static str>, Option<i32>, i64)>,
}

const CURRENCIES: [&str; 4] = ["EUR", "GBP", "NOK", "SEK"];

impl Data {
    fn new(seed: u64) -> Data {
        let r = &mut Random(seed);
        let span = [4, 40, 400][seed as usize % 3];
        let mut rates: Vec<(i64, Option<&str>, Option<i32>)> = Vec::new();
        for id in 0..40 {
            let currency = (!r.chance(5)).then(|| CURRENCIES[r.below(3) as usize]);
            let day = (!r.chance(5)).then(|| 20_000 + r.below(span) as i32);
            let is_known = |(_, c, d): &(i64, Option<&str>, Option<i32>)| *c == currency && *d == day;
            if currency.is_none() || day.is_none() || !rates.iter().any(is_known) {
                rates.push((id, currency, day));
            }
        }
        let payment = |_| {
            let currency = (!r.chance(5)).then(|| CURRENCIES[r.below(4) as usize]);
            (currency, (!r.chance(5)).then(|| 19_995 + r.below(span + 10) as i32), r.below(1000) as i64)
        };
        Data { payments: (0..500).map(payment).collect(), rates }
    }

    /// By day, or to the second: half a day later, so that what is of the same day comes before.
    fn model(&self, seed: u64, of: Type, is_spare: bool) -> Model {
        let text = |t: &Option<&str>| t.map_or(Value::Null, Value::text);
        let time = |day: &Option<i32>, seconds: i64| match (day, of) {
            (None, _) => Value::Null,
            (Some(day), Type::Date) => Value::Date(*day),
            (Some(day), _) => Value::Timestamp((i64::from(*day) * 86_400 + seconds) * 1_000_000),
        };
        let rate = |(id, c, d): &(i64, Option<&str>, Option<i32>)| vec![Value::Int(*id), text(c), time(d, 0)];
        let payment =
            |(c, d, amount): &(Option<&str>, Option<i32>, i64)| vec![text(c), time(d, 43_200), Value::Int(*amount)];
        let relation = Relation::new("payment.currency + payment.made", "rate.currency + rate.valid").at_or_before();
        let rates: Vec<Vec<Value>> = self.rates.iter().map(rate).collect();
        let payments: Vec<Vec<Value>> = self.payments.iter().map(payment).collect();
        Model::builder()
            .rows("rate", &[("id", Type::Int), ("currency", Type::Text), ("valid", of)], &rates)
            .rows("payment", &[("currency", Type::Text), ("made", of), ("amount", Type::Int)], &payments)
            .define(if is_spare { relation.spare() } else { relation })
            .define(Role::new("few").rows("rate", "id >= 20"))
            .segment_rows(segments(seed))
            .build()
            .unwrap()
    }

    fn sql(&self) -> Connection {
        let sql = Connection::open_in_memory().unwrap();
        sql.execute_batch("create table rate (id, currency, valid); create table payment (currency, made, amount)")
            .unwrap();
        for (id, currency, day) in &self.rates {
            sql.execute("insert into rate values (?, ?, ?)", params![id, currency, day]).unwrap();
        }
        for (currency, day, amount) in &self.payments {
            sql.execute("insert into payment values (?, ?, ?)", params![currency, day, amount]).unwrap();
        }
        sql.execute_batch(
            "create view found as select p.*, (select r.id from rate r where r.currency = p.currency and r.valid <= p.made
             order by r.valid desc limit 1) as rate from payment p",
        )
        .unwrap();
        sql
    }
}

fn lines(sql: &Connection, text: &str) -> Vec<String> {
    let mut statement = sql.prepare(text).unwrap_or_else(|e| panic!("{text}: {e}"));
    let columns = statement.column_count();
    let mut rows = statement.query([]).unwrap();
    let mut all = Vec::new();
    while let Some(row) = rows.next().unwrap() {
        let values =
            (0..columns).map(|i| row.get::<_, Option<i64>>(i).unwrap().map_or(String::new(), |v| v.to_string()));
        all.push(values.collect::<Vec<_>>().join("|"));
    }
    all
}

#[test]
fn a_row_points_at_the_newest_one_that_is_not_younger() {
    for seed in 0..24 {
        let data = Data::new(seed);
        let sql = data.sql();
        let of = if seed % 2 == 0 { Type::Date } else { Type::Timestamp };
        let (model, spare) = (data.model(seed, of, false), data.model(seed, of, true));
        let by_rate = "select rate, sum(amount), count(*) from found group by rate order by rate is null, rate";
        for (model, via) in [(&model, ""), (&spare, " via payment.made")] {
            let of_rate = format!("grid (sum(payment.amount){via}) as a, (rows(payment){via}) as n by rate.id");
            let expected: Vec<String> = lines(&sql, by_rate);
            let found = shown(&run(model, &of_rate));
            assert_eq!(found, expected, "{seed}{via}");
        }
        for (query, text) in [
            ("grid sum(payment.amount * rate.id) as x", "select sum(amount * rate) from found"),
            ("grid rows(payment) as n where rate.id >= 20", "select count(*) from found where rate >= 20"),
            ("grid count(distinct rate.id) as n where payment.amount < 500", "select count(distinct id) from rate"),
            ("grid rows(payment) as n where rate.id is null", "select count(*) from found where rate is null"),
        ] {
            assert_eq!(shown(&run(&model, query)), lines(&sql, text), "{seed}: {query}");
        }
        // Over a default relationship a row goes with the one that it points at.
        let seen = model.as_user(&["few"], None).unwrap();
        let found = shown(&seen.query("grid sum(payment.amount) as a by rate.id").unwrap().run().unwrap());
        let text = "select rate, sum(amount) from found where rate >= 20 group by rate order by rate";
        assert_eq!(found, lines(&sql, text), "{seed}: by role");
    }
}

#[test]
fn the_last_part_of_the_key_is_a_day_or_a_time() {
    let model = |ty: Type, value: Value| {
        Model::builder()
            .rows("rate", &[("valid", ty)], &[vec![value.clone()]])
            .rows("payment", &[("made", ty)], &[vec![value]])
            .define(Relation::new("payment.made", "rate.valid").at_or_before())
            .build()
    };
    assert!(model(Type::Date, Value::Date(5)).is_ok());
    let said = model(Type::Int, Value::Int(5)).unwrap_err().to_string();
    assert!(said.contains("payment.made is int: what is at or before it cannot be told"), "{said}");
    let twice = Model::builder()
        .rows("rate", &[("valid", Type::Date)], &[vec![Value::Date(5)], vec![Value::Date(5)]])
        .rows("payment", &[("made", Type::Date)], &[vec![Value::Date(5)]])
        .define(Relation::new("payment.made", "rate.valid").at_or_before())
        .build();
    assert!(twice.unwrap_err().to_string().contains("rate.valid is not unique"));
}
