//! Reading the fields of a group from a body, and stepping over those that nobody wants.

use emberwort_model::model::{Field, Length, Selector};
use emberwort_model::plan::{
    Action, Element, ElementSizes, ListPlan, Place, SectionPlan, Step, UnionPlan, count_bytes,
};

use super::cursor::{Cursor, Size};
use super::known::byte_at;
use super::{Group, Take, Target, indented};
use crate::c::numbers;
use crate::c::words::member;
use crate::code::Code;
use crate::lower::Known;
use crate::names::snake;

impl Group<'_> {
    /// What reads the field of a step that lies at the cursor, and goes behind it. `target` stands in front of members' names.
    pub fn read_step(&self, cursor: Cursor, step: &Step, take: Take, target: &str) -> Vec<String> {
        let field = &self.fields[step.slot];
        let name = member(&field.name);
        let mut lines = Vec::new();
        if take == Take::Keep && step.presence.is_some() && !field.is_spare() {
            lines.push(format!("{target}has_{name} = true;"));
        }
        let decides = self.deciders().contains(&step.slot).then_some(step.slot);
        let take = if field.is_spare() { Take::Nothing } else { take };
        let reader = Reader { group: self, cursor, take };
        lines.extend(reader.read(field, &step.action, Target { prefix: target, name: &name }, 0, decides));
        lines
    }
}

/// Prints what reads values at a cursor.
struct Reader<'g, 'a> {
    group: &'g Group<'a>,
    cursor: Cursor,
    take: Take,
}

impl Reader<'_, '_> {
    fn keeps(&self) -> bool {
        self.take == Take::Keep
    }

    fn lacks(&self, size: &Size<'_>) -> String {
        self.group.lacks(self.cursor, size)
    }

    fn read(
        &self,
        field: &Field,
        action: &Action,
        target: Target<'_>,
        depth: usize,
        decides: Option<usize>,
    ) -> Vec<String> {
        let (cursor, Group { link, upper, .. }) = (self.cursor, self.group);
        let mut lines = Vec::new();
        match action {
            Action::Bits { width, order, .. } => {
                let size = Size::Bits(u64::from(*width));
                lines.push(self.lacks(&size));
                let raw = || self.group.number_at(cursor, &field.kind, *width, *order);
                if let Some(slot) = decides {
                    lines.push(format!("key_{slot} = (uint64_t)({});", raw()));
                }
                if self.keeps() {
                    lines.push(format!("{} = {};", target.value(), raw()));
                }
                lines.push(cursor.go(&size));
            }
            Action::Varint { width, signed } => {
                lines.push("{".into());
                let bits = if *width > 32 { 64 } else { 32 };
                lines.push(format!("    uint{bits}_t compact;"));
                let (place, behind) = match cursor {
                    Cursor::Bytes => ("here", None),
                    Cursor::Bits => ("inner", Some("    bit = inner * 8u;")),
                };
                if behind.is_some() {
                    lines.push("    size_t inner = bit / 8u;".into());
                }
                lines.push(format!(
                    "    {link}_codec_result_t result = {link}_get_compact{bits}(body, end, &{place}, {width}u, &compact);"
                ));
                lines.push(format!("    if (result != {upper}_OK) {{\n        return result;\n    }}"));
                lines.extend(behind.map(str::to_owned));
                if *signed {
                    lines.push("    compact = (compact >> 1) ^ (0u - (compact & 1u));".into());
                }
                if let Some(slot) = decides {
                    lines.push(format!("    key_{slot} = compact;"));
                }
                if self.keeps() {
                    let cast = numbers::raw_type(link, &field.kind);
                    let value =
                        if *signed { format!("({cast})(int{bits}_t)compact") } else { format!("({cast})compact") };
                    lines.push(format!("    {} = {value};", target.value()));
                }
                lines.push("}".into());
            }
            Action::Skip { bits } => {
                let size = Size::Bits(u64::from(*bits));
                lines.push(self.lacks(&size));
                lines.push(cursor.go(&size));
            }
            Action::Run { length, text } => self.read_run(*length, *text, target, depth, &mut lines),
            Action::Record(record) => {
                let name = snake(&record.record.name);
                let (function, value) = self.record_function(target);
                lines.push("{".into());
                let start = if cursor == Cursor::Bytes { "here" } else { "(bit + 7u) / 8u" };
                lines.push(format!("    size_t inner = {start};"));
                lines.push(format!(
                    "    {link}_codec_result_t result = {link}_{name}_{function}(body, end, &inner{value});"
                ));
                lines.push(format!("    if (result != {upper}_OK) {{\n        return result;\n    }}"));
                lines.push(format!("    {}\n}}", cursor.go_to("inner")));
            }
            Action::List(list) => self.read_list(list, target, depth, &mut lines),
            Action::Union(union) => self.read_union(union, target, depth, &mut lines),
        }
        lines
    }

    /// The function of a record that reads it, and its last argument, if it keeps the values.
    fn record_function(&self, target: Target<'_>) -> (&'static str, String) {
        if self.keeps() { ("keep", format!(", &{}", target.value())) } else { ("check", String::new()) }
    }

    fn read_run(&self, length: Length, text: bool, target: Target<'_>, depth: usize, lines: &mut Vec<String>) {
        let (cursor, link) = (self.cursor, self.group.link);
        match length {
            Length::Exact(count) => {
                let size = Size::Bits(u64::from(count) * 8);
                lines.push(self.lacks(&size));
                if self.keeps() {
                    let (value, ty) = (target.value(), if text { "char" } else { "uint8_t" });
                    lines.push("{".into());
                    if cursor == Cursor::Bits || text {
                        lines.push(format!("    size_t b{depth};"));
                    }
                    match cursor {
                        Cursor::Bytes => lines.push(format!("    memcpy({value}, body + here, {count}u);")),
                        Cursor::Bits => {
                            lines.push(format!("    for (b{depth} = 0; b{depth} < {count}u; b{depth}++) {{"));
                            lines.push(format!(
                                "        {value}[b{depth}] = ({ty}){link}_get(body, bit + b{depth} * 8u, 8u);\n    }}"
                            ));
                        }
                    }
                    if text {
                        let ty = format!("uint{}_t", count_bytes(count) * 8);
                        lines.push(format!("    b{depth} = {count}u;"));
                        lines.push(format!(
                            "    while (b{depth} > 0u && {value}[b{depth} - 1u] == 0) {{\n        b{depth}--;\n    }}"
                        ));
                        lines.push(format!("    {} = ({ty})b{depth};", target.length()));
                    }
                    lines.push("}".into());
                }
                lines.push(cursor.go(&size));
            }
            Length::UpTo(max) => {
                let bytes = count_bytes(max);
                let size = Size::Bits(u64::from(bytes) * 8);
                lines.push(self.lacks(&size));
                lines.push("{".into());
                lines.push(format!("    size_t count = {};", self.group.count_at(cursor, bytes)));
                lines.extend(indented(&self.too_many("count", max).into_iter().collect::<Vec<_>>()));
                lines.push(format!("    {}", cursor.go(&size)));
                lines.extend(indented(&[self.lacks(&Size::Bytes("count"))]));
                if self.keeps() {
                    lines.push(format!("    {} = (uint{}_t)count;", target.length(), bytes * 8));
                    lines.push(format!("    memcpy({}, body + {}, count);", target.value(), cursor.byte()));
                }
                lines.push(format!("    {}\n}}", cursor.go(&Size::Bytes("count"))));
            }
            Length::Rest => {
                if cursor == Cursor::Bits {
                    lines.push(self.lacks(&Size::Bits(0)));
                }
                if self.keeps() {
                    let ty = if text { "char" } else { "uint8_t" };
                    lines.push(format!("{} = (const {ty} *)(body + {});", target.value(), cursor.byte()));
                    lines.push(format!("{} = end - {};", target.length(), cursor.byte()));
                }
                lines.push(cursor.go_to("end"));
            }
        }
    }

    /// The test that a count is not above its maximum, if it can be.
    fn too_many(&self, count: &str, max: u32) -> Option<String> {
        let greatest = if count_bytes(max) == 1 { 255 } else { 65_535 };
        (max < greatest).then(|| format!("if ({count} > {max}u) {{\n    return {}_TOO_MANY;\n}}", self.group.upper))
    }

    fn read_list(&self, list: &ListPlan, target: Target<'_>, depth: usize, lines: &mut Vec<String>) {
        let (cursor, Group { link, upper, .. }) = (self.cursor, self.group);
        let (count, n, each) = (format!("count{depth}"), format!("n{depth}"), format!("each{depth}"));
        lines.push("{".into());
        let mut inner: Vec<String> = vec![format!("size_t {n};")];
        let rest = list.length == Length::Rest;
        if !rest {
            inner.push(format!("size_t {count};"));
        }
        match list.sizes {
            ElementSizes::Once(_) if rest => inner.push(format!("size_t {each} = 0;")),
            ElementSizes::Once(_) => inner.push(format!("size_t {each};")),
            // Declared where it is read.
            ElementSizes::Each(_) | ElementSizes::None => {}
        }
        match list.length {
            Length::Exact(exact) => inner.push(format!("{count} = {exact}u;")),
            Length::UpTo(max) => {
                let bytes = count_bytes(max);
                let size = Size::Bits(u64::from(bytes) * 8);
                inner.push(self.lacks(&size));
                inner.push(format!("{count} = {};", self.group.count_at(cursor, bytes)));
                inner.extend(self.too_many(&count, max));
                inner.push(cursor.go(&size));
                if self.keeps() {
                    inner.push(format!("{} = (uint{}_t){count};", target.count(), bytes * 8));
                }
            }
            Length::Rest => {}
        }
        let read_size = |bytes: u8| {
            let size = Size::Bits(u64::from(bytes) * 8);
            let mut lines = cursor.align();
            lines.push(self.lacks(&size));
            let declares = if let ElementSizes::Each(_) = list.sizes { "size_t " } else { "" };
            lines.push(format!("{declares}{each} = {};", self.group.count_at(cursor, bytes)));
            lines.push(cursor.go(&size));
            lines
        };
        let is_something_left = match cursor {
            Cursor::Bytes => "here < end",
            Cursor::Bits => "bit + 8u <= end * 8u",
        };
        if let ElementSizes::Once(bytes) = list.sizes {
            if rest {
                inner.push(match cursor {
                    Cursor::Bytes => "if (here < end) {".to_owned(),
                    Cursor::Bits => "if (bit < end * 8u) {".to_owned(),
                });
                let mut size = read_size(bytes);
                if (cursor, bytes) == (Cursor::Bytes, 1) {
                    // There is a byte.
                    size.remove(cursor.align().len());
                }
                inner.extend(indented(&size));
                inner.push("}".into());
            } else {
                inner.extend(read_size(bytes));
            }
        }
        let mut one: Vec<String> = Vec::new();
        if rest {
            inner.push(format!("for ({n} = 0; {is_something_left}; {n}++) {{"));
            let capacity = self.group.capacity(list);
            one.push(format!("if ({n} >= {capacity}u) {{\n    return {upper}_TOO_MANY;\n}}"));
        } else {
            inner.push(format!("for ({n} = 0; {n} < {count}; {n}++) {{"));
        }
        if list.element.aligned {
            one.extend(cursor.align());
        }
        let (prefix, name) = self.group.element_at(list, target, &n);
        let element = Target { prefix: &prefix, name: &name };
        match (&list.element.action, list.sizes) {
            (Action::Record(record), ElementSizes::Once(_) | ElementSizes::Each(_)) => {
                if let ElementSizes::Each(bytes) = list.sizes {
                    one.extend(read_size(bytes));
                }
                // What a later revision added to the element is stepped over.
                one.push(self.lacks(&Size::Bytes(&each)));
                let (function, value) = self.record_function(element);
                let name = snake(&record.record.name);
                one.push("{".into());
                one.push(format!("    size_t inner = {};", cursor.byte()));
                one.push(format!(
                    "    {link}_codec_result_t result = {link}_{name}_{function}(body, inner + {each}, &inner{value});"
                ));
                one.push(format!("    if (result != {upper}_OK) {{\n        return result;\n    }}\n}}"));
                one.push(cursor.go(&Size::Bytes(&each)));
            }
            (action, _) => one.extend(self.read(&list.element.field, action, element, depth + 1, None)),
        }
        inner.extend(indented(&one));
        inner.push("}".into());
        if rest && self.keeps() {
            inner.push(format!("{} = {n};", target.count()));
        }
        lines.extend(indented(&inner));
        lines.push("}".into());
    }

    fn read_union(&self, union: &UnionPlan, target: Target<'_>, depth: usize, lines: &mut Vec<String>) {
        let meaning = &union.union;
        lines.extend(self.cursor.align());
        let key = match meaning.selector {
            Selector::Field(slot) => format!("key_{slot}"),
            Selector::Request { .. } => "key".into(),
        };
        let form = |index: usize, form: &Element| {
            let mut inner = Vec::new();
            if self.keeps() {
                inner.push(format!("{} = {index}u;", target.form()));
            }
            let prefix = format!("{}.{}.", target.value(), member(&form.field.name));
            let element = Target { prefix: &prefix, name: "value" };
            inner.extend(self.read(&form.field, &form.action, element, depth + 1, None));
            inner.push("break;".into());
            inner
        };
        let by_request = matches!(meaning.selector, Selector::Request { .. });
        // Without the request, only the bytes can be kept.
        lines.push(format!("switch ({}) {{", if by_request { "key_known ? key : UINT64_MAX" } else { &key }));
        for (index, (case, element)) in meaning.cases.iter().zip(&union.forms).enumerate() {
            lines.push(format!("case UINT64_C({}):", case.raw));
            lines.extend(indented(&form(index, element)));
        }
        lines.push("default:".into());
        match union.forms.get(meaning.cases.len()) {
            Some(element) => lines.extend(indented(&form(meaning.cases.len(), element))),
            None => lines.push(format!("    return {}_NO_FORM;", self.group.upper)),
        }
        lines.push("}".into());
    }
}

/// A step of a section, and what the code around it wants of it.
type Noted<'n> = &'n dyn Fn(Cursor, &Step) -> Vec<String>;

impl Group<'_> {
    /// What stands before a section is read: `lacking` where the sender's revision does not have it, and a body that is too short.
    pub fn begin_section(&self, index: usize, section: &SectionPlan, lacking: &str, source: &mut Code) {
        let start = self.known(index).start;
        source.line(format!("    /* Revision {}. */", section.revision));
        if index > 0 {
            let place = start.map_or("start".to_owned(), |start| format!("{start}u"));
            source.lines(&format!("    if (end == {place}) {{\n        {lacking}\n    }}"));
        }
        if section.least_size > 0 {
            let lacks = match start {
                Some(start) => format!("end < {}u", start + section.least_size),
                None => format!("end - start < {}u", section.least_size),
            };
            source.lines(&format!("    if ({lacks}) {{\n        return {}_TRUNCATED;\n    }}", self.upper));
        }
    }

    /// What reads one section whose length was tested; `start` then is behind it. `noted` is executed where a field is, before it is read.
    pub fn read_section(
        &self,
        index: usize,
        section: &SectionPlan,
        take: Take,
        target: &str,
        noted: Noted<'_>,
        source: &mut Code,
    ) {
        let known = self.known(index);
        let mut lines = self.read_known(section, &known, take, target);
        let cursor = Cursor::of(section);
        let moving = &section.steps[section.fixed_steps..];
        let begin = self.begin_moving(section, &known);
        for (n, step) in moving.iter().enumerate() {
            let mut one = self.place(cursor, step, &known);
            if n == 0 {
                one.retain(|line| *line != begin);
                lines.push(begin.clone());
            }
            one.extend(noted(cursor, step));
            one.extend(self.read_step(cursor, step, take, target));
            let Some(presence) = step.presence else {
                lines.extend(one);
                continue;
            };
            let mask = 1u32 << (presence % 8);
            lines.push(format!("if (({} & {mask:#04X}u) != 0u) {{", byte_at(&known, presence as usize / 8)));
            lines.extend(indented(&one));
            let field = &self.fields[step.slot];
            if take == Take::Keep && !field.is_spare() {
                lines.push("} else {".into());
                lines.push(format!("    {target}has_{} = false;", member(&field.name)));
                lines.extend(indented(&self.unset(step.slot, &step.action, target)));
            }
            lines.push("}".into());
        }
        lines.extend(self.end_section(index, section, cursor));
        for line in lines.join("\n").lines() {
            source.line(format!("    {line}"));
        }
    }

    /// The statement that sets the cursor to where what moves in a section begins.
    pub fn begin_moving(&self, section: &SectionPlan, known: &Known) -> String {
        match (Cursor::of(section), known.start) {
            (Cursor::Bytes, Some(start)) => format!("here = {}u;", start + section.fixed_end.div_ceil(8)),
            (Cursor::Bytes, None) => format!("here = start + {}u;", section.fixed_end.div_ceil(8)),
            (Cursor::Bits, Some(start)) => format!("bit = {}u;", start * 8 + section.fixed_end),
            (Cursor::Bits, None) => format!("bit = start * 8u + {}u;", section.fixed_end),
        }
    }

    /// The statements that go to where a step's field lies.
    pub fn place(&self, cursor: Cursor, step: &Step, known: &Known) -> Vec<String> {
        match (step.place, cursor, known.start) {
            (Place::Fixed(bit), Cursor::Bytes, Some(start)) => vec![format!("here = {}u;", start + bit as usize / 8)],
            (Place::Fixed(bit), Cursor::Bytes, None) => vec![format!("here = start + {}u;", bit / 8)],
            (Place::Fixed(bit), Cursor::Bits, Some(start)) => vec![format!("bit = {}u;", start * 8 + bit as usize)],
            (Place::Fixed(bit), Cursor::Bits, None) => vec![format!("bit = start * 8u + {bit}u;")],
            (Place::Behind { aligned: true }, ..) => cursor.align(),
            (Place::Behind { aligned: false }, ..) => Vec::new(),
        }
    }

    /// The statements that set `start` to what lies behind a section that was read, where somebody wants to know it.
    fn end_section(&self, index: usize, section: &SectionPlan, cursor: Cursor) -> Vec<String> {
        let is_wanted = match self.sections.get(index + 1) {
            Some(_) => self.known(index + 1).start.is_none(),
            None => !self.is_body,
        };
        let mut lines = Vec::new();
        if is_wanted {
            lines.push(match (section.fixed, cursor) {
                (true, _) => format!("start += {}u;", section.greatest_size),
                (false, Cursor::Bytes) => "start = here;".to_owned(),
                (false, Cursor::Bits) => "start = (bit + 7u) / 8u;".to_owned(),
            });
        }
        if !section.fixed && cursor == Cursor::Bits {
            let place = if is_wanted { "start" } else { "(bit + 7u) / 8u" };
            lines.push(format!("if ({place} > end) {{\n    return {}_TRUNCATED;\n}}", self.upper));
        }
        lines
    }
}
