//! Channels: how frames are found on their medium, which key selects which message, and what fits.

use super::Resolver;
use crate::diagnostics::{Code, Finding};
use crate::medium::Encapsulation;
use crate::model::{Base, End, Medium, MediumKind};
use crate::number::Decimal;
use crate::plan::{Channel, Direction, FrameFinder, KeySource, Role};
use crate::source::Span;
use crate::syntax::ast::{ChannelItem, FrameEnd, FrameItem, KeyKind};

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
            KeyKind::Port => (medium.has_ports(), KeySource::Port, "`udp` and `lora` have"),
            KeyKind::CanId => {
                (matches!(medium.encapsulation(), Encapsulation::Can { .. }), KeySource::CanId, "`can` has")
            }
            KeyKind::Endpoint => (medium.has_endpoints(), KeySource::Endpoint, "`usb` has"),
            KeyKind::Size => (channel.finder.separates(), KeySource::Size, "packets have"),
        };
        if !fits {
            let message = format!("`{}` has no {} to select messages by: only {media}", medium.as_str(), kind.as_str());
            let help = "let a frame part with the role `message` select the message";
            self.report(Finding::new(Code::BadSelect, span, message, help));
            return None;
        }
        Some(source)
    }
}
