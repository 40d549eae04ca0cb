//! A program that checks the generated code with all vectors, both ways, and says where it differs.

use emberwort_model::Plan;
use emberwort_model::model::Kind;
use emberwort_model::plan::{Action, MessagePlan, Role};
use emberwort_wire::ValueRef;

use super::{constant, has_receiver, literal, member, numbers};
use crate::MARK;
use crate::code::Code;
use crate::names::{screaming, snake};
use crate::vectors::Vector;

pub fn write(plan: &Plan, vectors: &[Vector]) -> String {
    let link = snake(&plan.link.name);
    let mut code = Code::default();
    code.lines(&format!(
        "/* {MARK} from link {}, revision {}. Do not edit.\n \
          * Checks {link}.c with all vectors, both ways; exits non-zero if anything differs. */\n\
         #include \"{link}.h\"\n\n#include <stdio.h>\n#include <stdlib.h>\n#include <string.h>\n\n\
         static int failures;\n\n\
         static void expect(bool right, const char *vector, const char *what)\n{{\n    \
             if (!right) {{\n        printf(\"%s: %s differs\\n\", vector, what);\n        failures++;\n    }}\n}}\n\n\
         static bool same_bytes(const void *a, const void *b, size_t size)\n{{\n    \
             return size == 0u || memcmp(a, b, size) == 0;\n}}\n",
        plan.link.name, plan.link.revision
    ));
    code.line("");
    for message in &plan.messages {
        compare(&link, message, &mut code);
    }
    for channel in &plan.channels {
        frame_check(&link, channel, &mut code);
    }
    for (index, vector) in vectors.iter().enumerate() {
        one(plan, &link, index, vector, &mut code);
    }
    code.lines("int main(void)\n{");
    for index in 0..vectors.len() {
        code.line(format!("    vector_{index}();"));
    }
    code.lines(&format!(
        "    printf(\"{} vectors, %d differences\\n\", failures);\n    return failures == 0 ? EXIT_SUCCESS : EXIT_FAILURE;\n}}",
        vectors.len()
    ));
    code.finish()
}

/// The check of one message: encode, decode, view, every shorter body.
fn compare(link: &str, plan: &MessagePlan, code: &mut Code) {
    let stem = format!("{link}_{}", snake(&plan.message.name));
    let upper = screaming(link);
    code.lines(&format!(
        "static void check_{stem}(const {stem}_t *values, const uint8_t *bytes, size_t size, const char *vector)\n{{\n    \
             uint8_t body[{} + 1];\n    {stem}_t decoded;\n    {stem}_view_t view;\n    size_t used;\n    size_t cut;",
        plan.greatest_size()
    ));
    let has_bytes = plan.message.fields.iter().any(|field| matches!(field.kind, Kind::Bytes { .. }));
    if has_bytes {
        let longest = plan.message.fields.iter().map(|field| match field.kind {
            Kind::Bytes { length } => length,
            _ => 0,
        });
        code.line(format!("    uint8_t some[{}];", longest.max().unwrap_or(1)));
    }
    code.lines(&format!(
        "    expect({stem}_encode(values, body, sizeof body, &used) == {upper}_OK, vector, \"encoding\");\n    \
             expect(used == size && same_bytes(body, bytes, size), vector, \"the body\");\n    \
             expect({stem}_decode(&decoded, bytes, size) == {upper}_OK, vector, \"decoding\");\n    \
             expect(decoded.sections_held == values->sections_held, vector, \"the number of sections\");\n    \
             if (size > 0u) {{\n        memcpy(body, bytes, size);\n    }}\n    \
             expect({stem}_view(&view, body, size) == {upper}_OK, vector, \"the view\");"
    ));
    let steps =
        plan.sections.iter().enumerate().flat_map(|(n, section)| section.steps.iter().map(move |step| (n, step)));
    for (section, step) in steps {
        let field = &plan.message.fields[step.slot];
        if field.is_spare() {
            continue;
        }
        let name = member(&field.name);
        let label = literal(&field.name);
        if step.presence.is_some() {
            code.line(format!("    expect(decoded.has_{name} == values->has_{name}, vector, {label});"));
            code.line(format!("    expect({stem}_has_{name}(&view) == values->has_{name}, vector, {label});"));
        }
        let there = if step.presence.is_some() {
            format!("values->has_{name}")
        } else {
            format!("values->sections_held > {section}u")
        };
        match step.action {
            Action::Bits { .. } => {
                code.line(format!("    expect(decoded.{name} == values->{name}, vector, {label});"));
                code.line(format!("    expect({stem}_get_{name}(&view) == values->{name}, vector, {label});"));
                code.line(format!("    if ({there}) {{"));
                code.line(format!(
                    "        expect({stem}_set_{name}(&view, values->{name}) == {upper}_OK, vector, {label});"
                ));
                code.line("    }");
                if let Kind::Number(form) = &field.kind
                    && !form.scaling.is_identity()
                {
                    scaled(&stem, &upper, &name, &field.kind, form, &there, code);
                }
            }
            Action::Counted { .. } => {
                code.lines(&format!(
                    "    expect(decoded.{name}_length == values->{name}_length && same_bytes(decoded.{name}, values->{name}, values->{name}_length), vector, {label});\n    \
                     if ({there}) {{\n        size_t length;\n        const char *text = {stem}_get_{name}(&view, &length);\n        \
                         expect(length == values->{name}_length && same_bytes(text, values->{name}, length), vector, {label});\n    }}"
                ));
            }
            Action::Bytes { length } => {
                code.lines(&format!(
                    "    expect(same_bytes(decoded.{name}, values->{name}, {length}u), vector, {label});\n    \
                     if ({there}) {{\n        \
                         expect({stem}_get_{name}(&view, some) == {upper}_OK && same_bytes(some, values->{name}, {length}u), vector, {label});\n        \
                         expect({stem}_set_{name}(&view, some) == {upper}_OK, vector, {label});\n    }}"
                ));
            }
            Action::Skip { .. } => {}
        }
    }
    code.lines(&format!(
        "    expect(same_bytes(body, bytes, size), vector, \"the body after setting every field\");\n    \
             /* Shorter bodies: refused, or read as those of an older sender; never beyond their end. */\n    \
             for (cut = 0; cut < size; cut++) {{\n        \
                 uint8_t *shorter = malloc(cut + 1u);\n        \
                 if (shorter != NULL) {{\n            \
                     memcpy(shorter, bytes, cut);\n            \
                     if ({stem}_decode(&decoded, shorter, cut) == {upper}_OK) {{\n                \
                         expect(decoded.sections_held < values->sections_held, vector, \"a cut body\");\n            }}\n        }}\n        \
                 free(shorter);\n    }}\n    \
             for (cut = 0; cut < size; cut++) {{\n        \
                 expect({stem}_encode(values, body, cut, &used) == {upper}_NO_ROOM, vector, \"encoding without room\");\n    }}\n}}\n"
    ));
    code.line("");
}

/// Raw code to scaled integer and back.
fn scaled(
    stem: &str,
    upper: &str,
    name: &str,
    kind: &Kind,
    form: &emberwort_model::model::NumberForm,
    there: &str,
    code: &mut Code,
) {
    let raw = numbers::raw_type(kind);
    let label = literal(name);
    let field = screaming(&format!("{stem}_{name}"));
    // Scales may fall, so that the greatest value may be that of the least code.
    let greatest = if form.scaling.scaled(form.low) > form.scaling.scaled(form.high) { "LOW" } else { "HIGH" };
    let beyond = format!("{stem}_{name}_scaled({field}_{greatest})");
    let none = if form.none.is_some() { format!(" && values->{name} != {field}_NONE") } else { String::new() };
    code.lines(&format!(
        "#ifdef {field}_DECIMALS\n    if (({there}){none}) {{\n        {raw} raw;\n        \
             expect({stem}_{name}_from_scaled({stem}_{name}_scaled(values->{name}), &raw) == {upper}_OK && raw == values->{name}, vector, {label});\n        \
             expect({stem}_{name}_from_scaled_clamped({stem}_{name}_scaled(values->{name})) == values->{name}, vector, {label});\n        \
             expect({stem}_{name}_from_scaled({beyond} + 1, &raw) == {upper}_OUT_OF_RANGE, vector, {label});\n    }}\n#endif"
    ));
}

fn frame_check(link: &str, channel: &emberwort_model::plan::ChannelPlan, code: &mut Code) {
    let stem = format!("{link}_{}", snake(&channel.name));
    let upper = screaming(link);
    code.lines(&format!(
        "static void check_{stem}(const {stem}_frame_t *frame, const uint8_t *bytes, size_t size, const char *vector)\n{{\n    \
             uint8_t out[{} + 1];\n    {stem}_frame_t found;\n    size_t used;",
        channel.limit
    ));
    if has_receiver(channel.finder) {
        code.lines(&format!("    static {stem}_receiver_t receiver;\n    size_t n;\n    int accepted = 0;"));
    }
    code.lines(&format!(
        "    expect({stem}_build(frame, out, sizeof out, &used) == {upper}_OK, vector, \"building the frame\");\n    \
             expect(used == size && same_bytes(out, bytes, size), vector, \"the frame\");"
    ));
    let same = {
        let mut all: Vec<String> = channel
            .parts
            .iter()
            .filter(|part| matches!(part.role, Role::Message | Role::Address | Role::Sequence | Role::Revision))
            .map(|part| format!("found.{0} == frame->{0}", member(&part.name)))
            .collect();
        all.push("found.size == frame->size && same_bytes(found.body, frame->body, frame->size)".into());
        all.join(" && ")
    };
    if has_receiver(channel.finder) {
        code.lines(&format!(
            "    {stem}_receiver_init(&receiver);\n    \
                 for (n = 0; n < size; n++) {{\n        \
                     {stem}_receiver_put(&receiver, bytes[n]);\n        \
                     while ({stem}_receiver_next(&receiver, &found)) {{\n            \
                         accepted++;\n            expect({same}, vector, \"the received frame\");\n        }}\n    }}\n    \
                 expect(accepted == 1, vector, \"the number of received frames\");\n}}\n"
        ));
    } else {
        code.lines(&format!(
            "    expect({stem}_open(&found, bytes, size) == {upper}_OK && {stem}_check_body(&found) == {upper}_OK, vector, \"opening the frame\");\n    \
                 expect({same}, vector, \"the opened frame\");\n}}\n"
        ));
    }
    code.line("");
}

fn bytes_literal(bytes: &[u8]) -> String {
    if bytes.is_empty() {
        return "0".into();
    }
    bytes.iter().map(|byte| format!("0x{byte:02X}")).collect::<Vec<_>>().join(", ")
}

fn one(plan: &Plan, link: &str, index: usize, vector: &Vector, code: &mut Code) {
    let compiled = &plan.messages[vector.message];
    let stem = format!("{link}_{}", snake(&compiled.message.name));
    let name = literal(&format!("{} {}", compiled.message.name, vector.case));
    code.lines(&format!(
        "static void vector_{index}(void)\n{{\n    \
             static const uint8_t body[] = {{{}}};\n    {stem}_t values;",
        bytes_literal(&vector.body)
    ));
    for (n, frame) in vector.frames.iter().enumerate() {
        let channel = snake(&plan.channels[frame.channel].name);
        code.line(format!("    static const uint8_t frame_{n}[] = {{{}}};", bytes_literal(&frame.bytes)));
        code.line(format!("    {link}_{channel}_frame_t header_{n};"));
    }
    code.line(format!("    {stem}_init(&values);"));
    code.line(format!("    values.sections_held = {}u;", vector.sections));
    for (slot, field) in compiled.message.fields.iter().enumerate() {
        if field.is_spare() {
            continue;
        }
        let member = member(&field.name);
        let value = vector.values.get(slot);
        if field.optional && !matches!(value, ValueRef::Absent | ValueRef::Unset) {
            code.line(format!("    values.has_{member} = true;"));
        }
        match value {
            ValueRef::Absent | ValueRef::Unset => {}
            ValueRef::Raw(raw) => {
                let bits = field.kind.raw_bits().unwrap_or(64);
                let value = match &field.kind {
                    Kind::Bool => (raw != 0).to_string(),
                    kind if kind.is_signed() => constant(i128::from(raw as i64), bits, true),
                    _ => constant(i128::from(raw), bits, false),
                };
                code.line(format!("    values.{member} = {value};"));
            }
            ValueRef::Bytes(bytes) => {
                if matches!(field.kind, Kind::Text { .. }) {
                    code.line(format!("    values.{member}_length = {}u;", bytes.len()));
                }
                if !bytes.is_empty() {
                    let text: String = bytes.iter().map(|b| format!("\\{b:03o}")).collect();
                    code.line(format!("    memcpy(values.{member}, \"{text}\", {}u);", bytes.len()));
                }
            }
        }
    }
    code.line(format!("    check_{stem}(&values, body, {}u, {name});", vector.body.len()));
    for (n, frame) in vector.frames.iter().enumerate() {
        let channel = &plan.channels[frame.channel];
        for part in &channel.parts {
            let value = match part.role {
                Role::Message => frame.header.key,
                Role::Address => frame.header.node,
                Role::Sequence => frame.header.sequence,
                Role::Revision => frame.header.revision,
                _ => continue,
            };
            let value = constant(i128::from(value), part.bits, false);
            code.line(format!("    header_{n}.{} = {value};", member(&part.name)));
        }
        code.line(format!("    header_{n}.body = body;"));
        code.line(format!("    header_{n}.size = {}u;", vector.body.len()));
        code.line(format!(
            "    check_{link}_{}(&header_{n}, frame_{n}, {}u, {name});",
            snake(&channel.name),
            frame.bytes.len()
        ));
    }
    code.lines("}\n");
    code.line("");
}
