//! From a frame to its message and values: what its key selects, and what the request before it asked for.

use std::collections::HashMap;
use std::sync::Arc;

use emberwort_model::Plan;
use emberwort_model::ids::{ChannelId, MessageId};
use emberwort_model::model::End;
use emberwort_model::plan::Direction;

use crate::codec::{self, Extent, Measure};
use crate::frame::{FrameFault, FrameView};
use crate::line;
use crate::values::{ValueRef, Values};

/// What requests asked for: the deciding fields of each request whose answer does not repeat them, by channel, node, request
/// and field.
#[derive(Clone, Debug, Default)]
pub struct Requests {
    keys: HashMap<(ChannelId, u64, MessageId, usize), u64>,
}

impl Requests {
    /// Notes what a message asks for, if an answer needs to know it.
    pub fn note(&mut self, plan: &Plan, channel: ChannelId, node: u64, message: MessageId, values: &Values) {
        for slot in &plan.messages[message].deciding {
            if let ValueRef::Raw(key) = values.get(*slot) {
                self.keys.insert((channel, node, message, *slot), key);
            }
        }
    }

    /// What was asked for, by the request that a message answers.
    fn of(&self, plan: &Plan, channel: ChannelId, node: u64, answer: MessageId) -> Option<u64> {
        let (request, slot) = plan.messages[answer].request?;
        self.keys.get(&(channel, node, request, slot)).copied()
    }

    /// Forgets what an answered request asked for: the next answer belongs to another one.
    pub fn answered(&mut self, plan: &Plan, channel: ChannelId, node: u64, answer: MessageId) {
        if let Some((request, slot)) = plan.messages[answer].request {
            self.keys.remove(&(channel, node, request, slot));
        }
    }

    /// Forgets all requests of a channel: a frame was broken, and could have been one.
    pub fn lost(&mut self, channel: ChannelId) {
        self.keys.retain(|(other, ..), _| *other != channel);
    }
}

/// Finds the message of a frame, and reads its values.
///
/// # Errors
/// If nothing selects a message, or the body cannot be decoded.
pub fn read_body(
    plan: &Plan,
    channel: &Direction,
    frame: &FrameView<'_>,
    values: &mut Values,
) -> Result<MessageId, FrameFault> {
    if channel.finder.is_text() {
        return read_line(plan, channel, frame.body, values);
    }
    let message = channel.message_of(frame.key).ok_or(FrameFault::UnknownMessage { key: frame.key })?;
    codec::decode(&plan.messages[message], frame.body, values).map_err(|error| FrameFault::Body { message, error })?;
    Ok(message)
}

/// The message whose pattern a line fits, and its values.
fn read_line(plan: &Plan, channel: &Direction, line: &[u8], values: &mut Values) -> Result<MessageId, FrameFault> {
    let mut fault = FrameFault::NoPattern;
    for (_, message) in &channel.keys {
        match line::read(&plan.messages[*message], line, values) {
            Ok(true) => return Ok(*message),
            Ok(false) => {}
            // Another pattern may fit better.
            Err(error) => fault = FrameFault::Body { message: *message, error },
        }
    }
    Err(fault)
}

/// Stands for no message.
const NO_MESSAGE: u32 = u32::MAX;

/// Selects the message of a frame by its key, and decodes the body into values that are reused.
#[derive(Clone, Debug)]
pub struct BodyReader {
    plan: Arc<Plan>,
    channel: ChannelId,
    direction: Arc<Direction>,
    /// The message of each key below 256, which most are; [`NO_MESSAGE`] where there is none.
    small_keys: Box<[u32; 256]>,
    /// Whether each line is a body.
    of_lines: bool,
    /// What says how far the bodies of a message reach, where that is enough.
    measures: Vec<Option<Measure>>,
    message: MessageId,
    extent: Extent,
    /// What the request asked for that the message at hand answers.
    asked: Option<u64>,
    values: Values,
}

impl BodyReader {
    /// A reader for the frames of one channel, by its index in the plan, and of one end where the two send different ones.
    pub fn new(plan: Arc<Plan>, channel: ChannelId, from: Option<End>) -> Self {
        let direction = plan.channels[channel].direction(from.unwrap_or(End::Device)).clone();
        let small_key = |key| direction.message_of(key as u64).map_or(NO_MESSAGE, |message| message.index() as u32);
        let small_keys = Box::new(std::array::from_fn(small_key));
        let measures = plan.messages.iter().map(Measure::of).collect();
        let of_lines = direction.finder.is_text();
        Self {
            plan,
            channel,
            direction,
            small_keys,
            of_lines,
            measures,
            message: MessageId::default(),
            extent: Extent::default(),
            asked: None,
            values: Values::default(),
        }
    }

    /// Selects the message of a frame, and checks that its body can be decoded. `requests` are those seen before.
    ///
    /// # Errors
    /// If the key selects no message, or the body cannot be decoded.
    #[inline]
    pub fn check(&mut self, frame: &FrameView<'_>, requests: &Requests) -> Result<(), FrameFault> {
        let small = u8::try_from(frame.key).map_or(NO_MESSAGE, |key| self.small_keys[usize::from(key)]);
        if let Some(Some(measure)) = self.measures.get(small as usize)
            && !self.of_lines
            && let Some(extent) = measure.extent(frame.body)
        {
            (self.message, self.extent) = (MessageId::new(small as usize), extent);
            return Ok(());
        }
        self.check_in_general(frame, requests)
    }

    #[inline(never)]
    fn check_in_general(&mut self, frame: &FrameView<'_>, requests: &Requests) -> Result<(), FrameFault> {
        if self.of_lines {
            self.message = read_line(&self.plan, &self.direction, frame.body, &mut self.values)?;
            self.extent = Extent { sections: 1, later_bytes: 0 };
            return Ok(());
        }
        let message = self.direction.message_of(frame.key).ok_or(FrameFault::UnknownMessage { key: frame.key })?;
        self.message = message;
        let compiled = &self.plan.messages[message];
        let fault = |error| FrameFault::Body { message, error };
        if compiled.has_union {
            self.asked = requests.of(&self.plan, self.channel, frame.node.unwrap_or(0), message);
            codec::decode_answer(compiled, frame.body, self.asked, &mut self.values).map_err(fault)?;
            self.extent = Extent { sections: self.values.sections(), later_bytes: self.values.later_bytes() };
        } else {
            self.extent = codec::check(compiled, frame.body).map_err(fault)?;
        }
        Ok(())
    }

    /// Decodes the body of the frame that was checked last.
    pub fn values(&mut self, frame: &FrameView<'_>) -> &Values {
        let compiled = &self.plan.messages[self.message];
        let read_already = compiled.has_union || self.of_lines;
        if !read_already {
            // It was checked, so this cannot fail.
            let _ = codec::decode(compiled, frame.body, &mut self.values);
        }
        &self.values
    }

    /// Whether a key selects a message.
    pub fn has_key(&self, key: u64) -> bool {
        self.direction.message_of(key).is_some()
    }

    /// Whether the frame's key selects a message that asks for something which its answers do not repeat.
    pub fn is_decoded_by_request(&self, frame: &FrameView<'_>) -> bool {
        self.direction.message_of(frame.key).is_some_and(|message| !self.plan.messages[message].deciding.is_empty())
    }

    /// Index of the channel.
    pub fn channel(&self) -> ChannelId {
        self.channel
    }

    /// Index of the message checked last.
    pub fn message(&self) -> MessageId {
        self.message
    }

    /// How far the body checked last reaches.
    pub fn extent(&self) -> Extent {
        self.extent
    }
}
