//! Waveforms as a page: one file for a browser, without a network.

use serde_json::{Value as Json, json};

use emberwort_codegen::MARK;
use emberwort_document::figure::xml;

use super::{Picture, wire_of};

/// The page, with places for what is drawn.
const PAGE: &str = include_str!("page.html");

/// The picture as a page.
pub fn page(picture: &Picture<'_>) -> String {
    let traces: Vec<Json> = picture
        .traces
        .iter()
        .map(|trace| {
            let envelope = |envelope: &emberwort_waveform::trace::Envelope| {
                let known = |step: &(f32, f32)| if step.0 <= step.1 { json!([step.0, step.1]) } else { Json::Null };
                json!({
                    "from": envelope.from.picoseconds(),
                    "step": envelope.step,
                    "steps": envelope.steps.iter().map(known).collect::<Json>(),
                })
            };
            json!({
                "name": trace.name,
                "analog": trace.is_analog.then(|| envelope(&trace.part)),
                "threshold": trace.threshold,
                "edges": packed(&trace.edges),
            })
        })
        .collect();
    let frames: Vec<Json> = picture
        .frames
        .iter()
        .map(|frame| {
            let bytes: String = frame.bytes.iter().map(|byte| format!("{:02X}", byte.byte)).collect();
            // Bytes mostly follow each other: the times of each one as differences.
            let mut last = frame.from;
            let mut times = Vec::with_capacity(frame.bytes.len() * 2);
            for byte in &frame.bytes {
                times.push((byte.from - last) as i64);
                times.push((byte.to - byte.from) as i64);
                last = byte.to;
            }
            let parts: Vec<Json> = frame
                .parts
                .iter()
                .map(|part| {
                    let kind = u8::from(part.is_field);
                    json!([(part.from - frame.from) as i64, (part.to - part.from) as i64, part.name, part.text, kind])
                })
                .collect();
            json!([
                frame.number,
                frame.from as u64,
                (frame.to - frame.from) as u64,
                wire_of(picture.traces, frame),
                frame.name,
                frame.text,
                u8::from(frame.is_good),
                bytes,
                times,
                parts
            ])
        })
        .collect();
    let data = json!({
        "title": picture.title,
        "from": picture.part.0,
        "to": picture.part.1,
        "end": picture.end,
        "traces": traces,
        "frames": frames,
        "focus": picture.focus,
        "marks": picture.mark.as_ref().map(|mark| [mark.from, mark.to]),
        "notes": picture.notes,
    });
    // Nothing in it ends the script.
    let data = data.to_string().replace("</", "<\\/").replace("<!--", "<\\u0021--");
    let head = PAGE.replace("@MARK@", MARK).replace("@TITLE@", &xml(&picture.title));
    head.replacen("\"@DATA@\"", &data, 1)
}

/// Edges as text: the levels in turn, and the time from each one to the next in base 64 digits of five bits, the last of a number without
/// the sixth.
fn packed(edges: &[(emberwort_waveform::Moment, Option<bool>)]) -> Json {
    const DIGITS: &[u8; 64] = b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
    let (mut times, mut levels) = (String::new(), String::new());
    let mut last = 0;
    for (at, level) in edges {
        let mut rest = at.picoseconds() - last;
        last = at.picoseconds();
        loop {
            let digit = (rest & 31) as usize;
            rest >>= 5;
            times.push(char::from(DIGITS[digit | if rest > 0 { 32 } else { 0 }]));
            if rest == 0 {
                break;
            }
        }
        levels.push(match level {
            Some(false) => '0',
            Some(true) => '1',
            None => 'x',
        });
    }
    json!([times, levels])
}
