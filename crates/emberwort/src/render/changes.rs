//! What changed from row to row, as lines of text, NDJSON or CSV.

use std::fmt::Write as _;
use std::io::{self, Write};
use std::ops::ControlFlow;
use std::sync::Arc;

use anyhow::bail;
use emberwort_capture::query::changes::ChangeSink;
use emberwort_capture::{RevisionMap, Row};
use emberwort_model::Plan;
use emberwort_model::diagnostics::escaped;
use emberwort_model::model::Field;
use emberwort_rows::{Paint, RowForm, RowStyle, has_unit, time::rfc3339, write_csv_cell, write_value};
use emberwort_text::json::{self, Writing};
use emberwort_wire::{ValueRef, Values};

use crate::output::{self, Stdout};
use crate::render::wrapped_under;

/// Prints changes: old value and new.
pub struct ChangePrinter {
    style: RowStyle,
    plan: Arc<Plan>,
    out: io::BufWriter<Stdout>,
    has_title: bool,
}

impl ChangePrinter {
    pub fn new(revisions: &RevisionMap, style: RowStyle) -> anyhow::Result<Self> {
        if !matches!(style.form, RowForm::Table | RowForm::Ndjson | RowForm::Csv) {
            bail!("--changes are shown as table, ndjson or csv");
        }
        let plan = revisions.own().clone();
        Ok(Self { style, plan, out: output::stdout(), has_title: false })
    }

    fn shown(&self, row: &Row<'_>, field: &Field, (values, slot): (&Values, usize)) -> String {
        let value = values.get(slot);
        if matches!(value, ValueRef::Absent | ValueRef::Unset) {
            return "absent".to_owned();
        }
        let mut text = String::new();
        write_value(row.plan, row.from, field, (values, slot), self.style.raw, &mut text);
        if !self.style.raw && has_unit(field, value) {
            let _ = write!(text, " {}", field.unit);
        }
        escaped(&text)
    }

    fn line(&mut self, row: &Row<'_>, before: &Values, slots: &[usize]) -> io::Result<()> {
        if !std::mem::replace(&mut self.has_title, true) {
            writeln!(self.out, "{:26}  {:8}  {:6}  {:>4}  CHANGES", "TIME (UTC)", "CHANNEL", "FROM", "NODE")?;
        }
        let message = &row.plan.messages[row.message].message;
        let time = match row.time {
            Some(time) => rfc3339(time).trim_end_matches('Z').chars().take(26).collect(),
            None => format!("at {}", row.offset),
        };
        let mut line = format!(
            "{time:26}  {:8}  {:6}  {:>4}  {}",
            escaped(&self.plan.channels[row.channel].name),
            row.from.as_str(),
            row.frame.node.map_or_else(String::new, |node| node.to_string()),
            emberwort_rows::painted(self.style.colored, Paint::Bold, message.name.clone()),
        );
        for (n, slot) in slots.iter().enumerate() {
            let field = &message.fields[*slot];
            let (old, new) = (self.shown(row, field, (before, *slot)), self.shown(row, field, (row.values, *slot)));
            let _ = write!(line, "{} {}: {old} \u{2192} {new}", if n == 0 { "" } else { "," }, field.name);
        }
        writeln!(self.out, "{}", wrapped_under(&line, "      "))
    }

    fn json_of(&self, row: &Row<'_>, field: &Field, (values, slot): (&Values, usize)) -> String {
        if matches!(values.get(slot), ValueRef::Absent | ValueRef::Unset) {
            return "null".to_owned();
        }
        let mut text = String::new();
        let writing = Writing { raw: self.style.raw, inside: Some((row.plan, row.from)) };
        // Writing to memory cannot fail.
        let _ = json::write_value(field, values, slot, writing, &mut text);
        text
    }

    /// Each changed field: its name, the old value and the new one, as NDJSON has them.
    fn ndjson(&mut self, row: &Row<'_>, before: &Values, slots: &[usize]) -> io::Result<()> {
        let message = &row.plan.messages[row.message].message;
        let mut line = String::from("{");
        if let Some(time) = row.time {
            let _ = write!(line, "\"time\":\"{}\",", rfc3339(time));
        }
        let _ = write!(
            line,
            "\"channel\":\"{}\",\"direction\":\"{}\",",
            self.plan.channels[row.channel].name,
            row.from.as_str()
        );
        if let Some(node) = row.frame.node {
            let _ = write!(line, "\"node\":{node},");
        }
        let _ = write!(line, "\"message\":\"{}\",\"changes\":{{", message.name);
        for (n, slot) in slots.iter().enumerate() {
            let field = &message.fields[*slot];
            let (old, new) = (self.json_of(row, field, (before, *slot)), self.json_of(row, field, (row.values, *slot)));
            let comma = if n == 0 { "" } else { "," };
            let _ = write!(line, "{comma}\"{}\":{{\"old\":{old},\"new\":{new}}}", field.name);
        }
        writeln!(self.out, "{line}}}}}")
    }

    fn csv(&mut self, row: &Row<'_>, before: &Values, slots: &[usize]) -> io::Result<()> {
        if !std::mem::replace(&mut self.has_title, true) {
            writeln!(self.out, "time,offset,channel,direction,node,message,field,old,new")?;
        }
        let message = &row.plan.messages[row.message].message;
        for slot in slots {
            let field = &message.fields[*slot];
            let text = |values: &Values| {
                let mut text = String::new();
                if !matches!(values.get(*slot), ValueRef::Absent | ValueRef::Unset) {
                    write_value(row.plan, row.from, field, (values, *slot), self.style.raw, &mut text);
                }
                let mut cell = String::new();
                write_csv_cell(&text, &mut cell);
                cell
            };
            let (old, new) = (text(before), text(row.values));
            writeln!(
                self.out,
                "{},{},{},{},{},{},{},{old},{new}",
                row.time.map_or_else(String::new, rfc3339),
                row.time.map_or_else(|| row.offset.to_string(), |_| String::new()),
                self.plan.channels[row.channel].name,
                row.from.as_str(),
                row.frame.node.map_or_else(String::new, |node| node.to_string()),
                message.name,
                field.name
            )?;
        }
        Ok(())
    }
}

impl ChangeSink for ChangePrinter {
    type Error = io::Error;

    fn change(&mut self, row: &Row<'_>, before: &Values, slots: &[usize]) -> io::Result<ControlFlow<()>> {
        match self.style.form {
            RowForm::Ndjson => self.ndjson(row, before, slots)?,
            RowForm::Csv => self.csv(row, before, slots)?,
            _ => self.line(row, before, slots)?,
        }
        Ok(ControlFlow::Continue(()))
    }

    fn is_full(&self) -> bool {
        crate::interrupt::came()
    }

    fn pause(&mut self) -> io::Result<()> {
        self.out.flush()
    }
}
