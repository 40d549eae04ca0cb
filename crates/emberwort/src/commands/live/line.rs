//! A port with the channel that runs over it.

use std::sync::Arc;
use std::time::Duration;

use anyhow::bail;
use emberwort_model::Plan;
use emberwort_model::diagnostics::escaped;
use emberwort_model::ids::ChannelId;
use emberwort_model::medium::{Encapsulation, UartFormat};
use emberwort_model::model::End;
use emberwort_model::plan::Channel;
use emberwort_port::{Address, Clock, ControlLines, Event, Events, Port, Received, SerialSettings, WhenLost};
use emberwort_wire::{Chunk, StreamId, Time, Times};

use crate::cli::{Level, LineArgs};
use crate::interrupt::{self, AtTheEnd};
use crate::output::say;
use crate::reading::names::channel_index;
use crate::render::plural;

/// How often it is looked whether the user has interrupted.
const LOOK_EVERY: u64 = 100_000_000;

/// An open port with the channel that runs over it.
pub struct Line {
    pub port: Port,
    pub channel: ChannelId,
    /// The key that every packet here comes with, if frames do not say it.
    key: Option<u64>,
    keeps_packets: bool,
}

/// What came of waiting at one or more lines.
pub enum PortInput {
    /// Bytes, or a packet, at the line with this number.
    Bytes(usize, Time, Vec<u8>),
    /// The other side of the line with this number is gone: what comes from there next has nothing to do with what came before.
    Break(usize),
    /// Nothing, until the moment that was given.
    Nothing,
    /// The other side is gone for good, the user has interrupted, or the time is over; all that had come until then was given out.
    End,
}

impl Line {
    /// Opens a port for a channel of a link. What comes there is told by `incoming`, with the number of lines that were opened before.
    pub fn open(address: &Address, args: &LineArgs, plan: &Arc<Plan>, incoming: &mut Incoming) -> anyhow::Result<Self> {
        let channel = channel_of(address, args, plan)?;
        let of = &plan.channels[channel];
        let said = SerialSettings::of(&of.medium.kind);
        let control = ControlLines {
            rts: args.rts.map(|level| level == Level::On),
            dtr: args.dtr.map(|level| level == Level::On),
            rts_while_sending: args.rs485,
        };
        let said = said.map(|said| SerialSettings { control, ..said });
        let settings = match args.baud {
            Some(baud) => {
                let format = said.map_or(UartFormat::usual(baud), |said| UartFormat { baud, ..said.format });
                Some(SerialSettings { format, control })
            }
            None => said,
        };
        let when_lost = if args.once { WhenLost::End } else { WhenLost::Wait };
        let number = incoming.open;
        let port = Port::open(address, settings, when_lost, (&incoming.events, number), &|| incoming.is_wanted());
        let port = match port {
            Err(_) if !incoming.is_wanted() => {
                bail!("{} was not opened in time: it does not answer", escaped(&address.to_string()))
            }
            port => port?,
        };
        incoming.open += 1;
        let name = escaped(port.name());
        match (address, settings) {
            (Address::Serial(_), Some(settings)) if args.baud.is_some() => {
                say!("{name} runs with {settings}, as --baud says, for `{}`", of.name);
            }
            (Address::Serial(_), Some(settings)) => say!("{name} runs with {settings} for `{}`", of.name),
            (Address::Pty, _) => say!("the port is {name}"),
            (Address::TcpAt(_), _) => say!("waiting for a connection at {name}"),
            (Address::UdpAt(_), _) => say!("waiting for packets at {name}"),
            _ => {}
        }
        let key = of.key_is_outside().then(|| address.port_number().map_or(0, u64::from));
        Ok(Self { port, channel, key, keeps_packets: address.keeps_packets() })
    }

    /// Waits until somebody is at the other side. Returns whether somebody is: the user may interrupt, and the time may be over.
    pub fn wait_for_peer(&self, incoming: &Incoming) -> bool {
        if !self.port.has_peer() {
            say!("nobody is at {} yet; waiting", escaped(self.port.name()));
        }
        while !self.port.wait_for_peer(Duration::from_nanos(LOOK_EVERY)) {
            if !incoming.is_wanted() {
                return false;
            }
        }
        true
    }

    /// Says what the system threw away. Returns whether it did.
    pub fn tell_dropped(&self) -> bool {
        let dropped = self.port.dropped();
        if dropped > 0 {
            let name = escaped(self.port.name());
            say!("{} to {name} came too fast and were thrown away by the system", plural(dropped, "packet"));
        }
        dropped > 0
    }

    /// The end that sends what is heard here, if nobody says it: packets come to the host; on a line both may be heard.
    pub fn assumed_sender(&self) -> Option<End> {
        self.keeps_packets.then_some(End::Device)
    }

    /// Bytes as a chunk of this line.
    pub fn chunk<'a>(&self, from: Option<End>, time: Time, bytes: &'a [u8]) -> Chunk<'a> {
        let stream = StreamId { channel: self.channel, from, tap: 0 };
        Chunk { stream, times: Times::Last(time), key: self.key, bytes }
    }
}

/// What comes at one or more lines, until the user interrupts, the time is over, or one of them has ended.
pub struct Incoming {
    events: Events,
    /// When the time is over.
    end: Option<Time>,
    /// Lines of which more can come.
    open: usize,
    /// Since when nothing more is wanted.
    ending: Option<Time>,
    /// When it was said last that more comes than can be looked at.
    told_full: Option<Time>,
    /// Says what is lost if the program is given up.
    _given_up: AtTheEnd,
}

impl Incoming {
    /// What comes from now on, for this long in nanoseconds if that is given.
    pub fn new(lasting: Option<u64>) -> Self {
        let events = Events::new(Clock::new());
        let end = lasting.map(|lasting| events.clock().now().after(lasting));
        let waiting = events.waiting();
        let given_up = interrupt::at_the_end(move || match waiting.bytes() {
            0 => say!("given up: what was read last may not have been shown"),
            bytes => say!("given up: {} that came were not decoded", plural(bytes, "byte")),
        });
        Self { events, end, open: 0, ending: None, told_full: None, _given_up: given_up }
    }

    /// Now.
    pub fn now(&self) -> Time {
        self.events.clock().now()
    }

    /// Whether more is wanted: the user has not interrupted, and there is time left.
    pub fn is_wanted(&self) -> bool {
        !interrupt::came() && self.end.is_none_or(|end| self.now() < end)
    }

    /// How much of what may wait does wait, from 0 to 1.
    pub fn waiting_share(&self) -> f64 {
        self.events.waiting().share()
    }

    /// Waits for what comes at any line: until a moment, or for ever. What else happens there is said. When the end has come, what had come
    /// before is still given out.
    pub fn wait(&mut self, lines: &[&Line], until: Option<Time>) -> PortInput {
        loop {
            if self.ending.is_none() && !self.is_wanted() {
                self.stop(lines);
            }
            let now = self.now();
            if self.open == 0 || self.ending.is_some_and(|since| now.since(since) > READERS_END_WITHIN) {
                return PortInput::End;
            }
            self.report_overload(now);
            let look = now.after(LOOK_EVERY);
            let turn = earliest(earliest(until, self.end.filter(|end| *end > now)), Some(look)).unwrap_or(look);
            let (number, event) = match self.events.receive(Some(turn)) {
                Received::Event(number, event) => (number, event),
                Received::Nothing if until.is_some_and(|until| until <= turn) => return PortInput::Nothing,
                Received::Nothing => continue,
            };
            let name = || escaped(lines[number].port.name());
            match event {
                Event::Bytes(time, bytes) => {
                    self.ending = self.ending.map(|_| self.now());
                    return PortInput::Bytes(number, time, bytes);
                }
                Event::Ended => {
                    self.open -= 1;
                    self.stop(lines);
                }
                Event::Lost(why) => {
                    say!("{} is gone: {why}; waiting for it", name());
                    return PortInput::Break(number);
                }
                Event::Opened => say!("{} is there", name()),
            }
        }
    }

    /// Waits for what comes no longer than this moment, and takes nothing else that happens as an end.
    pub fn next(&mut self, until: Time) -> Received {
        self.events.receive(Some(until))
    }

    /// Nothing more is wanted. What came and was not looked at is counted, and said.
    pub fn leave(&mut self, lines: &[&Line]) {
        let mut left = 0;
        self.stop(lines);
        while let came @ (PortInput::Bytes(..) | PortInput::Break(_)) = self.wait(lines, None) {
            if let PortInput::Bytes(_, _, bytes) = came {
                left += bytes.len();
            }
        }
        if left > 0 {
            say!("{} came after the end and were not decoded", plural(left, "byte"));
        }
    }

    fn stop(&mut self, lines: &[&Line]) {
        if self.ending.is_none() {
            self.ending = Some(self.now());
            lines.iter().for_each(|line| line.port.stop());
        }
    }

    /// Says from time to time that more comes than can be looked at, as long as that is so.
    fn report_overload(&mut self, now: Time) {
        let waiting = self.events.waiting();
        let is_new = self.told_full.is_none_or(|told| now.since(told) >= TELL_FULL_EVERY);
        if self.ending.is_none() && is_new && waiting.share() >= MUCH {
            self.told_full = Some(now);
            let (bytes, share) = (plural(waiting.bytes(), "byte"), waiting.share() * 100.0);
            say!("more comes than can be looked at: {bytes} wait, {share:.0} % of what may");
        }
    }
}

/// The earlier of two moments, of those that there are.
pub fn earliest(one: Option<Time>, other: Option<Time>) -> Option<Time> {
    one.into_iter().chain(other).min()
}

/// How much of what may wait is much.
const MUCH: f64 = 0.5;

/// It is said again after this long.
const TELL_FULL_EVERY: u64 = 10_000_000_000;

/// A port that says nothing for so long after it was stopped is not waited for.
const READERS_END_WITHIN: u64 = 400_000_000;

/// Whether a channel can run over a port.
fn fits(channel: &Channel, address: &Address) -> bool {
    match channel.medium.kind.encapsulation() {
        Encapsulation::Udp { port } => address.keeps_packets() && address.port_number() == Some(port),
        Encapsulation::Can { .. } => matches!(address, Address::Can(_)),
        Encapsulation::Bytes => !channel.finder().is_packet() && !address.keeps_packets(),
    }
}

/// The channel that runs over a port: the one that was named, or the only one that can.
fn channel_of(address: &Address, args: &LineArgs, plan: &Plan) -> anyhow::Result<ChannelId> {
    if let Some(name) = &args.on {
        let index = channel_index(plan, name)?;
        if plan.channels[index].finder().is_packet() && !address.keeps_packets() {
            bail!("frames of `{name}` are packets, and {} does not keep packets apart", escaped(&address.to_string()));
        }
        return Ok(index);
    }
    let fitting: Vec<ChannelId> =
        plan.channel_ids().filter(|(_, channel)| fits(channel, address)).map(|(index, _)| index).collect();
    match fitting[..] {
        [only] => Ok(only),
        _ => {
            let names: Vec<&str> = plan.channels.iter().map(|channel| channel.name.as_str()).collect();
            bail!(
                "nothing says which channel runs over {}\nsay it with --on CHANNEL: {}",
                escaped(&address.to_string()),
                names.join(", ")
            )
        }
    }
}
