//! What an end does, read by its definition.

use std::sync::Arc;

use emberwort_model::Plan;
use emberwort_model::ids::{ChannelId, MessageId};
use emberwort_model::model::End;
use emberwort_model::plan::Role;
use emberwort_text::row::RowHeader;
use emberwort_text::{Filling, GivenValue, fill};
use emberwort_wire::Values;
use serde_json::{Map, Value as Json};

use super::problem::{ScenarioError, content};
use crate::definitions::{Definitions, Revisions, TrialDefinitionId};
use crate::file_words::{index, with_null};

/// The definition of an end, by index, and the revision that it has: as it was said, else as the file says, else the link's own.
pub(super) fn definition(
    at: &str,
    said: Option<&Arc<Plan>>,
    in_file: Option<u32>,
    revisions: &Revisions,
    definitions: &mut Definitions,
) -> Result<(TrialDefinitionId, u32), ScenarioError> {
    let own = definitions.own().clone();
    let newest = own.link.revision;
    let revision = in_file.filter(|_| said.is_none()).unwrap_or(newest);
    let plan = match said.or_else(|| revisions.sealed.get(&revision).filter(|_| revision != newest)) {
        Some(plan) => plan,
        None if (1..=newest).contains(&revision) => return Ok((TrialDefinitionId::default(), revision)),
        None => {
            return content(
                at,
                format!("{revision} is not sealed, and does not lie between 1 and {newest}, the link's own"),
            );
        }
    };
    match definitions.add(plan) {
        Some(index) => Ok((index, plan.link.revision)),
        None => {
            let channel = &own.channels[definitions.get(TrialDefinitionId::default()).channel].name;
            content(at, format!("revision {} has no channel `{channel}`", plan.link.revision))
        }
    }
}

/// Reads what an end does, by its definition.
pub(super) struct Reader<'a> {
    pub plan: &'a Plan,
    pub channel: ChannelId,
    pub index: TrialDefinitionId,
    /// The link's own definition.
    pub own: &'a Plan,
}

impl<'a> Reader<'a> {
    pub fn of(definitions: &'a Definitions, index: TrialDefinitionId) -> Self {
        let definition = definitions.get(index);
        Self { plan: &definition.plan, channel: definition.channel, index, own: definitions.own() }
    }

    /// Something that is wrong with what an end does.
    pub fn wrong<T>(&self, at: &str, problem: String) -> Result<T, ScenarioError> {
        match self.index {
            own if own == TrialDefinitionId::default() => content(at, problem),
            _ => content(at, format!("in revision {}, {problem}", self.plan.link.revision)),
        }
    }

    /// Whether a field that this definition does not have is one of the link's own: a signal is a thing of the world, and an
    /// older device does not measure it.
    pub(crate) fn came_later(&self, message: &str, field: Option<&str>) -> bool {
        let message = self.own.message_index(message).map(|index| &self.own.messages[index].message);
        message.is_some_and(|message| field.is_none_or(|field| message.field(field).is_some()))
    }

    pub fn message(&self, at: &str, name: &str, from: End) -> Result<MessageId, ScenarioError> {
        let names = self.plan.messages.iter().map(|plan| plan.message.name.as_str());
        let index = index("message", name, names).map(MessageId::new).or_else(|problem| self.wrong(at, problem))?;
        let message = &self.plan.messages[index].message;
        let channel = &self.plan.channels[self.channel];
        if message.from != from {
            return self.wrong(
                at,
                format!("`{name}` comes from the {}, not from the {}", message.from.as_str(), from.as_str()),
            );
        }
        if !channel.carries(index) {
            return self.wrong(at, format!("`{name}` does not travel on `{}`", channel.name));
        }
        Ok(index)
    }

    /// Whether frames of a message can say this node; where they say none, there is nothing to say.
    pub(crate) fn node_fits(&self, at: &str, node: u64, message: MessageId) -> Result<(), ScenarioError> {
        let channel = self.plan.channels[self.channel].direction(self.plan.messages[message].message.from);
        let says = channel.nodes_of(message).is_some() || channel.part(|role| *role == Role::Address).is_some();
        let header = RowHeader { node: says.then_some(node), ..RowHeader::default() };
        header.fits(channel, message).or_else(|problem| content(at, problem))
    }

    /// Values of a message: those given, and the rest of the others.
    pub fn values(&self, at: &str, message: MessageId, fields: &Map<String, Json>) -> Result<Values, ScenarioError> {
        fill_with_rest(self.plan, message, fields).or_else(|problem| self.wrong(at, problem))
    }
}

/// Values of a message: those given, and the rest of the others.
pub(crate) fn fill_with_rest(plan: &Plan, message: MessageId, fields: &Map<String, Json>) -> Result<Values, String> {
    let compiled = &plan.messages[message];
    let fields: Map<String, Json> = fields
        .iter()
        .map(|(name, value)| {
            let field = compiled.message.field(name);
            (name.clone(), field.map_or_else(|| value.clone(), |(_, field)| with_null(value, field)))
        })
        .collect();
    let mut values = Values::new(compiled);
    // A first look at the given values alone: all that is missing is filled below.
    let filling = Filling::of(plan);
    let given = || fields.iter().map(|(name, value)| (name.as_str(), GivenValue::Json(value)));
    if let Err(problems) = fill(compiled, given(), filling, &mut values) {
        let real: Vec<String> =
            problems.iter().filter(|problem| fields.contains_key(&problem.field)).map(ToString::to_string).collect();
        if !real.is_empty() {
            return Err(real.join("; "));
        }
    }
    for (slot, field) in compiled.message.fields.iter().enumerate() {
        if !field.is_spare() && !fields.contains_key(&field.name) {
            crate::signal::rest_in(&compiled.message.fields, field, slot, 0, &mut values);
        }
    }
    Ok(values)
}
