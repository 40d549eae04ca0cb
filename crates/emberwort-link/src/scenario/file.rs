//! The form of a trial file.

use std::collections::BTreeMap;

use serde::Deserialize;
use serde_json::{Map, Value as Json};

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct TrialFile {
    #[serde(default)]
    pub about: String,
    pub channel: String,
    pub span: String,
    #[serde(default)]
    pub seed: u64,
    pub starts: Option<String>,
    #[serde(default)]
    pub must: Vec<String>,
    #[serde(default)]
    pub wire: WireFile,
    #[serde(default)]
    pub wave: WaveFile,
    #[serde(default)]
    pub host: HostFile,
    pub device: Vec<DeviceFile>,
    #[serde(default)]
    pub request: Vec<RequestFile>,
}

/// What an instrument on the wires sees.
#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct WaveFile {
    pub rate: Option<String>,
    pub start: Option<String>,
    pub lasting: Option<String>,
    pub baud_error: Option<f64>,
    pub jitter: Option<String>,
    pub glitches: Option<GlitchesFile>,
    pub contention: Option<f64>,
    pub low: Option<f64>,
    pub high: Option<f64>,
    pub noise: Option<f64>,
    pub slope: Option<String>,
    pub ringing: Option<RingingFile>,
    #[serde(default)]
    pub pair: bool,
}

/// Short pulses that nobody sent.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct GlitchesFile {
    pub every: String,
    pub lasting: String,
}

/// Ringing behind edges.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RingingFile {
    pub frequency: String,
    pub lasting: String,
}

/// The faults of a wire. What is left out in a part of it is as in the whole.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct FaultsFile {
    pub bit_errors: Option<f64>,
    pub byte_loss: Option<f64>,
    pub inserted: Option<f64>,
    pub frame_loss: Option<f64>,
    pub duplicates: Option<f64>,
    pub noise: Option<NoiseFile>,
    pub baud_error: Option<f64>,
}

/// Two states of a wire, a good one and a bad one.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct NoiseFile {
    pub begins: f64,
    pub ends: f64,
    pub bit_errors: f64,
}

#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct WireFile {
    pub bit_errors: Option<f64>,
    pub byte_loss: Option<f64>,
    pub inserted: Option<f64>,
    pub frame_loss: Option<f64>,
    pub duplicates: Option<f64>,
    pub noise: Option<NoiseFile>,
    pub baud_error: Option<f64>,
    pub to_host: Option<FaultsFile>,
    pub to_device: Option<FaultsFile>,
    pub delay: Option<String>,
    pub jitter: Option<String>,
    #[serde(default)]
    pub collisions: bool,
    pub bandwidth: Option<u64>,
    #[serde(default)]
    pub cut: Vec<(String, String)>,
    pub bursts: Option<BurstsFile>,
    #[serde(default)]
    pub stretch: Vec<StretchFile>,
}

impl WireFile {
    /// The faults of the whole wire.
    pub fn faults(&self) -> FaultsFile {
        FaultsFile {
            bit_errors: self.bit_errors,
            byte_loss: self.byte_loss,
            inserted: self.inserted,
            frame_loss: self.frame_loss,
            duplicates: self.duplicates,
            noise: self.noise.clone(),
            baud_error: self.baud_error,
        }
    }
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct BurstsFile {
    pub every: String,
    pub lasting: String,
    pub bit_errors: f64,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct StretchFile {
    pub from: String,
    pub to: String,
    pub bit_errors: Option<f64>,
    pub byte_loss: Option<f64>,
    pub inserted: Option<f64>,
    pub frame_loss: Option<f64>,
    pub duplicates: Option<f64>,
}

/// How long something takes: always the same, or drawn.
#[derive(Clone, Debug, Deserialize)]
#[serde(untagged)]
pub(super) enum DelayFile {
    Always(String),
    Between(String, String),
    Normal { mean: String, deviation: String },
    Exponential { mean: String, least: String },
}

#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct HostFile {
    pub revision: Option<u32>,
    #[serde(default)]
    pub retries: u32,
    #[serde(default)]
    pub script: Vec<ScriptFile>,
}

/// Steps of the host, one after the other.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct ScriptFile {
    #[serde(default)]
    pub name: String,
    pub at: Option<String>,
    #[serde(default = "once")]
    pub repeat: u32,
    pub steps: Vec<StepFile>,
}

fn once() -> u32 {
    1
}

/// One step: exactly one of `send`, `expect`, `never` and `wait`.
#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct StepFile {
    pub send: Option<String>,
    pub expect: Option<String>,
    pub never: Option<String>,
    pub wait: Option<String>,
    pub node: Option<u64>,
    #[serde(default)]
    pub fields: Map<String, Json>,
    #[serde(default)]
    pub retries: u32,
    pub within: Option<String>,
    pub when: Option<String>,
    #[serde(default)]
    pub keep: BTreeMap<String, String>,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct DeviceFile {
    #[serde(default)]
    pub node: u64,
    pub revision: Option<u32>,
    pub first_report: Option<String>,
    pub answers_after: Option<DelayFile>,
    #[serde(default)]
    pub signals: BTreeMap<String, BTreeMap<String, Json>>,
    #[serde(default)]
    pub sends: Vec<SendFile>,
    #[serde(default)]
    pub reply: Vec<ReplyFile>,
    #[serde(default)]
    pub restart: Vec<RestartFile>,
    #[serde(default)]
    pub alarm: Vec<AlarmFile>,
    #[serde(default)]
    pub tables: BTreeMap<String, BTreeMap<String, Json>>,
    pub refusal: Option<RefusalFile>,
    pub program: Option<ProgramFile>,
    pub recording: Option<String>,
}

/// A message that is sent when something begins to hold.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct AlarmFile {
    pub message: String,
    pub of: String,
    pub when: String,
    #[serde(default)]
    pub fields: Map<String, Json>,
}

/// What answers a request for an entry that is not there, or may not be read or written.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RefusalFile {
    pub with: String,
    #[serde(default)]
    pub fields: Map<String, Json>,
}

/// A program that plays the device.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct ProgramFile {
    pub command: Vec<String>,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct SendFile {
    pub at: String,
    pub message: String,
    #[serde(default)]
    pub fields: Map<String, Json>,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct ReplyFile {
    pub to: String,
    pub from: Option<String>,
    pub with: String,
    pub when: Option<String>,
    pub chance: Option<f64>,
    pub after: Option<DelayFile>,
    #[serde(default = "once")]
    pub times: u32,
    pub from_node: Option<u64>,
    #[serde(default)]
    pub fields: Map<String, Json>,
    #[serde(default)]
    pub echo: Vec<String>,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RestartFile {
    pub at: String,
    pub lasting: String,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RequestFile {
    pub at: String,
    pub every: Option<String>,
    pub until: Option<String>,
    #[serde(default)]
    pub node: u64,
    pub message: String,
    #[serde(default)]
    pub fields: Map<String, Json>,
}
