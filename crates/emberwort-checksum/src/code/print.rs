//! Steps as a language writes them.

use super::Language;
use super::steps::{Compare, Operator, Program, Step, Value};

/// What steps are written with.
#[derive(Clone, Copy, Debug)]
pub struct Printer<'a> {
    /// The language.
    pub language: Language,
    /// The name of the table.
    pub table: &'a str,
    /// The unsigned type of Rust that all is computed in: `u32` is wide enough for CRCs of up to 32 bits.
    pub rust_type: &'a str,
    /// The spaces of one level.
    pub indent: &'a str,
}

impl Printer<'_> {
    /// The table, as what it is declared with.
    pub fn table(&self, entries: &[u64], depth: usize) -> String {
        let (name, ty) = (self.table, self.rust_type);
        let count = entries.len();
        let (open, close) = match self.language {
            Language::C => (format!("static const uint64_t {name}[{count}] = {{"), "};"),
            Language::Rust => (format!("const {name}: [{ty}; {count}] = ["), "];"),
            Language::Python => (format!("{name} = ("), ")"),
            Language::JavaScript | Language::JavaScriptNumbers => (format!("const {name} = ["), "];"),
            Language::Java => (format!("private static final long[] {name} = {{"), "};"),
            Language::Go => (format!("var {name} = [{count}]uint64{{"), "}"),
        };
        let pad = self.indent.repeat(depth);
        let mut out = format!("{pad}{open}\n");
        for row in entries.chunks(4) {
            let cells: Vec<String> = row.iter().map(|cell| self.number(*cell)).collect();
            out += &format!("{pad}{}{},\n", self.indent, cells.join(", "));
        }
        out + &format!("{pad}{close}\n")
    }

    /// The statements of a function over `bytes`, which Python and Go call `data`.
    pub fn body(&self, program: &Program, depth: usize) -> String {
        let mut out = String::new();
        for register in &program.registers {
            self.begin(register.name, &Value::Number(register.start), depth, &mut out);
        }
        let byte = format!("{}{}", self.indent.repeat(depth + 1), self.byte_of_loop());
        self.block(self.each_byte(), if byte.trim().is_empty() { "" } else { &byte }, &program.each, depth, &mut out);
        self.steps(&program.then, depth, &mut out);
        let result = self.value(&program.result);
        let line = match self.language {
            Language::Rust => result,
            // Operators on bits give signed numbers.
            Language::JavaScriptNumbers => format!("return ({result}) >>> 0;"),
            _ => format!("return {result}{}", self.end()),
        };
        out + &format!("{}{line}\n", self.indent.repeat(depth))
    }

    fn each_byte(&self) -> &'static str {
        match self.language {
            Language::C => "for (size_t i = 0; i < size; i++) {",
            Language::Rust => "for byte in bytes {",
            Language::Python => "for value in data:",
            Language::JavaScript => "for (const byte of bytes) {",
            Language::JavaScriptNumbers => "for (const value of bytes) {",
            Language::Java => "for (byte signed : bytes) {",
            Language::Go => "for _, b := range data {",
        }
    }

    /// The statement that names the byte of the loop, where that takes one.
    fn byte_of_loop(&self) -> String {
        match self.language {
            Language::C => "uint64_t value = bytes[i];\n".to_owned(),
            Language::Rust => format!("let value = {}::from(*byte);\n", self.rust_type),
            Language::JavaScript => "const value = BigInt(byte);\n".to_owned(),
            Language::Java => "long value = signed & 0xFFL;\n".to_owned(),
            Language::Go => "value := uint64(b)\n".to_owned(),
            Language::Python | Language::JavaScriptNumbers => String::new(),
        }
    }

    fn end(&self) -> &'static str {
        match self.language {
            Language::Python | Language::Go => "",
            _ => ";",
        }
    }

    fn block(&self, open: &str, first: &str, steps: &[Step], depth: usize, out: &mut String) {
        let pad = self.indent.repeat(depth);
        *out += &format!("{pad}{open}\n{first}");
        self.steps(steps, depth + 1, out);
        if self.language != Language::Python {
            *out += &format!("{pad}}}\n");
        }
    }

    fn begin(&self, name: &str, value: &Value, depth: usize, out: &mut String) {
        let (pad, value, ty) = (self.indent.repeat(depth), self.value(value), self.rust_type);
        *out += &match self.language {
            Language::C => format!("{pad}uint64_t {name} = {value};\n"),
            Language::Rust => format!("{pad}let mut {name}: {ty} = {value};\n"),
            Language::Python => format!("{pad}{name} = {value}\n"),
            Language::JavaScript | Language::JavaScriptNumbers => format!("{pad}let {name} = {value};\n"),
            Language::Java => format!("{pad}long {name} = {value};\n"),
            Language::Go => format!("{pad}var {name} uint64 = {value}\n"),
        };
    }

    fn steps(&self, steps: &[Step], depth: usize, out: &mut String) {
        let pad = self.indent.repeat(depth);
        for step in steps {
            match step {
                Step::Begin(name, value) => self.begin(name, value, depth, out),
                Step::Name(name, value) => {
                    let value = self.value(value);
                    *out += &match self.language {
                        Language::C => format!("{pad}uint64_t {name} = {value};\n"),
                        Language::Rust => format!("{pad}let {name} = {value};\n"),
                        Language::Python => format!("{pad}{name} = {value}\n"),
                        Language::JavaScript | Language::JavaScriptNumbers => format!("{pad}const {name} = {value};\n"),
                        Language::Java => format!("{pad}long {name} = {value};\n"),
                        Language::Go => format!("{pad}{name} := {value}\n"),
                    };
                }
                Step::Set(name, value) => *out += &format!("{pad}{name} = {}{}\n", self.value(value), self.end()),
                Step::If(value, compare, with, steps) => {
                    let test = format!("{} {} {}", self.inner(value), compare.sign(), self.number(*with));
                    let open = match self.language {
                        Language::Python => format!("if {test}:"),
                        Language::Rust | Language::Go => format!("if {test} {{"),
                        _ => format!("if ({test}) {{"),
                    };
                    self.block(&open, "", steps, depth, out);
                }
                Step::Times(count, steps) => {
                    let open = match self.language {
                        Language::Rust => format!("for _ in 0..{count} {{"),
                        Language::Python => format!("for _ in range({count}):"),
                        Language::JavaScript | Language::JavaScriptNumbers => {
                            format!("for (let n = 0; n < {count}; n++) {{")
                        }
                        Language::C | Language::Java => format!("for (int n = 0; n < {count}; n++) {{"),
                        Language::Go => format!("for n := 0; n < {count}; n++ {{"),
                    };
                    self.block(&open, "", steps, depth, out);
                }
            }
        }
    }

    fn number(&self, value: u64) -> String {
        // Small numbers are easier to read in decimal.
        let number = if value < 10 { value.to_string() } else { format!("0x{value:X}") };
        match self.language {
            Language::C if value > u64::from(u32::MAX) => format!("{number}ull"),
            Language::C => format!("{number}u"),
            Language::JavaScript => format!("{number}n"),
            Language::Java => format!("{number}L"),
            Language::Rust | Language::Python | Language::Go | Language::JavaScriptNumbers => number,
        }
    }

    fn value(&self, value: &Value) -> String {
        match value {
            Value::Number(number) => self.number(*number),
            Value::Of(name) => (*name).to_owned(),
            Value::Byte => "value".to_owned(),
            Value::Entry(index) => {
                let (table, index) = (self.table, self.value(index));
                match self.language {
                    Language::Rust => format!("{table}[({index}) as usize]"),
                    Language::JavaScript => format!("{table}[Number({index})]"),
                    Language::Java => format!("{table}[(int) ({index})]"),
                    Language::C | Language::Python | Language::Go | Language::JavaScriptNumbers => {
                        format!("{table}[{index}]")
                    }
                }
            }
            Value::Low(value, bits) => {
                format!("{} & {}", self.inner(value), self.number(u64::MAX >> (64 - bits)))
            }
            Value::Two(left, operator, right) => {
                let is_unsigned_shift = matches!(self.language, Language::Java | Language::JavaScriptNumbers);
                let sign = match operator {
                    Operator::Right if is_unsigned_shift => ">>>",
                    operator => operator.sign(),
                };
                let side = |value: &Value| match (operator, value) {
                    (Operator::Add | Operator::Subtract, Value::Two(_, Operator::Multiply, _)) => self.value(value),
                    _ => self.inner(value),
                };
                format!("{} {sign} {}", side(left), side(right))
            }
        }
    }

    /// A value inside of another one.
    fn inner(&self, value: &Value) -> String {
        match value {
            Value::Two(..) | Value::Low(..) => format!("({})", self.value(value)),
            Value::Number(_) | Value::Of(_) | Value::Byte | Value::Entry(_) => self.value(value),
        }
    }
}

impl Compare {
    /// As most languages write it.
    pub fn sign(self) -> &'static str {
        match self {
            Self::Is => "==",
            Self::IsNot => "!=",
            Self::Above => ">",
        }
    }
}
