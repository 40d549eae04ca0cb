//! What is right of a definition in which some messages are not.

use std::collections::BTreeSet;

use crate::diagnostics::Finding;
use crate::plan::Plan;
use crate::resolve::resolve;
use crate::syntax::ast::{File, Name};

/// Each round may break messages that need those of the round before. More rounds than this are not worth their time.
const MAX_ROUNDS: usize = 16;

/// A definition without the messages in which its errors lie.
#[derive(Debug)]
pub struct PartialDefinition {
    /// The link without them.
    pub plan: Plan,
    /// Their names, and those of messages that need them.
    pub without: BTreeSet<String>,
}

/// Leaves messages out until no error is left; `None` if one lies elsewhere, or no message is right. `read` are the findings of reading.
pub(crate) fn apart(mut file: File, read: &[Finding]) -> Option<PartialDefinition> {
    let items = items(&file);
    // An item reaches up to the next one.
    let message_of = |finding: &Finding| {
        let behind = items.partition_point(|(start, _)| *start <= finding.span.start);
        items.get(behind.checked_sub(1)?)?.1.clone()
    };
    let mut without = BTreeSet::new();
    let (_, mut findings) = resolve(&file, read.to_vec());
    for _ in 0..MAX_ROUNDS {
        let before = without.len();
        for error in findings.iter().filter(|finding| finding.is_error()) {
            without.insert(message_of(error)?);
        }
        file.messages.retain(|message| !without.contains(&message.name.text));
        if without.len() == before || file.messages.is_empty() {
            return None;
        }
        let kept = read.iter().filter(|finding| message_of(finding).is_none_or(|name| !without.contains(&name)));
        let (plan, next) = resolve(&file, kept.cloned().collect());
        if let Some(plan) = plan {
            return Some(PartialDefinition { plan, without });
        }
        findings = next;
    }
    None
}

/// Where each item's name begins, in order; with the names of messages.
fn items(file: &File) -> Vec<(usize, Option<String>)> {
    let start = |name: &Name| name.span.start;
    let mut all: Vec<(usize, Option<String>)> = file.imports.iter().map(|item| (item.span.start, None)).collect();
    all.extend(file.links.iter().map(|item| (start(&item.name), None)));
    all.extend(file.labelled.iter().map(|item| (start(&item.name), None)));
    all.extend(file.records.iter().map(|item| (start(&item.name), None)));
    all.extend(file.tables.iter().map(|item| (start(&item.name), None)));
    all.extend(file.channels.iter().map(|item| (start(&item.name), None)));
    all.extend(file.messages.iter().map(|item| (start(&item.name), Some(item.name.text.clone()))));
    all.sort();
    all
}
