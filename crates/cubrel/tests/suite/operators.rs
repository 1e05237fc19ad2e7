//! Operators, functions and aggregates on values: edges, nulls, exactness.

use std::cmp::Ordering;

use cubrel::{Model, Type, Value};

fn one_row() -> Model {
    Model::builder().rows("t", &[("id", Type::Int)], &[vec![Value::Int(1)]]).build().unwrap()
}

/// The value of a formula, as text; null as `null`.
fn value(model: &Model, formula: &str) -> String {
    let grid = model.query(&format!("grid ({formula}) as x")).unwrap_or_else(|e| panic!("{formula}\n{e}")).run();
    match grid {
        Ok(grid) => match &grid.lines[0].values[0] {
            Value::Null => "null".into(),
            v => v.to_string(),
        },
        Err(e) => format!("error: {}", e.problems().first().map_or(e.to_string(), |p| p.message.clone())),
    }
}

#[test]
fn expressions_have_these_values() {
    let cases = [
        // exact arithmetic and its types
        ("1 + 2 * 3", "7"),
        ("(1 + 2) * 3", "9"),
        ("-2 - -3", "1"),
        ("- - 2", "2"),
        ("0.10 + 0.2", "0.30"),
        ("1.5 * 1.25", "1.875"),
        ("7 % 3", "1"),
        ("-7 % 3", "-1"),
        ("7.5 % 2", "1.5"),
        ("1 / 3 * 3", "1"),
        ("1 / 0", "null"),
        ("0 / 0", "null"),
        ("1 % 0", "null"),
        ("1e308 * 10", "null"),
        ("9223372036854775807 + 1", "9223372036854775808"),
        ("99999999999999999999 * 99999999999999999999", "error: the result has more than 38 digits"),
        // null
        ("1 + null", "null"),
        ("'a' || null", "null"),
        ("concat('a', null, 1)", "a1"),
        ("coalesce(null, null, 3)", "3"),
        ("nullif(3, 3)", "null"),
        ("nullif(3, 4)", "3"),
        ("null is null", "true"),
        ("1 is not null", "true"),
        // three-valued logic
        ("null and false", "false"),
        ("null and true", "null"),
        ("null or true", "true"),
        ("null or false", "null"),
        ("not null", "null"),
        ("1 in (1, null)", "true"),
        ("2 in (1, null)", "null"),
        ("2 not in (1, null)", "null"),
        ("2 not in (1, 3)", "true"),
        ("5 not between 1 and 4", "true"),
        // comparison across types
        ("1 = 1.0", "true"),
        ("1.10 = 1.1", "true"),
        ("1 < 1.5", "true"),
        ("0.5 = 1 / 2", "true"),
        ("date '2026-01-01' < timestamp '2026-01-01 00:00:01'", "true"),
        ("'a' < 'B'", "false"),
        ("'Ä' > 'z'", "true"),
        // choice
        ("case when null then 1 when true then 2 else 3 end", "2"),
        ("case 2 when 1 then 'a' when 2 then 'b' end", "b"),
        ("case 3 when 1 then 'a' end", "null"),
        ("case when true then 1 else 2.50 end", "1.00"),
        ("if(1 > 2, 'x')", "null"),
        ("if(false, cast('x' as int), 1)", "1"),
        ("coalesce(1, cast('x' as int))", "1"),
        ("false and cast('x' as int) = 1", "false"),
        ("true or cast('x' as int) = 1", "true"),
        ("let x = 2; let y = x * 3; x + y", "8"),
        ("(let x = 2; x) + (let x = 3; x)", "5"),
        // like
        ("'Ness–Holm' like '%–H___'", "true"),
        ("'Ness' not like 'N%'", "false"),
        // rounding
        ("round(2.5)", "3"),
        ("round(-2.5)", "-3"),
        ("round(2.449, 1)", "2.4"),
        ("round(1250, -2)", "1300"),
        ("round(-0.04, 1)", "0.0"),
        ("round(1e20, 2)", "100000000000000000000"),
        ("trunc(-2.99)", "-2"),
        ("floor(-2.01)", "-3"),
        ("ceil(-2.99)", "-2"),
        ("sqrt(-1)", "null"),
        ("ln(0)", "null"),
        ("power(2, 0.5) > 1.41", "true"),
        ("least(2, null)", "null"),
        // casts
        ("cast('12.345' as decimal(6,2))", "12.35"),
        ("cast(' 7 ' as int)", "7"),
        ("cast(2.5 as int)", "3"),
        ("cast(1e0 as decimal(4,2))", "1.00"),
        ("cast(true as int)", "1"),
        ("cast(timestamp '2026-03-01 23:59:59' as date)", "2026-03-01"),
        ("cast('x' as int)", "error: `x` cannot be turned into int: use `try_cast` to get null instead"),
        ("try_cast('1e5' as int)", "null"),
        ("try_cast('999999' as decimal(4,1))", "null"),
        ("cast(1.50 as text) || '!'", "1.50!"),
        // text
        ("substring('Ness', 0, 2)", "N"),
        ("substring('Ness', 3)", "ss"),
        ("substring('Ness', 9)", ""),
        ("right('Ä€x', 2)", "€x"),
        ("left('x', -1)", ""),
        ("replace('aaa', '', 'b')", "aaa"),
        ("length('日本')", "2"),
        ("lpad('12345', 3)", "123"),
        ("upper('straße')", "STRASSE"),
        // dates
        ("add_months(date '2026-08-31', 6)", "2027-02-28"),
        ("add_years(date '2024-02-29', -1)", "2023-02-28"),
        ("add_days(timestamp '2026-02-28 12:00:00', 1)", "2026-03-01 12:00:00"),
        ("add_days(date '2026-01-01', 99999999999)", "null"),
        ("months_between(date '2026-03-31', date '2026-02-28')", "-1"),
        ("years_between(date '2026-03-01', date '2025-03-02')", "0"),
        ("hours_between(timestamp '2026-03-01 10:30:00', timestamp '2026-03-02 10:29:59')", "23"),
        ("hours_between(date '2026-03-01', timestamp '2026-03-02 10:29:59')", "34"),
        ("minutes_between(timestamp '2026-03-01 10:30:00', timestamp '2026-03-01 10:28:30')", "-1"),
        ("minutes_between(date '2026-03-01', date '2026-03-02')", "1440"),
        ("seconds_between(timestamp '2026-03-01 10:30:00.5', timestamp '2026-03-01 10:30:02')", "1"),
        ("seconds_between(date '9999-12-31', date '0001-01-01')", "-315537811200"),
        ("seconds_between(date '2026-03-01', nullif(date '2026-03-01', date '2026-03-01'))", "null"),
        ("week(date '2027-01-01')", "53"),
        ("weekday(date '2026-11-23')", "1"),
        ("date_trunc('week', date '2026-11-29')", "2026-11-23"),
        ("date_trunc('quarter', timestamp '2026-11-29 08:00:00')", "2026-10-01 00:00:00"),
        (
            "date_trunc('century', date '2026-11-29')",
            "error: `century` is not a unit: second, minute, hour, day, week, month, quarter or year",
        ),
        ("date_trunc('hour', timestamp '2026-11-29 08:59:59.9')", "2026-11-29 08:00:00"),
        ("date_trunc('minutes', timestamp '1969-12-31 23:59:59.9')", "1969-12-31 23:59:00"),
        ("date_trunc('second', timestamp '2026-11-29 08:59:59.9')", "2026-11-29 08:59:59"),
        ("date_trunc('hour', date '2026-11-29')", "2026-11-29"),
        ("hour(timestamp '1969-12-31 23:59:59.9')", "23"),
        ("extract(minute from timestamp '1969-12-31 23:58:59.9')", "58"),
        ("second(timestamp '1969-12-31 23:58:59.9')", "59"),
        ("hour(date '2026-11-29')", "0"),
        ("make_date(2026, 2, 29)", "error: there is no day 2026-2-29"),
        ("month_end(date '2024-02-01')", "2024-02-29"),
    ];
    let model = one_row();
    let different: Vec<String> = cases
        .iter()
        .map(|(formula, expected)| (formula, expected, value(&model, formula)))
        .filter(|(_, expected, found)| *expected != found)
        .map(|(formula, expected, found)| format!("{formula}: expected {expected}, found {found}"))
        .collect();
    assert!(different.is_empty(), "{}", different.join("\n"));
}

#[test]
fn aggregates_of_every_type_agree_in_every_configuration() {
    let dec = |v: Option<i128>| v.map_or(Value::Null, |unscaled| Value::Decimal { unscaled, scale: 1 });
    let rows: Vec<Vec<Value>> = [
        ("a", Some(15), Some(0.5), Some(20_000), true),
        ("a", None, Some(-1.5), Some(20_010), false),
        ("a", Some(-5), None, None, true),
        ("b", Some(40), Some(4.0), Some(20_005), false),
        ("c", None, None, None, false),
    ]
    .into_iter()
    .map(|(g, d, f, day, b)| {
        let f = f.map_or(Value::Null, Value::Float);
        vec![Value::text(g), dec(d), f, day.map_or(Value::Null, Value::Date), Value::Bool(b)]
    })
    .collect();
    let columns =
        [("g", Type::Text), ("d", Type::decimal(1)), ("f", Type::Float), ("day", Type::Date), ("b", Type::Bool)];
    let models = [1, 2, 1 << 20].map(|s| Model::builder().rows("t", &columns, &rows).segment_rows(s).build().unwrap());
    let cases: &[(&str, &[&str])] = &[
        (
            "sum(t.d), avg(t.d), min(t.d), max(t.d), count(t.d)",
            &["a|1.0|0.5|-0.5|1.5|2", "b|4.0|4|4.0|4.0|1", "c|||||0"],
        ),
        ("sum(t.f), avg(t.f), min(t.f), max(t.f), rows(t)", &["a|-1|-0.5|-1.5|0.5|3", "b|4|4|4|4|1", "c|||||1"]),
        (
            "min(t.day), max(t.day), count(distinct t.day)",
            &["a|2024-10-04|2024-10-14|2", "b|2024-10-09|2024-10-09|1", "c|||0"],
        ),
        (
            "min(t.b), max(t.b), count(t.b), sum(if(t.b, 1, 0))",
            &["a|false|true|3|2", "b|false|false|1|0", "c|false|false|1|0"],
        ),
        ("single(t.b), single(t.d), single(t.f), rows(t)", &["a||||3", "b|false|4.0|4|1", "c|false|||1"]),
        ("var_pop(t.d), var_samp(t.d), stddev_samp(t.f)", &["a|1|2|1.4142135624", "b|0||"]),
        ("median(t.d), percentile_cont(t.d, 0.25), percentile_disc(t.d, 0)", &["a|0.5|0|-0.5", "b|4|4|4.0"]),
        (
            "first(t.d order by t.day), last(t.d order by t.day), last(t.f order by t.day)",
            &["a|1.5|-0.5|-1.5", "b|4.0|4.0|4"],
        ),
        (
            "count(distinct t.g, t.b), count(distinct t.d, t.f), string_agg(cast(t.b as text), '/')",
            &["a|2|1|false/true/true", "b|1|1|false", "c|1|0|false"],
        ),
        ("sum(t.d * t.d), max(abs(t.f)), min(upper(t.g))", &["a|2.50|1.5|A", "b|16.00|4|B", "c|||C"]),
    ];
    for (items, expected) in cases {
        for model in &models {
            crate::common::expect(model, &format!("grid {items} by t.g"), expected);
        }
    }
}

/// Columns of every kind of number, with and without nulls, each compared with each by every operator.
#[test]
fn columns_compared_with_each_other_let_the_same_rows_through_in_every_configuration() {
    const ROWS: i64 = 700;
    let null = |i: i64, value: Value| if i % 4 == 1 { Value::Null } else { value };
    let number = |column: &str, i: i64| match column {
        "a" => i * 3 % 11 - 5,
        "b" => (i * i * 7 + i / 5) % 11 - 5,
        _ => i / 9 % 11 - 5,
    };
    let mut names = Vec::new();
    for name in ["a", "b", "c"] {
        for kind in ["whole", "double", "day"] {
            names.extend([format!("{name}_{kind}"), format!("{name}_{kind}_or_null")]);
        }
    }
    let value = |name: &str, i: i64| {
        let n = number(&name[..1], i);
        let there = match name.split('_').nth(1).unwrap() {
            "whole" => Value::Int(n),
            "double" => Value::float(n as f64 / 3.0),
            _ => Value::Date(20_000 + n as i32),
        };
        if name.ends_with("or_null") { null(i + n, there) } else { there }
    };
    let ty = |name: &str| match name.split('_').nth(1).unwrap() {
        "whole" => Type::Int,
        "double" => Type::Float,
        _ => Type::Date,
    };
    let types: Vec<(&str, Type)> = names.iter().map(|name| (name.as_str(), ty(name))).collect();
    let rows: Vec<Vec<Value>> = (0..ROWS).map(|i| names.iter().map(|name| value(name, i)).collect()).collect();
    let model = Model::builder().rows("sailing", &types, &rows).build().unwrap();
    let mut asked = 0;
    for a in &names {
        for b in names.iter().filter(|b| *b > a && ty(a) == ty(b)) {
            for (op, holds) in [
                ("<", (|o| o.is_lt()) as fn(Ordering) -> bool),
                ("<=", |o| o.is_le()),
                (">", |o| o.is_gt()),
                (">=", |o| o.is_ge()),
                ("=", |o| o.is_eq()),
                ("<>", |o| o.is_ne()),
            ] {
                let expected = (0..ROWS).filter(|i| {
                    let (x, y) = (value(a, *i), value(b, *i));
                    !x.is_null() && !y.is_null() && holds(x.total_cmp(&y))
                });
                let text = format!("grid rows(sailing) as n where sailing.{a} {op} sailing.{b}");
                crate::common::expect(&model, &text, &[&expected.count().to_string()]);
                asked += 1;
            }
        }
    }
    assert!(asked > 200, "{asked}");
}

/// A `case` over ranges of a column of whole numbers, with and without nulls, and of one of doubles.
#[test]
fn a_case_over_ranges_is_what_its_arms_say_in_every_configuration() {
    let x = |i: i64| (i * 37 + i / 11) % 101 - 50;
    let is_null = |i: i64| i % 7 == 3;
    let row = |i: i64| {
        let some = if is_null(i) { Value::Null } else { Value::Int(x(i)) };
        vec![Value::Int(i % 3), Value::Int(x(i)), some, Value::float(x(i) as f64 / 3.0)]
    };
    let columns = [("route", Type::Int), ("all", Type::Int), ("some", Type::Int), ("thirds", Type::Float)];
    let rows: Vec<Vec<Value>> = (0..600).map(row).collect();
    let models = [600, 97].map(|s| Model::builder().rows("sailing", &columns, &rows).segment_rows(s).build().unwrap());
    type Arms = fn(Option<i64>) -> i64;
    let cases: [(&str, Arms); 9] = [
        ("when COLUMN < -20 then 1 when COLUMN < 10 then 2 else 3", |x| match x {
            Some(..-20) => 1,
            Some(..10) => 2,
            _ => 3,
        }),
        ("when COLUMN < 10 then 2 when COLUMN < -20 then 1 else 3", |x| if matches!(x, Some(..10)) { 2 } else { 3 }),
        ("when COLUMN between -5 and 5 then 10 else 0", |x| if matches!(x, Some(-5..=5)) { 10 } else { 0 }),
        ("when COLUMN is null then 7 when COLUMN >= 0 then 1 else -1", |x| match x {
            None => 7,
            Some(0..) => 1,
            _ => -1,
        }),
        ("when COLUMN in (1, 2, 30) then 5 else 4", |x| if matches!(x, Some(1 | 2 | 30)) { 5 } else { 4 }),
        ("when not (COLUMN < 0) then 4 else 5", |x| if matches!(x, Some(0..)) { 4 } else { 5 }),
        ("when COLUMN > 1000 then 1 else 2", |_| 2),
        ("when COLUMN <> 12 then 9000000000000000000 else -9", |x| match x {
            None | Some(12) => -9,
            _ => 9_000_000_000_000_000_000,
        }),
        // More steps than are told by steps.
        (
            "when COLUMN < -40 then 1 when COLUMN < -30 then 2 when COLUMN < 0 then 1 when COLUMN < 9 then 8 when COLUMN < 20 then 3 else 0",
            |x| match x {
                Some(..-40) => 1,
                Some(..-30) => 2,
                Some(..0) => 1,
                Some(..9) => 8,
                Some(..20) => 3,
                _ => 0,
            },
        ),
    ];
    for (arms, of) in cases {
        for column in ["all", "some"] {
            let value = |i: i64| i128::from(of((column == "all" || !is_null(i)).then(|| x(i))));
            let sum = |route: i64| (0..600).filter(|i| i % 3 == route).map(value).sum::<i128>();
            let expected: Vec<String> = (0..3).map(|route| format!("{route}|{}", sum(route))).collect();
            let expected: Vec<&str> = expected.iter().map(String::as_str).collect();
            let arms = arms.replace("COLUMN", &format!("sailing.{column}"));
            let text = format!("grid sum(case {arms} end) as n by sailing.route");
            models.iter().for_each(|model| crate::common::expect(model, &text, &expected));
        }
    }
    // Doubles as they are.
    let halves = "grid sum(case when sailing.thirds < -1.5 then 1 when sailing.thirds < 4.25 then 2 else 3 end) as n";
    let value = |i: i64| {
        if x(i) < -4 {
            1
        } else if x(i) < 13 {
            2
        } else {
            3
        }
    };
    let expected = (0..600).map(value).sum::<i64>().to_string();
    models.iter().for_each(|model| crate::common::expect(model, halves, &[&expected]));
}

#[test]
fn sums_beyond_64_bits_are_exact() {
    let rows: Vec<Vec<Value>> = (0..10).map(|i| vec![Value::Int(i64::MAX - i)]).collect();
    let model = Model::builder().rows("t", &[("x", Type::Int)], &rows).build().unwrap();
    let exact = i128::from(i64::MAX) * 10 - 45;
    crate::common::expect(&model, "grid sum(t.x)", &[&exact.to_string()]);
    let square = model.query("grid sum(t.x * t.x) as s").unwrap().run();
    assert_eq!(square.unwrap_err().to_string(), "query:1:10: the sum has more than 38 digits");
    let grid = model.query("grid sum(t.x) as s").unwrap().run().unwrap();
    // As Arrow they are decimals without digits after the point.
    let batch = grid.to_record_batch().unwrap();
    assert_eq!(batch.schema().field(0).data_type(), &arrow_schema::DataType::Decimal128(38, 0));
}

#[test]
fn a_grid_is_a_record_batch() {
    use arrow_array::Array;
    use arrow_array::cast::AsArray;
    use arrow_array::types::{Date32Type, Decimal128Type, Float64Type, Int64Type};
    let rows = vec![
        vec![Value::text("a"), Value::Date(5), Value::Decimal { unscaled: 125, scale: 2 }],
        vec![Value::Null, Value::Null, Value::Null],
    ];
    let model = Model::builder()
        .rows("t", &[("g", Type::Text), ("d", Type::Date), ("x", Type::decimal(2))], &rows)
        .build()
        .unwrap();
    let batch = model
        .query("grid sum(t.x), avg(t.x), rows(t), max(t.d) by t.g")
        .unwrap()
        .run()
        .unwrap()
        .to_record_batch()
        .unwrap();
    assert_eq!((batch.num_rows(), batch.num_columns()), (2, 5));
    assert_eq!(batch.column(0).as_string::<i32>().value(0), "a");
    assert!(batch.column(0).is_null(1) && batch.column(1).is_null(1));
    assert_eq!(batch.column(1).as_primitive::<Decimal128Type>().value(0), 125);
    assert_eq!(batch.column(2).as_primitive::<Float64Type>().value(0), 1.25);
    assert_eq!(batch.column(3).as_primitive::<Int64Type>().value(1), 1);
    assert_eq!(batch.column(4).as_primitive::<Date32Type>().value(0), 5);
    // And back again.
    let again = Model::builder().table("u", &[batch]).build().unwrap();
    crate::common::expect(&again, "grid sum(u.\"sum(t.x)\") as s", &["1.25"]);
}
