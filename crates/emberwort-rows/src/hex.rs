//! Rows as annotated hex: each byte with the letter of what it is, and below it what the letters mean.

use std::fmt::Write as _;

use emberwort_capture::anatomy::{Stretch, StretchKind, anatomy, direction};
use emberwort_capture::{BrokenFrame, Item, RevisionMap, Row, StrayBytes};
use emberwort_model::diagnostics::escaped;
use emberwort_model::hex::write_hex;
use emberwort_model::plan::{Direction, Role};
use emberwort_wire::{ValueRef, bits};

use crate::cells::has_unit;
use crate::form::{Form, PreviousItem, RowStyle};
use crate::paint::Paint;
use crate::row_context::{RowContext, write_value};
use crate::table::Lines;
use crate::text_buffer::TextBuffer;

/// So many bytes stand in a line.
const BYTES: usize = 16;

pub struct Hex {
    context: RowContext,
    style: RowStyle,
    lines: Lines,
}

impl Hex {
    pub fn new(context: RowContext, revisions: &RevisionMap, style: RowStyle) -> Self {
        Self { context, lines: Lines::new(revisions, style.clone()), style }
    }
}

/// The letter of a stretch: a to z, A to Z, and again.
fn letter(index: usize) -> char {
    char::from(b"abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ"[index % 52])
}

/// Where bits lie: `byte 4`, `bytes 6 to 7`, `byte 6, bits 0 to 2`.
pub fn place(bits: &std::ops::Range<usize>) -> String {
    let (first, last) = (bits.start / 8, bits.end.saturating_sub(1) / 8);
    let is_whole = bits.start.is_multiple_of(8) && bits.end.is_multiple_of(8);
    let bytes = if first == last { format!("byte {first}") } else { format!("bytes {first} to {last}") };
    match is_whole {
        true => bytes,
        false if first == last && bits.len() == 1 => format!("{bytes}, bit {}", bits.start % 8),
        false if first == last => format!("{bytes}, bits {} to {}", bits.start % 8, (bits.end - 1) % 8),
        false => format!("byte {first}, bit {} to byte {last}, bit {}", bits.start % 8, (bits.end - 1) % 8),
    }
}

/// The name of a stretch, and what it holds.
pub fn meaning(row: &Row<'_>, direction: &Direction, stretch: &Stretch, raw: bool) -> (String, String) {
    let bytes = &row.frame.bytes[stretch.bits.start / 8..stretch.bits.end.div_ceil(8).min(row.frame.bytes.len())];
    let mut hex = String::new();
    let _ = write_hex(bytes, &mut hex);
    match &stretch.kind {
        StretchKind::Sync => ("(sync)".to_owned(), hex),
        StretchKind::Rest | StretchKind::Presence => {
            let whole = stretch.bits.start.is_multiple_of(8) && stretch.bits.end.is_multiple_of(8);
            let held = match stretch.bits.len() {
                length @ 1..=64 if !whole => {
                    let code = bits::read(row.frame.bytes, stretch.bits.start, length as u8, direction.byte_order);
                    format!("{code:0length$b} in bits")
                }
                _ => hex,
            };
            let name = if matches!(stretch.kind, StretchKind::Presence) { "(presence)" } else { "(unused)" };
            (name.to_owned(), held)
        }
        StretchKind::Part(index) => {
            let part = &direction.parts[*index];
            let said = match &part.role {
                Role::Message => format!("message {}", row.plan.messages[row.message].message.name),
                Role::Length { .. } => "length".to_owned(),
                Role::Address => row.frame.node.map_or_else(String::new, |node| format!("node {node}")),
                Role::Sequence => row.frame.sequence.map_or_else(String::new, |number| format!("sequence {number}")),
                Role::Revision => {
                    row.frame.revision.map_or_else(String::new, |revision| format!("revision {revision}"))
                }
                Role::Checksum { name, .. } => name.clone(),
                Role::Fixed(_) => "constant".to_owned(),
                Role::Same { .. } => "said again".to_owned(),
            };
            (format!("({})", part.name), format!("{hex}  {said}"))
        }
        StretchKind::Value { name, field, slot } => {
            let mut text = String::new();
            // A slot of the row's own values, unless it was read in another way.
            if *slot < row.plan.messages[row.message].message.fields.len() {
                write_value(row.plan, row.from, field, (row.values, *slot), raw, &mut text);
                if has_unit(field, row.values.get(*slot)) && !raw {
                    let _ = write!(text, " {}", field.unit);
                }
                if let ValueRef::Raw(code) = row.values.get(*slot) {
                    let _ = write!(text, "  raw {}", emberwort_wire::values::signed(&field.kind, code));
                }
            } else {
                text = hex;
            }
            (name.clone(), text)
        }
    }
}

impl Form for Hex {
    fn resume(&mut self, _: PreviousItem) {}

    fn update_revisions(&mut self, revisions: &RevisionMap) {
        self.context.update_revisions(revisions);
        self.lines.update_revisions(revisions);
    }

    fn row(&mut self, row: &Row<'_>, out: &mut TextBuffer) {
        let style = &self.style;
        let when = self.style.when(Item::Row(row));
        let channel = self.context.channel(row.channel);
        let heading = format!(
            "#{}  {} {} on {channel}, {when}",
            row.number,
            row.plan.messages[row.message].message.name,
            self.context.sender(row),
        );
        out.push_str(&style.paint(Paint::Bold, heading));
        out.push('\n');
        let Some(direction) = direction(row, channel) else { return };
        let stretches = anatomy(row, direction);
        let of_byte = |at: usize| {
            let mut inside = stretches
                .iter()
                .enumerate()
                .filter(|(_, stretch)| stretch.bits.start < at * 8 + 8 && stretch.bits.end > at * 8);
            inside.next().map(|(index, _)| (index, inside.next().is_some()))
        };
        for (line, bytes) in row.frame.bytes.chunks(BYTES).enumerate() {
            let (mut hex, mut letters) = (format!("  {:04x} ", line * BYTES), " ".repeat(7));
            for (n, byte) in bytes.iter().enumerate() {
                let found = of_byte(line * BYTES + n);
                let shade = |text: String| match found {
                    Some((index, _)) if index % 2 == 1 => style.paint(Paint::Bold, text),
                    _ => style.paint(Paint::Dim, text),
                };
                hex += &format!(" {}", shade(format!("{byte:02X}")));
                let mark = match found {
                    Some((index, false)) => format!("{} ", letter(index)),
                    Some((index, true)) => format!("{}+", letter(index)),
                    None => "  ".to_owned(),
                };
                letters += &format!(" {mark}");
            }
            out.push_str(&hex);
            out.push('\n');
            out.push_str(letters.trim_end());
            out.push('\n');
        }
        let named: Vec<(String, String)> =
            stretches.iter().map(|stretch| meaning(row, direction, stretch, self.style.raw)).collect();
        let widest = named.iter().map(|(name, _)| name.len()).max().unwrap_or(0);
        for (index, (name, text)) in named.iter().enumerate() {
            let (letter, place) = (letter(index), place(&stretches[index].bits));
            let label = match stretches[index].kind {
                StretchKind::Value { slot, .. } if slot < row.plan.messages[row.message].message.fields.len() => {
                    self.context.label(row, slot)
                }
                _ => None,
            };
            let label = label.map_or_else(String::new, |label| format!("  ({})", escaped(label)));
            let line = format!("  {letter}  {name:widest$}  {:<28}  {place}{label}", escaped(text));
            out.push_str(&crate::lines::wrapped(self.style.width, &line, "       "));
            out.push('\n');
        }
    }

    fn broken(&mut self, broken: &BrokenFrame<'_>, out: &mut TextBuffer) {
        let _ = write!(out, "#{}  ", broken.number);
        self.lines.broken(&self.context, broken, out);
    }

    fn stray(&mut self, stray: &StrayBytes<'_>, out: &mut TextBuffer) {
        self.lines.stray(&self.context, stray, out);
    }
}

/// The bytes themselves, as they came: a stream that another program can read.
pub struct Bytes;

impl Form for Bytes {
    fn resume(&mut self, _: PreviousItem) {}

    fn update_revisions(&mut self, _: &RevisionMap) {}

    fn row(&mut self, row: &Row<'_>, out: &mut TextBuffer) {
        out.push_bytes(row.wire);
    }

    fn broken(&mut self, broken: &BrokenFrame<'_>, out: &mut TextBuffer) {
        out.push_bytes(broken.wire);
    }

    fn stray(&mut self, stray: &StrayBytes<'_>, out: &mut TextBuffer) {
        // What carries no message is none of the stream.
        if !stray.is_packet {
            out.push_bytes(stray.wire);
        }
    }
}
