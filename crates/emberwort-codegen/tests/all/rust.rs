//! Generated Rust: all vectors, both ways, and names of all kinds.

use std::process::Command;

use emberwort_codegen::{rust as target, vectors};
use emberwort_model::plan::FrameFinder;

use crate::common::plans::{ODD, WHOLE, marlock, plan};
use crate::common::{self, run_rust, rustc, write};

#[test]
fn all_vectors_agree() {
    for plan in [marlock(), plan(ODD), plan(WHOLE)] {
        let folder = tempfile::tempdir().unwrap();
        run_rust(folder.path(), &target::generate(&plan, &vectors::vectors(&plan, 42)).unwrap());
    }
}

/// Words of Rust and of the module, quotes, ends of strings and what Markdown reads.
#[test]
fn hostile_names_and_texts_stay_what_they_are() {
    let words = [
        "self", "fn", "type", "match", "mod", "core", "u8", "some", "none", "ok", "err", "r", "w", "m", "b", "s",
        "start", "box", "static", "dyn", "async", "unsafe", "yield", "key",
    ];
    let fields: String = words.iter().enumerate().map(|(n, word)| format!(" {word} : u{}\n", n + 3)).collect();
    let text = format!(
        "## Ends */ \u{202e} \" and \\ and {{}} and [x](y) <b> here.\nlink crate {{\n revision 1\n byte_order big\n}}\n\
         enum Result : u3 {{ 0 none 1 true 2 self }}\nflags Option : u60 {{ 0 a 7 none 59 top }}\n\
         record Vec {{\n return : u8\n}}\n\
         channel escaped {{\n medium uart 9600 8N1\n frame {{ sync A5\n new : u8 message\n size : u8 length of body\n body\n \
         check : u8 crc-8/bluetooth over body\n check2 : u16 crc-16/arc over new..check }}\n}}\n\
         ## */ `x` #[y]\nmessage Error {{\n id 1\n from device\n on escaped\n{fields} map : Result\n any : Option\n form : Vec\n wide : i61\n big : compact u64\n}}\n"
    );
    let plan = plan(&text);
    let folder = tempfile::tempdir().unwrap();
    let files = target::generate(&plan, &vectors::vectors(&plan, 7)).unwrap();
    assert!(files.iter().all(|file| !file.text.contains('\u{202e}')), "text is not turned around");
    run_rust(folder.path(), &files);
}

#[test]
fn a_wrong_vector_is_found() {
    let plan = marlock();
    let mut all = vectors::vectors(&plan, 42);
    all.truncate(3);
    all[1].body[1] ^= 1;
    let folder = tempfile::tempdir().unwrap();
    let files = target::generate(&plan, &all).unwrap();
    assert!(std::panic::catch_unwind(|| run_rust(folder.path(), &files)).is_err());
}

#[test]
fn names_that_become_the_same_are_refused() {
    common::assert_clash(target::generate(&common::message_of("type : u8\n type_ : u8"), &[]), "type_", "Rust");
}

/// A crate for a device in which nothing panics, without a lint of the pedantic kind.
#[test]
fn nothing_panics_and_no_lint_is_found() {
    for (name, plan) in [("marlock", marlock()), ("whole", plan(WHOLE)), ("odd", plan(ODD))] {
        let folder = tempfile::tempdir().unwrap();
        common::write(folder.path(), &target::generate(&plan, &[]).unwrap());
        // Receivers are made where they are used.
        let receivers = plan.channels.iter().flat_map(|channel| {
            let name: String = channel.name.split('_').map(|word| word[..1].to_uppercase() + &word[1..]).collect();
            let finder = channel.finder();
            let has_receiver =
                !finder.is_packet() && !finder.is_text() && finder != FrameFinder::StatusBytes { running: true };
            let ends: Vec<&str> = if channel.is_split() { vec!["FromHost", "FromDevice"] } else { vec![""] };
            ends.into_iter().filter(move |_| has_receiver).map(move |end| format!("{name}{end}Receiver"))
        });
        let mut uses = String::new();
        for (n, receiver) in receivers.enumerate() {
            uses += &format!(
                "/// Receives.\npub fn receive{n}(receiver: &mut {name}::{receiver}, data: &mut &[u8]) -> usize {{\n    let mut count = 0;\n    \
                 while let Some(found) = receiver.next(data) {{\n        count += found.frame.body.len();\n    }}\n    \
                 while let Some(found) = receiver.gap() {{\n        count += found.frame.body.len();\n    }}\n    count\n}}\n"
            );
        }
        let library = format!(
            "//! For a device.\n#![no_std]\n#![forbid(unsafe_code)]\n#![warn(missing_docs)]\n/// The link.\npub mod {name};\n{uses}"
        );
        std::fs::write(folder.path().join("lib.rs"), library).unwrap();
        let run = |program: &str, arguments: &[&str]| {
            let ran = Command::new(program).current_dir(folder.path()).args(arguments).output().unwrap();
            assert!(
                ran.status.success(),
                "{program}: {}",
                String::from_utf8_lossy(&ran.stderr).chars().take(5000).collect::<String>()
            );
            String::from_utf8_lossy(&ran.stdout).into_owned()
        };
        let usual = ["--edition", "2021", "--crate-type", "rlib", "-D", "warnings", "lib.rs"];
        run(
            "clippy-driver",
            &[&usual[..], &["--emit", "metadata", "-W", "clippy::all", "-W", "clippy::pedantic"]].concat(),
        );
        let object = ["-O", "-C", "codegen-units=1", "-C", "embed-bitcode=no", "--emit", "obj", "-o", "lib.o"];
        run("rustc", &[&usual[..], &object].concat());
        let symbols = run("nm", &["-C", "lib.o"]);
        assert!(symbols.lines().count() > 50, "{symbols}");
        let panics: Vec<&str> =
            symbols.lines().filter(|line| line.contains("panic") || line.contains("slice_index")).collect();
        assert!(panics.is_empty(), "{panics:#?}");
    }
}

/// The example of docs/generated-rust.md.
#[test]
fn the_example_of_the_page_runs() {
    let page = include_str!("../../../../docs/generated-rust.md");
    let example = common::example(page, "rust");
    let folder = tempfile::tempdir().unwrap();
    let plan = marlock();
    common::write(folder.path(), &target::generate(&plan, &[]).unwrap());
    std::fs::write(folder.path().join("main.rs"), example).unwrap();
    let arguments = ["--edition", "2021", "-D", "warnings", "main.rs"];
    let compiled = Command::new("rustc").current_dir(folder.path()).args(arguments).output().unwrap();
    assert!(compiled.status.success(), "{}", String::from_utf8_lossy(&compiled.stderr));
    let ran = Command::new(folder.path().join("main")).output().unwrap();
    assert_eq!(String::from_utf8_lossy(&ran.stdout), "node 3: 42.5 %, held\n1 good frame, 5 bytes skipped\n");
}

/// With `mod`, with `include!` as a build script's folder wants it, and in both editions: the same names stand there.
#[test]
fn the_module_can_be_included() {
    let plan = marlock();
    let files = target::generate(&plan, &[]).unwrap();
    let included = "mod link { include!(\"marlock.rs\"); }\n";
    for (edition, module) in [("2021", included), ("2024", included), ("2024", "#[path = \"marlock.rs\"]\nmod link;\n")]
    {
        let folder = tempfile::tempdir().unwrap();
        common::write(folder.path(), &files);
        let main = format!("{module}fn main() {{ println!(\"{{}} {{}}\", link::REVISION, link::GateState::HELD); }}\n");
        std::fs::write(folder.path().join("main.rs"), main).unwrap();
        let arguments = ["--edition", edition, "-D", "warnings", "main.rs"];
        let compiled = Command::new(rustc()).current_dir(folder.path()).args(arguments).output().unwrap();
        assert!(compiled.status.success(), "{edition}: {}", String::from_utf8_lossy(&compiled.stderr));
        let ran = Command::new(folder.path().join("main")).output().unwrap();
        assert_eq!(String::from_utf8_lossy(&ran.stdout), format!("{} held\n", plan.link.revision));
    }
}

/// A writer's type says which value comes next: each other order does not compile, and the error names the value.
#[test]
fn a_wrong_order_does_not_compile() {
    let folder = tempfile::tempdir().unwrap();
    write(folder.path(), &target::generate(&marlock(), &[]).unwrap());
    let first = "GateStatusWriter::new(out).state(GateState::OPEN)?.opening(200)?.upstream(4095)?.oil(0)?.pump_temp(-4)?.faults(Faults(0))?";
    let compile = |calls: &str| {
        let program = format!(
            "mod marlock;\nuse marlock::*;\nfn write(out: &mut [u8]) -> Result<usize, Error> {{ Ok({first}{calls}) }}\n\
             fn main() {{\n    let mut out = [0xAA; 64];\n    let used = write(&mut out).unwrap();\n    println!(\"{{:02x?}}\", &out[..used]);\n}}\n"
        );
        std::fs::write(folder.path().join("main.rs"), program).unwrap();
        let arguments = ["--edition", "2021", "-A", "warnings", "main.rs", "-o", "main"];
        Command::new(rustc()).current_dir(folder.path()).args(arguments).output().unwrap()
    };
    let all = ".operator(Some(\"ann\"))?.battery(121)?.latch_force(10.0)?.moving(true)?.finish()";
    assert!(compile(all).status.success());
    let ran = Command::new(folder.path().join("main")).output().unwrap();
    // By hand: bit 0 for the operator, 2 and 200 << 3; 4095 over bits 19 to 30; -4 from bit 43 on; `ann`; 12.1 V; 10 kN; moving.
    let body = "[01, 42, fe, 7f, 00, e0, 07, 00, 03, 61, 6e, 6e, 79, 00, 00, 20, 41, 01]\n";
    assert_eq!(String::from_utf8_lossy(&ran.stdout), body);
    // As a sender of revision 1.
    assert!(compile(".operator(None)?.finish()").status.success());
    for (calls, missing) in [
        (".battery(121)?.finish()", "battery"),
        (".operator(None)?.latch_force(1.0)?.finish()", "latch_force"),
        (".operator(None)?.operator(None)?.finish()", "operator"),
        (".operator(None)?.battery(121)?.latch_force(1.0)?.finish()", "finish"),
        (".finish()", "finish"),
        (".operator(None)?.battery(121)?.latch_force(1.0)?.moving(true)?.moving(true)?.finish()", "moving"),
    ] {
        let said = compile(calls);
        let said = String::from_utf8_lossy(&said.stderr);
        assert!(said.contains(&format!("no method named `{missing}` found")), "{calls}: {said}");
    }
}
