//! Random definitions, generated to C, compiled and checked with their vectors under sanitizers.
//!
//! One link with many messages in each byte order in the normal run; many more with
//! `cargo test --release -p emberwort-codegen --test random_definitions -- --ignored`.

mod common;

use common::{compile_and_run, compiler, node, python, run_node, run_python, run_rust, write};
use emberwort_codegen::vectors::Vector;
use emberwort_codegen::{c, javascript, python, rust, vectors};
use emberwort_model::{Plan, Source, check};
use emberwort_text::json::{self, Writing};
use emberwort_text::{Filling, Given, fill};
use emberwort_wire::codec::check as check_body;
use emberwort_wire::{Values, decode, encode};
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;
use serde_json::Value as Json;

/// A random number's type, without anything behind it.
fn number(random: &mut ChaCha8Rng) -> String {
    let bits = random.random_range(2..=64);
    let narrow = random.random_range(2..=30);
    let sign = if random.random() { "u" } else { "i" };
    let (low, count) = (random.random_range(-90..90i64), random.random_range(1..5000i64));
    match random.random_range(0..7) {
        0 | 1 => format!("{sign}{bits}"),
        2 => format!("{sign}{narrow} * 0.{} V", random.random_range(1..99)),
        3 => format!("{sign}{narrow} * -{}.5 + {low}.25", random.random_range(0..40)),
        4 => format!("{low} .. {} m step 1", low + count),
        5 => format!("{low} .. {}.{:02} m step 0.01", low + count, random.random_range(0..100)).replace("-0.", "0."),
        _ => format!("{low} .. {} bar in {narrow} bits", low + count),
    }
}

/// A type that can stand in lists and forms.
fn element(random: &mut ChaCha8Rng, depth: usize) -> String {
    let size = [1, 3, 5][random.random_range(0..3)];
    match random.random_range(0..13) {
        0..4 => number(random) + ["", " or none"][random.random_range(0..2)],
        4 => ["bool", "Mode", "Signs", "f16", "f32", "f64", "time s", "time ms"][random.random_range(0..8)].to_owned(),
        5 => format!("compact {}{}", ["u", "i"][random.random_range(0..2)], random.random_range(2..=64)),
        6 => format!("{}[..{size}]", ["text", "ascii", "bytes"][random.random_range(0..3)]),
        7 => format!("{}[{size}]", ["text", "ascii", "bytes"][random.random_range(0..3)]),
        8 => "Point".to_owned(),
        9 => ["u16 be", "u32 le", "i16 be", "f32 le", "f64 be"][random.random_range(0..5)].to_owned(),
        _ if depth == 0 => "u5".to_owned(),
        _ => format!("[{}{}] {}", ["..", ""][random.random_range(0..2)], size, element(random, depth - 1)),
    }
}

/// A random type of a field, and what stands behind it.
fn field(random: &mut ChaCha8Rng) -> String {
    let optional = ["", "", " optional"][random.random_range(0..3)];
    match random.random_range(0..24) {
        0..8 => number(random) + ["", "", " or none", " optional", " or none optional"][random.random_range(0..5)],
        8 | 9 => {
            ["bool", "f32", "Mode", "Signs", "f32 optional", "Mode optional"][random.random_range(0..6)].to_owned()
        }
        10 => format!("text[..{}]", [3, 40, 255, 256, 300][random.random_range(0..5)]),
        11 => format!("bytes[{}]", random.random_range(1..9)),
        12 => format!("spare {} bits", random.random_range(1..20)),
        13 => format!("[..{}] Step{optional}", random.random_range(1..6)),
        14 => format!("[{}] Note", random.random_range(1..4)),
        15 => format!("exactly {} : u8", random.random_range(0..200)),
        16 => "u12 retired".to_owned(),
        17 => "u16 counter".to_owned(),
        _ => {
            // Fields of whole bytes need a boundary in front of them for an order of their own.
            let mut ty = element(random, 2);
            if ty.ends_with("be") || ty.ends_with("le") {
                ty.truncate(ty.len() - 3);
            }
            ty.replace(" be", "").replace(" le", "") + optional
        }
    }
}

/// The fields of one section, by random.
fn section(random: &mut ChaCha8Rng, prefix: &str, text: &mut String) {
    for index in 0..random.random_range(1..9) {
        let field = field(random);
        if field.starts_with("spare") {
            *text += &format!("{field}\n");
        } else {
            *text += &format!("{prefix}{index} : {field}\n");
        }
    }
}

fn definition(seed: u64, big: bool, messages: usize) -> String {
    let mut random = ChaCha8Rng::seed_from_u64(seed);
    let order = if big { "big" } else { "little" };
    let mut text = format!(
        "link random {{ revision 3  byte_order {order} }}
         enum Mode : u5 {{ 0 off  3 on  30 boost }}
         flags Signs : u12 {{ 0 a  11 l }}
         record Point {{\n x : i12\n y : u7 * 0.5 m or none\n name : text[..4] optional\n }}
         record Step growing {{\n at : u9\n force : i16 * 0.25\n added in 2 {{\n hot : bool\n heat : f32 optional\n }}\n \
         added in 3 {{\n more : [2] u3\n }}\n }}
         record Note growing {{\n day : u8\n added in 3 {{\n points : [..2] Point\n }}\n }}
         table Settings : u16 {{\n 1 ramp : 0 .. 45 s step 0.25 read write\n 0x140 current : i16 * 0.025 A\n 7 name : text[..9]\n \
         9 spots : [..3] Point\n }}
         channel c {{\n medium uart 9600 8N1\n limit 2500 bytes\n frame {{\n sync A5 5A\n kind : u8 message\n size : u16 length of body\n body\n \
         check : u16 crc-16/ibm-3740 over kind..body\n }}\n }}\n"
    );
    for n in 0..messages {
        text += &format!("message M{n} {{\n id {n}\n from host\n on c\n");
        let places = n % 4 == 3;
        if places {
            // Explicit places, in both orders and out of sequence.
            let other = if big { "le" } else { "be" };
            text += &format!(
                "p0 : u12 {other} at 4.{}\np1 : i16 at 2.{}\np2 : u9 at 7.{}\n",
                if big { 3 } else { 6 },
                if big { 7 } else { 0 },
                if big { 4 } else { 1 },
            );
        }
        section(&mut random, "f0", &mut text);
        // What decides about forms, and the forms.
        text += "kind : u3\nkey : key of Settings\n";
        text += &format!(
            "form : by kind {{\n 0 a : {}\n 3 b : {}\n else c : {}\n }}\n",
            element(&mut random, 1).replace(" be", "").replace(" le", ""),
            element(&mut random, 1).replace(" be", "").replace(" le", ""),
            element(&mut random, 1).replace(" be", "").replace(" le", ""),
        );
        text += "setting : value of Settings by key\n";
        let later = random.random_range(1..4);
        let rest = ["bytes[rest]", "text[rest]", "[rest] u16", "[rest] Point", "[rest] Step", "[rest] Note"];
        let last = format!("rest : {}\n", rest[random.random_range(0..rest.len())]);
        for revision in 2..=later {
            text += &format!("added in {revision} {{\n");
            section(&mut random, &format!("f{revision}"), &mut text);
            if n % 5 == 4 && revision == later {
                text += &last;
            }
            text += "}\n";
        }
        if n % 5 == 4 && later == 1 {
            text += &last;
        }
        text += "}\n";
    }
    text
}

fn compile_and_check(seed: u64, big: bool, messages: usize) {
    let text = definition(seed, big, messages);
    let checked = check(&Source::new("random.ember", text.as_str()));
    let plan = checked.plan.unwrap_or_else(|| panic!("seed {seed}: {:#?}\n{text}", checked.findings));
    let all = vectors::vectors(&plan, seed);
    assert!(all.len() > messages * 15, "only {} vectors", all.len());
    for vector in &all {
        codec_and_rows_agree(&plan, vector, &text);
    }
    let folder = tempfile::tempdir().unwrap();
    if let Some(python) = python() {
        run_python(python, folder.path(), &python::generate(&plan, &all).unwrap());
    }
    if let Some(node) = node() {
        run_node(node, folder.path(), &javascript::generate(&plan, &all).unwrap());
    }
    run_rust(folder.path(), &rust::generate(&plan, &all).unwrap());
    let Some(compiler) = compiler() else { return };
    write(folder.path(), &c::generate(&plan, &all, &[]).unwrap());
    // Shown only if something differs.
    println!("seed {seed}:\n{text}");
    let sources = ["random.c", "random_vectors.c"];
    let output = compile_and_run(compiler, folder.path(), &["-DRANDOM_WITH_FLOAT"], &sources);
    assert_eq!(output, format!("{} vectors, 0 differences\n", all.len()));
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
    let given = fields.iter().map(|(name, value)| (name.as_str(), Given::Json(value)));
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
fn random_definitions_agree_in_both_byte_orders() {
    compile_and_check(1, false, 5);
    compile_and_check(2, true, 5);
}

#[test]
#[ignore = "minutes long; see CONTRIBUTING.md"]
fn many_random_definitions_agree() {
    for seed in 100..if common::is_small() { 102 } else { 400 } {
        compile_and_check(seed, seed % 2 == 0, if seed % 30 == 0 { 12 } else { 4 });
    }
}
