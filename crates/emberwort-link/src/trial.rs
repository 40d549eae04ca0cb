//! Running a trial: both ends and the wire as state machines over a queue of events in virtual time. What it keeps does not
//! grow with the span: a sent frame is forgotten once all receivers are done with it.

use std::cell::Cell;
use std::cmp::Ordering;
use std::collections::{BTreeMap, BinaryHeap, VecDeque};
use std::rc::Rc;
use std::sync::Arc;

use emberwort_evolution::{Translation, Understood, Verdict as Understanding};
use emberwort_model::model::End;
use emberwort_wire::status_bytes::RunningStatus;
use emberwort_wire::{Chunk, FrameFault, Framed, Framing, StreamId, Times, ValueRef, Values};
use rand::SeedableRng;
use rand_chacha::ChaCha8Rng;

use crate::Nanoseconds;
use crate::definitions::Definition;
use crate::expect::Expectation;
use crate::player::{Player, Way};
use crate::probe::{Probe, Probed};
use crate::report::{Recovery, Report, Verdict, WrongValue};
use crate::scenario::{Device, Scenario};
use crate::script::Runner;
use crate::side::{Found, FoundFrame, Side};
use crate::speech::{self, Said};
use crate::under_way::UnderWay;
use crate::wire::{Sender, Wire};

/// Looks on while a trial runs.
pub trait Watch {
    /// Whether the trial goes on; asked now and then, with the virtual time.
    fn goes_on(&mut self, now: Nanoseconds) -> bool {
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
impl Watch for () {}

/// Programs that play devices, in real time.
pub trait Outside {
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
pub fn run(scenario: &Scenario, watch: &mut dyn Watch) -> Report {
    run_with(scenario, watch, None)
}

/// Runs a trial in which programs play some of the devices, as [`run`] does, but in real time. What such a device sends is not known
/// beforehand, so its frames cannot be compared with it.
pub fn run_with(scenario: &Scenario, watch: &mut dyn Watch, mut outside: Option<&mut dyn Outside>) -> Report {
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
                if !watch.goes_on(trial.now) {
                    break;
                }
                continue;
            }
            if !watch.goes_on(trial.now) {
                break;
            }
        }
        let Some(queued) = trial.events.pop() else { break };
        events += 1;
        if events.is_multiple_of(256) && !watch.goes_on(queued.time) {
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

/// Something that happens at a moment.
struct Queued {
    time: Nanoseconds,
    /// What was planned comes before what follows from it.
    class: u8,
    /// The order in which it was put in.
    number: u64,
    event: Event,
}

impl Queued {
    fn key(&self) -> (Nanoseconds, u8, u64) {
        (self.time, self.class, self.number)
    }
}

/// The earliest is the greatest, so that a heap gives it first.
impl Ord for Queued {
    fn cmp(&self, other: &Self) -> Ordering {
        other.key().cmp(&self.key())
    }
}

impl PartialOrd for Queued {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl PartialEq for Queued {
    fn eq(&self, other: &Self) -> bool {
        self.key() == other.key()
    }
}

impl Eq for Queued {}

enum Event {
    /// A device sends a message that it sends regularly.
    Report { device: usize, message: usize },
    /// A device sends a planned message.
    Send { device: usize, index: usize },
    /// The host sends a planned request.
    Request { index: usize },
    /// The host asks once more, if nobody has answered.
    Retry { index: usize, left: u32, exchange: Rc<Exchange> },
    /// A device answers a request with these values.
    Reply { device: usize, request: usize, asked: Values, exchange: Option<Rc<Exchange>>, way: Way },
    /// The host goes on with its scripts.
    Script,
    /// The span is over.
    End,
    /// A device sends the next frame of the recording that plays it.
    Play { device: usize, index: usize },
    /// Bytes of a device that somebody else plays arrive.
    ArriveFromOutside { node: u64, bytes: Vec<u8> },
    /// Bytes of a sent frame arrive, all of them and unchanged or not.
    Arrive { sent: u64, bytes: Vec<u8>, whole: bool },
}

impl Event {
    fn class(&self) -> u8 {
        match self {
            Self::Send { .. } => 0,
            Self::Request { .. } => 1,
            _ => 2,
        }
    }
}

/// A request, with those that repeat it, and its answers.
#[derive(Debug)]
struct Exchange {
    /// The request's message, by number.
    message: usize,
    /// The node that is asked.
    node: u64,
    /// When it was first sent.
    asked: Nanoseconds,
    /// Whether an answer has come.
    answered: Cell<bool>,
}

/// Why a frame is sent.
#[derive(Default)]
struct Cause<'a> {
    /// The request that it is, or answers.
    exchange: Option<Rc<Exchange>>,
    /// The request's message, by index in the device's definition, and its values as the device read them.
    answers: Option<(usize, &'a Values)>,
}

/// A frame that was sent.
struct Sent {
    /// When it was handed to the wire.
    at: Nanoseconds,
    from: End,
    node: u64,
    /// Index of the sender's definition.
    definition: usize,
    /// Index of the message there.
    message: usize,
    key: u64,
    values: Values,
    /// The request that it is, or answers.
    exchange: Option<Rc<Exchange>>,
    accepted: u32,
    /// Whether it arrived once as it was sent.
    arrived: bool,
    /// What a receiver with another definition found wrong with it.
    fault: Option<FrameFault>,
    /// Whether it stands among those that arrived and were not understood.
    is_counted: bool,
    /// How many deliveries are under way, and receivers still have bytes of it.
    pending: u32,
}

/// What there is of each definition in use.
struct Use {
    /// The framing of frames from devices that have it, and from hosts.
    framings: (Arc<Framing>, Arc<Framing>),
    /// From devices that have it to the host, and back.
    to_host: Translation,
    from_host: Translation,
}

/// What a receiver with another definition made of a frame. Many frames have the values of the one before.
struct Taken {
    /// The definitions of sender and receiver, and the end that sent.
    ends: (usize, usize, End),
    /// The message by index there, and its values.
    sent: (usize, Values),
    read: (usize, Values),
    became: Understood,
}

impl Taken {
    fn is_about(&self, sent: &Sent, receiver: usize, frame: &FoundFrame) -> bool {
        self.ends == (sent.definition, receiver, sent.from)
            && (self.sent.0, self.read.0) == (sent.message, frame.message)
            && self.sent.1 == sent.values
            && self.read.1 == frame.values
    }
}

/// Notes what a side found broken, and that it got over it.
fn recovers(side: &mut Recovery, now: Nanoseconds, found: &Found) {
    if !found.faults.is_empty() || found.stray > 0 {
        side.broken(now);
    }
    if !found.frames.is_empty() {
        side.over(now);
    }
}

struct Trial<'a> {
    scenario: &'a Scenario,
    /// By definition.
    uses: Vec<Use>,
    /// Requests that nobody has answered yet, by message; the oldest, [`MAX_OPEN`] at most.
    open: BTreeMap<usize, VecDeque<Rc<Exchange>>>,
    /// What must hold for values, and what was found.
    probes: Vec<(&'a Probe, Probed)>,
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
    sent: UnderWay<Sent>,
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
            Use {
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
            sent: UnderWay::new(),
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
    fn number(&self, definition: usize, message: usize) -> usize {
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
            for (message, compiled) in plan.messages.iter().enumerate() {
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

    fn handle(&mut self, event: Event, watch: &mut dyn Watch) {
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
            Event::Reply { device, request, asked, exchange, way } => {
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

    /// A request that is sent for the first time, if somebody answers it: nobody does what is for all.
    fn exchange(&mut self, message: usize, node: u64) -> Option<Rc<Exchange>> {
        let compiled = &self.of_host().plan.messages[message].message;
        let for_all = self.uses[self.scenario.host].framings.1.plan().broadcast == Some(node);
        if for_all || compiled.answered_by.is_empty() {
            return None;
        }
        let number = self.of_host().number(message);
        self.report.answers.entry(number).or_default().asked += 1;
        // When the wire was busy, sending begins later.
        let asked = self.wire.free_from(self.now, HOST);
        let exchange = Rc::new(Exchange { message: number, node, asked, answered: Cell::new(false) });
        let open = self.open.entry(number).or_default();
        while open.front().is_some_and(|oldest| oldest.answered.get()) {
            open.pop_front();
        }
        if open.len() < MAX_OPEN {
            open.push_back(exchange.clone());
        }
        Some(exchange)
    }

    /// The host sends a request, for the first time or again.
    fn request(&mut self, index: usize, retries: u32, exchange: Option<Rc<Exchange>>, watch: &mut dyn Watch) {
        let planned = self.scenario.requests[index].clone();
        let compiled = &self.of_host().plan.messages[planned.message].message;
        let exchange = exchange.or_else(|| self.exchange(planned.message, planned.node));
        let cause = Cause { exchange: exchange.clone(), answers: None };
        self.send(None, planned.node, planned.message, planned.values, cause, watch);
        if let (Some(exchange), Some(within), 1..) = (exchange, compiled.within, retries) {
            self.at(self.now + within, Event::Retry { index, left: retries - 1, exchange });
        }
    }

    fn reply(
        &mut self,
        device: usize,
        way: Way,
        request: (usize, &Values),
        exchange: Option<Rc<Exchange>>,
        watch: &mut dyn Watch,
    ) {
        let (of, plan) = (&self.devices[device], &self.of_device(device).plan);
        let Some((with, node, values)) = self.players[device].answer(plan, of, self.now, way, request) else { return };
        // An answer that names another node is nobody's.
        let exchange = exchange.filter(|_| node == of.node);
        self.send(Some(device), node, with, values, Cause { exchange, answers: Some(request) }, watch);
    }

    /// A device or the host sends a message.
    fn send(
        &mut self,
        device: Option<usize>,
        node: u64,
        message: usize,
        values: Values,
        cause: Cause<'_>,
        watch: &mut dyn Watch,
    ) {
        let definition = device.map_or(self.scenario.host, |device| self.devices[device].definition);
        let Definition { plan, channel, .. } = self.scenario.definitions.get(definition);
        let compiled = &plan.messages[message];
        let revision = device.map_or(plan.link.revision, |device| self.devices[device].revision);
        let (from_device, from_host) = &self.uses[definition].framings;
        let (from, framing) = if device.is_some() { (End::Device, from_device) } else { (End::Host, from_host) };
        let sequence = self.sequences[usize::from(from == End::Host)].entry(node).or_insert(0);
        let said = Said { message, node, sequence: *sequence, revision, values: &values };
        *sequence += 1;
        let (mut body, mut bytes) = std::mem::take(&mut self.room);
        let Some(key) = speech::frame(framing, compiled, &said, &mut body, &mut bytes) else { return };
        let finder = framing.plan().finder;
        let shortened = self.running[usize::from(from == End::Host)].shorten(finder, &bytes).len();
        let on_wire = &bytes[bytes.len() - shortened..];
        let index = self.sent.next_number();
        let sender = Sender { from, number: device.unwrap_or(HOST), frame: index };
        if self.lengths.len() <= on_wire.len() {
            self.lengths.resize(on_wire.len() + 1, 0);
        }
        self.lengths[on_wire.len()] += 1;
        let stream = StreamId { channel: self.scenario.definitions.get(0).channel, from: Some(from), tap: 0 };
        let outside = plan.channels[*channel].key_is_outside().then_some(key);
        let time = self.scenario.starts.after(self.now);
        watch.sent(&Chunk { stream, times: Times::Last(time), key: outside, bytes: on_wire });
        let deliveries = self.wire.send(self.now, sender, on_wire, &mut self.wire_random).1;
        let number = self.number(definition, message);
        *self.report.sent.entry((number, node)).or_default() += 1;
        let pending = deliveries.len() as u32;
        for delivery in deliveries {
            let whole = delivery.bytes == on_wire;
            if !whole {
                *self.report.damaged.entry((number, node)).or_default() += 1;
            }
            self.at(delivery.time, Event::Arrive { sent: index, bytes: delivery.bytes, whole });
        }
        // What the receiver makes of a body of an older revision: defaults where the sender lacks a field. In a line,
        // numbers are as exact as their decimals.
        let mut expected = Values::default();
        let understood = match &compiled.message.line {
            Some(_) => emberwort_wire::line::read(compiled, &body, &mut expected).is_ok_and(|fits| fits),
            None => {
                let asked = |(request, slot): (usize, usize)| match cause
                    .answers
                    .filter(|(asked, _)| *asked == request)?
                    .1
                    .get(slot)
                {
                    ValueRef::Raw(key) => Some(key),
                    _ => None,
                };
                let key = compiled.request.and_then(asked);
                emberwort_wire::decode_answer(compiled, &body, key, &mut expected).is_ok()
            }
        };
        let values = if understood { expected } else { values };
        self.room = (body, bytes);
        if from == End::Host {
            self.host_side.requests.note(plan, *channel, node, message, &values);
        }
        let sent = Sent {
            at: self.now,
            from,
            node,
            definition,
            message,
            key,
            values,
            exchange: cause.exchange,
            accepted: 0,
            arrived: false,
            fault: None,
            is_counted: false,
            pending: pending + 1,
        };
        self.sent.push(sent);
        self.settle(index);
    }

    fn arrive(&mut self, sent: u64, mut bytes: Vec<u8>, mut whole: bool, watch: &mut dyn Watch) {
        let Some(of) = self.sent.get_mut(sent) else { return };
        if self.wire.garble(sent, &mut bytes, &mut self.wire_random) && std::mem::replace(&mut whole, false) {
            let number = self.scenario.definitions.get(of.definition).number(of.message);
            *self.report.damaged.entry((number, of.node)).or_default() += 1;
        }
        of.arrived |= whole;
        let (from, key, definition, node) = (of.from, of.key, of.definition, of.node);
        let Definition { plan, channel, .. } = self.scenario.definitions.get(definition);
        let channel = *channel;
        let chunk = Chunk {
            stream: StreamId { channel: self.scenario.definitions.get(0).channel, from: Some(from), tap: 0 },
            times: Times::Last(self.scenario.starts.after(self.now)),
            key: plan.channels[channel].key_is_outside().then_some(key),
            bytes: &bytes,
        };
        let mut is_heard = false;
        match from {
            End::Device => {
                if self.uses[definition].to_host.arrives(channel) {
                    is_heard = true;
                    self.hold(sent);
                    let found = self.host_side.feed(sent, &chunk);
                    self.host_found(found);
                }
            }
            End::Host => {
                for device in 0..self.devices.len() {
                    if self.devices[device].program.is_some() {
                        is_heard = true;
                        self.for_outside.push((device, bytes.clone()));
                    } else if self.devices[device].recording.is_some() {
                        is_heard = true;
                    } else if self.uses[self.devices[device].definition].from_host.arrives(channel) {
                        is_heard = true;
                        self.hold(sent);
                        let found = self.device_sides[device].feed(sent, &chunk);
                        self.device_found(device, found);
                    }
                }
            }
        }
        if is_heard {
            watch.received(&chunk, node);
        }
        self.settle(sent);
    }

    /// A program or a recording that plays a device sent bytes. They pass the wire as a frame does.
    fn came_from_outside(&mut self, device: usize, bytes: &[u8], watch: &mut dyn Watch) {
        let node = self.devices[device].node;
        let stream = StreamId { channel: self.scenario.definitions.get(0).channel, from: Some(End::Device), tap: 0 };
        let times = Times::Last(self.scenario.starts.after(self.now));
        watch.sent(&Chunk { stream, times, key: None, bytes });
        let sender = Sender { from: End::Device, number: device, frame: self.sent.next_number() };
        for delivery in self.wire.send(self.now, sender, bytes, &mut self.wire_random).1 {
            self.at(delivery.time, Event::ArriveFromOutside { node, bytes: delivery.bytes });
        }
    }

    fn arrive_from_outside(&mut self, node: u64, bytes: &[u8], watch: &mut dyn Watch) {
        let stream = StreamId { channel: self.scenario.definitions.get(0).channel, from: Some(End::Device), tap: 0 };
        let times = Times::Last(self.scenario.starts.after(self.now));
        let chunk = Chunk { stream, times, key: None, bytes };
        watch.received(&chunk, node);
        let found = self.host_side.hear(&chunk);
        self.host_heard_outside(node, found);
    }

    /// The host found frames in what somebody else than the trial sent.
    fn host_heard_outside(&mut self, node: u64, found: Found) {
        let Definition { plan, channel, .. } = self.of_host();
        recovers(&mut self.host_recovery, self.now, &found);
        for frame in found.frames {
            let number = self.number(self.scenario.host, frame.message);
            let from = frame.node.unwrap_or(node);
            *self.report.sent.entry((number, from)).or_default() += 1;
            *self.report.received.entry((number, from)).or_default() += 1;
            self.report.not_compared += 1;
            self.look(self.scenario.host, &frame);
            self.host_side.requests.answered(plan, *channel, from, frame.message);
            self.host_side.numbering.take((*channel, End::Device, from), frame.sequence, frame.message, &frame.values);
            self.answers_oldest(from, frame.message);
            self.scripts.hear(plan, self.now, frame.message, frame.node, &frame.values);
        }
        self.plan_scripts();
    }

    /// A message of a program answers the oldest request to its node that it can.
    fn answers_oldest(&mut self, node: u64, message: usize) {
        let host = self.of_host();
        let number = host.number(message);
        for (asked, open) in &self.open {
            let index = (0..host.plan.messages.len()).find(|index| host.number(*index) == *asked);
            let answers = index.is_some_and(|index| host.plan.messages[index].message.answered_by.contains(&message));
            let oldest = open.iter().find(|exchange| !exchange.answered.get() && exchange.node == node);
            if let Some(exchange) = oldest.filter(|_| answers) {
                exchange.answered.set(true);
                let after = self.now.saturating_sub(exchange.asked);
                self.report.answers.entry(exchange.message).or_default().take(exchange.asked, after, number);
                return;
            }
        }
    }

    /// A receiver has bytes of a sent frame.
    fn hold(&mut self, sent: u64) {
        if let Some(sent) = self.sent.get_mut(sent) {
            sent.pending += 1;
        }
    }

    /// One delivery or receiver less has to do with a sent frame; what became of it is counted once none has.
    fn settle(&mut self, index: u64) {
        let Some(sent) = self.sent.get_mut(index) else { return };
        sent.pending -= 1;
        if sent.pending > 0 {
            return;
        }
        let Some(sent) = self.sent.remove(index) else { return };
        if sent.accepted == 0 && !sent.is_counted && !self.is_not_taken(&sent) {
            let number = self.number(sent.definition, sent.message);
            *self.report.lost.entry((number, sent.node)).or_default() += 1;
            self.report.first_lost.entry((number, sent.node)).or_insert(sent.at);
            if sent.from == End::Device {
                self.report.first_lost_by_device.get_or_insert(sent.at);
            }
        }
    }

    /// Compares a received frame with the sent one that its first byte belongs to; the receiver by its definition.
    fn compare(&mut self, frame: &FoundFrame, receiver: usize) {
        let mut said = String::new();
        let origin = frame.origin;
        let same = origin.is_some_and(|origin| {
            let Some(sent) = self.sent.get(origin) else { return false };
            if frame.node.is_some_and(|node| node != sent.node) {
                return false;
            }
            if sent.definition == receiver {
                return sent.message == frame.message && sent.values == frame.values;
            }
            let taken = &mut self.taken;
            let is_alike = taken.as_ref().is_some_and(|taken| taken.is_about(sent, receiver, frame));
            if !is_alike {
                let between = match sent.from {
                    End::Device => &self.uses[sent.definition].to_host,
                    End::Host => &self.uses[receiver].from_host,
                };
                let (read, values) = ((frame.message, &frame.values), sent.values.clone());
                let became = between.taken(sent.from, (sent.message, &sent.values), read);
                let ends = (sent.definition, receiver, sent.from);
                let (sent, read) = ((sent.message, values), (frame.message, frame.values.clone()));
                *taken = Some(Taken { ends, sent, read, became });
            }
            let Some(Taken { became: (verdict, sentence), .. }) = taken else { return false };
            let (verdict, sentence) = (*verdict, sentence.clone());
            let (key, arrived) = ((self.number(sent.definition, sent.message), sent.node, verdict), sent.arrived);
            if verdict != Understanding::Fine && arrived {
                if let Some(sent) = self.sent.get_mut(origin) {
                    sent.is_counted |= verdict.strands();
                }
                said.clone_from(&sentence);
                let found = self.report.between.entry(key).or_default();
                found.frames += 1;
                found.sentence = sentence;
            }
            !verdict.strands()
        });
        if same {
            if let Some(sent) = origin.and_then(|origin| self.sent.get_mut(origin)) {
                sent.accepted += 1;
                let (definition, message, node) = (sent.definition, sent.message, sent.node);
                if sent.accepted == 1 {
                    *self.report.received.entry((self.number(definition, message), node)).or_default() += 1;
                } else {
                    self.report.repeated += 1;
                }
            }
        } else {
            let (message, bytes) = (self.number(receiver, frame.message), frame.bytes.clone());
            self.report.note_wrong(WrongValue { time: self.now, message, bytes, sentence: said });
        }
    }

    /// What receivers of a definition, by index, make of a frame's sender.
    fn between(&self, sent: &Sent, receiver: usize) -> &Translation {
        match sent.from {
            End::Device => &self.uses[sent.definition].to_host,
            End::Host => &self.uses[receiver].from_host,
        }
    }

    /// Keeps why frames are broken for a receiver, by its definition, that has another one than their sender.
    fn note_faults(&mut self, found: &Found, receiver: usize, to: Option<u64>) {
        for (origin, fault) in &found.faults {
            let Some(sent) = origin.and_then(|origin| self.sent.get_mut(origin)) else { continue };
            if sent.definition != receiver && to.is_none_or(|node| node == sent.node) && sent.fault.is_none() {
                sent.fault = Some(*fault);
            }
        }
    }

    fn host_found(&mut self, found: Found) {
        let Definition { plan, channel, .. } = self.of_host();
        self.note_faults(&found, self.scenario.host, None);
        recovers(&mut self.host_recovery, self.now, &found);
        for frame in found.frames {
            self.compare(&frame, self.scenario.host);
            self.look(self.scenario.host, &frame);
            self.host_side.requests.answered(plan, *channel, frame.node.unwrap_or(0), frame.message);
            let sender = (*channel, End::Device, frame.node.unwrap_or(0));
            self.host_side.numbering.take(sender, frame.sequence, frame.message, &frame.values);
            self.is_answered(&frame);
            self.scripts.hear(plan, self.now, frame.message, frame.node, &frame.values);
        }
        self.plan_scripts();
        for sent in found.settled {
            self.settle(sent);
        }
    }

    /// Looks at the values that a receiver of a definition received.
    fn look(&mut self, definition: usize, frame: &FoundFrame) {
        if self.probes.is_empty() {
            return;
        }
        let definitions = &self.scenario.definitions;
        let number = definitions.get(definition).number(frame.message);
        for (probe, found) in &mut self.probes {
            if probe.message == number && probe.node.is_none_or(|node| frame.node.is_none_or(|from| from == node)) {
                probe.look(definitions, (definition, frame.message), self.now, &frame.values, found);
            }
        }
    }

    /// Notes the first answer to a request. What was asked is known, so a lost request takes no other's answer.
    fn is_answered(&mut self, frame: &FoundFrame) {
        let Some(sent) = frame.origin.and_then(|origin| self.sent.get(origin)) else { return };
        let Some(exchange) = &sent.exchange else { return };
        if sent.from == End::Device && !exchange.answered.replace(true) {
            let number = self.of_host().number(frame.message);
            let after = self.now - exchange.asked;
            self.report.answers.entry(exchange.message).or_default().take(exchange.asked, after, number);
        }
    }

    fn device_found(&mut self, device: usize, found: Found) {
        let Device { node, definition, .. } = self.devices[device];
        self.note_faults(&found, definition, Some(node));
        recovers(&mut self.device_recoveries[device], self.now, &found);
        for frame in found.frames {
            let mine = frame.node.is_none_or(|to| to == node);
            let nobody = frame.node.is_some_and(|to| self.devices.iter().all(|device| device.node != to));
            if mine || (nobody && device == 0) {
                self.compare(&frame, definition);
                self.look(definition, &frame);
            }
            let Definition { plan, channel, .. } = self.of_device(device);
            let sender = (*channel, End::Host, frame.node.unwrap_or(0));
            self.device_sides[device].numbering.take(sender, frame.sequence, frame.message, &frame.values);
            if mine {
                let (of, request) = (&self.devices[device], (frame.message, &frame.values));
                let answers = self.players[device].hear(plan, of, self.now, request, &mut self.answer_random);
                let exchange = frame.origin.and_then(|origin| self.sent.get(origin)?.exchange.clone());
                for answer in answers {
                    let (request, asked, exchange) = (frame.message, frame.values.clone(), exchange.clone());
                    self.at(
                        self.now + answer.after,
                        Event::Reply { device, request, asked, exchange, way: answer.way },
                    );
                }
            }
        }
        for sent in found.settled {
            self.settle(sent);
        }
    }

    /// Whether a frame arrived whole and was not taken since both ends do not have the same definition; then it is counted.
    fn is_not_taken(&mut self, sent: &Sent) -> bool {
        let receiver = match sent.from {
            End::Device => self.scenario.host,
            End::Host => match self.devices.iter().find(|device| device.node == sent.node) {
                Some(device) => device.definition,
                None => return false,
            },
        };
        if !sent.arrived || sent.definition == receiver {
            return false;
        }
        let channel = self.scenario.definitions.get(sent.definition).channel;
        let between = self.between(sent, receiver);
        let (verdict, sentence) = match between.arrives(channel) {
            true => between.not_taken(sent.from, channel, sent.message, sent.fault.as_ref()),
            false => (Understanding::SilentDrop, "the medium has different settings there".to_owned()),
        };
        let key = (self.number(sent.definition, sent.message), sent.node, verdict);
        let found = self.report.between.entry(key).or_default();
        found.frames += 1;
        found.sentence = sentence;
        true
    }

    fn finish(mut self) -> Report {
        let found = self.host_side.finish();
        self.host_found(found);
        for device in 0..self.devices.len() {
            let found = self.device_sides[device].finish();
            self.device_found(device, found);
        }
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
        self.report.lengths = (0..).zip(self.lengths.drain(..)).filter(|(_, count)| *count > 0).collect();
        for (message, open) in &self.open {
            if let Some(first) = open.iter().find(|exchange| !exchange.answered.get()) {
                self.report.answers.entry(*message).or_default().never(first.asked);
            }
        }
        let mut probed = self.probes.iter().map(|(_, found)| found);
        let judged = self.scenario.must.iter().map(|expectation| {
            let probed = expectation.probe().and_then(|_| probed.next());
            expectation.judge(&self.report, probed)
        });
        let verdicts = judged.collect();
        self.report.verdicts = verdicts;
        let outcomes = self.scripts.outcomes(&self.of_host().plan);
        self.report.verdicts.extend(outcomes.into_iter().map(Verdict::of_script));
        self.report
    }
}
