//! What the fields of a message held.

use std::collections::{BTreeMap, HashSet};

use emberwort_model::model::{Field, Kind};
use emberwort_text::formula::number;
use emberwort_wire::values::signed;
use emberwort_wire::{Time, ValueRef, Values};

use super::Sender;

/// So many different codes of a field are kept apart.
const MAX_CODES: usize = 1 << 16;

/// So many different labels, or texts, are counted by themselves.
const MAX_LABELS: usize = 256;

/// The values of one field.
#[derive(Clone, Debug)]
pub struct FieldSummary {
    /// The field, as it was defined for the first row.
    pub field: Field,
    /// How many times it had a value.
    pub count: u64,
    /// How many times it held that there is none.
    pub none: u64,
    /// How many times it was not there.
    pub absent: u64,
    /// How many times it held what the definition gives no meaning to.
    pub outside: u64,
    /// Least, greatest and sum of the physical numbers.
    pub span: Option<Span>,
    /// The different codes; `None` if there are more than are kept.
    codes: Option<HashSet<u64>>,
    /// For how long each code of a field with labels stood, in nanoseconds, from a row to the next one of its sender.
    pub held: BTreeMap<u64, u64>,
    /// The last code of each sender.
    last: BTreeMap<Sender, u64>,
    /// What lies inside: the fields of a record, the element of a list, the forms of a union.
    pub inner: Vec<FieldSummary>,
}

/// What physical numbers reached.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Span {
    /// The least.
    pub least: f64,
    /// The greatest.
    pub greatest: f64,
    /// The sum of all.
    pub sum: f64,
    /// The least and the greatest code.
    pub codes: (i128, i128),
}

impl FieldSummary {
    fn new(field: &Field) -> Self {
        let inner: Vec<Self> = match &field.kind {
            Kind::Record(record) => record.fields.iter().map(Self::new).collect(),
            Kind::List { element, .. } => vec![Self::new(element)],
            Kind::Union(union) => {
                (0..=union.cases.len()).filter_map(|form| union.form(form)).map(|form| Self::new(form)).collect()
            }
            _ => Vec::new(),
        };
        Self {
            field: field.clone(),
            count: 0,
            none: 0,
            absent: 0,
            outside: 0,
            span: None,
            codes: Some(HashSet::new()),
            held: BTreeMap::new(),
            last: BTreeMap::new(),
            inner,
        }
    }

    /// Takes all fields of a row, with the time of the row before it of the same sender.
    pub(super) fn add_all(
        all: &mut Vec<Self>,
        fields: &[Field],
        values: &Values,
        when: (Option<Time>, Option<Time>, Sender),
    ) {
        for (slot, field) in fields.iter().enumerate().filter(|(_, field)| !field.is_spare()) {
            let known = all.iter().position(|known| known.field.name == field.name);
            let at = known.unwrap_or_else(|| {
                all.push(Self::new(field));
                all.len() - 1
            });
            all[at].add(field, values, slot, when);
        }
    }

    fn add(&mut self, field: &Field, values: &Values, slot: usize, when: (Option<Time>, Option<Time>, Sender)) {
        match values.get(slot) {
            ValueRef::Unset | ValueRef::Absent => self.absent += 1,
            ValueRef::Raw(raw) => self.add_code(field, raw, values, slot, when),
            ValueRef::Bytes(bytes) => {
                self.count += 1;
                self.note(bytes.iter().fold(0xCBF2_9CE4_8422_2325, |sum: u64, byte| {
                    (sum ^ u64::from(*byte)).wrapping_mul(0x0100_0000_01B3)
                }));
            }
            ValueRef::Group { first, count } => {
                self.count += 1;
                match &field.kind {
                    Kind::Record(record) => {
                        for (n, inner) in record.fields.iter().enumerate().take(count) {
                            if let Some(summary) = self.inner.get_mut(n) {
                                summary.add(inner, values, first + n, when);
                            }
                        }
                    }
                    Kind::List { element, .. } => {
                        for n in 0..count {
                            if let Some(summary) = self.inner.first_mut() {
                                summary.add(element, values, first + n, when);
                            }
                        }
                    }
                    _ => {}
                }
            }
            ValueRef::Chosen { form, slot } => {
                self.count += 1;
                if let (Kind::Union(union), Some(summary)) = (&field.kind, self.inner.get_mut(form))
                    && let Some(field) = union.form(form)
                {
                    summary.add(field, values, slot, when);
                }
            }
        }
    }

    fn note(&mut self, code: u64) {
        if let Some(codes) = &mut self.codes {
            codes.insert(code);
            if codes.len() > MAX_CODES {
                self.codes = None;
            }
        }
    }

    fn add_code(
        &mut self,
        field: &Field,
        raw: u64,
        values: &Values,
        slot: usize,
        (before, now, sender): (Option<Time>, Option<Time>, Sender),
    ) {
        let code = signed(&field.kind, raw);
        if matches!(field.kind, Kind::Enum { .. } | Kind::Bool) {
            let stood = now.zip(before).map_or(0, |(now, before)| now.since(before));
            if let Some(last) = self.last.insert(sender, raw)
                && (self.held.len() < MAX_LABELS || self.held.contains_key(&last))
            {
                *self.held.entry(last).or_default() += stood;
            }
        }
        if field.kind.none() == Some(code) {
            self.none += 1;
            return;
        }
        self.count += 1;
        if !field.kind.is_valid(code) {
            self.outside += 1;
            return;
        }
        self.note(raw);
        let is_number = matches!(field.kind, Kind::Number(_) | Kind::Varint(_) | Kind::Float(_));
        if let Some(value) = number(field, values, slot).filter(|value| is_number && value.is_finite()) {
            let span = self.span.get_or_insert(Span { least: value, greatest: value, sum: 0.0, codes: (code, code) });
            span.least = span.least.min(value);
            span.greatest = span.greatest.max(value);
            span.sum += value;
            span.codes = (span.codes.0.min(code), span.codes.1.max(code));
        }
    }

    /// How many different values there were; `None` if more than are kept apart.
    pub fn distinct(&self) -> Option<usize> {
        self.codes.as_ref().map(HashSet::len)
    }

    /// Whether it never changed, of several values.
    pub fn is_constant(&self) -> bool {
        self.count > 1 && self.none == 0 && self.absent == 0 && self.outside == 0 && self.distinct() == Some(1)
    }

    /// The mean of the numbers.
    pub fn mean(&self) -> Option<f64> {
        let numbers = self.count - self.outside;
        self.span.filter(|_| numbers > 0).map(|span| span.sum / numbers as f64)
    }

    /// How many codes the definition gives a meaning to.
    pub fn possible(&self) -> Option<u128> {
        match &self.field.kind {
            Kind::Number(form) => {
                let none = form.none.is_some_and(|none| (form.low..=form.high).contains(&none));
                u128::try_from(form.high - form.low + 1 - i128::from(none)).ok()
            }
            Kind::Enum { labels, .. } => Some(labels.labels.len() as u128),
            Kind::Bool => Some(2),
            _ => None,
        }
    }

    /// How many bits fewer would hold all codes from the least that came to the greatest, and the one for none.
    pub fn spare_bits(&self) -> Option<u32> {
        let (Kind::Number(form), Some(span)) = (&self.field.kind, self.span) else { return None };
        let codes = u128::try_from(span.codes.1 - span.codes.0 + 1).ok()? + u128::from(form.none.is_some());
        let needed = 128 - codes.saturating_sub(1).leading_zeros();
        Some(u32::from(form.bits).saturating_sub(needed)).filter(|bits| *bits > 0)
    }
}
