//! One message from an end of one revision to an end of another: encoded by the one, found and decoded by the other.

use std::ops::Range;
use std::sync::Arc;

use emberwort_model::Plan;
use emberwort_model::model::End;
use emberwort_model::plan::{Direction, Part, Role};
use emberwort_text::samples::{Choice, Chooser};
use emberwort_wire::body_reader::{BodyReader, Requests};
use emberwort_wire::frame::body_on;
use emberwort_wire::{FrameFault, FrameSink, FrameView, Framed, Framing, Header, Receiver, Values};

use emberwort_model::ids::{ChannelId, MessageId};
use rand::SeedableRng;
use rand_chacha::ChaCha8Rng;

use crate::matching::same_framing;

/// Frames that are sent behind each other where a receiver might take more than one for its own.
const COPIES: usize = 3;

/// A channel from a sender to a receiver.
pub struct Lane {
    sender: Arc<Plan>,
    from: End,
    /// Index of the sender's channel.
    pub channel: ChannelId,
    framing: Arc<Framing>,
    /// The receiver's end, if it has such a channel that can hear this one.
    listener: Option<Listener>,
}

struct Listener {
    plan: Arc<Plan>,
    channel: ChannelId,
    framing: Arc<Framing>,
    receiver: Receiver,
    reader: BodyReader,
    copies: usize,
    /// Whether frames are found, checked and laid out as the sender does it.
    framed_alike: bool,
    /// Whether they are checked as the sender does it.
    checked_alike: bool,
}

/// What was sent.
#[derive(Clone, Debug)]
pub struct Sent {
    /// Index of the sender's message.
    pub message: MessageId,
    /// The values.
    pub values: Values,
    /// The key of the request that it answers, if the form of a value depends on it.
    pub asked: Option<u64>,
    /// The values of the frame's parts.
    pub header: Header,
    /// The frame as it goes over the channel.
    pub wire: Vec<u8>,
}

/// What a receiver made of it.
#[derive(Clone, Debug, Default)]
pub struct Received {
    /// Whether somebody listens there at all.
    pub heard: bool,
    /// Good frames.
    pub good: Vec<ReceivedFrame>,
    /// Why others are broken.
    pub broken: Vec<FrameFault>,
}

/// A frame that a receiver takes.
#[derive(Clone, Debug)]
pub(crate) struct ReceivedFrame {
    /// Index of the receiver's message.
    pub message: MessageId,
    /// Its values.
    pub values: Values,
    /// The node that it is taken to be from or for.
    pub node: Option<u64>,
    /// The sequence number.
    pub sequence: Option<u64>,
}

impl Lane {
    /// From a sender's channel (by index) to the one of the receiver that is the same, if there is one.
    pub fn new(
        sender: &Arc<Plan>,
        receiver: &Arc<Plan>,
        from: End,
        channel: ChannelId,
        there: Option<ChannelId>,
    ) -> Self {
        let mediums = |there: ChannelId| (&sender.channels[channel].medium.kind, &receiver.channels[there].medium.kind);
        let hears = there.filter(|there| {
            let (sends, listens) = mediums(*there);
            sends.is_heard_by(listens)
        });
        let own = sender.channels[channel].direction(from);
        let listener = hears.map(|there| {
            let framing = receiver.channels[there.index()].framing(from);
            let other = framing.plan();
            let framed_alike = same_framing(own, other);
            // Where the key alone says how long a frame is, a receiver can take bytes of the next one for its own.
            let runs_on = framed_alike && !other.body_sizes.is_empty() && other.finder.runs_on();
            Listener {
                plan: receiver.clone(),
                channel: there,
                receiver: Receiver::new(framing.clone()),
                reader: BodyReader::new(receiver.clone(), there, Some(from)),
                copies: if runs_on { COPIES } else { 1 },
                framed_alike,
                checked_alike: checks(own) == checks(other),
                framing,
            }
        });
        Self { sender: sender.clone(), from, channel, framing: sender.channels[channel].framing(from), listener }
    }

    /// The channel as the sender's frames go over it.
    pub fn direction(&self) -> &Direction {
        self.framing.plan()
    }

    /// The receiver's side of the channel, as frames of this sender's end are to go over it.
    pub fn listening(&self) -> Option<&Direction> {
        self.listener.as_ref().map(|listener| listener.framing.plan())
    }

    /// Whether frames of both ends are found, checked and laid out in the same way.
    pub(crate) fn is_framed_alike(&self) -> bool {
        self.listener.as_ref().is_none_or(|listener| listener.framed_alike)
    }

    /// Whether both ends compute the same checksums over the same bytes. If not, a frame passes by chance at most.
    pub(crate) fn is_checked_alike(&self) -> bool {
        self.listener.as_ref().is_none_or(|listener| listener.checked_alike)
    }

    /// Encodes a message as the sender does. `None` if the values cannot be sent on this channel.
    pub fn send(&self, message: MessageId, values: Values, asked: Option<u64>, header: Header) -> Option<Sent> {
        let (mut body, mut wire) = (Vec::new(), Vec::new());
        let revision = self.sender.link.revision;
        body_on(self.direction(), &self.sender.messages[message], &values, revision, &mut body).ok()?;
        self.framing.encode(&header, &body, &mut wire).ok()?;
        Some(Sent { message, values, asked, header, wire })
    }

    /// Gives a frame to the receiver, several times.
    pub fn receive(&mut self, sent: &Sent) -> Received {
        let Some(listener) = &mut self.listener else { return Received::default() };
        let mut requests = Requests::default();
        if let Some(key) = sent.asked {
            listener.ask(&sent.header, key, &mut requests);
        }
        let receiver = &mut listener.receiver;
        let mut sink = Sink { reader: &mut listener.reader, requests: &requests, received: Received::default() };
        sink.received.heard = true;
        for _ in 0..listener.copies {
            match listener.framing.plan().key_is_outside() {
                true => receiver.feed_packet(sent.header.key, &sent.wire, &mut sink),
                false => receiver.feed(&sent.wire, &mut sink),
            }
            receiver.silence(&mut sink);
        }
        receiver.finish(&mut sink);
        sink.received
    }

    /// The frame with which the receiver asked for this answer, if the form of a value depends on what it asked.
    pub fn request(&self, sent: &Sent, good: &ReceivedFrame) -> Option<Vec<u8>> {
        let (listener, key) = (self.listener.as_ref()?, sent.asked?);
        let plan = &listener.plan;
        let (request, slot) = plan.messages[good.message].request?;
        let mut random = ChaCha8Rng::seed_from_u64(key);
        let mut chooser = Chooser::new(plan, plan.link.revision, &mut random);
        let mut values = Values::default();
        chooser.message(request, &vec![Choice::Middle; plan.link.messages[request].fields.len()], &mut values);
        values.set_raw(slot, key);
        let framing = plan.channels[listener.channel].framing(plan.link.messages[request].from);
        let direction = framing.plan();
        let node = sent.header.node;
        let header = Header { key: direction.key_for(request, node)?, ..sent.header };
        let (mut body, mut wire) = (Vec::new(), Vec::new());
        body_on(direction, &plan.messages[request], &values, plan.link.revision, &mut body).ok()?;
        framing.encode(&header, &body, &mut wire).ok()?;
        Some(wire)
    }

    /// How many good frames there are if all is well.
    pub fn copies(&self) -> usize {
        self.listener.as_ref().map_or(1, |listener| listener.copies)
    }

    /// The end that sends.
    pub fn from(&self) -> End {
        self.from
    }
}

impl Listener {
    /// Notes that each request which asks with a key asked with this one.
    fn ask(&self, header: &Header, key: u64, requests: &mut Requests) {
        for (index, request) in self.plan.message_ids() {
            let mut values = Values::new(request);
            for slot in &request.deciding {
                values.set_raw(*slot, key);
            }
            requests.note(&self.plan, self.channel, header.node, index, &values);
        }
    }
}

/// The checksums of a channel, without their names.
fn checks(channel: &Direction) -> Vec<Part> {
    let checks = channel.parts.iter().filter(|part| matches!(part.role, Role::Checksum { .. }));
    checks.cloned().map(|part| Part { name: String::new(), doc: String::new(), ..part }).collect()
}

struct Sink<'a> {
    reader: &'a mut BodyReader,
    requests: &'a Requests,
    received: Received,
}

impl FrameSink for Sink<'_> {
    fn accept(&mut self, frame: &FrameView<'_>) -> Result<(), FrameFault> {
        self.reader.check(frame, self.requests)
    }

    fn good(&mut self, _: Range<u64>, frame: &FrameView<'_>, _: &[u8]) {
        let message = self.reader.message();
        let values = self.reader.values(frame).clone();
        self.received.good.push(ReceivedFrame { message, values, node: frame.node, sequence: frame.sequence });
    }

    fn unread(&mut self, _: Range<u64>, _: Option<&FrameView<'_>>, fault: &FrameFault, _: &[u8]) {
        self.received.broken.push(*fault);
    }

    fn broken(&mut self, _: Range<u64>, fault: &FrameFault, _: &[u8]) {
        self.received.broken.push(*fault);
    }

    fn stray(&mut self, _: Range<u64>, _: &[u8]) {}
}

/// Whether the channel's frames are lines of text.
pub(crate) fn is_lines(channel: &Direction) -> bool {
    channel.finder.is_text()
}
