//! `plot` of waveforms: the whole above, a part of it below, and what it means in strips under its wires.

use std::convert::Infallible;
use std::io::Write as _;
use std::ops::ControlFlow;
use std::path::Path;

use anyhow::bail;
use emberwort_capture::anatomy::{anatomy, direction};
use emberwort_capture::{Decoder, DefinitionId, Item, ItemSink, Query, RevisionMap, Wants};
use emberwort_model::ids::{ChannelId, MessageId};
use emberwort_model::medium::usb::packet_text;
use emberwort_model::model::End;
use emberwort_rows::{RowContext, meaning};
use emberwort_waveform::Moment;
use emberwort_waveform::findings::duration;
use emberwort_waveform::trace::Traces;
use emberwort_wire::chunk::ByteTime;

use crate::cli::{PlotArgs, PlotForm, wave_span};
use crate::ending::Ending;
use crate::files::{self, Replace};
use crate::output::{self, say};
use crate::reading::capture_definitions::CaptureDefinitions;
use crate::reading::opening::input_name;
use crate::reading::queried::{Interruptible, asked};
use crate::reading::sources::Settings;
use crate::reading::waveforms::read_beside;
use crate::render::plural;
use crate::render::stats::{Account, damage_text, sentence, time_sentence};
use crate::render::wave::{self, Byte, Frame, Mark, Part, Picture};

/// So many frames a page holds at most; of the first of them also their parts.
const MAX_FRAMES: usize = 150_000;
const WITH_PARTS: usize = 20_000;

/// So many edges of a wire a picture, and a page, hold at most.
const PICTURE_EDGES: usize = 200_000;
const PAGE_EDGES: usize = 6_000_000;

/// Steps of the numbers of a part.
const STEPS: usize = 2200;
const PAGE_STEPS: usize = 60_000;

pub fn run(args: &PlotArgs, link: Option<&Path>, definitions: CaptureDefinitions) -> anyhow::Result<Ending> {
    let is_page = args.picture == Some(PlotForm::Page);
    let extension = args.out.as_deref().and_then(Path::extension).and_then(|extension| extension.to_str());
    if is_page != (extension == Some("html")) {
        bail!("a page is a file that ends with .html: --as page --out line.html");
    }
    if args.input.inputs.iter().any(|path| path == Path::new("-")) {
        bail!("a picture takes two looks at a waveform: give a file in place of standard input");
    }
    let plan = definitions.revisions.own().clone();
    let mut settings = Settings::of(&args.input, link, &plan)?;
    settings.nodes = definitions.nodes;
    let around = args.asked.around.as_deref().map(|text| Query::new(text, &plan)).transpose();
    let around = around.map_err(|problem| anyhow::anyhow!("--around cannot be read: {problem}"))?;
    // Around what one asks for is where to look, and no filter.
    let filters = crate::cli::AskedArgs { around: None, ..args.asked.clone() };
    let look = |span: (Moment, Moment), keeps: CollectedData, around: Option<Query>, edges: usize, steps: usize| {
        let (known, found) = (None, None);
        let mut collect = Collect { span, keeps, around, context: known, frames: Vec::new(), found, left: 0 };
        let decoder = Decoder::of(definitions.revisions.clone(), asked(&filters, &plan, Interruptible(&mut collect))?);
        let traces = |wiring: &_| Some(Traces::new(wiring, span, edges, steps));
        let mut decoder = decoder;
        let (heard, traces) = read_beside(&settings, &mut decoder, &traces)?;
        let (_, statistics) = decoder.finish()?;
        anyhow::Ok((collect, statistics, heard, traces))
    };
    let whole = (Moment::default(), Moment::from_picoseconds(u64::MAX));
    let is_asked = around.is_some();
    let (first, ..) = look(whole, CollectedData::Focus, around, 0, 2)?;
    let focus = first.found.as_ref();
    if is_asked && focus.is_none() {
        bail!("nothing fits --around, so there is no place to look at");
    }
    // A frame fills most of the part that is shown; in a terminal nearly all of it, so that there is room for its bytes.
    let span = match focus {
        Some(Focus { start, end, .. }) if !is_page => {
            let room = (end.since(*start) / if args.out.is_some() { 4 } else { 16 }).max(1000);
            (Moment::from_picoseconds(start.picoseconds().saturating_sub(room)), end.after(room))
        }
        _ => whole,
    };
    // What is marked is looked at.
    let span = match args.mark {
        Some((one, other)) if !is_asked && !is_page => {
            let (one, other) = (one.saturating_mul(1000), other.saturating_mul(1000));
            let room = ((other - one) / 3).max(1000);
            (Moment::from_picoseconds(one.saturating_sub(room)), Moment::from_picoseconds(other.saturating_add(room)))
        }
        _ => span,
    };
    let span = match args.input.wave.span.as_deref().map(wave_span).transpose() {
        Ok(Some((from, to))) => {
            let moment = |nanoseconds: u64| Moment::from_picoseconds(nanoseconds.saturating_mul(1000));
            (moment(from), moment(to))
        }
        Ok(None) => span,
        Err(problem) => bail!("--span: {problem}"),
    };
    let (edges, steps) = if is_page { (PAGE_EDGES, PAGE_STEPS) } else { (PICTURE_EDGES, STEPS) };
    let (collected, statistics, heard, traces) = look(span, CollectedData::Frames, None, edges, steps)?;
    let Some(traces) = traces else { bail!("the wires were not read") };
    if traces.is_cut {
        say!("there are more edges than fit into the picture: the last ones are left out; show a part with --span");
    }
    if collected.left > 0 {
        say!("{} more are left out: show a part with --span", plural(collected.left, "frame"));
    }
    let name = args.input.inputs.first().map_or(String::new(), |path| input_name(path));
    let from = if span.0 == whole.0 { Moment::default() } else { span.0 };
    let mark = args.mark.map(|(one, other)| mark(one, other, &traces));
    let picture = Picture {
        title: format!(
            "{name}, {} on {}",
            plan.channels[settings.on.unwrap_or(ChannelId::default())].medium.kind.text(),
            plan.channels[settings.on.unwrap_or(ChannelId::default())].name
        ),
        part: (from.picoseconds() as f64, span.1.min(traces.end).picoseconds() as f64),
        end: traces.end.picoseconds() as f64,
        traces: &traces.traces,
        frames: &collected.frames,
        focus: first.found.as_ref().map(|focus| focus.number),
        mark,
        notes: heard.notes.clone(),
    };
    show(args, &picture)?;
    let account = Account { statistics: &statistics, file_bytes: heard.bytes, damage: &[] };
    say!("{}", sentence(&account));
    if let Some(line) = time_sentence(&account) {
        say!("{line}");
    }
    if let Some((name, damage)) = &heard.damage {
        say!("{}", damage_text(name, damage));
    }
    for note in heard.notes.iter().chain(&heard.remarks) {
        say!("{}", crate::render::wrapped(note));
    }
    Ok(if heard.damage.is_none() { Ending::Clean } else { Ending::WithFindings })
}

/// What lies between two marks.
fn mark(one: u64, other: u64, traces: &Traces) -> Mark {
    let (one, other) = (one.saturating_mul(1000), other.saturating_mul(1000));
    let between = other - one;
    let mut text = format!("between the marks {}", duration(between));
    if between > 0 {
        text += &format!(", {} Hz", crate::render::summary::short(1e12 / between as f64));
    }
    for trace in &traces.traces {
        let inside = |at: Moment| (one..=other).contains(&at.picoseconds());
        let edges = trace.edges.iter().skip(1).filter(|(at, _)| inside(*at)).count();
        text += &format!(", {} of {}", plural(edges, "edge"), trace.name);
    }
    Mark { from: one as f64, to: other as f64, text }
}

fn show(args: &PlotArgs, picture: &Picture<'_>) -> anyhow::Result<()> {
    let Some(path) = &args.out else {
        let mut out = output::stdout();
        out.write_all(wave::text(picture, output::terminal_width().unwrap_or(100)).as_bytes())?;
        out.flush()?;
        return Ok(());
    };
    let bytes = match path.extension().and_then(|extension| extension.to_str()) {
        Some("html") => wave::page(picture).into_bytes(),
        Some("svg") => wave::svg(picture).into_bytes(),
        #[cfg(feature = "pictures")]
        Some("png") => crate::render::png::png(&wave::svg(picture))?,
        _ => bail!("{} is neither .svg nor .png, nor .html with --as page", files::shown(path)),
    };
    files::write_file(path, &bytes, Replace::Generated(emberwort_codegen::MARK))
}

/// What is collected.
#[derive(Clone, Copy, PartialEq, Eq)]
enum CollectedData {
    /// The place to look at: what is asked for, else the first broken frame, else the first frame.
    Focus,
    /// All frames of the part.
    Frames,
}

/// The place to look at.
struct Focus {
    number: u64,
    start: Moment,
    end: Moment,
    is_broken: bool,
}

/// Collects frames with their times.
struct Collect {
    span: (Moment, Moment),
    keeps: CollectedData,
    around: Option<Query>,
    context: Option<RowContext>,
    frames: Vec<Frame>,
    found: Option<Focus>,
    /// Frames beyond those that are kept.
    left: usize,
}

fn picoseconds(time: emberwort_wire::Time) -> u64 {
    time.nanoseconds().saturating_mul(1000)
}

impl Collect {
    fn focus(&mut self, item: &Item<'_>, times: &[ByteTime]) {
        let (Some(number), Some(first), Some(last)) = (item.number(), times.first(), times.last()) else { return };
        let is_broken = matches!(item, Item::Broken(_));
        let is_better = match &mut self.around {
            Some(query) => self.found.is_none() && query.holds(item),
            None => self.found.as_ref().is_none_or(|found| is_broken && !found.is_broken),
        };
        if is_better {
            let (start, end) = (picoseconds(first.start), picoseconds(last.end));
            let moment = Moment::from_picoseconds;
            self.found = Some(Focus { number, start: moment(start), end: moment(end), is_broken });
        }
    }

    fn frame(&mut self, item: &Item<'_>, times: &[ByteTime]) {
        let (Some(first), Some(last)) = (times.first(), times.last()) else { return };
        let (start, end) = (picoseconds(first.start), picoseconds(last.end));
        if end < self.span.0.picoseconds() || start > self.span.1.picoseconds() {
            return;
        }
        if self.frames.len() >= MAX_FRAMES {
            self.left += 1;
            return;
        }
        let Some(known) = &self.context else { return };
        let bytes = item.wire().iter().zip(times).map(|(byte, time)| Byte {
            from: picoseconds(time.start) as f64,
            to: picoseconds(time.end) as f64,
            byte: *byte,
        });
        let mut parts = Vec::new();
        let (name, text, is_good) = match item {
            Item::Row(row) => {
                let channel = known.channel(row.channel);
                let mut said = Vec::new();
                if let Some(direction) = direction(row, channel) {
                    for stretch in anatomy(row, direction) {
                        let (name, text) = meaning(row, direction, &stretch, false);
                        let text = text.split("  raw ").next().unwrap_or("").trim_end().to_owned();
                        let is_field = matches!(stretch.kind, emberwort_capture::anatomy::StretchKind::Value { .. });
                        if is_field {
                            said.push(format!("{name}={text}"));
                        }
                        let (first, last) = (stretch.bits.start / 8, stretch.bits.end.saturating_sub(1) / 8);
                        // Where bytes are put in on the wire, parts are at other places there.
                        if row.wire.len() == row.frame.bytes.len()
                            && self.frames.len() < WITH_PARTS
                            && let (Some(from), Some(to)) = (times.get(first), times.get(last))
                        {
                            // Several parts of one byte share its time, by their bits.
                            let share = |time: &ByteTime, bit: usize| {
                                let (from, to) = (picoseconds(time.start) as f64, picoseconds(time.end) as f64);
                                from + (to - from) * bit as f64 / 8.0
                            };
                            parts.push(Part {
                                from: share(from, stretch.bits.start % 8),
                                to: share(to, (stretch.bits.end - 1) % 8 + 1),
                                name,
                                text,
                                is_field,
                            });
                        }
                    }
                }
                let node = row.frame.node.map_or(String::new(), |node| format!(" node {node}"));
                let name = format!("{}{node}", row.plan.messages[row.message].message.name);
                (name, said.join("  "), true)
            }
            Item::Broken(broken) => ("broken".to_owned(), known.sentence(broken), false),
            Item::Stray(stray) if stray.is_packet => ("packet".to_owned(), packet_text(stray.wire), true),
            Item::Stray(stray) => {
                ("stray".to_owned(), format!("{} in no frame", plural(stray.wire.len(), "byte")), false)
            }
        };
        let from = item.from().map(|from| from == End::Host);
        let number = item.number().unwrap_or(0);
        self.frames.push(Frame {
            number,
            from: start as f64,
            to: end as f64,
            of_host: from,
            name,
            text,
            is_good,
            bytes: bytes.collect(),
            parts,
        });
    }
}

impl ItemSink for Collect {
    type Error = Infallible;

    fn update_revisions(&mut self, revisions: &RevisionMap) {
        if let Some(query) = &mut self.around {
            query.update_revisions(revisions);
        }
        match &mut self.context {
            Some(known) => known.update_revisions(revisions),
            None => self.context = Some(RowContext::new(revisions, false, None)),
        }
    }

    fn wants(&self, _: DefinitionId, _: MessageId) -> Wants {
        Wants::Values
    }

    fn item(&mut self, item: Item<'_>) -> Result<ControlFlow<()>, Infallible> {
        match self.keeps {
            CollectedData::Focus => self.focus(&item, item.times()),
            CollectedData::Frames => self.frame(&item, item.times()),
        }
        Ok(ControlFlow::Continue(()))
    }

    fn finish(&mut self) -> Result<(), Infallible> {
        Ok(())
    }
}
