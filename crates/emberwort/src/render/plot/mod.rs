//! Plots over the time: panes under each other on one axis, as pictures or as text in a terminal.

mod svg;
mod text;

pub use svg::svg;
pub use text::text;

/// What is drawn.
pub struct Plot {
    pub title: String,
    /// First and last moment, in seconds since the midnight before the first.
    pub span: (f64, f64),
    pub panes: Vec<Pane>,
    /// Moments of broken frames.
    pub broken: Vec<f64>,
}

/// One pane.
pub struct Pane {
    /// What its axis says: the name and the unit.
    pub title: String,
    pub content: Content,
}

/// What a pane shows.
pub enum Content {
    /// Lines of numbers.
    Lines(Vec<Line>),
    /// Labels over the time: a row for each sender.
    Bands(Vec<Band>),
    /// How often numbers came: each bar from one number to the next, with its count.
    Bars(Vec<(f64, f64, u64)>),
    /// Single moments with a number.
    Points(Vec<Line>),
}

/// A line, in stretches between gaps.
pub struct Line {
    pub name: String,
    pub stretches: Vec<Vec<(f64, f64)>>,
}

/// The labels of one sender, from a moment to another.
pub struct Band {
    pub name: String,
    pub labels: Vec<(f64, f64, String)>,
}

impl Content {
    /// The least and the greatest number, with some room around.
    pub fn range(lines: &[Line]) -> (f64, f64) {
        let values = lines.iter().flat_map(|line| line.stretches.iter().flatten().map(|(_, value)| *value));
        let (low, high) =
            values.fold((f64::INFINITY, f64::NEG_INFINITY), |(low, high), value| (low.min(value), high.max(value)));
        if low > high {
            return (0.0, 1.0);
        }
        let room = if high > low { (high - low) * 0.06 } else { high.abs().max(1.0) * 0.1 };
        (low - room, high + room)
    }
}

/// A moment as a time of day, as exact as the span needs.
pub fn moment(seconds: f64, span: f64) -> String {
    let whole = seconds.max(0.0) as u64;
    let (hours, minutes, rest) = (whole / 3600, whole / 60 % 60, seconds - (whole / 60 * 60) as f64);
    let hours = hours % 24;
    match span {
        span if span < 0.5 => format!("{hours:02}:{minutes:02}:{rest:07.4}"),
        span if span < 20.0 => format!("{hours:02}:{minutes:02}:{rest:05.2}"),
        span if span < 7200.0 => format!("{hours:02}:{minutes:02}:{:02}", rest as u64),
        _ => format!("{hours:02}:{minutes:02}"),
    }
}
