//! What was changed: values and bytes before and after, and every checksum around them.

use std::io::Write;

use emberwort_capture::amend::Layer;
use emberwort_model::diagnostics::escaped;
use emberwort_model::hex::hex;
use emberwort_rows::Paint;
use serde_json::Value as Json;

use super::change::Change;
use super::report::{AmendReport, Layers};
use crate::cli::AmendArgs;
use crate::output::{self, Look, say};
use crate::render::{plural, wrapped_under};

/// Shows the changes with the checksums around them; `scrubbed` frames got other values, too.
pub fn changes(
    args: &AmendArgs,
    report: &mut AmendReport,
    layers: &mut Layers,
    scrubbed: u64,
    look: Look,
) -> anyhow::Result<()> {
    let mut out = output::stdout();
    for change in &report.first {
        let around: Vec<&Layer> =
            change.packets.iter().filter_map(|packet| layers.shown.get(packet)).flatten().collect();
        out.write_all(text(change, &around, look).as_bytes())?;
    }
    let mut around = layers.objects()?;
    for object in report.objects()? {
        let mut object = object?;
        let packets: Vec<u64> = object["packets"].as_array().into_iter().flatten().filter_map(Json::as_u64).collect();
        if let Some(sums) = object["checksums"].as_array_mut() {
            for packet in packets {
                sums.extend(around.of(packet)?);
            }
        }
        writeln!(out, "{object}")?;
    }
    out.flush()?;
    let left = report.count - report.first.len() as u64;
    if args.scrub.is_empty() {
        if left > 0 && args.form_out == crate::cli::TableForm::Table {
            say!("and {} changed; --as ndjson shows all", plural(left, "more frame"));
        }
    } else {
        say!("{} got other values", plural(report.count + scrubbed, "frame"));
    }
    Ok(())
}

fn line(what: &str, text: &str) -> String {
    wrapped_under(&format!("  {what:<14} {text}"), "                 ") + "\n"
}

fn text(change: &Change, around: &[&Layer], look: Look) -> String {
    let mut out = look.paint(Paint::Bold, &change.heading) + "\n";
    for [name, old, new] in &change.values {
        out += &line(name, &format!("{} \u{2192} {}", escaped(old), escaped(new)));
    }
    for what in &change.what {
        out += &line("", what);
    }
    match &change.after {
        Some(after) => {
            out += &line("bytes", &hex(&change.before));
            out += &line("        now", &hex(after));
        }
        None => out += &line("bytes", &hex(&change.before)),
    }
    let sum = |name: &str, found: u64, expected: u64, written: u64, digits: usize| {
        let said = if written == expected { "written" } else { "left as it was, and now wrong" };
        let now = if found == expected {
            "still right".to_owned()
        } else {
            format!("expected now 0x{expected:0digits$X}, {said}")
        };
        line(name, &format!("found 0x{found:0digits$X}, {now}"))
    };
    for one in &change.sums {
        out += &sum(&format!("{} ({})", one.part, one.algorithm), one.found, one.expected, one.written, one.digits);
    }
    for one in around {
        out += &sum(&one.name, one.found, one.expected, one.written, one.digits);
    }
    out
}
