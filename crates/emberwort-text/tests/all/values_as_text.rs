//! Values as people and rows write them: every kind of field, every form, and what is said of those that do not fit.

use emberwort_model::plan::MessagePlan;
use emberwort_model::{Source, check};
use emberwort_text::json;
use emberwort_text::json::Writing;
use emberwort_text::{Filling, GivenValue, fill, write_value};
use emberwort_wire::{ValueRef, Values};

/// A message with one field.
fn message(ty: &str) -> MessagePlan {
    let text = format!(
        "link l {{ revision 1  byte_order little }}
         enum Mode : u3 {{ 0 off  1 slow  5 fast }}
         flags Alarms : u4 {{ 0 hot  3 dry }}
         message M {{\n from host\n a : {ty}\n}}"
    );
    let checked = check(&Source::new("one.ember", text));
    checked.plan.unwrap_or_else(|| panic!("{:?} in {ty}", checked.findings)).messages.remove(0)
}

fn set(plan: &MessagePlan, given: GivenValue<'_>, clamp: bool) -> Result<Values, String> {
    let mut values = Values::default();
    match fill(plan, [("a", given)], Filling { clamp, revision: 1, plan: None, changed: None }, &mut values) {
        Ok(()) => Ok(values),
        Err(problems) => Err(problems.iter().map(ToString::to_string).collect::<Vec<_>>().join("; ")),
    }
}

/// What a text becomes: as a table shows it, and as a row has it.
fn shown(ty: &str, text: &str) -> (String, String) {
    let plan = message(ty);
    let values = set(&plan, GivenValue::Text(text), false).unwrap_or_else(|problem| panic!("{ty} = {text}: {problem}"));
    let mut table = String::new();
    write_value(&plan.message.fields[0], &values, 0, &mut table).unwrap();
    let mut row = String::new();
    json::write_fields(&plan, &values, Writing::default(), &mut row).unwrap();
    // What a row says is read back as the same value.
    let parsed: serde_json::Value = serde_json::from_str(&row).unwrap();
    let again = set(&plan, GivenValue::Json(&parsed["a"]), false).unwrap_or_else(|problem| panic!("{row}: {problem}"));
    assert!(again == values, "{ty} = {text} → {row}");
    (table, row.strip_prefix("{\"a\":").unwrap().strip_suffix('}').unwrap().to_owned())
}

fn refused(ty: &str, text: &str) -> String {
    set(&message(ty), GivenValue::Text(text), false).expect_err(text)
}

fn both(text: &str) -> (String, String) {
    (text.to_owned(), text.to_owned())
}

#[test]
fn numbers() {
    assert_eq!(shown("u8", "255"), both("255"));
    assert_eq!(shown("u8", "0x1F"), both("31"));
    assert_eq!(shown("u8", "0b1_01"), both("5"));
    assert_eq!(shown("i64", "-9223372036854775808"), both("-9223372036854775808"));
    assert_eq!(shown("u64", "18446744073709551615"), both("18446744073709551615"));
    assert_eq!(shown("u8 * 0.05 V", "12.3"), both("12.30"));
    assert_eq!(shown("u8 * 0.05 V", "12.3 V"), both("12.30"), "with the unit after it");
    assert_eq!(shown("u8 * 0.05 V", "1.0e1"), both("10.00"));
    assert_eq!(shown("i8 * -0.5 + 3", "-2.5"), both("-2.5"));
    assert_eq!(shown("-1.5 .. 9.5 m step 0.005", "-1.5"), both("-1.500"));
    assert_eq!(shown("0 .. 250 bar in 12 bits", "250"), both("250.00"));
    assert_eq!(shown("0 .. 10 m step 1", "2.5"), both("3"), "a tie goes away from zero");
    assert_eq!(shown("u8 or none", "none"), ("none".into(), "null".into()));
    assert_eq!(shown("i8 or none", "none"), ("none".into(), "null".into()));
    assert_eq!(shown("0 .. 10 m step 1", "raw:12"), ("raw 12 (no meaning)".into(), "{\"raw\":12}".into()));
    assert_eq!(shown("exactly 42 : u8", "raw:43"), ("raw 43 (must be 42)".into(), "{\"raw\":43}".into()));
    assert_eq!(shown("i8", "raw:-3"), both("-3"));
}

#[test]
fn numbers_that_do_not_fit() {
    assert_eq!(refused("u8", "256"), "a: 256 does not fit; it holds 0 .. 255 in steps of 1");
    assert_eq!(refused("u8", "-1"), "a: -1 does not fit; it holds 0 .. 255 in steps of 1");
    assert_eq!(refused("i8 or none", "-128"), "a: -128 does not fit; it holds -127 .. 127 in steps of 1, or `none`");
    assert_eq!(
        refused("0 .. 100 % step 0.5", "100.1"),
        "a: 100.1 does not fit; it holds 0.0 .. 100.0 % in steps of 0.5"
    );
    assert_eq!(
        refused("0 .. 250 bar in 12 bits", "250.01"),
        "a: 250.01 does not fit; it holds 0.00 .. 250.00 bar in steps of ≈0.0611"
    );
    assert_eq!(refused("u8", "none"), "a: `none` is not a number; it holds 0 .. 255 in steps of 1");
    assert_eq!(refused("u8", ""), "a: `` is not a number; it holds 0 .. 255 in steps of 1");
    assert_eq!(refused("u8", "raw:256"), "a: the raw number 256 does not fit; 8 bits hold 0 .. 255");
    assert_eq!(refused("i8", "raw:x"), "a: `raw:` needs a whole number after it, as in raw:943 or raw:0x3AF");
    let wide = "9".repeat(60);
    assert!(refused("u8", &wide).starts_with("a: `999"));
}

#[test]
fn clamping_moves_to_the_nearest_end() {
    let raw = |ty: &str, text: &str| match set(&message(ty), GivenValue::Text(text), true).unwrap().get(0) {
        ValueRef::Raw(raw) => raw as i64,
        other => panic!("{other:?}"),
    };
    assert_eq!((raw("u8", "-5"), raw("u8", "1e9"), raw("i8", "-1000")), (0, 255, -128));
    assert_eq!((raw("i8 or none", "-1000"), raw("u8 or none", "1000")), (-127, 254));
    assert_eq!((raw("i8 * -0.5 + 3", "1000"), raw("i8 * -0.5 + 3", "-1000")), (-128, 127), "a falling scale");
    assert_eq!(
        (raw("0 .. 10 step 1", "-0.4"), raw("0 .. 10 step 1", "10.4"), raw("0 .. 10 step 1", "9.6")),
        (0, 10, 10)
    );
}

#[test]
fn labels_flags_and_switches() {
    assert_eq!(shown("Mode", "fast"), ("fast".into(), "\"fast\"".into()));
    assert_eq!(shown("Mode", "raw:6"), ("raw 6 (no meaning)".into(), "{\"raw\":6}".into()));
    assert_eq!(shown("Mode or none", "none"), ("none".into(), "null".into()));
    assert_eq!(shown("Alarms", "hot,dry"), ("[hot, dry]".into(), "[\"hot\",\"dry\"]".into()));
    assert_eq!(shown("Alarms", "[hot]"), ("[hot]".into(), "[\"hot\"]".into()));
    assert_eq!(shown("Alarms", ""), both("[]"));
    assert_eq!(shown("Alarms", "raw:6"), ("[bit 1, bit 2]".into(), "[1,2]".into()));
    assert_eq!(shown("bool", "true"), both("true"));
    assert_eq!(shown("bool", "0"), both("false"));
    assert_eq!(refused("Mode", "fats"), "a: `Mode` has no label `fats`; did you mean `fast`?");
    assert_eq!(refused("Mode", "warp"), "a: `Mode` has no label `warp`; it has off, slow, fast");
    assert_eq!(refused("Alarms", "hot,wet"), "a: `Alarms` has no label `wet`; it has hot, dry");
    assert_eq!(refused("bool", "maybe"), "a: `maybe` is neither `true` nor `false`");
}

#[test]
fn floats() {
    assert_eq!(shown("f32", "0.1"), both("0.1"));
    assert_eq!(shown("f32 kN", "-2.5 kN"), both("-2.5"));
    assert_eq!(shown("f32", "-0"), both("-0"));
    assert_eq!(shown("f32", "1e20"), both("100000000000000000000"));
    assert_eq!(shown("f32", "16777217"), both("16777216"), "the nearest float");
    assert!(refused("f32", "1e39").contains("beyond a 32-bit float"));
    assert!(refused("f32", "inf").contains("beyond a 32-bit float"));
    assert!(refused("f32", "abc").contains("`abc` is not a number"));
}

#[test]
fn texts_and_bytes() {
    assert_eq!(shown("text[..12]", "Wren"), ("\"Wren\"".into(), "\"Wren\"".into()));
    assert_eq!(shown("text[..12]", ""), both("\"\""));
    assert_eq!(shown("text[..12]", "a\"b\\c"), ("\"a\"b\\c\"".into(), "\"a\\\"b\\\\c\"".into()));
    assert_eq!(
        shown("text[..12]", "\u{1b}\n\u{202e}é"),
        ("\"\\u{1b}\\n\\u{202e}é\"".into(), "\"\\u001b\\n\\u202eé\"".into())
    );
    assert_eq!(shown("bytes[3]", "01 aB:fF"), ("01 AB FF".into(), "\"01 AB FF\"".into()));
    assert_eq!(shown("bytes[3]", "0x01,0x02,0x03"), ("01 02 03".into(), "\"01 02 03\"".into()));
    assert_eq!(refused("text[..3]", "é水"), "a: this text has 5 bytes; it holds text of at most 3 bytes");
    assert_eq!(refused("bytes[3]", "01 02"), "a: 2 bytes given; it holds 3 bytes in hex");
    assert_eq!(refused("bytes[3]", "01 0"), "a: `01 0` is not hex; write two digits per byte, as in \"C6 39\"");
}

#[test]
fn rows_with_wrong_values() {
    let refused =
        |ty: &str, value: serde_json::Value| set(&message(ty), GivenValue::Json(&value), false).expect_err("refused");
    use serde_json::json;
    assert_eq!(refused("u8", json!("12")), "a: \"12\" does not fit; it holds 0 .. 255 in steps of 1");
    assert_eq!(refused("u8", json!(null)), "a: it cannot be null; it holds 0 .. 255 in steps of 1");
    assert_eq!(
        refused("u8", json!({"raw": 1, "x": 2})),
        "a: an object can only be {\"raw\": …} here; it holds 0 .. 255 in steps of 1"
    );
    assert_eq!(refused("u8", json!({"raw": 1.5})), "a: the raw number 1.5 is not whole");
    assert_eq!(refused("u8", json!({"raw": true})), "a: \"raw\" takes a number, or hex digits in quotes");
    assert_eq!(refused("Alarms", json!([4])), "a: there is no bit 4; `Alarms` has 4 bits");
    assert_eq!(refused("Alarms", json!([[]])), "a: [] is not a flag; write labels in quotes");
    assert_eq!(refused("text[..3]", json!({"raw": "zz"})), "a: \"raw\" takes hex digits, two per byte");
    let plan = message("u8 optional");
    let values = set(&plan, GivenValue::Json(&json!(null)), false).unwrap();
    assert_eq!(values.get(0), ValueRef::Absent);
}

#[test]
fn a_field_given_twice_or_unknown_is_told() {
    let plan = message("u8");
    let mut values = Values::default();
    let given = [("a", GivenValue::Text("1")), ("a", GivenValue::Text("2")), ("zzz", GivenValue::Text("3"))];
    let problems =
        fill(&plan, given, Filling { clamp: false, revision: 1, plan: None, changed: None }, &mut values).unwrap_err();
    let lines: Vec<String> = problems.iter().map(ToString::to_string).collect();
    assert_eq!(lines, ["a: given twice; keep one", "zzz: `M` has no such field; it has a"]);
}
