//! `decode`, `stats` and `trial` where devices in the field do not have the definition's revision.

use std::collections::BTreeMap;
use std::path::Path;

use serde_json::Value as Json;

use crate::common::{self, project, project_with_recording, run, succeed};

/// The demo's project after a change that revision 2 and 3 cannot be read with: the range of the oil pressure.
fn changed() -> tempfile::TempDir {
    let folder = project();
    let path = folder.path().join("marlock.ember");
    let text = std::fs::read_to_string(&path).unwrap();
    let text = text.replacen("revision    4", "revision    5", 1);
    let text = text.replacen("oil        : 0 .. 250 bar in 12 bits", "oil        : 0 .. 400 bar in 12 bits", 1);
    std::fs::write(&path, text).unwrap();
    folder
}

/// A frame of a device of revision 2, and one of the definition, as hex text.
fn frames(folder: &Path, channel: &str) -> String {
    let values = ["state=open", "opening=50", "upstream=2", "oil=120", "pump_temp=30", "faults=", "battery=11.5"];
    let old = [&["encode", "--link", "sealed/marlock-r2.ember", "GateStatus"], &values[..]].concat();
    let new = [&["encode", "GateStatus"], &values[..], &["latch_force=1", "moving=true"]].concat();
    let of_node = |words: &[&str], node| succeed(folder, &[words, &["--on", channel, "--node", node]].concat());
    of_node(&old, "3") + &of_node(&new, "1")
}

fn rows(folder: &Path, words: &[&str]) -> Vec<Json> {
    let said = run(folder, &[&["decode", "--as", "ndjson"], words].concat());
    assert_eq!(said.code, 0, "{}{}", said.out, said.err);
    said.out.lines().map(|line| serde_json::from_str(line).unwrap()).collect()
}

fn oil(row: &Json) -> f64 {
    row["fields"]["oil"].as_f64().unwrap()
}

#[test]
fn a_device_that_is_said_to_be_older_is_read_as_what_it_is() {
    let folder = changed();
    let folder = folder.path();
    std::fs::write(folder.join("bus.hex"), frames(folder, "bus485")).unwrap();
    // Frames of the bus do not say the sender's revision: 120 bar of 250 in 4095 steps are taken for steps of 400.
    let taken = rows(folder, &["--on", "bus485", "bus.hex"]);
    assert_eq!((oil(&taken[0]), oil(&taken[1])), (192.04, 120.05));
    std::fs::write(folder.join("fleet.csv"), "device,node,revision\nwest gate,1,5\neast gate,3,2\n").unwrap();
    std::fs::write(folder.join("nodes.csv"), "device,revision\n3,2\n").unwrap();
    for words in [
        ["--device", "3=r2"],
        ["--device", "3=sealed/marlock-r2.ember"],
        ["--fleet", "fleet.csv"],
        ["--fleet", "nodes.csv"],
    ] {
        let read = rows(folder, &[&["--on", "bus485", "bus.hex"], &words[..]].concat());
        assert_eq!((oil(&read[0]), oil(&read[1])), (120.02, 120.05), "{words:?}");
        assert_eq!(read[0]["read_as_revision"], 2);
        assert_eq!(read[0]["lacks"], serde_json::json!(["latch_force", "moving"]));
        assert!(read[1].get("read_as_revision").is_none() && read[1].get("lacks").is_none(), "{}", read[1]);
    }
    let shown = succeed(folder, &["decode", "--on", "bus485", "bus.hex", "--device", "3=r2"]);
    assert!(shown.contains("oil=120.02 bar"), "{shown}");
    assert!(shown.contains("(read as revision 2, which has no latch_force, moving)\n"), "{shown}");
    let shown = succeed(folder, &["decode", "--on", "bus485", "bus.hex", "--device", "3=r2", "--as", "csv"]);
    assert!(shown.contains(",bus485,device,3,GateStatus,oil,120.02,bar,1966,2,"), "{shown}");
    assert!(shown.contains(",bus485,device,1,GateStatus,oil,120.05,bar,1229,5,"), "{shown}");
    let counted = succeed(folder, &["stats", "--on", "bus485", "bus.hex", "--device", "3=r2"]);
    assert!(counted.contains("1 frame of revision 2, read as such"), "{counted}");
    // All devices, and the one that is named otherwise.
    let read = rows(folder, &["--on", "bus485", "bus.hex", "--device", "r1", "--device", "3=r2"]);
    assert_eq!((&read[0]["read_as_revision"], &read[1]["read_as_revision"]), (&2.into(), &1.into()));
}

#[test]
fn frames_that_say_their_revision_need_no_help() {
    let folder = changed();
    let folder = folder.path();
    std::fs::write(folder.join("house.hex"), frames(folder, "house")).unwrap();
    let read = rows(folder, &["--on", "house", "house.hex"]);
    assert_eq!((oil(&read[0]), oil(&read[1])), (120.02, 120.05));
    assert_eq!((&read[0]["revision"], &read[0]["read_as_revision"]), (&2.into(), &2.into()));
    // What was said counts, and the contradiction is told.
    let said = run(folder, &["decode", "--on", "house", "house.hex", "--device", "3=r3"]);
    assert!(
        said.err.contains("finding: 1 frame of node 3 read as revision 3, though the frames themselves say revision 2"),
        "{}",
        said.err
    );
    assert!(said.out.contains("(read as revision 3; sender of a revision before 3)"), "{}", said.out);
    // A revision that the definition reads as it was meant is read with it: with its names and its defaults.
    let project = project();
    let read = rows(project.path(), &["--on", "house", &folder.join("house.hex").display().to_string()]);
    assert!(read[0].get("read_as_revision").is_none());
    assert_eq!(read[0]["lacks"], serde_json::json!(["latch_force", "moving"]));
    assert_eq!((&read[0]["revision"], &read[0]["fields"]["moving"]), (&2.into(), &false.into()));
}

#[test]
fn rows_of_another_revision_are_encoded_with_it_alone() {
    let folder = changed();
    let folder = folder.path();
    let frames = frames(folder, "bus485");
    std::fs::write(folder.join("bus.hex"), &frames).unwrap();
    let read = succeed(folder, &["decode", "--on", "bus485", "bus.hex", "--device", "3=r2", "--as", "ndjson"]);
    let (old, new) = read.split_once('\n').unwrap();
    std::fs::write(folder.join("old.ndjson"), old).unwrap();
    std::fs::write(folder.join("new.ndjson"), new).unwrap();
    let words = |file| ["encode", "--on", "bus485", "--values", file];
    let refused = run(folder, &words("old.ndjson"));
    assert_eq!(refused.code, 2);
    assert!(refused.err.contains("--link sealed/marlock-r2.ember"), "{}", refused.err);
    // Nor are values that are given, where a sender of that revision sends them otherwise.
    let values =
        ["state=open", "opening=50", "upstream=2", "oil=120", "pump_temp=30", "faults=", "--sender-revision", "2"];
    let given = |folder: &Path| run(folder, &[&["encode", "GateStatus"], &values[..]].concat());
    let refused = given(folder);
    assert_eq!(refused.code, 2, "{}", refused.out);
    assert!(refused.err.contains("a sender of revision 2 sends GateStatus differently"), "{}", refused.err);
    assert_eq!(given(&common::marlock()).code, 0);
    succeed(folder, &["encode", "RunPump", "running=true", "speed=0", "--sender-revision", "2"]);
    let with = succeed(folder, &[&words("old.ndjson")[..], &["--link", "sealed/marlock-r2.ember"]].concat());
    assert_eq!(with + &succeed(folder, &words("new.ndjson")), frames);
}

#[test]
fn mistakes_in_saying_who_has_what_are_told() {
    let folder = changed();
    let folder = folder.path();
    std::fs::write(folder.join("bus.hex"), "C6").unwrap();
    let problem = |words: &[&str]| {
        let said = run(folder, &[&["decode", "--on", "bus485", "bus.hex"], words].concat());
        assert_eq!(said.code, 2, "{}", said.err);
        said.err
    };
    assert!(problem(&["--device", "three=r2"]).contains("write a node and its revision, as in --device 3=r2"));
    assert!(problem(&["--device", "3="]).contains("write which revision that device has"));
    assert!(problem(&["--device", "3=r9"]).contains("no sealed revision 9"));
    assert!(problem(&["--device", "3=r9"]).contains("it has r1, r2, r3"));
    let fleet = |text: &str| {
        std::fs::write(folder.join("fleet.csv"), text).unwrap();
        run(folder, &["decode", "--on", "bus485", "bus.hex", "--fleet", "fleet.csv"]).err
    };
    assert!(fleet("device,node,revision\na,3,9\n").contains("node 3 with revision 9, which is not sealed"));
    assert!(fleet("device,node,revision\na,3,2\nb,3,1\n").contains("line 3: the node 3 stands there twice"));
    assert!(fleet("device,revision\neast gate,2\n").contains("1 of 1 devices have another definition and no node"));
    assert!(fleet("node\n3\n").contains("device,node,revision,update\neast gate,3,2,no"));
    // A sealed revision that was edited is no ground to read by; what is read without it is not all well.
    let path = folder.join("sealed/marlock-r2.ember");
    let old = std::fs::read_to_string(&path).unwrap();
    std::fs::write(&path, format!("{old}# Edited.\n")).unwrap();
    for words in [["decode", "--on", "house", "--hex", "21"].as_slice(), &["trial", "trials/clear-day.toml"]] {
        let said = run(folder, words);
        assert_eq!(said.code, 1, "{}", said.err);
        assert!(said.err.contains("marlock-r2.ember was edited after it was sealed"), "{}", said.err);
        assert!(said.err.contains("restore these files from version control"), "{}", said.err);
    }
    std::fs::write(&path, old).unwrap();
    // Another framing cannot be told from damage on the same line.
    let old = std::fs::read_to_string(folder.join("sealed/marlock-r2.ember")).unwrap();
    std::fs::write(folder.join("other.ember"), old.replacen("C6 39", "C6 3A", 1)).unwrap();
    let said = run(folder, &["decode", "--on", "bus485", "bus.hex", "--device", "3=other.ember"]);
    assert!(said.err.contains("frames `bus485` in another way"), "{}", said.err);
}

#[test]
fn a_trial_runs_old_devices_against_a_new_host_and_the_reverse() {
    let folder = changed();
    let folder = folder.path();
    // The sluice controller of the stormy night has revision 2.
    let said = run(folder, &["trial", "trials/stormy-night.toml", "--record", "night.pcapng"]);
    assert_eq!(said.code, 1, "{}", said.out);
    assert!(said.out.contains("the host has revision 5, node 1 has 5, node 3 has 5, node 4 has 2\n"), "{}", said.out);
    assert!(said.out.contains("misread  oil 18.01 bar would be read as 28.82 bar\n"), "{}", said.out);
    let table = "different revisions, besides those that are fine:\nMESSAGE     FROM    NODE  FRAMES  VERDICT  WHAT BECOMES OF IT\n";
    assert!(said.out.contains(table), "{}", said.out);
    assert!(said.out.contains("FAILED  no good frame with a wrong value"), "{}", said.out);
    // In the recording `decode` reads that device as what it is.
    let read = rows(folder, &["night.pcapng", "--device", "4=r2", "--node", "4"]);
    assert!(read.len() > 500 && read.iter().all(|row| oil(row) == 18.01));
    // With a host that has the older revision, those that have the new one are misread.
    let said =
        run(folder, &["trial", "trials/stormy-night.toml", "--host", "r2", "--device", "1=r3", "--as", "ndjson"]);
    let report: Json = serde_json::from_str(&said.out).unwrap();
    assert_eq!(report["revisions"], serde_json::json!({"host": 2, "devices": {"1": 3, "3": 5, "4": 2}}));
    let between: Vec<(u64, &str)> = report["between_revisions"]
        .as_array()
        .unwrap()
        .iter()
        .map(|found| (found["node"].as_u64().unwrap(), found["verdict"].as_str().unwrap()))
        .collect();
    assert_eq!(between, [(1, "fine with loss"), (3, "misread")]);
    // Where all have the same, nothing stands between them.
    let said = run(folder, &["trial", "trials/stormy-night.toml", "--host", "r2", "--device", "r2"]);
    assert_eq!(said.code, 0, "{}{}", said.out, said.err);
    assert!(!said.out.contains("different revisions"), "{}", said.out);
    // A fleet has devices that are in no trial; a device that is named must be there.
    std::fs::write(folder.join("fleet.csv"), "device,node,revision\nwest,1,2\nfar,77,1\n").unwrap();
    let said = run(folder, &["trial", "trials/stormy-night.toml", "--fleet", "fleet.csv"]);
    assert!(said.out.contains("node 1 has 2, node 3 has 5, node 4 has 2"), "{}{}", said.out, said.err);
    let said = run(folder, &["trial", "trials/stormy-night.toml", "--device", "77=r1"]);
    assert_eq!(said.code, 2);
    assert!(said.err.contains("there is no node 77 that could have revision 1; there are 1, 3, 4"), "{}", said.err);
}

#[test]
fn devices_have_definitions_of_their_own_and_groups_a_default() {
    let folder = project_with_recording();
    let folder = folder.path();
    let own = std::fs::read_to_string(folder.join("marlock.ember")).unwrap();
    let with = |opening: &str| own.replace("opening    : 0 .. 100 % step 0.5", opening);
    std::fs::write(folder.join("in-mm.ember"), with("opening    : 0 .. 200 mm step 1")).unwrap();
    std::fs::write(folder.join("half.ember"), with("opening    : 0 .. 50 % step 0.25")).unwrap();
    let decode = |words: &[&str]| {
        let last = ["--message", "GateStatus", "--as", "ndjson", "--last", "400"];
        let out = succeed(folder, &[&["decode", "stormy-night.pcapng"][..], words, &last].concat());
        out.lines().map(|line| serde_json::from_str(line).unwrap()).collect::<Vec<Json>>()
    };
    let plain = decode(&[]);
    // By how much each node's opening is more than as the link's own definition has it.
    let factors = |words: &[&str]| -> BTreeMap<u64, f64> {
        let rows = decode(words);
        assert_eq!(rows.len(), plain.len());
        let mut found = BTreeMap::new();
        for (row, plain) in rows.iter().zip(&plain) {
            let opening = |row: &Json| row["fields"]["opening"].as_f64().unwrap();
            if opening(plain) > 0.0 {
                let factor = opening(row) / opening(plain);
                let node = row["node"].as_u64().unwrap();
                assert_eq!(*found.entry(node).or_insert(factor), factor, "{row}");
            }
        }
        found
    };
    let fleet = |lines: &str| {
        std::fs::write(folder.join("fleet.csv"), format!("device,node,group,revision,definition\n{lines}")).unwrap();
    };
    assert_eq!(factors(&["--device", "in-mm.ember"]), BTreeMap::from([(1, 2.0), (3, 2.0), (4, 2.0)]));
    fleet("*,,,,in-mm.ember\n*,,gates,,half.ember\nlower,1,gates,4,\nupper,3,gates,4,marlock.ember\n");
    assert_eq!(factors(&["--fleet", "fleet.csv"]), BTreeMap::from([(1, 0.5), (3, 1.0), (4, 2.0)]));
    // What is said of a node for one run counts more.
    let words = ["--fleet", "fleet.csv", "--device", "4=half.ember"];
    assert_eq!(factors(&words), BTreeMap::from([(1, 0.5), (3, 1.0), (4, 0.5)]));
    // A column has one unit: what has another one does not stand under it.
    let table = succeed(folder, &["decode", "stormy-night.pcapng", "--message", "GateStatus", "--fleet", "fleet.csv"]);
    let mut in_words = 0;
    for line in table.lines().filter(|line| line.contains(" bus485 ")) {
        let words: Vec<&str> = line.split_whitespace().collect();
        match words[2] {
            "device" => {
                assert!(words[3] == "4" && line.contains(" mm"), "{line}");
                in_words += 1;
            }
            node => assert!(node != "4" && !line.contains("opening="), "{line}"),
        }
    }
    assert!(in_words > 500, "{in_words}");

    for (lines, said) in [
        ("*,,,,\n", "line 2: it names no definition for all devices"),
        ("*,,gates,,r1\n*,,gates,,r2\n", "line 3: the definition of the group gates stands there twice"),
        ("lower,1,,,\n", "line 2: the device lower has no revision"),
        ("lower,1,,4,nowhere.ember\n", "nowhere.ember is not a file"),
    ] {
        fleet(lines);
        let ran = run(folder, &["decode", "stormy-night.pcapng", "--fleet", "fleet.csv"]);
        assert!(ran.code == 2 && ran.err.contains(said), "{}", ran.err);
    }
}

#[test]
fn each_definition_has_tables_of_its_own() {
    let folder = changed();
    let folder = folder.path();
    std::fs::write(folder.join("bus.hex"), frames(folder, "bus485")).unwrap();
    let words = ["decode", "--on", "bus485", "bus.hex", "--device", "3=r2", "--as", "csv", "--out", "tables"];
    let ran = run(folder, &words);
    assert_eq!(ran.code, 0, "{}", ran.err);
    let names: Vec<String> = std::fs::read_dir(folder.join("tables"))
        .unwrap()
        .map(|one| one.unwrap().file_name().into_string().unwrap())
        .collect();
    assert_eq!(names.len(), 2, "{names:?}");
    let column = |file: &str, name: &str| {
        let mut reader = csv::Reader::from_path(folder.join("tables").join(file)).unwrap();
        let at = reader.headers().unwrap().iter().position(|column| column == name)?;
        Some(reader.records().map(|row| row.unwrap()[at].to_owned()).collect::<Vec<String>>())
    };
    // Of the definition, and of revision 2, which has no force of the latch.
    assert_eq!(column("GateStatus.csv", "oil (bar)"), Some(vec!["120.05".to_owned()]));
    let older = "GateStatus-bus_hex-definition1.csv";
    assert_eq!(column(older, "oil (bar)"), Some(vec!["120.02".to_owned()]));
    assert_eq!(column(older, "latch_force (kN)"), None);
}
