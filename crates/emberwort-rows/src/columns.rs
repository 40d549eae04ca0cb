//! The fields of one message as columns of a table, where all rows are of that message.

use std::fmt::Write as _;

use emberwort_capture::labels::Labels;
use emberwort_capture::{DefinitionId, RevisionMap};
use emberwort_model::ids::MessageId;
use emberwort_model::model::{Field, Kind};
use emberwort_text::{write_raw_value, write_value};
use emberwort_wire::Values;

use crate::row_context::{FieldMarkup, write_label};
use crate::text_buffer::TextBuffer;

/// What stands where a row has no value.
const ABSENT: &str = "–";

/// The widest that a column is made for values whose length nobody knows beforehand; a longer one moves the rest of its line.
const WIDE: usize = 16;

/// A column for each field of a message.
pub struct Columns {
    /// The message.
    name: String,
    columns: Vec<Column>,
    /// By definition: of each slot the column, if all its fields have one in the same unit.
    by_definition: Vec<Option<Vec<usize>>>,
}

struct Column {
    field: String,
    unit: String,
    title: String,
    width: usize,
    is_right: bool,
}

impl Columns {
    /// For a message of the link's own definition, by index.
    pub fn new(revisions: &RevisionMap, message: MessageId, raw: bool, labels: Option<&Labels>) -> Self {
        let of = &revisions.own().messages[message].message;
        let column = |(slot, field): (usize, &Field)| {
            let title = match field.unit.is_empty() || raw {
                true => field.name.clone(),
                false => format!("{} {}", field.name, emberwort_model::diagnostics::escaped(&field.unit)),
            };
            // A text beside the value stands in parentheses, behind a blank.
            let label = labels.and_then(|labels| labels.longest_beside(of, slot)).map_or(0, |longest| longest + 3);
            let width = title.chars().count().max(width_of(field, raw) + label);
            let is_right = raw && field.kind.raw_bits().is_some()
                || matches!(field.kind, Kind::Number(_) | Kind::Varint(_) | Kind::Float(_));
            Column { field: field.name.clone(), unit: field.unit.clone(), title, width, is_right }
        };
        let columns = of.fields.iter().enumerate().filter(|(_, field)| !field.is_spare()).map(column).collect();
        let mut made = Self { name: of.name.clone(), columns, by_definition: Vec::new() };
        made.update_revisions(revisions);
        made
    }

    /// Looks where the fields are in further definitions.
    pub fn update_revisions(&mut self, revisions: &RevisionMap) {
        for definition in &revisions.definitions()[self.by_definition.len()..] {
            let column_of = |field: &Field| match field.is_spare() {
                true => Some(usize::MAX),
                // The title says the unit.
                false => self.columns.iter().position(|column| column.field == field.name && column.unit == field.unit),
            };
            let fields = |index: MessageId| definition.plan.messages[index].message.fields.iter();
            let index = definition.plan.message_index(&self.name);
            self.by_definition.push(index.and_then(|index| fields(index).map(column_of).collect()));
        }
    }

    /// How wide all are together, with the gaps between them.
    pub fn width(&self) -> usize {
        self.columns.iter().map(|column| column.width + GAP).sum::<usize>().saturating_sub(GAP)
    }

    /// The titles.
    pub(crate) fn write_titles(&self, out: &mut String) {
        for (n, column) in self.columns.iter().enumerate() {
            let gap = if n == 0 { 0 } else { GAP };
            let width = if !column.is_right && n + 1 == self.columns.len() { 0 } else { column.width };
            // Writing to memory cannot fail.
            let _ = match column.is_right {
                true => write!(out, "{:gap$}{:>width$}", "", column.title),
                false => write!(out, "{:gap$}{:<width$}", "", column.title),
            };
        }
    }

    /// The cells of a row that was read with this definition; `None` if it has fields without a column, or in other units.
    pub fn cells(&self, definition: DefinitionId) -> Option<Cells<'_>> {
        let of_slots = self.by_definition[definition.index()].as_ref()?;
        Some(Cells { columns: &self.columns, of_slots, next: 0, start: 0 })
    }
}

/// Between two columns.
const GAP: usize = 2;

/// The cells of one row; fields come in the order of the columns.
pub struct Cells<'a> {
    columns: &'a [Column],
    of_slots: &'a [usize],
    /// The column that comes next.
    next: usize,
    /// Where the cell at hand begins.
    start: usize,
}

impl Cells<'_> {
    /// Sets the text of a cell, which begins at `start`, to the side where its column has it.
    fn set(&self, column: usize, out: &mut TextBuffer) {
        let Column { width, is_right, .. } = &self.columns[column];
        let blanks = width.saturating_sub(out.characters_since(self.start));
        if *is_right && blanks > 0 {
            let text = out.text_since(self.start).to_owned();
            out.truncate(self.start);
            out.blanks(blanks);
            out.push_str(&text);
        } else if column + 1 < self.columns.len() {
            out.blanks(blanks);
        }
    }

    fn begin(&mut self, out: &mut TextBuffer) {
        if self.next > 0 {
            out.blanks(GAP);
        }
        self.start = out.len();
    }

    /// Goes to a column; those between have no value.
    fn skip_to(&mut self, column: usize, out: &mut TextBuffer) {
        while self.next < column {
            self.begin(out);
            out.push_str(ABSENT);
            self.set(self.next, out);
            self.next += 1;
        }
    }

    /// The columns behind the last value.
    pub fn end(mut self, out: &mut TextBuffer) {
        self.skip_to(self.columns.len(), out);
    }
}

impl FieldMarkup for Cells<'_> {
    fn before(&mut self, slot: usize, out: &mut TextBuffer) {
        self.skip_to(self.of_slots[slot], out);
        self.begin(out);
    }

    fn after(&mut self, out: &mut TextBuffer) {
        self.set(self.next, out);
        self.next += 1;
    }

    fn label(&mut self, label: &str, out: &mut TextBuffer) {
        write_label(label, out);
    }
}

/// How wide values of a field become, as far as that is known.
fn width_of(field: &Field, raw: bool) -> usize {
    let codes: Vec<i128> = match &field.kind {
        Kind::Number(form) | Kind::Varint(form) => {
            [form.low, form.high, form.low + 1, form.high - 1].into_iter().chain(form.none).collect()
        }
        Kind::Bool => vec![0, 1],
        Kind::Enum { labels, none } => {
            labels.labels.iter().map(|label| label.code).chain(*none).map(i128::from).collect()
        }
        Kind::Flags(labels) => return labels.labels.iter().map(|label| label.name.len()).max().unwrap_or(0).max(4) + 2,
        Kind::Float(_) => return 10,
        Kind::Time { .. } => return 24,
        _ => return WIDE,
    };
    let mut values = Values::default();
    values.resize(1);
    let width = |code: i128| {
        values.set_raw(0, code as u64);
        let mut text = String::new();
        // Writing to memory cannot fail.
        let _ = match raw {
            true => write_raw_value(field, &values, 0, &mut text),
            false => write_value(field, &values, 0, &mut text),
        };
        text.chars().count()
    };
    codes.into_iter().map(width).max().unwrap_or(0)
}
