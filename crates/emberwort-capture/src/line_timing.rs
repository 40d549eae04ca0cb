//! How long a line rests between bytes and between frames, and how long answers take on the wire.

use std::collections::HashMap;
use std::convert::Infallible;
use std::ops::ControlFlow;
use std::sync::Arc;

use emberwort_model::Plan;
use emberwort_model::ids::MessageId;
use emberwort_model::model::End;
use emberwort_wire::Time;

use crate::items::{Item, ItemSink, Row, Wants};
use crate::revision_map::DefinitionId;

/// How often something was measured, and what came of it, in nanoseconds.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Spread {
    /// How often.
    pub count: u64,
    /// The least.
    pub least: u64,
    /// The greatest.
    pub most: u64,
    sum: u64,
}

impl Spread {
    /// One more.
    pub fn add(&mut self, value: u64) {
        self.least = if self.count == 0 { value } else { self.least.min(value) };
        self.most = self.most.max(value);
        self.sum = self.sum.saturating_add(value);
        self.count += 1;
    }

    /// The mean; `None` if nothing was measured.
    pub fn mean(&self) -> Option<f64> {
        (self.count > 0).then(|| self.sum as f64 / self.count as f64)
    }
}

/// What was measured of one sender.
#[derive(Clone, Copy, Debug, Default)]
pub struct SenderTiming {
    /// From the end of a byte to the beginning of the next one, inside of frames.
    pub between_bytes: Spread,
    /// From the end of a frame, or of stray bytes, to the beginning of the next one.
    pub between_frames: Spread,
    ended: Option<Time>,
}

/// Measures what has times for each byte; other items are passed over.
#[derive(Debug)]
pub struct LineTiming {
    plan: Arc<Plan>,
    /// By sender; that of one wire for both ends is nobody.
    pub senders: Vec<(Option<End>, SenderTiming)>,
    /// By request and answer, as indices of messages: from the end of the one to the beginning of the other.
    pub answers: Vec<((MessageId, MessageId), Spread)>,
    /// Requests that nobody has answered: by node, the message and when it ended.
    asked: HashMap<Option<u64>, (MessageId, Time)>,
}

impl LineTiming {
    /// For a definition; rows that were read with another one count without their answers.
    pub fn new(plan: Arc<Plan>) -> Self {
        Self { plan, senders: Vec::new(), answers: Vec::new(), asked: HashMap::new() }
    }

    fn exchange(&mut self, row: &Row<'_>, began: Time, ended: Time) {
        if row.definition != DefinitionId::default() {
            return;
        }
        let node = row.frame.node;
        if let Some((request, asked)) = self.asked.get(&node).copied()
            && self.plan.messages[request].message.answered_by.contains(&row.message)
        {
            self.asked.remove(&node);
            let key = (request, row.message);
            let place = self.answers.iter().position(|(known, _)| *known == key).unwrap_or_else(|| {
                self.answers.push((key, Spread::default()));
                self.answers.len() - 1
            });
            self.answers[place].1.add(began.since(asked));
        }
        if !self.plan.messages[row.message].message.answered_by.is_empty() {
            self.asked.insert(node, (row.message, ended));
        }
    }
}

impl ItemSink for LineTiming {
    type Error = Infallible;

    fn wants(&self, _: DefinitionId, _: MessageId) -> Wants {
        Wants::Frame
    }

    fn item(&mut self, item: Item<'_>) -> Result<ControlFlow<()>, Infallible> {
        let ([first, ..], Some(last)) = (item.times(), item.times().last()) else {
            return Ok(ControlFlow::Continue(()));
        };
        let from = item.stream().from;
        let place = self.senders.iter().position(|(known, _)| *known == from).unwrap_or_else(|| {
            self.senders.push((from, SenderTiming::default()));
            self.senders.len() - 1
        });
        let sender = &mut self.senders[place].1;
        for pair in item.times().windows(2) {
            // Bytes of one word come at once.
            if pair[0] != pair[1] {
                sender.between_bytes.add(pair[1].start.since(pair[0].end));
            }
        }
        if let Some(ended) = sender.ended.replace(last.end) {
            sender.between_frames.add(first.start.since(ended));
        }
        if let Item::Row(row) = item {
            self.exchange(row, first.start, last.end);
        }
        Ok(ControlFlow::Continue(()))
    }
}
