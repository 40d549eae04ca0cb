//! What differs between two revisions, piece by piece. What that does to both ends is found out elsewhere, by trying it.

use std::cmp::Ordering;
use std::collections::BTreeSet;
use std::fmt;
use std::sync::Arc;

use emberwort_model::Plan;
use emberwort_model::ids::{ChannelId, MessageId};
use emberwort_model::model::{End, Field, Kind, Labelled, Message, NumberForm, Record, Table, Union};
use emberwort_model::plan::{Channel, Direction, KeySource, Role};

use crate::matching::{self, Matching};
use crate::meaning::Place;
use crate::outline::Index;
use crate::verdict::{Pair, Verdict};

macro_rules! kinds {
    ($($name:ident $text:literal $doc:literal,)*) => {
        /// What kind of difference it is.
        #[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
        pub enum DifferenceKind {
            $(#[doc = $doc] $name,)*
        }

        impl DifferenceKind {
            /// All kinds.
            pub const ALL: &'static [DifferenceKind] = &[$(DifferenceKind::$name,)*];

            /// As it is shown, and as `emberwort.toml` names it.
            pub fn as_str(self) -> &'static str {
                match self {
                    $(DifferenceKind::$name => $text,)*
                }
            }
        }
    };
}

kinds! {
    LinkRenamed "link renamed" "The link has another name.",
    ByteOrder "byte order" "The link's order of bytes and bits.",
    ChannelAdded "channel added" "A channel that was not there.",
    ChannelRemoved "channel removed" "A channel that is gone.",
    ChannelRenamed "channel renamed" "A channel with another name.",
    Medium "medium" "What a channel runs over, or how fast.",
    Framing "framing" "How frames are found, or their parts.",
    Checksum "checksum" "The checksum of a channel's frames.",
    Selection "selection" "What selects the message that a frame carries.",
    Limit "limit" "The longest frame of a channel.",
    MessageAdded "message added" "A message that was not there.",
    MessageRemoved "message removed" "A message that is gone.",
    MessageRenamed "message renamed" "A message with another name.",
    Key "key" "The id, port or CAN identifier that selects a message.",
    Direction "direction" "The end that sends a message.",
    Channels "channels" "The channels that a message travels on.",
    Period "period" "How often a message is sent.",
    Answers "answers" "What answers a message, or how soon.",
    Pattern "pattern" "The line of a text message.",
    FieldAdded "field added" "A field in a section of its own revision.",
    FieldInserted "field inserted" "A field among those that were there.",
    FieldRemoved "field removed" "A field that is gone.",
    FieldRetired "field retired" "A field that only keeps its place.",
    FieldMoved "field moved" "A field at another place.",
    Space "space" "Bits or bytes without a name, or what is left of retired fields.",
    FieldRenamed "field renamed" "A field with another name.",
    Type "type" "A field of another form.",
    Widened "widened" "A number with more bits.",
    Narrowed "narrowed" "A number with fewer bits.",
    Range "range" "The values that a field can have.",
    Step "step" "What one code of a field stands for.",
    Offset "offset" "What the code 0 of a field stands for.",
    Unit "unit" "The unit of a field.",
    NoReading "no reading" "Whether, and with which code, a field says that there is no reading.",
    Length "length" "How many bytes or elements a field can have.",
    Optional "optional" "Whether a field can be left out.",
    Default "default" "What is assumed where the sender does not say it.",
    FieldOrder "field order" "The order of a field's bytes.",
    Forms "forms" "The forms that a value can have.",
    CodeWidth "code width" "The bits of an enum, a flag set or a table's keys.",
    LabelAdded "label added" "A label that was not there.",
    LabelRemoved "label removed" "A label that is gone.",
    LabelRenumbered "label renumbered" "A label with another code.",
    LabelRenamed "label renamed" "A code with another label.",
    EntryAdded "entry added" "An entry of a table that was not there.",
    EntryRemoved "entry removed" "An entry of a table that is gone.",
    EntryRenumbered "entry renumbered" "An entry of a table with another key.",
    EntryRenamed "entry renamed" "A key of a table with another name.",
    Access "access" "Whether an entry can be read or written, or is kept.",
    Extensible "growing" "Whether later revisions may add fields to a record.",
}

impl DifferenceKind {
    /// Whether it can change where everything behind it lies.
    pub(crate) fn moves_bytes(self) -> bool {
        use DifferenceKind::*;
        matches!(
            self,
            ByteOrder
                | FieldInserted
                | FieldRemoved
                | FieldRetired
                | FieldMoved
                | Space
                | Type
                | Widened
                | Narrowed
                | Length
                | Optional
                | FieldOrder
                | Forms
                | CodeWidth
                | Extensible
                | Pattern
        )
    }

    /// Whether it lies in the frame around messages, or in what it runs over.
    pub(crate) fn is_of_channel(self) -> bool {
        use DifferenceKind::*;
        matches!(self, ChannelAdded | ChannelRemoved | ChannelRenamed | Medium | Framing | Checksum | Selection | Limit)
    }

    /// Whether it decides which message a frame is taken for.
    pub(crate) fn is_of_selection(self) -> bool {
        use DifferenceKind::*;
        matches!(self, MessageAdded | MessageRemoved | Key | Direction | Channels | Pattern)
    }
}

/// One thing that differs.
#[derive(Clone, Debug)]
pub struct Difference {
    /// What kind it is.
    pub kind: DifferenceKind,
    /// Where, as people write it: `GateStatus.oil`, `bus485`, `GateState.held`.
    pub place: String,
    /// As it was; empty if it was not there.
    pub old: String,
    /// As it is; empty if it is gone.
    pub new: String,
    /// Of a number with more or fewer bits: how many, and whether its step changed.
    pub width: Option<Width>,
    /// The field or label in both revisions, by the names of each.
    pub(crate) at: [Option<Place>; 2],
    /// The messages that it touches, by index, of both revisions.
    pub(crate) touches: [BTreeSet<MessageId>; 2],
    /// What it does, where no bytes can show it.
    pub(crate) verdicts: Vec<(Pair, Verdict, String)>,
}

/// A number's change of bits, which a range alone does not explain.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Width {
    /// How many bits it had, and has.
    pub bits: [u8; 2],
    /// How its new step compares with the old one: `Less` for a finer one.
    pub step: Ordering,
}

impl Width {
    /// Of a field's two forms; `None` if they are not both numbers of different widths.
    fn of(was: &Kind, is: &Kind) -> Option<Self> {
        let (Kind::Number(a), Kind::Number(b)) = (was, is) else { return None };
        let ((_, old, old_divisor), (_, new, new_divisor)) = (a.scaling.parts(), b.scaling.parts());
        let step = (new * old_divisor).abs().cmp(&(old * new_divisor).abs());
        (a.bits != b.bits).then_some(Self { bits: [a.bits, b.bits], step })
    }
}

impl fmt::Display for Width {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let [old, new] = self.bits;
        write!(f, "{old} → {new} bits")?;
        match self.step {
            Ordering::Less => write!(f, ", finer step"),
            Ordering::Equal => Ok(()),
            Ordering::Greater => write!(f, ", coarser step"),
        }
    }
}

impl Difference {
    /// Its name, and for a number of another width what changed: `GateStatus.oil: widened (12 → 15 bits, finer step)`.
    pub fn heading(&self) -> String {
        match self.width {
            Some(width) => format!("{self} ({width})"),
            None => self.to_string(),
        }
    }
}

/// The name with which it is accepted: `GateStatus.oil: widened`.
impl fmt::Display for Difference {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}: {}", self.place, self.kind.as_str())
    }
}

/// Everything that differs, in the order of the new definition; what is gone stands behind its own kind.
pub fn differences(old: &Plan, new: &Plan, outlines: [&Index<'_>; 2]) -> Vec<Difference> {
    let mut finder = Finder {
        plans: [old, new],
        outlines,
        forth: Matching::of(old, new),
        back: Matching::of(new, old),
        found: Vec::new(),
    };
    finder.link();
    finder.channels();
    finder.labels();
    finder.tables();
    finder.records();
    finder.messages();
    finder.found
}

struct Finder<'a> {
    plans: [&'a Plan; 2],
    outlines: [&'a Index<'a>; 2],
    forth: Matching,
    back: Matching,
    found: Vec<Difference>,
}

type TouchedMessages = [BTreeSet<MessageId>; 2];

impl Finder<'_> {
    fn note(
        &mut self,
        kind: DifferenceKind,
        place: impl Into<String>,
        (old, new): (impl Into<String>, impl Into<String>),
        touches: &TouchedMessages,
    ) -> &mut Difference {
        self.found.push(Difference {
            kind,
            place: place.into(),
            old: old.into(),
            new: new.into(),
            width: None,
            at: [None, None],
            touches: touches.clone(),
            verdicts: Vec::new(),
        });
        let last = self.found.len() - 1;
        &mut self.found[last]
    }

    /// All messages of both revisions for which something holds.
    fn touched(&self, holds: impl Fn(&Plan, &Message) -> bool) -> TouchedMessages {
        self.plans.map(|plan| {
            let all = plan.link.message_ids();
            all.filter(|(_, message)| holds(plan, message)).map(|(index, _)| index).collect()
        })
    }

    fn link(&mut self) {
        let [old, new] = self.plans.map(|plan| &plan.link);
        if old.name != new.name {
            self.note(DifferenceKind::LinkRenamed, &new.name, (&old.name, &new.name), &TouchedMessages::default());
        }
        if old.byte_order != new.byte_order {
            let all = self.touched(|_, _| true);
            let text = |order| format!("{order:?}").to_lowercase();
            let texts = (text(old.byte_order), text(new.byte_order));
            self.note(DifferenceKind::ByteOrder, &new.name, texts, &all);
        }
    }

    fn channels(&mut self) {
        let ([old, new], outlines) = (self.plans, self.outlines);
        for (index, channel) in new.channel_ids() {
            let on = |plans: [Option<ChannelId>; 2]| {
                let [a, b] = plans;
                let carries = |plan: &Plan, at: Option<ChannelId>| -> BTreeSet<MessageId> {
                    let on = |message: &Message| at.is_some_and(|at| message.channels.contains(&at));
                    plan.message_ids()
                        .map(|(message, _)| message)
                        .filter(|message| on(&plan.link.messages[*message]))
                        .collect()
                };
                [carries(old, a), carries(new, b)]
            };
            let Some(before) = self.back.channels[index.index()] else {
                self.note(
                    DifferenceKind::ChannelAdded,
                    &channel.name,
                    ("", self.outlines[1].item("channel", &channel.name)),
                    &on([None, Some(index)]),
                );
                continue;
            };
            let (was, touched) = (&old.channels[before], on([Some(before), Some(index)]));
            let text = |side: usize, name: &str, words: &[&str]| outlines[side].statements("channel", name, words);
            let pair = |words: &[&str]| (text(0, &was.name, words), text(1, &channel.name, words));
            if was.name != channel.name {
                self.note(
                    DifferenceKind::ChannelRenamed,
                    &channel.name,
                    (&was.name, &channel.name),
                    &TouchedMessages::default(),
                );
            }
            if was.medium.kind != channel.medium.kind {
                let texts = pair(&["medium"]);
                self.note(DifferenceKind::Medium, &channel.name, texts, &touched);
            }
            // The limit is one of the whole channel.
            let [old_limit, new_limit] = [was, channel].map(|channel| channel.direction(End::Device).limit);
            if old_limit != new_limit {
                let texts = (format!("{old_limit} bytes"), format!("{new_limit} bytes"));
                self.note(DifferenceKind::Limit, &channel.name, texts, &touched);
            }
            let selected_by = |channel: &Channel, from: End| channel.direction(from).selected_by;
            if [End::Device, End::Host].iter().any(|end| selected_by(was, *end) != selected_by(channel, *end)) {
                let texts = pair(&["select", "packet", "frame"]);
                self.note(DifferenceKind::Selection, &channel.name, texts, &touched);
            }
            if !matching::same_framings(was, channel) {
                let checksum = only_checksums_differ(was, channel);
                let kind = if checksum { DifferenceKind::Checksum } else { DifferenceKind::Framing };
                let words = ["frame", "stuffing", "packet", "lines", "gap", "status"];
                let lines = [(0, &was.name), (1, &channel.name)]
                    .map(|(side, name)| outlines[side].lines("channel", name, &words));
                // The link's byte order changes the bytes of a frame, too, and has a difference of its own.
                if lines[0] != lines[1] || old.link.byte_order == new.link.byte_order {
                    let only = |side: usize| {
                        let other = &lines[1 - side];
                        let only: Vec<&str> =
                            lines[side].iter().filter(|l| !other.contains(l)).map(String::as_str).collect();
                        // If only the order differs, all is shown.
                        if only.is_empty() && lines[0].len() == lines[1].len() {
                            lines[side].join("; ")
                        } else {
                            only.join("; ")
                        }
                    };
                    self.note(kind, &channel.name, (only(0), only(1)), &touched);
                }
            }
        }
        for (index, channel) in old.channel_ids() {
            if self.forth.channels[index.index()].is_none() {
                let touched = self.touched(|_, message| message.channels.contains(&index));
                self.note(
                    DifferenceKind::ChannelRemoved,
                    &channel.name,
                    (self.outlines[0].item("channel", &channel.name), ""),
                    &[touched[0].clone(), BTreeSet::new()],
                );
            }
        }
    }

    /// Enums and flag sets of the same name.
    fn labels(&mut self) {
        let [old, new] = self.plans;
        for labelled in &new.link.labelled {
            let Some(was) = old.link.labelled.iter().find(|was| was.name == labelled.name) else { continue };
            let touched = self.touched(|_, message| uses(&message.fields, &labelled.name));
            self.codes(was, labelled, &touched, false);
        }
    }

    /// The labels of an enum or flag set, or the keys of a table.
    fn codes(&mut self, was: &Labelled, is: &Labelled, touched: &TouchedMessages, table: bool) {
        use DifferenceKind::*;
        let pick = |label, entry| if table { entry } else { label };
        if (was.flags, was.bits) != (is.flags, is.bits) {
            let text = |l: &Labelled| format!("{} : u{}", if l.flags { "flags" } else { "enum" }, l.bits);
            self.note(CodeWidth, &is.name, (text(was), text(is)), touched);
        }
        for label in &is.labels {
            let place = format!("{}.{}", is.name, label.name);
            let code = |code: u64| is.code_text(code);
            let at = |name: &str| Some(Place { owner: is.name.clone(), field: name.to_owned() });
            let (kind, texts, before) = match (was.named(&label.name), was.label(label.code)) {
                (Some(before), _) if before.code == label.code => continue,
                (Some(before), _) => {
                    let kind = pick(LabelRenumbered, EntryRenumbered);
                    (kind, (code(before.code), code(label.code)), at(&before.name))
                }
                (None, Some(before)) if is.named(&before.name).is_none() => {
                    let texts = (before.name.clone(), label.name.clone());
                    (pick(LabelRenamed, EntryRenamed), texts, at(&before.name))
                }
                (None, _) => (pick(LabelAdded, EntryAdded), (String::new(), code(label.code)), None),
            };
            self.note(kind, place, texts, touched).at = [before, at(&label.name)];
        }
        for label in &was.labels {
            let renamed = is.label(label.code).is_some_and(|there| was.named(&there.name).is_none());
            if is.named(&label.name).is_none() && !renamed {
                let code = was.code_text(label.code);
                let place = Place { owner: is.name.clone(), field: label.name.clone() };
                let kind = pick(LabelRemoved, EntryRemoved);
                self.note(kind, format!("{}.{}", is.name, label.name), (code, ""), touched).at = [Some(place), None];
            }
        }
    }

    fn tables(&mut self) {
        let [old, new] = self.plans;
        for table in &new.link.tables {
            let Some(was) = old.link.tables.iter().find(|was| was.name == table.name) else { continue };
            let touched = self.touched(|_, message| uses(&message.fields, &table.name));
            self.codes(&was.keys, &table.keys, &touched, true);
            self.entries(was, table, &touched);
        }
    }

    fn entries(&mut self, was: &Table, is: &Table, touched: &TouchedMessages) {
        for entry in &is.entries {
            let same = was.entries.iter().find(|other| other.field.name == entry.field.name);
            let Some(before) = same.or_else(|| was.entries.iter().find(|other| other.key == entry.key)) else {
                continue;
            };
            self.field((&was.name, &before.field), (&is.name, &entry.field), touched);
            let access = |e: &emberwort_model::model::Entry| {
                let words = [(e.read, "read"), (e.write, "write"), (e.kept, "kept")];
                words.iter().filter(|(has, _)| *has).map(|(_, word)| *word).collect::<Vec<_>>().join(" ")
            };
            if access(before) != access(entry) {
                let place = format!("{}.{}", is.name, entry.field.name);
                self.note(DifferenceKind::Access, place, (access(before), access(entry)), &TouchedMessages::default());
            }
        }
    }

    fn records(&mut self) {
        let [old, new] = self.plans;
        for record in &new.link.records {
            let Some(was) = old.link.records.iter().find(|was| was.name == record.name) else { continue };
            let touched = self.touched(|_, message| uses(&message.fields, &record.name));
            if was.extensible != record.extensible {
                let text = |r: &Record| if r.extensible { "growing" } else { "" };
                self.note(DifferenceKind::Extensible, &record.name, (text(was), text(record)), &touched);
            }
            self.fields((&was.name, &was.fields), (&record.name, &record.fields), &touched);
        }
    }

    fn messages(&mut self) {
        let [old, new] = self.plans;
        for (index, message) in new.link.message_ids() {
            let Some(before) = self.back.messages[index.index()] else {
                let touched = [BTreeSet::new(), BTreeSet::from([index])];
                let texts = ("", key_text(new, index));
                self.note(DifferenceKind::MessageAdded, &message.name, texts, &touched);
                continue;
            };
            let was = &old.link.messages[before];
            let touched = [BTreeSet::from([before]), BTreeSet::from([index])];
            if was.name != message.name {
                self.note(DifferenceKind::MessageRenamed, &message.name, (&was.name, &message.name), &touched);
            }
            self.message(was, message, (before, index), &touched);
            self.fields((&was.name, &was.fields), (&message.name, &message.fields), &touched);
        }
        for (index, message) in old.link.message_ids() {
            if self.forth.messages[index.index()].is_none() {
                let touched = [BTreeSet::from([index]), BTreeSet::new()];
                let texts = (key_text(old, index), "");
                let missed = if message.every.is_some() { "comes no more" } else { "is not sent any more" };
                let told = (
                    if message.from == End::Device { Pair::NewDeviceOldHost } else { Pair::NewHostOldDevice },
                    Verdict::FineWithLoss,
                    format!("{} {missed}", message.name),
                );
                self.note(DifferenceKind::MessageRemoved, &message.name, texts, &touched).verdicts.push(told);
            }
        }
    }

    /// What differs around the fields of a message.
    fn message(
        &mut self,
        was: &Message,
        is: &Message,
        (before, index): (MessageId, MessageId),
        touched: &TouchedMessages,
    ) {
        use DifferenceKind::*;
        let [old, new] = self.plans;
        let from = |message: &Message| if message.from == End::Device { "device" } else { "host" };
        if was.from != is.from {
            self.note(Direction, &is.name, (from(was), from(is)), touched);
        }
        let names = |plan: &Plan, message: &Message| -> Vec<String> {
            message.channels.iter().map(|channel| plan.channels[*channel].name.clone()).collect()
        };
        let there: Vec<Option<ChannelId>> =
            was.channels.iter().map(|channel| self.forth.channels[channel.index()]).collect();
        let moved = is.channels.iter().any(|channel| !there.contains(&Some(*channel)))
            || there.iter().any(|channel| channel.is_none_or(|channel| !is.channels.contains(&channel)));
        if moved {
            let texts = (names(old, was).join(", "), names(new, is).join(", "));
            self.note(Channels, &is.name, texts, touched);
        }
        let same_keys = was.channels.iter().zip(&there).all(|(own, there)| {
            let keys = |plan: &Plan, channel: ChannelId, message: MessageId| {
                let direction = plan.channels[channel].direction(plan.link.messages[message].from);
                let keys = direction.keys.iter().filter(|(_, m)| *m == message).map(|(key, _)| *key);
                // Which pattern a line fits, and how many bytes a body has, is no key.
                let real = !matches!(
                    direction.selected_by,
                    emberwort_model::plan::KeySource::Line
                        | emberwort_model::plan::KeySource::Size
                        | emberwort_model::plan::KeySource::Single
                );
                if real { keys.collect() } else { Vec::new() }
            };
            there
                .is_none_or(|there| !is.channels.contains(&there) || keys(old, *own, before) == keys(new, there, index))
        });
        if !same_keys {
            let texts = (key_text(old, before), key_text(new, index));
            self.note(Key, &is.name, texts, touched);
        }
        if was.line != is.line {
            let line = |side: usize, name: &str| self.outlines[side].statements("message", name, &["line"]);
            let texts = (line(0, &was.name), line(1, &is.name));
            self.note(Pattern, &is.name, texts, touched);
        }
        self.timing(was, is);
    }

    /// Periods and answers, of which no bytes tell.
    fn timing(&mut self, was: &Message, is: &Message) {
        let outlines = self.outlines;
        let words = |side: usize, name: &str, words: &[&str]| outlines[side].statements("message", name, words);
        let device = is.from == End::Device;
        if was.every != is.every {
            let texts = (words(0, &was.name, &["from"]), words(1, &is.name, &["from"]));
            let (old_to_new, new_to_old) = match device {
                true => (Pair::OldDeviceNewHost, Pair::NewDeviceOldHost),
                false => (Pair::OldHostNewDevice, Pair::NewHostOldDevice),
            };
            let rarer = |sender: Option<u64>, receiver: Option<u64>| {
                receiver.is_some_and(|expected| sender.is_none_or(|sends| sends > expected))
            };
            let mut told = Vec::new();
            for (pair, sender, receiver) in [(old_to_new, was.every, is.every), (new_to_old, is.every, was.every)] {
                if rarer(sender, receiver) {
                    let sentence = format!("{} comes less often than is expected there", is.name);
                    told.push((pair, Verdict::FineWithLoss, sentence));
                }
            }
            self.note(DifferenceKind::Period, &is.name, texts, &TouchedMessages::default()).verdicts = told;
        }
        let names = |plan: &Plan, message: &Message| -> Vec<String> {
            message.answered_by.iter().map(|answer| plan.link.messages[*answer].name.clone()).collect()
        };
        let [old, new] = self.plans;
        let answers = (names(old, was), names(new, is));
        if answers.0 != answers.1 || was.within != is.within {
            let texts = (words(0, &was.name, &["answered"]), words(1, &is.name, &["answered"]));
            // Who answers promises the time of its own revision; who asked waits as long as its own says.
            let (old_answers, new_answers) = match device {
                true => (Pair::OldHostNewDevice, Pair::NewHostOldDevice),
                false => (Pair::OldDeviceNewHost, Pair::NewDeviceOldHost),
            };
            let mut told = Vec::new();
            for (pair, promises, waits) in [(old_answers, was.within, is.within), (new_answers, is.within, was.within)]
            {
                if waits.is_some_and(|waits| promises.is_none_or(|promises| promises > waits)) {
                    let sentence = format!("an answer to {} can come after the sender has stopped waiting", is.name);
                    told.push((pair, Verdict::FineWithLoss, sentence));
                }
            }
            for (pair, sends, knows) in [(old_answers, &answers.0, &answers.1), (new_answers, &answers.1, &answers.0)] {
                if let Some(other) = sends.iter().find(|name| !knows.contains(name)) {
                    let sentence = format!("{other} is not expected there as an answer to {}", is.name);
                    told.push((pair, Verdict::FineWithLoss, sentence));
                }
            }
            self.note(DifferenceKind::Answers, &is.name, texts, &TouchedMessages::default()).verdicts = told;
        }
    }

    /// The fields of a message or record.
    fn fields(
        &mut self,
        (old_name, old): (&str, &[Field]),
        (new_name, new): (&str, &[Field]),
        touched: &TouchedMessages,
    ) {
        use DifferenceKind::*;
        let forth = matching::fields(old, new);
        let moved = moved(old, new, &forth);
        let sections: Vec<u32> = emberwort_model::model::section_revisions(old);
        for (slot, field) in new.iter().enumerate().filter(|(_, field)| !field.is_spare()) {
            let place = format!("{new_name}.{}", field.name);
            let text = || self.declared(1, new_name, field);
            let Some(before) = forth.iter().position(|there| *there == Some(slot)) else {
                let own_section = sections.iter().all(|revision| field.since > *revision);
                let kind = if own_section { FieldAdded } else { FieldInserted };
                let at = Some(Place { owner: new_name.to_owned(), field: field.name.clone() });
                let text = text();
                self.note(kind, place, ("", text), touched).at = [None, at];
                continue;
            };
            if moved.contains(&before) {
                let texts = (self.declared(0, old_name, &old[before]), text());
                let at = [Some((old_name, &old[before])), Some((new_name, field))];
                self.note(FieldMoved, place, texts, touched).at = places(at);
            }
            self.field((old_name, &old[before]), (new_name, field), touched);
        }
        for (slot, field) in old.iter().enumerate().filter(|(_, field)| !field.is_spare()) {
            if forth[slot].is_some() {
                continue;
            }
            let retired = new.iter().any(|other| other.retired && other.name == field.name);
            let kind = if retired { FieldRetired } else { FieldRemoved };
            let texts = (self.declared(0, old_name, field), "");
            let place = format!("{old_name}.{}", field.name);
            self.note(kind, place, texts, touched).at = places([Some((old_name, field)), None]);
        }
        self.space((old_name, old), (new_name, new), touched);
    }

    /// Space without a name in a message or record, where it is not of a field that was retired just now.
    fn space(
        &mut self,
        (old_name, old): (&str, &[Field]),
        (new_name, new): (&str, &[Field]),
        touched: &TouchedMessages,
    ) {
        let forth = matching::fields(old, new);
        let spaces = |fields: &[Field], other: &[Field], names: &[Option<usize>]| -> Vec<(Option<String>, u64)> {
            let mut behind = None;
            let mut spaces = Vec::new();
            // A section of its own moves nothing.
            let last = other.iter().map(|field| field.since).max().unwrap_or(1);
            for (slot, field) in fields.iter().enumerate().filter(|(_, field)| field.since <= last) {
                let knows = |name: &str| !name.is_empty() && other.iter().any(|f| f.name == name && !f.is_spare());
                if !field.is_spare() || knows(&field.name) {
                    // Under its new name, so that a renamed field is no other one.
                    let renamed = names.get(slot).copied().flatten().map(|there| &other[there].name);
                    behind = Some(renamed.unwrap_or(&field.name).clone());
                } else {
                    spaces.push((behind.clone(), self.plans[0].element(&Arc::new(field.clone())).action.bits().1));
                }
            }
            spaces
        };
        let (before, now) = (spaces(old, new, &forth), spaces(new, old, &[]));
        let text = |spaces: &[(Option<String>, u64)]| {
            let each = spaces.iter().map(|(behind, bits)| match behind {
                Some(name) => format!("{bits} bits after {name}"),
                None => format!("{bits} bits in front"),
            });
            each.collect::<Vec<_>>().join(", ")
        };
        if before != now {
            let place = if new_name.is_empty() { old_name } else { new_name };
            self.note(DifferenceKind::Space, place, (text(&before), text(&now)), touched);
        }
    }

    fn declared(&self, side: usize, owner: &str, field: &Field) -> String {
        self.outlines[side].field(owner, &field.name)
    }

    /// One field.
    fn field(&mut self, (old_name, was): (&str, &Field), (new_name, is): (&str, &Field), touched: &TouchedMessages) {
        use DifferenceKind::*;
        let mut kinds = Vec::new();
        if was.name != is.name {
            kinds.push(FieldRenamed);
        }
        kinds.extend(form_difference(was, is));
        if was.unit != is.unit {
            kinds.push(Unit);
        }
        if was.optional != is.optional {
            kinds.push(Optional);
        }
        if was.default != is.default {
            kinds.push(Default);
        }
        let whole = |kind: &Kind| matches!(kind, Kind::Number(_) | Kind::Float(_) | Kind::Time { .. });
        if was.order != is.order && whole(&is.kind) && self.plans[0].link.byte_order == self.plans[1].link.byte_order {
            kinds.push(FieldOrder);
        }
        let place = || format!("{new_name}.{}", is.name);
        for kind in kinds {
            let texts = match kind {
                FieldRenamed => (was.name.clone(), is.name.clone()),
                Unit => (was.unit.clone(), is.unit.clone()),
                _ => (self.declared(0, old_name, was), self.declared(1, new_name, is)),
            };
            let difference = self.note(kind, place(), texts, touched);
            difference.at = places([Some((old_name, was)), Some((new_name, is))]);
            if matches!(kind, Widened | Narrowed) {
                difference.width = Width::of(&was.kind, &is.kind);
            }
        }
    }
}

fn places(both: [Option<(&str, &Field)>; 2]) -> [Option<Place>; 2] {
    both.map(|one| one.map(|(owner, field)| Place { owner: owner.to_owned(), field: field.name.clone() }))
}

/// How the forms of two fields differ.
fn form_difference(was: &Field, is: &Field) -> Option<DifferenceKind> {
    use DifferenceKind::*;
    match (&was.kind, &is.kind) {
        (Kind::Number(a), Kind::Number(b)) | (Kind::Varint(a), Kind::Varint(b)) => number_difference(a, b),
        (Kind::Text { ascii: a, length: x }, Kind::Text { ascii: b, length: y }) => match (a == b, x == y) {
            (false, _) => Some(Type),
            (_, false) => Some(Length),
            _ => None,
        },
        (Kind::Bytes(x), Kind::Bytes(y)) => (x != y).then_some(Length),
        (Kind::List { element: a, length: x }, Kind::List { element: b, length: y }) => {
            let units = (a.unit != b.unit).then_some(Unit);
            if x != y { Some(Length) } else { form_difference(a, b).or(units) }
        }
        (Kind::Record(a), Kind::Record(b)) => (a.name != b.name && a.fields != b.fields).then_some(Type),
        (Kind::Enum { labels: a, none: x }, Kind::Enum { labels: b, none: y }) => {
            if a.name != b.name && (a.bits, &a.labels) != (b.bits, &b.labels) {
                Some(Type)
            } else {
                (x != y && a.bits == b.bits).then_some(NoReading)
            }
        }
        (Kind::Flags(a), Kind::Flags(b)) => {
            (a.name != b.name && (a.bits, &a.labels) != (b.bits, &b.labels)).then_some(Type)
        }
        (Kind::Union(a), Kind::Union(b)) => forms_differ(a, b).then_some(Forms),
        (a, b) => (a != b).then_some(Type),
    }
}

fn number_difference(a: &NumberForm, b: &NumberForm) -> Option<DifferenceKind> {
    use DifferenceKind::*;
    let (offset, step, divisor) = a.scaling.parts();
    let (other_offset, other_step, other_divisor) = b.scaling.parts();
    if a.signed != b.signed {
        Some(Type)
    } else if a.bits != b.bits {
        Some(if b.bits > a.bits { Widened } else { Narrowed })
    } else if step * other_divisor != other_step * divisor {
        Some(Step)
    } else if offset * other_divisor != other_offset * divisor {
        Some(Offset)
    } else if a.none != b.none {
        Some(NoReading)
    } else {
        ((a.low, a.high) != (b.low, b.high)).then_some(Range)
    }
}

/// Whether values of two fields have other forms, or the same for other keys. The entries of tables have differences of their own.
fn forms_differ(a: &Union, b: &Union) -> bool {
    if let (Some(x), Some(y)) = (&a.table, &b.table)
        && x.name == y.name
    {
        return a.otherwise != b.otherwise;
    }
    a.cases != b.cases || a.otherwise != b.otherwise
}

/// The fields of the old one that stand at another place, or in another order, than the new one has them.
fn moved(old: &[Field], new: &[Field], forth: &[Option<usize>]) -> BTreeSet<usize> {
    let pairs: Vec<(usize, usize)> =
        forth.iter().enumerate().filter_map(|(slot, there)| there.map(|there| (slot, there))).collect();
    // The longest run of fields that keep their order; the others have moved.
    let mut longest: Vec<Vec<usize>> = Vec::new();
    for (n, (_, there)) in pairs.iter().enumerate() {
        let before = (0..n).filter(|m| pairs[*m].1 < *there).max_by_key(|m| longest[*m].len());
        let mut run = before.map_or_else(Vec::new, |m| longest[m].clone());
        run.push(n);
        longest.push(run);
    }
    let kept: BTreeSet<usize> =
        longest.into_iter().max_by_key(Vec::len).unwrap_or_default().into_iter().map(|n| pairs[n].0).collect();
    let elsewhere = |slot: usize, there: usize| {
        let (one, other) = (&old[slot], &new[there]);
        let section = |fields: &[Field], since: u32| {
            emberwort_model::model::section_revisions(fields).iter().position(|revision| *revision == since)
        };
        one.at != other.at || section(old, one.since) != section(new, other.since)
    };
    // Explicit places say where a field lies, whatever its order in the text.
    let out_of_order = |slot: usize| !kept.contains(&slot) && old[slot].at.is_none();
    pairs
        .into_iter()
        .filter(|(slot, there)| out_of_order(*slot) || elsewhere(*slot, *there))
        .map(|(slot, _)| slot)
        .collect()
}

/// Whether fields use an enum, flag set, record or table, in whatever depth.
fn uses(fields: &[Field], name: &str) -> bool {
    fields.iter().any(|field| uses_in(field, name))
}

fn uses_in(field: &Field, name: &str) -> bool {
    match &field.kind {
        Kind::Enum { labels, .. } | Kind::Flags(labels) => labels.name == name,
        Kind::Record(record) => record.name == name || uses(&record.fields, name),
        Kind::List { element, .. } => uses_in(element, name),
        Kind::Union(union) => {
            let forms = union.cases.iter().map(|case| &case.field).chain(&union.otherwise);
            union.table.as_ref().is_some_and(|table| table.name == name)
                || forms.into_iter().any(|form| uses_in(form, name))
        }
        _ => false,
    }
}

/// Whether two channels would be the same with other checksums.
fn only_checksums_differ(was: &Channel, is: &Channel) -> bool {
    let bare = |channel: &Direction| {
        let mut bare = channel.clone();
        for part in &mut bare.parts {
            if let Role::Checksum { .. } = part.role {
                part.role = Role::Fixed(0);
            }
        }
        bare
    };
    let of = |channel: &Channel, end: End| bare(channel.direction(end));
    let is_same = |end: End| matching::same_framing(&of(was, end), &of(is, end));
    was.is_split() == is.is_split() && [End::Device, End::Host].into_iter().all(is_same)
}

/// What selects a message, as people know it: `id 0x21`, `port 2`.
fn key_text(plan: &Plan, message: MessageId) -> String {
    let own = &plan.link.messages[message];
    let id = own.id.map(|id| format!("id {}", own.id_base.text(id, 2)));
    let keys = own.keys.iter().zip(&own.channels).filter_map(|(key, channel)| {
        let key = (*key)?;
        let channel = &plan.channels[*channel];
        let number = key.base.text(key.value, if key.extended { 8 } else { 3 });
        let word = match channel.direction(own.from).selected_by {
            KeySource::CanId => "can_id",
            KeySource::Endpoint => "endpoint",
            _ => "port",
        };
        Some(format!("{word} {number} on {}", channel.name))
    });
    id.into_iter().chain(keys).collect::<Vec<_>>().join(", ")
}
