//! Units that are written in two ways and are the same.

/// Whether two units are the same, however they are written: `degC` and `°C`, `us` and `µs`, `ohm` and `Ω`, `m^2` and `m²`.
///
/// Only spellings are compared: `mm` and `m` are two units, and so are `degC` and `K`.
pub(crate) fn same_unit(one: &str, other: &str) -> bool {
    one == other || plain(one) == plain(other)
}

/// A unit in ASCII, as far as it has a usual form there.
fn plain(unit: &str) -> String {
    let mut text = String::new();
    for c in unit.chars() {
        match c {
            // MICRO SIGN and GREEK SMALL LETTER MU.
            '\u{B5}' | '\u{3BC}' => text.push('u'),
            // GREEK CAPITAL LETTER OMEGA and OHM SIGN.
            '\u{3A9}' | '\u{2126}' => text.push_str("ohm"),
            '°' | 'º' => text.push_str("deg"),
            '\u{2103}' => text.push_str("degC"),
            '\u{2109}' => text.push_str("degF"),
            '²' => text.push_str("^2"),
            '³' => text.push_str("^3"),
            '·' | '⋅' => text.push('*'),
            ' ' => {}
            c => text.push(c),
        }
    }
    match text.as_str() {
        "Ohm" | "Ohms" | "ohms" => "ohm".to_owned(),
        "celsius" | "Celsius" => "degC".to_owned(),
        "percent" => "%".to_owned(),
        // ISO 80000-3 allows both.
        "L" => "l".to_owned(),
        _ => text,
    }
}

#[cfg(test)]
mod tests {
    use super::same_unit;

    #[test]
    fn spellings_are_the_same_and_units_are_not() {
        for (one, other) in [
            ("degC", "°C"),
            ("us", "µs"),
            ("\u{B5}A", "\u{3BC}A"),
            ("ohm", "Ω"),
            ("kohm", "kΩ"),
            ("m^2", "m²"),
            ("L", "l"),
            ("deg", "°"),
        ] {
            assert!(same_unit(one, other) && same_unit(other, one), "{one} {other}");
        }
        for (one, other) in
            [("mm", "m"), ("degC", "degF"), ("degC", "K"), ("s", "S"), ("mA", "MA"), ("m^2", "m^3"), ("", "m")]
        {
            assert!(!same_unit(one, other), "{one} {other}");
        }
    }
}
