//! The test vectors themselves: complete, repeatable, and true to the codec.

use emberwort_codegen::streams::{self, Judged};
use emberwort_codegen::vectors::{Vector, ndjson, vectors};
use emberwort_model::hex::{hex, parse_hex};
use emberwort_model::ids::MessageId;
use emberwort_model::model::{Kind, Selector};
use emberwort_model::{Plan, Source, check};
use emberwort_text::{Filling, GivenValue, fill};
use emberwort_wire::frame::body_on;
use emberwort_wire::{Framed, ValueRef, Values, decode, decode_answer, encode};
use serde_json::Value as Json;

use crate::plan_of_marlock;

fn plans() -> [Plan; 2] {
    let odd = || check(&Source::new("odd.ember", include_str!("../odd.ember")));
    [plan_of_marlock::checked(), odd()].map(|checked| {
        assert!(checked.findings.iter().all(|finding| !finding.is_error()), "{:?}", checked.findings);
        checked.plan.unwrap()
    })
}

fn of<'a>(all: &'a [Vector], message: MessageId, case: &str) -> &'a Vector {
    all.iter().find(|vector| vector.message == message && vector.case == case).unwrap_or_else(|| panic!("no {case}"))
}

#[test]
fn the_same_seed_gives_the_same_vectors() {
    for plan in plans() {
        let text = |seed: u64| ndjson(&plan, &vectors(&plan, seed)).text;
        assert_eq!(text(1), text(1));
        assert_ne!(text(1), text(2));
    }
}

#[test]
fn every_message_has_its_extremes_its_nones_and_its_revisions() {
    for plan in plans() {
        let all = vectors(&plan, 3);
        for (index, compiled) in plan.messages.iter().enumerate() {
            let fields = &compiled.message.fields;
            let (least, greatest) =
                (of(&all, MessageId::new(index), "least"), of(&all, MessageId::new(index), "greatest"));
            if !compiled.has_rest {
                assert_eq!(greatest.body.len(), compiled.greatest_size(), "all texts full, all optional fields there");
            }
            let decides = |slot: usize| {
                fields
                    .iter()
                    .any(|field| matches!(&field.kind, Kind::Union(union) if union.selector == Selector::Field(slot)))
            };
            for (slot, field) in fields.iter().enumerate().filter(|(slot, _)| !decides(*slot)) {
                if let Kind::Number(form) = &field.kind {
                    if !field.optional {
                        assert_eq!(least.values.get(slot), ValueRef::Raw(form.low as u64));
                    }
                    assert_eq!(greatest.values.get(slot), ValueRef::Raw(form.high as u64));
                }
                if let Some(none) = field.kind.none() {
                    let vector = of(&all, MessageId::new(index), &format!("none {}", field.name));
                    assert_eq!(vector.values.get(slot), ValueRef::Raw(none as u64));
                }
            }
            for section in &compiled.sections[..compiled.sections.len() - 1] {
                let vector = of(&all, MessageId::new(index), &format!("revision {}", section.revision));
                let mut values = Values::default();
                decode(compiled, &vector.body, &mut values).unwrap();
                assert_eq!(values.sections(), vector.sections);
            }
            let frames: usize = all.iter().filter(|v| v.message == MessageId::new(index)).map(|v| v.frames.len()).sum();
            let vectors = all.iter().filter(|v| v.message == MessageId::new(index)).count();
            let channels = compiled.message.channels.len();
            assert_eq!(frames, vectors * channels, "a frame on each channel that has frames");
        }
    }
}

#[test]
fn bodies_and_frames_are_what_the_library_makes() {
    for plan in plans() {
        for vector in vectors(&plan, 5) {
            let compiled = &plan.messages[vector.message];
            let mut body = Vec::new();
            encode(compiled, &vector.values, vector.revision, &mut body).unwrap();
            assert_eq!(body, vector.body);
            let mut values = Values::default();
            decode_answer(compiled, &vector.body, vector.key, &mut values).unwrap();
            assert!(values == vector.values, "{} {}", compiled.message.name, vector.case);
            for frame in &vector.frames {
                let framing = plan.channels[frame.channel].framing(compiled.message.from);
                let channel = framing.plan();
                let mut body = Vec::new();
                body_on(channel, compiled, &vector.values, vector.revision, &mut body).unwrap();
                assert_eq!(body, frame.body);
                let mut bytes = Vec::new();
                framing.encode(&frame.header, &body, &mut bytes).unwrap();
                assert_eq!(bytes, frame.bytes);
            }
        }
    }
}

#[test]
fn the_lines_say_everything_that_is_needed_to_make_the_bytes_again() {
    for plan in plans() {
        let all = vectors(&plan, 11);
        let file = ndjson(&plan, &all);
        let mut lines = file.text.lines();
        let head: Json = serde_json::from_str(lines.next().unwrap()).unwrap();
        assert_eq!(head["vectors"], all.len());
        assert_eq!(lines.clone().count(), all.len());
        for (line, vector) in lines.zip(&all) {
            let row: Json = serde_json::from_str(line).unwrap();
            let compiled = &plan.messages[plan.message_index(row["message"].as_str().unwrap()).unwrap()];
            let revision = row["revision"].as_u64().unwrap() as u32;
            assert_eq!(compiled.sections_of(revision), vector.sections);
            let given: Vec<(&str, GivenValue<'_>)> = row["fields"]
                .as_object()
                .unwrap()
                .iter()
                .map(|(name, value)| (name.as_str(), GivenValue::Json(value)))
                .collect();
            let mut values = Values::default();
            fill(compiled, given, Filling { clamp: false, revision, plan: Some(&plan), changed: None }, &mut values)
                .unwrap_or_else(|problems| panic!("{problems:?} in {line}"));
            let mut body = Vec::new();
            encode(compiled, &values, revision, &mut body).unwrap();
            assert_eq!(hex(&body), row["body"].as_str().unwrap(), "{line}");
            assert_eq!(parse_hex(row["body"].as_str().unwrap()).unwrap(), vector.body);
        }
    }
}

/// What streams are for: frames of every kind, damage, silence, and chunks that end inside of frames.
#[test]
fn streams_have_all_that_a_receiver_meets() {
    let plan = plan_of_marlock::checked().plan.unwrap();
    let all = streams::streams(&plan);
    assert_eq!(all, streams::streams(&plan), "they are always the same");
    let stream = all.iter().find(|stream| stream.name(&plan) == "bus485").unwrap();
    let events: Vec<_> = stream.chunks.iter().flat_map(|chunk| &chunk.events).collect();
    let count = |judged| events.iter().filter(|event| event.judged == judged).count();
    assert!(count(Judged::Good) > 8 && count(Judged::UnknownMessage) > 0 && count(Judged::Body) > 0, "{events:?}");
    assert!(stream.chunks.iter().filter(|chunk| chunk.is_silence()).count() > 1);
    assert!(stream.chunks.iter().any(|chunk| !chunk.is_silence() && chunk.events.is_empty()));
    assert!(stream.good_bytes < stream.bytes);
    let file = streams::ndjson(&plan, &all);
    assert_eq!(file.text.lines().count(), all.len() + 1);
    for line in file.text.lines() {
        serde_json::from_str::<serde_json::Value>(line).unwrap();
    }
}
