//! Writing the fields of a group to a body.

use emberwort_model::model::{Field, Length, Selector};
use emberwort_model::plan::{Action, ElementSizes, ListPlan, Step, count_bytes};

use super::cursor::{Cursor, Size};
use super::known::byte_at;
use super::{Group, Target, indented};
use crate::c::numbers;
use crate::c::words::member;
use crate::code::Code;
use crate::lower::is_ascii;
use crate::names::snake;

impl Group<'_> {
    /// What writes the field of a step at the cursor, and goes behind it.
    pub fn write_step(&self, cursor: Cursor, step: &Step, target: &str) -> Vec<String> {
        let field = &self.fields[step.slot];
        let name = member(&field.name);
        let stem = format!("{}_{name}", self.stem);
        let writer = Writer { group: self, cursor };
        writer.write(&stem, field, &step.action, Target { prefix: target, name: &name }, 0)
    }
}

/// Prints what writes values at a cursor.
struct Writer<'g, 'a> {
    group: &'g Group<'a>,
    cursor: Cursor,
}

impl Writer<'_, '_> {
    fn room(&self, size: &Size<'_>) -> String {
        self.group.room(self.cursor, size)
    }

    fn invalid(&self, stem: &str, field: &Field, value: &str) -> Option<String> {
        let is_needed = !numbers::is_always_valid(field);
        is_needed.then(|| format!("if (!{stem}_valid({value})) {{\n    return {}_OUT_OF_RANGE;\n}}", self.group.upper))
    }

    fn too_many(&self, count: &str, max: u32) -> Option<String> {
        let greatest = if count_bytes(max) == 1 { 255 } else { 65_535 };
        (max < greatest).then(|| format!("if ({count} > {max}u) {{\n    return {}_TOO_MANY;\n}}", self.group.upper))
    }

    /// Statements that refuse a text with other characters than those of ASCII; one that is too long is refused before it is looked at.
    fn not_ascii(&self, length: Length, target: Target<'_>) -> Vec<String> {
        let (link, upper, count) = (self.group.link, &self.group.upper, target.length());
        let most = match length {
            Length::Exact(most) | Length::UpTo(most) => self.too_many(&count, most),
            Length::Rest => None,
        };
        let refused =
            format!("if (!{link}_is_ascii({}, {count})) {{\n    return {upper}_OUT_OF_RANGE;\n}}", target.value());
        most.into_iter().chain([refused]).collect()
    }

    fn write(&self, stem: &str, field: &Field, action: &Action, target: Target<'_>, depth: usize) -> Vec<String> {
        let (cursor, Group { link, upper, .. }) = (self.cursor, self.group);
        let value = target.value();
        let mut lines = Vec::new();
        match action {
            Action::Bits { width, order, .. } => {
                let size = Size::Bits(u64::from(*width));
                lines.extend(self.invalid(stem, field, &value));
                lines.push(self.room(&size));
                lines.extend(self.group.put_number(cursor, &field.kind, *width, *order, &value));
                lines.push(cursor.go(&size));
            }
            Action::Varint { width, signed } => {
                lines.extend(self.invalid(stem, field, &value));
                let bits = if *width > 32 { 64 } else { 32 };
                let raw = if *signed {
                    format!("((uint{bits}_t)(int{bits}_t){value} << 1) ^ ({value} < 0 ? UINT{bits}_MAX : 0u)")
                } else {
                    format!("(uint{bits}_t){value}")
                };
                let put = |place: &str| {
                    format!(
                        "if (!{link}_put_compact{bits}(body, room, &{place}, {raw})) {{\n    return {upper}_NO_ROOM;\n}}"
                    )
                };
                match cursor {
                    Cursor::Bytes => lines.push(put("here")),
                    Cursor::Bits => {
                        lines.push("{".into());
                        lines.push("    size_t inner = bit / 8u;".into());
                        lines.extend(indented(&[put("inner"), "bit = inner * 8u;".into()]));
                        lines.push("}".into());
                    }
                }
            }
            Action::Skip { bits } => {
                let size = Size::Bits(u64::from(*bits));
                lines.push(self.room(&size));
                if cursor == Cursor::Bytes {
                    lines.push(format!("memset(body + here, 0, {}u);", bits / 8));
                }
                lines.push(cursor.go(&size));
            }
            Action::Run { length, text } => {
                if is_ascii(field) {
                    lines.extend(self.not_ascii(*length, target));
                }
                self.write_run(*length, *text, target, depth, &mut lines);
            }
            Action::Record(record) => {
                let name = snake(&record.record.name);
                lines.push("{".into());
                let start = if cursor == Cursor::Bytes { "here" } else { "(bit + 7u) / 8u" };
                lines.push(format!("    size_t inner = {start};"));
                lines.push(format!(
                    "    {link}_codec_result_t result = {link}_{name}_write(body, room, &inner, &{value}, revision);"
                ));
                lines.push(format!("    if (result != {upper}_OK) {{\n        return result;\n    }}"));
                lines.push(format!("    {}\n}}", cursor.go_to("inner")));
            }
            Action::List(list) => self.write_list(stem, list, target, depth, &mut lines),
            Action::Union(union) => {
                lines.extend(cursor.align());
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
                    inner.extend(self.write(&stem, &form.field, &form.action, element, depth + 1));
                    inner.push("break;".into());
                    lines.push(format!("case {index}u:"));
                    lines.extend(indented(&inner));
                }
                lines.push(format!("default:\n    return {upper}_NO_FORM;\n}}"));
            }
        }
        lines
    }

    fn write_run(&self, length: Length, text: bool, target: Target<'_>, depth: usize, lines: &mut Vec<String>) {
        let (cursor, link, value) = (self.cursor, self.group.link, target.value());
        match length {
            Length::Exact(count) => {
                if text {
                    lines.extend(self.too_many(&target.length(), count));
                }
                let size = Size::Bits(u64::from(count) * 8);
                lines.push(self.room(&size));
                let used = if text { target.length() } else { format!("{count}u") };
                match cursor {
                    Cursor::Bytes => {
                        if text {
                            // A shorter text is filled up with zeros.
                            lines.push(format!("memset(body + here, 0, {count}u);"));
                        }
                        lines.push(format!("memcpy(body + here, {value}, {used});"));
                    }
                    Cursor::Bits => {
                        lines.push("{".into());
                        lines.push(format!("    size_t b{depth};"));
                        lines.push(format!("    for (b{depth} = 0; b{depth} < {used}; b{depth}++) {{"));
                        lines.push(format!(
                            "        {link}_put(body, bit + b{depth} * 8u, 8u, (uint8_t){value}[b{depth}]);\n    }}\n}}"
                        ));
                    }
                }
                lines.push(cursor.go(&size));
                return;
            }
            Length::UpTo(max) => {
                let bytes = count_bytes(max);
                let size = Size::Bits(u64::from(bytes) * 8);
                lines.extend(self.too_many(&target.length(), max));
                lines.push(self.room(&size));
                lines.extend(self.group.put_count(cursor, bytes, &target.length()));
                lines.push(cursor.go(&size));
            }
            Length::Rest => {}
        }
        let count = target.length();
        lines.push(self.room(&Size::Bytes(&count)));
        lines.push(format!("if ({count} > 0u) {{\n    memcpy(body + {}, {value}, {count});\n}}", cursor.byte()));
        lines.push(cursor.go(&Size::Bytes(&count)));
    }

    /// The check that the deciding field selects the form that is given.
    fn decided(&self, union: &emberwort_model::model::Union, index: usize, slot: usize, target: Target<'_>) -> String {
        let decider = format!("(uint64_t){}{}", target.prefix, member(&self.group.fields[slot].name));
        let condition = match union.cases.get(index) {
            Some(case) => format!("{decider} != UINT64_C({})", case.raw),
            None => {
                let others: Vec<String> =
                    union.cases.iter().map(|case| format!("{decider} == UINT64_C({})", case.raw)).collect();
                if others.is_empty() { "false".into() } else { others.join(" || ") }
            }
        };
        format!("if ({condition}) {{\n    return {}_NO_FORM;\n}}", self.group.upper)
    }

    fn write_list(&self, stem: &str, list: &ListPlan, target: Target<'_>, depth: usize, lines: &mut Vec<String>) {
        let (cursor, Group { link, upper, .. }) = (self.cursor, self.group);
        let n = format!("n{depth}");
        lines.push("{".into());
        let mut inner = vec![format!("size_t {n};")];
        let count = match list.length {
            Length::Exact(count) => format!("{count}u"),
            Length::UpTo(max) => {
                let bytes = count_bytes(max);
                let size = Size::Bits(u64::from(bytes) * 8);
                inner.extend(self.too_many(&target.count(), max));
                inner.push(self.room(&size));
                inner.extend(self.group.put_count(cursor, bytes, &target.count()));
                inner.push(cursor.go(&size));
                target.count()
            }
            Length::Rest => {
                let capacity = self.group.capacity(list);
                inner.push(format!("if ({} > {capacity}u) {{\n    return {upper}_TOO_MANY;\n}}", target.count()));
                target.count()
            }
        };
        if let (ElementSizes::Once(bytes), Action::Record(record)) = (list.sizes, &list.element.action) {
            let sizes: Vec<String> = record
                .sections
                .iter()
                .map(|section| format!("(revision >= {}u ? {}u : 0u)", section.revision, section.greatest_size))
                .collect();
            let size = Size::Bits(u64::from(bytes) * 8);
            let mut put = cursor.align();
            put.push(self.room(&size));
            put.extend(self.group.put_count(cursor, bytes, &format!("({})", sizes.join(" + "))));
            put.push(cursor.go(&size));
            if list.length == Length::Rest {
                inner.push(format!("if ({count} > 0u) {{"));
                inner.extend(indented(&put));
                inner.push("}".into());
            } else {
                inner.extend(put);
            }
        }
        inner.push(format!("for ({n} = 0; {n} < {count}; {n}++) {{"));
        let mut one: Vec<String> = Vec::new();
        if list.element.aligned {
            one.extend(cursor.align());
        }
        let (prefix, name) = self.group.element_at(list, target, &n);
        let element = Target { prefix: &prefix, name: &name };
        match (&list.element.action, list.sizes) {
            (Action::Record(record), ElementSizes::Each(bytes)) => {
                let name = snake(&record.record.name);
                one.push(self.room(&Size::Bits(u64::from(bytes) * 8)));
                one.push("{".into());
                one.push(format!("    size_t inner = {} + {bytes}u;", cursor.byte()));
                one.push("    size_t first = inner;".into());
                one.push(format!(
                    "    {link}_codec_result_t result = {link}_{name}_write(body, room, &inner, &{}, revision);",
                    element.value()
                ));
                one.push(format!("    if (result != {upper}_OK) {{\n        return result;\n    }}"));
                one.extend(indented(&self.group.put_count(cursor, bytes, "(inner - first)")));
                one.push(format!("    {}\n}}", cursor.go_to("inner")));
            }
            (action, _) => one.extend(self.write(stem, &list.element.field, action, element, depth + 1)),
        }
        inner.extend(indented(&one));
        inner.push("}".into());
        lines.extend(indented(&inner));
        lines.push("}".into());
    }
}

impl Group<'_> {
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
            let cursor = Cursor::of(section);
            let mut block = self.write_known(section, &known, target);
            let moving = &section.steps[section.fixed_steps..];
            let begin = self.begin_moving(section, &known);
            for (n, step) in moving.iter().enumerate() {
                let field = &self.fields[step.slot];
                let mut lines = self.place(cursor, step, &known);
                if n == 0 {
                    lines.retain(|line| *line != begin);
                    block.push(begin.clone());
                }
                let hidden = field.is_spare();
                if let Some(presence) = step.presence.filter(|_| !hidden) {
                    let byte = byte_at(&known, presence as usize / 8);
                    lines.push(format!("{byte} = (uint8_t)({byte} | {:#04X}u);", 1u32 << (presence % 8)));
                }
                lines.extend(self.write_step(cursor, step, target));
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
            block.push(match (section.fixed, known.start, cursor) {
                (true, Some(start), _) => format!("start = {}u;", start + section.greatest_size),
                (true, None, _) => format!("start += {}u;", section.greatest_size),
                (false, _, Cursor::Bytes) => "start = here;".into(),
                (false, _, Cursor::Bits) => "start = (bit + 7u) / 8u;".into(),
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
