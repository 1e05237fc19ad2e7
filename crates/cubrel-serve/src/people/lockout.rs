//! Whoever shows wrong tokens again and again has to wait, longer each time.

use std::collections::HashMap;
use std::net::IpAddr;
use std::time::{Duration, Instant};

/// Wrong tokens that are put up with.
const FREE: u32 = 5;
/// The first wait; each further one is twice as long.
const FIRST: Duration = Duration::from_secs(2);
/// The longest.
const LONGEST: Duration = Duration::from_secs(15 * 60);
/// Addresses that are remembered; of more, those whose wait is over are forgotten.
const REMEMBERED: usize = 10_000;

#[derive(Clone, Copy, Debug)]
struct Failures {
    count: u32,
    until: Instant,
}

/// Wrong tokens by address.
#[derive(Debug, Default)]
pub struct Lockout {
    by_address: HashMap<IpAddr, Failures>,
}

impl Lockout {
    /// Seconds that an address has to wait before it is listened to.
    pub fn seconds_left(&self, from: IpAddr, now: Instant) -> Option<u32> {
        let failures = self.by_address.get(&from).filter(|f| f.count > FREE)?;
        let left = failures.until.checked_duration_since(now).filter(|left| !left.is_zero())?;
        Some(u32::try_from(left.as_secs()).unwrap_or(u32::MAX).saturating_add(1))
    }

    /// An address has shown a wrong token.
    pub fn failed(&mut self, from: IpAddr, now: Instant) {
        if self.by_address.len() >= REMEMBERED {
            self.by_address.retain(|_, failures| failures.until > now);
        }
        let failures = self.by_address.entry(from).or_insert(Failures { count: 0, until: now });
        failures.count = failures.count.saturating_add(1);
        let times = failures.count.saturating_sub(FREE + 1).min(16);
        failures.until = now + FIRST.saturating_mul(1 << times).min(LONGEST);
    }

    /// An address has shown a good one.
    pub fn forget(&mut self, from: IpAddr) {
        self.by_address.remove(&from);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn waits_grow_and_end_and_are_those_of_one_address() {
        let mut lockout = Lockout::default();
        let (a, b): (IpAddr, IpAddr) = ([10, 0, 0, 1].into(), [10, 0, 0, 2].into());
        let start = Instant::now();
        for _ in 0..FREE {
            lockout.failed(a, start);
            assert_eq!(lockout.seconds_left(a, start), None);
        }
        lockout.failed(a, start);
        assert_eq!(lockout.seconds_left(a, start), Some(3));
        assert_eq!(lockout.seconds_left(b, start), None);
        lockout.failed(a, start);
        assert_eq!(lockout.seconds_left(a, start), Some(5));
        assert_eq!(lockout.seconds_left(a, start + Duration::from_secs(4)), None);
        (0..100).for_each(|_| lockout.failed(a, start));
        assert_eq!(lockout.seconds_left(a, start), Some(LONGEST.as_secs() as u32 + 1));
        lockout.forget(a);
        assert_eq!(lockout.seconds_left(a, start), None);
    }
}
