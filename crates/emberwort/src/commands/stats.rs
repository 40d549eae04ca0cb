//! `stats`: counts what captures hold, and how it came.

use std::io::Write;
use std::path::Path;
use std::sync::Arc;

use emberwort_capture::exchanges::Exchanges;
use emberwort_capture::query::Tee;
use emberwort_capture::summary::{Latencies, NestedFrames, Senders, Summary};
use emberwort_model::Plan;
use serde_json::Value as Json;

use crate::cli::{InputArgs, StatsArgs, StatsForm};
use crate::ending::Ending;
use crate::output::{self, Look, say};
use crate::reading::capture_definitions::open_definitions;
use crate::reading::inputs::{self, InputsOutcome};
use crate::reading::names::message_index;
use crate::reading::queried::{Interruptible, asked, filters};
use crate::render::plural;
use crate::render::sheets::Sheet;
use crate::render::stats::{Account, account_sheets, hint, json, tables};
use crate::render::summary::{self, Summed};

/// What came of reading captures.
struct Read {
    outcome: InputsOutcome,
    /// What was summed up beside the accounting, if that was asked for.
    sums: Option<Sums>,
    nested: NestedFrames,
    is_whole: bool,
}

/// What was summed up beside the accounting.
struct Sums {
    summary: Summary,
    senders: Senders,
    latencies: Latencies,
    plan: Arc<Plan>,
}

/// Reads captures; sums them up as far as that is asked for.
fn read(args: &StatsArgs, input: &InputArgs, link: Option<&Path>, look: Look) -> anyhow::Result<Read> {
    let definitions = open_definitions(&args.revisions, link, look)?;
    let is_whole = definitions.is_whole;
    let plan = definitions.revisions.own().clone();
    for name in &args.asked.message {
        if !definitions.revisions.definitions().iter().any(|definition| definition.plan.message_index(name).is_some()) {
            message_index(&plan, name)?;
        }
    }
    if !(args.timing || args.fields || args.asked.is_asked() || args.against.is_some()) {
        let mut nested = NestedFrames::default();
        let reading = inputs::decode_all(input, link, definitions, Interruptible(&mut nested))?;
        return Ok(Read { outcome: reading, sums: None, nested, is_whole });
    }
    let mut summary = Summary::new(args.fields);
    // What is missing, and what belongs together, only all frames say.
    let mut rest = Tee::new(Senders::default(), Exchanges::new(filters(&args.asked, &plan)?, Latencies::default()));
    let mut sums = Tee::new(&mut summary, NestedFrames::default());
    let wanted = Tee::new(asked(&args.asked, &plan, Interruptible(&mut sums))?, &mut rest);
    let reading = inputs::decode_all(input, link, definitions, wanted)?;
    let nested = sums.other;
    let (senders, latencies) = (rest.one, rest.other.into_sink());
    Ok(Read { outcome: reading, sums: Some(Sums { summary, senders, latencies, plan }), nested, is_whole })
}

impl Sums {
    fn summed(&self, input: u64) -> Summed<'_> {
        let latencies = Some(&self.latencies).filter(|latencies| !latencies.requests.is_empty());
        Summed { plan: &self.plan, summary: &self.summary, senders: &self.senders, latencies, input }
    }
}

pub fn run(args: &StatsArgs, link: Option<&Path>, look: Look) -> anyhow::Result<Ending> {
    match args.input.follow {
        true => crate::interrupt::catch_as_end(),
        false => crate::interrupt::catch(),
    }
    let Read { outcome: read_one, sums, nested, is_whole } = read(args, &args.input, link, look)?;
    if crate::interrupt::came() && !args.input.follow {
        say!("interrupted; this is what was read until then");
    }
    let account = Account {
        statistics: &read_one.statistics,
        file_bytes: read_one.inputs.file_bytes,
        damage: &read_one.inputs.damage,
    };
    let mut found = !read_one.inputs.damage.is_empty() || !is_whole || !read_one.statistics.ambiguous.is_empty();
    let summed = sums.as_ref().map(|sums| sums.summed(read_one.statistics.input));
    let mut differing = None;
    if let (Some(other), Some(summed)) = (&args.against, &summed) {
        let input = InputArgs { inputs: vec![other.clone()], ..args.input.clone() };
        let Read { outcome: read_other, sums, .. } = read(args, &input, link, look)?;
        found |= !read_other.inputs.damage.is_empty();
        let of_other = sums.as_ref().map(|sums| sums.summed(read_other.statistics.input));
        differing = of_other.map(|other| summary::differences(summed, &other));
    }
    show(args.form_out, &account, (&nested, summed.as_ref()), differing.as_ref())?;
    if differing.as_ref().is_some_and(|differing| differing.rows.is_empty()) {
        let more = if args.fields { "" } else { "; --fields compares what the fields held, too" };
        say!("no number differs by more than one in a hundred{more}");
    }
    if let Some(left) = sums.as_ref().map(|sums| sums.summary.not_kept).filter(|left| *left > 0) {
        say!("{} of senders beyond the first 4096 are in the counts of bytes and frames alone", plural(left, "row"));
    }
    for note in read_one.inputs.all_remarks() {
        say!("{note}");
    }
    if let Some(hint) = hint(&read_one.statistics) {
        say!("{hint}");
    }
    if let Some(hint) = read_one.text_hint() {
        say!("{hint}");
    }
    Ok(if found { Ending::WithFindings } else { Ending::Clean })
}

fn show(
    form: StatsForm,
    account: &Account<'_>,
    (nested, summed): (&NestedFrames, Option<&Summed<'_>>),
    differing: Option<&Sheet>,
) -> anyhow::Result<()> {
    let sheets = || match differing {
        Some(_) => Vec::new(),
        None => summary::nested(nested).into_iter().chain(summed.map(summary::sheets).unwrap_or_default()).collect(),
    };
    let mut out = output::stdout();
    match form {
        StatsForm::Table => {
            if let Some(differing) = differing {
                out.write_all(differing.text().as_bytes())?;
            } else {
                out.write_all(tables(account).as_bytes())?;
            }
            for sheet in sheets() {
                write!(out, "\n{}", sheet.text())?;
            }
        }
        StatsForm::Markdown => {
            let mut all = if differing.is_some() { Vec::new() } else { account_sheets(account) };
            all.extend(sheets());
            let all = all.iter().chain(differing).map(Sheet::markdown);
            write!(out, "{}", all.collect::<Vec<_>>().join("\n"))?;
        }
        StatsForm::Ndjson => {
            if let Some(differing) = differing {
                for row in &differing.rows {
                    let object = serde_json::json!({"of": row[0], "what": row[1], "here": row[2], "there": row[3], "change": row[4]});
                    writeln!(out, "{object}")?;
                }
            } else {
                let mut object = json(account);
                if !nested.counts.is_empty() {
                    object["nested"] = summary::nested_json(nested);
                }
                if let (Json::Object(object), Some(summed)) = (&mut object, summed) {
                    object.extend(summary::json(summed));
                }
                writeln!(out, "{object}")?;
            }
        }
    }
    out.flush()?;
    Ok(())
}
