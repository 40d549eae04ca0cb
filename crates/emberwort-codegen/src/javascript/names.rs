//! Names and texts in JavaScript.

use emberwort_model::diagnostics::escaped;
use emberwort_model::model::ByteOrder;

use crate::names::plain_snake;

/// Words that the language keeps for itself, and members that classes have already.
const TAKEN: &[&str] = &[
    "arguments",
    "await",
    "break",
    "case",
    "catch",
    "class",
    "const",
    "constructor",
    "continue",
    "debugger",
    "default",
    "delete",
    "do",
    "else",
    "encode",
    "enum",
    "eval",
    "export",
    "extends",
    "false",
    "finally",
    "for",
    "function",
    "if",
    "implements",
    "import",
    "in",
    "instanceof",
    "interface",
    "let",
    "new",
    "null",
    "package",
    "private",
    "protected",
    "prototype",
    "public",
    "return",
    "sectionsHeld",
    "static",
    "super",
    "switch",
    "this",
    "throw",
    "toString",
    "true",
    "try",
    "typeof",
    "undefined",
    "valueOf",
    "var",
    "void",
    "while",
    "with",
    "yield",
];

/// Classes of the language and of the module, which none of a definition may hide.
const CLASSES: &[&str] = &[
    "Array",
    "ArrayBuffer",
    "BigInt",
    "DataView",
    "Error",
    "FLOATS",
    "FindsAnywhere",
    "FindsByDelimiter",
    "FindsByEscapes",
    "FindsBySilence",
    "FindsBySync",
    "Form",
    "Frame",
    "Infinity",
    "LinkError",
    "LinkErrorKind",
    "MESSAGES",
    "Map",
    "Math",
    "Message",
    "MessageClass",
    "NaN",
    "Number",
    "Object",
    "Partial",
    "Omit",
    "Promise",
    "RECEIVERS",
    "REVISION",
    "ReadonlyMap",
    "Receiver",
    "Received",
    "Set",
    "String",
    "Symbol",
    "Uint8Array",
];

/// The name of a module's file, without its ending.
pub fn module(name: &str) -> String {
    plain_snake(name)
}

/// Words with capitals: `GateStatus`.
pub fn class(name: &str) -> String {
    let words = plain_snake(name);
    let name: String = words.split('_').map(capital).collect();
    match CLASSES.contains(&name.as_str()) || name.starts_with(|c: char| c.is_ascii_digit()) {
        true => format!("{name}_"),
        false => name,
    }
}

fn capital(word: &str) -> String {
    let mut letters = word.chars();
    letters.next().map_or_else(String::new, |first| first.to_ascii_uppercase().to_string() + letters.as_str())
}

/// The name of a member: `oilHot`.
pub(crate) fn member(name: &str) -> String {
    let words = plain_snake(name);
    let all = words.split('_').enumerate().map(|(n, word)| if n == 0 { word.to_owned() } else { capital(word) });
    let name: String = all.collect();
    match TAKEN.contains(&name.as_str()) || name.starts_with(|c: char| c.is_ascii_digit()) {
        true => format!("{name}_"),
        false => name,
    }
}

/// A member's name behind a word: `physicalOilHot`.
pub(crate) fn after_word(word: &str, member: &str) -> String {
    format!("{word}{}", capital(member))
}

/// The name of a label: `OIL_HOT`.
pub fn constant(name: &str) -> String {
    let upper = plain_snake(name).to_ascii_uppercase();
    if upper.starts_with(|c: char| c.is_ascii_digit()) { format!("N{upper}") } else { upper }
}

/// A text as a literal, in ASCII.
pub fn text(text: &str) -> String {
    let mut out = String::from("\"");
    for unit in text.encode_utf16() {
        match u8::try_from(unit) {
            Ok(c @ (b'"' | b'\\')) => out.extend(['\\', char::from(c)]),
            Ok(c @ b' '..=b'~') => out.push(char::from(c)),
            _ => out.push_str(&format!("\\u{unit:04x}")),
        }
    }
    out.push('"');
    out
}

/// Bytes as the numbers of an array.
pub fn bytes(some: &[u8]) -> String {
    let all: Vec<String> = some.iter().map(|byte| format!("{byte:#04x}")).collect();
    format!("[{}]", all.join(", "))
}

/// Documentation that can stand in a comment.
pub fn doc(doc: &str) -> String {
    let line = |line: &str| escaped(line).replace("*/", "* /");
    doc.lines().map(line).collect::<Vec<_>>().join("\n")
}

/// A comment above what it is about; nothing if there is nothing to say.
pub fn comment(about: &str) -> String {
    let lines: Vec<&str> = about.lines().collect();
    match lines.as_slice() {
        [] => String::new(),
        [one] => format!("/** {one} */"),
        lines => {
            let all: Vec<String> = lines.iter().map(|line| format!(" * {line}").trim_end().to_owned()).collect();
            format!("/**\n{}\n */", all.join("\n"))
        }
    }
}

/// Whether the first bits come lowest, as an argument.
pub fn little(order: ByteOrder) -> &'static str {
    match order {
        ByteOrder::Little => "true",
        ByteOrder::Big => "false",
    }
}
