//! Every kind of change: its verdict for each pair of ends, as docs/kinds-of-change.md has it, and the way out, applied.
//!
//! `EMBERWORT_TABLE=1 cargo test -p emberwort-evolution kinds::` prints the table anew.

use emberwort_evolution::{DifferenceKind, Pair, Verdict, compare, ways_out, with_ways_out};

use crate::common::revision;

const LOCK: &str = include_str!("../lock.ember");
const PAGE: &str = include_str!("../../../../docs/kinds-of-change.md");

/// A change in words, and what is written in place of what.
struct Edit(&'static str, &'static [(&'static str, &'static str)]);

const MOVED: &str =
    "message Moved {\n    id    0x41\n    from  device\n    on    bus485\n\n    target  : 0 .. 100 % step 0.5\n}";
const HOUSE: &str = "message Moved {\n    id    0x41\n    from  device\n    on    bus485, house\n\n    target  : 0 .. 100 % step 0.5\n}\n\
    channel house { medium udp 4850\n packet\n frame { kind : u8 message\n body } }";
const PLACE: &str = "    upstream    : u8 m\n    downstream  : u8 m\n";
const HEAD: &str = "        node   : u8   address\n        kind   : u8   message\n        count  : u8   sequence\n";

const EDITS: &[Edit] = &[
    Edit(
        "a field added in a section of its own",
        &[("= 12.0\n    }\n", "= 12.0\n    }\n    added in 4 {\n        more : u8\n    }\n")],
    ),
    Edit("a field inserted", &[("    opening    : 0", "    gate : u8\n    opening    : 0")]),
    Edit("a field appended to a released section", &[("= 12.0\n    }\n", "= 12.0\n    more : u8\n    }\n")]),
    Edit("a field put into spare space", &[("    spare 3 bytes\n", "    hot : bool at 5.0\n    spare 2 bytes\n")]),
    Edit(
        "the same with a default of 0",
        &[("    spare 3 bytes\n", "    hot : bool = false at 5.0\n    spare 2 bytes\n")],
    ),
    Edit("a field removed", &[("    valve      : u4\n", "")]),
    Edit("a field retired", &[("i8 degC\n    faults", "i8 degC retired\n    faults")]),
    Edit(
        "fields reordered",
        &[("    pump_temp  : i8 degC\n    faults     : Faults\n", "    faults : Faults\n    pump_temp : i8 degC\n")],
    ),
    Edit("a field at another explicit place", &[("at 4.0\n    spare 3", "at 5.0\n    spare 2")]),
    Edit("spare space made wider", &[("    spare 4 bits\n", "    spare 12 bits\n")]),
    Edit("a field retyped", &[("i8 degC\n    faults", "u8 degC\n    faults")]),
    Edit("a number widened", &[("bar in 12 bits", "bar in 16 bits")]),
    Edit("a number narrowed", &[("bar in 12 bits", "bar in 10 bits")]),
    Edit("a range widened, same codes", &[("0 .. 12 m step 0.05", "0 .. 12.5 m step 0.05")]),
    Edit("a range narrowed, same codes", &[("0 .. 12 m step 0.05", "0 .. 11 m step 0.05")]),
    Edit("another step", &[("0 .. 12 m step 0.05", "0 .. 24 m step 0.1")]),
    Edit("another range in the same bits", &[("0 .. 250 bar", "0 .. 400 bar")]),
    Edit("another offset", &[("0 .. 12 m step 0.05", "1 .. 13 m step 0.05")]),
    Edit("another unit", &[("0 .. 250 bar", "0 .. 250 psi")]),
    Edit("a unit where there was none", &[("    valve      : u4\n", "    valve      : u4 mm\n")]),
    Edit("`or none` added", &[("bar in 12 bits", "bar in 12 bits or none")]),
    Edit("`or none` removed", &[("m step 0.05 or none", "m step 0.05")]),
    Edit("another byte order of a field", &[("total    : u16", "total    : u16 be")]),
    Edit("`optional` added", &[("i8 degC\n    faults", "i8 degC optional\n    faults")]),
    Edit("`optional` removed", &[("u8 optional", "u8")]),
    Edit("another default", &[("= 12.0", "= 13.0")]),
    Edit("a longer text", &[("text[..12]", "text[..20]")]),
    Edit("a shorter text", &[("text[..12]", "text[..8]")]),
    Edit("a longer list", &[("[..4] Stroke", "[..6] Stroke")]),
    Edit("a field renamed", &[("    oil        :", "    oil_pressure :")]),
    Edit("a label added", &[("    2 open\n", "    2 open\n    3 held\n")]),
    Edit("a label removed", &[("    2 open\n", "")]),
    Edit("labels renumbered", &[("    1 opening\n    2 open\n", "    2 opening\n    1 open\n")]),
    Edit("a label renamed", &[("    2 open\n", "    2 wide_open\n")]),
    Edit("an enum widened", &[("GateState : u3", "GateState : u4")]),
    Edit("a flag added", &[("    1 oil_hot\n", "    1 oil_hot\n    2 latch_stuck\n")]),
    Edit("a flag removed", &[("    1 oil_hot\n", "")]),
    Edit("flags renumbered", &[("    0 overpressure\n    1 oil_hot\n", "    1 overpressure\n    0 oil_hot\n")]),
    Edit("a field added to a growing record", &[("u8 kN\n}", "u8 kN\n    added in 4 {\n        hot : bool\n    }\n}")]),
    Edit("a field inserted into a growing record", &[("    force   : u8 kN\n", "    hot : u8\n    force   : u8 kN\n")]),
    Edit(
        "a field inserted into another record",
        &[(PLACE, "    upstream    : u8 m\n    middle : u8 m\n    downstream  : u8 m\n")],
    ),
    Edit("fields of a record reordered", &[(PLACE, "    downstream  : u8 m\n    upstream    : u8 m\n")]),
    Edit(
        "a record made growing",
        &[("record Place {", "record Place growing {"), ("place      : Place", "place      : [1] Place")],
    ),
    Edit("an entry added to a table", &[("u12 mm read\n", "u12 mm read\n    0x12 more : u8 read\n")]),
    Edit("an entry removed", &[("    0x11 hold_level  : u12 mm read\n", "")]),
    Edit("an entry under another key", &[("0x11 hold_level", "0x12 hold_level")]),
    Edit("an entry of another form", &[("u12 mm read", "u16 mm read")]),
    Edit("an entry renamed", &[("hold_level", "held_level")]),
    Edit("another access to an entry", &[("u12 mm read", "u12 mm read write")]),
    Edit(
        "a message added",
        &[(
            MOVED,
            "message Moved {\n    id 0x41\n    from device\n    on bus485\n    target : 0 .. 100 % step 0.5\n}\nmessage Bell {\n    id 0x70\n    from host\n    on bus485\n    on_off : bool\n    spare 7 bits\n}",
        )],
    ),
    Edit(
        "a message removed",
        &[(
            "message Strokes {\n    id    0x61\n    from  device\n    on    bus485\n\n    total    : u16\n    strokes  : [..4] Stroke\n}\n",
            "",
        )],
    ),
    Edit("a message renamed", &[("GateStatus", "StateOfGate")]),
    Edit("another message id", &[("id    0x21", "id    0x23")]),
    Edit(
        "a message id reused",
        &[
            (MOVED, "message Stopped {\n    id    0x41\n    from  device\n    on    bus485\n\n    why  : u8\n}"),
            ("by Moved", "by Stopped"),
        ],
    ),
    Edit("another CAN identifier", &[("can_id 0x1A4", "can_id 0x1A5")]),
    Edit("a message sent by the other end", &[("id    0x61\n    from  device", "id    0x61\n    from  host")]),
    Edit("a message on one more channel", &[(MOVED, HOUSE)]),
    Edit("a message taken off a channel", &[("    on    power can_id 0x1A4", "    id    0x33\n    on    bus485")]),
    Edit("another text pattern", &[("\"V{valve}:{position}\"", "\"V{valve}={position}\"")]),
    Edit("fields of a text pattern swapped", &[("\"V{valve}:{position}\"", "\"V{position}:{valve}\"")]),
    Edit("a longer period", &[("every 200 ms", "every 500 ms")]),
    Edit("a shorter period", &[("every 200 ms", "every 100 ms")]),
    Edit("answers due sooner", &[("within 50 ms", "within 20 ms")]),
    Edit("answers due later", &[("within 50 ms", "within 80 ms")]),
    Edit("other sync bytes", &[("sync   C6 39", "sync   C6 3A")]),
    Edit("a frame part removed", &[("        count  : u8   sequence\n", "")]),
    Edit(
        "frame parts reordered",
        &[(HEAD, "        count  : u8   sequence\n        kind   : u8   message\n        node   : u8   address\n")],
    ),
    Edit("another checksum", &[("crc-16/ibm-3740", "crc-16/arc")]),
    Edit("other bytes under the checksum", &[("over node..body", "over kind..body")]),
    Edit(
        "stuffing added",
        &[("    limit   128 bytes", "    stuffing cobs\n    limit   140 bytes"), ("        sync   C6 39\n", "")],
    ),
    Edit(
        "another byte order",
        &[("byte_order  little", "byte_order  big"), ("at 0.0", "at 0.7"), ("at 2.0", "at 2.7"), ("at 4.0", "at 4.7")],
    ),
    Edit("a higher limit", &[("limit   128", "limit   200")]),
    Edit("a lower limit, with shorter messages", &[("limit   128", "limit   29"), ("text[..12]", "text[..8]")]),
    Edit("another baud rate", &[("115200", "57600")]),
    Edit("another CAN bit rate", &[("can 250", "can 500")]),
    Edit("node numbers in the id", &[("can_id 0x1A4", "can_id 0x1A0 + node 4 .. 7")]),
    Edit(
        "a channel added",
        &[("channel power {", "channel spare_bus { medium uart 9600 8N1\n lines lf\n }\nchannel power {")],
    ),
    Edit(
        "a channel removed",
        &[
            ("channel console {\n    medium  uart 9600 8N1\n    lines   lf\n}\n", ""),
            ("    on    console\n    line  \"V{valve}:{position}\"", "    id    0x34\n    on    bus485"),
        ],
    ),
    Edit("a channel renamed", &[("bus485", "bus")]),
    Edit("the link renamed", &[("link lock {", "link lock_east {")]),
    Edit(
        "items moved, comments changed, another style",
        &[
            ("## Where a gate stands.", "## Where it stands.\n"),
            ("record Place {\n    upstream    : u8 m\n    downstream  : u8 m\n}\n", ""),
            ("message Strokes", "record Place { upstream : u8 m\n downstream : u8 m\n}\nmessage Strokes"),
        ],
    ),
];

/// The text after an edit, as revision 4.
fn edited(Edit(what, changes): &Edit) -> String {
    let mut text = LOCK.replace("revision    3", "revision    4");
    for (from, to) in *changes {
        assert!(text.contains(from), "{what}: nothing to replace: {from}");
        text = text.replace(from, to);
    }
    text
}

/// The verdicts of an edit, and whether it needs a way out.
fn verdicts(edit: &Edit) -> ([Verdict; 4], Vec<DifferenceKind>, String) {
    let (old, new) = (revision("old", LOCK), revision("new", &edited(edit)));
    let comparison = compare(&old, &new);
    let worst = Pair::ALL.map(|pair| comparison.worst(pair));
    let kinds = comparison.changes.iter().map(|change| change.difference.kind).collect();
    let ways = ways_out(&old, &new, &comparison);
    for (index, change) in comparison.changes.iter().enumerate().filter(|(_, change)| change.worst().strands()) {
        assert!(ways.iter().any(|way| way.changes.contains(&index)), "{}: no way out of {}", edit.0, change.difference);
    }
    if !ways.is_empty() {
        // With all ways out applied nobody is stranded.
        let mended = revision("mended", &with_ways_out(&new, &ways));
        let after = compare(&old, &mended);
        for change in &after.changes {
            assert!(!change.worst().strands(), "{}: {} is left of\n{}", edit.0, change.difference, mended.text);
        }
    }
    let way = ways.iter().map(|way| way.sentence.clone()).collect::<Vec<_>>().join("; then ");
    (worst, kinds, way)
}

#[test]
fn every_kind_of_change_has_the_verdicts_of_the_page_and_a_way_out() {
    let mut table = String::from(
        "| change | old device → new host | new device → old host | old host → new device | new host → old device | instead |\n|---|---|---|---|---|---|\n",
    );
    let mut seen: Vec<DifferenceKind> = Vec::new();
    for edit in EDITS {
        let (worst, kinds, way) = verdicts(edit);
        let cells = worst.map(Verdict::as_str).join(" | ");
        table += &format!("| {} | {cells} | {} |\n", edit.0, way.replace('|', "\\|"));
        seen.extend(kinds);
    }
    if std::env::var_os("EMBERWORT_TABLE").is_some() {
        println!("{table}");
        return;
    }
    assert!(PAGE.contains(&table), "docs/kinds-of-change.md should have this table:\n{table}");
    let missing: Vec<_> = DifferenceKind::ALL.iter().filter(|kind| !seen.contains(kind)).collect();
    // A union by a field and what selects messages have tests of their own.
    assert_eq!(missing, [&DifferenceKind::Selection, &DifferenceKind::Forms]);
}
