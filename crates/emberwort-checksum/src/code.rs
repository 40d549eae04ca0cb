//! A checksum as a small function in another language, CRCs with and without a table.
//!
//! All languages compute with unsigned numbers of 64 bits (Python's and JavaScript's have no end, and are masked), so that one
//! description of the steps serves all of them.

use emberwort_model::algorithm::{Algorithm, Crc, Sum, SumKind};
use emberwort_wire::checksum::Checksum;

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
}

/// A step. In expressions `#…#` is a number in hex, `>>` a shift that brings in zeros, `T[…]` an entry of the table.
enum Step {
    Let(&'static str, String),
    Set(&'static str, String),
    /// For each byte, which is then called `value`.
    EachByte(Vec<Step>),
    /// So many times.
    Times(u8, Vec<Step>),
    If(String, Vec<Step>),
    Return(String),
}

use Step::{EachByte, If, Let, Return, Set, Times};

/// A name as words: `crc`, `16`, `ibm`, `3740`.
fn words(name: &str) -> Vec<String> {
    let words = name.split(|c: char| !c.is_ascii_alphanumeric()).filter(|word| !word.is_empty());
    words.map(str::to_ascii_lowercase).collect()
}

/// The function in a language, or for CRCs two: without a table, and with one.
pub fn function(algorithm: &Algorithm, name: &str, language: Language) -> String {
    let check = hex(Checksum::new(algorithm).compute(b"123456789"), algorithm.bits());
    let about = format!("{}: {check} for the nine bytes \"123456789\"", algorithm.written());
    let name = words(name);
    let language = match language {
        Language::JavaScript if algorithm.bits() <= 32 => Language::JavaScriptNumbers,
        language => language,
    };
    match algorithm {
        Algorithm::Sum(sum) => write(language, &name, &about, &[("", steps_of_sum(sum))], None),
        Algorithm::Crc(crc) => {
            let all = [("", steps_of_crc(crc, false)), ("table", steps_of_crc(crc, true))];
            write(language, &name, &about, &all, Some(&table(crc)))
        }
    }
}

/// The bits of the register: at least a byte, so that one can go in.
fn register_bits(crc: &Crc) -> u8 {
    if crc.reflect_in { crc.width } else { crc.width.max(8) }
}

fn mask(bits: u8) -> u64 {
    u64::MAX >> (64 - bits)
}

fn polynomial(crc: &Crc) -> u64 {
    match crc.reflect_in {
        true => crc.polynomial.reverse_bits() >> (64 - crc.width),
        false => crc.polynomial << (register_bits(crc) - crc.width),
    }
}

fn table(crc: &Crc) -> Vec<u64> {
    let (bits, polynomial) = (register_bits(crc), polynomial(crc));
    let step = |sum: u64| match crc.reflect_in {
        true if sum & 1 == 1 => sum >> 1 ^ polynomial,
        true => sum >> 1,
        false if sum >> (bits - 1) & 1 == 1 => sum << 1 & mask(bits) ^ polynomial,
        false => sum << 1 & mask(bits),
    };
    let first = |byte: u64| if crc.reflect_in { byte } else { byte << (bits - 8) };
    (0..256).map(|byte| (0..8).fold(first(byte), |sum, _| step(sum))).collect()
}

fn steps_of_crc(crc: &Crc, with_table: bool) -> Vec<Step> {
    let bits = register_bits(crc);
    let n = |value: u64| format!("#{value:X}#");
    let (mask, polynomial) = (n(mask(bits)), n(polynomial(crc)));
    let unused = bits - crc.width;
    let start = match crc.reflect_in {
        true => crc.initial.reverse_bits() >> (64 - crc.width),
        false => crc.initial << unused,
    };
    let each = match (crc.reflect_in, with_table) {
        (true, true) => vec![Set("total", "(total >> #8#) ^ T[(total ^ value) & #FF#]".into())],
        (false, true) => {
            let high = n(u64::from(bits - 8));
            vec![Set("total", format!("((total << #8#) & {mask}) ^ T[((total >> {high}) ^ value) & #FF#]"))]
        }
        (true, false) => vec![
            Set("total", "total ^ value".into()),
            Times(
                8,
                vec![
                    Let("low", "total & #1#".into()),
                    Set("total", "total >> #1#".into()),
                    If("low != #0#".into(), vec![Set("total", format!("total ^ {polynomial}"))]),
                ],
            ),
        ],
        (false, false) => vec![
            Set("total", format!("total ^ (value << {})", n(u64::from(bits - 8)))),
            Times(
                8,
                vec![
                    Let("high", format!("(total >> {}) & #1#", n(u64::from(bits - 1)))),
                    Set("total", format!("(total << #1#) & {mask}")),
                    If("high != #0#".into(), vec![Set("total", format!("total ^ {polynomial}"))]),
                ],
            ),
        ],
    };
    let mut steps = vec![Let("total", n(start)), EachByte(each)];
    if unused > 0 && !crc.reflect_in {
        steps.push(Set("total", format!("total >> {}", n(u64::from(unused)))));
    }
    let mut result = "total".to_owned();
    if crc.reflect_in != crc.reflect_out {
        steps.push(Let("out", "#0#".into()));
        steps.push(Times(
            crc.width,
            vec![Set("out", "(out << #1#) | (total & #1#)".into()), Set("total", "total >> #1#".into())],
        ));
        result = "out".into();
    }
    steps.push(Return(if crc.final_xor == 0 { result } else { format!("{result} ^ {}", n(crc.final_xor)) }));
    steps
}

fn steps_of_sum(sum: &Sum) -> Vec<Step> {
    let n = |value: u64| format!("#{value:X}#");
    let bits = sum.kind.bits();
    let finish = |value: &str| match sum.final_xor {
        0 => Return(value.to_owned()),
        last => Return(format!("({value}) ^ {}", n(last))),
    };
    match sum.kind {
        SumKind::Xor8 => {
            vec![Let("total", n(sum.start)), EachByte(vec![Set("total", "total ^ value".into())]), finish("total")]
        }
        SumKind::Bytes { negated, .. } => {
            let modulus = n(1 << bits);
            let add = EachByte(vec![Set("total", format!("(total + value) % {modulus}"))]);
            let value = if negated { format!("({modulus} - total) % {modulus}") } else { "total".to_owned() };
            vec![Let("total", n(sum.start)), add, finish(&value)]
        }
        SumKind::Internet => vec![
            Let("total", n(sum.start)),
            // The first byte of each word counts 256 times, the second once.
            Let("weight", "#100#".into()),
            EachByte(vec![
                Set("total", "total + value * weight".into()),
                If("total > #FFFF#".into(), vec![Set("total", "total - #FFFF#".into())]),
                Set("weight", "#101# - weight".into()),
            ]),
            finish("#FFFF# - total"),
        ],
        SumKind::Fletcher16 | SumKind::Adler32 => {
            let (half, modulus) = (bits / 2, n(u64::from(sum.kind.modulus().unwrap_or(1))));
            vec![
                Let("total", n(sum.start & mask(half))),
                Let("second", n(sum.start >> half)),
                EachByte(vec![
                    Set("total", format!("(total + value) % {modulus}")),
                    Set("second", format!("(second + total) % {modulus}")),
                ]),
                finish(&format!("second * {} + total", n(1 << half))),
            ]
        }
        SumKind::Fletcher32 => vec![
            Let("total", n(sum.start & 0xFFFF)),
            Let("second", n(sum.start >> 16)),
            // The first byte of each word counts once, the second 256 times.
            Let("weight", "#1#".into()),
            EachByte(vec![
                Set("total", "(total + value * weight) % #FFFF#".into()),
                If("weight == #1#".into(), vec![Set("second", "(second + total) % #FFFF#".into())]),
                If("weight != #1#".into(), vec![Set("second", "(second + value * weight) % #FFFF#".into())]),
                Set("weight", "#101# - weight".into()),
            ]),
            finish("second * #10000# + total"),
        ],
    }
}

fn write(
    language: Language,
    name: &[String],
    about: &str,
    functions: &[(&str, Vec<Step>)],
    table: Option<&[u64]>,
) -> String {
    let camel = |from: usize| {
        let capital = |word: &String| word[..1].to_ascii_uppercase() + &word[1..];
        name.iter()
            .enumerate()
            .map(|(n, word)| if n >= from { capital(word) } else { word.clone() })
            .collect::<String>()
    };
    let snake = name.join("_");
    let table_name = format!("{}_TABLE", snake.to_ascii_uppercase());
    let mut out = String::new();
    let comment = if language == Language::Python { "#" } else { "//" };
    out.push_str(&match language {
        Language::C => format!("/* {about} */\n#include <stddef.h>\n#include <stdint.h>\n\n"),
        Language::Go => format!("{comment} {about}\npackage checksum\n\n"),
        Language::Java => format!("{comment} {about}\nfinal class {} {{\n", camel(0)),
        _ => format!("{comment} {about}\n"),
    });
    let depth = usize::from(language == Language::Java);
    let pad = "    ".repeat(depth);
    if let Some(table) = table {
        let (open, close) = match language {
            Language::C => (format!("static const uint64_t {table_name}[256] = {{"), "};"),
            Language::Rust => (format!("const {table_name}: [u64; 256] = ["), "];"),
            Language::Python => (format!("{table_name} = ("), ")"),
            Language::JavaScript | Language::JavaScriptNumbers => (format!("const {table_name} = ["), "];"),
            Language::Java => (format!("private static final long[] {table_name} = {{"), "};"),
            Language::Go => (format!("var {table_name} = [256]uint64{{"), "}"),
        };
        out.push_str(&format!("{pad}{open}\n"));
        for row in table.chunks(4) {
            let cells: Vec<String> = row.iter().map(|cell| literal(language, &format!("{cell:X}"))).collect();
            out.push_str(&format!("{pad}    {},\n", cells.join(", ")));
        }
        out.push_str(&format!("{pad}{close}\n\n"));
    }
    for (n, (suffix, steps)) in functions.iter().enumerate() {
        if n > 0 {
            out.push('\n');
        }
        let with = |name: String, suffix: &str| if suffix.is_empty() { name } else { format!("{name}{suffix}") };
        let under = if suffix.is_empty() { String::new() } else { format!("_{suffix}") };
        let capital = if suffix.is_empty() { "" } else { "Table" };
        out.push_str(&match language {
            Language::C => format!("uint64_t {snake}{under}(const uint8_t *bytes, size_t size)\n{{\n"),
            Language::Rust => format!("pub fn {snake}{under}(bytes: &[u8]) -> u64 {{\n"),
            Language::Python => format!("def {snake}{under}(data):\n"),
            Language::JavaScript | Language::JavaScriptNumbers => {
                format!("function {}(bytes) {{\n", with(camel(1), capital))
            }
            Language::Java => {
                format!("{pad}static long {}(byte[] bytes) {{\n", if suffix.is_empty() { "of" } else { "withTable" })
            }
            Language::Go => format!("func {}(data []byte) uint64 {{\n", with(camel(0), capital)),
        });
        render(language, &table_name, steps, depth + 1, &mut out);
        if language != Language::Python {
            out.push_str(&format!("{pad}}}\n"));
        }
    }
    if language == Language::Java {
        out.push_str("}\n");
    }
    if language == Language::Go { out.replace("    ", "\t") } else { out }
}

fn literal(language: Language, digits: &str) -> String {
    // Small numbers are easier to read in decimal.
    let number = match u64::from_str_radix(digits, 16) {
        Ok(value) if value < 10 => value.to_string(),
        _ => format!("0x{digits}"),
    };
    match language {
        Language::C => format!("{number}u{}", if digits.len() > 8 { "ll" } else { "" }),
        Language::JavaScript => format!("{number}n"),
        Language::Java => format!("{number}L"),
        Language::Rust | Language::Python | Language::Go | Language::JavaScriptNumbers => number,
    }
}

fn expression(language: Language, table: &str, text: &str) -> String {
    let mut out = String::new();
    for (n, part) in text.split('#').enumerate() {
        if n % 2 == 1 {
            out.push_str(&literal(language, part));
        } else {
            out.push_str(part);
        }
    }
    if let Some(at) = out.find("T[") {
        let index = &out[at + 2..out.len() - 1];
        let index = match language {
            Language::Rust => format!("({index}) as usize"),
            Language::JavaScript => format!("Number({index})"),
            Language::Java => format!("(int) ({index})"),
            Language::C | Language::Python | Language::Go | Language::JavaScriptNumbers => index.to_owned(),
        };
        out = format!("{}{table}[{index}]", &out[..at]);
    }
    match language {
        Language::Java | Language::JavaScriptNumbers => out.replace(">>", ">>>"),
        _ => out,
    }
}

fn render(language: Language, table: &str, steps: &[Step], depth: usize, out: &mut String) {
    let pad = "    ".repeat(depth);
    let end = match language {
        Language::Python | Language::Go => "",
        _ => ";",
    };
    let of = |text: &str| expression(language, table, text);
    let block = |open: String, steps: &[Step], first: &str, out: &mut String| {
        out.push_str(&format!("{pad}{open}\n{first}"));
        render(language, table, steps, depth + 1, out);
        if language != Language::Python {
            out.push_str(&format!("{pad}}}\n"));
        }
    };
    for step in steps {
        match step {
            Let(name, value) => {
                let changes = matches!(*name, "total" | "second" | "weight" | "out");
                let word = match language {
                    Language::C => "uint64_t ",
                    Language::Java => "long ",
                    Language::Rust if changes => "let mut ",
                    Language::Rust => "let ",
                    Language::JavaScript | Language::JavaScriptNumbers if changes => "let ",
                    Language::JavaScript | Language::JavaScriptNumbers => "const ",
                    Language::Python | Language::Go => "",
                };
                let value = of(value);
                out.push_str(&match language {
                    Language::Rust if changes => format!("{pad}{word}{name}: u64 = {value};\n"),
                    Language::Go if changes => format!("{pad}var {name} uint64 = {value}\n"),
                    Language::Go => format!("{pad}{name} := {value}\n"),
                    _ => format!("{pad}{word}{name} = {value}{end}\n"),
                });
            }
            Set(name, value) => out.push_str(&format!("{pad}{name} = {}{end}\n", of(value))),
            Return(value) if language == Language::Rust => out.push_str(&format!("{pad}{}\n", of(value))),
            // Operators on bits give signed numbers.
            Return(value) if language == Language::JavaScriptNumbers => {
                out.push_str(&format!("{pad}return ({}) >>> 0;\n", of(value)));
            }
            Return(value) => out.push_str(&format!("{pad}return {}{end}\n", of(value))),
            If(condition, steps) => {
                let condition = of(condition);
                let open = match language {
                    Language::Python => format!("if {condition}:"),
                    Language::Rust | Language::Go => format!("if {condition} {{"),
                    _ => format!("if ({condition}) {{"),
                };
                block(open, steps, "", out);
            }
            Times(count, steps) => {
                let open = match language {
                    Language::C => format!("for (int n = 0; n < {count}; n++) {{"),
                    Language::Rust => format!("for _ in 0..{count} {{"),
                    Language::Python => format!("for _ in range({count}):"),
                    Language::JavaScript | Language::JavaScriptNumbers => {
                        format!("for (let n = 0; n < {count}; n++) {{")
                    }
                    Language::Java => format!("for (int n = 0; n < {count}; n++) {{"),
                    Language::Go => format!("for n := 0; n < {count}; n++ {{"),
                };
                block(open, steps, "", out);
            }
            EachByte(steps) => {
                let deeper = format!("{pad}    ");
                let (open, first) = match language {
                    Language::C => (
                        "for (size_t i = 0; i < size; i++) {".to_owned(),
                        format!("{deeper}uint64_t value = bytes[i];\n"),
                    ),
                    Language::Rust => {
                        ("for byte in bytes {".to_owned(), format!("{deeper}let value = u64::from(*byte);\n"))
                    }
                    Language::Python => ("for value in data:".to_owned(), String::new()),
                    Language::JavaScript => {
                        ("for (const byte of bytes) {".to_owned(), format!("{deeper}const value = BigInt(byte);\n"))
                    }
                    Language::JavaScriptNumbers => ("for (const value of bytes) {".to_owned(), String::new()),
                    Language::Java => {
                        ("for (byte signed : bytes) {".to_owned(), format!("{deeper}long value = signed & 0xFFL;\n"))
                    }
                    Language::Go => ("for _, b := range data {".to_owned(), format!("{deeper}value := uint64(b)\n")),
                };
                block(open, steps, &first, out);
            }
        }
    }
}
