//! Trial files (TOML), read and checked against a link.

mod device;
mod file;
mod host;
mod place;
mod read;
mod wire;

use std::collections::BTreeMap;
use std::sync::Arc;

use emberwort_model::Plan;
use emberwort_model::model::End;
use emberwort_wire::{Time, Values};
use serde_json::{Map, Value as Json};
use thiserror::Error;

use file::TrialFile;
use read::{Reader, definition};

use crate::Nanoseconds;
use crate::definitions::{Definitions, Revisions};
use crate::expect::Expectation;
use crate::file_words::{duration, index};
use crate::formula::Formula;
use crate::script::Script;
use crate::signal::{Fixed, Signal};
use crate::wire::{Bursts, Faults, Stretch};

pub(crate) use read::fill_with_rest;

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

impl ScenarioError {
    /// Where in the file's text it is: byte offsets. What is no TOML says so itself.
    pub fn place(&self, text: &str) -> Option<std::ops::Range<usize>> {
        match self {
            Self::Form(_) => None,
            Self::Content { at, .. } => place::of(text, at),
        }
    }
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
    /// The faults of the wire towards the host.
    pub faults: Faults,
    /// The same towards the devices.
    pub to_device: Faults,
    /// Stretches with other faults.
    pub stretches: Vec<Stretch>,
    /// Disturbances that come back.
    pub bursts: Option<Bursts>,
    /// From the last bit's sending to its receiving.
    pub delay: Nanoseconds,
    /// The most by which that is longer, by chance.
    pub jitter: Nanoseconds,
    /// Whether nobody waits while another sends.
    pub collides: bool,
    /// Bits a second of a network on which frames wait for each other.
    pub bandwidth: Option<u64>,
    /// The devices.
    pub devices: Vec<Device>,
    /// What the host sends.
    pub requests: Vec<Planned>,
    /// How many times the host sends a request once more when nobody answers it in time.
    pub retries: u32,
    /// What the host does step by step, several at once.
    pub scripts: Vec<Script>,
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
    pub answers_after: Delay,
    /// Signals by message index and slot.
    pub signals: BTreeMap<(usize, usize), Signal>,
    /// Messages that it sends at moments.
    pub sends: Vec<Planned>,
    /// How it answers requests; the first that fits counts.
    pub replies: Vec<Reply>,
    /// When it is off, and from when on it runs again.
    pub restarts: Vec<(Nanoseconds, Nanoseconds)>,
    /// Messages that it sends when something begins to hold.
    pub alarms: Vec<Alarm>,
    /// Values of entries of tables, by table and entry.
    pub settings: BTreeMap<(usize, usize), Fixed>,
    /// What answers a request for an entry that is not there.
    pub refusal: Option<Refusal>,
    /// The program that plays it, with its arguments.
    pub program: Option<Vec<String>>,
}

/// What answers a request that cannot be met: a message by index, with its fields.
pub type Refusal = (usize, Map<String, Json>);

/// How long something takes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Delay {
    /// Always the same.
    Always(Nanoseconds),
    /// Anything between two times, all alike.
    Between(Nanoseconds, Nanoseconds),
    /// Normally distributed; never less than nothing.
    Normal {
        /// The mean.
        mean: Nanoseconds,
        /// The standard deviation.
        deviation: Nanoseconds,
    },
    /// Exponentially distributed, from a least time on.
    Exponential {
        /// The mean.
        mean: Nanoseconds,
        /// The least time.
        least: Nanoseconds,
    },
}

/// A message that is sent when a condition begins to hold.
#[derive(Clone, Debug)]
pub struct Alarm {
    /// The message that is sent, by index.
    pub message: usize,
    /// The message, by index, whose fields decide.
    pub of: usize,
    /// The condition.
    pub when: Formula,
    /// Values that are given; the others hold their rest.
    pub fields: Map<String, Json>,
    /// Fields that are worked out of those of the message that decides.
    pub worked: Vec<Worked>,
}

/// A field that is worked out.
#[derive(Clone, Debug)]
pub struct Worked {
    /// Its slot.
    pub slot: usize,
    /// How.
    pub formula: Formula,
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
    /// Index of the answer's message; `None` if there is no answer.
    pub with: Option<usize>,
    /// When it is this one; over the fields of the request.
    pub when: Option<Formula>,
    /// The chance that it is this one.
    pub chance: f64,
    /// From the request's arrival to the sending, if that is not as the device has it.
    pub after: Option<Delay>,
    /// How many times it is sent.
    pub times: u32,
    /// The node that it names, if that is not the device's.
    pub node: Option<u64>,
    /// Fields that are worked out of those of the request.
    pub worked: Vec<Worked>,
    /// Values that are given; the others hold their rest.
    pub fields: Map<String, Json>,
    /// Fields that repeat one of the request: its slot, and that of the answer.
    pub echo: Vec<(usize, usize)>,
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
        Self::parse_with(text, plan, revisions, &|_| Err("no files can be read here".to_owned()))
    }

    /// The same for a trial that may name other files, which `read` gives.
    ///
    /// # Errors
    /// As [`Scenario::parse`].
    pub fn parse_with(
        text: &str,
        plan: &Arc<Plan>,
        revisions: &Revisions,
        read: &dyn Fn(&str) -> Result<String, String>,
    ) -> Result<Self, ScenarioError> {
        let file: TrialFile = toml::from_str(text).map_err(Box::new)?;
        let channel = index("channel", &file.channel, plan.channels.iter().map(|channel| channel.name.as_str()))
            .or_else(|problem| content("channel", problem))?;
        let mut definitions = Definitions::of(plan, channel);
        let span = time("span", &file.span)?;
        let devices = devices_of(&file.device, revisions, &mut definitions, read)?;
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
        let mut scripts = Vec::new();
        for (n, script) in file.host.script.iter().enumerate() {
            scripts.push(reader.script(&format!("host.script {}", n + 1), script)?);
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
            faults: wire::faults_towards("wire", &file.wire.faults(), file.wire.to_host.as_ref(), "to_host")?,
            to_device: wire::faults_towards("wire", &file.wire.faults(), file.wire.to_device.as_ref(), "to_device")?,
            stretches: wire::stretches_of(&file.wire)?,
            bursts: file.wire.bursts.as_ref().map(wire::bursts_of).transpose()?,
            jitter: file.wire.jitter.as_deref().map_or(Ok(0), |text| time("wire.jitter", text))?,
            collides: file.wire.collisions,
            bandwidth: wire::bandwidth(file.wire.bandwidth)?,
            scripts,
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

/// The devices, each with the definition that it speaks.
fn devices_of(
    file: &[file::DeviceFile],
    revisions: &Revisions,
    definitions: &mut Definitions,
    read: &dyn Fn(&str) -> Result<String, String>,
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
        devices.push(Reader::of(definitions, definition).device(&at, device, revision, read)?);
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
