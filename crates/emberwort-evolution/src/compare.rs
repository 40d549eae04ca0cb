//! Comparing two revisions.

use crate::alone::{lower_shared_verdicts, uncover};
use crate::comparison::Comparison;
use crate::revision::Revision;
use crate::trying::tried;

/// Finds what differs between two revisions, and what that does.
pub fn compare(old: &Revision, new: &Revision) -> Comparison {
    let mut comparison = tried(old, new);
    uncover(old, new, &mut comparison);
    lower_shared_verdicts(old, new, &mut comparison);
    comparison
}
