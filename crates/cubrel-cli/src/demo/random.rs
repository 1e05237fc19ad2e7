//! Numbers that look random and are the same on every machine: SplitMix64 (Steele, Lea and Flood, "Fast Splittable
//! Pseudorandom Number Generators", 2014).

/// A seeded generator.
pub struct Random(u64);

impl Random {
    /// From a seed.
    pub fn new(seed: u64) -> Random {
        Random(seed)
    }

    /// The next 64 bits.
    pub fn bits(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9E37_79B9_7F4A_7C15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
        z ^ (z >> 31)
    }

    /// A whole number below `n`.
    pub fn below(&mut self, n: u64) -> u64 {
        ((u128::from(self.bits()) * u128::from(n)) >> 64) as u64
    }

    /// From 0 to 1.
    pub fn unit(&mut self) -> f64 {
        (self.bits() >> 11) as f64 / (1u64 << 53) as f64
    }

    /// True so often in a thousand.
    pub fn per_mille(&mut self, n: u64) -> bool {
        self.below(1000) < n
    }

    /// A place in a list of weights.
    pub fn weighted(&mut self, weights: &[u32]) -> usize {
        let mut left = self.below(weights.iter().map(|w| u64::from(*w)).sum());
        for (i, weight) in weights.iter().enumerate() {
            if left < u64::from(*weight) {
                return i;
            }
            left -= u64::from(*weight);
        }
        weights.len() - 1
    }
}
