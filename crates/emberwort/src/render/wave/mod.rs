//! Waveforms as pictures: the whole of all wires above, a part below, and strips that say what it means.

mod page;
mod svg;
mod text;

use emberwort_waveform::trace::Trace;

pub use page::page;
pub use svg::svg;
pub use text::text;

/// What is drawn. All times are picoseconds since the beginning of the waveform.
pub struct Picture<'a> {
    pub title: String,
    /// The part that is looked at.
    pub part: (f64, f64),
    /// The end of the waveform.
    pub end: f64,
    pub traces: &'a [Trace],
    /// The frames of the part, in the order in which they ended.
    pub frames: &'a [Frame],
    /// The number of the frame to look at.
    pub focus: Option<u64>,
    pub mark: Option<Mark>,
    /// What is wrong with the recording or the wires.
    pub notes: Vec<String>,
}

/// Two moments, and what lies between them.
pub struct Mark {
    pub from: f64,
    pub to: f64,
    pub text: String,
}

/// A frame, good or broken, or bytes in none.
pub struct Frame {
    /// Its number; 0 for bytes in no frame.
    pub number: u64,
    pub from: f64,
    pub to: f64,
    /// Whether the host sent it, if that is known.
    pub of_host: Option<bool>,
    pub name: String,
    /// Its fields, or what is wrong.
    pub text: String,
    pub is_good: bool,
    pub bytes: Vec<Byte>,
    pub parts: Vec<Part>,
}

/// A byte on the line.
pub struct Byte {
    pub from: f64,
    pub to: f64,
    pub byte: u8,
}

/// A part of a frame, or a field of its body.
pub struct Part {
    pub from: f64,
    pub to: f64,
    pub name: String,
    pub text: String,
    pub is_field: bool,
}

/// The wire under which the strips of a frame stand: that of its sender, else the first with data.
fn wire_of(traces: &[Trace], frame: &Frame) -> usize {
    let role = |name: &str| traces.iter().position(|trace| trace.name.starts_with(name));
    let own = match frame.of_host {
        Some(true) => role("host"),
        Some(false) => role("device"),
        None => None,
    };
    let other = || ["data", "bus", "line", "device", "host"].iter().find_map(|name| role(name));
    own.or_else(other).unwrap_or(0)
}

/// A moment, as exact as a span of so many picoseconds needs.
fn moment(at: f64, span: f64) -> String {
    // Far from the beginning a great unit is easier to read.
    match (span, at >= 1e10) {
        (span, false) if span < 2e6 => format!("{:.3} us", at / 1e6),
        (span, false) if span < 2e9 => format!("{:.1} us", at / 1e6),
        (span, true) if span < 2e6 => format!("{:.6} ms", at / 1e9),
        (span, true) if span < 2e9 => format!("{:.4} ms", at / 1e9),
        (span, _) if span < 2e12 => format!("{:.3} ms", at / 1e9),
        _ => format!("{:.3} s", at / 1e12),
    }
}

/// Steps of an axis: 1, 2 or 5 times a power of ten, so that there are about so many in a span.
fn step(span: f64, about: f64) -> f64 {
    let rough = span / about;
    let power = 10f64.powf(rough.log10().floor());
    [1.0, 2.0, 5.0, 10.0].into_iter().map(|times| times * power).find(|step| *step >= rough).unwrap_or(rough)
}
