//! Counts and bytes as people read them.

/// A count with commas.
pub fn count(n: u64) -> String {
    let digits = n.to_string();
    let mut text = String::new();
    for (i, c) in digits.chars().enumerate() {
        if i > 0 && (digits.len() - i).is_multiple_of(3) {
            text.push(',');
        }
        text.push(c);
    }
    text
}

/// Bytes in the unit that suits them.
pub fn bytes(n: u64) -> String {
    const UNITS: [&str; 4] = ["KiB", "MiB", "GiB", "TiB"];
    if n < 1024 {
        return format!("{n} B");
    }
    let mut value = n as f64 / 1024.0;
    let mut unit = 0;
    while value >= 1024.0 && unit + 1 < UNITS.len() {
        value /= 1024.0;
        unit += 1;
    }
    let decimals = if value < 10.0 {
        2
    } else if value < 100.0 {
        1
    } else {
        0
    };
    format!("{value:.decimals$} {}", UNITS[unit])
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_have_commas_and_bytes_the_unit_that_suits_them() {
        assert_eq!([0, 999, 1000, 1_234_567].map(count), ["0", "999", "1,000", "1,234,567"]);
        assert_eq!([12, 1536, 12_654_442, 5 << 30].map(bytes), ["12 B", "1.50 KiB", "12.1 MiB", "5.00 GiB"]);
    }
}
