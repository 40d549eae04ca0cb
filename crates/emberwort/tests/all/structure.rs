//! How the code is cut: no circle among the files of a crate, nothing above in what lies below, and a page that names the right files.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};

use regex::Regex;

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

fn rust_files(folder: &Path, found: &mut Vec<PathBuf>) {
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            rust_files(&path, found);
        } else if path.extension().is_some_and(|extension| extension == "rs") {
            found.push(path);
        }
    }
}

/// The code of a file without its comments, texts and tests.
fn code_of(path: &Path) -> String {
    let text = fs::read_to_string(path).unwrap();
    let text = text.split("#[cfg(test)]\nmod ").next().unwrap();
    let skipped = Regex::new(r##"(?s)//[^\n]*|/\*.*?\*/|b?r#*".*?"#*|b?"(?:\\.|[^"\\])*""##).unwrap();
    skipped.replace_all(text, "\"\"").into_owned()
}

/// The files of a crate by the path of their module: `codec::decode`; the top is empty.
fn modules(source: &Path) -> BTreeMap<String, PathBuf> {
    let mut files = Vec::new();
    rust_files(source, &mut files);
    let name = |path: &PathBuf| {
        let path = path.strip_prefix(source).unwrap().with_extension("");
        let mut words: Vec<String> = path.iter().map(|word| word.to_string_lossy().into_owned()).collect();
        if ["mod", "lib", "main"].contains(&words.last().unwrap().as_str()) {
            words.pop();
        }
        words.join("::")
    };
    files.into_iter().map(|path| (name(&path), path)).collect()
}

/// What a group after `::` names: `a::{b, c::{d, e}}` is `a::b`, `a::c::d` and `a::c::e`.
fn spread(path: &str) -> Vec<String> {
    let Some((before, inside)) = path.split_once('{') else { return vec![path.trim().to_owned()] };
    let inside = inside.trim_end().strip_suffix('}').unwrap_or(inside);
    let (mut parts, mut depth, mut start) = (Vec::new(), 0, 0);
    for (at, c) in inside.char_indices() {
        match c {
            '{' => depth += 1,
            '}' => depth -= 1,
            ',' if depth == 0 => {
                parts.push(&inside[start..at]);
                start = at + 1;
            }
            _ => {}
        }
    }
    parts.push(&inside[start..]);
    parts
        .iter()
        .filter(|part| !part.trim().is_empty())
        .flat_map(|part| spread(&format!("{before}{}", part.trim())))
        .collect()
}

/// The modules that a file names: those of `crate::` and `super::` paths, re-exports left out, since they only give a name.
fn named(module: &str, code: &str, all: &BTreeMap<String, PathBuf>) -> BTreeSet<String> {
    let code = Regex::new(r"(?s)pub(?:\([a-z]+\))? use [^;]*;").unwrap().replace_all(code, "").into_owned();
    let mut paths: Vec<String> = Vec::new();
    let uses = Regex::new(r"(?s)\buse ((?:crate|super)::[^;]*);").unwrap();
    paths.extend(uses.captures_iter(&code).flat_map(|found| spread(&found[1])));
    let rest = uses.replace_all(&code, "");
    let inline = Regex::new(r"\b((?:crate|super)(?:::\w+)+)").unwrap();
    paths.extend(inline.captures_iter(&rest).map(|found| found[1].to_owned()));
    // Modules inside of this one are named without anything before.
    let inside = Regex::new(r"(?:^|[^:\w])(\w+(?:::\w+)*)::").unwrap();
    let child = |path: &str| {
        let path = if module.is_empty() { path.to_owned() } else { format!("{module}::{path}") };
        all.contains_key(&path).then_some(format!("crate::{path}"))
    };
    paths.extend(inside.captures_iter(&code).filter_map(|found| child(found[1].split("::").next().unwrap())));
    let is_folder = all[module].file_name().is_some_and(|name| name == "mod.rs") || module.is_empty();
    let mut found = BTreeSet::new();
    for path in paths {
        let mut words: Vec<&str> = path.split("::").map(str::trim).collect();
        let mut at: Vec<&str> = module.split("::").filter(|word| !word.is_empty()).collect();
        let own = at.clone();
        match words.remove(0) {
            "crate" => at.clear(),
            _ => {
                at.pop();
                while words.first() == Some(&"super") {
                    words.remove(0);
                    at.pop();
                }
            }
        }
        at.extend(words);
        // The longest beginning that is a file.
        while !at.is_empty() && !all.contains_key(&at.join("::")) {
            at.pop();
        }
        if at != own && !(at.is_empty() && !is_folder && path.starts_with("super")) {
            found.insert(at.join("::"));
        }
    }
    found
}

/// The modules of the first circle that is found, in its order.
fn circle(arrows: &BTreeMap<String, BTreeSet<String>>) -> Option<Vec<String>> {
    fn walk(
        at: &str,
        arrows: &BTreeMap<String, BTreeSet<String>>,
        way: &mut Vec<String>,
        done: &mut BTreeSet<String>,
    ) -> Option<Vec<String>> {
        if let Some(start) = way.iter().position(|other| other == at) {
            return Some(way[start..].to_vec());
        }
        if !done.insert(at.to_owned()) {
            return None;
        }
        way.push(at.to_owned());
        let found = arrows.get(at).into_iter().flatten().find_map(|to| walk(to, arrows, way, done));
        way.pop();
        found
    }
    let mut done = BTreeSet::new();
    arrows.keys().find_map(|start| walk(start, arrows, &mut Vec::new(), &mut done))
}

fn crates() -> Vec<PathBuf> {
    let mut all: Vec<PathBuf> =
        fs::read_dir(root().join("crates")).unwrap().map(|entry| entry.unwrap().path()).collect();
    all.sort();
    all
}

#[test]
fn no_circle_among_the_files_of_any_crate() {
    let mut arrows_in_all = 0;
    for path in crates() {
        let all = modules(&path.join("src"));
        let arrows: BTreeMap<String, BTreeSet<String>> =
            all.iter().map(|(module, file)| (module.clone(), named(module, &code_of(file), &all))).collect();
        arrows_in_all += arrows.values().map(BTreeSet::len).sum::<usize>();
        assert_eq!(circle(&arrows), None, "files that need each other in {}", path.display());
    }
    assert!(arrows_in_all > 400, "{arrows_in_all}: the imports are not understood any more");
}

#[test]
fn a_circle_would_be_found() {
    let all: BTreeMap<String, PathBuf> =
        ["a", "b", "b::c"].map(|name| (name.to_owned(), PathBuf::from(format!("{name}.rs")))).into();
    let of = |module: &str, code: &str| (module.to_owned(), named(module, code, &all));
    let arrows =
        |c: &str| [of("a", "use crate::b::{self, c::{X, Y}};"), of("b", "fn f() { crate::b::c::g() }"), of("b::c", c)];
    assert_eq!(circle(&arrows("pub use crate::a::X;").into()), None);
    assert_eq!(circle(&arrows("use crate::a::X;").into()), Some(vec!["a".into(), "b".into(), "b::c".into()]));
    assert!(named("b::c", "super::T", &all).contains("b"), "{:?}", named("b::c", "super::T", &all));
}

/// Which crate may need which: bytes lie below values as text, and nothing below the command prints.
#[test]
fn lower_crates_know_nothing_of_upper_ones() {
    let order = [
        "startup",
        "model",
        "wire",
        "text",
        "checksum",
        "evolution",
        "codegen",
        "document",
        "waveform",
        "capture",
        "rows",
        "link",
    ];
    for path in crates() {
        let manifest = fs::read_to_string(path.join("Cargo.toml")).unwrap();
        let needs = manifest.split("[dependencies]").nth(1).unwrap_or_default().split("\n[").next().unwrap();
        let name = path.file_name().unwrap().to_string_lossy().into_owned();
        let Some(own) = order.iter().position(|other| name == format!("emberwort-{other}")) else { continue };
        for line in needs.lines().filter_map(|line| line.strip_prefix("emberwort-")) {
            let other = line.split('.').next().unwrap();
            let at = order.iter().position(|known| *known == other);
            assert!(at.is_some_and(|at| at < own), "{name} needs {other}");
        }
        for above in ["clap", "comfy-table", "miette", "anyhow", "indicatif"] {
            assert!(!needs.contains(&format!("\n{above}.")), "{name} needs {above}");
        }
    }
    // Values as text, dates and random numbers are no part of the wire, nor of what lies below.
    for name in ["emberwort-model", "emberwort-wire"] {
        let manifest = fs::read_to_string(root().join("crates").join(name).join("Cargo.toml")).unwrap();
        let needs = manifest.split("[dependencies]").nth(1).unwrap().split("\n[").next().unwrap().to_owned();
        for above in ["serde_json", "jiff", "rand", "rand_chacha"] {
            assert!(!needs.contains(&format!("\n{above}.")), "{name} needs {above}");
        }
    }
}

#[test]
fn the_page_of_the_architecture_names_what_is_there() {
    let page = fs::read_to_string(root().join("docs/architecture.md")).unwrap();
    let names: Vec<String> = Regex::new(r"`([a-z-]+/[a-z_/]+(?:\.rs|/)?)`")
        .unwrap()
        .captures_iter(&page)
        .map(|found| found[1].to_owned())
        .collect();
    assert!(names.len() > 35, "{names:?}");
    let mut crate_of = String::new();
    for name in names {
        let (first, rest) = name.split_once('/').unwrap();
        // Paths are short: the crate's name without `emberwort-`, and without its `src`; or they go on in the crate named before.
        let crates = root().join("crates");
        let full = if first == "crates" || first == "docs" {
            root().join(&name)
        } else if crates.join(format!("emberwort-{first}")).is_dir() {
            crate_of = format!("emberwort-{first}");
            crates.join(&crate_of).join("src").join(rest)
        } else if crates.join(first).is_dir() {
            crate_of = first.to_owned();
            let inside =
                rest.strip_prefix("src/").or_else(|| rest.strip_prefix("tests/").and(Some(rest))).unwrap_or(rest);
            let folder = if rest.starts_with("tests/") { crates.join(first) } else { crates.join(first).join("src") };
            folder.join(inside)
        } else {
            crates.join(&crate_of).join("src").join(&name)
        };
        assert!(full.exists(), "{name} is not there: {}", full.display());
    }
}

/// A program of tests is linked by itself, and runs by itself: each crate has one. What `main.rs` does not name would be compiled by nobody, and
/// nobody would miss its tests.
#[test]
fn all_tests_of_a_crate_are_one_program() {
    for folder in crates() {
        let tests = folder.join("tests");
        let Ok(entries) = fs::read_dir(&tests) else { continue };
        let names = |entries: fs::ReadDir| -> BTreeSet<String> {
            let paths = entries.map(|entry| entry.unwrap().path());
            let rust = paths.filter(|path| path.extension().is_some_and(|end| end == "rs"));
            rust.map(|path| path.file_stem().unwrap().to_string_lossy().into_owned()).collect()
        };
        let mut programs = names(entries);
        // It measures the memory of its own process.
        programs.remove("long_trials");
        let Ok(inside) = fs::read_dir(tests.join("all")) else {
            assert!(programs.len() < 2, "{} has {programs:?}: put them into tests/all", folder.display());
            continue;
        };
        assert_eq!(programs, BTreeSet::new(), "{}: put them into tests/all", folder.display());
        let main = fs::read_to_string(tests.join("all/main.rs")).unwrap();
        for name in names(inside).into_iter().filter(|name| name != "main") {
            let line = format!("mod {name};");
            assert!(
                main.lines().any(|one| one == line),
                "`{line}` is missing in {}",
                tests.join("all/main.rs").display()
            );
        }
    }
}

/// Generators decide on what they know, not on what they printed: a search in a text of a generator is one of these, each with its reason.
#[test]
fn generators_do_not_read_what_they_printed() {
    let allowed = [
        // Texts of the definition, and names, are escaped for the language.
        ("c/words.rs", 4),
        ("javascript/names.rs", 3),
        ("python/names.rs", 3),
        ("rust/names.rs", 1),
        // Templates with a word to be filled in, or with marks for comments that depend on where they stand.
        ("javascript/group.rs", 1),
        ("javascript/types.rs", 1),
        ("python/group.rs", 1),
        ("rust/mod.rs", 4),
        // Comments and long lines of C are filled to the width of a line.
        ("c/tidy.rs", 12),
        // Names that clash are found in C that was printed with marks: to be found in scopes.
        ("names.rs", 9),
        // A slim module is made of the printed one: to be printed by itself.
        ("python/slim.rs", 23),
        // A payload codec is the printed module in an older JavaScript: to be printed by itself.
        ("javascript/mod.rs", 2),
        // An expression of several words stands in brackets.
        ("javascript/numbers.rs", 2),
        ("javascript/write.rs", 1),
        ("lower/scale.rs", 2),
        ("python/write.rs", 1),
        ("rust/frames.rs", 3),
        ("rust/ordered.rs", 1),
        ("rust/values.rs", 2),
        ("rust/view.rs", 1),
        ("rust/write.rs", 1),
    ];
    let source = root().join("crates/emberwort-codegen/src");
    let search = Regex::new(
        r#"\.(?:contains|replace|find|split|matches|starts_with|ends_with|strip_prefix|strip_suffix|trim_start_matches|trim_end_matches)\(["']"#,
    )
    .unwrap();
    let mut files = Vec::new();
    rust_files(&source, &mut files);
    let mut found = BTreeMap::new();
    for file in files.into_iter().filter(|file| !file.ends_with("tree/tests.rs")) {
        let text = code_of(&file);
        let text = text.split("#[cfg(test)]").next().unwrap_or_default();
        let count = search.find_iter(text).count();
        if count > 0 {
            let name = file.strip_prefix(&source).unwrap().to_string_lossy().replace('\\', "/");
            found.insert(name, count);
        }
    }
    assert_eq!(found, allowed.map(|(name, count)| (name.to_owned(), count)).into(), "found, then allowed");
}

/// The pages for those who add something name files and what to look for in them: both are there, and as many as the page counts.
#[test]
fn the_pages_on_adding_name_what_is_there() {
    let row = Regex::new(r"(?m)^\| `(crates/[^`]+)` \| .* \| `([^`]+)` \|$").unwrap();
    let path = Regex::new(r"`(crates/[^`*]+)`").unwrap();
    for (page, counted) in [("language", 3), ("field-type", 11), ("medium", 7), ("container", 3)] {
        let text = fs::read_to_string(root().join("docs/adding").join(format!("{page}.md"))).unwrap();
        let rows: Vec<_> = row.captures_iter(&text).map(|found| (found[1].to_owned(), found[2].to_owned())).collect();
        assert_eq!(rows.len(), counted, "{page}");
        for (file, name) in rows {
            let code = fs::read_to_string(root().join(&file)).unwrap_or_else(|_| panic!("{page}: {file} is not there"));
            assert!(code.contains(&name), "{page}: {file} has no {name}");
        }
        for file in path.captures_iter(&text) {
            assert!(root().join(&file[1]).exists(), "{page}: {} is not there", &file[1]);
        }
    }
}

/// A type that the glossary names is there, and no word stands in it twice.
#[test]
fn the_glossary_names_what_is_there() {
    let page = fs::read_to_string(root().join("docs/glossary.md")).unwrap();
    let mut files = Vec::new();
    crates().iter().for_each(|path| rust_files(&path.join("src"), &mut files));
    let code: String = files.iter().map(|file| code_of(file)).collect();
    let rows = Regex::new(r"(?m)^\| ([a-z][^|]*) \| [^|]+ \| ([^|]*)\|$").unwrap();
    let type_name = Regex::new(r"`([A-Z]\w+)").unwrap();
    let declared = Regex::new(r#"\b(?:struct|enum|trait|type) (\w+)|index_type!\([\s"]*(\w+)"#).unwrap();
    let types: BTreeSet<&str> = declared
        .captures_iter(&code)
        .filter_map(|found| found.get(1).or(found.get(2)))
        .map(|name| name.as_str())
        .collect();
    let mut words = BTreeSet::new();
    for row in rows.captures_iter(&page) {
        for word in row[1].split(", ") {
            assert!(word == "word" || words.insert(word.to_owned()), "`{word}` stands there twice");
        }
        for name in type_name.captures_iter(&row[2]) {
            assert!(types.contains(&name[1]), "{} is not there", &name[1]);
        }
    }
    assert!(words.len() > 60, "{}", words.len());
}
