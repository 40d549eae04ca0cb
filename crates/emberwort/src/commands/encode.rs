//! `encode`: messages to bytes.

use std::cell::RefCell;
use std::collections::BTreeMap;
use std::fs::File;
use std::io::{self, BufRead, BufReader, Seek as _, Write};
use std::path::Path;
use std::sync::Arc;

use anyhow::{Context, bail};
use emberwort_model::Plan;
use emberwort_model::hex::hex;
use emberwort_model::ids::{ChannelId, MessageId};
use emberwort_model::model::{End, Kind, Selector};
use emberwort_model::plan::{MessagePlan, Part, Role};
use emberwort_text::RowHeader;
use emberwort_text::{Filling, GivenValue, Problem, fill};
use emberwort_wire::body_reader::read_body;
use emberwort_wire::frame::body_on;
use emberwort_wire::status_bytes::RunningStatus;
use emberwort_wire::{EncodeError, Framed, Framing, ValueRef, Values, decode, encode, line};
use serde_json::{Map, Value as Json};
use tempfile::SpooledTempFile;

use crate::cli::{BytesForm, EncodeArgs};
use crate::ending::Ending;
use crate::files;
use crate::output::{self, Look, say};
use crate::project::{Project, load_plan_of};
use crate::reading::capture_definitions::sent_otherwise;
use crate::reading::names::{channel_index, message_index};
use crate::render::plural;

pub fn run(args: &EncodeArgs, link: Option<&Path>, look: Look) -> anyhow::Result<Ending> {
    let definition = Project::find(link)?.definition;
    let plan = load_plan_of(&definition, look)?;
    let on = args.on.as_deref().map(|name| channel_index(&plan, name)).transpose()?;
    let running = RunningStatus::default();
    let (values, sent_otherwise) = (Values::default(), BTreeMap::new());
    let encoder = Encoder {
        plan,
        definition: &definition,
        look,
        sent_otherwise,
        args,
        on,
        running,
        without_rest: 0,
        went_around: 0,
        changes: 0,
        values,
    };
    match &args.out {
        Some(path) => files::write_new(path, |out| encoder.all(out))?,
        None => {
            // All or nothing, as in a file.
            let mut made = SpooledTempFile::new(IN_MEMORY);
            encoder.all(&mut made)?;
            made.rewind()?;
            let mut out = output::stdout_for_bytes();
            io::copy(&mut made, &mut out)?;
            out.flush()?;
        }
    }
    Ok(Ending::Clean)
}

/// More bytes than these wait in a temporary file until all are made.
const IN_MEMORY: usize = 4 << 20;

/// How many rounded or moved numbers are named; of more, the count is enough.
const CHANGES_SHOWN: usize = 12;

/// Entries of tables that a host's message sets although they can only be read.
fn written_though_read_only(message: &MessagePlan, values: &Values) -> Vec<String> {
    let fields = message.message.fields.iter().enumerate();
    let entries = fields.filter(|_| message.message.from == End::Host).filter_map(|(slot, field)| {
        let Kind::Union(union) = &field.kind else { return None };
        let (Some(table), ValueRef::Chosen { form, .. }) = (&union.table, values.get(slot)) else { return None };
        let entry = table.entries.get(form).filter(|entry| !entry.write)?;
        Some(format!("`{}` of `{}` can only be read", entry.field.name, table.name))
    });
    entries.collect()
}

/// Values as they are given on the command line, and those that are none.
pub fn given_words(words: &[String]) -> (Vec<(&str, GivenValue<'_>)>, Vec<Problem>) {
    let mut given = Vec::new();
    let mut wrong = Vec::new();
    for pair in words {
        match pair.split_once('=') {
            Some((name, value)) => given.push((name, GivenValue::Text(value))),
            None => wrong.push(Problem { field: pair.clone(), message: "write FIELD=VALUE".into() }),
        }
    }
    (given, wrong)
}

/// Says all that is wrong with the values of a message.
pub fn refuse(name: &str, problems: &[Problem]) -> anyhow::Result<()> {
    if problems.is_empty() {
        return Ok(());
    }
    let lines: Vec<String> = problems.iter().map(|problem| format!("\n  {problem}")).collect();
    bail!("{name} cannot be encoded:{}", lines.concat())
}

struct Encoder<'a> {
    plan: Arc<Plan>,
    definition: &'a Path,
    look: Look,
    /// By earlier revision that somebody asked for, the messages that its senders send otherwise.
    sent_otherwise: BTreeMap<u32, Vec<String>>,
    args: &'a EncodeArgs,
    on: Option<ChannelId>,
    running: RunningStatus,
    /// Rows whose bodies held more than their fields, of which somebody changed some.
    without_rest: usize,
    /// Rows whose sequence number is greater than this channel's can be.
    went_around: usize,
    /// Numbers that were rounded or moved.
    changes: usize,
    values: Values,
}

impl Encoder<'_> {
    fn all(mut self, out: &mut dyn Write) -> anyhow::Result<()> {
        match &self.args.values_from {
            Some(path) => self.rows(path, out),
            None => {
                let Some(name) = &self.args.message else {
                    bail!("name the message to encode, or read messages with --values FILE");
                };
                let message = message_index(&self.plan, name)?;
                self.one(message, out)
            }
        }
    }

    fn one(&mut self, message: MessageId, out: &mut dyn Write) -> anyhow::Result<()> {
        let (given, wrong) = given_words(&self.args.values);
        self.message(message, given, wrong, RowHeader::default(), out)
    }

    /// Reads NDJSON rows, as `decode --as ndjson` prints them or as bare field objects of a named message.
    fn rows(&mut self, path: &Path, out: &mut dyn Write) -> anyhow::Result<()> {
        if !self.args.values.is_empty() {
            bail!("values come from --values, so FIELD=VALUE cannot be given too");
        }
        let named = self.args.message.as_deref().map(|name| message_index(&self.plan, name)).transpose()?;
        let shown = crate::files::shown(path);
        let input: Box<dyn BufRead> = if path == Path::new("-") {
            Box::new(BufReader::new(io::stdin()))
        } else {
            Box::new(BufReader::new(File::open(path).with_context(|| format!("{shown} cannot be read"))?))
        };
        let mut skipped = 0;
        for (number, line) in crate::lines::Lines::of(input).enumerate() {
            let number = number + 1;
            let line = line.with_context(|| format!("{shown} cannot be read in line {number}"))?;
            if line.trim().is_empty() {
                continue;
            }
            let row: Json = serde_json::from_str(&line)
                .with_context(|| format!("line {number} of {shown} is not a JSON object"))?;
            let Json::Object(row) = row else { bail!("line {number} of {shown} is not a JSON object") };
            if ["unread", "broken", "stray"].iter().any(|kind| row.contains_key(*kind)) {
                skipped += 1;
                continue;
            }
            self.row(&row, named, out).with_context(|| format!("line {number} of {shown}"))?;
        }
        if skipped > 0 {
            say!("left out {}, which are not messages: unread or broken frames, stray bytes", plural(skipped, "row"));
        }
        if self.changes > CHANGES_SHOWN {
            say!("{} more were rounded or moved", plural(self.changes - CHANGES_SHOWN, "number"));
        }
        if self.without_rest > 0 {
            say!(
                "of {} the fields were changed, so what their bodies held besides (bytes of a later revision, spare bits) is left out",
                plural(self.without_rest, "row")
            );
        }
        if self.went_around > 0 {
            say!(
                "of {} the sequence number has more bits than this channel's, so only the lower ones are sent",
                plural(self.went_around, "row")
            );
        }
        Ok(())
    }

    fn row(&mut self, row: &Map<String, Json>, named: Option<MessageId>, out: &mut dyn Write) -> anyhow::Result<()> {
        let (message, fields, header) = match (row.get("message"), row.get("fields"), named) {
            (Some(Json::String(name)), Some(Json::Object(fields)), _) => {
                let own = u64::from(self.plan.link.revision);
                if let Some(read_as) = row.get("read_as_revision").and_then(Json::as_u64).filter(|read| *read != own) {
                    bail!(
                        "this row was read as revision {read_as}, not as revision {own}\n\
                         encode it with the definition of that revision: --link sealed/{}-r{read_as}.ember",
                        self.plan.link.name
                    );
                }
                let message = message_index(&self.plan, name)?;
                if named.is_some_and(|named| named != message) {
                    return Ok(());
                }
                (message, fields, RowHeader::of(row).map_err(|problem| anyhow::anyhow!(problem))?)
            }
            (None, None, Some(message)) => (message, row, RowHeader::default()),
            _ => bail!(
                "a row has \"message\" and \"fields\", as `decode --as ndjson` prints them; for bare fields name the message"
            ),
        };
        let given = fields.iter().map(|(name, value)| (name.as_str(), GivenValue::Json(value))).collect();
        self.message(message, given, Vec::new(), header, out)
    }

    fn message(
        &mut self,
        index: MessageId,
        given: Vec<(&str, GivenValue<'_>)>,
        mut problems: Vec<Problem>,
        row: RowHeader,
        out: &mut dyn Write,
    ) -> anyhow::Result<()> {
        let plan = self.plan.clone();
        let compiled = &plan.messages[index];
        let name = &compiled.message.name;
        let own = self.plan.link.revision;
        let revision = self.args.sender_revision.or(row.revision).unwrap_or(own);
        if revision == 0 || (self.args.sender_revision.is_some() && revision > own) {
            bail!("the sender's revision must be from 1 to {own}, the revision of this definition");
        }
        if revision < own {
            self.fits_revision(revision, name)?;
        }
        let changed = RefCell::default();
        let filling = Filling {
            clamp: self.args.clamp,
            revision: revision.min(own),
            plan: Some(&self.plan),
            changed: Some(&changed),
        };
        if let Err(more) = fill(compiled, given, filling, &mut self.values) {
            problems.extend(more);
        }
        refuse(name, &problems)?;
        for entry in written_though_read_only(compiled, &self.values) {
            say!("{name}: {entry}, so a device has to refuse this");
        }
        for change in changed.take() {
            self.changes += 1;
            if self.changes <= CHANGES_SHOWN {
                say!("{name}{change}");
            }
        }
        let framing = self.on.map(|index| plan.channels[index].framing(compiled.message.from));
        let direction = framing.as_deref().map(Framing::plan);
        if let (Some(channel), Some(index_on)) = (direction, self.on)
            && (channel.key_of(index).is_none() || !compiled.message.channels.contains(&index_on))
        {
            let channels: Vec<&str> =
                compiled.message.channels.iter().map(|index| self.plan.channels[*index].name.as_str()).collect();
            bail!("{name} does not travel on `{}`; it travels on: {}", channel.name, channels.join(", "));
        }
        let mut body = Vec::new();
        let made = match direction {
            Some(channel) => body_on(channel, compiled, &self.values, filling.revision, &mut body),
            None => encode(compiled, &self.values, filling.revision, &mut body),
        };
        made.map_err(|error| {
            let field = &compiled.message.fields[error.slot()].name;
            let why = other_form(compiled, &self.values, &error).unwrap_or_else(|| error.to_string());
            anyhow::anyhow!("{name} cannot be encoded: {field}: {why}")
        })?;
        if let Some(whole) = row.body.as_ref() {
            match mean_the_same(compiled, whole, &body) {
                true => body.clone_from(whole),
                false => self.without_rest += 1,
            }
        }
        let (Some(framing), Some(channel)) = (&framing, direction) else {
            return self.print(&body, out);
        };
        // What a row says of another channel's frames may have no place here; what an option says must have one.
        let asked = RowHeader { node: self.args.node, sequence: self.args.sequence, ..RowHeader::default() };
        asked.fits(channel, index).map_err(|problem| anyhow::anyhow!(problem))?;
        let said = RowHeader { node: asked.node.or(row.node), sequence: asked.sequence.or(row.sequence), ..row };
        let greatest = channel.part(|role| *role == Role::Sequence).map_or(u64::MAX, Part::greatest);
        self.went_around += usize::from(said.sequence.is_some_and(|sequence| sequence > greatest));
        let header = said.header(channel, index, revision);
        let mut frame = Vec::new();
        framing.encode(&header, &body, &mut frame)?;
        if channel.finder.is_text() {
            // Another pattern may fit, too, and come first.
            let (mut plain, mut back) = (Vec::new(), Values::default());
            let view = framing.open(&frame, &mut plain).ok();
            let found = view.and_then(|view| read_body(&plan, channel, &view, &mut back).ok());
            if let Some(other) = found.filter(|found| *found != index) {
                bail!(
                    "{name} cannot be encoded: a receiver would read this line as {}, whose pattern it fits, too",
                    plan.messages[other].message.name
                );
            }
        }
        if channel.key_is_outside() {
            say!("{name} goes to {}", channel.key_text(header.key));
        }
        let finder = channel.finder;
        let sent = self.running.shorten(finder, &frame).to_vec();
        self.print(&sent, out)
    }

    /// Whether a sender of an earlier revision sends a message as this definition says it without what came later.
    fn fits_revision(&mut self, revision: u32, message: &str) -> anyhow::Result<()> {
        if !self.sent_otherwise.contains_key(&revision) {
            let found = sent_otherwise(self.definition, &self.plan, revision, self.look)?;
            self.sent_otherwise.insert(revision, found);
        }
        if self.sent_otherwise[&revision].iter().any(|name| name == message) {
            bail!(
                "a sender of revision {revision} sends {message} differently from what this definition says\n\
                 encode it with its own: --link sealed/{}-r{revision}.ember",
                self.plan.link.name
            );
        }
        Ok(())
    }

    fn print(&self, bytes: &[u8], out: &mut dyn Write) -> anyhow::Result<()> {
        match self.args.form {
            BytesForm::Bytes => out.write_all(bytes)?,
            BytesForm::Hex => writeln!(out, "{}", hex(bytes))?,
        }
        Ok(())
    }
}

/// Whether two bodies have the same fields: one that holds more, and the one that was made of its row.
fn mean_the_same(plan: &MessagePlan, whole: &[u8], made: &[u8]) -> bool {
    let read = |body: &[u8]| {
        let mut values = Values::default();
        let fits = match plan.message.line {
            Some(_) => line::read(plan, body, &mut values) == Ok(true),
            None => decode(plan, body, &mut values).is_ok(),
        };
        fits.then_some(values)
    };
    read(whole).is_some_and(|values| Some(values) == read(made))
}

/// Which form is given and which is selected, by their names.
fn other_form(plan: &MessagePlan, values: &Values, error: &EncodeError) -> Option<String> {
    let EncodeError::OtherForm { slot, key } = *error else { return None };
    let Kind::Union(union) = &plan.message.fields[slot].kind else { return None };
    let ValueRef::Chosen { form, .. } = values.get(slot) else { return None };
    let given = &union.form(form)?.name;
    let selected = match union.index_of(key).and_then(|index| union.form(index)) {
        Some(selected) => format!("selects `{}`", selected.name),
        None => "selects no form".to_owned(),
    };
    let Selector::Field(decider) = union.selector else { return None };
    let field = &plan.message.fields[decider];
    let mut shown = String::new();
    emberwort_text::write_value(field, values, decider, &mut shown).ok()?;
    Some(format!("`{}` is {shown}, which {selected}, but the value given is for `{given}`", field.name))
}
