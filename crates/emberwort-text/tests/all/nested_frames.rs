//! Frames inside of messages: worked out by hand, as rows, damaged, and named wrongly.

use emberwort_model::hex::{hex, parse_hex};
use emberwort_model::ids::ChannelId;
use emberwort_model::layout::rows;
use emberwort_model::model::End;
use emberwort_model::{Plan, Source, check};
use emberwort_text::json::{self, Writing};
use emberwort_text::{Filling, GivenValue, fill};
use emberwort_text::{RowHeader, nested_frame};
use emberwort_wire::{Values, decode, encode};
use proptest::prelude::*;
use serde_json::Value as Json;

fn plan() -> Plan {
    let text = "link l { revision 3  byte_order little }
        channel bus {
            medium uart 9600 8N1
            limit 40 bytes
            frame {
                sync C6 39
                node : u8 address
                kind : u4 message
                count : u4 sequence
                size : u8 length of body
                body
                sum : u8 sum8 over node..body
            }
        }
        channel line { medium uart 9600 8N1
            stuffing cobs
            limit 40 bytes
            frame { rev : u8 revision
                kind : u8 message
                body } }
        channel words { medium uart 9600 8N1
            lines crlf }
        channel out { medium udp 4000
            packet
            frame { key : u8 message
                body } }
        message Level { id 5  from device  on bus, line  level : u16  added in 2 { low : bool } }
        message Move { id 6  from host  on bus  to : u8 }
        message Said { from device  on words  line \"at {place}\"  place : u8 }
        message OfBus { id 1  from device  on out  n : u4  inner : frame of bus }
        message OfLine { id 2  from device  on out  n : u4  inner : frame of line }
        message OfWords { id 3  from device  on out  n : u4  inner : frame of words }";
    let checked = check(&Source::new("l.ember", text));
    assert!(checked.findings.iter().all(|finding| !finding.is_error()), "{:?}", checked.findings);
    checked.plan.unwrap()
}

/// The body of the message that carries frames of `bus` (0), `line` (1) or `words` (2).
fn encoded(plan: &Plan, which: usize, row: &str) -> Result<String, String> {
    let compiled = &plan.messages[3 + which];
    let Json::Object(row) = serde_json::from_str(row).unwrap() else { panic!("{row}") };
    let given = row.iter().map(|(name, value)| (name.as_str(), GivenValue::Json(value)));
    let mut values = Values::default();
    fill(compiled, given, Filling { clamp: false, revision: 3, ..Filling::of(plan) }, &mut values)
        .map_err(|problems| problems.iter().map(ToString::to_string).collect::<Vec<_>>().join("; "))?;
    let mut body = Vec::new();
    encode(compiled, &values, 3, &mut body).map_err(|error| error.to_string())?;
    Ok(hex(&body))
}

fn decoded(plan: &Plan, which: usize, body: &str) -> String {
    let compiled = &plan.messages[3 + which];
    let mut values = Values::default();
    decode(compiled, &parse_hex(body).unwrap(), &mut values).unwrap();
    let mut row = String::new();
    json::write_fields(compiled, &values, Writing { raw: false, inside: Some((plan, End::Device)) }, &mut row).unwrap();
    row
}

#[test]
fn frames_of_every_kind_stand_inside_as_they_go_over_their_channel() {
    let plan = plan();
    let both = |which, row: &str, body: &str| {
        assert_eq!(encoded(&plan, which, row).as_deref(), Ok(body));
        assert_eq!(decoded(&plan, which, body), row);
    };
    // n in byte 0, then the frame from a whole byte up to the body's end: sync, node 3, kind 5 low and count 2 high in one byte, size 3,
    // level, low, and the sum 03+25+03+D2+04+01 = 102.
    both(
        0,
        r#"{"n":9,"inner":{"message":"Level","node":3,"sequence":2,"fields":{"level":1234,"low":true}}}"#,
        "09 C6 39 03 25 03 D2 04 01 02",
    );
    // Stuffed: revision 3, kind 5, level 0x0100 as 00 01, low 0, so 03 05 00 01 00: 03 03 05 02 01 01 and the delimiter.
    both(
        1,
        r#"{"n":9,"inner":{"message":"Level","revision":3,"fields":{"level":256,"low":false}}}"#,
        "09 03 03 05 02 01 01 00",
    );
    // A line with its end.
    both(2, r#"{"n":9,"inner":{"message":"Said","fields":{"place":7}}}"#, "09 61 74 20 37 0D 0A");
}

#[test]
fn the_layout_names_the_channel() {
    let rows = rows(&plan().messages[4]);
    let inner = rows.iter().find(|row| row.field == "inner").unwrap();
    assert_eq!((inner.place.as_str(), inner.physical.as_str()), ("1.0", "a frame of line to the end"));
}

#[test]
fn senders_of_other_revisions_stand_inside_too() {
    let plan = plan();
    // Revision 1 has no `low`: size 2, and the sum 03+05+02+D2+04 = E0.
    let row = r#"{"n":0,"inner":{"message":"Level","node":3,"revision":1,"fields":{"level":1234}}}"#;
    assert_eq!(encoded(&plan, 0, row).as_deref(), Ok("00 C6 39 03 05 02 D2 04 E0"));
    assert_eq!(
        decoded(&plan, 0, "00 C6 39 03 05 02 D2 04 E0"),
        r#"{"n":0,"inner":{"message":"Level","node":3,"sequence":0,"fields":{"level":1234}}}"#
    );
}

#[test]
fn what_is_broken_inside_says_why_and_goes_out_as_it_came() {
    let plan = plan();
    for (which, body, reason) in [
        (0, "00 C6 39 03 25 03 D2 04 01 03", "checksum"),
        (0, "00 C6 39 03 25 03 D2 04 01", "truncated"),
        (0, "00 C6 39", "truncated"),
        (0, "00", "truncated"),
        (0, "00 C7 39 03 25 03 D2 04 01 02", "fixed"),
        (0, "00 C6 39 03 07 00 0A 00", "length"),
        (0, "00 C6 39 03 07 01 09 14", "unknown message"),
        (1, "00 05 01 00", "stuffing"),
        (1, "00 03 02 05 00", "body"),
        (2, "00 68 6F 0A", "unknown message"),
    ] {
        let row = decoded(&plan, which, body);
        assert!(row.contains(&format!("{{\"broken\":\"{reason}\",\"bytes\":")), "{body}: {row}");
        assert_eq!(encoded(&plan, which, &row).as_deref(), Ok(body));
    }
}

#[test]
fn rows_that_say_no_frame_are_refused() {
    let plan = plan();
    for (inside, says) in [
        (r#"{"message":"Level"}"#, r#"a frame inside is {"message": …, "fields": {…}}, or hex"#),
        (r#"{"message":"Levle","fields":{}}"#, "`Levle` does not travel on `bus`; did you mean `Level`?"),
        (r#"{"message":"Said","fields":{"place":1}}"#, "`Said` does not travel on `bus`"),
        (r#"{"message":"Move","nod":3,"fields":{"to":1}}"#, "a row has no `nod`; did you mean `node`?"),
        (r#"{"message":"Move","node":"3","fields":{"to":1}}"#, "`node` is a whole number from 0, not \"3\""),
        (r#"{"message":"Move","node":-3,"fields":{"to":1}}"#, "`node` is a whole number from 0, not -3"),
        (r#"{"message":"Move","node":256,"fields":{"to":1}}"#, "the node 256 does not fit `node`, which goes to 255"),
        (
            r#"{"message":"Move","sequence":16,"fields":{"to":1}}"#,
            "the sequence number 16 does not fit `count`, which goes to 15",
        ),
        (r#"{"message":"Move","revision":4294967296,"fields":{"to":1}}"#, "there is no revision 4294967296"),
        (r#"{"message":"Move","fields":{"to":256}}"#, "to: "),
        (r#"{"message":"Move","fields":{}}"#, "to: missing"),
        (r#""C6 3""#, "hex"),
        ("7", "frame"),
    ] {
        let error = encoded(&plan, 0, &format!(r#"{{"n":0,"inner":{inside}}}"#)).unwrap_err();
        assert!(error.contains(says), "{inside}: {error}");
    }
    let error = encoded(&plan, 1, r#"{"n":0,"inner":{"message":"Level","node":3,"fields":{"level":1,"low":true}}}"#)
        .unwrap_err();
    assert!(error.contains("frames of `line` carry no node"), "{error}");
}

#[test]
fn rows_give_their_numbers_or_none() {
    let row = |text: &str| {
        let Json::Object(row) = serde_json::from_str(text).unwrap() else { panic!() };
        RowHeader::of(&row)
    };
    let all = row(
        r#"{"time":"2031-03-09T02:11:19Z","channel":"bus","direction":"device","node":3,"sequence":93,"message":"A","fields":{}}"#,
    );
    assert_eq!(all, Ok(RowHeader { node: Some(3), sequence: Some(93), ..RowHeader::default() }));
    assert_eq!(row("{}"), Ok(RowHeader::default()));
    assert_eq!(row(r#"{"node":null}"#), Err("`node` is a whole number from 0, not null".into()));
    let plan = plan();
    let (bus, level) = (plan.channels[0].direction(End::Device), plan.message_index("Level").unwrap());
    let header = all.unwrap().header(bus, level, 2);
    assert_eq!(Some(header.key), bus.key_of(level));
    assert_eq!((header.node, header.sequence, header.revision), (3, 93, 2));
}

proptest! {
    /// Any bytes inside are shown, and shown such that the same bytes can be sent again.
    #[test]
    fn any_bytes_inside_survive(which in 0usize..3, mut bytes in proptest::collection::vec(any::<u8>(), 0..38), good in any::<bool>()) {
        let plan = plan();
        if good && which == 0 {
            let body: Vec<u8> = bytes.iter().copied().take(3).collect();
            let head = [3, 0x25, body.len() as u8];
            let sum = head.iter().chain(&body).fold(0u8, |sum, byte| sum.wrapping_add(*byte));
            bytes = [&[0xC6, 0x39][..], &head, &body, &[sum]].concat();
        }
        let body = [&[0][..], &bytes].concat();
        let row = decoded(&plan, which, &hex(&body));
        let again = encoded(&plan, which, &row);
        // What a sender of revision 1, or of a later one, says is made anew in revision 3, so its bytes may differ there.
        let opened = nested_frame::open(&plan, ChannelId::new(which), End::Device, &bytes);
        if opened.as_ref().is_ok_and(|inner| inner.values.later_bytes() > 0 || inner.values.sections() < 2) {
            return Ok(());
        }
        if opened.is_err() {
            prop_assert_eq!(again, Ok(hex(&body)), "{}", row);
        } else {
            prop_assert_eq!(decoded(&plan, which, &again.map_err(TestCaseError::fail)?), row);
        }
    }
}
