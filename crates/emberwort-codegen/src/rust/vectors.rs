//! A program that checks the module with the vectors.

use emberwort_model::Plan;
use emberwort_model::model::{Field, Length};
use emberwort_model::plan::{Action, FrameFinder, MessagePlan, RecordPlan, Role};
use emberwort_wire::{ValueRef, Values};

use super::frames::{has_receiver, stem};
use super::names::{bytes, class, member, module, text};
use super::values::{Owner, code as code_of};
use super::{ordered, view};
use crate::code::Code;
use crate::lower::Group;
use crate::streams::{Event, Judged, streams};
use crate::vectors::{FrameVector, Vector, readable};

/// The test program.
pub fn write(plan: &Plan, vectors: &[Vector]) -> String {
    let name = module(&plan.link.name);
    let origin = crate::origin(plan);
    let mut code = Code::default();
    code.lines(&format!(
        "//! {origin}\n//!\n//! Checks {name}.rs with the test vectors: `rustc --edition 2021 --test {name}_test.rs && ./{name}_test`\n\n\
         #![allow(dead_code, unused_imports, clippy::all, clippy::pedantic)]\n\n\
         mod {name};\n\nuse {name}::*;\n"
    ));
    code.lines(include_str!("printed/tests.rs.txt"));
    for (index, message) in plan.message_ids() {
        let of_message: Vec<&Vector> = vectors.iter().filter(|vector| vector.message == index).collect();
        let group = Group::of_message(plan, message);
        let has_view = view::has_view(&group);
        if has_view {
            code.line("");
            view::check(&group, &mut code);
        }
        let ordered = ordered::has_writer(&group);
        if ordered {
            code.line("");
            ordered::check(&group, Owner { name: &message.message.name, rest: message.rest_bytes }, &mut code);
        }
        code.line("");
        code.line("#[test]");
        code.open(format!("fn bodies_of_{}_agree() {{", crate::names::plain_snake(&message.message.name)));
        for vector in of_message {
            body(message, vector, !group.reaches_to_the_end(), (ordered, has_view), &mut code);
        }
        code.close("}");
    }
    for (index, channel) in plan.channel_ids() {
        code.line("");
        code.line("#[test]");
        code.open(format!("fn frames_of_{}_agree() {{", crate::names::plain_snake(&channel.name)));
        for vector in vectors {
            for frame in vector.frames.iter().filter(|frame| frame.channel == index) {
                framed(plan, vector, frame, &mut code);
            }
        }
        code.close("}");
    }
    for stream in streams(plan).iter().filter(|stream| has_receiver(plan.channels[stream.channel].finder())) {
        let name = stream.name(plan);
        code.line("");
        code.line("#[test]");
        code.open(format!("fn stream_of_{name}_agrees() {{"));
        code.line(format!("let mut receiver = {}::new();", class(&format!("{name}_receiver"))));
        code.open("let chunks: &[(&[u8], &[(u8, &[u8])])] = &[");
        for chunk in &stream.chunks {
            let event = |event: &Event| {
                let kind = match event.judged {
                    Judged::Good => 0,
                    Judged::UnknownMessage => 1,
                    Judged::Body => 2,
                };
                format!("({kind}, &{})", bytes(&event.body))
            };
            let events: Vec<String> = chunk.events.iter().map(event).collect();
            code.line(format!("(&{}, &[{}]),", bytes(&chunk.bytes), events.join(", ")));
        }
        code.close("];");
        code.line(format!(
            "check_stream!(receiver, chunks, {}, {}, {});",
            stream.only_good, stream.bytes, stream.good_bytes
        ));
        code.close("}");
    }
    code.finish()
}

fn body(message: &MessagePlan, vector: &Vector, grows: bool, (ordered, has_view): (bool, bool), code: &mut Code) {
    let name = class(&message.message.name);
    let owner = Owner { name: &message.message.name, rest: message.rest_bytes };
    let steps = message.sections[..vector.sections].iter().flat_map(|section| &section.steps);
    // A function of its own, so that the stack holds the values of one at a time.
    code.open("{");
    code.open("fn one() {");
    code.line(format!("let mut m = {name}::default();"));
    code.line(format!("m.sections_held = {};", vector.sections));
    for step in steps {
        let field = &message.message.fields[step.slot];
        if field.is_spare() {
            continue;
        }
        if let Some(value) = given(owner, field, &step.action, &vector.values, step.slot) {
            code.line(format!("m.{} = {value};", member(&field.name)));
        }
    }
    let what = text(&format!("{} {}", message.message.name, vector.case));
    let readable: Vec<String> = readable(message, vector).iter().map(usize::to_string).collect();
    let decode = match vector.key {
        Some(key) => format!("|body| {name}::decode_answer(body, {key})"),
        None => format!("{name}::decode"),
    };
    let later = grows && vector.sections == message.sections.len();
    code.line(format!(
        "check({what}, &m, |m, out| m.encode(out), {decode}, &{}, &[{}], {later});",
        bytes(&vector.body),
        readable.join(", ")
    ));
    if has_view {
        let key = vector.key.map_or("None".to_owned(), |key| format!("Some({key})"));
        code.line(format!(
            "check_view(&{}, |body| view_{}(body, {key}));",
            bytes(&vector.body),
            crate::names::plain_snake(&message.message.name)
        ));
    }
    if ordered {
        let write = format!("write_{}", crate::names::plain_snake(&message.message.name));
        code.line(format!("check_order({what}, |out| {write}(&m, out), &{});", bytes(&vector.body)));
    }
    code.close("}");
    code.line("one();");
    code.close("}");
}

/// A frame of a vector.
fn framed(plan: &Plan, vector: &Vector, frame: &FrameVector, code: &mut Code) {
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
        parts.push(format!("{}: {value}", member(&part.name)));
    }
    if direction.key_is_outside() {
        parts.push("key: 0".to_owned());
    }
    parts.push(format!("body: &{}", bytes(&frame.body)));
    let stem = stem(&direction.name, from);
    let open = match direction.finder {
        FrameFinder::Stuffed(_) | FrameFinder::Escaped(_) => format!("open_{stem}(wire, &mut [0; 4096])"),
        _ => format!("open_{stem}(wire)"),
    };
    code.open("{");
    code.line(format!("let of = {} {{ {} }};", class(&format!("{stem}_frame")), parts.join(", ")));
    code.line(format!(
        "check_frame({}, &{}, |out| build_{stem}(&of, out), |wire| Ok({open}? == of));",
        text(&format!("{} {}", message.name, vector.case)),
        bytes(&frame.bytes),
    ));
    code.close("}");
}

/// What a slot holds, as an expression, if it holds something: what the sender's revision lacks has its default.
fn given(owner: Owner<'_>, field: &Field, action: &Action, values: &Values, slot: usize) -> Option<String> {
    let is_lacking = matches!(values.get(slot), ValueRef::Absent | ValueRef::Unset);
    match (is_lacking, field.optional) {
        (true, true) => Some("None".to_owned()),
        (true, false) => None,
        (false, true) => Some(format!("Some({})", value(owner, field, action, values, slot))),
        (false, false) => Some(value(owner, field, action, values, slot)),
    }
}

fn record(owner: Owner<'_>, record: &RecordPlan, values: &Values, first: usize) -> String {
    let name = class(&record.record.name);
    let inner = Owner { name: &record.record.name, rest: owner.rest };
    let steps = record.sections.iter().flat_map(|section| &section.steps);
    let parts: Vec<String> = steps
        .filter(|step| !record.record.fields[step.slot].is_spare())
        .filter_map(|step| {
            let field = &record.record.fields[step.slot];
            let value = given(inner, field, &step.action, values, first + step.slot)?;
            Some(format!("m.{} = {value};", member(&field.name)))
        })
        .collect();
    format!("{{ let mut m = {name}::default(); {} m }}", parts.join(" "))
}

fn value(owner: Owner<'_>, field: &Field, action: &Action, values: &Values, slot: usize) -> String {
    match (values.get(slot), action) {
        (ValueRef::Raw(raw), _) => match &field.kind {
            emberwort_model::model::Kind::Float(16) => {
                let value = emberwort_model::float::float_value(16, raw) as f32;
                format!("f32::from_bits({:#x})", value.to_bits())
            }
            kind => code_of(kind, raw),
        },
        (ValueRef::Bytes(some), Action::Run { text: true, .. }) => {
            format!("Text::from_bytes(&{}).unwrap()", bytes(some))
        }
        (ValueRef::Bytes(some), Action::Run { length: Length::Exact(_), .. }) => bytes(some),
        (ValueRef::Bytes(some), _) => format!("Bytes::new(&{}).unwrap()", bytes(some)),
        (ValueRef::Group { first, .. }, Action::Record(plan)) => record(owner, plan, values, first),
        (ValueRef::Group { first, count }, Action::List(list)) => {
            let element = &list.element;
            let all: Vec<String> = (first..first + count)
                .map(|slot| value(owner, &element.field, &element.action, values, slot))
                .collect();
            match list.length {
                Length::Exact(_) => format!("[{}]", all.join(", ")),
                _ => format!("List::new(&[{}]).unwrap()", all.join(", ")),
            }
        }
        (ValueRef::Chosen { form, slot }, Action::Union(union)) => {
            let element = &union.forms[form];
            format!(
                "{}::{}({})",
                owner.union_type(field),
                class(&element.field.name),
                value(owner, &element.field, &element.action, values, slot)
            )
        }
        _ => "Default::default()".to_owned(),
    }
}
