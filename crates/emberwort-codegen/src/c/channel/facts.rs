//! What firmware has to know of a channel before the first byte: its medium, what selects messages, how long frames are, and which answer belongs
//! to which request.

use emberwort_model::Plan;
use emberwort_model::ids::MessageId;
use emberwort_model::medium::MediumKind;
use emberwort_model::model::End;
use emberwort_model::plan::{EXTENDED_ID, KeySource};

use super::Channel;
use crate::Parts;
use crate::code::Code;
use crate::names::{screaming, snake};

impl Channel<'_> {
    /// Constants of the channel, and of each message on it.
    pub(super) fn facts(&self, plan: &Plan, parts: &Parts, from: Option<End>, header: &mut Code) {
        let Self { upper, plan: direction, .. } = self;
        let mut define = |name: &str, value: String, about: &str| {
            header.line(format!("#define {upper}_{name} {value} /* {about} */"));
        };
        match direction.medium.kind {
            MediumKind::Uart(format) => define("BAUD", format!("UINT32_C({})", format.baud), "bits a second"),
            MediumKind::Spi { hertz, .. } | MediumKind::I2c { hertz } => {
                define("CLOCK_HZ", format!("UINT32_C({hertz})"), "of the clock");
            }
            MediumKind::Can { bitrate, data_bitrate, .. } => {
                define("BITRATE", format!("UINT32_C({bitrate})"), "bits a second");
                if let Some(data) = data_bitrate {
                    define("DATA_BITRATE", format!("UINT32_C({data})"), "bits a second of the data");
                }
            }
            MediumKind::Udp { port, .. } => define("UDP_PORT", format!("{port}u"), "where the host listens"),
            MediumKind::Tcp { port, .. } => define("TCP_PORT", format!("{port}u"), "where the host listens"),
            _ => {}
        }
        define("LIMIT", format!("{}u", direction.limit), "most bytes of a frame on the wire");
        if direction.limit > 65_535 {
            let (stem, link_upper) = (&self.stem, &self.link_upper);
            header.line(format!("{link_upper}_ASSERT({stem}_sizes_fit, SIZE_MAX >= {}u);", direction.limit));
        }
        let mut define = |name: &str, value: String, about: &str| {
            header.line(format!("#define {upper}_{name} {value} /* {about} */"));
        };
        let around = direction.head_bytes + direction.tail_bytes;
        if around > 0 && !direction.finder.is_text() {
            define("OVERHEAD", format!("{around}u"), "bytes around the body, without those that stuffing adds");
        }
        let of_frames = |message: MessageId| {
            let message = &plan.messages[message];
            let is_here = parts.has_message(&message.message.name);
            is_here && from.is_none_or(|from| from == message.message.from)
        };
        let mut before = None;
        for (index, (key, message)) in direction.keys.iter().enumerate().filter(|(_, (_, message))| of_frames(*message))
        {
            // The same message may have a key for each node.
            if before.replace(*message) == Some(*message) {
                continue;
            }
            let compiled = &plan.messages[*message];
            let name = screaming(&compiled.message.name);
            if direction.key_is_outside() {
                let what = match direction.selected_by {
                    KeySource::CanId if key & EXTENDED_ID != 0 => "CAN identifier of 29 bits, with bit 31 set",
                    KeySource::CanId => "CAN identifier",
                    KeySource::Endpoint => "endpoint",
                    _ => "port",
                };
                let base = direction.node_bases.get(index).copied().flatten();
                let about =
                    if base.is_some() { format!("{what}, to which the node is added") } else { what.to_owned() };
                let digits = direction.key_base.text(base.unwrap_or(*key), 0);
                define(&format!("{name}_KEY"), format!("UINT32_C({digits})"), &about);
            }
            if !direction.finder.is_text() {
                let most = direction.frame_size(compiled.greatest_size()).min(direction.limit);
                define(&format!("{name}_FRAME"), format!("{most}u"), "most bytes of its frame on the wire");
            }
        }
        header.line("");
    }

    /// Whether a received frame is an answer to a request.
    pub(super) fn answers(&self, plan: &Plan, parts: &Parts, header: &mut Code) {
        let Self { stem, plan: direction, .. } = self;
        let Some((selected, bits)) = self.selected() else { return };
        let node = direction.part(|role| matches!(role, emberwort_model::plan::Role::Address));
        for request in plan.messages.iter().filter(|request| !request.message.answered_by.is_empty()) {
            let asked = &request.message;
            if !parts.sends_message(asked) {
                continue;
            }
            let is_answer = |message: &MessageId| {
                asked.answered_by.contains(message) && parts.has_message(&plan.messages[*message].message.name)
            };
            let keys: Vec<String> = direction
                .keys
                .iter()
                .filter(|(_, message)| is_answer(message))
                .map(|(key, message)| format!("{selected} == {}", self.key(plan, *key, *message, bits)))
                .collect();
            if keys.is_empty() {
                continue;
            }
            let (argument, same_node) = match node {
                Some(part) => {
                    let (ty, name) = (super::unsigned_type(part.bits), super::member(&part.name));
                    (format!(", {ty} node"), format!("frame->{name} == node && "))
                }
                None => (String::new(), String::new()),
            };
            let any = keys.join(" || ");
            let any = if keys.len() > 1 && !same_node.is_empty() { format!("({any})") } else { any };
            header.lines(&format!(
                "/* Whether a received frame answers {}{}. */\n\
                 static inline bool {stem}_answers_{}(const {stem}_frame_t *frame{argument})\n{{\n    return {same_node}{any};\n}}\n",
                asked.name,
                if same_node.is_empty() { "" } else { " that was sent to this node" },
                snake(&asked.name),
            ));
            header.line("");
        }
    }
}
