//! What writes the body of a message, or a record, at a writer's place.

use std::cell::Cell;

use emberwort_model::model::{Field, Length, Selector};
use emberwort_model::plan::{Action, ListPlan, RecordPlan, SectionPlan, UnionPlan};

use super::names::{class, little, member, text};
use super::values::{Owner, case_number, part, raw_of, signed, unsigned};
use crate::code::Code;
use crate::lower::{FixedItemKind, Group, Op, Piece, Section, has_record, is_ascii, sections};

/// The functions that write one.
pub fn write(group: &Group<'_>, owner: Owner<'_>, code: &mut Code) {
    let writer = Writer::of(group, owner, "self.", false);
    let sections = sections(group);
    let uses_revision = group.named().any(|(_, _, action)| has_record(action));
    let w = if sections.iter().all(|section| section.plan.steps.is_empty()) { "_" } else { "w" };
    code.line("");
    match group.message {
        Some(_) => {
            code.lines("/// Writes the body; how many bytes it has.\n///\n/// # Errors\n/// If a value may not be sent, or the buffer is too short.");
            code.open("pub fn encode(&self, out: &mut [u8]) -> Result<usize, Error> {");
            code.lines("let mut w = Writer::new(out);\nself.put(&mut w)?;\nOk(w.bit / 8)");
            code.close("}");
            code.line("");
            code.open(format!("fn put(&self, {w}: &mut Writer<'_>) -> Result<(), Error> {{"));
            let most = sections.len();
            let error = format!("Err(Error::OutOfRange({}))", text(&format!("{}.sections_held", group.name)));
            if uses_revision {
                code.open("let revision = match self.sections_held {");
                for (index, section) in sections.iter().enumerate().take(most - 1) {
                    code.line(format!("{} => {},", index + 1, section.plan.revision));
                }
                code.line(format!("{most} => REVISION,"));
                code.line(format!("_ => return {error},"));
                code.close("};");
            } else {
                code.open(match most {
                    1 => "if self.sections_held != 1 {".to_owned(),
                    most => format!("if !(1..={most}).contains(&self.sections_held) {{"),
                });
                code.line(format!("return {error};"));
                code.close("}");
            }
        }
        None => {
            let name = if uses_revision || sections.len() > 1 { "revision" } else { "_revision" };
            code.open(format!("fn put(&self, {w}: &mut Writer<'_>, {name}: u32) -> Result<(), Error> {{"));
        }
    }
    for (index, section) in sections.iter().enumerate() {
        if index > 0 {
            code.open(match group.message {
                Some(_) => format!("if self.sections_held > {index} {{"),
                None => format!("if revision >= {} {{", section.plan.revision),
            });
        }
        code.line(format!("// Revision {}.", section.plan.revision));
        writer.section(section, code);
        if index > 0 {
            code.close("}");
        }
    }
    code.line("Ok(())");
    code.close("}");
}

/// The variables of the writer and of the place where a section starts, which are only declared where lines use them.
pub(super) const WRITER: &str = "w";
pub(super) const START: &str = "s";

/// Prints what writes values.
pub(super) struct Writer<'g> {
    group: &'g Group<'g>,
    owner: Owner<'g>,
    /// What stands in front of the name of a field that decides about a form.
    own: &'static str,
    /// Whether values with a length of their own are slices.
    slices: bool,
    /// How many names of variables were made.
    made: Cell<usize>,
}

impl<'g> Writer<'g> {
    pub(super) fn of(group: &'g Group<'g>, owner: Owner<'g>, own: &'static str, slices: bool) -> Self {
        Self { group, owner, own, slices, made: Cell::new(0) }
    }

    /// A number that no other variable has in its name.
    fn fresh(&self) -> usize {
        self.made.replace(self.made.get() + 1)
    }

    pub(super) fn what(&self, field: &Field) -> String {
        format!("{}.{}", self.group.name, field.name)
    }

    fn section(&self, section: &Section<'_>, code: &mut Code) {
        if section.fixed.bytes > 0 || section.size != Some(0) || !section.ops.is_empty() {
            code.line("let s = w.bit / 8;");
        }
        self.known(section, code);
        for op in &section.ops {
            match op {
                // Nobody sends it any more.
                Op::If { slot: None, .. } => {}
                Op::If { slot: Some(slot), bit, then } => {
                    let one = format!("one{}", self.fresh());
                    let value = format!("self.{}", member(&self.group.fields[*slot].name));
                    code.open(format!("if let Some({one}) = {value} {{"));
                    let place = match bit / 8 {
                        0 => "s".to_owned(),
                        byte => format!("s + {byte}"),
                    };
                    code.line(format!("w.mark({place}, {:#04x})?;", 1u32 << (bit % 8)));
                    then.iter().for_each(|op| self.placed(op, &one, code));
                    code.close("}");
                }
                Op::Field(slot, _) => {
                    self.placed(op, &format!("self.{}", member(&self.group.fields[*slot].name)), code);
                }
                op => self.placed(op, "", code),
            }
        }
        match section.size {
            Some(0) if section.ops.is_empty() => {}
            Some(size) => code.line(format!("w.bit = (s + {size}) * 8;")),
            None => code.line("w.align()?;"),
        }
    }

    /// What lies at known places: values are looked at first, and become raw numbers, of which the bytes are sums.
    fn known(&self, section: &Section<'_>, code: &mut Code) {
        let (group, known) = (self.group, &section.fixed);
        let mut widths: Vec<(usize, u8)> = Vec::new();
        for item in &known.items {
            let field = &group.fields[item.slot];
            if let (FixedItemKind::Number(_), Action::Bits { width, .. }) =
                (&item.kind, &section.plan.steps[item.step].action)
            {
                let name = member(&field.name);
                let (refusals, raw) = raw_of(field, *width, &format!("self.{name}"), &self.what(field));
                refusals.iter().for_each(|lines| code.lines(lines));
                code.line(format!("let n_{name} = {raw};"));
                widths.push((item.slot, *width));
            }
        }
        let one = |(slot, piece): &(usize, Piece)| {
            let width = widths.iter().find(|(of, _)| of == slot).map_or(8, |(_, width)| *width);
            let part = part(&format!("n_{}", member(&group.fields[*slot].name)), piece, width);
            match (piece.low, part.contains(' ')) {
                (0, _) => part,
                (low, true) => format!("({part}) << {low}"),
                (low, false) => format!("{part} << {low}"),
            }
        };
        if known.bytes == 0 {
            return;
        }
        let sums = known.sums(|slot| !group.fields[slot].is_spare());
        let byte = |at: usize| {
            let found = sums.iter().find(|byte| byte.byte == at);
            let parts: Vec<String> = found.iter().flat_map(|byte| &byte.parts).map(one).collect();
            if parts.is_empty() { "0".to_owned() } else { parts.join(" | ") }
        };
        let all: Vec<String> = (0..known.bytes).map(byte).collect();
        match all.iter().all(|byte| byte == "0") {
            true => code.line(format!("*w.known(s)? = [0; {}];", known.bytes)),
            false => {
                code.open("*w.known(s)? = [");
                all.iter().for_each(|byte| code.line(format!("{byte},")));
                code.close("];");
            }
        }
    }

    /// An operation of a section; a value is taken from a variable.
    pub(super) fn placed(&self, op: &Op<'_>, value: &str, code: &mut Code) {
        match op {
            Op::Seek(bit) => {
                code.uses(WRITER);
                code.uses(START);
                code.line(format!("w.bit = s * 8 + {bit};"));
            }
            Op::Field(slot, ops) => self.value(&self.group.fields[*slot], ops, value, code),
            Op::Align => {
                code.uses(WRITER);
                code.line("w.align()?;");
            }
            Op::Skip(bits) => {
                code.uses(WRITER);
                code.lines(&format!("w.bit += {bits};\nw.reach()?;"));
            }
            _ => {}
        }
    }

    /// Writes a value at the writer's place.
    fn value(&self, field: &Field, ops: &[Op<'_>], value: &str, code: &mut Code) {
        let order = little(self.group.order);
        for op in ops {
            code.uses(WRITER);
            match op {
                Op::Bytes { byte, count } => {
                    code.uses(START);
                    code.line(format!("w.bit = s * 8 + {};", byte * 8));
                    self.run(Length::Exact(*count), false, value, code);
                }
                Op::Number { width, order, .. } => {
                    let (refusals, raw) = raw_of(field, *width, value, &self.what(field));
                    refusals.iter().for_each(|lines| code.lines(lines));
                    code.line(format!("w.put({}, {width}, {})?;", widen(&raw, unsigned(*width)), little(*order)));
                }
                Op::Varint { width, signed: is_signed } => {
                    let (refusals, _) = raw_of(field, *width, value, &self.what(field));
                    refusals.iter().for_each(|lines| code.lines(lines));
                    let number = match is_signed {
                        true if signed(*width) == "i64" => format!("unzigzag({value})"),
                        true => format!("unzigzag(i64::from({value}))"),
                        false => widen(value, unsigned(*width)),
                    };
                    code.line(format!("w.varint({number})?;"));
                }
                Op::Run { length, text: is_text } => {
                    if is_ascii(field) {
                        code.open(format!("if !{value}.as_bytes().is_ascii() {{"));
                        code.line(format!("return Err(Error::OutOfRange({}));", text(&self.what(field))));
                        code.close("}");
                    }
                    self.run(*length, *is_text, value, code);
                }
                Op::Call(_) | Op::Sized { bytes: None, .. } => code.line(format!("{value}.put(w, revision)?;")),
                Op::Sized { bytes: Some(bytes), .. } => {
                    let (depth, bits) = (self.fresh(), bytes * 8);
                    code.lines(&format!(
                        "let at{depth} = w.bit;\nw.bit += {bits};\nw.reach()?;\n{value}.put(w, revision)?;\n\
                         let size{depth} = (w.bit - at{depth}) as u64 / 8 - {bytes};\nif size{depth} > {} {{\n    return Err(Error::TooMany);\n}}\n\
                         w.set(at{depth}, size{depth}, {bits}, {order})?;",
                        (1u64 << bits) - 1
                    ));
                }
                Op::Repeat { list, once, each } => self.list(list, *once, each, value, code),
                Op::Select { union, forms } => self.union(field, union, forms, value, code),
                op => self.placed(op, "", code),
            }
        }
    }

    /// Whether a variable holds a slice already.
    fn is_slice(&self, value: &str) -> bool {
        self.slices && value == "value"
    }

    fn run(&self, length: Length, text: bool, value: &str, code: &mut Code) {
        let order = little(self.group.order);
        let slice = match (text, length) {
            (true, _) => format!("{value}.as_bytes()"),
            (false, Length::Exact(_)) => format!("&{value}"),
            _ if self.is_slice(value) => value.to_owned(),
            (false, _) => format!("{value}.as_slice()"),
        };
        match (length, text) {
            (Length::Exact(count), true) => {
                let some = format!("some{}", self.fresh());
                code.line(format!("let mut {some} = [0; {count}];"));
                code.line(format!("copy_bytes(&mut {some}, {slice});"));
                code.line(format!("w.bytes(&{some}, {order})?;"));
            }
            (Length::UpTo(most), _) => {
                let counted = if self.is_slice(value) { value } else { &slice };
                code.line(format!("w.count({counted}.len(), {most}, {order})?;"));
                code.line(format!("w.bytes({slice}, {order})?;"));
            }
            _ => code.line(format!("w.bytes({slice}, {order})?;")),
        }
    }

    fn list(&self, list: &ListPlan, once: Option<u8>, each: &[Op<'_>], value: &str, code: &mut Code) {
        let depth = self.fresh();
        let order = little(self.group.order);
        let slice = match list.length {
            Length::Exact(_) => format!("{value}.iter()"),
            _ if self.is_slice(value) => value.to_owned(),
            _ => format!("{value}.as_slice()"),
        };
        if let Length::UpTo(most) = list.length {
            code.line(format!("w.count({slice}.len(), {most}, {order})?;"));
        }
        if let (Some(bytes), Action::Record(record)) = (once, &list.element.action) {
            if list.length == Length::Rest {
                code.open(format!("if !{slice}.is_empty() {{"));
            }
            code.line("w.align()?;");
            code.line(format!("let mut size{depth} = 0;"));
            sizes_of(record).iter().for_each(|size| code.line(format!("size{depth} += {size};")));
            code.line(format!("w.put(size{depth}, {}, {order})?;", bytes * 8));
            if list.length == Length::Rest {
                code.close("}");
            }
        }
        let one = format!("one{depth}");
        code.open(format!("for {one} in {slice} {{"));
        let is_group = matches!(list.element.action, Action::Record(_) | Action::List(_) | Action::Run { .. });
        if !is_group {
            code.line(format!("let {one} = *{one};"));
        }
        match (&list.element.action, each) {
            // It is a reference already.
            (Action::Run { length: Length::Exact(_), text: false }, [placing @ .., Op::Run { .. }]) => {
                placing.iter().for_each(|op| self.placed(op, "", code));
                code.line(format!("w.bytes({one}, {order})?;"));
            }
            _ => self.value(&list.element.field, each, &one, code),
        }
        code.close("}");
    }

    fn union(&self, field: &Field, union: &UnionPlan, forms: &[Vec<Op<'_>>], value: &str, code: &mut Code) {
        let meaning = &union.union;
        let one = format!("form{}", self.fresh());
        let ty = self.owner.union_type(field);
        code.open(format!("match {value} {{"));
        for (index, element) in union.forms.iter().enumerate() {
            code.open(format!("{ty}::{}({one}) => {{", class(&element.field.name)));
            if let Selector::Field(slot) = meaning.selector {
                let key = format!("{}{}", self.own, member(&self.group.fields[slot].name));
                let number = |raw: u64| case_number(self.group, &meaning.selector, raw);
                let wrong = match meaning.cases.get(index) {
                    Some(case) => format!("{key} != {}", number(case.raw)),
                    None => {
                        let others: Vec<String> =
                            meaning.cases.iter().map(|case| format!("{key} == {}", number(case.raw))).collect();
                        others.join(" || ")
                    }
                };
                if !wrong.is_empty() {
                    code.open(format!("if {wrong} {{"));
                    code.line(format!("return Err(Error::NoForm({}));", text(&self.what(field))));
                    code.close("}");
                }
            }
            self.value(&element.field, &forms[index], &one, code);
            code.close("}");
        }
        code.close("}");
    }
}

/// The sizes of a record's sections as a sender of a revision writes them.
fn sizes_of(record: &RecordPlan) -> Vec<String> {
    let one = |section: &SectionPlan| match section.revision {
        1 => section.greatest_size.to_string(),
        revision => format!("if revision >= {revision} {{ {} }} else {{ 0 }}", section.greatest_size),
    };
    record.sections.iter().map(one).collect()
}

/// A number of this type as one of 64 bits.
pub(super) fn widen(value: &str, ty: &str) -> String {
    if ty == "u64" { value.to_owned() } else { format!("u64::from({value})") }
}
