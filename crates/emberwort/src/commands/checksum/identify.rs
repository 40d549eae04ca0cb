//! `checksum identify`: which checksum some frames carry.

use std::fs::File;
use std::io::{self, Read, Write};
use std::ops::ControlFlow;
use std::path::Path;

use anyhow::{Context, bail};
use emberwort_capture::{Interface, Piece, PieceSink, source};
use emberwort_checksum::identify::{Answer, CERTAIN_BITS, Explanation, SearchSpace, constant_end, identify};
use emberwort_model::hex::{hex, parse_hex};
use emberwort_model::model::{ByteOrder, End};
use emberwort_wire::Framed;
use serde_json::json;

use crate::cli::{IdentifyArgs, TableForm};
use crate::ending::Ending;
use crate::output::{self, Look, Progress, say};
use crate::project::load_plan;
use crate::reading::names::channel_index;
use crate::render::plural;
use crate::render::table::table;

/// Explanations that are shown.
const MAX_SHOWN: usize = 8;

/// Takes the first different pieces of a capture as frames.
struct Frames {
    all: Vec<Vec<u8>>,
    most: usize,
}

impl PieceSink for Frames {
    fn section(&mut self) {}
    fn interface(&mut self, _: Interface) {}

    fn piece(&mut self, piece: Piece<'_>) -> ControlFlow<()> {
        if !piece.bytes.is_empty() && !self.all.iter().any(|frame| frame == piece.bytes) {
            self.all.push(piece.bytes.to_vec());
        }
        if self.all.len() < self.most { ControlFlow::Continue(()) } else { ControlFlow::Break(()) }
    }
}

pub fn run(args: &IdentifyArgs, link: Option<&Path>, look: Look) -> anyhow::Result<Ending> {
    let mut frames = frames(args)?;
    if frames.is_empty() {
        bail!("there are no frames; write one a line in hex, or name a capture");
    }
    if let Some(channel) = &args.on {
        frames = without_stuffing(&frames, channel, link, look)?;
    }
    let question = SearchSpace { at: args.at, bits: args.bits, anywhere: args.anywhere };
    let search = |frames: &[Vec<u8>]| {
        let mut progress = Progress::new(1);
        let answer = identify(frames, &question, &mut |done, all| progress.at_of(done, all));
        progress.end();
        answer
    };
    let mut answer = search(&frames);
    let end = constant_end(&frames).to_vec();
    if !end.is_empty() && args.at.is_none() && !is_certain(&answer) {
        let bytes = if end.len() == 1 { "byte is" } else { "bytes are" };
        say(&format!(
            "the last {bytes} always {}, which cannot be a checksum, so the bytes before that were searched",
            hex(&end)
        ));
        for frame in &mut frames {
            frame.truncate(frame.len() - end.len());
        }
        answer = search(&frames);
    }
    let mut out = output::stdout();
    let ending = match &answer {
        Answer::Found(found) => {
            show(found, args.form, &mut out)?;
            advice(found, &frames);
            Ending::Clean
        }
        Answer::AllBut(without, found) => {
            show(found, args.form, &mut out)?;
            let numbers: Vec<String> = without.iter().map(|n| (n + 1).to_string()).collect();
            say(&format!(
                "frame {} does not fit what explains all others: it is damaged, or another one",
                numbers.join(", ")
            ));
            Ending::WithFindings
        }
        Answer::Contradiction(a, b) => {
            say(&format!(
                "frames {} and {} have the same bytes but different checksums: no algorithm explains both",
                a + 1,
                b + 1
            ));
            Ending::WithFindings
        }
        Answer::MoreFrames(more) => {
            say(&format!(
                "nothing with a name explains {}, and they are too few to work a polynomial out: {} of other lengths are needed",
                plural(frames.len(), "frame"),
                plural(*more, "more frame")
            ));
            Ending::WithFindings
        }
        Answer::Nothing => {
            say(&format!(
                "nothing explains {}. Are they whole, and does the checksum stand at the end? `--at N` says where it begins, \
                 `--anywhere` looks around, `--bits` narrows the search",
                plural(frames.len(), "frame")
            ));
            Ending::WithFindings
        }
    };
    out.flush()?;
    Ok(ending)
}

/// Whether something was found that is hardly an accident.
fn is_certain(answer: &Answer) -> bool {
    let (Answer::Found(found) | Answer::AllBut(_, found)) = answer else { return false };
    found.first().is_some_and(|best| best.spare_bits >= CERTAIN_BITS)
}

/// Frames as they are before a channel of the project stuffs them.
fn without_stuffing(
    frames: &[Vec<u8>],
    channel: &str,
    link: Option<&Path>,
    look: Look,
) -> anyhow::Result<Vec<Vec<u8>>> {
    let plan = load_plan(link, look)?;
    let channel = &plan.channels[channel_index(&plan, channel)?];
    let framing = channel.framing(End::Device);
    let plain = |(n, frame): (usize, &Vec<u8>)| {
        let (mut room, mut host_room) = (Vec::new(), Vec::new());
        let as_device = framing.plain_bytes(frame, &mut room);
        let host = channel.framing(End::Host);
        match as_device.or_else(|fault| host.plain_bytes(frame, &mut host_room).map_err(|_| fault)) {
            Ok(plain) => Ok(plain.to_vec()),
            Err(fault) => {
                let sentence = fault.sentence(&plan, framing.plan());
                bail!("frame {} is not a frame of `{}`: {sentence}", n + 1, framing.plan().name)
            }
        }
    };
    frames.iter().enumerate().map(plain).collect()
}

fn say(text: &str) {
    say!("{text}");
}

fn frames(args: &IdentifyArgs) -> anyhow::Result<Vec<Vec<u8>>> {
    if let Some(text) = &args.hex {
        let one = |text: &str| parse_hex(text).with_context(|| format!("`{}` is not hex", text.trim()));
        return text.split(',').map(one).collect();
    }
    let Some(path) = &args.file else { return Ok(Vec::new()) };
    let failed = || format!("{} cannot be read", crate::files::shown(path));
    let mut input: Box<dyn Read> = if path == Path::new("-") {
        Box::new(io::stdin().lock())
    } else {
        Box::new(File::open(path).with_context(failed)?)
    };
    let first = source::read_first(&mut input).with_context(failed)?;
    let form = source::detect(&first);
    if form == source::CaptureFormat::Raw && !first.is_empty() {
        bail!(
            "{} is neither a capture nor hex text, so nothing says where its frames begin",
            crate::files::shown(path)
        );
    }
    let mut frames = Frames { all: Vec::new(), most: args.most.max(1) };
    source::read(form, first.as_slice().chain(input), &mut frames).with_context(failed)?;
    Ok(frames.all)
}

/// Which bytes are covered, in words.
fn span(explanation: &Explanation) -> String {
    let from = if explanation.from == 0 { "the start".to_owned() } else { format!("byte {}", explanation.from) };
    let count = explanation.algorithm.bits().div_ceil(8) as usize;
    let end = match (explanation.at < 0).then(|| explanation.left_out - explanation.at.unsigned_abs() as usize) {
        Some(0) => "the checksum".to_owned(),
        Some(n) => format!("{} before the checksum", plural(n, "byte")),
        None if explanation.left_out == 0 => "the end".to_owned(),
        None => format!("{} before the end", plural(explanation.left_out, "byte")),
    };
    match explanation.at {
        at if at >= 0 => format!("{from} to {end} (the checksum is bytes {at} to {})", at as usize + count - 1),
        at if at.unsigned_abs() as usize > count => format!("{from} to {end}, which begins at {at}"),
        _ => format!("{from} to {end}"),
    }
}

fn show(found: &[Explanation], form: TableForm, out: &mut impl Write) -> anyhow::Result<()> {
    let mut rows = table(&["algorithm", "from … to", "stored", "certain by"], &[false, false, false, false]);
    for explanation in found.iter().take(MAX_SHOWN) {
        let stored = match (explanation.algorithm.bits() > 8, explanation.order) {
            (false, _) => "",
            (true, ByteOrder::Little) => "low byte first",
            (true, ByteOrder::Big) => "high byte first",
        };
        let certain = format!("≈{:.0} bits", explanation.spare_bits);
        let written = explanation.algorithm.written();
        match form {
            TableForm::Table => rows.add_row([written, span(explanation), stored.to_owned(), certain]),
            TableForm::Ndjson => writeln!(
                out,
                "{}",
                json!({
                    "algorithm": written, "from": explanation.from, "left_out": explanation.left_out, "at": explanation.at,
                    "order": if explanation.order == ByteOrder::Little { "le" } else { "be" },
                    "certain_bits": explanation.spare_bits, "start_is_open": explanation.start_is_open,
                })
            )?,
        }
    }
    if form == TableForm::Table {
        write!(out, "{}", rows.lines())?;
    }
    if found.len() > MAX_SHOWN {
        say(&format!("and {} more", found.len() - MAX_SHOWN));
    }
    Ok(())
}

/// What would make the answer more certain.
fn advice(found: &[Explanation], frames: &[Vec<u8>]) {
    let Some(best) = found.first() else { return };
    let bits = f64::from(best.algorithm.bits());
    if best.spare_bits < CERTAIN_BITS {
        let more = ((CERTAIN_BITS - best.spare_bits) / bits).ceil().max(1.0) as usize;
        say(&format!(
            "{} may fit this by accident: give {} more to be certain",
            plural(frames.len(), "frame"),
            plural(more, "frame")
        ));
    } else if found.len() > 1 {
        say(
            "all of these explain the frames; one more, of another length and with other first and last bytes, tells them apart",
        );
    }
    if best.start_is_open {
        say(
            "frames of more lengths would tell which start value and final value it has: other pairs do the same for these",
        );
    }
}
