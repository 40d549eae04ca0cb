//! What happened around the moment at which a trial failed: the shortest story that explains it.

use std::collections::VecDeque;
use std::sync::Arc;

use emberwort_capture::{Decoder, RevisionMap};
use emberwort_link::report::Verdict;
use emberwort_link::{Report, Scenario, TrialObserver, run};
use emberwort_model::Plan;
use emberwort_model::diagnostics::escaped;
use emberwort_model::hex::hex;
use emberwort_model::ids::ChannelId;
use emberwort_model::model::End;
use emberwort_rows::{Paint, RowForm, RowPrinter, RowStyle, ShownTimes, time};
use emberwort_wire::{Chunk, ChunkSink as _, Time, Times};

use crate::cli::TrialArgs;
use crate::output::{self, Look};
use crate::render::{plural, wrapped_at, wrapped_under};

/// So many pieces are shown before and after the moment.
const AROUND: usize = 3;

/// The most failures of which pieces are kept.
const MAX_STORIES: usize = 50;

/// The most failures that are told on a terminal; a report tells all.
const TOLD: usize = 3;

/// How long before and after the moment of a failure a recording is to be looked at.
const NEAR: u64 = 2 * SECOND;

const SECOND: u64 = 1_000_000_000;

/// The moment of what no moment shows.
const NEVER: Time = Time::from_nanoseconds(u64::MAX);

/// What is told of a failure.
pub struct Story {
    pub verdict: Verdict,
    /// What was sent and received around the moment, in order of time.
    pub pieces: Vec<Piece>,
    plan: Arc<Plan>,
    /// When the trial starts.
    starts: Time,
}

/// Bytes that an end sent or received.
pub struct Piece {
    pub is_sent: bool,
    pub from: End,
    pub time: Time,
    pub key: Option<u64>,
    pub bytes: Vec<u8>,
    pub channel: ChannelId,
}

/// Keeps what goes over the wire around moments.
struct MomentRecorder {
    moments: Vec<Time>,
    before: VecDeque<Piece>,
    /// By moment: what is kept.
    kept: Vec<Vec<Piece>>,
}

impl Piece {
    fn of(chunk: &Chunk<'_>, is_sent: bool) -> Self {
        Self {
            is_sent,
            from: chunk.stream.from.unwrap_or(End::Device),
            time: chunk.times.last().unwrap_or_default(),
            key: chunk.key,
            bytes: chunk.bytes.to_vec(),
            channel: chunk.stream.channel,
        }
    }

    fn again(&self) -> Self {
        Self { bytes: self.bytes.clone(), ..*self }
    }
}

impl MomentRecorder {
    fn note(&mut self, piece: Piece) {
        for (moment, kept) in self.moments.iter().zip(&mut self.kept) {
            if piece.time < *moment {
                continue;
            }
            if kept.is_empty() {
                kept.extend(self.before.iter().map(Piece::again));
            }
            let after = kept.iter().filter(|kept| kept.time >= *moment).count();
            if after < 2 * AROUND {
                kept.push(piece.again());
            }
        }
        self.before.push_back(piece);
        if self.before.len() > 2 * AROUND {
            self.before.pop_front();
        }
    }
}

impl TrialObserver for MomentRecorder {
    fn should_continue(&mut self, _: u64) -> bool {
        // Those that no moment shows are not waited for.
        let wanted = self.moments.iter().zip(&self.kept).filter(|(moment, _)| **moment < NEVER);
        wanted.filter(|(moment, kept)| kept.iter().filter(|piece| piece.time >= **moment).count() < 2 * AROUND).count()
            > 0
    }

    fn sent(&mut self, chunk: &Chunk<'_>) {
        self.note(Piece::of(chunk, true));
    }

    fn received(&mut self, chunk: &Chunk<'_>, _: u64) {
        self.note(Piece::of(chunk, false));
    }
}

/// Keeps all that goes over the wire of a trial that cannot be run in the same way again, up to a limit.
pub struct TailRecorder<W> {
    pub watch: W,
    /// What went over the wire; `None` if the trial can be run again.
    pub pieces: Option<VecDeque<Piece>>,
}

/// So many pieces are kept of a trial that cannot be run again.
const MAX_PIECES: usize = 100_000;

impl<W: TrialObserver> TailRecorder<W> {
    /// Keeps what goes over the wire if `keeps` says so.
    pub fn new(watch: W, keeps: bool) -> Self {
        Self { watch, pieces: keeps.then(VecDeque::new) }
    }

    fn note(&mut self, chunk: &Chunk<'_>, is_sent: bool) {
        if let Some(pieces) = &mut self.pieces {
            if pieces.len() >= MAX_PIECES {
                pieces.pop_front();
            }
            pieces.push_back(Piece::of(chunk, is_sent));
        }
    }
}

impl<W: TrialObserver> TrialObserver for TailRecorder<W> {
    fn should_continue(&mut self, now: u64) -> bool {
        self.watch.should_continue(now)
    }

    fn sent(&mut self, chunk: &Chunk<'_>) {
        self.note(chunk, true);
        self.watch.sent(chunk);
    }

    fn received(&mut self, chunk: &Chunk<'_>, node: u64) {
        self.note(chunk, false);
        self.watch.received(chunk, node);
    }
}

/// The stories of what failed, out of what was kept, or of the trial run once more: it is the same each time.
pub fn stories(scenario: &Scenario, report: &Report, kept: Option<VecDeque<Piece>>) -> Vec<Story> {
    let failed: Vec<&Verdict> = report.verdicts.iter().filter(|verdict| !verdict.held()).take(MAX_STORIES).collect();
    // What no moment shows has no frames around it.
    let moments: Vec<Time> =
        failed.iter().map(|verdict| verdict.at.map_or(NEVER, |at| scenario.starts.after(at))).collect();
    if failed.is_empty() {
        return Vec::new();
    }
    let empty = moments.iter().map(|_| Vec::new()).collect();
    let mut around = MomentRecorder { moments, before: VecDeque::new(), kept: empty };
    match kept {
        Some(pieces) => pieces.into_iter().for_each(|piece| around.note(piece)),
        None => {
            run(scenario, &mut around);
        }
    }
    let last: Vec<Piece> = around.before.into();
    let told = failed.into_iter().zip(around.kept).map(|(verdict, pieces)| {
        // What failed at the end has nothing behind it.
        let is_last = pieces.is_empty() && verdict.at.is_some();
        let pieces = if is_last { last.iter().map(Piece::again).collect() } else { pieces };
        let (plan, starts) = (scenario.definitions.own().clone(), scenario.starts);
        Story { verdict: verdict.clone(), plan, pieces, starts }
    });
    told.collect()
}

/// The received pieces as rows of so many columns, with the seconds since a moment.
fn decoded(plan: &Arc<Plan>, pieces: &[Piece], since: Time, width: Option<usize>) -> String {
    let plan = plan.clone();
    let style = RowStyle {
        form: RowForm::Table,
        raw: false,
        only: None,
        labels: None,
        times: ShownTimes::Since(since),
        colored: false,
        width,
    };
    let mut rows = Vec::new();
    let printer = RowPrinter::new(&RevisionMap::of(plan.clone()), &style, &mut rows, crate::interrupt::came);
    let mut decoder = Decoder::new(plan, printer);
    for piece in pieces.iter().filter(|piece| !piece.is_sent) {
        let stream = emberwort_wire::StreamId { channel: piece.channel, from: Some(piece.from), tap: 0 };
        let chunk = Chunk { stream, times: Times::Last(piece.time), key: piece.key, bytes: &piece.bytes };
        let _ = decoder.chunk(&chunk);
        decoder.pause();
    }
    let _ = decoder.finish();
    String::from_utf8(rows).unwrap_or_default()
}

impl Story {
    /// The story in lines of so many columns, without its sentence.
    pub fn lines(&self, width: Option<usize>) -> Vec<String> {
        let Some(at) = self.verdict.at else {
            return vec!["no single time shows it: it is counted over the whole trial".to_owned()];
        };
        let moment = self.starts.after(at);
        let mut lines = vec![format!("{}; received around it, in seconds since the start:", self.first_visible(at))];
        let rows = decoded(&self.plan, &self.pieces, self.starts, width.map(|width| width.saturating_sub(2)));
        lines.extend(rows.lines().map(|line| format!("  {line}")));
        let is_marked = self.pieces.iter().any(|piece| piece.time == moment);
        lines.push(format!("bytes on the wire{}:", if is_marked { ", `>` at that time" } else { "" }));
        for piece in &self.pieces {
            let mark = if piece.time == moment { "> " } else { "" };
            let at = mark.to_owned() + &ShownTimes::Since(self.starts).text(None, piece.time, None);
            let (who, what) = match (piece.is_sent, piece.from) {
                (true, from) => (from, "sends   "),
                (false, from) => (from.other(), "receives"),
            };
            let line = format!("{at:>17}  {:6}  {what}  {}", who.as_str(), hex(&piece.bytes));
            lines.extend(wrapped_at(width, &line, &" ".repeat(37)).lines().map(str::to_owned));
        }
        lines
    }

    /// When it is first visible: in the time of the trial, and in that of a recording.
    fn first_visible(&self, at: u64) -> String {
        let mut of_day = String::new();
        time::write_time_of_day(self.starts.after(at), 6, &mut of_day);
        format!("first visible {} after the start ({of_day} UTC)", time::duration(at))
    }
}

/// The stories of the first ones of so many failures, for people, with the command that shows more.
pub fn written(stories: &[Story], failures: usize, args: &TrialArgs, look: Look) -> String {
    let mut out = String::new();
    for (number, story) in stories.iter().take(TOLD).enumerate() {
        let Verdict { sentence, found, at, .. } = &story.verdict;
        let title = look.paint(Paint::Bold, format!("why \"{}\" failed", escaped(sentence)));
        let (expected, found) = (format!("expected: {}", escaped(sentence)), format!("found:    {found}"));
        out += &format!("\n{title}\n{}\n{}\n", wrapped_under(&expected, "  "), wrapped_under(&found, "  "));
        let told = stories[..number].iter().find(|told| at.is_some() && told.verdict.at == *at);
        match (told, at) {
            (Some(told), Some(at)) => {
                let sentence = escaped(&told.verdict.sentence);
                let same = format!("{}, as \"{sentence}\": the frames are shown there", story.first_visible(*at));
                out += &format!("{}\n", wrapped_under(&same, "  "));
            }
            _ => {
                for line in story.lines(output::terminal_width()) {
                    out += &format!("{line}\n");
                }
            }
        }
    }
    if failures > TOLD {
        let rest = plural(failures - TOLD, "more failure");
        let how = if args.report.is_empty() { "--report FILE.html tells why" } else { "the report tells why" };
        out += &format!("\n{rest}: {how}\n");
    }
    out + &format!("\n{}\n", wrapped_under(&format!("to see more: {}", more(stories, args)), "  "))
}

/// The commands that record the trial and show what came around the first moment that one of the stories has.
fn more(stories: &[Story], args: &TrialArgs) -> String {
    let (record, recording) = match &args.record {
        Some(path) => (String::new(), crate::files::shown(path)),
        None => {
            let file = crate::files::shown(&args.file);
            let seed = args.seed.map_or_else(String::new, |seed| format!(" --seed {seed}"));
            (format!("emberwort trial {file}{seed} --record run.pcapng, then "), "run.pcapng".into())
        }
    };
    let near = stories.iter().find_map(|story| Some((story.starts, story.verdict.at?))).map(|(starts, at)| {
        // Whole seconds, which are shorter to write.
        let whole = |nanoseconds: u64| Time::from_nanoseconds(nanoseconds / SECOND * SECOND);
        let moment = starts.after(at).nanoseconds();
        let (since, until) = (whole(moment.saturating_sub(NEAR)), whole(moment.saturating_add(NEAR + SECOND - 1)));
        let [since, until, starts] = [since, until, starts].map(|time| time::rfc3339(time).replace(".000000000", ""));
        format!(" --since {since} --until {until} --times {starts}")
    });
    format!("{record}emberwort decode {recording}{}", near.unwrap_or_default())
}
