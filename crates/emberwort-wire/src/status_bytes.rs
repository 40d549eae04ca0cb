//! Frames that begin with a status byte, the only one whose bit 7 is set, and that may leave it out where it is the same as
//! before: the "running status" of the MIDI 1.0 specification.

use std::ops::Range;

use emberwort_model::plan::{Direction, FrameFinder};

use crate::frame::FrameFault;
use crate::framings::{Checked, Framings};
use crate::sink::FrameSink;

/// Status bytes from here on end what is running.
const COMMON: u8 = 0xF0;
/// Status bytes from here on are frames of their own, and change nothing else.
const REAL_TIME: u8 = 0xF8;

/// Which status byte a sender may leave out.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct RunningStatus(Option<u8>);

impl RunningStatus {
    /// The bytes of a frame that have to be sent: without its status byte where the receiver knows it. Frames of channels whose
    /// senders never leave one out stay as they are.
    pub fn shorten<'a>(&mut self, finder: FrameFinder, frame: &'a [u8]) -> &'a [u8] {
        let (FrameFinder::StatusBytes { running: true }, Some((&status, rest))) = (finder, frame.split_first()) else {
            return frame;
        };
        if status >= REAL_TIME {
            return frame;
        }
        let known = self.0 == Some(status);
        self.0 = (status < COMMON).then_some(status);
        if known && !rest.is_empty() { rest } else { frame }
    }
}

/// What the bytes at hand belong to.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
enum Inside {
    /// No frame.
    #[default]
    Nothing,
    /// A frame; with the size of its body, if its message has one size.
    Frame(Option<usize>),
    /// A frame that cannot be good any more, up to the next status byte.
    Broken(FrameFault),
    /// What follows of one that is too long, up to the next status byte.
    Passing,
}

/// The receiver's state between two bytes.
#[derive(Clone, Debug, Default)]
pub(crate) struct StatusBytes {
    running: Option<u8>,
    inside: Inside,
    /// Offsets of the first byte at hand, and of that behind the last.
    range: Range<u64>,
    /// The bytes at hand as they came, without frames in between.
    wire: Vec<u8>,
    /// The frame with its status byte, whether that came or not.
    plain: Vec<u8>,
}

impl StatusBytes {
    /// Offset of the first byte at hand, if there is one.
    pub(crate) fn kept_from(&self) -> Option<u64> {
        (!self.wire.is_empty()).then_some(self.range.start)
    }

    /// Takes the next bytes, of which the first has the offset `at`.
    pub(crate) fn take<S: FrameSink + ?Sized>(&mut self, framings: &Framings, at: u64, bytes: &[u8], sink: &mut S) {
        for (at, &byte) in (at..).zip(bytes) {
            match byte {
                REAL_TIME.. => emit(framings, at..at + 1, &[byte], &[byte], sink),
                0x80.. => {
                    self.end(framings, sink);
                    self.running = (byte < COMMON).then_some(byte);
                    self.begin(framings, byte);
                    self.add(framings, at, byte, sink);
                }
                _ => {
                    if let (Inside::Nothing, Some(running)) = (self.inside, self.running) {
                        self.begin(framings, running);
                        if self.inside == Inside::Frame(Some(0)) {
                            // A message without data leaves nothing to go on with.
                            self.inside = Inside::Nothing;
                        }
                    }
                    self.plain.push(byte);
                    self.add(framings, at, byte, sink);
                }
            }
        }
    }

    fn begin(&mut self, framings: &Framings, status: u8) {
        let key = u64::from(status);
        self.plain.clear();
        self.plain.push(status);
        // What no message has goes on up to the next status byte.
        let size = |plan: &Direction| {
            let found = plan.keys.binary_search_by_key(&key, |(key, _)| *key).ok()?;
            plan.body_sizes.get(found).copied().flatten()
        };
        let by_host = || framings.host.as_ref().and_then(|host| size(host.plan()));
        self.inside = Inside::Frame(size(framings.plan()).or_else(by_host));
    }

    /// Takes a byte that is no frame of its own, and ends what is then complete.
    fn add<S: FrameSink + ?Sized>(&mut self, framings: &Framings, at: u64, byte: u8, sink: &mut S) {
        if self.wire.is_empty() {
            self.range.start = at;
        }
        self.range.end = at + 1;
        self.wire.push(byte);
        let limit = framings.plan().limit;
        match self.inside {
            Inside::Frame(Some(size)) if self.plain.len() > size => self.end(framings, sink),
            Inside::Frame(None) if self.plain.len() > limit => {
                let fault = FrameFault::Length { length: limit as u64 + 1, least: 1, greatest: limit };
                self.inside = Inside::Broken(fault);
                self.end_piece(sink);
                self.inside = Inside::Passing;
            }
            Inside::Nothing | Inside::Passing if self.wire.len() >= limit => self.end_piece(sink),
            _ => {}
        }
    }

    /// Gives away the bytes at hand, of which none is a good frame; more like them may follow.
    fn end_piece<S: FrameSink + ?Sized>(&mut self, sink: &mut S) {
        match self.inside {
            _ if self.wire.is_empty() => {}
            Inside::Broken(fault) => sink.broken(self.range.clone(), &fault, &self.wire),
            Inside::Nothing | Inside::Passing | Inside::Frame(_) => sink.stray(self.range.clone(), &self.wire),
        }
        self.wire.clear();
        self.plain.clear();
    }

    /// Nothing more belongs to the bytes at hand.
    pub(crate) fn end<S: FrameSink + ?Sized>(&mut self, framings: &Framings, sink: &mut S) {
        match self.inside {
            Inside::Frame(Some(size)) if self.plain.len() <= size => {
                let fault = FrameFault::Truncated { length: self.plain.len(), needed: size + 1 };
                self.inside = Inside::Broken(fault);
                self.end_piece(sink);
            }
            Inside::Frame(_) => emit(framings, self.range.clone(), &self.plain, &self.wire, sink),
            Inside::Nothing | Inside::Passing | Inside::Broken(_) => self.end_piece(sink),
        }
        self.wire.clear();
        self.plain.clear();
        self.inside = Inside::Nothing;
    }
}

/// Judges a complete frame, and emits it.
fn emit<S: FrameSink + ?Sized>(framings: &Framings, range: Range<u64>, plain: &[u8], wire: &[u8], sink: &mut S) {
    match framings.accept(plain, sink).1 {
        Checked::Good(view) => sink.good(range, &view, wire),
        Checked::Unread(view, fault) => sink.unread(range, Some(&view), &fault, wire),
        Checked::Broken(fault) => sink.broken(range, &fault, wire),
    }
}
