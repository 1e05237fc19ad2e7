//! Models made in code: in whatever order things are said, nothing is lost, and what does not fit is told.

use std::sync::Arc;

use arrow_array::types::Int32Type;
use arrow_array::{
    ArrayRef, Date32Array, Date64Array, Decimal128Array, DictionaryArray, Int32Array, Int64Array, RecordBatch,
    StringArray, TimestampSecondArray,
};
use cubrel::{Builder, Model, Type, Value};

use crate::common::expect;

const MONEY: Type = Type::Decimal { precision: 10, scale: 2 };

fn told(builder: Builder) -> String {
    builder.build().expect_err("this cannot be built").to_string()
}

fn one(ty: Type, value: Value) -> Builder {
    Model::builder().rows(
        "t",
        &[("id", Type::Int), ("x", ty)],
        &[vec![Value::Int(1), Value::Null], vec![Value::Int(2), value]],
    )
}

#[test]
fn values_that_fit_are_kept_as_they_are() {
    let decimal = |unscaled, scale| Value::Decimal { unscaled, scale };
    for (ty, value, shown) in [
        (MONEY, Value::Int(5), "5.00"),
        (MONEY, decimal(35, 1), "3.50"),
        (MONEY, decimal(9_999_999_999, 2), "99999999.99"),
        (Type::Int, decimal(500, 2), "5"),
        (Type::Float, Value::Int(3), "3"),
        (Type::Float, Value::Float(f64::NAN), ""),
        (Type::Text, Value::text(""), ""),
        (Type::Date, Value::Date(-4_371_587), "-009999-01-01"),
    ] {
        let model = one(ty, value.clone()).build().unwrap_or_else(|e| panic!("{value:?} in {ty}: {e}"));
        expect(&model, "records t.x order by t.id desc limit 1", &[shown]);
    }
}

#[test]
fn values_that_do_not_fit_are_told_with_their_place() {
    let decimal = |unscaled, scale| Value::Decimal { unscaled, scale };
    for (ty, value) in [
        (MONEY, decimal(5005, 3)),
        (MONEY, decimal(10_000_000_000, 2)),
        (MONEY, Value::Float(3.5)),
        (MONEY, Value::text("3.5")),
        (Type::Int, Value::text("5")),
        (Type::Int, decimal(35, 1)),
        (Type::Int, Value::Float(5.0)),
        (Type::Int, Value::Bool(true)),
        (Type::Float, Value::text("5")),
        (Type::Float, Value::Int(i64::MAX)),
        (Type::Date, Value::text("2026-01-01")),
        (Type::Date, Value::Int(20_000)),
        (Type::Date, Value::Date(i32::MAX)),
        (Type::Timestamp, Value::Date(20_000)),
        (Type::Timestamp, Value::Timestamp(i64::MAX)),
        (Type::Text, Value::Int(5)),
        (Type::Bool, Value::Int(1)),
    ] {
        let error = told(one(ty, value.clone()));
        assert!(error.contains("table `t`, column `x`: row 2: "), "{value:?} in {ty}: {error}");
    }
    for (precision, scale) in [(10, 200), (200, 2), (0, 0), (38, 19), (5, 6)] {
        let error = told(one(Type::Decimal { precision, scale }, Value::Null));
        assert!(error.contains("table `t`, column `x`: a column cannot be decimal"), "{error}");
    }
    let short = Model::builder().rows("t", &[("id", Type::Int), ("x", Type::Int)], &[vec![Value::Int(1)]]);
    assert!(told(short).contains("row 1 has 1 values for 2 columns"));
}

fn batch(columns: Vec<(&str, ArrayRef)>) -> RecordBatch {
    RecordBatch::try_from_iter(columns).unwrap()
}

#[test]
fn record_batches_are_taken_whole_or_refused() {
    let no_values = DictionaryArray::<Int32Type>::new(
        Int32Array::from(vec![None, None]),
        Arc::new(StringArray::from(Vec::<Option<&str>>::new())),
    );
    let model = Model::builder().table("t", &[batch(vec![("x", Arc::new(no_values) as ArrayRef)])]).build().unwrap();
    expect(&model, "grid rows(t) as n, count(t.x) as c", &["2|0"]);
    // Nullability is no part of what a column is.
    let parts = [
        batch(vec![("x", Arc::new(Int64Array::from(vec![1])) as ArrayRef)]),
        RecordBatch::try_new(
            Arc::new(arrow_schema::Schema::new(vec![arrow_schema::Field::new(
                "x",
                arrow_schema::DataType::Int64,
                true,
            )])),
            vec![Arc::new(Int64Array::from(vec![None, Some(2)]))],
        )
        .unwrap(),
    ];
    let model = Model::builder().table("t", &parts).build().unwrap();
    expect(&model, "grid rows(t) as n, sum(t.x) as s", &["3|3"]);
    let refused: [(ArrayRef, &str); 5] = [
        (Arc::new(TimestampSecondArray::from(vec![i64::MAX])), "beyond what a timestamp can be"),
        (Arc::new(Date64Array::from(vec![i64::MAX])), "beyond what a date can be"),
        (Arc::new(Date32Array::from(vec![i32::MAX])), "beyond what a date can be"),
        (
            Arc::new(Decimal128Array::from(vec![1]).with_precision_and_scale(38, 30).unwrap()),
            "scale 30 cannot be a column",
        ),
        (Arc::new(Decimal128Array::from(vec![i128::MAX / 10]).with_precision_and_scale(38, 2).unwrap()), "more digits"),
    ];
    for (array, expected) in refused {
        let error = told(Model::builder().table("t", &[batch(vec![("x", array)])]));
        assert!(error.contains("table `t`: column `x`") && error.contains(expected), "{error}");
    }
    let other = batch(vec![("y", Arc::new(Int64Array::from(vec![1])) as ArrayRef)]);
    let error = told(Model::builder().table("t", &[parts[0].clone(), other]));
    assert!(error.contains("record batch 2 has other columns"), "{error}");
}

fn table(builder: Builder) -> Builder {
    builder.rows("t", &[("id", Type::Int), ("at", Type::Date)], &[vec![Value::Int(1), Value::Date(20_000)]])
}

#[test]
fn what_is_said_twice_is_told() {
    let column = |b: Builder| b.column("t", "x", "id + 1");
    let calendar = |b: Builder| b.calendar("days", "2024-01-01", "2024-12-31");
    let measure = |b: Builder| b.measure("m", "sum(t.id)");
    let cases: [(&str, &dyn Fn(Builder) -> Builder); 5] = [
        ("table `t` is given twice", &table),
        ("the formula of column `t.x` is given twice", &column),
        ("calendar `days` is given twice", &calendar),
        ("measure `m` is given twice", &measure),
        ("hierarchy `h` of table `t` is given twice", &|b| b.hierarchy("t", "h", &["id"])),
    ];
    for (expected, step) in cases {
        let error = told(step(step(table(Model::builder()))));
        assert!(error.contains(expected), "{error}");
    }
    let texts = [
        "[model]\nlocale = 'de-DE'",
        "[measure.m]\nformula = '1'",
        "[table.t]\nkey = 'id'",
        "[table.t.column.id]\nlabel = 'x'",
    ];
    for text in texts {
        let error = told(table(Model::builder()).definitions(text).definitions(text));
        assert!(error.starts_with("definitions:") && error.contains("stands twice"), "{error}");
    }
    let error = told(table(Model::builder()).rows("u", &[("a", Type::Int), ("a", Type::Int)], &[]));
    assert!(error.contains("column `a` of table `u` is given twice"), "{error}");
}

#[test]
fn the_order_in_which_things_are_said_does_not_matter() {
    let steps: [&dyn Fn(Builder) -> Builder; 5] = [
        &table,
        &|b| b.column("t", "next", "id + 1"),
        &|b| b.calendar("days", "2024-01-01", "2024-12-31"),
        &|b| {
            b.definitions(
                "[model]\nlocale = 'de-DE'\n[table.t]\nkey = 'id'\n[table.t.column.id]\nlabel = 'Number'\n[table.days]\n\
                 year_starts = '04-01'\n[[relationship]]\nmany = 't.at'\none = 'days.date'",
            )
        },
        &|b| b.definitions("[measure.m]\nformula = \"to_text(sum(t.next) * 1000.5, '#,##0.0')\""),
    ];
    for first in 0..steps.len() {
        for second in 0..steps.len() {
            let mut order: Vec<usize> = vec![first, second];
            order.extend((0..steps.len()).filter(|i| *i != first && *i != second));
            order.dedup();
            let builder = order.iter().fold(Model::builder(), |builder, i| steps[*i](builder));
            let model = builder.build().unwrap_or_else(|e| panic!("{order:?}: {e}"));
            expect(&model, "grid m by days.year", &["2025|2.001,0"]);
        }
    }
}

#[test]
fn keys_of_sources_do_nothing_for_rows_that_are_given() {
    for (text, expected) in [
        ("[table.t]\nmissing = ['x']", "`missing` says how a source is read"),
        ("[table.t]\nmax_bad_rows = 3", "`max_bad_rows` says how a source is read"),
        ("[table.t]\nsource = 'a.csv'", "table `t` has rows and `source`"),
        ("[table.t.column.id]\ntype = 'text'", "`t.id` is given as int, and `type` says text"),
        ("[table.t.column.id]\nsource_name = 'ID'", "`source_name` says how a source is read"),
        ("[model]\nmemory_limit = '100 B'", "the memory limit has room for 100 B"),
    ] {
        let error = told(table(Model::builder()).definitions(text));
        assert!(error.contains(expected), "{error}");
    }
    table(Model::builder()).definitions("[table.t.column.id]\ntype = 'int'").build().unwrap();
}

#[test]
fn names_with_points_can_be_related() {
    let int = Value::Int;
    let model = Model::builder()
        .rows("far.away", &[("k.ey", Type::Int), ("name", Type::Text)], &[vec![int(1), Value::text("Ness")]])
        .rows("t", &[("far.k", Type::Int)], &[vec![int(1)], vec![int(2)]])
        .relationship("t.far.k", "\"far.away\".\"k.ey\"")
        .build()
        .unwrap();
    expect(&model, "grid rows(t) as n by \"far.away\".name", &["Ness|1", "|1"]);
}

#[test]
fn today_is_the_day_on_the_clock_unless_it_is_said() {
    let days = |builder: Builder| {
        let model = table(builder).column("t", "age", "days_between(at, today())").build().unwrap();
        let grid = model.query("records t.age").unwrap().run().unwrap();
        grid.lines[0].values[0].clone()
    };
    assert_eq!(days(Model::builder().today(20_010)), Value::Int(10));
    assert!(matches!(days(Model::builder()), Value::Int(age) if age > 700));
}
