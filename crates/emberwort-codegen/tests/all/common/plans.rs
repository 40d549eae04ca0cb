//! Links that tests generate code of.

use emberwort_model::{Plan, Source, check};

use crate::plan_of_marlock;

/// Every construct of the language.
pub const WHOLE: &str = include_str!("../../whole.ember");

/// What is rare: odd widths, places, and names.
pub const ODD: &str = include_str!("../../odd.ember");

/// The compiled form of a definition, which has to be right.
pub fn plan(text: &str) -> Plan {
    let checked = check(&Source::new("test.ember", text));
    checked.plan.unwrap_or_else(|| {
        let errors = checked.findings.iter().filter(|finding| finding.is_error());
        panic!("{:#?}\n{text}", errors.map(|finding| (&finding.message, finding.span)).collect::<Vec<_>>())
    })
}

/// The compiled form of the example.
pub fn marlock() -> Plan {
    plan_of_marlock::checked().plan.unwrap()
}
