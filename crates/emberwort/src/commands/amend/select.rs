//! Which frames are changed, and how: from what the decoder finds to edits of packets.

use std::cell::RefCell;
use std::collections::{BTreeSet, HashMap};
use std::convert::Infallible;
use std::ops::ControlFlow;
use std::rc::Rc;
use std::sync::Arc;

use anyhow::Context as _;
use emberwort_capture::amend::Edits;
use emberwort_capture::amend::scrub::{Pseudonyms, ScrubRequest, Scrubbed};
use emberwort_capture::query::{Filter, Matching, SelectedRows};
use emberwort_capture::traced::{PacketPart, Provenance};
use emberwort_capture::{BrokenFrame, DefinitionId, Item, ItemSink, Query, RevisionMap, Row, Wants};
use emberwort_model::Plan;
use emberwort_model::ids::MessageId;
use emberwort_model::plan::{FrameFinder, Role};
use emberwort_rows::write_value;
use emberwort_text::json::{self, Writing};
use emberwort_text::{Filling, GivenValue, fill};
use emberwort_wire::frame::body_on;
use emberwort_wire::{Framed, Framing, Header, StreamId, Time, Values, sender_revision};
use serde_json::{Map, Value as Json};

use super::change::{Change, FrameSum};
use super::proof::FramesDigest;
use super::report::AmendReport;
use crate::cli::AmendArgs;

/// What is to become of frames.
pub struct EditRequest {
    pub sets: Vec<(String, String)>,
    pub patches: Vec<(usize, Vec<u8>)>,
    pub drop: bool,
    pub twice: bool,
    /// In nanoseconds.
    pub delay: Option<i64>,
    pub reorder: bool,
}

impl EditRequest {
    pub fn is_something(&self) -> bool {
        !self.sets.is_empty()
            || !self.patches.is_empty()
            || self.drop
            || self.twice
            || self.delay.is_some()
            || self.reorder
    }
}

/// Chooses frames, and makes edits of what is to become of them.
pub struct Select<'a> {
    args: &'a AmendArgs,
    plan: Arc<Plan>,
    request: EditRequest,
    matching: Matching,
    only: SelectedRows,
    keep: Option<Query>,
    provenance: Rc<RefCell<Provenance>>,
    scrub: Option<(&'a ScrubRequest, &'a Pseudonyms, Rc<RefCell<Scrubbed>>)>,
    /// Whether the capture is one stream of raw bytes.
    is_raw: bool,
    /// Packets that change places with the next one of their stream, and the frames in them.
    pub waiting: HashMap<StreamId, (u64, Vec<u8>)>,
    pub edits: Edits,
    pub report: AmendReport,
    /// Frames that were scrubbed.
    pub scrubbed: u64,
    pub found: BTreeSet<u64>,
    /// The first frame that cannot be changed, and how many there are.
    pub problem: Option<String>,
    pub problems: usize,
    /// The good frames that the copy should have.
    pub digest: FramesDigest,
    start: Option<Time>,
    /// What is wrong with the span.
    pub span_problem: Option<String>,
}

type Scrub<'a> = Option<(&'a ScrubRequest, &'a Pseudonyms, Rc<RefCell<Scrubbed>>)>;

impl<'a> Select<'a> {
    pub fn new(
        args: &'a AmendArgs,
        plan: &Arc<Plan>,
        request: EditRequest,
        provenance: Rc<RefCell<Provenance>>,
        scrub: Scrub<'a>,
        is_raw: bool,
    ) -> anyhow::Result<Self> {
        let query = |option: &str, text: &Option<String>| {
            let read = text.as_deref().map(|text| Query::new(text, plan)).transpose();
            read.map_err(|problem| anyhow::anyhow!("{option} cannot be read: {problem}"))
        };
        Ok(Self {
            args,
            plan: plan.clone(),
            request,
            matching: Matching::new(query("--where", &args.condition)?, (None, None)),
            only: SelectedRows::new(&args.message, args.node),
            keep: query("--keep", &args.keep)?,
            provenance,
            scrub,
            is_raw,
            waiting: HashMap::new(),
            edits: Edits::new(Box::new(|| Ok(Box::new(tempfile::tempfile()?)))),
            report: AmendReport::new(args.form_out).context("no temporary file can be made")?,
            scrubbed: 0,
            found: BTreeSet::new(),
            problem: None,
            problems: 0,
            digest: FramesDigest::default(),
            start: None,
            span_problem: None,
        })
    }

    /// The span, in nanoseconds since 1970: each end as a moment, or as a time since the first frame.
    fn span(&self, text: &str, start: Time) -> Result<(u64, u64), String> {
        let (from, to) = text
            .split_once("..")
            .ok_or("--span is written FROM..TO, as 1.2s..1.4s, or with moments as 2031-03-09T02:11:00Z")?;
        let end = |text: &str, open: u64| -> Result<u64, String> {
            let text = text.trim();
            if text.is_empty() {
                return Ok(open);
            }
            if let Ok(time) = text.parse::<jiff::Timestamp>() {
                return Ok(u64::try_from(time.as_nanosecond()).unwrap_or(0));
            }
            let since = emberwort_link::duration(text).map_err(|problem| format!("--span: {problem}"))?;
            Ok(start.nanoseconds() + since)
        };
        let span = (end(from, 0)?, end(to, u64::MAX)?);
        if span.0 > span.1 { Err("--span ends before it begins".to_owned()) } else { Ok(span) }
    }

    /// A good frame that the copy is to have.
    fn expect(&mut self, time: Option<Time>, wire: &[u8]) {
        let is_inside = |(from, to): (u64, u64)| time.is_none_or(|time| (from..=to).contains(&time.nanoseconds()));
        if self.edits.span.is_none_or(is_inside) {
            self.digest.add(wire);
        }
    }

    fn parts(&self, item: &Item<'_>) -> Vec<PacketPart> {
        if self.is_raw {
            // The file is the stream.
            let length = item.wire().len();
            return vec![PacketPart { packet: 1, at: Some(item.offset() as usize), length, whole: usize::MAX }];
        }
        self.provenance.borrow().parts(item.stream(), item.offset(), item.wire().len()).0
    }

    fn is_chosen(&mut self, item: &Item<'_>) -> bool {
        let (by_query, by_only) = (self.matching.accepts(item), self.only.accepts(item));
        let Some(number) = item.number() else { return false };
        let by_number = self.args.frame.is_empty() || self.args.frame.contains(&number);
        let asks = !self.args.frame.is_empty()
            || self.args.condition.is_some()
            || !self.args.message.is_empty()
            || self.args.node.is_some();
        asks && by_query && by_only && by_number
    }

    fn take(&mut self, item: &Item<'_>) -> Result<(), String> {
        if self.start.is_none()
            && let Some(start) = item.time()
        {
            self.start = Some(start);
            match self.args.input.wave.span.as_deref().map(|text| self.span(text, start)).transpose() {
                Ok(span) => self.edits.span = span,
                Err(problem) => self.span_problem = Some(problem),
            }
        }
        let parts = self.parts(item);
        if self.keep.as_mut().is_some_and(|keep| !keep.holds(item)) {
            return self.edits.leave_out(&parts);
        }
        let is_chosen = self.is_chosen(item);
        if !is_chosen {
            self.scrub(item, &parts)?;
            return self.change_places(item, &parts).map(|_| ());
        }
        self.found.extend(item.number().filter(|number| self.args.frame.contains(number)));
        let (heading, mut change) = self.change_of(item)?;
        change.heading = heading;
        change.packets = parts.iter().map(|part| part.packet).collect();
        let wire = change.after.clone().unwrap_or_else(|| item.wire().to_vec());
        let is_good = matches!(item, Item::Row(_)) || change.after.is_some();
        if self.request.drop {
            self.edits.leave_out(&parts)?;
            change.what.push("left out".to_owned());
            change.after = None;
        } else {
            if change.after.is_some() {
                self.edits.replace(&parts, &wire)?;
            }
            let is_right = change.sums.iter().all(|sum| sum.written == sum.expected);
            let times = 1 + u64::from(self.request.twice);
            if is_good && is_right {
                (0..times).for_each(|_| self.expect(item.time(), &wire));
            }
            if self.request.twice {
                change.what.push("sent twice".to_owned());
                match parts.as_slice() {
                    [part] if part.length == part.whole => self.edits.of(part.packet).copies += 1,
                    parts => self.edits.repeat(parts, &wire)?,
                }
            }
            let shares = || "it shares a packet with others, and cannot be moved by itself".to_owned();
            let is_alone = parts.iter().all(|part| part.length == part.whole);
            if let Some(delay) = self.request.delay {
                if !is_alone {
                    return Err(shares());
                }
                parts.iter().for_each(|part| self.edits.of(part.packet).delay = delay);
                let by = emberwort_rows::time::duration(delay.unsigned_abs());
                change.what.push(format!("{by} {}", if delay < 0 { "earlier" } else { "later" }));
            }
            if self.request.reorder && self.change_places(item, &parts)? {
                change.what.push("in front of the frame before it, which was to go behind it".to_owned());
            } else if self.request.reorder {
                let ([part], true) = (parts.as_slice(), is_alone) else { return Err(shares()) };
                if change.after.is_none() {
                    self.edits.replace(std::slice::from_ref(part), &wire)?;
                }
                self.waiting.insert(item.stream(), (part.packet, wire));
                change.what.push("behind the next frame of its stream".to_owned());
            }
        }
        self.report.add(change).map_err(|error| format!("what became of it cannot be kept: {error}"))
    }

    /// Lets a frame change places with the one before it in its stream, if that waits for it; whether it did.
    fn change_places(&mut self, item: &Item<'_>, parts: &[PacketPart]) -> Result<bool, String> {
        // A frame that is broken goes on nobody knows where.
        let (true, Some(part)) = (matches!(item, Item::Row(_)), parts.first()) else { return Ok(false) };
        let Some((packet, before)) = self.waiting.remove(&item.stream()) else { return Ok(false) };
        if part.length != part.whole {
            return Err("the frame behind it shares a packet with others, so that they cannot change places".to_owned());
        }
        // What it is now, if it was changed itself.
        let edit = self.edits.of(part.packet);
        let own = edit.cuts.first().map_or_else(|| item.wire().to_vec(), |(_, bytes)| bytes.clone());
        edit.cuts.clear();
        self.edits.replace(std::slice::from_ref(part), &before)?;
        if let Some((_, bytes)) = self.edits.of(packet).cuts.first_mut() {
            *bytes = own;
        }
        Ok(true)
    }

    /// What is set or patched in a frame.
    fn change_of(&self, item: &Item<'_>) -> Result<(String, Change), String> {
        let number = item.number().unwrap_or(0);
        let when = item.time().map_or_else(|| format!("at {}", item.offset()), emberwort_rows::time::rfc3339);
        let channel = &self.plan.channels[item.channel()].name;
        let change = Change {
            number,
            heading: String::new(),
            values: Vec::new(),
            before: item.wire().to_vec(),
            after: None,
            sums: Vec::new(),
            packets: Vec::new(),
            what: Vec::new(),
        };
        match item {
            Item::Row(row) => {
                let name = &row.plan.messages[row.message].message.name;
                let node = row.frame.node.map_or_else(String::new, |node| format!(" {node}"));
                let heading = format!("#{number}  {name} from {}{node} on {channel}, {when}", row.from.as_str());
                Ok((heading, self.change_row(row, change)?))
            }
            Item::Broken(broken) => {
                let heading = format!("#{number}  broken frame on {channel}, {when}");
                Ok((heading, self.change_broken(broken, change)?))
            }
            Item::Stray(_) => Err("stray bytes are no frame".to_owned()),
        }
    }

    fn change_row(&self, row: &Row<'_>, mut change: Change) -> Result<Change, String> {
        if self.request.sets.is_empty() && self.request.patches.is_empty() {
            return Ok(change);
        }
        let name = &self.plan.channels[row.channel].name;
        let Some(index) = row.plan.channel_index(name) else {
            return Err("its channel is not known any more".to_owned());
        };
        let framing = row.plan.channels[index].framing(row.from);
        let mut plain = row.frame.bytes.to_vec();
        if !self.request.sets.is_empty() {
            let (values, wire) = with_values(row, &framing, &self.request.sets)?;
            change.values = differences(row, &values);
            let mut room = Vec::new();
            plain = framing.plain_bytes(&wire, &mut room).map_err(|fault| format!("{fault:?}"))?.to_vec();
        }
        let before: HashMap<usize, u64> =
            framing.checksums(row.frame.bytes).into_iter().map(|(part, found, _)| (part, found)).collect();
        self.patch(&mut plain)?;
        self.seal(&framing, &before, plain, &mut change)?;
        Ok(change)
    }

    fn change_broken(&self, broken: &BrokenFrame<'_>, mut change: Change) -> Result<Change, String> {
        if !self.request.sets.is_empty() {
            return Err("it is broken, and has no values to set; --patch changes its bytes".to_owned());
        }
        if self.request.patches.is_empty() {
            return Ok(change);
        }
        let channel = &self.plan.channels[broken.channel];
        let framing = channel.framing(broken.from.unwrap_or(emberwort_model::model::End::Device));
        let mut room = Vec::new();
        let mut plain = framing.plain_bytes(broken.wire, &mut room).unwrap_or(broken.wire).to_vec();
        let before: HashMap<usize, u64> =
            framing.checksums(&plain).into_iter().map(|(part, found, _)| (part, found)).collect();
        self.patch(&mut plain)?;
        self.seal(&framing, &before, plain, &mut change)?;
        Ok(change)
    }

    fn patch(&self, plain: &mut [u8]) -> Result<(), String> {
        let length = plain.len();
        for (at, bytes) in &self.request.patches {
            let Some(place) = plain.get_mut(*at..at + bytes.len()) else {
                return Err(format!("the frame has bytes 0 to {}, and --patch {at} reaches behind them", length - 1));
            };
            place.copy_from_slice(bytes);
        }
        Ok(())
    }

    /// Sets the checksums, or leaves what stood there, and puts the frame on the wire.
    fn seal(
        &self,
        framing: &Framing,
        before: &HashMap<usize, u64>,
        mut plain: Vec<u8>,
        change: &mut Change,
    ) -> Result<(), String> {
        let parts: Vec<usize> = framing.checksums(&plain).iter().map(|(part, ..)| *part).collect();
        // One may cover another: in their order.
        for part in parts {
            let Some((_, now, expected)) = framing.checksums(&plain).into_iter().find(|(own, ..)| *own == part) else {
                continue;
            };
            let found = before.get(&part).copied().unwrap_or(now);
            let written = if self.args.keep_checksums { found } else { expected };
            framing.set(part, written, &mut plain).map_err(|error| error.to_string())?;
            let of = &framing.plan().parts[part];
            let algorithm = match &of.role {
                Role::Checksum { name, .. } => name.clone(),
                _ => String::new(),
            };
            let digits = usize::from(of.bits).div_ceil(4);
            change.sums.push(FrameSum { part: of.name.clone(), algorithm, found, expected, written, digits });
        }
        let mut wire = Vec::new();
        framing.stuff(&plain, &mut wire);
        change.after = Some(wire);
        Ok(())
    }

    /// Gives the values of a row that are to be scrubbed others.
    fn scrub(&mut self, item: &Item<'_>, parts: &[PacketPart]) -> Result<(), String> {
        let Item::Row(row) = item else { return Ok(()) };
        let Some((wanted, by, done)) = &self.scrub else {
            self.expect(row.time, row.wire);
            return Ok(());
        };
        let mut values = row.values.clone();
        let is_changed = wanted.scrub((row.plan, row.message, row.from), &mut values, by, &mut done.borrow_mut());
        if !is_changed {
            self.expect(row.time, row.wire);
            return Ok(());
        }
        let name = &self.plan.channels[row.channel].name;
        let index = row.plan.channel_index(name).ok_or("its channel is not known any more")?;
        let framing = row.plan.channels[index].framing(row.from);
        let wire = framed(row, &framing, &values)?;
        self.expect(row.time, &wire);
        self.scrubbed += 1;
        self.edits.replace(parts, &wire)
    }
}

/// The fields that differ, with both values.
fn differences(row: &Row<'_>, values: &Values) -> Vec<[String; 3]> {
    let fields = &row.plan.messages[row.message].message.fields;
    let text = |values: &Values, slot: usize| {
        let mut text = String::new();
        write_value(row.plan, row.from, &fields[slot], (values, slot), false, &mut text);
        if !fields[slot].unit.is_empty() {
            text = format!("{text} {}", fields[slot].unit);
        }
        text
    };
    let differing =
        (0..fields.len()).filter(|slot| !fields[*slot].is_spare() && !values.is_same(*slot, row.values, *slot));
    differing.map(|slot| [fields[slot].name.clone(), text(row.values, slot), text(values, slot)]).collect()
}

/// The revision of a row's sender, as its body shows it.
fn revision_of(row: &Row<'_>) -> Result<u32, String> {
    let (compiled, own) = (&row.plan.messages[row.message], row.plan.link.revision);
    sender_revision(compiled, own, row.frame.body, row.values, &mut Vec::new())
        .ok_or_else(|| "its body holds more than its fields say, which would be lost; --patch changes bytes".to_owned())
}

/// The frame of a row around other values.
fn framed(row: &Row<'_>, framing: &Framing, values: &Values) -> Result<Vec<u8>, String> {
    if matches!(framing.plan().finder, FrameFinder::StatusBytes { .. }) {
        return Err(
            "frames whose first byte may be left out depend on those before them; --patch changes bytes".to_owned()
        );
    }
    let compiled = &row.plan.messages[row.message];
    let revision = revision_of(row)?;
    let mut body = Vec::new();
    body_on(framing.plan(), compiled, values, revision, &mut body).map_err(|error| error.to_string())?;
    let header = Header {
        key: row.frame.key,
        node: row.frame.node.unwrap_or(0),
        sequence: row.frame.sequence.unwrap_or(0),
        revision: row.frame.revision.unwrap_or(0),
    };
    let mut wire = Vec::new();
    framing.encode(&header, &body, &mut wire).map_err(|error| error.to_string())?;
    Ok(wire)
}

/// The values of a row with some set, and the frame around them.
fn with_values(row: &Row<'_>, framing: &Framing, sets: &[(String, String)]) -> Result<(Values, Vec<u8>), String> {
    let compiled = &row.plan.messages[row.message];
    let mut text = String::new();
    // Writing to memory cannot fail.
    let _ =
        json::write_fields(compiled, row.values, Writing { raw: false, inside: Some((row.plan, row.from)) }, &mut text);
    let mut object: Map<String, Json> = serde_json::from_str(&text).map_err(|error| error.to_string())?;
    let mut plain = Vec::new();
    for (name, value) in sets {
        if compiled.message.field(name).is_some() {
            plain.push((name.as_str(), value.as_str()));
            object.remove(name);
            continue;
        }
        let pointer = format!("/{}", name.replace('[', "/").replace(']', "").replace('.', "/"));
        let mut root = Json::Object(object);
        let place = root.pointer_mut(&pointer).ok_or_else(|| format!("{} has no `{name}`", compiled.message.name))?;
        *place = serde_json::from_str(value).unwrap_or_else(|_| Json::String(value.clone()));
        let Json::Object(changed) = root else { return Err("it has no fields".to_owned()) };
        object = changed;
    }
    let given = object.iter().map(|(name, value)| (name.as_str(), GivenValue::Json(value)));
    let given: Vec<(&str, GivenValue<'_>)> =
        given.chain(plain.iter().map(|(name, value)| (*name, GivenValue::Text(value)))).collect();
    let revision = revision_of(row)?;
    // What an older sender lacks is not said.
    let is_held = |name: &str| compiled.message.field(name).is_none_or(|(_, field)| field.since <= revision);
    if let Some((name, _)) = plain.iter().find(|(name, _)| !is_held(name)) {
        return Err(format!("its sender's revision {revision} lacks `{name}`"));
    }
    let given = given.into_iter().filter(|(name, _)| is_held(name));
    let mut values = Values::default();
    let filling = Filling { clamp: false, revision, plan: Some(row.plan), changed: None };
    fill(compiled, given, filling, &mut values).map_err(|problems| {
        let lines: Vec<String> = problems.iter().map(ToString::to_string).collect();
        lines.join("; ")
    })?;
    let wire = framed(row, framing, &values)?;
    Ok((values, wire))
}

impl ItemSink for Select<'_> {
    type Error = Infallible;

    fn update_revisions(&mut self, revisions: &RevisionMap) {
        self.matching.update_revisions(revisions);
        self.only.update_revisions(revisions);
        if let Some(keep) = &mut self.keep {
            keep.update_revisions(revisions);
        }
    }

    fn wants(&self, _: DefinitionId, _: MessageId) -> Wants {
        Wants::Values
    }

    fn item(&mut self, item: Item<'_>) -> Result<ControlFlow<()>, Infallible> {
        let taken = self.take(&item).and_then(|()| {
            let waiting = &self.waiting;
            let needed = |packet: u64| waiting.values().any(|(waits, _)| *waits == packet);
            self.edits.spill(needed).map_err(|error| format!("what is to change cannot be kept: {error}"))
        });
        if let Err(problem) = taken {
            let number = item.number().map_or_else(|| "stray bytes".to_owned(), |number| format!("frame {number}"));
            self.problem.get_or_insert_with(|| format!("{number}: {problem}"));
            self.problems += 1;
        }
        Ok(if crate::interrupt::came() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) })
    }
}
