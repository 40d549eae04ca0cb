//! The tables of a trial's results.

use emberwort_link::TrialDefinitionId;
use emberwort_link::{MessageNumber, ReceptionAccount, Report, Scenario};
use emberwort_model::diagnostics::escaped;
use emberwort_model::hex::hex;
use emberwort_rows::{Paint, time};

use super::names::{channel, kinds};
use crate::output::Look;
use crate::render::{plural, table, wrapped};

fn heard_line(who: &str, heard: &ReceptionAccount) -> String {
    let unread = match heard.unread {
        0 => String::new(),
        frames => format!(", {} in {frames} unread", heard.unread_bytes),
    };
    format!(
        "{who} received {}: {} in {}{unread}, {} in {} broken, {} stray",
        plural(heard.input, "byte"),
        heard.good_bytes,
        plural(heard.good, "good frame"),
        heard.broken_bytes,
        heard.broken,
        heard.stray_bytes
    )
}

/// What came of a trial, for people.
pub fn tables(scenario: &Scenario, report: &Report, look: Look) -> String {
    let mut out = String::new();
    for line in scenario.about.trim().lines() {
        out.push_str(&format!("{}\n", look.paint(Paint::Dim, wrapped(&escaped(line)))));
    }
    let about = format!(
        "{} for {} of virtual time, seed {}, {}",
        channel(scenario).name,
        time::duration(scenario.span),
        scenario.seed,
        plural(scenario.devices.len(), "device")
    );
    out.push_str(&format!("{}\n\n", wrapped(&about)));
    if scenario.definitions.all().len() > 1 {
        let revision = |index: TrialDefinitionId| scenario.definitions.get(index).plan.link.revision;
        let mut who = vec![format!("the host has revision {}", revision(scenario.host))];
        who.extend(scenario.devices.iter().map(|device| format!("node {} has {}", device.node, device.revision)));
        out.truncate(out.len() - 1);
        out.push_str(&format!("{}\n\n", wrapped(&who.join(", "))));
    }
    let titles = ["message", "from", "node", "sent", "received", "damaged", "lost"];
    let mut grid = table::table(&titles, &[false, false, true, true, true, true, true]);
    for (message, node) in kinds(report) {
        let count = |counts: &std::collections::BTreeMap<(MessageNumber, u64), u64>| {
            counts.get(&(message, node)).copied().unwrap_or(0).to_string()
        };
        let (name, from) = scenario.definitions.message(message);
        grid.add_row([
            name,
            from.as_str(),
            &node.to_string(),
            &count(&report.sent),
            &count(&report.received),
            &count(&report.damaged),
            &count(&report.lost),
        ]);
    }
    out.push_str(&grid.lines());
    out.push('\n');
    let mut said = vec![heard_line("the host", &report.host), heard_line("each device", &report.device())];
    if report.host.gaps > 0 {
        let (gaps, numbers) = (plural(report.host.gaps, "counter gap"), plural(report.host.missing, "number"));
        said.push(format!("the host saw {gaps}, with {numbers} left out by lost frames and restarts"));
    }
    if report.host.jumps_back > 0 {
        let jumps = plural(report.host.jumps_back, "time");
        said.push(format!("counters went back {jumps}: repeated frames, or a device that restarted"));
    }
    if report.retries > 0 {
        said.push(format!("{} sent once more, as nobody had answered", plural(report.retries, "request")));
    }
    if report.repeated > 0 {
        said.push(format!("{} came more than once", plural(report.repeated, "good frame")));
    }
    for sentence in said {
        out.push_str(&format!("{}\n", wrapped(&sentence)));
    }
    if !report.between.is_empty() {
        out.push_str("\nwhole frames between ends of different revisions, besides those that are fine:\n");
        let titles = ["message", "from", "node", "frames", "verdict", "what becomes of it"];
        let mut grid = table::table(&titles, &[false, false, true, true, false, false]);
        for ((message, node, verdict), found) in &report.between {
            let (name, from) = scenario.definitions.message(*message);
            let (node, frames) = (node.to_string(), found.frames.to_string());
            grid.add_row([name, from.as_str(), &node, &frames, verdict.as_str(), &found.sentence]);
        }
        let lines = grid.lines();
        let mut lines = lines.lines();
        out.push_str(&format!("{}\n", lines.next().unwrap_or_default()));
        let mut verdicts = report.between.keys().map(|(_, _, verdict)| verdict);
        for line in lines {
            // Further lines of a row begin with blanks; the columns that follow below have the rows once more.
            let verdict = if line.starts_with(' ') { None } else { verdicts.next() };
            let stranding = verdict.filter(|verdict| verdict.strands()).map(|verdict| verdict.as_str());
            let painted = stranding.map(|name| line.replacen(name, &look.paint(Paint::Bad, name), 1));
            out.push_str(&format!("{}\n", painted.as_deref().unwrap_or(line)));
        }
    }
    // Those that a revision explains stand in the table.
    if let Some(first) = report.wrong_examples.iter().find(|wrong| !wrong.sentence.is_empty()) {
        let (name, when) = (scenario.definitions.message(first.message).0, time::duration(first.time));
        let line = format!("the first that is misread, {when} after the start: {name}: {}", hex(&first.bytes));
        out.push_str(&format!("{}\n", wrapped(&line)));
    }
    for wrong in report.wrong_examples.iter().filter(|wrong| wrong.sentence.is_empty()).take(5) {
        let line = format!(
            "wrong value in a good frame, {} after the start: {}: {}",
            time::duration(wrong.time),
            scenario.definitions.message(wrong.message).0,
            hex(&wrong.bytes)
        );
        out.push_str(&format!("{}\n", look.paint(Paint::Bad, wrapped(&line))));
    }
    if report.verdicts.is_empty() {
        out.push_str("\nthe trial has no `must`, so nothing is checked\n");
        return out;
    }
    out.push('\n');
    let mut grid = table::table(&["result", "must hold", "found"], &[false, false, false]);
    for verdict in &report.verdicts {
        let result = if verdict.held() { "held" } else { "FAILED" };
        grid.add_row([result, &escaped(&verdict.sentence), &verdict.found]);
    }
    for line in grid.lines().lines() {
        let painted = match line.split(' ').next() {
            Some("held") => line.replacen("held", &look.paint(Paint::Good, "held"), 1),
            Some("FAILED") => line.replacen("FAILED", &look.paint(Paint::Bad, "FAILED"), 1),
            _ => line.to_owned(),
        };
        out.push_str(&painted);
        out.push('\n');
    }
    out
}
