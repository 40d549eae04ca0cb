//! Verdicts against an oracle of their own: some written by hand, and an experiment that knows nothing of how verdicts are found.
//! It encodes with one revision, decodes with the other, and compares names and values as they stand in rows.
//!
//! 300 edits in the normal run; others with `EMBERWORT_EDITS=SEED`.

use std::collections::BTreeMap;
use std::ops::Range;
use std::sync::Arc;

use emberwort_evolution::Verdict::{self, Fine, FineWithLoss, Misread, Refused, SilentDrop};
use emberwort_evolution::{Comparison, Pair, Revision, compare};
use emberwort_model::Plan;
use emberwort_model::ids::{ChannelId, MessageId};
use emberwort_model::model::{End, Field, Kind, Labelled};
use emberwort_model::plan::Role;
use emberwort_text::json::{Writing, write_fields};
use emberwort_text::samples::{Choice, Chooser};
use emberwort_wire::body_reader::{BodyReader, Requests};
use emberwort_wire::frame::body_on;
use emberwort_wire::{FrameFault, FrameSink, FrameView, Framing, Receiver, Values};
use rand::seq::IndexedRandom;
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;
use serde_json::{Map, Value as Json};

use crate::common::edits::Definition;
use crate::common::{revision, try_revision};

const BUS: &str = "channel bus { medium uart 9600 8N1\n frame { sync C6 39\n node : u8 address\n kind : u8 message\n size : u8 length of body\n body\n \
    check : u16 crc-16/arc over node..body\n } }\n";
const POWER: &str = "channel power { medium can 250 kbit/s\n packet\n select by can_id\n }\n";

fn both(old: &str, new: &str) -> (Revision, Revision) {
    let link = |n: u32| format!("link sluice {{ revision {n}  byte_order little }}\n");
    (revision("old", &(link(2) + old)), revision("new", &(link(3) + new)))
}

fn verdicts(old: &str, new: &str) -> [Verdict; 4] {
    let (old, new) = both(old, new);
    let comparison = compare(&old, &new);
    Pair::ALL.map(|pair| comparison.worst(pair))
}

/// Replaces, and makes sure that there is something to replace.
fn with(text: &str, changes: &[(&str, &str)]) -> String {
    changes.iter().fold(text.to_owned(), |text, (from, to)| {
        assert!(text.contains(from), "nothing to replace: {from}");
        text.replace(from, to)
    })
}

#[test]
fn keys_that_change_places_turn_one_message_into_another() {
    let two = |a: &str, b: &str, fields: (&str, &str)| {
        format!(
            "{BUS}message Upper {{ id {a}\n from device\n on bus\n {}\n }}\nmessage Lower {{ id {b}\n from device\n on bus\n {}\n }}\n",
            fields.0, fields.1
        )
    };
    let alike = ("depth : u16 mm", "depth : u16 mm");
    assert_eq!(verdicts(&two("1", "2", alike), &two("2", "1", alike)), [Misread, Misread, Fine, Fine]);
    // The same with other names of the fields: whoever reads them, reads another message.
    let named = ("depth : u16 mm", "flow : u16 l");
    assert_eq!(verdicts(&two("1", "2", named), &two("2", "1", named)), [Misread, Misread, Fine, Fine]);
    // Bodies that are too short are refused; the longer ones are read, with bytes left over, as the shorter message.
    let sized = ("depth : u16 mm", "depth : u32 mm");
    assert_eq!(verdicts(&two("1", "2", sized), &two("2", "1", sized)), [Misread, Misread, Fine, Fine]);
    // A third key for one of them is known to nobody.
    assert_eq!(verdicts(&two("1", "2", alike), &two("1", "3", alike)), [Refused, Refused, Fine, Fine]);
    // The host's messages are those that the other pairs are about.
    let asks = two("1", "2", alike).replace("from device", "from host");
    let turned = two("2", "1", alike).replace("from device", "from host");
    assert_eq!(verdicts(&asks, &turned), [Fine, Fine, Misread, Misread]);
}

#[test]
fn identifiers_and_patterns_that_nobody_listens_for_are_silence() {
    let can = |a: &str, b: &str| {
        format!(
            "{POWER}message Level {{ from device\n on power can_id {a}\n depth : u16 mm\n }}\nmessage Flow {{ from device\n on power can_id {b}\n \
             flow : u16 mm\n }}\n"
        )
    };
    assert_eq!(verdicts(&can("0x100", "0x101"), &can("0x110", "0x101")), [SilentDrop, SilentDrop, Fine, Fine]);
    assert_eq!(verdicts(&can("0x100", "0x101"), &can("0x101", "0x100")), [Misread, Misread, Fine, Fine]);
    // One that is taken away is dropped by the new host; the old one only misses it.
    let alone = can("0x100", "0x101");
    let alone = &alone[..alone.find("message Flow").unwrap()];
    assert_eq!(verdicts(&can("0x100", "0x101"), alone), [SilentDrop, FineWithLoss, Fine, Fine]);
    assert_eq!(verdicts(alone, &can("0x100", "0x101")), [Fine, FineWithLoss, Fine, Fine]);
    let line = |pattern: &str| {
        format!(
            "channel console {{ medium uart 9600 8N1\n lines lf\n }}\nmessage Say {{ from device\n on console\n line \"{pattern}\"\n a : u8\n b : u8\n }}\n"
        )
    };
    assert_eq!(verdicts(&line("S{a},{b}"), &line("S{b},{a}")), [Misread, Misread, Fine, Fine]);
    assert_eq!(verdicts(&line("S{a},{b}"), &line("S{a};{b}")), [SilentDrop, SilentDrop, Fine, Fine]);
    // Where a frame has a key and a checksum, the receiver sees it, and refuses.
    let bus = format!(
        "{BUS}message Level {{ id 1\n from device\n on bus\n depth : u16 mm\n }}\nmessage Stop {{ id 9\n from device\n on bus\n }}\n"
    );
    let gone = &bus[..bus.find("message Stop").unwrap()];
    assert_eq!(verdicts(&bus, gone), [Refused, FineWithLoss, Fine, Fine]);
    // Other sync bytes are not found, another speed is not heard, another checksum is refused.
    assert_eq!(verdicts(&bus, &with(&bus, &[("sync C6 39", "sync C6 3A")])), [SilentDrop, SilentDrop, Fine, Fine]);
    assert_eq!(verdicts(&bus, &with(&bus, &[("uart 9600", "uart 19200")])), [SilentDrop, SilentDrop, Fine, Fine]);
    assert_eq!(verdicts(&bus, &with(&bus, &[("crc-16/arc", "crc-16/ibm-3740")])), [Refused, Refused, Fine, Fine]);
}

#[test]
fn forms_and_entries_that_change_places_are_misread() {
    let forms = |a: &str, b: &str| {
        format!(
            "{BUS}message Reading {{ id 1\n from device\n on bus\n what : u8\n value : by what {{\n {a} level : u16 mm\n {b} flow : u16 mm\n }} }}\n"
        )
    };
    assert_eq!(verdicts(&forms("1", "2"), &forms("2", "1")), [Misread, Misread, Fine, Fine]);
    assert_eq!(verdicts(&forms("1", "2"), &forms("1", "3")), [Refused, Refused, Fine, Fine]);
    let table = |entries: &str| {
        format!(
            "{BUS}table Settings : u8 {{\n {entries} }}\nmessage Write {{ id 1\n from host\n on bus\n setting : key of Settings\n \
             value : value of Settings by setting\n }}\n"
        )
    };
    let old = "1 ramp : u16 s read write\n 2 hold : u16 s read write\n";
    // Two entries of the same form: only their names tell that one is taken for the other.
    let turned = "2 ramp : u16 s read write\n 1 hold : u16 s read write\n";
    assert_eq!(verdicts(&table(old), &table(turned)), [Fine, Fine, Misread, Misread]);
    let moved = "3 ramp : u16 s read write\n 2 hold : u16 s read write\n";
    assert_eq!(verdicts(&table(old), &table(moved)), [Fine, Fine, Refused, Refused]);
    let more = format!("{old} 3 brake : u16 s read write\n");
    assert_eq!(verdicts(&table(old), &table(&more)), [Fine, Fine, Fine, FineWithLoss]);
    let less = "1 ramp : u16 s read write\n";
    assert_eq!(verdicts(&table(old), &table(less)), [Fine, Fine, Refused, Fine]);
    let named = "1 slope : u16 s read write\n 2 hold : u16 s read write\n";
    assert_eq!(verdicts(&table(old), &table(named)), [Fine; 4]);
    let other = "1 ramp : u16 s read write\n 2 hold : u16 ms read write\n";
    assert_eq!(verdicts(&table(old), &table(other)), [Fine, Fine, Misread, Misread]);
}

/// One code of hundreds, which random values hardly ever meet: every code at which something changes is tried.
#[test]
fn one_code_of_many_is_found() {
    let link = |a: u32, b: u32| {
        let labels: String = (0..400u32)
            .map(|n| match n {
                217 => format!(" {a} left\n"),
                218 => format!(" {b} right\n"),
                n => format!(" {n} label_{n}\n"),
            })
            .collect();
        format!("{BUS}enum Many : u16 {{\n{labels}}}\nmessage Turn {{ id 1\n from device\n on bus\n way : Many\n }}\n")
    };
    assert_eq!(verdicts(&link(217, 218), &link(218, 217)), [Misread, Misread, Fine, Fine]);
    let range = |high: u32| {
        format!("{BUS}message Level {{ id 1\n from device\n on bus\n depth : 0 .. {high} mm step 1\n more : u8\n }}\n")
    };
    // The same 16 bits; codes beyond the old range are marked as unknown.
    assert_eq!(verdicts(&range(40_000), &range(40_001)), [Fine, FineWithLoss, Fine, Fine]);
}

#[test]
fn records_of_another_type_are_read_by_the_names_of_their_fields() {
    let link = |records: &str, ty: &str| {
        format!("{BUS}{records}message Level {{ id 1\n from device\n on bus\n place : {ty}\n }}\n")
    };
    let spot = "record Spot {\n x : u8 m\n y : u8 m\n }\n";
    // A record of the same fields under another name is the same.
    assert_eq!(verdicts(&link(spot, "Spot"), &link(&spot.replace("Spot", "Place"), "Place")), [Fine; 4]);
    // With its fields turned it is not, whatever it is called.
    let turned = "record Place {\n y : u8 m\n x : u8 m\n }\n";
    assert_eq!(verdicts(&link(spot, "Spot"), &link(turned, "Place")), [Misread, Misread, Fine, Fine]);
    let same = turned.replace("Place", "Spot");
    assert_eq!(verdicts(&link(spot, "Spot"), &link(&same, "Spot")), [Misread, Misread, Fine, Fine]);
    let coarse = "record Place {\n x : u8 * 2 m\n y : u8 m\n }\n";
    assert_eq!(verdicts(&link(spot, "Spot"), &link(coarse, "Place")), [Misread, Misread, Fine, Fine]);
}

#[test]
fn defaults_stand_for_what_a_sender_lacks() {
    let link = |section: &str| {
        format!("{BUS}message Level {{ id 1\n from device\n on bus\n depth : u16 mm\n {section}\n }}\n")
    };
    // Without a default it is absent, with one it is what the definition says: both are as they are meant.
    for ty in ["u8 V", "u8 V = 12", "u8 V = 0", "u8 V or none", "u8 V optional", "text[..4]"] {
        let new = link(&format!("added in 3 {{\n supply : {ty}\n }}"));
        assert_eq!(verdicts(&link(""), &new), [Fine, FineWithLoss, Fine, Fine], "{ty}");
    }
    let of = |default: &str| link(&format!("added in 2 {{\n supply : u8 V = {default}\n }}"));
    assert_eq!(verdicts(&of("12"), &of("13")), [Fine; 4]);
    // In space that was there before, zeros are sent: they are the default, or they are taken for a reading.
    let spare = link("spare 8 bits");
    assert_eq!(verdicts(&spare, &link("supply : u8 V = 0")), [Fine, FineWithLoss, Fine, Fine]);
    assert_eq!(verdicts(&spare, &link("supply : u8 V = 12")), [Misread, FineWithLoss, Fine, Fine]);
    assert_eq!(verdicts(&spare, &link("supply : u8 V")), [Misread, FineWithLoss, Fine, Fine]);
}

#[test]
fn units_are_compared_by_what_they_are_and_not_by_how_they_are_spelt() {
    let link = |unit: &str| format!("{BUS}message Level {{ id 1\n from device\n on bus\n warm : i8 {unit}\n }}\n");
    assert_eq!(verdicts(&link("degC"), &link("\"°C\"")), [Fine; 4]);
    assert_eq!(verdicts(&link("us"), &link("\"µs\"")), [Fine; 4]);
    assert_eq!(verdicts(&link("degC"), &link("degF")), [Misread, Misread, Fine, Fine]);
    assert_eq!(verdicts(&link("ms"), &link("us")), [Misread, Misread, Fine, Fine]);
}

#[test]
fn each_difference_has_evidence_of_its_own() {
    let link = |around: &str, sync: &str| {
        format!(
            "channel bus {{ medium uart 9600 8N1\n {around}\n frame {{ {sync}\n kind : u8 message\n size : u8 length of body\n body\n \
             check : u16 crc-16/arc over kind..body\n }} }}\nmessage Level {{ id 1\n from device\n on bus\n depth : u16 mm\n }}\n\
             message Ask {{ id 2\n from host\n on bus\n }}\n"
        )
    };
    let (old, new) = both(&link("limit 64 bytes", "sync C6 39"), &link("limit 60 bytes\n stuffing cobs", ""));
    let comparison = compare(&old, &new);
    let of = |comparison: &Comparison, name: &str| {
        let change = comparison.changes.iter().find(|change| change.difference.to_string() == name);
        change.unwrap_or_else(|| panic!("no {name}")).clone()
    };
    assert_eq!(of(&comparison, "bus: limit").worst(), Fine);
    assert_eq!(of(&comparison, "bus: framing").worst(), SilentDrop);
    // The worst of all stays what it was.
    assert!(Pair::ALL.iter().all(|pair| comparison.worst(*pair).strands()));
    // A key and a field that both strand are blamed both, each for its own.
    let fields = |id: u8, ty: &str| {
        format!("{BUS}message Level {{ id {id}\n from device\n on bus\n depth : {ty}\n more : u8\n }}\n")
    };
    let (old, new) = both(&fields(1, "u16 mm"), &fields(3, "u16 cm"));
    let comparison = compare(&old, &new);
    assert_eq!(of(&comparison, "Level: key").judgement(Pair::OldDeviceNewHost).verdict, Refused);
}

/// A good frame: the receiver's message, its fields, the node, the sequence number.
type Taken = (usize, Map<String, Json>, Option<u64>, Option<u64>);

/// What a receiver of another revision made of one frame.
#[derive(Default)]
struct Heard {
    good: Vec<Taken>,
    faults: usize,
}

struct Ear<'a> {
    reader: BodyReader,
    plan: &'a Plan,
    heard: Heard,
}

impl FrameSink for Ear<'_> {
    fn accept(&mut self, frame: &FrameView<'_>) -> Result<(), FrameFault> {
        self.reader.check(frame, &Requests::default())
    }
    fn good(&mut self, _: Range<u64>, frame: &FrameView<'_>, _: &[u8]) {
        let message = self.reader.message();
        let row = row(self.plan, message, self.reader.values(frame));
        self.heard.good.push((message.index(), row, frame.node, frame.sequence));
    }
    fn unread(&mut self, _: Range<u64>, _: Option<&FrameView<'_>>, _: &FrameFault, _: &[u8]) {
        self.heard.faults += 1;
    }
    fn broken(&mut self, _: Range<u64>, _: &FrameFault, _: &[u8]) {
        self.heard.faults += 1;
    }
    fn stray(&mut self, _: Range<u64>, _: &[u8]) {}
}

fn row(plan: &Plan, message: MessageId, values: &Values) -> Map<String, Json> {
    let mut text = String::new();
    write_fields(&plan.messages[message], values, Writing::default(), &mut text).unwrap();
    serde_json::from_str(&text).unwrap()
}

/// The least that is wrong, if a row stands for another: by the names and values in both.
fn least(sent: &Map<String, Json>, read: &Map<String, Json>, old: &[Field], new: &[Field]) -> Verdict {
    let mut worst = Fine;
    for (name, value) in sent {
        let fields = [old, new].map(|fields| fields.iter().find(|field| field.name == *name && !field.is_spare()));
        let [Some(one), Some(other)] = fields else { continue };
        worst = worst.max(match read.get(name) {
            // It is there for the receiver, too, and was said.
            None if !value.is_null() => FineWithLoss,
            None => Fine,
            Some(there) => least_of(value, there, one, other),
        });
    }
    worst
}

fn least_of(sent: &Json, read: &Json, one: &Field, other: &Field) -> Verdict {
    let is_raw = |value: &Json| value.as_object().is_some_and(|object| object.contains_key("raw"));
    if is_raw(sent) || is_raw(read) {
        return if sent == read { Fine } else { FineWithLoss };
    }
    match (sent, read) {
        (Json::Number(a), Json::Number(b)) => {
            let (a, b) = (a.as_f64().unwrap(), b.as_f64().unwrap());
            let step = step(one).max(step(other));
            let units = !one.unit.is_empty() && !other.unit.is_empty() && one.unit != other.unit;
            // Shown with the decimals of the step, which can be half of the last one off.
            if units || (a - b).abs() > 1.6 * step { Misread } else { Fine }
        }
        (Json::String(a), Json::String(b)) if a != b => match (labels(one), labels(other)) {
            (Some(old), Some(new)) if old.named(b).is_some() || new.named(a).is_some() => Misread,
            (Some(_), Some(_)) => Fine,
            (None, None) if matches!((&one.kind, &other.kind), (Kind::Text { .. }, Kind::Text { .. })) => {
                if a.trim_end_matches('\0') == b.trim_end_matches('\0') { Fine } else { Misread }
            }
            _ => Fine,
        },
        (Json::Bool(a), Json::Bool(b)) if a != b => Misread,
        (Json::Null, Json::Number(_)) | (Json::Number(_), Json::Null) => Misread,
        (Json::Array(a), Json::Array(b)) => match (&one.kind, &other.kind) {
            (Kind::List { .. }, Kind::List { .. }) if a.len() != b.len() => Misread,
            (Kind::List { element: one, .. }, Kind::List { element: other, .. }) => {
                a.iter().zip(b).map(|(a, b)| least_of(a, b, one, other)).max().unwrap_or_default()
            }
            (Kind::Flags(old), Kind::Flags(new)) => {
                let only = |some: &[Json], others: &[Json], there: &Labelled| {
                    some.iter()
                        .filter(|flag| !others.contains(flag))
                        .any(|flag| flag.as_str().is_some_and(|name| there.named(name).is_some()))
                };
                if only(a, b, new) || only(b, a, old) { Misread } else { Fine }
            }
            _ => Fine,
        },
        (Json::Object(a), Json::Object(b)) => match (&one.kind, &other.kind) {
            (Kind::Record(one), Kind::Record(other)) => least(a, b, &one.fields, &other.fields),
            (Kind::Union(one), Kind::Union(other)) => {
                let (Some((form, value)), Some((taken, there))) = (a.iter().next(), b.iter().next()) else {
                    return Fine;
                };
                let find = |union: &emberwort_model::model::Union, name: &str| {
                    union.cases.iter().find(|case| case.field.name == name).map(|case| case.field.clone())
                };
                match (find(one, form), find(other, taken)) {
                    (Some(one), Some(other)) if form == taken => least_of(value, there, &one, &other),
                    (Some(_), Some(_)) if find(other, form).is_some() || find(one, taken).is_some() => Misread,
                    _ => Fine,
                }
            }
            _ => Fine,
        },
        _ => Fine,
    }
}

fn labels(field: &Field) -> Option<&Labelled> {
    match &field.kind {
        Kind::Enum { labels, .. } => Some(labels),
        _ => None,
    }
}

/// The step of a number, from the relation that its definition states.
fn step(field: &Field) -> f64 {
    match &field.kind {
        Kind::Number(form) | Kind::Varint(form) => {
            let (_, step, divisor) = form.scaling.parts();
            (step as f64 / divisor as f64).abs()
        }
        _ => 0.0,
    }
}

/// How the parts of a channel's frames lie and are checked, as text.
fn parts(plan: &Plan, channel: ChannelId) -> String {
    format!("{:?} {:?}", plan.link.byte_order, plan.channels[channel].direction(End::Device).parts)
}

#[test]
fn an_experiment_with_rules_of_its_own_finds_nothing_worse_than_the_verdicts() {
    let seed = std::env::var("EMBERWORT_EDITS").ok().and_then(|seed| seed.parse().ok()).unwrap_or(1);
    let mut random = ChaCha8Rng::seed_from_u64(seed);
    let mut observed: BTreeMap<Verdict, u32> = BTreeMap::new();
    let mut wrong = Vec::new();
    let mut done = 0;
    while done < 300 {
        let definition = Definition::random(&mut random);
        let Some(old) = try_revision("old", &definition.text()) else { continue };
        for _ in 0..10 {
            let mut edited = definition.clone();
            let what: Vec<_> = (0..*[1, 1, 2].choose(&mut random).unwrap()).map(|_| edited.edit(&mut random)).collect();
            let Some(new) = try_revision("new", &edited.text()) else { continue };
            if what.contains(&"message renamed") {
                continue;
            }
            done += 1;
            let comparison = compare(&old, &new);
            for pair in Pair::ALL {
                let (sender, receiver) =
                    if pair.sender_is_old() { (&old.plan, &new.plan) } else { (&new.plan, &old.plan) };
                experiment(pair, sender, receiver, &comparison, &mut random, &mut |message, sent, read, least| {
                    *observed.entry(least).or_default() += 1;
                    let expected = comparison.expected(pair, sender, MessageId::new(message));
                    if least > expected && wrong.len() < 5 {
                        wrong.push(format!(
                            "{what:?}, {pair:?}: said to be {expected:?}, is at least {least:?}: {sent} became {read}"
                        ));
                    }
                });
            }
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
    // It sees enough of each.
    println!("{observed:?}");
    for verdict in [Fine, FineWithLoss, Refused, Misread] {
        assert!(observed.get(&verdict).is_some_and(|count| *count >= 300), "{observed:?}");
    }
}

/// Sends samples of each message, and says what was sent, what was read, and how wrong that is at least.
fn experiment(
    pair: Pair,
    sender: &Arc<Plan>,
    receiver: &Arc<Plan>,
    comparison: &Comparison,
    random: &mut ChaCha8Rng,
    say: &mut dyn FnMut(usize, String, String, Verdict),
) {
    for (message, own) in sender.link.messages.iter().enumerate().filter(|(_, own)| own.from == pair.from()) {
        for channel in &own.channels {
            let name = &sender.channels[*channel].name;
            let Some(there) = receiver.channels.iter().position(|other| other.name == *name) else { continue };
            if sender.channels[*channel].medium.kind != receiver.channels[there].medium.kind {
                let is_missed = receiver
                    .link
                    .messages
                    .iter()
                    .any(|other| other.name == own.name && other.channels.contains(&ChannelId::new(there)));
                let expected = comparison.expected(pair, sender, MessageId::new(message));
                assert!(!is_missed || expected >= SilentDrop, "{name} runs at another speed: {expected:?}");
                continue;
            }
            let [sends, hears] = [(sender, *channel), (receiver, ChannelId::new(there))]
                .map(|(plan, at)| plan.channels[at].direction(pair.from()).clone());
            let is_laid_out_otherwise = parts(sender, *channel) != parts(receiver, ChannelId::new(there));
            let known = receiver
                .link
                .messages
                .iter()
                .find(|other| other.name == own.name && other.channels.contains(&ChannelId::new(there)));
            let (framing, listens) = (Framing::new(sends.clone()), Arc::new(Framing::new(hears)));
            for n in 0..12 {
                let count = own.fields.len();
                let choice = [Choice::Middle, Choice::Greatest, Choice::Least, Choice::None];
                let choices: Vec<Choice> = match choice.get(n) {
                    Some(choice) => vec![*choice; count],
                    None => (0..count).map(|_| if random.random() { Choice::Random } else { Choice::Small }).collect(),
                };
                let mut values = Values::default();
                let mut chooser = Chooser::new(sender, sender.link.revision, random);
                chooser.message(MessageId::new(message), &choices, &mut values);
                let header = chooser.header(&sends, MessageId::new(message));
                let (mut body, mut wire) = (Vec::new(), Vec::new());
                let encoded = body_on(&sends, &sender.messages[message], &values, sender.link.revision, &mut body)
                    .is_ok()
                    .then(|| framing.encode(&header, &body, &mut wire));
                if !matches!(encoded, Some(Ok(()))) {
                    continue;
                }
                let mut ear = Ear {
                    reader: BodyReader::new(receiver.clone(), ChannelId::new(there), Some(pair.from())),
                    plan: receiver,
                    heard: Heard::default(),
                };
                let mut ears = Receiver::new(listens.clone());
                match listens.plan().key_is_outside() {
                    true => ears.feed_packet(header.key, &wire, &mut ear),
                    false => ears.feed(&wire, &mut ear),
                }
                ears.silence(&mut ear);
                ears.finish(&mut ear);
                let sent = row(sender, MessageId::new(message), &values);
                let mut worst = match (ear.heard.good.is_empty(), known) {
                    (true, Some(_)) => FineWithLoss,
                    _ => Fine,
                };
                if ear.heard.good.is_empty() && known.is_some() {
                    // Entries that only a new sender has are news, and nothing is wrong with them.
                    let of_table = own
                        .fields
                        .iter()
                        .any(|field| matches!(&field.kind, Kind::Union(union) if union.table.is_some()));
                    worst = if of_table { FineWithLoss } else { Refused };
                }
                for (taken, read, node, sequence) in &ear.heard.good {
                    let other = &receiver.link.messages[*taken];
                    let mut least = match other.name == own.name && other.from == own.from {
                        true => least(&sent, read, &own.fields, &other.fields),
                        false if other.from == own.from => Misread,
                        false => Refused,
                    };
                    let says = |role: Role| sends.part(|own| *own == role).is_some();
                    if (says(Role::Address) && node.is_some_and(|node| node != header.node))
                        || (says(Role::Sequence) && sequence.is_some_and(|number| number != header.sequence))
                    {
                        least = Misread;
                    }
                    // Where frames are laid out or checked otherwise, one can pass by chance.
                    if is_laid_out_otherwise {
                        least = least.min(Refused);
                    }
                    worst = worst.max(least);
                }
                say(message, Json::Object(sent).to_string(), format!("{:?}", ear.heard.good), worst);
            }
        }
    }
}
