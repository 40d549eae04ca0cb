//! `value`: one number every way.

use std::io::Write;
use std::path::Path;

use anyhow::bail;
use emberwort_model::diagnostics::escaped;
use emberwort_model::model::{Field, Kind};
use emberwort_model::views::{View, of_raw, of_type, other_widths, raw_from_text};
use emberwort_model::{Plan, Source, Sources};
use emberwort_text::raw_of;
use serde_json::{Map, Value as Json, json};

use crate::cli::{TableForm, ValueArgs};
use crate::ending::Ending;
use crate::output::{self, Look};
use crate::project::{Project, read_definition};
use crate::render::{findings, table};

pub fn run(args: &ValueArgs, link: Option<&Path>, look: Look) -> anyhow::Result<Ending> {
    let field = field(args, link, look)?;
    if field.kind.raw_bits().is_none() {
        bail!(
            "`{}` is not a single number; `value` shows integers, ranges, floats, enums, flags, bools and times",
            args.ty
        );
    }
    let problem = |problem: String| anyhow::anyhow!("{}: {problem}", escaped(&args.ty));
    let (views, asked) = match (&args.value, &args.raw) {
        (Some(text), _) => {
            let raw = raw_of(&field, text).map_err(problem)?;
            let scaled = match &field.kind {
                Kind::Number(form) => !form.scaling.is_identity(),
                kind => matches!(kind, Kind::Float(_)),
            };
            let number = text.strip_suffix(field.unit.as_str()).unwrap_or(text).trim();
            let asked = Some(number).filter(|_| scaled);
            (of_raw(&field, raw, asked), true)
        }
        (None, Some(text)) => (of_raw(&field, raw_from_text(&field, text).map_err(problem)?, None), true),
        (None, None) => (of_type(&field), false),
    };
    let widths = if asked { Vec::new() } else { other_widths(&field) };
    let mut out = output::stdout();
    if args.form == TableForm::Ndjson {
        let mut row: Map<String, Json> =
            views.into_iter().map(|View { what, text }| (what, Json::String(text))).collect();
        row.insert("type".into(), args.ty.clone().into());
        if !asked {
            let other: Vec<Json> = widths
                .iter()
                .map(|row| json!({"bits": row.bits, "codes": row.codes, "range": row.range, "step": row.step}))
                .collect();
            row.insert("other widths".into(), other.into());
        }
        writeln!(out, "{}", Json::Object(row))?;
        out.flush()?;
        return Ok(Ending::Clean);
    }
    let widest = views.iter().map(|view| view.what.chars().count()).max().unwrap_or(0);
    for View { what, text } in &views {
        writeln!(out, "{what:<widest$}  {}", escaped(text))?;
    }
    if !widths.is_empty() {
        writeln!(out, "\nwith other widths:")?;
        let mut grid = table::table(&["bits", "codes", "range", "finest step"], &[true, true, false, true]);
        let own = field.kind.raw_bits().unwrap_or(0);
        for row in widths {
            let mark = if row.bits == own { format!("now {}", row.bits) } else { row.bits.to_string() };
            grid.add_row([mark, row.codes, row.range, row.step]);
        }
        write!(out, "{}", grid.lines())?;
    }
    out.flush()?;
    Ok(Ending::Clean)
}

/// A field of a message, or of a record in it: `GateStatus.opening`, `Strokes.strokes.travel`.
fn named_field(plan: &Plan, name: &str) -> Option<Field> {
    let mut words = name.split('.');
    let message = &plan.messages[plan.message_index(words.next()?.trim())?].message;
    let mut found = message.field(words.next()?.trim())?.1.clone();
    for word in words {
        let inner = match found.kind {
            Kind::List { element, .. } => element.kind.clone(),
            kind => kind,
        };
        let Kind::Record(record) = inner else { return None };
        found = record.fields.iter().find(|field| field.name == word.trim())?.clone();
    }
    Some(found)
}

/// The form that the type stands for; names in it are those of the project's link, if there is one.
fn field(args: &ValueArgs, link: Option<&Path>, look: Look) -> anyhow::Result<Field> {
    let without = emberwort_model::field_of_type(&args.ty, None);
    let found = match without {
        Ok(field) => return Ok(field),
        Err(found) => found,
    };
    let plan: Option<Plan> = match Project::find(link) {
        Ok(project) => read_definition(&project.definition)?.plan,
        Err(error) if link.is_some() => return Err(error),
        Err(_) => None,
    };
    if let Some(field) = plan.as_ref().and_then(|plan| named_field(plan, &args.ty)) {
        return Ok(field);
    }
    let found = match plan {
        Some(plan) => match emberwort_model::field_of_type(&args.ty, Some(&plan)) {
            Ok(field) => return Ok(field),
            Err(found) => found,
        },
        None => found,
    };
    crate::output::say_text(&findings::render(&Sources::of(Source::new("TYPE", args.ty.as_str())), &found, look.err));
    bail!("the type cannot be read");
}
