//! Generated Python on bytes and errors that were worked out by hand: what is refused, what is assumed, and what a receiver does with halves of
//! frames.

mod common;

use common::python;
use emberwort_codegen::python as target;
use emberwort_model::{Source, check};

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

const PROGRAM: &str = r#"
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

#[test]
fn what_was_worked_out_by_hand_holds() {
    let Some(python) = python() else { return };
    let checked = check(&Source::new("hand.ember", DEFINITION));
    let plan = checked.plan.unwrap_or_else(|| panic!("{:#?}", checked.findings));
    let folder = tempfile::tempdir().unwrap();
    common::write(folder.path(), &target::generate(&plan, &[]).unwrap());
    std::fs::write(folder.path().join("main.py"), PROGRAM).unwrap();
    let ran = std::process::Command::new(python).current_dir(folder.path()).arg("main.py").output().unwrap();
    let said = String::from_utf8_lossy(&ran.stdout).into_owned() + &String::from_utf8_lossy(&ran.stderr);
    assert_eq!(said, "done\n");
}
