//! The generated C: strict warnings, all vectors under sanitizers, and the same frames out of the same noise.
//!
//! Without a C compiler these tests pass without doing anything, unless EMBERWORT_NEED_TOOLCHAINS is set.

use std::process::Command;

use emberwort_codegen::{Parts, c, vectors};
use emberwort_model::ids::MessageId;
use emberwort_model::model::End;

use crate::common::plans::{ODD, WHOLE, marlock, plan};
use crate::common::{compile_and_run, compiler, streams, write};

#[test]
fn all_vectors_agree_under_strict_warnings_and_sanitizers() {
    let Some(compiler) = compiler() else { return };
    for (name, plan) in [("marlock", marlock()), ("odd", plan(ODD)), ("whole", plan(WHOLE))] {
        let all = vectors::vectors(&plan, 42);
        for message in 0..plan.messages.len() {
            let of_message: Vec<&str> =
                all.iter().filter(|v| v.message == MessageId::new(message)).map(|v| v.case.as_str()).collect();
            let enough = of_message.contains(&"least") && of_message.contains(&"greatest") && of_message.len() >= 18;
            assert!(enough, "{}: {of_message:?}", plan.messages[message].message.name);
        }
        let folder = tempfile::tempdir().unwrap();
        write(folder.path(), &c::generate(&plan, &all, &[]).unwrap());
        let sources = [format!("{name}.c"), format!("{name}_vectors.c")];
        let define = format!("-D{}_WITH_FLOAT", name.to_uppercase());
        let output = compile_and_run(compiler, folder.path(), &[&define], &[&sources[0], &sources[1]]);
        assert_eq!(output, format!("{} vectors, 0 differences\n", all.len()));
    }
}

/// Checksums of all widths, mirrored and not, with tables of 16 entries and without a table.
#[test]
fn checksums_agree_however_they_are_computed() {
    let Some(compiler) = compiler() else { return };
    let plan = plan(ODD);
    let all = vectors::vectors(&plan, 42);
    let folder = tempfile::tempdir().unwrap();
    write(folder.path(), &c::generate(&plan, &all, &[]).unwrap());
    for crc in ["-DODD_CRC_NIBBLE", "-DODD_CRC_BITWISE"] {
        let output = compile_and_run(compiler, folder.path(), &[crc], &["odd.c", "odd_vectors.c"]);
        assert_eq!(output, format!("{} vectors, 0 differences\n", all.len()));
    }
}

/// Enums as types of C: the same bytes, also with compilers that make them as short as they can, and a compiler that knows what is left out.
#[test]
fn enums_can_be_types() {
    let Some(compiler) = compiler() else { return };
    // Its codes need more bits than its labels.
    let long = "link long { revision 1  byte_order big }\nchannel c { medium udp 4000\n packet\n frame { kind: u8 message\n body } }\n\
                enum Step : u12 { 0 none_yet  7 done }\nmessage Only {\n id 1\n from device\n on c\n a: Step\n b: u4 }\n";
    for (name, plan) in [("marlock", marlock()), ("odd", plan(ODD)), ("whole", plan(WHOLE)), ("long", plan(long))] {
        let all = vectors::vectors(&plan, 42);
        let folder = tempfile::tempdir().unwrap();
        let parts = Parts { typed_enums: true, ..Parts::default() };
        write(folder.path(), &c::generate_parts(&plan, &all, &[], &parts).unwrap());
        for more in [&["-Wconversion"][..], &["-fshort-enums"]] {
            let output =
                compile_and_run(compiler, folder.path(), more, &[&format!("{name}.c"), &format!("{name}_vectors.c")]);
            assert_eq!(output, format!("{} vectors, 0 differences\n", all.len()), "{name} {more:?}");
        }
    }
    let parts = Parts { typed_enums: true, ..Parts::default() };
    let clash = plan(&long.replace("done", "greatest_code"));
    assert!(c::generate(&clash, &[], &[]).is_ok());
    let error = c::generate_parts(&clash, &[], &[], &parts).unwrap_err().to_string();
    assert!(error.contains("LONG_STEP_GREATEST_CODE"), "{error}");
    let folder = tempfile::tempdir().unwrap();
    write(folder.path(), &c::generate_parts(&marlock(), &[], &[], &parts).unwrap());
    let program = "#include \"marlock.h\"\nint moves(const marlock_gate_status_t *status)\n{\n    switch (status->state) {\n    \
                   case MARLOCK_GATE_STATE_OPENING:\n    case MARLOCK_GATE_STATE_CLOSING:\n        return 1;\n    \
                   case MARLOCK_GATE_STATE_OPEN:\n    case MARLOCK_GATE_STATE_CLOSED:\n        return 0;\n    }\n    return -1;\n}\n";
    std::fs::write(folder.path().join("use.c"), program).unwrap();
    let words = ["-std=c99", "-Wall", "-fsyntax-only", "use.c"];
    let said = Command::new(compiler).current_dir(folder.path()).args(words).output().unwrap();
    assert!(String::from_utf8_lossy(&said.stderr).contains("MARLOCK_GATE_STATE_HELD"), "{said:?}");
}

/// Code that is small rather than fast: checksums with 16 entries; the same bytes.
#[test]
fn small_code_does_the_same() {
    let Some(compiler) = compiler() else { return };
    for (name, plan) in [("marlock", marlock()), ("odd", plan(ODD)), ("whole", plan(WHOLE))] {
        let all = vectors::vectors(&plan, 42);
        let folder = tempfile::tempdir().unwrap();
        let parts = Parts { small: true, ..Parts::default() };
        write(folder.path(), &c::generate_parts(&plan, &all, &[], &parts).unwrap());
        let output = compile_and_run(
            compiler,
            folder.path(),
            &["-Wconversion"],
            &[&format!("{name}.c"), &format!("{name}_vectors.c")],
        );
        assert_eq!(output, format!("{} vectors, 0 differences\n", all.len()), "{name}");
    }
}

/// All functions local to the one file that uses them: no warning for those that it does not call, and the same bytes.
#[test]
fn one_file_can_hold_all_of_it() {
    let Some(compiler) = compiler() else { return };
    let folder = tempfile::tempdir().unwrap();
    let plan = marlock();
    let all = vectors::vectors(&plan, 42);
    write(folder.path(), &c::generate(&plan, &all, &[]).unwrap());
    let one = "#define MARLOCK_LOCAL\n#include \"marlock.h\"\n#include \"marlock.c\"\n";
    std::fs::write(folder.path().join("all.c"), format!("{one}#include \"marlock_vectors.c\"\n")).unwrap();
    std::fs::write(folder.path().join("little.c"), format!("{one}int main(void) {{ return 0; }}\n")).unwrap();
    let output = compile_and_run(compiler, folder.path(), &[], &["all.c"]);
    assert_eq!(output, format!("{} vectors, 0 differences\n", all.len()));
    assert_eq!(compile_and_run(compiler, folder.path(), &[], &["little.c"]), "");
    // Nothing of it is left that nobody calls.
    let words = ["-std=c99", "-Os", "-c", "little.c", "-o", "little.o"];
    assert!(Command::new(compiler).current_dir(folder.path()).args(words).status().unwrap().success());
    let names = Command::new("nm").current_dir(folder.path()).arg("little.o").output().unwrap();
    assert_eq!(String::from_utf8_lossy(&names.stdout).split_whitespace().last(), Some("main"), "{names:?}");
    assert_eq!(names.stdout.iter().filter(|byte| **byte == b'\n').count(), 1, "{names:?}");
}

#[test]
fn a_wrong_vector_is_found() {
    let Some(compiler) = compiler() else { return };
    let plan = marlock();
    let mut all = vectors::vectors(&plan, 42);
    all.truncate(3);
    all[1].body[1] ^= 1;
    let folder = tempfile::tempdir().unwrap();
    write(folder.path(), &c::generate(&plan, &all, &[]).unwrap());
    let compiled = Command::new(compiler)
        .current_dir(folder.path())
        .args(["-std=c99", "marlock.c", "marlock_vectors.c", "-o", "program"])
        .status()
        .unwrap();
    assert!(compiled.success());
    let ran = Command::new(folder.path().join("program")).output().unwrap();
    assert_eq!(ran.status.code(), Some(1));
    assert!(String::from_utf8_lossy(&ran.stdout).contains("GateStatus greatest: the body differs"));
}

/// What the header says of times, keys, sizes, answers and tables, and that a result is not forgotten.
#[test]
fn the_header_says_what_a_device_has_to_know() {
    let Some(compiler) = compiler() else { return };
    let folder = tempfile::tempdir().unwrap();
    write(folder.path(), &c::generate(&marlock(), &[], &[]).unwrap());
    let program = r#"
        #include "marlock.h"
        #include <stdio.h>
        #include <string.h>
        #define EXPECT(condition) do { if (!(condition)) { printf("not %s\n", #condition); } } while (0)
        int main(void)
        {
            marlock_write_setting_t order;
            marlock_bus485_frame_t frame = {.node = 3, .kind = 0x4F};
            uint8_t body[MARLOCK_WRITE_SETTING_GREATEST_SIZE];
            uint32_t raw = 0;
            size_t used = 0;
            EXPECT(MARLOCK_GATE_STATUS_PERIOD_MS == 200u && MARLOCK_LEVEL_PERIOD_MS == 600000u);
            EXPECT(MARLOCK_MOVE_GATE_ANSWER_MS == 50u && MARLOCK_WHO_ARE_YOU_ANSWER_MS == 20u);
            EXPECT(MARLOCK_POWER_RUN_PUMP_KEY == 0x120u && MARLOCK_GAUGES_LEVEL_KEY == 2u);
            EXPECT(MARLOCK_BUS485_BAUD == 115200u && MARLOCK_HOUSE_UDP_PORT == 4850u && MARLOCK_POWER_BITRATE == 250000u);
            EXPECT(MARLOCK_BUS485_OVERHEAD == 8u && MARLOCK_BUS485_GATE_STATUS_FRAME == 35u);
            EXPECT(marlock_bus485_answers_move_gate(&frame, 3) && !marlock_bus485_answers_move_gate(&frame, 4));
            frame.kind = MARLOCK_MOVE_ACCEPTED_ID;
            EXPECT(marlock_bus485_answers_move_gate(&frame, 3) && !marlock_bus485_answers_who_are_you(&frame, 3));
            EXPECT(marlock_settings_access(MARLOCK_SETTINGS_RAMP_TIME)
                == (MARLOCK_ENTRY_READ | MARLOCK_ENTRY_WRITE | MARLOCK_ENTRY_KEPT));
            EXPECT(marlock_settings_access(MARLOCK_SETTINGS_SERIAL_NUMBER) == MARLOCK_ENTRY_READ);
            EXPECT(marlock_settings_access(7) == 0u && strcmp(marlock_settings_text(0x140), "motor_current") == 0);
            marlock_write_setting_init(&order);
            marlock_write_setting_put_ramp_time(&order, 100);
            EXPECT(marlock_write_setting_encode(&order, body, sizeof body, &used) == MARLOCK_OK);
            EXPECT(used == 3u && memcmp(body, "\x02\x01\x64", 3) == 0);
            EXPECT(marlock_gate_status_latch_force_from_physical(10.0f, &raw) == MARLOCK_OK && raw == 0x41200000u);
            EXPECT(marlock_gate_status_latch_force_physical(0xC1200000u) == -10.0f);
            EXPECT(marlock_gate_status_latch_force_from_physical(1e38f * 10.0f, &raw) == MARLOCK_OUT_OF_RANGE);
            EXPECT(marlock_gate_status_upstream_scaled(2200) == 9500 && marlock_gate_status_upstream_scaled(0) == -1500);
            EXPECT(marlock_gate_status_upstream_from_scaled_clamped(-9999) == 0 && marlock_gate_status_upstream_from_scaled_clamped(9999) == 2200);
            return 0;
        }
    "#;
    std::fs::write(folder.path().join("main.c"), program).unwrap();
    let said =
        compile_and_run(compiler, folder.path(), &["-DMARLOCK_WITH_FLOAT", "-Wno-overflow"], &["main.c", "marlock.c"]);
    assert_eq!(said, "");

    let forgotten = "#include \"marlock.h\"\nvoid f(marlock_gate_status_t *m, const uint8_t *b);\n\
                     void f(marlock_gate_status_t *m, const uint8_t *b)\n{\n    marlock_gate_status_decode(m, b, 3);\n}\n";
    std::fs::write(folder.path().join("forgotten.c"), forgotten).unwrap();
    for (define, is_right) in [("-DNOTHING", false), ("-DMARLOCK_CHECKED=", true)] {
        let arguments = ["-std=c99", "-Wall", "-Werror", define, "-c", "forgotten.c", "-o", "forgotten.o"];
        let compiled = Command::new(compiler).current_dir(folder.path()).args(arguments).output().unwrap();
        assert_eq!(compiled.status.success(), is_right, "{}", String::from_utf8_lossy(&compiled.stderr));
    }
}

/// Which value may not be sent, without encoding it; and a build that tells the program of it.
#[test]
fn what_may_not_be_sent_is_named() {
    let Some(compiler) = compiler() else { return };
    let folder = tempfile::tempdir().unwrap();
    write(folder.path(), &c::generate(&marlock(), &[], &[]).unwrap());
    let program = r#"
        #include "marlock.h"
        #include <stdio.h>
        #ifdef EMBERWORT_GUARD
        void emberwort_guard(const char *field)
        {
            printf("guard: %s\n", field);
        }
        #endif
        static void say(marlock_codec_result_t result, const char *field)
        {
            printf("%s: %s\n", field != NULL ? field : "all", marlock_codec_result_text(result));
        }
        #define SAY(call) do { const marlock_codec_result_t result = (call); say(result, field); } while (0)
        int main(void)
        {
            static const marlock_gate_status_t nothing = {0};
            marlock_gate_status_t status = nothing;
            marlock_strokes_t strokes;
            marlock_write_setting_t order;
            marlock_gate_status_edit_t edit;
            uint8_t body[MARLOCK_STROKES_GREATEST_SIZE] = {0};
            const char *field;
            size_t used;
            SAY(marlock_gate_status_validate(&status, &field));
            marlock_gate_status_init(&status);
            SAY(marlock_gate_status_validate(&status, &field));
            status.opening = 201;
            SAY(marlock_gate_status_validate(&status, &field));
            if (marlock_gate_status_encode(&status, body, sizeof body, &used) != MARLOCK_OUT_OF_RANGE) {
                printf("encoded\n");
            }
            status.opening = 200;
            status.has_f_operator = true;
            status.f_operator_length = 13;
            SAY(marlock_gate_status_validate(&status, &field));
            marlock_strokes_init(&strokes);
            strokes.strokes_count = 2;
            marlock_stroke_init(&strokes.strokes[0]);
            marlock_stroke_init(&strokes.strokes[1]);
            strokes.strokes[1].to = 255;
            SAY(marlock_strokes_validate(&strokes, &field));
            marlock_write_setting_init(&order);
            marlock_write_setting_put_ramp_time(&order, 181);
            SAY(marlock_write_setting_validate(&order, &field));
            order.setting = MARLOCK_SETTINGS_HOLD_PRESSURE;
            SAY(marlock_write_setting_validate(&order, &field));
            if (marlock_gate_status_edit(&edit, body, 14) == MARLOCK_OK
                && marlock_gate_status_set_state(&edit, 5) != MARLOCK_OUT_OF_RANGE) {
                printf("set\n");
            }
            return 0;
        }
    "#;
    std::fs::write(folder.path().join("main.c"), program).unwrap();
    let out_of_range = "a value does not fit its field";
    let named = [
        ("GateStatus.sections_held", "the struct was not initialised: ..._init() does that"),
        ("all", "done"),
        ("GateStatus.opening", out_of_range),
        ("GateStatus.operator", "a count is above its maximum"),
        ("Stroke.to", out_of_range),
        ("WriteSetting.ramp_time", out_of_range),
        ("WriteSetting.value", "no form belongs to the deciding number"),
    ];
    let mut lines: Vec<String> = named.iter().map(|(field, result)| format!("{field}: {result}")).collect();
    let sources = ["main.c", "marlock.c"];
    let said = compile_and_run(compiler, folder.path(), &[], &sources);
    assert_eq!(said.lines().collect::<Vec<_>>(), lines);
    lines.insert(3, "guard: GateStatus.opening".to_owned());
    lines.push("guard: GateStatus.state".to_owned());
    let said = compile_and_run(compiler, folder.path(), &["-DEMBERWORT_GUARD"], &sources);
    assert_eq!(said.lines().collect::<Vec<_>>(), lines);
}

fn parts_of(change: impl FnOnce(&mut Parts)) -> Parts {
    let mut parts = Parts { channels: vec!["bus485".to_owned()], ..Parts::default() };
    change(&mut parts);
    parts
}

/// A gate that looks at bodies where they lie, and writes its state in place.
#[test]
fn views_need_no_structs() {
    let Some(compiler) = compiler() else { return };
    let folder = tempfile::tempdir().unwrap();
    let parts = parts_of(|parts| {
        parts.views_only = true;
        parts.role = Some(End::Device);
    });
    let files = c::generate_parts(&marlock(), &[], &[], &parts).unwrap();
    for word in ["marlock_gate_status_t ", "_encode(", "_decode(", "_dispatch(", "marlock_stroke_t "] {
        assert!(!files.iter().any(|file| file.text.contains(word)), "{word}");
    }
    write(folder.path(), &files);
    let program = r#"
        #include "marlock.h"
        #include <stdio.h>
        int main(void)
        {
            uint8_t body[14] = {0}, wire[MARLOCK_BUS485_LIMIT];
            const uint8_t order[] = {150, 12};
            marlock_gate_status_edit_t edit;
            marlock_move_gate_view_t asked;
            marlock_bus485_frame_t frame = {.node = 3, .kind = MARLOCK_GATE_STATUS_ID, .body = body, .size = sizeof body};
            size_t used = 0, n;
            if (marlock_move_gate_view(&asked, order, sizeof order) != MARLOCK_OK
                || marlock_gate_status_edit(&edit, body, sizeof body) != MARLOCK_OK
                || marlock_gate_status_set_opening(&edit, marlock_move_gate_get_target(&asked)) != MARLOCK_OK
                || marlock_bus485_build(&frame, wire, sizeof wire, &used) != MARLOCK_OK) {
                return 1;
            }
            for (n = 0; n < used; n++) {
                printf("%02X", wire[n]);
            }
            return 0;
        }
    "#;
    std::fs::write(folder.path().join("main.c"), program).unwrap();
    let said = compile_and_run(compiler, folder.path(), &[], &["main.c", "marlock.c"]);
    // An opening of 150 is 0b10010110 from bit 11 of the body on.
    assert!(said.starts_with("C639032100") && said[10..].starts_with("0E00B004000000000000000000"), "{said}");
}

/// Each message is sent, received, or not there.
#[test]
fn messages_are_chosen_one_by_one() {
    let Some(compiler) = compiler() else { return };
    let folder = tempfile::tempdir().unwrap();
    let parts = parts_of(|parts| {
        parts.send = ["GateStatus", "MoveAccepted"].map(str::to_owned).to_vec();
        parts.receive = ["MoveGate", "GateStatus"].map(str::to_owned).to_vec();
        parts.prefix = Some("lk".to_owned());
        parts.small = true;
    });
    let files = c::generate_parts(&marlock(), &[], &[], &parts).unwrap();
    assert_eq!(files.iter().map(|file| file.name.as_str()).collect::<Vec<_>>(), ["lk.h", "lk.c"]);
    let header = &files[0].text;
    assert!(header.starts_with("/* Generated by emberwort from link marlock,"), "{}", &header[..80]);
    for (name, is_there) in [
        ("lk_gate_status_encode(", true),
        ("lk_gate_status_decode(", true),
        ("lk_move_accepted_encode(", true),
        ("lk_move_accepted_decode(", false),
        ("lk_move_gate_encode(", false),
        ("lk_move_gate_decode(", true),
        ("lk_bus485_send_move_gate(", false),
        ("on_move_gate)", true),
        ("lk_refused_t", false),
        ("marlock_", false),
    ] {
        assert_eq!(header.contains(name), is_there, "{name}");
    }
    write(folder.path(), &files);
    let program = "#include \"lk.h\"\nint main(void)\n{\n    return 0;\n}\n";
    std::fs::write(folder.path().join("main.c"), program).unwrap();
    compile_and_run(compiler, folder.path(), &[], &["main.c", "lk.c"]);
    let unknown = parts_of(|parts| parts.send = vec!["GateStatsu".to_owned()]);
    let error = c::generate_parts(&marlock(), &[], &[], &unknown).unwrap_err();
    assert!(error.to_string().starts_with("there is no message `GateStatsu`"), "{error}");
}

/// The in-place view, scaled integers and errors, as firmware uses them.
#[test]
fn firmware_can_use_the_view_and_scaled_integers() {
    let Some(compiler) = compiler() else { return };
    let plan = marlock();
    let folder = tempfile::tempdir().unwrap();
    write(folder.path(), &c::generate(&plan, &[], &[]).unwrap());
    let program = r#"
        #include "marlock.h"
        #include <stdio.h>
        #include <string.h>
        int main(void)
        {
            uint8_t body[MARLOCK_GATE_STATUS_GREATEST_SIZE];
            size_t used;
            uint16_t raw = 0;
            marlock_gate_status_t status;
            marlock_gate_status_view_t view;
            marlock_gate_status_edit_t edit;
            marlock_gate_status_init(&status);
            printf("%d ", marlock_gate_status_upstream_from_scaled(3217, &raw) == MARLOCK_OK);
            status.upstream = raw;
            status.state = MARLOCK_GATE_STATE_HELD;
            printf("%u %ld ", (unsigned)raw, (long)marlock_gate_status_upstream_scaled(raw));
            printf("%d ", marlock_gate_status_encode(&status, body, sizeof body, &used) == MARLOCK_OK);
            printf("%d ", marlock_gate_status_view(&view, body, used) == MARLOCK_OK);
            printf("%d ", marlock_gate_status_edit(&edit, body, used) == MARLOCK_OK);
            printf("%s ", marlock_gate_state_text(marlock_gate_status_get_state(&view)));
            printf("%d ", marlock_gate_status_set_opening(&edit, 201) == MARLOCK_OUT_OF_RANGE);
            printf("%d ", marlock_gate_status_set_opening(&edit, 200) == MARLOCK_OK);
            printf("%u ", (unsigned)marlock_gate_status_get_opening(&view));
            printf("%d ", marlock_gate_status_has_f_operator(&view));
            printf("%u ", (unsigned)marlock_gate_status_opening_from_scaled_clamped(5000));
            printf("%d ", marlock_gate_status_opening_from_scaled(1001, &(uint8_t){0}) == MARLOCK_OUT_OF_RANGE);
            // A view whose body is wrong shows zeros, and nothing behind it.
            printf("%d ", marlock_gate_status_view(&view, body, 3) == MARLOCK_TRUNCATED);
            printf("%u ", (unsigned)marlock_gate_status_get_opening(&view));
            status.state = 7;
            printf("%d ", marlock_gate_status_encode(&status, body, sizeof body, &used) == MARLOCK_OUT_OF_RANGE);
            printf("%d %u\n", marlock_gate_status_decode(&status, body, 8) == MARLOCK_OK, (unsigned)status.battery);
            return 0;
        }
    "#;
    std::fs::write(folder.path().join("main.c"), program).unwrap();
    let output = compile_and_run(compiler, folder.path(), &[], &["marlock.c", "main.c"]);
    // 3.217 m is nearest to code 943, which means 3.215 m; the last body has only the section of revision 1: battery 12.0 V.
    assert_eq!(output, "1 943 3215 1 1 1 held 1 1 200 0 200 1 1 0 1 1 120\n");
}

#[test]
fn both_receivers_accept_the_same_frames_of_a_noisy_megabyte() {
    let Some(compiler) = compiler() else { return };
    for (link, plan, channel) in
        [("marlock", marlock(), "bus485"), ("odd", plan(ODD), "cobs_line"), ("odd", plan(ODD), "sums")]
    {
        let plan = std::sync::Arc::new(plan);
        let index = plan.channel_index(channel).unwrap();
        let stream = streams::noisy(&plan, index, None, 1 << 20, 7);
        let (good, expected) = streams::accepted(&plan, index, None, &stream);
        assert!(good > 5_000, "only {good} frames are good");

        let folder = tempfile::tempdir().unwrap();
        write(folder.path(), &c::generate(&plan, &[], &[]).unwrap());
        let stem = format!("{link}_{channel}");
        std::fs::write(folder.path().join(format!("{stem}.bin")), streams::file_of(&stream)).unwrap();
        std::fs::write(folder.path().join("main.c"), streams::c_program(&plan, link, &[(stem, index.index())]))
            .unwrap();
        let output = compile_and_run(compiler, folder.path(), &["-O1"], &[&format!("{link}.c"), "main.c"]);
        assert!(output == expected, "{channel}: the receivers accept different frames");
    }
}

/// Firmware that asks seldom, a buffer that runs over, silence inside of a frame, a frame inside of one that is none: what is found, and where
/// each byte is counted, worked out by hand.
#[test]
fn a_receiver_counts_each_byte_once() {
    let Some(compiler) = compiler() else { return };
    let folder = tempfile::tempdir().unwrap();
    write(folder.path(), &c::generate(&marlock(), &[], &[]).unwrap());
    let program = r#"
        #include "marlock.h"
        #include <stdio.h>
        #include <string.h>
        #define EXPECT(condition) do { if (!(condition)) { printf("line %d: not %s\n", __LINE__, #condition); } } while (0)
        static marlock_bus485_receiver_t r;
        static marlock_bus485_sender_t sender;
        static uint8_t frame[MARLOCK_BUS485_LIMIT];
        static size_t size;
        static void make(uint8_t opening)
        {
            marlock_gate_status_t status;
            marlock_gate_status_init(&status);
            status.opening = opening;
            EXPECT(marlock_bus485_send_gate_status(&status, 3, &sender, frame, sizeof frame, &size) == MARLOCK_OK && size == 22u);
        }
        static void put(const uint8_t *bytes, size_t count)
        {
            while (count-- > 0u) {
                marlock_bus485_receiver_put(&r, *bytes++);
            }
        }
        static unsigned drain(void)
        {
            marlock_bus485_frame_t found;
            unsigned count = 0;
            while (marlock_bus485_receiver_next(&r, &found)) {
                marlock_gate_status_t status;
                EXPECT(marlock_gate_status_decode(&status, found.body, found.size) == MARLOCK_OK);
                count++;
            }
            return count;
        }
        static void expect(uint32_t good, uint32_t skipped, size_t held)
        {
            EXPECT(r.good_frames == good && r.good_bytes == 22u * good);
            EXPECT(r.skipped_bytes == skipped);
            EXPECT(r.end - r.start == held);
        }
        int main(void)
        {
            static const uint8_t noise[3] = {0x39, 0x00, 0x55};
            static const size_t steps[] = {1, 2, 3, 7, 21, 22, 23, 25, 64, 103};
            uint8_t stream[25 * 40];
            uint8_t long_one[MARLOCK_BUS485_LIMIT] = {0xC6, 0x39, 3, 0x21, 0, 120};
            size_t n;
            for (n = 0; n < 40u; n++) {
                make((uint8_t)n);
                memcpy(stream + 25u * n, noise, 3);
                memcpy(stream + 25u * n + 3u, frame, 22);
            }
            /* However many bytes come before somebody asks. */
            for (n = 0; n < sizeof steps / sizeof *steps; n++) {
                size_t at = 0;
                marlock_bus485_receiver_init(&r);
                while (at < sizeof stream) {
                    const size_t count = sizeof stream - at < steps[n] ? sizeof stream - at : steps[n];
                    put(stream + at, count);
                    at += count;
                    (void)drain();
                }
                expect(40, 120, 0);
                EXPECT(r.bad_checksums == 0u && r.bad_lengths == 0u && r.unread_frames == 0u);
            }
            /* Nobody asks: the last 128 bytes stay, the end of a frame and five whole ones; the first 872 are given up. */
            marlock_bus485_receiver_init(&r);
            put(stream, sizeof stream);
            expect(0, 872, 128);
            EXPECT(drain() == 5u);
            expect(5, 872 + 128 - 5 * 22, 0);
            /* Silence inside of a frame, asked for and not. */
            marlock_bus485_receiver_init(&r);
            put(frame, 10);
            EXPECT(drain() == 0u);
            marlock_bus485_receiver_gap(&r);
            EXPECT(drain() == 0u);
            expect(0, 10, 0);
            put(frame, 10);
            marlock_bus485_receiver_gap(&r);
            put(frame, 22);
            EXPECT(drain() == 1u);
            expect(1, 20, 0);
            /* What looks like a long frame holds a whole one: silence gives it out. */
            put(long_one, 6);
            put(frame, 22);
            put(frame, 5);
            EXPECT(drain() == 0u);
            expect(1, 20, 33);
            marlock_bus485_receiver_gap(&r);
            EXPECT(drain() == 1u);
            expect(2, 20 + 6 + 5, 0);
            /* It is whole, and wrong: the one inside is found with the last byte. */
            memcpy(long_one + 100, frame, 22);
            put(long_one, 127);
            EXPECT(drain() == 0u);
            put(long_one + 127, 1);
            EXPECT(drain() == 1u && r.bad_checksums == 1u);
            expect(3, 31 + 106, 0);
            /* A length that no frame can have; and the end. */
            long_one[5] = 121;
            put(long_one, 6);
            EXPECT(drain() == 0u && r.bad_lengths == 1u);
            put(frame, 21);
            marlock_bus485_receiver_end(&r);
            EXPECT(drain() == 0u);
            expect(3, 137 + 6 + 21, 0);
            return 0;
        }
    "#;
    std::fs::write(folder.path().join("main.c"), program).unwrap();
    assert_eq!(compile_and_run(compiler, folder.path(), &[], &["main.c", "marlock.c"]), "");
}

/// The frames of the library's test `senders_leave_out_the_status_byte_that_runs` of the library, and the node that means all.
#[test]
fn a_c_sender_leaves_out_what_runs() {
    let Some(compiler) = compiler() else { return };
    let plan = plan(
        "link l { revision 1  byte_order big }
         channel keys { medium uart 31250 8N1
            status bytes running
            frame { status : u8 message
                body } }
         channel bus { medium uart 9600 8N1
            frame { sync C6
                node : u8 address 0xFF for all
                size : u8 length of body
                body } }
         message Press { id 0x90 + node 0 .. 15  from device  on keys, bus  spare 1 bits  key : u7 }",
    );
    let folder = tempfile::tempdir().unwrap();
    write(folder.path(), &c::generate(&plan, &[], &[]).unwrap());
    let program = "#include \"l.h\"\n#include <stdio.h>\nint main(void)\n{\n    \
         static const uint8_t status[] = {0x93, 0x93, 0xF8, 0x93, 0x94, 0xF0, 0xF0, 0x94};\n    \
         uint8_t running = 0;\n    uint8_t frame[2] = {0, 1};\n    size_t n;\n    \
         for (n = 0; n < sizeof status; n++) {\n        frame[0] = status[n];\n        \
         printf(\"%u\", (unsigned)l_keys_leave_out(&running, frame, 2u));\n    }\n    \
         frame[0] = 0x94;\n    printf(\" %u %u\\n\", (unsigned)l_keys_leave_out(&running, frame, 1u), (unsigned)L_BUS_BROADCAST);\n    \
         return 0;\n}\n";
    std::fs::write(folder.path().join("main.c"), program).unwrap();
    assert_eq!(compile_and_run(compiler, folder.path(), &[], &["l.c", "main.c"]), "01010000 0 255\n");
}

#[test]
fn names_that_clash_in_c_are_told() {
    let plan = plan(
        "link l { revision 1  byte_order little }
         message GateA { from device  b : u8 }
         message Gate { from device  a_b : u8 }",
    );
    let error = c::generate(&plan, &[], &[]).unwrap_err().to_string();
    assert_eq!(error, "`Gate.a_b` and `GateA.b` both become `L_GATE_A_B_HIGH` in C; rename one of them");
}

#[test]
fn text_of_the_definition_cannot_leave_its_comment_or_string() {
    let plan = plan(
        "link l { revision 1  byte_order little }
         ## evil */ int x; /* ??/ \\
         enum E : u8 { 0 a \"*/ evil \\\\\" }
         message M {
             from device
             ## */ evil
             a : E
             b : u8 \"*/\"
             ## about ≈ 3 ×/ evil ·/ evil “ evil ” ‘ evil ’ … →
             c : u8 \"·/ µ°\"
         }",
    );
    let files = c::generate(&plan, &vectors::vectors(&plan, 1), &[]).unwrap();
    for file in &files {
        let mut rest = file.text.as_str();
        while let Some(start) = rest.find("/*") {
            let end = start + 2 + rest[start + 2..].find("*/").unwrap();
            assert!(!rest[start + 2..end].contains("/*"), "a comment in a comment: {}", &rest[start..end]);
            rest = &rest[end + 2..];
        }
        assert!(!rest.contains("evil"));
    }
    let Some(compiler) = compiler() else { return };
    let folder = tempfile::tempdir().unwrap();
    write(folder.path(), &files);
    compile_and_run(compiler, folder.path(), &[], &["l.c", "l_vectors.c"]);
}

/// Texts that hold what ends them in the pattern, ends of lines, and bytes that are no text: the library and the generated C refuse
/// the same, and write the same lines otherwise.
#[test]
fn both_refuse_texts_that_would_be_read_as_something_else() {
    let Some(compiler) = compiler() else { return };
    let plan = plan(
        "link say { revision 1  byte_order little }
        channel c { medium uart 9600 8N1
            lines lf
            limit 80 bytes }
        message Say { from device  on c
            line \"{a}::{b},{c}\"
            a : text[..9]
            b : ascii[..9]
            c : text[..9] }",
    );
    let texts: [&[u8]; 12] =
        [b"", b"x", b":", b"x:", b"a::b", b",", b"a,b", b"\n", b"a\r", b"\xC3\xA9", b"\xFF", b"\xC3"];
    let (mut calls, mut expected) = (String::new(), String::new());
    let quoted = |text: &[u8]| text.iter().map(|byte| format!("\\{byte:03o}")).collect::<String>();
    for a in texts {
        for (b, c) in [(&b"b"[..], a), (a, &b"c"[..]), (a, a)] {
            let mut values = emberwort_wire::Values::new(&plan.messages[0]);
            for (slot, text) in [a, b, c].into_iter().enumerate() {
                values.set_bytes(slot, text);
            }
            let mut line = Vec::new();
            let written = emberwort_wire::line::write(&plan.messages[0], &values, &mut line);
            let [qa, qb, qc] = [a, b, c].map(quoted);
            calls += &format!("    say(\"{qa}\", {}, \"{qb}\", {}, \"{qc}\", {});\n", a.len(), b.len(), c.len());
            expected += &match written {
                Ok(()) => format!("{}\n", line.iter().map(|byte| format!("{byte:02X}")).collect::<String>()),
                Err(_) => "refused\n".to_owned(),
            };
        }
    }
    assert!(expected.matches("refused").count() > 12 && expected.lines().any(|line| line != "refused"));
    let program = format!(
        r#"
        #include "say.h"
        #include <stdio.h>
        #include <string.h>
        static void say(const char *a, size_t an, const char *b, size_t bn, const char *c, size_t cn)
        {{
            say_say_t message;
            char line[80];
            size_t used;
            size_t n;
            say_say_init(&message);
            memcpy(message.a, a, an);
            message.a_length = (uint8_t)an;
            memcpy(message.b, b, bn);
            message.b_length = (uint8_t)bn;
            memcpy(message.c, c, cn);
            message.c_length = (uint8_t)cn;
            if (say_say_write_line(&message, line, sizeof line, &used) != SAY_OK) {{
                puts("refused");
                return;
            }}
            for (n = 0; n < used; n++) {{
                printf("%02X", (unsigned)(unsigned char)line[n]);
            }}
            puts("");
        }}
        int main(void)
        {{
        {calls}    return 0;
        }}
    "#
    );
    let folder = tempfile::tempdir().unwrap();
    write(folder.path(), &c::generate(&plan, &[], &[]).unwrap());
    std::fs::write(folder.path().join("main.c"), program).unwrap();
    assert_eq!(compile_and_run(compiler, folder.path(), &[], &["say.c", "main.c"]), expected);
}

/// Each message goes to its function, and what nobody reads to one of its own.
#[test]
fn messages_go_to_their_handlers() {
    let Some(compiler) = compiler() else { return };
    let plan = marlock();
    let folder = tempfile::tempdir().unwrap();
    write(folder.path(), &c::generate(&plan, &[], &[]).unwrap());
    std::fs::write(folder.path().join("main.c"), HANDLERS).unwrap();
    let said = compile_and_run(compiler, folder.path(), &["-O1"], &["marlock.c", "main.c"]);
    assert_eq!(said, "move 160 for node 3\nunread 119: 9\nunread 64: 1\nstate 2\n");
}

const HANDLERS: &str = r#"
#include "marlock.h"
#include <stdio.h>

static void move(void *context, const marlock_bus485_frame_t *frame, const marlock_move_gate_t *message)
{
    (void)context;
    printf("move %u for node %u\n", (unsigned)message->target, (unsigned)frame->node);
}

static void state(void *context, const marlock_bus485_frame_t *frame, const marlock_gate_status_t *message)
{
    (void)frame;
    *(unsigned *)context = message->state;
}

static void unread(void *context, const marlock_bus485_frame_t *frame, marlock_codec_result_t result)
{
    (void)context;
    printf("unread %u: %d\n", (unsigned)frame->kind, (int)result);
}

int main(void)
{
    marlock_bus485_handlers_t handlers = {0};
    marlock_bus485_sender_t sender = {0};
    marlock_move_gate_t order;
    marlock_gate_status_t status;
    marlock_bus485_frame_t frame;
    uint8_t wire[MARLOCK_BUS485_LIMIT];
    size_t used;
    unsigned seen = 0;
    handlers.on_move_gate = move;
    handlers.on_gate_status = state;
    handlers.unread = unread;
    marlock_move_gate_init(&order);
    order.target = 160;
    order.speed = 3;
    if (marlock_bus485_send_move_gate(&order, 3, &sender, wire, sizeof wire, &used) != MARLOCK_OK
        || marlock_bus485_open(&frame, wire, used) != MARLOCK_OK) {
        return 1;
    }
    marlock_bus485_dispatch(&handlers, NULL, &frame);
    frame.kind = 119;
    marlock_bus485_dispatch(&handlers, NULL, &frame);
    frame.kind = MARLOCK_MOVE_GATE_ID;
    frame.size = 1;
    marlock_bus485_dispatch(&handlers, NULL, &frame);
    marlock_gate_status_init(&status);
    status.state = 2;
    if (marlock_bus485_send_gate_status(&status, 3, &sender, wire, sizeof wire, &used) != MARLOCK_OK
        || marlock_bus485_open(&frame, wire, used) != MARLOCK_OK || sender.counter != 2) {
        return 1;
    }
    marlock_bus485_dispatch(&handlers, &seen, &frame);
    /* Nobody handles it: nothing happens. */
    frame.kind = MARLOCK_WHO_ARE_YOU_ID;
    frame.size = 0;
    marlock_bus485_dispatch(&handlers, NULL, &frame);
    printf("state %u\n", seen);
    return 0;
}
"#;
