//! Every construct of the language, with bodies worked out by hand: to bytes, back to the row, cut short, and in the layout.

use emberwort_model::layout::rows;
use emberwort_model::{Plan, Source, check};
use emberwort_text::json::{self, Writing};
use emberwort_text::{Filling, GivenValue, fill};
use emberwort_wire::codec::check as check_body;
use emberwort_wire::{BodyError, EncodeError, Values, decode, decode_answer, encode};
use serde_json::Value as Json;

const ITEMS: &str = "
    enum Gate : u3 { 0 shut  1 open  5 held }
    flags Signs : u4 { 0 a  3 d }
    record Pair { x : u8  y : i12 }
    record Step growing { at : u8  added in 2 { force : u16 }  added in 3 { hot : bool } }
    record Note growing { text : text[..4]  added in 2 { mark : u8 } }
    table Settings : u8 { 1 ramp : 0 .. 45 s step 0.25 read write  2 name : ascii[..3] read  7 pair : Pair read }
";

/// The plan of one message with these fields.
fn plan(order: &str, fields: &str) -> Plan {
    let text = format!(
        "link l {{ revision 3  byte_order {order} }}\n{ITEMS}\n\
         message Ask {{\n from host\n answered by M\n setting : key of Settings\n }}\n\
         message M {{\n from device\n {fields}\n}}"
    );
    let checked = check(&Source::new("hand.ember", text.as_str()));
    let errors: Vec<_> = checked.findings.iter().filter(|finding| finding.is_error()).collect();
    assert!(errors.is_empty(), "{errors:#?}\n{text}");
    checked.plan.unwrap()
}

fn encoded(plan: &Plan, row: &str, revision: u32) -> Result<String, String> {
    let compiled = plan.messages.iter().find(|plan| plan.message.name == "M").unwrap();
    let Json::Object(row) = serde_json::from_str(row).unwrap() else { panic!("{row}") };
    let given = row.iter().map(|(name, value)| (name.as_str(), GivenValue::Json(value)));
    let mut values = Values::default();
    fill(compiled, given, Filling { clamp: false, revision, plan: Some(plan), changed: None }, &mut values)
        .map_err(|problems| problems.iter().map(ToString::to_string).collect::<Vec<_>>().join("; "))?;
    let mut body = Vec::new();
    encode(compiled, &values, revision, &mut body).map_err(|error| error.to_string())?;
    Ok(hex(&body))
}

fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02X}")).collect::<Vec<_>>().join(" ")
}

fn bytes(hex: &str) -> Vec<u8> {
    hex.split_whitespace().map(|byte| u8::from_str_radix(byte, 16).unwrap()).collect()
}

fn decoded(plan: &Plan, body: &str, key: Option<u64>) -> Result<String, BodyError> {
    let compiled = plan.messages.iter().find(|plan| plan.message.name == "M").unwrap();
    let mut values = Values::default();
    decode_answer(compiled, &bytes(body), key, &mut values)?;
    let mut row = String::new();
    json::write_fields(compiled, &values, Writing::default(), &mut row).unwrap();
    Ok(row)
}

/// The row makes these bytes, the bytes make the row, every field has a line in the layout, and nothing shorter is taken for
/// the whole.
fn agree(order: &str, fields: &str, row: &str, body: &str) {
    let plan = plan(order, fields);
    let compiled = plan.messages.iter().find(|plan| plan.message.name == "M").unwrap();
    assert_eq!(encoded(&plan, row, 3).as_deref(), Ok(body), "{order}: {fields}");
    assert_eq!(decoded(&plan, body, None).as_deref(), Ok(row), "{order}: {fields}");
    let lines = rows(compiled);
    for field in compiled.message.fields.iter().filter(|field| !field.is_spare()) {
        assert!(lines.iter().any(|line| line.depth == 0 && line.field == field.name), "{} is not laid out", field.name);
    }
    let all = bytes(body);
    assert!(all.len() >= compiled.least_size(), "{fields}");
    assert!(all.len() <= compiled.greatest_size(), "{fields}: {} of {}", all.len(), compiled.greatest_size());
    for cut in 0..all.len() {
        let mut values = Values::default();
        let result = decode(compiled, &all[..cut], &mut values);
        assert_eq!(result.is_ok(), check_body(compiled, &all[..cut]).is_ok(), "{fields} cut to {cut}");
        assert!(result.is_err() || values != whole(&plan, &all), "{fields} cut to {cut} says the same");
    }
}

fn whole(plan: &Plan, body: &[u8]) -> Values {
    let mut values = Values::default();
    decode(plan.messages.iter().find(|plan| plan.message.name == "M").unwrap(), body, &mut values).unwrap();
    values
}

#[test]
fn integers_of_variable_length() {
    // 300 = 0b10_0101100: low seven bits 0101100 = 2C with the mark for more, then 10 = 02.
    agree("little", "a : compact u32", r#"{"a":300}"#, "AC 02");
    agree("big", "a : compact u32", r#"{"a":300}"#, "AC 02");
    agree("little", "a : compact u32", r#"{"a":0}"#, "00");
    agree("little", "a : compact u32", r#"{"a":127}"#, "7F");
    agree("little", "a : compact u32", r#"{"a":4294967295}"#, "FF FF FF FF 0F");
    agree("little", "a : compact u64", r#"{"a":18446744073709551615}"#, "FF FF FF FF FF FF FF FF FF 01");
    // Zigzag: -1 is 1, 1 is 2, -64 is 127, 64 is 128.
    agree("little", "a : compact i32", r#"{"a":-1}"#, "01");
    agree("little", "a : compact i32", r#"{"a":1}"#, "02");
    agree("little", "a : compact i32", r#"{"a":-64}"#, "7F");
    agree("little", "a : compact i32", r#"{"a":64}"#, "80 01");
    agree("little", "a : compact i32", r#"{"a":-2147483648}"#, "FF FF FF FF 0F");
    agree("little", "a : compact i8", r#"{"a":-128}"#, "FF 01");
    // It starts at a byte boundary, and what follows goes on behind it.
    agree("little", "s : u3\na : compact u16\nb : u4", r#"{"s":5,"a":200,"b":9}"#, "05 C8 01 09");
    let short = plan("little", "a : compact u8");
    assert_eq!(decoded(&short, "80 02", None), Err(BodyError::VarintTooLarge { slot: 0, width: 8 }));
    assert_eq!(decoded(&short, "FF FF 01", None), Err(BodyError::VarintTooLarge { slot: 0, width: 8 }));
    // A longer form of a small number is read; nobody writes it.
    assert_eq!(decoded(&short, "85 00", None).as_deref(), Ok(r#"{"a":5}"#));
    assert!(encoded(&short, r#"{"a":256}"#, 3).unwrap_err().contains("it holds 0 .. 255"));
}

#[test]
fn floats_of_three_sizes() {
    // 1.5 = 0 01111 1000000000 as binary16: 3E00.
    agree("little", "a : f16", r#"{"a":1.5}"#, "00 3E");
    agree("big", "a : f16 V", r#"{"a":-1.5}"#, "BE 00");
    agree("big", "a : f32", r#"{"a":0.1}"#, "3D CC CC CD");
    agree("big", "a : f64", r#"{"a":0.1}"#, "3F B9 99 99 99 99 99 9A");
    agree("little", "a : f64 be", r#"{"a":-2}"#, "C0 00 00 00 00 00 00 00");
    // At a byte boundary, with zeros in front.
    agree("big", "s : u3\na : f16", r#"{"s":5,"a":-0.25}"#, "A0 B4 00");
    let small = plan("little", "a : f16");
    assert!(encoded(&small, r#"{"a":70000}"#, 3).unwrap_err().contains("beyond a 16-bit float"));
    assert_eq!(decoded(&small, "00 7C", None).as_deref(), Ok(r#"{"a":{"raw":31744}}"#), "infinity is no value");
    assert_eq!(encoded(&small, r#"{"a":{"raw":31744}}"#, 3).as_deref(), Ok("00 7C"), "but survives");
}

#[test]
fn texts_and_bytes_in_every_form() {
    agree("little", "a : text[5]", r#"{"a":"oil"}"#, "6F 69 6C 00 00");
    agree("little", "a : text[3]", r#"{"a":"é1"}"#, "C3 A9 31");
    agree("little", "a : text[..5]", r#"{"a":"oil"}"#, "03 6F 69 6C");
    agree("little", "a : ascii[..5]", r#"{"a":""}"#, "00");
    agree("big", "a : text[..300]", r#"{"a":"x"}"#, "00 01 78");
    agree("little", "a : text[..300]", r#"{"a":"x"}"#, "01 00 78");
    agree("little", "n : u8\na : text[rest]", r#"{"n":1,"a":"hot oil"}"#, "01 68 6F 74 20 6F 69 6C");
    agree("little", "a : bytes[2]", r#"{"a":"C6 39"}"#, "C6 39");
    agree("little", "a : bytes[..4]", r#"{"a":"C6 39"}"#, "02 C6 39");
    agree("little", "n : u4\na : bytes[rest]", r#"{"n":1,"a":"C6 39"}"#, "01 C6 39");
    // Of fixed length they are packed like numbers: 4 bits of s, then the letters.
    agree("little", "s : u4\na : text[2]\nt : u4", r#"{"s":1,"a":"AB","t":15}"#, "11 24 F4");
    agree("big", "s : u4\na : ascii[2]\nt : u4", r#"{"s":1,"a":"AB","t":15}"#, "14 14 2F");
    let fixed = plan("little", "a : ascii[4]");
    assert!(encoded(&fixed, r#"{"a":"é"}"#, 3).unwrap_err().contains("only ASCII"));
    assert!(encoded(&fixed, r#"{"a":"abcde"}"#, 3).unwrap_err().contains("5 bytes"));
    assert!(encoded(&fixed, r#"{"a":"ab\u0000"}"#, 3).unwrap_err().contains("cannot end with a zero"));
    assert_eq!(decoded(&fixed, "61 E9 62 00", None).as_deref(), Ok(r#"{"a":{"raw":"61 E9 62"}}"#));
    assert_eq!(encoded(&fixed, r#"{"a":{"raw":"61 E9 62"}}"#, 3).as_deref(), Ok("61 E9 62 00"));
    let counted = plan("little", "a : bytes[..4]");
    assert_eq!(
        decoded(&counted, "05 01 02 03 04 05", None),
        Err(BodyError::CountTooLarge { slot: 0, count: 5, max: 4 })
    );
    assert!(encoded(&counted, r#"{"a":"01 02 03 04 05"}"#, 3).unwrap_err().contains("at most 4 bytes"));
}

#[test]
fn moments() {
    // 2031-03-09T02:10:00Z is 1,930,788,600 s = 0x7315_7EF8 after 1970.
    agree("big", "a : time s", r#"{"a":"2031-03-09T02:10:00Z"}"#, "73 15 7E F8");
    agree("little", "a : time s", r#"{"a":"2031-03-09T02:10:00Z"}"#, "F8 7E 15 73");
    agree("big", "a : time ms", r#"{"a":"1970-01-01T00:00:01.500Z"}"#, "00 00 00 00 00 00 05 DC");
    // Packed like a number.
    agree("big", "s : u4\na : time s\nt : u4", r#"{"s":1,"a":"1970-01-01T00:00:01Z","t":2}"#, "10 00 00 00 12");
    let seconds = plan("big", "a : time s");
    assert!(encoded(&seconds, r#"{"a":"2031-03-09T02:10:00.5Z"}"#, 3).unwrap_err().contains("whole seconds"));
    assert!(encoded(&seconds, r#"{"a":"1969-12-31T23:59:59Z"}"#, 3).unwrap_err().contains("from 1970 on"));
    assert!(encoded(&seconds, r#"{"a":"2107-01-01T00:00:00Z"}"#, 3).unwrap_err().contains("out of reach"));
    assert!(encoded(&seconds, r#"{"a":"yesterday"}"#, 3).unwrap_err().contains("is not a time"));
}

#[test]
fn records() {
    // x = 7; y = -2 in 12 bits is FFE; the record ends at a byte boundary.
    agree("little", "s : u4\np : Pair\nt : u4", r#"{"s":1,"p":{"x":7,"y":-2},"t":2}"#, "01 07 FE 0F 02");
    agree("big", "s : u4\np : Pair\nt : u4", r#"{"s":1,"p":{"x":7,"y":-2},"t":2}"#, "10 07 FF E0 20");
    agree("little", "p : Pair optional\nt : u8", r#"{"t":2}"#, "00 02");
    agree("little", "p : Pair optional\nt : u8", r#"{"p":{"x":1,"y":3},"t":2}"#, "01 01 03 00 02");
    let pair = plan("little", "p : Pair");
    let problem = encoded(&pair, r#"{"p":{"x":300,"z":1}}"#, 3).unwrap_err();
    assert!(problem.contains("x: 300 does not fit") && problem.contains("z: `Pair` has no such field"), "{problem}");
    assert!(problem.contains("y: missing"), "{problem}");
    assert!(encoded(&pair, r#"{"p":5}"#, 3).unwrap_err().contains("a JSON object with x, y"));
}

#[test]
fn lists() {
    agree("little", "a : [3] u8", r#"{"a":[1,2,3]}"#, "01 02 03");
    agree("little", "a : [..3] u8", r#"{"a":[7]}"#, "01 07");
    agree("little", "a : [..3] u8", r#"{"a":[]}"#, "00");
    agree("big", "a : [..300] u16", r#"{"a":[258]}"#, "00 01 01 02");
    agree("big", "n : u8\na : [rest] u16", r#"{"n":9,"a":[1,2]}"#, "09 00 01 00 02");
    // Numbers are packed without gaps.
    agree("little", "a : [3] u4", r#"{"a":[1,2,3]}"#, "21 03");
    agree("big", "a : [3] u4", r#"{"a":[1,2,3]}"#, "12 30");
    agree("big", "s : u4\na : [2] u6", r#"{"s":15,"a":[1,2]}"#, "F0 42");
    agree("little", "a : [..3] u4\nt : u4", r#"{"a":[1,2,3],"t":4}"#, "03 21 43");
    // Twelve bits three times are 36 bits; the last four of the fifth byte are filled up.
    agree("big", "a : [rest] u12", r#"{"a":[1,2,3]}"#, "00 10 02 00 30");
    // Records start and end at byte boundaries.
    agree("big", "a : [..2] Pair", r#"{"a":[{"x":1,"y":1},{"x":2,"y":-1}]}"#, "02 01 00 10 02 FF F0");
    agree("little", "a : [rest] Pair", r#"{"a":[{"x":1,"y":1}]}"#, "01 01 00");
    agree("little", "a : [2] text[..3]", r#"{"a":["ab",""]}"#, "02 61 62 00");
    agree("little", "a : [2] [2] u4", r#"{"a":[[1,2],[3,4]]}"#, "21 43");
    agree("little", "a : [2] [..2] u4", r#"{"a":[[1],[3,4]]}"#, "01 01 02 43");
    agree("little", "a : [2] 0 .. 12 m step 0.5 or none", r#"{"a":[0.5,null]}"#, "E1 03");
    agree("little", "a : [2] compact i16", r#"{"a":[-1,64]}"#, "01 80 01");
    agree("little", "a : [2] Gate", r#"{"a":["held","open"]}"#, "0D");
    agree("little", "a : [2] Signs", r#"{"a":[["d"],["a","d"]]}"#, "98");
    agree("little", "a : [2] u16 be", r#"{"a":[258,1]}"#, "01 02 00 01");
    let two = plan("little", "a : [2] u8");
    assert!(encoded(&two, r#"{"a":[1]}"#, 3).unwrap_err().contains("1 elements are given"));
    assert!(encoded(&two, r#"{"a":[1,300]}"#, 3).unwrap_err().contains("element 1: 300 does not fit"));
    let counted = plan("little", "a : [..3] u8");
    assert_eq!(decoded(&counted, "04 01 02 03 04", None), Err(BodyError::CountTooLarge { slot: 0, count: 4, max: 3 }));
    let rest = plan("big", "a : [rest] u16");
    assert!(decoded(&rest, "00 01 00", None).is_err(), "half an element");
}

#[test]
fn lists_of_extensible_records_carry_the_size_of_their_elements() {
    // Two elements, three sections each: at, force, hot filled to a byte: four bytes.
    let row = r#"{"a":[{"at":1,"force":2,"hot":true},{"at":9,"force":258,"hot":false}]}"#;
    agree("little", "a : [..4] Step", row, "02 04 01 02 00 01 09 02 01 00");
    agree("big", "a : [2] Step", row, "04 01 00 02 80 09 01 02 00");
    agree("little", "a : [..4] Step", r#"{"a":[]}"#, "00 04");
    agree("little", "a : [rest] Step", r#"{"a":[]}"#, "");
    agree("little", "n : u8\na : [rest] Step", r#"{"n":1,"a":[{"at":1,"force":2,"hot":true}]}"#, "01 04 01 02 00 01");
    // A record whose size varies carries it with each element.
    let notes = r#"{"a":[{"text":"ab","mark":5},{"text":"","mark":6}]}"#;
    agree("little", "a : [..2] Note", notes, "02 04 02 61 62 05 02 00 06");
    let plan = plan("little", "a : [..4] Step\nz : u8");
    // A sender of revision 1 knows `at` alone, one of revision 2 `force` too.
    let older = r#"{"a":[{"at":1},{"at":9}],"z":3}"#;
    assert_eq!(encoded(&plan, older, 1).as_deref(), Ok("02 01 01 09 03"));
    assert_eq!(decoded(&plan, "02 01 01 09 03", None).as_deref(), Ok(older));
    assert_eq!(decoded(&plan, "01 03 01 02 00 03", None).as_deref(), Ok(r#"{"a":[{"at":1,"force":2}],"z":3}"#));
    // What a later revision adds is stepped over.
    let later = decoded(&plan, "01 06 01 02 00 01 EE EE 03", None);
    assert_eq!(later.as_deref(), Ok(r#"{"a":[{"at":1,"force":2,"hot":true}],"z":3}"#));
    // A size that cannot be: the element ends inside a section.
    assert!(decoded(&plan, "01 02 01 02 03", None).is_err());
    assert!(decoded(&plan, "01 00 03", None).is_err());
}

#[test]
fn forms_by_an_earlier_field() {
    let fields = "kind : u8\nv : by kind {\n 1 level : u16 * 0.1 m\n 2 name : text[..4]\n 9 pair : Pair\n else other : u8\n}\nz : u8";
    agree("little", fields, r#"{"kind":1,"v":{"level":25.8},"z":7}"#, "01 02 01 07");
    agree("big", fields, r#"{"kind":2,"v":{"name":"ab"},"z":7}"#, "02 02 61 62 07");
    agree("big", fields, r#"{"kind":9,"v":{"pair":{"x":1,"y":1}},"z":7}"#, "09 01 00 10 07");
    agree("big", fields, r#"{"kind":77,"v":{"other":5},"z":7}"#, "4D 05 07");
    // It starts at a byte boundary, and what follows goes on behind it.
    agree(
        "little",
        "k : Gate\nv : by k {\n open a : u4\n held b : u4\n}\nz : u4",
        r#"{"k":"held","v":{"b":3},"z":15}"#,
        "05 F3",
    );
    agree("little", "k : bool\nv : by k {\n true a : u8\n false b : i8\n}", r#"{"k":false,"v":{"b":-1}}"#, "00 FF");
    agree("little", "k : i8\nv : by k {\n -1 a : u8\n}", r#"{"k":-1,"v":{"a":2}}"#, "FF 02");
    agree(
        "little",
        "k : u4\nv : by k {\n 1 a : u8\n else b : bytes[rest]\n}",
        r#"{"k":3,"v":{"b":"01 02"}}"#,
        "03 01 02",
    );
    let plan = plan("little", "k : u4\nv : by k {\n 1 a : u8\n 2 b : u16\n}");
    assert_eq!(decoded(&plan, "05 01", None), Err(BodyError::NoForm { slot: 1, key: 5 }));
    let problem = encoded(&plan, r#"{"k":2,"v":{"a":1}}"#, 3).unwrap_err();
    assert!(problem.contains("another form is given than the one that the deciding number, 2, selects"), "{problem}");
    assert!(encoded(&plan, r#"{"k":2,"v":{"bb":1}}"#, 3).unwrap_err().contains("did you mean `b`?"));
    assert!(encoded(&plan, r#"{"k":2,"v":7}"#, 3).unwrap_err().contains("one of a, b"));
    let wrong = EncodeError::OtherForm { slot: 1, key: 2 };
    assert_eq!(wrong.slot(), 1);
}

#[test]
fn keys_and_values_of_tables() {
    let fields = "s : key of Settings\nv : value of Settings by s";
    agree("little", fields, r#"{"s":"ramp","v":{"ramp":3.25}}"#, "01 0D");
    agree("little", fields, r#"{"s":"name","v":{"name":"ok"}}"#, "02 02 6F 6B");
    agree("big", fields, r#"{"s":"pair","v":{"pair":{"x":1,"y":-1}}}"#, "07 01 FF F0");
    let plan_of = plan("little", fields);
    assert_eq!(decoded(&plan_of, "05 01", None), Err(BodyError::NoForm { slot: 1, key: 5 }));
    assert!(encoded(&plan_of, r#"{"s":"rmap","v":{"ramp":1}}"#, 3).unwrap_err().contains("did you mean `ramp`?"));
    // The request decides: its key is known, or only the bytes are.
    let answer = plan("little", "n : u8\nv : value of Settings by Ask.setting");
    assert_eq!(decoded(&answer, "05 0D", Some(1)).as_deref(), Ok(r#"{"n":5,"v":{"ramp":3.25}}"#));
    assert_eq!(decoded(&answer, "05 02 6F 6B", Some(2)).as_deref(), Ok(r#"{"n":5,"v":{"name":"ok"}}"#));
    assert_eq!(decoded(&answer, "05 0D", None).as_deref(), Ok(r#"{"n":5,"v":{"unknown":"0D"}}"#));
    assert_eq!(decoded(&answer, "05 0D", Some(99)).as_deref(), Ok(r#"{"n":5,"v":{"unknown":"0D"}}"#));
    assert_eq!(encoded(&answer, r#"{"n":5,"v":{"name":"ok"}}"#, 3).as_deref(), Ok("05 02 6F 6B"));
    assert_eq!(encoded(&answer, r#"{"n":5,"v":{"unknown":"0D"}}"#, 3).as_deref(), Ok("05 0D"));
    assert!(decoded(&answer, "05", Some(1)).is_err(), "the value is missing");
}

#[test]
fn explicit_places_and_orders_of_single_fields() {
    // Bits 4 to 7 of byte 0 and all of byte 1, low bits first; then one bit of byte 0.
    agree("little", "a : u12 at 0.4\nb : u1 at 0.0", r#"{"a":2748,"b":1}"#, "C1 AB");
    // Most significant bit at bit 3 of byte 0, going on at bit 7 of byte 1.
    agree("little", "a : u12 be at 0.3\nb : u4 at 0.4", r#"{"a":2748,"b":1}"#, "1A BC");
    agree("big", "a : u12 at 0.7\nb : u4 at 1.3", r#"{"a":2748,"b":1}"#, "AB C1");
    agree("big", "a : u12 le at 0.4\nb : u4 at 0.3", r#"{"a":2748,"b":1}"#, "C1 AB");
    // Out of sequence, with a gap that is zero; a field without a place lies behind everything.
    agree("little", "a : u8 at 3.0\nb : u8 at 0.0\nc : u8", r#"{"a":1,"b":2,"c":3}"#, "02 00 00 01 03");
    agree("little", "a : u4 at 1.0\nc : u4", r#"{"a":1,"c":3}"#, "00 31");
    agree("big", "a : u4 at 1.7\nc : u4", r#"{"a":1,"c":3}"#, "00 13");
    agree("little", "a : u4 be at 0.7\nc : u4", r#"{"a":1,"c":3}"#, "10 03");
    // Whole bytes in the other order.
    agree("little", "a : u16 be\nb : u16", r#"{"a":258,"b":258}"#, "01 02 02 01");
    agree("big", "a : u24 le\nb : i16 le", r#"{"a":66051,"b":-2}"#, "03 02 01 FE FF");
    agree("little", "t : text[..4]\na : u16 be", r#"{"t":"x","a":258}"#, "01 78 01 02");
    agree("little", "a : text[2] at 1.0\nb : u8 at 0.0", r#"{"a":"xy","b":1}"#, "01 78 79");
}

#[test]
fn constants_counters_and_what_is_retired() {
    let fields = "v : exactly 0x2A : u8\nn : u4 counter\nold : u12 retired\nz : u8";
    agree("little", fields, r#"{"v":42,"n":3,"z":7}"#, "2A 03 00 07");
    let plan_of = plan("little", fields);
    assert_eq!(encoded(&plan_of, r#"{"n":3,"z":7}"#, 3).as_deref(), Ok("2A 03 00 07"), "a constant needs no value");
    assert!(encoded(&plan_of, r#"{"v":43,"n":3,"z":7}"#, 3).unwrap_err().contains("42, always"));
    assert!(encoded(&plan_of, r#"{"n":3,"z":7,"old":1}"#, 3).unwrap_err().contains("has no such field"));
    // Another constant is told, and what stands in a retired field is ignored.
    assert_eq!(decoded(&plan_of, "2B 03 00 07", None).as_deref(), Ok(r#"{"v":{"raw":43},"n":3,"z":7}"#));
    assert_eq!(decoded(&plan_of, "2A F3 FF 07", None).as_deref(), Ok(r#"{"v":42,"n":3,"z":7}"#));
    // Retired and optional: never sent, stepped over when it is there.
    let optional = plan("little", "old : u16 retired optional\nz : u8");
    assert_eq!(encoded(&optional, r#"{"z":7}"#, 3).as_deref(), Ok("00 07"));
    assert_eq!(decoded(&optional, "01 EE EE 07", None).as_deref(), Ok(r#"{"z":7}"#));
    agree("big", "v : exactly -2 : i12\nspare 4 bits", r#"{"v":-2}"#, "FF E0");
}

#[test]
fn later_sections_of_every_kind() {
    let fields =
        "a : u4\nadded in 2 {\n l : [..2] u8\n t : f16 optional\n}\nadded in 3 {\n p : Pair\n c : compact u16\n}";
    let row = r#"{"a":1,"l":[5],"t":1.5,"p":{"x":1,"y":1},"c":200}"#;
    agree("little", fields, row, "01 01 01 05 00 3E 01 01 00 C8 01");
    let plan = plan("little", fields);
    assert_eq!(encoded(&plan, r#"{"a":1,"l":[5]}"#, 2).as_deref(), Ok("01 00 01 05"));
    assert_eq!(decoded(&plan, "01 00 01 05", None).as_deref(), Ok(r#"{"a":1,"l":[5]}"#));
    assert_eq!(decoded(&plan, "01", None).as_deref(), Ok(r#"{"a":1}"#));
    assert!(encoded(&plan, r#"{"a":1,"l":[5]}"#, 1).unwrap_err().contains("was added in revision 2"));
}

/// The row and the bytes in the line behind an example.
fn row_and_bytes(behind: &str) -> (&str, &str) {
    let pieces: Vec<&str> = behind.trim_start().lines().next().unwrap().split('`').collect();
    (pieces[1], pieces[3])
}

/// The examples of docs/how-do-i-write.md: whole definitions, then a row of `M` and its bytes.
#[test]
fn the_page_of_questions_says_the_right_bytes() {
    let page = include_str!("../../../../docs/how-do-i-write.md");
    let mut count = 0;
    for part in page.split("```ember\n").skip(1) {
        let (text, behind) = part.split_once("```").unwrap();
        let (row, body) = row_and_bytes(behind);
        let checked = check(&Source::new("how-do-i-write.md", text));
        let plan = checked.plan.unwrap_or_else(|| panic!("{:#?}\n{text}", checked.findings));
        assert_eq!(encoded(&plan, row, 1).as_deref(), Ok(body), "{text}");
        assert_eq!(decoded(&plan, body, None).as_deref(), Ok(row), "{text}");
        count += 1;
    }
    assert!(count >= 6, "only {count} examples");
}

/// The examples of docs/language.md: fields, then rows with the bytes that they make.
#[test]
fn the_language_page_says_the_right_bytes() {
    let page = include_str!("../../../../docs/language.md");
    let mut count = 0;
    for part in page.split("```ember-fields\n").skip(1) {
        let (fields, behind) = part.split_once("```").unwrap();
        let (row, body) = row_and_bytes(behind);
        let text = format!(
            "link l {{ revision 2  byte_order little }}\nmessage A {{ from host }}\nmessage M {{\n from device\n {fields}\n}}"
        );
        let checked = check(&Source::new("language.md", text.as_str()));
        let plan = checked.plan.unwrap_or_else(|| panic!("{:#?}\n{fields}", checked.findings));
        assert_eq!(encoded(&plan, row, 2).as_deref(), Ok(body), "{fields}");
        assert_eq!(decoded(&plan, body, None).as_deref(), Ok(row), "{fields}");
        count += 1;
    }
    assert!(count >= 11, "only {count} examples");
}

/// A body that is too short because its deciding number is wrong says that, and one that only ends too early says so.
#[test]
fn a_number_that_selects_no_form_is_told_before_the_length() {
    let plan = plan("big", "tag : u8\nvalue : by tag { 1 level : u16  2 wide : u32 }\nrest : u16");
    let error = |body: &str| decoded(&plan, body, None).unwrap_err().to_string();
    assert!(error("00").contains("0 selects none of the forms"), "{}", error("00"));
    assert!(error("09 00").contains("9 selects none of the forms"), "{}", error("09 00"));
    assert!(error("02 00").contains("the body has 2 bytes, but"), "{}", error("02 00"));
    assert!(error("01").contains("the body has 1 byte, but"), "{}", error("01"));
    assert!(error("").contains("the body has 0 bytes, but"), "{}", error(""));
}
