//! One way to show what was decoded, as all of them are.

use std::fmt::Display;
use std::sync::Arc;

use emberwort_capture::labels::Labels;
use emberwort_capture::{BrokenFrame, Item, RevisionMap, Row, StrayBytes};
use emberwort_model::ids::MessageId;
use emberwort_wire::Time;

use crate::paint::{Paint, painted};
use crate::time::rfc3339;

use crate::text_buffer::TextBuffer;
use crate::times::ShownTimes;

/// The forms in which rows can be shown.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum RowForm {
    /// One line a frame.
    Table,
    /// One line a field, with raw codes.
    Tree,
    /// One JSON object a line.
    Ndjson,
    /// One line a field, comma-separated.
    Csv,
    /// Bytes with the letter of what each is, and what the letters mean.
    Hex,
    /// The bytes as they came, one after the other.
    Bytes,
}

impl RowForm {
    /// All of them, in the order in which they are offered.
    pub const ALL: [Self; 6] = [Self::Table, Self::Tree, Self::Ndjson, Self::Csv, Self::Hex, Self::Bytes];

    /// Its name, as `decode --as` takes it.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Table => "table",
            Self::Tree => "tree",
            Self::Ndjson => "ndjson",
            Self::Csv => "csv",
            Self::Hex => "hex",
            Self::Bytes => "bytes",
        }
    }

    /// What it shows, in a line of help.
    pub fn help(self) -> &'static str {
        match self {
            Self::Table => "One line a frame",
            Self::Tree => "One line a field, with raw codes",
            Self::Ndjson => "One JSON object a line",
            Self::Csv => "One line a field, comma-separated",
            Self::Hex => "Bytes with the letter of what each is, and what the letters mean",
            Self::Bytes => "The bytes as they came, one after the other",
        }
    }
}

/// Asked now and then whether the writing of rows is to end before there are no more.
pub type Stops = fn() -> bool;

/// How rows are shown.
#[derive(Clone, Debug)]
pub struct RowStyle {
    /// The form.
    pub form: RowForm,
    /// Whether codes are shown in place of what they mean.
    pub raw: bool,
    /// The only message whose rows are shown, by its index in the link's own definition, if there is one.
    pub only: Option<MessageId>,
    /// Texts beside nodes and values.
    pub labels: Option<Arc<Labels>>,
    /// How tables show moments.
    pub times: ShownTimes,
    /// Whether headings are painted.
    pub colored: bool,
    /// Columns of the terminal, where table lines are broken between fields; `None` in a pipe, where each frame is one line.
    pub width: Option<usize>,
}

impl RowStyle {
    /// Rows in a form, with times in UTC, unpainted, each frame on one line where the form has one.
    pub fn new(form: RowForm) -> Self {
        Self { form, raw: false, only: None, labels: None, times: ShownTimes::Utc, colored: false, width: None }
    }

    /// When an item was there, in a heading of its own.
    pub fn when(&self, item: Item<'_>) -> String {
        match (&self.times, item.time()) {
            (ShownTimes::Wave, Some(time)) => {
                let text = self.times.text(item.began(), time, None);
                text.split_whitespace().collect::<Vec<_>>().join(" to ")
            }
            (_, time) => time.map_or_else(|| format!("at {}", item.offset()), rfc3339),
        }
    }
}

impl RowStyle {
    pub(crate) fn paint(&self, paint: Paint, text: impl Display) -> String {
        painted(self.colored, paint, text)
    }
}

/// One way to show what was decoded: lines of text, one item after the other.
pub trait Form {
    /// What was shown before the first item, if this form goes on where another one of its kind stopped.
    fn resume(&mut self, before: PreviousItem);
    /// The definitions in use, of which there may be more than before.
    fn update_revisions(&mut self, revisions: &RevisionMap);
    fn row(&mut self, row: &Row<'_>, out: &mut TextBuffer);
    fn broken(&mut self, broken: &BrokenFrame<'_>, out: &mut TextBuffer);
    fn stray(&mut self, stray: &StrayBytes<'_>, out: &mut TextBuffer);
}

/// What was shown before an item.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct PreviousItem {
    /// Whether anything was.
    pub something: bool,
    /// The time of the last item that had one.
    pub time: Option<Time>,
}

impl PreviousItem {
    pub fn note(&mut self, time: Option<Time>) {
        self.something = true;
        self.time = time.or(self.time);
    }
}

pub(crate) fn write_item(form: &mut dyn Form, item: Item<'_>, lines: &mut TextBuffer) {
    match item {
        Item::Row(row) => form.row(row, lines),
        Item::Broken(broken) => form.broken(broken, lines),
        Item::Stray(stray) => form.stray(stray, lines),
    }
}
