//! `decode --explain N`: every step from the packets of a capture to the values of one frame.

use std::cell::RefCell;
use std::fmt::Write as _;
use std::io::{self, Write};
use std::ops::ControlFlow;
use std::path::Path;
use std::rc::Rc;

use emberwort_capture::anatomy::{StretchKind, anatomy, covered, direction};
use emberwort_capture::traced::{PacketPart, Provenance, Traced};
use emberwort_capture::{BrokenFrame, Decoder, DefinitionId, Item, ItemSink, Row};
use emberwort_model::Plan;
use emberwort_model::diagnostics::escaped;
use emberwort_model::hex::write_hex;
use emberwort_model::plan::{Channel, FrameFinder, Role};
use emberwort_rows::{meaning, place, time::rfc3339};
use emberwort_wire::FrameFault;

use crate::cli::DecodeArgs;
use crate::ending::Ending;
use crate::output::{self, Look, say};
use crate::reading::capture_definitions::CaptureDefinitions;
use crate::reading::inputs;
use crate::reading::sources::Settings;
use crate::render::assignment::because;
use crate::render::stats::{Account, sentence};
use crate::render::{plural, wrapped_under};

/// Explains the frame with one number.
struct Explain {
    number: u64,
    provenance: Rc<RefCell<Provenance>>,
    plan: std::sync::Arc<Plan>,
    text: Option<String>,
}

pub fn run(
    args: &DecodeArgs,
    number: u64,
    link: Option<&Path>,
    definitions: CaptureDefinitions,
    _: Look,
) -> anyhow::Result<Ending> {
    let plan = definitions.revisions.own().clone();
    let mut settings = Settings::of(&args.input, link, &plan)?;
    settings.nodes = definitions.nodes;
    let provenance: Rc<RefCell<Provenance>> = Rc::default();
    let sink = Explain { number, provenance: provenance.clone(), plan, text: None };
    let decoder = Decoder::of(definitions.revisions, sink).with_deferred(definitions.deferred);
    let (traced, inputs) = inputs::read_all(&settings, Traced::new(provenance, decoder))?;
    let (explain, statistics) = traced.into_sink().finish()?;
    let mut out = output::stdout();
    match explain.text {
        Some(text) => out.write_all(text.as_bytes())?,
        None => {
            let account = Account { statistics: &statistics, file_bytes: inputs.file_bytes, damage: &inputs.damage };
            say!("{}", sentence(&account));
            anyhow::bail!("there is no frame {number}: {} were found", plural(statistics.frames, "frame"));
        }
    }
    out.flush()?;
    Ok(if inputs.damage.is_empty() { Ending::Clean } else { Ending::WithFindings })
}

impl ItemSink for Explain {
    type Error = io::Error;

    fn item(&mut self, item: Item<'_>) -> io::Result<ControlFlow<()>> {
        if item.number() != Some(self.number) {
            return Ok(ControlFlow::Continue(()));
        }
        let mut text = String::new();
        self.found_at(&item, &mut text);
        match item {
            Item::Row(row) => self.row(row, &mut text),
            Item::Broken(broken) => self.broken(broken, &mut text),
            Item::Stray(_) => {}
        }
        self.text = Some(text);
        Ok(ControlFlow::Break(()))
    }

    fn is_full(&self) -> bool {
        self.text.is_some() || crate::interrupt::came()
    }
}

fn step(out: &mut String, what: &str, text: &str) {
    let line = format!("{what:<10} {text}");
    let _ = writeln!(out, "{}", wrapped_under(&line, "           "));
}

fn hex(bytes: &[u8]) -> String {
    let mut text = String::new();
    let _ = write_hex(bytes, &mut text);
    text
}

fn finder_text(channel: &Channel, from: emberwort_model::model::End) -> String {
    let direction = channel.direction(from);
    match direction.finder {
        FrameFinder::Sync => {
            format!("it begins with the sync bytes {}, and its length says where it ends", hex(&direction.sync))
        }
        FrameFinder::Packet => "each packet is a frame".to_owned(),
        FrameFinder::Idle { .. } => "silence separates frames".to_owned(),
        FrameFinder::StatusBytes { .. } => "a byte with the highest bit set begins it".to_owned(),
        FrameFinder::Lines { .. } => "each line is a frame".to_owned(),
        FrameFinder::Stuffed(_) | FrameFinder::Escaped(_) => {
            "a delimiter ends it, and stuffing keeps that out of the frame; bytes are counted without the stuffing"
                .to_owned()
        }
    }
}

impl Explain {
    fn found_at(&self, item: &Item<'_>, out: &mut String) {
        let (parts, why) = self.provenance.borrow().parts(item.stream(), item.offset(), item.wire().len());
        let from = item.from().map_or("somebody", |from| from.as_str());
        let channel = &self.plan.channels[item.channel()];
        let when = item.time().map_or_else(|| "without a time".to_owned(), rfc3339);
        let _ = writeln!(out, "frame {}, {when}", self.number);
        let part = |part: &PacketPart| match part.at {
            Some(at) => format!("packet {} (bytes {} to {})", part.packet, at, at + part.length.max(1) - 1),
            None => format!("packet {} and those before it, put together", part.packet),
        };
        let parts: Vec<String> = parts.iter().map(part).collect();
        let at =
            format!("byte {} of the bytes from {from} on `{}`; in {}", item.offset(), channel.name, parts.join(", "));
        step(out, "found at", &at);
        if let Some(why) = why {
            step(out, "assigned", &format!("to channel `{}`, because {}", channel.name, because(why)));
        }
        step(out, "framing", &finder_text(channel, item.from().unwrap_or(emberwort_model::model::End::Device)));
        step(out, "bytes", &hex(item.wire()));
    }

    fn row(&self, row: &Row<'_>, out: &mut String) {
        let name = &self.plan.channels[row.channel].name;
        let Some(direction) = direction(row, name) else { return };
        for (index, part) in direction.parts.iter().enumerate() {
            let Role::Checksum { name: algorithm, .. } = &part.role else { continue };
            let over: Vec<String> = covered(direction, index, row.frame.bytes, row.frame.body.len())
                .iter()
                .map(|bytes| format!("bytes {} to {}", bytes.start, bytes.end.max(1) - 1))
                .collect();
            let stretches = anatomy(row, direction);
            let own = stretches.iter().find(|stretch| matches!(stretch.kind, StretchKind::Part(own) if own == index));
            let own = own.map_or_else(String::new, |own| {
                hex(&row.frame.bytes[own.bits.start / 8..own.bits.end.div_ceil(8).min(row.frame.bytes.len())])
            });
            step(out, "checksum", &format!("`{}` {own} is {algorithm} over {}: right", part.name, over.join(", ")));
        }
        let message = &row.plan.messages[row.message].message;
        let mut chosen = format!("{} (key {})", message.name, row.frame.key);
        if row.definition != DefinitionId::default() {
            let _ = write!(chosen, ", read as revision {}", row.plan.link.revision);
        }
        step(out, "message", &chosen);
        if row.extent.later_bytes > 0 {
            step(out, "later", &format!("{} of a later revision", plural(row.extent.later_bytes, "byte")));
        }
        let _ = writeln!(out, "values");
        for stretch in anatomy(row, direction) {
            let (name, text) = meaning(row, direction, &stretch, false);
            let line = format!("  {name:<16} {:<30} {}", escaped(&text), place(&stretch.bits));
            let _ = writeln!(out, "{}", wrapped_under(&line, "                   "));
        }
    }

    fn broken(&self, broken: &BrokenFrame<'_>, out: &mut String) {
        let what = if broken.is_unread() { "unread" } else { "broken" };
        step(out, what, &broken.fault.sentence(broken.plan, broken.direction));
        if let FrameFault::Checksum { part, .. } = *broken.fault {
            // Where the body ended is known of frames that were whole but for their checksum.
            let around = broken.direction.head_bytes + broken.direction.tail_bytes;
            if let Some(body) = broken.wire.len().checked_sub(around) {
                let over: Vec<String> = covered(broken.direction, part, broken.wire, body)
                    .iter()
                    .map(|bytes| format!("bytes {} to {}", bytes.start, bytes.end.max(1) - 1))
                    .collect();
                step(out, "covers", &format!("it is computed over {}, counted without stuffing", over.join(", ")));
            }
        }
    }
}
