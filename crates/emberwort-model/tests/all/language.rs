//! What the language means: the examples of the documentation, and every construct's effect on model, plan and layout.

use emberwort_model::algorithm::Algorithm;
use emberwort_model::diagnostics::{Code, escaped, nearest};
use emberwort_model::ids::{ChannelId, MessageId};
use emberwort_model::layout::{byte_bit, rows};
use emberwort_model::medium::UartFormat;
use emberwort_model::model::{ByteOrder, End, Kind, Length, LinePiece, MediumKind, Value, section_revisions};
use emberwort_model::plan::{Action, Bound, FrameFinder, Place, Role, Zone};
use emberwort_model::{Plan, Source, check};

fn plan(text: &str) -> Plan {
    let checked = check(&Source::new("test.ember", text));
    assert_eq!(checked.findings, [], "{text}");
    checked.plan.unwrap()
}

fn link(order: &str, items: &str) -> Plan {
    plan(&format!("link l {{ revision 5  byte_order {order} }}\n{items}"))
}

fn codes(text: &str) -> Vec<&'static str> {
    check(&Source::new("test.ember", text)).findings.iter().map(|finding| finding.code.as_str()).collect()
}

#[test]
fn every_example_of_the_language_page_is_clean() {
    let page = include_str!("../../../../docs/language.md");
    let examples: Vec<&str> = page.split("```ember\n").skip(1).map(|rest| rest.split("```").next().unwrap()).collect();
    assert!(examples.len() >= 10);
    for example in examples {
        let checked = check(&Source::new("language.md", example));
        let errors: Vec<_> = checked.findings.iter().filter(|finding| finding.is_error()).collect();
        assert!(errors.is_empty(), "{errors:#?}\n{example}");
        assert_eq!(emberwort_model::tidy::tidy(example).as_deref(), Ok(example), "not tidy");
    }
    // What the page says of the first example's supply: 0 .. 30 V in 10 bits.
    assert!(page.contains("supply      : 0 .. 30 V in 10 bits"));
}

#[test]
fn a_message_says_who_when_where_and_what_answers() {
    let plan = link(
        "little",
        "channel a { medium uart 9600 8E2\n limit 20 bytes\n frame { sync AA 55\n k : u8 message\n n : u8 length of body\n body } }
         channel b { medium udp 4000\n packet\n frame { k : u8 message\n body } }
         ## First line.
         ## Second line.
         message Ask { id 0x1F  from host  on b, a  answered by Answer within 11.5 ms }
         message Answer { id 7  from device every 2 min  on a  level : u8 }",
    );
    let ask = &plan.messages[0].message;
    assert_eq!((ask.id, ask.from, ask.every), (Some(0x1F), End::Host, None));
    assert_eq!(
        (ask.channels.as_slice(), ask.answered_by.as_slice()),
        (&[ChannelId::new(1), ChannelId::new(0)][..], &[MessageId::new(1)][..])
    );
    assert_eq!((ask.within, ask.doc.as_str()), (Some(11_500_000), "First line.\nSecond line."));
    let answer = &plan.messages[1].message;
    assert_eq!((answer.every, answer.from), (Some(120_000_000_000), End::Device));
    let a = plan.channels[0].direction(End::Device);
    assert_eq!(a.medium.kind, MediumKind::Uart(UartFormat { parity: 'E', stop_halves: 4, ..UartFormat::usual(9600) }));
    assert_eq!((a.finder, a.limit, a.head_bytes, a.tail_bytes), (FrameFinder::Sync, 20, 4, 0));
    assert_eq!(a.keys, [(7, MessageId::new(1)), (0x1F, MessageId::new(0))]);
    assert_eq!((a.message_of(7), a.message_of(8), a.greatest_body), (Some(MessageId::new(1)), None, 1));
    let b = plan.channels[1].direction(End::Device);
    assert_eq!((b.finder, b.limit), (FrameFinder::Packet, 1472));
    assert_eq!(b.medium.kind, MediumKind::Udp { port: 4000, ipv6: false, bitrate: 100_000_000 });
    assert!(b.carries(MessageId::default()) && !b.carries(MessageId::new(1)));
}

#[test]
fn the_bits_of_ranges_follow_from_their_codes() {
    let bits = |ty: &str| {
        let plan = link("little", &format!("message M {{ from host\n a : {ty} }}"));
        match plan.messages[0].message.fields[0].kind {
            Kind::Number(form) => (form.bits, form.low, form.high, form.none),
            ref other => panic!("{other:?}"),
        }
    };
    assert_eq!(bits("0 .. 100 % step 0.5"), (8, 0, 200, None));
    assert_eq!(bits("-1.5 .. 9.5 m step 0.005"), (12, 0, 2200, None));
    assert_eq!(bits("-1.5 .. 9.5 m step 0.005 or none"), (12, 0, 2200, Some(4095)));
    // 256 codes fill 8 bits; `none` needs one more.
    assert_eq!(bits("0 .. 255 step 1"), (8, 0, 255, None));
    assert_eq!(bits("0 .. 255 step 1 or none"), (9, 0, 255, Some(511)));
    assert_eq!(bits("0 .. 1 step 1"), (1, 0, 1, None));
    assert_eq!(bits("5 .. 6 step 0.25 or none"), (3, 0, 4, Some(7)));
    assert_eq!(bits("0 .. 250 bar in 12 bits"), (12, 0, 4095, None));
    assert_eq!(bits("0 .. 250 bar in 12 bits or none"), (12, 0, 4094, Some(4095)));
    assert_eq!(bits("u7"), (7, 0, 127, None));
    assert_eq!(bits("u7 or none"), (7, 0, 126, Some(127)));
    assert_eq!(bits("i7 or none"), (7, -63, 63, Some(-64)));
    assert_eq!(bits("u64 or none"), (64, 0, i128::from(u64::MAX) - 1, Some(i128::from(u64::MAX))));
    assert_eq!(bits("0 .. 18446744073709551615 step 1"), (64, 0, i128::from(u64::MAX), None));
}

#[test]
fn units_are_free_words_or_quoted() {
    let plan = link(
        "little",
        "message M { from host
            a : u8 m/s^2
            b : i8 %
            c : u16 * 0.1 + 20 degC = 21.5
            d : 0 .. 10 \"1/min\" step 1
            e : f32 \"in\" optional
            f : 0 .. 10 kN*m in 4 bits or none
            g : u8 optional
         }",
    );
    let units: Vec<&str> = plan.messages[0].message.fields.iter().map(|field| field.unit.as_str()).collect();
    assert_eq!(units, ["m/s^2", "%", "degC", "1/min", "in", "kN*m", ""]);
    assert_eq!(plan.messages[0].message.fields[2].default, Some(Value::Raw(15)));
    assert!(plan.messages[0].message.fields[4].optional && plan.messages[0].message.fields[6].optional);
}

#[test]
fn places_are_fixed_until_something_varies() {
    let plan = link(
        "little",
        "message M { from host
            a : u3
            f : f32
            b : u4 optional
            c : u5
            t : text[..300]
            d : u1
            added in 3 { e : u8  spare 4 bits  g : bool }
            added in 5 { h : u2 optional }
         }",
    );
    let message = &plan.messages[0];
    assert_eq!(section_revisions(&message.message.fields), [1, 3, 5]);
    let places: Vec<Place> = message.sections[0].steps.iter().map(|step| step.place).collect();
    let behind = |aligned| Place::Behind { aligned };
    // A presence byte, a at bit 8, f at the next byte boundary, b behind it; from b on the size varies.
    assert_eq!(
        places,
        [Place::Fixed(8), Place::Fixed(16), Place::Fixed(48), behind(false), behind(true), behind(false)]
    );
    assert!(matches!(message.sections[0].steps[4].action, Action::Run { length: Length::UpTo(300), text: true }));
    // Without b and with an empty text: 6 bytes, 5 bits filled up to 8, a count of 2 bytes, one bit.
    assert_eq!((message.sections[0].least_size, message.sections[0].greatest_size), (10, 311));
    assert_eq!((message.sections[1].least_size, message.sections[1].fixed), (2, true));
    assert_eq!((message.sections[2].least_size, message.sections[2].greatest_size), (1, 2));
    assert_eq!(
        (message.sections_of(1), message.sections_of(2), message.sections_of(3), message.sections_of(9)),
        (1, 1, 2, 3)
    );
    assert_eq!((message.least_size(), message.greatest_size()), (13, 315));
}

#[test]
fn layout_rows_show_places_codes_and_values() {
    let items = "enum Mode : u3 { 0 off  1 on }
        message M { from host
            mode : Mode or none
            level : 0 .. 10 m step 0.5 or none
            t : i12 * 0.25 degC
            name : text[..4] = \"x\"
            added in 2 { on : bool = true  spare 7 bits }
        }";
    let shown = |order: &str| -> Vec<String> {
        let plan = link(order, items);
        rows(&plan.messages[0])
            .iter()
            .map(|row| {
                format!(
                    "{} {} {} | {} | {} {} {}",
                    row.field, row.place, row.bits, row.raw, row.physical, row.unit, row.default
                )
            })
            .collect()
    };
    assert_eq!(
        shown("little"),
        [
            "mode 0.0 3 | 0 .. 7, none 7 | Mode: 2 labels  ",
            "level 0.3 5 | 0 .. 20, none 31 | 0.0 .. 10.0 m ",
            "t 1.0 12 | -2048 .. 2047 | -512.00 .. 511.75 degC ",
            "(fill) 2.4 4 |  | zero  ",
            "name 3.0 8 .. 40 |  | text, 0 .. 4 bytes  \"x\"",
            "on +0.0 1 | 0 .. 1 | false, true  true",
            "(spare) +0.1 7 |  | sent as zero, ignored  ",
        ]
    );
    let big: Vec<String> = shown("big").iter().map(|row| row.split(" | ").next().unwrap().to_owned()).collect();
    assert_eq!(
        big,
        ["mode 0.7 3", "level 0.4 5", "t 1.7 12", "(fill) 2.3 4", "name 3.7 8 .. 40", "on +0.7 1", "(spare) +0.6 7"]
    );
    assert_eq!((byte_bit(13, ByteOrder::Little), byte_bit(13, ByteOrder::Big)), ("1.5".into(), "1.2".into()));
}

#[test]
fn parts_of_frames_are_packed_and_ranges_become_bounds() {
    let plan = link(
        "big",
        "channel c { medium uart 9600 8N1
            limit 90 bytes
            frame {
                sync 55 AA
                kind : u4 message
                rev : u4 revision
                len : u16 length of sync..sum in 2 bytes
                head : u8 xor8 over kind..len
                body
                flags : u3 = 5
                node : u13 address
                sum : u16 sum8 over sync..head, body..node skipping
            }
         }
         message M { id 3  from host  on c  a : u8 }",
    );
    let channel = plan.channels[0].direction(End::Device);
    assert_eq!((channel.head_bytes, channel.tail_bytes, channel.sync.as_slice()), (6, 4, &[0x55, 0xAA][..]));
    let places: Vec<(&str, Zone, u32)> =
        channel.parts.iter().map(|part| (part.name.as_str(), part.zone, part.at_bit)).collect();
    use Zone::{Head, Tail};
    assert_eq!(
        places,
        [
            ("kind", Head, 16),
            ("rev", Head, 20),
            ("len", Head, 24),
            ("head", Head, 40),
            ("flags", Tail, 0),
            ("node", Tail, 3),
            ("sum", Tail, 16)
        ]
    );
    let part = |name: &str| &channel.parts.iter().find(|part| part.name == name).unwrap().role;
    assert_eq!(*part("len"), Role::Length { other_bytes: 10, unit: 2 });
    assert_eq!(*part("flags"), Role::Fixed(5));
    let Role::Checksum { over, skipping, .. } = part("sum") else { panic!() };
    let bounds: Vec<(Bound, Bound)> = over.iter().map(|covered| (covered.from, covered.to)).collect();
    assert_eq!(bounds, [(Bound::Head(0), Bound::Head(6)), (Bound::Head(6), Bound::Tail(2))]);
    assert!(skipping);
    assert_eq!(channel.frame_size(1), 11);
}

#[test]
fn statements_may_share_a_line_and_blocks_may_be_tight() {
    let plan = plan(
        "link l{revision 1 byte_order big}enum E:u2{0 a 1 b\"bee\"2 c}message M{id 1 from host a:u8 b:E c:u8 m d:bool}",
    );
    let fields: Vec<&str> = plan.messages[0].message.fields.iter().map(|field| field.name.as_str()).collect();
    assert_eq!(fields, ["a", "b", "c", "d"]);
    assert_eq!(plan.link.labelled[0].labels[1].text, "bee");
    assert_eq!(plan.link.labelled[0].label(2).map(|label| label.name.as_str()), Some("c"));
    assert_eq!(plan.link.labelled[0].label(3), None);
}

#[test]
fn words_of_the_language_may_name_fields() {
    let plan = link(
        "little",
        "message M { from host\n id : u8\n from : u8\n on : bool\n body : u8\n spare : u4\n added : u4 }",
    );
    assert_eq!(plan.messages[0].message.fields.len(), 6);
}

#[test]
fn findings_stand_at_the_text_that_they_speak_of() {
    let text =
        "link l { revision 1  byte_order little }\nmessage M {\n    from host\n    level : 10 .. 0 m step 1\n}\n";
    let checked = check(&Source::new("test.ember", text));
    let finding = &checked.findings[0];
    assert_eq!(finding.code, Code::EmptyRange);
    assert_eq!(&text[finding.span.start..finding.span.end], "10 .. 0");
    assert_eq!(Source::new("t", text).line_column(finding.span.start), (4, 13));
}

#[test]
fn one_mistake_gives_one_finding() {
    let link = "link l { revision 2  byte_order little }\n";
    for (text, code) in [
        ("message M { id 1 from host a : u8 b : u99 c : u8 }", "E201"),
        ("message M { id 1 form host from host a : u8 }", "E012"),
        ("message M { id 1 from nobody a : u8 }", "E012"),
        ("message M { id 1 from host every fast a : u8 }", "E010"),
        ("message M { id 1 from host a : 1 .. 2 }", "E010"),
        ("message M { id 1 from host a : }", "E010"),
        ("message M { id 1 from host a : text[] }", "E010"),
        ("message M { id 1 from host a : bytes[70000] }", "E207"),
        ("message M { id 1 from host spare 3 }", "E010"),
        ("message M { id 1 from host a : u8 = }", "E010"),
        ("message M { id 1 from host added in 1 { a : u8 } }", "E107"),
        ("message M { id 1 from host added in 2 { a : u8 } b : u8 }", "E010"),
        ("message M { id -1 from host a : u8 }", "E308"),
        ("enum E : i3 { 0 a }", "E010"),
        ("enum E : u3 { a 0 }", "E010"),
        ("flags F : u3 { 3 a }", "E112"),
        ("flags F : u3 { 0 a 0 b }", "E111"),
        ("wibble W { }", "E012"),
        ("channel c { medium uart fast 8N1 }", "E010"),
        ("channel c { medium uart 9600 9X3 }", "E010"),
        ("channel c { medium carrier_pigeon }", "E012"),
        ("channel c { medium spi 2 MHz mode 4 packet }", "E005"),
        ("channel c { medium spi 2 MHz word 65 bits packet }", "E207"),
        ("channel c { medium spi 2 MHz word 8 packet }", "E010"),
        ("channel c { medium spi 2 MHz lsb packet }", "E010"),
        ("channel c { medium spi 2 MHz select up packet }", "E010"),
        ("channel c { medium spi 2 MHz mode 1 mode 1 packet }", "E105"),
        ("channel c { medium udp 0 packet frame { body } }", "E005"),
        ("channel c { packet frame { body } }", "E106"),
        ("channel c { medium udp 7 packet limit 0 bytes frame { body } }", "E207"),
        ("channel c { medium udp 7 frame { body } }", "E305"),
        ("channel c { medium uart 9600 8N1 packet frame { body } }", "E305"),
        ("channel c { medium uart 9600 8N1 frame { a : u8 length of body\n body } }", "E305"),
        ("channel c { medium uart 9600 8N1 frame { sync 5\n body } }", "E010"),
        ("channel c { medium udp 7 packet frame { a : u8 wibble\n body } }", "E304"),
        ("channel c { medium udp 7 packet frame { a : u8 = 256\n body } }", "E302"),
        ("channel c { medium udp 7 packet frame { a : u8 address\n b : u8 address\n body } }", "E302"),
        ("channel c { medium udp 7 packet frame { a : u8 length of a\n body } }", "E302"),
        ("channel c { medium udp 7 packet frame { a : u4 = 1\n b : u8 xor8 over body\n body } }", "E302"),
        (
            "channel c { medium udp 7 packet frame { a : u4 = 1\n b : u4 = 1\n c : u8 xor8 over b..body\n body } }",
            "E303",
        ),
        ("channel c { medium udp 7 packet frame { body\n c : u8 xor8 over body..d } }", "E104"),
        ("channel c { medium udp 7 packet frame { c : u8 crc-8/autosar start 0x100 over body\n body } }", "E005"),
    ] {
        assert_eq!(codes(&format!("{link}{text}\n")), [code], "{text}");
    }
}

#[test]
fn suggestions_are_near_or_none() {
    let words = ["optional", "revision", "oil"];
    assert_eq!(nearest("optoinal", words), Some("optional"));
    assert_eq!(nearest("REVISON", words), Some("revision"));
    assert_eq!(nearest("oli", words), Some("oil"));
    assert_eq!(nearest("gate", words), None);
    assert_eq!(nearest("x", ["y"]), None, "at least one letter stays");
    assert_eq!(escaped("a\u{1b}[1m\u{202e}é\n"), "a\\u{1b}[1m\\u{202e}é\\n");
}

#[test]
fn a_line_holds_braces_that_stand_there_twice() {
    let plan = link(
        "little",
        "channel console { medium uart 9600 8N1\n lines lf\n limit 40 bytes }
         message Say { from device on console  line \"{{a}} {level} }}\"  level : u8 }",
    );
    let line = plan.messages[0].message.line.as_deref().unwrap();
    let texts: Vec<&str> = line
        .iter()
        .filter_map(|piece| match piece {
            LinePiece::Text(text) => Some(text.as_str()),
            _ => None,
        })
        .collect();
    assert_eq!((line.len(), texts), (3, vec!["{a} ", " }"]));
}

#[test]
fn each_end_of_a_spelled_crc_is_mirrored_by_its_own_words() {
    let mirrored = |words: &str| {
        let plan = link(
            "little",
            &format!(
                "channel c {{ medium uart 9600 8N1\n frame {{ sync C6 39\n n : u8 length of body\n body\n
                 check : u16 crc 16 poly 0x1021 init 0xFFFF {words} over n..body }} }}\nmessage M {{ from device on c a : u16 }}"
            ),
        );
        let mut parts = plan.channels[0].direction(End::Device).parts.iter();
        let crc = parts.find_map(|part| match &part.role {
            Role::Checksum { algorithm: Algorithm::Crc(crc), .. } => Some(*crc),
            _ => None,
        });
        crc.map(|crc| (crc.reflect_in, crc.reflect_out)).unwrap()
    };
    assert_eq!(mirrored(""), (false, false));
    assert_eq!(mirrored("reflect in"), (true, false));
    assert_eq!(mirrored("reflect out"), (false, true));
    assert_eq!(mirrored("reflect in reflect out"), (true, true));
    assert_eq!(mirrored("reflect out reflect in"), (true, true));
}

#[test]
fn the_words_of_a_medium_come_in_any_order() {
    let all = ["mode 1", "word 16 bits", "lsb first", "select high"];
    let usual = "spi 2 MHz mode 1 word 16 bits lsb first select high";
    let said = |words: &str| {
        let plan = link(
            "little",
            &format!("channel c {{ medium spi 2 MHz {words}\n packet }}\nmessage M {{ from device on c a : u16 }}"),
        );
        plan.channels[0].medium.kind.text()
    };
    for first in 0..4 {
        let turned: Vec<&str> = (0..4).map(|n| all[(first + n) % 4]).collect();
        assert_eq!(said(&turned.join(" ")), usual);
        let back: Vec<&str> = turned.into_iter().rev().collect();
        assert_eq!(said(&back.join("  ")), usual);
    }
    assert_eq!(said("mode 0 word 8 bits msb first select low"), "spi 2 MHz");
    assert_eq!(said("select none"), "spi 2 MHz select none");
}
