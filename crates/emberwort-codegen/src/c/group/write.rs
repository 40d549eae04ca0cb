//! Writing the fields of a group to a body.

use emberwort_model::model::{Length, Selector};
use emberwort_model::plan::{Action, ElementSizes, ListPlan, Place, Step, count_bytes};

use super::{ALIGN, Group, Target, indented};
use crate::c::words::member;
use crate::code::Code;
use crate::names::snake;

impl Group<'_> {
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
            Action::Varint { signed, .. } => {
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
            Action::Union(union) => {
                lines.push(ALIGN.into());
                let meaning = &union.union;
                lines.push(format!("switch ({}) {{", target.form()));
                for (index, form) in union.forms.iter().enumerate() {
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
    fn decided(&self, union: &emberwort_model::model::Union, index: usize, slot: usize, target: Target<'_>) -> String {
        let decider = format!("(uint64_t){}{}", target.prefix, member(&self.fields[slot].name));
        let condition = match union.cases.get(index) {
            Some(case) => format!("{decider} != UINT64_C({})", case.raw),
            None => {
                let others: Vec<String> =
                    union.cases.iter().map(|case| format!("{decider} == UINT64_C({})", case.raw)).collect();
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
        let (prefix, name) = self.element_at(list, target, &n);
        let element = Target { prefix: &prefix, name: &name };
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
            let known = self.known(index);
            let mut block = self.write_known(section, &known, target);
            if !section.fixed {
                block.push(format!("bit = start * 8u + {}u;", section.fixed_end));
            }
            for step in &section.steps[section.fixed_steps..] {
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
            block.push(match (section.fixed, known.start) {
                (true, Some(start)) => format!("start = {}u;", start + section.greatest_size),
                (true, None) => format!("start += {}u;", section.greatest_size),
                (false, _) => "start = (bit + 7u) / 8u;".into(),
            });
            for line in block.join("\n").lines() {
                source.line(format!("{pad}{line}"));
            }
            if index > 0 {
                source.line("    }");
            }
        }
    }
}
