//! Groups of fields, of messages and of records: their struct members, and the code that walks over, reads and writes them.
//!
//! The code works on `body` with the variables of [`crate::c::tree::Variable`].

pub mod cursor;
pub mod expressions;
pub mod fixed_layout;
mod read;
mod validate;
mod write;

use emberwort_model::model::{ByteOrder, Field, Kind, Length, Selector, Union, Value};
use emberwort_model::plan::{Action, ListPlan, MessagePlan, SectionPlan, Step, count_bytes};

use super::numbers;
use super::tree::{Expr, Stmt, Variable, Variables, expr, print, simplified, variables_in};
use super::types;
use super::words::{about, comment, constant, doc_comment, member};
use crate::code::Code;
use crate::lower::{self, Section};
use crate::names::{screaming, snake};

/// What all groups of a link need to know.
#[derive(Clone, Copy)]
pub struct Group<'a> {
    /// The link's name in C.
    pub link: &'a str,
    /// The name of the link in capitals, with which its constants begin.
    pub upper: &'a str,
    /// The order of bytes and bits.
    pub order: ByteOrder,
    /// Variables of members and functions of this group's fields start with it: `link_message`.
    pub stem: &'a str,
    pub fields: &'a [Field],
    pub sections: &'a [SectionPlan],
    /// Most elements or bytes of a field that reaches to the body's end.
    pub rest_bytes: usize,
    /// Whether it begins where the body does.
    pub is_body: bool,
}

/// What is done with the values that are found.
#[derive(Clone, Copy, PartialEq)]
pub(crate) enum ValueUse {
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
            is_body: true,
        }
    }

    /// What is done for each section.
    pub fn lowered(&self) -> Vec<Section<'a>> {
        let Self { fields, sections, order, is_body, .. } = *self;
        let message = is_body.then_some(None);
        let group =
            lower::Group { name: "", doc: "", fields, sections, order, message, is_line: false, greatest: None };
        let mut sections = lower::sections(&group);
        for section in &mut sections {
            section.fixed.start = section.fixed.start.filter(|_| is_body);
        }
        sections
    }

    /// Steps of named fields, with the index of their section.
    pub(crate) fn named_steps(&self) -> impl Iterator<Item = (usize, &'a Step)> {
        let Self { sections, fields, .. } = *self;
        sections
            .iter()
            .enumerate()
            .flat_map(|(index, section)| section.steps.iter().map(move |step| (index, step)))
            .filter(move |(_, step)| !fields[step.slot].is_spare())
    }

    /// The call that reads so many bits.
    pub fn get(&self, width: u8, order: ByteOrder, bytes: Expr, place: Expr) -> Expr {
        let get = Expr::function(format!("{}_get{}", self.link, suffix(width, order, self.order)));
        expr![get, "(", bytes, ", ", place, format!(", {width}u)")]
    }

    /// Reads the raw number of a field as its C type.
    pub(crate) fn get_raw(&self, kind: &Kind, width: u8, order: ByteOrder, bytes: Expr, place: Expr) -> Expr {
        let get = self.get(width, order, bytes, place);
        match kind {
            Kind::Bool => expr![get, " != 0u"],
            kind if kind.is_signed() && (width == 32 || width == 64) => {
                expr![format!("({})", numbers::raw_type(self.link, kind)), get]
            }
            kind if kind.is_signed() => {
                // Two's complement: flip the sign bit and subtract it again.
                let (ty, c) = if width > 32 { ("int64_t", 64) } else { ("int32_t", 32) };
                let sign = 1u64 << (width - 1);
                let raw = numbers::raw_type(self.link, kind);
                let highest = constant(i128::from(sign) - 1, c, true);
                expr![format!("({raw})(({ty})("), get, format!(" ^ UINT{c}_C({sign})) - {highest} - 1)")]
            }
            Kind::Enum { .. } => {
                expr![format!("({})({})", numbers::raw_type(self.link, kind), numbers::integer_type(kind)), get]
            }
            kind => expr![format!("({})", numbers::raw_type(self.link, kind)), get],
        }
    }

    /// The call that writes so many bits.
    pub fn put(&self, width: u8, order: ByteOrder, bytes: Expr, place: Expr, value: impl Into<Expr>) -> Expr {
        let ty = if width > 32 { "uint64_t" } else { "uint32_t" };
        let put = Expr::function(format!("{}_put{}", self.link, suffix(width, order, self.order)));
        expr![put, "(", bytes, ", ", place, format!(", {width}u, ({ty})"), value.into(), ")"]
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
            Action::Bits { .. } | Action::Varint { .. } => {
                vec![format!("{} {name};{note}", numbers::raw_type(self.link, &field.kind))]
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
            Action::Union(union) => {
                let mut lines = vec![format!("uint16_t {name}_form; /* which of the forms below */"), "union {".into()];
                for form in &union.forms {
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
            Action::Bits { .. } | Action::Varint { .. } => Some(numbers::raw_type(self.link, &list.element.field.kind)),
            Action::Record(record) => Some(format!("{}_{}_t", self.link, snake(&record.record.name))),
            _ => None,
        }
    }

    /// Where the element of a list with this index is kept: what stands in front of the member's name, and the name.
    fn element_at(&self, list: &ListPlan, target: Target<'_>, index: &str) -> (String, String) {
        match self.element(list) {
            Some(_) => (target.prefix.to_owned(), format!("{}[{index}]", target.name)),
            None => (format!("{}[{index}].", target.value()), "value".to_owned()),
        }
    }

    /// Most elements of a list that reaches to the body's end.
    fn capacity(&self, list: &ListPlan) -> usize {
        let (least, _) = list.element.action.bits();
        (self.rest_bytes * 8 / (least.max(8) as usize)).max(1)
    }

    // ---- functions of single fields ----

    /// Constants, validity and conversions of the fields.
    pub(crate) fn field_functions(&self, header: &mut Code) {
        for (_, step) in self.named_steps() {
            let field = &self.fields[step.slot];
            let stem = format!("{}_{}", self.stem, member(&field.name));
            self.functions_of(&stem, field, &step.action, header);
        }
        header.line("");
    }

    fn functions_of(&self, stem: &str, field: &Field, action: &Action, header: &mut Code) {
        match action {
            Action::List(list) => {
                self.functions_of(stem, &list.element.field, &list.element.action, header);
            }
            Action::Union(union) => {
                header.line(format!("/* The forms of `{}`. */", field.name));
                for (index, form) in union.forms.iter().enumerate() {
                    let name = screaming(&form.field.name);
                    header.line(format!("#define {}_FORM_{name} {index}u", screaming(stem)));
                }
                for form in &union.forms {
                    let stem = format!("{stem}_{}", member(&form.field.name));
                    self.functions_of(&stem, &form.field, &form.action, header);
                }
            }
            Action::Bits { .. } | Action::Varint { .. } => {
                let Some(bits) = field.kind.raw_bits() else { return };
                if let Some(none) = field.kind.none() {
                    let value = match &field.kind {
                        Kind::Enum { labels, .. } => format!("({})", types::code(self.link, labels, none as u64)),
                        kind => constant(none, bits, kind.is_signed()),
                    };
                    header.line(format!("#define {}_NONE {value} /* no reading */", screaming(stem)));
                }
                if let Kind::Number(form) | Kind::Varint(form) = &field.kind {
                    numbers::write(self.link, stem, &field.kind, form, header);
                }
                let raw = numbers::raw_type(self.link, &field.kind);
                let name = if field.name.is_empty() { "an element".into() } else { format!("`{}`", field.name) };
                header.line(format!("/* Whether a raw code of {name} means something. */"));
                header.lines(&format!("static inline bool {stem}_valid({raw} raw)\n{{"));
                numbers::validity(field, header);
                header.line("}");
                if field.kind == Kind::Float(32) {
                    numbers::float(self.link, stem, header);
                }
            }
            Action::Run { .. } | Action::Record(_) | Action::Skip { .. } => {}
        }
    }

    /// The statements that set all defaults, in a struct that is zero.
    pub fn defaults(&self, target: &str) -> Vec<Stmt> {
        let mut statements = Vec::new();
        for (_, step) in self.named_steps() {
            let field = &self.fields[step.slot];
            let name = member(&field.name);
            match (&field.default, &step.action) {
                (None, Action::Record(record)) if step.presence.is_none() => {
                    statements.push(init(self.link, &record.record.name, &format!("{target}{name}")));
                }
                (_, action) => {
                    statements.extend(default_of(self.link, field, action, Target { prefix: target, name: &name }))
                }
            }
        }
        statements
    }

    /// The condition that the field which decides about a form selects another one than this, if a field decides.
    fn other_form(&self, union: &Union, index: usize, target: Target<'_>) -> Option<String> {
        let Selector::Field(slot) = union.selector else { return None };
        let decider = format!("(uint64_t){}{}", target.prefix, member(&self.fields[slot].name));
        match union.cases.get(index) {
            Some(case) => Some(format!("{decider} != UINT64_C({})", case.raw)),
            None => {
                let others = union.cases.iter().map(|case| format!("{decider} == UINT64_C({})", case.raw));
                let others: Vec<String> = others.collect();
                (!others.is_empty()).then(|| others.join(" || "))
            }
        }
    }

    /// The slots of fields that decide about forms.
    pub fn deciders(&self) -> Vec<usize> {
        let unions = self.sections.iter().flat_map(|section| &section.steps).filter_map(|step| match &step.action {
            Action::Union(union) => match union.union.selector {
                Selector::Field(slot) => Some(slot),
                Selector::Request { .. } => None,
            },
            _ => None,
        });
        let mut slots: Vec<usize> = unions.collect();
        slots.sort_unstable();
        slots.dedup();
        slots
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

/// The call that sets a record to its defaults.
fn init(link: &str, record: &str, value: &str) -> Stmt {
    let function = Expr::function(format!("{link}_{}_init", snake(record)));
    Stmt::Do(expr![function, format!("(&{value})")])
}

/// The statements that set a field to its default, if the definition gives one that is not zero or empty.
fn default_of(link: &str, field: &Field, action: &Action, target: Target<'_>) -> Vec<Stmt> {
    let mut statements = Vec::new();
    match &field.default {
        Some(Value::Raw(raw)) if *raw != 0 => statements.push(set(target.value(), default_raw(link, field))),
        None if field.kind.none().is_some_and(|none| none != 0) => {
            statements.push(set(target.value(), default_raw(link, field)));
        }
        Some(Value::Bytes(bytes)) if !bytes.is_empty() => {
            let text: String = bytes.iter().map(|b| format!("\\{b:03o}")).collect();
            statements.push(match action {
                Action::Run { length: Length::Rest, text: is_text } => {
                    let ty = if *is_text { "char" } else { "uint8_t" };
                    set(target.value(), format!("(const {ty} *)\"{text}\""))
                }
                _ => {
                    let copy = Expr::function("memcpy");
                    Stmt::Do(expr![copy, format!("({}, \"{text}\", {}u)", target.value(), bytes.len())])
                }
            });
            if !matches!(action, Action::Run { length: Length::Exact(_), text: false }) {
                statements.push(set(target.length(), format!("{}u", bytes.len())));
            }
        }
        _ => {}
    }
    statements
}

/// Sets a member of a struct.
fn set(member: impl Into<Expr>, value: impl Into<Expr>) -> Stmt {
    Stmt::Do(expr![member.into(), " = ", value.into()])
}

/// A length of memory set to zero.
fn zeroed(what: impl Into<Expr>) -> Stmt {
    Stmt::Do(expr![Expr::function("memset"), "(", what.into(), ")"])
}

/// The variables of a function that reads, or writes, a body: those that it uses.
pub(crate) fn declare_cursors(names: &Variables, is_written: bool, source: &mut Code) {
    if names.contains(&Variable::Section) {
        source.line(format!("    {}uint8_t *section;", if is_written { "" } else { "const " }));
    }
    for name in [Variable::Bit, Variable::Here] {
        if names.contains(&name) {
            source.line(format!("    size_t {name};"));
        }
    }
}

/// Statements of a function's body.
pub(crate) fn print_inside(statements: &[Stmt], source: &mut Code) {
    source.open_more();
    print(statements, source);
    source.dedent();
}

/// The default of a raw field as a C constant: the definition's, else that there is no reading, else zero.
pub(crate) fn default_raw(link: &str, field: &Field) -> String {
    let raw = match (&field.default, field.kind.none(), field.kind.raw_bits()) {
        (Some(Value::Raw(raw)), ..) => *raw,
        (None, Some(none), _) if matches!(field.kind, Kind::Enum { .. }) => none as u64,
        (None, Some(none), Some(bits)) => return constant(none, bits, field.kind.is_signed()),
        _ => 0,
    };
    match &field.kind {
        Kind::Bool => (raw != 0).to_string(),
        Kind::Enum { labels, .. } => types::code(link, labels, raw),
        kind if kind.is_signed() => constant(i128::from(raw as i64), kind.raw_bits().unwrap_or(8), true),
        kind => constant(i128::from(raw), kind.raw_bits().unwrap_or(8), false),
    }
}

/// A record: its struct, and functions that read and write it inside of bodies.
pub fn record(group: &Group<'_>, doc: &str, name: &str, structs: bool, header: &mut Code, source: &mut Code) {
    let Group { link, upper, stem, .. } = *group;
    header.line(format!("/* ---- record {} ---- */", comment(name)));
    header.line("");
    // All of its fields may be retired.
    let has_members = group.named_steps().next().is_some();
    if structs {
        doc_comment(header, doc);
        header.open(format!("typedef struct {stem}_t {{"));
        group.members(header);
        if !has_members {
            header.line("uint8_t nothing; /* C has no struct without members */");
        }
        header.close(format!("}} {stem}_t;"));
        header.line("");
    }
    group.field_functions(header);
    if structs {
        header.line(
            "/* Defaults where there are some; no reading where a code says so, zero elsewhere; optional fields absent. */",
        );
        header.line(format!("{upper}_FUNCTION void {stem}_init({stem}_t *record);"));
        header.line("");
        group.validate(name, header);
        source.lines(&format!(
            "{upper}_FUNCTION void {stem}_init({stem}_t *record)\n{{\n    memset(record, 0, sizeof *record);"
        ));
        print_inside(&group.defaults("record->"), source);
        source.lines("}\n");
        source.line("");
    }
    let sections = group.lowered();
    // Behind the sections the place where they end is told.
    let read_behind = Variables::from([Variable::Start]);
    let done = format!("{upper}_OK");
    // One function only checks, and one keeps: each begins at byte *at, which then is behind the record.
    for (function, take) in [("check", ValueUse::Nothing), ("keep", ValueUse::Keep)] {
        source.define(format!("{stem}_{function}"), |source| {
            let value = if take == ValueUse::Keep { format!(", {stem}_t *record") } else { String::new() };
            source.lines(&format!(
                "static {link}_codec_result_t {stem}_{function}(const uint8_t *body, size_t end, size_t *at{value})\n{{\n    \
                     size_t start = *at;"
            ));
            let mut inner = Vec::new();
            for (index, section) in sections.iter().enumerate() {
                let mut lacking = if take == ValueUse::Keep { group.unset_sections(index, "record->") } else { Vec::new() };
                lacking.extend([set("*at", Variable::Start), Stmt::Return(expr![&done])]);
                inner.extend(group.begin_section(index, section, lacking));
                inner.extend(group.read_section(index, &sections, take, "record->", &|_, _| None));
            }
            let inner = simplified(inner, &read_behind);
            let names = variables_in(&inner);
            declare_cursors(&names, false, source);
            for slot in group.deciders() {
                source.line(format!("    uint64_t key_{slot} = 0;"));
            }
            if !names.contains(&Variable::Body) {
                source.line("    (void)body;");
            }
            if take == ValueUse::Keep && !has_members {
                source.line("    (void)record;");
            }
            source.lines(&format!("    if (start > end) {{\n        return {upper}_TRUNCATED;\n    }}"));
            print_inside(&inner, source);
            source.lines(&format!("    *at = start;\n    return {upper}_OK;\n}}\n"));
            source.line("");
        });
    }
    source.define(format!("{stem}_write"), |source| {
        source.lines(&format!(
            "/* Writes a record at byte *at, which then is after it. */\n\
             static {link}_codec_result_t {stem}_write(uint8_t *body, size_t room, size_t *at, const {stem}_t *record, uint32_t revision)\n{{\n    \
                 size_t start = *at;"
        ));
        let since = |_: usize, revision: u32| expr![Variable::Revision, " >= ", Expr::number(revision as usize)];
        let inner = simplified(group.write_sections(&sections, "record->", since), &read_behind);
        let names = variables_in(&inner);
        declare_cursors(&names, true, source);
        if !names.contains(&Variable::Revision) {
            source.line("    (void)revision;");
        }
        if !has_members {
            source.line("    (void)record;");
        }
        print_inside(&inner, source);
        source.lines(&format!("    *at = start;\n    return {upper}_OK;\n}}\n"));
        source.line("");
    });
}
