//! The search for a message that is misread, among others that are refused.
//!
//! Where fields lie otherwise, most bodies break a rule of the receiver sooner or later, and the few that do not are the worst.
//! Random values seldom hit them. The search changes single bytes of a body, keeps to bodies that the sender can send, and keeps
//! those that the receiver reads further before it finds fault.

use emberwort_model::ids::MessageId;
use emberwort_text::samples::{Choice, Chooser};
use emberwort_wire::{BodyError, ValueRef, Values, codec, encode};
use rand::Rng;
use rand_chacha::ChaCha8Rng;

use crate::exchange::{Lane, Sent, is_lines};
use crate::sampling::{mixed, values_for};
use crate::trying::Trying;
use crate::verdict::Verdict;

/// Frames that are searched for one that passes another checksum because of its header: each number and each node is tried.
const HEADERS_SEARCHED: usize = 5 * 256;

/// Changes after which the search begins anew.
const PATIENCE: usize = 60;

/// Somebody who tries a message, and says how it fared.
pub(crate) type TryMessage<'a> = &'a mut dyn FnMut(&Trying, &mut Lane, Sent) -> Verdict;

impl Trying {
    /// Looks for a message that is misread, and gives those that could be to somebody.
    pub(crate) fn search(
        &self,
        message: MessageId,
        most: usize,
        lane: &mut Lane,
        random: &mut ChaCha8Rng,
        act: TryMessage<'_>,
    ) {
        if lane.listening().is_none() {
            return;
        }
        match self.taken_as(lane, message) {
            Some(there) if lane.is_framed_alike() && !is_lines(lane.direction()) => {
                self.search_bodies(message, there, most, lane, random, act);
            }
            None if lane.is_framed_alike() && !is_lines(lane.direction()) => {}
            _ => self.search_frames(message, most, lane, random, act),
        }
    }

    /// Where frames are laid out otherwise, a part can be taken for another: each number and each node is tried.
    fn search_frames(
        &self,
        message: MessageId,
        most: usize,
        lane: &mut Lane,
        random: &mut ChaCha8Rng,
        act: TryMessage<'_>,
    ) {
        // Whole frames take far longer than bodies.
        let most = if lane.is_checked_alike() { most / 2 } else { HEADERS_SEARCHED };
        let count = self.sender.link.messages[message].fields.len();
        let mut values = Values::default();
        let mut bytes = 0;
        for n in 0..most {
            let choices = mixed(count, random);
            let mut chooser = Chooser::new(&self.sender, self.sender.link.revision, random).with_edges(&self.edges);
            let asked = chooser.message(message, &choices, &mut values);
            let mut header = chooser.header(lane.direction(), message);
            // Where a part is taken for another, it has to be a length, a key or nothing to pass for one.
            let mut number = |length: bool| match length {
                true => (bytes + random.random_range(0..12u64)).saturating_sub(10),
                false => random.random_range(0..10),
            };
            let free_node = lane.direction().nodes_of(message).is_none();
            match n % 5 {
                0 => {
                    (header.sequence, header.node) = (number(false), if free_node { number(true) } else { header.node })
                }
                1 => {
                    (header.sequence, header.node) = (number(true), if free_node { number(false) } else { header.node })
                }
                2 => {
                    (header.sequence, header.node) =
                        (number(false), if free_node { number(false) } else { header.node })
                }
                3 => header.sequence = (n / 5 % 256) as u64,
                _ if free_node => header.node = (n / 5 % 256) as u64,
                _ => {}
            }
            let Some(sent) = lane.send(message, values.clone(), asked, header) else { continue };
            bytes = sent.wire.len() as u64;
            if act(self, lane, sent) == Verdict::Misread {
                return;
            }
        }
    }

    fn search_bodies(
        &self,
        message: MessageId,
        there: MessageId,
        most: usize,
        lane: &mut Lane,
        random: &mut ChaCha8Rng,
        act: TryMessage<'_>,
    ) {
        let (own, other) = (&self.sender.messages[message], &self.receiver.messages[there.index()]);
        let too_short = !own.has_rest && own.greatest_size() < other.sections[0].least_size;
        if too_short || other.message.from != self.pair.from() {
            // Refused, whatever it holds.
            return;
        }
        let mut best: Option<(i64, Vec<u8>)> = None;
        let (mut body, mut read) = (Vec::new(), Values::default());
        for n in 0..most {
            match &best {
                // Chance alone hits what no step leads to.
                _ if n % 3 == 2 => {
                    if !self.fresh_body(message, None, n % 2 == 0, random, &mut body) {
                        continue;
                    }
                }
                Some((_, found)) if n % PATIENCE != 0 => {
                    body.clone_from(found);
                    if n % 3 == 0 {
                        change(&mut body, random);
                    } else {
                        self.change_field(message, random, &mut body);
                    }
                }
                _ => {
                    best = None;
                    let there = (n / PATIENCE % 2 == 1).then_some(there);
                    if !self.fresh_body(message, there, true, random, &mut body) {
                        continue;
                    }
                }
            }
            let Some(values) = values_for(&self.sender, message, &body) else { continue };
            read.clear(other);
            let score = match codec::decode(other, &body, &mut read) {
                Err(error) => how_far(&error, &read, other.message.fields.len()),
                Ok(_) => {
                    let header =
                        Chooser::new(&self.sender, self.sender.link.revision, random).header(lane.direction(), message);
                    let sent = lane.send(message, values, None, header);
                    if sent.is_some_and(|sent| act(self, lane, sent) == Verdict::Misread) {
                        return;
                    }
                    continue;
                }
            };
            if best.as_ref().is_none_or(|(before, _)| score >= *before) {
                best = Some((score, body.clone()));
            }
        }
    }

    /// Chooses one field of a body anew, which may change its length.
    fn change_field(&self, message: MessageId, random: &mut ChaCha8Rng, body: &mut Vec<u8>) {
        let own = &self.sender.messages[message];
        let fields = own.message.fields.len();
        let Some(mut values) = values_for(&self.sender, message, body).filter(|_| fields > 0) else { return };
        let (slot, choice) = (random.random_range(0..fields), mixed(1, random)[0]);
        let revision = self.sender.link.revision;
        Chooser::new(&self.sender, revision, random).with_edges(&self.edges).field(message, slot, choice, &mut values);
        body.clear();
        // Another form may be due then; that body is passed over.
        let _ = encode(own, &values, revision, body);
    }

    /// A body that the sender sends, or one that the receiver would, if its message is given; with fields chosen in several
    /// ways, or all at random.
    fn fresh_body(
        &self,
        message: MessageId,
        there: Option<MessageId>,
        is_mixed: bool,
        random: &mut ChaCha8Rng,
        body: &mut Vec<u8>,
    ) -> bool {
        let (plan, message) = there.map_or((&self.sender, message), |there| (&self.receiver, there));
        let count = plan.link.messages[message].fields.len();
        let choices = if is_mixed { mixed(count, random) } else { vec![Choice::Random; count] };
        let mut values = Values::default();
        Chooser::new(plan, plan.link.revision, random).with_edges(&self.edges).message(message, &choices, &mut values);
        body.clear();
        encode(&plan.messages[message], &values, plan.link.revision, body).is_ok()
    }

    /// The receiver's message that frames of a sender's message are taken for, if they are framed alike.
    fn taken_as(&self, lane: &Lane, message: MessageId) -> Option<MessageId> {
        let key = lane.direction().key_of(message)?;
        lane.listening()?.message_of(key)
    }

    /// Values of a message whose body is one that the receiver would send as a message of its own.
    pub(crate) fn backwards(&self, message: MessageId, there: MessageId, random: &mut ChaCha8Rng) -> Option<Values> {
        let own = &self.receiver.messages[there];
        let (mut values, mut body) = (Values::default(), Vec::new());
        let choices = vec![Choice::Random; own.message.fields.len()];
        let revision = self.receiver.link.revision;
        let asked = Chooser::new(&self.receiver, revision, random).message(there, &choices, &mut values);
        encode(own, &values, revision, &mut body).ok()?;
        if asked.is_none() { values_for(&self.sender, message, &body) } else { None }
    }
}

/// Changes one to three bytes; small numbers, which counts are, come up often.
fn change(body: &mut [u8], random: &mut ChaCha8Rng) {
    if body.is_empty() {
        return;
    }
    for _ in 0..random.random_range(1..=3) {
        let at = random.random_range(0..body.len());
        body[at] = match random.random_range(0..4) {
            0 => random.random_range(0..6),
            1 => body[at] ^ 1 << random.random_range(0..8),
            2 => body[at].wrapping_add(random.random_range(0..2)).wrapping_sub(1),
            _ => random.random(),
        };
    }
}

/// How far the receiver came before it found fault: fields first, then how much of the next one is wrong.
fn how_far(error: &BodyError, read: &Values, fields: usize) -> i64 {
    let fields = (0..fields).filter(|slot| read.get(*slot) != ValueRef::Unset).count() as i64;
    let wrong = match error {
        BodyError::CountTooLarge { count, max, .. } => i64::from(count.saturating_sub(*max)),
        BodyError::VarintTooLarge { .. } | BodyError::NoForm { .. } | BodyError::BadText { .. } => 50_000,
        BodyError::Truncated { length, needed, .. } => needed.saturating_sub(*length) as i64,
    };
    fields * 100_000 - wrong.min(99_999)
}
