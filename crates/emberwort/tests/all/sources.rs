//! The same frames from captures of every form, written by a program of its own (`containers.py`), give the same rows.

use std::io::Write as _;
use std::path::Path;
use std::process::{Command, Stdio};

use serde_json::Value as Json;

use crate::common::{Beside, emberwort, project, run, run_with_input, stats, succeed};

/// A frame, by its bytes on the control network and on the bus.
struct Frame {
    time: u64,
    packet: String,
    stream: String,
    row: Json,
}

/// Frames with their rows; they stand in frames.txt for the program that writes captures.
fn frames(folder: &Path) -> Vec<Frame> {
    let mut values = String::new();
    for n in 0..23u64 {
        let time = 1_930_788_600_000_000_000 + n * 200_000_000 + n * 1_001;
        let fields = match n % 5 {
            4 => r#"{"raised":["oil_hot"],"oil":231.50,"pump_temp":81,"text":"oil above 80 °C"}"#,
            _ => {
                r#"{"state":"opening","opening":42.5,"upstream":3.870,"oil":231.50,"pump_temp":81,"faults":[],"operator":"Wren","battery":12.0,"latch_force":2.5,"moving":true}"#
            }
        };
        let message = if n % 5 == 4 { "Alarm" } else { "GateStatus" };
        let row = format!(
            r#"{{"time":"{time}","message":"{message}","node":{},"sequence":{n},"fields":{fields}}}"#,
            n % 3 + 1
        );
        values += &row;
        values.push('\n');
    }
    let encoded = |channel: &str| {
        let hex = run_with_input(folder, &["encode", "--values", "-", "--on", channel], values.as_bytes());
        assert_eq!(hex.code, 0, "{}", hex.err);
        hex.out.lines().map(|line| line.replace(' ', "")).collect::<Vec<_>>()
    };
    let rows = values.lines().map(|line| serde_json::from_str::<Json>(line).unwrap());
    let frames = rows.zip(encoded("house").into_iter().zip(encoded("bus485")));
    let time = |row: &Json| row["time"].as_str().unwrap().parse().unwrap();
    let frames: Vec<Frame> =
        frames.map(|(row, (packet, stream))| Frame { time: time(&row), packet, stream, row }).collect();
    let lines: String =
        frames.iter().map(|frame| format!("{} {} {}\n", frame.time, frame.packet, frame.stream)).collect();
    std::fs::write(folder.join("frames.txt"), lines).unwrap();
    frames
}

fn nanoseconds(row: &Json) -> u64 {
    let time: jiff::Timestamp = row["time"].as_str().expect("a time").parse().expect("RFC 3339");
    u64::try_from(time.as_nanosecond()).unwrap()
}

fn python(words: &[&str]) -> String {
    let script = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/containers.py");
    let output =
        Command::new("python3").arg(script).args(words).output().expect("python3 is there (see CONTRIBUTING.md)");
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8(output.stdout).unwrap()
}

#[test]
fn every_container_gives_the_same_rows() {
    let folder = project();
    let frames = frames(folder.path());
    let at = folder.path().to_str().unwrap();
    let written = python(&[&format!("{at}/frames.txt"), at]);
    let mut count = 0;
    for line in written.lines() {
        let [name, times, options] = line.split('\t').collect::<Vec<_>>()[..] else { panic!("{line}") };
        let separator = if options.contains('|') { '|' } else { ' ' };
        let options = options.split(separator).filter(|word| !word.is_empty());
        let words: Vec<&str> = ["decode", "--as", "ndjson", "--strict", name].into_iter().chain(options).collect();
        let ran = run(folder.path(), &words);
        assert_eq!(ran.code, 0, "{name}: {}{}", ran.err, ran.out);
        let rows: Vec<Json> = ran.out.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
        assert_eq!(rows.len(), frames.len(), "{name}: {}", ran.err);
        if name.contains(".pcapng") {
            // A comment stands in each section, and at every third packet of it.
            assert!(ran.err.contains("comment on the capture: a comment\n"), "{name}: {}", ran.err);
            assert!(ran.err.contains("comment on packet 1 (") && ran.err.contains("): seen\n"), "{name}: {}", ran.err);
            let sections = ran.err.matches("comment on the capture").count();
            let packets = ran.err.matches("comment on packet").count();
            let fewest = rows.len() / 3;
            assert!(packets >= fewest && packets <= fewest + 3 * sections, "{name}: {}", ran.err);
        }
        for (row, Frame { time, row: expected, .. }) in rows.iter().zip(&frames) {
            assert_eq!((&row["message"], &row["node"]), (&expected["message"], &expected["node"]), "{name}");
            assert_eq!(row["fields"], expected["fields"], "{name}");
            assert_eq!(row["channel"], if times == "packets" { "bus485" } else { "house" }, "{name}");
            assert!(row["time"].is_string(), "{name}: {row}");
            let found = nanoseconds(row);
            match times {
                "each" => assert_eq!(found, *time, "{name}"),
                "micro" => assert!(found.abs_diff(*time) < 1000, "{name}: {found} {time}"),
                // A frame in two segments has come when the second one has; swapped ones come with the one behind them.
                _ => assert!(found >= *time && found - time <= 400_002_002, "{name}: {found} {time}"),
            }
        }
        count += 1;
    }
    assert!(count >= 24, "{count}");
}

#[test]
fn what_belongs_to_no_channel_is_counted_by_reason() {
    let folder = project();
    let can = |id: u32, length: u8, data: &[u8]| [&id.to_be_bytes()[..], &[length, 0, 0, 0], data].concat();
    let mut file = vec![0xD4, 0xC3, 0xB2, 0xA1, 2, 0, 4, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0xFF, 0xFF, 0, 0, 227, 0, 0, 0];
    for packet in [
        can(0x2000_0060, 8, &[0; 8]), // an error frame: no acknowledge, bus off
        can(0x4000_0123, 0, &[]),     // a remote frame
        can(0x0000_07EE, 8, &[1, 2]), // cut
    ] {
        file.extend(
            [[0; 8].as_slice(), &(packet.len() as u32).to_le_bytes(), &(packet.len() as u32).to_le_bytes(), &packet]
                .concat(),
        );
    }
    std::fs::write(folder.path().join("can.pcap"), file).unwrap();
    let counted = stats(folder.path(), &["can.pcap"]);
    let expected = serde_json::json!({
        "CAN error frames (no acknowledge, bus off)": 1, "CAN remote frames": 1, "cut CAN frames": 1,
    });
    assert_eq!(counted["other"]["reasons"], expected);
    let ran = run(folder.path(), &["decode", "can.pcap"]);
    assert!(ran.err.contains("in 3 packets of no channel of this link (1 CAN"), "{}", ran.err);
}

#[test]
fn rules_say_whose_packets_are_whose() {
    let folder = project();
    let frames = frames(folder.path());
    let at = folder.path().to_str().unwrap();
    python(&[&format!("{at}/frames.txt"), at]);
    let directions = |rule: &str| {
        let out = succeed(folder.path(), &["decode", "--as", "ndjson", "ethernet.pcap", "--assign", rule]);
        let rows: Vec<Json> = out.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
        assert_eq!(rows.len(), frames.len());
        rows.iter().map(|row| row["direction"].as_str().unwrap().to_owned()).collect::<std::collections::BTreeSet<_>>()
    };
    assert_eq!(directions("address=192.0.2.10,from=device"), ["device".to_owned()].into());
    for (rule, said) in [
        ("address=192.0.2.10", "it does not say what those packets are"),
        ("channel=house", "it does not say which packets it is for"),
        ("port=4001,channel=hous", "; did you mean `house`?"),
        ("addres=192.0.2.1,node=3", "a rule has no `addres`"),
        ("port=70000,node=3", "port=70000 is not a port"),
    ] {
        let ran = run(folder.path(), &["decode", "ethernet.pcap", "--assign", rule]);
        assert_eq!(ran.code, 2);
        assert!(ran.err.contains(said), "{rule}: {}", ran.err);
    }
    let counted = stats(folder.path(), &["stream.pcap", "--assign", "port=4001,channel=house"]);
    let reason = "TCP port 4001, whose channel needs packets, which a stream does not keep apart";
    assert_eq!(counted["other"]["reasons"][reason], counted["other"]["packets"]);
    // Without a rule a stream over TCP belongs to nobody, and says its port.
    let counted = stats(folder.path(), &["stream.pcap"]);
    assert_eq!(counted["other"]["reasons"]["TCP port 4001"], counted["other"]["packets"]);
    // A packet that is lost is a gap, at which the stream is not joined.
    let whole = std::fs::read(folder.path().join("stream.pcap")).unwrap();
    let mut at = 24;
    for _ in 0..12 {
        at += 16 + u32::from_le_bytes(whole[at + 8..at + 12].try_into().unwrap()) as usize;
    }
    let next = at + 16 + u32::from_le_bytes(whole[at + 8..at + 12].try_into().unwrap()) as usize;
    std::fs::write(folder.path().join("gap.pcap"), [&whole[..at], &whole[next..]].concat()).unwrap();
    let ran = run(folder.path(), &["decode", "--as", "ndjson", "gap.pcap", "--assign", "port=4001,channel=bus485"]);
    assert!(ran.err.contains("the capture lacks") && ran.err.contains("in 1 place"), "{}", ran.err);
    assert_eq!(ran.out.lines().filter(|line| line.contains("\"message\"")).count(), frames.len() - 1, "{}", ran.out);
}

#[test]
fn devices_of_text_have_nodes_and_revisions_of_the_fleet() {
    let folder = project();
    std::fs::write(folder.path().join("fleet.csv"), "device,node,revision\nwest gate,7,4\neast gate,9,1\n").unwrap();
    let hex = succeed(
        folder.path(),
        &["encode", "Level", "depth=2.5", "battery=3.0", "gauge=0", "trend={\"upstream\": 0.05}"],
    );
    let devices = ["west gate", "east gate", "12", "attic"];
    let object = |device: &&str| format!(r#"{{"dev":"{device}","port":2,"data":"{}"}}"#, hex.trim());
    std::fs::write(folder.path().join("up.ndjson"), devices.iter().map(object).collect::<Vec<_>>().join("\n")).unwrap();
    let pointers = ["--bytes-at", "/data", "--port-at", "/port", "--device-at", "/dev", "--fleet", "fleet.csv"];
    let words = [&["decode", "up.ndjson", "--as", "ndjson"][..], &pointers].concat();
    let ran = run(folder.path(), &words);
    assert!(ran.err.contains("1 device without a known node: attic"), "{}", ran.err);
    let rows: Vec<Json> = ran.out.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    let nodes: Vec<Option<u64>> = rows.iter().map(|row| row["node"].as_u64()).collect();
    assert_eq!(nodes, [Some(7), Some(9), Some(12), None], "{}", ran.out);
    assert!(rows.iter().all(|row| row["channel"] == "gauges" && row["fields"]["depth"] == 2.5), "{}", ran.out);
    let of_west = [&words[..], &["--node", "7"]].concat();
    assert_eq!(run(folder.path(), &of_west).out.lines().count(), 1);
}

#[test]
fn inputs_are_merged_by_time() {
    let folder = project();
    for (node, start) in [(1, 0), (2, 100), (3, 50)] {
        let mut text = String::new();
        for n in 0..20u64 {
            let status =
                ["state=open", "opening=40", "upstream=3", "oil=20", "pump_temp=30", "faults=[]", "latch_force=1"];
            let (node, sequence) = (node.to_string(), n.to_string());
            let words = ["encode", "GateStatus", "--on", "bus485", "--node", &node, "--sequence", &sequence];
            let time = start + n * 37;
            let hex = succeed(folder.path(), &[&words[..], &status].concat());
            text += &format!("{}.{:03} {hex}", time / 1000, time % 1000);
        }
        std::fs::write(folder.path().join(format!("{node}.txt")), text).unwrap();
    }
    for order in [["1.txt", "2.txt", "3.txt"], ["3.txt", "1.txt", "2.txt"]] {
        let words = [&["decode", "--on", "bus485", "--as", "ndjson"][..], &order].concat();
        let rows: Vec<Json> =
            succeed(folder.path(), &words).lines().map(|line| serde_json::from_str(line).unwrap()).collect();
        assert_eq!(rows.len(), 60);
        let times: Vec<u64> = rows.iter().map(nanoseconds).collect();
        assert!(times.is_sorted(), "{times:?}");
    }
    // What is wrong with one of them is said, and the others are read.
    std::fs::write(folder.path().join("4.txt"), "0.5 C6 zz\n").unwrap();
    let ran = run(folder.path(), &["decode", "--on", "bus485", "--as", "ndjson", "1.txt", "4.txt", "2.txt"]);
    assert_eq!((ran.code, ran.out.lines().count()), (1, 40), "{}", ran.err);
    assert!(ran.err.contains("4.txt"), "{}", ran.err);
    let ran = run(folder.path(), &["decode", "--on", "bus485", "--as", "ndjson", "1.txt", "5.txt"]);
    assert_eq!(ran.code, 2, "{}", ran.err);
    assert!(ran.err.contains("5.txt cannot be read"), "{}", ran.err);
}

#[test]
fn a_source_of_the_project_file_has_a_name() {
    let folder = project();
    let frames = frames(folder.path());
    let lines: String = frames.iter().map(|frame| format!("{} got {}\n", frame.time, frame.packet)).collect();
    std::fs::write(folder.path().join("gateway.log"), lines + "the gateway restarts\n").unwrap();
    let project_file = folder.path().join("emberwort.toml");
    let before = std::fs::read_to_string(&project_file).unwrap();
    let with = |entry: &str| {
        std::fs::write(&project_file, format!("{before}\n[[source]]\nname = \"gateway\"\n{entry}\n")).unwrap()
    };
    with("files = [\"gateway.log\"]\nlines = \"{time:ns} got {bytes}\"\non = \"house\"");
    let ran = run(folder.path(), &["decode", "--source", "gateway", "--as", "ndjson"]);
    assert_eq!((ran.code, ran.out.lines().count()), (0, frames.len()), "{}", ran.err);
    assert!(ran.err.contains("gateway.log: 1 line holds no record; the first is line 24: "), "{}", ran.err);
    assert_eq!(run(folder.path(), &["decode", "--source", "gateway", "--strict"]).code, 1);
    let ran = run(folder.path(), &["decode", "--source", "gatewy"]);
    assert!(ran.err.contains("no source `gatewy`; did you mean `gateway`?"), "{}", ran.err);
    for (entry, said) in [
        ("files = [\"gateway.log\"]\nlines = \"{time}\"", "--lines cannot be read: it has no {bytes}"),
        ("line = \"{time}\"", "unexpected argument '--line'"),
        ("files = [\"gateway.log\"]\non = \"hous\"", "hous"),
        ("follow = true", "`follow` is not an option of a source"),
        ("on = \"house\"", "names no files"),
    ] {
        with(entry);
        let ran = run(folder.path(), &["decode", "--source", "gateway"]);
        assert_eq!(ran.code, 2, "{entry}");
        assert!(ran.err.contains(said), "{entry}: {}", ran.err);
    }
}

#[test]
fn rows_of_a_file_that_grows_come_as_it_does() {
    let folder = project();
    let frames = frames(folder.path());
    let path = folder.path().join("grows.log");
    let line = |n: usize| format!("{}.5 {}\n", n, frames[n].packet);
    std::fs::write(&path, line(0)).unwrap();
    let words =
        ["decode", "--on", "house", "--follow", "grows.log", "--as", "ndjson", "--first", "3", "--threads", "1"];
    let mut command = emberwort(folder.path(), &words);
    command.stdin(Stdio::null());
    let beside = Beside::start(command);
    for n in [1, 2] {
        std::thread::sleep(std::time::Duration::from_millis(120));
        // Half a line is not read before its end comes.
        let (text, mut file) = (line(n), std::fs::File::options().append(true).open(&path).unwrap());
        file.write_all(&text.as_bytes()[..20]).unwrap();
        std::thread::sleep(std::time::Duration::from_millis(60));
        file.write_all(&text.as_bytes()[20..]).unwrap();
    }
    let ran = beside.end();
    assert_eq!((ran.code, ran.out.lines().count()), (0, 3), "{}", ran.err);
}
