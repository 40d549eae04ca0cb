//! What a receiver makes of values: the same as the sender meant, less, or something else.

use emberwort_model::model::{Field, Kind, Length, NumberForm, Union, Value, float_value};
use emberwort_model::number::Distance;
use emberwort_text::write_value;
use emberwort_wire::values::signed;
use emberwort_wire::{ValueRef, Values};

use crate::matching::{self, Label};
use crate::units::same_unit;
use crate::verdict::Verdict;

/// A field by the message, record or table that has it, and its name.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Place {
    /// The message, record or table.
    pub owner: String,
    /// The field.
    pub field: String,
}

/// One value that a receiver takes otherwise than it was meant.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Deviation {
    /// Whether something is lost, or taken for something else.
    pub verdict: Verdict,
    /// The field, from the message inwards: of the receiver, or of the sender if the receiver does not know it.
    pub trail: Vec<Place>,
    /// What was meant; empty if nothing was.
    pub sent: String,
    /// What is read; empty if nothing is.
    pub read: String,
    /// What there is to say beside that; may be empty.
    pub remark: &'static str,
}

impl Deviation {
    /// The field's name as people write it: `strokes.pressure`.
    pub fn path(&self) -> String {
        self.trail
            .iter()
            .map(|place| place.field.as_str())
            .filter(|name| !name.is_empty())
            .collect::<Vec<_>>()
            .join(".")
    }

    /// What happens, in a sentence without an end.
    pub fn sentence(&self) -> String {
        let path = self.path();
        match (self.sent.as_str(), self.read.as_str()) {
            ("", read) => format!("{path} is not sent, and would be read as {read}"),
            (sent, "") => format!("{path} {sent} would not be read"),
            (sent, read) => format!("{path} {sent} would be read as {read}{}", self.remark),
        }
    }
}

/// The values of a message or record, on one side.
#[derive(Clone, Copy)]
pub struct Side<'a> {
    /// The message or record.
    pub owner: &'a str,
    /// Its fields.
    pub fields: &'a [Field],
    /// The values.
    pub values: &'a Values,
    /// The slot of its first field.
    pub base: usize,
}

/// One value, on one side.
#[derive(Clone, Copy)]
struct OneSide<'a> {
    field: &'a Field,
    values: &'a Values,
    slot: usize,
}

impl OneSide<'_> {
    fn get(&self) -> ValueRef<'_> {
        self.values.get(self.slot)
    }

    fn text(&self) -> String {
        let mut text = String::new();
        // Writing to a String cannot fail.
        let _ = write_value(self.field, self.values, self.slot, &mut text);
        if !self.field.unit.is_empty() && text != "none" && text != "–" && !text.starts_with("raw ") {
            text.push(' ');
            text.push_str(&self.field.unit);
        }
        text
    }

    fn is_there(&self) -> bool {
        !matches!(self.get(), ValueRef::Absent | ValueRef::Unset)
    }

    fn is_none(&self, raw: u64) -> bool {
        self.field.kind.none() == Some(signed(&self.field.kind, raw))
    }

    /// Whether this is what the definition assumes when the sender does not say it.
    fn is_assumed(&self) -> bool {
        match (self.get(), &self.field.default) {
            (ValueRef::Absent | ValueRef::Unset, _) => true,
            (ValueRef::Raw(raw), Some(Value::Raw(default))) if raw == *default => true,
            (ValueRef::Raw(raw), _) => self.is_none(raw),
            (ValueRef::Bytes(bytes), Some(Value::Bytes(default))) => bytes == default,
            (ValueRef::Bytes(bytes), None) => bytes.is_empty(),
            (ValueRef::Group { count, .. }, _) => count == 0 && matches!(self.field.kind, Kind::List { .. }),
            _ => false,
        }
    }
}

/// Finds what is taken otherwise than it was meant.
pub fn deviations(sent: Side<'_>, read: Side<'_>) -> Vec<Deviation> {
    let mut reader = Reader { trail: Vec::new(), found: Vec::new() };
    reader.group(sent, read);
    // What is taken for something else says more than what only one side knows.
    reader.found.sort_by_key(|deviation| deviation.sent.is_empty() || deviation.read.is_empty());
    reader.found
}

struct Reader {
    trail: Vec<Place>,
    found: Vec<Deviation>,
}

impl Reader {
    fn note(&mut self, verdict: Verdict, sent: String, read: String, remark: &'static str) {
        self.found.push(Deviation { verdict, trail: self.trail.clone(), sent, read, remark });
    }

    fn within(&mut self, owner: &str, field: &Field, act: impl FnOnce(&mut Self)) {
        self.trail.push(Place { owner: owner.to_owned(), field: field.name.clone() });
        act(self);
        self.trail.pop();
    }

    fn group(&mut self, sent: Side<'_>, read: Side<'_>) {
        let there = matching::fields(sent.fields, read.fields);
        for (slot, field) in read.fields.iter().enumerate().filter(|(_, field)| !field.is_spare()) {
            let to = OneSide { field, values: read.values, slot: read.base + slot };
            let from = there.iter().position(|other| *other == Some(slot));
            self.within(read.owner, field, |reader| match from {
                Some(from) => {
                    let from = OneSide { field: &sent.fields[from], values: sent.values, slot: sent.base + from };
                    reader.value(from, to);
                }
                None if to.is_assumed() => {}
                None => reader.note(Verdict::Misread, String::new(), to.text(), ""),
            });
        }
        for (slot, field) in sent.fields.iter().enumerate().filter(|(_, field)| !field.is_spare()) {
            let from = OneSide { field, values: sent.values, slot: sent.base + slot };
            // Constants say nothing.
            let says_something =
                !matches!(field.kind, Kind::Number(form) if form.low == form.high && form.none.is_none());
            if there[slot].is_none() && from.is_there() && says_something {
                self.within(sent.owner, field, |reader| {
                    reader.note(Verdict::FineWithLoss, from.text(), String::new(), "");
                });
            }
        }
    }

    fn value(&mut self, from: OneSide<'_>, to: OneSide<'_>) {
        match (from.is_there(), to.is_there()) {
            (false, false) => return,
            (true, false) => return self.note(Verdict::FineWithLoss, from.text(), String::new(), ""),
            (false, true) => {
                if !to.is_assumed() {
                    self.note(Verdict::Misread, String::new(), to.text(), "");
                }
                return;
            }
            (true, true) => {}
        }
        match (from.get(), to.get()) {
            (ValueRef::Raw(_), ValueRef::Raw(_)) => self.number(from, to),
            (ValueRef::Bytes(sent), ValueRef::Bytes(read)) => {
                let padded = |field: &Field| matches!(field.kind, Kind::Text { length: Length::Exact(_), .. });
                let cut = |bytes: &[u8]| bytes.iter().rposition(|byte| *byte != 0).map_or(0, |last| last + 1);
                let same = match padded(from.field) || padded(to.field) {
                    true => sent[..cut(sent)] == read[..cut(read)],
                    false => sent == read,
                };
                let unreadable = match to.field.kind {
                    Kind::Text { ascii: true, .. } => !read.is_ascii(),
                    Kind::Text { .. } => std::str::from_utf8(read).is_err(),
                    _ => false,
                };
                if !same {
                    self.note(Verdict::Misread, from.text(), to.text(), "");
                } else if unreadable {
                    self.note(Verdict::FineWithLoss, from.text(), to.text(), "");
                }
            }
            (ValueRef::Group { first: a, count }, ValueRef::Group { first: b, count: read_count }) => {
                match (&from.field.kind, &to.field.kind) {
                    (Kind::Record(sent), Kind::Record(read)) => self.group(
                        Side { owner: &sent.name, fields: &sent.fields, values: from.values, base: a },
                        Side { owner: &read.name, fields: &read.fields, values: to.values, base: b },
                    ),
                    (Kind::List { element: sent, .. }, Kind::List { element: read, .. }) if count == read_count => {
                        for n in 0..count {
                            let from = OneSide { field: sent, values: from.values, slot: a + n };
                            let to = OneSide { field: read, values: to.values, slot: b + n };
                            self.value(from, to);
                        }
                    }
                    _ => self.note(Verdict::Misread, from.text(), to.text(), ""),
                }
            }
            (ValueRef::Chosen { form: a, slot: sent }, ValueRef::Chosen { form: b, slot: read }) => {
                let forms = match (&from.field.kind, &to.field.kind) {
                    (Kind::Union(one), Kind::Union(other)) => {
                        one.form(a).zip(other.form(b)).map(|forms| (forms, one, other))
                    }
                    _ => None,
                };
                let Some(((one, other), sender, receiver)) = forms else {
                    return self.note(Verdict::Misread, from.text(), to.text(), "");
                };
                let knows = |union: &Union, name: &str| union.cases.iter().any(|case| case.field.name == name);
                if b >= receiver.cases.len() || a >= sender.cases.len() {
                    // Not among the forms of one side, which takes it for whatever stands for all others.
                    let before = self.found.len();
                    self.inner(one, other, (from.values, sent), (to.values, read));
                    let both = b >= receiver.cases.len() && a >= sender.cases.len();
                    if self.found.len() == before && !both {
                        self.note(Verdict::FineWithLoss, from.text(), to.text(), "");
                    }
                    for deviation in &mut self.found[before..] {
                        deviation.verdict = Verdict::FineWithLoss;
                    }
                    return;
                }
                let moved = one.name != other.name && (knows(receiver, &one.name) || knows(sender, &other.name));
                if moved {
                    return self.note(Verdict::Misread, from.text(), to.text(), "");
                }
                self.inner(one, other, (from.values, sent), (to.values, read));
            }
            _ => self.note(Verdict::Misread, from.text(), to.text(), ""),
        }
    }

    /// The value of a form.
    fn inner(&mut self, one: &Field, other: &Field, sent: (&Values, usize), read: (&Values, usize)) {
        let place = Place {
            owner: self.trail.last().map_or_else(String::new, |last| last.owner.clone()),
            field: other.name.clone(),
        };
        self.trail.push(place);
        self.value(
            OneSide { field: one, values: sent.0, slot: sent.1 },
            OneSide { field: other, values: read.0, slot: read.1 },
        );
        self.trail.pop();
    }

    /// Two raw numbers.
    fn number(&mut self, from: OneSide<'_>, to: OneSide<'_>) {
        let (ValueRef::Raw(sent), ValueRef::Raw(read)) = (from.get(), to.get()) else { return };
        let (a, b) = (signed(&from.field.kind, sent), signed(&to.field.kind, read));
        match (from.is_none(sent), to.is_none(read)) {
            (true, true) => return,
            // The receiver is told that it does not know this code.
            (true, false) if !to.field.kind.is_valid(b) => {
                return self.note(Verdict::FineWithLoss, from.text(), to.text(), "");
            }
            (true, false) | (false, true) => return self.note(Verdict::Misread, from.text(), to.text(), ""),
            (false, false) => {}
        }
        let same = same_number((&from.field.kind, a, sent), (&to.field.kind, b, read));
        // The receiver is told that it does not know this code; of flags, the others are taken as they are.
        let is_other_flag = same == Sameness::Other && matches!(to.field.kind, Kind::Flags(_));
        if !to.field.kind.is_valid(b) && !is_other_flag {
            return self.note(Verdict::FineWithLoss, from.text(), to.text(), "");
        }
        let units = (&from.field.unit, &to.field.unit);
        let other_unit = !units.0.is_empty() && !units.1.is_empty() && !same_unit(units.0, units.1);
        match same {
            _ if other_unit => self.note(Verdict::Misread, from.text(), to.text(), ""),
            Sameness::Same => {}
            Sameness::Near => self.note(Verdict::FineWithLoss, from.text(), to.text(), ", less than one step off"),
            Sameness::Other => self.note(Verdict::Misread, from.text(), to.text(), ""),
        }
    }
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum Sameness {
    Same,
    /// Less than one step off.
    Near,
    Other,
}

fn same_number((one, a, sent): (&Kind, i128, u64), (other, b, read): (&Kind, i128, u64)) -> Sameness {
    let when = |same: bool| if same { Sameness::Same } else { Sameness::Other };
    let plain = |kind: &Kind| match kind {
        Kind::Number(form) | Kind::Varint(form) => form.scaling.is_identity(),
        Kind::Bool | Kind::Enum { .. } | Kind::Flags(_) | Kind::Time { .. } => true,
        _ => false,
    };
    match (one, other) {
        (Kind::Number(x) | Kind::Varint(x), Kind::Number(y) | Kind::Varint(y)) => same_physical((x, a), (y, b)),
        (Kind::Float(x), Kind::Float(y)) => {
            let (x, y) = (float_value(*x, sent), float_value(*y, read));
            when(x == y || (x.is_nan() && y.is_nan()))
        }
        (Kind::Enum { labels: x, .. }, Kind::Enum { labels: y, .. }) => {
            if a != b {
                return Sameness::Other;
            }
            match matching::label(x, y, sent) {
                Some(Label::Other) => Sameness::Other,
                _ => Sameness::Same,
            }
        }
        (Kind::Flags(x), Kind::Flags(y)) => {
            if a != b {
                return Sameness::Other;
            }
            let mut set = x.labels.iter().filter(|flag| sent >> flag.code & 1 == 1);
            when(set.all(|flag| match matching::label(x, y, flag.code) {
                Some(Label::Other) => false,
                // A flag that has moved to another bit is read as not set.
                Some(Label::Unknown) => y.named(&flag.name).is_none(),
                _ => true,
            }))
        }
        (Kind::Enum { .. }, Kind::Flags(_)) | (Kind::Flags(_), Kind::Enum { .. }) => Sameness::Other,
        (Kind::Time { milliseconds: x }, Kind::Time { milliseconds: y }) => when(x == y && a == b),
        // A bare number says as much as the code of a label.
        _ if plain(one) && plain(other) => when(a == b),
        _ => Sameness::Other,
    }
}

fn same_physical((x, a): (&NumberForm, i128), (y, b): (&NumberForm, i128)) -> Sameness {
    match x.scaling.distance(a, &y.scaling, b) {
        Distance::None => Sameness::Same,
        Distance::LessThanStep => Sameness::Near,
        Distance::StepOrMore => Sameness::Other,
    }
}
