//! The sealed revisions of a link: files that are not to change any more, with a digest of the rest in the second line.

use std::collections::BTreeMap;

use emberwort_model::Plan;
use emberwort_model::Source;
use emberwort_model::diagnostics::escaped;
use emberwort_model::hex::hex;
use emberwort_model::plan::Direction;
use emberwort_model::{check, decode_text};
use sha2::{Digest, Sha256};
use thiserror::Error;

use crate::difference::{DifferenceKind, differences};
use crate::outline::Index;

/// One sealed revision.
#[derive(Clone, Debug)]
pub struct Sealed {
    /// Its number.
    pub revision: u32,
    /// The file's text.
    pub text: String,
    /// The day on which it was sealed, as YYYY-MM-DD, if the file says it.
    pub date: String,
    /// What was noted then; may be empty.
    pub note: String,
    /// What it means.
    pub plan: Plan,
}

/// All sealed revisions of a link, and what is wrong with them.
#[derive(Clone, Debug, Default)]
pub struct History {
    /// Those that can be relied on, the oldest first.
    pub revisions: Vec<Sealed>,
    /// What is wrong.
    pub problems: Vec<Problem>,
}

/// What can be wrong with sealed revisions.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum Problem {
    /// The file is not what was sealed.
    #[error("{file} was edited after it was sealed: its digest begins with {found}, and {expected} was written down")]
    Edited {
        /// The file.
        file: String,
        /// The beginning of the digest written down.
        expected: String,
        /// The beginning of its digest now.
        found: String,
    },
    /// Nobody wrote its digest down.
    #[error("{file} has no digest in its second line, so nobody can tell whether it was edited")]
    NoDigest {
        /// The file.
        file: String,
    },
    /// A revision between two others.
    #[error("revision {revision} is missing: {file} was deleted, or never added to version control")]
    Missing {
        /// The revision.
        revision: u32,
        /// The file that it should be.
        file: String,
    },
    /// It cannot be read as a definition.
    #[error("{file} cannot be read: {problem}")]
    Unreadable {
        /// The file.
        file: String,
        /// The first thing that is wrong.
        problem: String,
    },
    /// It holds another revision than its name says.
    #[error("{file} holds revision {found}")]
    Renamed {
        /// The file.
        file: String,
        /// The revision in it.
        found: u32,
    },
}

const MARK: &str = "# Sealed as revision ";

/// The name of a revision's file.
pub fn file_name(link: &str, revision: u32) -> String {
    format!("{link}-r{revision}.ember")
}

/// What stands in front of the digest.
const DIGEST: &str = "# SHA-256 of all other lines: ";

/// The text of a sealed file: a line that says so, the digest of all other lines, then the definition. `date` is YYYY-MM-DD.
pub fn sealed_text(definition: &str, revision: u32, date: &str, note: &str) -> String {
    let note = if note.is_empty() { String::new() } else { format!(": {}", escaped(&note.replace(['\n', '\r'], " "))) };
    let first = format!("{MARK}{revision} on {date}{note}\n");
    let rest = format!("\n{definition}");
    let digest = digest(&[first.as_bytes(), rest.as_bytes()]);
    format!("{first}{DIGEST}{digest}\n{rest}")
}

/// The digest that is written down in a sealed file, and that of what is there.
fn digests(bytes: &[u8]) -> Option<(String, String)> {
    let first = bytes.iter().position(|byte| *byte == b'\n')? + 1;
    let second = first + bytes[first..].iter().position(|byte| *byte == b'\n')? + 1;
    let written = bytes[first..second].strip_prefix(DIGEST.as_bytes())?.trim_ascii_end();
    let found = digest(&[&bytes[..first], &bytes[second..]]);
    Some((String::from_utf8_lossy(written).into_owned(), found))
}

/// SHA-256 (FIPS 180-4) in hex.
fn digest(pieces: &[&[u8]]) -> String {
    let mut sum = Sha256::new();
    for piece in pieces {
        sum.update(piece);
    }
    hex(&sum.finalize()).replace(' ', "").to_lowercase()
}

impl History {
    /// Reads the files of a folder, given by name; those that have nothing to do with the link are left out.
    pub fn of(link: &str, files: &BTreeMap<String, Vec<u8>>) -> Self {
        let mut history = Self::default();
        let number = |name: &str, end: &str| -> Option<u32> {
            let digits = name.strip_prefix(link)?.strip_prefix("-r")?.strip_suffix(end)?;
            digits.parse().ok().filter(|number: &u32| number.to_string() == digits)
        };
        let mut numbers: Vec<u32> = files.keys().filter_map(|name| number(name, ".ember")).collect();
        numbers.sort_unstable();
        let (Some(first), Some(last)) = (numbers.first(), numbers.last()) else { return history };
        // Each revision between them has to be there; of a great gap the first will do.
        for revision in (*first..=*last).take(numbers.len() + 1) {
            let file = file_name(link, revision);
            match files.get(&file) {
                None => history.problems.push(Problem::Missing { revision, file }),
                Some(bytes) => match sealed(revision, &file, bytes) {
                    Ok(sealed) => history.revisions.push(sealed),
                    Err(problem) => history.problems.push(problem),
                },
            }
        }
        history
    }

    /// The last sealed revision.
    pub fn last(&self) -> Option<&Sealed> {
        self.revisions.last()
    }
}

fn sealed(revision: u32, file: &str, bytes: &[u8]) -> Result<Sealed, Problem> {
    let file = file.to_owned();
    let Some((expected, found)) = digests(bytes) else { return Err(Problem::NoDigest { file }) };
    if !expected.eq_ignore_ascii_case(&found) {
        let beginning = |text: &str| text.chars().take(12).collect();
        return Err(Problem::Edited { file, expected: beginning(&expected), found: beginning(&found) });
    }
    let text = match decode_text(bytes.to_vec()) {
        Ok(text) => text,
        Err(error) => return Err(Problem::Unreadable { file, problem: error.0.message }),
    };
    let checked = check(&Source::new(file.as_str(), text.as_str()));
    let Some(plan) = checked.plan else {
        let why = checked.findings.iter().find(|finding| finding.is_error());
        return Err(Problem::Unreadable {
            file,
            problem: why.map_or_else(String::new, |finding| finding.message.clone()),
        });
    };
    if plan.link.revision != revision {
        return Err(Problem::Renamed { file, found: plan.link.revision });
    }
    let said = text.lines().next().and_then(|line| line.strip_prefix(MARK)).and_then(|line| line.split_once(" on "));
    let (date, note) = said.map_or(("", ""), |(_, rest)| rest.split_once(": ").unwrap_or((rest, "")));
    Ok(Sealed { revision, date: date.to_owned(), note: note.to_owned(), plan, text })
}

impl Sealed {
    /// What this revision added to the one before: messages, fields, labels, entries of tables.
    pub fn added(&self, before: Option<&Sealed>) -> Vec<String> {
        use DifferenceKind::*;
        let Some(before) = before else { return Vec::new() };
        let found = differences(&before.plan, &self.plan, [&Index::default(), &Index::default()]);
        let added = [MessageAdded, FieldAdded, FieldInserted, LabelAdded, EntryAdded, ChannelAdded];
        found.into_iter().filter(|one| added.contains(&one.kind)).map(|one| one.place).collect()
    }

    /// The channel with the longest frame, and its bytes.
    pub fn longest_frame(&self) -> Option<(&str, usize)> {
        let each = self.plan.channels.iter().flat_map(|channel| {
            let longest = |direction: &Direction| direction.frame_size(direction.greatest_body);
            channel.directions().map(move |(_, direction)| (channel.name.as_str(), longest(direction)))
        });
        each.max_by_key(|(_, bytes)| *bytes)
    }
}
