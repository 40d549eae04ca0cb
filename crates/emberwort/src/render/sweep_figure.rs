//! The figure of a sweep: lost frames against the rate of a fault, with theory beside them.

use anyhow::anyhow;
use emberwort_codegen::MARK;
use emberwort_link::sweep::SweepPoint;
use plotters::prelude::*;

/// Told apart by lightness, and by their forms, too.
const FOUND: RGBColor = RGBColor(20, 80, 140);
const THEORY: RGBColor = RGBColor(170, 100, 20);
const FALSE: RGBColor = RGBColor(150, 20, 30);

/// Shares below this one are drawn at the lower edge.
const LEAST: f64 = 1e-7;

/// The figure as SVG.
///
/// # Errors
/// If there is nothing to draw.
pub fn svg(name: &str, points: &[SweepPoint]) -> anyhow::Result<String> {
    let (Some(first), Some(last)) = (points.first(), points.last()) else {
        return Err(anyhow!("there is nothing to draw"));
    };
    let mut out = String::new();
    {
        let root = SVGBackend::with_string(&mut out, (1000, 640)).into_drawing_area();
        root.fill(&WHITE)?;
        let shown = |share: f64| share.max(LEAST);
        let least = points.iter().map(|point| point.expected_loss).filter(|share| *share > 0.0).fold(1.0, f64::min);
        let low = shown(10f64.powf((least / 10.0).log10().floor()));
        let mut chart = ChartBuilder::on(&root)
            .caption(format!("Lost frames against {name}"), ("sans-serif", 26))
            .margin(18)
            .x_label_area_size(56)
            .y_label_area_size(86)
            .build_cartesian_2d((first.rate..last.rate).log_scale(), (low..1.0).log_scale())?;
        let exponent = |value: &f64| format!("{value:.0e}");
        chart
            .configure_mesh()
            .x_desc(format!("{name} (chance)"))
            .y_desc("share of frames")
            .x_label_formatter(&exponent)
            .y_label_formatter(&exponent)
            .label_style(("sans-serif", 17))
            .axis_desc_style(("sans-serif", 19))
            .light_line_style(RGBColor(236, 236, 236))
            .draw()?;
        chart
            .draw_series(LineSeries::new(
                points.iter().map(|point| (point.rate, shown(point.expected_loss))),
                THEORY.stroke_width(3),
            ))?
            .label("theory: 1 - (1 - p)^n")
            .legend(|(x, y)| PathElement::new([(x, y), (x + 26, y)], THEORY.stroke_width(3)));
        let bands = points.iter().map(|point| {
            let (from, to) = point.band();
            PathElement::new(
                [(point.rate, shown(from).max(low)), (point.rate, shown(to).max(low))],
                FOUND.stroke_width(2),
            )
        });
        chart.draw_series(bands)?;
        let found = points.iter().filter(|point| point.lost > 0);
        chart
            .draw_series(found.map(|point| Circle::new((point.rate, shown(point.loss())), 5, FOUND.filled())))?
            .label("lost, with the 99 % band")
            .legend(|(x, y)| Circle::new((x + 13, y), 5, FOUND.filled()));
        let accepted = points.iter().filter(|point| point.false_accepts > 0);
        chart
            .draw_series(accepted.map(|point| {
                let share = point.false_accepts as f64 / point.sent.max(1) as f64;
                TriangleMarker::new((point.rate, shown(share).max(low)), 7, FALSE.filled())
            }))?
            .label("accepted though wrong")
            .legend(|(x, y)| TriangleMarker::new((x + 13, y), 7, FALSE.filled()));
        chart
            .configure_series_labels()
            .position(SeriesLabelPosition::LowerRight)
            .label_font(("sans-serif", 17))
            .background_style(WHITE.filled())
            .border_style(RGBColor(160, 160, 160))
            .draw()?;
        root.present()?;
    }
    // Another run may replace it.
    Ok(out.replacen('>', &format!(">\n<!-- {MARK}. -->"), 1))
}
