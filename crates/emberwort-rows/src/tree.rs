//! Rows as trees: a heading for each frame, and a line for each of its values.

use std::fmt::Write as _;

use emberwort_capture::{BrokenFrame, Item, RevisionMap, Row, StrayBytes};
use emberwort_model::Plan;
use emberwort_model::diagnostics::escaped;
use emberwort_model::hex::write_hex;
use emberwort_model::model::{End, Field, Kind};
use emberwort_model::plan::MessagePlan;
use emberwort_wire::{ValueRef, Values};

use crate::cells::has_unit;
use crate::form::{Form, PreviousItem, RowStyle};
use crate::paint::Paint;
use crate::row_context::{RowContext, write_value};
use crate::table::Lines;
use crate::text_buffer::TextBuffer;

pub struct Tree {
    context: RowContext,
    style: RowStyle,
    lines: Lines,
}

impl Tree {
    pub fn new(context: RowContext, revisions: &RevisionMap, style: RowStyle) -> Self {
        Self { context, lines: Lines::new(revisions, style.clone()), style }
    }
}

impl Form for Tree {
    fn resume(&mut self, _: PreviousItem) {}

    fn update_revisions(&mut self, revisions: &RevisionMap) {
        self.context.update_revisions(revisions);
        self.lines.update_revisions(revisions);
    }

    fn row(&mut self, row: &Row<'_>, out: &mut TextBuffer) {
        let when = self.style.when(Item::Row(row));
        let plan = row.plan;
        let message = &plan.messages[row.message];
        let remark = self.context.remark(row).map_or_else(String::new, |remark| format!(" {remark}"));
        let heading = format!(
            "#{}  {} {} on {}, {when}{}{remark}",
            row.number,
            message.message.name,
            self.context.sender(row),
            self.context.channel(row.channel),
            row.frame.sequence.map_or_else(String::new, |sequence| format!(", sequence {sequence}")),
        );
        let heading = crate::lines::wrapped(self.style.width, &heading, "      ");
        out.push_str(&self.style.paint(Paint::Bold, heading));
        out.push('\n');
        let label = |slot| self.context.label(row, slot);
        write_tree_fields(plan, message, row.from, row.values, &label, |line| {
            out.push_str(line);
            out.push('\n');
        });
        let mut bytes = format!("  {:<14} ", "bytes");
        if row.times.is_empty() {
            let _ = write_hex(row.wire, &mut bytes);
        } else {
            // Each with the time at which it began, in microseconds behind the first.
            let first = row.times[0].start;
            let each = row.wire.iter().zip(row.times).map(|(byte, time)| {
                let behind = time.start.since(first);
                format!("{byte:02X} +{}.{:03}", behind / 1000, behind % 1000)
            });
            bytes.push_str(&each.collect::<Vec<_>>().join(", "));
            bytes.push_str(" us");
        }
        out.push_str(&crate::lines::wrapped(self.style.width, &bytes, &" ".repeat(17)));
        out.push('\n');
    }

    fn broken(&mut self, broken: &BrokenFrame<'_>, out: &mut TextBuffer) {
        let _ = write!(out, "#{}  ", broken.number);
        self.lines.broken(&self.context, broken, out);
    }

    fn stray(&mut self, stray: &StrayBytes<'_>, out: &mut TextBuffer) {
        self.lines.stray(&self.context, stray, out);
    }
}

/// The fields of a message, a line each: name, value with its unit, raw code in decimal and hex. What lies in records, lists
/// and forms stands further to the right. `label` gives the text beside a field, by its slot.
pub fn write_tree_fields<'t>(
    plan: &Plan,
    message: &MessagePlan,
    from: End,
    values: &Values,
    label: &dyn Fn(usize) -> Option<&'t str>,
    mut emit: impl FnMut(&str),
) {
    let fields = &message.message.fields;
    let widest = fields.iter().map(|field| field.name.len()).max().unwrap_or(0).max(14);
    for (slot, field) in fields.iter().enumerate() {
        if field.is_spare() || matches!(values.get(slot), ValueRef::Absent | ValueRef::Unset) {
            continue;
        }
        let lacking = message.sections[..values.sections()].iter().all(|section| section.revision != field.since);
        let mut remark = label(slot).map_or_else(String::new, |label| format!("  ({})", escaped(label)));
        if lacking {
            remark.push_str("  (assumed: the sender's revision lacks it)");
        }
        tree_lines(plan, from, field, &field.name, values, (slot, 1, widest), &remark, &mut emit);
    }
}

#[allow(clippy::too_many_arguments, reason = "one recursive step with all that it needs")]
fn tree_lines(
    plan: &Plan,
    from: End,
    field: &Field,
    name: &str,
    values: &Values,
    (slot, depth, widest): (usize, usize, usize),
    remark: &str,
    emit: &mut impl FnMut(&str),
) {
    let value = values.get(slot);
    let indent = "  ".repeat(depth);
    let deeper = |slot: usize| (slot, depth + 1, widest.saturating_sub(2));
    match (value, &field.kind) {
        (ValueRef::Group { first, count }, Kind::List { element, .. }) => {
            let plural = emberwort_model::counting::plural(count, "element");
            emit(format!("{indent}{name:<widest$} {plural}{remark}").trim_end());
            for n in 0..count {
                tree_lines(plan, from, element, &format!("[{n}]"), values, deeper(first + n), "", emit);
            }
        }
        (ValueRef::Group { first, .. }, Kind::Record(record)) => {
            emit(format!("{indent}{name:<widest$} {}{remark}", record.name).trim_end());
            for (n, field) in record.fields.iter().enumerate() {
                if !field.is_spare() && !matches!(values.get(first + n), ValueRef::Absent | ValueRef::Unset) {
                    tree_lines(plan, from, field, &field.name, values, deeper(first + n), "", emit);
                }
            }
        }
        (ValueRef::Chosen { form, slot }, Kind::Union(union)) => {
            if let Some(form) = union.form(form) {
                let name = format!("{name}: {}", form.name);
                tree_lines(plan, from, form, &name, values, (slot, depth, widest), remark, emit);
            }
        }
        _ => {
            let mut shown = String::new();
            write_value(plan, from, field, (values, slot), false, &mut shown);
            if has_unit(field, value) {
                let _ = write!(shown, " {}", escaped(&field.unit));
            }
            let mut line = format!("{indent}{name:<widest$} {shown:<20}");
            if let (ValueRef::Raw(raw), Some(bits)) = (value, field.kind.raw_bits()) {
                let mask = if bits == 64 { u64::MAX } else { (1 << bits) - 1 };
                let digits = usize::from(bits).div_ceil(4);
                let _ = write!(
                    line,
                    " raw {} = 0x{:0digits$X}",
                    emberwort_wire::values::signed(&field.kind, raw),
                    raw & mask
                );
            }
            line.push_str(remark);
            emit(line.trim_end());
        }
    }
}
