//! What must hold in a trial: sentences, and whether a report bears them out.

use crate::Nanoseconds;
use crate::definitions::Definitions;
use crate::report::Report;
use crate::scenario::duration;

/// One thing that must hold.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Expectation {
    /// The sentence as written.
    pub sentence: String,
    kind: Kind,
}

#[derive(Clone, Debug, PartialEq, Eq)]
enum Kind {
    AtLeast { count: u64, message: usize, node: Option<u64> },
    AtMost { count: u64, message: usize, node: Option<u64> },
    Answered { message: usize, within: Nanoseconds },
    NoWrongValue,
    GapsAtMost(u64),
    BrokenAtMost(u64),
}

/// Whether an expectation held, and what was found.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Verdict {
    /// The sentence as written.
    pub sentence: String,
    /// Whether it held.
    pub held: bool,
    /// What was found, with the numbers.
    pub found: String,
}

const FORMS: &str = "at least N MESSAGE [from node K] · at most N MESSAGE [from node K] · \
    MESSAGE answered within 50 ms · no good frame with a wrong value · counter gaps at most N · broken frames at most N";

impl Expectation {
    /// Reads a sentence about what the host (its definition by index) and the devices do.
    ///
    /// # Errors
    /// What is wrong with it, and what can be written.
    pub fn parse(sentence: &str, definitions: &Definitions, host: usize) -> Result<Self, String> {
        let words: Vec<&str> = sentence.split_whitespace().collect();
        let number =
            |word: &str| word.parse::<u64>().map_err(|_| format!("`{word}` is no whole number in: {sentence}"));
        let kind = match words.as_slice() {
            ["at", which @ ("least" | "most"), count, message, rest @ ..] => {
                let node = match rest {
                    [] => None,
                    ["from", "node", node] => Some(number(node)?),
                    _ => return Err(format!("this cannot be read: {sentence}\nwrite one of: {FORMS}")),
                };
                let (count, message) = (number(count)?, definitions.number_of(message)?);
                if *which == "least" {
                    Kind::AtLeast { count, message, node }
                } else {
                    Kind::AtMost { count, message, node }
                }
            }
            [message, "answered", "within", amount, unit] => {
                let number = definitions.number_of(message)?;
                let asked = definitions.get(host).plan.link.messages.iter().find(|asked| asked.name == *message);
                if asked.is_none_or(|asked| asked.answered_by.is_empty()) {
                    return Err(format!("the definition does not say what answers `{message}`: {sentence}"));
                }
                Kind::Answered { message: number, within: duration(&format!("{amount} {unit}"))? }
            }
            ["no", "good", "frame", "with", "a", "wrong", "value"] => Kind::NoWrongValue,
            ["counter", "gaps", "at", "most", count] => Kind::GapsAtMost(number(count)?),
            ["broken", "frames", "at", "most", count] => Kind::BrokenAtMost(number(count)?),
            _ => return Err(format!("this cannot be read: {sentence}\nwrite one of: {FORMS}")),
        };
        Ok(Self { sentence: sentence.to_owned(), kind })
    }

    /// Whether it held.
    pub fn judge(&self, report: &Report) -> Verdict {
        let received = |message: usize, node: Option<u64>| -> u64 {
            let counts =
                report.received.iter().filter(|((m, n), _)| *m == message && node.is_none_or(|node| *n == node));
            counts.map(|(_, count)| count).sum()
        };
        let (held, found) = match &self.kind {
            Kind::AtLeast { count, message, node } => {
                let found = received(*message, *node);
                (found >= *count, format!("{found} received"))
            }
            Kind::AtMost { count, message, node } => {
                let found = received(*message, *node);
                (found <= *count, format!("{found} received"))
            }
            Kind::Answered { message, within } => {
                let all: Vec<_> = report.answers.iter().filter(|answer| answer.message == *message).collect();
                let late = all.iter().filter(|answer| answer.after.is_none_or(|after| after > *within)).count();
                let never = all.iter().filter(|answer| answer.after.is_none()).count();
                let slowest = all.iter().filter_map(|answer| answer.after).max();
                let slowest =
                    slowest.map_or_else(String::new, |time| format!(", slowest after {:.3} ms", time as f64 / 1e6));
                let found = if all.is_empty() {
                    "none was sent".to_owned()
                } else {
                    format!("{} sent, {} in time, {never} never answered{slowest}", all.len(), all.len() - late)
                };
                (late == 0 && !all.is_empty(), found)
            }
            Kind::NoWrongValue => {
                let wrong = report.wrong.len();
                let compared: u64 = report.host.good + report.device.good;
                (wrong == 0, format!("{compared} good frames compared with what was sent, {wrong} differ"))
            }
            Kind::GapsAtMost(count) => {
                (report.gaps <= *count, format!("{} found, with {} numbers left out", report.gaps, report.missing))
            }
            Kind::BrokenAtMost(count) => (report.host.broken <= *count, format!("{} broken", report.host.broken)),
        };
        Verdict { sentence: self.sentence.clone(), held, found }
    }
}
