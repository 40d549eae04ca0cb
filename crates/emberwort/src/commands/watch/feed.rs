//! Where what is watched comes from: a port, or a file that is played.

use std::fs::File;
use std::io::Read as _;
use std::ops::ControlFlow;
use std::path::Path;
use std::sync::Arc;
use std::sync::mpsc::{self, Receiver, SyncSender, TryRecvError};
use std::thread;
use std::time::{Duration, Instant};

use anyhow::Context;
use emberwort_capture::assign::Unassigned;
use emberwort_capture::packing::Unpacked;
use emberwort_capture::{Decoder, Demux, Monitor, StreamSink, source};
use emberwort_model::Plan;
use emberwort_model::diagnostics::escaped;
use emberwort_model::ids::ChannelId;
use emberwort_model::model::End;
use emberwort_port::{Address, Event, Received};
use emberwort_wire::{Chunk, ChunkSink, StreamId, Time, Times};

use super::form::Form;
use crate::cli::{SenderEnd, WatchArgs};
use crate::commands::live::line::{Incoming, Line};
use crate::commands::live::numbers::Numbers;
use crate::reading::names::channel_index;

/// A source that is watched.
pub struct Feed {
    decoder: Decoder<Monitor>,
    source: Source,
    from: Option<End>,
    now: Time,
    /// What happened to the port last.
    pub state: String,
    /// Whether nothing goes on.
    pub is_paused: bool,
    /// What was kept before another definition came.
    plan: Arc<Plan>,
}

enum Source {
    Live { line: Box<Line>, incoming: Incoming, numbers: Numbers },
    Played(Played),
}

/// A file that is played.
struct Played {
    pieces: Receiver<Piece>,
    next: Option<Piece>,
    /// The time of the recording at which it stands.
    at: Option<Time>,
    speed: f64,
    is_over: bool,
}

/// A chunk that outlives its reading.
struct Piece {
    stream: StreamId,
    time: Option<Time>,
    key: Option<u64>,
    bytes: Vec<u8>,
}

/// So many pieces are read ahead.
const AHEAD: usize = 1_024;

struct Injection {
    plan: Arc<Plan>,
    to: SyncSender<Piece>,
}

impl ChunkSink for Injection {
    fn chunk(&mut self, chunk: &Chunk<'_>) -> ControlFlow<()> {
        let piece =
            Piece { stream: chunk.stream, time: chunk.times.last(), key: chunk.key, bytes: chunk.bytes.to_vec() };
        match self.to.send(piece) {
            Ok(()) => ControlFlow::Continue(()),
            // Nobody watches any longer.
            Err(_) => ControlFlow::Break(()),
        }
    }
}

impl StreamSink for Injection {
    fn has_key(&self, channel: ChannelId, key: u64) -> bool {
        self.plan.channels[channel].message_of(key, None).is_some()
    }

    fn definitions(&self) -> usize {
        1
    }

    /// What belongs to no channel is not watched; `stats` counts it.
    fn unassigned(&mut self, _: Unassigned, _: &[u8]) -> ControlFlow<()> {
        ControlFlow::Continue(())
    }

    fn end_stream(&mut self, _: StreamId) {}

    fn end_streams(&mut self) {}
}

impl Feed {
    /// Opens a port, or a file.
    pub fn open(args: &WatchArgs, plan: &Arc<Plan>) -> anyhow::Result<Self> {
        let path = Path::new(&args.source);
        let mut from = args.from.map(SenderEnd::end);
        let source = if path.is_file() {
            Source::Played(play(path, args, plan, from)?)
        } else {
            let address: Address = args.source.parse()?;
            let mut incoming = Incoming::new(None);
            let line = Box::new(Line::open(&address, &args.line, plan, &mut incoming)?);
            from = from.or(line.assumed_sender());
            let numbers = Numbers::of(line.port.name(), &plan.channels[line.channel], None);
            Source::Live { line, incoming, numbers }
        };
        let decoder = Decoder::new(plan.clone(), Monitor::default());
        let (state, plan) = (String::new(), plan.clone());
        Ok(Self { decoder, source, from, now: Time::default(), state, is_paused: false, plan })
    }

    /// What was seen so far.
    pub fn monitor(&mut self) -> &mut Monitor {
        self.decoder.sink_mut()
    }

    /// The same, to look at.
    pub fn seen(&self) -> &Monitor {
        self.decoder.sink()
    }

    /// The moment that is shown.
    pub fn now(&self) -> Time {
        self.now
    }

    /// Whether it is a file that is played.
    pub fn is_played(&self) -> bool {
        matches!(self.source, Source::Played(_))
    }

    /// What it is, in words.
    pub fn name(&self) -> String {
        match &self.source {
            Source::Live { line, incoming, .. } => {
                let channel = self.plan.channels.get(line.channel.index()).map_or("", |channel| &channel.name);
                let share = incoming.waiting_share();
                // Where more comes than can be looked at, what is shown is late.
                let late = if share >= 0.5 { format!(", {:.0} % full", share * 100.0) } else { String::new() };
                format!("{channel} on {}{late}", escaped(line.port.name()))
            }
            Source::Played(played) if played.is_over => "recording, at its end".to_owned(),
            Source::Played(played) => format!("recording, {} times as fast", played.speed),
        }
    }

    /// Another definition counts from now on. What was seen stays.
    pub fn know(&mut self, plan: &Arc<Plan>) {
        let seen = std::mem::take(self.monitor());
        self.plan = plan.clone();
        self.decoder = Decoder::new(plan.clone(), seen);
    }

    /// Plays faster or slower.
    pub fn change_speed(&mut self, factor: f64) {
        if let Source::Played(played) = &mut self.source {
            played.speed = (played.speed * factor).clamp(1.0 / 64.0, 4_096.0);
        }
    }

    /// Takes the next piece of a recording.
    pub fn step(&mut self) {
        self.is_paused = true;
        let Self { decoder, source, now, .. } = self;
        if let Source::Played(played) = source
            && let Some(piece) = played.take()
        {
            *now = piece.time.unwrap_or(*now);
            played.at = Some(*now);
            hand_over(decoder, &piece);
        }
    }

    /// Lets time go on: takes what came meanwhile.
    pub fn go_on(&mut self, tick: Duration) {
        let Self { decoder, source, now, is_paused, .. } = self;
        match source {
            Source::Live { .. } => self.wait_until(Instant::now()),
            Source::Played(played) if !*is_paused => {
                if played.at.is_none() {
                    played.at = played.peek().and_then(|piece| piece.time);
                }
                let passed = (tick.as_nanos() as f64 * played.speed) as u64;
                let until = played.at.unwrap_or_default().after(passed);
                let began = Instant::now();
                while began.elapsed() < tick {
                    let Some(piece) = played.peek().filter(|piece| piece.time.is_none_or(|time| time <= until)) else {
                        break;
                    };
                    let _ = piece;
                    if let Some(piece) = played.take() {
                        hand_over(decoder, &piece);
                    }
                }
                played.at = Some(until);
                *now = until;
                decoder.handle_timeout(until);
            }
            Source::Played(_) => {}
        }
    }

    /// Waits until a moment, and takes what comes at a port meanwhile.
    pub fn wait_until(&mut self, moment: Instant) {
        let Self { decoder, source, from, now, state, is_paused, .. } = self;
        let Source::Live { line, incoming, .. } = source else {
            thread::sleep(moment.saturating_duration_since(Instant::now()));
            return;
        };
        // However much comes: pictures may be late, keys are not.
        let mut is_first = true;
        while std::mem::take(&mut is_first) || Instant::now() < moment {
            let left = moment.saturating_duration_since(Instant::now());
            match incoming.next(incoming.now().after(left.as_nanos() as u64)) {
                Received::Nothing => break,
                Received::Event(_, Event::Bytes(time, bytes)) => {
                    let _ = decoder.chunk(&line.chunk(*from, time, &bytes));
                }
                Received::Event(_, Event::Opened) => state.clear(),
                Received::Event(_, Event::Lost(why)) => {
                    decoder.end_streams();
                    *state = format!("gone ({}); waiting for it", escaped(&why));
                }
                Received::Event(_, Event::Ended) => *state = "the other side has ended".to_owned(),
            }
        }
        if decoder.poll_timeout().is_some_and(|at| at <= incoming.now()) {
            decoder.handle_timeout(incoming.now());
        }
        if !*is_paused {
            *now = incoming.now();
        }
    }

    /// Sends what is filled in, and shows it as sent.
    ///
    /// # Errors
    /// What is wrong with it; if it is a file, or the port takes nothing.
    pub fn send(&mut self, form: &Form) -> Result<(), String> {
        let Source::Live { line, numbers, .. } = &mut self.source else {
            return Err("nothing can be sent into a recording".to_owned());
        };
        let (frame, node, number) = form.frame(numbers)?;
        let sent = line.port.send(&frame).map_err(|error| error.to_string())?;
        numbers.sent(node, number);
        let _ = self.decoder.chunk(&line.chunk(Some(End::Host), sent, &frame));
        Ok(())
    }

    /// The channel of a port, by index.
    pub fn channel(&self) -> Option<ChannelId> {
        match &self.source {
            Source::Live { line, .. } => Some(line.channel),
            Source::Played(_) => None,
        }
    }
}

fn hand_over(decoder: &mut Decoder<Monitor>, piece: &Piece) {
    let times = piece.time.map_or(Times::Unknown, Times::Last);
    let _ = decoder.chunk(&Chunk { stream: piece.stream, times, key: piece.key, bytes: &piece.bytes });
}

impl Played {
    fn peek(&mut self) -> Option<&Piece> {
        if self.next.is_none() && !self.is_over {
            match self.pieces.recv_timeout(Duration::from_millis(200)) {
                Ok(piece) => self.next = Some(piece),
                Err(mpsc::RecvTimeoutError::Timeout) => {}
                Err(mpsc::RecvTimeoutError::Disconnected) => self.is_over = true,
            }
        }
        self.next.as_ref()
    }

    fn take(&mut self) -> Option<Piece> {
        self.peek()?;
        let taken = self.next.take();
        match self.pieces.try_recv() {
            Ok(piece) => self.next = Some(piece),
            Err(TryRecvError::Disconnected) => self.is_over = true,
            Err(TryRecvError::Empty) => {}
        }
        taken
    }
}

/// Starts to read a recording.
fn play(path: &Path, args: &WatchArgs, plan: &Arc<Plan>, from: Option<End>) -> anyhow::Result<Played> {
    let on = args.line.on.as_deref().map(|name| channel_index(plan, name)).transpose()?;
    let shown = crate::files::shown(path);
    let file = File::open(path).with_context(|| format!("{shown} cannot be read"))?;
    let (sender, pieces) = mpsc::sync_channel(AHEAD);
    let plan = plan.clone();
    thread::spawn(move || {
        let hand = Injection { plan: plan.clone(), to: sender };
        let mut demux = Demux::new(plan, hand).on(on).assuming_from(from);
        // What is damaged ends the recording; `decode` says where.
        let Ok(mut file) = Unpacked::new(file) else { return };
        if let Ok(first) = source::read_first(&mut file) {
            let _ = source::read(source::detect(&first), first.as_slice().chain(file), &mut demux);
        }
    });
    Ok(Played { pieces, next: None, at: None, speed: args.speed, is_over: false })
}
