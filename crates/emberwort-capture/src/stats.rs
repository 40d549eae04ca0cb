//! Counting what a decoder finds: every byte, frames by message and by reason, gaps in sequence numbers.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

use emberwort_model::Plan;
use emberwort_model::ids::{ChannelId, MessageId};
use emberwort_model::model::End;
use emberwort_wire::codec::Extent;
use emberwort_wire::sequence::Numbering;
use emberwort_wire::{FrameFault, FrameView, Spent, Time, Timeline};

use crate::assign::Unassigned;
use crate::checksum_slips::ChecksumSlips;
use crate::items::{BrokenFrame, Row, StrayBytes, began};
use crate::revision_map::DefinitionId;
use crate::revision_map::RevisionMap;

/// So many reasons why packets belong to no channel are kept apart.
const MAX_REASONS: usize = 256;

/// The counts of one or several captures.
#[derive(Clone, Debug)]
pub struct Statistics {
    plan: Arc<Plan>,
    /// Bytes given to the channels of the link. Equal to the sum of the next four.
    pub input: u64,
    /// Bytes in good frames.
    pub good: u64,
    /// Bytes in frames that are right, but whose body cannot be read.
    pub unread: u64,
    /// Bytes in broken frames.
    pub broken: u64,
    /// Bytes in no frame.
    pub stray: u64,
    /// Frames of any kind that were found.
    pub frames: u64,
    /// Packets (and serial pieces) that belong to no channel of the link.
    pub other_packets: u64,
    /// Their bytes.
    pub other_bytes: u64,
    /// They and their bytes by the reason why they belong to none.
    pub others: BTreeMap<Unassigned, (u64, u64)>,
    /// Unread frames by reason, in the order of [`FrameFault::REASONS`].
    pub unread_frames: [u64; FrameFault::REASONS.len()],
    /// Broken frames by reason, in the order of [`FrameFault::REASONS`].
    pub broken_frames: [u64; FrameFault::REASONS.len()],
    /// Good frames by message: those of the link's own definition by index, then those that only others have.
    messages: Vec<u64>,
    /// Their names.
    names: Vec<String>,
    /// For each definition, the places of its messages in the counts.
    places: Vec<Vec<usize>>,
    /// Good frames by channel index.
    pub channels: Vec<u64>,
    /// Frames that held bytes of a later revision, and how many bytes.
    pub later: (u64, u64),
    /// Good frames by the revision that they were read as, where it is not the link's own.
    pub read_as: BTreeMap<u32, u64>,
    /// Frames that say another revision of themselves than the one that they were read as, because somebody said it of their
    /// sender: by node, by what they say and what they were read as.
    pub contradicted: BTreeMap<(Option<u64>, u64, u32), u64>,
    /// Good frames from the device and from the host, where nobody said which end sends and the frames told it.
    pub told_apart: (u64, u64),
    /// Frames that can be read as ones of either end, and were taken for the device's: by the names of the device's message and of
    /// the host's.
    pub ambiguous: BTreeMap<(String, String), u64>,
    /// What the wrong checksums have in common.
    pub slips: ChecksumSlips,
    /// For each definition.
    numbering: Vec<Numbering>,
    /// Time of the first and the last frame.
    pub span: Option<(Time, Time)>,
    /// Where the time of the line went, if it was looked at in all moments, as in waveforms.
    pub timeline: Option<Timeline>,
}

/// Gaps in the sequence numbers of frames and in the counters of messages.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Gaps {
    /// How many times numbers were left out.
    pub gaps: u64,
    /// How many numbers are missing in all gaps together, as far as the width of the part can tell.
    pub missing: u64,
    /// How many times the numbers went back: repeated frames, and senders that began again.
    pub jumps_back: u64,
}

impl Statistics {
    /// All zero, for the definitions in use.
    pub fn new(revisions: &RevisionMap) -> Self {
        let plan = revisions.own().clone();
        let mut statistics = Self {
            input: 0,
            good: 0,
            unread: 0,
            broken: 0,
            stray: 0,
            frames: 0,
            other_packets: 0,
            other_bytes: 0,
            others: BTreeMap::new(),
            unread_frames: [0; FrameFault::REASONS.len()],
            broken_frames: [0; FrameFault::REASONS.len()],
            messages: Vec::new(),
            names: Vec::new(),
            places: Vec::new(),
            channels: vec![0; plan.channels.len()],
            later: (0, 0),
            read_as: BTreeMap::new(),
            contradicted: BTreeMap::new(),
            told_apart: (0, 0),
            ambiguous: BTreeMap::new(),
            slips: ChecksumSlips::default(),
            numbering: Vec::new(),
            span: None,
            timeline: None,
            plan,
        };
        statistics.update_revisions(revisions);
        statistics
    }

    /// Makes room for the counts of definitions that it has none for yet.
    pub(crate) fn update_revisions(&mut self, revisions: &RevisionMap) {
        let mut known: HashMap<String, usize> =
            self.names.iter().enumerate().map(|(place, name)| (name.clone(), place)).collect();
        for definition in &revisions.definitions()[self.places.len()..] {
            let mut of_definition = Vec::new();
            for message in &definition.plan.messages {
                let name = &message.message.name;
                of_definition.push(*known.entry(name.clone()).or_insert_with(|| {
                    self.names.push(name.clone());
                    self.names.len() - 1
                }));
            }
            self.places.push(of_definition);
            self.numbering.push(Numbering::new(&definition.plan));
        }
        self.messages.resize(self.names.len(), 0);
    }

    /// Good frames of each message of the link's own definition, then of those that only others have.
    pub fn messages(&self) -> impl Iterator<Item = (&str, u64)> {
        self.names.iter().map(String::as_str).zip(self.messages.iter().copied())
    }

    /// The link's own definition, whose channels are counted.
    pub fn plan(&self) -> &Plan {
        &self.plan
    }

    /// Good frames in all.
    pub fn good_frames(&self) -> u64 {
        self.messages.iter().sum()
    }

    /// Unread frames in all.
    pub fn all_unread_frames(&self) -> u64 {
        self.unread_frames.iter().sum()
    }

    /// Broken frames in all.
    pub fn all_broken_frames(&self) -> u64 {
        self.broken_frames.iter().sum()
    }

    /// Gaps in the sequence numbers of frames and in the counters of messages.
    pub fn sequence(&self) -> Gaps {
        let mut all = Gaps::default();
        for watch in self.numbering.iter().map(Numbering::watch) {
            all.gaps += watch.gaps();
            all.missing += watch.missing();
            all.jumps_back += watch.jumps_back();
        }
        all
    }

    /// Whether rows of a message of a definition (both by index) are counted by their values, too.
    pub(crate) fn wants_values(&self, definition: DefinitionId, message: MessageId) -> bool {
        self.numbering[definition.index()].counts(message)
    }

    pub(crate) fn contradicted(&mut self, node: Option<u64>, says: u64, read_as: u32) {
        *self.contradicted.entry((node, says, read_as)).or_default() += 1;
    }

    /// Whether every byte of the input is in exactly one of good, unread, broken, stray.
    pub fn adds_up(&self) -> bool {
        self.input == self.good + self.unread + self.broken + self.stray
    }

    pub(crate) fn count_ambiguous(&mut self, by_device: &str, by_host: &str) {
        *self.ambiguous.entry((by_device.to_owned(), by_host.to_owned())).or_default() += 1;
    }

    pub(crate) fn count_told_apart(&mut self, from: End) {
        match from {
            End::Device => self.told_apart.0 += 1,
            End::Host => self.told_apart.1 += 1,
        }
    }

    pub(crate) fn count_input(&mut self, bytes: usize) {
        self.input += bytes as u64;
    }

    pub(crate) fn count_other(&mut self, reason: Unassigned, bytes: usize) {
        let is_kept = self.others.len() < MAX_REASONS || self.others.contains_key(&reason);
        let of = self.others.entry(if is_kept { reason } else { Unassigned::Others }).or_default();
        *of = (of.0 + 1, of.1 + bytes as u64);
        self.other_packets += 1;
        self.other_bytes += bytes as u64;
    }

    /// Some time of the line was spent with something.
    pub(crate) fn spent(&mut self, spent: Spent, from: Time, until: Time) {
        self.timeline.get_or_insert_default().add(spent, from, until);
    }

    fn note_time(&mut self, spent: Spent, (began, time): (Option<Time>, Option<Time>)) {
        if let (Some(began), Some(time), Some(timeline)) = (began, time, &mut self.timeline) {
            timeline.add(spent, began, time);
        }
        if let Some(time) = time {
            let (first, last) = self.span.unwrap_or((time, time));
            self.span = Some((first.min(time), last.max(time)));
        }
    }

    /// A good frame whose values nobody looks at, of the link's own definition: its stream's channel, the end that sent it, its
    /// message by index, how far its body reaches, the frame itself, how many bytes it had as it came, when it began and when it came.
    #[inline]
    pub(crate) fn frame(
        &mut self,
        (channel, from, message): (ChannelId, End, MessageId),
        extent: Extent,
        frame: &FrameView<'_>,
        (bytes, began, time): (usize, Option<Time>, Option<Time>),
    ) {
        // Messages of the link's own definition stand at their index.
        self.count((channel, message.index()), extent, bytes, (began, time));
        self.numbering[0].take_frame((channel, from, frame.node.unwrap_or(0)), frame.sequence);
    }

    pub(crate) fn row(&mut self, row: &Row<'_>) {
        let place = self.places[row.definition.index()][row.message.index()];
        if row.definition != DefinitionId::default() {
            *self.read_as.entry(row.plan.link.revision).or_default() += 1;
        }
        self.count((row.channel, place), row.extent, row.wire.len(), (began(row.times), row.time));
        let sender = (row.channel, row.from, row.frame.node.unwrap_or(0));
        self.numbering[row.definition.index()].take(sender, row.frame.sequence, row.message, row.values);
    }

    #[inline]
    fn count(
        &mut self,
        (channel, place): (ChannelId, usize),
        extent: Extent,
        bytes: usize,
        times: (Option<Time>, Option<Time>),
    ) {
        self.good += bytes as u64;
        self.frames += 1;
        self.messages[place] += 1;
        self.channels[channel.index()] += 1;
        let later = extent.later_bytes as u64;
        if later > 0 {
            self.later.0 += 1;
            self.later.1 += later;
        }
        self.note_time(Spent::Good, times);
    }

    pub(crate) fn broken(&mut self, broken: &BrokenFrame<'_>) {
        let reason = broken.fault.reason();
        let index = FrameFault::REASONS.iter().position(|other| *other == reason).unwrap_or(0);
        let (bytes, frames) = match broken.is_unread() {
            true => (&mut self.unread, &mut self.unread_frames),
            false => (&mut self.broken, &mut self.broken_frames),
        };
        *bytes += broken.wire.len() as u64;
        self.frames += 1;
        frames[index] += 1;
        if let FrameFault::Checksum { part, expected, found } = *broken.fault {
            self.slips.count(broken.channel, broken.from, broken.direction, part, (expected, found));
        }
        // One that only nobody can read is right.
        let spent = if broken.is_unread() { Spent::Good } else { Spent::Broken };
        self.note_time(spent, (began(broken.times), broken.time));
    }

    pub(crate) fn stray(&mut self, stray: &StrayBytes<'_>) {
        self.stray += stray.wire.len() as u64;
        self.note_time(Spent::Stray, (began(stray.times), stray.time));
    }
}
