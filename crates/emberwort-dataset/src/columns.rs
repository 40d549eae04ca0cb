//! The columns of a message's table, and what a row has in them.

use emberwort_capture::Row;
use emberwort_model::model::{Field, Kind};
use emberwort_model::plan::MessagePlan;
use emberwort_text::formula::number;
use emberwort_text::json::{self, Writing};
use emberwort_text::show;
use emberwort_wire::values::signed;
use emberwort_wire::{Time, ValueRef};

/// What a column holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ColumnKind {
    /// A moment, in nanoseconds since 1970-01-01 UTC.
    Moment,
    /// A whole number.
    Integer,
    /// A number.
    Float,
    /// Yes or no.
    Bool,
    /// Text: of a text, a label, and JSON of what has parts.
    Text,
    /// Bytes.
    Bytes,
}

/// A column.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Column {
    /// Its name: that of the field, with a line in front for what is said of the frame.
    pub name: String,
    /// What it holds.
    pub kind: ColumnKind,
    /// The unit of its numbers; empty without one.
    pub unit: String,
    /// The slot of its field; `None` for what is said of the frame.
    slot: Option<usize>,
}

/// What a row has in a column.
#[derive(Clone, Debug, PartialEq)]
pub enum Cell {
    /// Nothing: the field is absent, holds none, or what the definition gives no meaning to.
    Nothing,
    /// A moment or a whole number.
    Integer(i64),
    /// A number.
    Float(f64),
    /// Yes or no.
    Bool(bool),
    /// Text.
    Text(String),
    /// Bytes.
    Bytes(Vec<u8>),
}

/// The columns in front of those of the fields.
const FRAME: [(&str, ColumnKind); 8] = [
    ("_time", ColumnKind::Moment),
    ("_frame", ColumnKind::Integer),
    ("_channel", ColumnKind::Text),
    ("_direction", ColumnKind::Text),
    ("_node", ColumnKind::Integer),
    ("_sequence", ColumnKind::Integer),
    ("_revision", ColumnKind::Integer),
    ("_no_meaning", ColumnKind::Text),
];

fn kind_of(kind: &Kind) -> ColumnKind {
    match kind {
        Kind::Number(form) | Kind::Varint(form) => {
            let fits = i64::try_from(form.low).is_ok() && i64::try_from(form.high).is_ok();
            let is_whole = form.scaling.is_exact() && form.scaling.decimals() == 0;
            if is_whole && fits && form.scaling.parts().2 == 1 { ColumnKind::Integer } else { ColumnKind::Float }
        }
        Kind::Float(_) => ColumnKind::Float,
        Kind::Bool => ColumnKind::Bool,
        Kind::Time { .. } => ColumnKind::Moment,
        Kind::Bytes(_) => ColumnKind::Bytes,
        _ => ColumnKind::Text,
    }
}

/// The columns of a message.
pub fn columns(message: &MessagePlan) -> Vec<Column> {
    let frame = FRAME.iter().map(|(name, kind)| Column {
        name: (*name).to_owned(),
        kind: *kind,
        unit: String::new(),
        slot: None,
    });
    let fields = message.message.fields.iter().enumerate().filter(|(_, field)| !field.is_spare());
    let fields = fields.map(|(slot, field)| Column {
        name: field.name.clone(),
        kind: kind_of(&field.kind),
        unit: field.unit.clone(),
        slot: Some(slot),
    });
    frame.chain(fields).collect()
}

/// A moment as a cell.
pub fn moment(time: Option<Time>) -> Cell {
    time.and_then(|time| i64::try_from(time.nanoseconds()).ok()).map_or(Cell::Nothing, Cell::Integer)
}

fn integer(value: Option<u64>) -> Cell {
    value.and_then(|value| i64::try_from(value).ok()).map_or(Cell::Nothing, Cell::Integer)
}

/// What a row has in the columns of its message; `channel` is the name of its channel.
pub fn cells(row: &Row<'_>, channel: &str, columns: &[Column]) -> Vec<Cell> {
    let fields = &row.plan.messages[row.message].message.fields;
    let mut no_meaning = String::new();
    let mut cells: Vec<Cell> = vec![
        moment(row.time),
        integer(Some(row.number)),
        Cell::Text(channel.to_owned()),
        Cell::Text(row.from.as_str().to_owned()),
        integer(row.frame.node),
        integer(row.frame.sequence),
        integer(row.frame.revision),
        Cell::Nothing,
    ];
    for column in &columns[FRAME.len()..] {
        let Some((slot, field)) = column.slot.and_then(|slot| Some((slot, fields.get(slot)?))) else { continue };
        let cell = of_field(row, field, slot, column.kind);
        if let (Cell::Nothing, ValueRef::Raw(raw)) = (&cell, row.values.get(slot)) {
            let code = signed(&field.kind, raw);
            if field.kind.none() != Some(code) {
                let comma = if no_meaning.is_empty() { "{" } else { "," };
                no_meaning += &format!("{comma}\"{}\":{code}", field.name);
            }
        }
        cells.push(cell);
    }
    if !no_meaning.is_empty() {
        cells[FRAME.len() - 1] = Cell::Text(no_meaning + "}");
    }
    cells
}

fn of_field(row: &Row<'_>, field: &Field, slot: usize, kind: ColumnKind) -> Cell {
    let value = row.values.get(slot);
    match (kind, value) {
        (_, ValueRef::Unset | ValueRef::Absent) => Cell::Nothing,
        (ColumnKind::Integer, ValueRef::Raw(raw)) => {
            let code = signed(&field.kind, raw);
            match &field.kind {
                Kind::Number(form) | Kind::Varint(form)
                    if (form.low..=form.high).contains(&code) && form.none != Some(code) =>
                {
                    let (offset, step, _) = form.scaling.parts();
                    i64::try_from(offset + step * code).map_or(Cell::Nothing, Cell::Integer)
                }
                _ => Cell::Nothing,
            }
        }
        // The shortest number that is this one in its size, as rows show it.
        (ColumnKind::Float, ValueRef::Raw(_)) if matches!(field.kind, Kind::Float(16 | 32)) => {
            let value = number(field, row.values, slot).filter(|value| value.is_finite());
            let shown = value.and_then(|value| (value as f32).to_string().parse().ok());
            shown.map_or(Cell::Nothing, Cell::Float)
        }
        (ColumnKind::Float, _) => number(field, row.values, slot).map_or(Cell::Nothing, Cell::Float),
        (ColumnKind::Bool, ValueRef::Raw(raw)) => Cell::Bool(raw != 0),
        (ColumnKind::Moment, ValueRef::Raw(raw)) => {
            let unit = if matches!(field.kind, Kind::Time { milliseconds: true }) { 1_000_000 } else { 1_000_000_000 };
            i64::try_from(raw).ok().and_then(|raw| raw.checked_mul(unit)).map_or(Cell::Nothing, Cell::Integer)
        }
        (ColumnKind::Bytes, ValueRef::Bytes(bytes)) => Cell::Bytes(bytes.to_vec()),
        (_, ValueRef::Bytes(bytes)) if matches!(field.kind, Kind::Text { .. }) => {
            Cell::Text(String::from_utf8_lossy(bytes).into_owned())
        }
        (_, ValueRef::Raw(raw)) if matches!(field.kind, Kind::Enum { .. }) => {
            let code = signed(&field.kind, raw);
            if field.kind.none() == Some(code) || !field.kind.is_valid(code) {
                return Cell::Nothing;
            }
            let mut text = String::new();
            // Writing to memory cannot fail.
            let _ = show::write_value(field, row.values, slot, &mut text);
            Cell::Text(text)
        }
        _ => {
            let mut text = String::new();
            let writing = Writing { raw: false, inside: Some((row.plan, row.from)) };
            // Writing to memory cannot fail.
            let _ = json::write_value(field, row.values, slot, writing, &mut text);
            Cell::Text(text)
        }
    }
}

/// The columns of frames that give no row, and of stray bytes.
pub(crate) fn other_columns() -> Vec<Column> {
    let column = |name: &str, kind| Column { name: name.to_owned(), kind, unit: String::new(), slot: None };
    vec![
        column("_time", ColumnKind::Moment),
        column("_frame", ColumnKind::Integer),
        column("_channel", ColumnKind::Text),
        column("_direction", ColumnKind::Text),
        column("what", ColumnKind::Text),
        column("reason", ColumnKind::Text),
        column("detail", ColumnKind::Text),
        column("bytes", ColumnKind::Bytes),
    ]
}
