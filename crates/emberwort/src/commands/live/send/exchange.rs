//! A request and its answer, out of all that goes through a port.

use std::cell::RefCell;
use std::io;
use std::ops::ControlFlow;
use std::sync::Arc;

use anyhow::bail;
use emberwort_capture::{Decoder, Item, ItemSink, RevisionMap, StreamSink as _};
use emberwort_model::Plan;
use emberwort_model::diagnostics::escaped;
use emberwort_model::ids::MessageId;
use emberwort_model::model::Field;
use emberwort_model::plan::Role;
use emberwort_rows::{Paint, RowPrinter, RowStyle, ShownTimes, has_unit, time};
use emberwort_text::{Filling, GivenValue, Problem, RowHeader, fill, show};
use emberwort_wire::frame::body_on;
use emberwort_wire::status_bytes::RunningStatus;
use emberwort_wire::{ChunkSink as _, Framed as _, Header, Time, ValueRef, Values};

use super::super::line::{Incoming, Line, PortInput, earliest};
use super::super::numbers::Numbers;
use crate::cli::SendArgs;
use crate::commands::encode::refuse;
use crate::output::{self, Look, Stdout, say};
use crate::render::plural;

/// How long an answer is waited for where the definition does not say it, and how much longer a late one is.
const PATIENCE: u64 = 1_000_000_000;

/// A message that is ready to be sent.
pub struct Ready {
    pub message: MessageId,
    values: Values,
    body: Vec<u8>,
    header: Header,
    /// The number that a row of a file says.
    sequence: Option<u64>,
}

impl Ready {
    /// The value of an entry of a table that it holds, as people read it.
    pub fn shown_value(&self, slot: usize, field: &Field) -> Option<String> {
        match self.values.get(slot) {
            ValueRef::Chosen { slot, .. } => Some(with_unit(field, &self.values, slot)),
            _ => None,
        }
    }
}

/// A value as people read it.
pub fn with_unit(field: &Field, values: &Values, slot: usize) -> String {
    let mut text = String::new();
    // Writing to memory cannot fail.
    let _ = show::write_value(field, values, slot, &mut text);
    if has_unit(field, values.get(slot)) { format!("{text} {}", field.unit) } else { text }
}

/// What came of sending a message.
pub enum Outcome {
    /// All went well: with the answer's values, if there was to be one.
    Well(Option<Values>),
    /// It was refused, or the answer came late, damaged or not at all, which was said.
    Failed,
}

/// Exchanges messages through a port.
pub struct Exchange<'a> {
    pub args: &'a SendArgs,
    pub plan: Arc<Plan>,
    pub line: Line,
    pub look: Look,
    incoming: Incoming,
    decoder: Decoder<ExchangeView<RowPrinter<Stdout>>>,
    numbers: Numbers,
    running: RunningStatus,
}

impl<'a> Exchange<'a> {
    /// Over a line that is open, whose events come here.
    pub fn new(args: &'a SendArgs, plan: Arc<Plan>, (line, incoming): (Line, Incoming), look: Look) -> Self {
        let style = RowStyle {
            form: args.form,
            raw: args.raw,
            only: None,
            labels: None,
            times: ShownTimes::Utc,
            colored: look.out,
            width: output::terminal_width(),
        };
        let printer =
            RowPrinter::new(&RevisionMap::of(plan.clone()), &style, output::stdout_at_once(), crate::interrupt::came);
        let talk = ExchangeView {
            printer,
            is_shown: args.read_all.is_none(),
            pending: None,
            answer: None,
            from_all: 0,
            broken: 0,
        };
        let decoder = Decoder::new(plan.clone(), talk);
        let numbers = Numbers::of(line.port.name(), &plan.channels[line.channel], args.sequence);
        Self { args, plan, line, look, incoming, decoder, numbers, running: RunningStatus::default() }
    }

    /// Nothing more is sent.
    pub fn finish(self) -> anyhow::Result<()> {
        self.decoder.finish()?;
        Ok(())
    }

    pub fn now(&self) -> Time {
        self.incoming.now()
    }

    /// Makes a message ready; `problems` are those of what was given for it.
    pub fn ready(
        &self,
        message: MessageId,
        given: Vec<(&str, GivenValue<'_>)>,
        mut problems: Vec<Problem>,
        row: &RowHeader,
    ) -> anyhow::Result<Ready> {
        let plan = &self.plan;
        let compiled = &plan.messages[message];
        let name = &compiled.message.name;
        let channel = &plan.channels[self.line.channel];
        if !compiled.message.channels.contains(&self.line.channel) {
            bail!("{name} does not travel on `{}`", channel.name);
        }
        let direction = channel.direction(compiled.message.from);
        let changed = RefCell::default();
        let revision = plan.link.revision;
        let filling = Filling { clamp: self.args.clamp, revision, plan: Some(plan), changed: Some(&changed) };
        let mut values = Values::default();
        if let Err(more) = fill(compiled, given, filling, &mut values) {
            problems.extend(more);
        }
        refuse(name, &problems)?;
        for change in changed.take() {
            say!("{name}{change}");
        }
        let mut body = Vec::new();
        body_on(direction, compiled, &values, revision, &mut body).map_err(|error| {
            anyhow::anyhow!("{name} cannot be encoded: {}: {error}", compiled.message.fields[error.slot()].name)
        })?;
        let (node, sequence) = (self.args.node.or(row.node), self.args.sequence.or(row.sequence));
        let said = RowHeader { node, sequence, ..RowHeader::default() };
        said.fits(direction, message).map_err(|problem| anyhow::anyhow!(problem))?;
        if node.is_none() && direction.part(|role| *role == Role::Address).is_some() {
            let all = direction.broadcast.map_or_else(String::new, |all| format!("; {all} means all of them"));
            bail!("frames of `{}` go to one of several nodes: say which with --node N{all}", channel.name);
        }
        let header = said.header(direction, message, revision);
        Ok(Ready { message, values, body, header, sequence: row.sequence })
    }

    /// Sends a message once, and waits for its answer.
    pub fn ask(&mut self, ready: &Ready) -> anyhow::Result<Outcome> {
        let compiled = &self.plan.messages[ready.message].message;
        let framing = self.plan.channels[self.line.channel].framing(compiled.from);
        let mut frame = Vec::new();
        let sequence = ready.sequence.unwrap_or_else(|| self.numbers.next(ready.header.node));
        framing.encode(&Header { sequence, ..ready.header }, &ready.body, &mut frame)?;
        self.numbers.sent(ready.header.node, sequence);
        let shortened = self.running.shorten(framing.plan().finder, &frame).to_vec();
        let sent = match self.line.port.send(&shortened) {
            Ok(sent) => sent,
            Err(error) => bail!("{} takes nothing: {error}", escaped(self.line.port.name())),
        };
        let answers = if self.args.no_answer { Vec::new() } else { compiled.answered_by.clone() };
        let direction = framing.plan();
        let has_node =
            direction.part(|role| *role == Role::Address).is_some() || direction.nodes_of(ready.message).is_some();
        let node = has_node.then_some(ready.header.node);
        let is_for_all = node.is_some() && node == direction.broadcast;
        let talk = self.decoder.sink_mut();
        talk.pending =
            Some(PendingRequest { message: ready.message, answers: answers.clone(), node, is_for_all, sent });
        talk.answer = None;
        talk.from_all = 0;
        talk.broken = 0;
        let _ = self.decoder.chunk(&self.line.chunk(Some(compiled.from), sent, &shortened));
        self.decoder.pause();
        let within = self.args.within.or(compiled.within).unwrap_or(PATIENCE);
        if is_for_all && !answers.is_empty() {
            self.pass_time(ready.message, sent.after(within));
            let talk = self.decoder.sink_mut();
            talk.pending = None;
            let name = &self.plan.messages[ready.message].message.name;
            say!("{} to {name} within {}", plural(talk.from_all, "answer"), time::duration(within));
            return Ok(Outcome::Well(None));
        }
        if answers.is_empty() {
            return Ok(Outcome::Well(None));
        }
        // A late answer is worth a word, unless others wait to be sent.
        let late = if self.args.rows.is_some() || self.args.every.is_some() { 0 } else { PATIENCE };
        let end = sent.after(within).after(late);
        while self.decoder.sink_mut().answer.is_none() && self.go_on(ready.message, end) {}
        Ok(self.judge(ready.message, sent, within))
    }

    /// Whether an answer is one that was hoped for. What is wrong is said.
    fn judge(&mut self, message: MessageId, sent: Time, within: u64) -> Outcome {
        let talk = self.decoder.sink_mut();
        talk.pending = None;
        let (answer, broken) = (talk.answer.take(), talk.broken);
        let name = &self.plan.messages[message].message.name;
        let failed = |what: String| {
            say!("{} {what}", self.look.paint_err(Paint::Bad, "finding:"));
            Outcome::Failed
        };
        let Some(Answer { message: with, time: at, values }) = answer else {
            let within = time::duration(within);
            return failed(match broken {
                0 => format!("nobody answered {name} within {within}"),
                broken => format!(
                    "no good answer to {name} came within {within}, but {}: the answer is damaged",
                    plural(broken, "broken frame")
                ),
            });
        };
        let after = at.since(sent);
        let by = &self.plan.messages[with].message.name;
        if self.plan.messages[message].message.answered_by.first() != Some(&with) {
            return failed(format!("{name} was refused: {by} came after {}", time::duration(after)));
        }
        if after > within {
            let (after, within) = (time::duration(after), time::duration(within));
            return failed(format!("{by} came late, after {after}; {name} is answered within {within}"));
        }
        if self.args.read_all.is_none() {
            match after {
                0 => say!("{by} came at once"),
                after => say!("{by} came after {}", time::duration(after)),
            }
        }
        Outcome::Well(Some(values))
    }

    /// Reads what comes until a moment. Returns whether the port is still there.
    pub fn pass_time(&mut self, message: MessageId, end: Time) -> bool {
        while self.now() < end {
            if !self.go_on(message, end) && self.now() < end {
                return false;
            }
        }
        true
    }

    /// Reads what comes next. Returns whether there is time left, and the port is still there.
    fn go_on(&mut self, message: MessageId, end: Time) -> bool {
        match self.incoming.wait(&[&self.line], earliest(Some(end), self.decoder.poll_timeout())) {
            PortInput::Bytes(_, time, bytes) => {
                let from = self.plan.messages[message].message.from.other();
                let _ = self.decoder.chunk(&self.line.chunk(Some(from), time, &bytes));
            }
            PortInput::Break(_) => self.decoder.end_streams(),
            PortInput::Nothing => self.decoder.handle_timeout(self.now()),
            PortInput::End => return false,
        }
        self.decoder.pause();
        self.now() < end && !self.decoder.has_ended()
    }
}

/// What is asked at the moment.
struct PendingRequest {
    message: MessageId,
    answers: Vec<MessageId>,
    node: Option<u64>,
    is_for_all: bool,
    sent: Time,
}

/// An answer: its message, when it came, its values.
struct Answer {
    message: MessageId,
    time: Time,
    values: Values,
}

/// Shows the request and its answer, out of all that goes through the port.
struct ExchangeView<P> {
    printer: P,
    is_shown: bool,
    pending: Option<PendingRequest>,
    answer: Option<Answer>,
    /// Answers to what was for all nodes.
    from_all: usize,
    /// Broken frames since the request.
    broken: usize,
}

impl<P: ItemSink<Error = io::Error>> ExchangeView<P> {
    fn show(&mut self, item: Item<'_>) -> io::Result<ControlFlow<()>> {
        if self.is_shown { self.printer.item(item) } else { Ok(ControlFlow::Continue(())) }
    }
}

impl<P: ItemSink<Error = io::Error>> ItemSink for ExchangeView<P> {
    type Error = io::Error;

    fn update_revisions(&mut self, revisions: &RevisionMap) {
        self.printer.update_revisions(revisions);
    }

    fn item(&mut self, item: Item<'_>) -> io::Result<ControlFlow<()>> {
        let Some(asked) = &self.pending else { return Ok(ControlFlow::Continue(())) };
        match item {
            Item::Row(row) if row.message == asked.message => self.show(item),
            Item::Row(row) if asked.is_for_all => {
                let came = row.time.is_some_and(|time| time >= asked.sent);
                match came && asked.answers.contains(&row.message) {
                    true => {
                        self.from_all += 1;
                        self.show(item)
                    }
                    false => Ok(ControlFlow::Continue(())),
                }
            }
            Item::Row(row) => {
                let fits = asked.node.is_none() || row.frame.node.is_none() || row.frame.node == asked.node;
                let came = row.time.filter(|time| *time >= asked.sent);
                match came.filter(|_| fits && self.answer.is_none() && asked.answers.contains(&row.message)) {
                    Some(time) => {
                        self.answer = Some(Answer { message: row.message, time, values: row.values.clone() });
                        self.show(item)
                    }
                    None => Ok(ControlFlow::Continue(())),
                }
            }
            Item::Broken(_) => {
                self.broken += 1;
                self.show(item)
            }
            Item::Stray(_) => Ok(ControlFlow::Continue(())),
        }
    }

    fn pause(&mut self) -> io::Result<()> {
        self.printer.pause()
    }
}
