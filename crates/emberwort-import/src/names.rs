//! Names in another style, each used once.

use std::collections::BTreeSet;

/// Words with which a statement of a message, a record, a table or a link begins, or that follow a type.
const RESERVED: [&str; 34] = [
    "id", "from", "on", "every", "answered", "within", "added", "spare", "else", "exactly", "be", "le", "at", "by",
    "or", "in", "step", "optional", "retired", "counter", "import", "link", "channel", "message", "record", "enum",
    "flags", "table", "value", "key", "time", "frame", "compact", "bool",
];

/// The words of a name: parted where a capital letter follows a small one or a digit, in front of the last capital letter of several, and at
/// all that is no letter and no digit.
fn words(name: &str) -> Vec<String> {
    let chars: Vec<char> = name.chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '_' }).collect();
    let mut words = vec![String::new()];
    for (n, c) in chars.iter().enumerate() {
        let before = n.checked_sub(1).map(|before| chars[before]);
        let after = chars.get(n + 1);
        let begins = c.is_ascii_uppercase()
            && before.is_some_and(|before| {
                before.is_ascii_lowercase()
                    || before.is_ascii_digit()
                    || before.is_ascii_uppercase() && after.is_some_and(char::is_ascii_lowercase)
            });
        if begins || *c == '_' {
            words.push(String::new());
        }
        if *c != '_'
            && let Some(last) = words.last_mut()
        {
            last.push(*c);
        }
    }
    words.retain(|word| !word.is_empty());
    words
}

/// As fields, labels and channels are called: `eng_speed`. `alone` is a word for what has no name.
pub fn lower(name: &str, alone: &str) -> String {
    let text = words(name).join("_").to_ascii_lowercase();
    match text.chars().next() {
        None => alone.to_owned(),
        Some(first) if first.is_ascii_digit() => format!("{alone}_{text}"),
        Some(_) if RESERVED.contains(&text.as_str()) => format!("{text}_{alone}"),
        Some(_) => text,
    }
}

/// As messages, records and enums are called: `EngSpeed`.
pub fn upper(name: &str, alone: &str) -> String {
    let capital = |word: &String| {
        let mut chars = word.chars();
        chars.next().map_or(String::new(), |first| {
            let rest = chars.as_str();
            let is_shouted = rest.chars().all(|c| !c.is_ascii_lowercase());
            let rest = if is_shouted { rest.to_ascii_lowercase() } else { rest.to_owned() };
            format!("{}{rest}", first.to_ascii_uppercase())
        })
    };
    let text: String = words(name).iter().map(capital).collect();
    match text.chars().next() {
        None => alone.to_owned(),
        Some(first) if first.is_ascii_digit() => format!("{alone}{text}"),
        Some(_) => text,
    }
}

/// Names that are taken.
#[derive(Clone, Debug, Default)]
pub(crate) struct UsedNames(BTreeSet<String>);

impl UsedNames {
    /// The name, or one with a number behind it, if it is taken; and whether it was. It is taken from then on.
    pub fn take(&mut self, name: String) -> (String, bool) {
        if self.0.insert(name.clone()) {
            return (name, false);
        }
        let joint = if name.ends_with(|c: char| c.is_ascii_digit()) { "_" } else { "" };
        let free = (2..).map(|n| format!("{name}{joint}{n}")).find(|other| !self.0.contains(other));
        let free = free.unwrap_or(name);
        self.0.insert(free.clone());
        (free, true)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_change_their_style() {
        for (name, small, large) in [
            ("EngSpeed", "eng_speed", "EngSpeed"),
            ("ENGINE_DATA", "engine_data", "EngineData"),
            ("RPMValue2", "rpm_value2", "RpmValue2"),
            ("2nd", "field_2nd", "Item2nd"),
            ("Öl", "l", "L"),
            ("__", "field", "Item"),
            ("id", "id_field", "Id"),
        ] {
            assert_eq!((lower(name, "field"), upper(name, "Item")), (small.to_owned(), large.to_owned()), "{name}");
        }
        let mut taken = UsedNames::default();
        let names: Vec<String> = ["a", "a", "a", "a2"].map(|name| taken.take(name.to_owned()).0).to_vec();
        assert_eq!(names, ["a", "a2", "a3", "a2_2"]);
    }
}
