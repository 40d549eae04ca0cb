//! Recordings that play devices of a trial.

use std::convert::Infallible;
use std::ops::ControlFlow;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use anyhow::{Context, bail};
use emberwort_capture::{Decoder, Item, ItemSink};
use emberwort_link::Scenario;
use emberwort_link::TrialDefinitionId;
use emberwort_model::Plan;
use emberwort_model::ids::ChannelId;
use emberwort_model::model::End;
use emberwort_wire::Time;

use super::inputs::read_all;
use super::sources::Settings;
use crate::cli::InputArgs;

/// The most bytes of frames that are kept for one device.
const MOST: usize = 1 << 28;

/// The frames of one device, as they came.
struct DeviceFrames {
    channel: ChannelId,
    node: u64,
    /// The time of the first item of the recording, of whatever kind.
    begins: Option<Time>,
    frames: Vec<(u64, Vec<u8>)>,
    bytes: usize,
    without_time: usize,
}

impl ItemSink for DeviceFrames {
    type Error = Infallible;

    fn item(&mut self, item: Item<'_>) -> Result<ControlFlow<()>, Infallible> {
        if let Some(time) = item.time() {
            self.begins.get_or_insert(time);
        }
        let Item::Row(row) = item else { return Ok(ControlFlow::Continue(())) };
        // A medium between two ends has no nodes.
        let is_its = row.channel == self.channel
            && row.from == End::Device
            && row.frame.node.is_none_or(|node| node == self.node);
        if is_its {
            match row.time.zip(self.begins) {
                Some((time, begins)) => {
                    self.bytes += row.wire.len();
                    self.frames.push((time.since(begins), row.wire.to_vec()));
                }
                None => self.without_time += 1,
            }
        }
        Ok(if self.bytes > MOST { ControlFlow::Break(()) } else { ControlFlow::Continue(()) })
    }
}

/// Reads the recordings that a trial names, which lie beside it.
pub fn load(trial: &Path, plan: &Arc<Plan>, scenario: &mut Scenario) -> anyhow::Result<()> {
    for index in 0..scenario.devices.len() {
        let device = &scenario.devices[index];
        let Some(recording) = &device.recording else { continue };
        let path: PathBuf = trial.parent().unwrap_or(Path::new("")).join(&recording.file);
        let (shown, node) = (crate::files::shown(&path), device.node);
        let channel = scenario.definitions.get(TrialDefinitionId::default()).channel;
        let name = &plan.channels[channel].name;
        if plan.channels[channel].key_is_outside() {
            bail!("{shown} cannot play node {node}: messages on `{name}` are told apart by what carries them");
        }
        let args = InputArgs { inputs: vec![path], on: Some(name.clone()), ..InputArgs::default() };
        let sink = DeviceFrames { channel, node, begins: None, frames: Vec::new(), bytes: 0, without_time: 0 };
        let (decoder, _) = read_all(&Settings::of(&args, None, plan)?, Decoder::new(plan.clone(), sink))
            .with_context(|| format!("the recording of node {node} cannot be read"))?;
        let (found, _) = decoder.finish()?;
        if found.bytes > MOST {
            bail!("{shown} holds more than 256 MiB of frames of node {node}; cut it with `emberwort amend --span`");
        }
        match (found.frames.is_empty(), found.without_time) {
            (true, 0) => bail!("{shown} holds no good frame of node {node} on `{name}`"),
            (_, 0) => {}
            _ => bail!("{shown} has no times, so nobody knows when its frames were sent"),
        }
        if let Some(recording) = &mut scenario.devices[index].recording {
            recording.frames = found.frames.into();
        }
    }
    Ok(())
}
