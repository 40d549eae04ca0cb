//! Streams that are closed or full, and files in all states: no panic, exit code 0, 1 or 2, nothing half written, nothing of
//! others touched.
#![cfg(unix)]

use std::fs;
use std::os::unix::fs::{MetadataExt, PermissionsExt, symlink};
use std::path::Path;
use std::process::{Command, Stdio};

use crate::common::{self, emberwort, marlock, project, project_with_recording, run, succeed};

/// Each command with arguments that make it say something, on standard error too.
const COMMANDS: &[&str] = &[
    "check",
    "check marlock.ember nosuch.ember",
    "tidy --check",
    "layout GateStatus",
    "layout Nobody",
    "budget",
    "value 0..10",
    "value 1..",
    "seal --list",
    "compare",
    "encode MoveGate target=80 speed=12 --on bus485",
    "encode MoveGate target=800",
    "decode stormy-night.pcapng",
    "decode stormy-night.pcapng --as csv",
    "decode cut.pcapng",
    "stats stormy-night.pcapng --on nowhere",
    "stats stormy-night.pcapng",
    "stats cut.pcapng",
    "checksum crc-16/arc --hex 00",
    "checksum identify stormy-night.pcapng",
    "checksum strength --on bus485",
    "checksum packet stormy-night.pcapng",
    "checksum nonsense --hex 00",
    "trial trials/clear-day.toml",
    "trial nosuch.toml",
    "generate --out made",
    "completions bash",
    "man",
    "--help",
    "trial --help",
    "--version",
    "nonsense",
];

/// Runs the program by a shell, which sets up its streams.
fn shell(folder: &Path, words: &str, streams: &str) -> i32 {
    let program = env!("CARGO_BIN_EXE_emberwort");
    let status = Command::new("sh")
        .current_dir(folder)
        .args(["-c", &format!("'{program}' {words} {streams}")])
        .env_remove("EMBERWORT_LINK")
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .status()
        .expect("a shell");
    status.code().unwrap_or(-1)
}

fn in_project(act: impl Fn(&Path)) {
    let folder = project_with_recording();
    let whole = fs::read(folder.path().join("stormy-night.pcapng")).unwrap();
    fs::write(folder.path().join("cut.pcapng"), &whole[..whole.len() / 2 + 3]).unwrap();
    act(folder.path());
}

#[test]
fn standard_error_may_be_closed_or_full() {
    in_project(|folder| {
        for words in COMMANDS {
            let usual = shell(folder, words, "");
            assert!((0..=2).contains(&usual), "{words}: {usual}");
            for streams in ["2>&-", "2>/dev/full"] {
                assert_eq!(shell(folder, words, streams), usual, "{words} {streams}");
            }
            let piped = shell(folder, words, "2>&1 >/dev/null | true");
            assert!((0..=2).contains(&piped), "{words}: {piped}");
        }
    });
}

#[test]
fn standard_output_that_is_closed_or_full_is_exit_code_2() {
    in_project(|folder| {
        for words in COMMANDS {
            for streams in [">/dev/full", ">&-", ">/dev/full 2>&1", ">&- 2>&-"] {
                let code = shell(folder, words, streams);
                // Commands that complain before they have anything to show do so as ever.
                let usual = shell(folder, words, "");
                let shows = !run(folder, &words.split(' ').collect::<Vec<_>>()).out.is_empty();
                assert_eq!(code, if shows { 2 } else { usual }, "{words} {streams}");
            }
            // A reader that goes away is nothing to complain about.
            let piped = shell(folder, words, "2>/dev/null | true");
            assert_eq!(piped, 0, "{words}");
        }
    });
}

fn mode(path: &Path) -> u32 {
    fs::metadata(path).unwrap().permissions().mode() & 0o7777
}

#[test]
fn tidy_keeps_what_a_file_is() {
    let folder = tempfile::tempdir().unwrap();
    let at = |name: &str| folder.path().join(name);
    let untidy = "link l {revision 1 byte_order little}\n";
    let tidied = "link l {\n    revision    1\n    byte_order  little\n}\n";
    for bits in [0o600, 0o640, 0o666, 0o755] {
        fs::write(at("a.ember"), untidy).unwrap();
        fs::set_permissions(at("a.ember"), fs::Permissions::from_mode(bits)).unwrap();
        succeed(folder.path(), &["tidy", "a.ember"]);
        assert_eq!((fs::read_to_string(at("a.ember")).unwrap().as_str(), mode(&at("a.ember"))), (tidied, bits));
    }
    // Symbolic and hard links.
    fs::create_dir(at("inner")).unwrap();
    fs::write(at("inner/real.ember"), untidy).unwrap();
    symlink("inner/real.ember", at("link.ember")).unwrap();
    fs::hard_link(at("inner/real.ember"), at("other.ember")).unwrap();
    succeed(folder.path(), &["tidy", "link.ember"]);
    assert!(fs::symlink_metadata(at("link.ember")).unwrap().is_symlink());
    for name in ["inner/real.ember", "other.ember"] {
        assert_eq!(fs::read_to_string(at(name)).unwrap(), tidied, "{name}");
    }
    assert_eq!(fs::metadata(at("other.ember")).unwrap().nlink(), 2);
    // Read-only.
    fs::write(at("kept.ember"), untidy).unwrap();
    fs::set_permissions(at("kept.ember"), fs::Permissions::from_mode(0o444)).unwrap();
    let said = run(folder.path(), &["tidy", "kept.ember"]);
    assert_eq!((said.code, fs::read_to_string(at("kept.ember")).unwrap().as_str()), (2, untidy));
    assert!(said.err.contains("kept.ember is read-only, and is left alone"), "{}", said.err);
    no_leftovers(folder.path());
}

/// That no temporary file was left behind, at any depth.
fn no_leftovers(folder: &Path) {
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        assert!(!path.file_name().unwrap().to_string_lossy().starts_with(".emberwort-"), "{}", path.display());
        if path.is_dir() {
            no_leftovers(&path);
        }
    }
}

#[test]
fn generate_writes_all_or_nothing() {
    let folder = common::project();
    let made = |name: &str| folder.path().join("made").join(name);
    // One file that is not ours: none of the others is written.
    fs::create_dir(folder.path().join("made")).unwrap();
    fs::write(made("marlock_vectors.c"), "mine").unwrap();
    let said = run(folder.path(), &["generate", "c", "--out", "made"]);
    assert_eq!(said.code, 2, "{}", said.err);
    assert!(said.err.contains("was not generated by Emberwort"), "{}", said.err);
    assert_eq!(fs::read_dir(folder.path().join("made")).unwrap().count(), 1);
    // A link to nothing is left alone; one to a generated file stays a link.
    fs::remove_file(made("marlock_vectors.c")).unwrap();
    symlink("nowhere.c", made("marlock.c")).unwrap();
    let said = run(folder.path(), &["generate", "c", "--out", "made"]);
    assert_eq!(said.code, 2);
    assert!(said.err.contains("marlock.c is a link to a file that is not there"), "{}", said.err);
    assert_eq!(fs::read_dir(folder.path().join("made")).unwrap().count(), 1);
    fs::remove_file(made("marlock.c")).unwrap();
    succeed(folder.path(), &["generate", "c", "--out", "made"]);
    fs::rename(made("marlock.c"), folder.path().join("elsewhere.c")).unwrap();
    symlink("../elsewhere.c", made("marlock.c")).unwrap();
    let text = fs::read_to_string(folder.path().join("elsewhere.c")).unwrap();
    fs::write(folder.path().join("elsewhere.c"), text.replacen("static", "static  ", 1)).unwrap();
    succeed(folder.path(), &["generate", "c", "--out", "made"]);
    assert!(fs::symlink_metadata(made("marlock.c")).unwrap().is_symlink());
    assert_eq!(fs::read_to_string(folder.path().join("elsewhere.c")).unwrap(), text);
    // A pipe or a folder in the way.
    fs::remove_file(made("marlock.h")).unwrap();
    fs::create_dir(made("marlock.h")).unwrap();
    let said = run(folder.path(), &["generate", "c", "--out", "made"]);
    assert_eq!((said.code, said.err.contains("stands in the way")), (2, true), "{}", said.err);
    no_leftovers(folder.path());
}

#[test]
fn figures_replace_figures_and_nothing_else() {
    let folder = common::project();
    for name in ["a.svg", "a.png"] {
        let path = folder.path().join(name);
        succeed(folder.path(), &["layout", "GateStatus", "--out", name]);
        let first = fs::read(&path).unwrap();
        succeed(folder.path(), &["layout", "MoveGate", "--out", name]);
        assert_ne!(fs::read(&path).unwrap(), first);
        fs::write(&path, "mine").unwrap();
        let said = run(folder.path(), &["layout", "GateStatus", "--out", name]);
        assert_eq!((said.code, fs::read(&path).unwrap()), (2, b"mine".to_vec()), "{}", said.err);
    }
}

#[test]
fn a_demo_that_was_stopped_can_be_run_again() {
    let folder = tempfile::tempdir().unwrap();
    // Standard output that goes away stops it after its files are there.
    let mut child = emberwort(folder.path(), &["demo"]).stdout(Stdio::piped()).stderr(Stdio::null()).spawn().unwrap();
    drop(child.stdout.take());
    child.wait().unwrap();
    assert!(folder.path().join("marlock-demo/marlock.ember").exists());
    succeed(folder.path(), &["demo"]);
    succeed(folder.path(), &["demo"]);
    no_leftovers(folder.path());
    // With something of the user's in it, it is left alone.
    fs::write(folder.path().join("marlock-demo/marlock.ember"), "mine").unwrap();
    let said = run(folder.path(), &["demo"]);
    assert_eq!((said.code, said.err.contains("exists already")), (2, true), "{}", said.err);
}

/// What came out of a command whose standard input stays open, as soon as it is this many lines.
fn first_lines(words: &[&str], input: &[u8], lines: usize) -> Vec<String> {
    use std::io::{BufRead, BufReader, Write};
    let folder = project();
    let mut child = emberwort(folder.path(), words)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .expect("the program runs");
    let mut stdin = child.stdin.take().expect("a pipe");
    stdin.write_all(input).expect("it reads");
    let (send, received) = std::sync::mpsc::channel();
    let out = BufReader::new(child.stdout.take().expect("a pipe"));
    let reader = std::thread::spawn(move || {
        for line in out.lines().map_while(Result::ok) {
            let _ = send.send(line);
        }
    });
    // Long enough for a busy machine; what waits for more input would wait for ever.
    let wait = std::time::Duration::from_secs(30);
    let found: Vec<String> = (0..lines).map_while(|_| received.recv_timeout(wait).ok()).collect();
    drop(stdin);
    child.wait().expect("it ends");
    reader.join().expect("it ends");
    found
}

/// Somebody looks at a live capture: what has come is shown, whatever its form.
#[test]
fn rows_are_shown_while_the_input_stays_open() {
    let folder = project();
    let captures = marlock().join("../captures");
    let read = |name: &str| std::fs::read(captures.join(name)).expect("the capture is there");
    let keeper = ["--on", "bus485", "--from", "host"];
    let pcapng = read("clear-day.pcapng");
    // Whole blocks from the start, and a part of the next one, which says nothing yet.
    let mut end = 0;
    for _ in 0..12 {
        end += u32::from_le_bytes(pcapng[end + 4..end + 8].try_into().unwrap()) as usize;
    }
    let cases: [(&[u8], &[&str]); 3] =
        [(&read("keeper.bin"), &keeper), (&read("keeper.hex"), &keeper), (&pcapng[..end + 17], &[])];
    for (input, words) in cases {
        std::fs::write(folder.path().join("whole"), &input[..input.len().min(end)]).unwrap();
        let words = [&["decode", "--as", "ndjson"], words].concat();
        let all = succeed(folder.path(), &[words.as_slice(), &["whole"]].concat());
        let all: Vec<&str> = all.lines().collect();
        assert!(all.len() >= 3, "{all:?}");
        // What stands at the end of a stream may still go on.
        let sure = all.len() - 1;
        assert_eq!(first_lines(&[words.as_slice(), &["-"]].concat(), input, sure), all[..sure]);
    }
}

/// A recording that Python's gzip packed gives the same rows; one that is cut gives those before, and says so.
#[test]
fn rows_in_one_file_are_those_on_standard_output() {
    let folder = project_with_recording();
    let folder = folder.path();
    let printed = succeed(folder, &["decode", "stormy-night.pcapng", "--as", "csv"]);
    let words = ["decode", "stormy-night.pcapng", "--as", "csv", "--out", "rows.csv"];
    let said = run(folder, &words);
    assert_eq!((said.code, said.out.as_str()), (0, ""), "{}", said.err);
    assert!(said.err.contains("the rows are in rows.csv"), "{}", said.err);
    assert_eq!(fs::read_to_string(folder.join("rows.csv")).unwrap(), printed);
    // Nothing is overwritten, and a folder of that name is one of tables.
    let again = run(folder, &words);
    assert!(again.code == 2 && again.err.contains("rows.csv exists already"), "{}", again.err);
    fs::remove_file(folder.join("rows.csv")).unwrap();
    fs::create_dir(folder.join("rows.csv")).unwrap();
    assert_eq!(run(folder, &words).code, 0);
    assert!(folder.join("rows.csv/GateStatus.csv").is_file());
}

#[test]
fn a_packed_recording_is_read_as_it_is() {
    let folder = common::project_with_recording();
    let folder = folder.path();
    let script = "import gzip;b=open('stormy-night.pcapng','rb').read();open('night.pcapng.gz','wb').write(gzip.compress(b));\
                  open('cut.gz','wb').write(gzip.compress(b)[:20000])";
    let packed = std::process::Command::new("python3").current_dir(folder).args(["-c", script]).status().unwrap();
    assert!(packed.success());
    let plain = common::run(folder, &["decode", "stormy-night.pcapng", "--as", "ndjson"]);
    let whole = common::run(folder, &["decode", "night.pcapng.gz", "--as", "ndjson"]);
    assert_eq!((whole.code, &whole.out, &whole.err), (0, &plain.out, &plain.err));
    let bytes = std::fs::read(folder.join("night.pcapng.gz")).unwrap();
    assert_eq!(common::run_with_input(folder, &["decode", "-", "--as", "ndjson"], &bytes).out, plain.out);
    let cut = common::run(folder, &["decode", "cut.gz", "--as", "ndjson"]);
    assert_eq!(cut.code, 1, "{}", cut.err);
    assert!(cut.err.contains("the packed file ends too early"), "{}", cut.err);
    assert!(plain.out.starts_with(&cut.out) && cut.out.lines().count() > 100, "{} rows", cut.out.lines().count());
    // Raw bytes may begin with anything.
    let raw = common::run(folder, &["stats", "night.pcapng.gz", "--form", "raw", "--on", "bus485", "--as", "ndjson"]);
    assert!(raw.out.contains("\"good\":0"), "{raw:?}");
}
