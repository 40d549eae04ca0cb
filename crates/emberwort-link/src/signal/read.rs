//! Signals as they stand in trial files.

use emberwort_model::Plan;
use emberwort_model::model::End;
use serde_json::Map;

use super::*;
use crate::file_words::{duration, index};

/// What a signal may refer to besides its own field.
pub struct Surroundings<'a> {
    /// The device's definition.
    pub plan: &'a Plan,
    /// The fields of its message.
    pub fields: &'a [Field],
    /// Reads a file that the trial names.
    pub read: &'a dyn Fn(&str) -> Result<String, String>,
}

/// The kinds of signals: the key that says which, the others that belong to it, and how it is written.
const FORMS: [(&str, &[&str], &str); 14] = [
    ("ramp", &["from", "to"], "{ ramp = [A, B], from = \"…\", to = \"…\" }"),
    ("sine", &["around", "period"], "{ sine = A, around = B, period = \"…\" }"),
    ("triangle", &["around", "period"], "{ triangle = A, around = B, period = \"…\" }"),
    ("square", &["period"], "{ square = [A, B], period = \"…\" }"),
    ("cycle", &["each"], "{ cycle = [A, B, C], each = \"…\" }"),
    ("steps", &[], "{ steps = [[\"0 s\", A], …] }"),
    ("walk", &["between", "start"], "{ walk = STEP, between = [A, B], start = C }"),
    ("noise", &["around"], "{ noise = DEVIATION, around = B }"),
    ("chain", &[], "{ chain = [[A, { B = 0.1 }], [B, { A = 0.5 }]] }"),
    ("burst", &["usually", "chance", "lasting"], "{ burst = A, usually = B, chance = 0.01, lasting = \"…\" }"),
    ("playback", &["column", "time"], "{ playback = \"FILE.csv\", column = \"…\", time = \"…\" }"),
    ("formula", &[], "{ formula = \"…\" }"),
    ("follow", &["speed", "start"], "{ follow = \"MESSAGE.FIELD\", speed = \"…\", start = A }"),
    ("raw", &[], "{ raw = CODE }"),
];

fn forms() -> String {
    let all: Vec<&str> = FORMS.iter().map(|(_, _, form)| *form).collect();
    format!("a value, {}", all.join(", "))
}

/// The keys of a signal that is written as an object.
struct Keys<'k> {
    object: &'k Map<String, Json>,
    field: &'k Field,
}

impl Keys<'_> {
    fn get(&self, name: &str) -> Result<&Json, String> {
        self.object.get(name).ok_or_else(|| format!("`{name}` is missing"))
    }

    fn number(&self, name: &str) -> Result<f64, String> {
        match self.get(name)?.as_f64() {
            Some(number) if number.is_finite() => Ok(number),
            _ => Err(format!("`{name}` must be a number")),
        }
    }

    fn text(&self, name: &str) -> Result<&str, String> {
        self.get(name)?.as_str().ok_or_else(|| format!("`{name}` must be a text in quotes"))
    }

    fn time(&self, name: &str) -> Result<Nanoseconds, String> {
        match self.object.get(name).and_then(Json::as_str).map(duration) {
            Some(Ok(time)) => Ok(time),
            Some(Err(error)) => Err(format!("`{name}`: {error}")),
            None => Err(format!("`{name}` is missing; write a duration, as in {name} = \"2 s\"")),
        }
    }

    /// A duration that something is divided by.
    fn period(&self, name: &str) -> Result<Nanoseconds, String> {
        match self.time(name)? {
            0 => Err(format!("`{name}` must be more than 0")),
            period => Ok(period),
        }
    }

    fn numbers(&self, name: &str) -> Result<(f64, f64), String> {
        match self.get(name)?.as_array().map(Vec::as_slice) {
            Some([a, b]) => match (a.as_f64(), b.as_f64()) {
                (Some(a), Some(b)) if a.is_finite() && b.is_finite() => Ok((a, b)),
                _ => Err(format!("`{name}` must be two numbers")),
            },
            _ => Err(format!("`{name}` must be two values: {name} = [A, B]")),
        }
    }

    fn value(&self, name: &str) -> Result<Fixed, String> {
        Fixed::of(self.get(name)?, self.field)
    }

    fn values(&self, name: &str) -> Result<Vec<Fixed>, String> {
        let list = self.get(name)?.as_array().filter(|list| !list.is_empty());
        let list = list.ok_or_else(|| format!("`{name}` must be a list of values"))?;
        list.iter().map(|value| Fixed::of(value, self.field)).collect()
    }

    fn chance(&self, name: &str) -> Result<f64, String> {
        chance(name, self.get(name)?)
    }
}

fn chance(name: &str, value: &Json) -> Result<f64, String> {
    match value.as_f64() {
        Some(chance) if (0.0..=1.0).contains(&chance) => Ok(chance),
        _ => Err(format!("`{name}` must be a probability from 0 to 1")),
    }
}

impl Signal {
    /// Reads a signal for a field, and checks that all its values fit.
    ///
    /// # Errors
    /// What is wrong, and a way out.
    pub fn parse(value: &Json, field: &Field, around: &Surroundings<'_>) -> Result<Self, String> {
        let signal = match with_null(value, field) {
            // A union's or a record's own object is a value.
            Json::Object(object) if !object.contains_key("raw") && is_signal(&object, field) => {
                parse_object(&object, field, around)?
            }
            _ => Signal::Constant(Fixed::of(value, field)?),
        };
        let extremes = match &signal {
            Signal::Constant(_)
            | Signal::Cycle { .. }
            | Signal::Steps(_)
            | Signal::Chain { .. }
            | Signal::Burst { .. }
            | Signal::Follow(_) => return Ok(signal),
            Signal::Formula(_) => None,
            Signal::Ramp { ends: (a, b), .. } => Some((*a, *b)),
            Signal::Wave { amplitude, around, .. } => Some((around - amplitude, around + amplitude)),
            Signal::Walk { bounds, .. } => Some(*bounds),
            Signal::Noise { deviation, around } => {
                Some((around - NOISE_REACH * deviation, around + NOISE_REACH * deviation))
            }
            Signal::Playback(points) => {
                let numbers = || points.iter().map(|(_, number)| *number);
                Some((numbers().fold(f64::INFINITY, f64::min), numbers().fold(f64::NEG_INFINITY, f64::max)))
            }
        };
        let is_number = matches!(field.kind, Kind::Number(_) | Kind::Varint(_) | Kind::Float(_));
        let is_worked_out_bool = matches!(field.kind, Kind::Bool) && extremes.is_none();
        if !is_number && !is_worked_out_bool {
            return Err("only numbers can ramp, swing, walk or be worked out; use steps, cycle, chain or burst".into());
        }
        for extreme in extremes.into_iter().flat_map(|(least, greatest)| [least, greatest]) {
            Fixed::of(&Json::Number(decimal(extreme, field)?), field)?;
        }
        Ok(signal)
    }
}

/// Whether an object is a signal, not a value that is written as one.
fn is_signal(object: &Map<String, Json>, field: &Field) -> bool {
    let has_key = FORMS.iter().any(|(key, ..)| object.contains_key(*key));
    has_key || !matches!(field.kind, Kind::Record(_) | Kind::Union(_))
}

fn parse_object(object: &Map<String, Json>, field: &Field, around: &Surroundings<'_>) -> Result<Signal, String> {
    let Some((kind, others, form)) = FORMS.iter().find(|(key, ..)| object.contains_key(*key)) else {
        return Err(format!("this is not a signal; write {}", forms()));
    };
    if let Some(other) = object.keys().find(|key| key != kind && !others.contains(&key.as_str())) {
        return Err(format!("`{other}` does not belong to `{kind}`; write {form}"));
    }
    let keys = Keys { object, field };
    Ok(match *kind {
        "ramp" => {
            let span = (keys.time("from")?, keys.time("to")?);
            if span.0 >= span.1 {
                return Err("`from` must come before `to`".into());
            }
            Signal::Ramp { ends: keys.numbers("ramp")?, span }
        }
        "sine" | "triangle" => Signal::Wave {
            form: if *kind == "sine" { Wave::Sine } else { Wave::Triangle },
            amplitude: keys.number(kind)?.abs(),
            around: keys.number("around")?,
            period: keys.period("period")?,
        },
        "square" => match keys.values("square")? {
            values if values.len() == 2 => Signal::Cycle { values, each: (keys.period("period")? / 2).max(1) },
            _ => return Err("`square` must be two values: square = [A, B]".into()),
        },
        "cycle" => Signal::Cycle { values: keys.values("cycle")?, each: keys.period("each")? },
        "steps" => steps(&keys)?,
        "walk" => {
            let bounds = keys.numbers("between")?;
            let at = keys.number("start")?;
            if bounds.0 > bounds.1 || at < bounds.0 || at > bounds.1 {
                return Err("`start` must lie between the two numbers of `between`, the lesser first".into());
            }
            Signal::Walk { step: keys.number("walk")?.abs(), bounds, at }
        }
        "noise" => Signal::Noise { deviation: keys.number("noise")?.abs(), around: keys.number("around")? },
        "chain" => chain(&keys)?,
        "burst" => Signal::Burst {
            values: (keys.value("usually")?, keys.value("burst")?),
            chance: keys.chance("chance")?,
            lasting: keys.time("lasting")?,
            until: 0,
        },
        "playback" => played(&keys, around)?,
        "formula" => Signal::Formula(Formula::of_fields(keys.text("formula")?, around.fields)?),
        _ => follow(&keys, around)?,
    })
}

fn steps(keys: &Keys<'_>) -> Result<Signal, String> {
    let mut steps = Vec::new();
    for step in keys.get("steps")?.as_array().map(Vec::as_slice).unwrap_or_default() {
        match step.as_array().map(Vec::as_slice) {
            Some([Json::String(at), value]) => steps.push((duration(at)?, Fixed::of(value, keys.field)?)),
            _ => return Err("each step is [\"TIME\", VALUE]".into()),
        }
    }
    if steps.first().is_none_or(|(at, _)| *at != 0) || steps.windows(2).any(|pair| pair[0].0 >= pair[1].0) {
        return Err("steps begin at \"0 s\", and each is later than the one before".into());
    }
    Ok(Signal::Steps(steps))
}

/// `[[A, { B = 0.1 }], [B, { A = 0.5 }]]`: each value with those that it goes over to.
fn chain(keys: &Keys<'_>) -> Result<Signal, String> {
    const FORM: &str = "each part of a chain is [VALUE, { OTHER = CHANCE }]";
    let parts = keys.get("chain")?.as_array().filter(|parts| !parts.is_empty()).ok_or(FORM)?;
    let mut names = Vec::new();
    let mut ways = Vec::new();
    for part in parts {
        match part.as_array().map(Vec::as_slice) {
            Some([value, Json::Object(to)]) => {
                names.push(value.as_str().map_or_else(|| value.to_string(), str::to_owned));
                ways.push((value, to));
            }
            _ => return Err(FORM.into()),
        }
    }
    let mut values = Vec::new();
    for (value, to) in ways {
        let mut next = Vec::new();
        for (name, share) in to {
            let target = index("part of the chain", name, names.iter().map(String::as_str))?;
            next.push((target, chance(name, share)?));
        }
        if next.iter().map(|(_, chance)| chance).sum::<f64>() > 1.0 + 1e-9 {
            return Err(format!("the chances to leave {value} are more than 1 together"));
        }
        values.push((Fixed::of(value, keys.field)?, next));
    }
    Ok(Signal::Chain { values, at: 0 })
}

/// Numbers out of a CSV file with a line of titles.
fn played(keys: &Keys<'_>, around: &Surroundings<'_>) -> Result<Signal, String> {
    let name = keys.text("playback")?;
    let text = (around.read)(name).map_err(|error| format!("{name} cannot be read: {error}"))?;
    let mut reader = csv::Reader::from_reader(text.as_bytes());
    let titles = reader.headers().map_err(|error| format!("{name}: {error}"))?.clone();
    let column = |title: &str| index(&format!("column in {name}"), title.trim(), titles.iter().map(str::trim));
    let (time, value) = (column(keys.text("time")?)?, column(keys.text("column")?)?);
    let mut points: Vec<(Nanoseconds, f64)> = Vec::new();
    for (n, record) in reader.records().enumerate() {
        let line = n + 2;
        let record = record.map_err(|error| format!("{name}: {error}"))?;
        let number = |column: usize| {
            let text = record.get(column).unwrap_or_default().trim();
            text.parse::<f64>()
                .ok()
                .filter(|number| number.is_finite())
                .ok_or_else(|| format!("{name}, line {line}: `{text}` is not a number"))
        };
        let (seconds, value) = (number(time)?, number(value)?);
        if !(0.0..9e9).contains(&seconds) {
            return Err(format!("{name}, line {line}: a time is in seconds from the start on, not {seconds}"));
        }
        let at = (seconds * 1e9).round() as Nanoseconds;
        if points.last().is_some_and(|(before, _)| *before >= at) {
            return Err(format!("{name}, line {line}: each time must be later than the one before"));
        }
        points.push((at, value));
    }
    if points.is_empty() {
        return Err(format!("{name} has no line with values"));
    }
    Ok(Signal::Playback(points.into()))
}

fn follow(keys: &Keys<'_>, around: &Surroundings<'_>) -> Result<Signal, String> {
    let text = keys.text("follow")?;
    let (message, target) = text.split_once('.').ok_or("write follow = \"MESSAGE.FIELD\"")?;
    let names = around.plan.messages.iter().filter(|plan| plan.message.from == End::Host);
    index("message of the host", message, names.map(|plan| plan.message.name.as_str()))?;
    let command = around.plan.message_index(message).ok_or("there is no such message")?;
    let fields = &around.plan.messages[command].message.fields;
    let slot = index(&format!("field of {message}"), target, fields.iter().map(|field| field.name.as_str()))?;
    let is_number = |field: &Field| matches!(field.kind, Kind::Number(_) | Kind::Varint(_) | Kind::Float(_));
    if !is_number(&fields[slot]) || !is_number(keys.field) {
        return Err("only a number can follow a number".into());
    }
    let speed = match keys.get("speed")? {
        Json::Number(number) => Formula::of_fields(&number.to_string(), fields)?,
        Json::String(text) => Formula::of_fields(text, fields)?,
        _ => return Err("`speed` must be a number, or a formula over the fields of the command".into()),
    };
    let start = keys.number("start")?;
    Fixed::of(&Json::Number(decimal(start, keys.field)?), keys.field)?;
    let bounds = match &keys.field.kind {
        Kind::Number(form) | Kind::Varint(form) => {
            let (offset, step, divisor) = form.scaling.parts();
            let end = |raw: i128| (offset as f64 + step as f64 * raw as f64) / divisor as f64;
            (end(form.low).min(end(form.high)), end(form.low).max(end(form.high)))
        }
        _ => (f64::NEG_INFINITY, f64::INFINITY),
    };
    let fields = fields.clone();
    Ok(Signal::Follow(Box::new(Follow { command, target: slot, fields, speed, bounds, at: start, since: 0 })))
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
