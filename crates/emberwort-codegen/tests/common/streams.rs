//! Noisy streams of frames, and which of them the library's receiver and the generated C's accept.

use std::ops::Range;
use std::sync::Arc;

use emberwort_codegen::vectors;
use emberwort_model::Plan;
use emberwort_model::model::End;
use emberwort_model::plan::{FrameFinder, Role};
use emberwort_wire::frame::{FrameError, body_on};
use emberwort_wire::receiver::{BodyReader, Requests};
use emberwort_wire::status_bytes::RunningStatus;
use emberwort_wire::{FrameFault, FrameSink, FrameView, Framing, Header, Receiver};
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;

/// Frames that an end sends on a channel, with bit errors, cuts and garbage full of sync bytes between them: pieces with
/// silence between them, for channels where that matters.
pub fn noisy(plan: &Plan, channel: usize, from: Option<End>, bytes: usize, seed: u64) -> Vec<Vec<u8>> {
    let mut random = ChaCha8Rng::seed_from_u64(seed);
    let facing = plan.channels[channel].facing(from.unwrap_or(End::Device));
    let framing = Framing::new(Arc::new(facing.clone()));
    let all: Vec<_> =
        vectors::vectors(plan, 9).into_iter().filter(|vector| facing.key_of(vector.message).is_some()).collect();
    let mut stream = Vec::new();
    let mut running = RunningStatus::default();
    let mut length = 0;
    while length < bytes {
        let vector = &all[random.random_range(0..all.len())];
        let message = &plan.messages[vector.message];
        let mut body = Vec::new();
        let revision = message.sections[vector.sections - 1].revision;
        if body_on(facing, message, &vector.values, revision, &mut body).is_err() {
            // A text with a line's end in it has no line.
            continue;
        }
        // Node numbers and revisions that fit the narrowest part.
        let node_bits = facing.part(|role| *role == Role::Address).map_or(64, |part| part.bits.min(4));
        let node = match facing.nodes_of(vector.message) {
            Some(nodes) => random.random_range(nodes),
            None => random.random::<u64>() >> (64 - u32::from(node_bits).min(4)),
        };
        let header =
            Header { key: facing.key_for(vector.message, node).unwrap(), node, sequence: random.random(), revision: 1 };
        let mut frame = Vec::new();
        match framing.encode(&header, &body, &mut frame) {
            Ok(()) => {}
            // A length that counts in pairs of bytes, and a body that does not; a body for a channel with more room.
            Err(FrameError::UnevenLength { .. } | FrameError::TooLong { .. }) => continue,
            // Bytes that only status bytes can be.
            Err(FrameError::HighBit { .. }) => continue,
            Err(error) => panic!("{error}"),
        }
        frame = running.shorten(facing.finder, &frame).to_vec();
        match random.random_range(0..10) {
            0 => {
                let at = random.random_range(0..frame.len());
                frame[at] ^= 1 << random.random_range(0..8);
            }
            1 => frame.truncate(random.random_range(0..frame.len())),
            2 if matches!(facing.finder, FrameFinder::StatusBytes { .. }) => {
                // Some of them are frames of their own.
                frame.insert(random.random_range(0..frame.len()), random.random_range(0xF0..=0xFF));
            }
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
        length += frame.len();
        stream.push(frame);
    }
    stream
}

/// Whether silence separates frames.
fn is_quiet(plan: &Plan, channel: usize) -> bool {
    matches!(plan.channels[channel].finder, FrameFinder::Gap { .. })
}

/// What the program of [`c_program`] reads: the bytes, or where silence matters each piece behind its length in two bytes.
pub fn file_of(plan: &Plan, channel: usize, pieces: &[Vec<u8>]) -> Vec<u8> {
    if !is_quiet(plan, channel) {
        return pieces.concat();
    }
    pieces.iter().flat_map(|piece| [&(piece.len() as u16).to_be_bytes()[..], piece].concat()).collect()
}

/// Counts the good frames of a stream, and hashes each body's size and bytes (FNV-1a of 64 bits).
struct Accepted(BodyReader, usize, u64);

const FNV_START: u64 = 0xCBF2_9CE4_8422_2325;

impl FrameSink for Accepted {
    fn judge(&mut self, frame: &FrameView<'_>) -> Result<(), FrameFault> {
        self.0.check(frame, &Requests::default())
    }
    fn good(&mut self, _: Range<u64>, frame: &FrameView<'_>, _: &[u8]) {
        self.1 += 1;
        let size = frame.body.len() as u32;
        for byte in size.to_le_bytes().iter().chain(frame.body) {
            self.2 = (self.2 ^ u64::from(*byte)).wrapping_mul(0x100_0000_01B3);
        }
    }
    fn broken(&mut self, _: Range<u64>, _: &FrameFault, _: &[u8]) {}
    fn stray(&mut self, _: Range<u64>, _: &[u8]) {}
}

/// What the library's receiver accepts, as the program of [`c_receiver`] prints it.
pub fn accepted(plan: &Arc<Plan>, channel: usize, from: Option<End>, pieces: &[Vec<u8>]) -> (usize, String) {
    let facing = plan.channels[channel].facing(from.unwrap_or(End::Device));
    let mut receiver = Receiver::new(Arc::new(Framing::new(Arc::new(facing.clone()))));
    let mut accepted = Accepted(BodyReader::new(plan.clone(), channel, from), 0, FNV_START);
    if is_quiet(plan, channel) {
        for piece in pieces {
            receiver.feed(piece, &mut accepted);
            receiver.silence(&mut accepted);
        }
    } else {
        for chunk in pieces.concat().chunks(777) {
            receiver.feed(chunk, &mut accepted);
        }
    }
    receiver.finish(&mut accepted);
    let Accepted(_, frames, hash) = accepted;
    let bytes: usize = pieces.iter().map(Vec::len).sum();
    (frames, format!("{frames} frames {hash:016X}, {bytes} bytes\n"))
}

/// A C function `void receive_STEM(FILE *file)` that puts a file byte by byte into a receiver of the generated code, and
/// prints the frames that it accepts.
fn c_receiver(stem: &str, quiet: bool) -> String {
    let loop_ = if quiet { C_QUIET } else { C_STREAM };
    C_RECEIVER.replace("LOOP", loop_).replace("STEM", stem)
}

const C_STREAM: &str = "    while ((byte = getc(file)) != EOF) {
        STEM_receiver_put(&STEM_of, (uint8_t)byte);
        drain_STEM();
    }";

const C_QUIET: &str = "    while ((byte = getc(file)) != EOF) {
        int left = byte << 8 | getc(file);
        while (left-- > 0) {
            STEM_receiver_put(&STEM_of, (uint8_t)getc(file));
            drain_STEM();
        }
        STEM_receiver_silence(&STEM_of);
        drain_STEM();
    }";

const C_RECEIVER: &str = r#"
static STEM_receiver_t STEM_of;
static uint64_t STEM_hash = UINT64_C(0xCBF29CE484222325);
static void drain_STEM(void)
{
    STEM_frame_t frame;
    size_t n;
    while (STEM_receiver_next(&STEM_of, &frame)) {
        for (n = 0; n < 4u + frame.size; n++) {
            uint64_t byte = n < 4u ? (frame.size >> (8u * n)) & 0xFFu : frame.body[n - 4u];
            STEM_hash = (STEM_hash ^ byte) * UINT64_C(0x100000001B3);
        }
    }
}
static void receive_STEM(FILE *file)
{
    int byte;
    STEM_receiver_init(&STEM_of);
LOOP
    fclose(file);
    STEM_receiver_end(&STEM_of);
    drain_STEM();
    printf("%lu frames %08lX%08lX, %lu bytes\n", (unsigned long)STEM_of.good_frames,
        (unsigned long)(STEM_hash >> 32), (unsigned long)(STEM_hash & 0xFFFFFFFFu),
        (unsigned long)STEM_of.good_bytes + (unsigned long)STEM_of.skipped_bytes);
}
"#;

/// A C program that feeds the file `STEM.bin` beside it to each stem's receiver. With each stem stands its channel.
pub fn c_program(plan: &Plan, link: &str, stems: &[(String, usize)]) -> String {
    let mut program = format!("#include \"{link}.h\"\n#include <stdio.h>\n");
    for (stem, channel) in stems {
        program += &c_receiver(stem, is_quiet(plan, *channel));
    }
    program += "static void from(const char *name, void (*receive)(FILE *))\n{\n    FILE *file = fopen(name, \"rb\");\n    \
                if (file != NULL) {\n        receive(file);\n    }\n}\nint main(void)\n{\n";
    for (stem, _) in stems {
        program += &format!("    from(\"{stem}.bin\", receive_{stem});\n");
    }
    program + "    return 0;\n}\n"
}
