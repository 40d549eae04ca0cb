//! Noisy streams of frames, and which of them the library's receiver and the generated C's accept.

use std::ops::Range;
use std::sync::Arc;

use emberwort_codegen::vectors;
use emberwort_model::Plan;
use emberwort_model::ids::ChannelId;
use emberwort_model::model::End;
use emberwort_model::plan::{FrameFinder, Role};
use emberwort_wire::body_reader::{BodyReader, Requests};
use emberwort_wire::frame::{FrameError, body_on};
use emberwort_wire::status_bytes::RunningStatus;
use emberwort_wire::{FrameFault, FrameSink, FrameView, Framed, Header, Receiver};
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;

/// Some bytes of a stream.
pub struct Piece {
    bytes: Vec<u8>,
    /// Whether nothing comes behind them for a while.
    silent: bool,
}

/// Frames that an end sends on a channel, with bit errors, cuts and garbage full of sync bytes between them; some are of no known
/// message or hold too little, and have other frames inside. Behind some there is silence; behind all, where silence separates
/// frames.
pub fn noisy(plan: &Plan, channel: ChannelId, from: Option<End>, bytes: usize, seed: u64) -> Vec<Piece> {
    let mut random = ChaCha8Rng::seed_from_u64(seed);
    let direction = plan.channels[channel].direction(from.unwrap_or(End::Device));
    let framing = plan.channels[channel].framing(from.unwrap_or(End::Device));
    let all: Vec<_> =
        vectors::vectors(plan, 9).into_iter().filter(|vector| direction.key_of(vector.message).is_some()).collect();
    let mut stream: Vec<Piece> = Vec::new();
    let mut running = RunningStatus::default();
    let mut length = 0;
    while length < bytes {
        let vector = &all[random.random_range(0..all.len())];
        let message = &plan.messages[vector.message];
        let mut body = Vec::new();
        let revision = message.sections[vector.sections - 1].revision;
        if body_on(direction, message, &vector.values, revision, &mut body).is_err() {
            // A text with a line's end in it has no line.
            continue;
        }
        // Node numbers and revisions that fit the narrowest part.
        let node_bits = direction.part(|role| *role == Role::Address).map_or(64, |part| part.bits.min(4));
        let node = match direction.nodes_of(vector.message) {
            Some(nodes) => random.random_range(nodes),
            None => random.random::<u64>() >> (64 - u32::from(node_bits).min(4)),
        };
        let mut key = direction.key_for(vector.message, node).unwrap();
        match random.random_range(0..12) {
            0 => {
                // A key that no message has, around what was sent before.
                key = UNKNOWN_KEY;
                body =
                    stream.iter().rev().take(random.random_range(0..3)).flat_map(|piece| piece.bytes.clone()).collect();
                body.truncate(100);
                match direction.finder {
                    FrameFinder::Lines { .. } => body.retain(|byte| !matches!(byte, b'\n' | b'\r')),
                    FrameFinder::StatusBytes { .. } => body.iter_mut().for_each(|byte| *byte &= 0x7F),
                    _ => {}
                }
            }
            1 => body.truncate(random.random_range(0..=body.len())),
            _ => {}
        }
        if matches!(direction.finder, FrameFinder::StatusBytes { .. }) && key == UNKNOWN_KEY {
            key = 0xB2;
        }
        let header = Header { key, node, sequence: random.random(), revision: 1 };
        let mut frame = Vec::new();
        match framing.encode(&header, &body, &mut frame) {
            Ok(()) => {}
            // A length that counts in pairs of bytes, and a body that does not; a body for a channel with more room.
            Err(FrameError::UnevenLength { .. } | FrameError::TooLong { .. }) => continue,
            // Bytes that only status bytes can be.
            Err(FrameError::HighBit { .. }) => continue,
            Err(error) => panic!("{error}"),
        }
        frame = running.shorten(direction.finder, &frame).to_vec();
        match random.random_range(0..10) {
            0 => {
                let at = random.random_range(0..frame.len());
                frame[at] ^= 1 << random.random_range(0..8);
            }
            1 => frame.truncate(random.random_range(0..frame.len())),
            2 if matches!(direction.finder, FrameFinder::StatusBytes { .. }) => {
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
        let silent = matches!(direction.finder, FrameFinder::Idle { .. }) || random.random_bool(0.05);
        stream.push(Piece { bytes: frame, silent });
    }
    stream
}

/// The bytes of all pieces.
pub fn bytes_of(pieces: &[Piece]) -> Vec<u8> {
    pieces.iter().flat_map(|piece| &piece.bytes).copied().collect()
}

/// No message of the random channels has it.
const UNKNOWN_KEY: u64 = 9;

/// What the program of [`c_program`] reads: each piece behind its length in two bytes, whose highest bit says that there is
/// silence behind it.
pub fn file_of(pieces: &[Piece]) -> Vec<u8> {
    let length = |piece: &Piece| (piece.bytes.len() as u16 | if piece.silent { 0x8000 } else { 0 }).to_be_bytes();
    pieces.iter().flat_map(|piece| [&length(piece)[..], &piece.bytes].concat()).collect()
}

/// Counts the good and the unread frames of a stream, and hashes of each what it is, its body's size and bytes (FNV-1a of 64
/// bits).
struct Checked {
    reader: BodyReader,
    good: usize,
    unread: usize,
    hash: u64,
    bytes: usize,
}

impl Checked {
    fn hash(&mut self, kind: u8, frame: &FrameView<'_>) {
        let size = frame.body.len() as u32;
        for byte in size.to_le_bytes().iter().chain(frame.body).chain([&kind]) {
            self.hash = (self.hash ^ u64::from(*byte)).wrapping_mul(0x100_0000_01B3);
        }
    }
}

const FNV_START: u64 = 0xCBF2_9CE4_8422_2325;

impl FrameSink for Checked {
    fn accept(&mut self, frame: &FrameView<'_>) -> Result<(), FrameFault> {
        self.reader.check(frame, &Requests::default())
    }
    fn good(&mut self, _: Range<u64>, frame: &FrameView<'_>, wire: &[u8]) {
        self.good += 1;
        self.bytes += wire.len();
        self.hash(0, frame);
    }
    fn unread(&mut self, _: Range<u64>, frame: Option<&FrameView<'_>>, fault: &FrameFault, wire: &[u8]) {
        self.unread += 1;
        self.bytes += wire.len();
        let kind = if matches!(fault, FrameFault::Body { .. }) { 2 } else { 1 };
        // All of these channels have a checksum or consume frames whole, so it is there.
        self.hash(kind, frame.unwrap());
    }
    fn broken(&mut self, _: Range<u64>, _: &FrameFault, wire: &[u8]) {
        self.bytes += wire.len();
    }
    fn stray(&mut self, _: Range<u64>, wire: &[u8]) {
        self.bytes += wire.len();
    }
}

/// What the library's receiver accepts, as the program of [`c_receiver`] prints it.
pub fn accepted(plan: &Arc<Plan>, channel: ChannelId, from: Option<End>, pieces: &[Piece]) -> (usize, String) {
    let mut receiver = Receiver::new(plan.channels[channel].framing(from.unwrap_or(End::Device)));
    let reader = BodyReader::new(plan.clone(), channel, from);
    let mut accepted = Checked { reader, good: 0, unread: 0, hash: FNV_START, bytes: 0 };
    for piece in pieces {
        receiver.feed(&piece.bytes, &mut accepted);
        if piece.silent {
            receiver.time_out(&mut accepted);
        }
    }
    receiver.finish(&mut accepted);
    let Checked { good, unread, hash, bytes, .. } = accepted;
    let input: usize = pieces.iter().map(|piece| piece.bytes.len()).sum();
    assert_eq!(bytes, input, "every byte is in one place");
    (good, format!("{good} good and {unread} unread frames {hash:016X}, {bytes} bytes\n"))
}

/// C functions that put a file into a receiver of the generated code in one of several ways, and say which frames it accepts.
fn c_receiver(link: &str, stem: &str, finder: FrameFinder) -> String {
    let unknown = format!("{}_UNKNOWN_MESSAGE", link.to_uppercase());
    let limit = format!("{}_LIMIT", stem.to_uppercase());
    let silence = if matches!(finder, FrameFinder::Idle { .. }) { "silence" } else { "gap" };
    let held = if matches!(finder, FrameFinder::StatusBytes { .. }) { " + STEM_of.held" } else { "" };
    C_RECEIVER
        .replace("HELD", held)
        .replace("UNKNOWN", &unknown)
        .replace("SILENCE", silence)
        .replace("LIMIT", &limit)
        .replace("STEM", stem)
}

const C_RECEIVER: &str = r#"
static STEM_receiver_t STEM_of;
static uint64_t STEM_hash;
static void note_STEM(const STEM_frame_t *frame)
{
    size_t n;
    uint64_t kind = STEM_of.result == 0 ? 0u : STEM_of.result == UNKNOWN ? 1u : 2u;
    for (n = 0; n < 5u + frame->size; n++) {
        uint64_t byte = n == 4u + frame->size ? kind : n < 4u ? (frame->size >> (8u * n)) & 0xFFu : frame->body[n - 4u];
        STEM_hash = (STEM_hash ^ byte) * UINT64_C(0x100000001B3);
    }
}
static void drain_STEM(void)
{
    STEM_frame_t frame;
    while (STEM_receiver_next(&STEM_of, &frame)) {
        note_STEM(&frame);
    }
}
static void feed_STEM(const uint8_t *bytes, size_t size)
{
    STEM_frame_t frame;
    size_t taken;
    while (STEM_receiver_feed(&STEM_of, bytes, size, &taken, &frame)) {
        note_STEM(&frame);
        bytes += taken;
        size -= taken;
    }
    if (taken != size) {
        abort();
    }
}
/* Nobody may lean on anything: what is asked for, and when, is chosen at random. */
static void anything_STEM(uint8_t byte)
{
    STEM_frame_t frame;
    STEM_receiver_put(&STEM_of, byte);
    switch (any(anything)) {
    case 0:
        drain_STEM();
        break;
    case 1:
        if (STEM_receiver_next(&STEM_of, &frame)) {
            note_STEM(&frame);
        }
        break;
    case 2:
        STEM_receiver_SILENCE(&STEM_of);
        break;
    case 3:
        STEM_receiver_end(&STEM_of);
        break;
    default:
        break;
    }
}
static void receive_STEM(FILE *file, enum way way, char *said)
{
    int byte;
    uint8_t chunk[64];
    size_t total = 0;
    size_t pieces = way == ANYHOW && anything < 10u ? 1u + any(100u) : (size_t)-1;
    unsigned long counted;
    STEM_hash = UINT64_C(0xCBF29CE484222325);
    STEM_receiver_init(&STEM_of);
    while (pieces > 0u && (byte = getc(file)) != EOF) {
        size_t left = (size_t)(byte << 8 | getc(file));
        bool silent = (left & 0x8000u) != 0u;
        pieces--;
        for (left &= 0x7FFFu; left > 0u;) {
            size_t n;
            size_t size = 1u + any(64);
            size = size < left ? size : left;
            left -= size;
            total += size;
            if (fread(chunk, 1, size, file) != size) {
                abort();
            }
            if (way == BY_FEED) {
                feed_STEM(chunk, size);
            }
            for (n = 0; way != BY_FEED && n < size; n++) {
                if (way == ANYHOW) {
                    anything_STEM(chunk[n]);
                    continue;
                }
                /* A chunk is put in as far as there is room for it. */
                if (STEM_of.end - STEM_of.startHELD >= LIMIT) {
                    drain_STEM();
                }
                STEM_receiver_put(&STEM_of, chunk[n]);
                if (way == BYTE_BY_BYTE) {
                    drain_STEM();
                }
            }
            if (way == BY_CHUNK) {
                drain_STEM();
            }
        }
        if (silent && way != ANYHOW) {
            STEM_receiver_SILENCE(&STEM_of);
            drain_STEM();
        }
    }
    STEM_receiver_end(&STEM_of);
    drain_STEM();
    counted = (unsigned long)STEM_of.good_bytes + STEM_of.unread_bytes + STEM_of.skipped_bytes;
    if (counted != total) {
        printf("STEM counts %lu bytes of %lu\n", counted, (unsigned long)total);
    }
    sprintf(said, "%lu good and %lu unread frames %08lX%08lX, %lu bytes\n", (unsigned long)STEM_of.good_frames,
        (unsigned long)STEM_of.unread_frames, (unsigned long)(STEM_hash >> 32), (unsigned long)(STEM_hash & 0xFFFFFFFFu),
        counted);
}
"#;

/// A C program that feeds the file `STEM.bin` beside it to each stem's receiver. With each stem stands its channel.
pub fn c_program(plan: &Plan, link: &str, stems: &[(String, usize)]) -> String {
    let mut program =
        format!("#include \"{link}.h\"\n#include <stdio.h>\n#include <stdlib.h>\n#include <string.h>\n{C_WAYS}");
    for (stem, channel) in stems {
        program += &c_receiver(link, stem, plan.channels[*channel].finder());
    }
    program += C_FROM;
    program += "int main(void)\n{\n";
    for (stem, _) in stems {
        program += &format!("    from(\"{stem}.bin\", receive_{stem});\n");
    }
    program + "    return 0;\n}\n"
}

const C_WAYS: &str = r#"
enum way { BYTE_BY_BYTE, BY_CHUNK, BY_FEED, ANYHOW };
static uint32_t anything;
static uint32_t any(uint32_t below)
{
    static uint32_t state = 1u;
    state = (uint32_t)(state * UINT64_C(1103515245) + 12345u) & 0x7FFFFFFFu;
    return (state >> 8) % below;
}
"#;

const C_FROM: &str = r#"
static void from(const char *name, void (*receive)(FILE *, enum way, char *))
{
    /* The first ones many times, since a stream may end in any state. */
    static const uint32_t of[] = {10u, 100u, 3000u};
    char right[200];
    char said[200];
    size_t n;
    FILE *file = fopen(name, "rb");
    if (file == NULL) {
        return;
    }
    receive(file, BYTE_BY_BYTE, right);
    fputs(right, stdout);
    for (n = 0; n < 2u; n++) {
        rewind(file);
        receive(file, n == 0u ? BY_CHUNK : BY_FEED, said);
        if (strcmp(said, right) != 0) {
            printf("%s: %s finds %s", name, n == 0u ? "by chunks it" : "..._feed()", said);
        }
    }
    for (n = 0; n < 200u + sizeof of / sizeof *of; n++) {
        rewind(file);
        anything = n < 200u ? 4u + (uint32_t)(n % 6u) : of[n - 200u];
        receive(file, ANYHOW, said);
    }
    fclose(file);
}
"#;
