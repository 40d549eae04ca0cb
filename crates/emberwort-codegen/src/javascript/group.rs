//! The classes of messages and records, and what there is of them in a script.

use emberwort_model::model::{Field, Kind, Length, Value};
use emberwort_model::plan::Action;

use super::flavour::Flavour;
use super::names::{after_word, bytes, class, comment, doc, member, text};
use super::numbers::{conversions, given, literal};
use crate::code::Code;
use crate::lower::Group;

/// A message or a record in one of the flavours.
pub(crate) struct GroupPrinter<'a> {
    /// Which one.
    pub group: &'a Group<'a>,
    /// The flavour.
    pub flavour: Flavour,
}

impl GroupPrinter<'_> {
    /// The class of a message or a record, in a module.
    pub fn class(&self, code: &mut Code) {
        let class = class(self.group.name);
        code.line("");
        code.lines(&comment(&self.about()));
        code.open(format!("export class {class} {{"));
        code.open("constructor(values) {");
        for (_, field, action) in self.group.named() {
            code.line(format!("this.{} = {};", member(&field.name), self.missing_value(field, action)));
        }
        if self.group.message.is_some() {
            code.line(format!("this.sectionsHeld = {};", self.group.sections.len()));
        }
        code.open("if (values !== undefined) {");
        code.line("assign(this, values);");
        code.close("}");
        code.close("}");
        if self.group.message.is_some() {
            code.lines(&format!(
                "\n/** The bytes of the body. */\nencode() {{\n  const w = writer();\n  write{class}(w, this);\n  return new Uint8Array(w.out);\n}}\n\
                 \n/** Reads a body; `key` is what a request asked for, where it decides about the form of a value. */\n\
                 static decode(body, key) {{\n  return read{class}(reader(body, key));\n}}"
            ));
        }
        for (_, field, _) in self.group.named() {
            self.physical(field, code);
        }
        code.close("}");
        if self.group.message.is_some() {
            code.line(format!("{class}.SECTIONS = {};", self.group.sections.len()));
        }
        if let Some(Some(id)) = self.group.message {
            code.line(format!("{class}.ID = {id:#x};"));
        }
    }

    /// What stands above a class.
    pub fn about(&self) -> String {
        let said = doc(self.group.doc);
        let said = if said.is_empty() { doc(self.group.name) } else { said };
        match self.group.is_line {
            true => format!(
                "{said}\n\nOn the wire it is a line of text, which this module neither writes nor reads: encode() and decode() are of a body."
            ),
            false => said,
        }
    }

    /// A new one as a plain object, in a script.
    pub fn maker(&self, code: &mut Code) {
        code.line("");
        code.open(format!("function new{}() {{", class(self.group.name)));
        code.open("return {");
        let mut all: Vec<String> = self
            .group
            .named()
            .map(|(_, field, action)| format!("{}: {}", member(&field.name), self.missing_value(field, action)))
            .collect();
        if self.group.message.is_some() {
            all.push(format!("sectionsHeld: {}", self.group.sections.len()));
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
            after_word("physical", &name),
            none("  if (raw === NONE) {\n    return null;\n  }\n"),
            after_word("raw", &name),
            none("  if (value === null) {\n    return NONE;\n  }\n"),
            text(&format!("{}.{}", self.group.name, field.name)),
        ));
    }

    // ---- values ----

    /// The value of a field that nobody gave, or that the sender's revision lacks.
    fn missing_value(&self, field: &Field, action: &Action) -> String {
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
}
