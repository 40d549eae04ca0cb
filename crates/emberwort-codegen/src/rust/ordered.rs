//! A writer that takes the values of a body in their order, without a struct of them. Its type says which value comes next.

use std::collections::VecDeque;

use emberwort_model::model::{Field, Length, Selector};
use emberwort_model::plan::{Action, Place};

use super::names::{class, doc, field_doc, little, member};
use super::values::{Owner, number_type, raw_of, unsigned};
use super::write::{START, WRITER, Writer, widen};
use crate::code::Code;
use crate::lower::{FixedItemKind, Group, Op, Section, has_record, sections};
use crate::names::plain_snake;

/// One value: its section, its field, and what is done for it.
struct WriteStep<'a> {
    section: usize,
    slot: usize,
    /// The place of a number that lies where nothing can move it, in bits from the section's start.
    known: Option<usize>,
    /// What stands in front of it.
    before: Vec<Op<'a>>,
    /// The value; for a known number nothing.
    op: Option<Op<'a>>,
}

/// Whether a message has such a writer: where nothing moves, the order says nothing.
pub(crate) fn has_writer(group: &Group<'_>) -> bool {
    let sections = sections(group);
    let moves =
        |section: &Section<'_>| section.ops.iter().any(|op| matches!(op, Op::Field(..) | Op::If { slot: Some(_), .. }));
    group.message.is_some()
        && !group.is_line
        && sections.iter().any(moves)
        && (0..sections.len()).all(|index| turns(&sections).0.iter().any(|turn| turn.section == index))
}

/// All values in their order, and what stands behind the last one of each section.
fn turns<'a>(sections: &[Section<'a>]) -> (Vec<WriteStep<'a>>, Vec<Vec<Op<'a>>>) {
    let mut turns = Vec::new();
    let mut behind = Vec::new();
    for (index, section) in sections.iter().enumerate() {
        let mut before = Vec::new();
        let mut ops: VecDeque<Op<'a>> = section.ops.iter().cloned().collect();
        let mut next = |known: Option<(usize, usize)>, wanted: Option<usize>, ops: &mut VecDeque<Op<'a>>| {
            if let Some((slot, bit)) = known {
                turns.push(WriteStep { section: index, slot, known: Some(bit), before: Vec::new(), op: None });
                return true;
            }
            while let Some(op) = ops.pop_front() {
                let slot = match &op {
                    Op::Field(slot, _) => Some(*slot),
                    Op::If { slot, .. } => *slot,
                    _ => None,
                };
                match slot {
                    Some(slot) => {
                        let before = std::mem::take(&mut before);
                        turns.push(WriteStep { section: index, slot, known: None, before, op: Some(op) });
                        if wanted == Some(slot) {
                            return true;
                        }
                    }
                    // Nobody sends it any more.
                    None if matches!(op, Op::If { .. }) => {}
                    None => before.push(op),
                }
            }
            false
        };
        for item in &section.fixed.items {
            let step = &section.plan.steps[item.step];
            match (&item.kind, step.place) {
                (FixedItemKind::Spare, _) => {}
                (FixedItemKind::Number(_), Place::Fixed(bit)) => {
                    next(Some((item.slot, bit as usize)), None, &mut ops);
                }
                _ => {
                    next(None, Some(item.slot), &mut ops);
                }
            }
        }
        next(None, None, &mut ops);
        behind.push(before);
    }
    (turns, behind)
}

/// The type that a value is given as: what has a length of its own is borrowed.
fn argument(owner: Owner<'_>, field: &Field, action: &Action) -> String {
    match action {
        Action::Run { text: true, .. } => "&str".to_owned(),
        Action::Run { length: Length::UpTo(_) | Length::Rest, .. } => "&[u8]".to_owned(),
        Action::List(list) if !matches!(list.length, Length::Exact(_)) => {
            format!("&[{}]", owner.type_of(&list.element.field, &list.element.action))
        }
        action => owner.type_of(field, action),
    }
}

/// The name of its type.
pub(crate) fn type_of(name: &str) -> String {
    class(&format!("{}_writer", plain_snake(name)))
}

/// The writer of a message.
pub fn write(group: &Group<'_>, owner: Owner<'_>, code: &mut Code) {
    let sections = sections(group);
    let (turns, behind) = turns(&sections);
    let name = type_of(group.name);
    let uses_revision = group.named().any(|(_, _, action)| has_record(action));
    let mut keys: Vec<usize> = group.named().filter_map(|(_, _, action)| decider(action)).collect();
    keys.sort_unstable();
    keys.dedup();
    let field = |slot: usize| &group.fields[slot];
    code.line("");
    code.lines(
        doc(&format!("Writes the body of {} into a buffer, value after value, without a struct of them.", group.name))
            .trim_end(),
    );
    code.lines("///\n/// The type says which value comes next: in another order it does not compile.");
    code.line("#[must_use]");
    code.open(format!("pub struct {name}<'a, const NEXT: usize> {{"));
    code.lines("w: Writer<'a>,\ns: usize,");
    for slot in &keys {
        code.line(format!("key_{}: {},", member(&field(*slot).name), number_type(&field(*slot).kind)));
    }
    code.close("}");
    code.line("");
    code.open(format!("impl<'a> {name}<'a, 0> {{"));
    code.lines("/// Begins a body at the front of a buffer.");
    code.open("pub fn new(out: &'a mut [u8]) -> Self {");
    let key =
        |slot: &usize| format!(", key_{}: {}", member(&field(*slot).name), super::values::code(&field(*slot).kind, 0));
    code.line(format!("Self {{ w: Writer::new(out), s: 0{} }}", keys.iter().map(key).collect::<String>()));
    code.close("}");
    code.close("}");
    let printer = Writer::of(group, owner, "self.key_", true);
    for (at, turn) in turns.iter().enumerate() {
        let section = &sections[turn.section];
        let is_first = at == 0 || turns[at - 1].section != turn.section;
        let is_last = turns.get(at + 1).is_none_or(|next| next.section != turn.section);
        code.line("");
        code.open(format!("impl<'a> {name}<'a, {at}> {{"));
        let field = field(turn.slot);
        let action = action_of(section, turn.slot);
        if is_first && at > 0 && !uses_revision {
            finish(
                "Ends the body here, as a sender does that lacks what a later revision added; how many bytes it has.",
                code,
            );
            code.line("");
        }
        let ty = argument(owner, field, action);
        let ty = if field.optional { format!("Option<{ty}>") } else { ty };
        code.lines(field_doc(field, action).trim_end());
        code.lines("///\n/// # Errors\n/// If it may not be sent, or the buffer is too short.");
        let mut inner = Code::default();
        if is_first {
            if at > 0 {
                inner.line("self.s = self.w.bit / 8;");
            }
            if section.fixed.bytes > 0 {
                inner.line(format!("*self.w.known(self.s)? = [0; {}];", section.fixed.bytes));
                inner.line(format!("self.w.bit = (self.s + {}) * 8;", section.fixed.bytes));
            }
        }
        if keys.contains(&turn.slot) {
            inner.line(format!("self.key_{} = value;", member(&field.name)));
        }
        let mut body = Code::default();
        if uses_revision && has_record(action) {
            body.line("let revision = REVISION;");
        }
        turn.before.iter().for_each(|op| printer.placed(op, "", &mut body));
        match (&turn.op, turn.known, action) {
            (Some(Op::If { bit, then, .. }), ..) => {
                body.open("if let Some(value) = value {");
                body.uses(WRITER);
                body.uses(START);
                body.line(format!("w.mark(s + {}, {:#04x})?;", bit / 8, 1u32 << (bit % 8)));
                then.iter().for_each(|op| printer.placed(op, "value", &mut body));
                body.close("}");
            }
            (Some(op), ..) => printer.placed(op, "value", &mut body),
            (None, Some(bit), Action::Bits { width, order, .. }) => {
                let (refusals, raw) = raw_of(field, *width, "value", &printer.what(field));
                refusals.iter().for_each(|lines| body.lines(lines));
                body.uses(WRITER);
                body.uses(START);
                body.line(format!(
                    "w.set(s * 8 + {bit}, {}, {width}, {})?;",
                    widen(&raw, unsigned(*width)),
                    little(*order)
                ));
            }
            _ => {}
        }
        if is_last {
            behind[turn.section].iter().for_each(|op| printer.placed(op, "", &mut body));
            match section.size {
                Some(size) => {
                    body.uses(WRITER);
                    body.uses(START);
                    body.line(format!("w.bit = (s + {size}) * 8;"));
                }
                None => {
                    body.uses(WRITER);
                    body.line("w.align()?;");
                }
            }
        }
        let (writes, counts) = (body.is_used(WRITER), body.is_used(START));
        if writes {
            inner.line("let w = &mut self.w;");
        }
        if counts {
            inner.line("let s = self.s;");
        }
        let keeps = is_first && (at > 0 || section.fixed.bytes > 0) || keys.contains(&turn.slot);
        inner.lines(&body.finish());
        let inner = inner.finish();
        let this = if keeps || writes { "mut self" } else { "self" };
        code.open(format!(
            "pub fn {}({this}, value: {ty}) -> Result<{name}<'a, {}>, Error> {{",
            member(&field.name),
            at + 1
        ));
        code.lines(inner.trim_end());
        let kept: String = keys
            .iter()
            .map(|slot| member(&group.fields[*slot].name))
            .map(|key| format!(", key_{key}: self.key_{key}"))
            .collect();
        code.line(format!("Ok({name} {{ w: self.w, s: self.s{kept} }})"));
        code.close("}");
        code.close("}");
    }
    code.line("");
    code.open(format!("impl {name}<'_, {}> {{", turns.len()));
    finish("Ends the body; how many bytes it has.", code);
    code.close("}");
}

fn finish(said: &str, code: &mut Code) {
    code.line(format!("/// {said}"));
    code.line("#[must_use]");
    code.open("pub fn finish(self) -> usize {");
    code.line("self.w.bit / 8");
    code.close("}");
}

/// The field that decides about the form of a value.
fn decider(action: &Action) -> Option<usize> {
    match action {
        Action::Union(union) => match union.union.selector {
            Selector::Field(slot) => Some(slot),
            Selector::Request { .. } => None,
        },
        _ => None,
    }
}

fn action_of<'a>(section: &Section<'a>, slot: usize) -> &'a Action {
    section.plan.steps.iter().find(|step| step.slot == slot).map_or(&Action::Skip { bits: 0 }, |step| &step.action)
}

/// For the test program: a function that writes a value with the writer, if it can; an empty `None` where a text is none.
pub fn check(group: &Group<'_>, owner: Owner<'_>, code: &mut Code) {
    let name = class(group.name);
    let sections = sections(group);
    code.open(format!(
        "fn write_{}(m: &{name}, out: &mut [u8]) -> Option<Result<usize, Error>> {{",
        plain_snake(group.name)
    ));
    code.open(format!("if m.sections_held != {name}::SECTIONS {{"));
    code.line("return None;");
    code.close("}");
    let mut chain = format!("{}::new(out)", type_of(group.name));
    for turn in turns(&sections).0 {
        let field = &group.fields[turn.slot];
        let action = action_of(&sections[turn.section], turn.slot);
        let of = format!("m.{}", member(&field.name));
        let borrowed = argument(owner, field, action).starts_with('&');
        let value = match (action, borrowed, field.optional) {
            (Action::Run { text: true, .. }, _, true) => {
                code.line(format!(
                    "let t{} = match &{of} {{ Some(text) => Some(text.as_str()?), None => None }};",
                    turn.slot
                ));
                format!("t{}", turn.slot)
            }
            (Action::Run { text: true, .. }, _, false) => {
                code.line(format!("let t{} = {of}.as_str()?;", turn.slot));
                format!("t{}", turn.slot)
            }
            (_, true, true) => format!("{of}.as_ref().map(|some| some.as_slice())"),
            (_, true, false) => format!("{of}.as_slice()"),
            _ => of,
        };
        chain += &format!("\n            .{}({value})?", member(&field.name));
    }
    code.open("let mut write = || -> Result<usize, Error> {");
    code.line(format!("Ok({chain}\n            .finish())"));
    code.close("};");
    code.line("Some(write())");
    code.close("}");
}
