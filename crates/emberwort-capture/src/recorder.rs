//! From chunks to a capture file: what [`Demux`](crate::Demux) reads back as the same chunks.

use std::io::{self, Write};

use emberwort_model::Plan;
use emberwort_model::ids::ChannelId;
use emberwort_model::model::End;
use emberwort_wire::Chunk;

use crate::packets::Wrapping;
use crate::writer::PcapngWriter;

/// Writes chunks into a pcapng file, with an interface for each direction of a channel.
#[derive(Debug)]
pub struct Recorder<W> {
    writer: PcapngWriter<W>,
    lanes: Vec<Recorded>,
    packet: Vec<u8>,
}

/// A direction of a channel in the file.
#[derive(Debug)]
struct Recorded {
    channel: ChannelId,
    /// The channel's name.
    name: String,
    /// The end that sends; `None` where nobody knows.
    from: Option<End>,
    interface: u32,
    wrapping: Wrapping,
    /// How many times the line was there.
    connection: u32,
}

impl<W: Write> Recorder<W> {
    /// Starts a file for both directions of some channels, by their indices in the plan.
    ///
    /// # Errors
    /// Those of the writer; the same holds for the other methods.
    pub fn new(out: W, plan: &Plan, channels: &[ChannelId]) -> io::Result<Self> {
        let mut writer = PcapngWriter::new(out)?;
        let mut lanes = Vec::new();
        for &channel in channels {
            let of = &plan.channels[channel];
            let wrapping = Wrapping::of(of);
            for from in [End::Device, End::Host] {
                let name = format!("{} from {}", of.name, from.as_str());
                let description = lane_description(&of.name, from.as_str());
                let interface = writer.interface(wrapping.link_type(), &name, &description)?;
                lanes.push(Recorded {
                    channel,
                    name: of.name.clone(),
                    from: Some(from),
                    interface,
                    wrapping,
                    connection: 1,
                });
            }
        }
        Ok(Self { writer, lanes, packet: Vec::new() })
    }

    /// Writes a chunk.
    ///
    /// # Errors
    /// Also if its stream has no interface in the file, or nobody knows its end or when it came.
    pub fn chunk(&mut self, chunk: &Chunk<'_>) -> io::Result<()> {
        let stream = chunk.stream;
        if stream.from.is_none() {
            self.add_shared_line(stream.channel)?;
        }
        let lane = self.lanes.iter().find(|lane| (lane.channel, lane.from) == (stream.channel, stream.from));
        let (Some(lane), Some(time)) = (lane, chunk.times.last()) else {
            return Err(io::Error::other("only chunks of the file's channels, with their time, are recorded"));
        };
        let from = lane.from.unwrap_or(End::Device);
        lane.wrapping.wrap(chunk.key.unwrap_or(0), from, chunk.bytes, &mut self.packet)?;
        self.writer.packet(lane.interface, time.nanoseconds(), &self.packet)
    }

    /// What comes next from an end of a channel, by index, has nothing to do with what came before, as where a connection was made again:
    /// it gets an interface of its own, and readers take no frame from both. `from` is `None` where nobody knows who sends.
    ///
    /// # Errors
    /// Those of the writer.
    pub fn begin_new_stream(&mut self, channel: ChannelId, from: Option<End>) -> io::Result<()> {
        let same = |lane: &&Recorded| (lane.channel, lane.from) == (channel, from);
        let Some(lane) = self.lanes.iter().rev().find(same) else { return Ok(()) };
        let (name, wrapping, connection) = (lane.name.clone(), lane.wrapping, lane.connection + 1);
        let end = from.map_or("either", End::as_str);
        let title = format!("{name} from {end}, connection {connection}");
        let interface = self.writer.interface(wrapping.link_type(), &title, &lane_description(&name, end))?;
        let Some(lane) = self.lanes.iter_mut().rev().find(|lane| (lane.channel, lane.from) == (channel, from)) else {
            return Ok(());
        };
        lane.interface = interface;
        lane.connection = connection;
        Ok(())
    }

    /// Makes the interface for bytes of which nobody knows who sent them, if it is not there yet.
    fn add_shared_line(&mut self, channel: ChannelId) -> io::Result<()> {
        if self.lanes.iter().any(|lane| (lane.channel, lane.from) == (channel, None)) {
            return Ok(());
        }
        let Some(known) = self.lanes.iter().find(|lane| lane.channel == channel) else { return Ok(()) };
        let (name, wrapping) = (known.name.clone(), known.wrapping);
        let description = lane_description(&name, "either");
        let interface = self.writer.interface(wrapping.link_type(), &name, &description)?;
        self.lanes.push(Recorded { channel, name, from: None, interface, wrapping, connection: 1 });
        Ok(())
    }

    /// Ends the file and gives the writer back, flushed.
    pub fn finish(self) -> io::Result<W> {
        self.writer.finish()
    }
}

impl Recorder<Vec<u8>> {
    /// What was written and not taken yet: whole blocks.
    pub fn written(&self) -> &[u8] {
        self.writer.writer()
    }

    /// Takes what was written, so that it can be put where it belongs at once.
    pub fn take_written(&mut self) -> Vec<u8> {
        std::mem::take(self.writer.writer_mut())
    }
}

/// What an interface description in a recording of ours says: which channel, and which end the bytes come from.
pub fn lane_description(channel: &str, from: &str) -> String {
    format!("emberwort channel={channel} from={from}")
}

/// What [`lane_description`] said: the channel's name, and the end, if it is one. `None` for descriptions of others.
pub(crate) fn described(description: &str) -> Option<(&str, Option<End>)> {
    let mut words = description.split_whitespace();
    if words.next() != Some("emberwort") {
        return None;
    }
    let word = |name: &str| description.split_whitespace().find_map(|word| word.strip_prefix(name)?.strip_prefix('='));
    let from = word("from").and_then(|from| [End::Device, End::Host].into_iter().find(|end| end.as_str() == from));
    Some((word("channel")?, from))
}
