//! `decode`: captures or bytes to messages.

use std::convert::Infallible;
use std::io::Write;
use std::ops::ControlFlow;
use std::path::Path;

use anyhow::bail;
use emberwort_capture::exchanges::Exchanges;
use emberwort_capture::query::changes::Changes;
use emberwort_capture::query::filter::FromEnd;
use emberwort_capture::revision_map::Definition;
use emberwort_capture::{Filtered, FirstRows, Item, ItemSink, LastRows};
use emberwort_model::Plan;
use emberwort_model::plan::MessagePlan;
use emberwort_rows::{Paint, RowForm, RowPrinter, RowStyle, RowsOnCores, ShownTimes, Zone, write_tree_fields};
use emberwort_text::json::{self, Writing};
use emberwort_wire::{BodyError, Time, Values, decode};

use super::exchanges::ExchangePrinter;
use super::explain;
use super::tables;
use crate::cli::{DecodeArgs, DecodeForm, SenderEnd, moment};
use crate::ending::Ending;
use crate::files::PendingFile;
use crate::output::{self, Look, say};
use crate::project::load_plan;
use crate::reading::capture_definitions::{CaptureDefinitions, open_definitions};
use crate::reading::inputs;
use crate::reading::inputs::given_hex;
use crate::reading::names::message_index;
use crate::reading::queried::{QueriedSink, around, asked, filters};
use crate::render::changes::ChangePrinter;
use crate::render::plural;
use crate::render::stats::{
    Account, ambiguous, contradictions, damage_text, hint, sentence, time_sentence, told_apart,
};

pub fn run(args: &DecodeArgs, link: Option<&Path>, look: Look) -> anyhow::Result<Ending> {
    if let Some(name) = &args.body {
        let plan = load_plan(link, look)?;
        let index = message_index(&plan, name)?;
        return body(args, &plan, &plan.messages[index]);
    }
    let one_file = args.out.as_deref().filter(|out| is_one_file(args, out));
    if let Some(path) = one_file {
        crate::files::must_be_free(path)?;
    } else if let Some(out) = &args.out {
        crate::interrupt::catch();
        return tables::run(args, out, link, look);
    }
    let form = match args.form_out {
        DecodeForm::Rows(form) => form,
        #[cfg(feature = "parquet")]
        DecodeForm::Parquet => bail!("say which folder the tables go to: --out DIR"),
    };
    if args.exchanges && !matches!(form, RowForm::Table | RowForm::Ndjson) {
        bail!("--exchanges are shown as table or ndjson");
    }
    if args.explain.is_some() && form != RowForm::Table {
        bail!("--explain tells it in sentences, and has no other form");
    }
    let mut definitions = open_definitions(&args.revisions, link, look)?;
    let is_whole = definitions.is_whole;
    for name in &args.asked.message {
        let knows = |definition: &Definition| definition.plan.message_index(name).is_some();
        let CaptureDefinitions { revisions, deferred: later, .. } = &mut definitions;
        if !revisions.definitions().iter().any(knows) {
            later.ask_all(revisions);
        }
        if !revisions.definitions().iter().any(knows) {
            message_index(revisions.own(), name)?;
        }
    }
    if let Some(number) = args.explain {
        return explain::run(args, number, link, definitions, look);
    }
    let style = RowStyle {
        form,
        raw: args.raw,
        only: args.asked.only_message(definitions.revisions.own()),
        labels: crate::reading::labels::read(args.labels.as_deref(), definitions.revisions.own())?,
        times: times(args, link, look)?,
        colored: look.out,
        width: output::terminal_width(),
    };
    match args.input.follow {
        true => crate::interrupt::catch_as_end(),
        false => crate::interrupt::catch(),
    }
    let cores = || std::thread::available_parallelism().map_or(1, usize::from);
    let read = match (one_file, args.threads.map_or_else(cores, usize::from)) {
        (Some(path), _) => {
            let mut file = PendingFile::new(path)?;
            let wanted = rows(
                args,
                definitions.revisions.own(),
                RowPrinter::new(&definitions.revisions, &style, &mut file, crate::interrupt::came),
            )?;
            let read = inputs::decode_all(&args.input, link, definitions, wanted)?;
            if crate::interrupt::came() {
                say!("{} was not written", crate::files::shown(path));
            } else {
                file.commit(false)?;
                say!("the rows are in {}", crate::files::shown(path));
            }
            read
        }
        _ if args.exchanges => {
            let plan = definitions.revisions.own().clone();
            let printer = ExchangePrinter::new(&plan, form, look);
            let wanted = Exchanges::new(filters(&args.asked, &plan)?, printer);
            inputs::decode_all(&args.input, link, definitions, wanted)?
        }
        _ if args.changes => {
            let plan = definitions.revisions.own().clone();
            let printer = ChangePrinter::new(&definitions.revisions, style)?;
            let changes = Changes::new(filters(&args.asked, &plan)?, printer);
            inputs::decode_all(&args.input, link, definitions, around(&args.asked, &plan, changes)?)?
        }
        // What is no text is written as it is.
        _ if form == RowForm::Bytes => {
            let printer =
                RowPrinter::new(&definitions.revisions, &style, output::stdout_for_bytes(), crate::interrupt::came);
            let wanted = rows(args, definitions.revisions.own(), printer)?;
            inputs::decode_all(&args.input, link, definitions, wanted)?
        }
        (None, 1) => {
            let printer =
                RowPrinter::new(&definitions.revisions, &style, output::stdout_at_once(), crate::interrupt::came);
            let wanted = rows(args, definitions.revisions.own(), printer)?;
            inputs::decode_all(&args.input, link, definitions, wanted)?
        }
        (None, threads) => {
            let printer = RowsOnCores::new(
                &definitions.revisions,
                style,
                threads,
                || Box::new(output::stdout_at_once()),
                crate::interrupt::came,
            );
            let wanted = rows(args, definitions.revisions.own(), printer)?;
            inputs::decode_all(&args.input, link, definitions, wanted)?
        }
    };
    let account =
        Account { statistics: &read.statistics, file_bytes: read.inputs.file_bytes, damage: &read.inputs.damage };
    if crate::interrupt::came() && !args.input.follow {
        say!("interrupted; this is what was read until then:");
    }
    say!("{}", sentence(&account));
    if let Some(line) = time_sentence(&account) {
        say!("{line}");
    }
    for (name, damage) in &read.inputs.damage {
        say!("{}", damage_text(name, damage));
    }
    for note in read.inputs.all_remarks() {
        say!("{note}");
    }
    let statistics = &read.statistics;
    if let Some(line) = told_apart(statistics) {
        say!("{line}");
    }
    for line in ambiguous(statistics).into_iter().chain(contradictions(statistics)) {
        say!("{} {line}", look.paint_err(Paint::Bad, "finding:"));
    }
    if let Some(hint) = hint(statistics) {
        say!("{hint}");
    }
    if let Some(hint) = read.text_hint() {
        say!("{hint}");
    }
    let broken = statistics.unread + statistics.broken + statistics.stray > 0;
    Ok(
        if !is_whole
            || !statistics.ambiguous.is_empty()
            || !read.inputs.damage.is_empty()
            || (args.strict && (broken || !read.inputs.notes.is_empty()))
        {
            Ending::WithFindings
        } else {
            Ending::Clean
        },
    )
}

/// Whether `--out` names a file for all rows, and not a folder for a table of each message.
fn is_one_file(args: &DecodeArgs, out: &Path) -> bool {
    args.form_out == DecodeForm::Rows(RowForm::Csv)
        && out.extension().is_some_and(|ending| ending == "csv")
        && !out.is_dir()
}

/// A printer behind the filters and limits that the arguments ask for.
fn rows<S: ItemSink>(args: &DecodeArgs, plan: &Plan, printer: S) -> anyhow::Result<QueriedSink<Rows<S>>> {
    // A stream of bytes is that of one end.
    let end = args.input.from.filter(|_| args.form_out == DecodeForm::Rows(RowForm::Bytes)).map(SenderEnd::end);
    let limited = LastRows::new(args.last, Filtered::new(FirstRows::new(args.first), printer));
    asked(&args.asked, plan, Filtered::new(FromEnd::new(end), limited))
}

/// How tables show moments.
fn times(args: &DecodeArgs, link: Option<&Path>, look: Look) -> anyhow::Result<ShownTimes> {
    if let Some(zone) = &args.zone {
        return Ok(ShownTimes::Zone(Zone::new(zone).map_err(|problem| anyhow::anyhow!("--zone: {problem}"))?));
    }
    match args.times.as_deref() {
        // A waveform says no date.
        None if !args.input.wave.wire.is_empty() => Ok(ShownTimes::Wave),
        None => Ok(ShownTimes::Utc),
        Some("before") => Ok(ShownTimes::Before),
        Some(text) => match (text.parse(), moment(text)) {
            (Ok(number), _) => Ok(ShownTimes::Since(time_of_frame(number, args, link, look)?)),
            (_, Ok(time)) => Ok(ShownTimes::Since(time)),
            (_, Err(problem)) => bail!(
                "--times is `before`, for seconds since the row before, the number of a frame, or a moment: {problem}"
            ),
        },
    }
}

/// When the frame with a number came, for which the captures are read up to it.
fn time_of_frame(number: u64, args: &DecodeArgs, link: Option<&Path>, look: Look) -> anyhow::Result<Time> {
    struct FrameOfRow(u64, Option<Option<Time>>);
    impl ItemSink for FrameOfRow {
        type Error = Infallible;

        fn item(&mut self, item: Item<'_>) -> Result<ControlFlow<()>, Infallible> {
            let found = match item {
                Item::Row(row) => row.number,
                Item::Broken(broken) => broken.number,
                Item::Stray(_) => return Ok(ControlFlow::Continue(())),
            };
            if found < self.0 {
                return Ok(ControlFlow::Continue(()));
            }
            self.1 = (found == self.0).then(|| item.time());
            Ok(ControlFlow::Break(()))
        }
    }
    if args.input.follow || args.input.inputs.iter().any(|path| path == Path::new("-")) {
        bail!("--times {number} reads a capture twice, which standard input and --follow do not allow");
    }
    let mut found = FrameOfRow(number, None);
    inputs::decode_all(&args.input, link, open_definitions(&args.revisions, link, look)?, &mut found)?;
    match found.1 {
        None => bail!("--times {number}: there is no frame {number}"),
        Some(None) => bail!("--times {number}: the frame has no time"),
        Some(Some(time)) => Ok(time),
    }
}

/// What limits rows.
type Rows<S> = Filtered<FromEnd, LastRows<Filtered<FirstRows, S>>>;

/// Decodes a bare body, given in hex.
fn body(args: &DecodeArgs, link: &Plan, plan: &MessagePlan) -> anyhow::Result<Ending> {
    let bytes = given_hex(args.input.hex.as_deref().unwrap_or_default())?;
    let from = plan.message.from;
    let mut values = Values::default();
    if let Err(error) = decode(plan, &bytes, &mut values) {
        let field = error.slot().map_or(String::new(), |slot| format!(" (field {})", plan.message.fields[slot].name));
        let (name, length) = (&plan.message.name, plural(bytes.len(), "byte"));
        let is = if bytes.len() == 1 { "is" } else { "are" };
        let why = match error {
            BodyError::Truncated { needed, revision: 1, .. } => {
                format!("{length} {is} too short for a body of {name}, which needs at least {needed}")
            }
            BodyError::Truncated { needed, revision, .. } => {
                format!(
                    "{length} {is} too short for a body of {name}: what revision {revision} added ends at byte {needed} or later"
                )
            }
            error => format!("{length} {is} not a body of {name}: {error}{field}"),
        };
        bail!("{why}\n`emberwort layout {name}` shows what it holds");
    }
    let mut out = output::stdout();
    match args.form_out {
        DecodeForm::Rows(RowForm::Ndjson) => {
            let mut line = String::new();
            json::write_fields(plan, &values, Writing { raw: args.raw, inside: Some((link, from)) }, &mut line)?;
            writeln!(out, "{line}")?;
        }
        DecodeForm::Rows(RowForm::Table | RowForm::Tree) => {
            let mut lines = Vec::new();
            write_tree_fields(link, plan, from, &values, &|_| None, |line| lines.push(line.to_owned()));
            for line in lines {
                writeln!(out, "{line}")?;
            }
        }
        _ => bail!("a bare body is shown as tree or ndjson; other forms are for captures"),
    }
    out.flush()?;
    let later = values.later_bytes();
    say!(
        "{} bytes: {} in {}{}",
        bytes.len(),
        bytes.len() - later,
        plan.message.name,
        if later > 0 { format!(", {later} from a later revision") } else { String::new() }
    );
    Ok(Ending::Clean)
}
