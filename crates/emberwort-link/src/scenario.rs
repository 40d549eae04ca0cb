//! Trial files (TOML), read and checked against a link.

use std::collections::BTreeMap;

use emberwort_model::Plan;
use emberwort_model::diagnostics::nearest;
use emberwort_model::model::{End, Field, Kind};
use emberwort_model::plan::Role;
use emberwort_wire::Values;
use emberwort_wire::row::RowHeader;
use emberwort_wire::text::{Filling, Given, fill};
use serde::Deserialize;
use serde_json::{Map, Value as Json};
use thiserror::Error;

use crate::Nanoseconds;
use crate::expect::Expectation;
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
    /// Index of the channel.
    pub channel: usize,
    /// How long it runs.
    pub span: Nanoseconds,
    /// The seed of all randomness.
    pub seed: u64,
    /// When it starts, in nanoseconds since 1970-01-01 UTC.
    pub starts: u64,
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
    /// What the host sends, in order of time.
    pub requests: Vec<Planned>,
    /// What must hold.
    pub must: Vec<Expectation>,
}

/// A simulated device.
#[derive(Clone, Debug)]
pub struct Device {
    /// Its node.
    pub node: u64,
    /// The revision of its definition.
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

/// A message to be sent at a moment.
#[derive(Clone, Debug)]
pub struct Planned {
    /// When.
    pub at: Nanoseconds,
    /// Index of the message.
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

/// The most requests that one `every` may make.
const MOST_REQUESTS: usize = 1_000_000;

/// A duration such as `200 ms`, `2.5 s`, `3 min` in nanoseconds.
///
/// # Errors
/// What is wrong with it.
pub fn duration(text: &str) -> Result<Nanoseconds, String> {
    let (number, unit) = text.trim().split_once(' ').unwrap_or((text.trim(), ""));
    let scale = match unit.trim() {
        "us" => 1e3,
        "ms" => 1e6,
        "s" => 1e9,
        "min" => 6e10,
        "h" => 3.6e12,
        _ => return Err(format!("`{text}` is no duration; write a number and us, ms, s, min or h, as in \"200 ms\"")),
    };
    match number.parse::<f64>() {
        Ok(number) if number >= 0.0 && number * scale < 9e18 => Ok((number * scale).round() as u64),
        _ => Err(format!("`{text}` is no duration; write a number and us, ms, s, min or h, as in \"200 ms\"")),
    }
}

fn time(at: &str, text: &str) -> Result<Nanoseconds, ScenarioError> {
    duration(text).or_else(|problem| content(at, problem))
}

fn chance(at: &str, value: f64) -> Result<f64, ScenarioError> {
    if (0.0..=1.0).contains(&value) {
        Ok(value)
    } else {
        content(at, format!("{value} is no chance; it lies between 0 and 1"))
    }
}

/// The index of a name, or a sentence with the nearest one.
pub(crate) fn index<'a>(what: &str, name: &str, names: impl Iterator<Item = &'a str> + Clone) -> Result<usize, String> {
    match names.clone().position(|known| known == name) {
        Some(index) => Ok(index),
        None => Err(match nearest(name, names.clone()) {
            Some(near) => format!("there is no {what} `{name}`; did you mean `{near}`?"),
            None => format!("there is no {what} `{name}`; there are {}", names.collect::<Vec<_>>().join(", ")),
        }),
    }
}

/// The index of a message by name, or a sentence with the nearest one.
pub(crate) fn message_index(plan: &Plan, name: &str) -> Result<usize, String> {
    index("message", name, plan.messages.iter().map(|plan| plan.message.name.as_str()))
}

impl Scenario {
    /// Reads a trial file for a link.
    ///
    /// # Errors
    /// The first thing that is wrong, and where.
    pub fn parse(text: &str, plan: &Plan) -> Result<Self, ScenarioError> {
        let file: TrialFile = toml::from_str(text).map_err(Box::new)?;
        let channel = index("channel", &file.channel, plan.channels.iter().map(|channel| channel.name.as_str()))
            .or_else(|problem| content("channel", problem))?;
        let reader = Reader { plan, channel };
        let starts = match &file.starts {
            None => 0,
            Some(text) => match text.parse::<jiff::Timestamp>().map(|time| u64::try_from(time.as_nanosecond())) {
                Ok(Ok(nanoseconds)) => nanoseconds,
                _ => return content("starts", format!("`{text}` is no time; write it as 2031-03-09T02:10:00Z")),
            },
        };
        let span = time("span", &file.span)?;
        let wire = &file.wire;
        let faults = |at: &str, bit_errors, byte_loss, frame_loss, duplicates| -> Result<Faults, ScenarioError> {
            Ok(Faults {
                bit_errors: chance(&format!("{at}.bit_errors"), bit_errors)?,
                byte_loss: chance(&format!("{at}.byte_loss"), byte_loss)?,
                frame_loss: chance(&format!("{at}.frame_loss"), frame_loss)?,
                duplicates: chance(&format!("{at}.duplicates"), duplicates)?,
            })
        };
        let mut stretches = Vec::new();
        for (n, stretch) in wire.stretch.iter().enumerate() {
            let at = format!("wire.stretch {}", n + 1);
            stretches.push(Stretch {
                from: time(&at, &stretch.from)?,
                to: time(&at, &stretch.to)?,
                faults: faults(&at, stretch.bit_errors, stretch.byte_loss, stretch.frame_loss, stretch.duplicates)?,
            });
        }
        let bursts = match &wire.bursts {
            None => None,
            Some(bursts) => {
                let every = time("wire.bursts.every", &bursts.every)?;
                if every == 0 {
                    return content("wire.bursts.every", "must be more than 0");
                }
                Some(Bursts {
                    every,
                    lasting: time("wire.bursts.lasting", &bursts.lasting)?,
                    bit_errors: chance("wire.bursts.bit_errors", bursts.bit_errors)?,
                })
            }
        };
        let mut devices = Vec::new();
        for (n, device) in file.device.iter().enumerate() {
            let at = format!("device {}", n + 1);
            if file.device[..n].iter().any(|other| other.node == device.node) {
                return content(at, format!("node {} is taken by an earlier device", device.node));
            }
            devices.push(reader.device(&at, device)?);
        }
        let mut requests = Vec::new();
        for (n, request) in file.request.iter().enumerate() {
            reader.request(&format!("request {}", n + 1), request, span, &mut requests)?;
        }
        requests.sort_by_key(|request| request.at);
        let mut must = Vec::new();
        for (n, sentence) in file.must.iter().enumerate() {
            let expectation = Expectation::parse(sentence, plan);
            must.push(expectation.or_else(|problem| content(format!("must {}", n + 1), problem))?);
        }
        Ok(Self {
            about: file.about,
            channel,
            span,
            seed: file.seed,
            starts,
            faults: faults("wire", wire.bit_errors, wire.byte_loss, wire.frame_loss, wire.duplicates)?,
            stretches,
            bursts,
            delay: wire.delay.as_deref().map_or(Ok(0), |text| time("wire.delay", text))?,
            devices,
            requests,
            must,
        })
    }
}

struct Reader<'a> {
    plan: &'a Plan,
    channel: usize,
}

impl Reader<'_> {
    fn message(&self, at: &str, name: &str, from: End) -> Result<usize, ScenarioError> {
        let index = message_index(self.plan, name).or_else(|problem| content(at, problem))?;
        let message = &self.plan.messages[index].message;
        let channel = &self.plan.channels[self.channel];
        if message.from != from {
            return content(
                at,
                format!("`{name}` comes from the {}, not from the {}", message.from.as_str(), from.as_str()),
            );
        }
        if !channel.carries(index) {
            return content(at, format!("`{name}` does not travel on `{}`", channel.name));
        }
        Ok(index)
    }

    /// Whether frames of a message can say this node; where they say none, there is nothing to say.
    fn node_fits(&self, at: &str, node: u64, message: usize) -> Result<(), ScenarioError> {
        let channel = self.plan.channels[self.channel].facing(self.plan.messages[message].message.from);
        let says = channel.nodes_of(message).is_some() || channel.part(|role| *role == Role::Address).is_some();
        let header = RowHeader { node: says.then_some(node), ..RowHeader::default() };
        header.fits(channel, message).or_else(|problem| content(at, problem))
    }

    /// Values of a message: those given, and the rest of the others.
    fn values(&self, at: &str, message: usize, fields: &Map<String, Json>) -> Result<Values, ScenarioError> {
        fill_with_rest(self.plan, message, fields).or_else(|problem| content(at, problem))
    }

    fn device(&self, at: &str, file: &DeviceFile) -> Result<Device, ScenarioError> {
        let own = self.plan.link.revision;
        let revision = file.revision.unwrap_or(own);
        if !(1..=own).contains(&revision) {
            return content(format!("{at}.revision"), format!("{revision} is none of 1 to {own}, the link's own"));
        }
        if self.plan.channels[self.channel].facing(End::Host).broadcast == Some(file.node) {
            return content(format!("{at}.node"), format!("the node {} means all of them", file.node));
        }
        for (index, compiled) in self.plan.messages.iter().enumerate() {
            let channel = self.plan.channels[self.channel].facing(End::Device);
            if compiled.message.from == End::Device && compiled.message.every.is_some() && channel.carries(index) {
                self.node_fits(&format!("{at}.node"), file.node, index)?;
            }
        }
        let mut signals = BTreeMap::new();
        for (name, fields) in &file.signals {
            let at = format!("{at}.signals.{name}");
            let message = self.message(&at, name, End::Device)?;
            let compiled = &self.plan.messages[message].message;
            for (field_name, value) in fields {
                let at = format!("{at}.{field_name}");
                let names = compiled.fields.iter().filter(|field| !field.is_spare()).map(|field| field.name.as_str());
                if let Err(problem) = index("field", field_name, names) {
                    return content(at, problem);
                }
                if let Some((slot, field)) = compiled.field(field_name) {
                    let signal = Signal::parse(value, field).or_else(|problem| content(at, problem))?;
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
            sends.push(Planned { at: time(&at, &send.at)?, message, node: file.node, values });
        }
        let mut replies = Vec::new();
        for (n, reply) in file.reply.iter().enumerate() {
            let at = format!("{at}.reply {}", n + 1);
            let to = self.message(&at, &reply.to, End::Host)?;
            let with = self.message(&at, &reply.with, End::Device)?;
            if !self.plan.messages[to].message.answered_by.contains(&with) {
                return content(
                    at,
                    format!("the definition does not say that `{}` is answered by `{}`", reply.to, reply.with),
                );
            }
            self.values(&at, with, &reply.fields)?;
            let from = reply.from.as_deref().map_or(Ok(0), |text| time(&at, text))?;
            replies.push(Reply { to, from, with, fields: reply.fields.clone() });
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

    fn request(
        &self,
        at: &str,
        file: &RequestFile,
        span: Nanoseconds,
        requests: &mut Vec<Planned>,
    ) -> Result<(), ScenarioError> {
        let message = self.message(at, &file.message, End::Host)?;
        self.node_fits(at, file.node, message)?;
        let values = self.values(at, message, &file.fields)?;
        let mut moment = time(at, &file.at)?;
        let until = file.until.as_deref().map_or(Ok(span), |text| time(at, text))?;
        let every = file.every.as_deref().map(|text| time(at, text)).transpose()?;
        if every == Some(0) {
            return content(at, "`every` must be more than 0");
        }
        loop {
            if requests.len() >= MOST_REQUESTS {
                return content(at, format!("these are more than {MOST_REQUESTS} requests"));
            }
            requests.push(Planned { at: moment, message, node: file.node, values: values.clone() });
            match every {
                Some(every) if moment + every < until => moment += every,
                _ => return Ok(()),
            }
        }
    }
}

/// A value of a trial file as it stands in a row. TOML has no null: `{ none = true }` stands for it, and the word "none" in
/// fields that are no text.
pub(crate) fn with_null(value: &Json, field: &Field) -> Json {
    let is_none = match value {
        Json::Object(object) => object.len() == 1 && object.get("none") == Some(&Json::Bool(true)),
        Json::String(text) => text == "none" && !matches!(field.kind, Kind::Text { .. }),
        _ => false,
    };
    if is_none { Json::Null } else { value.clone() }
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
