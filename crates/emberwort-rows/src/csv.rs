//! Rows as CSV (RFC 4180): a line for each value.

use emberwort_capture::{BrokenFrame, Item, RevisionMap, Row, StrayBytes};
use emberwort_model::counting::plural;
use emberwort_model::hex::write_hex;
use emberwort_model::ids::ChannelId;
use emberwort_model::medium::usb::packet_text;
use emberwort_model::model::End;
use emberwort_model::number::write_integer;
use emberwort_wire::{Time, ValueRef};

use crate::form::{Form, PreviousItem};
use crate::row_context::{FieldMarkup, MessageReading, RowContext, Shown};
use crate::text_buffer::TextBuffer;
use crate::time::Calendar;

const HEADING: &str = "time,offset,channel,direction,node,message,field,value,unit,raw,read_as_revision,sequence";

pub struct Csv {
    context: RowContext,
    calendar: Calendar,
    started: bool,
    /// The cells that all lines of a frame begin with, and those that they end with.
    first: TextBuffer,
    last: TextBuffer,
    value: String,
    /// Whether there is a column for when the first bit began.
    has_begins: bool,
}

/// A cell, in quotes where it needs them. Text that a spreadsheet would take for a formula has an apostrophe in front.
pub fn cell(text: &str, out: &mut impl std::fmt::Write) {
    let is_formula = match text.as_bytes().first() {
        Some(b'=' | b'@' | b'\t' | b'\r') => true,
        Some(b'+' | b'-') => text.parse::<f64>().is_err(),
        _ => false,
    };
    let guard = if is_formula { "'" } else { "" };
    // Writing to memory cannot fail.
    let _ = if text.bytes().any(|byte| matches!(byte, b',' | b'"' | b'\n' | b'\r')) {
        write!(out, "\"{guard}{}\"", text.replace('"', "\"\""))
    } else if is_formula {
        write!(out, "{guard}{text}")
    } else {
        out.write_str(text)
    };
}

/// A cell with a number, if there is one, and the comma in front of it.
fn number(value: Option<u64>, out: &mut TextBuffer) {
    out.push(',');
    if let Some(value) = value {
        // Writing to memory cannot fail.
        let _ = write_integer(out, value);
    }
}

/// The cells in front of those of a field, and those behind them.
struct Cells<'a> {
    first: &'a TextBuffer,
    last: &'a TextBuffer,
    /// Whether there is a column for the text beside the value, and that text.
    has_labels: bool,
    label: String,
}

impl FieldMarkup for Cells<'_> {
    fn before(&mut self, _slot: usize, out: &mut TextBuffer) {
        out.push_all(self.first);
    }

    fn after(&mut self, out: &mut TextBuffer) {
        out.push_all(self.last);
        if self.has_labels {
            out.push(',');
            cell(&self.label, out);
            self.label.clear();
        }
        out.push('\n');
    }

    fn label(&mut self, label: &str, _: &mut TextBuffer) {
        label.clone_into(&mut self.label);
    }
}

impl Csv {
    pub fn new(context: RowContext, has_begins: bool) -> Self {
        let (first, last) = Default::default();
        Self { context, calendar: Calendar::default(), started: false, first, last, value: String::new(), has_begins }
    }

    /// The heading, before the first line; then the cells up to the node.
    fn begin(
        &mut self,
        (time, offset): (Option<Time>, u64),
        (channel, from, node): (ChannelId, Option<End>, Option<u64>),
        out: &mut TextBuffer,
    ) {
        if !self.started {
            out.push_str(HEADING);
            out.push_str(if self.has_begins { ",began" } else { "" });
            out.push_str(if self.context.labels.is_some() { ",node_label,label\n" } else { "\n" });
            self.started = true;
        }
        self.first.clear();
        if let Some(time) = time {
            self.calendar.write_rfc3339(time, &mut self.first);
        }
        number(Some(offset), &mut self.first);
        self.first.push(',');
        self.first.push_str(self.context.channel(channel));
        self.first.push(',');
        self.first.push_str(from.map_or("", End::as_str));
        number(node, &mut self.first);
    }

    /// The cell that says when the first bit began, if there is that column.
    fn begins(&mut self, began: Option<Time>) -> String {
        let mut text = String::new();
        if self.has_begins {
            text.push(',');
            if let Some(began) = began {
                let mut time = TextBuffer::default();
                self.calendar.write_rfc3339(began, &mut time);
                text.push_str(&String::from_utf8_lossy(time.as_bytes()));
            }
        }
        text
    }

    /// The line about what is no row.
    fn other(&mut self, what: &str, sentence: &str, (wire, began): (&[u8], Option<Time>), out: &mut TextBuffer) {
        let began = self.begins(began);
        out.push_all(&self.first);
        out.push(',');
        out.push_str(what);
        out.push_str(",,");
        cell(sentence, out);
        out.push_str(",,");
        let _ = write_hex(wire, out);
        out.push_str(",,");
        out.push_str(&began);
        out.push_str(if self.context.labels.is_some() { ",,\n" } else { "\n" });
    }
}

impl Form for Csv {
    fn resume(&mut self, before: PreviousItem) {
        self.started = before.something;
    }

    fn update_revisions(&mut self, revisions: &RevisionMap) {
        self.context.update_revisions(revisions);
    }

    fn row(&mut self, row: &Row<'_>, out: &mut TextBuffer) {
        self.begin((row.time, row.offset), (row.channel, Some(row.from), row.frame.node), out);
        let message = &row.plan.messages[row.message].message;
        self.first.push(',');
        self.first.push_str(&message.name);
        self.first.push(',');
        self.last.clear();
        number(Some(u64::from(row.plan.link.revision)), &mut self.last);
        number(row.frame.sequence, &mut self.last);
        let began = self.begins(Item::Row(row).began());
        self.last.push_str(&began);
        let has_labels = self.context.labels.is_some();
        if has_labels {
            self.last.push(',');
            cell(self.context.node_label(row.frame.node).unwrap_or_default(), &mut self.last);
        }
        let room = &mut self.value;
        let write = |reading: &MessageReading, shown: &Shown<'_>, out: &mut TextBuffer| {
            out.push_str(&shown.field.name);
            out.push(',');
            room.clear();
            shown.write(room);
            cell(room, out);
            out.push(',');
            cell(&reading.units[shown.slot], out);
            out.push(',');
            let _ = match shown.value() {
                ValueRef::Raw(raw) => write_integer(out, emberwort_wire::values::signed(&shown.field.kind, raw)),
                ValueRef::Bytes(bytes) => write_hex(bytes, out),
                _ => Ok(()),
            };
        };
        self.context.write_fields(
            row,
            out,
            &mut Cells { first: &self.first, last: &self.last, has_labels, label: String::new() },
            write,
        );
    }

    fn broken(&mut self, broken: &BrokenFrame<'_>, out: &mut TextBuffer) {
        self.begin((broken.time, broken.offset), (broken.channel, broken.from, None), out);
        let sentence = format!("{}: {}", broken.fault.reason(), self.context.sentence(broken));
        let what = if broken.is_unread() { "(unread)" } else { "(broken)" };
        self.other(what, &sentence, (broken.wire, Item::Broken(broken).began()), out);
    }

    fn stray(&mut self, stray: &StrayBytes<'_>, out: &mut TextBuffer) {
        self.begin((stray.time, stray.offset), (stray.channel, stray.from, None), out);
        let (what, text) = match stray.is_packet {
            true => ("(packet)", packet_text(stray.wire)),
            false => ("(stray)", plural(stray.wire.len(), "byte")),
        };
        self.other(what, &text, (stray.wire, Item::Stray(stray).began()), out);
    }
}
