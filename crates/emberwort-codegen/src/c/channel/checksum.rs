//! Checksums of frames: a function that takes bytes into a register, and one for the stretches of a frame.

use emberwort_model::algorithm::{Algorithm, Crc, Sum, SumKind};
use emberwort_model::plan::{Bound, Covered, Part, Role, Zone};

use super::Channel;
use crate::c::words::{comment, constant, container, unsigned_type};
use crate::code::Code;
use crate::names::snake;

impl Channel<'_> {
    /// The running part of a checksum: a function that takes more bytes into a register.
    pub(super) fn checksum(&self, index: usize, part: &Part, algorithm: &Algorithm, name: &str, source: &mut Code) {
        let stem = format!("{}_{}_{index}", self.stem, snake(&part.name));
        let signature = |ty: &str| {
            format!("static {ty} {stem}_update({ty} sum, const uint8_t *bytes, size_t size)\n{{\n    size_t n;")
        };
        match algorithm {
            Algorithm::Crc(crc) => {
                source.line(format!(
                    "/* {}: a CRC of {} bits, polynomial {:#x}. */",
                    comment(name),
                    crc.width,
                    crc.polynomial
                ));
                self.tables(&stem, crc, source);
                source.lines(&signature(unsigned_type(crc.width)));
                self.crc_steps(&stem, crc, source);
                source.lines("    return sum;\n}\n");
            }
            Algorithm::Sum(sum) => {
                let (about, ty, step) = step_of(sum.kind);
                if !about.is_empty() {
                    source.line(format!("/* {about} */"));
                }
                source.lines(&format!(
                    "{}\n    for (n = 0; n < size; n++) {{\n{step}    }}\n    return sum;\n}}\n",
                    signature(ty)
                ));
            }
        }
        source.line("");
    }

    /// The tables of a CRC: of 256 entries, or of 16.
    fn tables(&self, stem: &str, crc: &Crc, source: &mut Code) {
        let (upper, ty, container) = (&self.link_upper, unsigned_type(crc.width), container(crc.width));
        let digits = container as usize / 4;
        for (condition, name, bits) in [
            (format!("#if !defined({upper}_CRC_NIBBLE) && !defined({upper}_CRC_BITWISE)"), "table", 8),
            (format!("#if defined({upper}_CRC_NIBBLE) && !defined({upper}_CRC_BITWISE)"), "nibbles", 4),
        ] {
            source.line(condition);
            source.line(format!("static const {ty} {stem}_{name}[{}] {upper}_FLASH = {{", 1 << bits));
            for row in crc_table(crc, container, bits).chunks(8) {
                let end = if container == 64 { "ull" } else { "u" };
                let cells: Vec<String> = row.iter().map(|cell| format!("0x{cell:0digits$X}{end}")).collect();
                source.line(format!("    {},", cells.join(", ")));
            }
            source.lines("};\n#endif\n");
        }
        source.line("");
    }

    /// What takes each byte into the register `sum`.
    fn crc_steps(&self, stem: &str, crc: &Crc, source: &mut Code) {
        let (upper, ty, container) = (&self.link_upper, unsigned_type(crc.width), container(crc.width));
        // Wide enough that nothing is lost and nothing has a sign.
        let work = if container > 16 { ty } else { "unsigned" };
        let hex = |value: u64| format!("0x{value:X}{}", if container == 64 { "ull" } else { "u" });
        let step = |bits: u8, name: &str, byte: &str| {
            let entry = format!("{upper}_FLASH_{container}({stem}_{name}[index])");
            let index = match crc.reflect_in {
                true => format!("(sum ^ {byte}) & 0x{:X}u", (1u32 << bits) - 1),
                false if container == bits => format!("sum ^ {byte}"),
                false => format!("(sum >> {}) ^ {byte}", container - bits),
            };
            let register = match crc.reflect_in {
                _ if container == bits => format!("sum = {entry};"),
                true => format!("sum = ({ty})((sum >> {bits}) ^ {entry});"),
                false => format!("sum = ({ty})((({work})sum << {bits}) ^ {entry});"),
            };
            format!("        index = ({work})({index});\n        {register}\n")
        };
        let (high, low) = ("(bytes[n] >> 4)", "(bytes[n] & 0x0Fu)");
        let nibbles = if crc.reflect_in { [low, high] } else { [high, low] };
        let (take, bit) = if crc.reflect_in {
            let polynomial = hex(crc.polynomial.reverse_bits() >> (64 - crc.width));
            ("bytes[n]".to_owned(), format!("(sum & 1u) != 0u ? (sum >> 1) ^ {polynomial} : sum >> 1"))
        } else {
            let (top, polynomial) = (hex(1 << (container - 1)), hex(crc.polynomial << (container - crc.width)));
            let twice = format!("({work})sum << 1");
            let take =
                if container == 8 { "bytes[n]".to_owned() } else { format!("(({work})bytes[n] << {})", container - 8) };
            (take, format!("(sum & {top}) != 0u ? ({twice}) ^ {polynomial} : {twice}"))
        };
        source.lines(&format!(
            "    for (n = 0; n < size; n++) {{\n\
             #if defined({upper}_CRC_BITWISE)\n        \
             unsigned bit;\n        sum = ({ty})(sum ^ {take});\n        for (bit = 0; bit < 8u; bit++) {{\n            \
             sum = ({ty})({bit});\n        }}\n\
             #elif defined({upper}_CRC_NIBBLE)\n        {work} index;\n{}{}\
             #else\n        {work} index;\n{}\
             #endif\n    }}",
            step(4, "nibbles", nibbles[0]),
            step(4, "nibbles", nibbles[1]),
            step(8, "table", "bytes[n]"),
        ));
    }

    /// The checksum of a frame, over the stretches that it covers.
    pub(super) fn checksum_of_frame(
        &self,
        index: usize,
        part: &Part,
        over: &[Covered],
        skipping: bool,
        source: &mut Code,
    ) {
        let Role::Checksum { algorithm, .. } = &part.role else { return };
        let stem = format!("{}_{}_{index}", self.stem, snake(&part.name));
        let (ty, start, finish) = start_and_finish(algorithm);
        let later: Vec<&Part> =
            self.plan.parts[index..].iter().filter(|part| matches!(part.role, Role::Checksum { .. })).collect();
        let mut lines = Vec::new();
        let mut zeros = false;
        for covered in over {
            let mut at = covered.from;
            let update = |from: Bound, to: Bound| match (from, to) {
                (Bound::Head(a), Bound::Head(b)) | (Bound::Tail(a), Bound::Tail(b)) if a == b => None,
                _ => {
                    let (a, b) = (bound(from), bound(to));
                    Some(format!("sum = {stem}_update(sum, frame + ({a}), ({b}) - ({a}));"))
                }
            };
            for blank in &later {
                let (offset, bytes) = (blank.at_bit as usize / 8, blank.wire_bits() / 8);
                let (first, last) = match blank.zone {
                    Zone::Head => (Bound::Head(offset), Bound::Head(offset + bytes)),
                    Zone::Tail => (Bound::Tail(offset), Bound::Tail(offset + bytes)),
                };
                if first.is_before(covered.from) || covered.to.is_before(last) {
                    continue;
                }
                lines.extend(update(at, first));
                if !skipping {
                    zeros = true;
                    lines.push(format!("sum = {stem}_update(sum, zeros, {bytes}u);"));
                }
                at = last;
            }
            lines.extend(update(at, covered.to));
        }
        let result = unsigned_type(algorithm.bits());
        source.lines(&format!("static {result} {stem}(const uint8_t *frame, size_t end)\n{{"));
        if zeros {
            source.line("    static const uint8_t zeros[16] = {0};");
        }
        source.line(format!("    {ty} sum = {start};"));
        for line in lines {
            source.line(format!("    {line}"));
        }
        source.lines(&format!("    (void)end;\n    {finish}\n}}\n"));
        source.line("");
    }
}

fn bound(bound: Bound) -> String {
    match bound {
        Bound::Head(offset) => format!("{offset}u"),
        Bound::Tail(0) => "end".into(),
        Bound::Tail(offset) => format!("end + {offset}u"),
    }
}

/// The register's C type, its first value, and the statement that returns the result from `sum`.
fn start_and_finish(algorithm: &Algorithm) -> (&'static str, String, String) {
    match algorithm {
        Algorithm::Crc(crc) => {
            let ty = unsigned_type(crc.width);
            let unused = container(crc.width) - crc.width;
            let mirrored = crc.initial.reverse_bits() >> (64 - crc.width);
            let start = if crc.reflect_in { mirrored } else { crc.initial << unused };
            let c = |value: u64| constant(i128::from(value), container(crc.width), false);
            let plain = if crc.reflect_in { "sum".to_owned() } else { format!("(sum >> {unused})") };
            let finish = if crc.reflect_in == crc.reflect_out {
                format!("return ({ty})({plain} ^ {});", c(crc.final_xor))
            } else {
                format!(
                    "{ty} out = 0;\n    unsigned n;\n    sum = ({ty}){plain};\n    \
                     for (n = 0; n < {}u; n++) {{\n        out = ({ty})((unsigned long long)out << 1 | ((unsigned long long)sum >> n & 1u));\n    }}\n    \
                     return ({ty})(out ^ {});",
                    crc.width,
                    c(crc.final_xor)
                )
            };
            (ty, c(start), finish)
        }
        Algorithm::Sum(Sum { kind, start, final_xor }) => {
            let (_, ty, _) = step_of(*kind);
            let result = unsigned_type(kind.bits());
            let c = |value: u64| constant(i128::from(value), kind.bits().max(16), false);
            let finish = match kind {
                SumKind::Internet => format!(
                    "sum &= 0x7FFFFFFFu;\n    sum = (sum & 0xFFFFu) + (sum >> 16);\n    \
                     sum = (sum & 0xFFFFu) + (sum >> 16);\n    return (uint16_t)(~sum ^ {final_xor}u);"
                ),
                SumKind::Bytes { negated: true, .. } => {
                    format!("return ({result})((({result})(0u - (unsigned)sum)) ^ {final_xor}u);")
                }
                _ => format!("return ({result})(sum ^ {});", c(*final_xor)),
            };
            (ty, c(*start), finish)
        }
    }
}

/// What a sum's function says about itself, the type of what it adds up in, and what it does with a byte.
fn step_of(kind: SumKind) -> (&'static str, &'static str, String) {
    let double = |modulus: u32, half: u32| {
        format!(
            "        uint32_t first = ((sum & 0x{:X}u) + bytes[n]) % {modulus}u;\n        \
                     sum = ((sum >> {half}) + first) % {modulus}u << {half} | first;\n",
            (1u64 << half) - 1
        )
    };
    match kind {
        SumKind::Internet => (
            "The Internet checksum (RFC 1071). Bit 31 of the sum says that an odd number of bytes went in.",
            "uint32_t",
            "        uint32_t odd = sum & 0x80000000u;\n        \
                     sum = (sum & 0x7FFFFFFFu) + (odd != 0u ? (uint32_t)bytes[n] : (uint32_t)bytes[n] << 8);\n        \
                     sum = ((sum & 0xFFFFu) + (sum >> 16)) | (odd ^ 0x80000000u);\n"
                .into(),
        ),
        SumKind::Bytes { bits, .. } => {
            let ty = unsigned_type(bits);
            ("", ty, format!("        sum = ({ty})(sum + bytes[n]);\n"))
        }
        SumKind::Xor8 => ("", "uint8_t", "        sum = (uint8_t)(sum ^ bytes[n]);\n".into()),
        SumKind::Fletcher16 => ("Fletcher's checksum of bytes, modulo 255.", "uint32_t", double(255, 8)),
        SumKind::Adler32 => ("The Adler-32 checksum (RFC 1950).", "uint32_t", double(65_521, 16)),
        SumKind::Fletcher32 => (
            "Fletcher's checksum of little-endian words, modulo 65535. Bit 32 says that an odd number of bytes went in.",
            "uint64_t",
            "        uint64_t odd = sum >> 32;\n        \
                     uint32_t value = odd != 0u ? (uint32_t)bytes[n] << 8 : bytes[n];\n        \
                     uint32_t first = ((uint32_t)(sum & 0xFFFFu) + value) % 65535u;\n        \
                     uint32_t second = ((uint32_t)(sum >> 16 & 0xFFFFu) + (odd != 0u ? value : first)) % 65535u;\n        \
                     sum = (odd ^ 1u) << 32 | (uint64_t)second << 16 | first;\n"
                .into(),
        ),
    }
}

/// The table of a CRC whose register has `container` bits, for `bits` bits at a time: mirrored ones at its low end, others at its high end.
fn crc_table(crc: &Crc, container: u8, bits: u8) -> Vec<u64> {
    let mask = if container == 64 { u64::MAX } else { (1 << container) - 1 };
    (0..1u64 << bits)
        .map(|part| {
            if crc.reflect_in {
                let polynomial = crc.polynomial.reverse_bits() >> (64 - crc.width);
                (0..bits).fold(part, |sum, _| if sum & 1 == 1 { sum >> 1 ^ polynomial } else { sum >> 1 })
            } else {
                let polynomial = crc.polynomial << (container - crc.width);
                let top = 1u64 << (container - 1);
                (0..bits).fold(part << (container - bits), |sum, _| {
                    (if sum & top != 0 { sum << 1 ^ polynomial } else { sum << 1 }) & mask
                })
            }
        })
        .collect()
}
