//! How many numbers of 32 bits the processor looks at together, which is found out when the program runs.

/// How many are looked at together.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Lanes {
    One,
    /// With AVX2, and bits that are counted in one step.
    #[cfg(target_arch = "x86_64")]
    Eight,
    /// With AVX-512, the part of it that all have, besides.
    #[cfg(target_arch = "x86_64")]
    Sixteen,
}

impl Lanes {
    /// On this processor.
    pub(super) fn here() -> Lanes {
        #[cfg(target_arch = "x86_64")]
        if std::arch::is_x86_feature_detected!("avx2") && std::arch::is_x86_feature_detected!("popcnt") {
            return if std::arch::is_x86_feature_detected!("avx512f") { Lanes::Sixteen } else { Lanes::Eight };
        }
        Lanes::One
    }

    /// All that this processor can do.
    #[cfg(test)]
    pub(super) fn all_here() -> Vec<Lanes> {
        match Lanes::here() {
            #[cfg(target_arch = "x86_64")]
            Lanes::Sixteen => vec![Lanes::One, Lanes::Eight, Lanes::Sixteen],
            #[cfg(target_arch = "x86_64")]
            Lanes::Eight => vec![Lanes::One, Lanes::Eight],
            Lanes::One => vec![Lanes::One],
        }
    }
}
