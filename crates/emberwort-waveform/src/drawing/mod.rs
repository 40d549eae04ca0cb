//! Draws what goes over a line: from transfers to the levels of its wires, as they are before anything disturbs them.

mod can;
mod code;
pub mod files;
mod i2c;
pub mod instrument;
mod pen;
mod spi;
mod uart;
mod usb;

pub use pen::{Change, Transfer};

use std::collections::HashMap;

use emberwort_model::medium::{MediumKind, USUAL_CAN_SAMPLE, UsbSpeed};

use pen::Pen;

use crate::lines::can::Speeds;
use crate::wave::Moment;
use crate::wiring::Role;

/// Draws a line. Transfers on the same wire follow each other.
#[derive(Clone, Debug)]
pub struct Drawing {
    medium: MediumKind,
    wires: Vec<(Role, bool)>,
    /// By how much longer bits are than the definition says.
    stretch: f64,
    /// Until when the wires are busy: of the device, of the host. Where both use the same, the first counts.
    busy: [Moment; 2],
    /// The level of the one wire of a line whose code is spelled out.
    level: bool,
    /// By address, endpoint and sender, how many transactions there were: their data have toggles 0 and 1 in turn.
    toggles: HashMap<(u64, Option<u64>, bool), u64>,
}

impl Drawing {
    /// Of a medium, with its usual names and levels of wires; `None` if it has no wires that can be drawn. `nodes` are those that are
    /// selected by a wire of their own, if there are several. Bits are longer than the medium says by a share `stretch` of them.
    pub fn new(medium: &MediumKind, nodes: &[u64], stretch: f64) -> Option<Self> {
        let wires = match medium {
            MediumKind::Uart(format) => vec![(Role::Device, !format.rests_low), (Role::Host, !format.rests_low)],
            MediumKind::Spi { words, .. } => {
                let mut wires =
                    vec![(Role::Clock, words.clock_rests_high()), (Role::Device, false), (Role::Host, false)];
                if let Some(level) = words.select {
                    match nodes {
                        [] | [_] => wires.push((Role::Select(None), !level)),
                        _ => wires.extend(nodes.iter().map(|node| (Role::Select(Some(*node)), !level))),
                    }
                }
                wires
            }
            MediumKind::I2c { .. } => vec![(Role::Clock, true), (Role::Data, true)],
            MediumKind::Can { .. } => vec![(Role::Bus, true)],
            MediumKind::Usb { speed } => {
                vec![(Role::Plus, *speed == UsbSpeed::Full), (Role::Minus, *speed == UsbSpeed::Low)]
            }
            MediumKind::Line(code) => vec![(Role::Line, code.rests_high)],
            _ => return None,
        };
        let level = wires[0].1;
        Some(Self {
            medium: medium.clone(),
            wires,
            stretch: 1.0 + stretch,
            busy: Default::default(),
            level,
            toggles: HashMap::new(),
        })
    }

    /// The wires: their roles, and their levels at rest.
    pub fn wires(&self) -> &[(Role, bool)] {
        &self.wires
    }

    /// Draws a transfer that begins at a moment, or as soon as its wires are free. Returns when it began and ended; changes are added
    /// in the order of their times.
    pub fn draw(&mut self, begins: Moment, transfer: Transfer<'_>, changes: &mut Vec<Change>) -> (Moment, Moment) {
        let lane = match self.medium {
            MediumKind::Uart(_) => usize::from(transfer.from_host),
            _ => 0,
        };
        let start = begins.max(self.busy[lane]);
        let mut pen = Pen { at: start.picoseconds() as f64, stretch: self.stretch, changes };
        match &self.medium {
            MediumKind::Uart(format) => uart::draw(&mut pen, format, lane, transfer.bytes),
            MediumKind::Spi { words, hertz } => {
                let own = self.wires.iter().position(|(role, _)| *role == Role::Select(Some(transfer.node)));
                let select = own.or_else(|| self.wires.iter().position(|(role, _)| matches!(role, Role::Select(_))));
                spi::draw(&mut pen, words, *hertz, select, transfer.from_host, transfer.bytes);
            }
            MediumKind::I2c { hertz } => i2c::draw(&mut pen, *hertz, &transfer),
            MediumKind::Can { bitrate, data_bitrate, sample } => {
                let sample = sample.unwrap_or(USUAL_CAN_SAMPLE);
                let speeds = Speeds { bitrate: *bitrate, data_bitrate: *data_bitrate, sample };
                can::draw(&mut pen, speeds, transfer.key.unwrap_or(0), transfer.bytes);
            }
            MediumKind::Usb { speed } => {
                let count = self.toggles.entry((transfer.node, transfer.key, transfer.from_host)).or_default();
                usb::draw(&mut pen, *speed, &transfer, !count.is_multiple_of(2));
                *count += 1;
            }
            MediumKind::Line(code) => self.level = code::draw(&mut pen, code, self.level, transfer.bytes),
            _ => {}
        }
        let end = Moment::from_picoseconds(pen.at as u64);
        self.busy[lane] = end;
        (start, end)
    }
}
