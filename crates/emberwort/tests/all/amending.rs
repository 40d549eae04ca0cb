//! `amend`: only the named change differs, every checksum holds by another computation, and the capture itself stays as it is.

use std::path::Path;

use serde_json::Value as Json;
use sha2::{Digest, Sha256};

use crate::common::{self, gate_status, project, project_with_recording, run, run_with_input, succeed};

const NIGHT: &str = "stormy-night.pcapng";

fn rows(folder: &Path, words: &[&str]) -> Vec<Json> {
    let words = [&["decode", "--as", "ndjson"][..], words].concat();
    run(folder, &words).out.lines().map(|line| serde_json::from_str(line).unwrap()).collect()
}

fn digest(path: &Path) -> Vec<u8> {
    Sha256::digest(std::fs::read(path).unwrap()).to_vec()
}

/// CRC-16/IBM-3740, bit by bit.
fn crc16(bytes: &[u8]) -> u16 {
    bytes.iter().fold(0xFFFF, |sum, byte| {
        (0..8).fold(sum ^ u16::from(*byte) << 8, |sum, _| if sum & 0x8000 != 0 { sum << 1 ^ 0x1021 } else { sum << 1 })
    })
}

fn bytes_of(text: &str) -> Vec<u8> {
    let digits: Vec<u8> = text.chars().filter_map(|c| c.to_digit(16)).map(|digit| digit as u8).collect();
    digits.chunks(2).map(|pair| pair[0] << 4 | pair[1]).collect()
}

#[test]
fn a_value_is_set_and_nothing_else() {
    let folder = project_with_recording();
    let before = digest(&folder.path().join(NIGHT));
    let words = [
        "amend",
        NIGHT,
        "--out",
        "new.pcapng",
        "--frame",
        "1070",
        "--set",
        "oil=100.0",
        "--set",
        "state=open",
        "--as",
        "ndjson",
    ];
    let change: Json = serde_json::from_str(&succeed(folder.path(), &words)).unwrap();
    assert_eq!(digest(&folder.path().join(NIGHT)), before, "never in place");
    let (old, new) = (rows(folder.path(), &[NIGHT]), rows(folder.path(), &["new.pcapng"]));
    assert_eq!(old.len(), new.len());
    let differing: Vec<(&Json, &Json)> = old.iter().zip(&new).filter(|(old, new)| old != new).collect();
    let [(was, is)] = differing[..] else { panic!("{} rows differ", differing.len()) };
    assert_eq!(was["frame"], 1070);
    let mut expected = was.clone();
    expected["fields"]["state"] = "open".into();
    expected["fields"]["oil"] = is["fields"]["oil"].clone();
    assert!((is["fields"]["oil"].as_f64().unwrap() - 100.0).abs() < 0.04);
    assert_eq!(*is, expected);
    // The checksum by another computation.
    let after = bytes_of(change["after"].as_str().unwrap());
    let (covered, sum) = (&after[2..after.len() - 2], &after[after.len() - 2..]);
    assert_eq!(crc16(covered), u16::from_le_bytes([sum[0], sum[1]]));
    let sum = &change["checksums"][0];
    assert_eq!((&sum["of"], &sum["written"]), (&"check".into(), &sum["expected"]));
    assert_ne!(sum["found"], sum["expected"]);
    // The same again does not overwrite.
    let again = run(folder.path(), &words);
    assert!(again.code == 2 && again.err.contains("new.pcapng exists already"), "{}", again.err);
}

#[test]
fn kept_checksums_make_frames_broken() {
    let folder = project_with_recording();
    let words = ["amend", NIGHT, "--out", "bad.pcapng", "--frame", "1070", "--set", "oil=100", "--keep-checksums"];
    let said = succeed(folder.path(), &words);
    assert!(said.contains("left as it was, and now wrong"), "{said}");
    let broken: Vec<Json> =
        rows(folder.path(), &["bad.pcapng"]).into_iter().filter(|row| row["frame"] == 1070).collect();
    assert_eq!(broken[0]["broken"], "checksum");
    // A patch corrects the checksum, or leaves it.
    let patch = |out: &str, more: &[&str]| {
        let words = [&["amend", NIGHT, "--out", out, "--frame", "1070", "--patch", "7=AA"][..], more].concat();
        succeed(folder.path(), &words);
        rows(folder.path(), &[out]).into_iter().find(|row| row["frame"] == 1070).unwrap()
    };
    assert_eq!(patch("patched.pcapng", &[])["fields"]["state"], "open");
    assert_eq!(patch("torn.pcapng", &["--keep-checksums"])["broken"], "checksum");
}

#[test]
fn frames_are_left_out_sent_twice_later_and_in_another_order() {
    let folder = project_with_recording();
    let old = rows(folder.path(), &[NIGHT]);
    let amended = |name: &str, more: &[&str]| {
        succeed(folder.path(), &[&["amend", NIGHT, "--out", name][..], more].concat());
        rows(folder.path(), &[name])
    };
    let without = |row: &Json| {
        let mut row = row.clone();
        row.as_object_mut().unwrap().remove("frame");
        row
    };
    let plain = |rows: &[Json]| rows.iter().map(without).collect::<Vec<_>>();
    let is_alarm = |row: &&Json| row["message"] == "Alarm";
    let expected: Vec<Json> = old.iter().filter(|row| !is_alarm(row)).map(without).collect();
    assert_eq!(plain(&amended("dropped.pcapng", &["--message", "Alarm", "--drop"])), expected);
    let twice = amended("twice.pcapng", &["--where", "message == Alarm", "--twice"]);
    assert_eq!(twice.iter().filter(is_alarm).count(), 2 * old.iter().filter(is_alarm).count());
    assert_eq!(twice.len(), old.len() + 1);
    let later = amended("later.pcapng", &["--message", "Alarm", "--delay", "-1.5ms"]);
    let time = |rows: &[Json]| -> jiff::Timestamp {
        rows.iter().find(is_alarm).unwrap()["time"].as_str().unwrap().parse().unwrap()
    };
    assert_eq!(time(&old).as_nanosecond() - time(&later).as_nanosecond(), 1_500_000);
    // The sequence numbers of the stream go backwards once.
    let swapped = amended("swapped.pcapng", &["--message", "Alarm", "--reorder"]);
    let at = old.iter().position(|row| row["message"] == "Alarm").unwrap();
    let next = swapped.iter().position(|row| row["message"] == "Alarm").unwrap();
    assert!(next > at, "{at} {next}");
    assert_eq!(swapped.len(), old.len());
    let kept = amended("kept.pcapng", &["--keep", "node == 3 and message == GateStatus"]);
    let expected: Vec<Json> =
        old.iter().filter(|row| row["node"] == 3 && row["message"] == "GateStatus").map(without).collect();
    let fields =
        |rows: &[Json]| rows.iter().map(|row| (row["time"].clone(), row["fields"].clone())).collect::<Vec<_>>();
    assert_eq!(fields(&kept), fields(&expected));
    let part = amended("part.pcapng", &["--span", "30s..40s"]);
    let expected = old.iter().filter(|row| {
        let time: jiff::Timestamp = row["time"].as_str().unwrap().parse().unwrap();
        let start: jiff::Timestamp = old[0]["time"].as_str().unwrap().parse().unwrap();
        (30_000_000_000..=40_000_000_000).contains(&(time.as_nanosecond() - start.as_nanosecond()))
    });
    assert_eq!(fields(&part), fields(&expected.cloned().collect::<Vec<_>>()));
}

/// The complemented sum of RFC 1071.
fn ones_complement(bytes: &[u8]) -> u16 {
    let mut sum: u32 =
        bytes.chunks(2).map(|pair| u32::from(pair[0]) << 8 | u32::from(*pair.get(1).unwrap_or(&0))).sum();
    while sum >> 16 != 0 {
        sum = (sum & 0xFFFF) + (sum >> 16);
    }
    !(sum as u16)
}

#[test]
fn the_layers_of_a_network_follow() {
    let folder = project();
    let status = "{\"message\":\"GateStatus\",\"node\":3,\"sequence\":7,\"fields\":{\"state\":\"open\",\"opening\":40,\"upstream\":3,\"oil\":20,\
                  \"pump_temp\":30,\"faults\":[],\"operator\":\"Wren\",\"battery\":12.0,\"latch_force\":1.5,\"moving\":false}}\n";
    let hex = run_with_input(folder.path(), &["encode", "--values", "-", "--on", "house"], status.as_bytes()).out;
    let frame: Vec<u8> = bytes_of(hex.trim());
    // Ethernet, IPv4 and UDP by hand.
    let udp_length = (8 + frame.len()) as u16;
    let mut udp = [&[0x12, 0xF2, 0x12, 0xF2][..], &udp_length.to_be_bytes(), &[0, 0], &frame].concat();
    let (source, destination) = ([192u8, 0, 2, 10], [192u8, 0, 2, 1]);
    let pseudo = |udp: &[u8]| [&source[..], &destination, &[0, 17], &(udp.len() as u16).to_be_bytes(), udp].concat();
    let sum = ones_complement(&pseudo(&udp));
    udp[6..8].copy_from_slice(&sum.to_be_bytes());
    let mut ip =
        [&[0x45, 0][..], &(20 + udp.len() as u16).to_be_bytes(), &[0, 1, 0, 0, 64, 17, 0, 0], &source, &destination]
            .concat();
    let sum = ones_complement(&ip);
    ip[10..12].copy_from_slice(&sum.to_be_bytes());
    let packet = [&[2u8, 0, 0, 0, 0, 1, 2, 0, 0, 0, 0, 2, 8, 0][..], &ip, &udp].concat();
    let mut file = vec![0xD4, 0xC3, 0xB2, 0xA1, 2, 0, 4, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0xFF, 0xFF, 0, 0, 1, 0, 0, 0];
    file.extend([1, 0, 0, 0, 2, 0, 0, 0]);
    file.extend((packet.len() as u32).to_le_bytes());
    file.extend((packet.len() as u32).to_le_bytes());
    file.extend(&packet);
    std::fs::write(folder.path().join("net.pcap"), &file).unwrap();
    let verify = |name: &str| {
        let file = std::fs::read(folder.path().join(name)).unwrap();
        let ip = &file[24 + 16 + 14..];
        let length = usize::from(u16::from_be_bytes([ip[2], ip[3]]));
        assert_eq!(length, ip.len(), "{name}");
        assert_eq!(usize::from(u16::from_be_bytes([ip[24], ip[25]])), ip.len() - 20, "{name}");
        let (header, udp) = ip.split_at(20);
        let pseudo = [&header[12..20], &[0, 17], &(udp.len() as u16).to_be_bytes(), udp].concat();
        (ones_complement(header), ones_complement(&pseudo), ip.to_vec())
    };
    assert_eq!((verify("net.pcap").0, verify("net.pcap").1), (0, 0));
    let said = succeed(
        folder.path(),
        &["amend", "net.pcap", "--out", "new.pcap", "--frame", "1", "--set", "operator=Goldfinch"],
    );
    assert!(said.contains("UDP") && said.contains("IPv4 header"), "{said}");
    let (header, datagram, ip) = verify("new.pcap");
    assert_eq!((header, datagram, ip.len()), (0, 0, packet.len() - 14 + 5));
    assert_eq!(rows(folder.path(), &["new.pcap"])[0]["fields"]["operator"], "Goldfinch");
    // Of another value of the same size the IP header says nothing: its checksum is told, and stays.
    let words = ["amend", "net.pcap", "--out", "kite.pcap", "--frame", "1", "--set", "operator=Kite", "--as", "ndjson"];
    let change: Json = serde_json::from_str(&succeed(folder.path(), &words)).unwrap();
    let sum = |name: &str| {
        let all = change["checksums"].as_array().unwrap();
        let sum = all.iter().find(|sum| sum["of"] == name).unwrap_or_else(|| panic!("{name}: {change}"));
        sum["found"] == sum["written"]
    };
    assert_eq!((sum("IPv4 header"), sum("UDP")), (true, false), "{change}");
    succeed(
        folder.path(),
        &["amend", "net.pcap", "--out", "kept.pcap", "--frame", "1", "--set", "operator=Ibis", "--keep-checksums"],
    );
    let (header, datagram, _) = verify("kept.pcap");
    assert_eq!((header, datagram == 0), (0, false), "the lengths are the same, the bytes are not");
    // Addresses, text and ports are others, the same for the same, and the checksums follow.
    let scrub = |out: &str| {
        succeed(
            folder.path(),
            &["amend", "net.pcap", "--out", out, "--scrub", "addresses,operator", "--scrub-key", "of this test"],
        );
        let (header, datagram, ip) = verify(out);
        assert_eq!((header, datagram), (0, 0));
        ip
    };
    let (one, again) = (scrub("one.pcap"), scrub("again.pcap"));
    assert_eq!(one, again);
    assert!(one[12..14] == [198, 18] || one[12..14] == [198, 19]);
    for old in [&source[..], &destination, b"Wren"] {
        assert!(!one.windows(4).any(|window| window == old));
    }
    let row = &rows(folder.path(), &["one.pcap"])[0];
    assert_eq!(
        (&row["fields"]["opening"], row["fields"]["operator"].as_str().unwrap().len()),
        (&serde_json::from_str("40.0").unwrap(), 4)
    );
}

#[test]
fn what_is_scrubbed_is_nowhere() {
    let folder = project_with_recording();
    let scrub = |out: &str, more: &[&str]| {
        run(
            folder.path(),
            &[&["amend", NIGHT, "--out", out, "--scrub", "operator,text", "--scrub-key", "k"][..], more].concat(),
        )
    };
    // Broken frames hold the name, too: that is found, and said.
    let ran = scrub("some.pcapng", &[]);
    assert_eq!(ran.code, 1);
    assert!(
        ran.err.contains("finding: the copy still holds ") && ran.err.contains("could not be looked into"),
        "{}",
        ran.err
    );
    let ran = scrub("all.pcapng", &["--keep", "not broken and not stray"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    let bytes = std::fs::read(folder.path().join("all.pcapng")).unwrap();
    assert!(!bytes.windows(4).any(|window| window == b"Wren"));
    let (old, new) = (
        rows(folder.path(), &[NIGHT, "--where", "has(operator)"]),
        rows(folder.path(), &["all.pcapng", "--where", "has(operator)"]),
    );
    assert_eq!(old.len(), new.len());
    let names: std::collections::BTreeSet<&str> =
        new.iter().map(|row| row["fields"]["operator"].as_str().unwrap()).collect();
    assert_eq!(names.len(), 1, "the same for the same");
    for (old, new) in old.iter().zip(&new) {
        let mut expected = old["fields"].clone();
        expected["operator"] = new["fields"]["operator"].clone();
        assert_eq!(new["fields"], expected);
    }
}

#[test]
fn frames_inside_of_frames_are_scrubbed_too() {
    let folder = project();
    let status = ["state=open", "opening=40", "upstream=2.5", "oil=20", "pump_temp=30", "faults=[]", "latch_force=1"];
    let encode = |operator: &str| {
        let on = ["--on", "bus485", "--node", "3", "--sequence", "7"];
        let words = [&["encode", "GateStatus", operator][..], &status, &on].concat();
        bytes_of(&succeed(folder.path(), &words))
    };
    // CAN FD on SocketCAN: identifier, length, the flag of FD, two spare bytes (the kernel's can.h), data.
    let can = |frames: &[&[u8]]| {
        let mut file = bytes_of("d4c3b2a1 02000400 00000000 00000000 ffff0000 e3000000");
        for (second, data) in (1_u32..).zip(frames) {
            let size = 8 + data.len() as u32;
            file.extend([second, 0, size, size].map(u32::to_le_bytes).concat());
            file.extend(0x321_u32.to_be_bytes());
            file.extend([data.len() as u8, 4, 0, 0]);
            file.extend_from_slice(data);
        }
        file
    };
    let (good, again) = (encode("operator=Wren"), encode("operator=Wren"));
    let mut broken = good.clone();
    *broken.last_mut().unwrap() ^= 1;
    std::fs::write(folder.path().join("can.pcap"), can(&[&good, &again])).unwrap();
    std::fs::write(folder.path().join("broken.pcap"), can(&[&good, &broken])).unwrap();

    let scrub = ["--scrub", "operator", "--scrub-key", "k"];
    let ran = run(folder.path(), &[&["amend", "can.pcap", "--out", "new.pcap"][..], &scrub].concat());
    assert_eq!(ran.code, 0, "{}", ran.err);
    assert!(ran.err.contains("searched the copy for 1 old value as bytes, and found none"), "{}", ran.err);
    let bytes = std::fs::read(folder.path().join("new.pcap")).unwrap();
    assert!(!bytes.windows(4).any(|window| window == b"Wren"));
    let old = std::fs::read(folder.path().join("can.pcap")).unwrap();
    let data = 24 + 16 + 8;
    // Behind 6 bytes of the head, 8 of the fields of known places, and the length.
    let name = data + 15;
    assert_eq!(&old[name..name + 4], b"Wren");
    // Only the name and the inner checksum differ: CRC-16/IBM-3740 over node to body, worked out here.
    let (end, check) = (data + good.len() - 2, crc16(&bytes[data + 2..data + good.len() - 2]));
    assert_eq!(bytes[end..end + 2], check.to_le_bytes());
    for at in (0..data + good.len()).filter(|at| !(name..name + 4).contains(at) && !(end..end + 2).contains(at)) {
        assert_eq!(bytes[at], old[at], "byte {at}");
    }
    let inner = |file: &str| -> Vec<Json> {
        rows(folder.path(), &[file]).into_iter().map(|row| row["fields"]["carried"]["fields"].clone()).collect()
    };
    let (old, new) = (inner("can.pcap"), inner("new.pcap"));
    assert_eq!((new.len(), &new[0]["operator"]), (2, &new[1]["operator"]));
    assert_ne!(new[0]["operator"], old[0]["operator"]);
    assert_eq!(new[0]["opening"], old[0]["opening"]);

    // They are accounted apart from the frames that carry them.
    let nested = |file: &str| common::stats(folder.path(), &[file])["nested"].clone();
    let size = good.len() as u64;
    let (holder, bus) = ("Carried.carried", "bus485");
    let counted = |frames: u64| serde_json::json!({"held_by": holder, "channel": bus, "message": "GateStatus", "frames": frames, "bytes": frames * size});
    let broken_one =
        serde_json::json!({"held_by": holder, "channel": bus, "broken": "checksum", "frames": 1, "bytes": size});
    assert_eq!(nested("can.pcap"), serde_json::json!([counted(2)]));
    assert_eq!(nested("broken.pcap"), serde_json::json!([counted(1), broken_one]));
    let shown = succeed(folder.path(), &["stats", "broken.pcap"]);
    assert!(shown.contains("Carried.carried  bus485   broken: checksum       1     "), "{shown}");

    // What cannot be opened is not looked into; the old value in it is found and said.
    let ran = run(folder.path(), &[&["amend", "broken.pcap", "--out", "some.pcap"][..], &scrub].concat());
    assert_eq!(ran.code, 1, "{}", ran.err);
    assert!(
        ran.err.contains("could not be looked into")
            && ran.err.contains("the copy still holds 1 old value in 1 place: 57 72 65 6E"),
        "{}",
        ran.err
    );
}

#[test]
fn what_cannot_be_changed_is_said_and_nothing_is_written() {
    let folder = project_with_recording();
    for (words, said) in [
        (&["--frame", "99999", "--set", "oil=1"][..], "there is no frame 99999"),
        (&["--frame", "1070", "--set", "oyl=1"], "no message has a field `oyl`; did you mean `oil`?"),
        (&["--frame", "1070", "--set", "oil=1000"], "frame 1070: "),
        (&["--frame", "1068", "--set", "state=open"], "frame 1068: "),
        (&["--frame", "1070", "--patch", "400=00"], "the frame has bytes 0 to 26"),
        (&["--frame", "1070", "--patch", "4"], "write OFFSET=HEX"),
        (&["--set", "oil=1"], "say which frames"),
        (&["--frame", "1070"], "say what becomes of these frames"),
        (&[], "say what is to change"),
        (&["--span", "5s"], "--span is written FROM..TO"),
        (&["--span", "5s..2s"], "--span ends before it begins"),
        (&["--keep", "nod == 3"], "--keep cannot be read"),
    ] {
        let ran = run(folder.path(), &[&["amend", NIGHT, "--out", "never.pcapng"][..], words].concat());
        assert_eq!(ran.code, 2, "{words:?}: {}", ran.err);
        assert!(ran.err.contains(said), "{words:?}: {}", ran.err);
        assert!(!folder.path().join("never.pcapng").exists(), "{words:?}");
    }
    let ran = run(folder.path(), &["amend", NIGHT, "--out", NIGHT, "--frame", "1", "--drop"]);
    assert!(ran.code == 2 && ran.err.contains("the capture itself"), "{}", ran.err);
}

/// Frames that follow each other change places in pairs, also those that get other values: none is lost, none is there twice.
#[test]
fn frames_that_follow_each_other_change_places_in_pairs() {
    let folder = project_with_recording();
    let folder = folder.path();
    let targets = |file: &str| {
        let out = succeed(folder, &["decode", file, "--message", "MoveGate", "--as", "ndjson"]);
        let row = |line: &str| {
            let row: serde_json::Value = serde_json::from_str(line).unwrap();
            (row["sequence"].as_u64().unwrap(), row["fields"]["target"].as_f64().unwrap())
        };
        out.lines().map(row).collect::<Vec<_>>()
    };
    let before = targets("stormy-night.pcapng");
    for (number, set) in [None, Some("target=50")].into_iter().enumerate() {
        let copy = format!("pairs{number}.pcapng");
        let mut words = vec!["amend", "stormy-night.pcapng", "--out", &copy, "--message", "MoveGate", "--reorder"];
        if let Some(set) = set {
            words.extend(["--set", set]);
        }
        let ran = run(folder, &words);
        let left = before.len() % 2 == 1;
        assert_eq!(ran.code, 0, "{}", ran.err);
        assert_eq!(ran.err.contains("1 frame stayed"), left, "{}", ran.err);
        let mut pairs: Vec<_> = before.chunks(2).flat_map(|pair| pair.iter().rev().copied()).collect();
        if set.is_some() {
            pairs.iter_mut().for_each(|(_, target)| *target = 50.0);
        }
        assert_eq!(targets(&copy), pairs);
    }
}

/// A record that grew, in a message that did not: what its sender knew is read, said and set.
#[test]
fn a_message_in_which_only_a_record_grew_is_amended() {
    let folder = tempfile::tempdir().unwrap();
    let folder = folder.path();
    let text = "link m {\n revision 2\n byte_order little\n}\n\
        channel c {\n medium uart 9600 8N1\n limit 100 bytes\n frame {\n sync A7 5C\n kind : u8 message\n size : u8 length of body\n\
        body\n check : u16 crc-16/ibm-3740 over kind..body\n}\n}\n\
        record F growing {\n kind : u8\n added in 2 {\n air : u8\n}\n}\n\
        message L {\n id 2\n from device\n on c\n events : [..16] F\n}\n";
    std::fs::write(folder.join("m.ember"), text).unwrap();
    for (revision, events, body) in [
        ("2", r#"[{"kind":1,"air":9},{"kind":2,"air":8}]"#, "02 02 01 09 02 08"),
        ("1", r#"[{"kind":1},{"kind":2}]"#, "02 01 01 02"),
    ] {
        let given = format!("events={events}");
        let encode = ["encode", "L", &given, "--sender-revision", revision];
        assert_eq!(succeed(folder, &encode).trim(), body);
        let frame = succeed(folder, &[&encode[..], &["--on", "c"]].concat());
        let rows = succeed(folder, &["decode", "--on", "c", "--hex", frame.trim(), "--as", "ndjson"]);
        assert!(rows.contains(&format!("\"fields\":{{\"events\":{events}}}")) && !rows.contains("\"body\""), "{rows}");
        assert_eq!(rows.contains("\"revision\":1"), revision == "1", "{rows}");
        let shown = succeed(folder, &["decode", "--on", "c", "--hex", frame.trim()]);
        assert!(!shown.contains("spare bits"), "{shown}");
    }
    let bytes = [0xA7, 0x5C, 2, 6, 2, 2, 1, 9, 2, 8, 0x31, 0xDF];
    std::fs::write(folder.join("one.bin"), bytes).unwrap();
    let set = r#"events=[{"kind":1,"air":7}]"#;
    succeed(
        folder,
        &["amend", "one.bin", "--form", "raw", "--on", "c", "--out", "other.bin", "--frame", "1", "--set", set],
    );
    let rows = succeed(folder, &["decode", "other.bin", "--form", "raw", "--on", "c", "--as", "ndjson"]);
    assert!(rows.contains(r#""events":[{"kind":1,"air":7}]"#), "{rows}");
}

/// A classic capture (pcap, little-endian, link type 227) of CAN frames, one each second: identifier and bytes.
fn can_capture(frames: &[(u32, &[u8])]) -> Vec<u8> {
    let mut bytes = [0xA1B2_C3D4u32, 0x0004_0002, 0, 0, 65_535, 227].map(u32::to_le_bytes).concat();
    for (second, (id, data)) in frames.iter().enumerate() {
        let length = 8 + data.len() as u32;
        bytes.extend([1_930_000_000 + second as u32, 0, length, length].map(u32::to_le_bytes).concat());
        bytes.extend(id.to_be_bytes());
        bytes.extend([data.len() as u8, 0, 0, 0]);
        bytes.extend(*data);
    }
    bytes
}

#[test]
fn packets_without_bytes_are_the_ones_that_are_meant() {
    let folder = tempfile::tempdir().unwrap();
    let folder = folder.path();
    let text = "link l {\n    revision    1\n    byte_order  little\n}\n\nchannel net {\n    medium  can 250 kbit/s\n    packet\n    select  by can_id\n}\n\n\
        message Ping {\n    from  device\n    on    net can_id 0x100\n}\n\nmessage Level {\n    from  device\n    on    net can_id 0x101\n    level : u8\n}\n";
    std::fs::write(folder.join("l.ember"), text).unwrap();
    std::fs::write(folder.join("emberwort.toml"), "link = \"l.ember\"\n").unwrap();
    let frames: [(u32, &[u8]); 6] =
        [(0x100, &[]), (0x100, &[]), (0x100, &[]), (0x101, &[7]), (0x100, &[]), (0x101, &[8])];
    std::fs::write(folder.join("c.pcap"), can_capture(&frames)).unwrap();
    assert_eq!(rows(folder, &["c.pcap"]).len(), 6);
    // The second of three that stand at the same place of their stream.
    succeed(folder, &["amend", "c.pcap", "--out", "fewer.pcap", "--frame", "2", "--drop"]);
    let left: Vec<(u32, &[u8])> = [0, 2, 3, 4, 5].map(|at| frames[at]).to_vec();
    let mut expected = can_capture(&left);
    for (at, second) in [0u32, 2, 3, 4, 5].into_iter().enumerate() {
        // Their times stay.
        let place = 24 + left[..at].iter().map(|(_, data)| 24 + data.len()).sum::<usize>();
        expected[place..place + 4].copy_from_slice(&(1_930_000_000 + second).to_le_bytes());
    }
    assert_eq!(std::fs::read(folder.join("fewer.pcap")).unwrap(), expected);
    // What is set stands in its own packet, and not in the empty one before it.
    succeed(folder, &["amend", "c.pcap", "--out", "set.pcap", "--frame", "6", "--set", "level=9"]);
    let mut set = frames;
    set[5].1 = &[9];
    assert_eq!(std::fs::read(folder.join("set.pcap")).unwrap(), can_capture(&set));
}

#[test]
fn raw_bytes_are_copied_from_change_to_change() {
    let folder = project();
    let folder = folder.path();
    // Statuses and noise in turn, so that frames stand at all places.
    let frame = |oil: u32, sequence: u64| gate_status(folder, oil, sequence);
    let noise = |n: u64| vec![0x11; (n * 7 % 5) as usize];
    let stream = |oil: &dyn Fn(u64) -> u32| -> Vec<u8> {
        (0..60).flat_map(|n| [noise(n), frame(oil(n), n)].concat()).chain([0x22; 3]).collect()
    };
    let before = stream(&|n| if n % 3 == 0 { 100 } else { 20 });
    std::fs::write(folder.join("a.bin"), &before).unwrap();
    let words =
        ["amend", "a.bin", "--form", "raw", "--on", "bus485", "--where", "oil > 90", "--set", "oil=20", "--out"];
    let objects = succeed(folder, &[&words[..], &["b.bin", "--as", "ndjson"]].concat());
    assert_eq!(objects.lines().count(), 20, "{objects}");
    assert!(std::fs::read(folder.join("b.bin")).unwrap() == stream(&|_| 20));
    // A frame twice, and one left out.
    let words = ["amend", "a.bin", "--form", "raw", "--on", "bus485", "--frame"];
    succeed(folder, &[&words[..], &["1", "--twice", "--out", "c.bin"]].concat());
    let first = frame(100, 0);
    assert!(std::fs::read(folder.join("c.bin")).unwrap() == [&first[..], &before].concat());
    succeed(folder, &[&words[..], &["1", "--drop", "--out", "d.bin"]].concat());
    assert!(std::fs::read(folder.join("d.bin")).unwrap() == before[first.len()..]);
}
