//! A checksum as a small function in another language, CRCs with and without a table.
//!
//! All languages compute with unsigned numbers of 64 bits (Python's and JavaScript's have no end, and are masked), so that one
//! description of the [steps](Program) serves all of them.

mod print;
mod steps;

use emberwort_model::algorithm::Algorithm;
use emberwort_wire::checksum::Checksum;

pub use print::Printer;
pub use steps::{Compare, CrcForm, Operator, Program, Register, Step, Value, crc_program, program};

use crate::working::hex;

/// A language.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Language {
    /// C99
    C,
    /// Rust
    Rust,
    /// Python 3
    Python,
    /// JavaScript: with numbers up to 32 bits, with BigInt above
    JavaScript,
    /// JavaScript with numbers, as [`function`] takes it for up to 32 bits
    JavaScriptNumbers,
    /// Java 8 and later
    Java,
    /// Go
    Go,
}

impl Language {
    /// All of them.
    pub const ALL: [Self; 6] = [Self::C, Self::Rust, Self::Python, Self::JavaScript, Self::Java, Self::Go];

    /// As a checksum of so many bits is written: JavaScript has numbers for those of up to 32.
    pub fn for_bits(self, bits: u8) -> Self {
        match self {
            Self::JavaScript if bits <= 32 => Self::JavaScriptNumbers,
            language => language,
        }
    }
}

/// A name as words: `crc`, `16`, `ibm`, `3740`.
fn words(name: &str) -> Vec<String> {
    let words = name.split(|c: char| !c.is_ascii_alphanumeric()).filter(|word| !word.is_empty());
    words.map(str::to_ascii_lowercase).collect()
}

/// What a function says about itself: the algorithm, and its check value.
pub fn about(algorithm: &Algorithm) -> String {
    let check = hex(Checksum::new(algorithm).compute(b"123456789"), algorithm.bits());
    format!("{}: {check} for the nine bytes \"123456789\"", algorithm.written())
}

/// The function in a language, or for CRCs two: without a table, and with one.
pub fn function(algorithm: &Algorithm, name: &str, language: Language) -> String {
    let name = words(name);
    let language = language.for_bits(algorithm.bits());
    let forms: &[(&str, CrcForm)] = match algorithm {
        Algorithm::Sum(_) => &[("", CrcForm::Bitwise)],
        Algorithm::Crc(_) => &[("", CrcForm::Bitwise), ("table", CrcForm::Bytes)],
    };
    let functions: Vec<(&str, Program)> =
        forms.iter().map(|(suffix, form)| (*suffix, program(algorithm, *form))).collect();
    write(language, &name, &about(algorithm), &functions)
}

fn write(language: Language, name: &[String], about: &str, functions: &[(&str, Program)]) -> String {
    let camel = |from: usize| {
        let capital = |word: &String| word[..1].to_ascii_uppercase() + &word[1..];
        name.iter()
            .enumerate()
            .map(|(n, word)| if n >= from { capital(word) } else { word.clone() })
            .collect::<String>()
    };
    let snake = name.join("_");
    let table = format!("{}_TABLE", snake.to_ascii_uppercase());
    let indent = if language == Language::Go { "\t" } else { "    " };
    let printer = Printer { language, table: &table, rust_type: "u64", indent };
    let comment = if language == Language::Python { "#" } else { "//" };
    let mut out = match language {
        Language::C => format!("/* {about} */\n#include <stddef.h>\n#include <stdint.h>\n\n"),
        Language::Go => format!("{comment} {about}\npackage checksum\n\n"),
        Language::Java => format!("{comment} {about}\nfinal class {} {{\n", camel(0)),
        _ => format!("{comment} {about}\n"),
    };
    let depth = usize::from(language == Language::Java);
    let pad = indent.repeat(depth);
    if let Some((_, program)) = functions.iter().find(|(_, program)| !program.table.is_empty()) {
        out += &printer.table(&program.table, depth);
        out.push('\n');
    }
    for (n, (suffix, program)) in functions.iter().enumerate() {
        if n > 0 {
            out.push('\n');
        }
        let (under, capital) = if suffix.is_empty() { ("", "") } else { ("_table", "Table") };
        out += &match language {
            Language::C => format!("uint64_t {snake}{under}(const uint8_t *bytes, size_t size)\n{{\n"),
            Language::Rust => format!("pub fn {snake}{under}(bytes: &[u8]) -> u64 {{\n"),
            Language::Python => format!("def {snake}{under}(data):\n"),
            Language::JavaScript | Language::JavaScriptNumbers => {
                format!("function {}{capital}(bytes) {{\n", camel(1))
            }
            Language::Java => {
                format!("{pad}static long {}(byte[] bytes) {{\n", if suffix.is_empty() { "of" } else { "withTable" })
            }
            Language::Go => format!("func {}{capital}(data []byte) uint64 {{\n", camel(0)),
        };
        out += &printer.body(program, depth + 1);
        if language != Language::Python {
            out += &format!("{pad}}}\n");
        }
    }
    if language == Language::Java {
        out.push_str("}\n");
    }
    out
}
