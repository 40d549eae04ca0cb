//! `find`: where a value stands, and which fields change together with one.

use std::io::Write;
use std::path::{Path, PathBuf};

use anyhow::bail;
use emberwort_capture::query::find::{FieldForm, Find, Found, Pattern, Place, SearchedValue};
use emberwort_capture::query::like::Like;
use emberwort_model::Plan;
use emberwort_rows::time::rfc3339;
use serde_json::json;

use crate::cli::{FindArgs, InputArgs, TableForm};
use crate::ending::Ending;
use crate::output::{self, Look, say};
use crate::reading::capture_definitions::open_definitions;
use crate::reading::inputs::{self, InputsOutcome};
use crate::reading::queried::{Interruptible, asked};
use crate::render::sheets::Sheet;
use crate::render::stats::{Account, damage_text, sentence};
use crate::render::{plural, summary::short};

/// So many places in bytes are shown.
const MAX_SHOWN: usize = 20;

pub fn run(args: &FindArgs, link: Option<&Path>, look: Look) -> anyhow::Result<Ending> {
    crate::interrupt::catch();
    let definitions = open_definitions(&args.revisions, link, look)?;
    let plan = definitions.revisions.own().clone();
    let mut input = args.input.clone();
    if let Some(name) = &args.like {
        // There is no value: what stands in its place is a capture.
        let first = args.value.iter().map(PathBuf::from);
        input.inputs = first.chain(input.inputs).collect();
        let mut like = Like::new(name, &plan).map_err(|problem| anyhow::anyhow!("--like: {problem}"))?;
        let reading =
            inputs::decode_all(&input, link, definitions, asked(&args.asked, &plan, Interruptible(&mut like))?)?;
        show_like(args, &like)?;
        return Ok(account(&reading, &input));
    }
    let Some(value) = &args.value else {
        bail!("say the value to look for, or with --like the field that others are compared with")
    };
    let mut find = Find::new(SearchedValue::new(value));
    let reading = inputs::decode_all(&input, link, definitions, asked(&args.asked, &plan, Interruptible(&mut find))?)?;
    show_found(args, &plan, &find)?;
    if find.places.is_empty() {
        say!("{value} stands nowhere, neither in a field nor in the bytes of a frame");
    }
    Ok(account(&reading, &input))
}

fn account(outcome: &InputsOutcome, input: &InputArgs) -> Ending {
    let inputs = &outcome.inputs;
    if crate::interrupt::came() && !input.follow {
        say!("interrupted; this is what was read until then:");
    }
    let account = Account { statistics: &outcome.statistics, file_bytes: inputs.file_bytes, damage: &inputs.damage };
    say!("{}", sentence(&account));
    for (name, damage) in &inputs.damage {
        say!("{}", damage_text(name, damage));
    }
    for note in inputs.all_remarks() {
        say!("{note}");
    }
    if inputs.damage.is_empty() { Ending::Clean } else { Ending::WithFindings }
}

fn pattern_text(pattern: &Pattern) -> String {
    let order = match pattern.is_little {
        None => "",
        Some(true) => " little-endian",
        Some(false) => " big-endian",
    };
    let scale = if pattern.power == 0 {
        String::new()
    } else {
        format!(" times {}", 10u64.pow(pattern.power.unsigned_abs().into()))
    };
    format!("{}{order}{scale}", pattern.form)
}

fn times(found: &Found) -> [String; 2] {
    let text = |time| rfc3339(time).chars().take(23).collect();
    found.times.map_or_else(Default::default, |(first, last)| [text(first), text(last)])
}

/// How surprising it is that so many frames have a pattern at one place: what chance alone would give, against what there is.
fn surprise(place: &Place, found: &Found) -> f64 {
    let Place::Bytes { pattern, .. } = place else { return f64::INFINITY };
    let bytes = match pattern.form.trim_start_matches(['u', 'i', 'f']).parse::<i32>() {
        Ok(bits) => bits / 8,
        Err(_) => 8,
    };
    let share = found.count as f64 / found.of.max(1) as f64;
    // The scaled ones are more guesses.
    share * 256f64.powi(bytes.min(4)) / 10f64.powi(pattern.power.into())
}

fn show_found(args: &FindArgs, plan: &Plan, find: &Find) -> anyhow::Result<()> {
    let mut fields = Sheet::new(
        "In fields",
        &[
            ("field", false),
            ("as", false),
            ("times", true),
            ("of", true),
            ("first", false),
            ("last", false),
            ("frame", true),
        ],
    );
    let mut bytes = Sheet::new(
        "In the bytes of frames",
        &[
            ("channel", false),
            ("message", false),
            ("byte", true),
            ("as", false),
            ("times", true),
            ("of", true),
            ("first", false),
            ("last", false),
            ("frame", true),
        ],
    );
    let mut out = output::stdout();
    let mut places: Vec<(&Place, &Found)> = find.places.iter().collect();
    places.sort_by(|a, b| surprise(b.0, b.1).total_cmp(&surprise(a.0, a.1)));
    for (place, found) in &places {
        let [first, last] = times(found);
        let count =
            [found.count.to_string(), found.of.to_string(), first.clone(), last.clone(), found.first_frame.to_string()];
        match place {
            Place::Field { message, field, form } => {
                let form = match form {
                    FieldForm::Value => "value",
                    FieldForm::Raw => "raw",
                    FieldForm::Part => "part of it",
                };
                if args.form_out == TableForm::Ndjson {
                    let object = json!({"message": message, "field": field, "as": form, "times": found.count, "of": found.of,
                        "first": found.times.map(|(first, _)| rfc3339(first)), "last": found.times.map(|(_, last)| rfc3339(last)), "frame": found.first_frame});
                    writeln!(out, "{object}")?;
                }
                let mut row = vec![format!("{message}.{field}"), form.to_owned()];
                row.extend(count);
                fields.rows.push(row);
            }
            Place::Bytes { channel, message, offset, pattern } => {
                if args.form_out == TableForm::Ndjson {
                    let object = json!({"channel": plan.channels[*channel].name, "message": message, "byte": offset, "as": pattern_text(pattern),
                        "times": found.count, "of": found.of, "first": found.times.map(|(first, _)| rfc3339(first)),
                        "last": found.times.map(|(_, last)| rfc3339(last)), "frame": found.first_frame});
                    writeln!(out, "{object}")?;
                }
                let message = if message.is_empty() { "(broken or unread)" } else { message };
                let mut row = vec![
                    plan.channels[*channel].name.clone(),
                    message.to_owned(),
                    offset.to_string(),
                    pattern_text(pattern),
                ];
                row.extend(count);
                bytes.rows.push(row);
            }
        }
    }
    if args.form_out == TableForm::Table {
        let more = bytes.rows.len().saturating_sub(MAX_SHOWN);
        bytes.rows.truncate(MAX_SHOWN);
        let shown: Vec<String> =
            [fields, bytes].iter().filter(|sheet| !sheet.rows.is_empty()).map(Sheet::text).collect();
        write!(out, "{}", shown.join("\n"))?;
        if more + find.not_kept as usize > 0 {
            out.flush()?;
            say!("and {} that chance explains better; --as ndjson gives them", plural(more, "place in bytes"));
        }
    }
    out.flush()?;
    Ok(())
}

fn show_like(args: &FindArgs, like: &Like) -> anyhow::Result<()> {
    let mut sheet = Sheet::new(
        "What changes together with it",
        &[("node", true), ("field", false), ("correlation", true), ("changed together", true), ("values", true)],
    );
    let mut all: Vec<_> = like.likenesses.iter().filter(|(_, likeness)| likeness.correlation().is_some()).collect();
    let strength = |likeness: &emberwort_capture::query::like::Likeness| likeness.correlation().unwrap_or(0.0).abs();
    all.sort_by(|a, b| strength(b.1).total_cmp(&strength(a.1)));
    let mut out = output::stdout();
    for ((node, (message, field, of)), likeness) in &all {
        let correlation = likeness.correlation().unwrap_or(0.0);
        if args.form_out == TableForm::Ndjson {
            let object = json!({"node": node, "message": message, "field": field, "of_node": of, "correlation": correlation,
                "changed_together": likeness.together(), "values": likeness.count});
            writeln!(out, "{object}")?;
        }
        sheet.rows.push(vec![
            node.map_or_else(String::new, |node| node.to_string()),
            format!("{message}.{field}"),
            format!("{correlation:+.3}"),
            likeness
                .together()
                .map_or_else(String::new, |share| format!("{} %", short((share * 1000.0).round() / 10.0))),
            likeness.count.to_string(),
        ]);
    }
    if args.form_out == TableForm::Table {
        sheet.rows.truncate(MAX_SHOWN);
        out.write_all(sheet.text().as_bytes())?;
    }
    out.flush()?;
    Ok(())
}
