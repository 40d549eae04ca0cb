//! What a trial is about, by name.

use emberwort_link::{MessageNumber, TrialDefinitionId};
use emberwort_link::{Report, Scenario};
use emberwort_model::plan::Channel;

/// The channel as the link's own definition has it.
pub fn channel(scenario: &Scenario) -> &Channel {
    let own = scenario.definitions.get(TrialDefinitionId::default());
    &own.plan.channels[own.channel]
}

/// Message and node of every kind of frame that was sent, in the order of the definition.
pub fn kinds(report: &Report) -> impl Iterator<Item = (MessageNumber, u64)> {
    report.sent.keys().copied()
}
