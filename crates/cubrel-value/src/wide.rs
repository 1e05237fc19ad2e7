//! Plain loops, built for what the processor has.

/// Does some work as the compiler builds it where there are vectors of 256 bits, if there are: loops that it takes several values at
/// once in. What the work calls has to be built into it for that, and the work into this: it says `#[inline(always)]`, since it is called from two places.
#[inline(always)]
pub fn wide<R>(work: impl FnOnce() -> R) -> R {
    #[cfg(target_arch = "x86_64")]
    if std::arch::is_x86_feature_detected!("avx2") {
        // SAFETY: the processor has AVX2.
        return unsafe { in_256_bits(work) };
    }
    work()
}

#[cfg(target_arch = "x86_64")]
#[target_feature(enable = "avx2")]
fn in_256_bits<R>(work: impl FnOnce() -> R) -> R {
    work()
}
