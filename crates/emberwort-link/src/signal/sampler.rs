//! The fields of a message that a device sends regularly.

use emberwort_model::plan::MessagePlan;

use super::*;

/// The fields of a message that a device sends regularly: what never changes is worked out once.
#[derive(Clone, Debug)]
pub struct Sampler {
    fixed: Values,
    /// The fields that change, by slot; those that depend on others come last.
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
        moving.sort_by_key(|(_, source)| matches!(source, Source::Signal(signal) if signal.is_derived()));
        Self { fixed, moving }
    }

    /// The values at a moment. Random walks and counters go one step on.
    pub fn sample(
        &mut self,
        compiled: &MessagePlan,
        now: Nanoseconds,
        commands: &Commands,
        random: &mut ChaCha8Rng,
    ) -> Values {
        let mut values = self.fixed.clone();
        let fields = &compiled.message.fields;
        for (slot, source) in &mut self.moving {
            match source {
                Source::Signal(signal) => signal.sample(now, (fields, *slot), commands, random, &mut values),
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
