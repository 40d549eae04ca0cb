//! A program that checks the generated code with all vectors, both ways, and says where it differs.

use emberwort_model::Plan;
use emberwort_model::model::{End, Field, Kind, Length};
use emberwort_model::plan::{Action, Direction, FrameFinder, MessagePlan, Part, Role};
use emberwort_wire::{ValueRef, Values};

use super::link::has_receiver;
use super::words::{constant, literal, member};
use super::{channel, numbers};
use crate::code::Code;
use crate::names::{screaming, snake};
use crate::streams::{Event, Judged, Stream, streams};
use crate::vectors::{FrameVector, Vector};

pub fn write(plan: &Plan, vectors: &[Vector]) -> String {
    let link = snake(&plan.link.name);
    let origin = crate::origin(plan);
    let mut code = Code::default();
    code.lines(&format!(
        "/* {origin}\n \
          * Checks {link}.c with all vectors, both ways; exits non-zero if anything differs. */\n\
         #include \"{link}.h\"\n\n#include <stdio.h>\n#include <stdlib.h>\n#include <string.h>\n\n\
         static int failures;\n"
    ));
    code.line("");
    code.define("expect", |code| code.lines(EXPECT));
    code.define("same_bytes", |code| code.lines(SAME_BYTES));
    // A message or a channel may have no vector.
    let mut define = |name: String, write: &dyn Fn(&mut Code)| {
        code.define(name, |code| {
            code.uses("expect");
            code.uses("same_bytes");
            write(code);
        });
    };
    for message in &plan.messages {
        let name = snake(&message.message.name);
        define(format!("check_body_of_{link}_{name}"), &|code| compare(&link, message, code));
        if message.message.line.is_some() {
            define(format!("check_line_of_{link}_{name}"), &|code| line_check(&link, message, code));
        }
    }
    for channel in &plan.channels {
        for (from, direction) in channel.directions() {
            let stem = channel::stem(&link, &direction.name, from);
            define(format!("check_frame_of_{stem}"), &|code| frame_check(&link, direction, from, code));
        }
    }
    for (index, vector) in vectors.iter().enumerate() {
        one(plan, &link, index, vector, &mut code);
    }
    let streams = streams(plan);
    for (index, stream) in streams.iter().enumerate() {
        stream_check(plan, &link, index, stream, &mut code);
    }
    code.lines("int main(void)\n{");
    for index in 0..vectors.len() {
        code.line(format!("    vector_{index}();"));
    }
    for index in 0..streams.len() {
        code.line(format!("    stream_{index}();"));
    }
    code.lines(&format!(
        "    printf(\"{} vectors, %d differences\\n\", failures);\n    return failures == 0 ? EXIT_SUCCESS : EXIT_FAILURE;\n}}",
        vectors.len()
    ));
    code.finish()
}

const EXPECT: &str = r#"static void expect(bool right, const char *vector, const char *what)
{
    if (!right) {
        printf("%s: %s differs\n", vector, what);
        failures++;
    }
}

"#;

const SAME_BYTES: &str = "static bool same_bytes(const void *a, const void *b, size_t size)
{
    return size == 0u || memcmp(a, b, size) == 0;
}

";

/// The check of one message: encode, decode, view, every shorter body.
fn compare(link: &str, plan: &MessagePlan, code: &mut Code) {
    let stem = format!("{link}_{}", snake(&plan.message.name));
    let upper = screaming(link);
    let (asked, decode) = match plan.request {
        Some(_) => ("uint64_t key, ", format!("{stem}_decode_answer(&decoded, bytes, size, key)")),
        None => ("", format!("{stem}_decode(&decoded, bytes, size)")),
    };
    code.lines(&format!(
        "static void check_body_of_{stem}(const {stem}_t *values, const uint8_t *bytes, size_t size, {asked}const char *vector)\n{{\n    \
             uint8_t body[{} + 1];\n    {stem}_t decoded;\n    {stem}_view_t view;\n    {stem}_edit_t edit;\n    size_t used;\n    size_t cut;",
        plan.greatest_size()
    ));
    let longest = plan.message.fields.iter().filter(|field| !field.is_spare()).filter_map(|field| match field.kind {
        Kind::Bytes(Length::Exact(count)) => Some(count),
        _ => None,
    });
    if let Some(longest) = longest.max() {
        code.line(format!("    uint8_t some[{longest}];"));
    }
    code.lines(&format!(
        "    expect({stem}_encode(values, body, sizeof body, &used) == {upper}_OK, vector, \"encoding\");\n    \
             expect(used == size && same_bytes(body, bytes, size), vector, \"the body\");\n    \
             expect({decode} == {upper}_OK, vector, \"decoding\");\n    \
             expect(decoded.sections_held == values->sections_held, vector, \"the number of sections\");\n    \
             expect({stem}_encode(&decoded, body, sizeof body, &used) == {upper}_OK, vector, \"encoding what was decoded\");\n    \
             expect(used == size && same_bytes(body, bytes, size), vector, \"the body of what was decoded\");\n    \
             if (size > 0u) {{\n        memcpy(body, bytes, size);\n    }}\n    \
             if ({stem}_view(&view, body, size) != {upper}_OK || {stem}_edit(&edit, body, size) != {upper}_OK) {{\n        \
                 expect(false, vector, \"the view\");\n        return;\n    }}"
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
            if matches!(step.action, Action::Bits { .. } | Action::Run { .. }) {
                code.line(format!("    expect({stem}_has_{name}(&view) == values->has_{name}, vector, {label});"));
            }
        }
        let there = if step.presence.is_some() {
            format!("values->has_{name}")
        } else {
            format!("values->sections_held > {section}u")
        };
        match &step.action {
            Action::Bits { .. } => {
                code.line(format!("    expect(decoded.{name} == values->{name}, vector, {label});"));
                code.line(format!("    expect({stem}_get_{name}(&view) == values->{name}, vector, {label});"));
                code.line(format!("    if ({there}) {{"));
                code.line(format!(
                    "        expect({stem}_set_{name}(&edit, values->{name}) == {upper}_OK, vector, {label});"
                ));
                code.line("    }");
                if let Kind::Number(form) = &field.kind
                    && !form.scaling.is_identity()
                {
                    scaled(&stem, &upper, &name, &field.kind, form, &there, code);
                }
            }
            Action::Run { length: Length::Exact(count), text: false } => {
                code.lines(&format!(
                    "    expect(same_bytes(decoded.{name}, values->{name}, {count}u), vector, {label});\n    \
                     if ({there}) {{\n        \
                         expect({stem}_get_{name}(&view, some) == {upper}_OK && same_bytes(some, values->{name}, {count}u), vector, {label});\n        \
                         expect({stem}_set_{name}(&edit, some) == {upper}_OK, vector, {label});\n    }}"
                ));
            }
            Action::Run { length, text } => {
                code.line(format!(
                    "    expect(decoded.{name}_length == values->{name}_length && same_bytes(decoded.{name}, values->{name}, values->{name}_length), vector, {label});"
                ));
                if !matches!(length, Length::Exact(_)) {
                    let ty = if *text { "char" } else { "uint8_t" };
                    code.lines(&format!(
                        "    if ({there}) {{\n        size_t length;\n        const {ty} *in_place = {stem}_get_{name}(&view, &length);\n        \
                             expect(length == values->{name}_length && same_bytes(in_place, values->{name}, length), vector, {label});\n    }}"
                    ));
                }
            }
            // What lies deeper is compared by encoding it again.
            _ => {}
        }
    }
    // A field that reaches to the end is just shorter then.
    let fewer = if plan.has_rest || plan.request.is_some() { "<=" } else { "<" };
    code.lines(&format!(
        "    expect(same_bytes(body, bytes, size), vector, \"the body after setting every field\");\n    \
             /* Shorter bodies: refused, or read as those of an older sender; never beyond their end. */\n    \
             for (cut = 0; cut < size; cut++) {{\n        \
                 uint8_t *shorter = malloc(cut + 1u);\n        \
                 if (shorter != NULL) {{\n            \
                     memcpy(shorter, bytes, cut);\n            \
                     if ({stem}_decode(&decoded, shorter, cut) == {upper}_OK) {{\n                \
                         expect(decoded.sections_held {fewer} values->sections_held, vector, \"a cut body\");\n            }}\n        }}\n        \
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
    let raw = numbers::integer_type(kind);
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

/// The check of a text message's line, both ways.
fn line_check(link: &str, plan: &MessagePlan, code: &mut Code) {
    let stem = format!("{link}_{}", snake(&plan.message.name));
    let upper = screaming(link);
    code.lines(&format!(
        "static void check_line_of_{stem}(const {stem}_t *values, const char *line, size_t size, const char *vector)\n{{\n    \
             char out[1024];\n    {stem}_t decoded;\n    size_t used;\n    \
             expect({stem}_write_line(values, out, sizeof out, &used) == {upper}_OK, vector, \"writing the line\");\n    \
             expect(used == size && same_bytes(out, line, size), vector, \"the line\");\n    \
             expect({stem}_read_line(&decoded, line, size) == {upper}_OK, vector, \"reading the line\");\n    \
             expect({stem}_write_line(&decoded, out, sizeof out, &used) == {upper}_OK, vector, \"writing what was read\");\n    \
             expect(used == size && same_bytes(out, line, size), vector, \"the line of what was read\");\n    \
             expect(size == 0u || {stem}_write_line(values, out, size - 1u, &used) == {upper}_NO_ROOM, vector, \"a line without room\");\n}}\n"
    ));
    code.line("");
}

fn frame_check(link: &str, channel: &Direction, from: Option<End>, code: &mut Code) {
    let stem = channel::stem(link, &channel.name, from);
    let upper = screaming(link);
    code.lines(&format!(
        "static void check_frame_of_{stem}(const {stem}_frame_t *frame, const uint8_t *bytes, size_t size, const char *vector)\n{{\n    \
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
                 for (n = 0; n <= size; n++) {{\n        \
                     if (n < size) {{\n            {stem}_receiver_put(&receiver, bytes[n]);\n        }} else {{\n            \
                         {stem}_receiver_end(&receiver);\n        }}\n        \
                     while ({stem}_receiver_next(&receiver, &found)) {{\n            \
                         accepted++;\n            expect({same}, vector, \"the received frame\");\n        }}\n    }}\n    \
                 expect(accepted == 1, vector, \"the number of received frames\");\n}}\n"
        ));
    } else {
        let key = if channel.key_is_outside() { "    found.key = frame->key;\n" } else { "" };
        code.lines(&format!(
            "{key}    expect({stem}_open(&found, bytes, size) == {upper}_OK && {stem}_check_body(&found) == {upper}_OK, vector, \"opening the frame\");\n    \
                 expect({same}, vector, \"the opened frame\");\n}}\n"
        ));
    }
    code.line("");
}

/// The check of a stream: the same frames after each chunk, and every byte counted once.
fn stream_check(plan: &Plan, link: &str, index: usize, stream: &Stream, code: &mut Code) {
    let channel = &plan.channels[stream.channel];
    let stem = channel::stem(link, &channel.name, stream.from);
    let upper = screaming(link);
    let what = literal(&format!("stream of {}", stream.name(plan)));
    let events: Vec<(usize, &Event)> = stream
        .chunks
        .iter()
        .enumerate()
        .flat_map(|(n, chunk)| chunk.events.iter().map(move |event| (n, event)))
        .collect();
    let silence = if let FrameFinder::Idle { .. } = channel.finder() { "silence" } else { "gap" };
    let bytes: Vec<u8> = stream.chunks.iter().flat_map(|chunk| &chunk.bytes).copied().collect();
    let bodies: Vec<u8> = events.iter().flat_map(|(_, event)| &event.body).copied().collect();
    let sizes: Vec<String> = stream.chunks.iter().map(|chunk| chunk.bytes.len().to_string()).collect();
    let one = |(chunk, event): &(usize, &Event)| {
        let kind = match event.judged {
            Judged::Good => 0,
            Judged::UnknownMessage => 1,
            Judged::Body => 2,
        };
        format!("{{{chunk}, {kind}, {}}}", event.body.len())
    };
    let expected: Vec<String> = events.iter().map(one).collect();
    let expected = if expected.is_empty() { "{0, 0, 0}".to_owned() } else { expected.join(", ") };
    code.uses("expect");
    code.uses("same_bytes");
    code.lines(&format!(
        "static void stream_{index}(void)\n{{\n    static const uint8_t bytes[] = {{{}}};\n    \
             /* How many bytes come at once; 0 is silence. */\n    static const uint16_t chunks[] = {{{}}};\n    \
             /* Of each frame the chunk with which it is found, whether it is good (0), of no known message (1) or unreadable (2), and its size. */\n    \
             static const uint16_t frames[][3] = {{{expected}}};\n    static const uint8_t bodies[] = {{{}}};\n    \
             static {stem}_receiver_t receiver;\n    {stem}_frame_t frame;\n    size_t chunk;\n    size_t n;\n    size_t at = 0;\n    size_t found = 0;\n    size_t body = 0;\n    \
             {stem}_receiver_init(&receiver);\n    \
             for (chunk = 0; chunk < {count}u; chunk++) {{\n        size_t size = chunks[chunk];\n        \
                 for (n = 0; n < (size == 0u ? 1u : size); n++) {{\n            \
                     if (size > 0u) {{\n                {stem}_receiver_put(&receiver, bytes[at]);\n                at++;\n            \
                     }} else if (chunk + 1u == {count}u) {{\n                {stem}_receiver_end(&receiver);\n            \
                     }} else {{\n                {stem}_receiver_{silence}(&receiver);\n            }}\n            \
                     while ({stem}_receiver_next(&receiver, &frame)) {{\n                \
                         unsigned kind = receiver.result == {upper}_OK ? 0u : receiver.result == {upper}_UNKNOWN_MESSAGE ? 1u : 2u;\n{skip}                \
                         expect(found < {events}u && frames[found][0] == chunk && frames[found][1] == kind && frames[found][2] == frame.size, {what}, \"a found frame\");\n                \
                         expect(body + frame.size <= {bodies}u && same_bytes(&bodies[body], frame.body, frame.size), {what}, \"the body of a found frame\");\n                \
                         body += frame.size;\n                found++;\n            }}\n        }}\n    }}\n    \
             expect(found == {events}u, {what}, \"the number of frames\");\n    \
             expect(receiver.good_bytes == {good}u, {what}, \"the bytes of good frames\");\n    \
             expect(receiver.good_bytes + receiver.unread_bytes + receiver.skipped_bytes == {total}u, {what}, \"the number of bytes\");\n}}\n",
        bytes_literal(&bytes),
        sizes.join(", "),
        bytes_literal(&bodies),
        skip = match stream.only_good {
            true => "                if (kind != 0u) {\n                    continue;\n                }\n",
            false => "",
        },
        count = stream.chunks.len(),
        events = events.len(),
        bodies = bodies.len(),
        good = stream.good_bytes,
        total = stream.bytes,
    ));
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
    let is_line = |frame: &&FrameVector| {
        let direction = plan.channels[frame.channel].direction(compiled.message.from);
        matches!(direction.finder, FrameFinder::Lines { .. })
    };
    for (n, frame) in vector.frames.iter().enumerate() {
        let stem = channel::stem_of(link, &plan.channels[frame.channel], compiled.message.from);
        code.line(format!("    static const uint8_t frame_{n}[] = {{{}}};", bytes_literal(&frame.bytes)));
        code.line(format!("    {stem}_frame_t header_{n};"));
    }
    code.line(format!("    {stem}_init(&values);"));
    code.line(format!("    values.sections_held = {}u;", vector.sections));
    set_group(&compiled.message.fields, &vector.values, 0, "values.", code);
    let asked = match compiled.request {
        Some(_) => format!("UINT64_C({}), ", vector.key.unwrap_or(u64::MAX)),
        None => String::new(),
    };
    code.uses(format!("check_body_of_{stem}"));
    code.line(format!("    check_body_of_{stem}(&values, body, {}u, {asked}{name});", vector.body.len()));
    for frame in vector.frames.iter().filter(is_line) {
        let line = literal(&String::from_utf8_lossy(&frame.body));
        code.uses(format!("check_line_of_{stem}"));
        code.line(format!("    check_line_of_{stem}(&values, {line}, {}u, {name});", frame.body.len()));
    }
    for (n, frame) in vector.frames.iter().enumerate() {
        let channel = &plan.channels[frame.channel];
        let stem = channel::stem_of(link, channel, compiled.message.from);
        let direction = channel.direction(compiled.message.from);
        if direction.key_is_outside() {
            code.line(format!("    header_{n}.key = UINT32_C({});", frame.header.key));
        }
        for part in &direction.parts {
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
        if is_line(&frame) {
            let line = literal(&String::from_utf8_lossy(&frame.body));
            code.line(format!("    header_{n}.body = (const uint8_t *){line};"));
        } else {
            code.line(format!("    header_{n}.body = body;"));
        }
        code.line(format!("    header_{n}.size = {}u;", frame.body.len()));
        code.uses(format!("check_frame_of_{stem}"));
        code.line(format!("    check_frame_of_{stem}(&header_{n}, frame_{n}, {}u, {name});", frame.bytes.len()));
        send_check(plan, link, compiled, (n, frame), &name, code);
    }
    code.lines("}\n");
    code.line("");
}

/// The same frame, made of the values in one step.
fn send_check(
    plan: &Plan,
    link: &str,
    compiled: &MessagePlan,
    (n, frame): (usize, &FrameVector),
    name: &str,
    code: &mut Code,
) {
    let message = &compiled.message;
    let direction = plan.channels[frame.channel].direction(message.from);
    let stem = channel::stem_of(link, &plan.channels[frame.channel], message.from);
    let has = |role: Role| direction.part(|one| *one == role).is_some();
    let is_older = has(Role::Revision) && frame.header.revision != u64::from(plan.link.revision);
    if direction.finder.is_text() || direction.head_bytes + direction.tail_bytes == 0 || is_older {
        return;
    }
    let node = match (direction.node_in_key(frame.header.key), has(Role::Address)) {
        (_, true) => format!("{}, ", constant(i128::from(frame.header.node), 64, false)),
        (Some(node), false) => format!("{node}u, "),
        (None, false) => String::new(),
    };
    let upper = screaming(link);
    let part = direction.parts.iter().find(|part| part.role == Role::Sequence);
    code.uses("expect");
    code.uses("same_bytes");
    code.lines(&format!("    {{\n        uint8_t sent[sizeof frame_{n} + 1u];\n        size_t used;"));
    // Of a number that goes around its bits are kept. Each time the frame is sent it has the same: another frame may be shorter.
    let number = |part: &Part| constant(i128::from(frame.header.sequence & part.greatest()), part.bits, false);
    let (sender, again) = match part {
        Some(part) => {
            let value = number(part);
            code.line(format!("        {stem}_sender_t sender = {{{value}}};"));
            ("&sender, ", format!("        sender.{} = {value};\n", member(&part.name)))
        }
        None => ("", String::new()),
    };
    let call = |room: &str| format!("{stem}_send_{}(&values, {node}{sender}sent, {room}, &used)", snake(&message.name));
    code.lines(&format!(
        "        expect({} == {upper}_OK && used == sizeof frame_{n} && same_bytes(sent, frame_{n}, used), {name}, \"sending in one step\");\n{again}        \
             expect({} == {upper}_NO_ROOM, {name}, \"sending without room\");\n    }}",
        call("sizeof sent"),
        call(&format!("sizeof frame_{n} - 1u"))
    ));
}

/// The statements that set the fields of a struct.
fn set_group(fields: &[Field], values: &Values, base: usize, prefix: &str, code: &mut Code) {
    for (slot, field) in fields.iter().enumerate().filter(|(_, field)| !field.is_spare()) {
        let name = member(&field.name);
        if field.optional && !matches!(values.get(base + slot), ValueRef::Absent | ValueRef::Unset) {
            code.line(format!("    {prefix}has_{name} = true;"));
        }
        set(field, values, base + slot, (prefix, &name), code);
    }
}

fn set(field: &Field, values: &Values, slot: usize, (prefix, name): (&str, &str), code: &mut Code) {
    match values.get(slot) {
        ValueRef::Absent | ValueRef::Unset => {}
        ValueRef::Raw(raw) => {
            let bits = field.kind.raw_bits().unwrap_or(64);
            let value = match &field.kind {
                Kind::Bool => (raw != 0).to_string(),
                kind if kind.is_signed() => constant(i128::from(raw as i64), bits, true),
                _ => constant(i128::from(raw), bits, false),
            };
            code.line(format!("    {prefix}{name} = {value};"));
        }
        ValueRef::Bytes(bytes) => {
            let (length, is_text) = match &field.kind {
                Kind::Text { length, .. } => (*length, true),
                Kind::Bytes(length) => (*length, false),
                _ => (Length::Rest, false),
            };
            if is_text || !matches!(length, Length::Exact(_)) {
                code.line(format!("    {prefix}{name}_length = {}u;", bytes.len()));
            }
            let text: String = bytes.iter().map(|b| format!("\\{b:03o}")).collect();
            if length == Length::Rest {
                let ty = if is_text { "char" } else { "uint8_t" };
                code.lines(&format!(
                    "    {{\n        static const uint8_t bytes[] = {{{}}};\n        {prefix}{name} = (const {ty} *)bytes;\n    }}",
                    bytes_literal(bytes)
                ));
            } else if !bytes.is_empty() {
                code.line(format!("    memcpy({prefix}{name}, \"{text}\", {}u);", bytes.len()));
            }
        }
        ValueRef::Group { first, count } => match &field.kind {
            Kind::Record(record) => set_group(&record.fields, values, first, &format!("{prefix}{name}."), code),
            Kind::List { element, length } => {
                if !matches!(length, Length::Exact(_)) {
                    code.line(format!("    {prefix}{name}_count = {count}u;"));
                }
                let direct = element.kind.raw_bits().is_some() || matches!(element.kind, Kind::Record(_));
                for n in 0..count {
                    if direct {
                        set(element, values, first + n, (prefix, &format!("{name}[{n}]")), code);
                    } else {
                        set(element, values, first + n, (&format!("{prefix}{name}[{n}]."), "value"), code);
                    }
                }
            }
            _ => {}
        },
        ValueRef::Chosen { form, slot } => {
            let Kind::Union(union) = &field.kind else { return };
            let Some(inner) = union.form(form) else { return };
            code.line(format!("    {prefix}{name}_form = {form}u;"));
            set(inner, values, slot, (&format!("{prefix}{name}.{}.", member(&inner.name)), "value"), code);
        }
    }
}
