//! Building a frame around a body, and stuffing it.

use emberwort_model::plan::{FrameFinder, Part, Role, Zone};
use emberwort_model::stuffing::Stuffing;

use super::Channel;
use crate::c::tree::{Expr, expr};
use crate::c::words::{constant, container, member, unsigned_type};
use crate::code::Code;
use crate::names::snake;

impl Channel<'_> {
    /// Building a frame around a body.
    pub(super) fn build(&self, header: &mut Code, source: &mut Code) {
        let Self { stem, link, link_upper, plan, .. } = self;
        let signature = format!(
            "{link}_codec_result_t {stem}_build(const {stem}_frame_t *frame, uint8_t *out, size_t room, size_t *used)"
        );
        header.line("/* Writes the frame around a body as it goes over the wire; *used is its size. The body may stand anywhere in `out`. */");
        header.line(format!("{link_upper}_CHECKED {link_upper}_FUNCTION {signature};"));
        let around = plan.head_bytes + plan.tail_bytes;
        let ways = self.stuff();
        let Some(longest) = self.longest_body() else {
            source.lines(&format!(
                "{link_upper}_FUNCTION {signature}\n{{\n    (void)frame;\n    (void)out;\n    (void)room;\n    *used = 0;\n    \
                     return {link_upper}_BAD_LENGTH;\n}}\n"
            ));
            return;
        };
        self.seal(source);
        let bytes = if ways.before.contains("bytes = ") { "*bytes" } else { "*bytes = out" };
        source.lines(&format!("{link_upper}_FUNCTION {signature}\n{{\n    uint8_t {bytes};\n    size_t size;"));
        source.lines(&ways.declared);
        source.line("    *used = 0;");
        source.lines(&format!("    if (frame->size > {longest}u) {{\n        return {link_upper}_BAD_LENGTH;\n    }}"));
        source.lines(&self.high_bits().unwrap_or_default());
        source.line(format!("    size = frame->size + {around}u;"));
        source.lines(&ways.before);
        source.lines(&format!(
            "    if (frame->size > 0u && frame->body != bytes + {0}u) {{\n        memmove(bytes + {0}u, frame->body, frame->size);\n    }}",
            plan.head_bytes
        ));
        source.lines(&self.wrong_size("frame->size", longest));
        self.put_chosen("bytes", "frame->size", &|part| format!("frame->{}", member(&part.name)), source);
        source.line(format!("    {stem}_seal(bytes, frame->size);"));
        source.lines(&ways.behind);
        source.lines(&format!("    *used = size;\n    return {link_upper}_OK;\n}}\n"));
        source.line("");
    }

    /// The longest body that a frame of the channel can hold.
    pub(super) fn longest_body(&self) -> Option<usize> {
        let plan = self.plan;
        (0..=plan.limit).rev().find(|body| plan.least_frame_size(*body) <= plan.limit)
    }

    /// Statements that refuse a body whose size the part for it cannot say.
    pub(super) fn wrong_size(&self, size: &str, longest: usize) -> String {
        let Some((part, other, unit)) = self.length_part() else { return String::new() };
        let mut out = String::new();
        let count = if other > 0 { format!("({size} + {other}u)") } else { size.to_owned() };
        let mut refuse = |test: String| {
            out += &format!("    if ({test}) {{\n        return {}_BAD_LENGTH;\n    }}\n", self.link_upper);
        };
        if unit > 1 {
            refuse(format!("{count} % {unit}u != 0u"));
        }
        let greatest = (longest + other) / unit;
        if part.bits < 32 && greatest as u64 > (1 << part.bits) - 1 {
            let count = if unit > 1 { format!("({count} / {unit}u)") } else { count };
            refuse(format!("{count} > {}u", (1u64 << part.bits) - 1));
        }
        out
    }

    /// Statements that write the parts that the sender chooses into the frame at `bytes`, around a body of `size`.
    pub(super) fn put_chosen(&self, bytes: &str, size: &str, value: &dyn Fn(&Part) -> String, source: &mut Code) {
        let Self { link_upper, plan, .. } = self;
        let (head, tail) = (plan.head_bytes, plan.tail_bytes);
        if head > 0 && !self.fills(Zone::Head) {
            source.line(format!("    memset({bytes}, 0, {head}u);"));
        }
        if tail > 0 && !self.fills(Zone::Tail) {
            source.line(format!("    memset({bytes} + {head}u + {size}, 0, {tail}u);"));
        }
        for part in plan.parts.iter().filter(|part| super::is_chosen(part)) {
            // A sequence number goes around; other values must fit.
            if part.role != Role::Sequence && part.bits < container(part.bits) {
                source.lines(&format!(
                    "    if ({} > {}) {{\n        return {link_upper}_OUT_OF_RANGE;\n    }}",
                    value(part),
                    constant((1i128 << part.bits) - 1, part.bits, false)
                ));
            }
            match part.zone {
                Zone::Head => self.put_lines(part, bytes, value(part), source),
                _ => {
                    // Parts behind the body are told from its end.
                    source.line(format!("    {{\n        const size_t end = {head}u + {size};"));
                    self.put_lines(part, bytes, value(part), source);
                    source.line("    }");
                }
            }
        }
    }

    fn put_lines(&self, part: &Part, bytes: &str, value: impl Into<Expr>, source: &mut Code) {
        self.put(part, bytes, value).into_iter().for_each(|line| source.line(format!("    {line}")));
    }

    /// A function that writes what follows from the body and from the parts that are chosen: constants, the length, what is said again,
    /// checksums.
    fn seal(&self, source: &mut Code) {
        let Self { stem, plan, .. } = self;
        source.lines(&format!(
            "/* Writes what follows from a body of so many bytes, and from the parts that are chosen. */\n\
             static void {stem}_seal(uint8_t *bytes, size_t size)\n{{\n    const size_t end = {}u + size;",
            plan.head_bytes
        ));
        for (n, byte) in plan.sync.iter().enumerate() {
            source.line(format!("    bytes[{n}] = 0x{byte:02X}u;"));
        }
        for part in &plan.parts {
            let value = match &part.role {
                Role::Same { part: of, inverted } => self.again(*of, *inverted, "bytes").into(),
                Role::Fixed(0) if !self.fills(part.zone) && !part.hex => continue,
                Role::Fixed(value) => constant(i128::from(*value), part.bits, false).into(),
                Role::Length { other_bytes, unit } => {
                    let count = match other_bytes {
                        0 => expr!["size"],
                        other => Expr::from(format!("size + {other}u")).bracketed(),
                    };
                    if *unit > 1 { expr![count, format!(" / {unit}u")].bracketed() } else { count }
                }
                _ => continue,
            };
            self.put_lines(part, "bytes", value, source);
        }
        for (index, part) in plan.parts.iter().enumerate() {
            if matches!(part.role, Role::Checksum { .. }) {
                let value = format!("{stem}_{}_{index}(bytes, end)", snake(&part.name));
                let ty = unsigned_type(part.bits);
                source.line(format!("    {{\n        const {ty} sum = {value};"));
                for line in self.put(part, "bytes", "sum") {
                    source.line(format!("        {line}"));
                }
                source.line("    }");
            }
        }
        source.lines("    (void)bytes;\n    (void)end;\n}\n\n");
        source.line("");
    }

    /// How the plain frame becomes what goes over the wire.
    fn stuff(&self) -> Stuff {
        let Self { upper, link_upper, plan, .. } = self;
        let no_room = format!("{{\n        return {link_upper}_NO_ROOM;\n    }}");
        match plan.finder {
            FrameFinder::Stuffed(Stuffing::Cobs) => Stuff {
                declared: "    size_t ahead;\n    size_t n;\n    size_t to;\n    size_t code;".into(),
                before: format!(
                    "    /* The plain frame comes after room for the code bytes, and is stuffed towards the front. */\n    \
                         ahead = (size + 253u) / 254u;\n    \
                         if (ahead < 1u) {{\n        ahead = 1u;\n    }}\n    \
                         if (size + ahead + 1u > room || size + ahead + 1u > {upper}_LIMIT) {no_room}\n    \
                         bytes = out + ahead;"
                ),
                behind: "    code = 0;\n    to = 1;\n    out[0] = 1;\n    for (n = 0; n < size; n++) {\n        \
                         uint8_t byte = bytes[n];\n        \
                         if (byte == 0u) {\n            code = to++;\n            out[code] = 1;\n            continue;\n        }\n        \
                         out[to++] = byte;\n        \
                         out[code] = (uint8_t)(out[code] + 1u);\n        \
                         if (out[code] == 0xFFu && n + 1u < size) {\n            code = to++;\n            out[code] = 1;\n        }\n    \
                     }\n    out[to++] = 0;\n    size = to;"
                    .into(),
            },
            FrameFinder::Stuffed(stuffing) => {
                let delimiter = format!("    out[to++] = 0x{:02X}u;\n", stuffing.delimiter());
                self.replacing(2, "", &delimiter)
            }
            FrameFinder::Escaped(_) => {
                let sync = plan.sync.len();
                let terminator = plan.terminator().len();
                let inside = match (sync, terminator) {
                    (sync, 0) => format!("n >= {sync}u && "),
                    (sync, terminator) => format!("n >= {sync}u && n < size - {terminator}u && "),
                };
                self.replacing(0, &inside, "")
            }
            FrameFinder::Lines { crlf } => {
                let end: &[u8] = if crlf { b"\r\n" } else { b"\n" };
                let (count, puts) = (end.len(), end.iter().map(|byte| format!("    out[size++] = 0x{byte:02X}u;\n")));
                Stuff {
                    declared: String::new(),
                    before: format!("    if (size + {count}u > room || size + {count}u > {upper}_LIMIT) {no_room}"),
                    behind: puts.collect(),
                }
            }
            FrameFinder::Sync
            | FrameFinder::Idle { .. }
            | FrameFinder::StatusBytes { .. }
            | FrameFinder::Packet => Stuff {
                declared: String::new(),
                before: format!("    if (size > room || size > {upper}_LIMIT) {no_room}"),
                behind: String::new(),
            },
        }
    }

    /// The C that stuffs where an escape byte and another one replace some bytes: of those `inside`, with delimiters around.
    fn replacing(&self, delimiters: usize, inside: &str, delimiter: &str) -> Stuff {
        let Self { stem, upper, link_upper, .. } = self;
        let no_room = format!("{{\n        return {link_upper}_NO_ROOM;\n    }}");
        let Some(Replaced { escape, code, .. }) = self.replaced() else { return Stuff::default() };
        Stuff {
            declared: "    size_t n;\n    size_t whole;\n    size_t to = 0;".into(),
            before: format!(
                "    if (room > {upper}_LIMIT) {{\n        room = {upper}_LIMIT;\n    }}\n    \
                     if (size + {delimiters}u > room) {no_room}\n    \
                     /* The plain frame stands at the end of the room, and is stuffed towards the front. */\n    \
                     bytes = out + (room - size);"
            ),
            behind: format!(
                "    whole = size + {delimiters}u;\n    \
                     for (n = 0; n < size; n++) {{\n        \
                         if ({inside}{stem}_is_escaped(bytes[n])) {{\n            whole++;\n        }}\n    }}\n    \
                     if (whole > room) {no_room}\n\
                 {delimiter}    for (n = 0; n < size; n++) {{\n        \
                         uint8_t byte = bytes[n];\n        \
                         if ({inside}{stem}_is_escaped(byte)) {{\n            \
                             out[to++] = 0x{escape:02X}u;\n            \
                             byte = (uint8_t)({code});\n        }}\n        \
                         out[to++] = byte;\n    }}\n\
                 {delimiter}    size = to;"
            ),
        }
    }

    /// The bytes that are replaced, for stuffings that do it byte by byte.
    pub(super) fn replaced(&self) -> Option<Replaced> {
        Some(match self.plan.finder {
            FrameFinder::Stuffed(Stuffing::Slip) => Replaced {
                escape: 0xDB,
                bytes: vec![0xC0, 0xDB],
                code: "byte == 0xC0u ? 0xDCu : 0xDDu".into(),
                plain: "code == 0xDCu ? 0xC0u : 0xDBu".into(),
                wrong: "code != 0xDCu && code != 0xDDu".into(),
            },
            FrameFinder::Stuffed(Stuffing::Hdlc) => Replaced {
                escape: 0x7D,
                bytes: vec![0x7D, 0x7E],
                code: "byte ^ 0x20u".into(),
                plain: "code ^ 0x20u".into(),
                wrong: "code == 0x7Du || code == 0x7Eu".into(),
            },
            FrameFinder::Escaped(escape) => Replaced {
                escape: escape.escape,
                bytes: escape.escaped.iter().collect(),
                code: format!("byte ^ 0x{:02X}u", escape.xor),
                plain: format!("code ^ 0x{:02X}u", escape.xor),
                wrong: match escape.xor {
                    0 => format!("code != 0x{:02X}u", escape.escape),
                    _ => format!("{}_is_escaped(code)", self.stem),
                },
            },
            _ => return None,
        })
    }

    /// A function that says whether a byte is replaced.
    pub(super) fn is_escaped(&self, source: &mut Code) {
        let Some(replaced) = self.replaced() else { return };
        let cases: Vec<String> = replaced.bytes.iter().map(|byte| format!("    case 0x{byte:02X}u:\n")).collect();
        source.lines(&format!(
            "static bool {}_is_escaped(uint8_t byte)\n{{\n    switch (byte) {{\n{}        return true;\n    default:\n        \
                 return false;\n    }}\n}}\n",
            self.stem,
            cases.concat()
        ));
        source.line("");
    }
}

/// Statements of the function that builds a frame.
#[derive(Default)]
struct Stuff {
    declared: String,
    /// Where the plain frame is put.
    before: String,
    /// What is made of it.
    behind: String,
}

/// How single bytes are replaced: C expressions of `byte`, a plain one, and of `code`, which stands behind the escape byte.
pub(super) struct Replaced {
    pub(super) escape: u8,
    pub(super) bytes: Vec<u8>,
    pub(super) code: String,
    pub(super) plain: String,
    pub(super) wrong: String,
}
