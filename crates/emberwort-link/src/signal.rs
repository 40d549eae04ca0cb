//! Signals: what a simulated device's field does over time.

use emberwort_model::float::nearest_float;
use emberwort_model::model::{Field, Kind, Length, Selector};
use emberwort_model::plan::MessagePlan;
use emberwort_text::Filling;
use emberwort_text::json;
use emberwort_wire::{ValueRef, Values};
use rand::Rng;
use rand_chacha::ChaCha8Rng;
use serde_json::Value as Json;

use crate::Nanoseconds;
use crate::file_words::{duration, with_null};

/// A value of a field, ready to be put into its slot.
#[derive(Clone, Debug)]
pub struct Fixed(Values);

impl Fixed {
    /// Reads a value as it stands in rows: physical, or a label, text, `null` for none.
    fn of(value: &Json, field: &Field) -> Result<Self, String> {
        let mut values = Values::default();
        values.resize(1);
        json::set(field, 0, &with_null(value, field), Filling::alone(false), &mut values)?;
        Ok(Self(values))
    }

    fn put(&self, slot: usize, values: &mut Values) {
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
    /// A sine wave.
    Sine {
        /// Greatest distance from the centre.
        amplitude: f64,
        /// The centre.
        around: f64,
        /// Duration of one wave.
        period: Nanoseconds,
    },
    /// Two values in turn, each for half a period.
    Square {
        /// The two values.
        values: (Fixed, Fixed),
        /// Duration of both.
        period: Nanoseconds,
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
}

/// The forms that a signal can have, for error messages.
const FORMS: &str = "a value, { ramp = [A, B], from = \"…\", to = \"…\" }, { sine = A, around = B, period = \"…\" }, \
    { square = [A, B], period = \"…\" }, { steps = [[\"0 s\", A], …] }, or { walk = STEP, between = [A, B], start = C }";

impl Signal {
    /// Reads a signal for a field, and checks that all its values fit.
    ///
    /// # Errors
    /// What is wrong, and a way out.
    pub fn parse(value: &Json, field: &Field) -> Result<Self, String> {
        let signal = match with_null(value, field) {
            Json::Object(object) if !object.contains_key("raw") => Self::parse_object(&object, field)?,
            _ => Signal::Constant(Fixed::of(value, field)?),
        };
        let (least, greatest) = match &signal {
            Signal::Constant(_) | Signal::Square { .. } | Signal::Steps(_) => return Ok(signal),
            Signal::Ramp { ends: (a, b), .. } => (*a, *b),
            Signal::Sine { amplitude, around, .. } => (around - amplitude, around + amplitude),
            Signal::Walk { bounds, .. } => *bounds,
        };
        if !matches!(field.kind, Kind::Number(_) | Kind::Varint(_) | Kind::Float(_)) {
            return Err("only numbers can ramp, swing or walk; use steps or square".into());
        }
        for extreme in [least, greatest] {
            Fixed::of(&Json::Number(decimal(extreme, field)?), field)?;
        }
        Ok(signal)
    }

    fn parse_object(object: &serde_json::Map<String, Json>, field: &Field) -> Result<Self, String> {
        let known: &[&str] = if object.contains_key("ramp") {
            &["ramp", "from", "to"]
        } else if object.contains_key("sine") {
            &["sine", "around", "period"]
        } else if object.contains_key("square") {
            &["square", "period"]
        } else if object.contains_key("steps") {
            &["steps"]
        } else if object.contains_key("walk") {
            &["walk", "between", "start"]
        } else {
            return Err(format!("this is not a signal; write {FORMS}"));
        };
        if let Some(other) = object.keys().find(|key| !known.contains(&key.as_str())) {
            return Err(format!("`{other}` does not belong to `{}`; it takes {}", known[0], known.join(", ")));
        }
        let number = |name: &str| match object.get(name).and_then(Json::as_f64) {
            Some(number) if number.is_finite() => Ok(number),
            _ => Err(format!("`{name}` must be a number")),
        };
        let time = |name: &str| match object.get(name).and_then(Json::as_str).map(duration) {
            Some(Ok(time)) => Ok(time),
            Some(Err(error)) => Err(format!("`{name}`: {error}")),
            None => Err(format!("`{name}` is missing; write a duration, as in {name} = \"2 s\"")),
        };
        let pair = |name: &str| match object.get(name).and_then(Json::as_array).map(Vec::as_slice) {
            Some([a, b]) => Ok((a.clone(), b.clone())),
            _ => Err(format!("`{name}` must be two values: {name} = [A, B]")),
        };
        let numbers = |name: &str| {
            let (a, b) = pair(name)?;
            match (a.as_f64(), b.as_f64()) {
                (Some(a), Some(b)) if a.is_finite() && b.is_finite() => Ok((a, b)),
                _ => Err(format!("`{name}` must be two numbers")),
            }
        };
        let period = || match time("period")? {
            0 => Err("`period` must be more than 0".to_owned()),
            period => Ok(period),
        };
        Ok(match known[0] {
            "ramp" => {
                let span = (time("from")?, time("to")?);
                if span.0 >= span.1 {
                    return Err("`from` must come before `to`".into());
                }
                Signal::Ramp { ends: numbers("ramp")?, span }
            }
            "sine" => Signal::Sine { amplitude: number("sine")?.abs(), around: number("around")?, period: period()? },
            "square" => {
                let (a, b) = pair("square")?;
                Signal::Square { values: (Fixed::of(&a, field)?, Fixed::of(&b, field)?), period: period()? }
            }
            "steps" => {
                let mut steps = Vec::new();
                for step in object["steps"].as_array().map(Vec::as_slice).unwrap_or_default() {
                    match step.as_array().map(Vec::as_slice) {
                        Some([Json::String(at), value]) => steps.push((duration(at)?, Fixed::of(value, field)?)),
                        _ => return Err("each step is [\"TIME\", VALUE]".into()),
                    }
                }
                if steps.first().is_none_or(|(at, _)| *at != 0) || steps.windows(2).any(|pair| pair[0].0 >= pair[1].0) {
                    return Err("steps begin at \"0 s\", and each is later than the one before".into());
                }
                Signal::Steps(steps)
            }
            _ => {
                let bounds = numbers("between")?;
                let at = number("start")?;
                if bounds.0 > bounds.1 || at < bounds.0 || at > bounds.1 {
                    return Err("`start` must lie between the two numbers of `between`, the lesser first".into());
                }
                Signal::Walk { step: number("walk")?.abs(), bounds, at }
            }
        })
    }

    /// Sets a field to the signal's value at a moment. Random walks go one step on.
    pub fn sample(
        &mut self,
        now: Nanoseconds,
        field: &Field,
        slot: usize,
        random: &mut ChaCha8Rng,
        values: &mut Values,
    ) {
        let number = match self {
            Signal::Constant(value) => return value.put(slot, values),
            Signal::Square { values: (a, b), period } => {
                let value = if now % *period < *period / 2 { a } else { b };
                return value.put(slot, values);
            }
            Signal::Steps(steps) => {
                // The first is at the start.
                let begun = steps.partition_point(|(at, _)| *at <= now);
                return steps[begun.max(1) - 1].1.put(slot, values);
            }
            Signal::Ramp { ends: (a, b), span: (from, to) } => {
                let share = (now.clamp(*from, *to) - *from) as f64 / (*to - *from) as f64;
                *a + (*b - *a) * share
            }
            Signal::Sine { amplitude, around, period } => {
                let phase = (now % *period) as f64 / *period as f64;
                *around + *amplitude * (phase * std::f64::consts::TAU).sin()
            }
            Signal::Walk { step, bounds: (least, greatest), at } => {
                let moved = *at + (random.random::<f64>() * 2.0 - 1.0) * *step;
                // Turned back at the bounds.
                *at = if moved < *least { 2.0 * *least - moved } else { moved }.clamp(*least, *greatest);
                *at
            }
        };
        values.set_raw(slot, nearest(number, &field.kind));
    }
}

/// The raw number of a field that is nearest to a computed number. Both ends of a signal were checked when it was read, so what rounding
/// leads outside goes to the end.
fn nearest(number: f64, kind: &Kind) -> u64 {
    match kind {
        Kind::Number(form) | Kind::Varint(form) => {
            // physical = (offset + step × raw) / divisor
            let (offset, step, divisor) = form.scaling.parts();
            let raw = ((number * divisor as f64 - offset as f64) / step as f64).round() as i128;
            raw.clamp(form.low, form.high) as u64
        }
        Kind::Float(bits) => nearest_float(*bits, number),
        _ => 0,
    }
}

/// A computed number as it would stand in a row: with as many decimals as the field can tell apart, and some more.
fn decimal(number: f64, field: &Field) -> Result<serde_json::Number, String> {
    let decimals = match &field.kind {
        Kind::Number(form) | Kind::Varint(form) => form.scaling.decimals() as usize + 4,
        _ => 9,
    };
    let text = format!("{number:.decimals$}");
    text.parse().map_err(|_| format!("{text} is not a number"))
}

/// The fields of a message that a device sends regularly: what never changes is worked out once.
#[derive(Clone, Debug)]
pub struct Sampler {
    fixed: Values,
    /// The fields that change, by slot.
    moving: Vec<(usize, Source)>,
}

#[derive(Clone, Debug)]
enum Source {
    Signal(Signal),
    /// Counts the messages; as many bits as the number has, and what it is.
    Counter(u8, u64),
    /// A form that is selected by another field.
    Rest,
}

impl Sampler {
    /// Of a message whose fields have these signals, by slot; those that have none hold their rest.
    pub fn new<'s>(compiled: &MessagePlan, signal: impl Fn(usize) -> Option<&'s Signal>) -> Self {
        let mut fixed = Values::new(compiled);
        let mut moving = Vec::new();
        let fields = &compiled.message.fields;
        for (slot, field) in fields.iter().enumerate().filter(|(_, field)| !field.is_spare()) {
            match signal(slot) {
                Some(Signal::Constant(value)) => value.put(slot, &mut fixed),
                Some(signal) => moving.push((slot, Source::Signal(signal.clone()))),
                None if field.counter => moving.push((slot, Source::Counter(field.kind.raw_bits().unwrap_or(64), 0))),
                None if matches!(field.kind, Kind::Union(_)) => moving.push((slot, Source::Rest)),
                None => rest_in(fields, field, slot, 0, &mut fixed),
            }
        }
        Self { fixed, moving }
    }

    /// The values at a moment. Random walks and counters go one step on.
    pub fn sample(&mut self, compiled: &MessagePlan, now: Nanoseconds, random: &mut ChaCha8Rng) -> Values {
        let mut values = self.fixed.clone();
        let fields = &compiled.message.fields;
        for (slot, source) in &mut self.moving {
            match source {
                Source::Signal(signal) => signal.sample(now, &fields[*slot], *slot, random, &mut values),
                Source::Counter(bits, count) => {
                    values.set_raw(*slot, *count & (u64::MAX >> (64 - *bits)));
                    *count += 1;
                }
                Source::Rest => rest_in(fields, &fields[*slot], *slot, 0, &mut values),
            }
        }
        values
    }
}

/// Sets a field that no signal is given for: to its default, else absent if it is optional, else to what is nearest to
/// nothing: the number nearest to zero, the first label, no flags, an empty text, zero bytes, an empty list.
///
/// `selector` gives the raw number that decides about a form, by its field's index.
pub fn rest(field: &Field, slot: usize, selector: &dyn Fn(usize) -> Option<u64>, values: &mut Values) {
    if field.default.is_some() || field.optional {
        values.set_default(slot, field.default.as_ref());
        return;
    }
    match &field.kind {
        Kind::Number(form) | Kind::Varint(form) => {
            let zero = emberwort_model::number::Decimal::integer(0);
            let raw = form.scaling.nearest_raw(zero).unwrap_or(form.low).clamp(form.low, form.high);
            values.set_raw(slot, raw as u64);
        }
        Kind::Enum { labels, .. } => values.set_raw(slot, labels.labels.first().map_or(0, |label| label.code)),
        Kind::Bool | Kind::Flags(_) | Kind::Float(_) | Kind::Time { .. } => values.set_raw(slot, 0),
        Kind::Bytes(Length::Exact(count)) => values.set_bytes(slot, &vec![0; *count as usize]),
        Kind::Text { .. } | Kind::Bytes(_) | Kind::NestedFrame { .. } => values.set_bytes(slot, &[]),
        Kind::List { element, length } => {
            let count = if let Length::Exact(count) = length { *count as usize } else { 0 };
            let first = values.set_group(slot, count);
            for n in 0..count {
                rest(element, first + n, &|_| None, values);
            }
        }
        Kind::Record(record) => {
            let first = values.set_group(slot, record.fields.len());
            for (n, field) in record.fields.iter().enumerate() {
                rest_in(&record.fields, field, n, first, values);
            }
        }
        Kind::Union(union) => {
            let form = match union.selector {
                Selector::Field(decider) => selector(decider).and_then(|raw| union.index_of(raw)),
                Selector::Request { .. } => None,
            };
            let form = form.unwrap_or(0);
            if let Some(field) = union.form(form) {
                let at = values.set_chosen(slot, form);
                rest(field, at, &|_| None, values);
            }
        }
        Kind::Spare { .. } => {}
    }
}

/// Gives a field of a message or record whose first slot is `base` its value at rest; the fields before it are set already.
pub fn rest_in(fields: &[Field], field: &Field, slot: usize, base: usize, values: &mut Values) {
    let deciders: Vec<Option<u64>> = (0..fields.len().min(slot))
        .map(|n| match values.get(base + n) {
            ValueRef::Raw(raw) => Some(raw),
            _ => None,
        })
        .collect();
    rest(field, base + slot, &|n| deciders.get(n).copied().flatten(), values);
}
