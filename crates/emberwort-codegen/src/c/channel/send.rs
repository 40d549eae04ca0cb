//! Writing a message as a frame, in one step.

use std::collections::BTreeSet;

use emberwort_model::Plan;
use emberwort_model::ids::MessageId;
use emberwort_model::plan::{FrameFinder, Part, Role};

use super::Channel;
use crate::Parts;
use crate::c::tree::print;
use crate::c::words::{constant, member, unsigned_type};
use crate::code::Code;
use crate::lower::frame::longest_body;
use crate::names::{screaming, snake};

impl Channel<'_> {
    /// Whether messages are sent as frames in one step here: not as lines of text, and not where their frames are their bodies alone.
    pub(super) fn has_send(&self) -> bool {
        let plan = self.plan;
        !plan.finder.is_text() && plan.head_bytes + plan.tail_bytes > 0
    }

    /// A function for each message that this end sends. They are `static inline`, so that those that nobody calls take no room.
    pub(super) fn send(&self, plan: &Plan, parts: &Parts, header: &mut Code, source: &mut Code) {
        if !self.has_send() || parts.views_only {
            return;
        }
        let Self { stem, link, link_upper, plan: direction, .. } = self;
        let part = |wanted: Role| direction.parts.iter().find(|part| part.role == wanted);
        let sequence = part(Role::Sequence);
        if let Some(sequence) = sequence {
            header.open(format!("typedef struct {stem}_sender_t {{"));
            header.line(format!(
                "{} {}; /* of the next frame; starts at 0 */",
                unsigned_type(sequence.bits),
                member(&sequence.name)
            ));
            header.close(format!("}} {stem}_sender_t;"));
            header.line("");
        }
        let mut seen = BTreeSet::new();
        let keys = direction.keys.iter().filter(|(_, index)| parts.sends_message(&plan.messages[*index].message));
        let keys: Vec<(u64, MessageId)> = keys.filter(|(_, index)| seen.insert(*index)).copied().collect();
        if keys.is_empty() {
            return;
        }
        self.send_body(header, source);
        for (key, index) in keys {
            let message = &plan.messages[index].message;
            let name = snake(&message.name);
            let type_of = |part: &Part| unsigned_type(part.bits);
            let base = direction.nodes_of(index).map(|nodes| (key - nodes.start(), *nodes.start(), *nodes.end()));
            let address = part(Role::Address);
            let node = match (address, base) {
                (Some(part), _) => format!("{} node, ", type_of(part)),
                (None, Some(_)) => "uint32_t node, ".to_owned(),
                (None, None) => String::new(),
            };
            let sender = if sequence.is_some() { format!("{stem}_sender_t *sender, ") } else { String::new() };
            header.line(format!(
                "/* Writes {} as a frame for the wire, in one step; *used is its size{}. */",
                message.name,
                if sequence.is_some() { ", and the sender's number goes up" } else { "" }
            ));
            header.open(format!(
                "{link_upper}_CHECKED static inline {link}_codec_result_t {stem}_send_{name}(const {link}_{name}_t *message, {node}{sender}uint8_t *out, size_t room, size_t *used)"
            ));
            header.close("{");
            let (head, around) = (direction.head_bytes, direction.head_bytes + direction.tail_bytes);
            let is_plain = self.is_plain();
            header.open(format!("    {link}_codec_result_t result;"));
            if !is_plain {
                let greatest = screaming(&format!("{link}_{name}"));
                header.line("size_t size;");
                header.line(format!("uint8_t body[{greatest}_GREATEST_SIZE + 1u];"));
            }
            header.line("*used = 0;");
            if let (Some((_, first, last)), true) = (base, direction.key_part().is_some()) {
                let least = if first > 0 { format!("node < {first}u || ") } else { String::new() };
                header.lines(&format!("if ({least}node > {last}u) {{\n    return {link_upper}_OUT_OF_RANGE;\n}}"));
            }
            match is_plain {
                true => header.lines(&format!(
                    "if (room < {around}u) {{\n    return {link_upper}_NO_ROOM;\n}}\n\
                     result = {link}_{name}_encode(message, out + {head}u, room - {around}u, used);"
                )),
                false => header.line(format!("result = {link}_{name}_encode(message, body, sizeof body, &size);")),
            }
            header.lines(&format!("if (result != {link_upper}_OK) {{\n    return result;\n}}"));
            let mut arguments: Vec<String> = Vec::new();
            if let Some(part) = direction.key_part() {
                arguments.push(match base {
                    Some((base, ..)) => format!("({})({base}u + node)", type_of(part)),
                    None => match self.named_key(plan, key, index) {
                        Some(named) => format!("({}){named}", type_of(part)),
                        None => constant(i128::from(key), part.bits, false),
                    },
                });
            }
            arguments.extend(address.map(|_| "node".to_owned()));
            arguments.extend(sequence.map(|_| "sender".to_owned()));
            arguments.push(if is_plain { "out, used" } else { "body, size, out, room, used" }.to_owned());
            header.line(format!("return {stem}_{}({});", self.tail_of_send(), arguments.join(", ")));
            header.close("}");
            header.line("");
        }
    }

    /// Whether a frame stands in the buffer as it goes over the wire, its body at the place where it is encoded.
    fn is_plain(&self) -> bool {
        matches!(self.plan.finder, FrameFinder::Sync | FrameFinder::Idle { .. } | FrameFinder::Packet)
    }

    /// The last word of the name of the function that all those that send end with.
    fn tail_of_send(&self) -> &'static str {
        if self.is_plain() { "finish" } else { "send" }
    }

    /// What all functions that send end with.
    fn send_body(&self, header: &mut Code, source: &mut Code) {
        let Self { stem, link, link_upper, plan: direction, .. } = self;
        let part = |wanted: Role| direction.parts.iter().find(|part| part.role == wanted);
        let (address, sequence) = (part(Role::Address), part(Role::Sequence));
        let typed = |part: &Part, name: &str| format!("{} {name}", unsigned_type(part.bits));
        let mut parameters: Vec<String> = Vec::new();
        parameters.extend(direction.key_part().map(|part| typed(part, "key")));
        parameters.extend(address.map(|part| typed(part, "node")));
        parameters.extend(sequence.map(|_| format!("{stem}_sender_t *sender")));
        let value = |part: &Part| match &part.role {
            Role::Message => Some("key".to_owned()),
            Role::Address => Some("node".to_owned()),
            Role::Sequence => Some(format!("sender->{}", member(&part.name))),
            Role::Revision => Some(format!("{link_upper}_REVISION")),
            _ => None,
        };
        let up = sequence.map_or(String::new(), |sequence| {
            let (name, ty) = (member(&sequence.name), unsigned_type(sequence.bits));
            format!("sender->{name} = ({ty})(sender->{name} + 1u);")
        });
        let goes_up = if sequence.is_some() { ", and the sender's number goes up" } else { "" };
        if let (true, Some(longest)) = (self.is_plain(), longest_body(direction)) {
            let (head, around) = (direction.head_bytes, direction.head_bytes + direction.tail_bytes);
            parameters.push("uint8_t *out, size_t *used".to_owned());
            let signature = format!("{link}_codec_result_t {stem}_finish({})", parameters.join(", "));
            header.line(format!(
                "/* Writes the frame around a body of *used bytes that stands in `out` from byte {head} on; *used is then the frame's size{goes_up}. \
                 `out` has room for it. */"
            ));
            header.line(format!("{link_upper}_CHECKED {link_upper}_FUNCTION {signature};"));
            header.line("");
            source.line(format!("{link_upper}_FUNCTION {signature}"));
            source.open("{");
            source.lines("const size_t size = *used;\n*used = 0;");
            print(&[self.too_long("size", longest)], source);
            print(&self.wrong_size("size", longest), source);
            print(&self.put_given("out", "size", &|part| value(part).unwrap_or_default()), source);
            source.line(format!("{stem}_seal(out, size);"));
            source.lines(&up);
            source.lines(&format!("*used = size + {around}u;\nreturn {link_upper}_OK;"));
            source.close("}");
            source.line("");
            return;
        }
        parameters.push("const uint8_t *body, size_t size, uint8_t *out, size_t room, size_t *used".to_owned());
        header.line(format!(
            "/* Writes the frame around a body, which may stand anywhere in `out`; *used is its size{goes_up}. */"
        ));
        let signature = format!("{link}_codec_result_t {stem}_send({})", parameters.join(", "));
        header.line(format!("{link_upper}_CHECKED {link_upper}_FUNCTION {signature};"));
        header.line("");
        source.open(format!("{link_upper}_FUNCTION {signature}"));
        source.close("{");
        source.open(format!("    {stem}_frame_t frame;"));
        if sequence.is_some() {
            source.line(format!("{link}_codec_result_t result;"));
        }
        for part in &direction.parts {
            if let Some(value) = value(part) {
                source.line(format!("frame.{} = {value};", member(&part.name)));
            }
        }
        if direction.key_is_outside() {
            source.line("frame.key = 0;");
        }
        source.line("frame.body = body;");
        source.line("frame.size = size;");
        match sequence {
            Some(_) => source.lines(&format!(
                "result = {stem}_build(&frame, out, room, used);\n\
                 if (result == {link_upper}_OK) {{\n    {up}\n}}\nreturn result;"
            )),
            None => source.line(format!("return {stem}_build(&frame, out, room, used);")),
        }
        source.close("}");
        source.line("");
    }
}
