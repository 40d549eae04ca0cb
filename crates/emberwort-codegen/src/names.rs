//! Names of a definition as names of a target language, and which of them become the same there.
//!
//! Which names a generator makes, it alone knows. So it is asked to write its code once more with marks around each name of the
//! definition: two names in it that are the same without the marks, and are not with them, are a clash. The marks say of which
//! items.

use std::cell::Cell;
use std::collections::{BTreeMap, BTreeSet};

/// Stand around a name as it is written; behind it stands the name of the definition.
const OPEN: char = '\u{E000}';
const ORIGIN: char = '\u{E001}';
const CLOSE: char = '\u{E002}';

thread_local! {
    static MARKING: Cell<bool> = const { Cell::new(false) };
}

/// Runs a generator so that names are marked.
pub(crate) fn with_marks<T>(generate: impl FnOnce() -> T) -> T {
    MARKING.set(true);
    let made = generate();
    MARKING.set(false);
    made
}

fn marked(text: String, name: &str) -> String {
    // A name that is put together of marked ones has its marks.
    match MARKING.get() && !name.contains(OPEN) {
        true => format!("{OPEN}{text}{ORIGIN}{name}{CLOSE}"),
        false => text,
    }
}

/// What is applied to a name, but not to what stands in its marks.
fn outside_marks(name: &str, change: impl Fn(&str) -> String) -> String {
    let mut out = String::new();
    let mut rest = name;
    while let Some(at) = rest.find(ORIGIN) {
        let end = rest[at..].find(CLOSE).map_or(rest.len(), |end| at + end + CLOSE.len_utf8());
        out.push_str(&change(&rest[..at]));
        out.push_str(&rest[at..end]);
        rest = &rest[end..];
    }
    out + &change(rest)
}

/// `GateStatus` and `gate_status` as `gate_status`: lower case, single underscores between words, none around.
pub fn snake(name: &str) -> String {
    if name.contains(OPEN) {
        return name.to_owned();
    }
    marked(plain_snake(name), name)
}

/// A name in lower case without marks, for looking it up.
pub(crate) fn plain_snake(name: &str) -> String {
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
    // Names with two underscores in a row are reserved in C++.
    let words: Vec<&str> = out.split('_').filter(|word| !word.is_empty()).collect();
    if words.is_empty() { "x".to_owned() } else { words.join("_") }
}

/// `GateStatus` and `gate_status` as `GATE_STATUS`.
pub(crate) fn screaming(name: &str) -> String {
    outside_marks(&snake(name), str::to_ascii_uppercase)
}

/// A name that is changed since the language has another use for it.
pub(crate) fn changed(name: &str, text: String) -> String {
    marked(text, name)
}

/// Two names of a definition that become the same name in a language.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Clash {
    /// The name that both become.
    pub name: String,
    /// The items and fields that the first one is made of, as `[GateStatus, opening]`; empty for a name of the generator's own.
    pub first: Vec<String>,
    /// Those of the other one.
    pub second: Vec<String>,
}

impl Clash {
    /// What becomes the same, and the way out.
    pub fn sentence(&self, language: &str) -> String {
        let (first, second) = (self.first.join("."), self.second.join("."));
        match (self.first.as_slice(), self.second.as_slice()) {
            ([], _) => format!("`{second}` becomes `{}` in {language}, which is a name of its own there", self.name),
            (_, []) => format!("`{first}` becomes `{}` in {language}, which is a name of its own there", self.name),
            _ => format!("`{first}` and `{second}` both become `{}` in {language}", self.name),
        }
    }
}

/// Names of one scope, and of what they are made.
#[derive(Default)]
pub(crate) struct Scope(BTreeMap<String, Vec<String>>);

impl Scope {
    /// Adds a name, or notes the clash with one that is there.
    pub fn add(&mut self, name: String, origin: Vec<String>, clashes: &mut Vec<Clash>) {
        if let Some(first) = self.0.get(&name) {
            clashes.push(Clash { name, first: first.clone(), second: origin });
        } else {
            self.0.insert(name, origin);
        }
    }
}

/// The clashes in C code that was generated with marks. `link` is the link's name, with which all names outside of structs begin.
pub(crate) fn clashes_in(code: &str, link: &str) -> BTreeSet<Clash> {
    let mut clashes = BTreeSet::new();
    let stem = plain_snake(link);
    let mut all: BTreeMap<String, BTreeSet<&str>> = BTreeMap::new();
    // The members of each struct or union that is open, and of which item the struct is.
    let mut scopes: Vec<BTreeMap<String, BTreeSet<&str>>> = Vec::new();
    let mut owner = Vec::new();
    let code = without_comments(code);
    for line in code.lines() {
        if line.trim_start().starts_with('}')
            && let Some(members) = scopes.pop()
        {
            note(&members, link, &owner, &mut clashes);
        }
        for (token, is_last) in tokens(line) {
            let plain = unmarked(token);
            if plain.to_ascii_lowercase().strip_prefix(&stem).is_some_and(|rest| rest.starts_with('_')) {
                all.entry(plain).or_default().insert(token);
            } else if let (true, Some(members)) = (is_last, scopes.last_mut()) {
                members.entry(plain).or_default().insert(token);
            }
        }
        let opens = line.starts_with("typedef struct") || (!scopes.is_empty() && line.contains('{'));
        if line.starts_with("typedef struct") {
            owner = origins(line);
            owner.retain(|name| name != link);
        }
        if opens && !line.contains('}') {
            scopes.push(BTreeMap::new());
        }
    }
    note(&all, link, &[], &mut clashes);
    // One name for each two items will do.
    let mut seen = BTreeSet::new();
    clashes.retain(|clash: &Clash| seen.insert((clash.first.clone(), clash.second.clone())));
    clashes
}

fn note(names: &BTreeMap<String, BTreeSet<&str>>, link: &str, owner: &[String], clashes: &mut BTreeSet<Clash>) {
    for (name, forms) in names {
        // Names of one origin may be put together in several ways.
        let of = |form: &&str| {
            let mut all = origins(form);
            if all.first().is_some_and(|first| first == link) {
                all.remove(0);
            }
            if all.is_empty() { all } else { [owner, &all].concat() }
        };
        let origins: BTreeSet<Vec<String>> = forms.iter().map(of).collect();
        let mut origins = origins.into_iter();
        if let (Some(first), Some(second)) = (origins.next(), origins.next()) {
            clashes.insert(Clash { name: name.clone(), first, second });
        }
    }
}

pub(crate) fn without_comments(code: &str) -> String {
    let mut out = String::with_capacity(code.len());
    let mut rest = code;
    while let Some(at) = rest.find("/*") {
        out.push_str(&rest[..at]);
        let end = rest[at..].find("*/").map_or(rest.len(), |end| at + end + 2);
        out.extend(rest[at..end].chars().filter(|c| *c == '\n'));
        rest = &rest[end..];
    }
    out + rest
}

/// The names in a line, outside of quotes, and whether each is the last one before `;` or `[`: that which is declared.
fn tokens(line: &str) -> Vec<(&str, bool)> {
    let mut found = Vec::new();
    let mut start = None;
    let (mut quoted, mut in_origin) = (false, false);
    for (at, c) in line.char_indices().chain([(line.len(), '\n')]) {
        if c == '"' {
            quoted = !quoted;
        }
        in_origin = (in_origin || c == ORIGIN) && c != CLOSE;
        let inside = in_origin || c.is_ascii_alphanumeric() || matches!(c, '_' | OPEN | ORIGIN | CLOSE);
        match (inside && !quoted, start) {
            (true, None) => start = Some(at),
            (false, Some(from)) => {
                found.push((&line[from..at], matches!(c, ';' | '[')));
                start = None;
            }
            _ => {}
        }
    }
    found
}

fn unmarked(token: &str) -> String {
    let mut out = String::new();
    let mut in_origin = false;
    for c in token.chars() {
        match c {
            ORIGIN => in_origin = true,
            CLOSE => in_origin = false,
            OPEN => {}
            c if !in_origin => out.push(c),
            _ => {}
        }
    }
    out
}

/// The names of the definition in a marked one.
fn origins(token: &str) -> Vec<String> {
    let names = token.split(ORIGIN).skip(1).filter_map(|rest| rest.split(CLOSE).next());
    names.map(str::to_owned).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn camel_becomes_snake() {
        assert_eq!(snake("GateStatus"), "gate_status");
        assert_eq!(snake("HTTPPort2Go"), "http_port2_go");
        assert_eq!(snake("bus485"), "bus485");
        assert_eq!(snake("_a__b_"), "a_b");
        assert_eq!(snake("__"), "x");
        assert_eq!(screaming("oil_hot"), "OIL_HOT");
    }

    #[test]
    fn marks_survive_and_come_off() {
        with_marks(|| {
            let name = format!("{}_{}_T", snake("lnk"), screaming("GateStatus"));
            assert_eq!(unmarked(&screaming(&name)), "LNK_GATE_STATUS_T");
            assert_eq!(origins(&screaming(&name)), ["lnk", "GateStatus"]);
        });
        assert_eq!(snake("GateStatus"), "gate_status");
    }
}
