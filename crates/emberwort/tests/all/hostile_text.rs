//! Text from definitions, captures, trials and file names: whatever it holds, nothing that comes out can change how a terminal
//! shows what stands around it, or hide in it.
#![cfg(unix)]

use std::fs;
use std::path::Path;

use crate::common::{Ran, emberwort, run, run_with_input};

/// Each does something to a terminal or a reader, or is not seen.
const HOSTILE: [&str; 26] = [
    "\u{1b}[2J",
    "\u{1b}]0;title\u{7}",
    "\u{1b}[31m",
    "\u{9b}2J",
    "\u{9d}0;title\u{9c}",
    "\u{85}next",
    "\u{7f}",
    "\u{8}\u{8}\u{8}",
    "\u{7}",
    "\u{0}",
    "\u{c}",
    "\u{202e}gnp.exe",
    "\u{2066}inner\u{2069}",
    "\u{200f}rtl",
    "\u{61c}alm",
    "\u{200b}zero",
    "\u{200d}join",
    "\u{2060}word",
    "\u{feff}mark",
    "\u{2028}line",
    "\u{2029}paragraph",
    "\u{ad}soft",
    "\u{e0041}tag",
    "\u{fff9}note\u{fffb}",
    "\u{fe0f}variant",
    "\u{180e}vowel",
];

/// Characters that never stand in output. Its own line ends and tabs do; colours only where they were asked for.
fn is_harmful(c: char) -> bool {
    (c.is_control() && c != '\n' && c != '\t')
        || matches!(c as u32, 0xAD | 0x61C | 0x180E | 0x200B..=0x200F | 0x2028..=0x202E | 0x2060..=0x206F | 0xFE00..=0xFE0F
            | 0xFEFF | 0xFFF9..=0xFFFB | 0xE0000..=0xE0FFF)
}

fn is_harmless(ran: &Ran, what: &str) {
    for (stream, text) in [("standard output", &ran.out), ("standard error", &ran.err)] {
        if let Some(found) = text.chars().find(|c| is_harmful(*c)) {
            panic!("{what}: {found:?} on {stream}: {text:?}");
        }
    }
    assert!((0..=2).contains(&ran.code), "{what}: {}", ran.code);
}

fn definition(text: &str) -> String {
    format!(
        "## {text}\nlink l {{\n    revision    1\n    byte_order  little\n}}\n## {text}\nchannel c {{\n    medium  uart 9600 8N1\n    limit   80 bytes\n    \
         frame {{\n        sync   C6 39\n        node   : u8  address\n        kind   : u8  message\n        size   : u8  length of body\n        body\n        \
         check  : u8  xor8 over kind..body\n    }}\n}}\n## {text}\nenum E : u8 {{\n    0 none  \"{text}\"\n    1 some\n}}\n## {text}\nmessage M {{\n    \
         id    1\n    from  device every 1 s\n    on    c\n    ## {text}\n    a  : 0 .. 10 \"{text}\" step 1\n    e  : E\n    t  : text[..20] = \"{text}\"\n}}\n"
    )
}

/// Runs everything that shows text of a project in this folder.
fn show_all(folder: &Path, what: &str) {
    let mut all: Vec<Vec<&str>> = [
        "check",
        "check --frames",
        "check --as ndjson",
        "tidy --check",
        "layout",
        "layout --as ndjson",
        "layout --as picture",
        "budget",
        "budget --as ndjson",
        "encode M a=1 e=none",
        "encode M a=1 e=none --on c",
        "encode M a=100 e=wrong",
        "decode night.hex --on c",
        "decode night.hex --on c --as tree",
        "decode night.hex --on c --as ndjson",
        "decode night.hex --on c --as csv",
        "decode night.hex --on c --as ndjson --raw",
        "stats night.hex --on c",
        "trial t.toml",
        "trial t.toml --as ndjson",
        "generate",
        "compare --what-if M.a",
        "seal --list",
        "seal --list --as ndjson",
        "compare",
        "compare --as ndjson",
        "compare --as markdown",
    ]
    .iter()
    .map(|words| words.split(' ').collect())
    .collect();
    let note = format!("of {}", what.replace('\0', "0"));
    all.insert(0, vec!["seal", "--date", "2031-01-01", "--note", &note]);
    for words in all {
        is_harmless(&run(folder, &words), &format!("{what:?} in {}", words.join(" ")));
    }
}

#[test]
fn nothing_harmful_gets_out_of_any_command() {
    for hostile in HOSTILE {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        // As it is, and written with escapes where the language has them.
        fs::write(at("l.ember"), definition(hostile)).unwrap();
        let body = [&[3, 0, hostile.len() as u8][..], hostile.as_bytes()].concat();
        let frame = [&[0xC6u8, 0x39, 7, 1, body.len() as u8][..], &body].concat();
        let check = frame[3..].iter().fold(0, |sum, byte| sum ^ byte);
        let hex: String = frame.iter().chain([&check]).map(|byte| format!("{byte:02X} ")).collect();
        fs::write(at("night.hex"), format!("{hex}\n")).unwrap();
        let escaped: String = hostile
            .chars()
            .flat_map(|c| format!("\\u{:04X}", (c as u32).min(0xFFFF)).chars().collect::<Vec<_>>())
            .collect();
        let trial = format!(
            "about = \"{escaped}\"\nchannel = \"c\"\nspan = \"2 s\"\nmust = [\"{escaped}\"]\n[[device]]\nnode = 1\n"
        );
        fs::write(at("t.toml"), trial).unwrap();
        show_all(folder.path(), hostile);
        fs::write(at("l.ember"), definition(&hostile.replace(|c: char| c.is_control(), "x"))).unwrap();
        show_all(folder.path(), hostile);
    }
}

#[test]
fn names_of_files_and_arguments_are_shown_harmlessly() {
    for hostile in HOSTILE.into_iter().filter(|text| !text.contains('\0')) {
        let folder = tempfile::tempdir().unwrap();
        let name = format!("a{hostile}.ember");
        fs::write(folder.path().join(&name), "link l {revision 1 byte_order little}\nmessage {").unwrap();
        let toml = format!("a{hostile}.toml");
        fs::write(folder.path().join(&toml), "nonsense").unwrap();
        fs::write(
            folder.path().join("b.ember"),
            format!("import \"{name}\"\nlink b {{\n    revision    1\n    byte_order  little\n}}\n"),
        )
        .unwrap();
        for words in [
            vec!["check", &name],
            vec!["check", "--as", "ndjson", &name],
            vec!["check", "b.ember"],
            vec!["tidy", &name],
            vec!["layout", "--link", &name],
            vec!["trial", &toml, "--link", "b.ember"],
            vec!["decode", &name, "--link", "b.ember"],
            vec!["stats", hostile, "--link", "b.ember"],
            vec!["layout", hostile, "--link", "b.ember"],
            vec!["value", hostile],
            vec!["checksum", hostile, "--hex", "00"],
            vec!["compare", hostile, "--link", "b.ember"],
            vec!["encode", hostile, "x=1", "--link", "b.ember"],
            vec!["new", hostile],
            vec![hostile],
        ] {
            let ran: Ran = emberwort(folder.path(), &words).output().unwrap().into();
            // What the argument parser repeats of its arguments is its own affair, but for colours.
            if words.len() > 1 {
                is_harmless(&ran, &format!("{words:?}"));
            }
        }
        is_harmless(&run_with_input(folder.path(), &["check", "-"], hostile.as_bytes()), "standard input");
    }
}
