//! What an instrument on the wires of a trial sees, as a file.

use std::path::Path;

use anyhow::{Context, anyhow, bail};
use emberwort_link::Scenario;
use emberwort_model::Plan;
use emberwort_model::budget::wire_time;
use emberwort_model::ids::ChannelId;
use emberwort_model::model::End;
use emberwort_model::plan::EXTENDED_ID;
use emberwort_waveform::Moment;
use emberwort_waveform::drawing::files::{FileForm, FileRecord};
use emberwort_waveform::drawing::instrument::Instrument;
use emberwort_waveform::drawing::{Change, Drawing, Transfer};
use emberwort_waveform::findings::duration;
use emberwort_wire::{Chunk, Time};

use crate::files::{PendingFile, shown};

/// Draws what goes over the wires, and records it.
pub struct WaveRecorder {
    drawing: Drawing,
    instrument: Instrument<FileRecord<PendingFile>>,
    plan: std::sync::Arc<Plan>,
    channel: ChannelId,
    starts: Time,
    /// The recording begins so long before the trial, in picoseconds, so that the line is seen at rest.
    lead: u64,
    /// How long the longest frame takes, in picoseconds: none begins longer ago.
    longest: u64,
    changes: Vec<Change>,
    /// What is said of the form of the file, if that says less than all.
    remark: Option<String>,
}

/// Nanoseconds of a millisecond.
const MILLISECOND: u64 = 1_000_000;

/// Picoseconds of a nanosecond.
const NANOSECOND: u64 = 1000;

impl WaveRecorder {
    /// Begins a file, whose form its extension says.
    pub fn new(path: &Path, scenario: &Scenario) -> anyhow::Result<Self> {
        let extension = path.extension().and_then(|extension| extension.to_str()).unwrap_or("");
        let Some(form) = FileForm::by_extension(extension) else {
            let known: Vec<String> = FileForm::ALL.iter().map(|(extension, _)| format!(".{extension}")).collect();
            bail!("--wave {}: the extension says the form of the file: {}", shown(path), known.join(", "));
        };
        let own = scenario.definitions.get(scenario.host);
        let channel = &own.plan.channels[own.channel];
        let medium = &channel.medium.kind;
        let settings = scenario.wave.clone();
        let mut nodes: Vec<u64> = scenario.devices.iter().map(|device| device.node).collect();
        nodes.sort_unstable();
        nodes.dedup();
        let drawing = Drawing::new(medium, &nodes, settings.baud_error).ok_or_else(|| {
            anyhow!("--wave: `{}` runs over {}, which has no wires to draw", channel.name, medium.text())
        })?;
        let mut wires: Vec<(String, bool)> =
            drawing.wires().iter().map(|(role, level)| (role.to_string(), *level)).collect();
        // A pair of a bus is driven apart where it is dominant: the first of the two is high there.
        let is_bus = wires.iter().any(|(name, _)| name == "bus");
        if is_bus && settings.is_pair {
            wires = vec![("bus".to_owned(), false)];
        }
        let signals = wires.len() * if settings.is_pair { 2 } else { 1 };
        if matches!(form, FileForm::Bits(_)) {
            if settings.volts.is_some() {
                bail!(
                    "--wave: .{extension} holds levels, and [wave] of the trial says volts; write .vcd, .csv, .wav, .i16 or .f32"
                );
            }
            if let FileForm::Bits(bytes) = form
                && signals > 8 * bytes
            {
                bail!("--wave: .{extension} holds {} wires, and the line has {signals}; write .vcd or .csv", 8 * bytes);
            }
        }
        if let Some(volts) = settings.volts
            && form == FileForm::Sound
            && settings.rate > u64::from(u32::MAX)
            && volts.high > 0.0
        {
            bail!("--wave: a sound file cannot say more than {} samples a second", u32::MAX);
        }
        let most = settings.volts.map_or(1.0, |volts| {
            // What rings goes beyond its edges by as much as they are high, at most.
            let beyond = if volts.ringing.is_some() { volts.high - volts.low } else { 0.0 };
            volts.low.abs().max(volts.high.abs()) * 1.05 + beyond + 4.0 * volts.noise
        });
        let record = FileRecord::new(form, most, PendingFile::new(path)?);
        let full_scale = record.full_scale();
        let order: Vec<String> = wires.iter().map(|(name, _)| name.clone()).collect();
        let remark = match form {
            FileForm::Dump | FileForm::Table => None,
            FileForm::Bits(_) => Some(format!("its bits from D0 on: {}", order.join(", "))),
            FileForm::Floats => Some(format!("its signals from A0 on: {}", order.join(", "))),
            FileForm::Sound | FileForm::Integers => {
                Some(format!("its signals from A0 on: {}; full scale is {full_scale:.3} V", order.join(", ")))
            }
        };
        let limit = channel.directions().map(|(_, direction)| direction.limit).max().unwrap_or(0);
        let longest = wire_time::nanoseconds(medium.worst(limit, true).time).saturating_mul(NANOSECOND);
        let longest = (longest as f64 * (1.0 + settings.baud_error.abs())) as u64 + settings.jitter;
        // Three bytes are longer than any rest that a receiver waits for.
        let rest = wire_time::nanoseconds(medium.worst(3, true).time).div_ceil(MILLISECOND) * MILLISECOND;
        let lead = if settings.start == 0 { rest.saturating_mul(NANOSECOND) } else { 0 };
        Ok(Self {
            lead,
            instrument: Instrument::new(settings, &wires, record, scenario.seed),
            drawing,
            plan: own.plan.clone(),
            channel: own.channel,
            starts: scenario.starts,
            longest,
            changes: Vec::new(),
            remark,
        })
    }

    /// Bytes that arrived.
    pub fn received(&mut self, chunk: &Chunk<'_>, node: u64) -> anyhow::Result<()> {
        let arrived = chunk.times.last().unwrap_or_default().since(self.starts).saturating_mul(NANOSECOND);
        let arrived = arrived.saturating_add(self.lead);
        let medium = &self.plan.channels[self.channel].medium.kind;
        let key = chunk.key.unwrap_or(0);
        let id = ((key & 0x1FFF_FFFF) as u32, key & EXTENDED_ID != 0);
        let takes = wire_time::nanoseconds(medium.exact(chunk.bytes, id).time).saturating_mul(NANOSECOND);
        self.changes.clear();
        let transfer =
            Transfer { from_host: chunk.stream.from == Some(End::Host), key: chunk.key, node, bytes: chunk.bytes };
        let begins = Moment::from_picoseconds(arrived.saturating_sub(takes));
        self.drawing.draw(begins, transfer, &mut self.changes);
        // Of a pair of a bus the first is high where the bus is dominant.
        if self.instrument.settings().is_pair && self.drawing.wires().iter().any(|(role, _)| role.to_string() == "bus")
        {
            self.changes.iter_mut().for_each(|change| change.level = !change.level);
        }
        self.instrument.changes(&self.changes, true);
        let known = Moment::from_picoseconds(arrived.saturating_sub(self.longest));
        self.instrument.until(known).context("the waveform cannot be written")
    }

    /// The trial is over: puts the file in its place. Returns what is to be said of it.
    pub fn finish(self, ended: u64) -> anyhow::Result<String> {
        let end = ended.saturating_mul(NANOSECOND).saturating_add(self.longest).saturating_add(self.lead);
        let end = Moment::from_picoseconds(end);
        let rate = self.instrument.settings().rate;
        let (record, samples) = self.instrument.finish(end).context("the waveform cannot be written")?;
        record.into_inner().commit(false)?;
        let what = match self.lead {
            0 => format!("{samples} samples at {rate} Hz"),
            lead => format!("{samples} samples at {rate} Hz, which begin {} before the trial", duration(lead)),
        };
        Ok(self.remark.map_or(what.clone(), |remark| format!("{what}, {remark}")))
    }
}
