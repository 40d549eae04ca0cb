//! What is wrong with a recording, or with the wires: said with what was found, what was needed, and what to try.

use std::fmt;

use emberwort_model::counting::plural;
use emberwort_model::medium::usb::PacketId;
use emberwort_model::medium::{BitCode, LineCode, MediumKind, UartFormat, UsbSpeed};

use crate::lines::event::Count;
use crate::lines::{can, code, i2c, spi, uart, usb};
use crate::listener::LineObservations;
use crate::wave::Moment;
use crate::wiring::Role;

/// What kind of thing is wrong.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Kind {
    /// A wire does not change.
    Nothing,
    /// A wire has its level at rest the other way around.
    Inverted,
    /// Edges are too coarse for what is between them.
    Coarse,
    /// The sender's speed is another one.
    Speed,
    /// The recording begins inside of something.
    BeginsInside,
    /// Pulses that are nothing.
    Glitches,
    /// A byte or a frame is flawed.
    Flawed,
    /// What was begun did not end.
    Half,
    /// Data are taken at the edge at which they change.
    WrongEdge,
    /// The wire that selects a device never does, or two do.
    Select,
    /// Levels that nobody knows.
    Unknown,
    /// Nobody answers.
    Unheard,
}

/// What is wrong, in words.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Finding {
    /// What kind of thing.
    pub kind: Kind,
    /// In words.
    pub text: String,
    /// What to try.
    pub suggestion: Option<Suggestion>,
}

/// What may help against a finding when the same waveform is read again.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Suggestion {
    /// Take the levels of this wire the other way around.
    Invert(Role),
    /// Leave out levels that last for less than this, in picoseconds.
    Deglitch(u64),
    /// Show packets of the line that carry no message, too.
    AllPackets,
}

impl fmt::Display for Finding {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}

fn finding(kind: Kind, text: impl Into<String>) -> Finding {
    Finding { kind, text: text.into(), suggestion: None }
}

/// Fewer samples a bit than this can be read wrong without anybody noticing.
const SAFE_SAMPLES: f64 = 4.0;

/// A pulse of one bit may be longer than another one by so much of a bit, which is one sample of three.
const SAFE_SPREAD: f64 = 0.32;

/// The sender's clock may be off by so much, in percent, before it is said.
const TOLERATED: f64 = 1.5;

/// What is wrong with the number of samples a bit, if that is known beforehand.
pub fn too_few(rate: u64, bits_a_second: u64) -> Option<Finding> {
    let samples = rate as f64 / bits_a_second.max(1) as f64;
    (samples < SAFE_SAMPLES).then(|| {
        let least = bits_a_second * SAFE_SAMPLES as u64;
        finding(
            Kind::Coarse,
            format!("{samples:.1} samples a bit are not safe to read; sample at {least} Hz or more, {SAFE_SAMPLES} times the bits a second"),
        )
    })
}

/// All that is wrong with what was seen in a recording of a length.
pub fn findings(observed: &LineObservations, length: Moment) -> Vec<Finding> {
    match observed {
        LineObservations::Uart(role, format, seen) => of_uart(*role, format, seen, length),
        LineObservations::Spi(seen) => of_spi(seen),
        LineObservations::I2c(hertz, seen) => of_i2c(*hertz, seen),
        LineObservations::Can(speeds, seen) => of_can(*speeds, seen, length),
        LineObservations::Usb(speed, seen) => of_usb(*speed, seen),
        LineObservations::Code(code, seen) => of_code(code, seen, length),
    }
}

/// How fast a sender is, beside what the definition says.
#[derive(Clone, Debug, PartialEq)]
pub struct BitTiming {
    /// The wire, or the bus.
    pub who: String,
    /// Bits a second, or of a clock: what the definition says.
    pub said: f64,
    /// What was measured, if there was enough.
    pub measured: Option<f64>,
    /// The shortest and the longest pulse of one bit, in picoseconds.
    pub one_bit: Option<(u64, u64)>,
    /// By how much the speed may be off, in percent, and the standard that says so, if one does.
    pub allowed: Option<(f64, &'static str)>,
}

/// How fast those are that were seen on a medium; `None` where nobody can say it.
pub fn bit_timing(observed: &LineObservations, medium: &MediumKind) -> Option<BitTiming> {
    let timing =
        |who: String, said: f64, measured, one_bit, allowed| Some(BitTiming { who, said, measured, one_bit, allowed });
    match observed {
        LineObservations::Uart(role, format, seen) => {
            let allowed = Some((TOLERATED, ""));
            timing(role.to_string(), f64::from(format.baud), seen.baud(), seen.spread, allowed)
        }
        LineObservations::I2c(hertz, seen) => timing("clock".to_owned(), f64::from(*hertz), seen.hertz(), None, None),
        LineObservations::Can(speeds, seen) => {
            let allowed = Some((CAN_TOLERATED, ""));
            timing("bus".to_owned(), f64::from(speeds.bitrate), seen.bitrate(), seen.spread, allowed)
        }
        LineObservations::Usb(speed, seen) => {
            let allowed = match speed {
                UsbSpeed::Low => (1.5, "USB 2.0, 7.1.11"),
                UsbSpeed::Full => (0.25, "USB 2.0, 7.1.11"),
            };
            timing("bus".to_owned(), f64::from(speed.bitrate()), seen.bitrate(), seen.spread, Some(allowed))
        }
        LineObservations::Code(code, seen) => {
            let said = 1e12 / code.bit_picoseconds().max(1) as f64;
            timing("line".to_owned(), said, seen.bitrate(), None, None)
        }
        LineObservations::Spi(seen) => {
            let MediumKind::Spi { hertz, .. } = medium else { return None };
            let measured = seen.period.map(|period| 1e12 / period as f64);
            timing("clock".to_owned(), f64::from(*hertz), measured, None, None)
        }
    }
}

/// How long an edge may take from 10 % to 90 % on a medium, in picoseconds: at least and at most, and who says so.
pub fn allowed_slope(medium: &MediumKind) -> Option<((u64, u64), &'static str)> {
    match *medium {
        // UM10204, table 10: rise time in standard mode, fast mode, fast mode plus.
        MediumKind::I2c { hertz } => {
            let most = match hertz {
                0..=100_000 => 1_000_000,
                100_001..=400_000 => 300_000,
                _ => 120_000,
            };
            Some(((0, most), "UM10204, table 10"))
        }
        MediumKind::Usb { speed: UsbSpeed::Low } => Some(((75_000, 300_000), "USB 2.0, 7.1.2.1")),
        MediumKind::Usb { speed: UsbSpeed::Full } => Some(((4_000, 20_000), "USB 2.0, 7.1.2.1")),
        _ => None,
    }
}

/// What is not wrong, and worth a word all the same.
pub fn remarks(observed: &LineObservations) -> Vec<String> {
    let time = |picoseconds: u64| duration(picoseconds);
    match observed {
        LineObservations::Spi(seen) => {
            let range = |what: &str, (least, most): (u64, u64)| match least == most {
                true => format!("{what} {}", time(least)),
                false => format!("{what} {} to {}", time(least), time(most)),
            };
            let words = seen.between_words.map(|range_of| range("from word to word", range_of));
            let frames = seen.between_frames.map(|range_of| range("from frame to frame", range_of));
            let parts: Vec<String> = words.into_iter().chain(frames).collect();
            if parts.is_empty() { Vec::new() } else { vec![format!("the clock rests {}", parts.join(", "))] }
        }
        LineObservations::Can(_, seen) if seen.remote > 0 => {
            vec![format!("{} ask for data, and carry none", plural(seen.remote, "remote frame"))]
        }
        LineObservations::Usb(_, seen) if seen.good() > 0 => {
            let counts = PacketId::ALL.iter().zip(seen.packets).filter(|(_, count)| *count > 0);
            let counts: Vec<String> = counts.map(|(id, count)| format!("{count} {}", id.name())).collect();
            let resets = seen.resets.any().then(|| {
                format!(
                    "{} of the bus, the first at {}",
                    plural(seen.resets.count, "reset"),
                    seconds(seen.resets.first)
                )
            });
            let packets = format!("{}: {}", plural(seen.good(), "packet"), counts.join(", "));
            std::iter::once(packets).chain(resets).collect()
        }
        _ => Vec::new(),
    }
}

fn seconds(at: Moment) -> String {
    format!("{:.6} s", at.picoseconds() as f64 / 1e12)
}

/// A duration with three digits, in a unit that suits it.
pub fn duration(picoseconds: u64) -> String {
    let number = picoseconds as f64;
    let (value, unit) = match number {
        n if n < 1e3 => (n, "ps"),
        n if n < 1e6 => (n / 1e3, "ns"),
        n if n < 1e9 => (n / 1e6, "us"),
        n if n < 1e12 => (n / 1e9, "ms"),
        n => (n / 1e12, "s"),
    };
    match value {
        v if v >= 100.0 || v.fract() == 0.0 => format!("{v:.0} {unit}"),
        v if v >= 10.0 => format!("{v:.1} {unit}"),
        v => format!("{v:.2} {unit}"),
    }
}

fn nothing(role: Role) -> Finding {
    finding(Kind::Nothing, format!("nothing happens on the wire `{role}`; is it the right signal?"))
}

fn inverted(role: Role, level: &str, rest: &str) -> Finding {
    let text = format!("the wire `{role}` is {level} for most of the time, and rests {rest}");
    Finding { suggestion: Some(Suggestion::Invert(role)), ..finding(Kind::Inverted, text) }
}

/// The measured speed, if it is far from the one of the definition.
fn speed(who: &str, measured: f64, said: f64, unit: &str, tolerated: f64) -> Option<Finding> {
    let off = (measured / said - 1.0) * 100.0;
    (off.abs() >= tolerated).then(|| {
        let way = if off > 0.0 { "faster" } else { "slower" };
        finding(
            Kind::Speed,
            format!(
                "the sender of `{who}` has {measured:.0} {unit}, {:.1} % {way} than the {said:.0} of the definition",
                off.abs()
            ),
        )
    })
}

/// Pulses of one bit, or of a half where bits have two, whose widths are too far apart.
fn coarse(who: Role, spread: Option<(u64, u64)>, bit: u64, is_half: bool) -> Option<Finding> {
    let (least, most) = spread?;
    let part = |width: u64| width as f64 / bit.max(1) as f64;
    let (one, many, each) =
        if is_half { ("half a bit", "halves", "in each half") } else { ("one bit", "bits", "a bit") };
    (part(most) - part(least) > SAFE_SPREAD).then(|| {
        finding(
            Kind::Coarse,
            format!(
                "pulses of {one} on `{who}` last from {:.2} to {:.2} {many}, which is not safe to read: sample at least {SAFE_SAMPLES} times {each} ({}), or look for what disturbs the edges",
                part(least),
                part(most),
                duration((bit as f64 / SAFE_SAMPLES) as u64),
            ),
        )
    })
}

fn of_uart(role: Role, format: &UartFormat, observed: &uart::UartObservations, length: Moment) -> Vec<Finding> {
    let mut findings = Vec::new();
    if observed.edges <= 1 {
        return vec![nothing(role)];
    }
    if observed.high.saturating_mul(2) < length.picoseconds() {
        let (level, rest) = if format.rests_low { ("high", "low") } else { ("low", "high") };
        findings.push(inverted(role, level, rest));
    }
    for (flaw, first, count) in &observed.flaws {
        let rest = if format.rests_low { "high" } else { "low" };
        let what = match flaw {
            uart::Flaw::Parity => "with a wrong parity bit".to_owned(),
            uart::Flaw::StopBit => "without a stop bit".to_owned(),
            uart::Flaw::Break => format!("{rest} from begin to end, breaks"),
            uart::Flaw::Ninth => "whose ninth data bit is 1, which no byte holds".to_owned(),
        };
        let characters = plural(*count, "character");
        findings
            .push(finding(Kind::Flawed, format!("`{role}` has {characters} {what}, the first at {}", seconds(*first))));
    }
    let bit = 1_000_000_000_000 / u64::from(format.baud.max(1));
    findings.extend(coarse(role, observed.spread, bit, false));
    if let Some(baud) = observed.baud() {
        findings.extend(speed(
            &role.to_string(),
            baud,
            f64::from(format.baud),
            "baud",
            TOLERATED + 100.0 * observed.uncertainty(),
        ));
    }
    if observed.left_out > 0 {
        let characters = plural(observed.left_out, "character");
        findings.push(finding(
            Kind::BeginsInside,
            format!("`{role}` begins inside of a character: {characters} at the beginning left out"),
        ));
    }
    if observed.glitches > 0 {
        let pulses = plural(observed.glitches, "pulse");
        let text = format!("`{role}` has {pulses} too short for a start bit");
        findings.push(Finding { suggestion: Some(Suggestion::Deglitch(bit / 4)), ..finding(Kind::Glitches, text) });
    }
    findings
}

fn of_spi(seen: &spi::SpiObservations) -> Vec<Finding> {
    let mut findings = Vec::new();
    if seen.clocks == 0 {
        return vec![nothing(Role::Clock)];
    }
    if seen.selected == 0 && seen.selected_clocks == 0 {
        let text = "no device is ever selected while the clock ticks: is `select` the right signal, and its level that of the \
                    definition? A line without such a wire has `select none` in its definition";
        findings
            .push(Finding { suggestion: Some(Suggestion::Invert(Role::Select(None))), ..finding(Kind::Select, text) });
        return findings;
    }
    if seen.selected_clocks == 0 {
        let text = "the clock never ticks while the device is selected: the level that selects may be the other one, or clock and \
                    select may be other signals";
        findings
            .push(Finding { suggestion: Some(Suggestion::Invert(Role::Select(None))), ..finding(Kind::Select, text) });
    }
    for (role, [taken, other]) in [Role::Device, Role::Host].into_iter().zip(seen.changes) {
        if taken >= 8 && taken > 4 * other {
            findings.push(finding(
                Kind::WrongEdge,
                format!("the data of `{role}` change at the edge at which they are taken ({taken} of {} changes); try another mode, or `{role} edge …`", taken + other),
            ));
        }
    }
    if seen.halves.any() {
        let (word, bits) = seen.half;
        let bits: String = (0..bits).rev().map(|bit| if word >> bit & 1 == 1 { '1' } else { '0' }).collect();
        findings.push(finding(
            Kind::Half,
            format!(
                "{} ended inside of a word, the first at {} with the bits {bits}; are mode and word length right?",
                plural(seen.halves.count, "frame"),
                seconds(seen.halves.first)
            ),
        ));
    }
    if seen.begins_inside {
        findings.push(finding(Kind::BeginsInside, "the recording begins inside of a frame, which is left out"));
    }
    if seen.both.any() {
        findings.push(finding(
            Kind::Select,
            format!(
                "two devices are selected at once, {} from {} on",
                plural(seen.both.count, "time"),
                seconds(seen.both.first)
            ),
        ));
    }
    findings.extend(unknown(seen.unknown));
    findings
}

fn unknown(count: Count) -> Option<Finding> {
    count.any().then(|| {
        finding(
            Kind::Unknown,
            format!(
                "{} of data were neither low nor high, the first at {}",
                plural(count.count, "bit"),
                seconds(count.first)
            ),
        )
    })
}

fn of_i2c(hertz: u32, seen: &i2c::I2cObservations) -> Vec<Finding> {
    let mut findings = Vec::new();
    for (role, changes) in [(Role::Clock, seen.clocks), (Role::Data, seen.data_changes)] {
        if changes == 0 {
            findings.push(nothing(role));
        }
    }
    if !findings.is_empty() {
        return findings;
    }
    if seen.starts == 0 {
        findings.push(finding(
            Kind::BeginsInside,
            "no start condition comes: `data` never falls while `clock` is high; are the two the right way around?",
        ));
        return findings;
    }
    if seen.left_out > 1 {
        findings.push(finding(
            Kind::BeginsInside,
            format!(
                "the recording begins inside of a transfer: {} at the beginning left out",
                plural(seen.left_out, "bit")
            ),
        ));
    }
    if seen.no_answer.any() {
        findings.push(finding(
            Kind::Unheard,
            format!(
                "{} without an acknowledge, the first at {} for the address 0x{:02X}; is the device there, and powered?",
                plural(seen.no_answer.count, "address"),
                seconds(seen.no_answer.first),
                seen.unanswered
            ),
        ));
    }
    if seen.refused.any() {
        findings.push(finding(
            Kind::Unheard,
            format!(
                "{} to a device without an acknowledge, the first at {}",
                plural(seen.refused.count, "byte"),
                seconds(seen.refused.first)
            ),
        ));
    }
    if seen.halves.any() {
        findings.push(finding(
            Kind::Half,
            format!(
                "{} ended inside of a byte, the first at {}; are clock and data the right way around?",
                plural(seen.halves.count, "transfer"),
                seconds(seen.halves.first)
            ),
        ));
    }
    // Devices may hold the clock: a bus is slower than it may be, never faster.
    if let Some(measured) = seen.hertz().filter(|measured| *measured > 1.1 * f64::from(hertz)) {
        findings.extend(speed("clock", measured, f64::from(hertz), "Hz", TOLERATED));
    }
    findings
}

/// Bit rates of a network agree better than those of serial lines: ISO 11898-1 allows less than 1.58 %.
const CAN_TOLERATED: f64 = 1.0;

fn of_can(speeds: can::Speeds, observed: &can::CanObservations, length: Moment) -> Vec<Finding> {
    let mut findings = Vec::new();
    if observed.edges <= 1 {
        return vec![nothing(Role::Bus)];
    }
    if observed.dominant.saturating_mul(5) > length.picoseconds().saturating_mul(3) {
        let text = "the bus is dominant for most of the time, and rests recessive (the logic level of a receiver is low where the \
                    bus is dominant, CANH-CANL is high there)";
        findings.push(Finding { suggestion: Some(Suggestion::Invert(Role::Bus)), ..finding(Kind::Inverted, text) });
    }
    for (flaw, count) in &observed.flaws {
        let what = match flaw {
            can::Flaw::Stuffing => "broken off by an error frame, or by six equal bits",
            can::Flaw::Checksum => "with a wrong CRC",
            can::Flaw::Form => "with a bit that has to be the other one",
            can::Flaw::Fd => "of CAN FD, of which the definition says nothing (`can … fd …`)",
        };
        findings.push(finding(
            Kind::Flawed,
            format!("{} {what}, the first at {}", plural(count.count, "frame"), seconds(count.first)),
        ));
    }
    if observed.unheard.any() {
        findings.push(finding(
            Kind::Unheard,
            format!(
                "{} that nobody acknowledged, the first at {}; is another node on the bus?",
                plural(observed.unheard.count, "frame"),
                seconds(observed.unheard.first)
            ),
        ));
    }
    if observed.overloads.any() {
        findings.push(finding(
            Kind::Flawed,
            format!(
                "{}, the first at {}",
                plural(observed.overloads.count, "overload frame"),
                seconds(observed.overloads.first)
            ),
        ));
    }
    let bit = 1_000_000_000_000 / u64::from(speeds.bitrate.max(1));
    findings.extend(coarse(Role::Bus, observed.spread, bit, false));
    if let Some(bitrate) = observed.bitrate() {
        findings.extend(speed("bus", bitrate, f64::from(speeds.bitrate), "bit/s", CAN_TOLERATED));
    }
    if observed.left_out > 0 {
        findings.push(finding(Kind::BeginsInside, "the recording begins inside of a frame, which is left out"));
    }
    findings
}

fn of_usb(speed: UsbSpeed, seen: &usb::UsbObservations) -> Vec<Finding> {
    let mut findings = Vec::new();
    for (role, changes) in [Role::Plus, Role::Minus].into_iter().zip(seen.changes) {
        if changes == 0 {
            findings.push(nothing(role));
        }
    }
    if !findings.is_empty() {
        return findings;
    }
    if seen.good() == 0 && seen.rest[1] > 4 * seen.rest[0] {
        let (high, other) = match speed {
            UsbSpeed::Low => ("plus", "full"),
            UsbSpeed::Full => ("minus", "low"),
        };
        findings.push(finding(
            Kind::Inverted,
            format!(
                "the wire `{high}` is high at rest, as at the other speed: are `plus` and `minus` swapped, or is this `usb {other}`?"
            ),
        ));
    }
    for (flaw, count) in &seen.flaws {
        let what = match flaw {
            usb::Flaw::Stuffing => "with seven equal bits, where a stuff bit has to be",
            usb::Flaw::Length => "that are cut off, or longer than their kind can be",
            usb::Flaw::Kind => {
                "of no known kind (the two halves of the first byte do not agree, or it is one of high speed)"
            }
            usb::Flaw::TokenChecksum => "with a wrong CRC5",
            usb::Flaw::DataChecksum => "with a wrong CRC16",
        };
        let packets = plural(count.count, "packet");
        findings.push(finding(Kind::Flawed, format!("{packets} {what}, the first at {}", seconds(count.first))));
    }
    if seen.unheard.any() {
        let (packets, first) = (plural(seen.unheard.count, "data packet"), seconds(seen.unheard.first));
        let text = format!("{packets} that nobody acknowledged, the first at {first} (isochronous data never are)");
        findings.push(Finding { suggestion: Some(Suggestion::AllPackets), ..finding(Kind::Unheard, text) });
    }
    if seen.stray.any() {
        findings.push(finding(
            Kind::BeginsInside,
            format!(
                "{} without a token in front, the first at {}: nobody knows whose data they are",
                plural(seen.stray.count, "data packet"),
                seconds(seen.stray.first)
            ),
        ));
    }
    if seen.repeated.any() {
        findings.push(finding(
            Kind::Flawed,
            format!(
                "{} with the data toggle of the one before, the first at {}: sent again since the sender missed the ACK, or the endpoint was set up anew",
                plural(seen.repeated.count, "data packet"),
                seconds(seen.repeated.first)
            ),
        ));
    }
    let bit = 1_000_000_000_000 / u64::from(speed.bitrate());
    findings.extend(coarse(Role::Plus, seen.spread, bit, false));
    if let Some(bitrate) = seen.bitrate() {
        findings.extend(self::speed("the bus", bitrate, f64::from(speed.bitrate()), "bit/s", TOLERATED));
    }
    if seen.begins_inside {
        findings.push(finding(Kind::BeginsInside, "the recording begins inside of a packet, which is left out"));
    }
    if seen.ends_inside {
        findings.push(finding(Kind::Half, "the recording ends inside of a packet, which is left out"));
    }
    findings
}

fn of_code(code: &LineCode, seen: &code::CodeObservations, length: Moment) -> Vec<Finding> {
    let mut findings = Vec::new();
    if seen.edges == 0 {
        return vec![nothing(Role::Line)];
    }
    let high = seen.high as f64 / length.picoseconds().max(1) as f64;
    let at_rest = if code.rests_high { high } else { 1.0 - high };
    let can_tell = !matches!(code.bits, BitCode::Nrzi { .. });
    if at_rest < 0.1 && can_tell {
        let (level, rest) = if code.rests_high { ("low", "high") } else { ("high", "low") };
        findings.push(inverted(Role::Line, level, rest));
    }
    let frames = &seen.frames;
    if seen.odd.any() {
        findings.push(finding(
            Kind::Flawed,
            format!(
                "{} inside of frames that are no bit, the first at {} lasts {}",
                plural(seen.odd.count, "pulse"),
                seconds(seen.odd.first),
                duration(seen.odd_width)
            ),
        ));
    }
    if seen.strange.any() {
        findings.push(finding(
            Kind::Coarse,
            format!(
                "{} outside of frames that are neither a 0 nor a 1, the first at {} lasts {}: is the line sampled fast enough, and are these the ranges of the definition?",
                plural(seen.strange.count, "pulse"),
                seconds(seen.strange.first),
                duration(seen.strange_width)
            ),
        ));
    }
    let counted = [
        (frames.halves, "frame", "ended inside of a byte"),
        (frames.unended, "frame", "ended without the last bit"),
        (frames.short_preambles, "preamble", "shorter than the definition says"),
    ];
    for (count, what, how) in counted {
        if count.any() {
            findings.push(finding(
                Kind::Half,
                format!("{} {how}, the first at {}", plural(count.count, what), seconds(count.first)),
            ));
        }
    }
    if frames.outside > 0 {
        findings.push(finding(Kind::Half, format!("{} outside of frames", plural(frames.outside, "bit"))));
    }
    if seen.begins_inside {
        findings.push(finding(Kind::BeginsInside, "the recording begins inside of a frame, which is left out"));
    }
    let bit = code.bit_picoseconds();
    let has_halves = matches!(code.bits, BitCode::Manchester { .. } | BitCode::Differential { .. });
    findings.extend(coarse(Role::Line, seen.spread, if has_halves { bit / 2 } else { bit }, has_halves));
    if let Some(bitrate) = seen.bitrate() {
        findings.extend(speed("line", bitrate, 1e12 / bit as f64, "bit/s", TOLERATED));
    }
    findings
}
