//! Names of a definition as names of a target language.

/// `GateStatus` and `gate_status` as `gate_status`.
pub fn snake(name: &str) -> String {
    let mut out = String::new();
    let chars: Vec<char> = name.chars().collect();
    for (index, c) in chars.iter().enumerate() {
        let after_lower = index > 0 && (chars[index - 1].is_ascii_lowercase() || chars[index - 1].is_ascii_digit());
        let ends_acronym = index > 0
            && chars[index - 1].is_ascii_uppercase()
            && chars.get(index + 1).is_some_and(char::is_ascii_lowercase);
        if c.is_ascii_uppercase() && (after_lower || ends_acronym) {
            out.push('_');
        }
        out.push(c.to_ascii_lowercase());
    }
    out
}

/// `GateStatus` and `gate_status` as `GATE_STATUS`.
pub fn screaming(name: &str) -> String {
    snake(name).to_ascii_uppercase()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn camel_becomes_snake() {
        assert_eq!(snake("GateStatus"), "gate_status");
        assert_eq!(snake("HTTPPort2Go"), "http_port2_go");
        assert_eq!(snake("bus485"), "bus485");
        assert_eq!(screaming("oil_hot"), "OIL_HOT");
    }
}
