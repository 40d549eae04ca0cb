//! From chunks to a capture file: what [`Demux`](crate::Demux) reads back as the same chunks.

use std::io::{self, Write};

use emberwort_model::Plan;
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
    channel: usize,
    from: End,
    interface: u32,
    wrapping: Wrapping,
}

impl<W: Write> Recorder<W> {
    /// Starts a file for both directions of some channels, by their indices in the plan.
    ///
    /// # Errors
    /// Those of the writer; the same holds for the other methods.
    pub fn new(out: W, plan: &Plan, channels: &[usize]) -> io::Result<Self> {
        let mut writer = PcapngWriter::new(out)?;
        let mut lanes = Vec::new();
        for &channel in channels {
            let of = &plan.channels[channel];
            let wrapping = Wrapping::of(of);
            for from in [End::Device, End::Host] {
                let name = format!("{} from {}", of.name, from.as_str());
                let description = lane_description(&of.name, from.as_str());
                let interface = writer.interface(wrapping.link_type(), &name, &description)?;
                lanes.push(Recorded { channel, from, interface, wrapping });
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
        let lane = self.lanes.iter().find(|lane| (lane.channel, Some(lane.from)) == (stream.channel, stream.from));
        let (Some(lane), Some(time)) = (lane, chunk.times.last()) else {
            return Err(io::Error::other("only chunks of the file's channels, with their end and time, are recorded"));
        };
        lane.wrapping.wrap(chunk.key.unwrap_or(0), lane.from, chunk.bytes, &mut self.packet)?;
        self.writer.packet(lane.interface, time.nanoseconds(), &self.packet)
    }

    /// Ends the file and gives the writer back, flushed.
    pub fn finish(self) -> io::Result<W> {
        self.writer.finish()
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
