//! Frames inside of messages: that they end, and that they fit.

use std::collections::HashSet;

use super::Resolver;
use crate::diagnostics::{Code, Finding};
use crate::ids::{ChannelId, MessageId};
use crate::model::Kind;
use crate::plan::Plan;

impl Resolver<'_> {
    /// Reports frames that can carry themselves: no reader could tell where they end.
    pub(super) fn endless_nesting(&mut self, plan: &Plan) {
        let file = self.file;
        let on = |message: MessageId, channel: ChannelId| plan.messages[message].message.channels.contains(&channel);
        // Which channels' frames the frames of each channel can carry.
        let mut carries: Vec<HashSet<ChannelId>> = vec![HashSet::new(); plan.channels.len()];
        let mut nested_frames = Vec::new();
        for ((index, compiled), item) in plan.message_ids().zip(&file.messages) {
            let items = item.sections.iter().flat_map(|section| &section.fields);
            for (field, field_item) in compiled.message.fields.iter().zip(items) {
                if let Kind::NestedFrame { channel, .. } = field.kind {
                    nested_frames.push((index, channel, field_item.ty_span));
                    for outer in &compiled.message.channels {
                        carries[outer.index()].insert(channel);
                    }
                }
            }
        }
        for (message, inner, span) in nested_frames {
            let mut seen = HashSet::from([inner]);
            let mut open = vec![inner];
            while let Some(channel) = open.pop() {
                open.extend(carries[channel.index()].iter().filter(|next| seen.insert(**next)));
            }
            if let Some(outer) =
                plan.channel_ids().map(|(outer, _)| outer).find(|outer| on(message, *outer) && seen.contains(outer))
            {
                self.report(Finding::new(
                    Code::EndlessNesting,
                    span,
                    format!(
                        "this frame can carry frames of `{}`, on which the message itself travels",
                        plan.channels[outer].name
                    ),
                    "take the message off that channel, or let it carry frames of a channel that has none inside",
                ));
            }
        }
    }

    /// Nested frames through which not all frames of the inner channel pass.
    pub(super) fn long_nested_frames(&mut self, plan: &Plan) {
        let file = self.file;
        for (compiled, item) in plan.messages.iter().zip(&file.messages) {
            let items = item.sections.iter().flat_map(|section| &section.fields);
            for (field, field_item) in compiled.message.fields.iter().zip(items) {
                let Kind::NestedFrame { channel, .. } = field.kind else { continue };
                let inner = &plan.channels[channel];
                let direction = inner.direction(compiled.message.from);
                let room = compiled.rest_bytes;
                let mut too_long = HashSet::new();
                for (_, message) in &direction.keys {
                    if direction.frame_size(plan.messages[*message].greatest_size()) > room {
                        too_long.insert(*message);
                    }
                }
                if !too_long.is_empty() {
                    let mut names: Vec<&str> =
                        too_long.iter().map(|message| plan.messages[*message].message.name.as_str()).collect();
                    names.sort_unstable();
                    let message = format!(
                        "{room} bytes are left for a frame of `{}`, and the longest of {} are longer",
                        inner.name,
                        names.join(", ")
                    );
                    let help = "the longest of them cannot be carried; shorten them, or widen the field";
                    self.report(Finding::new(Code::NestedFrameTooLong, field_item.ty_span, message, help));
                }
            }
        }
    }
}
