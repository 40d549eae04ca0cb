//! One way to show what was decoded, as all of them are.

use emberwort_capture::labels::Labels;
use emberwort_capture::{BrokenFrame, Item, RevisionMap, Row, StrayBytes};
use emberwort_model::ids::MessageId;
use emberwort_wire::Time;

use crate::cli::RowForm;
use crate::output::Look;
use crate::render::time::rfc3339;

use super::text_buffer::TextBuffer;
use super::times::ShownTimes;

/// How rows are shown.
#[derive(Clone, Copy, Debug)]
pub struct RowStyle {
    pub form: RowForm,
    pub raw: bool,
    /// The only message whose rows are shown, by its index in the link's own definition, if there is one.
    pub only: Option<MessageId>,
    /// Texts beside nodes and values.
    pub labels: Option<&'static Labels>,
    /// How tables show moments.
    pub times: ShownTimes,
    pub look: Look,
    /// Columns of the terminal, where table lines are broken between fields; `None` in a pipe, where each frame is one line.
    pub width: Option<usize>,
}

impl RowStyle {
    /// When an item was there, in a heading of its own.
    pub fn when(&self, item: Item<'_>) -> String {
        match (self.times, item.time()) {
            (ShownTimes::Wave, Some(time)) => {
                let text = self.times.text(item.began(), time, None);
                text.split_whitespace().collect::<Vec<_>>().join(" to ")
            }
            (_, time) => time.map_or_else(|| format!("at {}", item.offset()), rfc3339),
        }
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
pub struct PreviousItem {
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

pub fn write_item(form: &mut dyn Form, item: Item<'_>, lines: &mut TextBuffer) {
    match item {
        Item::Row(row) => form.row(row, lines),
        Item::Broken(broken) => form.broken(broken, lines),
        Item::Stray(stray) => form.stray(stray, lines),
    }
}
