//! Channels: building and judging frames, receivers that are fed byte by byte.

mod build;
mod checksum;
mod dispatch;
mod facts;
mod receiver;
mod send;
mod status_bytes;

use std::cmp::Ordering;

use emberwort_model::Plan;
use emberwort_model::ids::MessageId;
use emberwort_model::model::End;
use emberwort_model::plan::{self, Direction, FrameFinder, KeySource, Part, Role, Zone};

use super::group::expressions::{put_unsigned, unsigned};
use super::link::has_receiver;
use super::tree::{Case, Expr, Stmt, Test, expr, print};
use super::words::{comment, constant, doc_comment, member, unsigned_type};
use crate::Parts;
use crate::code::Code;
use crate::lower::frame::{Check, ExpectedValue, checks, is_chosen};
use crate::lower::{Piece, pieces};
use crate::names::{screaming, snake};

struct Channel<'a> {
    link: String,
    /// `link_channel`
    stem: String,
    upper: String,
    link_upper: String,
    plan: &'a Direction,
}

/// What the names of a channel's functions begin with: `link_channel`, or `link_channel_from_host`.
pub fn stem(link: &str, name: &str, from: Option<End>) -> String {
    let name = snake(name);
    from.map_or_else(|| format!("{link}_{name}"), |end| format!("{link}_{name}_from_{}", end.as_str()))
}

/// What the names of the functions for frames that an end sends begin with: `link_channel`, or `link_channel_from_host`.
pub(crate) fn stem_of(link: &str, channel: &plan::Channel, from: End) -> String {
    stem(link, &channel.name, channel.is_split().then_some(from))
}

pub fn write(plan: &Plan, channel: &plan::Channel, parts: &Parts, header: &mut Code, source: &mut Code) {
    header.line(format!("/* ---- channel {} ---- */", channel.name));
    header.line("");
    for (from, direction) in channel.directions() {
        one_direction(plan, (direction, from), parts, header, source);
    }
}

fn one_direction(
    plan: &Plan,
    (channel, from): (&Direction, Option<End>),
    parts: &Parts,
    header: &mut Code,
    source: &mut Code,
) {
    let link = snake(&plan.link.name);
    let stem = stem(&link, &channel.name, from);
    let this = Channel { upper: screaming(&stem), link_upper: screaming(&link), stem, link, plan: channel };
    this.facts(plan, parts, from, header);
    this.frame_struct(header);
    for (index, part) in channel.parts.iter().enumerate() {
        if let Role::Checksum { algorithm, name, .. } = &part.role {
            this.checksum(index, part, algorithm, name, source);
            this.checksum_of_frame(index, part, algorithm, source);
        }
    }
    this.is_escaped(source);
    if parts.sends_frames(plan, channel, from) {
        this.build(header, source);
        this.send(plan, parts, header, source);
    }
    if !parts.receives_frames(plan, channel, from) {
        return;
    }
    this.open(header, source);
    this.known(plan, parts, header, source);
    this.dispatch(plan, parts, header);
    this.answers(plan, parts, header);
    if has_receiver(channel.finder) {
        this.receiver(header, source);
    }
}

impl Channel<'_> {
    fn frame_struct(&self, header: &mut Code) {
        let Self { upper, stem, plan, .. } = self;
        if let Some(all) = plan.broadcast {
            header.line(format!("#define {upper}_BROADCAST {all}u /* the node that means all of them */"));
        }
        doc_comment(header, &plan.doc);
        header.open(format!("typedef struct {stem}_frame_t {{"));
        for part in plan.parts.iter().filter(|part| is_chosen(part)) {
            let role = match part.role {
                Role::Message => "selects the message",
                Role::Address => "node",
                Role::Sequence => "goes up by one a frame",
                _ => "the sender's revision",
            };
            let doc = if part.doc.is_empty() { String::new() } else { format!(": {}", comment(&part.doc)) };
            header.line(format!("{} {}; /* {role}{doc} */", unsigned_type(part.bits), member(&part.name)));
        }
        if plan.key_is_outside() {
            let what = match plan.selected_by {
                KeySource::CanId => "CAN identifier (bit 31 for 29 bits)",
                KeySource::Endpoint => "endpoint",
                _ => "port",
            };
            header
                .line(format!("uint32_t key; /* the {what} that selects the message; set it before ..._check_body */"));
        }
        header.line("const uint8_t *body;");
        header.line("size_t size; /* bytes of the body */");
        header.close(format!("}} {stem}_frame_t;"));
        header.line("");
    }

    /// The bytes that a part lies in, from the frame's start or from the body's end on.
    fn pieces(part: &Part) -> Vec<Piece> {
        pieces(part.at_bit as usize, part.bits, part.order)
    }

    /// A byte of a zone of the frame as a C expression; `end` is the body's end in bytes.
    fn byte(zone: Zone, bytes: &str, byte: usize) -> String {
        match (zone, byte) {
            (Zone::Head, byte) => format!("{bytes}[{byte}]"),
            (Zone::Tail, 0) => format!("{bytes}[end]"),
            (Zone::Tail, byte) => format!("{bytes}[end + {byte}u]"),
        }
    }

    /// The byte place of a part in hex digits, and how many they are.
    fn digits(&self, part: &Part) -> Option<(String, u8)> {
        let first = part.at_bit / 8;
        let place = if part.zone == Zone::Head { format!("{first}u") } else { format!("end + {first}u") };
        part.hex.then_some((place, part.bits / 4))
    }

    fn get(&self, part: &Part, bytes: &str) -> Expr {
        if let Some((place, digits)) = self.digits(part) {
            let get = Expr::function(format!("{}_get_digits", self.link));
            return expr![get, format!("({bytes} + {place}, {digits}u)")];
        }
        unsigned(part.bits, &Self::pieces(part), |byte| expr![Self::byte(part.zone, bytes, byte)])
    }

    /// The statements that write a part; of bytes that it does not fill, its bits were zero before.
    fn put(&self, part: &Part, bytes: &str, value: impl Into<Expr>) -> Vec<Stmt> {
        let value = value.into();
        if let Some((place, digits)) = self.digits(part) {
            let put = Expr::function(format!("{}_put_digits", self.link));
            return vec![Stmt::call(expr![put, format!("({bytes} + {place}, {digits}u, (uint64_t)"), value, ")"])];
        }
        let put = put_unsigned(&Self::pieces(part), |byte| expr![Self::byte(part.zone, bytes, byte)], &value);
        put.into_iter().map(Stmt::Do).collect()
    }

    /// Whether the parts of a zone, and the sync bytes in front, fill all its bytes, so that none has to be cleared.
    fn fills(&self, zone: Zone) -> bool {
        let plan = self.plan;
        let (first, count) = match zone {
            Zone::Head => (plan.sync.len(), plan.head_bytes),
            Zone::Tail => (0, plan.tail_bytes),
        };
        (first..count).all(|byte| {
            plan.parts.iter().filter(|part| part.zone == zone).any(|part| match self.digits(part) {
                Some(_) => {
                    let from = part.at_bit as usize / 8;
                    (from..from + part.wire_bits() / 8).contains(&byte)
                }
                None => Self::pieces(part).iter().any(|piece| piece.byte == byte && piece.bits == 8),
            })
        })
    }

    /// Judging the bytes of one whole frame.
    fn open(&self, header: &mut Code, source: &mut Code) {
        let Self { stem, link, link_upper, plan, .. } = self;
        let signature =
            format!("{link}_codec_result_t {stem}_open({stem}_frame_t *frame, const uint8_t *bytes, size_t size)");
        let stuffed = match plan.finder {
            FrameFinder::Stuffed(_) => ", unstuffed and without its delimiters",
            FrameFinder::Escaped(_) => ", with nothing escaped any more",
            FrameFinder::Lines { .. } => ", a line without its end",
            _ => "",
        };
        header.line(format!("/* Judges one whole frame{stuffed}: length, fixed values, checksums. */"));
        header.line(format!("{link_upper}_CHECKED {link_upper}_FUNCTION {signature};"));
        let mut judged = Vec::new();
        for check in checks(plan) {
            judged.extend(self.check(check));
        }
        for part in plan.parts.iter().filter(|part| is_chosen(part)) {
            let (name, ty) = (member(&part.name), unsigned_type(part.bits));
            judged.push(Stmt::call(expr![format!("frame->{name} = ({ty})"), self.get(part, "bytes")]));
        }
        judged.push(Stmt::call(format!("frame->body = bytes + {}u", plan.head_bytes)));
        judged.push(Stmt::call(format!("frame->size = end - {}u", plan.head_bytes)));
        judged.push(Stmt::Return(expr![format!("{link_upper}_OK")]));
        source.line(format!("{link_upper}_FUNCTION {signature}"));
        source.open("{");
        print(&judged, source);
        source.close("}");
        source.line("");
    }

    /// What is looked at in the frame of `size` bytes at `bytes`, whose body ends at `end` once its size is known.
    fn check(&self, check: Check<'_>) -> Vec<Stmt> {
        let Self { link, link_upper, stem, .. } = self;
        let refuse = |wrong: Expr, result: &str| Stmt::Refuse(Test::Other(wrong), format!("{link_upper}_{result}"));
        match check {
            Check::Bytes(least, _) => {
                let shorter = if least > 0 { format!("size < {least}u || ") } else { String::new() };
                let wrong = expr![format!("{shorter}size > {}_LIMIT", self.upper)];
                let end = Stmt::call(format!("const size_t end = size - {}u", self.plan.tail_bytes));
                vec![refuse(wrong, "BAD_LENGTH"), end]
            }
            Check::Sync(sync) => {
                let one = |(n, byte)| refuse(expr![format!("bytes[{n}] != 0x{byte:02X}u")], "BAD_VALUE");
                sync.iter().enumerate().map(one).collect()
            }
            Check::Digits(part) => {
                let wrong = self.digits(part).map(|(place, digits)| {
                    expr!["!", Expr::function(format!("{link}_are_digits")), format!("(bytes + {place}, {digits}u)")]
                });
                wrong.map(|wrong| refuse(wrong, "BAD_VALUE")).into_iter().collect()
            }
            Check::Value(part, right) => vec![refuse(self.is_wrong(part, right, "bytes"), "BAD_VALUE")],
            Check::Length { part, unit, other, around } => {
                let value = self.get(part, "bytes");
                // Nothing of this wraps around, also where a size has 16 bits.
                let is_small = part.bits <= 16 && unit == 1 && self.plan.limit + other <= 65_535 && !part.hex;
                let wrong = match other.cmp(&around) {
                    _ if !is_small => {
                        expr!["(uint64_t)", value, format!(" * {unit}u != (uint64_t)(size - {around}u) + {other}u")]
                    }
                    Ordering::Less => expr![value, format!(" != size - {}u", around - other)],
                    Ordering::Equal => expr![value, " != size"],
                    Ordering::Greater => expr![value, format!(" != size + {}u", other - around)],
                };
                vec![refuse(wrong, "BAD_LENGTH")]
            }
            Check::Size(bytes) => vec![refuse(expr![format!("size != {bytes}u")], "BAD_LENGTH")],
            Check::SizeOfKey(part, sizes) => {
                let of_key = |(key, size): &(u64, usize)| Case {
                    number: Some(constant(i128::from(*key), part.bits, false)),
                    then: vec![refuse(expr![format!("size != {size}u")], "BAD_LENGTH")],
                };
                let mut cases: Vec<Case> = sizes.iter().map(of_key).collect();
                let unknown = vec![Stmt::Return(expr![format!("{link_upper}_BAD_LENGTH")])];
                cases.push(Case { number: None, then: unknown });
                vec![Stmt::Switch(self.get(part, "bytes"), cases)]
            }
            Check::Checksum(index, part) => {
                let sum = Expr::function(format!("{stem}_{}_{index}", snake(&part.name)));
                vec![refuse(expr![sum, "(bytes, end) != ", self.get(part, "bytes")], "BAD_CHECKSUM")]
            }
        }
    }

    /// When a part has another value than its right one.
    fn is_wrong(&self, part: &Part, right: ExpectedValue<'_>, bytes: &str) -> Expr {
        expr![self.get(part, bytes), " != ", self.right(part, right, bytes)]
    }

    /// The right value of a part: a number, or what an earlier part says in a frame that has it.
    fn right(&self, part: &Part, right: ExpectedValue<'_>, bytes: &str) -> Expr {
        match right {
            ExpectedValue::Number(value) => expr![constant(i128::from(value), part.bits, false)],
            ExpectedValue::Again { of, inverted: false } => self.get(of, bytes),
            ExpectedValue::Again { of, inverted: true } => {
                let ones = match of.bits {
                    33.. => format!("UINT64_C({})", of.greatest()),
                    _ => format!("{}u", of.greatest()),
                };
                // As a difference: compilers warn of a comparison with what looks like `~`.
                expr![ones, " - ", self.get(of, bytes)].bracketed()
            }
        }
    }

    /// The C that says whether a line fits the pattern of a message.
    fn known_line(&self, plan: &Plan, keys: &[(u64, MessageId)], source: &mut Code) {
        let Self { link, link_upper, .. } = self;
        source.line(format!("    {link}_codec_result_t result = {link_upper}_UNKNOWN_MESSAGE;"));
        for (_, message) in keys {
            let message = snake(&plan.messages[*message].message.name);
            source.lines(&format!(
                "    {{\n        {link}_{message}_t line;\n        \
                     {link}_codec_result_t read = {link}_{message}_read_line(&line, (const char *)frame->body, frame->size);\n        \
                     if (read == {link_upper}_OK) {{\n            return read;\n        }}\n        \
                     if (read == {link_upper}_OUT_OF_RANGE) {{\n            result = read;\n        }}\n    }}"
            ));
        }
        source.lines("    (void)frame;\n    return result;\n}\n");
        source.line("");
    }

    /// The name of the constant that is a key, if it is the message's number everywhere.
    fn named_key(&self, plan: &Plan, key: u64, message: MessageId) -> Option<String> {
        let message = &plan.messages[message].message;
        let is_id = message.id == Some(key);
        is_id.then(|| format!("{}_ID", screaming(&format!("{}_{}", self.link, snake(&message.name)))))
    }

    /// A key of a message in C.
    fn key(&self, plan: &Plan, key: u64, message: MessageId, bits: u8) -> String {
        self.named_key(plan, key, message).unwrap_or_else(|| constant(i128::from(key), bits, false))
    }

    /// What selects the message of the frame that `frame` points to, and its width.
    fn selected(&self) -> Option<(String, u8)> {
        match (self.plan.key_part(), self.plan.selected_by) {
            (Some(part), _) => Some((format!("frame->{}", member(&part.name)), part.bits)),
            (None, KeySource::Port | KeySource::CanId | KeySource::Endpoint) => Some(("frame->key".into(), 32)),
            (None, KeySource::Size) => Some(("(uint64_t)frame->size".into(), 64)),
            (None, _) => None,
        }
    }

    /// Whether the body of a judged frame can be decoded.
    fn known(&self, plan: &Plan, parts: &Parts, header: &mut Code, source: &mut Code) {
        let Self { stem, link, link_upper, .. } = self;
        let signature = format!("{link}_codec_result_t {stem}_check_body(const {stem}_frame_t *frame)");
        let is_received = |message: MessageId| parts.receives_message(&plan.messages[message].message);
        let keys: Vec<(u64, MessageId)> =
            self.plan.keys.iter().copied().filter(|(_, message)| is_received(*message)).collect();
        header.line("/* Whether the frame's key is known, and its body can be decoded as that message. */");
        header.line(format!("{link_upper}_CHECKED {link_upper}_FUNCTION {signature};"));
        header.line("");
        source.lines(&format!("{link_upper}_FUNCTION {signature}\n{{"));
        if let FrameFinder::Lines { .. } = self.plan.finder {
            self.known_line(plan, &keys, source);
            return;
        }
        match (self.selected(), keys.first()) {
            (Some((value, bits)), _) => {
                source.line(format!("    switch ({value}) {{"));
                for (key, index) in &keys {
                    let index = *index;
                    let message = snake(&plan.messages[index].message.name);
                    source.line(format!("    case {}:", self.key(plan, *key, index, bits)));
                    source.line(format!("        return {link}_{message}_check(frame->body, frame->size);"));
                }
                source.lines(&format!("    default:\n        return {link_upper}_UNKNOWN_MESSAGE;\n    }}\n}}\n"));
            }
            (None, Some((_, only))) => {
                let message = snake(&plan.messages[*only].message.name);
                source.lines(&format!("    return {link}_{message}_check(frame->body, frame->size);\n}}\n"));
            }
            (None, None) => source.lines(&format!("    (void)frame;\n    return {link_upper}_UNKNOWN_MESSAGE;\n}}\n")),
        }
        source.line("");
    }
}
