//! `send`: the numbers of its frames, and entries of tables by their names, against devices of trials.

use serde_json::Value as Json;

use crate::common::{Beside, PATIENTLY, free_port, project, rows, run, waiting_device};

/// A device may take a number that comes twice for the same frame once more.
#[test]
fn sequence_numbers_go_on_where_the_last_send_ended() {
    let folder = project();
    let (_device, to) = waiting_device(folder.path(), "trials/moving-gate.toml");
    let sent = |node: &str, more: &[&str]| -> Vec<u64> {
        let words = ["send", &to, "--on", "bus485", "--node", node, "WhoAreYou", "--no-answer", "--as", "ndjson"];
        let ran = run(folder.path(), &[&words, more].concat());
        assert_eq!(ran.code, 0, "{ran:?}");
        rows(&ran.out)
            .iter()
            .filter(|row| row["direction"] == "host")
            .map(|row| row["sequence"].as_u64().unwrap())
            .collect()
    };
    assert_eq!(sent("3", &[]), [0]);
    assert_eq!(sent("3", &["--every", "1ms", "--count", "3"]), [1, 2, 3]);
    assert_eq!(sent("5", &[]), [0], "each node has its own");
    assert_eq!(sent("3", &["--sequence", "254"]), [254]);
    assert_eq!(sent("3", &["--every", "1ms", "--count", "2"]), [255, 0], "a byte");
    // What cannot be read there is as if it were not there.
    let kept = folder.path().join("state/emberwort/sent.json");
    std::fs::write(&kept, "[1, ").unwrap();
    assert_eq!(sent("3", &[]), [0]);
    assert_eq!(sent("3", &[]), [1]);
    assert_eq!(std::fs::read_dir(kept.parent().unwrap()).unwrap().count(), 1);
}

#[test]
fn settings_are_read_and_written_by_name() {
    let folder = project();
    let (_device, to) = waiting_device(folder.path(), "trials/moving-gate.toml");
    let send = |words: &[&str]| {
        run(folder.path(), &[&["send", &to, "--on", "bus485", "--node", "3"][..], &PATIENTLY, words].concat())
    };
    let all = send(&["--read-all", "--as", "ndjson"]);
    assert_eq!(all.code, 0, "{all:?}");
    let value = |rows: &[Json], entry: &str| rows.iter().find(|row| row["entry"] == entry).unwrap()["value"].clone();
    let found = rows(&all.out);
    assert_eq!(found.len(), 4);
    assert_eq!((value(&found, "ramp_time"), value(&found, "serial_number")), ("12.50 s".into(), "\"ML-0307\"".into()));
    let written = send(&["--write", "ramp_time=20.25"]);
    assert_eq!(written.code, 0, "{written:?}");
    assert!(
        written.err.contains("ramp_time is 20.25 s, as written; the definition says that it is kept over a restart"),
        "{}",
        written.err
    );
    let read = send(&["--read", "Settings.ramp_time", "--as", "ndjson"]);
    assert_eq!(read.code, 0, "{read:?}");
    assert_eq!(rows(&read.out)[1]["fields"]["value"], serde_json::json!({"ramp_time": 20.25}));
    for (words, said) in [
        (["--write", "serial_number=X"], "`serial_number` of `Settings` can only be read"),
        (["--read", "ramp_tim"], "did you mean `ramp_time`?"),
        (["--write", "ramp_time"], "--write ramp_time=12.5"),
        (["--write", "ramp_time=99"], "99"),
    ] {
        let refused = send(&words);
        assert_eq!(refused.code, 2, "{words:?}: {refused:?}");
        assert!(refused.err.contains(said), "{words:?}: {}", refused.err);
    }
    // Rows of a file, each answered.
    let lines = "{\"message\":\"WhoAreYou\"}\n\n{\"message\":\"MoveGate\",\"fields\":{\"target\":50,\"speed\":10}}\n";
    std::fs::write(folder.path().join("rows.ndjson"), lines).unwrap();
    let sent = send(&["--rows", "rows.ndjson", "--as", "ndjson"]);
    assert_eq!(sent.code, 0, "{sent:?}");
    let messages: Vec<_> = rows(&sent.out).into_iter().map(|row| row["message"].clone()).collect();
    assert_eq!(messages, ["WhoAreYou", "Identity", "MoveGate", "MoveAccepted"]);
}

/// However an answer says which setting it is about: by repeating the key, by the request alone, or both ways.
#[test]
fn settings_are_reached_however_the_answer_is_cut() {
    let answers = [
        "setting : key of Settings\n value : value of Settings by setting",
        "value : value of Settings by ReadSetting.setting",
        "setting : key of Settings\n value : value of Settings by ReadSetting.setting",
        "setting : u16\n value : value of Settings by setting",
    ];
    for answer in answers {
        let key = if answer.contains("u16") { "u16" } else { "key of Settings" };
        let text = format!(
            "link drive {{\n revision 1\n byte_order big\n}}\n\
             channel wire {{\n medium uart 9600 8N1\n frame {{\n sync C6 39\n node : u8 address\n kind : u8 message\n\
             size : u8 length of body\n body\n check : u8 sum8 over node..body\n}}\n}}\n\
             table Settings : u16 {{\n 0x0001 ramp_time : 0 .. 45 s step 0.25 read write, kept\n\
             0x0002 current : i16 * 0.025 A read write\n 0x0003 speed : 20 .. 80 rpm step 0.5 read write\n}}\n\
             message ReadSetting {{\n id 0x50\n from host\n on wire\n answered by SettingValue within 100 ms\n setting : {key}\n}}\n\
             message SettingValue {{\n id 0x51\n from device\n on wire\n{answer}\n}}\n\
             message WriteSetting {{\n id 0x52\n from host\n on wire\n answered by SettingDone within 100 ms\n\
             setting : key of Settings\n value : value of Settings by setting\n}}\n\
             message SettingDone {{\n id 0x53\n from device\n on wire\n setting : key of Settings\n value : value of Settings by setting\n}}\n"
        );
        let folder = tempfile::tempdir().unwrap();
        std::fs::write(folder.path().join("drive.ember"), text).unwrap();
        let asked = if key == "u16" { "3" } else { "\"speed\"" };
        let trial = format!(
            "channel = \"wire\"\nspan = \"5 s\"\nmust = [\"ReadSetting answered within 100 ms\", \"no good frame with a wrong value\"]\n\
             [[device]]\nnode = 1\n[device.tables.Settings]\nspeed = 55\ncurrent = 1.5\n\
             [[request]]\nat = \"1 s\"\nnode = 1\nmessage = \"ReadSetting\"\nfields = {{ setting = {asked} }}\n\
             [[request]]\nat = \"2 s\"\nnode = 1\nmessage = \"WriteSetting\"\nfields = {{ setting = \"speed\", value = {{ speed = 70 }} }}\n\
             [[request]]\nat = \"3 s\"\nnode = 1\nmessage = \"ReadSetting\"\nfields = {{ setting = {asked} }}\n"
        );
        std::fs::write(folder.path().join("drive.toml"), trial).unwrap();
        let tried = run(folder.path(), &["trial", "drive.toml", "--record", "drive.pcapng"]);
        assert_eq!(tried.code, 0, "{answer}: {tried:?}");
        let decoded = run(folder.path(), &["decode", "drive.pcapng", "--as", "ndjson"]);
        let found = rows(&decoded.out);
        let field = |row: usize, name: &str| found[row]["fields"][name].clone();
        let speed = |value: f64| serde_json::json!({ "speed": value });
        assert_eq!(
            [field(1, "value"), field(3, "value"), field(5, "value")],
            [speed(55.0), speed(70.0), speed(70.0)],
            "{answer}"
        );
        assert_eq!(field(3, "setting"), "speed", "{answer}");
        if answer.starts_with("setting") {
            let named = if key == "u16" { serde_json::json!(3) } else { "speed".into() };
            assert_eq!([field(1, "setting"), field(5, "setting")], [named.clone(), named], "{answer}");
        }
        if key == "u16" {
            continue;
        }
        let port = free_port();
        let mut device = Beside::run(folder.path(), &["device", "drive.toml", "--port", &format!("tcp://:{port}")]);
        device.says("waiting for a connection at ");
        let to = format!("tcp://127.0.0.1:{port}");
        let send =
            |words: &[&str]| run(folder.path(), &[&["send", &to, "--node", "1"][..], &PATIENTLY, words].concat());
        let written = send(&["--write", "ramp_time=20.25"]);
        assert!(written.code == 0 && written.err.contains("ramp_time is 20.25 s, as written"), "{answer}: {written:?}");
        let all = send(&["--read-all", "--as", "ndjson"]);
        let values: Vec<Json> = rows(&all.out).iter().map(|row| row["value"].clone()).collect();
        assert_eq!(values, ["20.25 s", "1.500 A", "55.0 rpm"], "{answer}: {all:?}");
    }
}
