//! Channels at random: parts of any width, order and place, checksums over any stretch, directions that differ. The library
//! and the generated C accept the same frames of a noisy stream of each.
//!
//! Without a C compiler these tests pass without doing anything, unless EMBERWORT_NEED_TOOLCHAINS is set.

use std::sync::Arc;

use emberwort_codegen::{c, javascript, python, rust, vectors};
use emberwort_model::ids::ChannelId;
use emberwort_model::model::End;
use emberwort_model::plan::FrameFinder;
use emberwort_model::{Plan, Source, check};
use rand::seq::{IndexedRandom, SliceRandom};
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;

use crate::common::{
    self, Language, compile_and_run, compiler, node, python, run_node, run_python, run_rust, rustc, streams, write,
};

/// How receivers find frames: a channel for each.
const FINDINGS: [&str; 12] = [
    "",
    "stuffing cobs",
    "stuffing slip",
    "stuffing hdlc",
    "stuffing escape 7D xor 20 of 7D C6 AA",
    "stuffing escape 10 xor 00 of 10",
    "gap 2 ms",
    "",
    "lines lf",
    "lines crlf",
    "status bytes",
    "status bytes running",
];
const CHANNELS: usize = FINDINGS.len();

/// Text messages: from which end, their pattern, their fields.
const LINES: [(&str, &str, &str, &str); 5] = [
    ("Say", "host", "say {what}", "what : text[..40]"),
    (
        "Set",
        "host",
        "{x:hex3}{y:fixed 2 wide 7},{z:blank}",
        "x : u12\ny : -99.5 .. 99.5 step 0.25\nz : 0 .. 9 step 1 or none",
    ),
    ("Told", "device", "T{n}:{what}", "n : u8\nwhat : ascii[..20]"),
    (
        "Place",
        "device",
        "P{a:wide 4},{b:fixed 3 wide 7 blank},{c:hex2 blank},{n}",
        "a : i9\nb : 0 .. 50 step 0.125 or none\nc : u8 or none\nn : 0 .. 9 step 1 or none",
    ),
    ("Plain", "device", "{on} {n}", "on : bool\nn : i16 * 0.1"),
];

/// Messages with status bytes: their keys, whether those say a node, from which end, the bits used of each byte, and what follows.
const STATUS: [(&str, bool, &str, &[u8], &str); 8] = [
    ("0x90", true, "device", &[7, 7], ""),
    ("0x80", true, "host", &[7], ""),
    ("0xB7", false, "device", &[5, 6, 7], ""),
    ("0xA0", true, "host", &[], "spare 1 bytes"),
    ("0xF0", false, "device", &[7], "rest : bytes[rest]"),
    ("0xF1", false, "host", &[], "text : ascii[..30]"),
    ("0xF7", false, "device", &[], ""),
    ("0xFA", false, "host", &[], ""),
];

/// The parts of a frame whose head ends at a whole byte: a byte is shared by those of a line.
fn parts(random: &mut ChaCha8Rng, from: usize) -> Vec<String> {
    let order = |random: &mut ChaCha8Rng| *[" be", " le", ""].choose(random).unwrap();
    let mut all = vec![
        format!("node : u{} address", random.random_range(1..=2) * 8),
        format!("count : u16{} sequence", order(random)),
        format!("rev : u{}{} revision", 32, order(random)),
        "lane : u3 = 5\n count2 : u5 = 17".to_owned(),
        format!("mark : u24{} = 0xC0FFEE", order(random)),
        format!("far : u{} = 1", 8 * random.random_range(1..=8)),
    ];
    all.shuffle(random);
    all.truncate(random.random_range(0..4));
    // The names differ in the head and the tail.
    all.iter()
        .map(|part| part.replace(" : ", &format!("{from} : ")))
        .filter(|part| from == 0 || part.contains(" = "))
        .collect()
}

/// What stands around the text of a line.
fn frame_of_line(random: &mut ChaCha8Rng) -> String {
    let sync = *["", "sync 24\n", "sync 3A 3E\n"].choose(random).unwrap();
    let head = *["", "node : hex2 address\n", "colon : u8 = 0x3A\ncount : hex3 sequence\n"].choose(random).unwrap();
    let (digits, algorithm) =
        *[(2, "xor8"), (4, "crc-16/ibm-3740"), (4, "sum16 negated"), (8, "adler32"), (4, "crc-8/bluetooth")]
            .choose(random)
            .unwrap();
    let over = *["body", "body..star", "body..check", "body..check skipping"].choose(random).unwrap();
    format!("{sync}{head}body\nstar : u8 = 0x2A\ncheck : hex{digits} {algorithm} over {over}\n")
}

fn frame(random: &mut ChaCha8Rng, finding: &str) -> String {
    if finding.starts_with("status") {
        return "status : u8 message\nbody\n".into();
    }
    if finding.starts_with("lines") {
        return frame_of_line(random);
    }
    let order = |random: &mut ChaCha8Rng| *[" be", " le", ""].choose(random).unwrap();
    // An escape keeps the first sync byte out of the rest.
    let sync = match finding {
        "" => *["C6 39", "AA", "7E 81 A0", "00 00 FF", ""].choose(random).unwrap(),
        finding if finding.starts_with("stuffing escape 10") => "10 02",
        finding if finding.starts_with("stuffing escape") => *["C6 39", "AA", "C6 C6 AA"].choose(random).unwrap(),
        _ => "",
    };
    let with_terminator = finding.starts_with("stuffing escape") && random.random_bool(0.5);
    let needs_length = (finding.is_empty() || !sync.is_empty()) && !with_terminator;
    let mut head = parts(random, 0);
    head.push(match random.random_range(0..3) {
        0 => "key : u8 message".to_owned(),
        1 => format!("key : u16{} message", order(random)),
        _ => "key : u4 message\n pad : u4 = 9".to_owned(),
    });
    if needs_length || random.random_bool(0.5) {
        let of = ["body", "key..body", "body..end"].choose(random).unwrap().replace("end", "check");
        let of = if needs_length && !sync.is_empty() && random.random_bool(0.25) { "sync..check" } else { &of };
        let unit = if random.random_bool(0.2) { " in 2 bytes" } else { "" };
        let at = random.random_range(0..=head.len());
        head.insert(at, format!("size : u16{} length of {of}{unit}", order(random)));
        if random.random_bool(0.3) {
            let inverted = *["", " inverted"].choose(random).unwrap();
            let again =
                if random.random_bool(0.5) { "again : hex4".into() } else { format!("again : u16{}", order(random)) };
            head.insert(random.random_range(at + 1..=head.len()), format!("{again} same as size{inverted}"));
        }
    }
    let (width, algorithm) = *[
        (16, "crc-16/ibm-3740"),
        (16, "crc-16/arc"),
        (32, "crc-32/iso-hdlc"),
        (8, "crc-8/bluetooth"),
        (16, "crc 13 poly 0x1CF5 init 0x5 reflect in"),
        (16, "internet"),
        (8, "sum8 final xor 0xFF"),
        (8, "sum8 negated start 3"),
        (16, "sum16"),
        (16, "sum16 negated final xor 0x5A5A"),
        (16, "fletcher16"),
        (32, "fletcher32 final xor 1"),
        (32, "adler32"),
        (8, "xor8 start 0x5A"),
        (64, "crc-64/xz"),
    ]
    .choose(random)
    .unwrap();
    let disjoint = if head.iter().any(|part| part.contains("pad")) { "key..pad, body" } else { "key, body" };
    let spans = ["key..body", "body", disjoint, "key..check", "key..check skipping", "body..last"];
    let over = spans.choose(random).unwrap();
    let check = format!("check : u{width}{} {algorithm} over {over}", if width > 8 { order(random) } else { "" });
    let mut tail = parts(random, 1);
    tail.insert(random.random_range(0..=tail.len()), check);
    tail.push(match with_terminator {
        true if sync == "10 02" => "last : u16 be = 0x1003".to_owned(),
        true => "last : u8 = 0xAA".to_owned(),
        false => "last : u8 = 0x5A".to_owned(),
    });
    let sync = if sync.is_empty() { String::new() } else { format!("sync {sync}\n") };
    format!("{sync}{}\nbody\n{}\n", head.join("\n"), tail.join("\n"))
}

pub fn definition(seed: u64) -> String {
    let mut random = ChaCha8Rng::seed_from_u64(seed);
    let order = ["little", "big"].choose(&mut random).unwrap();
    let mut text = format!("link any {{ revision 3  byte_order {order} }}\n");
    for channel in 0..CHANNELS {
        let finding = FINDINGS[channel % FINDINGS.len()];
        text += &format!("channel c{channel} {{\nmedium uart 9600 8N1\n{finding}\nlimit 600 bytes\n");
        if random.random_bool(0.3) {
            text += &format!("frame from host {{\n{}}}\n", frame(&mut random, finding));
            text += &format!("frame from device {{\n{}}}\n", frame(&mut random, finding));
        } else {
            text += &format!("frame {{\n{}}}\n", frame(&mut random, finding));
        }
        text += "}\n";
    }
    let on = |kind: &str| {
        let kind_of = |finding: &'static str| ["lines", "status"].into_iter().find(|kind| finding.starts_with(kind));
        let channels = (0..CHANNELS).filter(|channel| kind_of(FINDINGS[*channel]).unwrap_or("") == kind);
        channels.map(|channel| format!("c{channel}")).collect::<Vec<_>>().join(", ")
    };
    let keys = on("status");
    for (number, (id, nodes, from, bits, more)) in STATUS.iter().enumerate() {
        let nodes = if *nodes { " + node 2 .. 9" } else { "" };
        let field = |(n, bits): (usize, &u8)| {
            let (field, spare) = (format!("f{n} : u{bits}\n"), format!("spare {} bits\n", 8 - bits));
            if *order == "big" { spare + &field } else { field + &spare }
        };
        let fields = bits.iter().enumerate().map(field).collect::<String>() + more;
        text += &format!("message Status{number} {{\nid {id}{nodes}\nfrom {from}\non {keys}\n{fields}\n}}\n");
    }
    let lines = on("lines");
    for (name, from, line, fields) in LINES {
        text += &format!("message {name} {{\nfrom {from}\non {lines}\nline \"{line}\"\n{fields}\n}}\n");
    }
    let on = on("");
    text += &format!("message Ask {{\nid 3\nfrom host\non {on}\na : u12\nb : bytes[..120]\n}}\n");
    text += &format!("message Tell {{\nid 4\nfrom device\non {on}\na : u12\nb : text[rest]\n}}\n");
    text += &format!("message Short {{\nid 15\nfrom device\non {on}\na : u8\n}}\n");
    text + &format!("message Empty {{\nid 1\nfrom host\non {on}\n}}\n")
}

fn channels_agree(seed: u64, bytes: usize, languages: &[Language]) {
    let text = definition(seed);
    let checked = check(&Source::new("any.ember", text.as_str()));
    let Some(plan) = checked.plan else {
        let errors: Vec<_> = checked
            .findings
            .iter()
            .filter(|finding| finding.is_error())
            .map(|f| (f.code, &f.message, f.span))
            .collect();
        panic!("seed {seed}: {errors:#?}\n{text}");
    };
    let plan: Arc<Plan> = Arc::new(plan);
    let folder = tempfile::tempdir().unwrap();
    let vectors = vectors::vectors(&plan, seed);
    let (mut stems, mut expected, mut good) = (Vec::new(), String::new(), 0);
    for (index, channel) in plan.channels.iter().enumerate() {
        let directions = match channel.is_split() {
            true => vec![(Some(End::Host), "_from_host"), (Some(End::Device), "_from_device")],
            false => vec![(None, "")],
        };
        for (from, name) in directions {
            let stem = format!("any_{}{name}", channel.name);
            let stream = streams::noisy(&plan, ChannelId::new(index), from, bytes, seed);
            std::fs::write(folder.path().join(format!("{stem}.bin")), streams::file_of(&stream)).unwrap();
            let (frames, frames_text) = streams::accepted(&plan, ChannelId::new(index), from, &stream);
            assert!(frames * 400 > bytes, "{stem}: only {frames} frames are good\n{text}");
            good += frames;
            expected += &frames_text;
            stems.push((stem, index));
        }
    }
    let channel = |index: usize| &plan.channels[index];
    let (names, lines): (Vec<String>, Vec<&str>) = stems
        .iter()
        .zip(expected.lines())
        .filter(|((_, index), _)| has_receiver(channel(*index).finder()))
        .map(|((stem, _), line)| (stem.strip_prefix("any_").unwrap().to_owned(), line))
        .unzip();
    assert!(names.len() > 3, "{names:?}");
    assert!(good > CHANNELS * bytes / 400, "seed {seed}: {good} frames are good\n{text}");
    for language in languages {
        let (program, file, receive) = match language {
            Language::C => {
                let Some(compiler) = compiler() else { continue };
                write(folder.path(), &c::generate(&plan, &vectors, &[]).unwrap());
                let said = compile_and_run(compiler, folder.path(), &["-O1"], &["any.c", "any_vectors.c"]);
                assert!(said.contains(", 0 differences"), "seed {seed}: {said}\n{text}");
                std::fs::write(folder.path().join("main.c"), streams::c_program(&plan, "any", &stems)).unwrap();
                let output = compile_and_run(compiler, folder.path(), &["-O2"], &["any.c", "main.c"]);
                assert!(output == expected, "seed {seed}: C found\n{output}, not\n{expected}\n{text}");
                continue;
            }
            Language::Rust => {
                run_rust(folder.path(), &rust::generate(&plan, &vectors).unwrap());
                receive_in_rust(folder.path(), &names, &lines, &text);
                continue;
            }
            Language::Python => {
                let Some(python) = python() else { continue };
                run_python(python, folder.path(), &python::generate(&plan, &vectors).unwrap());
                (python, "receive.py", RECEIVE_IN_PYTHON)
            }
            Language::JavaScript => {
                let Some(node) = node() else { continue };
                run_node(node, folder.path(), &javascript::generate(&plan, &vectors).unwrap());
                (node, "receive.mjs", RECEIVE_IN_JAVASCRIPT)
            }
        };
        std::fs::write(folder.path().join(file), receive).unwrap();
        let ran =
            std::process::Command::new(program).current_dir(folder.path()).arg(file).args(&names).output().unwrap();
        let said = common::said(&ran);
        for (name, (found, right)) in names.iter().zip(said.lines().zip(&lines)) {
            assert_eq!(found, *right, "seed {seed}: {name} by {program}\n{text}");
        }
        assert_eq!(said.lines().count(), lines.len(), "{said}");
    }
}

/// Whether the languages of hosts have a receiver for it.
fn has_receiver(finder: FrameFinder) -> bool {
    matches!(finder, FrameFinder::Sync | FrameFinder::Stuffed(_) | FrameFinder::Escaped(_) | FrameFinder::Idle { .. })
}

/// Puts the pieces of each file into the receiver of that name, in chunks of 1 to 64 bytes, and says what it found, as the C does.
const RECEIVE_IN_PYTHON: &str = r#"
import sys
import any as link

state = 1
def chunk():
    global state
    state = (state * 1103515245 + 12345) & 0x7FFFFFFF
    return 1 + (state >> 16) % 64

for name in sys.argv[1:]:
    receiver = link.RECEIVERS[name]()
    sum = 0xCBF29CE484222325
    def note(found):
        global sum
        kind = 0 if found.error is None else 1 if isinstance(found.error, link.UnknownMessage) else 2
        body = found.frame.body
        for byte in len(body).to_bytes(4, "little") + body + bytes((kind,)):
            sum = (sum ^ byte) * 0x100000001B3 & 0xFFFFFFFFFFFFFFFF
    some = open(f"any_{name}.bin", "rb").read()
    at = 0
    while at < len(some):
        size = int.from_bytes(some[at : at + 2], "big")
        at += 2
        length = size & 0x7FFF
        end = at + length
        while at < end:
            piece = some[at : min(at + chunk(), end)]
            at += len(piece)
            for found in receiver.feed(piece):
                note(found)
        if size & 0x8000:
            for found in receiver.gap():
                note(found)
    for found in receiver.gap():
        note(found)
    total = receiver.good_bytes + receiver.unread_bytes + receiver.skipped_bytes
    print(f"{receiver.good_frames} good and {receiver.unread_frames} unread frames {sum:016X}, {total} bytes")
"#;

/// The same in Rust.
fn receive_in_rust(folder: &std::path::Path, names: &[String], lines: &[&str], text: &str) {
    let calls: Vec<String> = names
        .iter()
        .map(|name| {
            let words = name.split('_').map(|word| word[..1].to_uppercase() + &word[1..]).collect::<String>();
            format!("run!(any::{words}Receiver, \"any_{name}.bin\");")
        })
        .collect();
    std::fs::write(folder.join("receive.rs"), RECEIVE_IN_RUST.replace("CALLS", &calls.join("\n    "))).unwrap();
    let arguments = ["--edition", "2021", "-O", "-D", "warnings", "-o", "receive", "receive.rs"];
    let compiled = std::process::Command::new(rustc()).current_dir(folder).args(arguments).output().unwrap();
    assert!(compiled.status.success(), "{}", String::from_utf8_lossy(&compiled.stderr));
    let ran = std::process::Command::new(folder.join("receive")).current_dir(folder).output().unwrap();
    let said = common::said(&ran);
    for (name, (found, right)) in names.iter().zip(said.lines().zip(lines)) {
        assert_eq!(found, *right, "{name} in Rust\n{text}");
    }
    assert_eq!(said.lines().count(), lines.len(), "{said}");
}

const RECEIVE_IN_RUST: &str = r#"
mod any;

macro_rules! run {
    ($receiver:ty, $file:expr) => {{
        let mut receiver = <$receiver>::new();
        let mut sum = 0xCBF2_9CE4_8422_2325u64;
        let mut state = 1u32;
        macro_rules! note {
            ($found:expr) => {{
                let found = $found;
                let kind = match found.message {
                    Ok(_) => 0,
                    Err(any::Error::UnknownMessage) => 1,
                    Err(_) => 2,
                };
                let size = (found.frame.body.len() as u32).to_le_bytes();
                for byte in size.iter().chain(found.frame.body).chain([&kind]) {
                    sum = (sum ^ u64::from(*byte)).wrapping_mul(0x100_0000_01B3);
                }
            }};
        }
        let some = std::fs::read($file).unwrap();
        let mut at = 0;
        while at < some.len() {
            let size = u16::from_be_bytes([some[at], some[at + 1]]);
            let length = usize::from(size & 0x7fff);
            at += 2;
            let end = at + length;
            while at < end {
                state = state.wrapping_mul(1_103_515_245).wrapping_add(12345) & 0x7FFF_FFFF;
                let mut piece = &some[at..end.min(at + 1 + (state >> 16) as usize % 64)];
                at += piece.len();
                while let Some(found) = receiver.next(&mut piece) {
                    note!(found);
                }
            }
            if size & 0x8000 != 0 {
                while let Some(found) = receiver.gap() {
                    note!(found);
                }
            }
        }
        while let Some(found) = receiver.gap() {
            note!(found);
        }
        let of = receiver.counters;
        let total = of.good_bytes + of.unread_bytes + of.skipped_bytes;
        println!("{} good and {} unread frames {sum:016X}, {total} bytes", of.good_frames, of.unread_frames);
    }};
}

fn main() {
    CALLS
}
"#;

/// The same in JavaScript.
const RECEIVE_IN_JAVASCRIPT: &str = r#"
import { readFileSync } from "node:fs";
import * as link from "./any.js";

let state = 1n;
const chunk = () => {
  state = (state * 1103515245n + 12345n) & 0x7fffffffn;
  return 1 + Number((state >> 16n) % 64n);
};

for (const name of process.argv.slice(2)) {
  const receiver = new link.RECEIVERS[name]();
  let sum = 0xcbf29ce484222325n;
  const note = (found) => {
    const kind = found.error === null ? 0 : found.error.kind === "unknown_message" ? 1 : 2;
    const { body } = found.frame;
    const size = new Uint8Array(new Uint32Array([body.length]).buffer);
    for (const byte of [...size, ...body, kind]) {
      sum = BigInt.asUintN(64, (sum ^ BigInt(byte)) * 0x100000001b3n);
    }
  };
  const some = readFileSync(`any_${name}.bin`);
  let at = 0;
  while (at < some.length) {
    const size = some.readUInt16BE(at);
    at += 2;
    const length = size & 0x7fff;
    const end = at + length;
    while (at < end) {
      const piece = some.subarray(at, Math.min(at + chunk(), end));
      at += piece.length;
      receiver.feed(piece).forEach(note);
    }
    if (size & 0x8000) {
      receiver.gap().forEach(note);
    }
  }
  receiver.gap().forEach(note);
  const total = receiver.goodBytes + receiver.unreadBytes + receiver.skippedBytes;
  const hash = sum.toString(16).toUpperCase().padStart(16, "0");
  console.log(`${receiver.goodFrames} good and ${receiver.unreadFrames} unread frames ${hash}, ${total} bytes`);
}
"#;

#[test]
fn random_channels_agree_in_c() {
    channels_agree(1, 20_000, &[Language::C]);
}

#[test]
fn random_channels_agree_in_rust() {
    channels_agree(1, 20_000, &[Language::Rust]);
}

#[test]
fn random_channels_agree_in_python() {
    channels_agree(1, 20_000, &[Language::Python]);
}

#[test]
fn random_channels_agree_in_javascript() {
    channels_agree(1, 20_000, &[Language::JavaScript]);
}

#[test]
#[ignore = "minutes long; see CONTRIBUTING.md"]
fn many_random_channels_agree() {
    let bytes = if common::is_small() { 30_000 } else { 100_000 };
    for seed in common::seeds(100..140, 100..101) {
        channels_agree(seed, bytes, &Language::ALL);
        println!("seed {seed} agrees");
    }
}

/// Ten megabytes of each framing.
#[test]
#[ignore = "minutes long; see CONTRIBUTING.md"]
fn ten_noisy_megabytes_agree() {
    channels_agree(7, if common::is_small() { 300_000 } else { 10_000_000 }, &Language::ALL);
}
