//! Trials with random settings and random traffic, whose wires `--wave` draws in every form of file: what is read from the wires is what
//! `--record` says was received, nothing is said to be wrong, and all time is explained.

use std::path::Path;

use serde_json::Value as Json;

use crate::common::{self, project, run, succeed};

/// Numbers that look as if nobody had chosen them.
struct Random(u64);

impl Random {
    /// From 0 to one less than `count`.
    fn below(&mut self, count: u64) -> u64 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) % count
    }

    fn one_of<T: Copy>(&mut self, all: &[T]) -> T {
        all[self.below(all.len() as u64) as usize]
    }

    fn is(&mut self) -> bool {
        self.below(2) == 1
    }
}

/// A line: its medium, how messages are told apart on it, its wires in their order, bits (or halves of bits) a second.
struct Line {
    medium: String,
    framing: &'static str,
    keys: [String; 2],
    wires: &'static [&'static str],
    bits: u64,
    longest: usize,
}

impl Line {
    /// How often a message comes, and how long the trial lasts, so that no file has more than some millions of samples.
    fn every(&self) -> (&'static str, u64) {
        if self.bits > 400_000 { ("1 ms", 15) } else { ("20 ms", 300) }
    }
}

const KINDS: [&str; 6] = ["uart", "spi", "i2c", "can", "usb", "line"];

fn line(kind: &str, random: &mut Random) -> Line {
    let ids = [" id 1".to_owned(), " id 2".to_owned()];
    let no_ids = [String::new(), String::new()];
    match kind {
        "uart" => {
            let baud = 9_600 + random.below(900_000);
            let (parity, stop) = (random.one_of(&['N', 'E', 'O', 'M', 'S']), random.one_of(&["1", "1.5", "2"]));
            let rest = if random.is() { " resting low" } else { "" };
            let order = if random.is() { " msb first" } else { "" };
            Line {
                medium: format!("uart {baud} 8{parity}{stop}{rest}{order}"),
                framing: "stuffing cobs\n frame { kind : u8 message\n body\n sum : u16 le crc-16/arc over kind..body }",
                keys: ids,
                wires: &["device", "host"],
                bits: baud,
                longest: 40,
            }
        }
        "spi" => {
            let hertz = 10_000 + random.below(1_000_000);
            let words = random.one_of(&["", " word 16 bits", " word 32 bits", " word 8 bits lsb first"]);
            let mode = random.below(4);
            let select = random.one_of(&["low", "high", "none"]);
            Line {
                medium: format!("spi {hertz} mode {mode}{words} select {select}"),
                framing: "packet",
                keys: no_ids,
                wires: if select == "none" { &["clock", "device", ""] } else { &["clock", "device", "", "select"] },
                bits: hertz * 2,
                longest: 16,
            }
        }
        "i2c" => {
            let hertz = 10_000 + random.below(400_000);
            Line {
                medium: format!("i2c {hertz}"),
                framing: "packet\n frame { kind : u8 message\n body }",
                keys: ids,
                wires: &["clock", "data"],
                bits: hertz * 4,
                longest: 30,
            }
        }
        "can" => {
            let bitrate = 20_000 + random.below(480_000);
            let fast = random.is().then(|| bitrate * random.one_of(&[1, 2, 4]));
            let fd = fast.map_or(String::new(), |fast| format!(" fd {fast}"));
            let sample = 65 + random.below(25);
            Line {
                medium: format!("can {bitrate}{fd} sample {sample} %"),
                framing: "packet\n select by can_id",
                keys: [" can_id 0x1A4".to_owned(), " can_id 0x18FF0102 extended".to_owned()],
                wires: &["bus"],
                bits: fast.unwrap_or(bitrate) * 2,
                longest: 8,
            }
        }
        "usb" => {
            let (speed, bits) = random.one_of(&[("low", 1_500_000), ("full", 12_000_000)]);
            let (one, other) = (random.below(16), random.below(16));
            Line {
                medium: format!("usb {speed}"),
                framing: "packet\n select by endpoint",
                keys: [format!(" endpoint {:#04x}", one | 0x80), format!(" endpoint {other}")],
                wires: &["plus", "minus"],
                bits,
                longest: if speed == "low" { 8 } else { 40 },
            }
        }
        _ => {
            let bitrate = 1_000 + random.below(200_000);
            let code = match random.below(5) {
                0 => format!("{bitrate} nrz preamble {} of 1 start 0 end 1", 2 + random.below(10)),
                1 => {
                    let toggles = random.below(2);
                    format!(
                        "{bitrate} nrzi {toggles} toggles preamble 8 of {toggles} start {} end {toggles}",
                        1 - toggles
                    )
                }
                2 => format!("{bitrate} manchester 1 {} start 1 end 0", random.one_of(&["rises", "falls"])),
                3 => format!(
                    "{bitrate} manchester differential {} splits preamble 6 of 1 start 0 end 1",
                    random.below(2)
                ),
                _ => format!(
                    "pulse {} 0 40..60 us 1 90..120 us",
                    random.one_of(&["high", "low", "half", "rising", "falling"])
                ),
            };
            let bits = if code.starts_with("pulse") { 50_000 } else { bitrate * 2 };
            Line {
                medium: format!("line {code}"),
                framing: "packet\n frame { kind : u8 message\n body\n sum : u16 le crc-16/arc over kind..body }",
                keys: ids,
                wires: &["line"],
                bits,
                longest: 20,
            }
        }
    }
}

/// A definition of a line with a message from each end; of interfaces whose host only clocks, from the device alone.
fn definition(line: &Line, random: &mut Random) -> (String, bool) {
    let both = !line.medium.starts_with("spi");
    let count = (1 + random.below(5)).min(line.longest as u64 / 4);
    let fields: String = (0..count.max(1)).map(|n| format!("\n f{n} : u32")).collect();
    let [device, host] = &line.keys;
    let id = |key: &str| {
        if key.starts_with(" id") { (key.trim().to_owned(), String::new()) } else { (String::new(), key.to_owned()) }
    };
    let ((id_of_device, key_of_device), (id_of_host, key_of_host)) = (id(device), id(host));
    let mut text = format!(
        "link lines {{\n revision 1\n byte_order {}\n}}\nchannel a {{\n medium {}\n {}\n}}\nmessage Report {{\n {id_of_device}\n from device every {}\n on a{key_of_device}{fields}\n}}\n",
        random.one_of(&["little", "big"]),
        line.medium,
        line.framing,
        line.every().0,
    );
    if both {
        text += &format!("message Order {{\n {id_of_host}\n from host\n on a{key_of_host}{fields}\n}}\n");
    }
    (text, both)
}

fn trial(line: &Line, both: bool, is_bits: bool, random: &mut Random) -> (String, u64) {
    let rate = line.bits * (10 + random.below(20));
    let bit = 1_000_000_000_000 / line.bits;
    let mut wave = format!("rate = \"{rate} Hz\"\n");
    if random.is() {
        wave += &format!("jitter = \"{} ns\"\n", (bit / 1000 * random.below(4) / 100).max(1));
    }
    // Codes whose level says the bits are lost where they stay at one for long; USB allows less, and CAN not much.
    let is_exact =
        ["usb", "line"].iter().any(|kind| line.medium.starts_with(kind)) && !line.medium.contains("manchester");
    if random.is() && !is_exact {
        wave += &format!("baud_error = {}\n", random.one_of(&[-0.008, 0.004, 0.008]));
    }
    if !is_bits && random.is() {
        wave +=
            &format!("low = {}\nhigh = {}\nnoise = 0.02\n", random.one_of(&[-1.5, 0.1]), random.one_of(&[1.8, 3.3]));
        if random.is() {
            wave += &format!("slope = \"{} ns\"\n", (bit / 10_000).max(1));
        }
    }
    let mut text = format!(
        "channel = \"a\"\nspan = \"{} ms\"\nseed = {}\n\n[wave]\n{wave}\n[[device]]\nnode = {}\nfirst_report = \"{} us\"\n\n[device.signals.Report]\n",
        line.every().1,
        random.below(1000),
        8 + random.below(100),
        random.below(900),
    );
    let start = random.below(u64::from(u32::MAX));
    text += &format!("f0 = {{ walk = {}, between = [0, {}], start = {start} }}\n", random.below(100_000_000), u32::MAX);
    if both {
        for _ in 0..=random.below(7) {
            let at = 1000 + random.below(line.every().1 * 900);
            let value = random.one_of(&[0, u64::from(u32::MAX), 0x5555_5555, 0x8000_0001]);
            text += &format!(
                "\n[[request]]\nat = \"{at} us\"\nnode = {}\nmessage = \"Order\"\nfields = {{ f0 = {value} }}\n",
                0
            );
        }
    }
    (text, rate)
}

/// One trial of a kind of line.
fn one(folder: &Path, kind: &str, number: u64) {
    let mut random = Random(number.wrapping_mul(0x9E37_79B9_7F4A_7C15) ^ kind.len() as u64);
    (0..4).for_each(|_| {
        random.below(2);
    });
    let line = line(kind, &mut random);
    let (text, both) = definition(&line, &mut random);
    std::fs::write(folder.join("a.ember"), &text).unwrap();
    let mut form = random.one_of(&["vcd", "csv", "wav", "u8", "u16", "i16", "f32"]);
    // A table of the fastest lines would be long.
    if form == "csv" && line.bits > 4_000_000 {
        form = "vcd";
    }
    let is_bits = form.starts_with('u');
    let (mut scenario, rate) = trial(&line, both, is_bits, &mut random);
    let node = scenario.split("node = ").nth(1).unwrap().split('\n').next().unwrap().to_owned();
    scenario = scenario.replace("\nnode = 0\n", &format!("\nnode = {node}\n"));
    std::fs::write(folder.join("t.toml"), &scenario).unwrap();
    let file = format!("w.{form}");
    for old in [&*file, "r.pcapng"] {
        let _ = std::fs::remove_file(folder.join(old));
    }
    let about = || format!("{kind} {number} {form}\n{text}\n{scenario}");
    let drawn = run(folder, &["--link", "a.ember", "trial", "t.toml", "--wave", &file, "--record", "r.pcapng"]);
    assert_eq!(drawn.code, 0, "{}\n{}", drawn.err, about());
    let mut words: Vec<String> =
        ["--link", "a.ember", "decode", &file, "--on", "a", "--as", "ndjson", "--strict"].map(str::to_owned).into();
    let letter = if is_bits { 'D' } else { 'A' };
    for (n, role) in line.wires.iter().enumerate().filter(|(_, role)| !role.is_empty()) {
        let signal = if matches!(form, "vcd" | "csv") { (*role).to_owned() } else { format!("{letter}{n}") };
        words.extend(["--wire".to_owned(), format!("{role}={signal}")]);
    }
    if is_bits || matches!(form, "i16" | "f32") {
        words.extend(["--sample".into(), form.into(), "--rate".into(), rate.to_string()]);
    }
    if matches!(form, "i16" | "f32") {
        words.extend(["--channels".to_owned(), line.wires.len().to_string()]);
    }
    let words: Vec<&str> = words.iter().map(String::as_str).collect();
    let read = run(folder, &words);
    let direct = succeed(folder, &["--link", "a.ember", "decode", "r.pcapng", "--as", "ndjson"]);
    let rows = |out: &str| -> Vec<String> {
        let row = |line: &str| {
            let row: Json = serde_json::from_str(line).unwrap();
            format!("{} {}", row["message"], row["fields"])
        };
        let mut rows: Vec<String> = out.lines().map(row).collect();
        // What both ends send at once may come in either order.
        rows.sort_unstable();
        rows
    };
    assert!(direct.lines().count() > 5, "{}", about());
    assert_eq!(rows(&read.out), rows(&direct), "{}\n{}", read.err, about());
    assert_eq!(read.code, 0, "{}\n{}", read.err, about());
    assert!(read.err.contains(" 0 s in broken ones, 0 s unexplained"), "{}\n{}", read.err, about());
}

/// A test for each kind of line, some trials each.
macro_rules! some_of_each {
    ($($name:ident: $kind:literal,)*) => {
        $(#[test]
        fn $name() {
            let folder = project();
            (0..6).for_each(|number| one(folder.path(), $kind, number));
        })*
    };
}

some_of_each! {
    trials_on_asynchronous_lines: "uart",
    trials_on_peripheral_interfaces: "spi",
    trials_on_two_wire_buses: "i2c",
    trials_on_controller_area_networks: "can",
    trials_on_universal_serial_buses: "usb",
    trials_on_lines_of_any_code: "line",
}

/// 500 of each kind; fewer where EMBERWORT_SMALL is set.
#[test]
#[ignore = "long"]
fn many_random_trials_are_read_from_their_wires() {
    let folder = project();
    let count = if std::env::var_os("EMBERWORT_SMALL").is_some() { 20 } else { 500 };
    let mut failed = Vec::new();
    for kind in KINDS {
        for number in 1000..1000 + count {
            let one = || one(folder.path(), kind, number);
            if std::panic::catch_unwind(one).is_err() {
                failed.push((kind, number));
            }
        }
    }
    assert_eq!(failed, []);
}

/// A line with a device that sends one message, its wires in their order, and bits (or halves, or edges) a second.
struct Plain {
    medium: &'static str,
    framing: &'static str,
    key: &'static str,
    wires: &'static [&'static str],
    bits: u64,
}

const CHECKED: &str = "packet\n frame { kind : u8 message\n body\n sum : u16 le crc-16/arc over kind..body }";

const PLAIN: [Plain; 10] = [
    Plain {
        medium: "uart 115200 8N1",
        framing: "stuffing cobs\n frame { kind : u8 message\n body\n sum : u16 le crc-16/arc over kind..body }",
        key: "",
        wires: &["device"],
        bits: 115_200,
    },
    Plain {
        medium: "spi 100 kHz mode 1",
        framing: "packet",
        key: "",
        wires: &["clock", "device", "select"],
        bits: 200_000,
    },
    Plain { medium: "i2c 100 kHz", framing: CHECKED, key: "", wires: &["clock", "data"], bits: 400_000 },
    Plain {
        medium: "can 100 kbit/s",
        framing: "packet\n select by can_id",
        key: " can_id 0x1A4",
        wires: &["bus"],
        bits: 100_000,
    },
    Plain {
        medium: "usb low",
        framing: "packet\n select by endpoint",
        key: " endpoint 0x81",
        wires: &["plus", "minus"],
        bits: 1_500_000,
    },
    Plain {
        medium: "line 10 kbit/s manchester 1 rises start 1 end 0",
        framing: CHECKED,
        key: "",
        wires: &["line"],
        bits: 20_000,
    },
    Plain {
        medium: "line 10 kbit/s manchester differential 0 splits preamble 6 of 1 start 0 end 1",
        framing: CHECKED,
        key: "",
        wires: &["line"],
        bits: 20_000,
    },
    Plain {
        medium: "line 10 kbit/s nrz preamble 4 of 1 start 0 end 1",
        framing: CHECKED,
        key: "",
        wires: &["line"],
        bits: 10_000,
    },
    Plain {
        medium: "line 10 kbit/s nrzi 0 toggles preamble 8 of 0 start 1 end 0",
        framing: CHECKED,
        key: "",
        wires: &["line"],
        bits: 10_000,
    },
    Plain {
        medium: "line pulse high 0 40..60 us 1 90..120 us start 1 end 0",
        framing: CHECKED,
        key: "",
        wires: &["line"],
        bits: 10_000,
    },
];

/// With each fault of a recording the sentence comes that names it, on every kind of line; without one none does.
#[test]
fn each_fault_of_a_recording_is_named_on_every_line() {
    let folder = project();
    let folder = folder.path();
    for Plain { medium, framing, key, wires, bits } in PLAIN {
        let id = if key.is_empty() && framing != "packet" { "id 1" } else { "" };
        let (every, span) = if bits > 1_000_000 { ("1 ms", 15) } else { ("50 ms", 600) };
        let text = format!(
            "link lines {{\n revision 1\n byte_order big\n}}\nchannel a {{\n medium {medium}\n {framing}\n}}\nmessage Report {{\n {id}\n from device every {every}\n on a{key}\n f0 : u32\n f1 : u32\n}}\n"
        );
        std::fs::write(folder.join("a.ember"), text).unwrap();
        let ran = |wave: &str, wires: &[String], more: &[&str]| {
            let trial = format!(
                "channel = \"a\"\nspan = \"{span} ms\"\nseed = 3\n[wave]\n{wave}\n[[device]]\nnode = 9\nfirst_report = \"300 us\"\n[device.signals.Report]\nf0 = {{ walk = 90000000, between = [0, 4294967295], start = 305419896 }}\n"
            );
            std::fs::write(folder.join("t.toml"), trial).unwrap();
            let _ = std::fs::remove_file(folder.join("w.vcd"));
            succeed(folder, &["--link", "a.ember", "trial", "t.toml", "--wave", "w.vcd"]);
            let mut words = vec!["--link", "a.ember", "decode", "w.vcd", "--on", "a", "--as", "ndjson", "--strict"];
            words.extend(wires.iter().flat_map(|wire| ["--wire", wire]));
            words.extend(more);
            let mut ran = run(folder, &words);
            // Times are a little different with each fault: values are compared.
            let fields = |line: &str| line.split("\"message\":").nth(1).unwrap_or(line).to_owned() + "\n";
            ran.out = ran.out.lines().map(fields).collect();
            ran
        };
        let right: Vec<String> = wires.iter().map(|wire| format!("{wire}={wire}")).collect();
        let rate = format!("rate = \"{} Hz\"", bits * 20);
        let clean = ran(&rate, &right, &[]);
        assert_eq!(clean.code, 0, "{medium}: {}", clean.err);
        // A part of it that holds whole frames is as clean.
        let half = format!("{}ms..{}ms", span / 2, span + 100);
        let part = ran(&rate, &right, &["--span", &half]);
        assert!(!part.err.contains("try --invert") && part.out.lines().count() > 2, "{medium}: {}", part.err);
        let says = |what: &str, ran: &common::Ran, all: &[&str]| {
            assert!(all.iter().any(|said| ran.err.contains(said)), "{what} on {medium}: {}", ran.err);
        };
        // What is read of too few samples is right, or said to be unsafe.
        let few = ran(&format!("rate = \"{} Hz\"", bits * 23 / 10), &right, &[]);
        match few.out == clean.out {
            true if few.code == 0 => {}
            _ => says("few samples", &few, &["sample at least", "is the line sampled fast enough"]),
        }
        // Those with a wire for the clock take any speed, and pulses have none.
        if !medium.starts_with("spi") && !medium.starts_with("i2c") && !medium.contains("pulse") {
            let slow = ran(&format!("{rate}\nbaud_error = 0.05"), &right, &[]);
            says("a wrong speed", &slow, &["4.8 % slower than the"]);
        }
        // Where changes are bits the level says nothing.
        if !medium.contains("nrzi") {
            let invert: Vec<&str> = wires.iter().flat_map(|wire| ["--invert", wire]).collect();
            let all = ["try --invert", "are `plus` and `minus` swapped", "are clock and data the right way around"];
            says("inverted wires", &ran(&rate, &right, &invert), &all);
        }
        if wires.len() > 1 {
            let mut swapped = right.clone();
            swapped[0] = format!("{}={}", wires[0], wires[1]);
            swapped[1] = format!("{}={}", wires[1], wires[0]);
            let all = [
                "are `plus` and `minus` swapped",
                "are clock and data the right way around",
                "are the two the right way around",
                "are mode and word length right",
                "change at the edge at which they are taken",
            ];
            says("swapped wires", &ran(&rate, &swapped, &[]), &all);
        }
        let begin = if bits > 1_000_000 {
            310
        } else if medium.starts_with("line") {
            1000
        } else {
            500
        };
        let inside = ran(&format!("{rate}\nstart = \"{begin} us\""), &right, &[]);
        says("a beginning inside of a frame", &inside, &["begins inside of a"]);
        let outside = ran(&format!("{rate}\nlow = 0.1\nhigh = 3.3"), &right, &["--threshold", "5V"]);
        says("a threshold", &outside, &["lies outside of its signal, which goes from 0.100 to 3.300"]);
        let nothing = ran(&rate, &right, &["--span", "0s..0.000001s"]);
        says("a wire at rest", &nothing, &["nothing happens on the wire"]);
        let (glitch, shortest) = (1_000_000_000 / bits / 40, format!("{}ns", 1_000_000_000 / bits / 10));
        let often = if bits > 1_000_000 { "1 ms" } else { "17 ms" };
        let glitches = format!("{rate}\nglitches = {{ every = \"{often}\", lasting = \"{glitch} ns\" }}");
        let glitches = ran(
            &glitches.replace(&(bits * 20).to_string(), &(bits * 80).to_string()),
            &right,
            &["--deglitch", &shortest],
        );
        says("glitches", &glitches, &["left out (--deglitch)"]);
        assert_eq!((glitches.out == clean.out, glitches.code), (true, 0), "{medium}: {}", glitches.err);
    }
}
