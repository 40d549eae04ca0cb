//! Every algorithm as a function of every language on this machine: compiled, run over `123456789`, and compared with the
//! published check values.
//!
//! A language that is not here is left out, unless EMBERWORT_NEED_TOOLCHAINS is set.

use std::path::Path;
use std::process::Command;

use emberwort_checksum::code::{Language, function};
use emberwort_model::algorithm::{Algorithm, CATALOGUE};
use emberwort_wire::checksum::Checksum;

/// Each name with the call of each of its functions, and the value that they give.
struct Case {
    name: &'static str,
    algorithm: Algorithm,
    check: u64,
}

fn cases() -> Vec<Case> {
    Algorithm::names()
        .map(|name| {
            let algorithm = Algorithm::named(name).unwrap();
            let published = CATALOGUE.iter().find(|entry| entry.name == name).map(|entry| entry.check);
            let check = published.unwrap_or_else(|| Checksum::new(&algorithm).compute(b"123456789"));
            Case { name, algorithm, check }
        })
        .collect()
}

fn camel(name: &str, from: usize) -> String {
    let words = name.split(|c: char| !c.is_ascii_alphanumeric()).filter(|word| !word.is_empty());
    words
        .enumerate()
        .map(|(n, word)| if n >= from { word[..1].to_uppercase() + &word[1..] } else { word.to_owned() })
        .collect()
}

fn snake(name: &str) -> String {
    name.replace(['-', '/', ' '], "_")
}

/// Runs a command in a folder; `None` if it is not on this machine.
fn run(folder: &Path, command: &str, words: &[&str]) -> Option<String> {
    let ran = match Command::new(command).args(words).current_dir(folder).output() {
        Ok(ran) => ran,
        Err(problem) => {
            assert!(std::env::var_os("EMBERWORT_NEED_TOOLCHAINS").is_none(), "{command} is missing: {problem}");
            println!("skipped: {command}: {problem}");
            return None;
        }
    };
    let said = String::from_utf8_lossy(&ran.stdout).into_owned() + &String::from_utf8_lossy(&ran.stderr);
    assert!(ran.status.success(), "{command} {words:?}: {}", &said[..said.len().min(4000)]);
    Some(said)
}

/// All functions, one after the other, with `main` behind them; and what it should print.
fn program(language: Language, main: impl Fn(&Case, &str) -> String) -> (String, String, String) {
    let (mut functions, mut calls, mut expected) = (String::new(), String::new(), String::new());
    for case in cases() {
        functions += &function(&case.algorithm, case.name, language);
        let suffixes: &[&str] = if matches!(case.algorithm, Algorithm::Crc(_)) { &["", "table"] } else { &[""] };
        for suffix in suffixes {
            calls += &main(&case, suffix);
            expected += &format!("{} {}\n", case.name, case.check);
        }
    }
    (functions, calls, expected)
}

fn under(suffix: &str) -> String {
    if suffix.is_empty() { String::new() } else { format!("_{suffix}") }
}

#[test]
fn c() {
    let folder = tempfile::tempdir().unwrap();
    let (functions, calls, expected) = program(Language::C, |case, suffix| {
        let call = format!("{}{}((const uint8_t *)\"123456789\", 9)", snake(case.name), under(suffix));
        format!("    printf(\"{} %llu\\n\", (unsigned long long){call});\n", case.name)
    });
    let text = format!("#include <stdio.h>\n{functions}\nint main(void)\n{{\n{calls}    return 0;\n}}\n");
    std::fs::write(folder.path().join("all.c"), text).unwrap();
    let strict = ["-std=c99", "-Wall", "-Wextra", "-Werror", "-pedantic", "-fsanitize=undefined", "all.c", "-o", "all"];
    if run(folder.path(), "cc", &strict).is_some() {
        assert_eq!(run(folder.path(), "./all", &[]), Some(expected));
    }
}

#[test]
fn rust() {
    let folder = tempfile::tempdir().unwrap();
    let (functions, calls, expected) = program(Language::Rust, |case, suffix| {
        format!("    println!(\"{} {{}}\", {}{}(b\"123456789\"));\n", case.name, snake(case.name), under(suffix))
    });
    std::fs::write(folder.path().join("all.rs"), format!("{functions}\nfn main() {{\n{calls}}}\n")).unwrap();
    if run(folder.path(), "rustc", &["--edition", "2021", "-D", "warnings", "all.rs"]).is_some() {
        assert_eq!(run(folder.path(), "./all", &[]), Some(expected));
    }
}

#[test]
fn python() {
    let folder = tempfile::tempdir().unwrap();
    let (functions, calls, expected) = program(Language::Python, |case, suffix| {
        format!("print(\"{}\", {}{}(b\"123456789\"))\n", case.name, snake(case.name), under(suffix))
    });
    std::fs::write(folder.path().join("all.py"), functions + &calls).unwrap();
    if let Some(said) = run(folder.path(), "python3", &["all.py"]) {
        assert_eq!(said, expected);
    }
}

#[test]
fn javascript() {
    let folder = tempfile::tempdir().unwrap();
    let (functions, calls, expected) = program(Language::JavaScript, |case, suffix| {
        let table = if suffix.is_empty() { "" } else { "Table" };
        let call = format!("{}{table}(Buffer.from(\"123456789\"))", camel(case.name, 1));
        format!("console.log(\"{} \" + {call});\n", case.name)
    });
    std::fs::write(folder.path().join("all.js"), functions + &calls).unwrap();
    if let Some(said) = run(folder.path(), "node", &["all.js"]) {
        assert_eq!(said, expected);
    }
}

#[test]
fn java() {
    let folder = tempfile::tempdir().unwrap();
    let (functions, calls, expected) = program(Language::Java, |case, suffix| {
        let method = if suffix.is_empty() { "of" } else { "withTable" };
        let call = format!("{}.{method}(\"123456789\".getBytes())", camel(case.name, 0));
        format!("        System.out.println(\"{} \" + Long.toUnsignedString({call}));\n", case.name)
    });
    let text = format!(
        "{functions}\npublic class All {{\n    public static void main(String[] words) {{\n{calls}    }}\n}}\n"
    );
    std::fs::write(folder.path().join("All.java"), text).unwrap();
    if run(folder.path(), "javac", &["All.java"]).is_some() {
        assert_eq!(run(folder.path(), "java", &["All"]), Some(expected));
    }
}

#[test]
fn go() {
    let folder = tempfile::tempdir().unwrap();
    let (functions, calls, expected) = program(Language::Go, |case, suffix| {
        let table = if suffix.is_empty() { "" } else { "Table" };
        format!("\tfmt.Println(\"{}\", {}{table}([]byte(\"123456789\")))\n", case.name, camel(case.name, 0))
    });
    let functions = functions.replace("package checksum\n", "");
    let text = format!("package main\n\nimport \"fmt\"\n\n{functions}\nfunc main() {{\n{calls}}}\n");
    std::fs::write(folder.path().join("all.go"), text).unwrap();
    if let Some(said) = run(folder.path(), "go", &["run", "all.go"]) {
        assert_eq!(said, expected);
    }
}
