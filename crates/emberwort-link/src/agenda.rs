//! What an end is going to do, in the order of time; of two things at one moment, what was noted first.

use std::collections::BTreeMap;

use crate::Nanoseconds;

/// Things to do, each at its moment.
#[derive(Debug)]
pub(crate) struct Agenda<T> {
    /// By moment, and by the order in which they were noted.
    things: BTreeMap<(Nanoseconds, u64), T>,
    noted: u64,
}

impl<T> Agenda<T> {
    pub fn new() -> Self {
        Self { things: BTreeMap::new(), noted: 0 }
    }

    pub fn note(&mut self, time: Nanoseconds, thing: T) {
        self.things.insert((time, self.noted), thing);
        self.noted += 1;
    }

    /// When the next thing is to be done.
    pub fn next(&self) -> Option<Nanoseconds> {
        self.things.keys().next().map(|(time, _)| *time)
    }

    /// The next thing that is to be done by now, and when it should have been.
    pub fn take(&mut self, now: Nanoseconds) -> Option<(Nanoseconds, T)> {
        let first = self.things.first_entry().filter(|first| first.key().0 <= now)?;
        let time = first.key().0;
        Some((time, first.remove()))
    }
}
