//! `send`: a message through a port, and what is answered.

use std::cell::RefCell;
use std::io;
use std::ops::ControlFlow;
use std::path::Path;
use std::sync::Arc;

use anyhow::bail;
use emberwort_capture::{Decoder, Item, ItemSink, Speakers};
use emberwort_model::Plan;
use emberwort_model::diagnostics::escaped;
use emberwort_model::plan::Role;
use emberwort_port::{Clock, Events};
use emberwort_text::{Filling, RowHeader, fill};
use emberwort_wire::frame::body_on;
use emberwort_wire::status_bytes::RunningStatus;
use emberwort_wire::{ChunkSink as _, Framed as _, Time, Values};

use super::line::{Came, Line, wait};
use super::listen::earliest;
use crate::cli::SendArgs;
use crate::commands::encode::{given_words, refuse};
use crate::commands::ending::Ending;
use crate::commands::names::message_index;
use crate::output::{self, Look, Paint, say};
use crate::project::load_plan;
use crate::render::rows::{RowPrinter, RowStyle};
use crate::render::{plural, time};

/// How long an answer is waited for where the definition does not say it, and how much longer a late one is.
const PATIENCE: u64 = 1_000_000_000;

pub fn run(args: &SendArgs, link: Option<&Path>, look: Look) -> anyhow::Result<Ending> {
    let plan = load_plan(link, look)?;
    let message = message_index(&plan, &args.message)?;
    output::catch_interrupt();
    let events = Events::new(Clock::new());
    let line = Line::open(&args.port.port, &args.port.line, &plan, (&events, 0))?;
    if !line.wait_for_peer(&events, None) {
        bail!("nothing was sent: nobody came to {}", escaped(line.port.name()));
    }
    let mut sender = Sender::new(args, plan.clone(), message, line)?;
    let style = RowStyle { form: args.form, raw: args.raw, look, width: output::terminal_width() };
    let printer = RowPrinter::new(&Speakers::of(plan.clone()), style, output::stdout_at_once());
    let mut decoder = Decoder::new(plan, Talk { printer, asked: None, answer: None, broken: 0 });
    let times = args.count.unwrap_or(if args.every.is_some() { u64::MAX } else { 1 });
    let (mut sent, mut failed) = (0, 0u64);
    let mut next = events.clock().now();
    while sent < times && !output::interrupted() {
        let is_answered = sender.exchange(&events, &mut decoder, look)?;
        sent += 1;
        failed += u64::from(!is_answered);
        let Some(every) = args.every.filter(|_| sent < times) else { continue };
        next = next.after(every).max(events.clock().now());
        if !sender.pass_time(&events, &mut decoder, next) {
            break;
        }
    }
    decoder.finish()?;
    if sent > 1 {
        say!("sent {}, {} without a good answer in time", plural(sent, "message"), failed);
    }
    Ok(if failed > 0 { Ending::WithFindings } else { Ending::Clean })
}

/// What is sent, and what is expected for it.
struct Sender<'a> {
    args: &'a SendArgs,
    plan: Arc<Plan>,
    line: Line,
    message: usize,
    body: Vec<u8>,
    header: emberwort_wire::Header,
    running: RunningStatus,
}

impl<'a> Sender<'a> {
    fn new(args: &'a SendArgs, plan: Arc<Plan>, message: usize, line: Line) -> anyhow::Result<Self> {
        let compiled = &plan.messages[message];
        let name = &compiled.message.name;
        let channel = &plan.channels[line.channel];
        if !compiled.message.channels.contains(&line.channel) {
            bail!("{name} does not travel on `{}`", channel.name);
        }
        let direction = channel.direction(compiled.message.from);
        let (given, mut problems) = given_words(&args.values);
        let changed = RefCell::default();
        let filling =
            Filling { clamp: args.clamp, revision: plan.link.revision, plan: Some(&plan), changed: Some(&changed) };
        let mut values = Values::default();
        if let Err(more) = fill(compiled, given, filling, &mut values) {
            problems.extend(more);
        }
        refuse(name, &problems)?;
        for change in changed.take() {
            say!("{name}{change}");
        }
        let mut body = Vec::new();
        body_on(direction, compiled, &values, plan.link.revision, &mut body).map_err(|error| {
            anyhow::anyhow!("{name} cannot be encoded: {}: {error}", compiled.message.fields[error.slot()].name)
        })?;
        let said = RowHeader { node: args.node, sequence: args.sequence, ..RowHeader::default() };
        said.fits(direction, message).map_err(|problem| anyhow::anyhow!(problem))?;
        let header = said.header(direction, message, plan.link.revision);
        Ok(Self { args, line, message, body, header, running: RunningStatus::default(), plan })
    }

    /// Sends the message once, and waits for its answer. Returns whether all went well.
    fn exchange<P>(&mut self, events: &Events, decoder: &mut Decoder<Talk<P>>, look: Look) -> anyhow::Result<bool>
    where
        P: ItemSink<Error = io::Error>,
    {
        let compiled = &self.plan.messages[self.message].message;
        let from = compiled.from;
        let framing = self.plan.channels[self.line.channel].framing(from);
        let mut frame = Vec::new();
        framing.encode(&self.header, &self.body, &mut frame)?;
        self.header.sequence += 1;
        let shortened = self.running.shorten(framing.plan().finder, &frame).to_vec();
        let sent = match self.line.port.send(&shortened) {
            Ok(sent) => sent,
            Err(error) => bail!("{} takes nothing: {error}", escaped(self.line.port.name())),
        };
        let answers = if self.args.no_answer { Vec::new() } else { compiled.answered_by.clone() };
        let direction = framing.plan();
        let has_node =
            direction.part(|role| *role == Role::Address).is_some() || direction.nodes_of(self.message).is_some();
        let node = has_node.then_some(self.header.node);
        let all = framing.plan().broadcast;
        let is_for_all = node.is_some() && node == all;
        let talk = decoder.sink_mut();
        talk.asked = Some(Asked { message: self.message, answers: answers.clone(), node, sent });
        talk.answer = None;
        talk.broken = 0;
        let _ = decoder.chunk(&self.line.chunk(Some(from), sent, &shortened));
        decoder.pause();
        if answers.is_empty() || is_for_all {
            return Ok(true);
        }
        let within = self.args.within.or(compiled.within).unwrap_or(PATIENCE);
        let name = &compiled.name;
        let end = sent.after(within).after(PATIENCE);
        while decoder.sink_mut().answer.is_none() && self.pass_time_or_answer(events, decoder, end) {}
        let talk = decoder.sink_mut();
        talk.asked = None;
        let failed = |what: String| {
            say!("{} {what}", look.paint_err(Paint::Bad, "finding:"));
            Ok(false)
        };
        let Some((answer, at)) = talk.answer else {
            return match talk.broken {
                0 => failed(format!("nobody answered {name} within {}", time::duration(within))),
                broken => failed(format!(
                    "no good answer to {name} came within {}, but {}: the answer is damaged",
                    time::duration(within),
                    plural(broken, "broken frame")
                )),
            };
        };
        let after = at.since(sent);
        let by = &self.plan.messages[answer].message.name;
        if answer != answers[0] {
            return failed(format!("{name} was refused: {by} came after {}", time::duration(after)));
        }
        if after > within {
            let (after, within) = (time::duration(after), time::duration(within));
            return failed(format!("{by} came late, after {after}; {name} is answered within {within}"));
        }
        say!("{by} came after {}", time::duration(after));
        Ok(true)
    }

    /// Reads what comes until a moment. Returns whether the port is still there.
    fn pass_time<P>(&self, events: &Events, decoder: &mut Decoder<Talk<P>>, end: Time) -> bool
    where
        P: ItemSink<Error = io::Error>,
    {
        while events.clock().now() < end {
            if !self.pass_time_or_answer(events, decoder, end) && events.clock().now() < end {
                return false;
            }
        }
        true
    }

    /// Reads what comes next. Returns whether there is time left, and the port is still there.
    fn pass_time_or_answer<P>(&self, events: &Events, decoder: &mut Decoder<Talk<P>>, end: Time) -> bool
    where
        P: ItemSink<Error = io::Error>,
    {
        match wait(&[&self.line], events, earliest(Some(end), decoder.poll_timeout())) {
            Came::Bytes(_, time, bytes) => {
                let from = self.plan.messages[self.message].message.from.other();
                let _ = decoder.chunk(&self.line.chunk(Some(from), time, &bytes));
            }
            Came::Nothing => decoder.handle_timeout(events.clock().now()),
            Came::End => return false,
        }
        decoder.pause();
        events.clock().now() < end && !decoder.has_ended()
    }
}

/// What is asked at the moment.
struct Asked {
    message: usize,
    answers: Vec<usize>,
    node: Option<u64>,
    sent: Time,
}

/// Shows the request and its answer, out of all that goes through the port.
struct Talk<P> {
    printer: P,
    asked: Option<Asked>,
    /// The answer, and when it came.
    answer: Option<(usize, Time)>,
    /// Broken frames since the request.
    broken: usize,
}

impl<P: ItemSink<Error = io::Error>> ItemSink for Talk<P> {
    type Error = io::Error;

    fn know(&mut self, speakers: &Speakers) {
        self.printer.know(speakers);
    }

    fn item(&mut self, item: Item<'_>) -> io::Result<ControlFlow<()>> {
        let Some(asked) = &self.asked else { return Ok(ControlFlow::Continue(())) };
        match item {
            Item::Row(row) if row.message == asked.message => self.printer.item(item),
            Item::Row(row) => {
                let fits = asked.node.is_none() || row.frame.node.is_none() || row.frame.node == asked.node;
                let came = row.time.filter(|time| *time >= asked.sent);
                match came.filter(|_| fits && self.answer.is_none() && asked.answers.contains(&row.message)) {
                    Some(time) => {
                        self.answer = Some((row.message, time));
                        self.printer.item(item)
                    }
                    None => Ok(ControlFlow::Continue(())),
                }
            }
            Item::Broken(_) => {
                self.broken += 1;
                self.printer.item(item)
            }
            Item::Stray(_) => Ok(ControlFlow::Continue(())),
        }
    }

    fn pause(&mut self) -> io::Result<()> {
        self.printer.pause()
    }
}
