//! Writing a message as a frame, in one step.

use std::collections::BTreeSet;

use emberwort_model::Plan;
use emberwort_model::plan::{FrameFinder, Part, Role};

use super::Channel;
use crate::Parts;
use crate::c::words::{constant, member, unsigned_type};
use crate::code::Code;
use crate::names::{screaming, snake};

impl Channel<'_> {
    /// Whether messages are sent as frames in one step here: not as lines of text, and not where their frames are their bodies alone.
    pub(super) fn has_send(&self) -> bool {
        let plan = self.plan;
        !plan.finder.is_text() && plan.head_bytes + plan.tail_bytes > 0
    }

    /// A function for each message that this end sends. They are `static inline`, so that those that nobody calls take no room.
    pub(super) fn send(&self, plan: &Plan, parts: &Parts, header: &mut Code) {
        if !self.has_send() || parts.views_only {
            return;
        }
        let Self { stem, link, link_upper, plan: direction, .. } = self;
        let part = |wanted: Role| direction.parts.iter().find(|part| part.role == wanted);
        let sequence = part(Role::Sequence);
        if let Some(sequence) = sequence {
            header.open(format!("typedef struct {stem}_sender {{"));
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
        let keys: Vec<(u64, usize)> = keys.filter(|(_, index)| seen.insert(*index)).copied().collect();
        if keys.is_empty() {
            return;
        }
        self.send_body(header);
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
                "static inline {link}_result_t {stem}_send_{name}(const {link}_{name}_t *message, {node}{sender}uint8_t *out, size_t room, size_t *used)"
            ));
            header.close("{");
            header.open("    size_t size;");
            header.line(format!("{link}_result_t result;"));
            let (head, around) = (direction.head_bytes, direction.head_bytes + direction.tail_bytes);
            let is_plain = !matches!(direction.finder, FrameFinder::Stuffed(_) | FrameFinder::Escaped(_));
            if !is_plain {
                let greatest = screaming(&format!("{link}_{name}"));
                header.line(format!("uint8_t body[{greatest}_GREATEST_SIZE + 1u];"));
            }
            header.line("*used = 0;");
            if let (Some((_, first, last)), true) = (base, direction.key_part().is_some()) {
                let least = if first > 0 { format!("node < {first}u || ") } else { String::new() };
                header.lines(&format!("if ({least}node > {last}u) {{\n    return {link_upper}_OUT_OF_RANGE;\n}}"));
            }
            let place = match is_plain {
                true => {
                    header.lines(&format!("if (room < {around}u) {{\n    return {link_upper}_NO_ROOM;\n}}"));
                    header.line(format!(
                        "result = {link}_{name}_encode(message, out + {head}u, room - {around}u, &size);"
                    ));
                    format!("out + {head}u")
                }
                false => {
                    header.line(format!("result = {link}_{name}_encode(message, body, sizeof body, &size);"));
                    "body".to_owned()
                }
            };
            header.lines(&format!("if (result != {link_upper}_OK) {{\n    return result;\n}}"));
            let mut arguments: Vec<String> = Vec::new();
            if let Some(part) = direction.key_part() {
                arguments.push(match base {
                    Some((base, ..)) => format!("({})({base}u + node)", type_of(part)),
                    None => constant(i128::from(key), part.bits, false),
                });
            }
            arguments.extend(address.map(|_| "node".to_owned()));
            arguments.extend(sequence.map(|_| "sender".to_owned()));
            arguments.extend([place, "size, out, room, used".to_owned()]);
            header.line(format!("return {stem}_send({});", arguments.join(", ")));
            header.close("}");
            header.line("");
        }
    }

    /// What all functions that send end with.
    fn send_body(&self, header: &mut Code) {
        let Self { stem, link, link_upper, plan: direction, .. } = self;
        let part = |wanted: Role| direction.parts.iter().find(|part| part.role == wanted);
        let (address, sequence) = (part(Role::Address), part(Role::Sequence));
        let typed = |part: &Part, name: &str| format!("{} {name}", unsigned_type(part.bits));
        let mut parameters: Vec<String> = Vec::new();
        parameters.extend(direction.key_part().map(|part| typed(part, "key")));
        parameters.extend(address.map(|part| typed(part, "node")));
        parameters.extend(sequence.map(|_| format!("{stem}_sender_t *sender")));
        parameters.push("const uint8_t *body, size_t size, uint8_t *out, size_t room, size_t *used".to_owned());
        header.line(format!(
            "/* Writes the frame around a body, which may stand at its place in `out` already; *used is its size{}. */",
            if sequence.is_some() { ", and the sender's number goes up" } else { "" }
        ));
        header.open(format!("static inline {link}_result_t {stem}_send({})", parameters.join(", ")));
        header.close("{");
        header.open(format!("    {stem}_frame_t frame;"));
        if sequence.is_some() {
            header.line(format!("{link}_result_t result;"));
        }
        for part in &direction.parts {
            let value = match &part.role {
                Role::Message => "key".to_owned(),
                Role::Address => "node".to_owned(),
                Role::Sequence => format!("sender->{}", member(&part.name)),
                Role::Revision => format!("{link_upper}_REVISION"),
                _ => continue,
            };
            header.line(format!("frame.{} = {value};", member(&part.name)));
        }
        if direction.key_is_outside() {
            header.line("frame.key = 0;");
        }
        header.line("frame.body = body;");
        header.line("frame.size = size;");
        match sequence {
            Some(sequence) => {
                let (name, ty) = (member(&sequence.name), unsigned_type(sequence.bits));
                header.lines(&format!(
                    "result = {stem}_build(&frame, out, room, used);\n\
                     if (result == {link_upper}_OK) {{\n    sender->{name} = ({ty})(sender->{name} + 1u);\n}}\nreturn result;"
                ));
            }
            None => header.line(format!("return {stem}_build(&frame, out, room, used);")),
        }
        header.close("}");
        header.line("");
    }
}
