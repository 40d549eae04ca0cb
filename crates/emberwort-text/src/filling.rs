//! Filling the values of a message from what a user gives: what is given, what can be wrong, and how each kind of field takes it.

use std::cell::RefCell;
use std::fmt;

use emberwort_model::Plan;
use emberwort_model::counting::{plural, some_of};
use emberwort_model::diagnostics::{escaped, nearest};
use emberwort_model::hex::parse_hex;
use emberwort_model::model::{Field, Kind, Labelled, Length, NumberForm, Union, Value, float_bits};
use emberwort_model::number::Decimal;
use emberwort_wire::{ValueRef, Values};
use jiff::Timestamp;

/// What is wrong with one field of a message, and a way out.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Problem {
    /// The field, as the user named it.
    pub field: String,
    /// What is wrong.
    pub message: String,
}

impl fmt::Display for Problem {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}: {}", escaped(&self.field), self.message)
    }
}

/// How a message is filled from what a user gives.
#[derive(Clone, Copy, Debug)]
pub struct Filling<'a> {
    /// Whether numbers outside a field's values are moved to the nearest one, instead of being a problem.
    pub clamp: bool,
    /// The sender's revision: fields added later take their default.
    pub revision: u32,
    /// The link, for frames inside of messages; without it they can only be given as hex.
    pub plan: Option<&'a Plan>,
    /// Where sentences about numbers go that lie between two steps of their field, or were moved to its end by `clamp`:
    /// `.soil[1]: 40.7 % became 40.5 %`.
    pub changed: Option<&'a RefCell<Vec<String>>>,
}

impl<'a> Filling<'a> {
    /// Filling for a sender of the link's own revision.
    pub fn of(plan: &'a Plan) -> Self {
        Self { clamp: false, revision: plan.link.revision, plan: Some(plan), changed: None }
    }

    /// How many sentences about changed numbers there are so far.
    pub(crate) fn changes(self) -> usize {
        self.changed.map_or(0, |changed| changed.borrow().len())
    }

    /// Puts the place before sentences from the given one on: `.soil`, `[1]`.
    pub(crate) fn inside(self, from: usize, place: impl Fn() -> String) {
        if let Some(changed) = self.changed {
            changed.borrow_mut()[from..].iter_mut().for_each(|sentence| sentence.insert_str(0, &place()));
        }
    }

    /// Filling where no link is known: all fields are there, and frames inside can only be given as hex.
    pub fn alone(clamp: bool) -> Self {
        Self { clamp, revision: u32::MAX, plan: None, changed: None }
    }
}

/// Fills the fields of a message or record, whose first slot is `base`; `set` takes what is given for one of them.
pub(crate) fn fill_group<'g, T>(
    (owner, fields, base): (&str, &[Field], usize),
    given: impl IntoIterator<Item = (&'g str, T)>,
    filling: Filling<'_>,
    values: &mut Values,
    set: impl Fn(&Field, usize, T, &mut Values) -> Result<(), String>,
) -> Result<(), Vec<Problem>> {
    let mut problems = Vec::new();
    let mut named = vec![false; fields.len()];
    let revision = filling.revision;
    for (name, value) in given {
        let problem = |message: String| Problem { field: name.to_owned(), message };
        let found = fields.iter().enumerate().find(|(_, field)| field.name == name && !field.is_spare());
        let Some((slot, field)) = found else {
            let names = fields.iter().filter(|field| !field.is_spare()).map(|field| field.name.as_str());
            problems.push(problem(match nearest(name, names.clone()) {
                Some(near) => format!("`{owner}` has no such field; did you mean `{near}`?"),
                None => format!("`{owner}` has no such field; it has {}", names.collect::<Vec<_>>().join(", ")),
            }));
            continue;
        };
        if std::mem::replace(&mut named[slot], true) {
            problems.push(problem("given twice; keep one".into()));
            continue;
        }
        let changes = filling.changes();
        let result = set(field, base + slot, value, values);
        filling.inside(changes, || format!(".{name}"));
        if let Err(message) = result {
            problems.push(problem(message));
        } else if field.since > revision && !is_default(field, values.get(base + slot)) {
            // A decoded row holds the defaults that stand for what an old sender lacks; another value cannot be sent.
            problems.push(problem(format!(
                "was added in revision {}, but the sender has revision {revision}; leave it out",
                field.since
            )));
        }
    }
    for (slot, field) in fields.iter().enumerate() {
        if named[slot] || field.is_spare() {
            continue;
        }
        if field.optional {
            values.set_absent(base + slot);
        } else if field.default.is_some() || field.since > revision {
            values.set_default(base + slot, field.default.as_ref());
        } else {
            problems.push(Problem { field: field.name.clone(), message: format!("missing; {}", holds(field)) });
        }
    }
    if problems.is_empty() { Ok(()) } else { Err(problems) }
}

fn is_default(field: &Field, value: ValueRef<'_>) -> bool {
    match (&field.default, value) {
        (Some(Value::Raw(default)), ValueRef::Raw(raw)) => *default == raw,
        (Some(Value::Bytes(default)), ValueRef::Bytes(bytes)) => default == bytes,
        _ => false,
    }
}

/// What a field holds, for a sentence: `it holds 0 .. 100 % in steps of 0.5`.
pub fn holds(field: &Field) -> String {
    let none = if field.kind.none().is_some() { ", or `none`" } else { "" };
    let what = match &field.kind {
        Kind::Number(form) | Kind::Varint(form) if form.low == form.high => format!("{}, always", form.low),
        Kind::Number(form) | Kind::Varint(form) => {
            let (a, b) = ends(form);
            let unit = if field.unit.is_empty() { String::new() } else { format!(" {}", escaped(&field.unit)) };
            format!("{a} .. {b}{unit} in steps of {}", form.scaling.step_text())
        }
        Kind::Bool => "`true` or `false`".into(),
        Kind::Float(bits) => format!("a {bits}-bit float"),
        Kind::Time { .. } => "a moment, as in 2026-11-23T04:30:00Z".into(),
        Kind::Enum { labels, .. } => format!("one of {}", some_labels(labels)),
        Kind::Flags(labels) => format!("a set of {}", some_labels(labels)),
        Kind::Text { ascii, length } => {
            let what = if *ascii { "ASCII text" } else { "text" };
            match length {
                Length::Exact(most) | Length::UpTo(most) => format!("{what} of at most {most} bytes"),
                Length::Rest => what.into(),
            }
        }
        Kind::Bytes(Length::Exact(count)) => format!("{count} bytes in hex"),
        Kind::Bytes(Length::UpTo(most)) => format!("at most {most} bytes in hex"),
        Kind::Bytes(Length::Rest) => "bytes in hex".into(),
        Kind::List { element, length } => {
            let count = match length {
                Length::Exact(count) => format!("{count}"),
                Length::UpTo(most) => format!("at most {most}"),
                Length::Rest => "any number of".into(),
            };
            format!("a JSON array of {count} elements; of each, {}", holds(element))
        }
        Kind::Record(record) => {
            let names: Vec<_> = record.fields.iter().filter(|f| !f.is_spare()).map(|f| f.name.as_str()).collect();
            format!("a JSON object with {}", names.join(", "))
        }
        Kind::Union(union) => {
            let names = || forms(union).map(|form| form.name.as_str());
            let example = names().next().map_or_else(String::new, |name| format!(", as in {{\"{name}\": …}}"));
            format!("a JSON object with one of {}{example}", some_of(names()))
        }
        Kind::NestedFrame { name, .. } => {
            format!("a frame of {name}: hex, or a JSON object with message, node, sequence and fields")
        }
        Kind::Spare { .. } => "nothing".into(),
    };
    format!("it holds {what}{none}")
}

/// All forms of a union, in the order of their indices.
pub fn forms(union: &Union) -> impl Iterator<Item = &Field> {
    union.cases.iter().map(|case| &*case.field).chain(union.otherwise.as_deref())
}

fn some_labels(labels: &Labelled) -> String {
    some_of(labels.labels.iter().map(|label| label.name.as_str()))
}

/// Least and greatest physical value.
fn ends(form: &NumberForm) -> (Decimal, Decimal) {
    let (a, b) = (form.scaling.physical(form.low), form.scaling.physical(form.high));
    if a.compare(b).is_le() { (a, b) } else { (b, a) }
}

/// Sets a number from its physical value.
pub(crate) fn set_number(
    field: &Field,
    form: &NumberForm,
    slot: usize,
    value: Decimal,
    filling: Filling<'_>,
    values: &mut Values,
) -> Result<(), String> {
    let (first, last) = (form.scaling.compare(form.low, value), form.scaling.compare(form.high, value));
    // Outside if both ends lie on the same side of it.
    let outside = first == last && first.is_ne();
    let raw = match form.scaling.nearest_raw(value) {
        Some(raw) if !outside && (form.low..=form.high).contains(&raw) => raw,
        _ if filling.clamp => {
            let falling = form.scaling.compare(form.low, form.scaling.physical(form.high)).is_gt();
            if first.is_gt() != falling { form.low } else { form.high }
        }
        _ => return Err(format!("{value} does not fit; {}", holds(field))),
    };
    // What is shown for the code is what was given, if it was shown before.
    let shown = form.scaling.physical(raw);
    if let Some(changed) = filling.changed
        && form.scaling.compare(raw, value).is_ne()
        && shown.compare(value).is_ne()
    {
        let unit = if field.unit.is_empty() { String::new() } else { format!(" {}", escaped(&field.unit)) };
        changed.borrow_mut().push(format!(": {value}{unit} became {shown}{unit}"));
    }
    values.set_raw(slot, raw as u64);
    Ok(())
}

/// Sets a raw number, valid or not, if its bits can hold it.
pub(crate) fn set_raw(field: &Field, slot: usize, raw: i128, values: &mut Values) -> Result<(), String> {
    let Some(bits) = field.kind.raw_bits() else {
        return Err("this field has no raw number".into());
    };
    let (low, high) = if field.kind.is_signed() {
        (-(1i128 << (bits - 1)), (1i128 << (bits - 1)) - 1)
    } else {
        (0, (1i128 << bits) - 1)
    };
    if !(low..=high).contains(&raw) {
        return Err(format!("the raw number {raw} does not fit; {bits} bits hold {low} .. {high}"));
    }
    values.set_raw(slot, raw as u64);
    Ok(())
}

pub(crate) fn set_label(labels: &Labelled, slot: usize, text: &str, values: &mut Values) -> Result<(), String> {
    let code = label_code(labels, text)?;
    values.set_raw(slot, code);
    Ok(())
}

pub(crate) fn label_code(labels: &Labelled, text: &str) -> Result<u64, String> {
    if let Some(label) = labels.named(text) {
        return Ok(label.code);
    }
    let near = nearest(text, labels.labels.iter().map(|label| label.name.as_str()));
    Err(match near {
        Some(near) => format!("`{}` has no label `{}`; did you mean `{near}`?", labels.name, escaped(text)),
        None => format!("`{}` has no label `{}`; it has {}", labels.name, escaped(text), some_labels(labels)),
    })
}

pub(crate) fn set_float(field: &Field, bits: u8, slot: usize, text: &str, values: &mut Values) -> Result<(), String> {
    match (float_bits(bits, text), text.parse::<f64>()) {
        (Some(raw), _) => {
            values.set_raw(slot, raw);
            Ok(())
        }
        (None, Ok(_)) => Err(format!("{} is beyond a {bits}-bit float", escaped(text))),
        (None, Err(_)) => Err(format!("`{}` is not a number; {}", escaped(text), holds(field))),
    }
}

pub(crate) fn set_string(field: &Field, slot: usize, text: &[u8], values: &mut Values) -> Result<(), String> {
    if let Kind::Text { ascii, length } = &field.kind {
        if let Length::Exact(most) | Length::UpTo(most) = length
            && text.len() > *most as usize
        {
            return Err(format!("this text has {}; {}", plural(text.len(), "byte"), holds(field)));
        }
        if *ascii && !text.is_ascii() {
            return Err(format!("only ASCII can stand here; {}", holds(field)));
        }
        if matches!(length, Length::Exact(_)) && text.last() == Some(&0) {
            return Err("a text of fixed length cannot end with a zero, which only fills it up".into());
        }
    }
    values.set_bytes(slot, text);
    Ok(())
}

pub(crate) fn set_hex(field: &Field, slot: usize, text: &str, values: &mut Values) -> Result<(), String> {
    let Some(bytes) = parse_hex(text) else {
        return Err(format!("`{}` is not hex; write two digits per byte, as in \"C6 39\"", escaped(text)));
    };
    let fits = match &field.kind {
        Kind::Bytes(Length::Exact(count)) => bytes.len() == *count as usize,
        Kind::Bytes(Length::UpTo(most)) => bytes.len() <= *most as usize,
        _ => true,
    };
    if !fits {
        return Err(format!("{} given; {}", plural(bytes.len(), "byte"), holds(field)));
    }
    values.set_bytes(slot, &bytes);
    Ok(())
}

/// Sets a moment from RFC 3339 text.
pub(crate) fn set_time(
    field: &Field,
    milliseconds: bool,
    slot: usize,
    text: &str,
    values: &mut Values,
) -> Result<(), String> {
    let Ok(moment) = text.parse::<Timestamp>() else {
        return Err(format!("`{}` is not a time; {}", escaped(text), holds(field)));
    };
    let raw = if milliseconds { i128::from(moment.as_millisecond()) } else { i128::from(moment.as_second()) };
    let exact = moment.subsec_nanosecond() % if milliseconds { 1_000_000 } else { 1_000_000_000 } == 0;
    if !exact {
        let unit = if milliseconds { "milliseconds" } else { "seconds" };
        return Err(format!("this field counts whole {unit}; leave the smaller part out"));
    }
    if raw < 0 || !field.kind.is_valid(raw) || !milliseconds && raw > i128::from(u32::MAX) {
        return Err(format!("{} is out of reach: the field counts from 1970 on", escaped(text)));
    }
    values.set_raw(slot, raw as u64);
    Ok(())
}
