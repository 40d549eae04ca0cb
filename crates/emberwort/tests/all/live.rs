//! The commands that use ports, against peers that have nothing of ours: Python programs with a codec of their own, and the generated C
//! as a program.

use std::path::{Path, PathBuf};
use std::process::Command;

use serde_json::Value as Json;

use crate::common::{self, Beside, PATIENTLY, free_port, project, rows, run, run_with_input};

/// A peer written in Python.
fn peer(words: &[&str]) -> Beside {
    let script = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/bench_peer.py");
    let mut command = Command::new("python3");
    command.arg(script).args(words);
    Beside::start(command)
}

/// A pseudo-terminal whose two ends are paths: what is written at one is read at the other. A relay stands between, as a cable does.
struct Cable {
    ends: [String; 2],
    _relay: Beside,
}

fn cable() -> Cable {
    let script = "import os,pty,select,sys,tty\n\
                  a,b=pty.openpty(),pty.openpty()\n\
                  [tty.setraw(end) for end in a+b]\n\
                  print('ends',os.ttyname(a[1]),os.ttyname(b[1]),file=sys.stderr,flush=True)\n\
                  while True:\n\
                  \x20for one in select.select([a[0],b[0]],[],[])[0]:\n\
                  \x20 os.write(b[0] if one==a[0] else a[0],os.read(one,65536))\n";
    let mut command = Command::new("python3");
    command.args(["-c", script]);
    let mut relay = Beside::start(command);
    let ends = relay.says("ends ");
    let (one, other) = ends.split_once(' ').expect("two paths");
    Cable { ends: [one.to_owned(), other.to_owned()], _relay: relay }
}

fn messages(rows: &[Json]) -> Vec<&str> {
    rows.iter().map(|row| row["message"].as_str().unwrap_or("(none)")).collect()
}

const MOVE: [&str; 6] = ["MoveGate", "target=80", "speed=12", "--node", "3", "--as"];

#[test]
fn a_request_is_answered_over_a_terminal_tcp_and_udp() {
    let folder = project();
    let folder = folder.path();
    let cable = cable();
    let (tcp, tcp_at, udp) = (free_port(), free_port(), free_port());
    let bus = |port: String| (port, "bus485");
    let ports = [
        (cable.ends[0].clone(), bus(cable.ends[1].clone())),
        (format!("tcp_at:{tcp}"), bus(format!("tcp://127.0.0.1:{tcp}"))),
        (format!("tcp:{tcp_at}"), bus(format!("tcp://:{tcp_at}"))),
        (format!("udp_at:{udp}"), (format!("udp://127.0.0.1:{udp}"), "house")),
    ];
    for (theirs, (ours, channel)) in ports {
        let words = [&["send", &ours][..], &MOVE, &["ndjson", "--on", channel], &PATIENTLY].concat();
        let (ran, _peer) = if ours.starts_with("tcp://:") {
            let mut sending = Beside::run(folder, &words);
            sending.says("waiting for a connection at ");
            let peer = peer(&["device", &theirs]);
            (sending.end(), peer)
        } else {
            let mut peer = peer(&["device", &theirs]);
            peer.says("ready");
            (run(folder, &words), peer)
        };
        assert_eq!(ran.code, 0, "{ours}: {ran:?}");
        let rows = rows(&ran.out);
        assert_eq!(messages(&rows), ["MoveGate", "MoveAccepted"], "{ours}");
        assert_eq!(rows[0]["fields"]["target"], 80.0, "{ours}");
        assert_eq!(rows[1]["fields"]["ready_in"], 120.0, "{ours}");
        assert_eq!((&rows[0]["direction"], &rows[1]["direction"]), (&"host".into(), &"device".into()), "{ours}");
        let times = rows.iter().map(|row| row["time"].as_str().unwrap()).collect::<Vec<_>>();
        assert!(times[0] <= times[1], "{times:?}");
    }
}

#[test]
fn a_python_host_is_heard_over_udp_and_a_terminal() {
    let folder = project();
    let udp = free_port();
    let cable = cable();
    for (ours, theirs, channel) in [
        (format!("udp://:{udp}"), format!("udp:{udp}"), "house"),
        (cable.ends[0].clone(), cable.ends[1].clone(), "bus485"),
    ] {
        let words = ["listen", &ours, "--on", channel, "--from", "host", "--as", "ndjson", "--count", "3"];
        let mut listening = Beside::run(folder.path(), &words);
        listening.says(if channel == "house" { "waiting for packets at " } else { " runs with " });
        let _host = peer(&["host", &theirs, "3"]);
        let ran = listening.end();
        let found = rows(&ran.out);
        assert_eq!((ran.code, messages(&found)), (0, vec!["MoveGate"; 3]), "{ours}: {}", ran.err);
        // Its targets are 0, 1 and 2 steps of half a percent.
        let targets: Vec<f64> = found.iter().map(|row| row["fields"]["target"].as_f64().unwrap()).collect();
        assert_eq!(targets, [0.0, 0.5, 1.0], "{ours}");
    }
}

#[test]
fn what_goes_wrong_with_an_answer_is_said_each_in_its_words() {
    let folder = project();
    let cases = [
        ("refuse", "MoveGate was refused: Refused came after ", 2),
        ("late", "MoveAccepted came late, after ", 2),
        ("damaged", "the answer is damaged", 1),
        ("silent", "nobody answered MoveGate within 50 ms", 1),
        ("other_node", "nobody answered MoveGate within 50 ms", 1),
    ];
    for (how, said, good) in cases {
        let cable = cable();
        let mut peer = peer(&["device", &cable.ends[0], how]);
        peer.says("ready");
        // What is about the answer itself, and not about its time, may take a busy machine longer.
        let patience: &[&str] = if how == "refuse" { &PATIENTLY } else { &[] };
        let words = [&["send", &cable.ends[1]][..], &MOVE, &["ndjson", "--on", "bus485"], patience].concat();
        let ran = run(folder.path(), &words);
        assert_eq!(ran.code, 1, "{how}: {ran:?}");
        assert!(ran.err.contains(said), "{how}: {}", ran.err);
        let rows = rows(&ran.out);
        assert_eq!(rows.iter().filter(|row| row["message"].is_string()).count(), good, "{how}: {}", ran.out);
    }
}

#[test]
fn a_python_host_talks_to_the_devices_of_a_trial() {
    let folder = project();
    // `tcp://:PORT` waits, and the host connects.
    let port = free_port();
    let words = ["device", "trials/stormy-night.toml", "--port", &format!("tcp://:{port}"), "--as", "ndjson"];
    let mut device = Beside::run(folder.path(), &words);
    device.says("waiting for a connection at ");
    let asked = peer(&["host", &format!("tcp:{port}"), "20"]).end();
    let answers = rows(&asked.out);
    assert_eq!(answers.len(), 20);
    for (n, answer) in answers.iter().enumerate() {
        assert_eq!((&answer["node"], &answer["kind"]), (&3.into(), &0x41.into()), "{n}: {answer}");
        // The trial accepts with target = 100 (raw 200) and ready_in = 120 s (raw 1200).
        assert_eq!(answer["body"], "c8b004", "{n}");
        // It answers after 6 ms.
        assert!((0.006..2.0).contains(&answer["after"].as_f64().unwrap()), "{n}: {answer}");
    }
    let ran = device.interrupt();
    assert_eq!(ran.code, 0, "{ran:?}");
    let shown = rows(&ran.out);
    let count = |name: &str| messages(&shown).iter().filter(|message| **message == name).count();
    assert_eq!((count("MoveGate"), count("MoveAccepted")), (20, 20), "{}", ran.err);
    assert!(ran.err.contains("0 broken"), "{}", ran.err);
}

#[test]
fn a_python_host_talks_to_devices_over_a_terminal_and_udp() {
    let folder = project();
    let udp = free_port();
    let cases = [
        ("trials/stormy-night.toml", "pty".to_owned(), None),
        ("trials/clear-day.toml", format!("udp://:{udp}"), Some(format!("udp:{udp}"))),
    ];
    for (trial, port, at) in cases {
        let mut device = Beside::run(folder.path(), &["device", trial, "--port", &port, "--as", "ndjson"]);
        let at = match at {
            // It says so when it waits, and so has the socket.
            Some(at) => {
                device.says("; waiting");
                at
            }
            None => device.says("the port is "),
        };
        let asked = peer(&["host", &at, "5"]).end();
        let answers = rows(&asked.out);
        let good = answers.iter().filter(|answer| answer["node"] == 3 && answer["kind"] == 0x41).count();
        assert_eq!(good, 5, "{port}: {}", asked.out);
        let ran = device.interrupt();
        let shown = rows(&ran.out);
        let count = |name: &str| messages(&shown).iter().filter(|message| **message == name).count();
        assert_eq!((ran.code, count("MoveGate"), count("MoveAccepted")), (0, 5, 5), "{port}: {}", ran.err);
    }
}

#[test]
fn between_two_ports_everything_passes_and_is_recorded() {
    let folder = project();
    let (device_side, host_side) = (cable(), cable());
    let out = folder.path().join("between.pcapng");
    let words =
        ["record", "--between", &device_side.ends[0], &host_side.ends[0], "--on", "bus485", "--out", "between.pcapng"];
    let mut recording = Beside::run(folder.path(), &words);
    recording.says(&host_side.ends[0]);
    let mut device = peer(&["device", &device_side.ends[1]]);
    device.says("ready");
    let asked = peer(&["host", &host_side.ends[1], "50"]).end();
    assert_eq!(rows(&asked.out).iter().filter(|row| row["kind"] == 0x41).count(), 50, "{}", asked.out);
    let ran = recording.interrupt();
    assert_eq!(ran.code, 0, "{ran:?}");
    // 50 requests of 10 bytes, 50 answers of 11.
    assert!(ran.err.contains("550 bytes from") && ran.err.contains("500 bytes from"), "{}", ran.err);
    let read = run(folder.path(), &["decode", out.to_str().unwrap(), "--as", "ndjson"]);
    assert_eq!(read.code, 0, "{read:?}");
    let found = rows(&read.out);
    assert_eq!(found.len(), 100);
    for pair in found.chunks(2) {
        assert_eq!(messages(pair), ["MoveGate", "MoveAccepted"]);
        assert_eq!(pair[0]["fields"]["target"], pair[1]["fields"]["target"], "the answer repeats the request's target");
        assert_eq!((&pair[0]["direction"], &pair[1]["direction"]), (&"host".into(), &"device".into()));
    }
}

/// The generated C as a program that speaks the bus over its standard input and output.
fn c_gate(folder: &Path) -> PathBuf {
    common::succeed(folder, &["generate", "c", "--out", "c"]);
    std::fs::write(folder.join("c/gate.c"), GATE).unwrap();
    let built = Command::new("cc")
        .current_dir(folder.join("c"))
        .args(["-std=c11", "-O1", "-o", "gate", "gate.c", "marlock.c", "-lm"])
        .output()
        .expect("a C compiler");
    assert!(built.status.success(), "{}", String::from_utf8_lossy(&built.stderr));
    folder.join("c/gate")
}

const GATE: &str = include_str!("../bench_gate.c");

#[test]
fn the_generated_c_answers_as_a_program() {
    let folder = project();
    let gate = c_gate(folder.path());
    let port = format!("command:{}", gate.display());
    let ran = run(folder.path(), &[&["send", &port][..], &MOVE, &["ndjson", "--on", "bus485"], &PATIENTLY].concat());
    assert_eq!(ran.code, 0, "{ran:?}");
    let rows = rows(&ran.out);
    assert_eq!(messages(&rows), ["MoveGate", "MoveAccepted"]);
    assert_eq!((&rows[1]["fields"]["target"], &rows[1]["fields"]["ready_in"]), (&80.0.into(), &7.5.into()));
    // The host of a trial asks it, too: two of its four requests go to node 3 within the first 80 s; one of node 1 is not answered.
    let ran =
        run(folder.path(), &["host", "trials/stormy-night.toml", "--port", &port, "--for", "2500ms", "--as", "ndjson"]);
    assert_eq!(ran.code, 1, "{ran:?}");
    assert!(ran.err.contains("nobody answered WhoAreYou to node 1"), "{}", ran.err);
}

#[test]
fn rows_of_live_traffic_have_the_form_of_those_of_files() {
    let folder = project();
    let hex = "c63903400002a012f590";
    let bytes: Vec<u8> =
        (0..hex.len()).step_by(2).map(|at| u8::from_str_radix(&hex[at..at + 2], 16).unwrap()).collect();
    let noisy = [&b"\x00\x01"[..], &bytes, b"\xc6\x39\x03", &bytes].concat();
    let ran = run_with_input(folder.path(), &["listen", "-", "--on", "bus485", "--as", "ndjson", "--strict"], &noisy);
    std::fs::write(folder.path().join("noisy.bin"), &noisy).unwrap();
    let read = run(folder.path(), &["decode", "noisy.bin", "--on", "bus485", "--as", "ndjson", "--strict"]);
    assert_eq!((ran.code, read.code), (1, 1), "{ran:?} {read:?}");
    let without_time = |out: &str| {
        let mut rows = rows(out);
        for row in &mut rows {
            let row = row.as_object_mut().unwrap();
            // A file says where in it, a port when.
            row.remove("time");
            row.remove("offset");
        }
        rows
    };
    assert_eq!(without_time(&ran.out), without_time(&read.out));
    assert!(!rows(&ran.out).is_empty());
}

/// The end of a pseudo-terminal that a test writes to; the program has the far end as its serial line.
struct Writing {
    near: std::fs::File,
    path: String,
}

fn writing() -> Writing {
    use nix::fcntl::OFlag;
    use nix::sys::termios::{SetArg, cfmakeraw, tcgetattr, tcsetattr};
    // No other program that a test starts may hold it open.
    let near = nix::pty::posix_openpt(OFlag::O_RDWR | OFlag::O_NOCTTY | OFlag::O_CLOEXEC).unwrap();
    nix::pty::grantpt(&near).unwrap();
    nix::pty::unlockpt(&near).unwrap();
    let path = nix::pty::ptsname_r(&near).unwrap();
    let far = std::fs::File::open(&path).unwrap();
    let mut settings = tcgetattr(&far).unwrap();
    cfmakeraw(&mut settings);
    tcsetattr(&far, SetArg::TCSANOW, &settings).unwrap();
    Writing { near: std::fs::File::from(std::os::fd::OwnedFd::from(near)), path }
}

/// WhoAreYou for node 3, as a host sends it: 8 bytes.
fn who_are_you(counter: u8) -> Vec<u8> {
    let inner = [3, 0x30, counter, 0];
    let crc = inner.iter().fold(0xFFFF_u16, |register, byte| {
        (0..8).fold(register ^ u16::from(*byte) << 8, |r, _| if r & 0x8000 == 0 { r << 1 } else { r << 1 ^ 0x1021 })
    });
    [&[0xC6, 0x39][..], &inner, &crc.to_le_bytes()].concat()
}

/// Kills a recording at random moments of a steady stream: what was sent a second before is in the file, and the file is whole.
fn killed_recordings(rounds: u32) {
    use std::io::Write;
    for round in 0..rounds {
        let folder = project();
        let mut line = writing();
        let words = ["record", &line.path, "--on", "bus485", "--from", "host", "--out", "cut.pcapng"];
        let mut recording = Beside::run(folder.path(), &words);
        recording.says("runs with 115200 baud");
        let began = std::time::Instant::now();
        let any = std::time::UNIX_EPOCH.elapsed().unwrap().subsec_nanos();
        let lasting = 1200 + u64::from(any / 1000 % 700);
        let mut sent: Vec<std::time::Duration> = Vec::new();
        while began.elapsed() < std::time::Duration::from_millis(lasting) {
            line.near.write_all(&who_are_you(sent.len() as u8)).unwrap();
            sent.push(began.elapsed());
            std::thread::sleep(std::time::Duration::from_millis(1));
        }
        let killed = began.elapsed();
        recording.kill();
        let read = run(folder.path(), &["decode", "cut.pcapng", "--as", "ndjson", "--strict"]);
        assert_eq!(read.code, 0, "round {round}: {}", read.err);
        let found = rows(&read.out);
        let old = sent.iter().filter(|at| **at + std::time::Duration::from_secs(1) < killed).count();
        assert!(old > 20 && found.len() >= old, "round {round}: {} of {old}", found.len());
        assert!(found.iter().enumerate().all(|(n, row)| row["sequence"] == (n as u8)), "round {round}");
    }
}

#[test]
fn a_killed_recording_is_whole_up_to_the_last_second() {
    killed_recordings(2);
}

/// The same a hundred times: `cargo test -p emberwort live:: -- --ignored hundred`.
#[test]
#[ignore = "takes three minutes"]
fn a_recording_killed_at_a_hundred_moments_is_whole() {
    killed_recordings(if std::env::var_os("EMBERWORT_SMALL").is_some() { 3 } else { 100 });
}

#[test]
fn a_full_disk_leaves_a_recording_that_reads() {
    use std::io::Write;
    let folder = project();
    let mut line = writing();
    // The shell bounds how long a file may become, in blocks of 1024 bytes; the program is told as by a full disk.
    let mut command = Command::new("bash");
    let program = env!("CARGO_BIN_EXE_emberwort");
    let record = format!(
        "trap '' XFSZ; ulimit -f 64; exec {program} record {} --on bus485 --from host --out full.pcapng",
        line.path
    );
    command.current_dir(folder.path()).args(["-c", &record]);
    let mut recording = Beside::start(command);
    recording.says("runs with 115200 baud");
    // It may write for ever once nobody reads, so nobody waits for it.
    std::thread::spawn(move || {
        for n in 0..20_000u32 {
            if line.near.write_all(&who_are_you(n as u8)).is_err() {
                break;
            }
            std::thread::sleep(std::time::Duration::from_micros(50));
        }
    });
    let ran = recording.end();
    assert_eq!(ran.code, 2, "{ran:?}");
    assert!(ran.err.contains("full.pcapng cannot be written any further; its first "), "{}", ran.err);
    let read = run(folder.path(), &["decode", "full.pcapng", "--as", "ndjson", "--strict"]);
    assert_eq!(read.code, 0, "{}", read.err);
    let found = rows(&read.out);
    assert!(found.len() > 300, "{}", found.len());
    assert!(found.iter().enumerate().all(|(n, row)| row["sequence"] == (n as u8)));
}

/// The path of a serial port that can be unplugged: a link to the far end of a pseudo-terminal, which another replaces.
fn plug(at: &Path, line: &Writing) {
    let _ = std::fs::remove_file(at);
    std::os::unix::fs::symlink(&line.path, at).unwrap();
}

#[test]
fn a_port_that_vanishes_is_waited_for() {
    use std::io::Write;
    for command in ["listen", "record", "watch"] {
        let folder = project();
        let at = folder.path().join("adapter");
        let mut line = writing();
        plug(&at, &line);
        let mut words = vec![command, at.to_str().unwrap(), "--on", "bus485", "--from", "host"];
        words.extend(match command {
            "listen" => ["--as", "ndjson"],
            "record" => ["--out", "night.pcapng"],
            _ => ["--frames", "100000"],
        });
        if command == "watch" {
            words.extend(["--size", "160x24"]);
        }
        let mut running = Beside::run(folder.path(), &words);
        running.says("runs with 115200 baud");
        for turn in 0..3 {
            if turn > 0 {
                // Pulled out, and after a while in again.
                std::fs::remove_file(&at).unwrap();
                drop(line);
                if command == "watch" {
                    // It says so in its picture alone.
                    std::thread::sleep(std::time::Duration::from_millis(1500));
                } else {
                    running.says("; waiting for it");
                }
                line = writing();
                plug(&at, &line);
                if command == "watch" {
                    std::thread::sleep(std::time::Duration::from_millis(1500));
                } else {
                    running.says(" is there");
                }
            }
            for n in 0..5 {
                line.near.write_all(&who_are_you(turn * 5 + n)).unwrap();
            }
            std::thread::sleep(std::time::Duration::from_millis(100));
        }
        let ran = running.interrupt();
        assert_eq!(ran.code, 0, "{command}: {ran:?}");
        let out = match command {
            "watch" => {
                assert!(
                    ran.out.contains("waiting for it") && ran.out.trim_end().contains("15 good  0 broken"),
                    "{}",
                    ran.out
                );
                continue;
            }
            "listen" => ran.out,
            _ => common::succeed(folder.path(), &["decode", "night.pcapng", "--as", "ndjson", "--strict"]),
        };
        let found = rows(&out);
        assert_eq!(found.len(), 15, "{command}: {out}");
        assert!(found.iter().enumerate().all(|(n, row)| row["sequence"] == n), "{command}: {out}");
    }
}

#[test]
fn once_ends_when_the_port_vanishes() {
    let folder = project();
    let line = writing();
    let mut running = Beside::run(folder.path(), &["listen", &line.path, "--on", "bus485", "--once", "--as", "ndjson"]);
    running.says("runs with");
    drop(line);
    assert_eq!(running.end().code, 0);
}

#[test]
fn what_cannot_be_opened_says_why_and_what_to_do() {
    use std::os::unix::fs::OpenOptionsExt as _;
    let folder = project();
    std::fs::write(folder.path().join("plain"), "x").unwrap();
    let cases = [
        ("/dev/no-such-port", "`emberwort ports` lists those that are there"),
        ("./plain", "it is not a serial port"),
        ("/dev/full", "it is not a serial port"),
        ("tcp://127.0.0.1:0", "has no port number from 1 to 65535"),
        ("can:can0", "CAN interfaces cannot be used"),
        ("com:3", "is no kind of port"),
        ("command:", "names no program"),
        ("command:./no-such-program", "cannot be opened"),
    ];
    // A pseudo-terminal has no control lines.
    let line = writing();
    for option in [&["--rts", "on"][..], &["--dtr", "off"], &["--rs485"]] {
        let ran = run(folder.path(), &[&["listen", &line.path, "--on", "bus485"][..], option].concat());
        assert_eq!(ran.code, 2, "{option:?}: {ran:?}");
        assert!(ran.err.contains("cannot be set"), "{option:?}: {}", ran.err);
    }
    for (port, said) in cases {
        let ran = run(folder.path(), &["listen", port, "--on", "bus485"]);
        assert_eq!((ran.code, ran.out.as_str()), (2, ""), "{port}: {ran:?}");
        assert!(ran.err.contains(said), "{port}: {}", ran.err);
    }
    let taken = writing();
    let mut first = Beside::run(folder.path(), &["listen", &taken.path, "--on", "bus485"]);
    first.says("runs with");
    // Each that has the port open is named, since the system does not say which has it for itself.
    let second = run(folder.path(), &["listen", &taken.path, "--on", "bus485"]);
    assert_eq!(second.code, 2, "{second:?}");
    assert!(second.err.contains("emberwort (process ") && second.err.contains(" it open\n"), "{}", second.err);
    let free = writing();
    let mine = std::fs::OpenOptions::new().read(true).custom_flags(0o400).open(&free.path).unwrap();
    let mut third = Beside::run(folder.path(), &["listen", &free.path, "--on", "bus485"]);
    third.says("runs with");
    let fourth = run(folder.path(), &["listen", &free.path, "--on", "bus485"]);
    assert!(fourth.err.contains("emberwort (process ") && fourth.err.contains(" have it open\n"), "{}", fourth.err);
    drop(mine);
}

/// A trial whose device is a program of the generated code.
const GATE_TRIAL: &str = r#"
channel = "bus485"
span    = "3 s"
must    = [
    "MoveGate answered within 2 s",
    "always MoveAccepted: target == 80",
    "broken frames at most 0",
]

[[device]]
node = 3

[device.program]
command = ["c/gate"]

[[host.script]]
name   = "opening"
repeat = 4
at     = "200 ms"
steps  = [
    { send = "MoveGate", node = 3, fields = { target = 80, speed = 10 } },
    { expect = "MoveAccepted", node = 3, within = "1 s" },
    { wait = "100 ms" },
]
"#;

/// Mistakes in a device program are each found from what the failed trial prints alone.
#[test]
fn planted_bugs_are_found_from_the_failed_trials_text() {
    let folder = project();
    c_gate(folder.path());
    std::fs::write(folder.path().join("gate.toml"), GATE_TRIAL).unwrap();
    let bugs: [(u32, &[&str]); 4] = [
        (0, &[]),
        // The values say it: asked for 80 %, it accepted 79.5 %.
        (1, &["FAILED  always MoveAccepted: target == 80", "target=80.0 %", "target=79.5 %"]),
        // The bytes say it: the third answer lacks its last one.
        (
            2,
            &[
                "FAILED  broken frames at most 0",
                "BROKEN          truncated: ends after 10 bytes, needs at least 11",
                "receives  C6 39 03 41 02 03 A0 4B 00 09\n",
            ],
        ),
        // The node says it: 4 in place of 3.
        (
            3,
            &["FAILED  opening does all its steps", "no MoveAccepted from node 3 came", "  device     4  MoveAccepted"],
        ),
    ];
    for (bug, said) in bugs {
        let built = Command::new("cc")
            .current_dir(folder.path().join("c"))
            .args(["-std=c11", "-O1", &format!("-DBUG={bug}"), "-o", "gate", "gate.c", "marlock.c", "-lm"])
            .output()
            .expect("a C compiler");
        assert!(built.status.success(), "{}", String::from_utf8_lossy(&built.stderr));
        let ran = run(folder.path(), &["trial", "gate.toml"]);
        assert_eq!(ran.code, i32::from(bug > 0), "{bug}: {ran:?}");
        // What the program received counts as what a played device receives.
        let received = [
            "MoveGate      host       3     4         4        0     0\n",
            "each device received 40 bytes: 40 in 4 good frames",
        ];
        assert!(bug > 0 || received.iter().all(|line| ran.out.contains(line)), "{}", ran.out);
        for part in said {
            assert!(ran.out.contains(part), "{bug}: `{part}` is not in\n{}", ran.out);
        }
    }
}

#[test]
fn a_long_recording_goes_on_in_other_files_and_drops_the_oldest() {
    use std::io::Write;
    let folder = project();
    let mut line = writing();
    let words = [
        "record",
        &line.path,
        "--on",
        "bus485",
        "--from",
        "host",
        "--out",
        "long.pcapng",
        "--split-size",
        "5kB",
        "--keep",
        "15kB",
    ];
    let mut recording = Beside::run(folder.path(), &words);
    recording.says("runs with");
    // 24,000 bytes, also where a busy machine reads many of them at once and writes few packets.
    for n in 0..3000u32 {
        line.near.write_all(&who_are_you(n as u8)).unwrap();
        std::thread::sleep(std::time::Duration::from_micros(300));
    }
    std::thread::sleep(std::time::Duration::from_millis(100));
    let ran = recording.interrupt();
    assert_eq!(ran.code, 0, "{ran:?}");
    let mut files: Vec<_> = std::fs::read_dir(folder.path()).unwrap().map(|entry| entry.unwrap().path()).collect();
    files.retain(|path| path.extension().is_some_and(|ending| ending == "pcapng"));
    files.sort();
    let whole: u64 = files.iter().map(|path| path.metadata().unwrap().len()).sum();
    assert!(files.len() >= 2 && whole <= 24_000, "{files:?}: {whole}");
    assert!(ran.err.contains("older ones were removed"), "{}", ran.err);
    // Each reads by itself, and what they hold follows on.
    let mut numbers = Vec::new();
    for path in &files {
        let read = run(folder.path(), &["decode", path.to_str().unwrap(), "--as", "ndjson", "--strict"]);
        assert_eq!(read.code, 0, "{}", read.err);
        numbers.extend(rows(&read.out).iter().map(|row| row["sequence"].as_u64().unwrap()));
    }
    assert!(numbers.windows(2).all(|pair| pair[1] == (pair[0] + 1) % 256), "{numbers:?}");
    assert_eq!(numbers.last(), Some(&(2999 % 256)));
}

#[test]
fn what_is_passed_on_can_be_damaged_on_purpose() {
    let folder = project();
    let (device_side, host_side) = (cable(), cable());
    let trial = "channel = \"bus485\"\nspan = \"1 h\"\n[wire]\nto_device = { frame_loss = 1 }\n[[device]]\nnode = 3\n";
    std::fs::write(folder.path().join("deaf.toml"), trial).unwrap();
    let between = [
        "record",
        "--between",
        &device_side.ends[0],
        &host_side.ends[0],
        "--on",
        "bus485",
        "--wire",
        "deaf.toml",
        "--out",
        "deaf.pcapng",
    ];
    let mut recording = Beside::run(folder.path(), &between);
    recording.says("is damaged on purpose");
    let mut device = peer(&["device", &device_side.ends[1]]);
    device.says("ready");
    let ran = run(folder.path(), &[&["send", &host_side.ends[1]][..], &MOVE, &["ndjson", "--on", "bus485"]].concat());
    assert_eq!(ran.code, 1, "{ran:?}");
    assert!(ran.err.contains("nobody answered MoveGate"), "{}", ran.err);
    let ran = recording.interrupt();
    assert!(ran.err.contains("10 bytes from"), "{}", ran.err);
}

#[test]
fn a_program_runs_when_a_message_comes_and_never_a_shell() {
    let folder = project();
    // Alarm for node 3: raised 02, oil 12 bits, spare 4 bits, temperature, text.
    let alarm = run(
        folder.path(),
        &[
            "encode",
            "Alarm",
            "raised=oil_hot",
            "oil=200",
            "pump_temp=80",
            "text=$(touch hacked);`id`",
            "--on",
            "bus485",
            "--node",
            "3",
        ],
    );
    assert_eq!(alarm.code, 0, "{alarm:?}");
    let bytes: Vec<u8> = alarm.out.split_whitespace().map(|byte| u8::from_str_radix(byte, 16).unwrap()).collect();
    let words = [
        "listen",
        "-",
        "--on",
        "bus485",
        "--as",
        "ndjson",
        "--on-message",
        "Alarm",
        "--run",
        "/bin/echo",
        "-n",
        "{message} {node} {oil} {text}",
    ];
    let ran = run_with_input(folder.path(), &words, &bytes);
    assert_eq!(ran.code, 0, "{ran:?}");
    assert!(
        ran.out.contains("Alarm 3 200.00 $(touch hacked);`id`") || ran.out.contains("Alarm 3 199.9"),
        "{}",
        ran.out
    );
    assert!(!folder.path().join("hacked").exists());
    let wrong =
        run(folder.path(), &["listen", "-", "--on", "bus485", "--on-message", "Alarm", "--run", "echo", "{oli}"]);
    assert_eq!(wrong.code, 2);
    assert!(wrong.err.contains("did you mean `oil`?"), "{}", wrong.err);
}

/// A line as it is compared: every number is one, and columns may be wider or narrower.
fn without_numbers(line: &str) -> String {
    let plain = regex::Regex::new(r"[0-9]+").unwrap().replace_all(line, "0").into_owned();
    // On a busy machine the gate has begun to move by then.
    plain
        .split_whitespace()
        .collect::<Vec<_>>()
        .join(" ")
        .replace(" us", " ms")
        .replace("state,opening", "state,closed")
}

#[test]
fn the_page_of_live_commands_shows_what_comes_back() {
    let folder = project();
    let ports = [free_port(), free_port()];
    let page = include_str!("../../../../docs/live.md");
    let mut beside = Vec::new();
    let mut commands = 0;
    for block in page.split("```\n").skip(1).step_by(2) {
        for shown in block.split("$ emberwort ").skip(1) {
            let (command, expected) = shown.split_once('\n').unwrap();
            let command =
                command.replace(":4001", &format!(":{}", ports[0])).replace(":4002", &format!(":{}", ports[1]));
            let words: Vec<&str> = command.split_whitespace().collect();
            commands += 1;
            if let Some((&"&", words)) = words.split_last() {
                let mut running = Beside::run(folder.path(), words);
                running.says(expected.trim().trim_end_matches(|c: char| c.is_ascii_digit()));
                beside.push(running);
                continue;
            }
            let mut ran = run(folder.path(), &words);
            // The connection that was there before may have to be seen to be gone.
            for _ in 0..20 {
                let failed =
                    ["cannot be opened", "nobody answered", "came late"].iter().any(|said| ran.err.contains(said));
                if !failed {
                    break;
                }
                std::thread::sleep(std::time::Duration::from_millis(300));
                ran = run(folder.path(), &words);
            }
            let all = format!("{}{}", ran.out, ran.err);
            let mut found = all.lines().map(without_numbers);
            let mut may_skip = false;
            for line in expected.lines() {
                if line == "…" {
                    may_skip = true;
                    continue;
                }
                let wanted = without_numbers(line);
                let fits = |found: &String| match wanted.strip_suffix('…') {
                    Some(beginning) => found.starts_with(beginning),
                    None => *found == wanted,
                };
                let is_there =
                    if may_skip { found.any(|line| fits(&line)) } else { found.next().is_some_and(|line| fits(&line)) };
                assert!(is_there, "{command}: `{line}` does not come in\n{all}");
                may_skip = false;
            }
        }
    }
    assert_eq!(commands, 9);
}
