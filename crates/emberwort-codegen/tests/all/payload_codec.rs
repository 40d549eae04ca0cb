//! The payload codec for LoRaWAN network servers: in an engine of its own, against the library's rows.

use std::process::Command;

use emberwort_codegen::javascript::codec::generate;
use emberwort_codegen::{GenerateError, Parts, vectors};
use emberwort_model::Plan;
use emberwort_model::model::End;
use emberwort_model::plan::KeySource;
use emberwort_text::json::{Writing, write_fields};
use emberwort_wire::{Values, codec::decode};

use crate::common::plans::{marlock, plan};
use crate::common::{self, node};

/// Values of all kinds over the radio, in both directions.
const KINDS: &str = "link kinds { revision 3  byte_order big }
enum Mode : u3 { 0 off  5 on }
flags Bits : u7 { 0 wet  6 hot }
record Place { x : i12  y : -90 .. 90 deg step 0.5 or none  inner : Inner }
record Inner { z : u8 }
channel air { medium lora sf7 125 kHz 4/5
    packet
    select by port }
message Up {
    from device
    on air port 1
    a : 0 .. 20 m step 0.001 or none
    b : i33
    c : u64
    d : Mode or none
    e : Bits
    f : bool
    g : f32
    h : time s
    i : time ms
    j : text[..9]
    k : bytes[3]
    l : [..4] u5
    m : Place
    kind : u2
    n : by kind {
        0 cold : i6
        1 warm : u9 * 0.1
        else other : u4
    }
    o : u7 optional
    p : ascii[5]
    q : compact u64
    r : f16
    s : f64
    added in 2 { t : u8 }
    added in 3 { u : i8 * 0.5 }
}
message Down {
    from host
    on air port 7
    a : 0 .. 20 m step 0.001 or none
    c : i64
    d : Mode or none
    e : Bits
    f : bool
    g : f32
    h : time s
    i : time ms
    j : text[..9]
    k : bytes[..3]
    l : [..4] u5
    m : Place
    kind : u2
    n : by kind {
        0 cold : i6
        1 warm : u9 * 0.1
        else other : u4
    }
    o : u7 optional
}
";

/// Runs a program behind a script, in a context that has nothing but the language.
fn run(plan: &Plan, program: &str) -> String {
    let files = generate(plan, &Parts::default()).unwrap();
    let folder = tempfile::tempdir().unwrap();
    common::write(folder.path(), &files);
    let around = "const vm = require(\"node:vm\");\nconst read = (name) => require(\"node:fs\").readFileSync(name, \"utf8\");\n\
                  const codec = vm.createContext({});\nvm.runInContext(read(process.argv[2]), codec);\n";
    std::fs::write(folder.path().join("main.js"), format!("{around}{program}")).unwrap();
    let ran = Command::new("node").current_dir(folder.path()).args(["main.js", &files[0].name]).output().unwrap();
    common::said(&ran)
}

/// The vectors of messages on the channel as arrays of port, bytes, whether a device sent it, the library's fields, and its revision.
fn recorded(plan: &Plan) -> String {
    let mut all = Vec::new();
    for vector in vectors::vectors(plan, 5) {
        let message = &plan.messages[vector.message];
        for frame in &vector.frames {
            let direction = plan.channels[frame.channel].direction(message.message.from);
            if direction.selected_by != KeySource::Port {
                continue;
            }
            let Some(port) = direction.key_of(vector.message) else { continue };
            let mut values = Values::default();
            decode(message, &vector.body, &mut values).unwrap();
            let mut fields = String::new();
            // Only fields that the sender has.
            write_fields(message, &values, Writing::default(), &mut fields).unwrap();
            let lacking = message.sections[vector.sections..].iter().flat_map(|section| &section.steps);
            let names: Vec<String> =
                lacking.map(|step| format!("\"{}\"", message.message.fields[step.slot].name)).collect();
            let is_up = message.message.from == End::Device;
            all.push(format!("[{port}, {:?}, {is_up}, {:?}, [{}]]", frame.bytes, fields, names.join(", ")));
        }
    }
    assert!(all.len() > 20, "{}", all.len());
    format!("const RECORDED = [{}];\n", all.join(",\n"))
}

/// Numbers of more than 53 bits, of these fields, are text in the data.
const COMPARE: &str = r#"
const assert = require("node:assert/strict");
const parse = (text) => JSON.parse(text.replace(/"(c|q)":(-?\d+)/g, '"$1":"$2"'));
const plain = (data) => JSON.parse(JSON.stringify(data));
let both = 0;
for (const [port, bytes, isUp, fields, lacking] of RECORDED) {
  const decode = isUp ? codec.decodeUplink : codec.decodeDownlink;
  const { data, errors, warnings } = decode({ bytes, fPort: port });
  assert.equal(errors.length, 0, errors.join());
  const wanted = parse(fields);
  lacking.forEach((name) => delete wanted[name]);
  // Two texts of four digits can be as near to a number of 16 bits.
  if (typeof wanted.r === "number") {
    assert(Math.abs(data.fields.r - wanted.r) <= Math.abs(wanted.r) / 2048);
    wanted.r = data.fields.r;
  }
  assert.deepEqual(plain(data.fields), wanted);
  assert.deepEqual(Object.keys(plain(data.fields)), Object.keys(wanted));
  assert.equal(warnings.length > 0, lacking.length > 0 || fields.includes('"raw"'), warnings.join());
  if (!isUp) {
    const again = codec.encodeDownlink({ data });
    assert.deepEqual([...again.bytes], bytes, again.errors.join());
    assert.equal(again.fPort, port);
    both += 1;
  }
}
console.log(`${RECORDED.length > 0 && both > 0 ? "all" : "not all"} agree`);
"#;

#[test]
fn recorded_payloads_are_the_rows_of_the_library() {
    if node().is_none() {
        return;
    }
    for plan in [marlock(), plan(KINDS)] {
        assert_eq!(run(&plan, &(recorded(&plan) + COMPARE)), "all agree\n");
    }
}

#[test]
fn what_cannot_be_read_or_sent_is_said() {
    if node().is_none() {
        return;
    }
    let plan = marlock();
    let program = r#"
const down = (fields, message = "GaugeSettings") => codec.encodeDownlink({ data: { message, fields } });
for (const said of [
  codec.decodeUplink({ bytes: [1], fPort: 2 }),
  codec.decodeUplink({ bytes: [1, 2, 3, 256], fPort: 2 }),
  codec.decodeUplink({ bytes: [1], fPort: 9 }),
  codec.decodeUplink({ bytes: [255, 255, 255, 255, 9], fPort: 2 }),
  down({ period: 100, alarm: 2 }),
  down({ period: "10", alarm: 2 }),
  down({ period: 10 }),
  down({ period: 10, alarm: 2, depth: 1 }),
  down({ period: 10, alarm: 2.47 }),
  down({}, "Level"),
  codec.encodeDownlink({}),
]) {
  console.log(JSON.stringify(said));
}
"#;
    insta::assert_snapshot!(run(&plan, program));
}

/// What stands around a body: numbers of the sender, its node and revision, and a checksum. The bytes were worked out by hand.
#[test]
fn parts_of_a_frame_are_in_the_data() {
    if node().is_none() {
        return;
    }
    let text = "link framed { revision 3  byte_order big }
channel air { medium lora sf7 125 kHz 4/5
    packet
    select by port
    frame { node : u16 address
        rev : u8 revision
        n : u8 sequence
        body
        check : u8 sum8 over node..body } }
message Up {
    from device
    on air port 1
    a : u8 * 0.5
    added in 3 { b : u8 }
}
message Down {
    from host
    on air port 7
    a : u16
}
";
    let program = r#"
const say = (said) => console.log(JSON.stringify(said));
say(codec.decodeUplink({ bytes: [1, 2, 3, 9, 200, 7, (1 + 2 + 3 + 9 + 200 + 7) & 255], fPort: 1 }));
say(codec.decodeUplink({ bytes: [1, 2, 1, 9, 200, (1 + 2 + 1 + 9 + 200) & 255], fPort: 1 }));
say(codec.decodeUplink({ bytes: [1, 2, 3, 9, 200, 7, 0], fPort: 1 }));
say(codec.decodeUplink({ bytes: [1, 2, 3], fPort: 1 }));
say(codec.encodeDownlink({ data: { message: "Down", node: 258, sequence: 9, fields: { a: 4660 } } }));
say(codec.encodeDownlink({ data: { message: "Down", fields: { a: 1 } } }));
say(codec.decodeDownlink({ bytes: codec.encodeDownlink({ data: { message: "Down", node: 5, sequence: 1, fields: { a: 1 } } }).bytes, fPort: 7 }));
say(codec.encodeDownlink({ data: { message: "Down", node: 65536, fields: { a: 1 } } }));
"#;
    let said = run(&plan(text), program);
    let said: Vec<&str> = said.lines().collect();
    let wanted = [
        r#"{"data":{"message":"Up","node":258,"sender_revision":3,"sequence":9,"fields":{"a":100,"b":7}},"warnings":[],"errors":[]}"#,
        r#"{"data":{"message":"Up","node":258,"sender_revision":1,"sequence":9,"fields":{"a":100},"revision":1},"warnings":["the sender has revision 1 of this message, and lacks later fields"],"errors":[]}"#,
        r#"{"bytes":[1,2,3,9,18,52,85],"fPort":7,"warnings":[],"errors":[]}"#,
        r#"{"bytes":[0,0,3,0,0,1,4],"fPort":7,"warnings":[],"errors":[]}"#,
        r#"{"data":{"message":"Down","node":5,"sender_revision":3,"sequence":1,"fields":{"a":1}},"warnings":[],"errors":[]}"#,
    ];
    assert_eq!([said[0], said[1], said[4], said[5], said[6]], wanted);
    for (line, words) in [(2, "check differs"), (3, "bytes"), (7, "node")] {
        assert!(said[line].contains("\"errors\":[\"") && said[line].contains(words), "{}", said[line]);
    }
}

/// Words that came into the language after ECMAScript 5.
#[test]
fn the_script_is_of_an_old_standard() {
    for plan in [marlock(), plan(KINDS)] {
        let text = generate(&plan, &Parts::default()).unwrap().remove(0).text;
        for line in text
            .lines()
            .map(|line| line.split("//").next().unwrap())
            .filter(|line| !line.trim_start().starts_with(['*', '/']))
        {
            for word in ["let ", "const ", "=>", "class ", "import ", "export ", "${", "..."] {
                assert!(!line.contains(word), "{word} in {line}");
            }
        }
    }
}

#[test]
fn a_link_without_a_radio_channel_has_no_codec() {
    let text = "link l {\n revision 1\n byte_order little\n}\nchannel c {\n medium uart 9600 8N1\n frame { sync A5\n kind : u8 message\n size : u8 length of body\n body }\n}\n";
    assert_eq!(generate(&plan(text), &Parts::default()).unwrap_err(), GenerateError::NoRadio);
}
