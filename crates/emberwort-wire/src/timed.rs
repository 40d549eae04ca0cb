//! A receiver that knows the times of what it is fed: it tells the sink when frames came, and hears silence. Captures, trials and
//! ports use it alike; none of them, and not it either, reads a clock.

use std::collections::VecDeque;
use std::ops::Range;
use std::sync::Arc;

use emberwort_model::budget::wire_time;
use emberwort_model::model::End;

use crate::chunk::{ByteTime, Chunk, Time, Times};
use crate::frame::{FrameFault, FrameView, Framing};
use crate::receiver::Receiver;
use crate::sink::FrameSink;

/// A receiver for the chunks of one stream.
#[derive(Clone, Debug)]
pub struct TimedReceiver {
    receiver: Receiver,
    clock: ByteClock,
    /// When the last byte came.
    last_byte: Option<Time>,
}

impl TimedReceiver {
    /// A receiver at the start of a stream.
    pub fn new(receiver: Receiver) -> Self {
        Self { receiver, clock: ByteClock::default(), last_byte: None }
    }

    /// The framing that it looks for; that of the device, if it looks for both.
    pub fn framing(&self) -> &Framing {
        self.receiver.framing()
    }

    /// Offset of the first byte that it still keeps: all before it have been emitted.
    pub fn kept_from(&self) -> u64 {
        self.receiver.kept_from()
    }

    /// Goes on with framings that differ from those so far in nothing but a greater limit.
    pub fn allow_longer(&mut self, own: Arc<Framing>, host: Option<Arc<Framing>>) {
        self.receiver.allow_longer(own, host);
    }

    /// Takes the next chunk. Where silence separates frames, it is heard between two chunks by their times; without times each
    /// chunk is taken for a frame, as somebody wrote them apart.
    #[inline]
    pub fn feed<S: FrameSink + ?Sized>(&mut self, chunk: &Chunk<'_>, sink: &mut S) {
        if let Some(nanoseconds) = self.framing().plan().finder.silence() {
            self.hear_silence(chunk, nanoseconds, sink);
        }
        self.clock.feed(chunk.bytes.len(), chunk.times);
        let mut timed = Timed { clock: &mut self.clock, sink };
        match chunk.key {
            Some(key) => self.receiver.feed_packet(key, chunk.bytes, &mut timed),
            None => self.receiver.feed(chunk.bytes, &mut timed),
        }
    }

    /// Whether silence ended a frame before this chunk, whose bytes took their time on the line.
    fn hear_silence<S: FrameSink + ?Sized>(&mut self, chunk: &Chunk<'_>, least: u64, sink: &mut S) {
        let began = match chunk.times {
            Times::Unknown => None,
            Times::Last(time) => {
                let medium = &self.framing().plan().medium.kind;
                let sending = wire_time::nanoseconds(medium.worst(chunk.bytes.len(), false).time);
                Some(time.before(sending))
            }
            Times::Each(times) => times.first().map(|time| time.start),
        };
        let before = std::mem::replace(&mut self.last_byte, chunk.times.last());
        let is_silent = before.zip(began).is_none_or(|(before, began)| began.since(before) >= least);
        if is_silent {
            self.receiver.silence(&mut Timed { clock: &mut self.clock, sink });
        }
    }

    /// When [`TimedReceiver::handle_timeout`] is to be called if nothing comes until then; `None` where silence says nothing, or
    /// nothing is waiting for it.
    pub fn poll_timeout(&self) -> Option<Time> {
        let nanoseconds = self.framing().plan().finder.silence()?;
        let waits = self.receiver.kept_from() < self.clock.fed;
        self.last_byte.filter(|_| waits).map(|time| time.after(nanoseconds))
    }

    /// Nothing has come until `now`: silence may have ended a frame.
    pub fn handle_timeout<S: FrameSink + ?Sized>(&mut self, now: Time, sink: &mut S) {
        if self.poll_timeout().is_some_and(|timeout| timeout <= now) {
            self.receiver.silence(&mut Timed { clock: &mut self.clock, sink });
        }
    }

    /// Ends the stream: what is left is emitted. The receiver can then be fed another stream, whose offsets go on.
    pub fn finish<S: FrameSink + ?Sized>(&mut self, sink: &mut S) {
        self.receiver.finish(&mut Timed { clock: &mut self.clock, sink });
        self.last_byte = None;
    }
}

/// When each byte of a stream came, as far back as a receiver can look.
#[derive(Clone, Debug, Default)]
struct ByteClock {
    fed: u64,
    /// When the bytes came that are looked at.
    now: Option<Time>,
    /// First offset and time of bytes behind them that came at another time, rising.
    later: VecDeque<(u64, Option<Time>)>,
    /// When each byte was there from this offset on, where that is known of all of them.
    each: (u64, VecDeque<ByteTime>),
    /// Where the packet fed last stands and when it came, if it has no bytes.
    empty: Option<(u64, Option<Time>)>,
}

impl ByteClock {
    #[inline]
    fn feed(&mut self, bytes: usize, times: Times<'_>) {
        self.empty = (bytes == 0).then_some((self.fed, times.last()));
        if let Times::Each(each) = times {
            for (at, time) in (self.fed..).zip(each.iter().take(bytes)) {
                self.mark(at, Some(time.end));
            }
            if self.each.1.is_empty() {
                self.each.0 = self.fed;
            }
            self.each.1.extend(each.iter().take(bytes));
        } else if bytes > 0 {
            self.mark(self.fed, times.last());
            if !self.each.1.is_empty() {
                self.each.1.clear();
            }
        }
        self.fed += bytes as u64;
    }

    #[inline]
    fn mark(&mut self, at: u64, time: Option<Time>) {
        let last = self.later.back().map_or(self.now, |(_, last)| *last);
        if last != time {
            self.later.push_back((at, time));
        }
    }

    /// Tells a sink when the bytes of a range came. Ranges come in rising order.
    #[inline]
    fn tell<S: FrameSink + ?Sized>(&mut self, range: &Range<u64>, sink: &mut S) {
        let time = self.time_of(range);
        if self.each.1.is_empty() {
            return sink.came(&[], time);
        }
        let (first, each) = &mut self.each;
        let over = range.start.saturating_sub(*first).min(each.len() as u64);
        each.drain(..over as usize);
        *first += over;
        let length = (range.end - range.start) as usize;
        // What was told already, as that of a frame around this one, is no longer known.
        let is_known = *first == range.start && each.len() >= length;
        sink.came(if is_known { &each.make_contiguous()[..length] } else { &[] }, time);
    }

    /// When the last byte of a range came. Ranges come in rising order.
    #[inline]
    fn time_of(&mut self, range: &Range<u64>) -> Option<Time> {
        if let Some((at, time)) = self.empty
            && range.is_empty()
            && range.start == at
        {
            return time;
        }
        while let Some((from, time)) = self.later.front().copied()
            && from < range.end
        {
            self.now = time;
            self.later.pop_front();
        }
        self.now
    }
}

/// Tells a sink when what it is handed came.
struct Timed<'a, S: ?Sized> {
    clock: &'a mut ByteClock,
    sink: &'a mut S,
}

impl<S: FrameSink + ?Sized> FrameSink for Timed<'_, S> {
    #[inline]
    fn accept(&mut self, frame: &FrameView<'_>) -> Result<(), FrameFault> {
        self.sink.accept(frame)
    }

    #[inline]
    fn assume_sender(&mut self, from: End) {
        self.sink.assume_sender(from);
    }

    fn choose(&mut self, device: &FrameView<'_>, host: &FrameView<'_>) -> End {
        self.sink.choose(device, host)
    }

    #[inline]
    fn good(&mut self, at: Range<u64>, frame: &FrameView<'_>, wire: &[u8]) {
        self.clock.tell(&at, self.sink);
        self.sink.good(at, frame, wire);
    }

    fn unread(&mut self, at: Range<u64>, frame: Option<&FrameView<'_>>, fault: &FrameFault, wire: &[u8]) {
        self.clock.tell(&at, self.sink);
        self.sink.unread(at, frame, fault, wire);
    }

    fn broken(&mut self, at: Range<u64>, fault: &FrameFault, wire: &[u8]) {
        self.clock.tell(&at, self.sink);
        self.sink.broken(at, fault, wire);
    }

    fn stray(&mut self, at: Range<u64>, wire: &[u8]) {
        self.clock.tell(&at, self.sink);
        self.sink.stray(at, wire);
    }
}
