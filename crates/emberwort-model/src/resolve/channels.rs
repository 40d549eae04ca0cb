//! Channels: how frames are found on their medium, which key selects which message, and what fits.

use std::collections::HashMap;

use super::Resolver;
use crate::budget::line_length;
use crate::budget::wire_time::can;
use crate::diagnostics::{Code, Finding};
use crate::layout::bit_owners;
use crate::medium::Carriage;
use crate::model::{Base, ByteOrder, End, Medium, MediumKind, NodeRange};
use crate::number::Decimal;
use crate::plan::{Channel, Direction, EXTENDED_ID, FrameFinder, KeySource, MessagePlan, Plan, Role, Zone};
use crate::source::Span;
use crate::syntax::ast::{ChannelItem, FrameEnd, FrameItem, KeyKind, MessageItem, Name};

const MAX_LIMIT: i128 = 65_535;

impl Resolver<'_> {
    pub(super) fn channel(&mut self, item: &ChannelItem) -> Option<Channel> {
        if item.damaged {
            return None;
        }
        let place = item.name.span;
        let mut medium = match &item.medium {
            Some((medium, _)) => Some(medium.clone()),
            None => {
                self.missing(place, "channel", "medium", "medium uart 115200 8N1");
                None
            }
        };
        let by_port = matches!(item.select, Some((KeyKind::Port, _)));
        if let Some(Medium { kind: MediumKind::Lora { overhead, .. }, .. }) = &mut medium {
            // What a LoRaWAN frame adds (LoRaWAN 1.0.4, section 4): header 1, device address 4, control 1, counter 2,
            // port 1, integrity code 4.
            overhead.get_or_insert(if by_port { 13 } else { 0 });
        }
        let mut limit = medium.as_ref().map_or(MAX_LIMIT as usize, |medium| medium.kind.default_limit(by_port));
        if let Some(number) = item.limit {
            match number.value.as_integer() {
                Some(n) if (1..=MAX_LIMIT).contains(&n) => {
                    limit = n as usize;
                    let most = medium.as_ref().and_then(|medium| medium.kind.limit(by_port));
                    if let Some((most, why)) = most.filter(|(most, _)| limit > *most) {
                        let message = format!("a limit of {limit} bytes is more than the medium has: {why}");
                        let help = format!("write `limit {most} bytes`, or leave the limit out");
                        self.report(Finding::new(Code::MediumTooSmall, number.span, message, help));
                        limit = most;
                    }
                }
                _ => self.report(Finding::new(
                    Code::BadSize,
                    number.span,
                    format!("the longest frame cannot have {} bytes", number.value),
                    format!("choose a whole number from 1 to {MAX_LIMIT}"),
                )),
            }
        }
        let medium = medium?;
        let finder = self.frame_finder(item, &medium.kind)?;
        if item.frames.is_empty() && !finder.separates() {
            self.report(Finding::new(
                Code::MissingPart,
                place,
                format!("`{}` has no `frame` block, so nothing tells where its messages begin and end", item.name.text),
                "add, for example: frame { sync C6 39  kind : u8 message  size : u8 length of body  body }, on lines of \
                 their own",
            ));
            return None;
        }
        let channel = Direction {
            name: item.name.text.clone(),
            doc: item.doc.clone(),
            medium,
            limit,
            broadcast: None,
            selected_by: KeySource::Single,
            finder,
            byte_order: self.byte_order,
            sync: Vec::new(),
            parts: Vec::new(),
            head_bytes: 0,
            tail_bytes: 0,
            keys: Vec::new(),
            key_base: Base::Hex,
            node_bases: Vec::new(),
            body_sizes: Vec::new(),
            greatest_body: 0,
        };
        self.directions(item, channel)
    }

    /// The frames of both directions.
    fn directions(&mut self, item: &ChannelItem, bare: Direction) -> Option<Channel> {
        let with_frame = |resolver: &mut Self, from: Option<End>| {
            let mut channel = bare.clone();
            let frame = item.frames.iter().find(|frame| frame.from == from || frame.from.is_none());
            if let Some(frame) = frame {
                resolver.frame(frame, &mut channel)?;
                resolver.parts_of_lines(frame, &channel);
            }
            channel.selected_by = resolver.key_source(item, &channel)?;
            Some(channel)
        };
        let Some(first) = item.frames.first() else { return Some(Channel::new(with_frame(self, None)?, None)) };
        if first.from.is_none() {
            return Some(Channel::new(with_frame(self, None)?, None));
        }
        if item.frames.len() < 2 {
            let (has, lacks) = match first.from {
                Some(End::Host) => ("host", "device"),
                _ => ("device", "host"),
            };
            self.report(Finding::new(
                Code::MissingPart,
                first.span,
                format!("frames from the {has} are described, but not those from the {lacks}"),
                format!("add `frame from {lacks} {{ … }}`, or write `frame {{ … }}` if both are the same"),
            ));
            return None;
        }
        let device = with_frame(self, Some(End::Device))?;
        Some(Channel::new(device, Some(with_frame(self, Some(End::Host))?)))
    }

    /// What stands around the text of a line must be text too.
    fn parts_of_lines(&mut self, frame: &FrameItem, channel: &Direction) {
        if !channel.finder.is_text() {
            return;
        }
        let visible = |bytes: &[u8]| bytes.iter().all(|byte| (0x20..0x7F).contains(byte));
        for part in &channel.parts {
            let fault = match part.role {
                Role::Message => "the pattern of its line selects the message",
                Role::Length { .. } => "a line ends where it ends, whatever a length says",
                Role::Fixed(value) if part.at_bit % 8 == 0 && part.bits % 8 == 0 => {
                    let bytes = value.to_be_bytes();
                    if part.hex || visible(&bytes[8 - usize::from(part.bits / 8)..]) {
                        continue;
                    }
                    "it could hold an end of the line"
                }
                _ if part.hex => continue,
                _ => "it could hold an end of the line",
            };
            let message = format!("`{}` has no place in a line of text: {fault}", part.name);
            let help = "the frame of a line has `sync` bytes, `body`, fixed visible characters (`star : u8 = 0x2A`), and values in \
                        hex digits (`check : hex2 xor8 over body`)";
            let place = frame.parts.iter().find(|item| item.name.text == part.name).map(|item| item.name.span);
            self.report(Finding::new(Code::BadPart, place.unwrap_or(frame.span), message, help));
        }
        if !visible(&channel.sync) {
            let message = "the sync bytes of a line are visible characters";
            let help = "write, for example, `sync 24` for a `$`";
            self.report(Finding::new(Code::BadPart, frame.span, message, help));
        }
    }

    fn frame_finder(&mut self, item: &ChannelItem, medium: &MediumKind) -> Option<FrameFinder> {
        let name = medium.as_str();
        match (&item.finding, medium.keeps_packets()) {
            (Some((FrameEnd::Packet, _)), true) => Some(FrameFinder::Packet),
            (Some((FrameEnd::Stuffing(stuffing), _)), false) => Some(FrameFinder::Stuffed(*stuffing)),
            (Some((FrameEnd::Escape(escape), _)), false) => Some(FrameFinder::Escaped(*escape)),
            (Some((FrameEnd::Lines { crlf }, _)), false) => Some(FrameFinder::Lines { crlf: *crlf }),
            (Some((FrameEnd::StatusBytes { running }, _)), false) => {
                Some(FrameFinder::StatusBytes { running: *running })
            }
            (Some((FrameEnd::IdleTime(nanoseconds), _)), false) => {
                Some(FrameFinder::Idle { nanoseconds: *nanoseconds })
            }
            (Some((FrameEnd::IdleCharacters(count), span)), false) => {
                let nanoseconds = self.characters(*count, medium, *span)?;
                Some(FrameFinder::Idle { nanoseconds })
            }
            (None, false) => Some(FrameFinder::Sync),
            (Some((FrameEnd::Packet, span)), false) => {
                let message = format!("`{name}` carries bytes and does not keep packets apart");
                let help = "take `packet` out, and find frames by `sync` with a length part, `stuffing cobs`, `lines` or `gap`";
                self.report(Finding::new(Code::NoFrameEnd, *span, message, help));
                None
            }
            (_, true) => {
                let message = format!("`{}` runs over `{name}`, where each packet is a frame", item.name.text);
                self.report(Finding::new(Code::NoFrameEnd, item.name.span, message, "write `packet` in this channel"));
                None
            }
        }
    }

    /// How long so many characters take on a medium, in nanoseconds, rounded down: a silence of exactly this length counts.
    fn characters(&mut self, count: Decimal, medium: &MediumKind, span: Span) -> Option<u64> {
        if medium.byte_nanoseconds().is_none() {
            let message = format!("`{}` says nothing about how long a character takes", medium.as_str());
            self.report(Finding::new(Code::NoFrameEnd, span, message, "write the gap as a time: `gap 2 ms`"));
            return None;
        }
        let one = medium.worst(1, false).time;
        let nanoseconds = (count.mantissa <= 1_000_000_000_000 && count.decimals <= 9)
            .then(|| (one * count.mantissa / 10i128.pow(count.decimals) * 1_000_000_000).to_integer())
            .and_then(|nanoseconds| u64::try_from(nanoseconds).ok())
            .filter(|nanoseconds| *nanoseconds > 0);
        if nanoseconds.is_none() {
            let message = "this gap is out of range: it can be up to 584 years";
            self.report(Finding::new(Code::BadNumber, span, message, "write, for example, `gap 3.5 characters`"));
        }
        nanoseconds
    }

    fn key_source(&mut self, item: &ChannelItem, channel: &Direction) -> Option<KeySource> {
        if channel.finder.is_text() {
            return Some(KeySource::Line);
        }
        let Some((kind, span)) = item.select else {
            return Some(if channel.key_part().is_some() { KeySource::Part } else { KeySource::Single });
        };
        if let Some(part) = channel.key_part() {
            let message = format!("`{}` in the frame selects the message already", part.name);
            let help = "take `select by …` out, or the part with the role `message`";
            self.report(Finding::new(Code::BadSelect, span, message, help));
            return None;
        }
        let medium = &channel.medium.kind;
        let (fits, source, media) = match kind {
            KeyKind::Port => (medium.has_ports(), KeySource::Port, "`udp` and `lora`"),
            KeyKind::CanId => (matches!(medium.carriage(), Carriage::Can { .. }), KeySource::CanId, "`can`"),
            KeyKind::Size => (channel.finder.separates(), KeySource::Size, "packets"),
        };
        if !fits {
            let message =
                format!("`{}` has no {} to select messages by: only {media} have", medium.as_str(), kind.as_str());
            let help = "let a frame part with the role `message` select the message";
            self.report(Finding::new(Code::BadSelect, span, message, help));
            return None;
        }
        Some(source)
    }

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
        for (index, channel) in channels.iter_mut().enumerate() {
            for (from, direction) in channel.directions_mut() {
                self.keys_of(index, direction, messages, from);
            }
        }
    }

    fn keys_of(&mut self, index: usize, channel: &mut Direction, messages: &[MessagePlan], from: Option<End>) {
        let file = self.file;
        let mut places: HashMap<u64, Span> = HashMap::new();
        let mut lines: HashMap<String, Span> = HashMap::new();
        let mut bases: HashMap<usize, u64> = HashMap::new();
        let mut written: Vec<Base> = Vec::new();
        for (message_index, (message, item)) in messages.iter().zip(&file.messages).enumerate() {
            let Some(position) = message.message.channels.iter().position(|other| *other == index) else { continue };
            if from.is_some_and(|from| from != message.message.from) {
                continue;
            }
            let name = &item.name;
            let given = item.on.iter().find(|on| on.channel.text == channel.name).and_then(|on| on.key);
            let wanted = match channel.selected_by {
                KeySource::Port => Some(KeyKind::Port),
                KeySource::CanId => Some(KeyKind::CanId),
                _ => None,
            };
            if let Some(key) = given
                && wanted != Some(key.kind)
            {
                let word = key.kind.as_str();
                let message = format!("`{}` does not select messages by {word}", channel.name);
                let help = format!("take `{word} …` out, or write `select by {word}` in the channel");
                self.report(
                    Finding::new(Code::BadSelect, key.number.span, message, help)
                        .related(file.channels[index].name.span, "the channel"),
                );
                continue;
            }
            let key_span = match channel.selected_by {
                KeySource::Part => item.id.map(|id| id.span),
                _ => given.map(|key| key.number.span),
            };
            let key_span = key_span.unwrap_or(name.span);
            let key_base = match channel.selected_by {
                KeySource::Port | KeySource::CanId => given.map_or(Base::Hex, |key| key.number.base),
                KeySource::Part => message.message.id_base,
                _ => Base::Decimal,
            };
            let keys: Vec<u64> = match channel.selected_by {
                KeySource::Part => match self.id_on(channel, message, item, index) {
                    Some(id) => self.with_nodes(channel, id, message.message.id_nodes, name),
                    None => continue,
                },
                KeySource::Port | KeySource::CanId => {
                    let Some(key) = message.message.keys[position] else {
                        if given.is_none() {
                            let example = if wanted == Some(KeyKind::Port) { "port 2" } else { "can_id 0x1A4" };
                            self.no_key(
                                index,
                                &channel.name,
                                name,
                                "it has no key there",
                                &format!("write `on {} {example}`", channel.name),
                            );
                        }
                        continue;
                    };
                    let most = channel.medium.kind.greatest_key(key.extended);
                    if key.value.saturating_add(key.nodes.map_or(0, |nodes| nodes.greatest)) > most {
                        let help = if most == 0x7FF { ", or write `extended` after it for one of 29 bits" } else { "" };
                        self.report(Finding::new(
                            Code::KeyTooLarge,
                            key_span,
                            format!(
                                "{} is more than `{}` can have as a key",
                                key.base.text(key.value.saturating_add(key.nodes.map_or(0, |nodes| nodes.greatest)), 1),
                                channel.name
                            ),
                            format!("choose one up to {}{help}", key.base.text(most, 1)),
                        ));
                        continue;
                    }
                    let value = key.value | if key.extended { EXTENDED_ID } else { 0 };
                    self.with_nodes(channel, value, key.nodes, name)
                }
                KeySource::Size => {
                    if message.has_rest || message.sections.iter().any(|s| s.least_size != s.greatest_size) {
                        self.no_key(
                            index,
                            &channel.name,
                            name,
                            "its size varies",
                            "select by a frame part, or give its fields fixed sizes",
                        );
                        continue;
                    }
                    let sizes = message.sections.iter().scan(0, |sum, section| {
                        *sum += section.least_size as u64;
                        Some(*sum)
                    });
                    sizes.collect()
                }
                KeySource::Line => {
                    let Some(line) = &message.message.line else {
                        // One that could not be read has its finding.
                        if item.line.is_none() && !item.damaged {
                            let help = "write its pattern: `line \"V{valve}:{position}\"`";
                            self.no_key(index, &channel.name, name, "it has no line", help);
                        }
                        continue;
                    };
                    let shape = line_shape(line, message);
                    if let Some(first) = lines.insert(shape, name.span) {
                        let message = format!("on `{}` the lines of two messages look the same", channel.name);
                        let help = "begin each with different characters, as in `V…` and `P…`";
                        let span = item.line.as_ref().map_or(name.span, |(_, span)| *span);
                        self.report(
                            Finding::new(Code::DuplicateKey, span, message, help).related(first, "the other one"),
                        );
                        continue;
                    }
                    vec![message_index as u64]
                }
                KeySource::Single if channel.keys.is_empty() => vec![0],
                KeySource::Single => {
                    let help =
                        "add a part with the role `message`: `kind : u8 message`, or `select by …` in the channel";
                    self.no_key(index, &channel.name, name, "no part of the frame says which message it carries", help);
                    continue;
                }
            };
            if let Some(first) = keys.iter().find_map(|key| places.get(key)).copied() {
                let what = match channel.selected_by {
                    KeySource::Part => "id",
                    KeySource::Port => "port",
                    KeySource::CanId => "CAN identifier",
                    _ => "size",
                };
                self.report(
                    Finding::new(
                        Code::DuplicateKey,
                        key_span,
                        format!(
                            "on `{}` the {what} {} already selects another message",
                            channel.name,
                            key_base.text(keys[0] & !EXTENDED_ID, 2)
                        ),
                        format!("give one of the two another {what}, or let them travel on different channels"),
                    )
                    .related(first, "taken here"),
                );
                continue;
            }
            let nodes = match channel.selected_by {
                KeySource::Part => message.message.id_nodes,
                KeySource::Port | KeySource::CanId => message.message.keys[position].and_then(|key| key.nodes),
                _ => None,
            };
            if let Some(nodes) = nodes {
                bases.insert(message_index, keys[0] - nodes.least);
            }
            written.push(key_base);
            for key in &keys {
                places.insert(*key, key_span);
                channel.keys.push((*key, message_index));
            }
            let room = channel.longest_body();
            let body = match message.has_rest {
                _ if channel.selected_by == KeySource::Line => line_length(message).1,
                true => room.max(message.least_size()),
                false => message.greatest_size(),
            };
            self.fits(index, channel, body, name);
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
    fn sizes_by_key(&mut self, index: usize, channel: &mut Direction, messages: &[MessagePlan]) {
        let has_length = channel.part(|role| matches!(role, Role::Length { .. })).is_some();
        if !channel.finder.runs_on() || has_length {
            return;
        }
        let file = self.file;
        let help = "add a length part: `size : u8 length of body`";
        let place = (file.channels[index].name.span, "the channel, whose frames have no length part");
        let mut sizes = Vec::new();
        for (_, message) in &channel.keys {
            let (message, name) = (&messages[*message], &file.messages[*message].name);
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
            let (message, item) = (&messages[*index], &self.file.messages[*index]);
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

    fn no_key(&mut self, index: usize, channel: &str, name: &Name, why: &str, help: &str) {
        let place = self.file.channels[index].name.span;
        let message = format!("on `{channel}`, `{}` cannot be told apart: {why}", name.text);
        self.report(Finding::new(Code::NoMessageKey, name.span, message, help).related(place, "the channel"));
    }

    /// The id of a message, if the channel's frames have room for it.
    fn id_on(&mut self, channel: &Direction, message: &MessagePlan, item: &MessageItem, index: usize) -> Option<u64> {
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

    fn fits(&mut self, index: usize, channel: &Direction, body: usize, name: &Name) {
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
        if channel.medium.kind.carriage() == (Carriage::Can { fd: true })
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
