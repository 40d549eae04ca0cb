//! What writes the body of a message, or a record, at a writer's place.

use std::cell::Cell;

use emberwort_model::model::{Field, Kind, Length, Selector};
use emberwort_model::plan::{Action, ListPlan, RecordPlan, SectionPlan, UnionPlan};

use super::names::{after_word, class, little, member, text};
use super::numbers::{NumberRepresentation, case_number, is_invalid, is_wide, part};
use crate::code::Code;
use crate::lower::{FixedItemKind, Group, Op, Piece, Section, has_record, is_ascii, sections};

/// The function that writes one at a writer's place.
pub fn write(group: &Group<'_>, code: &mut Code) {
    let writer = Writer { group, made: Cell::new(0) };
    let class = class(group.name);
    let sections = sections(group);
    code.line("");
    match group.message {
        Some(_) => {
            code.open(format!("function write{class}(w, m) {{"));
            let most = sections.len();
            code.open(format!("if (!(isWhole(m.sectionsHeld) && m.sectionsHeld >= 1 && m.sectionsHeld <= {most})) {{"));
            code.line(format!("throw outOfRange({}, m.sectionsHeld);", text(&format!("{}.sectionsHeld", group.name))));
            code.close("}");
            if group.named().any(|(_, _, action)| has_record(action)) {
                let revisions: Vec<String> = sections.iter().map(|one| one.plan.revision.to_string()).collect();
                code.line(format!(
                    "var revision = m.sectionsHeld === {most} ? REVISION : [{}][m.sectionsHeld - 1];",
                    revisions.join(", ")
                ));
            }
        }
        None => code.open(format!("function write{class}(w, m, revision) {{")),
    }
    code.line("var s = w.bit / 8;");
    for (index, section) in sections.iter().enumerate() {
        if index > 0 {
            code.open(match group.message {
                Some(_) => format!("if (m.sectionsHeld > {index}) {{"),
                None => format!("if (revision >= {}) {{", section.plan.revision),
            });
            code.line("s = w.bit / 8;");
        }
        code.line(format!("// Revision {}.", section.plan.revision));
        writer.section(section, code);
        if index > 0 {
            code.close("}");
        }
    }
    code.close("}");
}

struct Writer<'g> {
    group: &'g Group<'g>,
    /// How many names of variables were made.
    made: Cell<usize>,
}

impl Writer<'_> {
    /// A number that no other variable has in its name.
    fn fresh(&self) -> usize {
        self.made.replace(self.made.get() + 1)
    }

    fn what(&self, field: &Field) -> String {
        text(&format!("{}.{}", self.group.name, field.name))
    }

    fn section(&self, section: &Section<'_>, code: &mut Code) {
        self.known(section, code);
        for op in &section.ops {
            match op {
                // Nobody sends it any more.
                Op::If { slot: None, .. } => {}
                Op::If { slot: Some(slot), bit, then } => {
                    code.open(format!("if (m.{} !== null) {{", member(&self.group.fields[*slot].name)));
                    let place = match bit / 8 {
                        0 => "s".to_owned(),
                        byte => format!("s + {byte}"),
                    };
                    code.line(format!("w.out[{place}] |= {:#04x};", 1u32 << (bit % 8)));
                    then.iter().for_each(|op| self.placed(op, code));
                    code.close("}");
                }
                op => self.placed(op, code),
            }
        }
        code.line(match section.size {
            Some(size) => format!("w.bit = (s + {size}) * 8;"),
            None => "alignWriter(w);".to_owned(),
        });
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
                self.raw(field, *width, &format!("m.{name}"), &after_word("n", &name), code);
                widths.push((item.slot, *width));
            }
        }
        let one = |(slot, piece): &(usize, Piece)| {
            let field = &group.fields[*slot];
            let width = widths.iter().find(|(of, _)| of == slot).map_or(8, |(_, width)| *width);
            let part = part(&after_word("n", &member(&field.name)), piece, width, field.kind.is_signed());
            match (piece.low, part.contains(' ')) {
                (0, _) => part,
                (low, true) => format!("({part}) << {low}"),
                (low, false) => format!("{part} << {low}"),
            }
        };
        let sums = known.sums(|slot| !group.fields[slot].is_spare());
        for at in 0..known.bytes {
            let found = sums.iter().find(|byte| byte.byte == at);
            let parts: Vec<String> = found.iter().flat_map(|byte| &byte.parts).map(one).collect();
            let place = if at == 0 { "s".to_owned() } else { format!("s + {at}") };
            code.line(format!(
                "w.out[{place}] = {};",
                if parts.is_empty() { "0".to_owned() } else { parts.join(" | ") }
            ));
        }
    }

    /// Sets a variable to the raw number of a value, if it has a meaning; of a number wider than 32 bits two, to its halves.
    fn raw(&self, field: &Field, width: u8, value: &str, to: &str, code: &mut Code) {
        let what = self.what(field);
        match &field.kind {
            Kind::Float(bits) => {
                code.line(match bits {
                    64 => format!(
                        "var {to}Both = floatRaw({value}, 64, {what}), {to}Low = {to}Both[0], {to}High = {to}Both[1];"
                    ),
                    bits => format!("var {to} = floatRaw({value}, {bits}, {what})[0];"),
                });
                return;
            }
            Kind::Bool => {
                code.line(format!("var {to} = {value} ? 1 : 0;"));
                return;
            }
            _ => {}
        }
        code.line(format!("var {to} = {value};"));
        code.open(format!("if ({}) {{", is_invalid(field, width, to)));
        code.line(format!("throw outOfRange({what}, {to});"));
        code.close("}");
        match NumberRepresentation::of(width) {
            NumberRepresentation::Small => {}
            NumberRepresentation::Large => code.line(format!("var {to}Low = {to} >>> 0, {to}High = upper({to});")),
            NumberRepresentation::Wide => code.line(format!("var {to}Low = lowOf({to}), {to}High = highOf({to});")),
        }
    }

    /// An operation of a section.
    fn placed(&self, op: &Op<'_>, code: &mut Code) {
        match op {
            Op::Seek(bit) => code.line(format!("w.bit = s * 8 + {bit};")),
            Op::Field(slot, ops) => {
                let field = &self.group.fields[*slot];
                self.value(field, ops, &format!("m.{}", member(&field.name)), code);
            }
            Op::Align => code.line("alignWriter(w);"),
            Op::Skip(bits) => code.lines(&format!("w.bit += {bits};\nreach(w);")),
            _ => {}
        }
    }

    /// Writes a value at the writer's place.
    fn value(&self, field: &Field, ops: &[Op<'_>], value: &str, code: &mut Code) {
        let (order, what) = (little(self.group.order), self.what(field));
        for op in ops {
            match op {
                Op::Bytes { byte, count } => {
                    code.line(format!("w.bit = s * 8 + {};", byte * 8));
                    self.run(Length::Exact(*count), false, &what, value, code);
                }
                Op::Number { width, order, .. } => {
                    let (to, order) = (format!("n{}", self.fresh()), little(*order));
                    self.raw(field, *width, value, &to, code);
                    code.lines(&match &field.kind {
                        Kind::Float(64) => format!(
                            "w.bit += 64;\nreach(w);\nsetBits(w.out, w.bit - 64, {to}Low, {to}High, 64, {order});"
                        ),
                        kind if is_wide(kind) => format!("putWide(w, {to}, {width}, {order});"),
                        _ => format!("put(w, {to}, {width}, {order});"),
                    });
                }
                Op::Varint { width, signed } => {
                    code.open(format!("if ({}) {{", is_invalid(field, *width, value)));
                    code.line(format!("throw outOfRange({what}, {value});"));
                    code.close("}");
                    code.line(match (NumberRepresentation::of(*width), signed) {
                        (NumberRepresentation::Wide, true) => format!("putWideVarint(w, wideUnzigzag({value}));"),
                        (NumberRepresentation::Wide, false) => format!("putWideVarint(w, {value});"),
                        (_, true) => format!("putVarint(w, unzigzag({value}));"),
                        (_, false) => format!("putVarint(w, {value});"),
                    });
                }
                Op::Run { length, text } => {
                    if is_ascii(field) {
                        code.line(format!("mustBeAscii({value}, {what});"));
                    }
                    self.run(*length, *text, &what, value, code);
                }
                Op::Call(record) | Op::Sized { bytes: None, record } => {
                    code.line(format!("write{}(w, {value}, revision);", class(&record.record.name)));
                }
                Op::Sized { bytes: Some(bytes), record } => {
                    let (depth, greatest) = (self.fresh(), (1u64 << (bytes * 8)) - 1);
                    code.lines(&format!(
                        "var at{depth} = w.bit;\nw.bit += {bits};\nreach(w);\nwrite{}(w, {value}, revision);\n\
                         var size{depth} = (w.bit - at{depth}) / 8 - {bytes};\nif (size{depth} > {greatest}) {{\n  \
                         throw new LinkError(\"too_many\", {what} + \": \" + size{depth} + \" bytes are too many for an element\");\n}}\n\
                         setBits(w.out, at{depth}, size{depth}, 0, {bits}, {order});",
                        class(&record.record.name),
                        bits = bytes * 8,
                    ));
                }
                Op::Repeat { list, once, each } => self.list(list, *once, each, value, &what, code),
                Op::Select { union, forms } => self.union(union, forms, value, &what, code),
                op => self.placed(op, code),
            }
        }
    }

    fn run(&self, length: Length, text: bool, what: &str, value: &str, code: &mut Code) {
        let (order, some) = (little(self.group.order), format!("some{}", self.fresh()));
        code.line(match text {
            true => format!("var {some} = utf8({value}, {what});"),
            false => format!("var {some} = checkedBytes({value}, {what});"),
        });
        match (length, text) {
            (Length::Exact(count), true) => code.lines(&format!(
                "if ({some}.length > {count}) {{\n  \
                 throw new LinkError(\"too_many\", {what} + \": \" + {some}.length + \" bytes are more than {count}\");\n}}\n\
                 while ({some}.length < {count}) {{\n  {some}.push(0);\n}}\nputBytes(w, {some}, {order});"
            )),
            (Length::Exact(count), false) => code.lines(&format!(
                "if ({some}.length !== {count}) {{\n  throw outOfRange({what}, {value});\n}}\nputBytes(w, {some}, {order});"
            )),
            (Length::UpTo(most), _) => {
                code.line(format!("putCount(w, {some}.length, {most}, {order}, {what});"));
                code.line(format!("putBytes(w, {some}, {order});"));
            }
            (Length::Rest, _) => code.line(format!("putBytes(w, {some}, {order});")),
        }
    }

    fn list(&self, list: &ListPlan, once: Option<u8>, each: &[Op<'_>], value: &str, what: &str, code: &mut Code) {
        let order = little(self.group.order);
        let depth = self.fresh();
        match list.length {
            Length::Exact(count) => {
                code.open(format!("if ({value}.length !== {count}) {{"));
                code.line(format!("throw outOfRange({what}, {value}.length + \" elements\");"));
                code.close("}");
            }
            Length::UpTo(most) => code.line(format!("putCount(w, {value}.length, {most}, {order}, {what});")),
            Length::Rest => {
                code.open(format!("if (!isWhole({value}.length)) {{"));
                code.line(format!("throw outOfRange({what}, {value});"));
                code.close("}");
            }
        }
        if let (Some(bytes), Action::Record(record)) = (once, &list.element.action) {
            if list.length == Length::Rest {
                code.open(format!("if ({value}.length > 0) {{"));
            }
            code.line("alignWriter(w);");
            code.line(format!("put(w, {}, {}, {order});", size_of(record), bytes * 8));
            if list.length == Length::Rest {
                code.close("}");
            }
        }
        let (one, at) = (format!("one{depth}"), format!("each{depth}"));
        code.open(format!("for (var {at} = 0; {at} < {value}.length; {at}++) {{"));
        code.line(format!("var {one} = {value}[{at}];"));
        self.value(&list.element.field, each, &one, code);
        code.close("}");
    }

    fn union(&self, union: &UnionPlan, forms: &[Vec<Op<'_>>], value: &str, what: &str, code: &mut Code) {
        let meaning = &union.union;
        for (index, element) in union.forms.iter().enumerate() {
            let test = format!("if ({value}.name === {}) {{", text(&element.field.name));
            match index {
                0 => code.open(test),
                _ => {
                    code.close(format!("}} else {test}"));
                    code.open_more();
                }
            }
            if let Selector::Field(slot) = meaning.selector {
                let key = format!("m.{}", member(&self.group.fields[slot].name));
                let number = |raw: u64| case_number(self.group, &meaning.selector, raw);
                let wrong = match meaning.cases.get(index) {
                    Some(case) => format!("{key} !== {}", number(case.raw)),
                    None => {
                        let others: Vec<String> =
                            meaning.cases.iter().map(|case| format!("{key} === {}", number(case.raw))).collect();
                        others.join(" || ")
                    }
                };
                if !wrong.is_empty() {
                    code.open(format!("if ({wrong}) {{"));
                    code.line(format!(
                        "throw new LinkError(\"no_form\", {what} + \": \" + {key} + \" selects another form\");"
                    ));
                    code.close("}");
                }
            }
            self.value(&element.field, &forms[index], &format!("{value}.value"), code);
        }
        code.close("} else {");
        code.open_more();
        code.line(format!("throw new LinkError(\"no_form\", {what} + \": there is no form \" + {value}.name);"));
        code.close("}");
    }
}

/// The size of a record as a sender of a revision writes it.
fn size_of(record: &RecordPlan) -> String {
    let one = |section: &SectionPlan| match section.revision {
        1 => section.greatest_size.to_string(),
        revision => format!("(revision >= {revision} ? {} : 0)", section.greatest_size),
    };
    record.sections.iter().map(one).collect::<Vec<_>>().join(" + ")
}
