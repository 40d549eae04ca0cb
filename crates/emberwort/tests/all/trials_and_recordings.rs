//! `trial` from the outside: repeatable to the byte, recordings that decode to the same totals, exit codes, files.

use serde_json::Value as Json;

use crate::common::{self, project, project_with_recording, run, stats, succeed};

fn json(folder: &std::path::Path, words: &[&str]) -> Json {
    let words = [words, &["--as", "ndjson"]].concat();
    serde_json::from_str(&run(folder, &words).out).unwrap()
}

#[test]
fn the_same_seed_twice_gives_recordings_equal_to_the_byte() {
    let folder = project();
    let record = |seed: &str, name: &str| {
        succeed(folder.path(), &["trial", "trials/stormy-night.toml", "--seed", seed, "--record", name]);
        std::fs::read(folder.path().join(name)).unwrap()
    };
    let (first, again, other) = (record("18", "a.pcapng"), record("18", "b.pcapng"), record("19", "c.pcapng"));
    assert!(first == again);
    assert!(first != other);
}

#[test]
fn a_recording_decodes_to_the_totals_of_its_trial() {
    let folder = project();
    for (trial, name) in [("trials/stormy-night.toml", "night.pcapng"), ("trials/clear-day.toml", "day.pcapng")] {
        let report = json(folder.path(), &["trial", trial, "--record", name]);
        let read = stats(folder.path(), &[name]);
        let sum = |pointer: &str| {
            ["host", "device"]
                .iter()
                .map(|side| report.pointer(&format!("/{side}{pointer}")).unwrap().as_u64().unwrap())
                .sum::<u64>()
        };
        for kind in ["input", "good", "broken", "stray"] {
            assert_eq!(sum(&format!("/bytes/{kind}")), read["bytes"][kind].as_u64().unwrap(), "{name} {kind}");
        }
        assert_eq!(sum("/frames/good"), read["frames"]["good"].as_u64().unwrap());
        assert_eq!(read["other"]["packets"], 0);
        assert_eq!(report["passed"], true);
        assert_eq!(report["wrong"], 0);
    }
}

#[test]
fn bit_errors_damage_and_lose_frames_but_never_change_a_value() {
    let folder = project();
    let text = std::fs::read_to_string(folder.path().join("trials/stormy-night.toml")).unwrap();
    let noisy = text
        .replace("bit_errors = 1e-6", "bit_errors = 5e-4")
        .replace("at least 580", "at least 400")
        .replace("at least 1500", "at least 1000");
    let noisy = noisy
        .replace("counter gaps at most 70", "counter gaps at most 900")
        .replace("    \"MoveGate answered within 50 ms\",\n", "");
    std::fs::write(folder.path().join("noisy.toml"), noisy).unwrap();
    let report = json(folder.path(), &["trial", "noisy.toml", "--record", "noisy.pcapng"]);
    let frames = report["frames"].as_array().unwrap();
    let sum = |key: &str| frames.iter().map(|frame| frame[key].as_u64().unwrap()).sum::<u64>();
    assert!(sum("damaged") > 50 && sum("lost") > 50, "{report}");
    assert_eq!(sum("sent"), sum("received") + sum("lost"));
    assert_eq!((&report["wrong"], &report["passed"]), (&0.into(), &true.into()), "{report}");
    // What the rows of the recording say of the east gate is what its signals were: opening never falls.
    let rows =
        succeed(folder.path(), &["decode", "noisy.pcapng", "--node", "3", "--message", "GateStatus", "--as", "ndjson"]);
    let openings: Vec<f64> = rows
        .lines()
        .map(|row| serde_json::from_str::<Json>(row).unwrap()["fields"]["opening"].to_string().parse().unwrap())
        .collect();
    assert!(openings.len() > 400);
    assert!(openings.windows(2).all(|pair| pair[0] <= pair[1]), "a damaged value went through");
    assert_eq!(openings.last(), Some(&42.5));
}

#[test]
fn the_times_of_a_recording_are_those_of_the_trial() {
    let folder = project();
    succeed(folder.path(), &["trial", "trials/stormy-night.toml", "--record", "night.pcapng"]);
    let rows = succeed(folder.path(), &["decode", "night.pcapng", "--message", "Alarm", "--as", "ndjson"]);
    let row: Json = serde_json::from_str(rows.trim()).unwrap();
    // Sent 71 s after 02:10:00; 25 bytes of 86,805 ns and 200 us of delay later it is there (and it waited for the bus).
    let time = row["time"].as_str().unwrap();
    assert!(time.starts_with("2031-03-09T02:11:11.00") && time.ends_with('Z'), "{time}");
    assert_eq!((&row["direction"], &row["node"]), (&"device".into(), &3.into()));
    assert_eq!(row["fields"]["text"], "oil above 80 °C");
    assert_eq!(row["fields"]["raised"][0], "oil_hot");
}

#[test]
fn a_trial_over_udp_records_packets() {
    let folder = project();
    succeed(folder.path(), &["trial", "trials/clear-day.toml", "--record", "day.pcapng"]);
    let bytes = std::fs::read(folder.path().join("day.pcapng")).unwrap();
    // The link type of the interfaces is 101, raw IP; each packet begins with 45, IPv4 without options.
    assert!(bytes.windows(2).any(|pair| pair == [101, 0]));
    let rows = succeed(folder.path(), &["decode", "day.pcapng", "--as", "ndjson", "--message", "Identity"]);
    let row: Json = serde_json::from_str(rows.trim()).unwrap();
    assert_eq!((&row["channel"], &row["revision"]), (&"house".into(), &4.into()));
    assert_eq!(row["fields"]["serial"], "00 00 00 00 00 00");
}

#[test]
fn what_must_hold_decides_the_exit_code() {
    let folder = project();
    let trial = |must: &str| {
        let text = format!("channel = \"bus485\"\nspan = \"2 s\"\nmust = [{must}]\n[[device]]\nnode = 3\n");
        std::fs::write(folder.path().join("t.toml"), text).unwrap();
        run(folder.path(), &["trial", "t.toml"])
    };
    let held = trial("\"at least 10 GateStatus\", \"counter gaps at most 0\"");
    assert_eq!(held.code, 0);
    assert!(held.out.contains("held    at least 10 GateStatus  10 received"), "{}", held.out);
    let failed = trial("\"at least 11 GateStatus\"");
    assert_eq!(failed.code, 1);
    assert!(failed.out.contains("FAILED  at least 11 GateStatus  10 received"), "{}", failed.out);
    let nothing = trial("");
    assert_eq!(nothing.code, 0);
    assert!(nothing.out.contains("so nothing is checked"), "{}", nothing.out);
    let wrong = trial("\"at least ten GateStatus\"");
    assert_eq!(wrong.code, 2);
    assert!(wrong.err.contains("t.toml cannot be used: must 1: `ten` is not a whole number"), "{}", wrong.err);
    let missing = run(folder.path(), &["trial", "nowhere.toml"]);
    assert!(missing.code == 2 && missing.err.contains("the trial nowhere.toml cannot be read"), "{}", missing.err);
    std::fs::write(folder.path().join("t.toml"), [0xFF, 0xFE]).unwrap();
    assert_eq!(run(folder.path(), &["trial", "t.toml"]).code, 2);
    std::fs::write(folder.path().join("t.toml"), "channel = [").unwrap();
    let broken = run(folder.path(), &["trial", "t.toml"]);
    assert!(broken.code == 2 && broken.err.contains("line 1"), "{}", broken.err);
}

#[test]
fn a_failed_trial_tells_when_it_shows_and_how_to_see_it() {
    let folder = project();
    let must = [
        "at most 20 GateStatus",
        "wire busy below 0.01 %",
        "at least 90 GateStatus",
        "at most 30 GateStatus",
        "at most 31 GateStatus from node 3",
    ];
    let text = format!(
        "channel = \"bus485\"\nspan = \"10 s\"\nstarts = \"2031-03-09T02:10:00Z\"\nmust = {must:?}\n[[device]]\nnode = 3\n"
    );
    std::fs::write(folder.path().join("t.toml"), text).unwrap();
    let failed = run(folder.path(), &["trial", "t.toml", "--report", "t.xml"]);
    assert_eq!(failed.code, 1);
    // The 21st report is sent after 4 s; it has 21 bytes of 87 microseconds each, and a bit more.
    assert!(failed.out.contains("\nfirst visible 4.00"), "{}", failed.out);
    assert!(failed.out.contains("\n      > +4.00"), "{}", failed.out);
    assert!(failed.out.contains("\n2 more failures: the report tells why\n"), "{}", failed.out);
    let report = std::fs::read_to_string(folder.path().join("t.xml")).unwrap();
    assert_eq!(report.matches(">expected: ").count(), 5, "{report}");
    assert_eq!(report.matches("\nfirst visible ").count(), 3, "{report}");
    assert_eq!(report.matches("no single time shows it").count(), 2, "{report}");
    // What it says to run, run.
    let said = failed.out.replace("\n  ", " ");
    let commands = said.split("to see more: emberwort ").nth(1).unwrap().trim();
    let (record, decode) = commands.split_once(", then emberwort ").unwrap();
    let recorded = run(folder.path(), &record.split(' ').collect::<Vec<_>>());
    assert_eq!(recorded.code, 1, "{}", recorded.err);
    let rows = succeed(folder.path(), &decode.split_whitespace().collect::<Vec<_>>());
    let times: Vec<f64> =
        rows.lines().filter_map(|row| row.strip_prefix('+')?.split(' ').next()?.parse().ok()).collect();
    assert!(times.len() >= 18 && times.iter().all(|time| (1.9..=7.0).contains(time)), "{rows}");
}

#[test]
fn a_shorter_trial_fails_for_the_same_reason() {
    let folder = project();
    // Of 100 reports 20 are lost: a trial that is so short that fewer than 90 are sent fails in another way.
    let text = "channel = \"bus485\"\nspan = \"20 s\"\nmust = [\"at least 90 GateStatus\", \"no false accept\"]\n\
        [wire]\ndelay = \"1 ms\"\nstretch = [{ from = \"4 s\", to = \"8 s\", bit_errors = 0.1 }]\n[[device]]\nnode = 3\n";
    std::fs::write(folder.path().join("t.toml"), text).unwrap();
    let failed = run(folder.path(), &["trial", "t.toml", "--minimise", "short.toml"]);
    assert_eq!(failed.code, 1, "{}", failed.err);
    assert!(failed.err.contains("\"at least 90 GateStatus\" still fails"), "{}", failed.err);
    let short = std::fs::read_to_string(folder.path().join("short.toml")).unwrap();
    assert!(!short.contains("delay") && !short.contains("accept") && short.contains("stretch"), "{short}");
    let report = json(folder.path(), &["trial", "short.toml"]);
    let (sent, received) =
        (report["frames"][0]["sent"].as_u64().unwrap(), report["frames"][0]["received"].as_u64().unwrap());
    assert!(sent >= 90 && received < 90, "{report}");
}

#[test]
fn the_trial_of_the_documentation_runs() {
    let page = include_str!("../../../../docs/trials.md");
    let example = page.split("```toml\n").nth(1).unwrap().split("```").next().unwrap();
    let folder = project();
    std::fs::write(folder.path().join("doc.toml"), example).unwrap();
    let ran = run(folder.path(), &["trial", "doc.toml"]);
    assert_eq!(ran.code, 0, "{}{}", ran.out, ran.err);
    assert!(!ran.out.contains("FAILED"), "{}", ran.out);
}

#[test]
fn the_captures_of_the_repository_are_what_their_script_makes() {
    let folder = tempfile::tempdir().unwrap();
    let captures = folder.path().join("examples/captures");
    std::fs::create_dir_all(&captures).unwrap();
    common::copy_project(&folder.path().join("examples/marlock"));
    let repository = common::marlock().join("../captures");
    for name in ["make.sh", "shaken-plug.toml"] {
        std::fs::copy(repository.join(name), captures.join(name)).unwrap();
    }
    let status = std::process::Command::new("sh")
        .arg(captures.join("make.sh"))
        .arg(env!("CARGO_BIN_EXE_emberwort"))
        .stdout(std::process::Stdio::null())
        .stderr(std::process::Stdio::null())
        .status()
        .unwrap();
    assert!(status.success());
    for name in ["shaken-plug.pcapng", "clear-day.pcapng", "keeper.hex", "keeper.bin"] {
        let (made, kept) = (std::fs::read(captures.join(name)).unwrap(), std::fs::read(repository.join(name)).unwrap());
        assert!(made == kept, "{name} is not what examples/captures/make.sh makes");
    }
}

/// The exchanges that are read out of a recording are those that the trial knows of, whatever the wire did to the rest.
#[test]
fn exchanges_of_a_recording_are_those_of_the_trial() {
    let folder = project();
    let night = std::fs::read_to_string(folder.path().join("trials/stormy-night.toml")).unwrap();
    // More requests, and a wire that loses some of both kinds.
    let night =
        night.replace("every   = \"12 s\"", "every   = \"700 ms\"").replace("bit_errors = 1e-6", "bit_errors = 1e-3");
    std::fs::write(folder.path().join("noisy.toml"), night).unwrap();
    let (mut all, mut refused, mut unanswered) = (0, 0, 0);
    for seed in 1..=12 {
        let recording = format!("{seed}.pcapng");
        let ran = run(
            folder.path(),
            &["trial", "noisy.toml", "--seed", &seed.to_string(), "--as", "ndjson", "--record", &recording],
        );
        let report: serde_json::Value =
            serde_json::from_str(ran.out.trim()).unwrap_or_else(|error| panic!("{error}: {ran:?}"));
        let known =
            |key: &str| report["answers"].as_array().unwrap().iter().map(|all| all[key].as_u64().unwrap()).sum::<u64>();
        let received = |name: &str| -> u64 {
            let frames = report["frames"].as_array().unwrap().iter().filter(|kind| kind["message"] == name);
            frames.map(|kind| kind["received"].as_u64().unwrap()).sum()
        };
        let read = run(folder.path(), &["decode", &recording, "--exchanges", "--as", "ndjson"]);
        let found: Vec<serde_json::Value> = read.out.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
        let count = |outcome: &str| found.iter().filter(|one| one["outcome"] == outcome).count() as u64;
        assert_eq!(
            count("answered") + count("refused") + count("late"),
            known("answered"),
            "seed {seed}: {}",
            read.err
        );
        assert_eq!(count("refused"), received("Refused"), "seed {seed}");
        // What arrived at a device and was not answered; what never arrived is not in the recording.
        let arrived = received("MoveGate") + received("WhoAreYou");
        // The same request once more, before the one before was given up, is one exchange that was asked for twice.
        let again: u64 = found.iter().map(|one| one["asked"].as_u64().unwrap().saturating_sub(1)).sum();
        assert_eq!(count("unanswered") + again, arrived - known("answered"), "seed {seed}");
        assert_eq!(count("unexpected"), 0, "seed {seed}");
        let slowest = report["answers"].as_array().unwrap().iter().filter_map(|all| all["slowest_ns"].as_u64()).max();
        let once = found.iter().filter(|one| one["asked"] == 1);
        let most = once.filter_map(|one| one["after_ns"].as_u64()).max();
        // The trial counts from the sending on, and until the host found the frame, which may be held up behind a broken one.
        assert!(most < slowest, "seed {seed}: {most:?} {slowest:?}");
        all += found.len();
        (refused, unanswered) = (refused + count("refused"), unanswered + count("unanswered"));
    }
    assert!(all > 400 && refused > 300 && unanswered > 10, "{all} {refused} {unanswered}");
}

/// A trial in which a recording plays two devices, and what else stands in it.
fn replayed(more: &str) -> String {
    format!(
        "about = \"The gates of the stormy night, from its recording.\"\nchannel = \"bus485\"\nspan = \"125 s\"\nseed = 1\n\
         starts = \"2031-03-09T02:10:00Z\"\nmust = [\"no good frame with a wrong value\"]\n[wire]\ndelay = \"200 us\"\n{more}\n\
         [[device]]\nnode = 3\nrecording = \"stormy-night.pcapng\"\n[[device]]\nnode = 4\nrecording = \"stormy-night.pcapng\"\n"
    )
}

#[test]
fn a_recording_plays_devices() {
    let folder = project_with_recording();
    let folder = folder.path();
    let rows = |file: &str, condition: &str| -> Vec<Json> {
        let out = succeed(folder, &["decode", file, "--as", "ndjson", "--where", condition]);
        out.lines().map(|line| serde_json::from_str(line).unwrap()).collect()
    };
    let without_place = |mut rows: Vec<Json>| {
        for row in &mut rows {
            for key in ["frame", "time", "offset"] {
                row.as_object_mut().unwrap().remove(key);
            }
        }
        rows
    };
    let nanoseconds = |row: &Json| row["time"].as_str().unwrap().parse::<jiff::Timestamp>().unwrap().as_nanosecond();
    std::fs::write(folder.join("replay.toml"), replayed("")).unwrap();
    let ran = run(folder, &["trial", "replay.toml", "--record", "again.pcapng"]);
    assert_eq!(ran.code, 0, "{}{}", ran.out, ran.err);
    assert!(ran.out.contains("0 good frames compared with what was sent, 0 differ; "), "{}", ran.out);
    for node in [3, 4] {
        let condition = format!("node == {node} and direction == device and not broken");
        let (old, new) = (rows("stormy-night.pcapng", &condition), rows("again.pcapng", &condition));
        assert!(old.len() > 500);
        // The times between frames of one device are those of the recording.
        let gaps =
            |rows: &[Json]| rows.windows(2).map(|two| nanoseconds(&two[1]) - nanoseconds(&two[0])).collect::<Vec<_>>();
        let (before, after) = (gaps(&old), gaps(&new));
        // A frame waits for the other one that holds the wire.
        let moved = before.iter().zip(&after).filter(|(before, after)| before.abs_diff(**after) > 1_000).count();
        assert!(moved * 10 < before.len(), "{node}: {moved} of {}", before.len());
        assert_eq!(without_place(old), without_place(new), "{node}");
    }
    // Faults of the wire meet it as they meet others.
    std::fs::write(folder.join("lossy.toml"), replayed("frame_loss = 0.5")).unwrap();
    run(folder, &["trial", "lossy.toml", "--record", "lossy.pcapng"]);
    let left = rows("lossy.pcapng", "node == 3 and direction == device").len();
    assert!((200..400).contains(&left), "{left}");

    // `device` plays it on a port: over its standard streams, to a program that keeps the first second.
    let keep = "import os,sys,time\nend=time.time()+2\nout=open('kept.bin','wb')\nos.set_blocking(0,False)\n\
                while time.time()<end:\n\x20try:\n\x20 some=os.read(0,65536)\n\x20 if not some: break\n\x20 out.write(some)\n\x20except BlockingIOError: time.sleep(0.01)\n";
    std::fs::write(folder.join("keep.py"), keep).unwrap();
    let ran = run(folder, &["device", "replay.toml", "--port", "command:python3 keep.py", "--for", "1500ms"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    let first = succeed(
        folder,
        &["decode", "kept.bin", "--on", "bus485", "--from", "device", "--as", "ndjson", "--where", "node == 3"],
    );
    let first: Vec<Json> = first.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    assert!(first.len() >= 3, "{first:?}");
    let all = rows("stormy-night.pcapng", "node == 3 and direction == device");
    let count = first.len();
    assert_eq!(without_place(first), without_place(all[..count].to_vec()));

    for (text, said) in [
        (
            replayed("").replace("node = 4\n", "node = 9\n"),
            "stormy-night.pcapng holds no good frame of node 9 on `bus485`",
        ),
        (replayed("").replace("stormy-night", "nothing"), "nothing.pcapng"),
        (replayed("") + "first_report = \"1 s\"\n", "plays the device, so its `first_report` would do nothing"),
        (replayed("").replace("stormy-night.pcapng", "kept.bin"), "kept.bin has no times"),
    ] {
        std::fs::write(folder.join("bad.toml"), text).unwrap();
        let ran = run(folder, &["trial", "bad.toml"]);
        assert!(ran.code == 2 && ran.err.contains(said), "{}", ran.err);
    }
}

/// Without a checksum nobody can say how many changed frames are accepted: that there is none is said, and that they are too many.
#[test]
fn hostile_frames_of_a_channel_without_a_checksum() {
    let folder = tempfile::tempdir().unwrap();
    let text = |check: &str| {
        format!(
            "link nk {{ revision 1  byte_order little }}\nchannel c {{ medium uart 9600 8N1\n limit 60 bytes\n \
             frame {{ sync C6 39\n kind : u8 message\n size : u8 length of body\n body\n {check} }} }}\n\
             message M {{ id 1  from device every 100 ms  on c\n a : u8\n b : 0 .. 10 m step 0.5 }}\n"
        )
    };
    std::fs::write(folder.path().join("t.toml"), "channel = \"c\"\nspan = \"2 s\"\n[[device]]\nnode = 1\n").unwrap();
    let tried = |check: &str| {
        std::fs::write(folder.path().join("nk.ember"), text(check)).unwrap();
        let ran =
            run(folder.path(), &["trial", "--link", "nk.ember", "t.toml", "--hostile", "300ms", "--as", "ndjson"]);
        (ran.code, serde_json::from_str::<serde_json::Value>(&ran.out).unwrap())
    };
    let (code, found) = tried("");
    assert_eq!((code, &found["unchecked"], found["expected"].as_f64()), (1, &found["fed"], Some(0.0)), "{found}");
    assert!(found["false_accepts"].as_u64() > Some(10), "{found}");
    let (code, found) = tried("check : u32 crc-32/iso-hdlc over kind..body");
    assert_eq!((code, found["unchecked"].as_u64()), (0, Some(0)), "{found}");
    assert!(found["expected"].as_f64() > Some(0.0), "{found}");
}
