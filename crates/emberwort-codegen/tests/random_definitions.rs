//! Random definitions, generated to C, compiled and checked with their vectors under sanitizers.
//!
//! One link with many messages in each byte order in the normal run; many more with
//! `cargo test --release -p emberwort-codegen --test random_definitions -- --ignored`.

mod common;

use common::{compile_and_run, compiler, write};
use emberwort_codegen::{c, vectors};
use emberwort_model::{Source, check};
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;

/// A random type; `later` ones stand in sections that an older sender lacks.
fn field(random: &mut ChaCha8Rng) -> String {
    let bits = random.random_range(2..=64);
    let narrow = random.random_range(2..=30);
    let sign = if random.random() { "u" } else { "i" };
    let (low, count) = (random.random_range(-90..90i64), random.random_range(1..5000i64));
    let ty = match random.random_range(0..12) {
        0 | 1 => format!("{sign}{bits}"),
        2 => format!("{sign}{narrow} * 0.{} V", random.random_range(1..99)),
        3 => format!("{sign}{narrow} * -{}.5 + {low}.25", random.random_range(0..40)),
        4 => format!("{low} .. {} m step 1", low + count),
        5 => format!("{low} .. {}.{:02} m step 0.01", low + count, random.random_range(0..100)).replace("-0.", "0."),
        6 | 7 => format!("{low} .. {} bar in {narrow} bits", low + count),
        8 => {
            return ["bool", "f32", "Mode", "Signs", "f32 optional", "Mode optional"][random.random_range(0..6)]
                .to_owned();
        }
        9 => return format!("text[..{}]", [3, 40, 255, 256, 300][random.random_range(0..5)]),
        10 => return format!("bytes[{}]", random.random_range(1..9)),
        _ => return format!("spare {} bits", random.random_range(1..20)),
    };
    let suffix = ["", "", " or none", " optional", " or none optional"][random.random_range(0..5)];
    ty + suffix
}

fn definition(seed: u64, big: bool, messages: usize) -> String {
    let mut random = ChaCha8Rng::seed_from_u64(seed);
    let order = if big { "big" } else { "little" };
    let mut text = format!(
        "link random {{ revision 3  byte_order {order} }}
         enum Mode : u5 {{ 0 off  3 on  30 boost }}
         flags Signs : u12 {{ 0 a  11 l }}
         channel c {{\n medium uart 9600 8N1\n limit 9000 bytes\n frame {{\n sync A5\n kind : u8 message\n size : u16 length of body\n body\n \
         check : u16 crc-16/ibm-3740 over kind..body\n }}\n }}\n"
    );
    for n in 0..messages {
        text += &format!("message M{n} {{\n id {n}\n from host\n on c\n");
        for section in 0..random.random_range(1..4) {
            if section > 0 {
                text += &format!("added in {} {{\n", section + 1);
            }
            for index in 0..random.random_range(1..9) {
                let field = field(&mut random);
                if field.starts_with("spare") {
                    text += &format!("{field}\n");
                } else {
                    text += &format!("f{section}{index} : {field}\n");
                }
            }
            if section > 0 {
                text += "}\n";
            }
        }
        text += "}\n";
    }
    text
}

fn compile_and_check(seed: u64, big: bool, messages: usize) {
    let text = definition(seed, big, messages);
    let checked = check(&Source::new("random.ember", text.as_str()));
    assert_eq!(checked.findings, [], "seed {seed}:\n{text}");
    let plan = checked.plan.unwrap();
    let all = vectors::vectors(&plan, seed);
    let Some(compiler) = compiler() else { return };
    let folder = tempfile::tempdir().unwrap();
    write(folder.path(), &c::generate(&plan, &all).unwrap());
    // Shown only if something differs.
    println!("seed {seed}:\n{text}");
    let sources = ["random.c", "random_vectors.c"];
    let output = compile_and_run(compiler, folder.path(), &["-DRANDOM_WITH_FLOAT"], &sources, None);
    assert_eq!(output, format!("{} vectors, 0 differences\n", all.len()));
}

#[test]
fn random_definitions_agree_in_both_byte_orders() {
    compile_and_check(1, false, 10);
    compile_and_check(2, true, 10);
}

#[test]
#[ignore = "minutes long; see CONTRIBUTING.md"]
fn many_random_definitions_agree() {
    for seed in 100..140 {
        compile_and_check(seed, seed % 2 == 0, 12);
    }
}
