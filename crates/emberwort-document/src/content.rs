//! What the document says.

use std::collections::HashSet;

use emberwort_checksum::working::hex as digits;
use emberwort_codegen::file_stem;
use emberwort_codegen::lower::frame::{Stretch, covered};
use emberwort_codegen::vectors::Vector;
use emberwort_model::Plan;
use emberwort_model::budget::{decimal_text, duration_text, medium_text, report, time_text};
use emberwort_model::counting::plural;
use emberwort_model::hex::hex;
use emberwort_model::ids::MessageId;
use emberwort_model::layout::digest::digest;
use emberwort_model::layout::picture::picture;
use emberwort_model::layout::{LayoutRow, content_text, record_rows, rows};
use emberwort_model::model::{ByteOrder, End, Labelled, Message};
use emberwort_model::plan::{Bound, Direction, FrameFinder, KeySource, Part, Role, Zone};
use emberwort_model::stuffing::Stuffing;
use emberwort_text::json::{Writing, write_fields};
use emberwort_wire::checksum::Checksum;

use crate::block::Block;
use crate::figure;

struct Content<'a> {
    plan: &'a Plan,
    blocks: Vec<Block>,
    anchors: HashSet<String>,
}

/// All that there is to say of a link.
pub fn blocks(plan: &Plan, vectors: &[Vector]) -> Vec<Block> {
    let mut content = Content { plan, blocks: Vec::new(), anchors: HashSet::new() };
    content.link();
    content.channels();
    content.messages(vectors);
    content.records();
    content.labels();
    content.tables();
    content.revisions();
    content.blocks
}

fn order_text(order: ByteOrder) -> &'static str {
    match order {
        ByteOrder::Little => "the least significant byte of a number comes first (little-endian)",
        ByteOrder::Big => "the most significant byte of a number comes first (big-endian)",
    }
}

/// `8` or `8 .. 12`.
fn range((least, greatest): (usize, usize)) -> String {
    if least == greatest { least.to_string() } else { format!("{least} .. {greatest}") }
}

fn end_text(end: End) -> &'static str {
    match end {
        End::Device => "the device",
        End::Host => "the host",
    }
}

impl Content<'_> {
    fn heading(&mut self, level: u8, text: &str, kind: &str) {
        let plain = format!("{kind}-{}", file_stem(text).replace(|c: char| !c.is_ascii_alphanumeric(), "-"));
        let mut anchor = plain.clone();
        let mut n = 2;
        while !self.anchors.insert(anchor.clone()) {
            anchor = format!("{plain}-{n}");
            n += 1;
        }
        self.blocks.push(Block::Heading { level, text: text.to_owned(), anchor });
    }

    fn text(&mut self, text: impl Into<String>) {
        let text = text.into();
        if !text.trim().is_empty() {
            self.blocks.push(Block::Text(text));
        }
    }

    fn table(&mut self, head: &[&'static str], code: &[usize], rows: Vec<Vec<String>>) {
        // A column that says nothing is left out.
        let says = |column: &usize| rows.iter().any(|row| !row[*column].is_empty());
        let kept: Vec<usize> = (0..head.len()).filter(says).collect();
        if kept.is_empty() {
            return;
        }
        let rows = rows.iter().map(|row| kept.iter().map(|column| row[*column].clone()).collect()).collect();
        let is_code = |(_, column): &(usize, &usize)| code.contains(column);
        self.blocks.push(Block::Table {
            head: kept.iter().map(|column| head[*column]).collect(),
            code: kept.iter().enumerate().filter(is_code).map(|(at, _)| at).collect(),
            rows,
        });
    }

    fn link(&mut self) {
        let link = &self.plan.link;
        self.heading(1, &format!("{}, revision {}", link.name, link.revision), "link");
        self.text(link.doc.clone());
        self.text(format!(
            "{} on {}; {}. The digest of what goes over the wire is {:08X}.",
            plural(self.plan.messages.len(), "message"),
            plural(self.plan.channels.len(), "channel"),
            order_text(link.byte_order),
            digest(self.plan)
        ));
    }

    // ---- channels ----

    fn channels(&mut self) {
        if self.plan.channels.is_empty() {
            return;
        }
        self.heading(2, "Channels", "part");
        let reports = report(self.plan, 1);
        for (index, channel) in self.plan.channel_ids() {
            self.heading(3, &channel.name, "channel");
            self.text(channel.doc.clone());
            self.text(format!("{}.", medium_text(&channel.medium)));
            for (from, direction) in channel.directions() {
                if let Some(end) = from {
                    self.text(format!("Frames from {}:", end_text(end)));
                }
                self.text(found_text(direction));
                self.frame(direction);
            }
            let rows = reports[index.index()].rows.iter().map(|row| {
                let message = &self.plan.messages[row.message].message;
                let direction = channel.direction(message.from);
                let is_said = !matches!(direction.selected_by, KeySource::Single | KeySource::Size | KeySource::Line);
                let key = direction.key_of(row.message).filter(|_| is_said);
                let key = key.map_or(String::new(), |key| direction.key_text(key));
                vec![
                    message.name.clone(),
                    message.from.as_str().to_owned(),
                    key.strip_prefix("the key ").unwrap_or(&key).to_owned(),
                    range(row.body.bytes),
                    range(row.frame.frame),
                    time_text(row.frame.greatest.time),
                    row.every.map_or(String::new(), duration_text),
                    row.share.map_or(String::new(), |share| format!("{} %", decimal_text(share * 100, 2))),
                ]
            });
            let head = [
                "Message",
                "From",
                "Key",
                "Bytes of the body",
                "Bytes of the frame",
                "Longest on the wire",
                "Every",
                "Share of the time",
            ];
            let rows = rows.collect();
            self.table(&head, &[2], rows);
        }
    }

    fn frame(&mut self, direction: &Direction) {
        let mut rows = Vec::new();
        let body = |rows: &mut Vec<Vec<String>>| {
            rows.push(vec![
                "body".into(),
                String::new(),
                String::new(),
                format!("up to {}", plural(direction.greatest_body, "byte")),
                String::new(),
            ]);
        };
        if !direction.sync.is_empty() {
            rows.push(vec![
                "sync".into(),
                "0.0".into(),
                (direction.sync.len() * 8).to_string(),
                hex(&direction.sync),
                String::new(),
            ]);
        }
        let mut in_tail = false;
        for (index, part) in direction.parts.iter().enumerate() {
            if part.zone == Zone::Tail && !in_tail {
                in_tail = true;
                body(&mut rows);
            }
            let place = match part.zone {
                Zone::Head => format!("{}.{}", part.at_bit / 8, part.at_bit % 8),
                Zone::Tail => format!("{}.{} behind the body", part.at_bit / 8, part.at_bit % 8),
            };
            let bits =
                if part.hex { format!("{} in {} hex digits", part.bits, part.bits / 4) } else { part.bits.to_string() };
            rows.push(vec![part.name.clone(), place, bits, role_text(direction, index, part), part.doc.clone()]);
        }
        if !in_tail {
            body(&mut rows);
        }
        self.table(&["Part", "Place", "Bits", "What it says", "Meaning"], &[1], rows);
    }

    // ---- messages ----

    fn messages(&mut self, vectors: &[Vector]) {
        if self.plan.messages.is_empty() {
            return;
        }
        self.heading(2, "Messages", "part");
        for (index, compiled) in self.plan.message_ids() {
            let message = &compiled.message;
            self.heading(3, &message.name, "message");
            self.text(message.doc.clone());
            self.text(self.travels(message, index));
            self.blocks.push(Block::Picture {
                file: format!("{}_{}.svg", file_stem(&self.plan.link.name), file_stem(&message.name)),
                svg: figure::svg(&[picture(compiled)]),
                about: format!("The bytes of {}", message.name),
            });
            self.fields(&rows(compiled));
            if let Some(vector) = example(vectors, index) {
                self.example(vector);
            }
        }
    }

    /// Who sends a message, when, over what, and who answers it.
    fn travels(&self, message: &Message, index: MessageId) -> String {
        let every = message.every.map_or(String::new(), |every| format!(" every {}", duration_text(every)));
        let channels: Vec<String> = message
            .channels
            .iter()
            .map(|channel| {
                let channel = &self.plan.channels[*channel];
                let direction = channel.direction(message.from);
                let is_said = !matches!(direction.selected_by, KeySource::Single | KeySource::Size | KeySource::Line);
                let key = direction.key_of(index).filter(|_| is_said);
                match (key, direction.nodes_of(index)) {
                    (Some(key), None) => format!("{} with {}", channel.name, direction.key_text(key)),
                    (Some(key), Some(nodes)) => {
                        format!(
                            "{} with {} for node {}, and so on to node {}",
                            channel.name,
                            direction.key_text(key),
                            nodes.start(),
                            nodes.end()
                        )
                    }
                    (None, _) => channel.name.clone(),
                }
            })
            .collect();
        let mut text = format!("From {}{every}", end_text(message.from));
        if !channels.is_empty() {
            text += &format!(", on {}", channels.join(", on "));
        }
        text += ".";
        if !message.answered_by.is_empty() {
            let answers: Vec<&str> =
                message.answered_by.iter().map(|answer| self.plan.messages[*answer].message.name.as_str()).collect();
            let within = message.within.map_or(String::new(), |within| format!(" within {}", duration_text(within)));
            text += &format!(" {} answers it{within}.", answers.join(" or "));
        }
        let asks: Vec<&str> = self
            .plan
            .messages
            .iter()
            .filter(|other| other.message.answered_by.contains(&index))
            .map(|other| other.message.name.as_str())
            .collect();
        if !asks.is_empty() {
            text += &format!(" It answers {}.", asks.join(" and "));
        }
        text
    }

    fn fields(&mut self, rows: &[LayoutRow]) {
        let one = |row: &LayoutRow| {
            let since = if row.since > 1 { row.since.to_string() } else { String::new() };
            vec![
                format!("{}{}", "\u{2003}".repeat(row.depth), row.field),
                row.place.clone(),
                row.bits.clone(),
                row.raw.clone(),
                row.physical.clone(),
                row.step.clone(),
                row.unit.clone(),
                row.default.clone(),
                since,
                row.doc.replace('\n', " "),
            ]
        };
        let head = ["Field", "Place", "Bits", "Raw", "Values", "Step", "Unit", "If lacking", "Since", "Meaning"];
        self.table(&head, &[1], rows.iter().map(one).collect());
    }

    fn example(&mut self, vector: &Vector) {
        let compiled = &self.plan.messages[vector.message];
        let mut values = String::new();
        // Writing to a String cannot fail.
        let _ = write_fields(compiled, &vector.values, Writing::default(), &mut values);
        self.text("An example, with its bytes:");
        self.blocks.push(Block::Code(values));
        let mut rows =
            vec![vec!["body".to_owned(), if vector.body.is_empty() { "no bytes".into() } else { hex(&vector.body) }]];
        for frame in &vector.frames {
            let channel = &self.plan.channels[frame.channel];
            let has = |role: Role| channel.direction(compiled.message.from).part(|one| *one == role).is_some();
            let mut with = Vec::new();
            if has(Role::Address) {
                with.push(format!("node {}", frame.header.node));
            }
            if has(Role::Sequence) {
                with.push(format!("sequence number {}", frame.header.sequence));
            }
            let with = if with.is_empty() { String::new() } else { format!(", {}", with.join(", ")) };
            rows.push(vec![format!("frame on {}{with}", channel.name), hex(&frame.bytes)]);
        }
        self.table(&["", "Bytes"], &[1], rows);
    }

    // ---- what messages are made of ----

    fn records(&mut self) {
        if self.plan.records.is_empty() {
            return;
        }
        self.heading(2, "Records", "part");
        for record in &self.plan.records {
            self.heading(3, &record.record.name, "record");
            self.text(record.record.doc.clone());
            self.fields(&record_rows(record, self.plan.link.byte_order));
        }
    }

    fn labels(&mut self) {
        let labelled = &self.plan.link.labelled;
        if labelled.is_empty() {
            return;
        }
        self.heading(2, "Enums and flags", "part");
        for labelled in labelled {
            self.heading(3, &labelled.name, "enum");
            self.text(labelled.doc.clone());
            let what = if labelled.flags { "Flags" } else { "Codes" };
            self.text(format!("{what} of {}.", plural(usize::from(labelled.bits), "bit")));
            let rows = labelled.labels.iter().map(|label| {
                let code = code_text(labelled, label.code);
                vec![code, label.name.clone(), label.text.clone()]
            });
            let first = if labelled.flags { "Bit" } else { "Code" };
            let rows = rows.collect();
            self.table(&[first, "Label", "Meaning"], &[0], rows);
        }
    }

    fn tables(&mut self) {
        let tables = &self.plan.link.tables;
        if tables.is_empty() {
            return;
        }
        self.heading(2, "Tables", "part");
        for table in tables {
            self.heading(3, &table.name, "table");
            self.text(table.doc.clone());
            let rows = table.entries.iter().map(|entry| {
                let may = match (entry.read, entry.write) {
                    (true, true) => "read and write",
                    (true, false) => "read",
                    (false, true) => "write",
                    (false, false) => "",
                };
                let kept = if entry.kept { "over a restart" } else { "" };
                vec![
                    table.keys.code_text(entry.key),
                    entry.field.name.clone(),
                    content_text(&entry.field),
                    entry.field.unit.clone(),
                    may.to_owned(),
                    kept.to_owned(),
                    entry.field.doc.replace('\n', " "),
                ]
            });
            let rows = rows.collect();
            self.table(&["Key", "Entry", "Holds", "Unit", "The host may", "Kept", "Meaning"], &[0], rows);
        }
    }

    fn revisions(&mut self) {
        let mut rows = Vec::new();
        let records = self.plan.link.records.iter().map(|record| (&record.name, &record.fields));
        let messages = self.plan.link.messages.iter().map(|message| (&message.name, &message.fields));
        for (name, fields) in messages.chain(records) {
            for field in fields.iter().filter(|field| field.since > 1 && !field.is_spare()) {
                rows.push((field.since, format!("{name}.{}", field.name), field.doc.replace('\n', " ")));
            }
        }
        if rows.is_empty() {
            return;
        }
        rows.sort_by_key(|(since, ..)| *since);
        self.heading(2, "Revisions", "part");
        self.text(
            "Fields are added behind the ones that are there. A receiver reads the fields that it knows of any sender, and takes the value that the field says where an older sender lacks it.",
        );
        let rows = rows.into_iter().map(|(since, field, doc)| vec![since.to_string(), field, doc]).collect();
        self.table(&["Revision", "Added", "Meaning"], &[], rows);
    }
}

fn code_text(labelled: &Labelled, code: u64) -> String {
    if labelled.flags { code.to_string() } else { labelled.code_text(code) }
}

/// The vector that shows most of a message.
fn example(vectors: &[Vector], message: MessageId) -> Option<&Vector> {
    let mut of_message = vectors.iter().filter(|vector| vector.message == message);
    let first = of_message.clone().next();
    of_message.find(|vector| vector.case.starts_with("random")).or(first)
}

/// How a receiver finds frames.
fn found_text(direction: &Direction) -> String {
    let limit = plural(direction.limit, "byte");
    let found = match direction.finder {
        FrameFinder::Sync if direction.sync.is_empty() => "Frames say how long they are.".to_owned(),
        FrameFinder::Sync => format!("A frame begins with {}, and says how long it is.", hex(&direction.sync)),
        FrameFinder::Stuffed(Stuffing::Cobs) => {
            "Frames are stuffed (consistent overhead byte stuffing, COBS); a zero byte ends each.".to_owned()
        }
        FrameFinder::Stuffed(Stuffing::Slip) => {
            "C0 stands in front of a frame and behind it; in it C0 is sent as DB DC, and DB as DB DD (SLIP, RFC 1055).".to_owned()
        }
        FrameFinder::Stuffed(Stuffing::Hdlc) => {
            "7E stands in front of a frame and behind it; in it 7E is sent as 7D 5E, and 7D as 7D 5D (HDLC-like framing, RFC 1662).".to_owned()
        }
        FrameFinder::Escaped(escape) => format!(
            "A frame begins with {}; behind that {} is sent as {:02X} and the byte exclusive-or {:02X}.",
            hex(&direction.sync),
            escape.escaped.iter().map(|byte| format!("{byte:02X}")).collect::<Vec<_>>().join(" or "),
            escape.escape,
            escape.xor
        ),
        FrameFinder::Idle { nanoseconds } => format!("Silence of at least {} separates frames.", duration_text(nanoseconds)),
        FrameFinder::Packet => "The medium keeps frames apart.".to_owned(),
        FrameFinder::StatusBytes { running } => format!(
            "The first byte of a frame, and no other, has its highest bit set{}.",
            if running { "; one that is the same as in the frame before may be left out" } else { "" }
        ),
        FrameFinder::Lines { crlf } => {
            format!("Each line of text is a frame; {} ends it.", if crlf { "CR LF" } else { "LF" })
        }
    };
    format!("{found} A frame has at most {limit}.")
}

fn bound_text(bound: Bound) -> String {
    match bound {
        Bound::Head(at) => format!("byte {at}"),
        Bound::Tail(0) => "the end of the body".to_owned(),
        Bound::Tail(at) => format!("byte {at} behind the body"),
    }
}

/// What a part of a frame says.
fn role_text(direction: &Direction, index: usize, part: &Part) -> String {
    match &part.role {
        Role::Message => "which message this is".to_owned(),
        Role::Length { other_bytes, unit } => {
            let others = if *other_bytes > 0 { format!(" and {other_bytes} more") } else { String::new() };
            let unit = if *unit > 1 { format!(", in units of {unit} bytes") } else { String::new() };
            format!("how many bytes the body has{others}{unit}")
        }
        Role::Address => "the node".to_owned(),
        Role::Sequence => "one more each frame".to_owned(),
        Role::Revision => "the sender's revision".to_owned(),
        Role::Checksum { algorithm, .. } => {
            let stretch = |stretch: &Stretch| match stretch {
                Stretch::Bytes(from, to) => format!("{} up to {}", bound_text(*from), bound_text(*to)),
                Stretch::Zeros(count) => plural(*count, "zero byte"),
            };
            let over: Vec<String> = covered(direction, index).iter().map(stretch).collect();
            let check = digits(Checksum::new(algorithm).compute(b"123456789"), algorithm.bits());
            format!("{} over {} ({check} for the nine bytes \"123456789\")", algorithm.written(), over.join(", then "))
        }
        Role::Fixed(value) => format!("always {value:#X}").replace("0X", "0x"),
        Role::Same { part, inverted: false } => format!("the same as {}", direction.parts[*part].name),
        Role::Same { part, inverted: true } => format!("each bit of {} inverted", direction.parts[*part].name),
    }
}
