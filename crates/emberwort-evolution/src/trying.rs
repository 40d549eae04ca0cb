//! Trying two revisions against each other: what each difference does to old and new devices and hosts.

use std::collections::HashMap;
use std::panic::resume_unwind;
use std::sync::Arc;

use emberwort_model::Plan;
use emberwort_model::ids::{ChannelId, MessageId};
use emberwort_model::model::{Field, Kind};
use emberwort_text::samples::{Choice, Chooser, Edges};
use emberwort_wire::{Header, Values};
use rand::SeedableRng;
use rand_chacha::ChaCha8Rng;

use crate::comparison::{Change, Comparison, Judgement};
use crate::difference::{Difference, DifferenceKind, differences};
use crate::exchange::{Lane, Received, Sent};
use crate::revision::Revision;

use crate::judge::{Cause, Ends, Outcome, by_chance, example, judge};
use crate::matching::Matching;
use crate::meaning::{Deviation, Place};
use crate::outline::Outline;
use crate::sampling::{choices, edges};
use crate::verdict::{Pair, Verdict};

/// Random samples of each message that a difference touches, besides those at which something can change.
const RANDOM_SAMPLES: usize = 24;

/// Bodies that are searched for one that is misread, where others of the same message are refused.
const MAX_SEARCHED: usize = 8_000;

/// Most bodies that are tried for all messages together, so that a change that touches many takes no longer than a few.
const MAX_SEARCHED_IN_ALL: usize = 64_000;

/// Frames with the same header that tell whether one passed another checksum by chance.
const CONFIRMING: usize = 8;

/// How much is tried.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Effort {
    /// Random samples of each message.
    pub random: usize,
    /// Bodies that are searched for one that is misread.
    pub search: usize,
    /// How badly others have to fare before it is looked for.
    pub worth: Verdict,
}

/// What comes of trying all differences together.
pub(crate) fn tried(old: &Revision, new: &Revision) -> Comparison {
    let outlines = [Outline::of(&old.text), Outline::of(&new.text)];
    let found = differences(&old.plan, &new.plan, [&outlines[0].index(), &outlines[1].index()]);
    let changes = found.into_iter().map(|difference| {
        let mut judgements: [Judgement; 4] = Default::default();
        for (pair, verdict, sentence) in &difference.verdicts {
            judgements[*pair as usize] = Judgement { verdict: *verdict, sentence: sentence.clone(), example: None };
        }
        Change { difference, judgements }
    });
    let mut comparison = Comparison {
        old: old.name.clone(),
        new: new.name.clone(),
        changes: changes.collect(),
        messages: HashMap::new(),
        channels: HashMap::new(),
        tried: 0,
    };
    let touches = TouchIndex::of(&comparison.changes);
    // Each pair says something of its own, so all four can be tried at once.
    let found: Vec<Found> = std::thread::scope(|scope| {
        let changes = &comparison.changes;
        let touches = &touches;
        let threads = Pair::ALL.map(|pair| scope.spawn(move || Trying::new(pair, old, new).all(changes, touches)));
        threads.into_iter().map(|thread| thread.join().unwrap_or_else(|panic| resume_unwind(panic))).collect()
    });
    for (pair, found) in Pair::ALL.into_iter().zip(found) {
        for (change, judgement) in comparison.changes.iter_mut().zip(found.judgements) {
            change.judgements[pair as usize] = judgement;
        }
        comparison.messages.extend(found.messages.into_iter().map(|(message, verdict)| ((pair, message), verdict)));
        comparison.channels.extend(found.channels.into_iter().map(|(channel, verdict)| ((pair, channel), verdict)));
        comparison.tried += found.tried;
    }
    comparison
}

/// Which differences touch which messages.
struct TouchIndex {
    /// For the old and the new revision: by message, the differences.
    messages: [HashMap<MessageId, Vec<usize>>; 2],
    /// Whether a difference changes which frame is which message, so that one can be shown by messages that it does not touch.
    any_selects: bool,
}

impl TouchIndex {
    fn of(changes: &[Change]) -> Self {
        let mut messages: [HashMap<MessageId, Vec<usize>>; 2] = Default::default();
        for (index, change) in changes.iter().enumerate() {
            for (side, touched) in change.difference.touches.iter().enumerate() {
                for message in touched {
                    messages[side].entry(*message).or_default().push(index);
                }
            }
        }
        let any_selects = changes.iter().any(|change| change.difference.kind.is_of_selection());
        Self { messages, any_selects }
    }

    /// Those that touch a message of one side, or what it is on the other; in rising order.
    fn of_message(&self, side: usize, message: MessageId, there: Option<MessageId>) -> Vec<usize> {
        let own = self.messages[side].get(&message).into_iter().flatten();
        let other = there.and_then(|there| self.messages[1 - side].get(&there)).into_iter().flatten();
        let mut all: Vec<usize> = own.chain(other).copied().collect();
        all.sort_unstable();
        all.dedup();
        all
    }
}

/// What came of trying one pair.
struct Found {
    /// For each difference.
    judgements: Vec<Judgement>,
    /// The worst by the sender's message.
    messages: HashMap<MessageId, Verdict>,
    /// The worst by the sender's channel.
    channels: HashMap<ChannelId, Verdict>,
    tried: u64,
}

/// Both plans and what else is needed for trying one pair of ends.
pub(crate) struct Trying {
    pub(crate) pair: Pair,
    pub(crate) sender: Arc<Plan>,
    pub(crate) receiver: Arc<Plan>,
    matching: Matching,
    /// The receiver's codes, for the sender's values.
    pub(crate) edges: Edges,
    lanes: HashMap<ChannelId, Lane>,
    /// Messages that were searched so far.
    searched: usize,
}

impl Trying {
    pub(crate) fn new(pair: Pair, old: &Revision, new: &Revision) -> Self {
        let (sender, receiver) = if pair.sender_is_old() { (&old.plan, &new.plan) } else { (&new.plan, &old.plan) };
        Self {
            pair,
            sender: sender.clone(),
            receiver: receiver.clone(),
            matching: Matching::of(sender, receiver),
            edges: edges(receiver),
            lanes: HashMap::new(),
            searched: 0,
        }
    }

    fn all(&mut self, changes: &[Change], touches: &TouchIndex) -> Found {
        let pair = self.pair;
        let side = usize::from(!pair.sender_is_old());
        let mut found = Found {
            judgements: changes.iter().map(|change| change.judgement(pair).clone()).collect(),
            messages: HashMap::new(),
            channels: HashMap::new(),
            tried: 0,
        };
        for message in self.messages() {
            let touching = touches.of_message(side, message, self.matching.messages[message.index()]);
            if touching.is_empty() {
                continue;
            }
            let kinds = || touching.iter().map(|n| changes[*n].difference.kind);
            let moves = kinds().any(|kind| kind.moves_bytes() || kind.is_of_selection());
            let effort = Effort {
                random: RANDOM_SAMPLES,
                search: MAX_SEARCHED.min((MAX_SEARCHED_IN_ALL.saturating_sub(self.searched)) / 8),
                worth: if moves { Verdict::FineWithLoss } else { Verdict::Refused },
            };
            let mut random = ChaCha8Rng::seed_from_u64(message.index() as u64);
            self.each(message, effort, &mut random, &mut |trying, lane, sent| {
                // Where all is known to be as bad as can be, nothing more can be found.
                let is_worst = |verdict: Option<&Verdict>| verdict == Some(&Verdict::Misread);
                let settled = !touches.any_selects
                    && is_worst(found.messages.get(&message))
                    && (lane.is_framed_alike() || is_worst(found.channels.get(&lane.channel)))
                    && touching.iter().all(|n| found.judgements[*n].verdict == Verdict::Misread);
                if settled {
                    return Verdict::Misread;
                }
                found.tried += 1;
                let (received, outcome) = trying.exchange(lane, &sent);
                let ends = trying.ends();
                let worst = found.messages.entry(message).or_default();
                *worst = outcome.verdict.max(*worst);
                if !lane.is_framed_alike() {
                    let worst = found.channels.entry(lane.channel).or_default();
                    *worst = outcome.verdict.max(*worst);
                }
                for (change, verdict, sentence) in attribute(ends, &outcome, &touching, changes) {
                    let judgement = &mut found.judgements[change];
                    if verdict > judgement.verdict {
                        let example = Some(example(ends, lane, &sent, &received));
                        *judgement = Judgement { verdict, sentence, example };
                    }
                }
                outcome.verdict
            });
        }
        found
    }

    /// The sender's messages that go from this end.
    pub(crate) fn messages(&self) -> Vec<MessageId> {
        let all = self.sender.link.message_ids();
        all.filter(|(_, message)| message.from == self.pair.from()).map(|(index, _)| index).collect()
    }

    pub(crate) fn ends(&self) -> Ends<'_> {
        Ends {
            sender: &self.sender,
            receiver: &self.receiver,
            matching: &self.matching,
            sender_is_old: self.pair.sender_is_old(),
        }
    }

    /// Gives a frame to the receiver, and judges what it makes of it.
    pub(crate) fn exchange(&self, lane: &mut Lane, sent: &Sent) -> (Received, Outcome) {
        let received = lane.receive(sent);
        if !lane.is_checked_alike() && !received.good.is_empty() && !self.passes_always(lane, sent) {
            return (Received { good: Vec::new(), ..received }, by_chance(self.ends(), sent.message));
        }
        let outcome = judge(self.ends(), lane, sent, &received);
        (received, outcome)
    }

    /// Whether other values behind the same header pass another checksum, too, as they do if a part that it leaves out is zero.
    fn passes_always(&self, lane: &mut Lane, sent: &Sent) -> bool {
        let mut random = ChaCha8Rng::seed_from_u64(sent.wire.len() as u64);
        let count = self.sender.link.messages[sent.message].fields.len();
        let mut passes = 0;
        for _ in 0..CONFIRMING {
            let mut values = Values::default();
            let mut chooser = Chooser::new(&self.sender, self.sender.link.revision, &mut random);
            let asked = chooser.message(sent.message, &vec![Choice::Random; count], &mut values);
            if let Some(other) = lane.send(sent.message, values, asked, sent.header) {
                passes += usize::from(!lane.receive(&other).good.is_empty());
            }
        }
        passes > CONFIRMING / 2
    }

    /// Gives samples of a message, on each of its channels, to somebody who says how they fared.
    pub(crate) fn each(
        &mut self,
        message: MessageId,
        effort: Effort,
        random: &mut ChaCha8Rng,
        act: &mut dyn FnMut(&Self, &mut Lane, Sent) -> Verdict,
    ) {
        let samples = self.samples(message, effort.random, random);
        for channel in self.sender.link.messages[message].channels.clone() {
            let mut lane = self.lanes.remove(&channel).unwrap_or_else(|| {
                Lane::new(
                    &self.sender,
                    &self.receiver,
                    self.pair.from(),
                    channel,
                    self.matching.channels[channel.index()],
                )
            });
            let mut worst = Verdict::Fine;
            for (n, (values, asked)) in samples.iter().enumerate() {
                let mut header = self.header(&lane, message, random);
                if n == 0 {
                    // The first is for people: a small node, a small number.
                    header.node = lane.direction().nodes_of(message).map_or(header.node.min(3), |nodes| *nodes.start());
                    header.key = lane.direction().key_for(message, header.node).unwrap_or(header.key);
                    header.sequence = header.sequence.min(7);
                }
                if let Some(sent) = lane.send(message, values.clone(), *asked, header) {
                    worst = worst.max(act(self, &mut lane, sent));
                }
            }
            // Where frames are laid out otherwise, a byte that only one of both ends escapes can be rare.
            let is_worth = worst >= effort.worth || (lane.listening().is_some() && !lane.is_framed_alike());
            if effort.search > 0 && is_worth && worst < Verdict::Misread {
                self.searched += effort.search;
                self.search(message, effort.search, &mut lane, random, act);
            }
            self.lanes.insert(channel, lane);
        }
    }

    fn header(&self, lane: &Lane, message: MessageId, random: &mut ChaCha8Rng) -> Header {
        Chooser::new(&self.sender, self.sender.link.revision, random).header(lane.direction(), message)
    }

    /// Values of a message, with the key that was asked for.
    fn samples(&self, message: MessageId, count: usize, random: &mut ChaCha8Rng) -> Vec<(Values, Option<u64>)> {
        let mut samples = Vec::new();
        let compiled = &self.sender.messages[message];
        for choices in choices(&self.sender, message, &self.edges, count) {
            let mut values = Values::new(compiled);
            let mut chooser = Chooser::new(&self.sender, self.sender.link.revision, random).with_edges(&self.edges);
            let asked = chooser.message(message, &choices, &mut values);
            samples.push((values, asked));
        }
        // Bodies that the receiver itself would send are those that it takes.
        let takes = self.sender.link.messages[message].channels.iter().find_map(|channel| {
            let there = self.matching.channels[channel.index()]?;
            let key = self.sender.channels[*channel].direction(self.pair.from()).key_of(message)?;
            self.receiver.channels[there].direction(self.pair.from()).message_of(key)
        });
        let Some(there) = takes.or(self.matching.messages[message.index()]) else { return samples };
        samples.extend((0..count).filter_map(|_| Some((self.backwards(message, there, random)?, None))));
        samples
    }
}

/// Which differences an outcome comes from, with what each of them does.
fn attribute(
    ends: Ends<'_>,
    outcome: &Outcome,
    touching: &[usize],
    changes: &[Change],
) -> Vec<(usize, Verdict, String)> {
    if outcome.verdict == Verdict::Fine {
        return Vec::new();
    }
    let of_kind = |wanted: &dyn Fn(DifferenceKind) -> bool| -> Vec<usize> {
        touching.iter().copied().filter(|n| wanted(changes[*n].difference.kind)).collect()
    };
    let channel = || of_kind(&DifferenceKind::is_of_channel);
    let moves = || of_kind(&DifferenceKind::moves_bytes);
    let selection = || of_kind(&DifferenceKind::is_of_selection);
    let first = |choices: Vec<Vec<usize>>| {
        choices.into_iter().find(|found| !found.is_empty()).unwrap_or_else(|| touching.to_vec())
    };
    let found = match &outcome.cause {
        Cause::Values(deviations) => {
            let mut all = Vec::new();
            for deviation in deviations {
                let own = touching.iter().copied().filter(|n| is_at(ends, &changes[*n].difference, deviation));
                for change in first(vec![own.collect(), moves(), channel()]) {
                    all.push((change, deviation.verdict, deviation.sentence()));
                }
            }
            return all;
        }
        Cause::OtherMessage(other) => {
            // What stands under its key now, if that is why.
            let side = usize::from(ends.sender_is_old);
            let takes = |n: &usize| {
                let difference = &changes[*n].difference;
                difference.kind.is_of_selection() && difference.touches[side].contains(&MessageId::new(*other))
            };
            let mut found: Vec<usize> = (0..changes.len()).filter(takes).collect();
            found.extend(selection());
            found.sort_unstable();
            found.dedup();
            first(vec![found, channel(), moves()])
        }
        Cause::NewEntry(place) => {
            let own = |n: &usize| changes[*n].difference.at.iter().flatten().any(|at| at == place);
            first(vec![touching.iter().copied().filter(own).collect()])
        }
        Cause::UnknownKey => first(vec![selection(), channel(), moves()]),
        Cause::Direction => first(vec![of_kind(&|kind| kind == DifferenceKind::Direction), selection(), channel()]),
        Cause::Frame => first(vec![channel(), moves()]),
        Cause::Body(_) => first(vec![moves(), channel()]),
        Cause::NobodyListens => first(vec![channel(), of_kind(&|kind| kind == DifferenceKind::Channels)]),
    };
    found.into_iter().map(|change| (change, outcome.verdict, outcome.sentence.clone())).collect()
}

/// Whether a deviation is at the place of a difference: at the field, around it, or at the labels that it shows.
fn is_at(ends: Ends<'_>, difference: &Difference, deviation: &Deviation) -> bool {
    use DifferenceKind::*;
    let names = |place: &Place| difference.at.iter().flatten().any(|at| at == place);
    if matches!(
        difference.kind,
        LabelAdded
            | LabelRemoved
            | LabelRenumbered
            | LabelRenamed
            | EntryAdded
            | EntryRemoved
            | EntryRenumbered
            | EntryRenamed
    ) {
        // Labels are met in fields of that enum, by a code of theirs.
        let owner = difference.at.iter().flatten().next().map_or("", |at| at.owner.as_str());
        let plans = [ends.sender, ends.receiver];
        let shows = deviation.trail.iter().any(|place| plans.iter().any(|plan| shows_labels(plan, place, owner)));
        let words =
            |text: &str, name: &str| text.split(|c: char| !c.is_alphanumeric() && c != '_').any(|word| word == name);
        let label = |text: &str| difference.at.iter().flatten().any(|at| words(text, &at.field));
        return shows && (label(&deviation.sent) || label(&deviation.read));
    }
    deviation.trail.iter().any(names)
}

/// Whether a field of this place shows the labels of an enum, flag set or table of this name.
fn shows_labels(plan: &Plan, place: &Place, name: &str) -> bool {
    let link = &plan.link;
    let messages = link.messages.iter().filter(|message| message.name == place.owner).map(|message| &message.fields);
    let records = link.records.iter().filter(|record| record.name == place.owner).map(|record| &record.fields);
    let mut fields = messages.chain(records).flatten();
    fields.any(|field| (field.name == place.field || place.field.is_empty()) && shows(field, name))
}

fn shows(field: &Field, name: &str) -> bool {
    match &field.kind {
        Kind::Enum { labels, .. } | Kind::Flags(labels) => labels.name == name,
        Kind::List { element, .. } => shows(element, name),
        Kind::Union(union) => {
            let forms = union.cases.iter().map(|case| &case.field).chain(&union.otherwise);
            union.table.as_ref().is_some_and(|table| table.name == name)
                || forms.into_iter().any(|form| shows(form, name))
        }
        _ => false,
    }
}
