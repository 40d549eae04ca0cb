//! Every word that means something in a language, in its headers or in the generated code itself, as the name of every kind of thing:
//! what `clashes` lets pass is generated, compiled in the usual dialects without a warning, and its vectors run.
//!
//! The words are asked of the compilers and interpreters where they know them, and taken from the generated code.

use std::collections::BTreeSet;
use std::path::Path;
use std::process::Command;

use emberwort_codegen::{Clash, GeneratedFile, c, javascript, python as python_target, rust, vectors};
use emberwort_model::{Plan, Source, check};

use crate::common::plans::{ODD, WHOLE, plan};
use crate::common::words::{OTHER_WORDS, TYPES, WORDS};
use crate::common::{compiler, is_small, node, python, run_node, run_python, write};

/// Words of which no program of this machine has a list.
const KEYWORDS: &str = "\
    alignas alignof and_eq asm atomic_cancel auto bitand bitor break case catch char16_t char32_t char8_t co_await co_return co_yield compl \
    concept const_cast consteval constinit continue decltype do double dynamic_cast explicit extern final float for friend goto if long \
    mutable namespace noexcept not_eq or_eq override private protected public reflexpr reinterpret_cast requires return short signed sizeof \
    static static_assert static_cast switch synchronized template thread_local throw try typedef typename typeof typeof_unqual union \
    unsigned using virtual volatile while xor_eq _Alignas _Alignof _Atomic _BitInt _Complex _Generic _Imaginary _Noreturn _Static_assert \
    _Thread_local fortran memmove memcmp strlen strcmp abs labs exit abort malloc free calloc realloc sqrt pow floor round sin log exp y0 y1 \
    j0 j1 jn yn index rindex read write open close send recv time clock signal select remove rename random system getenv div isalpha \
    int8_t int16_t int32_t uint16_t uint32_t uint64_t intptr_t uintptr_t ptrdiff_t intmax_t bool_ \
    abstract become do final gen macro macro_rules priv raw safe try typeof union unsized virtual extern static_ static \
    i8 i16 i32 i64 i128 u16 u32 u64 u128 isize f32 f64 format println print panic unreachable todo write writeln matches debug_assert \
    Result Ok Err None Send Sync Sized Drop Fn FnMut FnOnce From Into Iterator IntoIterator Extend AsRef AsMut ToOwned ToString \
    PartialEq Eq PartialOrd Ord Hash Display Formatter Ordering Range Cell Rc Arc Pin Future Slice Str Char Bool PhantomData Infallible \
    alloc test derive cfg allow deny inline repr doc self_ super_ crate_ \
    finally instanceof implements interface package let enum get set of as from static async target meta globalThis";

/// A kind of thing that has a name.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Role {
    Message,
    Enum,
    Label,
    Record,
    Field,
    Form,
    Channel,
    Part,
    Entry,
    Link,
}

impl Role {
    const ALL: [Role; 10] = [
        Role::Message,
        Role::Enum,
        Role::Label,
        Role::Record,
        Role::Field,
        Role::Form,
        Role::Channel,
        Role::Part,
        Role::Entry,
        Role::Link,
    ];

    /// As many names as one definition has room for.
    fn most(self) -> usize {
        match self {
            Role::Link => 1,
            // Each has a receiver of its own.
            Role::Channel => 20,
            _ => 60,
        }
    }

    /// A link in which things of this kind have these names. Each thing has what generators treat in their own ways: a scale,
    /// a text, a list, what may be absent.
    fn definition(self, names: &[&str]) -> String {
        let each = |text: &dyn Fn(usize, &str) -> String| -> String {
            names.iter().enumerate().map(|(n, name)| text(n, name)).collect()
        };
        let link = if self == Role::Link { names[0] } else { "lq" };
        let parts = if self == Role::Part { each(&|n, name| format!("{name} : u8 = {n}\n")) } else { String::new() };
        let channel = |name: &str, parts: &str| {
            format!(
                "channel {name} {{ medium uart 9600 8N1\n limit 900 bytes\n frame {{ sync C6 39\n {parts} qkind : u8 message\n \
                 qsize : u16 length of body\n body\n qsum : u16 crc-16/arc over qkind..body }} }}\n"
            )
        };
        let message = |name: &str, id: usize, on: &str, fields: &str| {
            format!("message {name} {{ id {id}  from device  on {on}\n {fields} }}\n")
        };
        let some = "qa : u8\n qb : 0 .. 10 m step 0.5 or none\n qc : ascii[..5] optional\n qd : [..3] i16\n";
        let items = match self {
            Role::Message => each(&|n, name| message(name, n, "qc", some)),
            Role::Enum => {
                each(&|n, name| match n % 2 {
                    0 => format!("enum {name} : u8 {{ 0 qx 1 qy }}\n"),
                    _ => format!("flags {name} : u8 {{ 0 qx 1 qy }}\n"),
                }) + &message("Qm", 1, "qc", &each(&|n, name| format!("q{n} : {name}\n")))
            }
            Role::Label => format!(
                "enum Qe : u8 {{ {} }}\nflags Qf : u60 {{ {} }}\n{}",
                each(&|n, name| format!("{n} {name}\n")),
                each(&|n, name| format!("{n} {name}\n")),
                message("Qm", 1, "qc", "qe : Qe\n qf : Qf")
            ),
            Role::Record => {
                each(&|_, name| format!("record {name} {{ {some} }}\n"))
                    + &message("Qm", 1, "qc", &each(&|n, name| format!("q{n} : {name}\n")))
                    + &message("Qn", 2, "qc", &each(&|n, name| format!("q{n} : [..2] {name}\n")))
            }
            Role::Field => {
                format!("record Qr {{ {} }}\n", each(&|_, name| format!("{name} : u8\n")))
                    + &message("Qm", 1, "qc", &(each(&|_, name| format!("{name} : u8\n")) + "qr : Qr"))
                    + &message(
                        "Qn",
                        2,
                        "qc",
                        &each(&|_, name| format!("{name} : 0 .. 10 m step 0.5 or none optional\n")),
                    )
                    + &message("Qo", 3, "qc", &each(&|_, name| format!("{name} : text[..3]\n")))
                    + &message("Qp", 4, "qc", &each(&|_, name| format!("{name} : [..2] u16\n")))
                    + &message("Qq", 5, "qc", &each(&|_, name| format!("{name} : bool\n")))
            }
            Role::Form => message(
                "Qm",
                1,
                "qc",
                &format!(
                    "qk : u8\n qf : by qk {{ {} else qo : bytes[..4] }}",
                    each(&|n, name| format!("{n} {name} : u16\n"))
                ),
            ),
            Role::Channel => each(&|n, name| channel(name, "") + &message(&format!("Qm{n}"), 1, name, some)),
            Role::Entry => {
                format!("table Qt : u16 {{ {} }}\n", each(&|n, name| format!("{n} {name} : u16 read write\n")))
                    + "message Qr { id 1  from host  on qc  answered by Qv within 20 ms\n key : key of Qt }\n"
                    + &message("Qv", 2, "qc", "qv : value of Qt by Qr.key")
            }
            Role::Part | Role::Link => message("Qm", 1, "qc", some),
        };
        let shared = if self == Role::Channel { String::new() } else { channel("qc", &parts) };
        format!("link {link} {{ revision 1  byte_order little }}\n{shared}{items}")
    }

    /// The link, if the language takes these names here.
    fn plan(self, names: &[&str]) -> Option<Plan> {
        check(&Source::new("test.ember", self.definition(names))).plan
    }
}

/// A language, how its names clash, and how its code is proved.
struct Language {
    name: &'static str,
    clashes: fn(&Plan) -> Vec<Clash>,
    generate: fn(&Plan) -> Vec<GeneratedFile>,
    /// Panics if the code does not compile without a warning or its vectors fail. The name of a link stands alone, so that there are as many
    /// links as words: of these, one dialect is enough.
    passes: fn(Role, &Path, &[GeneratedFile]),
}

const LANGUAGES: [Language; 4] = [
    Language {
        name: "C",
        clashes: c::clashes,
        generate: |plan| c::generate(plan, &vectors::vectors(plan, 1), &[]).unwrap(),
        passes: c_passes,
    },
    Language {
        name: "Python",
        clashes: python_target::clashes,
        generate: |plan| python_target::generate(plan, &vectors::vectors(plan, 1)).unwrap(),
        passes: |_, folder, files| python().into_iter().for_each(|python| run_python(python, folder, files)),
    },
    Language {
        name: "JavaScript",
        clashes: javascript::clashes,
        generate: |plan| javascript::generate(plan, &vectors::vectors(plan, 1)).unwrap(),
        passes: |_, folder, files| node().into_iter().for_each(|node| run_node(node, folder, files)),
    },
    Language {
        name: "Rust",
        clashes: rust::clashes,
        // That it compiles is all that names can break.
        generate: |plan| {
            rust::generate(plan, &vectors::vectors(plan, 1).into_iter().step_by(12).collect::<Vec<_>>()).unwrap()
        },
        passes: rust_passes,
    },
];

/// Runs a program that must say nothing.
fn says_nothing(folder: &Path, program: &str, arguments: &[&str]) {
    let ran = Command::new(program).current_dir(folder).args(arguments).output().unwrap();
    let said: String = String::from_utf8_lossy(&ran.stderr).chars().take(3000).collect();
    assert!(ran.status.success(), "{program} {arguments:?}: {said}");
}

/// Behind all headers of the standard, since a program may include them first.
fn c_passes(role: Role, folder: &Path, files: &[GeneratedFile]) {
    let Some(compiler) = compiler() else { return };
    write(folder, files);
    let source = files.iter().find(|file| file.name.ends_with(".c") && !file.name.ends_with("_vectors.c")).unwrap();
    let tests = files.iter().find(|file| file.name.ends_with("_vectors.c")).unwrap();
    let header = source.name.replace(".c", ".h");
    let float = format!("-D{}_WITH_FLOAT", header.trim_end_matches(".h").to_uppercase());
    std::fs::write(folder.join("all.inc"), headers()).unwrap();
    std::fs::write(folder.join("as.cpp"), format!("#include \"{header}\"\n")).unwrap();
    let usual = ["-Wall", "-Wextra", "-Wconversion", "-Wshadow", "-pedantic", "-Werror", "-fsyntax-only"];
    let (dialects, of_headers): (&[&str], &[&str]) = match role {
        Role::Link => (&["-std=gnu17"], &["-std=c++20"]),
        _ => (&["-std=c99", "-std=gnu11", "-std=gnu17"], &["-std=c++17", "-std=c++20"]),
    };
    for dialect in dialects.iter().copied() {
        let sources = ["-Wlogical-op", "-include", "all.inc", &float, &source.name, &tests.name];
        says_nothing(folder, compiler, &[&[dialect], &usual[..], &sources].concat());
    }
    for dialect in of_headers.iter().copied() {
        says_nothing(folder, "c++", &[&[dialect], &usual[..], &[&float, "as.cpp"]].concat());
    }
    if role == Role::Link {
        return;
    }
    says_nothing(folder, compiler, &["-std=gnu11", "-O0", "-o", "program", &source.name, &tests.name]);
    let ran = Command::new(folder.join("program")).current_dir(folder).output().unwrap();
    let said = String::from_utf8_lossy(&ran.stdout).into_owned();
    assert!(ran.status.success() && said.ends_with(" 0 differences\n"), "{said}");
}

fn headers() -> String {
    let names = "assert complex ctype errno fenv float inttypes iso646 limits locale math setjmp signal stdalign stdarg stdatomic stdbool \
                 stddef stdint stdio stdlib stdnoreturn string threads time uchar wchar wctype netdb netinet/in sys/stat sys/types \
                 termios unistd";
    names.split_whitespace().map(|name| format!("#include <{name}.h>\n")).collect()
}

fn rust_passes(role: Role, folder: &Path, files: &[GeneratedFile]) {
    write(folder, files);
    let editions: &[&str] = if role == Role::Link { &["2024"] } else { &["2021", "2024"] };
    for edition in editions {
        let arguments = ["--edition", edition, "-D", "warnings", "--emit", "metadata", "--test", &files[1].name];
        says_nothing(folder, "rustc", &arguments);
    }
}

/// What a program prints, a word each.
fn words_of(program: &str, arguments: &[&str]) -> Vec<String> {
    let Ok(ran) = Command::new(program).args(arguments).output() else { return Vec::new() };
    String::from_utf8_lossy(&ran.stdout).split_whitespace().map(str::to_owned).collect()
}

/// The names that code has whatever the definition is: those that stand in the code of two that have nothing in common. In C they
/// begin with the name of the link.
fn of_the_code(language: &Language) -> BTreeSet<String> {
    let names = |text: &str, link: &str| -> BTreeSet<String> {
        let files = (language.generate)(&plan(text));
        let lines = files.iter().flat_map(|file| file.text.lines());
        // Comments and texts are no names.
        let code = lines.filter(|line| !line.trim_start().starts_with(['*', '/', '#', '"']));
        code.flat_map(|line| line.split("/*").next().unwrap_or_default().split('"').step_by(2))
            .flat_map(|code| code.split(|c: char| !c.is_ascii_alphanumeric() && c != '_'))
            .filter(|name| name.starts_with(|c: char| c.is_ascii_alphabetic() || c == '_'))
            .map(|name| match name.to_ascii_lowercase().starts_with(&format!("{link}_")) {
                true => name[link.len() + 1..].to_owned(),
                false => name.to_owned(),
            })
            .collect()
    };
    let (whole, odd) = (names(WHOLE, "whole"), names(ODD, "odd"));
    whole.intersection(&odd).cloned().collect()
}

/// All words of the matrix, each once.
fn words() -> Vec<String> {
    let mut all: BTreeSet<String> =
        WORDS.iter().chain(OTHER_WORDS).chain(TYPES).map(|word| (*word).to_owned()).collect();
    all.extend(KEYWORDS.split_whitespace().map(str::to_owned));
    for language in &LANGUAGES {
        all.extend(of_the_code(language));
    }
    let code =
        "import keyword, builtins; print(*keyword.kwlist, *keyword.softkwlist, *dir(builtins), *dir(int), *dir(dict))";
    all.extend(words_of("python3", &["-c", code]));
    let code = "console.log(...Object.getOwnPropertyNames(globalThis), ...Object.getOwnPropertyNames(Object.prototype), \
                ...Object.getOwnPropertyNames(Function.prototype))";
    all.extend(words_of("node", &["-e", code]));
    // Names in lower case that macros have: others stand behind the name of the link.
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("all.c");
    std::fs::write(&file, headers()).unwrap();
    let macros = words_of("cc", &["-std=gnu17", "-dM", "-E", file.to_str().unwrap()]);
    let names = macros.windows(2).filter(|pair| pair[0] == "#define").map(|pair| pair[1].split('(').next().unwrap());
    all.extend(names.filter(|name| name.starts_with(|c: char| c.is_ascii_lowercase())).map(str::to_owned));
    all.retain(|word| word.len() < 40 && word.is_ascii());
    all.into_iter().collect()
}

/// What differs from another name in nothing but case and underscores may become the same.
fn bare(word: &str) -> String {
    word.to_ascii_lowercase().replace('_', "")
}

/// The words in groups of which each stands in one definition.
fn groups<'a>(role: Role, words: &[&'a str]) -> Vec<Vec<&'a str>> {
    let mut groups: Vec<(BTreeSet<String>, Vec<&str>)> = Vec::new();
    for word in words {
        let fits =
            |group: &(BTreeSet<String>, Vec<&str>)| group.1.len() < role.most() && !group.0.contains(&bare(word));
        match groups.iter_mut().find(|group| fits(group)) {
            Some(group) => {
                group.0.insert(bare(word));
                group.1.push(word);
            }
            None => groups.push((BTreeSet::from([bare(word)]), vec![word])),
        }
    }
    groups.into_iter().map(|(_, names)| names).collect()
}

/// Tries all words in a role in a language. Each can be a name there; returns the pairs that become the same.
fn tried(role: Role, language: &Language, words: &[&str]) -> BTreeSet<String> {
    // What the language of definitions does not take, nobody generates.
    let mut free: Vec<&str> = words.iter().copied().filter(|word| role.plan(&[word]).is_some()).collect();
    assert!(free.len() * 10 >= words.len() * 9, "{role:?}: {} of {} words", free.len(), words.len());
    if (role, language.name) == (Role::Link, "C") {
        // Links that are called as a header, and those whose W_OK or AF_LOCAL the system has, are refused.
        free.retain(|word| role.plan(&[word]).is_some_and(|plan| (language.clashes)(&plan).is_empty()));
        assert!(words.len() - free.len() < 80, "{} of {} words", free.len(), words.len());
    }
    let mut waiting = groups(role, &free);
    let mut together = BTreeSet::new();
    while let Some(names) = waiting.pop() {
        // What the language does not take together, or becomes the same, is tried apart.
        let plan = role.plan(&names);
        if let Some(plan) = &plan {
            for clash in (language.clashes)(plan) {
                together.insert(clash.sentence(language.name));
            }
        }
        let Some(plan) = plan.filter(|plan| (language.clashes)(plan).is_empty()) else {
            assert!(names.len() > 1, "{} with {role:?} {names:?}: {together:?}", language.name);
            let (front, back) = names.split_at(names.len() / 2);
            waiting.extend([front.to_vec(), back.to_vec()]);
            continue;
        };
        let folder = tempfile::tempdir().unwrap();
        let files = (language.generate)(&plan);
        let passed = std::panic::catch_unwind(|| (language.passes)(role, folder.path(), &files));
        if let Err(error) = passed {
            let said = error.downcast_ref::<String>().cloned().unwrap_or_default();
            panic!("{} with each {role:?} of {names:?}: {said}", language.name);
        }
    }
    together
}

fn matrix(language: &Language) {
    let all = words();
    assert!(all.len() > 1000, "{}", all.len());
    let step = if is_small() { 60 } else { 1 };
    // Some of the roles, if they are named.
    let asked = std::env::var("EMBERWORT_ROLES").ok();
    let is_asked =
        |role: Role| asked.as_ref().is_none_or(|asked| asked.split(',').any(|name| name == format!("{role:?}")));
    for (number, role) in Role::ALL.into_iter().enumerate().filter(|(_, role)| is_asked(*role)) {
        // Other words for each role, so that a small run comes by all of it.
        let words: Vec<&str> = all.iter().skip(number % step).step_by(step).map(String::as_str).collect();
        let together = tried(role, language, &words);
        eprintln!("{}, {role:?}: {} words; {together:?}", language.name, words.len());
    }
}

#[test]
#[ignore = "minutes long; see CONTRIBUTING.md"]
fn every_word_in_every_place_in_c() {
    matrix(&LANGUAGES[0]);
}

#[test]
#[ignore = "minutes long; see CONTRIBUTING.md"]
fn every_word_in_every_place_in_python() {
    matrix(&LANGUAGES[1]);
}

#[test]
#[ignore = "minutes long; see CONTRIBUTING.md"]
fn every_word_in_every_place_in_javascript() {
    matrix(&LANGUAGES[2]);
}

#[test]
#[ignore = "minutes long; see CONTRIBUTING.md"]
fn every_word_in_every_place_in_rust() {
    matrix(&LANGUAGES[3]);
}
