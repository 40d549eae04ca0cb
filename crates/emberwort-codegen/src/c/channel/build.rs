//! Building a frame around a body, and stuffing it.

use emberwort_model::plan::{FrameFinder, Part, Zone};
use emberwort_model::stuffing::Stuffing;

use super::Channel;
use crate::c::tree::{Expr, Stmt, Test, expr, print};
use crate::c::words::{constant, container, member, unsigned_type};
use crate::code::Code;
use crate::lower::frame::{Escapes, ExpectedValue, Put, escapes, longest_body, puts};
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
        let Some(longest) = longest_body(plan) else {
            source.lines(&format!(
                "{link_upper}_FUNCTION {signature}\n{{\n    (void)frame;\n    (void)out;\n    (void)room;\n    *used = 0;\n    \
                     return {link_upper}_BAD_LENGTH;\n}}\n"
            ));
            return;
        };
        self.seal(source);
        let bytes = if ways.is_apart { "*bytes" } else { "*bytes = out" };
        source.line(format!("{link_upper}_FUNCTION {signature}"));
        source.open("{");
        source.lines(&format!("uint8_t {bytes};\nsize_t size;\n{}*used = 0;", ways.declared));
        print(&[self.too_long("frame->size", longest)], source);
        if self.replaced().is_some() {
            source.uses(format!("{stem}_is_escaped"));
        }
        self.high_bits(source);
        source.line(format!("size = frame->size + {around}u;"));
        source.lines(&ways.before);
        source.open(format!("if (frame->size > 0u && frame->body != bytes + {}u) {{", plan.head_bytes));
        source.line(format!("memmove(bytes + {}u, frame->body, frame->size);", plan.head_bytes));
        source.close("}");
        print(&self.wrong_size("frame->size", longest), source);
        print(&self.put_given("bytes", "frame->size", &|part| format!("frame->{}", member(&part.name))), source);
        source.line(format!("{stem}_seal(bytes, frame->size);"));
        source.lines(&ways.behind);
        source.line("*used = size;");
        source.line(format!("return {link_upper}_OK;"));
        source.close("}");
        source.line("");
    }

    /// Refuses a body that is longer than any that fits.
    pub(super) fn too_long(&self, size: &str, longest: usize) -> Stmt {
        Stmt::Refuse(Test::Other(expr![format!("{size} > {longest}u")]), format!("{}_BAD_LENGTH", self.link_upper))
    }

    /// Refuses a body whose size the part for it cannot say.
    pub(super) fn wrong_size(&self, size: &str, longest: usize) -> Vec<Stmt> {
        let mut refused = Vec::new();
        for put in puts(self.plan) {
            let Put::Count { part, unit, other } = put else { continue };
            let count = if other > 0 { format!("({size} + {other}u)") } else { size.to_owned() };
            let refuse =
                |test: String| Stmt::Refuse(Test::Other(expr![test]), format!("{}_BAD_LENGTH", self.link_upper));
            if unit > 1 {
                refused.push(refuse(format!("{count} % {unit}u != 0u")));
            }
            let greatest = (longest + other) / unit;
            if part.bits < 32 && greatest as u64 > part.greatest() {
                let count = if unit > 1 { format!("({count} / {unit}u)") } else { count };
                refused.push(refuse(format!("{count} > {}u", part.greatest())));
            }
        }
        refused
    }

    /// Writes the parts that the sender gives into the frame at `bytes`, around a body of `size`.
    pub(super) fn put_given(&self, bytes: &str, size: &str, value: &dyn Fn(&Part) -> String) -> Vec<Stmt> {
        let Self { link_upper, plan, .. } = self;
        let (head, tail) = (plan.head_bytes, plan.tail_bytes);
        let mut written = Vec::new();
        if head > 0 && !self.fills(Zone::Head) {
            written.push(Stmt::call(format!("memset({bytes}, 0, {head}u)")));
        }
        if tail > 0 && !self.fills(Zone::Tail) {
            written.push(Stmt::call(format!("memset({bytes} + {head}u + {size}, 0, {tail}u)")));
        }
        for put in puts(plan) {
            let part = match put {
                Put::Given(part) => {
                    if part.bits < container(part.bits) {
                        let greatest = constant(i128::from(part.greatest()), part.bits, false);
                        let test = Test::Other(expr![format!("{} > {greatest}", value(part))]);
                        written.push(Stmt::Refuse(test, format!("{link_upper}_OUT_OF_RANGE")));
                    }
                    part
                }
                Put::Sequence(part) => part,
                Put::Sync(_) | Put::Value(..) | Put::Count { .. } | Put::Checksum(..) => continue,
            };
            let put = self.put(part, bytes, value(part));
            match part.zone {
                Zone::Head => written.extend(put),
                Zone::Tail => {
                    // Parts behind the body are told from its end.
                    let end = Stmt::call(format!("const size_t end = {head}u + {size}"));
                    written.push(Stmt::Block([vec![end], put].concat()));
                }
            }
        }
        written
    }

    /// A function that writes what follows from the body and from the parts that are given: constants, the length, what is said again,
    /// checksums.
    fn seal(&self, source: &mut Code) {
        let Self { stem, plan, .. } = self;
        let mut written = Vec::new();
        for put in puts(plan) {
            match put {
                Put::Given(_) | Put::Sequence(_) => {}
                Put::Sync(sync) => {
                    let one = |(n, byte)| Stmt::call(format!("bytes[{n}] = 0x{byte:02X}u"));
                    written.extend(sync.iter().enumerate().map(one));
                }
                // Its bits are zero.
                Put::Value(part, ExpectedValue::Number(0)) if !self.fills(part.zone) && !part.hex => {}
                Put::Value(part, right) => {
                    written.extend(self.put(part, "bytes", self.right(part, right, "bytes")));
                }
                Put::Count { part, unit, other } => {
                    let count = match other {
                        0 => expr!["size"],
                        other => expr![format!("size + {other}u")].bracketed(),
                    };
                    let count = if unit > 1 { expr![count, format!(" / {unit}u")].bracketed() } else { count };
                    written.extend(self.put(part, "bytes", count));
                }
                Put::Checksum(index, part) => {
                    let ty = unsigned_type(part.bits);
                    let function = Expr::function(format!("{stem}_{}_{index}", snake(&part.name)));
                    let sum = Stmt::Do(expr![format!("const {ty} sum = "), function, "(bytes, end)"]);
                    written.push(Stmt::Block([vec![sum], self.put(part, "bytes", "sum")].concat()));
                }
            }
        }
        source.line("/* Writes what follows from a body of so many bytes, and from the parts that are chosen. */");
        source.line(format!("static void {stem}_seal(uint8_t *bytes, size_t size)"));
        source.open("{");
        source.line(format!("const size_t end = {}u + size;", plan.head_bytes));
        print(&written, source);
        source.lines("(void)bytes;\n(void)end;");
        source.close("}");
        source.line("");
        source.line("");
    }

    /// How the plain frame becomes what goes over the wire.
    fn stuff(&self) -> Stuff {
        let Self { upper, link_upper, plan, .. } = self;
        let no_room = format!("{{\n    return {link_upper}_NO_ROOM;\n}}");
        match plan.finder {
            FrameFinder::Stuffed(Stuffing::Cobs) => Stuff {
                is_apart: true,
                declared: "size_t ahead;\nsize_t n;\nsize_t to;\nsize_t code;\n".into(),
                before: format!(
                    "/* The plain frame comes after room for the code bytes, and is stuffed towards the front. */\n\
                     ahead = (size + 253u) / 254u;\n\
                     if (ahead < 1u) {{\n    ahead = 1u;\n}}\n\
                     if (size + ahead + 1u > room || size + ahead + 1u > {upper}_LIMIT) {no_room}\n\
                     bytes = out + ahead;"
                ),
                behind: COBS.into(),
            },
            FrameFinder::Stuffed(stuffing) => {
                let delimiter = format!("out[to++] = 0x{:02X}u;\n", stuffing.delimiter());
                self.replacing(2, "", &delimiter)
            }
            FrameFinder::Escaped(_) => {
                let sync = plan.sync.len();
                let inside = match plan.terminator().len() {
                    0 => format!("n >= {sync}u && "),
                    terminator => format!("n >= {sync}u && n < size - {terminator}u && "),
                };
                self.replacing(0, &inside, "")
            }
            FrameFinder::Lines { crlf } => {
                let end: &[u8] = if crlf { b"\r\n" } else { b"\n" };
                let (count, puts) = (end.len(), end.iter().map(|byte| format!("out[size++] = 0x{byte:02X}u;\n")));
                Stuff {
                    before: format!("if (size + {count}u > room || size + {count}u > {upper}_LIMIT) {no_room}"),
                    behind: puts.collect(),
                    ..Stuff::default()
                }
            }
            FrameFinder::Sync | FrameFinder::Idle { .. } | FrameFinder::StatusBytes { .. } | FrameFinder::Packet => {
                Stuff { before: format!("if (size > room || size > {upper}_LIMIT) {no_room}"), ..Stuff::default() }
            }
        }
    }

    /// The C that stuffs where an escape byte and another one replace some bytes: of those `inside`, with delimiters around.
    fn replacing(&self, delimiters: usize, inside: &str, delimiter: &str) -> Stuff {
        let Self { stem, upper, link_upper, .. } = self;
        let no_room = format!("{{\n    return {link_upper}_NO_ROOM;\n}}");
        let Some(Replaced { escape, code, .. }) = self.replaced() else { return Stuff::default() };
        Stuff {
            is_apart: true,
            declared: "size_t n;\nsize_t whole;\nsize_t to = 0;\n".into(),
            before: format!(
                "if (room > {upper}_LIMIT) {{\n    room = {upper}_LIMIT;\n}}\n\
                 if (size + {delimiters}u > room) {no_room}\n\
                 /* The plain frame stands at the end of the room, and is stuffed towards the front. */\n\
                 bytes = out + (room - size);"
            ),
            behind: format!(
                "whole = size + {delimiters}u;\n\
                 for (n = 0; n < size; n++) {{\n    \
                     if ({inside}{stem}_is_escaped(bytes[n])) {{\n        whole++;\n    }}\n}}\n\
                 if (whole > room) {no_room}\n\
                 {delimiter}for (n = 0; n < size; n++) {{\n    \
                     uint8_t byte = bytes[n];\n    \
                     if ({inside}{stem}_is_escaped(byte)) {{\n        \
                         out[to++] = 0x{escape:02X}u;\n        \
                         byte = (uint8_t)({code});\n    }}\n    \
                     out[to++] = byte;\n}}\n\
                 {delimiter}size = to;"
            ),
        }
    }

    /// The bytes that are replaced, for stuffings that do it byte by byte.
    pub(super) fn replaced(&self) -> Option<Replaced> {
        let Escapes { escape, codes, meanings } = escapes(self.plan)?;
        // Of many, the code and its byte always differ in the same bits.
        let (code, plain) = match codes.as_slice() {
            [(first, code), (_, other)] if meanings.len() == 2 => (
                format!("byte == 0x{first:02X}u ? 0x{code:02X}u : 0x{other:02X}u"),
                format!("code == 0x{:02X}u ? 0x{:02X}u : 0x{:02X}u", meanings[0].0, meanings[0].1, meanings[1].1),
            ),
            codes => {
                let xor = codes.first().map_or(0, |(byte, code)| byte ^ code);
                (format!("byte ^ 0x{xor:02X}u"), format!("code ^ 0x{xor:02X}u"))
            }
        };
        let is_none = |code: &u8| meanings.iter().all(|(known, _)| known != code);
        let wrong = match meanings.len() {
            few @ ..8 => {
                let known: Vec<String> =
                    meanings[..few].iter().map(|(code, _)| format!("code != 0x{code:02X}u")).collect();
                known.join(" && ")
            }
            _ => {
                let none: Vec<u8> = (0..=255).filter(is_none).collect();
                match none.as_slice() {
                    [..] if none.len() > 2 => format!("{}_is_escaped(code)", self.stem),
                    few => few.iter().map(|code| format!("code == 0x{code:02X}u")).collect::<Vec<_>>().join(" || "),
                }
            }
        };
        Some(Replaced { escape, bytes: sorted(&codes), code, plain, wrong })
    }

    /// A function that says whether a byte is replaced.
    pub(super) fn is_escaped(&self, source: &mut Code) {
        let Some(replaced) = self.replaced() else { return };
        let name = format!("{}_is_escaped", self.stem);
        source.define(&name, |source| {
            source.line(format!("static bool {name}(uint8_t byte)"));
            source.open("{");
            source.line("switch (byte) {");
            replaced.bytes.iter().for_each(|byte| source.line(format!("case 0x{byte:02X}u:")));
            source.lines("    return true;\ndefault:\n    return false;\n}");
            source.close("}");
            source.line("");
        });
    }
}

/// The bytes that have to be escaped, in their order.
fn sorted(codes: &[(u8, u8)]) -> Vec<u8> {
    let mut bytes: Vec<u8> = codes.iter().map(|(byte, _)| *byte).collect();
    bytes.sort_unstable();
    bytes
}

/// Consistent Overhead Byte Stuffing (S. Cheshire, M. Baker, 1999): of `size` bytes at `bytes`, to `out`.
const COBS: &str = "code = 0;
to = 1;
out[0] = 1;
for (n = 0; n < size; n++) {
    uint8_t byte = bytes[n];
    if (byte == 0u) {
        code = to++;
        out[code] = 1;
        continue;
    }
    out[to++] = byte;
    out[code] = (uint8_t)(out[code] + 1u);
    if (out[code] == 0xFFu && n + 1u < size) {
        code = to++;
        out[code] = 1;
    }
}
out[to++] = 0;
size = to;";

/// Statements of the function that builds a frame.
#[derive(Default)]
struct Stuff {
    /// Whether the plain frame is put somewhere else than at the front.
    is_apart: bool,
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
