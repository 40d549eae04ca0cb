//! Numbers of things as people write them.

/// A number with what it counts: `1 byte`, `2 bytes`, `3 addresses`, `0 replies`.
///
/// `what` is the English word for one of them; of several words the last one takes the ending.
pub fn plural(count: impl std::fmt::Display, what: &str) -> String {
    let count = count.to_string();
    if count == "1" {
        return format!("1 {what}");
    }
    let hisses = ["s", "x", "z", "ch", "sh"].iter().any(|end| what.ends_with(end));
    match what.strip_suffix('y') {
        Some(stem) if !stem.ends_with(['a', 'e', 'i', 'o', 'u']) => format!("{count} {stem}ies"),
        _ if hisses => format!("{count} {what}es"),
        _ => format!("{count} {what}s"),
    }
}

#[cfg(test)]
mod tests {
    use super::plural;

    #[test]
    fn words_take_the_ending_that_they_have() {
        let all = ["byte", "address", "reply", "way", "prefix", "data byte", "finish"].map(|what| plural(2, what));
        assert_eq!(all.join(", "), "2 bytes, 2 addresses, 2 replies, 2 ways, 2 prefixes, 2 data bytes, 2 finishes");
        assert_eq!(plural(1, "address") + &plural("1,000", "byte"), "1 address1,000 bytes");
    }
}
