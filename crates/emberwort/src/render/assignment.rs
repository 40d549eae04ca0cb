//! Why bytes belong to a channel, or to none: in the words of the options that say it.

use emberwort_capture::assign::{AssignmentReason, Unassigned};

/// Why bytes belong to their channel.
pub fn because(reason: AssignmentReason) -> String {
    match reason {
        AssignmentReason::Said => "--on says so".to_owned(),
        AssignmentReason::Rule(number) => format!("rule {} of --assign says so", number + 1),
        reason => reason.to_string(),
    }
}

/// Why packets belong to no channel, with the options that would give them one.
pub fn unassigned(reason: Unassigned) -> String {
    match reason {
        Unassigned::Serial => format!("{reason} (--on, --assign)"),
        reason => reason.to_string(),
    }
}
