//! `stats`: counts what captures hold.

use std::io::Write;
use std::path::Path;

use emberwort_capture::{BrokenFrame, Row, RowSink, StrayBytes};

use super::speakers::speakers;
use super::{Ending, inputs};
use crate::cli::{StatsArgs, TableForm};
use crate::output::{self, Look, say};
use crate::render::stats::{Account, hint, json, tables};

/// Wants nothing but the counts, and ends with Ctrl-C.
struct UntilInterrupted;

impl RowSink for UntilInterrupted {
    fn row(&mut self, _row: &Row<'_>) {}
    fn broken(&mut self, _broken: &BrokenFrame<'_>) {}
    fn stray(&mut self, _stray: &StrayBytes<'_>) {}

    fn wants_values(&self) -> bool {
        false
    }

    fn is_full(&self) -> bool {
        output::interrupted()
    }
}

pub fn run(args: &StatsArgs, link: Option<&Path>, look: Look) -> anyhow::Result<Ending> {
    let (speakers, is_whole) = speakers(&args.speakers, link, look)?;
    output::catch_interrupt();
    let (_, read) = inputs::decode_all(&args.input, speakers, UntilInterrupted)?;
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
