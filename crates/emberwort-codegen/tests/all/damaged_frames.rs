//! Whole frames with damage: generated code of all languages says the same of them as the library.

use std::process::Command;

use emberwort_codegen::vectors::vectors;
use emberwort_codegen::{c, javascript, python, rust};
use emberwort_model::Plan;
use emberwort_model::hex::hex;
use emberwort_model::plan::{FrameFinder, Part, Role};
use emberwort_wire::Framed;
use rand::SeedableRng;
use rand_chacha::ChaCha8Rng;

use crate::common::frame_interpreter::Wrong;
use crate::common::{self, compile_and_run, compiler, node, python, rustc};
use crate::lowered_frames::{damaged, random_plan, wrong};

/// Frames of each vector.
const TRIES: usize = 5;

/// Most frames of a link.
const MOST: usize = 500;

/// A frame with damage, without stuffing, and what the library says of it.
struct Damaged {
    /// What names of its direction end with: `c3_from_host`.
    stem: String,
    bytes: Vec<u8>,
    said: &'static str,
}

/// Frames of the directions in which they go over the wire as they are.
fn frames(plan: &Plan, seed: u64) -> Vec<Damaged> {
    let mut random = ChaCha8Rng::seed_from_u64(seed);
    let mut all = Vec::new();
    for vector in vectors(plan, seed) {
        let from = plan.messages[vector.message].message.from;
        for frame in &vector.frames {
            let channel = &plan.channels[frame.channel];
            let framing = channel.framing(from);
            let direction = framing.plan();
            let is_plain =
                matches!(direction.finder, FrameFinder::Sync | FrameFinder::Idle { .. } | FrameFinder::Packet);
            // Where nothing can be wrong, nothing is said.
            let has_part = |part: &Part| matches!(part.role, Role::Checksum { .. } | Role::Fixed(_));
            if !is_plain || !direction.parts.iter().any(has_part) {
                continue;
            }
            let end = if channel.is_split() { format!("_from_{}", from.as_str()) } else { String::new() };
            for n in 0..TRIES {
                let bytes = if n == 0 { frame.bytes.clone() } else { damaged(&frame.bytes, &mut random) };
                if bytes.is_empty() || bytes.len() > direction.limit {
                    continue;
                }
                let said = match framing.check(&bytes).map_err(wrong) {
                    Ok(_) => "ok",
                    Err(Wrong::Length) => "length",
                    Err(Wrong::Value) => "value",
                    Err(Wrong::Checksum) => "checksum",
                };
                all.push(Damaged { stem: format!("{}{end}", channel.name), bytes, said });
            }
        }
    }
    // Of all kinds some: compilers take their time for a long list of calls.
    let step = all.len().div_ceil(MOST);
    all.into_iter().step_by(step.max(1)).collect()
}

fn camel(stem: &str) -> String {
    stem.split('_').map(|word| word[..1].to_uppercase() + &word[1..]).collect()
}

/// A program of calls, its lines in front and behind.
fn program(frames: &[Damaged], head: &str, call: impl Fn(&Damaged) -> String, tail: &str) -> String {
    let calls: String = frames.iter().map(|frame| call(frame) + "\n").collect();
    format!("{head}\n{calls}{tail}\n")
}

#[test]
fn all_languages_say_of_a_damaged_frame_what_the_library_says() {
    let mut counts = [0; 4];
    for seed in 0..2 {
        let plan = random_plan(seed);
        let (frames, vectors) = (frames(&plan, seed), vectors(&plan, seed));
        for frame in &frames {
            counts[["ok", "length", "value", "checksum"].iter().position(|said| *said == frame.said).unwrap()] += 1;
        }
        let expected: String = frames.iter().map(|frame| format!("{}\n", frame.said)).collect();
        let folder = tempfile::tempdir().unwrap();
        let write = |name: &str, text: String| std::fs::write(folder.path().join(name), text).unwrap();
        let run = |program: &std::ffi::OsStr, words: &[&str]| {
            let ran = Command::new(program).current_dir(folder.path()).args(words).output().unwrap();
            common::said(&ran)
        };
        let agree = |language: &str, found: &str| {
            for (frame, (found, expected)) in frames.iter().zip(found.lines().zip(expected.lines())) {
                assert_eq!(found, expected, "seed {seed}, {language}: {} {:02X?}", frame.stem, frame.bytes);
            }
            assert_eq!(found, expected, "{language}");
        };
        if let Some(compiler) = compiler() {
            common::write(folder.path(), &c::generate(&plan, &vectors, &[]).unwrap());
            let head = "#include \"any.h\"\n#include <stdio.h>\nstatic void say(any_codec_result_t result)\n{\n    \
                        puts(result == ANY_OK ? \"ok\" : result == ANY_BAD_LENGTH ? \"length\" : result == ANY_BAD_VALUE ? \"value\"\n        \
                        : result == ANY_BAD_CHECKSUM ? \"checksum\" : \"?\");\n}\nint main(void)\n{";
            let call = |frame: &Damaged| {
                let (stem, size) = (&frame.stem, frame.bytes.len());
                let bytes: Vec<String> = frame.bytes.iter().map(|byte| byte.to_string()).collect();
                format!(
                    "    {{ static const uint8_t bytes[] = {{{}}}; any_{stem}_frame_t frame; say(any_{stem}_open(&frame, bytes, {size}u)); }}",
                    bytes.join(",")
                )
            };
            write("open.c", program(&frames, head, call, "    return 0;\n}"));
            agree("C", &compile_and_run(compiler, folder.path(), &["-O1"], &["any.c", "open.c"]));
        }
        if let Some(python) = python() {
            common::write(folder.path(), &python::generate(&plan, &vectors).unwrap());
            let head = "import any as m\ndef say(open, text):\n    try:\n        open(bytes.fromhex(text))\n        print(\"ok\")\n    \
                        except m.BadLength:\n        print(\"length\")\n    except m.BadValue:\n        print(\"value\")\n    \
                        except m.BadChecksum:\n        print(\"checksum\")";
            let call = |frame: &Damaged| format!("say(m.open_{}, \"{}\")", frame.stem, hex(&frame.bytes));
            write("open.py", program(&frames, head, call, ""));
            agree("Python", &run(python.as_ref(), &["open.py"]));
        }
        if let Some(node) = node() {
            common::write(folder.path(), &javascript::generate(&plan, &vectors).unwrap());
            let head = "import * as m from \"./any.js\";\nconst say = (open, text) => {\n  try {\n    \
                        open(Uint8Array.from(Buffer.from(text.replaceAll(\" \", \"\"), \"hex\")));\n    console.log(\"ok\");\n  } catch (error) {\n    \
                        console.log(error.kind.slice(4));\n  }\n};";
            let call = |frame: &Damaged| format!("say(m.open{}, \"{}\");", camel(&frame.stem), hex(&frame.bytes));
            write("open.mjs", program(&frames, head, call, ""));
            agree("JavaScript", &run(node.as_ref(), &["open.mjs"]));
        }
        common::write(folder.path(), &rust::generate(&plan, &vectors).unwrap());
        let head = "#[allow(dead_code)]\nmod any;\n\nfn say<T>(result: Result<T, any::Error>) {\n    println!(\"{}\", match result {\n        \
                    Ok(_) => \"ok\",\n        Err(any::Error::BadLength) => \"length\",\n        Err(any::Error::BadValue) => \"value\",\n        \
                    Err(any::Error::BadChecksum) => \"checksum\",\n        Err(_) => \"?\",\n    });\n}\n\nfn main() {";
        let call = |frame: &Damaged| format!("    say(any::open_{}(&{:?}));", frame.stem, frame.bytes);
        write("open.rs", program(&frames, head, call, "}"));
        let compiled = run(rustc().as_ref(), &["--edition", "2021", "-o", "open", "open.rs"]);
        assert!(folder.path().join("open").exists(), "{compiled}");
        agree("Rust", &run(folder.path().join("open").as_os_str(), &[]));
    }
    // None is rare.
    assert!(counts.iter().all(|count| count * 60 > counts.iter().sum()), "{counts:?}");
}
