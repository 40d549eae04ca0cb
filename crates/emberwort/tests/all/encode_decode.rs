//! `encode`, `decode`, `stats` and `checksum` on bytes worked out by hand.

use crate::common::{self, marlock, project, project_with_recording, run, run_with_input, stats, succeed};

/// GateStatus in little-endian bits, by the rules of the wire:
///
/// | byte | bits 7 … 0 | what |
/// |---|---|---|
/// | 0 | 0000 0001 | presence: operator is there |
/// | 1 | 10101 001 | opening low 5 bits of 85 = 0101 0101; state opening = 001 |
/// | 2 | 01111 010 | upstream 943 = 0011 1010 1111 low 5 bits; opening high 3 bits |
/// | 3 | 0 0011101 | oil 3068 = 1011 1111 1100 low bit; upstream high 7 bits |
/// | 4 | 11111110 | oil bits 8 … 1 |
/// | 5 | 11101 101 | pump_temp 61 = 0011 1101 low 5 bits; oil high 3 bits |
/// | 6 | 00000 001 | faults 0x80 low 5 bits; pump_temp high 3 bits |
/// | 7 | 00000 100 | fill; faults high 3 bits |
/// | 8 | | operator: count 04, then Wren |
/// | 13 | | battery 12.0 / 0.1 = 120 = 78 |
/// | 14 | | latch_force 1.25 = 3FA00000, low byte first; then moving in bit 0 |
const STATUS_BODY: &str = "01 A9 7A 1D FE ED 01 04 04 57 72 65 6E 78 00 00 A0 3F 00";

const STATUS: &[&str] = &[
    "state=opening",
    "opening=42.5",
    "upstream=3.217",
    "oil=187.3",
    "pump_temp=61",
    "faults=service_due",
    "operator=Wren",
    "latch_force=1.25",
];

fn encode(words: &[&str]) -> Vec<&'static str> {
    let mut all = vec!["encode", "GateStatus"];
    all.extend(STATUS);
    all.extend(words.iter().map(|word| Box::leak((*word).to_owned().into_boxed_str()) as &str));
    all
}

#[test]
fn a_body_is_exactly_what_the_rules_say() {
    assert_eq!(succeed(&marlock(), &encode(&[])), format!("{STATUS_BODY}\n"));
}

#[test]
fn a_frame_has_sync_parts_and_checksum() {
    let frame = succeed(&marlock(), &encode(&["--on", "bus485", "--node", "3", "--sequence", "7"]));
    let body = succeed(&marlock(), &encode(&[]));
    // sync, node 3, kind 21, counter 7, size 19 = 13, body
    let start = format!("C6 39 03 21 07 13 {}", body.trim_end());
    assert!(frame.starts_with(&start), "{frame}");
    // The checksum covers node to body, stored low byte first; `checksum` computes the same.
    let summed = &start["C6 39 ".len()..];
    let value = succeed(&marlock(), &["checksum", "crc-16/ibm-3740", "--hex", summed]);
    let (high, low) = (&value[2..4], &value[4..6]);
    assert_eq!(frame.trim_end(), format!("{start} {low} {high}"));
}

#[test]
fn a_datagram_has_the_senders_revision() {
    let words =
        ["encode", "Refused", "command=0x40", "reason=oil_hot", "--on", "house", "--node", "3", "--sequence", "258"];
    // kind 4F, node 3, revision 4, flags 0, counter 258 = 02 01 00 00, command 40, reason 1
    assert_eq!(succeed(&marlock(), &words), "4F 03 04 00 02 01 00 00 40 01\n");
    let older = [&words[..], &["--sender-revision", "2"]].concat();
    assert_eq!(succeed(&marlock(), &older), "4F 03 02 00 02 01 00 00 40 01\n");
}

#[test]
fn an_older_sender_leaves_later_sections_out() {
    let words = encode(&[]);
    let words: Vec<&str> = words.into_iter().filter(|word| !word.starts_with("latch_force")).collect();
    let older = succeed(&marlock(), &[&words[..], &["--sender-revision", "1"]].concat());
    assert!(succeed(&marlock(), &encode(&[])).starts_with(older.trim_end()));
    assert_eq!(older.split_whitespace().count(), 13);
    let refused = run(&marlock(), &encode(&["--sender-revision", "1"]));
    assert_eq!(refused.code, 2);
    assert!(
        refused.err.contains("latch_force: was added in revision 3, but the sender has revision 1"),
        "{}",
        refused.err
    );
    let never = run(&marlock(), &encode(&["--sender-revision", "5"]));
    assert!(never.err.contains("from 1 to 4"), "{}", never.err);
}

#[test]
fn bytes_go_out_as_bytes() {
    let hex = succeed(&marlock(), &["encode", "MoveGate", "target=80", "speed=12", "--on", "bus485"]);
    let folder = tempfile::tempdir().unwrap();
    let words = ["encode", "MoveGate", "target=80", "speed=12", "--on", "bus485", "--as", "bytes", "--out"];
    let path = folder.path().join("frame.bin");
    let words = [&words[..], &[path.to_str().unwrap()]].concat();
    succeed(&marlock(), &words);
    let bytes: String = std::fs::read(&path).unwrap().iter().map(|b| format!("{b:02X} ")).collect();
    assert_eq!(bytes.trim_end(), hex.trim_end());
    // Nothing is overwritten with other content.
    std::fs::write(&path, "mine").unwrap();
    let again = run(&marlock(), &words);
    assert_eq!((again.code, std::fs::read(&path).unwrap()), (2, b"mine".to_vec()));
    assert!(again.err.contains("exists already"), "{}", again.err);
}

#[test]
fn what_decode_prints_encode_takes_back() {
    let folder = project_with_recording();
    let rows = succeed(folder.path(), &["decode", "stormy-night.pcapng", "--as", "ndjson"]);
    let back = run_with_input(folder.path(), &["encode", "--values", "-", "--on", "bus485"], rows.as_bytes());
    assert_eq!(back.code, 0, "{}", back.err);
    let good: Vec<&str> = rows.lines().filter(|row| row.contains("\"message\"")).collect();
    assert_eq!(back.out.lines().count(), good.len());
    assert!(back.err.contains("which are not messages"), "{}", back.err);
    assert!(!back.err.contains("became"), "what was shown is nothing new: {}", back.err);
    // The frames made from the rows decode to the very same rows, but for time and direction.
    let again =
        run_with_input(folder.path(), &["decode", "-", "--on", "bus485", "--as", "ndjson"], back.out.as_bytes());
    let strip = |row: &str| {
        let row: serde_json::Value = serde_json::from_str(row).unwrap();
        (
            row["node"].clone(),
            row["sequence"].clone(),
            row["message"].clone(),
            row["fields"].clone(),
            row["revision"].clone(),
        )
    };
    let again: Vec<_> = again.out.lines().map(strip).collect();
    let good: Vec<_> = good.into_iter().map(strip).collect();
    assert_eq!(again, good);
}

#[test]
fn bare_bodies_are_decoded_with_raw_codes_beside() {
    let body = succeed(&marlock(), &encode(&[]));
    let ran = run(&marlock(), &["decode", "--body", "GateStatus", "--hex", body.trim_end()]);
    assert_eq!(ran.code, 0);
    assert!(ran.out.contains("  upstream       3.215 m              raw 943 = 0x3AF\n"), "{}", ran.out);
    assert!(ran.out.contains("  pump_temp      61 degC              raw 61 = 0x3D\n"), "{}", ran.out);
    assert_eq!(ran.err, "19 bytes: 19 in GateStatus\n");
    // A body of revision 1 has neither battery nor latch_force; the battery is assumed.
    let short: Vec<&str> = body.split_whitespace().take(13).collect();
    let ran = run(&marlock(), &["decode", "--body", "GateStatus", "--hex", &short.join("")]);
    assert!(ran.out.contains("12.0 V"), "{}", ran.out);
    assert!(ran.out.contains("(assumed: the sender's revision lacks it)"), "{}", ran.out);
    assert!(!ran.out.contains("latch_force"), "{}", ran.out);
    let cut = run(&marlock(), &["decode", "--body", "GateStatus", "--hex", "01 A9"]);
    assert_eq!(cut.code, 2);
    assert!(cut.err.contains("2 bytes are too short for a body of GateStatus, which needs at least 8"), "{}", cut.err);
    let later = run(&marlock(), &["decode", "--body", "MoveGate", "--hex", "A0 12 FF FF", "--as", "ndjson"]);
    assert_eq!(later.out, "{\"target\":80.0,\"speed\":12.0}\n");
    assert_eq!(later.err, "4 bytes: 2 in MoveGate, 2 from a later revision\n");
}

#[test]
fn rows_in_every_form() {
    let frame =
        succeed(&marlock(), &["encode", "Refused", "command=64", "reason=oil_hot", "--on", "bus485", "--node", "3"]);
    let hex = format!("EE {} 77", frame.trim_end());
    let decode = |form: &str| succeed(&marlock(), &["decode", "--on", "bus485", "--hex", &hex, "--as", form]);
    assert_eq!(
        decode("ndjson"),
        "{\"offset\":0,\"channel\":\"bus485\",\"stray\":1,\"bytes\":\"EE\"}\n\
         {\"frame\":1,\"offset\":1,\"channel\":\"bus485\",\"direction\":\"device\",\"node\":3,\"sequence\":0,\"message\":\"Refused\",\
         \"fields\":{\"command\":64,\"reason\":\"oil_hot\"}}\n\
         {\"offset\":11,\"channel\":\"bus485\",\"stray\":1,\"bytes\":\"77\"}\n"
    );
    assert_eq!(
        decode("csv"),
        "time,offset,channel,direction,node,message,field,value,unit,raw,read_as_revision,sequence\n\
         ,0,bus485,,,(stray),,1 byte,,EE,,\n\
         ,1,bus485,device,3,Refused,command,64,,64,4,0\n\
         ,1,bus485,device,3,Refused,reason,oil_hot,,1,4,0\n\
         ,11,bus485,,,(stray),,1 byte,,77,,\n"
    );
    let tree = decode("tree");
    assert!(
        tree.contains(
            "Refused from device 3 on bus485, at 1, sequence 0\n  command        64                   raw 64 = 0x40\n"
        ),
        "{tree}"
    );
    let table = decode("table");
    assert!(
        table.contains("at 1             bus485   device     3  Refused         command=64  reason=oil_hot\n"),
        "{table}"
    );
    let raw = succeed(
        &marlock(),
        &["decode", "--on", "bus485", "--hex", &hex, "--as", "ndjson", "--raw", "--message", "Refused"],
    );
    assert!(raw.contains("\"fields\":{\"command\":64,\"reason\":1}"), "{raw}");
    assert_eq!(raw.lines().count(), 1);
}

#[test]
fn broken_frames_are_told_with_both_numbers_and_strict_makes_them_count() {
    let hex = "C6 39 03 40 00 02 A0 12 F5 91";
    let ran = run(&marlock(), &["decode", "--on", "bus485", "--hex", hex]);
    assert_eq!(ran.code, 0);
    assert!(ran.out.contains("checksum: `check` is 0x91F5, computed 0x90F5"), "{}", ran.out);
    let (account, hint) = ran.err.split_once('\n').unwrap();
    assert_eq!(account, "10 bytes: 0 in 0 good frames, 10 in 1 broken (1 checksum), 0 stray");
    assert!(hint.contains("are these bytes of the right channel (--on)"), "{hint}");
    assert_eq!(run(&marlock(), &["decode", "--on", "bus485", "--strict", "--hex", hex]).code, 1);
    let row = run(&marlock(), &["decode", "--on", "bus485", "--as", "ndjson", "--hex", hex]).out;
    assert!(
        row.contains(
            "\"broken\":\"checksum\",\"part\":\"check\",\"expected\":\"0x90F5\",\"found\":\"0x91F5\",\"bytes\":\"C6 39"
        ),
        "{row}"
    );
    assert_eq!(
        run(&marlock(), &["decode", "--on", "bus485", "--strict", "--hex", "C6 39 03 40 00 02 A0 12 F5 90"]).code,
        0
    );
}

#[test]
fn stats_add_up_in_words_and_numbers() {
    let folder = project_with_recording();
    let numbers = stats(folder.path(), &["stormy-night.pcapng"]);
    let of = |path: &str| numbers.pointer(path).and_then(serde_json::Value::as_u64).unwrap();
    assert_eq!(of("/bytes/good") + of("/bytes/broken") + of("/bytes/stray"), of("/bytes/input"));
    let messages: u64 = numbers["messages"].as_object().unwrap().values().filter_map(serde_json::Value::as_u64).sum();
    assert_eq!(messages, of("/frames/good"));
    assert!(of("/bytes/broken") > 0 && of("/bytes/stray") > 0, "the night is noisy: {numbers}");
    let words = succeed(folder.path(), &["stats", "stormy-night.pcapng"]);
    for number in [of("/bytes/input"), of("/frames/good")] {
        assert!(words.contains(&number.to_string()), "{words}");
    }
    let decoded = run(folder.path(), &["decode", "stormy-night.pcapng"]);
    assert!(
        decoded.err.starts_with(&format!("{} bytes: {} in", of("/bytes/input"), of("/bytes/good"))),
        "{}",
        decoded.err
    );
}

#[test]
fn several_inputs_and_standard_input_count_together() {
    let folder = project();
    let frame = succeed(folder.path(), &["encode", "WhoAreYou", "--on", "bus485"]);
    std::fs::write(folder.path().join("a.txt"), &frame).unwrap();
    std::fs::write(folder.path().join("b.txt"), frame.repeat(2)).unwrap();
    assert_eq!(stats(folder.path(), &["--on", "bus485", "a.txt", "b.txt"])["frames"]["good"], 3);
    let ran = run_with_input(folder.path(), &["stats", "-", "--on", "bus485", "--as", "ndjson"], frame.as_bytes());
    assert!(ran.out.contains("\"frames\":{\"good\":1,"), "{ran:?}");
    // Forced to raw bytes, the hex digits themselves are the stream.
    assert_eq!(stats(folder.path(), &["--on", "bus485", "a.txt", "--form", "raw"])["frames"]["good"], 0);
}

#[test]
fn checksums_of_hex_text_files_and_standard_input() {
    let folder = tempfile::tempdir().unwrap();
    std::fs::write(folder.path().join("digits"), "123456789").unwrap();
    for words in [["--text", "123456789"], ["--hex", "31 32 33 34 35 36 37 38 39"], ["digits", "--color=never"]] {
        let words = [&["checksum", "crc-32/iso-hdlc"], &words[..]].concat();
        assert_eq!(succeed(folder.path(), &words), "0xCBF43926\n");
    }
    let ran = run_with_input(folder.path(), &["checksum", "crc-16/xmodem", "-"], b"123456789");
    assert_eq!(ran.out, "0x31C3\n");
    let spelled = "crc 16 poly 0x1021 init 0xFFFF final xor 0xFFFF";
    assert_eq!(succeed(folder.path(), &["checksum", spelled, "--text", "123456789"]), "0xD64E\n", "as crc-16/genibus");
    let json = succeed(folder.path(), &["checksum", "sum8 start 1", "--hex", "FF 02", "--as", "ndjson"]);
    assert_eq!(json, "{\"algorithm\":\"sum8 start 1\",\"bytes\":2,\"value\":\"0x02\"}\n");
    let names = succeed(folder.path(), &["checksum", "--list"]);
    assert!(names.lines().count() == 121 && names.contains("crc-16/ibm-3740\n"));
    let typo = run(folder.path(), &["checksum", "crc-16/imb-3740", "--text", "1"]);
    assert_eq!(typo.code, 2);
    assert!(typo.err.contains("did you mean `crc-16/ibm-3740`?"), "{}", typo.err);
    let nothing = run(folder.path(), &["checksum", "xor8"]);
    assert!(nothing.err.contains("say what to sum"), "{}", nothing.err);
}

#[test]
fn definitions_are_found_as_the_manual_says() {
    let folder = project();
    let below = folder.path().join("deep/er");
    std::fs::create_dir_all(&below).unwrap();
    assert!(succeed(&below, &["check"]).contains("no findings"), "by the project file above");
    std::fs::remove_file(folder.path().join("emberwort.toml")).unwrap();
    assert!(succeed(folder.path(), &["check"]).contains("no findings"), "the only one here");
    std::fs::write(folder.path().join("notes.ember"), "enum A : u1 { 0 b }").unwrap();
    assert!(succeed(folder.path(), &["check"]).contains("no findings"), "the only one with a link");
    std::fs::copy(folder.path().join("marlock.ember"), folder.path().join("other.ember")).unwrap();
    let several = run(folder.path(), &["check"]);
    assert_eq!(several.code, 2);
    assert!(several.err.contains("marlock.ember, other.ember") && several.err.contains("--link"), "{}", several.err);
    assert!(succeed(folder.path(), &["check", "--link", "other.ember"]).starts_with("other.ember"));
    let by_environment =
        common::emberwort(&below, &["check"]).env("EMBERWORT_LINK", "../../other.ember").output().unwrap();
    assert!(String::from_utf8_lossy(&by_environment.stdout).starts_with("../../other.ember"));
    let none = run(&below, &["check"]);
    assert!(none.err.contains("no definition found") && none.err.contains("emberwort demo"), "{}", none.err);
    std::fs::write(folder.path().join("emberwort.toml"), "lnik = \"marlock.ember\"").unwrap();
    let wrong = run(folder.path(), &["check"]);
    assert!(wrong.err.contains("unknown field `lnik`"), "{}", wrong.err);
}

#[test]
fn wrong_words_are_told_with_the_nearest_right_ones() {
    let ask = |words: &[&str]| {
        let ran = run(&marlock(), words);
        assert_eq!((ran.code, ran.out.as_str()), (2, ""), "{words:?}");
        ran.err
    };
    assert!(ask(&["layout", "GateStatsu"]).contains("did you mean `GateStatus`?"));
    assert!(ask(&["encode", "MoveGate", "target=80", "speed=12", "--on", "bus458"]).contains("did you mean `bus485`?"));
    assert!(
        ask(&["encode", "MoveGate", "target=80"])
            .contains("speed: missing; it holds 1.0 .. 20.0 mm/s in steps of ≈0.613")
    );
    assert!(ask(&["encode", "MoveGate", "target", "speed=99"]).contains("target: write FIELD=VALUE"));
    assert!(ask(&["encode"]).contains("name the message"));
    assert!(ask(&["decode"]).contains("name a capture"));
    assert!(ask(&["decode", "--on", "bus485", "--hex", "C6 3"]).contains("pairs of hex digits"));
    assert!(ask(&["decode", "missing.pcapng"]).contains("missing.pcapng cannot be read"));
    assert!(ask(&["decode", "trials"]).contains("it is a folder"));
    let ran = run(&marlock(), &["encode", "MoveGate", "target=120", "speed=0", "--clamp"]);
    assert_eq!(ran.out, "C8 00\n", "limited to 100 % = 200 = C8 and 1 mm/s = 0");
}

/// A number of a row or an option that a frame cannot say is refused, not dropped.
#[test]
fn numbers_without_a_place_in_the_frame_are_refused() {
    let refused = |words: &[&str], row: &str| {
        let ran = run_with_input(&marlock(), words, row.as_bytes());
        assert_eq!((ran.code, ran.out.as_str()), (2, ""), "{words:?} {row}");
        ran.err
    };
    let who = |words: &[&str]| refused(&[&["encode", "WhoAreYou"], words].concat(), "");
    assert!(who(&["--on", "bus485", "--node", "300"]).contains("the node 300 does not fit `node`, which goes to 255"));
    assert!(who(&["--on", "bus485", "--sequence", "256"]).contains("256 does not fit `counter`, which goes to 255"));
    assert!(who(&["--node", "3"]).contains("--on <CHANNEL>"), "without a frame there is no node");
    let console = ["encode", "MoveValve", "valve=1", "position=2", "--on", "console", "--node", "3"];
    assert!(refused(&console, "").contains("frames of `console` carry no node"));
    let row = |row: &str| refused(&["encode", "--values", "-", "--on", "bus485"], row);
    assert!(row(r#"{"message":"WhoAreYou","nod":3,"fields":{}}"#).contains("line 1 of -: a row has no `nod`"));
    assert!(row("{\"message\":\"WhoAreYou\",\"node\":3,\"fields\":{}}\n{\"message\":\"WhoAreYou\",\"node\":\"3\",\"fields\":{}}")
        .contains("line 2 of -: `node` is a whole number from 0, not \"3\""));
    assert!(row("[1]").contains("line 1 of - is not a JSON object"));
    assert!(row(r#"{"message":"WhoAreYou"}"#).contains("a row has \"message\" and \"fields\""));
    // What a row says of a frame of another channel is left out where frames have no place for it.
    let line =
        r#"{"channel":"bus485","node":3,"sequence":7,"message":"MoveValve","fields":{"valve":1,"position":2.0}}"#;
    let ran = run_with_input(&marlock(), &["encode", "--values", "-", "--on", "console"], line.as_bytes());
    assert_eq!((ran.code, ran.out.as_str()), (0, "4D 31 3D 32 2E 30 0D 0A\n"), "{}", ran.err);
}

/// All or nothing, also where the messages are more than the program keeps in memory.
#[test]
fn many_rows_are_encoded_as_one() {
    let row = "{\"message\":\"WhoAreYou\",\"node\":3,\"fields\":{}}\n";
    let rows = row.repeat(200_000);
    let words = ["encode", "--values", "-", "--on", "bus485"];
    let ran = run_with_input(&marlock(), &words, rows.as_bytes());
    assert_eq!(ran.code, 0, "{}", ran.err);
    assert!(ran.out.len() > 4 << 20 && ran.out.lines().count() == 200_000);
    assert!(ran.out.lines().all(|line| line == "C6 39 03 30 00 00 B9 DA"));
    let ran = run_with_input(&marlock(), &words, (rows + "[1]\n").as_bytes());
    assert_eq!((ran.code, ran.out.as_str()), (2, ""));
    assert!(ran.err.contains("line 200001 of - is not a JSON object"), "{}", ran.err);
}

#[test]
fn a_capture_of_something_else_says_what_would_belong() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("other.pcapng");
    let mut writer = emberwort_capture::PcapngWriter::new(Vec::new()).unwrap();
    let interface = writer.interface(101, "", "").unwrap();
    writer.packet(interface, 0, &emberwort_capture::packets::udp_packet(53, true, b"hello").unwrap()).unwrap();
    std::fs::write(&path, writer.finish().unwrap()).unwrap();
    for command in ["decode", "stats"] {
        let ran = run(&marlock(), &[command, path.to_str().unwrap()]);
        assert_eq!(ran.code, 0);
        assert!(
            ran.err.contains("nothing in here belongs to this link, whose channels are: bus485 (bytes"),
            "{}",
            ran.err
        );
        assert!(ran.err.contains("house (UDP port 4850)"), "{}", ran.err);
    }
    // Nothing at all is nothing to complain about.
    std::fs::write(&path, b"").unwrap();
    assert_eq!(
        run(&marlock(), &["decode", path.to_str().unwrap()]).err,
        "0 bytes: 0 in 0 good frames, 0 in 0 broken, 0 stray\n"
    );
}

/// A project of one link in a folder of its own.
fn small(definition: &str) -> tempfile::TempDir {
    let folder = tempfile::tempdir().unwrap();
    std::fs::write(folder.path().join("l.ember"), definition).unwrap();
    folder
}

/// What is decoded and encoded again is the same to the byte, also what no field says; and if a field was changed, what is lost is
/// said.
#[test]
fn re_encoding_loses_nothing_without_a_word() {
    let folder = small(
        "link l {\n    revision    1\n    byte_order  little\n}\n\
         channel c {\n    medium  udp 4000\n    packet\n    frame {\n        kind  : u8  message\n        body\n    }\n}\n\
         record R growing {\n    x  : u8\n}\n\
         message M {\n    id    1\n    from  device\n    on    c\n    a : u4\n    spare 4 bits\n    n : compact u16\n    list : [..4] R\n}\n\
         message Ten {\n    id    2\n    from  device\n    on    c\n    a : u4\n}\n",
    );
    // Spare bits; a number longer than it has to be; elements of three bytes of which one is known; bytes behind; filling.
    let frames = [
        ("01 03 05 00 01", "all of it"),
        ("01 A3 05 00 01", "spare bits"),
        ("01 03 85 00 00 01", "a long number"),
        ("01 03 05 02 03 07 AA BB 08 CC DD", "more in elements"),
        ("01 03 05 00 01 EE FF", "bytes after"),
        ("02 F3", "filling"),
    ];
    let lines: String = frames.iter().map(|(frame, _)| format!("{frame}\n")).collect();
    std::fs::write(folder.path().join("in.hex"), &lines).unwrap();
    let rows = succeed(folder.path(), &["decode", "in.hex", "--on", "c", "--as", "ndjson"]);
    let bodies: Vec<bool> = rows.lines().map(|row| row.contains("\"body\"")).collect();
    assert_eq!(bodies, [false, true, true, true, true, true], "{rows}");
    let counted: Vec<u64> = rows
        .lines()
        .map(|row| serde_json::from_str::<serde_json::Value>(row).unwrap()["later_bytes"].as_u64().unwrap_or(0))
        .collect();
    assert_eq!(counted, [0, 0, 0, 4, 2, 0], "{rows}");
    let back = run_with_input(folder.path(), &["encode", "--values", "-", "--on", "c"], rows.as_bytes());
    assert_eq!((back.out.as_str(), back.err.as_str()), (lines.as_str(), ""));
    // With fields changed the rest is left out, and that is said.
    let changed = rows.replace("\"a\":3", "\"a\":4");
    let back = run_with_input(folder.path(), &["encode", "--values", "-", "--on", "c"], changed.as_bytes());
    assert_eq!(back.code, 0, "{}", back.err);
    assert!(back.err.contains("of 5 rows the fields were changed, so what their bodies held besides"), "{}", back.err);
    assert!(back.out.ends_with("02 04\n"), "{}", back.out);
    let table = succeed(folder.path(), &["decode", "in.hex", "--on", "c"]);
    assert!(table.contains("(4 bytes from a later revision)") && table.contains("spare bits are set"), "{table}");
}

#[test]
fn a_line_that_fits_another_pattern_is_not_written() {
    let folder = small(
        "link l {\n    revision    1\n    byte_order  little\n}\nchannel c {\n    medium  uart 9600 8N1\n    lines   lf\n    limit   80 bytes\n}\n\
         message Any {\n    from  device\n    on    c\n    line  \"{text}\"\n    text  : text[..40]\n}\n\
         message Set {\n    from  host\n    on    c\n    line  \"set {n}\"\n    n  : u8\n}\n",
    );
    assert_eq!(succeed(folder.path(), &["encode", "Any", "text=hello", "--on", "c"]), "68 65 6C 6C 6F 0A\n");
    let said = run(folder.path(), &["encode", "Set", "n=3", "--on", "c"]);
    assert_eq!(said.code, 2);
    assert!(said.err.contains("a receiver would read this line as Any, whose pattern it fits, too"), "{}", said.err);
    let said = run(folder.path(), &["encode", "Any", "text=a\nb", "--on", "c"]);
    assert!(said.err.contains("Any cannot be encoded: text: a text with the end of a line in it"), "{}", said.err);
}

const SOIL: &str = "link garden { revision 1  byte_order little }
channel wire {
    medium uart 9600 8N1
    frame { sync A5 3C
        kind : u8 message
        size : u8 length of body
        count : u8 sequence
        body
        check : u8 xor8 over kind..body
    }
}
channel bus { medium can 500 kbit/s
    packet
    select by can_id
}
record Spot { depth : 0 .. 100 cm step 0.5 }
enum What : u8 { 0 warm  1 wet }
message Soil { id 1  from device  on wire
    soil : [..4] 0 .. 100 % step 0.5 or none
    spot : Spot
    what : What
    value : by what { 0 heat : 0 .. 50 degC step 0.25  1 water : 0 .. 100 % step 0.5 }
    at : u8 * 0.25 s
}
message Far { from device  on bus can_id 0x0CF00400 extended
    a : u8
}
message Near { from device  on bus can_id 0x0C4
    a : u8
}
";

/// What a row shows for "no value" is read back in lists, in words and in quotes, and a number that lies between two steps is
/// told with its place.
#[test]
fn lists_as_they_are_shown_and_numbers_that_were_rounded() {
    let folder = small(SOIL);
    let words = |soil: &str, heat: &str| {
        let (soil, value) = (format!("soil={soil}"), format!("value={{heat:{heat}}}"));
        let rest = ["encode", "Soil", "spot={depth:20.7}", "what=warm", "at=3", "--link", "l.ember"];
        let all: Vec<&str> = rest.into_iter().chain([soil.as_str(), value.as_str()]).collect();
        let ran = run(folder.path(), &all);
        (ran.code, ran.out, ran.err)
    };
    // Three elements, 12 / 0.5 = 0x18, none = 0xFF, 40.5 / 0.5 = 0x51; 20.5 / 0.5 = 0x29; 21 / 0.25 = 0x54; 3 / 0.25 = 0x0C.
    let rounded = "Soil.spot.depth: 20.7 cm became 20.5 cm\n";
    assert_eq!(words("[12,none,40.5]", "21"), (0, "03 18 FF 51 29 00 54 0C\n".into(), rounded.into()));
    assert_eq!(words("[12, \"none\", 40.5]", "21").1, "03 18 FF 51 29 00 54 0C\n");
    let (_, out, err) = words("[12,null,40.6]", "21.1");
    assert_eq!(out, "03 18 FF 51 29 00 54 0C\n");
    for told in ["Soil.soil[2]: 40.6 % became 40.5 %\n", "Soil.value.heat: 21.1 degC became 21.00 degC\n", rounded] {
        assert!(err.contains(told), "{err}");
    }
    let (code, _, err) = words("[12,nine]", "21");
    assert!(code == 2 && err.contains("element 1: \"nine\" does not fit"), "{err}");
}

/// Raw codes are raw in lists, records and forms, too, and the sequence number is in each form.
#[test]
fn raw_codes_reach_into_lists_and_forms() {
    let folder = small(SOIL);
    // The checksum: 01 ^ 08 ^ 05 ^ 03 ^ 18 ^ FF ^ 51 ^ 29 ^ 00 ^ 54 ^ 0C = C8.
    let frame = "A5 3C 01 08 05 03 18 FF 51 29 00 54 0C C8";
    let decode = |form: &str, raw: &[&str]| {
        let words = ["decode", "--on", "wire", "--link", "l.ember", "--hex", frame, "--as", form];
        succeed(folder.path(), &words.iter().chain(raw).copied().collect::<Vec<_>>())
    };
    let table = decode("table", &["--raw"]);
    assert!(table.contains("soil=[24, 255, 81]  spot={depth 41}  what=0  value=heat 84  at=12\n"), "{table}");
    let csv = decode("csv", &["--raw"]);
    assert!(csv.contains("Soil,soil,\"[24, 255, 81]\",%,,1,5\n"), "{csv}");
    assert!(csv.contains("Soil,value,heat 84,,,1,5\n"), "{csv}");
    let json = decode("ndjson", &["--raw"]);
    assert!(
        json.contains(
            "\"fields\":{\"soil\":[24,255,81],\"spot\":{\"depth\":41},\"what\":0,\"value\":{\"heat\":84},\"at\":12}"
        ),
        "{json}"
    );
    let table = decode("table", &[]);
    assert!(table.contains("soil=[12.0, none, 40.5]  spot={depth 20.5"), "{table}");
    assert!(decode("tree", &[]).contains("Soil from device on wire, at 0, sequence 5\n"));
}

/// CAN identifiers as they are written: those of 29 bits by their size, or by their eight digits.
#[test]
fn keys_of_extended_identifiers() {
    let folder = small(SOIL);
    let read = |key: &str| {
        let words = ["decode", "--on", "bus", "--link", "l.ember", "--hex", "07", "--key", key, "--as", "table"];
        succeed(folder.path(), &words)
    };
    assert!(read("0x0CF00400").contains("Far      a=7"), "{}", read("0x0CF00400"));
    assert!(read("0x0C4").contains("Near     a=7"));
    assert!(read("0x000000C4").contains("no message on `bus` has can_id 0x000000C4, extended"));
    assert!(read("0x0CF00401").contains("no message on `bus` has can_id 0x0CF00401, extended"));
    let ran = run(folder.path(), &["decode", "--on", "bus", "--link", "l.ember", "--hex", "07"]);
    assert!(ran.code == 2 && ran.err.contains("--key 0x"), "{}", ran.err);
}

/// A definition may stand among the names, and what a script reads are numbers.
#[test]
fn layout_takes_a_file_and_gives_numbers() {
    let folder = small(SOIL);
    let rows = succeed(folder.path(), &["layout", "l.ember", "Soil", "--as", "ndjson"]);
    let rows: Vec<serde_json::Value> = rows.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    let at = rows.last().unwrap();
    assert_eq!((&at["field"], &at["bits"], &at["step"]), (&"at".into(), &8.into(), &0.25.into()));
    assert_eq!(at["raw"], serde_json::json!([0, 255]));
    assert_eq!((at["physical"][0].as_f64(), at["physical"][1].as_f64()), (Some(0.0), Some(63.75)));
    assert_eq!(
        (&rows[0]["byte"], &rows[0]["bit"], &rows[0]["default"]),
        (&0.into(), &0.into(), &serde_json::Value::Null)
    );
    let budget = succeed(folder.path(), &["budget", "l.ember", "bus"]);
    assert!(budget.contains("Far") && !budget.contains("Soil"), "{budget}");
    let ran = run(folder.path(), &["layout", "nothere.ember"]);
    assert!(ran.code == 2 && ran.err.contains("the definition nothere.ember cannot be read"), "{}", ran.err);
}

/// Sender and definition that differ in one setting of the checksum: the setting is named, and what to write is right.
#[test]
fn checksums_that_are_all_wrong_in_the_same_way() {
    let definition = |check: &str| {
        format!(
            "link l {{ revision 1  byte_order little }}\nchannel wire {{\n medium uart 9600 8N1\n frame {{ sync A5 3C\n kind : u8 message\n \
             size : u8 length of body\n body\n check : u16 {check} over kind..body }}\n}}\nmessage A {{ id 1  from device  on wire\n a : u16 }}\n"
        )
    };
    let told = |sender: &str, reader: &str, frames: u32| {
        let folder = small(&definition(sender));
        std::fs::write(folder.path().join("reader.ember"), definition(reader)).unwrap();
        let mut hex = String::new();
        for n in 0..frames {
            hex += &succeed(
                folder.path(),
                &["encode", "A", &format!("a={}", n * 7919), "--on", "wire", "--link", "l.ember"],
            );
        }
        let of = |command: &str| {
            let ran = run(folder.path(), &[command, "--on", "wire", "--hex", &hex, "--link", "reader.ember"]);
            assert_eq!(ran.code, 0, "{}", ran.err);
            ran.err.lines().find(|line| line.contains("wrong checksums")).map(str::to_owned)
        };
        assert_eq!(of("decode"), of("stats"));
        of("stats")
    };
    let crc = "crc-16/ibm-3740";
    for (sender, reader, words) in [
        ("be crc-16/ibm-3740", crc, "are right with their bytes the other way around: write `check : u16 be …`"),
        (crc, "be crc-16/ibm-3740", "are right with their bytes the other way around: write `check : u16 le …`"),
        ("crc-16/genibus", crc, "are the complement of what they should be: write `crc-16/genibus`"),
        (crc, "crc-16/genibus", "are the complement of what they should be: write `crc-16/ibm-3740`"),
        ("internet final xor 0x1234", "internet", "differ by the same bits, 0x1234: write `internet final xor 0x1234`"),
    ] {
        let said = told(sender, reader, 5).unwrap_or_default();
        assert!(
            said.starts_with("5 of 5 wrong checksums `check` on `wire` ") && said.contains(words),
            "{sender}: {said}"
        );
    }
    // Three may be chance, and another polynomial has nothing in common.
    assert_eq!(told("be crc-16/ibm-3740", crc, 3), None);
    assert_eq!(told("crc-16/arc", crc, 6), None);
}

#[test]
fn writing_what_can_only_be_read_is_told() {
    let write = |setting: &str, value: &str| {
        let ran = run(
            &marlock(),
            &["encode", "WriteSetting", &format!("setting={setting}"), &format!("value={{{setting}:{value}}}")],
        );
        assert_eq!(ran.code, 0, "{}", ran.err);
        ran.err
    };
    assert_eq!(write("ramp_time", "10"), "");
    assert_eq!(
        write("motor_current", "1.5"),
        "WriteSetting: `motor_current` of `Settings` can only be read, so a device has to refuse this\n"
    );
}

#[test]
fn hex_as_people_have_it_is_read_or_named_with_the_way_out() {
    let folder = project();
    let folder = folder.path();
    const ROW: &str = "bus485   host       3  MoveGate        target=80.0 %  speed=12.0 mm/s";
    for text in [
        "C6 39 03 40 00 02 A0 12 F5 90\n",
        "{ 0xC6, 0x39, 0x03, 0x40, 0x00, 0x02, 0xA0, 0x12, 0xF5, 0x90 };\n",
        "00000000  c6 39 03 40 00 02 a0 12  f5 90                    |.9.@......|\n0000000a\n",
        "00000000: c639 0340 0002 a012 f590                 .9.@......\n",
        "000000 c6 39 03 40 00 02 a0 12 f5 90                    >.9.@......<\n00000a\n",
        "2032-02-01 02:10:00.2 C6 39 03 40 00 02 A0 12 F5 90\n",
        "[12.345] C63903400002A012F590\n",
    ] {
        let ran = run_with_input(folder, &["decode", "--on", "bus485", "-"], text.as_bytes());
        assert!(ran.code == 0 && ran.out.contains(ROW), "{text}{}{}", ran.out, ran.err);
        let ran = run(folder, &["decode", "--on", "bus485", "--hex", text]);
        assert!(ran.code == 0 && ran.out.contains(ROW), "--hex {text}{}{}", ran.out, ran.err);
    }
    let ran = run_with_input(folder, &["decode", "--on", "bus485", "-"], b"02:10:00.2 RX C6 39 03 40\n");
    assert!(ran.code == 1 && ran.err.contains("`RX` after the time") && ran.err.contains("--form raw"), "{}", ran.err);
    let ran =
        run_with_input(folder, &["stats", "--on", "bus485", "-"], b"the gate sent C6 39 03 40 00 02 A0 12 F5 90\n");
    assert!(ran.err.contains("standard input is text, and was read as the bytes themselves"), "{}", ran.err);
    let page = std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/captures.md")).unwrap();
    assert!(page.contains(ROW), "docs/captures.md shows what comes back");
}

#[test]
fn keys_come_back_in_the_base_in_which_they_were_written() {
    let folder = tempfile::tempdir().unwrap();
    let folder = folder.path();
    let link = |id: &str, can: &str, entry: &str| {
        format!(
            "link l {{ revision 1  byte_order little }}\nchannel bus {{ medium uart 9600 8N1\n frame {{ sync C6\n kind : u8 message\n size : u8 length of body\n \
             body\n check : u8 sum8 over kind..body\n }} }}\nchannel power {{ medium can 250 kbit/s\n packet\n select by can_id\n }}\n\
             table Settings : u16 {{\n {entry} ramp : u8 s read\n }}\n\
             message Level {{ id {id}\n from device\n on bus\n setting : key of Settings\n value : value of Settings by setting\n }}\n\
             message Pump {{ from device\n on power can_id {can}\n speed : u8\n }}\n"
        )
    };
    for (id, can, entry, unknown, other) in
        [("0x21", "0x1A4", "0x0102", "0x22", "0x0103"), ("33", "420", "258", "34", "259")]
    {
        std::fs::write(folder.join("l.ember"), link(id, can, entry)).unwrap();
        let layout = succeed(folder, &["layout"]);
        assert!(layout.contains(&format!("Level  id {id}  from device")), "{layout}");
        assert!(layout.contains(&format!("{entry} = ramp")) || layout.contains(entry), "{layout}");
        // A frame that nobody knows is named as those that are known are written.
        let ran = run(folder, &["decode", "--on", "bus", "--hex", "C6 22 00 22"]);
        assert!(ran.out.contains(unknown), "{unknown}: {}{}", ran.out, ran.err);
        let ran = run(folder, &["decode", "--on", "power", "--hex", "01"]);
        assert!(ran.err.contains(&format!("--key {can}")), "{}", ran.err);
        let double = link(id, can, entry) + &format!("message Twin {{ id {id}\n from device\n on bus\n }}\n");
        std::fs::write(folder.join("double.ember"), double).unwrap();
        let ran = run(folder, &["check", "double.ember"]);
        assert!(ran.out.contains(&format!("the id {id} already selects another message")), "{}", ran.out);
        let moved = link(if id == "33" { "34" } else { "0x22" }, can, other);
        std::fs::write(folder.join("moved.ember"), moved.replace("revision 1", "revision 2")).unwrap();
        let ran = run(folder, &["compare", "l.ember", "moved.ember"]);
        for (was, is) in [(format!("id {id}"), format!("id {unknown}")), (entry.to_owned(), other.to_owned())] {
            assert!(ran.out.contains(&format!("was  {was}\n    is   {is}\n")), "{was} {is}: {}", ran.out);
        }
        std::fs::remove_file(folder.join("double.ember")).unwrap();
        std::fs::remove_file(folder.join("moved.ember")).unwrap();
    }
}

/// The greatest number of a part is one of its numbers, and the next is none.
#[test]
fn the_greatest_node_and_sequence_number_can_be_sent() {
    let encode = |node: &str, sequence: &str| {
        let words = ["encode", "WhoAreYou", "--on", "bus485", "--node", node, "--sequence", sequence];
        run(&common::marlock(), &words)
    };
    assert!(encode("255", "255").out.starts_with("C6 39 FF 30 FF 00"), "{:?}", encode("255", "255"));
    let node = encode("256", "0");
    assert!(node.code == 2 && node.err.contains("the node 256 does not fit `node`, which goes to 255"), "{node:?}");
    let sequence = encode("3", "256");
    assert!(
        sequence.code == 2 && sequence.err.contains("the sequence number 256 does not fit `counter`"),
        "{sequence:?}"
    );
    // A row of a channel with wider numbers can be sent here, which is said.
    let row = |sequence: u32| {
        let row = format!(r#"{{"message":"WhoAreYou","node":3,"sequence":{sequence},"fields":{{}}}}"#);
        run_with_input(&marlock(), &["encode", "--on", "bus485", "--values", "-"], row.as_bytes())
    };
    let (fits, around) = (row(255), row(256));
    assert!(fits.err.is_empty() && fits.out.starts_with("C6 39 03 30 FF 00"), "{fits:?}");
    assert!(around.code == 0 && around.out.starts_with("C6 39 03 30 00 00"), "{around:?}");
    assert!(around.err.contains("of 1 row the sequence number has more bits than this channel's"), "{around:?}");
}

/// Where no frame was found there is no table of frames.
#[test]
fn statistics_of_nothing_have_no_table_of_messages() {
    let ran = common::run_with_input(&common::marlock(), &["stats", "--on", "bus485", "--form", "raw", "-"], &[0; 100]);
    assert!(ran.out.contains("stray     100  100.00 %") && !ran.out.contains("MESSAGE"), "{ran:?}");
    assert!(ran.err.contains("no good frame was found"), "{ran:?}");
    // Nor is there a word about what is as it should be.
    let ran = run(&marlock(), &["stats", "--on", "bus485", "--from", "host", "../captures/keeper.bin"]);
    assert!(ran.out.contains("MESSAGE") && !ran.out.contains("sequence numbers"), "{ran:?}");
    assert!(!ran.err.contains("no good frame"), "{ran:?}");
}

/// Questions about rows of the stormy night, checked against all of its rows.
#[test]
fn rows_are_asked_for_by_what_they_hold() {
    let folder = common::project_with_recording();
    let rows = |words: &[&str]| -> Vec<serde_json::Value> {
        let ran =
            common::run(folder.path(), &[&["decode", "stormy-night.pcapng", "--as", "ndjson"][..], words].concat());
        assert_eq!(ran.code, 0, "{words:?}: {}", ran.err);
        ran.out.lines().map(|line| serde_json::from_str(line).unwrap()).collect()
    };
    let all = rows(&[]);
    let field = |row: &serde_json::Value, name: &str| row["fields"][name].as_f64();
    let count = |holds: &dyn Fn(&serde_json::Value) -> bool| {
        all.iter().filter(|row| row["message"].is_string() && holds(row)).count()
    };
    let gate = |row: &serde_json::Value| row["message"] == "GateStatus";
    let cases: [(&str, usize); 9] = [
        (
            "GateStatus.opening > 40",
            count(&|row| gate(row) && field(row, "opening").is_some_and(|opening| opening > 40.0)),
        ),
        (
            "opening > 40 and state == held",
            count(&|row| {
                field(row, "opening").is_some_and(|opening| opening > 40.0) && row["fields"]["state"] == "held"
            }),
        ),
        ("upstream == none", count(&|row| gate(row) && row["fields"]["upstream"].is_null())),
        (
            "pump_temp in 80 .. 83 and node == 3",
            count(&|row| field(row, "pump_temp").is_some_and(|temp| (80.0..=83.0).contains(&temp)) && row["node"] == 3),
        ),
        (
            "message == Refused or message == Alarm",
            count(&|row| row["message"] == "Refused" || row["message"] == "Alarm"),
        ),
        (
            "faults has oil_hot and message != Alarm",
            count(&|row| gate(row) && row["fields"]["faults"] == serde_json::json!(["oil_hot"])),
        ),
        ("has(operator)", count(&|row| row["fields"]["operator"].is_string())),
        ("direction == host", count(&|row| row["direction"] == "host")),
        ("raw(opening) == 85", count(&|row| field(row, "opening") == Some(42.5))),
    ];
    for (question, expected) in cases {
        let found = rows(&["--where", question]);
        assert!(expected > 0, "{question} asks for nothing");
        assert_eq!(found.len(), expected, "{question}");
        assert_eq!(rows(&["--where", question, "--threads", "2"]), found, "{question}");
    }
    let (since, until) = ("2031-03-09T02:11:00Z", "2031-03-09T02:11:20.5Z");
    let between = rows(&["--since", since, "--until", until]);
    let expected = all
        .iter()
        .filter(|row| {
            ("2031-03-09T02:11:00."..="2031-03-09T02:11:20.500000001Z").contains(&row["time"].as_str().unwrap_or(""))
        })
        .count();
    assert!(expected > 200 && between.len() == expected, "{} of {expected}", between.len());
    assert_eq!(rows(&["--where", "state == held", "--first", "3"]).len(), 3);
    for (question, said) in [
        ("opning > 3", "did you mean `opening`?"),
        ("state == helt", "GateState has no label `helt`"),
        ("opening >", "is missing at the end"),
    ] {
        let ran = common::run(folder.path(), &["decode", "stormy-night.pcapng", "--where", question]);
        assert_eq!((ran.code, ran.out.as_str()), (2, ""), "{question}");
        assert!(ran.err.contains(said), "{question}: {}", ran.err);
    }
}

#[test]
fn each_byte_of_a_frame_has_a_letter() {
    let folder = tempfile::tempdir().unwrap();
    let text = "link l {\n    revision    1\n    byte_order  little\n}\n\nchannel c {\n    medium  uart 9600 8N1\n    frame {\n        sync   C6\n        kind   : u8  message\n        \
        size   : u8  length of body\n        body\n        check  : u8  sum8 over kind..body\n    }\n}\n\n\
        message Gap {\n    id    1\n    from  device\n    on    c\n    first  : u8 at 0.0\n    last   : u8 at 2.0\n}\n";
    std::fs::write(folder.path().join("l.ember"), text).unwrap();
    // A body of five bytes, of which two belong to fields: one lies between them, and two behind. 1+5+1+0+2+9+10 = 28.
    let words = ["decode", "--link", "l.ember", "--on", "c", "--hex", "C6 01 05 01 00 02 09 0A 1C", "--as", "hex"];
    let shown = succeed(folder.path(), &words);
    let letters: Vec<&str> = shown.lines().skip(1).map(str::trim_end).collect();
    assert_eq!(
        letters,
        [
            "  0000  C6 01 05 01 00 02 09 0A 1C",
            "        a  b  c  d  e  f  g  g  h",
            "  a  (sync)    C6                            byte 0",
            "  b  (kind)    01  message Gap               byte 1",
            "  c  (size)    05  length                    byte 2",
            "  d  first     1  raw 1                      byte 3",
            "  e  (unused)  00                            byte 4",
            "  f  last      2  raw 2                      byte 5",
            "  g  (unused)  09 0A                         bytes 6 to 7",
            "  h  (check)   1C  sum8                      byte 8",
        ]
    );
}
