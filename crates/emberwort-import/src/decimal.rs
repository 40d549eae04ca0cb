//! Numbers as they are written, exactly.

/// A decimal number without an exponent, and without zeros that say nothing: `1E-05` is `0.00001`. `None` if it is none, or has more than
/// 30 digits before or behind the point.
pub fn plain(text: &str) -> Option<String> {
    let (negative, text) = match text.strip_prefix('-') {
        Some(rest) => (true, rest),
        None => (false, text.strip_prefix('+').unwrap_or(text)),
    };
    let (mantissa, exponent) = match text.split_once(['e', 'E']) {
        Some((mantissa, exponent)) => (mantissa, exponent.parse::<i32>().ok()?),
        None => (text, 0),
    };
    let (whole, fraction) = mantissa.split_once('.').unwrap_or((mantissa, ""));
    let digits = format!("{whole}{fraction}");
    if digits.is_empty() || !digits.bytes().all(|byte| byte.is_ascii_digit()) || exponent.abs() > 60 {
        return None;
    }
    // Where the point stands among the digits.
    let point = whole.len() as i32 + exponent;
    let (whole, fraction) = if point <= 0 {
        (String::new(), format!("{}{digits}", "0".repeat((-point) as usize)))
    } else if point as usize >= digits.len() {
        (format!("{digits}{}", "0".repeat(point as usize - digits.len())), String::new())
    } else {
        (digits[..point as usize].to_owned(), digits[point as usize..].to_owned())
    };
    let whole = whole.trim_start_matches('0');
    let fraction = fraction.trim_end_matches('0');
    if whole.len() > 30 || fraction.len() > 30 {
        return None;
    }
    let sign = if negative && !(whole.is_empty() && fraction.is_empty()) { "-" } else { "" };
    let whole = if whole.is_empty() { "0" } else { whole };
    Some(if fraction.is_empty() { format!("{sign}{whole}") } else { format!("{sign}{whole}.{fraction}") })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn exponents_become_places() {
        for (text, expected) in [
            ("1E-05", "0.00001"),
            ("1.50", "1.5"),
            ("-0", "0"),
            ("-40", "-40"),
            ("1e3", "1000"),
            ("12.5E1", "125"),
            ("0.00390625", "0.00390625"),
            (".5", "0.5"),
            ("3.", "3"),
        ] {
            assert_eq!(plain(text).as_deref(), Some(expected), "{text}");
        }
        for text in ["", "-", "x", "1e99", "nan", "1.2.3"] {
            assert_eq!(plain(text), None, "{text}");
        }
    }
}
