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

/// Names in a sentence, the first twelve; of more it says how many there are: `a, b and 4 more`.
pub fn some_of<'n>(names: impl IntoIterator<Item = &'n str>) -> String {
    const SHOWN: usize = 12;
    let mut names = names.into_iter();
    let shown: Vec<&str> = names.by_ref().take(SHOWN).collect();
    match names.count() {
        0 => shown.join(", "),
        more => format!("{} and {more} more", shown.join(", ")),
    }
}

#[cfg(test)]
mod tests {
    use super::{plural, some_of};

    #[test]
    fn of_many_names_it_is_said_how_many() {
        let names: Vec<String> = (1..=14).map(|n| format!("n{n}")).collect();
        let some = |count: usize| some_of(names[..count].iter().map(String::as_str));
        assert_eq!((some(0).as_str(), some(2).as_str()), ("", "n1, n2"));
        assert!(some(12).ends_with("n11, n12") && some(14).ends_with("n11, n12 and 2 more"));
    }

    #[test]
    fn words_take_the_ending_that_they_have() {
        let all = ["byte", "address", "reply", "way", "prefix", "data byte", "finish"].map(|what| plural(2, what));
        assert_eq!(all.join(", "), "2 bytes, 2 addresses, 2 replies, 2 ways, 2 prefixes, 2 data bytes, 2 finishes");
        assert_eq!(plural(1, "address") + &plural("1,000", "byte"), "1 address1,000 bytes");
    }
}
