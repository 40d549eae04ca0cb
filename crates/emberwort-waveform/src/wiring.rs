//! Which signal of a waveform is which wire of a line, and what its level is.

use std::fmt;
use std::ops::ControlFlow;

use emberwort_model::medium::MediumKind;
use thiserror::Error;

use crate::lines::event::MAX_WIRES;
use crate::wave::{Moment, Signal, Value, WaveSink};

/// What a wire is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Role {
    /// What the device sends.
    Device,
    /// What the host sends.
    Host,
    /// The clock.
    Clock,
    /// Which device is meant, with its node if there are several.
    Select(Option<u64>),
    /// Data in both directions, beside a clock.
    Data,
    /// The one wire, or pair of wires, of a bus.
    Bus,
    /// The wire D+ of a universal serial bus.
    Plus,
    /// Its wire D-.
    Minus,
    /// The one wire of a line whose code is spelled out.
    Line,
}

impl Role {
    const ALL: [(&str, Self); 9] = [
        ("device", Self::Device),
        ("host", Self::Host),
        ("clock", Self::Clock),
        ("select", Self::Select(None)),
        ("data", Self::Data),
        ("bus", Self::Bus),
        ("plus", Self::Plus),
        ("minus", Self::Minus),
        ("line", Self::Line),
    ];

    /// The role of a name; `select3` selects the device with node 3.
    fn named(name: &str) -> Option<Self> {
        let known = Self::ALL.iter().find(|(known, _)| *known == name).map(|(_, role)| *role);
        known.or_else(|| name.strip_prefix("select")?.parse().ok().map(|node| Self::Select(Some(node))))
    }

    /// Whether a wire with this role is one of another role, whichever device it is of.
    fn is_kind_of(self, other: Self) -> bool {
        self == other || matches!((self, other), (Self::Select(_), Self::Select(_)))
    }

    /// The roles of the wires of a medium, the needed ones first, and how many of those there are: of the others one is enough. `None` if
    /// waveforms of that medium cannot be read.
    pub fn of(medium: &MediumKind) -> Option<(&'static [Self], usize)> {
        match medium {
            MediumKind::Uart(_) => Some((&[Self::Device, Self::Host], 0)),
            MediumKind::I2c { .. } => Some((&[Self::Clock, Self::Data], 2)),
            MediumKind::Can { .. } => Some((&[Self::Bus], 1)),
            MediumKind::Usb { .. } => Some((&[Self::Plus, Self::Minus], 2)),
            MediumKind::Line(_) => Some((&[Self::Line], 1)),
            MediumKind::Spi { words, .. } if words.select.is_none() => {
                Some((&[Self::Clock, Self::Device, Self::Host], 1))
            }
            MediumKind::Spi { .. } => Some((&[Self::Clock, Self::Select(None), Self::Device, Self::Host], 2)),
            _ => None,
        }
    }
}

impl fmt::Display for Role {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let name = Self::ALL.iter().find(|(_, role)| self.is_kind_of(*role)).map_or("", |(name, _)| name);
        f.write_str(name)?;
        match self {
            Self::Select(Some(node)) => write!(f, "{node}"),
            _ => Ok(()),
        }
    }
}

/// A wire: the signal that shows it, or the difference of two.
#[derive(Clone, Debug, PartialEq)]
pub struct Wire {
    /// What it is for.
    pub role: Role,
    /// The name of its signal, or its last parts.
    pub signal: String,
    /// The name of the signal that is taken off.
    pub minus: Option<String>,
    /// Whether a high signal is a low wire.
    pub is_inverted: bool,
    /// What is low and what is high, in the unit of the signal, if it has numbers.
    pub threshold: Option<Threshold>,
}

/// What is low and what is high.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Threshold {
    /// The middle between low and high.
    pub at: f64,
    /// By how much in all a value has to pass it, up or down, before the level changes.
    pub hysteresis: f64,
}

/// The wires of a line.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Wiring {
    /// In any order.
    pub wires: Vec<Wire>,
}

/// Why wires cannot be found in a waveform.
#[derive(Clone, Debug, Error, PartialEq)]
pub enum WiringError {
    /// It cannot be read.
    #[error("`{0}` is no wire; write ROLE=SIGNAL, as in device=D0, or the difference of two signals: device=CH1-CH2")]
    Unread(String),
    /// No such role.
    #[error("a wire is {roles}, not `{role}`")]
    NoRole {
        /// What was said.
        role: String,
        /// What can be said.
        roles: String,
    },
    /// Two wires with one role.
    #[error("the wire `{0}` is said twice")]
    Twice(Role),
    /// More wires than a line can have.
    #[error("a line has at most {MAX_WIRES} wires")]
    TooMany,
    /// A wire that is needed.
    #[error("the line needs its wire `{0}`: --wire {0}=SIGNAL")]
    Lacking(Role),
    /// No wire with data.
    #[error("nothing says which wires to read: --wire {0}=SIGNAL, --wire {1}=SIGNAL, or both")]
    NoData(Role, Role),
    /// No such signal.
    #[error("there is no signal `{name}`; the waveform has {known}")]
    NoSignal {
        /// What was said.
        name: String,
        /// Some that there are.
        known: String,
    },
    /// A signal with numbers, of which nobody said what is low and what is high.
    #[error(
        "the signal of `{0}` has numbers: say where between low and high is, --threshold 1.6V, or read a file, in which it is found"
    )]
    NoThreshold(Role),
    /// A name that fits several signals.
    #[error("several signals are called `{name}`: {known}; say more of the name")]
    Ambiguous {
        /// What was said.
        name: String,
        /// Those that fit.
        known: String,
    },
}

impl Wire {
    /// Reads `ROLE=SIGNAL` or `ROLE=SIGNAL-SIGNAL`.
    ///
    /// # Errors
    /// If it is neither, or there is no such role.
    pub fn parse(text: &str) -> Result<Self, WiringError> {
        let unread = || WiringError::Unread(text.to_owned());
        let (role, signal) = text.split_once('=').ok_or_else(unread)?;
        let (role, signal) = (role.trim(), signal.trim());
        let roles = Role::ALL.map(|(name, _)| name).join(", ");
        let role = Role::named(role).ok_or_else(|| WiringError::NoRole { role: role.to_owned(), roles })?;
        let (signal, minus) = match signal.split_once('-') {
            Some((signal, minus)) => (signal.trim(), Some(minus.trim().to_owned())),
            None => (signal, None),
        };
        if signal.is_empty() || minus.as_ref().is_some_and(String::is_empty) {
            return Err(unread());
        }
        Ok(Self { role, signal: signal.to_owned(), minus, is_inverted: false, threshold: None })
    }
}

impl Wiring {
    /// Whether these wires are enough for a medium, and none too many.
    ///
    /// # Errors
    /// If one lacks, is there twice, or is none of that medium.
    pub fn check(&self, roles: &[Role], needed: usize) -> Result<(), WiringError> {
        for (index, wire) in self.wires.iter().enumerate() {
            if self.wires[..index].iter().any(|other| other.role == wire.role) {
                return Err(WiringError::Twice(wire.role));
            }
            if !roles.iter().any(|role| wire.role.is_kind_of(*role)) {
                let roles: Vec<String> = roles.iter().map(Role::to_string).collect();
                return Err(WiringError::NoRole { role: wire.role.to_string(), roles: roles.join(", ") });
            }
        }
        if self.wires.len() > MAX_WIRES {
            return Err(WiringError::TooMany);
        }
        let has = |role: Role| self.wires.iter().any(|wire| wire.role.is_kind_of(role));
        if let Some(role) = roles[..needed].iter().find(|role| !has(**role)) {
            return Err(WiringError::Lacking(*role));
        }
        if roles.contains(&Role::Device) && !has(Role::Device) && !has(Role::Host) {
            return Err(WiringError::NoData(Role::Device, Role::Host));
        }
        Ok(())
    }
}

/// The index of the signal with a name: the whole, or its last parts behind a dot.
pub fn find(signals: &[Signal], name: &str) -> Result<usize, WiringError> {
    const SHOWN: usize = 12;
    if let Some(whole) = signals.iter().position(|signal| signal.name == name) {
        return Ok(whole);
    }
    let ends = |signal: &Signal| signal.name.strip_suffix(name).is_some_and(|front| front.ends_with('.'));
    let fitting: Vec<usize> = (0..signals.len()).filter(|index| ends(&signals[*index])).collect();
    let names = |indices: &mut dyn Iterator<Item = usize>, all: usize| {
        let mut shown: Vec<&str> = indices.take(SHOWN).map(|index| signals[index].name.as_str()).collect();
        if all > SHOWN {
            shown.push("…");
        }
        shown.join(", ")
    };
    match fitting[..] {
        [only] => Ok(only),
        [] => {
            let known = names(&mut (0..signals.len()), signals.len());
            Err(WiringError::NoSignal { name: name.to_owned(), known })
        }
        _ => {
            let known = names(&mut fitting.iter().copied(), fitting.len());
            Err(WiringError::Ambiguous { name: name.to_owned(), known })
        }
    }
}

/// Turns the values of one wire's signals into its levels.
#[derive(Clone, Debug)]
pub(crate) struct Comparator {
    threshold: Option<Threshold>,
    is_inverted: bool,
    /// The last number of each signal: of the wire's own, and of the one that is taken off.
    numbers: [Option<f64>; 2],
    level: Option<bool>,
}

impl Comparator {
    /// For a wire. Levels of a signal without numbers count as 0 and 1 where two are compared.
    pub fn new(wire: &Wire) -> Self {
        let (threshold, is_inverted) = (wire.threshold, wire.is_inverted);
        Self { threshold, is_inverted, numbers: [None; 2], level: None }
    }

    /// A value of the wire's own signal, or (`is_minus`) of the one that is taken off. Returns the level of the wire, if it changed: `None`
    /// inside if nobody knows it.
    #[inline]
    pub fn take(&mut self, value: Value, is_minus: bool, has_minus: bool) -> Option<Option<bool>> {
        let is_high = match value {
            Value::Low => false,
            Value::High => true,
            Value::Unknown | Value::Number(_) => return self.compare(value, is_minus, has_minus),
        };
        // Nearly always nothing has to be compared.
        if has_minus || self.threshold.is_some() {
            return self.compare(value, is_minus, has_minus);
        }
        self.become_level(Some(is_high != self.is_inverted))
    }

    fn compare(&mut self, value: Value, is_minus: bool, has_minus: bool) -> Option<Option<bool>> {
        let number = match value {
            Value::Unknown => return self.become_level(None),
            Value::Low => 0.0,
            Value::High => 1.0,
            Value::Number(number) => number,
        };
        self.numbers[usize::from(is_minus)] = Some(number);
        let number = match self.numbers {
            [Some(plus), Some(minus)] if has_minus => plus - minus,
            // The other one of the two has no value yet.
            _ if has_minus => return None,
            _ => number,
        };
        let threshold = self.threshold.unwrap_or(match value {
            // Of two levels the difference is 1, 0 or -1.
            _ if has_minus => Threshold { at: 0.0, hysteresis: 0.0 },
            _ => Threshold { at: 0.5, hysteresis: 0.0 },
        });
        let half = threshold.hysteresis / 2.0;
        let is_high = match self.level.map(|level| level != self.is_inverted) {
            Some(true) => number > threshold.at - half,
            Some(false) => number >= threshold.at + half && number > threshold.at - half,
            None => number > threshold.at,
        };
        self.become_level(Some(is_high != self.is_inverted))
    }

    fn become_level(&mut self, level: Option<bool>) -> Option<Option<bool>> {
        if self.level == level {
            return None;
        }
        self.level = level;
        Some(level)
    }
}

/// The least and the greatest number that each wire has, for a threshold between them.
#[derive(Clone, Debug)]
pub struct Extremes {
    wiring: Wiring,
    /// For each signal, the wires that it has to do with, and whether it is taken off there.
    by_signal: Vec<Vec<(usize, bool)>>,
    numbers: Vec<[Option<f64>; 2]>,
    /// By wire: the least and the greatest number; `None` if its signals have levels.
    found: Vec<Option<(f64, f64)>>,
}

impl Extremes {
    /// Of these wires. Those that are not in the waveform have none.
    pub fn new(wiring: &Wiring) -> Self {
        let count = wiring.wires.len();
        Self {
            wiring: wiring.clone(),
            by_signal: Vec::new(),
            numbers: vec![[None; 2]; count],
            found: vec![None; count],
        }
    }

    /// By wire: the least and the greatest number; `None` if its signals have levels.
    pub fn found(&self) -> &[Option<(f64, f64)>] {
        &self.found
    }
}

impl WaveSink for Extremes {
    fn signals(&mut self, signals: &[Signal]) -> ControlFlow<()> {
        self.by_signal = by_signal(&self.wiring, signals).unwrap_or_default();
        match self.by_signal.is_empty() || !signals.iter().any(|signal| signal.is_analog) {
            true => ControlFlow::Break(()),
            false => ControlFlow::Continue(()),
        }
    }

    fn value(&mut self, _: Moment, signal: usize, value: Value) -> ControlFlow<()> {
        let Value::Number(number) = value else { return ControlFlow::Continue(()) };
        for (wire, is_minus) in self.by_signal.get(signal).into_iter().flatten() {
            let numbers = &mut self.numbers[*wire];
            numbers[usize::from(*is_minus)] = Some(number);
            let difference = match (numbers, &self.wiring.wires[*wire].minus) {
                ([Some(number), Some(minus)], Some(_)) => *number - *minus,
                ([Some(number), _], None) => *number,
                _ => continue,
            };
            let (least, greatest) = self.found[*wire].unwrap_or((difference, difference));
            self.found[*wire] = Some((least.min(difference), greatest.max(difference)));
        }
        ControlFlow::Continue(())
    }

    fn until(&mut self, _: Moment) -> ControlFlow<()> {
        ControlFlow::Continue(())
    }
}

/// For each signal of a waveform, the wires that it has to do with, and whether it is taken off there.
///
/// # Errors
/// If a wire has no signal there.
pub(crate) fn by_signal(wiring: &Wiring, signals: &[Signal]) -> Result<Vec<Vec<(usize, bool)>>, WiringError> {
    let mut found = vec![Vec::new(); signals.len()];
    for (index, wire) in wiring.wires.iter().enumerate() {
        found[find(signals, &wire.signal)?].push((index, false));
        if let Some(minus) = &wire.minus {
            found[find(signals, minus)?].push((index, true));
        }
    }
    Ok(found)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn wires_are_read_and_found() {
        let wire = Wire::parse("device=CH1-CH2").unwrap();
        assert_eq!((wire.role, &*wire.signal, wire.minus.as_deref()), (Role::Device, "CH1", Some("CH2")));
        for (text, said) in [
            ("rx=D0", "a wire is device, host, clock, select, data, bus, plus, minus, line, not `rx`"),
            ("device", "`device` is no wire"),
            ("device=", "`device=` is no wire"),
        ] {
            assert!(Wire::parse(text).unwrap_err().to_string().starts_with(said), "{text}");
        }
        let signals = ["top.a.rx", "top.b.rx", "tx"].map(|name| Signal { name: name.to_owned(), is_analog: false });
        assert_eq!(find(&signals, "a.rx"), Ok(0));
        assert_eq!(find(&signals, "tx"), Ok(2));
        assert!(
            find(&signals, "rx")
                .unwrap_err()
                .to_string()
                .starts_with("several signals are called `rx`: top.a.rx, top.b.rx")
        );
        assert!(find(&signals, "x").unwrap_err().to_string().starts_with("there is no signal `x`"));
    }

    #[test]
    fn levels_follow_the_threshold_with_hysteresis() {
        let mut wire = Wire::parse("device=A0").unwrap();
        wire.threshold = Some(Threshold { at: 1.5, hysteresis: 1.0 });
        let mut comparator = Comparator::new(&wire);
        let mut take = |number| comparator.take(Value::Number(number), false, false);
        assert_eq!(take(0.0), Some(Some(false)));
        assert_eq!((take(1.9), take(2.0)), (None, Some(Some(true))));
        assert_eq!((take(1.1), take(1.0)), (None, Some(Some(false))));
    }
}
