//! `stats`: counts what captures hold.

use std::io::Write;
use std::path::Path;

use emberwort_capture::decode::Nothing;

use super::{Ending, inputs};
use crate::cli::{StatsArgs, TableForm};
use crate::output::{self, Look};
use crate::project::load_plan;
use crate::render::stats::{Account, json, tables};

pub fn run(args: &StatsArgs, link: Option<&Path>, look: Look) -> anyhow::Result<Ending> {
    let plan = load_plan(link, look)?;
    let (_, read) = inputs::decode_all(&args.input, &plan, Nothing)?;
    let account = Account { statistics: &read.statistics, file_bytes: read.file_bytes, damage: &read.damage };
    let mut out = output::stdout();
    match args.form_out {
        TableForm::Table => out.write_all(tables(&account).as_bytes())?,
        TableForm::Ndjson => writeln!(out, "{}", json(&account))?,
    }
    out.flush()?;
    Ok(if read.damage.is_empty() { Ending::Clean } else { Ending::WithFindings })
}
