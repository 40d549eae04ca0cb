//! The instrument on the wires of a trial, read from a trial file.

use emberwort_waveform::drawing::instrument::{Settings, Volts};

use super::file::WaveFile;
use super::problem::{ScenarioError, chance, content, time};
use crate::file_words::hertz;

/// The voltages of wires of which a trial says only some.
const USUAL: Volts = Volts { low: 0.0, high: 3.3, noise: 0.0, slope: 0, ringing: None };

/// What an instrument sees, and what it sees wrong.
pub(super) fn settings(file: &WaveFile) -> Result<Settings, ScenarioError> {
    let picoseconds = |name: &str, text: &Option<String>| match text {
        Some(text) => {
            let nanoseconds = time(&format!("wave.{name}"), text)?;
            nanoseconds.checked_mul(1000).map_or_else(|| content(format!("wave.{name}"), "too long"), Ok)
        }
        None => Ok(0),
    };
    let frequency = |name: &str, text: &str| hertz(text).or_else(|problem| content(format!("wave.{name}"), problem));
    let is_analog = file.low.is_some()
        || file.high.is_some()
        || file.noise.is_some()
        || file.slope.is_some()
        || file.ringing.is_some();
    let ringing = match &file.ringing {
        Some(ringing) => {
            let lasting = picoseconds("ringing.lasting", &Some(ringing.lasting.clone()))?;
            Some((frequency("ringing.frequency", &ringing.frequency)?, lasting.max(1)))
        }
        None => None,
    };
    let volts = Volts {
        low: file.low.unwrap_or(USUAL.low),
        high: file.high.unwrap_or(USUAL.high),
        noise: file.noise.unwrap_or(USUAL.noise),
        slope: picoseconds("slope", &file.slope)?,
        ringing,
    };
    if ![volts.low, volts.high, volts.noise].iter().all(|volts| volts.abs() <= 1000.0) || volts.low >= volts.high {
        return content("wave", "`low` is less than `high`, and both and `noise` are volts, at most 1000");
    }
    let baud_error = file.baud_error.unwrap_or(0.0);
    if !(-0.5..=0.5).contains(&baud_error) {
        let problem = format!("{baud_error} is not between -0.5 and 0.5; 0.02 means bits that are 2 % longer");
        return content("wave.baud_error", problem);
    }
    let glitches = match &file.glitches {
        Some(glitches) => {
            let every = picoseconds("glitches.every", &Some(glitches.every.clone()))?;
            let lasting = picoseconds("glitches.lasting", &Some(glitches.lasting.clone()))?;
            if every < 1_000_000 || lasting == 0 {
                return content("wave.glitches", "`every` is 1 us at least, and `lasting` more than 0");
            }
            Some((every, lasting))
        }
        None => None,
    };
    let usual = Settings::default();
    Ok(Settings {
        rate: match &file.rate {
            Some(rate) => frequency("rate", rate)?.round() as u64,
            None => usual.rate,
        },
        start: picoseconds("start", &file.start)?,
        lasting: file.lasting.as_ref().map(|_| picoseconds("lasting", &file.lasting)).transpose()?,
        baud_error,
        jitter: picoseconds("jitter", &file.jitter)?,
        glitches,
        contention: chance("wave.contention", file.contention.unwrap_or(0.0))?,
        volts: is_analog.then_some(volts),
        is_pair: file.pair,
    })
}
