//! `trial`: runs a scripted trial in virtual time.

use std::io::Write;
use std::path::Path;

use anyhow::bail;
use emberwort_capture::Recorder;
use emberwort_link::{Heard, Report, Scenario};
use emberwort_model::diagnostics::escaped;
use emberwort_model::hex::hex;
use emberwort_model::plan::Channel;
use emberwort_wire::Chunk;
use serde_json::{Map, Value as Json, json};

use super::ending::Ending;
use super::scenario;
use super::speakers::revisions_in_trial;
use crate::cli::{TableForm, TrialArgs};
use crate::files::PendingFile;
use crate::output::{self, Look, Paint, Progress, say};
use crate::project::{Project, load_plan_of};
use crate::render::{plural, table, time, wrapped};

pub fn run(args: &TrialArgs, link: Option<&Path>, look: Look) -> anyhow::Result<Ending> {
    let project = Project::find(link)?;
    let plan = load_plan_of(&project.definition, look)?;
    let host = args.host.as_deref();
    let (revisions, is_whole) = revisions_in_trial(&args.speakers, host, &project.definition, &plan, look)?;
    let scenario::Trial { scenario, .. } = scenario::read(&args.file, &plan, &revisions, args.seed)?;
    if let Some(path) = args.record.as_ref().filter(|path| path.exists()) {
        bail!(
            "{} exists already, and nothing is overwritten\nchoose another name with --record, or move the file away",
            crate::files::shown(path)
        );
    }
    output::catch_interrupt();
    let own = scenario.definitions.get(0);
    let record = |path: &Path| anyhow::Ok(Recorder::new(PendingFile::new(path)?, &own.plan, &[own.channel])?);
    let recorder = args.record.as_deref().map(record).transpose()?;
    let mut watch = Watcher { recorder, failed: None, progress: Progress::new(scenario.span) };
    let report = emberwort_link::run(&scenario, &mut watch);
    watch.progress.end();
    if let Some(error) = watch.failed {
        return Err(error);
    }
    if let Some(recorder) = watch.recorder {
        recorder.finish()?.commit(false)?;
    }
    let mut out = output::stdout();
    match args.form {
        TableForm::Table => out.write_all(tables(&scenario, &report, look).as_bytes())?,
        TableForm::Ndjson => writeln!(out, "{}", as_json(&scenario, &report))?,
    }
    out.flush()?;
    if let Some(path) = &args.record {
        say!("what each side received is in {}", crate::files::shown(path));
    }
    if let Some(at) = report.overrun {
        say!(
            "{} {} after its start the trial was given up: 100,000 frames wait for the wire, which is too slow for what is sent\n\
             send less often, take a shorter span, or a faster medium",
            look.paint_err(Paint::Bad, "finding:"),
            time::duration(at)
        );
    }
    if output::interrupted() {
        say!(
            "interrupted {} after the start of the trial; this is what had happened until then",
            time::duration(report.ended)
        );
        return Ok(Ending::WithFindings);
    }
    Ok(if report.passed() && is_whole { Ending::Clean } else { Ending::WithFindings })
}

/// Records, shows how far the trial has come, and ends it where it must end.
struct Watcher {
    recorder: Option<Recorder<PendingFile>>,
    /// Why recording failed.
    failed: Option<anyhow::Error>,
    progress: Progress,
}

impl emberwort_link::Watch for Watcher {
    fn goes_on(&mut self, now: u64) -> bool {
        self.progress.at(now);
        self.failed.is_none() && !output::interrupted()
    }

    fn received(&mut self, chunk: &Chunk<'_>) {
        if let (Some(recorder), None) = (&mut self.recorder, &self.failed) {
            self.failed = recorder.chunk(chunk).err().map(anyhow::Error::from);
        }
    }
}

/// The channel as the link's own definition has it.
fn channel(scenario: &Scenario) -> &Channel {
    let own = scenario.definitions.get(0);
    &own.plan.channels[own.channel]
}

/// Message and node of every kind of frame that was sent, in the order of the definition.
fn kinds(report: &Report) -> impl Iterator<Item = (usize, u64)> {
    report.sent.keys().copied()
}

fn heard_line(who: &str, heard: &Heard) -> String {
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

fn tables(scenario: &Scenario, report: &Report, look: Look) -> String {
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
        let revision = |index: usize| scenario.definitions.get(index).plan.link.revision;
        let mut who = vec![format!("the host has revision {}", revision(scenario.host))];
        who.extend(scenario.devices.iter().map(|device| format!("node {} has {}", device.node, device.revision)));
        out.truncate(out.len() - 1);
        out.push_str(&format!("{}\n\n", wrapped(&who.join(", "))));
    }
    let titles = ["message", "from", "node", "sent", "received", "damaged", "lost"];
    let mut grid = table::table(&titles, &[false, false, true, true, true, true, true]);
    for (message, node) in kinds(report) {
        let count = |counts: &std::collections::BTreeMap<(usize, u64), u64>| {
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
        let result = if verdict.held { "held" } else { "FAILED" };
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

fn as_json(scenario: &Scenario, report: &Report) -> Json {
    let frames: Vec<Json> = kinds(report)
        .map(|key| {
            let count = |counts: &std::collections::BTreeMap<(usize, u64), u64>| counts.get(&key).copied().unwrap_or(0);
            let (name, from) = scenario.definitions.message(key.0);
            json!({
                "message": name, "direction": from.as_str(), "node": key.1, "sent": count(&report.sent),
                "received": count(&report.received), "damaged": count(&report.damaged), "lost": count(&report.lost),
            })
        })
        .collect();
    let heard = |heard: &Heard| {
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
        .map(|verdict| json!({"must": verdict.sentence, "held": verdict.held, "found": verdict.found}))
        .collect();
    json!({
        "channel": channel(scenario).name, "seed": scenario.seed, "passed": report.passed(),
        "revisions": revisions, "between_revisions": between, "frames": frames, "host": heard(&report.host), "device": heard(&report.device()),
        "gaps": report.host.gaps, "missing": report.host.missing, "jumps_back": report.host.jumps_back, "repeated": report.repeated,
        "retries": report.retries, "wrong": report.wrong, "answers": answers,
        "must": verdicts,
    })
}
