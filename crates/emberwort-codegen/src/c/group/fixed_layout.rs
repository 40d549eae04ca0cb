//! Straight-line code for what lies at known places, behind one test of the length.

use std::collections::VecDeque;

use emberwort_model::model::Length;
use emberwort_model::plan::{Action, Step};

use super::cursor::{Cursor, Stretch};
use super::expressions::{as_byte, number, part_of};
use super::{Group, Target, ValueUse, default_of, default_raw, init, set, zeroed};
use crate::c::numbers;
use crate::c::tree::{Bound, Expr, Stmt, Test, Variable, expr};
use crate::c::words::member;
use crate::lower::{Byte, FixedItemKind, FixedLayout, Op, Piece, Section};

/// A byte of the body: of one at a known place, or behind the section's start, to which a pointer leads: so compilers see that bytes follow
/// each other.
pub(crate) fn byte_at(fixed: &FixedLayout, byte: usize) -> Expr {
    match fixed.start {
        Some(start) => expr![Variable::Body, format!("[{}]", start + byte)],
        None => expr![Variable::Section, format!("[{byte}]")],
    }
}

/// Sets the pointer to a section, where one is needed.
fn begin(fixed: &FixedLayout) -> Option<Stmt> {
    fixed.start.is_none().then(|| Stmt::Set(Variable::Section, expr![Variable::Body, " + ", Variable::Start]))
}

/// Operations that have not been printed yet.
pub(crate) type PendingOps<'s, 'a> = VecDeque<&'s Op<'a>>;

/// Takes the operations for the field with this slot, with what goes to its place.
pub(crate) fn take_field<'s, 'a>(slot: usize, pending: &mut PendingOps<'s, 'a>) -> Vec<&'s Op<'a>> {
    let is_it = |op: &&Op<'_>| matches!(op, Op::Field(of, _) if *of == slot);
    let count = pending.iter().position(is_it).map_or(0, |at| at + 1);
    pending.drain(..count).collect()
}

impl Group<'_> {
    /// Reads the fields of a section at known places. Its length was tested.
    pub(crate) fn read_known<'s, 'a>(
        &self,
        section: &'s Section<'a>,
        take: ValueUse,
        target: &str,
        pending: &mut PendingOps<'s, 'a>,
    ) -> Vec<Stmt> {
        let (deciders, known) = (self.deciders(), &section.fixed);
        let mut statements: Vec<Stmt> = begin(known).into_iter().collect();
        for item in &known.items {
            let (step, field) = (&section.plan.steps[item.step], &self.fields[item.slot]);
            let name = member(&field.name);
            match (&item.kind, &step.action) {
                (FixedItemKind::Number(pieces), Action::Bits { width, .. }) => {
                    let raw = || number(self.link, &field.kind, *width, pieces, |byte| byte_at(known, byte));
                    if deciders.contains(&item.slot) {
                        statements.push(set(format!("key_{}", item.slot), expr!["(uint64_t)(", raw(), ")"]));
                    }
                    if take == ValueUse::Keep && !field.is_spare() {
                        statements.push(set(format!("{target}{name}"), raw()));
                    }
                }
                (FixedItemKind::Bytes { .. } | FixedItemKind::Group { .. }, _) => {
                    let ops = take_field(item.slot, pending);
                    match item.kind {
                        FixedItemKind::Bytes { .. } if take == ValueUse::Nothing || field.is_spare() => {}
                        FixedItemKind::Bytes { byte, count, text: false } => {
                            let (copy, from) = (Expr::function("memcpy"), byte_at(known, byte));
                            statements.push(Stmt::Do(expr![
                                copy,
                                format!("({target}{name}, &"),
                                from,
                                format!(", {count}u)")
                            ]));
                        }
                        _ => {
                            let stretch = Stretch::tested(step, known);
                            statements.extend(self.read_placed(stretch, &ops, take, target, &|_, _| None));
                        }
                    }
                }
                _ => {}
            }
        }
        statements
    }

    /// Writes the fields of a section at known places: first all values are looked at, then the room, then each byte is written once.
    pub(crate) fn write_known<'s, 'a>(
        &self,
        section: &'s Section<'a>,
        target: &str,
        pending: &mut PendingOps<'s, 'a>,
    ) -> Vec<Stmt> {
        let known = &section.fixed;
        let mut statements = Vec::new();
        let numbers = || {
            known.items.iter().filter_map(|item| match (&item.kind, &section.plan.steps[item.step].action) {
                (FixedItemKind::Number(_), Action::Bits { width, .. }) if !self.fields[item.slot].is_spare() => {
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
            statements.push(self.refuse(Test::Other(expr![checked.join("\n    || ")]), "OUT_OF_RANGE"));
        }
        if known.bytes > 0 {
            let lacks = match known.start {
                Some(start) => Test::Below(Bound::Room, start + known.bytes),
                None => Test::Other(expr![Variable::Room, " < ", Variable::Start, " + ", Expr::number(known.bytes)]),
            };
            statements.push(self.refuse(lacks, "NO_ROOM"));
        }
        statements.extend(begin(known));
        let is_sent = |slot: usize| !self.fields[slot].is_spare();
        for Byte { byte, parts } in known.sums(is_sent) {
            let part = |(slot, piece): &(usize, Piece)| {
                let width = numbers().find(|(of, _)| of == slot).map_or(8, |(_, width)| width);
                part_of(&self.fields[*slot].kind, width, piece, &value(*slot))
            };
            let place = byte_at(known, byte);
            statements.push(match parts.as_slice() {
                [] => set(place, "0u"),
                [one] => set(place, as_byte(part(one))),
                all => set(place, as_byte(Expr::joined(all.iter().map(part), " | "))),
            });
        }
        for item in &known.items {
            if !matches!(item.kind, FixedItemKind::Bytes { .. } | FixedItemKind::Group { .. }) {
                continue;
            }
            let (step, field) = (&section.plan.steps[item.step], &self.fields[item.slot]);
            let ops = take_field(item.slot, pending);
            match item.kind {
                _ if field.is_spare() => {}
                FixedItemKind::Bytes { byte, count, text: false } => {
                    let copy = Expr::function("memcpy");
                    let from = format!(", {}, {count}u)", value(item.slot));
                    statements.push(Stmt::Do(expr![copy, "(&", byte_at(known, byte), from]));
                }
                _ => statements.extend(self.write_placed(Stretch::tested(step, known), &ops, target)),
            }
        }
        statements
    }

    /// Whether it puts numbers into bytes bit by bit, so that these have to be zero.
    pub(crate) fn puts_bits(&self) -> bool {
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

    /// Sets the fields of a section and of all later ones, which a body does not have.
    pub(crate) fn unset_sections(&self, index: usize, target: &str) -> Vec<Stmt> {
        let mut statements = Vec::new();
        for step in self.sections[index..].iter().flat_map(|section| &section.steps) {
            let field = &self.fields[step.slot];
            if field.is_spare() {
                continue;
            }
            if step.presence.is_some() {
                statements.push(set(format!("{target}has_{}", member(&field.name)), "false"));
            }
            statements.extend(self.unset(step.slot, &step.action, target));
        }
        statements
    }

    /// Sets a field that a body does not have: to its default, or to nothing.
    pub fn unset(&self, slot: usize, action: &Action, target: &str) -> Vec<Stmt> {
        let field = &self.fields[slot];
        let name = member(&field.name);
        let to = Target { prefix: target, name: &name };
        let default = default_of(self.link, field, action, to);
        if !default.is_empty() {
            return default;
        }
        let value = to.value();
        match action {
            Action::Bits { .. } | Action::Varint { .. } => vec![set(value, default_raw(self.link, field))],
            Action::Run { length: Length::Exact(count), text: false } => vec![zeroed(format!("{value}, 0, {count}u"))],
            Action::Run { length: Length::Rest, .. } => vec![set(value, "NULL"), set(to.length(), "0u")],
            Action::Run { .. } => vec![set(to.length(), "0u")],
            Action::Record(record) => vec![init(self.link, &record.record.name, &value)],
            Action::List(list) if matches!(list.length, Length::Exact(_)) => {
                vec![zeroed(format!("{value}, 0, sizeof {value}"))]
            }
            Action::List(_) => vec![set(to.count(), "0u")],
            Action::Union(_) => vec![set(to.form(), "0u"), zeroed(format!("&{value}, 0, sizeof {value}"))],
            Action::Skip { .. } => Vec::new(),
        }
    }
}
