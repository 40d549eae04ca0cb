//! `watch`, as pictures of text and in a real pseudo-terminal.

use std::io::Write as _;
use std::net::TcpListener;
use std::path::Path;
use std::process::Command;
use std::time::{Duration, Instant};

use crate::common::{Beside, free_port, gate_status, project, project_with_recording, run, waiting_device};

/// Drives the program in a pseudo-terminal.
fn in_terminal(folder: &Path, (columns, rows): (u32, u32), steps: &[&str], words: &[&str]) -> String {
    let script = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/watch_in_terminal.py");
    let mut command = Command::new("python3");
    command.current_dir(folder).arg(script).args([columns.to_string(), rows.to_string()]).args(steps).arg("--");
    command.arg(env!("CARGO_BIN_EXE_emberwort")).args(words).env_remove("NO_COLOR");
    command.env("XDG_STATE_HOME", folder.join("state"));
    let output = command.output().expect("python3 runs");
    let out = String::from_utf8_lossy(&output.stdout).into_owned();
    assert!(output.status.success(), "{out}\n{}", String::from_utf8_lossy(&output.stderr));
    out
}

fn frames(folder: &Path, words: &[&str]) -> String {
    let ran = run(folder, &[&["watch", "stormy-night.pcapng", "--as", "text", "--color", "never"][..], words].concat());
    assert_eq!((ran.code, ran.err.as_str()), (0, ""), "{ran:?}");
    ran.out
}

#[test]
fn still_pictures_of_a_recording() {
    let folder = project_with_recording();
    insta::assert_snapshot!("small", frames(folder.path(), &["--frames", "1", "--speed", "1000"]));
    let keys = "↓↓\t↓s↓s";
    let large = frames(folder.path(), &["--frames", "1", "--speed", "1600", "--size", "160x50", "--keys", keys]);
    insta::assert_snapshot!("large", large);
    // Codes of an enum are drawn with their labels.
    let codes = frames(folder.path(), &["--frames", "1", "--speed", "1600", "--keys", "↓↓\ts"]);
    assert!(codes.contains(" state (3) = held"), "{codes}");
    // Each picture shows a twentieth of a second times the speed more.
    let two = frames(folder.path(), &["--frames", "2", "--speed", "20"]);
    let clocks: Vec<&str> = two.lines().filter(|line| line.starts_with("recording")).collect();
    assert_eq!(clocks, ["recording, 20 times as fast  02:10:01.005", "recording, 20 times as fast  02:10:02.005"]);
}

#[test]
fn keys_resizing_and_quitting() {
    let folder = project_with_recording();
    let watch = ["watch", "stormy-night.pcapng", "--speed", "100"];
    let help = in_terminal(
        folder.path(),
        (80, 24),
        &["wait:GateStatus", "key:?", "wait:another message or field", "key:x", "key:q"],
        &watch,
    );
    assert!(help.contains("exit 0") && help.contains("restored True"), "{help}");
    let scope = in_terminal(
        folder.path(),
        (80, 24),
        &[
            "wait:MoveGate",
            "key: ",
            "wait:PAUSED",
            "key:\\t",
            "key:\\x1b[B",
            "key:s",
            "wait:scope, 10 s",
            "key:+",
            "wait:scope, 30 s",
            "key:q",
        ],
        &watch,
    );
    assert!(scope.contains("opening"), "{scope}");
    let wide = in_terminal(
        folder.path(),
        (80, 24),
        &["wait:last frames", "size:160x50", "wait:requests and answers", "size:80x24", "wait:last frames", "key:q"],
        &watch,
    );
    assert!(wide.contains("restored True"), "{wide}");
    // A signal, too, gives the terminal back.
    let ended = in_terminal(folder.path(), (80, 24), &["wait:GateStatus", "signal:SIGTERM"], &watch);
    assert!(ended.contains("exit 0") && ended.contains("restored True"), "{ended}");
}

/// After a panic the terminal is as it was, and the message can be read.
#[test]
fn a_panic_gives_the_terminal_back() {
    let folder = project_with_recording();
    let script = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/watch_in_terminal.py");
    let mut command = Command::new("python3");
    command.current_dir(folder.path()).arg(script).args([
        "80",
        "24",
        "--",
        env!("CARGO_BIN_EXE_emberwort"),
        "watch",
        "stormy-night.pcapng",
    ]);
    let output = command.env("EMBERWORT_TEST_PANIC", "1").output().expect("python3 runs");
    let out = String::from_utf8_lossy(&output.stdout);
    assert!(out.contains("restored True") && out.contains("exit 101"), "{out}");
}

/// Statuses without an end, as fast as they are taken: pictures are dropped, and never keys.
#[test]
fn pictures_come_and_keys_are_heard_under_a_flood() {
    let folder = project();
    let frames = gate_status(folder.path(), 20, 0).repeat(1000);
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let to = format!("tcp://{}", listener.local_addr().unwrap());
    let flood = std::thread::spawn(move || {
        let (mut stream, _) = listener.accept().unwrap();
        let mut taken = 0u64;
        while stream.write_all(&frames).is_ok() {
            taken += frames.len() as u64;
        }
        taken
    });
    let started = Instant::now();
    let steps = ["wait:GateStatus", "key:?", "wait:another message or field", "key:x", "key:q"];
    let shown = in_terminal(folder.path(), (80, 24), &steps, &["watch", &to, "--on", "bus485"]);
    assert!(shown.contains("exit 0") && shown.contains("restored True"), "{shown}");
    assert!(started.elapsed() < Duration::from_secs(30), "{:?}", started.elapsed());
    let taken = flood.join().unwrap();
    assert!(taken > 1_000_000, "{taken} bytes are no flood");
}

#[test]
fn a_form_sends_a_message_to_a_device() {
    let folder = project();
    let (_device, to) = waiting_device(folder.path(), "trials/moving-gate.toml");
    // MoveGate is the first of the host's messages, to the node whose message is chosen: target 60, speed 10; before that a value that does not fit.
    let steps = [
        "wait:GateStatus",
        "key:f",
        "wait:send MoveGate",
        "key:\\t",
        "key:600",
        "key:\\t",
        "key:10",
        "key:\\r",
        "wait:600",
        "key:\\x1b[A",
        "key:\\x7f",
        "key:\\r",
        "wait:MoveGate was sent",
        "key:\\x1b",
        "key:a",
        "wait:MoveAccepted",
        "key:q",
    ];
    let shown = in_terminal(folder.path(), (80, 24), &steps, &["watch", &to, "--on", "bus485"]);
    assert!(shown.contains("after") && shown.contains("exit 0"), "{shown}");
    // The next one goes on with the numbers.
    let words = ["send", &to, "--on", "bus485", "--node", "3", "WhoAreYou", "--no-answer", "--as", "ndjson"];
    let sent = run(folder.path(), &words);
    assert!(sent.out.starts_with("{\"frame\":1,") && sent.out.contains("\"sequence\":1,"), "{sent:?}");
}

#[test]
fn a_saved_definition_is_read_again_and_a_broken_one_is_said() {
    let folder = project();
    let port = free_port();
    let at = format!("tcp://:{port}");
    let mut device = Beside::run(folder.path(), &["device", "trials/stormy-night.toml", "--port", &at, "--node", "1"]);
    device.says("waiting for a connection at ");
    // A copy is watched, which changes while the device goes on with its own.
    for name in ["pump.ember", "gauge.ember", "valve.ember"] {
        std::fs::copy(folder.path().join(name), folder.path().join("sealed").join(name)).unwrap();
    }
    let own = std::fs::read_to_string(folder.path().join("marlock.ember")).unwrap();
    let watched = folder.path().join("sealed/watched.ember");
    std::fs::write(&watched, &own).unwrap();
    let script = format!(
        "import time,sys\np={:?}\nown=open(p).read()\ntime.sleep(1.5)\nopen(p,'w').write(own.replace('pump_temp  : i8 degC','pump_temp  : i8 degX ?',1))\n\
         time.sleep(1.5)\nopen(p,'w').write(own.replace('    oil        : 0','    oil_now    : 0',1))\n",
        watched.to_str().unwrap()
    );
    let mut command = Command::new("python3");
    command.args(["-c", &script]);
    let _editor = Beside::start(command);
    let to = format!("tcp://127.0.0.1:{port}");
    let steps = ["wait:oil ", "wait:the definition has errors", "wait:oil_now", "key:q"];
    let words = ["--link", watched.to_str().unwrap(), "watch", &to, "--on", "bus485"];
    let shown = in_terminal(folder.path(), (100, 30), &steps, &words);
    assert!(!shown.contains("has errors") && shown.contains("exit 0"), "{shown}");
}
