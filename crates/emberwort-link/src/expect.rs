//! What must hold in a trial: sentences, and whether a report bears them out.

use std::collections::BTreeMap;
use std::fmt;

use emberwort_model::model::End;

use crate::Nanoseconds;
use crate::definitions::{Definitions, MessageNumber, TrialDefinitionId};
use crate::file_words::duration;
use crate::probe::{Probe, ProbeKind, Probed};
use crate::reason::Reason;
use crate::report::{ReceptionAccount, Report, Verdict};

/// One thing that must hold.
#[derive(Clone, Debug, PartialEq)]
pub struct Expectation {
    /// The sentence as written.
    pub sentence: String,
    kind: Kind,
}

#[derive(Clone, Debug, PartialEq)]
enum Kind {
    Count {
        bound: Bound,
        message: MessageNumber,
        node: Option<u64>,
        at: String,
    },
    Answered {
        message: MessageNumber,
        within: Nanoseconds,
        share: f64,
    },
    NoWrongValue,
    /// Frames that were sent and not received, of all that were sent, in per cent.
    Loss {
        message: MessageNumber,
        node: Option<u64>,
        below: f64,
    },
    /// From one good frame to the next, with something broken between them.
    Recovery {
        within: Nanoseconds,
        at: Place,
    },
    /// How long somebody sends, in per cent.
    Busy {
        below: f64,
    },
    Values(Box<Probe>),
    AtMost {
        quantity: Quantity,
        most: u64,
        at: Place,
    },
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Bound {
    AtLeast(u64),
    AtMost(u64),
}

/// What is counted of all that one side received.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Quantity {
    Broken,
    Unread,
    Gaps,
}

impl Quantity {
    fn count(self, heard: ReceptionAccount) -> u64 {
        match self {
            Self::Broken => heard.broken,
            Self::Unread => heard.unread,
            Self::Gaps => heard.gaps,
        }
    }
}

/// Frames by message and node.
type Counts = BTreeMap<(MessageNumber, u64), u64>;

/// What was seen of an expectation while the trial ran.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct Observed<'a> {
    /// What its probe found, if it has one.
    pub probed: Option<&'a Probed>,
    /// When more came than it allows, if it is a limit.
    pub exceeded: Option<Nanoseconds>,
}

/// Where something is received.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Place {
    Host,
    Device(u64),
}

impl Place {
    /// The node of a device; `None` for the host.
    fn node(self) -> Option<u64> {
        match self {
            Self::Host => None,
            Self::Device(node) => Some(node),
        }
    }

    fn heard(self, report: &Report) -> ReceptionAccount {
        match self {
            Self::Host => report.host,
            Self::Device(node) => report.devices.get(&node).copied().unwrap_or_default(),
        }
    }
}

impl fmt::Display for Place {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Host => write!(f, "at the host"),
            Self::Device(node) => write!(f, "at device {node}"),
        }
    }
}

const FORMS: &str = "at least N MESSAGE [from node K | to node K] · at most N MESSAGE [from node K | to node K] · \
    MESSAGE answered within 50 ms · 99 % of MESSAGE answered within 50 ms · no good frame with a wrong value · no false accept · \
    MESSAGE.FIELD between A and B · always MESSAGE [from node K]: CONDITION · once MESSAGE [from node K]: CONDITION · \
    loss of MESSAGE [from node K | to node K] below 2 % · recovery within 500 ms · wire busy below 40 % · \
    broken frames at most N · unread frames at most N · counter gaps at most N; after a count and a recovery: at the host, at device K";

impl Expectation {
    /// Reads a sentence about what the host (its definition by index) and the devices (by node) do.
    ///
    /// # Errors
    /// What is wrong with it, and what can be written.
    pub fn parse(
        sentence: &str,
        definitions: &Definitions,
        host: TrialDefinitionId,
        nodes: &[u64],
    ) -> Result<Self, String> {
        let words: Vec<&str> = sentence.split_whitespace().collect();
        let number =
            |word: &str| word.parse::<u64>().map_err(|_| format!("`{word}` is not a whole number in: {sentence}"));
        let unreadable = || format!("this cannot be read: {sentence}\nwrite one of: {FORMS}");
        let device = |word: &str| match number(word)? {
            node if nodes.contains(&node) => Ok(node),
            node => Err(format!("there is no device {node} in this trial: {sentence}")),
        };
        let (words, place) = match words.as_slice() {
            [words @ .., "at", "the", "host"] => (words, Some(Place::Host)),
            [words @ .., "at", "device", node] => (words, Some(Place::Device(device(node)?))),
            words => (words, None),
        };
        let answered = |message: &str, amount: &str, unit: &str, share: f64| {
            let number = definitions.number_of(message)?;
            let asked = definitions.get(host).plan.link.messages.iter().find(|asked| asked.name == *message);
            if asked.is_none_or(|asked| asked.answered_by.is_empty()) {
                return Err(format!("the definition does not say what answers `{message}`: {sentence}"));
            }
            Ok(Kind::Answered { message: number, within: duration(&format!("{amount} {unit}"))?, share })
        };
        let percent = |word: &str| match word.parse::<f64>() {
            Ok(number) if (0.0..=100.0).contains(&number) => Ok(number),
            _ => Err(format!("`{word}` is not a number from 0 to 100 in: {sentence}")),
        };
        let of_node = |message: &str, rest: &[&str]| {
            let message = definitions.number_of(message)?;
            match (rest, definitions.message(message).1) {
                ([], _) => Ok((message, None)),
                (["from", "node", node], End::Device) | (["to", "node", node], End::Host) => {
                    Ok((message, Some(number(node)?)))
                }
                _ => Err(unreadable()),
            }
        };
        let kind = match words {
            [mode @ ("always" | "once"), ..] if sentence.contains(':') => {
                let kind = if *mode == "always" { ProbeKind::Always } else { ProbeKind::Once };
                let (what, condition) = sentence.split_once(':').unwrap_or_default();
                let what: Vec<&str> = what.split_whitespace().skip(1).collect();
                let Some((message, rest)) = what.split_first() else { return Err(unreadable()) };
                Kind::Values(Box::new(Probe::new(definitions, of_node(message, rest)?, kind, condition.trim())?))
            }
            [field, rest @ .., "between", least, "and", most] if field.contains('.') && place.is_none() => {
                let (message, field) = field.split_once('.').unwrap_or_default();
                let bound =
                    |word: &str| word.parse::<f64>().map_err(|_| format!("`{word}` is not a number in: {sentence}"));
                let kind = ProbeKind::Between(bound(least)?, bound(most)?);
                Kind::Values(Box::new(Probe::new(definitions, of_node(message, rest)?, kind, field)?))
            }
            ["loss", "of", message, rest @ .., "below", share, "%"] if place.is_none() => {
                let (message, node) = of_node(message, rest)?;
                Kind::Loss { message, node, below: percent(share)? }
            }
            ["recovery", "within", amount, unit] => {
                Kind::Recovery { within: duration(&format!("{amount} {unit}"))?, at: place.unwrap_or(Place::Host) }
            }
            ["wire", "busy", "below", share, "%"] if place.is_none() => Kind::Busy { below: percent(share)? },
            [share, "%", "of", message, "answered", "within", amount, unit] if place.is_none() => {
                answered(message, amount, unit, percent(share)? / 100.0)?
            }
            ["at", which @ ("least" | "most"), count, message, rest @ ..] => {
                let count = number(count)?;
                let bound = if *which == "least" { Bound::AtLeast(count) } else { Bound::AtMost(count) };
                let message = definitions.number_of(message)?;
                let (name, from) = definitions.message(message);
                let node = match (rest, from) {
                    ([], _) => None,
                    (["from", "node", node], End::Device) | (["to", "node", node], End::Host) => Some(number(node)?),
                    (["from", "node", node], End::Host) => {
                        return Err(format!("{name} is sent by the host; write `to node {node}`: {sentence}"));
                    }
                    (["to", "node", node], End::Device) => {
                        return Err(format!("{name} is sent by devices; write `from node {node}`: {sentence}"));
                    }
                    _ => return Err(unreadable()),
                };
                let (node, at) = match (place, from, node) {
                    (None | Some(Place::Host), End::Device, node) => (node, Place::Host.to_string()),
                    (Some(Place::Device(_)), End::Device, _) => {
                        return Err(format!("{name} is received by the host; write `at the host`: {sentence}"));
                    }
                    (Some(Place::Host), End::Host, _) => {
                        return Err(format!("{name} is received by devices; write `at device K`: {sentence}"));
                    }
                    (Some(Place::Device(at)), End::Host, node) if node.is_none_or(|node| node == at) => {
                        (Some(at), Place::Device(at).to_string())
                    }
                    (Some(Place::Device(_)), End::Host, _) => return Err(unreadable()),
                    (None, End::Host, Some(node)) => (Some(node), Place::Device(node).to_string()),
                    (None, End::Host, None) => (None, "at the devices".to_owned()),
                };
                Kind::Count { bound, message, node, at }
            }
            [message, "answered", "within", amount, unit] if place.is_none() => answered(message, amount, unit, 1.0)?,
            ["no", "good", "frame", "with", "a", "wrong", "value"] | ["no", "false", "accept"] if place.is_none() => {
                Kind::NoWrongValue
            }
            [first, second, "at", "most", count] => {
                let what = match (*first, *second) {
                    ("counter", "gaps") => Quantity::Gaps,
                    ("broken", "frames") => Quantity::Broken,
                    ("unread", "frames") => Quantity::Unread,
                    _ => return Err(unreadable()),
                };
                Kind::AtMost { quantity: what, most: number(count)?, at: place.unwrap_or(Place::Host) }
            }
            _ => return Err(unreadable()),
        };
        Ok(Self { sentence: sentence.to_owned(), kind })
    }

    /// The message (by number) and the time within which it must be answered, if this is about that.
    pub(crate) fn answer_time(&self) -> Option<(MessageNumber, Nanoseconds)> {
        match self.kind {
            Kind::Answered { message, within, .. } => Some((message, within)),
            _ => None,
        }
    }

    /// What it looks at in each message that is received, if it is about values.
    pub(crate) fn probe(&self) -> Option<&Probe> {
        match &self.kind {
            Kind::Values(probe) => Some(probe),
            _ => None,
        }
    }

    /// Whether it says that something comes at most so often, which a trial can exceed at a moment.
    pub(crate) fn is_limit(&self) -> bool {
        matches!(self.kind, Kind::AtMost { .. } | Kind::Count { bound: Bound::AtMost(_), .. })
    }

    /// Whether more came than it allows, if it is a limit: of frames received by message and node, and by what one side heard.
    pub(crate) fn is_exceeded(&self, received: &Counts, heard: impl Fn(Option<u64>) -> ReceptionAccount) -> bool {
        match &self.kind {
            Kind::Count { bound: Bound::AtMost(most), message, node, .. } => summed(received, *message, *node) > *most,
            Kind::AtMost { quantity: what, most, at } => what.count(heard(at.node())) > *most,
            _ => false,
        }
    }

    /// The moment that shows that it did not hold, where there is one.
    fn witness(&self, report: &Report, seen: Observed<'_>) -> Option<Nanoseconds> {
        match &self.kind {
            Kind::Answered { message, within, .. } => report.answers.get(message)?.first_late.get(within).copied(),
            Kind::NoWrongValue => report.wrong_examples.first().map(|wrong| wrong.time),
            Kind::Recovery { at, .. } => report.recovery.get(&at.node())?.slowest_at,
            Kind::Values(_) => seen.probed?.first_failed,
            Kind::AtMost { .. } | Kind::Count { bound: Bound::AtMost(_), .. } => seen.exceeded,
            Kind::Loss { message, node, .. } | Kind::Count { bound: Bound::AtLeast(_), message, node, .. } => {
                let fits = |key: &&(MessageNumber, u64)| key.0 == *message && node.is_none_or(|node| key.1 == node);
                report.first_lost.iter().filter(|(key, _)| fits(key)).map(|(_, time)| *time).min()
            }
            Kind::Busy { .. } => None,
        }
    }

    /// Whether it held.
    pub(crate) fn judge(&self, report: &Report, seen: Observed<'_>) -> Verdict {
        let (failed, found) = match &self.kind {
            Kind::Values(probe) => probe.judge(seen.probed.unwrap_or(&Probed::default())),
            Kind::Loss { message, node, below } => {
                let (sent, lost) = (summed(&report.sent, *message, *node), summed(&report.lost, *message, *node));
                let share = 100.0 * lost as f64 / sent.max(1) as f64;
                let failed = if sent == 0 { Some(Reason::NoneSent) } else { unless(share < *below, Reason::Lost) };
                (failed, format!("{lost} of {sent} lost, {share:.2} %"))
            }
            Kind::Recovery { within, at } => match report.recovery.get(&at.node()).filter(|all| all.times > 0) {
                None => (None, format!("nothing was broken {at}")),
                Some(all) => {
                    let slowest = all.slowest as f64 / 1e6;
                    let found = format!("{} times {at}, the slowest after {slowest:.3} ms", all.times);
                    (unless(all.slowest <= *within, Reason::SlowRecovery), found)
                }
            },
            Kind::Busy { below } => {
                let share = 100.0 * report.busy as f64 / report.ended.max(1) as f64;
                (unless(share < *below, Reason::Busy), format!("busy for {share:.2} % of the time"))
            }
            Kind::Count { bound, message, node, at } => {
                let found = summed(&report.received, *message, *node);
                let failed = match bound {
                    Bound::AtLeast(count) if found >= *count => None,
                    Bound::AtLeast(count) if summed(&report.sent, *message, *node) < *count => Some(Reason::TooFewSent),
                    Bound::AtLeast(_) => Some(Reason::Lost),
                    Bound::AtMost(count) => unless(found <= *count, Reason::TooMany),
                };
                (failed, format!("{found} received {at}"))
            }
            Kind::Answered { message, within, share } => {
                match report.answers.get(message).filter(|all| all.asked > 0) {
                    None => (Some(Reason::NoneSent), "none was sent".to_owned()),
                    Some(all) => {
                        let in_time = all.within.get(within).copied().unwrap_or(0);
                        let never = all.asked - all.answered;
                        let slowest = all
                            .slowest
                            .map_or_else(String::new, |time| format!(", slowest after {:.3} ms", time as f64 / 1e6));
                        let found = format!("{} sent, {in_time} in time, {never} never answered{slowest}", all.asked);
                        let reason = if never > 0 { Reason::Unanswered } else { Reason::Late };
                        (unless(in_time as f64 >= share * all.asked as f64, reason), found)
                    }
                }
            }
            Kind::NoWrongValue => {
                let compared = (report.host.good + report.device().good).saturating_sub(report.not_compared);
                let others = match report.not_compared {
                    0 => String::new(),
                    others => format!("; {others} of programs and recordings cannot be compared"),
                };
                let differ = report.wrong;
                let found = format!("{compared} good frames compared with what was sent, {differ} differ{others}");
                (unless(differ == 0, Reason::WrongValue), found)
            }
            Kind::AtMost { quantity: what, most, at } => {
                let heard = at.heard(report);
                let count = what.count(heard);
                let found = match what {
                    Quantity::Broken => format!("{count} broken {at}"),
                    Quantity::Unread => format!("{count} unread {at}"),
                    Quantity::Gaps => format!("{count} found {at}, with {} numbers left out", heard.missing),
                };
                (unless(count <= *most, Reason::TooMany), found)
            }
        };
        let at = failed.and_then(|_| self.witness(report, seen));
        Verdict { sentence: self.sentence.clone(), failed, found, at }
    }
}

/// A reason, unless it held.
fn unless(held: bool, reason: Reason) -> Option<Reason> {
    (!held).then_some(reason)
}

/// How many of a message, and of a node if one is named.
fn summed(counts: &Counts, message: MessageNumber, node: Option<u64>) -> u64 {
    let fits = |key: &(MessageNumber, u64)| key.0 == message && node.is_none_or(|node| key.1 == node);
    counts.iter().filter(|(key, _)| fits(key)).map(|(_, count)| count).sum()
}
