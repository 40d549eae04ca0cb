//! Verdicts that need a link of their own: forms, what selects messages, frames without a length, frames that say the node.

use emberwort_evolution::prove::prove;
use emberwort_evolution::{Comparison, DifferenceKind, Order, Pair, Verdict, compare, ways_out, with_ways_out};

use crate::common::revision;

/// Compares two texts, whose revisions are 1 and 2, and puts the verdicts to the test.
fn compared(old: &str, new: &str) -> Comparison {
    let link = |n: u32| format!("link sluice {{\n revision {n}\n byte_order little\n}}\n");
    let (old, new) = (revision("old", &(link(1) + old)), revision("new", &(link(2) + new)));
    let comparison = compare(&old, &new);
    let proof = prove(&old, &new, &comparison, 300, 11);
    assert!(proof.contradictions.is_empty(), "{:#?}", proof.contradictions);
    assert_eq!(proof.outcomes.iter().sum::<u64>(), proof.sent);
    let ways = ways_out(&old, &new, &comparison);
    if !ways.is_empty() {
        let after = compare(&old, &revision("mended", &with_ways_out(&new, &ways)));
        assert!(after.changes.iter().all(|change| !change.worst().strands()), "{:#?}", after.changes);
    }
    comparison
}

fn worst(comparison: &Comparison) -> [Verdict; 4] {
    Pair::ALL.map(|pair| comparison.worst(pair))
}

fn kinds(comparison: &Comparison) -> Vec<DifferenceKind> {
    comparison.changes.iter().map(|change| change.difference.kind).collect()
}

use Verdict::{Fine, FineWithLoss, Misread, Refused, SilentDrop};

const FORMS: &str = "channel bus { medium uart 9600 8N1\n frame { sync A5\n kind : u8 message\n size : u8 length of body\n body\n check : u16 crc-16/arc over kind..body\n } }\n\
    message Reading { id 1\n from device\n on bus\n kind : u8\n value : by kind {\n 1 level : u16 mm\n 2 flow : u16 l\n } }\n";

#[test]
fn a_form_that_is_not_known_is_refused_unless_there_is_an_else() {
    let more = FORMS.replace(" 2 flow : u16 l\n", " 2 flow : u16 l\n 3 rain : u8 mm\n");
    let comparison = compared(FORMS, &more);
    assert_eq!(kinds(&comparison), [DifferenceKind::Forms]);
    assert_eq!(worst(&comparison), [Fine, Refused, Fine, Fine]);
    assert_eq!(Order::of(&comparison), Order::HostFirst);
    // With an `else` in the field the same addition is a loss.
    let open = FORMS.replace(" 2 flow : u16 l\n", " 2 flow : u16 l\n else unknown : bytes[rest]\n");
    let more = open.replace(" else", " 3 rain : u8 mm\n else");
    assert_eq!(worst(&compared(&open, &more)), [FineWithLoss, FineWithLoss, Fine, Fine]);
    // Forms that change places are misread.
    let turned = FORMS.replace("1 level : u16 mm\n 2 flow : u16 l", "1 flow : u16 l\n 2 level : u16 mm");
    assert_eq!(worst(&compared(FORMS, &turned)), [Misread, Misread, Fine, Fine]);
}

#[test]
fn another_way_to_select_messages_is_heard_by_nobody() {
    let by_part = "channel air { medium udp 4000\n packet\n frame { kind : u8 message\n body\n } }\n\
        message Level { id 2\n from device\n on air\n depth : u16 mm\n }\n";
    let by_port = "channel air { medium udp 4000\n packet\n select by port\n }\n\
        message Level { from device\n on air port 2\n depth : u16 mm\n }\n";
    let comparison = compared(by_part, by_port);
    assert!(kinds(&comparison).contains(&DifferenceKind::Selection), "{:?}", kinds(&comparison));
    assert!(worst(&comparison)[0].strands() && worst(&comparison)[1].strands(), "{:?}", worst(&comparison));
    // One message alone needs no selection, and is read from whatever comes.
    let alone = by_port.replace(" select by port\n", "").replace("air port 2", "air");
    let comparison = compared(&alone, &alone.replace("depth : u16 mm", "depth : u16 mm\n gauge : u8"));
    assert_eq!(worst(&comparison), [Refused, FineWithLoss, Fine, Fine]);
}

#[test]
fn a_longer_message_without_a_length_part_takes_bytes_of_the_next_frame() {
    let link = |fields: &str, check: &str| {
        format!(
            "channel bus {{ medium uart 9600 8N1\n frame {{ sync A5 5A\n kind : u8 message\n body\n {check} }} }}\n\
             message Level {{ id 1\n from device\n on bus\n {fields} }}\n"
        )
    };
    // Two more bytes are those of the next frame's sync, and nothing says so.
    let comparison = compared(&link("depth : u16 mm\n", ""), &link("depth : u16 mm\n flow : u16 l\n", ""));
    assert_eq!(worst(&comparison)[0], Misread);
    let check = "check : u16 crc-16/arc over kind..body\n";
    let comparison = compared(&link("depth : u16 mm\n", check), &link("depth : u16 mm\n flow : u16 l\n", check));
    assert_eq!(worst(&comparison), [Refused, Refused, Fine, Fine]);
}

#[test]
fn parts_that_change_places_turn_one_device_into_another() {
    let link = |parts: &str| {
        format!(
            "channel bus {{ medium uart 9600 8N1\n frame {{ sync A5\n kind : u8 message\n {parts}\n size : u8 length of body\n body\n check : u8 sum8 over kind..body\n }} }}\n\
             message Level {{ id 1\n from device\n on bus\n depth : u16 mm\n }}\nmessage Ask {{ id 2\n from host\n on bus\n }}\n"
        )
    };
    // The sum over all of them is the same in any order.
    let comparison =
        compared(&link("node : u8 address\n count : u8 sequence"), &link("count : u8 sequence\n node : u8 address"));
    assert_eq!(worst(&comparison), [Misread; 4]);
    let judged = comparison.changes[0].judgement(Pair::OldDeviceNewHost);
    assert!(judged.sentence.contains("would be taken for"), "{}", judged.sentence);
    assert_eq!(Order::of(&comparison), Order::AtOnce);
}

#[test]
fn speeds_and_ports_that_differ_are_silence() {
    let link = |medium: &str| {
        let packet = if medium.starts_with("uart") { "sync A5\n" } else { "" };
        let finder = if medium.starts_with("uart") { "" } else { "packet\n" };
        format!(
            "channel c {{ medium {medium}\n {finder} frame {{ {packet} kind : u8 message\n size : u8 length of body\n body\n check : u8 sum8 over kind..body\n }} }}\n\
             message Level {{ id 1\n from device\n on c\n depth : u16 mm\n }}\n"
        )
    };
    for (old, new, expected) in [
        ("uart 9600 8N1", "uart 9600 8E1", [SilentDrop, SilentDrop, Fine, Fine]),
        // Two stop bits are one and a pause; one is too few for a receiver of two.
        ("uart 9600 8N1", "uart 9600 8N2", [SilentDrop, Fine, Fine, Fine]),
        ("udp 4000", "udp 4001", [SilentDrop, SilentDrop, Fine, Fine]),
        ("lora sf9 125 kHz 4/5", "lora sf9 125 kHz 4/8", [Fine; 4]),
        ("lora sf9 125 kHz 4/5", "lora sf10 125 kHz 4/5", [SilentDrop, SilentDrop, Fine, Fine]),
        ("can 250 kbit/s", "can 250 kbit/s fd 1 Mbit/s", [Fine, SilentDrop, Fine, Fine]),
        ("spi 2 MHz", "spi 4 MHz", [Fine; 4]),
        ("udp 4000", "lora sf9 125 kHz 4/5", [SilentDrop, SilentDrop, Fine, Fine]),
    ] {
        let comparison = compared(&link(old), &link(new));
        assert_eq!(worst(&comparison), expected, "{old} to {new}");
        assert_eq!(kinds(&comparison)[0], DifferenceKind::Medium, "{old} to {new}");
    }
}

#[test]
fn a_difference_that_another_one_hides_is_judged_by_itself() {
    let link = "channel bus { medium uart 9600 8N1\n frame { sync A5\n kind : u8 message\n size : u8 length of body\n body\n check : u16 crc-16/arc over kind..body\n } }\n\
        enum State : u8 {\n 0 shut\n 1 open\n }\n\
        message Level { id 1\n from device\n on bus\n first : u8\n depth : u16 mm\n state : State\n }\n";
    let new = link
        .replace(" first : u8\n", " first : u8\n more : u32\n")
        .replace("u16 mm", "u16 cm")
        .replace(" 1 open\n", " 1 open\n 2 held\n");
    let comparison = compared(link, &new);
    let judged = |kind: DifferenceKind, pair: Pair| {
        let change = comparison.changes.iter().find(|change| change.difference.kind == kind).unwrap();
        change.judgement(pair).clone()
    };
    // The old device's body is too short for the new host, whatever the unit.
    let unit = judged(DifferenceKind::Unit, Pair::OldDeviceNewHost);
    assert_eq!((unit.verdict, unit.example), (Misread, None));
    assert!(unit.sentence.starts_with("by itself, depth ") && unit.sentence.ends_with(" cm"), "{}", unit.sentence);
    assert_eq!(judged(DifferenceKind::LabelAdded, Pair::NewDeviceOldHost).verdict, FineWithLoss);
    assert_eq!(judged(DifferenceKind::FieldInserted, Pair::OldDeviceNewHost).verdict, Refused);
}

#[test]
fn a_thousand_messages_are_compared_while_one_waits() {
    let link = |change: &str| {
        let mut text = String::from(
            "channel bus { medium uart 115200 8N1\n frame { sync C6 39\n kind : u16 message\n size : u8 length of body\n body\n \
             check : u16 crc-16/arc over kind..body\n } }\n",
        );
        for n in 0..1000 {
            let more = if n == 500 { change } else { "" };
            text += &format!(
                "message M{n} {{ id {n}\n from device\n on bus\n {more} a : u16 mm\n b : 0 .. 250 bar in 12 bits\n c : text[..9]\n }}\n"
            );
        }
        text
    };
    let comparison = compared(&link(""), &link("first : u8\n"));
    assert_eq!(kinds(&comparison), [DifferenceKind::FieldInserted]);
    // Only what a difference touches was tried.
    assert!(comparison.tried < 20_000 && comparison.messages.len() == 2, "{} tried", comparison.tried);
}

#[test]
#[ignore = "prints times, for docs/performance.md"]
fn times_of_a_thousand_messages() {
    let link = |order: &str, first: &dyn Fn(usize) -> bool| {
        let mut text = format!(
            "link many {{\n revision 1\n byte_order {order}\n}}\nchannel bus {{ medium uart 115200 8N1\n frame {{ sync C6 39\n \
             kind : u16 message\n size : u8 length of body\n body\n check : u16 crc-16/arc over kind..body\n }} }}\n"
        );
        for n in 0..1000 {
            let more = if first(n) { "first : u8\n" } else { "" };
            text += &format!(
                "message M{n} {{ id {n}\n from device\n on bus\n {more} a : u16 mm\n b : 0 .. 250 bar in 12 bits\n c : text[..9]\n }}\n"
            );
        }
        text
    };
    let old_text = link("little", &|_| false);
    for (what, new) in [
        ("one message changed", link("little", &|n| n == 500)),
        ("every message changed", link("little", &|_| true)),
        ("another byte order", link("big", &|_| false)),
    ] {
        let start = std::time::Instant::now();
        let (old, new) = (revision("old", &old_text), revision("new", &new));
        let read = start.elapsed();
        let start = std::time::Instant::now();
        let comparison = compare(&old, &new);
        let compared = start.elapsed();
        let ways = ways_out(&old, &new, &comparison);
        println!(
            "{what}: read {read:?}, compared {compared:?}, {} ways out {:?}",
            ways.len(),
            start.elapsed() - compared
        );
    }
}
