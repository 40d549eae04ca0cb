//! The form in which a message is filled and sent.

use std::sync::Arc;

use emberwort_model::Plan;
use emberwort_model::ids::{ChannelId, MessageId};
use emberwort_model::model::{End, Field, Kind};
use emberwort_text::{Filling, GivenValue, RowHeader, fill};
use emberwort_wire::frame::body_on;
use emberwort_wire::{Framed as _, Values};

use crate::commands::live::numbers::Numbers;

/// A message that is filled in.
pub struct Form {
    plan: Arc<Plan>,
    channel: ChannelId,
    /// The messages that can be sent, by index.
    messages: Vec<MessageId>,
    chosen: usize,
    /// The node, and the values of the fields, as they are typed.
    pub lines: Vec<Line>,
    pub at: usize,
    pub notice: String,
}

/// A line of the form.
pub struct Line {
    pub name: String,
    pub text: String,
    /// What can stand there.
    pub hint: String,
}

/// What can stand in a field, in a few words.
fn hint(field: &Field) -> String {
    let optional = if field.optional || field.default.is_some() { ", may be empty" } else { "" };
    let what = match &field.kind {
        Kind::Number(form) | Kind::Varint(form) => {
            let text = |raw| {
                let mut text = String::new();
                // Writing to memory cannot fail.
                let _ = form.scaling.write(raw, &mut text);
                text
            };
            let (low, high) = (text(form.low), text(form.high));
            format!("{low} .. {high} {}", field.unit)
        }
        Kind::Enum { labels, .. } => {
            let names: Vec<&str> = labels.labels.iter().map(|label| label.name.as_str()).collect();
            names.join(" ")
        }
        Kind::Flags(flags) => {
            let names: Vec<&str> = flags.labels.iter().map(|label| label.name.as_str()).collect();
            format!("any of: {}", names.join(","))
        }
        Kind::Bool => "true or false".to_owned(),
        Kind::Float(_) => format!("a number {}", field.unit),
        Kind::Text { .. } => "text".to_owned(),
        _ => "JSON, as in rows".to_owned(),
    };
    format!("{}{optional}", what.trim_end())
}

impl Form {
    /// A form for the messages of the host on a channel, to a node; `None` if there are none.
    pub fn new(plan: &Arc<Plan>, channel: ChannelId, node: u64) -> Option<Self> {
        let sent = |index: &MessageId| {
            let compiled = &plan.messages[*index];
            compiled.message.from == End::Host && plan.channels[channel].carries(*index)
        };
        let messages: Vec<MessageId> = plan.message_ids().map(|(index, _)| index).filter(sent).collect();
        if messages.is_empty() {
            return None;
        }
        let plan = plan.clone();
        let mut form = Self { plan, channel, messages, chosen: 0, lines: Vec::new(), at: 0, notice: String::new() };
        form.fill_lines(node.to_string());
        Some(form)
    }

    /// The name of the message.
    pub fn message(&self) -> &str {
        &self.plan.messages[self.messages[self.chosen]].message.name
    }

    /// The next or the previous message.
    pub fn turn(&mut self, forward: bool) {
        let count = self.messages.len();
        self.chosen = (self.chosen + if forward { 1 } else { count - 1 }) % count;
        let node = self.lines.first().map_or_else(String::new, |line| line.text.clone());
        self.fill_lines(node);
    }

    fn fill_lines(&mut self, node: String) {
        let message = &self.plan.messages[self.messages[self.chosen]].message;
        let node = Line { name: "(node)".into(), text: node, hint: "to which device".into() };
        let fields = message.fields.iter().filter(|field| !field.is_spare() && !field.counter);
        let lines = fields.map(|field| Line { name: field.name.clone(), text: String::new(), hint: hint(field) });
        self.lines = std::iter::once(node).chain(lines).collect();
        (self.at, self.notice) = (0, String::new());
    }

    pub fn type_in(&mut self, c: char) {
        if let Some(line) = self.lines.get_mut(self.at) {
            line.text.push(c);
        }
    }

    pub fn erase(&mut self) {
        if let Some(line) = self.lines.get_mut(self.at) {
            line.text.pop();
        }
    }

    /// The frame of what is filled in, with the next number of its node. Returns both, too.
    ///
    /// # Errors
    /// What is wrong with it.
    pub fn frame(&self, numbers: &Numbers) -> Result<(Vec<u8>, u64, u64), String> {
        let message = self.messages[self.chosen];
        let compiled = &self.plan.messages[message];
        let node: u64 = match self.lines.first().map(|line| line.text.trim()) {
            None | Some("") => 0,
            Some(text) => text.parse().map_err(|_| format!("the node `{text}` is not a whole number"))?,
        };
        let given = self.lines.iter().skip(1).filter(|line| !line.text.is_empty());
        let given = given.map(|line| (line.name.as_str(), GivenValue::Text(&line.text)));
        let mut values = Values::default();
        fill(compiled, given, Filling::of(&self.plan), &mut values)
            .map_err(|problems| problems.first().map_or_else(String::new, ToString::to_string))?;
        let direction = self.plan.channels[self.channel].direction(End::Host);
        let revision = self.plan.link.revision;
        let mut body = Vec::new();
        body_on(direction, compiled, &values, revision, &mut body).map_err(|error| error.to_string())?;
        let has_node = direction.nodes_of(message).is_some()
            || direction.part(|role| *role == emberwort_model::plan::Role::Address).is_some();
        let header = RowHeader { node: has_node.then_some(node), ..RowHeader::default() };
        header.fits(direction, message)?;
        let mut header = header.header(direction, message, revision);
        header.sequence = numbers.next(header.node);
        let mut frame = Vec::new();
        self.plan.channels[self.channel]
            .framing(End::Host)
            .encode(&header, &body, &mut frame)
            .map_err(|error| error.to_string())?;
        Ok((frame, header.node, header.sequence))
    }
}
