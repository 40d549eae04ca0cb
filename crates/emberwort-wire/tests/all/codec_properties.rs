//! The codec over random definitions: what fits survives, what decodes survives, and nothing panics.

use emberwort_model::model::{Kind, Length, Message};
use emberwort_model::plan::MessagePlan;
use emberwort_model::{Plan, Source, check};
use emberwort_text::json;
use emberwort_text::json::Writing;
use emberwort_text::{Filling, GivenValue, fill};
use emberwort_wire::codec::Measure;
use emberwort_wire::codec::check as check_body;
use emberwort_wire::{ValueRef, Values, decode, encode, is_lossless};
use proptest::prelude::*;
use serde_json::Value as Json;

/// A field's type and properties, as they are written. Some have a default, so that they may stand in later sections.
fn field() -> impl Strategy<Value = String> {
    let decimal =
        || (1i64..5000, 0u32..4).prop_map(|(n, d)| format!("{:.*}", d as usize, n as f64 / 10f64.powi(d as i32)));
    let with_suffix = |base: BoxedStrategy<String>, none: bool| {
        (base, 0..4).prop_map(move |(base, suffix)| match suffix {
            0 => format!("{base} optional"),
            1 if none => format!("{base} or none"),
            2 if none => format!("{base} or none optional"),
            _ => base,
        })
    };
    let integer = (any::<bool>(), 2u8..=64)
        .prop_map(|(signed, bits)| format!("{}{bits}", if signed { "i" } else { "u" }))
        .boxed();
    let scaled = (any::<bool>(), 2u8..=40, decimal(), decimal(), any::<bool>())
        .prop_map(|(signed, bits, scale, offset, minus)| {
            format!("{}{bits} * {scale} {} {offset} V", if signed { "i" } else { "u" }, if minus { "-" } else { "+" })
        })
        .boxed();
    let steps = (-50i64..50, 1u64..100_000, decimal())
        .prop_map(|(low, count, step)| {
            let decimals = step.split_once('.').map_or(0, |(_, d)| d.len());
            let step_number: i64 = step.replace('.', "").parse().unwrap();
            let unit = 10i64.pow(decimals as u32);
            let high = low * unit + step_number * count as i64;
            let sign = if high < 0 { "-" } else { "" };
            let high = high.abs();
            let high = if decimals == 0 {
                format!("{sign}{high}")
            } else {
                format!("{sign}{}.{:0decimals$}", high / unit, high % unit)
            };
            format!("{low} .. {high} bar step {step}")
        })
        .boxed();
    let spread = (-50i64..50, 1i64..1000, 2u8..=40)
        .prop_map(|(low, reach, bits)| format!("{low} .. {} % in {bits} bits", low + reach))
        .boxed();
    let others = prop_oneof![
        Just("bool".to_owned()),
        Just("f32 m".to_owned()),
        Just("Mode".to_owned()),
        Just("Alarms".to_owned()),
        (1u32..400).prop_map(|max| format!("text[..{max}]")),
        (1u32..9).prop_map(|length| format!("bytes[{length}]")),
    ]
    .boxed();
    prop_oneof![
        2 => with_suffix(integer, true),
        2 => with_suffix(scaled, true),
        2 => with_suffix(steps, true),
        2 => with_suffix(spread, true),
        3 => with_suffix(others, false),
        1 => (1u32..12).prop_map(|bits| format!("spare {bits} bits")),
    ]
}

fn fields(first: usize, fields: &[String]) -> String {
    let lines = fields.iter().enumerate().map(|(n, field)| match field.strip_prefix("spare") {
        Some(_) => format!("{field}\n"),
        None => format!("f{} : {field}\n", first + n),
    });
    lines.collect()
}

fn plan() -> impl Strategy<Value = Plan> {
    let sections = proptest::collection::vec(proptest::collection::vec(field(), 1..7), 1..4);
    (any::<bool>(), sections).prop_map(|(big, sections)| {
        let order = if big { "big" } else { "little" };
        let mut body = fields(0, &sections[0]);
        for (n, section) in sections.iter().enumerate().skip(1) {
            body += &format!("added in {} {{\n{}}}\n", n + 1, fields(n * 100, section));
        }
        let text = format!(
            "link any {{ revision 9  byte_order {order} }}
             enum Mode : u5 {{ 0 off  3 on  29 boost }}
             flags Alarms : u9 {{ 0 hot  8 dry }}
             message M {{\n id 1\n from device\n{body}}}"
        );
        let checked = check(&Source::new("any.ember", text.as_str()));
        checked.plan.unwrap_or_else(|| panic!("{:?} in {text}", checked.findings))
    })
}

/// A value that the field's type allows, chosen by a number.
fn set_some(message: &Message, slot: usize, union: u64, values: &mut Values) {
    let field = &message.fields[slot];
    if field.optional && union.is_multiple_of(3) {
        values.set_absent(slot);
        return;
    }
    let within = |low: i128, high: i128| low + (i128::from(union) % (high - low + 1));
    match &field.kind {
        Kind::Number(form) => match form.none {
            Some(none) if union.is_multiple_of(7) => values.set_raw(slot, none as u64),
            _ => values.set_raw(slot, within(form.low, form.high) as u64),
        },
        Kind::Bool => values.set_raw(slot, union & 1),
        Kind::Float(_) => {
            let bits = union as u32;
            values.set_raw(slot, u64::from(if f32::from_bits(bits).is_finite() { bits } else { 0x3F80_0000 }));
        }
        Kind::Enum { labels, .. } => values.set_raw(slot, labels.labels[union as usize % labels.labels.len()].code),
        Kind::Flags(_) => values.set_raw(slot, union & 0x101),
        Kind::Text { length: Length::UpTo(max), .. } => {
            let text = "aß水🜂z".repeat(40);
            let mut end = (union % (u64::from(*max) + 1)) as usize;
            end = end.min(text.len());
            while !text.is_char_boundary(end) {
                end -= 1;
            }
            values.set_bytes(slot, &text.as_bytes()[..end]);
        }
        Kind::Bytes(Length::Exact(length)) => {
            let bytes: Vec<u8> = (0..*length).map(|n| (union >> (n * 7)) as u8).collect();
            values.set_bytes(slot, &bytes);
        }
        Kind::Spare { .. } => {}
        other => panic!("{other:?} is not among the fields above"),
    }
}

fn through_json(plan: &MessagePlan, values: &Values, sections: usize) -> Values {
    let mut text = String::new();
    json::write_fields(plan, values, Writing::default(), &mut text).unwrap();
    let Json::Object(row) = serde_json::from_str(&text).unwrap() else { panic!("{text}") };
    let mut back = Values::default();
    let given = row.iter().map(|(name, value)| (name.as_str(), GivenValue::Json(value)));
    fill(
        plan,
        given,
        Filling { clamp: false, revision: plan.sections[sections - 1].revision, plan: None, changed: None },
        &mut back,
    )
    .unwrap_or_else(|e| panic!("{e:?} in {text}"));
    back
}

fn same_fields(a: &Values, b: &Values, message: &Message) -> bool {
    let there = |value: ValueRef<'_>| !matches!(value, ValueRef::Absent | ValueRef::Unset);
    (0..message.fields.len()).all(|slot| {
        let (a, b) = (a.get(slot), b.get(slot));
        message.fields[slot].is_spare() || a == b || (!there(a) && !there(b))
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    #[test]
    fn every_value_that_fits_survives(plan in plan(), unions in proptest::collection::vec(any::<u64>(), 24)) {
        let plan = &plan.messages[0];
        for sections in 1..=plan.sections.len() {
            let mut values = Values::new(plan);
            for slot in 0..plan.message.fields.len() {
                set_some(&plan.message, slot, unions[slot % unions.len()].rotate_left(slot as u32), &mut values);
            }
            let mut body = Vec::new();
            encode(plan, &values, plan.sections[sections - 1].revision, &mut body).unwrap();
            prop_assert!(body.len() <= plan.greatest_size());
            if sections == plan.sections.len() {
                prop_assert!(body.len() >= plan.least_size());
            }
            let mut back = Values::default();
            decode(plan, &body, &mut back).unwrap();
            prop_assert_eq!((back.sections(), back.later_bytes()), (sections, 0));
            if sections == plan.sections.len() {
                prop_assert!(same_fields(&values, &back, &plan.message));
                // Physical values and labels say the same as raw codes.
                prop_assert!(same_fields(&through_json(plan, &back, sections), &back, &plan.message));
            }
            // Bytes of a later revision are skipped and counted; a cut body is another revision's or truncated.
            if sections == plan.sections.len() {
                body.extend([0xEE; 3]);
                decode(plan, &body, &mut back).unwrap();
                prop_assert_eq!(back.later_bytes(), 3);
            }
        }
    }

    #[test]
    fn every_raw_code_that_decodes_survives(plan in plan(), mut body in proptest::collection::vec(any::<u8>(), 0..120)) {
        let plan = &plan.messages[0];
        let mut values = Values::default();
        // Presence bits and counts of random bodies are often impossible; that must be told, not crash.
        if decode(plan, &body, &mut values).is_err() {
            return Ok(());
        }
        let (sections, later) = (values.sections(), values.later_bytes());
        body.truncate(body.len() - later);
        let mut again = Vec::new();
        encode(plan, &values, plan.sections[sections - 1].revision, &mut again).unwrap();
        prop_assert_eq!(again.len(), body.len());
        let mut back = Values::default();
        decode(plan, &again, &mut back).unwrap();
        prop_assert_eq!(&back, &values);
        // Codes without meaning go through rows as raw numbers, and come back the same.
        let row = through_json(plan, &values, plan.sections.len().min(sections));
        prop_assert!(same_fields(&row, &values, &plan.message) || sections < plan.sections.len());
    }

    /// The quick way to see that a body says no more than its fields says what encoding it again says: of bodies as they are sent, with
    /// some bits turned, cut, and longer.
    #[test]
    fn blank_bits_tell_what_encoding_again_tells(
        plan in plan(), unions in proptest::collection::vec(any::<u64>(), 24), turned in proptest::collection::vec(any::<u32>(), 0..4),
        change in -3i32..3, noise in proptest::collection::vec(any::<u8>(), 0..80),
    ) {
        let plan = &plan.messages[0];
        let mut values = Values::new(plan);
        for slot in 0..plan.message.fields.len() {
            set_some(&plan.message, slot, unions[slot % unions.len()].rotate_left(slot as u32), &mut values);
        }
        let mut sent = Vec::new();
        encode(plan, &values, u32::MAX, &mut sent).unwrap();
        sent.resize(sent.len().saturating_add_signed(change as isize), 0);
        for bit in turned {
            let bits = sent.len() * 8;
            if let Some(at) = (bit as usize).checked_rem(bits) {
                sent[at / 8] ^= 1 << (at % 8);
            }
        }
        let (mut room, mut again) = (Vec::new(), Vec::new());
        for body in [&sent, &noise] {
            if decode(plan, body, &mut values).is_err() {
                continue;
            }
            again.clear();
            let revision = plan.sections[values.sections() - 1].revision;
            let same = encode(plan, &values, revision, &mut again).is_ok() && again == *body;
            prop_assert_eq!(is_lossless(plan, body, &values, revision, &mut room), same, "{:02X?} {:02X?}", body, again);
        }
    }

    #[test]
    fn no_bytes_make_the_decoder_panic(plan in plan(), body in proptest::collection::vec(any::<u8>(), 0..600)) {
        let plan = &plan.messages[0];
        let mut values = Values::default();
        for length in (0..body.len().min(80)).chain([body.len()]) {
            let decoded = decode(plan, &body[..length], &mut values);
            // The quick check says the same.
            match check_body(plan, &body[..length]) {
                Ok(extent) => {
                    prop_assert_eq!(decoded, Ok(()));
                    prop_assert_eq!((extent.sections, extent.later_bytes), (values.sections(), values.later_bytes()));
                }
                Err(error) => prop_assert_eq!(decoded, Err(error)),
            }
        }
    }

    /// What tells how far a body reaches from few of its bytes says the same as the walk over all of them.
    #[test]
    fn measuring_a_body_says_what_walking_over_it_says(
        plan in plan(), unions in proptest::collection::vec(any::<u64>(), 24), change in -9i32..9,
        noise in proptest::collection::vec(any::<u8>(), 0..200),
    ) {
        let plan = &plan.messages[0];
        let Some(measure) = Measure::of(plan) else { return Ok(()) };
        let mut bodies = vec![noise.clone()];
        let mut values = Values::new(plan);
        for (slot, union) in unions.iter().enumerate().take(plan.message.fields.len()) {
            set_some(&plan.message, slot, *union, &mut values);
        }
        for section in &plan.sections {
            let mut body = Vec::new();
            if emberwort_wire::encode(plan, &values, section.revision, &mut body).is_ok() {
                let longer = [&body[..], &noise[..]].concat();
                body.resize(body.len().saturating_add_signed(change as isize), 0x5A);
                bodies.extend([body, longer]);
            }
        }
        for body in bodies {
            for length in (0..body.len().min(40)).chain([body.len()]) {
                let body = &body[..length];
                prop_assert_eq!(measure.extent(body), check_body(plan, body).ok(), "{:02X?}", body);
            }
        }
    }
}

/// Every code of every small field: physical value, text, and back to the same code.
#[test]
fn all_codes_of_small_fields_go_there_and_back() {
    for ty in [
        "u8",
        "i8",
        "u9 * 0.1",
        "i10 * 0.25 - 3",
        "u7 * 3 + 1000000",
        "i6 * -0.5 + 1",
        "-1.5 .. 9.5 step 0.005",
        "0 .. 250 in 12 bits",
        "-40 .. 125.5 in 10 bits",
        "0 .. 9.55 in 4 bits",
        "1 .. 20 in 5 bits",
        "0 .. 1 step 0.001",
    ] {
        for none in ["", " or none"] {
            let text =
                format!("link l {{ revision 1  byte_order little }}\nmessage M {{\n from device\n a : {ty}{none}\n}}");
            let checked = check(&Source::new("codes.ember", text));
            assert_eq!(checked.findings, [], "{ty}");
            let plan = &checked.plan.unwrap().messages[0];
            let Kind::Number(form) = plan.message.fields[0].kind.clone() else { panic!() };
            for raw in (form.low..=form.high).chain(form.none) {
                let mut values = Values::new(plan);
                values.set_raw(0, raw as u64);
                assert!(same_fields(&through_json(plan, &values, 1), &values, &plan.message), "{ty}{none}: raw {raw}");
            }
        }
    }
}
