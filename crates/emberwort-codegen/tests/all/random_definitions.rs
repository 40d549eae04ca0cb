//! Random definitions, generated to C, compiled and checked with their vectors under sanitizers.
//!
//! One link with many messages in each byte order and language in the normal run; many more with
//! `cargo test --release -p emberwort-codegen random_definitions:: -- --ignored`.

use emberwort_codegen::vectors::Vector;
use emberwort_codegen::{c, javascript, python, rust, vectors};
use emberwort_model::{Plan, Source, check};
use emberwort_text::json::{self, Writing};
use emberwort_text::{Filling, GivenValue, fill};
use emberwort_wire::codec::check as check_body;
use emberwort_wire::{Values, decode, encode};
use serde_json::Value as Json;

use crate::common::definitions::definition;
use crate::common::{self, Language, compile_and_run, compiler, node, python, run_node, run_python, run_rust, write};

fn compile_and_check(seed: u64, big: bool, messages: usize, languages: &[Language]) {
    let text = definition(seed, big, messages);
    let checked = check(&Source::new("random.ember", text.as_str()));
    let plan = checked.plan.unwrap_or_else(|| panic!("seed {seed}: {:#?}\n{text}", checked.findings));
    let all = vectors::vectors(&plan, seed);
    assert!(all.len() > messages * 15, "only {} vectors", all.len());
    for vector in &all {
        codec_and_rows_agree(&plan, vector, &text);
    }
    // Shown only if something differs.
    println!("seed {seed}:\n{text}");
    for language in languages {
        passes(*language, &plan, &all);
    }
}

/// The vectors pass in a language.
fn passes(language: Language, plan: &Plan, all: &[Vector]) {
    let folder = tempfile::tempdir().unwrap();
    match language {
        Language::Python => {
            let Some(python) = python() else { return };
            run_python(python, folder.path(), &python::generate(plan, all).unwrap());
        }
        Language::JavaScript => {
            let Some(node) = node() else { return };
            run_node(node, folder.path(), &javascript::generate(plan, all).unwrap());
        }
        Language::Rust => run_rust(folder.path(), &rust::generate(plan, all).unwrap()),
        Language::C => {
            let Some(compiler) = compiler() else { return };
            write(folder.path(), &c::generate(plan, all, &[]).unwrap());
            let sources = ["random.c", "random_vectors.c"];
            let output = compile_and_run(compiler, folder.path(), &["-DRANDOM_WITH_FLOAT"], &sources);
            assert_eq!(output, format!("{} vectors, 0 differences\n", all.len()));
        }
    }
}

/// The body decodes to the values, and a row of them makes the same body again.
fn codec_and_rows_agree(plan: &Plan, vector: &Vector, text: &str) {
    let compiled = &plan.messages[vector.message];
    let mut back = Values::default();
    decode(compiled, &vector.body, &mut back).unwrap_or_else(|e| panic!("{e} in {}:\n{text}", vector.case));
    assert!(check_body(compiled, &vector.body).is_ok());
    let revision =
        if back.sections() == compiled.sections.len() { 3 } else { compiled.sections[back.sections() - 1].revision };
    let mut again = Vec::new();
    encode(compiled, &back, revision, &mut again).unwrap();
    assert_eq!(again, vector.body, "{} {}\n{text}", compiled.message.name, vector.case);
    let mut row = String::new();
    json::write_fields(compiled, &back, Writing::default(), &mut row).unwrap();
    let Json::Object(fields) = serde_json::from_str(&row).unwrap() else { panic!("{row}") };
    let given = fields.iter().map(|(name, value)| (name.as_str(), GivenValue::Json(value)));
    let mut from_row = Values::default();
    fill(compiled, given, Filling { clamp: false, revision, plan: Some(plan), changed: None }, &mut from_row)
        .unwrap_or_else(|e| panic!("{e:?} in {row}"));
    let mut third = Vec::new();
    encode(compiled, &from_row, revision, &mut third).unwrap();
    assert_eq!(third, vector.body, "through the row {row}\n{text}");
    // Cut anywhere, the decoder and the quick check say the same, and neither panics.
    for cut in 0..vector.body.len().min(60) {
        let decoded = decode(compiled, &vector.body[..cut], &mut back);
        assert_eq!(decoded.is_ok(), check_body(compiled, &vector.body[..cut]).is_ok());
    }
}

#[test]
fn random_definitions_agree_in_c() {
    compile_and_check(1, false, 5, &[Language::C]);
    compile_and_check(2, true, 5, &[Language::C]);
}

#[test]
fn random_definitions_agree_in_rust() {
    compile_and_check(1, false, 5, &[Language::Rust]);
    compile_and_check(2, true, 5, &[Language::Rust]);
}

#[test]
fn random_definitions_agree_in_python() {
    compile_and_check(1, false, 5, &[Language::Python]);
    compile_and_check(2, true, 5, &[Language::Python]);
}

#[test]
fn random_definitions_agree_in_javascript() {
    compile_and_check(1, false, 5, &[Language::JavaScript]);
    compile_and_check(2, true, 5, &[Language::JavaScript]);
}

#[test]
#[ignore = "minutes long; see CONTRIBUTING.md"]
fn many_random_definitions_agree() {
    for seed in common::seeds(100..400, 100..102) {
        compile_and_check(seed, seed % 2 == 0, if seed % 30 == 0 { 12 } else { 4 }, &Language::ALL);
    }
}
