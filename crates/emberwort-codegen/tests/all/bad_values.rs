//! What generated C does with values that cannot be sent, and with bodies and frames that nobody sends: the error that the header
//! promises, under sanitizers. And vectors that are wrong in one kind of thing fail, so that none of them goes unlooked at.

use std::fmt::Write as _;
use std::process::Command;

use emberwort_codegen::c;
use emberwort_codegen::vectors::{self, Vector};
use emberwort_model::Plan;
use emberwort_model::ids::MessageId;
use emberwort_model::model::Kind;
use emberwort_wire::{ValueRef, Values, decode, encode};

use crate::common::plans::plan;
use crate::common::{self, compile_and_run, compiler, write};

const GUARDED: &str = "link guarded { revision 2  byte_order little }\n\
    enum Mode : u3 { 0 off  1 slow  5 fast }\n\
    record Item { a : u4  b : i12 }\n\
    record Tail growing { t : u8 }\n\
    table Settings : u8 { 1 ramp : u16 s read write\n 2 name : text[..3] read write }\n\
    channel bus { medium uart 9600 8N1\n limit 60 bytes\n frame { sync C6 39\n node : u8 address\n kind : u8 message\n size : u8 length of body\n \
    body\n check : u16 crc-16/arc over node..body } }\n\
    message Full { id 1\n from device\n on bus\n mode : Mode\n level : 0 .. 200 % step 0.5\n deep : i12\n note : text[..5] optional\n \
    tag : bytes[..4]\n items : [..3] Item\n times : [2] u16\n tails : [..2] Tail\n packed : compact u20\n setting : key of Settings\n \
    value : value of Settings by setting\n added in 2 {\n supply : u8 V = 0\n big : u16 = 0\n flag : bool = false\n warm : i8 degC = -5\n } }\n\
    message Wide { id 2\n from device\n on bus\n OPTIONALS }\n";

fn guarded() -> Plan {
    let optionals: String = (0..17).map(|n| format!("o{n} : u8 optional\n ")).collect();
    plan(&GUARDED.replace("OPTIONALS", &optionals))
}

/// Runs statements, each with the result that it must give; prints those that give another one.
fn results(plan: &Plan, link: &str, before: &str, calls: &[(&str, &str)]) -> Option<String> {
    let compiler = compiler()?;
    let folder = tempfile::tempdir().unwrap();
    write(folder.path(), &c::generate(plan, &[], &[]).unwrap());
    let mut program =
        format!("#include \"{link}.h\"\n#include <stdio.h>\n#include <string.h>\n{before}\nint main(void)\n{{\n");
    for (n, (call, expected)) in calls.iter().enumerate() {
        let _ = writeln!(
            program,
            "    {{ fresh(); guarded_codec_result_t found = GUARDED_OK; {call}\n      if (found != GUARDED_{expected}) printf(\"{n}: %s\\n\", guarded_codec_result_text(found)); }}"
        );
    }
    program += "    return 0;\n}\n";
    std::fs::write(folder.path().join("main.c"), program).unwrap();
    Some(compile_and_run(
        compiler,
        folder.path(),
        &[&format!("-D{}_CHECKED=", link.to_uppercase())],
        &[&format!("{link}.c"), "main.c"],
    ))
}

const FRESH: &str = "static guarded_full_t full;\nstatic uint8_t body[GUARDED_FULL_GREATEST_SIZE + 8];\nstatic uint8_t wire[200];\nstatic size_t used;\n\
    static const uint8_t bytes[64] = { 0 };\n\
    static void fresh(void) { guarded_full_init(&full); full.level = 100; full.setting = 1; full.value_form = GUARDED_FULL_VALUE_FORM_RAMP; }\n\
    static guarded_codec_result_t encoded(void) { return guarded_full_encode(&full, body, sizeof body, &used); }\n";

#[test]
fn counts_lengths_and_numbers_that_cannot_be_sent_give_their_error() {
    let plan = guarded();
    let calls = [
        ("found = encoded();", "OK"),
        // One more than there can be; the greatest that the type of the count holds.
        ("full.items_count = 3; found = encoded();", "OK"),
        ("full.items_count = 4; found = encoded();", "TOO_MANY"),
        ("full.items_count = UINT8_MAX; found = encoded();", "TOO_MANY"),
        ("full.tails_count = 2; found = encoded();", "OK"),
        ("full.tails_count = 3; found = encoded();", "TOO_MANY"),
        ("full.has_note = true; full.note_length = 5; found = encoded();", "OK"),
        ("full.has_note = true; full.note_length = 6; found = encoded();", "TOO_MANY"),
        ("full.has_note = true; full.note_length = UINT8_MAX; found = encoded();", "TOO_MANY"),
        // What is not sent is not looked at.
        ("full.has_note = false; full.note_length = 6; found = encoded();", "OK"),
        ("full.tag_length = 4; found = encoded();", "OK"),
        ("full.tag_length = 5; found = encoded();", "TOO_MANY"),
        // Numbers beyond their field.
        ("full.mode = 5; found = encoded();", "OK"),
        ("full.mode = 2; found = encoded();", "OUT_OF_RANGE"),
        ("full.mode = 8; found = encoded();", "OUT_OF_RANGE"),
        ("full.level = 400; found = encoded();", "OK"),
        ("full.level = 401; found = encoded();", "OUT_OF_RANGE"),
        ("full.deep = 2047; found = encoded();", "OK"),
        ("full.deep = 2048; found = encoded();", "OUT_OF_RANGE"),
        ("full.deep = -2048; found = encoded();", "OK"),
        ("full.deep = -2049; found = encoded();", "OUT_OF_RANGE"),
        ("full.items_count = 1; full.items[0].a = 16; found = encoded();", "OUT_OF_RANGE"),
        ("full.items_count = 1; full.items[0].b = 2048; found = encoded();", "OUT_OF_RANGE"),
        // Elements behind the count are not sent.
        ("full.items_count = 1; full.items[1].a = 16; found = encoded();", "OK"),
        ("full.packed = 0xFFFFF; found = encoded();", "OK"),
        ("full.packed = 0x100000; found = encoded();", "OUT_OF_RANGE"),
        // Forms and keys that there are not.
        ("full.setting = 3; found = encoded();", "OUT_OF_RANGE"),
        ("full.setting = 2; found = encoded();", "NO_FORM"),
        ("full.value_form = 7; found = encoded();", "NO_FORM"),
        (
            "full.setting = 2; full.value_form = GUARDED_FULL_VALUE_FORM_NAME; full.value.name.value_length = 3; found = encoded();",
            "OK",
        ),
        (
            "full.setting = 2; full.value_form = GUARDED_FULL_VALUE_FORM_NAME; full.value.name.value_length = 4; found = encoded();",
            "TOO_MANY",
        ),
        // Sections that there are not.
        ("full.sections_held = 1; found = encoded();", "OK"),
        ("full.sections_held = 0; found = encoded();", "NOT_INITIALISED"),
        ("full.sections_held = 3; found = encoded();", "OUT_OF_RANGE"),
        // Rooms that are too small, by one byte and altogether.
        ("(void)encoded(); found = guarded_full_encode(&full, body, used - 1u, &used);", "NO_ROOM"),
        ("found = guarded_full_encode(&full, body, 0u, &used);", "NO_ROOM"),
        // Frames: a body that is too long for the length part's limit, and rooms that are too small.
        (
            "guarded_bus_frame_t f = { .node = 1, .kind = 1, .body = bytes, .size = 53 }; found = guarded_bus_build(&f, wire, sizeof wire, &used);",
            "OK",
        ),
        (
            "guarded_bus_frame_t f = { .node = 1, .kind = 1, .body = bytes, .size = 54 }; found = guarded_bus_build(&f, wire, sizeof wire, &used);",
            "BAD_LENGTH",
        ),
        (
            "guarded_bus_frame_t f = { .node = 1, .kind = 1, .body = bytes, .size = SIZE_MAX }; found = guarded_bus_build(&f, wire, sizeof wire, &used);",
            "BAD_LENGTH",
        ),
        (
            "guarded_bus_frame_t f = { .node = 1, .kind = 1, .body = bytes, .size = 3 }; found = guarded_bus_build(&f, wire, 10u, &used);",
            "OK",
        ),
        (
            "guarded_bus_frame_t f = { .node = 1, .kind = 1, .body = bytes, .size = 3 }; found = guarded_bus_build(&f, wire, 9u, &used);",
            "NO_ROOM",
        ),
        (
            "guarded_bus_frame_t f = { .node = 1, .kind = 1, .body = bytes, .size = 0 }; found = guarded_bus_build(&f, wire, 0u, &used);",
            "NO_ROOM",
        ),
        // Whole frames that are cut, or of another kind.
        (
            "guarded_bus_frame_t f = { .node = 1, .kind = 1, .body = bytes, .size = 3 }; (void)guarded_bus_build(&f, wire, sizeof wire, &used); found = guarded_bus_open(&f, wire, used);",
            "OK",
        ),
        (
            "guarded_bus_frame_t f = { .node = 1, .kind = 1, .body = bytes, .size = 3 }; (void)guarded_bus_build(&f, wire, sizeof wire, &used); found = guarded_bus_open(&f, wire, used - 1u);",
            "BAD_LENGTH",
        ),
        (
            "guarded_bus_frame_t f = { .node = 1, .kind = 1, .body = bytes, .size = 3 }; (void)guarded_bus_build(&f, wire, sizeof wire, &used); found = guarded_bus_open(&f, wire, used + 1u);",
            "BAD_LENGTH",
        ),
        (
            "guarded_bus_frame_t f = { .node = 1, .kind = 1, .body = bytes, .size = 3 }; (void)guarded_bus_build(&f, wire, sizeof wire, &used); wire[0] = 0xC7; found = guarded_bus_open(&f, wire, used);",
            "BAD_VALUE",
        ),
        (
            "guarded_bus_frame_t f = { .node = 1, .kind = 1, .body = bytes, .size = 3 }; (void)guarded_bus_build(&f, wire, sizeof wire, &used); wire[used - 1u] ^= 1u; found = guarded_bus_open(&f, wire, used);",
            "BAD_CHECKSUM",
        ),
        (
            "guarded_bus_frame_t f = { .node = 1, .kind = 9, .body = bytes, .size = 0 }; found = guarded_bus_check_body(&f);",
            "UNKNOWN_MESSAGE",
        ),
        (
            "guarded_bus_frame_t f = { .node = 1, .kind = 1, .body = bytes, .size = 3 }; found = guarded_bus_check_body(&f);",
            "TRUNCATED",
        ),
        // Keys by which nothing is sent.
        ("found = guarded_full_level_from_scaled(2000, &full.level);", "OK"),
        ("found = guarded_full_level_from_scaled(2001, &full.level);", "OUT_OF_RANGE"),
        ("found = guarded_full_level_from_scaled(-1, &full.level);", "OUT_OF_RANGE"),
    ];
    let Some(said) = results(&plan, "guarded", FRESH, &calls) else { return };
    let told: Vec<String> = said
        .lines()
        .map(|line| {
            let (n, found) = line.split_once(": ").unwrap();
            let (call, expected) = calls[n.parse::<usize>().unwrap()];
            format!("{call}\n    must be {expected}, is: {found}")
        })
        .collect();
    assert!(told.is_empty(), "{}", told.join("\n"));
}

/// A list that reaches to the end has room for what the channel can carry. More is refused, and nothing is written behind the array.
#[test]
fn a_list_to_the_end_holds_no_more_than_its_room() {
    let text = GUARDED.replace("OPTIONALS", "o : u8 optional")
        + "message Row { id 3\n from device\n on bus\n items : [rest] u16\n }\n";
    let plan = plan(&text);
    let before = "static guarded_row_t row;\nstatic uint8_t body[300];\nstatic void fresh(void) { memset(body, 7, sizeof body); }\n\
                  #define ROOM (sizeof row.items / sizeof row.items[0])\n";
    let calls = [
        (
            "found = guarded_row_decode(&row, body, 2u * ROOM); if (row.items_count != ROOM) found = GUARDED_BAD_VALUE;",
            "OK",
        ),
        ("found = guarded_row_decode(&row, body, 2u * ROOM + 2u);", "TOO_MANY"),
        ("found = guarded_row_decode(&row, body, sizeof body);", "TOO_MANY"),
    ];
    let Some(said) = results(&plan, "guarded", before, &calls) else { return };
    assert_eq!(said, "");
}

#[test]
fn bodies_that_claim_too_much_are_refused_as_the_library_does() {
    let Some((refused, sent_again)) = cut_and_changed_bodies_agree(&guarded(), "guarded_full") else { return };
    assert!(refused > 20 && sent_again > 100, "{refused} refused, {sent_again} sent again");
}

/// What is optional, has elements, and stands in front of what every body has: a body may be long enough for all that it must have, and end inside
/// of the elements.
#[test]
fn a_body_that_ends_inside_of_an_optional_list_is_refused() {
    let record = "record R { x : u8\n list : [3] u16 optional\n y : u32 }\n";
    let growing = "record G growing { x : u8\n added in 2 { list : [4] u16 optional\n y : u16 } }\n";
    for fields in [
        "list : [3] u16 optional\n behind : u32",
        "list : [2] u32 optional\n text : text[..9]\n behind : u32",
        "list : [5] u12 optional\n behind : u32",
        "some : [..4] u16\n list : [2] u32 optional\n behind : u32",
        "list : [3] R\n behind : u32",
        "list : [2] G optional\n behind : u64",
        "points : [2] R optional\n behind : u64",
        "one : R\n two : R\n three : R optional\n behind : u8",
        "one : u3\n two : R\n three : R\n behind : u8",
        "a : u8\n added in 2 { list : [3] u16 optional\n behind : u32 }\n added in 3 { more : [3] u16 optional\n last : u32 }",
        "a : text[..3]\n added in 2 { list : [3] u16 optional\n behind : u32 }",
        "kind : u8\n form : by kind { 0 list : [3] u16  1 one : u8 }\n behind : u32",
    ] {
        let plan = plan(&format!(
            "link l {{ revision 3  byte_order little }}\n{record}{growing}message M {{ from device\n {fields} }}\n"
        ));
        let Some((refused, sent_again)) = cut_and_changed_bodies_agree(&plan, "l_m") else { return };
        assert!(refused > 3 && sent_again > 3, "{fields}: {refused} refused, {sent_again} sent again");
    }
}

/// The library and C say the same of each shorter body of a link's first message, and of each with a byte changed, which lie in memory that ends with
/// them. How many both refuse, and how many were sent again; nothing without a compiler.
fn cut_and_changed_bodies_agree(plan: &Plan, stem: &str) -> Option<(usize, usize)> {
    let compiler = compiler()?;
    let compiled = &plan.messages[0];
    let all = vectors::vectors(plan, 3);
    let of_first = all.iter().filter(|vector| vector.message == MessageId::default());
    let longest = of_first.max_by_key(|vector| vector.body.len()).unwrap();
    let mut bodies: Vec<Vec<u8>> = (0..=longest.body.len()).map(|size| longest.body[..size].to_vec()).collect();
    for at in 0..longest.body.len() {
        for byte in [0, 1, 2, 3, 4, 5, 6, 7, 8, 0x7F, 0x80, 0xFE, 0xFF] {
            let mut body = longest.body.clone();
            body[at] = byte;
            bodies.push(body);
        }
    }
    let link = &plan.link.name;
    let mut program = format!(
        "#include \"{link}.h\"\n#include <stdio.h>\n#include <stdlib.h>\n#include <string.h>\nstatic const uint8_t bodies[] = {{"
    );
    let mut expected = String::new();
    for body in &bodies {
        let mut values = Values::default();
        let good = decode(compiled, body, &mut values).is_ok();
        let mut again = Vec::new();
        // As the sender did: what later sections hold, it did not say. One of all sections is one of this very revision.
        let held = values.sections().max(1);
        let is_whole = held == compiled.sections.len();
        let revision = if is_whole { plan.link.revision } else { compiled.sections[held - 1].revision };
        let same = good && encode(compiled, &values, revision, &mut again).is_ok();
        let _ = writeln!(expected, "{} {}", u8::from(good), if same { again.len() } else { 0 });
        let _ = write!(program, "{},", body.len());
        for byte in body {
            let _ = write!(program, "{byte},");
        }
    }
    let upper = link.to_uppercase();
    let _ = write!(
        program,
        "}};
int main(void)
{{
    size_t at = 0;
    while (at < sizeof bodies) {{
        {stem}_t value;
        {stem}_view_t view;
        uint8_t again[{}_GREATEST_SIZE];
        size_t used = 0, size = bodies[at];
        uint8_t *body = malloc(size > 0u ? size : 1u);
        bool good, same;
        if (body == NULL) {{
            return 1;
        }}
        memcpy(body, &bodies[at + 1u], size);
        good = {stem}_decode(&value, body, size) == {upper}_OK;
        if (({stem}_view(&view, body, size) == {upper}_OK) != good) {{
            puts(\"the view says something else\");
        }}
        same = good && {stem}_encode(&value, again, sizeof again, &used) == {upper}_OK;
        printf(\"%d %u\\n\", good, same ? (unsigned)used : 0u);
        free(body);
        at += 1u + size;
    }}
    return 0;
}}
",
        stem.to_uppercase()
    );
    let folder = tempfile::tempdir().unwrap();
    write(folder.path(), &c::generate(plan, &[], &[]).unwrap());
    std::fs::write(folder.path().join("main.c"), program).unwrap();
    let output = compile_and_run(compiler, folder.path(), &[], &[&format!("{link}.c"), "main.c"]);
    let mut sent_again = 0;
    for ((body, said), wanted) in bodies.iter().zip(output.lines()).zip(expected.lines()) {
        // The library sends codes without a meaning if they are given as raw numbers; a device does not.
        let refused = said == "1 0" && wanted.starts_with("1 ");
        // What a record's sender did not have is lacking in the library, and zero in a struct.
        let filled = wanted == "1 0" && said.starts_with("1 ");
        assert!(said == wanted || refused || filled, "{body:02X?}: {said}, and the library says {wanted}");
        sent_again += usize::from(said.starts_with("1 ") && !refused);
    }
    assert_eq!(output.lines().count(), bodies.len(), "{output}");
    Some((expected.matches("0 0").count(), sent_again))
}

#[test]
fn more_than_eight_optional_fields_and_defaults_of_zero_are_as_worked_by_hand() {
    let plan = guarded();
    let Some(compiler) = compiler() else { return };
    let program = r#"
        #include "guarded.h"
        #include <stdio.h>
        int main(void)
        {
            static const uint8_t first[] = { 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0 };
            guarded_wide_t wide;
            guarded_full_t full;
            uint8_t body[64];
            size_t used = 0, size;
            guarded_wide_init(&wide);
            wide.has_o0 = wide.has_o8 = wide.has_o16 = true;
            wide.o0 = 0x11; wide.o8 = 0x22; wide.o16 = 0x33;
            if (guarded_wide_encode(&wide, body, sizeof body, &used) != GUARDED_OK) return 1;
            for (size_t n = 0; n < used; n++) printf("%02X ", body[n]);
            guarded_wide_init(&wide);
            if (guarded_wide_decode(&wide, body, used) != GUARDED_OK) return 1;
            printf("| %d%d%d%d %02X %02X %02X |", wide.has_o0, wide.has_o1, wide.has_o8, wide.has_o16, wide.o0, wide.o8, wide.o16);
            /* A body of revision 1: what it lacks takes its default, and overwrites what was there. */
            guarded_full_init(&full);
            full.setting = 1; full.value_form = GUARDED_FULL_VALUE_FORM_RAMP; full.sections_held = 1;
            full.supply = 9; full.big = 9; full.flag = true; full.warm = 9;
            if (guarded_full_encode(&full, body, sizeof body, &size) != GUARDED_OK) return 1;
            full.supply = 9; full.big = 9; full.flag = true; full.warm = 9;
            if (guarded_full_decode(&full, body, size) != GUARDED_OK) return 1;
            printf(" %u %u %u %d %d", full.sections_held, full.supply, full.big, full.flag, full.warm);
            (void)first;
            return 0;
        }
    "#;
    let folder = tempfile::tempdir().unwrap();
    write(folder.path(), &c::generate(&plan, &[], &[]).unwrap());
    std::fs::write(folder.path().join("main.c"), program).unwrap();
    let output = compile_and_run(compiler, folder.path(), &[], &["guarded.c", "main.c"]);
    // Presence bits of o0, o8 and o16 are bit 0 of three bytes; the values stand behind them.
    assert_eq!(output, "01 01 01 11 22 33 | 1011 11 22 33 | 1 0 0 0 -5");
    let mut values = Values::default();
    decode(&plan.messages[1], &[1, 1, 1, 0x11, 0x22, 0x33], &mut values).unwrap();
    let there: Vec<usize> = (0..17).filter(|slot| matches!(values.get(*slot), ValueRef::Raw(_))).collect();
    assert_eq!(there, [0, 8, 16]);
}

/// Spoils one kind of thing in a vector; whether there was such a thing.
type Spoil = fn(&Plan, &mut Vector) -> bool;

const SPOILS: &[(&str, Spoil)] = &[
    ("a number", |plan, vector| {
        change(plan, vector, |kind, value| matches!((kind, value), (Kind::Number(_), ValueRef::Raw(_))))
    }),
    ("an enum", |plan, vector| {
        change(plan, vector, |kind, value| matches!((kind, value), (Kind::Enum { .. }, ValueRef::Raw(_))))
    }),
    ("a compact number", |plan, vector| {
        change(plan, vector, |kind, value| matches!((kind, value), (Kind::Varint(_), ValueRef::Raw(_))))
    }),
    ("a text", |plan, vector| {
        change(
            plan,
            vector,
            |kind, value| matches!((kind, value), (Kind::Text { .. }, ValueRef::Bytes(b)) if !b.is_empty()),
        )
    }),
    ("bytes", |plan, vector| {
        change(
            plan,
            vector,
            |kind, value| matches!((kind, value), (Kind::Bytes(_), ValueRef::Bytes(b)) if !b.is_empty()),
        )
    }),
    ("an element", |plan, vector| {
        let Some((first, _)) = list(plan, vector) else { return false };
        // The first field of the first element.
        let raw = match vector.values.get(first) {
            ValueRef::Group { first, .. } => Some((first, vector.values.get(first))),
            value => Some((first, value)),
        };
        let Some((slot, ValueRef::Raw(raw))) = raw else { return false };
        vector.values.set_raw(slot, raw ^ 1);
        true
    }),
    ("a form", |plan, vector| {
        let fields = &plan.link.messages[vector.message].fields;
        let found = (0..fields.len()).find_map(|slot| match vector.values.get(slot) {
            ValueRef::Chosen { form, .. } if form < 2 => Some((slot, form)),
            _ => None,
        });
        found.is_some_and(|(slot, form)| {
            let inner = vector.values.set_chosen(slot, 1 - form);
            if form == 0 {
                vector.values.set_bytes(inner, b"ab")
            } else {
                vector.values.set_raw(inner, 7)
            }
            true
        })
    }),
    ("presence", |plan, vector| {
        let fields = &plan.link.messages[vector.message].fields;
        let found = (0..fields.len())
            .find(|slot| fields[*slot].optional && !matches!(vector.values.get(*slot), ValueRef::Absent));
        found.is_some_and(|slot| {
            vector.values.set_absent(slot);
            true
        })
    }),
    ("the sections", |_, vector| {
        vector.sections -= usize::from(vector.sections > 1);
        vector.sections >= 1 && vector.case != "revision 1"
    }),
    ("the body", |_, vector| vector.body.last_mut().map(|byte| *byte ^= 0x80).is_some()),
    ("the body's length", |_, vector| vector.body.pop().is_some()),
    ("the frame's bytes", |_, vector| {
        vector.frames.first_mut().and_then(|frame| frame.bytes.last_mut()).map(|byte| *byte ^= 1).is_some()
    }),
    ("the frame's length", |_, vector| vector.frames.first_mut().and_then(|frame| frame.bytes.pop()).is_some()),
    ("the frame's node", |_, vector| vector.frames.first_mut().map(|frame| frame.header.node ^= 1).is_some()),
    ("the frame's key", |_, vector| vector.frames.first_mut().map(|frame| frame.header.key ^= 3).is_some()),
];

/// Changes the first value for which something holds.
fn change(plan: &Plan, vector: &mut Vector, holds: fn(&Kind, ValueRef<'_>) -> bool) -> bool {
    let fields = &plan.link.messages[vector.message].fields;
    let sections = &plan.messages[vector.message].sections;
    // What later sections hold is not sent.
    let sent: Vec<usize> =
        sections[..vector.sections].iter().flat_map(|section| section.steps.iter().map(|step| step.slot)).collect();
    let found =
        sent.into_iter().find(|slot| !fields[*slot].is_spare() && holds(&fields[*slot].kind, vector.values.get(*slot)));
    let Some(slot) = found else { return false };
    match vector.values.get(slot) {
        ValueRef::Raw(raw) => vector.values.set_raw(slot, raw ^ 1),
        ValueRef::Bytes(bytes) => {
            let mut bytes = bytes.to_vec();
            bytes[0] ^= 1;
            vector.values.set_bytes(slot, &bytes);
        }
        _ => return false,
    }
    true
}

/// The slots of a list that is not empty.
fn list(plan: &Plan, vector: &Vector) -> Option<(usize, usize)> {
    let fields = &plan.link.messages[vector.message].fields;
    fields.iter().enumerate().find_map(|(slot, field)| match (&field.kind, vector.values.get(slot)) {
        (Kind::List { .. }, ValueRef::Group { first, count }) if count > 0 => Some((first, count)),
        _ => None,
    })
}

#[test]
fn vectors_fail_when_any_one_kind_of_thing_is_wrong() {
    let Some(compiler) = compiler() else { return };
    let plan = guarded();
    let all = vectors::vectors(&plan, 42);
    let full: Vec<Vector> = all
        .iter()
        .filter(|vector| vector.message == MessageId::default() && vector.case.starts_with("random"))
        .cloned()
        .collect();
    for (what, spoil) in SPOILS {
        let mut spoiled = full.clone();
        let at = spoiled.iter_mut().position(|vector| spoil(&plan, vector));
        assert!(at.is_some(), "no vector has {what}");
        let folder = tempfile::tempdir().unwrap();
        write(folder.path(), &c::generate(&plan, &spoiled, &[]).unwrap());
        let sources = ["guarded.c", "guarded_vectors.c", "-o", "program"];
        let compiled =
            Command::new(compiler).current_dir(folder.path()).arg("-std=c99").args(sources).output().unwrap();
        assert!(compiled.status.success(), "{what}: {}", String::from_utf8_lossy(&compiled.stderr));
        let ran = Command::new(folder.path().join("program")).output().unwrap();
        let said = String::from_utf8_lossy(&ran.stdout);
        assert!(
            ran.status.code() == Some(1) && said.contains("differs"),
            "{what} was wrong, and nobody saw it: {said}"
        );
    }
}

/// A text that cannot be said in ASCII is refused by the encoders of all languages, wherever it stands, and by nobody else's hand.
#[test]
fn a_field_for_ascii_takes_no_other_characters() {
    let plan = plan(
        "link letters { revision 1  byte_order little }\n record Named { code : ascii[4] }\n\
         channel bus { medium uart 9600 8N1\n limit 60 bytes\n frame { sync C6 39\n kind : u8 message\n size : u8 length of body\n body } }\n\
         message All { id 1\n from device\n on bus\n fixed : ascii[5]\n counted : ascii[..6]\n inner : Named\n items : [..2] Named\n rest : ascii[rest] }\n",
    );
    let folder = tempfile::tempdir().unwrap();
    let run = |program: &str, arguments: &[&str]| {
        let ran = Command::new(program).current_dir(folder.path()).args(arguments).output().unwrap();
        common::said(&ran)
    };
    let none = "ok\nfixed\ncounted\ninner\nitems\nrest\n";
    if let Some(compiler) = compiler() {
        write(folder.path(), &c::generate(&plan, &[], &[]).unwrap());
        let program = "#include \"letters.h\"\n#include <stdio.h>\n#include <string.h>\n\
            static letters_all_t all;\nstatic uint8_t body[100];\nstatic size_t used;\n\
            static void fresh(void) { letters_all_init(&all); all.items_count = 1; }\n\
            static void say(const char *name) { const char *field; if (letters_all_encode(&all, body, sizeof body, &used) == LETTERS_OUT_OF_RANGE\n\
                && letters_all_validate(&all, &field) == LETTERS_OUT_OF_RANGE) puts(name); }\n\
            int main(void) {\n fresh(); if (letters_all_encode(&all, body, sizeof body, &used) == LETTERS_OK) puts(\"ok\");\n\
            fresh(); all.fixed_length = 2; memcpy(all.fixed, \"\\xC3\\xA9\", 2); say(\"fixed\");\n\
            fresh(); all.counted_length = 2; memcpy(all.counted, \"\\xC3\\xA9\", 2); say(\"counted\");\n\
            fresh(); all.inner.code_length = 2; memcpy(all.inner.code, \"\\xC3\\xA9\", 2); say(\"inner\");\n\
            fresh(); all.items[0].code_length = 2; memcpy(all.items[0].code, \"\\xC3\\xA9\", 2); say(\"items\");\n\
            fresh(); all.rest_length = 2; all.rest = (const void *)\"\\xC3\\xA9\"; say(\"rest\");\n return 0;\n}\n";
        std::fs::write(folder.path().join("main.c"), program).unwrap();
        let found = compile_and_run(compiler, folder.path(), &["-DLETTERS_CHECKED="], &["letters.c", "main.c"]);
        assert_eq!(found, none, "C");
    }
    let some = vectors::vectors(&plan, 1);
    if let Some(python) = common::python() {
        write(folder.path(), &emberwort_codegen::python::generate(&plan, &some).unwrap());
        let program = "import letters as l\n\
            def fresh():\n    return l.All(fixed='', counted='', inner=l.Named(code=''), items=[l.Named(code='')], rest='')\n\
            fresh().encode(); print('ok')\n\
            for name in ('fixed', 'counted', 'inner', 'items', 'rest'):\n    one = fresh()\n    \
            if name == 'inner': one.inner.code = 'é'\n    elif name == 'items': one.items[0].code = 'é'\n    else: setattr(one, name, 'é')\n    \
            try: one.encode()\n    except l.OutOfRange: print(name)\n";
        std::fs::write(folder.path().join("main.py"), program).unwrap();
        assert_eq!(run(python, &["main.py"]), none, "Python");
    }
    if let Some(node) = common::node() {
        write(folder.path(), &emberwort_codegen::javascript::generate(&plan, &some).unwrap());
        let program = "import * as l from \"./letters.js\";\n\
            const fresh = () => Object.assign(new l.All(), { fixed: '', counted: '', inner: Object.assign(new l.Named(), { code: '' }),\n\
              items: [Object.assign(new l.Named(), { code: '' })], rest: '' });\n\
            fresh().encode(); console.log('ok');\n\
            for (const name of ['fixed', 'counted', 'inner', 'items', 'rest']) {\n  const one = fresh();\n  \
            if (name === 'inner') one.inner.code = 'é'; else if (name === 'items') one.items[0].code = 'é'; else one[name] = 'é';\n  \
            try { one.encode(); } catch (error) { if (error.kind === 'out_of_range') console.log(name); }\n}\n";
        std::fs::write(folder.path().join("main.mjs"), program).unwrap();
        assert_eq!(run(node, &["main.mjs"]), none, "JavaScript");
    }
    write(folder.path(), &emberwort_codegen::rust::generate(&plan, &some).unwrap());
    let program = "mod letters;\nuse letters::*;\nfn main() {\n    let mut out = [0; 100];\n    \
        let mut say = |name: &str, change: fn(&mut All)| {\n        let mut one = All::default();\n        change(&mut one);\n        \
        match one.encode(&mut out) {\n            Ok(_) => println!(\"ok\"),\n            Err(Error::OutOfRange(_)) => println!(\"{name}\"),\n            Err(error) => println!(\"{error:?}\"),\n        }\n    };\n    \
        say(\"\", |_| ());\n    say(\"fixed\", |one| one.fixed = Text::new(\"é\").unwrap());\n    say(\"counted\", |one| one.counted = Text::new(\"é\").unwrap());\n    \
        say(\"inner\", |one| one.inner.code = Text::new(\"é\").unwrap());\n    \
        say(\"items\", |one| { let mut named = Named::default(); named.code = Text::new(\"é\").unwrap(); one.items.push(named).unwrap(); });\n    \
        say(\"rest\", |one| one.rest = Text::new(\"é\").unwrap());\n}\n";
    std::fs::write(folder.path().join("main.rs"), program).unwrap();
    let said = run(common::rustc(), &["--edition", "2021", "-A", "warnings", "-o", "letters", "main.rs"]);
    assert_eq!(said, "", "Rust");
    assert_eq!(run(folder.path().join("letters").to_str().unwrap(), &[]), none, "Rust");
}

/// A number of four bits in the frame's head takes 15, and 16 is refused by the builders of all languages, part by part.
#[test]
fn a_part_takes_no_number_that_its_bits_cannot_hold() {
    let plan = plan(
        "link l { revision 1  byte_order little }\n\
         channel bus { medium uart 9600 8N1\n limit 60 bytes\n\
          frame { sync C6 39\n node : u4 address\n rev : u4 revision\n kind : u8 message\n size : u8 length of body\n body } }\n\
         message One { id 1\n from device\n on bus\n a : u8 }\n",
    );
    let folder = tempfile::tempdir().unwrap();
    let run = |program: &str, arguments: &[&str]| {
        let ran = Command::new(program).current_dir(folder.path()).args(arguments).output().unwrap();
        common::said(&ran)
    };
    let cases = [(15, 15), (16, 1), (1, 16), (255, 255)];
    let expected = "C639FF010107\nrefused\nrefused\nrefused\n";
    let call = |before: &str, after: &str| -> String {
        cases.iter().map(|(node, revision)| format!("{before}{node}, {revision}{after}\n")).collect()
    };
    if let Some(compiler) = compiler() {
        write(folder.path(), &c::generate(&plan, &[], &[]).unwrap());
        let program = format!(
            "#include \"l.h\"\n#include <stdio.h>\n\
             static void say(unsigned node, unsigned revision) {{\n\
             \x20 const uint8_t body[] = {{7}};\n  uint8_t out[60];\n  size_t used, n;\n  l_bus_frame_t frame = {{0}};\n\
             \x20 frame.node = (uint8_t)node; frame.rev = (uint8_t)revision; frame.kind = 1; frame.body = body; frame.size = 1;\n\
             \x20 const l_codec_result_t result = l_bus_build(&frame, out, sizeof out, &used);\n\
             \x20 if (result == L_OUT_OF_RANGE) {{ puts(\"refused\"); return; }}\n\
             \x20 for (n = 0; n < used; n++) printf(\"%02X\", out[n]);\n  puts(\"\");\n}}\n\
             int main(void) {{\n{}  return 0;\n}}\n",
            call("  say(", ");")
        );
        std::fs::write(folder.path().join("main.c"), program).unwrap();
        assert_eq!(compile_and_run(compiler, folder.path(), &[], &["l.c", "main.c"]), expected, "C");
    }
    if let Some(python) = common::python() {
        write(folder.path(), &emberwort_codegen::python::generate(&plan, &[]).unwrap());
        let program = format!(
            "import l\ndef say(node, rev):\n    try: print(l.build_bus(l.BusFrame(node=node, rev=rev, kind=1, body=b'\\x07')).hex().upper())\n    \
             except l.OutOfRange: print('refused')\n{}",
            call("say(", ")")
        );
        std::fs::write(folder.path().join("main.py"), program).unwrap();
        assert_eq!(run(python, &["main.py"]), expected, "Python");
    }
    if let Some(node) = common::node() {
        write(folder.path(), &emberwort_codegen::javascript::generate(&plan, &[]).unwrap());
        let program = format!(
            "import * as l from \"./l.js\";\nfunction say(node, rev) {{\n  try {{\n    \
             console.log(Buffer.from(l.buildBus({{ node, rev, kind: 1, body: new Uint8Array([7]) }})).toString('hex').toUpperCase());\n  \
             }} catch (error) {{ if (error.kind === 'out_of_range') console.log('refused'); }}\n}}\n{}",
            call("say(", ");")
        );
        std::fs::write(folder.path().join("main.mjs"), program).unwrap();
        assert_eq!(run(node, &["main.mjs"]), expected, "JavaScript");
    }
    write(folder.path(), &emberwort_codegen::rust::generate(&plan, &[]).unwrap());
    let program = format!(
        "mod l;\nuse l::*;\nfn say(node: u8, rev: u8) {{\n    let mut out = [0; 60];\n    \
         match build_bus(&BusFrame {{ node, rev, kind: 1, body: &[7] }}, &mut out) {{\n        \
         Ok(size) => println!(\"{{}}\", out[..size].iter().map(|byte| format!(\"{{byte:02X}}\")).collect::<String>()),\n        \
         Err(Error::OutOfRange(_)) => println!(\"refused\"),\n        Err(error) => println!(\"{{error:?}}\"),\n    }}\n}}\n\
         fn main() {{\n{}}}\n",
        call("    say(", ");")
    );
    std::fs::write(folder.path().join("main.rs"), program).unwrap();
    assert_eq!(run(common::rustc(), &["--edition", "2021", "-A", "warnings", "-o", "said", "main.rs"]), "", "Rust");
    assert_eq!(run(folder.path().join("said").to_str().unwrap(), &[]), expected, "Rust");
}
