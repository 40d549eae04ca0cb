//! Bodies and frames worked out by hand from the rules of the wire, bit by bit.
//!
//! Little-endian: a field's least significant bit goes to the lowest free bit of the current byte. Big-endian: its most
//! significant bit goes to the highest free bit. Bits of a byte are written 7 … 0 from left to right below.

use emberwort_model::model::End;

use emberwort_model::hex::{hex, parse_hex};
use emberwort_model::{Plan, Source, check};
use emberwort_text::json;
use emberwort_text::json::Writing;
use emberwort_text::{Filling, GivenValue, fill};
use emberwort_wire::{BodyError, EncodeError, FrameFault, Framed, Header, ValueRef, Values, decode, encode};
use serde_json::Value as Json;

fn plan(order: &str, revision: u32, items: &str) -> Plan {
    let text = format!(
        "link hand {{ revision {revision}  byte_order {order} }}
         enum Mode : u3 {{ 0 off  1 slow  5 fast }}
         flags Alarms : u4 {{ 0 hot  3 dry }}
         channel wire {{
             medium uart 9600 8N1
             limit 64 bytes
             frame {{
                 sync  C6 39
                 node  : u8 address
                 kind  : u8 message
                 count : u8 sequence
                 size  : u8 length of body
                 body
                 check : u16 crc-16/ibm-3740 over node..body
             }}
         }}
         {items}"
    );
    let checked = check(&Source::new("hand.ember", text));
    assert!(checked.findings.iter().all(|finding| !finding.is_error()), "{:?}", checked.findings);
    checked.plan.unwrap()
}

fn message(fields: &str) -> String {
    format!("message M {{\n id 0x21\n from device\n on wire\n {fields}\n}}")
}

/// The body of the first message, from JSON values, with the first `sections` sections.
fn body(plan: &Plan, sections: usize, fields: &str) -> Vec<u8> {
    let Json::Object(fields) = serde_json::from_str(fields).unwrap() else { panic!() };
    let mut values = Values::default();
    let given = fields.iter().map(|(name, value)| (name.as_str(), GivenValue::Json(value)));
    let revision = plan.messages[0].sections[sections - 1].revision;
    fill(&plan.messages[0], given, Filling { clamp: false, revision, plan: None, changed: None }, &mut values).unwrap();
    let mut out = Vec::new();
    encode(&plan.messages[0], &values, revision, &mut out).unwrap();
    out
}

fn fields(plan: &Plan, bytes: &str) -> String {
    let mut values = Values::default();
    decode(&plan.messages[0], &parse_hex(bytes).unwrap(), &mut values).unwrap();
    let mut out = String::new();
    json::write_fields(&plan.messages[0], &values, Writing::default(), &mut out).unwrap();
    out
}

/// Encodes, compares with the bytes worked out by hand, and decodes them to the same values.
fn both_ways(plan: &Plan, values: &str, bytes: &str) {
    assert_eq!(hex(&body(plan, plan.messages[0].sections.len(), values)), bytes);
    assert_eq!(fields(plan, bytes), values);
}

#[test]
fn one_little_endian_fields_across_byte_boundaries() {
    let plan = plan("little", 1, &message("mode : Mode\n level : u12\n alarms : Alarms\n lit : bool\n wide : u16"));
    // mode = fast = 5 = 101            byte 0 bits 2..0
    // level = 0xABC = 1010 1011 1100   low 5 bits 11100 to byte 0 bits 7..3; high 7 bits 1010101 to byte 1 bits 6..0
    // alarms = {dry} = bit 3 = 1000    low bit 0 to byte 1 bit 7; high bits 100 to byte 2 bits 2..0
    // lit = true = 1                   byte 2 bit 3
    // wide = 0x1234                    low nibble 0100 to byte 2 bits 7..4; 0001 0010 0011 on: byte 3 = 0x23, byte 4 low = 1
    // byte 0 = 11100 101 = E5, byte 1 = 0 1010101 = 55, byte 2 = 0100 1 100 = 4C, byte 3 = 23, byte 4 = 0000 0001 = 01
    both_ways(&plan, r#"{"mode":"fast","level":2748,"alarms":["dry"],"lit":true,"wide":4660}"#, "E5 55 4C 23 01");
}

#[test]
fn two_big_endian_the_same_fields() {
    let plan = plan("big", 1, &message("mode : Mode\n level : u12\n alarms : Alarms\n lit : bool\n wide : u16"));
    // The bits one after the other, most significant first:
    // mode 101 | level 1010 1011 1100 | alarms 1000 | lit 1 | wide 0001 0010 0011 0100 | fill 0000
    // 10110101 | 01111001 | 00010001 | 00100011 | 0100 0000
    //       B5         79         11         23          40
    both_ways(&plan, r#"{"mode":"fast","level":2748,"alarms":["dry"],"lit":true,"wide":4660}"#, "B5 79 11 23 40");
}

#[test]
fn three_ranges_and_none() {
    let plan = plan(
        "little",
        1,
        &message(
            "opening : 0 .. 100 % step 0.5\n upstream : -1.5 .. 9.5 m step 0.005 or none\n \
             downstream : -1.5 .. 9.5 m step 0.005 or none\n oil : 0 .. 250 bar in 12 bits\n \
             temp : i8 degC or none\n volts : u4 * 0.5 + 10 V",
        ),
    );
    // opening 42.5: (42.5 − 0) / 0.5 = 85 = 0x55 in 8 bits (0 … 200)                → byte 0 = 55
    // upstream 3.217: (3.217 + 1.5) / 0.005 = 943.4 → 943 = 0x3AF in 12 bits         → byte 1 = AF, byte 2 low = 3
    // downstream none: the highest raw code of 12 bits = 0xFFF                       → byte 2 high = F, byte 3 = FF
    // oil 187.3: 187.3 / 250 × 4095 = 3067.97 → 3068 = 0xBFC                         → byte 4 = FC, byte 5 low = B
    // temp none: the most negative code = −128 = 0x80: low nibble 0, high nibble 8   → byte 5 high = 0, byte 6 low = 8
    // volts 12.5: (12.5 − 10) / 0.5 = 5                                              → byte 6 high = 5
    assert_eq!(
        hex(&body(
            &plan,
            1,
            r#"{"opening":42.5,"upstream":3.217,"downstream":null,"oil":187.3,"temp":null,"volts":12.5}"#
        )),
        "55 AF F3 FF FC 0B 58"
    );
    // Back: 943 × 0.005 − 1.5 = 3.215 with the step's three decimals; 3068 × 250 / 4095 = 187.301… with two.
    assert_eq!(
        fields(&plan, "55 AF F3 FF FC 0B 58"),
        r#"{"opening":42.5,"upstream":3.215,"downstream":null,"oil":187.30,"temp":null,"volts":12.5}"#
    );
}

#[test]
fn four_optional_fields_take_no_space_when_absent() {
    let plan = plan("little", 1, &message("a : u4 optional\n b : u4\n c : u8 optional\n name : text[..5] optional"));
    // The presence bitmap first, one byte: bit 0 = a, bit 1 = c, bit 2 = name.
    // All there: bitmap 111 = 07; a = 1 and b = 2 share a byte: 0010 0001 = 21; c = 3 → 03; name: count 02, 'o' 'k'.
    both_ways(&plan, r#"{"a":1,"b":2,"c":3,"name":"ok"}"#, "07 21 03 02 6F 6B");
    // Only name: bitmap 100 = 04; b alone in its byte: 0000 0010 = 02; the text starts at the next byte: 01 'x'.
    both_ways(&plan, r#"{"b":2,"name":"x"}"#, "04 02 01 78");
    // Nothing optional: bitmap 00; b = 02.
    both_ways(&plan, r#"{"b":2}"#, "00 02");
    // a missing, c there: bitmap 010 = 02; b = 2 in bits 3..0, c = 0xA5 in the next 8 bits: 0101 0010 = 52, 0000 1010 = 0A.
    both_ways(&plan, r#"{"b":2,"c":165}"#, "02 52 0A");
}

#[test]
fn an_absent_field_leaves_no_fill_behind() {
    let plan = plan("little", 1, &message("a : u4\n f : f32 optional\n b : u4"));
    // Without f, b follows a in the same byte: bitmap 00, then 0010 0001. With f, byte 1 is filled up and f begins in byte 2.
    both_ways(&plan, r#"{"a":1,"b":2}"#, "00 21");
    both_ways(&plan, r#"{"a":1,"f":1,"b":2}"#, "01 01 00 00 80 3F 02");
}

#[test]
fn five_big_endian_optional_and_signed() {
    let plan = plan("big", 1, &message("a : u4 optional\n t : i7\n c : i12 optional\n f : f32"));
    // Bit 0 of the bitmap is its least significant bit in both byte orders: a and c there = 0000 0011 = 03.
    // a = 9 = 1001 | t = −3 = 1111101 | c = −2048 = 1000 0000 0000 → 1001 1111 | 101 10000 | 0000000 0 (fill 1 bit)
    //                                                                     9F         B0         00
    // f starts at a byte boundary: 1.5 = 0x3FC00000, most significant byte first.
    both_ways(&plan, r#"{"a":9,"t":-3,"c":-2048,"f":1.5}"#, "03 9F B0 00 3F C0 00 00");
    // Both absent: bitmap 00; t = 63 = 0111111 → 0111 1110 = 7E; f = −0.25 = 0xBE800000.
    both_ways(&plan, r#"{"t":63,"f":-0.25}"#, "00 7E BE 80 00 00");
}

#[test]
fn six_spare_space_fixed_bytes_and_floats_find_their_places() {
    let plan = plan("little", 1, &message("a : u3\n spare 2 bits\n raw : bytes[2]\n spare 1 bytes\n f : f32\n b : u1"));
    // a = 7 = 111 in byte 0 bits 2..0; spare 00 in bits 4..3
    // raw = 12 AB packed without a gap, low bits first: 12 = 0001 0010: low 3 bits 010 to byte 0 bits 7..5, high 5 bits 00010
    //   to byte 1 bits 4..0; AB = 1010 1011: low 3 bits 011 to byte 1 bits 7..5, high 5 bits 10101 to byte 2 bits 4..0
    // spare: 8 zero bits from byte 2 bit 5 to byte 3 bit 4; filled up to byte 4
    // f = 1.0 = 0x3F800000, least significant byte first: 00 00 80 3F; b = 1 in byte 8 bit 0
    // byte 0 = 010 00 111 = 47, byte 1 = 011 00010 = 62, byte 2 = 000 10101 = 15, byte 3 = 00
    both_ways(&plan, r#"{"a":7,"raw":"12 AB","f":1,"b":1}"#, "47 62 15 00 00 00 80 3F 01");
    // Spare bits are ignored when received, whatever they are: byte 0 bits 4..3, byte 2 bits 7..5, byte 3 bits 4..0.
    assert_eq!(fields(&plan, "5F 62 F5 1F 00 00 80 3F 01"), r#"{"a":7,"raw":"12 AB","f":1,"b":1}"#);
}

const REVISIONED: &str =
    "a : u8\n added in 2 { b : u8 = 7\n c : u8 or none }\n added in 3 { d : u4 optional\n e : bool }";

#[test]
fn a_body_of_revision_1_read_by_revision_2_and_the_reverse() {
    let old = plan("little", 1, &message("a : u8"));
    let new = plan("little", 2, &message("a : u8\n added in 2 { b : u8 = 7\n c : u8 or none }"));
    // Revision 1 sends one byte. The newer receiver assumes b = 7 and has no c.
    let sent = body(&old, 1, r#"{"a":5}"#);
    assert_eq!(hex(&sent), "05");
    assert_eq!(fields(&new, "05"), r#"{"a":5,"b":7}"#);
    let mut values = Values::default();
    decode(&new.messages[0], &sent, &mut values).unwrap();
    assert_eq!((values.sections(), values.later_bytes()), (1, 0));
    assert_eq!(values.get(2), ValueRef::Absent);
    // Revision 2 sends three bytes. The older receiver skips two, and says so.
    let sent = body(&new, 2, r#"{"a":5,"b":9,"c":null}"#);
    assert_eq!(hex(&sent), "05 09 FF");
    decode(&old.messages[0], &sent, &mut values).unwrap();
    assert_eq!((values.sections(), values.later_bytes()), (1, 2));
    assert_eq!(fields(&old, "05 09 FF"), r#"{"a":5}"#);
    // An encoder that plays revision 1 leaves the later section out.
    assert_eq!(hex(&body(&new, 1, r#"{"a":5}"#)), "05");
}

#[test]
fn a_body_that_ends_inside_a_section_is_truncated() {
    let plan = plan("little", 3, &message(REVISIONED));
    // a | b c | bitmap, d (4 bits) and e (1 bit): 5, 9, 1 | bitmap 01, d = 3, e = 1: 0001 0011
    both_ways(&plan, r#"{"a":5,"b":9,"c":1,"d":3,"e":true}"#, "05 09 01 01 13");
    let mut values = Values::default();
    let mut try_length = |length: usize| decode(&plan.messages[0], &[5, 9, 1, 1, 0x13][..length], &mut values);
    let truncated = |length, needed, revision| Err(BodyError::Truncated { length, needed, revision });
    assert_eq!(try_length(0), truncated(0, 1, 1));
    assert_eq!(try_length(1), Ok(()));
    assert_eq!(try_length(2), truncated(2, 3, 2));
    assert_eq!(try_length(3), Ok(()));
    assert_eq!(try_length(4), truncated(4, 5, 3));
    assert_eq!(try_length(5), Ok(()));
}

#[test]
fn counts_above_their_maximum_are_errors() {
    // Longer than the channel's frames, so it travels on none.
    let plan = plan("little", 1, &message("name : text[..5]\n more : text[..300]").replace(" on wire\n", ""));
    // The count is u8 below 256, else u16 in the link's byte order.
    both_ways(&plan, r#"{"name":"abc","more":"de"}"#, "03 61 62 63 02 00 64 65");
    let mut values = Values::default();
    let bad = decode(&plan.messages[0], &[6, 0, 0, 0, 0, 0, 0, 0, 0], &mut values);
    assert_eq!(bad, Err(BodyError::CountTooLarge { slot: 0, count: 6, max: 5 }));
    let bad = decode(&plan.messages[0], &[0, 0x2D, 0x01], &mut values);
    assert_eq!(bad, Err(BodyError::CountTooLarge { slot: 1, count: 301, max: 300 }));
    let bad = decode(&plan.messages[0], &[0, 5, 0, 1], &mut values);
    assert_eq!(bad, Err(BodyError::Truncated { length: 4, needed: 8, revision: 1 }));
}

#[test]
fn codes_without_meaning_are_shown_with_their_raw_value_and_survive() {
    let plan = plan(
        "little",
        1,
        &message(
            "mode : Mode\n alarms : Alarms\n spare 1 bits\n pos : 0 .. 100 % step 1\n spare 1 bits\n f : f32\n t : text[..4]",
        ),
    );
    // mode 7 has no label, alarms 0110 has none of the two, pos 127 is above 100, f is a NaN, t is not UTF-8.
    let bytes = "37 7F 01 00 C0 7F 02 FF FE";
    let shown = fields(&plan, bytes);
    assert_eq!(
        shown,
        r#"{"mode":{"raw":7},"alarms":[1,2],"pos":{"raw":127},"f":{"raw":2143289345},"t":{"raw":"FF FE"}}"#
    );
    assert_eq!(hex(&body(&plan, 1, &shown)), bytes);
}

#[test]
fn a_whole_frame() {
    let plan = plan("little", 1, &message("a : u8\n b : u16"));
    let framing = plan.channels[0].framing(End::Device);
    let header = Header { key: 0x21, node: 3, sequence: 0x107, revision: 1 };
    let mut frame = Vec::new();
    framing.encode(&header, &[0x11, 0x22, 0x33], &mut frame).unwrap();
    // sync C6 39, node 03, kind 21, counter 07 (it goes around at 256), size 03, body, then the CRC over 03 21 07 03 11 22 33.
    // CRC-16/IBM-3740: polynomial 1021, register FFFF, bit by bit:
    let mut register = 0xFFFFu16;
    for byte in [0x03u16, 0x21, 0x07, 0x03, 0x11, 0x22, 0x33] {
        register ^= byte << 8;
        for _ in 0..8 {
            register = if register & 0x8000 != 0 { register << 1 ^ 0x1021 } else { register << 1 };
        }
    }
    let [low, high] = register.to_le_bytes();
    assert_eq!(frame, [0xC6, 0x39, 0x03, 0x21, 0x07, 0x03, 0x11, 0x22, 0x33, low, high]);
    let view = framing.check(&frame).unwrap();
    assert_eq!((view.node, view.key, view.sequence, view.revision), (Some(3), 0x21, Some(7), None));
    assert_eq!(view.body, [0x11, 0x22, 0x33]);

    frame[7] ^= 0x40;
    let found = u64::from(register);
    match framing.check(&frame) {
        Err(FrameFault::Checksum { part: 4, expected, found: stored }) => {
            assert_eq!(stored, found);
            assert_ne!(expected, found);
        }
        other => panic!("{other:?}"),
    }
    assert_eq!(framing.check(&frame[..7]), Err(FrameFault::Truncated { length: 7, needed: 8 }));
    let long = [&frame[..], &[0]].concat();
    assert_eq!(framing.check(&long), Err(FrameFault::Length { length: 11, least: 12, greatest: 12 }));
}

#[test]
fn frames_of_every_role_by_hand() {
    let text = "link roles { revision 9  byte_order big }
        channel odd {
            medium uart 9600 8N1
            limit 40 bytes
            frame {
                sync   7E
                kind   : u4 message
                rev    : u4 revision
                node   : u12 address
                count  : u4 sequence
                head   : u8 xor8 over kind..count
                length : u16 length of sync..check
                body
                mark   : u8 = 0x5A
                check  : u16 internet over kind..check skipping
            }
        }
        message M {
            id 0xA
            from device
            on odd
            a : u8
        }";
    let checked = check(&Source::new("roles.ember", text));
    assert!(checked.findings.iter().all(|finding| !finding.is_error()), "{:?}", checked.findings);
    let framing = checked.plan.unwrap().channels[0].framing(End::Device);
    let mut frame = Vec::new();
    framing.encode(&Header { key: 0xA, node: 0x123, sequence: 0x45, revision: 9 }, &[0x77], &mut frame).unwrap();
    // sync 7E | kind A rev 9 → A9 | node 123 count 5 → 12 35 | head = A9 ^ 12 ^ 35 = 8E
    // length: 1 (sync) + 1 + 2 + 1 + 2 + 1 (body) + 1 (mark) + 2 (check) = 11 bytes → 00 0B
    // check: A912 + 358E + 000B + 775A = 1 5605, the carry folded back 5606, complement A9F9
    assert_eq!(hex(&frame), "7E A9 12 35 8E 00 0B 77 5A A9 F9");
    let view = framing.check(&frame).unwrap();
    assert_eq!((view.key, view.node, view.sequence, view.revision), (0xA, Some(0x123), Some(5), Some(9)));
    // A wrong mark with a right checksum: 5B in place of 5A makes the sum 5607 and the complement A9F8.
    let wrong = parse_hex("7E A9 12 35 8E 00 0B 77 5B A9 F8").unwrap();
    assert_eq!(framing.check(&wrong), Err(FrameFault::Fixed { part: 6, expected: 0x5A, found: 0x5B }));
    let error = framing.encode(&Header { node: 0x1000, ..Header::default() }, &[0], &mut frame).unwrap_err();
    assert_eq!(error.to_string(), "4096 does not fit the frame part `node`, which has 12 bits");
}

/// A header that says its size twice, once more inverted, and where node 0xFF means all.
#[test]
fn parts_that_stand_in_a_frame_again() {
    let text = "link twice { revision 1  byte_order little }
        channel meters {
            medium uart 2400 8E1
            limit 40 bytes
            frame {
                sync   68
                size   : u8 length of node..body
                again  : u8 same as size
                start  : u8 = 0x68
                node   : u8 address 0xFF for all
                kind   : u4 message
                nkind  : u4 same as kind inverted
                body
                sum    : u8 sum8 over node..body
                more   : hex2 same as size
                end    : u8 = 0x16
            }
        }
        message M {
            id 0x3
            from host
            on meters
            a : u16
        }";
    let checked = check(&Source::new("twice.ember", text));
    assert!(checked.findings.iter().all(|finding| !finding.is_error()), "{:?}", checked.findings);
    let plan = checked.plan.unwrap();
    assert_eq!(plan.channels[0].direction(End::Device).broadcast, Some(0xFF));
    let framing = plan.channels[0].framing(End::Device);
    let mut frame = Vec::new();
    framing.encode(&Header { key: 3, node: 0xFF, ..Header::default() }, &[0x34, 0x12], &mut frame).unwrap();
    // node, kind and its inverse, body: 4 bytes. kind 3 in the low half, C above it. FF + C3 + 34 + 12 = 208.
    assert_eq!(hex(&frame), "68 04 04 68 FF C3 34 12 08 30 34 16");
    assert!(framing.check(&frame).is_ok());
    // Sizes that differ are no frame, whatever they claim; each fault names the part.
    let fault = |at: usize, byte: u8| {
        let mut wrong = frame.clone();
        wrong[at] = byte;
        framing.check(&wrong).unwrap_err()
    };
    assert_eq!(fault(1, 5), FrameFault::Fixed { part: 1, expected: 5, found: 4 });
    assert_eq!(fault(2, 5), FrameFault::Fixed { part: 1, expected: 4, found: 5 });
    assert_eq!(fault(9, b'1'), FrameFault::Fixed { part: 7, expected: 4, found: 0x14 });
    assert_eq!(fault(9, b'g'), FrameFault::Digits { part: 7 });
    let mut other = frame.clone();
    (other[5], other[8]) = (0xD3, 0x18);
    assert_eq!(framing.check(&other), Err(FrameFault::Fixed { part: 5, expected: 0xC, found: 0xD }));
}

#[test]
fn a_length_in_units_needs_a_multiple() {
    let text = "link units { revision 1  byte_order big }
        channel words {
            medium uart 9600 8N1
            limit 40 bytes
            frame {
                sync  7E
                kind  : u8 message
                words : u8 length of body in 2 bytes
                body
                sum   : u8 sum8 start 0x10 final xor 0xFF over sync..sum
            }
        }
        message M { id 1  from device  on words  a : u16 }";
    let checked = check(&Source::new("units.ember", text));
    assert!(checked.findings.iter().all(|finding| !finding.is_error()), "{:?}", checked.findings);
    let framing = checked.plan.unwrap().channels[0].framing(End::Device);
    let mut frame = Vec::new();
    framing.encode(&Header { key: 1, ..Header::default() }, &[0xAB, 0xCD], &mut frame).unwrap();
    // 10 + 7E + 01 + 01 + AB + CD + 00 (the sum itself counts as zero) = 208; 08 ^ FF = F7
    assert_eq!(frame, [0x7E, 0x01, 0x01, 0xAB, 0xCD, 0xF7]);
    assert!(framing.check(&frame).is_ok());
    assert!(framing.encode(&Header { key: 1, ..Header::default() }, &[0xAB], &mut frame).is_err());
    assert_eq!(frame.len(), 6, "a frame that cannot be built leaves nothing after");
}

#[test]
fn wrong_values_are_told_all_at_once_and_nothing_wraps() {
    let plan = plan("little", 1, &message("a : u8\n pos : 0 .. 100 % step 0.5\n mode : Mode\n t : i8 * 0.5"));
    let given: [(&str, GivenValue<'_>); 4] = [
        ("a", GivenValue::Text("256")),
        ("pos", GivenValue::Text("100.1")),
        ("mod", GivenValue::Text("off")),
        ("t", GivenValue::Text("-64.1")),
    ];
    let mut values = Values::default();
    let problems =
        fill(&plan.messages[0], given, Filling { clamp: false, revision: 1, plan: None, changed: None }, &mut values)
            .unwrap_err();
    let lines: Vec<String> = problems.iter().map(ToString::to_string).collect();
    assert_eq!(
        lines,
        [
            "a: 256 does not fit; it holds 0 .. 255 in steps of 1",
            "pos: 100.1 does not fit; it holds 0.0 .. 100.0 % in steps of 0.5",
            "mod: `M` has no such field; did you mean `mode`?",
            "t: -64.1 does not fit; it holds -64.0 .. 63.5 in steps of 0.5",
            "mode: missing; it holds one of off, slow, fast",
        ]
    );
    let given: [(&str, GivenValue<'_>); 4] = [
        ("a", GivenValue::Text("300")),
        ("pos", GivenValue::Text("-1")),
        ("mode", GivenValue::Text("off")),
        ("t", GivenValue::Text("99")),
    ];
    fill(&plan.messages[0], given, Filling { clamp: true, revision: 1, plan: None, changed: None }, &mut values)
        .unwrap();
    let raws: Vec<ValueRef<'_>> = (0..4).map(|slot| values.get(slot)).collect();
    assert_eq!(raws, [ValueRef::Raw(255), ValueRef::Raw(0), ValueRef::Raw(0), ValueRef::Raw(127)]);
    values.set_raw(0, 256);
    let mut out = vec![1, 2];
    let wide = encode(&plan.messages[0], &values, 1, &mut out);
    assert_eq!(wide, Err(EncodeError::TooWide { slot: 0, raw: 256, width: 8 }));
    assert_eq!(out, [1, 2]);
}
