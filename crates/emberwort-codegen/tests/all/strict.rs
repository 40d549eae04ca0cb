//! The strictest checks of each language find nothing in generated code.
//!
//! A tool that is not on this machine is left out, unless EMBERWORT_NEED_TOOLCHAINS is set.

use std::path::Path;
use std::process::Command;

use emberwort_codegen::{c, javascript, python};
use emberwort_model::Plan;

use crate::common::plans::{ODD, WHOLE, marlock, plan};
use crate::common::{self, is_there};

/// What is on a link of every kind, and what is on none.
fn plans() -> Vec<(&'static str, Plan)> {
    vec![("marlock", marlock()), ("whole", plan(WHOLE)), ("odd", plan(ODD)), ("ends", plan(ENDS))]
}

/// Comparisons at the ends of types: a code for no reading beside all others of its type, and parts that are said again with each bit turned.
const ENDS: &str = "link ends { revision 1  byte_order little }
channel c { medium uart 9600 8N1
    limit 200 bytes
    frame { sync C6 39
        node : u8 address
        node_again : u8 same as node inverted
        kind : u16 message
        kind_again : u16 same as kind inverted
        size : u32 length of body
        size_again : u32 same as size inverted
        body } }
message M { id 1  from device  on c
    a : i8 or none
    b : i16 * 0.1 V or none
    c : i32 or none
    d : i64 or none
    e : u8 or none
    f : u16 * 0.1 V or none
    g : u32 or none
    h : u64 or none
    i : i7 or none
    j : -100 .. 100 m step 0.5 or none
    k : compact i16 or none
    l : [..3] i8 or none
    m : i24 or none optional }
";

/// Runs a check in a folder, which must not say anything.
fn says_nothing(folder: &Path, program: &str, arguments: &[&str]) {
    let ran = Command::new(program).current_dir(folder).args(arguments).output().unwrap();
    let said = common::said(&ran);
    let said: String = said.chars().take(5000).collect();
    assert!(ran.status.success() && said.trim().is_empty(), "{program} {arguments:?}: {said}");
}

fn c_code(name: &str, plan: &Plan, folder: &Path) -> (String, String) {
    common::write(folder, &c::generate(plan, &[], &[]).unwrap());
    (format!("{name}.c"), format!("{name}.h"))
}

/// All warnings of clang but those about padding, which the C has where the definition has it, and about pointers as such, which C has no
/// other way for; and those for C before 1999 and after 2011.
#[test]
fn clang_has_no_warning() {
    if !is_there("clang") {
        return;
    }
    for (name, plan) in plans() {
        let folder = tempfile::tempdir().unwrap();
        let (source, header) = c_code(name, &plan, folder.path());
        let usual =
            ["-Weverything", "-Werror", "-Wno-padded", "-Wno-unknown-warning-option", "-Wno-unsafe-buffer-usage"];
        let before = ["-Wno-declaration-after-statement", "-Wno-pre-c11-compat", "-Wno-covered-switch-default"];
        let float = format!("-D{}_WITH_FLOAT", name.to_uppercase());
        for level in ["-O0", "-O2", "-Os"] {
            let arguments = [&["-std=c99", level, "-c", &source, "-o", "out.o", &float][..], &usual, &before].concat();
            says_nothing(folder.path(), "clang", &arguments);
        }
        let parts = emberwort_codegen::Parts { typed_enums: true, ..Default::default() };
        let typed = tempfile::tempdir().unwrap();
        common::write(typed.path(), &c::generate_parts(&plan, &[], &[], &parts).unwrap());
        let arguments = [&["-std=c99", "-c", &source, "-o", "out.o", &float][..], &usual, &before].concat();
        says_nothing(typed.path(), "clang", &arguments);
        std::fs::write(folder.path().join("use.cpp"), format!("#include \"{header}\"\n")).unwrap();
        let as_cpp =
            ["-std=c++17", "-fsyntax-only", "-Wall", "-Wextra", "-pedantic", "-Wconversion", "-Werror", "use.cpp"];
        says_nothing(folder.path(), "clang", &as_cpp);
    }
}

#[test]
fn the_analyzer_of_gcc_finds_nothing() {
    if !is_there("gcc") {
        return;
    }
    for (name, plan) in plans().into_iter().rev().take(if common::is_small() { 1 } else { 4 }) {
        let folder = tempfile::tempdir().unwrap();
        let (source, _) = c_code(name, &plan, folder.path());
        let warnings = [
            "-Wall",
            "-Wextra",
            "-Wconversion",
            "-Wsign-conversion",
            "-Wcast-qual",
            "-Wshadow",
            "-Wundef",
            "-Wswitch-default",
            "-Wlogical-op",
            "-Wsign-compare",
            "-Wtype-limits",
        ];
        let arguments =
            [&["-std=c99", "-O1", "-fanalyzer", "-pedantic", "-Werror", "-c", &source, "-o", "out.o"][..], &warnings]
                .concat();
        says_nothing(folder.path(), "gcc", &arguments);
    }
}

/// Cppcheck, but where variables are declared, which C before 1999 has at the start of a function, and presence bits that are added to a byte
/// that was cleared.
#[test]
fn cppcheck_finds_nothing() {
    if !is_there("cppcheck") {
        return;
    }
    for (name, plan) in plans() {
        let folder = tempfile::tempdir().unwrap();
        let (source, _) = c_code(name, &plan, folder.path());
        let enabled = "--enable=warning,style,performance,portability";
        let left_out = ["--suppress=variableScope", "--suppress=badBitmaskCheck"];
        let upper = name.to_uppercase();
        // Each branch that a macro chooses is looked at once. Left to itself it takes three times as long, one macro after the other.
        for macros in [
            format!("-D{upper}_CHECKED="),
            format!("-D{upper}_CRC_BITWISE -DEMBERWORT_GUARD -D__GNUC__ -D__STDC_VERSION__=201112L"),
            format!("-D{upper}_CRC_NIBBLE -D{upper}_WITH_FLOAT -D__AVR__"),
            format!("-D{upper}_LOCAL -D__GNUC__ -D__OPTIMIZE_SIZE__"),
        ] {
            let macros: Vec<&str> = macros.split(' ').collect();
            let arguments = ["--quiet", "--std=c99", "--error-exitcode=1", enabled, &source];
            says_nothing(folder.path(), "cppcheck", &[&arguments[..], &left_out, &macros].concat());
        }
    }
}

#[test]
fn python_has_the_types_that_it_says() {
    if !is_there("mypy") {
        return;
    }
    for (name, plan) in plans() {
        let folder = tempfile::tempdir().unwrap();
        common::write(folder.path(), &python::generate(&plan, &[]).unwrap());
        let module = format!("{name}.py");
        let arguments = ["--strict", "--no-error-summary", "--no-incremental", "--cache-dir=/dev/null", &module];
        says_nothing(folder.path(), "mypy", &arguments);
    }
}

#[test]
fn typescript_reads_the_types() {
    if !is_there("tsc") {
        return;
    }
    for (name, plan) in plans() {
        let folder = tempfile::tempdir().unwrap();
        common::write(folder.path(), &javascript::generate(&plan, &[]).unwrap());
        let mut uses = format!("import * as link from \"./{name}.js\";\nconst found: number = link.REVISION;\n");
        for message in &plan.messages {
            let name = &message.message.name;
            uses += &format!(
                "{{ const one: link.{name} = link.{name}.decode(new link.{name}({{ sectionsHeld: found }}).encode()); console.log(one); }}\n"
            );
        }
        std::fs::write(folder.path().join("use.ts"), uses).unwrap();
        let modules =
            ["--target", "es2022", "--module", "nodenext", "--moduleResolution", "nodenext", "--lib", "es2022,dom"];
        says_nothing(folder.path(), "tsc", &[&["--strict", "--noEmit", "use.ts"][..], &modules].concat());
    }
}
