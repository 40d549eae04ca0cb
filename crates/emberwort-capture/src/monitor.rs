//! What is to be seen of a link while it runs: the last values of each message, how often it comes, how its fields moved, what was
//! broken, and how requests were answered. It reads no clock; what it keeps is bounded.

use std::collections::{BTreeMap, VecDeque};
use std::convert::Infallible;
use std::ops::ControlFlow;
use std::sync::Arc;

use emberwort_model::Plan;
use emberwort_model::ids::MessageId;
use emberwort_model::model::{End, Kind};
use emberwort_text::formula::number;
use emberwort_wire::{Time, Values};

use crate::items::{Item, ItemSink, Row};

/// So many values of each field are kept.
pub(crate) const MAX_HISTORY: usize = 4_096;

/// So many frames are kept.
pub(crate) const MAX_LOG: usize = 500;

/// So many requests are kept.
pub(crate) const MAX_PAIRS: usize = 100;

/// The rate of a message is that of its last frames, so many at most.
const RATE_OVER: usize = 64;

/// Which frames belong together: the end that sends them, the message's name, the node.
pub type Source = (End, String, Option<u64>);

/// All that is to be seen.
#[derive(Clone, Debug, Default)]
pub struct Monitor {
    /// What was received of each message.
    pub activity: BTreeMap<Source, MessageActivity>,
    /// The last frames, and what was none.
    pub log: VecDeque<Logged>,
    /// The last requests.
    pub pairs: VecDeque<Pair>,
    /// The counts.
    pub counts: Counts,
}

/// How much of what there was.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Counts {
    /// Good frames.
    pub good: u64,
    /// Broken frames.
    pub broken: u64,
    /// Bytes in no frame.
    pub stray: u64,
    /// Requests that were answered.
    pub answered: u64,
}

/// What was received of one message.
#[derive(Clone, Debug)]
pub struct MessageActivity {
    /// How many.
    pub count: u64,
    /// When the last ones came.
    times: VecDeque<Time>,
    /// What the definition says that the last one was read with.
    pub plan: Arc<Plan>,
    /// The message, by index in it.
    pub message: MessageId,
    /// The last values.
    pub values: Values,
    /// How fields that are numbers moved, by slot.
    pub history: Vec<VecDeque<(Time, f64)>>,
}

/// One thing that came.
#[derive(Clone, Debug)]
pub struct Logged {
    /// When.
    pub time: Option<Time>,
    /// What.
    pub kind: LogEntryKind,
}

/// What came.
#[derive(Clone, Debug)]
pub enum LogEntryKind {
    /// A good frame.
    Frame {
        /// What the definition says that it was read with.
        plan: Arc<Plan>,
        /// The message, by index in it.
        message: MessageId,
        /// The end that sent it.
        from: End,
        /// The node that it names.
        node: Option<u64>,
        /// Its values.
        values: Values,
    },
    /// A broken frame.
    Broken {
        /// Why.
        fault: String,
        /// Its bytes.
        bytes: Vec<u8>,
    },
    /// Bytes in no frame.
    Stray(Vec<u8>),
}

/// A request, and what was answered.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Pair {
    /// When it was sent.
    pub asked: Time,
    /// Its message.
    pub request: String,
    /// The node that was asked.
    pub node: Option<u64>,
    /// The names of the messages that answer it.
    answers: Vec<String>,
    /// The answer's message, and after how many nanoseconds it came.
    pub answer: Option<(String, u64)>,
}

impl MessageActivity {
    /// When the last one came.
    pub fn last(&self) -> Option<Time> {
        self.times.back().copied()
    }

    /// How many came in a second, by the last ones; `None` after the first.
    pub fn rate(&self) -> Option<f64> {
        let span = self.times.back()?.since(*self.times.front()?);
        (span > 0).then(|| (self.times.len() - 1) as f64 * 1e9 / span as f64)
    }
}

impl Monitor {
    fn row(&mut self, row: &Row<'_>) {
        self.counts.good += 1;
        let message = &row.plan.messages[row.message].message;
        let (from, node) = (row.from, row.frame.node);
        let time = row.time.unwrap_or_default();
        let seen = self.activity.entry((from, message.name.clone(), node)).or_insert_with(|| MessageActivity {
            count: 0,
            times: VecDeque::new(),
            plan: row.plan.clone(),
            message: row.message,
            values: Values::default(),
            history: Vec::new(),
        });
        seen.count += 1;
        (seen.plan, seen.message) = (row.plan.clone(), row.message);
        seen.values.assign(row.values);
        if seen.times.len() == RATE_OVER {
            seen.times.pop_front();
        }
        seen.times.push_back(time);
        seen.history.resize(message.fields.len(), VecDeque::new());
        for (slot, (field, history)) in message.fields.iter().zip(&mut seen.history).enumerate() {
            let value = number(field, row.values, slot).filter(|_| !matches!(field.kind, Kind::Time { .. }));
            let Some(value) = value.filter(|value| value.is_finite()) else { continue };
            if history.len() == MAX_HISTORY {
                history.pop_front();
            }
            history.push_back((time, value));
        }
        self.pair(row, time);
        let (plan, message, values) = (row.plan.clone(), row.message, row.values.clone());
        self.note(row.time, LogEntryKind::Frame { plan, message, from, node, values });
    }

    /// Puts requests and their answers together.
    fn pair(&mut self, row: &Row<'_>, time: Time) {
        let message = &row.plan.messages[row.message].message;
        if !message.answered_by.is_empty() {
            let answers =
                message.answered_by.iter().map(|answer| row.plan.messages[*answer].message.name.clone()).collect();
            if self.pairs.len() == MAX_PAIRS {
                self.pairs.pop_front();
            }
            let (request, node) = (message.name.clone(), row.frame.node);
            self.pairs.push_back(Pair { asked: time, request, node, answers, answer: None });
            return;
        }
        let answers = |pair: &&mut Pair| {
            let is_node = pair.node.is_none() || row.frame.node.is_none() || pair.node == row.frame.node;
            pair.answer.is_none() && is_node && pair.answers.contains(&message.name)
        };
        // The oldest that waits.
        if let Some(pair) = self.pairs.iter_mut().find(answers) {
            pair.answer = Some((message.name.clone(), time.since(pair.asked)));
            self.counts.answered += 1;
        }
    }

    fn note(&mut self, time: Option<Time>, what: LogEntryKind) {
        if self.log.len() == MAX_LOG {
            self.log.pop_front();
        }
        self.log.push_back(Logged { time, kind: what });
    }
}

impl ItemSink for Monitor {
    type Error = Infallible;

    fn item(&mut self, item: Item<'_>) -> Result<ControlFlow<()>, Infallible> {
        match item {
            Item::Row(row) => self.row(row),
            Item::Broken(broken) => {
                self.counts.broken += 1;
                self.note(
                    broken.time,
                    LogEntryKind::Broken {
                        fault: broken.fault.sentence(broken.plan, broken.direction),
                        bytes: broken.wire.to_vec(),
                    },
                );
            }
            Item::Stray(stray) if stray.is_packet => {}
            Item::Stray(stray) => {
                self.counts.stray += stray.wire.len() as u64;
                self.note(stray.time, LogEntryKind::Stray(stray.wire.to_vec()));
            }
        }
        Ok(ControlFlow::Continue(()))
    }
}
