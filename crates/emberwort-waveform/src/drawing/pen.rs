//! What is drawn, and with what.

use crate::wave::Moment;

/// A change of a wire, by its place among the wires of a drawing.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Change {
    /// When.
    pub at: Moment,
    /// Which wire.
    pub wire: usize,
    /// Its level from then on.
    pub level: bool,
}

/// What goes over a line at once: a frame, a packet, or some bytes.
#[derive(Clone, Copy, Debug)]
pub struct Transfer<'a> {
    /// Whether the host sends it.
    pub from_host: bool,
    /// Its identifier, where the medium has one.
    pub key: Option<u64>,
    /// The node that sends it, or for which it is.
    pub node: u64,
    /// Its bytes.
    pub bytes: &'a [u8],
}

/// The pen: where the drawing is, and what comes of it.
#[derive(Debug)]
pub(super) struct Pen<'a> {
    /// Picoseconds, with their fraction, so that bits do not add up their errors.
    pub at: f64,
    pub stretch: f64,
    pub changes: &'a mut Vec<Change>,
}

impl Pen<'_> {
    /// A wire has another level from here on.
    pub fn set(&mut self, wire: usize, level: bool) {
        self.changes.push(Change { at: Moment::from_picoseconds(self.at as u64), wire, level });
    }

    /// Time goes by.
    pub fn wait(&mut self, picoseconds: f64) {
        self.at += picoseconds * self.stretch;
    }
}
