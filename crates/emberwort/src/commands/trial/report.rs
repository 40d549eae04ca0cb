//! The results of a trial as a file for others: JUnit XML, NDJSON, Markdown, HTML.

use std::fmt::Write as _;
use std::path::Path;
use std::time::Duration;

use anyhow::bail;
use emberwort_document::figure::xml;
use emberwort_link::{Report, Scenario};
use emberwort_model::diagnostics::escaped;
use emberwort_rows::time;
use emberwort_text::json::safe_text;
use quick_junit::{NonSuccessKind, Report as JunitReport, TestCase, TestCaseStatus, TestSuite};
use serde_json::json;

use super::names::{channel, kinds};
use super::story::Story;
use crate::files::{self, Replace};

/// Writes the results in the form that the file's ending says.
pub fn write(path: &Path, trial: &Path, scenario: &Scenario, report: &Report, stories: &[Story]) -> anyhow::Result<()> {
    let told = JsonReport { name: trial.display().to_string(), scenario, report, stories };
    let text = match path.extension().and_then(|ending| ending.to_str()) {
        Some("xml") => told.junit()?,
        Some("ndjson") => told.ndjson(),
        Some("md") => told.markdown(),
        Some("html") => told.html(),
        _ => bail!("{} has none of the endings .xml, .ndjson, .md and .html", files::shown(path)),
    };
    files::write_file(path, text.as_bytes(), Replace::No)
}

struct JsonReport<'a> {
    name: String,
    scenario: &'a Scenario,
    report: &'a Report,
    stories: &'a [Story],
}

/// Frames of one message and node: sent, received, damaged, lost.
struct MessageCounts<'a> {
    message: &'a str,
    from: &'a str,
    node: u64,
    counts: [u64; 4],
}

const COUNTS: [&str; 4] = ["sent", "received", "damaged", "lost"];

impl JsonReport<'_> {
    fn counted(&self) -> Vec<MessageCounts<'_>> {
        let all = [&self.report.sent, &self.report.received, &self.report.damaged, &self.report.lost];
        kinds(self.report)
            .map(|key| {
                let (message, from) = self.scenario.definitions.message(key.0);
                let counts = all.map(|counts| counts.get(&key).copied().unwrap_or(0));
                MessageCounts { message, from: from.as_str(), node: key.1, counts }
            })
            .collect()
    }

    fn about(&self) -> String {
        format!(
            "{} for {} of virtual time, seed {}",
            channel(self.scenario).name,
            time::duration(self.scenario.span),
            self.scenario.seed
        )
    }

    /// The story of a sentence that failed.
    fn story(&self, sentence: &str) -> Option<Vec<String>> {
        self.stories.iter().find(|story| story.verdict.sentence == sentence).map(|story| story.lines(None))
    }

    /// The form that build servers read (the schema of the Apache Ant JUnit task).
    fn junit(&self) -> anyhow::Result<String> {
        let mut suite = TestSuite::new(escaped(&self.name));
        for verdict in &self.report.verdicts {
            let status = if verdict.held() {
                TestCaseStatus::success()
            } else {
                let mut failed = TestCaseStatus::non_success(NonSuccessKind::Failure);
                failed.set_message(escaped(&verdict.found));
                let mut body = vec![format!("expected: {}", verdict.sentence), format!("found:    {}", verdict.found)];
                body.extend(self.story(&verdict.sentence).unwrap_or_default());
                failed.set_description(body.iter().map(|line| escaped(line)).collect::<Vec<_>>().join("\n"));
                failed
            };
            let mut case = TestCase::new(escaped(&verdict.sentence), status);
            case.set_classname(escaped(&channel(self.scenario).name));
            suite.add_test_case(case);
        }
        suite.set_time(Duration::from_nanos(self.report.ended));
        let mut whole = JunitReport::new("emberwort trial");
        // The same trial gives the same file.
        whole.uuid = None;
        whole.timestamp = None;
        whole.add_test_suite(suite);
        Ok(whole.to_string()?)
    }

    fn ndjson(&self) -> String {
        let mut out = String::new();
        for MessageCounts { message, from, node, counts } in self.counted() {
            let [sent, received, damaged, lost] = counts;
            let row = json!({"message": message, "direction": from, "node": node, "sent": sent, "received": received, "damaged": damaged, "lost": lost});
            let _ = writeln!(out, "{}", safe_text(&row));
        }
        for verdict in &self.report.verdicts {
            let story = self.story(&verdict.sentence);
            let row = json!({"must": verdict.sentence, "held": verdict.held(), "found": verdict.found, "at_ns": verdict.at, "story": story});
            let _ = writeln!(out, "{}", safe_text(&row));
        }
        let last = json!({"trial": self.name, "channel": channel(self.scenario).name, "seed": self.scenario.seed, "ended_ns": self.report.ended, "passed": self.report.passed()});
        let _ = writeln!(out, "{}", safe_text(&last));
        out
    }

    fn markdown(&self) -> String {
        let cell = |text: &str| escaped(text).replace('\\', "\\\\").replace('|', "\\|").replace('<', "&lt;");
        let mut out = format!("# {}: {}\n\n", cell(&self.name), if self.report.passed() { "passed" } else { "failed" });
        let about: Vec<String> = self.scenario.about.trim().lines().map(cell).collect();
        let _ = writeln!(out, "{}\n\n{}\n", about.join("\n"), cell(&self.about()));
        let _ = writeln!(out, "| result | must hold | found |\n| --- | --- | --- |");
        for verdict in &self.report.verdicts {
            let result = if verdict.held() { "held" } else { "**failed**" };
            let _ = writeln!(out, "| {result} | {} | {} |", cell(&verdict.sentence), cell(&verdict.found));
        }
        let _ = writeln!(
            out,
            "\n| message | from | node | sent | received | damaged | lost |\n| --- | --- | ---: | ---: | ---: | ---: | ---: |"
        );
        for MessageCounts { message, from, node, counts } in self.counted() {
            let counts: Vec<String> = counts.iter().map(u64::to_string).collect();
            let _ = writeln!(out, "| {} | {from} | {node} | {} |", cell(message), counts.join(" | "));
        }
        for story in self.stories {
            let _ = writeln!(
                out,
                "\n## Why \"{}\" failed\n\n{}\n",
                cell(&story.verdict.sentence),
                cell(&story.verdict.found)
            );
            for line in story.lines(None) {
                let _ = writeln!(out, "    {}", escaped(&line));
            }
        }
        out
    }

    fn html(&self) -> String {
        let passed = self.report.passed();
        let mut out = format!(
            "<!doctype html>\n<html lang=\"en\">\n<meta charset=\"utf-8\">\n<meta name=\"viewport\" content=\"width=device-width\">\n\
             <title>{}</title>\n<style>{STYLE}</style>\n<h1>{}: <span class=\"{}\">{}</span></h1>\n",
            xml(&self.name),
            xml(&self.name),
            if passed { "held" } else { "failed" },
            if passed { "passed" } else { "failed" }
        );
        let about: Vec<String> = self.scenario.about.trim().lines().map(xml).collect();
        let _ = writeln!(out, "<p>{}</p>\n<p class=\"dim\">{}</p>", about.join("<br>"), xml(&self.about()));
        let _ = writeln!(out, "<h2>What must hold</h2>\n<table>\n<tr><th>result<th>must hold<th>found</tr>");
        for verdict in &self.report.verdicts {
            let (class, result) = if verdict.held() { ("held", "held") } else { ("failed", "FAILED") };
            let (sentence, found) = (xml(&verdict.sentence), xml(&verdict.found));
            let _ = writeln!(out, "<tr><td class=\"{class}\">{result}<td>{sentence}<td>{found}</tr>");
        }
        let _ = writeln!(out, "</table>");
        for story in self.stories {
            let lines: Vec<String> = story.lines(None).iter().map(|line| xml(line)).collect();
            let _ = writeln!(
                out,
                "<h2>Why “{}” failed</h2>\n<pre>{}</pre>",
                xml(&story.verdict.sentence),
                lines.join("\n")
            );
        }
        let _ = writeln!(
            out,
            "<h2>Frames</h2>\n<table>\n<tr><th>message<th>from<th class=\"n\">node{}<th></tr>",
            COUNTS.map(|title| format!("<th class=\"n\">{title}")).concat()
        );
        let counted = self.counted();
        let most = counted.iter().map(|one| one.counts[0]).max().unwrap_or(1).max(1);
        for MessageCounts { message, from, node, counts } in &counted {
            let cells: String = counts.iter().map(|count| format!("<td class=\"n\">{count}")).collect();
            let _ = writeln!(
                out,
                "<tr><td>{}<td>{from}<td class=\"n\">{node}{cells}<td>{}</tr>",
                xml(message),
                bar(*counts, most)
            );
        }
        let _ =
            writeln!(out, "</table>\n<p class=\"dim\">Bars: received, then lost; the longest is {most} frames.</p>");
        self.answers(&mut out);
        out + "</html>\n"
    }

    fn answers(&self, out: &mut String) {
        if self.report.answers.is_empty() {
            return;
        }
        let _ = writeln!(
            out,
            "<h2>Answers</h2>\n<table>\n<tr><th>request<th class=\"n\">sent<th class=\"n\">answered<th class=\"n\">median<th class=\"n\">99 %<th class=\"n\">slowest</tr>"
        );
        for (message, all) in &self.report.answers {
            let time = |time: Option<u64>| time.map_or_else(String::new, time::duration);
            let _ = writeln!(
                out,
                "<tr><td>{}<td class=\"n\">{}<td class=\"n\">{}<td class=\"n\">{}<td class=\"n\">{}<td class=\"n\">{}</tr>",
                xml(self.scenario.definitions.message(*message).0),
                all.asked,
                all.answered,
                time(all.quantile(0.5)),
                time(all.quantile(0.99)),
                time(all.slowest)
            );
        }
        let _ = writeln!(out, "</table>");
    }
}

/// Width of the longest bar in pixels.
const BAR: f64 = 260.0;

/// What became of the frames of one kind, as a bar: the parts differ in lightness, too.
fn bar(counts: [u64; 4], most: u64) -> String {
    let [_, received, _, lost] = counts;
    let mut at = 0.0;
    let mut parts = String::new();
    for (count, fill) in [(received, "#7fb3dd"), (lost, "#7a1520")] {
        // What there is can be seen, however little it is.
        let width = if count == 0 { 0.0 } else { (count as f64 / most as f64 * BAR).max(2.0) };
        let _ = write!(parts, "<rect x=\"{at:.1}\" y=\"2\" width=\"{width:.1}\" height=\"12\" fill=\"{fill}\"/>");
        at += width;
    }
    format!("<svg width=\"{:.0}\" height=\"16\" role=\"img\">{parts}</svg>", BAR + 8.0)
}

const STYLE: &str = "body{font:16px/1.45 sans-serif;max-width:70em;margin:2em auto;padding:0 1em;color:#16181b;background:#fff}\
    h1{font-size:1.5em}h2{font-size:1.15em;margin-top:1.8em}table{border-collapse:collapse}\
    td,th{padding:.25em .9em .25em 0;text-align:left;border-bottom:1px solid #d9dcdf;vertical-align:top}\
    th{font-weight:600}.n{text-align:right}.held{color:#1a6b2c;font-weight:600}.failed{color:#a3121f;font-weight:700}\
    .dim{color:#5b6168}pre{background:#f3f4f5;padding:1em;overflow-x:auto;font-size:.86em}\
    @media(prefers-color-scheme:dark){body{background:#16181b;color:#e6e8ea}td,th{border-color:#3a3f45}pre{background:#22262a}\
    .held{color:#7fd694}.failed{color:#ff8b8b}.dim{color:#9aa1a8}}";
