//! `record`: what comes through a port, or between two, into a file that can be read at any moment.

use std::collections::BTreeMap;
use std::io;
use std::path::Path;
use std::sync::Arc;

use anyhow::bail;
use emberwort_link::wire::{Sender, Wire};
use emberwort_model::Plan;
use emberwort_model::diagnostics::escaped;
use emberwort_model::model::End;
use emberwort_wire::Time;
use rand::SeedableRng;
use rand_chacha::ChaCha8Rng;

use super::line::{Incoming, Line, PortInput, earliest};
use super::record_file::{Recording, Rotation};
use crate::cli::{RecordArgs, RevisionArgs, SenderEnd};
use crate::ending::Ending;
use crate::output::{Look, say};
use crate::project::{Project, load_plan_of};
use crate::reading::capture_definitions::revisions_in_trial;
use crate::reading::scenario;
use crate::render::plural;

pub fn run(args: &RecordArgs, link: Option<&Path>, look: Look) -> anyhow::Result<Ending> {
    let project = Project::find(link)?;
    let plan = load_plan_of(&project.definition, look)?;
    crate::interrupt::catch_as_end();
    let mut incoming = Incoming::new(args.lasting);
    let mut open = |address| Line::open(address, &args.line, &plan, &mut incoming);
    // Those who send at each: the device at the first, the host at the second.
    let (mut lines, ends) = match (&args.port, &args.between[..]) {
        (Some(port), _) => {
            let line = open(port)?;
            let from = args.from.map(SenderEnd::end).or(line.assumed_sender());
            (vec![line], vec![from])
        }
        (None, [device, host]) => (vec![open(device)?, open(host)?], vec![Some(End::Device), Some(End::Host)]),
        _ => bail!("name a port, or two with --between"),
    };
    let mut passing = RelayedBytes::new(lines.len(), damage(args, &project, &plan, look)?, incoming.now());
    let rotation = Rotation { size: args.split_size, every: args.split_every, keep: args.keep };
    let now = incoming.now();
    let mut recording = Recording::new(&args.out, rotation, &plan, lines[0].channel, now)?;
    let mut counts = vec![0u64; lines.len()];
    loop {
        let all: Vec<&Line> = lines.iter().collect();
        let came = incoming.wait(&all, earliest(recording.flush_at(), passing.next()));
        let has_ended = matches!(came, PortInput::End);
        match came {
            PortInput::Bytes(number, time, bytes) => {
                counts[number] += bytes.len() as u64;
                passing.take(number, time, bytes);
            }
            PortInput::Break(number) => recording.begin_new_stream(ends[number])?,
            PortInput::Nothing | PortInput::End => {}
        }
        // At the end also what is under way.
        let now = if has_ended { Time::from_nanoseconds(u64::MAX) } else { incoming.now() };
        while let Some((number, time, bytes)) = passing.due(now) {
            passing.pass_on(&mut lines, number, &bytes);
            recording.chunk(&lines[number].chunk(ends[number], time, &bytes))?;
        }
        if has_ended {
            break;
        }
        if recording.flush_at().is_some_and(|at| at <= now) {
            recording.flush()?;
        }
    }
    recording.flush()?;
    let counted: Vec<String> = lines
        .iter()
        .zip(&counts)
        .map(|(line, count)| format!("{} from {}", plural(*count, "byte"), escaped(line.port.name())))
        .collect();
    let shown = crate::files::shown(recording.path());
    match (recording.files(), recording.removed) {
        (1, 0) => say!("{} in {shown}", counted.join(", ")),
        (files, 0) => say!("{} in {files} files, the last {shown}", counted.join(", ")),
        (files, removed) => {
            say!("{} in {files} files, the last {shown}; {removed} older ones were removed", counted.join(", "));
        }
    }
    for (line, count) in lines.iter().rev().zip(passing.unheard).filter(|(_, count)| *count > 0) {
        say!("{} could not be passed on while nobody was at {}", plural(count, "byte"), escaped(line.port.name()));
    }
    let is_whole = lines.iter().filter(|line| line.tell_dropped()).count() == 0;
    Ok(if passing.failed || !is_whole { Ending::WithFindings } else { Ending::Clean })
}

/// The wire that damages what is passed on, if there is to be one, and the seed of its chances.
fn damage(args: &RecordArgs, project: &Project, plan: &Arc<Plan>, look: Look) -> anyhow::Result<Option<(Wire, u64)>> {
    let Some(trial) = &args.wire else { return Ok(None) };
    let nobody = RevisionArgs { device: Vec::new(), fleet: None };
    let (revisions, _) = revisions_in_trial(&nobody, None, &project.definition, plan, look)?;
    let scenario = scenario::read(trial, plan, &revisions, None)?.scenario;
    let mut wire = scenario.wire();
    // Both lines take their own time.
    wire.takes_time = false;
    say!("what is passed on is damaged on purpose, as the wire of {} says", crate::files::shown(trial));
    Ok(Some((wire, scenario.seed)))
}

/// Bytes that go from one line to the other, at once or damaged on the way.
struct RelayedBytes {
    is_between: bool,
    wire: Option<(Wire, ChaCha8Rng)>,
    began: Time,
    /// Bytes under way, with the line that they came from: by when they arrive and a number.
    under_way: BTreeMap<(Time, u64), (usize, Vec<u8>)>,
    number: u64,
    /// Bytes that came from each line while nobody was at the other.
    unheard: [u64; 2],
    /// Whether something could not be passed on.
    failed: bool,
}

impl RelayedBytes {
    fn new(lines: usize, damage: Option<(Wire, u64)>, began: Time) -> Self {
        Self {
            is_between: lines == 2,
            wire: damage.map(|(wire, seed)| (wire, ChaCha8Rng::seed_from_u64(seed))),
            began,
            under_way: BTreeMap::new(),
            number: 0,
            unheard: [0; 2],
            failed: false,
        }
    }

    /// When bytes arrive next.
    fn next(&self) -> Option<Time> {
        self.under_way.keys().next().map(|(time, _)| *time)
    }

    /// Takes bytes that came from a line.
    fn take(&mut self, number: usize, time: Time, bytes: Vec<u8>) {
        let Some((wire, random)) = &mut self.wire else {
            self.note(time, number, bytes);
            return;
        };
        let from = if number == 0 { End::Device } else { End::Host };
        let sender = Sender { from, number, frame: self.number };
        let (_, deliveries) = wire.send(time.since(self.began), sender, &bytes, random);
        for delivery in deliveries {
            self.note(self.began.after(delivery.time), number, delivery.bytes);
        }
    }

    fn note(&mut self, time: Time, number: usize, bytes: Vec<u8>) {
        self.number += 1;
        self.under_way.insert((time, self.number), (number, bytes));
    }

    /// The next bytes that have arrived by now.
    fn due(&mut self, now: Time) -> Option<(usize, Time, Vec<u8>)> {
        let first = self.under_way.first_entry().filter(|first| first.key().0 <= now)?;
        let time = first.key().0;
        let (number, bytes) = first.remove();
        Some((number, time, bytes))
    }

    /// Sends bytes of one line out at the other.
    fn pass_on(&mut self, lines: &mut [Line], from: usize, bytes: &[u8]) {
        if !self.is_between {
            return;
        }
        match lines[1 - from].port.send(bytes) {
            Ok(_) => {}
            Err(error) if error.kind() == io::ErrorKind::NotConnected => self.unheard[from] += bytes.len() as u64,
            Err(error) => {
                if !std::mem::replace(&mut self.failed, true) {
                    let to = escaped(lines[1 - from].port.name());
                    say!("what came is recorded, but cannot be passed on to {to}: {error}");
                }
            }
        }
    }
}
