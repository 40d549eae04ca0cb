//! What says whether all values of a struct may be sent, and which one may not.

use emberwort_model::model::{Field, Length, Selector};
use emberwort_model::plan::{Action, ListPlan, UnionPlan, count_bytes};

use super::{Group, Target, indented};
use crate::c::numbers;
use crate::c::words::{literal, member};
use crate::code::Code;
use crate::lower::is_ascii;
use crate::names::snake;

impl Group<'_> {
    /// The function `_validate` of a message or a record with this name.
    pub fn validate(&self, name: &str, header: &mut Code) {
        let Self { link, upper, stem, .. } = *self;
        let what = if self.is_body { "message" } else { "record" };
        let check = Check { group: self, name };
        let mut lines = Vec::new();
        if self.is_body {
            let wrong = |result: &str| {
                format!("    *field = {};\n    return {upper}_{result};\n}}", literal(&format!("{name}.sections_held")))
            };
            let sections = self.sections.len();
            lines.push(format!("if ({what}->sections_held < 1u) {{\n{}", wrong("NOT_INITIALISED")));
            lines.push(format!("if ({what}->sections_held > {sections}u) {{\n{}", wrong("OUT_OF_RANGE")));
        }
        let prefix = format!("{what}->");
        for (index, section) in self.sections.iter().enumerate() {
            let mut of_section = Vec::new();
            for step in section.steps.iter().filter(|step| !self.fields[step.slot].is_spare()) {
                let field = &self.fields[step.slot];
                let name = member(&field.name);
                let stem = format!("{stem}_{name}");
                let found = check.value(&stem, field, &step.action, Target { prefix: &prefix, name: &name }, 0);
                if step.presence.is_some() && !found.is_empty() {
                    of_section.push(format!("if ({prefix}has_{name}) {{"));
                    of_section.extend(indented(&found));
                    of_section.push("}".into());
                } else {
                    of_section.extend(found);
                }
            }
            if index > 0 && self.is_body && !of_section.is_empty() {
                lines.push(format!("if ({prefix}sections_held > {index}u) {{"));
                lines.extend(indented(&of_section));
                lines.push("}".into());
            } else {
                lines.extend(of_section);
            }
        }
        header.lines(&format!(
            "/* Whether all values may be sent; if not, *field is the name of the first that may not, else NULL. ..._encode() looks at the same. */\n\
             static inline {link}_codec_result_t {stem}_validate(const {stem}_t *{what}, const char **field)\n{{"
        ));
        let uses = |name: &str| lines.iter().any(|line| line.contains(name));
        if !uses(&prefix) {
            header.line(format!("    (void){what};"));
        }
        indented(&lines).for_each(|line| header.line(line));
        header.lines(&format!("    *field = NULL;\n    return {upper}_OK;\n}}\n"));
        header.line("");
    }
}

/// Prints the checks of values.
struct Check<'g, 'a> {
    group: &'g Group<'a>,
    /// The name of the message or record.
    name: &'g str,
}

impl Check<'_, '_> {
    /// What ends the function.
    fn refusal(&self, field: &Field, result: &str) -> [String; 2] {
        let what = if field.name.is_empty() { self.name.to_owned() } else { format!("{}.{}", self.name, field.name) };
        [format!("*field = {};", literal(&what)), format!("return {}_{result};", self.group.upper)]
    }

    /// What ends the function if a condition holds.
    fn wrong(&self, condition: &str, field: &Field, result: &str) -> String {
        let refusal: Vec<String> = indented(&self.refusal(field, result)).collect();
        format!("if ({condition}) {{\n{}\n}}", refusal.join("\n"))
    }

    fn too_many(&self, count: &str, most: u32, field: &Field) -> Option<String> {
        let greatest = if count_bytes(most) == 1 { 255 } else { 65_535 };
        (most < greatest).then(|| self.wrong(&format!("{count} > {most}u"), field, "TOO_MANY"))
    }

    fn value(&self, stem: &str, field: &Field, action: &Action, target: Target<'_>, depth: usize) -> Vec<String> {
        match action {
            Action::Bits { .. } | Action::Varint { .. } => {
                let is_needed = !numbers::is_always_valid(field);
                let condition = format!("!{stem}_valid({})", target.value());
                is_needed.then(|| self.wrong(&condition, field, "OUT_OF_RANGE")).into_iter().collect()
            }
            Action::Run { length, text } => {
                let count = target.length();
                let too_many = match length {
                    Length::UpTo(most) => self.too_many(&count, *most, field),
                    Length::Exact(most) if *text => self.too_many(&count, *most, field),
                    Length::Exact(_) | Length::Rest => None,
                };
                let not_ascii = is_ascii(field).then(|| {
                    let condition = format!("!{}_is_ascii({}, {count})", self.group.link, target.value());
                    self.wrong(&condition, field, "OUT_OF_RANGE")
                });
                too_many.into_iter().chain(not_ascii).collect()
            }
            Action::Skip { .. } => Vec::new(),
            Action::Record(record) => {
                let Group { link, upper, .. } = *self.group;
                let name = snake(&record.record.name);
                vec![format!(
                    "{{\n    const {link}_codec_result_t result = {link}_{name}_validate(&{}, field);\n    \
                         if (result != {upper}_OK) {{\n        return result;\n    }}\n}}",
                    target.value()
                )]
            }
            Action::List(list) => self.list(stem, field, list, target, depth),
            Action::Union(union) => self.union(stem, field, union, target, depth),
        }
    }

    fn list(&self, stem: &str, field: &Field, list: &ListPlan, target: Target<'_>, depth: usize) -> Vec<String> {
        let mut lines = Vec::new();
        let count = match list.length {
            Length::Exact(count) => format!("{count}u"),
            Length::UpTo(most) => {
                lines.extend(self.too_many(&target.count(), most, field));
                target.count()
            }
            Length::Rest => {
                let most = self.group.capacity(list);
                lines.push(self.wrong(&format!("{} > {most}u", target.count()), field, "TOO_MANY"));
                target.count()
            }
        };
        let n = format!("n{depth}");
        let (prefix, name) = self.group.element_at(list, target, &n);
        let element = Target { prefix: &prefix, name: &name };
        // An element has no name of its own.
        let named = Field { name: field.name.clone(), ..(*list.element.field).clone() };
        let one = self.value(stem, &named, &list.element.action, element, depth + 1);
        if !one.is_empty() {
            lines.push(format!("{{\n    size_t {n};\n    for ({n} = 0; {n} < {count}; {n}++) {{"));
            lines.extend(indented(&one).map(|line| format!("    {line}")));
            lines.push("    }\n}".into());
        }
        lines
    }

    fn union(&self, stem: &str, field: &Field, union: &UnionPlan, target: Target<'_>, depth: usize) -> Vec<String> {
        let meaning = &union.union;
        let mut lines = vec![format!("switch ({}) {{", target.form())];
        for (index, form) in union.forms.iter().enumerate() {
            lines.push(format!("case {index}u:"));
            let mut inner = Vec::new();
            if let Selector::Field(slot) = meaning.selector {
                let decider = format!("(uint64_t){}{}", target.prefix, member(&self.group.fields[slot].name));
                let other = match meaning.cases.get(index) {
                    Some(case) => format!("{decider} != UINT64_C({})", case.raw),
                    None => {
                        let cases = meaning.cases.iter().map(|case| format!("{decider} == UINT64_C({})", case.raw));
                        cases.collect::<Vec<_>>().join(" || ")
                    }
                };
                if !other.is_empty() {
                    inner.push(self.wrong(&other, field, "NO_FORM"));
                }
            }
            let name = member(&form.field.name);
            let prefix = format!("{}.{name}.", target.value());
            let element = Target { prefix: &prefix, name: "value" };
            inner.extend(self.value(&format!("{stem}_{name}"), &form.field, &form.action, element, depth + 1));
            inner.push("break;".into());
            lines.extend(indented(&inner));
        }
        lines.push("default:".into());
        lines.extend(indented(&self.refusal(field, "NO_FORM")));
        lines.push("}".into());
        lines
    }
}
