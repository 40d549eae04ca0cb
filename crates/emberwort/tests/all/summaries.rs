//! `stats --timing` and `--fields` against what the trial knows that it did.

use std::collections::BTreeSet;

use serde_json::Value as Json;

use crate::common::{project, project_with_recording, run, succeed};

fn object(folder: &std::path::Path, words: &[&str]) -> Json {
    let ran = run(folder, words);
    serde_json::from_str(&ran.out).unwrap_or_else(|error| panic!("{error}: {ran:?}"))
}

fn seconds(row: &Json) -> f64 {
    let time: jiff::Timestamp = row.as_str().expect("a time").parse().expect("RFC 3339");
    (time.as_nanosecond() - 1_930_788_600_000_000_000) as f64 / 1e9
}

/// The stormy night, but node 4 dies after 100 s.
fn trial_with_a_death(folder: &std::path::Path) {
    let text = std::fs::read_to_string(folder.join("trials/stormy-night.toml")).unwrap();
    let at = text.find("node          = 4").or_else(|| text.find("node = 4")).expect("node 4");
    let end = at + text[at..].find('\n').unwrap();
    let (before, behind) = text.split_at(end);
    std::fs::write(
        folder.join("death.toml"),
        format!("{before}\nrestart = [{{ at = \"100 s\", lasting = \"60 s\" }}]{behind}"),
    )
    .unwrap();
}

#[test]
fn losses_restarts_silence_and_answers_are_those_of_the_trial() {
    let folder = project();
    trial_with_a_death(folder.path());
    let mut lost_in_all = 0;
    for seed in 1..=50 {
        let (seed, name) = (seed.to_string(), format!("{seed}.pcapng"));
        let report =
            object(folder.path(), &["trial", "death.toml", "--seed", &seed, "--record", &name, "--as", "ndjson"]);
        let summed = object(folder.path(), &["stats", &name, "--timing", "--as", "ndjson"]);
        let rows = succeed(folder.path(), &["decode", &name, "--as", "ndjson", "--where", "message == GateStatus"]);
        let rows: Vec<Json> = rows.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
        for node in [1, 3, 4] {
            let sender = summed["senders"]
                .as_array()
                .unwrap()
                .iter()
                .find(|sender| sender["node"] == node && sender["direction"] == "device");
            let sender = sender.unwrap();
            let of_node = |frame: &&Json| frame["direction"] == "device" && frame["node"] == node;
            let lost: u64 = report["frames"]
                .as_array()
                .unwrap()
                .iter()
                .filter(of_node)
                .map(|frame| frame["lost"].as_u64().unwrap())
                .sum();
            let missing = sender["missing"].as_u64().unwrap();
            assert_eq!(sender["restarts"], u64::from(node == 1), "{seed} {node}");
            assert_eq!((&sender["repeated"], &sender["back"]), (&0.into(), &0.into()), "{seed} {node}");
            // What was lost before the first frame that came, or behind the last, nobody can know from the frames alone.
            let mut own = rows.iter().filter(|row| row["node"] == node);
            let first = own.next().unwrap()["sequence"].as_u64().unwrap();
            let end = if node == 4 { 100.0 } else { 120.0 };
            let last = seconds(&own.next_back().unwrap()["time"]);
            let behind = ((end - last) / 0.2 - 0.01) as u64;
            match node {
                // Neither what was lost directly before the restart.
                1 => assert!(missing <= lost && lost - missing <= first + behind + 3, "{seed}: {missing} {lost}"),
                _ => assert_eq!(missing + first + behind, lost, "{seed} {node}: {sender}"),
            }
            match sender["silent_since"].as_str() {
                Some(_) => {
                    assert_eq!(node, 4, "{seed}");
                    assert!((seconds(&sender["silent_since"]) - last).abs() < 1e-9, "{seed}");
                }
                None => assert_ne!(node, 4, "{seed}"),
            }
            let timing = summed["timing"].as_array().unwrap().iter();
            let timing =
                timing.clone().find(|timing| timing["node"] == node && timing["message"] == "GateStatus").unwrap();
            assert_eq!(timing["every"], 200_000_000u64);
            let median = timing["period"]["median"].as_u64().unwrap();
            assert!(median.abs_diff(200_000_000) < 1_000, "{seed} {node}: {median}");
            lost_in_all += lost;
        }
        // The trial counts from the first byte of a request; a recording from its last: 10 bytes of 10 bits, and the delay of the wire.
        for answer in report["answers"].as_array().unwrap().iter().filter(|answer| answer["message"] == "MoveGate") {
            let seen = &summed["exchanges"]["MoveGate"]["after"];
            if answer["sent"] == answer["answered"] && seen["count"] == answer["answered"] {
                let of_trial = answer["slowest_ns"].as_u64().unwrap();
                let of_stats = seen["greatest"].as_u64().unwrap();
                assert!((of_trial - of_stats).abs_diff(868_055 + 200_000) < 1_000, "{seed}: {of_trial} {of_stats}");
            }
        }
    }
    assert!(lost_in_all > 500, "{lost_in_all}");
}

#[test]
fn fields_are_summed_up_as_the_rows_say() {
    let folder = project_with_recording();
    let words = ["stats", "stormy-night.pcapng", "--fields", "--as", "ndjson", "--node", "3"];
    let summed = object(folder.path(), &words);
    let rows = succeed(
        folder.path(),
        &["decode", "stormy-night.pcapng", "--as", "ndjson", "--node", "3", "--message", "GateStatus"],
    );
    let rows: Vec<Json> = rows.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    for name in ["opening", "upstream", "oil", "pump_temp", "battery", "latch_force"] {
        let values: Vec<f64> = rows.iter().filter_map(|row| row["fields"][name].as_f64()).collect();
        let field = &summed["fields"]["GateStatus"][name];
        let near = |key: &str, expected: f64| {
            let found = field[key].as_f64().unwrap();
            assert!((found - expected).abs() < 1e-6 * expected.abs().max(1.0), "{name} {key}: {found} {expected}");
        };
        assert_eq!(field["values"].as_u64().unwrap() as usize, values.len());
        near("least", values.iter().copied().fold(f64::INFINITY, f64::min));
        near("greatest", values.iter().copied().fold(f64::NEG_INFINITY, f64::max));
        near("mean", values.iter().sum::<f64>() / values.len() as f64);
        let distinct: BTreeSet<String> = values.iter().map(f64::to_string).collect();
        assert_eq!(field["distinct"].as_u64().unwrap() as usize, distinct.len(), "{name}");
    }
    // For how long a state stood: from a row to the next one.
    let mut held = std::collections::BTreeMap::<String, f64>::new();
    for pair in rows.windows(2) {
        *held.entry(pair[0]["fields"]["state"].as_str().unwrap().to_owned()).or_default() +=
            seconds(&pair[1]["time"]) - seconds(&pair[0]["time"]);
    }
    let all: f64 = held.values().sum();
    for (state, stood) in held {
        let share = summed["fields"]["GateStatus"]["state"]["share_of_time"][&state].as_f64().unwrap();
        assert!((share - stood * 100.0 / all).abs() < 1e-6, "{state}: {share}");
    }
}

#[test]
fn filters_say_what_is_summed_up_and_not_what_is_accounted() {
    let folder = project_with_recording();
    let summed = object(folder.path(), &["stats", "stormy-night.pcapng", "--as", "ndjson", "--where", "oil > 200"]);
    let rows = succeed(folder.path(), &["decode", "stormy-night.pcapng", "--as", "ndjson", "--where", "oil > 200"]);
    let counted: u64 =
        summed["timing"].as_array().unwrap().iter().map(|timing| timing["frames"].as_u64().unwrap()).sum();
    assert_eq!(counted as usize, rows.lines().count());
    assert_eq!(
        summed["frames"]["good"],
        object(folder.path(), &["stats", "stormy-night.pcapng", "--as", "ndjson"])["frames"]["good"]
    );
}

#[test]
fn filters_leave_nothing_out_of_what_only_all_frames_say() {
    let folder = project_with_recording();
    let all = object(folder.path(), &["stats", "stormy-night.pcapng", "--timing", "--as", "ndjson"]);
    for filter in [["--message", "GateStatus"], ["--message", "MoveGate"], ["--node", "3"], ["--where", "oil > 100"]] {
        let words = [&["stats", "stormy-night.pcapng", "--as", "ndjson"][..], &filter].concat();
        let some = object(folder.path(), &words);
        for sender in some["senders"].as_array().unwrap() {
            assert!(all["senders"].as_array().unwrap().contains(sender), "{filter:?}: {sender}");
        }
        assert_eq!(some["breakage"], all["breakage"], "{filter:?}");
        if some["exchanges"].get("MoveGate").is_some() {
            assert_eq!(some["exchanges"]["MoveGate"], all["exchanges"]["MoveGate"], "{filter:?}");
        }
    }
    let words = ["decode", "stormy-night.pcapng", "--exchanges", "--as", "ndjson"];
    let pairs = succeed(folder.path(), &words);
    for (filter, request) in
        [(["--message", "Refused"], "MoveGate"), (["--where", "message == WhoAreYou"], "WhoAreYou")]
    {
        let some = succeed(folder.path(), &[&words[..], &filter].concat());
        assert!(!some.is_empty());
        assert!(some.lines().all(|line| line.contains(request) && pairs.contains(line)), "{some}");
    }
}

#[test]
fn two_recordings_differ_where_they_do() {
    let folder = project_with_recording();
    let same =
        succeed(folder.path(), &["stats", "stormy-night.pcapng", "--against", "stormy-night.pcapng", "--fields"]);
    assert_eq!(same.lines().count(), 2, "{same}");
    // Where values alone could differ, it is said how to compare them.
    let same = run(folder.path(), &["stats", "stormy-night.pcapng", "--against", "stormy-night.pcapng"]);
    assert_eq!(
        same.err.lines().last(),
        Some("no number differs by more than one in a hundred; --fields compares what the fields held, too")
    );
    let text = std::fs::read_to_string(folder.path().join("trials/stormy-night.toml")).unwrap();
    std::fs::write(
        folder.path().join("slow.toml"),
        text.replace("answers_after = \"6 ms\"", "answers_after = \"16 ms\""),
    )
    .unwrap();
    run(folder.path(), &["trial", "slow.toml", "--record", "slow.pcapng"]);
    let words = ["stats", "stormy-night.pcapng", "--against", "slow.pcapng", "--as", "ndjson"];
    let rows: Vec<Json> =
        succeed(folder.path(), &words).lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    let found =
        rows.iter().find(|row| row["of"] == "MoveGate" && row["what"] == "median answer").expect("another answer time");
    assert!(
        found["here"].as_str().unwrap().starts_with("7.") && found["there"].as_str().unwrap().starts_with("17."),
        "{found}"
    );
    let page = succeed(folder.path(), &["stats", "stormy-night.pcapng", "--timing", "--as", "markdown"]);
    assert!(page.contains("## Senders: what their numbers say\n\n| sender | frames |"), "{page}");
}

/// The nearest rank, as a quantile of few values is defined.
fn nearest_rank(sorted: &[u64], part: f64) -> u64 {
    sorted[((part * sorted.len() as f64).ceil() as usize).max(1) - 1]
}

#[test]
fn jitter_is_what_the_wire_of_the_trial_added() {
    let folder = project();
    let own = std::fs::read_to_string(folder.path().join("trials/clear-day.toml")).unwrap();
    let wire = own.find("[wire]").expect("a wire");
    let end = own[wire..].find("\n\n").map_or(own.len(), |length| wire + length);
    for (name, jitter) in [("steady", "0 ms"), ("jittery", "3 ms")] {
        let faults = format!("[wire]\ndelay = \"200 us\"\njitter = \"{jitter}\"");
        let trial = folder.path().join(format!("{name}.toml"));
        std::fs::write(trial, format!("{}{faults}{}", &own[..wire], &own[end..])).unwrap();
    }
    let mut compared = 0;
    for seed in 1..=50 {
        let arrivals = |name: &str| -> Vec<(u64, f64)> {
            let file = format!("{name}.pcapng");
            run(folder.path(), &["trial", &format!("{name}.toml"), "--seed", &seed.to_string(), "--record", &file]);
            let rows = succeed(
                folder.path(),
                &["decode", &file, "--as", "ndjson", "--where", "message == GateStatus and node == 3"],
            );
            let rows = rows.lines().map(|line| serde_json::from_str::<Json>(line).unwrap());
            rows.map(|row| (row["sequence"].as_u64().unwrap(), seconds(&row["time"]))).collect()
        };
        let (sent, came) = (arrivals("steady"), arrivals("jittery"));
        assert_eq!(sent.len(), came.len(), "{seed}");
        // What the wire added to each frame, out of the same trial without it.
        for ((number, sent), (same, came)) in sent.iter().zip(&came) {
            let added = came - sent;
            assert!(number == same && (-1e-9..=0.003 + 1e-9).contains(&added), "{seed} {number}: {added}");
        }
        let mut periods: Vec<u64> =
            came.windows(2).map(|pair| ((pair[1].1 - pair[0].1) * 1e9).round() as u64).collect();
        periods.sort_unstable();
        let expected = nearest_rank(&periods, 0.99) - nearest_rank(&periods, 0.01);
        let summed = object(folder.path(), &["stats", "jittery.pcapng", "--timing", "--as", "ndjson"]);
        let timing = summed["timing"].as_array().unwrap().iter();
        let timing = timing.clone().find(|one| one["node"] == 3 && one["message"] == "GateStatus").unwrap();
        let jitter = timing["jitter"].as_u64().unwrap();
        assert!(jitter.abs_diff(expected) <= expected / 100, "{seed}: {jitter}, not {expected}");
        assert!(expected > 1_000_000 && expected <= 6_000_000, "{seed}: {expected}");
        compared += periods.len();
    }
    assert!(compared > 5_000, "{compared}");
}
