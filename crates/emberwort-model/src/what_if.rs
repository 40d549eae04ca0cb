//! Trying a change on a definition that has been read: "what if the gauges spoke at spreading factor 12?"

use crate::diagnostics::{Finding, nearest};
use crate::model::MediumKind;
use crate::plan::Plan;
use crate::source::Source;
use crate::syntax::ast::{FieldItem, File, TypeExpr};
use crate::syntax::{Change, parse_change};
use crate::{imports, resolve};

/// The link as it would be with some changes, each written as `CHANNEL …`, `MESSAGE every DURATION` or `MESSAGE.FIELD …`:
///
/// - of a channel: a medium (`uart 9600 8N1`), or of a LoRa medium `sf12`, `250 kHz`, `4/8`, `duty 0.1 %`; `limit 64 bytes`
/// - of a message: its period, `every 5 min`
/// - of a field: another type, or of a range `step 0.01` or `in 12 bits`
///
/// # Errors
/// Why a change cannot be made, or what would be wrong with the link then.
pub fn what_if(
    source: Source,
    load: &mut dyn FnMut(&str, &str) -> Result<Source, String>,
    changes: &[String],
) -> Result<Plan, String> {
    let (mut file, findings, _) = imports::read_all(source, load);
    for change in changes {
        apply(&mut file, change).map_err(|problem| format!("`{change}`: {problem}"))?;
    }
    let (plan, findings) = resolve::resolve(&file, findings);
    plan.ok_or_else(|| {
        let first = findings.iter().find(|finding| finding.is_error());
        first.map_or_else(String::new, |finding| format!("{}; {}", finding.message, finding.help))
    })
}

fn apply(file: &mut File, change: &str) -> Result<(), String> {
    let (subject, words) = change.trim().split_once(' ').ok_or("say what changes: `gauges sf12`")?;
    if let Some((message, field)) = subject.split_once('.') {
        let items = file.messages.iter().map(|item| (&item.name, &item.sections));
        let items = items.chain(file.records.iter().map(|item| (&item.name, &item.sections)));
        let names: Vec<String> = items.map(|(name, _)| name.text.clone()).collect();
        let sections = file
            .messages
            .iter_mut()
            .map(|item| (&item.name, &mut item.sections))
            .chain(file.records.iter_mut().map(|item| (&item.name, &mut item.sections)))
            .find(|(name, _)| name.text == message)
            .map(|(_, sections)| sections)
            .ok_or_else(|| unknown("message", message, &names))?;
        let names: Vec<String> =
            sections.iter().flat_map(|section| &section.fields).map(|field| field.shown().to_owned()).collect();
        let mut fields = sections.iter_mut().flat_map(|section| &mut section.fields);
        let item = fields.find(|item| item.shown() == field).ok_or_else(|| unknown("field", field, &names))?;
        return change_field(item, words);
    }
    if let Some(item) = file.channels.iter_mut().find(|item| item.name.text == subject) {
        match parse_change(words).map_err(first)? {
            Change::Medium(medium) => item.medium = Some((medium, item.name.span)),
            Change::Limit(limit) => item.limit = Some(limit),
            change => match item.medium.as_mut().map(|(medium, _)| &mut medium.kind) {
                Some(MediumKind::Lora { spreading, bandwidth, coding, duty, .. }) => match change {
                    Change::Spreading(value) => *spreading = value,
                    Change::Bandwidth(value) => *bandwidth = value,
                    Change::Coding(value) => *coding = value,
                    Change::Duty(value) => *duty = Some(value),
                    _ => return Err("a channel's medium or limit can change: `sf12`, `uart 9600 8N1`".into()),
                },
                _ => return Err("only a LoRa medium has these; write the whole medium: `uart 9600 8N1`".into()),
            },
        }
        return Ok(());
    }
    if let Some(item) = file.messages.iter_mut().find(|item| item.name.text == subject) {
        return match parse_change(words).map_err(first)? {
            Change::Every(every) => {
                item.every = Some((every, item.name.span));
                Ok(())
            }
            _ => Err("of a message the period can change: `every 5 min`; a field is written `MESSAGE.FIELD`".into()),
        };
    }
    let names: Vec<String> = file
        .channels
        .iter()
        .map(|item| item.name.text.clone())
        .chain(file.messages.iter().map(|item| item.name.text.clone()))
        .collect();
    Err(unknown("channel or message", subject, &names))
}

fn unknown(what: &str, name: &str, names: &[String]) -> String {
    match nearest(name, names.iter().map(String::as_str)) {
        Some(near) => format!("there is no {what} `{name}`; did you mean `{near}`?"),
        None => format!("there is no {what} `{name}`; there are {}", names.join(", ")),
    }
}

fn first(findings: Vec<Finding>) -> String {
    findings.first().map_or_else(String::new, |finding| format!("{}; {}", finding.message, finding.help))
}

fn change_field(item: &mut FieldItem, words: &str) -> Result<(), String> {
    let range = match &item.ty {
        TypeExpr::Steps { low, high, .. } | TypeExpr::Spread { low, high, .. } => Some((*low, *high)),
        _ => None,
    };
    match (parse_change(words).map_err(first)?, range) {
        (Change::Step(step), Some((low, high))) => item.ty = TypeExpr::Steps { low, high, step },
        (Change::Bits(bits), Some((low, high))) => item.ty = TypeExpr::Spread { low, high, bits },
        (Change::Step(_) | Change::Bits(_), None) => {
            return Err("only a range has a step or a width; write the whole type".into());
        }
        (Change::Type(field), _) => {
            item.ty = field.ty;
            item.unit = field.unit;
            item.none = field.none.or(item.none);
            item.order = field.order.or(item.order);
        }
        _ => return Err("of a field the type can change: `step 0.01`, `in 12 bits`, `u16 * 0.1 V`".into()),
    }
    Ok(())
}
