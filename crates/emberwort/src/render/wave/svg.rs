//! Waveforms as SVG.

use std::fmt::Write as _;

use emberwort_codegen::MARK;
use emberwort_document::figure::xml;
use emberwort_waveform::trace::{Envelope, Trace};

use super::{Frame, Picture, moment, step, wire_of};

const WIDTH: f64 = 1280.0;
/// Room on the left, for names.
const LEFT: f64 = 132.0;
const RIGHT: f64 = 16.0;
const PLOT: f64 = WIDTH - LEFT - RIGHT;
/// Heights: of the title, of a wire in the overview, of a wire below, of one with numbers, of a strip, and the gap behind a wire.
const TITLE: f64 = 34.0;
const SMALL: f64 = 24.0;
const LEVEL: f64 = 46.0;
const NUMBERS: f64 = 92.0;
const STRIP: f64 = 20.0;
const GAP: f64 = 12.0;

/// Told apart by lightness, too; light enough for black text.
const FILLS: [&str; 4] = ["#dce9f7", "#b9d6ea", "#fbe3b8", "#e9e1f3"];
const GOOD: &str = "#cfe8d0";
const BROKEN: &str = "#f2b8b5";

/// A part of the plot: from when to when it goes.
#[derive(Clone, Copy)]
struct Axis {
    from: f64,
    to: f64,
}

impl Axis {
    fn x(&self, at: f64) -> f64 {
        LEFT + (at - self.from) / (self.to - self.from).max(1.0) * PLOT
    }

    fn clamped(&self, at: f64) -> f64 {
        self.x(at).clamp(LEFT, LEFT + PLOT)
    }
}

/// The picture as SVG.
pub fn svg(picture: &Picture<'_>) -> String {
    let mut body = String::new();
    let mut y = TITLE;
    let whole = Axis { from: 0.0, to: picture.end };
    let part = Axis { from: picture.part.0, to: picture.part.1 };
    let is_part = part.to - part.from < 0.98 * picture.end;
    if is_part {
        let top = y;
        for trace in picture.traces {
            name(&mut body, y + SMALL * 0.7, &trace.name, 12);
            envelope(
                &mut body,
                &trace.overview,
                whole,
                (y + 3.0, SMALL - 6.0),
                range(&trace.overview, trace.threshold),
            );
            y += SMALL;
        }
        let (left, right) = (whole.x(part.from), whole.x(part.to));
        let width = (right - left).max(3.0);
        let height = y - top;
        let _ = writeln!(
            body,
            "<rect x='{left:.1}' y='{top:.1}' width='{width:.1}' height='{height:.1}' fill='#d08000' fill-opacity='0.3' stroke='#a06000'/>"
        );
        axis(&mut body, whole, y);
        // From the place of the part to the part itself.
        y += 26.0;
        let bottom = y + 16.0;
        let _ = writeln!(
            body,
            "<path d='M{left:.1},{:.1} L{LEFT:.1},{bottom:.1} M{:.1},{:.1} L{:.1},{bottom:.1}' stroke='#a06000' stroke-dasharray='3 3' fill='none'/>",
            top + height + 22.0,
            left + width,
            top + height + 22.0,
            LEFT + PLOT
        );
        y = bottom + 4.0;
    }
    let first = y;
    for (index, trace) in picture.traces.iter().enumerate() {
        let height = if trace.is_analog { NUMBERS } else { LEVEL };
        name(&mut body, y + height / 2.0, &trace.name, 14);
        if trace.is_analog {
            // As far as it goes anywhere: what rests is not blown up to its noise.
            let numbers = range(&trace.overview, trace.threshold);
            envelope(&mut body, &trace.part, part, (y + 4.0, height - 8.0), numbers);
            threshold(&mut body, trace, (y + 4.0, height - 8.0), numbers);
        } else {
            levels(&mut body, trace, part, (y + 7.0, height - 14.0));
        }
        y += height;
        let frames: Vec<&Frame> =
            picture.frames.iter().filter(|frame| wire_of(picture.traces, frame) == index).collect();
        if !frames.is_empty() {
            y = strips(&mut body, &frames, part, y);
        }
        y += GAP;
    }
    if let Some(mark) = &picture.mark {
        for at in [mark.from, mark.to] {
            let x = part.x(at);
            if (LEFT..=LEFT + PLOT).contains(&x) {
                let _ = writeln!(
                    body,
                    "<line x1='{x:.1}' x2='{x:.1}' y1='{first:.1}' y2='{y:.1}' stroke='#7a3db8' stroke-width='1.5'/>"
                );
            }
        }
    }
    axis(&mut body, part, y);
    y += 42.0;
    if let Some(mark) = &picture.mark {
        line(&mut body, LEFT, y, &mark.text, "#5a2d98", 14);
        y += 22.0;
    }
    y = list(&mut body, picture, y);
    for note in picture.notes.iter().take(6) {
        for text in crate::render::wrapped_at(Some(150), note, "").lines() {
            line(&mut body, 16.0, y + 14.0, text, "#8a1020", 14);
            y += 19.0;
        }
    }
    y += 16.0;
    let mut out = format!(
        "<svg xmlns='http://www.w3.org/2000/svg' width='{WIDTH}' height='{y:.0}' viewBox='0 0 {WIDTH} {y:.0}' font-family='sans-serif'>\n<!-- {MARK}. -->\n<rect width='100%' height='100%' fill='white'/>\n"
    );
    line(&mut out, 16.0, 22.0, &picture.title, "#101010", 17);
    out.push_str(&body);
    out.push_str("</svg>\n");
    out
}

fn line(out: &mut String, x: f64, y: f64, text: &str, colour: &str, size: u32) {
    let _ = writeln!(out, "<text x='{x:.1}' y='{y:.1}' font-size='{size}' fill='{colour}'>{}</text>", xml(text));
}

fn name(out: &mut String, y: f64, text: &str, size: u32) {
    let shown = fitting(text, LEFT - 18.0, f64::from(size) * 0.56);
    line(out, 12.0, y + 4.0, &shown, "#202020", size);
}

/// A text that fits into so many pixels, with characters of a width; empty if not even a part of it does.
fn fitting(text: &str, room: f64, character: f64) -> String {
    let most = (room / character) as usize;
    let count = text.chars().count();
    match (count <= most, most) {
        (true, _) => text.to_owned(),
        (false, 0..=2) => String::new(),
        (false, most) => text.chars().take(most - 1).chain(['…']).collect(),
    }
}

fn axis(out: &mut String, axis: Axis, y: f64) {
    let span = axis.to - axis.from;
    let step = step(span, 9.0);
    let mut at = (axis.from / step).ceil() * step;
    while at <= axis.to {
        let x = axis.x(at);
        let anchor = if x > LEFT + PLOT - 40.0 { "end" } else { "middle" };
        let _ = writeln!(
            out,
            "<path d='M{x:.1},{y:.1} v6' stroke='#606060'/><text x='{x:.1}' y='{:.1}' font-size='12' fill='#404040' text-anchor='{anchor}'>{}</text>",
            y + 18.0,
            moment(at, span)
        );
        at += step;
    }
}

/// The least and the greatest number, with some room around; 0 to 1 for levels.
/// The least and the greatest number, with the threshold, so that it is seen how far away it is.
fn range(envelope: &Envelope, threshold: Option<f64>) -> (f64, f64) {
    let known = envelope.steps.iter().filter(|step| step.0 <= step.1);
    let threshold = (threshold.unwrap_or(f64::INFINITY), threshold.unwrap_or(f64::NEG_INFINITY));
    let (low, high) =
        known.fold(threshold, |(low, high), step| (low.min(f64::from(step.0)), high.max(f64::from(step.1))));
    if low > high {
        return (0.0, 1.0);
    }
    let room = if high > low { (high - low) * 0.05 } else { 0.5 };
    (low - room, high + room)
}

/// Numbers as an area from the least to the greatest of each column.
fn envelope(out: &mut String, envelope: &Envelope, axis: Axis, (top, height): (f64, f64), (low, high): (f64, f64)) {
    let y = |value: f32| top + height - (f64::from(value) - low) / (high - low).max(1e-9) * height;
    let columns = PLOT as usize;
    let mut found: Vec<Option<(f32, f32)>> = vec![None; columns];
    for (n, step) in envelope.steps.iter().enumerate().filter(|(_, step)| step.0 <= step.1) {
        let from = envelope.from.picoseconds() as f64 + n as f64 * envelope.step as f64;
        let (from, to) = (axis.x(from) - LEFT, axis.x(from + envelope.step as f64) - LEFT);
        let (from, to) = (from.max(0.0) as usize, (to.max(0.0) as usize).min(columns - 1));
        for column in found.get_mut(from..=to.max(from)).into_iter().flatten() {
            let (least, most) = column.unwrap_or(*step);
            *column = Some((least.min(step.0), most.max(step.1)));
        }
    }
    let mut path = String::new();
    for (n, column) in found.iter().enumerate() {
        let Some((least, most)) = column else { continue };
        let x = LEFT + n as f64 + 0.5;
        let (upper, lower) = (y(*most), y(*least).max(y(*most) + 1.0));
        // From column to column without a gap.
        let (mut upper, mut lower) = (upper, lower);
        if let Some(Some((least, most))) = n.checked_sub(1).and_then(|before| found.get(before)) {
            upper = upper.min(y(*least));
            lower = lower.max(y(*most));
        }
        let _ = write!(path, "M{x:.1},{upper:.1} V{lower:.1} ");
    }
    let _ = writeln!(out, "<path d='{path}' stroke='#14508c' fill='none'/>");
}

fn threshold(out: &mut String, trace: &Trace, (top, height): (f64, f64), (low, high): (f64, f64)) {
    for value in [low + (high - low) * 0.05, high - (high - low) * 0.05] {
        let y = top + height - (value - low) / (high - low).max(1e-9) * height;
        let _ = writeln!(
            out,
            "<text x='{:.1}' y='{:.1}' font-size='11' fill='#505050' text-anchor='end'>{value:.2}</text>",
            LEFT - 4.0,
            y + 4.0
        );
    }
    let Some(at) = trace.threshold else { return };
    let y = top + height - (at - low) / (high - low).max(1e-9) * height;
    let _ = writeln!(
        out,
        "<path d='M{LEFT:.1},{y:.1} h{PLOT:.1}' stroke='#b05010' stroke-dasharray='6 4'/><text x='{:.1}' y='{:.1}' font-size='11' fill='#8a3c08' stroke='#fff' stroke-width='3' paint-order='stroke' text-anchor='end'>threshold {at:.3}</text>",
        LEFT + PLOT - 4.0,
        y - 4.0
    );
}

fn levels(out: &mut String, trace: &Trace, axis: Axis, (top, height): (f64, f64)) {
    let y = |level: bool| if level { top } else { top + height };
    let (mut path, mut unknown) = (String::new(), String::new());
    let mut last: Option<f64> = None;
    for (n, (at, level)) in trace.edges.iter().enumerate() {
        let from = axis.clamped(at.picoseconds() as f64);
        let to = trace.edges.get(n + 1).map_or(axis.to, |(next, _)| next.picoseconds() as f64);
        let to = axis.clamped(to);
        match level {
            Some(level) => {
                let y = y(*level);
                match last {
                    Some(before) if before != y => {
                        let _ = write!(path, "V{y:.1} ");
                    }
                    Some(_) => {}
                    None => {
                        let _ = write!(path, "M{from:.1},{y:.1} ");
                    }
                }
                let _ = write!(path, "H{to:.1} ");
                last = Some(y);
            }
            None => {
                let _ = write!(
                    unknown,
                    "<rect x='{from:.1}' y='{top:.1}' width='{:.1}' height='{height:.1}' fill='#c8c8c8'/>",
                    (to - from).max(1.0)
                );
                last = None;
            }
        }
    }
    let _ = writeln!(out, "{unknown}<path d='{path}' stroke='#14508c' stroke-width='1.6' fill='none'/>");
}

/// The strips under a wire: bytes, parts of frames, fields, and the frames themselves. Returns where they end.
fn strips(out: &mut String, frames: &[&Frame], axis: Axis, y: f64) -> f64 {
    let shade = |n: usize| FILLS[n % FILLS.len()];
    for frame in frames {
        for (n, byte) in frame.bytes.iter().enumerate() {
            let text = format!("{:02X}", byte.byte);
            cell(out, axis, (byte.from, byte.to), y, (&text, if frame.is_good { shade(n % 2) } else { BROKEN }));
        }
        for (n, part) in frame.parts.iter().enumerate() {
            let text = match part.is_field {
                true => format!("{} {}", part.name, part.text),
                false => part.name.trim_matches(['(', ')']).to_owned(),
            };
            let row = if part.is_field { y + 2.0 * STRIP } else { y + STRIP };
            cell(out, axis, (part.from, part.to), row, (&text, shade(2 + n % 2)));
        }
        let text = match frame.number {
            0 => format!("{}: {}", frame.name, frame.text),
            number => format!("#{number} {}  {}", frame.name, frame.text),
        };
        let fill = if frame.is_good { GOOD } else { BROKEN };
        cell(out, axis, (frame.from, frame.to), y + 3.0 * STRIP, (&text, fill));
    }
    for (n, text) in ["bytes", "parts", "fields", "frame"].iter().enumerate() {
        let at = y + n as f64 * STRIP + 14.0;
        let _ = writeln!(
            out,
            "<text x='{:.1}' y='{at:.1}' font-size='11' fill='#606060' text-anchor='end'>{text}</text>",
            LEFT - 6.0
        );
    }
    y + 4.0 * STRIP
}

fn cell(out: &mut String, axis: Axis, (from, to): (f64, f64), y: f64, (text, fill): (&str, &str)) {
    if to < axis.from || from > axis.to {
        return;
    }
    let (left, right) = (axis.clamped(from), axis.clamped(to));
    let width = (right - left).max(1.0);
    let _ = writeln!(
        out,
        "<rect x='{left:.1}' y='{y:.1}' width='{width:.1}' height='{:.1}' fill='{fill}' stroke='#707070' stroke-width='0.6'/>",
        STRIP - 2.0
    );
    let shown = fitting(text, width - 3.0, 6.6);
    if !shown.is_empty() {
        let _ = writeln!(
            out,
            "<text x='{:.1}' y='{:.1}' font-size='12' fill='#101010' text-anchor='middle'>{}</text>",
            left + width / 2.0,
            y + 13.5,
            xml(&shown)
        );
    }
}

/// The frames of the part in words.
fn list(out: &mut String, picture: &Picture<'_>, mut y: f64) -> f64 {
    const SHOWN: usize = 8;
    let at = picture.frames.iter().position(|frame| Some(frame.number) == picture.focus).unwrap_or(0);
    let first = at.saturating_sub(SHOWN / 2).min(picture.frames.len().saturating_sub(SHOWN));
    for frame in picture.frames.iter().skip(first).take(SHOWN) {
        let number = if frame.number == 0 { String::new() } else { format!("#{} ", frame.number) };
        let text = format!("{}  {number}{}  {}", moment(frame.from, 1e11), frame.name, frame.text);
        for text in crate::render::wrapped_at(Some(165), &text, "      ").lines() {
            line(out, 16.0, y + 14.0, text, if frame.is_good { "#202020" } else { "#a01020" }, 13);
            y += 18.0;
        }
    }
    y + 6.0
}
