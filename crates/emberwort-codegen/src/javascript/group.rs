//! Messages and records: how their bodies are read and written.

use std::cell::Cell;
use std::ops::Deref;

use emberwort_model::model::{ByteOrder, Field, Kind, Length, Selector, Value};
use emberwort_model::plan::{Action, Element, ElementSizes, ListPlan, Place, SectionPlan, UnionPlan};

use super::flavour::Flavour;
use super::names::{behind, bytes, class, comment, doc, member, text};
use super::numbers::{Held, code as code_of, conversions, given, is_invalid, is_wide, literal, part, sum, value_of};
use crate::code::Code;
use crate::lower::{Group, Known, What};

/// A message or a record in one of the flavours.
pub struct Printed<'a> {
    group: Group<'a>,
    flavour: Flavour,
    /// How many names of variables were made.
    made: Cell<usize>,
}

impl<'a> Printed<'a> {
    pub fn new(group: Group<'a>, flavour: Flavour) -> Self {
        Self { group, flavour, made: Cell::new(0) }
    }

    /// A number that no other variable has in its name.
    fn fresh(&self) -> usize {
        self.made.replace(self.made.get() + 1)
    }
}

impl<'a> Deref for Printed<'a> {
    type Target = Group<'a>;

    fn deref(&self) -> &Group<'a> {
        &self.group
    }
}

/// Whether the first bits come lowest, as an argument.
pub fn little(order: ByteOrder) -> &'static str {
    match order {
        ByteOrder::Little => "true",
        ByteOrder::Big => "false",
    }
}

impl Printed<'_> {
    /// The class of a message or a record, in a module.
    pub fn class(&self, code: &mut Code) {
        let class = class(self.name);
        code.line("");
        code.lines(&comment(&self.about()));
        code.open(format!("export class {class} {{"));
        code.open("constructor(values) {");
        for (_, field, action) in self.named() {
            code.line(format!("this.{} = {};", member(&field.name), self.lacking(field, action)));
        }
        if self.message.is_some() {
            code.line(format!("this.sectionsHeld = {};", self.sections.len()));
        }
        code.open("if (values !== undefined) {");
        code.line("assign(this, values);");
        code.close("}");
        code.close("}");
        if self.message.is_some() {
            code.lines(&format!(
                "\n/** The bytes of the body. */\nencode() {{\n  const w = writer();\n  write{class}(w, this);\n  return new Uint8Array(w.out);\n}}\n\
                 \n/** Reads a body; `key` is what a request asked for, where it decides about the form of a value. */\n\
                 static decode(body, key) {{\n  return read{class}(reader(body, key));\n}}"
            ));
        }
        for (_, field, _) in self.named() {
            self.physical(field, code);
        }
        code.close("}");
        if self.message.is_some() {
            code.line(format!("{class}.SECTIONS = {};", self.sections.len()));
        }
        if let Some(Some(id)) = self.message {
            code.line(format!("{class}.ID = {id:#x};"));
        }
    }

    /// What stands above a class.
    pub fn about(&self) -> String {
        let said = doc(self.doc);
        let said = if said.is_empty() { doc(self.name) } else { said };
        match self.is_line {
            true => format!(
                "{said}\n\nOn the wire it is a line of text, which this module neither writes nor reads: encode() and decode() are of a body."
            ),
            false => said,
        }
    }

    /// A new one as a plain object, in a script.
    pub fn maker(&self, code: &mut Code) {
        code.line("");
        code.open(format!("function new{}() {{", class(self.name)));
        code.open("return {");
        let mut all: Vec<String> = self
            .named()
            .map(|(_, field, action)| format!("{}: {}", member(&field.name), self.lacking(field, action)))
            .collect();
        if self.message.is_some() {
            all.push(format!("sectionsHeld: {}", self.sections.len()));
        }
        code.lines(&all.join(",\n"));
        code.close("};");
        code.close("}");
    }

    /// Functions for physical values.
    fn physical(&self, field: &Field, code: &mut Code) {
        let (Kind::Number(form) | Kind::Varint(form)) = &field.kind else { return };
        if form.scaling.is_identity() {
            return;
        }
        let name = member(&field.name);
        let width = form.bits;
        let (physical, raw) = conversions(&form.scaling, width);
        let unit = if field.unit.is_empty() { String::new() } else { format!(", in {}", doc(&field.unit)) };
        let none = |text: &str| form.none.map_or_else(String::new, |none| text.replace("NONE", &literal(none, width)));
        let range = format!("!(raw >= {} && raw <= {})", literal(form.low, width), literal(form.high, width));
        code.lines(&format!(
            "\n/** The physical value of a code{unit}. */\nstatic {}(raw) {{\n{}  return {physical};\n}}\n\
             \n/** The code nearest to a physical value{unit}. */\nstatic {}(value) {{\n{}  const raw = {raw};\n  if ({range}) {{\n    \
             throw outOfRange({}, value);\n  }}\n  return raw;\n}}",
            behind("physical", &name),
            none("  if (raw === NONE) {\n    return null;\n  }\n"),
            behind("raw", &name),
            none("  if (value === null) {\n    return NONE;\n  }\n"),
            text(&format!("{}.{}", self.name, field.name)),
        ));
    }

    // ---- values ----

    /// The value of a field that nobody gave, or that the sender's revision lacks.
    fn lacking(&self, field: &Field, action: &Action) -> String {
        if field.optional {
            return "null".into();
        }
        match (&field.default, action) {
            (Some(Value::Bytes(some)), Action::Run { text: true, .. }) => format!("text({})", bytes(some)),
            (Some(Value::Bytes(some)), _) => format!("bytesOf({})", bytes(some)),
            _ => given(field).unwrap_or_else(|| self.empty(field, action)),
        }
    }

    fn empty(&self, field: &Field, action: &Action) -> String {
        match action {
            Action::Bits { .. } | Action::Varint { .. } => match field.kind {
                Kind::Bool => "false".into(),
                Kind::Float(_) => "0".into(),
                // What nobody measured is no reading.
                _ => literal(field.kind.none().unwrap_or(0), field.kind.raw_bits().unwrap_or(1)),
            },
            Action::Run { text: true, .. } => "\"\"".into(),
            Action::Run { length: Length::Exact(count), .. } => format!("bytesOf(zeros({count}))"),
            Action::Run { .. } => "bytesOf([])".into(),
            Action::Record(record) => match self.flavour {
                Flavour::Module => format!("new {}()", class(&record.record.name)),
                Flavour::Script => format!("new{}()", class(&record.record.name)),
            },
            Action::List(list) => match list.length {
                Length::Exact(count) => {
                    let one = self.empty(&list.element.field, &list.element.action);
                    format!("listOf({count}, function () {{ return {one}; }})")
                }
                _ => "[]".into(),
            },
            Action::Union(_) => "{ name: \"\", value: null }".into(),
            Action::Skip { .. } => "null".into(),
        }
    }

    // ---- reading ----

    /// The function that reads one at a reader's place.
    pub fn read(&self, code: &mut Code) {
        let class = class(self.name);
        code.line("");
        code.open(format!("function read{class}(r) {{"));
        let new = match self.flavour {
            Flavour::Module => format!("new {class}()"),
            Flavour::Script => format!("new{class}()"),
        };
        code.line(format!("var b = r.body, start = r.bit / 8, m = {new};"));
        for (index, section) in self.sections.iter().enumerate() {
            if index > 0 {
                code.open("if (start !== r.end) {");
            }
            code.line(format!("// Revision {}.", section.revision));
            self.read_section(index, section, code);
        }
        if self.message.is_some() {
            code.line(format!("m.sectionsHeld = {};", self.sections.len()));
        }
        for held in (1..self.sections.len()).rev() {
            match self.message {
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

    fn read_section(&self, index: usize, section: &SectionPlan, code: &mut Code) {
        let known = Known::of(self.sections, index);
        let start = known.start.filter(|_| self.message.is_some());
        let at = |byte: usize| match start {
            Some(start) => format!("b[{}]", start + byte),
            None if byte == 0 => "b[start]".to_owned(),
            None => format!("b[start + {byte}]"),
        };
        if section.least_size > 0 {
            code.open(format!("if (r.end - start < {}) {{", section.least_size));
            code.line(format!("throw tooShort(r.end, start + {});", section.least_size));
            code.close("}");
        }
        for item in &known.items {
            let (step, field) = (&section.steps[item.step], &self.fields[item.slot]);
            if field.is_spare() {
                continue;
            }
            let to = format!("m.{}", member(&field.name));
            match (&item.what, &step.action) {
                (What::Number(pieces), Action::Bits { width, signed, .. }) => {
                    let raw = sum(pieces, *width, &at);
                    code.line(format!("{to} = {};", value_of(&field.kind, &raw, *width, *signed)));
                }
                (What::Bytes { byte, count, text: false }, _) => {
                    let from = start.map_or(format!("start + {byte}"), |start| (start + byte).to_string());
                    code.line(format!("{to} = b.slice({from}, {from} + {count});"));
                }
                (What::Spare, _) => {}
                _ => {
                    if let Place::Fixed(bit) = step.place {
                        code.line(format!("r.bit = start * 8 + {bit};"));
                    }
                    self.read_action(field, &step.action, &to, code);
                }
            }
        }
        let moving = &section.steps[section.fixed_steps..];
        if section.fixed {
            if section.greatest_size > 0 {
                code.line(format!("start += {};", section.greatest_size));
            }
            return;
        }
        code.line(format!("r.bit = start * 8 + {};", section.fixed_end));
        for step in moving {
            let field = &self.fields[step.slot];
            let to = format!("m.{}", member(&field.name));
            if let Some(presence) = step.presence {
                let byte = at(presence as usize / 8);
                code.open(format!("if ({byte} & {:#04x}) {{", 1u32 << (presence % 8)));
            }
            match step.place {
                Place::Fixed(bit) => code.line(format!("r.bit = start * 8 + {bit};")),
                Place::Behind { aligned: true } => code.line("alignReader(r);"),
                Place::Behind { aligned: false } => {}
            }
            self.read_action(field, &step.action, &to, code);
            if let (Some(_), false) = (step.presence, field.is_spare()) {
                code.close("} else {");
                code.open_more();
                code.line(format!("{to} = null;"));
            }
            if step.presence.is_some() {
                code.close("}");
            }
        }
        code.line("start = Math.ceil(r.bit / 8);");
        code.open("if (start > r.end) {");
        code.line("throw tooShort(r.end, start);");
        code.close("}");
    }

    /// Reads what lies at the reader's place into a variable.
    fn read_action(&self, field: &Field, action: &Action, to: &str, code: &mut Code) {
        let order = little(self.order);
        match action {
            Action::Bits { width, signed, order } => {
                let (depth, get) = (self.fresh(), if Held::of(*width) == Held::Wide { "getWide" } else { "get" });
                match &field.kind {
                    Kind::Float(64) => {
                        let one = format!("n{depth}");
                        code.line(format!("var {one} = getWide(r, 64, {});", little(*order)));
                        code.line(format!("{to} = floatOf(lowOf({one}), highOf({one}), 64);"));
                    }
                    kind => {
                        let raw = format!("{get}(r, {width}, {})", little(*order));
                        code.line(format!("{to} = {};", value_of(kind, &raw, *width, *signed)));
                    }
                }
            }
            Action::Varint { width, signed } => {
                let raw = match Held::of(*width) {
                    Held::Wide => format!("wideVarint(r, {width})"),
                    _ => format!("varint(r, {width})"),
                };
                let value = match (signed, Held::of(*width)) {
                    (false, _) => raw,
                    (true, Held::Wide) => format!("wideZigzag({raw})"),
                    (true, _) => format!("zigzag({raw})"),
                };
                code.line(format!("{to} = {value};"));
            }
            Action::Skip { bits } => {
                code.line(format!("need(r, {bits});"));
                code.line(format!("r.bit += {bits};"));
            }
            Action::Run { length, text } => {
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
            Action::Record(record) => {
                code.line("alignReader(r);");
                code.line(format!("{to} = read{}(r);", class(&record.record.name)));
            }
            Action::List(list) => self.read_list(list, to, code),
            Action::Union(union) => self.read_union(union, to, code),
        }
    }

    fn read_list(&self, list: &ListPlan, to: &str, code: &mut Code) {
        let depth = self.fresh();
        let order = little(self.order);
        let (items, one, size) = (format!("items{depth}"), format!("one{depth}"), format!("size{depth}"));
        code.line(format!("var {items} = [], {one};"));
        let is_rest = list.length == Length::Rest;
        match list.length {
            Length::Exact(count) => code.line(format!("var left{depth} = {count};")),
            Length::UpTo(most) => code.line(format!("var left{depth} = count(r, {most}, {order});")),
            Length::Rest => {}
        }
        if let ElementSizes::Once(bytes) = list.sizes {
            code.line(format!("var {size} = 0;"));
            if is_rest {
                code.open("if (r.bit < r.end * 8) {");
            }
            code.line("alignReader(r);");
            code.line(format!("{size} = get(r, {}, {order});", bytes * 8));
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
        if list.element.aligned {
            code.line("alignReader(r);");
        }
        match (&list.element.action, list.sizes) {
            (Action::Record(record), ElementSizes::Once(_) | ElementSizes::Each(_)) => {
                if let ElementSizes::Each(bytes) = list.sizes {
                    code.line("alignReader(r);");
                    code.line(format!("var {size} = get(r, {}, {order});", bytes * 8));
                }
                code.line("// What a later revision added to the element is stepped over.");
                code.line(format!("need(r, {size} * 8);"));
                code.line(format!("var after{depth} = r.bit / 8 + {size}, end{depth} = r.end;"));
                code.line(format!("r.end = after{depth};"));
                code.line(format!("{one} = read{}(r);", class(&record.record.name)));
                code.line(format!("r.end = end{depth};"));
                code.line(format!("r.bit = after{depth} * 8;"));
            }
            (action, _) => self.read_action(&list.element.field, action, &one, code),
        }
        code.line(format!("{items}.push({one});"));
        if is_rest {
            code.open(format!("if (r.bit <= before{depth}) {{"));
            code.line("throw new LinkError(\"truncated\", \"an element without a size would come forever\");");
            code.close("}");
        }
        code.close("}");
        code.line(format!("{to} = {items};"));
    }

    fn read_union(&self, union: &UnionPlan, to: &str, code: &mut Code) {
        let depth = self.fresh();
        let meaning = &union.union;
        code.line("alignReader(r);");
        let key = match meaning.selector {
            Selector::Field(slot) => format!("m.{}", member(&self.fields[slot].name)),
            Selector::Request { .. } => "r.key".to_owned(),
        };
        let one = format!("form{depth}");
        code.line(format!("var {one};"));
        let form = |element: &Element, code: &mut Code| {
            self.read_action(&element.field, &element.action, &one, code);
            code.line(format!("{to} = {{ name: {}, value: {one} }};", text(&element.field.name)));
        };
        let otherwise = |code: &mut Code| match union.forms.get(meaning.cases.len()) {
            Some(element) => form(element, code),
            None => code.line(format!("throw new LinkError(\"no_form\", \"no form belongs to \" + {key});")),
        };
        if meaning.cases.is_empty() {
            otherwise(code);
            return;
        }
        let mut word = "if";
        for (case, element) in meaning.cases.iter().zip(&union.forms) {
            let raw = self.case_number(&meaning.selector, case.raw);
            match word {
                "if" => code.open(format!("if ({key} === {raw}) {{")),
                _ => {
                    code.close(format!("}} else if ({key} === {raw}) {{"));
                    code.open_more();
                }
            }
            form(element, code);
            word = "else";
        }
        code.close("} else {");
        code.open_more();
        otherwise(code);
        code.close("}");
    }

    /// The number of a case, as the values of what decides about it have it.
    fn case_number(&self, selector: &Selector, raw: u64) -> String {
        match selector {
            Selector::Field(slot) => code_of(&self.fields[*slot].kind, raw),
            Selector::Request { .. } => raw.to_string(),
        }
    }

    // ---- writing ----

    /// The function that writes one at a writer's place.
    pub fn write(&self, code: &mut Code) {
        let class = class(self.name);
        code.line("");
        match self.message {
            Some(_) => {
                code.open(format!("function write{class}(w, m) {{"));
                let most = self.sections.len();
                code.open(format!(
                    "if (!(isWhole(m.sectionsHeld) && m.sectionsHeld >= 1 && m.sectionsHeld <= {most})) {{"
                ));
                code.line(format!(
                    "throw outOfRange({}, m.sectionsHeld);",
                    text(&format!("{}.sectionsHeld", self.name))
                ));
                code.close("}");
                if self.named().any(|(_, _, action)| has_record(action)) {
                    let revisions: Vec<String> = self.sections.iter().map(|one| one.revision.to_string()).collect();
                    code.line(format!(
                        "var revision = m.sectionsHeld === {most} ? REVISION : [{}][m.sectionsHeld - 1];",
                        revisions.join(", ")
                    ));
                }
            }
            None => code.open(format!("function write{class}(w, m, revision) {{")),
        }
        code.line("var s = w.bit / 8;");
        for (index, section) in self.sections.iter().enumerate() {
            if index > 0 {
                code.open(match self.message {
                    Some(_) => format!("if (m.sectionsHeld > {index}) {{"),
                    None => format!("if (revision >= {}) {{", section.revision),
                });
                code.line("s = w.bit / 8;");
            }
            code.line(format!("// Revision {}.", section.revision));
            self.write_section(index, section, code);
            if index > 0 {
                code.close("}");
            }
        }
        code.close("}");
    }

    fn write_section(&self, index: usize, section: &SectionPlan, code: &mut Code) {
        let known = Known::of(self.sections, index);
        // Values are looked at first, and become raw numbers.
        let mut widths: Vec<(usize, u8)> = Vec::new();
        for item in &known.items {
            let field = &self.fields[item.slot];
            if let (What::Number(_), Action::Bits { width, .. }) = (&item.what, &section.steps[item.step].action)
                && !field.is_spare()
            {
                let name = member(&field.name);
                self.raw(field, *width, &format!("m.{name}"), &behind("n", &name), code);
                widths.push((item.slot, *width));
            }
        }
        let one = |(slot, piece): &(usize, crate::lower::Piece)| {
            let field = &self.fields[*slot];
            let width = widths.iter().find(|(of, _)| of == slot).map_or(8, |(_, width)| *width);
            let part = part(&behind("n", &member(&field.name)), piece, width, field.kind.is_signed());
            match (piece.low, part.contains(' ')) {
                (0, _) => part,
                (low, true) => format!("({part}) << {low}"),
                (low, false) => format!("{part} << {low}"),
            }
        };
        let sums = known.sums(|slot| !self.fields[slot].is_spare());
        for at in 0..known.bytes {
            let found = sums.iter().find(|byte| byte.byte == at);
            let parts: Vec<String> = found.iter().flat_map(|byte| &byte.parts).map(one).collect();
            let place = if at == 0 { "s".to_owned() } else { format!("s + {at}") };
            code.line(format!(
                "w.out[{place}] = {};",
                if parts.is_empty() { "0".to_owned() } else { parts.join(" | ") }
            ));
        }
        for item in &known.items {
            let (step, field) = (&section.steps[item.step], &self.fields[item.slot]);
            if field.is_spare() || matches!(item.what, What::Number(_) | What::Spare) {
                continue;
            }
            if let Place::Fixed(bit) = step.place {
                code.line(format!("w.bit = s * 8 + {bit};"));
            }
            self.write_action(field, &step.action, &format!("m.{}", member(&field.name)), code);
        }
        let moving = &section.steps[section.fixed_steps..];
        if section.fixed {
            code.line(format!("w.bit = (s + {}) * 8;", section.greatest_size));
            return;
        }
        code.line(format!("w.bit = s * 8 + {};", section.fixed_end));
        for step in moving {
            let field = &self.fields[step.slot];
            let value = format!("m.{}", member(&field.name));
            match (step.presence, field.is_spare()) {
                (Some(_), true) => continue,
                (Some(presence), false) => {
                    code.open(format!("if ({value} !== null) {{"));
                    let place = match presence / 8 {
                        0 => "s".to_owned(),
                        byte => format!("s + {byte}"),
                    };
                    code.line(format!("w.out[{place}] |= {:#04x};", 1u32 << (presence % 8)));
                }
                _ => {}
            }
            match step.place {
                Place::Fixed(bit) => code.line(format!("w.bit = s * 8 + {bit};")),
                Place::Behind { aligned: true } => code.line("alignWriter(w);"),
                Place::Behind { aligned: false } => {}
            }
            match (field.is_spare(), &step.action) {
                (true, action) => {
                    code.line(format!("w.bit += {};", action.bits().0));
                    code.line("reach(w);");
                }
                (false, action) => self.write_action(field, action, &value, code),
            }
            if step.presence.is_some() {
                code.close("}");
            }
        }
        code.line("alignWriter(w);");
    }

    /// Sets a variable to the raw number of a value, if it has a meaning; of a number wider than 32 bits two, to its halves.
    fn raw(&self, field: &Field, width: u8, value: &str, to: &str, code: &mut Code) {
        let what = text(&format!("{}.{}", self.name, field.name));
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
        match Held::of(width) {
            Held::Small => {}
            Held::Large => code.line(format!("var {to}Low = {to} >>> 0, {to}High = upper({to});")),
            Held::Wide => code.line(format!("var {to}Low = lowOf({to}), {to}High = highOf({to});")),
        }
    }

    fn write_action(&self, field: &Field, action: &Action, value: &str, code: &mut Code) {
        let (order, what) = (little(self.order), text(&format!("{}.{}", self.name, field.name)));
        match action {
            Action::Bits { width, order, .. } => {
                let (to, order) = (format!("n{}", self.fresh()), little(*order));
                self.raw(field, *width, value, &to, code);
                code.line(match &field.kind {
                    Kind::Float(64) => {
                        format!("w.bit += 64;\nreach(w);\nsetBits(w.out, w.bit - 64, {to}Low, {to}High, 64, {order});")
                    }
                    kind if is_wide(kind) => format!("putWide(w, {to}, {width}, {order});"),
                    _ => format!("put(w, {to}, {width}, {order});"),
                });
            }
            Action::Varint { width, signed } => {
                code.open(format!("if ({}) {{", is_invalid(field, *width, value)));
                code.line(format!("throw outOfRange({what}, {value});"));
                code.close("}");
                code.line(match (Held::of(*width), signed) {
                    (Held::Wide, true) => format!("putWideVarint(w, wideUnzigzag({value}));"),
                    (Held::Wide, false) => format!("putWideVarint(w, {value});"),
                    (_, true) => format!("putVarint(w, unzigzag({value}));"),
                    (_, false) => format!("putVarint(w, {value});"),
                });
            }
            Action::Skip { bits } => {
                code.line(format!("w.bit += {bits};"));
                code.line("reach(w);");
            }
            Action::Run { length, text } => {
                let some = format!("some{}", self.fresh());
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
            Action::Record(record) => {
                code.line("alignWriter(w);");
                code.line(format!("write{}(w, {value}, revision);", class(&record.record.name)));
            }
            Action::List(list) => self.write_list(list, value, &what, code),
            Action::Union(union) => self.write_union(union, value, &what, code),
        }
    }

    fn write_list(&self, list: &ListPlan, value: &str, what: &str, code: &mut Code) {
        let depth = self.fresh();
        let order = little(self.order);
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
        if let (ElementSizes::Once(bytes), Action::Record(record)) = (list.sizes, &list.element.action) {
            let size = |section: &SectionPlan| match section.revision {
                1 => section.greatest_size.to_string(),
                revision => format!("(revision >= {revision} ? {} : 0)", section.greatest_size),
            };
            let sizes: Vec<String> = record.sections.iter().map(size).collect();
            if list.length == Length::Rest {
                code.open(format!("if ({value}.length > 0) {{"));
            }
            code.line("alignWriter(w);");
            code.line(format!("put(w, {}, {}, {order});", sizes.join(" + "), bytes * 8));
            if list.length == Length::Rest {
                code.close("}");
            }
        }
        let (one, each) = (format!("one{depth}"), format!("each{depth}"));
        code.open(format!("for (var {each} = 0; {each} < {value}.length; {each}++) {{"));
        code.line(format!("var {one} = {value}[{each}];"));
        if list.element.aligned {
            code.line("alignWriter(w);");
        }
        match (&list.element.action, list.sizes) {
            (Action::Record(record), ElementSizes::Each(bytes)) => {
                let greatest = (1u64 << (bytes * 8)) - 1;
                code.lines(&format!(
                    "alignWriter(w);\nvar at{depth} = w.bit;\nw.bit += {bits};\nreach(w);\nwrite{}(w, {one}, revision);\n\
                     var size{depth} = (w.bit - at{depth}) / 8 - {bytes};\nif (size{depth} > {greatest}) {{\n  \
                     throw new LinkError(\"too_many\", {what} + \": \" + size{depth} + \" bytes are too many for an element\");\n}}\n\
                     setBits(w.out, at{depth}, size{depth}, 0, {bits}, {order});",
                    class(&record.record.name),
                    bits = bytes * 8,
                ));
            }
            (action, _) => self.write_action(&list.element.field, action, &one, code),
        }
        code.close("}");
    }

    fn write_union(&self, union: &UnionPlan, value: &str, what: &str, code: &mut Code) {
        let meaning = &union.union;
        code.line("alignWriter(w);");
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
                let key = format!("m.{}", member(&self.fields[slot].name));
                let number = |raw: u64| self.case_number(&meaning.selector, raw);
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
            self.write_action(&element.field, &element.action, &format!("{value}.value"), code);
        }
        code.close("} else {");
        code.open_more();
        code.line(format!("throw new LinkError(\"no_form\", {what} + \": there is no form \" + {value}.name);"));
        code.close("}");
    }
}

/// Whether a record lies in it, whose size depends on the sender's revision.
fn has_record(action: &Action) -> bool {
    match action {
        Action::Record(_) => true,
        Action::List(list) => has_record(&list.element.action),
        Action::Union(union) => union.forms.iter().any(|form| has_record(&form.action)),
        _ => false,
    }
}
