//! Writing pcapng files (IETF draft-ietf-opsawg-pcapng): section header, interface descriptions, enhanced packets.
//!
//! Little-endian, times in nanoseconds, no options beside those that say what an interface is: the same packets give
//! the same bytes.

use std::io::{self, Write};

/// Link type USER0: bytes of a serial channel, as its interface description says.
pub const LINK_TYPE_USER0: u16 = 147;
/// Link type for IPv4 and IPv6 packets without a link layer.
pub const LINK_TYPE_RAW: u16 = 101;
/// Link type for CAN and CAN FD frames as SocketCAN has them.
pub const LINK_TYPE_CAN: u16 = 227;

/// Writes a pcapng file.
#[derive(Debug)]
pub struct PcapngWriter<W> {
    out: W,
    interfaces: u32,
    block: Vec<u8>,
}

impl<W: Write> PcapngWriter<W> {
    /// Starts a file.
    ///
    /// # Errors
    /// Those of the writer; the same holds for the other methods.
    pub fn new(out: W) -> io::Result<Self> {
        let mut writer = Self { out, interfaces: 0, block: Vec::new() };
        writer.block.extend(0x1A2B_3C4Du32.to_le_bytes());
        writer.block.extend([1, 0, 0, 0]); // version 1.0
        writer.block.extend(u64::MAX.to_le_bytes()); // section length not given
        writer.write_option(4, b"emberwort"); // shb_userappl
        writer.write_option(0, b"");
        writer.end_block(0x0A0D_0D0A)?;
        Ok(writer)
    }

    /// Describes an interface; returns its number.
    pub fn interface(&mut self, link_type: u16, name: &str, description: &str) -> io::Result<u32> {
        self.block.extend(link_type.to_le_bytes());
        self.block.extend([0, 0]);
        self.block.extend(0u32.to_le_bytes()); // no snapshot limit
        self.write_option(2, name.as_bytes());
        self.write_option(3, description.as_bytes());
        self.write_option(9, &[9]); // if_tsresol: nanoseconds
        self.write_option(0, b"");
        self.end_block(1)?;
        self.interfaces += 1;
        Ok(self.interfaces - 1)
    }

    /// Writes a packet; `time` in nanoseconds since 1970-01-01 UTC.
    pub fn packet(&mut self, interface: u32, time: u64, bytes: &[u8]) -> io::Result<()> {
        self.block.extend(interface.to_le_bytes());
        self.block.extend(((time >> 32) as u32).to_le_bytes());
        self.block.extend((time as u32).to_le_bytes());
        self.block.extend((bytes.len() as u32).to_le_bytes());
        self.block.extend((bytes.len() as u32).to_le_bytes());
        self.block.extend_from_slice(bytes);
        self.end_block(6)
    }

    /// Ends the file and gives the writer back, flushed.
    pub fn finish(mut self) -> io::Result<W> {
        self.out.flush()?;
        Ok(self.out)
    }

    fn write_option(&mut self, code: u16, value: &[u8]) {
        self.block.extend(code.to_le_bytes());
        self.block.extend((value.len() as u16).to_le_bytes());
        self.block.extend_from_slice(value);
        self.pad();
    }

    fn pad(&mut self) {
        self.block.resize(self.block.len().next_multiple_of(4), 0);
    }

    fn end_block(&mut self, kind: u32) -> io::Result<()> {
        self.pad();
        let length = (self.block.len() as u32 + 12).to_le_bytes();
        self.out.write_all(&kind.to_le_bytes())?;
        self.out.write_all(&length)?;
        self.out.write_all(&self.block)?;
        self.out.write_all(&length)?;
        self.block.clear();
        Ok(())
    }
}

/// An IPv4 packet with a UDP datagram between a device and the host, as it is recorded for channels over UDP. The addresses
/// are from the range for documentation (RFC 5737).
///
/// # Errors
/// If the datagram is longer than UDP allows.
pub fn udp_packet(port: u16, from_device: bool, payload: &[u8]) -> io::Result<Vec<u8>> {
    let (device, host) = ([192, 0, 2, 10], [192, 0, 2, 1]);
    let (source, destination) = if from_device { (device, host) } else { (host, device) };
    let builder = etherparse::PacketBuilder::ipv4(source, destination, 64).udp(port, port);
    let mut packet = Vec::with_capacity(builder.size(payload.len()));
    builder.write(&mut packet, payload).map_err(|error| io::Error::other(error.to_string()))?;
    Ok(packet)
}

/// A CAN frame as link type 227 (LINKTYPE_CAN_SOCKETCAN) records it: the identifier, most significant byte first, with bit 31
/// set for one of 29 bits; the number of data bytes; flags (bit 2 for CAN FD); two reserved bytes; the data.
pub fn can_packet(key: u64, fd: bool, data: &[u8]) -> Vec<u8> {
    let mut packet = (key as u32).to_be_bytes().to_vec();
    packet.extend([data.len() as u8, if fd { 4 } else { 0 }, 0, 0]);
    packet.extend_from_slice(data);
    packet
}
