//! The results of a trial as one JSON object.

use emberwort_link::{MessageNumber, ReceptionAccount, Report, Scenario};
use serde_json::{Map, Value as Json, json};

use super::names::{channel, kinds};

/// What came of a trial.
pub fn as_json(scenario: &Scenario, report: &Report) -> Json {
    let frames: Vec<Json> = kinds(report)
        .map(|key| {
            let count =
                |counts: &std::collections::BTreeMap<(MessageNumber, u64), u64>| counts.get(&key).copied().unwrap_or(0);
            let (name, from) = scenario.definitions.message(key.0);
            json!({
                "message": name, "direction": from.as_str(), "node": key.1, "sent": count(&report.sent),
                "received": count(&report.received), "damaged": count(&report.damaged), "lost": count(&report.lost),
            })
        })
        .collect();
    let heard = |heard: &ReceptionAccount| {
        json!({
            "bytes": {
                "input": heard.input, "good": heard.good_bytes, "unread": heard.unread_bytes, "broken": heard.broken_bytes,
                "stray": heard.stray_bytes,
            },
            "frames": {"good": heard.good, "unread": heard.unread, "broken": heard.broken},
        })
    };
    let between = report.between.iter().map(|((message, node, verdict), found)| {
        let (name, from) = scenario.definitions.message(*message);
        json!({
            "message": name, "direction": from.as_str(), "node": node, "frames": found.frames, "verdict": verdict.as_str(),
            "sentence": found.sentence,
        })
    });
    let between: Vec<Json> = between.collect();
    let revisions = json!({
        "host": scenario.definitions.get(scenario.host).plan.link.revision,
        "devices": scenario.devices.iter().map(|device| (device.node.to_string(), json!(device.revision))).collect::<Map<_, _>>(),
    });
    let answers = report.answers.iter().map(|(message, all)| {
        json!({
            "message": scenario.definitions.message(*message).0, "sent": all.asked, "answered": all.answered,
            "median_ns": all.quantile(0.5), "p99_ns": all.quantile(0.99), "slowest_ns": all.slowest,
        })
    });
    let answers: Vec<Json> = answers.collect();
    let verdicts: Vec<Json> = report
        .verdicts
        .iter()
        .map(|verdict| json!({"must": verdict.sentence, "held": verdict.held(), "found": verdict.found}))
        .collect();
    json!({
        "channel": channel(scenario).name, "seed": scenario.seed, "passed": report.passed(),
        "revisions": revisions, "between_revisions": between, "frames": frames, "host": heard(&report.host), "device": heard(&report.device()),
        "gaps": report.host.gaps, "missing": report.host.missing, "jumps_back": report.host.jumps_back, "repeated": report.repeated,
        "retries": report.retries, "wrong": report.wrong, "answers": answers,
        "must": verdicts,
    })
}
