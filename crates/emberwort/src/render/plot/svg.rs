//! Plots as SVG.

use anyhow::anyhow;
use emberwort_codegen::MARK;
use plotters::coord::Shift;
use plotters::prelude::*;

use super::{Band, Content, Line, Pane, Plot, moment};

/// Told apart by lightness, too.
const COLOURS: [RGBColor; 8] = [
    RGBColor(20, 80, 140),
    RGBColor(190, 95, 10),
    RGBColor(30, 120, 70),
    RGBColor(150, 40, 90),
    RGBColor(110, 110, 110),
    RGBColor(90, 70, 170),
    RGBColor(0, 130, 150),
    RGBColor(80, 50, 20),
];

/// Light enough for black text.
const FILLS: [RGBColor; 6] = [
    RGBColor(220, 233, 247),
    RGBColor(251, 227, 184),
    RGBColor(207, 232, 208),
    RGBColor(246, 210, 207),
    RGBColor(228, 221, 241),
    RGBColor(226, 226, 226),
];

const BROKEN: RGBColor = RGBColor(170, 20, 30);
const WIDTH: u32 = 1240;
/// Room on the right, for the names of lines.
const RIGHT: u32 = 216;
const PANE: u32 = 190;
const TITLE: u32 = 44;
const AXIS: u32 = 62;

type Area<'a> = DrawingArea<SVGBackend<'a>, Shift>;

/// The plot as SVG.
///
/// # Errors
/// If it cannot be drawn.
pub fn svg(plot: &Plot) -> anyhow::Result<String> {
    let mut out = String::new();
    {
        let heights: Vec<u32> = plot.panes.iter().map(height).collect();
        let rug = if plot.broken.is_empty() { 0 } else { 34 };
        let all = TITLE + heights.iter().sum::<u32>() + rug + AXIS;
        let root = SVGBackend::with_string(&mut out, (WIDTH, all)).into_drawing_area();
        root.fill(&WHITE)?;
        root.draw(&Text::new(plot.title.clone(), (16, 12), ("sans-serif", 22)))?;
        let mut rest = root.split_vertically(TITLE).1;
        for (index, pane) in plot.panes.iter().enumerate() {
            let is_last = index + 1 == plot.panes.len();
            let below = if is_last && rug == 0 { AXIS } else { 0 };
            let (area, behind) = rest.split_vertically(heights[index] + below);
            draw(&area, plot, pane, below)?;
            rest = behind;
        }
        if rug > 0 {
            broken(&rest, plot)?;
        }
        root.present()?;
    }
    Ok(out.replacen('>', &format!(">\n<!-- {MARK}. -->"), 1))
}

fn height(pane: &Pane) -> u32 {
    match &pane.content {
        Content::Bands(bands) => 24 + 26 * bands.len() as u32,
        Content::Lines(lines) | Content::Points(lines) => PANE.max(30 + 20 * lines.len() as u32),
        Content::Bars(_) => PANE,
    }
}

fn failed(error: impl std::fmt::Display) -> anyhow::Error {
    anyhow!("the plot cannot be drawn: {error}")
}

fn draw(area: &Area<'_>, plot: &Plot, pane: &Pane, below: u32) -> anyhow::Result<()> {
    match &pane.content {
        Content::Lines(lines) => numbers(area, plot, pane, lines, below, false),
        Content::Points(lines) => numbers(area, plot, pane, lines, below, true),
        Content::Bands(all) => bands(area, plot, pane, all, below),
        Content::Bars(bars) => histogram(area, pane, bars),
    }
}

fn numbers(
    area: &Area<'_>,
    plot: &Plot,
    pane: &Pane,
    lines: &[Line],
    below: u32,
    as_points: bool,
) -> anyhow::Result<()> {
    let (low, high) = Content::range(lines);
    let span = plot.span.1 - plot.span.0;
    let mut chart = ChartBuilder::on(area)
        .margin_left(8)
        .margin_right(RIGHT)
        .margin_top(12)
        .x_label_area_size(below)
        .y_label_area_size(96)
        .build_cartesian_2d(plot.span.0..plot.span.1, low..high)
        .map_err(failed)?;
    chart
        .configure_mesh()
        .x_labels(if below > 0 { 9 } else { 0 })
        .y_labels(5)
        .x_desc(if below > 0 { "time (UTC)" } else { "" })
        .y_desc(pane.title.clone())
        .x_label_formatter(&|value| moment(*value, span))
        .y_label_formatter(&|value| crate::render::summary::short((*value * 1e9).round() / 1e9))
        .label_style(("sans-serif", 15))
        .axis_desc_style(("sans-serif", 16))
        .light_line_style(WHITE)
        .bold_line_style(RGBColor(228, 228, 228))
        .draw()
        .map_err(failed)?;
    for (index, line) in lines.iter().enumerate() {
        let colour = COLOURS[index % COLOURS.len()];
        for stretch in &line.stretches {
            if as_points || stretch.len() == 1 {
                let points = stretch.iter().map(|point| Circle::new(*point, 3, colour.filled()));
                chart.draw_series(points).map_err(failed)?;
            }
            if !as_points {
                chart.draw_series(LineSeries::new(stretch.iter().copied(), colour.stroke_width(2))).map_err(failed)?;
            }
        }
    }
    for (index, line) in lines.iter().enumerate() {
        let (x, y) = ((WIDTH - RIGHT + 16) as i32, 20 + 20 * index as i32);
        let colour = COLOURS[index % COLOURS.len()];
        area.draw(&PathElement::new([(x, y), (x + 18, y)], colour.stroke_width(3))).map_err(failed)?;
        let name: String = line.name.chars().take(24).collect();
        area.draw(&Text::new(name, (x + 24, y - 8), ("sans-serif", 14))).map_err(failed)?;
    }
    Ok(())
}

fn bands(area: &Area<'_>, plot: &Plot, pane: &Pane, all: &[Band], below: u32) -> anyhow::Result<()> {
    let span = plot.span.1 - plot.span.0;
    let rows = all.len() as f64;
    let mut chart = ChartBuilder::on(area)
        .margin_left(8)
        .margin_right(RIGHT)
        .margin_top(24)
        .x_label_area_size(below)
        .y_label_area_size(96)
        .build_cartesian_2d(plot.span.0..plot.span.1, 0.0..rows)
        .map_err(failed)?;
    let times = |value: &f64| moment(*value, span);
    let mut mesh = chart.configure_mesh();
    mesh.disable_y_mesh().y_labels(0).x_labels(if below > 0 { 9 } else { 0 }).x_desc(if below > 0 {
        "time (UTC)"
    } else {
        ""
    });
    mesh.x_label_formatter(&times);
    mesh.label_style(("sans-serif", 15))
        .axis_desc_style(("sans-serif", 16))
        .light_line_style(WHITE)
        .draw()
        .map_err(failed)?;
    area.draw(&Text::new(pane.title.clone(), (108, 4), ("sans-serif", 16))).map_err(failed)?;
    let mut known: Vec<String> = Vec::new();
    for (index, band) in all.iter().enumerate() {
        let row = rows - 1.0 - index as f64;
        area.draw(&Text::new(band.name.clone(), (12, 28 + 26 * index as i32), ("sans-serif", 15))).map_err(failed)?;
        for (from, to, label) in &band.labels {
            let at = known.iter().position(|known| known == label).unwrap_or_else(|| {
                known.push(label.clone());
                known.len() - 1
            });
            let fill = FILLS[at % FILLS.len()];
            let corners = [(*from, row + 0.08), (*to, row + 0.92)];
            chart.draw_series([Rectangle::new(corners, fill.filled())]).map_err(failed)?;
            chart.draw_series([Rectangle::new(corners, RGBColor(120, 120, 120).stroke_width(1))]).map_err(failed)?;
            // As much of the label as fits.
            let room = (to - from) / span * f64::from(WIDTH - 104 - RIGHT) / 8.2;
            if label.chars().count() as f64 <= room {
                let offset = 6.0 * span / f64::from(WIDTH);
                chart
                    .draw_series([Text::new(label.clone(), (from + offset, row + 0.78), ("sans-serif", 15))])
                    .map_err(failed)?;
            }
        }
    }
    Ok(())
}

fn histogram(area: &Area<'_>, pane: &Pane, bars: &[(f64, f64, u64)]) -> anyhow::Result<()> {
    let (Some(first), Some(last)) = (bars.first(), bars.last()) else { return Ok(()) };
    let most = bars.iter().map(|(_, _, count)| *count).max().unwrap_or(1);
    let mut chart = ChartBuilder::on(area)
        .margin_left(8)
        .margin_right(RIGHT)
        .margin_top(12)
        .x_label_area_size(46)
        .y_label_area_size(96)
        .build_cartesian_2d(first.0..last.1, 0.0..most as f64 * 1.05)
        .map_err(failed)?;
    chart
        .configure_mesh()
        .x_desc(pane.title.clone())
        .y_desc("frames")
        .y_labels(5)
        .x_label_formatter(&|value| crate::render::summary::short((*value * 1e9).round() / 1e9))
        .y_label_formatter(&|value| format!("{value:.0}"))
        .label_style(("sans-serif", 15))
        .axis_desc_style(("sans-serif", 16))
        .light_line_style(WHITE)
        .draw()
        .map_err(failed)?;
    let drawn = bars.iter().map(|(from, to, count)| {
        let gap = (to - from) * 0.06;
        Rectangle::new([(from + gap, 0.0), (to - gap, *count as f64)], COLOURS[0].mix(0.8).filled())
    });
    chart.draw_series(drawn).map(|_| ()).map_err(failed)
}

/// The moments of broken frames, as a rug on the time axis.
fn broken(area: &Area<'_>, plot: &Plot) -> anyhow::Result<()> {
    let span = plot.span.1 - plot.span.0;
    let mut chart = ChartBuilder::on(area)
        .margin_left(8)
        .margin_right(RIGHT)
        .margin_top(8)
        .x_label_area_size(AXIS)
        .y_label_area_size(96)
        .build_cartesian_2d(plot.span.0..plot.span.1, 0.0..1.0)
        .map_err(failed)?;
    let times = |value: &f64| moment(*value, span);
    let mut mesh = chart.configure_mesh();
    mesh.disable_y_mesh().y_labels(0).x_labels(9).x_desc("time (UTC)");
    mesh.x_label_formatter(&times);
    mesh.label_style(("sans-serif", 15))
        .axis_desc_style(("sans-serif", 16))
        .light_line_style(WHITE)
        .draw()
        .map_err(failed)?;
    area.draw(&Text::new("broken", (40, 12), ("sans-serif", 15))).map_err(failed)?;
    let ticks = plot.broken.iter().map(|at| PathElement::new([(*at, 0.1), (*at, 0.95)], BROKEN.stroke_width(1)));
    chart.draw_series(ticks).map(|_| ()).map_err(failed)
}
