//! `stats`: counts what captures hold.

use std::convert::Infallible;
use std::io::Write;
use std::ops::ControlFlow;
use std::path::Path;

use emberwort_capture::{Item, ItemSink, Wants};

use super::ending::Ending;
use super::inputs;
use super::speakers::{Spoken, speakers};
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
    let Spoken { speakers, later, is_whole } = speakers(&args.speakers, link, look)?;
    output::catch_interrupt();
    let read = inputs::decode_all(&args.input, speakers, later, UntilInterrupted)?;
    if output::interrupted() {
        say!("interrupted; this is what was read until then");
    }
    let account = Account { statistics: &read.statistics, file_bytes: read.file_bytes, damage: &read.damage };
    let mut out = output::stdout();
    match args.form_out {
        TableForm::Table => out.write_all(tables(&account).as_bytes())?,
        TableForm::Ndjson => writeln!(out, "{}", json(&account))?,
    }
    out.flush()?;
    if let Some(hint) = hint(&read.statistics) {
        say!("{hint}");
    }
    if let Some(hint) = read.text_hint() {
        say!("{hint}");
    }
    Ok(if read.damage.is_empty() && is_whole && read.statistics.ambiguous == 0 {
        Ending::Clean
    } else {
        Ending::WithFindings
    })
}
