//! `budget`: what messages cost in bits, time on the wire and energy.

use std::io::Write;
use std::path::Path;
use std::sync::Arc;

use anyhow::{anyhow, bail};
use emberwort_model::budget::wire_time::{Seconds, WireCost};
use emberwort_model::budget::{
    ChannelReport, MessageRow, can_id, decimal_text, medium_text, report, time_text, to_f64,
};
use emberwort_model::ids::{ChannelId, MessageId};
use emberwort_model::medium::Encapsulation;
use emberwort_model::{Plan, Source};
use emberwort_rows::{Paint, time};
use emberwort_text::{Filling, GivenValue, fill};
use emberwort_wire::frame::body_on;
use emberwort_wire::{Framed, Header, Values};
use serde_json::{Value as Json, json};

use crate::cli::{BudgetArgs, TableForm};
use crate::ending::Ending;
use crate::output::{self, Look};
use crate::project::{Project, imports_of, load_plan_apart, read_limited};
use crate::reading::names::{channel_index, message_index, with_definition};
use crate::render::{plural, table, wrapped};

pub fn run(args: &BudgetArgs, link: Option<&Path>, look: Look) -> anyhow::Result<Ending> {
    let (file, channels) = with_definition(&args.channels);
    let project = Project::find(file.or(link))?;
    let (plan, without) = load_plan_apart(&project.definition, look)?;
    let wanted: Vec<ChannelId> = match channels.as_slice() {
        [] => plan.channel_ids().map(|(channel, _)| channel).collect(),
        names => names.iter().map(|name| channel_index(&plan, name)).collect::<anyhow::Result<_>>()?,
    };
    let changed = match args.what_if.as_slice() {
        [] => None,
        changes => {
            let bytes = read_limited(&project.definition)?;
            let text = emberwort_model::decode_text(bytes).map_err(|error| anyhow!("{}", error.0.message))?;
            let mut import = imports_of(&project.definition);
            let source = Source::new(project.definition.display().to_string(), text);
            Some(emberwort_model::what_if(source, &mut import, changes).map_err(|problem| anyhow!("{problem}"))?)
        }
    };
    let contents: Vec<Content> =
        args.content.iter().map(|text| Content::parse(&plan, text)).collect::<anyhow::Result<_>>()?;
    let before = report(&plan, args.devices);
    let after = changed.as_ref().map(|plan| report(plan, args.devices));
    let mut out = output::stdout();
    let mut first = true;
    for index in wanted {
        let then = after.as_ref().zip(changed.as_ref()).map(|(after, plan)| (plan, &after[index.index()]));
        if args.form == TableForm::Ndjson {
            write_ndjson(&plan, &before[index.index()], args.devices, false, &mut out)?;
            if let Some((changed, after)) = then {
                write_ndjson(changed, after, args.devices, true, &mut out)?;
            }
            continue;
        }
        if !first {
            writeln!(out)?;
        }
        first = false;
        let view = View { plan: &plan, before: &before[index.index()], then, devices: args.devices, look };
        view.write(&mut out)?;
        for content in &contents {
            content.write(&plan, index, &mut out)?;
        }
    }
    out.flush()?;
    Ok(if without.is_empty() { Ending::Clean } else { Ending::WithFindings })
}

/// A channel's budget, and what it would be with the changes.
struct View<'a> {
    plan: &'a Plan,
    before: &'a ChannelReport,
    then: Option<(&'a Plan, &'a ChannelReport)>,
    devices: u64,
    look: Look,
}

/// A cell: what it is, and what it would be where that differs.
fn cell(before: String, after: Option<String>) -> String {
    match after {
        Some(after) if after != before => format!("{before} → {after}"),
        _ => before,
    }
}

fn span(least: usize, greatest: usize) -> String {
    if least == greatest { greatest.to_string() } else { format!("{least} .. {greatest}") }
}

/// A share of the time in percent, with three digits that count; `≈` where it was rounded.
fn percent(share: Seconds) -> String {
    let hundred = share * Seconds::from_integer(100);
    let decimals = match to_f64(hundred) {
        value if value >= 10.0 => 1,
        value if value >= 1.0 => 2,
        value if value >= 0.1 => 3,
        _ => 4,
    };
    format!("{} %", decimal_text(hundred, decimals))
}

/// Without the mark for rounding, which a column's title carries.
fn unmarked(text: String) -> String {
    text.replace('≈', "")
}

impl View<'_> {
    fn columns(row: &MessageRow) -> [String; 8] {
        let body = &row.body;
        [
            span(body.bytes.0, body.bytes.1),
            body.value_bits.to_string(),
            body.spare_bits.to_string(),
            format!("{:.1}", body.unused_codes),
            row.frame.overhead.to_string(),
            span(row.frame.frame.0, row.frame.frame.1),
            row.frame.greatest.bits.to_string(),
            unmarked(time_text(row.frame.greatest.time)),
        ]
    }

    fn write(&self, out: &mut impl Write) -> anyhow::Result<()> {
        let Self { plan, before, .. } = self;
        let channel = &plan.channels[before.channel];
        let after_channel = self.then.map(|(plan, report)| medium_text(&plan.channels[report.channel].medium));
        let medium = medium_text(&channel.medium);
        let devices = plural(self.devices, "device");
        let heading = wrapped(&format!("{}  {devices}, {medium}", channel.name));
        let (name, rest) = heading.split_at(channel.name.len());
        writeln!(out, "{}{rest}", self.look.paint(Paint::Bold, name))?;
        if let Some(after) = after_channel.filter(|after| *after != medium) {
            writeln!(out, "{}", wrapped(&format!("  → {after}")))?;
        }
        if before.rows.is_empty() {
            writeln!(out, "no message travels here")?;
            return Ok(());
        }
        let radio = channel.medium.kind.radio().is_some();
        let with_energy = before.rows.iter().any(|row| row.energy.is_some());
        let on_wire = if radio { "symbols≈" } else { "bits" };
        let mut titles = vec![
            "message",
            "from",
            "body",
            "value",
            "spare",
            "unused≈",
            "around",
            "frame",
            on_wire,
            "time≈",
            "every",
            "share≈",
        ];
        if with_energy {
            titles.push("energy≈");
        }
        let mut right = vec![true; titles.len()];
        (right[0], right[1]) = (false, false);
        let mut grid = table::table(&titles, &right);
        for (n, row) in before.rows.iter().enumerate() {
            let message = &plan.messages[row.message].message;
            let after = self.then.and_then(|(_, report)| report.rows.get(n));
            let mut cells = vec![message.name.clone(), message.from.as_str().to_owned()];
            let then = after.map(Self::columns);
            for (n, text) in Self::columns(row).into_iter().enumerate() {
                cells.push(cell(text, then.as_ref().map(|then| then[n].clone())));
            }
            let every = |row: &MessageRow| row.every.map_or_else(|| "–".to_owned(), time::duration);
            let share = |row: &MessageRow| row.share.map_or_else(|| "–".to_owned(), |share| unmarked(percent(share)));
            cells.push(cell(every(row), after.map(every)));
            cells.push(cell(share(row), after.map(share)));
            if with_energy {
                let energy =
                    |row: &MessageRow| row.energy.map_or_else(String::new, |energy| unmarked(decimal_text(energy, 3)));
                cells.push(cell(energy(row), after.map(energy)));
            }
            grid.add_row(cells);
        }
        write!(out, "{}", grid.lines())?;
        for line in self.sentences() {
            writeln!(out, "{}", wrapped(&line))?;
        }
        Ok(())
    }

    /// What all messages together mean for the channel.
    fn sentences(&self) -> Vec<String> {
        let Self { before, .. } = self;
        let after = self.then.map(|(_, report)| report);
        let energy = if before.rows.iter().any(|row| row.energy.is_some()) { "; energy in mJ" } else { "" };
        let mut lines = vec![format!(
            "body, around and frame in bytes at their longest; value, spare and unused codes in bits{energy}"
        )];
        let regular = |report: &ChannelReport| percent(report.share);
        lines.push(format!("regular messages take {} of the time", cell(regular(before), after.map(regular))));
        let last = |report: &ChannelReport| time_text(report.all_at_once);
        lines.push(format!("if all speak at once, the last is through after {}", cell(last(before), after.map(last))));
        if let Some(duty) = before.duty {
            let own = |report: &ChannelReport| percent(report.device_share);
            lines.push(format!(
                "one device is on the air for {} of the time; {} is allowed",
                cell(own(before), after.map(own)),
                cell(percent(duty), after.and_then(|report| report.duty).map(percent))
            ));
            let a_day = |report: &ChannelReport| report.a_day.unwrap_or(0).to_string();
            lines.push(format!(
                "a device may send its longest message {} times a day",
                cell(a_day(before), after.map(a_day))
            ));
        }
        lines
    }
}

fn cost(cost: WireCost) -> Json {
    json!({"bits": cost.bits, "seconds": to_f64(cost.time), "exact": cost.time.to_string()})
}

fn write_ndjson(
    plan: &Plan,
    report: &ChannelReport,
    devices: u64,
    changed: bool,
    out: &mut impl Write,
) -> anyhow::Result<()> {
    let channel = &plan.channels[report.channel];
    for row in &report.rows {
        let message = &plan.messages[row.message].message;
        let line = json!({
            "channel": channel.name, "message": message.name, "direction": message.from.as_str(), "changed": changed,
            "body": {
                "least": row.body.bytes.0, "greatest": row.body.bytes.1, "value_bits": row.body.value_bits,
                "spare_bits": row.body.spare_bits, "unused_code_bits": row.body.unused_codes,
            },
            "frame": {"around": row.frame.overhead, "least": row.frame.frame.0, "greatest": row.frame.frame.1},
            "least": cost(row.frame.least), "greatest": cost(row.frame.greatest),
            "every_ns": row.every, "share": row.share.map(to_f64), "millijoules": row.energy.map(to_f64),
        });
        writeln!(out, "{line}")?;
    }
    let line = json!({
        "channel": channel.name, "devices": devices, "changed": changed, "share": to_f64(report.share),
        "device_share": to_f64(report.device_share), "all_at_once_seconds": to_f64(report.all_at_once),
        "duty": report.duty.map(to_f64), "a_day": report.a_day,
    });
    writeln!(out, "{line}")?;
    Ok(())
}

/// A message with these very values.
struct Content {
    message: MessageId,
    values: Values,
}

impl Content {
    fn parse(plan: &Arc<Plan>, text: &str) -> anyhow::Result<Self> {
        let mut words = text.split_whitespace();
        let Some(name) = words.next() else { bail!("--content needs a message: --content 'Pressure oil=120'") };
        let message = message_index(plan, name)?;
        let mut given = Vec::new();
        for word in words {
            match word.split_once('=') {
                Some((name, value)) => given.push((name, GivenValue::Text(value))),
                None => bail!("`{word}` is not a value; write FIELD=VALUE"),
            }
        }
        let mut values = Values::default();
        fill(&plan.messages[message], given, Filling::of(plan), &mut values).map_err(|problems| {
            let lines: Vec<String> = problems.iter().map(|problem| format!("\n  {problem}")).collect();
            anyhow!("{name} cannot have these values:{}", lines.concat())
        })?;
        Ok(Self { message, values })
    }

    /// The exact cost on a channel, if the message travels there.
    fn write(&self, plan: &Plan, index: ChannelId, out: &mut impl Write) -> anyhow::Result<()> {
        let compiled = &plan.messages[self.message];
        let framing = plan.channels[index].framing(compiled.message.from);
        let channel = framing.plan();
        let Some(key) = channel.key_of(self.message) else { return Ok(()) };
        let mut body = Vec::new();
        body_on(channel, compiled, &self.values, plan.link.revision, &mut body)?;
        let mut frame = Vec::new();
        let header = Header { key, revision: u64::from(plan.link.revision), ..Header::default() };
        framing.encode(&header, &body, &mut frame)?;
        let kind = &channel.medium.kind;
        let exact = kind.exact(&frame, can_id(key));
        let worst = kind.worst(frame.len(), can_id(key).1);
        let stuffing = match kind.encapsulation() {
            Encapsulation::Can { .. } => format!(", {} fewer than with the worst stuffing", worst.bits - exact.bits),
            _ => String::new(),
        };
        let radio = kind.radio().is_some();
        let (about, unit) = if radio { ("≈", "symbols") } else { ("", "bits") };
        writeln!(
            out,
            "with this content {} takes {about}{} {unit}{stuffing}: {} in {}",
            compiled.message.name,
            exact.bits,
            plural(frame.len(), "byte"),
            time_text(exact.time)
        )?;
        Ok(())
    }
}
