//! What was changed: values and bytes before and after, and every checksum around them.

use std::collections::HashMap;
use std::io::Write;

use emberwort_capture::amend::Layer;
use emberwort_capture::amend::copy::Changed;
use emberwort_model::diagnostics::escaped;
use emberwort_model::hex::hex;
use serde_json::json;

use super::select::{Change, Select};
use crate::cli::{AmendArgs, TableForm};
use crate::output::{self, Look, Paint, say};
use crate::render::{plural, wrapped_under};

pub fn changes(args: &AmendArgs, select: &Select<'_>, layers: &[Changed], look: Look) -> anyhow::Result<()> {
    let by_packet: HashMap<u64, &Vec<Layer>> = layers.iter().map(|changed| (changed.packet, &changed.layers)).collect();
    let mut out = output::stdout();
    for change in &select.changes {
        let around: Vec<&Layer> =
            change.packets.iter().filter_map(|packet| by_packet.get(packet)).flat_map(|layers| layers.iter()).collect();
        match args.form_out {
            TableForm::Table => out.write_all(text(change, &around, look).as_bytes())?,
            TableForm::Ndjson => writeln!(out, "{}", object(change, &around))?,
        }
    }
    out.flush()?;
    let left = select.changed - select.changes.len() as u64;
    if left > 0 && args.scrub.is_empty() {
        say!("and {} changed; --as ndjson shows all", plural(left, "more frame"));
    } else if !args.scrub.is_empty() {
        say!("{} got other values", plural(select.changed, "frame"));
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

fn object(change: &Change, around: &[&Layer]) -> serde_json::Value {
    let values: Vec<_> =
        change.values.iter().map(|[name, old, new]| json!({"field": name, "old": old, "new": new})).collect();
    let number = |value: u64, digits: usize| format!("0x{value:0digits$X}");
    let sums: Vec<_> = change
        .sums
        .iter()
        .map(|one| {
            json!({"of": one.part, "algorithm": one.algorithm, "found": number(one.found, one.digits),
                "expected": number(one.expected, one.digits), "written": number(one.written, one.digits)})
        })
        .chain(around.iter().map(|one| {
            json!({"of": one.name, "found": number(one.found, one.digits), "expected": number(one.expected, one.digits),
                "written": number(one.written, one.digits)})
        }))
        .collect();
    json!({"frame": change.number, "values": values, "what": change.what, "before": hex(&change.before),
        "after": change.after.as_deref().map(hex), "checksums": sums, "packets": change.packets})
}
