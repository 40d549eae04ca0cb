//! One number every way, against values worked out by hand.

use emberwort_model::views::{View, binary, of_raw, of_type, other_widths, raw_from_text};
use emberwort_model::{Source, check, field_of_type};

/// The views of a raw number, as `what: text` joined by ` | `.
fn raw(ty: &str, raw: &str, asked: Option<&str>) -> String {
    let field = field_of_type(ty, None).unwrap_or_else(|found| panic!("{ty}: {found:?}"));
    let raw = raw_from_text(&field, raw).unwrap();
    joined(of_raw(&field, raw, asked))
}

fn joined(views: Vec<View>) -> String {
    views.iter().map(|view| format!("{}: {}", view.what, view.text)).collect::<Vec<_>>().join(" | ")
}

#[test]
fn a_range_with_its_error_of_rounding() {
    assert_eq!(
        raw("-1.5 .. 9.5 m step 0.005", "943", Some("3.217")),
        "asked for: 3.217 m | value: 3.215 m | error of rounding: -0.002 m | raw: 943 | hex: 0x3AF | binary: 0011 1010 1111 | \
         bytes, little-endian: AF 03 | bytes, big-endian: 03 AF | one code less: 3.210 m | one code more: 3.220 m"
    );
    // 1/3 of a code: the error has no end.
    let thirds = raw("0 .. 1 in 2 bits", "1", Some("0.3"));
    assert!(thirds.contains("value: ≈0.3 ") && thirds.contains("error of rounding: +≈0.03333"), "{thirds}");
    assert!(
        raw("0 .. 250 bar in 12 bits", "1638", Some("100")).contains("value: 100.00 bar | error of rounding: 0 bar")
    );
    assert!(raw("0 .. 10 step 1 or none", "15", None).starts_with("value: none: no reading"));
    assert!(raw("0 .. 10 step 1", "12", None).starts_with("value: nothing: the type gives this code no meaning"));
}

#[test]
fn integers_and_their_other_reading() {
    assert_eq!(
        raw("u16", "0x7A1E", None),
        "value: 31262 | raw: 31262 | hex: 0x7A1E | binary: 0111 1010 0001 1110 | bytes, little-endian: 1E 7A | \
         bytes, big-endian: 7A 1E"
    );
    assert!(raw("u16", "0xFFFE", None).ends_with("read as signed: -2"));
    assert!(raw("i16", "0xFFFE", None).starts_with("value: -2 | raw: -2 | hex: 0xFFFE"));
    assert!(raw("i16", "-2", None).ends_with("read as unsigned: 65534"));
    assert!(raw("u3", "5", None).contains("binary: 101 | byte: 05 | read as signed: -3"));
    assert!(raw("compact i32", "-300", None).contains("bytes: D7 04"));
    assert!(raw("compact u32", "300", None).contains("bytes: AC 02"));
    assert_eq!(binary(0b1_0110_1001, 9), "1 0110 1001");
}

#[test]
fn floats_in_their_parts() {
    let half = raw("f16", "0x2E66", Some("0.1"));
    assert!(half.contains("value: 0.1 | error of rounding: -0.0000244140625"), "{half}");
    assert!(half.contains("sign: 0: positive | exponent: 11 - 15 = -4 | significand: 1638 of 2^10"), "{half}");
    assert!(half.contains("exactly: 0.0999755859375"), "{half}");
    assert!(
        raw("f32", "0x80000001", None).contains("exponent: 0: subnormal, the power is -126 | significand: 1 of 2^23")
    );
    assert!(raw("f32", "0x7F800000", None).starts_with("value: infinity"));
    // A number that becomes nothing is told; zero itself is no underflow, and neither is a code that is left.
    let lost = raw("f16", "0", Some("0.00000002"));
    assert!(lost.contains("underflow: to zero: the least above zero is 0.00000006"), "{lost}");
    assert!(lost.contains("error of rounding: -0.00000002"), "{lost}");
    assert!(!raw("f16", "0", Some("0")).contains("underflow"));
    assert!(!raw("f16", "1", Some("0.00000005")).contains("underflow"));
    assert!(raw("f64", "0x7FF8000000000000", None).starts_with("value: not a number"));
    assert!(raw("f32 V", "0x40490FDB", None).contains("value: 3.1415927 V"));
}

#[test]
fn types_by_themselves() {
    let of = |ty: &str| joined(of_type(&field_of_type(ty, None).unwrap()));
    assert_eq!(
        of("-1.5 .. 9.5 m step 0.005 or none"),
        "bits: 12 | codes: 2201: 0 .. 2200 | none: code 4095 | left over: 1894 | least: -1.500 m | greatest: 9.500 m | step: 0.005 m"
    );
    assert!(of("0 .. 250 bar in 12 bits").ends_with("step: ≈0.06105 bar"));
    assert!(of("compact u16").starts_with("bits: 8 to 24 on the wire, 16 of value"));
    assert!(of("f16").contains("greatest: 65504 | least above zero: 0.00000006"), "{}", of("f16"));
    assert!(of("time s").contains("greatest: 2106-02-07T06:28:15Z"));
    assert_eq!(of("bool"), "bits: 1");
}

#[test]
fn labels_and_flags_of_a_definition() {
    let text = "link v { revision 1  byte_order little }\nenum Gate : u3 { 0 shut  \"latched\"\n 1 open\n 5 held }\n\
        enum Mode : u8 { 0x10 slow\n 0x20 fast }\nflags Signs : u4 { 0 hot\n 3 wet }\n\
        message M { from device\n g : Gate\n m : Mode\n s : Signs }\n";
    let plan = check(&Source::new("v.ember", text)).plan.unwrap();
    let of = |ty: &str| joined(of_type(&field_of_type(ty, Some(&plan)).unwrap()));
    assert_eq!(of("Gate"), "bits: 3 | labels: 3 | left over: 5 | code 0: shut: latched | code 1: open | code 5: held");
    let with_none = "bits: 3 | labels: 3 | left over: 4 | code 0: shut: latched | code 1: open | code 5: held | code 7: none: no reading";
    assert_eq!(of("Gate or none"), with_none);
    // Codes come back in the base in which they were written.
    assert_eq!(
        of("Mode or none"),
        "bits: 8 | labels: 2 | left over: 253 | code 0x10: slow | code 0x20: fast | code 0xFF: none: no reading"
    );
    assert_eq!(of("Signs"), "bits: 4 | left over: 2 bits | bit 0: hot | bit 3: wet");
    let raw = |ty: &str, raw: u64| joined(of_raw(&field_of_type(ty, Some(&plan)).unwrap(), raw, None));
    assert_eq!(raw("Gate", 5), "value: held | raw: 5 | hex: 0x5 | binary: 101 | byte: 05");
    assert!(raw("Gate", 6).starts_with("value: nothing: the type gives this code no meaning"));
    assert!(raw("Signs", 0b1001).ends_with("bit 0: hot | bit 3: wet"), "{}", raw("Signs", 0b1001));
}

#[test]
fn what_other_widths_would_give() {
    let widths = |ty: &str| {
        let field = field_of_type(ty, None).unwrap();
        other_widths(&field)
            .iter()
            .map(|row| format!("{} {} {} {}", row.bits, row.codes, row.range, row.step))
            .collect::<Vec<_>>()
    };
    assert_eq!(
        widths("0 .. 100 % step 0.5"),
        ["7 128 0 .. 100 ≈0.7874", "8 256 0 .. 100 ≈0.3922", "9 512 0 .. 100 ≈0.1957", "16 65536 0 .. 100 ≈0.001526"]
    );
    assert_eq!(
        widths("i8 * 0.5 + 20"),
        ["7 128 -12 .. 51.5 0.5", "8 256 -44 .. 83.5 0.5", "9 512 -108 .. 147.5 0.5", "16 65536 -16364 .. 16403.5 0.5"]
    );
    assert_eq!(widths("u1 or none")[0], "1 1 0 .. 0 1", "one bit less there is not");
    assert!(widths("f32").is_empty());
}

#[test]
fn raw_numbers_that_do_not_fit_are_told() {
    let field = field_of_type("i12", None).unwrap();
    assert_eq!(raw_from_text(&field, "0xFFF"), Ok(u64::MAX));
    assert_eq!(raw_from_text(&field, "-2049"), Err("-2049 does not fit; 12 bits hold -2048 .. 4095".into()));
    assert!(raw_from_text(&field, "1.5").is_err());
    assert!(raw_from_text(&field_of_type("text[3]", None).unwrap(), "1").is_err());
}

#[test]
fn types_that_cannot_be_read_or_stand_alone_are_findings() {
    for (ty, code) in [
        ("u99", "E201"),
        ("0 .. 1", "E010"),
        ("u8 u8", "W002"),
        ("Nothing", "E104"),
        ("u8 optional", "E212"),
        ("u8 = 5", "E212"),
        ("spare", "E104"),
        ("by x { 1 a : u8 }", "E213"),
        ("frame of x", "E213"),
        ("u8 }", "E010"),
        ("", "E010"),
    ] {
        match field_of_type(ty, None) {
            Err(found) => assert_eq!(found[0].code.as_str(), code, "{ty}"),
            // A strange unit is only a warning.
            Ok(field) => assert_eq!((ty, field.unit.as_str()), ("u8 u8", "u8")),
        }
    }
}
