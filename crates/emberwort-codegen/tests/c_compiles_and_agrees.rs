//! The generated C: strict warnings, all vectors under sanitizers, and the same frames out of the same noise.
//!
//! Without a C compiler these tests pass without doing anything, unless EMBERWORT_NEED_TOOLCHAINS is set.

mod common;
#[path = "../../../examples/plan_of_marlock.rs"]
mod marlock;

use std::process::Command;
use std::sync::Arc;

use common::{compile_and_run, compiler, write};
use emberwort_codegen::{c, vectors};
use emberwort_model::{Checked, Plan, Source, check};
use emberwort_wire::receiver::{BodyReader, Requests};
use emberwort_wire::{FrameFault, FrameSink, FrameView, Framing, Header, Receiver, encode};
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;

const WHOLE: &str = include_str!("whole.ember");
const ODD: &str = include_str!("odd.ember");

fn plan(text: &str) -> Arc<Plan> {
    planned(check(&Source::new("test.ember", text)))
}

fn marlock() -> Arc<Plan> {
    planned(marlock::checked())
}

fn planned(checked: Checked) -> Arc<Plan> {
    assert!(checked.findings.iter().all(|finding| !finding.is_error()), "{:?}", checked.findings);
    Arc::new(checked.plan.unwrap())
}

#[test]
fn all_vectors_agree_under_strict_warnings_and_sanitizers() {
    let Some(compiler) = compiler() else { return };
    for (name, plan) in [("marlock", marlock()), ("odd", plan(ODD)), ("whole", plan(WHOLE))] {
        let all = vectors::vectors(&plan, 42);
        for message in 0..plan.messages.len() {
            let of_message: Vec<&str> = all.iter().filter(|v| v.message == message).map(|v| v.case.as_str()).collect();
            let enough = of_message.contains(&"least") && of_message.contains(&"greatest") && of_message.len() >= 18;
            assert!(enough, "{}: {of_message:?}", plan.messages[message].message.name);
        }
        let folder = tempfile::tempdir().unwrap();
        write(folder.path(), &c::generate(&plan, &all).unwrap());
        let sources = [format!("{name}.c"), format!("{name}_vectors.c")];
        let define = format!("-D{}_WITH_FLOAT", name.to_uppercase());
        let output = compile_and_run(compiler, folder.path(), &[&define], &[&sources[0], &sources[1]], None);
        assert_eq!(output, format!("{} vectors, 0 differences\n", all.len()));
    }
}

#[test]
fn a_wrong_vector_is_found() {
    let Some(compiler) = compiler() else { return };
    let plan = marlock();
    let mut all = vectors::vectors(&plan, 42);
    all.truncate(3);
    all[1].body[1] ^= 1;
    let folder = tempfile::tempdir().unwrap();
    write(folder.path(), &c::generate(&plan, &all).unwrap());
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

/// The in-place view, scaled integers and errors, as firmware uses them.
#[test]
fn firmware_can_use_the_view_and_scaled_integers() {
    let Some(compiler) = compiler() else { return };
    let plan = marlock();
    let folder = tempfile::tempdir().unwrap();
    write(folder.path(), &c::generate(&plan, &[]).unwrap());
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
            marlock_gate_status_init(&status);
            printf("%d ", marlock_gate_status_upstream_from_scaled(3217, &raw) == MARLOCK_OK);
            status.upstream = raw;
            status.state = MARLOCK_GATE_STATE_HELD;
            printf("%u %ld ", (unsigned)raw, (long)marlock_gate_status_upstream_scaled(raw));
            printf("%d ", marlock_gate_status_encode(&status, body, sizeof body, &used) == MARLOCK_OK);
            printf("%d ", marlock_gate_status_view(&view, body, used) == MARLOCK_OK);
            printf("%s ", marlock_gate_state_text(marlock_gate_status_get_state(&view)));
            printf("%d ", marlock_gate_status_set_opening(&view, 201) == MARLOCK_OUT_OF_RANGE);
            printf("%d ", marlock_gate_status_set_opening(&view, 200) == MARLOCK_OK);
            printf("%u ", (unsigned)marlock_gate_status_get_opening(&view));
            printf("%d ", marlock_gate_status_has_operator_(&view));
            printf("%u ", (unsigned)marlock_gate_status_opening_from_scaled_clamped(5000));
            printf("%d ", marlock_gate_status_opening_from_scaled(1001, &(uint8_t){0}) == MARLOCK_OUT_OF_RANGE);
            status.state = 7;
            printf("%d ", marlock_gate_status_encode(&status, body, sizeof body, &used) == MARLOCK_OUT_OF_RANGE);
            printf("%d %u\n", marlock_gate_status_decode(&status, body, 8) == MARLOCK_OK, (unsigned)status.battery);
            return 0;
        }
    "#;
    std::fs::write(folder.path().join("main.c"), program).unwrap();
    let output = compile_and_run(compiler, folder.path(), &[], &["marlock.c", "main.c"], None);
    // 3.217 m is nearest to code 943, which means 3.215 m; the last body has only the section of revision 1: battery 12.0 V.
    assert_eq!(output, "1 943 3215 1 1 held 1 1 200 0 200 1 1 1 120\n");
}

/// Collects the good frames of a stream.
struct Accepted(BodyReader, Vec<(u64, Vec<u8>)>);

impl FrameSink for Accepted {
    fn judge(&mut self, frame: &FrameView<'_>) -> Result<(), FrameFault> {
        self.0.check(frame, &Requests::default())
    }
    fn good(&mut self, at: std::ops::Range<u64>, frame: &FrameView<'_>, _wire: &[u8]) {
        self.1.push((at.start, frame.body.to_vec()));
    }
    fn broken(&mut self, _: std::ops::Range<u64>, _: &FrameFault, _: &[u8]) {}
    fn stray(&mut self, _: std::ops::Range<u64>, _: &[u8]) {}
}

/// A megabyte of frames with bit errors, cuts and garbage full of sync bytes.
fn noisy_stream(plan: &Plan, channel: usize, bytes: usize) -> Vec<u8> {
    let mut random = ChaCha8Rng::seed_from_u64(7);
    let framing = Framing::new(Arc::new(plan.channels[channel].clone()));
    let all: Vec<_> =
        vectors::vectors(plan, 9).into_iter().filter(|v| plan.channels[channel].carries(v.message)).collect();
    let mut stream = Vec::with_capacity(bytes + 1000);
    while stream.len() < bytes {
        let vector = &all[random.random_range(0..all.len())];
        let mut body = Vec::new();
        encode(
            &plan.messages[vector.message],
            &vector.values,
            plan.messages[vector.message].sections[vector.sections - 1].revision,
            &mut body,
        )
        .unwrap();
        let key = plan.messages[vector.message].message.id.unwrap();
        let header = Header { key, node: random.random_range(0..16), sequence: random.random(), revision: 1 };
        let mut frame = Vec::new();
        framing.encode(&header, &body, &mut frame).unwrap();
        match random.random_range(0..10) {
            0 => {
                let at = random.random_range(0..frame.len());
                frame[at] ^= 1 << random.random_range(0..8);
            }
            1 => frame.truncate(random.random_range(0..frame.len())),
            2 => {
                for _ in 0..random.random_range(0..40) {
                    let sync = &framing.plan().sync;
                    let byte: u8 = random.random();
                    frame.push(if sync.is_empty() || random.random_bool(0.5) {
                        byte
                    } else {
                        sync[usize::from(byte) % sync.len()]
                    });
                }
            }
            _ => {}
        }
        stream.extend(frame);
    }
    stream
}

#[test]
fn both_receivers_accept_the_same_frames_of_a_noisy_megabyte() {
    let Some(compiler) = compiler() else { return };
    for (link, plan, channel) in
        [("marlock", marlock(), "bus485"), ("odd", plan(ODD), "cobs_line"), ("odd", plan(ODD), "sums")]
    {
        let index = plan.channel_index(channel).unwrap();
        let stream = noisy_stream(&plan, index, 1 << 20);
        let mut receiver = Receiver::new(Arc::new(Framing::new(Arc::new(plan.channels[index].clone()))));
        let mut accepted = Accepted(BodyReader::new(plan.clone(), index, None), Vec::new());
        for chunk in stream.chunks(777) {
            receiver.feed(chunk, &mut accepted);
        }
        receiver.finish(&mut accepted);
        let mut expected = String::new();
        for (_, body) in &accepted.1 {
            expected += &format!("{}:{}\n", body.len(), body.iter().map(|b| format!("{b:02X}")).collect::<String>());
        }
        assert!(accepted.1.len() > 5_000, "only {} frames are good", accepted.1.len());

        let folder = tempfile::tempdir().unwrap();
        write(folder.path(), &c::generate(&plan, &[]).unwrap());
        let input = folder.path().join("stream.bin");
        std::fs::write(&input, &stream).unwrap();
        let program = PROGRAM.replace("LINK", link).replace("CHANNEL", channel);
        std::fs::write(folder.path().join("main.c"), program).unwrap();
        let output =
            compile_and_run(compiler, folder.path(), &["-O1"], &[&format!("{link}.c"), "main.c"], Some(&input));
        let (frames, counts) = output.trim_end().rsplit_once('\n').unwrap();
        assert!(frames.trim_end() == expected.trim_end(), "{channel}: the receivers accept different frames");
        assert_eq!(counts, format!("{} frames, {} bytes", accepted.1.len(), stream.len()), "{channel}");
    }
}

const PROGRAM: &str = r#"
#include "LINK.h"
#include <stdio.h>
static LINK_CHANNEL_receiver_t receiver;
static void drain(void)
{
    LINK_CHANNEL_frame_t frame;
    size_t n;
    while (LINK_CHANNEL_receiver_next(&receiver, &frame)) {
        printf("%lu:", (unsigned long)frame.size);
        for (n = 0; n < frame.size; n++) {
            printf("%02X", frame.body[n]);
        }
        printf("\n");
    }
}
int main(int argc, char **argv)
{
    int byte;
    FILE *file = argc == 2 ? fopen(argv[1], "rb") : NULL;
    if (file == NULL) {
        return 2;
    }
    LINK_CHANNEL_receiver_init(&receiver);
    while ((byte = getc(file)) != EOF) {
        LINK_CHANNEL_receiver_put(&receiver, (uint8_t)byte);
        drain();
    }
    fclose(file);
    LINK_CHANNEL_receiver_end(&receiver);
    drain();
    printf("%lu frames, %lu bytes\n", (unsigned long)receiver.good_frames,
        (unsigned long)receiver.good_bytes + (unsigned long)receiver.skipped_bytes);
    return 0;
}
"#;

#[test]
fn names_that_clash_in_c_are_told() {
    let plan = plan(
        "link l { revision 1  byte_order little }
         message GateA { from device  b : u8 }
         message Gate { from device  a_b : u8 }",
    );
    let error = c::generate(&plan, &[]).unwrap_err().to_string();
    assert_eq!(error, "`GateA.b` and `Gate.a_b` both become `gate_a_b` in C; rename one of them");
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
         }",
    );
    let files = c::generate(&plan, &vectors::vectors(&plan, 1)).unwrap();
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
    compile_and_run(compiler, folder.path(), &[], &["l.c", "l_vectors.c"], None);
}
