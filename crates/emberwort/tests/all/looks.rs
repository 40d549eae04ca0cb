//! What the commands show, as snapshots. After a change read the new pictures: `cargo insta review`, or
//! INSTA_UPDATE=always and `git diff`.

use crate::common::{emberwort, marlock, project_with_recording, run, succeed};

/// A definition with mistakes of several kinds.
const MISTAKES: &str = r#"link marlock { revision 3  byte_order little }

enum GateState : u2 {
    0 closed
    1 opening
    4 held
}

channel bus485 {
    medium uart 115200 8N1
    frame {
        sync  C6 39
        kind  : u8 message
        size  : u8 length of body
        body
        check : u16 crc-16/imb-3740 over kind..body
    }
}

message GateStatus {
    id 0x21
    from device every 200 ms
    on bus458
    state    : GateStat
    opening  : 0 .. 100 % step 0.3
    oil      : 0 .. 250 bar in 12 bits optoinal
    battery  : u8 * 0.1 V = 26
    strokes  : [..8] u16
}
"#;

fn with_mistakes() -> tempfile::TempDir {
    let folder = tempfile::tempdir().unwrap();
    std::fs::write(folder.path().join("marlock.ember"), MISTAKES).unwrap();
    folder
}

#[test]
fn check_with_findings() {
    let ran = run(with_mistakes().path(), &["check"]);
    assert_eq!(ran.code, 1);
    insta::assert_snapshot!(ran.out);
}

/// Two places that belong together are shown apart if much stands between them.
#[test]
fn places_far_from_each_other_are_shown_apart() {
    let folder = tempfile::tempdir().unwrap();
    let between: String = (0..60).map(|n| format!("# line {n}\n")).collect();
    let text = format!(
        "link l {{ revision 1  byte_order little }}\nmessage A {{ from host  x : u8 }}\n{between}message A {{ from host  y : u8 }}\n"
    );
    std::fs::write(folder.path().join("l.ember"), text).unwrap();
    let ran = run(folder.path(), &["check"]);
    let shown: Vec<&str> = ran.out.lines().filter(|line| line.contains(" │ ")).collect();
    assert!(shown.len() < 8 && !ran.out.contains("# line 30"), "{}", ran.out);
    assert!(ran.out.contains(" 2 │ message A") && ran.out.contains("63 │ message A"), "{}", ran.out);
}

#[test]
fn layout_of_a_message() {
    insta::assert_snapshot!(succeed(&marlock(), &["layout", "GateStatus", "MoveGate"]));
}

#[test]
fn layout_for_tools() {
    insta::assert_snapshot!(succeed(&marlock(), &["layout", "Refused", "--as", "ndjson"]));
}

#[test]
fn trial_of_the_stormy_night() {
    insta::assert_snapshot!(succeed(&marlock(), &["trial", "trials/stormy-night.toml"]));
}

#[test]
fn trial_that_fails() {
    let folder = project_with_recording();
    let text = std::fs::read_to_string(folder.path().join("trials/clear-day.toml")).unwrap();
    let text =
        text.replace("counter gaps at most 20", "counter gaps at most 0").replace("at least 280", "at least 300");
    std::fs::write(folder.path().join("strict.toml"), text).unwrap();
    let ran = run(folder.path(), &["trial", "strict.toml"]);
    assert_eq!(ran.code, 1);
    insta::assert_snapshot!(ran.out);
    let json: serde_json::Value =
        serde_json::from_str(&run(folder.path(), &["trial", "strict.toml", "--as", "ndjson"]).out).unwrap();
    assert_eq!((&json["passed"], &json["must"][0]["held"]), (&false.into(), &false.into()));
}

#[test]
fn stats_of_the_stormy_night() {
    let folder = project_with_recording();
    insta::assert_snapshot!(succeed(folder.path(), &["stats", "stormy-night.pcapng"]));
}

#[test]
fn stats_for_tools() {
    let folder = project_with_recording();
    insta::assert_snapshot!(succeed(folder.path(), &["stats", "stormy-night.pcapng", "--as", "ndjson"]));
}

#[test]
fn rows_of_a_shaken_plug() {
    let path = marlock().join("../captures/shaken-plug.pcapng");
    insta::assert_snapshot!(succeed(&marlock(), &["decode", path.to_str().unwrap()]));
}

#[test]
fn rows_as_a_tree() {
    let path = marlock().join("../captures/keeper.hex");
    insta::assert_snapshot!(succeed(&marlock(), &["decode", path.to_str().unwrap(), "--on", "bus485", "--as", "tree"]));
}

#[test]
fn help() {
    let output = emberwort(&marlock(), &["--help"]).env("COLUMNS", "100").output().unwrap();
    insta::assert_snapshot!(String::from_utf8(output.stdout).unwrap());
}

#[test]
fn colour_only_where_it_is_wanted() {
    let folder = with_mistakes();
    let escapes = |words: &[&str], no_color: bool| {
        let mut command = emberwort(folder.path(), words);
        if no_color {
            command.env("NO_COLOR", "1");
        }
        let output = command.output().unwrap();
        output.stdout.contains(&0x1B) || output.stderr.contains(&0x1B)
    };
    assert!(!escapes(&["check"], false), "not in a pipe");
    assert!(escapes(&["check", "--color", "always"], false));
    assert!(escapes(&["check", "--color", "always"], true), "the option says more than the variable");
    assert!(!escapes(&["check", "--color", "never"], false));
}

/// What a command shows in a terminal of 80 columns, on standard output and standard error, without colours.
fn in_terminal(folder: &std::path::Path, words: &[&str]) -> Option<String> {
    let script = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/in_terminal.py");
    let mut command = std::process::Command::new("python3");
    command.arg(script).arg("80").arg(env!("CARGO_BIN_EXE_emberwort")).args(words);
    command.current_dir(folder).env_remove("EMBERWORT_LINK").env("NO_COLOR", "1").env("TERM", "xterm");
    match command.output() {
        Ok(output) => {
            assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
            Some(String::from_utf8(output.stdout).unwrap())
        }
        Err(_) if std::env::var_os("EMBERWORT_NEED_TOOLCHAINS").is_none() => None,
        Err(error) => panic!("python3 cannot be run: {error}"),
    }
}

#[test]
fn nothing_is_wider_than_a_terminal_of_80_columns() {
    let folder = project_with_recording();
    let folder = folder.path();
    std::fs::write(folder.join("log.txt"), "12:00:00.1 RX C6 39 03 40\n").unwrap();
    std::fs::write(folder.join("frames.txt"), "01 03 00 00 00 02 C4 0B\n11 03 00 6B 00 03 76 87\n").unwrap();
    for line in [
        "check",
        "check --frames",
        "layout",
        "budget",
        "budget gauges --devices 2 --what-if gauges|sf12",
        "value 0|..|250|bar|in|12|bits 120",
        "decode stormy-night.pcapng",
        "decode stormy-night.pcapng --as tree --message Alarm",
        "decode --on bus485 --hex C6390340001122C639034000",
        "decode --on bus485 log.txt",
        "stats stormy-night.pcapng",
        "stats --on bus485 --hex C6390340001122C639034000",
        "compare r1 r3",
        "compare r2 --what-if GateStatus.oil|0|..|400|bar|in|12|bits",
        "compare --prove --random 3",
        "seal --list",
        "trial trials/stormy-night.toml",
        "trial trials/stormy-night.toml --host r2",
        "checksum --list",
        "checksum strength --on bus485",
        "checksum strength --best 16 --length 64",
        "checksum identify frames.txt",
        "checksum crc-16/ibm-3740 --hex C6390340 --verify 0x1234",
        "checksum internet --hex 0001F203F4 --explain",
        "encode GateStatus",
        "encode MoveGate target=80 speed=12.3456",
        "encode MoveGate target=80.123 speed=12 --on bus485",
        "encode Nothing",
        "generate c --out made",
        "nonsense",
        "decode nothing.pcapng",
        "decode --on nowhere --hex 00",
        "trial marlock.ember",
        "--help",
        "decode --help",
    ] {
        let words: Vec<String> = line.split(' ').map(|word| word.replace('|', " ")).collect();
        let words: Vec<&str> = words.iter().map(String::as_str).collect();
        let Some(shown) = in_terminal(folder, &words) else { return };
        assert!(!shown.trim().is_empty(), "{line} shows nothing");
        // A word that is longer than the line, as a path or an argument, stays whole.
        let too_wide =
            |line: &&str| line.chars().count() > 80 && line.trim().split(' ').all(|word| word.chars().count() < 60);
        let wide: Vec<&str> = shown.lines().filter(too_wide).take(3).collect();
        assert!(wide.is_empty(), "{line}:\n{}", wide.join("\n"));
    }
}
