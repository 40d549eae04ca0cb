//! One number for all that a link's bytes mean: two ends with the same one understand each other.

use std::fmt::Write;

use sha2::{Digest, Sha256};

use super::rows;
use crate::model::End;
use crate::plan::{Direction, Plan};

/// The first 32 bits of the SHA-256 (FIPS 180-4) of everything that decides about bytes and what they mean: channels with their
/// framing, parts and checksums, keys, and each field with its place, codes, values, unit and default. Comments, documentation,
/// periods and the order of items are left out.
pub fn digest(plan: &Plan) -> u32 {
    let hash = Sha256::digest(text(plan).as_bytes());
    u32::from_be_bytes([hash[0], hash[1], hash[2], hash[3]])
}

fn text(plan: &Plan) -> String {
    let mut lines: Vec<String> = Vec::new();
    for channel in &plan.channels {
        for (from, direction) in channel.directions() {
            let host = if from == Some(End::Host) { "host " } else { "" };
            lines.push(format!("{host}{}", channel_text(direction)));
        }
    }
    for (index, message) in plan.message_ids() {
        let own = &message.message;
        let mut line = format!("message {} {:?} {:?} {:?}", own.name, own.from, message.byte_order, own.line);
        for channel in &own.channels {
            let direction = plan.channels[*channel].direction(own.from);
            let keys: Vec<u64> = direction.keys.iter().filter(|(_, m)| *m == index).map(|(key, _)| *key).collect();
            // Writing to a String cannot fail.
            let _ = write!(line, " {} {keys:?}", direction.name);
        }
        for row in rows(message) {
            let cells =
                [&row.field, &row.place, &row.bits, &row.raw, &row.physical, &row.step, &row.unit, &row.default];
            let _ = write!(line, "\n {} {} {cells:?}", row.depth, row.since);
        }
        lines.push(line);
    }
    for labelled in &plan.link.labelled {
        let mut labels: Vec<(u64, &str)> =
            labelled.labels.iter().map(|label| (label.code, label.name.as_str())).collect();
        labels.sort_unstable();
        lines.push(format!("labels {} {} {labels:?}", labelled.name, labelled.bits));
    }
    for table in &plan.link.tables {
        let mut keys: Vec<(u64, &str)> =
            table.entries.iter().map(|entry| (entry.key, entry.field.name.as_str())).collect();
        keys.sort_unstable();
        lines.push(format!("table {} {keys:?}", table.name));
    }
    // The order in which items are written means nothing.
    lines.sort_unstable();
    lines.join("\n")
}

fn channel_text(channel: &Direction) -> String {
    let mut text = format!(
        "channel {} {} {:?} {:?} {:?} {:?} {:?}",
        channel.name,
        channel.medium.kind.text(),
        channel.limit,
        channel.selected_by,
        channel.finder,
        channel.byte_order,
        channel.sync
    );
    for part in &channel.parts {
        let place = (part.bits, part.hex, part.zone, part.at_bit, part.order);
        let _ = write!(text, " {} {place:?} {:?}", part.name, part.role);
    }
    text
}
