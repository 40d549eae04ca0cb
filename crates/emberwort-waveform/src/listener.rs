//! Listens to the wires of a channel: from the values of a waveform to chunks of bytes.

use std::ops::ControlFlow;

use emberwort_model::medium::{MediumKind, SpiWords};
use emberwort_model::model::End;
use emberwort_wire::chunk::ByteTime;
use emberwort_wire::{Chunk, ChunkSink, StreamId, Times};

use crate::lines::byte::LineByte;
use crate::lines::{spi, uart};
use crate::wave::{Moment, Signal, Value, WaveSink};
use crate::wiring::{Comparator, Role, Wiring, WiringError, by_signal};

/// Bytes of one end that are not handed on yet.
#[derive(Debug, Default)]
struct Collected {
    bytes: Vec<u8>,
    times: Vec<ByteTime>,
}

/// So many bytes are handed on at once at most.
const AT_ONCE: usize = 4096;

/// Listens to the wires of one channel of a link, and hands on chunks of it.
#[derive(Debug)]
pub struct Listener<S> {
    channel: usize,
    wiring: Wiring,
    line: Line,
    /// For each signal of the waveform, the wires that it has to do with, and whether it is taken off there.
    by_signal: Vec<Vec<(usize, bool)>>,
    comparators: Vec<Comparator>,
    problem: Option<WiringError>,
    /// From the device, from the host.
    collected: [Collected; 2],
    now: Moment,
    sink: S,
}

/// The decoder of a line.
#[derive(Debug)]
enum Line {
    /// From the device, from the host.
    Uart(Box<[Option<uart::Uart>; 2]>),
    Spi(Box<spi::Spi>, SpiWords),
}

/// What was seen on the wires beside bytes.
#[derive(Clone, Debug, PartialEq)]
pub enum Seen {
    /// On a wire of an asynchronous line.
    Uart(Role, uart::Format, uart::Seen),
    /// On a serial peripheral interface.
    Spi(spi::Seen),
}

/// The end that a wire with data belongs to.
const ENDS: [End; 2] = [End::Device, End::Host];

impl<S: ChunkSink> Listener<S> {
    /// For a channel of a link, by index, with its medium.
    ///
    /// # Errors
    /// What is wrong with the wires; `None` inside if waveforms of that medium cannot be read.
    pub fn new(channel: usize, medium: &MediumKind, wiring: Wiring, sink: S) -> Result<Self, Option<WiringError>> {
        let (roles, needed) = Role::of(medium).ok_or(None)?;
        wiring.check(roles, needed)?;
        let has = |role: Role| wiring.wires.iter().any(|wire| wire.role == role);
        let line = match *medium {
            MediumKind::Uart { baud, data_bits, parity, stop_bits } => {
                let format = uart::Format { baud, data_bits, parity, stop_bits };
                let receiver = |role: Role| has(role).then(|| uart::Uart::new(format));
                Line::Uart(Box::new([receiver(Role::Device), receiver(Role::Host)]))
            }
            MediumKind::Spi { words, hertz } => Line::Spi(Box::new(spi::Spi::new(words, hertz)), words),
            _ => return Err(None),
        };
        let comparators = wiring.wires.iter().map(Comparator::new).collect();
        let (by_signal, problem, collected) = Default::default();
        Ok(Self { channel, wiring, line, by_signal, comparators, problem, collected, now: Moment::default(), sink })
    }

    /// Why the wires were not found in the waveform, if they were not.
    pub fn problem(&self) -> Option<&WiringError> {
        self.problem.as_ref()
    }

    /// How far the waveform has come.
    pub fn now(&self) -> Moment {
        self.now
    }

    /// What was seen beside bytes, wire by wire.
    pub fn seen(&self) -> Vec<Seen> {
        match &self.line {
            Line::Uart(receivers) => {
                let both = [Role::Device, Role::Host].into_iter().zip(receivers.iter());
                both.filter_map(|(role, uart)| {
                    uart.as_ref().map(|uart| Seen::Uart(role, uart.format(), uart.seen.clone()))
                })
                .collect()
            }
            Line::Spi(spi, _) => vec![Seen::Spi(spi.seen.clone())],
        }
    }

    /// Ends the waveform; gives back the sink, which was given all.
    pub fn finish(mut self) -> (S, Vec<Seen>) {
        match &mut self.line {
            Line::Spi(spi, _) => spi.end(self.now, &mut |_| ()),
            Line::Uart(receivers) => receivers.iter_mut().flatten().for_each(|uart| uart.finish(self.now)),
        }
        let _ = self.hand_on(0);
        let _ = self.hand_on(1);
        let seen = self.seen();
        (self.sink, seen)
    }

    /// Hands on what was collected of one end.
    fn hand_on(&mut self, end: usize) -> ControlFlow<()> {
        let Collected { bytes, times } = &mut self.collected[end];
        if bytes.is_empty() {
            return ControlFlow::Continue(());
        }
        let stream = StreamId { channel: self.channel, from: Some(ENDS[end]), tap: 0 };
        let flow = self.sink.chunk(&Chunk { stream, times: Times::Each(times), key: None, bytes });
        bytes.clear();
        times.clear();
        flow
    }

    /// A byte of one end. Bytes between which the line rested, or the other end spoke, are not in one chunk.
    fn byte(&mut self, end: usize, byte: LineByte, pause: u64) -> ControlFlow<()> {
        self.hand_on(1 - end)?;
        let start = byte.start.time();
        let collected = &self.collected[end];
        let rested = collected.times.last().is_some_and(|last| start.since(last.end) * 1000 >= pause);
        if rested || collected.bytes.len() >= AT_ONCE {
            self.hand_on(end)?;
        }
        let Collected { bytes, times } = &mut self.collected[end];
        bytes.push(byte.byte);
        times.push(ByteTime { start, end: byte.end.time() });
        ControlFlow::Continue(())
    }

    fn level(&mut self, at: Moment, wire: usize, level: Option<bool>) -> ControlFlow<()> {
        let role = self.wiring.wires[wire].role;
        match &mut self.line {
            Line::Uart(receivers) => {
                let end = usize::from(role == Role::Host);
                let Some(uart) = &mut receivers[end] else { return ControlFlow::Continue(()) };
                let mut came = None;
                let pause = uart.character();
                uart.edge(at, level, &mut |byte| came = Some(byte));
                came.map_or(ControlFlow::Continue(()), |byte| self.byte(end, byte, pause))
            }
            Line::Spi(spi, words) => {
                let words = *words;
                // At most the end of a frame, and a word of one bit.
                let (mut came, mut count) = ([None, None], 0);
                let mut tell = |event| {
                    came[count] = Some(event);
                    count += 1;
                };
                match role {
                    Role::Clock => spi.clock(at, level, &mut tell),
                    Role::Select => spi.select(at, level, &mut tell),
                    Role::Device | Role::Host => spi.data(role == Role::Host, level),
                }
                for event in came.into_iter().flatten() {
                    match event {
                        spi::Event::Word(both, start, end) => self.spi_word(words, both, (start, end))?,
                        spi::Event::End => {
                            self.hand_on(0)?;
                            self.hand_on(1)?;
                        }
                    }
                }
                ControlFlow::Continue(())
            }
        }
    }

    fn spi_word(&mut self, words: SpiWords, both: [u64; 2], (start, end): (Moment, Moment)) -> ControlFlow<()> {
        for (from, word) in both.into_iter().enumerate() {
            let role = [Role::Device, Role::Host][from];
            if self.wiring.wires.iter().any(|wire| wire.role == role) {
                let Collected { bytes, times } = &mut self.collected[from];
                for byte in spi::bytes(words, word, start, end) {
                    bytes.push(byte.byte);
                    times.push(ByteTime { start: byte.start.time(), end: byte.end.time() });
                }
            }
        }
        // What is longer than any frame is none.
        if self.collected.iter().any(|collected| collected.bytes.len() >= AT_ONCE) {
            self.hand_on(0)?;
            self.hand_on(1)?;
        }
        ControlFlow::Continue(())
    }
}

impl<S: ChunkSink> WaveSink for Listener<S> {
    fn signals(&mut self, signals: &[Signal]) -> ControlFlow<()> {
        match by_signal(&self.wiring, signals) {
            Ok(found) => {
                let has_numbers = |wire: usize| {
                    let mut of_wire =
                        (0..signals.len()).filter(|signal| found[*signal].iter().any(|(to, _)| *to == wire));
                    of_wire.any(|signal| signals[signal].is_analog)
                };
                let unclear = (0..self.wiring.wires.len())
                    .find(|wire| self.wiring.wires[*wire].threshold.is_none() && has_numbers(*wire));
                self.problem = unclear.map(|wire| WiringError::NoThreshold(self.wiring.wires[wire].role));
                self.by_signal = found;
                if self.problem.is_some() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
            }
            Err(problem) => {
                self.problem = Some(problem);
                ControlFlow::Break(())
            }
        }
    }

    fn value(&mut self, at: Moment, signal: usize, value: Value) -> ControlFlow<()> {
        self.now = at;
        for n in 0..self.by_signal.get(signal).map_or(0, Vec::len) {
            let (wire, is_minus) = self.by_signal[signal][n];
            let has_minus = self.wiring.wires[wire].minus.is_some();
            if let Some(level) = self.comparators[wire].take(value, is_minus, has_minus) {
                // What ended on another wire before this comes before it.
                self.until(at)?;
                self.level(at, wire, level)?;
            }
        }
        ControlFlow::Continue(())
    }

    fn pause(&mut self) {
        // A transfer is handed on as a whole.
        if let Line::Uart(_) = &self.line {
            let _ = self.hand_on(0);
            let _ = self.hand_on(1);
        }
        self.sink.pause();
    }

    fn until(&mut self, at: Moment) -> ControlFlow<()> {
        self.now = at;
        if let Line::Uart(receivers) = &mut self.line {
            let mut came = [None, None];
            let mut pause = 0;
            for (uart, came) in receivers.iter_mut().zip(&mut came) {
                if let Some(uart) = uart {
                    pause = uart.character();
                    uart.until(at, &mut |byte| *came = Some(byte));
                }
            }
            for (end, byte) in came.into_iter().enumerate() {
                if let Some(byte) = byte {
                    self.byte(end, byte, pause)?;
                }
            }
        }
        ControlFlow::Continue(())
    }
}
