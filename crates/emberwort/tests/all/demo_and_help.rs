//! The demo, the help, and everything that the two promise.

use crate::common::{self, Beside, Ran, emberwort, marlock, project_with_recording, run, stats, succeed};

#[test]
fn the_demo_runs_the_whole_job_and_leaves_a_project_that_works() {
    let folder = tempfile::tempdir().unwrap();
    // As a shell runs it in the background, where what it starts ignores Ctrl-C.
    let mut shell = std::process::Command::new("sh");
    shell.args(["-c", "trap '' INT QUIT; exec \"$0\" demo", env!("CARGO_BIN_EXE_emberwort")]);
    let ran: Ran = shell.current_dir(folder.path()).env_remove("EMBERWORT_LINK").output().unwrap().into();
    assert_eq!(ran.code, 0, "{}{}", ran.out, ran.err);
    let out = ran.out;
    let demo = folder.path().join("marlock-demo");
    for said in ["no findings", "0 differ", "why did the gate stop?", "reason=oil_hot", "at least 1500 GateStatus"] {
        assert!(out.contains(said), "the demo does not say {said}:\n{out}");
    }
    let without = out.contains("There is no C compiler") && std::env::var_os("EMBERWORT_NEED_TOOLCHAINS").is_none();
    assert!(out.contains("0 differences") || without, "{out}");
    // A gate in C moves for keepers in Python and JavaScript.
    for said in ["node 3 accepts 40.0 %", "node 3 is at 40.0 %", "node 3 accepts 10 %", "node 3 is at 10 %"] {
        assert!(out.contains(said) || std::env::var_os("EMBERWORT_NEED_TOOLCHAINS").is_none(), "{said}\n{out}");
    }
    assert!(!out.contains("FAILED") && !out.contains("BROKEN  "), "{out}");

    // The recording that it leaves gives the same totals again.
    let numbers = stats(&demo, &["stormy-night.pcapng"]);
    let line = format!("input   {}", numbers["bytes"]["input"]);
    assert!(out.contains(&line), "{line}\n{out}");
    let decoded = run(&demo, &["decode", "stormy-night.pcapng", "--as", "ndjson"]);
    let good = decoded.out.lines().filter(|row| row.contains("\"message\"")).count();
    assert_eq!(numbers["frames"]["good"], good);

    // The files are those of the repository.
    for name in common::PROJECT_FILES.iter().chain(&["README.md"]) {
        let ours = std::fs::read(marlock().join(name)).unwrap();
        assert!(std::fs::read(demo.join(name)).unwrap() == ours, "{name} is not the file of examples/marlock");
    }

    // Nothing of the user's is overwritten.
    std::fs::write(demo.join("README.md"), "mine").unwrap();
    let again = run(folder.path(), &["demo"]);
    assert_eq!(again.code, 2);
    assert!(
        again.err.contains("marlock-demo exists already") && again.err.contains("emberwort demo marlock-demo-2"),
        "{}",
        again.err
    );
}

#[test]
fn the_demo_says_that_there_is_no_compiler() {
    let folder = tempfile::tempdir().unwrap();
    let output = emberwort(folder.path(), &["demo", "here"]).env("PATH", folder.path()).output().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    assert!(
        String::from_utf8_lossy(&output.stdout).contains("There is no C compiler on this machine (cc, gcc, clang)")
    );
}

/// The examples at the end of a help text.
fn examples(help: &str) -> Vec<String> {
    let Some((_, examples)) = help.split_once("Examples:\n") else { return Vec::new() };
    examples.lines().map(str::trim).filter(|line| line.starts_with("emberwort ")).map(str::to_owned).collect()
}

/// The words of a command line with single quotes.
fn words(line: &str) -> Vec<String> {
    let mut words = Vec::new();
    for (n, part) in line.split('\'').enumerate() {
        if n % 2 == 1 {
            words.push(part.to_owned());
        } else {
            words.extend(part.split_whitespace().map(str::to_owned));
        }
    }
    words
}

fn commands() -> Vec<String> {
    commands_in(&succeed(&marlock(), &["--help"]))
}

/// The commands that a help text lists.
fn commands_in(help: &str) -> Vec<String> {
    let Some((_, list)) = help.split_once("Commands:\n") else { return Vec::new() };
    list.lines()
        .take_while(|line| line.starts_with("  "))
        .filter(|line| line.chars().nth(2).is_some_and(|c| c != ' '))
        .filter_map(|line| line.split_whitespace().next())
        .filter(|name| *name != "help")
        .map(str::to_owned)
        .collect()
}

#[test]
fn every_command_has_two_examples_that_work_in_the_demo_project() {
    let commands = commands();
    assert_eq!(
        commands,
        [
            "new",
            "check",
            "tidy",
            "layout",
            "budget",
            "value",
            "seal",
            "compare",
            "import",
            "encode",
            "decode",
            "stats",
            "find",
            "survey",
            "plot",
            "amend",
            "checksum",
            "generate",
            "trial",
            "ports",
            "listen",
            "send",
            "record",
            "watch",
            "device",
            "host",
            "demo",
            "completions",
            "man"
        ]
    );
    let mut all = examples(&succeed(&marlock(), &["--help"]));
    let mut jobs: Vec<String> = commands;
    while let Some(command) = jobs.pop() {
        let words: Vec<&str> = command.split(' ').chain(["--help"]).collect();
        let output = emberwort(&marlock(), &words).env("COLUMNS", "300").output().unwrap();
        let help = String::from_utf8(output.stdout).unwrap();
        // A command may have several jobs, each with a help of its own.
        jobs.extend(commands_in(&help).into_iter().map(|job| format!("{command} {job}")));
        let found = examples(&help);
        assert_eq!(found.len(), 2, "{command} has {} examples:\n{help}", found.len());
        assert!(found.iter().all(|example| example.starts_with(&format!("emberwort {command}"))), "{found:?}");
        all.extend(found);
    }
    for example in all {
        let ran = ran_example(&example, &[]);
        // A machine may have no serial port.
        let is_silent = ["--out", "--deny", "--check", "ports"].iter().any(|word| example.contains(word));
        assert!(!ran.out.is_empty() || is_silent, "{example} prints nothing");
    }
}

#[test]
fn every_form_that_a_help_offers_is_taken() {
    let mut seen = 0;
    for command in commands() {
        let help = succeed(&marlock(), &[&command, "--help"]);
        let Some((_, offered)) = help.split_once("--as <FORM>") else { continue };
        let forms = offered.lines().skip(1).take_while(|line| !line.trim_start().starts_with("--"));
        let forms: Vec<&str> = forms.filter_map(|line| line.trim().strip_prefix("- ")?.split(':').next()).collect();
        let example = &examples(&help)[0];
        // Bytes are no text to look at; tests of their own compare them.
        for form in forms.into_iter().filter(|form| *form != "bytes") {
            // Tables for engines go to a folder, and a page to a file.
            let out: &[&str] = match (command.as_str(), form) {
                (_, "parquet") => &["--out", "tables"],
                ("plot", _) => &["--out", "night.svg"],
                _ => &[],
            };
            ran_example(example, &[&["--as", form], out].concat());
            seen += 1;
        }
    }
    assert!(seen > 40, "{seen}");
}

/// What has fewer forms than rows have refuses the others, in place of showing one that nobody asked for.
#[test]
fn a_form_that_something_does_not_have_is_refused() {
    let folder = project_with_recording();
    let forms = ["table", "tree", "ndjson", "csv", "hex", "bytes"];
    for (asked, has) in [
        (&["--exchanges"][..], &["table", "ndjson"][..]),
        (&["--changes"], &["table", "ndjson", "csv"]),
        (&["--explain", "5"], &["table"]),
    ] {
        for form in forms {
            let ran = run(folder.path(), &[&["decode", "stormy-night.pcapng", "--as", form], asked].concat());
            let expected = if has.contains(&form) { 0 } else { 2 };
            assert_eq!((ran.code, ran.out.is_empty()), (expected, expected == 2), "{asked:?} {form}: {}", ran.err);
        }
    }
}

/// Runs an example with more words, in a project that has a recording and with simulated ends at the ports; it must succeed.
fn ran_example(example: &str, more: &[&str]) -> Ran {
    let folder = project_with_recording();
    let mut bench = Bench { folder: folder.path(), running: Vec::new() };
    let words: Vec<String> = words(example).into_iter().skip(1).collect();
    let is_live = ["listen", "send", "record", "device", "host"].contains(&words[0].as_str());
    let mut words: Vec<String> = words.into_iter().map(|word| bench.instead_of(word)).collect();
    if is_live && words[0] != "send" && !words.contains(&"--for".to_owned()) {
        words.extend(["--for".to_owned(), "1200ms".to_owned()]);
    }
    if words[0] == "watch" && !words.contains(&"--frames".to_owned()) {
        words.extend(["--frames".to_owned(), "20".to_owned()]);
    }
    let words: Vec<&str> = words.iter().map(String::as_str).chain(more.iter().copied()).collect();
    let ran = if words.starts_with(&["device"]) && words.contains(&"pty") {
        // It waits for somebody to talk to.
        let mut device = Beside::run(folder.path(), &words);
        let port = device.says("the port is ");
        succeed(folder.path(), &["listen", &port, "--on", "bus485", "--count", "3"]);
        device.end()
    } else {
        // A busy machine may answer later than the definition wants.
        let tries = if is_live { 5 } else { 1 };
        let mut all = (0..tries).map(|_| run(folder.path(), &words));
        all.find(|ran| ran.code == 0).unwrap_or_else(|| run(folder.path(), &words))
    };
    assert_eq!(ran.code, 0, "{example} {more:?}\n{}{}", ran.out, ran.err);
    ran
}

/// What the examples name, and no test machine has: simulated devices stand in for it.
struct Bench<'a> {
    folder: &'a std::path::Path,
    running: Vec<Beside>,
}

impl Bench<'_> {
    fn start(&mut self, words: &[&str], says: &str) -> String {
        self.running.push(Beside::run(self.folder, words));
        self.running.last_mut().unwrap().says(says)
    }

    /// What a test takes in place of a word of an example.
    fn instead_of(&mut self, word: String) -> String {
        match word.as_str() {
            "/dev/ttyUSB0" => self.start(&["device", "trials/stormy-night.toml", "--port", "pty"], "the port is "),
            "tcp://bridge:4001" => {
                let port = common::free_port();
                let port = format!("tcp://:{port}");
                let at = self
                    .start(&["device", "trials/stormy-night.toml", "--port", &port], "waiting for a connection at ");
                at.replace("://:", "://127.0.0.1:")
            }
            "udp://127.0.0.1:4850" => {
                let port = common::free_port();
                let device = ["device", "trials/clear-day.toml", "--port", &format!("udp://:{port}")];
                self.running.push(Beside::run(self.folder, &device));
                format!("udp://127.0.0.1:{port}")
            }
            "udp://:4850" => {
                let port = common::free_port();
                let host = ["host", "trials/clear-day.toml", "--port", &format!("udp://127.0.0.1:{port}")];
                self.running.push(Beside::run(self.folder, &host));
                format!("udp://:{port}")
            }
            "10s" => "1200ms".to_owned(),
            _ => word,
        }
    }
}

/// What the shell is offered for the last of these words.
fn completed(folder: &std::path::Path, shell: &str, words: &[&str]) -> Vec<String> {
    let mut command = emberwort(folder, &["--", "emberwort"]);
    command.args(words).env("EMBERWORT_COMPLETES", shell).env("_CLAP_COMPLETE_INDEX", words.len().to_string());
    command.env("_CLAP_IFS", "\n");
    let ran: common::Ran = command.output().unwrap().into();
    assert_eq!((ran.code, ran.err.as_str()), (0, ""), "{shell} {words:?}");
    // Some shells take a few words behind a tab or a colon.
    ran.out.lines().map(|line| line.split(['\t', ':']).next().unwrap_or_default().to_owned()).collect()
}

#[test]
fn the_shell_is_offered_the_names_of_the_project() {
    let folder = common::project();
    let folder = folder.path();
    let offered = |words: &[&str]| completed(folder, "bash", words);
    let channels = ["bus485", "house", "power", "tunnel", "probe", "gauges", "console"];
    for words in
        [&["decode", "--on", ""][..], &["encode", "MoveGate", "--on", ""], &["checksum", "strength", "--on", ""]]
    {
        assert_eq!(offered(words), channels, "{words:?}");
    }
    assert!(offered(&["budget", "ga"]).contains(&"gauges".to_owned()));
    for words in [&["decode", "--message", "Mo"][..], &["encode", "Mo"], &["layout", "Mo"]] {
        assert_eq!(offered(words), ["MoveGate", "MoveAccepted", "MoveValve"], "{words:?}");
    }
    assert_eq!(offered(&["checksum", "crc-16/ibm"]), ["crc-16/ibm-3740", "crc-16/ibm-sdlc"]);
    assert_eq!(offered(&["compare", "r"]), ["r1", "r2", "r3"]);
    assert_eq!(offered(&["check", "ma"]), ["marlock.ember"]);
    assert_eq!(offered(&["trial", "trials/"]).len(), std::fs::read_dir(folder.join("trials")).unwrap().count());
    // Nothing is offered, and nothing said, where the definition has errors.
    std::fs::write(folder.join("marlock.ember"), "link {").unwrap();
    assert!(offered(&["decode", "--on", ""]).is_empty());
}

#[test]
fn completions_and_manual_pages_know_every_command() {
    let folder = tempfile::tempdir().unwrap();
    for shell in ["bash", "zsh", "fish", "elvish", "powershell"] {
        let script = succeed(folder.path(), &["completions", shell]);
        assert!(script.contains("EMBERWORT_COMPLETES"), "{shell}:\n{script}");
        let offered = completed(folder.path(), shell, &[""]);
        for command in commands() {
            assert!(offered.contains(&command), "{shell} does not know {command}");
        }
    }
    assert!(succeed(folder.path(), &["man"]).starts_with(".ie"));
    succeed(folder.path(), &["man", "--out", "pages"]);
    for command in commands() {
        let page = std::fs::read_to_string(folder.path().join(format!("pages/emberwort-{command}.1"))).unwrap();
        assert!(page.contains("Examples:"), "{command}");
    }
    // A second time the pages are replaced, for they are ours.
    succeed(folder.path(), &["man", "--out", "pages"]);
}

#[test]
fn generated_files_replace_only_our_own() {
    let folder = common::project();
    let first = succeed(folder.path(), &["generate"]);
    assert_eq!(first.lines().count(), 5, "{first}");
    let header = std::fs::read(folder.path().join("gen/c/marlock.h")).unwrap();
    succeed(folder.path(), &["generate", "c"]);
    assert_eq!(std::fs::read(folder.path().join("gen/c/marlock.h")).unwrap(), header, "the same again");
    std::fs::write(folder.path().join("gen/c/marlock.h"), "#define MINE 1\n").unwrap();
    let refused = run(folder.path(), &["generate"]);
    assert_eq!(refused.code, 2);
    assert!(refused.err.contains("was not generated by Emberwort"), "{}", refused.err);
    assert_eq!(std::fs::read(folder.path().join("gen/c/marlock.h")).unwrap(), b"#define MINE 1\n");
    // Vectors alone, elsewhere, without a project file.
    std::fs::remove_file(folder.path().join("emberwort.toml")).unwrap();
    succeed(folder.path(), &["generate", "vectors", "--out", "v"]);
    let vectors = std::fs::read_to_string(folder.path().join("v/vectors.ndjson")).unwrap();
    assert!(vectors.starts_with("{\"about\":\"Generated by emberwort"));
    assert!(!folder.path().join("v/marlock.h").exists());
}

#[test]
fn the_vectors_are_what_encode_makes() {
    let folder = common::project();
    succeed(folder.path(), &["generate"]);
    let vectors = std::fs::read_to_string(folder.path().join("gen/vectors.ndjson")).unwrap();
    let mut rows = String::new();
    let mut frames = Vec::new();
    let mut messages = std::collections::BTreeSet::new();
    for line in vectors.lines().skip(1) {
        let vector: serde_json::Value = serde_json::from_str(line).unwrap();
        messages.insert(vector["message"].as_str().unwrap().to_owned());
        for frame in vector["frames"].as_array().unwrap().iter().filter(|frame| frame["channel"] == "bus485") {
            let row = serde_json::json!({
                "message": vector["message"], "fields": vector["fields"], "node": frame["node"],
                "sequence": frame["sequence"], "revision": vector["revision"],
            });
            // A sender of revision 1 is told by its row; the newest one sends all sections.
            rows += &format!("{row}\n");
            frames.push((frame["bytes"].as_str().unwrap().to_owned(), vector["case"].as_str().unwrap().to_owned()));
        }
    }
    assert_eq!(messages.len(), 22, "every message of the link has vectors");
    let ran = common::run_with_input(folder.path(), &["encode", "--values", "-", "--on", "bus485"], rows.as_bytes());
    assert_eq!(ran.code, 0, "{}", ran.err);
    for (line, (frame, case)) in ran.out.lines().zip(&frames) {
        assert_eq!(line, frame, "{case}");
    }
    assert_eq!(ran.out.lines().count(), frames.len());
}
