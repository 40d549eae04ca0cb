//! Channels whose two ends send different frames: every command asks the direction of the end that sends, not the device's.

use std::fs;

use crate::common::{self, run, stats, succeed};

/// The device's frames have no checksum and one sync byte; the host's have more of both.
const LINK: &str = "link l {
    revision   1
    byte_order little
}

channel bus {
    medium uart 9600 8N1
    frame from device {
        sync C6
        kind : u8 message
        size : u8 length of body
        body
    }
    frame from host {
        sync A5 5A
        kind  : u8 message
        size  : u8 length of body
        body
        check : u16 crc-16/ibm-3740 over kind..body
    }
}

message Level {
    id   1
    from device every 1 s
    on   bus
    depth : u8
}

message Move {
    id   1
    from host
    on   bus
    to : u16
}
";

#[test]
fn layout_and_budget_weigh_the_frames_of_the_end_that_sends() {
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("l.ember"), LINK).unwrap();
    let layout = |message: &str| succeed(folder.path(), &["layout", "--link", "l.ember", message]);
    // Sync 2, kind, size, body 2, check 2; and sync 1, kind, size, body 1.
    assert!(layout("Move").contains("body 2 bytes; frame on bus 8 of 256 bytes"), "{}", layout("Move"));
    assert!(layout("Level").contains("body 1 byte; frame on bus 4 of 256 bytes"), "{}", layout("Level"));
    let budget = succeed(folder.path(), &["budget", "--link", "l.ember", "bus", "--as", "ndjson"]);
    let frame = |name: &str| {
        let line = budget.lines().find(|line| line.contains(&format!("\"{name}\""))).unwrap();
        let row: serde_json::Value = serde_json::from_str(line).unwrap();
        (row["frame"]["around"].as_u64(), row["frame"]["greatest"].as_u64())
    };
    assert_eq!((frame("Move"), frame("Level")), ((Some(6), Some(8)), (Some(3), Some(4))), "{budget}");
    let strength = succeed(folder.path(), &["checksum", "strength", "--link", "l.ember", "--on", "bus"]);
    assert!(strength.contains("of the longest frame from the host on `bus`, 8 bytes"), "{strength}");
}

#[test]
fn frames_of_both_ends_go_there_and_back() {
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("l.ember"), LINK).unwrap();
    let encode = |words: &[&str]| {
        succeed(folder.path(), &[&["encode", "--link", "l.ember", "--on", "bus"], words].concat()).trim().to_owned()
    };
    // CRC-16/IBM-3740 of 01 02 05 00: computed bit by bit below.
    let crc = [1u8, 2, 5, 0].iter().fold(0xFFFFu16, |crc, byte| {
        (0..8).fold(crc ^ u16::from(*byte) << 8, |crc, _| if crc >> 15 == 1 { crc << 1 ^ 0x1021 } else { crc << 1 })
    });
    assert_eq!(encode(&["Move", "to=5"]), format!("A5 5A 01 02 05 00 {:02X} {:02X}", crc & 0xFF, crc >> 8));
    assert_eq!(encode(&["Level", "depth=7"]), "C6 01 01 07");
    fs::write(folder.path().join("host.hex"), encode(&["Move", "to=5"])).unwrap();
    fs::write(
        folder.path().join("both.hex"),
        format!("{}\n{}\n", encode(&["Level", "depth=7"]), encode(&["Move", "to=5"])),
    )
    .unwrap();
    let rows =
        |words: &[&str]| succeed(folder.path(), &[&["decode", "--link", "l.ember", "--as", "ndjson"], words].concat());
    assert!(rows(&["--on", "bus", "--from", "host", "host.hex"]).contains("\"message\":\"Move\""));
    let both = rows(&["--on", "bus", "both.hex"]);
    assert!(both.contains("\"message\":\"Level\"") && both.contains("\"message\":\"Move\""), "{both}");
    let counts = stats(folder.path(), &["--link", "l.ember", "--on", "bus", "both.hex"]);
    assert_eq!(counts["frames"]["good"], 2, "{counts}");
}

#[test]
fn a_change_of_the_hosts_frames_alone_is_seen() {
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("new.ember"), LINK.replace("revision   1", "revision   2")).unwrap();
    let old = LINK.replace(
        "        kind  : u8 message\n        size  : u8 length of body\n",
        "        size  : u8 length of body\n",
    );
    let old =
        old.replace("over kind..body", "over size..body").replace("message Move {\n    id   1\n", "message Move {\n");
    fs::write(folder.path().join("old.ember"), old).unwrap();
    let ran = run(folder.path(), &["compare", "old.ember", "new.ember"]);
    assert!(ran.out.contains("bus: selection"), "what selects the host's messages changed: {}{}", ran.out, ran.err);
    assert!(ran.out.contains("bus: framing"), "{}", ran.out);
}

/// Ports of messages that only the host sends are known, too.
#[test]
fn packets_are_assigned_by_the_keys_of_both_ends() {
    let folder = tempfile::tempdir().unwrap();
    let link = "link p {
    revision   1
    byte_order little
}

channel net {
    medium udp 4000
    packet
    select by port
    frame from device {
        count : u8 sequence
        body
    }
    frame from host {
        body
    }
}

message Level {
    from device every 1 s
    on   net port 4001
    depth : u8
}

message Move {
    from host
    on   net port 4002
    to : u16
}
";
    fs::write(folder.path().join("p.ember"), link).unwrap();
    let trial = "channel = \"net\"\nspan = \"3 s\"\n[[device]]\nnode = 0\n[[request]]\nat = \"1 s\"\nnode = 0\nmessage = \"Move\"\nfields = { to = 5 }\n";
    fs::write(folder.path().join("t.toml"), trial).unwrap();
    succeed(folder.path(), &["trial", "--link", "p.ember", "t.toml", "--record", "t.pcapng"]);
    let rows = succeed(folder.path(), &["decode", "--link", "p.ember", "--as", "ndjson", "t.pcapng"]);
    let of = |name: &str| rows.lines().filter(|row| row.contains(&format!("\"message\":\"{name}\""))).count();
    assert_eq!((of("Move"), of("Level") >= 2), (1, true), "{rows}");
}

/// On SPI each end has a wire of its own: messages of one size are told apart by the end that sends them.
#[test]
fn messages_of_one_size_are_told_apart_by_their_wire() {
    let folder = tempfile::tempdir().unwrap();
    let text = "link chip {\n revision 1\n byte_order big\n}\n\
        channel bus {\n medium spi 2 MHz\n packet\n select by size\n}\n\
        message Ask {\n id 1\n from host\n on bus\n register : u8\n fill : u8\n}\n\
        message Say {\n id 1\n from device\n on bus\n status : u8\n value : u8\n}\n";
    std::fs::write(folder.path().join("chip.ember"), text.replace(" id 1\n", "")).unwrap();
    for (from, row) in [("host", "Ask      register=1  fill=2"), ("device", "Say      status=1  value=2")] {
        let out = common::succeed(folder.path(), &["decode", "--on", "bus", "--from", from, "--hex", "01 02"]);
        assert!(out.contains(row), "{out}");
    }
    // Nobody knows whose bytes another medium carries.
    std::fs::write(folder.path().join("chip.ember"), text.replace(" id 1\n", "").replace("spi 2 MHz", "udp 4000"))
        .unwrap();
    assert!(common::run(folder.path(), &["check"]).out.contains("E307"));
}

#[test]
fn both_readings_of_what_either_end_can_have_sent_are_named() {
    let folder = tempfile::tempdir().unwrap();
    let frame = |from: &str| {
        format!(
            "    frame from {from} {{\n        sync C6\n        kind : u8 message\n        size : u8 length of body\n        body\n    }}\n"
        )
    };
    let (before, rest) = LINK.split_once("    frame from device {").unwrap();
    let messages = rest.split_once("\n}\n").unwrap().1.replace("to : u16", "to : u8");
    let text = format!("{before}{}{}}}\n{messages}", frame("device"), frame("host"));
    fs::write(folder.path().join("l.ember"), text).unwrap();
    // Sync, kind 1, one byte: a depth of 7, or a move to 7.
    let words = ["decode", "--link", "l.ember", "--on", "bus", "--hex", "C6 01 01 07"];
    let said = run(folder.path(), &words);
    assert_eq!(said.code, 1, "{}{}", said.out, said.err);
    assert!(
        said.err.contains("either end can have sent 1 frame") && said.err.contains("Level (device) or Move (host)"),
        "{}",
        said.err
    );
    for (from, message, field) in [("device", "Level", "depth=7"), ("host", "Move", "to=7")] {
        let said = succeed(folder.path(), &[&words[..], &["--from", from]].concat());
        assert!(said.contains(message) && said.contains(field), "{from}: {said}");
    }
}
