//! Writing pcapng files (IETF draft-ietf-opsawg-pcapng): section header, interface descriptions, enhanced packets.
//!
//! Little-endian, times in nanoseconds, no options beside those that say what an interface is: the same packets give
//! the same bytes.

use std::io::{self, Write};

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

    /// Where it is written to: whole blocks, whenever it is looked at.
    pub fn writer(&self) -> &W {
        &self.out
    }

    /// Where it is written to, to take from there what was written.
    pub(crate) fn writer_mut(&mut self) -> &mut W {
        &mut self.out
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
