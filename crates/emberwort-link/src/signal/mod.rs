//! Signals: what a simulated device's field does over time.

mod read;
mod rest;
mod sampler;

use std::collections::BTreeMap;
use std::sync::Arc;

use emberwort_model::float::nearest_float;
use emberwort_model::model::{Field, Kind};
use emberwort_text::{Filling, json};
use emberwort_wire::Values;
use rand::Rng;
use rand_chacha::ChaCha8Rng;
use serde_json::Value as Json;

pub use read::Surroundings;
pub use rest::{rest, rest_in};
pub use sampler::Sampler;

use crate::Nanoseconds;
use crate::file_words::with_null;
use emberwort_model::ids::MessageId;
use emberwort_text::formula::{self, Formula};

/// A value of a field, ready to be put into its slot.
#[derive(Clone, Debug)]
pub struct Fixed(Values);

impl Fixed {
    /// Reads a value as it stands in rows: physical, or a label, text, `null` for none.
    pub(crate) fn of(value: &Json, field: &Field) -> Result<Self, String> {
        let mut values = Values::default();
        values.resize(1);
        json::set(field, 0, &with_null(value, field), Filling::alone(false), &mut values)?;
        Ok(Self(values))
    }

    /// What a slot holds.
    pub(crate) fn held(values: &Values, slot: usize) -> Self {
        let mut held = Values::default();
        held.resize(1);
        held.copy_from(0, values, slot);
        Self(held)
    }

    pub(crate) fn put(&self, slot: usize, values: &mut Values) {
        values.copy_from(slot, &self.0, 0);
    }
}

/// What a field does over time. Numbers are physical.
#[derive(Clone, Debug)]
pub enum Signal {
    /// Always the same.
    Constant(Fixed),
    /// From one value to another in a straight line between two moments; held before and after.
    Ramp {
        /// First and last value.
        ends: (f64, f64),
        /// Begin and end.
        span: (Nanoseconds, Nanoseconds),
    },
    /// A wave around a centre.
    Wave {
        /// Its form.
        form: Wave,
        /// Greatest distance from the centre.
        amplitude: f64,
        /// The centre.
        around: f64,
        /// Duration of one wave.
        period: Nanoseconds,
    },
    /// Values in turn, each for the same time: of two it is a square wave.
    Cycle {
        /// The values.
        values: Vec<Fixed>,
        /// How long each.
        each: Nanoseconds,
    },
    /// One value after the other.
    Steps(Vec<(Nanoseconds, Fixed)>),
    /// A random walk between two bounds.
    Walk {
        /// Greatest change from one message to the next.
        step: f64,
        /// The bounds.
        bounds: (f64, f64),
        /// Where it starts, and then where it is.
        at: f64,
    },
    /// Normally distributed around a centre, each time anew; never further away than [`NOISE_REACH`] standard deviations.
    Noise {
        /// The standard deviation.
        deviation: f64,
        /// The centre.
        around: f64,
    },
    /// A Markov chain of values: from one message to the next it goes over with a chance.
    Chain {
        /// The values, each with those that it goes over to, and their chances.
        values: Vec<(Fixed, Vec<(usize, f64)>)>,
        /// Which it is.
        at: usize,
    },
    /// Usually one value; now and then, by chance, another for a while.
    Burst {
        /// The usual value, and the other.
        values: (Fixed, Fixed),
        /// The chance that it begins with a message.
        chance: f64,
        /// How long it lasts.
        lasting: Nanoseconds,
        /// Until when it lasts that has begun.
        until: Nanoseconds,
    },
    /// Numbers that were measured, each at its moment, with straight lines between.
    Playback(Arc<[(Nanoseconds, f64)]>),
    /// Worked out of the message's other fields and the time.
    Formula(Formula),
    /// Goes where a command says.
    Follow(Box<Follow>),
}

/// The form of a wave.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Wave {
    /// A sine.
    Sine,
    /// Straight lines up and down.
    Triangle,
}

/// So many standard deviations away from its centre no value of a noise is.
pub const NOISE_REACH: f64 = 4.0;

/// How a field follows a command: a gate goes to where it was told to go.
#[derive(Clone, Debug)]
pub struct Follow {
    /// The command, and the slot of the target in it.
    pub(crate) command: MessageId,
    pub(crate) target: usize,
    pub(crate) fields: Vec<Field>,
    /// How much the field changes in a second; over the fields of the command.
    pub(crate) speed: Formula,
    /// The least and the greatest value of the field, which it never leaves.
    pub(crate) bounds: (f64, f64),
    /// Where it is, and since when.
    pub(crate) at: f64,
    pub(crate) since: Nanoseconds,
}

/// The last command of each message that a device obeyed, by the message's index, and when.
pub type Commands = BTreeMap<MessageId, (Nanoseconds, Values)>;

impl Follow {
    fn go_on(&mut self, now: Nanoseconds, commands: &Commands) -> f64 {
        if let Some((given, values)) = commands.get(&self.command) {
            let seconds = now.saturating_sub(self.since.max(*given)) as f64 / 1e9;
            let target = formula::number(&self.fields[self.target], values, self.target);
            let speed = self.speed.value_of(now, &self.fields, values);
            if let (Some(target), Some(speed)) = (target, speed) {
                let step = speed.abs() * seconds;
                let target = target.clamp(self.bounds.0, self.bounds.1);
                self.at += (target - self.at).clamp(-step, step);
            }
        }
        self.since = now;
        self.at
    }
}

impl Signal {
    /// Whether it needs the message's other fields, so that it is worked out last.
    pub(crate) fn is_derived(&self) -> bool {
        matches!(self, Signal::Formula(_))
    }

    /// Sets a field of a message to the signal's value at a moment. What goes by chance goes one step on.
    pub fn sample(
        &mut self,
        now: Nanoseconds,
        (fields, slot): (&[Field], usize),
        commands: &Commands,
        random: &mut ChaCha8Rng,
        values: &mut Values,
    ) {
        let field = &fields[slot];
        let number = match self {
            Signal::Constant(value) => return value.put(slot, values),
            Signal::Cycle { values: turns, each } => {
                return turns[(now / *each) as usize % turns.len()].put(slot, values);
            }
            Signal::Steps(steps) => {
                // The first is at the start.
                let begun = steps.partition_point(|(at, _)| *at <= now);
                return steps[begun.max(1) - 1].1.put(slot, values);
            }
            Signal::Chain { values: states, at } => {
                let mut drawn = random.random::<f64>();
                let next = states[*at].1.iter().find(|(_, chance)| {
                    drawn -= chance;
                    drawn < 0.0
                });
                *at = next.map_or(*at, |(next, _)| *next);
                return states[*at].0.put(slot, values);
            }
            Signal::Burst { values: (usual, other), chance, lasting, until } => {
                if now >= *until && random.random::<f64>() < *chance {
                    *until = now.saturating_add(*lasting);
                }
                return if now < *until { other.put(slot, values) } else { usual.put(slot, values) };
            }
            Signal::Ramp { ends: (a, b), span: (from, to) } => {
                let share = (now.clamp(*from, *to) - *from) as f64 / (*to - *from) as f64;
                *a + (*b - *a) * share
            }
            Signal::Wave { form, amplitude, around, period } => {
                let phase = (now % *period) as f64 / *period as f64;
                *around
                    + *amplitude
                        * match form {
                            Wave::Sine => (phase * std::f64::consts::TAU).sin(),
                            // From the centre up, down through it, and back.
                            Wave::Triangle => 1.0 - 4.0 * ((phase + 0.25).fract() - 0.5).abs(),
                        }
            }
            Signal::Walk { step, bounds: (least, greatest), at } => {
                let moved = *at + (random.random::<f64>() * 2.0 - 1.0) * *step;
                // Turned back at the bounds.
                *at = if moved < *least { 2.0 * *least - moved } else { moved }.clamp(*least, *greatest);
                *at
            }
            Signal::Noise { deviation, around } => {
                *around + *deviation * normal(random).clamp(-NOISE_REACH, NOISE_REACH)
            }
            Signal::Playback(points) => playback(points, now),
            Signal::Follow(follow) => follow.go_on(now, commands),
            Signal::Formula(formula) => match formula.value_of(now, fields, values) {
                Some(number) => number,
                None => return rest_in(fields, field, slot, 0, values),
            },
        };
        values.set_raw(slot, nearest(number, &field.kind));
    }
}

/// A number of the standard normal distribution (G. E. P. Box and M. E. Muller, A Note on the Generation of Random Normal Deviates, 1958).
pub(crate) fn normal(random: &mut ChaCha8Rng) -> f64 {
    let (u, v) = (1.0 - random.random::<f64>(), random.random::<f64>());
    (-2.0 * u.ln()).sqrt() * (v * std::f64::consts::TAU).cos()
}

/// The value at a moment of numbers that were measured; before the first and after the last these hold.
fn playback(points: &[(Nanoseconds, f64)], now: Nanoseconds) -> f64 {
    let after = points.partition_point(|(at, _)| *at <= now);
    match (after.checked_sub(1).and_then(|before| points.get(before)), points.get(after)) {
        (Some((from, a)), Some((to, b))) => a + (b - a) * (now - from) as f64 / (to - from) as f64,
        (Some((_, only)), None) | (None, Some((_, only))) => *only,
        (None, None) => 0.0,
    }
}

/// The raw number of a field that is nearest to a computed number; what lies outside of its values goes to the nearest of them.
pub(crate) fn nearest(number: f64, kind: &Kind) -> u64 {
    match kind {
        Kind::Number(form) | Kind::Varint(form) => {
            // physical = (offset + step × raw) / divisor
            let (offset, step, divisor) = form.scaling.parts();
            let raw = ((number * divisor as f64 - offset as f64) / step as f64).round() as i128;
            raw.clamp(form.low, form.high) as u64
        }
        Kind::Float(bits) => nearest_float(*bits, number),
        Kind::Bool => u64::from(number != 0.0),
        _ => 0,
    }
}
