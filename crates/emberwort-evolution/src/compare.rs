//! Comparing two revisions.

use crate::alone::{acquit, uncover};
use crate::comparison::Comparison;
use crate::revision::Revision;
use crate::trying::tried;

/// Finds what differs between two revisions, and what that does.
pub fn compare(old: &Revision, new: &Revision) -> Comparison {
    let mut comparison = tried(old, new);
    uncover(old, new, &mut comparison);
    acquit(old, new, &mut comparison);
    comparison
}
