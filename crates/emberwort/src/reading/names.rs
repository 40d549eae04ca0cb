//! Messages and channels by the names that a user gives.

use std::collections::BTreeSet;
use std::path::Path;

use anyhow::bail;
use emberwort_model::Plan;
use emberwort_model::diagnostics::{escaped, nearest};
use emberwort_model::ids::{ChannelId, MessageId};

/// A definition file that stands before or among names, as in `layout pump.ember`, and the names.
pub fn with_definition(names: &[String]) -> (Option<&Path>, Vec<&str>) {
    let is_file = |name: &&str| name.ends_with(".ember");
    let file = names.iter().map(String::as_str).find(is_file).map(Path::new);
    (file, names.iter().map(String::as_str).filter(|name| !is_file(name) || file != Some(Path::new(name))).collect())
}

/// The index of a message by name.
pub fn message_index(plan: &Plan, name: &str) -> anyhow::Result<MessageId> {
    let names = || plan.messages.iter().map(|plan| plan.message.name.as_str());
    match plan.message_index(name) {
        Some(index) => Ok(index),
        None => bail!("{}", unknown("message", name, names().collect())),
    }
}

/// What is asked for must not be among the messages that were left out because of their errors.
pub fn none_left_out(names: &[&str], without: &BTreeSet<String>) -> anyhow::Result<()> {
    match names.iter().find(|name| without.contains(**name)) {
        Some(name) => bail!("nothing can be said of `{}` until its errors are mended", escaped(name)),
        None => Ok(()),
    }
}

/// The index of a channel by name.
pub fn channel_index(plan: &Plan, name: &str) -> anyhow::Result<ChannelId> {
    match plan.channel_index(name) {
        Some(index) => Ok(index),
        None => {
            let names = plan.channels.iter().map(|channel| channel.name.as_str()).collect();
            bail!("{}", unknown("channel", name, names))
        }
    }
}

fn unknown(what: &str, name: &str, known: Vec<&str>) -> String {
    let name_shown = escaped(name);
    match nearest(name, known.iter().copied()) {
        Some(near) => format!("there is no {what} `{name_shown}`; did you mean `{near}`?"),
        None => format!("there is no {what} `{name_shown}`; this link has {}", known.join(", ")),
    }
}
