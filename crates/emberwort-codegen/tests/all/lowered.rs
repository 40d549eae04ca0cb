//! The lowered form says what the library does: an interpreter reads and writes the same values and bytes on random definitions, and on the
//! example.

use std::path::Path;

use emberwort_codegen::lower::{Group, text};
use emberwort_codegen::vectors;
use emberwort_model::{Plan, Source, check};
use emberwort_wire::Values;
use emberwort_wire::codec::decode_answer;
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;

use crate::common;
use crate::common::definitions::definition;
use crate::common::interpreter::{Reader, Value, Writer};
use crate::common::plans::marlock;

/// All vectors of a link, and what becomes of their bodies when they are cut and changed. How many bodies were read, and how many not.
fn agree(plan: &Plan, seed: u64) -> (usize, usize) {
    let mut random = ChaCha8Rng::seed_from_u64(seed);
    let (mut read, mut unread) = (0, 0);
    for vector in vectors::vectors(plan, seed) {
        let message = &plan.messages[vector.message];
        let group = Group::of_message(plan, message);
        let slots = 0..message.message.fields.len();
        let mut bodies = vec![vector.body.clone()];
        for _ in 0..6 {
            let mut body = vector.body.clone();
            if random.random() {
                body.truncate(random.random_range(0..=body.len()));
            } else {
                body.extend((0..random.random_range(0..4)).map(|_| random.random::<u8>()));
            }
            if let 1.. = body.len() {
                let at = random.random_range(0..body.len());
                body[at] = random.random();
            }
            bodies.push(body);
        }
        for (n, body) in bodies.iter().enumerate() {
            let mut values = Values::default();
            let library = decode_answer(message, body, vector.key, &mut values);
            let lowered = Reader::new(plan, body, vector.key).group(&group);
            assert_eq!(library.is_ok(), lowered.is_ok(), "{library:?} {lowered:?} {body:02X?}\n{}", text(&group));
            let Ok((found, held)) = lowered else {
                unread += 1;
                continue;
            };
            read += 1;
            let expected: Vec<Value> = slots.clone().map(|slot| Value::of(&values, slot)).collect();
            assert_eq!((&found, held), (&expected, values.sections()), "{body:02X?}\n{}", text(&group));
            if n == 0 {
                let mut writer = Writer::new(plan, vector.revision);
                writer.group(&group, held, &found);
                assert_eq!(writer.out, vector.body, "{} {}\n{}", group.name, vector.case, text(&group));
            }
        }
    }
    (read, unread)
}

fn random_agree(seeds: std::ops::Range<u64>) {
    let (mut read, mut unread) = (0, 0);
    for seed in seeds {
        let checked = check(&Source::new("random.ember", definition(seed, seed % 2 == 0, 1 + seed as usize % 6)));
        let plan = checked.plan.unwrap_or_else(|| panic!("seed {seed}: {:#?}", checked.findings));
        let (more_read, more_unread) = agree(&plan, seed);
        read += more_read;
        unread += more_unread;
    }
    println!("{read} bodies were read, {unread} were not");
    // Neither is rare.
    assert!(read.min(unread) * 4 > read.max(unread));
}

#[test]
fn the_interpreter_agrees_on_random_definitions() {
    random_agree(0..100);
}

#[test]
#[ignore = "a minute; see CONTRIBUTING.md"]
fn the_interpreter_agrees_on_two_thousand_random_definitions() {
    random_agree(1000..if common::is_small() { 1100 } else { 3000 });
}

#[test]
fn the_interpreter_agrees_on_the_example() {
    let (read, unread) = agree(&marlock(), 7);
    assert!(read > 1000 && unread > 100, "{read} {unread}");
}

/// The text in the documentation is what the lowered form of the message is.
#[test]
fn the_documentation_shows_the_lowered_form_of_a_message() {
    let plan = marlock();
    let message = &plan.messages[plan.message_index("GateStatus").unwrap()];
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("src/lower/gate_status.txt");
    let shown = text(&Group::of_message(&plan, message));
    if std::env::var_os("INSTA_UPDATE").is_some_and(|wanted| wanted == "always") {
        std::fs::write(&path, &shown).unwrap();
    }
    assert_eq!(std::fs::read_to_string(&path).unwrap_or_default(), shown);
}
