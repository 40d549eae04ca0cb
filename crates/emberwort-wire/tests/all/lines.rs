//! Text messages: lines worked out by hand, written and read, and lines that are none.

use emberwort_model::{Plan, Source, check};
use emberwort_text::json::{self, Writing};
use emberwort_text::{Filling, GivenValue, fill};
use emberwort_wire::{BodyError, EncodeError, Values, line};
use proptest::prelude::*;
use serde_json::Value as Json;

/// The plan of one text message.
fn plan(pattern: &str, fields: &str) -> Plan {
    let text = format!(
        "link l {{ revision 1  byte_order little }}\nenum Mode : u4 {{ 0 local  7 remote_7 }}\n\
         channel console {{ medium uart 9600 8N1\n lines lf\n limit 200 bytes\n }}\n\
         message M {{ from device  on console\n line \"{pattern}\"\n {fields}\n}}"
    );
    let checked = check(&Source::new("line.ember", text.as_str()));
    assert!(checked.findings.iter().all(|finding| !finding.is_error()), "{:#?}", checked.findings);
    checked.plan.unwrap()
}

fn written(plan: &Plan, row: &str) -> Result<String, EncodeError> {
    let compiled = &plan.messages[0];
    let Json::Object(row) = serde_json::from_str(row).unwrap() else { panic!("{row}") };
    let given = row.iter().map(|(name, value)| (name.as_str(), GivenValue::Json(value)));
    let mut values = Values::default();
    fill(compiled, given, Filling::of(plan), &mut values).unwrap();
    let mut out = Vec::new();
    line::write(compiled, &values, &mut out)?;
    Ok(String::from_utf8(out).unwrap())
}

/// The row of a line; `None` if it is no line of this message.
fn read(plan: &Plan, text: &str) -> Result<Option<String>, BodyError> {
    let compiled = &plan.messages[0];
    let mut values = Values::default();
    if !line::read(compiled, text.as_bytes(), &mut values)? {
        return Ok(None);
    }
    let mut row = String::new();
    json::write_fields(compiled, &values, Writing::default(), &mut row).unwrap();
    Ok(Some(row))
}

/// A row is written as this line, and the line read as this row.
fn agree(plan: &Plan, row: &str, text: &str) {
    assert_eq!(written(plan, row).as_deref(), Ok(text), "{row}");
    assert_eq!(read(plan, text).unwrap().as_deref(), Some(row), "{text}");
}

#[test]
fn numbers_in_decimal_hex_and_with_fixed_decimals() {
    let plan = plan(
        "V{valve}:{position} {level:fixed 3} {code:hex4}{low:hex2}",
        "valve : u8\nposition : 0 .. 100 % step 0.5\nlevel : -1.5 .. 9.5 m step 0.05 or none\ncode : u16\nlow : u8",
    );
    agree(&plan, r#"{"valve":12,"position":40.5,"level":-1.05,"code":43981,"low":7}"#, "V12:40.5 -1.050 ABCD07");
    agree(&plan, r#"{"valve":0,"position":0.0,"level":null,"code":0,"low":255}"#, "V0:0.0 none 0000FF");
    // Small hex digits, leading zeros and a plus sign say the same.
    let loose = read(&plan, "V012:+40.50 -1.05 abcdFf").unwrap().unwrap();
    assert_eq!(loose, r#"{"valve":12,"position":40.5,"level":-1.05,"code":43981,"low":255}"#);
    // A value outside its field is a mistake of a line that is this message's otherwise.
    for (text, slot) in [
        ("V256:40.5 -1.050 ABCD07", 0),
        ("V12:100.5 -1.050 ABCD07", 1),
        ("V12:40.55 -1.050 ABCD07", 1),
        ("V-1:40.5 -1.050 ABCD07", 0),
        ("V1.5:40.5 -1.050 ABCD07", 0),
        ("V1:40.5 9.550 ABCD07", 2),
    ] {
        assert_eq!(read(&plan, text), Err(BodyError::BadText { slot }), "{text}");
    }
    for text in [
        "",
        "V",
        "V12",
        "W12:40.5 -1.050 ABCD07",
        "V12:40.5 -1.050 ABCD",
        "V12:40.5 -1.050 ABCG07",
        "V12:40.5 -1.050 ABCD07 ",
    ] {
        assert_eq!(read(&plan, text), Ok(None), "{text}");
    }
}

#[test]
fn numbers_of_one_width_and_blanks() {
    let plan = plan(
        "{hour:wide 2}{minute:wide 2};{depth:fixed 2 wide 7 blank},{mode:blank},{code:hex2 blank}",
        "hour : 0 .. 23 step 1\nminute : 0 .. 59 step 1\ndepth : -99.5 .. 400 m step 0.05 or none\nmode : Mode or none\n\
         code : 0 .. 99 step 1 or none",
    );
    agree(&plan, r#"{"hour":6,"minute":15,"depth":-7.50,"mode":"local","code":10}"#, "0615;-007.50,local,0A");
    agree(&plan, r#"{"hour":23,"minute":0,"depth":400.00,"mode":null,"code":null}"#, "2300;0400.00,,");
    agree(&plan, r#"{"hour":0,"minute":0,"depth":null,"mode":"remote_7","code":0}"#, "0000;,remote_7,00");
    // Another width is another line; so is the word where a blank stands for it.
    for text in ["615;-007.50,local,0A", "0615;-07.50,local,0A", "0615;,local,A", "0615;none,local,0A"] {
        assert_eq!(read(&plan, text), Ok(None), "{text}");
    }
    for (text, slot) in [("2460;,,", 0), ("0060;,,", 1), ("0000;0400.01,,", 2), ("0000;,none,", 3), ("0000;,,64", 4)] {
        assert_eq!(read(&plan, text), Err(BodyError::BadText { slot }), "{text}");
    }
}

#[test]
fn labels_texts_and_bools() {
    let plan = plan("{{{mode}}} {on}, {name};{rest}", "mode : Mode\non : bool\nname : text[..8]\nrest : ascii[6]");
    agree(&plan, r#"{"mode":"remote_7","on":true,"name":"Schütz","rest":"a b"}"#, "{remote_7} true, Schütz;a b");
    agree(&plan, r#"{"mode":"local","on":false,"name":"","rest":""}"#, "{local} false, ;");
    // The first `;` ends the name: the rest is everything behind it.
    let row = read(&plan, "{local} true, a;b;c").unwrap().unwrap();
    assert_eq!(row, r#"{"mode":"local","on":true,"name":"a","rest":"b;c"}"#);
    assert_eq!(read(&plan, "{nobody} true, a;b"), Err(BodyError::BadText { slot: 0 }));
    assert_eq!(read(&plan, "{local} yes, a;b"), Err(BodyError::BadText { slot: 1 }));
    assert_eq!(read(&plan, "{local} true, 123456789;b"), Err(BodyError::BadText { slot: 2 }));
    assert_eq!(read(&plan, "{local} true, a;ü"), Err(BodyError::BadText { slot: 3 }));
    assert_eq!(read(&plan, "{local} true, a"), Ok(None));
    // A line's end inside a text would make two lines of one.
    let broken = written(&plan, r#"{"mode":"local","on":true,"name":"a\nb","rest":""}"#);
    assert_eq!(broken, Err(EncodeError::EndsLine { slot: 2 }));
}

#[test]
fn bytes_that_are_no_text_are_no_line() {
    let plan = plan("N{name}", "name : text[..8]");
    let mut values = Values::default();
    assert_eq!(line::read(&plan.messages[0], b"N\xFF\xFE", &mut values), Ok(false));
}

/// A number between two codes is none of them, however near; so is a byte beyond ASCII where there can be none.
#[test]
fn what_a_field_cannot_hold_is_not_read_as_something_else() {
    let plan = plan(
        "V{position}:{oil},{name}",
        "position : 0 .. 100 % step 0.5\noil : 0 .. 1 bar in 4 bits\nname : ascii[..4]",
    );
    for oil in ["0.0667", "0.2", "1"] {
        let text = written(&plan, &format!(r#"{{"position":50.5,"oil":{oil},"name":""}}"#)).unwrap();
        assert!(read(&plan, &text).unwrap().is_some(), "{text}");
    }
    assert!(read(&plan, "V50.50:1,").unwrap().is_some());
    let mut values = Values::default();
    for (text, slot) in [(&b"V50.2:1,"[..], 0), (b"V50:0.06,", 1), (b"V50:1,\xC3\xA9", 2), (b"V50:1,\xE9", 2)] {
        assert_eq!(line::read(&plan.messages[0], text, &mut values), Err(BodyError::BadText { slot }), "{text:?}");
    }
}

proptest::proptest! {
    #[test]
    fn what_is_written_is_read_back(valve: u8, position in 0u32..=200, code: u16, mode in 0usize..2, name in "[a-zäöü0-9 ]{0,4}") {
        let plan = plan("{valve}/{position}/{code:hex4}{mode}:{name}",
            "valve : i8\nposition : 0 .. 100 % step 0.5\ncode : u16\nmode : Mode\nname : text[..12]");
        let mode = ["local", "remote_7"][mode];
        let (valve, position) = (valve as i8, format!("{}.{}", position / 2, if position % 2 == 1 { 5 } else { 0 }));
        let row = format!(r#"{{"valve":{valve},"position":{position},"code":{code},"mode":"{mode}","name":"{name}"}}"#);
        agree(&plan, &row, &format!("{valve}/{position}/{code:04X}{mode}:{name}"));
    }

    #[test]
    fn any_text_is_read_or_refused(text in "\\PC{0,40}") {
        let plan = plan("V{valve}:{position} {mode}", "valve : u8\nposition : 0 .. 100 % step 0.5\nmode : Mode");
        let _ = read(&plan, &text);
        let _ = read(&plan, &format!("V{text}"));
    }
}

/// A text of characters that patterns like to end with, and others.
fn text() -> impl Strategy<Value = String> {
    let one = prop_oneof![
        Just(':'),
        Just(','),
        Just('"'),
        Just(' '),
        Just('\r'),
        Just('\n'),
        Just('a'),
        Just('n'),
        Just('-'),
        Just('0'),
        Just('\u{e9}'),
        any::<char>()
    ];
    proptest::collection::vec(one, 0..6).prop_map(String::from_iter)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(3000))]

    /// What is written as a line is read as the same values; what would not be is refused.
    #[test]
    fn lines_written_are_lines_read(
        pattern in proptest::sample::select(vec![
            "{a}:{b}", "{a}::{n}", "x{a},{b};", "{n} {a} {m} {b}", "{a}", "say {a}!{n:hex4}{b}", "{m},{a}aa{n}", "{n:wide 4}{a} {m}:{b}",
        ]),
        a in text(), b in text(), n in 0u16..9999, m in 0u8..2,
    ) {
        let named = |name: &str| pattern.contains(&format!("{{{name}"));
        let mut fields = String::new();
        for (name, kind) in [("a", "text[..24]"), ("b", "text[..24]"), ("n", "0 .. 9999 step 1"), ("m", "Mode")] {
            if named(name) {
                fields += &format!("{name} : {kind}\n");
            }
        }
        let plan = plan(pattern, &fields);
        let mut row = serde_json::Map::new();
        let mode = if m == 0 { "local" } else { "remote_7" };
        for (name, value) in [("a", Json::from(a)), ("b", Json::from(b)), ("n", Json::from(n)), ("m", Json::from(mode))] {
            if named(name) {
                row.insert(name.to_owned(), value);
            }
        }
        let row = Json::Object(row).to_string();
        if let Ok(line) = written(&plan, &row) {
            prop_assert!(!line.contains(['\n', '\r']));
            let back: Json = serde_json::from_str(&read(&plan, &line).unwrap().unwrap()).unwrap();
            prop_assert_eq!(back, serde_json::from_str::<Json>(&row).unwrap(), "{}", line);
        }
    }
}

#[test]
fn what_would_be_read_as_something_else_is_refused_with_the_reason() {
    let plan = plan("T{a}:{b}", "a : text[..24]\nb : text[..24]");
    agree(&plan, r#"{"a":"x","b":"y:z"}"#, "Tx:y:z");
    for (a, b, wanted) in [
        ("x:y", "z", EncodeError::EndsField { slot: 0 }),
        ("x\n", "z", EncodeError::EndsLine { slot: 0 }),
        ("x", "z\r", EncodeError::EndsLine { slot: 1 }),
    ] {
        let row = serde_json::json!({"a": a, "b": b}).to_string();
        assert_eq!(written(&plan, &row), Err(wanted), "{row}");
    }
    // An end of two characters, of which the text has the first.
    let double = self::plan("{a}::{b}", "a : text[..24]\nb : text[..24]");
    assert_eq!(written(&double, r#"{"a":"x:","b":""}"#), Err(EncodeError::EndsField { slot: 0 }));
}
