//! Times that say how far they are from UTC, in the time of a place.

use jiff::Timestamp;

/// The time of a place, as the IANA time zone database has it.
#[derive(Clone, Debug)]
pub struct TimeZone(jiff::tz::TimeZone);

impl TimeZone {
    /// By its name, such as `Europe/Paris`.
    ///
    /// # Errors
    /// Names that are there, where this one is not.
    pub fn named(name: &str) -> Result<TimeZone, Vec<String>> {
        let zones = jiff::tz::db();
        zones.get(name).map(TimeZone).map_err(|_| zones.available().map(|zone| zone.as_str().to_string()).collect())
    }

    /// What clocks there show, given microseconds of UTC since 1970: as if it were UTC. An hour that clocks show twice
    /// is one.
    pub fn local(&self, utc: i64) -> Option<i64> {
        let moment = Timestamp::from_microsecond(utc).ok()?;
        utc.checked_add(i64::from(self.0.to_offset(moment).seconds()) * 1_000_000)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use cubrel_value::date::parse_timestamp;

    #[test]
    fn summer_and_winter() {
        let paris = TimeZone::named("Europe/Paris").unwrap();
        for (utc, there) in [
            ("2026-01-05 23:30:00", "2026-01-06 00:30:00"),
            ("2026-07-05 23:30:00", "2026-07-06 01:30:00"),
            ("2026-10-25 00:30:00.5", "2026-10-25 02:30:00.5"),
            ("2026-10-25 01:30:00.5", "2026-10-25 02:30:00.5"),
            ("1900-01-01 00:00:00", "1900-01-01 00:09:21"),
        ] {
            let utc = parse_timestamp(utc.as_bytes()).unwrap();
            assert_eq!(paris.local(utc), parse_timestamp(there.as_bytes()), "{there}");
        }
        assert_eq!(paris.local(i64::MAX), None);
        assert!(TimeZone::named("Europe/Pariss").unwrap_err().contains(&"Europe/Paris".to_string()));
    }
}
