//! Which parts of a link a generated file is for.

use emberwort_model::Plan;
use emberwort_model::model::End;

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
}

impl Parts {
    /// Whether this is the whole link.
    pub fn are_all(&self) -> bool {
        *self == Self::default()
    }

    /// That all names are those of the link.
    ///
    /// # Errors
    /// If one is not.
    pub fn check(&self, plan: &Plan) -> Result<(), GenerateError> {
        let messages: Vec<&str> = plan.messages.iter().map(|message| message.message.name.as_str()).collect();
        let channels: Vec<&str> = plan.channels.iter().map(|channel| channel.name.as_str()).collect();
        for (what, names, known) in [("message", &self.messages, messages), ("channel", &self.channels, channels)] {
            if let Some(name) = names.iter().find(|name| !known.contains(&name.as_str())) {
                let (name, known) = (name.clone(), known.join(", "));
                return Err(GenerateError::Unknown { what, name, known });
            }
        }
        Ok(())
    }

    /// Whether there is code for a message.
    pub fn has_message(&self, name: &str) -> bool {
        self.messages.is_empty() || self.messages.iter().any(|wanted| wanted == name)
    }

    /// Whether there is code for a channel.
    pub fn has_channel(&self, name: &str) -> bool {
        self.channels.is_empty() || self.channels.iter().any(|wanted| wanted == name)
    }

    /// Whether what an end sends is sent by this code. Of frames that are the same from both ends it is.
    pub fn sends(&self, from: Option<End>) -> bool {
        from.is_none() || self.role.is_none() || self.role == from
    }

    /// Whether what an end sends is received by this code.
    pub fn receives(&self, from: Option<End>) -> bool {
        from.is_none() || self.role.is_none() || self.role != from
    }
}
