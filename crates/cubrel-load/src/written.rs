//! Numbers as people write them into cells: with a currency, a percent sign, parentheses or a minus behind them.

/// Letters that stand for a currency: ISO 4217 codes of those that files are often in, and short forms of some.
const CURRENCIES: &[&str] = &[
    "EUR", "USD", "GBP", "CHF", "JPY", "CNY", "INR", "AUD", "CAD", "NZD", "SEK", "NOK", "DKK", "ISK", "PLN", "CZK",
    "HUF", "RON", "BGN", "TRY", "RUB", "UAH", "BRL", "MXN", "ZAR", "KRW", "SGD", "HKD", "ILS", "THB", "Fr.", "kr.",
    "kr", "zł", "Kč", "R$", "Ft", "lei",
];

/// Whether a character is the sign of a currency: Unicode's category Sc, as far as files have it.
fn is_currency(c: char) -> bool {
    matches!(c, '$' | '¢' | '£' | '¤' | '¥' | '฿' | '\u{20a0}'..='\u{20c0}' | '﷼' | '＄' | '￠' | '￡' | '￥' | '￦')
}

/// What was taken off a number.
#[derive(Default)]
struct Signs {
    is_negative: bool,
    is_percent: bool,
    has_currency: bool,
}

impl Signs {
    /// Takes the outermost sign off; nothing where there is none, or a second one of its kind.
    fn taken<'t>(&mut self, text: &'t str) -> Option<&'t str> {
        let minus = ['-', '−'];
        let in_brackets = || text.strip_prefix('(')?.strip_suffix(')');
        if let Some(inner) = in_brackets().or_else(|| text.strip_prefix(minus)).or_else(|| text.strip_suffix(minus)) {
            return (!std::mem::replace(&mut self.is_negative, true)).then_some(inner);
        }
        if let Some(inner) = text.strip_suffix('%').or_else(|| text.strip_prefix('%')) {
            return (!std::mem::replace(&mut self.is_percent, true)).then_some(inner);
        }
        let code = |code: &str| text.strip_prefix(code).or_else(|| text.strip_suffix(code));
        let currency = text.strip_prefix(is_currency).or_else(|| text.strip_suffix(is_currency));
        let currency = currency.or_else(|| CURRENCIES.iter().find_map(|c| code(c)));
        let inner = currency
            .or_else(|| text.strip_prefix('+').filter(|rest| rest.starts_with(|c: char| c.is_ascii_digit())))?;
        (currency.is_none() || !std::mem::replace(&mut self.has_currency, true)).then_some(inner)
    }
}

/// A number without its signs, as `1234.50` or `-0.125`; `plain` reads what is left. Nothing where there are no signs.
pub(super) fn without_signs(field: &str, plain: impl Fn(&str) -> Option<String>) -> Option<String> {
    let mut signs = Signs::default();
    let mut left = field.trim();
    let whole = left;
    let number = loop {
        if left.starts_with(|c: char| c.is_ascii_digit() || c == '.' || c == ',')
            && left.ends_with(|c: char| c.is_ascii_digit())
        {
            break plain(left)?;
        }
        left = signs.taken(left)?.trim();
    };
    if left == whole {
        return None;
    }
    let number = if signs.is_percent { hundredth(&number) } else { number };
    // Nothing is not less than nothing.
    let is_zero = number.bytes().all(|b| matches!(b, b'0' | b'.'));
    Some(if signs.is_negative && !is_zero { format!("-{number}") } else { number })
}

/// A number with its point two places further left.
fn hundredth(number: &str) -> String {
    let (whole, part) = number.split_once('.').unwrap_or((number, ""));
    let padded = format!("{whole:0>3}");
    let (whole, more) = padded.split_at(padded.len() - 2);
    format!("{whole}.{more}{part}")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn signs_of_every_kind_are_taken_off_and_nothing_else() {
        let plain = |t: &str| t.bytes().all(|b| b.is_ascii_digit() || b == b'.').then(|| t.to_string());
        for (field, expected) in [
            ("$12.50", Some("12.50")),
            ("€ 12", Some("12")),
            ("12 €", Some("12")),
            ("12\u{a0}€", Some("12")),
            ("EUR 12.5", Some("12.5")),
            ("12.5 kr.", Some("12.5")),
            ("-$12.50", Some("-12.50")),
            ("$-12.50", Some("-12.50")),
            ("($12.50)", Some("-12.50")),
            ("(12)", Some("-12")),
            ("12.5-", Some("-12.5")),
            ("−12", Some("-12")),
            ("+12", Some("12")),
            ("12.5%", Some("0.125")),
            ("5 %", Some("0.05")),
            ("-0.5%", Some("-0.005")),
            ("(0)", Some("0")),
            ("100%", Some("1.00")),
            ("12.50", None),
            ("--12", None),
            ("(-12)", None),
            ("$€12", None),
            ("12A", None),
            ("A12", None),
            ("12 pieces", None),
            ("%", None),
            ("()", None),
            ("", None),
            ("+", None),
            ("12%%", None),
            ("(12", None),
        ] {
            assert_eq!(without_signs(field, plain).as_deref(), expected, "{field}");
        }
    }
}
