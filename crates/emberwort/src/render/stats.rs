//! Where every byte went, as a sentence, a table, or JSON.

use std::fmt::Write as _;

use emberwort_capture::{Damage, Statistics};
use emberwort_model::counting::some_of;
use emberwort_model::medium::Encapsulation;
use emberwort_model::plan::Channel;
use emberwort_rows::time;
use emberwort_waveform::findings::duration;
use emberwort_wire::FrameFault;
use serde_json::{Map, Value as Json, json};

use super::assignment::unassigned;
use super::sheets::Sheet;
use super::{plural, table};

/// The counts of a command's inputs together with what could not be read of them.
pub struct Account<'a> {
    pub statistics: &'a Statistics,
    /// Bytes of the files.
    pub file_bytes: u64,
    /// The inputs that could not be read to their end.
    pub damage: &'a [(String, Damage)],
}

/// Counts of frames by reason, without those of which there are none.
fn reasons(counts: [u64; FrameFault::REASONS.len()]) -> impl Iterator<Item = (&'static str, u64)> {
    FrameFault::REASONS.into_iter().zip(counts).filter(|(_, count)| *count > 0)
}

/// ` (2 checksum, 1 length)`; nothing if there are none.
fn listed(counts: [u64; FrameFault::REASONS.len()]) -> String {
    let reasons: Vec<String> = reasons(counts).map(|(reason, count)| format!("{count} {reason}")).collect();
    if reasons.is_empty() { String::new() } else { format!(" ({})", reasons.join(", ")) }
}

/// One line: `4096 bytes: 4000 in 120 good frames, 64 in 2 broken (2 checksum), 32 stray`; with unread frames, if there are some.
pub fn sentence(account: &Account<'_>) -> String {
    let statistics = account.statistics;
    let mut line = format!(
        "{}: {} in {}",
        plural(statistics.input, "byte"),
        statistics.good,
        plural(statistics.good_frames(), "good frame")
    );
    if statistics.unread > 0 {
        let frames = statistics.all_unread_frames();
        let _ = write!(line, ", {} in {frames} unread{}", statistics.unread, listed(statistics.unread_frames));
    }
    let frames = statistics.all_broken_frames();
    let _ = write!(line, ", {} in {frames} broken{}", statistics.broken, listed(statistics.broken_frames));
    let _ = write!(line, ", {} stray", statistics.stray);
    if statistics.other_packets > 0 {
        let _ = write!(
            line,
            "; {} in {} of no channel of this link{}",
            plural(statistics.other_bytes, "byte"),
            plural(statistics.other_packets, "packet"),
            why_other(statistics)
        );
    }
    line
}

/// `20.000 ms: 18.200 ms at rest, 1.700 ms in good frames, 0.100 ms in broken ones, 0 unexplained`, of a line that was looked at in all moments.
pub fn time_sentence(account: &Account<'_>) -> Option<String> {
    let spent = account.statistics.timeline.as_ref()?.account();
    let time = |nanoseconds: u64| match nanoseconds {
        0 => "0 s".to_owned(),
        some => duration(some.saturating_mul(1000)),
    };
    Some(format!(
        "{}: {} at rest, {} in good frames, {} in broken ones, {} unexplained",
        time(spent.length()),
        time(spent.resting),
        time(spent.good),
        time(spent.broken),
        time(spent.unexplained)
    ))
}

/// Why packets belong to no channel, the most frequent reasons first.
fn why_other(statistics: &Statistics) -> String {
    let mut reasons: Vec<(u64, String)> =
        statistics.others.iter().map(|(why, (packets, _))| (*packets, unassigned(*why))).collect();
    reasons.sort_by(|a, b| (b.0, &a.1).cmp(&(a.0, &b.1)));
    let shown: Vec<String> =
        reasons.iter().take(MAX_REASONS).map(|(packets, why)| format!("{packets} {why}")).collect();
    let more = if reasons.len() > MAX_REASONS {
        format!(", {} more reasons", reasons.len() - MAX_REASONS)
    } else {
        String::new()
    };
    format!(" ({}{more})", shown.join(", "))
}

/// So many reasons are listed in a sentence.
const MAX_REASONS: usize = 4;

/// What to look at when a capture holds nothing good, or when its wrong checksums are wrong in the same way.
pub fn hint(statistics: &Statistics) -> Option<String> {
    let slips = statistics.slips.sentences(&statistics.plan().channels);
    if !slips.is_empty() {
        return Some(slips.join("\n"));
    }
    if statistics.good_frames() > 0 {
        return None;
    }
    let channels: Vec<String> = statistics
        .plan()
        .channels
        .iter()
        .map(|channel| match channel.medium.kind.encapsulation() {
            Encapsulation::Udp { port } => format!("{} (UDP port {port})", channel.name),
            Encapsulation::Can { .. } => format!("{} (CAN frames)", channel.name),
            Encapsulation::Bytes => format!("{} (bytes, or packets of the user link types)", channel.name),
        })
        .collect();
    let channels = channels.join(", ");
    if statistics.input > 0 {
        let from = match statistics.plan().channels.iter().any(Channel::is_split) {
            true => ", do they come from the end that --from says",
            false => "",
        };
        Some(format!(
            "no good frame was found: are these bytes of the right channel (--on){from}, and is this the sender's definition?\n\
             the link's channels: {channels}"
        ))
    } else if statistics.other_packets > 0 {
        Some(format!(
            "nothing in here belongs to this link, whose channels are: {channels}\n--on CHANNEL takes serial packets for one of them; --assign says whose other packets are, as in --assign port=4001,channel=NAME"
        ))
    } else {
        None
    }
}

/// The accounting as tables for a page.
pub fn account_sheets(account: &Account<'_>) -> Vec<Sheet> {
    let statistics = account.statistics;
    let mut bytes = Sheet::new("Where the bytes went", &[("bytes", false), ("count", true), ("frames", true)]);
    for (name, count, frames) in [
        ("good", statistics.good, Some(statistics.good_frames())),
        ("unread", statistics.unread, Some(statistics.all_unread_frames())),
        ("broken", statistics.broken, Some(statistics.all_broken_frames())),
        ("stray", statistics.stray, None),
        ("input", statistics.input, None),
    ] {
        let frames = frames.map_or_else(String::new, |frames| frames.to_string());
        bytes.rows.push(vec![name.to_owned(), count.to_string(), frames]);
    }
    let mut messages = Sheet::new("Messages", &[("message", false), ("frames", true)]);
    for (name, count) in statistics.messages().filter(|(_, count)| *count > 0) {
        messages.rows.push(vec![name.to_owned(), count.to_string()]);
    }
    vec![bytes, messages]
}

/// Tables for people.
pub fn tables(account: &Account<'_>) -> String {
    let statistics = account.statistics;
    let mut out = String::new();
    let share = |bytes: u64| {
        if statistics.input == 0 {
            "–".to_owned()
        } else {
            format!("{:.2} %", bytes as f64 * 100.0 / statistics.input as f64)
        }
    };
    let mut bytes = table::table(&["bytes", "count", "share", "frames"], &[false, true, true, true]);
    bytes.add_row([
        "good",
        &statistics.good.to_string(),
        &share(statistics.good),
        &statistics.good_frames().to_string(),
    ]);
    bytes.add_row([
        "unread",
        &statistics.unread.to_string(),
        &share(statistics.unread),
        &statistics.all_unread_frames().to_string(),
    ]);
    bytes.add_row([
        "broken",
        &statistics.broken.to_string(),
        &share(statistics.broken),
        &statistics.all_broken_frames().to_string(),
    ]);
    bytes.add_row(["stray", &statistics.stray.to_string(), &share(statistics.stray), ""]);
    bytes.add_row(["input", &statistics.input.to_string(), &share(statistics.input), ""]);
    out.push_str(&bytes.lines());
    if !statistics.adds_up() {
        let _ = writeln!(out, "the four do not add up to the input: this is a bug of Emberwort, please report it");
    }
    let seconds = statistics.span.map_or(0.0, |(first, last)| last.since(first) as f64 / 1e9);
    let mut messages = table::table(&["message", "frames", "per second"], &[false, true, true]);
    for (name, count) in statistics.messages().filter(|(_, count)| *count > 0) {
        let rate = if seconds > 0.0 { format!("{:.2}", count as f64 / seconds) } else { String::new() };
        messages.add_row([name, &count.to_string(), &rate]);
    }
    if statistics.good_frames() > 0 {
        let _ = write!(out, "\n{}", messages.lines());
    }
    for (title, counts) in
        [("unread because of", statistics.unread_frames), ("broken because of", statistics.broken_frames)]
    {
        if counts.iter().any(|count| *count > 0) {
            let mut table = table::table(&[title, "frames"], &[false, true]);
            for (reason, count) in reasons(counts) {
                table.add_row([reason, &count.to_string()]);
            }
            let _ = write!(out, "\n{}", table.lines());
        }
    }
    let mut notes = Vec::new();
    if let Some(line) = time_sentence(account) {
        notes.push(line);
    } else if let Some((first, last)) = statistics.span {
        notes.push(format!(
            "from {} to {} ({})",
            time::rfc3339(first),
            time::rfc3339(last),
            time::duration(last.since(first))
        ));
    }
    let gaps = statistics.sequence();
    if gaps.gaps > 0 {
        notes.push(format!(
            "sequence numbers have {}, with {} left out by lost frames and restarts; `stats --timing` tells them apart",
            plural(gaps.gaps, "gap"),
            plural(gaps.missing, "number")
        ));
    }
    if gaps.jumps_back > 0 {
        notes.push(format!(
            "sequence numbers go back {}: repeated frames, or a sender that began again",
            plural(gaps.jumps_back, "time")
        ));
    }
    for (revision, frames) in &statistics.read_as {
        notes.push(format!("{} of revision {revision}, read as such", plural(*frames, "frame")));
    }
    notes.extend(told_apart(statistics));
    notes.extend(ambiguous(statistics));
    notes.extend(contradictions(statistics));
    if statistics.later.0 > 0 {
        notes.push(format!(
            "{} of a later revision in {}",
            plural(statistics.later.1, "byte"),
            plural(statistics.later.0, "frame")
        ));
    }
    if statistics.other_packets > 0 {
        notes.push(format!(
            "{} in {} of no channel of this link{}",
            plural(statistics.other_bytes, "byte"),
            plural(statistics.other_packets, "packet"),
            why_other(statistics)
        ));
    }
    for (name, damage) in account.damage {
        notes.push(damage_text(name, damage));
    }
    if !notes.is_empty() {
        let _ = write!(out, "\n{}\n", super::wrapped(&notes.join("\n")));
    }
    out
}

/// Which end sent what, where nobody said it and the frames themselves tell.
pub fn told_apart(statistics: &Statistics) -> Option<String> {
    let (device, host) = statistics.told_apart;
    let frames = |count: u64| plural(count, "frame");
    (device + host > 0).then(|| {
        format!(
            "nothing says which end sent this; by their form {} came from the device and {} from the host (--from says it)",
            frames(device),
            frames(host)
        )
    })
}

/// Frames that either end can have sent, with both readings.
pub fn ambiguous(statistics: &Statistics) -> Option<String> {
    let frames = statistics.ambiguous.values().sum::<u64>();
    if frames == 0 {
        return None;
    }
    let readings =
        statistics.ambiguous.keys().map(|(by_device, by_host)| format!("{by_device} (device) or {by_host} (host)"));
    let readings: Vec<String> = readings.collect();
    Some(format!(
        "either end can have sent {}: {}; no request came before, so the device's is shown\n\
         say which end sent these bytes with --from device or --from host",
        plural(frames, "frame"),
        some_of(readings.iter().map(String::as_str))
    ))
}

/// Where frames say another revision of themselves than was said of their sender.
pub fn contradictions(statistics: &Statistics) -> Vec<String> {
    let all = statistics.contradicted.iter().map(|((node, says, read_as), frames)| {
        let of_node = node.map_or_else(String::new, |node| format!(" of node {node}"));
        format!(
            "{}{of_node} read as revision {read_as}, though the frames themselves say revision {says}",
            plural(*frames, "frame"),
        )
    });
    all.collect()
}

/// What could not be read of an input.
pub fn damage_text(name: &str, damage: &Damage) -> String {
    let before = if damage.offset == 0 { "nothing was read" } else { "everything before it was read" };
    format!("{name}, at offset {}, {before}: {}", damage.offset, damage.reason)
}

/// One JSON object.
pub fn json(account: &Account<'_>) -> Json {
    let statistics = account.statistics;
    let counted = |rows: &mut dyn Iterator<Item = (&str, u64)>| -> Json {
        Json::Object(
            rows.filter(|(_, count)| *count > 0)
                .map(|(name, count)| (name.to_owned(), json!(count)))
                .collect::<Map<_, _>>(),
        )
    };
    let gaps = statistics.sequence();
    let reasons_of_others: Map<String, Json> =
        statistics.others.iter().map(|(why, (packets, _))| (unassigned(*why), json!(packets))).collect();
    let read_as: Map<String, Json> =
        statistics.read_as.iter().map(|(revision, frames)| (revision.to_string(), json!(frames))).collect();
    let channels = statistics.plan().channels.iter().map(|channel| channel.name.as_str());
    let damage: Vec<Json> = account
        .damage
        .iter()
        .map(|(input, damage)| json!({"input": input, "offset": damage.offset, "reason": damage.reason}))
        .collect();
    let mut all = json!({
        "bytes": {"input": statistics.input, "good": statistics.good, "unread": statistics.unread, "broken": statistics.broken, "stray": statistics.stray},
        "frames": {
            "good": statistics.good_frames(), "unread": counted(&mut reasons(statistics.unread_frames)),
            "broken": counted(&mut reasons(statistics.broken_frames)),
        },
        "messages": counted(&mut statistics.messages()),
        "channels": counted(&mut channels.zip(statistics.channels.iter().copied())),
        "sequence": {"gaps": gaps.gaps, "missing": gaps.missing, "back": gaps.jumps_back},
        "told_apart": {"device": statistics.told_apart.0, "host": statistics.told_apart.1, "ambiguous": statistics.ambiguous.values().sum::<u64>()},
        "read_as_revision": read_as,
        "later": {"frames": statistics.later.0, "bytes": statistics.later.1},
        "other": {"packets": statistics.other_packets, "bytes": statistics.other_bytes, "reasons": reasons_of_others},
        "file_bytes": account.file_bytes,
        "span": statistics.span.map(|(first, last)| json!({"first": time::rfc3339(first), "last": time::rfc3339(last)})),
        "damage": damage,
    });
    if let Some(timeline) = &statistics.timeline {
        let spent = timeline.account();
        all["nanoseconds"] = json!({
            "length": spent.length(), "rest": spent.resting, "good": spent.good, "broken": spent.broken,
            "unexplained": spent.unexplained,
        });
    }
    all
}
