//! First models from tables as warehouses and generators name them: marks in front of every column, keys written together with
//! what they are the key of, words cut short, numbers that stand in for keys, days that are a table of their own.
use std::fmt::Write as _;
use std::fs;

use cubrel::draft::{Draft, draft};
use cubrel::{Model, RefreshOptions, Silent};
use tempfile::TempDir;

/// Files, drafted and loaded.
fn drafted(files: &[(&str, String)]) -> (TempDir, Draft, Model) {
    let folder = TempDir::new().unwrap();
    files.iter().for_each(|(name, text)| fs::write(folder.path().join(name), text).unwrap());
    let draft = draft(folder.path(), &[folder.path().to_path_buf()], &Silent).unwrap_or_else(|e| panic!("{e}"));
    fs::write(folder.path().join("model.toml"), &draft.toml).unwrap();
    let loaded = Model::refresh(folder.path(), &RefreshOptions::default(), &Silent);
    let model = loaded.unwrap_or_else(|e| panic!("{e}\n{}", draft.toml)).0;
    (folder, draft, model)
}

/// Rows of a table, each from its number.
fn rows(header: &str, count: usize, row: impl Fn(usize) -> String) -> String {
    let mut text = format!("{header}\n");
    (1..=count).for_each(|n| {
        let _ = writeln!(text, "{}", row(n));
    });
    text
}

/// A day from its number.
fn day(n: usize) -> String {
    format!("2025-{:02}-{:02}", 1 + n / 28 % 12, 1 + n % 28)
}

fn holds(draft: &Draft, there: &[&str], not_there: &[&str]) {
    let found = draft.findings.join("\n");
    there.iter().for_each(|part| assert!(found.contains(part), "no `{part}` in\n{found}"));
    not_there.iter().for_each(|part| assert!(!found.contains(part), "`{part}` in\n{found}"));
}

fn says(draft: &Draft, there: &[&str], not_there: &[&str]) {
    there.iter().for_each(|part| assert!(draft.toml.contains(part), "no `{part}` in\n{}", draft.toml));
    not_there.iter().for_each(|part| assert!(!draft.toml.contains(part), "`{part}` in\n{}", draft.toml));
}

/// How many lines a grid has.
fn lines(model: &Model, text: &str) -> usize {
    model.query(text).unwrap_or_else(|e| panic!("{text}: {e}")).run().unwrap().lines.len()
}

#[test]
fn keys_are_found_behind_marks_and_in_joined_words() {
    let (_folder, draft, model) = drafted(&[
        ("islands.csv", rows("i_islandkey,i_name", 4, |n| format!("{n},Isle {n}"))),
        (
            "customer.csv",
            rows("c_custkey,c_name,c_islandkey,c_discount", 60, |n| {
                format!("{n},Customer {n},{},0.{:02}", n % 4 + 1, n % 11)
            }),
        ),
        (
            "bookings.csv",
            rows("b_bookingkey,b_custkey,b_bookedon,b_totalprice", 300, |n| {
                format!("{n},{},{},{}.50", n * 7 % 60 + 1, day(n), n % 90)
            }),
        ),
        (
            "leg.csv",
            rows("l_bookingkey,l_legnumber,l_sailedon,l_unitprice,l_extendedprice", 900, |n| {
                format!("{},{},{},{}.25,{}.75", n / 3 % 300 + 1, n % 3 + 1, day(n * 5), n % 40, n % 400)
            }),
        ),
    ]);
    holds(
        &draft,
        &[
            "leg.l_bookingkey points at bookings.b_bookingkey: 300 of its 300 values",
            "bookings.b_custkey points at customer.c_custkey: 60 of its 60 values",
            "customer.c_islandkey points at islands.i_islandkey: 4 of its 4 values",
        ],
        &["l_legnumber points", "spare"],
    );
    says(
        &draft,
        &[
            "key = \"i_islandkey\"",
            "[table.customer.column.c_custkey]\nhidden = true",
            "[measure.total_b_totalprice]",
            "[measure.average_l_unitprice]",
            "[measure.total_l_extendedprice]",
            // The lines have a day of their own, and so has what they are lines of.
            "many = \"leg.l_sailedon\"\none = \"calendar.date\"\n\n",
            "many = \"bookings.b_bookedon\"\none = \"calendar.date\"\nspare = true",
        ],
        &["total_l_bookingkey", "total_l_legnumber", "total_b_custkey", "total_l_unitprice"],
    );
    assert_eq!(lines(&model, "grid leg_rows by islands.i_name"), 4);
    assert_eq!(lines(&model, "grid bookings_rows via bookings.b_bookedon as n by calendar.month"), 11);
}

#[test]
fn numbers_that_stand_in_for_keys_are_keys_before_texts_are() {
    // Texts of every table count from one on, so that each is among those of larger tables.
    let id = |n: usize| format!("AAAA{n:04}");
    let (_folder, draft, _model) = drafted(&[
        (
            "port_address.csv",
            rows("pa_address_sk,pa_address_id,pa_street", 90, |n| format!("{n},{},Quay {}", id(n), n % 9)),
        ),
        ("guest_tastes.csv", rows("gt_taste_sk,gt_meal", 40, |n| format!("{n},Meal {}", n % 5))),
        (
            "vessel.csv",
            rows("v_vessel_sk,v_vessel_id,v_name,v_launched_date_sk", 30, |n| {
                format!("{n},{},Boat {n},{}", id(n), 100 + n)
            }),
        ),
        (
            "date_dim.csv",
            rows("d_date_sk,d_date,d_year,d_day_name,d_dow", 200, |n| {
                let names = ["Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"];
                let (month, day_of_month) = if n <= 181 { month_and_day(n) } else { (7, n - 181) };
                format!("{},2025-{month:02}-{day_of_month:02},2025,{},{}", 100 + n, names[(n + 1) % 7], (n + 1) % 7)
            }),
        ),
        (
            "sailing.csv",
            rows("sg_sold_date_sk,sg_sailed_date_sk,sg_vessel_sk,sg_addr_sk,sg_gtaste_sk,sg_ext_fare", 2000, |n| {
                format!(
                    "{},{},{},{},{},{}.10",
                    101 + n % 170,
                    105 + n % 180,
                    n % 30 + 1,
                    n % 90 + 1,
                    n % 40 + 1,
                    n % 77
                )
            }),
        ),
    ]);
    holds(
        &draft,
        &[
            "sailing.sg_sold_date_sk points at date_dim.d_date_sk: 170 of",
            "sailing.sg_sailed_date_sk points at date_dim.d_date_sk, spare",
            // A sailing's own day comes before that of its vessel.
            "vessel.v_launched_date_sk points at date_dim.d_date_sk, spare",
            "sailing.sg_vessel_sk points at vessel.v_vessel_sk: 30 of",
            "sailing.sg_addr_sk points at port_address.pa_address_sk: 90 of",
            "sailing.sg_gtaste_sk points at guest_tastes.gt_taste_sk: 40 of",
        ],
        &["v_vessel_id points", "v_vessel_id may", "pa_address_id"],
    );
    says(
        &draft,
        &[
            "key = \"pa_address_sk\"",
            "key = \"d_date_sk\"\ncalendar = \"d_date\"",
            "[table.date_dim.column.d_day_name]\ndisplay_order = \"d_dow\"",
            "[measure.total_sg_ext_fare]",
        ],
        &["[table.calendar]", "total_sg_vessel_sk", "total_sg_sold_date_sk", "display_order = \"v_"],
    );
}

/// A day of the first half of a year without a leap day.
fn month_and_day(n: usize) -> (usize, usize) {
    let mut rest = n;
    for (month, days) in [31, 28, 31, 30, 31, 30].into_iter().enumerate() {
        if rest <= days {
            return (month + 1, rest);
        }
        rest -= days;
    }
    (7, rest)
}

#[test]
fn of_two_ways_that_say_the_same_the_longer_one_serves_both_tables() {
    let sailing = |n: usize| n * 13 % 80 + 1;
    let route = |sailing: usize| sailing % 6 + 1;
    let with = |own: &dyn Fn(usize) -> usize| {
        drafted(&[
            ("route.csv", rows("id,name", 6, |n| format!("{n},Route {n}"))),
            ("sailing.csv", rows("id,route_id,delay", 80, |n| format!("{n},{},{}", route(n), n % 9))),
            (
                "booking.csv",
                rows("id,sailing_id,route_id,seats", 500, |n| format!("{n},{},{},{}", sailing(n), own(n), n % 5)),
            ),
        ])
    };
    let (_folder, draft, model) = with(&|n| route(sailing(n)));
    holds(
        &draft,
        &["booking.route_id points at route.id, spare", "sailing.route_id points at route.id: 6"],
        &["sailing.route_id points at route.id, spare"],
    );
    assert_eq!(lines(&model, "grid booking_rows, sum(sailing.delay) as d by route.name"), 6);
    // Over more than one table in between, too.
    let (_folder, draft, model) = drafted(&[
        ("region.csv", rows("id,name", 3, |n| format!("{n},Region {n}"))),
        ("port.csv", rows("id,region_id", 9, |n| format!("{n},{}", n % 3 + 1))),
        ("route.csv", rows("id,port_id", 12, |n| format!("{n},{}", n % 9 + 1))),
        (
            "sailing.csv",
            rows("id,route_id,region_id", 800, |n| format!("{n},{},{}", n % 12 + 1, ((n % 12 + 1) % 9 + 1) % 3 + 1)),
        ),
        ("booking.csv", rows("id,route_id,seats", 500, |n| format!("{n},{},{}", n % 12 + 1, n % 5))),
    ]);
    holds(&draft, &["port.region_id points at region.id: 3", "sailing.region_id points at region.id, spare"], &[]);
    assert_eq!(lines(&model, "grid booking_rows, sailing_rows by region.name"), 3);
    // Where they differ, a booking's own route is meant.
    let (_folder, draft, _) = with(&|n| n % 6 + 1);
    holds(&draft, &["booking.route_id points at route.id: 6", "sailing.route_id points at route.id, spare"], &[]);
}

#[test]
fn a_table_of_days_is_the_calendar_when_no_day_is_left_out() {
    let days = |skip: usize| {
        rows("day,month", 59, |n| {
            let (month, day) = month_and_day(if n < 40 { n } else { n + skip });
            format!("2025-{month:02}-{day:02},{month}")
        })
    };
    let trips = || rows("trip,sailed,seats", 120, |n| format!("T{n},2025-01-{:02},{}", n % 31 + 1, n % 9));
    let (_folder, draft, model) = drafted(&[("calendar.csv", days(0)), ("trip.csv", trips())]);
    says(&draft, &["calendar = \"day\"", "many = \"trip.sailed\"\none = \"calendar.day\""], &["generate"]);
    assert_eq!(lines(&model, "grid total_seats by calendar.month"), 1);
    // Days of moments point there, too, and days that are not there do not.
    let moments =
        |month: usize| rows("trip,left_at", 120, |n| format!("T{n},2025-{month:02}-{:02} 08:15:00", n % 28 + 1));
    let (_folder, draft, _) = drafted(&[("calendar.csv", days(0)), ("trip.csv", moments(2))]);
    says(&draft, &["many = \"trip.left_at_day\"\none = \"calendar.day\""], &["generate"]);
    let (_folder, draft, _) = drafted(&[("calendar.csv", days(0)), ("trip.csv", moments(7))]);
    says(&draft, &["calendar = \"day\""], &["many = \"trip.left_at_day\""]);
    let (_folder, draft, _) = drafted(&[("calendar.csv", days(1)), ("trip.csv", trips())]);
    says(&draft, &["[table.days]\ncalendar = \"date\"\ngenerate = {}"], &["calendar = \"day\""]);
    // Rates of every day are no calendar.
    let rates = rows("day,rate", 31, |n| format!("2025-01-{n:02},0.{n:02}"));
    let (_folder, draft, _) = drafted(&[("rates.csv", rates), ("trip.csv", trips())]);
    says(&draft, &["generate = {}", "[measure.average_rate]"], &["calendar = \"day\""]);
}

#[test]
fn capitals_part_words_and_keys_end_as_what_they_point_at() {
    let date_key = |n: usize| {
        let (month, day) = month_and_day(n % 150 + 1);
        format!("2025{month:02}{day:02}")
    };
    let (_folder, draft, model) = drafted(&[
        (
            "DimDate.csv",
            rows("DateKey,FullDate,CalendarYear", 181, |n| {
                let (month, day) = month_and_day(n);
                format!("2025{month:02}{day:02},2025-{month:02}-{day:02},2025")
            }),
        ),
        ("DimVessel.csv", rows("VesselKey,VesselName,BuiltIn", 12, |n| format!("{n},Boat {},{}", 50 - n, 1990 + n))),
        (
            "FactSailing.csv",
            rows("SailingKey,BookedDateKey,SailDateKey,VesselKey,Seats", 600, |n| {
                format!("{n},{},{},{},{}", date_key(n), date_key(n * 7), n % 12 + 1, n % 5)
            }),
        ),
    ]);
    holds(
        &draft,
        &[
            "fact_sailing.BookedDateKey points at dim_date.DateKey: 150 of",
            "fact_sailing.SailDateKey points at dim_date.DateKey, spare",
            "fact_sailing.VesselKey points at dim_vessel.VesselKey: 12 of",
        ],
        &["SailingKey points"],
    );
    // A number that stands in for a key orders nothing, and years are not added up.
    says(&draft, &["[measure.total_seats]"], &["display_order", "dim_date_rows", "total_built", "average_calendar"]);
    assert_eq!(lines(&model, "grid total_seats by dim_vessel.VesselName"), 12);
    let (_folder, draft, _) =
        drafted(&[("hulls.csv", rows("hull,launched,tons", 40, |n| format!("H{n},{},{}", 1950 + n % 60, n * 37)))]);
    says(&draft, &["[measure.average_launched]", "[measure.total_tons]"], &["total_launched"]);
}

#[test]
fn numbers_of_files_with_types_stay_numbers() {
    let text = rows("account,seats", 50, |n| format!("{},{}", 5_000_000 + n.max(2) * 37, n % 4));
    let (folder, draft, _) = drafted(&[("trip.csv", text)]);
    says(&draft, &["`account` looks like an identifier: it is read as text"], &["total_account"]);
    // The same as it comes from a file that says what is a number: one still, and still nothing to be added up.
    fs::write(folder.path().join("model.toml"), draft.toml.replace("type = \"text\"", "type = \"int\"")).unwrap();
    let model = Model::refresh(folder.path(), &RefreshOptions::default(), &Silent).unwrap().0;
    let grid = model.query("grid sum(trip.seats) as seats by trip.account").unwrap().run().unwrap();
    let typed = TempDir::new().unwrap();
    fs::write(typed.path().join("trip.parquet"), grid.to_parquet().unwrap()).unwrap();
    let draft = cubrel::draft::draft(typed.path(), &[typed.path().to_path_buf()], &Silent).unwrap();
    says(&draft, &["trip.parquet", "[measure.total_seats]"], &["type = \"text\"", "total_account"]);
}
