//! Waveforms as text, for terminals.

use std::fmt::Write as _;

use emberwort_model::diagnostics::escaped;
use emberwort_waveform::trace::Trace;

use super::{Frame, Picture, moment, step, wire_of};

/// Columns in front of the wires.
const LEFT: usize = 16;

/// Frames in words below.
const SHOWN: usize = 12;

struct Axis {
    from: f64,
    to: f64,
    columns: usize,
}

impl Axis {
    fn column(&self, at: f64) -> usize {
        let share = (at - self.from) / (self.to - self.from).max(1.0);
        ((share * self.columns as f64).max(0.0) as usize).min(self.columns)
    }
}

/// The picture as lines of text of some width.
pub fn text(picture: &Picture<'_>, width: usize) -> String {
    let columns = width.clamp(50, 400) - LEFT;
    let mut out = format!("{}\n", escaped(&picture.title));
    let whole = Axis { from: 0.0, to: picture.end, columns };
    let part = Axis { from: picture.part.0, to: picture.part.1, columns };
    if part.to - part.from < 0.98 * picture.end {
        for trace in picture.traces {
            let cells = overview(trace, &whole);
            put(&mut out, &trace.name, &cells);
        }
        let (first, last) = (whole.column(part.from), whole.column(part.to).min(columns - 1));
        let shown: String = (0..=last).map(|n| if n < first { ' ' } else { '^' }).collect();
        put(&mut out, "shown below", &shown);
        put(&mut out, "", &axis(&whole));
        out.push('\n');
    }
    for (index, trace) in picture.traces.iter().enumerate() {
        for (n, line) in levels(trace, &part).iter().enumerate() {
            put(&mut out, if n == 0 { &trace.name } else { "" }, line);
        }
        let frames: Vec<&Frame> =
            picture.frames.iter().filter(|frame| wire_of(picture.traces, frame) == index).collect();
        if !frames.is_empty() {
            strips(&mut out, &frames, &part);
        }
    }
    put(&mut out, "", &axis(&part));
    if let Some(mark) = &picture.mark {
        let (first, last) = (part.column(mark.from), part.column(mark.to));
        let marks: String = (0..=last).map(|n| if n == first || n == last { '|' } else { ' ' }).collect();
        put(&mut out, "marks", &marks);
        let _ = writeln!(out, "{}", escaped(&mark.text));
    }
    let at = picture.frames.iter().position(|frame| Some(frame.number) == picture.focus).unwrap_or(0);
    let first = at.saturating_sub(SHOWN / 2).min(picture.frames.len().saturating_sub(SHOWN));
    for frame in picture.frames.iter().skip(first).take(SHOWN) {
        let number = if frame.number == 0 { String::new() } else { format!("#{} ", frame.number) };
        let line = format!("{}  {number}{}  {}", moment(frame.from, 1e11), frame.name, frame.text);
        out.push_str(&crate::render::wrapped_at(Some(width), &escaped(&line), "    "));
        out.push('\n');
    }
    out
}

fn put(out: &mut String, name: &str, line: &str) {
    let name: String = name.chars().take(LEFT - 2).collect();
    let _ = writeln!(out, "{}", format!("{:<LEFT$}{line}", escaped(&name)).trim_end());
}

fn overview(trace: &Trace, axis: &Axis) -> String {
    let (low, high) = trace
        .overview
        .steps
        .iter()
        .filter(|step| step.0 <= step.1)
        .fold((f32::INFINITY, f32::NEG_INFINITY), |(low, high), step| (low.min(step.0), high.max(step.1)));
    let middle = match (trace.threshold, trace.is_analog) {
        (_, false) => 0.5,
        (Some(threshold), true) => threshold as f32,
        (None, true) => f32::midpoint(low, high),
    };
    let mut found = vec![(false, false); axis.columns];
    for (n, step) in trace.overview.steps.iter().enumerate().filter(|(_, step)| step.0 <= step.1) {
        let from = trace.overview.from.picoseconds() as f64 + n as f64 * trace.overview.step as f64;
        let columns = axis.column(from)..=axis.column(from + trace.overview.step as f64);
        for column in columns {
            if let Some(cell) = found.get_mut(column) {
                *cell = (cell.0 || step.0 <= middle, cell.1 || step.1 > middle);
            }
        }
    }
    found.iter().map(|cell| glyph(*cell)).collect()
}

/// A column that was low, high, or both.
fn glyph((low, high): (bool, bool)) -> char {
    match (low, high) {
        (true, true) => '#',
        (true, false) => '_',
        (false, true) => '\u{203E}',
        (false, false) => ' ',
    }
}

/// Two lines: high pieces in the upper one, low pieces in the lower one.
fn levels(trace: &Trace, axis: &Axis) -> [String; 2] {
    let mut upper = vec![' '; axis.columns];
    let mut lower = vec![' '; axis.columns];
    for (n, (at, level)) in trace.edges.iter().enumerate() {
        let from = axis.column(at.picoseconds() as f64);
        let to = trace.edges.get(n + 1).map_or(axis.to, |(next, _)| next.picoseconds() as f64);
        let to = axis.column(to).max(from + 1).min(axis.columns);
        for column in from..to {
            match level {
                Some(true) => upper[column] = '_',
                Some(false) => lower[column] = '_',
                None => (upper[column], lower[column]) = ('x', 'x'),
            }
        }
        // The edge itself.
        if n > 0
            && let Some(cell) = lower.get_mut(from)
        {
            *cell = '|';
        }
    }
    [upper.into_iter().collect(), lower.into_iter().collect()]
}

fn strips(out: &mut String, frames: &[&Frame], axis: &Axis) {
    let mut rows = vec![vec![' '; axis.columns]; 4];
    for frame in frames {
        for byte in &frame.bytes {
            cell(&mut rows[0], axis, (byte.from, byte.to), &format!("{:02X}", byte.byte));
        }
        for part in &frame.parts {
            let text = match part.is_field {
                true => format!("{} {}", part.name, part.text),
                false => part.name.trim_matches(['(', ')']).to_owned(),
            };
            cell(&mut rows[if part.is_field { 2 } else { 1 }], axis, (part.from, part.to), &text);
        }
        let text = match frame.number {
            0 => format!("{}: {}", frame.name, frame.text),
            number => format!("#{number} {} {}", frame.name, frame.text),
        };
        cell(&mut rows[3], axis, (frame.from, frame.to), &text);
    }
    for (name, row) in ["  bytes", "  parts", "  fields", "  frame"].iter().zip(rows) {
        let line: String = row.into_iter().collect();
        if !line.trim().is_empty() {
            put(out, name, &escaped(&line));
        }
    }
}

/// A piece of a strip: a bar where it begins, then as much of the text as fits.
fn cell(row: &mut [char], axis: &Axis, (from, to): (f64, f64), text: &str) {
    if to < axis.from || from > axis.to {
        return;
    }
    let (from, to) = (axis.column(from), axis.column(to));
    for (n, place) in row.iter_mut().take(to.max(from + 1)).skip(from).enumerate() {
        *place = match n {
            0 => '|',
            n => text.chars().nth(n - 1).unwrap_or(' '),
        };
    }
}

fn axis(axis: &Axis) -> String {
    let span = axis.to - axis.from;
    let step = step(span, (axis.columns / 16).max(2) as f64);
    let mut line = vec![' '; axis.columns];
    let mut at = (axis.from / step).ceil() * step;
    while at <= axis.to {
        let label = format!("^{}", moment(at, span));
        let column = axis.column(at);
        if column + label.len() <= axis.columns {
            for (place, c) in line[column..].iter_mut().zip(label.chars()) {
                *place = c;
            }
        }
        at += step;
    }
    line.into_iter().collect()
}
