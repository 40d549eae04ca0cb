//! Running trials, and keeping what each side received.

use emberwort_link::report::Recorded;
use emberwort_link::{Report, Scenario, Watch, run};
use emberwort_model::model::End;

/// What one side received.
#[derive(Clone, Debug, PartialEq)]
pub struct Piece {
    pub time: u64,
    pub from: End,
    pub bytes: Vec<u8>,
}

#[derive(Default)]
struct Keep(Vec<Piece>);

impl Watch for Keep {
    fn received(&mut self, piece: Recorded<'_>) {
        self.0.push(Piece { time: piece.time, from: piece.from, bytes: piece.bytes.to_vec() });
    }
}

/// What came of a trial, and what each side received.
pub fn run_and_keep(scenario: &Scenario) -> (Report, Vec<Piece>) {
    let mut keep = Keep::default();
    let report = run(scenario, &mut keep);
    for heard in report.devices.values().chain([&report.host]) {
        assert_eq!(heard.input, heard.good_bytes + heard.unread_bytes + heard.broken_bytes + heard.stray_bytes);
    }
    (report, keep.0)
}
