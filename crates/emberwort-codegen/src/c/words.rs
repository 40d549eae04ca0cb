//! Words of C: comments, names of members, constants, types.

use emberwort_model::model::Field;

use crate::code::Code;
use crate::lower::{FieldContent, Floats};
use crate::names::{changed, plain_snake, snake};

/// Text that can stand in a C comment.
pub fn comment(text: &str) -> String {
    emberwort_model::diagnostics::escaped(text).replace("*/", "* /").replace("/*", "/ *").replace('\\', "/")
}

/// What a field holds, for a comment.
pub fn about(field: &Field) -> String {
    comment(&FieldContent::of(field, Floats::Bits).to_string())
}

/// A documentation comment in front of a declaration.
pub(crate) fn doc_comment(code: &mut Code, doc: &str) {
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
pub fn literal(text: &str) -> String {
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

pub(crate) const C_KEYWORDS: &[&str] = &[
    "alignas",
    "alignof",
    "and",
    "and_eq",
    "asm",
    "auto",
    "bitand",
    "bitor",
    "bool",
    "break",
    "case",
    "catch",
    "char",
    "char16_t",
    "char32_t",
    "char8_t",
    "class",
    "co_await",
    "co_return",
    "co_yield",
    "compl",
    "concept",
    "const",
    "const_cast",
    "consteval",
    "constexpr",
    "constinit",
    "continue",
    "decltype",
    "default",
    "delete",
    "do",
    "double",
    "dynamic_cast",
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
    "not_eq",
    "nullptr",
    "operator",
    "or",
    "or_eq",
    "private",
    "protected",
    "public",
    "register",
    "reinterpret_cast",
    "requires",
    "restrict",
    "return",
    "short",
    "signed",
    "sizeof",
    "static",
    "static_assert",
    "static_cast",
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
    "typeof",
    "typeof_unqual",
    "union",
    "unsigned",
    "using",
    "virtual",
    "void",
    "volatile",
    "wchar_t",
    "while",
    "xor",
    "xor_eq",
];

/// A field's or part's name as a struct member. One that C has another use for, or the generator, gets an `f_` in front.
pub(crate) fn member(name: &str) -> String {
    let plain = plain_snake(name);
    // These members are ours; and what is called `set` would have functions as other fields have for being set: `..._set_physical`.
    let ours = matches!(plain.as_str(), "sections_held" | "body" | "size" | "key" | "set" | "get")
        || plain.starts_with("has_")
        || ["_length", "_count", "_form"].iter().any(|end| plain.ends_with(end));
    let taken = ours || C_KEYWORDS.contains(&plain.as_str()) || MACROS.contains(&plain.as_str());
    if taken || plain.starts_with(|c: char| c.is_ascii_digit()) {
        changed(name, format!("f_{plain}"))
    } else {
        snake(name)
    }
}

/// The unsigned C type for a raw number.
pub fn unsigned_type(bits: u8) -> &'static str {
    match bits {
        0..=8 => "uint8_t",
        9..=16 => "uint16_t",
        17..=32 => "uint32_t",
        _ => "uint64_t",
    }
}

/// A number as a C constant of a type with these bits.
pub fn constant(value: i128, bits: u8, signed: bool) -> String {
    let width = container(bits);
    match (signed, value) {
        // The least number of a type has no literal of its own.
        (true, value) if value == -(1i128 << (width - 1)) => {
            format!("(-INT{width}_C({}) - 1)", (1i128 << (width - 1)) - 1)
        }
        (true, value) if value < 0 => format!("(-INT{width}_C({}))", -value),
        (true, value) => format!("INT{width}_C({value})"),
        (false, value) => number(&value.to_string(), bits),
    }
}

/// An unsigned number of so many bits whose digits stand in the text.
pub fn number(digits: &str, bits: u8) -> String {
    format!("UINT{}_C({digits})", container(bits))
}

/// The bits of the narrowest type that holds so many.
pub(crate) fn container(bits: u8) -> u8 {
    match bits {
        0..=8 => 8,
        9..=16 => 16,
        17..=32 => 32,
        _ => 64,
    }
}

/// Names that compilers or headers (of the standard, of POSIX) define as macros, and types of the headers that are included.
pub(crate) const MACROS: &[&str] = &[
    "arm",
    "assert",
    "complex",
    "d_fileno",
    "errno",
    "far",
    "h_addr",
    "h_errno",
    "hpux",
    "huge",
    "hyper",
    "i386",
    "imaginary",
    "int16_t",
    "int32_t",
    "int64_t",
    "int8_t",
    "interface",
    "isinf",
    "isnan",
    "linux",
    "math_errhandling",
    "memchr",
    "memcmp",
    "memcpy",
    "memmove",
    "memset",
    "mips",
    "near",
    "noreturn",
    "offsetof",
    "ptrdiff_t",
    "s6_addr",
    "s6_addr16",
    "s6_addr32",
    "sa_handler",
    "sa_sigaction",
    "sched_priority",
    "si_addr",
    "si_addr_lsb",
    "si_arch",
    "si_band",
    "si_call_addr",
    "si_fd",
    "si_int",
    "si_lower",
    "si_overrun",
    "si_pid",
    "si_pkey",
    "si_ptr",
    "si_status",
    "si_stime",
    "si_syscall",
    "si_timerid",
    "si_uid",
    "si_upper",
    "si_utime",
    "si_value",
    "sigev_notify_attributes",
    "sigev_notify_function",
    "signbit",
    "size_t",
    "small",
    "sparc",
    "st_atime",
    "st_ctime",
    "st_mtime",
    "stderr",
    "stdin",
    "stdout",
    "strlen",
    "sun",
    "uint16_t",
    "uint32_t",
    "uint64_t",
    "uint8_t",
    "unix",
    "vax",
    "wchar_t",
];
