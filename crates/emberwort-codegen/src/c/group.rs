//! Groups of fields, of messages and of records: their struct members, and the code that walks over, reads and writes them.
//!
//! The code works on `body` with the variables `start` (byte where the section begins), `bit` (place of the field at hand) and
//! `end` (byte behind the last one that may be read).

use emberwort_model::model::{ByteOrder, Field, Kind, Length, Selector, Value};
use emberwort_model::plan::{
    Action, ChoicePlan, Element, ElementSizes, ListPlan, MessagePlan, Place, SectionPlan, Step, count_bytes,
};

use super::{about, comment, constant, doc_comment, member, numbers};
use crate::code::Code;
use crate::names::{screaming, snake};

/// What all groups of a link need to know.
#[derive(Clone, Copy)]
pub struct Group<'a> {
    /// The link's name in C.
    pub link: &'a str,
    /// The same in capitals.
    pub upper: &'a str,
    /// The order of bytes and bits.
    pub order: ByteOrder,
    /// Names of members and functions of this group's fields start with it: `link_message`.
    pub stem: &'a str,
    pub fields: &'a [Field],
    pub sections: &'a [SectionPlan],
    /// Most elements or bytes of a field that reaches to the body's end.
    pub rest_bytes: usize,
}

/// What is done with the values that are found.
#[derive(Clone, Copy, PartialEq)]
pub enum Take {
    /// Nothing: the bytes are only checked.
    Nothing,
    /// They are kept in the struct.
    Keep,
}

/// Where a value is kept: what stands in front of a member's name, and the name.
#[derive(Clone, Copy)]
struct Target<'t> {
    prefix: &'t str,
    name: &'t str,
}

impl Target<'_> {
    fn value(&self) -> String {
        format!("{}{}", self.prefix, self.name)
    }

    fn length(&self) -> String {
        format!("{}{}_length", self.prefix, self.name)
    }

    fn count(&self) -> String {
        format!("{}{}_count", self.prefix, self.name)
    }

    fn form(&self) -> String {
        format!("{}{}_form", self.prefix, self.name)
    }
}

/// Lines, one level deeper.
fn indented(lines: &[String]) -> impl Iterator<Item = String> {
    lines.join("\n").lines().map(|line| format!("    {line}")).collect::<Vec<_>>().into_iter()
}

/// Bits up to a byte boundary.
const ALIGN: &str = "bit = (bit + 7u) / 8u * 8u;";

impl<'a> Group<'a> {
    pub fn of_message(link: &'a str, upper: &'a str, stem: &'a str, plan: &'a MessagePlan) -> Self {
        Self {
            link,
            upper,
            order: plan.byte_order,
            stem,
            fields: &plan.message.fields,
            sections: &plan.sections,
            rest_bytes: plan.rest_bytes,
        }
    }

    /// Steps of named fields, with the index of their section.
    pub fn named_steps(&self) -> impl Iterator<Item = (usize, &'a Step)> {
        let Self { sections, fields, .. } = *self;
        sections
            .iter()
            .enumerate()
            .flat_map(|(index, section)| section.steps.iter().map(move |step| (index, step)))
            .filter(move |(_, step)| !fields[step.slot].is_spare())
    }

    /// The call that reads so many bits.
    pub fn get(&self, width: u8, order: ByteOrder, bytes: &str, place: &str) -> String {
        format!("{}_get{}({bytes}, {place}, {width}u)", self.link, suffix(width, order, self.order))
    }

    /// Reads the raw number of a field as its C type.
    pub fn get_raw(&self, kind: &Kind, width: u8, order: ByteOrder, bytes: &str, place: &str) -> String {
        let get = self.get(width, order, bytes, place);
        match kind {
            Kind::Bool => format!("{get} != 0u"),
            kind if kind.is_signed() && (width == 32 || width == 64) => format!("({}){get}", numbers::raw_type(kind)),
            kind if kind.is_signed() => {
                // Two's complement: flip the sign bit and subtract it again.
                let (ty, c) = if width > 32 { ("int64_t", 64) } else { ("int32_t", 32) };
                let sign = 1u64 << (width - 1);
                let raw = numbers::raw_type(kind);
                format!("({raw})(({ty})({get} ^ UINT{c}_C({sign})) - {} - 1)", constant(i128::from(sign) - 1, c, true))
            }
            kind => format!("({}){get}", numbers::raw_type(kind)),
        }
    }

    /// The statement that writes so many bits.
    pub fn put(&self, width: u8, order: ByteOrder, bytes: &str, place: &str, value: &str) -> String {
        let ty = if width > 32 { "uint64_t" } else { "uint32_t" };
        format!("{}_put{}({bytes}, {place}, {width}u, ({ty}){value});", self.link, suffix(width, order, self.order))
    }

    fn lacks(&self, bits: &str, result: &str) -> String {
        format!("if ({}_lacks(end, bit, {bits})) {{\n    return {}_{result};\n}}", self.link, self.upper)
    }

    // ---- members ----

    /// The members of the group's struct.
    pub fn members(&self, header: &mut Code) {
        for (_, step) in self.named_steps() {
            let field = &self.fields[step.slot];
            let name = member(&field.name);
            doc_comment(header, &field.doc);
            if step.presence.is_some() {
                header.line(format!("bool has_{name};"));
            }
            for line in self.declare(&name, field, &step.action) {
                header.line(line);
            }
        }
    }

    fn declare(&self, name: &str, field: &Field, action: &Action) -> Vec<String> {
        let note = about(field);
        let note = if note.is_empty() { String::new() } else { format!(" /* {note} */") };
        match action {
            Action::Bits { .. } | Action::Compact { .. } => {
                vec![format!("{} {name};{note}", numbers::raw_type(&field.kind))]
            }
            Action::Run { length, text } => {
                let ty = if *text { "char" } else { "uint8_t" };
                match length {
                    Length::Exact(count) if !*text => vec![format!("{ty} {name}[{count}];{note}")],
                    Length::Exact(most) | Length::UpTo(most) => vec![
                        format!("uint{}_t {name}_length; /* bytes */", count_bytes(*most) * 8),
                        format!("{ty} {name}[{most}];{note}"),
                    ],
                    Length::Rest => vec![
                        format!("size_t {name}_length; /* bytes */"),
                        format!("const {ty} *{name};{note} /* points into the body, or to what is to be sent */"),
                    ],
                }
            }
            Action::Record(record) => vec![format!("{}_{}_t {name};{note}", self.link, snake(&record.record.name))],
            Action::List(list) => {
                let element = self.element(list);
                let mut lines = Vec::new();
                let size = match list.length {
                    Length::Exact(count) => count as usize,
                    Length::UpTo(most) => {
                        lines.push(format!("uint{}_t {name}_count;", count_bytes(most) * 8));
                        most as usize
                    }
                    Length::Rest => {
                        lines.push(format!("size_t {name}_count;"));
                        self.capacity(list)
                    }
                };
                match element {
                    Some(ty) => lines.push(format!("{ty} {name}[{size}];{note}")),
                    None => {
                        lines.push("struct {".into());
                        let inner = self.declare("value", &list.element.field, &list.element.action);
                        lines.extend(indented(&inner));
                        lines.push(format!("}} {name}[{size}];{note}"));
                    }
                }
                lines
            }
            Action::Choice(choice) => {
                let mut lines = vec![format!("uint16_t {name}_form; /* which of the forms below */"), "union {".into()];
                for form in &choice.forms {
                    let mut inner = vec!["struct {".to_owned()];
                    inner.extend(indented(&self.declare("value", &form.field, &form.action)));
                    inner.push(format!("}} {};", member(&form.field.name)));
                    lines.extend(indented(&inner));
                }
                lines.push(format!("}} {name};{note}"));
                lines
            }
            Action::Skip { .. } => Vec::new(),
        }
    }

    /// The C type of a list's elements, if they need no struct of their own.
    fn element(&self, list: &ListPlan) -> Option<String> {
        match &list.element.action {
            Action::Bits { .. } | Action::Compact { .. } => Some(numbers::raw_type(&list.element.field.kind).into()),
            Action::Record(record) => Some(format!("{}_{}_t", self.link, snake(&record.record.name))),
            _ => None,
        }
    }

    /// Most elements of a list that reaches to the body's end.
    fn capacity(&self, list: &ListPlan) -> usize {
        let (least, _) = list.element.action.bits();
        (self.rest_bytes * 8 / (least.max(8) as usize)).max(1)
    }

    // ---- functions of single fields ----

    /// Constants, validity and conversions of the fields.
    pub fn field_functions(&self, header: &mut Code, source: &mut Code) {
        for (_, step) in self.named_steps() {
            let field = &self.fields[step.slot];
            let stem = format!("{}_{}", self.stem, member(&field.name));
            self.functions_of(&stem, field, &step.action, header, source);
        }
        header.line("");
    }

    fn functions_of(&self, stem: &str, field: &Field, action: &Action, header: &mut Code, source: &mut Code) {
        match action {
            Action::List(list) => {
                self.functions_of(stem, &list.element.field, &list.element.action, header, source);
            }
            Action::Choice(choice) => {
                header.line(format!("/* The forms of `{}`. */", field.name));
                for (index, form) in choice.forms.iter().enumerate() {
                    let name = screaming(&form.field.name);
                    header.line(format!("#define {}_FORM_{name} {index}u", screaming(stem)));
                }
                for form in &choice.forms {
                    let stem = format!("{stem}_{}", member(&form.field.name));
                    self.functions_of(&stem, &form.field, &form.action, header, source);
                }
            }
            Action::Bits { .. } | Action::Compact { .. } => {
                let Some(bits) = field.kind.raw_bits() else { return };
                if let Some(none) = field.kind.none() {
                    let value = constant(none, bits, field.kind.is_signed());
                    header.line(format!("#define {}_NONE {value} /* no reading */", screaming(stem)));
                }
                if let Kind::Number(form) | Kind::Compact(form) = &field.kind {
                    numbers::write(self.link, stem, &field.kind, form, header, source);
                }
                let raw = numbers::raw_type(&field.kind);
                let name = if field.name.is_empty() { "an element".into() } else { format!("`{}`", field.name) };
                header.line(format!("/* Whether a raw code of {name} means something. */"));
                header.line(format!("bool {stem}_valid({raw} raw);"));
                source.lines(&format!("bool {stem}_valid({raw} raw)\n{{"));
                numbers::validity(field, source);
                source.lines("}\n");
                source.line("");
            }
            Action::Run { .. } | Action::Record(_) | Action::Skip { .. } => {}
        }
    }

    /// The statements that set all defaults, in a struct that is zero.
    pub fn defaults(&self, target: &str) -> Vec<String> {
        let mut lines = Vec::new();
        for (_, step) in self.named_steps() {
            let field = &self.fields[step.slot];
            let name = member(&field.name);
            match (&field.default, &step.action) {
                (Some(Value::Raw(raw)), _) if *raw != 0 => {
                    lines.push(format!("{target}{name} = {};", default_raw(field)));
                }
                (Some(Value::Bytes(bytes)), action) if !bytes.is_empty() => {
                    let text: String = bytes.iter().map(|b| format!("\\{b:03o}")).collect();
                    let counted = !matches!(action, Action::Run { length: Length::Exact(_), text: false });
                    match action {
                        Action::Run { length: Length::Rest, text: is_text } => {
                            let ty = if *is_text { "char" } else { "uint8_t" };
                            lines.push(format!("{target}{name} = (const {ty} *)\"{text}\";"));
                        }
                        _ => lines.push(format!("memcpy({target}{name}, \"{text}\", {}u);", bytes.len())),
                    }
                    if counted {
                        lines.push(format!("{target}{name}_length = {}u;", bytes.len()));
                    }
                }
                (None, Action::Record(record)) if step.presence.is_none() => {
                    lines.push(format!("{}_{}_init(&{target}{name});", self.link, snake(&record.record.name)));
                }
                _ => {}
            }
        }
        lines
    }

    /// The slots of fields that decide about forms.
    pub fn deciders(&self) -> Vec<usize> {
        let choices = self.sections.iter().flat_map(|section| &section.steps).filter_map(|step| match &step.action {
            Action::Choice(choice) => match choice.choice.selector {
                Selector::Field(slot) => Some(slot),
                Selector::Request { .. } => None,
            },
            _ => None,
        });
        let mut slots: Vec<usize> = choices.collect();
        slots.sort_unstable();
        slots.dedup();
        slots
    }

    // ---- reading ----

    /// What reads the field of a step that lies at `bit`, and goes behind it. `target` stands in front of members' names.
    pub fn read_step(&self, step: &Step, take: Take, target: &str) -> Vec<String> {
        let field = &self.fields[step.slot];
        let name = member(&field.name);
        let mut lines = Vec::new();
        if take == Take::Keep && step.presence.is_some() && !field.is_spare() {
            lines.push(format!("{target}has_{name} = true;"));
        }
        let decides = self.deciders().contains(&step.slot).then_some(step.slot);
        lines.extend(self.read(field, &step.action, take, Target { prefix: target, name: &name }, 0, decides));
        lines
    }

    fn read(
        &self,
        field: &Field,
        action: &Action,
        take: Take,
        target: Target<'_>,
        depth: usize,
        decides: Option<usize>,
    ) -> Vec<String> {
        let Self { link, upper, .. } = self;
        let mut lines = Vec::new();
        match action {
            Action::Bits { width, order, .. } => {
                lines.push(self.lacks(&format!("{width}u"), "TRUNCATED"));
                let raw = self.get_raw(&field.kind, *width, *order, "body", "bit");
                if let Some(slot) = decides {
                    lines.push(format!("key_{slot} = (uint64_t)({raw});"));
                }
                if take == Take::Keep {
                    lines.push(format!("{} = {raw};", target.value()));
                }
                lines.push(format!("bit += {width}u;"));
            }
            Action::Compact { width, signed } => {
                lines.push("{".into());
                lines.push("    uint64_t compact;".into());
                lines.push(format!(
                    "    {link}_result_t result = {link}_get_compact(body, end, &bit, {width}u, &compact);"
                ));
                lines.push(format!("    if (result != {upper}_OK) {{\n        return result;\n    }}"));
                if *signed {
                    lines.push("    compact = (compact >> 1) ^ (0u - (compact & 1u));".into());
                }
                if let Some(slot) = decides {
                    lines.push(format!("    key_{slot} = compact;"));
                }
                if take == Take::Keep {
                    let cast = numbers::raw_type(&field.kind);
                    let value = if *signed { format!("({cast})(int64_t)compact") } else { format!("({cast})compact") };
                    lines.push(format!("    {} = {value};", target.value()));
                }
                lines.push("}".into());
            }
            Action::Skip { bits } => {
                lines.push(self.lacks(&format!("{bits}u"), "TRUNCATED"));
                lines.push(format!("bit += {bits}u;"));
            }
            Action::Run { length, text } => self.read_run(*length, *text, take, target, depth, &mut lines),
            Action::Record(record) => {
                let name = snake(&record.record.name);
                let value = if take == Take::Keep { format!("&{}", target.value()) } else { "NULL".into() };
                lines.push("{".into());
                lines.push("    size_t inner = (bit + 7u) / 8u;".into());
                lines.push(format!("    {link}_result_t result = {link}_{name}_read(body, end, &inner, {value});"));
                lines.push(format!("    if (result != {upper}_OK) {{\n        return result;\n    }}"));
                lines.push("    bit = inner * 8u;\n}".into());
            }
            Action::List(list) => self.read_list(list, take, target, depth, &mut lines),
            Action::Choice(choice) => self.read_choice(choice, take, target, depth, &mut lines),
        }
        lines
    }

    fn read_run(
        &self,
        length: Length,
        text: bool,
        take: Take,
        target: Target<'_>,
        depth: usize,
        lines: &mut Vec<String>,
    ) {
        let (link, upper) = (self.link, self.upper);
        match length {
            Length::Exact(count) => {
                lines.push(self.lacks(&format!("{}u", u64::from(count) * 8), "TRUNCATED"));
                if take == Take::Keep {
                    let (value, ty) = (target.value(), if text { "char" } else { "uint8_t" });
                    lines.push("{".into());
                    lines.push(format!("    size_t b{depth};"));
                    lines.push(format!("    for (b{depth} = 0; b{depth} < {count}u; b{depth}++) {{"));
                    lines.push(format!(
                        "        {value}[b{depth}] = ({ty}){link}_get(body, bit + b{depth} * 8u, 8u);\n    }}"
                    ));
                    if text {
                        let ty = format!("uint{}_t", count_bytes(count) * 8);
                        lines.push(format!(
                            "    while (b{depth} > 0u && {value}[b{depth} - 1u] == 0) {{\n        b{depth}--;\n    }}"
                        ));
                        lines.push(format!("    {} = ({ty})b{depth};", target.length()));
                    }
                    lines.push("}".into());
                }
                lines.push(format!("bit += {}u;", u64::from(count) * 8));
            }
            Length::UpTo(max) => {
                let bits = count_bytes(max) * 8;
                lines.push(self.lacks(&format!("{bits}u"), "TRUNCATED"));
                lines.push("{".into());
                lines.push(format!("    size_t count = (size_t){};", self.get(bits, self.order, "body", "bit")));
                let beyond = if bits == 8 { 255 } else { 65_535 };
                if max < beyond {
                    lines.push(format!("    if (count > {max}u) {{\n        return {upper}_TOO_MANY;\n    }}"));
                }
                lines.push(format!("    bit += {bits}u;"));
                lines.extend(indented(&[self.lacks("count * 8u", "TRUNCATED")]));
                if take == Take::Keep {
                    lines.push(format!("    {} = (uint{bits}_t)count;", target.length()));
                    lines.push(format!("    memcpy({}, body + bit / 8u, count);", target.value()));
                }
                lines.push("    bit += count * 8u;\n}".into());
            }
            Length::Rest => {
                lines.push(self.lacks("0u", "TRUNCATED"));
                if take == Take::Keep {
                    let ty = if text { "char" } else { "uint8_t" };
                    lines.push(format!("{} = (const {ty} *)(body + bit / 8u);", target.value()));
                    lines.push(format!("{} = end - bit / 8u;", target.length()));
                }
                lines.push("bit = end * 8u;".into());
            }
        }
    }

    fn read_list(&self, list: &ListPlan, take: Take, target: Target<'_>, depth: usize, lines: &mut Vec<String>) {
        let (link, upper) = (self.link, self.upper);
        let (count, n, each) = (format!("count{depth}"), format!("n{depth}"), format!("each{depth}"));
        lines.push("{".into());
        let mut inner: Vec<String> = vec![format!("size_t {n};")];
        let rest = list.length == Length::Rest;
        if !rest {
            inner.push(format!("size_t {count};"));
        }
        if list.sizes != ElementSizes::None {
            inner.push(format!("size_t {each} = 0;"));
        }
        match list.length {
            Length::Exact(exact) => inner.push(format!("{count} = {exact}u;")),
            Length::UpTo(max) => {
                let bits = count_bytes(max) * 8;
                inner.push(self.lacks(&format!("{bits}u"), "TRUNCATED"));
                inner.push(format!("{count} = (size_t){};", self.get(bits, self.order, "body", "bit")));
                if max < if bits == 8 { 255 } else { 65_535 } {
                    inner.push(format!("if ({count} > {max}u) {{\n    return {upper}_TOO_MANY;\n}}"));
                }
                inner.push(format!("bit += {bits}u;"));
                if take == Take::Keep {
                    inner.push(format!("{} = (uint{bits}_t){count};", target.count()));
                }
            }
            Length::Rest => {}
        }
        let read_size = |bytes: u8| {
            vec![
                ALIGN.to_owned(),
                self.lacks(&format!("{}u", bytes * 8), "TRUNCATED"),
                format!("{each} = (size_t){};", self.get(bytes * 8, self.order, "body", "bit")),
                format!("bit += {}u;", bytes * 8),
            ]
        };
        if let ElementSizes::Once(bytes) = list.sizes {
            if rest {
                inner.push("if (bit < end * 8u) {".into());
                inner.extend(indented(&read_size(bytes)));
                inner.push("}".into());
            } else {
                inner.extend(read_size(bytes));
            }
        }
        let mut one: Vec<String> = Vec::new();
        if rest {
            inner.push(format!("for ({n} = 0; bit + 8u <= end * 8u; {n}++) {{"));
            one.push(format!("if ({n} >= {}u) {{\n    return {upper}_TOO_MANY;\n}}", self.capacity(list)));
        } else {
            inner.push(format!("for ({n} = 0; {n} < {count}; {n}++) {{"));
        }
        if list.element.aligned {
            one.push(ALIGN.into());
        }
        let wrapped = self.element(list).is_none();
        let prefix = format!("{}[{n}].", target.value());
        let plain = format!("{}[{n}]", target.name);
        let element = if wrapped {
            Target { prefix: &prefix, name: "value" }
        } else {
            Target { prefix: target.prefix, name: &plain }
        };
        match (&list.element.action, list.sizes) {
            (Action::Record(record), ElementSizes::Once(_) | ElementSizes::Each(_)) => {
                if let ElementSizes::Each(bytes) = list.sizes {
                    one.extend(read_size(bytes));
                }
                // What a later revision added to the element is stepped over.
                one.push(self.lacks(&format!("{each} * 8u"), "TRUNCATED"));
                let value = if take == Take::Keep { format!("&{}", element.value()) } else { "NULL".into() };
                let name = snake(&record.record.name);
                one.push("{".into());
                one.push("    size_t inner = bit / 8u;".into());
                one.push(format!(
                    "    {link}_result_t result = {link}_{name}_read(body, inner + {each}, &inner, {value});"
                ));
                one.push(format!("    if (result != {upper}_OK) {{\n        return result;\n    }}\n}}"));
                one.push(format!("bit += {each} * 8u;"));
            }
            (action, _) => one.extend(self.read(&list.element.field, action, take, element, depth + 1, None)),
        }
        inner.extend(indented(&one));
        inner.push("}".into());
        if rest && take == Take::Keep {
            inner.push(format!("{} = {n};", target.count()));
        }
        lines.extend(indented(&inner));
        lines.push("}".into());
    }

    fn read_choice(&self, choice: &ChoicePlan, take: Take, target: Target<'_>, depth: usize, lines: &mut Vec<String>) {
        let meaning = &choice.choice;
        lines.push(ALIGN.into());
        let key = match meaning.selector {
            Selector::Field(slot) => format!("key_{slot}"),
            Selector::Request { .. } => "key".into(),
        };
        let form = |index: usize, form: &Element| {
            let mut inner = Vec::new();
            if take == Take::Keep {
                inner.push(format!("{} = {index}u;", target.form()));
            }
            let prefix = format!("{}.{}.", target.value(), member(&form.field.name));
            let element = Target { prefix: &prefix, name: "value" };
            inner.extend(self.read(&form.field, &form.action, take, element, depth + 1, None));
            inner.push("break;".into());
            inner
        };
        let by_request = matches!(meaning.selector, Selector::Request { .. });
        // Without the request, only the bytes can be kept.
        lines.push(format!("switch ({}) {{", if by_request { "key_known ? key : UINT64_MAX" } else { &key }));
        for (index, (case, element)) in meaning.cases.iter().zip(&choice.forms).enumerate() {
            lines.push(format!("case UINT64_C({}):", case.raw));
            lines.extend(indented(&form(index, element)));
        }
        lines.push("default:".into());
        match choice.forms.get(meaning.cases.len()) {
            Some(element) => lines.extend(indented(&form(meaning.cases.len(), element))),
            None => lines.push(format!("    return {}_NO_FORM;", self.upper)),
        }
        lines.push("}".into());
    }

    // ---- writing ----

    /// What writes the field of a step at `bit`, and goes behind it.
    pub fn write_step(&self, step: &Step, target: &str) -> Vec<String> {
        let field = &self.fields[step.slot];
        let name = member(&field.name);
        let stem = format!("{}_{name}", self.stem);
        self.write(&stem, &step.action, Target { prefix: target, name: &name }, 0)
    }

    fn room(&self, bits: &str) -> String {
        format!("if ((bit + {bits} + 7u) / 8u > room) {{\n    return {}_NO_ROOM;\n}}", self.upper)
    }

    fn write(&self, stem: &str, action: &Action, target: Target<'_>, depth: usize) -> Vec<String> {
        let (link, upper) = (self.link, self.upper);
        let value = target.value();
        let mut lines = Vec::new();
        match action {
            Action::Bits { width, order, .. } => {
                lines.push(format!("if (!{stem}_valid({value})) {{\n    return {upper}_OUT_OF_RANGE;\n}}"));
                lines.push(self.room(&format!("{width}u")));
                lines.push(self.put(*width, *order, "body", "bit", &value));
                lines.push(format!("bit += {width}u;"));
            }
            Action::Compact { signed, .. } => {
                lines.push(format!("if (!{stem}_valid({value})) {{\n    return {upper}_OUT_OF_RANGE;\n}}"));
                let raw = if *signed {
                    format!("((uint64_t)(int64_t){value} << 1) ^ ({value} < 0 ? UINT64_MAX : 0u)")
                } else {
                    format!("(uint64_t){value}")
                };
                lines.push(format!(
                    "if (!{link}_put_compact(body, room, &bit, {raw})) {{\n    return {upper}_NO_ROOM;\n}}"
                ));
            }
            Action::Skip { bits } => {
                lines.push(self.room(&format!("{bits}u")));
                lines.push(format!("bit += {bits}u;"));
            }
            Action::Run { length, text } => {
                let count = match length {
                    Length::Exact(count) => {
                        if *text && *count < if count_bytes(*count) == 1 { 255 } else { 65_535 } {
                            lines.push(format!(
                                "if ({} > {count}u) {{\n    return {upper}_TOO_MANY;\n}}",
                                target.length()
                            ));
                        }
                        lines.push(self.room(&format!("{}u", u64::from(*count) * 8)));
                        let used = if *text { target.length() } else { format!("{count}u") };
                        lines.push("{".into());
                        lines.push(format!("    size_t b{depth};"));
                        lines.push(format!("    for (b{depth} = 0; b{depth} < {used}; b{depth}++) {{"));
                        lines.push(format!(
                            "        {link}_put(body, bit + b{depth} * 8u, 8u, (uint8_t){value}[b{depth}]);\n    }}\n}}"
                        ));
                        lines.push(format!("bit += {}u;", u64::from(*count) * 8));
                        return lines;
                    }
                    Length::UpTo(max) => {
                        let bits = count_bytes(*max) * 8;
                        if *max < if bits == 8 { 255 } else { 65_535 } {
                            lines.push(format!(
                                "if ({} > {max}u) {{\n    return {upper}_TOO_MANY;\n}}",
                                target.length()
                            ));
                        }
                        lines.push(self.room(&format!("{bits}u + (size_t){} * 8u", target.length())));
                        lines.push(self.put(bits, self.order, "body", "bit", &target.length()));
                        lines.push(format!("bit += {bits}u;"));
                        target.length()
                    }
                    Length::Rest => {
                        lines.push(self.room(&format!("{} * 8u", target.length())));
                        target.length()
                    }
                };
                lines.push(format!("if ({count} > 0u) {{\n    memcpy(body + bit / 8u, {value}, {count});\n}}"));
                lines.push(format!("bit += (size_t){count} * 8u;"));
            }
            Action::Record(record) => {
                let name = snake(&record.record.name);
                lines.push("{".into());
                lines.push("    size_t inner = (bit + 7u) / 8u;".into());
                lines.push(format!(
                    "    {link}_result_t result = {link}_{name}_write(body, room, &inner, &{value}, revision);"
                ));
                lines.push(format!("    if (result != {upper}_OK) {{\n        return result;\n    }}"));
                lines.push("    bit = inner * 8u;\n}".into());
            }
            Action::List(list) => self.write_list(stem, list, target, depth, &mut lines),
            Action::Choice(choice) => {
                lines.push(ALIGN.into());
                let meaning = &choice.choice;
                lines.push(format!("switch ({}) {{", target.form()));
                for (index, form) in choice.forms.iter().enumerate() {
                    let mut inner = Vec::new();
                    if let Selector::Field(slot) = meaning.selector {
                        inner.push(self.decided(meaning, index, slot, target));
                    }
                    let name = member(&form.field.name);
                    let prefix = format!("{value}.{name}.");
                    let stem = format!("{stem}_{name}");
                    let element = Target { prefix: &prefix, name: "value" };
                    inner.extend(self.write(&stem, &form.action, element, depth + 1));
                    inner.push("break;".into());
                    lines.push(format!("case {index}u:"));
                    lines.extend(indented(&inner));
                }
                lines.push(format!("default:\n    return {upper}_NO_FORM;\n}}"));
            }
        }
        lines
    }

    /// The check that the deciding field selects the form that is given.
    fn decided(
        &self,
        choice: &emberwort_model::model::Choice,
        index: usize,
        slot: usize,
        target: Target<'_>,
    ) -> String {
        let decider = format!("(uint64_t){}{}", target.prefix, member(&self.fields[slot].name));
        let condition = match choice.cases.get(index) {
            Some(case) => format!("{decider} != UINT64_C({})", case.raw),
            None => {
                let others: Vec<String> =
                    choice.cases.iter().map(|case| format!("{decider} == UINT64_C({})", case.raw)).collect();
                if others.is_empty() { "false".into() } else { others.join(" || ") }
            }
        };
        format!("if ({condition}) {{\n    return {}_NO_FORM;\n}}", self.upper)
    }

    fn write_list(&self, stem: &str, list: &ListPlan, target: Target<'_>, depth: usize, lines: &mut Vec<String>) {
        let (link, upper) = (self.link, self.upper);
        let n = format!("n{depth}");
        lines.push("{".into());
        let mut inner = vec![format!("size_t {n};")];
        let count = match list.length {
            Length::Exact(count) => format!("{count}u"),
            Length::UpTo(max) => {
                let bits = count_bytes(max) * 8;
                if max < if bits == 8 { 255 } else { 65_535 } {
                    inner.push(format!("if ({} > {max}u) {{\n    return {upper}_TOO_MANY;\n}}", target.count()));
                }
                inner.push(self.room(&format!("{bits}u")));
                inner.push(self.put(bits, self.order, "body", "bit", &target.count()));
                inner.push(format!("bit += {bits}u;"));
                target.count()
            }
            Length::Rest => {
                inner.push(format!(
                    "if ({} > {}u) {{\n    return {upper}_TOO_MANY;\n}}",
                    target.count(),
                    self.capacity(list)
                ));
                target.count()
            }
        };
        if let (ElementSizes::Once(bytes), Action::Record(record)) = (list.sizes, &list.element.action) {
            let sizes: Vec<String> = record
                .sections
                .iter()
                .map(|section| format!("(revision >= {}u ? {}u : 0u)", section.revision, section.greatest_size))
                .collect();
            let mut size = vec![ALIGN.to_owned(), self.room(&format!("{}u", bytes * 8))];
            size.push(self.put(bytes * 8, self.order, "body", "bit", &format!("({})", sizes.join(" + "))));
            size.push(format!("bit += {}u;", bytes * 8));
            if list.length == Length::Rest {
                inner.push(format!("if ({count} > 0u) {{"));
                inner.extend(indented(&size));
                inner.push("}".into());
            } else {
                inner.extend(size);
            }
        }
        inner.push(format!("for ({n} = 0; {n} < {count}; {n}++) {{"));
        let mut one: Vec<String> = Vec::new();
        if list.element.aligned {
            one.push(ALIGN.into());
        }
        let wrapped = self.element(list).is_none();
        let prefix = format!("{}[{n}].", target.value());
        let plain = format!("{}[{n}]", target.name);
        let element = if wrapped {
            Target { prefix: &prefix, name: "value" }
        } else {
            Target { prefix: target.prefix, name: &plain }
        };
        match (&list.element.action, list.sizes) {
            (Action::Record(record), ElementSizes::Each(bytes)) => {
                let name = snake(&record.record.name);
                one.push(self.room(&format!("{}u", bytes * 8)));
                one.push("{".into());
                one.push(format!("    size_t inner = bit / 8u + {bytes}u;"));
                one.push("    size_t first = inner;".into());
                one.push(format!(
                    "    {link}_result_t result = {link}_{name}_write(body, room, &inner, &{}, revision);",
                    element.value()
                ));
                one.push(format!("    if (result != {upper}_OK) {{\n        return result;\n    }}"));
                one.push(format!("    {}", self.put(bytes * 8, self.order, "body", "bit", "(inner - first)")));
                one.push("    bit = inner * 8u;\n}".into());
            }
            (action, _) => one.extend(self.write(stem, action, element, depth + 1)),
        }
        inner.extend(indented(&one));
        inner.push("}".into());
        lines.extend(indented(&inner));
        lines.push("}".into());
    }

    // ---- sections ----

    /// What reads all sections into `target`, or only checks them. `held` is executed after each.
    pub fn read_sections(&self, take: Take, target: &str, lacking: &str, held: &str, source: &mut Code) {
        let upper = self.upper;
        for (index, section) in self.sections.iter().enumerate() {
            source.line(format!("    /* Revision {}. */", section.revision));
            if index > 0 {
                source.lines(&format!("    if (start == end) {{\n        {lacking}\n    }}"));
            }
            if section.least_size > 0 {
                source.lines(&format!(
                    "    if (end - start < {}u) {{\n        return {upper}_TRUNCATED;\n    }}",
                    section.least_size
                ));
            }
            let nothing_to_see = take == Take::Nothing && self.deciders().is_empty();
            if section.fixed && nothing_to_see {
                source.line(format!("    start += {}u;", section.greatest_size));
            } else {
                self.read_section(section, source, |step| self.read_step(step, take, target));
            }
            if !held.is_empty() {
                source.line(format!("    {held}"));
            }
        }
    }

    /// The steps of one section, each read by what `read` gives; `start` then is behind the section.
    pub fn read_section(&self, section: &SectionPlan, source: &mut Code, read: impl Fn(&Step) -> Vec<String>) {
        for (index, step) in section.steps.iter().enumerate() {
            let mut lines = Vec::new();
            match step.place {
                Place::Fixed(bit) => lines.push(format!("bit = start * 8u + {bit}u;")),
                Place::Behind { aligned: true } => lines.push(ALIGN.to_owned()),
                Place::Behind { aligned: false } => {}
            }
            lines.extend(read(step));
            if index == section.fixed_steps {
                source.line(format!("    bit = start * 8u + {}u;", section.fixed_end));
            }
            match step.presence {
                Some(presence) => {
                    source.line(format!(
                        "    if ((body[start + {}u] & {}u) != 0u) {{",
                        presence / 8,
                        1u32 << (presence % 8)
                    ));
                    for line in indented(&lines) {
                        source.line(format!("    {line}"));
                    }
                    source.line("    }");
                }
                None => {
                    for line in lines.join("\n").lines() {
                        source.line(format!("    {line}"));
                    }
                }
            }
        }
        if section.fixed {
            source.line(format!("    start += {}u;", section.greatest_size));
            return;
        }
        source.line("    start = (bit + 7u) / 8u;");
        source.lines(&format!("    if (start > end) {{\n        return {}_TRUNCATED;\n    }}", self.upper));
    }

    /// What writes all sections from `target`; `condition` says in front of a later section whether it is written.
    pub fn write_sections(&self, target: &str, condition: impl Fn(usize, u32) -> String, source: &mut Code) {
        for (index, section) in self.sections.iter().enumerate() {
            source.line(format!("    /* Revision {}. */", section.revision));
            let pad = if index > 0 {
                source.line(format!("    if ({}) {{", condition(index, section.revision)));
                "        "
            } else {
                "    "
            };
            let mut block: Vec<String> = vec!["bit = start * 8u;".into()];
            if section.presence_bytes > 0 {
                block.push(self.room(&format!("{}u", section.presence_bytes * 8)));
                block.push(format!("bit += {}u;", section.presence_bytes * 8));
            }
            for (index, step) in section.steps.iter().enumerate() {
                if index == section.fixed_steps {
                    block.push(format!("bit = start * 8u + {}u;", section.fixed_end));
                }
                let field = &self.fields[step.slot];
                let mut lines = Vec::new();
                match step.place {
                    Place::Fixed(bit) => lines.push(format!("bit = start * 8u + {bit}u;")),
                    Place::Behind { aligned: true } => lines.push(ALIGN.into()),
                    Place::Behind { aligned: false } => {}
                }
                let hidden = field.is_spare();
                if let Some(presence) = step.presence.filter(|_| !hidden) {
                    lines.push(format!(
                        "body[start + {0}u] = (uint8_t)(body[start + {0}u] | {1}u);",
                        presence / 8,
                        1u32 << (presence % 8)
                    ));
                }
                lines.extend(self.write_step(step, target));
                match step.presence {
                    // What is retired and optional is never sent.
                    Some(_) if hidden => {}
                    Some(_) => {
                        block.push(format!("if ({target}has_{}) {{", member(&field.name)));
                        block.extend(indented(&lines));
                        block.push("}".into());
                    }
                    None => block.extend(lines),
                }
            }
            if section.fixed {
                block.push(format!("bit = start * 8u + {}u;", section.greatest_size * 8));
                block.push(self.room("0u"));
            }
            block.push("start = (bit + 7u) / 8u;".into());
            for line in block.join("\n").lines() {
                source.line(format!("{pad}{line}"));
            }
            if index > 0 {
                source.line("    }");
            }
        }
    }
}

/// What stands behind `_get` and `_put` for a width and an order.
pub fn suffix(width: u8, order: ByteOrder, own: ByteOrder) -> String {
    let order = match order {
        _ if order == own => "",
        ByteOrder::Big => "_be",
        ByteOrder::Little => "_le",
    };
    format!("{order}{}", if width > 32 { "64" } else { "" })
}

/// The default of a raw field as a C constant: the definition's, else zero.
pub fn default_raw(field: &Field) -> String {
    let raw = match &field.default {
        Some(Value::Raw(raw)) => *raw,
        _ => 0,
    };
    match &field.kind {
        Kind::Bool => (raw != 0).to_string(),
        kind if kind.is_signed() => constant(i128::from(raw as i64), kind.raw_bits().unwrap_or(8), true),
        kind => constant(i128::from(raw), kind.raw_bits().unwrap_or(8), false),
    }
}

/// A record: its struct, and functions that read and write it inside of bodies.
pub fn record(group: &Group<'_>, doc: &str, name: &str, header: &mut Code, source: &mut Code) {
    let Group { link, upper, stem, .. } = *group;
    header.line(format!("/* ---- record {} ---- */", comment(name)));
    header.line("");
    doc_comment(header, doc);
    header.open(format!("typedef struct {stem} {{"));
    group.members(header);
    header.close(format!("}} {stem}_t;"));
    header.line("");
    group.field_functions(header, source);
    header.line("/* Defaults where there are some, zero elsewhere; optional fields absent. */");
    header.line(format!("void {stem}_init({stem}_t *record);"));
    header.line("");
    source.lines(&format!("void {stem}_init({stem}_t *record)\n{{\n    memset(record, 0, sizeof *record);"));
    for line in group.defaults("record->") {
        source.line(format!("    {line}"));
    }
    source.lines("}\n");
    source.line("");
    // The same function checks and reads: NULL keeps nothing. Two bodies, since each names members only where it keeps them.
    for (function, take) in [("check", Take::Nothing), ("keep", Take::Keep)] {
        let value = if take == Take::Keep { format!(", {stem}_t *record") } else { String::new() };
        source.lines(&format!(
            "static {link}_result_t {stem}_{function}(const uint8_t *body, size_t end, size_t *at{value})\n{{\n    \
                 size_t start = *at;\n    size_t bit = 0;"
        ));
        for slot in group.deciders() {
            source.line(format!("    uint64_t key_{slot} = 0;"));
        }
        source.line("    (void)body;\n    (void)bit;");
        source.lines(&format!("    if (start > end) {{\n        return {upper}_TRUNCATED;\n    }}"));
        if take == Take::Keep {
            source.line(format!("    {stem}_init(record);"));
        }
        let lacking = format!("*at = start;\n        return {upper}_OK;");
        group.read_sections(take, "record->", &lacking, "", source);
        source.lines(&format!("    *at = start;\n    return {upper}_OK;\n}}\n"));
        source.line("");
    }
    source.lines(&format!(
        "/* Reads a record that begins at byte *at, which then is behind it; with NULL it is only checked. */\n\
         static {link}_result_t {stem}_read(const uint8_t *body, size_t end, size_t *at, {stem}_t *record)\n{{\n    \
             return record == NULL ? {stem}_check(body, end, at) : {stem}_keep(body, end, at, record);\n}}\n"
    ));
    source.line("");
    source.lines(&format!(
        "/* Writes a record at byte *at, which then is behind it. */\n\
         static {link}_result_t {stem}_write(uint8_t *body, size_t room, size_t *at, const {stem}_t *record, uint32_t revision)\n{{\n    \
             size_t start = *at;\n    size_t bit = 0;\n    (void)revision;\n    (void)bit;"
    ));
    group.write_sections("record->", |_, revision| format!("revision >= {revision}u"), source);
    source.lines(&format!("    *at = start;\n    return {upper}_OK;\n}}\n"));
    source.line("");
}
