//! Waveforms that a program of its own writes bit by bit (`waveforms.py`) hold the frames that went over the wires.

use std::io::Write as _;
use std::path::Path;
use std::process::{Command, Stdio};

use serde_json::{Value as Json, json};

use crate::common::{self, project, rows, run, succeed};

fn written(folder: &Path, cases: &Json) {
    let script = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/waveforms.py");
    let mut python =
        Command::new("python3").arg(script).arg(folder).stdin(Stdio::piped()).spawn().expect("python3 starts");
    python.stdin.take().unwrap().write_all(cases.to_string().as_bytes()).unwrap();
    assert!(python.wait().unwrap().success());
}

/// Frames of the bus: when they begin in seconds, who sends them, their bytes in hex.
fn frames(folder: &Path) -> Vec<(f64, bool, String)> {
    let mut all = Vec::new();
    for n in 0..12 {
        let host = n % 3 == 2;
        let sequence = n.to_string();
        let opening = format!("opening={}", f64::from(n) * 2.5);
        let target = format!("target={}", n * 5);
        let mut words: Vec<&str> = match host {
            true => vec!["encode", "MoveGate", &target, "speed=12"],
            false => vec![
                "encode",
                "GateStatus",
                "state=held",
                &opening,
                "upstream=2.5",
                "oil=20",
                "pump_temp=-3",
                "faults=[latch_stuck]",
                "operator=Wren",
                "latch_force=1.5",
            ],
        };
        words.extend(["--on", "bus485", "--node", "3", "--sequence", &sequence]);
        all.push((0.001 + f64::from(n) * 0.02, host, succeed(folder, &words).trim().replace(' ', "")));
    }
    all
}

fn case(name: &str, frames: &[(f64, bool, String)], more: &Json) -> Json {
    let of = |host: bool| {
        frames.iter().filter(|frame| frame.1 == host).map(|frame| json!([frame.0, frame.2])).collect::<Json>()
    };
    let mut case = json!({
        "name": name, "line": "uart", "baud": 115_200, "data_bits": 8, "parity": "N", "stop_bits": 1, "device": of(false), "host": of(true),
        "form": "vcd",
    });
    for (key, value) in more.as_object().unwrap() {
        case[key] = value.clone();
    }
    case
}

/// Seconds since the beginning of a waveform.
fn seconds(row: &Json) -> f64 {
    let time: jiff::Timestamp = row["time"].as_str().unwrap().parse().unwrap();
    time.as_nanosecond() as f64 / 1e9
}

/// The same as in a capture of the bytes, with the times at which they ended.
fn must_hold(out: &str, frames: &[(f64, bool, String)], character: f64, name: &str) {
    let rows = rows(out);
    assert_eq!(rows.len(), frames.len(), "{name}: {out}");
    for ((n, row), (start, host, hex)) in (0..).zip(&rows).zip(frames) {
        let n: u32 = n;
        assert_eq!(row["direction"], if *host { "host" } else { "device" }, "{name}");
        let field = if *host { &row["fields"]["target"] } else { &row["fields"]["opening"] };
        assert_eq!(field.as_f64(), Some(f64::from(n) * if *host { 5.0 } else { 2.5 }), "{name}: {row}");
        let end = start + hex.len() as f64 / 2.0 * character;
        assert!((seconds(row) - end).abs() < 2e-6, "{name}: {} {end}", seconds(row));
    }
}

const WIRES: &str = "--wire device=tx --wire host=rx";
const BITS: &str = "--wire device=D0 --wire host=D1";

/// The words that read a case.
fn command(name: &str, more: &Json) -> Vec<String> {
    let form = more["form"].as_str().unwrap_or("vcd");
    let mut words =
        format!("decode {name}.{form} --on bus485 --as ndjson --strict {}", if form == "vcd" { WIRES } else { BITS });
    if form == "u8" {
        words += &format!(" --form samples --sample u8 --rate {}", more["rate"]);
    }
    words.split(' ').map(str::to_owned).collect()
}

fn run_owned(folder: &Path, words: &[String]) -> common::Ran {
    run(folder, &words.iter().map(String::as_str).collect::<Vec<_>>())
}

#[test]
fn frames_on_an_asynchronous_line_are_read() {
    let folder = project();
    let folder = folder.path();
    let own = std::fs::read_to_string(folder.join("marlock.ember")).unwrap();
    let frames = frames(folder);
    let cases = [
        ("plain", json!({}), "8N1"),
        ("even", json!({"data_bits": 8, "parity": "E", "stop_bits": 2}), "8E2"),
        ("odd", json!({"parity": "O", "baud": 921_600}), "8O1"),
        ("inverted", json!({"inverted": true}), "8N1"),
        ("pauses", json!({"faults": {"between": 0.4}}), "8N1"),
        ("bits", json!({"form": "u8", "rate": 2e6}), "8N1"),
        ("few", json!({"form": "u8", "rate": 460_800.0}), "8N1"),
        ("coarse", json!({"rate": 1e6}), "8N1"),
    ];
    written(folder, &cases.iter().map(|(name, more, _)| case(name, &frames, more)).collect());
    for (name, more, format) in &cases {
        let baud = more["baud"].as_u64().unwrap_or(115_200);
        std::fs::write(folder.join("marlock.ember"), own.replace("uart 115200 8N1", &format!("uart {baud} {format}")))
            .unwrap();
        let mut words = command(name, more);
        if more["inverted"] == true {
            words.extend(["--invert", "device", "--invert", "host"].map(str::to_owned));
        }
        let ran = run_owned(folder, &words);
        assert_eq!(ran.code, 0, "{name}: {}", ran.err);
        if *name == "pauses" {
            assert_eq!(rows(&ran.out).len(), frames.len());
            continue;
        }
        let bits = format[2..].parse::<f64>().unwrap() + if format.contains('N') { 9.0 } else { 10.0 };
        must_hold(&ran.out, &frames, bits / baud as f64, name);
    }
}

#[test]
fn what_is_wrong_on_an_asynchronous_line_is_said() {
    let folder = project();
    let folder = folder.path();
    let frames = frames(folder);
    let long = frames[0].2.len() / 2;
    let cases = [
        ("clean", json!({}), None),
        (
            "stop",
            json!({"faults": {"stop": [2, 5]}}),
            Some("`device` has 1 character without a stop bit, the first at 0.0"),
        ),
        ("glitch", json!({"faults": {"glitch": 0.0005}}), Some("has 1 pulse too short for a start bit")),
        (
            "slow",
            json!({"baud": 112_000}),
            Some("the sender of `device` has 112000 baud, 2.8 % slower than the 115200 of the definition"),
        ),
        (
            "upside",
            json!({"inverted": true}),
            Some("the wire `device` is low for most of the time, and rests high; try --invert device"),
        ),
        ("silent", json!({"device": []}), Some("nothing happens on the wire `device`; is it the right signal?")),
        ("inside", json!({"form": "u8", "rate": 2e6, "begins": 0.001 + 3.5 * 10.0 / 115_200.0}), Some("")),
        (
            "coarse",
            json!({"form": "u8", "rate": 300_000.0}),
            Some("2.6 samples a bit are not safe to read; sample at 460800 Hz or more"),
        ),
    ];
    written(folder, &cases.iter().map(|(name, more, _)| case(name, &frames, more)).collect());
    for (name, more, said) in &cases {
        let words = command(name, more);
        let ran = run_owned(folder, &words);
        let Some(said) = said else {
            assert_eq!(ran.code, 0, "{name}: {}", ran.err);
            assert_eq!(ran.err.lines().count(), 2, "{name}: {}", ran.err);
            continue;
        };
        assert!(ran.code == 1 && ran.err.contains(said), "{name}: {}", ran.err);
        // All others are read.
        if ["glitch", "slow", "inside"].contains(name) {
            let good = rows(&ran.out).iter().filter(|row| row["message"].is_string()).count();
            assert!(good >= frames.len() - 1, "{name} {long}: {}", ran.err);
        }
    }
}

#[test]
fn volts_become_levels_at_a_threshold() {
    let folder = project();
    let folder = folder.path();
    let frames: Vec<_> = frames(folder).into_iter().filter(|frame| !frame.1).collect();
    let mut noisy = case("noisy", &frames, &json!({"form": "f32", "rate": 2e6}));
    noisy.as_object_mut().unwrap().remove("host");
    written(folder, &json!([noisy]));
    let words = ["decode", "noisy.f32", "--on", "bus485", "--as", "ndjson", "--strict", "--wire", "device=A0"];
    let volts = ["--sample", "f32", "--rate", "2MHz", "--threshold", "1.6V", "--hysteresis", "800mV"];
    let ran = run(folder, &[&words[..], &volts].concat());
    assert_eq!(ran.code, 0, "{}", ran.err);
    assert_eq!(rows(&ran.out).len(), frames.len());
    // What is low and what is high is found in a file, and said; of what comes only once it has to be said.
    let ran = run(folder, &[&words[..], &volts[..4]].concat());
    assert!(ran.code == 0 && ran.err.contains("; its threshold is 1."), "{}", ran.err);
    assert_eq!(rows(&ran.out).len(), frames.len());
    let bytes = std::fs::read(folder.join("noisy.f32")).unwrap();
    let once: Vec<&str> = words.iter().map(|word| if *word == "noisy.f32" { "-" } else { word }).collect();
    let ran = common::run_with_input(folder, &[&once[..], &volts[..4]].concat(), &bytes);
    assert!(ran.code == 2 && ran.err.contains("the signal of `device` has numbers"), "{}", ran.err);
}

#[test]
fn tables_of_samples_are_read_with_their_headings() {
    let folder = project();
    let folder = folder.path();
    let frames = frames(folder);
    written(folder, &json!([case("table", &frames, &json!({"form": "csv", "rate": 1e6}))]));
    let words = ["decode", "table.csv", "--on", "bus485", "--as", "ndjson", "--strict"];
    // A difference of two signals is a wire, too: the reference is at rest.
    let wires = ["--wire", "device=CH1-REF", "--wire", "host=CH2"];
    let ran = run(folder, &[&words[..], &wires].concat());
    assert_eq!(ran.code, 0, "{}", ran.err);
    assert!(ran.err.contains("3 lines in front of the samples were stepped over"), "{}", ran.err);
    must_hold(&ran.out, &frames, 10.0 / 115_200.0, "table");
    // Columns by their numbers, with names of one's own.
    let wires = ["--columns", "time=0,down=1,up=2", "--wire", "device=down", "--wire", "host=up"];
    let ran = run(folder, &[&words[..], &wires].concat());
    assert_eq!(ran.code, 0, "{}", ran.err);
    must_hold(&ran.out, &frames, 10.0 / 115_200.0, "columns");
    for (more, said) in [
        (&["--columns", "time=0,down=7"][..], "there is no column `7`; the table has Time [us], CH1, CH2, REF"),
        (&["--columns", "time"], "`time` is no NAME=COLUMN"),
        (&["--form", "samples"], "--form samples needs --sample"),
        (&["--form", "raw"], "of a waveform it is `samples`"),
    ] {
        let ran = run(folder, &[&words[..6], more, &["--wire", "device=down"]].concat());
        assert!(ran.code > 0 && ran.err.contains(said), "{more:?}: {}", ran.err);
    }
}

#[test]
fn words_of_a_serial_peripheral_interface_are_read() {
    let folder = project();
    let folder = folder.path();
    let own = std::fs::read_to_string(folder.join("pump.ember")).unwrap();
    // (what the definition says, mode, bits of a word, least significant bit first, level that selects)
    let forms = [
        ("", 0, 8, false, Some(0)),
        (" mode 1", 1, 8, false, Some(0)),
        (" lsb first mode 2", 2, 8, true, Some(0)),
        (" mode 3 word 16 bits", 3, 16, false, Some(0)),
        (" word 16 bits lsb first select high", 0, 16, true, Some(1)),
        (" select none mode 1", 1, 8, false, None),
        (" word 12 bits", 0, 12, false, Some(0)),
    ];
    // The sensor answers with 16 bits: all readings as numbers.
    let numbers: Vec<u64> = (0..40).map(|n| n * 1657 % 4096).collect();
    let word_of = |number: u64, bits: u32| match bits {
        8 => format!("{:02x} {:02x}", number >> 8, number & 0xFF),
        _ => format!("{number:x}"),
    };
    let case = |n: usize| {
        let (_, mode, bits, lsb_first, select) = forms[n];
        let frames: Json = (0..)
            .zip(&numbers)
            .map(|(n, number)| json!([0.0001 + f64::from(n) * 1e-4, word_of(*number, bits), word_of(0, bits)]))
            .collect();
        json!({"name": format!("spi{n}"), "line": "spi", "hertz": 2e6, "mode": mode, "bits": bits, "lsb_first": lsb_first, "select": select.unwrap_or(0), "frames": frames, "form": "vcd"})
    };
    written(folder, &(0..forms.len()).map(case).collect());
    for (n, (words, _, bits, lsb_first, select)) in forms.iter().enumerate() {
        std::fs::write(folder.join("pump.ember"), own.replace("spi 2 MHz", &format!("spi 2 MHz{words}"))).unwrap();
        let file = format!("spi{n}.vcd");
        let mut line = vec![
            "decode",
            &file,
            "--on",
            "probe",
            "--as",
            "ndjson",
            "--strict",
            "--wire",
            "clock=sck",
            "--wire",
            "device=miso",
        ];
        if select.is_some() {
            line.extend(["--wire", "select=cs"]);
        }
        let ran = run(folder, &line);
        assert_eq!(ran.code, 0, "{words}: {}", ran.err);
        let found = rows(&ran.out);
        assert_eq!(found.len(), numbers.len(), "{words}: {}", ran.err);
        for ((row, number), at) in found.iter().zip(&numbers).zip(0..) {
            // The bytes in the order in which they come.
            let bytes = if *lsb_first && *bits == 16 { number.swap_bytes() >> 48 } else { *number };
            let hex = format!("{bytes:04x}");
            let direct =
                succeed(folder, &["decode", "--hex", &hex, "--on", "probe", "--from", "device", "--as", "ndjson"]);
            assert_eq!(row["fields"], rows(&direct)[0]["fields"], "{words}: {hex}");
            let total = f64::from(if *bits == 12 { 12 } else { 16 });
            let end = 0.0001 + f64::from(at) * 1e-4 + (total + 0.5) / 2e6;
            assert!((seconds(row) - end).abs() < 1e-6, "{words}: {row} {end}");
        }
    }
    // A wrong mode or word length is said, where it shows.
    std::fs::write(folder.join("pump.ember"), own.replace("spi 2 MHz", "spi 2 MHz word 24 bits")).unwrap();
    let wires = ["--wire", "clock=sck", "--wire", "device=miso", "--wire", "select=cs"];
    let ran = run(folder, &[&["decode", "spi0.vcd", "--on", "probe"][..], &wires].concat());
    assert!(ran.err.contains("40 frames ended inside of a word, the first at 0.0001"), "{}", ran.err);
    let swapped = ["--wire", "clock=miso", "--wire", "device=sck", "--wire", "select=mosi"];
    let ran = run(folder, &[&["decode", "spi0.vcd", "--on", "probe", "--strict"][..], &swapped].concat());
    assert_eq!(ran.code, 1, "{}", ran.err);
}

/// What is wrong with the wires, where the bytes alone would not show it.
#[test]
fn wires_that_are_the_wrong_ones_are_said() {
    let folder = project();
    let folder = folder.path();
    let frames = frames(folder);
    let spi: Json = (0..60)
        .map(|n| json!([0.0001 + f64::from(n) * 1e-4, format!("{:02x} {:02x}", n * 7 % 64, n * 13 % 256), "00 00"]))
        .collect();
    written(
        folder,
        &json!([
            case("plain", &frames, &json!({})),
            case("volts", &frames, &json!({"form": "csv", "rate": 1e6})),
            {"name": "spi", "line": "spi", "hertz": 2e6, "mode": 0, "bits": 8, "frames": spi, "form": "vcd"},
        ]),
    );
    let uart = ["--on", "bus485", "--wire", "device=probe.rx", "--wire", "host=probe.tx"];
    let volts = ["--on", "bus485", "--wire", "device=CH1", "--wire", "host=CH2"];
    let own = std::fs::read_to_string(folder.join("pump.ember")).unwrap();
    for (file, medium, words, said) in [
        (
            "plain.vcd",
            "spi 2 MHz",
            &uart[..],
            "12 of 12 frames come from the end that does not send them: the wires are probably swapped; try --wire host=probe.rx --wire device=probe.tx",
        ),
        (
            "volts.csv",
            "spi 2 MHz",
            &[&volts[..], &["--threshold", "5V"]].concat(),
            "the threshold 5.000 of `device` lies outside of its signal",
        ),
        (
            "spi.vcd",
            "spi 2 MHz select high",
            &["--on", "probe", "--wire", "clock=sck", "--wire", "device=miso", "--wire", "select=cs"],
            "the clock never ticks while the device is selected: the level that selects may be the other one, or clock and select may be other signals; try --invert select",
        ),
        (
            "spi.vcd",
            "spi 2 MHz select high",
            &["--on", "probe", "--wire", "clock=sck", "--wire", "device=miso", "--wire", "select=mosi"],
            "no device is ever selected while the clock ticks",
        ),
        (
            "spi.vcd",
            "spi 2 MHz mode 1",
            &["--on", "probe", "--wire", "clock=sck", "--wire", "device=miso", "--wire", "select=cs"],
            "the data of `device` change at the edge at which they are taken",
        ),
        (
            "spi.vcd",
            "spi 2 MHz word 12 bits",
            &["--on", "probe", "--wire", "clock=sck", "--wire", "device=miso", "--wire", "select=cs"],
            "60 frames ended inside of a word, the first at 0.0001",
        ),
    ] {
        std::fs::write(folder.join("pump.ember"), own.replace("spi 2 MHz", medium)).unwrap();
        let ran = run(folder, &[&["decode", file, "--strict"][..], words].concat());
        let flat = ran.err.split_whitespace().collect::<Vec<_>>().join(" ");
        assert!(ran.code == 1 && flat.contains(said), "{file} {medium}: {} {}", ran.code, ran.err);
    }
}

/// With few samples a bit what is read is right, or it is said that it is not safe.
#[test]
fn few_samples_a_bit_are_read_right_or_said() {
    let folder = project();
    let folder = folder.path();
    let frames = frames(folder);
    let all = [2.0f64, 2.3, 2.7, 3.0, 3.4, 4.0, 4.3, 6.0, 6.1];
    let mut cases = Vec::new();
    for (n, samples) in all.iter().enumerate() {
        let rate = samples * 115_200.0;
        cases.push((format!("vcd{n}"), json!({"rate": rate, "form": "vcd"}), *samples));
        cases.push((format!("u{n}"), json!({"rate": rate.round(), "form": "u8"}), *samples));
    }
    written(folder, &cases.iter().map(|(name, more, _)| case(name, &frames, more)).collect());
    for (name, more, samples) in &cases {
        let mut words = command(name, more);
        if let Some(at) = words.iter().position(|word| word == "--rate") {
            words[at + 1] = more["rate"].as_f64().unwrap().round().to_string();
        }
        let ran = run_owned(folder, &words);
        let flat = ran.err.split_whitespace().collect::<Vec<_>>().join(" ");
        let is_said = flat.contains("not safe to read");
        // Where the rate is known, it is said whatever was read.
        if *samples < 4.0 && more["form"] == "u8" {
            assert!(is_said, "{name} {samples}: {}", ran.err);
        }
        if !is_said {
            let good = rows(&ran.out).iter().filter(|row| row["message"].is_string()).count();
            assert_eq!((good, ran.code), (frames.len(), 0), "{name} {samples}: {}", ran.err);
        }
        if *samples >= 4.0 {
            assert!(!is_said, "{name} {samples}: {}", ran.err);
        }
    }
}

#[test]
fn wires_are_kept_under_a_name() {
    let folder = project();
    let folder = folder.path();
    let project_file = std::fs::read_to_string(folder.join("emberwort.toml")).unwrap();
    let wires = "\n[[wires]]\nname = \"bench\"\non = \"bus485\"\nwire = [\"device=CH1\", \"host=CH2\"]\n";
    std::fs::write(folder.join("emberwort.toml"), format!("{project_file}{wires}")).unwrap();
    let named = succeed(folder, &["decode", "waveforms/bus.csv", "--wires", "bench"]);
    let said = ["--on", "bus485", "--wire", "device=CH1", "--wire", "host=CH2"];
    assert_eq!(named, succeed(folder, &[&["decode", "waveforms/bus.csv"][..], &said].concat()));
    // What the command line says itself, counts.
    let own = succeed(folder, &["decode", "waveforms/bus.csv", "--wires=bench", "--wire", "device=CH1"]);
    assert!(own.contains("Refused") && !own.contains("MoveGate"), "{own}");
    let ran = run(folder, &["decode", "waveforms/bus.csv", "--wires", "desk"]);
    assert!(ran.code == 2 && ran.err.contains("--wires desk: emberwort.toml has the wires bench"), "{}", ran.err);
}

#[test]
fn wires_that_are_not_there_are_said() {
    let folder = project();
    let folder = folder.path();
    let frames = frames(folder);
    written(folder, &json!([case("a", &frames, &json!({}))]));
    std::fs::write(folder.join("no.vcd"), "hello there").unwrap();
    std::fs::write(folder.join("cut.vcd"), "$var wire 1 ! tx $end here").unwrap();
    std::fs::write(folder.join("back.vcd"), "$var wire 1 ! tx $end $enddefinitions $end #5 1! #4 0!").unwrap();
    for (words, said) in [
        (
            &["a.vcd", "--on", "bus485", "--wire", "device=ty"][..],
            "a.vcd: there is no signal `ty`; the waveform has probe.tx, probe.rx",
        ),
        (&["a.vcd", "--on", "bus485", "--wire", "clock=tx"], "a wire is device, host, not `clock`"),
        (&["a.vcd", "--on", "bus485", "--wire", "device=tx", "--wire", "device=rx"], "the wire `device` is said twice"),
        (&["a.vcd", "--on", "house", "--wire", "device=tx"], "waveforms of `house` cannot be read"),
        (&["a.vcd", "--on", "probe", "--wire", "device=tx"], "the line needs its wire `clock`: --wire clock=SIGNAL"),
        (
            &["a.vcd", "--on", "probe", "--wire", "clock=tx", "--wire", "device=rx"],
            "the line needs its wire `select`: --wire select=SIGNAL",
        ),
        (
            &["a.vcd", "--on", "bus485", "--wire", "device=tx", "--invert", "host"],
            "--invert host: no --wire says that wire",
        ),
        (&["a.vcd", "--on", "bus485", "--wire", "device=tx", "--sample", "u8"], "--sample needs --rate"),
        (&["a.vcd", "--on", "bus485", "--wire", "device=tx", "--rate", "12 m"], "`12 m` is no rate; write it as 12MHz"),
        (&["nothing.vcd", "--on", "bus485", "--wire", "device=tx"], "nothing.vcd"),
    ] {
        let ran = run(folder, &[&["decode"][..], words].concat());
        assert!(ran.code == 2 && ran.err.contains(said), "{words:?}: {}", ran.err);
    }
    // Names of a file cannot steer a terminal.
    let hostile = "$timescale 1ns $end $var wire 1 ! a\u{1b}[2Jb $end $enddefinitions $end #0 0! #5 1! #9 0!";
    std::fs::write(folder.join("hostile.vcd"), hostile).unwrap();
    for words in [&["survey", "hostile.vcd"][..], &["decode", "hostile.vcd", "--on", "bus485", "--wire", "device=x"]] {
        let ran = run(folder, words);
        let shown = format!("{}{}", ran.out, ran.err);
        assert!(shown.contains("[2Jb") && !shown.contains('\u{1b}'), "{shown}");
    }
    let amend =
        ["amend", "a.vcd", "--on", "bus485", "--wire", "device=tx", "--out", "new.pcap", "--frame", "1", "--drop"];
    let ran = run(folder, &amend);
    assert!(ran.code == 2 && ran.err.contains("a waveform holds levels") && !folder.join("new.pcap").exists());
    for (file, said) in [
        ("no.vcd", "this is neither a value change dump nor a table of samples"),
        ("cut.vcd", "the header has `here` where a command is expected"),
        ("back.vcd", "time goes back"),
    ] {
        let ran = run(folder, &["decode", file, "--on", "bus485", "--wire", "device=tx"]);
        assert!(ran.code == 1 && ran.err.contains(said), "{}", ran.err);
    }
}

#[test]
fn a_survey_says_what_is_on_the_wires() {
    let folder = project();
    let folder = folder.path();
    let frames = frames(folder);
    let spi: Json = (0..60)
        .map(|n| json!([0.0001 + f64::from(n) * 1e-4, format!("{:02x} {:02x}", n * 7 % 256, n * 13 % 256), "00 00"]))
        .collect();
    let spi = json!({"name": "spi", "line": "spi", "hertz": 2e6, "mode": 0, "bits": 8, "frames": spi, "form": "vcd"});
    let cases = [
        case("plain", &frames, &json!({})),
        case("upside", &frames, &json!({"inverted": true, "baud": 57_600})),
        case("volts", &frames, &json!({"form": "csv", "rate": 1e6})),
        case("few", &frames, &json!({"form": "u8", "rate": 300_000.0})),
        spi,
    ];
    written(folder, &json!(cases));
    let survey = |words: &[&str]| {
        let out = succeed(folder, &[&["survey", "--as", "ndjson"][..], words].concat());
        rows(&out)
    };
    for (file, baud, rests, names) in [
        ("plain.vcd", 115_200, "high", ["probe.tx", "probe.rx"]),
        ("upside.vcd", 57_600, "low", ["probe.tx", "probe.rx"]),
        ("volts.csv", 115_200, "high", ["CH1", "CH2"]),
    ] {
        let found = survey(&[file]);
        for (signal, name) in found.iter().zip(names) {
            assert_eq!((&signal["signal"], &signal["rests"]), (&name.into(), &rests.into()), "{file}: {signal}");
            assert_eq!(signal["probably"]["usual_baud"], baud, "{file}: {signal}");
            let measured = signal["probably"]["baud"].as_f64().unwrap();
            assert!((measured / f64::from(baud) - 1.0).abs() < 0.01, "{file}: {measured}");
            // A change of the level at the begin or the end of each bit: as many edges as the writer made.
            assert_eq!(signal["edges"].as_u64().unwrap() % 2, 0, "{file}: {signal}");
        }
    }
    let found = survey(&["spi.vcd"]);
    let kinds: Vec<&str> = found.iter().map(|signal| signal["probably"]["kind"].as_str().unwrap_or("")).collect();
    assert_eq!(kinds, ["clock", "select", "data", ""]);
    assert!((found[0]["probably"]["hertz"].as_f64().unwrap() / 2e6 - 1.0).abs() < 0.01);
    assert_eq!((&found[0]["edges"], &found[3]["edges"]), (&(60 * 16 * 2).into(), &0.into()));
    // The demo's scope took 4.3 samples a bit.
    let found = survey(&["waveforms/bus.csv"]);
    assert!(found[..2].iter().all(|signal| signal["probably"]["usual_baud"] == 115_200), "{found:?}");
    // What it ends with is what to write and to say next, and that works.
    let shown = succeed(folder, &["survey", "spi.vcd"]);
    assert!(shown.contains("`probe.sck` may be the clock of a line: medium spi 2 MHz\n"), "{shown}");
    let wires = "  --on CHANNEL --wire clock=probe.sck --wire select=probe.cs --wire device=probe.miso\n";
    assert!(shown.ends_with(wires), "{shown}");
    let words: Vec<&str> =
        wires.split_whitespace().map(|word| if word == "CHANNEL" { "probe" } else { word }).collect();
    assert_eq!(rows(&succeed(folder, &[&["decode", "spi.vcd", "--as", "ndjson"][..], &words].concat())).len(), 60);
    let shown = succeed(folder, &["survey", "upside.vcd"]);
    assert!(shown.contains("medium uart 57600 8N1; it rests low, so it is inverted"), "{shown}");
    assert!(shown.ends_with("--wire device=probe.tx --wire host=probe.rx --invert device --invert host\n"), "{shown}");
    let ran = run(folder, &["survey", "few.u8", "--sample", "u8", "--rate", "300kHz"]);
    assert!(ran.err.contains("the shortest pulse of `D0` is 2 samples long"), "{}", ran.err);
    let ran = run(folder, &["survey", "plain.vcd", "--sample", "u8"]);
    assert_eq!(ran.code, 2);
    std::fs::write(folder.join("cut.vcd"), "$timescale 3 parsecs $end").unwrap();
    let ran = run(folder, &["survey", "cut.vcd"]);
    assert!(
        ran.code == 1 && ran.err.contains("`3parsecs` as time scale; it is 1, 10 or 100 of s to fs"),
        "{}",
        ran.err
    );
}

#[test]
fn the_waveforms_of_the_demo_say_why_the_gate_stays() {
    let folder = project();
    let folder = folder.path();
    let words = [
        "decode",
        "waveforms/bus.csv",
        "--on",
        "bus485",
        "--wire",
        "device=CH1",
        "--wire",
        "host=CH2",
        "--as",
        "ndjson",
    ];
    let found = rows(&succeed(folder, &words));
    assert_eq!(found.len(), 2, "{found:?}");
    assert_eq!((&found[0]["message"], &found[1]["message"]), (&"MoveGate".into(), &"Refused".into()));
    assert_eq!(found[1]["fields"]["reason"], "oil_hot");
    let wires = ["--wire", "clock=sck", "--wire", "select=cs", "--wire", "device=miso", "--as", "ndjson"];
    let found = rows(&succeed(folder, &[&["decode", "waveforms/probe.vcd", "--on", "probe"][..], &wires].concat()));
    assert_eq!(found.len(), 16);
    assert!(found.iter().all(|row| (150.0..170.0).contains(&row["fields"]["pressure"].as_f64().unwrap())), "{found:?}");
}

/// Standard output that the page of waveforms shows below a command is what the command prints; commands alone succeed.
#[test]
fn the_page_shows_what_the_commands_print() {
    let folder = project();
    let page = std::fs::read_to_string(common::marlock().join("../../docs/waveforms.md")).unwrap();
    let (_, walk) = page.split_once("## From no bytes at all").unwrap();
    let (walk, _) = walk.split_once("\n## ").unwrap();
    let mut commands = 0;
    let (head, _) = page.split_once("More:").unwrap();
    let blocks = |text: &'_ str| text.split("```\n").skip(1).step_by(2).map(str::to_owned).collect::<Vec<_>>();
    for block in blocks(head).into_iter().chain(blocks(walk)) {
        if !block.starts_with("$ ") {
            for line in block.lines() {
                let words = line.strip_prefix("emberwort ").unwrap().replace('\'', "");
                succeed(folder.path(), &words.split_whitespace().collect::<Vec<_>>());
                commands += 1;
            }
            continue;
        }
        for shown in block.split("$ emberwort ").skip(1) {
            let (words, expected) = shown.split_once('\n').unwrap();
            let found = succeed(folder.path(), &words.split_whitespace().collect::<Vec<_>>());
            let trimmed = |text: &str| text.lines().map(str::trim_end).collect::<Vec<_>>().join("\n");
            assert_eq!(trimmed(&found), trimmed(expected), "{words}");
            commands += 1;
        }
    }
    assert_eq!(commands, 12);
}

#[test]
fn rows_come_from_a_pipe_that_stays_open() {
    use std::io::BufRead as _;
    let folder = project();
    let folder = folder.path();
    let frames = frames(folder);
    let more = json!({"form": "csv", "rate": 1e6});
    written(folder, &json!([case("open", &frames, &json!({})), case("open", &frames, &more)]));
    for (file, wires) in [("open.vcd", ["device=tx", "host=rx"]), ("open.csv", ["device=CH1", "host=CH2"])] {
        let threshold = ["--threshold", "1.7", "--hysteresis", "0.3"];
        let words = ["decode", "-", "--on", "bus485", "--as", "ndjson", "--wire", wires[0], "--wire", wires[1]];
        let mut command =
            common::emberwort(folder, &[&words[..], if file.ends_with("csv") { &threshold } else { &[] }].concat());
        let mut running = command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::null()).spawn().unwrap();
        let mut input = running.stdin.take().unwrap();
        input.write_all(&std::fs::read(folder.join(file)).unwrap()).unwrap();
        input.flush().unwrap();
        // The pipe stays open. Who waits for rows that never come is ended, and reads nothing more.
        let process = running.id().to_string();
        let (done, ended) = std::sync::mpsc::channel::<()>();
        let watchdog = std::thread::spawn(move || {
            let waited = ended.recv_timeout(std::time::Duration::from_secs(30));
            if waited == Err(std::sync::mpsc::RecvTimeoutError::Timeout) {
                Command::new("kill").arg(process).status().unwrap();
            }
        });
        let mut output = std::io::BufReader::new(running.stdout.take().unwrap());
        let mut came = Vec::new();
        for _ in 0..frames.len() {
            let mut line = String::new();
            assert!(output.read_line(&mut line).unwrap() > 0, "{file}");
            came.push(line);
        }
        assert_eq!(rows(&came.concat()).len(), frames.len());
        drop(done);
        watchdog.join().unwrap();
        drop(input);
        assert!(running.wait().unwrap().success(), "{file}");
    }
    // Pulses of numbers are not looked at in what comes only once: that is said, and not that nothing happens.
    let bytes = std::fs::read(folder.join("open.csv")).unwrap();
    let ran = common::run_with_input(folder, &["survey", "-"], &bytes);
    assert!(ran.out.contains("not looked at") && !ran.out.contains("nothing happens"), "{}", ran.out);
    let ran = common::run_with_input(folder, &["survey", "-", "--as", "ndjson"], &bytes);
    assert!(rows(&ran.out).iter().all(|signal| signal["edges"].is_null()), "{}", ran.out);
}

/// The form of characters that a survey finds on serial lines.
#[test]
fn a_survey_finds_parity_and_data_bits() {
    let folder = project();
    let folder = folder.path();
    let frames: Vec<(f64, bool, String)> = (0..20u32)
        .map(|n| {
            let bytes: String = (0..6u32).map(|k| format!("{:02x}", (n * 37 + k * k * 11 + 5) & 0x7F)).collect();
            (0.001 + f64::from(n) * 0.01, false, bytes)
        })
        .collect();
    let forms = [(8, "N"), (8, "E"), (8, "O"), (7, "E"), (7, "O")];
    let cases: Json = forms
        .iter()
        .map(|(bits, parity)| case(&format!("s{bits}{parity}"), &frames, &json!({"data_bits": bits, "parity": parity})))
        .collect();
    written(folder, &cases);
    for (bits, parity) in forms {
        let shown = succeed(folder, &["survey", &format!("s{bits}{parity}.vcd")]);
        assert!(shown.contains(&format!("medium uart 115200 {bits}{parity}1\n")), "{bits}{parity}: {shown}");
    }
}

/// The timing of lines whose timing is known.
#[test]
fn a_survey_of_a_channel_measures_its_timing() {
    let folder = project();
    let folder = folder.path();
    let frames = frames(folder);
    written(folder, &json!([case("even", &frames, &json!({})), case("fast", &frames, &json!({"baud": 118_500}))]));
    let measured = |words: &[&str]| rows(&succeed(folder, words));
    let of = |rows: &[Json], what: &str| {
        rows.iter().find(|row| row["quantity"] == what).cloned().unwrap_or_else(|| panic!("{what}: {rows:?}"))
    };
    let wires = ["--on", "bus485", "--wire", "device=tx", "--wire", "host=rx", "--as", "ndjson"];
    let even = measured(&[&["survey", "even.vcd"][..], &wires].concat());
    let speed = of(&even, "bits a second, device");
    assert!((speed["mean"].as_f64().unwrap() / 115_200.0 - 1.0).abs() < 1e-4 && speed["beyond"] == false, "{speed}");
    // Bytes follow each other, to the nanosecond of the dump; frames of the device begin 20 ms apart, and every third time 40.
    let bytes = of(&even, "between bytes, device");
    assert!(bytes["most"].as_f64().unwrap() <= 2_000.0, "{bytes}");
    let gaps = of(&even, "between frames, device");
    let lasts = (frames[0].2.len() / 2) as f64 * 10.0 / 115_200.0;
    for (which, apart) in [("least", 0.02), ("most", 0.04)] {
        let found = gaps[which].as_f64().unwrap() * 1e-12;
        assert!((found - (apart - lasts)).abs() < 1e-6, "{which} {found} {gaps}");
    }
    assert_eq!(gaps["count"], 7);
    let fast = measured(&[&["survey", "fast.vcd"][..], &wires].concat());
    let speed = of(&fast, "bits a second, device");
    assert!((speed["mean"].as_f64().unwrap() / 118_500.0 - 1.0).abs() < 1e-3 && speed["beyond"] == true, "{speed}");
    // What a trial draws: slopes from 10 % to 90 %, and answers.
    let trial = std::fs::read_to_string(folder.join("trials/ringing-bus.toml")).unwrap();
    let trial = trial.replace("2 MHz", "20 MHz").replace("300 ns", "800 ns").replace("250 ms", "150 ms");
    let trial: String = trial
        .lines()
        .filter(|line| !line.starts_with("ringing") && !line.starts_with("noise"))
        .map(|line| format!("{line}\n"))
        .collect();
    std::fs::write(folder.join("t.toml"), trial).unwrap();
    succeed(folder, &["trial", "t.toml", "--wave", "t.vcd"]);
    let wires = ["--on", "bus485", "--wire", "device=device", "--wire", "host=host"];
    let drawn = measured(&[&["survey", "t.vcd", "--as", "ndjson"][..], &wires].concat());
    for what in ["rise 10 % to 90 %, device", "fall 10 % to 90 %, host"] {
        let slope = of(&drawn, what);
        assert!((slope["mean"].as_f64().unwrap() / 800_000.0 - 1.0).abs() < 0.05, "{slope}");
    }
    let answer = of(&drawn, "MoveGate to MoveAccepted");
    assert!((answer["mean"].as_f64().unwrap() - 2e9).abs() < 1e8 && answer["allowed"] == "up to 50 ms", "{answer}");
    // Edges of a few samples are said to be unsafe.
    let ran = run(folder, &[&["survey", "waveforms/bus.csv", "--on", "bus485", "--wire", "device=CH1"][..]].concat());
    assert!(ran.code == 0 && ran.err.contains("sample faster to measure them"), "{}", ran.err);
    let ran = run(folder, &["survey", "waveforms/bus.csv", "--on", "bus485"]);
    assert!(ran.code == 2 && ran.err.contains("--wire"), "{}", ran.err);
}
