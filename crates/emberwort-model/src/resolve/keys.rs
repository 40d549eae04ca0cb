//! Which key selects which message on a channel, and whether its frames fit there.

use std::collections::HashMap;

use super::Resolver;
use crate::budget::line_length;
use crate::budget::wire_time::can;
use crate::diagnostics::{Code, Finding};
use crate::ids::{ChannelId, MessageId};
use crate::layout::bit_owners;
use crate::medium::{Encapsulation, MediumKind, usb};
use crate::model::{Base, ByteOrder, End, NodeRange};
use crate::plan::{Channel, Direction, EXTENDED_ID, FrameFinder, KeySource, MessagePlan, Plan, Role, Zone};
use crate::source::Span;
use crate::syntax::ast::{KeyItem, KeyKind, MessageItem, Name};

/// A message on a channel.
struct KeyedMessage<'a> {
    /// Index of the channel, and of the message.
    index: ChannelId,
    number: MessageId,
    /// Which of the message's channels it is.
    position: usize,
    message: &'a MessagePlan,
    item: &'a MessageItem,
    /// The key that the message gives for the channel.
    given: Option<KeyItem>,
}

impl KeyedMessage<'_> {
    /// Where its key is written.
    fn key_span(&self, channel: &Direction) -> Span {
        let span = match channel.selected_by {
            KeySource::Part => self.item.id.map(|id| id.span),
            _ => self.given.map(|key| key.number.span),
        };
        span.unwrap_or(self.item.name.span)
    }

    /// How its key is written.
    fn base(&self, channel: &Direction) -> Base {
        match channel.selected_by {
            KeySource::Port | KeySource::CanId | KeySource::Endpoint => {
                self.given.map_or(Base::Hex, |key| key.number.base)
            }
            KeySource::Part => self.message.message.id_base,
            _ => Base::Decimal,
        }
    }

    /// The nodes whose numbers are added to its key.
    fn nodes(&self, channel: &Direction) -> Option<NodeRange> {
        match channel.selected_by {
            KeySource::Part => self.message.message.id_nodes,
            KeySource::Port | KeySource::CanId | KeySource::Endpoint => {
                self.message.message.keys[self.position].and_then(|key| key.nodes)
            }
            _ => None,
        }
    }
}

/// Keys and lines that select a message already, with their places.
#[derive(Default)]
struct Taken {
    keys: HashMap<u64, Span>,
    lines: HashMap<String, Span>,
}

/// The kind of key that messages have to give for a channel, if any.
fn wanted_key(channel: &Direction) -> Option<KeyKind> {
    match channel.selected_by {
        KeySource::Port => Some(KeyKind::Port),
        KeySource::CanId => Some(KeyKind::CanId),
        KeySource::Endpoint => Some(KeyKind::Endpoint),
        _ => None,
    }
}

/// Whether bodies select messages by their size on a channel, and each end has one of the same size.
fn has_same_sizes(index: ChannelId, channel: &Channel, messages: &[MessagePlan]) -> bool {
    let sizes = |from: End| {
        let all = messages.iter().filter(|message| message.message.from == from);
        let here = all.filter(|message| message.message.channels.contains(&index));
        here.flat_map(|message| {
            message.sections.iter().scan(0, |sum, section| {
                *sum += section.greatest_size;
                Some(*sum)
            })
        })
        .collect::<Vec<_>>()
    };
    let (device, host) = (sizes(End::Device), sizes(End::Host));
    channel.direction(End::Device).selected_by == KeySource::Size && device.iter().any(|size| host.contains(size))
}

impl Resolver<'_> {
    /// Gives every channel its messages by key, and checks that they fit.
    pub(super) fn assign_keys(&mut self, plan: &mut Plan) {
        let Plan { messages, channels, .. } = plan;
        for message in messages.iter_mut().filter(|message| message.has_rest) {
            let before = message.greatest_without_rest();
            let room = message.message.channels.iter().map(|index| {
                let direction = channels[*index].direction(message.message.from);
                direction.longest_body().saturating_sub(before)
            });
            if let Some(most) = room.max() {
                message.rest_bytes = most;
            }
        }
        for (index, channel) in (0..).map(ChannelId::new).zip(channels.iter_mut()) {
            // Each end has a wire of its own, which says whose a body is where its size does not.
            if matches!(channel.medium.kind, MediumKind::Spi { .. }) && has_same_sizes(index, channel, messages) {
                channel.split();
            }
            for (from, direction) in channel.directions_mut() {
                self.keys_of(index, direction, messages, from);
            }
        }
    }

    fn keys_of(&mut self, index: ChannelId, channel: &mut Direction, messages: &[MessagePlan], from: Option<End>) {
        let file = self.file;
        let mut taken = Taken::default();
        let mut bases: HashMap<MessageId, u64> = HashMap::new();
        let mut written: Vec<Base> = Vec::new();
        for (number, (message, item)) in (0..).map(MessageId::new).zip(messages.iter().zip(&file.messages)) {
            let Some(position) = message.message.channels.iter().position(|other| *other == index) else { continue };
            if from.is_some_and(|from| from != message.message.from) {
                continue;
            }
            let given = item.on.iter().find(|on| on.channel.text == channel.name).and_then(|on| on.key);
            let carried = KeyedMessage { index, number, position, message, item, given };
            let Some(keys) = self.keys_of_message(&carried, channel, &mut taken) else { continue };
            if let Some(nodes) = carried.nodes(channel) {
                bases.insert(number, keys[0] - nodes.least);
            }
            written.push(carried.base(channel));
            channel.keys.extend(keys.iter().map(|key| (*key, number)));
            let body = match message.has_rest {
                _ if channel.selected_by == KeySource::Line => line_length(message).1,
                // What comes in front of a field that reaches to the end has to fit, too.
                true => channel.longest_body().max(message.greatest_without_rest()),
                false => message.greatest_size(),
            };
            self.fits(index, channel, body, &item.name);
            channel.greatest_body = channel.greatest_body.max(body);
        }
        channel.keys.sort_unstable();
        channel.key_base = Base::of_all(written.into_iter());
        if !bases.is_empty() {
            channel.node_bases = channel.keys.iter().map(|(_, message)| bases.get(message).copied()).collect();
        }
        match channel.finder {
            FrameFinder::StatusBytes { .. } => self.data_bytes(channel, messages),
            _ => self.sizes_by_key(index, channel, messages),
        }
    }

    /// The keys that select a message on a channel, which no other one has; `None` if something is wrong with them.
    fn keys_of_message(
        &mut self,
        carried: &KeyedMessage<'_>,
        channel: &Direction,
        taken: &mut Taken,
    ) -> Option<Vec<u64>> {
        if let Some(key) = carried.given
            && wanted_key(channel) != Some(key.kind)
        {
            let word = key.kind.as_str();
            let message = format!("`{}` does not select messages by {word}", channel.name);
            let help = format!("take `{word} …` out, or write `select by {word}` in the channel");
            let place = self.file.channels[carried.index].name.span;
            let finding = Finding::new(Code::BadSelect, key.number.span, message, help);
            self.report(finding.related(place, "the channel"));
            return None;
        }
        let name = &carried.item.name;
        let keys = match channel.selected_by {
            KeySource::Part => {
                let id = self.id_on(channel, carried.message, carried.item, carried.index)?;
                self.with_nodes(channel, id, carried.message.message.id_nodes, name)
            }
            KeySource::Port | KeySource::CanId | KeySource::Endpoint => self.keys_outside(carried, channel)?,
            KeySource::Size => self.sizes_of(carried, channel)?,
            KeySource::Line => self.key_of_line(carried, channel, taken)?,
            KeySource::Single if channel.keys.is_empty() => vec![0],
            KeySource::Single => {
                let help = "add a part with the role `message`: `kind : u8 message`, or `select by …` in the channel";
                let why = "no part of the frame says which message it carries";
                self.no_key(carried.index, &channel.name, name, why, help);
                return None;
            }
        };
        let span = carried.key_span(channel);
        if let Some(first) = keys.iter().find_map(|key| taken.keys.get(key)).copied() {
            let what = match channel.selected_by {
                KeySource::Part => "id",
                KeySource::Port => "port",
                KeySource::CanId => "CAN identifier",
                KeySource::Endpoint => "endpoint",
                _ => "size",
            };
            let key = carried.base(channel).text(keys[0] & !EXTENDED_ID, 2);
            let message = format!("on `{}` the {what} {key} already selects another message", channel.name);
            let help = format!("give one of the two another {what}, or let them travel on different channels");
            self.report(Finding::new(Code::DuplicateKey, span, message, help).related(first, "taken here"));
            return None;
        }
        taken.keys.extend(keys.iter().map(|key| (*key, span)));
        Some(keys)
    }

    /// The ports or CAN identifiers of a message.
    fn keys_outside(&mut self, carried: &KeyedMessage<'_>, channel: &Direction) -> Option<Vec<u64>> {
        let name = &carried.item.name;
        let Some(key) = carried.message.message.keys[carried.position] else {
            if carried.given.is_none() {
                let example = match channel.selected_by {
                    KeySource::Port => "port 2",
                    KeySource::Endpoint if carried.message.message.from == End::Device => "endpoint 0x81",
                    KeySource::Endpoint => "endpoint 0x01",
                    _ => "can_id 0x1A4",
                };
                let help = format!("write `on {} {example}`", channel.name);
                self.no_key(carried.index, &channel.name, name, "it has no key there", &help);
            }
            return None;
        };
        let most = channel.medium.kind.greatest_key(key.extended);
        let greatest = key.value.saturating_add(key.nodes.map_or(0, |nodes| nodes.greatest));
        if greatest > most {
            let help = if most == 0x7FF { ", or write `extended` after it for one of 29 bits" } else { "" };
            let message = format!("{} is more than `{}` can have as a key", key.base.text(greatest, 1), channel.name);
            let help = format!("choose one up to {}{help}", key.base.text(most, 1));
            self.report(Finding::new(Code::KeyTooLarge, carried.key_span(channel), message, help));
            return None;
        }
        if channel.selected_by == KeySource::Endpoint {
            let number = key.value & usb::GREATEST_ENDPOINT;
            let from = carried.message.message.from;
            let right = number | if from == End::Device { usb::FROM_DEVICE } else { 0 };
            if key.value != right || key.nodes.is_some() {
                let sender = if from == End::Device { "device" } else { "host" };
                let message = format!("{} is no endpoint from which the {sender} sends", key.base.text(key.value, 2));
                let help = format!(
                    "write `endpoint {right:#04x}`: 0 to 15, with 0x80 added where the device sends; the node is the address"
                );
                self.report(Finding::new(Code::BadSelect, carried.key_span(channel), message, help));
                return None;
            }
        }
        let value = key.value | if key.extended { EXTENDED_ID } else { 0 };
        Some(self.with_nodes(channel, value, key.nodes, name))
    }

    /// The sizes of a message's body, where they select it.
    fn sizes_of(&mut self, carried: &KeyedMessage<'_>, channel: &Direction) -> Option<Vec<u64>> {
        let message = carried.message;
        if message.has_rest || message.sections.iter().any(|section| section.least_size != section.greatest_size) {
            let help = "select by a frame part, or give its fields fixed sizes";
            self.no_key(carried.index, &channel.name, &carried.item.name, "its size varies", help);
            return None;
        }
        let sizes = message.sections.iter().scan(0, |sum, section| {
            *sum += section.least_size as u64;
            Some(*sum)
        });
        Some(sizes.collect())
    }

    /// The key of a text message, whose line looks like no other one's.
    fn key_of_line(&mut self, carried: &KeyedMessage<'_>, channel: &Direction, taken: &mut Taken) -> Option<Vec<u64>> {
        let KeyedMessage { message, item, .. } = *carried;
        let Some(line) = &message.message.line else {
            // One that could not be read has its finding.
            if item.line.is_none() && !item.damaged {
                let help = "write its pattern: `line \"V{valve}:{position}\"`";
                self.no_key(carried.index, &channel.name, &item.name, "it has no line", help);
            }
            return None;
        };
        if let Some(first) = taken.lines.insert(line_shape(line, message), item.name.span) {
            let message = format!("on `{}` the lines of two messages look the same", channel.name);
            let help = "begin each with different characters, as in `V…` and `P…`";
            let span = item.line.as_ref().map_or(item.name.span, |(_, span)| *span);
            self.report(Finding::new(Code::DuplicateKey, span, message, help).related(first, "the other one"));
            return None;
        }
        Some(vec![carried.number.index() as u64])
    }

    /// A key, or one for each node whose number is added to it.
    fn with_nodes(&mut self, channel: &Direction, key: u64, nodes: Option<NodeRange>, name: &Name) -> Vec<u64> {
        let Some(NodeRange { least, greatest }) = nodes else { return vec![key] };
        if let Some(part) = channel.part(|role| *role == Role::Address) {
            let message = format!(
                "the node would stand in the frames of `{}` twice: in the key of `{}`, and in `{}`",
                channel.name, name.text, part.name
            );
            let help = format!("take `+ node {least} .. {greatest}` out, or `{}` out of the frame", part.name);
            self.report(Finding::new(Code::BadSelect, name.span, message, help));
        }
        (least..=greatest).map(|node| key + node).collect()
    }

    /// Where no length part says it, the size of its message must say where a frame ends.
    fn sizes_by_key(&mut self, index: ChannelId, channel: &mut Direction, messages: &[MessagePlan]) {
        let has_length = channel.part(|role| matches!(role, Role::Length { .. })).is_some();
        if !channel.finder.runs_on() || has_length {
            return;
        }
        let file = self.file;
        let help = "add a length part: `size : u8 length of body`";
        let place = (file.channels[index].name.span, "the channel, whose frames have no length part");
        let mut sizes = Vec::new();
        for (_, message) in &channel.keys {
            let (message, name) = (&messages[*message], &file.messages[message.index()].name);
            let varies = match (
                message.has_rest || message.sections.iter().any(|s| s.least_size != s.greatest_size),
                message.sections.len(),
            ) {
                (true, _) => "its size varies",
                (false, 1) if channel.head_bytes + message.least_size() + channel.tail_bytes == 0 => {
                    "its frames have no bytes at all"
                }
                (false, 1) => {
                    sizes.push(Some(message.least_size()));
                    continue;
                }
                (false, _) => "senders of earlier revisions send less of it",
            };
            let message =
                format!("nothing tells a receiver on `{}` where `{}` ends: {varies}", channel.name, name.text);
            self.report(Finding::new(Code::NoFrameEnd, name.span, message, help).related(place.0, place.1));
        }
        let behind = channel.key_part().filter(|part| part.zone == Zone::Tail);
        if let Some(part) = behind
            && sizes.iter().any(|size| Some(size) != sizes.first())
        {
            let message = format!("`{}` says how long a frame is, but comes after the body", part.name);
            self.report(Finding::new(Code::NoFrameEnd, place.0, message, help));
        }
        if sizes.len() == channel.keys.len() {
            channel.body_sizes = sizes;
        }
    }

    /// Behind a status byte no byte has bit 7 set, so no field can use it. Sizes may vary: the next status byte ends a frame.
    fn data_bytes(&mut self, channel: &mut Direction, messages: &[MessagePlan]) {
        let sections = |message: &MessagePlan| message.sections.len() == 1 && !message.has_rest;
        channel.body_sizes = channel
            .keys
            .iter()
            .map(|(_, index)| {
                let message = &messages[*index];
                let fixed = sections(message) && message.least_size() == message.greatest_size();
                fixed.then(|| message.least_size())
            })
            .collect();
        for (key, index) in &channel.keys {
            let (message, item) = (&messages[*index], &self.file.messages[index.index()]);
            if *key < 0x80 {
                let span = item.id.map_or(item.name.span, |id| id.span);
                let text = format!("{} is not a status byte: bit 7 is not set", message.message.id_base.text(*key, 2));
                self.report(Finding::new(Code::KeyTooLarge, span, text, "choose an id from 0x80 to 0xFF"));
                continue;
            }
            if *key >= 0xF8 && message.greatest_size() > 0 {
                let text = format!(
                    "a status byte from 0xF8 on, as {}, is a frame of its own, and `{}` has fields",
                    message.message.id_base.text(*key, 2),
                    item.name.text
                );
                self.report(Finding::new(Code::BadStatus, item.name.span, text, "choose an id up to 0xF7"));
            }
            if channel.keys.iter().find(|(_, other)| other == index).is_some_and(|(first, _)| first != key) {
                continue;
            }
            let running = channel.finder == FrameFinder::StatusBytes { running: true };
            let varies = !sections(message) || message.least_size() != message.greatest_size();
            if running && *key < 0xF0 && varies {
                let text = format!(
                    "the size of `{}` varies, so only the next status byte ends it; but one like {} is left out where it can be",
                    item.name.text,
                    message.message.id_base.text(*key, 2)
                );
                let help =
                    "choose an id from 0xF0 to 0xF7, whose status byte is always sent, or give its fields fixed sizes";
                self.report(Finding::new(Code::BadStatus, item.name.span, text, help));
            }
            let fields = &message.message.fields;
            for section in &message.sections {
                let owners = bit_owners(section, fields, message.byte_order);
                let high = |bit: usize| bit % 8 == if message.byte_order == ByteOrder::Big { 0 } else { 7 };
                let owner = owners.iter().enumerate().filter(|(bit, _)| high(*bit)).find_map(|(bit, owner)| {
                    let slot = section.steps[(*owner)?].slot;
                    (!fields[slot].is_spare()).then_some((bit / 8, slot))
                });
                let Some((byte, slot)) = owner else { continue };
                let text = format!(
                    "`{}` has bit 7 of byte {byte}, and on `{}` only status bytes have that set",
                    fields[slot].name, channel.name
                );
                let items = item.sections.iter().flat_map(|section| &section.fields);
                let span = items.into_iter().nth(slot).map_or(item.name.span, |field| field.ty_span);
                let help = "keep the bit free in each byte: `spare 1 bits`, then at most 7 bits of values";
                self.report(Finding::new(Code::BadStatus, span, text, help));
            }
        }
    }

    fn no_key(&mut self, index: ChannelId, channel: &str, name: &Name, why: &str, help: &str) {
        let place = self.file.channels[index].name.span;
        let message = format!("on `{channel}`, `{}` cannot be told apart: {why}", name.text);
        self.report(Finding::new(Code::NoMessageKey, name.span, message, help).related(place, "the channel"));
    }

    /// The id of a message, if the channel's frames have room for it.
    fn id_on(
        &mut self,
        channel: &Direction,
        message: &MessagePlan,
        item: &MessageItem,
        index: ChannelId,
    ) -> Option<u64> {
        let bits = channel.key_part()?.bits;
        let Some(id) = message.message.id else {
            if item.id.is_none() && !item.damaged {
                self.no_key(index, &channel.name, &item.name, "it has no id", "give it one: `id 0x21`");
            }
            return None;
        };
        let greatest = message.message.id_nodes.map_or(0, |nodes| nodes.greatest);
        let base = message.message.id_base;
        if id.checked_add(greatest).is_none_or(|greatest| bits < 64 && greatest >> bits != 0) {
            let span = item.id.map_or(item.name.span, |number| number.span);
            self.report(Finding::new(
                Code::KeyTooLarge,
                span,
                format!(
                    "the id {} does not fit the {bits} bits that `{}` has for it",
                    base.text(id.saturating_add(greatest), 1),
                    channel.name
                ),
                format!("choose an id up to {}, or widen the frame's `message` part", base.text((1u64 << bits) - 1, 1)),
            ));
            return None;
        }
        Some(id)
    }

    fn fits(&mut self, index: ChannelId, channel: &Direction, body: usize, name: &Name) {
        let size = channel.frame_size(body);
        let by_port = channel.selected_by == KeySource::Port;
        if size > channel.limit {
            let own = self.file.channels[index].limit.is_some();
            let (code, limit, help) = match channel.medium.kind.limit(by_port) {
                Some((_, why)) if !own => {
                    (Code::MediumTooSmall, why, "shorten its fields, or split it into two messages".to_owned())
                }
                _ => (
                    Code::FrameTooLong,
                    format!("whose limit is {}", channel.limit),
                    format!("shorten the message, or raise the limit: `limit {size} bytes`"),
                ),
            };
            self.report(Finding::new(
                code,
                name.span,
                format!(
                    "with its longest body of {body} bytes, `{}` makes a frame of {size} bytes on `{}`{} {limit}",
                    name.text,
                    channel.name,
                    if code == Code::FrameTooLong { "," } else { ", but" },
                ),
                help,
            ));
            return;
        }
        if channel.medium.kind.encapsulation() == (Encapsulation::Can { fd: true })
            && can::fd_size(size) != size
            && self.file.messages.iter().all(|item| item.name.text != name.text || item.sections.len() < 2)
        {
            let more = can::fd_size(size) - size;
            self.report(Finding::new(
                Code::FdSize,
                name.span,
                format!("CAN FD has no frames of {size} bytes: the controller fills up to {}", can::fd_size(size)),
                format!(
                    "add `spare {more} bytes`, so that the receiver does not take the filling for a later revision"
                ),
            ));
        }
        if let Some(part) = channel.part(|role| matches!(role, Role::Length { .. }))
            && let Role::Length { other_bytes, unit } = part.role
        {
            let count = ((body + other_bytes) / unit) as u64;
            if part.bits < 64 && count >> part.bits != 0 {
                self.report(Finding::new(
                    Code::FrameTooLong,
                    name.span,
                    format!(
                        "the longest `{}` needs a length of {count}, but `{}` of `{}` has {} bits",
                        name.text, part.name, channel.name, part.bits
                    ),
                    "widen the length part, or shorten the message",
                ));
            }
        }
    }
}

/// What a line looks like when values are left out: two messages of one shape cannot be told apart.
fn line_shape(line: &[crate::model::LinePiece], message: &MessagePlan) -> String {
    use crate::model::{Kind, LineDigits, LineForm, LinePiece};
    line.iter()
        .map(|piece| match piece {
            LinePiece::Text(text) => text.clone(),
            LinePiece::Field { form: LineForm { digits: LineDigits::Hex(digits), .. }, .. } => {
                format!("\u{0}h{digits}")
            }
            LinePiece::Field { slot, .. } => match &message.message.fields[*slot].kind {
                Kind::Text { .. } => "\u{0}t".into(),
                Kind::Enum { labels, .. } => format!("\u{0}{}", labels.name),
                Kind::Bool => "\u{0}b".into(),
                _ => "\u{0}n".into(),
            },
        })
        .collect()
}
