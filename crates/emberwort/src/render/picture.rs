//! A message's layout drawn with characters: rows of bytes, each field a box over its bits.

use emberwort_model::diagnostics::escaped;
use emberwort_model::layout::picture::{Band, BitSpan, Picture, PictureSection, SpanKind};
use emberwort_model::model::ByteOrder;
use emberwort_rows::Paint;

use super::plural;
use crate::output::Look;

/// Characters of one bit, its right border included.
const BIT: usize = 3;
/// Characters in front of each row: the number of its first byte.
const MARGIN: usize = 5;

/// Draws a picture for a terminal of so many columns.
pub fn draw(picture: &Picture, width: usize, look: Look) -> String {
    let bytes = ((width.saturating_sub(MARGIN + 1)) / (8 * BIT)).clamp(1, 4);
    let mut out = String::new();
    let (least, greatest) = picture.sizes;
    let size = match (picture.has_rest, least == greatest) {
        (true, _) => format!("{least} bytes and more"),
        (false, true) => plural(least, "byte"),
        (false, false) => format!("{least} to {greatest} bytes"),
    };
    out.push_str(&format!("{}  {size}\n", look.paint(Paint::Bold, &picture.title)));
    for (n, section) in picture.sections.iter().enumerate() {
        if n > 0 {
            let place = section.start.map_or(String::new(), |start| format!(", from byte {start} on"));
            let text = format!("since revision {}{place}", section.revision);
            let line = "═".repeat((bytes * 8 * BIT + 1).saturating_sub(text.chars().count() + 4));
            out.push_str(&format!("{:MARGIN$}══ {text} {line}\n", ""));
        }
        draw_section(section, picture.order, bytes, look, &mut out);
    }
    out
}

/// The part of a span that lies in one row.
struct Piece<'a> {
    span: &'a BitSpan,
    first: usize,
    bits: usize,
    /// Whether it goes on in the next row, or came from the one before.
    opens: bool,
    closes: bool,
}

fn draw_section(section: &PictureSection, order: ByteOrder, bytes: usize, look: Look, out: &mut String) {
    let per_row = bytes * 8;
    let all: usize = section.spans.iter().map(|span| span.bits).sum();
    let base = section.start.unwrap_or(0);
    let mark = if section.start.is_some() { "" } else { "+" };
    if all > 0 {
        out.push_str(&bit_numbers(order, (all / 8).min(bytes)));
    }
    let mut above: Vec<usize> = Vec::new();
    let mut above_end = 0;
    for row_start in (0..all).step_by(per_row) {
        let row_end = (row_start + per_row).min(all);
        let pieces: Vec<Piece<'_>> = section
            .spans
            .iter()
            .filter(|span| span.first < row_end && span.first + span.bits > row_start)
            .map(|span| {
                let (first, last) = (span.first.max(row_start), (span.first + span.bits).min(row_end));
                Piece {
                    span,
                    first: first - row_start,
                    bits: last - first,
                    opens: span.first >= row_start,
                    closes: span.first + span.bits <= row_end,
                }
            })
            .collect();
        let edges: Vec<usize> = pieces.iter().map(|piece| piece.first).chain([row_end - row_start]).collect();
        out.push_str(&border(&above, &edges, above_end, row_end - row_start));
        let label = format!("{mark}{}", base + row_start / 8);
        out.push_str(&format!("{label:>width$} │", width = MARGIN - 1));
        for piece in &pieces {
            out.push_str(&content(piece, look));
            // An open end where the field goes on in the next row.
            out.push(if piece.closes { '│' } else { '┊' });
        }
        out.push('\n');
        (above, above_end) = (edges, row_end - row_start);
    }
    if all > 0 {
        out.push_str(&border(&above, &[], above_end, 0));
    }
    let cut: Vec<String> = section
        .spans
        .iter()
        .filter(|span| matches!(span.kind, SpanKind::Field(_)) && span.name.chars().count() > span.bits * BIT - 1)
        .map(|span| format!("{} ({})", span.name, plural(span.bits, "bit")))
        .collect();
    if !cut.is_empty() {
        out.push_str(&format!("{:MARGIN$}names cut short above: {}\n", "", cut.join(", ")));
    }
    for band in &section.bands {
        draw_band(band, per_row, look, out);
    }
}

/// The numbers of bytes' bits above the first row.
fn bit_numbers(order: ByteOrder, bytes: usize) -> String {
    let mut line = format!("{:>width$} ", "bit", width = MARGIN - 1);
    for _ in 0..bytes {
        for n in 0..8 {
            let bit = match order {
                ByteOrder::Little => n,
                ByteOrder::Big => 7 - n,
            };
            line.push_str(&format!(" {bit} "));
        }
    }
    line.truncate(line.trim_end().len());
    line.push('\n');
    line
}

/// A line between two rows of boxes, whose edges lie at these bits.
fn border(above: &[usize], below: &[usize], above_end: usize, below_end: usize) -> String {
    let mut line = " ".repeat(MARGIN);
    let end = above_end.max(below_end);
    for bit in 0..=end {
        let (up, down) = (above.contains(&bit), below.contains(&bit));
        let (left, right) = (bit > 0, bit < end);
        line.push(match (up, down, left, right) {
            (true, true, true, true) => '┼',
            (true, true, false, _) => '├',
            (true, true, _, false) => '┤',
            (true, false, true, true) => '┴',
            (true, false, false, _) => '└',
            (true, false, _, false) => '┘',
            (false, true, true, true) => '┬',
            (false, true, false, _) => '┌',
            (false, true, _, false) => '┐',
            (false, false, ..) => '─',
        });
        if bit < end {
            // A byte's boundary inside of a field is marked.
            line.push_str(&"─".repeat(BIT - 1));
        }
    }
    line.push('\n');
    line
}

/// The text of a box, as wide as its bits.
fn content(piece: &Piece<'_>, look: Look) -> String {
    let width = piece.bits * BIT - 1;
    let (fill, name) = match piece.span.kind {
        SpanKind::Spare => ('░', piece.span.name.clone()),
        SpanKind::Presence => (' ', "presence".to_owned()),
        SpanKind::Field(_) => (' ', piece.span.name.clone()),
    };
    let mut text = name;
    if let (_, parts @ 2..) = piece.span.part {
        text.push_str(&format!(" {}/{parts}", piece.span.part.0));
    }
    let bits = format!(" {}", piece.span.bits);
    if !piece.opens {
        text = format!("…{text}");
    } else if piece.span.kind != SpanKind::Spare && text.chars().count() + bits.len() <= width {
        text.push_str(&bits);
    }
    let length = text.chars().count();
    if length > width {
        text = text.chars().take(width.saturating_sub(1)).collect::<String>() + "…";
    }
    let left = (width - text.chars().count()) / 2;
    let right = width - text.chars().count() - left;
    let side = |count: usize| fill.to_string().repeat(count);
    let painted = if piece.span.kind == SpanKind::Spare { look.paint(Paint::Dim, &text) } else { text };
    format!("{}{painted}{}", side(left), side(right))
}

/// A field whose place or size varies, over the whole width.
fn draw_band(band: &Band, per_row: usize, look: Look, out: &mut String) {
    let width = per_row * BIT - 1;
    let name = if band.kind == SpanKind::Spare { "░ spare ░".to_owned() } else { band.name.clone() };
    let text = format!("{name} {}", escaped(&band.sentence()));
    out.push_str(&format!("{:MARGIN$}┌{}┐\n", "", "┄".repeat(width)));
    let options = textwrap::Options::new(width - 1).subsequent_indent("  ");
    for (n, line) in textwrap::wrap(&text, options).into_iter().enumerate() {
        let fill = " ".repeat(width - 1 - line.chars().count());
        let shown = match line.strip_prefix(name.as_str()) {
            Some(rest) if n == 0 => format!("{}{rest}", look.paint(Paint::Bold, &name)),
            _ => line.into_owned(),
        };
        out.push_str(&format!("{:MARGIN$}┊ {shown}{fill}┊\n", ""));
    }
    out.push_str(&format!("{:MARGIN$}└{}┘\n", "", "┄".repeat(width)));
}
