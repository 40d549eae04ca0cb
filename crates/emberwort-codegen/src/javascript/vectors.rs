//! A program for Node.js that checks the module with the vectors.

use emberwort_model::Plan;
use emberwort_model::hex::hex;
use emberwort_model::model::Field;
use emberwort_model::plan::{Action, MessagePlan, Role};
use emberwort_wire::{ValueRef, Values};

use super::frames::{has_receiver, is_wide, stem};
use super::names::{bytes, class, comment, member, module, text};
use super::numbers::{code as code_of, literal};
use crate::code::Code;
use crate::lower::Group;
use crate::streams::{Event, streams};
use crate::vectors::{FrameVector, Vector, readable};

/// The rest of the program.
const TESTS: &str = include_str!("tests.js");

/// The test program.
pub fn write(plan: &Plan, vectors: &[Vector]) -> String {
    let name = module(&plan.link.name);
    let origin = crate::origin(plan);
    let mut code = Code::with_step("  ");
    code.lines(&comment(&format!("{origin}\n\nChecks {name}.js with the test vectors: node --test {name}.test.js")));
    code.lines(&format!(
        "\nimport test from \"node:test\";\nimport assert from \"node:assert/strict\";\nimport * as link from \"./{name}.js\";\n\n\
         const textOf = (some) => Buffer.from(some).toString(\"utf8\");\n\
         const hex = (some) => new Uint8Array(Buffer.from(some.replaceAll(\" \", \"\"), \"hex\"));\n\
         const floatOf = (raw, width) => {{\n  const view = new DataView(new ArrayBuffer(8));\n  view.setBigUint64(0, raw, true);\n  \
         return width === 32 ? view.getFloat32(0, true) : view.getFloat64(0, true);\n}};\n\n\
         // Message, case, what makes the value, the key of the request, the body, and the lengths at which it can be read if it is cut.\n\
         const VECTORS = ["
    ));
    for vector in vectors {
        let message = &plan.messages[vector.message];
        let steps = message.sections[..vector.sections].iter().flat_map(|section| &section.steps);
        let mut parts: Vec<String> = steps
            .filter(|step| !message.message.fields[step.slot].is_spare())
            .filter_map(|step| {
                let field = &message.message.fields[step.slot];
                let value = given(field, &step.action, &vector.values, step.slot)?;
                Some(format!("{}: {value}", member(&field.name)))
            })
            .collect();
        parts.push(format!("sectionsHeld: {}", vector.sections));
        let readable: Vec<String> = readable(message, vector).iter().map(usize::to_string).collect();
        code.line(format!(
            "  [{}, {}, () => new link.{}({{ {} }}), {}, hex({}), [{}]],",
            text(&message.message.name),
            text(&vector.case),
            class(&message.message.name),
            parts.join(", "),
            vector.key.map_or_else(|| "undefined".to_owned(), |key| key.to_string()),
            text(&hex(&vector.body)),
            readable.join(", "),
        ));
    }
    code.lines("];\n\n// Message, case, what builds and opens a frame, what makes its header, the key outside of it, its bytes.\nconst FRAMES = [");
    for vector in vectors {
        for frame in &vector.frames {
            code.line(framed(plan, vector, frame));
        }
    }
    let reaching = |message: &&MessagePlan| Group::of_message(plan, message).reaches_to_the_end();
    let reaching: Vec<String> =
        plan.messages.iter().filter(reaching).map(|message| text(&message.message.name)).collect();
    code.lines(&format!(
        "];\n\n// Messages with a field that reaches to the end of the body.\nconst TO_THE_END = [{}];\n",
        reaching.join(", ")
    ));
    code.lines("// Receiver, all bytes, those of good frames, and of each chunk its bytes (none for silence) and the frames that are found with them.\nconst STREAMS = [");
    for stream in streams(plan).iter().filter(|stream| has_receiver(plan.channels[stream.channel].finder())) {
        code.line(format!("  [{}, {}, {}, [", text(&stream.name(plan)), stream.bytes, stream.good_bytes));
        for chunk in &stream.chunks {
            let event = |event: &Event| format!("[{}, {}]", text(event.judged.as_str()), text(&plain_hex(&event.body)));
            let events: Vec<String> = chunk.events.iter().map(event).collect();
            code.line(format!("    [{}, [{}]],", text(&plain_hex(&chunk.bytes)), events.join(", ")));
        }
        code.line("  ]],");
    }
    code.lines("];\n");
    code.lines(TESTS);
    code.finish()
}

/// Hex digits without spaces.
fn plain_hex(some: &[u8]) -> String {
    some.iter().map(|byte| format!("{byte:02x}")).collect()
}

/// A frame of a vector.
fn framed(plan: &Plan, vector: &Vector, frame: &FrameVector) -> String {
    let message = &plan.messages[vector.message].message;
    let channel = &plan.channels[frame.channel];
    let from = channel.is_split().then_some(message.from);
    let direction = channel.direction(message.from);
    let mut parts: Vec<String> = Vec::new();
    for part in &direction.parts {
        let value = match part.role {
            Role::Message => frame.header.key,
            Role::Address => frame.header.node,
            Role::Sequence => frame.header.sequence,
            Role::Revision => frame.header.revision,
            _ => continue,
        };
        let value = if is_wide(part) { literal(i128::from(value), 64) } else { value.to_string() };
        parts.push(format!("{}: {value}", member(&part.name)));
    }
    let key = direction.key_is_outside().then_some(frame.header.key);
    parts.extend(key.map(|key| format!("key: {key}")));
    parts.push(format!("body: hex({})", text(&hex(&frame.body))));
    let stem = stem(&direction.name, from);
    format!(
        "  [{}, {}, link.build{stem}, link.open{stem}, () => ({{ {} }}), {}, hex({})],",
        text(&message.name),
        text(&vector.case),
        parts.join(", "),
        key.map_or_else(|| "null".to_owned(), |key| key.to_string()),
        text(&hex(&frame.bytes)),
    )
}

/// What a slot holds, as an expression, if it holds something: what the sender's revision lacks has its default.
fn given(field: &Field, action: &Action, values: &Values, slot: usize) -> Option<String> {
    let is_lacking = matches!(values.get(slot), ValueRef::Absent | ValueRef::Unset) && !field.optional;
    (!is_lacking).then(|| value(field, action, values, slot))
}

fn value(field: &Field, action: &Action, values: &Values, slot: usize) -> String {
    match (values.get(slot), action) {
        (ValueRef::Raw(raw), _) => match &field.kind {
            // Short ones are exact in decimal.
            emberwort_model::model::Kind::Float(16) => format!("{:?}", emberwort_model::float::float_value(16, raw)),
            emberwort_model::model::Kind::Float(bits) => format!("floatOf(BigInt(\"{raw}\"), {bits})"),
            kind => code_of(kind, raw),
        },
        (ValueRef::Bytes(some), Action::Run { text: true, .. }) => match std::str::from_utf8(some) {
            Ok(plain) => text(plain),
            Err(_) => format!("textOf({})", bytes(some)),
        },
        (ValueRef::Bytes(some), _) => format!("hex({})", text(&hex(some))),
        (ValueRef::Group { first, .. }, Action::Record(record)) => {
            let steps = record.sections.iter().flat_map(|section| &section.steps);
            let parts: Vec<String> = steps
                .filter(|step| !record.record.fields[step.slot].is_spare())
                .filter_map(|step| {
                    let field = &record.record.fields[step.slot];
                    let value = given(field, &step.action, values, first + step.slot)?;
                    Some(format!("{}: {value}", member(&field.name)))
                })
                .collect();
            format!("new link.{}({{ {} }})", class(&record.record.name), parts.join(", "))
        }
        (ValueRef::Group { first, count }, Action::List(list)) => {
            let element = &list.element;
            let all: Vec<String> =
                (first..first + count).map(|slot| value(&element.field, &element.action, values, slot)).collect();
            format!("[{}]", all.join(", "))
        }
        (ValueRef::Chosen { form, slot }, Action::Union(union)) => {
            let element = &union.forms[form];
            format!(
                "{{ name: {}, value: {} }}",
                text(&element.field.name),
                value(&element.field, &element.action, values, slot)
            )
        }
        _ => "null".to_owned(),
    }
}
