//! What can be used as it is, but probably does not say what was meant, or could be better.

use std::collections::HashMap;

use super::Resolver;
use crate::algorithm::Algorithm;
use crate::budget;
use crate::diagnostics::{Code, Finding};
use crate::ids::ChannelId;
use crate::model::{End, Kind, Selector};
use crate::number::{Decimal, Scaling};
use crate::plan::{Bound, Direction, Part, Plan, Role, Zone};
use crate::source::Span;
use crate::syntax::ast::{FieldItem, FrameItem, TypeExpr};

impl Resolver<'_> {
    /// All warnings and hints about a link that has been looked up as a whole.
    pub(super) fn advise(&mut self, plan: &Plan) {
        self.answers(plan);
        if self.findings.iter().any(Finding::is_error) {
            // What follows could be a consequence of what is wrong.
            return;
        }
        self.unused();
        self.full_enums();
        self.forms_and_codes(plan);
        self.late_answers(plan);
        self.narrower_ranges();
        for (channel, item) in plan.channels.iter().zip(&self.file.channels) {
            for frame in &item.frames {
                let direction = channel.direction(frame.from.unwrap_or(End::Device));
                self.checksum_gaps(direction, frame);
                self.short_checksums(direction, frame);
                self.sync_in_data(plan, direction, frame);
                self.no_beginning(direction, frame);
            }
        }
        self.loads(plan);
        self.long_nested_frames(plan);
    }

    /// Answers that cannot come: from the end that asks, or over no channel of the question.
    fn answers(&mut self, plan: &Plan) {
        let file = self.file;
        for (compiled, item) in plan.messages.iter().zip(&file.messages) {
            let request = &compiled.message;
            for name in &item.answered_by {
                let Some(index) = self.messages.get(&name.text) else { continue };
                let (answer, answer_item) = (&plan.messages[*index].message, &file.messages[*index]);
                let (message, help) = if answer.from == request.from {
                    (
                        format!(
                            "`{}` comes from the {} as well, which would answer itself",
                            name.text,
                            request.from.as_str()
                        ),
                        format!("let the other end answer, or turn the `from` of `{}`", name.text),
                    )
                } else if !request.channels.is_empty() && answer.channels.iter().all(|c| !request.channels.contains(c))
                {
                    (
                        format!(
                            "`{}` travels on no channel of `{}`, so no answer can come back",
                            name.text, item.name.text
                        ),
                        format!("add a channel of `{}` to the `on` of `{}`", item.name.text, name.text),
                    )
                } else {
                    continue;
                };
                self.report(
                    Finding::new(Code::NoAnswer, name.span, message, help).related(answer_item.name.span, "the answer"),
                );
            }
        }
    }

    fn unused(&mut self) {
        let file = self.file;
        let items = (file.labelled.iter().map(|item| (&item.name, if item.flags { "flag set" } else { "enum" })))
            .chain(file.records.iter().map(|item| (&item.name, "record")))
            .chain(file.tables.iter().map(|item| (&item.name, "table")));
        for (name, what) in items {
            if !self.used.contains(&name.text) {
                let message = format!("nothing uses the {what} `{}`", name.text);
                self.report(Finding::new(Code::Unused, name.span, message, "use it in a field, or take it out"));
            }
        }
    }

    fn full_enums(&mut self) {
        for item in &self.file.labelled {
            // With one bit there are two states, and nothing more was ever meant.
            let codes = 1usize.checked_shl(u32::from(item.bits)).unwrap_or(usize::MAX);
            if !item.flags && item.bits > 1 && item.labels.len() >= codes {
                let message =
                    format!("all {codes} codes of `{}` have labels: there is no room for another one", item.name.text);
                let help = format!(
                    "`u{}` would leave room; a wider enum later changes every message that uses it",
                    item.bits + 1
                );
                self.report(Finding::new(Code::EnumFull, item.name.span, message, help));
            }
        }
    }

    /// Labels of an enum that select no form of a value, and forms for codes without a label.
    fn forms_and_codes(&mut self, plan: &Plan) {
        let file = self.file;
        let messages =
            plan.link.messages.iter().zip(&file.messages).map(|(message, item)| (&message.fields, &item.sections));
        let items: HashMap<&str, _> =
            file.records.iter().map(|item| (item.name.text.as_str(), &item.sections)).collect();
        let records = plan.link.records.iter();
        let records = records.filter_map(|record| Some((&record.fields, *items.get(record.name.as_str())?)));
        for (fields, sections) in messages.chain(records) {
            let items = sections.iter().flat_map(|section| &section.fields);
            for (field, item) in fields.iter().zip(items) {
                let Kind::Union(union) = &field.kind else { continue };
                let (Selector::Field(decider), None) = (union.selector, &union.table) else { continue };
                let Some(Kind::Enum { labels, .. }) = fields.get(decider).map(|decider| &decider.kind) else {
                    continue;
                };
                let decider = &fields[decider].name;
                let without: Vec<&str> = match union.otherwise {
                    Some(_) => Vec::new(),
                    None => {
                        let labels = labels.labels.iter().filter(|label| union.index_of(label.code).is_none());
                        labels.map(|label| label.name.as_str()).collect()
                    }
                };
                if let [first, more @ ..] = without.as_slice() {
                    let more = if more.is_empty() { String::new() } else { format!(" and {} more", more.len()) };
                    self.report(Finding::new(
                        Code::FormsAndCodes,
                        item.ty_span,
                        format!("there is no form for `{decider}` = `{first}`{more}: such a body could not be read"),
                        "add a form for each label, or `else raw : bytes[..8]` for the others",
                    ));
                }
                if let Some(case) = union.cases.iter().find(|case| labels.label(case.raw).is_none()) {
                    self.report(Finding::new(
                        Code::FormsAndCodes,
                        item.ty_span,
                        format!(
                            "the form `{}` is for {}, and `{}` has no label for that",
                            case.field.name, case.raw, labels.name
                        ),
                        "give the code a label, or take the form out",
                    ));
                }
            }
        }
    }

    /// Answers that take longer on every channel than they may, or can: the time of the question and of the answer alone.
    fn late_answers(&mut self, plan: &Plan) {
        let file = self.file;
        for (compiled, item) in plan.messages.iter().zip(&file.messages) {
            let Some(within) = compiled.message.within else { continue };
            for name in &item.answered_by {
                let Some(answer) = self.messages.get(&name.text).map(|index| &plan.messages[*index]) else { continue };
                let both = compiled.message.channels.iter().filter(|channel| answer.message.channels.contains(channel));
                let time = |channel: &ChannelId| {
                    let cost = |message| budget::message_on(&plan.channels[*channel], message, *channel);
                    let (asked, told) = (cost(compiled), cost(answer));
                    let (least, greatest) =
                        (asked.least.time + told.least.time, asked.greatest.time + told.greatest.time);
                    (least, greatest, &plan.channels[*channel].name)
                };
                let Some((least, greatest, channel)) = both.map(time).min_by(|a, b| a.0.cmp(&b.0)) else { continue };
                let is_beyond = |time| budget::to_f64(time) > within as f64 * 1e-9;
                let message = match (is_beyond(least), is_beyond(greatest)) {
                    (true, _) => format!(
                        "`{}` cannot come in time: the two shortest frames take {} on `{channel}`",
                        name.text,
                        budget::time_text(least)
                    ),
                    (false, true) => format!(
                        "`{}` may come too late: the two longest frames take {} on `{channel}`",
                        name.text,
                        budget::time_text(greatest)
                    ),
                    (false, false) => continue,
                };
                let help = format!("allow more than that in `within`, or make `{channel}` faster");
                self.report(
                    Finding::new(Code::LateAnswer, name.span, message, help).related(item.name.span, "the question"),
                );
            }
        }
    }

    /// Scaled integers of units with a natural range that fewer bits could hold.
    fn narrower_ranges(&mut self) {
        let file = self.file;
        let sections = file.messages.iter().flat_map(|item| &item.sections);
        let sections = sections.chain(file.records.iter().flat_map(|item| &item.sections));
        for item in sections.flat_map(|section| &section.fields) {
            if let Some((range, bits, saved)) = narrower(item) {
                let finding = Finding::new(
                    Code::NarrowerRange,
                    item.ty_span,
                    format!("this takes {bits} bits, {saved} more than its values need if they reach from {range}"),
                    format!(
                        "write `{range}` if that is so; it saves {saved} {}",
                        if saved == 1 { "bit" } else { "bits" }
                    ),
                );
                self.report(finding);
            }
        }
    }

    /// Parts that decide how a frame is read, and that no checksum protects.
    fn checksum_gaps(&mut self, channel: &Direction, frame: &FrameItem) {
        let checksums: Vec<(&Part, &Vec<crate::plan::Covered>)> = channel
            .parts
            .iter()
            .filter_map(|part| match &part.role {
                Role::Checksum { over, .. } => Some((part, over)),
                _ => None,
            })
            .collect();
        if checksums.is_empty() {
            return;
        }
        for (index, part) in channel.parts.iter().enumerate() {
            let (what, reason) = match part.role {
                _ if channel.is_repeated(index) => continue,
                Role::Length { .. } => (
                    "length",
                    "a damaged length makes the receiver take other bytes for the checksum, and sometimes they match",
                ),
                Role::Message => {
                    ("key", "a damaged key turns the body into that of another message, and nobody notices")
                }
                _ => continue,
            };
            let covered = checksums.iter().flat_map(|(_, over)| over.iter()).any(|covered| {
                let (start, end) = bounds(part);
                !start.is_before(covered.from) && !covered.to.is_before(end)
            });
            if covered {
                continue;
            }
            let place =
                |wanted: &str| frame.parts.iter().find(|item| item.name.text == wanted).map(|item| item.name.span);
            let Some(span) = place(&checksums[0].0.name) else { continue };
            let message = format!("this checksum leaves out the {what}, `{}`: {reason}", part.name);
            let help = format!("let it cover `{}` too, unless the other end is built already and does not", part.name);
            let finding = Finding::new(Code::ChecksumGap, span, message, help);
            self.report(match place(&part.name) {
                Some(related) => finding.related(related, "not covered"),
                None => finding,
            });
        }
    }

    /// CRCs over more bits than their polynomial can tell apart: from there on two wrong bits can pass.
    fn short_checksums(&mut self, channel: &Direction, frame: &FrameItem) {
        let body_end = channel.head_bytes + channel.greatest_body;
        for part in &channel.parts {
            let Role::Checksum { algorithm: Algorithm::Crc(crc), over, .. } = &part.role else { continue };
            let covered: usize = over.iter().map(|covered| covered.to.at(body_end) - covered.from.at(body_end)).sum();
            let bits = covered * 8 + usize::from(crc.width);
            let Some(period) = crc.period_within(bits) else { continue };
            let Some(item) = frame.parts.iter().find(|item| item.name.text == part.name) else { continue };
            let most = (period - usize::from(crc.width)) / 8;
            self.report(Finding::new(
                Code::ShortChecksum,
                item.name.span,
                format!(
                    "in the longest frames on `{}` two wrong bits can pass: this CRC tells them apart over up to {most} bytes, and \
                     covers up to {covered}",
                    channel.name
                ),
                "take one with more bits; `emberwort checksum strength --best 16 --length N` lists those of the catalogue",
            ));
        }
    }

    /// Frames that follow each other without sync bytes, where bytes can get lost.
    fn no_beginning(&mut self, channel: &Direction, frame: &FrameItem) {
        let keeps_bytes = channel.medium.kind.loses_nothing();
        if !channel.finder.runs_on() || !channel.sync.is_empty() || keeps_bytes {
            return;
        }
        self.report(Finding::new(
            Code::NoBeginning,
            frame.span,
            "after a lost byte a receiver has nothing to look for: it tries every byte as the start of a frame, and its checksum \
             alone decides",
            "begin the frame with sync bytes (`sync C6 39`), unless the other end is built already and does not",
        ));
    }

    /// Sync bytes that come up in data all the time.
    fn sync_in_data(&mut self, plan: &Plan, channel: &Direction, frame: &FrameItem) {
        let sync = &channel.sync;
        let idle = |byte: u8| sync.iter().all(|other| *other == byte);
        if !channel.finder.runs_on() || sync.is_empty() || sync.len() > 1 && !idle(0) && !idle(0xFF) {
            return;
        }
        let load = budget::regular_bytes_per_second(plan, channel).filter(|rate| *rate > 0.0);
        let (rate, of) = match load {
            Some(rate) => (rate, "the messages with `every`"),
            None => (budget::line_bytes_per_second(&channel.medium.kind), "a full line"),
        };
        let per_hour = rate * 3600.0 / 256f64.powi(sync.len() as i32);
        let common = if idle(0) || idle(0xFF) { "; and 00 and FF are the commonest bytes of all" } else { "" };
        let span = frame.parts.first().map_or(frame.span, |part| part.name.span);
        self.report(Finding::new(
            Code::SyncInData,
            span,
            format!(
                "about {} false starts an hour are to be expected from {of}, if the bytes were random{common}",
                rounded(per_hour)
            ),
            "use two or more sync bytes that differ, as in `sync C6 39`, or `stuffing cobs`, where they cannot occur in data",
        ));
    }

    /// Regular messages that a channel has no time for.
    fn loads(&mut self, plan: &Plan) {
        let file = self.file;
        for (index, channel) in plan.channel_ids() {
            let mut sum = 0.0;
            let mut duty = 0.0;
            let mut last: Option<Span> = None;
            for (compiled, item) in plan.messages.iter().zip(&file.messages) {
                let Some((every, span)) = item.every.filter(|_| compiled.message.channels.contains(&index)) else {
                    continue;
                };
                let cost = budget::message_on(channel, compiled, index);
                let share = budget::to_f64(cost.greatest.time) / (every as f64 * 1e-9);
                sum += share;
                if compiled.message.from == End::Device {
                    duty += share;
                }
                last = Some(span);
                if share > 1.0 {
                    self.report(Finding::new(
                        Code::ChannelOverfull,
                        span,
                        format!(
                            "one `{}` takes {} on `{}`, longer than its period",
                            item.name.text,
                            budget::time_text(cost.greatest.time),
                            channel.name
                        ),
                        "send it less often, make it shorter, or raise the channel's speed",
                    ));
                    last = None;
                    break;
                }
            }
            let Some(span) = last else { continue };
            let name = &channel.name;
            if sum > 1.0 {
                self.report(Finding::new(
                    Code::ChannelOverfull,
                    span,
                    format!("one device's regular messages take {:.0} % of the time of `{name}`", sum * 100.0),
                    "send some of them less often, or raise the channel's speed; `emberwort budget` shows each one's share",
                ));
            } else if let Some(allowed) = channel.medium.kind.duty() {
                let allowed = budget::to_f64(allowed * 100);
                if duty * 100.0 > allowed {
                    self.report(Finding::new(
                        Code::DutyCycle,
                        span,
                        format!("one device's regular messages are on the air for {:.2} % of the time, and {allowed} % is allowed on `{name}`", duty * 100.0),
                        format!("send {:.1} times less often, or use a lower spreading factor", duty * 100.0 / allowed),
                    ));
                }
            }
        }
    }
}

/// First and one past the last byte of a part.
fn bounds(part: &Part) -> (Bound, Bound) {
    let (first, last) = (part.at_bit as usize / 8, (part.at_bit as usize + part.wire_bits()).div_ceil(8));
    match part.zone {
        Zone::Head => (Bound::Head(first), Bound::Head(last)),
        Zone::Tail => (Bound::Tail(first), Bound::Tail(last)),
    }
}

/// A natural range that a scaled integer's unit has, if fewer bits hold it: the range, the bits now, and those saved.
fn narrower(item: &FieldItem) -> Option<(String, u8, u8)> {
    let TypeExpr::Integer { signed: false, bits, scale: Some(scale), offset: None } = item.ty else { return None };
    let most = match item.unit.as_str() {
        "%" => 100,
        "deg" | "°" => 360,
        _ => return None,
    };
    let scaling = Scaling::linear(scale.value, Decimal::integer(0))?;
    let last = scaling.nearest_raw(Decimal::integer(most))?;
    if scaling.physical(last).compare(Decimal::integer(most)).is_ne() {
        return None;
    }
    let codes = last + i128::from(item.none.is_some());
    let needed = (128 - codes.leading_zeros()).max(1) as u8;
    let saved = bits.checked_sub(needed).filter(|saved| *saved > 0)?;
    Some((format!("0 .. {most} {} step {}", item.unit, scale.value), bits, saved))
}

/// A number that was estimated, with two digits that count.
fn rounded(value: f64) -> String {
    if value < 10.0 {
        return format!("{value:.1}");
    }
    let unit = 10f64.powf(value.log10().floor() - 1.0);
    format!("{:.0}", (value / unit).round() * unit)
}
