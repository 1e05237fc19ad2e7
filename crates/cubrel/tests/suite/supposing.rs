//! What a supposed change would weigh is what the model weighs once the change is made.
use std::fmt::Write as _;
use std::fs;

use cubrel::Silent;
use cubrel::sizes::{ColumnSize, Sizes};
use cubrel::{Model, RefreshOptions, Type, Value};
use tempfile::TempDir;

const ROWS: usize = 20_000;

fn noise(i: usize) -> usize {
    (i + 1).wrapping_mul(0x9E37_79B9_7F4A_7C15) >> 33
}

/// Sailings: what repeats, what does not, and times to the second.
fn sailings() -> String {
    let mut text = String::from("ref,route,fuel,left_at,crew\n");
    for i in 0..ROWS {
        let (day, second) = (1 + i * 28 / ROWS, noise(i) % 86_400);
        let (hour, minute) = (second / 3600, second / 60 % 60);
        let fuel = noise(i * 7) % 90_000;
        writeln!(
            text,
            "S{:06},R{},{}.{:02},2026-03-{day:02} {hour:02}:{minute:02}:{:02},{}",
            noise(i) % 1_000_000,
            noise(i / 50) % 12,
            fuel / 100,
            fuel % 100,
            second % 60,
            noise(i / 9) % 5
        )
        .unwrap();
    }
    text
}

fn model(more: &str, edit: impl Fn(&str) -> String) -> (TempDir, Model) {
    let folder = TempDir::new().unwrap();
    fs::write(folder.path().join("sailing.csv"), edit(&sailings())).unwrap();
    fs::write(folder.path().join("route.csv"), "id,miles\nR0,4\nR1,9\nR2,9\nR3,31\nR7,2\n").unwrap();
    let text = format!(
        "[table.sailing]\nsource = 'sailing.csv'\n[table.route]\nsource = 'route.csv'\nkey = 'id'\n\
         [[relationship]]\nmany = 'sailing.route'\none = 'route.id'\n{more}"
    );
    fs::write(folder.path().join("model.toml"), text).unwrap();
    let model = Model::refresh(folder.path(), &RefreshOptions::default(), &Silent).unwrap().0;
    (folder, model)
}

fn column<'s>(sizes: &'s Sizes, name: &str) -> &'s ColumnSize {
    let table = sizes.tables.iter().find(|t| t.name == "sailing").unwrap();
    table.columns.iter().find(|c| c.name == name).unwrap_or_else(|| panic!("no {name}"))
}

/// Each field of a line changed by its place.
fn each_field(text: &str, change: impl Fn(usize, &str) -> Option<String>) -> String {
    let mut lines = text.lines();
    let header: Vec<&str> = lines.next().unwrap().split(',').collect();
    let keep = |line: &[String]| line.join(",") + "\n";
    let kept: Vec<bool> = (0..header.len()).map(|i| change(i, "0").is_some()).collect();
    let names: Vec<String> = header.iter().zip(&kept).filter(|(_, k)| **k).map(|(n, _)| n.to_string()).collect();
    let mut out = keep(&names);
    lines.for_each(|line| {
        let fields: Vec<String> = line.split(',').enumerate().filter_map(|(i, field)| change(i, field)).collect();
        out += &keep(&fields);
    });
    out
}

#[test]
fn what_is_supposed_is_what_comes_of_it() {
    let (_folder, before) = model("", |text| text.to_string());
    type Edit = fn(usize, &str) -> Option<String>;
    let cases: &[(&str, Edit, &[&str])] = &[
        ("drop sailing.ref", |i, field| (i != 0).then(|| field.to_string()), &["route", "fuel", "left_at", "crew"]),
        (
            "round sailing.left_at to hour",
            |i, field| {
                Some(if i == 3 { format!("{}:00:00", field.get(..13).unwrap_or(field)) } else { field.to_string() })
            },
            &["ref", "route", "fuel", "left_at", "crew"],
        ),
        (
            "round sailing.fuel to 0",
            |i, field| {
                Some(match field.split_once('.') {
                    Some((whole, part)) if i == 2 => {
                        let up = i64::from(part >= "50");
                        (whole.parse::<i64>().unwrap() + up).to_string()
                    }
                    _ => field.to_string(),
                })
            },
            &["ref", "route", "left_at", "crew"],
        ),
    ];
    for (change, edit, names) in cases {
        let supposed = before.suppose(&[change.to_string()]).unwrap_or_else(|e| panic!("{change}: {e}"));
        let (_folder, after) = model("", |text| each_field(text, edit));
        let real = after.sizes();
        for name in *names {
            let (a, b) = (column(&supposed.after, name), column(&real, name));
            assert_eq!((a.distinct, a.nulls), (b.distinct, b.nulls), "{change}: {name}");
            // The sample by which rows are put in order is taken of other rows.
            let near = a.bytes.abs_diff(b.bytes) * 20 <= b.bytes + 2000;
            assert!(near, "{change}: {name} takes {} supposed and {} in truth", a.bytes, b.bytes);
        }
        let (supposed, real) = (supposed.after.model.bytes, real.model.bytes);
        assert!(supposed.abs_diff(real) * 20 <= real, "{change}: {supposed} supposed, {real} in truth");
        assert_eq!(before.sizes().model.bytes, before.suppose(&[]).unwrap().after.model.bytes);
    }
}

#[test]
fn a_column_that_is_split_weighs_what_its_halves_weigh() {
    let (_folder, before) = model("", |text| text.to_string());
    let supposed = before.suppose(&["split sailing.left_at".into()]).unwrap().after;
    let table = supposed.tables.iter().find(|t| t.name == "sailing").unwrap();
    let halves: Vec<&ColumnSize> = table.columns.iter().filter(|c| c.name.starts_with("left_at")).collect();
    assert_eq!(halves.len(), 2, "{:?}", table.columns.iter().map(|c| &c.name).collect::<Vec<_>>());
    let more = "[table.sailing.column.left_at]\nkeep = false\n[table.sailing.column.on_day]\nformula = 'cast(left_at as date)'\n";
    let (_folder, after) = model(more, |text| text.to_string());
    let real = after.sizes();
    let day = column(&real, "on_day");
    assert!(
        halves.iter().any(|c| (c.distinct, c.nulls) == (day.distinct, day.nulls)
            && c.bytes.abs_diff(day.bytes) * 20 <= day.bytes + 500)
    );
    // Seconds of a day are fewer than seconds of a month.
    let whole = column(&before.sizes(), "left_at").bytes;
    assert!(halves.iter().map(|c| c.bytes).sum::<u64>() < whole, "{whole}");
}

#[test]
fn computing_while_loading_weighs_less_and_is_foreseen() {
    let formula = "[table.sailing.column.far]\nformula = 'if(sum(sailing.crew) given (without all) > 0, crew * 100 + length(route), 0)'\n";
    let (_folder, before) = model(formula, |text| text.to_string());
    let supposed = before.suppose(&["load sailing.far".into()]).unwrap();
    let own = "[table.sailing.column.far]\nformula = 'crew * 100 + length(route)'\n";
    let (_folder, after) = model(own, |text| text.to_string());
    let (now, then, real) = (column(&supposed.before, "far"), column(&supposed.after, "far"), after.sizes());
    assert_eq!((now.origin, then.origin), ("after_load", "load"));
    let real = column(&real, "far");
    assert!(then.bytes.abs_diff(real.bytes) * 10 <= real.bytes + 500, "{} {}", then.bytes, real.bytes);
    assert!(supposed.after.model.bytes <= supposed.before.model.bytes);
}

#[test]
fn an_order_that_is_supposed_is_the_one_that_columns_stand_in() {
    let (_folder, before) = model("", |text| text.to_string());
    let by = |columns: &str| before.suppose(&[format!("order sailing by {columns}")]).unwrap().after;
    // In the order of a column, it takes next to nothing.
    for name in ["route", "crew"] {
        assert!(column(&by(name), name).bytes < 600, "{name}: {}", column(&by(name), name).bytes);
    }
    assert!(column(&by("crew, route"), "route").bytes < column(&by("left_at"), "route").bytes);
    // What was chosen makes runs as well as an order by hand does. In the order of what never repeats, references take less,
    // and everything else more.
    let chosen = before.sizes().model.bytes;
    let (scattered, in_runs) = (by("left_at").model.bytes, by("route, crew").model.bytes);
    assert!(
        chosen <= scattered && chosen <= in_runs + in_runs / 20,
        "chosen {chosen}, {in_runs} and {scattered} by hand"
    );
    let by_ref = by("ref");
    assert!(column(&by_ref, "ref").bytes < column(&before.sizes(), "ref").bytes / 2);
    assert!(column(&by_ref, "crew").bytes > column(&before.sizes(), "crew").bytes * 2);
}

/// Bookings as a system writes them: by day, with references, fares that hang together with routes, and noise.
fn bookings(rows: usize, segment_rows: usize, wanted: impl Fn(usize, &mut Vec<Value>)) -> Result<Model, cubrel::Error> {
    const COLUMNS: &[(&str, Type)] = &[
        ("day", Type::Date),
        ("ref", Type::Int),
        ("route", Type::Int),
        ("miles", Type::Int),
        ("fare", Type::Text),
        ("price", Type::Decimal { precision: 18, scale: 2 }),
        ("at", Type::Timestamp),
    ];
    let row = |i: usize| {
        let (day, route) = (20_000 + (i * 300 / rows) as i32, (noise(i) % 12) as i64);
        let fare = ["adult", "child", "car", "bike"][noise(i * 3) % 4];
        let price =
            i128::from(route) * 700 + [2000, 1100, 4900, 700][noise(i * 3) % 4] + (i as i128 * 8 / rows as i128);
        let at = i64::from(day) * 86_400_000_000 + (noise(i * 5) % 86_400) as i64 * 1_000_000;
        let mut row = vec![
            Value::Date(day),
            Value::Int(i as i64),
            Value::Int(route),
            Value::Int(route * route % 31),
            Value::text(fare),
            Value::Decimal { unscaled: price, scale: 2 },
            Value::Timestamp(at),
        ];
        wanted(i, &mut row);
        row
    };
    let all: Vec<Vec<Value>> = (0..rows).map(row).collect();
    let is_there = |i: &usize| all.iter().any(|row| row[*i] != Value::Bool(false));
    let there: Vec<usize> = (0..COLUMNS.len()).filter(is_there).collect();
    let columns: Vec<(&str, Type)> = there.iter().map(|i| COLUMNS[*i]).collect();
    let rows: Vec<Vec<Value>> = all.iter().map(|row| there.iter().map(|i| row[*i].clone()).collect()).collect();
    Model::builder().rows("booking", &columns, &rows).segment_rows(segment_rows).build()
}

/// What a change to each row of [`bookings`] is; `false` stands for a column that is not there.
type Edit = fn(usize, &mut Vec<Value>);

#[test]
fn what_is_supposed_of_several_segments_is_what_comes_of_it() {
    let changes: &[(&str, Edit)] = &[
        ("drop booking.day", |_, row| row[0] = Value::Bool(false)),
        ("drop booking.ref", |_, row| row[1] = Value::Bool(false)),
        ("drop booking.route", |_, row| row[2] = Value::Bool(false)),
        ("drop booking.fare", |_, row| row[4] = Value::Bool(false)),
        ("drop booking.price", |_, row| row[5] = Value::Bool(false)),
        ("drop booking.at", |_, row| row[6] = Value::Bool(false)),
        ("round booking.price to 2", |_, _| {}),
        ("round booking.at to second", |_, _| {}),
        ("round booking.at to hour", |_, row| {
            if let Value::Timestamp(at) = &mut row[6] {
                *at -= *at % 3_600_000_000;
            }
        }),
    ];
    for (rows, segment_rows) in [(60_000, 10_007), (60_000, 60_000), (30_000, 5_003)] {
        let before = bookings(rows, segment_rows, |_, _| {}).unwrap();
        let now = before.sizes().model.bytes;
        for (change, edit) in changes {
            let real = bookings(rows, segment_rows, edit).unwrap().sizes().model.bytes;
            let supposed = before.suppose(&[change.to_string()]).unwrap().after.model.bytes;
            let what = format!("{change} of {segment_rows} rows: {supposed} supposed, {real} in truth, {now} before");
            assert!(supposed.abs_diff(real) * 50 <= now, "{what}");
            assert!(real != now || supposed == now, "{what}");
        }
    }
}
