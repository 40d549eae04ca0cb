//! Messages and records: their structs.

use emberwort_model::model::{Field, Kind};
use emberwort_model::plan::{Action, UnionPlan};

use super::names::{class, doc, field_doc, member, text};
use super::read::read;
use super::values::{Owner, number_type};
use super::write::write;
use super::{ordered, view};
use crate::code::Code;
use crate::lower::{Group, conversions};

/// A message or a record.
pub(crate) struct GroupPrinter<'a> {
    /// Which one.
    pub group: &'a Group<'a>,
    /// Most bytes of a field that reaches to the body's end.
    pub rest: usize,
}

impl GroupPrinter<'_> {
    fn owner(&self) -> Owner<'_> {
        Owner { name: self.group.name, rest: self.rest }
    }

    fn what(&self, field: &Field) -> String {
        format!("{}.{}", self.group.name, field.name)
    }

    /// All that there is of it.
    pub fn write(&self, code: &mut Code) {
        for (_, field, action) in self.group.named() {
            if let Action::Union(union) = action {
                self.union(field, union, code);
            }
        }
        self.structure(code);
        let class = class(self.group.name);
        code.line("");
        code.open(format!("impl {class} {{"));
        self.constants(code);
        for (_, field, _) in self.group.named() {
            self.physical(field, code);
        }
        read(self.group, self.owner(), code);
        write(self.group, self.owner(), code);
        if self.group.message.is_none() {
            view::pass(self.group, self.owner(), code);
        }
        code.close("}");
        if view::has_view(self.group) {
            view::write(self.group, self.owner(), code);
        }
        if ordered::has_writer(self.group) {
            ordered::write(self.group, self.owner(), code);
        }
    }

    fn union(&self, field: &Field, union: &UnionPlan, code: &mut Code) {
        let name = self.owner().union_type(field);
        code.line("");
        code.lines(&doc(&format!("The forms of {} of {}.", field.name, self.group.name)));
        code.line("#[derive(Clone, Copy, Debug, PartialEq)]");
        code.open(format!("pub enum {name} {{"));
        for form in &union.forms {
            let said = doc(&form.field.doc);
            code.lines(if said.is_empty() { doc(&form.field.name) } else { said }.trim_end());
            code.line(format!("{}({}),", class(&form.field.name), self.owner().type_of(&form.field, &form.action)));
        }
        code.close("}");
        let Some(first) = union.forms.first() else { return };
        code.line("");
        code.open(format!("impl Default for {name} {{"));
        code.open("fn default() -> Self {");
        code.line(format!(
            "Self::{}({})",
            class(&first.field.name),
            self.owner().missing_value(&first.field, &first.action)
        ));
        code.close("}");
        code.close("}");
        blank(&name, code);
    }

    fn structure(&self, code: &mut Code) {
        let class = class(self.group.name);
        code.line("");
        let said = doc(self.group.doc);
        code.lines(if said.is_empty() { doc(self.group.name) } else { said }.trim_end());
        if self.group.is_line {
            code.lines("///\n/// On the wire it is a line of text, which this module neither writes nor reads: these functions are of a body.");
        }
        code.line("#[derive(Clone, Copy, Debug, PartialEq)]");
        code.open(format!("pub struct {class} {{"));
        for (_, field, action) in self.group.named() {
            code.lines(field_doc(field, action).trim_end());
            let ty = self.owner().type_of(field, action);
            let ty = if field.optional { format!("Option<{ty}>") } else { ty };
            code.line(format!("pub {}: {ty},", member(&field.name)));
        }
        if self.group.message.is_some() {
            code.line("/// How many sections the sender writes; fields of the others hold their defaults.");
            code.line("pub sections_held: u8,");
        }
        code.close("}");
        code.line("");
        code.open(format!("impl Default for {class} {{"));
        code.open("fn default() -> Self {");
        code.open("Self {");
        for (_, field, action) in self.group.named() {
            code.line(format!("{}: {},", member(&field.name), self.owner().missing_value(field, action)));
        }
        if self.group.message.is_some() {
            code.line(format!("sections_held: {},", self.group.sections.len()));
        }
        code.close("}");
        code.close("}");
        code.close("}");
        if self.group.message.is_none() {
            blank(&class, code);
        }
    }

    fn constants(&self, code: &mut Code) {
        if self.group.message.is_some() {
            code.line("/// How many sections there are.");
            code.line(format!("pub const SECTIONS: u8 = {};", self.group.sections.len()));
        }
        if let Some(Some(id)) = self.group.message {
            code.line("/// What selects the message in frames.");
            code.line(format!("pub const ID: {} = {id:#x};", if id > 0xffff_ffff { "u64" } else { "u32" }));
        }
        if let Some(greatest) = self.group.greatest {
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
