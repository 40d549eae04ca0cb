//! Entries of tables, read and written by their names.

use std::io::Write;
use std::sync::Arc;

use anyhow::{Context, bail};
use emberwort_link::tables::{TableAccess, tables_on};
use emberwort_model::diagnostics::{escaped, nearest};
use emberwort_model::model::{Entry, Field, Kind};
use emberwort_rows::{Paint, RowForm};
use emberwort_text::{GivenValue, RowHeader};
use emberwort_wire::{ValueRef, Values};
use serde_json::{Map, Value as Json, json};

use super::exchange::{Exchange, Outcome, with_unit};
use crate::output::{self, say};
use crate::render::table::table;

/// Reads and writes what the arguments name. Returns how many entries something went wrong with.
pub fn run(exchange: &mut Exchange<'_>) -> anyhow::Result<u64> {
    let args = exchange.args;
    let tables = tables_on(&exchange.plan, exchange.line.channel);
    let mut failed = 0;
    for name in &args.read {
        let (access, entry) = entry_of(&tables, name)?;
        failed += u64::from(read(exchange, access, entry)?.is_none());
    }
    for words in &args.write {
        let (name, value) = words.split_once('=').context("write --write NAME=VALUE, as --write ramp_time=12.5")?;
        let (access, entry) = entry_of(&tables, name)?;
        failed += u64::from(!write(exchange, access, entry, value)?);
    }
    if let Some(name) = &args.read_all {
        failed += read_all(exchange, &tables, name.as_deref())?;
    }
    Ok(failed)
}

/// The entry with a name: `NAME`, or `TABLE.NAME` where several tables have one.
fn entry_of<'t>(tables: &'t [TableAccess], name: &str) -> anyhow::Result<(&'t TableAccess, &'t Entry)> {
    let (table, entry) = name.split_once('.').map_or((None, name), |(table, entry)| (Some(table), entry));
    let all = || {
        let fits = |access: &&TableAccess| table.is_none_or(|table| access.table.name == table);
        tables.iter().filter(fits).flat_map(|access| access.table.entries.iter().map(move |entry| (access, entry)))
    };
    let found: Vec<_> = all().filter(|(_, known)| known.field.name == entry).collect();
    match found[..] {
        [only] => Ok(only),
        [] => match nearest(entry, all().map(|(_, known)| known.field.name.as_str())) {
            Some(near) => bail!("no table has an entry `{}`; did you mean `{near}`?", escaped(name)),
            None => bail!("no table on this channel has an entry `{}`", escaped(name)),
        },
        _ => {
            let names: Vec<String> =
                found.iter().map(|(access, entry)| format!("{}.{}", access.table.name, entry.field.name)).collect();
            bail!("several tables have an entry `{entry}`: write one of {}", names.join(", "))
        }
    }
}

/// The field of a message that holds the value of an entry, as it was answered.
fn value_in(values: &Values, slot: usize) -> Option<usize> {
    match values.get(slot) {
        ValueRef::Chosen { slot, .. } => Some(slot),
        _ => None,
    }
}

/// Reads an entry. Returns its value as people read it; `None` if something went wrong.
fn read(exchange: &mut Exchange<'_>, access: &TableAccess, entry: &Entry) -> anyhow::Result<Option<String>> {
    let table = &access.table.name;
    if !entry.read {
        bail!("`{}` of `{table}` can only be written", entry.field.name);
    }
    let Some(read) = access.read else { bail!("no message on this channel reads `{table}`") };
    let plan = exchange.plan.clone();
    let key = plan.messages[read.request].message.fields[read.key].name.as_str();
    let ready = exchange.ready(
        read.request,
        vec![(key, GivenValue::Text(&entry.field.name))],
        Vec::new(),
        &RowHeader::default(),
    )?;
    match exchange.ask(&ready)? {
        Outcome::Well(Some(values)) => {
            let repeated = read.repeated.map(|slot| values.get(slot));
            if repeated.is_some_and(|repeated| repeated != ValueRef::Raw(entry.key)) {
                let finding = exchange.look.paint_err(Paint::Bad, "finding:");
                say!("{finding} asked for {}, the answer names another entry of `{table}`", entry.field.name);
                return Ok(None);
            }
            Ok(value_in(&values, read.value).map(|slot| with_unit(&entry.field, &values, slot)))
        }
        _ => Ok(None),
    }
}

/// A value of an entry as it stands in a row.
fn as_json(field: &Field, text: &str) -> Json {
    match &field.kind {
        Kind::Text { .. } | Kind::Bytes(_) => Json::String(text.to_owned()),
        _ => serde_json::from_str(text).unwrap_or_else(|_| Json::String(text.to_owned())),
    }
}

/// Writes an entry, reads it back where it can be read, and compares. Returns whether all went well.
fn write(exchange: &mut Exchange<'_>, access: &TableAccess, entry: &Entry, text: &str) -> anyhow::Result<bool> {
    let (table, name) = (&access.table.name, &entry.field.name);
    if !entry.write {
        bail!("`{name}` of `{table}` can only be read");
    }
    let Some(write) = access.write else { bail!("no message on this channel writes `{table}`") };
    let plan = exchange.plan.clone();
    let fields = &plan.messages[write.request].message.fields;
    let value = Json::Object(Map::from_iter([(name.clone(), as_json(&entry.field, text))]));
    let given = vec![
        (fields[write.key].name.as_str(), GivenValue::Text(name)),
        (fields[write.value].name.as_str(), GivenValue::Json(&value)),
    ];
    let ready = exchange.ready(write.request, given, Vec::new(), &RowHeader::default())?;
    let written = ready.shown_value(write.value, &entry.field);
    if let Outcome::Failed = exchange.ask(&ready)? {
        return Ok(false);
    }
    if !entry.read || access.read.is_none() {
        say!("{name} was written; it cannot be read back");
        return Ok(true);
    }
    let Some(back) = read(exchange, access, entry)? else { return Ok(false) };
    if written.as_ref().is_none_or(|written| *written == back) {
        say!(
            "{name} is {back}, as written{}",
            if entry.kept { "; the definition says that it is kept over a restart" } else { "" }
        );
        return Ok(true);
    }
    let finding = exchange.look.paint_err(Paint::Bad, "finding:");
    say!("{finding} {name} is {back} after {} was written", written.unwrap_or_default());
    Ok(false)
}

/// Reads all entries that can be read, of one table or all. Returns how many could not.
fn read_all(exchange: &mut Exchange<'_>, tables: &[TableAccess], only: Option<&str>) -> anyhow::Result<u64> {
    let fits = |access: &&TableAccess| only.is_none_or(|name| access.table.name == name) && access.read.is_some();
    let wanted: Vec<&TableAccess> = tables.iter().filter(fits).collect();
    if wanted.is_empty() {
        let names: Vec<&str> = tables.iter().map(|access| access.table.name.as_str()).collect();
        bail!("there is no such table that can be read over this channel; the link has: {}", names.join(", "));
    }
    let mut failed = 0;
    let titles = ["table", "entry", "value", "access", "kept"];
    let mut grid = table(&titles, &[false; 5]);
    let mut out = output::stdout();
    for access in wanted {
        for entry in access.table.entries.iter().filter(|entry| entry.read) {
            let value = read(exchange, access, entry)?;
            failed += u64::from(value.is_none());
            let can = if entry.write { "read, write" } else { "read" };
            let kept = if entry.kept { "kept" } else { "" };
            let (of, name): (&Arc<_>, &str) = (&access.table, &entry.field.name);
            if exchange.args.form == RowForm::Ndjson {
                let row = json!({"table": of.name, "entry": name, "value": value, "writable": entry.write, "kept": entry.kept});
                writeln!(out, "{row}")?;
            }
            grid.add_row([of.name.as_str(), name, value.as_deref().unwrap_or("no answer"), can, kept]);
        }
    }
    if exchange.args.form != RowForm::Ndjson {
        write!(out, "{}", grid.lines())?;
    }
    out.flush()?;
    Ok(failed)
}
