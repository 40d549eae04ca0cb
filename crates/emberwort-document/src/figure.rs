//! A message's layout as a figure for a data sheet: SVG.

use std::fmt::Write as _;

use emberwort_codegen::MARK;
use emberwort_model::counting::plural;
use emberwort_model::diagnostics::is_unsafe_to_show;
use emberwort_model::layout::picture::{Band, Picture, PictureSection, SpanKind};
use emberwort_model::model::ByteOrder;

/// Pixels of a bit.
const BIT: f64 = 36.0;
/// Height of a row of bytes.
const ROW: f64 = 52.0;
/// Room on the left, for the number of a row's first byte.
const LEFT: f64 = 64.0;
/// Bits in a row: four bytes.
const PER_ROW: usize = 32;
const WIDTH: f64 = LEFT + PER_ROW as f64 * BIT + 32.0;

/// Fills that differ in lightness as well as in hue, all light enough for black text.
const FILLS: [&str; 6] = ["#dce9f7", "#fbe3b8", "#cfe8d0", "#f6d2cf", "#e9e1f3", "#b9d6ea"];
const PRESENCE: &str = "#e4e4e4";

/// Text that can stand in XML.
pub fn xml(text: &str) -> String {
    let mut out = String::new();
    for c in text.chars() {
        match c {
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '&' => out.push_str("&amp;"),
            '"' => out.push_str("&quot;"),
            c if is_unsafe_to_show(c) => out.push('\u{fffd}'),
            c => out.push(c),
        }
    }
    out
}

/// About how wide a text is, for a sans-serif font of this size.
fn text_width(text: &str, size: f64) -> f64 {
    text.chars().count() as f64 * size * 0.56
}

/// The text, shortened to a width.
fn shortened(text: &str, size: f64, width: f64) -> String {
    if text_width(text, size) <= width {
        return text.to_owned();
    }
    let room = ((width / (size * 0.56)) as usize).saturating_sub(1);
    if room == 0 { String::new() } else { text.chars().take(room).collect::<String>() + "…" }
}

/// The figure of several messages, one under the other, as SVG.
pub fn svg(pictures: &[Picture]) -> String {
    let mut body = String::new();
    let mut y = 24.0;
    for picture in pictures {
        y = one(picture, y, &mut body) + 36.0;
    }
    let height = y - 12.0;
    format!(
        "<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"{WIDTH:.0}\" height=\"{height:.0}\" viewBox=\"0 0 {WIDTH:.0} {height:.0}\" \
         font-family=\"Ubuntu, Helvetica, Arial, sans-serif\">\n<!-- {MARK}. -->\n\
         <defs><pattern id=\"spare\" width=\"8\" height=\"8\" patternUnits=\"userSpaceOnUse\" patternTransform=\"rotate(45)\">\
         <rect width=\"8\" height=\"8\" fill=\"#ffffff\"/><rect width=\"2\" height=\"8\" fill=\"#9a9a9a\"/></pattern></defs>\n\
         <rect width=\"100%\" height=\"100%\" fill=\"#ffffff\"/>\n{body}</svg>\n"
    )
}

fn text(out: &mut String, (x, y): (f64, f64), size: f64, anchor: &str, weight: &str, content: &str) {
    let _ = writeln!(
        out,
        "<text x=\"{x:.1}\" y=\"{y:.1}\" font-size=\"{size}\" text-anchor=\"{anchor}\" font-weight=\"{weight}\" fill=\"#111111\">{}</text>",
        xml(content)
    );
}

fn one(picture: &Picture, y: f64, out: &mut String) -> f64 {
    let (least, greatest) = picture.sizes;
    let size = match (picture.has_rest, least == greatest) {
        (true, _) => format!("{least} bytes and more"),
        (false, true) => plural(least, "byte"),
        (false, false) => format!("{least} to {greatest} bytes"),
    };
    let mut y = y + 14.0;
    text(out, (LEFT, y), 22.0, "start", "bold", &picture.title);
    text(out, (LEFT + PER_ROW as f64 * BIT, y), 16.0, "end", "normal", &size);
    for (n, section) in picture.sections.iter().enumerate() {
        if n > 0 {
            y += 40.0;
            let right = LEFT + PER_ROW as f64 * BIT;
            let _ = writeln!(
                out,
                "<line x1=\"{LEFT}\" y1=\"{:.1}\" x2=\"{right}\" y2=\"{:.1}\" stroke=\"#111111\" stroke-dasharray=\"10 6\"/>",
                y - 22.0,
                y - 22.0
            );
            let place = section.start.map_or(String::new(), |start| format!(", from byte {start} on"));
            text(out, (LEFT, y), 16.0, "start", "bold", &format!("since revision {}{place}", section.revision));
        }
        y = draw_section(section, picture.order, y + 10.0, out);
    }
    y
}

fn fill(kind: SpanKind) -> &'static str {
    match kind {
        SpanKind::Field(n) => FILLS[n % FILLS.len()],
        SpanKind::Presence => PRESENCE,
        SpanKind::Spare => "url(#spare)",
    }
}

fn draw_section(section: &PictureSection, order: ByteOrder, top: f64, out: &mut String) -> f64 {
    let all: usize = section.spans.iter().map(|span| span.bits).sum();
    let mut y = top;
    if all > 0 {
        y += 16.0;
        for bit in 0..all.min(PER_ROW) {
            let number = match order {
                ByteOrder::Little => bit % 8,
                ByteOrder::Big => 7 - bit % 8,
            };
            let x = LEFT + (bit as f64 + 0.5) * BIT;
            text(out, (x, y), 13.0, "middle", "normal", &number.to_string());
        }
        y += 6.0;
    }
    let base = section.start.unwrap_or(0);
    let mark = if section.start.is_some() { "" } else { "+" };
    for row_start in (0..all).step_by(PER_ROW) {
        let row_end = (row_start + PER_ROW).min(all);
        let label = format!("{mark}{}", base + row_start / 8);
        text(out, (LEFT - 12.0, y + ROW / 2.0 + 6.0), 16.0, "end", "normal", &label);
        for span in section.spans.iter().filter(|s| s.first < row_end && s.first + s.bits > row_start) {
            let (first, last) = (span.first.max(row_start), (span.first + span.bits).min(row_end));
            let (x, width) = (LEFT + (first - row_start) as f64 * BIT, (last - first) as f64 * BIT);
            let _ = writeln!(
                out,
                "<rect x=\"{x:.1}\" y=\"{y:.1}\" width=\"{width:.1}\" height=\"{ROW}\" fill=\"{}\"/>",
                fill(span.kind)
            );
            // Open where the field goes on in another row.
            let (opens, closes) = (span.first >= row_start, span.first + span.bits <= row_end);
            let (right, bottom) = (x + width, y + ROW);
            let mut path = format!("M{x:.1} {y:.1}H{right:.1}M{x:.1} {bottom:.1}H{right:.1}");
            if opens {
                let _ = write!(path, "M{x:.1} {y:.1}V{bottom:.1}");
            }
            if closes {
                let _ = write!(path, "M{right:.1} {y:.1}V{bottom:.1}");
            }
            let _ = writeln!(out, "<path d=\"{path}\" stroke=\"#111111\" stroke-width=\"1.5\" fill=\"none\"/>");
            for (end, joined) in [(x, !opens), (right, !closes)] {
                if joined {
                    let _ = writeln!(
                        out,
                        "<line x1=\"{end:.1}\" y1=\"{y:.1}\" x2=\"{end:.1}\" y2=\"{bottom:.1}\" stroke=\"#111111\" stroke-width=\"1.5\" stroke-dasharray=\"3 5\"/>"
                    );
                }
            }
            let name = match span.kind {
                SpanKind::Presence => "presence".to_owned(),
                SpanKind::Spare => String::new(),
                SpanKind::Field(_) if span.part.1 > 1 => format!("{} {}/{}", span.name, span.part.0, span.part.1),
                SpanKind::Field(_) => span.name.clone(),
            };
            let name = if opens { name } else { format!("… {name}") };
            // A narrow box has its name upright.
            if width < 60.0 && text_width(&name, 14.0) > width - 6.0 && span.kind != SpanKind::Spare {
                let (cx, cy) = (x + width / 2.0 + 4.0, y + ROW / 2.0);
                let shown = shortened(&name, 12.0, ROW - 4.0);
                let _ = writeln!(
                    out,
                    "<text x=\"{cx:.1}\" y=\"{cy:.1}\" font-size=\"12\" text-anchor=\"middle\" transform=\"rotate(-90 {cx:.1} {cy:.1})\" fill=\"#111111\">{}</text>",
                    xml(&shown)
                );
                continue;
            }
            let centre = x + width / 2.0;
            text(out, (centre, y + 24.0), 16.0, "middle", "normal", &shortened(&name, 16.0, width - 6.0));
            if span.kind != SpanKind::Spare && opens {
                let full = plural(span.bits, "bit");
                let bits = if text_width(&full, 12.0) <= width - 4.0 { full } else { span.bits.to_string() };
                text(out, (centre, y + 43.0), 12.0, "middle", "normal", &bits);
            }
        }
        y += ROW;
    }
    for band in &section.bands {
        y = draw_band(band, y + 8.0, out);
    }
    y
}

fn draw_band(band: &Band, y: f64, out: &mut String) -> f64 {
    let width = PER_ROW as f64 * BIT;
    let height = 40.0;
    let _ = writeln!(
        out,
        "<rect x=\"{LEFT}\" y=\"{y:.1}\" width=\"{width:.1}\" height=\"{height}\" fill=\"{}\" stroke=\"#111111\" stroke-width=\"1.5\" stroke-dasharray=\"8 4\"/>",
        fill(band.kind)
    );
    text(out, (LEFT + 12.0, y + 26.0), 16.0, "start", "bold", &band.name);
    let after = LEFT + 12.0 + text_width(&band.name, 17.0) + 16.0;
    let sentence = shortened(&band.sentence(), 14.0, LEFT + width - after - 8.0);
    text(out, (after, y + 26.0), 14.0, "start", "normal", &sentence);
    y + height
}
