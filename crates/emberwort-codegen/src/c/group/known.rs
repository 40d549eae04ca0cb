//! Straight-line code for what lies at known places, behind one test of the length.

use emberwort_model::model::Length;
use emberwort_model::plan::{Action, SectionPlan, Step};

use super::cursor::Cursor;
use super::expressions::{as_byte, number, part_of};
use super::{Group, Take, Target, default_of, default_raw};
use crate::c::numbers;
use crate::c::words::member;
use crate::lower::{Byte, Known, Piece, What};
use crate::names::snake;

/// A byte of the body: of one at a known place, or behind the section's start, to which a pointer leads: so compilers see that bytes follow
/// each other.
pub fn byte_at(known: &Known, byte: usize) -> String {
    match known.start {
        Some(start) => format!("body[{}]", start + byte),
        None => format!("section[{byte}]"),
    }
}

/// The statement that sets the pointer to a section, where one is needed.
pub fn begin(known: &Known) -> Option<String> {
    known.start.is_none().then(|| "section = body + start;".to_owned())
}

impl Group<'_> {
    /// What reads the fields of a section at known places. Its length was tested.
    pub fn read_known(&self, section: &SectionPlan, known: &Known, take: Take, target: &str) -> Vec<String> {
        let deciders = self.deciders();
        let mut lines: Vec<String> = begin(known).into_iter().collect();
        for item in &known.items {
            let (step, field) = (&section.steps[item.step], &self.fields[item.slot]);
            let name = member(&field.name);
            match (&item.what, &step.action) {
                (What::Number(pieces), Action::Bits { width, .. }) => {
                    let raw = || number(self.link, &field.kind, *width, pieces, |byte| byte_at(known, byte));
                    if deciders.contains(&item.slot) {
                        lines.push(format!("key_{} = (uint64_t)({});", item.slot, raw()));
                    }
                    if take == Take::Keep && !field.is_spare() {
                        lines.push(format!("{target}{name} = {};", raw()));
                    }
                }
                (What::Bytes { byte, count, text: false }, _) if take == Take::Keep && !field.is_spare() => {
                    let from = byte_at(known, *byte);
                    lines.push(format!("memcpy({target}{name}, &{from}, {count}u);"));
                }
                (What::Bytes { .. } | What::Spare, _) if take == Take::Nothing || field.is_spare() => {}
                (What::Bytes { .. } | What::Group { .. }, _) => {
                    let cursor = Cursor::of_step(step);
                    lines.extend(self.place(cursor, step, known));
                    lines.extend(self.read_step(cursor, step, take, target));
                }
                _ => {}
            }
        }
        lines
    }

    /// What writes the fields of a section at known places: first all values are looked at, then the room, then each byte is written once.
    pub fn write_known(&self, section: &SectionPlan, known: &Known, target: &str) -> Vec<String> {
        let upper = self.upper;
        let mut lines = Vec::new();
        let numbers = || {
            known.items.iter().filter_map(|item| match (&item.what, &section.steps[item.step].action) {
                (What::Number(_), Action::Bits { width, .. }) if !self.fields[item.slot].is_spare() => {
                    Some((item.slot, *width))
                }
                _ => None,
            })
        };
        let value = |slot: usize| format!("{target}{}", member(&self.fields[slot].name));
        let checked: Vec<String> = numbers()
            .filter(|(slot, _)| !numbers::is_always_valid(&self.fields[*slot]))
            .map(|(slot, _)| format!("!{}_{}_valid({})", self.stem, member(&self.fields[slot].name), value(slot)))
            .collect();
        if !checked.is_empty() {
            let condition = checked.join("\n    || ");
            lines.push(format!("if ({condition}) {{\n    return {upper}_OUT_OF_RANGE;\n}}"));
        }
        let end = match known.start {
            Some(start) => format!("room < {}u", start + known.bytes),
            None => format!("room < start + {}u", known.bytes),
        };
        if known.bytes > 0 {
            lines.push(format!("if ({end}) {{\n    return {upper}_NO_ROOM;\n}}"));
        }
        lines.extend(begin(known));
        let is_sent = |slot: usize| !self.fields[slot].is_spare();
        for Byte { byte, parts } in known.sums(is_sent) {
            let part = |(slot, piece): &(usize, Piece)| {
                let width = numbers().find(|(of, _)| of == slot).map_or(8, |(_, width)| width);
                part_of(&self.fields[*slot].kind, width, piece, &value(*slot))
            };
            let place = byte_at(known, byte);
            let all: Vec<String> = parts.iter().map(part).collect();
            lines.push(match all.as_slice() {
                [] => format!("{place} = 0u;"),
                [one] => format!("{place} = {};", as_byte(one)),
                all => format!("{place} = (uint8_t)({});", all.join(" | ")),
            });
        }
        for item in &known.items {
            let (step, field) = (&section.steps[item.step], &self.fields[item.slot]);
            match &item.what {
                What::Bytes { byte, count, text: false } if !field.is_spare() => {
                    lines.push(format!("memcpy(&{}, {}, {count}u);", byte_at(known, *byte), value(item.slot)));
                }
                What::Bytes { .. } | What::Group { .. } if !field.is_spare() => {
                    let cursor = Cursor::of_step(step);
                    lines.extend(self.place(cursor, step, known));
                    lines.extend(self.write_step(cursor, step, target));
                }
                _ => {}
            }
        }
        lines
    }

    /// Whether it puts numbers into bytes bit by bit, so that these have to be zero.
    pub fn puts_bits(&self) -> bool {
        self.sections.iter().any(|section| {
            let known = &section.steps[..section.fixed_steps];
            let in_bits = |step: &Step| match step.action {
                Action::Bits { .. } | Action::Skip { .. } => false,
                _ => Cursor::of_step(step) == Cursor::Bits,
            };
            Cursor::of(section) == Cursor::Bits
                || known.iter().any(in_bits)
                || section.steps.iter().any(|step| self.puts_bits_in(&step.action))
        })
    }

    /// Whether records inside of something do.
    fn puts_bits_in(&self, action: &Action) -> bool {
        match action {
            Action::Record(record) => {
                Group { sections: &record.sections, fields: &record.record.fields, ..*self }.puts_bits()
            }
            Action::List(list) => self.puts_bits_in(&list.element.action),
            Action::Union(union) => union.forms.iter().any(|form| self.puts_bits_in(&form.action)),
            Action::Bits { .. } | Action::Varint { .. } | Action::Run { .. } | Action::Skip { .. } => false,
        }
    }

    /// What sets the fields of a section and of all later ones, which a body does not have.
    pub fn unset_sections(&self, index: usize, target: &str) -> Vec<String> {
        let mut lines = Vec::new();
        for step in self.sections[index..].iter().flat_map(|section| &section.steps) {
            let field = &self.fields[step.slot];
            if field.is_spare() {
                continue;
            }
            if step.presence.is_some() {
                lines.push(format!("{target}has_{} = false;", member(&field.name)));
            }
            lines.extend(self.unset(step.slot, &step.action, target));
        }
        lines
    }

    /// What sets a field that a body does not have: its default, or nothing.
    pub fn unset(&self, slot: usize, action: &Action, target: &str) -> Vec<String> {
        let field = &self.fields[slot];
        let name = member(&field.name);
        let to = Target { prefix: target, name: &name };
        let default = default_of(self.link, field, action, to);
        if !default.is_empty() {
            return default;
        }
        match action {
            Action::Bits { .. } | Action::Varint { .. } => {
                vec![format!("{} = {};", to.value(), default_raw(self.link, field))]
            }
            Action::Run { length: Length::Exact(count), text: false } => {
                vec![format!("memset({}, 0, {count}u);", to.value())]
            }
            Action::Run { length: Length::Rest, .. } => {
                vec![format!("{} = NULL;", to.value()), format!("{} = 0u;", to.length())]
            }
            Action::Run { .. } => vec![format!("{} = 0u;", to.length())],
            Action::Record(record) => {
                vec![format!("{}_{}_init(&{});", self.link, snake(&record.record.name), to.value())]
            }
            Action::List(list) if matches!(list.length, Length::Exact(_)) => {
                vec![format!("memset({0}, 0, sizeof {0});", to.value())]
            }
            Action::List(_) => vec![format!("{} = 0u;", to.count())],
            Action::Union(_) => {
                vec![format!("{} = 0u;", to.form()), format!("memset(&{0}, 0, sizeof {0});", to.value())]
            }
            Action::Skip { .. } => Vec::new(),
        }
    }
}
