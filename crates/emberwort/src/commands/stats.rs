//! `stats`: counts what captures hold.

use std::convert::Infallible;
use std::io::Write;
use std::ops::ControlFlow;
use std::path::Path;

use emberwort_capture::{Item, ItemSink, Wants};

use super::ending::Ending;
use super::inputs;
use super::speakers::speakers;
use crate::cli::{StatsArgs, TableForm};
use crate::output::{self, Look, say};
use crate::render::stats::{Account, hint, json, tables};

/// Wants nothing but the counts, and ends with Ctrl-C.
struct UntilInterrupted;

impl ItemSink for UntilInterrupted {
    type Error = Infallible;

    fn wants(&self, _definition: usize, _message: usize) -> Wants {
        Wants::Nothing
    }

    fn item(&mut self, _item: Item<'_>) -> Result<ControlFlow<()>, Infallible> {
        Ok(ControlFlow::Continue(()))
    }

    fn is_full(&self) -> bool {
        output::interrupted()
    }
}

pub fn run(args: &StatsArgs, link: Option<&Path>, look: Look) -> anyhow::Result<Ending> {
    let spoken = speakers(&args.speakers, link, look)?;
    let is_whole = spoken.is_whole;
    output::catch_interrupt();
    let read = inputs::decode_all(&args.input, link, spoken, UntilInterrupted)?;
    if output::interrupted() {
        say!("interrupted; this is what was read until then");
    }
    let account =
        Account { statistics: &read.statistics, file_bytes: read.inputs.file_bytes, damage: &read.inputs.damage };
    let mut out = output::stdout();
    match args.form_out {
        TableForm::Table => out.write_all(tables(&account).as_bytes())?,
        TableForm::Ndjson => writeln!(out, "{}", json(&account))?,
    }
    out.flush()?;
    for note in &read.inputs.notes {
        say!("{note}");
    }
    if let Some(hint) = hint(&read.statistics) {
        say!("{hint}");
    }
    if let Some(hint) = read.text_hint() {
        say!("{hint}");
    }
    Ok(if read.inputs.damage.is_empty() && is_whole && read.statistics.ambiguous == 0 {
        Ending::Clean
    } else {
        Ending::WithFindings
    })
}
