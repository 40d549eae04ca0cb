//! What is in a capture, whatever its form: interfaces, and pieces of bytes with times.

use std::io::{self, Read};
use std::ops::ControlFlow;

use emberwort_model::model::End;
use emberwort_wire::Time;

/// What the bytes of an interface are.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum InterfaceKind {
    /// Bytes of a serial channel (link types USER0 to USER15, raw bytes, hex text).
    Serial,
    /// Ethernet frames.
    Ethernet,
    /// IPv4 or IPv6 packets.
    Ip,
    /// Packets with a Linux "cooked" header.
    LinuxCooked,
    /// Packets with the second version of it.
    LinuxCooked2,
    /// Packets with the address family in front, in four bytes.
    Loopback,
    /// CAN and CAN FD frames as SocketCAN records them.
    Can,
    /// Something that is not read; the link type's number.
    Other(i32),
}

impl InterfaceKind {
    /// The kind for a link type number of the public registry of link types (LINKTYPE_…).
    pub(crate) fn of_link_type(number: i32) -> Self {
        match number {
            0 | 108 => InterfaceKind::Loopback,
            1 => InterfaceKind::Ethernet,
            101 | 12 | 14 | 228 | 229 => InterfaceKind::Ip,
            113 => InterfaceKind::LinuxCooked,
            276 => InterfaceKind::LinuxCooked2,
            147..=162 => InterfaceKind::Serial,
            227 => InterfaceKind::Can,
            other => InterfaceKind::Other(other),
        }
    }
}

/// One interface of a capture.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Interface {
    /// What its bytes are.
    pub kind: InterfaceKind,
    /// Its name in the file; may be empty.
    pub name: String,
    /// Its description in the file; may be empty.
    pub description: String,
}

/// Some bytes of a capture: a packet, or a part of a stream.
#[derive(Clone, Copy, Debug)]
pub struct Piece<'a> {
    /// Index of the interface, in the order in which they were announced.
    pub interface: usize,
    /// When it came, if the capture has times.
    pub time: Option<Time>,
    /// The bytes.
    pub bytes: &'a [u8],
}

/// A piece of which a source says more than the interface that it came through.
#[derive(Clone, Copy, Debug, Default)]
pub struct Record<'a> {
    /// When it came.
    pub time: Option<Time>,
    /// The name of its channel.
    pub channel: Option<&'a str>,
    /// The end that sent it.
    pub from: Option<End>,
    /// The port, or the CAN identifier, that it came with.
    pub key: Option<u64>,
    /// The device that sent it, or to which it was sent.
    pub device: Option<&'a str>,
    /// The bytes.
    pub bytes: &'a [u8],
}

/// What somebody wrote into a capture for people.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Comment {
    /// What it is about.
    pub about: About,
    /// The text, as it stands there.
    pub text: String,
}

/// What a comment is about.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum About {
    /// The capture, or a section of it.
    Capture,
    /// The interface that is announced next.
    Interface,
    /// The piece that comes next, and when that came.
    Piece(Option<Time>),
}

/// Takes what a capture holds.
pub trait PieceSink {
    /// A capture, or a section of one, begins: interfaces are numbered from 0 again.
    fn section(&mut self);

    /// An interface, before its first piece.
    fn interface(&mut self, interface: Interface);

    /// The next piece. `Break` ends the reading.
    fn piece(&mut self, piece: Piece<'_>) -> ControlFlow<()>;

    /// The next piece, of a source that describes each; it comes through interface 0. `Break` ends the reading.
    fn record(&mut self, record: &Record<'_>) -> ControlFlow<()> {
        self.piece(Piece { interface: 0, time: record.time, bytes: record.bytes })
    }

    /// A comment, before what it is about.
    fn comment(&mut self, comment: Comment) {
        let _ = comment;
    }

    /// All that could be read so far was handed on; what is asked for next may take a while to come.
    fn pause(&mut self) {}
}

/// A place from which on a capture cannot be read.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Damage {
    /// Offset in the file.
    pub offset: u64,
    /// What is wrong there.
    pub reason: String,
}

/// How the reading of a capture ended.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Outcome {
    /// Bytes of the file that were read and understood.
    pub bytes: u64,
    /// Where it could not be read any further, if so.
    pub damage: Option<Damage>,
}

/// How many bytes at the start [`detect`](crate::source::detect) should see.
pub const DETECT_BYTES: usize = 4096;

/// Reads once, also if a signal came in between.
pub(crate) fn read_once(input: &mut impl Read, buffer: &mut [u8]) -> io::Result<usize> {
    loop {
        match input.read(buffer) {
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            other => return other,
        }
    }
}

pub(crate) fn serial_interface() -> Interface {
    Interface { kind: InterfaceKind::Serial, name: String::new(), description: String::new() }
}
