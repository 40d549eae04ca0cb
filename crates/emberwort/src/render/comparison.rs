//! Two revisions against each other, for people, for machines, and as a release note.

use std::fmt::Write;

use emberwort_evolution::prove::Proof;
use emberwort_evolution::{Change, Comparison, Judgement, Order, Pair, Remedy, Verdict};
use emberwort_model::diagnostics::escaped;
use emberwort_model::hex::hex;
use emberwort_rows::Paint;
use serde_json::{Map, Value as Json, json};
use similar::{ChangeTag, TextDiff};

use super::{plural, wrapped_under};
use crate::output::Look;

/// All that there is to say.
pub struct Report<'a> {
    /// The link.
    pub link: &'a str,
    /// The comparison.
    pub comparison: &'a Comparison,
    /// The last sealed revision, if the new one has the number of a sealed one and is not the same.
    pub edited_after_sealing: Option<u32>,
    /// What to write instead.
    pub remedies: &'a [Remedy],
    /// For each change, why it is accepted all the same.
    pub allowed: &'a [Option<String>],
    /// In which order both ends can be updated.
    pub order: Order,
    /// The channels whose frames say the sender's revision, and those whose frames do not.
    pub channels: (Vec<String>, Vec<String>),
    /// The number of the new revision.
    pub revision: u32,
    /// Who has which revision.
    pub fleet: Option<&'a [FleetRow]>,
    /// What strands devices or hosts of still earlier sealed revisions, beyond what strands those of the old one.
    pub earlier: &'a [Earlier],
    /// What the experiment says.
    pub proof: Option<&'a Proof>,
}

/// An earlier sealed revision.
#[derive(Clone, Debug)]
pub struct Earlier {
    /// Its number.
    pub revision: u32,
    /// The differences that strand its devices or hosts, and what happens.
    pub strands: Vec<(String, String)>,
}

/// The devices of one revision.
#[derive(Clone, Debug)]
pub struct FleetRow {
    /// Their revision.
    pub revision: u32,
    /// How many there are.
    pub devices: usize,
    /// How many of them cannot be updated.
    pub fixed: usize,
    /// How they get along with a host of the new revision: what they send it, and what it sends them.
    pub with_new_host: [Verdict; 2],
}

impl Report<'_> {
    /// Whether a change would strand units, and nobody accepted that.
    pub fn strands(&self) -> bool {
        self.open().next().is_some() || self.earlier.iter().any(|one| !one.strands.is_empty())
    }

    fn open(&self) -> impl Iterator<Item = &Change> {
        let changes = self.comparison.changes.iter().zip(self.allowed);
        changes.filter(|(change, allowed)| change.worst().strands() && allowed.is_none()).map(|(change, _)| change)
    }

    /// That a sealed revision was edited under its number.
    fn said_of_edit(&self) -> Option<String> {
        let last = self.edited_after_sealing?;
        let (revision, next) = (self.revision, last + 1);
        Some(format!(
            "revision {revision} is sealed, with another content: write `revision {next}` into the link before this is released"
        ))
    }

    /// The changes with their index, the worst first.
    fn sorted(&self) -> Vec<(usize, &Change)> {
        let mut all: Vec<(usize, &Change)> = self.comparison.changes.iter().enumerate().collect();
        let rank = |(index, change): &(usize, &Change)| {
            let worst = change.worst();
            // Those that are accepted strand nobody.
            if worst.strands() && self.allowed[*index].is_none() {
                0
            } else if worst.strands() {
                1
            } else {
                2
            }
        };
        all.sort_by_key(|entry| (rank(entry), std::cmp::Reverse(entry.1.worst().min(Verdict::FineWithLoss))));
        all
    }

    /// What happens on the way to the new revision, sentence by sentence.
    fn rollout(&self) -> Vec<String> {
        let new = self.revision;
        let worst = |pairs: &[Pair]| pairs.iter().map(|pair| self.comparison.worst(*pair)).max().unwrap_or_default();
        let how = |pairs: &[Pair]| match worst(pairs) {
            Verdict::Fine => "nothing is lost",
            _ => "some is lost, as said above",
        };
        let units = |rows: &[FleetRow]| plural(rows.iter().map(|row| row.devices).sum::<usize>(), "device");
        let devices = self.fleet.map_or_else(|| "the devices".to_owned(), |rows| format!("the {}", units(rows)));
        let on_the_way = if self.order == Order::Either { how(&Pair::ALL) } else { how(self.order.on_the_way()) };
        match self.order {
            Order::Either => vec![
                format!("either end can be updated first; on the way {on_the_way}"),
                format!("old and new may stay beside each other; {devices} can follow when it suits"),
            ],
            Order::HostFirst => vec![
                format!("1. update every host: it gets along with devices as they are, {on_the_way}"),
                format!("2. update {devices}, one by one"),
                format!("the host keeps what old devices need until the last one has revision {new}"),
                "no device before the last host: an old host does not get along with new devices".to_owned(),
            ],
            Order::DevicesFirst => vec![
                format!("1. update {devices}, one by one: they get along with the host as it is, {on_the_way}"),
                "2. update the hosts".to_owned(),
                format!("devices keep what old hosts need until the last host has revision {new}"),
                "no host before the last device: a new host does not get along with old devices".to_owned(),
            ],
            Order::AtOnce => {
                let mut said = vec![format!(
                    "neither end can go first: update the hosts and {devices} while nothing is sent, or change it as shown above"
                )];
                let (with, without) = &self.channels;
                if !without.is_empty() {
                    said.push(format!(
                        "frames on {} do not say the sender's revision: with a part such as `rev : u8 revision` from the start, a receiver \
                         could refuse what it does not know instead of misreading it",
                        without.join(", ")
                    ));
                }
                if !with.is_empty() {
                    said.push(format!(
                        "frames on {} say the sender's revision: a receiver that checks it can tell both apart",
                        with.join(", ")
                    ));
                }
                said
            }
            Order::Never => vec![
                "there are devices that cannot be updated, and a new host does not get along with them".to_owned(),
                "keep a host of their revision for them, or change it as shown above".to_owned(),
            ],
        }
    }
}

/// For people.
pub fn table(report: &Report<'_>, look: Look) -> String {
    let comparison = report.comparison;
    let heading = format!("{}: {} → {}", report.link, escaped(&comparison.old), escaped(&comparison.new));
    let mut text = wrapped_under(&heading, "  ") + "\n";
    if let Some(said) = report.said_of_edit() {
        let _ = writeln!(text, "{}", look.paint(Paint::Bad, wrapped_under(&said, "  ")));
    }
    let mut title = "";
    let mut shown: Vec<*const Remedy> = Vec::new();
    for (index, change) in report.sorted() {
        let allowed = report.allowed[index].as_ref();
        let heading = match (change.worst(), allowed) {
            (Verdict::Fine, _) => "harmless",
            (Verdict::FineWithLoss, _) => "works, with loss",
            (_, Some(_)) => "accepted",
            _ => "strands devices or hosts",
        };
        if heading != title {
            title = heading;
            let paint = if heading.starts_with("strands") { Paint::Bad } else { Paint::Bold };
            let _ = write!(text, "\n{}\n", look.paint(paint, heading));
        }
        text.push_str(&one(report, index, change, look, &mut shown));
    }
    if comparison.changes.is_empty() {
        text.push_str("\nnothing differs that either end could notice\n");
    }
    if !comparison.changes.is_empty() {
        let _ = write!(text, "\n{}\n", look.paint(Paint::Bold, format!("rollout: {}", report.order.as_str())));
        for sentence in report.rollout() {
            let _ = writeln!(text, "{}", wrapped_under(&format!("  {sentence}"), "    "));
        }
    }
    if !report.earlier.is_empty() {
        text.push('\n');
        text.push_str(&earlier(report.earlier, look));
    }
    if let Some(rows) = report.fleet {
        text.push('\n');
        text.push_str(&fleet(rows));
    }
    if let Some(proof) = report.proof {
        text.push('\n');
        text.push_str(&proved(proof, look));
    }
    text
}

fn one(report: &Report<'_>, index: usize, change: &Change, look: Look, shown: &mut Vec<*const Remedy>) -> String {
    let difference = &change.difference;
    let mut text = format!("  {}\n", escaped(&difference.heading()));
    for (word, value) in [("was", &difference.old), ("is", &difference.new)] {
        if !value.is_empty() {
            let _ = writeln!(text, "{}", wrapped_under(&format!("    {word:<4} {}", escaped(value)), "         "));
        }
    }
    for pair in Pair::ALL {
        let judgement = change.judgement(pair);
        if judgement.verdict == Verdict::Fine {
            continue;
        }
        let verdict = format!("{:<14}", judgement.verdict.as_str());
        let verdict = if judgement.verdict.strands() { look.paint(Paint::Bad, verdict) } else { verdict };
        let line = format!("    {}  {verdict}  {}", pair.as_str(), escaped(&judgement.sentence));
        let _ = writeln!(text, "{}", wrapped_under(&line, &" ".repeat(43)));
        if let Some(example) = judgement.example.as_ref().filter(|_| judgement.verdict.strands()) {
            let key = example.key_text.as_ref().map_or_else(String::new, |key| format!(", key {key}"));
            let request = example
                .request
                .as_ref()
                .map_or_else(String::new, |request| format!(", asked for with {}", hex(request)));
            let line = format!("{}{} on {}{key}{request}", " ".repeat(43), example.hex(), example.channel);
            let _ = writeln!(text, "{}", look.paint(Paint::Dim, wrapped_under(&line, &" ".repeat(43))));
        }
    }
    if let Some(reason) = &report.allowed[index] {
        let _ = writeln!(text, "{}", wrapped_under(&format!("    accepted: {}", escaped(reason)), "      "));
        return text;
    }
    if let Some(way) = report.remedies.iter().find(|way| way.changes.contains(&index)) {
        if shown.contains(&std::ptr::from_ref(way)) {
            text.push_str("    instead: as above\n");
            return text;
        }
        shown.push(std::ptr::from_ref(way));
        let _ = writeln!(text, "{}", wrapped_under(&format!("    instead: {}", escaped(&way.sentence)), "      "));
        for line in lines_of(way) {
            let paint = if line.starts_with('+') { Paint::Good } else { Paint::Dim };
            let _ = writeln!(text, "      {}", look.paint(paint, escaped(&line)));
        }
    }
    text
}

/// The lines that a way out takes out (`-`) and puts in (`+`), with what stands around them.
fn lines_of(remedy: &Remedy) -> Vec<String> {
    let mut lines = Vec::new();
    for item in &remedy.items {
        let before = emberwort_model::tidy::tidy(&item.before).unwrap_or_else(|_| item.before.clone());
        // Columns that move are no change.
        let words =
            |text: &str| text.lines().map(|line| line.split_whitespace().collect::<Vec<_>>().join(" ")).collect();
        let (old, new): (Vec<String>, Vec<String>) = (words(&before), words(&item.text));
        let (old_lines, new_lines): (Vec<&str>, Vec<&str>) = (before.lines().collect(), item.text.lines().collect());
        let (old, new): (Vec<&str>, Vec<&str>) =
            (old.iter().map(String::as_str).collect(), new.iter().map(String::as_str).collect());
        let diff = TextDiff::from_slices(&old, &new);
        if item.before.is_empty() {
            lines.extend(item.text.lines().map(|line| format!("+ {line}")));
            continue;
        }
        lines.push(format!("  {} {}", item.keyword, item.name));
        for change in diff.iter_all_changes() {
            let (sign, line) = match (change.tag(), change.old_index(), change.new_index()) {
                (ChangeTag::Delete, Some(at), _) => ('-', old_lines[at]),
                (ChangeTag::Insert, _, Some(at)) => ('+', new_lines[at]),
                _ => continue,
            };
            if !line.trim().is_empty() {
                lines.push(format!("{sign} {}", line.trim_end()));
            }
        }
    }
    lines
}

/// What is to say of revisions before the old one.
fn earlier(all: &[Earlier], look: Look) -> String {
    let (well, badly): (Vec<&Earlier>, Vec<&Earlier>) = all.iter().partition(|one| one.strands.is_empty());
    let mut text = String::new();
    if !well.is_empty() {
        let numbers: Vec<String> = well.iter().map(|one| one.revision.to_string()).collect();
        let what = if numbers.len() == 1 { "revision" } else { "revisions" };
        let _ = writeln!(text, "earlier {what} {}: nothing else strands them", numbers.join(", "));
    }
    for one in badly {
        let _ =
            writeln!(text, "{}", look.paint(Paint::Bad, format!("revision {} would be stranded, too", one.revision)));
        for (difference, sentence) in &one.strands {
            let line = format!("  {}: {}", escaped(difference), escaped(sentence));
            let _ = writeln!(text, "{}", wrapped_under(&line, "    "));
        }
    }
    text
}

fn fleet(rows: &[FleetRow]) -> String {
    let titles = ["devices", "revision", "what they send a new host", "what it sends them", "cannot be updated"];
    let mut drawn = super::table::table(&titles, &[true, true, false, false, true]);
    for row in rows {
        let [sends, gets] = row.with_new_host;
        let fixed = if row.fixed == 0 { String::new() } else { row.fixed.to_string() };
        drawn.add_row([
            row.devices.to_string(),
            row.revision.to_string(),
            sends.as_str().to_owned(),
            gets.as_str().to_owned(),
            fixed,
        ]);
    }
    drawn.lines()
}

fn proved(proof: &Proof, look: Look) -> String {
    let outcomes: Vec<String> = Verdict::ALL
        .iter()
        .zip(proof.outcomes)
        .filter(|(_, count)| *count > 0)
        .map(|(verdict, count)| format!("{count} {}", verdict.as_str()))
        .collect();
    let mut text = format!("{}: {}\n", plural(proof.sent, "message"), outcomes.join(", "));
    match proof.contradictions.as_slice() {
        [] => text.push_str("no verdict is contradicted\n"),
        found => {
            for one in found {
                let line = format!(
                    "{} {}, said to be {}, is {}: {}\n  {} on {}\n",
                    look.paint(Paint::Bad, "contradiction:"),
                    one.message,
                    one.expected.as_str(),
                    one.found.as_str(),
                    escaped(&one.sentence),
                    one.example.hex(),
                    one.example.channel,
                );
                text.push_str(&line);
            }
            text.push_str("this is a bug of emberwort: please report it with both definitions\n");
        }
    }
    text
}

/// One object for each difference, then one for the rollout, the fleet and the experiment.
pub fn ndjson(report: &Report<'_>) -> String {
    let mut text = String::new();
    for (index, change) in report.comparison.changes.iter().enumerate() {
        let pairs: Map<String, Json> =
            Pair::ALL.into_iter().map(|pair| (pair.key().to_owned(), judged(change.judgement(pair)))).collect();
        let way = report.remedies.iter().find(|way| way.changes.contains(&index)).map(|way| {
            let items =
                way.items.iter().map(|item| json!({"item": item.keyword, "name": item.name, "text": item.text}));
            json!({"what": way.sentence, "write": items.collect::<Vec<_>>()})
        });
        let row = json!({
            "difference": change.difference.to_string(), "kind": change.difference.kind.as_str(), "place": change.difference.place,
            "old": change.difference.old, "new": change.difference.new, "worst": change.worst().as_str(),
            "allowed": report.allowed[index], "pairs": pairs, "way_out": way,
        });
        let _ = writeln!(text, "{row}");
    }
    let pairs: Map<String, Json> = Pair::ALL
        .into_iter()
        .map(|pair| (pair.key().to_owned(), Json::from(report.comparison.worst(pair).as_str())))
        .collect();
    let rollout =
        json!({"order": report.order.as_str(), "pairs": pairs, "steps": report.rollout(), "strands": report.strands()});
    let row = json!({
        "old": report.comparison.old, "new": report.comparison.new, "edited_after_sealing": report.edited_after_sealing.is_some(),
        "rollout": rollout,
    });
    let _ = writeln!(text, "{row}");
    for one in report.earlier {
        let strands: Vec<Json> =
            one.strands.iter().map(|(difference, what)| json!({"difference": difference, "what": what})).collect();
        let _ = writeln!(text, "{}", json!({"earlier": {"revision": one.revision, "strands": strands}}));
    }
    for row in report.fleet.unwrap_or_default() {
        let [sends, gets] = row.with_new_host;
        let fleet = json!({
            "revision": row.revision, "devices": row.devices, "cannot_be_updated": row.fixed,
            "to_new_host": sends.as_str(), "from_new_host": gets.as_str(),
        });
        let _ = writeln!(text, "{}", json!({"fleet": fleet}));
    }
    if let Some(proof) = report.proof {
        let outcomes: Map<String, Json> = Verdict::ALL
            .iter()
            .zip(proof.outcomes)
            .map(|(verdict, count)| (verdict.as_str().to_owned(), Json::from(count)))
            .collect();
        let found = proof.contradictions.iter().map(|one| {
            json!({
                "pair": one.pair.key(), "message": one.message, "expected": one.expected.as_str(), "found": one.found.as_str(),
                "what": one.sentence, "bytes": one.example.hex(), "channel": one.example.channel,
            })
        });
        let found: Vec<Json> = found.collect();
        let proof = json!({"messages": proof.sent, "outcomes": outcomes, "contradictions": found});
        let _ = writeln!(text, "{}", json!({"proof": proof}));
    }
    text
}

fn judged(judgement: &Judgement) -> Json {
    let example = judgement.example.as_ref().map(|example| {
        let values = |text: &String| serde_json::from_str(text).unwrap_or(Json::Null);
        json!({
            "channel": example.channel, "key": example.key, "request": example.request.as_ref().map(|bytes| hex(bytes)), "bytes": example.hex(), "message": example.message,
            "sent": values(&example.sent), "read_as": example.read_as, "read": example.read.as_ref().map(values),
        })
    });
    json!({"verdict": judgement.verdict.as_str(), "what": judgement.sentence, "example": example})
}

/// A release note.
pub fn markdown(report: &Report<'_>) -> String {
    let comparison = report.comparison;
    let mut text = format!("# {}: {} → {}\n", report.link, cell(&comparison.old), cell(&comparison.new));
    if let Some(said) = report.said_of_edit() {
        let _ = write!(text, "\n{}\n", cell(&said));
    }
    if comparison.changes.is_empty() {
        text.push_str("\nNothing differs that either end could notice.\n");
        return text;
    }
    text.push_str("\n| difference | was | is |");
    for pair in Pair::ALL {
        let _ = write!(text, " {} |", pair.as_str());
    }
    text.push_str("\n|---|---|---|---|---|---|---|\n");
    for (_, change) in report.sorted() {
        let difference = &change.difference;
        let _ = write!(
            text,
            "| {} | {} | {} |",
            cell(&difference.to_string()),
            code(&difference.old),
            code(&difference.new)
        );
        for pair in Pair::ALL {
            let _ = write!(text, " {} |", change.judgement(pair).verdict.as_str());
        }
        text.push('\n');
    }
    for (index, change) in report.sorted().into_iter().filter(|(_, change)| change.worst() > Verdict::Fine) {
        let _ = write!(text, "\n## {}\n\n", cell(&change.difference.heading()));
        for pair in Pair::ALL {
            let judgement = change.judgement(pair);
            if judgement.verdict == Verdict::Fine {
                continue;
            }
            let _ = writeln!(
                text,
                "- {}: **{}**. {}",
                pair.as_str(),
                judgement.verdict.as_str(),
                cell(&judgement.sentence)
            );
            if let Some(example) = judgement.example.as_ref().filter(|_| judgement.verdict.strands()) {
                let _ = writeln!(text, "  On {}: {}", cell(&example.channel), code(&example.hex()));
            }
        }
        if let Some(reason) = &report.allowed[index] {
            let _ = write!(text, "\nAccepted: {}\n", cell(reason));
        } else if let Some(way) = report.remedies.iter().find(|way| way.changes.first() == Some(&index)) {
            let _ = write!(text, "\nInstead: {}\n\n```diff\n", cell(&way.sentence));
            for line in lines_of(way) {
                let _ = writeln!(text, "{}", escaped(&line).replace("```", "` ` `"));
            }
            text.push_str("```\n");
        }
    }
    let _ = write!(text, "\n## Rollout: {}\n\n", report.order.as_str());
    for sentence in report.rollout() {
        let _ = writeln!(text, "- {}", cell(&sentence));
    }
    for one in report.earlier.iter().filter(|one| !one.strands.is_empty()) {
        let _ = write!(text, "\nRevision {} would be stranded, too:\n\n", one.revision);
        for (difference, sentence) in &one.strands {
            let _ = writeln!(text, "- {}: {}", cell(difference), cell(sentence));
        }
    }
    if let Some(rows) = report.fleet {
        text.push_str("\n| devices | revision | what they send a new host | what it sends them | cannot be updated |\n|---|---|---|---|---|\n");
        for row in rows {
            let [sends, gets] = row.with_new_host;
            let _ = writeln!(
                text,
                "| {} | {} | {} | {} | {} |",
                row.devices,
                row.revision,
                sends.as_str(),
                gets.as_str(),
                row.fixed
            );
        }
    }
    if let Some(proof) = report.proof {
        let _ = write!(
            text,
            "\n{} sent both ways: {} of the verdicts contradicted.\n",
            plural(proof.sent, "message"),
            if proof.contradictions.is_empty() { "none".to_owned() } else { proof.contradictions.len().to_string() }
        );
    }
    text
}

/// Text in Markdown that means nothing but itself.
fn cell(text: &str) -> String {
    let mut out = String::new();
    for c in escaped(text).chars() {
        if matches!(c, '|' | '*' | '_' | '<' | '>' | '[' | ']' | '#' | '\\') {
            out.push('\\');
        }
        out.push(c);
    }
    out
}

/// Text as it stands in a definition, in a cell of a table.
fn code(text: &str) -> String {
    if text.is_empty() { String::new() } else { format!("`{}`", escaped(text).replace('`', "'").replace('|', "\\|")) }
}
