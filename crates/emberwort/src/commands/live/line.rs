//! A port with the channel that runs over it.

use std::sync::Arc;
use std::time::Duration;

use anyhow::bail;
use emberwort_model::Plan;
use emberwort_model::diagnostics::escaped;
use emberwort_model::medium::{Carriage, UartFormat};
use emberwort_model::model::End;
use emberwort_model::plan::Channel;
use emberwort_port::{Address, ControlLines, Event, Events, Port, Received, SerialSettings, WhenLost};
use emberwort_wire::{Chunk, StreamId, Time, Times};

use crate::cli::{Level, LineArgs};
use crate::commands::names::channel_index;
use crate::output::{self, say};
use crate::render::plural;

/// How often it is looked whether the user has interrupted.
const LOOK_EVERY: u64 = 100_000_000;

/// An open port with the channel that runs over it.
pub struct Line {
    pub port: Port,
    pub channel: usize,
    /// The key that every packet here comes with, if frames do not say it.
    key: Option<u64>,
    keeps_packets: bool,
}

/// What came of waiting at one or more lines.
pub enum Came {
    /// Bytes, or a packet, at the line with this number.
    Bytes(usize, Time, Vec<u8>),
    /// Nothing, until the moment that was given.
    Nothing,
    /// The other side is gone for good, or the user has interrupted.
    End,
}

impl Line {
    /// Opens a port for a channel of a link. Its events come with this number.
    pub fn open(
        address: &Address,
        args: &LineArgs,
        plan: &Arc<Plan>,
        events: (&Events, usize),
    ) -> anyhow::Result<Self> {
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
        let port = Port::open(address, settings, when_lost, events)?;
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

    /// Waits until somebody is at the other side, at most until a moment. Returns whether somebody is: the user may interrupt.
    pub fn wait_for_peer(&self, events: &Events, until: Option<Time>) -> bool {
        if !self.port.has_peer() {
            say!("nobody is at {} yet; waiting", escaped(self.port.name()));
        }
        while !self.port.wait_for_peer(Duration::from_nanos(LOOK_EVERY)) {
            if output::interrupted() || until.is_some_and(|until| until <= events.clock().now()) {
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
    pub fn hears(&self) -> Option<End> {
        self.keeps_packets.then_some(End::Device)
    }

    /// Bytes as a chunk of this line.
    pub fn chunk<'a>(&self, from: Option<End>, time: Time, bytes: &'a [u8]) -> Chunk<'a> {
        let stream = StreamId { channel: self.channel, from, tap: 0 };
        Chunk { stream, times: Times::Last(time), key: self.key, bytes }
    }
}

/// Waits for what comes at any line: until a moment, or for ever. What else happens there is said.
pub fn wait(lines: &[&Line], events: &Events, until: Option<Time>) -> Came {
    loop {
        if output::interrupted() {
            return Came::End;
        }
        let look = events.clock().now().after(LOOK_EVERY);
        let turn = until.map_or(look, |until| until.min(look));
        let (number, event) = match events.receive(Some(turn)) {
            Received::Event(number, event) => (number, event),
            Received::Nothing if Some(turn) == until => return Came::Nothing,
            Received::Nothing => continue,
        };
        let name = || escaped(lines[number].port.name());
        match event {
            Event::Bytes(time, bytes) => return Came::Bytes(number, time, bytes),
            Event::Ended => return Came::End,
            Event::Lost(why) => say!("{} is gone: {why}; waiting for it", name()),
            Event::Opened => say!("{} is there", name()),
        }
    }
}

/// Whether a channel can run over a port.
fn fits(channel: &Channel, address: &Address) -> bool {
    match channel.medium.kind.carriage() {
        Carriage::Udp { port } => address.keeps_packets() && address.port_number() == Some(port),
        Carriage::Can { .. } => matches!(address, Address::Can(_)),
        Carriage::Bytes => !channel.finder().is_packet() && !address.keeps_packets(),
    }
}

/// The channel that runs over a port: the one that was named, or the only one that can.
fn channel_of(address: &Address, args: &LineArgs, plan: &Plan) -> anyhow::Result<usize> {
    if let Some(name) = &args.on {
        let index = channel_index(plan, name)?;
        if plan.channels[index].finder().is_packet() && !address.keeps_packets() {
            bail!("frames of `{name}` are packets, and {} does not keep packets apart", escaped(&address.to_string()));
        }
        return Ok(index);
    }
    let fitting: Vec<usize> = (0..plan.channels.len()).filter(|index| fits(&plan.channels[*index], address)).collect();
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
