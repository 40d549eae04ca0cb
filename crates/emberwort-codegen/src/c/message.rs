//! Messages: the owned struct, the in-place view, and the walk over a body that the view rests on.

use emberwort_model::model::{Field, Length};
use emberwort_model::plan::{Action, MessagePlan, Place, Step, count_bytes};

use super::group::cursor::Cursor;
use super::group::expressions::{change, number};
use super::group::{Group, ValueUse, declare_cursors, default_raw, print_inside};
use super::numbers;
use super::tables;
use super::tree::{Expr, Stmt, Variable, Variables, calls, expr, simplified, variables_in};
use super::words::{about, doc_comment, literal, member};
use crate::code::Code;
use crate::lower::pieces;
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
    fn group(&self) -> Group<'_> {
        Group::of_message(self.link, &self.link_upper, &self.stem, self.plan)
    }

    fn field(&self, step: &Step) -> &'a Field {
        &self.plan.message.fields[step.slot]
    }

    /// Steps of fields that the view has accessors for, with the index of their section: numbers, texts and bytes.
    fn seen_steps(&self) -> impl Iterator<Item = (usize, &'a Step)> {
        let plan = self.plan;
        let steps = plan
            .sections
            .iter()
            .enumerate()
            .flat_map(|(index, section)| section.steps.iter().map(move |step| (index, step)));
        steps
            .filter(|(_, step)| !plan.message.fields[step.slot].is_spare())
            .filter(|(_, step)| matches!(step.action, Action::Bits { .. } | Action::Run { .. }))
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

    /// Indices of the fields whose places the walk notes down.
    fn moving(&self) -> Vec<usize> {
        self.seen_steps()
            .filter(|(section, step)| self.fixed_place(*section, step).is_none())
            .map(|(_, s)| s.slot)
            .collect()
    }

    /// The bit place of a field as a C expression; `at` is the array of noted places.
    fn place(&self, section: usize, step: &Step, at: &str) -> Expr {
        match self.fixed_place(section, step) {
            Some(bit) => Expr::number(bit),
            None => {
                let index = self.moving().iter().position(|slot| *slot == step.slot).unwrap_or(0);
                expr![format!("{at}[{index}]")]
            }
        }
    }

    /// Whether a field may be missing from a body.
    fn may_be_missing(section: usize, step: &Step) -> bool {
        section > 0 || step.presence.is_some()
    }

    /// Whether a value's form depends on the request that the message answers.
    fn answers(&self) -> bool {
        self.plan.request.is_some()
    }
}

/// Declares the variables that code which reads sections uses; `asks` if it may need the key of a request that nobody gives.
fn declare(names: &Variables, group: &Group<'_>, asks: bool, source: &mut Code) {
    if names.contains(&Variable::Start) {
        source.line("    size_t start = 0;");
    }
    declare_cursors(names, false, source);
    for slot in group.deciders() {
        source.line(format!("    uint64_t key_{slot} = 0;"));
    }
    if asks {
        source.line("    const bool key_known = false;\n    const uint64_t key = 0;");
    }
}

/// What is done with a message.
#[derive(Clone, Copy)]
pub(crate) struct EmitOptions {
    pub sends: bool,
    pub receives: bool,
    /// Whether there is a struct of its values.
    pub structs: bool,
}

/// Writes what is needed to send a message, to receive it, or both.
pub fn write(
    link: &str,
    all: &[MessagePlan],
    plan: &MessagePlan,
    ways: EmitOptions,
    header: &mut Code,
    source: &mut Code,
) {
    let stem = format!("{link}_{}", snake(&plan.message.name));
    let message = Message { link, upper: screaming(&stem), stem, link_upper: screaming(link), plan };
    header.line(format!("/* ---- {} ---- */", plan.message.name));
    header.line("");
    message.constants(all, header);
    if ways.structs {
        doc_comment(header, &plan.message.doc);
        header.open(format!("typedef struct {}_t {{", message.stem));
        header.line(
            "/* How many sections the sender writes. Fields of the others hold their defaults, no reading, or zero. */",
        );
        header.line("uint8_t sections_held;");
        message.group().members(header);
        header.close(format!("}} {}_t;", message.stem));
        header.line("");
    }
    message.group().field_functions(header);
    // What is viewed only may be written in place.
    let is_looked_at = ways.receives || !ways.structs;
    let is_walked_inline = is_looked_at && message.walk(header, source);
    message.owned(ways, header, source);
    if ways.sends && ways.structs {
        message.group().validate(&plan.message.name, header);
        tables::setters(link, &message.stem, plan, header);
    }
    if is_looked_at {
        message.view(ways.sends, is_walked_inline, header, source);
    }
}

impl Message<'_> {
    fn constants(&self, all: &[MessagePlan], header: &mut Code) {
        let Self { upper, stem, link_upper, .. } = self;
        if let Some(id) = self.plan.message.id {
            header.line(format!("#define {upper}_ID UINT{}_C({id:#x})", if id >> 32 == 0 { 32 } else { 64 }));
        }
        header.line(format!("#define {upper}_LEAST_SIZE {}u", self.plan.least_size()));
        let greatest = self.plan.greatest_size();
        header.line(format!("#define {upper}_GREATEST_SIZE {greatest}u"));
        // Places are counted in bits, which a `size_t` of 16 bits may not hold.
        if greatest > usize::from(u16::MAX) / 8 {
            header.line(format!("{link_upper}_ASSERT({stem}_places_fit, SIZE_MAX / 8u >= {greatest}u);"));
        }
        let revisions: Vec<String> = self.plan.sections.iter().map(|section| section.revision.to_string()).collect();
        header.line(format!("/* The body's sections were added in revision {}. */", revisions.join(", ")));
        header.line(format!("#define {upper}_SECTIONS {}u", self.plan.sections.len()));
        let message = &self.plan.message;
        if let Some(every) = message.every {
            header.line(format!(
                "{} /* how often the {} sends it */",
                time(upper, "PERIOD", every),
                message.from.as_str()
            ));
        }
        if !message.answered_by.is_empty() {
            let names: Vec<&str> = message.answered_by.iter().map(|index| all[*index].message.name.as_str()).collect();
            let names = names.join(" or ");
            header.line(match message.within {
                Some(within) => format!("{} /* {names} answers it within this time */", time(upper, "ANSWER", within)),
                None => format!("/* {names} answers it. */"),
            });
        }
        let asked: Vec<&str> = all
            .iter()
            .filter(|other| other.message.answered_by.iter().any(|index| all[*index].message.name == message.name))
            .map(|other| other.message.name.as_str())
            .collect();
        if !asked.is_empty() {
            header.line(format!("/* It answers {}. */", asked.join(", ")));
        }
        header.line("");
    }

    /// The walk over a body: checks it, notes the places of fields that move, counts the sections. Whether it stands in the header, as it does
    /// where it calls nothing: a compiler then notes no place that nobody asks for.
    fn walk(&self, header: &mut Code, source: &mut Code) -> bool {
        let Self { stem, link, link_upper, .. } = self;
        let moving = self.moving();
        let group = self.group();
        let sections = group.lowered();
        let done = || Stmt::Return(expr![format!("{link_upper}_OK")]);
        let place_of = |slot: usize| moving.iter().position(|of| *of == slot);
        let mut inner = Vec::new();
        for (index, section) in sections.iter().enumerate() {
            inner.extend(group.begin_section(index, section, vec![done()]));
            for step in &section.plan.steps[..section.plan.fixed_steps] {
                if let (Place::Fixed(bit), Some(n)) = (step.place, place_of(step.slot)) {
                    let place = expr![Variable::Start, " * 8u + ", Expr::number(bit as usize)];
                    inner.push(Stmt::Do(expr![format!("at[{n}] = "), place]));
                }
            }
            let noted = |cursor: Cursor, slot: usize| {
                let place = match cursor {
                    Cursor::Bits => expr![Variable::Bit],
                    Cursor::Bytes => expr![Variable::Here, " * 8u"],
                };
                place_of(slot).map(|n| Stmt::Do(expr![format!("at[{n}] = "), place]))
            };
            inner.extend(group.read_section(index, &sections, ValueUse::Nothing, "", &noted));
            inner.push(Stmt::call(format!("*sections_held = {}u", index + 1)));
        }
        let inner = simplified(inner, &Variables::new());
        let names = variables_in(&inner);
        let is_inline = !calls(&inner);
        let (source, kind) = match is_inline {
            true => (header, format!("{link_upper}_CHECKED static inline")),
            false => (source, "static".to_owned()),
        };
        source.lines(&format!(
            "/* Checks a body and notes where its moving fields lie, as bits from the start; SIZE_MAX if one is not there. */\n\
             {kind} {link}_codec_result_t {stem}_walk(const uint8_t *body, size_t end, size_t *at, uint8_t *sections_held)\n{{"
        ));
        declare(&names, &group, self.answers(), source);
        for (name, is_used) in [
            ("body", names.contains(&Variable::Body)),
            ("end", names.contains(&Variable::End)),
            ("at", !moving.is_empty()),
        ] {
            if !is_used {
                source.line(format!("    (void){name};"));
            }
        }
        source.line("    *sections_held = 0;");
        for n in 0..moving.len() {
            source.line(format!("    at[{n}] = SIZE_MAX;"));
        }
        print_inside(&inner, source);
        source.lines(&format!("    return {link_upper}_OK;\n}}\n"));
        source.line("");
        is_inline
    }

    /// `_init`, `_encode`, `_decode` of the struct.
    fn owned(&self, ways: EmitOptions, header: &mut Code, source: &mut Code) {
        let Self { stem, link, upper, link_upper, .. } = self;
        let (keeps, writes) = (ways.receives && ways.structs, ways.sends && ways.structs);
        if ways.structs {
            header.lines(&format!(
                "/* All sections, with defaults where there are some; no reading where a code says so, zero elsewhere; optional fields absent. */\n\
                 {link_upper}_FUNCTION void {stem}_init({stem}_t *message);"
            ));
        }
        if writes {
            header.lines(&format!(
                "/* Writes the body; *used is its size. Of the buffer no more than {upper}_GREATEST_SIZE bytes change. */\n\
                 {link_upper}_CHECKED {link_upper}_FUNCTION {link}_codec_result_t {stem}_encode(const {stem}_t *message, uint8_t *body, size_t room, size_t *used);"
            ));
        }
        if keeps {
            header.lines(&format!(
                "/* Reads a body. Bytes after the last section known here are from a later revision and skipped. Codes without a meaning are\n \
                 * accepted: ..._valid() tells them. Behind a count or length, and where something is not there, members keep what they held. */\n\
                 {link_upper}_CHECKED {link_upper}_FUNCTION {link}_codec_result_t {stem}_decode({stem}_t *message, const uint8_t *body, size_t size);"
            ));
        }
        if ways.receives {
            header.lines(&format!(
                "/* Whether a body can be decoded. */\n{link_upper}_CHECKED {link_upper}_FUNCTION {link}_codec_result_t {stem}_check(const uint8_t *body, size_t size);"
            ));
        }
        header.line("");
        if keeps && self.answers() {
            header.lines(&format!(
                "/* The same as ..._decode, with the key that the request asked for; it decides about the form of the value. */\n\
                 {link_upper}_CHECKED {link_upper}_FUNCTION {link}_codec_result_t {stem}_decode_answer({stem}_t *message, const uint8_t *body, size_t size, uint64_t key);\n"
            ));
        }
        if ways.structs {
            source.lines(&format!("{link_upper}_FUNCTION void {stem}_init({stem}_t *message)\n{{\n    memset(message, 0, sizeof *message);"));
            source.line(format!("    message->sections_held = {upper}_SECTIONS;"));
            print_inside(&self.group().defaults("message->"), source);
            source.lines("}\n");
            source.line("");
        }
        if writes {
            self.encode(source);
        }
        if !ways.receives {
            return;
        }
        let places = self.moving().len().max(1);
        source.lines(&format!(
            "{link_upper}_FUNCTION {link}_codec_result_t {stem}_check(const uint8_t *body, size_t size)\n{{\n    \
                 size_t at[{places}];\n    uint8_t sections_held;\n    \
                 return {stem}_walk(body, size, at, &sections_held);\n}}\n"
        ));
        source.line("");
        match (keeps, self.answers()) {
            (false, _) => {}
            (true, true) => {
                self.decode("static ", "_decode_with", ", bool key_known, uint64_t key", source);
                source.lines(&format!(
                    "{link_upper}_FUNCTION {link}_codec_result_t {stem}_decode({stem}_t *message, const uint8_t *body, size_t size)\n{{\n    \
                         return {stem}_decode_with(message, body, size, false, 0);\n}}\n\n\
                     {link_upper}_FUNCTION {link}_codec_result_t {stem}_decode_answer({stem}_t *message, const uint8_t *body, size_t size, uint64_t key)\n{{\n    \
                         return {stem}_decode_with(message, body, size, true, key);\n}}\n"
                ));
                source.line("");
            }
            (true, false) => self.decode(&format!("{link_upper}_FUNCTION "), "_decode", "", source),
        }
    }

    fn encode(&self, source: &mut Code) {
        let Self { stem, link, upper, link_upper, .. } = self;
        let group = self.group();
        let is_held = |index: usize, _: u32| expr![format!("message->sections_held > {index}u")];
        let inner = group.write_sections(&group.lowered(), "message->", is_held);
        let inner = simplified(inner, &Variables::from([Variable::Start]));
        let names = variables_in(&inner);
        source.lines(&format!(
            "{link_upper}_FUNCTION {link}_codec_result_t {stem}_encode(const {stem}_t *message, uint8_t *body, size_t room, size_t *used)\n{{"
        ));
        let by_revision = names.contains(&Variable::Revision);
        if by_revision {
            source.line("    uint32_t revision;");
        }
        source.line("    size_t start = 0;");
        declare_cursors(&names, true, source);
        source.lines(&format!(
            "    *used = 0;\n    \
                 if (message->sections_held < 1u || message->sections_held > {upper}_SECTIONS) {{\n        \
                     return message->sections_held < 1u ? {link_upper}_NOT_INITIALISED : {link_upper}_OUT_OF_RANGE;\n    }}"
        ));
        let guard = self.guard();
        source.lines(&guard);
        if by_revision {
            let earlier = self.plan.sections[..self.plan.sections.len() - 1].iter().enumerate();
            let earlier: String = earlier
                .map(|(index, section)| format!("message->sections_held == {}u ? {}u : ", index + 1, section.revision))
                .collect();
            source.lines(&format!(
                "    /* A sender of all sections is one of this very revision. */\n    revision = {earlier}{link_upper}_REVISION;"
            ));
        }
        if !names.contains(&Variable::Room) {
            source.line("    (void)body;\n    (void)room;");
        }
        // Bits that are put into bytes one after the other need bytes that are zero.
        if group.puts_bits() {
            source.line(format!("    memset(body, 0, room < {upper}_GREATEST_SIZE ? room : {upper}_GREATEST_SIZE);"));
        }
        print_inside(&inner, source);
        source.lines(&format!("    *used = start;\n    return {link_upper}_OK;\n}}\n"));
        source.line("");
    }

    /// In a build that stops at the first misuse: which field it is.
    fn guard(&self) -> String {
        let Self { stem, link_upper, .. } = self;
        format!(
            "#ifdef EMBERWORT_GUARD\n    {{\n        const char *field;\n        \
             if ({stem}_validate(message, &field) != {link_upper}_OK) {{\n            emberwort_guard(field);\n        }}\n    }}\n#endif"
        )
    }

    fn decode(&self, scope: &str, name: &str, more: &str, source: &mut Code) {
        let Self { stem, link, link_upper, .. } = self;
        let group = self.group();
        let sections = group.lowered();
        let mut inner = Vec::new();
        for (index, section) in sections.iter().enumerate() {
            let mut lacking = group.unset_sections(index, "message->");
            lacking.push(Stmt::call(format!("message->sections_held = {index}u")));
            lacking.push(Stmt::Return(expr![format!("{link_upper}_OK")]));
            inner.extend(group.begin_section(index, section, lacking));
            inner.extend(group.read_section(index, &sections, ValueUse::Keep, "message->", &|_, _| None));
        }
        let inner = simplified(inner, &Variables::new());
        let names = variables_in(&inner);
        source.lines(&format!(
            "{scope}{link}_codec_result_t {stem}{name}({stem}_t *message, const uint8_t *body, size_t size{more})\n{{"
        ));
        let has_end = names.contains(&Variable::End);
        if has_end {
            source.line("    const size_t end = size;");
        }
        declare(&names, &group, false, source);
        for (name, is_used) in [("body", names.contains(&Variable::Body)), ("size", has_end)] {
            if !is_used {
                source.line(format!("    (void){name};"));
            }
        }
        source.line("    message->sections_held = 0;");
        print_inside(&inner, source);
        source.lines(&format!(
            "    message->sections_held = {}u;\n    return {link_upper}_OK;\n}}\n",
            self.plan.sections.len()
        ));
        source.line("");
    }

    /// The in-place view.
    fn view(&self, edits: bool, is_inline: bool, header: &mut Code, source: &mut Code) {
        let Self { stem, link, link_upper, .. } = self;
        let places = self.moving().len();
        header.line("/* A body where it lies. */");
        header.open(format!("typedef struct {stem}_view_t {{"));
        header.line("const uint8_t *body;");
        header.line("size_t size;");
        header.line("uint8_t sections_held;");
        if places > 0 {
            header.line(format!("size_t at[{places}]; /* bit places of the fields that move */"));
        }
        header.close(format!("}} {stem}_view_t;"));
        header.lines(
            "/* Checks a body; if it is right, all ..._get_...() of the view are safe as long as the buffer lives. If it is not, the\n \
             * view shows a body of zeros. */",
        );
        let least = self.plan.sections.first().map_or(0, |section| section.least_size);
        let forget = match places {
            0 => String::new(),
            _ => {
                format!(
                    "        for (size_t n = 0; n < {places}u; n++) {{\n            view->at[n] = SIZE_MAX;\n        }}\n"
                )
            }
        };
        let signature =
            format!("{link}_codec_result_t {stem}_view({stem}_view_t *view, const uint8_t *body, size_t size)");
        let (begin, nothing) = match is_inline {
            true => (
                format!(
                    "{link_upper}_CHECKED static inline {signature}\n{{\n    static const uint8_t nothing[{}] = {{0}};",
                    least.max(1)
                ),
                "nothing".to_owned(),
            ),
            false => (format!("{link_upper}_FUNCTION {signature}\n{{"), format!("{link}_nothing")),
        };
        if !is_inline {
            header.line(format!("{link_upper}_CHECKED {link_upper}_FUNCTION {signature};"));
        }
        let written: &mut Code = if is_inline { header } else { source };
        written.uses(&nothing);
        written.lines(&format!(
            "{begin}\n    \
                 {link}_codec_result_t result;\n    \
                 view->body = body;\n    view->size = size;\n    \
                 result = {stem}_walk(body, size, {}, &view->sections_held);\n    \
                 if (result != {link_upper}_OK) {{\n        view->body = {nothing};\n        view->size = {least}u;\n        \
                     view->sections_held = 0;\n{forget}    }}\n    \
                 return result;\n}}\n",
            if places > 0 { "view->at" } else { "NULL" },
        ));
        written.line("");
        if edits {
            header.lines(&format!(
                "/* A body in the caller's buffer whose fields can be changed in place. */\n\
                 typedef struct {stem}_edit_t {{\n    {stem}_view_t view;\n    uint8_t *body;\n}} {stem}_edit_t;\n\
                 /* Checks a body, as ..._view() does. */\n\
                 {link_upper}_CHECKED static inline {link}_codec_result_t {stem}_edit({stem}_edit_t *edit, uint8_t *body, size_t size)\n{{\n    \
                     edit->body = body;\n    return {stem}_view(&edit->view, body, size);\n}}\n"
            ));
        }
        for (section, step) in self.seen_steps() {
            self.accessors(section, step, edits, header, source);
        }
        header.line("");
    }

    fn accessors(&self, section: usize, step: &Step, edits: bool, header: &mut Code, source: &mut Code) {
        let Self { stem, link, link_upper, .. } = self;
        let field = self.field(step);
        let name = member(&field.name);
        let place = self.place(section, step, IN_VIEW.places);
        let there = if self.fixed_place(section, step).is_none() {
            format!("{place} != SIZE_MAX")
        } else {
            format!("view->sections_held > {section}u")
        };
        let view = format!("const {stem}_view_t *view");
        let edit = format!("const {stem}_edit_t *edit");
        let edited_place = self.place(section, step, IN_EDIT.places);
        header.line(format!("/* {}: {} */", field.name, about(field)));
        let may_be_missing = Self::may_be_missing(section, step);
        if may_be_missing {
            header.line(format!("{link_upper}_FUNCTION bool {stem}_has_{name}({view});"));
            source
                .lines(&format!("{link_upper}_FUNCTION bool {stem}_has_{name}({view})\n{{\n    return {there};\n}}\n"));
            source.line("");
        }
        let guard = |way: InPlace, value: &str| {
            if may_be_missing {
                format!("    if (!{stem}_has_{name}({})) {{\n        return {value};\n    }}\n", way.view)
            } else {
                String::new()
            }
        };
        let what = literal(&format!("{}.{}", self.plan.message.name, field.name));
        let misuse = format!("{link_upper}_MISUSE({what});\n        return {link_upper}_OUT_OF_RANGE;");
        match &step.action {
            Action::Bits { width, order, .. } if let Some(bit) = self.fixed_place(section, step) => {
                let raw = numbers::raw_type(link, &field.kind);
                let pieces = pieces(bit, *width, *order);
                let byte = |way: InPlace, byte: usize| expr![format!("{}[{byte}]", way.body)];
                if may_be_missing {
                    header.line(format!("/* If it is not there: {}. */", default_raw(link, field)));
                }
                header.lines(&format!(
                    "static inline {raw} {stem}_get_{name}({view})\n{{\n{}    return {};\n}}\n",
                    guard(IN_VIEW, &default_raw(link, field)),
                    number(link, &field.kind, *width, &pieces, |at| byte(IN_VIEW, at))
                ));
                if !edits {
                    return source.line("");
                }
                header.line(format!("{link_upper}_CHECKED {link_upper}_FUNCTION {link}_codec_result_t {stem}_set_{name}({edit}, {raw} raw);"));
                let check = match numbers::is_always_valid(field) {
                    true => String::new(),
                    false => format!("    if (!{stem}_{name}_valid(raw)) {{\n        {misuse}\n    }}\n"),
                };
                let set: String = pieces
                    .iter()
                    .map(|piece| {
                        let byte = byte(IN_EDIT, piece.byte);
                        format!("    {};\n", change(&field.kind, *width, piece, byte, "raw"))
                    })
                    .collect();
                source.lines(&format!(
                    "{link_upper}_FUNCTION {link}_codec_result_t {stem}_set_{name}({edit}, {raw} raw)\n{{\n{}{check}{set}    return {link_upper}_OK;\n}}\n",
                    guard(IN_EDIT, &format!("{link_upper}_ABSENT"))
                ));
            }
            Action::Bits { width, order, .. } => {
                let raw = numbers::raw_type(link, &field.kind);
                let get = self.group().get_raw(&field.kind, *width, *order, expr![IN_VIEW.body], expr![&place]);
                let set = self.group().put(*width, *order, expr![IN_EDIT.body], expr![&edited_place], "raw");
                if may_be_missing {
                    header.line(format!("/* If it is not there: {}. */", default_raw(link, field)));
                }
                header.line(format!("{link_upper}_FUNCTION {raw} {stem}_get_{name}({view});"));
                get.functions().for_each(|function| source.uses(function));
                source.lines(&format!(
                    "{link_upper}_FUNCTION {raw} {stem}_get_{name}({view})\n{{\n{}    return {get};\n}}\n",
                    guard(IN_VIEW, &default_raw(link, field))
                ));
                source.line("");
                if !edits {
                    return;
                }
                header.line(format!("{link_upper}_CHECKED {link_upper}_FUNCTION {link}_codec_result_t {stem}_set_{name}({edit}, {raw} raw);"));
                set.functions().for_each(|function| source.uses(function));
                source.lines(&format!(
                    "{link_upper}_FUNCTION {link}_codec_result_t {stem}_set_{name}({edit}, {raw} raw)\n{{\n{}    \
                         if (!{stem}_{name}_valid(raw)) {{\n        {misuse}\n    }}\n    \
                         {set};\n    return {link_upper}_OK;\n}}\n",
                    guard(IN_EDIT, &format!("{link_upper}_ABSENT"))
                ));
            }
            Action::Run { length: Length::Exact(count), text: false } => {
                header.line(format!("{link_upper}_CHECKED {link_upper}_FUNCTION {link}_codec_result_t {stem}_get_{name}({view}, uint8_t bytes[{count}]);"));
                let absent = format!("{link_upper}_ABSENT");
                source.uses(format!("{link}_get"));
                source.lines(&format!(
                    "{link_upper}_FUNCTION {link}_codec_result_t {stem}_get_{name}({view}, uint8_t bytes[{count}])\n{{\n    size_t n;\n{}    \
                         for (n = 0; n < {count}u; n++) {{\n        \
                             bytes[n] = (uint8_t){link}_get({}, {place} + n * 8u, 8u);\n    }}\n    \
                         return {link_upper}_OK;\n}}\n",
                    guard(IN_VIEW, &absent),
                    IN_VIEW.body
                ));
                source.line("");
                if !edits {
                    return;
                }
                header.line(format!("{link_upper}_CHECKED {link_upper}_FUNCTION {link}_codec_result_t {stem}_set_{name}({edit}, const uint8_t bytes[{count}]);"));
                source.uses(format!("{link}_put"));
                source.lines(&format!(
                    "{link_upper}_FUNCTION {link}_codec_result_t {stem}_set_{name}({edit}, const uint8_t bytes[{count}])\n{{\n    size_t n;\n{}    \
                         for (n = 0; n < {count}u; n++) {{\n        \
                             {link}_put({}, {edited_place} + n * 8u, 8u, bytes[n]);\n    }}\n    \
                         return {link_upper}_OK;\n}}\n",
                    guard(IN_EDIT, &absent),
                    IN_EDIT.body
                ));
            }
            // A text of fixed length may lie across bytes: only the struct has it.
            Action::Run { length: Length::Exact(_), .. } => {}
            Action::Run { length, text } => {
                let ty = if *text { "char" } else { "uint8_t" };
                header
                    .line("/* Points into the body; NULL if it is not there. What lies in place keeps its length. */");
                header.line(format!("{link_upper}_FUNCTION const {ty} *{stem}_get_{name}({view}, size_t *length);"));
                let (size, skip) = match length {
                    Length::UpTo(most) => {
                        let bytes = count_bytes(*most);
                        let order = self.plan.byte_order;
                        let count = self.group().get(bytes * 8, order, expr![IN_VIEW.body], expr![&place]);
                        count.functions().for_each(|function| source.uses(function));
                        (format!("(size_t){count}"), bytes)
                    }
                    _ => (format!("view->size - {}", eighth(&place)), 0),
                };
                source.lines(&format!(
                    "{link_upper}_FUNCTION const {ty} *{stem}_get_{name}({view}, size_t *length)\n{{\n    *length = 0;\n{}    \
                         *length = {size};\n    \
                         return (const {ty} *)(view->body + {});\n}}\n",
                    guard(IN_VIEW, "NULL"),
                    match skip {
                        0 => eighth(&place),
                        skip => format!("{} + {skip}u", eighth(&place)),
                    }
                ));
            }
            _ => {}
        }
        source.line("");
    }
}

/// How a function comes to a body that lies in place.
#[derive(Clone, Copy)]
struct InPlace {
    /// A pointer to the view.
    view: &'static str,
    /// The bytes.
    body: &'static str,
    /// The places of the fields that move.
    places: &'static str,
}

/// Of a view, which only reads.
const IN_VIEW: InPlace = InPlace { view: "view", body: "view->body", places: "view->at" };

/// Of what changes a body, which has its own pointer to it.
const IN_EDIT: InPlace = InPlace { view: "&edit->view", body: "edit->body", places: "edit->view.at" };

/// The byte of a place in bits.
fn eighth(place: &Expr) -> String {
    match place.as_number() {
        Some(bits) if bits.is_multiple_of(8) => format!("{}u", bits / 8),
        _ => format!("{place} / 8u"),
    }
}

/// The definition of a time that is given in nanoseconds, in the greatest unit of which it is a whole number.
fn time(upper: &str, name: &str, nanoseconds: u64) -> String {
    let (unit, count) = match nanoseconds {
        whole if whole.is_multiple_of(1_000_000) => ("MS", whole / 1_000_000),
        whole if whole.is_multiple_of(1_000) => ("US", whole / 1_000),
        whole => ("NS", whole),
    };
    let bits = if count >> 32 == 0 { 32 } else { 64 };
    format!("#define {upper}_{name}_{unit} UINT{bits}_C({count})")
}
