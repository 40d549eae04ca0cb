//! Revisions from texts.

pub mod edits;

use std::sync::Arc;

use emberwort_evolution::{Revision, folded};
use emberwort_model::{Source, check};

/// A revision of a definition without errors.
pub fn revision(name: &str, text: &str) -> Revision {
    try_revision(name, text).unwrap_or_else(|| {
        panic!("{name}: {:#?}\n{text}", check(&Source::new(name, text)).findings);
    })
}

/// A revision; `None` if the definition has errors.
pub fn try_revision(name: &str, text: &str) -> Option<Revision> {
    let checked = check(&Source::new(format!("{name}.ember"), text));
    let plan = checked.plan?;
    let text = folded(&checked.sources).expect("it was read before");
    Some(Revision { name: name.to_owned(), plan: Arc::new(plan), text })
}
