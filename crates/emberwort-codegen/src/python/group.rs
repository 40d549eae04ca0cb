//! The classes of messages and records: their members, and how they are read and written.

use std::cell::Cell;
use std::ops::Deref;

use emberwort_model::model::{ByteOrder, Field, Kind, Length, Selector, Value};
use emberwort_model::plan::{Action, Element, ElementSizes, ListPlan, Place, SectionPlan, Step, UnionPlan};

use super::names::{bytes, class, doc, member, text};
use crate::code::Code;
use crate::lower::{Group, Known, Piece, Valid, What, conversions};

/// The class of a message or a record.
pub struct Class<'a> {
    group: Group<'a>,
    /// How many names of variables were made.
    made: Cell<usize>,
}

impl<'a> Class<'a> {
    pub fn new(group: Group<'a>) -> Self {
        Self { group, made: Cell::new(0) }
    }

    /// A number that no other variable has in its name.
    fn fresh(&self) -> usize {
        self.made.replace(self.made.get() + 1)
    }
}

impl<'a> Deref for Class<'a> {
    type Target = Group<'a>;

    fn deref(&self) -> &Group<'a> {
        &self.group
    }
}

/// The word for an order.
fn word(order: ByteOrder) -> &'static str {
    match order {
        ByteOrder::Little => "little",
        ByteOrder::Big => "big",
    }
}

fn quoted(order: ByteOrder) -> String {
    format!("\"{}\"", word(order))
}

impl Class<'_> {
    /// The whole class.
    pub fn write(&self, code: &mut Code) {
        let class = class(self.name);
        code.line("");
        code.line("");
        code.line("@dataclass");
        code.open(format!("class {class}:"));
        let said = doc(self.doc);
        let said = if said.is_empty() { doc(self.name) } else { said };
        let lines = match self.is_line {
            true => {
                "\n\nOn the wire it is a line of text, which this module neither writes nor reads: encode() and decode() are of a body."
            }
            false => "",
        };
        code.lines(&format!("\"\"\"{said}{lines}\"\"\""));
        code.line("");
        for (_, field, action) in self.named() {
            for line in doc(&field.doc).lines().filter(|line| !line.is_empty()) {
                code.line(format!("#: {line}"));
            }
            let about = if matches!(action, Action::Run { .. }) { String::new() } else { crate::c::about(field) };
            if !about.is_empty() {
                code.line(format!("#: {about}"));
            }
            let ty = python_type(field, action);
            let ty = if field.optional { format!("Optional[{ty}]") } else { ty };
            code.line(format!("{}: {ty} = {}", member(&field.name), default(field, action)));
        }
        if let Some(id) = self.message {
            code.line("#: How many sections the sender writes; fields of the others hold their defaults.");
            code.line(format!("sections_held: int = {}", self.sections.len()));
            code.line("");
            code.line(format!("SECTIONS: ClassVar[int] = {}", self.sections.len()));
            if let Some(id) = id {
                code.line(format!("ID: ClassVar[int] = {id:#x}"));
            }
            code.lines(&format!(
                "\ndef encode(self) -> bytes:\n    \"\"\"The bytes of the body.\"\"\"\n    w = _Writer()\n    self._write(w)\n    return bytes(w.out)\n\
                 \n@classmethod\ndef decode(cls, body: bytes, key: Optional[int] = None) -> {class}:\n    \
                     \"\"\"Reads a body; `key` is what a request asked for, where it decides about the form of a value.\"\"\"\n    \
                     return cls._read(_Reader(bytes(body), key))"
            ));
        }
        self.physical(code);
        self.read(code);
        self.write_out(code);
        code.dedent();
    }

    /// Functions for physical values.
    fn physical(&self, code: &mut Code) {
        for (_, field, _) in self.named() {
            let (Kind::Number(form) | Kind::Varint(form)) = &field.kind else { continue };
            if form.scaling.is_identity() {
                continue;
            }
            let name = member(&field.name);
            let (physical, raw) = conversions(&form.scaling, "raw", "");
            // What is not divided is a whole number.
            let physical = if form.scaling.parts().2 == 1 { format!("float({physical})") } else { physical };
            let raw = format!("_nearest({raw})");
            let unit = if field.unit.is_empty() { String::new() } else { format!(", in {}", doc(&field.unit)) };
            let none = |text: &str| form.none.map_or_else(String::new, |none| text.replace("NONE", &none.to_string()));
            let maybe = if form.none.is_some() { "Optional[float]" } else { "float" };
            code.lines(&format!(
                "\n@staticmethod\ndef physical_{name}(raw: int) -> {maybe}:\n    \"\"\"The physical value of a code{unit}.\"\"\"\n{}    \
                     return {physical}\n\
                 \n@staticmethod\ndef raw_{name}(value: {maybe}) -> int:\n    \"\"\"The code nearest to a physical value{unit}.\"\"\"\n{}    \
                     raw = {raw}\n    if not {} <= raw <= {}:\n        raise _out_of_range({}, value)\n    return raw",
                none("    if raw == NONE:\n        return None\n"),
                none("    if value is None:\n        return NONE\n"),
                form.low,
                form.high,
                text(&format!("{}.{}", self.name, field.name)),
            ));
        }
    }

    // ---- reading ----

    fn read(&self, code: &mut Code) {
        let class = class(self.name);
        code.line("");
        code.line("@classmethod");
        code.open(format!("def _read(cls, r: _Reader) -> {class}:"));
        code.line("b, start = r.body, r.bit // 8");
        for (_, field, action) in self.named().filter(|(index, ..)| *index > 0) {
            code.line(format!("v_{}: Any = {}", member(&field.name), lacking(field, action)));
        }
        for (index, section) in self.sections.iter().enumerate() {
            if index > 0 {
                code.open("if start != r.end:");
            }
            code.line(format!("# Revision {}.", section.revision));
            self.read_section(index, section, code);
            if self.message.is_some() {
                code.line(format!("held = {}", index + 1));
            }
        }
        for _ in 1..self.sections.len() {
            code.dedent();
        }
        code.line("r.bit = start * 8");
        code.open("return cls(");
        for (_, field, _) in self.named() {
            code.line(format!("v_{},", member(&field.name)));
        }
        if self.message.is_some() {
            code.line("held,");
        }
        code.close(")");
        code.dedent();
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
            code.lines(&format!(
                "if r.end - start < {}:\n    raise Truncated(f\"the bytes end at {{r.end}}; at least {{start + {}}} are needed\")",
                section.least_size, section.least_size
            ));
        }
        // One large number is faster than many bytes.
        let is_one = self.is_one_number(section, &known);
        if is_one {
            let from = start.map_or("start".to_owned(), |start| start.to_string());
            code.line(format!("n = int.from_bytes(b[{from} : {from} + {}], {})", known.bytes, quoted(self.order)));
        }
        for item in &known.items {
            let (step, field) = (&section.steps[item.step], &self.fields[item.slot]);
            let name = format!("v_{}", member(&field.name));
            if field.is_spare() {
                continue;
            }
            match (&item.what, &step.action) {
                (What::Number(_), Action::Bits { width, signed, .. }) if is_one => {
                    let shift = self.shift(step, *width, known.bytes);
                    let moved = if shift > 0 { format!("n >> {shift}") } else { "n".to_owned() };
                    let is_top = shift + usize::from(*width) == known.bytes * 8;
                    let raw = if is_top { moved } else { format!("{moved} & {:#x}", (1u128 << width) - 1) };
                    code.line(format!("{name} = {}", value_of(&field.kind, &raw, *width, *signed)));
                }
                (What::Number(pieces), Action::Bits { width, signed, .. }) => {
                    let raw = sum(pieces, &at);
                    code.line(format!("{name} = {}", value_of(&field.kind, &raw, *width, *signed)));
                }
                (What::Bytes { byte, count, text: false }, _) => {
                    let from = start.map_or(format!("start + {byte}"), |start| (start + byte).to_string());
                    code.line(format!("{name} = b[{from} : {from} + {count}]"));
                }
                (What::Spare, _) => {}
                _ => {
                    if let Place::Fixed(bit) = step.place {
                        code.line(format!("r.bit = start * 8 + {bit}"));
                    }
                    self.read_action(field, &step.action, &name, code);
                }
            }
        }
        let moving = &section.steps[section.fixed_steps..];
        if section.fixed {
            if section.greatest_size > 0 {
                code.line(format!("start += {}", section.greatest_size));
            }
            return;
        }
        code.line(format!("r.bit = start * 8 + {}", section.fixed_end));
        for step in moving {
            let field = &self.fields[step.slot];
            let name = format!("v_{}", member(&field.name));
            if let Some(presence) = step.presence {
                let byte = at(presence as usize / 8);
                if !field.is_spare() {
                    code.line(format!("{name} = None"));
                }
                code.open(format!("if {byte} & {:#04x}:", 1u32 << (presence % 8)));
            }
            match step.place {
                Place::Fixed(bit) => code.line(format!("r.bit = start * 8 + {bit}")),
                Place::Behind { aligned: true } => code.line("r.align()"),
                Place::Behind { aligned: false } => {}
            }
            self.read_action(field, &step.action, if field.is_spare() { "_" } else { &name }, code);
            if step.presence.is_some() {
                code.dedent();
            }
        }
        code.line("start = (r.bit + 7) // 8");
        code.lines(
            "if start > r.end:\n    raise Truncated(f\"the bytes end at {r.end}; at least {start} are needed\")",
        );
    }

    /// Whether the numbers at known places of a section are parts of one large number: several of them, in the order of the link.
    fn is_one_number(&self, section: &SectionPlan, known: &Known) -> bool {
        let numbers = known.items.iter().filter_map(|item| match (&item.what, &section.steps[item.step].action) {
            (What::Number(_), Action::Bits { width, order, .. }) => Some((*width, *order)),
            _ => None,
        });
        let (mut count, mut bytes) = (0, 0);
        for (width, order) in numbers {
            if order != self.order && width > 8 {
                return false;
            }
            count += 1;
            bytes += usize::from(width).div_ceil(8);
        }
        let is_own = |step: &Step| !matches!(step.action, Action::Bits { order, .. } if order != self.order);
        count > 1 && bytes > 2 && known.bytes <= 32 && section.steps[..section.fixed_steps].iter().all(is_own)
    }

    /// How far a number is moved up in the large number that the known bytes of its section are.
    fn shift(&self, step: &Step, width: u8, bytes: usize) -> usize {
        let Place::Fixed(bit) = step.place else { return 0 };
        match self.order {
            ByteOrder::Little => bit as usize,
            ByteOrder::Big => bytes * 8 - bit as usize - usize::from(width),
        }
    }

    /// Reads what lies at the reader's place into a variable.
    fn read_action(&self, field: &Field, action: &Action, to: &str, code: &mut Code) {
        let order = quoted(self.order);
        match action {
            Action::Bits { width, signed, order } => {
                let raw = format!("r.get({width}, {})", quoted(*order));
                code.line(format!("{to} = {}", value_of(&field.kind, &raw, *width, *signed)));
            }
            Action::Varint { width, signed } => {
                code.line(format!("{to} = r.varint({width})"));
                if *signed {
                    code.line(format!("{to} = {to} >> 1 ^ -({to} & 1)"));
                }
            }
            Action::Skip { bits } => code.lines(&format!("r.need({bits})\nr.bit += {bits}")),
            Action::Run { length, text } => {
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
            Action::Record(record) => {
                code.line("r.align()");
                code.line(format!("{to} = {}._read(r)", class(&record.record.name)));
            }
            Action::List(list) => self.read_list(list, to, code),
            Action::Union(union) => self.read_union(union, to, code),
        }
    }

    fn read_list(&self, list: &ListPlan, to: &str, code: &mut Code) {
        let depth = self.fresh();
        let (items, one, size) = (format!("items{depth}"), format!("one{depth}"), format!("size{depth}"));
        let order = quoted(self.order);
        code.line(format!("{items}: List[Any] = []"));
        let is_rest = list.length == Length::Rest;
        match list.length {
            Length::Exact(count) => code.line(format!("count{depth} = {count}")),
            Length::UpTo(most) => code.line(format!("count{depth} = r.count({most}, {order})")),
            Length::Rest => {}
        }
        if let ElementSizes::Once(bytes) = list.sizes {
            if is_rest {
                code.open("if r.bit < r.end * 8:");
            }
            code.line("r.align()");
            code.line(format!("{size} = r.get({}, {order})", bytes * 8));
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
        if list.element.aligned {
            code.line("r.align()");
        }
        match (&list.element.action, list.sizes) {
            (Action::Record(record), ElementSizes::Once(_) | ElementSizes::Each(_)) => {
                if let ElementSizes::Each(bytes) = list.sizes {
                    code.line("r.align()");
                    code.line(format!("{size} = r.get({}, {order})", bytes * 8));
                }
                code.line("# What a later revision added to the element is stepped over.");
                code.line(format!("r.need({size} * 8)"));
                code.line(format!("after{depth}, end{depth} = r.bit // 8 + {size}, r.end"));
                code.line(format!("r.end = after{depth}"));
                code.line(format!("{one} = {}._read(r)", class(&record.record.name)));
                code.line(format!("r.end, r.bit = end{depth}, after{depth} * 8"));
            }
            (action, _) => self.read_action(&list.element.field, action, &one, code),
        }
        code.line(format!("{items}.append({one})"));
        if is_rest {
            code.lines(&format!(
                "if r.bit <= before{depth}:\n    raise Truncated(\"an element without a size would come forever\")"
            ));
        }
        code.dedent();
        code.line(format!("{to} = {items}"));
    }

    fn read_union(&self, union: &UnionPlan, to: &str, code: &mut Code) {
        let depth = self.fresh();
        let meaning = &union.union;
        code.line("r.align()");
        let (key, signed) = match meaning.selector {
            Selector::Field(slot) => {
                (format!("v_{}", member(&self.fields[slot].name)), self.fields[slot].kind.is_signed())
            }
            Selector::Request { .. } => ("r.key".to_owned(), false),
        };
        let one = format!("form{depth}");
        code.line(format!("{one}: Any = None"));
        let form = |element: &Element, code: &mut Code| {
            self.read_action(&element.field, &element.action, &one, code);
            code.line(format!("{to} = Form({}, {one})", text(&element.field.name)));
        };
        let mut word = "if";
        for (case, element) in meaning.cases.iter().zip(&union.forms) {
            code.open(format!("{word} {key} == {}:", case_number(case.raw, signed)));
            form(element, code);
            code.dedent();
            word = "elif";
        }
        if word == "elif" {
            code.open("else:");
        } else {
            code.open("if True:");
        }
        match union.forms.get(meaning.cases.len()) {
            Some(element) => form(element, code),
            None => code.line(format!("raise NoForm(f\"no form belongs to {{{key}}}\")")),
        }
        code.dedent();
    }

    // ---- writing ----

    fn write_out(&self, code: &mut Code) {
        code.line("");
        match self.message {
            Some(_) => {
                code.open("def _write(self, w: _Writer) -> None:");
                let revisions: Vec<String> = self.sections.iter().map(|one| one.revision.to_string()).collect();
                code.lines(&format!(
                    "if not 1 <= self.sections_held <= {}:\n    raise _out_of_range({}, self.sections_held)",
                    self.sections.len(),
                    text(&format!("{}.sections_held", self.name))
                ));
                code.line(format!(
                    "revision = REVISION if self.sections_held == {} else ({},)[self.sections_held - 1]",
                    self.sections.len(),
                    revisions.join(", ")
                ));
            }
            None => code.open("def _write(self, w: _Writer, revision: int) -> None:"),
        }
        for (index, section) in self.sections.iter().enumerate() {
            if index > 0 {
                code.open(match self.message {
                    Some(_) => format!("if self.sections_held > {index}:"),
                    None => format!("if revision >= {}:", section.revision),
                });
            }
            code.line(format!("# Revision {}.", section.revision));
            self.write_section(index, section, code);
            if index > 0 {
                code.dedent();
            }
        }
        code.dedent();
    }

    fn write_section(&self, index: usize, section: &SectionPlan, code: &mut Code) {
        let known = Known::of(self.sections, index);
        code.line("s = w.bit // 8");
        // Values are looked at first, and become raw numbers.
        let mut widths: Vec<(usize, u8)> = Vec::new();
        for item in &known.items {
            let field = &self.fields[item.slot];
            if let (What::Number(_), Action::Bits { width, .. }) = (&item.what, &section.steps[item.step].action)
                && !field.is_spare()
            {
                let name = member(&field.name);
                self.raw(field, *width, &format!("self.{name}"), &format!("n_{name}"), code);
                widths.push((item.slot, *width));
            }
        }
        let part = |(slot, piece): &(usize, Piece)| {
            let name = format!("n_{}", member(&self.fields[*slot].name));
            let width = widths.iter().find(|(of, _)| of == slot).map_or(8, |(_, width)| u32::from(*width));
            let moved = if piece.shift > 0 { format!("{name} >> {}", piece.shift) } else { name };
            let is_all = piece.shift + piece.bits == width;
            let masked = if is_all { moved } else { format!("{moved} & {:#04x}", piece.mask()) };
            match (piece.low, masked.contains(' ')) {
                (0, _) => masked,
                (low, true) => format!("({masked}) << {low}"),
                (low, false) => format!("{masked} << {low}"),
            }
        };
        let sums = known.sums(|slot| !self.fields[slot].is_spare());
        let byte = |at: usize| {
            let found = sums.iter().find(|byte| byte.byte == at);
            let parts: Vec<String> = found.iter().flat_map(|byte| &byte.parts).map(part).collect();
            if parts.is_empty() { "0".to_owned() } else { parts.join(" | ") }
        };
        let whole = |item: &crate::lower::Item| {
            let width = widths.iter().find(|(slot, _)| *slot == item.slot).map(|(_, width)| *width)?;
            let shift = self.shift(&section.steps[item.step], width, known.bytes);
            let name = format!("n_{}", member(&self.fields[item.slot].name));
            Some(if shift > 0 { format!("{name} << {shift}") } else { name })
        };
        if self.is_one_number(section, &known) && !widths.is_empty() {
            let parts: Vec<String> = known.items.iter().filter_map(whole).collect();
            code.line(format!(
                "w.out[s : s + {0}] = ({1}).to_bytes({0}, {2})",
                known.bytes,
                parts.join(" | "),
                quoted(self.order)
            ));
        } else if known.bytes > 0 {
            let all: Vec<String> = (0..known.bytes).map(byte).collect();
            match all.iter().all(|byte| byte == "0") {
                true => code.line(format!("w.out[s : s + {0}] = bytes({0})", known.bytes)),
                false => {
                    code.open(format!("w.out[s : s + {}] = bytes((", known.bytes));
                    all.iter().for_each(|byte| code.line(format!("{byte},")));
                    code.close("))");
                }
            }
        }
        for item in &known.items {
            let (step, field) = (&section.steps[item.step], &self.fields[item.slot]);
            if field.is_spare() || matches!(item.what, What::Number(_) | What::Spare) {
                continue;
            }
            if let Place::Fixed(bit) = step.place {
                code.line(format!("w.bit = s * 8 + {bit}"));
            }
            self.write_action(field, &step.action, &format!("self.{}", member(&field.name)), code);
        }
        let moving = &section.steps[section.fixed_steps..];
        if section.fixed {
            code.line(format!("w.bit = (s + {}) * 8", section.greatest_size));
            return;
        }
        code.line(format!("w.bit = s * 8 + {}", section.fixed_end));
        for step in moving {
            let field = &self.fields[step.slot];
            let value = format!("self.{}", member(&field.name));
            match (step.presence, field.is_spare()) {
                (Some(_), true) => continue,
                (Some(presence), false) => {
                    code.open(format!("if {value} is not None:"));
                    let place = match presence / 8 {
                        0 => "s".to_owned(),
                        byte => format!("s + {byte}"),
                    };
                    code.line(format!("w.out[{place}] |= {:#04x}", 1u32 << (presence % 8)));
                }
                _ => {}
            }
            match step.place {
                Place::Fixed(bit) => code.line(format!("w.bit = s * 8 + {bit}")),
                Place::Behind { aligned: true } => code.line("w.align()"),
                Place::Behind { aligned: false } => {}
            }
            match (field.is_spare(), &step.action) {
                (true, action) => {
                    let bits = action.bits().0;
                    code.lines(&format!("w.bit += {bits}\nw.reach()"));
                }
                (false, action) => self.write_action(field, action, &value, code),
            }
            if step.presence.is_some() {
                code.dedent();
            }
        }
        code.line("w.bit = (w.bit + 7) // 8 * 8");
    }

    /// Sets a variable to the raw number of a value, if it has a meaning.
    fn raw(&self, field: &Field, width: u8, value: &str, to: &str, code: &mut Code) {
        let what = text(&format!("{}.{}", self.name, field.name));
        match &field.kind {
            Kind::Float(bits) => {
                code.line(format!("{to} = _float_raw({value}, {bits}, {what})"));
                return;
            }
            Kind::Bool => {
                code.line(format!("{to} = 1 if {value} else 0"));
                return;
            }
            _ => {}
        }
        code.line(format!("{to} = {value}"));
        code.lines(&format!("if not ({}):\n    raise _out_of_range({what}, {to})", valid(field, width, to)));
        if field.kind.is_signed() {
            code.line(format!("{to} &= {:#x}", (1u128 << width) - 1));
        }
    }

    fn write_action(&self, field: &Field, action: &Action, value: &str, code: &mut Code) {
        let (order, what) = (quoted(self.order), text(&format!("{}.{}", self.name, field.name)));
        match action {
            Action::Bits { width, order, .. } => {
                let to = format!("n{}", self.fresh());
                self.raw(field, *width, value, &to, code);
                code.line(format!("w.put({to}, {width}, {})", quoted(*order)));
            }
            Action::Varint { width, signed } => {
                code.lines(&format!(
                    "if not ({}):\n    raise _out_of_range({what}, {value})",
                    valid(field, *width, value)
                ));
                code.line(match signed {
                    true => format!("w.varint({value} << 1 if {value} >= 0 else (-{value} << 1) - 1)"),
                    false => format!("w.varint(int({value}))"),
                });
            }
            Action::Skip { bits } => code.lines(&format!("w.bit += {bits}\nw.reach()")),
            Action::Run { length, text } => {
                let some = format!("some{}", self.fresh());
                code.line(match text {
                    true => format!("{some} = {value}.encode(\"utf-8\", \"surrogateescape\")"),
                    false => format!("{some} = bytes({value})"),
                });
                match (length, text) {
                    (Length::Exact(count), true) => code.lines(&format!(
                        "if len({some}) > {count}:\n    raise TooMany(f\"{{len({some})}} bytes are more than {count}\")\n\
                         w.bytes({some}.ljust({count}, b\"\\0\"), {order})"
                    )),
                    (Length::Exact(count), false) => code.lines(&format!(
                        "if len({some}) != {count}:\n    raise _out_of_range({what}, {value})\nw.bytes({some}, {order})"
                    )),
                    (Length::UpTo(most), _) => {
                        code.line(format!("w.count(len({some}), {most}, {order}, {what})"));
                        code.line(format!("w.bytes({some}, {order})"));
                    }
                    (Length::Rest, _) => code.line(format!("w.bytes({some}, {order})")),
                }
            }
            Action::Record(_) => code.lines(&format!("w.align()\n{value}._write(w, revision)")),
            Action::List(list) => self.write_list(list, value, &what, code),
            Action::Union(union) => self.write_union(union, value, &what, code),
        }
    }

    fn write_list(&self, list: &ListPlan, value: &str, what: &str, code: &mut Code) {
        let depth = self.fresh();
        let order = quoted(self.order);
        match list.length {
            Length::Exact(count) => {
                code.lines(&format!("if len({value}) != {count}:\n    raise _out_of_range({what}, {value})"))
            }
            Length::UpTo(most) => code.line(format!("w.count(len({value}), {most}, {order}, {what})")),
            Length::Rest => {}
        }
        if let (ElementSizes::Once(bytes), Action::Record(record)) = (list.sizes, &list.element.action) {
            let sizes: Vec<String> = record
                .sections
                .iter()
                .map(|section| format!("({} if revision >= {} else 0)", section.greatest_size, section.revision))
                .collect();
            if list.length == Length::Rest {
                code.open(format!("if {value}:"));
            }
            code.line("w.align()");
            code.line(format!("w.put({}, {}, {order})", sizes.join(" + "), bytes * 8));
            if list.length == Length::Rest {
                code.dedent();
            }
        }
        let one = format!("one{depth}");
        code.open(format!("for {one} in {value}:"));
        if list.element.aligned {
            code.line("w.align()");
        }
        match (&list.element.action, list.sizes) {
            (Action::Record(_), ElementSizes::Each(bytes)) => {
                code.line("w.align()");
                code.line(format!("at{depth} = w.bit // 8"));
                code.line(format!("w.bit += {}", bytes * 8));
                code.line("w.reach()");
                code.line(format!("{one}._write(w, revision)"));
                code.line(format!("size{depth} = w.bit // 8 - at{depth} - {bytes}"));
                code.lines(&format!(
                    "if size{depth} >= {}:\n    raise TooMany(f\"{{size{depth}}} bytes are too many for an element\")",
                    1u64 << (bytes * 8)
                ));
                code.line(format!("w.out[at{depth} : at{depth} + {bytes}] = size{depth}.to_bytes({bytes}, {order})"));
            }
            (action, _) => self.write_action(&list.element.field, action, &one, code),
        }
        code.dedent();
    }

    fn write_union(&self, union: &UnionPlan, value: &str, what: &str, code: &mut Code) {
        let meaning = &union.union;
        code.line("w.align()");
        let mut word = "if";
        for (index, element) in union.forms.iter().enumerate() {
            code.open(format!("{word} {value}.name == {}:", text(&element.field.name)));
            if let Selector::Field(slot) = meaning.selector {
                let decider = &self.fields[slot];
                let (key, signed) = (format!("self.{}", member(&decider.name)), decider.kind.is_signed());
                let number = |raw: u64| case_number(raw, signed);
                let wrong = match meaning.cases.get(index) {
                    Some(case) => format!("{key} != {}", number(case.raw)),
                    None => {
                        let others: Vec<String> = meaning.cases.iter().map(|case| number(case.raw)).collect();
                        format!("{key} in ({}{})", others.join(", "), if others.len() == 1 { "," } else { "" })
                    }
                };
                code.lines(&format!("if {wrong}:\n    raise NoForm(f\"{{{key}}} selects another form\")"));
            }
            self.write_action(&element.field, &element.action, &format!("{value}.value"), code);
            code.dedent();
            word = "elif";
        }
        if word == "elif" {
            code.open("else:");
            code.line(format!("raise NoForm({what} + f\": there is no form {{{value}.name!r}}\")"));
            code.dedent();
        }
    }
}

fn case_number(raw: u64, signed: bool) -> String {
    if signed { (raw as i64).to_string() } else { raw.to_string() }
}

/// The sum of a number's parts.
fn sum(pieces: &[Piece], at: &dyn Fn(usize) -> String) -> String {
    let part = |piece: &Piece| {
        let mut part = at(piece.byte);
        if piece.low > 0 {
            part = format!("{part} >> {}", piece.low);
        }
        if piece.low + piece.bits < 8 {
            part = format!("{part} & {:#04x}", piece.mask());
        }
        match (piece.shift, part.contains("& ") || part.contains(">> ")) {
            (0, _) => part,
            (shift, true) => format!("({part}) << {shift}"),
            (shift, false) => format!("{part} << {shift}"),
        }
    };
    pieces.iter().map(part).collect::<Vec<_>>().join(" | ")
}

/// The value of a raw number.
fn value_of(kind: &Kind, raw: &str, width: u8, signed: bool) -> String {
    match kind {
        Kind::Bool => format!("({raw}) != 0"),
        Kind::Float(bits) => format!("_float({raw}, {bits})"),
        _ if signed => format!("_signed({raw}, {width})"),
        _ => raw.to_owned(),
    }
}

/// Whether a value means something, as an expression.
fn valid(field: &Field, width: u8, value: &str) -> String {
    match Valid::of(&field.kind, width) {
        Valid::Range { low, high, none } => match none {
            Some(none) => format!("{low} <= {value} <= {high} or {value} == {none}"),
            None => format!("{low} <= {value} <= {high}"),
        },
        Valid::Codes(codes) => {
            let codes: Vec<String> = codes.iter().map(u64::to_string).collect();
            format!("{value} in {{{}}}", if codes.is_empty() { "-1".to_owned() } else { codes.join(", ") })
        }
        Valid::Flags(known) => format!("{value} >= 0 and {value} & ~{known:#x} == 0"),
        Valid::Finite => format!("math.isfinite({value})"),
    }
}

/// The type of a field's values.
fn python_type(field: &Field, action: &Action) -> String {
    match action {
        Action::Bits { .. } | Action::Varint { .. } => match field.kind {
            Kind::Bool => "bool".into(),
            Kind::Float(_) => "float".into(),
            _ => "int".into(),
        },
        Action::Run { text: true, .. } => "str".into(),
        Action::Run { .. } => "bytes".into(),
        Action::Record(record) => class(&record.record.name),
        Action::List(list) => format!("List[{}]", python_type(&list.element.field, &list.element.action)),
        Action::Union(_) => "Form".into(),
        Action::Skip { .. } => "None".into(),
    }
}

/// The value of a field that nobody gave.
fn default(field: &Field, action: &Action) -> String {
    if field.optional {
        return "None".into();
    }
    match action {
        Action::Record(record) => format!("field(default_factory=lambda: {}())", class(&record.record.name)),
        Action::List(_) => format!("field(default_factory=lambda: {})", lacking(field, action)),
        _ => lacking(field, action),
    }
}

/// The value of a field that the sender's revision lacks.
fn lacking(field: &Field, action: &Action) -> String {
    if field.optional {
        return "None".into();
    }
    match (&field.default, action) {
        (Some(Value::Raw(raw)), _) => match &field.kind {
            Kind::Bool => if *raw == 0 { "False" } else { "True" }.into(),
            Kind::Float(bits) => format!("_float({raw:#x}, {bits})"),
            kind if kind.is_signed() => (*raw as i64).to_string(),
            _ => raw.to_string(),
        },
        (Some(Value::Bytes(some)), Action::Run { text: true, .. }) => format!("_text({})", bytes(some)),
        (Some(Value::Bytes(some)), _) => bytes(some),
        _ => empty(field, action),
    }
}

fn empty(field: &Field, action: &Action) -> String {
    match action {
        Action::Bits { .. } | Action::Varint { .. } => match field.kind {
            Kind::Bool => "False".into(),
            Kind::Float(_) => "0.0".into(),
            // What nobody measured is no reading.
            _ => field.kind.none().unwrap_or(0).to_string(),
        },
        Action::Run { text: true, .. } => "\"\"".into(),
        Action::Run { length: Length::Exact(count), .. } => format!("bytes({count})"),
        Action::Run { .. } => "b\"\"".into(),
        Action::Record(record) => format!("{}()", class(&record.record.name)),
        Action::List(list) => match list.length {
            Length::Exact(count) => {
                format!("[{} for _ in range({count})]", empty(&list.element.field, &list.element.action))
            }
            _ => "[]".into(),
        },
        Action::Union(_) => "Form(\"\", None)".into(),
        Action::Skip { .. } => "None".into(),
    }
}
