//! What reads the body of a message, or a record, at a reader's place.

use std::cell::Cell;

use emberwort_model::model::{Field, Length, Selector};
use emberwort_model::plan::{Action, Element, ListPlan, RecordPlan, UnionPlan};

use super::names::{class, little, member, text};
use super::values::{Owner, case_number, signed, sum, unsigned, value_of};
use crate::code::Code;
use crate::lower::{FixedItemKind, Group, Op, Section, depends_on_request, sections};

/// The functions that read one.
pub fn read(group: &Group<'_>, owner: Owner<'_>, code: &mut Code) {
    if group.message.is_some() {
        code.line("");
        code.lines("/// Reads a body.\n///\n/// # Errors\n/// If it cannot be read.");
        code.open("pub fn decode(body: &[u8]) -> Result<Self, Error> {");
        code.line("Self::read(&mut Reader::new(body, None))");
        code.close("}");
        if group.named().any(|(_, _, action)| depends_on_request(action)) {
            code.line("");
            code.lines("/// Reads the body of an answer; `key` is what the request asked for.\n///\n/// # Errors\n/// If it cannot be read.");
            code.open("pub fn decode_answer(body: &[u8], key: u64) -> Result<Self, Error> {");
            code.line("Self::read(&mut Reader::new(body, Some(key)))");
            code.close("}");
        }
    }
    code.line("");
    code.open("fn read(r: &mut Reader<'_>) -> Result<Self, Error> {");
    let sections = sections(group);
    let moves = |section: &Section<'_>| section.size != Some(0) || section.need > 0;
    let word = if sections.len() > 1 || sections.iter().any(moves) { "let mut start" } else { "let start" };
    code.line(format!("{word} = r.bit / 8;"));
    let is_set = group.named().next().is_some() || sections.len() > 1;
    code.line(format!("let {} = Self::default();", if is_set { "mut m" } else { "m" }));
    let reader = Reader::of(group, owner, ("m.", ""));
    for (index, section) in sections.iter().enumerate() {
        if index > 0 {
            code.open("if start == r.end {");
            if group.message.is_some() {
                code.line(format!("m.sections_held = {index};"));
            }
            code.line("r.bit = start * 8;");
            code.line("return Ok(m);");
            code.close("}");
        }
        code.line(format!("// Revision {}.", section.plan.revision));
        reader.section(section, code);
    }
    code.line("r.bit = start * 8;");
    code.line("Ok(m)");
    code.close("}");
}

/// The variable of a view, which is only declared where lines use it.
pub(super) const VIEW: &str = "view";

/// Prints what reads values.
pub(super) struct Reader<'g> {
    group: &'g Group<'g>,
    owner: Owner<'g>,
    /// What stands in front of and behind the name of a field that decides about a form.
    own: (&'static str, &'static str),
    /// How many names of variables were made.
    made: Cell<usize>,
}

impl<'g> Reader<'g> {
    pub(super) fn of(group: &'g Group<'g>, owner: Owner<'g>, own: (&'static str, &'static str)) -> Self {
        Self { group, owner, own, made: Cell::new(0) }
    }

    /// A number that no other variable has in its name.
    fn fresh(&self) -> usize {
        self.made.replace(self.made.get() + 1)
    }

    fn section(&self, section: &Section<'_>, code: &mut Code) {
        let known = &section.fixed;
        let at = |byte: usize| format!("b[{byte}]");
        if section.need > known.bytes {
            code.open(format!("if r.end.saturating_sub(start) < {} {{", section.need));
            code.line("return Err(Error::Truncated);");
            code.close("}");
        }
        let reads_bytes = section.ops.iter().any(|op| match op {
            Op::If { .. } => true,
            Op::Field(_, ops) => matches!(ops[..], [Op::Bytes { .. }]),
            _ => false,
        });
        let reads_bytes = reads_bytes || known.items.iter().any(|item| matches!(item.kind, FixedItemKind::Number(_)));
        if known.bytes > 0 {
            let name = if reads_bytes { "b" } else { "_" };
            code.line(format!("let {name}: &[u8; {}] = r.known(start)?;", known.bytes));
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
                    code.open(format!("if {} & {:#04x} != 0 {{", at(*bit as usize / 8), 1u32 << (bit % 8)));
                    match slot {
                        Some(slot) => {
                            let one = format!("one{}", self.fresh());
                            code.line(format!("let {one};"));
                            then.iter().for_each(|op| self.placed(op, &one, code));
                            code.line(format!("m.{} = Some({one});", member(&self.group.fields[*slot].name)));
                        }
                        None => then.iter().for_each(|op| self.placed(op, "", code)),
                    }
                    code.close("}");
                }
                Op::Field(slot, ops) => {
                    let name = format!("m.{}", member(&self.group.fields[*slot].name));
                    match ops[..] {
                        [Op::Bytes { byte, count }] => {
                            let all: Vec<String> = (byte..byte + count as usize).map(at).collect();
                            code.line(format!("{name} = [{}];", all.join(", ")));
                        }
                        _ => self.placed(op, &name, code),
                    }
                }
                op => self.placed(op, "", code),
            }
        }
        match section.size {
            Some(0) => {}
            Some(size) => code.line(format!("start += {size};")),
            None => {
                code.line("start = r.bit.div_ceil(8);");
                code.open("if start > r.end {");
                code.line("return Err(Error::Truncated);");
                code.close("}");
            }
        }
    }

    /// An operation of a section; a value is put into a variable.
    fn placed(&self, op: &Op<'_>, to: &str, code: &mut Code) {
        match op {
            Op::Seek(bit) => code.line(format!("r.bit = start * 8 + {bit};")),
            Op::Field(slot, ops) => self.value(&self.group.fields[*slot], ops, to, code),
            Op::Align => code.line("r.align();"),
            Op::Skip(bits) => code.lines(&format!("r.need({bits})?;\nr.bit += {bits};")),
            _ => {}
        }
    }

    /// Reads a value at the reader's place into a variable.
    pub(super) fn value(&self, field: &Field, ops: &[Op<'_>], to: &str, code: &mut Code) {
        let order = little(self.group.order);
        for op in ops {
            match op {
                Op::Number { width, signed, order } => {
                    let raw = cast(&format!("r.bits({width}, {})?", little(*order)), unsigned(*width));
                    code.line(format!("{to} = {};", value_of(&field.kind, &raw, *width, *signed)));
                }
                Op::Varint { width, signed: is_signed } => {
                    let (raw, ty) = match is_signed {
                        true => (format!("zigzag(r.varint({width})?)"), signed(*width)),
                        false => (format!("r.varint({width})?"), unsigned(*width)),
                    };
                    code.line(format!("{to} = {};", cast(&raw, ty)));
                }
                Op::Run { length, text } => self.run(*length, *text, to, code),
                Op::Call(record) => code.line(format!("{to} = {}::read(r)?;", class(&record.record.name))),
                Op::Sized { bytes, record } => {
                    let depth = self.fresh();
                    if let Some(bytes) = bytes {
                        code.line(format!("let size = r.bits({}, {order})? as usize;", bytes * 8));
                    }
                    self.sized(depth, record, to, code);
                }
                Op::Repeat { list, once, each } => self.list(field, list, *once, each, to, code),
                Op::Select { union, forms } => self.union(field, union, forms, to, code),
                op => self.placed(op, "", code),
            }
        }
    }

    fn run(&self, length: Length, text: bool, to: &str, code: &mut Code) {
        let order = little(self.group.order);
        let some = match length {
            Length::Exact(count) => format!("r.take({count}, {order})?"),
            Length::UpTo(most) => {
                let count = format!("count{}", self.fresh());
                code.line(format!("let {count} = r.count({most}, {order})?;"));
                format!("r.take({count}, {order})?")
            }
            Length::Rest => "r.rest()?".to_owned(),
        };
        match (text, length) {
            (_, Length::Exact(count)) => {
                let name = format!("some{}", self.fresh());
                code.line(format!("let {name}: Bytes<{count}> = {some};"));
                code.line(match text {
                    true => format!("{to} = Text::from_bytes(unpadded({name}.as_slice()))?;"),
                    false => format!("{to} = {name}.bytes;"),
                });
            }
            (true, _) => code.line(format!("{to} = Text({some});")),
            (false, _) => code.line(format!("{to} = {some};")),
        }
    }

    fn sized(&self, depth: usize, record: &RecordPlan, to: &str, code: &mut Code) {
        code.line("// What a later revision added to the element is stepped over.");
        code.line("r.need(size * 8)?;");
        code.line(format!("let (after{depth}, end{depth}) = (r.bit / 8 + size, r.end);"));
        code.line(format!("r.end = after{depth};"));
        code.line(format!("{to} = {}::read(r)?;", class(&record.record.name)));
        code.line(format!("(r.end, r.bit) = (end{depth}, after{depth} * 8);"));
    }

    fn list(&self, field: &Field, list: &ListPlan, once: Option<u8>, each: &[Op<'_>], to: &str, code: &mut Code) {
        let depth = self.fresh();
        let order = little(self.group.order);
        let (items, one) = (format!("items{depth}"), format!("one{depth}"));
        let is_rest = list.length == Length::Rest;
        let one_type = self.owner.type_of(&list.element.field, &list.element.action);
        match list.length {
            Length::Exact(count) => {
                let default = self.owner.missing_value(&list.element.field, &list.element.action);
                code.line(format!("let mut {items}: [{one_type}; {count}] = [{default}; {count}];"));
            }
            _ => {
                let ty = self.owner.type_of(field, &Action::List(list.clone().into()));
                code.line(format!("let mut {items}: {ty} = List::default();"));
            }
        }
        if let Length::UpTo(most) = list.length {
            code.line(format!("let count{depth} = r.count({most}, {order})?;"));
        }
        if let Some(bytes) = once {
            let read = format!("r.bits({}, {order})? as usize", bytes * 8);
            if is_rest {
                code.lines(&format!(
                    "let mut size = 0;\nif r.bit < r.end * 8 {{\n    r.align();\n    size = {read};\n}}"
                ));
            } else {
                code.lines(&format!("r.align();\nlet size = {read};"));
            }
        }
        match list.length {
            Length::Rest => {
                code.open("while r.bit + 8 <= r.end * 8 {");
                code.line(format!("let before{depth} = r.bit;"));
            }
            Length::UpTo(_) => code.open(format!("for _ in 0..count{depth} {{")),
            Length::Exact(_) => code.open(format!("for place{depth} in &mut {items} {{")),
        }
        code.line(format!("let {one}: {one_type};"));
        self.value(&list.element.field, each, &one, code);
        match list.length {
            Length::Exact(_) => code.line(format!("*place{depth} = {one};")),
            _ => code.line(format!("{items}.push({one})?;")),
        }
        if is_rest {
            code.open(format!("if r.bit <= before{depth} {{"));
            code.line("return Err(Error::Truncated);");
            code.close("}");
        }
        code.close("}");
        code.line(format!("{to} = {items};"));
    }

    fn union(&self, field: &Field, union: &UnionPlan, forms: &[Vec<Op<'_>>], to: &str, code: &mut Code) {
        let meaning = &union.union;
        let depth = self.fresh();
        let ty = self.owner.union_type(field);
        let form = |element: &Element, ops: &[Op<'_>], code: &mut Code| {
            let one = format!("form{depth}");
            code.line(format!("let {one};"));
            self.value(&element.field, ops, &one, code);
            code.line(format!("{to} = {ty}::{}({one});", class(&element.field.name)));
        };
        let key = match meaning.selector {
            Selector::Field(slot) => {
                code.uses(VIEW);
                format!("{}{}{}", self.own.0, member(&self.group.fields[slot].name), self.own.1)
            }
            Selector::Request { .. } => "r.key".to_owned(),
        };
        code.open(format!("match {key} {{"));
        for ((case, element), ops) in meaning.cases.iter().zip(&union.forms).zip(forms) {
            let number = case_number(self.group, &meaning.selector, case.raw);
            code.open(match meaning.selector {
                Selector::Field(_) => format!("{number} => {{"),
                Selector::Request { .. } => format!("Some({number}) => {{"),
            });
            form(element, ops, code);
            code.close("}");
        }
        match union.forms.get(meaning.cases.len()) {
            Some(element) => {
                code.open("_ => {");
                form(element, &forms[meaning.cases.len()], code);
                code.close("}");
            }
            None => {
                let what = text(&format!("{}.{}", self.group.name, field.name));
                code.line(format!("_ => return Err(Error::NoForm({what})),"));
            }
        }
        code.close("}");
    }
}

/// A number of 64 bits as one of this type.
fn cast(value: &str, ty: &str) -> String {
    if matches!(ty, "u64" | "i64") { value.to_owned() } else { format!("{value} as {ty}") }
}
