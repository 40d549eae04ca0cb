//! Generated Python: all vectors, both ways, and names of all kinds.

use emberwort_codegen::{python as target, streams, vectors};

use crate::common::plans::{ODD, WHOLE, marlock, plan};
use crate::common::{self, python, run_python};

#[test]
fn all_vectors_agree() {
    let Some(python) = python() else { return };
    for plan in [marlock(), plan(ODD), plan(WHOLE)] {
        let folder = tempfile::tempdir().unwrap();
        run_python(python, folder.path(), &target::generate(&plan, &vectors::vectors(&plan, 42)).unwrap());
    }
}

/// By the oldest and the newest Python that is here.
#[test]
fn versions_agree() {
    let plan = marlock();
    let files = target::generate(&plan, &vectors::vectors(&plan, 42)).unwrap();
    for python in common::other_pythons() {
        let folder = tempfile::tempdir().unwrap();
        run_python(&python, folder.path(), &files);
    }
}

/// Without types, data classes and enum types: the same tests pass, and nothing is imported that small interpreters have not.
#[test]
fn a_slim_module_does_the_same() {
    let Some(python) = python() else { return };
    for plan in [marlock(), plan(ODD), plan(WHOLE)] {
        let folder = tempfile::tempdir().unwrap();
        let files = target::generate_for(&plan, &vectors::vectors(&plan, 42), true).unwrap();
        let imports: Vec<&str> = files[0].text.lines().filter(|line| line.contains("import ")).collect();
        assert_eq!(imports, ["import math", "import struct", "from collections import namedtuple"]);
        for word in ["->", "Optional", "ClassVar", "@dataclass", "enum.", "field("] {
            assert!(!files[0].text.contains(word), "{word}");
        }
        run_python(python, folder.path(), &files);
    }
}

/// An entry by its name: what may be done with it, and a message that sets it, whose bytes were worked out by hand.
#[test]
fn tables_are_there_by_name() {
    let Some(python) = python() else { return };
    for slim in [false, true] {
        let folder = tempfile::tempdir().unwrap();
        common::write(folder.path(), &target::generate_for(&marlock(), &[], slim).unwrap());
        let program = r#"
import marlock as m
entry = m.TABLES["Settings"]["ramp_time"]
assert entry[:5] == (0x102, True, True, True, "s") and entry.key == 0x102 and entry.is_kept, entry
assert entry[5:] == (2, 0.0, 45.0, 0.25) and entry.greatest == 45.0, entry
assert m.TABLES["Settings"]["serial_number"][5:] == (0, None, None, None)
assert not m.TABLES["Settings"]["serial_number"].may_write
assert (m.GateState.CLOSED, m.GateState.HELD, m.Faults.OIL_HOT | m.Faults.SERVICE_DUE) == (0, 4, 0x82)
assert list(m.TABLES["Settings"]) == ["ramp_time", "hold_pressure", "motor_current", "serial_number"]
order = m.WriteSetting(setting=entry.key, value=m.Form("ramp_time", 100))
assert m.build_house(m.HouseFrame(kind=0x20))[2] == m.REVISION == 4
assert order.encode() == b"\x02\x01\x64" and m.WriteSetting.decode(b"\x02\x01\x64") == order
print("ok")
"#;
        std::fs::write(folder.path().join("by_name.py"), program).unwrap();
        let ran = std::process::Command::new(python).current_dir(folder.path()).arg("by_name.py").output().unwrap();
        assert_eq!(String::from_utf8_lossy(&ran.stdout), "ok\n", "{}", String::from_utf8_lossy(&ran.stderr));
    }
}

/// All numbers of 16 bits, both ways, and what lies between them, beside the standard library's.
#[test]
fn halves_are_those_of_the_standard_library() {
    let Some(python) = python() else { return };
    let folder = tempfile::tempdir().unwrap();
    common::write(folder.path(), &target::generate(&marlock(), &[]).unwrap());
    let program = r#"
import math, struct
from marlock import _half, _half_raw

def packed(value):
    try:
        return int.from_bytes(struct.pack("<e", value), "little")
    except OverflowError:
        return None

def ours(value):
    try:
        return _half_raw(value)
    except OverflowError:
        return None

for raw in range(65536):
    value = struct.unpack("<e", raw.to_bytes(2, "little"))[0]
    assert repr(_half(raw)) == repr(value), raw
    if math.isfinite(value):
        above = struct.unpack("<e", (raw + 1).to_bytes(2, "little"))[0] if raw & 0x7FFF < 0x7BFF else 65536.0
        for part in (0.0, 0.25, 0.4999, 0.5, 0.5001, 0.75):
            between = value + (above - value) * part
            assert ours(between) == packed(between), (raw, part)
print("ok")
"#;
    std::fs::write(folder.path().join("halves.py"), program).unwrap();
    let ran = std::process::Command::new(python).current_dir(folder.path()).arg("halves.py").output().unwrap();
    assert_eq!(String::from_utf8_lossy(&ran.stdout), "ok\n", "{}", String::from_utf8_lossy(&ran.stderr));
}

/// All bodies and streams, by an interpreter of the kind that runs on microcontrollers.
#[test]
fn a_small_interpreter_runs_a_slim_module() {
    let (Some(node), Some(interpreter)) = (common::node(), common::small_python()) else { return };
    for (name, plan) in [("marlock", marlock()), ("odd", plan(ODD)), ("whole", plan(WHOLE))] {
        let bytes = |some: &[u8]| {
            let all: String = some.iter().map(|byte| format!("\\x{byte:02x}")).collect();
            format!("b\"{all}\"")
        };
        let all = vectors::vectors(&plan, 42);
        let module = target::generate_for(&plan, &all, true).unwrap().swap_remove(0);
        let mut program = format!("import sys\nsys.path.append(\"/\")\nimport {name} as m\n");
        for vector in &all {
            let class = target::class_of(&plan.messages[vector.message].message.name);
            let body = bytes(&vector.body);
            let key = vector.key.map_or("None".to_owned(), |key| key.to_string());
            program += &format!(
                "x = m.{class}.decode({body}, {key})\ny = x.encode()\nassert y == {body}, ({:?}, x, [n for n in range(len(y)) if y[n] != {body}[n]])\n",
                vector.case
            );
        }
        let mut streams_run = 0;
        for stream in streams::streams(&plan) {
            let of = stream.name(&plan);
            program += &format!("receiver = m.RECEIVERS.get({of:?})\n");
            program += "if receiver:\n    r = receiver()\n";
            for chunk in &stream.chunks {
                let given = if chunk.bytes.is_empty() {
                    "r.gap()".to_owned()
                } else {
                    format!("r.feed({})", bytes(&chunk.bytes))
                };
                let good: Vec<String> = chunk
                    .events
                    .iter()
                    .filter(|event| matches!(event.judged, streams::Judged::Good))
                    .map(|event| bytes(&event.body))
                    .collect();
                program += &format!(
                    "    found = [bytes(one.frame.body) for one in {given} if one.error is None]\n    assert found == [{}], found\n",
                    good.join(", ")
                );
            }
            program += &format!(
                "    assert r.good_bytes == {} and r.good_bytes + r.unread_bytes + r.skipped_bytes == {}, {of:?}\n",
                stream.good_bytes, stream.bytes
            );
            streams_run += 1;
        }
        assert!(streams_run > 0);
        program += "print(\"all agree\")\n";
        let folder = tempfile::tempdir().unwrap();
        common::write(folder.path(), &[module]);
        std::fs::write(folder.path().join("all.py"), program).unwrap();
        let run = format!(
            "import {{ loadMicroPython }} from \"{interpreter}\";\nimport {{ readFileSync }} from \"node:fs\";\n\
             const python = await loadMicroPython({{ stdout: (line) => console.log(line), linebuffer: true, heapsize: 64 << 20 }});\n\
             python.FS.writeFile(\"/{name}.py\", readFileSync(\"{name}.py\", \"utf8\"));\n\
             try {{ python.runPython(readFileSync(\"all.py\", \"utf8\")); }} catch (error) {{ console.log(String(error)); }}\n"
        );
        std::fs::write(folder.path().join("run.mjs"), run).unwrap();
        let ran = std::process::Command::new(node).current_dir(folder.path()).arg("run.mjs").output().unwrap();
        let said = common::said(&ran);
        let end: String = said.chars().skip(said.chars().count().saturating_sub(2000)).collect();
        assert!(said.ends_with("all agree\n"), "{name}: {end}");
    }
}

#[test]
fn a_wrong_vector_is_found() {
    let Some(python) = python() else { return };
    let plan = marlock();
    let mut all = vectors::vectors(&plan, 42);
    all.truncate(3);
    all[1].body[1] ^= 1;
    let folder = tempfile::tempdir().unwrap();
    let files = target::generate(&plan, &all).unwrap();
    let ran = std::panic::catch_unwind(|| run_python(python, folder.path(), &files));
    assert!(ran.is_err());
}

/// Words of Python and of the module, quotes and ends of strings.
#[test]
fn hostile_names_and_texts_stay_what_they_are() {
    let Some(python) = python() else { return };
    let words = ["class", "None", "self", "cls", "bytes", "field", "encode", "decode", "list", "import", "int", "v_x"];
    let fields: String = words.iter().enumerate().map(|(n, word)| format!(" {word} : u{}\n", n + 3)).collect();
    let text = format!(
        "## Ends \"\"\" \u{202e} and \\ and {{}} here.\nlink struct {{\n revision 1\n byte_order little\n}}\n\
         enum Union : u3 {{ 0 none 1 true 2 mro }}\nflags Any : u8 {{ 0 a 7 none }}\n\
         record Form {{\n return : u8\n}}\n\
         channel c {{\n medium uart 9600 8N1\n frame {{ sync A5\n kind : u8 message\n size : u8 length of body\n body }}\n}}\n\
         ## \"\"\"\nmessage Type {{\n id 1\n from device\n on c\n{fields} union : Union\n any : Any\n form : Form\n}}\n"
    );
    let plan = plan(&text);
    let folder = tempfile::tempdir().unwrap();
    let files = target::generate(&plan, &vectors::vectors(&plan, 7)).unwrap();
    assert!(files.iter().all(|file| !file.text.contains('\u{202e}')), "text is not turned around");
    run_python(python, folder.path(), &files);
    let folder = tempfile::tempdir().unwrap();
    run_python(python, folder.path(), &target::generate_for(&plan, &vectors::vectors(&plan, 7), true).unwrap());
}

#[test]
fn names_that_become_the_same_are_refused() {
    common::assert_clash(target::generate(&common::message_of("class : u8\n class_ : u8"), &[]), "class_", "Python");
}

/// The example of docs/generated-python.md.
#[test]
fn the_example_of_the_page_runs() {
    let Some(python) = python() else { return };
    let page = include_str!("../../../../docs/generated-python.md");
    let example = common::example(page, "python");
    let folder = tempfile::tempdir().unwrap();
    let plan = marlock();
    common::write(folder.path(), &target::generate(&plan, &[]).unwrap());
    std::fs::write(folder.path().join("main.py"), example).unwrap();
    let ran = std::process::Command::new(python).current_dir(folder.path()).arg("main.py").output().unwrap();
    let said = common::said(&ran);
    assert_eq!(said, "node 3: 42.5 %\n1 good frame, 5 bytes skipped\n");
}
