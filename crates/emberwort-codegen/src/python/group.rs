//! The classes of messages and records: their members.

use emberwort_model::model::Kind;
use emberwort_model::plan::Action;

use super::names::{class, doc, member, text};
use super::read::read;
use super::values::{default, python_type};
use super::write::write;
use crate::code::Code;
use crate::lower::{FieldContent, Floats, Group, conversions};

/// The whole class of a message or a record.
pub(crate) fn write_class(group: &Group<'_>, code: &mut Code) {
    let class = class(group.name);
    code.line("");
    code.line("");
    code.line("@dataclass");
    code.open(format!("class {class}:"));
    let said = doc(group.doc);
    let said = if said.is_empty() { doc(group.name) } else { said };
    let lines = match group.is_line {
        true => {
            "\n\nOn the wire it is a line of text, which this module neither writes nor reads: encode() and decode() are of a body."
        }
        false => "",
    };
    code.lines(&format!("\"\"\"{said}{lines}\"\"\""));
    code.line("");
    for (_, field, action) in group.named() {
        for line in doc(&field.doc).lines().filter(|line| !line.is_empty()) {
            code.line(format!("#: {line}"));
        }
        let about = match action {
            Action::Run { .. } => String::new(),
            _ => FieldContent::of(field, Floats::Numbers).to_string(),
        };
        if !about.is_empty() {
            code.line(format!("#: {}", doc(&about)));
        }
        let ty = python_type(field, action);
        let ty = if field.optional { format!("Optional[{ty}]") } else { ty };
        code.line(format!("{}: {ty} = {}", member(&field.name), default(field, action)));
    }
    if let Some(id) = group.message {
        code.line("#: How many sections the sender writes; fields of the others hold their defaults.");
        code.line(format!("sections_held: int = {}", group.sections.len()));
        code.line("");
        code.line(format!("SECTIONS: ClassVar[int] = {}", group.sections.len()));
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
    physical(group, code);
    read(group, code);
    write(group, code);
    code.dedent();
}

/// Functions for physical values.
fn physical(group: &Group<'_>, code: &mut Code) {
    for (_, field, _) in group.named() {
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
                text(&format!("{}.{}", group.name, field.name)),
            ));
    }
}
