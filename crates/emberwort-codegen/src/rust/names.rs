//! Names and texts in Rust.

use emberwort_model::diagnostics::escaped;
use emberwort_model::model::{ByteOrder, Field};
use emberwort_model::plan::Action;

use crate::lower::{FieldContent, Floats};
use crate::names::plain_snake;

/// Words that the language keeps for itself, names that generated functions need, and methods that every value has, which would be called in
/// the place of a view's.
const TAKEN: &[&str] = &[
    "abstract",
    "as",
    "async",
    "await",
    "become",
    "body",
    "bool",
    "box",
    "break",
    "char",
    "check",
    "const",
    "continue",
    "core",
    "crate",
    "decode",
    "do",
    "dyn",
    "else",
    "encode",
    "enum",
    "extern",
    "f32",
    "f64",
    "false",
    "final",
    "finish",
    "fn",
    "for",
    "gen",
    "get",
    "i16",
    "i32",
    "i64",
    "i8",
    "if",
    "impl",
    "in",
    "into",
    "key",
    "let",
    "loop",
    "macro",
    "match",
    "mod",
    "move",
    "mut",
    "new",
    "override",
    "priv",
    "pub",
    "put",
    "reader",
    "ref",
    "return",
    "sections_held",
    "self",
    "static",
    "str",
    "struct",
    "super",
    "trait",
    "true",
    "try",
    "try_into",
    "type",
    "typeof",
    "u16",
    "u32",
    "u64",
    "u8",
    "union",
    "unsafe",
    "unsized",
    "use",
    "usize",
    "view",
    "virtual",
    "where",
    "while",
    "writer",
    "yield",
];

/// Types of the language and of the module, which none of a definition may hide.
const TYPES: &[&str] = &[
    "Blank",
    "Box",
    "Bytes",
    "C",
    "Clone",
    "Copy",
    "Counters",
    "Debug",
    "Default",
    "DelimitedFrames",
    "Display",
    "Drop",
    "Err",
    "Error",
    "EscapedFrames",
    "Escapes",
    "Filled",
    "FindsByDelimiter",
    "FindsByEscapes",
    "FindsBySilence",
    "FindsBySync",
    "Fn",
    "FnMut",
    "FnOnce",
    "Frames",
    "From",
    "Held",
    "Into",
    "Iterator",
    "K",
    "List",
    "N",
    "None",
    "Ok",
    "Option",
    "PartialEq",
    "Reader",
    "Received",
    "Result",
    "Self",
    "Send",
    "Size",
    "Sized",
    "Some",
    "String",
    "Sync",
    "SyncFrames",
    "T",
    "Text",
    "Vec",
    "Writer",
];

/// Whether a crate cannot have this name: Rust keeps the word for itself, or its own crates have it.
pub fn is_taken(name: &str) -> bool {
    TAKEN.contains(&name) || ["alloc", "proc_macro", "std", "test"].contains(&name)
}

/// The name of a module's file, without its ending.
pub fn module(name: &str) -> String {
    let plain = plain_snake(name);
    // With these names files begin a program or a library.
    let is_taken = TAKEN.contains(&plain.as_str()) || ["main", "lib"].contains(&plain.as_str());
    match is_taken || plain.starts_with(|c: char| c.is_ascii_digit()) {
        true => format!("{plain}_link"),
        false => plain,
    }
}

/// Words with capitals: `GateStatus`.
pub fn class(name: &str) -> String {
    let words = plain_snake(name);
    let word = |word: &str| {
        let mut letters = word.chars();
        letters.next().map_or_else(String::new, |first| first.to_ascii_uppercase().to_string() + letters.as_str())
    };
    let name: String = words.split('_').map(word).collect();
    match TYPES.contains(&name.as_str()) || name.starts_with(|c: char| c.is_ascii_digit()) {
        true if name.starts_with(|c: char| c.is_ascii_digit()) => format!("N{name}"),
        true => format!("{name}_"),
        false => name,
    }
}

/// The name of a field.
pub(crate) fn member(name: &str) -> String {
    let plain = plain_snake(name);
    match TAKEN.contains(&plain.as_str()) {
        true => format!("{plain}_"),
        false if plain.starts_with(|c: char| c.is_ascii_digit()) => format!("n{plain}"),
        false => plain,
    }
}

/// The name of a label: `OIL_HOT`.
pub fn constant(name: &str) -> String {
    let upper = plain_snake(name).to_ascii_uppercase();
    if upper.starts_with(|c: char| c.is_ascii_digit()) { format!("N{upper}") } else { upper }
}

/// A text as a literal, in ASCII.
pub fn text(text: &str) -> String {
    let mut out = String::from("\"");
    for c in text.chars() {
        match c {
            '"' | '\\' => out.extend(['\\', c]),
            ' '..='~' => out.push(c),
            c => out.push_str(&format!("\\u{{{:x}}}", c as u32)),
        }
    }
    out.push('"');
    out
}

/// Bytes as a literal of an array.
pub fn bytes(some: &[u8]) -> String {
    let all: Vec<String> = some.iter().map(|byte| format!("{byte:#04x}")).collect();
    format!("[{}]", all.join(", "))
}

/// Lines of documentation, `///` in front; nothing if there is nothing to say.
pub fn doc(doc: &str) -> String {
    let line = |line: &str| {
        // What looks like a link, a tag or code in Markdown is shown as it is.
        let text = escaped(line);
        let text: String = text
            .chars()
            .flat_map(|c| match c {
                '<' | '>' | '[' | ']' | '*' | '_' | '`' | '\\' | '#' => vec!['\\', c],
                c => vec![c],
            })
            .collect();
        format!("/// {text}").trim_end().to_owned() + "\n"
    };
    doc.lines().map(line).collect()
}

/// The documentation of a field: what the definition says, and what it holds.
pub(crate) fn field_doc(field: &Field, action: &Action) -> String {
    let about = match action {
        Action::Run { .. } => String::new(),
        _ => FieldContent::of(field, Floats::Numbers).to_string(),
    };
    let said = [field.doc.as_str(), about.as_str()].join("\n");
    let said = said.trim();
    doc(if said.is_empty() { &field.name } else { said })
}

/// Whether the first bits come lowest, as an argument.
pub fn little(order: ByteOrder) -> &'static str {
    match order {
        ByteOrder::Little => "true",
        ByteOrder::Big => "false",
    }
}
