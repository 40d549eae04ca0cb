//! A checksum as steps over its bytes: the same ones for all languages, and for generated code.
//!
//! The steps compute with unsigned numbers. A register has so many bits at most whenever a step ends; in between a value may have more, so
//! what is printed computes in wide numbers, or cuts off what [`Value::Low`] says.

use std::ops;

use emberwort_model::algorithm::{Algorithm, Crc, Sum, SumKind};

/// A checksum as steps.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Program {
    /// What is carried from one byte to the next.
    pub registers: Vec<Register>,
    /// What is done with each byte.
    pub each: Vec<Step>,
    /// What is done behind the last byte.
    pub then: Vec<Step>,
    /// The checksum.
    pub result: Value,
    /// The table that [`Value::Entry`] is of; empty where nothing is looked up.
    pub table: Vec<u64>,
}

/// A variable that is carried from one byte to the next.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Register {
    /// Its name.
    pub name: &'static str,
    /// Its first value.
    pub start: u64,
    /// The bits that its values need, those that a step computes on the way included: 8 to 64.
    pub bits: u8,
}

/// A step.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Step {
    /// Names a value that stays as it is.
    Name(&'static str, Value),
    /// Begins a variable.
    Begin(&'static str, Value),
    /// Gives a variable or a register another value.
    Set(&'static str, Value),
    /// If the values compare so.
    If(Value, Compare, u64, Vec<Step>),
    /// So many times.
    Times(u8, Vec<Step>),
}

/// How two values are compared.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Compare {
    /// Equal.
    Is,
    /// Not equal.
    IsNot,
    /// Greater.
    Above,
}

/// What a step computes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Value {
    /// A number.
    Number(u64),
    /// A variable or a register.
    Of(&'static str),
    /// The byte that is taken.
    Byte,
    /// An entry of the table.
    Entry(Box<Value>),
    /// The lowest bits of a value, 1 to 64: the others are cut off.
    Low(Box<Value>, u8),
    /// Two values.
    Two(Box<Value>, Operator, Box<Value>),
}

/// What is done with two values.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Operator {
    /// `+`
    Add,
    /// `-`, which never goes below zero.
    Subtract,
    /// `*`
    Multiply,
    /// The rest of a division.
    Modulo,
    /// Exclusive or.
    Xor,
    /// Bits of both.
    And,
    /// Bits of either.
    Or,
    /// To the left.
    Left,
    /// To the right; zeros come in.
    Right,
}

impl Operator {
    /// As most languages write it.
    pub fn sign(self) -> &'static str {
        match self {
            Self::Add => "+",
            Self::Subtract => "-",
            Self::Multiply => "*",
            Self::Modulo => "%",
            Self::Xor => "^",
            Self::And => "&",
            Self::Or => "|",
            Self::Left => "<<",
            Self::Right => ">>",
        }
    }
}

impl From<u64> for Value {
    fn from(number: u64) -> Self {
        Self::Number(number)
    }
}

impl From<&'static str> for Value {
    fn from(name: &'static str) -> Self {
        Self::Of(name)
    }
}

macro_rules! operators {
    ($($trait:ident $function:ident $operator:ident;)*) => {
        $(impl<T: Into<Value>> ops::$trait<T> for Value {
            type Output = Self;

            fn $function(self, other: T) -> Self {
                Self::Two(Box::new(self), Operator::$operator, Box::new(other.into()))
            }
        })*
    };
}

operators! {
    Add add Add;
    Sub sub Subtract;
    Mul mul Multiply;
    Rem rem Modulo;
    BitXor bitxor Xor;
    BitAnd bitand And;
    BitOr bitor Or;
    Shl shl Left;
    Shr shr Right;
}

/// How a CRC goes over a byte.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum CrcForm {
    /// Bit by bit.
    Bitwise,
    /// With a table of 16 entries, for half a byte at a time.
    Nibbles,
    /// With a table of 256 entries.
    Bytes,
}

impl CrcForm {
    /// The bits that are taken at once.
    pub fn bits(self) -> u8 {
        match self {
            Self::Bitwise => 1,
            Self::Nibbles => 4,
            Self::Bytes => 8,
        }
    }
}

/// The steps of an algorithm; of a CRC in this form.
pub fn program(algorithm: &Algorithm, form: CrcForm) -> Program {
    match algorithm {
        // At least a byte, so that one can go in.
        Algorithm::Crc(crc) => crc_program(crc, form, if crc.reflect_in { crc.width } else { crc.width.max(8) }),
        Algorithm::Sum(sum) => sum_program(sum),
    }
}

/// The steps of a CRC in a register of so many bits, which is at least as wide as the CRC and has room for a byte: mirrored values stand at its
/// low end, others at its high end.
///
/// The bits go through a shift register (W. Peterson, D. Brown: Cyclic Codes for Error Detection, 1961); the table does several of its steps at
/// once (D. Sarwate: Computation of Cyclic Redundancy Checks via Table Look-Up, 1988).
pub fn crc_program(crc: &Crc, form: CrcForm, bits: u8) -> Program {
    let unused = bits - crc.width;
    let mirrored = |value: u64| value.reverse_bits() >> (64 - crc.width);
    let (start, polynomial) = match crc.reflect_in {
        true => (mirrored(crc.initial), mirrored(crc.polynomial)),
        false => (crc.initial << unused, crc.polynomial << unused),
    };
    let (total, mut then) = (|| Value::Of("total"), Vec::new());
    let each = match form {
        CrcForm::Bitwise => bitwise(crc, polynomial, bits),
        CrcForm::Nibbles if crc.reflect_in => [Value::Byte & 0xF, Value::Byte >> 4]
            .map(|nibble| Step::Set("total", with_table(crc, form, bits, nibble)))
            .to_vec(),
        CrcForm::Nibbles => [Value::Byte >> 4, Value::Byte & 0xF]
            .map(|nibble| Step::Set("total", with_table(crc, form, bits, nibble)))
            .to_vec(),
        CrcForm::Bytes => vec![Step::Set("total", with_table(crc, form, bits, Value::Byte))],
    };
    if unused > 0 && !crc.reflect_in {
        then.push(Step::Set("total", total() >> u64::from(unused)));
    }
    let mut result = total();
    if crc.reflect_in != crc.reflect_out {
        then.push(Step::Begin("out", Value::Number(0)));
        then.push(Step::Times(
            crc.width,
            vec![Step::Set("out", (Value::Of("out") << 1) | (total() & 1)), Step::Set("total", total() >> 1)],
        ));
        result = Value::Of("out");
    }
    if crc.final_xor != 0 {
        result = result ^ crc.final_xor;
    }
    let table = match form {
        CrcForm::Bitwise => Vec::new(),
        form => table(crc, polynomial, bits, form.bits()),
    };
    Program { registers: vec![Register { name: "total", start, bits }], each, then, result, table }
}

/// The bits of a byte, one after the other.
fn bitwise(crc: &Crc, polynomial: u64, bits: u8) -> Vec<Step> {
    let total = || Value::Of("total");
    let divide =
        |bit: &'static str| Step::If(Value::Of(bit), Compare::IsNot, 0, vec![Step::Set("total", total() ^ polynomial)]);
    match crc.reflect_in {
        true => vec![
            Step::Set("total", total() ^ Value::Byte),
            Step::Times(8, vec![Step::Name("low", total() & 1), Step::Set("total", total() >> 1), divide("low")]),
        ],
        false => vec![
            Step::Set("total", total() ^ shifted(Value::Byte, bits - 8)),
            Step::Times(
                8,
                vec![
                    Step::Name("high", (total() >> u64::from(bits - 1)) & 1),
                    Step::Set("total", (total() << 1).low(bits)),
                    divide("high"),
                ],
            ),
        ],
    }
}

fn shifted(value: Value, by: u8) -> Value {
    if by == 0 { value } else { value << u64::from(by) }
}

/// The register behind some bits, of which the table knows the effect.
fn with_table(crc: &Crc, form: CrcForm, bits: u8, next: Value) -> Value {
    let (taken, total) = (form.bits(), Value::Of("total"));
    let mask = (1 << taken) - 1;
    match crc.reflect_in {
        // Nothing of the register is left behind them.
        true if bits <= taken => Value::entry((total ^ next) & mask),
        false if bits == taken => Value::entry(total ^ next),
        true => (total.clone() >> u64::from(taken)) ^ Value::entry((total ^ next) & mask),
        false => {
            let index = ((total.clone() >> u64::from(bits - taken)) ^ next) & mask;
            (total << u64::from(taken)).low(bits) ^ Value::entry(index)
        }
    }
}

/// The effect of each number of `taken` bits on an empty register.
fn table(crc: &Crc, polynomial: u64, bits: u8, taken: u8) -> Vec<u64> {
    let mask = u64::MAX >> (64 - bits);
    let step = |sum: u64| match crc.reflect_in {
        true if sum & 1 == 1 => sum >> 1 ^ polynomial,
        true => sum >> 1,
        false if sum >> (bits - 1) & 1 == 1 => sum << 1 & mask ^ polynomial,
        false => sum << 1 & mask,
    };
    let first = |number: u64| if crc.reflect_in { number } else { number << (bits - taken) };
    (0..1 << taken).map(|number| (0..taken).fold(first(number), |sum, _| step(sum))).collect()
}

impl Value {
    fn low(self, bits: u8) -> Self {
        Self::Low(Box::new(self), bits)
    }

    fn entry(index: Self) -> Self {
        Self::Entry(Box::new(index))
    }
}

/// The steps of a sum.
fn sum_program(sum: &Sum) -> Program {
    let bits = sum.kind.bits();
    let (total, second, weight) = (|| Value::Of("total"), || Value::Of("second"), || Value::Of("weight"));
    let register = |name, start, bits| Register { name, start, bits };
    let set = Step::Set;
    let half = bits / 2;
    let (low, high) = (sum.start & (u64::MAX >> (64 - half)), sum.start >> half);
    let (registers, each, result) = match sum.kind {
        SumKind::Xor8 => (vec![register("total", sum.start, 8)], vec![set("total", total() ^ Value::Byte)], total()),
        SumKind::Bytes { negated, .. } => {
            let modulus = 1u64 << bits;
            let result = if negated { (Value::Number(modulus) - total()).low(bits) } else { total() };
            let each = vec![set("total", (total() + Value::Byte).low(bits))];
            (vec![register("total", sum.start, bits)], each, result)
        }
        // RFC 1071. The first byte of each word counts 256 times, the second once.
        SumKind::Internet => (
            vec![register("total", sum.start, 32), register("weight", 0x100, 32)],
            vec![
                set("total", total() + Value::Byte * weight()),
                Step::If(total(), Compare::Above, 0xFFFF, vec![set("total", total() - 0xFFFF)]),
                set("weight", Value::Number(0x101) - weight()),
            ],
            Value::Number(0xFFFF) - total(),
        ),
        // Fletcher's, modulo 255, and the one of RFC 1950, modulo 65521.
        SumKind::Fletcher16 | SumKind::Adler32 => {
            let modulus = u64::from(sum.kind.modulus().unwrap_or(1));
            let each =
                vec![set("total", (total() + Value::Byte) % modulus), set("second", (second() + total()) % modulus)];
            let registers = vec![register("total", low, 32), register("second", high, 32)];
            (registers, each, second() * (1 << half) + total())
        }
        // The first byte of each word counts once, the second 256 times.
        SumKind::Fletcher32 => (
            vec![register("total", low, 32), register("second", high, 32), register("weight", 1, 32)],
            vec![
                set("total", (total() + Value::Byte * weight()) % 0xFFFF),
                Step::If(weight(), Compare::Is, 1, vec![set("second", (second() + total()) % 0xFFFF)]),
                Step::If(
                    weight(),
                    Compare::IsNot,
                    1,
                    vec![set("second", (second() + Value::Byte * weight()) % 0xFFFF)],
                ),
                set("weight", Value::Number(0x101) - weight()),
            ],
            second() * 0x10000 + total(),
        ),
    };
    let result = if sum.final_xor == 0 { result } else { result ^ sum.final_xor };
    Program { registers, each, then: Vec::new(), result, table: Vec::new() }
}
