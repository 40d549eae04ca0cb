//! What reads the body of a message, or a record, at a reader's place.

use std::cell::Cell;

use emberwort_model::model::{Field, Kind, Length, Selector};
use emberwort_model::plan::{Action, Element, ListPlan, RecordPlan, UnionPlan};

use super::flavour::Flavour;
use super::names::{class, little, member, text};
use super::numbers::{NumberRepresentation, case_number, sum, value_of};
use crate::code::Code;
use crate::lower::{FixedItemKind, Group, Op, Section, sections};

/// The function that reads one at a reader's place.
pub fn read(group: &Group<'_>, flavour: Flavour, code: &mut Code) {
    let reader = Reader { group, made: Cell::new(0) };
    let class = class(group.name);
    let sections = sections(group);
    code.line("");
    code.open(format!("function read{class}(r) {{"));
    let new = match flavour {
        Flavour::Module => format!("new {class}()"),
        Flavour::Script => format!("new{class}()"),
    };
    code.line(format!("var b = r.body, start = r.bit / 8, m = {new};"));
    for (index, section) in sections.iter().enumerate() {
        if index > 0 {
            code.open("if (start !== r.end) {");
        }
        code.line(format!("// Revision {}.", section.plan.revision));
        reader.section(section, code);
    }
    if group.message.is_some() {
        code.line(format!("m.sectionsHeld = {};", sections.len()));
    }
    for held in (1..sections.len()).rev() {
        match group.message {
            Some(_) => {
                code.close("} else {");
                code.open_more();
                code.line(format!("m.sectionsHeld = {held};"));
                code.close("}");
            }
            None => code.close("}"),
        }
    }
    code.line("r.bit = start * 8;");
    code.line("return m;");
    code.close("}");
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
            code.open(format!("if (r.end - start < {}) {{", section.need));
            code.line(format!("throw tooShort(r.end, start + {});", section.need));
            code.close("}");
        }
        for item in &known.items {
            let field = &self.group.fields[item.slot];
            let action = &section.plan.steps[item.step].action;
            if let (FixedItemKind::Number(pieces), Action::Bits { width, signed, .. }) = (&item.kind, action) {
                let raw = sum(pieces, *width, &at);
                code.line(format!("m.{} = {};", member(&field.name), value_of(&field.kind, &raw, *width, *signed)));
            }
        }
        for op in &section.ops {
            match op {
                Op::If { slot, bit, then } => {
                    code.open(format!("if ({} & {:#04x}) {{", at(*bit as usize / 8), 1u32 << (bit % 8)));
                    then.iter().for_each(|op| self.placed(op, code));
                    if let Some(slot) = slot {
                        code.close("} else {");
                        code.open_more();
                        code.line(format!("m.{} = null;", member(&self.group.fields[*slot].name)));
                    }
                    code.close("}");
                }
                Op::Field(slot, ops) if let [Op::Bytes { byte, count }] = ops[..] => {
                    let place =
                        |byte: usize| start.map_or(format!("start + {byte}"), |start| (start + byte).to_string());
                    let name = member(&self.group.fields[*slot].name);
                    code.line(format!("m.{name} = b.slice({}, {});", place(byte), place(byte + count as usize)));
                }
                op => self.placed(op, code),
            }
        }
        match section.size {
            Some(0) => {}
            Some(size) => code.line(format!("start += {size};")),
            None => {
                code.line("start = Math.ceil(r.bit / 8);");
                code.open("if (start > r.end) {");
                code.line("throw tooShort(r.end, start);");
                code.close("}");
            }
        }
    }

    /// An operation of a section.
    fn placed(&self, op: &Op<'_>, code: &mut Code) {
        match op {
            Op::Seek(bit) => code.line(format!("r.bit = start * 8 + {bit};")),
            Op::Field(slot, ops) => {
                let field = &self.group.fields[*slot];
                self.value(field, ops, &format!("m.{}", member(&field.name)), code);
            }
            Op::Align => code.line("alignReader(r);"),
            Op::Skip(bits) => code.lines(&format!("need(r, {bits});\nr.bit += {bits};")),
            _ => {}
        }
    }

    /// Reads a value at the reader's place into a variable.
    fn value(&self, field: &Field, ops: &[Op<'_>], to: &str, code: &mut Code) {
        let order = little(self.group.order);
        for op in ops {
            match op {
                Op::Number { width, signed, order } => {
                    let get =
                        if NumberRepresentation::of(*width) == NumberRepresentation::Wide { "getWide" } else { "get" };
                    match &field.kind {
                        Kind::Float(64) => {
                            let one = format!("n{}", self.fresh());
                            code.line(format!("var {one} = getWide(r, 64, {});", little(*order)));
                            code.line(format!("{to} = floatOf(lowOf({one}), highOf({one}), 64);"));
                        }
                        kind => {
                            let raw = format!("{get}(r, {width}, {})", little(*order));
                            code.line(format!("{to} = {};", value_of(kind, &raw, *width, *signed)));
                        }
                    }
                }
                Op::Varint { width, signed } => {
                    let raw = match NumberRepresentation::of(*width) {
                        NumberRepresentation::Wide => format!("wideVarint(r, {width})"),
                        _ => format!("varint(r, {width})"),
                    };
                    let value = match (signed, NumberRepresentation::of(*width)) {
                        (false, _) => raw,
                        (true, NumberRepresentation::Wide) => format!("wideZigzag({raw})"),
                        (true, _) => format!("zigzag({raw})"),
                    };
                    code.line(format!("{to} = {value};"));
                }
                Op::Run { length, text } => {
                    let some = match length {
                        Length::Exact(count) => format!("take(r, {count}, {order})"),
                        Length::UpTo(most) => format!("take(r, count(r, {most}, {order}), {order})"),
                        Length::Rest => "rest(r)".to_owned(),
                    };
                    code.line(match (text, length) {
                        (true, Length::Exact(_)) => format!("{to} = paddedText({some});"),
                        (true, _) => format!("{to} = text({some});"),
                        (false, _) => format!("{to} = {some};"),
                    });
                }
                Op::Call(record) => code.line(format!("{to} = read{}(r);", class(&record.record.name))),
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
            code.line(format!("var size = get(r, {}, {});", bytes * 8, little(self.group.order)));
        }
        code.line("// What a later revision added to the element is stepped over.");
        code.line("need(r, size * 8);");
        code.line(format!("var after{depth} = r.bit / 8 + size, end{depth} = r.end;"));
        code.line(format!("r.end = after{depth};"));
        code.line(format!("{to} = read{}(r);", class(&record.record.name)));
        code.line(format!("r.end = end{depth};"));
        code.line(format!("r.bit = after{depth} * 8;"));
    }

    fn list(&self, list: &ListPlan, once: Option<u8>, each: &[Op<'_>], to: &str, code: &mut Code) {
        let depth = self.fresh();
        let order = little(self.group.order);
        let (items, one) = (format!("items{depth}"), format!("one{depth}"));
        code.line(format!("var {items} = [], {one};"));
        let is_rest = list.length == Length::Rest;
        match list.length {
            Length::Exact(count) => code.line(format!("var left{depth} = {count};")),
            Length::UpTo(most) => code.line(format!("var left{depth} = count(r, {most}, {order});")),
            Length::Rest => {}
        }
        if let Some(bytes) = once {
            code.line("var size = 0;");
            if is_rest {
                code.open("if (r.bit < r.end * 8) {");
            }
            code.line("alignReader(r);");
            code.line(format!("size = get(r, {}, {order});", bytes * 8));
            if is_rest {
                code.close("}");
            }
        }
        match is_rest {
            true => {
                code.open("while (r.bit + 8 <= r.end * 8) {");
                code.line(format!("var before{depth} = r.bit;"));
            }
            false => code.open(format!("for (; left{depth} > 0; left{depth}--) {{")),
        }
        self.value(&list.element.field, each, &one, code);
        code.line(format!("{items}.push({one});"));
        if is_rest {
            code.open(format!("if (r.bit <= before{depth}) {{"));
            code.line("throw new LinkError(\"truncated\", \"an element without a size would come forever\");");
            code.close("}");
        }
        code.close("}");
        code.line(format!("{to} = {items};"));
    }

    fn union(&self, union: &UnionPlan, forms: &[Vec<Op<'_>>], to: &str, code: &mut Code) {
        let meaning = &union.union;
        let key = match meaning.selector {
            Selector::Field(slot) => format!("m.{}", member(&self.group.fields[slot].name)),
            Selector::Request { .. } => "r.key".to_owned(),
        };
        let one = format!("form{}", self.fresh());
        code.line(format!("var {one};"));
        let form = |element: &Element, ops: &[Op<'_>], code: &mut Code| {
            self.value(&element.field, ops, &one, code);
            code.line(format!("{to} = {{ name: {}, value: {one} }};", text(&element.field.name)));
        };
        let otherwise = |code: &mut Code| match union.forms.get(meaning.cases.len()) {
            Some(element) => form(element, &forms[meaning.cases.len()], code),
            None => code.line(format!("throw new LinkError(\"no_form\", \"no form belongs to \" + {key});")),
        };
        if meaning.cases.is_empty() {
            otherwise(code);
            return;
        }
        for (index, case) in meaning.cases.iter().enumerate() {
            let raw = case_number(self.group, &meaning.selector, case.raw);
            match index {
                0 => code.open(format!("if ({key} === {raw}) {{")),
                _ => {
                    code.close(format!("}} else if ({key} === {raw}) {{"));
                    code.open_more();
                }
            }
            form(&union.forms[index], &forms[index], code);
        }
        code.close("} else {");
        code.open_more();
        otherwise(code);
        code.close("}");
    }
}
