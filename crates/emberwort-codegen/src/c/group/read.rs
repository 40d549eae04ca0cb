//! Reading the fields of a group from a body, and stepping over those that nobody wants.

use emberwort_model::model::{Field, Length, Selector};
use emberwort_model::plan::{
    Action, Element, ElementSizes, ListPlan, Place, SectionPlan, Step, UnionPlan, count_bytes,
};

use super::{ALIGN, Group, Take, Target, indented};
use crate::c::numbers;
use crate::c::words::member;
use crate::code::Code;
use crate::names::snake;

impl Group<'_> {
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
            Action::Varint { width, signed } => {
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
            Action::Union(union) => self.read_union(union, take, target, depth, &mut lines),
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
        let (prefix, name) = self.element_at(list, target, &n);
        let element = Target { prefix: &prefix, name: &name };
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

    fn read_union(&self, union: &UnionPlan, take: Take, target: Target<'_>, depth: usize, lines: &mut Vec<String>) {
        let meaning = &union.union;
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
        for (index, (case, element)) in meaning.cases.iter().zip(&union.forms).enumerate() {
            lines.push(format!("case UINT64_C({}):", case.raw));
            lines.extend(indented(&form(index, element)));
        }
        lines.push("default:".into());
        match union.forms.get(meaning.cases.len()) {
            Some(element) => lines.extend(indented(&form(meaning.cases.len(), element))),
            None => lines.push(format!("    return {}_NO_FORM;", self.upper)),
        }
        lines.push("}".into());
    }

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

    /// What reads all sections into `target`, or only checks them. `held` is executed after each.
    pub fn read_sections(&self, take: Take, target: &str, lacking: &str, held: &str, source: &mut Code) {
        for (index, section) in self.sections.iter().enumerate() {
            self.begin_section(index, section, lacking, source);
            let nothing_to_see = take == Take::Nothing && self.deciders().is_empty();
            if section.fixed && nothing_to_see {
                source.line(format!("    start += {}u;", section.greatest_size));
            } else {
                let known = self.known(index);
                let lines = self.read_known(section, &known, take, target);
                for line in lines.join("\n").lines() {
                    source.line(format!("    {line}"));
                }
                self.read_moving(section, source, |step| self.read_step(step, take, target));
            }
            if !held.is_empty() {
                source.line(format!("    {held}"));
            }
        }
    }

    /// The steps of one section behind those at known places, each read by what `read` gives; `start` then is behind the section.
    fn read_moving(&self, section: &SectionPlan, source: &mut Code, read: impl Fn(&Step) -> Vec<String>) {
        self.read_steps(section, section.fixed_steps, source, read);
    }

    /// All steps of one section, each read by what `read` gives; `start` then is behind the section.
    pub fn read_section(&self, section: &SectionPlan, source: &mut Code, read: impl Fn(&Step) -> Vec<String>) {
        self.read_steps(section, 0, source, read);
    }

    fn read_steps(&self, section: &SectionPlan, first: usize, source: &mut Code, read: impl Fn(&Step) -> Vec<String>) {
        for (index, step) in section.steps.iter().enumerate().skip(first) {
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
}
