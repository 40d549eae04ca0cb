//! The simulated host as a machine: bytes and moments in, frames out. It reads no clock and knows no port.

use std::collections::{BTreeMap, VecDeque};
use std::sync::Arc;

use emberwort_model::ids::MessageId;
use emberwort_model::model::End;
use emberwort_wire::status_bytes::RunningStatus;
use emberwort_wire::{Chunk, Framed as _, Framing, Time, Values};

use crate::Nanoseconds;
use crate::agenda::Agenda;
use crate::definitions::Definition;
use crate::machine::{LinkEvent, Machine};
use crate::report::ReceptionAccount;
use crate::scenario::Scenario;
use crate::script::{Outcome, Runner};
use crate::side::{Found, Side};
use crate::speech::{self, Said};

/// The host of a trial.
pub struct HostEnd {
    definition: Definition,
    scenario: Scenario,
    starts: Time,
    framing: Arc<Framing>,
    running: RunningStatus,
    side: Side,
    agenda: Agenda<PendingAction>,
    scripts: Runner,
    /// By node.
    sequences: BTreeMap<u64, u64>,
    /// Requests that nobody has answered yet, by the number of the request.
    open: BTreeMap<u64, OpenRequest>,
    asked: u64,
    outbox: VecDeque<Vec<u8>>,
    events: VecDeque<LinkEvent>,
}

/// A request that waits for its answer.
struct OpenRequest {
    index: usize,
    asked: Nanoseconds,
    left: u32,
}

/// What it is going to do.
enum PendingAction {
    /// Send a planned request.
    Request { index: usize },
    /// See whether the request with this number was answered.
    Look { number: u64 },
}

/// How long an answer is waited for where the definition does not say it.
const PATIENCE: Nanoseconds = 1_000_000_000;

impl HostEnd {
    /// The host of a trial, which starts at this moment.
    pub fn new(scenario: &Scenario, starts: Time) -> Self {
        let definition = scenario.definitions.get(scenario.host).clone();
        let mut agenda = Agenda::new();
        for (index, request) in scenario.requests.iter().enumerate() {
            agenda.note(request.at, PendingAction::Request { index });
        }
        Self {
            starts,
            framing: definition.plan.channels[definition.channel].framing(End::Host),
            side: Side::hearing(&definition, End::Device),
            running: RunningStatus::default(),
            agenda,
            scripts: Runner::new(&scenario.scripts),
            sequences: BTreeMap::new(),
            open: BTreeMap::new(),
            asked: 0,
            outbox: VecDeque::new(),
            events: VecDeque::new(),
            definition,
            scenario: scenario.clone(),
        }
    }

    /// How the scripts came out, if it ends now.
    pub fn outcomes(&self) -> Vec<Outcome> {
        self.scripts.outcomes(&self.definition.plan)
    }

    /// Does what is to be done by now.
    fn act(&mut self, now: Nanoseconds) {
        for sending in self.scripts.act(&self.definition.plan, now) {
            self.send(sending.message, sending.node, &sending.values);
        }
        while let Some((time, todo)) = self.agenda.take(now) {
            match todo {
                PendingAction::Request { index } => {
                    let planned = &self.scenario.requests[index];
                    if let Some(every) = planned.every
                        && time + every < planned.until
                    {
                        self.agenda.note(time + every, PendingAction::Request { index });
                    }
                    self.send_planned(index);
                    if self.is_answered(index) {
                        self.open.insert(self.asked, OpenRequest { index, asked: now, left: self.scenario.retries });
                        self.agenda.note(now + self.within(index), PendingAction::Look { number: self.asked });
                        self.asked += 1;
                    }
                }
                PendingAction::Look { number } => {
                    let Some(open) = self.open.get_mut(&number) else { continue };
                    let index = open.index;
                    if open.left > 0 {
                        open.left -= 1;
                        self.send_planned(index);
                        self.agenda.note(now + self.within(index), PendingAction::Look { number });
                    } else {
                        self.open.remove(&number);
                        let planned = &self.scenario.requests[index];
                        let unanswered = LinkEvent::Unanswered { request: planned.message, node: planned.node };
                        self.events.push_back(unanswered);
                    }
                }
            }
        }
    }

    /// All that it heard.
    pub fn heard(&self) -> ReceptionAccount {
        self.side.heard_in_all()
    }

    fn within(&self, index: usize) -> Nanoseconds {
        let message = self.scenario.requests[index].message;
        self.definition.plan.messages[message].message.within.unwrap_or(PATIENCE)
    }

    /// Whether somebody answers a planned request: nobody does what is for all.
    fn is_answered(&self, index: usize) -> bool {
        let planned = &self.scenario.requests[index];
        let for_all = self.framing.plan().broadcast == Some(planned.node);
        !for_all && !self.definition.plan.messages[planned.message].message.answered_by.is_empty()
    }

    fn send_planned(&mut self, index: usize) {
        let planned = self.scenario.requests[index].clone();
        self.send(planned.message, planned.node, &planned.values);
    }

    fn send(&mut self, message: MessageId, node: u64, values: &Values) {
        let plan = &self.definition.plan;
        let sequence = self.sequences.entry(node).or_insert(0);
        let said = Said { message, node, sequence: *sequence, revision: plan.link.revision, values };
        *sequence += 1;
        let (mut body, mut bytes) = Default::default();
        if speech::frame(&self.framing, &plan.messages[message], &said, &mut body, &mut bytes).is_some() {
            self.side.requests.note(plan, self.definition.channel, node, message, values);
            self.outbox.push_back(self.running.shorten(self.framing.plan().finder, &bytes).to_vec());
        }
    }

    fn found(&mut self, now: Nanoseconds, found: Found) {
        let Definition { plan, channel, .. } = &self.definition;
        for frame in found.frames {
            self.side.requests.answered(plan, *channel, frame.node.unwrap_or(0), frame.message);
            let sender = (*channel, End::Device, frame.node.unwrap_or(0));
            self.side.numbering.take(sender, frame.sequence, frame.message, &frame.values);
            self.scripts.hear(plan, now, frame.message, frame.node, &frame.values);
            // The oldest request that this can answer.
            let answers = |open: &OpenRequest| {
                let planned = &self.scenario.requests[open.index];
                let named = plan.messages[planned.message].message.answered_by.contains(&frame.message);
                named && frame.node.is_none_or(|node| node == planned.node)
            };
            let number = self.open.iter().find(|(_, open)| answers(open)).map(|(number, _)| *number);
            if let Some(open) = number.and_then(|number| self.open.remove(&number)) {
                let planned = &self.scenario.requests[open.index];
                self.events.push_back(LinkEvent::Answered {
                    request: planned.message,
                    node: planned.node,
                    answer: frame.message,
                    after: now.saturating_sub(open.asked),
                });
            }
        }
    }
}

impl Machine for HostEnd {
    fn handle_chunk(&mut self, now: Time, chunk: &Chunk<'_>) {
        let found = self.side.hear(chunk);
        self.found(now.since(self.starts), found);
    }

    fn handle_break(&mut self, now: Time) {
        let found = self.side.finish();
        self.found(now.since(self.starts), found);
    }

    fn poll_timeout(&self) -> Option<Time> {
        let next = self.agenda.next().into_iter().chain(self.scripts.next()).min().map(|next| self.starts.after(next));
        next.into_iter().chain(self.side.poll_timeout()).min()
    }

    fn handle_timeout(&mut self, now: Time) {
        let found = self.side.hear_silence(now);
        self.found(now.since(self.starts), found);
        self.act(now.since(self.starts));
    }

    fn poll_transmit(&mut self) -> Option<Vec<u8>> {
        self.outbox.pop_front()
    }

    fn poll_event(&mut self) -> Option<LinkEvent> {
        self.events.pop_front()
    }
}
