//! Requests and their answers, put together by what the definition says: which messages answer which, within what time, and the node.

use std::collections::VecDeque;
use std::ops::ControlFlow;
use std::sync::Arc;

use emberwort_model::Plan;
use emberwort_model::ids::{ChannelId, MessageId};
use emberwort_wire::{Time, Values};

use crate::items::{Item, ItemSink, Row};
use crate::query::{Filter, Matching, SelectedRows};
use crate::revision_map::RevisionMap;

/// A message in an exchange.
#[derive(Clone, Debug)]
pub struct ExchangedMessage {
    /// When it came.
    pub time: Time,
    /// The definition that it was read with.
    pub plan: Arc<Plan>,
    /// The message, by index in it.
    pub message: MessageId,
    /// Its values.
    pub values: Values,
}

/// A request with what became of it, or an answer that nobody had asked for.
#[derive(Clone, Debug)]
pub struct Exchange {
    /// The channel, by index in the link's own definition.
    pub channel: ChannelId,
    /// The node that was asked, or that answered.
    pub node: Option<u64>,
    /// How many times the same was asked before it was answered.
    pub asked: u32,
    /// The request, the first of them if it was repeated.
    pub request: Option<ExchangedMessage>,
    /// The answer.
    pub answer: Option<ExchangedMessage>,
    /// When it was asked last.
    last_asked: Time,
    /// Whether filters let the request or the answer pass.
    is_wanted: bool,
}

/// What became of a request.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Outcome {
    /// The first message of `answered by` came in time.
    Answered,
    /// Another one of them came.
    Refused,
    /// An answer came after the time that the definition gives.
    Late,
    /// None came.
    Unanswered,
    /// An answer came to no request.
    Unexpected,
}

impl Outcome {
    /// All of them.
    pub const ALL: [Outcome; 5] = [Self::Answered, Self::Refused, Self::Late, Self::Unanswered, Self::Unexpected];

    /// The word for it.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Answered => "answered",
            Self::Refused => "refused",
            Self::Late => "late",
            Self::Unanswered => "unanswered",
            Self::Unexpected => "unexpected",
        }
    }
}

impl Exchange {
    /// From the request, the first of them if it was repeated, to the answer, in nanoseconds.
    pub fn after(&self) -> Option<u64> {
        Some(self.answer.as_ref()?.time.since(self.request.as_ref()?.time))
    }

    /// What became of it.
    pub fn outcome(&self) -> Outcome {
        let (Some(request), Some(answer)) = (&self.request, &self.answer) else {
            return if self.request.is_some() { Outcome::Unanswered } else { Outcome::Unexpected };
        };
        let asked = &request.plan.messages[request.message].message;
        let name = &answer.plan.messages[answer.message].message.name;
        let first = asked.answered_by.first().map(|first| &request.plan.messages[*first].message.name);
        if first != Some(name) {
            Outcome::Refused
        } else if asked.within.is_some_and(|within| self.after() > Some(within)) {
            Outcome::Late
        } else {
            Outcome::Answered
        }
    }

    /// When it began.
    pub fn time(&self) -> Time {
        self.request.as_ref().or(self.answer.as_ref()).map_or(Time::default(), |exchanged| exchanged.time)
    }

    /// Whether an answer at a moment comes in time.
    fn is_in_time(&self, time: Time) -> bool {
        let within = self.request.as_ref().and_then(|request| request.plan.messages[request.message].message.within);
        time.since(self.last_asked) <= within.unwrap_or(WITHIN)
    }

    /// Whether an answer belongs to it.
    fn takes(&self, row: &Row<'_>) -> bool {
        self.fits((row.channel, row.frame.node), &row.plan.messages[row.message].message.name)
    }

    /// Whether an answer that came to no request belongs to it.
    fn is_answered_by(&self, early: &Exchange, answer: &ExchangedMessage) -> bool {
        self.fits((early.channel, early.node), &answer.plan.messages[answer.message].message.name)
    }

    /// Whether a message of this name, on a channel and from a node, answers it.
    fn fits(&self, (channel, node): (ChannelId, Option<u64>), name: &str) -> bool {
        let Some(request) = &self.request else { return false };
        let is_node = self.node.is_none() || node.is_none() || self.node == node;
        let answers = &request.plan.messages[request.message].message.answered_by;
        self.channel == channel
            && is_node
            && answers.iter().any(|answer| request.plan.messages[*answer].message.name == *name)
    }
}

/// Takes exchanges as they are over.
pub trait ExchangeSink {
    /// Why it cannot take any more.
    type Error;

    /// The next one; those that began earlier may come later, if they took longer.
    ///
    /// # Errors
    /// Those of the sink, which end the reading.
    fn exchange(&mut self, exchange: &Exchange) -> Result<ControlFlow<()>, Self::Error>;

    /// Nothing more is there for the moment.
    ///
    /// # Errors
    /// Those of the sink.
    fn pause(&mut self) -> Result<(), Self::Error> {
        Ok(())
    }

    /// There are no more.
    ///
    /// # Errors
    /// Those of the sink.
    fn finish(&mut self) -> Result<(), Self::Error> {
        Ok(())
    }
}

/// How long an answer is waited for where the definition does not say it.
const WITHIN: u64 = 1_000_000_000;

/// How long requests and answers are kept for their other half, which may be held up behind a broken frame; or so many times `within`.
const PATIENCE: (u64, u64) = (5_000_000_000, 20);

/// The most requests that wait at once.
const MAX_OPEN: usize = 10_000;

/// Puts rows together to exchanges. Filters are asked of rows, and an exchange is shown if one of its rows passes; all rows are paired.
pub struct Exchanges<S> {
    filters: (Matching, SelectedRows),
    open: VecDeque<Exchange>,
    /// Answers to no request: one that was held up behind a broken frame may still be found.
    early: VecDeque<Exchange>,
    sink: S,
}

impl<S> Exchanges<S> {
    /// The sink, which was given all.
    pub fn into_sink(self) -> S {
        self.sink
    }

    /// For a sink of exchanges.
    pub fn new(filters: (Matching, SelectedRows), sink: S) -> Self {
        Self { filters, open: VecDeque::new(), early: VecDeque::new(), sink }
    }
}

impl<S: ExchangeSink> Exchanges<S> {
    fn forward(&mut self, exchange: &Exchange) -> Result<ControlFlow<()>, S::Error> {
        if exchange.is_wanted { self.sink.exchange(exchange) } else { Ok(ControlFlow::Continue(())) }
    }

    /// Gives up on requests that have waited too long by now.
    fn give_up(&mut self, now: Time) -> Result<ControlFlow<()>, S::Error> {
        while let Some(oldest) = self.open.front() {
            let request = oldest.request.as_ref();
            let within = request.and_then(|request| request.plan.messages[request.message].message.within);
            let patience = within.map_or(PATIENCE.0, |within| (within * PATIENCE.1).max(PATIENCE.0));
            if now.since(oldest.time()) <= patience && self.open.len() < MAX_OPEN {
                break;
            }
            let Some(given_up) = self.open.pop_front() else { break };
            if self.forward(&given_up)?.is_break() {
                return Ok(ControlFlow::Break(()));
            }
        }
        while let Some(oldest) = self.early.front() {
            if now.since(oldest.time()) <= PATIENCE.0 && self.early.len() < MAX_OPEN {
                break;
            }
            let Some(given_up) = self.early.pop_front() else { break };
            if self.forward(&given_up)?.is_break() {
                return Ok(ControlFlow::Break(()));
            }
        }
        Ok(ControlFlow::Continue(()))
    }

    fn row(&mut self, row: &Row<'_>, is_wanted: bool) -> Result<ControlFlow<()>, S::Error> {
        let time = row.time.unwrap_or_default();
        if self.give_up(time)?.is_break() {
            return Ok(ControlFlow::Break(()));
        }
        let message = &row.plan.messages[row.message].message;
        let exchanged =
            || ExchangedMessage { time, plan: row.plan.clone(), message: row.message, values: row.values.clone() };
        if !message.answered_by.is_empty() {
            let same = |open: &&mut Exchange| {
                let request = open.request.as_ref();
                let is_same = request.is_some_and(|request| {
                    request.plan.messages[request.message].message.name == message.name && request.values == *row.values
                });
                // Who asks again does so soon after the time in which the answer should have come.
                let soon = message.within.map_or(WITHIN, |within| 2 * within);
                let is_soon = time.since(open.last_asked) <= soon;
                is_same && is_soon && open.channel == row.channel && open.node == row.frame.node
            };
            // Asked once more, as nobody had answered.
            if let Some(open) = self.open.iter_mut().find(same) {
                open.asked += 1;
                open.is_wanted |= is_wanted;
                open.last_asked = time;
                return Ok(ControlFlow::Continue(()));
            }
            let (channel, node, request) = (row.channel, row.frame.node, Some(exchanged()));
            let mut exchange = Exchange { channel, node, asked: 1, request, answer: None, last_asked: time, is_wanted };
            let came_before = self.early.iter().position(|early| {
                let answer = early.answer.as_ref();
                early.time() >= time && answer.is_some_and(|answer| exchange.is_answered_by(early, answer))
            });
            match came_before.and_then(|at| self.early.remove(at)) {
                Some(early) => {
                    exchange.answer = early.answer;
                    exchange.is_wanted |= early.is_wanted;
                    return self.forward(&exchange);
                }
                None => self.open.push_back(exchange),
            }
            return Ok(ControlFlow::Continue(()));
        }
        // The oldest request that it answers in time; if there is none, the newest that it can answer: those before were lost.
        let in_time = self.open.iter().position(|open| open.takes(row) && open.is_in_time(time));
        let newest = || self.open.iter().rposition(|open| open.takes(row));
        if let Some(at) = in_time.or_else(newest) {
            let Some(mut exchange) = self.open.remove(at) else { return Ok(ControlFlow::Continue(())) };
            exchange.answer = Some(exchanged());
            exchange.is_wanted |= is_wanted;
            return self.forward(&exchange);
        }
        let is_answer = row.plan.messages.iter().any(|other| other.message.answered_by.contains(&row.message));
        if is_answer && message.every.is_none() {
            let (channel, node, answer) = (row.channel, row.frame.node, Some(exchanged()));
            let exchange = Exchange { channel, node, asked: 0, request: None, answer, last_asked: time, is_wanted };
            self.early.push_back(exchange);
        }
        Ok(ControlFlow::Continue(()))
    }
}

impl<S: ExchangeSink> ItemSink for Exchanges<S> {
    type Error = S::Error;

    fn update_revisions(&mut self, revisions: &RevisionMap) {
        self.filters.0.update_revisions(revisions);
        self.filters.1.update_revisions(revisions);
    }

    fn item(&mut self, item: Item<'_>) -> Result<ControlFlow<()>, S::Error> {
        let (by_matching, by_only) = (self.filters.0.accepts(&item), self.filters.1.accepts(&item));
        match item {
            Item::Row(row) => self.row(row, by_matching && by_only),
            Item::Broken(_) | Item::Stray(_) => Ok(ControlFlow::Continue(())),
        }
    }

    fn pause(&mut self) -> Result<(), S::Error> {
        self.sink.pause()
    }

    fn finish(&mut self) -> Result<(), S::Error> {
        while let Some(open) = self.open.pop_front().or_else(|| self.early.pop_front()) {
            if self.forward(&open)?.is_break() {
                break;
            }
        }
        self.sink.finish()
    }
}
