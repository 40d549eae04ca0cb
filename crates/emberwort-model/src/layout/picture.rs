//! The layout of a message's body as something to draw: spans of bits for what has a fixed place, bands for what moves.

use super::{bit_owners, content_text};
use crate::model::{ByteOrder, Field, Length};
use crate::plan::{Action, MessagePlan, SectionPlan, count_bytes};

/// A message's body, ready to be drawn.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Picture {
    /// The message's name.
    pub title: String,
    /// The order in which bits fill a byte: with little-endian links bit 0 is drawn on the left, so that every field is one
    /// stretch even across bytes.
    pub order: ByteOrder,
    /// The sections in order.
    pub sections: Vec<PictureSection>,
    /// Fewest and most bytes.
    pub sizes: (usize, usize),
    /// Whether a field reaches to the body's end.
    pub has_rest: bool,
}

/// One section of a body.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PictureSection {
    /// The revision that added it.
    pub revision: u32,
    /// The byte at which it always starts, if it does.
    pub start: Option<usize>,
    /// Stretches of bits from its start, without gaps, up to whole bytes.
    pub spans: Vec<BitSpan>,
    /// Fields behind them, whose places vary.
    pub bands: Vec<Band>,
}

/// A stretch of bits that belongs to one thing.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct BitSpan {
    /// The first bit from the section's start, in drawing order.
    pub first: usize,
    /// How many bits.
    pub bits: usize,
    /// The field's name; empty for space.
    pub name: String,
    /// What it is.
    pub kind: SpanKind,
    /// Which of several stretches of the same field this is, and how many there are; (1, 1) for almost all.
    pub part: (usize, usize),
}

/// What a stretch of bits is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SpanKind {
    /// A field; the number is its place among the section's fields, for colours that differ.
    Field(usize),
    /// Presence bits.
    Presence,
    /// Spare, retired or filled up: sent as zero.
    Spare,
}

/// A field whose place or size varies.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Band {
    /// Its name.
    pub name: String,
    /// What it holds, and how it begins.
    pub text: String,
    /// Fewest and most bits; `None` for one that reaches to the end.
    pub bits: Option<(u64, u64)>,
    /// What it is.
    pub kind: SpanKind,
}

impl Band {
    /// Its size, as `12 bits` or `1 to 13 bytes`, and what it holds. What reaches to the end says so itself.
    pub fn sentence(&self) -> String {
        let size = match self.bits {
            None => return self.text.clone(),
            Some((1, 1)) => "1 bit".to_owned(),
            Some((least, greatest)) if least == greatest => format!("{least} bits"),
            Some((least, greatest)) if least % 8 == 0 && greatest % 8 == 0 => {
                format!("{} to {} bytes", least / 8, greatest / 8)
            }
            Some((least, greatest)) => format!("{least} to {greatest} bits"),
        };
        format!("{size}: {}", self.text)
    }
}

/// The picture of a message.
pub fn picture(plan: &MessagePlan) -> Picture {
    let mut start = Some(0);
    let sections = plan
        .sections
        .iter()
        .map(|section| {
            let drawn = draw(section, &plan.message.fields, plan.byte_order, start);
            start = start.filter(|_| section.fixed).map(|start| start + section.greatest_size);
            drawn
        })
        .collect();
    Picture {
        title: plan.message.name.clone(),
        order: plan.byte_order,
        sections,
        sizes: (plan.least_size(), plan.greatest_size()),
        has_rest: plan.has_rest,
    }
}

fn draw(section: &SectionPlan, fields: &[Field], order: ByteOrder, start: Option<usize>) -> PictureSection {
    let mut owners = bit_owners(section, fields, order);
    owners.resize(owners.len().next_multiple_of(8), None);
    let mut spans: Vec<BitSpan> = Vec::new();
    for (bit, owner) in owners.iter().enumerate() {
        let (name, kind) = match owner {
            _ if bit < section.presence_bytes * 8 => ("presence".to_owned(), SpanKind::Presence),
            None => (String::new(), SpanKind::Spare),
            Some(index) => {
                let field = &fields[section.steps[*index].slot];
                if field.is_spare() {
                    (field.name.clone(), SpanKind::Spare)
                } else {
                    (field.name.clone(), SpanKind::Field(*index))
                }
            }
        };
        match spans.last_mut() {
            // Two spare fields side by side are one stretch of nothing.
            Some(last) if last.kind == kind && last.name == name => last.bits += 1,
            _ => spans.push(BitSpan { first: bit, bits: 1, name, kind, part: (1, 1) }),
        }
    }
    number_parts(&mut spans);
    let bands = section.steps[section.fixed_steps..]
        .iter()
        .enumerate()
        .map(|(n, step)| {
            let field = &fields[step.slot];
            let index = section.fixed_steps + n;
            let kind = if field.is_spare() { SpanKind::Spare } else { SpanKind::Field(index) };
            let bits = (!step.action.has_rest()).then(|| step.action.bits());
            let mut text = beginning(&step.action);
            text.push_str(&content_text(field));
            if let Some(bit) = step.presence {
                text.push_str(&format!("; there if presence bit {bit} is set"));
            }
            let name = if field.is_spare() { "spare".into() } else { field.name.clone() };
            Band { name, text, bits, kind }
        })
        .collect();
    PictureSection { revision: section.revision, start, spans, bands }
}

/// What stands in front of a field whose size varies.
fn beginning(action: &Action) -> String {
    let length = match action {
        Action::Run { length, .. } => *length,
        Action::List(list) => list.length,
        _ => return String::new(),
    };
    match length {
        Length::UpTo(most) => format!("count in {}, then ", if count_bytes(most) == 1 { "1 byte" } else { "2 bytes" }),
        Length::Exact(_) | Length::Rest => String::new(),
    }
}

/// Tells the stretches of a field that lies in several from each other.
fn number_parts(spans: &mut [BitSpan]) {
    for n in 0..spans.len() {
        let SpanKind::Field(_) = spans[n].kind else { continue };
        let same = |span: &BitSpan| span.kind == spans[n].kind;
        let all = spans.iter().filter(|span| same(span)).count();
        let before = spans[..n].iter().filter(|span| same(span)).count();
        spans[n].part = (before + 1, all);
    }
}
