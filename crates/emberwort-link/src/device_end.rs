//! A simulated device as a machine: bytes and moments in, frames out. It reads no clock and knows no port.

use std::collections::VecDeque;
use std::sync::Arc;

use emberwort_model::ids::MessageId;
use emberwort_model::model::End;
use emberwort_wire::status_bytes::RunningStatus;
use emberwort_wire::{Chunk, Framed as _, Framing, Time, Values};
use rand::SeedableRng;
use rand_chacha::ChaCha8Rng;

use crate::Nanoseconds;
use crate::agenda::Agenda;
use crate::definitions::Definition;
use crate::machine::{LinkEvent, Machine};
use crate::player::{Player, ReplySource};
use crate::report::ReceptionAccount;
use crate::scenario::{Device, PlannedMessage, Scenario};
use crate::side::{Found, Side};
use crate::speech::{self, Said};

/// A device of a trial.
pub struct DeviceEnd {
    definition: Definition,
    device: Device,
    starts: Time,
    framing: Arc<Framing>,
    running: RunningStatus,
    side: Side,
    agenda: Agenda<PendingAction>,
    player: Player,
    random: ChaCha8Rng,
    sequence: u64,
    outbox: VecDeque<Vec<u8>>,
}

/// What it is going to do.
enum PendingAction {
    /// Send a message that it sends regularly.
    Report { message: MessageId, every: Nanoseconds },
    /// Send a planned message.
    Send(PlannedMessage),
    /// Send the frame with this number of the recording that plays it.
    Play(usize),
    /// Answer a request with these values.
    Answer { request: MessageId, asked: Values, source: ReplySource },
}

impl DeviceEnd {
    /// The device of a trial with this index, which starts at this moment.
    ///
    /// # Panics
    /// If there is no such device.
    pub fn new(scenario: &Scenario, index: usize, starts: Time) -> Self {
        let device = scenario.devices[index].clone();
        let definition = scenario.definitions.get(device.definition).clone();
        let channel = &definition.plan.channels[definition.channel];
        let mut agenda = Agenda::new();
        if let Some((first, _)) = device.recording.as_ref().and_then(|recording| recording.frames.first()) {
            agenda.note(*first, PendingAction::Play(0));
        }
        let is_own = device.recording.is_none();
        for (message, compiled) in definition.plan.message_ids().filter(|_| is_own) {
            let every = compiled.message.every.filter(|_| compiled.message.from == End::Device);
            if let Some(every) = every.filter(|_| channel.carries(message)) {
                agenda.note(device.first_report, PendingAction::Report { message, every });
            }
        }
        for planned in &device.sends {
            agenda.note(planned.at, PendingAction::Send(planned.clone()));
        }
        let mut random = ChaCha8Rng::seed_from_u64(scenario.seed);
        // A stream of its own for each device, so that one does not change what another says.
        random.set_stream(device.node.wrapping_add(1));
        Self {
            starts,
            framing: channel.framing(End::Device),
            side: Side::hearing(&definition, End::Host),
            running: RunningStatus::default(),
            agenda,
            player: Player::new(&definition.plan, definition.channel, &device),
            random,
            sequence: 0,
            outbox: VecDeque::new(),
            definition,
            device,
        }
    }

    /// The device's node.
    pub fn node(&self) -> u64 {
        self.device.node
    }

    /// Does what is to be done by now.
    fn act(&mut self, now: Nanoseconds) {
        while let Some((time, todo)) = self.agenda.take(now) {
            let runs = speech::runs(&self.device, time);
            if !runs {
                self.sequence = 0;
                self.player.restart(&self.device);
            }
            match todo {
                PendingAction::Report { message, every } => {
                    // What could not be sent in time is not made up for.
                    let next = (time + every).max(now.saturating_sub(every));
                    self.agenda.note(next, PendingAction::Report { message, every });
                    if runs {
                        let plan = &self.definition.plan;
                        let (values, alarms) = self.player.report(plan, &self.device, message, time, &mut self.random);
                        self.send(message, self.device.node, &values);
                        for (message, node, values) in alarms {
                            self.send(message, node, &values);
                        }
                    }
                }
                PendingAction::Play(number) => {
                    let Some(recording) = &self.device.recording else { continue };
                    if let Some((next, _)) = recording.frames.get(number + 1) {
                        self.agenda.note(*next, PendingAction::Play(number + 1));
                    }
                    if runs {
                        self.outbox.push_back(recording.frames[number].1.clone());
                    }
                }
                PendingAction::Send(planned) if runs => self.send(planned.message, planned.node, &planned.values),
                PendingAction::Answer { request, asked, source: way } if runs => {
                    let plan = &self.definition.plan;
                    let answer = self.player.answer(plan, &self.device, time, way, (request, &asked));
                    if let Some((message, node, values)) = answer {
                        self.send(message, node, &values);
                    }
                }
                PendingAction::Send(_) | PendingAction::Answer { .. } => {}
            }
        }
    }

    /// All that it heard.
    pub fn heard(&self) -> ReceptionAccount {
        self.side.heard_in_all()
    }

    fn send(&mut self, message: MessageId, node: u64, values: &Values) {
        let compiled = &self.definition.plan.messages[message];
        let said = Said { message, node, sequence: self.sequence, revision: self.device.revision, values };
        self.sequence += 1;
        let (mut body, mut bytes) = Default::default();
        if speech::frame(&self.framing, compiled, &said, &mut body, &mut bytes).is_some() {
            self.outbox.push_back(self.running.shorten(self.framing.plan().finder, &bytes).to_vec());
        }
    }

    fn found(&mut self, now: Nanoseconds, found: Found) {
        let Definition { plan, channel, .. } = &self.definition;
        for frame in found.frames {
            let sender = (*channel, End::Host, frame.node.unwrap_or(0));
            self.side.numbering.take(sender, frame.sequence, frame.message, &frame.values);
            let mine = frame.node.is_none_or(|to| to == self.device.node);
            // A recording answers nobody.
            if mine && self.device.recording.is_none() {
                let request = (frame.message, &frame.values);
                for answer in self.player.hear(plan, &self.device, now, request, &mut self.random) {
                    let (request, asked) = (frame.message, frame.values.clone());
                    self.agenda
                        .note(now + answer.after, PendingAction::Answer { request, asked, source: answer.source });
                }
            }
        }
    }
}

impl Machine for DeviceEnd {
    fn handle_chunk(&mut self, now: Time, chunk: &Chunk<'_>) {
        let found = self.side.hear(chunk);
        self.found(now.since(self.starts), found);
    }

    fn handle_break(&mut self, now: Time) {
        let found = self.side.finish();
        self.found(now.since(self.starts), found);
    }

    fn poll_timeout(&self) -> Option<Time> {
        let next = self.agenda.next().map(|next| self.starts.after(next));
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
        None
    }
}
