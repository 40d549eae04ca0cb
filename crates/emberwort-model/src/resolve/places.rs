//! Explicit places and byte orders that need to know where fields lie: overlaps, and places that move.

use super::Resolver;
use crate::diagnostics::{Code, Finding};
use crate::model::{ByteOrder, Field};
use crate::plan::{Action, Place, Plan, SectionPlan, place_of};
use crate::syntax::ast::{FieldItem, SectionItem};

/// Longest body that is taken for meant.
const MAX_BODY_BYTES: usize = 1 << 20;

impl Resolver<'_> {
    /// Checks the places of all fields, now that they are known.
    pub(super) fn places(&mut self, plan: &Plan) {
        let file = self.file;
        for (compiled, item) in plan.messages.iter().zip(&file.messages) {
            self.group_places(&compiled.sections, &compiled.message.fields, &item.sections);
            let size = compiled.greatest_without_rest();
            if size > MAX_BODY_BYTES {
                self.report(Finding::new(
                    Code::BodyTooLong,
                    item.name.span,
                    format!("the longest `{}` has {size} bytes, which is surely a mistake", item.name.text),
                    format!("make its lists and texts shorter: {MAX_BODY_BYTES} bytes is the most"),
                ));
            }
        }
        for compiled in &plan.records {
            let item = self.record_items.get(&compiled.record.name).map(|index| &file.records[*index]);
            if let Some(item) = item {
                self.group_places(&compiled.sections, &compiled.record.fields, &item.sections);
            }
        }
    }

    fn group_places(&mut self, sections: &[SectionPlan], fields: &[Field], items: &[SectionItem]) {
        if fields.iter().all(|field| field.at.is_none() && field.order == self.byte_order) {
            return;
        }
        let items: Vec<&FieldItem> = items.iter().flat_map(|section| &section.fields).collect();
        if items.len() != fields.len() {
            // Some fields have findings of their own.
            return;
        }
        for section in sections {
            self.section_places(section, fields, &items);
        }
    }

    fn section_places(&mut self, section: &SectionPlan, fields: &[Field], items: &[&FieldItem]) {
        // Which field has each bit, by byte and bit (0 is the least significant).
        let mut taken: Vec<Option<usize>> = vec![None; section.presence_bytes * 8];
        for (index, step) in section.steps.iter().enumerate() {
            let (field, item) = (&fields[step.slot], items[step.slot]);
            let number = matches!(step.action, Action::Bits { .. });
            if field.order != self.byte_order && field.at.is_none() && number {
                let at_byte = match step.place {
                    Place::Fixed(bit) => bit % 8 == 0,
                    Place::Behind { aligned } => aligned || self.whole_bytes_before(section, index),
                };
                if !at_byte {
                    let span = item.order.map_or(item.ty_span, |(_, span)| span);
                    let message =
                        "this field does not begin at a byte boundary, so its bytes have no order of their own";
                    let help = "put `spare` bits before it up to the boundary, or say where it lies: `at 2.0`";
                    self.report(Finding::new(Code::BadByteOrder, span, message, help));
                }
            }
            let Some((byte, bit)) = field.at else {
                if index < section.fixed_steps
                    && let Place::Fixed(place) = step.place
                {
                    self.take(&mut taken, (u64::from(place), step.action.bits().1, self.byte_order), step.slot);
                }
                continue;
            };
            let span = item.at.map_or(item.ty_span, |(_, span)| span);
            if let Some((message, help)) = self.unfit_place(section, index, field, bit) {
                self.report(Finding::new(Code::BadPlace, span, message, help));
                continue;
            }
            let (first, bits) = (place_of((byte, bit), field.order), step.action.bits().1);
            if byte as usize >= 65_536 - bits as usize / 8 {
                continue;
            }
            if let Some(other) = self.take(&mut taken, (first, bits, field.order), step.slot) {
                let (message, related) = match other {
                    Some(other) => (
                        format!("`{}` lies on bits that `{}` has", field.name, fields[other].name),
                        items[other].name.as_ref().map(|name| name.span),
                    ),
                    None => (format!("`{}` lies on the presence bits of this section", field.name), None),
                };
                let help = "move one of the two; `emberwort layout` shows who has which bits".to_owned();
                let finding = Finding::new(Code::BadPlace, span, message, help);
                self.report(match related {
                    Some(related) => finding.related(related, "the other one"),
                    None => finding,
                });
            }
        }
    }

    /// Whether everything before a step comes to whole bytes, whatever its values are.
    fn whole_bytes_before(&self, section: &SectionPlan, index: usize) -> bool {
        let moving = &section.steps[section.fixed_steps..index];
        section.fixed_end.is_multiple_of(8)
            && moving.iter().all(|step| match &step.action {
                Action::Bits { width, .. } => width % 8 == 0,
                Action::Skip { bits } => bits % 8 == 0,
                Action::List(list) => list.element.action.bits().0 % 8 == 0 && list.element.action.bits().1 % 8 == 0,
                Action::Union(union) => union.forms.iter().all(|form| {
                    let (least, most) = form.action.bits();
                    least % 8 == 0 && most % 8 == 0
                }),
                Action::Varint { .. } | Action::Run { .. } | Action::Record(_) => true,
            })
    }

    /// Why a field cannot have an explicit place, and a way out.
    fn unfit_place(&self, section: &SectionPlan, index: usize, field: &Field, bit: u8) -> Option<(String, String)> {
        let name = &field.name;
        if field.optional {
            let help = "take `optional` out, or let the field take the next free bits";
            return Some((format!("`{name}` is optional, and an absent field has no place"), help.into()));
        }
        if index >= section.fixed_steps {
            let message = format!("the fields before `{name}` vary in size, so no place after them is fixed");
            return Some((message, "move it above them, or let it take the next free bits".into()));
        }
        let start = match field.order {
            ByteOrder::Little => 0,
            ByteOrder::Big => 7,
        };
        let number = matches!(section.steps[index].action, Action::Bits { .. } | Action::Skip { .. });
        if bit != start && (!number || crate::plan::starts_at_byte(&field.kind)) {
            let message = format!("`{name}` begins at a byte boundary, which this place is not");
            return Some((message, format!("write `at B.{start}`")));
        }
        None
    }

    /// Marks bits as taken; returns who has one of them already (`Some(None)`: the presence bits).
    fn take(
        &self,
        taken: &mut Vec<Option<usize>>,
        (first, bits, order): (u64, u64, ByteOrder),
        slot: usize,
    ) -> Option<Option<usize>> {
        let mut other = None;
        for place in first..first + bits {
            let bit = match order {
                ByteOrder::Little => place % 8,
                ByteOrder::Big => 7 - place % 8,
            };
            let at = (place / 8 * 8 + bit) as usize;
            if at >= taken.len() {
                // Free bits in between belong to nobody: a number that no field has.
                taken.resize(at + 1, Some(usize::MAX));
            }
            match taken[at] {
                Some(usize::MAX) => taken[at] = Some(slot),
                found if other.is_none() => other = Some(found),
                _ => {}
            }
        }
        other
    }
}
