//! Waveforms of buses and of lines with a code of their own, which a program of its own writes bit by bit (`waveforms_buses.py`), and those
//! that a trial draws, hold what went over them.

use std::io::Write as _;
use std::path::Path;
use std::process::{Command, Stdio};

use serde_json::{Value as Json, json};

use crate::common::{self, project, run, succeed};

fn written(folder: &Path, cases: &Json) {
    let script = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/waveforms_buses.py");
    let mut python =
        Command::new("python3").arg(script).arg(folder).stdin(Stdio::piped()).spawn().expect("python3 starts");
    python.stdin.take().unwrap().write_all(cases.to_string().as_bytes()).unwrap();
    assert!(python.wait().unwrap().success());
}

/// A definition with one channel for packets, and a message for each of some keys.
fn link(folder: &Path, medium: &str, keys: &[&str]) {
    let mut text = format!(
        "link lines {{\n    revision 1\n    byte_order little\n}}\n\nchannel a {{\n    medium {medium}\n    packet\n"
    );
    if !keys.is_empty() {
        text.push_str("    select by can_id\n");
    }
    text.push_str("}\n");
    let several: Vec<(String, String)> = match keys {
        [] => vec![("Any".to_owned(), "a".to_owned())],
        keys => keys.iter().enumerate().map(|(n, key)| (format!("M{n}"), format!("a can_id {key}"))).collect(),
    };
    for (name, on) in several {
        text.push_str(&format!("\nmessage {name} {{\n    from device\n    on {on}\n    data : bytes[rest]\n}}\n"));
    }
    std::fs::write(folder.join("a.ember"), text).unwrap();
}

fn decoded(folder: &Path, words: &str) -> (Vec<Json>, common::Ran) {
    let words: Vec<&str> = words.split(' ').collect();
    let ran = run(folder, &[&["--link", "a.ember", "decode", "--on", "a", "--as", "ndjson"][..], &words].concat());
    let rows = ran.out.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    (rows, ran)
}

/// The data of rows in hex, as they were written.
fn data(rows: &[Json]) -> Vec<String> {
    rows.iter().map(|row| row["fields"]["data"].as_str().unwrap_or("?").replace(' ', "").to_lowercase()).collect()
}

/// Bytes that look as if nobody had chosen them.
fn bytes(seed: u32, count: usize) -> String {
    let mut state = seed.wrapping_mul(2_654_435_761) | 1;
    (0..count)
        .map(|n| {
            state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
            // Some with long runs of equal bits.
            let byte = match (seed + n as u32) % 5 {
                0 => 0x00,
                1 => 0xFF,
                _ => (state >> 24) as u8,
            };
            format!("{byte:02x}")
        })
        .collect()
}

const KEYS: [(u32, bool); 3] = [(0x1A4, false), (0x7FF, false), (0x18FF_0102, true)];
const KEY_WORDS: [&str; 3] = ["0x1A4", "0x7FF", "0x18FF_0102 extended"];

#[test]
fn controller_area_networks_are_read() {
    let folder = project();
    let folder = folder.path();
    for (medium, fd, sizes) in [
        ("can 250 kbit/s", None, &[0usize, 1, 2, 3, 5, 8][..]),
        ("can 250 kbit/s fd 1 Mbit/s", Some(1e6), &[0, 3, 8, 12, 16, 20, 32, 64]),
        ("can 250 kbit/s fd 2 Mbit/s sample 70 %", Some(2e6), &[1, 7, 24, 48, 64]),
    ] {
        link(folder, medium, &KEY_WORDS);
        let sample = if medium.contains("70") { 0.7 } else { 0.8 };
        let frames: Vec<(u32, bool, String)> = (0..60)
            .map(|n| {
                let (id, extended) = KEYS[n as usize % 3];
                (id, extended, bytes(n, sizes[n as usize % sizes.len()]))
            })
            .collect();
        let all: Json = frames
            .iter()
            .enumerate()
            .map(|(n, (id, extended, data))| json!([0.001 + n as f64 * 0.003, id, extended, data, {}]))
            .collect();
        let mut cases = Vec::new();
        for (name, more) in [
            ("exact", json!({})),
            ("sampled", json!({"rate": 24e6})),
            ("bits", json!({"rate": 12e6, "form": "u8"})),
            ("pair", json!({"pair": true})),
            ("upside", json!({"pair": true})),
        ] {
            let mut case = json!({"name": name, "line": "can", "bitrate": 250e3, "data_bitrate": fd, "sample": sample, "frames": all});
            more.as_object().unwrap().iter().for_each(|(key, value)| case[key] = value.clone());
            cases.push(case);
        }
        written(folder, &json!(cases));
        for words in [
            "exact.vcd --wire bus=rx --strict",
            "sampled.vcd --wire bus=rx --strict",
            "bits.u8 --sample u8 --rate 12MHz --wire bus=D0 --strict",
            "pair.vcd --wire bus=CANH-CANL --strict",
            "upside.vcd --wire bus=CANL-CANH --invert bus --strict",
        ] {
            let (rows, ran) = decoded(folder, words);
            assert_eq!(ran.code, 0, "{medium} {words}: {}", ran.err);
            let expected: Vec<String> = frames.iter().map(|(.., data)| data.clone()).collect();
            assert_eq!(data(&rows), expected, "{medium} {words}");
            for (row, (id, extended, _)) in rows.iter().zip(&frames) {
                let n = KEYS.iter().position(|key| key == &(*id, *extended)).unwrap();
                assert_eq!(row["message"], format!("M{n}"), "{words}");
            }
        }
    }
}

#[test]
fn what_is_wrong_on_a_controller_area_network_is_said() {
    let folder = project();
    let folder = folder.path();
    link(folder, "can 250 kbit/s", &KEY_WORDS);
    let frames = |faulty: Json| -> Json {
        (0..12)
            .map(|n| {
                json!([
                    0.001 + f64::from(n) * 0.002,
                    0x1A4,
                    false,
                    bytes(n as u32, 8),
                    if n == 5 { faulty.clone() } else { json!({}) }
                ])
            })
            .collect()
    };
    let case = |name: &str, frames: Json, more: Json| {
        let mut case = json!({"name": name, "line": "can", "bitrate": 250e3, "frames": frames});
        more.as_object().unwrap().iter().for_each(|(key, value)| case[key] = value.clone());
        case
    };
    let none = || json!({});
    written(
        folder,
        &json!([
            case("clean", frames(none()), none()),
            case("crc", frames(json!({"crc": 1})), none()),
            case("ack", frames(json!({"ack": 0})), none()),
            case("stuff", frames(json!({"stuff": 1})), none()),
            case("remote", frames(json!({"remote": 1})), none()),
            case("slow", frames(none()), json!({"bitrate": 245e3})),
            case("fd", frames(none()), json!({"data_bitrate": 1e6})),
            case("coarse", frames(none()), json!({"rate": 600e3, "form": "u8"})),
        ]),
    );
    for (words, said, left) in [
        ("clean.vcd --wire bus=rx", "", 12),
        ("crc.vcd --wire bus=rx", "1 frame with a wrong CRC, the first at 0.011", 11),
        ("ack.vcd --wire bus=rx", "1 frame that nobody acknowledged, the first at 0.011", 12),
        (
            "stuff.vcd --wire bus=rx",
            "1 frame broken off by an error frame, or by six equal bits, the first at 0.011",
            11,
        ),
        ("remote.vcd --wire bus=rx", "1 remote frame ask for data", 11),
        ("slow.vcd --wire bus=rx", "bit/s, 2.0 % slower than the 250000 of the definition", 12),
        ("fd.vcd --wire bus=rx", "12 frames of CAN FD, of which the definition says nothing", 0),
        ("clean.vcd --wire bus=rx --invert bus", "the bus is dominant for most of the time", 0),
        ("coarse.u8 --sample u8 --rate 600kHz --wire bus=D0", "2.4 samples a bit are not safe to read", 0),
        ("coarse.u8 --sample u8 --rate 600kHz --wire bus=D1", "nothing happens on the wire `bus`", 0),
    ] {
        let (rows, ran) = decoded(folder, &format!("{words} --strict"));
        assert!(ran.err.contains(said), "{words}: {}", ran.err);
        let is_finding = !said.is_empty() && !said.contains("remote");
        assert_eq!(ran.code, i32::from(is_finding), "{words}: {}", ran.err);
        if left > 0 {
            assert_eq!(rows.len(), left, "{words}: {}", ran.err);
        }
    }
}

#[test]
fn two_wire_buses_are_read() {
    let folder = project();
    let folder = folder.path();
    link(folder, "i2c 400 kHz", &[]);
    let transfers: Vec<(u32, u32, String)> = (0..40)
        .map(|n| ([0x30, 0x31, 0x2A7][n as usize % 3], u32::from(n % 4 != 0), bytes(n, 1 + n as usize % 6)))
        .collect();
    let all: Json = transfers
        .iter()
        .enumerate()
        .map(|(n, (address, reads, data))| json!([0.001 + n as f64 * 0.001, address, reads, data, {}]))
        .collect();
    let faulty = json!([[0.001, 0x30, 1, "0102", {}], [0.002, 0x31, 0, "03", {"silent": 1}], [0.003, 0x30, 0, "0405", {"refused": 1}]]);
    let case = |name: &str, transfers: &Json, more: Json| {
        let mut case = json!({"name": name, "line": "i2c", "hertz": 400e3, "transfers": transfers});
        more.as_object().unwrap().iter().for_each(|(key, value)| case[key] = value.clone());
        case
    };
    written(
        folder,
        &json!([
            case("exact", &all, json!({})),
            case("sampled", &all, json!({"rate": 4e6})),
            case("bits", &all, json!({"rate": 3e6, "form": "u8"})),
            case("faulty", &faulty, json!({})),
        ]),
    );
    for words in [
        "exact.vcd --wire clock=scl --wire data=sda",
        "sampled.vcd --wire clock=scl --wire data=sda",
        "bits.u8 --sample u8 --rate 3MHz --wire clock=D0 --wire data=D1",
    ] {
        let (rows, ran) = decoded(folder, &format!("{words} --strict --from device"));
        assert_eq!(ran.code, 0, "{words}: {}", ran.err);
        // What the host writes is no message of the definition.
        let read: Vec<&Json> = rows.iter().filter(|row| row["direction"] == "device").collect();
        let expected: Vec<_> = transfers.iter().filter(|transfer| transfer.1 == 1).collect();
        assert_eq!(read.len(), expected.len(), "{words}: {}", ran.err);
        for (row, (address, _, hex)) in read.iter().zip(expected) {
            assert_eq!(data(&[(*row).clone()])[0], *hex, "{words}");
            assert_eq!(row["node"], *address, "{words}: {row}");
        }
    }
    let (_, ran) = decoded(folder, "faulty.vcd --wire clock=scl --wire data=sda");
    for said in [
        "1 address without an acknowledge, the first at 0.00200",
        "1 byte to a device without an acknowledge, the first at 0.0030",
    ] {
        assert!(ran.err.contains(said), "{}", ran.err);
    }
    let (_, ran) = decoded(folder, "exact.vcd --wire clock=sda --wire data=scl --strict");
    assert!(ran.code == 1 && ran.err.contains("are clock and data the right way around?"), "{}", ran.err);
}

#[test]
fn codes_of_lines_are_read() {
    let folder = project();
    let folder = folder.path();
    let frames: Vec<String> = (0..30).map(|n| bytes(n, 1 + n as usize % 5)).collect();
    let all: Json = frames.iter().enumerate().map(|(n, data)| json!([0.001 + n as f64 * 0.03, data])).collect();
    let cases = [
        (
            "rises",
            "line 10 kbit/s manchester 1 rises preamble 10 of 1 start 0 end 1",
            json!({"line": "manchester", "bitrate": 10e3, "one_rises": true, "preamble": 12}),
        ),
        (
            "falls",
            "line 10 kbit/s manchester 1 falls preamble 10 of 1 start 0 end 1",
            json!({"line": "manchester", "bitrate": 10e3, "one_rises": false, "preamble": 10}),
        ),
        (
            "lamps",
            "line pulse half 0 90 us .. 2 ms 1 52 us .. 64 us preamble 10 of 1 start 0 end 1",
            json!({"line": "lamps"}),
        ),
    ];
    let written_cases: Json = cases
        .iter()
        .map(|(name, _, more)| {
            let mut case = json!({"name": name, "frames": all, "after": 0.1});
            more.as_object().unwrap().iter().for_each(|(key, value)| case[key] = value.clone());
            case
        })
        .collect();
    written(folder, &written_cases);
    for (name, medium, more) in &cases {
        link(folder, medium, &[]);
        let signal = if more["line"] == "lamps" { "lamps" } else { "line" };
        let (rows, ran) = decoded(folder, &format!("{name}.vcd --wire line={signal} --strict"));
        assert_eq!(ran.code, 0, "{name}: {}", ran.err);
        assert_eq!(data(&rows), frames, "{name}");
        // What the definition calls the line is what a definition says.
        let shown = succeed(folder, &["--link", "a.ember", "budget"]);
        assert!(shown.contains(medium.split(" preamble").next().unwrap()), "{shown}");
    }
    link(folder, "line 10 kbit/s manchester 1 rises preamble 20 of 1 start 0 end 1", &[]);
    let (_, ran) = decoded(folder, "rises.vcd --wire line=line");
    assert!(ran.err.contains("30 preambles shorter than the definition says"), "{}", ran.err);
}

/// What a trial draws holds what its ends received, in every form of file.
#[test]
fn the_wires_of_a_trial_hold_what_was_received() {
    let folder = project();
    let folder = folder.path();
    for (channel, wave, device, forms) in [
        ("bus485", "rate = \"2 MHz\"", "node = 3", &["vcd", "csv", "wav", "u8", "u16", "i16", "f32"][..]),
        ("bus485", "rate = \"4 MHz\"\nslope = \"300 ns\"\nnoise = 0.05", "node = 3", &["vcd", "csv", "wav", "f32"]),
        ("probe", "rate = \"16 MHz\"", "node = 1", &["vcd", "u8"]),
        ("power", "rate = \"4 MHz\"\npair = true\nlow = 1.5\nhigh = 3.5", "node = 1", &["vcd", "f32"]),
    ] {
        let trial = format!("channel = \"{channel}\"\nspan = \"500 ms\"\n[wave]\n{wave}\n[[device]]\n{device}\n");
        std::fs::write(folder.join("t.toml"), trial).unwrap();
        for form in forms {
            let (file, record) = (format!("{channel}.{form}"), format!("{channel}-{form}.pcapng"));
            let _ = std::fs::remove_file(folder.join(&file));
            let _ = std::fs::remove_file(folder.join(&record));
            let ran = run(folder, &["trial", "t.toml", "--wave", &file, "--record", &record]);
            assert_eq!(ran.code, 0, "{}", ran.err);
            let signals: &[&str] = match channel {
                "bus485" => &["device", "host"],
                // The host sends nothing that means something.
                "probe" => &["clock", "device", "", "select"],
                _ => &["bus"],
            };
            let mut words =
                vec!["decode".to_owned(), file.clone(), "--on".into(), channel.into(), "--as".into(), "ndjson".into()];
            let letter = if form.starts_with('u') { 'D' } else { 'A' };
            let named = matches!(*form, "vcd" | "csv");
            for (n, role) in signals.iter().enumerate().filter(|(_, role)| !role.is_empty()) {
                let signal = match (wave.contains("pair"), named) {
                    (true, true) => format!("{role}_p-{role}_n"),
                    (true, false) => "A0-A1".to_owned(),
                    (false, true) => (*role).to_owned(),
                    (false, false) => format!("{letter}{n}"),
                };
                words.extend(["--wire".to_owned(), format!("{role}={signal}")]);
            }
            if matches!(*form, "u8" | "u16" | "i16" | "f32") {
                let rate = wave.split('"').nth(1).unwrap().replace(' ', "");
                words.extend(["--sample".into(), (*form).into(), "--rate".into(), rate]);
            }
            if matches!(*form, "i16" | "f32") {
                let channels = if wave.contains("pair") { 2 } else { signals.len() };
                words.extend(["--channels".to_owned(), channels.to_string()]);
            }
            let waves = run(folder, &words.iter().map(String::as_str).collect::<Vec<_>>());
            let direct = succeed(folder, &["decode", &record, "--as", "ndjson"]);
            let rows = |out: &str| -> Vec<(Json, Json, Json)> {
                let row = |line: &str| {
                    let row: Json = serde_json::from_str(line).unwrap();
                    (row["message"].clone(), row["fields"].clone(), row["good"].clone())
                };
                out.lines().map(row).collect()
            };
            assert!(!direct.is_empty());
            assert_eq!(rows(&waves.out), rows(&direct), "{channel} {form}: {}", waves.err);
        }
    }
}

/// What a survey says of buses, and that what it ends with reads them.
#[test]
fn a_survey_tells_buses_apart() {
    let folder = project();
    let folder = folder.path();
    let frames: Json =
        (0..60).map(|n| json!([0.001 + f64::from(n) * 0.003, 0x1A4, false, bytes(n as u32, 8), {}])).collect();
    let transfers: Json = (0..60)
        .map(|n| json!([0.001 + f64::from(n) * 0.001, 0x30, n % 2, bytes(n as u32, 1 + n as usize % 4), {}]))
        .collect();
    written(
        folder,
        &json!([
            {"name": "can", "line": "can", "bitrate": 250e3, "frames": frames},
            {"name": "pair", "line": "can", "bitrate": 250e3, "frames": frames, "pair": true},
            {"name": "i2c", "line": "i2c", "hertz": 400e3, "transfers": transfers, "rate": 8e6},
        ]),
    );
    for (file, medium, wires) in [
        ("can.vcd", "can 250 kbit/s", "--wire bus=probe.rx"),
        ("pair.vcd", "can 250 kbit/s", "--wire 'bus=probe.CANH-probe.CANL'"),
        ("i2c.vcd", "i2c 400 kHz", "--wire clock=probe.scl --wire data=probe.sda"),
    ] {
        let shown = succeed(folder, &["survey", file]);
        assert!(shown.contains(&format!(": medium {medium}\n")), "{shown}");
        assert!(shown.contains(&format!("--on CHANNEL {wires}\n")), "{shown}");
        link(folder, medium, if medium.starts_with("can") { &KEY_WORDS } else { &[] });
        let (rows, ran) = decoded(folder, &format!("{file} {} --strict", wires.replace('\'', "")));
        assert_eq!((rows.len(), ran.code), (60, 0), "{}", ran.err);
    }
}

/// A channel over USB with messages for two endpoints, one of them in both directions.
fn bus_of_devices(folder: &Path, speed: &str) {
    let text = format!(
        "link lines {{\n    revision 1\n    byte_order little\n}}\n\nchannel a {{\n    medium usb {speed}\n    packet\n    select by endpoint\n}}\n\
         \nmessage Keys {{\n    from device\n    on a endpoint 0x81\n    data : bytes[rest]\n}}\n\
         \nmessage Lamps {{\n    from host\n    on a endpoint 1\n    data : bytes[rest]\n}}\n\
         \nmessage Ask {{\n    from host\n    on a endpoint 0\n    data : bytes[rest]\n}}\n"
    );
    std::fs::write(folder.join("a.ember"), text).unwrap();
}

#[test]
fn universal_serial_buses_are_read() {
    let folder = project();
    let folder = folder.path();
    for (speed, full, most, rate) in [("low", false, 8usize, 12e6), ("full", true, 64, 96e6)] {
        bus_of_devices(folder, speed);
        let mut toggles = [0u32; 2];
        let mut transactions = Vec::new();
        let mut said = Vec::new();
        for n in 0..60u32 {
            let content = bytes(n, n as usize * 7 % (most + 1));
            let at = 0.0012 + f64::from(n) * 0.0005;
            let (endpoint, direction) = [(1, "in"), (1, "out"), (0, "setup")][n as usize % 3];
            // Now and then the device has nothing, or cannot take it.
            if n % 4 == 1 {
                let toggle = toggles.get(n as usize % 3).copied().unwrap_or(0);
                let data = if direction == "in" { Json::Null } else { json!(content) };
                transactions.push(json!([at - 0.0002, 5, endpoint, direction, data, "nak", {"toggle": toggle}]));
            }
            let toggle = toggles.get_mut(n as usize % 3).map_or(0, |toggle| std::mem::replace(toggle, 1 - *toggle));
            transactions.push(json!([at, 5, endpoint, direction, content, "ack", {"toggle": toggle, "skew": 2e-9}]));
            said.push((["Keys", "Lamps", "Ask"][n as usize % 3], content));
        }
        let case = |name: &str, more: Json| {
            let mut case =
                json!({"name": name, "line": "usb", "full": full, "transactions": transactions, "frames": 0.035});
            more.as_object().unwrap().iter().for_each(|(key, value)| case[key] = value.clone());
            case
        };
        written(
            folder,
            &json!([case("exact", json!({})), case("bits", json!({"rate": rate, "form": "u8", "after": 0.001}))]),
        );
        let rate = format!("{}MHz", rate / 1e6);
        for words in [
            "exact.vcd --wire plus=dp --wire minus=dm --strict".to_owned(),
            format!("bits.u8 --sample u8 --rate {rate} --wire plus=D0 --wire minus=D1 --strict"),
        ] {
            let (rows, ran) = decoded(folder, &words);
            assert_eq!(ran.code, 0, "{speed} {words}: {}", ran.err);
            let heard: Vec<_> =
                rows.iter().map(|row| row["message"].as_str().unwrap_or("?").to_owned()).zip(data(&rows)).collect();
            let said: Vec<_> = said.iter().map(|(message, data)| ((*message).to_owned(), data.clone())).collect();
            assert_eq!(heard, said, "{speed} {words}");
            assert!(rows.iter().all(|row| row["node"] == 5), "{words}");
            assert!(ran.err.contains("60 ACK, 15 NAK"), "{}", ran.err);
        }
    }
}

#[test]
fn what_is_wrong_on_a_universal_serial_bus_is_said() {
    let folder = project();
    let folder = folder.path();
    bus_of_devices(folder, "full");
    let case = |name: &str, faulty: Json| {
        let transactions: Json = (0..12)
            .map(|n| {
                let at = 0.001 + f64::from(n) * 0.0005;
                let usual = json!([at, 5, 1, "in", bytes(n as u32, 8), "ack", {"toggle": n % 2}]);
                match &faulty {
                    Json::Array(faulty) if n == 5 => {
                        let mut one = usual;
                        for (place, value) in faulty.iter().enumerate().filter(|(_, value)| !value.is_null()) {
                            one[place + 3] = if value == "none" { Json::Null } else { value.clone() };
                        }
                        one
                    }
                    _ => usual,
                }
            })
            .collect();
        json!({"name": name, "line": "usb", "full": true, "transactions": transactions})
    };
    let cases = [
        (
            "crc16",
            json!([null, null, null, {"toggle": 1, "crc16": 1}]),
            "1 packet with a wrong CRC16, the first at 0.0035",
        ),
        (
            "crc5",
            json!([null, null, null, {"toggle": 1, "crc5": 1}]),
            "1 packet with a wrong CRC5, the first at 0.0035",
        ),
        ("kind", json!([null, null, null, {"toggle": 1, "pid": 1}]), "1 packet of no known kind"),
        ("stuff", json!([null, "ffffffff", null, {"toggle": 1, "stuff": 1}]), "1 packet with seven equal bits"),
        ("silent", json!([null, null, "none", null]), "1 data packet that nobody acknowledged, the first at 0.0035"),
        (
            "repeated",
            json!([null, null, null, {"toggle": 0}]),
            "with the data toggle of the one before, the first at 0.0035",
        ),
    ];
    let mut all: Vec<Json> = cases.iter().map(|(name, faulty, _)| case(name, faulty.clone())).collect();
    all.push(case("clean", Json::Null));
    written(folder, &json!(all));
    for (name, _, said) in &cases {
        let words = format!("{name}.vcd --wire plus=dp --wire minus=dm --strict");
        let (rows, ran) = decoded(folder, &words);
        assert_eq!(ran.code, 1, "{name}: {}", ran.err);
        assert!(ran.err.contains(said), "{name}: {}", ran.err);
        assert_eq!(rows.len(), if *name == "repeated" { 12 } else { 11 }, "{name}");
    }
    // Each packet has a row, in the order in which they came; those of tokens and handshakes say what they are.
    let (all, ran) = decoded(folder, "silent.vcd --wire plus=dp --wire minus=dm --all");
    let (messages, packets): (Vec<Json>, Vec<Json>) = all.iter().cloned().partition(|row| row["packet"].is_null());
    assert_eq!(data(&messages), (0..12).map(|n| bytes(n, 8)).collect::<Vec<_>>());
    let said =
        |row: &Json| (row["direction"].as_str().unwrap_or("").to_owned(), row["packet"].as_str().unwrap().to_owned());
    let (asked, heard) =
        (("host".to_owned(), "IN to address 5, endpoint 1".to_owned()), ("host".to_owned(), "ACK".to_owned()));
    let expected: Vec<_> =
        (0..12).flat_map(|n| [Some(asked.clone()), (n != 5).then(|| heard.clone())]).flatten().collect();
    assert_eq!(packets.iter().map(said).collect::<Vec<_>>(), expected, "{}", ran.err);
    assert_eq!(packets[0]["bytes"], "69 85 60", "{}", packets[0]);
    assert!(all.is_sorted_by_key(|row| row["began"].as_str().unwrap_or("").to_owned()), "{all:?}");
    // They are no bytes of a lane: what is counted is the same with them.
    let strict = |more: &str| decoded(folder, &format!("clean.vcd --wire plus=dp --wire minus=dm {more}")).1;
    assert_eq!(strict("--all --strict").err, strict("--strict").err);
    // A packet that is broken is shown with what is wrong with it.
    for (name, said) in [
        ("crc16", "DATA1 of 8 bytes, checksum wrong"),
        ("crc5", "IN to address 5, endpoint 1, checksum wrong"),
        ("kind", "packet of no kind that this speed has"),
    ] {
        let all = decoded(folder, &format!("{name}.vcd --wire plus=dp --wire minus=dm --all")).0;
        assert!(all.iter().any(|row| row["packet"] == said), "{name}: {all:?}");
    }
    let table = succeed(
        folder,
        &["--link", "a.ember", "decode", "clean.vcd", "--on", "a", "--wire", "plus=dp", "--wire", "minus=dm", "--all"],
    );
    assert!(table.contains("packet   IN to address 5, endpoint 1  69 85 60"), "{table}");
    // A picture of a part begins where the part does.
    let wires =
        ["--on", "a", "--wire", "plus=dp", "--wire", "minus=dm", "--all", "--span", "3.4ms..3.6ms", "--out", "p.svg"];
    succeed(folder, &[&["--link", "a.ember", "plot", "clean.vcd"][..], &wires].concat());
    let picture = std::fs::read_to_string(folder.join("p.svg")).unwrap();
    let begins = [">3.4", ">3400"].iter().any(|label| picture.contains(label));
    let texts: Vec<&str> = picture.split("</text>").filter_map(|part| part.rsplit('>').next()).collect();
    assert!(begins && picture.contains("packet  IN to address 5"), "{texts:?}");
    let swapped = run(
        folder,
        &["--link", "a.ember", "stats", "clean.vcd", "--on", "a", "--wire", "plus=dm", "--wire", "minus=dp"],
    );
    assert!(swapped.err.contains("are `plus` and `minus` swapped, or is this `usb low`?"), "{}", swapped.err);
    // The data of the sixth transaction are cut.
    let (rows, ran) = decoded(folder, "clean.vcd --wire plus=dp --wire minus=dm --span 0s..3506us --strict");
    assert_eq!((rows.len(), ran.code), (5, 1), "{}", ran.err);
    assert!(ran.err.contains("the recording ends inside of a packet, which is left out"), "{}", ran.err);
    let clean = decoded(folder, "clean.vcd --wire plus=dp --wire minus=dm --strict").1;
    assert_eq!(clean.code, 0, "{}", clean.err);
}

/// What a survey says of codes with two halves a bit, of pulses, and of bits that are no characters.
#[test]
fn a_survey_tells_codes_apart() {
    let folder = project();
    let folder = folder.path();
    let frames: Json =
        (0..40).map(|n| json!([0.001 + f64::from(n) * 0.03, bytes(n as u32, 1 + n as usize % 5)])).collect();
    let transactions: Json = (0..40)
        .map(|n| json!([0.001 + f64::from(n) * 0.0005, 5, 1, "in", bytes(n as u32, 8), "ack", {"toggle": n % 2}]))
        .collect();
    written(
        folder,
        &json!([
            {"name": "rises", "line": "manchester", "bitrate": 10e3, "one_rises": true, "preamble": 12, "frames": frames, "after": 0.1},
            {"name": "lamps", "line": "lamps", "frames": frames, "after": 0.1},
            {"name": "usb", "line": "usb", "full": true, "transactions": transactions},
            {"name": "slow", "line": "usb", "full": false, "transactions": transactions},
        ]),
    );
    for (file, said) in [
        ("rises.vcd", "may have a Manchester code: medium line 10 kbit/s manchester 1 rises"),
        ("lamps.vcd", "may have a pulse code: medium line pulse half 0 110 us 1 58 us tolerance 20 %"),
        (
            "usb.vcd",
            "`probe.dp` and `probe.dm` may be the pair of a USB: medium usb full --on CHANNEL --wire plus=probe.dp --wire minus=probe.dm",
        ),
        (
            "slow.vcd",
            "`probe.dp` and `probe.dm` may be the pair of a USB: medium usb low --on CHANNEL --wire plus=probe.dp --wire minus=probe.dm",
        ),
    ] {
        let shown = succeed(folder, &["survey", file]).split_whitespace().collect::<Vec<_>>().join(" ");
        assert!(shown.contains(said), "{file}: {shown}");
    }
    // Pulses at one level, and periods.
    for (what, rest) in [("high", ""), ("low", " resting high")] {
        let medium = format!("line pulse {what} 0 45..55 us 1 95..105 us preamble 12 of 0 start 1 end 0{rest}");
        let text = format!(
            "link lines {{\n revision 1\n byte_order big\n}}\nchannel a {{\n medium {medium}\n packet\n}}\nmessage Any {{\n from device every 30 ms\n on a\n n : u32\n}}\n"
        );
        std::fs::write(folder.join("p.ember"), text).unwrap();
        let trial = "channel = \"a\"\nspan = \"500 ms\"\n[wave]\nrate = \"1 MHz\"\n[[device]]\nnode = 1\n[device.signals.Any]\nn = { walk = 90000000, between = [0, 4000000000], start = 305419896 }\n";
        std::fs::write(folder.join("p.toml"), trial).unwrap();
        let _ = std::fs::remove_file(folder.join("p.vcd"));
        succeed(folder, &["--link", "p.ember", "trial", "p.toml", "--wave", "p.vcd"]);
        let shown = succeed(folder, &["survey", "p.vcd"]).split_whitespace().collect::<Vec<_>>().join(" ");
        assert!(shown.contains(&format!("medium line pulse {what} 0 100 us 1 50 us tolerance 20 %")), "{shown}");
    }
}
