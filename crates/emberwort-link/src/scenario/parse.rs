//! Reading a trial file.

use std::sync::Arc;

use emberwort_model::Plan;
use emberwort_model::ids::ChannelId;
use emberwort_model::model::End;
use emberwort_wire::Time;

use super::file::{self, TrialFile};
use super::parts::{Device, PlannedMessage, Scenario};
use super::problem::{ScenarioError, content, time};
use super::read::{Reader, definition};
use super::{wave, wire};
use crate::Nanoseconds;
use crate::definitions::{Definitions, Revisions};
use crate::expect::Expectation;
use crate::file_words::index;

/// The most frames that a trial may send.
const MAX_FRAMES: u64 = 100_000_000;

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
            .map(ChannelId::new)
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
            wave: wave::settings(&file.wave)?,
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
    for (node, plan) in &revisions.devices {
        if devices.iter().all(|device| device.node != *node) {
            let nodes: Vec<String> = devices.iter().map(|device| device.node.to_string()).collect();
            let (revision, nodes) = (plan.link.revision, nodes.join(", "));
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
    requests: &[PlannedMessage],
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
        for (index, compiled) in definition.plan.message_ids() {
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
