//! Generated JavaScript: all vectors, both ways, and names of all kinds.

use emberwort_codegen::{javascript as target, vectors};
use emberwort_model::Plan;

use crate::common::plans::{ODD, WHOLE, marlock, plan};
use crate::common::{self, node, run_node};

#[test]
fn all_vectors_agree() {
    let Some(node) = node() else { return };
    for plan in [marlock(), plan(ODD), plan(WHOLE)] {
        let folder = tempfile::tempdir().unwrap();
        run_node(node, folder.path(), &target::generate(&plan, &vectors::vectors(&plan, 42)).unwrap());
    }
}

#[test]
fn a_wrong_vector_is_found() {
    let Some(node) = node() else { return };
    let plan = marlock();
    let mut all = vectors::vectors(&plan, 42);
    all.truncate(3);
    all[1].body[1] ^= 1;
    let folder = tempfile::tempdir().unwrap();
    let files = target::generate(&plan, &all).unwrap();
    let ran = std::panic::catch_unwind(|| run_node(node, folder.path(), &files));
    assert!(ran.is_err());
}

/// Words of JavaScript and of the module, ends of comments and of strings.
const HOSTILE: [&str; 24] = [
    "class",
    "constructor",
    "prototype",
    "__proto__",
    "this",
    "null",
    "undefined",
    "var",
    "let",
    "await",
    "yield",
    "arguments",
    "eval",
    "encode",
    "toString",
    "valueOf",
    "hasOwnProperty",
    "w",
    "m",
    "r",
    "s",
    "b",
    "start",
    "bit",
];

fn hostile() -> Plan {
    let fields: String = HOSTILE.iter().enumerate().map(|(n, word)| format!(" {word} : u{}\n", n + 3)).collect();
    plan(&format!(
        "## Ends */ \u{202e} and ` and ${{x}} and \\ and <script> here.\nlink function {{\n revision 1\n byte_order little\n}}\n\
         enum Array : u3 {{ 0 none 1 true 2 NaN }}\nflags Object : u60 {{ 0 a 7 none 59 top }}\n\
         record Uint8Array {{\n return : u8\n}}\n\
         channel a_channel_with_a_name_of_many_words_one {{\n medium uart 9600 8N1\n frame {{ sync A5\n new : u8 message\n size : u8 length of body\n body\n \
         check : u8 crc-8/bluetooth over body\n check2 : u16 crc-16/arc over new..check }}\n}}\n\
         channel a_channel_with_a_name_of_many_words_two {{\n medium uart 9600 8N1\n frame {{ sync A5\n new : u8 message\n size : u8 length of body\n body\n \
         check : u8 sum8 over body }}\n}}\n\
         ## */ alert(1)\nmessage Error {{\n id 1\n from device\n on a_channel_with_a_name_of_many_words_one, a_channel_with_a_name_of_many_words_two\n{fields} map : Array\n any : Object\n form : Uint8Array\n wide : i61\n big : compact u64\n}}\n"
    ))
}

#[test]
fn hostile_names_and_texts_stay_what_they_are() {
    let Some(node) = node() else { return };
    let plan = hostile();
    let folder = tempfile::tempdir().unwrap();
    let files = target::generate(&plan, &vectors::vectors(&plan, 7)).unwrap();
    assert!(files.iter().all(|file| !file.text.contains('\u{202e}')), "text is not turned around");
    run_node(node, folder.path(), &files);
}

#[test]
fn names_that_become_the_same_are_refused() {
    common::assert_clash(
        target::generate(&common::message_of("oil_hot : u8\n oilHot : u8"), &[]),
        "oilHot",
        "JavaScript",
    );
}

/// The example of docs/generated-javascript.md.
#[test]
fn the_example_of_the_page_runs() {
    let Some(node) = node() else { return };
    let page = include_str!("../../../../docs/generated-javascript.md");
    let example = common::example(page, "javascript");
    let folder = tempfile::tempdir().unwrap();
    let plan = marlock();
    common::write(folder.path(), &target::generate(&plan, &[]).unwrap());
    std::fs::write(folder.path().join("main.js"), example).unwrap();
    let ran = std::process::Command::new(node).current_dir(folder.path()).arg("main.js").output().unwrap();
    let said = common::said(&ran);
    assert_eq!(said, "node 3: 42.5 %\n1 good frame, 5 bytes skipped\n");
}

/// Names that the types declare and the module lacks, or the other way around: exports, and statics and members of messages and records.
const COMPARE_WITH_TYPES: &str = r#"
import { readFileSync } from "node:fs";
const [name] = process.argv.slice(2);
const link = await import(`./${name}.js`);
const types = readFileSync(`${name}.d.ts`, "utf8");
const all = (text, form) => [...text.matchAll(form)].map((found) => found[1]);
const compare = (what, declared, there) => {
  const lacking = there.filter((name) => !declared.includes(name));
  const more = declared.filter((name) => !there.includes(name));
  if (lacking.length + more.length > 0) {
    console.log(`${what}: the types lack [${lacking}] and have [${more}] more`);
  }
};
compare("exports", all(types, /^export (?:const|function|class) (\w+)/gm), Object.keys(link));
let classes = 0;
for (const [, own, body] of types.matchAll(/^export class (\w+) \{\n((?:  .*\n|\n)*)\}/gm)) {
  const made = link[own];
  const statics = Object.getOwnPropertyNames(made).filter((name) => !["length", "name", "prototype"].includes(name));
  if (statics.length > 0 || Object.getPrototypeOf(made) === Function.prototype && !own.startsWith("Link") && own !== "Receiver") {
    compare(`statics of ${own}`, all(body, /^  static (?:readonly )?(\w+)/gm), statics);
    compare(`members of ${own}`, all(body, /^  (?!static )"?([\w$]+)"?: /gm), Object.keys(new made()));
    classes += 1;
  }
}
console.log(`${classes} classes`);
"#;

#[test]
fn the_types_name_all_that_the_module_has() {
    let Some(node) = node() else { return };
    for (plan, classes) in [marlock(), plan(ODD), plan(WHOLE)].map(|plan| {
        let classes = plan.messages.len() + emberwort_codegen::lower::records(&plan).len();
        (plan, classes)
    }) {
        let folder = tempfile::tempdir().unwrap();
        common::write(folder.path(), &target::generate(&plan, &[]).unwrap());
        std::fs::write(folder.path().join("main.mjs"), COMPARE_WITH_TYPES).unwrap();
        let name = &plan.link.name;
        let ran =
            std::process::Command::new(node).current_dir(folder.path()).args(["main.mjs", name]).output().unwrap();
        let said = common::said(&ran);
        assert_eq!(said, format!("{classes} classes\n"), "{name}");
    }
}
