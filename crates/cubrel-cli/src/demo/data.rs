//! The files of the demo.

use std::fs::File;
use std::io::{self, BufWriter, Write};
use std::path::Path;

use super::random::Random;

/// How many rows of the bookings are odd in which way.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, serde::Serialize)]
pub struct Oddities {
    /// Route keys that no route has.
    pub orphan_routes: u64,
    /// Customer keys that no customer has.
    pub orphan_customers: u64,
    /// Rows without a customer.
    pub no_customer: u64,
    /// Rows whose concession is missing, half of them as `NA`.
    pub no_concession: u64,
    /// Rows that stand twice, exactly alike.
    pub repeated: u64,
}

const REGIONS: [(&str, u32, &str); 4] = [
    ("North Sound", 1, "I. Marr"),
    ("Middle Reach", 2, "T. Quill"),
    ("South Skerries", 3, "A. Dunn"),
    ("Outer Banks", 4, ""),
];

/// Id, name, island, region, berths.
const PORTS: [(&str, &str, &str, usize, u32); 12] = [
    ("P01", "Ness", "Great Tern", 0, 4),
    ("P02", "Holm", "Holm", 0, 2),
    ("P03", "Skaw", "Great Tern", 0, 2),
    ("P04", "Brae", "Little Tern", 0, 1),
    ("P05", "Wick Haven", "Middle Isle", 1, 5),
    ("P06", "Aldmouth", "Middle Isle", 1, 3),
    ("P07", "Eddyport", "Eddy", 1, 2),
    ("P08", "Sandvoe", "Sand Isle", 2, 2),
    ("P09", "Gullness", "Gull Isle", 2, 1),
    ("P10", "Kelda", "Kelda", 2, 1),
    ("P11", "Farrow", "Farrow", 3, 1),
    ("P12", "Storm Point", "Farrow", 3, 1),
];

/// Departure, arrival, nautical miles, weight, fare factor.
const ROUTES: [(usize, usize, f64, u32, f64); 16] = [
    (0, 1, 6.5, 90, 0.8),
    (1, 2, 4.2, 40, 0.7),
    (2, 3, 9.8, 25, 0.9),
    (0, 4, 31.0, 110, 1.6),
    (4, 5, 8.1, 85, 0.8),
    (5, 6, 14.6, 35, 1.0),
    (6, 4, 17.3, 30, 1.1),
    (4, 7, 27.9, 55, 1.5),
    (7, 8, 7.7, 22, 0.8),
    (8, 9, 12.4, 12, 1.0),
    (9, 7, 16.0, 10, 1.1),
    (7, 10, 44.5, 14, 2.2),
    (10, 11, 5.9, 6, 0.9),
    (11, 0, 58.2, 9, 2.6),
    (1, 4, 29.4, 20, 1.5),
    (6, 8, 33.3, 8, 1.7),
];
/// The route that does not sail in winter.
const SUMMER_ROUTE: usize = 11;

/// Id, name, class, seats, year built.
const VESSELS: [(&str, &str, &str, u32, u32); 8] = [
    ("V1", "MV Tern", "large", 620, 2011),
    ("V2", "MV Guillemot", "large", 580, 2014),
    ("V3", "MV Skua", "medium", 340, 2003),
    ("V4", "MV Fulmar", "medium", 320, 2008),
    ("V5", "MV Petrel", "medium", 300, 1998),
    ("V6", "MV Puffin", "small", 140, 2017),
    ("V7", "MV Dunlin", "small", 120, 1994),
    ("V8", "MV Kittiwake", "small", 110, 2020),
];

/// Code, name, boarding order, list fare, weight.
const FARES: [(&str, &str, u32, &str, u32); 6] = [
    ("CBN", "Cabin", 1, "64.00", 6),
    ("REC", "Recliner", 2, "38.50", 14),
    ("STD", "Standard", 3, "24.00", 52),
    ("ISL", "Islander", 4, "12.00", 18),
    ("CHD", "Child", 5, "9.50", 8),
    ("FRT", "Freight", 6, "110.00", 2),
];

const CHANNELS: [(&str, &str, &str, u32); 5] = [
    ("C1", "Web", "online", 46),
    ("C2", "App", "online", 27),
    ("C3", "Harbour office", "desk", 15),
    ("C4", "Telephone", "desk", 8),
    ("C5", "Agent", "partner", 4),
];

const GIVEN: [&str; 24] = [
    "Ada", "Bran", "Cerys", "Dag", "Eilidh", "Finn", "Greta", "Hal", "Iona", "Joss", "Kari", "Lorn", "Mairi", "Nils",
    "Orla", "Per", "Runa", "Sten", "Tove", "Una", "Vigdis", "Wil", "Ylva", "Zeke",
];
const FAMILY: [&str; 24] = [
    "Aske", "Brodie", "Clett", "Dale", "Eide", "Foss", "Garth", "Hauge", "Isbister", "Jamieson", "Kirk", "Lund",
    "Mowat", "Ness", "Oddsen", "Peterson", "Rendall", "Sinclair", "Tait", "Urquhart", "Voe", "Wishart", "Yell",
    "Østby",
];

/// Bookings by month, January first: the summer carries the year.
const SEASON: [u32; 12] = [40, 42, 60, 85, 105, 140, 190, 185, 110, 75, 48, 62];
const FIRST_YEAR: i32 = 2024;
const LAST_DAY: (i32, u32, u32) = (2026, 10, 31);

/// Days since 1970-01-01 (the days-from-civil method).
fn day_number(year: i32, month: u32, day: u32) -> i64 {
    let y = i64::from(if month <= 2 { year - 1 } else { year });
    let era = y.div_euclid(400);
    let shifted = (i64::from(month) + 9) % 12;
    let of_year = (153 * shifted + 2) / 5 + i64::from(day) - 1;
    let of_era = (y - era * 400) * 365 + (y - era * 400) / 4 - (y - era * 400) / 100 + of_year;
    era * 146_097 + of_era - 719_468
}

/// Year, month and day of a day number.
fn civil(day: i64) -> (i32, u32, u32) {
    let z = day + 719_468;
    let era = z.div_euclid(146_097);
    let of_era = z.rem_euclid(146_097);
    let year_of_era = (of_era - of_era / 1460 + of_era / 36_524 - of_era / 146_096) / 365;
    let of_year = of_era - (365 * year_of_era + year_of_era / 4 - year_of_era / 100);
    let shifted = (5 * of_year + 2) / 153;
    let month = if shifted < 10 { shifted + 3 } else { shifted - 9 };
    let year = year_of_era + era * 400 + i64::from(month <= 2);
    (year as i32, month as u32, (of_year - (153 * shifted + 2) / 5 + 1) as u32)
}

fn show_day(day: i64) -> String {
    let (y, m, d) = civil(day);
    format!("{y:04}-{m:02}-{d:02}")
}

fn create(folder: &Path, name: &str, header: &str) -> io::Result<BufWriter<File>> {
    let mut file = BufWriter::with_capacity(1 << 20, File::create(folder.join(name))?);
    writeln!(file, "{header}")?;
    Ok(file)
}

/// Writes all files; gives the number of odd rows.
pub fn write(folder: &Path, bookings: u64) -> io::Result<Oddities> {
    dimension_tables(folder)?;
    let customers = (bookings / 12).clamp(50, 400_000);
    customer_table(folder, customers)?;
    sailing_table(folder, bookings)?;
    weather_table(folder)?;
    target_table(folder, bookings)?;
    booking_tables(folder, bookings, customers)
}

fn dimension_tables(folder: &Path) -> io::Result<()> {
    let mut file = create(folder, "region.csv", "name,north_to_south,manager")?;
    for (name, order, manager) in REGIONS {
        writeln!(file, "{name},{order},{manager}")?;
    }
    let mut file = create(folder, "port.csv", "id,name,island,region,berths")?;
    for (id, name, island, region, berths) in PORTS {
        writeln!(file, "{id},{name},{island},{},{berths}", REGIONS[region].0)?;
    }
    let mut file = create(folder, "route.csv", "id,name,departure_port_id,arrival_port_id,miles")?;
    for (i, (from, to, miles, ..)) in ROUTES.iter().enumerate() {
        let (a, b) = (PORTS[*from], PORTS[*to]);
        writeln!(file, "{},{}–{},{},{},{miles}", route_id(i), a.1, b.1, a.0, b.0)?;
    }
    let mut file = create(folder, "vessel.csv", "id,name,class,seats,built")?;
    for (id, name, class, seats, built) in VESSELS {
        writeln!(file, "{id},{name},{class},{seats},{built}")?;
    }
    let mut file = create(folder, "fare_class.csv", "code,name,boarding_order,list_fare")?;
    for (code, name, order, fare, _) in FARES {
        writeln!(file, "{code},{name},{order},{fare}")?;
    }
    let mut file = create(folder, "channel.csv", "id,name,kind")?;
    for (id, name, kind, _) in CHANNELS {
        writeln!(file, "{id},{name},{kind}")?;
    }
    Ok(())
}

fn route_id(i: usize) -> String {
    format!("R{:02}", i + 1)
}

fn customer_table(folder: &Path, customers: u64) -> io::Result<()> {
    let mut random = Random::new(11);
    let mut file = create(folder, "customer.csv", "id,name,home_island,joined_on,newsletter,note")?;
    for id in 1..=customers {
        let name = format!("{} {}", GIVEN[random.below(24) as usize], FAMILY[random.below(24) as usize]);
        let island = PORTS[random.weighted(&[30, 12, 14, 6, 34, 20, 10, 8, 4, 3, 4, 2])].2;
        let joined = day_number(2015, 1, 1) + random.below(4200) as i64;
        let newsletter = if random.per_mille(80) {
            ""
        } else if random.per_mille(420) {
            "true"
        } else {
            "false"
        };
        // Fields with quotes, commas and line breaks are part of every real customer list.
        let note = match random.below(500) {
            0 => "\"wheelchair, two bags\"",
            1 => "\"asks for \"\"quiet\"\" deck\"",
            2 => "\"moved\nsee new address\"",
            _ => "",
        };
        writeln!(file, "{id},{name},{island},{},{newsletter},{note}", show_day(joined))?;
    }
    Ok(())
}

fn sails(route: usize, month: u32) -> bool {
    route != SUMMER_ROUTE || (4..=10).contains(&month)
}

fn sailing_table(folder: &Path, bookings: u64) -> io::Result<()> {
    let mut random = Random::new(23);
    let header = "sailed_on,route_id,vessel_id,region,departures,capacity,fuel,delay_minutes";
    let mut file = create(folder, "sailing.csv", header)?;
    let (first, last) = (day_number(FIRST_YEAR, 1, 1), day_number(LAST_DAY.0, LAST_DAY.1, LAST_DAY.2));
    // Seats are offered in proportion to the travellers that the season brings.
    let travellers = bookings as f64 * 2.1 / (last - first + 1) as f64;
    let all: f64 = ROUTES.iter().map(|(.., w, _)| f64::from(*w)).sum();
    let usual = f64::from(SEASON.iter().sum::<u32>()) / 12.0;
    for day in first..=last {
        let month = civil(day).1;
        let season = f64::from(SEASON[month as usize - 1]) / usual;
        for (r, (from, _, miles, weight, _)) in ROUTES.iter().enumerate() {
            if !sails(r, month) || (*weight < 15 && random.per_mille(400)) {
                continue;
            }
            let fleet: &[usize] = if *weight > 50 {
                &[0, 1, 2]
            } else if *weight > 20 {
                &[2, 3, 4]
            } else {
                &[5, 6, 7]
            };
            let vessel = VESSELS[fleet[random.below(fleet.len() as u64) as usize]];
            let departures = 1 + u64::from(*weight) / 30 + random.below(2);
            let expected = travellers * season * f64::from(*weight) / all;
            let capacity = (expected / (0.45 + 0.4 * random.unit())).ceil() as u64 + 2;
            let fuel = miles * departures as f64 * f64::from(vessel.3) * (0.09 + 0.02 * random.unit());
            let storm = u64::from(SEASON[month as usize - 1] < 65) * 60;
            let delay = match random.below(100) {
                0..=3 => String::new(),
                4..=59 => random.below(8).to_string(),
                _ => (random.below(25) + random.below(storm + 1)).to_string(),
            };
            let region = REGIONS[PORTS[*from].3].0;
            writeln!(
                file,
                "{},{},{},{region},{departures},{capacity},{fuel:.1},{delay}",
                show_day(day),
                route_id(r),
                vessel.0
            )?;
        }
    }
    Ok(())
}

fn months() -> impl Iterator<Item = (i32, u32)> {
    (FIRST_YEAR..=LAST_DAY.0)
        .flat_map(|y| (1..=12).map(move |m| (y, m)))
        .filter(|(y, m)| (*y, *m) <= (LAST_DAY.0, LAST_DAY.1))
}

fn weather_table(folder: &Path) -> io::Result<()> {
    let mut random = Random::new(37);
    let mut file = create(folder, "weather.csv", "region,month,wave_height,storm_days")?;
    for (year, month) in months() {
        for (name, order, _) in REGIONS {
            let rough = f64::from(200 - SEASON[month as usize - 1].min(190)) / 60.0;
            let height = 0.4 + rough * (0.5 + 0.2 * f64::from(order)) * (0.8 + 0.4 * random.unit());
            let storms = (rough * 3.0 * random.unit()) as u32;
            writeln!(file, "{name},{year}-{month:02}-01,{height:.2},{storms}")?;
        }
    }
    Ok(())
}

fn target_table(folder: &Path, bookings: u64) -> io::Result<()> {
    let mut random = Random::new(41);
    let mut file = create(folder, "target.csv", "month,region,revenue")?;
    let weights: Vec<f64> = (0..REGIONS.len())
        .map(|r| ROUTES.iter().filter(|(from, ..)| PORTS[*from].3 == r).map(|(.., w, f)| f64::from(*w) * f).sum())
        .collect();
    let all: f64 = ROUTES.iter().map(|(.., w, _)| f64::from(*w)).sum();
    let seasons: f64 = months().map(|(_, m)| f64::from(SEASON[m as usize - 1])).sum();
    for (year, month) in months() {
        for (r, (name, ..)) in REGIONS.iter().enumerate() {
            let expected = bookings as f64 * 62.0 * weights[r] / all * f64::from(SEASON[month as usize - 1]) / seasons;
            let target = (expected * (0.92 + 0.2 * random.unit()) / 100.0).round() * 100.0;
            writeln!(file, "{year}-{month:02}-01,{name},{target:.0}")?;
        }
    }
    Ok(())
}

/// One booking's text, from its number.
struct Bookings {
    random: Random,
    customers: u64,
    oddities: Oddities,
}

fn booking_tables(folder: &Path, bookings: u64, customers: u64) -> io::Result<Oddities> {
    let mut source = Bookings { random: Random::new(5), customers, oddities: Oddities::default() };
    let header = "booking_ref,customer_id,route_id,channel_id,fare_code,booked_at,booked_on,sailed_on,passengers,unit_fare,concession,status";
    let (first, last) = (day_number(FIRST_YEAR, 1, 1), day_number(LAST_DAY.0, LAST_DAY.1, LAST_DAY.2));
    // How many bookings had sailed by each day, so that every day has its share and the sum is exact.
    let weight = |day: i64| {
        let (year, month, _) = civil(day);
        let weekend = if (day + 3).rem_euclid(7) >= 4 { 14 } else { 10 };
        u64::from(SEASON[month as usize - 1]) * weekend * (94 + 6 * (year - FIRST_YEAR) as u64) / 10
    };
    let all: u64 = (first..=last).map(weight).sum();
    let (mut sum, mut number, mut year) = (0u64, 0u64, 0);
    let mut file: Option<BufWriter<File>> = None;
    for day in first..=last {
        if civil(day).0 != year {
            year = civil(day).0;
            file = Some(create(folder, &format!("booking-{year}.csv"), header)?);
        }
        sum += weight(day);
        let until = (u128::from(bookings) * u128::from(sum) / u128::from(all)) as u64;
        let Some(file) = &mut file else { continue };
        while number < until {
            let line = source.line(number, day);
            // Every so often a line stands twice; the second one counts as a booking, too.
            let repeats = number % 20_011 == 20_010 && number + 1 < until;
            writeln!(file, "{line}")?;
            number += 1;
            if repeats {
                writeln!(file, "{line}")?;
                number += 1;
                source.oddities.repeated += 1;
            }
        }
    }
    Ok(source.oddities)
}

impl Bookings {
    fn line(&mut self, number: u64, day: i64) -> String {
        let random = &mut self.random;
        let month = civil(day).1;
        let weights: Vec<u32> = (0..ROUTES.len()).map(|r| if sails(r, month) { ROUTES[r].3 } else { 0 }).collect();
        let route = random.weighted(&weights);
        let fare = random.weighted(&FARES.map(|f| f.4));
        let channel = random.weighted(&CHANNELS.map(|c| c.3));
        let lead = (90.0 * random.unit() * random.unit() * random.unit()) as i64;
        let booked = day - lead;
        let second = 6 * 3600 + random.below(17 * 3600);
        let passengers = 1 + random.weighted(&[46, 30, 9, 9, 3, 2, 1]);
        let list: f64 = FARES[fare].3.parse().unwrap_or(0.0);
        let factor = ROUTES[route].4 * if SEASON[month as usize - 1] > 120 { 1.15 } else { 1.0 };
        // Fares are on a grid of half units, as price lists are.
        let unit_fare = (list * factor * (0.9 + 0.05 * random.below(5) as f64) * 2.0).round() / 2.0;
        let gross = unit_fare * passengers as f64;
        let odd = &mut self.oddities;
        let concession = match random.below(1000) {
            0..=3 => {
                odd.no_concession += 1;
                if random.per_mille(500) { "NA".to_string() } else { String::new() }
            }
            4..=180 => format!("{:.2}", (gross * (0.05 + 0.05 * random.below(5) as f64) * 100.0).round() / 100.0),
            _ => "0".to_string(),
        };
        let route_id = if number % 9973 == 9972 {
            odd.orphan_routes += 1;
            "R99".to_string()
        } else {
            route_id(route)
        };
        let customer = if number % 4999 == 4998 {
            odd.orphan_customers += 1;
            (self.customers + 1 + random.below(40)).to_string()
        } else if random.per_mille(12) {
            odd.no_customer += 1;
            String::new()
        } else {
            // A few customers travel often, most seldom.
            let u = random.unit();
            (1 + (u * u * self.customers as f64) as u64).to_string()
        };
        let status = if random.per_mille(31) {
            "changed"
        } else if random.per_mille(18) {
            "refunded"
        } else {
            "travelled"
        };
        let time = format!("{:02}:{:02}:{:02}", second / 3600, second / 60 % 60, second % 60);
        format!(
            "{},{customer},{route_id},{},{},{} {time},{},{},{passengers},{unit_fare:.2},{concession},{status}",
            reference(number),
            CHANNELS[channel].0,
            FARES[fare].0,
            show_day(booked),
            show_day(booked),
            show_day(day),
        )
    }
}

/// Eight letters and digits that tell nothing: a bijection of 40 bits, so that no two bookings share one.
fn reference(number: u64) -> String {
    const LETTERS: &[u8; 32] = b"ABCDEFGHJKLMNPQRSTUVWXYZ23456789";
    const MASK: u64 = (1 << 40) - 1;
    let mut x = number & MASK;
    for (multiplier, shift) in [(0x9E_3779_B97F, 17), (0xC2_B2AE_3D27, 19)] {
        x = x.wrapping_mul(multiplier) & MASK;
        x ^= x >> shift;
    }
    let letters: String = (0..8).map(|i| char::from(LETTERS[(x >> (35 - 5 * i)) as usize & 31])).collect();
    format!("TI-{letters}")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn days_go_there_and_back() {
        for day in (-1000..40_000).step_by(7) {
            let (y, m, d) = civil(day);
            assert_eq!(day_number(y, m, d), day);
        }
        assert_eq!(show_day(0), "1970-01-01");
    }

    #[test]
    fn references_are_unique() {
        let mut all: Vec<String> = (0..50_000).map(reference).collect();
        all.sort();
        all.dedup();
        assert_eq!(all.len(), 50_000);
    }
}
