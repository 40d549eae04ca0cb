//! Frames: where their parts lie, what lengths count and checksums cover, and whether a receiver can find them.

use super::{Resolver, Style};
use crate::diagnostics::{Code, Finding};
use crate::plan::{Bound, Covered, Direction, FrameFinder, Part, Role, Zone};
use crate::syntax::ast::{FrameItem, Name, Number, PartItem, PartKind, RoleItem};

/// A part's place: the zone, its first bit, and one past its last bit; the body has none.
#[derive(Clone, Copy)]
pub(super) enum Extent {
    Bits(Zone, u32, u32),
    Body,
}

impl Resolver<'_> {
    /// Lays out a frame and gives its parts their roles.
    pub(super) fn frame(&mut self, frame: &FrameItem, channel: &mut Direction) -> Option<()> {
        let extents = self.extents(frame, channel)?;
        self.roles(frame, &extents, channel)?;
        self.finder(frame, channel);
        Some(())
    }

    /// Lays the parts out by the rules of fields.
    fn extents(&mut self, frame: &FrameItem, channel: &mut Direction) -> Option<Vec<Extent>> {
        let mut extents: Vec<Extent> = Vec::new();
        let (mut zone, mut bit) = (Zone::Head, 0u32);
        let mut fine = true;
        for (index, part) in frame.parts.iter().enumerate() {
            if let Some(first) = frame.parts[..index].iter().find(|other| other.name.text == part.name.text) {
                let message = format!("this frame already has a part `{}`", part.name.text);
                let help = "a frame has one body, sync bytes once, and parts with different names";
                self.report(
                    Finding::new(Code::DuplicateName, part.name.span, message, help)
                        .related(first.name.span, "first used here"),
                );
                fine = false;
                continue;
            }
            let bits = match &part.kind {
                PartKind::Sync(bytes) => {
                    if index != 0 {
                        self.report(Finding::new(
                            Code::BadPart,
                            part.name.span,
                            "sync bytes can only begin a frame: a receiver starts looking there",
                            "move `sync` to the top, or write a part with a fixed value: `mark : u16 = 0xC639`",
                        ));
                        fine = false;
                    }
                    channel.sync = bytes.clone();
                    bytes.len() as u32 * 8
                }
                PartKind::Body => {
                    channel.head_bytes = bit.div_ceil(8) as usize;
                    extents.push(Extent::Body);
                    (zone, bit) = (Zone::Tail, 0);
                    continue;
                }
                PartKind::Value { bits, hex, .. } => {
                    self.style(&part.name, Style::LowerSnake, "part");
                    u32::from(*bits) * if *hex { 2 } else { 1 }
                }
            };
            extents.push(Extent::Bits(zone, bit, bit + bits));
            bit += bits;
        }
        if zone == Zone::Head {
            self.report(Finding::new(
                Code::MissingPart,
                frame.span,
                "this frame has no `body`: nowhere for the message to go",
                "put `body` between the parts before and after the message",
            ));
            return None;
        }
        channel.tail_bytes = bit.div_ceil(8) as usize;
        fine.then_some(extents)
    }

    fn index_of(&mut self, frame: &FrameItem, name: &Name) -> Option<usize> {
        let found = frame.parts.iter().position(|part| part.name.text == name.text);
        if found.is_none() {
            self.unknown_name(name, "part", frame.parts.iter().map(|part| part.name.text.as_str()));
        }
        found
    }

    /// The stretch from the start of one part to the end of another, which must lie at byte boundaries.
    fn stretch(
        &mut self,
        frame: &FrameItem,
        extents: &[Extent],
        head_bytes: usize,
        (from, to): (&Name, &Name),
    ) -> Option<(usize, usize, Covered)> {
        let span = from.span.to(to.span);
        let (first, last) = (self.index_of(frame, from)?, self.index_of(frame, to)?);
        if first > last {
            self.report(Finding::new(
                Code::BadSpan,
                span,
                format!("`{}` comes after `{}` in the frame", from.text, to.text),
                format!("write `{}..{}`", to.text, from.text),
            ));
            return None;
        }
        let uneven = |name: &Name| {
            Finding::new(
                Code::BadSpan,
                span,
                format!(
                    "`{}` does not lie at a byte boundary, and only whole bytes can be counted or summed",
                    name.text
                ),
                "begin and end the range with parts at byte boundaries",
            )
        };
        let start = match extents[first] {
            Extent::Body => Bound::Head(head_bytes),
            Extent::Bits(_, bit, _) if bit % 8 != 0 => {
                self.report(uneven(from));
                return None;
            }
            Extent::Bits(Zone::Head, bit, _) => Bound::Head(bit as usize / 8),
            Extent::Bits(Zone::Tail, bit, _) => Bound::Tail(bit as usize / 8),
        };
        // The last part of a zone is filled up to the byte boundary.
        let ends_zone = |index: usize| match extents.get(index + 1) {
            None | Some(Extent::Body) => true,
            Some(Extent::Bits(..)) => false,
        };
        let end = match extents[last] {
            Extent::Body => Bound::Tail(0),
            Extent::Bits(_, _, bit) if bit % 8 != 0 && !ends_zone(last) => {
                self.report(uneven(to));
                return None;
            }
            Extent::Bits(Zone::Head, _, bit) => Bound::Head(bit.div_ceil(8) as usize),
            Extent::Bits(Zone::Tail, _, bit) => Bound::Tail(bit.div_ceil(8) as usize),
        };
        Some((first, last, Covered { from: start, to: end }))
    }

    /// A value that a part with so many bits has to hold.
    fn part_value(&mut self, number: Number, bits: u8) -> Option<u64> {
        let most = if bits == 64 { i128::from(u64::MAX) } else { (1 << bits) - 1 };
        let value = number.value.as_integer().filter(|n| (0..=most).contains(n));
        if value.is_none() {
            let message = format!("{} does not fit into {bits} bits", number.value);
            let help = format!("choose a whole number from 0 to {most}, or widen the part");
            self.report(Finding::new(Code::BadPart, number.span, message, help));
        }
        value.map(|value| value as u64)
    }

    /// The role of a part that repeats an earlier one.
    fn same(&mut self, other: &Name, inverted: bool, bits: u8, frame: &FrameItem, channel: &Direction) -> Option<Role> {
        self.index_of(frame, other)?;
        let found = channel.parts.iter().position(|part| part.name == other.text);
        let problem = match found.map(|part| &channel.parts[part]) {
            None => "has no value that stands before this part".to_owned(),
            Some(part) if matches!(part.role, Role::Checksum { .. }) => {
                "is a checksum, which is worked out last".into()
            }
            Some(part) if part.bits != bits => format!("has {} bits, and this part {bits}", part.bits),
            Some(_) => return found.map(|part| Role::Same { part, inverted }),
        };
        let message = format!("`{}` cannot stand here again: it {problem}", other.text);
        let help = "name an earlier part of the same width: `again : u8 same as size`";
        self.report(Finding::new(Code::BadPart, other.span, message, help));
        None
    }

    fn roles(&mut self, frame: &FrameItem, extents: &[Extent], channel: &mut Direction) -> Option<()> {
        let mut fine = true;
        for (index, (part, extent)) in frame.parts.iter().zip(extents).enumerate() {
            let (PartKind::Value { bits, hex, order, role, span }, Extent::Bits(zone, at_bit, end_bit)) =
                (&part.kind, *extent)
            else {
                continue;
            };
            if let Some((_, span)) = order
                && !*hex
                && (at_bit % 8 != 0 || bits % 8 != 0)
            {
                let message = "only whole bytes at a byte boundary have an order of their own";
                let help = "take the word out, or widen the part to whole bytes";
                self.report(Finding::new(Code::BadByteOrder, *span, message, help));
                fine = false;
            }
            if *hex && (at_bit % 8 != 0 || order.is_some()) {
                let message = "hex digits are whole bytes of text, the most significant one first";
                let help = "begin the part at a byte boundary, and write no byte order";
                self.report(Finding::new(Code::BadPart, *span, message, help));
                fine = false;
            }
            let once = |channel: &Direction, wanted: fn(&Role) -> bool| channel.part(wanted).is_none();
            let (role, first) = match role {
                RoleItem::Message => (Role::Message, once(channel, |r| *r == Role::Message)),
                RoleItem::Address { all } => {
                    channel.broadcast = all.and_then(|number| self.part_value(number, *bits));
                    fine &= all.is_none() || channel.broadcast.is_some();
                    (Role::Address, once(channel, |r| *r == Role::Address))
                }
                RoleItem::Same { part: other, inverted } => {
                    let Some(role) = self.same(other, *inverted, *bits, frame, channel) else {
                        fine = false;
                        continue;
                    };
                    (role, true)
                }
                RoleItem::Sequence => (Role::Sequence, once(channel, |r| *r == Role::Sequence)),
                RoleItem::Revision => (Role::Revision, once(channel, |r| *r == Role::Revision)),
                RoleItem::Fixed(number) => match self.part_value(*number, *bits) {
                    Some(value) => (Role::Fixed(value), true),
                    None => {
                        fine = false;
                        continue;
                    }
                },
                RoleItem::Length { from, to, unit } => {
                    let head_bytes = channel.head_bytes;
                    let Some((a, b, covered)) = self.stretch(frame, extents, head_bytes, (from, to)) else {
                        fine = false;
                        continue;
                    };
                    if !extents[a..=b].iter().any(|extent| matches!(extent, Extent::Body)) {
                        self.report(Finding::new(
                            Code::BadPart,
                            *span,
                            "this length does not count the body, so it is always the same",
                            "count from any part to any part, with the body among them: `length of body`",
                        ));
                        fine = false;
                        continue;
                    }
                    // With an empty body, what is counted is what lies around it.
                    let other_bytes = covered.to.at(head_bytes) - covered.from.at(head_bytes);
                    let role = Role::Length { other_bytes, unit: *unit as usize };
                    (role, once(channel, |r| matches!(r, Role::Length { .. })))
                }
                RoleItem::Checksum { algorithm, name, over, skipping } => {
                    if *bits < algorithm.bits() {
                        let message = format!("`{name}` has {} bits, but this part has {bits}", algorithm.bits());
                        let wide = algorithm.bits();
                        let wide = if *hex { format!("hex{}", wide.div_ceil(4)) } else { format!("u{wide}") };
                        let help = format!("write `{} : {wide} …`", part.name.text);
                        self.report(Finding::new(Code::BadPart, *span, message, help));
                        fine = false;
                        continue;
                    }
                    if at_bit % 8 != 0 || end_bit % 8 != 0 {
                        let message = "a checksum part lies at a byte boundary and fills whole bytes";
                        let help =
                            "put the narrow parts together so that they fill bytes, and widen this one to whole bytes";
                        self.report(Finding::new(Code::BadPart, *span, message, help));
                        fine = false;
                        continue;
                    }
                    let (mut covered, mut protects) = (Vec::new(), false);
                    for (from, to) in over {
                        let head_bytes = channel.head_bytes;
                        let Some((a, b, bytes)) = self.stretch(frame, extents, head_bytes, (from, to)) else {
                            continue;
                        };
                        protects |= (a..=b).any(|at| at < index || !is_checksum(&frame.parts[at]));
                        covered.push(bytes);
                    }
                    if covered.len() == over.len() && !protects {
                        self.report(Finding::new(
                            Code::BadSpan,
                            *span,
                            format!("`{}` covers no byte but its own and those of later checksums", part.name.text),
                            "cover what it protects: from the first part that may be damaged to the last one",
                        ));
                        fine = false;
                    }
                    fine &= covered.len() == over.len();
                    let role = Role::Checksum {
                        algorithm: *algorithm,
                        name: name.clone(),
                        over: covered,
                        skipping: *skipping,
                    };
                    (role, true)
                }
            };
            if !first {
                let message = format!("an earlier part of this frame already has the role of `{}`", part.name.text);
                let help = "only checksums and fixed values may stand in a frame more than once";
                self.report(Finding::new(Code::BadPart, *span, message, help));
                fine = false;
                continue;
            }
            channel.parts.push(Part {
                name: part.name.text.clone(),
                doc: part.doc.clone(),
                bits: *bits,
                hex: *hex,
                zone,
                at_bit,
                order: order.map_or(channel.byte_order, |(order, _)| order),
                role,
            });
        }
        fine.then_some(())
    }

    /// Whether a receiver can tell where frames begin and end.
    fn finder(&mut self, frame: &FrameItem, channel: &Direction) {
        let length = channel.part(|role| matches!(role, Role::Length { .. }));
        if length.is_some_and(|part| part.zone == Zone::Tail) {
            let message = "the length comes after the body whose end it should tell";
            self.report(Finding::new(Code::NoFrameEnd, frame.span, message, "move the length part before `body`"));
            return;
        }
        match channel.finder {
            // Without a length part the sizes of the messages must do, which are looked at when they are known.
            FrameFinder::Sync if !channel.sync.is_empty() => {}
            // Frames that follow each other without a gap need no beginning, if no byte is lost, or a checksum tells.
            FrameFinder::Sync
                if channel.medium.kind.loses_nothing()
                    || channel.part(|role| matches!(role, Role::Checksum { .. })).is_some() => {}
            FrameFinder::Escaped(escape)
                if channel.sync.first().is_some_and(|first| escape.escaped.contains(*first)) =>
            {
                if length.is_none() && channel.terminator().is_empty() {
                    let some = escape.escaped.iter().find(|byte| *byte != escape.escape).unwrap_or(escape.escape);
                    self.report(Finding::new(
                        Code::NoFrameEnd,
                        frame.span,
                        "nothing tells a receiver where a frame ends",
                        format!(
                            "add a length part: `size : u8 length of body`; or end the frame with a byte that is escaped: \
                             `end : u8 = 0x{some:02X}`"
                        ),
                    ));
                }
            }
            FrameFinder::Escaped(_) if !channel.sync.is_empty() => {
                let message = format!(
                    "the sync byte {:02X} is not escaped, and so can occur in the rest of a frame",
                    channel.sync[0]
                );
                let help =
                    format!("add it to the bytes after `of` in `stuffing escape …`: `of … {:02X}`", channel.sync[0]);
                self.report(Finding::new(Code::BadStuffing, frame.span, message, help));
            }
            FrameFinder::Sync | FrameFinder::Escaped(_) => self.report(Finding::new(
                Code::NoFrameEnd,
                frame.span,
                "nothing tells a receiver where a frame begins",
                "begin the frame with sync bytes (`sync C6 39`), or write `stuffing cobs` in the channel",
            )),
            FrameFinder::StatusBytes { .. } => {
                let key = channel.key_part().filter(|part| part.bits == 8 && !part.hex);
                if key.is_none() || channel.head_bytes != 1 || channel.tail_bytes != 0 {
                    let message = "a frame that begins with a status byte has that byte, and the body";
                    let help = "write `frame { status : u8 message`, then `body }` on a line of its own";
                    self.report(Finding::new(Code::BadStatus, frame.span, message, help));
                }
            }
            FrameFinder::Stuffed(_) | FrameFinder::Idle { .. } | FrameFinder::Packet | FrameFinder::Lines { .. } => {}
        }
    }
}

/// Whether a part is a checksum.
fn is_checksum(part: &PartItem) -> bool {
    matches!(&part.kind, PartKind::Value { role: RoleItem::Checksum { .. }, .. })
}
