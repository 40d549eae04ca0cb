//! One receiving side of a trial: its receiver, and which bytes of its stream belong to which sent frame.

use std::collections::VecDeque;
use std::ops::Range;

use emberwort_model::ids::MessageId;
use emberwort_model::model::End;
use emberwort_wire::body_reader::{BodyReader, Requests};
use emberwort_wire::sequence::Numbering;
use emberwort_wire::{Chunk, FrameFault, FrameSink, FrameView, Framed, Receiver, Time, TimedReceiver, Values};

use crate::definitions::Definition;
use crate::report::ReceptionAccount;

/// What one receiving side has: its receiver, and which bytes of its stream belong to which sent frame.
pub(crate) struct Side {
    receiver: TimedReceiver,
    reader: BodyReader,
    /// What this side asked for, or heard the other side ask for.
    pub requests: Requests,
    fed: u64,
    /// First offset and sent frame, rising: those of which bytes have not been given away yet.
    origins: VecDeque<(u64, u64)>,
    /// All that it received.
    pub account: ReceptionAccount,
    /// The numbers of what it received.
    pub numbering: Numbering,
}

/// What a side's receiver found in one feeding.
pub(crate) struct Found {
    pub frames: Vec<FoundFrame>,
    /// Broken and unread frames: the sent frame that they begin in, and why.
    pub faults: Vec<(Option<u64>, FrameFault)>,
    /// Bytes in no frame.
    pub stray: u64,
    /// Sent frames of which this side has nothing any longer.
    pub settled: Vec<u64>,
}

/// A good frame.
pub(crate) struct FoundFrame {
    /// The sent frame that its first byte belongs to.
    pub origin: Option<u64>,
    pub message: MessageId,
    pub node: Option<u64>,
    pub sequence: Option<u64>,
    pub values: Values,
    pub bytes: Vec<u8>,
}

struct SideSink<'a> {
    reader: &'a mut BodyReader,
    requests: &'a Requests,
    heard: &'a mut ReceptionAccount,
    origins: &'a VecDeque<(u64, u64)>,
    found: Found,
}

impl SideSink<'_> {
    /// The sent frame to which the byte at an offset belongs.
    fn origin(&self, at: u64) -> Option<u64> {
        let index = self.origins.partition_point(|(from, _)| *from <= at).checked_sub(1)?;
        self.origins.get(index).map(|(_, sent)| *sent)
    }
}

impl FrameSink for SideSink<'_> {
    fn accept(&mut self, frame: &FrameView<'_>) -> Result<(), FrameFault> {
        self.reader.check(frame, self.requests)
    }

    fn good(&mut self, at: Range<u64>, frame: &FrameView<'_>, wire: &[u8]) {
        self.heard.good += 1;
        self.heard.good_bytes += wire.len() as u64;
        self.found.frames.push(FoundFrame {
            origin: self.origin(at.start),
            message: self.reader.message(),
            node: frame.node,
            sequence: frame.sequence,
            values: self.reader.values(frame).clone(),
            bytes: wire.to_vec(),
        });
    }

    fn unread(&mut self, at: Range<u64>, _: Option<&FrameView<'_>>, fault: &FrameFault, wire: &[u8]) {
        let origin = self.origin(at.start);
        self.found.faults.push((origin, *fault));
        self.heard.unread += 1;
        self.heard.unread_bytes += wire.len() as u64;
    }

    fn broken(&mut self, at: Range<u64>, fault: &FrameFault, wire: &[u8]) {
        let origin = self.origin(at.start);
        self.found.faults.push((origin, *fault));
        self.heard.broken += 1;
        self.heard.broken_bytes += wire.len() as u64;
    }

    fn stray(&mut self, _at: Range<u64>, wire: &[u8]) {
        self.heard.stray_bytes += wire.len() as u64;
        self.found.stray += wire.len() as u64;
    }
}

impl Side {
    /// The side that hears frames from an end.
    pub(crate) fn hearing(definition: &Definition, from: End) -> Self {
        let Definition { plan, channel, .. } = definition;
        let channel = *channel;
        Self {
            receiver: TimedReceiver::new(Receiver::new(plan.channels[channel].framing(from))),
            reader: BodyReader::new(plan.clone(), channel, Some(from)),
            requests: Requests::default(),
            fed: 0,
            origins: VecDeque::new(),
            account: ReceptionAccount::default(),
            numbering: Numbering::new(plan),
        }
    }

    fn take(&mut self, act: impl FnOnce(&mut TimedReceiver, &mut SideSink<'_>)) -> Found {
        let mut sink = SideSink {
            reader: &mut self.reader,
            requests: &self.requests,
            heard: &mut self.account,
            origins: &self.origins,
            found: Found { frames: Vec::new(), faults: Vec::new(), stray: 0, settled: Vec::new() },
        };
        act(&mut self.receiver, &mut sink);
        let mut found = sink.found;
        // A frame's bytes reach up to those of the next one.
        let kept = self.receiver.kept_from();
        while let Some((_, sent)) = self.origins.front().copied()
            && self.origins.get(1).map_or(self.fed, |(next, _)| *next) <= kept
        {
            self.origins.pop_front();
            found.settled.push(sent);
        }
        found
    }

    /// Takes the bytes of a sent frame that arrived.
    pub fn feed(&mut self, sent: u64, chunk: &Chunk<'_>) -> Found {
        self.origins.push_back((self.fed, sent));
        self.fed += chunk.bytes.len() as u64;
        self.account.input += chunk.bytes.len() as u64;
        self.take(|receiver, sink| {
            receiver.feed(chunk, sink);
            // Where silence separates frames, the wire keeps it behind each.
            if let Some(timeout) = receiver.poll_timeout() {
                receiver.handle_timeout(timeout, sink);
            }
        })
    }

    /// Takes bytes of which nobody knows which sent frame they belong to.
    pub fn hear(&mut self, chunk: &Chunk<'_>) -> Found {
        self.fed += chunk.bytes.len() as u64;
        self.account.input += chunk.bytes.len() as u64;
        self.take(|receiver, sink| receiver.feed(chunk, sink))
    }

    /// When [`Side::hear_silence`] is to be called, if nothing comes until then.
    pub fn poll_timeout(&self) -> Option<Time> {
        self.receiver.poll_timeout()
    }

    /// Nothing has come until `now`.
    pub fn hear_silence(&mut self, now: Time) -> Found {
        self.take(|receiver, sink| receiver.handle_timeout(now, sink))
    }

    /// All that it received, with the gaps in the numbers.
    pub(crate) fn heard_in_all(&self) -> ReceptionAccount {
        let watch = self.numbering.watch();
        ReceptionAccount {
            gaps: watch.gaps(),
            missing: watch.missing(),
            jumps_back: watch.jumps_back(),
            ..self.account
        }
    }

    /// Nothing more comes.
    pub fn finish(&mut self) -> Found {
        self.take(|receiver, sink| receiver.finish(sink))
    }
}
