//! Receivers: state machines that find frames in a stream, and give every byte to exactly one of good, unread, broken, stray.
//!
//! - A receiver is fed chunks of any size; the result depends on the bytes alone.
//! - A frame whose checksum is right is consumed whole, also if nobody can read its body (an unread frame): what stands inside of
//!   it is never taken for a frame of its own.
//! - After a broken frame, and after an unread one without a checksum, it looks again from one byte behind the place where that
//!   frame was believed to start. Of that frame's bytes, those before a frame found there are its own.
//! - What can be judged early is judged before more bytes are waited for: constants, and values that are said twice.
//! - It holds at most four times the channel's limit, and allocates only when it is made.
//!
//! Where frames begin with status bytes, a frame can stand inside of another: its bytes are then no part of the outer one's,
//! which is emitted behind it.
//!
//! With stuffing a frame can only begin at a delimiter, so the search goes on there. Where silence separates frames, somebody
//! who knows the time says when there was one: [`Receiver::silence`].

use std::ops::Range;
use std::sync::Arc;

use emberwort_model::model::End;
use emberwort_model::plan::FrameFinder;
use emberwort_model::stuffing::{Escape, Stuffing};

use crate::frame::{FrameFault, FrameView, Framing};
use crate::framings::{Checked, Framings, choose};
use crate::sink::FrameSink;
use crate::status_bytes::StatusBytes;
use crate::stuffing;

/// Finds frames in a stream of bytes, or judges packets.
#[derive(Clone, Debug)]
pub struct Receiver {
    framings: Framings,
    /// The end as whose frame the last one was read.
    assumed_sender: End,
    /// Bytes kept for the next chunk; the first one has the offset `base`.
    carry: Vec<u8>,
    base: u64,
    /// First byte that has not been emitted.
    start: u64,
    /// First byte at which a frame may begin.
    scan: u64,
    /// The broken frame, or unread one without a checksum, to which the bytes from `start` up to this offset belong, unless a good
    /// one is found there.
    broken: Option<Pending>,
    /// An over-long stretch is passed over up to its delimiter, its line's end, or silence.
    overlong: bool,
    plain: Vec<u8>,
    /// Where status bytes begin frames, all that it knows.
    status: StatusBytes,
}

/// A broken frame that may have others inside.
#[derive(Clone, Copy, Debug)]
struct Pending {
    fault: FrameFault,
    end: u64,
    from: End,
}

/// The bytes at hand, the first of which has the offset `base`.
#[derive(Clone, Copy)]
struct Window<'a> {
    bytes: &'a [u8],
    base: u64,
    /// Whether no more will follow.
    last: bool,
}

impl<'a> Window<'a> {
    fn end(&self) -> u64 {
        self.base + self.bytes.len() as u64
    }

    fn get(&self, range: Range<u64>) -> &'a [u8] {
        &self.bytes[(range.start - self.base) as usize..(range.end - self.base) as usize]
    }

    fn from(&self, at: u64) -> &'a [u8] {
        &self.bytes[(at - self.base) as usize..]
    }
}

impl Receiver {
    /// A receiver at the start of a stream.
    pub fn new(framing: Arc<Framing>) -> Self {
        Self::of(Framings { own: framing, host: None })
    }

    /// A receiver at the start of a stream of which nobody said which end sends it: it looks for the frames of both.
    pub fn of_both(device: Arc<Framing>, host: Arc<Framing>) -> Self {
        Self::of(Framings { own: device, host: Some(host) })
    }

    fn of(framings: Framings) -> Self {
        let limit = framings.plan().limit;
        Self {
            carry: Vec::with_capacity(4 * limit),
            plain: Vec::with_capacity(limit),
            framings,
            assumed_sender: End::Device,
            base: 0,
            start: 0,
            scan: 0,
            broken: None,
            overlong: false,
            status: StatusBytes::default(),
        }
    }

    /// Goes on with framings that differ from those so far in nothing but a greater limit.
    pub fn allow_longer(&mut self, own: Arc<Framing>, host: Option<Arc<Framing>>) {
        self.carry.reserve(4 * own.plan().limit);
        self.framings = Framings { own, host };
    }

    /// Offset of the first byte that it still keeps: all before it have been emitted.
    pub fn kept_from(&self) -> u64 {
        match self.framings.plan().finder {
            FrameFinder::StatusBytes { .. } => self.status.kept_from().unwrap_or(self.base),
            _ => self.start,
        }
    }

    /// The framing that it looks for; that of the device, if it looks for both.
    pub fn framing(&self) -> &Framing {
        &self.framings.own
    }

    /// Takes the next packet, with the port or CAN identifier that it came with, on channels that select messages by it.
    pub fn feed_packet<S: FrameSink + ?Sized>(&mut self, key: u64, bytes: &[u8], sink: &mut S) {
        self.packet(bytes, Some(key), sink);
    }

    /// Takes the next bytes of the stream; for packet channels, the next packet.
    pub fn feed<S: FrameSink + ?Sized>(&mut self, bytes: &[u8], sink: &mut S) {
        if self.framings.plan().finder == FrameFinder::Packet {
            self.packet(bytes, None, sink);
            return;
        }
        if let FrameFinder::StatusBytes { .. } = self.framings.plan().finder {
            self.status.take(&self.framings, self.base, bytes, sink);
            self.base += bytes.len() as u64;
            return;
        }
        let mut chunk = bytes;
        while !self.carry.is_empty() && !chunk.is_empty() {
            let mut carry = std::mem::take(&mut self.carry);
            let kept = carry.len();
            let taken = (4 * self.framings.plan().limit - kept).min(chunk.len());
            carry.extend_from_slice(&chunk[..taken]);
            self.run(Window { bytes: &carry, base: self.base, last: false }, sink);
            let done = (self.start - self.base) as usize;
            self.base = self.start;
            if done >= kept {
                // All that is left came with this chunk: go on in place.
                carry.clear();
                chunk = &chunk[done - kept..];
            } else {
                carry.drain(..done);
                chunk = &chunk[taken..];
            }
            self.carry = carry;
        }
        if !chunk.is_empty() {
            self.run(Window { bytes: chunk, base: self.base, last: false }, sink);
            let done = (self.start - self.base) as usize;
            self.base = self.start;
            self.carry.extend_from_slice(&chunk[done..]);
        }
    }

    /// Says that nothing came for as long as separates frames on this channel, where silence does; the next byte fed begins
    /// another one.
    pub fn silence<S: FrameSink + ?Sized>(&mut self, sink: &mut S) {
        if matches!(self.framings.plan().finder, FrameFinder::Idle { .. }) {
            self.time_out(sink);
        }
    }

    /// Ends the stream: what is left is emitted. The receiver can then be fed another stream, whose offsets go on.
    pub fn finish<S: FrameSink + ?Sized>(&mut self, sink: &mut S) {
        self.time_out(sink);
        self.status = StatusBytes::default();
    }

    /// Says that nothing came for longer than a sender pauses inside of a frame: what is half is emitted, with the frames that
    /// stand inside of it, and the next byte begins another one. What a status byte said goes on to count.
    pub fn time_out<S: FrameSink + ?Sized>(&mut self, sink: &mut S) {
        if let FrameFinder::StatusBytes { .. } = self.framings.plan().finder {
            self.status.end(&self.framings, sink);
            return;
        }
        let mut carry = std::mem::take(&mut self.carry);
        let window = Window { bytes: &carry, base: self.base, last: true };
        self.run(window, sink);
        self.skip_to(window, window.end(), sink);
        self.emit(window, window.end(), sink);
        self.base = window.end();
        (self.start, self.scan) = (self.base, self.base);
        self.overlong = false;
        carry.clear();
        self.carry = carry;
    }

    fn run<S: FrameSink + ?Sized>(&mut self, window: Window<'_>, sink: &mut S) {
        match self.framings.plan().finder {
            FrameFinder::Sync | FrameFinder::Escaped(_) if self.framings.host.is_some() => self.run_both(window, sink),
            FrameFinder::Sync => self.run_sync(window, sink),
            FrameFinder::Stuffed(stuffing) => self.run_stuffed(stuffing, window, sink),
            FrameFinder::Escaped(escape) => self.run_escaped(&escape, window, sink),
            FrameFinder::Idle { .. } => self.run_idle(window, sink),
            FrameFinder::Lines { .. } => self.run_lines(window, sink),
            FrameFinder::Packet | FrameFinder::StatusBytes { .. } => {}
        }
    }

    /// Emits the bytes from `start` up to `to`: to the broken frame that they belong to, or as stray.
    #[inline(always)]
    fn emit<S: FrameSink + ?Sized>(&mut self, window: Window<'_>, to: u64, sink: &mut S) {
        if self.start < to {
            self.emit_some(window, to, sink);
        }
        self.start = to;
        self.broken = None;
    }

    fn emit_some<S: FrameSink + ?Sized>(&mut self, window: Window<'_>, to: u64, sink: &mut S) {
        {
            let range = self.start..to;
            let wire = window.get(range.clone());
            match &self.broken {
                Some(pending) => {
                    self.announce_sender(pending.from, sink);
                    if pending.fault.is_unread() {
                        let mut plain = Vec::new();
                        let frame = self.framings.of(pending.from).open(wire, &mut plain).ok();
                        sink.unread(range, frame.as_ref(), &pending.fault, wire);
                    } else {
                        sink.broken(range, &pending.fault, wire);
                    }
                    self.announce_sender(self.assumed_sender, sink);
                }
                None => sink.stray(range, wire),
            }
        }
    }

    #[inline(always)]
    fn announce_sender<S: FrameSink + ?Sized>(&self, from: End, sink: &mut S) {
        if self.framings.host.is_some() {
            sink.assume_sender(from);
        }
    }

    /// Passes over bytes at which no frame begins.
    fn skip_to<S: FrameSink + ?Sized>(&mut self, window: Window<'_>, to: u64, sink: &mut S) {
        if let Some(Pending { end, .. }) = self.broken {
            if to < end {
                self.scan = to;
                return;
            }
            self.emit(window, end, sink);
        }
        let piece = self.framings.plan().limit as u64;
        while to - self.start >= piece {
            let next = self.start + piece;
            self.emit(window, next, sink);
        }
        self.scan = to;
    }

    /// A broken frame from `scan` up to `end`.
    fn fail<S: FrameSink + ?Sized>(&mut self, window: Window<'_>, fault: FrameFault, end: u64, sink: &mut S) {
        // A false start inside a broken frame that reaches no further than it says nothing new; nor does one that is marked by a
        // single byte or by none, since many bytes look like that.
        let marked = self.framings.of(self.assumed_sender).start_mark().len() > 1;
        if self.broken.is_none_or(|pending| marked && end > pending.end) {
            self.emit(window, self.scan, sink);
            self.broken = Some(Pending { fault, end, from: self.assumed_sender });
        }
        self.skip_to(window, self.scan + 1, sink);
    }

    /// A frame from `scan` up to `end` whose first bytes show that it is broken. Inside of a broken frame that is a false start.
    fn fail_early<S: FrameSink + ?Sized>(&mut self, window: Window<'_>, fault: FrameFault, end: u64, sink: &mut S) {
        match self.broken {
            Some(_) => self.skip_to(window, self.scan + 1, sink),
            None => self.fail(window, fault, end, sink),
        }
    }

    /// A frame from `scan` up to `end` whose checksums are right, and that cannot be read.
    fn leave_unread<S: FrameSink + ?Sized>(
        &mut self,
        window: Window<'_>,
        (view, fault): (&FrameView<'_>, &FrameFault),
        end: u64,
        sink: &mut S,
    ) {
        self.emit(window, self.scan, sink);
        let range = self.scan..end;
        sink.unread(range.clone(), Some(view), fault, window.get(range));
        (self.start, self.scan) = (end, end);
    }

    #[inline(always)]
    fn succeed<S: FrameSink + ?Sized>(&mut self, window: Window<'_>, view: &FrameView<'_>, end: u64, sink: &mut S) {
        self.emit(window, self.scan, sink);
        let range = self.scan..end;
        sink.good(range.clone(), view, window.get(range));
        (self.start, self.scan) = (end, end);
    }

    /// The bytes from the next mark of a frame's start on (see [`Framing::start_mark`]), at which `scan` then stands; `None` if
    /// more bytes are needed.
    #[inline(always)]
    fn find_start<'a, S: FrameSink + ?Sized>(
        &mut self,
        window: Window<'a>,
        sync: &[u8],
        sink: &mut S,
    ) -> Option<&'a [u8]> {
        loop {
            let rest = window.from(self.scan);
            let Some(first) = sync.first() else { return (!rest.is_empty()).then_some(rest) };
            // On clean traffic the next frame begins at once.
            let found = if rest.first() == Some(first) { Some(0) } else { memchr::memchr(*first, rest) };
            let Some(skip) = found else {
                self.skip_to(window, window.end(), sink);
                return None;
            };
            if skip > 0 {
                self.skip_to(window, self.scan + skip as u64, sink);
            }
            let rest = &rest[skip..];
            let seen = sync.len().min(rest.len());
            if !sync.iter().zip(rest).all(|(wanted, found)| wanted == found) {
                self.skip_to(window, self.scan + 1, sink);
                continue;
            }
            if seen < sync.len() {
                // They may go on in the next chunk.
                if window.last {
                    self.skip_to(window, self.scan + 1, sink);
                    continue;
                }
                return None;
            }
            return Some(rest);
        }
    }

    fn run_sync<S: FrameSink + ?Sized>(&mut self, window: Window<'_>, sink: &mut S) {
        let framing = self.framings.own.clone();
        let mark = framing.start_mark();
        loop {
            // On clean traffic one frame of a common shape follows the other.
            let mut rest = window.from(self.scan);
            while let Some(view) = framing.fast_frame(rest) {
                rest = &rest[view.bytes.len()..];
                let at = self.scan..window.end() - rest.len() as u64;
                if let Err(fault) = sink.accept(&view) {
                    // It has a checksum, so nobody looks inside.
                    self.leave_unread(window, (&view, &fault), at.end, sink);
                    continue;
                }
                self.emit(window, at.start, sink);
                (self.start, self.scan) = (at.end, at.end);
                sink.good(at, &view, view.bytes);
            }
            if rest.is_empty() && self.broken.is_none() {
                return;
            }
            let before = self.scan;
            let Some(rest) = self.find_start(window, mark, sink) else { return };
            if self.scan > before && framing.is_quick() {
                continue;
            }
            let length = match framing.begin(rest) {
                Ok(length) => length,
                Err((fault, size)) => {
                    let end = self.scan + size as u64;
                    self.fail_early(window, fault, end, sink);
                    continue;
                }
            };
            match length.and_then(|length| rest.get(..length).ok_or(length).ok()) {
                Some(bytes) => {
                    let end = self.scan + bytes.len() as u64;
                    match framing.check_sized(bytes) {
                        Ok(view) => match sink.accept(&view) {
                            Ok(()) => self.succeed(window, &view, end, sink),
                            Err(fault) if !framing.plan().looks_inside_unread() => {
                                self.leave_unread(window, (&view, &fault), end, sink);
                            }
                            Err(fault) => self.fail(window, fault, end, sink),
                        },
                        Err(fault) => self.fail(window, fault, end, sink),
                    }
                }
                None if window.last => {
                    let needed = length.unwrap_or(framing.plan().head_bytes);
                    self.fail(window, FrameFault::Truncated { length: rest.len(), needed }, window.end(), sink);
                }
                None => return,
            }
        }
    }

    fn run_escaped<S: FrameSink + ?Sized>(&mut self, escape: &Escape, window: Window<'_>, sink: &mut S) {
        let framings = self.framings.clone();
        let framing = &framings.own;
        while let Some(rest) = self.find_start(window, framing.start_mark(), sink) {
            let mut plain = std::mem::take(&mut self.plain);
            match framing.unescape(escape, rest, &mut plain) {
                Ok(Some(size)) => {
                    let end = self.scan + size as u64;
                    match framings.accept(&plain, sink).1 {
                        Checked::Good(view) => self.succeed(window, &view, end, sink),
                        Checked::Unread(view, fault) if !framing.plan().looks_inside_unread() => {
                            self.leave_unread(window, (&view, &fault), end, sink);
                        }
                        Checked::Unread(_, fault) | Checked::Broken(fault) => self.fail(window, fault, end, sink),
                    }
                }
                Err((fault, size)) => {
                    let end = self.scan + size as u64;
                    self.fail(window, fault, end, sink);
                }
                Ok(None) if window.last => {
                    let fault = FrameFault::Truncated { length: rest.len(), needed: rest.len() + 1 };
                    self.fail(window, fault, window.end(), sink);
                }
                Ok(None) => {
                    self.plain = plain;
                    return;
                }
            }
            self.plain = plain;
        }
    }

    /// Judges a whole frame, without stuffing and delimiters.
    #[inline]
    fn accept<'a, S: FrameSink + ?Sized>(&mut self, framings: &Framings, bytes: &'a [u8], sink: &mut S) -> Checked<'a> {
        let (from, checked) = framings.accept(bytes, sink);
        self.assumed_sender = from;
        checked
    }

    /// Looks for the frames of both ends, whose sync bytes, lengths and parts may differ.
    fn run_both<S: FrameSink + ?Sized>(&mut self, window: Window<'_>, sink: &mut S) {
        let framings = self.framings.clone();
        let mut plains = [Vec::new(), Vec::new()];
        loop {
            let rest = window.from(self.scan);
            if rest.is_empty() {
                return;
            }
            let [device, host] = &mut plains;
            let by_device = start(framings.of(End::Device), rest, window.last, device);
            let by_host = start(framings.of(End::Host), rest, window.last, host);
            let from = match (&by_device, &by_host) {
                (Start::Whole { .. }, Start::Whole { .. }) => {
                    sink.assume_sender(End::Device);
                    let as_device = whole(&framings, End::Device, &by_device, sink);
                    sink.assume_sender(End::Host);
                    let as_host = whole(&framings, End::Host, &by_host, sink);
                    choose(as_device, as_host, sink).0
                }
                // The shorter one is not held back, if it is good.
                (Start::Whole { .. }, other) | (other, Start::Whole { .. }) => {
                    let whole_end = if matches!(by_device, Start::Whole { .. }) { End::Device } else { End::Host };
                    sink.assume_sender(whole_end);
                    let found = if whole_end == End::Device { &by_device } else { &by_host };
                    let good = matches!(whole(&framings, whole_end, found, sink), Checked::Good(_));
                    if matches!(other, Start::More) && !good {
                        return;
                    }
                    whole_end
                }
                (Start::More, _) | (_, Start::More) => return,
                (Start::Wrong { .. }, _) => End::Device,
                (_, Start::Wrong { .. }) => End::Host,
                (Start::None, Start::None) => {
                    self.skip_to(window, self.scan + 1, sink);
                    continue;
                }
            };
            self.assumed_sender = from;
            sink.assume_sender(from);
            let found = if from == End::Device { by_device } else { by_host };
            let at = self.scan;
            match &found {
                Start::Whole { size, .. } => {
                    let end = at + *size as u64;
                    match whole(&framings, from, &found, sink) {
                        Checked::Good(view) => self.succeed(window, &view, end, sink),
                        Checked::Unread(view, fault) if !framings.plan().looks_inside_unread() => {
                            self.leave_unread(window, (&view, &fault), end, sink);
                        }
                        Checked::Unread(_, fault) | Checked::Broken(fault) => self.fail(window, fault, end, sink),
                    }
                }
                Start::Wrong { fault, size } => self.fail_early(window, *fault, at + *size as u64, sink),
                Start::None | Start::More => return,
            }
        }
    }

    fn run_stuffed<S: FrameSink + ?Sized>(&mut self, stuffing: Stuffing, window: Window<'_>, sink: &mut S) {
        let framings = self.framings.clone();
        let plan = framings.plan();
        let limit = plan.limit;
        let least = plan.head_bytes + plan.tail_bytes;
        let delimiter = stuffing.delimiter();
        loop {
            let rest = window.from(self.scan);
            if self.overlong {
                let found = memchr::memchr(delimiter, rest);
                // A delimiter that ends what is too long may begin the next frame.
                let over = found.map_or(rest.len(), |at| at + usize::from(!stuffing.leads()));
                self.skip_to(window, self.scan + over as u64, sink);
                self.overlong = found.is_none();
                if self.overlong {
                    return;
                }
                continue;
            }
            // One delimiter in front belongs to its frame.
            let lead = usize::from(stuffing.leads() && rest.first() == Some(&delimiter));
            let inner = &rest[lead..];
            match memchr::memchr(delimiter, inner) {
                // A delimiter without a frame: some senders fill pauses with them.
                Some(0) => self.skip_to(window, self.scan + 1, sink),
                Some(at) if lead + at < limit => {
                    let end = self.scan + (lead + at) as u64 + 1;
                    let mut plain = std::mem::take(&mut self.plain);
                    let checked = match stuffing::decode(stuffing, &inner[..at], &mut plain) {
                        Ok(()) => self.accept(&framings, &plain, sink),
                        Err(at) => Checked::Broken(FrameFault::Stuffing { at: lead + at }),
                    };
                    match checked {
                        Checked::Good(view) => self.succeed(window, &view, end, sink),
                        Checked::Unread(view, fault) => self.leave_unread(window, (&view, &fault), end, sink),
                        // The delimiter behind may be the one in front of the next frame.
                        Checked::Broken(fault) => {
                            let end = end - u64::from(stuffing.leads());
                            self.fail_whole(window, fault, end, sink);
                        }
                    }
                    self.plain = plain;
                }
                _ if rest.len() >= limit => {
                    let fault = FrameFault::Length { length: limit as u64 + 1, least, greatest: limit };
                    let end = self.scan + limit as u64;
                    self.fail_whole(window, fault, end, sink);
                    self.overlong = true;
                }
                // What is left of pauses is no frame.
                _ if window.last && inner.is_empty() && lead == 1 => self.skip_to(window, window.end(), sink),
                _ if window.last && !rest.is_empty() => {
                    let fault = FrameFault::Truncated { length: rest.len(), needed: rest.len() + 1 };
                    self.fail_whole(window, fault, window.end(), sink);
                }
                _ => return,
            }
        }
    }

    /// All that is there until silence is one frame.
    fn run_idle<S: FrameSink + ?Sized>(&mut self, window: Window<'_>, sink: &mut S) {
        let framings = self.framings.clone();
        let plan = framings.plan();
        let limit = plan.limit as u64;
        while window.end() - self.scan > limit {
            if self.overlong {
                self.skip_to(window, window.end(), sink);
                return;
            }
            let least = plan.head_bytes + plan.tail_bytes;
            let fault = FrameFault::Length { length: limit + 1, least, greatest: plan.limit };
            self.fail_whole(window, fault, self.scan + limit, sink);
            self.overlong = true;
        }
        if self.overlong {
            self.skip_to(window, window.end(), sink);
        } else if window.last && window.end() > self.scan {
            let end = window.end();
            match self.accept(&framings, window.from(self.scan), sink) {
                Checked::Good(view) => self.succeed(window, &view, end, sink),
                Checked::Unread(view, fault) => self.leave_unread(window, (&view, &fault), end, sink),
                Checked::Broken(fault) => self.fail_whole(window, fault, end, sink),
            }
        }
    }

    fn run_lines<S: FrameSink + ?Sized>(&mut self, window: Window<'_>, sink: &mut S) {
        let framings = self.framings.clone();
        let framing = &framings.own;
        let limit = framing.plan().limit;
        let crlf = framing.plan().finder == FrameFinder::Lines { crlf: true };
        loop {
            let rest = window.from(self.scan);
            let line_feed = memchr::memchr(b'\n', rest);
            if self.overlong {
                let over = line_feed.map_or(rest.len(), |at| at + 1);
                self.skip_to(window, self.scan + over as u64, sink);
                self.overlong = line_feed.is_none();
                if self.overlong {
                    return;
                }
                continue;
            }
            // What stands in front of sync bytes is none of the line.
            let noise = framings.noise_before_sync(&rest[..line_feed.unwrap_or(rest.len())]);
            if noise > 0 {
                self.skip_to(window, self.scan + noise as u64, sink);
                continue;
            }
            match line_feed {
                Some(at) if at < limit => {
                    let end = self.scan + at as u64 + 1;
                    let line = &rest[..at];
                    let line = if crlf { line.strip_suffix(b"\r").unwrap_or(line) } else { line };
                    let begins = |framing: &Framing| line.starts_with(&framing.plan().sync);
                    let checked = match begins(framing) || framings.host.as_deref().is_some_and(begins) {
                        true => self.accept(&framings, line, sink),
                        false => Checked::Broken(FrameFault::NoPattern),
                    };
                    // Another line may begin in one that is cut off.
                    let end_or_sync = framings.later_sync(line).map_or(end, |at| self.scan + at as u64);
                    match checked {
                        Checked::Good(view) => self.succeed(window, &view, end, sink),
                        // A line that fits no pattern is none of ours, unless a checksum says that it is.
                        Checked::Unread(_, FrameFault::NoPattern) if !framing.plan().has_checksum() => {
                            self.skip_line(window, end_or_sync, sink);
                        }
                        Checked::Broken(FrameFault::NoPattern) => self.skip_line(window, end_or_sync, sink),
                        Checked::Unread(view, fault) => self.leave_unread(window, (&view, &fault), end, sink),
                        Checked::Broken(fault) => self.fail_whole(window, fault, end_or_sync, sink),
                    }
                }
                _ if rest.len() >= limit => {
                    // No line is this long: stray, up to the next line's end.
                    self.overlong = true;
                }
                _ if window.last && !rest.is_empty() => {
                    self.skip_to(window, window.end(), sink);
                    return;
                }
                _ => return,
            }
        }
    }

    /// A line that is no frame.
    fn skip_line<S: FrameSink + ?Sized>(&mut self, window: Window<'_>, end: u64, sink: &mut S) {
        self.skip_to(window, end, sink);
        self.emit(window, end, sink);
    }

    /// A broken frame in which no other can begin.
    fn fail_whole<S: FrameSink + ?Sized>(&mut self, window: Window<'_>, fault: FrameFault, end: u64, sink: &mut S) {
        self.emit(window, self.scan, sink);
        self.broken = Some(Pending { fault, end, from: self.assumed_sender });
        self.skip_to(window, end, sink);
    }

    fn packet<S: FrameSink + ?Sized>(&mut self, bytes: &[u8], key: Option<u64>, sink: &mut S) {
        let range = self.base..self.base + bytes.len() as u64;
        self.base = range.end;
        (self.start, self.scan) = (range.end, range.end);
        if self.framings.host.is_none()
            && let Some(mut view) = self.framings.own.fast_frame(bytes)
            && view.bytes.len() == bytes.len()
        {
            if let (true, Some(key)) = (self.framings.plan().key_is_outside(), key) {
                view.key = key;
                view.node = view.node.or_else(|| self.framings.plan().node_in_key(key));
            }
            match sink.accept(&view) {
                Ok(()) => sink.good(range, &view, bytes),
                Err(fault) => sink.unread(range, Some(&view), &fault, bytes),
            }
            return;
        }
        let framings = self.framings.clone();
        let check = |framing: &Framing| {
            let plan = framing.plan();
            if bytes.len() > plan.limit {
                let least = plan.head_bytes + plan.tail_bytes;
                return Err(FrameFault::Length { length: bytes.len() as u64, least, greatest: plan.limit });
            }
            let mut view = framing.check(bytes)?;
            if let (true, Some(key)) = (plan.key_is_outside(), key) {
                view.key = key;
                view.node = view.node.or_else(|| plan.node_in_key(key));
            }
            Ok(view)
        };
        match framings.accept_by(sink, check).1 {
            Checked::Good(view) => sink.good(range, &view, bytes),
            Checked::Unread(view, fault) => sink.unread(range, Some(&view), &fault, bytes),
            Checked::Broken(fault) => sink.broken(range, &fault, bytes),
        }
    }
}

/// What begins at a byte, as the framing of one end finds it.
enum Start<'a> {
    /// No frame.
    None,
    /// Nobody can say before more bytes come.
    More,
    /// A frame of which its first bytes show that it is broken.
    Wrong { fault: FrameFault, size: usize },
    /// As many bytes as a frame has: those, without anything escaped, and how many they are on the wire.
    Whole { plain: &'a [u8], size: usize },
}

/// What begins with the first of these bytes.
fn start<'a>(framing: &Framing, rest: &'a [u8], last: bool, plain: &'a mut Vec<u8>) -> Start<'a> {
    let mark = framing.start_mark();
    let seen = mark.len().min(rest.len());
    if rest[..seen] != mark[..seen] || (seen < mark.len() && last) {
        return Start::None;
    }
    if seen < mark.len() {
        return Start::More;
    }
    let truncated = |needed: usize| match last {
        true => Start::Wrong { fault: FrameFault::Truncated { length: rest.len(), needed }, size: rest.len() },
        false => Start::More,
    };
    if let FrameFinder::Escaped(escape) = framing.plan().finder {
        return match framing.unescape(&escape, rest, plain) {
            Ok(Some(size)) => Start::Whole { plain, size },
            Ok(None) => truncated(rest.len() + 1),
            Err((fault, size)) => Start::Wrong { fault, size },
        };
    }
    match framing.begin(rest) {
        Err((fault, size)) => Start::Wrong { fault, size },
        Ok(length) => match length.and_then(|length| rest.get(..length)) {
            Some(bytes) => Start::Whole { plain: bytes, size: bytes.len() },
            None => truncated(length.unwrap_or(framing.plan().head_bytes)),
        },
    }
}

/// What a frame that is there as a whole is.
fn whole<'a, S: FrameSink + ?Sized>(framings: &Framings, from: End, found: &Start<'a>, sink: &mut S) -> Checked<'a> {
    let Start::Whole { plain, .. } = found else { return Checked::Broken(FrameFault::Sync) };
    match framings.of(from).check(plain) {
        Ok(view) => match sink.accept(&view) {
            Ok(()) => Checked::Good(view),
            Err(fault) => Checked::Unread(view, fault),
        },
        Err(fault) => Checked::Broken(fault),
    }
}
