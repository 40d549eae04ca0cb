//! The wire, read from a trial file.

use super::file::{BurstsFile, FaultsFile, StretchFile, WireFile};
use super::parts::Scenario;
use super::problem::{ScenarioError, chance, content, time};
use crate::wire::{Bursts, Faults, FaultyStretch, Noise, Wire};

/// The faults in one direction: what it says itself, else what the whole wire says.
pub(super) fn faults_towards(
    at: &str,
    whole: &FaultsFile,
    part: Option<&FaultsFile>,
    name: &str,
) -> Result<Faults, ScenarioError> {
    let Some(part) = part else { return faults(at, whole) };
    let both = FaultsFile {
        bit_errors: part.bit_errors.or(whole.bit_errors),
        byte_loss: part.byte_loss.or(whole.byte_loss),
        inserted: part.inserted.or(whole.inserted),
        frame_loss: part.frame_loss.or(whole.frame_loss),
        duplicates: part.duplicates.or(whole.duplicates),
        noise: part.noise.clone().or_else(|| whole.noise.clone()),
        baud_error: part.baud_error.or(whole.baud_error),
    };
    faults(&format!("{at}.{name}"), &both)
}

/// Faults of the wire, each with a chance.
fn faults(at: &str, file: &FaultsFile) -> Result<Faults, ScenarioError> {
    let share = |name: &str, value: Option<f64>| chance(&format!("{at}.{name}"), value.unwrap_or(0.0));
    let noise = |noise: &super::file::NoiseFile| {
        Ok::<_, ScenarioError>(Noise {
            begins: chance(&format!("{at}.noise.begins"), noise.begins)?,
            ends: chance(&format!("{at}.noise.ends"), noise.ends)?,
            bit_errors: chance(&format!("{at}.noise.bit_errors"), noise.bit_errors)?,
        })
    };
    let baud_error = file.baud_error.unwrap_or(0.0);
    if !(-0.5..=0.5).contains(&baud_error) {
        return content(
            format!("{at}.baud_error"),
            format!("{baud_error} is not between -0.5 and 0.5; 0.02 means 2 %"),
        );
    }
    Ok(Faults {
        bit_errors: share("bit_errors", file.bit_errors)?,
        byte_loss: share("byte_loss", file.byte_loss)?,
        inserted: share("inserted", file.inserted)?,
        frame_loss: share("frame_loss", file.frame_loss)?,
        duplicates: share("duplicates", file.duplicates)?,
        noise: file.noise.as_ref().map(noise).transpose()?,
        baud_error,
    })
}

fn stretch_of(at: &str, (from, to): (&str, &str), faults: Faults) -> Result<FaultyStretch, ScenarioError> {
    let stretch = FaultyStretch { from: time(at, from)?, to: time(at, to)?, faults };
    if stretch.from >= stretch.to {
        return content(at, format!("it ends at {to}, which is not after {from}, where it begins"));
    }
    Ok(stretch)
}

/// Stretches of time with faults of their own; while the wire is cut, no byte arrives.
pub(super) fn stretches_of(file: &WireFile) -> Result<Vec<FaultyStretch>, ScenarioError> {
    let cut = |(n, (from, to)): (usize, &(String, String))| {
        let at = format!("wire.cut {}", n + 1);
        let faults = Faults { byte_loss: 1.0, ..Faults::default() };
        stretch_of(&at, (from, to), faults)
    };
    let stretch = |(n, stretch): (usize, &StretchFile)| {
        let at = format!("wire.stretch {}", n + 1);
        let file = FaultsFile {
            bit_errors: stretch.bit_errors,
            byte_loss: stretch.byte_loss,
            inserted: stretch.inserted,
            frame_loss: stretch.frame_loss,
            duplicates: stretch.duplicates,
            ..FaultsFile::default()
        };
        stretch_of(&at, (&stretch.from, &stretch.to), faults(&at, &file)?)
    };
    file.cut.iter().enumerate().map(cut).chain(file.stretch.iter().enumerate().map(stretch)).collect()
}

/// Disturbances that come back.
pub(super) fn bursts_of(file: &BurstsFile) -> Result<Bursts, ScenarioError> {
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

/// Bits a second of a network.
pub(super) fn bandwidth(file: Option<u64>) -> Result<Option<u64>, ScenarioError> {
    match file {
        Some(0) => content("wire.bandwidth", "must be more than 0 bits a second"),
        other => Ok(other),
    }
}

impl Scenario {
    /// The wire, over the medium of the trial's channel.
    pub fn wire(&self) -> Wire {
        let definition = self.definitions.get(self.host);
        let channel = &definition.plan.channels[definition.channel];
        let mut wire = Wire::new(&channel.medium.kind);
        wire.faults = self.faults;
        wire.to_device = self.to_device;
        wire.jitter = self.jitter;
        wire.collides = self.collides;
        wire.bandwidth = self.bandwidth;
        wire.stretches.clone_from(&self.stretches);
        wire.bursts = self.bursts;
        wire.delay = self.delay;
        if let Some(nanoseconds) = channel.finder().silence() {
            // A little more than receivers wait for, as senders do.
            wire.pause = nanoseconds + wire.byte_time().max(1_000);
        }
        wire
    }
}
