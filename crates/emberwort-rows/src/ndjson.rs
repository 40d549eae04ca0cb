//! Rows as NDJSON: an object for each frame, in a line of its own. `docs/rows.md` lists the keys.

use std::fmt::Write as _;

use emberwort_capture::{BrokenFrame, DefinitionId, Item, RevisionMap, Row, StrayBytes};
use emberwort_model::hex::write_hex;
use emberwort_model::ids::ChannelId;
use emberwort_model::medium::usb::packet_text;
use emberwort_model::model::End;
use emberwort_model::number::write_integer;
use emberwort_text::json;
use emberwort_wire::{FrameFault, Time};

use crate::form::{Form, PreviousItem};
use crate::row_context::{RowContext, Shown};
use crate::text_buffer::{ShortText, TextBuffer};
use crate::time::Calendar;

pub struct Ndjson {
    context: RowContext,
    calendar: Calendar,
    /// What was written last for a channel and a direction.
    last_stream: Option<((ChannelId, Option<End>), ShortText)>,
}

// Writing to memory cannot fail. Names are identifiers, which need no escapes.
impl Ndjson {
    pub fn new(context: RowContext) -> Self {
        Self { context, calendar: Calendar::default(), last_stream: None }
    }

    fn begin(
        &mut self,
        frame: Option<u64>,
        (began, time): (Option<Time>, Option<Time>),
        offset: u64,
        channel: ChannelId,
        from: Option<End>,
        out: &mut TextBuffer,
    ) {
        out.push('{');
        if let Some(frame) = frame {
            number("\"frame\":", Some(frame), out);
            out.push(',');
        }
        if let Some(began) = began {
            out.push_str("\"began\":\"");
            self.calendar.write_rfc3339(began, out);
            out.push_str("\",");
        }
        match time {
            Some(time) => {
                out.push_str("\"time\":\"");
                self.calendar.write_rfc3339(time, out);
                out.push('"');
            }
            None => number("\"offset\":", Some(offset), out),
        }
        if let Some((last, text)) = &self.last_stream
            && *last == (channel, from)
        {
            return out.push_short(text);
        }
        let start = out.len();
        out.push_str(",\"channel\":\"");
        out.push_str(self.context.channel(channel));
        if let Some(from) = from {
            out.push_str("\",\"direction\":\"");
            out.push_str(from.as_str());
        }
        out.push('"');
        self.last_stream = out.short_since(start).map(|text| ((channel, from), text));
    }

    /// The texts beside values, by field.
    fn labels(&self, row: &Row<'_>, out: &mut TextBuffer) {
        let mut separator = ",\"labels\":{";
        for &slot in &self.context.reading(row).slots {
            let Some(label) = self.context.label(row, slot) else { continue };
            let name = &row.plan.messages[row.message].message.fields[slot].name;
            let _ = write!(out, "{separator}\"{name}\":");
            let _ = json::write_string(label, out);
            separator = ",";
        }
        if separator == "," {
            out.push('}');
        }
    }

    /// The fields that the definition has and the sender's revision lacks.
    fn lacks(&self, row: &Row<'_>, out: &mut TextBuffer) {
        let message = &row.plan.messages[row.message];
        let held = row.values.sections();
        // Lines have no sections.
        let later = message.sections.get(held.max(1)).map_or(u32::MAX, |section| section.revision);
        let reading = self.context.reading(row);
        if later == u32::MAX && reading.lacks.is_empty() {
            return;
        }
        let assumed = message.message.fields.iter().filter(|field| field.since >= later && !field.is_spare());
        let names = assumed.map(|field| field.name.as_str()).chain(reading.lacks.iter().map(String::as_str));
        let names: Vec<&str> = names.collect();
        if !names.is_empty() {
            let _ = write!(out, ",\"lacks\":[\"{}\"]", names.join("\",\""));
        }
    }
}

/// A key, written as it is, and its number, if there is one.
fn number(key: &str, value: Option<u64>, out: &mut TextBuffer) {
    if let Some(value) = value {
        out.push_str(key);
        let _ = write_integer(out, value);
    }
}

fn bytes(key: &str, bytes: &[u8], out: &mut TextBuffer) {
    out.push_str(key);
    let _ = write_hex(bytes, out);
    out.push('"');
}

impl Form for Ndjson {
    fn resume(&mut self, _: PreviousItem) {}

    fn update_revisions(&mut self, revisions: &RevisionMap) {
        self.context.update_revisions(revisions);
    }

    fn row(&mut self, row: &Row<'_>, out: &mut TextBuffer) {
        self.begin(Some(row.number), (Item::Row(row).began(), row.time), row.offset, row.channel, Some(row.from), out);
        number(",\"node\":", row.frame.node, out);
        if let Some(label) = self.context.node_label(row.frame.node) {
            out.push_str(",\"node_label\":");
            let _ = json::write_string(label, out);
        }
        number(",\"sequence\":", row.frame.sequence, out);
        let assumed = || self.context.assumed_revision(row).map(u64::from);
        number(",\"revision\":", row.frame.revision.or_else(assumed), out);
        if row.definition != DefinitionId::default() {
            number(",\"read_as_revision\":", Some(u64::from(row.plan.link.revision)), out);
        }
        self.lacks(row, out);
        let later = row.values.later_bytes() as u64;
        number(",\"later_bytes\":", Some(later).filter(|later| *later > 0), out);
        if !self.context.is_lossless(row) {
            bytes(",\"body\":\"", row.frame.body, out);
        }
        out.push_str(",\"message\":\"");
        out.push_str(&row.plan.messages[row.message].message.name);
        out.push_str("\",\"fields\":{");
        let start = out.len();
        let write = |_: &_, shown: &Shown<'_>, out: &mut TextBuffer| {
            out.push('"');
            out.push_str(&shown.field.name);
            out.push_str("\":");
            shown.write_json(out);
            out.push(',');
        };
        self.context.write_fields(row, out, &mut (), write);
        if out.len() > start {
            // The last comma.
            out.truncate(out.len() - 1);
        }
        out.push('}');
        self.labels(row, out);
        out.push_str("}\n");
    }

    fn broken(&mut self, broken: &BrokenFrame<'_>, out: &mut TextBuffer) {
        self.begin(
            Some(broken.number),
            (Item::Broken(broken).began(), broken.time),
            broken.offset,
            broken.channel,
            broken.from,
            out,
        );
        number(",\"node\":", broken.frame.and_then(|frame| frame.node), out);
        number(",\"sequence\":", broken.frame.and_then(|frame| frame.sequence), out);
        let name = if broken.is_unread() { "unread" } else { "broken" };
        let _ = write!(out, ",\"{name}\":\"{}\"", broken.fault.reason());
        if let FrameFault::UnknownMessage { key } = broken.fault {
            number(",\"key\":", Some(*key), out);
        }
        match *broken.fault {
            FrameFault::Checksum { part, expected, found } | FrameFault::Fixed { part, expected, found } => {
                let part = &broken.direction.parts[part];
                let digits = usize::from(part.bits).div_ceil(4);
                out.push_str(",\"part\":");
                let _ = json::write_string(&part.name, out);
                let _ = write!(out, ",\"expected\":\"0x{expected:0digits$X}\",\"found\":\"0x{found:0digits$X}\"");
            }
            _ => {
                out.push_str(",\"detail\":");
                let _ = json::write_string(&self.context.sentence(broken), out);
            }
        }
        bytes(",\"bytes\":\"", broken.wire, out);
        out.push_str("}\n");
    }

    fn stray(&mut self, stray: &StrayBytes<'_>, out: &mut TextBuffer) {
        self.begin(None, (Item::Stray(stray).began(), stray.time), stray.offset, stray.channel, stray.from, out);
        if stray.is_packet {
            out.push_str(",\"packet\":");
            let _ = json::write_string(&packet_text(stray.wire), out);
        } else {
            number(",\"stray\":", Some(stray.wire.len() as u64), out);
        }
        bytes(",\"bytes\":\"", stray.wire, out);
        out.push_str("}\n");
    }
}
