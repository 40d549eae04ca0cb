//! Running trials, and keeping what each side received.

use emberwort_link::{Report, Scenario, TrialObserver, run};
use emberwort_model::model::End;
use emberwort_wire::{Chunk, Time};

/// What one side received.
#[derive(Clone, Debug, PartialEq)]
pub struct Piece {
    /// Nanoseconds from the trial's start.
    pub time: u64,
    pub from: End,
    pub bytes: Vec<u8>,
}

struct Keep {
    starts: Time,
    pieces: Vec<Piece>,
}

impl TrialObserver for Keep {
    fn received(&mut self, chunk: &Chunk<'_>, _: u64) {
        let (Some(time), Some(from)) = (chunk.times.last(), chunk.stream.from) else { panic!("{chunk:?}") };
        self.pieces.push(Piece { time: time.since(self.starts), from, bytes: chunk.bytes.to_vec() });
    }
}

/// What came of a trial, and what each side received.
pub fn run_and_keep(scenario: &Scenario) -> (Report, Vec<Piece>) {
    let mut keep = Keep { starts: scenario.starts, pieces: Vec::new() };
    let report = run(scenario, &mut keep);
    for heard in report.devices.values().chain([&report.host]) {
        assert_eq!(heard.input, heard.good_bytes + heard.unread_bytes + heard.broken_bytes + heard.stray_bytes);
    }
    (report, keep.pieces)
}
