//! Relationships that are named: several spare ones, keys of several columns, a table that points at itself.

use crate::common::expect;
use cubrel::{Builder, Model, Type, Value};

/// Trips point at ports by two spare keys of two columns that begin alike; staff point at their managers.
fn model() -> Builder {
    let text = Value::text;
    let int = Value::Int;
    Model::builder()
        .definitions(
            "[[relationship]]
            many = ['trip.a', 'trip.b']
            one = ['port.k1', 'port.k2']
            spare = true
            [[relationship]]
            many = ['trip.a', 'trip.c']
            one = ['port.k1', 'port.k2']
            spare = true
            [[relationship]]
            many = 'staff.boss'
            one = 'staff.code'
            spare = true
            [measure.paid]
            formula = 'sum(staff.pay)'
            [measure.hours]
            formula = 'sum(shift_.hours)'",
        )
        .rows(
            "port",
            &[("k1", Type::Int), ("k2", Type::Int), ("x", Type::Int), ("name", Type::Text)],
            &[
                vec![int(1), int(1), int(10), text("Ness")],
                vec![int(1), int(2), int(20), text("Holm")],
                vec![int(2), int(1), int(30), text("Skaw")],
            ],
        )
        .rows(
            "trip",
            &[("id", Type::Int), ("a", Type::Int), ("b", Type::Int), ("c", Type::Int)],
            &[
                vec![int(1), int(1), int(1), int(2)],
                vec![int(2), int(1), int(2), int(2)],
                vec![int(3), int(2), int(1), int(1)],
                vec![int(4), int(1), int(1), int(9)],
            ],
        )
        .rows(
            "area",
            &[("id", Type::Int), ("name", Type::Text)],
            &[vec![int(1), text("North")], vec![int(2), text("South")]],
        )
        .rows(
            "staff",
            &[
                ("code", Type::Text),
                ("boss", Type::Text),
                ("name", Type::Text),
                ("area", Type::Int),
                ("pay", Type::Int),
            ],
            &[
                vec![text("a"), Value::Null, text("Ann"), int(1), int(50)],
                vec![text("b"), text("a"), text("Bo"), int(2), int(40)],
                vec![text("c"), text("a"), text("Cy"), int(2), int(30)],
                vec![text("d"), text("b"), text("Di"), int(1), int(20)],
                vec![text("e"), text("z"), text("Eli"), int(1), int(10)],
            ],
        )
        .rows(
            "shift_",
            &[("staff", Type::Text), ("hours", Type::Int)],
            &[
                vec![text("a"), int(1)],
                vec![text("b"), int(2)],
                vec![text("c"), int(4)],
                vec![text("d"), int(8)],
                vec![text("d"), int(16)],
            ],
        )
        .relationship("staff.area", "area.id")
        .relationship("shift_.staff", "staff.code")
        .column("staff", "boss_name", "staff.name via staff.boss")
        .column("staff", "boss_area", "area.name via staff.boss")
        .column("staff", "raise", "pay - (pay via staff.boss)")
        .column("shift_", "boss_of", "staff.name via staff.boss")
        .column("staff", "under", "sum(staff.pay) given (without row, staff.boss = 'a')")
}

#[test]
fn relationships_of_several_columns_are_told_apart() {
    let model = model().build().unwrap();
    for (query, lines) in [
        (
            "grid sum(trip.id * port.x via (trip.a, trip.b)) as b, sum(trip.id * port.x via (trip.a, trip.c)) as c",
            &["180|150"][..],
        ),
        ("grid sum(trip.id * port.x via trip.b) as b, sum(trip.id * port.x via trip.c) as c", &["180|150"]),
        ("grid sum(trip.id * port.x via trip.c) as c", &["150"]),
        // a `via` inside of an aggregate makes its table one of those that are gone through
        ("grid sum(port.x via trip.b) as b, sum(port.x via trip.c) as c", &["70|70"]),
        ("grid sum(port.x) via trip.b as b, sum(port.x) as all_of_them", &["60|60"]),
        (
            "grid sum(trip.id) via trip.b as b, sum(trip.id) via trip.c as c by port.name",
            &["Holm|2|3", "Ness|5|", "Skaw|3|3", "||4"],
        ),
        ("grid count(distinct port.name via trip.c) as c", &["2"]),
        ("grid rows(trip) given (port.name via trip.c = 'Holm') as c", &["2"]),
        ("grid rows(trip) as n where port.name via trip.b = 'Ness'", &["2"]),
    ] {
        expect(&model, query, lines);
    }
}

#[test]
fn a_column_of_several_relationships_has_to_be_named_with_the_others() {
    let model = model().build().unwrap();
    let error = model.query("grid sum(trip.id * port.x via trip.a) as x").unwrap_err().to_string();
    let expected = "query:1:31: trip.a belongs to several relationships: (trip.a, trip.b) → (port.k1, port.k2); (trip.a, trip.c) \
        → (port.k1, port.k2) (name all columns of the one that is meant: `via (trip.a, trip.b)` or `via (trip.a, trip.c)`)";
    assert_eq!(error, expected);
    let error = model.query("grid sum(trip.id * port.x via (trip.b, trip.c)) as x").unwrap_err().to_string();
    assert!(error.contains("no relationship starts at trip.b and trip.c"), "{error}");
}

#[test]
fn a_table_that_points_at_itself_is_followed_where_that_is_named() {
    let model = model().build().unwrap();
    for (query, lines) in [
        (
            "records staff.name, staff.boss_name, staff.boss_area, staff.raise order by staff.code",
            &["Ann|||", "Bo|Ann|North|-10", "Cy|Ann|North|-20", "Di|Bo|South|-20", "Eli|||"][..],
        ),
        ("records shift_.hours, shift_.boss_of order by shift_.hours", &["1|", "2|Ann", "4|Ann", "8|Bo", "16|Bo"]),
        (
            "records staff.name, (staff.name via staff.boss) || '/' || staff.name as both order by staff.code",
            &["Ann|", "Bo|Ann/Bo", "Cy|Ann/Cy", "Di|Bo/Di", "Eli|"],
        ),
        // filters on staff reach the rows of those whose boss passes
        (
            "grid paid, paid via staff.boss as below by staff.name",
            &["Ann|50|70", "Bo|40|20", "Cy|30|", "Di|20|", "Eli|10|", "||60"],
        ),
        ("grid hours, hours via staff.boss as below by staff.name", &["Ann|1|6", "Bo|2|24", "Cy|4|", "Di|24|", "||1"]),
        ("grid paid via staff.boss as below by area.name", &["North|70", "South|20", "|60"]),
        ("grid hours via staff.boss as below where staff.name = 'Ann'", &["6"]),
        // inside of the aggregate it is the values that are the boss's
        ("grid sum(staff.pay via staff.boss) as p", &["140"]),
        ("grid sum(staff.pay - (staff.pay via staff.boss)) as p", &["-50"]),
        ("grid sum(shift_.hours * staff.pay via staff.boss) as p", &["1260"]),
        ("grid sum(staff.pay) given (staff.name via staff.boss = 'Ann') as p", &["70"]),
        ("grid avg(paid via staff.boss per staff.name) as p", &["45"]),
        ("grid sum((staff.pay via staff.boss) per staff) as p", &["140"]),
    ] {
        expect(&model, query, lines);
    }
}
