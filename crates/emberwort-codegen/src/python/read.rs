//! What reads the body of a message, or a record, at a reader's place.

use std::cell::Cell;

use emberwort_model::model::{Field, Length, Selector};
use emberwort_model::plan::{Action, Element, ListPlan, RecordPlan, UnionPlan};

use super::names::{class, member, quoted, text};
use super::one_number::{is_one_number, shift};
use super::values::{case_number, missing_value, sum, value_of};
use crate::code::Code;
use crate::lower::{FixedItemKind, Group, Op, Section, sections};

/// The class method `_read`.
pub fn read(group: &Group<'_>, code: &mut Code) {
    let reader = Reader { group, made: Cell::new(0) };
    let class = class(group.name);
    code.line("");
    code.line("@classmethod");
    code.open(format!("def _read(cls, r: _Reader) -> {class}:"));
    code.line("b, start = r.body, r.bit // 8");
    for (_, field, action) in group.named().filter(|(index, ..)| *index > 0) {
        code.line(format!("v_{}: Any = {}", member(&field.name), missing_value(field, action)));
    }
    let sections = sections(group);
    for (index, section) in sections.iter().enumerate() {
        if index > 0 {
            code.open("if start != r.end:");
        }
        code.line(format!("# Revision {}.", section.plan.revision));
        reader.section(section, code);
        if group.message.is_some() {
            code.line(format!("held = {}", index + 1));
        }
    }
    for _ in 1..sections.len() {
        code.dedent();
    }
    code.line("r.bit = start * 8");
    code.open("return cls(");
    for (_, field, _) in group.named() {
        code.line(format!("v_{},", member(&field.name)));
    }
    if group.message.is_some() {
        code.line("held,");
    }
    code.close(")");
    code.dedent();
}

struct Reader<'g> {
    group: &'g Group<'g>,
    /// How many names of variables were made.
    made: Cell<usize>,
}

impl Reader<'_> {
    /// A number that no other variable has in its name.
    fn fresh(&self) -> usize {
        self.made.replace(self.made.get() + 1)
    }

    fn section(&self, section: &Section<'_>, code: &mut Code) {
        let known = &section.fixed;
        let start = known.start.filter(|_| self.group.message.is_some());
        let at = |byte: usize| match start {
            Some(start) => format!("b[{}]", start + byte),
            None if byte == 0 => "b[start]".to_owned(),
            None => format!("b[start + {byte}]"),
        };
        if section.need > 0 {
            code.lines(&format!(
                "if r.end - start < {}:\n    raise Truncated(f\"the bytes end at {{r.end}}; at least {{start + {}}} are needed\")",
                section.need, section.need
            ));
        }
        // One large number is faster than many bytes.
        let is_one = is_one_number(self.group, section);
        if is_one {
            let (from, to) = ends(start, 0, known.bytes as u32);
            code.line(format!("n = int.from_bytes(b[{from}:{to}], {})", quoted(self.group.order)));
        }
        for item in &known.items {
            let (step, field) = (&section.plan.steps[item.step], &self.group.fields[item.slot]);
            let (FixedItemKind::Number(pieces), Action::Bits { width, signed, .. }) = (&item.kind, &step.action) else {
                continue;
            };
            let raw = if is_one {
                let shift = shift(self.group, step, *width, known.bytes);
                let moved = if shift > 0 { format!("n >> {shift}") } else { "n".to_owned() };
                let is_top = shift + usize::from(*width) == known.bytes * 8;
                if is_top { moved } else { format!("{moved} & {:#x}", (1u128 << width) - 1) }
            } else {
                sum(pieces, &at)
            };
            code.line(format!("v_{} = {}", member(&field.name), value_of(&field.kind, &raw, *width, *signed)));
        }
        for op in &section.ops {
            match op {
                Op::If { slot, bit, then } => {
                    if let Some(slot) = slot {
                        code.line(format!("v_{} = None", member(&self.group.fields[*slot].name)));
                    }
                    code.open(format!("if {} & {:#04x}:", at(*bit as usize / 8), 1u32 << (bit % 8)));
                    then.iter().for_each(|op| self.placed(op, code));
                    code.dedent();
                }
                Op::Field(slot, ops) if let [Op::Bytes { byte, count }] = ops[..] => {
                    let (from, to) = ends(start, byte, count);
                    code.line(format!("v_{} = b[{from}:{to}]", member(&self.group.fields[*slot].name)));
                }
                op => self.placed(op, code),
            }
        }
        match section.size {
            Some(0) => {}
            Some(size) => code.line(format!("start += {size}")),
            None => code.lines(
                "start = (r.bit + 7) // 8\n\
                 if start > r.end:\n    raise Truncated(f\"the bytes end at {r.end}; at least {start} are needed\")",
            ),
        }
    }

    /// An operation of a section.
    fn placed(&self, op: &Op<'_>, code: &mut Code) {
        match op {
            Op::Seek(bit) => code.line(format!("r.bit = start * 8 + {bit}")),
            Op::Field(slot, ops) => {
                let field = &self.group.fields[*slot];
                self.value(field, ops, &format!("v_{}", member(&field.name)), code);
            }
            Op::Align => code.line("r.align()"),
            Op::Skip(bits) => code.lines(&format!("r.need({bits})\nr.bit += {bits}")),
            _ => {}
        }
    }

    /// Reads a value at the reader's place into a variable.
    fn value(&self, field: &Field, ops: &[Op<'_>], to: &str, code: &mut Code) {
        let order = quoted(self.group.order);
        for op in ops {
            match op {
                Op::Number { width, signed, order } => {
                    let raw = format!("r.get({width}, {})", quoted(*order));
                    code.line(format!("{to} = {}", value_of(&field.kind, &raw, *width, *signed)));
                }
                Op::Varint { width, signed } => {
                    code.line(format!("{to} = r.varint({width})"));
                    if *signed {
                        code.line(format!("{to} = {to} >> 1 ^ -({to} & 1)"));
                    }
                }
                Op::Run { length, text } => {
                    let some = match length {
                        Length::Exact(count) => format!("r.take({count}, {order})"),
                        Length::UpTo(most) => format!("r.take(r.count({most}, {order}), {order})"),
                        Length::Rest => "r.rest()".to_owned(),
                    };
                    code.line(match (text, length) {
                        (true, Length::Exact(_)) => format!("{to} = _text({some}.rstrip(b\"\\0\"))"),
                        (true, _) => format!("{to} = _text({some})"),
                        (false, _) => format!("{to} = {some}"),
                    });
                }
                Op::Call(record) => code.line(format!("{to} = {}._read(r)", class(&record.record.name))),
                Op::Sized { bytes, record } => self.sized(*bytes, record, to, code),
                Op::Repeat { list, once, each } => self.list(list, *once, each, to, code),
                Op::Select { union, forms } => self.union(union, forms, to, code),
                op => self.placed(op, code),
            }
        }
    }

    fn sized(&self, bytes: Option<u8>, record: &RecordPlan, to: &str, code: &mut Code) {
        let depth = self.fresh();
        if let Some(bytes) = bytes {
            code.line(format!("size = r.get({}, {})", bytes * 8, quoted(self.group.order)));
        }
        code.line("# What a later revision added to the element is stepped over.");
        code.line("r.need(size * 8)");
        code.line(format!("after{depth}, end{depth} = r.bit // 8 + size, r.end"));
        code.line(format!("r.end = after{depth}"));
        code.line(format!("{to} = {}._read(r)", class(&record.record.name)));
        code.line(format!("r.end, r.bit = end{depth}, after{depth} * 8"));
    }

    fn list(&self, list: &ListPlan, once: Option<u8>, each: &[Op<'_>], to: &str, code: &mut Code) {
        let depth = self.fresh();
        let (items, one) = (format!("items{depth}"), format!("one{depth}"));
        let order = quoted(self.group.order);
        code.line(format!("{items}: List[Any] = []"));
        let is_rest = list.length == Length::Rest;
        match list.length {
            Length::Exact(count) => code.line(format!("count{depth} = {count}")),
            Length::UpTo(most) => code.line(format!("count{depth} = r.count({most}, {order})")),
            Length::Rest => {}
        }
        if let Some(bytes) = once {
            if is_rest {
                code.open("if r.bit < r.end * 8:");
            }
            code.line("r.align()");
            code.line(format!("size = r.get({}, {order})", bytes * 8));
            if is_rest {
                code.dedent();
            }
        }
        match is_rest {
            true => {
                code.open("while r.bit + 8 <= r.end * 8:");
                code.line(format!("before{depth} = r.bit"));
            }
            false => code.open(format!("for _ in range(count{depth}):")),
        }
        self.value(&list.element.field, each, &one, code);
        code.line(format!("{items}.append({one})"));
        if is_rest {
            code.lines(&format!(
                "if r.bit <= before{depth}:\n    raise Truncated(\"an element without a size would come forever\")"
            ));
        }
        code.dedent();
        code.line(format!("{to} = {items}"));
    }

    fn union(&self, union: &UnionPlan, forms: &[Vec<Op<'_>>], to: &str, code: &mut Code) {
        let depth = self.fresh();
        let meaning = &union.union;
        let (key, signed) = match meaning.selector {
            Selector::Field(slot) => {
                let decider = &self.group.fields[slot];
                (format!("v_{}", member(&decider.name)), decider.kind.is_signed())
            }
            Selector::Request { .. } => ("r.key".to_owned(), false),
        };
        let one = format!("form{depth}");
        code.line(format!("{one}: Any = None"));
        let form = |element: &Element, ops: &[Op<'_>], code: &mut Code| {
            self.value(&element.field, ops, &one, code);
            code.line(format!("{to} = Form({}, {one})", text(&element.field.name)));
        };
        let mut word = "if";
        for ((case, element), ops) in meaning.cases.iter().zip(&union.forms).zip(forms) {
            code.open(format!("{word} {key} == {}:", case_number(case.raw, signed)));
            form(element, ops, code);
            code.dedent();
            word = "elif";
        }
        code.open(if word == "elif" { "else:" } else { "if True:" });
        match union.forms.get(meaning.cases.len()) {
            Some(element) => form(element, &forms[meaning.cases.len()], code),
            None => code.line(format!("raise NoForm(f\"no form belongs to {{{key}}}\")")),
        }
        code.dedent();
    }
}

/// Where some bytes of a section begin and end, which itself may begin at a known byte.
fn ends(start: Option<usize>, byte: usize, count: u32) -> (String, String) {
    let end = byte + count as usize;
    match start {
        Some(start) => ((start + byte).to_string(), (start + end).to_string()),
        None if byte == 0 => ("start".to_owned(), format!(" start + {end}")),
        None => (format!("start + {byte} "), format!(" start + {end}")),
    }
}
