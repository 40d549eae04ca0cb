//! Compiling and running generated code.

pub mod definitions;
pub mod frame_interpreter;
pub mod interpreter;
pub mod plans;
pub mod streams;
pub mod words;

use std::ops::Range;
use std::path::Path;
use std::process::{Command, Output};

use emberwort_codegen::{GenerateError, GeneratedFile};
use emberwort_model::Plan;

/// Every warning is an error, and every undefined behaviour ends the program.
const STRICT: &[&str] = &[
    "-std=c99",
    "-Wall",
    "-Wextra",
    "-Wconversion",
    "-Wsign-conversion",
    "-Wtype-limits",
    "-Wshadow",
    "-pedantic",
    "-Werror",
    "-fsanitize=address,undefined",
    "-fno-sanitize-recover=all",
    "-g",
];

/// Whether a tool is there. A missing one fails the test where CI asks for it.
pub fn is_there(program: &str) -> bool {
    let found = Command::new(program).arg("--version").output().is_ok_and(|output| output.status.success());
    assert!(
        found || std::env::var_os("EMBERWORT_NEED_TOOLCHAINS").is_none(),
        "{program} is not on this machine, and EMBERWORT_NEED_TOOLCHAINS is set"
    );
    found
}

/// The machine's C compiler. A missing one fails the test where CI asks for it.
pub fn compiler() -> Option<&'static str> {
    let found = ["cc", "gcc", "clang"].into_iter().find(|name| Command::new(name).arg("--version").output().is_ok());
    assert!(
        found.is_some() || std::env::var_os("EMBERWORT_NEED_TOOLCHAINS").is_none(),
        "no C compiler is on this machine, and EMBERWORT_NEED_TOOLCHAINS is set"
    );
    found
}

/// The machine's Python. A missing one fails the test where CI asks for it.
pub fn python() -> Option<&'static str> {
    let found = ["python3", "python"].into_iter().find(|name| Command::new(name).arg("--version").output().is_ok());
    assert!(
        found.is_some() || std::env::var_os("EMBERWORT_NEED_TOOLCHAINS").is_none(),
        "no Python is on this machine, and EMBERWORT_NEED_TOOLCHAINS is set"
    );
    found
}

/// The oldest and the newest Python of this machine that are named by their versions, from the oldest on that generated code is for.
pub fn other_pythons() -> Vec<String> {
    let names = (9..20).map(|minor| format!("python3.{minor}"));
    let mut found: Vec<String> = names
        .filter(|name| Command::new(name).arg("--version").output().is_ok_and(|ran| ran.status.success()))
        .collect();
    if found.len() > 2 {
        found.drain(1..found.len() - 1);
    }
    found
}

/// The machine's Node.js. A missing one fails the test where CI asks for it.
pub fn node() -> Option<&'static str> {
    let found = Command::new("node").arg("--version").output().is_ok();
    assert!(
        found || std::env::var_os("EMBERWORT_NEED_TOOLCHAINS").is_none(),
        "no Node.js is on this machine, and EMBERWORT_NEED_TOOLCHAINS is set"
    );
    found.then_some("node")
}

/// The file of a small Python interpreter that Node.js runs, where it is installed for all. A missing one fails the test where CI asks for it.
pub fn small_python() -> Option<String> {
    let folder = Command::new("npm").args(["root", "--global"]).output().ok()?;
    let folder = String::from_utf8_lossy(&folder.stdout).trim().to_owned();
    let file = format!("{folder}/@micropython/micropython-webassembly-pyscript/micropython.mjs");
    let found = Path::new(&file).exists();
    assert!(
        found || std::env::var_os("EMBERWORT_NEED_TOOLCHAINS").is_none(),
        "no small Python interpreter is on this machine (see CONTRIBUTING.md), and EMBERWORT_NEED_TOOLCHAINS is set"
    );
    found.then_some(file)
}

/// The machine's Rust compiler; there is one, since it made this test.
pub fn rustc() -> &'static str {
    "rustc"
}

/// What a program printed, on either stream.
pub fn said(ran: &Output) -> String {
    String::from_utf8_lossy(&ran.stdout).into_owned() + &String::from_utf8_lossy(&ran.stderr)
}

/// The first example of a page in a language.
pub fn example<'p>(page: &'p str, language: &str) -> &'p str {
    let (_, rest) = page.split_once(&format!("```{language}\n")).expect("an example");
    rest.split_once("```").expect("its end").0
}

/// Two fields that become one name are refused, with the name and the language.
pub fn assert_clash(generated: Result<Vec<GeneratedFile>, GenerateError>, name: &str, of: &str) {
    let Err(GenerateError::NameClash { clash, language }) = generated else { panic!("{name} does not clash in {of}") };
    assert_eq!((clash.name.as_str(), language), (name, of));
}

/// A link with a message of these fields.
pub fn message_of(fields: &str) -> Plan {
    plans::plan(&format!(
        "link l {{\n revision 1\n byte_order little\n}}\nchannel c {{\n medium uart 9600 8N1\n frame {{ sync A5\n kind : u8 message\n \
         size : u8 length of body\n body }}\n}}\nmessage M {{\n id 1\n from device\n on c\n {fields}\n}}\n"
    ))
}

/// Writes a module and its test program, compiles them without a warning, and runs them.
pub fn run_rust(folder: &Path, files: &[GeneratedFile]) {
    write(folder, files);
    let arguments =
        ["--edition", "2021", "-D", "warnings", "-C", "debuginfo=0", "-o", "program", "--test", &files[1].name];
    let compiled = Command::new(rustc()).current_dir(folder).args(arguments).output().unwrap();
    let said = String::from_utf8_lossy(&compiled.stderr).into_owned();
    assert!(compiled.status.success(), "{}", said.chars().take(6000).collect::<String>());
    let ran = Command::new(folder.join("program")).current_dir(folder).output().unwrap();
    let said = self::said(&ran);
    assert!(ran.status.success(), "{}", said.chars().take(6000).collect::<String>());
}

/// Writes a module and its test program, and runs that.
pub fn run_node(node: &str, folder: &Path, files: &[GeneratedFile]) {
    write(folder, files);
    let ran = Command::new(node).current_dir(folder).args(["--test", &files[2].name]).output().unwrap();
    let said = said(&ran);
    assert!(ran.status.success() && said.contains("# fail 0"), "{}", said.chars().take(6000).collect::<String>());
}

/// Writes a module and its test program, and runs that.
pub fn run_python(python: &str, folder: &Path, files: &[GeneratedFile]) {
    write(folder, files);
    let ran = Command::new(python).current_dir(folder).args(["-W", "error", &files[1].name]).output().unwrap();
    let said = String::from_utf8_lossy(&ran.stderr).into_owned();
    assert!(ran.status.success() && said.contains("OK"), "{}", said.chars().take(6000).collect::<String>());
}

/// A language that code is generated in.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Language {
    C,
    Rust,
    Python,
    JavaScript,
}

impl Language {
    pub const ALL: [Self; 4] = [Self::C, Self::Rust, Self::Python, Self::JavaScript];
}

/// Whether a long test is to be a small one, as CI runs it.
pub fn is_small() -> bool {
    std::env::var_os("EMBERWORT_SMALL").is_some()
}

/// The seeds of a long test, and of a short one. Several runs next to each other take parts of them: `EMBERWORT_SEEDS=300-400`.
pub fn seeds(all: Range<u64>, few: Range<u64>) -> Range<u64> {
    let part = std::env::var("EMBERWORT_SEEDS").ok();
    let ends = part.as_deref().and_then(|part| part.split_once('-'));
    let ends = ends.map(|(from, to)| from.parse().expect("a seed")..to.parse().expect("a seed"));
    ends.unwrap_or(if is_small() { few } else { all })
}

pub fn write(folder: &Path, files: &[GeneratedFile]) {
    for file in files {
        std::fs::write(folder.join(&file.name), &file.text).unwrap();
    }
}

/// Compiles the sources, runs the program in their folder and returns what it prints; a warning or a non-zero exit fails the
/// test.
pub fn compile_and_run(compiler: &str, folder: &Path, more: &[&str], sources: &[&str]) -> String {
    let compiled = Command::new(compiler)
        .current_dir(folder)
        .args(STRICT)
        .args(more)
        .args(sources)
        .args(["-o", "program"])
        .output()
        .unwrap();
    assert!(compiled.status.success(), "{}", String::from_utf8_lossy(&compiled.stderr));
    let ran = Command::new(folder.join("program")).current_dir(folder).output().unwrap();
    let output = String::from_utf8_lossy(&ran.stdout).into_owned();
    assert!(ran.status.success(), "{output}{}", String::from_utf8_lossy(&ran.stderr));
    output
}
