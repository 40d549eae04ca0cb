//! Messages: the owned struct, the in-place view, and the walk over a body that both rest on.

use emberwort_model::model::{Field, Kind, Value};
use emberwort_model::plan::{Action, MessagePlan, Place, SectionPlan, Step};

use super::{comment, constant, doc_comment, member, numbers};
use crate::code::Code;
use crate::names::{screaming, snake};

/// Everything that is needed to write one message.
struct Message<'a> {
    link: &'a str,
    /// `link_message`
    stem: String,
    upper: String,
    link_upper: String,
    plan: &'a MessagePlan,
}

impl<'a> Message<'a> {
    fn field(&self, step: &Step) -> &'a Field {
        &self.plan.message.fields[step.slot]
    }

    /// Steps of named fields, with the index of their section.
    fn named_steps(&self) -> impl Iterator<Item = (usize, &'a Step)> {
        let plan = self.plan;
        plan.sections
            .iter()
            .enumerate()
            .flat_map(|(index, section)| section.steps.iter().map(move |step| (index, step)))
            .filter(|(_, step)| !plan.message.fields[step.slot].is_spare())
    }

    /// The bit place of a step from the body's start, if it is always the same.
    fn fixed_place(&self, section: usize, step: &Step) -> Option<usize> {
        let before = &self.plan.sections[..section];
        match step.place {
            Place::Fixed(bit) if before.iter().all(|section| section.fixed) && step.presence.is_none() => {
                Some(before.iter().map(|section| section.greatest_size).sum::<usize>() * 8 + bit as usize)
            }
            _ => None,
        }
    }

    /// Indices of the steps whose places the walk notes down, by slot.
    fn moving(&self) -> Vec<usize> {
        self.named_steps()
            .filter(|(section, step)| self.fixed_place(*section, step).is_none())
            .map(|(_, s)| s.slot)
            .collect()
    }

    /// The bit place of a field as a C expression; `at` is the array of noted places.
    fn place(&self, section: usize, step: &Step, at: &str) -> String {
        match self.fixed_place(section, step) {
            Some(bit) => format!("{bit}u"),
            None => {
                let index = self.moving().iter().position(|slot| *slot == step.slot).unwrap_or(0);
                format!("{at}[{index}]")
            }
        }
    }

    /// Whether a field may be missing from a body.
    fn may_be_missing(section: usize, step: &Step) -> bool {
        section > 0 || step.presence.is_some()
    }

    fn get(&self, width: u8, bytes: &str, place: &str) -> String {
        let suffix = if width > 32 { "64" } else { "" };
        format!("{}_get{suffix}({bytes}, {place}, {width}u)", self.link)
    }

    /// Reads the raw number of a field as its C type.
    fn get_raw(&self, field: &Field, width: u8, bytes: &str, place: &str) -> String {
        let get = self.get(width, bytes, place);
        match &field.kind {
            Kind::Bool => format!("{get} != 0u"),
            kind if kind.is_signed() && (width == 32 || width == 64) => format!("({}){get}", numbers::raw_type(kind)),
            kind if kind.is_signed() => {
                // Two's complement: flip the sign bit and subtract it again.
                let (ty, c) = if width > 32 { ("int64_t", 64) } else { ("int32_t", 32) };
                let sign = 1u64 << (width - 1);
                let raw = numbers::raw_type(kind);
                format!("({raw})(({ty})({get} ^ UINT{c}_C({sign})) - {} - 1)", constant(i128::from(sign) - 1, c, true))
            }
            kind => format!("({}){get}", numbers::raw_type(kind)),
        }
    }

    fn put_raw(&self, width: u8, bytes: &str, place: &str, value: &str) -> String {
        let (suffix, ty) = if width > 32 { ("64", "uint64_t") } else { ("", "uint32_t") };
        format!("{}_put{suffix}({bytes}, {place}, {width}u, ({ty}){value});", self.link)
    }

    /// The default of a raw field as a C constant: the definition's, else zero.
    fn default_raw(field: &Field) -> String {
        let raw = match &field.default {
            Some(Value::Raw(raw)) => *raw,
            _ => 0,
        };
        match &field.kind {
            Kind::Bool => (raw != 0).to_string(),
            kind if kind.is_signed() => constant(i128::from(raw as i64), kind.raw_bits().unwrap_or(8), true),
            kind => constant(i128::from(raw), kind.raw_bits().unwrap_or(8), false),
        }
    }
}

pub fn write(link: &str, plan: &MessagePlan, header: &mut Code, source: &mut Code) {
    let stem = format!("{link}_{}", snake(&plan.message.name));
    let message = Message { link, upper: screaming(&stem), stem, link_upper: screaming(link), plan };
    header.line(format!("/* ---- {} ---- */", plan.message.name));
    header.line("");
    doc_comment(header, &plan.message.doc);
    message.constants(header);
    message.write_struct(header);
    message.fields(header, source);
    message.walk(source);
    message.owned(header, source);
    message.view(header, source);
}

/// What a field holds, for a comment.
fn about(field: &Field) -> String {
    let unit = if field.unit.is_empty() { String::new() } else { format!(" {}", field.unit) };
    let mut text = match &field.kind {
        Kind::Number(form) if form.scaling.is_identity() => format!("{} .. {}{unit}", form.low, form.high),
        Kind::Number(form) => format!(
            "{} .. {}{unit} in steps of {}: raw {} .. {}",
            form.scaling.physical(form.low),
            form.scaling.physical(form.high),
            form.scaling.step_text(),
            form.low,
            form.high
        ),
        Kind::Bool => "true or false".into(),
        Kind::Float32 => {
            format!("bits of an IEEE 754 binary32{}", if unit.is_empty() { unit } else { format!(", in{unit}") })
        }
        Kind::Enum { labels, .. } | Kind::Flags(labels) => labels.name.clone(),
        Kind::Text { max } => format!("UTF-8, at most {max} bytes, not ended by a zero"),
        Kind::Bytes { length } => format!("{length} bytes"),
        Kind::Spare { .. } => String::new(),
    };
    if let Some(none) = field.kind.none() {
        text.push_str(&format!(", {none} means none"));
    }
    if field.since > 1 {
        text.push_str(&format!("; since revision {}", field.since));
    }
    comment(&text)
}

impl Message<'_> {
    fn constants(&self, header: &mut Code) {
        let upper = &self.upper;
        if let Some(id) = self.plan.message.id {
            header.line(format!("#define {upper}_ID UINT{}_C({id:#x})", if id >> 32 == 0 { 32 } else { 64 }));
        }
        header.line(format!("#define {upper}_LEAST_SIZE {}u", self.plan.least_size()));
        header.line(format!("#define {upper}_GREATEST_SIZE {}u", self.plan.greatest_size()));
        let revisions: Vec<String> = self.plan.sections.iter().map(|section| section.revision.to_string()).collect();
        header.line(format!("/* The body's sections were added in revision {}. */", revisions.join(", ")));
        header.line(format!("#define {upper}_SECTIONS {}u", self.plan.sections.len()));
        header.line("");
    }

    fn write_struct(&self, header: &mut Code) {
        header.open(format!("typedef struct {} {{", self.stem));
        header.line("/* How many sections the sender writes. Fields of the others hold their defaults, or zero. */");
        header.line("uint8_t sections_held;");
        for (_, step) in self.named_steps() {
            let field = self.field(step);
            let name = member(&field.name);
            doc_comment(header, &field.doc);
            if step.presence.is_some() {
                header.line(format!("bool has_{name};"));
            }
            match step.action {
                Action::Counted { max, count_bytes } => {
                    header.line(format!("uint{}_t {name}_length; /* bytes */", count_bytes * 8));
                    header.line(format!("char {name}[{max}]; /* {} */", about(field)));
                }
                Action::Bytes { length } => header.line(format!("uint8_t {name}[{length}]; /* {} */", about(field))),
                _ => header.line(format!("{} {name}; /* {} */", numbers::raw_type(&field.kind), about(field))),
            }
        }
        header.close(format!("}} {}_t;", self.stem));
        header.line("");
    }

    /// Constants, validity and conversions of the fields.
    fn fields(&self, header: &mut Code, source: &mut Code) {
        for (_, step) in self.named_steps() {
            let field = self.field(step);
            let Some(bits) = field.kind.raw_bits() else { continue };
            let stem = format!("{}_{}", self.stem, member(&field.name));
            if let Some(none) = field.kind.none() {
                let value = constant(none, bits, field.kind.is_signed());
                header.line(format!("#define {}_NONE {value} /* no reading */", screaming(&stem)));
            }
            if let Kind::Number(form) = &field.kind {
                numbers::write(self.link, &stem, &field.kind, form, header, source);
            }
            let raw = numbers::raw_type(&field.kind);
            header.line(format!("/* Whether a raw code of `{}` means something. */", field.name));
            header.line(format!("bool {stem}_valid({raw} raw);"));
            source.lines(&format!("bool {stem}_valid({raw} raw)\n{{"));
            validity(field, source);
            source.lines("}\n");
            source.line("");
        }
        header.line("");
    }

    /// The walk over a body: checks it, notes the places of fields that move, counts the sections.
    fn walk(&self, source: &mut Code) {
        let Self { stem, link, link_upper, .. } = self;
        let moving = self.moving();
        source.lines(&format!(
            "/* Checks a body and notes where its moving fields lie, as bits from the start; SIZE_MAX if one is not there. */\n\
             static {link}_result_t {stem}_walk(const uint8_t *body, size_t size, size_t *at, uint8_t *sections_held)\n{{\n    \
                 size_t start = 0;"
        ));
        let dynamic = self.plan.sections.iter().any(|section| !section.fixed);
        if dynamic {
            source.line("    size_t bit;");
        }
        let counted =
            self.plan.sections.iter().flat_map(|s| &s.steps).any(|s| matches!(s.action, Action::Counted { .. }));
        if counted {
            source.line("    size_t count;");
        }
        if !dynamic {
            source.line("    (void)body;");
        }
        if moving.is_empty() {
            source.line("    (void)at;");
        }
        source.line("    (void)size;");
        source.line("    *sections_held = 0;");
        for n in 0..moving.len() {
            source.line(format!("    at[{n}] = SIZE_MAX;"));
        }
        for (index, section) in self.plan.sections.iter().enumerate() {
            source.line(format!("    /* Revision {}. */", section.revision));
            if index > 0 {
                source.lines(&format!("    if (start == size) {{\n        return {link_upper}_OK;\n    }}"));
            }
            if section.least_size > 0 {
                source.lines(&format!(
                    "    if (size - start < {}u) {{\n        return {link_upper}_TRUNCATED;\n    }}",
                    section.least_size
                ));
            }
            self.walk_section(index, section, &moving, source);
            source.line("    *sections_held += 1u;");
        }
        source.lines(&format!("    (void)start;\n    return {link_upper}_OK;\n}}\n"));
        source.line("");
    }

    fn walk_section(&self, index: usize, section: &SectionPlan, moving: &[usize], source: &mut Code) {
        let link_upper = &self.link_upper;
        let note = |step: &Step, place: String| {
            let named = !self.field(step).is_spare();
            moving.iter().position(|slot| *slot == step.slot).filter(|_| named).map(|n| format!("at[{n}] = {place};"))
        };
        if section.fixed {
            for step in &section.steps {
                if let (Place::Fixed(bit), None) = (step.place, self.fixed_place(index, step)) {
                    source.lines(
                        &note(step, format!("start * 8u + {bit}u")).map_or(String::new(), |line| format!("    {line}")),
                    );
                }
            }
            if section.greatest_size > 0 {
                source.line(format!("    start += {}u;", section.greatest_size));
            }
            return;
        }
        source.line(format!("    bit = start * 8u + {}u;", section.presence_bytes * 8));
        for step in &section.steps {
            let mut lines: Vec<String> = Vec::new();
            match step.place {
                Place::Fixed(bit) if bit as usize > 0 => lines.push(format!("bit = start * 8u + {bit}u;")),
                Place::Behind { aligned: true } => lines.push("bit = (bit + 7u) / 8u * 8u;".into()),
                _ => {}
            }
            lines.extend(note(step, "bit".into()));
            let fits = |bits: &str| format!("if (size * 8u - bit < {bits}) {{\n    return {link_upper}_TRUNCATED;\n}}");
            // Before a place behind the body's end is compared, it must not lie behind it itself.
            lines.push(format!("if (bit > size * 8u) {{\n    return {link_upper}_TRUNCATED;\n}}"));
            match step.action {
                Action::Bits { width, .. } => {
                    lines.push(fits(&format!("{width}u")));
                    lines.push(format!("bit += {width}u;"));
                }
                Action::Skip { bits } => {
                    lines.push(fits(&format!("{bits}u")));
                    lines.push(format!("bit += {bits}u;"));
                }
                Action::Bytes { length } => {
                    lines.push(fits(&format!("{}u", length * 8)));
                    lines.push(format!("bit += {}u;", length * 8));
                }
                Action::Counted { max, count_bytes } => {
                    let bits = count_bytes * 8;
                    lines.push(fits(&format!("{bits}u")));
                    lines.push(format!("count = (size_t){};", self.get(bits, "body", "bit")));
                    let beyond = if count_bytes == 1 { 255 } else { 65_535 };
                    if max < beyond {
                        lines.push(format!("if (count > {max}u) {{\n    return {link_upper}_TOO_MANY;\n}}"));
                    }
                    lines.push(format!("bit += {bits}u;"));
                    lines.push(fits("count * 8u"));
                    lines.push("bit += count * 8u;".into());
                }
            }
            let block = lines.join("\n");
            match step.presence {
                Some(presence) => {
                    source.line(format!(
                        "    if ((body[start + {}u] & {}u) != 0u) {{",
                        presence / 8,
                        1u32 << (presence % 8)
                    ));
                    for line in block.lines() {
                        source.line(format!("        {line}"));
                    }
                    source.line("    }");
                }
                None => {
                    for line in block.lines() {
                        source.line(format!("    {line}"));
                    }
                }
            }
        }
        source.lines(&format!(
            "    start = (bit + 7u) / 8u;\n    if (start > size) {{\n        return {link_upper}_TRUNCATED;\n    }}"
        ));
    }

    /// `_init`, `_encode`, `_decode` of the struct.
    fn owned(&self, header: &mut Code, source: &mut Code) {
        let Self { stem, link, upper, .. } = self;
        header.lines(&format!(
            "/* All sections, defaults where there are some, zero elsewhere; optional fields absent. */\n\
             void {stem}_init({stem}_t *message);\n\
             /* Writes the body; *used is its size. The buffer is cleared up to {upper}_GREATEST_SIZE first. */\n\
             {link}_result_t {stem}_encode(const {stem}_t *message, uint8_t *body, size_t room, size_t *used);\n\
             /* Reads a body. Bytes behind the last section known here are from a later revision and skipped. */\n\
             {link}_result_t {stem}_decode({stem}_t *message, const uint8_t *body, size_t size);\n\
             /* Whether a body can be decoded. */\n\
             {link}_result_t {stem}_check(const uint8_t *body, size_t size);\n"
        ));
        self.init(source);
        self.encode(source);
        self.decode(source);
    }

    fn init(&self, source: &mut Code) {
        let Self { stem, upper, .. } = self;
        source.lines(&format!("void {stem}_init({stem}_t *message)\n{{\n    memset(message, 0, sizeof *message);"));
        source.line(format!("    message->sections_held = {upper}_SECTIONS;"));
        for (_, step) in self.named_steps() {
            let field = self.field(step);
            let name = member(&field.name);
            match (&field.default, step.action) {
                (Some(Value::Raw(raw)), _) if *raw != 0 => {
                    source.line(format!("    message->{name} = {};", Self::default_raw(field)));
                }
                (Some(Value::Bytes(bytes)), action) if !bytes.is_empty() => {
                    let text: String = bytes.iter().map(|b| format!("\\{b:03o}")).collect();
                    source.line(format!("    memcpy(message->{name}, \"{text}\", {}u);", bytes.len()));
                    if matches!(action, Action::Counted { .. }) {
                        source.line(format!("    message->{name}_length = {}u;", bytes.len()));
                    }
                }
                _ => {}
            }
        }
        source.lines("}\n");
        source.line("");
    }

    fn encode(&self, source: &mut Code) {
        let Self { stem, link, upper, link_upper, .. } = self;
        let unaligned = self.named_steps().any(|(_, step)| matches!(step.action, Action::Bytes { .. }));
        source.lines(&format!(
            "{link}_result_t {stem}_encode(const {stem}_t *message, uint8_t *body, size_t room, size_t *used)\n{{\n    \
                 size_t start = 0;\n    size_t bit = 0;"
        ));
        if unaligned {
            source.line("    size_t n;");
        }
        source.line("    *used = 0;");
        source.lines(&format!(
            "    if (message->sections_held < 1u || message->sections_held > {upper}_SECTIONS) {{\n        \
                 return {link_upper}_OUT_OF_RANGE;\n    }}"
        ));
        if self.plan.greatest_size() > 0 {
            source.line(format!("    memset(body, 0, room < {upper}_GREATEST_SIZE ? room : {upper}_GREATEST_SIZE);"));
        } else {
            source.line("    (void)body;\n    (void)room;");
        }
        for (index, section) in self.plan.sections.iter().enumerate() {
            source.line(format!("    /* Revision {}. */", section.revision));
            let pad = if index > 0 {
                source.line(format!("    if (message->sections_held > {index}u) {{"));
                "        "
            } else {
                "    "
            };
            let room =
                |bits: &str| format!("if ((bit + {bits} + 7u) / 8u > room) {{\n    return {link_upper}_NO_ROOM;\n}}");
            let mut block: Vec<String> = Vec::new();
            if section.presence_bytes > 0 {
                block.push(room(&format!("{}u", section.presence_bytes * 8)));
                block.push(format!("bit += {}u;", section.presence_bytes * 8));
            }
            for step in &section.steps {
                let field = self.field(step);
                let name = member(&field.name);
                let mut lines = Vec::new();
                match step.place {
                    Place::Fixed(bit) => lines.push(format!("bit = start * 8u + {bit}u;")),
                    Place::Behind { aligned: true } => lines.push("bit = (bit + 7u) / 8u * 8u;".into()),
                    Place::Behind { aligned: false } => {}
                }
                if let Some(presence) = step.presence {
                    lines.push(format!(
                        "body[start + {0}u] = (uint8_t)(body[start + {0}u] | {1}u);",
                        presence / 8,
                        1u32 << (presence % 8)
                    ));
                }
                match step.action {
                    Action::Bits { width, .. } => {
                        lines.push(format!(
                            "if (!{stem}_{name}_valid(message->{name})) {{\n    return {link_upper}_OUT_OF_RANGE;\n}}"
                        ));
                        lines.push(room(&format!("{width}u")));
                        lines.push(self.put_raw(width, "body", "bit", &format!("message->{name}")));
                        lines.push(format!("bit += {width}u;"));
                    }
                    Action::Skip { bits } => {
                        lines.push(room(&format!("{bits}u")));
                        lines.push(format!("bit += {bits}u;"));
                    }
                    Action::Bytes { length } => {
                        lines.push(room(&format!("{}u", length * 8)));
                        lines.push(format!("for (n = 0; n < {length}u; n++) {{"));
                        lines.push(format!("    {link}_put(body, bit + n * 8u, 8u, message->{name}[n]);"));
                        lines.push("}".into());
                        lines.push(format!("bit += {}u;", length * 8));
                    }
                    Action::Counted { max, count_bytes } => {
                        let bits = count_bytes * 8;
                        let beyond = if count_bytes == 1 { 255 } else { 65_535 };
                        if max < beyond {
                            lines.push(format!(
                                "if (message->{name}_length > {max}u) {{\n    return {link_upper}_TOO_MANY;\n}}"
                            ));
                        }
                        lines.push(room(&format!("{bits}u + (size_t)message->{name}_length * 8u")));
                        lines.push(self.put_raw(bits, "body", "bit", &format!("message->{name}_length")));
                        lines.push(format!("bit += {bits}u;"));
                        lines.push(format!("memcpy(body + bit / 8u, message->{name}, message->{name}_length);"));
                        lines.push(format!("bit += (size_t)message->{name}_length * 8u;"));
                    }
                }
                if step.presence.is_some() {
                    block.push(format!("if (message->has_{name}) {{"));
                    block.extend(lines.join("\n").lines().map(|line| format!("    {line}")));
                    block.push("}".into());
                } else {
                    block.extend(lines);
                }
            }
            block.push("start = (bit + 7u) / 8u;".into());
            block.push("bit = start * 8u;".into());
            for line in block.join("\n").lines() {
                source.line(format!("{pad}{line}"));
            }
            if index > 0 {
                source.line("    }");
            }
        }
        source.lines(&format!("    (void)bit;\n    *used = start;\n    return {link_upper}_OK;\n}}\n"));
        source.line("");
    }

    fn decode(&self, source: &mut Code) {
        let Self { stem, link, link_upper, .. } = self;
        let places = self.moving().len().max(1);
        source.lines(&format!(
            "{link}_result_t {stem}_check(const uint8_t *body, size_t size)\n{{\n    \
                 size_t at[{places}];\n    uint8_t sections_held;\n    \
                 return {stem}_walk(body, size, at, &sections_held);\n}}\n"
        ));
        source.line("");
        source.lines(&format!(
            "{link}_result_t {stem}_decode({stem}_t *message, const uint8_t *body, size_t size)\n{{\n    \
                 size_t at[{places}];"
        ));
        if self.named_steps().any(|(_, step)| matches!(step.action, Action::Bytes { .. })) {
            source.line("    size_t n;");
        }
        source.lines(&format!(
            "    {link}_result_t result;\n    \
                 {stem}_init(message);\n    \
                 result = {stem}_walk(body, size, at, &message->sections_held);\n    \
                 if (result != {link_upper}_OK) {{\n        return result;\n    }}"
        ));
        for (section, step) in self.named_steps() {
            let field = self.field(step);
            let name = member(&field.name);
            let place = self.place(section, step, "at");
            let mut lines: Vec<String> = Vec::new();
            match step.action {
                Action::Bits { width, .. } => {
                    lines.push(format!("message->{name} = {};", self.get_raw(field, width, "body", &place)));
                }
                Action::Counted { count_bytes, .. } => {
                    let bits = count_bytes * 8;
                    lines.push(format!("message->{name}_length = (uint{bits}_t){};", self.get(bits, "body", &place)));
                    lines.push(format!(
                        "memcpy(message->{name}, body + {place} / 8u + {count_bytes}u, message->{name}_length);"
                    ));
                }
                Action::Bytes { length } => {
                    lines.push(format!("for (n = 0; n < {length}u; n++) {{"));
                    lines.push(format!("    message->{name}[n] = (uint8_t){link}_get(body, {place} + n * 8u, 8u);"));
                    lines.push("}".into());
                }
                Action::Skip { .. } => {}
            }
            let condition = if step.presence.is_some() {
                lines.insert(0, format!("message->has_{name} = true;"));
                Some(format!("{place} != SIZE_MAX"))
            } else if section > 0 {
                Some(format!("message->sections_held > {section}u"))
            } else {
                None
            };
            match condition {
                Some(condition) => {
                    source.line(format!("    if ({condition}) {{"));
                    for line in lines {
                        source.line(format!("        {line}"));
                    }
                    source.line("    }");
                }
                None => {
                    for line in lines {
                        source.line(format!("    {line}"));
                    }
                }
            }
        }
        source.lines(&format!("    return {link_upper}_OK;\n}}\n"));
        source.line("");
    }

    /// The in-place view.
    fn view(&self, header: &mut Code, source: &mut Code) {
        let Self { stem, link, .. } = self;
        let places = self.moving().len();
        header.line("/* A body in the caller's buffer. */");
        header.open(format!("typedef struct {stem}_view {{"));
        header.line("uint8_t *body;");
        header.line("size_t size;");
        header.line("uint8_t sections_held;");
        if places > 0 {
            header.line(format!("size_t at[{places}]; /* bit places of the fields that move */"));
        }
        header.close(format!("}} {stem}_view_t;"));
        header.line(
            "/* Checks a body; if it is right, all accessors of the view are safe as long as the buffer lives. */",
        );
        header.line(format!("{link}_result_t {stem}_view({stem}_view_t *view, uint8_t *body, size_t size);"));
        source.lines(&format!(
            "{link}_result_t {stem}_view({stem}_view_t *view, uint8_t *body, size_t size)\n{{\n    \
                 view->body = body;\n    view->size = size;\n    \
                 return {stem}_walk(body, size, {}, &view->sections_held);\n}}\n",
            if places > 0 { "view->at" } else { "NULL" }
        ));
        source.line("");
        for (section, step) in self.named_steps() {
            self.accessors(section, step, header, source);
        }
        header.line("");
    }

    fn accessors(&self, section: usize, step: &Step, header: &mut Code, source: &mut Code) {
        let Self { stem, link, link_upper, .. } = self;
        let field = self.field(step);
        let name = member(&field.name);
        let place = self.place(section, step, "view->at");
        let there = if self.fixed_place(section, step).is_none() {
            format!("{place} != SIZE_MAX")
        } else {
            format!("view->sections_held > {section}u")
        };
        let view = format!("const {stem}_view_t *view");
        header.line(format!("/* {}: {} */", field.name, about(field)));
        let may_be_missing = Self::may_be_missing(section, step);
        if may_be_missing {
            header.line(format!("bool {stem}_has_{name}({view});"));
            source.lines(&format!("bool {stem}_has_{name}({view})\n{{\n    return {there};\n}}\n"));
            source.line("");
        }
        let guard = |value: &str| {
            if may_be_missing {
                format!("    if (!{stem}_has_{name}(view)) {{\n        return {value};\n    }}\n")
            } else {
                String::new()
            }
        };
        match step.action {
            Action::Bits { width, .. } => {
                let raw = numbers::raw_type(&field.kind);
                let get = self.get_raw(field, width, "view->body", &place);
                let set = self.put_raw(width, "view->body", &place, "raw");
                if may_be_missing {
                    header.line(format!("/* If it is not there: {}. */", Self::default_raw(field)));
                }
                header.line(format!("{raw} {stem}_get_{name}({view});"));
                header.line(format!("{link}_result_t {stem}_set_{name}({view}, {raw} raw);"));
                source.lines(&format!(
                    "{raw} {stem}_get_{name}({view})\n{{\n{}    return {get};\n}}\n",
                    guard(&Self::default_raw(field))
                ));
                source.line("");
                source.lines(&format!(
                    "{link}_result_t {stem}_set_{name}({view}, {raw} raw)\n{{\n{}    \
                         if (!{stem}_{name}_valid(raw)) {{\n        return {link_upper}_OUT_OF_RANGE;\n    }}\n    \
                         {set}\n    return {link_upper}_OK;\n}}\n",
                    guard(&format!("{link_upper}_ABSENT"))
                ));
            }
            Action::Counted { count_bytes, .. } => {
                let bits = count_bytes * 8;
                header.line("/* Points into the body; NULL if it is not there. A text in place keeps its length. */");
                header.line(format!("const char *{stem}_get_{name}({view}, size_t *length);"));
                source.lines(&format!(
                    "const char *{stem}_get_{name}({view}, size_t *length)\n{{\n    *length = 0;\n{}    \
                         *length = (size_t){};\n    \
                         return (const char *)(view->body + {place} / 8u + {count_bytes}u);\n}}\n",
                    guard("NULL"),
                    self.get(bits, "view->body", &place)
                ));
            }
            Action::Bytes { length } => {
                header.line(format!("{link}_result_t {stem}_get_{name}({view}, uint8_t bytes[{length}]);"));
                header.line(format!("{link}_result_t {stem}_set_{name}({view}, const uint8_t bytes[{length}]);"));
                let guard = guard(&format!("{link_upper}_ABSENT"));
                source.lines(&format!(
                    "{link}_result_t {stem}_get_{name}({view}, uint8_t bytes[{length}])\n{{\n    size_t n;\n{guard}    \
                         for (n = 0; n < {length}u; n++) {{\n        \
                             bytes[n] = (uint8_t){link}_get(view->body, {place} + n * 8u, 8u);\n    }}\n    \
                         return {link_upper}_OK;\n}}\n"
                ));
                source.line("");
                source.lines(&format!(
                    "{link}_result_t {stem}_set_{name}({view}, const uint8_t bytes[{length}])\n{{\n    size_t n;\n{guard}    \
                         for (n = 0; n < {length}u; n++) {{\n        \
                             {link}_put(view->body, {place} + n * 8u, 8u, bytes[n]);\n    }}\n    \
                         return {link_upper}_OK;\n}}\n"
                ));
            }
            Action::Skip { .. } => {}
        }
        source.line("");
    }
}

/// The body of a field's `_valid` function.
fn validity(field: &Field, source: &mut Code) {
    let kind = &field.kind;
    let bits = kind.raw_bits().unwrap_or(8);
    let always = |source: &mut Code| source.lines("    (void)raw;\n    return true;");
    match kind {
        Kind::Number(form) => {
            let container = u32::from(bits.next_power_of_two().max(8));
            let (least, greatest) = if form.signed {
                (-(1i128 << (container - 1)), (1i128 << (container - 1)) - 1)
            } else {
                (0, (1i128 << container) - 1)
            };
            let c = |value: i128| constant(value, bits, form.signed);
            let mut inside = Vec::new();
            if form.low > least {
                inside.push(format!("raw >= {}", c(form.low)));
            }
            if form.high < greatest {
                inside.push(format!("raw <= {}", c(form.high)));
            }
            let none = form.none.filter(|none| !(form.low..=form.high).contains(none));
            match (inside.is_empty(), none) {
                (true, _) => always(source),
                (false, None) => source.line(format!("    return {};", inside.join(" && "))),
                // The code next to the others needs no comparison of its own if it is the type's last one.
                (false, Some(none)) => {
                    source.line(format!("    return ({}) || raw == {};", inside.join(" && "), c(none)));
                }
            }
        }
        Kind::Enum { labels, none } => {
            let mut codes: Vec<u64> = labels.labels.iter().map(|label| label.code).chain(*none).collect();
            codes.sort_unstable();
            if codes.is_empty() {
                source.lines("    (void)raw;\n    return false;");
                return;
            }
            source.line("    switch (raw) {");
            for code in codes {
                source.line(format!("    case {}:", constant(i128::from(code), bits, false)));
            }
            source.lines("        return true;\n    default:\n        return false;\n    }");
        }
        Kind::Flags(labels) => {
            let known = labels.labels.iter().fold(0u64, |all, label| all | 1 << label.code);
            let ty = super::unsigned_type(bits);
            source.line(format!("    return ({ty})(raw & ({ty})~{}) == 0u;", constant(i128::from(known), bits, false)));
        }
        Kind::Float32 => source.line("    return (raw & UINT32_C(0x7F800000)) != UINT32_C(0x7F800000); /* finite */"),
        _ => always(source),
    }
}
