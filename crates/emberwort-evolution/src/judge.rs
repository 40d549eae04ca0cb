//! What became of one message: from what was sent and what was received to a verdict with its reason.

use emberwort_model::Plan;
use emberwort_model::hex::hex;
use emberwort_model::ids::{ChannelId, MessageId};
use emberwort_model::model::{End, Kind};
use emberwort_model::plan::{Direction, Role};
use emberwort_text::json::{self, Writing};
use emberwort_wire::{BodyError, FrameFault, Values};

use crate::exchange::{Lane, Received, Sent, is_lines};
use crate::matching::Matching;
use crate::meaning::{self, Deviation, Place, Side};
use crate::verdict::Verdict;

/// Both ends of a lane, and what of the sender is what of the receiver.
#[derive(Clone, Copy)]
pub struct Ends<'a> {
    /// The sender's revision.
    pub sender: &'a Plan,
    /// The receiver's.
    pub receiver: &'a Plan,
    /// From the sender to the receiver.
    pub matching: &'a Matching,
    /// Whether the sender has the old one of the two.
    pub sender_is_old: bool,
}

/// Why a message is not understood as it was meant.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Cause {
    /// Values are lost, or taken for others.
    Values(Vec<Deviation>),
    /// It is taken for another message, by the receiver's index.
    OtherMessage(usize),
    /// The receiver's own message of that name goes the other way.
    Direction,
    /// Its key selects nothing.
    UnknownKey,
    /// The frame is not found, or broken.
    Frame,
    /// The body of the receiver's message with this index cannot be decoded.
    Body(MessageId),
    /// This entry of a table is not known to the receiver.
    NewEntry(Place),
    /// The receiver has no such channel, or it cannot hear this one.
    NobodyListens,
}

/// What became of one message.
#[derive(Clone, Debug)]
pub struct Outcome {
    /// How well it was understood.
    pub verdict: Verdict,
    /// Why not better.
    pub cause: Cause,
    /// What happens, in a sentence without an end; empty if all is fine.
    pub sentence: String,
}

impl Outcome {
    fn new(verdict: Verdict, cause: Cause, sentence: impl Into<String>) -> Self {
        Self { verdict, cause, sentence: sentence.into() }
    }
}

/// A message that shows a verdict: the bytes are real, and what is read is what the receiver's decoder reads.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Example {
    /// The sender's channel.
    pub channel: String,
    /// The sender's name of the message.
    pub message: String,
    /// The port or CAN identifier that selects it, where the frame does not say it.
    pub key: Option<u64>,
    /// The key that stands outside the frame, as the sender's definition writes it.
    pub key_text: Option<String>,
    /// What was sent, as a JSON object.
    pub sent: String,
    /// The frame; several times, where a receiver could take bytes of the next one for its own.
    pub wire: Vec<u8>,
    /// The frame with which the receiver asked for it, if the form of a value depends on what was asked.
    pub request: Option<Vec<u8>>,
    /// The receiver's name of the message that it takes the frame for.
    pub read_as: Option<String>,
    /// What is read, as a JSON object; `None` if nothing is.
    pub read: Option<String>,
}

impl Example {
    /// The frame in hex.
    pub fn hex(&self) -> String {
        hex(&self.wire)
    }
}

/// The example of an exchange.
pub fn example(ends: Ends<'_>, lane: &Lane, sent: &Sent, received: &Received) -> Example {
    let fields = |plan: &Plan, message: MessageId, values| {
        let mut text = String::new();
        // Writing to a String cannot fail.
        let _ = json::write_fields(&plan.messages[message], values, Writing::default(), &mut text);
        text
    };
    let good = received.good.first();
    Example {
        channel: lane.direction().name.clone(),
        message: ends.sender.link.messages[sent.message].name.clone(),
        key: lane.direction().key_is_outside().then_some(sent.header.key),
        key_text: lane.direction().key_is_outside().then(|| lane.direction().key_number(sent.header.key)),
        sent: fields(ends.sender, sent.message, &sent.values),
        wire: sent.wire.repeat(lane.copies()),
        request: good.and_then(|good| lane.request(sent, good)),
        read_as: good.map(|good| ends.receiver.link.messages[good.message].name.clone()),
        read: good.map(|good| fields(ends.receiver, good.message, &good.values)),
    }
}

/// The verdict of an exchange.
pub fn judge(ends: Ends<'_>, lane: &Lane, sent: &Sent, received: &Received) -> Outcome {
    let name = &ends.sender.link.messages[sent.message].name;
    if !received.heard {
        let channel = &lane.direction().name;
        let (verdict, sentence) = match ends.matching.channels[lane.channel.index()] {
            _ if is_news(ends, lane.channel, sent.message) => {
                (Verdict::FineWithLoss, format!("{name} is not heard there: nobody knows `{channel}`"))
            }
            Some(_) => {
                (Verdict::SilentDrop, format!("{name} does not arrive: `{channel}` has different settings there"))
            }
            None => (Verdict::SilentDrop, format!("{name} is not heard: there is no `{channel}` there")),
        };
        return Outcome::new(verdict, Cause::NobodyListens, sentence);
    }
    let mut worst: Option<Outcome> = None;
    let mut note = |outcome: Outcome| {
        if worst.as_ref().is_none_or(|worst| outcome.verdict > worst.verdict) {
            worst = Some(outcome);
        }
    };
    for good in &received.good {
        let outcome = understood(ends, lane.from(), (sent.message, &sent.values), (good.message, &good.values));
        let is_that = matches!(outcome.cause, Cause::Values(_));
        note(outcome);
        if !is_that {
            continue;
        }
        // Which device it is, and whether one was lost, the parts of the frame say.
        let address = lane.direction().part(|role| *role == Role::Address).is_some()
            || lane.direction().nodes_of(sent.message).is_some();
        if let (true, Some(node)) = (address, good.node.filter(|node| *node != sent.header.node)) {
            let sentence = format!("{name} of node {} would be taken for one of node {node}", sent.header.node);
            note(Outcome::new(Verdict::Misread, Cause::Frame, sentence));
        }
        let counted = lane.direction().part(|role| *role == Role::Sequence).is_some();
        if let (true, Some(number)) = (counted, good.sequence.filter(|number| *number != sent.header.sequence)) {
            let sentence = format!("{name} number {} would be taken for number {number}", sent.header.sequence);
            note(Outcome::new(Verdict::Misread, Cause::Frame, sentence));
        }
    }
    if received.good.len() < lane.copies() {
        let fault = received.broken.first();
        note(not_taken(ends, (lane.channel, lane.listening()), sent.message, received.good.is_empty(), fault));
    }
    worst.unwrap_or_else(|| Outcome::new(Verdict::Fine, Cause::Values(Vec::new()), ""))
}

/// The verdict of a frame that passes another checksum by chance.
pub fn by_chance(ends: Ends<'_>, message: MessageId) -> Outcome {
    let name = &ends.sender.link.messages[message].name;
    let sentence = format!("{name} is refused: its checksum differs there, and few frames pass by chance");
    Outcome::new(Verdict::Refused, Cause::Frame, sentence)
}

/// What a receiver makes of a message that it takes: the sender's index and values, and those of the receiver.
pub fn understood(
    ends: Ends<'_>,
    from: End,
    (message, sent): (MessageId, &Values),
    (taken_for, read): (MessageId, &Values),
) -> Outcome {
    let own = &ends.sender.link.messages[message];
    let there = &ends.receiver.link.messages[taken_for];
    if there.from != from {
        let sentence = format!("{} is not taken: there, {} goes the other way", own.name, there.name);
        return Outcome::new(Verdict::Refused, Cause::Direction, sentence);
    }
    if ends.matching.messages[message.index()] != Some(taken_for) {
        let sentence = format!("{} would be read as {}", own.name, there.name);
        return Outcome::new(Verdict::Misread, Cause::OtherMessage(taken_for.index()), sentence);
    }
    of_deviations(meaning::deviations(
        Side { owner: &own.name, fields: &own.fields, values: sent, base: 0 },
        Side { owner: &there.name, fields: &there.fields, values: read, base: 0 },
    ))
}

/// Whether the receiver never knew the message on this channel, by the sender's index, and does not miss it.
fn is_news(ends: Ends<'_>, channel: ChannelId, message: MessageId) -> bool {
    if ends.sender_is_old {
        return false;
    }
    let there = ends.matching.channels[channel.index()];
    let channels = |plan: &Plan, message: MessageId| plan.link.messages[message].channels.clone();
    match ends.matching.messages[message.index()] {
        None => true,
        Some(known) => {
            let known = channels(ends.receiver, known);
            let elsewhere = || {
                let mut others =
                    channels(ends.sender, message).into_iter().filter_map(|c| ends.matching.channels[c.index()]);
                others.any(|other| known.contains(&other))
            };
            there.is_none_or(|there| !known.contains(&there)) && elsewhere()
        }
    }
}

/// Of frames that are not taken, what is said of them: the sender's channel by index and the receiver's, if it has one;
/// whether none of them is taken, and why the first one is broken, if it is.
pub fn not_taken(
    ends: Ends<'_>,
    (channel, listening): (ChannelId, Option<&Direction>),
    message: MessageId,
    none: bool,
    fault: Option<&FrameFault>,
) -> Outcome {
    let name = &ends.sender.link.messages[message].name;
    let outside = listening.is_some_and(Direction::key_is_outside);
    let unknown = matches!(fault, Some(FrameFault::UnknownMessage { .. } | FrameFault::UnknownSize { .. }))
        || (fault.is_none() && listening.is_some_and(is_lines));
    if none && is_news(ends, channel, message) {
        return Outcome::new(
            Verdict::FineWithLoss,
            Cause::UnknownKey,
            format!("{name} is not known there, and left alone"),
        );
    }
    if let Some((table, entry)) = new_entry(ends, fault) {
        let sentence = format!("{name} with {entry} is left alone there: the entry is new");
        return Outcome::new(Verdict::FineWithLoss, Cause::NewEntry(Place { owner: table, field: entry }), sentence);
    }
    match fault {
        Some(FrameFault::UnknownMessage { .. }) if outside => {
            Outcome::new(Verdict::SilentDrop, Cause::UnknownKey, format!("nobody there listens for {name}"))
        }
        Some(fault) => {
            let cause = match fault {
                FrameFault::UnknownMessage { .. } | FrameFault::UnknownSize { .. } => Cause::UnknownKey,
                FrameFault::Body { message, .. } => Cause::Body(*message),
                _ => Cause::Frame,
            };
            let why = listening.map_or_else(String::new, |channel| fault.sentence(ends.receiver, channel));
            Outcome::new(Verdict::Refused, cause, format!("{name} is refused: {why}"))
        }
        None if unknown => {
            Outcome::new(Verdict::SilentDrop, Cause::UnknownKey, format!("{name} fits no pattern there"))
        }
        None => Outcome::new(Verdict::SilentDrop, Cause::Frame, format!("{name} is skipped as stray bytes")),
    }
}

/// The new entry of a table that an old receiver does not know.
fn new_entry(ends: Ends<'_>, fault: Option<&FrameFault>) -> Option<(String, String)> {
    let Some(FrameFault::Body { message, error: BodyError::NoForm { slot, key } }) = fault else { return None };
    let Kind::Union(union) = &ends.receiver.link.messages[*message].fields[*slot].kind else { return None };
    let table = union.table.as_ref().filter(|_| !ends.sender_is_old)?;
    let known = |plan: &Plan| plan.link.tables.iter().find(|other| other.name == table.name).cloned();
    let entry = known(ends.sender)?.entries.iter().find(|entry| entry.key == *key)?.field.name.clone();
    // One that has only another number is missed.
    table.keys.named(&entry).is_none().then(|| (table.name.clone(), entry))
}

fn of_deviations(found: Vec<Deviation>) -> Outcome {
    let verdict = found.iter().map(|deviation| deviation.verdict).max().unwrap_or_default();
    let worst = found.iter().find(|deviation| deviation.verdict == verdict);
    let sentence = worst.map_or_else(String::new, Deviation::sentence);
    Outcome { verdict, sentence, cause: Cause::Values(found) }
}
