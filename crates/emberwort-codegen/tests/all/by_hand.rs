//! Generated Python, JavaScript and Rust on bytes and errors that were worked out by hand: what is refused, what is assumed, and what a receiver
//! does with halves of frames.

use emberwort_codegen::{GeneratedFile, javascript, python, rust};

use crate::common::plans::plan;
use crate::common::{self, node, python, rustc};

const DEFINITION: &str = "
link hand {
    revision 3
    byte_order big
}
enum Mode : u3 {
    0 off
    2 on
}
flags Signs : u5 {
    0 wet
    4 hot
}
record Pair growing {
    a : u4
    b : i12
    added in 2 {
    c : bool = true
    spare 7 bits
    }
}
channel line {
    medium uart 9600 8N1
    frame {
    sync A5 5A
    kind : u8 message
    count : u8 sequence
    size : u8 length of body
    body
    sum : u16 crc-16/ibm-3740 over kind..body
    }
}
channel quiet {
    medium uart 9600 8N1
    gap 2 ms
    frame {
    kind : u8 message
    body
    sum : u8 sum8 over kind..body
    }
}
message Full {
    id 1
    from device
    on line, quiet
    mode : Mode
    signs : Signs
    level : -20 .. 60 degC step 0.5 or none
    ratio : f32
    name : text[..5] optional
    pairs : [..2] Pair
    which : u2
    form : by which {
    0 small : u8
    1 large : u16
    }
    added in 3 {
    late : i8 = -3
    }
}
message Small {
    id 2
    from host
    on line, quiet
    big : compact i20
}
";

const IN_PYTHON: &str = r#"
import hand

def refused(error, act):
    try:
        act()
    except error as problem:
        assert str(problem), problem
        return
    raise AssertionError(f"nothing was refused, {error.__name__} is expected")

def full(**more):
    some = dict(mode=hand.Mode.ON, signs=hand.Signs.WET | hand.Signs.HOT, level=hand.Full.raw_level(21.5), ratio=0.5, which=1,
                form=hand.Form("large", 0x1234))
    return hand.Full(**{**some, **more})

# 010 10001 | level 0 .. 160 from -20 in steps of a half: 83 = 0x53 | 0x3F000000 | no name: presence 0 in front | no pairs, of 3 bytes each
body = full().encode()
assert body.hex() == "00515" + "33f000000" + "0003" + "40" + "1234" + "fd", body.hex()
back = hand.Full.decode(body)
assert back == full() and back.sections_held == 2 and hand.Full.physical_level(back.level) == 21.5

# The name is five bytes at most, whatever they are in letters.
assert hand.Full.decode(full(name="é€").encode()).name == "é€"
refused(hand.TooMany, full(name="abcdef").encode)
refused(hand.TooMany, full(pairs=[hand.Pair()] * 3).encode)
for wrong in (dict(mode=1), dict(signs=2), dict(level=161), dict(level=-1), dict(ratio=float("nan")), dict(ratio=1e39), dict(late=200),
              dict(sections_held=3), dict(which=4)):
    refused(hand.OutOfRange, full(**wrong).encode)
refused(hand.NoForm, full(which=0).encode)
refused(hand.NoForm, full(form=hand.Form("huge", 1)).encode)
refused(hand.OutOfRange, lambda: hand.Full.raw_level(61.0))
assert hand.Full.raw_level(None) == 255 and hand.Full.physical_level(255) is None
assert (hand.Full.raw_level(-20.0), hand.Full.raw_level(60.0), hand.Full.raw_level(20.25)) == (0, 160, 81)

# A sender of revision 1 lacks what came later; elements of lists grow too.
old = full(sections_held=1, pairs=[hand.Pair(a=5, b=-2, c=False)])
assert hand.Full.decode(old.encode()).late == -3
assert hand.Full.decode(old.encode()).pairs == [hand.Pair(a=5, b=-2, c=True)]
for length in range(len(body) - 1):
    refused(hand.Truncated, lambda: hand.Full.decode(body[:length]))
assert hand.Full.decode(body[:-1]).sections_held == 1
refused(hand.NoForm, lambda: hand.Full.decode(body[:9] + b"\x80" + body[10:]))

# Zigzag: -1 is 1, 64 is 128, which takes two bytes.
for value, hex in ((0, "00"), (-1, "01"), (63, "7e"), (64, "8001"), (-524288, "ffff3f")):
    assert hand.Small(big=value).encode().hex() == hex, hand.Small(big=value).encode().hex()
    assert hand.Small.decode(bytes.fromhex(hex)).big == value
refused(hand.OutOfRange, hand.Small(big=524288).encode)
refused(hand.BadNumber, lambda: hand.Small.decode(bytes.fromhex("ffff7f")))

# Frames: each byte of one is looked at.
wire = hand.build_line(hand.LineFrame(kind=2, count=7, body=b"\x01"))
assert wire.hex() == "a55a02070101" + wire[6:].hex() and len(wire) == 8
for at, error in ((0, hand.BadValue), (2, hand.BadChecksum), (4, hand.BadLength), (5, hand.BadChecksum), (7, hand.BadChecksum)):
    refused(error, lambda: hand.open_line(wire[:at] + bytes((wire[at] ^ 1,)) + wire[at + 1 :]))
refused(hand.BadLength, lambda: hand.open_line(wire[:5]))
refused(hand.BadLength, lambda: hand.build_line(hand.LineFrame(kind=2, body=bytes(2000))))
refused(hand.OutOfRange, lambda: hand.build_line(hand.LineFrame(kind=256)))

# A receiver: noise, a frame inside of a broken one, one of no message, one that cannot be read, half a one.
receiver = hand.LineReceiver()
broken = bytes.fromhex("a55a010008")
unknown = hand.build_line(hand.LineFrame(kind=9, body=b"x"))
unread = hand.build_line(hand.LineFrame(kind=1, body=b"x"))
found = [one for byte in b"no" + broken + wire + unknown + unread + wire[:6] for one in receiver.feed(bytes((byte,)))]
assert [type(one.error).__name__ for one in found] == ["NoneType", "UnknownMessage", "Truncated"], found
assert found[0].message == hand.Small(big=-1) and found[0].frame.count == 7
assert list(receiver.gap()) == []
assert (receiver.good_bytes, receiver.unread_bytes, receiver.skipped_bytes) == (8, 16, 2 + 5 + 6)
assert [one.frame.kind for one in receiver.feed(wire * 2)] == [2, 2]

# Silence ends a frame.
quiet = hand.QuietReceiver()
some = hand.build_quiet(hand.QuietFrame(kind=2, body=b"\x7e"))
assert some.hex() == "027e80"
assert list(quiet.feed(some)) == []
assert [one.message for one in quiet.gap()] == [hand.Small(big=63)]
assert list(quiet.feed(some[:2])) == [] and list(quiet.gap()) == [] and quiet.skipped_bytes == 2
print("done")
"#;

const IN_JAVASCRIPT: &str = r#"
import assert from "node:assert/strict";
import * as hand from "./hand.js";

const hex = (some) => Buffer.from(some).toString("hex");
const bytes = (text) => new Uint8Array(Buffer.from(text, "hex"));
const refused = (kind, act) => assert.throws(act, (problem) => problem instanceof hand.LinkError && problem.kind === kind && problem.message !== "");
const full = (more) => new hand.Full({
  mode: hand.Mode.ON, signs: hand.Signs.WET | hand.Signs.HOT, level: hand.Full.rawLevel(21.5), ratio: 0.5, which: 1,
  form: { name: "large", value: 0x1234 }, ...more,
});

// 010 10001 | level 0 .. 160 from -20 in steps of a half: 83 = 0x53 | 0x3F000000 | no name: presence 0 in front | no pairs
const body = full().encode();
assert.equal(hex(body), "00515" + "33f000000" + "0003" + "40" + "1234" + "fd");
const back = hand.Full.decode(body);
assert.deepEqual(back, full());
assert.equal(hand.Full.physicalLevel(back.level), 21.5);

assert.equal(hand.Full.decode(full({ name: "é€" }).encode()).name, "é€");
refused("too_many", () => full({ name: "abcdef" }).encode());
refused("too_many", () => full({ pairs: [new hand.Pair(), new hand.Pair(), new hand.Pair()] }).encode());
for (const wrong of [{ mode: 1 }, { signs: 2 }, { level: 161 }, { level: -1 }, { level: "5" }, { ratio: NaN }, { ratio: 1e39 }, { late: 200 },
  { late: 1.5 }, { sectionsHeld: 3 }, { which: 4 }, { name: 5 }]) {
  refused("out_of_range", () => full(wrong).encode());
}
refused("no_form", () => full({ which: 0 }).encode());
refused("no_form", () => full({ form: { name: "huge", value: 1 } }).encode());
refused("out_of_range", () => hand.Full.rawLevel(61));
refused("out_of_range", () => new hand.Full({ levl: 1 }));
assert.equal(hand.Full.rawLevel(null), 255);
assert.equal(hand.Full.physicalLevel(255), null);
assert.deepEqual([hand.Full.rawLevel(-20), hand.Full.rawLevel(60), hand.Full.rawLevel(20.25)], [0, 160, 81]);

// A sender of revision 1 lacks what came later; elements of lists grow too.
const old = full({ sectionsHeld: 1, pairs: [new hand.Pair({ a: 5, b: -2, c: false })] });
assert.equal(hand.Full.decode(old.encode()).late, -3);
assert.deepEqual(hand.Full.decode(old.encode()).pairs, [new hand.Pair({ a: 5, b: -2, c: true })]);
for (let length = 0; length < body.length - 1; length++) {
  refused("truncated", () => hand.Full.decode(body.slice(0, length)));
}
assert.equal(hand.Full.decode(body.slice(0, -1)).sectionsHeld, 1);
refused("no_form", () => hand.Full.decode(new Uint8Array([...body.slice(0, 9), 0x80, ...body.slice(10)])));

// Zigzag: -1 is 1, 64 is 128, which takes two bytes.
for (const [value, text] of [[0, "00"], [-1, "01"], [63, "7e"], [64, "8001"], [-524288, "ffff3f"]]) {
  assert.equal(hex(new hand.Small({ big: value }).encode()), text);
  assert.equal(hand.Small.decode(bytes(text)).big, value);
}
refused("out_of_range", () => new hand.Small({ big: 524288 }).encode());
refused("bad_number", () => hand.Small.decode(bytes("ffff7f")));

// Frames: each byte of one is looked at.
const wire = hand.buildLine({ kind: 2, count: 7, body: [1] });
assert.equal(hex(wire).slice(0, 12), "a55a02070101");
assert.equal(wire.length, 8);
for (const [at, kind] of [[0, "bad_value"], [2, "bad_checksum"], [4, "bad_length"], [5, "bad_checksum"], [7, "bad_checksum"]]) {
  refused(kind, () => hand.openLine(wire.map((byte, n) => (n === at ? byte ^ 1 : byte))));
}
refused("bad_length", () => hand.openLine(wire.slice(0, 5)));
refused("bad_length", () => hand.buildLine({ kind: 2, count: 0, body: new Uint8Array(2000) }));
refused("out_of_range", () => hand.buildLine({ kind: 256, count: 0, body: [] }));
refused("out_of_range", () => hand.buildLine({ kind: 2, body: [] }));
refused("out_of_range", () => hand.buildLine({ kind: 2, count: 0, body: [256] }));

// A receiver: noise, a frame inside of a broken one, one of no message, one that cannot be read, half a one.
const receiver = new hand.LineReceiver();
const broken = bytes("a55a010008");
const unknown = hand.buildLine({ kind: 9, count: 0, body: [0x78] });
const unread = hand.buildLine({ kind: 1, count: 0, body: [0x78] });
const found = [0x6e, 0x6f, ...broken, ...wire, ...unknown, ...unread, ...wire.slice(0, 6)].flatMap((byte) => receiver.feed([byte]));
assert.deepEqual(found.map(({ error }) => error && error.kind), [null, "unknown_message", "truncated"]);
assert.deepEqual(found[0].message, new hand.Small({ big: -1 }));
assert.equal(found[0].frame.count, 7);
assert.deepEqual(receiver.gap(), []);
assert.deepEqual([receiver.goodBytes, receiver.unreadBytes, receiver.skippedBytes], [8, 16, 2 + 5 + 6]);
assert.deepEqual(receiver.feed([...wire, ...wire]).map(({ frame }) => frame.kind), [2, 2]);

// Silence ends a frame.
const quiet = new hand.QuietReceiver();
const some = hand.buildQuiet({ kind: 2, body: [0x7e] });
assert.equal(hex(some), "027e80");
assert.deepEqual(quiet.feed(some), []);
assert.deepEqual(quiet.gap().map(({ message }) => message), [new hand.Small({ big: 63 })]);
assert.deepEqual([...quiet.feed(some.slice(0, 2)), ...quiet.gap()], []);
assert.equal(quiet.skippedBytes, 2);
console.log("done");
"#;

const IN_RUST: &str = r#"
mod hand;
use hand::*;

fn full() -> Full {
    let level = Full::raw_level(Some(21.5)).unwrap();
    Full { mode: Mode::ON, signs: Signs::WET | Signs::HOT, level, ratio: 0.5, which: 1, form: FullForm::Large(0x1234), ..Default::default() }
}

fn encoded(value: &Full) -> Result<Vec<u8>, Error> {
    let mut out = [0xaa; Full::GREATEST];
    value.encode(&mut out).map(|count| out[..count].to_vec())
}

fn line(kind: u8, count: u8, body: &[u8]) -> Vec<u8> {
    let mut out = [0; 512];
    let count = build_line(&LineFrame { kind, count, body }, &mut out).unwrap();
    out[..count].to_vec()
}

fn main() {
    // 010 10001 | level 0 .. 160 from -20 in steps of a half: 83 = 0x53 | 0x3F000000 | no name: presence 0 in front | no pairs
    let body = encoded(&full()).unwrap();
    assert_eq!(body, [0x00, 0x51, 0x53, 0x3f, 0, 0, 0, 0, 0x03, 0x40, 0x12, 0x34, 0xfd]);
    let back = Full::decode(&body).unwrap();
    assert_eq!((back, Full::physical_level(back.level)), (full(), Some(21.5)));
    assert_eq!(format!("{} {} {:?}", back.mode, back.signs, Mode(1)), "on wet hot 1");

    let named = Full { name: Some(Text::new("é€").unwrap()), ..full() };
    assert_eq!(Full::decode(&encoded(&named).unwrap()).unwrap().name.unwrap().as_str(), Some("é€"));
    assert_eq!(Text::<5>::new("abcdef"), Err(Error::TooMany));
    let pair = Pair { a: 5, b: -2, c: false };
    assert_eq!(List::<Pair, 2>::new(&[pair; 3]), Err(Error::TooMany));
    for (wrong, field) in [
        (Full { mode: Mode(1), ..full() }, "Full.mode"),
        (Full { signs: Signs(2), ..full() }, "Full.signs"),
        (Full { level: 161, ..full() }, "Full.level"),
        (Full { ratio: f32::NAN, ..full() }, "Full.ratio"),
        (Full { sections_held: 3, ..full() }, "Full.sections_held"),
        (Full { which: 4, ..full() }, "Full.which"),
    ] {
        assert_eq!(encoded(&wrong), Err(Error::OutOfRange(field)));
    }
    assert_eq!(encoded(&Full { which: 0, ..full() }), Err(Error::NoForm("Full.form")));
    assert!(Full::raw_level(Some(61.0)).is_err() && Full::raw_level(Some(f64::NAN)).is_err());
    assert_eq!((Full::raw_level(None), Full::physical_level(255)), (Ok(255), None));
    assert_eq!([-20.0, 60.0, 20.25].map(|value| Full::raw_level(Some(value)).unwrap()), [0, 160, 81]);

    // A sender of revision 1 lacks what came later; elements of lists grow too.
    let old = Full { sections_held: 1, pairs: List::new(&[pair]).unwrap(), ..full() };
    let read = Full::decode(&encoded(&old).unwrap()).unwrap();
    assert_eq!((read.late, read.pairs.as_slice()), (-3, &[Pair { c: true, ..pair }][..]));
    for length in 0..body.len() - 1 {
        assert_eq!(Full::decode(&body[..length]), Err(Error::Truncated));
    }
    assert_eq!(Full::decode(&body[..body.len() - 1]).unwrap().sections_held, 1);
    let mut other = body.clone();
    other[9] = 0x80;
    assert_eq!(Full::decode(&other), Err(Error::NoForm("Full.form")));

    // Zigzag: -1 is 1, 64 is 128, which takes two bytes.
    for (big, bytes) in [(0, &[0][..]), (-1, &[1]), (63, &[0x7e]), (64, &[0x80, 1]), (-524_288, &[0xff, 0xff, 0x3f])] {
        let mut out = [0; 8];
        let small = Small { big, ..Default::default() };
        assert_eq!(small.encode(&mut out).map(|count| &out[..count]), Ok(bytes));
        assert_eq!(Small::decode(bytes), Ok(small));
    }
    assert!(Small { big: 524_288, ..Default::default() }.encode(&mut [0; 8]).is_err());
    assert_eq!(Small::decode(&[0xff, 0xff, 0x7f]), Err(Error::BadNumber));
    assert_eq!(Error::BadNumber.number(), 5);

    // Frames: each byte of one is looked at.
    let wire = line(2, 7, &[1]);
    assert_eq!((&wire[..6], wire.len()), (&[0xa5, 0x5a, 2, 7, 1, 1][..], 8));
    for (at, error) in [
        (0, Error::BadValue),
        (2, Error::BadChecksum),
        (4, Error::BadLength),
        (5, Error::BadChecksum),
        (7, Error::BadChecksum),
    ] {
        let mut other = wire.clone();
        other[at] ^= 1;
        assert_eq!(open_line(&other), Err(error));
    }
    assert_eq!(open_line(&wire[..5]), Err(Error::BadLength));
    assert_eq!(build_line(&LineFrame { kind: 2, count: 0, body: &[0; 2000] }, &mut [0; 4096]), Err(Error::BadLength));

    // A receiver: noise, a frame inside of a broken one, one of no message, one that cannot be read, half a one.
    let mut receiver = LineReceiver::new();
    let stream = [b"no", &[0xa5, 0x5a, 1, 0, 8][..], &wire, &line(9, 0, b"x"), &line(1, 0, b"x"), &wire[..6]].concat();
    let mut found = Vec::new();
    for byte in stream.chunks(1) {
        let mut data = byte;
        while let Some(one) = receiver.next(&mut data) {
            found.push((one.frame.count, one.message));
        }
    }
    let small = LineMessage::Small(Small { big: -1, ..Default::default() });
    assert_eq!(found, [(7, Ok(small)), (0, Err(Error::UnknownMessage)), (0, Err(Error::Truncated))]);
    assert!(receiver.gap().is_none());
    let of = receiver.counters;
    assert_eq!((of.good_bytes, of.unread_bytes, of.skipped_bytes), (8, 16, 2 + 5 + 6));

    // Silence ends a frame.
    let mut quiet = QuietReceiver::new();
    let mut out = [0; 16];
    let count = build_quiet(&QuietFrame { kind: 2, body: &[0x7e] }, &mut out).unwrap();
    assert_eq!(out[..count], [0x02, 0x7e, 0x80]);
    assert!(quiet.next(&mut &out[..count]).is_none());
    assert_eq!(quiet.gap().unwrap().message, Ok(QuietMessage::Small(Small { big: 63, ..Default::default() })));
    assert!(quiet.next(&mut &out[..2]).is_none() && quiet.gap().is_none());
    assert_eq!(quiet.counters.skipped_bytes, 2);
    println!("done");
}
"#;

/// Writes the code and a program on it, runs that, and returns what it says.
fn said(
    files: &[GeneratedFile],
    (name, text): (&str, &str),
    run: impl Fn(&std::path::Path) -> std::process::Output,
) -> String {
    let folder = tempfile::tempdir().unwrap();
    common::write(folder.path(), files);
    std::fs::write(folder.path().join(name), text).unwrap();
    let ran = run(folder.path());
    common::said(&ran)
}

#[test]
fn what_was_worked_out_by_hand_holds_in_python() {
    let Some(program) = python() else { return };
    let run = |folder: &std::path::Path| {
        std::process::Command::new(program).current_dir(folder).arg("main.py").output().unwrap()
    };
    assert_eq!(said(&python::generate(&plan(DEFINITION), &[]).unwrap(), ("main.py", IN_PYTHON), run), "done\n");
}

#[test]
fn what_was_worked_out_by_hand_holds_in_javascript() {
    let Some(program) = node() else { return };
    let run = |folder: &std::path::Path| {
        std::process::Command::new(program).current_dir(folder).arg("main.js").output().unwrap()
    };
    assert_eq!(said(&javascript::generate(&plan(DEFINITION), &[]).unwrap(), ("main.js", IN_JAVASCRIPT), run), "done\n");
}

#[test]
fn what_was_worked_out_by_hand_holds_in_rust() {
    let run = |folder: &std::path::Path| {
        let arguments = ["--edition", "2021", "-D", "warnings", "main.rs"];
        let compiled = std::process::Command::new(rustc()).current_dir(folder).args(arguments).output().unwrap();
        assert!(compiled.status.success(), "{}", String::from_utf8_lossy(&compiled.stderr));
        std::process::Command::new(folder.join("main")).output().unwrap()
    };
    assert_eq!(said(&rust::generate(&plan(DEFINITION), &[]).unwrap(), ("main.rs", IN_RUST), run), "done\n");
}
