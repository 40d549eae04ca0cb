//! Checksums of frames: a function that takes bytes into registers, and one for the stretches of a frame.
//!
//! The steps are those of all languages; here they go on in a register over several stretches, in the narrowest type that holds it, and the table
//! of a CRC may lie in flash.

use emberwort_checksum::code::{CrcForm, Operator, Program, Register, Step, Value, crc_program, program};
use emberwort_model::algorithm::{Algorithm, Crc, SumKind};
use emberwort_model::plan::{Bound, Part};

use super::Channel;
use crate::c::words::{comment, constant, container, unsigned_type};
use crate::code::Code;
use crate::lower::frame::{Stretch, covered};
use crate::names::snake;

impl Channel<'_> {
    /// The running part of a checksum: a function that takes more bytes into its registers.
    pub(super) fn checksum(&self, index: usize, part: &Part, algorithm: &Algorithm, name: &str, source: &mut Code) {
        let stem = format!("{}_{}_{index}", self.stem, snake(&part.name));
        source.define(format!("{stem}_update"), |source| self.update(&stem, algorithm, name, source));
    }

    fn update(&self, stem: &str, algorithm: &Algorithm, name: &str, source: &mut Code) {
        let program = steps_of(algorithm, CrcForm::Bytes);
        match algorithm {
            Algorithm::Crc(crc) => {
                source.line(format!(
                    "/* {}: a CRC of {} bits, polynomial {:#x}. */",
                    comment(name),
                    crc.width,
                    crc.polynomial
                ));
                self.tables(stem, crc, source);
            }
            Algorithm::Sum(sum) => match sum.kind {
                SumKind::Internet => source.line("/* The Internet checksum (RFC 1071). */"),
                SumKind::Fletcher16 => source.line("/* Fletcher's checksum of bytes, modulo 255. */"),
                SumKind::Fletcher32 => source.line("/* Fletcher's checksum of little-endian words, modulo 65535. */"),
                SumKind::Adler32 => source.line("/* The Adler-32 checksum (RFC 1950). */"),
                SumKind::Bytes { .. } | SumKind::Xor8 => {}
            },
        }
        source.line(format!("static {}", update_signature(stem, &program)));
        source.open("{");
        source.line("size_t n;");
        source.open("for (n = 0; n < size; n++) {");
        match algorithm {
            Algorithm::Sum(_) => self.steps(&program, stem, "", &program.each, source),
            Algorithm::Crc(_) => {
                let upper = &self.link_upper;
                for (condition, table, form) in [
                    (format!("#if defined({upper}_CRC_BITWISE)"), "", CrcForm::Bitwise),
                    (format!("#elif defined({upper}_CRC_NIBBLE)"), "nibbles", CrcForm::Nibbles),
                    ("#else".to_owned(), "table", CrcForm::Bytes),
                ] {
                    source.unindented(condition);
                    self.steps(&program, stem, table, &steps_of(algorithm, form).each, source);
                }
                source.unindented("#endif");
            }
        }
        source.close("}");
        if let [only] = program.registers.as_slice() {
            source.line(format!("return {};", only.name));
        }
        source.close("}");
        source.line("");
    }

    /// The tables of a CRC: of 256 entries, or of 16.
    fn tables(&self, stem: &str, crc: &Crc, source: &mut Code) {
        let (upper, ty, container) = (&self.link_upper, unsigned_type(crc.width), container(crc.width));
        let digits = usize::from(container) / 4;
        for (condition, name, form) in [
            (format!("#if !defined({upper}_CRC_NIBBLE) && !defined({upper}_CRC_BITWISE)"), "table", CrcForm::Bytes),
            (format!("#if defined({upper}_CRC_NIBBLE) && !defined({upper}_CRC_BITWISE)"), "nibbles", CrcForm::Nibbles),
        ] {
            let table = crc_program(crc, form, container).table;
            source.line(condition);
            source.line(format!("static const {ty} {stem}_{name}[{}] {upper}_FLASH = {{", table.len()));
            for row in table.chunks(8) {
                let end = if container == 64 { "ull" } else { "u" };
                let cells: Vec<String> = row.iter().map(|cell| format!("0x{cell:0digits$X}{end}")).collect();
                source.line(format!("    {},", cells.join(", ")));
            }
            source.lines("};\n#endif\n");
        }
        source.line("");
    }

    /// Steps as statements. `table` is the last word of the table's name.
    fn steps(&self, program: &Program, stem: &str, table: &str, steps: &[Step], source: &mut Code) {
        let written = Written { program, flash: &self.link_upper, table: &format!("{stem}_{table}") };
        written.steps(steps, source);
    }

    /// The checksum of a frame, over the stretches that it covers.
    pub(super) fn checksum_of_frame(&self, index: usize, part: &Part, algorithm: &Algorithm, source: &mut Code) {
        let stem = format!("{}_{}_{index}", self.stem, snake(&part.name));
        let stretches = covered(self.plan, index);
        source.define(&stem, |source| self.sum(&stem, algorithm, &stretches, source));
    }

    fn sum(&self, stem: &str, algorithm: &Algorithm, stretches: &[Stretch], source: &mut Code) {
        let program = steps_of(algorithm, CrcForm::Bytes);
        source.uses(format!("{stem}_update"));
        let result = unsigned_type(algorithm.bits());
        source.line(format!("static {result} {stem}(const uint8_t *frame, size_t end)"));
        source.open("{");
        if let Some(most) = stretches.iter().filter_map(|stretch| stretch.zeros()).max() {
            source.line(format!("static const uint8_t zeros[{most}] = {{0}};"));
        }
        for Register { name, start, bits } in &program.registers {
            source.line(format!("{} {name} = {};", unsigned_type(*bits), constant(i128::from(*start), *bits, false)));
        }
        for stretch in stretches {
            let bytes = match stretch {
                Stretch::Zeros(count) => format!("zeros, {count}u"),
                Stretch::Bytes(from, to) => {
                    format!("frame + ({}), ({}) - ({})", bound(*from), bound(*to), bound(*from))
                }
            };
            source.line(match program.registers.as_slice() {
                [only] => format!("{0} = {stem}_update({0}, {bytes});", only.name),
                several => {
                    let all: Vec<String> = several.iter().map(|register| format!("&{}", register.name)).collect();
                    format!("{stem}_update({}, {bytes});", all.join(", "))
                }
            });
        }
        if !stretches.iter().any(|stretch| stretch.needs_size()) {
            source.line("(void)end;");
        }
        if stretches.is_empty() {
            source.line("(void)frame;");
        }
        let local = Written { program: &Program { each: Vec::new(), ..program.clone() }, flash: "", table: "" };
        local.steps(&program.then, source);
        source.line(format!("return ({result})({});", local.value(&without_cut(&program.result, algorithm.bits()))));
        source.close("}");
        source.line("");
    }
}

/// The steps of an algorithm, of a CRC in the whole of a type of C.
fn steps_of(algorithm: &Algorithm, form: CrcForm) -> Program {
    match algorithm {
        Algorithm::Crc(crc) => crc_program(crc, form, container(crc.width)),
        Algorithm::Sum(_) => program(algorithm, form),
    }
}

/// What takes bytes into a register and gives it back; several are given as pointers.
fn update_signature(stem: &str, program: &Program) -> String {
    match program.registers.as_slice() {
        [Register { name, bits, .. }] => {
            let ty = unsigned_type(*bits);
            format!("{ty} {stem}_update({ty} {name}, const uint8_t *bytes, size_t size)")
        }
        several => {
            let one = |register: &Register| format!("{} *{}, ", unsigned_type(register.bits), register.name);
            format!(
                "void {stem}_update({}const uint8_t *bytes, size_t size)",
                several.iter().map(one).collect::<String>()
            )
        }
    }
}

fn bound(bound: Bound) -> String {
    match bound {
        Bound::Head(offset) => format!("{offset}u"),
        Bound::Tail(0) => "end".into(),
        Bound::Tail(offset) => format!("end + {offset}u"),
    }
}

/// A value of which only so many bits are kept: what cuts them off before is left out.
fn without_cut(value: &Value, bits: u8) -> Value {
    let cuts_later = |operator: Operator| !matches!(operator, Operator::Modulo | Operator::Right);
    match value {
        Value::Low(inner, kept) if *kept >= bits => without_cut(inner, bits),
        Value::Two(left, Operator::Left, by) => {
            Value::Two(Box::new(without_cut(left, bits)), Operator::Left, by.clone())
        }
        Value::Two(left, operator, right) if cuts_later(*operator) => {
            Value::Two(Box::new(without_cut(left, bits)), *operator, Box::new(without_cut(right, bits)))
        }
        other => other.clone(),
    }
}

/// How steps of a program are written.
struct Written<'a> {
    program: &'a Program,
    /// What the names of the macros that read from flash begin with.
    flash: &'a str,
    /// The table's name.
    table: &'a str,
}

impl Written<'_> {
    /// The bits of the widest register.
    fn bits(&self) -> u8 {
        self.program.registers.iter().map(|register| register.bits).max().unwrap_or(8)
    }

    /// The type in which nothing is lost and nothing has a sign.
    fn work(&self) -> &'static str {
        if self.bits() > 16 { unsigned_type(self.bits()) } else { "unsigned" }
    }

    /// Whether the registers are given as pointers: in a function that takes bytes, if there are several.
    fn has_pointers(&self) -> bool {
        self.program.registers.len() > 1 && !self.program.each.is_empty()
    }

    fn name(&self, name: &str) -> String {
        let is_register = self.program.registers.iter().any(|register| register.name == name);
        if is_register && self.has_pointers() { format!("*{name}") } else { name.to_owned() }
    }

    fn steps(&self, steps: &[Step], source: &mut Code) {
        let ty = unsigned_type(self.bits());
        for step in steps {
            match step {
                Step::Name(name, value) => {
                    source.line(format!("const {} {name} = {};", self.work(), self.cast(self.work(), value)));
                }
                Step::Begin(name, value) => source.line(format!("{ty} {name} = {};", self.value(value))),
                Step::Set(name, value) => {
                    let value = match without_cut(value, self.bits()) {
                        Value::Entry(index) => self.value(&Value::Entry(index)),
                        value => self.cast(ty, &value),
                    };
                    source.line(format!("{} = {value};", self.name(name)));
                }
                Step::If(value, compare, with, steps) => {
                    source.open(format!("if ({} {} {}) {{", self.inner(value), compare.sign(), self.number(*with)));
                    self.steps(steps, source);
                    source.close("}");
                }
                Step::Times(count, steps) => {
                    source.open(format!("for (unsigned bit = 0; bit < {count}u; bit++) {{"));
                    self.steps(steps, source);
                    source.close("}");
                }
            }
        }
    }

    /// A value as a type: what is narrower than an `int` may have become one on the way.
    fn cast(&self, ty: &str, value: &Value) -> String {
        let value = self.value(value);
        if self.bits() >= 32 { value } else { format!("({ty})({value})") }
    }

    fn number(&self, value: u64) -> String {
        let end = if self.bits() == 64 && value > 9 { "ull" } else { "u" };
        if value < 10 { format!("{value}{end}") } else { format!("0x{value:X}{end}") }
    }

    fn value(&self, value: &Value) -> String {
        match value {
            Value::Number(number) => self.number(*number),
            Value::Of(name) => self.name(name),
            Value::Byte => "bytes[n]".to_owned(),
            Value::Entry(index) => {
                format!("{}_FLASH_{}({}[{}])", self.flash, self.bits(), self.table, self.value(index))
            }
            Value::Low(value, bits) => format!("{} & {}", self.inner(value), self.number(u64::MAX >> (64 - bits))),
            Value::Two(left, operator @ (Operator::Left | Operator::Right), by) => {
                // What has no sign and is wide enough is shifted.
                let left = match (operator, self.inner(left)) {
                    (Operator::Left, left) => format!("({}){left}", self.work()),
                    (_, left) => left,
                };
                match **by {
                    Value::Number(by) => format!("{left} {} {by}", operator.sign()),
                    ref by => format!("{left} {} {}", operator.sign(), self.inner(by)),
                }
            }
            Value::Two(left, operator, right) => {
                let side = |value: &Value| match (operator, value) {
                    (Operator::Add | Operator::Subtract, Value::Two(_, Operator::Multiply, _)) => self.value(value),
                    _ => self.inner(value),
                };
                format!("{} {} {}", side(left), operator.sign(), side(right))
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
