//! Decoded rows as a table, a tree, NDJSON or CSV. Nothing here knows how they were decoded.

use std::fmt::Write as _;
use std::io::{self, Write};
use std::sync::Arc;

use emberwort_capture::{BrokenFrame, Row, RowSink, Speakers, StrayBytes};
use emberwort_model::Plan;
use emberwort_model::diagnostics::escaped;
use emberwort_model::hex::{hex, write_hex};
use emberwort_model::model::{End, Field, Kind};
use emberwort_model::plan::MessagePlan;
use emberwort_wire::json::{self, Writing};
use emberwort_wire::{FrameFault, ValueRef, Values, says_all, text, tunnel};

use super::time;
use crate::cli::RowForm;
use crate::output::{self, Look, Paint};
use crate::render::plural;

/// Which rows are shown, and how.
#[derive(Clone, Debug)]
pub struct RowStyle {
    pub form: RowForm,
    pub raw: bool,
    /// Names of the messages to show; empty for all, broken frames and stray bytes included.
    pub messages: Vec<String>,
    pub node: Option<u64>,
    pub look: Look,
    /// Columns of the terminal, where table lines are broken between fields; `None` in a pipe, where each frame is one line.
    pub width: Option<usize>,
}

/// The most bytes of a broken frame or a stray run that a table line shows.
const MOST_SHOWN: usize = 24;

/// The most names of lacking fields that a remark gives; NDJSON gives all.
const MOST_NAMES: usize = 6;

/// Writes rows as they come.
pub struct RowPrinter<W> {
    plan: Arc<Plan>,
    style: RowStyle,
    out: W,
    line: String,
    error: Option<io::Error>,
    day: String,
    started: bool,
    widths: Widths,
    /// By definition and message.
    readings: Vec<Vec<Reading>>,
}

/// What there is to say of all rows of a message that were read with one definition.
struct Reading {
    /// Whether they are shown.
    wanted: bool,
    /// Whether the link's own definition has that message.
    is_known: bool,
    /// The fields that it has beyond those of the definition.
    lacks: Vec<String>,
}

impl Reading {
    /// Of a message in one of the definitions in use.
    fn of(own: &Plan, plan: &MessagePlan, wanted: &[String]) -> Self {
        let name = &plan.message.name;
        let known = own.messages.iter().find(|own| own.message.name == *name);
        let all = known.iter().flat_map(|own| &own.message.fields).filter(|field| !field.is_spare());
        let lacking = all.filter(|field| plan.message.field(&field.name).is_none());
        Self {
            wanted: wanted.is_empty() || wanted.contains(name),
            is_known: known.is_some(),
            lacks: lacking.map(|field| field.name.clone()).collect(),
        }
    }
}

struct Widths {
    message: usize,
    channel: usize,
}

impl<W: Write> RowPrinter<W> {
    pub fn new(speakers: &Speakers, style: RowStyle, out: W) -> Self {
        let plan = speakers.own().clone();
        let widest = |names: &mut dyn Iterator<Item = usize>| names.max().unwrap_or(0).max(7);
        let messages = || speakers.definitions().iter().flat_map(|definition| &definition.plan.messages);
        let widths = Widths {
            message: widest(&mut messages().map(|plan| plan.message.name.len())),
            channel: widest(&mut plan.channels.iter().map(|channel| channel.name.len())),
        };
        let reading = |message: &MessagePlan| Reading::of(&plan, message, &style.messages);
        let definitions = speakers.definitions().iter();
        let readings = definitions.map(|one| one.plan.messages.iter().map(reading).collect()).collect();
        let (line, day) = (String::new(), String::new());
        Self { readings, plan, style, out, line, error: None, day, started: false, widths }
    }

    fn reading(&self, row: &Row<'_>) -> &Reading {
        &self.readings[row.definition][row.message]
    }

    /// The fields that the definition has and the sender's revision lacks.
    fn lacking<'r>(&'r self, row: &Row<'r>) -> impl Iterator<Item = &'r str> {
        let message = &row.plan.messages[row.message];
        let held = row.values.sections();
        // Lines have no sections.
        let later = message.sections.get(held.max(1)).map_or(u32::MAX, |section| section.revision);
        let assumed = message.message.fields.iter().filter(move |field| field.since >= later && !field.is_spare());
        assumed.map(|field| field.name.as_str()).chain(self.reading(row).lacks.iter().map(String::as_str))
    }

    /// What is worth a word behind a row: bytes of a later revision, a sender of an earlier one.
    fn remark(&self, row: &Row<'_>) -> Option<String> {
        let mut parts = Vec::new();
        if row.definition != 0 {
            let reading = self.reading(row);
            let mut part = format!("read as revision {}", row.plan.link.revision);
            if !reading.is_known {
                part.push_str("; now there is no such message");
            } else if !reading.lacks.is_empty() {
                let _ = write!(part, ", which has no {}", some_names(&reading.lacks));
            }
            parts.push(part);
        }
        let later = row.values.later_bytes();
        let plan = &row.plan.messages[row.message];
        // A line can say a number in several ways.
        if later == 0 && plan.message.line.is_none() && !says_all(plan, row.frame.body, row.values) {
            parts.push("spare bits are set, or numbers longer than they have to be".to_owned());
        }
        if later > 0 {
            parts.push(format!("{} from a later revision", super::plural(later, "byte")));
        } else if let Some(lacking) = row.plan.messages[row.message].sections.get(row.values.sections()) {
            parts.push(format!("sender of a revision before {}", lacking.revision));
        }
        (!parts.is_empty()).then(|| format!("({})", parts.join("; ")))
    }

    /// Ends the output.
    pub fn finish(mut self) -> io::Result<()> {
        match self.error.take() {
            Some(error) => Err(error),
            None => self.out.flush(),
        }
    }

    fn shows_others(&self) -> bool {
        self.style.messages.is_empty() && self.style.node.is_none()
    }

    /// Writes the line and empties it.
    fn emit(&mut self) {
        self.line.push('\n');
        if self.error.is_none() {
            self.error = self.out.write_all(self.line.as_bytes()).err();
        }
        self.line.clear();
    }

    fn begin_table(&mut self, time: Option<u64>) {
        if !self.started {
            let Widths { channel, message } = self.widths;
            self.line = format!(
                "{:<16} {:<channel$}  {:<6}  {:>4}  {:<message$}  FIELDS",
                "TIME (UTC)", "CHANNEL", "FROM", "NODE", "MESSAGE"
            );
            self.line = self.style.look.paint(Paint::Bold, &self.line);
            self.emit();
        }
        if let Some(time) = time {
            let day = time::day(time);
            if day != self.day {
                self.line = self.style.look.paint(Paint::Dim, format!("-- {day}"));
                self.emit();
                self.day = day;
            }
        }
        self.started = true;
    }

    fn table_start(&mut self, time: Option<u64>, offset: u64, channel: usize, from: Option<End>, node: Option<u64>) {
        let when = time.map_or_else(|| format!("at {offset}"), time::time_of_day);
        let all = self.plan.channels[channel].facing(from.unwrap_or(End::Device)).broadcast;
        let node = match node {
            None => String::new(),
            Some(node) if Some(node) == all => "all".to_owned(),
            Some(node) => node.to_string(),
        };
        let width = self.widths.channel;
        let _ = write!(
            self.line,
            "{when:<16} {:<width$}  {:<6}  {node:>4}  ",
            self.plan.channels[channel].name,
            from.map_or("", End::as_str),
        );
    }

    fn json_start(&mut self, time: Option<u64>, offset: u64, channel: usize, from: Option<End>) {
        self.line.push('{');
        match time {
            Some(time) => {
                let _ = write!(self.line, "\"time\":\"{}\",", time::rfc3339(time));
            }
            None => {
                let _ = write!(self.line, "\"offset\":{offset},");
            }
        }
        let _ = write!(self.line, "\"channel\":\"{}\"", self.plan.channels[channel].name);
        if let Some(from) = from {
            let _ = write!(self.line, ",\"direction\":\"{}\"", from.as_str());
        }
    }

    fn table_row(&mut self, row: &Row<'_>) {
        self.begin_table(row.time);
        self.table_start(row.time, row.offset, row.channel, Some(row.from), row.frame.node);
        let plan = &row.plan.messages[row.message];
        let width = self.widths.message;
        let _ = write!(self.line, "{:<width$}  ", plan.message.name);
        let mut words = Vec::new();
        for (slot, field) in plan.message.fields.iter().enumerate() {
            let value = row.values.get(slot);
            if field.is_spare() || matches!(value, ValueRef::Absent | ValueRef::Unset) {
                continue;
            }
            let mut word = format!("{}=", field.name);
            write_value(row.plan, row.from, field, (row.values, slot), self.style.raw, &mut word);
            if !self.style.raw && has_unit(field, value) {
                let _ = write!(word, " {}", escaped(&field.unit));
            }
            words.push(word);
        }
        words.extend(self.remark(row));
        self.table_words(&words);
    }

    /// Ends a table line with words; on a terminal they go on under each other where they do not fit.
    fn table_words(&mut self, words: &[String]) {
        let indent = self.line.chars().count();
        let mut column = indent;
        for (n, word) in words.iter().enumerate() {
            let length = word.chars().count() + 2;
            let full = self.style.width.is_some_and(|width| column + length - 2 > width && column > indent);
            if full {
                self.emit();
                // A word that is wider than the column of fields begins in front of it.
                let start = self.style.width.map_or(indent, |width| width.saturating_sub(length - 2).min(indent));
                self.line = " ".repeat(start);
                column = start;
            } else if n > 0 {
                self.line.push_str("  ");
            }
            self.line.push_str(word);
            column += length;
        }
        self.emit();
    }

    /// Ends a table line with why something is no message, and with its bytes; on a terminal in as many lines as they need.
    fn table_reason(&mut self, reason: &str, bytes: &str, paint: Option<Paint>) {
        let indent = self.line.chars().count();
        let room = self.style.width.map_or(usize::MAX, |width| width.saturating_sub(indent).max(16));
        let fits = reason.chars().count() + bytes.chars().count() + 2 <= room;
        let lines =
            |text: &str| -> Vec<String> { textwrap::wrap(text, room).iter().map(|line| line.to_string()).collect() };
        let look = self.style.look;
        let paint = |line: &String| paint.map_or_else(|| line.clone(), |paint| look.paint(paint, line));
        let all: Vec<String> = match fits {
            true => vec![format!("{}  {bytes}", paint(&reason.to_owned()))],
            false => lines(reason).iter().map(paint).chain(lines(bytes)).collect(),
        };
        for (n, line) in all.iter().enumerate() {
            if n > 0 {
                self.line = " ".repeat(indent);
            }
            self.line.push_str(line);
            self.emit();
        }
    }

    fn tree_row(&mut self, row: &Row<'_>) {
        let when = row.time.map_or_else(|| format!("at {}", row.offset), time::rfc3339);
        let plan = row.plan;
        let message = &plan.messages[row.message].message;
        let heading = format!(
            "{} from {}{} on {}, {when}{}{}",
            message.name,
            row.from.as_str(),
            row.frame.node.map_or_else(String::new, |node| format!(" {node}")),
            self.plan.channels[row.channel].name,
            row.frame.sequence.map_or_else(String::new, |sequence| format!(", sequence {sequence}")),
            self.remark(row).map_or_else(String::new, |remark| format!(" {remark}")),
        );
        self.line = self.style.look.paint(Paint::Bold, heading);
        self.emit();
        write_tree_fields(plan, &plan.messages[row.message], row.from, row.values, |line| {
            self.line.push_str(line);
            self.emit();
        });
        let _ = write_hex(row.wire, &mut self.line);
        let bytes = std::mem::take(&mut self.line);
        self.line = super::wrapped_under(&format!("  {:<14} {bytes}", "bytes"), &" ".repeat(17));
        self.emit();
    }

    fn json_row(&mut self, row: &Row<'_>) {
        self.json_start(row.time, row.offset, row.channel, Some(row.from));
        if let Some(node) = row.frame.node {
            let _ = write!(self.line, ",\"node\":{node}");
        }
        if let Some(sequence) = row.frame.sequence {
            let _ = write!(self.line, ",\"sequence\":{sequence}");
        }
        let plan = &row.plan.messages[row.message];
        let held = row.values.sections();
        if held < plan.sections.len() {
            let _ = write!(
                self.line,
                ",\"revision\":{}",
                row.frame.revision.unwrap_or(u64::from(plan.sections[held - 1].revision))
            );
        } else if let Some(revision) = row.frame.revision {
            let _ = write!(self.line, ",\"revision\":{revision}");
        }
        if row.definition != 0 {
            let _ = write!(self.line, ",\"read_as_revision\":{}", row.plan.link.revision);
        }
        let lacks: Vec<&str> = self.lacking(row).collect();
        if !lacks.is_empty() {
            // Names are identifiers.
            let lacks = lacks.join("\",\"");
            let _ = write!(self.line, ",\"lacks\":[\"{lacks}\"]");
        }
        if row.values.later_bytes() > 0 {
            let _ = write!(self.line, ",\"later_bytes\":{}", row.values.later_bytes());
        }
        if !says_all(plan, row.frame.body, row.values) {
            self.line.push_str(",\"body\":\"");
            let _ = write_hex(row.frame.body, &mut self.line);
            self.line.push('"');
        }
        let _ = write!(self.line, ",\"message\":\"{}\",\"fields\":", plan.message.name);
        let writing = Writing { raw: self.style.raw, inside: Some((row.plan, row.from)) };
        let _ = json::write_fields(plan, row.values, writing, &mut self.line);
        self.line.push('}');
        self.emit();
    }

    fn csv_row(&mut self, row: &Row<'_>) {
        let plan = row.plan;
        let message = &plan.messages[row.message].message;
        for (slot, field) in message.fields.iter().enumerate() {
            let value = row.values.get(slot);
            if field.is_spare() || value == ValueRef::Absent {
                continue;
            }
            let mut shown = String::new();
            let raw = match value {
                ValueRef::Raw(raw) => text::signed(&field.kind, raw).to_string(),
                ValueRef::Bytes(bytes) => hex(bytes),
                _ => String::new(),
            };
            write_value(plan, row.from, field, (row.values, slot), self.style.raw, &mut shown);
            let time = row.time.map_or_else(String::new, time::rfc3339);
            let offset = row.offset.to_string();
            let node = row.frame.node.map_or_else(String::new, |node| node.to_string());
            let sequence = row.frame.sequence.map_or_else(String::new, |sequence| sequence.to_string());
            let own = self.plan.clone();
            let channel = own.channels[row.channel].name.as_str();
            let revision = plan.link.revision.to_string();
            let unit = escaped(&field.unit);
            let cells = [
                time.as_str(),
                &offset,
                channel,
                row.from.as_str(),
                &node,
                &message.name,
                &field.name,
                &shown,
                &unit,
                &raw,
                &revision,
                &sequence,
            ];
            self.csv_line(&cells);
        }
    }

    fn csv_line(&mut self, cells: &[&str]) {
        if !self.started {
            self.started = true;
            self.csv_line(&[
                "time",
                "offset",
                "channel",
                "direction",
                "node",
                "message",
                "field",
                "value",
                "unit",
                "raw",
                "read_as_revision",
                "sequence",
            ]);
        }
        let mut writer = csv::WriterBuilder::new().from_writer(Vec::new());
        let bytes = writer.write_record(cells).ok().and_then(|()| writer.into_inner().ok()).unwrap_or_default();
        if self.error.is_none() {
            self.error = self.out.write_all(&bytes).err();
        }
    }
}

/// Writes a value for people, or with raw codes for numbers; a frame inside is shown by what it carries.
fn write_value(plan: &Plan, from: End, field: &Field, (values, slot): (&Values, usize), raw: bool, out: &mut String) {
    let write_plain = |field: &Field, values: &Values, slot, out: &mut String| {
        let _ = if raw {
            text::write_raw_value(field, values, slot, out)
        } else {
            text::write_value(field, values, slot, out)
        };
    };
    if let (Kind::Tunnel { channel, .. }, ValueRef::Bytes(bytes)) = (&field.kind, values.get(slot)) {
        match tunnel::open(plan, *channel, from, bytes) {
            Ok(inner) => {
                let message = &plan.messages[inner.message].message;
                out.push_str(&message.name);
                if let Some(node) = inner.node {
                    let _ = write!(out, " node {node}");
                }
                out.push_str(" {");
                let mut first = true;
                for (n, field) in message.fields.iter().enumerate() {
                    if field.is_spare() || matches!(inner.values.get(n), ValueRef::Absent | ValueRef::Unset) {
                        continue;
                    }
                    let _ = write!(out, "{}{}=", if first { "" } else { "  " }, field.name);
                    first = false;
                    write_plain(field, &inner.values, n, out);
                }
                out.push('}');
            }
            Err(fault) => {
                let _ = write!(out, "{} (no good frame: {})", hex(bytes), fault.reason());
            }
        }
        return;
    }
    write_plain(field, values, slot, out);
}

/// The fields of a message, a line each: name, value with its unit, raw code in decimal and hex. What lies in records, lists
/// and forms stands further to the right.
pub fn write_tree_fields(plan: &Plan, message: &MessagePlan, from: End, values: &Values, mut emit: impl FnMut(&str)) {
    let fields = &message.message.fields;
    let widest = fields.iter().map(|field| field.name.len()).max().unwrap_or(0).max(14);
    for (slot, field) in fields.iter().enumerate() {
        if field.is_spare() || matches!(values.get(slot), ValueRef::Absent | ValueRef::Unset) {
            continue;
        }
        let lacking = message.sections[..values.sections()].iter().all(|section| section.revision != field.since);
        let remark = if lacking { "  (assumed: the sender's revision lacks it)" } else { "" };
        tree_lines(plan, from, field, &field.name, values, (slot, 1, widest), remark, &mut emit);
    }
}

#[allow(clippy::too_many_arguments, reason = "one recursive step with all that it needs")]
fn tree_lines(
    plan: &Plan,
    from: End,
    field: &Field,
    name: &str,
    values: &Values,
    (slot, depth, widest): (usize, usize, usize),
    remark: &str,
    emit: &mut impl FnMut(&str),
) {
    let value = values.get(slot);
    let indent = "  ".repeat(depth);
    let deeper = |slot: usize| (slot, depth + 1, widest.saturating_sub(2));
    match (value, &field.kind) {
        (ValueRef::Group { first, count }, Kind::List { element, .. }) => {
            let plural = super::plural(count, "element");
            emit(format!("{indent}{name:<widest$} {plural}{remark}").trim_end());
            for n in 0..count {
                tree_lines(plan, from, element, &format!("[{n}]"), values, deeper(first + n), "", emit);
            }
        }
        (ValueRef::Group { first, .. }, Kind::Record(record)) => {
            emit(format!("{indent}{name:<widest$} {}{remark}", record.name).trim_end());
            for (n, field) in record.fields.iter().enumerate() {
                if !field.is_spare() && !matches!(values.get(first + n), ValueRef::Absent | ValueRef::Unset) {
                    tree_lines(plan, from, field, &field.name, values, deeper(first + n), "", emit);
                }
            }
        }
        (ValueRef::Chosen { form, slot }, Kind::Choice(choice)) => {
            if let Some(form) = choice.form(form) {
                let name = format!("{name}: {}", form.name);
                tree_lines(plan, from, form, &name, values, (slot, depth, widest), remark, emit);
            }
        }
        _ => {
            let mut shown = String::new();
            write_value(plan, from, field, (values, slot), false, &mut shown);
            if has_unit(field, value) {
                let _ = write!(shown, " {}", escaped(&field.unit));
            }
            let mut line = format!("{indent}{name:<widest$} {shown:<20}");
            if let (ValueRef::Raw(raw), Some(bits)) = (value, field.kind.raw_bits()) {
                let mask = if bits == 64 { u64::MAX } else { (1 << bits) - 1 };
                let digits = usize::from(bits).div_ceil(4);
                let _ = write!(line, " raw {} = 0x{:0digits$X}", text::signed(&field.kind, raw), raw & mask);
            }
            line.push_str(remark);
            emit(line.trim_end());
        }
    }
}

fn has_unit(field: &Field, value: ValueRef<'_>) -> bool {
    let ValueRef::Raw(raw) = value else { return false };
    let number = text::signed(&field.kind, raw);
    !field.unit.is_empty() && field.kind.is_valid(number) && field.kind.none() != Some(number)
}

impl<W> RowPrinter<W> {
    /// What is wrong with a frame.
    fn sentence(&self, broken: &BrokenFrame<'_>) -> String {
        let sentence = broken.fault.sentence(broken.plan, broken.facing);
        match std::ptr::eq(broken.plan, &*self.plan) {
            true => sentence,
            false => format!("{sentence} (read as revision {})", broken.plan.link.revision),
        }
    }
}

impl<W: Write> RowSink for RowPrinter<W> {
    fn row(&mut self, row: &Row<'_>) {
        let wanted = self.reading(row).wanted && self.style.node.is_none_or(|node| row.frame.node == Some(node));
        if !wanted {
            return;
        }
        match self.style.form {
            RowForm::Table => self.table_row(row),
            RowForm::Tree => self.tree_row(row),
            RowForm::Ndjson => self.json_row(row),
            RowForm::Csv => self.csv_row(row),
        }
    }

    fn broken(&mut self, broken: &BrokenFrame<'_>) {
        let node = broken.frame.and_then(|frame| frame.node);
        // A frame whose node is known is of interest to those who ask for that node.
        let of_node = self.style.messages.is_empty() && node.is_some() && self.style.node == node;
        if !self.shows_others() && !of_node {
            return;
        }
        let reason = broken.fault.reason();
        let (capitals, name) = if broken.is_unread() { ("UNREAD", "unread") } else { ("BROKEN", "broken") };
        match self.style.form {
            RowForm::Table | RowForm::Tree => {
                if self.style.form == RowForm::Table {
                    self.begin_table(broken.time);
                }
                self.table_start(broken.time, broken.offset, broken.channel, broken.from, node);
                let _ = write!(self.line, "{capitals:<width$}  ", width = self.widths.message);
                let sentence = format!("{reason}: {}", self.sentence(broken));
                self.table_reason(&sentence, &some_hex(broken.wire), Some(Paint::Bad));
            }
            RowForm::Ndjson => {
                self.json_start(broken.time, broken.offset, broken.channel, broken.from);
                if let Some(node) = node {
                    let _ = write!(self.line, ",\"node\":{node}");
                }
                if let Some(sequence) = broken.frame.and_then(|frame| frame.sequence) {
                    let _ = write!(self.line, ",\"sequence\":{sequence}");
                }
                let _ = write!(self.line, ",\"{name}\":\"{reason}\"");
                if let FrameFault::UnknownMessage { key } = broken.fault {
                    let _ = write!(self.line, ",\"key\":{key}");
                }
                match *broken.fault {
                    FrameFault::Checksum { part, expected, found } | FrameFault::Fixed { part, expected, found } => {
                        let bits = broken.facing.parts[part].bits;
                        let digits = usize::from(bits).div_ceil(4);
                        let _ = write!(
                            self.line,
                            ",\"expected\":\"0x{expected:0digits$X}\",\"found\":\"0x{found:0digits$X}\""
                        );
                    }
                    _ => {
                        self.line.push_str(",\"detail\":");
                        let sentence = self.sentence(broken);
                        let _ = json::write_string(&sentence, &mut self.line);
                    }
                }
                self.line.push_str(",\"bytes\":\"");
                let _ = write_hex(broken.wire, &mut self.line);
                self.line.push_str("\"}");
                self.emit();
            }
            RowForm::Csv => {
                let sentence = format!("{reason}: {}", self.sentence(broken));
                self.csv_other(
                    broken.time,
                    broken.offset,
                    broken.channel,
                    broken.from,
                    (&format!("({name})"), &sentence),
                    broken.wire,
                );
            }
        }
    }

    fn stray(&mut self, stray: &StrayBytes<'_>) {
        if !self.shows_others() {
            return;
        }
        match self.style.form {
            RowForm::Table | RowForm::Tree => {
                if self.style.form == RowForm::Table {
                    self.begin_table(stray.time);
                }
                self.table_start(stray.time, stray.offset, stray.channel, stray.from, None);
                let _ = write!(self.line, "{:<width$}  ", "stray", width = self.widths.message);
                let sentence = format!("{} in no frame:", super::plural(stray.wire.len(), "byte"));
                self.table_reason(&sentence, &some_hex(stray.wire), None);
            }
            RowForm::Ndjson => {
                self.json_start(stray.time, stray.offset, stray.channel, stray.from);
                let _ = write!(self.line, ",\"stray\":{},\"bytes\":\"", stray.wire.len());
                let _ = write_hex(stray.wire, &mut self.line);
                self.line.push_str("\"}");
                self.emit();
            }
            RowForm::Csv => {
                let sentence = plural(stray.wire.len(), "byte");
                self.csv_other(stray.time, stray.offset, stray.channel, stray.from, ("(stray)", &sentence), stray.wire);
            }
        }
    }

    fn is_full(&self) -> bool {
        self.error.is_some() || output::interrupted()
    }
}

impl<W: Write> RowPrinter<W> {
    fn csv_other(
        &mut self,
        time: Option<u64>,
        offset: u64,
        channel: usize,
        from: Option<End>,
        (what, sentence): (&str, &str),
        wire: &[u8],
    ) {
        let plan = self.plan.clone();
        let channel = plan.channels[channel].name.as_str();
        let time = time.map_or_else(String::new, time::rfc3339);
        let offset = offset.to_string();
        let bytes = hex(wire);
        self.csv_line(&[
            &time,
            &offset,
            channel,
            from.map_or("", End::as_str),
            "",
            what,
            "",
            sentence,
            "",
            &bytes,
            "",
            "",
        ]);
    }
}

/// Names, of many the first.
fn some_names(names: &[String]) -> String {
    let shown = names.len().min(MOST_NAMES);
    let mut text = names[..shown].join(", ");
    if names.len() > shown {
        let _ = write!(text, " and {} more", names.len() - shown);
    }
    text
}

fn some_hex(bytes: &[u8]) -> String {
    let mut text = hex(&bytes[..bytes.len().min(MOST_SHOWN)]);
    if bytes.len() > MOST_SHOWN {
        let _ = write!(text, " … {} more", bytes.len() - MOST_SHOWN);
    }
    text
}
