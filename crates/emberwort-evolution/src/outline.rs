//! A definition as its author wrote it, statement by statement: to show what was written, and to write it anew.
//!
//! It reads text in canonical style, in which each statement begins on a line of its own.

use std::collections::HashMap;
use std::fmt::Write;

/// The items of a definition, in order.
#[derive(Clone, Debug, Default)]
pub(crate) struct Outline {
    /// The items.
    pub items: Vec<Item>,
}

/// One item: `message GateStatus { … }`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Item {
    /// What it is: `message`, `channel`, `enum`, …
    pub keyword: String,
    /// Its name.
    pub name: String,
    /// Comments and documentation in front of it, line by line.
    pub lead: Vec<String>,
    /// The line that begins it, up to the brace.
    pub head: String,
    /// What stands in it.
    pub statements: Vec<Statement>,
}

/// What a statement is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum StatementKind {
    /// A field, or an entry of a table.
    Field,
    /// A label of an enum or flag set.
    Label,
    /// Space without a name.
    Spare,
    /// What is said of the whole: `id 0x21`, `frame { … }`.
    Header,
}

/// One statement of an item.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Statement {
    /// What it is.
    pub kind: StatementKind,
    /// The name of a field or label; the first word of others.
    pub name: String,
    /// The section that it stands in; 1 for the first.
    pub section: u32,
    /// Its lines without the indentation of the item, comments and documentation in front included.
    pub lines: Vec<String>,
}

impl Statement {
    /// Its text on one line, without comments.
    pub fn text(&self) -> String {
        let words = self.lines.iter().flat_map(|line| code_of(line).split_whitespace());
        words.collect::<Vec<_>>().join(" ")
    }

    /// What is said of the name: a field's type, a label's text.
    fn declared(&self) -> String {
        let text = self.text();
        match self.kind {
            StatementKind::Field => text.split_once(" : ").map_or(text.clone(), |(_, ty)| ty.to_owned()),
            _ => text,
        }
    }
}

impl Outline {
    /// Reads text in canonical style.
    pub fn of(text: &str) -> Self {
        let mut items: Vec<Item> = Vec::new();
        let mut lead: Vec<String> = Vec::new();
        let mut lines = text.lines();
        while let Some(line) = lines.next() {
            let code = code_of(line);
            if code.trim().is_empty() {
                // An empty line parts comments from what follows.
                if line.trim().is_empty() {
                    lead.clear();
                } else {
                    lead.push(line.to_owned());
                }
                continue;
            }
            let mut words = code.split_whitespace();
            let (keyword, name) = (words.next().unwrap_or_default(), words.next().unwrap_or_default());
            let mut depth = depth_of(line);
            let mut body = Vec::new();
            while depth > 0 {
                let Some(next) = lines.next() else { break };
                depth += depth_of(next);
                if depth > 0 {
                    body.push(next);
                }
            }
            items.push(Item {
                keyword: keyword.to_owned(),
                name: name.to_owned(),
                lead: std::mem::take(&mut lead),
                head: line.trim_end().trim_end_matches('{').trim_end().to_owned(),
                statements: statements(&body),
            });
        }
        Self { items }
    }

    /// The item of a keyword and name.
    pub fn find(&self, keyword: &str, name: &str) -> Option<&Item> {
        self.items.iter().find(|item| item.keyword == keyword && item.name == name)
    }

    /// A table of the items by name, for looking up many.
    pub fn index(&self) -> Index<'_> {
        let mut items: HashMap<&str, Vec<&Item>> = HashMap::new();
        for item in &self.items {
            items.entry(&item.name).or_default().push(item);
        }
        Index { items }
    }
}

/// The items of a definition by name.
#[derive(Clone, Debug, Default)]
pub struct Index<'a> {
    items: HashMap<&'a str, Vec<&'a Item>>,
}

impl Index<'_> {
    fn find(&self, keyword: &str, name: &str) -> Option<&Item> {
        self.items.get(name)?.iter().find(|item| item.keyword == keyword).copied()
    }

    /// The item with this name that has fields, entries or labels.
    fn owner(&self, name: &str) -> Option<&Item> {
        let owners = ["message", "record", "table", "enum", "flags"];
        self.items.get(name)?.iter().find(|item| owners.contains(&item.keyword.as_str())).copied()
    }

    /// What is said of a field behind the colon; empty if there is none.
    pub(crate) fn field(&self, owner: &str, name: &str) -> String {
        let statements = self.owner(owner).map_or(&[][..], |item| &item.statements);
        let found = statements.iter().find(|s| s.kind == StatementKind::Field && s.name == name);
        found.map_or_else(String::new, Statement::declared)
    }

    /// The statements of an item that begin with one of these words, on one line.
    pub(crate) fn statements(&self, keyword: &str, name: &str, words: &[&str]) -> String {
        let Some(item) = self.find(keyword, name) else { return String::new() };
        let wanted =
            item.statements.iter().filter(|s| s.kind == StatementKind::Header && words.contains(&s.name.as_str()));
        wanted.map(Statement::text).collect::<Vec<_>>().join("; ")
    }

    /// The lines of such statements, each without comments and with single spaces.
    pub(crate) fn lines(&self, keyword: &str, name: &str, words: &[&str]) -> Vec<String> {
        let Some(item) = self.find(keyword, name) else { return Vec::new() };
        let wanted =
            item.statements.iter().filter(|s| s.kind == StatementKind::Header && words.contains(&s.name.as_str()));
        let lines = wanted.flat_map(|statement| &statement.lines);
        let lines = lines.map(|line| code_of(line).split_whitespace().collect::<Vec<_>>().join(" "));
        lines.filter(|line| !line.is_empty()).collect()
    }

    /// An item on one line, without its name.
    pub(crate) fn item(&self, keyword: &str, name: &str) -> String {
        let Some(item) = self.find(keyword, name) else { return String::new() };
        item.statements.iter().map(Statement::text).collect::<Vec<_>>().join("; ")
    }
}

impl Item {
    /// The item as it is written, in canonical style but for the columns.
    pub fn text(&self) -> String {
        let mut text = String::new();
        for line in &self.lead {
            // Writing to a String cannot fail.
            let _ = writeln!(text, "{line}");
        }
        let _ = writeln!(text, "{} {{", self.head);
        let mut section = 1;
        for statement in &self.statements {
            if statement.section != section {
                if section > 1 {
                    text.push_str("    }\n");
                }
                section = statement.section;
                if section > 1 {
                    let _ = writeln!(text, "    added in {section} {{");
                }
            }
            let indent = if section > 1 { "        " } else { "    " };
            for line in &statement.lines {
                let _ = writeln!(text, "{indent}{line}");
            }
        }
        if section > 1 {
            text.push_str("    }\n");
        }
        text.push_str("}\n");
        text
    }

    /// The fields, entries or labels.
    pub fn named(&self) -> impl Iterator<Item = &Statement> {
        self.statements.iter().filter(|s| matches!(s.kind, StatementKind::Field | StatementKind::Label))
    }
}

/// The statements between an item's braces.
fn statements(body: &[&str]) -> Vec<Statement> {
    let mut all = Vec::new();
    let mut lines: Vec<String> = Vec::new();
    let (mut depth, mut section) = (0, 1);
    // How deep statements stand now: a section is one deeper.
    let mut floor = 0;
    for line in body {
        let code = code_of(line);
        let code = code.trim();
        let stripped = line.strip_prefix(&"    ".repeat(1 + floor as usize)).unwrap_or(line.trim_start());
        if lines.iter().all(|line| code_of(line).trim().is_empty()) {
            if code.is_empty() {
                if !line.trim().is_empty() {
                    lines.push(stripped.to_owned());
                }
                continue;
            }
            if let Some(rest) = code.strip_prefix("added in ") {
                section = rest.split_whitespace().next().and_then(|number| number.parse().ok()).unwrap_or(section);
                floor = 1;
                depth = 1;
                lines.clear();
                continue;
            }
            if code == "}" && floor == 1 {
                (floor, depth, section) = (0, 0, 1);
                lines.clear();
                continue;
            }
        }
        depth += depth_of(line);
        lines.push(stripped.to_owned());
        if depth <= floor {
            all.push(statement(std::mem::take(&mut lines), section));
        }
    }
    all
}

fn statement(lines: Vec<String>, section: u32) -> Statement {
    let code = lines.iter().map(|line| code_of(line)).find(|code| !code.trim().is_empty()).unwrap_or_default();
    let words: Vec<&str> = code.split_whitespace().collect();
    let word = |n: usize| words.get(n).copied().unwrap_or_default();
    let number = word(0).starts_with(|c: char| c.is_ascii_digit());
    let (kind, name) = match (number, word(1), word(2)) {
        (true, name, ":") => (StatementKind::Field, name),
        (true, name, _) => (StatementKind::Label, name),
        (false, ":", _) => (StatementKind::Field, word(0)),
        _ if word(0) == "spare" => (StatementKind::Spare, word(0)),
        _ => (StatementKind::Header, word(0)),
    };
    Statement { kind, name: name.to_owned(), section, lines }
}

/// A line without its comment.
fn code_of(line: &str) -> &str {
    if !line.contains('#') {
        return line;
    }
    let mut quoted = false;
    let mut escaped = false;
    for (at, c) in line.char_indices() {
        match c {
            _ if escaped => escaped = false,
            '\\' if quoted => escaped = true,
            '"' => quoted = !quoted,
            '#' if !quoted => return &line[..at],
            _ => {}
        }
    }
    line
}

/// How many braces a line opens more than it closes.
fn depth_of(line: &str) -> i32 {
    if !line.contains(['{', '}']) {
        return 0;
    }
    let (mut depth, mut quoted, mut escaped) = (0, false, false);
    for c in code_of(line).chars() {
        match c {
            _ if escaped => escaped = false,
            '\\' if quoted => escaped = true,
            '"' => quoted = !quoted,
            '{' if !quoted => depth += 1,
            '}' if !quoted => depth -= 1,
            _ => {}
        }
    }
    depth
}

#[cfg(test)]
mod tests {
    use super::*;

    const TEXT: &str = "\
link marlock {
    revision    3
}

# Apart.

## Of the gate.
message GateStatus {
    id    0x21
    # Which one.
    gate  : u8  # from the left
    spare 4 bits
    form : by gate {
        1 level  : u8 m
        else other : bytes[rest]
    }
    line  \"}{gate}\"
    added in 2 {
        ## Supply.
        battery  : u8 * 0.1 V = 12.0
    }
}
enum A : u8 {
    0 a  \"{\"
}
";

    #[test]
    fn statements_are_found_with_their_comments() {
        let outline = Outline::of(TEXT);
        let names: Vec<&str> = outline.items.iter().map(|item| item.name.as_str()).collect();
        assert_eq!(names, ["marlock", "GateStatus", "A"]);
        let gate = outline.find("message", "GateStatus").unwrap();
        assert_eq!(gate.lead, ["## Of the gate."]);
        let all: Vec<(&str, u32, StatementKind)> =
            gate.statements.iter().map(|s| (s.name.as_str(), s.section, s.kind)).collect();
        use StatementKind::*;
        assert_eq!(
            all,
            [
                ("id", 1, Header),
                ("gate", 1, Field),
                ("spare", 1, Spare),
                ("form", 1, Field),
                ("line", 1, Header),
                ("battery", 2, Field)
            ]
        );
        let index = outline.index();
        assert_eq!(index.field("GateStatus", "battery"), "u8 * 0.1 V = 12.0");
        assert_eq!(index.field("GateStatus", "form"), "by gate { 1 level : u8 m else other : bytes[rest] }");
        assert_eq!(index.statements("message", "GateStatus", &["id"]), "id 0x21");
    }

    #[test]
    fn an_item_is_written_as_it_was_read() {
        let outline = Outline::of(TEXT);
        let gate = outline.find("message", "GateStatus").unwrap();
        let at = TEXT.find("## Of the gate.").unwrap();
        assert_eq!(gate.text(), TEXT[at..TEXT.find("enum A").unwrap()]);
    }
}
