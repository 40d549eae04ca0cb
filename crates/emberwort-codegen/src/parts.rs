//! Which parts of a link a generated file is for.

use emberwort_model::Plan;
use emberwort_model::model::{End, Message};
use emberwort_model::plan::Direction;

use crate::GenerateError;

/// Which parts of a link are generated: all of them, if nothing is said.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Parts {
    /// The end that the code is for: it sends what that end sends, and receives what the other one does. Without it both.
    pub role: Option<End>,
    /// The names of the messages; all of them, if none is named.
    pub messages: Vec<String>,
    /// The names of the channels; all of them, if none is named.
    pub channels: Vec<String>,
    /// The names of the messages that are sent, where these or [`Self::receive`] are said in place of a role.
    pub send: Vec<String>,
    /// The names of the messages that are received.
    pub receive: Vec<String>,
    /// Whether messages are only viewed and changed where they lie, so that there are no structs of their values.
    pub views_only: bool,
    /// Whether code is to be small rather than fast.
    pub small: bool,
    /// Whether enums are `enum` types of the language, rather than integers with constants.
    pub typed_enums: bool,
    /// What all names begin with, in place of the link's name.
    pub prefix: Option<String>,
}

impl Parts {
    /// Whether this is the whole link.
    pub fn are_all(&self) -> bool {
        *self == Self::default()
    }

    /// Whether all of the link is there, for both ends, however it is written.
    pub(crate) fn are_whole(&self) -> bool {
        let Self { role, messages, channels, send, receive, views_only, small: _, typed_enums: _, prefix: _ } = self;
        let chosen = [messages, channels, send, receive];
        role.is_none() && !views_only && chosen.iter().all(|names| names.is_empty())
    }

    /// That all names are those of the link.
    ///
    /// # Errors
    /// If one is not.
    pub fn check(&self, plan: &Plan) -> Result<(), GenerateError> {
        let messages: Vec<&str> = plan.messages.iter().map(|message| message.message.name.as_str()).collect();
        let channels: Vec<&str> = plan.channels.iter().map(|channel| channel.name.as_str()).collect();
        for (what, names, known) in [
            ("message", &self.messages, &messages),
            ("message", &self.send, &messages),
            ("message", &self.receive, &messages),
            ("channel", &self.channels, &channels),
        ] {
            if let Some(name) = names.iter().find(|name| !known.contains(&name.as_str())) {
                let (name, known) = (name.clone(), known.join(", "));
                return Err(GenerateError::Unknown { what, name, known });
            }
        }
        Ok(())
    }

    /// Whether messages are named one by one as sent or received.
    fn lists_directions(&self) -> bool {
        !self.send.is_empty() || !self.receive.is_empty()
    }

    /// Whether there is code for a message.
    pub(crate) fn has_message(&self, name: &str) -> bool {
        let is_in = |names: &[String]| names.iter().any(|wanted| wanted == name);
        (self.messages.is_empty() || is_in(&self.messages))
            && (!self.lists_directions() || is_in(&self.send) || is_in(&self.receive))
    }

    /// Whether this code sends a message.
    pub(crate) fn sends_message(&self, message: &Message) -> bool {
        let is_sent = match self.lists_directions() {
            true => self.send.contains(&message.name),
            false => self.sends(Some(message.from)),
        };
        is_sent && self.has_message(&message.name)
    }

    /// Whether this code receives a message.
    pub(crate) fn receives_message(&self, message: &Message) -> bool {
        let is_received = match self.lists_directions() {
            true => self.receive.contains(&message.name),
            false => self.receives(Some(message.from)),
        };
        is_received && self.has_message(&message.name)
    }

    /// Whether this code sends frames as an end sends them on a channel.
    pub(crate) fn sends_frames(&self, plan: &Plan, direction: &Direction, from: Option<End>) -> bool {
        let mut carried = direction.keys.iter().map(|(_, message)| &plan.messages[*message].message);
        if self.lists_directions() { carried.any(|message| self.sends_message(message)) } else { self.sends(from) }
    }

    /// Whether this code receives frames as an end sends them on a channel.
    pub(crate) fn receives_frames(&self, plan: &Plan, direction: &Direction, from: Option<End>) -> bool {
        let mut carried = direction.keys.iter().map(|(_, message)| &plan.messages[*message].message);
        if self.lists_directions() {
            carried.any(|message| self.receives_message(message))
        } else {
            self.receives(from)
        }
    }

    /// Whether there is code for a channel.
    pub(crate) fn has_channel(&self, name: &str) -> bool {
        self.channels.is_empty() || self.channels.iter().any(|wanted| wanted == name)
    }

    /// Whether what an end sends is sent by this code. Of frames that are the same from both ends it is.
    fn sends(&self, from: Option<End>) -> bool {
        from.is_none() || self.role.is_none() || self.role == from
    }

    /// Whether what an end sends is received by this code.
    fn receives(&self, from: Option<End>) -> bool {
        from.is_none() || self.role.is_none() || self.role != from
    }
}
