//! What must hold in a trial: sentences, and whether a report bears them out.

use std::fmt;

use emberwort_model::model::End;

use crate::Nanoseconds;
use crate::definitions::Definitions;
use crate::file_words::duration;
use crate::report::{Heard, Report, Verdict};

/// One thing that must hold.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Expectation {
    /// The sentence as written.
    pub sentence: String,
    kind: Kind,
}

#[derive(Clone, Debug, PartialEq, Eq)]
enum Kind {
    Count { bound: Bound, message: usize, node: Option<u64>, at: String },
    Answered { message: usize, within: Nanoseconds },
    NoWrongValue,
    AtMost { what: What, most: u64, at: Place },
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Bound {
    AtLeast(u64),
    AtMost(u64),
}

/// What is counted of all that one side received.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum What {
    Broken,
    Unread,
    Gaps,
}

/// Where something is received.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Place {
    Host,
    Device(u64),
}

impl Place {
    fn heard(self, report: &Report) -> Heard {
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
    MESSAGE answered within 50 ms · no good frame with a wrong value · broken frames at most N · unread frames at most N · \
    counter gaps at most N; after a count: at the host, at device K";

impl Expectation {
    /// Reads a sentence about what the host (its definition by index) and the devices (by node) do.
    ///
    /// # Errors
    /// What is wrong with it, and what can be written.
    pub fn parse(sentence: &str, definitions: &Definitions, host: usize, nodes: &[u64]) -> Result<Self, String> {
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
        let kind = match words {
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
            [message, "answered", "within", amount, unit] if place.is_none() => {
                let number = definitions.number_of(message)?;
                let asked = definitions.get(host).plan.link.messages.iter().find(|asked| asked.name == *message);
                if asked.is_none_or(|asked| asked.answered_by.is_empty()) {
                    return Err(format!("the definition does not say what answers `{message}`: {sentence}"));
                }
                Kind::Answered { message: number, within: duration(&format!("{amount} {unit}"))? }
            }
            ["no", "good", "frame", "with", "a", "wrong", "value"] if place.is_none() => Kind::NoWrongValue,
            [first, second, "at", "most", count] => {
                let what = match (*first, *second) {
                    ("counter", "gaps") => What::Gaps,
                    ("broken", "frames") => What::Broken,
                    ("unread", "frames") => What::Unread,
                    _ => return Err(unreadable()),
                };
                Kind::AtMost { what, most: number(count)?, at: place.unwrap_or(Place::Host) }
            }
            _ => return Err(unreadable()),
        };
        Ok(Self { sentence: sentence.to_owned(), kind })
    }

    /// The message (by number) and the time within which it must be answered, if this is about that.
    pub(crate) fn answer_time(&self) -> Option<(usize, Nanoseconds)> {
        match self.kind {
            Kind::Answered { message, within } => Some((message, within)),
            _ => None,
        }
    }

    /// Whether it held.
    pub fn judge(&self, report: &Report) -> Verdict {
        let (held, found) = match &self.kind {
            Kind::Count { bound, message, node, at } => {
                let counted = |key: &(usize, u64)| key.0 == *message && node.is_none_or(|node| key.1 == node);
                let counts = report.received.iter().filter(|(key, _)| counted(key));
                let found: u64 = counts.map(|(_, count)| count).sum();
                let held = match bound {
                    Bound::AtLeast(count) => found >= *count,
                    Bound::AtMost(count) => found <= *count,
                };
                (held, format!("{found} received {at}"))
            }
            Kind::Answered { message, within } => match report.answers.get(message).filter(|all| all.asked > 0) {
                None => (false, "none was sent".to_owned()),
                Some(all) => {
                    let in_time = all.within.get(within).copied().unwrap_or(0);
                    let never = all.asked - all.answered;
                    let slowest = all
                        .slowest
                        .map_or_else(String::new, |time| format!(", slowest after {:.3} ms", time as f64 / 1e6));
                    let found = format!("{} sent, {in_time} in time, {never} never answered{slowest}", all.asked);
                    (in_time == all.asked, found)
                }
            },
            Kind::NoWrongValue => {
                let compared = report.host.good + report.device().good;
                (
                    report.wrong == 0,
                    format!("{compared} good frames compared with what was sent, {} differ", report.wrong),
                )
            }
            Kind::AtMost { what, most, at } => {
                let heard = at.heard(report);
                match what {
                    What::Broken => (heard.broken <= *most, format!("{} broken {at}", heard.broken)),
                    What::Unread => (heard.unread <= *most, format!("{} unread {at}", heard.unread)),
                    What::Gaps => {
                        let found = format!("{} found {at}, with {} numbers left out", heard.gaps, heard.missing);
                        (heard.gaps <= *most, found)
                    }
                }
            }
        };
        Verdict { sentence: self.sentence.clone(), held, found, at: None }
    }
}
