//! Every way to find frames: the bytes of `docs/framing.md`, and silence in captures, trials and files.

use crate::common::{run, run_with_input, stats, succeed};

/// The definitions of the page, each with the command that stands under it and the bytes that it prints.
fn page() -> Vec<(String, String, String)> {
    let page = include_str!("../../../../docs/framing.md");
    let mut blocks = page.split("```ember\n").skip(1);
    // What all channels that stand alone belong to.
    let (around, _) = blocks.next().unwrap().split_once("```").unwrap();
    let (link, message) = around.split_once("\n\n").unwrap();
    let examples: Vec<_> = blocks
        .map(|rest| {
            let (shown, rest) = rest.split_once("```").unwrap();
            let definition = match shown.starts_with("link ") {
                true => shown.to_owned(),
                false => format!("{link}\n\n{shown}\n{message}"),
            };
            let (_, rest) = rest.split_once("$ emberwort ").unwrap();
            let mut lines = rest.lines();
            let (command, printed) = (lines.next().unwrap(), lines.next().unwrap());
            let (_, by_part) = rest.split_once("by part:\n\n```\n").unwrap();
            let (bytes, names) = by_part.split_once("\n```").unwrap().0.split_once('\n').unwrap();
            let columns = |line: &str| line.split("  ").filter(|cell| !cell.trim().is_empty()).count();
            assert_eq!(columns(bytes), columns(names), "each group of bytes has a name\n{bytes}\n{names}");
            assert_eq!(bytes.split_whitespace().collect::<Vec<_>>().join(" "), printed);
            (definition, command.to_owned(), printed.to_owned())
        })
        .collect();
    assert_eq!(examples.len(), 13);
    examples
}

#[test]
fn the_framing_page_says_the_right_bytes() {
    let folder = tempfile::tempdir().unwrap();
    for (definition, command, bytes) in page() {
        std::fs::write(folder.path().join("frames.ember"), &definition).unwrap();
        assert_eq!(run(folder.path(), &["tidy", "--check"]).code, 0, "{definition}");
        let words: Vec<&str> = command.split(' ').collect();
        assert_eq!(succeed(folder.path(), &words), format!("{bytes}\n"), "{definition}");
        // And back, with the same fields.
        let row = succeed(folder.path(), &["decode", "--on", "c", "--hex", &bytes, "--as", "ndjson"]);
        let again = run_with_input(folder.path(), &["encode", "--values", "-", "--on", "c"], row.as_bytes());
        assert_eq!(again.out, format!("{bytes}\n"), "{row}");
    }
}

const METERS: &str = "
link meters {
    revision    1
    byte_order  big
}

channel line {
    medium  uart 19200 8E1
    gap     3.5 characters
    limit   64 bytes
    frame {
        node   : u8      address
        kind   : u8      message
        body
        check  : u16 le  crc-16/modbus over node..body
    }
}

message Flow {
    id    3
    from  device every 50 ms
    on    line
    flow   : 0 .. 100 step 0.1
    total  : compact u32
}

message Zero {
    id    4
    from  host
    on    line
}
";

#[test]
fn silence_separates_frames_of_a_trial_and_of_its_recording() {
    let folder = tempfile::tempdir().unwrap();
    std::fs::write(folder.path().join("meters.ember"), METERS).unwrap();
    let trial = "channel = \"line\"\nspan = \"20 s\"\nseed = 7\n[wire]\nbit_errors = 0.001\n\
                 [[device]]\nnode = 1\n[[device]]\nnode = 2\nfirst_report = \"7 ms\"\n";
    std::fs::write(folder.path().join("noise.toml"), trial).unwrap();
    let ran = run(folder.path(), &["trial", "noise.toml", "--record", "noise.pcapng", "--as", "ndjson"]);
    assert!(ran.code < 2, "{}", ran.err);
    let read = stats(folder.path(), &["noise.pcapng"]);
    let good = read["frames"]["good"].as_u64().unwrap();
    let broken: u64 = read["frames"]["broken"].as_object().unwrap().values().filter_map(|n| n.as_u64()).sum();
    // Two devices every 50 ms for 20 s: 800 frames, each whole: a broken one breaks no other.
    assert_eq!(good + broken, 800, "{read}");
    assert!(broken > 20 && read["bytes"]["stray"] == 0, "{read}");
    // The receiver of the trial heard the same.
    assert!(ran.out.contains(&format!("\"good\":{good}")), "{}", ran.out);
}

#[test]
fn bytes_without_times_say_nothing_about_silence() {
    let folder = tempfile::tempdir().unwrap();
    std::fs::write(folder.path().join("meters.ember"), METERS).unwrap();
    let frame = succeed(folder.path(), &["encode", "Zero", "--on", "line", "--node", "9"]);
    let bytes: Vec<u8> = frame.split_whitespace().map(|byte| u8::from_str_radix(byte, 16).unwrap()).collect();
    std::fs::write(folder.path().join("raw.bin"), bytes.repeat(3)).unwrap();
    let refused = run(folder.path(), &["decode", "raw.bin"]);
    assert_eq!(refused.code, 2);
    assert!(
        refused.err.contains("on `line` silence separates frames, and bytes without times do not say"),
        "{}",
        refused.err
    );
    assert!(refused.err.contains("or hex text with a line for each frame"), "{}", refused.err);
    // In hex text each line is a frame; so are the bytes of --hex.
    std::fs::write(folder.path().join("lines.txt"), frame.repeat(3)).unwrap();
    assert_eq!(stats(folder.path(), &["lines.txt"])["frames"]["good"], 3);
    assert_eq!(stats(folder.path(), &["--on", "line", "--hex", &frame])["frames"]["good"], 1);
    assert_eq!(stats(folder.path(), &["--on", "line", "--hex", &frame.repeat(2)])["frames"]["broken"]["checksum"], 1);
}

/// The examples: tidy, clean, their trials hold and make the recordings beside them, which leave no byte unexplained.
#[test]
fn examples_of_framings_decode_without_a_byte_left_over() {
    let examples = std::path::Path::new(concat!(env!("CARGO_MANIFEST_DIR"), "/../../examples"));
    for (folder, name, frames) in [
        ("framings", "drive", 54),
        ("framings", "weather", 15),
        ("framings", "ferry", 24),
        ("framings", "buoy", 12),
        ("standards", "register_polling", 24),
        ("standards", "positioning", 24),
        ("standards", "instrument", 31),
    ] {
        let folder = examples.join(folder);
        let (link, trial, capture) = (format!("{name}.ember"), format!("{name}.toml"), format!("{name}.pcapng"));
        assert_eq!(run(&folder, &["tidy", "--check", &link]).code, 0, "{name} is not tidy");
        assert_eq!(run(&folder, &["check", &link, "--deny", "warnings"]).code, 0, "{name}");
        let read = stats(&folder, &["--link", &link, &capture]);
        assert_eq!(read["frames"]["good"], frames, "{name}: {read}");
        assert_eq!(read["bytes"]["input"], read["bytes"]["good"], "{name}: {read}");
        let again = tempfile::tempdir().unwrap();
        let made = again.path().join("again.pcapng");
        let ran = run(&folder, &["trial", &trial, "--link", &link, "--record", made.to_str().unwrap()]);
        assert_eq!(ran.code, 0, "{name}: {}{}", ran.out, ran.err);
        assert_eq!(std::fs::read(made).unwrap(), std::fs::read(folder.join(&capture)).unwrap(), "{name}");
    }
}

#[test]
fn rows_of_a_recording_make_its_bytes_again() {
    let folder = std::path::Path::new(concat!(env!("CARGO_MANIFEST_DIR"), "/../../examples/standards"));
    let link = ["--link", "instrument.ember"];
    let rows = run(folder, &[&["decode", "instrument.pcapng", "--as", "ndjson"][..], &link].concat());
    let made = run_with_input(
        folder,
        &[&["encode", "--values", "-", "--on", "keys"][..], &link].concat(),
        rows.out.as_bytes(),
    );
    assert_eq!(made.code, 0, "{}", made.err);
    let lines: Vec<&str> = made.out.lines().collect();
    // Active sensing, program 14, the volume, a press, and one whose status byte is left out.
    assert_eq!(lines[..6], ["FE", "C3 0E", "B3 07 60", "93 3C 5A", "48 3C", "FE"]);
    let again = tempfile::tempdir().unwrap();
    std::fs::write(again.path().join("made.hex"), &made.out).unwrap();
    let made = again.path().join("made.hex");
    let read = stats(folder, &[&["--on", "keys", made.to_str().unwrap()][..], &link].concat());
    assert_eq!((&read["frames"]["good"], &read["bytes"]["good"]), (&31.into(), &67.into()), "{read}");
}

#[test]
fn a_can_identifier_says_the_node() {
    let folder = tempfile::tempdir().unwrap();
    let text = "link bus {\n revision 1\n byte_order little\n}\nchannel power {\n medium can 500 kbit/s\n packet\n select by can_id\n}\n\
                message Level {\n from device\n on power can_id 0x180 + node 1 .. 31\n depth : u16\n}\n";
    std::fs::write(folder.path().join("bus.ember"), text).unwrap();
    let encode = |node: &str| run(folder.path(), &["encode", "Level", "depth=258", "--on", "power", "--node", node]);
    let five = encode("5");
    assert_eq!((five.out.trim(), five.err.trim()), ("02 01", "Level goes to can_id 0x185"));
    assert!(encode("32").err.contains("the node 32 has no key here: they are for nodes 1 to 31"));
    let read = run(folder.path(), &["decode", "--on", "power", "--key", "0x19F", "--hex", "02 01", "--as", "ndjson"]);
    assert_eq!(
        read.out,
        "{\"frame\":1,\"offset\":0,\"channel\":\"power\",\"direction\":\"device\",\"node\":31,\"message\":\"Level\",\"fields\":{\"depth\":258}}\n"
    );
    let unknown =
        run(folder.path(), &["decode", "--on", "power", "--key", "0x180", "--hex", "02 01", "--as", "ndjson"]);
    assert!(unknown.out.contains("unknown message"), "{}", unknown.out);
}

#[test]
fn check_says_what_framing_can_promise() {
    let folder = tempfile::tempdir().unwrap();
    let marlock = concat!(env!("CARGO_MANIFEST_DIR"), "/../../examples/marlock/marlock.ember");
    let said = run(folder.path(), &["check", "--frames", marlock]);
    assert_eq!(said.code, 0, "{}", said.err);
    // The shortest frames have 8 bytes, the limit is 128; 120 bytes of ten bits at 115,200 baud are 10.417 ms.
    let wait = "bus485\n  a damaged length costs no other frame, but time: the receiver waits for up to 120 bytes more, ≈10.42 ms at full \
                speed, before it looks again; up to 15 frames come late\n";
    assert!(said.out.contains(wait), "{}", said.out);
    assert!(
        said.out
            .contains("Hamming distance 4, up to 3 wrong bits are always found; of random frames 1 in 65,536 passes")
    );
    // Only where no checksum tells a frame from what looks like one.
    let inside =
        "no checksum says where a frame ends: inside of one that cannot be read, the receiver looks for others";
    assert!(!said.out.contains(inside), "{}", said.out);
    let bare = "link b { revision 1  byte_order little }\nchannel bus { medium uart 9600 8N1\n limit 40 bytes\n frame { sync C6\n \
                kind : u8 message\n size : u8 length of body\n body } }\nmessage M { id 1 from device on bus\n a : u8 }\n";
    std::fs::write(folder.path().join("bare.ember"), bare).unwrap();
    let bare = run(folder.path(), &["check", "--frames", "bare.ember"]);
    assert!(bare.out.split_whitespace().collect::<Vec<_>>().join(" ").contains(inside), "{}", bare.out);
    let rows = run(folder.path(), &["check", "--frames", marlock, "--as", "ndjson"]);
    let rows: Vec<serde_json::Value> = rows.out.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    assert_eq!(rows.len(), 7);
    assert_eq!((&rows[0]["channel"], &rows[0]["damage_costs"]), (&"bus485".into(), &"time".into()));
    assert_eq!((&rows[0]["wait"]["bytes"], &rows[0]["wait"]["frames"]), (&120.into(), &15.into()));
    assert_eq!(rows[0]["wait"]["nanoseconds"], 10_416_666);
    assert_eq!((&rows[0]["checksum"]["distance"], &rows[0]["checksum"]["covered_bytes"]), (&4.into(), &51.into()));
    assert!(rows[1..].iter().all(|row| row["checksum"].is_null() && row["false_start"].is_null()), "{rows:?}");
}

/// The words of a command line in which single quotes keep words together.
fn words(line: &str) -> Vec<String> {
    let mut words = vec![String::new()];
    let mut quoted = false;
    for c in line.chars() {
        match c {
            '\'' => quoted = !quoted,
            ' ' if !quoted => words.push(String::new()),
            c => words.last_mut().unwrap().push(c),
        }
    }
    words
}

#[test]
fn the_page_of_examples_shows_what_comes_back() {
    let folder = std::path::Path::new(concat!(env!("CARGO_MANIFEST_DIR"), "/../../examples"));
    let page = include_str!("../../../../docs/examples.md");
    let mut commands = 0;
    for block in page.split("```\n").skip(1).step_by(2) {
        for shown in block.split("$ emberwort ").skip(1) {
            let (command, expected) = shown.split_once('\n').unwrap();
            let words = words(command);
            let found = succeed(folder, &words.iter().map(String::as_str).collect::<Vec<_>>());
            let found: String = found.lines().map(|line| line.trim_end().to_owned() + "\n").collect();
            match expected.strip_suffix("…\n") {
                Some(beginning) => assert!(found.starts_with(beginning), "{command} prints\n{found}"),
                None => assert_eq!(found, expected, "{command}"),
            }
            commands += 1;
        }
    }
    assert_eq!(commands, 16);
}
