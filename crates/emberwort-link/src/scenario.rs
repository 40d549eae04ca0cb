//! Trial files (TOML), read and checked against a link.

use std::collections::BTreeMap;
use std::sync::Arc;

use emberwort_model::Plan;
use emberwort_model::model::{End, Kind};
use emberwort_model::plan::Role;
use emberwort_text::row::RowHeader;
use emberwort_text::{Filling, Given, fill};
use emberwort_wire::{Time, Values};
use serde::Deserialize;
use serde_json::{Map, Value as Json};
use thiserror::Error;

use crate::Nanoseconds;
use crate::definitions::{Definitions, Revisions};
use crate::expect::Expectation;
use crate::file_words::{duration, index, with_null};
use crate::signal::Signal;
use crate::wire::{Bursts, Faults, Stretch};

/// Why a trial file cannot be used.
#[derive(Debug, Error)]
pub enum ScenarioError {
    /// It is not TOML, or has unknown or missing keys.
    #[error(transparent)]
    Form(#[from] Box<toml::de::Error>),
    /// Something in it does not fit the link. The first part says where.
    #[error("{at}: {problem}")]
    Content {
        /// Where in the file, as a path of keys.
        at: String,
        /// What is wrong, and a way out.
        problem: String,
    },
}

fn content<T>(at: impl Into<String>, problem: impl Into<String>) -> Result<T, ScenarioError> {
    Err(ScenarioError::Content { at: at.into(), problem: problem.into() })
}

/// A trial, checked against a link.
#[derive(Clone, Debug)]
pub struct Scenario {
    /// What the trial is about.
    pub about: String,
    /// The definitions that the ends have, with the channel in each.
    pub definitions: Definitions,
    /// Index of the host's definition.
    pub host: usize,
    /// How long it runs.
    pub span: Nanoseconds,
    /// The seed of all randomness.
    pub seed: u64,
    /// When it starts.
    pub starts: Time,
    /// The faults of the wire.
    pub faults: Faults,
    /// Stretches with other faults.
    pub stretches: Vec<Stretch>,
    /// Disturbances that come back.
    pub bursts: Option<Bursts>,
    /// From the last bit's sending to its receiving.
    pub delay: Nanoseconds,
    /// The devices.
    pub devices: Vec<Device>,
    /// What the host sends.
    pub requests: Vec<Planned>,
    /// How many times the host sends a request once more when nobody answers it in time.
    pub retries: u32,
    /// What must hold.
    pub must: Vec<Expectation>,
}

/// A simulated device.
#[derive(Clone, Debug)]
pub struct Device {
    /// Its node.
    pub node: u64,
    /// Index of its definition. All indices of messages are of that one.
    pub definition: usize,
    /// The revision that it has: that of its definition, or an earlier one, which lacks what was added later.
    pub revision: u32,
    /// When it first reports.
    pub first_report: Nanoseconds,
    /// From a request's arrival to the sending of its answer.
    pub answers_after: Nanoseconds,
    /// Signals by message index and slot.
    pub signals: BTreeMap<(usize, usize), Signal>,
    /// Messages that it sends at moments.
    pub sends: Vec<Planned>,
    /// How it answers requests; the first that fits counts.
    pub replies: Vec<Reply>,
    /// When it is off, and from when on it runs again.
    pub restarts: Vec<(Nanoseconds, Nanoseconds)>,
}

/// A message to be sent at a moment, or again and again.
#[derive(Clone, Debug)]
pub struct Planned {
    /// When first.
    pub at: Nanoseconds,
    /// From one time to the next.
    pub every: Option<Nanoseconds>,
    /// From when on no more.
    pub until: Nanoseconds,
    /// Index of the message in the sender's definition.
    pub message: usize,
    /// To which node (requests), or from which (devices).
    pub node: u64,
    /// Its values.
    pub values: Values,
}

/// An answer to a request.
#[derive(Clone, Debug)]
pub struct Reply {
    /// Index of the request's message.
    pub to: usize,
    /// From when on.
    pub from: Nanoseconds,
    /// Index of the answer's message.
    pub with: usize,
    /// Values that are given; the others hold their rest.
    pub fields: Map<String, Json>,
    /// Fields that repeat one of the request: its slot, and that of the answer.
    pub echo: Vec<(usize, usize)>,
}

// ---- the file ----

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct TrialFile {
    #[serde(default)]
    about: String,
    channel: String,
    span: String,
    #[serde(default)]
    seed: u64,
    starts: Option<String>,
    #[serde(default)]
    must: Vec<String>,
    #[serde(default)]
    wire: WireFile,
    #[serde(default)]
    host: HostFile,
    device: Vec<DeviceFile>,
    #[serde(default)]
    request: Vec<RequestFile>,
}

#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
struct WireFile {
    #[serde(default)]
    bit_errors: f64,
    #[serde(default)]
    byte_loss: f64,
    #[serde(default)]
    frame_loss: f64,
    #[serde(default)]
    duplicates: f64,
    delay: Option<String>,
    bursts: Option<BurstsFile>,
    #[serde(default)]
    stretch: Vec<StretchFile>,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct BurstsFile {
    every: String,
    lasting: String,
    bit_errors: f64,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct StretchFile {
    from: String,
    to: String,
    #[serde(default)]
    bit_errors: f64,
    #[serde(default)]
    byte_loss: f64,
    #[serde(default)]
    frame_loss: f64,
    #[serde(default)]
    duplicates: f64,
}

#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
struct HostFile {
    revision: Option<u32>,
    #[serde(default)]
    retries: u32,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct DeviceFile {
    #[serde(default)]
    node: u64,
    revision: Option<u32>,
    first_report: Option<String>,
    answers_after: Option<String>,
    #[serde(default)]
    signals: BTreeMap<String, BTreeMap<String, Json>>,
    #[serde(default)]
    sends: Vec<SendFile>,
    #[serde(default)]
    reply: Vec<ReplyFile>,
    #[serde(default)]
    restart: Vec<RestartFile>,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct SendFile {
    at: String,
    message: String,
    #[serde(default)]
    fields: Map<String, Json>,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct ReplyFile {
    to: String,
    from: Option<String>,
    with: String,
    #[serde(default)]
    fields: Map<String, Json>,
    #[serde(default)]
    echo: Vec<String>,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct RestartFile {
    at: String,
    lasting: String,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct RequestFile {
    at: String,
    every: Option<String>,
    until: Option<String>,
    #[serde(default)]
    node: u64,
    message: String,
    #[serde(default)]
    fields: Map<String, Json>,
}

/// The most frames that a trial may send.
const MAX_FRAMES: u64 = 100_000_000;

fn time(at: &str, text: &str) -> Result<Nanoseconds, ScenarioError> {
    duration(text).or_else(|problem| content(at, problem))
}

fn chance(at: &str, value: f64) -> Result<f64, ScenarioError> {
    if (0.0..=1.0).contains(&value) {
        Ok(value)
    } else {
        content(at, format!("{value} is not a probability: write a number from 0 to 1"))
    }
}

impl Scenario {
    /// Reads a trial file for a link. What `revisions` says of an end counts more than what the file says.
    ///
    /// # Errors
    /// The first thing that is wrong, and where.
    pub fn parse(text: &str, plan: &Arc<Plan>, revisions: &Revisions) -> Result<Self, ScenarioError> {
        let file: TrialFile = toml::from_str(text).map_err(Box::new)?;
        let channel = index("channel", &file.channel, plan.channels.iter().map(|channel| channel.name.as_str()))
            .or_else(|problem| content("channel", problem))?;
        let mut definitions = Definitions::of(plan, channel);
        let span = time("span", &file.span)?;
        let devices = devices_of(&file.device, revisions, &mut definitions)?;
        let said = revisions.host.as_ref();
        let (host, revision) = definition("host.revision", said, file.host.revision, revisions, &mut definitions)?;
        if revision != definitions.get(host).plan.link.revision {
            let problem = format!("revision {revision} is not sealed, so nobody knows what its host asks");
            return content("host.revision", problem);
        }
        let reader = Reader::of(&definitions, host);
        let mut requests = Vec::new();
        for (n, request) in file.request.iter().enumerate() {
            requests.push(reader.request(&format!("request {}", n + 1), request, span, file.host.retries)?);
        }
        ends_in_time(&definitions, span, &devices, &requests)?;
        let nodes: Vec<u64> = devices.iter().map(|device| device.node).collect();
        let mut must = Vec::new();
        for (n, sentence) in file.must.iter().enumerate() {
            let expectation = Expectation::parse(sentence, &definitions, host, &nodes);
            must.push(expectation.or_else(|problem| content(format!("must {}", n + 1), problem))?);
        }
        Ok(Self {
            about: file.about,
            span,
            seed: file.seed,
            starts: starts_of(file.starts.as_deref())?,
            faults: faults(
                "wire",
                file.wire.bit_errors,
                file.wire.byte_loss,
                file.wire.frame_loss,
                file.wire.duplicates,
            )?,
            stretches: stretches_of(&file.wire.stretch)?,
            bursts: file.wire.bursts.as_ref().map(bursts_of).transpose()?,
            definitions,
            host,
            delay: file.wire.delay.as_deref().map_or(Ok(0), |text| time("wire.delay", text))?,
            devices,
            requests,
            retries: file.host.retries,
            must,
        })
    }
}

/// The moment at which a trial starts.
fn starts_of(text: Option<&str>) -> Result<Time, ScenarioError> {
    let Some(text) = text else { return Ok(Time::default()) };
    match text.parse::<jiff::Timestamp>().map(|time| u64::try_from(time.as_nanosecond())) {
        Ok(Ok(nanoseconds)) => Ok(Time::from_nanoseconds(nanoseconds)),
        _ => content("starts", format!("`{text}` is not a time; write it as 2031-03-09T02:10:00Z")),
    }
}

/// Faults of the wire, each with a chance.
fn faults(
    at: &str,
    bit_errors: f64,
    byte_loss: f64,
    frame_loss: f64,
    duplicates: f64,
) -> Result<Faults, ScenarioError> {
    Ok(Faults {
        bit_errors: chance(&format!("{at}.bit_errors"), bit_errors)?,
        byte_loss: chance(&format!("{at}.byte_loss"), byte_loss)?,
        frame_loss: chance(&format!("{at}.frame_loss"), frame_loss)?,
        duplicates: chance(&format!("{at}.duplicates"), duplicates)?,
    })
}

/// Stretches of time with faults of their own.
fn stretches_of(file: &[StretchFile]) -> Result<Vec<Stretch>, ScenarioError> {
    let stretch = |(n, stretch): (usize, &StretchFile)| {
        let at = format!("wire.stretch {}", n + 1);
        Ok(Stretch {
            from: time(&at, &stretch.from)?,
            to: time(&at, &stretch.to)?,
            faults: faults(&at, stretch.bit_errors, stretch.byte_loss, stretch.frame_loss, stretch.duplicates)?,
        })
    };
    file.iter().enumerate().map(stretch).collect()
}

/// Disturbances that come back.
fn bursts_of(file: &BurstsFile) -> Result<Bursts, ScenarioError> {
    let every = time("wire.bursts.every", &file.every)?;
    if every == 0 {
        return content("wire.bursts.every", "must be more than 0");
    }
    Ok(Bursts {
        every,
        lasting: time("wire.bursts.lasting", &file.lasting)?,
        bit_errors: chance("wire.bursts.bit_errors", file.bit_errors)?,
    })
}

/// The devices, each with the definition that it speaks.
fn devices_of(
    file: &[DeviceFile],
    revisions: &Revisions,
    definitions: &mut Definitions,
) -> Result<Vec<Device>, ScenarioError> {
    let mut devices: Vec<Device> = Vec::new();
    for (n, device) in file.iter().enumerate() {
        let at = format!("device {}", n + 1);
        if devices.iter().any(|other| other.node == device.node) {
            return content(at, format!("node {} is taken by an earlier device", device.node));
        }
        let said = revisions.devices.get(&device.node).or(revisions.every_device.as_ref());
        let said = said.or_else(|| revisions.fleet.get(&device.node));
        let (definition, revision) =
            definition(&format!("{at}.revision"), said, device.revision, revisions, definitions)?;
        devices.push(Reader::of(definitions, definition).device(&at, device, revision)?);
    }
    for (node, spoken) in &revisions.devices {
        if devices.iter().all(|device| device.node != *node) {
            let nodes: Vec<String> = devices.iter().map(|device| device.node.to_string()).collect();
            let (revision, nodes) = (spoken.link.revision, nodes.join(", "));
            let problem = format!("there is no node {node} that could have revision {revision}; there are {nodes}");
            return content("device", problem);
        }
    }
    Ok(devices)
}

/// Refuses a trial that sends more frames than anybody waits for.
fn ends_in_time(
    definitions: &Definitions,
    span: Nanoseconds,
    devices: &[Device],
    requests: &[Planned],
) -> Result<(), ScenarioError> {
    let times =
        |first: Nanoseconds, until: Nanoseconds, every: Nanoseconds| until.saturating_sub(first).div_ceil(every.max(1));
    let mut most = (0, String::new());
    let mut all = 0u64;
    let mut add = |count: u64, at: String| {
        all = all.saturating_add(count);
        if count > most.0 {
            most = (count, at);
        }
    };
    for (n, device) in devices.iter().enumerate() {
        let definition = definitions.get(device.definition);
        for (index, compiled) in definition.plan.messages.iter().enumerate() {
            let message = &compiled.message;
            if message.from == End::Device
                && let Some(every) = message.every
                && definition.plan.channels[definition.channel].carries(index)
            {
                add(times(device.first_report, span, every), format!("{} of device {}", message.name, n + 1));
            }
        }
    }
    for (n, request) in requests.iter().enumerate() {
        add(
            request.every.map_or(1, |every| times(request.at, request.until.min(span), every)),
            format!("request {}", n + 1),
        );
    }
    if all > MAX_FRAMES {
        let (count, at) = most;
        return content(
            "span",
            format!(
                "this trial would send {all} frames, {count} of them for {at}; {MAX_FRAMES} are the most. Take a shorter span, or a \
                 longer `every`"
            ),
        );
    }
    Ok(())
}

/// The definition of an end, by index, and the revision that it has: as it was said, else as the file says, else the link's own.
fn definition(
    at: &str,
    said: Option<&Arc<Plan>>,
    in_file: Option<u32>,
    revisions: &Revisions,
    definitions: &mut Definitions,
) -> Result<(usize, u32), ScenarioError> {
    let own = definitions.own().clone();
    let newest = own.link.revision;
    let revision = in_file.filter(|_| said.is_none()).unwrap_or(newest);
    let plan = match said.or_else(|| revisions.sealed.get(&revision).filter(|_| revision != newest)) {
        Some(plan) => plan,
        None if (1..=newest).contains(&revision) => return Ok((0, revision)),
        None => {
            return content(
                at,
                format!("{revision} is not sealed, and does not lie between 1 and {newest}, the link's own"),
            );
        }
    };
    match definitions.add(plan) {
        Some(index) => Ok((index, plan.link.revision)),
        None => {
            let channel = &own.channels[definitions.get(0).channel].name;
            content(at, format!("revision {} has no channel `{channel}`", plan.link.revision))
        }
    }
}

/// Reads what an end does, by its definition.
struct Reader<'a> {
    plan: &'a Plan,
    channel: usize,
    index: usize,
    /// The link's own definition.
    own: &'a Plan,
}

impl<'a> Reader<'a> {
    fn of(definitions: &'a Definitions, index: usize) -> Self {
        let definition = definitions.get(index);
        Self { plan: &definition.plan, channel: definition.channel, index, own: definitions.own() }
    }

    /// Something that is wrong with what an end does.
    fn wrong<T>(&self, at: &str, problem: String) -> Result<T, ScenarioError> {
        match self.index {
            0 => content(at, problem),
            _ => content(at, format!("in revision {}, {problem}", self.plan.link.revision)),
        }
    }

    /// Whether a field that this definition does not have is one of the link's own: a signal is a thing of the world, and an
    /// older device does not measure it.
    fn came_later(&self, message: &str, field: Option<&str>) -> bool {
        let message = self.own.message_index(message).map(|index| &self.own.messages[index].message);
        message.is_some_and(|message| field.is_none_or(|field| message.field(field).is_some()))
    }

    fn message(&self, at: &str, name: &str, from: End) -> Result<usize, ScenarioError> {
        let names = self.plan.messages.iter().map(|plan| plan.message.name.as_str());
        let index = index("message", name, names).or_else(|problem| self.wrong(at, problem))?;
        let message = &self.plan.messages[index].message;
        let channel = &self.plan.channels[self.channel];
        if message.from != from {
            return self.wrong(
                at,
                format!("`{name}` comes from the {}, not from the {}", message.from.as_str(), from.as_str()),
            );
        }
        if !channel.carries(index) {
            return self.wrong(at, format!("`{name}` does not travel on `{}`", channel.name));
        }
        Ok(index)
    }

    /// Whether frames of a message can say this node; where they say none, there is nothing to say.
    fn node_fits(&self, at: &str, node: u64, message: usize) -> Result<(), ScenarioError> {
        let channel = self.plan.channels[self.channel].direction(self.plan.messages[message].message.from);
        let says = channel.nodes_of(message).is_some() || channel.part(|role| *role == Role::Address).is_some();
        let header = RowHeader { node: says.then_some(node), ..RowHeader::default() };
        header.fits(channel, message).or_else(|problem| content(at, problem))
    }

    /// Values of a message: those given, and the rest of the others.
    fn values(&self, at: &str, message: usize, fields: &Map<String, Json>) -> Result<Values, ScenarioError> {
        fill_with_rest(self.plan, message, fields).or_else(|problem| self.wrong(at, problem))
    }

    fn device(&self, at: &str, file: &DeviceFile, revision: u32) -> Result<Device, ScenarioError> {
        if self.plan.channels[self.channel].direction(End::Host).broadcast == Some(file.node) {
            return content(format!("{at}.node"), format!("the node {} means all of them", file.node));
        }
        for (index, compiled) in self.plan.messages.iter().enumerate() {
            let channel = self.plan.channels[self.channel].direction(End::Device);
            if compiled.message.from == End::Device && compiled.message.every.is_some() && channel.carries(index) {
                self.node_fits(&format!("{at}.node"), file.node, index)?;
            }
        }
        let mut signals = BTreeMap::new();
        for (name, fields) in &file.signals {
            let at = format!("{at}.signals.{name}");
            if self.plan.message_index(name).is_none() && self.came_later(name, None) {
                continue;
            }
            let message = self.message(&at, name, End::Device)?;
            let compiled = &self.plan.messages[message].message;
            for (field_name, value) in fields {
                let at = format!("{at}.{field_name}");
                if compiled.field(field_name).is_none() && self.came_later(name, Some(field_name)) {
                    continue;
                }
                let names = compiled.fields.iter().filter(|field| !field.is_spare()).map(|field| field.name.as_str());
                if let Err(problem) = index("field", field_name, names) {
                    return self.wrong(&at, problem);
                }
                if let Some((slot, field)) = compiled.field(field_name) {
                    let signal = Signal::parse(value, field).or_else(|problem| self.wrong(&at, problem))?;
                    signals.insert((message, slot), signal);
                }
            }
        }
        let mut sends = Vec::new();
        for (n, send) in file.sends.iter().enumerate() {
            let at = format!("{at}.sends {}", n + 1);
            let message = self.message(&at, &send.message, End::Device)?;
            self.node_fits(&format!("{at}.node"), file.node, message)?;
            let values = self.values(&at, message, &send.fields)?;
            let at = time(&at, &send.at)?;
            sends.push(Planned { at, every: None, until: at, message, node: file.node, values });
        }
        let mut replies = Vec::new();
        for (n, reply) in file.reply.iter().enumerate() {
            let at = format!("{at}.reply {}", n + 1);
            let to = self.message(&at, &reply.to, End::Host)?;
            let with = self.message(&at, &reply.with, End::Device)?;
            if !self.plan.messages[to].message.answered_by.contains(&with) {
                return self.wrong(
                    &at,
                    format!("the definition does not say that `{}` is answered by `{}`", reply.to, reply.with),
                );
            }
            self.values(&at, with, &reply.fields)?;
            let from = reply.from.as_deref().map_or(Ok(0), |text| time(&at, text))?;
            let mut echo = Vec::new();
            for name in &reply.echo {
                echo.push(self.echo(&format!("{at}.echo"), name, to, with)?);
            }
            replies.push(Reply { to, from, with, fields: reply.fields.clone(), echo });
        }
        // The latest that has begun counts.
        replies.sort_by_key(|reply| std::cmp::Reverse(reply.from));
        let mut restarts = Vec::new();
        for (n, restart) in file.restart.iter().enumerate() {
            let at = format!("{at}.restart {}", n + 1);
            let begin = time(&at, &restart.at)?;
            restarts.push((begin, begin + time(&at, &restart.lasting)?));
        }
        Ok(Device {
            node: file.node,
            definition: self.index,
            revision,
            first_report: file
                .first_report
                .as_deref()
                .map_or(Ok(0), |text| time(&format!("{at}.first_report"), text))?,
            answers_after: file
                .answers_after
                .as_deref()
                .map_or(Ok(2_000_000), |text| time(&format!("{at}.answers_after"), text))?,
            signals,
            sends,
            replies,
            restarts,
        })
    }

    /// The slots of a field that an answer takes from its request: `NAME`, or `NAME of NAME-IN-THE-REQUEST`.
    fn echo(&self, at: &str, text: &str, to: usize, with: usize) -> Result<(usize, usize), ScenarioError> {
        let (answer, request) = text.split_once(" of ").unwrap_or((text, text));
        let field = |message: usize, name: &str| {
            let message = &self.plan.messages[message].message;
            let names = message.fields.iter().filter(|field| !field.is_spare()).map(|field| field.name.as_str());
            index(&format!("field of {}", message.name), name.trim(), names)
                .or_else(|problem| self.wrong(at, problem))?;
            match message.field(name.trim()) {
                Some(found) => Ok(found),
                None => self.wrong(at, format!("there is no field `{name}`")),
            }
        };
        let ((from, asked), (slot, answered)) = (field(to, request)?, field(with, answer)?);
        let simple =
            !matches!(asked.kind, Kind::List { .. } | Kind::Record(_) | Kind::Union(_) | Kind::NestedFrame { .. });
        if asked.kind != answered.kind || asked.optional != answered.optional || !simple {
            let problem =
                format!("`{}` and `{}` do not have the same type, or hold more than one value", request, answer);
            return self.wrong(at, problem);
        }
        Ok((from, slot))
    }

    fn request(&self, at: &str, file: &RequestFile, span: Nanoseconds, retries: u32) -> Result<Planned, ScenarioError> {
        let message = self.message(at, &file.message, End::Host)?;
        self.node_fits(at, file.node, message)?;
        let values = self.values(at, message, &file.fields)?;
        let compiled = &self.plan.messages[message].message;
        if retries > 0 && !compiled.answered_by.is_empty() && compiled.within.is_none() {
            let problem = format!(
                "`retries` needs to know when `{}` is too late: write `answered by … within 50 ms` in its message",
                compiled.name
            );
            return self.wrong("host.retries", problem);
        }
        let moment = time(at, &file.at)?;
        let until = file.until.as_deref().map_or(Ok(span), |text| time(at, text))?;
        let every = file.every.as_deref().map(|text| time(at, text)).transpose()?;
        if every == Some(0) {
            return content(at, "`every` must be more than 0");
        }
        Ok(Planned { at: moment, every, until, message, node: file.node, values })
    }
}

/// Values of a message: those given, and the rest of the others.
pub(crate) fn fill_with_rest(plan: &Plan, message: usize, fields: &Map<String, Json>) -> Result<Values, String> {
    let compiled = &plan.messages[message];
    let fields: Map<String, Json> = fields
        .iter()
        .map(|(name, value)| {
            let field = compiled.message.field(name);
            (name.clone(), field.map_or_else(|| value.clone(), |(_, field)| with_null(value, field)))
        })
        .collect();
    let mut values = Values::new(compiled);
    // A first look at the given values alone: all that is missing is filled below.
    let filling = Filling::of(plan);
    let given = || fields.iter().map(|(name, value)| (name.as_str(), Given::Json(value)));
    if let Err(problems) = fill(compiled, given(), filling, &mut values) {
        let real: Vec<String> =
            problems.iter().filter(|problem| fields.contains_key(&problem.field)).map(ToString::to_string).collect();
        if !real.is_empty() {
            return Err(real.join("; "));
        }
    }
    for (slot, field) in compiled.message.fields.iter().enumerate() {
        if !field.is_spare() && !fields.contains_key(&field.name) {
            crate::signal::rest_in(&compiled.message.fields, field, slot, 0, &mut values);
        }
    }
    Ok(values)
}
