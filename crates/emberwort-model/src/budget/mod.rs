//! What messages cost: bits and bytes, time on the wire, shares of a channel, energy.
//!
//! Sizes and times are exact; what is rounded is rounded when it is shown.

mod report;
pub mod wire_time;

pub use report::{ChannelReport, MessageRow, medium_text, report};

use num_rational::Ratio;
use wire_time::{Seconds, WireCost};

use crate::ids::ChannelId;
use crate::model::{Field, Kind, Length, LineDigits, LineForm, Medium, MediumKind};
use crate::number::Decimal;
use crate::plan::{Action, Channel, Direction, EXTENDED_ID, KeySource, MessagePlan, Plan};

/// The size of a message's body and what of it carries nothing.
#[derive(Clone, Debug, PartialEq)]
pub struct BodyBudget {
    /// Fewest and most bytes.
    pub bytes: (usize, usize),
    /// Bits of values in the longest body.
    pub value_bits: u64,
    /// Bits in the longest body that no value has: spare, retired, filling.
    pub spare_bits: u64,
    /// Bits that codes without meaning waste, in the longest body: for each number, its width less the binary logarithm of
    /// its valid codes.
    pub unused_codes: f64,
}

/// What a message costs on one channel.
#[derive(Clone, Debug, PartialEq)]
pub struct MessageOnChannel {
    /// Bytes of the frame around the body, stuffing and delimiters included, at the longest body.
    pub overhead: usize,
    /// Bytes of the shortest and longest frame.
    pub frame: (usize, usize),
    /// The cost of the shortest frame.
    pub least: WireCost,
    /// The cost of the longest frame.
    pub greatest: WireCost,
}

/// The size of a message's body.
pub fn body(plan: &MessagePlan) -> BodyBudget {
    let greatest = plan.greatest_size();
    let (mut value_bits, mut unused_codes) = (0, 0.0);
    for section in &plan.sections {
        value_bits += section.presence_bytes as u64 * 8;
        // Presence bits fill whole bytes.
        let optional = section.steps.iter().filter(|step| step.presence.is_some()).count() as u64;
        value_bits -= section.presence_bytes as u64 * 8 - optional;
        for step in &section.steps {
            let field = &plan.message.fields[step.slot];
            let (bits, unused) = worth(field, &step.action);
            value_bits += bits;
            unused_codes += unused;
        }
    }
    if plan.has_rest {
        value_bits += plan.rest_bytes as u64 * 8;
    }
    BodyBudget {
        bytes: (plan.least_size(), greatest),
        value_bits,
        spare_bits: (greatest as u64 * 8).saturating_sub(value_bits),
        unused_codes,
    }
}

/// The bits that a field's values have at most, and how many of them codes without meaning waste.
fn worth(field: &Field, action: &Action) -> (u64, f64) {
    match action {
        _ if field.is_spare() => (0, 0.0),
        Action::Bits { width, .. } => (u64::from(*width), unused_bits(&field.kind, *width)),
        Action::Record(record) => {
            let steps = record.sections.iter().flat_map(|section| &section.steps);
            let parts = steps.map(|step| worth(&record.record.fields[step.slot], &step.action));
            parts.fold((0, 0.0), |(bits, unused), part| (bits + part.0, unused + part.1))
        }
        Action::List(list) => {
            let (bits, unused) = worth(&list.element.field, &list.element.action);
            let count = match list.length {
                crate::model::Length::Exact(count) | crate::model::Length::UpTo(count) => u64::from(count),
                crate::model::Length::Rest => 0,
            };
            let all = action.bits().1;
            let padding = list.element.action.bits().1.saturating_sub(bits) * count;
            (all.saturating_sub(padding), unused * count as f64)
        }
        Action::Union(_) | Action::Varint { .. } | Action::Run { .. } => (action.bits().1, 0.0),
        Action::Skip { .. } => (0, 0.0),
    }
}

fn unused_bits(kind: &Kind, width: u8) -> f64 {
    let codes = match kind {
        Kind::Number(form) => (form.high - form.low + 1) + i128::from(form.none.is_some()),
        Kind::Enum { labels, none } => labels.labels.len() as i128 + i128::from(none.is_some()),
        Kind::Flags(labels) => return f64::from(width) - labels.labels.len() as f64,
        _ => return 0.0,
    };
    (f64::from(width) - (codes.max(1) as f64).log2()).max(0.0)
}

/// What a message costs on the channel with this index.
pub fn message_on(channel: &Channel, plan: &MessagePlan, index: ChannelId) -> MessageOnChannel {
    let direction = channel.direction(plan.message.from);
    let (least, mut greatest) = (plan.least_size(), plan.greatest_size());
    if plan.has_rest {
        greatest = direction.longest_body().max(least);
    }
    if direction.selected_by == KeySource::Line {
        (_, greatest) = line_length(plan);
    }
    let least = if direction.selected_by == KeySource::Line { line_length(plan).0 } else { least };
    let frame = (direction.least_frame_size(least), direction.frame_size(greatest));
    let position = plan.message.channels.iter().position(|other| *other == index);
    let extended = position.and_then(|at| plan.message.keys[at]).is_some_and(|key| key.extended);
    // The silence that separates frames takes time too.
    let silence = Seconds::new(i128::from(direction.finder.silence().unwrap_or(0)), 1_000_000_000);
    let with_silence = |cost: WireCost| WireCost { time: cost.time + silence, ..cost };
    MessageOnChannel {
        overhead: frame.1 - greatest,
        frame,
        least: with_silence(direction.medium.kind.least(frame.0, extended)),
        greatest: with_silence(direction.medium.kind.worst(frame.1, extended)),
    }
}

/// Fewest and most bytes of a text message's line, without its end.
pub fn line_length(plan: &MessagePlan) -> (usize, usize) {
    use crate::model::LinePiece;
    let Some(line) = &plan.message.line else { return (0, 0) };
    line.iter().fold((0, 0), |(least, most), piece| {
        let (a, b) = match piece {
            LinePiece::Text(text) => (text.len(), text.len()),
            LinePiece::Field { slot, form } => field_length(&plan.message.fields[*slot], *form),
        };
        (least + a, most + b)
    })
}

/// Fewest and most bytes of a field in a line.
pub(crate) fn field_length(field: &Field, form: LineForm) -> (usize, usize) {
    let none = field.kind.none().map(|_| if form.blank { 0 } else { 4 });
    let with_none = |least: usize, most: usize| none.map_or((least, most), |none| (least.min(none), most.max(none)));
    match (&field.kind, form.digits) {
        // The code that means "no reading" has digits too.
        (_, LineDigits::Hex(digits)) => (if form.blank { 0 } else { digits.into() }, digits.into()),
        (Kind::Number(_) | Kind::Varint(_), _) if form.wide > 0 => with_none(form.wide.into(), form.wide.into()),
        (Kind::Number(number) | Kind::Varint(number), digits) => {
            let own = number.scaling.decimals() as usize;
            let more = match digits {
                LineDigits::Fixed(decimals) => {
                    usize::from(decimals).saturating_sub(own) + usize::from(own == 0 && decimals > 0)
                }
                _ => 0,
            };
            let size = |raw: i128| number.scaling.physical(raw).to_string().len() + more;
            // The shortest value is the one nearest to zero, the longest stands at an end.
            let zero = number.scaling.nearest_raw(Decimal::integer(0)).unwrap_or(number.low);
            let shortest = size(zero.clamp(number.low, number.high));
            with_none(shortest, size(number.low).max(size(number.high)))
        }
        (Kind::Bool, _) => (4, 5),
        (Kind::Float(_), _) => (1, 24),
        (Kind::Time { .. }, _) => (1, 15),
        (Kind::Enum { labels, .. }, _) => {
            let sizes = || labels.labels.iter().map(|label| label.name.len());
            with_none(sizes().min().unwrap_or(0), sizes().max().unwrap_or(0))
        }
        (Kind::Text { length: Length::Exact(most) | Length::UpTo(most), .. }, _) => (0, *most as usize),
        _ => (0, 0),
    }
}

/// Bytes a second of the regular messages of one device on a channel; `None` if there are none.
pub(crate) fn regular_bytes_per_second(plan: &Plan, channel: &Direction) -> Option<f64> {
    let mut sum = None;
    let carried = plan.message_ids().filter(|(index, _)| channel.key_of(*index).is_some());
    for (_, compiled) in carried {
        if let Some(every) = compiled.message.every {
            let bytes = channel.frame_size(compiled.greatest_size()) as f64;
            *sum.get_or_insert(0.0) += bytes / (every as f64 * 1e-9);
        }
    }
    sum
}

/// Bytes a second that a stream carries when it is never idle.
pub(crate) fn line_bytes_per_second(medium: &MediumKind) -> f64 {
    1.0 / to_f64(medium.worst(1, false).time)
}

/// The energy of sending for so long, in millijoules: current times voltage times time. `None` if the medium does not say
/// its current.
pub fn energy(medium: &Medium, time: Seconds) -> Option<Seconds> {
    let (current, voltage) = medium.sending?;
    let exact = |value: Decimal| Ratio::new(value.mantissa, 10i128.pow(value.decimals.min(18)));
    // Milliamperes times volts are milliwatts.
    Some(exact(current) * exact(voltage) * time)
}

/// The CAN identifier of a message's key, and whether it has 29 bits.
pub fn can_id(key: u64) -> (u32, bool) {
    ((key & !EXTENDED_ID) as u32, key & EXTENDED_ID != 0)
}

/// A rational as the nearest floating point number.
pub fn to_f64(value: Seconds) -> f64 {
    *value.numer() as f64 / *value.denom() as f64
}

/// A rational with so many decimals, rounded to the nearest (ties away from zero); `≈` stands in front if it was rounded.
pub fn decimal_text(value: Seconds, decimals: u32) -> String {
    let unit = 10i128.pow(decimals);
    let scaled = value * Ratio::from_integer(unit);
    let rounded = crate::number::divide_round(*scaled.numer(), *scaled.denom());
    let mark = if scaled.is_integer() { "" } else { "≈" };
    let mut decimal = Decimal { mantissa: rounded, decimals };
    // An exact number needs no zeros at its end.
    while mark.is_empty() && decimal.decimals > 0 && decimal.mantissa % 10 == 0 {
        decimal = Decimal { mantissa: decimal.mantissa / 10, decimals: decimal.decimals - 1 };
    }
    format!("{mark}{decimal}")
}

const SECOND: u64 = 1_000_000_000;
const MINUTE: u64 = 60 * SECOND;
const HOUR: u64 = 60 * MINUTE;

/// A duration in nanoseconds in the largest unit that suits it: `50 ms`, `2.5 s`.
pub fn duration_text(nanoseconds: u64) -> String {
    let (unit, name) = match nanoseconds {
        0 => return "0 s".into(),
        n if n >= 2 * HOUR && n % HOUR == 0 => (HOUR, "h"),
        n if n >= 2 * MINUTE && n % MINUTE == 0 => (MINUTE, "min"),
        n if n >= SECOND => (SECOND, "s"),
        n if n >= 1_000_000 => (1_000_000, "ms"),
        n if n >= 1000 => (1000, "us"),
        _ => (1, "ns"),
    };
    let mut text = format!("{}.{:03}", nanoseconds / unit, u128::from(nanoseconds % unit) * 1000 / u128::from(unit));
    while text.ends_with('0') {
        text.pop();
    }
    format!("{} {name}", text.trim_end_matches('.'))
}

/// A time in the unit that suits it, with at least four digits that count.
pub fn time_text(time: Seconds) -> String {
    let steps = [(1_000_000, "µs"), (1_000, "ms"), (1, "s")];
    let (factor, unit) = steps
        .into_iter()
        .find(|(factor, _)| time * Ratio::from_integer(*factor) < Ratio::from_integer(1000))
        .unwrap_or((1, "s"));
    let scaled = time * Ratio::from_integer(factor);
    let decimals = match to_f64(scaled) {
        value if value >= 100.0 => 1,
        value if value >= 10.0 => 2,
        _ => 3,
    };
    format!("{} {unit}", decimal_text(scaled, decimals))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn durations_have_fitting_units() {
        assert_eq!(duration_text(50_000_000), "50 ms");
        assert_eq!(duration_text(2_500_000_000), "2.5 s");
        assert_eq!(duration_text(86_806), "86.806 us");
        assert_eq!(duration_text(7), "7 ns");
        assert_eq!((duration_text(600 * SECOND), duration_text(86_400 * SECOND)), ("10 min".into(), "24 h".into()));
    }
}
