//! A body where it lies: one check, and then each value read at its place.

use std::cell::Cell;

use emberwort_model::model::{Field, Length, Selector, Value};
use emberwort_model::plan::{Action, ListPlan, Place, UnionPlan};

use super::names::{bytes, class, doc, field_doc, little, member, text};
use super::read::{Reader, VIEW};
use super::values::{Owner, case_number, sum, value_of};
use crate::code::Code;
use crate::lower::{FixedItemKind, Group, Op, Section, depends_on_request, sections};
use crate::names::plain_snake;

/// Whether a message is looked at where it lies.
pub(crate) fn has_view(group: &Group<'_>) -> bool {
    group.message.is_some() && !group.is_line
}

/// The name of a message's type.
pub(crate) fn type_of(name: &str) -> String {
    class(&format!("{}_view", plain_snake(name)))
}

/// Places that a view notes: of sections but the first, in bytes, and of values that move, in bits.
#[derive(Default)]
struct ViewPlaces {
    sections: Vec<usize>,
    slots: Vec<usize>,
}

impl ViewPlaces {
    fn of(group: &Group<'_>, sections: &[Section<'_>]) -> Self {
        let mut places = Self::default();
        for (index, section) in sections.iter().enumerate() {
            let reads = |op: &Op<'_>| matches!(op, Op::Field(_, ops) if matches!(ops[..], [Op::Bytes { .. }]));
            let numbers = section.fixed.items.iter().any(|item| matches!(item.kind, FixedItemKind::Number(_)));
            if index > 0 && (numbers || section.ops.iter().any(reads)) {
                places.sections.push(index);
            }
            for op in &section.ops {
                let slot = match op {
                    Op::Field(_, ops) if matches!(ops[..], [Op::Bytes { .. }]) => None,
                    Op::Field(slot, _) => Some(*slot),
                    Op::If { slot, .. } => *slot,
                    _ => None,
                };
                places.slots.extend(slot.filter(|slot| !group.fields[*slot].is_spare()));
            }
        }
        places
    }

    fn len(&self) -> usize {
        self.sections.len() + self.slots.len()
    }

    fn of_section(&self, index: usize) -> Option<usize> {
        self.sections.iter().position(|of| *of == index)
    }

    fn of_slot(&self, slot: usize) -> Option<usize> {
        self.slots.iter().position(|of| *of == slot).map(|at| self.sections.len() + at)
    }
}

/// A function that goes over a record without keeping any of it.
pub fn pass(group: &Group<'_>, owner: Owner<'_>, code: &mut Code) {
    code.line("");
    code.open("fn pass(r: &mut Reader<'_>) -> Result<(), Error> {");
    PlaceWalk { group, owner, places: None, made: Cell::new(0) }.sections(&sections(group), code);
    code.lines("r.bit = start * 8;\nOk(())");
    code.close("}");
}

/// The view of a message.
pub fn write(group: &Group<'_>, owner: Owner<'_>, code: &mut Code) {
    let sections = sections(group);
    let places = ViewPlaces::of(group, &sections);
    let name = type_of(group.name);
    let has_key = group.named().any(|(_, _, action)| depends_on_request(action));
    code.line("");
    code.lines(
        doc(&format!("The body of {} where it lies: checked once, read value by value.", group.name)).trim_end(),
    );
    code.line("#[derive(Clone, Copy, Debug)]");
    code.open(format!("pub struct {name}<'a> {{"));
    code.lines("body: &'a [u8],\nsections_held: u8,");
    if places.len() > 0 {
        code.line(format!("at: [usize; {}],", places.len()));
    }
    if has_key {
        code.line("key: Option<u64>,");
    }
    code.close("}");
    code.line("");
    code.open(format!("impl<'a> {name}<'a> {{"));
    code.lines("/// Checks a body.\n///\n/// # Errors\n/// If it cannot be read.");
    code.open("pub fn new(body: &'a [u8]) -> Result<Self, Error> {");
    code.line("Self::check(body, None)");
    code.close("}");
    if has_key {
        code.line("");
        code.lines("/// Checks the body of an answer; `key` is what the request asked for.\n///\n/// # Errors\n/// If it cannot be read.");
        code.open("pub fn of_answer(body: &'a [u8], key: u64) -> Result<Self, Error> {");
        code.line("Self::check(body, Some(key))");
        code.close("}");
    }
    code.line("");
    code.open("fn check(body: &'a [u8], key: Option<u64>) -> Result<Self, Error> {");
    let mut inner = Code::default();
    PlaceWalk { group, owner, places: Some(&places), made: Cell::new(0) }.sections(&sections, &mut inner);
    let (reads, is_set) = (inner.is_used(READER), inner.is_used(VIEW));
    let inner = inner.finish();
    let (at, key) = (
        if places.len() > 0 { format!(", at: [usize::MAX; {}]", places.len()) } else { String::new() },
        if has_key { ", key" } else { "" },
    );
    if reads {
        code.line("let r = &mut Reader::new(body, key);");
    } else {
        code.line("let _ = key;");
    }
    let view = format!("Self {{ body, sections_held: {}{at}{key} }}", sections.len());
    if is_set {
        code.line(format!("let mut view = {view};"));
    }
    code.lines(&inner);
    code.line(if is_set { "Ok(view)".to_owned() } else { format!("Ok({view})") });
    code.close("}");
    code.line("");
    code.lines("/// How many sections the sender wrote; values of the others are their defaults.\n#[must_use]");
    code.open("pub fn sections_held(&self) -> u8 {");
    code.line("self.sections_held");
    code.close("}");
    if !places.slots.is_empty() {
        let key = if has_key { "self.key" } else { "None" };
        code.line("");
        code.open("fn reader(&self, bit: usize) -> Option<Reader<'a>> {");
        code.line(format!(
            "if bit == usize::MAX {{ None }} else {{ Some(Reader {{ bit, ..Reader::new(self.body, {key}) }}) }}"
        ));
        code.close("}");
    }
    let getters = Getters { group, owner, places: &places };
    for (index, section) in sections.iter().enumerate() {
        for item in &section.fixed.items {
            let action = &section.plan.steps[item.step].action;
            if let (FixedItemKind::Number(pieces), Action::Bits { width, signed, .. }) = (&item.kind, action) {
                let field = &group.fields[item.slot];
                let raw = sum(pieces, *width, &|byte| format!("b[{byte}]"));
                getters.known(index, section, field, action, &value_of(&field.kind, &raw, *width, *signed), code);
            }
        }
        for op in &section.ops {
            match op {
                Op::Field(slot, ops) => getters.field(index, section, *slot, ops, code),
                Op::If { slot: Some(_), then, .. } => {
                    let field = then.iter().find_map(|op| match op {
                        Op::Field(slot, ops) => Some((slot, ops)),
                        _ => None,
                    });
                    if let Some((slot, ops)) = field {
                        getters.field(index, section, *slot, ops, code);
                    }
                }
                _ => {}
            }
        }
    }
    code.close("}");
}

/// The variables that lines may use, of which only those are declared that some use.
const READER: &str = "r";
const START: &str = "start";
/// What gives `start` another value.
const START_CHANGES: &str = "start changes";

/// Goes over all of it, and keeps nothing but places.
struct PlaceWalk<'g> {
    group: &'g Group<'g>,
    owner: Owner<'g>,
    /// Of a message.
    places: Option<&'g ViewPlaces>,
    made: Cell<usize>,
}

impl PlaceWalk<'_> {
    fn fresh(&self) -> usize {
        self.made.replace(self.made.get() + 1)
    }

    /// Whether a field decides about the form of another.
    fn decides(&self, slot: usize) -> bool {
        self.group.named().any(|(_, _, action)| {
            matches!(action, Action::Union(union) if matches!(union.union.selector, Selector::Field(of) if of == slot))
        })
    }

    fn sections(&self, sections: &[Section<'_>], code: &mut Code) {
        let mut inner = Code::default();
        self.each_section(sections, &mut inner);
        for name in [READER, VIEW].into_iter().filter(|name| inner.is_used(name)) {
            code.uses(name);
        }
        if inner.is_used(START) {
            code.uses(READER);
            code.line(format!("let {}start = r.bit / 8;", if inner.is_used(START_CHANGES) { "mut " } else { "" }));
        }
        let inner = inner.finish();
        code.lines(&inner);
    }

    fn each_section(&self, sections: &[Section<'_>], code: &mut Code) {
        for (index, section) in sections.iter().enumerate() {
            if index > 0 {
                code.uses(READER);
                code.uses(START);
                code.open("if start == r.end {");
                match self.places {
                    Some(_) => {
                        code.uses(VIEW);
                        code.lines(&format!("view.sections_held = {index};\nreturn Ok(view);"));
                    }
                    None => code.lines("r.bit = start * 8;\nreturn Ok(());"),
                }
                code.close("}");
            }
            code.line(format!("// Revision {}.", section.plan.revision));
            self.section(index, section, index + 1 == sections.len(), code);
        }
    }

    fn section(&self, index: usize, section: &Section<'_>, is_last: bool, code: &mut Code) {
        if section.need > section.fixed.bytes {
            code.uses(READER);
            code.uses(START);
            code.open(format!("if r.end.saturating_sub(start) < {} {{", section.need));
            code.line("return Err(Error::Truncated);");
            code.close("}");
        }
        let decided = section
            .fixed
            .items
            .iter()
            .filter(|item| matches!(item.kind, FixedItemKind::Number(_)) && self.decides(item.slot));
        let reads = section.ops.iter().any(|op| matches!(op, Op::If { .. })) || decided.clone().next().is_some();
        if section.fixed.bytes > 0 {
            code.uses(READER);
            code.uses(START);
            let name = if reads { "b" } else { "_" };
            code.line(format!("let {name}: &[u8; {}] = r.known(start)?;", section.fixed.bytes));
        }
        if let Some(place) = self.places.and_then(|places| places.of_section(index)) {
            code.uses(VIEW);
            code.uses(START);
            code.line(format!("view.at[{place}] = start;"));
        }
        for item in decided {
            let field = &self.group.fields[item.slot];
            if let (FixedItemKind::Number(pieces), Action::Bits { width, signed, .. }) =
                (&item.kind, &section.plan.steps[item.step].action)
            {
                let raw = sum(pieces, *width, &|byte| format!("b[{byte}]"));
                code.line(format!(
                    "let key_{} = {};",
                    member(&field.name),
                    value_of(&field.kind, &raw, *width, *signed)
                ));
            }
        }
        for op in &section.ops {
            match op {
                Op::If { bit, then, .. } => {
                    code.open(format!("if b[{}] & {:#04x} != 0 {{", bit / 8, 1u32 << (bit % 8)));
                    then.iter().for_each(|op| self.placed(op, code));
                    code.close("}");
                }
                op => self.placed(op, code),
            }
        }
        match section.size {
            Some(0) => {}
            // What comes behind it in a message nobody asks for.
            Some(_) if is_last && self.places.is_some() => {}
            Some(size) => {
                code.uses(START);
                code.uses(START_CHANGES);
                code.line(format!("start += {size};"));
            }
            None => {
                code.uses(READER);
                code.uses(START);
                code.uses(START_CHANGES);
                code.line("start = r.bit.div_ceil(8);");
                code.open("if start > r.end {");
                code.line("return Err(Error::Truncated);");
                code.close("}");
            }
        }
    }

    fn placed(&self, op: &Op<'_>, code: &mut Code) {
        match op {
            Op::Seek(bit) => {
                code.uses(READER);
                code.uses(START);
                code.line(format!("r.bit = start * 8 + {bit};"));
            }
            Op::Field(_, ops) if matches!(ops[..], [Op::Bytes { .. }]) => {}
            Op::Field(slot, ops) => {
                if let Some(place) = self.places.and_then(|places| places.of_slot(*slot)) {
                    code.uses(READER);
                    code.uses(VIEW);
                    code.line(format!("view.at[{place}] = r.bit;"));
                }
                let field = &self.group.fields[*slot];
                code.uses(READER);
                match ops[..] {
                    [Op::Number { width, signed, order }] if self.decides(*slot) => {
                        let raw = format!("r.bits({width}, {})?", little(order));
                        let ty = super::values::unsigned(width);
                        let raw = if ty == "u64" { raw } else { format!("{raw} as {ty}") };
                        code.line(format!(
                            "let key_{} = {};",
                            member(&field.name),
                            value_of(&field.kind, &raw, width, signed)
                        ));
                    }
                    [Op::Varint { width, signed: false }] if self.decides(*slot) => {
                        let ty = super::values::unsigned(width);
                        let raw = format!("r.varint({width})?");
                        let raw = if ty == "u64" { raw } else { format!("{raw} as {ty}") };
                        code.line(format!("let key_{} = {raw};", member(&field.name)));
                    }
                    [Op::Varint { width, signed: true }] if self.decides(*slot) => {
                        let ty = super::values::signed(width);
                        let raw = format!("zigzag(r.varint({width})?)");
                        let raw = if ty == "i64" { raw } else { format!("{raw} as {ty}") };
                        code.line(format!("let key_{} = {raw};", member(&field.name)));
                    }
                    _ => self.value(field, ops, code),
                }
            }
            Op::Align => {
                code.uses(READER);
                code.line("r.align();");
            }
            Op::Skip(bits) => {
                code.uses(READER);
                code.lines(&format!("r.need({bits})?;\nr.bit += {bits};"));
            }
            _ => {}
        }
    }

    fn value(&self, field: &Field, ops: &[Op<'_>], code: &mut Code) {
        let order = little(self.group.order);
        for op in ops {
            match op {
                Op::Number { width, .. } => code.line(format!("r.pass({width})?;")),
                Op::Varint { width, .. } => code.line(format!("r.varint({width})?;")),
                Op::Run { length, .. } => match length {
                    Length::Exact(count) => code.line(format!("r.pass({})?;", count * 8)),
                    Length::UpTo(most) => code.lines(&format!("let many = r.count({most}, {order})?;\nr.pass(many * 8)?;")),
                    Length::Rest => code.lines(&format!(
                        "r.need(0)?;\nlet many = (r.end * 8 - r.bit) / 8;\nif many > {} {{\n    return Err(Error::TooMany);\n}}\nr.bit += many * 8;",
                        self.owner.rest
                    )),
                },
                Op::Call(record) => code.line(format!("{}::pass(r)?;", class(&record.record.name))),
                Op::Sized { bytes, record } => {
                    let depth = self.fresh();
                    if let Some(bytes) = bytes {
                        code.line(format!("let size = r.bits({}, {order})? as usize;", bytes * 8));
                    }
                    code.lines(&format!(
                        "r.need(size * 8)?;\nlet (after{depth}, end{depth}) = (r.bit / 8 + size, r.end);\nr.end = after{depth};\n\
                         {}::pass(r)?;\n(r.end, r.bit) = (end{depth}, after{depth} * 8);",
                        class(&record.record.name)
                    ));
                }
                Op::Repeat { list, once, each } => self.list(list, *once, each, code),
                Op::Select { union, forms } => self.union(field, union, forms, code),
                op => self.placed(op, code),
            }
        }
    }

    fn list(&self, list: &ListPlan, once: Option<u8>, each: &[Op<'_>], code: &mut Code) {
        let depth = self.fresh();
        let order = little(self.group.order);
        if let Length::UpTo(most) = list.length {
            code.line(format!("let count{depth} = r.count({most}, {order})?;"));
        }
        if let Some(bytes) = once {
            code.line(element_size(list, bytes, order, "?"));
        }
        match list.length {
            Length::Rest => {
                code.line(format!("let mut count{depth} = 0;"));
                code.open("while r.bit + 8 <= r.end * 8 {");
                code.line(format!("let before{depth} = r.bit;"));
            }
            Length::UpTo(_) => code.open(format!("for _ in 0..count{depth} {{")),
            Length::Exact(count) => code.open(format!("for _ in 0..{count} {{")),
        }
        self.value(&list.element.field, each, code);
        if list.length == Length::Rest {
            code.lines(&format!(
                "count{depth} += 1;\nif count{depth} > {} {{\n    return Err(Error::TooMany);\n}}",
                self.owner.capacity(list)
            ));
            code.open(format!("if r.bit <= before{depth} {{"));
            code.line("return Err(Error::Truncated);");
            code.close("}");
        }
        code.close("}");
    }

    fn union(&self, field: &Field, union: &UnionPlan, forms: &[Vec<Op<'_>>], code: &mut Code) {
        let meaning = &union.union;
        let key = match meaning.selector {
            Selector::Field(slot) => format!("key_{}", member(&self.group.fields[slot].name)),
            Selector::Request { .. } => "r.key".to_owned(),
        };
        code.open(format!("match {key} {{"));
        for (index, case) in meaning.cases.iter().enumerate() {
            let number = case_number(self.group, &meaning.selector, case.raw);
            code.open(match meaning.selector {
                Selector::Field(_) => format!("{number} => {{"),
                Selector::Request { .. } => format!("Some({number}) => {{"),
            });
            self.value(&union.forms[index].field, &forms[index], code);
            code.close("}");
        }
        match union.forms.get(meaning.cases.len()) {
            Some(element) => {
                code.open("_ => {");
                self.value(&element.field, &forms[meaning.cases.len()], code);
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

/// What reads the size of all elements of a list.
fn element_size(list: &ListPlan, bytes: u8, order: &str, failed: &str) -> String {
    let read = format!("r.bits({}, {order}){failed} as usize", bytes * 8);
    match list.length {
        Length::Rest => format!("let mut size = 0;\nif r.bit < r.end * 8 {{\n    r.align();\n    size = {read};\n}}"),
        _ => format!("r.align();\nlet size = {read};"),
    }
}

/// How a function shows a value.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Shown {
    /// A text of the body, if it is UTF-8.
    Text,
    /// Bytes of the body.
    Bytes,
    /// The elements of a list, one after the other.
    Elements,
    /// A value of its own.
    Value,
}

/// Functions that read one value each.
struct Getters<'g> {
    group: &'g Group<'g>,
    owner: Owner<'g>,
    places: &'g ViewPlaces,
}

impl Getters<'_> {
    fn shown(action: &Action, place: Place) -> Shown {
        let is_whole =
            matches!(place, Place::Behind { aligned: true }) || matches!(place, Place::Fixed(bit) if bit % 8 == 0);
        match action {
            Action::Run { text: true, .. } if is_whole => Shown::Text,
            Action::Run { length: Length::UpTo(_) | Length::Rest, .. } if is_whole => Shown::Bytes,
            Action::List(list) if !matches!(list.length, Length::Exact(_)) => Shown::Elements,
            _ => Shown::Value,
        }
    }

    /// The type that a value is returned as.
    fn returned(&self, field: &Field, action: &Action, shown: Shown) -> String {
        let one = match (shown, action) {
            (Shown::Text, _) => "Result<&'a str, core::str::Utf8Error>".to_owned(),
            (Shown::Bytes, _) => "&'a [u8]".to_owned(),
            (Shown::Elements, Action::List(list)) => {
                let one = self.owner.type_of(&list.element.field, &list.element.action);
                format!("impl Iterator<Item = {one}> + 'a")
            }
            (_, action) => self.owner.type_of(field, action),
        };
        if field.optional { format!("Option<{one}>") } else { one }
    }

    fn open(&self, field: &Field, action: &Action, place: Place, code: &mut Code) -> Shown {
        let shown = Self::shown(action, place);
        let returned = self.returned(field, action, shown);
        code.line("");
        code.lines(field_doc(field, action).trim_end());
        match shown {
            Shown::Text if !field.optional => code.lines("///\n/// # Errors\n/// If it is no UTF-8."),
            Shown::Elements if !field.optional => {}
            _ => code.line("#[must_use]"),
        }
        code.open(format!("pub fn {}(&self) -> {returned} {{", member(&field.name)));
        shown
    }

    /// A value at a known place of its section.
    fn known(&self, index: usize, section: &Section<'_>, field: &Field, action: &Action, value: &str, code: &mut Code) {
        self.open(field, action, Place::Fixed(0), code);
        let start = match index {
            0 => "0".to_owned(),
            index => {
                code.open(format!("if self.sections_held <= {index} {{"));
                code.line(format!("return {};", self.owner.missing_value(field, action)));
                code.close("}");
                format!("self.at[{}]", self.places.of_section(index).unwrap_or(0))
            }
        };
        code.line(format!("let b: &[u8; {}] = known(self.body, {start});", section.fixed.bytes));
        code.line(value);
        code.close("}");
    }

    fn field(&self, index: usize, section: &Section<'_>, slot: usize, ops: &[Op<'_>], code: &mut Code) {
        let field = &self.group.fields[slot];
        let Some(step) = section.plan.steps.iter().find(|step| step.slot == slot) else { return };
        if field.is_spare() {
            return;
        }
        if let [Op::Bytes { byte, count }] = ops {
            let all: Vec<String> = (*byte..byte + *count as usize).map(|byte| format!("b[{byte}]")).collect();
            return self.known(index, section, field, &step.action, &format!("[{}]", all.join(", ")), code);
        }
        let at = self.places.of_slot(slot).unwrap_or(0);
        let shown = self.open(field, &step.action, step.place, code);
        match &step.action {
            Action::List(list) if shown == Shown::Elements => self.list(field, list, ops, at, code),
            Action::Run { length, text } if shown != Shown::Value => {
                let order = little(self.group.order);
                let r = if matches!(length, Length::UpTo(_)) { "mut r" } else { "r" };
                code.open(format!("let some = self.reader(self.at[{at}]).map(|{r}| {{"));
                let count = match length {
                    Length::Exact(count) => count.to_string(),
                    Length::UpTo(most) => format!("r.count({most}, {order}).unwrap_or(0)"),
                    Length::Rest => "(r.end * 8 - r.bit) / 8".to_owned(),
                };
                code.line(format!("let many = {count};"));
                code.line("stretch(r.body, r.bit / 8, r.bit / 8 + many)");
                code.close("});");
                let unpadded = if matches!(length, Length::Exact(_)) {
                    "core::str::from_utf8(unpadded(some))"
                } else {
                    "core::str::from_utf8(some)"
                };
                let lacking = match &field.default {
                    Some(Value::Bytes(some)) => format!("&{}", bytes(some)),
                    _ => "&[]".to_owned(),
                };
                code.lines(&match (text, field.optional) {
                    (true, true) => format!("some.map(|some| {unpadded})"),
                    (true, false) => format!("let some = some.unwrap_or({lacking});\n{unpadded}"),
                    (false, true) => "some".to_owned(),
                    (false, false) => format!("some.unwrap_or({lacking})"),
                });
            }
            action => {
                let ty = self.owner.type_of(field, action);
                let mut inner = Code::default();
                self.reader().value(field, ops, "one", &mut inner);
                if inner.is_used(VIEW) {
                    code.line("let view = *self;");
                }
                let inner = inner.finish();
                code.open(format!("let read = |r: &mut Reader<'_>| -> Result<{ty}, Error> {{"));
                code.line("let one;");
                code.lines(&inner);
                code.line("Ok(one)");
                code.close("};");
                let read = format!("self.reader(self.at[{at}]).and_then(|mut r| read(&mut r).ok())");
                code.line(match field.optional {
                    true => read,
                    false => match self.owner.missing_value(field, action) {
                        lacking if lacking.ends_with("::default()") => format!("{read}.unwrap_or_default()"),
                        lacking => format!("{read}.unwrap_or({lacking})"),
                    },
                });
            }
        }
        code.close("}");
    }

    fn reader(&self) -> Reader<'_> {
        Reader::of(self.group, self.owner, ("view.", "()"))
    }

    /// The elements of a list, one after the other.
    fn list(&self, field: &Field, list: &ListPlan, ops: &[Op<'_>], at: usize, code: &mut Code) {
        let order = little(self.group.order);
        let Some((once, each)) = ops.iter().find_map(|op| match op {
            Op::Repeat { once, each, .. } => Some((*once, each)),
            _ => None,
        }) else {
            return;
        };
        let ty = self.owner.type_of(&list.element.field, &list.element.action);
        let mut inner = Code::default();
        self.reader().value(&list.element.field, each, "one", &mut inner);
        if inner.is_used(VIEW) {
            code.line("let view = *self;");
        }
        let inner = inner.finish();
        match field.optional {
            true => {
                code.open(format!("self.reader(self.at[{at}]).map(move |mut r| {{"));
            }
            false => code.line(format!("let mut r = self.reader(self.at[{at}]).unwrap_or(Reader::new(&[], None));")),
        }
        for op in ops {
            match op {
                Op::Align => code.line("r.align();"),
                Op::Repeat { .. } => break,
                _ => {}
            }
        }
        if let Length::UpTo(most) = list.length {
            code.line(format!("let mut left = r.count({most}, {order}).unwrap_or(0);"));
        }
        if let Some(bytes) = once {
            code.lines(&element_size(list, bytes, order, ".unwrap_or(0)"));
        }
        code.open("core::iter::from_fn(move || {");
        match list.length {
            Length::UpTo(_) => code.line("left = left.checked_sub(1)?;"),
            _ => {
                code.open("if r.bit + 8 > r.end * 8 {");
                code.line("return None;");
                code.close("}");
            }
        }
        code.open(format!("let next = |r: &mut Reader<'_>| -> Result<{ty}, Error> {{"));
        code.line("let one;");
        code.lines(&inner);
        code.line("Ok(one)");
        code.close("};");
        code.line("next(&mut r).ok()");
        code.close("})");
        if field.optional {
            code.close("})");
        }
    }
}

/// For the test program: that a view shows what decoding gives.
pub fn check(group: &Group<'_>, code: &mut Code) {
    let (name, view) = (class(group.name), type_of(group.name));
    let has_key = group.named().any(|(_, _, action)| depends_on_request(action));
    let sections = sections(group);
    code.open(format!(
        "fn view_{}(body: &[u8], {}: Option<u64>) {{",
        plain_snake(group.name),
        if has_key { "key" } else { "_" }
    ));
    code.line(match has_key {
        true => format!(
            "let (read, view) = match key {{ Some(key) => ({name}::decode_answer(body, key), {view}::of_answer(body, key)), None => ({name}::decode(body), {view}::new(body)) }};"
        ),
        false => format!("let (read, view) = ({name}::decode(body), {view}::new(body));"),
    });
    code.line("assert_eq!(read.as_ref().err(), view.as_ref().err(), \"{body:02x?}\");");
    code.line("let (Ok(m), Ok(view)) = (read, view) else { return };");
    code.line("same!(m.sections_held, view.sections_held());");
    for section in &sections {
        for step in section.plan.steps.iter().filter(|step| !group.fields[step.slot].is_spare()) {
            let field = &group.fields[step.slot];
            let member = member(&field.name);
            code.line(match (Getters::shown(&step.action, step.place), field.optional) {
                (Shown::Elements, true) => format!("same!(m.{member}.as_ref().map(|some| some.as_slice().to_vec()), view.{member}().map(|some| some.collect::<::std::vec::Vec<_>>()));"),
                (Shown::Elements, false) => format!("same!(m.{member}.as_slice(), view.{member}().collect::<::std::vec::Vec<_>>());"),
                (Shown::Text, true) => format!("same!(m.{member}.as_ref().map(|some| some.as_str()), view.{member}().map(|some| some.ok()));"),
                (Shown::Text, false) => format!("same!(m.{member}.as_str(), view.{member}().ok());"),
                (Shown::Bytes, true) => format!("same!(m.{member}.as_ref().map(|some| some.as_slice()), view.{member}());"),
                (Shown::Bytes, false) => format!("same!(m.{member}.as_slice(), view.{member}());"),
                (Shown::Value, _) => format!("same!(m.{member}, view.{member}());"),
            });
        }
    }
    code.close("}");
}
