//! What a trial records, `decode` reads back: every message, on every channel of the examples, in both directions.

use std::fmt::Write as _;
use std::path::{Path, PathBuf};

use emberwort_model::ids::MessageId;
use emberwort_model::model::End;
use emberwort_model::plan::Channel;
use emberwort_model::{Plan, Source, check};
use serde_json::Value as Json;
use sha2::{Digest, Sha256};

use crate::common::{project, project_with_recording, run, stats, succeed};

#[path = "../../../../examples/plan_of_marlock.rs"]
mod plan_of_marlock;

/// The node of a trial's device for a message whose key says it, else the one for all of them.
fn node_of(plan: &Plan, channel: &Channel, message: MessageId) -> u64 {
    let direction = channel.direction(plan.link.messages[message].from);
    direction.nodes_of(message).map_or(3, |nodes| *nodes.start())
}

/// A trial in which each message of a channel is sent once, with the names of those in order.
fn trial(plan: &Plan, channel: &Channel) -> (String, Vec<String>) {
    let all: Vec<usize> =
        (0..plan.messages.len()).filter(|message| channel.carries(MessageId::new(*message))).collect();
    let node = all.iter().map(|message| node_of(plan, channel, MessageId::new(*message))).max().unwrap_or(3);
    let mut text = format!("channel = \"{}\"\nspan = \"100 s\"\n", channel.name);
    let mut device = format!("[[device]]\nnode = {node}\nfirst_report = \"99999 s\"\nsends = [\n");
    let mut names = Vec::new();
    for (n, message) in all.iter().enumerate() {
        let message = &plan.link.messages[*message];
        let (at, name) = (n as u64 * 4 + 1, &message.name);
        match message.from {
            End::Device => device += &format!("  {{ at = \"{at} s\", message = \"{name}\" }},\n"),
            End::Host => {
                text += &format!("[[request]]\nat = \"{at} s\"\nnode = {node}\nmessage = \"{name}\"\n");
            }
        }
        names.push(format!("{} {name}", message.from.as_str()));
    }
    (text + &device + "]\n", names)
}

fn read_back(folder: &Path, link: &Path, plan: &Plan) {
    for channel in &plan.channels {
        let (text, names) = trial(plan, channel);
        std::fs::write(folder.join("each.toml"), text).unwrap();
        let name = format!("{}.pcapng", channel.name);
        let link = link.to_str().unwrap();
        let ran = run(folder, &["trial", "each.toml", "--link", link, "--record", &name, "--as", "ndjson"]);
        assert_eq!(ran.code, 0, "{link} {}: {}", channel.name, ran.err);
        let report: Json = serde_json::from_str(&ran.out).unwrap();
        let heard = |kind: &str| -> u64 {
            ["host", "device"].iter().map(|end| report[end]["bytes"][kind].as_u64().unwrap()).sum()
        };
        assert_eq!((heard("input"), report["wrong"].as_u64()), (heard("good"), Some(0)), "{report}");
        let read = stats(folder, &["--link", link, &name]);
        assert_eq!(
            (&read["bytes"]["good"], &read["bytes"]["input"]),
            (&Json::from(heard("good")), &Json::from(heard("good")))
        );
        let rows = succeed(folder, &["decode", "--link", link, "--as", "ndjson", &name]);
        let rows: Vec<Json> = rows.lines().map(|row| serde_json::from_str(row).unwrap()).collect();
        for expected in &names {
            let (from, message) = expected.split_once(' ').unwrap();
            let found = rows
                .iter()
                .any(|row| row["direction"] == from && row["message"] == message && row["channel"] == *channel.name);
            assert!(found, "{link} {}: {expected} is not among {rows:?}", channel.name);
        }
    }
}

#[test]
fn every_message_of_every_channel_of_marlock() {
    let folder = project();
    read_back(folder.path(), Path::new("marlock.ember"), &plan_of_marlock::checked().plan.unwrap());
}

#[test]
fn every_message_of_every_channel_of_the_other_examples() {
    let folder = tempfile::tempdir().unwrap();
    let examples = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../examples");
    let mut links: Vec<PathBuf> = ["framings", "standards"]
        .iter()
        .flat_map(|name| std::fs::read_dir(examples.join(name)).unwrap())
        .map(|entry| entry.unwrap().path())
        .filter(|path| path.extension().is_some_and(|extension| extension == "ember"))
        .collect();
    links.sort();
    assert!(links.len() >= 7, "{links:?}");
    for link in links {
        let text = std::fs::read_to_string(&link).unwrap();
        let plan = check(&Source::new("example.ember", text)).plan.unwrap();
        read_back(folder.path(), &link, &plan);
        for entry in std::fs::read_dir(folder.path()).unwrap() {
            std::fs::remove_file(entry.unwrap().path()).unwrap();
        }
    }
}

/// However many cores write it, the output is equal to the byte: heads and dates of tables, revisions that come in the middle, damage.
#[test]
fn any_number_of_cores_writes_the_same() {
    let folder = project_with_recording();
    let folder = folder.path();
    let night = std::fs::read_to_string(folder.join("trials/stormy-night.toml")).unwrap();
    // Over midnight, on the channel whose frames say their revision, of which one is read with a sealed definition.
    let house = night.replace("\"bus485\"", "\"house\"").replace("02:10:00Z", "23:59:01Z");
    std::fs::write(folder.join("house.toml"), house).unwrap();
    let _ = run(folder, &["trial", "house.toml", "--record", "house.pcapng"]);
    let text = std::fs::read_to_string(folder.join("marlock.ember")).unwrap();
    let changed = text.replace(
        "oil        : 0 .. 250 bar in 12 bits\n    pump_temp",
        "oil        : 0 .. 400 bar in 12 bits\n    pump_temp",
    );
    assert_ne!(changed, text);
    std::fs::write(folder.join("changed.ember"), changed.replace("revision    4", "revision    5")).unwrap();
    for input in [&["stormy-night.pcapng"][..], &["house.pcapng"], &["--link", "changed.ember", "house.pcapng"]] {
        for form in ["table", "tree", "ndjson", "csv"] {
            let written =
                |threads: &str| run(folder, &[&["decode", "--as", form, "--threads", threads], input].concat());
            let one = written("1");
            assert!(one.out.lines().count() > 1500, "{input:?} {form}: {}", one.err);
            for threads in ["2", "7"] {
                let several = written(threads);
                assert!(several.out == one.out, "{input:?} {form}: {threads} threads write something else than one");
                assert_eq!((several.code, several.err), (one.code, one.err.clone()));
            }
        }
    }
    let ran = run(folder, &["decode", "--threads", "0", "house.pcapng"]);
    assert!(ran.code == 2 && ran.err.contains("0 is not in 1..=256"), "{}", ran.err);
}

/// All recordings of the examples, with the words that say how to read each.
fn recordings() -> Vec<(PathBuf, Vec<String>)> {
    let examples = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../examples");
    let mut found = Vec::new();
    for folder in ["captures", "framings", "standards"] {
        for entry in std::fs::read_dir(examples.join(folder)).unwrap() {
            let path = entry.unwrap().path();
            let end = path.extension().and_then(|end| end.to_str()).unwrap_or_default();
            if !["pcapng", "bin", "hex"].contains(&end) {
                continue;
            }
            let link = match folder {
                "captures" => examples.join("marlock/marlock.ember"),
                _ => path.with_extension("ember"),
            };
            let mut words = vec!["--link".to_owned(), link.display().to_string()];
            if end != "pcapng" {
                words.extend(["--on", "bus485", "--from", "host"].map(str::to_owned));
            }
            found.push((path, words));
        }
    }
    found.sort();
    found
}

/// What comes out of the recordings of the examples, in each form. A change here is a change of what people read from their
/// captures: it has to be meant.
#[test]
fn rows_of_all_recordings_stay_as_they_were() {
    let folder = tempfile::tempdir().unwrap();
    let mut lines = String::new();
    for (path, words) in recordings() {
        let path = path.to_str().unwrap();
        let name = path.rsplit('/').next().unwrap();
        for form in ["table", "tree", "ndjson", "csv", "stats"] {
            let command: &[&str] = match form {
                "stats" => &["stats", "--as", "ndjson", path],
                form => &["decode", "--as", form, path],
            };
            let words: Vec<&str> = command.iter().copied().chain(words.iter().map(String::as_str)).collect();
            let out = succeed(folder.path(), &words);
            let digest = Sha256::digest(out.as_bytes());
            let digest: String = digest.iter().take(8).map(|byte| format!("{byte:02x}")).collect();
            writeln!(lines, "{name:<24} {form:<6} {:>6} lines {:>8} bytes {digest}", out.lines().count(), out.len())
                .unwrap();
        }
    }
    insta::assert_snapshot!(lines);
}
