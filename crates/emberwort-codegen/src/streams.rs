//! Test streams: bytes of frames with damage between them, cut into chunks, and what a receiver finds after each chunk.
//!
//! Every generated receiver is checked with the same streams: whole frames, frames with a wrong bit, half ones with silence behind them, frames
//! of no known message and of bodies that are cut, frames inside of others, and bytes of nothing.

use std::ops::Range;
use std::sync::Arc;

use emberwort_model::Plan;
use emberwort_model::hex::hex;
use emberwort_model::ids::ChannelId;
use emberwort_model::model::End;
use emberwort_model::plan::{Direction, FrameFinder, Role};
use emberwort_wire::body_reader::{BodyReader, Requests};
use emberwort_wire::frame::body_on;
use emberwort_wire::status_bytes::RunningStatus;
use emberwort_wire::{FrameFault, FrameSink, FrameView, Framed, Header, Receiver};
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;

use crate::vectors::{Vector, vectors};
use crate::{GeneratedFile, MARK};

/// The streams of a link are always the same.
const SEED: u64 = 0x5EED_0F57;

/// Frames of each stream.
const FRAMES: usize = 40;

/// What a receiver says of a frame.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Judged {
    /// It is good, and its body can be read.
    Good,
    /// No message has its key.
    UnknownMessage,
    /// Its body cannot be read.
    Body,
}

impl Judged {
    /// As rows say it.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Good => "good",
            Self::UnknownMessage => "unknown message",
            Self::Body => "body",
        }
    }
}

/// A frame that a receiver finds.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Event {
    /// What it says of it.
    pub judged: Judged,
    /// The key of its message.
    pub key: u64,
    /// Its body.
    pub body: Vec<u8>,
}

/// Some bytes that come at once, or silence.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Chunk {
    /// The bytes; none for silence.
    pub bytes: Vec<u8>,
    /// The frames that are found with them.
    pub events: Vec<Event>,
}

impl Chunk {
    /// Whether it is silence.
    pub fn is_silence(&self) -> bool {
        self.bytes.is_empty()
    }
}

/// What an end sends on a channel.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Stream {
    /// Index of the channel.
    pub channel: ChannelId,
    /// The end, where each has frames of its own.
    pub from: Option<End>,
    /// The chunks; silence is the last one.
    pub chunks: Vec<Chunk>,
    /// All bytes.
    pub bytes: usize,
    /// Those of good frames.
    pub good_bytes: usize,
    /// Whether its events are good frames alone: where others may stand inside of a frame that cannot be read, receivers differ in what they say
    /// of that one.
    pub only_good: bool,
}

/// The streams of all channels whose frames come in a stream. The same plan gives the same ones.
pub fn streams(plan: &Plan) -> Vec<Stream> {
    let shared = Arc::new(plan.clone());
    let all = vectors(plan, SEED);
    let mut found = Vec::new();
    for (index, channel) in plan.channel_ids() {
        if channel.finder().is_packet() {
            continue;
        }
        for (from, direction) in channel.directions() {
            let of_channel: Vec<&Vector> = all.iter().filter(|vector| direction.carries(vector.message)).collect();
            if !of_channel.is_empty() {
                let mut random = ChaCha8Rng::seed_from_u64(SEED ^ index.index() as u64);
                let pieces = pieces(plan, index, from, direction, &of_channel, &mut random);
                found.push(received(&shared, index, from, &pieces));
            }
        }
    }
    found
}

/// Frames with damage, each cut somewhere; an empty piece is silence.
fn pieces(
    plan: &Plan,
    channel: ChannelId,
    from: Option<End>,
    direction: &Direction,
    vectors: &[&Vector],
    random: &mut ChaCha8Rng,
) -> Vec<Vec<u8>> {
    let framing = plan.channels[channel].framing(from.unwrap_or(End::Device));
    let mut running = RunningStatus::default();
    let mut pieces: Vec<Vec<u8>> = Vec::new();
    let mut tries = 0;
    let mut frames = 0;
    while frames < FRAMES && tries < 20 * FRAMES {
        tries += 1;
        let vector = vectors[random.random_range(0..vectors.len())];
        let message = &plan.messages[vector.message];
        let mut body = Vec::new();
        let revision = message.sections[vector.sections - 1].revision;
        // A text with a line's end in it has no line.
        if body_on(direction, message, &vector.values, revision, &mut body).is_err() {
            continue;
        }
        let node = direction.nodes_of(vector.message).map_or(1, |nodes| random.random_range(nodes));
        let Some(mut key) = direction.key_for(vector.message, node) else { continue };
        match tries % 7 {
            3 => {
                // A key that no message has, around what was sent before.
                key = unknown_key(direction).unwrap_or(key);
                body = pieces.iter().rev().take(random.random_range(0..3)).flatten().copied().collect();
                body.truncate(random.random_range(1..40));
                match direction.finder {
                    FrameFinder::Lines { .. } => body.retain(|byte| !matches!(byte, b'\n' | b'\r')),
                    FrameFinder::StatusBytes { .. } => body.iter_mut().for_each(|byte| *byte &= 0x7F),
                    _ => {}
                }
            }
            5 => body.truncate(random.random_range(0..=body.len())),
            _ => {}
        }
        let header = Header { key, node, sequence: random.random_range(0..8), revision: 1 };
        let mut frame = Vec::new();
        // Bodies of other sizes than the frame can have.
        if framing.encode(&header, &body, &mut frame).is_err() {
            continue;
        }
        frames += 1;
        frame = running.shorten(direction.finder, &frame).to_vec();
        let mut is_silent = matches!(direction.finder, FrameFinder::Idle { .. });
        match tries % 10 {
            4 => {
                let at = random.random_range(0..frame.len());
                frame[at] ^= 1 << random.random_range(0..8);
            }
            6 => {
                frame.truncate(random.random_range(0..frame.len()));
                is_silent |= random.random_bool(0.7);
            }
            9 => {
                for _ in 0..random.random_range(0..12) {
                    let sync = &direction.sync;
                    let byte: u8 = random.random();
                    frame.push(match sync.is_empty() || random.random_bool(0.5) {
                        true => byte,
                        false => sync[usize::from(byte) % sync.len()],
                    });
                }
            }
            _ => {}
        }
        if frame.is_empty() {
            continue;
        }
        // Chunks end anywhere, and some hold the end of one frame and the beginning of the next.
        let cut = random.random_range(0..=frame.len());
        let (first, rest) = frame.split_at(cut);
        match pieces.last_mut() {
            Some(last) if !last.is_empty() && random.random_bool(0.3) => last.extend(first),
            _ => pieces.extend((!first.is_empty()).then(|| first.to_vec())),
        }
        pieces.extend((!rest.is_empty()).then(|| rest.to_vec()));
        if is_silent {
            pieces.push(Vec::new());
        }
    }
    pieces
}

/// A key that no message has, and that its part can hold.
fn unknown_key(direction: &Direction) -> Option<u64> {
    if let FrameFinder::StatusBytes { .. } = direction.finder {
        return (0x80..0xF8).find(|key| direction.message_of(*key).is_none());
    }
    let part = direction.part(|role| *role == Role::Message)?;
    (0..=part.greatest().min(0xFFFF)).find(|key| direction.message_of(*key).is_none())
}

/// What the library's receiver finds after each chunk.
fn received(plan: &Arc<Plan>, channel: ChannelId, from: Option<End>, pieces: &[Vec<u8>]) -> Stream {
    let mut receiver = Receiver::new(plan.channels[channel].framing(from.unwrap_or(End::Device)));
    let mut found = Found { reader: BodyReader::new(plan.clone(), channel, from), events: Vec::new(), good: 0 };
    let mut chunks = Vec::new();
    for piece in pieces {
        if piece.is_empty() {
            receiver.time_out(&mut found);
        } else {
            receiver.feed(piece, &mut found);
        }
        chunks.push(Chunk { bytes: piece.clone(), events: std::mem::take(&mut found.events) });
    }
    receiver.finish(&mut found);
    chunks.push(Chunk { bytes: Vec::new(), events: std::mem::take(&mut found.events) });
    let only_good = plan.channels[channel].direction(from.unwrap_or(End::Device)).looks_inside_unread();
    if only_good {
        chunks.iter_mut().for_each(|chunk| chunk.events.retain(|event| event.judged == Judged::Good));
    }
    Stream { channel, from, chunks, only_good, bytes: pieces.iter().map(Vec::len).sum(), good_bytes: found.good }
}

struct Found {
    reader: BodyReader,
    events: Vec<Event>,
    good: usize,
}

impl Found {
    fn note(&mut self, judged: Judged, frame: &FrameView<'_>) {
        self.events.push(Event { judged, key: frame.key, body: frame.body.to_vec() });
    }
}

impl FrameSink for Found {
    fn accept(&mut self, frame: &FrameView<'_>) -> Result<(), FrameFault> {
        self.reader.check(frame, &Requests::default())
    }

    fn good(&mut self, _: Range<u64>, frame: &FrameView<'_>, wire: &[u8]) {
        self.good += wire.len();
        self.note(Judged::Good, frame);
    }

    fn unread(&mut self, _: Range<u64>, frame: Option<&FrameView<'_>>, fault: &FrameFault, _: &[u8]) {
        let judged = if matches!(fault, FrameFault::Body { .. }) { Judged::Body } else { Judged::UnknownMessage };
        if let Some(frame) = frame {
            self.note(judged, frame);
        }
    }

    fn broken(&mut self, _: Range<u64>, _: &FrameFault, _: &[u8]) {}

    fn stray(&mut self, _: Range<u64>, _: &[u8]) {}
}

impl Stream {
    /// The name of the direction: the channel's, and of which end where each has frames of its own.
    pub fn name(&self, plan: &Plan) -> String {
        let name = crate::names::plain_snake(&plan.channels[self.channel].name);
        self.from.map_or_else(|| name.clone(), |end| format!("{name}_from_{}", end.as_str()))
    }
}

/// The streams as NDJSON: a line that says what the file is, then one for each stream.
pub fn ndjson(plan: &Plan, streams: &[Stream]) -> GeneratedFile {
    let link = &plan.link;
    let mut text = format!(
        "{{\"about\":\"{MARK}: test streams of link {}, revision {}\",\"streams\":{}}}\n",
        link.name,
        link.revision,
        streams.len()
    );
    for stream in streams {
        let from = stream.from.map_or(String::new(), |end| format!(",\"from\":\"{}\"", end.as_str()));
        let event = |event: &Event| {
            format!(
                "{{\"frame\":\"{}\",\"key\":{},\"body\":\"{}\"}}",
                event.judged.as_str(),
                event.key,
                hex(&event.body)
            )
        };
        let chunk = |chunk: &Chunk| {
            let what = match chunk.is_silence() {
                true => "\"silence\":true".to_owned(),
                false => format!("\"bytes\":\"{}\"", hex(&chunk.bytes)),
            };
            let events: Vec<String> = chunk.events.iter().map(event).collect();
            format!("{{{what},\"frames\":[{}]}}", events.join(","))
        };
        let chunks: Vec<String> = stream.chunks.iter().map(chunk).collect();
        text.push_str(&format!(
            "{{\"channel\":\"{}\"{from},\"bytes\":{},\"good_bytes\":{},\"chunks\":[{}]}}\n",
            plan.channels[stream.channel].name,
            stream.bytes,
            stream.good_bytes,
            chunks.join(",")
        ));
    }
    GeneratedFile { name: "streams.ndjson".into(), text }
}
