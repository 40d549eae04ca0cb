//! Messages and records: their structs, and how their bodies are read and written.

use std::cell::Cell;
use std::ops::Deref;

use emberwort_model::model::{ByteOrder, Field, Kind, Length, Selector};
use emberwort_model::plan::{Action, Element, ElementSizes, ListPlan, Place, SectionPlan, UnionPlan};

use super::names::{class, doc, member, text};
use super::values::{Owner, code as code_of, number_type, part, raw_of, signed, sum, unsigned, value_of};
use crate::code::Code;
use crate::lower::{Group, Known, Piece, What, conversions};

/// A message or a record.
pub struct Printed<'a> {
    group: Group<'a>,
    owner: Owner<'a>,
    /// How many names of variables were made.
    made: Cell<usize>,
}

impl<'a> Deref for Printed<'a> {
    type Target = Group<'a>;

    fn deref(&self) -> &Group<'a> {
        &self.group
    }
}

/// Whether the first bits come lowest, as an argument.
fn little(order: ByteOrder) -> &'static str {
    match order {
        ByteOrder::Little => "true",
        ByteOrder::Big => "false",
    }
}

impl<'a> Printed<'a> {
    pub fn new(group: Group<'a>, rest: usize) -> Self {
        Self { owner: Owner { name: group.name, rest }, group, made: Cell::new(0) }
    }

    /// A number that no other variable has in its name.
    fn fresh(&self) -> usize {
        self.made.replace(self.made.get() + 1)
    }

    fn what(&self, field: &Field) -> String {
        format!("{}.{}", self.name, field.name)
    }

    /// All that there is of it.
    pub fn write(&self, code: &mut Code) {
        for (_, field, action) in self.named() {
            if let Action::Union(union) = action {
                self.union(field, union, code);
            }
        }
        self.structure(code);
        let class = class(self.name);
        code.line("");
        code.open(format!("impl {class} {{"));
        self.constants(code);
        for (_, field, _) in self.named() {
            self.physical(field, code);
        }
        self.read(code);
        self.write_out(code);
        code.close("}");
    }

    fn union(&self, field: &Field, union: &UnionPlan, code: &mut Code) {
        let name = self.owner.union_type(field);
        code.line("");
        code.lines(&doc(&format!("The forms of {} of {}.", field.name, self.name)));
        code.line("#[derive(Clone, Copy, Debug, PartialEq)]");
        code.open(format!("pub enum {name} {{"));
        for form in &union.forms {
            let said = doc(&form.field.doc);
            code.lines(if said.is_empty() { doc(&form.field.name) } else { said }.trim_end());
            code.line(format!("{}({}),", class(&form.field.name), self.owner.type_of(&form.field, &form.action)));
        }
        code.close("}");
        let Some(first) = union.forms.first() else { return };
        code.line("");
        code.open(format!("impl Default for {name} {{"));
        code.open("fn default() -> Self {");
        code.line(format!("Self::{}({})", class(&first.field.name), self.owner.lacking(&first.field, &first.action)));
        code.close("}");
        code.close("}");
        blank(&name, code);
    }

    fn structure(&self, code: &mut Code) {
        let class = class(self.name);
        code.line("");
        let said = doc(self.doc);
        code.lines(if said.is_empty() { doc(self.name) } else { said }.trim_end());
        if self.is_line {
            code.lines("///\n/// On the wire it is a line of text, which this module neither writes nor reads: these functions are of a body.");
        }
        code.line("#[derive(Clone, Copy, Debug, PartialEq)]");
        code.open(format!("pub struct {class} {{"));
        for (_, field, action) in self.named() {
            let about = if matches!(action, Action::Run { .. }) { String::new() } else { crate::c::about(field) };
            let said = [field.doc.as_str(), about.as_str()].join("\n");
            let said = said.trim();
            code.lines(doc(if said.is_empty() { &field.name } else { said }).trim_end());
            let ty = self.owner.type_of(field, action);
            let ty = if field.optional { format!("Option<{ty}>") } else { ty };
            code.line(format!("pub {}: {ty},", member(&field.name)));
        }
        if self.message.is_some() {
            code.line("/// How many sections the sender writes; fields of the others hold their defaults.");
            code.line("pub sections_held: u8,");
        }
        code.close("}");
        code.line("");
        code.open(format!("impl Default for {class} {{"));
        code.open("fn default() -> Self {");
        code.open("Self {");
        for (_, field, action) in self.named() {
            code.line(format!("{}: {},", member(&field.name), self.owner.lacking(field, action)));
        }
        if self.message.is_some() {
            code.line(format!("sections_held: {},", self.sections.len()));
        }
        code.close("}");
        code.close("}");
        code.close("}");
        if self.message.is_none() {
            blank(&class, code);
        }
    }

    fn constants(&self, code: &mut Code) {
        if self.message.is_some() {
            code.line("/// How many sections there are.");
            code.line(format!("pub const SECTIONS: u8 = {};", self.sections.len()));
        }
        if let Some(Some(id)) = self.message {
            code.line("/// What selects the message in frames.");
            code.line(format!("pub const ID: {} = {id:#x};", if id > 0xffff_ffff { "u64" } else { "u32" }));
        }
        if let Some(greatest) = self.greatest {
            code.line("/// Most bytes.");
            code.line(format!("pub const GREATEST: usize = {greatest};"));
        }
    }

    /// Functions for physical values.
    fn physical(&self, field: &Field, code: &mut Code) {
        let (Kind::Number(form) | Kind::Varint(form)) = &field.kind else { return };
        if form.scaling.is_identity() {
            return;
        }
        let name = member(&field.name);
        let ty = number_type(&field.kind);
        let (physical, raw) = conversions(&form.scaling, "raw", ".0");
        let unit = if field.unit.is_empty() { String::new() } else { format!(", in {}", field.unit) };
        let from =
            if form.bits > 32 { "let raw = raw as f64;".to_owned() } else { "let raw = f64::from(raw);".to_owned() };
        let what = text(&self.what(field));
        code.line("");
        code.lines(doc(&format!("The physical value of a code{unit}.")).trim_end());
        let (result, value) = if form.none.is_some() { ("Option<f64>", "Option<f64>") } else { ("f64", "f64") };
        code.open(format!("pub fn physical_{name}(raw: {ty}) -> {result} {{"));
        if let Some(none) = form.none {
            code.open(format!("if raw == {none} {{"));
            code.line("return None;");
            code.close("}");
        }
        code.line(from);
        code.line(if form.none.is_some() { format!("Some({physical})") } else { physical });
        code.close("}");
        code.line("");
        code.lines(doc(&format!("The code nearest to a physical value{unit}.")).trim_end());
        code.lines("///\n/// # Errors\n/// If there is none.");
        code.open(format!("pub fn raw_{name}(value: {value}) -> Result<{ty}, Error> {{"));
        if let Some(none) = form.none {
            code.line(format!("let Some(value) = value else {{ return Ok({none}) }};"));
        }
        let nearest = if form.high > i128::from(i64::MAX) { "nearest_unsigned" } else { "nearest" };
        code.line(format!("let raw = {nearest}({raw});"));
        code.open(format!("if value.is_nan() || !({}..={}).contains(&raw) {{", form.low, form.high));
        code.line(format!("return Err(Error::OutOfRange({what}));"));
        code.close("}");
        code.line(format!("Ok(raw as {ty})"));
        code.close("}");
    }

    // ---- reading ----

    fn read(&self, code: &mut Code) {
        let asks = self.named().any(|(_, _, action)| asks(action));
        if self.message.is_some() {
            code.line("");
            code.lines("/// Reads a body.\n///\n/// # Errors\n/// If it cannot be read.");
            code.open("pub fn decode(body: &[u8]) -> Result<Self, Error> {");
            code.line("Self::read(&mut Reader::new(body, None))");
            code.close("}");
            if asks {
                code.line("");
                code.lines("/// Reads the body of an answer; `key` is what the request asked for.\n///\n/// # Errors\n/// If it cannot be read.");
                code.open("pub fn decode_answer(body: &[u8], key: u64) -> Result<Self, Error> {");
                code.line("Self::read(&mut Reader::new(body, Some(key)))");
                code.close("}");
            }
        }
        code.line("");
        code.open("fn read(r: &mut Reader<'_>) -> Result<Self, Error> {");
        let moves = self.sections.len() > 1
            || self
                .sections
                .iter()
                .any(|section| section.greatest_size > 0 || !section.fixed || section.least_size > 0);
        let word = if moves { "let mut start" } else { "let start" };
        code.line(format!("{word} = r.bit / 8;"));
        let is_set = self.named().next().is_some() || self.sections.len() > 1;
        code.line(format!("let {} = Self::default();", if is_set { "mut m" } else { "m" }));
        for (index, section) in self.sections.iter().enumerate() {
            if index > 0 {
                if self.message.is_some() {
                    code.open("if start == r.end {");
                    code.line(format!("m.sections_held = {index};"));
                    code.line("r.bit = start * 8;");
                    code.line("return Ok(m);");
                    code.close("}");
                } else {
                    code.open("if start == r.end {");
                    code.line("r.bit = start * 8;");
                    code.line("return Ok(m);");
                    code.close("}");
                }
            }
            code.line(format!("// Revision {}.", section.revision));
            self.read_section(index, section, code);
        }
        code.line("r.bit = start * 8;");
        code.line("Ok(m)");
        code.close("}");
    }

    fn read_section(&self, index: usize, section: &SectionPlan, code: &mut Code) {
        let known = Known::of(self.sections, index);
        let at = |byte: usize| format!("b[{byte}]");
        if section.least_size > known.bytes {
            code.open(format!("if r.end.saturating_sub(start) < {} {{", section.least_size));
            code.line("return Err(Error::Truncated);");
            code.close("}");
        }
        let has_presence = section.steps[section.fixed_steps..].iter().any(|step| step.presence.is_some());
        let reads_bytes = has_presence
            || known.items.iter().any(|item| {
                let is_read = matches!(item.what, What::Number(_) | What::Bytes { text: false, .. });
                is_read && !self.fields[item.slot].is_spare()
            });
        if known.bytes > 0 {
            let name = if reads_bytes { "b" } else { "_" };
            code.line(format!("let {name}: &[u8; {}] = r.known(start)?;", known.bytes));
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
                    let all: Vec<String> = (*byte..byte + count).map(at).collect();
                    code.line(format!("{to} = [{}];", all.join(", ")));
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
            let one = format!("one{}", self.fresh());
            if let Some(presence) = step.presence {
                let byte = at(presence as usize / 8);
                code.open(format!("if {byte} & {:#04x} != 0 {{", 1u32 << (presence % 8)));
            }
            match step.place {
                Place::Fixed(bit) => code.line(format!("r.bit = start * 8 + {bit};")),
                Place::Behind { aligned: true } => code.line("r.align();"),
                Place::Behind { aligned: false } => {}
            }
            let is_optional = step.presence.is_some() && !field.is_spare();
            match is_optional {
                true => {
                    code.line(format!("let {one};"));
                    self.read_action(field, &step.action, &one, code);
                    code.line(format!("{to} = Some({one});"));
                }
                false => self.read_action(field, &step.action, &to, code),
            }
            if step.presence.is_some() {
                code.close("}");
            }
        }
        code.line("start = r.bit.div_ceil(8);");
        code.open("if start > r.end {");
        code.line("return Err(Error::Truncated);");
        code.close("}");
    }

    /// Reads what lies at the reader's place into a variable.
    fn read_action(&self, field: &Field, action: &Action, to: &str, code: &mut Code) {
        let order = little(self.order);
        match action {
            Action::Bits { width, signed, order } => {
                let raw = cast(&format!("r.bits({width}, {})?", little(*order)), unsigned(*width));
                code.line(format!("{to} = {};", value_of(&field.kind, &raw, *width, *signed)));
            }
            Action::Varint { width, signed: is_signed } => {
                let value = match is_signed {
                    true => cast_signed(&format!("zigzag(r.varint({width})?)"), signed(*width)),
                    false => cast(&format!("r.varint({width})?"), unsigned(*width)),
                };
                code.line(format!("{to} = {value};"));
            }
            Action::Skip { bits } => {
                code.line(format!("r.need({bits})?;"));
                code.line(format!("r.bit += {bits};"));
            }
            Action::Run { length, text } => {
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
                    (true, Length::Exact(count)) => {
                        let some_name = format!("some{}", self.fresh());
                        code.line(format!("let {some_name}: Bytes<{count}> = {some};"));
                        code.line(format!("{to} = Text::from_bytes(unpadded({some_name}.as_slice()))?;"));
                    }
                    (true, _) => code.line(format!("{to} = Text({some});")),
                    (false, Length::Exact(count)) => {
                        let some_name = format!("some{}", self.fresh());
                        code.line(format!("let {some_name}: Bytes<{count}> = {some};"));
                        code.line(format!("{to} = {some_name}.bytes;"));
                    }
                    (false, _) => code.line(format!("{to} = {some};")),
                }
            }
            Action::Record(record) => {
                code.line("r.align();");
                code.line(format!("{to} = {}::read(r)?;", class(&record.record.name)));
            }
            Action::List(list) => self.read_list(field, list, to, code),
            Action::Union(union) => self.read_union(field, union, to, code),
        }
    }

    fn read_list(&self, field: &Field, list: &ListPlan, to: &str, code: &mut Code) {
        let depth = self.fresh();
        let order = little(self.order);
        let (items, one, size) = (format!("items{depth}"), format!("one{depth}"), format!("size{depth}"));
        let is_rest = list.length == Length::Rest;
        let one_type = self.owner.type_of(&list.element.field, &list.element.action);
        match list.length {
            Length::Exact(count) => {
                let default = self.owner.lacking(&list.element.field, &list.element.action);
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
        if let ElementSizes::Once(bytes) = list.sizes {
            let read = format!("r.bits({}, {order})? as usize", bytes * 8);
            if is_rest {
                code.line(format!("let mut {size} = 0;"));
                code.open("if r.bit < r.end * 8 {");
                code.line("r.align();");
                code.line(format!("{size} = {read};"));
                code.close("}");
            } else {
                code.line("r.align();");
                code.line(format!("let {size} = {read};"));
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
        if list.element.aligned {
            code.line("r.align();");
        }
        code.line(format!("let {one}: {one_type};"));
        match (&list.element.action, list.sizes) {
            (Action::Record(record), ElementSizes::Once(_) | ElementSizes::Each(_)) => {
                if let ElementSizes::Each(bytes) = list.sizes {
                    code.line("r.align();");
                    code.line(format!("let {size} = r.bits({}, {order})? as usize;", bytes * 8));
                }
                code.line("// What a later revision added to the element is stepped over.");
                code.line(format!("r.need({size} * 8)?;"));
                code.line(format!("let (after{depth}, end{depth}) = (r.bit / 8 + {size}, r.end);"));
                code.line(format!("r.end = after{depth};"));
                code.line(format!("{one} = {}::read(r)?;", class(&record.record.name)));
                code.line(format!("(r.end, r.bit) = (end{depth}, after{depth} * 8);"));
            }
            (action, _) => self.read_action(&list.element.field, action, &one, code),
        }
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

    fn read_union(&self, field: &Field, union: &UnionPlan, to: &str, code: &mut Code) {
        let meaning = &union.union;
        let depth = self.fresh();
        let ty = self.owner.union_type(field);
        code.line("r.align();");
        let form = |element: &Element, code: &mut Code| {
            let one = format!("form{depth}");
            code.line(format!("let {one};"));
            self.read_action(&element.field, &element.action, &one, code);
            code.line(format!("{to} = {ty}::{}({one});", class(&element.field.name)));
        };
        let key = match meaning.selector {
            Selector::Field(slot) => format!("m.{}", member(&self.fields[slot].name)),
            Selector::Request { .. } => "r.key".to_owned(),
        };
        code.open(format!("match {key} {{"));
        for (case, element) in meaning.cases.iter().zip(&union.forms) {
            let number = self.case_number(&meaning.selector, case.raw);
            code.open(match meaning.selector {
                Selector::Field(_) => format!("{number} => {{"),
                Selector::Request { .. } => format!("Some({number}) => {{"),
            });
            form(element, code);
            code.close("}");
        }
        match union.forms.get(meaning.cases.len()) {
            Some(element) => {
                code.open("_ => {");
                form(element, code);
                code.close("}");
            }
            None => code.line(format!("_ => return Err(Error::NoForm({})),", text(&self.what(field)))),
        }
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

    fn write_out(&self, code: &mut Code) {
        let uses_revision = self.named().any(|(_, _, action)| has_record(action));
        let w = if self.sections.iter().all(|section| section.steps.is_empty()) { "_" } else { "w" };
        match self.message {
            Some(_) => {
                code.line("");
                code.lines("/// Writes the body; how many bytes it has.\n///\n/// # Errors\n/// If a value may not be sent, or the buffer is too short.");
                code.open("pub fn encode(&self, out: &mut [u8]) -> Result<usize, Error> {");
                code.line("let mut w = Writer::new(out);");
                code.line("self.put(&mut w)?;");
                code.line("Ok(w.bit / 8)");
                code.close("}");
                code.line("");
                code.open(format!("fn put(&self, {w}: &mut Writer<'_>) -> Result<(), Error> {{"));
                let most = self.sections.len();
                if uses_revision {
                    code.open("let revision = match self.sections_held {");
                    for (index, section) in self.sections.iter().enumerate().take(most - 1) {
                        code.line(format!("{} => {},", index + 1, section.revision));
                    }
                    code.line(format!("{most} => REVISION,"));
                    code.line(format!(
                        "_ => return Err(Error::OutOfRange({})),",
                        text(&format!("{}.sections_held", self.name))
                    ));
                    code.close("};");
                } else {
                    code.open(if most == 1 {
                        "if self.sections_held != 1 {".to_owned()
                    } else {
                        format!("if !(1..={most}).contains(&self.sections_held) {{")
                    });
                    code.line(format!(
                        "return Err(Error::OutOfRange({}));",
                        text(&format!("{}.sections_held", self.name))
                    ));
                    code.close("}");
                }
            }
            None => {
                code.line("");
                let name = if uses_revision || self.sections.len() > 1 { "revision" } else { "_revision" };
                code.open(format!("fn put(&self, {w}: &mut Writer<'_>, {name}: u32) -> Result<(), Error> {{"));
            }
        }
        for (index, section) in self.sections.iter().enumerate() {
            if index > 0 {
                code.open(match self.message {
                    Some(_) => format!("if self.sections_held > {index} {{"),
                    None => format!("if revision >= {} {{", section.revision),
                });
            }
            code.line(format!("// Revision {}.", section.revision));
            self.write_section(index, section, code);
            if index > 0 {
                code.close("}");
            }
        }
        code.line("Ok(())");
        code.close("}");
    }

    fn write_section(&self, index: usize, section: &SectionPlan, code: &mut Code) {
        let known = Known::of(self.sections, index);
        let moves = !section.fixed
            || section.greatest_size > 0
            || known.items.iter().any(|item| !self.fields[item.slot].is_spare());
        if known.bytes > 0 || moves {
            code.line("let s = w.bit / 8;");
        }
        // Values are looked at first, and become raw numbers.
        let mut widths: Vec<(usize, u8)> = Vec::new();
        for item in &known.items {
            let field = &self.fields[item.slot];
            if let (What::Number(_), Action::Bits { width, .. }) = (&item.what, &section.steps[item.step].action)
                && !field.is_spare()
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
            let part = part(&format!("n_{}", member(&self.fields[*slot].name)), piece, width);
            match (piece.low, part.contains(' ')) {
                (0, _) => part,
                (low, true) => format!("({part}) << {low}"),
                (low, false) => format!("{part} << {low}"),
            }
        };
        let sums = known.sums(|slot| !self.fields[slot].is_spare());
        if known.bytes > 0 {
            let byte = |at: usize| {
                let found = sums.iter().find(|byte| byte.byte == at);
                let parts: Vec<String> = found.iter().flat_map(|byte| &byte.parts).map(one).collect();
                if parts.is_empty() { "0".to_owned() } else { parts.join(" | ") }
            };
            let all: Vec<String> = (0..known.bytes).map(byte).collect();
            let is_blank = all.iter().all(|byte| byte == "0");
            match is_blank {
                true => code.line(format!("*w.known(s)? = [0; {}];", known.bytes)),
                false => {
                    code.open("*w.known(s)? = [");
                    all.iter().for_each(|byte| code.line(format!("{byte},")));
                    code.close("];");
                }
            }
        }
        for item in &known.items {
            let (step, field) = (&section.steps[item.step], &self.fields[item.slot]);
            if field.is_spare() || matches!(item.what, What::Number(_) | What::Spare) {
                continue;
            }
            if let Place::Fixed(bit) = step.place {
                code.line(format!("w.bit = s * 8 + {bit};"));
            }
            self.write_action(field, &step.action, &format!("self.{}", member(&field.name)), code);
        }
        let moving = &section.steps[section.fixed_steps..];
        if section.fixed {
            if moves {
                code.line(format!("w.bit = (s + {}) * 8;", section.greatest_size));
            }
            return;
        }
        code.line(format!("w.bit = s * 8 + {};", section.fixed_end));
        for step in moving {
            let field = &self.fields[step.slot];
            let mut value = format!("self.{}", member(&field.name));
            match (step.presence, field.is_spare()) {
                (Some(_), true) => continue,
                (Some(presence), false) => {
                    let one = format!("one{}", self.fresh());
                    code.open(format!("if let Some({one}) = {value} {{"));
                    value = one;
                    let place = match presence / 8 {
                        0 => "s".to_owned(),
                        byte => format!("s + {byte}"),
                    };
                    code.line(format!("w.mark({place}, {:#04x})?;", 1u32 << (presence % 8)));
                }
                _ => {}
            }
            match step.place {
                Place::Fixed(bit) => code.line(format!("w.bit = s * 8 + {bit};")),
                Place::Behind { aligned: true } => code.line("w.align()?;"),
                Place::Behind { aligned: false } => {}
            }
            match (field.is_spare(), &step.action) {
                (true, action) => {
                    code.line(format!("w.bit += {};", action.bits().0));
                    code.line("w.reach()?;");
                }
                (false, action) => self.write_action(field, action, &value, code),
            }
            if step.presence.is_some() {
                code.close("}");
            }
        }
        code.line("w.align()?;");
    }

    fn write_action(&self, field: &Field, action: &Action, value: &str, code: &mut Code) {
        let order = little(self.order);
        match action {
            Action::Bits { width, order, .. } => {
                let (refusals, raw) = raw_of(field, *width, value, &self.what(field));
                refusals.iter().for_each(|lines| code.lines(lines));
                code.line(format!("w.put({}, {width}, {})?;", widen(&raw, unsigned(*width)), little(*order)));
            }
            Action::Varint { width, signed: is_signed } => {
                let (refusals, _) = raw_of(field, *width, value, &self.what(field));
                refusals.iter().for_each(|lines| code.lines(lines));
                let number = match is_signed {
                    true if signed(*width) == "i64" => format!("unzigzag({value})"),
                    true => format!("unzigzag(i64::from({value}))"),
                    false => widen(value, unsigned(*width)),
                };
                code.line(format!("w.varint({number})?;"));
            }
            Action::Skip { bits } => {
                code.line(format!("w.bit += {bits};"));
                code.line("w.reach()?;");
            }
            Action::Run { length, text } => {
                let slice = match (text, length) {
                    (true, _) => format!("{value}.as_bytes()"),
                    (false, Length::Exact(_)) => format!("&{value}"),
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
                        code.line(format!("w.count({slice}.len(), {most}, {order})?;"));
                        code.line(format!("w.bytes({slice}, {order})?;"));
                    }
                    _ => code.line(format!("w.bytes({slice}, {order})?;")),
                }
            }
            Action::Record(_) => {
                code.line("w.align()?;");
                code.line(format!("{value}.put(w, revision)?;"));
            }
            Action::List(list) => self.write_list(list, value, code),
            Action::Union(union) => self.write_union(field, union, value, code),
        }
    }

    fn write_list(&self, list: &ListPlan, value: &str, code: &mut Code) {
        let depth = self.fresh();
        let order = little(self.order);
        let slice = match list.length {
            Length::Exact(_) => format!("{value}.iter()"),
            _ => format!("{value}.as_slice()"),
        };
        if let Length::UpTo(most) = list.length {
            code.line(format!("w.count({slice}.len(), {most}, {order})?;"));
        }
        if let (ElementSizes::Once(bytes), Action::Record(record)) = (list.sizes, &list.element.action) {
            let size = |section: &SectionPlan| match section.revision {
                1 => section.greatest_size.to_string(),
                revision => format!("if revision >= {revision} {{ {} }} else {{ 0 }}", section.greatest_size),
            };
            let sizes: Vec<String> = record.sections.iter().map(size).collect();
            if list.length == Length::Rest {
                code.open(format!("if !{slice}.is_empty() {{"));
            }
            code.line("w.align()?;");
            code.line(format!("let mut size{depth} = 0;"));
            sizes.iter().for_each(|size| code.line(format!("size{depth} += {size};")));
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
        if list.element.aligned {
            code.line("w.align()?;");
        }
        match (&list.element.action, list.sizes) {
            (Action::Record(_), ElementSizes::Each(bytes)) => {
                let bits = bytes * 8;
                code.lines(&format!(
                    "w.align()?;\nlet at{depth} = w.bit;\nw.bit += {bits};\nw.reach()?;\n{one}.put(w, revision)?;\n\
                     let size{depth} = (w.bit - at{depth}) as u64 / 8 - {bytes};\nif size{depth} > {} {{\n    return Err(Error::TooMany);\n}}\n\
                     w.set(at{depth}, size{depth}, {bits}, {order})?;",
                    (1u64 << bits) - 1
                ));
            }
            (Action::Run { length: Length::Exact(_), text: false }, _) => {
                code.line(format!("w.bytes({one}, {order})?;"))
            }
            (action, _) => self.write_action(&list.element.field, action, &one, code),
        }
        code.close("}");
    }

    fn write_union(&self, field: &Field, union: &UnionPlan, value: &str, code: &mut Code) {
        let meaning = &union.union;
        let depth = self.fresh();
        let ty = self.owner.union_type(field);
        code.line("w.align()?;");
        if union.forms.is_empty() {
            return;
        }
        code.open(format!("match {value} {{"));
        for (index, element) in union.forms.iter().enumerate() {
            let one = format!("form{depth}");
            code.open(format!("{ty}::{}({one}) => {{", class(&element.field.name)));
            if let Selector::Field(slot) = meaning.selector {
                let key = format!("self.{}", member(&self.fields[slot].name));
                let number = |raw: u64| self.case_number(&meaning.selector, raw);
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
            self.write_action(&element.field, &element.action, &one, code);
            code.close("}");
        }
        code.close("}");
    }
}

/// That a type can stand in lists.
pub fn blank(name: &str, code: &mut Code) {
    code.line("");
    code.open(format!("impl Blank for {name} {{"));
    code.open("fn blank() -> Self {");
    code.line("Self::default()");
    code.close("}");
    code.close("}");
}

/// A number of 64 bits as one of this type.
fn cast(value: &str, ty: &str) -> String {
    if ty == "u64" { value.to_owned() } else { format!("{value} as {ty}") }
}

fn cast_signed(value: &str, ty: &str) -> String {
    if ty == "i64" { value.to_owned() } else { format!("{value} as {ty}") }
}

/// A number of this type as one of 64 bits.
fn widen(value: &str, ty: &str) -> String {
    if ty == "u64" { value.to_owned() } else { format!("u64::from({value})") }
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

/// Whether a request decides about a value in it.
fn asks(action: &Action) -> bool {
    match action {
        Action::Union(union) => {
            matches!(union.union.selector, Selector::Request { .. })
                || union.forms.iter().any(|form| asks(&form.action))
        }
        Action::List(list) => asks(&list.element.action),
        Action::Record(record) => {
            record.sections.iter().flat_map(|section| &section.steps).any(|step| asks(&step.action))
        }
        _ => false,
    }
}
