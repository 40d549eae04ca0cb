//! Frames of bits: a preamble, a bit in front of each byte, a bit behind the last one.

use emberwort_model::medium::BitFrame;

use super::event::{Count, Event, From, LineByte};
use crate::wave::Moment;

/// What was seen of frames of bits.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct BitFrameObservations {
    /// Frames that ended as they have to.
    pub frames: u64,
    /// Frames that ended inside of a byte.
    pub halves: Count,
    /// Frames that ended without their last bit.
    pub unended: Count,
    /// Bits outside of frames: preambles that were too short, and what stood behind the last byte.
    pub outside: u64,
    /// Preambles that were too short.
    pub short_preambles: Count,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum State {
    /// So many bits of the preamble came.
    Preamble(u64),
    /// In front of a byte.
    Between,
    /// In a byte: so many bits of it came.
    Byte(u32),
}

/// Puts frames together from bits.
#[derive(Clone, Debug)]
pub(crate) struct BitFrames {
    frame: BitFrame,
    /// The bit as which a resting line is read, where it is.
    rest: Option<bool>,
    state: State,
    byte: u8,
    start: Moment,
    bytes: usize,
    /// When the first bit of the preamble, or of the frame, began, and when the last one so far ended.
    span: Option<(Moment, Moment)>,
    /// Whether the bits of the frame at hand are over, and the line has to rest first.
    is_over: bool,
    /// Whether the line has rested since the last bit that is none of a preamble.
    is_fresh: bool,
    /// So many picoseconds in front of the first bit and behind the last one belong to a frame: pulses that begin and end it and are no
    /// bits, and edges that are a bit off.
    around: u64,
    /// What was seen.
    pub observed: BitFrameObservations,
}

impl BitFrames {
    /// For frames of this form, on a line that at rest is read as a bit. So many picoseconds `around`
    /// its bits belong to a frame.
    pub fn new(frame: BitFrame, rest: Option<bool>, around: u64) -> Self {
        let state = if frame.preamble.is_some() { State::Preamble(0) } else { State::Between };
        Self {
            frame,
            rest,
            state,
            byte: 0,
            start: Moment::default(),
            bytes: 0,
            span: None,
            is_over: false,
            is_fresh: true,
            around,
            observed: BitFrameObservations::default(),
        }
    }

    /// Whether the line is inside of a frame.
    pub fn is_inside(&self) -> bool {
        self.bytes > 0 || matches!(self.state, State::Byte(_))
    }

    /// Whether one bit more would complete a byte, or a frame.
    pub(crate) fn lacks_one(&self) -> bool {
        match self.state {
            State::Byte(count) => count == 7,
            State::Between => self.bytes > 0 && self.frame.end.is_some() && !self.is_over,
            State::Preamble(_) => false,
        }
    }

    /// The next bit, from when to when it lasted.
    pub fn bit(&mut self, bit: bool, start: Moment, end: Moment, out: &mut Vec<Event>) {
        self.span = Some((self.span.map_or(start, |(first, _)| first), end));
        match self.state {
            State::Preamble(count) => {
                let (least, of) = self.frame.preamble.unwrap_or_default();
                if bit == of {
                    self.state = State::Preamble(count + 1);
                } else if count >= u64::from(least) {
                    self.state = State::Byte(0);
                } else {
                    // What follows a preamble that is too short is none, whatever it looks like.
                    if count > 0 && std::mem::take(&mut self.is_fresh) {
                        self.observed.short_preambles.add(start);
                    }
                    self.observed.outside += count + u64::from(Some(bit) != self.rest);
                    self.state = State::Preamble(0);
                    self.span = None;
                }
            }
            State::Between if self.is_over => self.observed.outside += u64::from(Some(bit) != self.rest),
            State::Between => match self.frame.start {
                Some(first) if bit == first => self.state = State::Byte(0),
                Some(_) if self.bytes == 0 => self.observed.outside += u64::from(Some(bit) != self.rest),
                Some(_) => self.finished(out),
                None => self.data(0, bit, start, end, out),
            },
            State::Byte(count) => self.data(count, bit, start, end, out),
        }
    }

    fn data(&mut self, count: u32, bit: bool, start: Moment, end: Moment, out: &mut Vec<Event>) {
        if count == 0 {
            (self.byte, self.start) = (0, start);
        }
        let place = if self.frame.is_lsb_first { count } else { 7 - count };
        self.byte |= u8::from(bit) << place;
        self.state = State::Byte(count + 1);
        if count == 7 {
            out.push(Event::Byte(From::Unknown, LineByte { byte: self.byte, start: self.start, end }));
            self.bytes += 1;
            self.state = State::Between;
        }
    }

    /// The frame has ended as it has to.
    fn finished(&mut self, out: &mut Vec<Event>) {
        self.observed.frames += 1;
        self.transfer(true, out);
        out.push(Event::Packet { from: From::Unknown, key: None, node: None });
        self.reset();
        // Without a preamble, nobody knows what follows before the line has rested.
        self.is_over = self.frame.preamble.is_none();
    }

    /// The frame at hand is a whole one, or none.
    fn transfer(&mut self, is_right: bool, out: &mut Vec<Event>) {
        if let Some((start, end)) = self.span {
            let start = Moment::from_picoseconds(start.picoseconds().saturating_sub(self.around));
            out.push(Event::Transfer { is_right, start, end: end.after(self.around) });
        }
    }

    fn reset(&mut self) {
        self.span = None;
        self.state = if self.frame.preamble.is_some() { State::Preamble(0) } else { State::Between };
        (self.bytes, self.is_over) = (0, false);
    }

    /// The line rests, or shows what is no bit.
    pub fn rest(&mut self, at: Moment, out: &mut Vec<Event>) {
        match self.state {
            State::Byte(_) => {
                self.observed.halves.add(at);
                self.transfer(false, out);
                let whole = Event::Packet { from: From::Unknown, key: None, node: None };
                out.push(if self.bytes > 0 { whole } else { Event::Dropped(From::Unknown) });
            }
            State::Between if self.bytes > 0 && !self.is_over => {
                if self.frame.end.is_some() {
                    self.observed.unended.add(at);
                }
                self.finished(out);
            }
            State::Preamble(count) => self.observed.outside += count,
            State::Between => {}
        }
        self.reset();
        self.is_fresh = true;
    }
}
