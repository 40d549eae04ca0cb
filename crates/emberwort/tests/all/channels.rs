//! Every channel of Marlock from the command line: to bytes and back, in recordings, and what is told when a key is missing.

use serde_json::Value as Json;

use crate::common::{marlock, project, run, run_with_input, succeed};

/// A row, its channel, the bytes worked out by hand, what `decode` needs to know besides, and who sends it.
const ROWS: &[(&str, &str, &str, &[&str])] = &[
    // state 2 in bits 0 and 1 of byte 0; pressure 50.0 bar is raw 500 = 0001 1111 0100, big-endian from bit 7 of byte 1, so
    // 0001 1111 and 0100 in the high half of byte 2; speed 1450 = 00 0101 1010 1010 from bit 3 of byte 2: 0001, then
    // 0110 1010 and 10 in the high bits of byte 4; tank 45, motor 70, counter 9.
    (
        r#"{"message":"PumpStatus","fields":{"state":"running","pressure":50.0,"speed":1450,"tank":45,"motor":70,"counter":9}}"#,
        "power",
        "02 1F 41 6A 80 2D 46 09",
        &["--key", "0x1A4"],
    ),
    (r#"{"message":"RunPump","fields":{"running":true,"speed":1500}}"#, "power", "01 05 DC", &["--key", "0x120"]),
    // status 0 in bits 6 and 7; 617 = 00 0010 0110 1001 in the other 14, most significant first.
    (r#"{"message":"Pressure","fields":{"status":"good","pressure":12.34}}"#, "probe", "02 69", &[]),
    // depth raw 300 = 12C, battery raw 32 = 20, gauge 1; the trend's byte.
    (
        r#"{"message":"Level","fields":{"depth":1.500,"battery":3.60,"gauge":1,"trend":{"downstream":0.06}}}"#,
        "gauges",
        "2C 01 06 03",
        &["--key", "2"],
    ),
    // "V12:40.5 locked" and CR LF.
    (
        r#"{"message":"ValvePosition","fields":{"valve":12,"position":40.5,"mode":"locked"}}"#,
        "console",
        "56 31 32 3A 34 30 2E 35 20 6C 6F 63 6B 65 64 0D 0A",
        &[],
    ),
    // kind 22, node 3, revision 3, flags 0, counter 7 in 32 bits; faults 02; oil raw 0 and 4 spare bits, 61 degC, a text of 2.
    (
        r#"{"message":"Alarm","node":3,"sequence":7,"revision":3,"fields":{"raised":["oil_hot"],"oil":0.00,"pump_temp":61,"text":"hi"}}"#,
        "house",
        "22 03 03 00 07 00 00 00 02 00 00 3D 02 68 69",
        &[],
    ),
    // A frame in a frame: WhoAreYou has no body; its CRC is that of 03 30 05 00, worked out bit by bit below.
    (
        r#"{"message":"Carried","fields":{"carried":{"message":"Refused","node":3,"sequence":5,"fields":{"command":64,"reason":"oil_hot"}}}}"#,
        "tunnel",
        "C6 39 03 4F 05 02 40 01 CRC",
        &[],
    ),
];

/// CRC-16/IBM-3740, bit by bit: polynomial 1021, starts at FFFF, nothing reflected. Low byte first, as the link is little.
fn crc(bytes: &[u8]) -> String {
    let crc = bytes.iter().fold(0xFFFFu16, |crc, byte| {
        (0..8).fold(crc ^ u16::from(*byte) << 8, |crc, _| if crc & 0x8000 != 0 { crc << 1 ^ 0x1021 } else { crc << 1 })
    });
    format!("{:02X} {:02X}", crc & 0xFF, crc >> 8)
}

fn row(text: &str) -> Json {
    serde_json::from_str(text).unwrap_or_else(|error| panic!("{error}: {text}"))
}

#[test]
fn to_bytes_and_back_on_every_channel() {
    for (text, channel, bytes, more) in ROWS {
        let bytes = bytes.replace("CRC", &crc(&[3, 0x4F, 5, 2, 0x40, 1]));
        let encoded = run_with_input(&marlock(), &["encode", "--values", "-", "--on", channel], text.as_bytes());
        assert_eq!((encoded.code, encoded.out.trim()), (0, bytes.as_str()), "{text}\n{}", encoded.err);
        let words = [&["decode", "--hex", bytes.as_str(), "--on", channel, "--as", "ndjson"], *more].concat();
        let decoded = row(&succeed(&marlock(), &words));
        let given = row(text);
        for name in ["message", "node", "sequence", "revision", "fields"] {
            assert_eq!(decoded.get(name), given.get(name), "{name} of {text}");
        }
        assert_eq!(decoded["channel"].as_str(), Some(*channel));
    }
}

#[test]
fn keys_come_with_bytes_in_files_too() {
    let folder = project();
    std::fs::write(folder.path().join("level.hex"), "2C 01 06 03\n2C 01 06 04\n").unwrap();
    let out = succeed(folder.path(), &["decode", "level.hex", "--on", "gauges", "--key", "2", "--as", "ndjson"]);
    let trends: Vec<f64> =
        out.lines().map(|line| row(line)["fields"]["trend"]["downstream"].as_f64().unwrap()).collect();
    assert_eq!(trends, [0.06, 0.08]);
    std::fs::write(folder.path().join("run.bin"), [1, 0x05, 0xDC]).unwrap();
    let out = succeed(folder.path(), &["decode", "run.bin", "--on", "power", "--key", "0x120"]);
    assert!(out.contains("RunPump") && out.contains("1500"), "{out}");
}

#[test]
fn a_key_that_is_missing_or_too_much_is_told() {
    for (words, told) in [
        (&["decode", "--hex", "2C010603", "--on", "gauges"][..], "a key outside the frame selects the message"),
        (&["stats", "--hex", "2C010603", "--on", "gauges"], "--key 2"),
        (&["decode", "--hex", "01", "--on", "bus485", "--key", "2"], "on `bus485` the frame does"),
        (&["decode", "--hex", "01", "--key", "2"], "--on"),
        (&["decode", "--hex", "01", "--on", "power", "--key", "0x1G"], "write a whole number, as in 420 or 0x1A4"),
        (
            &["decode", "--hex", "01", "--on", "power", "--key", "1", "--from", "nobody"],
            "possible values: device, host",
        ),
    ] {
        let ran = run(&marlock(), words);
        assert_eq!(ran.code, 2, "{words:?}\n{}", ran.out);
        assert!(ran.err.contains(told), "{words:?}\n{}", ran.err);
    }
    // A key that nothing has is no error of the command: the bytes are accounted for as broken.
    let ran = run(&marlock(), &["decode", "--hex", "2C010603", "--on", "gauges", "--key", "9"]);
    assert!(ran.out.contains("no message on `gauges` has port 9"), "{}", ran.out);
}

#[test]
fn trials_run_over_channels_of_every_kind() {
    for (channel, message, every, least) in [
        ("power", "PumpStatus", "100 ms", 190),
        ("gauges", "Level", "10 min", 0),
        ("console", "ValvePosition", "5 s", 3),
        ("probe", "Pressure", "10 ms", 1900),
    ] {
        let folder = project();
        let trial = format!(
            "channel = \"{channel}\"\nspan = \"20 s\"\nseed = 3\nstarts = \"2031-03-09T02:10:00Z\"\n\
             must = [\"at least {least} {message}\", \"no good frame with a wrong value\", \"counter gaps at most 0\"]\n\
             [[device]]\nnode = 0\n"
        );
        std::fs::write(folder.path().join("t.toml"), trial).unwrap();
        let ran = run(folder.path(), &["trial", "t.toml", "--record", "t.pcapng"]);
        assert_eq!(ran.code, 0, "{channel}, every {every}\n{}{}", ran.out, ran.err);
        // The recording holds the same, found again without being told the channel.
        let stats = row(&succeed(folder.path(), &["stats", "t.pcapng", "--as", "ndjson"]));
        let bytes = |name: &str| stats["bytes"][name].as_u64().unwrap();
        assert_eq!(bytes("good"), bytes("input"), "{channel}: {stats}");
        assert!(stats["messages"][message].as_u64().unwrap_or(0) >= least, "{channel}: {stats}");
        assert_eq!(stats["sequence"]["gaps"].as_u64(), Some(0), "{channel}: {stats}");
    }
}

#[test]
fn the_example_of_a_public_standard_reads_the_frames_that_it_prints() {
    let folder = tempfile::tempdir().unwrap();
    let text = include_str!("../../../../examples/standards/register_polling.ember");
    assert!(text.lines().count() < 60);
    std::fs::write(folder.path().join("poll.ember"), text).unwrap();
    assert_eq!(run(folder.path(), &["check", "poll.ember", "--deny", "warnings"]).code, 0);
    let read = |hex: &str, from: &str| {
        row(&succeed(
            folder.path(),
            &["decode", "--link", "poll.ember", "--on", "line", "--from", from, "--hex", hex, "--as", "ndjson"],
        ))
    };
    // The frame of the serial line's specification, in which the CRC stands low byte first: 02 07, then 41 12.
    assert_eq!(read("02 07 41 12", "host")["message"], "ReadStatus");
    // The bodies of the application protocol's example of function 3: registers 108 to 110.
    let framed = |bytes: &[u8]| {
        // CRC-16/MODBUS, bit by bit: polynomial 8005 reflected, starts at FFFF.
        let crc = bytes.iter().fold(0xFFFFu16, |crc, byte| {
            (0..8).fold(crc ^ u16::from(*byte), |crc, _| if crc & 1 != 0 { crc >> 1 ^ 0xA001 } else { crc >> 1 })
        });
        let all = [bytes, &crc.to_le_bytes()].concat();
        all.iter().map(|byte| format!("{byte:02X}")).collect::<String>()
    };
    assert_eq!(framed(&[2, 7]), "02074112");
    let asked = read(&framed(&[1, 3, 0x00, 0x6B, 0x00, 0x03]), "host");
    assert_eq!((asked["fields"]["first"].as_u64(), asked["fields"]["quantity"].as_u64()), (Some(107), Some(3)));
    let told = read(&framed(&[1, 3, 6, 0x02, 0x2B, 0x00, 0x00, 0x00, 0x64]), "device");
    assert_eq!(told["fields"]["registers"], serde_json::json!([555, 0, 100]));
    // And of function 1: coils 20 to 38, as CD 6B 05. The first coil is the least significant bit.
    let coils = read(&framed(&[1, 1, 3, 0xCD, 0x6B, 0x05]), "device");
    assert_eq!(coils["fields"]["bytes"], 3);
    assert_eq!(coils["fields"]["coils"].as_array().unwrap().len(), 3, "{coils}");
}
