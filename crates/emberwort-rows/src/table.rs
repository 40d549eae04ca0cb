//! Rows as a table: a line for each frame, broken between fields where a terminal is narrow.

use std::cell::Cell;
use std::fmt::Write as _;

use emberwort_capture::labels::Labels;
use emberwort_capture::{BrokenFrame, Item, RevisionMap, Row, StrayBytes};
use emberwort_model::counting::plural;
use emberwort_model::diagnostics::escaped;
use emberwort_model::ids::ChannelId;
use emberwort_model::medium::usb::packet_text;
use emberwort_model::model::End;
use emberwort_model::number::write_integer;
use emberwort_wire::Time;

use crate::cells::{has_unit, some_hex};
use crate::columns::Columns;
use crate::form::{Form, PreviousItem, RowStyle};
use crate::paint::Paint;
use crate::row_context::{FieldMarkup, RowContext, write_label};
use crate::text_buffer::TextBuffer;
use crate::time::{Calendar, write_time_of_day};

pub struct Table {
    context: RowContext,
    lines: Lines,
    /// If all rows are of one message, and a terminal has room for its fields beside each other.
    columns: Option<Columns>,
    calendar: Calendar,
    /// The date that was shown last.
    date: String,
    started: bool,
}

/// What lines of a table have in common, also those of other forms about what is no row.
pub struct Lines {
    style: RowStyle,
    message_width: usize,
    channel_width: usize,
    /// Of the column of the nodes' names, if they have any.
    label_width: Option<usize>,
    /// The moment of the last line.
    last: Cell<Option<Time>>,
}

/// The frame, or the bytes, that a line is about.
#[derive(Clone, Copy)]
pub struct About {
    pub began: Option<Time>,
    pub time: Option<Time>,
    pub offset: u64,
    pub channel: ChannelId,
    pub from: Option<End>,
    pub node: Option<u64>,
}

impl About {
    fn row(row: &Row<'_>) -> Self {
        let (time, offset, channel) = (row.time, row.offset, row.channel);
        Self { began: Item::Row(row).began(), time, offset, channel, from: Some(row.from), node: row.frame.node }
    }

    fn broken(broken: &BrokenFrame<'_>) -> Self {
        let (time, offset, channel, from) = (broken.time, broken.offset, broken.channel, broken.from);
        let began = Item::Broken(broken).began();
        Self { began, time, offset, channel, from, node: broken.frame.and_then(|frame| frame.node) }
    }

    fn stray(stray: &StrayBytes<'_>) -> Self {
        let began = Item::Stray(stray).began();
        Self { began, time: stray.time, offset: stray.offset, channel: stray.channel, from: stray.from, node: None }
    }
}

/// The title of the column of what nodes are called.
const LABEL: &str = "NAME";

/// So wide a terminal has room for that column; on others the names stand in front of the fields.
const WITH_NAMES: usize = 100;

impl Lines {
    pub fn new(revisions: &RevisionMap, style: RowStyle) -> Self {
        let has_room = style.width.is_none_or(|width| width >= WITH_NAMES);
        let longest = style.labels.as_deref().filter(|_| has_room).and_then(Labels::longest_of_nodes);
        let label_width = longest.map(|width| width.max(LABEL.len()));
        let mut lines = Self { style, message_width: 7, channel_width: 7, label_width, last: Cell::new(None) };
        lines.update_revisions(revisions);
        lines
    }

    /// Makes the columns as wide as the names of the definitions in use.
    pub fn update_revisions(&mut self, revisions: &RevisionMap) {
        let messages = revisions.definitions().iter().flat_map(|definition| &definition.plan.messages);
        let messages = messages.map(|plan| plan.message.name.len());
        let channels = revisions.own().channels.iter().map(|channel| channel.name.len());
        self.message_width = messages.fold(self.message_width, usize::max);
        self.channel_width = channels.fold(self.channel_width, usize::max);
    }

    /// The columns in front of the message.
    fn begin(&self, context: &RowContext, about: About, out: &mut TextBuffer) {
        self.begin_sender(context, about, true, out);
    }

    /// The columns in front of a row; without the end that sent it where the message says that.
    fn begin_sender(&self, context: &RowContext, about: About, with_end: bool, out: &mut TextBuffer) {
        let start = out.len();
        match about.time {
            Some(time) => {
                match self.style.times.of_day(time) {
                    Some(time) => write_time_of_day(time, 6, out),
                    None => out.push_str(&self.style.times.text(about.began, time, self.last.get())),
                }
                self.last.set(Some(time));
            }
            None => {
                out.push_str("at ");
                let _ = write_integer(out, about.offset);
            }
        }
        // All ASCII: a byte is a character.
        out.blanks(self.style.times.width().saturating_sub(out.len() - start) + 1);
        out.push_padded(context.channel(about.channel), self.channel_width);
        if with_end {
            out.push_str("  ");
            out.push_padded(about.from.map_or("", End::as_str), 6);
        }
        out.push_str("  ");
        let all = context.plan.channels[about.channel].direction(about.from.unwrap_or(End::Device)).broadcast;
        let _ = match about.node {
            None => out.write_str("    "),
            Some(node) if Some(node) == all => out.write_str(" all"),
            Some(node) => {
                let digits = node.checked_ilog10().unwrap_or(0) as usize + 1;
                out.blanks(4usize.saturating_sub(digits));
                write_integer(out, node)
            }
        };
        out.push_str("  ");
        if let Some(width) = self.label_width {
            let label = escaped(context.node_label(about.node).unwrap_or_default());
            out.push_str(&label);
            out.blanks((width + 2).saturating_sub(label.chars().count()));
        }
    }

    /// The titles of the columns in front of the message, or of the fields.
    fn titles(&self, with_end: bool) -> String {
        let (times, channel, time) = (self.style.times.title(), self.channel_width, self.style.times.width());
        let mut line = format!("{times:<time$} {:<channel$}  ", "CHANNEL");
        if with_end {
            line.push_str("FROM    ");
        }
        line.push_str("NODE  ");
        if let Some(width) = self.label_width {
            // Writing to memory cannot fail.
            let _ = write!(line, "{LABEL:<width$}  ");
        }
        line
    }

    fn name(&self, name: &str, out: &mut TextBuffer) {
        out.push_padded(name, self.message_width);
        out.push_str("  ");
    }

    /// The whole line about a frame that is no row.
    pub fn broken(&self, context: &RowContext, broken: &BrokenFrame<'_>, out: &mut TextBuffer) {
        let start = out.len();
        self.begin(context, About::broken(broken), out);
        self.name(if broken.is_unread() { "UNREAD" } else { "BROKEN" }, out);
        let sentence = format!("{}: {}", broken.fault.reason(), context.sentence(broken));
        self.reason(&sentence, &some_hex(broken.wire), Some(Paint::Bad), start, out);
    }

    /// The whole line about bytes in no frame.
    pub fn stray(&self, context: &RowContext, stray: &StrayBytes<'_>, out: &mut TextBuffer) {
        let start = out.len();
        self.begin(context, About::stray(stray), out);
        let (name, sentence) = match stray.is_packet {
            true => ("packet", packet_text(stray.wire)),
            false => ("stray", format!("{} in no frame:", plural(stray.wire.len(), "byte"))),
        };
        self.name(name, out);
        self.reason(&sentence, &some_hex(stray.wire), None, start, out);
    }

    /// Ends the line that began at `start` with why something is no message, and with its bytes; on a terminal in as many lines as
    /// they need.
    fn reason(&self, reason: &str, bytes: &str, paint: Option<Paint>, start: usize, out: &mut TextBuffer) {
        let indent = out.characters_since(start);
        let room = self.style.width.map_or(usize::MAX, |width| width.saturating_sub(indent).max(16));
        let fits = reason.chars().count() + bytes.chars().count() + 2 <= room;
        let lines =
            |text: &str| -> Vec<String> { textwrap::wrap(text, room).iter().map(|line| line.to_string()).collect() };
        let style = &self.style;
        let paint = |line: &String| paint.map_or_else(|| line.clone(), |paint| style.paint(paint, line));
        let all: Vec<String> = match fits {
            true => vec![format!("{}  {bytes}", paint(&reason.to_owned()))],
            false => lines(reason).iter().map(paint).chain(lines(bytes)).collect(),
        };
        for (n, line) in all.iter().enumerate() {
            if n > 0 {
                out.blanks(indent);
            }
            out.push_str(line);
            out.push('\n');
        }
    }
}

/// The words at the end of a line; on a terminal they go on under each other where they do not fit.
struct Words {
    width: Option<usize>,
    indent: usize,
    column: usize,
    count: usize,
    /// Where the word at hand begins.
    start: usize,
}

impl Words {
    /// Behind what stands in the line that begins at `start`.
    fn after_column(width: Option<usize>, start: usize, out: &TextBuffer) -> Self {
        let indent = if width.is_some() { out.characters_since(start) } else { 0 };
        Self { width, indent, column: indent, count: 0, start: 0 }
    }
}

impl FieldMarkup for Words {
    /// The gap in front of a word.
    fn before(&mut self, _slot: usize, out: &mut TextBuffer) {
        if self.count > 0 {
            out.push_str(GAP);
        }
        self.count += 1;
        self.start = out.len();
    }

    /// Moves the word to the next line, if it does not fit into this one.
    fn after(&mut self, out: &mut TextBuffer) {
        let Some(width) = self.width else { return };
        let length = out.characters_since(self.start);
        if self.column + length > width && self.column > self.indent {
            let word = out.text_since(self.start).to_owned();
            out.truncate(self.start - GAP.len());
            out.push('\n');
            // A word that is wider than the column of fields begins in front of it.
            self.column = width.saturating_sub(length).min(self.indent);
            out.blanks(self.column);
            out.push_str(&word);
        }
        self.column += length + GAP.len();
    }

    fn label(&mut self, label: &str, out: &mut TextBuffer) {
        write_label(label, out);
    }
}

/// Between two words.
const GAP: &str = "  ";

impl Table {
    pub fn new(context: RowContext, revisions: &RevisionMap, style: RowStyle) -> Self {
        let lines = Lines::new(revisions, style.clone());
        let columns = style.only.map(|message| Columns::new(revisions, message, style.raw, style.labels.as_deref()));
        let in_front = lines.titles(false).chars().count();
        let columns = columns.filter(|columns| style.width.is_none_or(|width| in_front + columns.width() <= width));
        Self { context, lines, columns, calendar: Calendar::default(), date: String::new(), started: false }
    }

    /// Writes a row as cells under the titles. Returns whether it has columns, and they fit on the terminal.
    fn cells(&mut self, row: &Row<'_>, out: &mut TextBuffer) -> bool {
        let Some(mut cells) = self.columns.as_ref().and_then(|columns| columns.cells(row.definition)) else {
            return false;
        };
        let start = out.len();
        self.lines.begin_sender(&self.context, About::row(row), false, out);
        self.context.write_fields(row, out, &mut cells, |_, shown, cell| shown.write(cell));
        cells.end(out);
        // A text may be longer than its column.
        self.lines.style.width.is_none_or(|width| out.characters_since(start) <= width)
    }

    /// The heading, before the first line, and the date where it changes.
    fn head(&mut self, time: Option<Time>, out: &mut TextBuffer) {
        let style = &self.lines.style;
        if !self.started {
            let mut line = self.lines.titles(self.columns.is_none());
            match &self.columns {
                Some(columns) => columns.write_titles(&mut line),
                // Writing to memory cannot fail.
                None => drop(write!(line, "{:<1$}  FIELDS", "MESSAGE", self.lines.message_width)),
            }
            out.push_str(&style.paint(Paint::Bold, line));
            out.push('\n');
            self.started = true;
        }
        if let Some(time) = time.and_then(|time| self.lines.style.times.of_day(time)) {
            let date = self.calendar.date(time);
            if date != self.date {
                out.push_str(&style.paint(Paint::Dim, format!("-- {date}")));
                out.push('\n');
                date.clone_into(&mut self.date);
            }
        }
    }
}

impl Form for Table {
    fn resume(&mut self, before: PreviousItem) {
        self.started = before.something;
        self.lines.last.set(before.time);
        let shown = before.time.and_then(|time| self.lines.style.times.of_day(time));
        let date = shown.map_or("", |time| self.calendar.date(time));
        date.clone_into(&mut self.date);
    }

    fn update_revisions(&mut self, revisions: &RevisionMap) {
        self.context.update_revisions(revisions);
        self.lines.update_revisions(revisions);
        if let Some(columns) = &mut self.columns {
            columns.update_revisions(revisions);
        }
    }

    fn row(&mut self, row: &Row<'_>, out: &mut TextBuffer) {
        self.head(row.time, out);
        let start = out.len();
        let remark = self.context.remark(row);
        let last = self.lines.last.get();
        if self.cells(row, out) {
            if let Some(remark) = remark {
                let room = self.lines.style.width.map(|width| width.saturating_sub(out.characters_since(start)));
                if room.is_none_or(|room| remark.chars().count() + GAP.len() <= room) {
                    out.push_str(GAP);
                } else {
                    out.push('\n');
                    out.blanks(self.lines.titles(false).chars().count());
                }
                out.push_str(&remark);
            }
            out.push('\n');
            return;
        }
        out.truncate(start);
        self.lines.last.set(last);
        // What is kept of a field is a cell; words have its name in front.
        let of_cells = self.columns.as_ref().map(|_| std::mem::take(&mut self.context.texts));
        self.lines.begin(&self.context, About::row(row), out);
        self.lines.name(&row.plan.messages[row.message].message.name, out);
        let mut words = Words::after_column(self.lines.style.width, start, out);
        if let Some(label) = self.context.node_label(row.frame.node).filter(|_| self.lines.label_width.is_none()) {
            words.before(0, out);
            let _ = write!(out, "({})", escaped(label));
            words.after(out);
        }
        self.context.write_fields(row, out, &mut words, |reading, shown, word| {
            word.push_str(&shown.field.name);
            word.push('=');
            shown.write(word);
            if !shown.raw && has_unit(shown.field, shown.value()) {
                word.push(' ');
                word.push_str(&reading.units[shown.slot]);
            }
        });
        if let Some(remark) = remark {
            words.before(0, out);
            out.push_str(&remark);
            words.after(out);
        }
        out.push('\n');
        if let Some(of_cells) = of_cells {
            self.context.texts = of_cells;
        }
    }

    fn broken(&mut self, broken: &BrokenFrame<'_>, out: &mut TextBuffer) {
        self.head(broken.time, out);
        self.lines.broken(&self.context, broken, out);
    }

    fn stray(&mut self, stray: &StrayBytes<'_>, out: &mut TextBuffer) {
        self.head(stray.time, out);
        self.lines.stray(&self.context, stray, out);
    }
}
