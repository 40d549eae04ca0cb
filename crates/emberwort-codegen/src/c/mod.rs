//! C99 for both ends: no heap, nothing of the C library beyond `stdint`, `stdbool`, `stddef` and `string`.
//!
//! For each message two levels: an in-place view over the caller's buffer, whose one check makes all accessors safe, and
//! an owned struct with `_encode` and `_decode`. For each channel: building frames, judging them, and a receiver that is fed
//! byte by byte.

mod channel;
mod common;
mod group;
mod line;
mod message;
mod numbers;
mod tidy;
mod types;
mod vectors;

use std::sync::Arc;

use emberwort_model::Plan;
use emberwort_model::model::{Field, Kind};
use emberwort_model::plan::{Action, FrameFinder, RecordPlan};

use crate::code::Code;
use crate::names::{Clash, changed, clashes_in, plain_snake, screaming, snake, with_marks};
use crate::vectors::Vector;
use crate::{GenerateError, GeneratedFile, MARK};

/// The header and the source of a link, and a program that checks both with the vectors. `strangers` are the earlier revisions
/// whose devices or hosts this one does not get along with.
///
/// # Errors
/// If two names of the definition become the same name in C.
pub fn generate(plan: &Plan, vectors: &[Vector], strangers: &[u32]) -> Result<Vec<GeneratedFile>, GenerateError> {
    if let Some(clash) = clashes(plan).into_iter().next() {
        return Err(GenerateError::NameClash { clash, language: "C" });
    }
    let link = snake(&plan.link.name);
    let (header, source) = texts(plan, strangers);
    let files = [
        (format!("{link}.h"), header),
        (format!("{link}.c"), source),
        (format!("{link}_vectors.c"), vectors::write(plan, vectors)),
    ];
    Ok(files.into_iter().map(|(name, text)| GeneratedFile { name, text: tidy::tidy(&text) }).collect())
}

/// The texts of the header and the source.
fn texts(plan: &Plan, strangers: &[u32]) -> (String, String) {
    let link = snake(&plan.link.name);
    let mut header = Code::default();
    let mut source = Code::default();
    begin_files(plan, &mut header, &mut source);
    common::write(plan, strangers, &mut header, &mut source);
    for labelled in &plan.link.labelled {
        types::labelled(&link, labelled, &mut header, &mut source);
    }
    let upper = screaming(&link);
    for record in used_records(plan) {
        let stem = format!("{link}_{}", snake(&record.record.name));
        let group = group::Group {
            link: &link,
            upper: &upper,
            order: plan.link.byte_order,
            stem: &stem,
            fields: &record.record.fields,
            sections: &record.sections,
            rest_bytes: 0,
        };
        group::record(&group, &record.record.doc, &record.record.name, &mut header, &mut source);
    }
    line::common(plan, &mut source);
    for message in &plan.messages {
        message::write(&link, message, &mut header, &mut source);
        line::write(&link, message, &mut header, &mut source);
    }
    for channel in &plan.channels {
        channel::write(plan, channel, &mut header, &mut source);
    }
    header.lines("#ifdef __cplusplus\n}\n#endif\n\n#endif");
    (header.finish(), source.finish())
}

/// Every action of a link: of messages, and of all that lies in them.
fn each_action(plan: &Plan, visit: &mut dyn FnMut(&Action)) {
    let sections = plan.messages.iter().flat_map(|message| &message.sections);
    for step in sections.flat_map(|section| &section.steps) {
        inside(&step.action, visit);
    }
}

fn inside(action: &Action, visit: &mut dyn FnMut(&Action)) {
    visit(action);
    match action {
        Action::List(list) => inside(&list.element.action, visit),
        Action::Union(union) => union.forms.iter().for_each(|form| inside(&form.action, visit)),
        Action::Record(record) => {
            for step in record.sections.iter().flat_map(|section| &section.steps) {
                inside(&step.action, visit);
            }
        }
        _ => {}
    }
}

/// The records that messages use, each behind those that it uses itself.
fn used_records(plan: &Plan) -> Vec<Arc<RecordPlan>> {
    let mut found: Vec<Arc<RecordPlan>> = Vec::new();
    each_action(plan, &mut |action| {
        if let Action::Record(record) = action {
            // Found again further in, it must stand further to the front.
            found.retain(|other| other.record.name != record.record.name);
            found.push(record.clone());
        }
    });
    found.reverse();
    found
}

fn begin_files(plan: &Plan, header: &mut Code, source: &mut Code) {
    let name = snake(&plan.link.name);
    let guard = screaming(&plan.link.name);
    let about = format!("{MARK} from link {}, revision {}. Do not edit.", plan.link.name, plan.link.revision);
    header.line(format!("/* {about}"));
    for line in plan.link.doc.lines() {
        header.line(format!(" * {}", comment(line)));
    }
    header.lines(&format!(
        " *\n \
         * Two levels for each message:\n \
         *   ..._view_t  reads and changes fields in place; ..._view() checks a body once, and all accessors are safe then.\n \
         *   ..._t       holds the values; ..._encode() and ..._decode() turn them into a body and back.\n \
         *\n \
         * Values are raw codes. ..._scaled() gives the physical value times a power of ten (..._DECIMALS) in integers;\n \
         * with {guard}_WITH_FLOAT defined there is ..._physical() too.\n \
         */\n\
         #ifndef {guard}_H\n\
         #define {guard}_H\n\n\
         #include <stdbool.h>\n#include <stddef.h>\n#include <stdint.h>\n\n\
         #ifdef __cplusplus\nextern \"C\" {{\n#endif\n"
    ));
    source.lines(&format!("/* {about} */\n#include \"{name}.h\"\n\n#include <string.h>\n"));
}

/// Text that can stand in a C comment.
fn comment(text: &str) -> String {
    emberwort_model::diagnostics::escaped(text).replace("*/", "* /").replace("/*", "/ *").replace('\\', "/")
}

/// What a field holds, for a comment.
pub(super) fn about(field: &Field) -> String {
    let unit = if field.unit.is_empty() { String::new() } else { format!(" {}", field.unit) };
    let mut text = match &field.kind {
        Kind::Number(form) | Kind::Varint(form) if form.low == form.high => format!("always {}", form.low),
        Kind::Number(form) | Kind::Varint(form) if form.scaling.is_identity() => {
            format!("{} .. {}{unit}", form.low, form.high)
        }
        Kind::Number(form) | Kind::Varint(form) => format!(
            "{} .. {}{unit} in steps of {}: raw {} .. {}",
            form.scaling.physical(form.low),
            form.scaling.physical(form.high),
            form.scaling.step_text(),
            form.low,
            form.high
        ),
        Kind::Bool => "true or false".into(),
        Kind::Float(bits) => {
            format!("bits of an IEEE 754 binary{bits}{}", if unit.is_empty() { unit } else { format!(", in{unit}") })
        }
        Kind::Time { milliseconds } => {
            format!("{} since 1970-01-01 UTC", if *milliseconds { "milliseconds" } else { "seconds" })
        }
        Kind::Enum { labels, .. } | Kind::Flags(labels) => labels.name.clone(),
        Kind::Text { ascii, .. } => format!("{}, not ended by a zero", if *ascii { "ASCII" } else { "UTF-8" }),
        Kind::Bytes(_) | Kind::List { .. } | Kind::Record(_) | Kind::Union(_) | Kind::Spare { .. } => String::new(),
        Kind::NestedFrame { name, .. } => format!("a frame of {name}"),
    };
    if let Some(none) = field.kind.none() {
        text.push_str(&format!(", {none} means none"));
    }
    if field.since > 1 {
        let separator = if text.is_empty() { "" } else { "; " };
        text.push_str(&format!("{separator}since revision {}", field.since));
    }
    comment(&text)
}

/// A documentation comment in front of a declaration.
fn doc_comment(code: &mut Code, doc: &str) {
    let lines: Vec<String> = doc.lines().map(comment).collect();
    match lines.as_slice() {
        [] => {}
        [one] => code.line(format!("/* {one} */")),
        [first, rest @ ..] => {
            code.line(format!("/* {first}"));
            for line in rest {
                code.line(format!(" * {line}"));
            }
            code.line(" */");
        }
    }
}

/// Text as a C string literal.
fn literal(text: &str) -> String {
    let mut out = String::from("\"");
    for byte in text.bytes() {
        match byte {
            b'"' | b'\\' => {
                out.push('\\');
                out.push(byte as char);
            }
            b' '..=b'~' if byte != b'?' => out.push(byte as char),
            // Octal escapes end after three digits, so that a digit behind them stays a digit.
            _ => out.push_str(&format!("\\{byte:03o}")),
        }
    }
    out.push('"');
    out
}

const C_KEYWORDS: &[&str] = &[
    "alignas",
    "alignof",
    "and",
    "asm",
    "auto",
    "bool",
    "break",
    "case",
    "catch",
    "char",
    "class",
    "compl",
    "const",
    "constexpr",
    "continue",
    "decltype",
    "default",
    "delete",
    "do",
    "double",
    "else",
    "enum",
    "explicit",
    "export",
    "extern",
    "false",
    "float",
    "for",
    "friend",
    "goto",
    "if",
    "inline",
    "int",
    "long",
    "mutable",
    "namespace",
    "new",
    "noexcept",
    "not",
    "nullptr",
    "operator",
    "or",
    "private",
    "protected",
    "public",
    "register",
    "restrict",
    "return",
    "short",
    "signed",
    "sizeof",
    "static",
    "struct",
    "switch",
    "template",
    "this",
    "thread_local",
    "throw",
    "true",
    "try",
    "typedef",
    "typeid",
    "typename",
    "union",
    "unsigned",
    "using",
    "virtual",
    "void",
    "volatile",
    "wchar_t",
    "while",
    "xor",
];

/// A field's or part's name as a struct member. One that C has another use for, or the generator, gets an `f_` in front.
fn member(name: &str) -> String {
    let plain = plain_snake(name);
    // These members are ours.
    let ours = matches!(plain.as_str(), "sections_held" | "body" | "size" | "key")
        || plain.starts_with("has_")
        || ["_length", "_count", "_form"].iter().any(|end| plain.ends_with(end));
    let taken = ours || C_KEYWORDS.contains(&plain.as_str()) || MACROS.contains(&plain.as_str());
    if taken || plain.starts_with(|c: char| c.is_ascii_digit()) {
        changed(name, format!("f_{plain}"))
    } else {
        snake(name)
    }
}

/// Names that compilers or headers define as macros, and types of the headers that are included.
const MACROS: &[&str] = &[
    "arm",
    "errno",
    "far",
    "hpux",
    "huge",
    "i386",
    "int16_t",
    "int32_t",
    "int64_t",
    "int8_t",
    "interface",
    "linux",
    "mips",
    "near",
    "ptrdiff_t",
    "size_t",
    "small",
    "sparc",
    "stderr",
    "stdin",
    "stdout",
    "sun",
    "uint16_t",
    "uint32_t",
    "uint64_t",
    "uint8_t",
    "unix",
    "vax",
    "wchar_t",
    "hyper",
    "signbit",
    "isnan",
    "isinf",
    "assert",
    "offsetof",
    "complex",
    "imaginary",
    "noreturn",
    "memcpy",
    "memset",
    "memcmp",
    "memmove",
    "memchr",
    "strlen",
];

/// Headers of the C library and of POSIX whose names a generated file must not take.
const HEADERS: &[&str] = &[
    "assert",
    "complex",
    "ctype",
    "errno",
    "fenv",
    "float",
    "inttypes",
    "iso646",
    "limits",
    "locale",
    "math",
    "setjmp",
    "signal",
    "stdalign",
    "stdarg",
    "stdatomic",
    "stdbool",
    "stddef",
    "stdint",
    "stdio",
    "stdlib",
    "stdnoreturn",
    "string",
    "strings",
    "tgmath",
    "threads",
    "time",
    "uchar",
    "unistd",
    "wchar",
    "wctype",
];

/// Names of a link that become the same in C.
pub fn clashes(plan: &Plan) -> Vec<Clash> {
    let (header, source) = with_marks(|| texts(plan, &[]));
    let link = &plan.link.name;
    // A name that is made in two ways of the same items is one in both files.
    let mut found = clashes_in(&header, link);
    let known: Vec<_> = found.iter().map(|clash| (clash.first.clone(), clash.second.clone())).collect();
    let more = clashes_in(&source, link).into_iter();
    found.extend(more.filter(|clash| !known.contains(&(clash.first.clone(), clash.second.clone()))));
    if HEADERS.contains(&plain_snake(link).as_str()) {
        let name = format!("{}.h", plain_snake(link));
        found.insert(Clash { name, first: vec![link.clone()], second: Vec::new() });
    }
    found.into_iter().collect()
}

/// The unsigned C type for a raw number.
fn unsigned_type(bits: u8) -> &'static str {
    match bits {
        0..=8 => "uint8_t",
        9..=16 => "uint16_t",
        17..=32 => "uint32_t",
        _ => "uint64_t",
    }
}

/// A number as a C constant of a type with these bits.
fn constant(value: i128, bits: u8, signed: bool) -> String {
    let width = match bits {
        0..=8 => 8,
        9..=16 => 16,
        17..=32 => 32,
        _ => 64,
    };
    match (signed, value) {
        // The least number of a type has no literal of its own.
        (true, value) if value == -(1i128 << (width - 1)) => {
            format!("(-INT{width}_C({}) - 1)", (1i128 << (width - 1)) - 1)
        }
        (true, value) if value < 0 => format!("(-INT{width}_C({}))", -value),
        (true, value) => format!("INT{width}_C({value})"),
        (false, value) => format!("UINT{width}_C({value})"),
    }
}

/// Whether a channel's frames come in a stream, so that a receiver must find them.
fn has_receiver(finder: FrameFinder) -> bool {
    finder != FrameFinder::Packet
}
