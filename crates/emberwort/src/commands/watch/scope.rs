//! Fields that are drawn against time.

use emberwort_capture::monitor::Source;
use emberwort_wire::Time;

/// The time bases, in seconds for the whole width.
const BASES: [u64; 8] = [1, 2, 5, 10, 30, 60, 300, 1_800];

/// Fields that are drawn against time.
pub struct Scope {
    /// Which: the message, and the slot of the field.
    pub traces: Vec<(Source, usize)>,
    base: usize,
    /// The moment at which it is held.
    pub held: Option<Time>,
    /// How far the cursor lies from the right, in hundredths of the width.
    pub cursor: Option<u64>,
}

impl Default for Scope {
    fn default() -> Self {
        Self { traces: Vec::new(), base: 3, held: None, cursor: None }
    }
}

impl Scope {
    /// The most fields that are drawn at once.
    pub const MAX_TRACES: usize = 4;

    /// Draws a field, or does no longer.
    pub fn toggle(&mut self, source: &Source, slot: usize) {
        let known = self.traces.iter().position(|(other, at)| other == source && *at == slot);
        match known {
            Some(index) => {
                self.traces.remove(index);
            }
            None => {
                if self.traces.len() == Self::MAX_TRACES {
                    self.traces.remove(0);
                }
                self.traces.push((source.clone(), slot));
            }
        }
    }

    /// The width in seconds.
    pub fn seconds(&self) -> u64 {
        BASES[self.base]
    }

    /// A longer or shorter time base.
    pub fn change_base(&mut self, longer: bool) {
        self.base = if longer { (self.base + 1).min(BASES.len() - 1) } else { self.base.saturating_sub(1) };
    }

    /// Stops where it is, or goes on.
    pub fn hold(&mut self, now: Time) {
        self.held = if self.held.is_some() { None } else { Some(now) };
    }

    /// Moves the cursor; it appears in the middle.
    pub fn move_cursor(&mut self, left: bool) {
        let at = self.cursor.unwrap_or(50);
        self.cursor = Some(if left { (at + 2).min(100) } else { at.saturating_sub(2) });
    }
}
