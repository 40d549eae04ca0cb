//! What a name in a condition on rows stands for.

use emberwort_model::Plan;
use emberwort_model::model::{Field, Kind};
use emberwort_wire::{ValueRef, Values};

/// Where in the values of a message one stands: the slot of a field, and the way into it.
#[derive(Clone, Debug, PartialEq)]
pub struct Path {
    slot: usize,
    steps: Vec<Step>,
    /// What stands there.
    pub field: Field,
}

/// A step into a field.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Step {
    /// A field of a record, by index.
    Field(usize),
    /// A form of a union, by index.
    Form(usize),
    /// An element of a list, from 0.
    Element(usize),
}

impl Path {
    /// The place that a name says among some fields: `opening`, `position.x`, `strokes[2].travel`, `level.downstream`.
    pub fn find(fields: &[Field], name: &str) -> Option<Self> {
        let (slot, steps, field) = walk(fields, name)?;
        Some(Self { slot, steps, field: field.clone() })
    }

    /// The slot of the field of the message in which it stands.
    pub(crate) fn first_slot(&self) -> usize {
        self.slot
    }

    /// Its slot, if it is a field of the message itself.
    pub(crate) fn plain_slot(&self) -> Option<usize> {
        self.steps.is_empty().then_some(self.slot)
    }

    /// The slot where it stands in some values; `None` if it is not there.
    #[inline]
    pub fn slot(&self, values: &Values) -> Option<usize> {
        let mut slot = self.slot;
        for step in &self.steps {
            slot = match (step, values.get(slot)) {
                (Step::Field(index) | Step::Element(index), ValueRef::Group { first, count }) if *index < count => {
                    first + index
                }
                (Step::Form(index), ValueRef::Chosen { form, slot }) if form == *index => slot,
                _ => return None,
            };
        }
        Some(slot)
    }
}

/// The slot of a field, the way into it, and what stands there.
fn walk<'f>(fields: &'f [Field], name: &str) -> Option<(usize, Vec<Step>, &'f Field)> {
    let mut parts = name.split(['.', '[']);
    let first = parts.next()?;
    let slot = fields.iter().position(|field| !field.is_spare() && field.name == first)?;
    let (mut field, mut steps) = (&fields[slot], Vec::new());
    for part in parts {
        let step = match (&field.kind, part.strip_suffix(']')) {
            (Kind::List { element, .. }, Some(number)) => {
                field = element;
                Step::Element(number.parse().ok()?)
            }
            (Kind::Record(record), None) => {
                let index = record.fields.iter().position(|field| !field.is_spare() && field.name == part)?;
                field = &record.fields[index];
                Step::Field(index)
            }
            (Kind::Union(union), None) => {
                let index =
                    (0..=union.cases.len()).find(|form| union.form(*form).is_some_and(|form| form.name == part))?;
                field = union.form(index)?;
                Step::Form(index)
            }
            _ => return None,
        };
        steps.push(step);
    }
    Some((slot, steps, field))
}

/// A field by its name, also inside of others.
pub(crate) fn field_at<'f>(fields: &'f [Field], name: &str) -> Option<&'f Field> {
    walk(fields, name).map(|(.., field)| field)
}

/// What is asked of a field.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Aspect {
    /// Its physical value.
    Value,
    /// Its code on the wire.
    Raw,
    /// Its physical value in the message before.
    Previous,
    /// Whether it is another one than in the message before.
    Changed,
}

/// What a name stands for.
#[derive(Clone, Debug, PartialEq)]
pub enum Variable {
    /// A field of the message.
    Of(Aspect, Box<Path>),
    /// Something that the message does not have.
    Never,
    /// A name that stands for a number, and what it can be compared with.
    Constant(&'static str, f64),
    /// The message, by index.
    Message,
    /// The node.
    Node,
    /// The sequence number.
    Sequence,
    /// 0 from the device, 1 from the host.
    Direction,
    /// The channel, by index.
    Channel,
    /// Bytes of the frame, or stray ones.
    Length,
    /// The reason why a frame is broken, counted from 1; 0 if it is not.
    Broken,
    /// The reason why a frame cannot be read, counted from 1; 0 if it can.
    Unread,
    /// Whether bytes belong to no frame.
    Stray,
    /// Seconds since the message before of the same kind and sender.
    Age,
    /// Seconds since the last message with that number in [`Names`] on the same channel, of the same node.
    AgeOf(usize),
}

impl Variable {
    /// Whether it needs what came before.
    pub fn looks_back(&self) -> bool {
        matches!(self, Self::Age | Self::AgeOf(_) | Self::Of(Aspect::Previous | Aspect::Changed, _))
    }
}

/// Names of messages, which mean the same in all definitions.
#[derive(Clone, Debug, Default)]
pub struct Names(Vec<String>);

impl Names {
    /// The number of a name.
    pub fn number(&mut self, name: &str) -> usize {
        self.0.iter().position(|known| known == name).unwrap_or_else(|| {
            self.0.push(name.to_owned());
            self.0.len() - 1
        })
    }
}

/// All names that a condition on rows of a plan can have.
pub(crate) fn all_names(plan: &Plan) -> Vec<&str> {
    let mut names =
        vec!["message", "node", "direction", "channel", "sequence", "length", "broken", "unread", "stray", "age"];
    for compiled in &plan.messages {
        names.push(&compiled.message.name);
        names.extend(compiled.message.fields.iter().filter(|field| !field.is_spare()).map(|field| field.name.as_str()));
    }
    // Many messages have fields of one name.
    let mut listed = std::collections::HashSet::new();
    names.retain(|name| listed.insert(*name));
    names
}
