//! What of one revision is what of another: by name, and where a name is gone on one side and new on the other, by place and form.

use std::collections::HashMap;

use emberwort_model::Plan;
use emberwort_model::ids::{ChannelId, MessageId};
use emberwort_model::model::{End, Field, Kind, Labelled};
use emberwort_model::plan::{Channel, Direction};

/// For each field of a message or record, the index of the one that it is in another revision.
///
/// Fields that only keep their place are nobody's. A field is taken for renamed if its name is gone, and one of a new name has
/// the same place, form and unit.
pub fn fields(from: &[Field], to: &[Field]) -> Vec<Option<usize>> {
    let named = |fields: &[Field], name: &str| fields.iter().position(|field| field.name == name && !field.is_spare());
    // Beyond its name, a field has to be the same in every way.
    let renamed = |(slot, field): (usize, &Field)| {
        let other = to.get(slot)?;
        let alike = !other.is_spare()
            && named(from, &other.name).is_none()
            && same_place(field, other)
            && field.unit == other.unit
            && same_form(&field.kind, &other.kind);
        alike.then_some(slot)
    };
    let each = from.iter().enumerate().map(|(slot, field)| match field.is_spare() {
        true => None,
        false => named(to, &field.name).or_else(|| renamed((slot, field))),
    });
    each.collect()
}

/// Whether two fields stand at the same place of the same section, as far as their own words say it.
pub(crate) fn same_place(one: &Field, other: &Field) -> bool {
    one.since == other.since && one.at == other.at && one.optional == other.optional && one.order == other.order
}

/// Whether two forms are the same but for names and documentation.
fn same_form(one: &Kind, other: &Kind) -> bool {
    match (one, other) {
        (Kind::Enum { labels: a, none: x }, Kind::Enum { labels: b, none: y }) => {
            x == y && a.bits == b.bits && a.labels.len() == b.labels.len()
        }
        (Kind::Flags(a), Kind::Flags(b)) => a.bits == b.bits && a.labels.len() == b.labels.len(),
        _ => one == other,
    }
}

/// What has become of a label.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Label {
    /// It has the same name.
    Same,
    /// It has another name that nothing had before, and its own is gone.
    Renamed,
    /// The code has no label there.
    Unknown,
    /// The code means something else there.
    Other,
}

/// What a code of one revision's labels is in those of another; `None` if it has no label itself.
pub fn label(from: &Labelled, to: &Labelled, code: u64) -> Option<Label> {
    let own = from.label(code)?;
    let Some(there) = to.label(code) else { return Some(Label::Unknown) };
    Some(match own.name == there.name {
        true => Label::Same,
        false if to.named(&own.name).is_none() && from.named(&there.name).is_none() => Label::Renamed,
        false => Label::Other,
    })
}

/// What a channel of one revision is in another.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Counterpart {
    /// Index of the channel there.
    pub channel: ChannelId,
    /// Whether a receiver of the one finds and checks frames of both revisions, from both ends.
    pub framed_alike: bool,
}

/// For each channel of one revision, what it is in another; `None` where there is no such channel.
pub fn counterparts(from: &Plan, to: &Plan) -> Vec<Option<Counterpart>> {
    let framed_alike = |one: &Channel, other: &Channel| {
        [End::Device, End::Host].into_iter().all(|end| {
            let (one, other) = (one.direction(end), other.direction(end));
            same_framing(one, other) && same_sizes(one, other)
        })
    };
    let channels = from.channels.iter().map(|own| {
        let channel = counterpart(own, from, to)?;
        Some(Counterpart { channel, framed_alike: framed_alike(own, &to.channels[channel]) })
    });
    channels.collect()
}

/// Whether frames whose key alone says how long they are have the same length for each key that both know.
fn same_sizes(one: &Direction, other: &Direction) -> bool {
    let size = |channel: &Direction, key: u64| {
        let at = channel.keys.iter().position(|(own, _)| *own == key)?;
        channel.body_sizes.get(at).copied()
    };
    one.keys.iter().all(|(key, _)| match (size(one, *key), size(other, *key)) {
        (Some(one), Some(other)) => one == other,
        _ => true,
    })
}

/// Which messages and channels of two revisions are the same.
#[derive(Clone, Debug)]
pub struct Matching {
    /// For each message of the one, the index of that in the other.
    pub messages: Vec<Option<MessageId>>,
    /// For each channel of the one, the index of that in the other.
    pub channels: Vec<Option<ChannelId>>,
}

impl Matching {
    /// From one revision to another.
    pub fn of(from: &Plan, to: &Plan) -> Self {
        let channels = from.channels.iter().map(|channel| counterpart(channel, from, to)).collect::<Vec<_>>();
        let names = [from, to].map(names);
        let messages = from.message_ids().map(|(message, _)| message_in(message, (from, to), &names, &channels));
        Self { messages: messages.collect(), channels }
    }
}

fn counterpart(channel: &Channel, from: &Plan, to: &Plan) -> Option<ChannelId> {
    to.channel_index(&channel.name).or_else(|| {
        // Renamed: the same in every way, and neither name is known to the other.
        let renamed = |other: &Channel| from.channel_index(&other.name).is_none() && same_channel(other, channel);
        let mut all = to.channel_ids().filter(|(_, other)| renamed(other));
        let only = all.next()?.0;
        all.next().is_none().then_some(only)
    })
}

/// Whether frames of two channels are found, checked and laid out in the same way, on the same medium.
pub(crate) fn same_channel(one: &Channel, other: &Channel) -> bool {
    one.medium.kind == other.medium.kind
        && same_framings(one, other)
        && [End::Device, End::Host].into_iter().all(|end| {
            let (one, other) = (one.direction(end), other.direction(end));
            one.limit == other.limit && one.selected_by == other.selected_by
        })
}

/// Whether frames of both ends are found, checked and laid out in the same way.
pub(crate) fn same_framings(one: &Channel, other: &Channel) -> bool {
    let is_same = |end: End| same_framing(one.direction(end), other.direction(end));
    one.is_split() == other.is_split() && [End::Device, End::Host].into_iter().all(is_same)
}

/// Whether frames are found, checked and laid out in the same way.
pub(crate) fn same_framing(one: &Direction, other: &Direction) -> bool {
    let bare = |channel: &Direction| {
        let mut bare = channel.clone();
        bare.name.clear();
        bare.doc.clear();
        bare.keys.clear();
        bare.node_bases.clear();
        bare.body_sizes.clear();
        bare.greatest_body = 0;
        bare.limit = 0;
        bare.broadcast = None;
        bare.medium.clone_from(&one.medium);
        // Parts have their own.
        bare.byte_order = one.byte_order;
        for part in &mut bare.parts {
            part.name.clear();
            part.doc.clear();
        }
        bare
    };
    bare(one) == bare(other)
}

/// The messages of a link by their names.
fn names(plan: &Plan) -> HashMap<&str, MessageId> {
    plan.link.message_ids().map(|(index, message)| (message.name.as_str(), index)).collect()
}

fn message_in(
    message: MessageId,
    (from, to): (&Plan, &Plan),
    [from_names, to_names]: &[HashMap<&str, MessageId>; 2],
    channels: &[Option<ChannelId>],
) -> Option<MessageId> {
    let own = &from.link.messages[message];
    to_names.get(own.name.as_str()).copied().or_else(|| {
        // Renamed: under the same key of the same channel stands a message with a new name that is like it.
        let keys = own.channels.iter().filter_map(|channel| {
            let there = channels[channel.index()]?;
            let key = from.channels[*channel].direction(own.from).key_of(message)?;
            to.channels[there].direction(own.from).message_of(key)
        });
        let mut found = keys.filter(|other| {
            let other = &to.link.messages[*other];
            !from_names.contains_key(other.name.as_str()) && other.from == own.from && alike(&own.fields, &other.fields)
        });
        found.next().map(MessageId::index).map(MessageId::new)
    })
}

/// Whether at least half of the fields are the same.
fn alike(one: &[Field], other: &[Field]) -> bool {
    let count = |fields: &[Field]| fields.iter().filter(|field| !field.is_spare()).count();
    let shared = fields(one, other).iter().flatten().count();
    shared * 2 >= count(one).max(count(other))
}
