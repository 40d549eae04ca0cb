//! Plots as text, for terminals.

use std::fmt::Write as _;

use emberwort_model::diagnostics::escaped;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::symbols::Marker;
use ratatui::widgets::{Axis, Chart, Dataset, GraphType, Widget};

use super::{Band, Content, Line, Pane, Plot, moment};
use crate::render::summary::short;

/// Lines of a pane.
const HEIGHT: u16 = 11;

/// The plot as lines of text of some width.
pub fn text(plot: &Plot, width: usize) -> String {
    let width = width.clamp(40, 400);
    let mut out = format!("{}\n", escaped(&plot.title));
    for pane in &plot.panes {
        match &pane.content {
            Content::Lines(lines) => numbers(plot, pane, lines, width, false, &mut out),
            Content::Points(lines) => numbers(plot, pane, lines, width, true, &mut out),
            Content::Bands(all) => bands(plot, pane, all, width, &mut out),
            Content::Bars(bars) => histogram(pane, bars, width, &mut out),
        }
    }
    if !plot.broken.is_empty() {
        let mut rug = vec![0u32; width - LEFT];
        let span = (plot.span.1 - plot.span.0).max(1e-9);
        for at in &plot.broken {
            let column = ((at - plot.span.0) / span * (rug.len() - 1) as f64).round() as usize;
            if let Some(count) = rug.get_mut(column) {
                *count += 1;
            }
        }
        let marks: String = rug
            .iter()
            .map(|count| match count {
                0 => ' ',
                1 => '|',
                _ => '#',
            })
            .collect();
        let _ = writeln!(out, "{:<LEFT$}{}", "broken", marks.trim_end());
    }
    out
}

/// Columns in front of bands and rugs.
const LEFT: usize = 12;

fn numbers(plot: &Plot, pane: &Pane, lines: &[Line], width: usize, as_points: bool, out: &mut String) {
    let names: Vec<String> = lines.iter().map(|line| escaped(&line.name)).collect();
    let heading = format!("{}  ({})", escaped(&pane.title), names.join("; "));
    out.push_str(&crate::render::wrapped_at(Some(width), &heading, "  "));
    out.push('\n');
    let (low, high) = Content::range(lines);
    let span = plot.span.1 - plot.span.0;
    // One set for all lines: those of several sets would cover each other.
    let finest = span / (width as f64 * 2.0);
    let mut points: Vec<(f64, f64)> = Vec::new();
    for stretch in lines.iter().flat_map(|line| &line.stretches) {
        points.extend(stretch.first());
        for pair in stretch.windows(2) {
            let [(from, low), (to, high)] = [pair[0], pair[1]];
            let steps =
                if as_points { 1 } else { ((to - from) / finest).ceil().clamp(1.0, width as f64 * 2.0) as usize };
            points.extend((1..=steps).map(|n| {
                let share = n as f64 / steps as f64;
                (from + (to - from) * share, low + (high - low) * share)
            }));
        }
    }
    let sets = vec![Dataset::default().marker(Marker::Braille).graph_type(GraphType::Scatter).data(&points)];
    let area = Rect::new(0, 0, width as u16, HEIGHT);
    let mut buffer = Buffer::empty(area);
    let times = [plot.span.0, (plot.span.0 + plot.span.1) / 2.0, plot.span.1].map(|at| moment(at, span));
    let numbers = [low, (low + high) / 2.0, high].map(|value| short((value * 1e6).round() / 1e6));
    Chart::new(sets)
        .legend_position(None)
        .x_axis(Axis::default().bounds([plot.span.0, plot.span.1]).labels(times))
        .y_axis(Axis::default().bounds([low, high]).labels(numbers))
        .render(area, &mut buffer);
    for y in 0..area.height {
        let line: String = (0..area.width).map(|x| buffer[(x, y)].symbol()).collect();
        let _ = writeln!(out, "{}", line.trim_end());
    }
}

fn bands(plot: &Plot, pane: &Pane, all: &[Band], width: usize, out: &mut String) {
    let _ = writeln!(out, "{}", escaped(&pane.title));
    let columns = width - LEFT;
    let span = (plot.span.1 - plot.span.0).max(1e-9);
    let column = |at: f64| (((at - plot.span.0) / span * columns as f64).round() as usize).min(columns);
    for band in all {
        let mut line = vec![' '; columns];
        for (from, to, label) in &band.labels {
            let (from, to) = (column(*from), column(*to));
            for (n, place) in line[from..to.max(from)].iter_mut().enumerate() {
                *place = if n == 0 { '|' } else { label.chars().nth(n - 1).unwrap_or('.') };
            }
        }
        let line: String = line.into_iter().collect();
        let _ = writeln!(out, "{:<LEFT$}{}", escaped(&band.name), escaped(line.trim_end()));
    }
}

fn histogram(pane: &Pane, bars: &[(f64, f64, u64)], width: usize, out: &mut String) {
    let _ = writeln!(out, "{}", escaped(&pane.title));
    let most = bars.iter().map(|(_, _, count)| *count).max().unwrap_or(1).max(1);
    let names: Vec<String> = bars
        .iter()
        .map(|(from, to, _)| format!("{} .. {}", short((from * 1e6).round() / 1e6), short((to * 1e6).round() / 1e6)))
        .collect();
    let widest = names.iter().map(String::len).max().unwrap_or(0);
    let digits = most.to_string().len();
    let room = width.saturating_sub(widest + digits + 4).max(8) as u64;
    for ((_, _, count), name) in bars.iter().zip(names) {
        let bar = "#".repeat((count * room).div_ceil(most) as usize);
        let _ = writeln!(out, "{}", format!("{name:>widest$}  {count:>digits$}  {bar}").trim_end());
    }
}
