//! `listen`: rows of what comes through a port, as it comes.

use std::path::Path;

use emberwort_capture::{Decoder, Filtered, FirstRows, Statistics, StreamSink as _};
use emberwort_rows::{Paint, RowForm, RowPrinter, RowStyle, ShownTimes};
use emberwort_wire::ChunkSink as _;

use super::line::{Incoming, Line, PortInput};
use super::reaction::Reaction;
use crate::cli::{ListenArgs, SenderEnd};
use crate::ending::Ending;
use crate::output::{self, Look, say};
use crate::reading::capture_definitions::{CaptureDefinitions, open_definitions};
use crate::reading::names::message_index;
use crate::reading::queried::asked;
use crate::render::stats::{Account, ambiguous, contradictions, hint, sentence, told_apart};

pub fn run(args: &ListenArgs, link: Option<&Path>, look: Look) -> anyhow::Result<Ending> {
    let CaptureDefinitions { revisions, deferred: later, is_whole, .. } =
        open_definitions(&args.revisions, link, look)?;
    for name in &args.asked.message {
        message_index(revisions.own(), name)?;
    }
    crate::interrupt::catch_as_end();
    let mut incoming = Incoming::new(args.lasting);
    let line = Line::open(&args.port.port, &args.port.line, revisions.own(), &mut incoming)?;
    let style = RowStyle {
        form: args.form,
        raw: args.raw,
        only: args.asked.only_message(revisions.own()),
        labels: crate::reading::labels::read(args.labels.as_deref(), revisions.own())?,
        times: ShownTimes::Utc,
        colored: look.out,
        width: output::terminal_width(),
    };
    let out: Box<dyn std::io::Write> = match args.form {
        RowForm::Bytes => Box::new(output::stdout_for_bytes()),
        _ => Box::new(output::stdout_at_once()),
    };
    let printer = RowPrinter::new(&revisions, &style, out, crate::interrupt::came);
    let sink = Reaction::new(
        revisions.own(),
        &args.on_message,
        &args.run,
        Filtered::new(FirstRows::new(args.count), printer),
    )?;
    let sink = asked(&args.asked, revisions.own(), sink)?;
    let mut decoder = Decoder::of(revisions, sink).with_deferred(later);
    let from = args.from.map(SenderEnd::end).or(line.assumed_sender());
    loop {
        match incoming.wait(&[&line], decoder.poll_timeout()) {
            PortInput::Bytes(_, time, bytes) => {
                // Whether more is wanted is asked below, of what was collected, too.
                let _ = decoder.chunk(&line.chunk(from, time, &bytes));
            }
            PortInput::Break(_) => decoder.end_streams(),
            PortInput::Nothing => decoder.handle_timeout(incoming.now()),
            PortInput::End => break,
        }
        decoder.pause();
        if decoder.has_ended() {
            break;
        }
    }
    // Where nobody reads the output any longer, that is all.
    let (_, statistics) = decoder.finish()?;
    account(&statistics, look);
    incoming.leave(&[&line]);
    let is_whole = !line.tell_dropped() && is_whole;
    let broken = statistics.unread + statistics.broken + statistics.stray > 0;
    let found = !is_whole || !statistics.ambiguous.is_empty() || (args.strict && broken);
    Ok(if found { Ending::WithFindings } else { Ending::Clean })
}

/// Says where every byte went, and what may be wrong.
pub fn account(statistics: &Statistics, look: Look) {
    let account = Account { statistics, file_bytes: 0, damage: &[] };
    say!("{}", sentence(&account));
    if let Some(line) = told_apart(statistics) {
        say!("{line}");
    }
    for line in ambiguous(statistics).into_iter().chain(contradictions(statistics)) {
        say!("{} {line}", look.paint_err(Paint::Bad, "finding:"));
    }
    if statistics.good_frames() == 0 && statistics.input >= MUCH_WITHOUT_A_FRAME {
        say!("nothing of it is a frame: is the speed right, and the channel? --baud and --on say others");
    } else if let Some(hint) = hint(statistics) {
        say!("{hint}");
    }
}

/// So many bytes in which no frame was found are more than a start in the middle of one.
const MUCH_WITHOUT_A_FRAME: u64 = 256;
