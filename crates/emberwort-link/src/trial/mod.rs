//! Running a trial: both ends and the wire as state machines over a queue of events in virtual time. What it keeps does not
//! grow with the span: a sent frame is forgotten once all receivers are done with it.

mod queue;
mod receiving;
mod sending;
mod sent;

use std::collections::{BTreeMap, BinaryHeap, VecDeque};
use std::rc::Rc;
use std::sync::Arc;

use emberwort_evolution::Translation;
use emberwort_model::ids::MessageId;
use emberwort_model::model::End;
use emberwort_wire::status_bytes::RunningStatus;
use emberwort_wire::{Chunk, Framed, Framing};
use queue::{Event, Exchange, Queued};
use rand::SeedableRng;
use rand_chacha::ChaCha8Rng;
use sent::{Cause, Sent, Taken};

use crate::Nanoseconds;
use crate::definitions::{Definition, MessageNumber, TrialDefinitionId};
use crate::expect::{Expectation, Observed};
use crate::in_flight::InFlight;
use crate::player::Player;
use crate::probe::{Probe, Probed};
use crate::report::{Recovery, Report, Verdict};
use crate::scenario::{Device, Scenario};
use crate::script::Runner;
use crate::side::Side;
use crate::speech;
use crate::wire::Wire;

/// Looks on while a trial runs.
pub trait TrialObserver {
    /// Whether the trial goes on; asked now and then, with the virtual time.
    fn should_continue(&mut self, now: Nanoseconds) -> bool {
        let _ = now;
        true
    }

    /// One side hands a frame to the wire.
    fn sent(&mut self, chunk: &Chunk<'_>) {
        let _ = chunk;
    }

    /// One side received these bytes, at a moment of the trial's time of day. They come in order of time; the channel is the one
    /// of the link's own definition.
    /// `node` is the device that sent them, or for which they are.
    fn received(&mut self, chunk: &Chunk<'_>, node: u64) {
        let _ = (chunk, node);
    }
}

/// Nobody looks on.
impl TrialObserver for () {}

/// Programs that play devices, in real time.
pub trait ExternalDevices {
    /// Waits until a moment of the trial. Returns earlier with bytes that a device, by index, sent, and when.
    fn wait_until(&mut self, moment: Nanoseconds) -> Option<(Nanoseconds, usize, Vec<u8>)>;

    /// A device, by index, receives bytes.
    fn deliver(&mut self, device: usize, bytes: &[u8]);
}

/// The number of the host among the senders; devices have their index.
const HOST: usize = usize::MAX;

/// The most unanswered requests of a message that are remembered.
const MAX_OPEN: usize = 1_000;

/// Frames that may wait for the wire at once.
const MAX_WAITING: usize = 100_000;

/// Runs a trial to its end, or until `watch` ends it. The same scenario gives the same report and the same bytes.
pub fn run(scenario: &Scenario, watch: &mut dyn TrialObserver) -> Report {
    run_with(scenario, watch, None)
}

/// Runs a trial in which programs play some of the devices, as [`run`] does, but in real time. What such a device sends is not known
/// beforehand, so its frames cannot be compared with it.
pub fn run_with(
    scenario: &Scenario,
    watch: &mut dyn TrialObserver,
    mut outside: Option<&mut dyn ExternalDevices>,
) -> Report {
    let mut trial = Trial::new(scenario);
    trial.start();
    if outside.is_some() {
        // Something is to be waited for until the end.
        trial.at(scenario.span, Event::End);
    }
    let mut events = 0u64;
    while let Some(next) = trial.events.peek().map(|queued| queued.time) {
        if let Some(outside) = outside.as_deref_mut() {
            if let Some((time, device, bytes)) = outside.wait_until(next) {
                trial.now = time.max(trial.now);
                trial.came_from_outside(device, &bytes, watch);
                if !watch.should_continue(trial.now) {
                    break;
                }
                continue;
            }
            if !watch.should_continue(trial.now) {
                break;
            }
        }
        let Some(queued) = trial.events.pop() else { break };
        events += 1;
        if events.is_multiple_of(256) && !watch.should_continue(queued.time) {
            break;
        }
        if trial.events.len() > MAX_WAITING {
            trial.report.overrun = Some(queued.time);
            break;
        }
        trial.now = queued.time;
        if let Event::End = queued.event {
            break;
        }
        trial.handle(queued.event, watch);
        if let Some(outside) = outside.as_deref_mut() {
            for (device, bytes) in trial.for_outside.drain(..) {
                outside.deliver(device, &bytes);
            }
        }
    }
    trial.finish()
}

/// What there is of each definition in use.
struct DefinitionUse {
    /// The framing of frames from devices that have it, and from hosts.
    framings: (Arc<Framing>, Arc<Framing>),
    /// From devices that have it to the host, and back.
    to_host: Translation,
    from_host: Translation,
}

struct Trial<'a> {
    scenario: &'a Scenario,
    /// By definition.
    uses: Vec<DefinitionUse>,
    /// Requests that nobody has answered yet, by message; the oldest, [`MAX_OPEN`] at most.
    open: BTreeMap<MessageNumber, VecDeque<Rc<Exchange>>>,
    /// What must hold for values, and what was found.
    probes: Vec<(&'a Probe, Probed)>,
    /// What may come so many times at most, and when more came.
    limits: Vec<(&'a Expectation, Option<Nanoseconds>)>,
    /// What devices and the host may leave out.
    running: [RunningStatus; 2],
    wire: Wire,
    now: Nanoseconds,
    events: BinaryHeap<Queued>,
    event_number: u64,
    devices: Vec<Device>,
    /// Sequence numbers of devices and of the host, by node.
    sequences: [BTreeMap<u64, u64>; 2],
    /// The state of each device.
    players: Vec<Player>,
    scripts: Runner,
    /// When the scripts are looked at next.
    script_at: Option<Nanoseconds>,
    wire_random: ChaCha8Rng,
    signal_random: ChaCha8Rng,
    answer_random: ChaCha8Rng,
    /// How many frames were sent of each length.
    lengths: Vec<u64>,
    /// How the host and each device got over broken frames.
    host_recovery: Recovery,
    device_recoveries: Vec<Recovery>,
    /// Bytes for devices that programs play.
    for_outside: Vec<(usize, Vec<u8>)>,
    /// Sent frames that are still under way, by number.
    sent: InFlight<Sent>,
    /// Room for a body and a frame.
    room: (Vec<u8>, Vec<u8>),
    /// What became of the last frame between two definitions.
    taken: Option<Taken>,
    host_side: Side,
    device_sides: Vec<Side>,
    report: Report,
}

impl<'a> Trial<'a> {
    fn new(scenario: &'a Scenario) -> Self {
        let host = scenario.definitions.get(scenario.host);
        let of_definition = |definition: &Definition| {
            let framing = |from: End| definition.plan.channels[definition.channel].framing(from);
            DefinitionUse {
                framings: (framing(End::Device), framing(End::Host)),
                to_host: Translation::new(&definition.plan, &host.plan),
                from_host: Translation::new(&host.plan, &definition.plan),
            }
        };
        let wire = scenario.wire();
        let random = |stream: u64| {
            let mut random = ChaCha8Rng::seed_from_u64(scenario.seed);
            random.set_stream(stream);
            random
        };
        let player = |device: &Device| {
            let definition = scenario.definitions.get(device.definition);
            Player::new(&definition.plan, definition.channel, device)
        };
        let ears = |device: &Device| Side::hearing(scenario.definitions.get(device.definition), End::Host);
        Self {
            host_side: Side::hearing(host, End::Device),
            device_sides: scenario.devices.iter().map(ears).collect(),
            scenario,
            uses: scenario.definitions.all().iter().map(of_definition).collect(),
            open: BTreeMap::new(),
            probes: scenario
                .must
                .iter()
                .filter_map(Expectation::probe)
                .map(|probe| (probe, Probed::default()))
                .collect(),
            limits: scenario.must.iter().filter(|must| must.is_limit()).map(|must| (must, None)).collect(),
            running: Default::default(),
            wire,
            now: 0,
            events: BinaryHeap::new(),
            event_number: 0,
            devices: scenario.devices.clone(),
            sequences: Default::default(),
            players: scenario.devices.iter().map(player).collect(),
            scripts: Runner::new(&scenario.scripts),
            script_at: None,
            // Streams of their own, so that another signal does not change what the wire does.
            wire_random: random(1),
            signal_random: random(2),
            answer_random: random(3),
            lengths: Vec::new(),
            host_recovery: Recovery::default(),
            device_recoveries: vec![Recovery::default(); scenario.devices.len()],
            for_outside: Vec::new(),
            sent: InFlight::new(),
            room: Default::default(),
            taken: None,
            report: Report::new(scenario.must.iter().filter_map(|expectation| expectation.answer_time())),
        }
    }

    /// The definition of a device.
    fn of_device(&self, device: usize) -> &'a Definition {
        self.scenario.definitions.get(self.devices[device].definition)
    }

    /// The definition of the host.
    fn of_host(&self) -> &'a Definition {
        self.scenario.definitions.get(self.scenario.host)
    }

    /// The number of a message of a definition, both by index.
    fn number(&self, definition: TrialDefinitionId, message: MessageId) -> MessageNumber {
        self.scenario.definitions.get(definition).number(message)
    }

    fn at(&mut self, time: Nanoseconds, event: Event) {
        self.event_number += 1;
        let class = event.class();
        // Requests at one moment are sent in the order of the file.
        let number = if let Event::Request { index } = event { index as u64 } else { self.event_number };
        self.events.push(Queued { time, class, number, event });
    }

    fn start(&mut self) {
        for device in 0..self.devices.len() {
            let first = self.devices[device].recording.as_ref().and_then(|recording| recording.frames.first());
            if let Some(time) = first.map(|(time, _)| *time) {
                self.at(time, Event::Play { device, index: 0 });
            }
            if self.devices[device].is_played() {
                continue;
            }
            let Definition { plan, channel, .. } = self.of_device(device);
            let channel = &plan.channels[*channel];
            for (message, compiled) in plan.message_ids() {
                let regular = compiled.message.from == End::Device && compiled.message.every.is_some();
                if regular && channel.carries(message) {
                    self.at(self.devices[device].first_report, Event::Report { device, message });
                }
            }
            for index in 0..self.devices[device].sends.len() {
                self.at(self.devices[device].sends[index].at, Event::Send { device, index });
            }
        }
        for index in 0..self.scenario.requests.len() {
            self.at(self.scenario.requests[index].at, Event::Request { index });
        }
        self.plan_scripts();
    }

    /// Whether a device runs now; one that is off begins its sequence numbers again.
    fn runs(&mut self, device: usize) -> bool {
        let player = &mut self.players[device];
        let device = &self.devices[device];
        let runs = speech::runs(device, self.now);
        if !runs {
            self.sequences[0].insert(device.node, 0);
            player.restart(device);
        }
        runs
    }

    fn handle(&mut self, event: Event, watch: &mut dyn TrialObserver) {
        match event {
            Event::Arrive { sent, bytes, whole } => self.arrive(sent, bytes, whole, watch),
            Event::ArriveFromOutside { node, bytes } => self.arrive_from_outside(node, &bytes, watch),
            Event::End => (),
            _ if self.now >= self.scenario.span => (),
            Event::Report { device, message } => {
                if let Some(every) = self.of_device(device).plan.messages[message].message.every {
                    self.at(self.now + every, Event::Report { device, message });
                }
                if self.runs(device) {
                    let (of, plan) = (&self.devices[device], &self.of_device(device).plan);
                    let (values, alarms) =
                        self.players[device].report(plan, of, message, self.now, &mut self.signal_random);
                    self.send(Some(device), self.devices[device].node, message, values, Cause::default(), watch);
                    for (message, node, values) in alarms {
                        self.send(Some(device), node, message, values, Cause::default(), watch);
                    }
                }
            }
            Event::Play { device, index } => {
                let Some(recording) = self.devices[device].recording.clone() else { return };
                if let Some((next, _)) = recording.frames.get(index + 1) {
                    self.at(*next, Event::Play { device, index: index + 1 });
                }
                if self.runs(device) {
                    self.came_from_outside(device, &recording.frames[index].1, watch);
                }
            }
            Event::Send { device, index } => {
                if self.runs(device) {
                    let planned = self.devices[device].sends[index].clone();
                    self.send(Some(device), planned.node, planned.message, planned.values, Cause::default(), watch);
                }
            }
            Event::Request { index } => {
                let planned = &self.scenario.requests[index];
                if let Some(every) = planned.every
                    && self.now + every < planned.until
                {
                    self.at(self.now + every, Event::Request { index });
                }
                self.request(index, self.scenario.retries, None, watch);
            }
            Event::Script => {
                self.script_at = None;
                for sending in self.scripts.act(&self.of_host().plan, self.now) {
                    let exchange = self.exchange(sending.message, sending.node);
                    let cause = Cause { exchange, answers: None };
                    self.send(None, sending.node, sending.message, sending.values, cause, watch);
                }
                self.plan_scripts();
            }
            Event::Retry { index, left, exchange } => {
                if !exchange.answered.get() {
                    self.report.retries += 1;
                    self.request(index, left, Some(exchange), watch);
                }
            }
            Event::Reply { device, request, asked, exchange, source: way } => {
                if self.runs(device) {
                    self.reply(device, way, (request, &asked), exchange, watch);
                }
            }
        }
    }

    /// Plans when the scripts are looked at next, unless they are looked at before.
    fn plan_scripts(&mut self) {
        let Some(next) = self.scripts.next() else { return };
        let next = next.max(self.now);
        if self.script_at.is_none_or(|planned| next < planned) {
            self.script_at = Some(next);
            self.at(next, Event::Script);
        }
    }

    fn finish(mut self) -> Report {
        let found = self.host_side.finish();
        self.host_found(found);
        for device in 0..self.devices.len() {
            let found = self.device_sides[device].finish();
            self.device_found(device, found);
        }
        self.look_at_limits();
        // Those whose deliveries were still under way when the trial was ended.
        for sent in self.sent.numbers() {
            if let Some(sent) = self.sent.get_mut(sent) {
                sent.pending = 1;
            }
            self.settle(sent);
        }
        self.report.ended = self.now;
        self.report.host = self.host_side.heard_in_all();
        for (device, side) in self.devices.iter().zip(&self.device_sides) {
            self.report.devices.insert(device.node, side.heard_in_all());
        }
        self.report.busy = self.wire.busy();
        self.host_recovery.over(self.now);
        self.report.recovery.insert(None, self.host_recovery);
        for (device, recovery) in self.devices.iter().zip(&mut self.device_recoveries) {
            recovery.over(self.now);
            self.report.recovery.insert(Some(device.node), *recovery);
        }
        self.report.lengths =
            (0..).map(MessageNumber::new).zip(self.lengths.drain(..)).filter(|(_, count)| *count > 0).collect();
        for (message, open) in &self.open {
            if let Some(first) = open.iter().find(|exchange| !exchange.answered.get()) {
                self.report.answers.entry(*message).or_default().never(first.asked);
            }
        }
        let mut probed = self.probes.iter().map(|(_, found)| found);
        let mut limits = self.limits.iter().map(|(_, exceeded)| *exceeded);
        let judged = self.scenario.must.iter().map(|expectation| {
            let probed = expectation.probe().and_then(|_| probed.next());
            let exceeded = if expectation.is_limit() { limits.next().flatten() } else { None };
            expectation.judge(&self.report, Observed { probed, exceeded })
        });
        let verdicts = judged.collect();
        self.report.verdicts = verdicts;
        let outcomes = self.scripts.outcomes(&self.of_host().plan);
        self.report.verdicts.extend(outcomes.into_iter().map(Verdict::of_script));
        self.report
    }
}
