//! What the framing of a channel can promise, in sentences and as a row.

use emberwort_checksum::frames::{Damage, Guarantees};
use emberwort_model::budget::{time_text, wire_time::nanoseconds};
use emberwort_model::medium::Guard;
use emberwort_model::model::End;
use emberwort_model::plan::Direction;
use emberwort_rows::Paint;
use serde_json::{Value as Json, json};

use super::{grouped, plural, wrapped_under};
use crate::output::Look;

/// The sentences about a channel, or about the frames of one end.
pub fn sentences(channel: &Direction, from: Option<End>, promises: &Guarantees, look: Look) -> String {
    let title =
        from.map_or_else(|| channel.name.clone(), |end| format!("{}, frames from the {}", channel.name, end.as_str()));
    let mut text = look.paint(Paint::Bold, title) + "\n";
    let mut say = |sentence: String| text.push_str(&format!("{}\n", wrapped_under(&format!("  {sentence}"), "    ")));
    match promises.damage {
        Damage::Nothing => say("a damaged frame costs no other frame".into()),
        Damage::Next => say("a frame whose end is damaged costs the one after it too".into()),
        Damage::Running => {
            say("a damaged frame costs those after it up to the next status byte that is sent".into());
        }
        Damage::Wait { bytes, time, frames } => say(format!(
            "a damaged length costs no other frame, but time: the receiver waits for up to {} more, {} at full speed, before it looks \
             again; up to {} come late",
            plural(bytes, "byte"),
            time_text(time),
            plural(frames, "frame")
        )),
    }
    match promises.false_start {
        None if channel.finder.runs_on() => {
            say("there are no sync bytes: after damage every byte is tried as the start of a frame".into());
        }
        None if channel.finder.is_packet() || channel.finder.silence().is_some() => {}
        None => say("what stands in a frame never looks like the start of one".into()),
        Some(chance) => {
            say(format!(
                "the longest frame, if random, has a false start in it once in {} frames",
                grouped((1.0 / chance).round())
            ));
        }
    }
    if promises.looks_inside_unread {
        say("no checksum says where a frame ends: inside of one that cannot be read, the receiver looks for others"
            .into());
    }
    match &promises.found {
        None => say(match channel.medium.kind.guard() {
            Guard::Controllers => "no checksum of its own: the controllers drop damaged frames".into(),
            Guard::Network => "no checksum of its own: the network drops most damaged packets".into(),
            Guard::Nobody => "no checksum: what is damaged and still fits is taken as it is".into(),
        }),
        Some(found) => {
            let least = if found.exact { "" } else { "at least " };
            let always = match found.distance {
                0..=2 => "1 wrong bit is always found".to_owned(),
                distance => format!("up to {} wrong bits are always found", distance - 1),
            };
            say(format!(
                "`{}`, {}, over {} of the longest frame: Hamming distance {least}{}, {always}; of random frames 1 in {} passes",
                found.covered.part,
                found.covered.name,
                plural(found.covered.bytes, "byte"),
                found.distance,
                grouped((1.0 / found.random_share).round())
            ));
        }
    }
    text
}

/// What a channel promises to notice, as a JSON object; times are in nanoseconds.
pub fn row(channel: &Direction, from: Option<End>, promises: &Guarantees) -> Json {
    let (costs, wait) = match promises.damage {
        Damage::Nothing => ("nothing", Json::Null),
        Damage::Next => ("next frame", Json::Null),
        Damage::Running => ("up to a status byte", Json::Null),
        Damage::Wait { bytes, time, frames } => {
            ("time", json!({"bytes": bytes, "nanoseconds": nanoseconds(time), "frames": frames}))
        }
    };
    let found = promises.found.as_ref().map(|found| {
        json!({
            "part": found.covered.part, "algorithm": found.covered.name, "covered_bytes": found.covered.bytes,
            "distance": found.distance, "exact": found.exact, "random_share": found.random_share,
        })
    });
    json!({
        "channel": channel.name, "from": from.map(End::as_str), "damage_costs": costs, "wait": wait,
        "false_start": promises.false_start, "looks_inside_unread": promises.looks_inside_unread, "checksum": found,
    })
}
