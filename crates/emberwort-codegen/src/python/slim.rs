//! The module for small interpreters: without annotations, data classes, enum types and what else they have no modules for.
//!
//! It is made from the lines of the full module, so that both do the same with the same bytes.

/// What classes with fields stand on.
const VALUES: &str = r#"class _Values:
    """Values by their names."""

    def __eq__(self, other):
        return type(self) is type(other) and self.__dict__ == other.__dict__

    def __hash__(self):
        return hash(repr(self))

    def __repr__(self):
        inner = ", ".join("%s=%r" % (name, self.__dict__[name]) for name in self._NAMES)
        return "%s(%s)" % (type(self).__name__, inner)


"#;

/// Functions that small interpreters need another way: a text that is no UTF-8 stays bytes where there are no characters for it.
const OTHERWISE: [(&str, &str); 2] = [
    (
        "    return some.decode(\"utf-8\", \"surrogateescape\")",
        "    try:\n        return some.decode(\"utf-8\", \"surrogateescape\")\n    except UnicodeError:\n        return some",
    ),
    (
        "    return text.encode(\"utf-8\", \"surrogateescape\")",
        "    return text if isinstance(text, bytes) else text.encode(\"utf-8\", \"surrogateescape\")",
    ),
];

/// One field of a class: its comments, its name, and its default.
struct Value {
    comments: Vec<String>,
    name: String,
    default: Option<String>,
}

/// The full module in the words of a small interpreter.
pub fn slim(module: &str) -> String {
    let mut out = String::with_capacity(module.len());
    let mut lines = module.lines().peekable();
    let mut has_values = false;
    let mut is_text = false;
    while let Some(line) = lines.next() {
        // A text over several lines stays.
        let quotes = line.matches("\"\"\"").count();
        if is_text || quotes % 2 == 1 {
            is_text ^= quotes % 2 == 1;
            out.extend([line, "\n"]);
            continue;
        }
        let starts = ["from __future__", "import enum", "from dataclasses", "from typing"];
        if line == "import enum" || starts.iter().any(|start| line.starts_with(start)) {
            if line.starts_with("from typing") {
                out.push_str("from collections import namedtuple\n");
            }
            continue;
        }
        if line == "@dataclass" {
            if !std::mem::replace(&mut has_values, true) {
                out.push_str(VALUES);
            }
            let class = lines.next().unwrap_or_default().trim_start_matches("class ").trim_end_matches(':');
            out.push_str(&format!("class {class}(_Values):\n"));
            values(&mut lines, &mut out);
            continue;
        }
        if let Some(class) = line.strip_prefix("class ").and_then(|rest| rest.strip_suffix("(NamedTuple):")) {
            tuple(class, &mut lines, &mut out);
            continue;
        }
        if let Some(class) = line.strip_suffix("(enum.IntEnum):").or_else(|| line.strip_suffix("(enum.IntFlag):")) {
            out.push_str(&format!("{class}:\n"));
            continue;
        }
        if line.trim_start().starts_with("def ") {
            out.push_str(&without_annotations(line));
            out.push('\n');
            continue;
        }
        if let Some((_, otherwise)) = OTHERWISE.iter().find(|(full, _)| *full == line) {
            out.extend([otherwise, "\n"]);
            continue;
        }
        match annotated(line) {
            Some((_, _, None)) => {}
            Some((indent, name, Some(value))) => out.push_str(&format!("{indent}{name} = {value}\n")),
            None => out.extend([line, "\n"]),
        }
    }
    out
}

/// A class with fields: its constants, and a function that sets all.
fn values<'a>(lines: &mut std::iter::Peekable<impl Iterator<Item = &'a str>>, out: &mut String) {
    let mut fields: Vec<Value> = Vec::new();
    let mut comments = Vec::new();
    while let Some(line) = lines.peek().copied() {
        if line.starts_with("    \"\"\"") {
            out.extend([line, "\n"]);
            // It may go over several lines.
            let mut last = line;
            while line.matches("\"\"\"").count() == 1 && (last == line || !last.contains("\"\"\"")) {
                lines.next();
                let Some(next) = lines.peek().copied() else { break };
                out.extend([next, "\n"]);
                last = next;
            }
        } else if line.starts_with("    #") {
            comments.push(line.trim_start_matches("    #").trim_start_matches(':').trim().to_owned());
        } else if line.contains("ClassVar[") {
            break;
        } else if let Some((_, name, default)) = annotated(line) {
            fields.push(Value { comments: std::mem::take(&mut comments), name: name.to_owned(), default });
        } else if !line.is_empty() {
            break;
        }
        lines.next();
    }
    let names: Vec<String> = fields.iter().map(|field| format!("\"{}\"", field.name)).collect();
    let comma = if names.len() == 1 { "," } else { "" };
    out.push_str(&format!("    _NAMES = ({}{comma})\n", names.join(", ")));
    while let Some(line) = lines.peek().filter(|line| line.contains("ClassVar[")) {
        if let Some((indent, name, Some(value))) = annotated(line) {
            out.push_str(&format!("{indent}{name} = {value}\n"));
        }
        lines.next();
    }
    let made = |default: &str| {
        default.strip_prefix("field(default_factory=").and_then(|rest| rest.strip_suffix(')')).map(str::to_owned)
    };
    let arguments: String = fields
        .iter()
        .map(|field| match &field.default {
            None => format!(", {}", field.name),
            Some(default) if made(default).is_some() => format!(", {}=None", field.name),
            Some(default) => format!(", {}={default}", field.name),
        })
        .collect();
    out.push_str(&format!("\n    def __init__(self{arguments}):\n"));
    for field in &fields {
        for comment in &field.comments {
            out.push_str(&format!("        # {comment}\n"));
        }
        let name = &field.name;
        let value = match field.default.as_deref().and_then(made) {
            Some(made) => format!("({made})() if {name} is None else {name}"),
            None => name.clone(),
        };
        out.push_str(&format!("        self.{name} = {value}\n"));
    }
    if fields.is_empty() {
        out.push_str("        pass\n");
    }
    // A blank line is behind the constants already.
    if lines.peek().is_some_and(|line| !line.is_empty()) {
        out.push('\n');
    }
}

/// A tuple with names.
fn tuple<'a>(class: &str, lines: &mut std::iter::Peekable<impl Iterator<Item = &'a str>>, out: &mut String) {
    let mut names = Vec::new();
    while let Some(line) = lines.peek().copied().filter(|line| line.is_empty() || line.starts_with("    ")) {
        match annotated(line) {
            Some((_, name, _)) => names.push(format!("\"{name}\"")),
            None if line.starts_with("    \"\"\"") => {
                out.push_str(&format!("# {}\n", line.trim().trim_matches('"')));
            }
            None => {}
        }
        lines.next();
    }
    out.push_str(&format!("{class} = namedtuple(\"{class}\", ({}))\n\n\n", names.join(", ")));
}

/// A line that gives a variable a type: what stands in front of its name, the name, and its value, if there is one.
fn annotated(line: &str) -> Option<(&str, &str, Option<String>)> {
    let text = line.trim_start();
    let indent = &line[..line.len() - text.len()];
    let (name, rest) = text.split_once(": ")?;
    let is_name = |c: char| c.is_ascii_alphanumeric() || c == '_';
    let is_type = rest.starts_with(|c: char| c.is_ascii_uppercase() || c.is_ascii_lowercase());
    if name.is_empty() || !name.chars().all(is_name) || name.starts_with(|c: char| c.is_ascii_digit()) || !is_type {
        return None;
    }
    match top_level(rest, '=') {
        Some(at) => Some((indent, name, Some(rest[at + 1..].trim().to_owned()))),
        None => Some((indent, name, None)),
    }
}

/// The line that begins a function, without types.
fn without_annotations(line: &str) -> String {
    let Some(open) = line.find('(') else { return line.to_owned() };
    let Some(close) = closing(&line[open..]).map(|at| open + at) else { return line.to_owned() };
    let mut arguments = Vec::new();
    let mut rest = &line[open + 1..close];
    loop {
        let end = top_level(rest, ',');
        let argument = rest[..end.unwrap_or(rest.len())].trim();
        let plain = match top_level(argument, ':') {
            Some(at) => {
                let name = &argument[..at];
                match top_level(&argument[at..], '=') {
                    Some(value) => format!("{name}={}", argument[at + value + 1..].trim()),
                    None => name.to_owned(),
                }
            }
            None => argument.to_owned(),
        };
        if !plain.is_empty() {
            arguments.push(plain);
        }
        match end {
            Some(end) => rest = &rest[end + 1..],
            None => break,
        }
    }
    let behind = &line[close + 1..];
    let behind = match behind.strip_prefix(" -> ").and_then(|kind| Some((kind, top_level(kind, ':')?))) {
        Some((kind, at)) => &kind[at..],
        None => behind,
    };
    format!("{}({}){behind}", &line[..open], arguments.join(", "))
}

/// Where the bracket at the front of a text closes.
fn closing(text: &str) -> Option<usize> {
    scan(text, |c, depth| c == ')' && depth == 0)
}

/// The first place of a character that is in no brackets and no quotes.
fn top_level(text: &str, wanted: char) -> Option<usize> {
    scan(text, |c, depth| c == wanted && depth == 0)
}

/// The first character for which something holds, with how many brackets are open behind it; none in quotes.
fn scan(text: &str, holds: impl Fn(char, i32) -> bool) -> Option<usize> {
    let mut depth = 0;
    let mut quote = None;
    let mut is_escaped = false;
    for (at, c) in text.char_indices() {
        match (quote, c) {
            (Some(_), _) if is_escaped => is_escaped = false,
            (Some(_), '\\') => is_escaped = true,
            (Some(open), c) if c == open => quote = None,
            (Some(_), _) => {}
            (None, '"' | '\'') => quote = Some(c),
            (None, '(' | '[' | '{') => depth += 1,
            (None, ')' | ']' | '}') => depth -= 1,
            _ => {}
        }
        if quote.is_none() && holds(c, depth) {
            return Some(at);
        }
    }
    None
}
