//! A program that checks the module with the vectors.

use emberwort_model::Plan;
use emberwort_model::hex::hex;
use emberwort_model::model::{Field, Kind};
use emberwort_model::plan::{Action, Part, Role};
use emberwort_wire::{ValueRef, Values};

use super::channel::{frame_class, has_receiver, stem};
use super::names::{bytes, class, member, module, text};
use crate::code::Code;
use crate::lower::Group;
use crate::streams::{Event, streams};
use crate::vectors::{FrameVector, Vector, readable};

/// The test program.
pub fn write(plan: &Plan, vectors: &[Vector]) -> String {
    let name = module(&plan.link.name);
    let origin = crate::origin(plan);
    let mut code = Code::default();
    code.lines(&format!(
        "\"\"\"{origin}\n\nChecks {name}.py with the test vectors: python3 {name}_test.py\n\"\"\"\n\n\
         import unittest\n\nimport {name} as link\n\n\n\
         #: Message, case, what makes the value, the key of the request, the body, and the lengths at which it can be read if it is cut.\nVECTORS = ["
    ));
    for vector in vectors {
        let message = &plan.messages[vector.message];
        let steps = message.sections[..vector.sections].iter().flat_map(|section| &section.steps);
        let mut parts: Vec<String> = steps
            .filter(|step| !message.message.fields[step.slot].is_spare())
            .filter_map(|step| {
                let field = &message.message.fields[step.slot];
                let value = given(field, &step.action, &vector.values, step.slot)?;
                Some(format!("{}={value}", member(&field.name)))
            })
            .collect();
        parts.push(format!("sections_held={}", vector.sections));
        code.line(format!(
            "    ({}, {}, lambda: link.{}({}), {}, bytes.fromhex({}), {{{}}}),",
            text(&message.message.name),
            text(&vector.case),
            class(&message.message.name),
            parts.join(", "),
            vector.key.map_or_else(|| "None".to_owned(), |key| key.to_string()),
            text(&hex(&vector.body)),
            readable(message, vector).iter().map(|length| format!("{length}, ")).collect::<String>(),
        ));
    }
    code.lines(
        "]\n\n#: Message, case, what builds and opens a frame, what makes its header, the key outside of it, its bytes.\nFRAMES = [",
    );
    for vector in vectors {
        for frame in &vector.frames {
            code.line(framed(plan, vector, frame));
        }
    }
    code.lines(&format!(
        "]\n\n#: Messages with a field that reaches to the end of the body.\nTO_THE_END = ({})",
        to_the_end(plan)
    ));
    code.lines("\n#: Receiver, all bytes, those of good frames, and of each chunk its bytes (none for silence) and the frames that are found with them.\nSTREAMS = [");
    for stream in streams(plan).iter().filter(|stream| has_receiver(plan.channels[stream.channel].finder())) {
        code.line(format!("    ({}, {}, {}, [", text(&stream.name(plan)), stream.bytes, stream.good_bytes));
        for chunk in &stream.chunks {
            let event = |event: &Event| {
                format!("({}, bytes.fromhex({})), ", text(event.judged.as_str()), text(&hex(&event.body)))
            };
            let events: String = chunk.events.iter().map(event).collect();
            code.line(format!("        (bytes.fromhex({}), [{events}]),", text(&hex(&chunk.bytes))));
        }
        code.line("    ]),");
    }
    code.line("]");
    code.lines(TESTS);
    code.finish()
}

const TESTS: &str = r#"

class Vectors(unittest.TestCase):
    def test_bodies_agree_both_ways(self) -> None:
        for name, case, make, key, body, _ in VECTORS:
            with self.subTest(f"{name} {case}"):
                value = make()
                self.assertEqual(value.encode().hex(), body.hex())
                read = type(value).decode(body, key)
                self.assertEqual(read, value)
                self.assertEqual(read.encode().hex(), body.hex())

    def test_bodies_that_are_cut_are_read_or_refused(self) -> None:
        for name, case, _, key, body, readable in VECTORS:
            message = link.MESSAGES[name]
            read = set()
            for length in range(len(body)):
                try:
                    message.decode(body[:length], key)
                except link.LinkError:
                    continue
                read.add(length)
            with self.subTest(f"{name} {case}"):
                self.assertEqual(read, set(readable))

    def test_bytes_of_a_later_revision_are_stepped_over(self) -> None:
        for name, case, make, key, body, _ in VECTORS:
            value = make()
            if value.sections_held == value.SECTIONS and name not in TO_THE_END:
                with self.subTest(f"{name} {case}"):
                    self.assertEqual(type(value).decode(body + b"\xa5\x5a", key), value)

    def test_frames_agree_both_ways(self) -> None:
        for name, case, build, opened, make, key, wire in FRAMES:
            with self.subTest(f"{name} {case}"):
                frame = make()
                self.assertEqual(build(frame).hex(), wire.hex())
                found = opened(wire)
                if key is not None:
                    found.key = key
                self.assertEqual(found, frame)

    def test_streams_give_the_same_frames_after_each_chunk(self) -> None:
        for name, total, good, chunks in STREAMS:
            receiver = link.RECEIVERS[name]()
            for n, (some, wanted) in enumerate(chunks):
                found = []
                for frame, _, error in receiver.feed(some) if some else receiver.gap():
                    unknown = isinstance(error, link.UnknownMessage)
                    kind = "good" if error is None else "unknown message" if unknown else "body"
                    # Of a frame that others may stand inside of, receivers need not say the same.
                    if kind == "good" or not receiver._LOOKS_INSIDE:
                        found.append((kind, frame.body))
                with self.subTest(f"{name}, chunk {n}"):
                    self.assertEqual(found, wanted)
            with self.subTest(name):
                self.assertEqual(receiver.good_bytes, good)
                self.assertEqual(receiver.good_bytes + receiver.unread_bytes + receiver.skipped_bytes, total)

    def test_frames_with_a_wrong_byte_are_another_frame_or_none(self) -> None:
        for name, case, _, opened, make, _, wire in FRAMES:
            with self.subTest(f"{name} {case}"):
                for at in range(len(wire)):
                    other = bytearray(wire)
                    other[at] ^= 0x10
                    for some in (bytes(other), wire[:at]):
                        try:
                            opened(some)
                        except link.LinkError:
                            pass


if __name__ == "__main__":
    unittest.main()
"#;

/// A frame of a vector.
fn framed(plan: &Plan, vector: &Vector, frame: &FrameVector) -> String {
    let message = &plan.messages[vector.message].message;
    let channel = &plan.channels[frame.channel];
    let from = channel.is_split().then_some(message.from);
    let direction = channel.direction(message.from);
    let part = |part: &Part| {
        let value = match part.role {
            Role::Message => frame.header.key,
            Role::Address => frame.header.node,
            Role::Sequence => frame.header.sequence,
            Role::Revision => frame.header.revision,
            _ => return None,
        };
        Some(format!("{}={value}", member(&part.name)))
    };
    let mut parts: Vec<String> = direction.parts.iter().filter_map(part).collect();
    let key = direction.key_is_outside().then_some(frame.header.key);
    parts.extend(key.map(|key| format!("key={key}")));
    parts.push(format!("body=bytes.fromhex({})", text(&hex(&frame.body))));
    let stem = stem(&direction.name, from);
    format!(
        "    ({}, {}, link.build_{stem}, link.open_{stem}, lambda: link.{}({}), {}, bytes.fromhex({})),",
        text(&message.name),
        text(&vector.case),
        frame_class(&direction.name, from),
        parts.join(", "),
        key.map_or_else(|| "None".to_owned(), |key| key.to_string()),
        text(&hex(&frame.bytes)),
    )
}

/// Messages with a field that reaches to the end of the body.
fn to_the_end(plan: &Plan) -> String {
    let reaching = plan.messages.iter().filter(|message| Group::of_message(plan, message).reaches_to_the_end());
    reaching.map(|message| text(&message.message.name) + ", ").collect()
}

/// What a slot holds, as an expression, if it holds something: what the sender's revision lacks has its default.
fn given(field: &Field, action: &Action, values: &Values, slot: usize) -> Option<String> {
    let is_lacking = matches!(values.get(slot), ValueRef::Absent | ValueRef::Unset) && !field.optional;
    (!is_lacking).then(|| literal(field, action, values, slot))
}

/// What a slot holds, as an expression.
fn literal(field: &Field, action: &Action, values: &Values, slot: usize) -> String {
    match (values.get(slot), action) {
        (ValueRef::Raw(raw), _) => match &field.kind {
            Kind::Bool => if raw == 0 { "False" } else { "True" }.to_owned(),
            Kind::Float(bits) => format!("link._float({raw:#x}, {bits})"),
            kind if kind.is_signed() => (raw as i64).to_string(),
            _ => raw.to_string(),
        },
        (ValueRef::Bytes(some), Action::Run { text: true, .. }) => format!("link._text({})", bytes(some)),
        (ValueRef::Bytes(some), _) => bytes(some),
        (ValueRef::Group { first, .. }, Action::Record(record)) => {
            let steps = record.sections.iter().flat_map(|section| &section.steps);
            let parts: Vec<String> = steps
                .filter(|step| !record.record.fields[step.slot].is_spare())
                .filter_map(|step| {
                    let field = &record.record.fields[step.slot];
                    let value = given(field, &step.action, values, first + step.slot)?;
                    Some(format!("{}={value}", member(&field.name)))
                })
                .collect();
            format!("link.{}({})", class(&record.record.name), parts.join(", "))
        }
        (ValueRef::Group { first, count }, Action::List(list)) => {
            let element = &list.element;
            let all: Vec<String> =
                (first..first + count).map(|slot| literal(&element.field, &element.action, values, slot)).collect();
            format!("[{}]", all.join(", "))
        }
        (ValueRef::Chosen { form, slot }, Action::Union(union)) => {
            let element = &union.forms[form];
            format!(
                "link.Form({}, {})",
                text(&element.field.name),
                literal(&element.field, &element.action, values, slot)
            )
        }
        _ => "None".to_owned(),
    }
}
